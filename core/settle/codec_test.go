package settle

import (
	"bytes"
	"image"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/raster"
)

// shown runs FFmpeg, which "make test" installs, and returns the first frame that it writes.
func shown(t *testing.T, in []byte, size image.Rectangle, args ...string) *raster.Plane {
	cmd := exec.Command("ffmpeg", append([]string{"-v", "error"}, args...)...)
	cmd.Stdin = bytes.NewReader(in)
	out, err := cmd.Output()
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(out), size.Dx()*size.Dy())
	p := raster.NewPlane(size)
	for i := range p.Pix {
		p.Pix[i] = float32(out[i]) / 255
	}
	return p
}

// Blocks of compression are told from texture, wherever the part that is looked at begins: FFmpeg compresses made-up texture
// as MPEG-4 does, and Debian's street film (opencv-doc) was compressed by its camera.
func TestBlocksAreTold(t *testing.T) {
	raw := []string{"-f", "rawvideo", "-pix_fmt", "gray"}
	rng := rand.New(rand.NewPCG(5, 5))
	for range 6 {
		clean := roots(grainy(surface(rng.Uint64(), 320, 240), rng.Uint64(), 0.004+0.01*rng.Float64()))
		codes := make([]byte, len(clean.Pix))
		for i, v := range clean.Pix {
			codes[i] = byte(255*min(v, 1) + 0.5)
		}
		film := filepath.Join(t.TempDir(), "a.avi")
		shown(t, codes, image.Rectangle{}, append(append([]string{}, raw...), "-s", "320x240", "-i", "-", "-c:v", "mpeg4", "-q:v", "20", film)...)
		coded := shown(t, nil, clean.Rect, append([]string{"-i", film}, append(raw, "-")...)...)
		x, y := rng.IntN(60), rng.IntN(60)
		part := image.Rect(x, y, x+130+rng.IntN(80), y+110+rng.IntN(60))
		t.Logf("blocks %.2f, never compressed %.2f", Blockiness(coded.Crop(part)), Blockiness(clean.Crop(part)))
		assert.Less(t, Blockiness(clean.Crop(part)), BlocksShow-0.1, "never compressed")
		assert.Greater(t, Blockiness(coded.Crop(part)), BlocksShow, "at %v", part.Min)
	}
	film := shown(t, nil, image.Rect(0, 0, 768, 576), append([]string{"-i", "/usr/share/doc/opencv-doc/examples/data/vtest.avi",
		"-frames:v", "1"}, append(raw, "-")...)...)
	t.Logf("street %.2f", Blockiness(film.Crop(image.Rect(101, 203, 401, 403))))
	assert.Greater(t, Blockiness(film.Crop(image.Rect(101, 203, 401, 403))), BlocksShow)
	assert.EqualValues(t, 1, Blockiness(film.Crop(image.Rect(0, 0, 40, 40))), "too little to tell")
}

// One frame shown twice is the same; a second take in the same light is not.
func TestTheSameFrameTwice(t *testing.T) {
	clean := surface(4, 90, 70)
	a, b := grainy(clean, 1, 0.01), grainy(clean, 2, 0.01)
	assert.True(t, Same(a, a.Crop(a.Rect)))
	assert.False(t, Same(a, b))
	assert.False(t, Same(a, a.Crop(image.Rect(0, 0, 20, 20))))
}
