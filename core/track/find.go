package track

import (
	"math"
	"slices"

	"jardin/core/geom"
	"jardin/core/raster"
)

// find looks for a surface that was lost anywhere on a frame, as large and turned as it was last: by normalised
// correlation of a coarse picture, then by aligning from the best places.
func (t *Plane) find(read FrameReader, covered [][]geom.Point) (Sample, []*raster.Plane, error) {
	seen, err := read(t.size)
	if err != nil {
		return Sample{}, nil, err
	}
	clean, err := numbers(seen)
	if err != nil {
		return Sample{}, nil, err
	}
	frame := raster.Pyramid(raster.Gaussian(clean, presmooth), maxLevels)
	mask := maskOf(covered, frame[0].Rect)
	// As coarse as still says something; never so fine that every frame takes seconds.
	const few, large = 300, 130_000
	level := len(t.align.levels) - 1
	for level > 0 && len(t.align.levels[level].tpl) < few &&
		frame[level-1].Rect.Dx()*frame[level-1].Rect.Dy() <= large {
		level--
	}
	best, failed := Sample{}, ErrLost
	for _, guess := range t.align.places(frame, level, t.last.H, 6) {
		s, err := t.align.run(frame, guess, level, mask, nil)
		if err == nil {
			err = t.accept(s)
		}
		if err == nil {
			err = t.certain(s)
		}
		if err == nil && s.worth() > best.worth() {
			best, failed = s, nil
		}
	}
	return best, frame, failed
}

// places returns up to so many places on a frame that look like the region, best first: it is carried by h, and moved.
func (a *aligner) places(frame []*raster.Plane, level int, h geom.Homography, most int) []geom.Homography {
	l := &a.levels[level]
	scale := h.Scale(geom.Bounds(a.region).Centre())
	at := min(max(level+int(math.Round(math.Log2(math.Max(scale, 1e-3)))), 0), len(frame)-1)
	to, back := levelOf(at)
	w := to.Mul(h).Mul(l.fromLevel).Mul(l.denorm)
	picture := frame[at]
	// Enough of the template's pixels, where they lie on the picture.
	type probe struct {
		at geom.Point
		v  float64
	}
	var probes []probe
	every := 1 + len(l.tpl)/500
	for i := 0; i < len(l.tpl); i += every {
		probes = append(probes, probe{w.Apply(geom.Pt(l.xs[i], l.ys[i])), float64(l.tpl[i])})
	}
	var box geom.Box
	for i, p := range probes {
		if i == 0 {
			box = geom.Box{Min: p.at, Max: p.at}
		}
		box.Min = geom.Pt(math.Min(box.Min.X, p.at.X), math.Min(box.Min.Y, p.at.Y))
		box.Max = geom.Pt(math.Max(box.Max.X, p.at.X), math.Max(box.Max.Y, p.at.Y))
	}
	// Its middle may be anywhere on the picture.
	middle := box.Centre()
	r := picture.Rect
	wide, high := r.Dx(), r.Dy()
	score := make([]float64, wide*high)
	raster.Rows(0, high, func(y int) {
		for x := range wide {
			d := geom.Pt(float64(r.Min.X+x)+0.5, float64(r.Min.Y+y)+0.5).Sub(middle)
			var n, su, sv, suu, svv, suv float64
			for _, p := range probes {
				u, v := int(math.Floor(p.at.X+d.X)), int(math.Floor(p.at.Y+d.Y))
				if u < r.Min.X || v < r.Min.Y || u >= r.Max.X || v >= r.Max.Y {
					continue
				}
				s := float64(picture.Pix[(v-r.Min.Y)*wide+u-r.Min.X])
				n, su, sv, suu, svv, suv = n+1, su+p.v, sv+s, suu+p.v*p.v, svv+s*s, suv+p.v*s
			}
			if n < 0.4*float64(len(probes)) || n < 40 {
				continue
			}
			uu, vv := suu-su*su/n, svv-sv*sv/n
			if uu > 1e-9 && vv > 1e-9 {
				score[y*wide+x] = (suv - su*sv/n) / math.Sqrt(uu*vv)
			}
		}
	})
	// Peaks, the highest first.
	var peaks []int
	for i, s := range score {
		if s < 0.3 {
			continue
		}
		x, y := i%wide, i/wide
		highest := true
		for v := max(y-1, 0); v <= min(y+1, high-1) && highest; v++ {
			for u := max(x-1, 0); u <= min(x+1, wide-1); u++ {
				if score[v*wide+u] > s {
					highest = false
					break
				}
			}
		}
		if highest {
			peaks = append(peaks, i)
		}
	}
	slices.SortStableFunc(peaks, func(a, b int) int {
		switch {
		case score[a] > score[b]:
			return -1
		case score[a] < score[b]:
			return 1
		}
		return 0
	})
	var out []geom.Homography
	for _, i := range peaks[:min(most, len(peaks))] {
		d := geom.Pt(float64(r.Min.X+i%wide)+0.5, float64(r.Min.Y+i/wide)+0.5).Sub(middle)
		out = append(out, back.Mul(geom.Translation(d)).Mul(to).Mul(h).Normalised())
	}
	return out
}
