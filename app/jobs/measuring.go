package jobs

import (
	"context"
	"encoding/json"
	"time"

	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/treatment"
)

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
	source, err := r.workspace.Source(ctx, shot)
	return doc, source, err
}

// Measuring is work that looks at frames of a treatment as it was when the work began,
// whatever is changed meanwhile, and remembers what it has found.
type measuring struct {
	doc        *treatment.Document
	source     *picture.Source
	checkpoint *picture.Checkpoint
	save       func() // what is not kept is found again
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
	m := &measuring{checkpoint: &picture.Checkpoint{Found: so.Found}}
	if m.doc, err = r.store.Inline(ctx, rev.Document); err != nil {
		return nil, err
	}
	if m.source, err = r.workspace.Source(ctx, t.ShotID); err != nil {
		return nil, err
	}
	m.save = func() {
		so.Found = m.checkpoint.Found
		_ = r.store.SetPartial(context.WithoutCancel(ctx), t.ID, so)
	}
	kept := time.Now()
	m.checkpoint.Saved = func() {
		if time.Since(kept) > time.Second {
			kept = time.Now()
			m.save()
		}
	}
	return m, nil
}
