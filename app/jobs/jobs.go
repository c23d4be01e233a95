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

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"jardin/app/datafolder"
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

// A Runner takes tasks and runs them.
type Runner struct {
	store *store.Store
	rooms *picture.Rooms
	hub   *live.Hub
	roots func() media.Roots // the folders that footage may come from now
	queue *river.Client[pgxTx]
	stop  context.CancelFunc

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
func Start(ctx context.Context, s *store.Store, rooms *picture.Rooms, hub *live.Hub, roots func() media.Roots) (*Runner, error) {
	r := &Runner{store: s, rooms: rooms, hub: hub, roots: roots, active: map[string]*run{}}
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
	return r.halt(ctx, id, Cancelled, errCancelled)
}

// Pause interrupts a task until it is continued.
func (r *Runner) Pause(ctx context.Context, id string) (*store.Task, error) {
	return r.halt(ctx, id, Paused, errPaused)
}

func (r *Runner) halt(ctx context.Context, id, state string, why error) (*store.Task, error) {
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
	if running != nil {
		r.mu.Lock()
		running.halted = true
		r.mu.Unlock()
		running.halt(why) // the work itself says how it ended
		return t, nil
	}
	if _, err := r.queue.JobCancel(ctx, t.JobID); err != nil && !errors.Is(err, river.ErrNotFound) {
		return nil, fmt.Errorf("take the task out of the queue: %w", err)
	}
	if state == Cancelled {
		r.given(ctx, t)
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
		return r.store.Task(ctx, id)
	}
	t, again, err := r.readied(ctx, id)
	r.release(id, mine)
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
	if t.Kind == "import" && t.State == Done {
		shot, err := r.store.Shot(ctx, t.ShotID)
		if err != nil {
			return nil, false, err
		}
		again = shot.State == "failed" // its plates went missing since
	}
	if !again {
		return t, false, nil
	}
	if t.Kind == "import" {
		if err := r.store.SetState(ctx, t.ShotID, "importing", ""); err != nil {
			return nil, false, err
		}
		r.hub.Send(live.ShotChanged{ShotID: t.ShotID})
	}
	if t.State != Paused && t.Kind != "track" {
		// Measuring begins anew, on the treatment that is in force now.
		if err := r.store.SetPartial(ctx, id, nil); err != nil {
			return nil, false, err
		}
	}
	t.State, t.Problem, t.Found, t.EndedAt = Waiting, "", "", nil
	return t, true, r.store.SaveTask(ctx, t)
}

// end says how a task ended. As long as the database is away, it waits for it.
func (r *Runner) end(ctx context.Context, t *store.Task, state, problem string) {
	t.State, t.Problem, t.EndedAt = state, problem, nil
	if state != Paused && state != Waiting {
		now := time.Now()
		t.EndedAt = &now
	}
	for wait := 50 * time.Millisecond; ; wait = min(2*wait, 2*time.Second) {
		err := r.store.SaveTask(ctx, t)
		if err == nil {
			break
		}
		if !store.Away(err) {
			slog.Error("save a task", "task", t.ID, "error", err)
			break
		}
		time.Sleep(wait)
	}
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
	t, err := r.store.Task(work, id)
	if errors.Is(err, store.ErrNone) {
		return river.JobCancel(err) // the shot was removed meanwhile
	}
	if err != nil {
		return river.JobSnooze(time.Second)
	}
	if t.State != Waiting && t.State != Running {
		return nil // it ended, and only the queue did not hear of it
	}
	t.State = Running
	p := &progress{runner: r, task: t, began: time.Now(), from: -1}
	p.say(work, true)
	work = store.WithActor(work, store.Actor{Name: t.Author, Window: t.Client, Browser: t.Browser})
	var note string
	attempts, err := r.store.Attempt(work, id, r.reached(t))
	if err == nil && t.Kind == "import" && attempts > mostAttempts {
		err = fmt.Errorf("the server broke down %d times while this was brought in: the footage may hold something that it cannot read. Leave that part out, or try again", mostAttempts)
	} else if err == nil {
		err = routines.Guard(func() (err error) {
			note, err = r.do(work, t, p)
			return err
		})
	}
	after := context.WithoutCancel(ctx)
	switch why := context.Cause(work); {
	case errors.Is(why, errCancelled):
		r.given(after, t)
		r.end(after, t, Cancelled, note)
	case errors.Is(why, errPaused):
		r.end(after, t, Paused, "")
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

// reached is how far an import is, by what lies on disk: how many files of frames.
func (r *Runner) reached(t *store.Task) int {
	dir, err := r.rooms.PlateDir(t.ShotID)
	if t.Kind != "import" || err != nil {
		return 0
	}
	return media.Begun(dir)
}

// mostAttempts is how often bringing footage in is begun: what takes the server along does so
// each time.
const mostAttempts = 3

// given cleans up after a task that was given up.
func (r *Runner) given(ctx context.Context, t *store.Task) {
	switch t.Kind {
	case "import":
		if dir, err := r.rooms.PlateDir(t.ShotID); err == nil {
			_ = media.Drop(dir) // what is only begun
		}
		if err := r.store.SetState(ctx, t.ShotID, "failed", "Bringing it in was cancelled."); err == nil {
			r.hub.Send(live.ShotChanged{ShotID: t.ShotID})
		}
	case "render":
		_ = r.rooms.Folder.Remove(datafolder.Renders, t.ID)
	}
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
