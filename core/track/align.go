package track

import (
	"math"
	"sort"
	"sync"

	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
)

// An aligner brings a region of the reference frame onto another frame over all
// of its pixels: inverse-compositional alignment (Baker & Matthews 2004,
// "Lucas–Kanade 20 years on", part 1) with a gain and an offset of light worked
// out in each round, and Tukey's weights, so that pixels which something covers
// drop out by themselves.
type aligner struct {
	motion geom.Motion
	levels []alignLevel // finest first
	region []geom.Point
}

type alignLevel struct {
	norm, denorm geom.Homography // between this level's pixels and the unit square of the region
	points       []geom.Point    // normalised positions of the pixels used
	tpl          []float32       // the reference frame there
	descent      [][8]float64    // derivative of tpl by each parameter
	toLevel      geom.Homography // from frame coordinates to this level's
	fromLevel    geom.Homography
}

const (
	maxPixels = 30000 // used on one level; more do not make it more exact, only slower
	minPixels = 60
)

func newAligner(pyramid []*raster.Plane, region []geom.Point, motion geom.Motion) (*aligner, error) {
	a := &aligner{motion: motion, region: region}
	for level, plane := range pyramid {
		k := math.Pow(2, float64(level))
		l := alignLevel{}
		// The coordinate rule of raster.Half, applied level times.
		offset := 0.5 + shift(level) - 0.5/k
		l.toLevel = geom.Homography{1 / k, 0, offset, 0, 1 / k, offset, 0, 0, 1}
		l.fromLevel, _ = l.toLevel.Inverse()
		polygon := l.toLevel.ApplyAll(region)
		box := geom.Bounds(polygon)
		area := raster.Around(box, 0, plane.Rect.Inset(2))
		half := math.Max(box.Max.X-box.Min.X, box.Max.Y-box.Min.Y) / 2
		if area.Empty() || half < 1 {
			break
		}
		c := box.Centre()
		l.denorm = geom.Homography{half, 0, c.X, 0, half, c.Y, 0, 0, 1}
		l.norm, _ = l.denorm.Inverse()
		gx, gy := raster.Gradient(plane)
		stride := max(1, int(math.Sqrt(geom.Area(polygon)/maxPixels)+0.999))
		for y := area.Min.Y; y < area.Max.Y; y++ {
			// Staggered, so that a stride does not skip whole columns.
			for x := area.Min.X + (y*7)%stride; x < area.Max.X; x += stride * stride {
				p := geom.Pt(float64(x)+0.5, float64(y)+0.5)
				if !geom.Inside(polygon, p) {
					continue
				}
				n := l.norm.Apply(p)
				dx, dy := float64(gx.At(x, y))*half, float64(gy.At(x, y))*half
				l.points = append(l.points, n)
				l.tpl = append(l.tpl, plane.At(x, y))
				l.descent = append(l.descent, descent(motion, n, dx, dy))
			}
		}
		if len(l.points) < minPixels {
			break
		}
		a.levels = append(a.levels, l)
	}
	if len(a.levels) == 0 {
		return nil, ErrSmall
	}
	if singular(a.levels[0].descent, motion) {
		return nil, ErrFlat
	}
	return a, nil
}

// parameters returns how many of a descent's entries the motion uses.
func parameters(m geom.Motion) int {
	switch m {
	case geom.Position:
		return 2
	case geom.Similarity:
		return 4
	}
	return 8
}

// descent returns the derivatives of a pixel's value by the motion's parameters
// at the identity, for the normalised position p and the gradient (gx, gy).
func descent(m geom.Motion, p geom.Point, gx, gy float64) [8]float64 {
	switch m {
	case geom.Position:
		return [8]float64{gx, gy}
	case geom.Similarity:
		return [8]float64{gx, gy, gx*p.X + gy*p.Y, gy*p.X - gx*p.Y}
	}
	radial := gx*p.X + gy*p.Y
	return [8]float64{gx, gy, gx * p.X, gx * p.Y, gy * p.X, gy * p.Y, -radial * p.X, -radial * p.Y}
}

// small returns the motion with the given parameters.
func small(m geom.Motion, v []float64) geom.Homography {
	switch m {
	case geom.Position:
		return geom.Translation(geom.Pt(v[0], v[1]))
	case geom.Similarity:
		return geom.Homography{1 + v[2], -v[3], v[0], v[3], 1 + v[2], v[1], 0, 0, 1}
	}
	return geom.Homography{1 + v[2], v[3], v[0], v[4], 1 + v[5], v[1], v[6], v[7], 1}
}

func singular(descents [][8]float64, m geom.Motion) bool {
	k := parameters(m)
	normal := mat.NewSymDense(k, nil)
	for _, d := range descents {
		accumulate(normal, d, k, 1)
	}
	var eig mat.EigenSym
	if !eig.Factorize(normal, false) {
		return true
	}
	v := eig.Values(nil)
	return !(v[0] > 1e-7*v[k-1]) || v[k-1] < 1e-9
}

func accumulate(normal *mat.SymDense, d [8]float64, k int, w float64) {
	for r := range k {
		for c := r; c < k; c++ {
			normal.SetSym(r, c, normal.At(r, c)+w*d[r]*d[c])
		}
	}
}

// run aligns the region to a frame, given as a pyramid, from a first guess.
func (a *aligner) run(frame []*raster.Plane, guess geom.Homography) (Sample, error) {
	s := Sample{H: guess}
	// The guess is near: two levels up are enough to forgive a wrong one.
	for level := min(2, len(a.levels)-1, len(frame)-1); level >= 0; level-- {
		l := &a.levels[level]
		w := l.toLevel.Mul(s.H).Mul(l.fromLevel).Mul(l.denorm)
		w, match, agree, err := l.align(frame[level], w, a.motion)
		if err != nil {
			if level > 0 {
				continue // the finer level may still hold
			}
			return s, err
		}
		s.H = l.fromLevel.Mul(w).Mul(l.norm).Mul(l.toLevel).Normalised()
		s.Match, s.Agree = match, agree
	}
	return s, nil
}

// chunks is how many parts the pixels are worked on in. It does not depend on the
// machine, so that sums, and with them tracks, are the same everywhere.
const chunks = 4

func inChunks(n int, f func(chunk, lo, hi int)) {
	var wait sync.WaitGroup
	for k := range chunks {
		wait.Go(func() { f(k, n*k/chunks, n*(k+1)/chunks) })
	}
	wait.Wait()
}

// align refines w, which maps normalised positions to pixels of the frame.
func (l *alignLevel) align(frame *raster.Plane, w geom.Homography, motion geom.Motion) (geom.Homography, float64, float64, error) {
	k := parameters(motion)
	n := len(l.points)
	now := make([]float32, n)
	ok := make([]bool, n)
	weight := make([]float64, n)
	absolute := make([]float64, 0, n)
	bounds := frame.Rect
	half := l.denorm[0]
	for i := range weight {
		weight[i] = 1
	}
	var match, agree float64
	for round := range 40 {
		var counts [chunks]int
		inChunks(n, func(k, lo, hi int) {
			for i := lo; i < hi; i++ {
				q := w.Apply(l.points[i])
				ok[i] = inside(q, bounds, 1)
				if ok[i] {
					now[i] = frame.Bilinear(q.X, q.Y)
					counts[k]++
				}
			}
		})
		seen := 0
		for _, c := range counts {
			seen += c
		}
		if seen < minPixels || seen < n/8 {
			return w, 0, 0, ErrLeft
		}
		gain, offset, corr := light(l.tpl, now, ok, weight)
		if !(gain > 0.02) {
			return w, 0, 0, ErrLost
		}
		match = corr
		absolute = absolute[:0]
		for i := 0; i < n; i += 1 + n/2000 { // enough for a median
			if ok[i] {
				absolute = append(absolute, math.Abs((float64(now[i])-offset)/gain-float64(l.tpl[i])))
			}
		}
		if len(absolute) == 0 {
			return w, 0, 0, ErrLeft
		}
		sort.Float64s(absolute)
		// 4.685 robust standard deviations: Tukey's biweight at 95 % efficiency.
		limit := 4.685 * math.Max(1.4826*absolute[len(absolute)/2], 1e-5)
		var sums [chunks]struct {
			normal [8][8]float64
			right  [8]float64
			in     int
		}
		inChunks(n, func(chunk, lo, hi int) {
			sum := &sums[chunk]
			for i := lo; i < hi; i++ {
				weight[i] = 0
				if !ok[i] {
					continue
				}
				e := (float64(now[i])-offset)/gain - float64(l.tpl[i])
				if math.Abs(e) >= limit {
					continue
				}
				u := 1 - (e/limit)*(e/limit)
				wt := u * u
				weight[i] = wt
				if wt > 0.25 {
					sum.in++
				}
				d := &l.descent[i]
				for r := range k {
					wd := wt * d[r]
					sum.right[r] += wd * e
					for c := r; c < k; c++ {
						sum.normal[r][c] += wd * d[c]
					}
				}
			}
		})
		var normal [8][8]float64
		var right [8]float64
		in := 0
		for chunk := range sums {
			sum := &sums[chunk]
			in += sum.in
			for r := range k {
				right[r] += sum.right[r]
				for c := r; c < k; c++ {
					normal[r][c] += sum.normal[r][c]
				}
			}
		}
		agree = float64(in) / float64(n)
		sym := mat.NewSymDense(k, nil)
		for r := range k {
			for c := r; c < k; c++ {
				sym.SetSym(r, c, normal[r][c])
			}
			sym.SetSym(r, r, sym.At(r, r)*(1+1e-9))
		}
		var chol mat.Cholesky
		if !chol.Factorize(sym) {
			return w, 0, 0, ErrLost
		}
		var step mat.VecDense
		if err := chol.SolveVecTo(&step, mat.NewVecDense(k, right[:k])); err != nil {
			return w, 0, 0, ErrLost
		}
		delta := small(motion, step.RawVector().Data)
		inverse, invertible := delta.Inverse()
		if !invertible || !delta.Finite() {
			return w, 0, 0, ErrExtreme
		}
		w = w.Mul(inverse)
		// How far the region's corners moved, in pixels of this level.
		var moved float64
		for _, c := range [4]geom.Point{{X: -1, Y: -1}, {X: 1, Y: -1}, {X: 1, Y: 1}, {X: -1, Y: 1}} {
			moved = math.Max(moved, delta.Apply(c).Dist(c)*half)
		}
		if moved < 0.002 && round > 0 {
			break
		}
	}
	return w, math.Max(match, 0), agree, nil
}

// light fits now = gain * tpl + offset with weights, and returns the weighted
// correlation of the two as well.
func light(tpl, now []float32, ok []bool, weight []float64) (gain, offset, corr float64) {
	var s, a, b, aa, ab, bb float64
	for i := range tpl {
		if !ok[i] {
			continue
		}
		w, x, y := weight[i], float64(tpl[i]), float64(now[i])
		s, a, b = s+w, a+w*x, b+w*y
		aa, ab, bb = aa+w*x*x, ab+w*x*y, bb+w*y*y
	}
	if s == 0 {
		return 0, 0, 0
	}
	a, b = a/s, b/s
	va, vb, cov := aa/s-a*a, bb/s-b*b, ab/s-a*b
	if va <= 0 || vb <= 0 {
		return 0, 0, 0
	}
	gain = cov / va
	return gain, b - gain*a, cov / math.Sqrt(va*vb)
}
