package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"jardin/app/document"
	"jardin/core/treatment"
)

// A Revision is one saved state of a shot's treatment.
type Revision struct {
	Number    int                 `json:"number"`
	Label     string              `json:"label" doc:"What was done to get here"`
	Author    string              `json:"author" doc:"Who did it, as far as that is known"`
	CreatedAt time.Time           `json:"createdAt"`
	Undo      string              `json:"undo" doc:"What undo would take back of what you did; empty if nothing"`
	Redo      string              `json:"redo" doc:"What redo would bring again; empty if nothing"`
	Stale     []string            `json:"stale" nullable:"false" doc:"Tracks that were measured before their region, points, motion or home changed"`
	Document  *treatment.Document `json:"document,omitempty" doc:"Left out of answers to edits for which only the least is wanted"`
}

// Brief returns the revision without its document.
func (rev *Revision) Brief() *Revision {
	out := *rev
	out.Document = nil
	return &out
}

// Stale says that an edit started from a revision that is no longer in force.
type Stale struct{ Now *Revision }

func (e *Stale) Error() string {
	return fmt.Sprintf(
		"the treatment was changed meanwhile and is now at revision %d; apply the change to that",
		e.Now.Number,
	)
}

// Invalid says that an edit would leave a treatment that is not valid.
type Invalid struct{ Err error }

func (e *Invalid) Error() string { return e.Err.Error() }
func (e *Invalid) Unwrap() error { return e.Err }

// Touched says that a change cannot be taken back by itself.
type Touched struct{ Label, By string }

func (e *Touched) Error() string {
	by := e.By
	if by == "" {
		by = "somebody else"
	}
	return fmt.Sprintf(
		"“%s” cannot be taken back by itself: %s changed the same thing since. Go back to an earlier state in the "+
			"history, or change it by hand",
		e.Label,
		by,
	)
}

// A revisionRow is what is told of a revision without its document.
type revisionRow struct {
	Number    int           `db:"number"`
	Parent    sql.NullInt64 `db:"parent"`
	Label     string        `db:"label"`
	CreatedAt time.Time     `db:"created_at"`
	Author    string        `db:"author"`
	Client    string        `db:"client"`
	Browser   string        `db:"browser"`
	Undoes    sql.NullInt64 `db:"undoes"`
	Patched   int           `db:"patched"`
}

const revisionColumns = `number, parent, label, created_at, author, client, browser, undoes, patched`

// A saved document, as it is remembered: it must not be changed.
type savedDocument struct {
	doc   *treatment.Document
	size  int  // about how many bytes it has
	whole bool // it was stored by an older program: what follows is stored whole
}

// document returns a revision's document: from memory, or from the nearest ancestor that is
// stored whole and the patches since.
func (s *Store) document(ctx context.Context, q sqlx.QueryerContext, shot string, number int) (savedDocument, error) {
	if d, ok := s.documents.get(shot, number); ok {
		return d, nil
	}
	var rows []struct {
		Number   int    `db:"number"`
		Document []byte `db:"document"`
		Patch    []byte `db:"patch"`
	}
	err := sqlx.SelectContext(ctx, q, &rows, `with recursive chain as (
			select number, parent, document, patch, 0 as depth from revisions where shot_id = $1 and number = $2
			union all
			select r.number, r.parent, r.document, r.patch, c.depth + 1 from chain c join revisions r on r.shot_id = $1 and r.number = c.parent where c.document is null
		) select number, document, patch from chain order by depth desc`, shot, number)
	if err != nil {
		return savedDocument{}, fmt.Errorf("read revision %d: %w", number, err)
	}
	if len(rows) == 0 {
		return savedDocument{}, ErrNone
	}
	blob := rows[0].Document
	if blob == nil {
		return savedDocument{}, fmt.Errorf("revision %d cannot be read: %w", rows[0].Number, errNoWhole)
	}
	// Patches were worked out from documents as the program of their time wrote them: they are
	// replayed before what they make is brought up to date.
	if blob, err = written(blob); err != nil {
		return savedDocument{}, fmt.Errorf("revision %d cannot be read: %w", rows[0].Number, err)
	}
	if len(rows) > 1 {
		var all []json.RawMessage
		for _, r := range rows[1:] {
			var some []json.RawMessage
			if err := json.Unmarshal(r.Patch, &some); err != nil {
				return savedDocument{}, fmt.Errorf("revision %d cannot be read: %w", r.Number, err)
			}
			all = append(all, some...)
		}
		patch, err := json.Marshal(all)
		if err != nil {
			return savedDocument{}, err
		}
		if blob, err = document.Replayed(blob, patch); err != nil {
			return savedDocument{}, fmt.Errorf("revision %d cannot be read: %w", number, err)
		}
	}
	var head struct{ Version int }
	out := savedDocument{}
	if json.Unmarshal(blob, &head) == nil {
		out.whole = head.Version != treatment.Version
	}
	if blob, err = treatment.Upgrade(blob); err != nil {
		return savedDocument{}, fmt.Errorf("revision %d cannot be read: %w", number, err)
	}
	doc := treatment.New()
	if err := json.Unmarshal(blob, doc); err != nil {
		return savedDocument{}, fmt.Errorf("revision %d cannot be read: %w", number, err)
	}
	out.doc, out.size = doc, len(blob)
	s.documents.put(shot, number, out)
	return out, nil
}

// written returns a document of this version as this program writes it, any other as it is.
func written(blob []byte) ([]byte, error) {
	var head struct{ Version int }
	if err := json.Unmarshal(blob, &head); err != nil || head.Version != treatment.Version {
		return blob, err
	}
	doc := treatment.New()
	if err := json.Unmarshal(blob, doc); err != nil {
		return nil, err
	}
	return json.Marshal(doc)
}

var errNoWhole = errors.New("no whole document lies before it")

// revision completes what is told of a revision for whoever asks.
func (s *Store) revision(
	ctx context.Context,
	q sqlx.QueryerContext,
	shot string,
	row *revisionRow,
	head bool,
) (*Revision, error) {
	d, err := s.document(ctx, q, shot, row.Number)
	if err != nil {
		return nil, err
	}
	out := &Revision{
		Number:    row.Number,
		Label:     row.Label,
		Author:    row.Author,
		CreatedAt: row.CreatedAt,
		Stale:     []string{},
		Document:  d.doc,
	}
	for i := range d.doc.Tracks {
		if d.doc.Stale(&d.doc.Tracks[i]) {
			out.Stale = append(out.Stale, d.doc.Tracks[i].ID)
		}
	}
	if head {
		undo, redo, err := s.own(ctx, q, shot, row.Number)
		if err != nil {
			return nil, err
		}
		if undo != nil {
			out.Undo = undo.Label
		}
		if redo != nil {
			out.Redo = redo.words
		}
	}
	return out, nil
}

// Head returns the revision in force.
func (s *Store) Head(ctx context.Context, shot string) (*Revision, error) {
	return s.one(ctx, s.db, shot, `(select head from shots where id = $1 and deleted_at is null)`)
}

// Revision returns a revision by its number.
func (s *Store) Revision(ctx context.Context, shot string, number int) (*Revision, error) {
	return s.one(ctx, s.db, shot, `$2`, number)
}

func (s *Store) one(ctx context.Context, q sqlx.QueryerContext, shot, number string, more ...any) (*Revision, error) {
	var row struct {
		revisionRow
		Head int `db:"head"`
	}
	err := sqlx.GetContext(
		ctx,
		q,
		&row,
		`select `+revisionColumns+`, (select head from shots where id = $1) as head from revisions where shot_id = $1 and number = `+number,
		append([]any{shot}, more...)...)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, err
	}
	return s.revision(ctx, q, shot, &row.revisionRow, row.Head == row.Number)
}

// A State is a revision in the history.
type State struct {
	Number    int       `json:"number"`
	Label     string    `json:"label"`
	Author    string    `json:"author"`
	Own       bool      `json:"own" doc:"It was made in this window"`
	CreatedAt time.Time `json:"createdAt"`
	InForce   bool      `json:"inForce"`
	Before    *int      `json:"before,omitempty" doc:"The state that it was made from"`
}

// History returns the states of a shot's treatment, the newest first, from before a number on;
// 0 for all. At most limit of them.
func (s *Store) History(ctx context.Context, shot string, before, limit int) ([]State, error) {
	var rows []struct {
		revisionRow
		Head int `db:"head"`
	}
	err := s.db.SelectContext(
		ctx,
		&rows,
		`select `+revisionColumns+`, (select head from shots where id = $1) as head from revisions
		where shot_id = $1 and ($2 = 0 or number < $2) order by number desc limit $3`,
		shot,
		before,
		limit,
	)
	if err != nil {
		return nil, err
	}
	me, out := ActorOf(ctx), []State{}
	for _, r := range rows {
		st := State{
			Number:    r.Number,
			Label:     r.Label,
			Author:    r.Author,
			CreatedAt: r.CreatedAt,
			InForce:   r.Number == r.Head,
			Own:       me.Window != "" && r.Client == me.Window,
		}
		if r.Parent.Valid {
			before := int(r.Parent.Int64)
			st.Before = &before
		}
		out = append(out, st)
	}
	return out, nil
}

// A Change is an edit of a treatment: a JSON Patch (RFC 6902) on a revision.
type Change struct {
	From  int             // number of the revision that it started from
	Patch json.RawMessage // what is changed
	Label string          // in words
	// ID is the name that the edit has where it was made; sent again under the same name it is
	// not made twice. Empty for none.
	ID string
	// Before is what was changed on that revision, but not saved yet, when the edit was made:
	// by edits that wait before it. Empty for nothing.
	Before json.RawMessage
	// Merge makes the change on the revision in force now, if that is another one, as far as
	// nobody else changed the same.
	Merge bool
}

// Edit applies a change to the revision that it started from and saves the outcome as a new
// revision. If that revision is no longer in force, and the change cannot be merged, it returns
// a *Stale with the one that is; if the outcome is not a valid treatment, an *Invalid. Nothing
// is changed then.
func (s *Store) Edit(ctx context.Context, id string, c Change) (*Revision, error) {
	if c.ID != "" {
		var made int
		err := s.db.GetContext(ctx, &made, `select number from revisions where shot_id = $1 and edit = $2`, id, c.ID)
		if err == nil {
			return s.Head(ctx, id) // it had arrived
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return nil, err
		}
	}
	rev, err := s.change(ctx, id, c.Label, nil, func(at *state) (*treatment.Document, []document.Operation, error) {
		at.edit = c.ID
		moved := at.shot.Head != c.From
		if moved && !c.Merge {
			return nil, nil, errStale
		}
		base := at.saved
		if moved {
			var err error
			if base, err = s.document(ctx, s.db, id, c.From); err != nil {
				return nil, nil, err
			}
		}
		blob, err := json.Marshal(base.doc)
		if err != nil {
			return nil, nil, err
		}
		before := base.doc
		if len(c.Before) > 0 {
			if blob, err = document.Patched(blob, c.Before); err != nil {
				return nil, nil, &Invalid{err}
			}
			before = treatment.New()
			if err := json.Unmarshal(blob, before); err != nil {
				return nil, nil, &Invalid{err}
			}
		}
		out, err := document.Patched(blob, c.Patch)
		if err != nil {
			return nil, nil, &Invalid{err}
		}
		doc, err := document.Parse(out, at.shot.Range())
		if err != nil {
			return nil, nil, &Invalid{err}
		}
		if !moved && len(c.Before) == 0 {
			return doc, nil, nil
		}
		if doc, err = merged(before, doc, at.saved.doc, at.shot.Range()); err != nil {
			return nil, nil, errStale
		}
		return doc, nil, nil
	})
	var refused *pgconn.PgError
	if errors.As(err, &refused) && refused.ConstraintName == "revisions_edit" {
		return s.Head(ctx, id) // it arrived twice at once
	}
	return rev, err
}

// Amend changes whatever treatment is in force now: for changes that stand by
// themselves, such as a finished track. f may be called more than once, as others may be
// faster, each time with a document of its own.
func (s *Store) Amend(ctx context.Context, id, label string, f func(*treatment.Document) error) (*Revision, error) {
	return s.change(ctx, id, label, nil, func(at *state) (*treatment.Document, []document.Operation, error) {
		blob, err := json.Marshal(at.saved.doc)
		if err != nil {
			return nil, nil, err
		}
		doc := treatment.New()
		if err := json.Unmarshal(blob, doc); err != nil {
			return nil, nil, err
		}
		if err := f(doc); err != nil {
			return nil, nil, err
		}
		// Made by our own types, it needs no schema.
		if err := doc.Validate(at.shot.Range()); err != nil {
			return nil, nil, &Invalid{err}
		}
		return doc, nil, nil
	})
}

// AddStroke adds a stroke to a source of a removal; a source that is not there yet is made.
// It takes no longer on top of many strokes than on top of few. The error is ErrGone if the
// removal is not there, and ErrKept with the revision in force if the stroke is there already.
func (s *Store) AddStroke(
	ctx context.Context,
	id, removal string,
	source treatment.Source,
	stroke treatment.Stroke,
) (*Revision, []document.Operation, error) {
	// Several who paint wait here, for a millisecond each, rather than all trying again whenever one was faster.
	turn, _ := s.painting.LoadOrStore(id, &sync.Mutex{})
	turn.(*sync.Mutex).Lock()
	defer turn.(*sync.Mutex).Unlock()
	var patch []document.Operation
	rev, err := s.change(
		ctx,
		id,
		"Paint a stroke",
		nil,
		func(at *state) (*treatment.Document, []document.Operation, error) {
			old := at.saved.doc
			it, i := old.Find(removal)
			if it == nil {
				return nil, nil, ErrGone
			}
			for j := range it.Fill.Sources {
				strokes := it.Fill.Sources[j].Strokes()
				for k := range strokes {
					if strokes[k].ID == stroke.ID {
						return nil, nil, ErrKept
					}
				}
			}
			// Everything on the way to the stroke is copied; what lies beside it is shared.
			doc := *old
			doc.Removals = append([]treatment.Removal{}, old.Removals...)
			into := &doc.Removals[i]
			into.Fill.Sources = append([]treatment.Source{}, into.Fill.Sources...)
			at0 := fmt.Sprintf("/removals/%d/fill/sources", i)
			found := -1
			for j := range into.Fill.Sources {
				if into.Fill.Sources[j].ID == source.ID {
					found = j
				}
			}
			if found < 0 {
				fresh := source.With([]treatment.Stroke{stroke})
				into.Fill.Sources = append(into.Fill.Sources, fresh)
				patch = []document.Operation{{Op: "add", Path: at0 + "/-", Value: fresh}}
				found = len(into.Fill.Sources) - 1
			} else {
				src := &into.Fill.Sources[found]
				strokes, list := src.Strokes(), fmt.Sprintf("%s/%d/%s/strokes", at0, found, src.Kind)
				if len(strokes) == 0 {
					patch = []document.Operation{{Op: "add", Path: list, Value: []treatment.Stroke{stroke}}}
				} else {
					patch = []document.Operation{{Op: "add", Path: list + "/-", Value: stroke}}
				}
				*src = src.With(append(strokes[:len(strokes):len(strokes)], stroke))
			}
			if into.Fill.Sources[found].StrokeList() == nil {
				return nil, nil, &Invalid{
					fmt.Errorf(
						"%q cannot be painted on; choose a clean plate, or paint that travels",
						into.Fill.Sources[found].Name,
					),
				}
			}
			if err := doc.ValidateStroke(at.shot.Range(), i, found,
				len(into.Fill.Sources[found].Strokes())-1); err != nil {
				return nil, nil, &Invalid{err}
			}
			return &doc, patch, nil
		},
	)
	if errors.Is(err, ErrKept) {
		rev, headErr := s.Head(ctx, id)
		return rev, nil, errors.Join(err, headErr)
	}
	return rev, patch, err
}

// ErrGone says that what was worked on was deleted meanwhile; ErrKept that what was sent is
// there already, sent again after a break.
var (
	ErrGone = errors.New("the removal was deleted while you painted")
	ErrKept = errors.New("the stroke is kept already")
)

// Try returns what a JSON Patch would make of a revision, and saves nothing.
func (s *Store) Try(ctx context.Context, id string, number int, patch json.RawMessage) (*treatment.Document, error) {
	saved, err := s.document(ctx, s.db, id, number)
	if err != nil {
		return nil, err
	}
	blob, err := json.Marshal(saved.doc)
	if err != nil {
		return nil, err
	}
	if blob, err = document.Patched(blob, patch); err != nil {
		return nil, &Invalid{err}
	}
	out := treatment.New()
	strict := json.NewDecoder(bytes.NewReader(blob))
	strict.DisallowUnknownFields()
	if err := strict.Decode(out); err != nil {
		return nil, &Invalid{err}
	}
	if err := out.Validate(nil); err != nil {
		return nil, &Invalid{err}
	}
	return out, nil
}

var errStale = errors.New("stale")

// A state is what a change is made from.
type state struct {
	shot  *Shot
	saved savedDocument
	label string // of the change, if it is only known when it is made
	edit  string // its name where it was made
}

// change saves what f makes of the treatment in force as a new revision. f works outside of
// any lock: only saving takes the shot's row, and if somebody else was faster it is called
// again, unless it says that its change is stale then.
func (s *Store) change(
	ctx context.Context,
	id, label string,
	undoes *int,
	f func(*state) (*treatment.Document, []document.Operation, error),
) (*Revision, error) {
	for tries := 0; ; tries++ {
		shot, err := s.Shot(ctx, id)
		if err != nil {
			return nil, err
		}
		saved, err := s.document(ctx, s.db, id, shot.Head)
		if err != nil {
			return nil, err
		}
		at := &state{shot: shot, saved: saved, label: label}
		doc, patch, err := f(at)
		if errors.Is(err, errStale) {
			now, err := s.Head(ctx, id)
			if err != nil {
				return nil, err
			}
			return nil, &Stale{now}
		}
		if err != nil {
			return nil, err
		}
		rev, err := s.save(ctx, at, undoes, doc, patch)
		if errors.Is(err, errStale) && tries < 50 {
			continue
		}
		return rev, err
	}
}

// save writes a new revision on top of the shot as it was read; errStale if it is not in
// force any more. Where no patch is given it is worked out.
func (s *Store) save(
	ctx context.Context,
	at *state,
	undoes *int,
	doc *treatment.Document,
	patch []document.Operation,
) (*Revision, error) {
	shot, old, label := at.shot, at.saved, at.label
	if patch == nil {
		var err error
		if patch, err = changeOf(old.doc, doc); err != nil {
			return nil, err
		}
	}
	change, err := json.Marshal(patch)
	if err != nil {
		return nil, err
	}
	me := ActorOf(ctx)
	row := revisionRow{
		Parent:  sql.NullInt64{Int64: int64(shot.Head), Valid: true},
		Label:   label,
		Author:  me.Name,
		Client:  me.Window,
		Browser: me.Browser,
	}
	if undoes != nil {
		row.Undoes = sql.NullInt64{Int64: int64(*undoes), Valid: true}
	}
	size := old.size + len(change)
	err = s.within(ctx, func(tx *sqlx.Tx) error {
		tip, err := s.inForce(ctx, tx, shot)
		if err != nil {
			return err
		}
		var patched int
		if err := tx.GetContext(ctx, &patched, `select patched from revisions where shot_id = $1 and number = $2`, shot.ID, shot.Head); err != nil {
			return err
		}
		row.Number, row.Patched = tip+1, patched+len(change)
		// As many bytes of patches as the document has: then it is stored whole once more. So all
		// revisions together take a few times what was changed, and reading one takes a few times
		// what reading the document does.
		var whole any
		var part any = change
		if row.Patched > max(size, 16<<10) || old.whole {
			blob, err := json.Marshal(doc)
			if err != nil {
				return err
			}
			whole, part, row.Patched, size = blob, nil, 0, len(blob)
		}
		err = tx.GetContext(
			ctx,
			&row.CreatedAt,
			`insert into revisions (shot_id, number, parent, label, document, patch, patched, author, client, browser, undoes, edit)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, nullif($12, '')) returning created_at`,
			shot.ID,
			row.Number,
			row.Parent,
			row.Label,
			whole,
			part,
			row.Patched,
			row.Author,
			row.Client,
			row.Browser,
			row.Undoes,
			at.edit,
		)
		if err != nil {
			return err
		}
		if _, err = tx.ExecContext(ctx, `update shots set head = $2, tip = $2 where id = $1`, shot.ID, row.Number); err != nil {
			return err
		}
		// Remembered before anybody else can see it: nobody has to read it.
		s.documents.put(shot.ID, row.Number, savedDocument{doc: doc, size: size})
		s.lines.add(shot.ID, row)
		return nil
	})
	if err != nil {
		if row.Number > 0 { // it was remembered, perhaps, and the commit failed
			s.documents.forget(shot.ID)
			s.lines.forget(shot.ID)
		}
		return nil, err
	}
	return s.revision(ctx, s.db, shot.ID, &row, true)
}

// changeOf returns the patch that makes one document of another, never nil.
func changeOf(from, to *treatment.Document) ([]document.Operation, error) {
	a, err := document.Tree(from)
	if err != nil {
		return nil, err
	}
	b, err := document.Tree(to)
	if err != nil {
		return nil, err
	}
	if patch := document.Difference(a, b); patch != nil {
		return patch, nil
	}
	return []document.Operation{}, nil
}

// inForce holds a shot for a transaction and returns its newest revision's number. It is
// errStale when another revision than that of the shot is in force.
func (s *Store) inForce(ctx context.Context, tx *sqlx.Tx, shot *Shot) (tip int, err error) {
	var now struct {
		Head int `db:"head"`
		Tip  int `db:"tip"`
	}
	err = tx.GetContext(
		ctx,
		&now,
		`select head, tip from shots where id = $1 and deleted_at is null for update`,
		shot.ID,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, ErrNone
	}
	if err == nil && now.Head != shot.Head {
		err = errStale
	}
	return now.Tip, err
}
