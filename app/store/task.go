package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"
)

// A Task is long work as people see it: what it does, how far it is, how it
// ended. The job queue runs it.
type Task struct {
	ID        string          `db:"id" json:"id"`
	ShotID    string          `db:"shot_id" json:"shotId"`
	Kind      string          `db:"kind" json:"kind" enum:"import,track,scout,settle,edge,solve,render"`
	Title     string          `db:"title" json:"title"`
	Subject   string          `db:"subject" json:"subject" doc:"The track or the removal that it works on, if it works on one"`
	State     string          `db:"state" json:"state" enum:"waiting,running,paused,done,failed,cancelled"`
	Done      int             `db:"done" json:"done" doc:"Frames finished"`
	Total     int             `db:"total" json:"total" doc:"Frames in all"`
	Rate      float64         `db:"rate" json:"rate" doc:"Frames a second"`
	Problem   string          `db:"problem" json:"problem" doc:"Why it failed, or where it stopped"`
	Found     string          `db:"found" json:"found,omitempty" doc:"What it found out, in words"`
	Author    string          `db:"author" json:"author,omitempty" doc:"Who asked for it"`
	Client    string          `db:"client" json:"-"`
	Browser   string          `db:"browser" json:"-"`
	Attempts  int             `db:"attempts" json:"-"`
	Reached   int             `db:"reached" json:"-"`
	Worker    string          `db:"worker" json:"-"` // who works on it; empty for nobody
	Since     *time.Time      `db:"since" json:"-"`  // when that began
	Asked     string          `db:"asked" json:"-"`  // the state that it was asked to halt in; empty for none
	Detail    json.RawMessage `db:"detail" json:"-"`
	Result    []byte          `db:"result" json:"-"`
	JobID     int64           `db:"job_id" json:"-"`
	Partial   []byte          `db:"partial" json:"-"`
	Version   int             `db:"version" json:"version,omitempty" doc:"Of a delivery: which of the shot's it is"`
	Movies    string          `db:"movies" json:"movies,omitempty" doc:"Of a delivery: kinds of movies beside the frames, with spaces between"`
	CreatedAt time.Time       `db:"created_at" json:"createdAt"`
	EndedAt   *time.Time      `db:"ended_at" json:"endedAt,omitempty"`
}

// AddTask adds a waiting task.
func (s *Store) AddTask(ctx context.Context, t *Task) error {
	if t.Detail == nil {
		t.Detail = json.RawMessage(`{}`)
	}
	me := ActorOf(ctx)
	t.Author, t.Client, t.Browser = me.Name, me.Window, me.Browser
	_, err := s.db.NamedExecContext(
		ctx,
		`insert into tasks (id, shot_id, kind, title, subject, state, total, detail, version, movies, author, client, browser)
		values (:id, :shot_id, :kind, :title, :subject, :state, :total, :detail, :version, :movies, :author, :client, :browser)`,
		t,
	)
	return err
}

// SetJob ties a task to its place in the queue.
func (s *Store) SetJob(ctx context.Context, id string, job int64) error {
	_, err := s.db.ExecContext(ctx, `update tasks set job_id = $2 where id = $1`, id, job)
	return err
}

// Take gives a task that waits, or that was running when its worker broke down, to a worker.
// It is ErrNone for one that has ended.
func (s *Store) Take(ctx context.Context, id, worker string) (*Task, error) {
	var t Task
	err := s.db.GetContext(ctx, &t, `update tasks set state = 'running', worker = $2, since = now()
		where id = $1 and state in ('waiting', 'running') returning *`, id, worker)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNone
	}
	return &t, err
}

// Ask asks whoever works on a task to halt in a state, wherever that is; the empty state takes
// that back.
func (s *Store) Ask(ctx context.Context, id, state string) error {
	_, err := s.db.ExecContext(ctx, `update tasks set asked = $2 where id = $1`, id, state)
	return err
}

// Unask takes back what was asked of a task that waits or runs. It is ErrNone for one that has
// ended.
func (s *Store) Unask(ctx context.Context, id string) (*Task, error) {
	var t Task
	err := s.db.GetContext(ctx, &t, `update tasks set asked = ''
		where id = $1 and state in ('waiting', 'running') returning *`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNone
	}
	return &t, err
}

// Halt ends a running task in the state that it was asked to halt in, and returns that; it is
// 'waiting' if that was taken back.
func (s *Store) Halt(ctx context.Context, id string) (state string, err error) {
	err = s.db.GetContext(ctx, &state, `update tasks set state = case asked when '' then 'waiting' else asked end
		where id = $1 returning state`, id)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	return state, err
}

// Asked returns what the tasks of a worker were asked, by task.
func (s *Store) Asked(ctx context.Context, worker string) (map[string]string, error) {
	var rows []struct {
		ID    string `db:"id"`
		Asked string `db:"asked"`
	}
	err := s.db.SelectContext(ctx, &rows, `select id, asked from tasks where worker = $1 and asked <> ''`, worker)
	out := map[string]string{}
	for _, r := range rows {
		out[r.ID] = r.Asked
	}
	return out, err
}

// SaveTask writes state and progress. A task that does not run is nobody's.
func (s *Store) SaveTask(ctx context.Context, t *Task) error {
	_, err := s.db.NamedExecContext(ctx, `update tasks set state = :state, done = :done, total = :total, rate = :rate,
		problem = :problem, found = :found, ended_at = :ended_at,
		worker = case when :state = 'running' then worker else '' end where id = :id`, t)
	return err
}

// SetResult keeps what a task found out.
func (s *Store) SetResult(ctx context.Context, id string, result any) error {
	blob, err := json.Marshal(result)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `update tasks set result = $2 where id = $1`, id, blob)
	return err
}

// LastResult reads what the newest task of a kind found out on a subject, and
// reports whether there is one.
func (s *Store) LastResult(ctx context.Context, shot, kind, subject string, into any) (bool, error) {
	var blob []byte
	err := s.db.GetContext(
		ctx,
		&blob,
		`select result from tasks where shot_id = $1 and kind = $2 and subject = $3 and result is not null
		order by created_at desc limit 1`,
		shot,
		kind,
		subject,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return true, json.Unmarshal(blob, into)
}

// SetPartial keeps what a task has found so far; nil for nothing.
func (s *Store) SetPartial(ctx context.Context, id string, found any) (err error) {
	var blob []byte
	if found != nil {
		if blob, err = json.Marshal(found); err != nil {
			return err
		}
	}
	_, err = s.db.ExecContext(ctx, `update tasks set partial = $2 where id = $1`, id, blob)
	return err
}

// Deliveries returns how many deliveries of a shot were begun; ErrNone if there is none.
func (s *Store) Deliveries(ctx context.Context, shot string) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `select deliveries from shots where id = $1`, shot)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	return n, err
}

// NextDelivery counts a shot's deliveries up, and returns the new number.
func (s *Store) NextDelivery(ctx context.Context, shot string) (n int, err error) {
	err = s.db.GetContext(
		ctx,
		&n,
		`update shots set deliveries = deliveries + 1 where id = $1 returning deliveries`,
		shot,
	)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	return n, err
}

// Unfinished returns the tasks that wait or run, and whether the queue has a job for
// each that is to be worked on.
func (s *Store) Unfinished(ctx context.Context) (out []struct {
	Task
	Queued bool `db:"queued"`
}, err error) {
	err = s.db.SelectContext(ctx, &out, `select t.*, j.id is not null as queued from tasks t
		left join river_job j on j.id = t.job_id and j.state in ('available', 'pending', 'retryable', 'scheduled')
		where t.state in ('waiting', 'running')`)
	return out, err
}

// Task returns a task.
func (s *Store) Task(ctx context.Context, id string) (*Task, error) {
	var t Task
	err := s.db.GetContext(ctx, &t, `select * from tasks where id = $1`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNone
	}
	return &t, err
}

// Tasks returns a page of tasks, the newest first: of one shot, or of all for an empty id, of
// those made before the task with an identifier; empty for the newest.
func (s *Store) Tasks(ctx context.Context, shot, before string, limit int) ([]Task, error) {
	out := []Task{}
	err := s.db.SelectContext(
		ctx,
		&out,
		`select t.* from tasks t join shots s on s.id = t.shot_id and s.deleted_at is null
		where ($1 = '' or t.shot_id = $1) and ($2 = '' or (t.created_at, t.id) < (select created_at, id from tasks where id = $2))
		order by t.created_at desc, t.id desc limit $3`,
		shot,
		before,
		limit,
	)
	return out, err
}

// AllTasks returns all tasks of a shot, or of all shots for an empty id, deleted ones too.
func (s *Store) AllTasks(ctx context.Context, shot string) ([]Task, error) {
	out := []Task{}
	err := s.db.SelectContext(
		ctx,
		&out,
		`select * from tasks where $1 = '' or shot_id = $1 order by created_at desc`,
		shot,
	)
	return out, err
}

// Attempt counts how often work on a task was begun without having come any further since,
// and returns that.
func (s *Store) Attempt(ctx context.Context, id string, reached int) (n int, err error) {
	err = s.db.GetContext(
		ctx,
		&n,
		`update tasks set attempts = case when $2 > reached then 1 else attempts + 1 end, reached = $2 where id = $1 returning attempts`,
		id,
		reached,
	)
	return n, err
}

// Settled says that a task ended in an orderly way: what is begun again counts anew.
func (s *Store) Settled(ctx context.Context, id string) error {
	_, err := s.db.ExecContext(ctx, `update tasks set attempts = 0, reached = -1 where id = $1`, id)
	return err
}
