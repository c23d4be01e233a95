package jobs

import (
	"context"
	"log/slog"
	"time"

	"jardin/app/live"
	"jardin/app/store"
)

// progress tells how far a task is: to those who listen at once, to the database
// now and then.
type progress struct {
	runner      *Runner
	task        *store.Task
	began       time.Time
	from        int // frames that were finished before; -1 until it is known
	sent, saved time.Time
}

func (p *progress) at(ctx context.Context, done, total int) {
	p.task.Done, p.task.Total = done, total
	if p.from < 0 {
		p.from, p.began = done-1, time.Now()
	}
	if seconds := time.Since(p.began).Seconds(); seconds > 0 && done > p.from+1 {
		p.task.Rate = float64(done-p.from-1) / seconds
	}
	p.say(ctx, done == total)
}

func (p *progress) say(ctx context.Context, must bool) {
	now := time.Now()
	if must || now.Sub(p.sent) > 60*time.Millisecond {
		p.sent = now
		p.runner.hub.Send(live.TaskChanged{Task: *p.task})
	}
	if must || now.Sub(p.saved) > 500*time.Millisecond {
		p.saved = now
		if err := p.runner.store.SaveTask(ctx, p.task); err != nil && ctx.Err() == nil && !store.Away(err) {
			slog.Warn("save progress", "task", p.task.ID, "error", err)
		}
	}
}
