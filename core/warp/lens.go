package warp

import (
	"math"

	"jardin/core/geom"
)

// A Lens is the carrier that a lens is: from the straight picture to what is seen, or back.
type Lens struct {
	Lens geom.Lens
	Out  bool // from what is seen to the straight picture
}

// LensIn returns the mapping from the straight picture to what is seen, LensOut the one back.
func LensIn(l geom.Lens) Mapping { return lensed(l, false) }

// LensOut returns the mapping from what is seen to the straight picture.
func LensOut(l geom.Lens) Mapping { return lensed(l, true) }

func lensed(l geom.Lens, out bool) Mapping {
	if l.Plain() {
		return Identity
	}
	return &Lens{l, out}
}

func (m *Lens) Apply(p geom.Point) geom.Point {
	if m.Out {
		return m.Lens.Straighten(p)
	}
	return m.Lens.Distort(p)
}

func (m *Lens) Inverse() (Mapping, bool) { return &Lens{m.Lens, !m.Out}, true }

func (m *Lens) Bounds(box geom.Box) geom.Box { return outlineBounds(m, box) }

// Scale returns the square root of the areas' ratio.
func (m *Lens) Scale(p geom.Point) float64 {
	if m.Out {
		p = m.Lens.Straighten(p)
	}
	xx, xy, yx, yy := m.Lens.Jacobian(p)
	k := math.Sqrt(math.Abs(xx*yy - xy*yx))
	if m.Out {
		return 1 / k
	}
	return k
}

func (m *Lens) Sees(p geom.Point) bool { return m.Apply(p).Finite() }

func (m *Lens) Homography() (geom.Homography, bool) { return geom.Homography{}, false }
