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
	away    int           // on so many frames since it was not found
	usual   float64       // its match while nothing covers it
	steps   int           // on so many frames it was found

	home     *pattern        // as it was put, where it is compared with something newer
	homeWarp geom.Homography // of home, when it was last seen like it
	chain    [3]float64      // the variances of the steps since then
}

// A PointSample is where a point is on a frame, and how well that is known.
type PointSample struct {
	At    geom.Point
	Match float64 // normalised correlation of the pattern, 0 to 1
	// Variance is that of the place as grain and texture let it be known: of x, of x with y, of y, in square pixels. Of a point
	// that is compared with newer frames, those of its steps add up.
	Variance [3]float64
	// Drift is how far it is from where it looks as where it was put, pixels, if it is compared with newer frames; Known, whether
	// it still looks like that.
	Drift float64
	Known bool
	// Ambiguous says that another place in the search box looks almost the same, and that no others say which it is.
	Ambiguous bool
}

// rival is how much less another place may match and still be taken for the point.
const rival = 0.04

// together is how many pixels of smoothed grain err as one, held against truth by a test.
const grainTogether = 5

// NewPoint prepares to follow the point at a place of the frame that look shows.
func NewPoint(read FrameReader, size image.Rectangle, at geom.Point, o PointOptions) (*Point, error) {
	p := &Point{options: o, size: size, at: at, warp: geom.Identity, usual: 1, homeWarp: geom.Identity}
	frame, err := p.see(read, at)
	if err != nil {
		return nil, err
	}
	if !inside(at, size, 2) {
		return nil, ErrLeft
	}
	p.last = frame
	p.tpl, err = p.take(frame, at)
	if o.Against != Reference {
		p.home = p.tpl
	}
	return p, err
}

// Place moves the point to where it is on the frame that look shows, from where
// it is followed on. What it looks like stays what it was.
func (p *Point) Place(read FrameReader, at geom.Point) error {
	frame, err := p.see(read, at)
	if err != nil {
		return err
	}
	p.at, p.last, p.moved, p.warp, p.away, p.steps = at, frame, geom.Point{}, geom.Identity, 0, 0
	return nil
}

// Missed says that the point was not found on so many frames since the one that it was placed on: it is looked for farther around.
func (p *Point) Missed(frames int) { p.away = frames }

// reach is how far the point may be from where it is expected: farther, up to fourfold, for each frame that it was away.
func (p *Point) reach() geom.Point {
	k := float64(min(1+p.away, 4))
	return p.options.Search.Sub(p.options.Pattern).Mul(k / 2)
}

// expected is around where the point is looked for: where it was, or where it went on to while it was away.
func (p *Point) expected() geom.Point {
	return p.at.Add(p.moved.Mul(float64(min(p.away, 8))))
}

// see returns the smoothed part of a frame in which the point can be, if it is
// near at.
func (p *Point) see(read FrameReader, at geom.Point) (*raster.Plane, error) {
	half := p.options.Pattern.Mul(0.5)
	reach := geom.Pt(math.Max(half.X+p.reach().X, half.X)+8, math.Max(half.Y+p.reach().Y, half.Y)+8)
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
// and the point stays where it was; the next step looks for it farther around where it would have gone on to.
func (p *Point) Step(read FrameReader) (PointSample, error) {
	s, err := p.step(read, p.expected())
	if Lost(err) {
		p.away++
	}
	return s, err
}

func (p *Point) step(read FrameReader, around geom.Point) (PointSample, error) {
	frame, err := p.see(read, around)
	if err != nil {
		return PointSample{}, err
	}
	s, warp, err := p.find(frame, around)
	anew := false
	if err == nil && s.Match < p.options.Tolerance && p.options.Against == Refresh && p.away == 0 {
		// The pattern as it was on the last frame may still be found.
		if t, e := p.take(p.last, p.at); e == nil {
			old, was := p.tpl, p.warp
			p.tpl, p.warp, anew = t, geom.Identity, true
			if s, warp, err = p.find(frame, around); err != nil {
				p.tpl, p.warp = old, was
			}
		}
	}
	if err != nil {
		return s, err
	}
	if s.Match < p.options.Tolerance || p.away > 0 && s.Match < p.usual-0.1 || p.leapt(s) {
		return s, ErrLost
	}
	if p.options.Against == Previous {
		t, err := p.take(frame, s.At)
		if err != nil {
			return s, err
		}
		p.tpl, warp, anew = t, geom.Identity, true
	}
	if p.options.Motion != geom.Position && p.options.Against != Previous {
		// It may have turned: it is searched for as it looked last, and then placed by
		// the pattern itself, so that nothing drifts.
		t := *p.tpl
		t.coarse = coarseOf(frame, s.At, oddSize(p.options.Pattern.X), oddSize(p.options.Pattern.Y))
		p.tpl = &t
	}
	p.drifted(frame, &s, anew)
	p.moved = s.At.Sub(p.at).Mul(1 / float64(1+p.away))
	p.at, p.warp, p.last, p.away, p.steps = s.At, warp, frame, 0, p.steps+1
	p.usual += 0.2 * (s.Match - p.usual)
	return s, nil
}

// leapt reports whether a sample is more likely another place: all at once it looks less like the point, and lies far from where
// that went on to.
func (p *Point) leapt(s PointSample) bool {
	far := math.Max(p.options.Pattern.X, p.options.Pattern.Y) / 3
	return p.steps > 2 && p.away == 0 && s.Match < p.usual-0.15 && s.At.Dist(p.at.Add(p.moved)) > far
}

// drifted measures how far the point is from where it looks as where it was put, and adds up what its steps are unsure by.
func (p *Point) drifted(frame *raster.Plane, s *PointSample, anew bool) {
	if p.home == nil {
		return
	}
	alike := *p
	alike.tpl, alike.warp = p.home, p.homeWarp
	at, warp, match, variance, err := alike.refine(frame, s.At)
	if err == nil && match >= math.Max(0.7, p.options.Tolerance) && at.Dist(s.At) < math.Min(p.options.Pattern.X, p.options.Pattern.Y)/2 {
		s.Known, s.Drift, p.homeWarp, p.chain = true, at.Dist(s.At), warp, [3]float64{}
		s.Variance = variance
		return
	}
	for i := range p.chain {
		s.Variance[i] += p.chain[i]
	}
	if anew {
		p.chain = s.Variance
	}
}

// StepAll follows several points to the next frame, on all processors, and
// returns what became of each. looks show that frame to each of them and must be
// safe for concurrent use. One that goes otherwise than those around it, as all fit one motion, is looked for where they would
// have it: it has jumped to a place that looks alike.
func StepAll(points []*Point, looks []FrameReader) (found []PointSample, failed []error) {
	n := len(points)
	found, failed = make([]PointSample, n), make([]error, n)
	before := make([]Point, n)
	each := func(f func(i int)) {
		next := make(chan int, n)
		for i := range points {
			next <- i
		}
		close(next)
		var parts []func()
		for range min(runtime.GOMAXPROCS(0), n) {
			parts = append(parts, func() {
				for i := range next {
					f(i)
				}
			})
		}
		raster.Parallel(parts...)
	}
	each(func(i int) {
		before[i] = *points[i]
		found[i], failed[i] = points[i].Step(looks[i])
	})
	expected, sure := asOthers(before, found, failed)
	for i := range found {
		found[i].Ambiguous = found[i].Ambiguous && !sure
	}
	each(func(i int) {
		place, ok := expected[i]
		if !ok {
			return
		}
		again := before[i]
		again.options.Search = again.options.Pattern.Add(geom.Pt(2*stray, 2*stray))
		again.away = min(again.away, 1)
		s, err := again.step(looks[i], place)
		if err == nil && (failed[i] != nil || before[i].away > 0 || s.Match > found[i].Match-0.1) {
			again.options, s.Ambiguous = before[i].options, false
			*points[i], found[i], failed[i] = again, s, nil
			return
		}
		if failed[i] == nil && before[i].away == 0 {
			return // it may move by itself
		}
		// It goes along with the others until it is found again.
		p := before[i]
		p.moved, p.at, p.away = place.Sub(p.at), place, 1
		*points[i], failed[i] = p, ErrLost
	})
	return found, failed
}

// stray is how far a point may be from where the motion of the others takes it, pixels.
const stray = 4

// asOthers returns where the motion of most points takes those that go their own way, or were not found, and whether there is
// such a motion.
func asOthers(before []Point, found []PointSample, failed []error) (expected map[int]geom.Point, sure bool) {
	var src, dst []geom.Point
	for i, err := range failed {
		if err == nil && before[i].away == 0 {
			src, dst = append(src, before[i].at), append(dst, found[i].At)
		}
	}
	const least = 4
	if len(src) < least {
		return nil, false
	}
	h, in, err := geom.RobustFit(geom.Similarity, src, dst, stray)
	agree := 0
	for _, v := range in {
		if v {
			agree++
		}
	}
	if err != nil || agree < max(least-1, len(src)/2+1) {
		return nil, false
	}
	out := map[int]geom.Point{}
	for i := range before {
		place := h.Apply(before[i].at)
		if before[i].away > 1 {
			place = h.Apply(before[i].expected()) // they did not agree until now
		}
		if failed[i] != nil || place.Dist(found[i].At) > stray {
			out[i] = place
		}
	}
	return out, true
}

// find looks for the pattern in the search box around a place, and says whether another place there looks almost the same.
func (p *Point) find(frame *raster.Plane, around geom.Point) (PointSample, geom.Homography, error) {
	levels := []*raster.Plane{frame}
	for len(levels) < len(p.tpl.coarse) {
		levels = append(levels, raster.Half(levels[len(levels)-1]))
	}
	top := len(levels) - 1
	reach := p.reach()
	k := float64(int(1) << top)
	c := onLevel(around, top)
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
	var tried []PointSample
	for _, b := range best {
		finest = max(finest, b.match)
	}
	for _, b := range best {
		if b.match < finest-0.1 {
			continue // a fraction of a pixel does not make up for that
		}
		// Where it went on as it went, the last fraction of a pixel is known better.
		start := geom.Pt(float64(b.x)+0.5, float64(b.y)+0.5)
		guess := p.at.Add(p.moved.Mul(float64(1 + p.away)))
		if guess.Dist(start) < 1 {
			start = guess
		}
		at, w, match, variance, e := p.refine(frame, start)
		if e != nil {
			if s.Match == 0 {
				err = e
			}
			continue
		}
		tried = append(tried, PointSample{At: at, Match: match})
		if match > s.Match {
			s, warp, err = PointSample{At: at, Match: match, Variance: variance}, w, nil
		}
	}
	if err != nil {
		return s, warp, err
	}
	for _, v := range tried {
		apart := v.At.Dist(s.At) > math.Max(3, math.Min(p.options.Pattern.X, p.options.Pattern.Y)/3)
		s.Ambiguous = s.Ambiguous || apart && v.Match > s.Match-rival
	}
	if !inside(s.At, p.size, 1) {
		return s, warp, ErrLeft
	}
	if d := s.At.Sub(around); math.Abs(d.X) > reach.X+1 || math.Abs(d.Y) > reach.Y+1 {
		return s, warp, ErrJumped
	}
	return s, warp, nil
}

// repeats tells how much what the point looks like is like its surroundings, from so many pixels away on up to so many, on the
// frame that it was taken from: the best correlation there. Near 1, it may be taken for something else.
func (p *Point) repeats(from, to int) (most float32) {
	l := &p.tpl.coarse[0]
	patch := make([]float32, l.w*l.h)
	x, y := int(math.Floor(p.at.X)), int(math.Floor(p.at.Y))
	for j := -to; j <= to; j++ {
		for i := -to; i <= to; i++ {
			if d := i*i + j*j; d >= from*from && d <= to*to {
				most = max(most, l.match(p.last, x+i, y+j, patch))
			}
		}
	}
	return most
}

// refine places the pattern near start to a fraction of a pixel: where, how it is warped, its match, and the variance of the
// place (see PointSample), by the Gauss–Newton normal matrix and what is left over.
func (p *Point) refine(
	frame *raster.Plane, start geom.Point,
) (at geom.Point, warp geom.Homography, match float64, variance [3]float64, err error) {
	t := p.tpl
	half := math.Max(float64(oddSize(p.options.Pattern.X)), float64(oddSize(p.options.Pattern.Y))) / 2
	w := geom.Translation(start).Mul(p.warp) // from offsets to the frame
	k := parameters(p.options.Motion)
	now := make([]float32, len(t.values))
	seen := make([]bool, len(t.values))
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
			return start, w, 0, variance, ErrLeft
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
			return start, w, 0, variance, ErrLost
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
			return start, w, 0, variance, ErrLost
		}
		over := left * half * half / float64(count) * grainTogether
		variance = [3]float64{}
		for j := range 2 {
			var column mat.VecDense
			unit := mat.NewVecDense(k, nil)
			unit.SetVec(j, 1)
			if inverse.SolveVecTo(&column, unit) == nil {
				variance[2*j] = over * column.AtVec(j)
				variance[1] = over * column.AtVec(1-j)
			}
		}
		v := step.RawVector().Data
		delta := small(p.options.Motion, v)
		// Parameters are of the unit square: back to pixels.
		scale := geom.Homography{half, 0, 0, 0, half, 0, 0, 0, 1}
		unit := geom.Homography{1 / half, 0, 0, 0, 1 / half, 0, 0, 0, 1}
		undone, ok := scale.Mul(delta).Mul(unit).Inverse()
		if !ok {
			return start, w, 0, variance, ErrExtreme
		}
		w = w.Mul(undone)
		at = geom.Pt(w[2], w[5])
		if !w.Finite() || at.Dist(start) > math.Max(4, half) {
			return start, w, 0, variance, ErrLost
		}
		if s := w.Scale(geom.Point{}); s < 0.2 || s > 5 {
			return start, w, 0, variance, ErrExtreme
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
	at = geom.Pt(w[2], w[5])
	w[2], w[5] = 0, 0
	return at, w, match, variance, nil
}
