package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"jardin/app/live"
	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/treatment"
)

// tracking measures a track.
type tracking struct{}

// resumes: what was found before it failed or was cancelled stays good.
func (tracking) resumes() {}

// run measures a track. note says where it stopped, and why.
func (tracking) run(ctx context.Context, r *Runner, t *store.Task, p *progress) (note string, err error) {
	var run picture.Run
	if err := json.Unmarshal(t.Detail, &run); err != nil {
		return "", err
	}
	doc, source, err := r.opened(ctx, t.ShotID)
	if err != nil {
		return "", err
	}
	// What was found before an interruption is gone on from.
	var found []picture.Tracked
	if t.Partial != nil {
		if err := json.Unmarshal(t.Partial, &found); err != nil {
			return "", err
		}
	}
	total := run.Last - run.First
	kept := time.Now()
	for _, part := range run.Rest(found) {
		if len(found) > 0 {
			picture.MergeTracked(
				doc,
				doc.Track(run.Track),
				run,
				treatment.Range{First: source.Plates.First, Last: source.Plates.Last},
				found,
			)
		}
		failed := source.Follow(ctx, doc, part, func(f picture.Tracked) {
			found = append(found, f)
			r.hub.Send(live.FrameFollowed{ShotID: t.ShotID, TaskID: t.ID, Track: run.Track, Found: f})
			p.at(ctx, len(found), max(total, len(found)))
			if time.Since(kept) > time.Second {
				kept = time.Now()
				_ = r.store.SetPartial(ctx, t.ID, found) // what is not kept is found again
			}
		})
		err = errors.Join(err, failed)
	}
	if why := context.Cause(ctx); ctx.Err() != nil && !errors.Is(why, errCancelled) {
		_ = r.store.SetPartial(context.WithoutCancel(ctx), t.ID, found)
		return "", why
	}
	var lost *picture.LostTrack
	if err != nil && !errors.As(err, &lost) && ctx.Err() == nil {
		return "", err
	}
	if len(found) == 0 && lost != nil {
		return "", err
	}
	// Cancelled or lost: what was found before is kept.
	if e := r.keepTrack(context.WithoutCancel(ctx), t.ShotID, run, found); e != nil {
		return "", e
	}
	if lost != nil {
		return "Stopped: " + strings.ReplaceAll(err.Error(), "\n", "; ") + ".", nil
	}
	return "", nil
}

// keepTrack puts what was found into the treatment in force.
func (r *Runner) keepTrack(ctx context.Context, shotID string, run picture.Run, found []picture.Tracked) error {
	shot, err := r.store.Shot(ctx, shotID)
	if err != nil {
		return err
	}
	rev, err := r.store.Amend(ctx, shotID, "Follow", func(doc *treatment.Document) error {
		now := doc.Track(run.Track)
		if now == nil {
			return errors.New("the track was deleted while it was followed")
		}
		whole, err := r.store.Inline(ctx, &treatment.Document{Tracks: []treatment.Track{*now}})
		if err != nil {
			return err
		}
		full := &whole.Tracks[0]
		picture.MergeTracked(doc, full, run, *shot.Range(), found)
		if full.Data != nil {
			if now.Data, err = artifactOf(ctx, r.store, full.Data); err != nil {
				return err
			}
		}
		for i := range full.Points {
			if p := full.Points[i].Path; p != nil {
				sha, err := put(ctx, r.store, p.Samples)
				if err != nil {
					return err
				}
				now.Points[i].Path = &treatment.PointPath{Artifact: sha, Basis: p.Basis}
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	r.hub.Send(live.RevisionChanged{ShotID: shotID, Number: rev.Number})
	return nil
}

func artifactOf(ctx context.Context, s *store.Store, d *treatment.Data) (*treatment.Data, error) {
	sha, err := put(ctx, s, d.Samples)
	return &treatment.Data{Artifact: sha, Basis: d.Basis}, err
}

func put(ctx context.Context, s *store.Store, samples any) (string, error) {
	blob, err := json.Marshal(samples)
	if err != nil {
		return "", err
	}
	return s.PutArtifact(ctx, blob)
}
