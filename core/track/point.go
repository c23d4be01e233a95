package track

import (
	"image"
	"math"
	"runtime"
	"sync"

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

// pattern is what a point looks like.
type pattern struct {
	offsets []geom.Point // of its samples from the point
	values  []float32    // mean 0, power 1
	descent [][6]float64
	inverse *mat.Cholesky
	power   float64 // square root of the sum of squares before normalising
	coarse  []patternLevel
}

// patternLevel is the pattern on one level of the search.
type patternLevel struct {
	w, h   int
	values []float32 // mean 0, power 1
}

// NewPoint prepares to follow the point at a place of the frame that look shows.
func NewPoint(look Look, size image.Rectangle, at geom.Point, o PointOptions) (*Point, error) {
	p := &Point{options: o, size: size, at: at, warp: geom.Identity}
	frame, err := p.see(look, at)
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
func (p *Point) Place(look Look, at geom.Point) error {
	frame, err := p.see(look, at)
	if err != nil {
		return err
	}
	p.at, p.last, p.moved, p.warp = at, frame, geom.Point{}, geom.Identity
	return nil
}

// Strength says how well a pattern around a place can be told from grain: the
// smaller eigenvalue of its gradients' second moments, over the power of the
// grain, which is measured by the mask of Immerkær 1996.
func Strength(p *raster.Plane, at, pattern geom.Point) float64 {
	r := raster.Around(geom.Bounds([]geom.Point{at.Sub(pattern.Mul(0.5)), at.Add(pattern.Mul(0.5))}), 0, p.Rect.Inset(1))
	var xx, xy, yy, grain float64
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			v := func(i, j int) float64 { return float64(p.At(x+i, y+j)) }
			gx, gy := (v(1, 0)-v(-1, 0))/2, (v(0, 1)-v(0, -1))/2
			xx, xy, yy = xx+gx*gx, xy+gx*gy, yy+gy*gy
			grain += math.Abs(v(-1, -1) - 2*v(0, -1) + v(1, -1) - 2*v(-1, 0) + 4*v(0, 0) - 2*v(1, 0) + v(-1, 1) - 2*v(0, 1) + v(1, 1))
		}
	}
	n := float64(r.Dx() * r.Dy())
	if n == 0 {
		return 0
	}
	deviation := math.Max(math.Sqrt(math.Pi/2)*grain/(6*n), 1e-4)
	least := (xx+yy)/2 - math.Sqrt((xx-yy)*(xx-yy)/4+xy*xy)
	return least / n / (deviation * deviation)
}

// see returns the smoothed part of a frame in which the point can be, if it is
// near at.
func (p *Point) see(look Look, at geom.Point) (*raster.Plane, error) {
	reach := geom.Pt(math.Max(p.options.Search.X, p.options.Pattern.X)/2+8, math.Max(p.options.Search.Y, p.options.Pattern.Y)/2+8)
	r := raster.Around(geom.Bounds([]geom.Point{at.Sub(reach), at.Add(reach)}), 0, p.size)
	r = image.Rect(r.Min.X&^7, r.Min.Y&^7, r.Max.X, r.Max.Y)
	if r.Dx() < 8 || r.Dy() < 8 {
		return nil, ErrLeft
	}
	seen, err := look(r)
	if err != nil {
		return nil, err
	}
	clean, err := numbers(seen)
	if err != nil {
		return nil, err
	}
	return raster.Gaussian(clean, pointSmooth), nil
}

// take makes a pattern of what lies around a place.
func (p *Point) take(frame *raster.Plane, at geom.Point) (*pattern, error) {
	w, h := oddSize(p.options.Pattern.X), oddSize(p.options.Pattern.Y)
	t := &pattern{}
	k := parameters(p.options.Motion)
	half := math.Max(float64(w), float64(h)) / 2
	var mean float64
	for y := -(h / 2); y <= h/2; y++ {
		for x := -(w / 2); x <= w/2; x++ {
			o := geom.Pt(float64(x), float64(y))
			q := at.Add(o)
			if !inside(q, frame.Rect, 1) {
				continue // the pattern reaches out of the picture
			}
			v := frame.Cubic(q.X, q.Y)
			gx, gy := scharr(frame, q)
			n := o.Mul(1 / half)
			d := descent(p.options.Motion, n, gx*half, gy*half)
			var row [6]float64
			for i := range k {
				row[i] = float64(d[i])
			}
			t.offsets, t.values, t.descent = append(t.offsets, o), append(t.values, v), append(t.descent, row)
			mean += float64(v)
		}
	}
	n := float64(len(t.values))
	if len(t.values) < 25 || 3*len(t.values) < w*h {
		return nil, ErrSmall
	}
	mean /= n
	var power float64
	for i, v := range t.values {
		t.values[i] = v - float32(mean)
		power += float64(t.values[i]) * float64(t.values[i])
	}
	t.power = math.Sqrt(power)
	if !(t.power > 1e-4*math.Sqrt(n)) {
		return nil, ErrFlat
	}
	for i := range t.values {
		t.values[i] /= float32(t.power)
		for j := range k {
			t.descent[i][j] /= t.power
		}
	}
	t.square(t.descent, k)
	sym := normalOf(t.descent, k)
	var eig mat.EigenSym
	if !eig.Factorize(sym.SliceSym(0, 2).(*mat.SymDense), false) {
		return nil, ErrFlat
	}
	if v := eig.Values(nil); !(v[0] > 1e-3*v[1]) {
		return nil, ErrFlat // an edge, or nothing: it may slide along
	}
	for r := range k {
		sym.SetSym(r, r, sym.At(r, r)*(1+1e-9))
	}
	t.inverse = &mat.Cholesky{}
	if !t.inverse.Factorize(sym) {
		return nil, ErrFlat
	}
	t.coarse = coarseOf(frame, at, w, h)
	return t, nil
}

// coarseOf returns what lies around a place on the levels of the search.
func coarseOf(frame *raster.Plane, at geom.Point, w, h int) (out []patternLevel) {
	level := frame
	for i := 0; ; i++ {
		if i > 0 {
			level = raster.Half(level)
		}
		lw, lh := max(oddSize(float64(w>>i)), 5), max(oddSize(float64(h>>i)), 5)
		values := make([]float32, lw*lh)
		c := onLevel(at, i)
		level.Grid(c.X-float64(lw/2), c.Y-float64(lh/2), lw, lh, values)
		normalise(values)
		out = append(out, patternLevel{lw, lh, values})
		if i == 3 || min(w, h)>>(i+1) < 7 {
			return out
		}
	}
}

// square takes out of the descents what is along a constant and along the pattern
// itself, so that offset and gain of light drop out.
func (t *pattern) square(descent [][6]float64, k int) {
	var means, along [6]float64
	n := float64(len(descent))
	for i := range descent {
		for j := range k {
			means[j] += descent[i][j] / n
			along[j] += descent[i][j] * float64(t.values[i])
		}
	}
	for i := range descent {
		for j := range k {
			descent[i][j] -= means[j] + along[j]*float64(t.values[i])
		}
	}
}

func normalOf(descent [][6]float64, k int) *mat.SymDense {
	var sum [6][6]float64
	for i := range descent {
		d := &descent[i]
		for r := range k {
			for c := r; c < k; c++ {
				sum[r][c] += d[r] * d[c]
			}
		}
	}
	sym := mat.NewSymDense(k, nil)
	for r := range k {
		for c := r; c < k; c++ {
			sym.SetSym(r, c, sum[r][c])
		}
	}
	return sym
}

// scharr returns the gradient at a place by Scharr's kernels (2000), which smooth
// across the derivative: grain in a gradient costs more than a little softness.
func scharr(p *raster.Plane, q geom.Point) (gx, gy float64) {
	var v [9]float32
	p.Grid(q.X-1, q.Y-1, 3, 3, v[:])
	gx = float64(3*(v[2]-v[0])+10*(v[5]-v[3])+3*(v[8]-v[6])) / 32
	gy = float64(3*(v[6]-v[0])+10*(v[7]-v[1])+3*(v[8]-v[2])) / 32
	return gx, gy
}

// onLevel returns where a frame's place lies on a level of its pyramid.
func onLevel(p geom.Point, level int) geom.Point {
	to, _ := levelOf(level)
	return to.Apply(p)
}

func oddSize(v float64) int { return max(int(v)/2*2+1, 3) }

func normalise(v []float32) bool {
	var mean, power float64
	for _, x := range v {
		mean += float64(x)
	}
	mean /= float64(len(v))
	for _, x := range v {
		power += (float64(x) - mean) * (float64(x) - mean)
	}
	if power < 1e-12 {
		clear(v)
		return false
	}
	k := 1 / math.Sqrt(power)
	for i, x := range v {
		v[i] = float32((float64(x) - mean) * k)
	}
	return true
}

// Step follows the point to the next frame. When it is lost the error says why,
// and the point stays where it was.
func (p *Point) Step(look Look) (PointSample, error) {
	frame, err := p.see(look, p.at)
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
func StepAll(points []*Point, looks []Look) (found []PointSample, failed []error) {
	found, failed = make([]PointSample, len(points)), make([]error, len(points))
	var wait sync.WaitGroup
	next := make(chan int, len(points))
	for i := range points {
		next <- i
	}
	close(next)
	for range min(runtime.GOMAXPROCS(0), len(points)) {
		wait.Go(func() {
			for i := range next {
				found[i], failed[i] = points[i].Step(looks[i])
			}
		})
	}
	wait.Wait()
	return found, failed
}

// candidate is a place and how well the pattern matches there.
type candidate struct {
	x, y  int
	match float32
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

// peaks returns the best places, best first, among the whole ones from (x0, y0) to
// (x1, y1): at most n, each a local maximum.
func (l *patternLevel) peaks(frame *raster.Plane, x0, y0, x1, y1, n int) []candidate {
	w, h := x1-x0+1, y1-y0+1
	score := make([]float32, w*h)
	patch := make([]float32, l.w*l.h)
	for j := range h {
		for i := range w {
			score[j*w+i] = l.match(frame, x0+i, y0+j, patch)
		}
	}
	var out []candidate
	for j := range h {
	places:
		for i := range w {
			s := score[j*w+i]
			for dj := -1; dj <= 1; dj++ {
				for di := -1; di <= 1; di++ {
					if y, x := j+dj, i+di; y >= 0 && x >= 0 && y < h && x < w && score[y*w+x] > s {
						continue places
					}
				}
			}
			c := candidate{x0 + i, y0 + j, s}
			at := len(out)
			for at > 0 && out[at-1].match < s {
				at--
			}
			out = append(out[:at], append([]candidate{c}, out[at:]...)...)
			if len(out) > n {
				out = out[:n]
			}
		}
	}
	return out
}

// match returns the normalised correlation at a whole place, -1 outside.
func (l *patternLevel) match(frame *raster.Plane, x, y int, patch []float32) float32 {
	x, y = x-l.w/2-frame.Rect.Min.X, y-l.h/2-frame.Rect.Min.Y
	stride := frame.Rect.Dx()
	var sum, squares, cross float32
	if x >= 0 && y >= 0 && x+l.w <= stride && y+l.h <= frame.Rect.Dy() {
		for j := range l.h {
			row := frame.Pix[(y+j)*stride+x:][:l.w]
			tpl := l.values[j*l.w:][:l.w]
			for i, v := range row {
				sum += v
				squares += v * v
				cross += v * tpl[i]
			}
		}
	} else {
		if x < -l.w/2 || y < -l.h/2 || x > stride-l.w/2 || y > frame.Rect.Dy()-l.h/2 {
			return -1 // more than half outside
		}
		frame.Grid(float64(x+frame.Rect.Min.X)+0.5, float64(y+frame.Rect.Min.Y)+0.5, l.w, l.h, patch)
		for i, v := range patch {
			sum += v
			squares += v * v
			cross += v * l.values[i]
		}
	}
	power := squares - sum*sum/float32(len(l.values))
	if power < 1e-9 {
		return -1
	}
	return cross / float32(math.Sqrt(float64(power)))
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
		gain := cross / own
		var right [6]float64
		for i := range now {
			if !seen[i] {
				continue
			}
			e := (float64(now[i])-mean)/gain - float64(t.values[i])
			d := &t.descent[i]
			for j := range k {
				right[j] += d[j] * e
			}
		}
		var step mat.VecDense
		if t.inverse.SolveVecTo(&step, mat.NewVecDense(k, right[:k])) != nil {
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
		if moved < 0.002 {
			break
		}
	}
	at := geom.Pt(w[2], w[5])
	w[2], w[5] = 0, 0
	return at, w, match, nil
}
