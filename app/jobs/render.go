package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"

	"jardin/app/datafolder"
	"jardin/app/picture"
	"jardin/app/store"
	"jardin/core/colorspace"
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
	if out.Looked {
		if out.Look, out.LookHash, err = r.look(ctx, shot.ID); err != nil {
			return nil, nil, err
		}
	}
	return out, source, out.Prepare(source.Plates, rev.Document, shot.Format)
}

// look returns the table through which a shot is looked at, and its hash.
func (r *Runner) look(ctx context.Context, shot string) (*colorspace.Cube, string, error) {
	c, err := r.store.CubeOf(ctx, shot)
	if err != nil {
		return nil, "", err
	}
	if c.Hash == "" {
		return nil, "", errors.New("the shot is looked at through no .cube file: choose one on the bench, or a movie that is shown without")
	}
	data, err := r.store.CubeFile(ctx, c.Hash)
	if err != nil {
		return nil, "", err
	}
	cube, err := colorspace.ReadCube(data)
	return cube, c.Hash, err
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
