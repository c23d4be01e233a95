package picture

import (
	"image"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/raster"
)

func TestAShelfKeepsWhatFits(t *testing.T) {
	s := &diskCache{dir: filepath.Join(t.TempDir(), "paint"), budget: 1 << 20}
	m := raster.NewImage(image.Rect(3, 4, 60, 50))
	for i := range m.Pix {
		m.Pix[i] = float32(i%97) / 7
	}
	s.Put("a", m)
	require.Eventually(t, func() bool { _, ok := s.Get("a"); return ok }, 5*time.Second, 5*time.Millisecond)
	found, _ := s.Get("a")
	assert.Equal(t, m, found)
	require.NoError(t, os.WriteFile(s.path("half"), []byte{1, 2, 3}, 0o600))
	_, ok := s.Get("half")
	assert.False(t, ok, "a broken file counts as absent")
	s.budget = 10
	s.Put("b", m)
	require.Eventually(t, func() bool { _, ok := s.Get("a"); return !ok }, 5*time.Second, 5*time.Millisecond)
}
