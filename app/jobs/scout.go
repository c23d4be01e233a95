package jobs

import (
	"context"

	"jardin/app/store"
)

// scouting scores the frames of a removal.
type scouting struct{}

func (scouting) run(ctx context.Context, r *Runner, t *store.Task, p *progress) (note string, err error) {
	m, err := r.begun(ctx, t)
	if err != nil {
		return "", err
	}
	defer m.save()
	scores, err := m.source.Scout(ctx, m.doc, t.Subject, m.checkpoint, func(done, total int) { p.at(ctx, done, total) })
	if err != nil {
		return "", err
	}
	return "", r.store.SetResult(ctx, t.ID, scores)
}
