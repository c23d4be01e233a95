package track

import (
	"image"
	"math"
	"slices"

	"jardin/core/geom"
	"jardin/core/raster"
)

// moves is how things moved from one frame to the next, around an outline.
type moves struct {
	inside  geom.Homography
	outside *geom.Homography // nil where it is not known
	noise   float64          // by how much what went along differs, RMS of a channel
	was     []geom.Point     // the outline on the frame before
	whole   bool             // the inside went as a whole, and more is known of it than where to
	sure    bool             // the inside is held against where the outline was drawn
}

// carried takes an outline along.
func carried(knots []geom.Knot, h geom.Homography) []geom.Knot {
	out := make([]geom.Knot, len(knots))
	for i, k := range knots {
		at := h.Apply(k.At)
		out[i] = geom.Knot{At: at}
		if k.In != (geom.Point{}) { // a corner stays one
			out[i].In = h.Apply(k.At.Add(k.In)).Sub(at)
		}
		if k.Out != (geom.Point{}) {
			out[i].Out = h.Apply(k.At.Add(k.Out)).Sub(at)
		}
	}
	return out
}

// A hold says where a sample of the contour should be, and how strongly.
type hold struct {
	at, weight float64
	known      bool // it rests on what the inside looked like where the outline was drawn
}

// reading shows a picture of colours as they are seen to those who follow planes: its luma (Rec. 709's weights).
func reading(m *raster.Image) FrameReader {
	luma := raster.NewPlane(m.Rect)
	for i := range luma.Pix {
		luma.Pix[i] = 0.2126*m.Pix[4*i] + 0.7152*m.Pix[4*i+1] + 0.0722*m.Pix[4*i+2]
	}
	return func(image.Rectangle) (*raster.Plane, error) { return luma, nil }
}

// ring is the outline's polygon moved across by so many pixels.
func ring(knots []geom.Knot, by float64) (out []geom.Point) {
	for _, s := range along(knots) {
		out = append(out, s.at.Add(s.normal.Mul(by)))
	}
	return out
}

// inner is what surely lies inside.
func inner(knots []geom.Knot) []geom.Point { return ring(knots, -1.5) }

// moves finds how the inside, and what lies around, went from one frame to the next.
func (e *Edge) moves(before, now *raster.Image, samples []sample) moves {
	m := moves{was: geom.Flatten(e.Knots, 0.1)}
	readBefore, readNow := reading(before), reading(now)
	step := func(region []geom.Point, without [][]geom.Point, covered [][]geom.Point) (geom.Homography, bool) {
		p, err := NewPlane(readBefore, e.size, region, without, geom.Shear)
		if err != nil {
			return geom.Identity, false
		}
		s, err := p.Step(readNow, covered)
		return s.H, err == nil && s.Sure()
	}
	rim := probes(before, samples)
	middle := geom.Bounds(m.was).Centre()
	h := geom.Translation(e.shifted(now, rim))
	if p, err := NewPlane(readBefore, e.size, inner(e.Knots), nil, geom.Shear); err == nil {
		least := differs(now, rim, h.Apply)
		for _, find := range []func() (Sample, error){
			func() (Sample, error) { return p.Near(readNow, nil, h) },
			func() (Sample, error) { return p.Step(readNow, nil) },
		} {
			s, err := find()
			if err != nil || !s.Sure() || !steady(s.H, middle) {
				continue
			}
			if d := differs(now, rim, s.H.Apply); d < least {
				h, least, m.whole = s.H, d, true
			}
		}
	}
	was, known := e.Inside.Inverse()
	e.Inside = h.Mul(e.Inside)
	if e.home != nil && known {
		if s, err := e.home.Near(readNow, nil, e.Inside); err == nil {
			again := s.H.Mul(was)
			if steady(again, middle) && differs(now, rim, again.Apply) < 1.2*differs(now, rim, h.Apply) {
				h, e.Inside, m.sure, m.whole = again, s.H, true, true
			}
		}
	}
	e.stay(readNow, h)
	m.inside = h
	moved := geom.Flatten(carried(e.Knots, h), 0.1)
	if out, ok := step(ring(e.Knots, 45), [][]geom.Point{ring(e.Knots, 4)}, [][]geom.Point{moved}); ok {
		m.outside = &out
	}
	m.noise = m.noiseOf(before, now, samples)
	return m
}

// steady reports whether a mapping from a frame to the next neither grows, shrinks nor shears by more than a fifth.
func steady(h geom.Homography, at geom.Point) bool {
	p := h.Apply(at)
	x, y := h.Apply(at.Add(geom.Pt(1, 0))).Sub(p), h.Apply(at.Add(geom.Pt(0, 1))).Sub(p)
	const most = 1.2
	along, across := x.Len(), y.Len()
	return along < most && across < most && along > 1/most && across > 1/most && math.Abs(x.X*y.X+x.Y*y.Y) < 0.2*along*across
}

// apart is how far colours are from each other, the mean square over channels.
func apart(a, b [3]float64) (sum float64) {
	for k := range 3 {
		sum += (a[k] - b[k]) * (a[k] - b[k]) / 3
	}
	return sum
}

// noiseOf measures by how much what surely went along differs: the median over the inside's rim.
func (m *moves) noiseOf(before, now *raster.Image, samples []sample) float64 {
	var all []float64
	for i := 0; i < len(samples); i += max(1, len(samples)/80) {
		for d := 3.0; d <= 13; d += 2 {
			p := samples[i].at.Sub(samples[i].normal.Mul(d))
			q := m.inside.Apply(p)
			if within(before, p) && within(now, q) {
				all = append(all, apart(colourAt(before, p), colourAt(now, q)))
			}
		}
	}
	if len(all) < 20 {
		return 0.05
	}
	slices.Sort(all)
	return math.Max(math.Sqrt(all[len(all)/2]), 0.006)
}

// leaning judges the places across the contour by colours and by motion.
func (m *moves) leaning(now, before *raster.Image, samples []sample, sides []Side) []leaning {
	back, ok := m.inside.Inverse()
	var outBack geom.Homography
	byMotion := ok && m.outside != nil
	if byMotion {
		outBack, byMotion = m.outside.Inverse()
	}
	out := make([]leaning, len(samples))
	const most = 4.0 // times the noise: more does not say more
	const unknown = 6.0
	variance := m.noise * m.noise
	raster.Rows(0, len(samples), func(i int) {
		for k := range edgePlaces {
			q := samples[i].across(k)
			if !within(now, q) {
				continue
			}
			c := colourAt(now, q)
			v := sides[i].likelihood(c)
			if byMotion {
				as := func(h geom.Homography, inside bool) float64 {
					p := h.Apply(q)
					if !within(before, p) || geom.Inside(m.was, p) != inside {
						return unknown
					}
					return math.Min(apart(colourAt(before, p), c)/variance, most*most)
				}
				v += math.Min(math.Max((as(outBack, false)-as(back, true))/2, -4), 4)
			}
			out[i][k] = v
		}
	})
	return out
}

// Patches of the rim that are looked for as they were where the outline was drawn.
const (
	stayApart = 5    // samples of the contour
	stayBox   = 19.0 // pixels, a patch's side
	stayReach = 6    // pixels that it may be off from where it is expected
	stayMatch = 0.75 // correlation
)

func (e *Edge) patch(at geom.Point) (*Point, error) {
	return NewPoint(e.read, e.size, at, PointOptions{
		Pattern: geom.Pt(stayBox, stayBox), Search: geom.Pt(stayBox+2*stayReach, stayBox+2*stayReach),
		Motion: geom.Similarity, Against: Reference, Tolerance: stayMatch,
	})
}

// stays finds the patches: those that lie inside wholly, have texture, and cannot be taken for what lies beside.
func (e *Edge) stays(samples []sample) (out []Stay) {
	poly := geom.Flatten(e.Drawn, 0.1)
	for i := 0; i < len(samples); i += stayApart {
		at := samples[i].at.Sub(samples[i].normal.Mul(stayBox/2 + 2))
		whole := true
		for _, d := range []geom.Point{{X: -1, Y: -1}, {X: 1, Y: -1}, {X: -1, Y: 1}, {X: 1, Y: 1}} {
			whole = whole && geom.Inside(poly, at.Add(d.Mul(stayBox/2)))
		}
		if !whole {
			continue
		}
		if p, err := e.patch(at); err == nil && p.repeats(3, stayReach+1) < stayMatch {
			out = append(out, Stay{Sample: i, Home: at, At: at, Match: 1, Warp: geom.Identity})
		}
	}
	return out
}

// stay looks for the patches on the frame that is come to, to which the inside goes from the last one by h.
func (e *Edge) stay(read FrameReader, h geom.Homography) {
	linear := e.Inside
	at := linear.Apply(geom.Point{})
	linear = geom.Translation(at.Mul(-1)).Mul(linear)
	stays := slices.Clone(e.Stays)
	raster.Rows(0, len(stays), func(i int) {
		s := &stays[i]
		s.At, s.Match = h.Apply(s.At), 0
		p, err := e.patch(s.Home)
		if err != nil || p.Place(read, s.At) != nil {
			return
		}
		p.warp = linear
		if found, err := p.Step(read); err == nil && alike(p.warp, linear) {
			s.At, s.Match, s.Warp = found.At, found.Match, p.warp
		}
	})
	e.Stays = stays
}

// alike reports whether two patches are laid alike: neither turned, grown nor sheared by more than a sixth.
func alike(a, b geom.Homography) bool {
	for _, k := range []int{0, 1, 3, 4} {
		if math.Abs(a[k]-b[k]) > 1.0/6 {
			return false
		}
	}
	return true
}

// held says where samples should be: where patches of the rim, or else the whole inside, take them from where the outline was
// drawn, if they are found as they were there.
func (e *Edge) held(samples []sample, m moves) []hold {
	out := make([]hold, len(samples))
	home := along(e.Drawn)
	drawn := carried(e.Drawn, e.Inside)
	for i, s := range samples {
		across := func(p geom.Point) float64 { d := p.Sub(s.at); return d.X*s.normal.X + d.Y*s.normal.Y }
		out[i].weight = 0.02
		if m.sure {
			out[i] = hold{across(curve(drawn, s.knot, s.t)), 0.1, true}
		}
		there := curve(e.Drawn, s.knot, s.t)
		var sum, weight float64
		for _, v := range e.Stays {
			const far = 12 // samples
			apart := math.Abs(float64(v.Sample) - float64(i)*float64(len(home))/float64(len(samples)))
			apart = math.Min(apart, float64(len(home))-apart)
			if v.Match < stayMatch || apart > far {
				continue
			}
			w := math.Exp(-apart * apart / 18)
			sum += w * across(v.At.Add(v.Warp.Apply(there.Sub(v.Home))))
			weight += w
		}
		if weight > 0.3 {
			out[i] = hold{sum / weight, 0.15, true}
		}
	}
	return out
}

// curve is a place of an outline: so far between a knot and the next.
func curve(knots []geom.Knot, k int, t float64) geom.Point {
	a, b := knots[k], knots[(k+1)%len(knots)]
	u := 1 - t
	return a.At.Mul(u * u * u).Add(a.At.Add(a.Out).Mul(3 * u * u * t)).Add(b.At.Add(b.In).Mul(3 * u * t * t)).Add(b.At.Mul(t * t * t))
}
