// Package jobs runs long work on a queue that keeps its jobs in PostgreSQL, and
// tells how far it is.
package jobs

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"jardin/app/live"
	"jardin/app/picture"
	"jardin/app/store"
)

// States of a task.
const (
	Waiting   = "waiting"
	Running   = "running"
	Done      = "done"
	Failed    = "failed"
	Cancelled = "cancelled"
)

// A Runner takes tasks and runs them.
type Runner struct {
	store *store.Store
	rooms *picture.Rooms
	hub   *live.Hub
	queue *river.Client[pgxTx]
}

// taskArgs is what the queue keeps of a task: its name. All else is in the
// tasks table.
type taskArgs struct {
	Task string `json:"task"`
}

func (taskArgs) Kind() string { return "task" }

type worker struct {
	river.WorkerDefaults[taskArgs]
	runner *Runner
}

func (worker) Timeout(*river.Job[taskArgs]) time.Duration { return -1 }

// Start returns a runner at work. Jobs that a crash interrupted are taken up again.
func Start(ctx context.Context, s *store.Store, rooms *picture.Rooms, hub *live.Hub) (*Runner, error) {
	r := &Runner{store: s, rooms: rooms, hub: hub}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{runner: r})
	var err error
	r.queue, err = river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		Queues:  map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 3}},
		Workers: workers,
		Logger:  slog.New(slog.DiscardHandler), // failures are told in the task
	})
	if err != nil {
		return nil, fmt.Errorf("set up the job queue: %w", err)
	}
	// This server is the only one that works on the queue: what still counts as
	// running was running when it was killed.
	if _, err := s.Pool.Exec(ctx, `update river_job set state = 'available' where state = 'running'`); err != nil {
		return nil, fmt.Errorf("take up interrupted jobs: %w", err)
	}
	if err := r.queue.Start(context.WithoutCancel(ctx)); err != nil {
		return nil, fmt.Errorf("start the job queue: %w", err)
	}
	return r, nil
}

// Stop interrupts all work; it goes on at the next start.
func (r *Runner) Stop(ctx context.Context) error { return r.queue.StopAndCancel(ctx) }

// NewID returns a name that no other thing has.
func NewID() string { return strings.ToLower(rand.Text()[:16]) }

// Add puts a task into the queue. detail is what the kind of work needs to know.
func (r *Runner) Add(ctx context.Context, t store.Task, detail any) (*store.Task, error) {
	blob, err := json.Marshal(detail)
	if err != nil {
		return nil, err
	}
	t.ID, t.State, t.Detail = NewID(), Waiting, blob
	if err := r.store.AddTask(ctx, &t); err != nil {
		return nil, fmt.Errorf("add the task: %w", err)
	}
	job, err := r.queue.Insert(ctx, taskArgs{t.ID}, &river.InsertOpts{MaxAttempts: 20})
	if err != nil {
		return nil, fmt.Errorf("queue the task: %w", err)
	}
	if err := r.store.SetJob(ctx, t.ID, job.Job.ID); err != nil {
		return nil, err
	}
	saved, err := r.store.Task(ctx, t.ID)
	if err == nil {
		r.hub.Send(live.TaskChanged{Task: *saved})
	}
	return saved, err
}

// Cancel ends a task. What it has made so far stays where that is of use.
func (r *Runner) Cancel(ctx context.Context, id string) (*store.Task, error) {
	t, err := r.store.Task(ctx, id)
	if err != nil {
		return nil, err
	}
	if t.State != Waiting && t.State != Running {
		return t, nil
	}
	job, err := r.queue.JobCancel(ctx, t.JobID)
	if err != nil {
		return nil, fmt.Errorf("cancel the task: %w", err)
	}
	if job.State == rivertype.JobStateCancelled { // it had not begun
		r.end(ctx, t, Cancelled, "")
	}
	return t, nil
}

func (r *Runner) end(ctx context.Context, t *store.Task, state, problem string) {
	now := time.Now()
	t.State, t.Problem, t.EndedAt = state, problem, &now
	if err := r.store.SaveTask(ctx, t); err != nil {
		slog.Error("save a task", "task", t.ID, "error", err)
	}
	r.hub.Send(live.TaskChanged{Task: *t})
}

// Work is called by the queue.
func (w *worker) Work(ctx context.Context, job *river.Job[taskArgs]) error {
	r := w.runner
	t, err := r.store.Task(ctx, job.Args.Task)
	if errors.Is(err, store.ErrNone) {
		return river.JobCancel(err) // the shot was removed meanwhile
	}
	if err != nil {
		return err
	}
	t.State = Running
	p := &progress{runner: r, task: t, began: time.Now()}
	p.say(ctx, true)
	note, err := r.do(ctx, t, p)
	after := context.WithoutCancel(ctx)
	switch cancelled := errors.Is(context.Cause(ctx), river.ErrJobCancelledRemotely); {
	case cancelled:
		r.end(after, t, Cancelled, note)
		return river.JobCancel(errors.New("cancelled"))
	case ctx.Err() != nil: // the server stops: the job goes on at the next start
		t.State = Waiting
		_ = r.store.SaveTask(after, t)
		return river.JobSnooze(0)
	case err != nil:
		r.end(after, t, Failed, err.Error())
		return river.JobCancel(err)
	}
	r.end(after, t, Done, note)
	return nil
}

// do runs a task. note is for the artist: where it stopped, and why.
func (r *Runner) do(ctx context.Context, t *store.Task, p *progress) (note string, err error) {
	switch t.Kind {
	case "import":
		return "", r.bringIn(ctx, t, p)
	case "track":
		return r.follow(ctx, t, p)
	case "scout":
		return r.scout(ctx, t, p)
	case "edge":
		return r.edge(ctx, t, p)
	case "settle":
		return r.settle(ctx, t, p)
	case "render":
		return "", r.deliver(ctx, t, p)
	}
	return "", fmt.Errorf("%q is not a kind of work", t.Kind)
}

// progress tells how far a task is: to those who listen at once, to the database
// now and then.
type progress struct {
	runner      *Runner
	task        *store.Task
	began       time.Time
	sent, saved time.Time
}

func (p *progress) at(ctx context.Context, done, total int) {
	p.task.Done, p.task.Total = done, total
	if seconds := time.Since(p.began).Seconds(); seconds > 0 {
		p.task.Rate = float64(done) / seconds
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
		if err := p.runner.store.SaveTask(ctx, p.task); err != nil && ctx.Err() == nil {
			slog.Warn("save progress", "task", p.task.ID, "error", err)
		}
	}
}
