package jobs

import (
	"context"

	"jardin/app/live"
	"jardin/app/store"
	"jardin/core/camera"
	"jardin/core/carry"
	"jardin/core/treatment"
)

// solving finds the shot's camera.
type solving struct{}

func (solving) run(ctx context.Context, r *Runner, t *store.Task, p *progress) (note string, err error) {
	m, err := r.begun(ctx, t)
	if err != nil {
		return "", err
	}
	defer m.save()
	found, err := m.source.SolveCamera(ctx, m.doc, m.checkpoint, func(words string, done float64) {
		p.at(ctx, int(done*float64(t.Total)), t.Total)
	})
	if err != nil {
		return "", err
	}
	sha, err := put(ctx, r.store, found.Path)
	if err != nil {
		return "", err
	}
	rev, err := r.store.Amend(ctx, t.ShotID, "Solve the camera", func(doc *treatment.Document) error {
		if doc.Camera == nil {
			doc.Camera = &treatment.Camera{Focal: string(camera.Fixed), Terms: 1}
		}
		// As what is in force now was laid, so that cards stay where they are: it may have been changed meanwhile.
		now, err := r.store.Inline(ctx, &treatment.Document{Camera: doc.Camera})
		if err != nil {
			return err
		}
		var before *treatment.Solved
		if now.Camera.Data != nil {
			before = now.Camera.Data.Path
		}
		doc.Camera.Data = &treatment.CameraData{Artifact: sha}
		if w, ok := carry.Joined(before, found.Path, doc.Camera.World); ok {
			doc.Camera.World = w
		} else {
			doc.Camera.World = nil
		}
		lens := *found.Lens
		if doc.Lens != nil {
			lens.Lines = doc.Lens.Lines
		}
		doc.Lens = &lens
		return nil
	})
	if err != nil {
		return "", err
	}
	r.hub.Send(live.RevisionChanged{ShotID: t.ShotID, Number: rev.Number})
	return "", nil
}
