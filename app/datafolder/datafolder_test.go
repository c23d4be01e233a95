package datafolder

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNoNameLeavesTheFolder(t *testing.T) {
	above := t.TempDir()
	f, err := Open(filepath.Join(above, "data"))
	require.NoError(t, err)
	defer f.Close()
	kept := filepath.Join(above, "kept")
	require.NoError(t, os.WriteFile(kept, nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(f.Kind(Plates), "a"), nil, 0o600))
	for _, id := range []string{"", ".", "..", "/", "../..", "../../kept", "a/..", "a/../..", `..\..`, "a\x00b", "%2e%2e", ".hidden", "-rf", "a b", "ä", "a\n", strings.Repeat("a", 65)} {
		_, err := f.Path(Plates, id)
		assert.ErrorIs(t, err, ErrID, "%q", id)
		assert.ErrorIs(t, f.Remove(Plates, id), ErrID, "%q", id)
	}
	assert.FileExists(t, kept)
	assert.FileExists(t, filepath.Join(f.Kind(Plates), "a"))
	// A link inside leads nowhere either.
	require.NoError(t, os.Symlink(above, filepath.Join(f.Kind(Plates), "link")))
	require.NoError(t, f.Remove(Plates, "link"))
	assert.FileExists(t, kept, "the link goes, not what it leads to")
	require.NoError(t, f.Remove(Plates, "a"))
	assert.NoFileExists(t, filepath.Join(f.Kind(Plates), "a"))
	require.NoError(t, f.Remove(Plates, "a"), "it is gone already")
}

func TestOneAtATime(t *testing.T) {
	dir := t.TempDir()
	one, err := Open(dir)
	require.NoError(t, err)
	require.NoError(t, one.Lock())
	two, err := Open(dir)
	require.NoError(t, err)
	assert.ErrorContains(t, two.Lock(), "another Jardin is at work")
	require.NoError(t, one.Close())
	require.NoError(t, two.Lock())
	require.NoError(t, two.Close())
}

func TestOthersMayNotLook(t *testing.T) {
	f, err := Open(filepath.Join(t.TempDir(), "data"))
	require.NoError(t, err)
	defer f.Close()
	for _, kind := range []string{Plates, Renders, Uploads, Paint} {
		info, err := os.Stat(f.Kind(kind))
		require.NoError(t, err)
		assert.EqualValues(t, 0o700, info.Mode().Perm())
	}
}
