// Package demotest gives tests the demo footage.
package demotest

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"runtime"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"jardin/app/demo"
)

// Footage returns the folder of the demo footage, and makes it if it is not there.
// Test programs that ask at the same time wait for the first.
func Footage(t testing.TB) string {
	t.Helper()
	dir := filepath.Join(Root(), ".jardin", "footage")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	lock, err := os.Create(filepath.Join(dir, ".lock"))
	require.NoError(t, err)
	defer lock.Close()
	require.NoError(t, syscall.Flock(int(lock.Fd()), syscall.LOCK_EX))
	require.NoError(t, demo.Write(context.Background(), dir, nil))
	return dir
}

// Root returns the repository's folder.
func Root() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Join(filepath.Dir(file), "../../..")
}

// Truth returns what the footage says of itself.
func Truth(t testing.TB) demo.Truth {
	t.Helper()
	blob, err := os.ReadFile(filepath.Join(Footage(t), demo.TruthFile))
	require.NoError(t, err)
	var out demo.Truth
	require.NoError(t, json.Unmarshal(blob, &out))
	return out
}
