package store_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/store"
	"jardin/app/store/storetest"
	"jardin/core/colorspace"
	"jardin/core/treatment"
)

// testdata/first.sql is a database as the first version left it, with a shot, an edit
// of a treatment of version 1, an artifact and a render. Nothing of it may be lost on
// the way to now.
func TestMigrationsFromTheFirstVersionOn(t *testing.T) {
	ctx := context.Background()
	url := storetest.URL(t)
	script, err := os.ReadFile("testdata/first.sql")
	require.NoError(t, err)
	c, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	_, err = c.Exec(ctx, string(script))
	require.NoError(t, err)
	require.NoError(t, c.Close(ctx))
	for range 2 { // the second time there is nothing to do
		s, err := store.Open(ctx, url)
		require.NoError(t, err)
		shots, err := s.Shots(ctx)
		require.NoError(t, err)
		require.Len(t, shots, 1)
		assert.Equal(t, "wall_a", shots[0].Name)
		assert.Equal(t, 1.0, shots[0].Aspect)
		assert.Equal(t, colorspace.BT709Primaries, shots[0].Primaries)
		rev, err := s.Head(ctx, shots[0].ID)
		require.NoError(t, err)
		assert.Equal(t, 1, rev.Number)
		require.Len(t, rev.Document.Removals, 1)
		assert.Equal(t, "Dots", rev.Document.Removals[0].Name)
		assert.Equal(t, treatment.Version, rev.Document.Version)
		blob, err := s.Artifact(ctx, "2c26b46b68ffc68ff99b453c1d30413413422d706483bfa0f98a5e886266e7ae")
		require.NoError(t, err)
		assert.Equal(t, "foo", string(blob))
		tasks, err := s.AllTasks(ctx, shots[0].ID)
		require.NoError(t, err)
		require.Len(t, tasks, 1)
		assert.Equal(t, "done", tasks[0].State)
		n, err := s.NextDelivery(ctx, shots[0].ID)
		require.NoError(t, err)
		assert.Positive(t, n)
		s.Close()
	}
}

// Revisions that a program of version 4 stored as patches are read as that program meant them,
// and what comes on top is of this version.
func TestPatchesOfAnEarlierVersionAreReplayedAsSuch(t *testing.T) {
	url := storetest.URL(t)
	s := withShotAt(t, url)
	c, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer c.Close(ctx)
	stroke := `{"id":"%s","mode":"colour","home":1005,"size":9,"hardness":1,"opacity":1,"colour":[1,0,0],"path":{"points":[[3,4]]}}`
	whole := `{"format":"jardin/treatment","version":4,"tracks":[],"removals":[{"id":"a","name":"a","range":{"first":1001,"last":1010},"reference":1005,
		"mark":{"outlines":[]},"follow":{},"fill":{"sources":[{"id":"p","name":"p","kind":"plate","frame":1005,"strokes":[` + fmt.Sprintf(
		stroke,
		"one",
	) + `]}]},"settle":{"opacity":1}}]}`
	for n, row := range []struct{ document, patch any }{{whole, nil},
		{nil, `[{"op":"add","path":"/removals/0/fill/sources/0/strokes/-","value":` + fmt.Sprintf(stroke, "two") + `}]`},
		{nil, `[{"op":"replace","path":"/removals/0/fill/sources/0/whole","value":true},{"op":"remove","path":"/removals/0/fill/sources/0/strokes/0"}]`}} {
		if n == 2 { // what is not there yet is added
			row.patch = strings.Replace(row.patch.(string), `"replace"`, `"add"`, 1)
		}
		_, err := c.Exec(
			ctx,
			`insert into revisions (shot_id, number, parent, label, document, patch, patched) values ('s', $1, $2, 'old', $3, $4, 10)`,
			n+1,
			n,
			row.document,
			row.patch,
		)
		require.NoError(t, err)
	}
	_, err = c.Exec(ctx, `update shots set head = 3, tip = 3 where id = 's'`)
	require.NoError(t, err)
	ids := func(rev *store.Revision, err error) (out []string) {
		require.NoError(t, err)
		require.Equal(t, treatment.Version, rev.Document.Version)
		for _, x := range rev.Document.Removals[0].Fill.Sources[0].Strokes() {
			out = append(out, x.ID)
		}
		return out
	}
	assert.Equal(t, []string{"one"}, ids(s.Revision(ctx, "s", 1)))
	assert.Equal(t, []string{"one", "two"}, ids(s.Revision(ctx, "s", 2)))
	assert.Equal(t, []string{"two"}, ids(s.Head(ctx, "s")))
	rev, _, err := s.AddStroke(
		ctx,
		"s",
		"a",
		treatment.Source{ID: "p"},
		treatment.Stroke{
			ID:      "three",
			Mode:    "colour",
			Home:    1005,
			Size:    9,
			Opacity: 1,
			Colour:  &[3]float64{},
			Path:    &treatment.Path{Points: [][]float64{{1, 2}}},
		},
	)
	require.NoError(t, err)
	require.True(t, rev.Document.Removals[0].Fill.Sources[0].Plate.Whole)
	_, err = s.Edit(
		ctx,
		"s",
		store.Change{
			From:  rev.Number,
			Label: "Rename",
			Patch: []byte(`[{"op":"replace","path":"/removals/0/name","value":"b"}]`),
		},
	)
	require.NoError(t, err)
	again, err := store.Open(ctx, url) // nothing is remembered
	require.NoError(t, err)
	defer again.Close()
	assert.Equal(t, []string{"two", "three"}, ids(again.Head(ctx, "s")))
	assert.Equal(t, []string{"one", "two"}, ids(again.Revision(ctx, "s", 2)))
	undone, err := again.Undo(ctx, "s")
	require.NoError(t, err)
	assert.Equal(t, "a", undone.Document.Removals[0].Name)
}
