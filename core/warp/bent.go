package warp

import (
	"math"

	"jardin/core/geom"
)

// A Bent is the carrier of a flat surface that grids bend on either frame: from frame A home,
// where A's lattices are taken off and B's put on, to frame B.
type Bent struct {
	A, B     geom.Homography // from home to each frame
	OnA, OnB []geom.Lattice  // at home, in the order in which they were put on
	Plain    geom.Homography // from A to B without any bend

	fromA geom.Homography `memo:"-"` // the inverse of A
}

// NewBent returns the mapping from frame a to frame b of a surface with its lattices there;
// ok is false where a cannot be inverted.
func NewBent(a, b geom.Homography, onA, onB []geom.Lattice) (Mapping, bool) {
	fromA, ok := a.Inverse()
	if !ok {
		return nil, false
	}
	plain := b.Mul(fromA).Normalised()
	if len(onA) == 0 && len(onB) == 0 {
		return Of(plain), true
	}
	return &Bent{A: a, B: b, OnA: onA, OnB: onB, Plain: plain, fromA: fromA}, true
}

func (m *Bent) Apply(p geom.Point) geom.Point {
	p = m.fromA.Apply(p)
	for i := range m.OnA {
		p = m.OnA[i].Unbend(p)
	}
	for i := len(m.OnB) - 1; i >= 0; i-- {
		p = m.OnB[i].Bend(p)
	}
	return m.B.Apply(p)
}

func (m *Bent) Inverse() (Mapping, bool) {
	plain, ok := m.Plain.Inverse()
	fromB, invertible := m.B.Inverse()
	if !ok || !invertible {
		return nil, false
	}
	return &Bent{A: m.B, B: m.A, OnA: m.OnB, OnB: m.OnA, Plain: plain, fromA: fromB}, true
}

func (m *Bent) Bounds(box geom.Box) geom.Box { return outlineBounds(m, box) }

// Scale returns the scale without the bend, which is small beside it.
func (m *Bent) Scale(p geom.Point) float64 { return m.Plain.Scale(p) }

func (m *Bent) Sees(p geom.Point) bool {
	return m.Plain[6]*p.X+m.Plain[7]*p.Y+m.Plain[8] > 0
}

func (m *Bent) Homography() (geom.Homography, bool) { return geom.Homography{}, false }

// outlineBounds returns the box around where a mapping that is continuous takes the edge of a
// box, looked at every 16 pixels.
func outlineBounds(m Mapping, box geom.Box) geom.Box {
	corners := box.Corners()
	var around []geom.Point
	for i, a := range corners {
		b := corners[(i+1)%4]
		n := max(2, int(math.Ceil(a.Dist(b)/16)))
		for k := range n {
			around = append(around, m.Apply(a.Lerp(b, float64(k)/float64(n))))
		}
	}
	return geom.Bounds(around)
}
