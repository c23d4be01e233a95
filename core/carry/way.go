package carry

import (
	"math"

	"jardin/core/geom"
)

// A Way takes places from one frame to another: by a homography and, where a track
// is corrected by a grid on either frame, by its bend as well.
type Way struct {
	geom.Homography       // without any bend
	Bent            *Bent `json:",omitempty"`
}

// Bent is what bends a way: from home to both frames, and the lattices there.
type Bent struct {
	A, B   geom.Homography
	OnA    []geom.Lattice
	OnB    []geom.Lattice
	backOf struct{ a, b geom.Homography } `memo:"-"` // follows from A and B
}

// Straight is the way of a homography alone.
func Straight(h geom.Homography) Way { return Way{Homography: h} }

// Way returns how a track takes frame a to frame b. ok is false where it is not
// known on one of them.
func (s *Set) Way(id string, a, b int) (Way, bool) {
	h, ok := s.Between(id, a, b)
	m := s.tracks[id]
	if !ok || m == nil || (len(m.bends[a]) == 0 && len(m.bends[b]) == 0) {
		return Straight(h), ok
	}
	bent := &Bent{OnA: m.bends[a], OnB: m.bends[b]}
	bent.A, _ = m.At(a)
	bent.B, _ = m.At(b)
	bent.backOf.a, _ = bent.A.Inverse()
	bent.backOf.b, _ = bent.B.Inverse()
	return Way{h, bent}, true
}

// Apply takes a place along the way.
func (w *Way) Apply(p geom.Point) geom.Point {
	b := w.Bent
	if b == nil {
		return w.Homography.Apply(p)
	}
	p = b.backOf.a.Apply(p)
	for i := range b.OnA {
		p = b.OnA[i].Unbend(p)
	}
	for i := len(b.OnB) - 1; i >= 0; i-- {
		p = b.OnB[i].Bend(p)
	}
	return b.B.Apply(p)
}

// ApplyAll takes several places along the way.
func (w *Way) ApplyAll(points []geom.Point) []geom.Point {
	out := make([]geom.Point, len(points))
	for i, p := range points {
		out[i] = w.Apply(p)
	}
	return out
}

// Inverse returns the way back. ok is false where there is none.
func (w *Way) Inverse() (Way, bool) {
	h, ok := w.Homography.Inverse()
	if !ok || w.Bent == nil {
		return Straight(h), ok
	}
	b := &Bent{A: w.Bent.B, B: w.Bent.A, OnA: w.Bent.OnB, OnB: w.Bent.OnA}
	b.backOf.a, b.backOf.b = w.Bent.backOf.b, w.Bent.backOf.a
	return Way{h, b}, true
}

// Bounds returns the box around where the way takes a box: all of its edge, which
// may be bent.
func (w *Way) Bounds(box geom.Box) geom.Box {
	corners := box.Corners()
	if w.Bent == nil {
		return geom.Bounds(w.Homography.ApplyAll(corners[:]))
	}
	var around []geom.Point
	for i, a := range corners {
		b := corners[(i+1)%4]
		n := max(2, int(math.Ceil(a.Dist(b)/16)))
		for k := range n {
			around = append(around, w.Apply(a.Lerp(b, float64(k)/float64(n))))
		}
	}
	return geom.Bounds(around)
}
