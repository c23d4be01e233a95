// Package demotest gives tests the demo footage.
package demotest

import (
	"bytes"
	"context"
	"encoding/json"
	"image"
	"image/png"
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
func Truth(t testing.TB) (out demo.Truth) {
	t.Helper()
	read(t, demo.TruthFile, &out)
	return out
}

// CanTruth returns what the footage of lm_020 says of itself.
func CanTruth(t testing.TB) (out demo.CanTruth) {
	t.Helper()
	read(t, demo.CanTruthFile, &out)
	return out
}

// FocusTruth returns what the footage of lm_060 says of itself.
func FocusTruth(t testing.TB) (out demo.FocusTruth) {
	t.Helper()
	read(t, demo.FocusTruthFile, &out)
	return out
}

// read decodes a file of the footage.
func read(t testing.TB, file string, into any) {
	t.Helper()
	blob, err := os.ReadFile(filepath.Join(Footage(t), file))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(blob, into))
}

// ReadPNG returns the picture in a file.
func ReadPNG(t testing.TB, path string) image.Image {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	m, err := png.Decode(f)
	require.NoError(t, err)
	return m
}

// WorkedExample returns the treatment that docs/formats.md shows.
func WorkedExample(t testing.TB) []byte {
	t.Helper()
	page, err := os.ReadFile(filepath.Join(Root(), "docs/formats.md"))
	require.NoError(t, err)
	_, rest, ok := bytes.Cut(page, []byte("```json\n"))
	require.True(t, ok, "docs/formats.md shows a treatment")
	example, _, ok := bytes.Cut(rest, []byte("```"))
	require.True(t, ok)
	return example
}
