package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/store"
)

// importing brings footage in.
type importing struct{}

// ImportDetail says what to bring in, and how.
type ImportDetail struct {
	Path    string        `json:"path"`
	Reading media.Reading `json:"reading"`
}

func (importing) run(ctx context.Context, r *Runner, t *store.Task, p *progress) (note string, err error) {
	return "", r.bringIn(ctx, t, p)
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
		leaving := shot.Media().Woven()
		if m.Width != shot.Width || m.Height != shot.Height || len(plan) != leaving.Last-leaving.First+1 ||
			m.Samples() != shot.Media().Samples {
			return fmt.Errorf("%s changed since it was chosen; bring it in again", d.Path)
		}
		if err := r.roots().Inside(m); err != nil {
			return err
		}
		if err := r.workspace.Fits(m.Width, m.Height); err != nil {
			return err
		}
		dir, err := r.workspace.PlateDir(shot.ID)
		if err != nil {
			return err
		}
		_, err = media.Import(
			ctx,
			media.Order{Material: m, Reading: d.Reading, Shot: shot.Media(), Dir: dir, Screen: true},
			func(done, total int) { p.at(ctx, done, total) },
		)
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

// reached is how many files of frames lie on disk.
func (importing) reached(r *Runner, t *store.Task) int {
	dir, err := r.workspace.PlateDir(t.ShotID)
	if err != nil {
		return 0
	}
	return media.Begun(dir)
}

func (importing) brokenDown(times int) error {
	return fmt.Errorf(
		"the server broke down %d times while this was brought in: the footage may hold something that it cannot "+
			"read. Leave that part out, or try again",
		times,
	)
}

// givenUp drops what is only begun.
func (importing) givenUp(ctx context.Context, r *Runner, t *store.Task) {
	if dir, err := r.workspace.PlateDir(t.ShotID); err == nil {
		_ = media.Drop(dir)
	}
	if err := r.store.SetState(ctx, t.ShotID, "failed", "Bringing it in was cancelled."); err == nil {
		r.hub.Send(live.ShotChanged{ShotID: t.ShotID})
	}
}

// again makes the shot wait for its plates once more, also where they went missing since.
func (importing) again(ctx context.Context, r *Runner, t *store.Task) (bool, error) {
	if t.State == Done {
		shot, err := r.store.Shot(ctx, t.ShotID)
		if err != nil || shot.State != "failed" {
			return false, err
		}
	}
	if err := r.store.SetState(ctx, t.ShotID, "importing", ""); err != nil {
		return false, err
	}
	r.hub.Send(live.ShotChanged{ShotID: t.ShotID})
	return true, nil
}
