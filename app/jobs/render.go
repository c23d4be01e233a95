package jobs

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"

	"jardin/app/datafolder"
	"jardin/app/picture"
	"jardin/app/store"
)

// rendering writes a delivery.
type rendering struct{}

// RenderDetail says what to render, and how.
type RenderDetail struct {
	Revision int                  `json:"revision"`
	Wanted   picture.DeliverySpec `json:"wanted"`
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
	source, err := r.workspace.Source(ctx, shot.ID)
	if err != nil {
		return nil, nil, err
	}
	rev, err := r.store.Revision(ctx, shot.ID, d.Revision)
	if err != nil {
		return nil, nil, err
	}
	dir, err := r.workspace.RenderDir(t.ID)
	if err != nil {
		return nil, nil, err
	}
	out := &picture.Delivery{DeliverySpec: d.Wanted, Dir: dir, Show: shot.Show, Shot: shot.Name, Padding: shot.Padding,
		Version: t.Version, Revision: d.Revision, Document: rev.Document}
	return out, source, out.Prepare(source.Plates, rev.Document, shot.Format)
}

func (rendering) run(ctx context.Context, r *Runner, t *store.Task, p *progress) (note string, err error) {
	d, source, err := r.Delivery(ctx, t)
	if err != nil {
		return "", err
	}
	compiled, err := r.workspace.Treatment(ctx, t.ShotID, d.Revision)
	if err != nil {
		return "", err
	}
	if err := source.Deliver(ctx, compiled, *d, func(done, total int) { p.at(ctx, done, total) }); err != nil {
		return "", err
	}
	folder, err := filepath.Abs(filepath.Join(d.Dir, picture.FramesFolder))
	return fmt.Sprintf("%s and on, in %s", d.FrameFile(d.Leaving.First), folder), err
}

func (rendering) givenUp(_ context.Context, r *Runner, t *store.Task) {
	_ = r.workspace.Folder.Remove(datafolder.Renders, t.ID)
}
