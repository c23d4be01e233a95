package track

import (
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
)

// shutters are the shares of the time between two frames for which an exposure may last.
var shutters = []float64{0.25, 0.5, 0.75, 1}

// smeared looks whether a surface that moves fast, and looks less alike than it did, is smeared by its own motion:
// the reference frame is smeared as it would be, and aligned anew. It returns the better of what was known and that.
// Where that was in vain it is not tried again on every frame, but ever more seldom.
func (t *Plane) smeared(next []*raster.Plane, s Sample, mask *raster.Plane) Sample {
	if t.smearing.rests() {
		return s
	}
	was := s.Match
	s = t.smearedBy(next, s, mask)
	t.smearing.was(s.Match > was)
	return s
}

func (t *Plane) smearedBy(next []*raster.Plane, s Sample, mask *raster.Plane) Sample {
	const least, most = 3.0, 120.0 // pixels
	middle := geom.Bounds(t.region).Centre()
	for range 2 { // once more, as the motion is known better then
		now := s.H.Apply(middle)
		d := now.Sub(t.last.H.Apply(middle)).Mul(0.5)
		back, ok := s.H.Inverse()
		if !ok {
			return s
		}
		along := back.Apply(now.Add(d)).Sub(back.Apply(now.Sub(d)))
		if along.Len() < least || along.Len() > most {
			return s
		}
		best := s
		for _, share := range shutters {
			by := along.Mul(share)
			if by.Len() < least/2 {
				continue
			}
			a, err := newAligner(raster.Pyramid(smear(t.home[0], by), 3), t.region, t.without, t.motion)
			if err != nil {
				continue
			}
			again, err := a.run(next, s.H, nearLevel, mask, &t.last.Blocks)
			if err == nil && t.accept(again) == nil && again.Match > best.Match+0.003 && again.worth() > best.worth() {
				best = again
			}
		}
		if best.Match == s.Match {
			return s
		}
		s = best
	}
	return s
}

// smear returns a picture as it is seen when it moves by so much while it is exposed.
func smear(p *raster.Plane, by geom.Point) *raster.Plane {
	out := raster.NewPlane(p.Rect)
	n := int(math.Ceil(by.Len())) + 1
	w := p.Rect.Dx()
	raster.Rows(p.Rect.Min.Y, p.Rect.Max.Y, func(y int) {
		row := out.Row(y, p.Rect.Min.X, p.Rect.Max.X)
		for k := range n {
			d := by.Mul((float64(k)+0.5)/float64(n) - 0.5)
			for x := range w {
				row[x] += p.Bilinear(float64(p.Rect.Min.X+x)+0.5+d.X, float64(y)+0.5+d.Y) / float32(n)
			}
		}
	})
	return out
}
