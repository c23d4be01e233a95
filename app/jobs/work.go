package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"sort"

	"github.com/jackc/pgx/v5"

	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/treatment"
)

type pgxTx = pgx.Tx

// ImportDetail says what to bring in.
type ImportDetail struct {
	Path string `json:"path"`
}

func (r *Runner) bringIn(ctx context.Context, t *store.Task, p *progress) error {
	var d ImportDetail
	if err := json.Unmarshal(t.Detail, &d); err != nil {
		return err
	}
	shot, err := r.store.Shot(ctx, t.ShotID)
	if err != nil {
		return err
	}
	err = func() error {
		m, err := media.Inspect(ctx, d.Path)
		if err != nil {
			return err
		}
		if m.Width != shot.Width || m.Height != shot.Height || m.Last-m.First != shot.Last-shot.First || m.Depth != shot.Depth {
			return fmt.Errorf("%s changed since it was chosen; bring it in again", d.Path)
		}
		m.Rate = shot.Media().Rate
		_, err = media.Import(ctx, m, r.rooms.PlateDir(shot.ID), shot.First, shot.Transfer, true, func(done, total int) { p.at(ctx, done, total) })
		return err
	}()
	after := context.WithoutCancel(ctx)
	state, problem := "ready", ""
	if err != nil {
		state, problem = "failed", err.Error()
		if ctx.Err() != nil {
			problem = "Bringing it in was cancelled."
		}
	}
	if e := r.store.SetState(after, shot.ID, state, problem); e != nil {
		return errors.Join(err, e)
	}
	r.hub.Send(live.ShotChanged{ShotID: shot.ID})
	return err
}

// TrackDetail says what to follow.
type TrackDetail struct {
	Removal   string `json:"removal"`
	Direction string `json:"direction"`
}

func (r *Runner) follow(ctx context.Context, t *store.Task, p *progress) (string, error) {
	var d TrackDetail
	if err := json.Unmarshal(t.Detail, &d); err != nil {
		return "", err
	}
	head, err := r.store.Head(ctx, t.ShotID)
	if err != nil {
		return "", err
	}
	removal, _ := head.Document.Find(d.Removal)
	if removal == nil {
		return "", errors.New("the removal was deleted before it could be followed")
	}
	source, err := r.rooms.Source(ctx, t.ShotID)
	if err != nil {
		return "", err
	}
	total := removal.Range.Len()
	switch d.Direction {
	case picture.Forwards:
		total = removal.Range.Last - removal.Reference + 1
	case picture.Backwards:
		total = removal.Reference - removal.Range.First + 1
	}
	done := 0
	samples, failed := source.Follow(ctx, removal, d.Direction, func(s treatment.Sample) {
		done++
		r.hub.Send(live.SampleFound{ShotID: t.ShotID, TaskID: t.ID, Removal: d.Removal, Sample: s})
		p.at(ctx, done, max(total, done))
	})
	var lost *picture.Lost
	if failed != nil && !errors.As(failed, &lost) && ctx.Err() == nil {
		return "", failed
	}
	if len(samples) < 2 && lost != nil {
		return "", failed
	}
	// Cancelled or lost: what was found before is kept.
	after := context.WithoutCancel(ctx)
	if err := r.keepTrack(after, t.ShotID, removal, samples); err != nil {
		return "", err
	}
	if lost != nil {
		return "Stopped: " + failed.Error() + ".", nil
	}
	return "", nil
}

// keepTrack puts the samples into the treatment in force. Samples of other
// frames, found before from the same region, stay.
func (r *Runner) keepTrack(ctx context.Context, shot string, removal *treatment.Removal, samples []treatment.Sample) error {
	basis := removal.Basis()
	if old := removal.Follow.Track; old != nil && old.Basis == basis {
		whole, err := r.store.Inline(ctx, &treatment.Document{Removals: []treatment.Removal{*removal}})
		if err != nil {
			return err
		}
		samples = merge(whole.Removals[0].Follow.Track.Samples, samples)
	}
	sort.Slice(samples, func(i, j int) bool { return samples[i].Frame < samples[j].Frame })
	blob, err := json.Marshal(samples)
	if err != nil {
		return err
	}
	sha, err := r.store.PutArtifact(ctx, blob)
	if err != nil {
		return err
	}
	rev, err := r.store.Amend(ctx, shot, "Follow "+removal.Name, func(doc *treatment.Document) error {
		now, _ := doc.Find(removal.ID)
		if now == nil {
			return errors.New("the removal was deleted while it was followed")
		}
		now.Follow.Track = &treatment.Track{Artifact: sha, Basis: basis}
		return nil
	})
	if err != nil {
		return err
	}
	r.hub.Send(live.RevisionChanged{ShotID: shot, Number: rev.Number})
	return nil
}

func merge(old, found []treatment.Sample) []treatment.Sample {
	have := map[int]bool{}
	for _, s := range found {
		have[s.Frame] = true
	}
	for _, s := range old {
		if !have[s.Frame] {
			found = append(found, s)
		}
	}
	return found
}

// RenderDetail says what to render.
type RenderDetail struct {
	Revision int `json:"revision"`
}

// Files of a render, in its folder.
const (
	FramesFolder = "frames"
	MovieFile    = "review.mp4"
)

func (r *Runner) deliver(ctx context.Context, t *store.Task, p *progress) error {
	var d RenderDetail
	if err := json.Unmarshal(t.Detail, &d); err != nil {
		return err
	}
	shot, err := r.store.Shot(ctx, t.ShotID)
	if err != nil {
		return err
	}
	source, err := r.rooms.Source(ctx, shot.ID)
	if err != nil {
		return err
	}
	compiled, err := r.rooms.Treatment(ctx, shot.ID, d.Revision)
	if err != nil {
		return err
	}
	dir := r.rooms.RenderDir(t.ID)
	return source.Deliver(ctx, compiled, picture.Delivery{
		Dir: filepath.Join(dir, FramesFolder), Name: shot.Name, Range: *shot.Range(), Movie: filepath.Join(dir, MovieFile),
	}, func(done, total int) { p.at(ctx, done, total) })
}
