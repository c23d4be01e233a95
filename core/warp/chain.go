package warp

import "jardin/core/geom"

// A Chained carrier is several mappings, one after the other: lens out, homography, lens in.
type Chained struct{ Steps []Mapping }

// Chain returns mappings one after the other, the first one first. Neighbours that are plain
// homographies become one.
func Chain(steps ...Mapping) Mapping {
	var out []Mapping
	for _, s := range steps {
		if c, ok := s.(*Chained); ok {
			out = append(out, c.Steps...)
			continue
		}
		out = append(out, s)
	}
	kept := out[:0:0]
	for _, s := range out {
		h, plain := s.Homography()
		if plain && h == geom.Identity {
			continue
		}
		if n := len(kept); n > 0 && plain {
			if before, ok := kept[n-1].Homography(); ok {
				kept[n-1] = Of(h.Mul(before))
				continue
			}
		}
		kept = append(kept, s)
	}
	switch len(kept) {
	case 0:
		return Identity
	case 1:
		return kept[0]
	}
	return &Chained{kept}
}

func (m *Chained) Apply(p geom.Point) geom.Point {
	for _, s := range m.Steps {
		p = s.Apply(p)
	}
	return p
}

func (m *Chained) Inverse() (Mapping, bool) {
	back := make([]Mapping, len(m.Steps))
	for i, s := range m.Steps {
		b, ok := s.Inverse()
		if !ok {
			return nil, false
		}
		back[len(back)-1-i] = b
	}
	return &Chained{back}, true
}

func (m *Chained) Bounds(box geom.Box) geom.Box { return outlineBounds(m, box) }

func (m *Chained) Scale(p geom.Point) float64 {
	scale := 1.0
	for _, s := range m.Steps {
		scale *= s.Scale(p)
		p = s.Apply(p)
	}
	return scale
}

func (m *Chained) Sees(p geom.Point) bool {
	for _, s := range m.Steps {
		if !s.Sees(p) {
			return false
		}
		p = s.Apply(p)
	}
	return true
}

func (m *Chained) Homography() (geom.Homography, bool) { return geom.Homography{}, false }
