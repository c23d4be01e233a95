package geom

import (
	"math"
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
