package track

import (
	"image"
	"math"
	"runtime"

	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
)

// Against says what a point's pattern is compared with.
type Against string

const (
	Reference Against = "reference" // the frame the point was put on: no drift
	Previous  Against = "previous"  // the frame before: looks may change slowly
	Refresh   Against = "refresh"   // the pattern is taken anew only when the match falls under the tolerance
)

// PointOptions say how a point is followed. Sizes are of whole boxes, in pixels.
type PointOptions struct {
	Pattern   geom.Point  // box around the point that is matched
	Search    geom.Point  // box in which it is looked for on the next frame
	Motion    geom.Motion // what the pattern may do: position, similarity or shear
	Against   Against
	Tolerance float64 // match under which the pattern is refreshed, or else the point lost
}

// pointSmooth is less than a plane's presmooth: a small pattern needs its detail.
const pointSmooth = 0.6

// A Point follows one small pattern. It is searched for in its search box by
// normalised correlation from coarse to fine, keeping several candidates, and
// the best is then placed to a fraction of a pixel by inverse-compositional
// alignment (Baker & Matthews 2004) with gain and offset of light left free.
type Point struct {
	options PointOptions
	size    image.Rectangle // of every frame
	at      geom.Point      // on the frame before
	moved   geom.Point      // from the frame before that
	warp    geom.Homography // of the pattern, around the point, on the frame before
	tpl     *pattern
	last    *raster.Plane // the frame before, around the point
}

// A PointSample is where a point is on a frame.
type PointSample struct {
	At    geom.Point
	Match float64 // normalised correlation of the pattern, 0 to 1
}

// NewPoint prepares to follow the point at a place of the frame that look shows.
func NewPoint(read FrameReader, size image.Rectangle, at geom.Point, o PointOptions) (*Point, error) {
	p := &Point{options: o, size: size, at: at, warp: geom.Identity}
	frame, err := p.see(read, at)
	if err != nil {
		return nil, err
	}
	if !inside(at, size, 2) {
		return nil, ErrLeft
	}
	p.last = frame
	p.tpl, err = p.take(frame, at)
	return p, err
}

// Place moves the point to where it is on the frame that look shows, from where
// it is followed on. What it looks like stays what it was.
func (p *Point) Place(read FrameReader, at geom.Point) error {
	frame, err := p.see(read, at)
	if err != nil {
		return err
	}
	p.at, p.last, p.moved, p.warp = at, frame, geom.Point{}, geom.Identity
	return nil
}

// see returns the smoothed part of a frame in which the point can be, if it is
// near at.
func (p *Point) see(read FrameReader, at geom.Point) (*raster.Plane, error) {
	reach := geom.Pt(
		math.Max(p.options.Search.X, p.options.Pattern.X)/2+8,
		math.Max(p.options.Search.Y, p.options.Pattern.Y)/2+8,
	)
	rect := raster.Around(geom.Bounds([]geom.Point{at.Sub(reach), at.Add(reach)}), 0, p.size)
	rect = image.Rect(rect.Min.X&^7, rect.Min.Y&^7, rect.Max.X, rect.Max.Y)
	if rect.Dx() < 8 || rect.Dy() < 8 {
		return nil, ErrLeft
	}
	seen, err := read(rect)
	if err != nil {
		return nil, err
	}
	clean, err := numbers(seen)
	if err != nil {
		return nil, err
	}
	return raster.Gaussian(clean, pointSmooth), nil
}

// Step follows the point to the next frame. When it is lost the error says why,
// and the point stays where it was.
func (p *Point) Step(read FrameReader) (PointSample, error) {
	frame, err := p.see(read, p.at)
	if err != nil {
		return PointSample{}, err
	}
	s, warp, err := p.find(frame)
	if err == nil && s.Match < p.options.Tolerance && p.options.Against == Refresh {
		// The pattern as it was on the last frame may still be found.
		if anew, e := p.take(p.last, p.at); e == nil {
			old, was := p.tpl, p.warp
			p.tpl, p.warp = anew, geom.Identity
			if s, warp, err = p.find(frame); err != nil {
				p.tpl, p.warp = old, was
			}
		}
	}
	if err != nil {
		return s, err
	}
	if s.Match < p.options.Tolerance {
		return s, ErrLost
	}
	if p.options.Against == Previous {
		anew, err := p.take(frame, s.At)
		if err != nil {
			return s, err
		}
		p.tpl, warp = anew, geom.Identity
	}
	if p.options.Motion != geom.Position && p.options.Against != Previous {
		// It may have turned: it is searched for as it looked last, and then placed by
		// the pattern itself, so that nothing drifts.
		p.tpl.coarse = coarseOf(frame, s.At, oddSize(p.options.Pattern.X), oddSize(p.options.Pattern.Y))
	}
	p.moved = s.At.Sub(p.at)
	p.at, p.warp, p.last = s.At, warp, frame
	return s, nil
}

// StepAll follows several points to the next frame, on all processors, and
// returns what became of each. looks show that frame to each of them and must be
// safe for concurrent use.
func StepAll(points []*Point, looks []FrameReader) (found []PointSample, failed []error) {
	found, failed = make([]PointSample, len(points)), make([]error, len(points))
	next := make(chan int, len(points))
	for i := range points {
		next <- i
	}
	close(next)
	var parts []func()
	for range min(runtime.GOMAXPROCS(0), len(points)) {
		parts = append(parts, func() {
			for i := range next {
				found[i], failed[i] = points[i].Step(looks[i])
			}
		})
	}
	raster.Parallel(parts...)
	return found, failed
}

// find looks for the pattern in the search box around the last place.
func (p *Point) find(frame *raster.Plane) (PointSample, geom.Homography, error) {
	levels := []*raster.Plane{frame}
	for len(levels) < len(p.tpl.coarse) {
		levels = append(levels, raster.Half(levels[len(levels)-1]))
	}
	top := len(levels) - 1
	reach := geom.Pt((p.options.Search.X-p.options.Pattern.X)/2, (p.options.Search.Y-p.options.Pattern.Y)/2)
	k := float64(int(1) << top)
	c := onLevel(p.at, top)
	rx, ry := max(int(math.Ceil(reach.X/k)), 1), max(int(math.Ceil(reach.Y/k)), 1)
	cx, cy := int(math.Floor(c.X)), int(math.Floor(c.Y))
	best := p.tpl.coarse[top].peaks(levels[top], cx-rx, cy-ry, cx+rx, cy+ry, 4)
	for level := top - 1; level >= 0; level-- {
		for i, b := range best {
			x, y := 2*b.x, 2*b.y // sample (2i, 2j) became sample (i, j)
			if found := p.tpl.coarse[level].peaks(levels[level], x-2, y-2, x+2, y+2, 1); len(found) > 0 {
				best[i] = found[0]
			}
		}
	}
	var s PointSample
	var warp geom.Homography
	err := error(ErrLeft)
	var finest float32
	for _, b := range best {
		finest = max(finest, b.match)
	}
	for _, b := range best {
		if b.match < finest-0.1 {
			continue // a fraction of a pixel does not make up for that
		}
		// Where it went on as it went, the last fraction of a pixel is known better.
		start := geom.Pt(float64(b.x)+0.5, float64(b.y)+0.5)
		if guess := p.at.Add(p.moved); guess.Dist(start) < 1 {
			start = guess
		}
		at, w, match, e := p.refine(frame, start)
		if e != nil {
			if s.Match == 0 {
				err = e
			}
			continue
		}
		if match > s.Match {
			s, warp, err = PointSample{at, match}, w, nil
		}
	}
	if err != nil {
		return s, warp, err
	}
	if !inside(s.At, p.size, 1) {
		return s, warp, ErrLeft
	}
	if d := s.At.Sub(p.at); math.Abs(d.X) > reach.X+1 || math.Abs(d.Y) > reach.Y+1 {
		return s, warp, ErrJumped
	}
	return s, warp, nil
}

// refine places the pattern near start to a fraction of a pixel.
func (p *Point) refine(frame *raster.Plane, start geom.Point) (geom.Point, geom.Homography, float64, error) {
	t := p.tpl
	half := math.Max(float64(oddSize(p.options.Pattern.X)), float64(oddSize(p.options.Pattern.Y))) / 2
	w := geom.Translation(start).Mul(p.warp) // from offsets to the frame
	k := parameters(p.options.Motion)
	now := make([]float32, len(t.values))
	seen := make([]bool, len(t.values))
	var match float64
	// Gain and offset of light are left free, which costs some of what tells the place:
	// where it proves to be the pattern's own, it is taken as known at the end.
	steady, asked := false, false
	for range 30 {
		var mean float64
		count := 0
		for i, o := range t.offsets {
			q := w.Apply(o)
			if seen[i] = inside(q, frame.Rect, 0); seen[i] {
				now[i] = frame.Cubic(q.X, q.Y)
				mean += float64(now[i])
				count++
			}
		}
		if 2*count < len(now) {
			return start, w, 0, ErrLeft
		}
		mean /= float64(count)
		var power, cross, own float64
		for i := range now {
			if seen[i] {
				d, v := float64(now[i])-mean, float64(t.values[i])
				power, cross, own = power+d*d, cross+d*v, own+v*v
			}
		}
		if !(power > 1e-12) || !(cross > 0) {
			return start, w, 0, ErrLost
		}
		match = cross / math.Sqrt(power*own)
		gain, level := cross/own, mean
		if steady {
			gain, level = t.power, t.mean
		}
		var right [6]float64
		var left float64
		for i := range now {
			if !seen[i] {
				continue
			}
			e := (float64(now[i])-level)/gain - float64(t.values[i])
			left += e * e
			d := &t.descent[i]
			if steady {
				d = &t.steady[i]
			}
			for j := range k {
				right[j] += d[j] * e
			}
		}
		var step mat.VecDense
		inverse := t.inverse
		if steady {
			inverse = t.steadyInverse
		}
		if inverse.SolveVecTo(&step, mat.NewVecDense(k, right[:k])) != nil {
			return start, w, 0, ErrLost
		}
		v := step.RawVector().Data
		delta := small(p.options.Motion, v)
		// Parameters are of the unit square: back to pixels.
		scale := geom.Homography{half, 0, 0, 0, half, 0, 0, 0, 1}
		unit := geom.Homography{1 / half, 0, 0, 0, 1 / half, 0, 0, 0, 1}
		undone, ok := scale.Mul(delta).Mul(unit).Inverse()
		if !ok {
			return start, w, 0, ErrExtreme
		}
		w = w.Mul(undone)
		at := geom.Pt(w[2], w[5])
		if !w.Finite() || at.Dist(start) > math.Max(4, half) {
			return start, w, 0, ErrLost
		}
		if s := w.Scale(geom.Point{}); s < 0.2 || s > 5 {
			return start, w, 0, ErrExtreme
		}
		moved := math.Hypot(v[0], v[1]) * half
		for j := 2; j < k; j++ {
			moved = math.Max(moved, math.Abs(v[j])*half)
		}
		if !asked && moved < 0.02 && count == len(now) {
			asked = true
			steady = t.sameLight(mean, gain, left*gain*gain/float64(count), count)
			if steady {
				continue
			}
		}
		if moved < 0.002 {
			break
		}
	}
	at := geom.Pt(w[2], w[5])
	w[2], w[5] = 0, 0
	return at, w, match, nil
}
