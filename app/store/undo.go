package store

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/jmoiron/sqlx"

	"jardin/app/document"
	"jardin/core/treatment"
)

// own returns the last change in the line that leads to a revision that whoever asks made and
// has not taken back, and the last undo of theirs after which they did nothing else.
//
// Own is what was done in the same window; what was done in another window of the same
// browser that is closed now; and what was done before windows were told apart.
func (s *Store) own(
	ctx context.Context,
	q sqlx.QueryerContext,
	shot string,
	head int,
) (undo *revisionRow, redo *redoing, err error) {
	line, err := s.line(ctx, q, shot, head)
	if err != nil {
		return nil, nil, err
	}
	me := ActorOf(ctx)
	var undos []*revisionRow
	var redos []redoing
	for i := range line {
		r := &line[i]
		if !r.Parent.Valid || !s.isOwn(me, r) {
			continue
		}
		if !r.Undoes.Valid {
			undos, redos = append(undos, r), nil
			continue
		}
		of := int(r.Undoes.Int64)
		if k := slices.IndexFunc(undos, func(u *revisionRow) bool { return u.Number == of }); k >= 0 {
			redos = append(redos, redoing{r, undos[k].Label})
			undos = slices.Delete(undos, k, k+1)
		} else if k := slices.IndexFunc(redos, func(u redoing) bool { return u.Number == of }); k >= 0 {
			redos = slices.Delete(redos, k, k+1)
			undos = append(undos, r) // done again: it can be taken back again
		}
	}
	if n := len(undos); n > 0 {
		undo = undos[n-1]
	}
	if n := len(redos); n > 0 {
		redo = &redos[n-1]
	}
	return undo, redo, nil
}

// redoing is a revision that took a change back, and what that change was.
type redoing struct {
	*revisionRow
	words string
}

// reachBack is how many changes are looked through for one's own.
const reachBack = 1000

// line returns the revisions that lead to one, the oldest first. It is remembered: a stroke
// must not wait for it.
func (s *Store) line(ctx context.Context, q sqlx.QueryerContext, shot string, head int) ([]revisionRow, error) {
	if line, ok := s.lines.get(shot, head); ok {
		return line, nil
	}
	var rows []revisionRow
	err := sqlx.SelectContext(ctx, q, &rows, `with recursive line as (
			select `+revisionColumns+`, 0 as depth from revisions where shot_id = $1 and number = $2
			union all
			select r.number, r.parent, r.label, r.created_at, r.author, r.client, r.browser, r.undoes, r.patched, l.depth + 1
			from line l join revisions r on r.shot_id = $1 and r.number = l.parent where l.depth < $3
		) select `+revisionColumns+` from line order by depth desc`, shot, head, reachBack)
	if err != nil {
		return nil, fmt.Errorf("read the history: %w", err)
	}
	s.lines.set(shot, rows)
	return rows, nil
}

// anybody is the window of changes that were made before windows were told apart.
const anybody = "*"

func (s *Store) isOwn(me Actor, r *revisionRow) bool {
	switch {
	case r.Client == anybody || r.Client == me.Window:
		return true
	case r.Browser != "" && r.Browser == me.Browser:
		return s.IsOpen == nil || !s.IsOpen(r.Client)
	}
	return false
}

// Undo takes back the last change of whoever asks, whatever others did since, as a revision of
// its own; Redo brings again what was taken back last. Where there is nothing they return the
// revision in force. A change that others have built on is refused with a *Touched.
func (s *Store) Undo(ctx context.Context, id string) (*Revision, error) {
	return s.takeBack(ctx, id, func(undo *revisionRow, _ *redoing) (*revisionRow, string) {
		if undo == nil {
			return nil, ""
		}
		return undo, "Undo: " + undo.Label
	})
}

func (s *Store) Redo(ctx context.Context, id string) (*Revision, error) {
	return s.takeBack(ctx, id, func(_ *revisionRow, redo *redoing) (*revisionRow, string) {
		if redo == nil {
			return nil, ""
		}
		return redo.revisionRow, redo.words
	})
}

var errNothing = errors.New("there is nothing to take back")

func (s *Store) takeBack(
	ctx context.Context,
	id string,
	choose func(*revisionRow, *redoing) (*revisionRow, string),
) (*Revision, error) {
	var undoes int
	var label string
	rev, err := s.change(ctx, id, "", &undoes, func(at *state) (*treatment.Document, []document.Operation, error) {
		undo, redo, err := s.own(ctx, s.db, id, at.shot.Head)
		if err != nil {
			return nil, nil, err
		}
		var of *revisionRow
		if of, label = choose(undo, redo); of == nil {
			return nil, nil, errNothing
		}
		undoes, at.label = of.Number, label
		after, err := s.document(ctx, s.db, id, of.Number)
		if err != nil {
			return nil, nil, err
		}
		before, err := s.document(ctx, s.db, id, int(of.Parent.Int64))
		if err != nil {
			return nil, nil, err
		}
		if at.shot.Head == of.Number {
			return before.doc, nil, nil // nothing came after it
		}
		doc, err := merged(after.doc, before.doc, at.saved.doc, at.shot.Range())
		if err != nil {
			return nil, nil, &Touched{of.Label, s.since(ctx, id, at.shot.Head, of)}
		}
		return doc, nil, nil
	})
	if errors.Is(err, errNothing) {
		return s.Head(ctx, id)
	}
	return rev, err
}

// merged makes on theirs the change that leads from base to ours; it must leave a treatment
// that is valid.
func merged(base, ours, theirs *treatment.Document, shot *treatment.Range) (*treatment.Document, error) {
	var trees [3]any
	for i, doc := range []*treatment.Document{base, ours, theirs} {
		var err error
		if trees[i], err = document.Tree(doc); err != nil {
			return nil, err
		}
	}
	out, err := document.Merge(trees[0], trees[1], trees[2])
	if err != nil {
		return nil, err
	}
	return document.FromTree(out, shot)
}

// since returns who made the last change after a revision that is not whoever's asks.
func (s *Store) since(ctx context.Context, shot string, head int, of *revisionRow) string {
	line, err := s.line(ctx, s.db, shot, head)
	if err != nil {
		return ""
	}
	for i := len(line) - 1; i >= 0 && line[i].Number > of.Number; i-- {
		if line[i].Client != of.Client && line[i].Author != "" {
			return line[i].Author
		}
	}
	return ""
}

// GoBack puts an earlier state in force again, as a new one.
func (s *Store) GoBack(ctx context.Context, id string, to int) (*Revision, error) {
	return s.change(
		ctx,
		id,
		fmt.Sprintf("Back to state %d", to),
		nil,
		func(at *state) (*treatment.Document, []document.Operation, error) {
			old, err := s.document(ctx, s.db, id, to)
			if err != nil {
				return nil, nil, err
			}
			return old.doc, nil, nil
		},
	)
}
