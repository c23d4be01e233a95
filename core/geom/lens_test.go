package geom

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func someLens(rng *rand.Rand) (Lens, error) {
	k := [3]float64{0.5 * (rng.Float64() - 0.6), 0.2 * (rng.Float64() - 0.5), 0.05 * (rng.Float64() - 0.5)}
	return LensOf(k, 1920, 1080, Pt(960+60*rng.NormFloat64(), 540+40*rng.NormFloat64()), 0.5+1.5*rng.Float64())
}

// Out and in again is where it was (aim: 0.01 px), everywhere on the picture, and the derivative is that of the places.
func TestALensOutAndIn(t *testing.T) {
	tried := 0
	for seed := range uint64(300) {
		rng := rand.New(rand.NewPCG(seed, 40))
		l, err := someLens(rng)
		if err != nil {
			continue
		}
		tried++
		for range 40 {
			p := Pt(1920*rng.Float64(), 1080*rng.Float64())
			q := l.Straighten(p)
			require.True(t, q.Finite(), "%v at %v", l, p)
			assert.InDelta(t, 0, l.Distort(q).Dist(p), 1e-6)
			const h = 1e-4
			xx, xy, yx, yy := l.Jacobian(q)
			dx := l.Distort(q.Add(Pt(h, 0))).Sub(l.Distort(q.Sub(Pt(h, 0)))).Mul(1 / (2 * h))
			dy := l.Distort(q.Add(Pt(0, h))).Sub(l.Distort(q.Sub(Pt(0, h)))).Mul(1 / (2 * h))
			assert.InDelta(t, 0, dx.Dist(Pt(xx, yx))+dy.Dist(Pt(xy, yy)), 1e-5)
			assert.Greater(t, xx*yy-xy*yx, 0.0, "it does not fold on the picture")
		}
		assert.Equal(t, l.Centre, l.Distort(l.Centre))
	}
	assert.Greater(t, tried, 150)
}

// What the terms say, by hand: a corner of a picture whose half diagonal is 500 pixels.
func TestALensByHand(t *testing.T) {
	l, err := LensOf([3]float64{-0.1, 0, 0}, 800, 600, Pt(400, 300), 1)
	require.NoError(t, err)
	assert.InDelta(t, 0, l.Distort(Pt(800, 600)).Dist(Pt(400+400*0.9, 300+300*0.9)), 1e-9)
	l, err = LensOf([3]float64{0, 0.16, 0}, 800, 600, Pt(400, 300), 1)
	require.NoError(t, err)
	assert.InDelta(t, 0, l.Distort(Pt(650, 300)).Dist(Pt(400+250*(1+0.16/16), 300)), 1e-9) // half the radius
	// Pixels twice as wide as high: the half diagonal is of 800 x 300 squares.
	l, err = LensOf([3]float64{-0.1, 0, 0}, 800, 600, Pt(400, 300), 2)
	require.NoError(t, err)
	assert.InDelta(t, math.Hypot(800, 300), l.Radius, 1e-9)
	assert.InDelta(t, 0, l.Distort(Pt(800, 600)).Dist(Pt(400+400*0.9, 300+300*0.9)), 1e-9)
}

func TestALensThatFoldsIsRefused(t *testing.T) {
	for _, k := range [][3]float64{{-0.5, 0, 0}, {0.2, -0.5, 0}, {math.NaN(), 0, 0}, {0, 0, -2}} {
		_, err := LensOf(k, 1920, 1080, Pt(960, 540), 1)
		assert.ErrorIs(t, err, ErrFolds, "%v", k)
	}
	_, err := LensOf([3]float64{}, 0, 0, Pt(0, 0), 1)
	assert.ErrorIs(t, err, ErrFolds)
	l, err := LensOf([3]float64{-0.12, 0, 0}, 1920, 1080, Pt(960, 540), 1)
	require.NoError(t, err)
	assert.False(t, l.Distort(Pt(1e5, 1e5)).Finite(), "beyond where it is one to one nothing is seen")
	assert.False(t, l.Straighten(Pt(1e5, 1e5)).Finite())
}
