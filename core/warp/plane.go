package warp

import "jardin/core/geom"

// A Plane is the carrier of a flat surface: a homography.
type Plane struct{ H geom.Homography }

// Of returns the mapping of a homography.
func Of(h geom.Homography) *Plane { return &Plane{h} }

func (m *Plane) Apply(p geom.Point) geom.Point { return m.H.Apply(p) }

func (m *Plane) Inverse() (Mapping, bool) {
	h, ok := m.H.Inverse()
	if !ok {
		return nil, false
	}
	return Of(h), true
}

func (m *Plane) Bounds(box geom.Box) geom.Box {
	corners := box.Corners()
	return geom.Bounds(m.H.ApplyAll(corners[:]))
}

func (m *Plane) Scale(p geom.Point) float64 { return m.H.Scale(p) }

func (m *Plane) Sees(p geom.Point) bool { return m.H[6]*p.X+m.H[7]*p.Y+m.H[8] > 0 }

func (m *Plane) Homography() (geom.Homography, bool) { return m.H, true }
