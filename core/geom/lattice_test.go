package geom

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestALatticeGoesThroughItsCrossingsAndBack(t *testing.T) {
	l := Lattice{Box: Box{Pt(100, 50), Pt(400, 250)}, Columns: 3, Rows: 2}
	for i := range 12 {
		l.Shift = append(l.Shift, Pt(6*math.Sin(float64(i)), 5*math.Cos(float64(2*i))))
	}
	for r := range 3 {
		for c := range 4 {
			p := l.Crossing(c, r)
			assert.InDelta(t, 0, l.Bend(p).Dist(p.Add(l.Shift[4*r+c])), 1e-9)
		}
	}
	for x := 60.0; x < 440; x += 17 {
		for y := 20.0; y < 290; y += 13 {
			p := Pt(x, y)
			assert.InDelta(t, 0, l.Unbend(l.Bend(p)).Dist(p), 1e-3)
			// Smooth: half a pixel farther is nearly the same shift.
			assert.Less(t, l.Bend(Pt(x+0.5, y)).Sub(Pt(x+0.5, y)).Dist(l.Bend(p).Sub(p)), 0.2)
		}
	}
	// Equal shifts are a plain move, everywhere.
	for i := range l.Shift {
		l.Shift[i] = Pt(3, -2)
	}
	assert.InDelta(t, 0, l.Bend(Pt(-500, 900)).Dist(Pt(-497, 898)), 1e-9)
}

// Pins are met to a fiftieth of a pixel wherever they lie, nothing moves beyond their reach, and between them nothing jumps.
func TestPins(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 8))
	for range 200 {
		box := Box{Pt(300*rng.Float64(), 200*rng.Float64()), Pt(0, 0)}
		box.Max = box.Min.Add(Pt(20+600*rng.Float64(), 20+400*rng.Float64()))
		size := box.Max.Sub(box.Min)
		reach := math.Max(size.X, size.Y) * (0.1 + 0.7*rng.Float64())
		var pins, by []Point
		for len(pins) < 1+rng.IntN(9) {
			p := box.Min.Add(Pt(size.X*rng.Float64(), size.Y*rng.Float64()))
			if slices.ContainsFunc(pins, func(q Point) bool { return q.Dist(p) < reach/4 }) {
				if rng.IntN(20) == 0 {
					break
				}
				continue
			}
			pins, by = append(pins, p), append(by, Pt(12*rng.NormFloat64(), 12*rng.NormFloat64()))
		}
		l := Pinned(box, pins, by, reach)
		for i, p := range pins {
			assert.InDelta(t, 0, l.Bend(p).Dist(p.Add(by[i])), 0.02)
		}
		most := 0.0
		for _, d := range by {
			most = math.Max(most, d.Len())
		}
		for range 40 {
			p := box.Min.Sub(size).Add(Pt(3*size.X*rng.Float64(), 3*size.Y*rng.Float64()))
			near := math.Inf(1)
			for _, q := range pins {
				near = math.Min(near, q.Dist(p))
			}
			if near > 1.6*reach { // a lattice's cells reach a little farther
				assert.Less(t, l.Bend(p).Dist(p), 1e-6)
			}
			step := l.Bend(p.Add(Pt(0.5, 0))).Sub(p.Add(Pt(0.5, 0))).Dist(l.Bend(p).Sub(p))
			assert.Less(t, step, 10*most/reach+0.01)
		}
	}
	// On each other, none at all, and none moved: numbers all the same.
	for _, pins := range [][]Point{nil, {Pt(5, 5), Pt(5, 5)}, {Pt(5, 5), Pt(5, 5.001), Pt(-900, 4)}} {
		by := make([]Point, len(pins))
		for i := range by {
			by[i] = Pt(2, 1)
		}
		l := Pinned(Box{Pt(0, 0), Pt(10, 10)}, pins, by, 0)
		for _, d := range l.Shift {
			assert.True(t, d.Finite() && d.Len() < 10)
		}
	}
}
