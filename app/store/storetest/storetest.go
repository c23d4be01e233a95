// Package storetest gives tests a real PostgreSQL.
package storetest

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"jardin/app/cluster"
	"jardin/app/demo/demotest"
	"jardin/app/jobs"
	"jardin/app/store"
)

// URL returns the address of an empty database that goes when the test ends. All
// tests share one cluster, which stays up for the next run.
func URL(t testing.TB) string {
	t.Helper()
	c, err := cluster.Start(filepath.Join(demotest.Root(), ".jardin", "test-postgres"))
	require.NoError(t, err)
	name := "test_" + jobs.NewID()
	ctx := context.Background()
	admin, err := pgx.Connect(ctx, c.URL("postgres"))
	require.NoError(t, err)
	_, err = admin.Exec(ctx, "create database "+name)
	require.NoError(t, err)
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
		defer cancel()
		_, err := admin.Exec(ctx, "drop database "+name+" with (force)")
		require.NoError(t, err)
		admin.Close(ctx)
	})
	return c.URL(name)
}

// Open returns a store on an empty database.
func Open(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(context.Background(), URL(t))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}
