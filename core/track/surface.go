package track

import (
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A Surface follows a flat surface for as long as anything of it is in the picture. It is a Plane from the reference frame,
// and where the region leaves the picture, or becomes much larger or smaller, the region moves on: a new one of the same
// surface, on the frame at hand, of texture that was seen to move as the surface does, is followed from there, and tied to
// the reference frame by what is known of that frame. When the first region comes back it is taken up again, which ends all
// drift.
type Surface struct {
	size   image.Rectangle
	motion geom.Motion
	legs   []*leg // the first one from the reference frame
	began  int    // 1 where that is another region than was asked for, which was out of the picture
	at     int    // which of them is followed now
	moved  int
	before []Look // frames on which it was sure, the last one at the end
	apart  int    // frames since the first region was looked for

	seen []seen // all steps
	tied []tie  // legs to those that they were begun from
}

// A Look is a frame and where the surface is on it, from the reference frame.
type Look struct {
	Read FrameReader
	H    geom.Homography
}

const (
	leaves    = 0.6 // share of a region that has to be seen, or it moves on
	outgrown  = 3.0 // how much larger or smaller it may become, in area
	looksBack = 5   // frames that tell what moves as the surface does
	edge      = 6   // pixels of the picture's rim that no region takes in
)

// NewSurface prepares to follow as NewPlane does. before are frames on which the surface is known, if there are any: they
// are needed where the region is out of the picture on the reference frame.
func NewSurface(
	read FrameReader,
	size image.Rectangle,
	region []geom.Point,
	without [][]geom.Point,
	motion geom.Motion,
	before []Look,
) (*Surface, error) {
	s := &Surface{size: size, motion: motion, before: before}
	if share(region, geom.Identity, size) < leaves && len(before) > 0 {
		if p, err := s.further(read, without, region, geom.Identity, geom.Identity); err == nil {
			s.began, s.moved = 1, 1
			s.legs = []*leg{{Plane: p, to: geom.Identity, from: -1}}
			return s, nil
		}
	}
	p, err := NewPlane(read, size, region, without, motion)
	if err != nil {
		return nil, err
	}
	s.legs = []*leg{{Plane: p, to: geom.Identity, from: -1}}
	return s, nil
}

// Step follows the surface to the next frame, as Plane.Step does. The sample's H is from the reference frame; where the
// region moved on, its blocks are left empty, as they are those of another region.
func (s *Surface) Step(read FrameReader, covered [][]geom.Point) (Sample, error) {
	s.seen = append(s.seen, seen{look: read, covered: covered})
	step := &s.seen[len(s.seen)-1]
	found, err := s.legs[s.at].Step(read, covered)
	if err != nil {
		return found, err
	}
	step.leg, step.on, step.sample, step.found = s.at, found.H, found, true
	onLeg := found.H
	found = s.fromHome(found)
	if !found.Sure() || found.Deviation > unsure {
		return found, nil
	}
	if s.at > 0 {
		if back, ok := s.rejoin(read, covered, found.H); ok {
			s.tied = append(s.tied, tie{0, step.leg, inverse(onLeg).Mul(back.H), weightOf(found, back)})
			found, onLeg = back, back.H
			step.leg, step.on = 0, back.H
		}
	}
	if s.leaving(onLeg) {
		if p, err := s.further(read, covered, s.legs[s.at].region, onLeg, found.H); err == nil {
			p.move = s.legs[s.at].move
			next := &leg{Plane: p, to: found.H, first: len(s.seen) - 1, from: s.at}
			ties := s.ties(next, onLeg, found)
			s.tied = append(s.tied, ties...)
			s.legs = append(s.legs, next)
			to := make([]geom.Homography, len(s.legs))
			for k, l := range s.legs {
				to[k] = l.to
			}
			s.relax(len(s.legs)-1, to, ties, func(int) bool { return true })
			s.at = len(s.legs) - 1
			next.to = to[s.at]
			found.H = next.to
			step.leg, step.on = s.at, geom.Identity
			s.moved++
		}
	}
	s.before = append(s.before, Look{read, found.H})
	if n := len(s.before); n > looksBack {
		s.before = s.before[n-looksBack:]
	}
	return found, nil
}

// inverse of a mapping that is sane.
func inverse(h geom.Homography) geom.Homography {
	back, _ := h.Inverse()
	return back
}

func (s *Surface) fromHome(found Sample) Sample {
	if s.moved > 0 {
		found.H, found.Moved = found.H.Mul(s.legs[s.at].to).Normalised(), s.moved
		found.Blocks = [Blocks * Blocks]uint8{}
	}
	return found
}

// leaving reports whether the leg's region is about to be of no more use, where it lies as h says.
func (s *Surface) leaving(h geom.Homography) bool {
	return share(s.legs[s.at].region, h, s.size) < leaves || s.outgrown(s.at, h)
}

// outgrown reports whether a leg's region has become so much larger or smaller that too little is in both.
func (s *Surface) outgrown(k int, h geom.Homography) bool {
	region := s.legs[k].region
	grown := geom.Area(h.ApplyAll(region)) / math.Max(geom.Area(region), 1e-9)
	return grown > outgrown || grown < 1/outgrown
}

// share is how much of a region's box is in the picture, 0 to 1.
func share(region []geom.Point, h geom.Homography, size image.Rectangle) float64 {
	const n = 12
	box := geom.Bounds(region)
	all, seen := 0, 0
	for y := range n {
		for x := range n {
			p := geom.Pt(box.Min.X+(box.Max.X-box.Min.X)*(float64(x)+0.5)/n, box.Min.Y+(box.Max.Y-box.Min.Y)*(float64(y)+0.5)/n)
			if !geom.Inside(region, p) {
				continue
			}
			all++
			if q := h.Apply(p); q.Finite() && inside(q, size, edge) {
				seen++
			}
		}
	}
	return float64(seen) / math.Max(float64(all), 1)
}

// further prepares to follow a region of the same surface that lies in the picture: as much of the picture as moves like it,
// as the farther a region reaches the less errors grow beyond it; where that is little, a region about as large as the old
// one was on its own frame, as near to it as can be. onLeg takes the old region to this frame, h the reference frame's places.
// What was not seen to move as the surface does is left out.
func (s *Surface) further(
	read FrameReader,
	covered [][]geom.Point,
	region []geom.Point,
	onLeg, h geom.Homography,
) (next *Plane, err error) {
	inner := s.size.Inset(edge)
	was, now := geom.Bounds(region), geom.Bounds(onLeg.ApplyAll(region))
	c := now.Centre()
	for _, most := range []float64{0.9, 0.6, 0} {
		wide, high := most*float64(inner.Dx()), most*float64(inner.Dy())
		wide = math.Min(math.Max(was.Max.X-was.Min.X, wide), 0.9*float64(inner.Dx()))
		high = math.Min(math.Max(was.Max.Y-was.Min.Y, high), 0.9*float64(inner.Dy()))
		at := geom.Pt(
			math.Min(math.Max(c.X, float64(inner.Min.X)+wide/2), float64(inner.Max.X)-wide/2),
			math.Min(math.Max(c.Y, float64(inner.Min.Y)+high/2), float64(inner.Max.Y)-high/2),
		)
		half := geom.Pt(wide/2, high/2)
		box := geom.Box{Min: at.Sub(half), Max: at.Add(half)}
		var strange [][]geom.Point
		if strange, err = s.strange(read, box, h); err != nil {
			continue
		}
		corners := box.Corners()
		if next, err = NewPlane(read, s.size, corners[:], append(strange, covered...), s.motion); err == nil {
			return next, nil
		}
	}
	return nil, err
}

// strange returns the parts of a box on this frame that were not seen to move as the surface does, from an earlier frame to
// this: another depth, something that moves, or what was not in the picture then. ErrFlat says that too little is left.
func (s *Surface) strange(read FrameReader, box geom.Box, h geom.Homography) (out [][]geom.Point, err error) {
	if len(s.before) == 0 {
		return nil, ErrFlat
	}
	earlier := s.before[0]
	back, ok := h.Inverse()
	if !ok {
		return nil, ErrExtreme
	}
	toEarlier := earlier.H.Mul(back)
	corners := box.Corners()
	rect := raster.Around(box, 4, s.size)
	there := raster.Around(geom.Bounds(toEarlier.ApplyAll(corners[:])), 8, s.size)
	if there.Empty() || !toEarlier.Finite() {
		return nil, ErrLeft
	}
	now, err := looked(read, rect)
	if err != nil {
		return nil, err
	}
	then, err := looked(earlier.Read, there)
	if err != nil {
		return nil, err
	}
	// The earlier frame as it would be here.
	carried, known := raster.NewPlane(now.Rect), raster.NewPlane(now.Rect)
	raster.Rows(now.Rect.Min.Y, now.Rect.Max.Y, func(y int) {
		row, valid := carried.Row(y, now.Rect.Min.X, now.Rect.Max.X), known.Row(y, now.Rect.Min.X, now.Rect.Max.X)
		for x := range row {
			if q := toEarlier.Apply(geom.Pt(float64(now.Rect.Min.X+x)+0.5, float64(y)+0.5)); inside(q, then.Rect, 2) {
				row[x], valid[x] = then.Cubic(q.X, q.Y), 1
			}
		}
	})
	const parts = 10
	size := box.Max.Sub(box.Min).Mul(1.0 / parts)
	kept := 0
	for j := range parts {
		for i := range parts {
			at := box.Min.Add(geom.Pt(float64(i)*size.X, float64(j)*size.Y))
			part := geom.Box{Min: at, Max: at.Add(size)}
			if movesAlong(now, carried, known, raster.Around(part, 0, now.Rect)) {
				kept++
				continue
			}
			c := part.Corners()
			out = append(out, c[:])
		}
	}
	if kept < parts*parts*2/5 {
		return nil, ErrFlat
	}
	return out, nil
}

// looked reads a part of a frame as it is aligned.
func looked(read FrameReader, rect image.Rectangle) (*raster.Plane, error) {
	seen, err := plainly(read, rect)
	if err != nil {
		return nil, err
	}
	return raster.Gaussian(seen, presmooth), nil
}

// plainly reads part of a frame as it is; its errors are the reader's, ErrLeft, and of values that are no numbers.
func plainly(read FrameReader, rect image.Rectangle) (*raster.Plane, error) {
	seen, err := read(rect)
	if err != nil {
		return nil, err
	}
	if seen.Rect.Intersect(rect).Empty() {
		return nil, ErrLeft
	}
	return numbers(seen.Crop(rect.Intersect(seen.Rect)))
}

// movesAlong reports whether a part of a picture looks as it is expected, and would not move by itself: by less than a third
// of a pixel where its texture tells. What is plain tells nothing, and may stay.
func movesAlong(now, expected, known *raster.Plane, part image.Rectangle) bool {
	const plain, alike, still = 0.004, 0.7, 0.35
	var n, all, su, sv, suu, svv, suv float64
	for y := part.Min.Y; y < part.Max.Y; y++ {
		for x := part.Min.X; x < part.Max.X; x++ {
			all++
			if known.At(x, y) > 0 {
				u, v := float64(now.At(x, y)), float64(expected.At(x, y))
				n, su, sv, suu, svv, suv = n+1, su+u, sv+v, suu+u*u, svv+v*v, suv+u*v
			}
		}
	}
	if n < 0.7*all || n < 16 {
		return false
	}
	uu, vv, uv := suu/n-su*su/n/n, svv/n-sv*sv/n/n, suv/n-su*sv/n/n
	if uu < plain*plain && vv < plain*plain {
		return true
	}
	if uv < alike*math.Sqrt(math.Max(uu*vv, 1e-12)) {
		return false
	}
	// One step of Lucas and Kanade on what light leaves.
	gain := uv / vv
	var xx, xy, yy, ex, ey float64
	for y := part.Min.Y + 1; y < part.Max.Y-1; y++ {
		for x := part.Min.X + 1; x < part.Max.X-1; x++ {
			if known.At(x-1, y) == 0 || known.At(x+1, y) == 0 || known.At(x, y-1) == 0 || known.At(x, y+1) == 0 {
				continue
			}
			gx := gain * float64(expected.At(x+1, y)-expected.At(x-1, y)) / 2
			gy := gain * float64(expected.At(x, y+1)-expected.At(x, y-1)) / 2
			e := float64(now.At(x, y)) - su/n - gain*(float64(expected.At(x, y))-sv/n)
			xx, xy, yy, ex, ey = xx+gx*gx, xy+gx*gy, yy+gy*gy, ex+gx*e, ey+gy*e
		}
	}
	det, trace := xx*yy-xy*xy, xx+yy
	if det < 0.02*trace*trace { // an edge: only across it can be told
		return trace == 0 || (ex*ex+ey*ey) < still*still*trace*trace
	}
	dx, dy := (yy*ex-xy*ey)/det, (xx*ey-xy*ex)/det
	return dx*dx+dy*dy < still*still
}

// rejoin takes up the first region again when it is back in the picture where it is expected.
func (s *Surface) rejoin(read FrameReader, covered [][]geom.Point, h geom.Homography) (Sample, bool) {
	const every, drift = 3, 6.0
	s.apart++
	home := s.legs[0]
	if s.apart%every != 0 || share(home.region, h, s.size) < leaves+0.15 {
		return Sample{}, false
	}
	if grown := geom.Area(h.ApplyAll(home.region)) / geom.Area(home.region); grown > 0.8*outgrown || grown < 1.2/outgrown {
		return Sample{}, false
	}
	next, err := home.pyramid(read, h)
	if err != nil {
		return Sample{}, false
	}
	found, err := home.align.run(next, h, nearLevel, maskOf(covered, next[0].Rect), nil)
	if err != nil || !found.Sure() || found.Match < home.usual-0.1 || Sane(found.H, home.region, s.size) != nil {
		return Sample{}, false
	}
	for _, p := range home.region {
		if found.H.Apply(p).Dist(h.Apply(p)) > drift {
			return Sample{}, false
		}
	}
	home.move = s.legs[s.at].move
	s.at, s.moved = 0, s.began
	home.last, home.prev, home.away = found, next, 0
	home.takenUp()
	return found, true
}
