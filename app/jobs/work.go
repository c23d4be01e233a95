package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/treatment"
)

type pgxTx = pgx.Tx

// ImportDetail says what to bring in, and how.
type ImportDetail struct {
	Path    string        `json:"path"`
	Reading media.Reading `json:"reading"`
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
		if _, err := r.roots().Resolve(d.Path); err != nil {
			return err
		}
		m, err := media.Inspect(ctx, d.Path)
		if err != nil {
			return err
		}
		plan, err := m.Plan(d.Reading)
		if err != nil {
			return err
		}
		if m.Width != shot.Width || m.Height != shot.Height || len(plan) != shot.Range().Len() || m.Samples() != shot.Media().Samples {
			return fmt.Errorf("%s changed since it was chosen; bring it in again", d.Path)
		}
		if err := r.roots().Inside(m); err != nil {
			return err
		}
		if err := r.rooms.Fits(m.Width, m.Height); err != nil {
			return err
		}
		dir, err := r.rooms.PlateDir(shot.ID)
		if err != nil {
			return err
		}
		_, err = media.Import(ctx, media.Order{Material: m, Reading: d.Reading, Shot: shot.Media(), Dir: dir, Screen: true},
			func(done, total int) { p.at(ctx, done, total) })
		return err
	}()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	state, problem := "ready", ""
	if err != nil {
		if store.Away(err) {
			return err
		}
		state, problem = "failed", err.Error()
	}
	if e := r.store.SetState(ctx, shot.ID, state, problem); e != nil {
		return errors.Join(err, e)
	}
	r.hub.Send(live.ShotChanged{ShotID: shot.ID})
	return err
}

// follow measures a track. note says where it stopped, and why.
func (r *Runner) follow(ctx context.Context, t *store.Task, p *progress) (note string, err error) {
	var run picture.Run
	if err := json.Unmarshal(t.Detail, &run); err != nil {
		return "", err
	}
	doc, source, err := r.opened(ctx, t.ShotID)
	if err != nil {
		return "", err
	}
	// What was found before an interruption is gone on from.
	var found []picture.Found
	if t.Partial != nil {
		if err := json.Unmarshal(t.Partial, &found); err != nil {
			return "", err
		}
	}
	total := run.Last - run.First
	kept := time.Now()
	for _, part := range run.Rest(found) {
		if len(found) > 0 {
			picture.Keep(doc.Track(run.Track), run, treatment.Range{First: source.Plates.First, Last: source.Plates.Last}, found)
		}
		failed := source.Follow(ctx, doc, part, func(f picture.Found) {
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
	var lost *picture.Lost
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

// scout scores the frames of a removal.
func (r *Runner) scout(ctx context.Context, t *store.Task, p *progress) (string, error) {
	m, err := r.begun(ctx, t)
	if err != nil {
		return "", err
	}
	defer m.keep()
	scores, err := m.source.Scout(ctx, m.doc, t.Subject, m.steps, func(done, total int) { p.at(ctx, done, total) })
	if err != nil {
		return "", err
	}
	return "", r.store.SetResult(ctx, t.ID, scores)
}

// opened returns the treatment in force, its numbers in place, and the plate.
func (r *Runner) opened(ctx context.Context, shot string) (*treatment.Document, *picture.Source, error) {
	head, err := r.store.Head(ctx, shot)
	if err != nil {
		return nil, nil, err
	}
	doc, err := r.store.Inline(ctx, head.Document)
	if err != nil {
		return nil, nil, err
	}
	source, err := r.rooms.Source(ctx, shot)
	return doc, source, err
}

// Measuring is work that looks at frames of a treatment as it was when the work began,
// whatever is changed meanwhile, and remembers what it has found.
type measuring struct {
	doc    *treatment.Document
	source *picture.Source
	steps  *picture.Steps
	keep   func() // what is not kept is found again
}

// begun takes up measuring where it was, or begins it.
func (r *Runner) begun(ctx context.Context, t *store.Task) (*measuring, error) {
	var so struct {
		Revision int                        `json:"revision"`
		Found    map[string]json.RawMessage `json:"found"`
	}
	var rev *store.Revision
	var err error
	if t.Partial != nil {
		if err := json.Unmarshal(t.Partial, &so); err != nil {
			return nil, err
		}
		rev, err = r.store.Revision(ctx, t.ShotID, so.Revision)
	} else if rev, err = r.store.Head(ctx, t.ShotID); err == nil {
		so.Revision = rev.Number
		err = r.store.SetPartial(ctx, t.ID, so)
	}
	if err != nil {
		return nil, err
	}
	m := &measuring{steps: &picture.Steps{Found: so.Found}}
	if m.doc, err = r.store.Inline(ctx, rev.Document); err != nil {
		return nil, err
	}
	if m.source, err = r.rooms.Source(ctx, t.ShotID); err != nil {
		return nil, err
	}
	m.keep = func() {
		so.Found = m.steps.Found
		_ = r.store.SetPartial(context.WithoutCancel(ctx), t.ID, so)
	}
	kept := time.Now()
	m.steps.Kept = func() {
		if time.Since(kept) > time.Second {
			kept = time.Now()
			m.keep()
		}
	}
	return m, nil
}

// edge lets an outline follow the edge that it lies on. note says where it stopped.
func (r *Runner) edge(ctx context.Context, t *store.Task, p *progress) (note string, err error) {
	var run picture.EdgeRun
	if err := json.Unmarshal(t.Detail, &run); err != nil {
		return "", err
	}
	m, err := r.begun(ctx, t)
	if err != nil {
		return "", err
	}
	defer m.keep()
	done, total := 0, run.Last-run.First
	found, err := m.source.FollowEdge(ctx, m.doc, run, m.steps, func(f picture.EdgeFound) {
		r.hub.Send(live.EdgeFollowed{ShotID: t.ShotID, TaskID: t.ID, Found: f})
		done = min(done+1, total)
		p.at(ctx, done, total)
	})
	if why := context.Cause(ctx); ctx.Err() != nil && !errors.Is(why, errCancelled) {
		return "", why
	}
	var lost *picture.Lost
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

// settle lets a removal's patch settle by itself.
func (r *Runner) settle(ctx context.Context, t *store.Task, p *progress) (string, error) {
	m, err := r.begun(ctx, t)
	if err != nil {
		return "", err
	}
	defer m.keep()
	found, err := m.source.Settle(ctx, m.doc, t.Subject, m.steps, func(done, total int) { p.at(ctx, done, total) })
	if err != nil {
		return "", err
	}
	rev, err := r.store.Amend(ctx, t.ShotID, "Settle by itself", func(doc *treatment.Document) error {
		now, _ := doc.Find(t.Subject)
		if now == nil {
			return errors.New("the removal was deleted while it was settled")
		}
		// Edge and tone may have been changed meanwhile.
		now.Settle.Light, now.Settle.Softness, now.Settle.Grain = found.Settle.Light, found.Settle.Softness, found.Settle.Grain
		return nil
	})
	if err != nil {
		return "", err
	}
	r.hub.Send(live.RevisionChanged{ShotID: t.ShotID, Number: rev.Number})
	return found.Words, nil
}

// keepTrack puts what was found into the treatment in force.
func (r *Runner) keepTrack(ctx context.Context, shotID string, run picture.Run, found []picture.Found) error {
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
		picture.Keep(full, run, *shot.Range(), found)
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

// RenderDetail says what to render, and how.
type RenderDetail struct {
	Revision int            `json:"revision"`
	Wanted   picture.Wanted `json:"wanted"`
}

// Delivery returns what a render task is to write.
func (r *Runner) Delivery(ctx context.Context, t *store.Task) (*picture.Delivery, *picture.Source, error) {
	var d RenderDetail
	if err := json.Unmarshal(t.Detail, &d); err != nil {
		return nil, nil, err
	}
	shot, err := r.store.Shot(ctx, t.ShotID)
	if err != nil {
		return nil, nil, err
	}
	source, err := r.rooms.Source(ctx, shot.ID)
	if err != nil {
		return nil, nil, err
	}
	rev, err := r.store.Revision(ctx, shot.ID, d.Revision)
	if err != nil {
		return nil, nil, err
	}
	dir, err := r.rooms.RenderDir(t.ID)
	if err != nil {
		return nil, nil, err
	}
	out := &picture.Delivery{Wanted: d.Wanted, Dir: dir, Show: shot.Show, Shot: shot.Name, Padding: shot.Padding,
		Version: t.Version, Revision: d.Revision, Document: rev.Document}
	return out, source, out.Prepare(source.Plates, rev.Document, shot.Format)
}

func (r *Runner) deliver(ctx context.Context, t *store.Task, p *progress) error {
	d, source, err := r.Delivery(ctx, t)
	if err != nil {
		return err
	}
	compiled, err := r.rooms.Treatment(ctx, t.ShotID, d.Revision)
	if err != nil {
		return err
	}
	return source.Deliver(ctx, compiled, *d, func(done, total int) { p.at(ctx, done, total) })
}
