package check

import (
	"image"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/raster"
)

// A texture by chance hardly repeats itself; one that is laid twice, side by side or below each other, does wholly; a part of it
// that is copied does by its share.
func TestRepeat(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 6))
	size := image.Rect(-5, 3, 55, 63)
	texture := func() *raster.Image {
		m := raster.NewImage(size)
		for i := range m.Pix {
			m.Pix[i] = 0.2 + 0.5*rng.Float32()
		}
		return raster.GaussianImage(m, 1)
	}
	chance := 0.0
	for range 4 {
		chance = max(chance, Repeat(texture(), size, 8))
	}
	assert.Less(t, chance, 0.25)
	for range 4 {
		base, m := texture(), raster.NewImage(size)
		period, down := 12+rng.IntN(16), rng.IntN(2)
		for y := size.Min.Y; y < size.Max.Y; y++ {
			for x := size.Min.X; x < size.Max.X; x++ {
				u, v := size.Min.X+(x-size.Min.X)%period, y
				if down == 1 {
					u, v = x, size.Min.Y+(y-size.Min.Y)%period
				}
				m.Set(x, y, base.At(u, v))
			}
		}
		assert.Greater(t, Repeat(m, size, 8), 0.9)
	}
	m := texture()
	for y := 10; y < 40; y++ {
		for x := 0; x < 14; x++ {
			m.Set(x+18, y, m.At(x, y))
		}
	}
	some := Repeat(m, size, 8)
	assert.Greater(t, some, chance)
	assert.Less(t, some, 0.6)
	assert.Zero(t, Repeat(m, image.Rectangle{}, 8))
	assert.Zero(t, Repeat(raster.NewImage(size), size, 8), "nothing repeats where nothing is")
}
