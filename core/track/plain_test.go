package track

import (
	"image"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A region of sky, or of a wall that shows nothing but grain, says so when it is lost at once; one that shows something
// which is covered on the next frame does not.
func TestNothingButGrainSaysSo(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 1))
	size := image.Rect(0, 0, 200, 160)
	frame := func(texture, fall float64) *raster.Plane {
		grain, wall := raster.NewPlane(size), raster.NewPlane(size)
		seeded := rand.New(rand.NewPCG(1, 2))
		for i := range grain.Pix {
			grain.Pix[i], wall.Pix[i] = float32(rng.NormFloat64()), float32(seeded.NormFloat64())
		}
		grain, wall = raster.Gaussian(grain, 0.6), raster.Gaussian(wall, 2.5)
		for i := range grain.Pix {
			grain.Pix[i] = float32(0.6+fall*float64(i/200)/160) + 0.02*grain.Pix[i] + float32(texture)*wall.Pix[i]
		}
		return grain
	}
	read := func(m *raster.Plane) FrameReader {
		return func(r image.Rectangle) (*raster.Plane, error) { return m.Crop(r.Intersect(size)), nil }
	}
	region := []geom.Point{{X: 60, Y: 50}, {X: 140, Y: 50}, {X: 140, Y: 110}, {X: 60, Y: 110}}
	follow := func(first, next *raster.Plane) error {
		p, err := NewPlane(read(first), size, region, nil, geom.Perspective)
		if err == nil {
			_, err = p.Step(read(next), nil)
		}
		return err
	}
	for _, fall := range []float64{0, 0.3, -0.3} {
		assert.ErrorIs(t, follow(frame(0, fall), frame(0, fall)), ErrPlain, "it falls off by %g", fall)
		assert.NoError(t, follow(frame(1, fall), frame(1, fall)))
	}
	// Texture as fine as grain is found again, and then covered: that is another reason.
	still := frame(0, 0)
	p, err := NewPlane(read(still), size, region, nil, geom.Position)
	require.NoError(t, err)
	for range 2 {
		_, err = p.Step(read(still), nil)
		require.NoError(t, err)
	}
	shifted := raster.NewPlane(size)
	for y := range 160 {
		for x := range 200 {
			shifted.Pix[200*y+x] = still.At(max(x-1, 0), y)
		}
	}
	_, err = p.Step(read(shifted), nil)
	require.NoError(t, err)
	_, err = p.Step(read(frame(0, 0)), nil)
	assert.ErrorIs(t, err, ErrLost)
	other := frame(0, 0)
	for i := range other.Pix {
		other.Pix[i] = float32(rng.NormFloat64())
	}
	assert.ErrorIs(t, follow(frame(1, 0), raster.Gaussian(other, 2.5)), ErrLost)
}
