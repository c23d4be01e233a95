package settle

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/raster"
)

// Of parts of any size and place, plain or without a valid pixel, with what is not a number where nothing is valid, an
// agreement is told that is one: shares from 0 to 1, and the same picture agrees with itself.
func TestAnyPartAgreesWithItself(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 9))
	all := roots(surface(6, 90, 90))
	for range 200 {
		x, y := rng.IntN(70), rng.IntN(70)
		r := image.Rect(x, y, x+1+rng.IntN(90-x), y+1+rng.IntN(90-y))
		p, valid := all.Crop(r), raster.NewPlane(r)
		for i := range valid.Pix {
			if rng.Float64() < 0.9 {
				valid.Pix[i] = 1
			}
		}
		if rng.IntN(5) == 0 {
			clear(valid.Pix)
		}
		got := Agree(p, p, valid, 0.005)
		assert.EqualValues(t, 1, got.Share, "%v", r)
		assert.Zero(t, int(sum(got.Strange)), "%v", r)
		other := Agree(p, raster.NewPlane(r), valid, 0.005)
		assert.False(t, math.IsNaN(other.Share) || other.Share < 0 || other.Share > 1)
	}
}

func sum(p *raster.Plane) (s float64) {
	for _, v := range p.Pix {
		s += float64(v)
	}
	return s
}
