package cluster_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/cluster"
)

func TestAClusterIsMadeSharedStoppedAndFoundAgain(t *testing.T) {
	// Not t.TempDir: the database's user must be able to reach it.
	dir, err := os.MkdirTemp("", "jardin-cluster-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	home := filepath.Join(dir, "postgres")

	first, err := cluster.Start(home, 0)
	require.NoError(t, err)
	require.NoError(t, first.Create("garden"))
	require.NoError(t, first.Create("garden"), "a second time it is there already")
	ctx := context.Background()
	c, err := pgx.Connect(ctx, first.URL("garden"))
	require.NoError(t, err)
	_, err = c.Exec(ctx, "create table kept (n int); insert into kept values (42)")
	require.NoError(t, err)
	c.Close(ctx)

	second, err := cluster.Start(home, 0)
	require.NoError(t, err)
	assert.False(t, second.Started, "a running cluster is used as it is")
	assert.Equal(t, first.URL("garden"), second.URL("garden"))
	require.NoError(t, first.Stop())

	again, err := cluster.Start(home, 0)
	require.NoError(t, err)
	defer again.Stop()
	assert.Equal(t, first.URL("garden"), again.URL("garden"), "it keeps its port")
	c, err = pgx.Connect(ctx, again.URL("garden"))
	require.NoError(t, err)
	defer c.Close(ctx)
	var n int
	require.NoError(t, c.QueryRow(ctx, "select n from kept").Scan(&n))
	assert.Equal(t, 42, n)
}
