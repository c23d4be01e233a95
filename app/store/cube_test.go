package store_test

import (
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/store"
	"jardin/app/store/storetest"
)

// A shot is looked at through its own file, else through its show's, unless it has none on purpose; what is set for a show is
// every shot's of it, and of no other.
func TestCubesOfShowsAndShots(t *testing.T) {
	url := storetest.URL(t)
	s := withShotAt(t, url)
	for _, x := range [][2]string{{"second", "show"}, {"third", "another"}} {
		require.NoError(t, s.AddShot(ctx, &store.Shot{
			ID: x[0], Show: x[1], Name: x[0], First: 1, Last: 2, Width: 6, Height: 4, Depth: 8, RateNum: 24, RateDen: 1, Transfer: "srgb", State: "ready",
		}))
	}
	is := func(shot, name, of string) {
		t.Helper()
		c, err := s.CubeOf(ctx, shot)
		require.NoError(t, err)
		assert.Equal(t, [2]string{name, of}, [2]string{c.Name, c.For}, shot)
		if name == "" {
			assert.Empty(t, c.Hash)
			return
		}
		data, err := s.CubeFile(ctx, c.Hash)
		require.NoError(t, err)
		assert.Equal(t, "of "+name, string(data))
	}
	set := func(shot, of, name string) {
		t.Helper()
		require.NoError(t, s.SetCube(ctx, shot, of, name, []byte("of "+name)))
	}
	is("s", "", "")
	set("s", store.ForShow, "a")
	is("s", "a", "show")
	is("second", "a", "show")
	is("third", "", "")
	set("second", store.ForShot, "b")
	is("second", "b", "shot")
	is("s", "a", "show")
	require.NoError(t, s.DropCube(ctx, "second", store.ForShot))
	is("second", "a", "show")
	require.NoError(t, s.DropCube(ctx, "second", store.ForShot))
	is("second", "", "shot")
	require.NoError(t, s.DropCube(ctx, "second", store.ForShot))
	is("second", "a", "show")
	set("second", store.ForShot, "b")
	set("second", store.ForShow, "c") // what is set from a shot for its show is what that shot is looked at through
	is("second", "c", "show")
	is("s", "c", "show")
	require.NoError(t, s.RenameShot(ctx, "second", "another", "second"))
	is("second", "", "")
	require.NoError(t, s.DropCube(ctx, "s", store.ForShow))
	is("s", "", "")
	assert.ErrorIs(t, s.SetCube(ctx, "none", store.ForShot, "x", []byte("x")), store.ErrNone)
	assert.ErrorIs(t, s.SetCube(ctx, "none", store.ForShow, "x", []byte("x")), store.ErrNone)
	assert.ErrorIs(t, s.DropCube(ctx, "none", store.ForShot), store.ErrNone)
	_, err := s.CubeFile(ctx, "none")
	assert.ErrorIs(t, err, store.ErrNone)

	// Files that nothing is looked at through go, but not one that was only just sent.
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	count := func() (n int) {
		require.NoError(t, conn.QueryRow(ctx, `select count(*) from cubes`).Scan(&n))
		return n
	}
	before := count()
	require.Greater(t, before, 2)
	_, err = conn.Exec(ctx, `update cubes set created_at = now() - interval '1 hour'`)
	require.NoError(t, err)
	set("third", store.ForShot, "d")
	is("third", "d", "shot")
	assert.Equal(t, 1, count())
	_, err = conn.Exec(ctx, `update cubes set created_at = now() - interval '1 hour'`)
	require.NoError(t, err)
	set("third", store.ForShot, "d") // sent anew
	is("third", "d", "shot")
}
