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
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"jardin/app/live"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/app/routines"
	"jardin/app/store"
)

// States of a task.
const (
	Waiting   = "waiting"
	Running   = "running"
	Paused    = "paused"
	Done      = "done"
	Failed    = "failed"
	Cancelled = "cancelled"
)

type pgxTx = pgx.Tx

// A Runner takes tasks and runs them. Who works on a task, since when, how far it is and what
// it was asked stands in the database; of what runs here it only remembers how to stop it.
type Runner struct {
	name      string // among all that work
	store     *store.Store
	workspace *picture.Workspace
	hub       *live.Hub
	roots     func() media.Roots // the folders that footage may come from now
	queue     *river.Client[pgxTx]
	stop      context.CancelFunc

	mu     sync.Mutex
	active map[string]*run // tasks that are being worked on, or whose state is being changed
}

// A run is a task being worked on.
type run struct {
	halt   context.CancelCauseFunc // nil as long as only its state is changed
	halted bool                    // it was asked to halt, and has not ended yet
	ended  chan struct{}           // closed when it has
}

// hold takes a task for oneself, or returns who has it: as long as it is held nobody else
// begins to work on it or changes its state.
func (r *Runner) hold(id string, halt context.CancelCauseFunc) (mine, other *run) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if other := r.active[id]; other != nil {
		return nil, other
	}
	mine = &run{halt: halt, ended: make(chan struct{})}
	r.active[id] = mine
	return mine, nil
}

// holdState takes a task to change its state, or returns who works on it. It waits for those
// who change its state and, if it says so, for work that was asked to halt.
func (r *Runner) holdState(ctx context.Context, id string, halting bool) (mine, working *run, err error) {
	for {
		mine, other := r.hold(id, nil)
		if other == nil {
			return mine, nil, nil
		}
		r.mu.Lock()
		wait := other.halt == nil || halting && other.halted
		r.mu.Unlock()
		if !wait {
			return nil, other, nil
		}
		select {
		case <-other.ended:
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		}
	}
}

func (r *Runner) release(id string, mine *run) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.active, id)
	close(mine.ended)
}

// Why a run ends before its work does.
var (
	errCancelled = errors.New("cancelled")
	errPaused    = errors.New("paused")
)

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
func Start(
	ctx context.Context,
	s *store.Store,
	workspace *picture.Workspace,
	hub *live.Hub,
	roots func() media.Roots,
) (*Runner, error) {
	r := &Runner{name: NewID(), store: s, workspace: workspace, hub: hub, roots: roots, active: map[string]*run{}}
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
	watching, stop := context.WithCancel(context.WithoutCancel(ctx))
	r.stop = stop
	routines.Go("watch the queue", func() { r.watch(watching) })
	return r, nil
}

// Stop interrupts all work; it goes on at the next start.
func (r *Runner) Stop(ctx context.Context) error {
	r.stop()
	return r.queue.StopAndCancel(ctx)
}

// watch takes up tasks that nobody works on and that the queue has lost: after the
// database broke down, a job may stand there as running for ever.
func (r *Runner) watch(ctx context.Context) {
	seen := map[string]int{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(2 * time.Second):
		}
		// Tasks here that somebody elsewhere asked to halt.
		asked, err := r.store.Asked(ctx, r.name)
		if err != nil {
			continue // the database is away; it will be back
		}
		for id, state := range asked {
			r.stopHere(id, state)
		}
		tasks, err := r.store.Unfinished(ctx)
		if err != nil {
			continue // the database is away; it will be back
		}
		alone := map[string]int{}
		for _, t := range tasks {
			r.mu.Lock()
			_, busy := r.active[t.ID]
			r.mu.Unlock()
			if busy || t.Queued {
				continue
			}
			if alone[t.ID] = seen[t.ID] + 1; alone[t.ID] < 2 {
				continue // it may be on its way from the one to the other
			}
			if err := r.enqueue(ctx, t.ID); err == nil {
				delete(alone, t.ID)
			}
		}
		seen = alone
	}
}

func (r *Runner) enqueue(ctx context.Context, id string) error {
	job, err := r.queue.Insert(ctx, taskArgs{id}, &river.InsertOpts{MaxAttempts: 1000})
	if err != nil {
		return fmt.Errorf("queue the task: %w", err)
	}
	return r.store.SetJob(ctx, id, job.Job.ID)
}

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
	if err := r.enqueue(ctx, t.ID); err != nil {
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
	return r.halt(ctx, id, Cancelled)
}

// Pause interrupts a task until it is continued.
func (r *Runner) Pause(ctx context.Context, id string) (*store.Task, error) {
	return r.halt(ctx, id, Paused)
}

// stopHere stops a task that is worked on here.
func (r *Runner) stopHere(id, state string) {
	r.mu.Lock()
	working := r.active[id]
	if working != nil {
		working.halted = true
	}
	r.mu.Unlock()
	if working != nil && working.halt != nil {
		working.halt(map[string]error{Cancelled: errCancelled, Paused: errPaused}[state])
	}
}

func (r *Runner) halt(ctx context.Context, id, state string) (*store.Task, error) {
	mine, running, err := r.holdState(ctx, id, false)
	if err != nil {
		return nil, err
	}
	if running == nil {
		defer r.release(id, mine)
	}
	t, err := r.store.Task(ctx, id)
	if err != nil {
		return nil, err
	}
	if t.State != Waiting && t.State != Running && !(t.State == Paused && state == Cancelled) {
		return t, nil
	}
	if running != nil || t.State == Running && t.Worker != "" {
		// The work itself says how it ended.
		if err := r.store.Ask(ctx, id, state); err != nil {
			return nil, err
		}
		r.stopHere(id, state)
		return t, nil
	}
	if _, err := r.queue.JobCancel(ctx, t.JobID); err != nil && !errors.Is(err, river.ErrNotFound) {
		return nil, fmt.Errorf("take the task out of the queue: %w", err)
	}
	if state == Cancelled {
		r.givenUp(ctx, t)
	}
	r.end(ctx, t, state, "")
	return t, nil
}

// Continue takes up a task that was paused, or tries one again that failed or was
// cancelled; also an import whose plates are not there any more. One that was asked to halt
// and has not ended yet is waited for.
func (r *Runner) Continue(ctx context.Context, id string) (*store.Task, error) {
	mine, working, err := r.holdState(ctx, id, true)
	if err != nil {
		return nil, err
	}
	if working != nil {
		// If it was asked from elsewhere, that is taken back: heard or not, it goes on.
		t, err := r.store.Unask(ctx, id)
		if errors.Is(err, store.ErrNone) { // it ends just now
			select {
			case <-working.ended:
				return r.Continue(ctx, id)
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
		return t, err
	}
	t, again, err := r.readied(ctx, id)
	r.release(id, mine)
	for err == nil && t.State == Running && t.Asked != "" { // it halts elsewhere
		select {
		case <-time.After(100 * time.Millisecond):
			return r.Continue(ctx, id)
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	if err != nil || !again {
		return t, err
	}
	if err := r.enqueue(ctx, id); err != nil {
		return nil, err
	}
	r.hub.Send(live.TaskChanged{Task: *t})
	return t, nil
}

// readied makes a task that ended before its work was done wait to be worked on again; again
// says whether it was such a one.
func (r *Runner) readied(ctx context.Context, id string) (t *store.Task, again bool, err error) {
	t, err = r.store.Task(ctx, id)
	if err != nil {
		return nil, false, err
	}
	again = t.State == Paused || t.State == Failed || t.State == Cancelled
	k := kinds[t.Kind]
	if more, ok := k.(repeating); ok && (again || t.State == Done) {
		if again, err = more.again(ctx, r, t); err != nil {
			return nil, false, err
		}
	}
	if !again {
		if t.State == Waiting && t.Asked != "" { // it was to halt before it had begun
			t.Asked, err = "", r.store.Ask(ctx, id, "")
		}
		return t, false, err
	}
	if _, resumes := k.(resuming); t.State != Paused && !resumes {
		if err := r.store.SetPartial(ctx, id, nil); err != nil {
			return nil, false, err
		}
	}
	if err := r.store.Ask(ctx, id, ""); err != nil {
		return nil, false, err
	}
	t.State, t.Problem, t.Found, t.EndedAt = Waiting, "", "", nil
	return t, true, r.store.SaveTask(ctx, t)
}

// untilSaved writes to the database. As long as it is away, it waits for it.
func untilSaved(t *store.Task, save func() error) {
	for wait := 50 * time.Millisecond; ; wait = min(2*wait, 2*time.Second) {
		err := save()
		if err == nil {
			return
		}
		if !store.Away(err) {
			slog.Error("save a task", "task", t.ID, "error", err)
			return
		}
		time.Sleep(wait)
	}
}

// halted returns the state that work which was asked to halt ends in: what the database says
// that it was asked last, so that whoever continues it in the very moment is heard.
func (r *Runner) halted(ctx context.Context, t *store.Task) string {
	state := Cancelled // its shot was removed meanwhile
	untilSaved(t, func() error {
		asked, err := r.store.Halt(ctx, t.ID)
		if err == nil {
			state = asked
		} else if errors.Is(err, store.ErrNone) {
			err = nil
		}
		return err
	})
	return state
}

// end says how a task ended.
func (r *Runner) end(ctx context.Context, t *store.Task, state, problem string) {
	t.State, t.Problem, t.EndedAt = state, problem, nil
	if state != Paused && state != Waiting {
		now := time.Now()
		t.EndedAt = &now
	}
	untilSaved(t, func() error { return r.store.SaveTask(ctx, t) })
	_ = r.store.Settled(ctx, t.ID) // the server did not break down over it
	r.hub.Send(live.TaskChanged{Task: *t})
}

// Work is called by the queue.
func (w *worker) Work(ctx context.Context, job *river.Job[taskArgs]) error {
	r := w.runner
	id := job.Args.Task
	work, halt := context.WithCancelCause(ctx)
	defer halt(nil)
	mine, other := r.hold(id, halt)
	if other != nil {
		return river.JobSnooze(time.Second) // it was queued twice, or is about to be given up
	}
	defer r.release(id, mine)
	t, err := r.store.Take(work, id, r.name)
	if errors.Is(err, store.ErrNone) {
		return nil // it ended, or its shot was removed, and only the queue did not hear of it
	}
	if err != nil {
		return river.JobSnooze(time.Second)
	}
	k := kinds[t.Kind]
	p := &progress{runner: r, task: t, began: time.Now(), from: -1}
	p.say(work, true)
	if t.Asked != "" {
		r.stopHere(id, t.Asked) // before it had begun
	}
	work = store.WithActor(work, store.Actor{Name: t.Author, Window: t.Client, Browser: t.Browser})
	var note string
	if k == nil {
		err = fmt.Errorf("%q is not a kind of work that this program knows", t.Kind)
	} else if err = r.mayBegin(work, k, t); err == nil {
		err = routines.Guard(func() (err error) {
			note, err = k.run(work, r, t, p)
			return err
		})
	}
	after := context.WithoutCancel(ctx)
	switch why := context.Cause(work); {
	case errors.Is(why, errCancelled), errors.Is(why, errPaused):
		switch state := r.halted(after, t); state {
		case Waiting: // it was continued meanwhile
			r.end(after, t, Waiting, "")
			return river.JobSnooze(0)
		case Cancelled:
			r.givenUp(after, t)
			r.end(after, t, Cancelled, note)
		default:
			r.end(after, t, state, "")
		}
	case ctx.Err() != nil && err != nil: // the server stops: the job goes on at the next start
		t.State = Waiting
		_ = r.store.SaveTask(after, t)
		_ = r.store.Settled(after, t.ID)
		return river.JobSnooze(0)
	case err != nil && store.Away(err): // the database broke down: what is made stays, and is gone on with
		r.end(after, t, Waiting, "")
		return river.JobSnooze(time.Second)
	case err != nil:
		r.end(after, t, Failed, err.Error())
	default:
		t.Found = note
		r.end(after, t, Done, "")
	}
	return nil
}

// mayBegin refuses fragile work that was begun again and again without coming any further.
func (r *Runner) mayBegin(ctx context.Context, k kind, t *store.Task) error {
	reached := 0
	f, isFragile := k.(fragile)
	if isFragile {
		reached = f.reached(r, t)
	}
	attempts, err := r.store.Attempt(ctx, t.ID, reached)
	if err == nil && isFragile && attempts > mostAttempts {
		return f.brokenDown(mostAttempts)
	}
	return err
}

// givenUp cleans up after a task that was given up.
func (r *Runner) givenUp(ctx context.Context, t *store.Task) {
	if k, ok := kinds[t.Kind].(givenUp); ok {
		k.givenUp(ctx, r, t)
	}
}
