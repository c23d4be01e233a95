package matte

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
)

var frame = image.Rect(0, 0, 64, 48)

func sum(pix []float32) (s float64) {
	for _, v := range pix {
		s += float64(v)
	}
	return s
}

func TestCoverageIsExactArea(t *testing.T) {
	// A box whose sides cut pixels: 10.25..20.5 by 5.75..9.
	box := geom.Box{Min: geom.Pt(10.25, 5.75), Max: geom.Pt(20.5, 9)}.Corners()
	m := Coverage(box[:], frame)
	assert.InDelta(t, 0.75*0.25, m.At(10, 5), 1e-6)
	assert.InDelta(t, 0.25, m.At(15, 5), 1e-6)
	assert.InDelta(t, 0.5, m.At(20, 7), 1e-6)
	assert.InDelta(t, 1, m.At(15, 7), 1e-6)
	assert.Zero(t, m.At(15, 9))
	assert.InDelta(t, 10.25*3.25, sum(m.Pix), 1e-4)

	// A triangle's pixels add up to its area, in either winding.
	tri := []geom.Point{{X: 3.3, Y: 4.1}, {X: 50.7, Y: 12.9}, {X: 20.2, Y: 44.4}}
	assert.InDelta(t, geom.Area(tri), sum(Coverage(tri, frame).Pix), 1e-3)
	tri[0], tri[1] = tri[1], tri[0]
	assert.InDelta(t, geom.Area(tri), sum(Coverage(tri, frame).Pix), 1e-3)

	// A slanted side: the diagonal halves the pixels it crosses corner to corner.
	half := []geom.Point{{X: 0, Y: 0}, {X: 8, Y: 8}, {X: 0, Y: 8}}
	m = Coverage(half, frame)
	for i := range 8 {
		assert.InDelta(t, 0.5, m.At(i, i), 1e-6)
	}
}

func TestCoverageIsCutAtThePicture(t *testing.T) {
	big := geom.Box{Min: geom.Pt(-30, -30), Max: geom.Pt(200, 200)}.Corners()
	m := Coverage(big[:], frame)
	assert.Equal(t, frame, m.Rect)
	assert.InDelta(t, 64*48, sum(m.Pix), 1e-3, "all of the picture is covered")
	slant := []geom.Point{{X: -20, Y: 24}, {X: 32, Y: -28}, {X: 84, Y: 24}, {X: 32, Y: 76}}
	// The diamond |x-32| + |y-24| <= 52 leaves four triangles of 4x4/2 uncovered.
	assert.InDelta(t, 64*48-4*8, sum(Coverage(slant, frame).Pix), 1e-2)
	away := geom.Box{Min: geom.Pt(100, 100), Max: geom.Pt(120, 120)}.Corners()
	assert.Empty(t, Coverage(away[:], frame).Pix)
}

// averaged is the mean of a profile over a pixel around u, where it runs along one axis.
func averaged(profile func(u float64) float64, u, width float64) (sum float64) {
	const n = 2000
	for i := range n {
		sum += profile(min(max(u+((float64(i)+0.5)/n-0.5)/width, 0), 1)) / n
	}
	return sum
}

func smoothstep(u float64) float64 { return u * u * (3 - 2*u) }

func TestFeatherFallsOutwardsAndKeepsTheInside(t *testing.T) {
	box := geom.Box{Min: geom.Pt(20, 15), Max: geom.Pt(40, 30)}.Corners()
	var rim []Rim
	for _, p := range box {
		rim = append(rim, Rim{At: p, Out: 6})
	}
	m := Edge(rim, 0, false, frame)
	for y := 15; y < 30; y++ {
		for x := 20; x < 40; x++ {
			assert.EqualValues(t, 1, m.At(x, y), "the inside is never thinned")
		}
	}
	for d := 0.5; d < 6; d++ {
		assert.InDelta(t, averaged(smoothstep, 1-d/6, 6), m.At(40+int(d), 22), 1e-5, "smoothstep at %v px", d)
	}
	assert.Zero(t, m.At(46, 22))
	corner := m.At(43, 33)
	u := 1 - math.Hypot(3.5, 3.5)/6
	assert.InDelta(t, smoothstep(u), corner, 0.005, "round at the corners, but for the mean over the pixel")
}

func rimOf(points []geom.Point, out, in float64) []Rim {
	rim := make([]Rim, len(points))
	for i, p := range points {
		rim[i] = Rim{p, out, in}
	}
	return rim
}

func TestFeatherInsideAndByThePoint(t *testing.T) {
	box := geom.Box{Min: geom.Pt(10, 10), Max: geom.Pt(50, 40)}.Corners()
	m := Edge(rimOf(box[:], 4, 4), 0, false, frame)
	assert.InDelta(t, 1, m.At(30, 25), 1e-6)
	// Around the middle of a straight side, the ramp goes through a half at the edge.
	for d := -3.5; d < 4; d++ {
		assert.InDelta(
			t,
			averaged(smoothstep, 0.5-d/8, 8),
			m.At(int(49.5+d+0.5), 25),
			1e-5,
			"at %v px from the edge",
			d,
		)
	}
	rim := rimOf(box[:], 0, 0)
	rim[1].Out, rim[2].Out = 8, 2 // the right side, from top to bottom
	m = Edge(rim, 0, false, frame)
	half := func(y int) (x float64) { // where coverage falls through a half
		for x := 50; x < 60; x++ {
			if m.At(x, y) < 0.5 {
				return float64(x) - 50
			}
		}
		return 0
	}
	assert.InDelta(t, 4, half(12), 1, "half of 8 px near the first corner")
	assert.InDelta(t, 1, half(38), 1, "half of 2 px near the second")
	assert.EqualValues(t, 0, m.At(30, 8), "the top's feather has run out in its middle")
}

func TestGrowIsMinkowskisSum(t *testing.T) {
	// Area of a convex polygon grown by d: A + d P + pi d^2 (Steiner's formula); shrunk, a
	// box loses d on every side.
	box := geom.Box{Min: geom.Pt(20.3, 15.2), Max: geom.Pt(40.8, 30.1)}.Corners()
	for _, points := range [][]geom.Point{box[:], {box[3], box[2], box[1], box[0]}} {
		grown := Edge(rimOf(points, 0, 0), 5, false, frame)
		assert.InDelta(t, 20.5*14.9+5*2*(20.5+14.9)+math.Pi*25, sum(grown.Pix), 0.5)
		shrunk := Edge(rimOf(points, 0, 0), -3, false, frame)
		assert.InDelta(t, 14.5*8.9, sum(shrunk.Pix), 0.3, "a pixel at each corner holds both ways round")
		gone := Edge(rimOf(points, 0, 0), -9, false, frame)
		assert.InDelta(t, 0, sum(gone.Pix), 1e-2, "shrunk by more than there is")
		assert.InDelta(t, 0, sum(Edge(rimOf(points, 0, 0), -14, false, frame).Pix), 1e-2, "and by far more")
	}
	// An L grown by d: its inner corner stays sharp, so (4 - pi)/4 less d^2 ... exact: A + d P + (5 pi/4 - 1) d^2.
	l := []geom.Point{{X: 10, Y: 10}, {X: 40, Y: 10}, {X: 40, Y: 20}, {X: 20, Y: 20}, {X: 20, Y: 40}, {X: 10, Y: 40}}
	d := 4.0
	assert.InDelta(t, 500+d*120+(5*math.Pi/4-1)*d*d, sum(Edge(rimOf(l, 0, 0), d, false, frame).Pix), 0.5)
}

func TestStrandIsAPathWithAWidth(t *testing.T) {
	straight := Strand([]Wire{{geom.Pt(10, 20), 4}, {geom.Pt(50, 20), 4}})
	m := Edge(rimOf(straight, 0, 0), 0, true, frame)
	assert.InDelta(t, 40*4+math.Pi*4, sum(m.Pix), 0.2, "a bar with round ends")
	assert.InDelta(t, 1, m.At(30, 19), 1e-6)
	assert.Zero(t, m.At(30, 23))
	tapered := Strand([]Wire{{geom.Pt(10, 20), 2}, {geom.Pt(50, 20), 10}})
	assert.InDelta(t, 40*6+math.Pi/2*(1+25), sum(Edge(rimOf(tapered, 0, 0), 0, true, frame).Pix), 0.5)
	beyond := Strand([]Wire{{geom.Pt(-300, 24), 3}, {geom.Pt(400, 24), 3}})
	assert.InDelta(t, 64*3, sum(Edge(rimOf(beyond, 0, 0), 0, true, frame).Pix), 1e-2, "its ends lie beyond the picture")
	bent := Strand([]Wire{{geom.Pt(10, 10), 4}, {geom.Pt(30, 10), 4}, {geom.Pt(30, 35), 4}})
	// Two bars that share a 2 x 2 square at the bend, where a quarter disc rounds the outside.
	assert.InDelta(t, 20*4+25*4-2*2+math.Pi+math.Pi*4, sum(Edge(rimOf(bent, 0, 0), 0, true, frame).Pix), 0.4)
	assert.Empty(t, Strand([]Wire{{geom.Pt(1, 1), 4}}))
}

func TestCombine(t *testing.T) {
	a := geom.Box{Min: geom.Pt(1, 1), Max: geom.Pt(3.5, 3)}.Corners()
	b := geom.Box{Min: geom.Pt(3, 1), Max: geom.Pt(6, 3)}.Corners()
	ma, mb := Coverage(a[:], frame), Coverage(b[:], frame)
	u := Combine(frame, Layer{Matte: ma, Opacity: 1}, Layer{Matte: mb, Opacity: 1})
	assert.InDelta(t, 1, u.At(3, 2), 1e-6)
	assert.InDelta(t, 1, u.At(1, 1), 1e-6)
	assert.InDelta(t, 1, u.At(5, 2), 1e-6)
	take := Combine(frame, Layer{Matte: ma, Opacity: 1}, Layer{Matte: mb, Opacity: 0.5, Combine: Take})
	assert.InDelta(t, 0.25, take.At(3, 2), 1e-6)
	assert.InDelta(t, 1, take.At(1, 1), 1e-6)
	keep := Combine(frame, Layer{Matte: ma, Opacity: 1}, Layer{Matte: mb, Opacity: 1, Combine: Keep})
	assert.InDelta(t, 0.5, keep.At(3, 2), 1e-6)
	assert.Zero(t, keep.At(1, 1))
	all := Combine(frame, Layer{Matte: ma, Opacity: 1, Invert: true})
	assert.InDelta(t, 64*48-2.5*2, sum(all.Pix), 1e-3)
	assert.Empty(t, Combine(frame).Pix)
}

// Boxes between the pixels, in part out of the frame, cover each pixel by the product of what they cover of it across and along; so do
// two of them that one polygon goes round.
func TestBoxesAtTheFramesEdge(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 12))
	within := image.Rect(3, -2, 12, 8)
	share := func(low, high float64, at int) float64 {
		return math.Max(math.Min(high, float64(at+1))-math.Max(low, float64(at)), 0)
	}
	for range 500 {
		var polygon []geom.Point
		var boxes []geom.Box
		for k := range 1 + rng.IntN(2) { // the second one begins in the first one's corner, and goes on to the right of it
			b := geom.Box{Min: geom.Pt(12*rng.Float64(), 12*rng.Float64()-4)}
			if k == 1 {
				b.Min = boxes[0].Max
			}
			b.Max = b.Min.Add(geom.Pt(0.1+6*rng.Float64(), 0.1+6*rng.Float64()))
			boxes = append(boxes, b)
		}
		c := boxes[0].Corners()
		polygon = append(polygon, c[0], c[1], c[2])
		if len(boxes) == 2 {
			d := boxes[1].Corners()
			polygon = append(polygon, d[1], d[2], d[3], d[0])
		}
		polygon = append(polygon, c[3])
		got := Coverage(polygon, within)
		for y := within.Min.Y; y < within.Max.Y; y++ {
			for x := within.Min.X; x < within.Max.X; x++ {
				want, is := 0.0, float32(0)
				for _, b := range boxes {
					want += share(b.Min.X, b.Max.X, x) * share(b.Min.Y, b.Max.Y, y)
				}
				if image.Pt(x, y).In(got.Rect) {
					is = got.At(x, y)
				}
				require.InDelta(t, want, is, 2e-5, "%v %d, %d", polygon, x, y)
			}
		}
	}
}
