package settle

import (
	"context"
	"image"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

func roots(m *raster.Image) *raster.Plane {
	p := raster.NewPlane(m.Rect)
	for i := range p.Pix {
		p.Pix[i] = float32(math.Sqrt(float64(m.Pix[4*i+1])))
	}
	return p
}

// A known blur is found again, under grain and another light, from what shows around a
// hole. What is held has grain as it is left where it was carried: wider than a pixel.
func TestAKnownSoftnessIsFound(t *testing.T) {
	clean := surface(5, 150, 150)
	valid := raster.NewPlane(clean.Rect)
	for y := range 150 {
		for x := range 150 {
			if !image.Pt(x, y).In(image.Rect(50, 50, 100, 100)) {
				valid.Row(y, x, x+1)[0] = 1
			}
		}
	}
	// White grain that is blurred by 0.6 keeps 1/(4 pi 0.6^2) of its variance.
	left := grainy(clean, 4, 0.003*math.Sqrt(0.7*4*math.Pi*0.36))
	for i := range left.Pix {
		left.Pix[i] -= clean.Pix[i]
	}
	left = raster.GaussianImage(left, 0.6)
	for i := range left.Pix {
		left.Pix[i] += clean.Pix[i]
	}
	for _, sigma := range []float64{0, 0.6, 1.2, 2.5, 4} {
		plate := raster.GaussianImage(clean, sigma)
		for i := range plate.Pix {
			if i%4 != 3 {
				plate.Pix[i] *= 0.7
			}
		}
		got := EstimateBlur(
			[]Pair{{roots(grainy(plate, 3, 0.01)), roots(left), valid}},
			0.003,
		)
		assert.InDelta(t, sigma, math.Sqrt(got.Square.Value), 0.12+0.06*sigma, "sigma %v", sigma)
		off := math.Abs(got.Square.Value - sigma*sigma)
		assert.Less(t, off, 3*math.Sqrt(got.Square.Variance), "sigma %v", sigma)
		assert.Less(t, math.Sqrt(got.Square.Variance), 0.1+0.2*sigma*sigma, "sigma %v: it is known", sigma)
	}
}

// A smear leaves a line as long as it is told; and what is left to smear follows from
// second moments: a trace of 5 pixels after one of 3 along the same way lacks 4.
func TestSmear(t *testing.T) {
	m := raster.NewImage(image.Rect(0, 0, 41, 11))
	m.Set(20, 5, [4]float32{1, 1, 1, 1})
	out, err := Smear(context.Background(), m, func(geom.Point) geom.Point { return geom.Pt(8, 0) })
	require.NoError(t, err)
	var sum, second float64
	for x := range 41 {
		v := float64(out.At(x, 5)[0])
		sum, second = sum+v, second+v*float64((x-20)*(x-20))
	}
	assert.InDelta(t, 1, sum, 0.02)
	assert.InDelta(t, 64.0/12, second/sum, 0.4, "the variance of a straight trace of 8 pixels")

	left := MissingSmear(geom.Pt(5, 0), geom.Pt(3, 0))
	assert.InDelta(t, 4, left.Len(), 1e-9)
	assert.Zero(t, MissingSmear(geom.Pt(3, 0), geom.Pt(5, 0)), "what is smeared too much cannot be made sharp")
	across := MissingSmear(geom.Pt(0, 6), geom.Pt(4, 0))
	assert.InDelta(t, 6, math.Abs(across.Y), 1e-9)
	assert.InDelta(t, 0, across.X, 1e-9)
	turned := MissingSmear(geom.Pt(3, 3), geom.Point{})
	assert.InDelta(t, math.Sqrt(18), turned.Len(), 1e-9)
	assert.InDelta(t, turned.X, turned.Y, 1e-9)
}

// The unsharp mask adds what a blur takes: at a step it overshoots on both sides, flat
// parts stay.
func TestSharpen(t *testing.T) {
	m := raster.NewImage(image.Rect(0, 0, 40, 5))
	for y := range 5 {
		for x := range 40 {
			v := float32(0.3)
			if x >= 20 {
				v = 0.6
			}
			m.Set(x, y, [4]float32{v, v, v, 1})
		}
	}
	out := Sharpen(m, 0.5, 1)
	assert.InDelta(t, 0.3, out.At(5, 2)[0], 1e-6)
	// Right at the step the Gaussian's mean is off by 0.3 (1 - Phi(0.5)) = 0.0926 with samples at
	// half a pixel from it.
	assert.InDelta(t, 0.6+0.5*0.3*0.3085, out.At(20, 2)[0], 0.01)
	assert.Less(t, out.At(19, 2)[0], float32(0.3))
}

// On a small part softness is known less well than on all of it; what is another picture altogether, and where nothing is to
// be compared, says nothing.
func TestSoftnessKnowsWhatItRestsOn(t *testing.T) {
	clean := surface(5, 150, 150)
	plate := roots(grainy(raster.GaussianImage(clean, 2.5), 3, 0.02))
	part := func(r image.Rectangle) *raster.Plane {
		valid := raster.NewPlane(clean.Rect)
		for y := r.Min.Y; y < r.Max.Y; y++ {
			for x := r.Min.X; x < r.Max.X; x++ {
				valid.Row(y, x, x+1)[0] = 1
			}
		}
		return valid
	}
	large := EstimateBlur([]Pair{{plate, roots(clean), part(clean.Rect)}}, 0)
	small := EstimateBlur([]Pair{{plate, roots(clean), part(image.Rect(60, 60, 75, 75))}}, 0)
	assert.Greater(t, small.Square.Variance, 4*large.Square.Variance)
	other := EstimateBlur([]Pair{{roots(grainy(surface(77, 150, 150), 4, 0.02)), roots(clean), part(clean.Rect)}}, 0)
	assert.True(t, math.IsInf(other.Square.Variance, 1) || other.Square.Variance > 100*large.Square.Variance, "%+v", other)
	none := EstimateBlur([]Pair{{plate, roots(clean), part(image.Rect(0, 0, 5, 5))}}, 0)
	assert.True(t, math.IsInf(none.Square.Variance, 1))
	assert.Zero(t, none.Pixels)
}
