package carry

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/treatment"
)

// A wire that is straight in the set is bowed on the picture, and a strand over it is: its points are where they were put, and
// what it covers is what lies within half its width of the straight line once the lens is out. Lenses, places and widths are random.
func TestAStrandIsStraightThroughTheLens(t *testing.T) {
	rng := rand.New(rand.NewPCG(18, 3))
	tried := 0
	for range 20 {
		d := treatment.New()
		d.Lens = &treatment.Lens{Size: [2]int{960, 540}, K: [3]float64{-0.18 + 0.3*rng.Float64(), 0.04 * (rng.Float64() - 0.5), 0}, Squeeze: 1 + rng.Float64()}
		lens, err := d.Lens.Of()
		if err != nil {
			continue // no lens is like this
		}
		tried++
		at := func() treatment.Vec { return treatment.Vec{40 + 880*rng.Float64(), 30 + 480*rng.Float64()} }
		a, b := at(), at()
		if a.Point().Dist(b.Point()) < 200 {
			continue
		}
		width := 2 + 10*rng.Float64()
		s := treatment.Shape{ID: "w", Kind: treatment.Strand, Home: 1, Ride: treatment.Still, Straight: true, Points: []treatment.Knot{{At: a, Width: width}, {At: b, Width: width}}}
		set, err := New(d)
		require.NoError(t, err)
		pose, ok := set.Pose(&s, "", 1)
		require.True(t, ok)
		knots := pose.Knots()
		assert.Less(t, knots[0].At.Dist(a.Point())+knots[1].At.Dist(b.Point()), 1e-6, "where they were put")

		// The cubic that is written to files lies where the line is seen.
		from, to := lens.Straighten(a.Point()), lens.Straighten(b.Point())
		off := func(p geom.Point) float64 { // from the line, in pixels of what is seen
			q := lens.Straighten(p)
			v, w := q.Sub(from), to.Sub(from)
			u := (v.X*w.X + v.Y*w.Y) / (w.X*w.X + w.Y*w.Y)
			return lens.Distort(from.Lerp(to, u)).Dist(p)
		}
		side := geom.Cubic{knots[0].At, knots[0].At.Add(knots[0].Out), knots[1].At.Add(knots[1].In), knots[1].At}
		bow := 0.0
		for i := range 21 {
			assert.Less(t, off(side.At(float64(i)/20)), 0.1)
			bow = math.Max(bow, off(a.Point().Lerp(b.Point(), float64(i)/20)))
		}

		// Coverage by a plain reference: 8 x 8 places of each pixel, away from the ends, which are cut across.
		box := image.Rect(0, 0, 960, 540)
		cover := pose.Cover(&s, Edge{}, box)
		worst := 0.0
		for range 400 {
			u := 0.05 + 0.9*rng.Float64()
			near := lens.Distort(from.Lerp(to, u)).Add(geom.Pt(3*width*(rng.Float64()-0.5), 3*width*(rng.Float64()-0.5)))
			x, y := int(near.X), int(near.Y)
			if !image.Pt(x, y).In(box) {
				continue
			}
			in := 0
			for j := range 64 {
				p := geom.Pt(float64(x)+(float64(j%8)+0.5)/8, float64(y)+(float64(j/8)+0.5)/8)
				if off(p) < width/2 {
					in++
				}
			}
			worst = math.Max(worst, math.Abs(float64(cover.At(x, y))-float64(in)/64))
		}
		t.Logf("a bow of %.2f px, squeeze %.2f: coverage within %.3f", bow, d.Lens.Squeeze, worst)
		assert.Less(t, worst, 0.05)
	}
	assert.Greater(t, tried, 8)
}

// A shape whose side goes out of what the lens shows is not there, and one without a lens is as it always was.
func TestAStraightShapeWithoutALens(t *testing.T) {
	d := treatment.New()
	s := treatment.Shape{ID: "w", Kind: treatment.Strand, Home: 1, Ride: treatment.Still, Straight: true,
		Points: []treatment.Knot{{At: treatment.Vec{10, 10}, Width: 4}, {At: treatment.Vec{90, 50}, Width: 4}}}
	plain := s
	plain.Straight = false
	set, err := New(d)
	require.NoError(t, err)
	a, ok1 := set.Pose(&s, "", 1)
	b, ok2 := set.Pose(&plain, "", 1)
	require.True(t, ok1 && ok2)
	assert.Equal(t, b, a)

	d.Lens = &treatment.Lens{Size: [2]int{100, 60}, K: [3]float64{-0.1, 0, 0}}
	s.Points[1].At = treatment.Vec{4000, 50}
	set, err = New(d)
	require.NoError(t, err)
	_, ok := set.Pose(&s, "", 1)
	assert.False(t, ok)
}

// The worst shape that a document may hold takes no more than a moment: its sides get longer.
func TestAWildShapeThroughTheLens(t *testing.T) {
	d := treatment.New()
	d.Lens = &treatment.Lens{Size: [2]int{960, 540}, K: [3]float64{1e-9, 0, 0}}
	set, err := New(d)
	require.NoError(t, err)
	s := treatment.Shape{ID: "w", Kind: treatment.Outline, Home: 1, Ride: treatment.Still, Straight: true}
	for i := range treatment.MostKnots {
		s.Points = append(s.Points, treatment.Knot{At: treatment.Vec{480 + 4000*float64(1-2*(i%2)), 270 + float64(i%7)}})
	}
	pose, ok := set.Pose(&s, "", 1)
	require.True(t, ok)
	assert.Less(t, len(pose.trace(true)), 3*mostBowed)
}
