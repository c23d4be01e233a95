package track

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/simd"
)

// run aligns the region to a picture, given as a pyramid, from a first guess and
// from the given level downwards. covered tells which pixels of the picture do
// not count; it may be nil. Blocks that were left out before, which may be nil, count where they turn out to agree with
// the others: what covers them is not asked how large deviations are.
func (a *aligner) run(
	frame []*raster.Plane,
	guess geom.Homography,
	from int,
	covered *raster.Plane,
	before *[Blocks * Blocks]uint8,
) (Sample, error) {
	s := Sample{H: guess}
	for level := min(from, len(a.levels)-1); level >= 0; level-- {
		l := &a.levels[level]
		// A surface that has grown or shrunk is looked for where its pixels have the
		// size that they have in the template.
		scale := s.H.Scale(geom.Bounds(a.region).Centre())
		at := min(max(level+int(math.Round(math.Log2(math.Max(scale, 1e-3)))), 0), len(frame)-1)
		to, back := levelOf(at)
		w := to.Mul(s.H).Mul(l.fromLevel).Mul(l.denorm)
		w, found, err := l.align(frame[at], w, covered, back, before, level == 0)
		if err != nil {
			if level > 0 {
				continue // the finer level may still hold
			}
			return s, err
		}
		found.H = back.Mul(w).Mul(l.norm).Mul(l.toLevel).Normalised()
		found.Deviation *= scale
		s = found
	}
	return s, nil
}

// chunks is how many parts the pixels are worked on in. It does not depend on the
// machine, so that sums, and with them tracks, are the same everywhere.
const chunks = 4

// inChunks calls f for each part of n things of which each is size pixels, at once where that is worth while.
func inChunks(n, size int, f func(chunk, lo, hi int)) {
	if n*size < 2000 {
		for k := range chunks {
			f(k, n*k/chunks, n*(k+1)/chunks)
		}
		return
	}
	var parts []func()
	for k := range chunks {
		parts = append(parts, func() { f(k, n*k/chunks, n*(k+1)/chunks) })
	}
	raster.Parallel(parts...)
}

// light relates a template to what is seen: seen = gain * template + offset +
// slope . position, with normalised positions.
type light struct{ gain, offset, sx, sy float64 }

// errors works out how far what is seen, in the template's light, is from the template.
func (l *alignLevel) errors(e, now []float32, lit light, lo, hi int) {
	simd.Unlit(e[lo:hi], now[lo:hi], l.tpl[lo:hi], l.xs[lo:hi], l.ys[lo:hi], lit.gain, lit.offset, lit.sx, lit.sy)
}

// align refines w, which maps normalised positions to pixels of the picture.
// With judge, the sample says how well each block of the region agrees.
func (l *alignLevel) align(
	frame *raster.Plane,
	w geom.Homography,
	covered *raster.Plane,
	toFrame geom.Homography,
	before *[Blocks * Blocks]uint8,
	judge bool,
) (geom.Homography, Sample, error) {
	n, k := len(l.tpl), parameters(l.motion)
	now := make([]float32, n)
	weight := make([]float32, n) // below 0 where nothing is seen
	errors := make([]float32, n)
	places := simd.NewPlaces(n)
	doubted := l.doubted(before)
	for i := range weight {
		if doubted == nil || !doubted[l.block[i]] {
			weight[i] = 1
		}
	}
	absolute := make([]float32, 0, 2100)
	every := 1 + n/2000 // enough for a median and for the light
	var chol mat.Cholesky
	var s Sample
	var lit light
	var lastStep []float64
	refresh := 0 // the round in which the normal matrix is next worked out
	const rounds = 40
	for round := range rounds {
		var counts [chunks]int
		inChunks(n, 1, func(chunk, lo, hi int) {
			at := places.Cut(lo, hi)
			at.Carry((*[9]float64)(&w), l.xs[lo:hi], l.ys[lo:hi])
			frame.BilinearAt(now[lo:hi], &at)
			for i := lo; i < hi; i++ {
				if !at.Within(i-lo, frame.Rect.Dx(), frame.Rect.Dy(), 0.5) || now[i] != now[i] || covered != nil && hidden(covered, toFrame, w.Apply(geom.Point{X: l.xs[i], Y: l.ys[i]})) {
					weight[i] = -1
					continue
				}
				if weight[i] < 0 {
					weight[i] = 0.5
				}
				counts[chunk]++
			}
		})
		seen := 0
		for _, c := range counts {
			seen += c
		}
		if seen < minPixels || seen < n/5 {
			return w, s, ErrLeft
		}
		var ok bool
		if lit, s.Match, ok = l.relight(now, weight, every); !ok {
			return w, s, ErrLost
		}
		inChunks(n, 1, func(_, lo, hi int) { l.errors(errors, now, lit, lo, hi) })
		absolute = absolute[:0]
		for i := round % every; i < n; i += every {
			if weight[i] >= 0 && (doubted == nil || !doubted[l.block[i]]) {
				absolute = append(absolute, abs(errors[i]))
			}
		}
		if len(absolute) == 0 {
			return w, s, ErrLeft
		}
		// 4.685 robust standard deviations: Tukey's biweight at 95 % efficiency.
		limit := float32(4.685 * math.Max(1.4826*float64(raster.Smallest(absolute, len(absolute)/2)), 1e-5))
		anew := round == refresh
		if anew {
			refresh = 2*refresh + 2
		}
		normal, right := l.sums(weight, errors, limit, k, anew)
		if anew {
			sym := mat.NewSymDense(k, nil)
			for r := range k {
				for c := r; c < k; c++ {
					sym.SetSym(r, c, normal[r][c])
				}
				sym.SetSym(r, r, sym.At(r, r)*(1+1e-9))
			}
			if !chol.Factorize(sym) {
				return w, s, ErrLost
			}
		}
		var step mat.VecDense
		if err := chol.SolveVecTo(&step, mat.NewVecDense(k, right[:k])); err != nil {
			return w, s, ErrLost
		}
		values := step.RawVector().Data
		stretch(values, &lastStep)
		delta := small(l.motion, values)
		inverse, invertible := delta.Inverse()
		if !invertible || !delta.Finite() {
			return w, s, ErrExtreme
		}
		w = w.Mul(inverse)
		// How far the region's corners moved, in pixels of this level.
		var moved float64
		for _, c := range [4]geom.Point{{X: -1, Y: -1}, {X: 1, Y: -1}, {X: 1, Y: 1}, {X: -1, Y: 1}} {
			moved = math.Max(moved, delta.Apply(c).Dist(c)*l.half)
		}
		if moved < 0.004 && round > 0 || (!judge && moved < 0.03) {
			break
		}
	}
	if judge {
		l.judge(&s, weight, errors)
		s.Deviation, s.evidence = l.deviation(weight, errors, k)
		s.Deviation = math.Max(s.Deviation, s.pull(k))
	}
	s.Match = math.Max(s.Match, 0)
	return w, s, nil
}

// together is how many neighbouring pixels count as one, as their errors are alike: grain is wider than a pixel, and
// pictures are smoothed before they are aligned.
const together = 12

// deviation is the standard deviation of where the corners of the region's square are, the root of their mean, in pixels
// of this level: what the errors that are left make of the parameters (the covariance of least squares, the Cramér–Rao bound
// where errors are Gaussian).
func (l *alignLevel) deviation(weight, off []float32, k int) (float64, evidence) {
	var by simd.Sums
	by.Add(l.descent, weight, off, true)
	var errors, slopes, n float64
	for i, w := range weight {
		if w <= 0 {
			continue
		}
		e := float64(off[i])
		errors, n = errors+float64(w)*e*e, n+float64(w)
		d := &l.descent[i]
		slopes += float64(w * (d[0]*d[0] + d[1]*d[1]))
	}
	sym := mat.NewSymDense(k, nil)
	for r := range k {
		for c := r; c < k; c++ {
			sym.SetSym(r, c, by.Normal[r][c])
		}
	}
	var chol mat.Cholesky
	var inverse mat.SymDense
	if n == 0 || !chol.Factorize(sym) || chol.InverseTo(&inverse) != nil {
		return math.Inf(1), evidence{}
	}
	alike := math.Max(together/float64(l.stride), 1)
	variance := errors / n * alike
	var sum float64
	const step = 1e-6
	for _, c := range [4]geom.Point{{X: -1, Y: -1}, {X: 1, Y: -1}, {X: 1, Y: 1}, {X: -1, Y: 1}} {
		var by [8]geom.Point
		for i := range k {
			values := make([]float64, k)
			values[i] = step
			delta := small(l.motion, values)
			by[i] = delta.Apply(c).Sub(c).Mul(l.half / step)
		}
		for i := range k {
			for j := range k {
				sum += inverse.At(i, j) * (by[i].X*by[j].X + by[i].Y*by[j].Y) / 4
			}
		}
	}
	// Half of the errors are the template's own, whose slopes look like texture: of neighbours two pixels apart, smoothed as
	// they are, four fifths differ.
	grain := 0.4 * errors / n / 2
	texture := 1 - math.Min(2*grain*n*l.half*l.half/math.Max(slopes, 1e-12), 0.9)
	return math.Sqrt(math.Max(sum*variance, 0)) / texture, evidence{errors / n, n / alike, k}
}

// pull is what parts that slide by themselves make of where the corners are, by as many parameters: of B blocks that slide
// independently by r, RMS, the mean is off by r/√(2B) in each direction, and at the corners of a square it is up to √(k/2) times
// the root of the parameters' mean share of that, √(k/2) as well.
func (s *Sample) pull(k int) float64 {
	used := 0
	for _, state := range s.Blocks {
		if state == Used {
			used++
		}
	}
	return s.Residual * float64(k) / (2 * math.Sqrt(math.Max(float64(used), 1)))
}

// An evidence is what a motion leaves unexplained: the mean square of the errors, over so many pixels that tell something by
// themselves, with so many parameters.
type evidence struct {
	left, pixels float64
	parameters   int
}

// cost is less for the motion that explains a picture best without more parameters than that supports (Akaike's
// information criterion, 1974).
func (e evidence) cost() float64 {
	return e.pixels*math.Log(math.Max(e.left, 1e-12)) + 2*float64(e.parameters)
}

// doubted returns the blocks that were left out before; nil where there were none, or too few others.
func (l *alignLevel) doubted(before *[Blocks * Blocks]uint8) *[Blocks * Blocks]bool {
	if before == nil {
		return nil
	}
	var out [Blocks * Blocks]bool
	for i, state := range before {
		out[i] = state == LeftOut
	}
	others := 0
	for _, b := range l.block {
		if !out[b] {
			others++
		}
	}
	if others == len(l.block) || others < minPixels || others < len(l.block)/8 {
		return nil
	}
	return &out
}

// stretch lengthens a step that goes on as the last one did. A template sharper
// than the picture promises more than the picture gives, and every round falls
// short by the same share: a geometric series, summed at once (Aitken 1926).
func stretch(step []float64, before *[]float64) {
	last := *before
	*before = slices.Clone(step)
	if last == nil {
		return
	}
	var along, power float64
	for i, v := range step {
		along, power = along+v*last[i], power+last[i]*last[i]
	}
	if share := along / power; share > 0.25 && share < 0.95 {
		k := math.Min(1/(1-share), 6)
		for i := range step {
			step[i] *= k
		}
		*before = nil // the next round sees what that has brought
	}
}

func hidden(covered *raster.Plane, toFrame geom.Homography, q geom.Point) bool {
	p := toFrame.Apply(q)
	return covered.At(int(math.Floor(p.X)), int(math.Floor(p.Y))) > 0.5
}

// relight fits the light between the template and what is seen, over every so
// many pixels, with their weights, and returns the weighted correlation that is
// left as well.
func (l *alignLevel) relight(now, weight []float32, every int) (light, float64, bool) {
	var m [4][4]float64
	var b [4]float64
	var vv float64
	for i := 0; i < len(now); i += every {
		w := float64(weight[i])
		if w <= 0 {
			continue
		}
		t, x, y, v := float64(l.tpl[i]), l.xs[i], l.ys[i], float64(now[i])
		row := [4]float64{t, 1, x, y}
		for r := range 4 {
			wr := w * row[r]
			for c := r; c < 4; c++ {
				m[r][c] += wr * row[c]
			}
			b[r] += wr * v
		}
		vv += w * v * v
	}
	sum := m[1][1]
	if sum == 0 {
		return light{}, 0, false
	}
	sym := mat.NewSymDense(4, nil)
	for r := range 4 {
		for c := r; c < 4; c++ {
			sym.SetSym(r, c, m[r][c])
		}
		sym.SetSym(r, r, m[r][r]*(1+1e-10)+1e-12)
	}
	var chol mat.Cholesky
	var x mat.VecDense
	if !chol.Factorize(sym) || chol.SolveVecTo(&x, mat.NewVecDense(4, b[:])) != nil {
		return light{}, 0, false
	}
	lit := light{x.AtVec(0), x.AtVec(1), x.AtVec(2), x.AtVec(3)}
	if !(lit.gain > 0.02) {
		return lit, 0, false
	}
	// The share of variance, around the slope of light, that the template explains.
	var explained float64
	for r := range 4 {
		explained += b[r] * x.AtVec(r)
	}
	var slope mat.VecDense
	plain := sym.SliceSym(1, 4)
	if !chol.Factorize(plain) || chol.SolveVecTo(&slope, mat.NewVecDense(3, b[1:])) != nil {
		return lit, 0, false
	}
	var without float64
	for r := range 3 {
		without += b[r+1] * slope.AtVec(r)
	}
	total := vv - without
	if !(total > 0) {
		return lit, 0, false
	}
	return lit, math.Sqrt(math.Min(math.Max((explained-without)/total, 0), 1)), true
}

// sums sets the weights and returns the right side of the normal equations, and
// their matrix if it is wanted.
func (l *alignLevel) sums(weight, errors []float32, limit float32, k int, matrix bool) (normal [8][8]float64, right [8]float64) {
	var parts [chunks]simd.Sums
	inChunks(len(l.tpl), 1, func(chunk, lo, hi int) {
		simd.Biweight(weight[lo:hi], errors[lo:hi], 1/limit)
		parts[chunk].Add(l.descent[lo:hi], weight[lo:hi], errors[lo:hi], matrix)
	})
	for i := range parts {
		for r := range k {
			right[r] += parts[i].Right[r]
			for c := r; c < k; c++ {
				normal[r][c] += parts[i].Normal[r][c]
			}
		}
	}
	return normal, right
}

// judge works out for each block by how much its own pixels would still move it,
// and what share of the region agrees.
func (l *alignLevel) judge(s *Sample, weight, errors []float32) {
	type part struct {
		xx, xy, yy, ex, ey float64
		all, in            int
	}
	var parts [Blocks * Blocks]part
	for i, wt := range weight {
		if wt < 0 {
			continue
		}
		p := &parts[l.block[i]]
		p.all++
		if wt < 0.2 {
			continue
		}
		p.in++
		e := float64(errors[i])
		// The first two parameters move by the size of the unit square's half.
		gx, gy := float64(l.descent[i][0])/l.half, float64(l.descent[i][1])/l.half
		p.xx, p.xy, p.yy = p.xx+gx*gx, p.xy+gx*gy, p.yy+gy*gy
		p.ex, p.ey = p.ex+gx*e, p.ey+gy*e
	}
	var all, in int
	var sum, power float64
	for i := range parts {
		p := &parts[i]
		all += p.all
		if p.all < 12 {
			continue
		}
		s.Blocks[i] = LeftOut
		if 2*p.in < p.all {
			continue
		}
		det, trace := p.xx*p.yy-p.xy*p.xy, p.xx+p.yy
		if det > 0.02*trace*trace {
			dx, dy := (p.yy*p.ex-p.xy*p.ey)/det, (p.xx*p.ey-p.xy*p.ex)/det
			off := dx*dx + dy*dy
			if off > 2.25 { // by a pixel and a half: it goes its own way
				continue
			}
			sum, power = sum+trace*off, power+trace
		}
		s.Blocks[i] = Used
		in += p.all
	}
	if all > 0 {
		s.Agree = float64(in) / float64(all)
	}
	if power > 0 {
		s.Residual = math.Sqrt(sum / power)
	}
}

func abs(v float32) float32 {
	if v < 0 {
		return -v
	}
	return v
}
