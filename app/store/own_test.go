package store_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/app/store"
	"jardin/core/treatment"
)

func as(name, window string) context.Context {
	return store.WithActor(ctx, store.Actor{Name: name, Window: window, Browser: "b" + window})
}

// Two windows: each takes back its own last change, whatever the other did since.
func TestUndoIsOnesOwn(t *testing.T) {
	s := withShot(t)
	s.IsOpen = func(string) bool { return true }
	mara, tom := as("Mara", "m"), as("Tom", "t")
	head := func(who context.Context) *store.Revision {
		r, err := s.Head(who, "s")
		require.NoError(t, err)
		return r
	}
	edit := func(who context.Context, patch, label string) {
		_, err := s.Edit(who, "s", store.Change{From: head(who).Number, Patch: json.RawMessage(patch), Label: label})
		require.NoError(t, err)
	}
	edit(mara, string(add("a")), "Add a")
	edit(tom, string(add("b")), "Add b")
	edit(mara, string(add("c")), "Add c")
	edit(tom, string(add("d")), "Add d")
	assert.Equal(t, "Add c", head(mara).Undo)
	assert.Equal(t, "Add d", head(tom).Undo)

	back, err := s.Undo(mara, "s")
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b", "d"}, names(back), "hers, not the last")
	assert.Equal(t, "Add c", back.Redo)
	assert.Equal(t, "Add a", back.Undo)
	back, err = s.Undo(mara, "s")
	require.NoError(t, err)
	assert.Equal(t, []string{"b", "d"}, names(back))
	assert.Equal(t, "Add d", head(tom).Undo, "what she takes back is none of his")
	assert.Empty(t, head(tom).Redo)
	back, err = s.Undo(mara, "s")
	require.NoError(t, err)
	assert.Equal(t, []string{"b", "d"}, names(back), "she has done nothing else")
	for _, want := range [][]string{{"a", "b", "d"}, {"a", "b", "c", "d"}} {
		back, err = s.Redo(mara, "s")
		require.NoError(t, err)
		assert.Equal(t, want, names(back), "to where they stood")
	}
	assert.Empty(t, back.Redo)
	assert.Equal(t, "Add c", back.Undo)

	// The same thing changed by both: that is said, and nothing is changed.
	edit(mara, `[{"op":"add","path":"/removals/0/notes","value":"hers"}]`, "Write a note")
	edit(tom, `[{"op":"add","path":"/removals/0/notes","value":"his"}]`, "Write another")
	_, err = s.Undo(mara, "s")
	var touched *store.Touched
	require.ErrorAs(t, err, &touched)
	assert.Contains(t, err.Error(), "Tom changed the same thing since")
	assert.Equal(t, "his", head(tom).Document.Removals[0].Notes)
	// And a removal that the other has worked in does not go.
	edit(mara, string(add("e")), "Add e")
	edit(tom, `[{"op":"add","path":"/removals/4/notes","value":"his too"}]`, "Note on e")
	_, err = s.Undo(mara, "s")
	require.ErrorAs(t, err, &touched)

	states, err := s.History(mara, "s", 0, 3)
	require.NoError(t, err)
	require.Len(t, states, 3)
	assert.Equal(t, "Tom", states[0].Author)
	assert.True(t, states[0].InForce)
	assert.False(t, states[0].Own)
	assert.True(t, states[1].Own)
	older, err := s.History(mara, "s", states[2].Number, 100)
	require.NoError(t, err)
	assert.Equal(t, states[2].Number-1, older[0].Number)
	assert.Equal(t, 0, older[len(older)-1].Number)
}

// What was done in a window that is closed is taken back from another of the same browser.
func TestAClosedWindowsChangesAreTheBrowsers(t *testing.T) {
	s := withShot(t)
	open := map[string]bool{"old": true, "new": true}
	s.IsOpen = func(w string) bool { return open[w] }
	old := store.WithActor(ctx, store.Actor{Window: "old", Browser: "one"})
	fresh := store.WithActor(ctx, store.Actor{Window: "new", Browser: "one"})
	_, err := s.Edit(old, "s", store.Change{From: 0, Patch: add("a"), Label: "Add a"})
	require.NoError(t, err)
	r, err := s.Head(fresh, "s")
	require.NoError(t, err)
	assert.Empty(t, r.Undo, "it is open beside")
	open["old"] = false
	r, err = s.Head(fresh, "s")
	require.NoError(t, err)
	assert.Equal(t, "Add a", r.Undo)
}

// Random edits, undos and redos by three people: every revision reads the same from memory
// and from what is stored, and what is stored grows with what was changed, not with what was
// there.
func TestRevisionsAreStoredAsWhatChanged(t *testing.T) {
	demotest.Share(t, 4)
	url := databaseURL(t)
	s := withShotAt(t, url)
	r := rand.New(rand.NewPCG(5, 6))
	blobs := map[int]string{}
	keep := func(rev *store.Revision, err error) {
		require.NoError(t, err)
		blob, err := json.Marshal(rev.Document)
		require.NoError(t, err)
		if before, ok := blobs[rev.Number]; ok {
			require.Equal(t, before, string(blob))
		}
		blobs[rev.Number] = string(blob)
	}
	_, err := s.Amend(ctx, "s", "Begin", func(d *treatment.Document) error {
		var one treatment.Removal
		if err := json.Unmarshal([]byte(removal("base")), &one); err != nil {
			return err
		}
		d.Removals = append(d.Removals, one)
		return nil
	})
	require.NoError(t, err)
	source := treatment.Source{ID: "p", Name: "plate", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: 1005}}
	for k := range 300 {
		who := as(fmt.Sprint("p", k%3), fmt.Sprint("w", k%3))
		switch r.IntN(6) {
		case 0:
			rev, err := s.Undo(who, "s")
			if _, isTouched := err.(*store.Touched); !isTouched {
				keep(rev, err)
			}
		case 1:
			rev, err := s.Redo(who, "s")
			if _, isTouched := err.(*store.Touched); !isTouched {
				keep(rev, err)
			}
		case 2:
			head, err := s.Head(ctx, "s")
			require.NoError(t, err)
			rev, err := s.Edit(
				who,
				"s",
				store.Change{
					From: head.Number,
					Patch: json.RawMessage(
						fmt.Sprintf(`[{"op":"replace","path":"/removals/0/name","value":"n%d"}]`, k),
					),
					Label: "Rename",
				},
			)
			keep(rev, err)
		default:
			rev, _, err := s.AddStroke(
				who,
				"s",
				"base",
				source,
				treatment.Stroke{ID: fmt.Sprint("s", k), Mode: "colour", Home: 1005, Size: 10, Hardness: 1, Opacity: 1,
					Colour: &[3]float64{1, 0, 0}, Path: &treatment.Path{Artifact: fmt.Sprintf("%064d", k)}},
			)
			keep(rev, err)
		}
	}
	again, err := store.Open(ctx, url)
	require.NoError(t, err)
	defer again.Close()
	for n, want := range blobs {
		rev, err := again.Revision(ctx, "s", n)
		require.NoError(t, err)
		blob, err := json.Marshal(rev.Document)
		require.NoError(t, err)
		require.Equal(t, want, string(blob), "revision %d", n)
	}
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	var stored, whole int
	require.NoError(
		t,
		conn.QueryRow(ctx, `select sum(coalesce(length(document::text), 0) + coalesce(length(patch::text), 0)), count(document) from revisions`).
			Scan(&stored, &whole),
	)
	changed := 0
	for _, b := range blobs {
		changed += len(b)
	}
	t.Logf(
		"%d revisions: %d kB stored, %d of them whole; all whole they would be %d kB",
		len(blobs),
		stored>>10,
		whole,
		changed>>10,
	)
	assert.Less(t, stored, changed/8)
}

func BenchmarkStrokeOnTopOf(b *testing.B) {
	for _, many := range []int{10, 1000} {
		b.Run(fmt.Sprint(many), func(b *testing.B) {
			s := withShotAt(b, databaseURL(b))
			_, err := s.Amend(ctx, "s", "Begin", func(d *treatment.Document) error {
				var one treatment.Removal
				if err := json.Unmarshal([]byte(removal("base")), &one); err != nil {
					return err
				}
				src := treatment.Source{
					ID:    "p",
					Name:  "plate",
					Kind:  treatment.HeldPlate,
					Plate: &treatment.Plate{Frame: 1005},
				}
				for k := range many {
					src.Plate.Strokes = append(src.Plate.Strokes, stroke(fmt.Sprint("x", k)))
				}
				one.Fill.Sources = append(one.Fill.Sources, src)
				d.Removals = append(d.Removals, one)
				return nil
			})
			require.NoError(b, err)
			k := 0
			for b.Loop() {
				k++
				_, _, err := s.AddStroke(ctx, "s", "base", treatment.Source{ID: "p"}, stroke(fmt.Sprint("y", k)))
				require.NoError(b, err)
			}
		})
	}
}

func stroke(id string) treatment.Stroke {
	return treatment.Stroke{
		ID:       id,
		Mode:     "clone",
		Home:     1005,
		Size:     10,
		Hardness: 1,
		Opacity:  1,
		From:     &treatment.From{Offset: treatment.Vec{30, 4}},
		Path:     &treatment.Path{Artifact: fmt.Sprintf("%064x", id)[:64]},
	}
}
