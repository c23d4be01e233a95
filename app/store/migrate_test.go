package store_test

import (
	"context"
	"os"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/store"
	"jardin/app/store/storetest"
	"jardin/core/colorspace"
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
		assert.Equal(t, 4, rev.Document.Version)
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
