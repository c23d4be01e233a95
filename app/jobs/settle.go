package jobs

import (
	"context"
	"errors"

	"jardin/app/live"
	"jardin/app/store"
	"jardin/core/treatment"
)

// settling lets a removal's patch settle by itself.
type settling struct{}

func (settling) run(ctx context.Context, r *Runner, t *store.Task, p *progress) (note string, err error) {
	m, err := r.begun(ctx, t)
	if err != nil {
		return "", err
	}
	defer m.save()
	found, err := m.source.Settle(ctx, m.doc, t.Subject, m.checkpoint, func(done, total int) { p.at(ctx, done, total) })
	if err != nil {
		return "", err
	}
	rev, err := r.store.Amend(ctx, t.ShotID, "Settle by itself", func(doc *treatment.Document) error {
		now, _ := doc.Find(t.Subject)
		if now == nil {
			return errors.New("the removal was deleted while it was settled")
		}
		// Edge and tone may have been changed meanwhile.
		now.Settle.Light, now.Settle.Softness, now.Settle.Grain = found.Settle.Light, found.Settle.Softness,
			found.Settle.Grain
		return nil
	})
	if err != nil {
		return "", err
	}
	r.hub.Send(live.RevisionChanged{ShotID: t.ShotID, Number: rev.Number})
	return found.Words, nil
}
