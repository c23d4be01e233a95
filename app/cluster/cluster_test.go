package cluster_test

import (
	"context"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
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

	first, err := cluster.Start(home)
	require.NoError(t, err)
	require.NoError(t, first.Create("garden"))
	require.NoError(t, first.Create("garden"), "a second time it is there already")
	ctx := context.Background()
	c, err := pgx.Connect(ctx, first.URL("garden"))
	require.NoError(t, err)
	_, err = c.Exec(ctx, "create table kept (n int); insert into kept values (42)")
	require.NoError(t, err)
	c.Close(ctx)

	second, err := cluster.Start(home)
	require.NoError(t, err)
	assert.False(t, second.Started, "a running cluster is used as it is")
	assert.Equal(t, first.URL("garden"), second.URL("garden"))
	require.NoError(t, first.Stop())

	again, err := cluster.Start(home)
	require.NoError(t, err)
	defer again.Stop()
	assert.Equal(t, first.URL("garden"), again.URL("garden"))
	c, err = pgx.Connect(ctx, again.URL("garden"))
	require.NoError(t, err)
	defer c.Close(ctx)
	var n int
	require.NoError(t, c.QueryRow(ctx, "select n from kept").Scan(&n))
	assert.Equal(t, 42, n)
}

// Nobody but the user whose program this is comes in, and nothing listens on the network:
// also where an older program had let everybody in.
func TestNobodyElseComesIn(t *testing.T) {
	dir, err := os.MkdirTemp("", "jardin-cluster-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	home := filepath.Join(dir, "postgres")
	first, err := cluster.Start(home)
	require.NoError(t, err)
	require.NoError(t, first.Stop())
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(home, "pg_hba.conf"),
			[]byte("local all all trust\nhost all all 0.0.0.0/0 trust\n"),
			0o600,
		),
	)
	c, err := cluster.Start(home)
	require.NoError(t, err)
	defer c.Stop()
	ctx := context.Background()
	mine, err := pgx.Connect(ctx, c.URL("postgres"))
	require.NoError(t, err)
	defer mine.Close(ctx)
	var checks, addresses string
	require.NoError(t, mine.QueryRow(ctx, "show data_checksums").Scan(&checks))
	assert.Equal(t, "on", checks)
	require.NoError(t, mine.QueryRow(ctx, "show listen_addresses").Scan(&addresses))
	assert.Empty(t, addresses)
	var rules int
	require.NoError(
		t,
		mine.QueryRow(ctx, "select count(*) from pg_hba_file_rules where auth_method <> 'peer'").Scan(&rules),
	)
	assert.Zero(t, rules)
	_, err = pgx.Connect(ctx, strings.Replace(c.URL("postgres"), "user=jardin", "user=postgres", 1))
	assert.Error(t, err, "no other role")

	if os.Geteuid() != 0 {
		return
	}
	nobody, err := user.Lookup("nobody")
	require.NoError(t, err)
	uid, _ := strconv.Atoi(nobody.Uid)
	psql := exec.Command("psql", c.URL("postgres"), "-c", "select 1")
	psql.Dir, psql.SysProcAttr = "/", &syscall.SysProcAttr{
		Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(uid)},
	}
	out, err := psql.CombinedOutput()
	assert.Error(t, err, "another user of the machine: %s", out)
}
