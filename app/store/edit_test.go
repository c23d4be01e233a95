package store_test

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/store"
)

// rename changes a removal's name, if it is called so now.
func rename(i int, to string) json.RawMessage {
	return json.RawMessage(fmt.Sprintf(`[{"op":"replace","path":"/removals/%d/name","value":%q}]`, i, to))
}

func fade(i int, to float64) json.RawMessage {
	return json.RawMessage(fmt.Sprintf(`[{"op":"replace","path":"/removals/%d/settle/opacity","value":%g}]`, i, to))
}

// A browser that had no answer sends an edit again, at once or after others: it is made once.
func TestAnEditThatIsSentAgainIsMadeOnce(t *testing.T) {
	s := withShot(t)
	_, err := s.Edit(ctx, "s", store.Change{From: 0, Patch: add("a"), Label: "Add"})
	require.NoError(t, err)
	const edits = 20 // two of one edit are seldom quite at once
	for e := range edits {
		var wait sync.WaitGroup
		numbers := make([]int, 12)
		for k := range numbers {
			wait.Go(func() {
				rev, err := s.Edit(
					ctx,
					"s",
					store.Change{
						From:  1 + e,
						Patch: rename(0, fmt.Sprint("once", e)),
						Label: "Rename",
						ID:    fmt.Sprint("e", e),
						Merge: true,
					},
				)
				if assert.NoError(t, err) {
					numbers[k] = rev.Number
				}
			})
		}
		wait.Wait()
		for _, n := range numbers {
			assert.Equal(t, 2+e, n)
		}
	}
	_, err = s.Edit(ctx, "s", store.Change{From: 1 + edits, Patch: rename(0, "later"), Label: "Rename"})
	require.NoError(t, err)
	rev, err := s.Edit(
		ctx,
		"s",
		store.Change{From: 1, Patch: rename(0, "once0"), Label: "Rename", ID: "e0", Merge: true},
	)
	require.NoError(t, err)
	assert.Equal(t, 2+edits, rev.Number)
	assert.Equal(t, "later", rev.Document.Removals[0].Name, "what came after it stands")
}

// Edits that wait in a browser were each made on top of the ones before: they arrive in any
// state of the server, and each makes only what it changed itself.
func TestEditsThatWaitedAreMerged(t *testing.T) {
	s := withShot(t)
	_, err := s.Edit(ctx, "s", store.Change{From: 0, Patch: add("a"), Label: "Add"})
	require.NoError(t, err)
	// Somebody else adds a removal before that one meanwhile: places in the list move.
	_, err = s.Edit(
		ctx,
		"s",
		store.Change{
			From:  1,
			Patch: json.RawMessage(`[{"op":"add","path":"/removals/0","value":` + removal("b") + `}]`),
			Label: "Add",
		},
	)
	require.NoError(t, err)
	first := store.Change{From: 1, Patch: rename(0, "mine"), Label: "Rename", ID: "e1", Merge: true}
	second := store.Change{From: 1, Before: first.Patch, Patch: fade(0, 0.5), Label: "Opacity", ID: "e2", Merge: true}
	both := json.RawMessage(
		`[` + string(first.Patch[1:len(first.Patch)-1]) + `,` + string(second.Patch[1:len(second.Patch)-1]) + `]`,
	)
	third := store.Change{From: 1, Before: both, Patch: rename(0, "mine again"), Label: "Rename", ID: "e3", Merge: true}
	for _, c := range []store.Change{first, second, third} {
		rev, err := s.Edit(ctx, "s", c)
		require.NoError(t, err)
		assert.Equal(t, []string{"b", "a"}, names(rev))
		assert.Equal(t, "b", rev.Document.Removals[0].Name, "what others made is not touched")
	}
	head, err := s.Head(ctx, "s")
	require.NoError(t, err)
	assert.Equal(t, "mine again", head.Document.Removals[1].Name)
	assert.InDelta(t, 0.5, head.Document.Removals[1].Settle.Opacity, 1e-12)

	// The same thing changed by another: refused with the newer state, and nothing is changed.
	_, err = s.Edit(
		ctx,
		"s",
		store.Change{From: 1, Patch: rename(0, "too late"), Label: "Rename", ID: "e4", Merge: true},
	)
	var stale *store.Stale
	require.True(t, errors.As(err, &stale), "%v", err)
	assert.Equal(t, head.Number, stale.Now.Number)
	// Taken away by another: as well.
	_, err = s.Edit(
		ctx,
		"s",
		store.Change{
			From:  head.Number,
			Patch: json.RawMessage(`[{"op":"remove","path":"/removals/1"}]`),
			Label: "Remove",
		},
	)
	require.NoError(t, err)
	_, err = s.Edit(ctx, "s", store.Change{From: head.Number, Patch: fade(1, 0.2), Label: "Opacity", Merge: true})
	require.True(t, errors.As(err, &stale), "%v", err)
	// Without being asked to, nothing is merged.
	_, err = s.Edit(ctx, "s", store.Change{From: 1, Patch: fade(0, 0.2), Label: "Opacity"})
	require.True(t, errors.As(err, &stale), "%v", err)
}

// Errors that mean nothing but that the database is away; and those that look like it.
func TestWhatCountsAsTheDatabaseBeingAway(t *testing.T) {
	_, err := os.ReadFile("no such file")
	for _, not := range []error{nil, err, io.EOF, syscall.EPIPE, sql.ErrNoRows, &pgconn.PgError{Code: "22003"},
		context.Canceled} {
		assert.False(t, store.Away(not), "%v", not)
	}
	for _, away := range []error{driver.ErrBadConn, sql.ErrConnDone, &store.ConnectionError{Err: io.EOF},
		&pgconn.PgError{Code: "57P01"}, &pgconn.PgError{Code: "08006"}} {
		assert.True(t, store.Away(fmt.Errorf("save: %w", away)), "%v", away)
		assert.True(t, store.Foreign(fmt.Errorf("save: %w", away)), "%v", away)
	}
}

// What a failed save had remembered is not taken for what is in the database.
func TestAFailedSaveLeavesNothingBehind(t *testing.T) {
	s := withShot(t)
	rev, err := s.Edit(ctx, "s", store.Change{From: 0, Patch: add("a"), Label: "Add"})
	require.NoError(t, err)
	_, err = s.Edit(
		ctx,
		"s",
		store.Change{From: rev.Number, Patch: rename(0, "x"), Label: "bad \x00 label", Merge: true},
	)
	require.Error(t, err)
	now, err := s.Head(ctx, "s")
	require.NoError(t, err)
	assert.Equal(t, rev.Number, now.Number)
	assert.Equal(t, "a", now.Document.Removals[0].Name)
	rev, err = s.Edit(ctx, "s", store.Change{From: rev.Number, Patch: rename(0, "y"), Label: "Rename"})
	require.NoError(t, err)
	assert.Equal(t, "y", rev.Document.Removals[0].Name)
}
