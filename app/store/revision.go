package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	jsonpatch "github.com/evanphx/json-patch/v5"
	"github.com/jmoiron/sqlx"

	"jardin/app/document"
	"jardin/core/treatment"
)

// A Revision is one saved state of a shot's treatment.
type Revision struct {
	Number    int                 `json:"number"`
	Label     string              `json:"label" doc:"What was done to get here"`
	CreatedAt time.Time           `json:"createdAt"`
	Undo      string              `json:"undo" doc:"What undo would take back; empty if nothing"`
	Redo      string              `json:"redo" doc:"What redo would bring again; empty if nothing"`
	Stale     []string            `json:"stale" nullable:"false" doc:"Tracks that were measured before their region, points, motion or home changed"`
	Document  *treatment.Document `json:"document"`
}

// Stale says that an edit started from a revision that is no longer in force.
type Stale struct{ Now *Revision }

func (e *Stale) Error() string {
	return fmt.Sprintf("the treatment was changed meanwhile and is now at revision %d; apply the change to that", e.Now.Number)
}

// Invalid says that an edit would leave a treatment that is not valid.
type Invalid struct{ Err error }

func (e *Invalid) Error() string { return e.Err.Error() }
func (e *Invalid) Unwrap() error { return e.Err }

type revisionRow struct {
	Number    int             `db:"number"`
	Parent    sql.NullInt64   `db:"parent"`
	Next      sql.NullInt64   `db:"next"`
	Label     string          `db:"label"`
	Document  json.RawMessage `db:"document"`
	CreatedAt time.Time       `db:"created_at"`
	Redo      sql.NullString  `db:"redo"`
}

const selectRevision = `select r.number, r.parent, r.next, r.label, r.document, r.created_at, n.label as redo
	from revisions r left join revisions n on n.shot_id = r.shot_id and n.number = r.next `

func (r *revisionRow) revision() (*Revision, error) {
	doc := &treatment.Document{}
	blob, err := treatment.Upgrade(r.Document)
	if err == nil {
		err = json.Unmarshal(blob, doc)
	}
	if err != nil {
		return nil, fmt.Errorf("revision %d cannot be read: %w", r.Number, err)
	}
	out := &Revision{Number: r.Number, Label: r.Label, CreatedAt: r.CreatedAt, Redo: r.Redo.String, Stale: []string{}, Document: doc}
	for i := range doc.Tracks {
		if doc.Tracks[i].Stale() {
			out.Stale = append(out.Stale, doc.Tracks[i].ID)
		}
	}
	if r.Parent.Valid {
		out.Undo = r.Label
	}
	return out, nil
}

// Head returns the revision in force.
func (s *Store) Head(ctx context.Context, shot string) (*Revision, error) {
	return s.one(ctx, s.db, `where r.shot_id = $1 and r.number = (select head from shots where id = $1)`, shot)
}

// Revision returns a revision by its number.
func (s *Store) Revision(ctx context.Context, shot string, number int) (*Revision, error) {
	return s.one(ctx, s.db, `where r.shot_id = $1 and r.number = $2`, shot, number)
}

func (s *Store) one(ctx context.Context, q sqlx.QueryerContext, where string, args ...any) (*Revision, error) {
	var row revisionRow
	if err := sqlx.GetContext(ctx, q, &row, selectRevision+where, args...); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			return nil, ErrNone
		}
		return nil, err
	}
	return row.revision()
}

// lock returns the head of a shot, held until the transaction ends.
func lock(ctx context.Context, tx *sqlx.Tx, id string) (*Shot, error) {
	var shot Shot
	err := tx.GetContext(ctx, &shot, `select * from shots where id = $1 for update`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNone
	}
	return &shot, err
}

// Edit applies a JSON Patch (RFC 6902) to the revision that the edit started
// from and saves the outcome as a new revision. If that revision is no longer in
// force it returns a *Stale with the one that is; if the outcome is not a valid
// treatment, an *Invalid. Nothing is changed then.
func (s *Store) Edit(ctx context.Context, id string, from int, patch json.RawMessage, label string) (*Revision, error) {
	operations, err := jsonpatch.DecodePatch(patch)
	if err != nil {
		return nil, &Invalid{fmt.Errorf("the patch is not a JSON Patch: %w", err)}
	}
	return s.change(ctx, id, label, func(head int, shot *treatment.Range, doc json.RawMessage) (json.RawMessage, error) {
		if head != from {
			return nil, errStale
		}
		out, err := operations.Apply(doc)
		if err != nil {
			return nil, &Invalid{fmt.Errorf("the patch does not fit the treatment: %w", err)}
		}
		if _, err := document.Parse(out, shot); err != nil {
			return nil, &Invalid{err}
		}
		return out, nil
	})
}

// Amend changes whatever treatment is in force now: for changes that stand by
// themselves, such as one more stroke or a finished track.
func (s *Store) Amend(ctx context.Context, id, label string, f func(*treatment.Document) error) (*Revision, error) {
	return s.change(ctx, id, label, func(_ int, shot *treatment.Range, blob json.RawMessage) (json.RawMessage, error) {
		var doc treatment.Document
		if err := json.Unmarshal(blob, &doc); err != nil {
			return nil, err
		}
		if err := f(&doc); err != nil {
			return nil, err
		}
		// Made by our own types, it needs no schema: with a thousand strokes that would take longest.
		if err := doc.Validate(shot); err != nil {
			return nil, &Invalid{err}
		}
		return json.Marshal(doc)
	})
}

// Try returns what a JSON Patch would make of a revision, and saves nothing.
func (s *Store) Try(ctx context.Context, id string, number int, patch json.RawMessage) (*treatment.Document, error) {
	operations, err := jsonpatch.DecodePatch(patch)
	if err != nil {
		return nil, &Invalid{fmt.Errorf("the patch is not a JSON Patch: %w", err)}
	}
	var doc json.RawMessage
	err = s.db.GetContext(ctx, &doc, `select document from revisions where shot_id = $1 and number = $2`, id, number)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, err
	}
	if doc, err = treatment.Upgrade(doc); err != nil {
		return nil, err
	}
	if doc, err = operations.Apply(doc); err != nil {
		return nil, &Invalid{fmt.Errorf("the patch does not fit the treatment: %w", err)}
	}
	out := &treatment.Document{}
	if err := json.Unmarshal(doc, out); err != nil {
		return nil, &Invalid{err}
	}
	if err := out.Validate(nil); err != nil {
		return nil, &Invalid{err}
	}
	return out, nil
}

var errStale = errors.New("stale")

func (s *Store) change(ctx context.Context, id, label string, f func(head int, shot *treatment.Range, doc json.RawMessage) (json.RawMessage, error)) (*Revision, error) {
	var out *Revision
	err := s.within(ctx, func(tx *sqlx.Tx) error {
		shot, err := lock(ctx, tx, id)
		if err != nil {
			return err
		}
		var doc json.RawMessage
		if err := tx.GetContext(ctx, &doc, `select document from revisions where shot_id = $1 and number = $2`, id, shot.Head); err != nil {
			return err
		}
		if doc, err = treatment.Upgrade(doc); err != nil {
			return err
		}
		changed, err := f(shot.Head, shot.Range(), doc)
		if errors.Is(err, errStale) {
			now, err := s.one(ctx, tx, `where r.shot_id = $1 and r.number = $2`, id, shot.Head)
			if err != nil {
				return err
			}
			return &Stale{now}
		}
		if err != nil {
			return err
		}
		number := shot.Tip + 1
		if _, err := tx.ExecContext(ctx, `insert into revisions (shot_id, number, parent, label, document) values ($1, $2, $3, $4, $5)`,
			id, number, shot.Head, label, changed); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `update revisions set next = $3 where shot_id = $1 and number = $2`, id, shot.Head, number); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `update shots set head = $2, tip = $2 where id = $1`, id, number); err != nil {
			return err
		}
		out, err = s.one(ctx, tx, `where r.shot_id = $1 and r.number = $2`, id, number)
		return err
	})
	return out, err
}

// Undo moves to the revision before the one in force, Redo to the one that was
// left last. Where there is none they return the one in force.
func (s *Store) Undo(ctx context.Context, id string) (*Revision, error) {
	return s.move(ctx, id, "parent")
}
func (s *Store) Redo(ctx context.Context, id string) (*Revision, error) {
	return s.move(ctx, id, "next")
}

func (s *Store) move(ctx context.Context, id, to string) (*Revision, error) {
	var out *Revision
	err := s.within(ctx, func(tx *sqlx.Tx) error {
		if _, err := lock(ctx, tx, id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `update shots set head = coalesce((select `+to+` from revisions r where r.shot_id = id and r.number = head), head) where id = $1`, id)
		if err != nil {
			return err
		}
		out, err = s.one(ctx, tx, `where r.shot_id = $1 and r.number = (select head from shots where id = $1)`, id)
		return err
	})
	return out, err
}
