// Package store keeps shots, revisions, artifacts and tasks in PostgreSQL.
package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"jardin/app/media"
	"jardin/core/colorspace"
	"jardin/core/treatment"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNone says that there is nothing of the given name.
var ErrNone = errors.New("there is no such thing")

// A Store is the database. It is safe for concurrent use.
type Store struct {
	Pool *pgxpool.Pool // for the job queue, which shares the connections
	// IsOpen reports whether a browser's window is open now; nil where nobody knows.
	IsOpen func(window string) bool

	db        *sqlx.DB
	documents documents
	lines     lines
	painting  sync.Map // shot to *sync.Mutex: strokes are added one after the other
}

// Open connects to a database and brings its tables up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	pool, err := pgxpool.New(ctx, url)
	if err != nil {
		return nil, fmt.Errorf("connect to the database: %w", err)
	}
	s := &Store{Pool: pool, db: sqlx.NewDb(sql.OpenDB(connector{stdlib.GetPoolConnector(pool)}), "pgx")}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Close ends all connections.
func (s *Store) Close() {
	s.db.Close()
	s.Pool.Close()
}

func (s *Store) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, s.db.DB, files)
	if err != nil {
		return fmt.Errorf("read the migrations: %w", err)
	}
	known := int64(0)
	for _, source := range provider.ListSources() {
		known = max(known, source.Version)
	}
	there, err := provider.GetDBVersion(ctx)
	if err != nil {
		return fmt.Errorf("read the database's version: %w", err)
	}
	if there > known {
		return fmt.Errorf(
			"the data were last used by a newer Jardin (their version is %d, this program knows up to %d); start "+
				"that one, or restore a backup that was made before",
			there,
			known,
		)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("migrate the database: %w", err)
	}
	queue, err := rivermigrate.New(riverpgxv5.New(s.Pool), nil)
	if err != nil {
		return err
	}
	if _, err := queue.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("migrate the job queue: %w", err)
	}
	return nil
}

// A Shot is one piece of footage.
type Shot struct {
	ID        string               `db:"id" json:"id"`
	Show      string               `db:"show" json:"show"`
	Name      string               `db:"name" json:"name"`
	Source    string               `db:"source" json:"source" doc:"Where it was brought in from"`
	First     int                  `db:"first" json:"first"`
	Last      int                  `db:"last" json:"last"`
	Width     int                  `db:"width" json:"width"`
	Height    int                  `db:"height" json:"height"`
	Depth     int                  `db:"depth" json:"depth" doc:"Bits a sample"`
	Float     bool                 `db:"float" json:"float" doc:"Samples are floats, else integers"`
	Alpha     bool                 `db:"alpha" json:"alpha" doc:"The plate has alpha: it leaves as it came"`
	Aspect    float64              `db:"aspect" json:"aspect" doc:"Of a pixel, width to height"`
	Padding   int                  `db:"padding" json:"padding" doc:"Digits of frame numbers in file names"`
	Timecode  string               `db:"timecode" json:"timecode" doc:"Of the first frame; empty if there is none"`
	Format    string               `db:"format" json:"format" doc:"It was brought in from such files"`
	Primaries colorspace.Primaries `db:"primaries" json:"primaries" enum:"bt709,p3d65,bt2020,ap0,ap1"`
	Reading   json.RawMessage      `db:"reading" json:"-"`
	Delivered int                  `db:"deliveries" json:"-"`
	RateNum   int                  `db:"rate_num" json:"rateNum"`
	RateDen   int                  `db:"rate_den" json:"rateDen"`
	Transfer  colorspace.Transfer  `db:"transfer" json:"transfer" enum:"srgb,bt709,bt1886,gamma22,gamma24,gamma26,linear,acescct"`
	State     string               `db:"state" json:"state" enum:"importing,ready,failed"`
	Problem   string               `db:"problem" json:"problem" doc:"Why it could not be brought in"`
	Head      int                  `db:"head" json:"head" doc:"Number of the revision in force"`
	CreatedAt time.Time            `db:"created_at" json:"createdAt"`
	Tip       int                  `db:"tip" json:"-"`
	Cube      string               `db:"cube" json:"-"` // of its own; see CubeOf
	DeletedAt *time.Time           `db:"deleted_at" json:"deletedAt,omitempty" doc:"It was deleted then, and can still be taken back"`
}

// Media returns what reading its frames needs.
func (s *Shot) Media() media.Shot {
	var reading media.Reading
	_ = json.Unmarshal(s.Reading, &reading) // it was written by this program
	return media.Shot{
		First: s.First, Last: s.Last, Width: s.Width, Height: s.Height, Samples: media.Samples{Depth: s.Depth,
			Float: s.Float}, Alpha: s.Alpha,
		Rate: media.Rational{
			Num: s.RateNum,
			Den: s.RateDen,
		}, Aspect: s.Aspect, Transfer: s.Transfer, Primaries: s.Primaries, Timecode: s.Timecode,
		Fields: reading.Fields,
	}
}

// Range returns the shot's frames.
func (s *Shot) Range() *treatment.Range { return &treatment.Range{First: s.First, Last: s.Last} }

// Check reads what is in force of every shot: whether this program can use the data.
func (s *Store) Check(ctx context.Context) error {
	var shots []Shot
	if err := s.db.SelectContext(ctx, &shots, `select * from shots`); err != nil {
		return err
	}
	for _, shot := range shots {
		if _, err := s.document(ctx, s.db, shot.ID, shot.Head); err != nil {
			return fmt.Errorf("%s: %w", shot.Name, err)
		}
	}
	return nil
}

// ErrTaken says that a name is in use.
var ErrTaken = errors.New("the show has a shot of that name already; choose another name")

// AddShot adds a shot with an empty treatment.
func (s *Store) AddShot(ctx context.Context, shot *Shot) error {
	if shot.Reading == nil {
		shot.Reading = json.RawMessage("{}")
	}
	empty, err := json.Marshal(treatment.New())
	if err != nil {
		return err
	}
	return s.within(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `insert into shots
			(id, show, name, source, first, last, width, height, depth, float, alpha, aspect, padding, timecode, format, primaries, reading,
				rate_num, rate_den, transfer, state)
			values (:id, :show, :name, :source, :first, :last, :width, :height, :depth, :float, :alpha, :aspect, :padding, :timecode, :format, :primaries, :reading,
				:rate_num, :rate_den, :transfer, :state)`, shot)
		var taken *pgconn.PgError
		if errors.As(err, &taken) && taken.Code == "23505" {
			return ErrTaken
		}
		if err != nil {
			return fmt.Errorf("add the shot: %w", err)
		}
		_, err = tx.ExecContext(
			ctx,
			`insert into revisions (shot_id, number, label, document) values ($1, 0, 'Empty', $2)`,
			shot.ID,
			empty,
		)
		return err
	})
}

// Shot returns a shot that is not deleted.
func (s *Store) Shot(ctx context.Context, id string) (*Shot, error) {
	var shot Shot
	err := s.db.GetContext(ctx, &shot, `select * from shots where id = $1 and deleted_at is null`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNone
	}
	return &shot, err
}

// Shots returns all shots by show and name.
func (s *Store) Shots(ctx context.Context) ([]Shot, error) {
	shots := []Shot{}
	err := s.db.SelectContext(ctx, &shots, `select * from shots where deleted_at is null order by show, name`)
	return shots, err
}

// Deleted returns the shots that are deleted and can be taken back, the last deleted first.
func (s *Store) Deleted(ctx context.Context) ([]Shot, error) {
	shots := []Shot{}
	err := s.db.SelectContext(ctx, &shots, `select * from shots where deleted_at is not null order by deleted_at desc`)
	return shots, err
}

// SetState says how bringing the shot in went.
func (s *Store) SetState(ctx context.Context, id, state, problem string) error {
	_, err := s.db.ExecContext(ctx, `update shots set state = $2, problem = $3 where id = $1`, id, state, problem)
	return err
}

// RenameShot gives a shot another name, or moves it to another show; ErrTaken where that has one of that name, ErrNone if there is none.
func (s *Store) RenameShot(ctx context.Context, id, show, name string) error {
	err := s.touched(ctx, `update shots set show = $2, name = $3 where id = $1 and deleted_at is null`, id, show, name)
	var taken *pgconn.PgError
	if errors.As(err, &taken) && taken.Code == "23505" {
		return ErrTaken
	}
	return err
}

// DeleteShot deletes a shot such that it can be taken back; ErrNone if there is none.
func (s *Store) DeleteShot(ctx context.Context, id string) error {
	return s.touched(ctx, `update shots set deleted_at = now() where id = $1 and deleted_at is null`, id)
}

// TakeBackShot takes back a shot that was deleted. If its name was given to another meanwhile
// it gets one of its own.
func (s *Store) TakeBackShot(ctx context.Context, id string) (*Shot, error) {
	err := s.touched(ctx, `update shots s set deleted_at = null, name = name || coalesce(
			(select ' (taken back ' || to_char(now(), 'YYYY-MM-DD HH24.MI.SS') || ')' from shots o where o.show = s.show and o.name = s.name and o.deleted_at is null limit 1), '')
		where id = $1 and deleted_at is not null`, id)
	if err != nil {
		return nil, err
	}
	return s.Shot(ctx, id)
}

// Purged is what a shot that is gone for good has left to be removed.
type Purged struct {
	Shot  string
	Tasks []string
}

// PurgeShot removes a deleted shot with its revisions and tasks for good, and returns what is
// to be removed with it; ErrNone if there is no such deleted shot.
func (s *Store) PurgeShot(ctx context.Context, id string) (*Purged, error) {
	out := &Purged{Shot: id}
	err := s.within(ctx, func(tx *sqlx.Tx) error {
		if err := tx.SelectContext(ctx, &out.Tasks, `select id from tasks where shot_id = $1`, id); err != nil {
			return err
		}
		return touched(tx.ExecContext(ctx, `delete from shots where id = $1 and deleted_at is not null`, id))
	})
	if err != nil {
		return nil, err
	}
	s.documents.forget(id)
	return out, nil
}

// Overdue returns the shots that were deleted before a moment.
func (s *Store) Overdue(ctx context.Context, before time.Time) (ids []string, err error) {
	err = s.db.SelectContext(ctx, &ids, `select id from shots where deleted_at < $1`, before)
	return ids, err
}

// touched runs a statement that must change something; ErrNone if it did not.
func (s *Store) touched(ctx context.Context, query string, args ...any) error {
	return touched(s.db.ExecContext(ctx, query, args...))
}

func touched(result sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrNone)
	}
	return nil
}

// PutArtifact keeps bulk data and returns its SHA-256.
func (s *Store) PutArtifact(ctx context.Context, content []byte) (string, error) {
	sum := sha256.Sum256(content)
	sha := hex.EncodeToString(sum[:])
	_, err := s.db.ExecContext(
		ctx,
		`insert into artifacts (sha256, content) values ($1, $2) on conflict do nothing`,
		sha,
		content,
	)
	if err != nil {
		return "", fmt.Errorf("keep an artifact: %w", err)
	}
	return sha, nil
}

// Artifact returns bulk data by its SHA-256.
func (s *Store) Artifact(ctx context.Context, sha string) ([]byte, error) {
	var content []byte
	err := s.db.GetContext(ctx, &content, `select content from artifacts where sha256 = $1`, sha)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("artifact %s: %w", sha, ErrNone)
	}
	return content, err
}

// Artifacts returns several at once, by their SHA-256. Those that are not there are
// left out.
func (s *Store) Artifacts(ctx context.Context, shas []string) (map[string][]byte, error) {
	var rows []struct {
		SHA     string `db:"sha256"`
		Content []byte `db:"content"`
	}
	if err := s.db.SelectContext(ctx, &rows, `select sha256, content from artifacts where sha256 = any($1)`, shas); err != nil {
		return nil, fmt.Errorf("read artifacts: %w", err)
	}
	out := make(map[string][]byte, len(rows))
	for _, r := range rows {
		out[r.SHA] = r.Content
	}
	return out, nil
}

// Inline returns the treatment with all of its artifacts in place.
func (s *Store) Inline(ctx context.Context, doc *treatment.Document) (*treatment.Document, error) {
	return doc.Inline(treatment.Stored(func(sha string) ([]byte, error) { return s.Artifact(ctx, sha) }))
}

// Removal returns a removal of a revision of the treatment, with its data in place; of the one
// in force for a negative number.
func (s *Store) Removal(ctx context.Context, shot, id string, number int) (*treatment.Removal, error) {
	rev, err := s.Head(ctx, shot)
	if number >= 0 {
		rev, err = s.Revision(ctx, shot, number)
	}
	if err != nil {
		return nil, err
	}
	removal, _ := rev.Document.Find(id)
	if removal == nil {
		return nil, fmt.Errorf("removal %q: %w", id, ErrNone)
	}
	whole, err := s.Inline(ctx, &treatment.Document{Removals: []treatment.Removal{*removal}})
	if err != nil {
		return nil, err
	}
	return &whole.Removals[0], nil
}

func (s *Store) within(ctx context.Context, f func(*sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	if err := f(tx); err != nil {
		return errors.Join(err, ignoreDone(tx.Rollback()))
	}
	return tx.Commit()
}

func ignoreDone(err error) error {
	if errors.Is(err, sql.ErrTxDone) {
		return nil
	}
	return err
}
