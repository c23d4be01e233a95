package geom

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gonum.org/v1/gonum/interp"
)

// Between inner keys against gonum's interpolation by the same paper (Fritsch &
// Butland 1984); at the first and the last key ours comes to rest.
func TestBetweenFollowsFritschAndButland(t *testing.T) {
	frames := []float64{1, 9, 14, 30, 41, 60}
	values := []float64{2, 3, 11, 10, 10, -4}
	var keys []Key
	for i, f := range frames {
		keys = append(keys, Key{Frame: int(f), Values: []float64{values[i]}})
	}
	var theirs interp.FritschButland
	require.NoError(t, theirs.Fit(frames, values))
	for n := 9; n <= 41; n++ {
		assert.InDelta(t, theirs.Predict(float64(n)), Between(keys, n)[0], 1e-9, "frame %d", n)
	}
	assert.Equal(t, 2.0, Between(keys, -5)[0])
	assert.Equal(t, -4.0, Between(keys, 99)[0])
	for n := 1; n < 60; n++ {
		lo, hi := -4.0, 11.0
		assert.GreaterOrEqual(t, Between(keys, n)[0], lo)
		assert.LessOrEqual(t, Between(keys, n)[0], hi, "no overshoot")
	}
	// Two keys: a smoothstep. A linear key: a straight line.
	two := []Key{{Frame: 0, Values: []float64{0}}, {Frame: 10, Values: []float64{1}}}
	assert.InDelta(t, 0.2*0.2*(3-2*0.2), Between(two, 2)[0], 1e-12)
	two[0].Linear = true
	assert.InDelta(t, 0.2, Between(two, 2)[0], 1e-12)
}

func TestShearIsFittedExactly(t *testing.T) {
	h := Homography{1.1, 0.2, 5, -0.1, 0.9, -7, 0, 0, 1}
	src := []Point{{10, 10}, {200, 30}, {120, 180}, {40, 90}}
	got, err := Fit(Shear, src, h.ApplyAll(src), nil)
	require.NoError(t, err)
	for i := range h {
		assert.InDelta(t, h[i], got[i], 1e-9)
	}
	_, err = Fit(Shear, []Point{{0, 0}, {1, 1}, {2, 2}}, src[:3], nil)
	assert.ErrorIs(t, err, ErrDegenerate, "three points on a line")
}

func TestTraceKeepsItsPlaceBetweenKnots(t *testing.T) {
	knots := []Knot{{At: Pt(0, 0), Out: Pt(20, -10)}, {At: Pt(60, 0), In: Pt(-20, -10)}, {At: Pt(60, 40)}}
	open := Trace(knots, false, 0.05)
	assert.Equal(t, knots[2].At, open[len(open)-1].At)
	closed := Trace(knots, true, 0.05)
	assert.Equal(t, len(open), len(closed), "the way back is one straight piece, from the last knot")
	segments := Segments(knots)
	for _, s := range closed {
		assert.InDelta(t, 0, s.At.Dist(segments[s.Knot].At(s.T)), 1e-9)
	}
}
