package geom

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Evaluations by Bernstein's polynomials: B(1/2) = (p0 + 3 p1 + 3 p2 + p3) / 8,
// and the circle constant 4/3 (sqrt(2) - 1), whose quarter arc leaves the true
// circle by at most 0.0273 % of the radius (Goldapp 1991, "Approximation of
// circular arcs by cubic polynomials").
func TestCubicAgainstKnownValues(t *testing.T) {
	c := Cubic{{0, 0}, {1, 2}, {3, 3}, {4, 0}}
	assert.Equal(t, Pt(2, 15.0/8), c.At(0.5))
	assert.Equal(t, c[0], c.At(0))
	assert.Equal(t, c[3], c.At(1))

	k := 4.0 / 3 * (math.Sqrt2 - 1)
	arc := Cubic{{1, 0}, {1, k}, {k, 1}, {0, 1}}
	worst := 0.0
	for i := range 1001 {
		worst = math.Max(worst, math.Abs(arc.At(float64(i)/1000).Len()-1))
	}
	assert.InDelta(t, 0.000273, worst, 0.000002)
}

func TestFlattenStaysWithinTolerance(t *testing.T) {
	k := 100 * 4.0 / 3 * (math.Sqrt2 - 1)
	circle := []Knot{
		{Pt(100, 0), Pt(0, -k), Pt(0, k)}, {Pt(0, 100), Pt(k, 0), Pt(-k, 0)},
		{Pt(-100, 0), Pt(0, k), Pt(0, -k)}, {Pt(0, -100), Pt(-k, 0), Pt(k, 0)},
	}
	polygon := Flatten(circle, 0.05)
	for i, p := range polygon {
		mid := p.Lerp(polygon[(i+1)%len(polygon)], 0.5)
		assert.InDelta(t, 100, mid.Len(), 0.08, "chord %d", i)
	}
	assert.InEpsilon(t, math.Pi*1e4, Area(polygon), 0.002)
	assert.Len(t, Flatten([]Knot{{At: Pt(0, 0)}, {At: Pt(9, 0)}, {At: Pt(9, 9)}}, 0.1), 3,
		"straight sides need no points of their own")
}

func TestHomographyAlgebra(t *testing.T) {
	h := Homography{1.1, 0.05, 12, -0.03, 0.95, -7, 1e-4, -2e-4, 1}
	inv, ok := h.Inverse()
	require.True(t, ok)
	p := Pt(321, 123)
	moved := h.Apply(p)
	assert.InDelta(t, 0, inv.Apply(moved).Dist(p), 1e-9)
	both := inv.Mul(h)
	assert.InDelta(t, 0, both.Apply(p).Dist(p), 1e-9)

	zoom := Homography{3, 0, 5, 0, 3, -4, 0, 0, 1}
	assert.InDelta(t, 3, zoom.Scale(Pt(50, 60)), 1e-12)
	_, ok = (Homography{}).Inverse()
	assert.False(t, ok, "a singular transform must say so")
}

// Worked example: the unit square to a trapezium with the corners (0,0), (1,0),
// (0.75,0.5), (0.25,0.5). By the closed form of Heckbert 1989 ("Fundamentals of
// texture mapping", section 2.2.3) g = 0, h = 1, and the rest follows.
func TestFitPerspectiveAgainstHeckbert(t *testing.T) {
	square := []Point{{0, 0}, {1, 0}, {1, 1}, {0, 1}}
	h, err := Fit(Perspective, square, []Point{{0, 0}, {1, 0}, {0.75, 0.5}, {0.25, 0.5}}, nil)
	require.NoError(t, err)
	want := Homography{1, 0.5, 0, 0, 1, 0, 0, 1, 1}
	for i := range want {
		assert.InDelta(t, want[i], h[i], 1e-9, "entry %d", i)
	}
}

func TestFitRecoversEachMotion(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	truth := map[Motion]Homography{
		Position:    Translation(Pt(4.25, -3.5)),
		Similarity:  {1.02, -0.1, 3, 0.1, 1.02, 8, 0, 0, 1},
		Perspective: {1.02, -0.1, 3, 0.13, 0.97, 8, 1e-4, 5e-5, 1},
	}
	for motion, want := range truth {
		t.Run(string(motion), func(t *testing.T) {
			var src, dst []Point
			for range 60 {
				p := Pt(r.Float64()*900, r.Float64()*500)
				src, dst = append(src, p), append(dst, want.Apply(p))
			}
			for i := range 20 { // a third of the pairs are simply wrong
				dst[i] = dst[i].Add(Pt(10+r.Float64()*50, -30*r.Float64()))
			}
			got, inlier, err := RobustFit(motion, src, dst, 1)
			require.NoError(t, err)
			for i, p := range src {
				assert.InDelta(t, 0, got.Apply(p).Dist(want.Apply(p)), 1e-6)
				assert.Equal(t, i >= 20, inlier[i], "pair %d", i)
			}
		})
	}
}

func TestFitRefusesWhatFixesNothing(t *testing.T) {
	line := []Point{{0, 0}, {1, 1}, {2, 2}, {3, 3}, {4, 4}}
	_, err := Fit(Perspective, line, line, nil)
	assert.ErrorIs(t, err, ErrDegenerate)
	_, err = Fit(Similarity, line[:1], line[:1], nil)
	assert.ErrorIs(t, err, ErrDegenerate)
}

func TestInsideAndArea(t *testing.T) {
	l := []Point{{0, 0}, {4, 0}, {4, 1}, {1, 1}, {1, 3}, {0, 3}}
	assert.Equal(t, 6.0, Area(l))
	assert.True(t, Inside(l, Pt(0.5, 2)))
	assert.False(t, Inside(l, Pt(2, 2)))
}
