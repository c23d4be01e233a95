package jobs

import (
	"context"
	"encoding/json"
	"errors"

	"jardin/app/live"
	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/treatment"
)

// edgeFollowing lets an outline follow the edge that it lies on.
type edgeFollowing struct{}

// run lets it follow. note says where it stopped.
func (edgeFollowing) run(ctx context.Context, r *Runner, t *store.Task, p *progress) (note string, err error) {
	var run picture.EdgeRun
	if err := json.Unmarshal(t.Detail, &run); err != nil {
		return "", err
	}
	m, err := r.begun(ctx, t)
	if err != nil {
		return "", err
	}
	defer m.save()
	done, total := 0, run.Last-run.First
	found, err := m.source.FollowEdge(ctx, m.doc, run, m.checkpoint, func(f picture.EdgeFound) {
		r.hub.Send(live.EdgeFollowed{ShotID: t.ShotID, TaskID: t.ID, Found: f})
		done = min(done+1, total)
		p.at(ctx, done, total)
	})
	if why := context.Cause(ctx); ctx.Err() != nil && !errors.Is(why, errCancelled) {
		return "", why
	}
	var lost *picture.LostTrack
	if err != nil && !errors.As(err, &lost) && ctx.Err() == nil {
		return "", err
	}
	if len(found) < 2 && lost != nil {
		return "", err
	}
	after := context.WithoutCancel(ctx)
	rev, e := r.store.Amend(after, t.ShotID, "Follow an edge", func(doc *treatment.Document) error {
		now, _ := doc.Find(run.Removal)
		if now == nil || now.Shape(run.Shape) == nil {
			return errors.New("the outline was deleted while it followed")
		}
		picture.KeepEdge(now.Shape(run.Shape), found)
		return nil
	})
	if e != nil {
		return "", e
	}
	r.hub.Send(live.RevisionChanged{ShotID: t.ShotID, Number: rev.Number})
	if lost != nil {
		return "Stopped: " + err.Error() + ".", nil
	}
	return "", nil
}
