package track

import (
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A trial is something that is tried ever more seldom while it is in vain.
type trial struct{ vain, rest int }

// rests reports whether it is not tried this time.
func (t *trial) rests() bool {
	if t.rest == 0 {
		return false
	}
	t.rest--
	return true
}

// was says whether it helped.
func (t *trial) was(good bool) {
	if good {
		t.vain, t.rest = 0, 0
		return
	}
	t.vain = min(2*t.vain+1, 15)
	t.rest = t.vain
}

// wholly is the share of a region that has to agree as it is, so that it can be out of focus.
const wholly = 0.8

// softened looks whether a surface that looks less alike than it did is out of focus: the reference frame is made softer, by
// half a pixel of sigma more or less than on the frame before, for as long as that looks more alike, and aligned anew. What
// is compared then is equally soft, so that parts whose detail is gone no longer pull.
func (t *Plane) softened(next []*raster.Plane, s Sample, guess geom.Homography, mask *raster.Plane) Sample {
	const most = 12 // halves of a pixel
	t.sharp = math.Max(t.sharp, s.Match)
	if s.Agree < wholly { // something covers it: softer, much looks like that
		t.soft = 0
		return s
	}
	if t.soft == 0 && (1-s.Match < 1.4*(1-t.sharp)+0.0003 || t.softly.rests()) {
		return s
	}
	best, at := s, 0
	from := []geom.Homography{s.H}
	if t.soft > 0 { // as little is compared to what it was, that may be far off: from where it was going as well
		from = append(from, guess)
	}
	try := func(k int) (better bool) {
		if k < 1 || k > most {
			return false
		}
		a := t.softerBy(k)
		if a == nil {
			return false
		}
		for _, h := range from {
			again, err := a.run(next, h, nearLevel, mask, &t.last.Blocks)
			if err == nil && t.accept(again) == nil && 1-again.Match < 0.97*(1-best.Match) {
				best, at, better = again, k, true
			}
		}
		from = []geom.Homography{best.H}
		return better
	}
	start := max(t.soft, 1)
	if try(start) || start > 1 {
		up := start + 1
		for try(up) {
			up++
		}
		if up == start+1 {
			for down := start - 1; try(down); down-- {
			}
		}
	}
	t.soft = at
	t.softly.was(at > 0)
	return best
}

// softerBy returns what aligns the reference frame made softer by so many halves of a pixel; nil where that holds nothing.
func (t *Plane) softerBy(k int) *aligner {
	if a, ok := t.softer[k]; ok {
		return a
	}
	if t.softer == nil {
		t.softer = map[int]*aligner{}
	}
	a, err := newAligner(raster.Pyramid(raster.Gaussian(t.home[0], float64(k)/2), 2), t.region, t.without, t.motion)
	if err != nil {
		a = nil
	}
	t.softer[k] = a
	return a
}
