package camera

import (
	"math"

	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/simd"
)

// parts is how many parts the work is cut into: the same on every machine, and so the sums.
const parts = 4

// inParts has n things done in parts, from lo to hi.
func inParts(n int, f func(part, lo, hi int)) {
	var all []func()
	for k := range parts {
		all = append(all, func() { f(k, n*k/parts, n*(k+1)/parts) })
	}
	raster.Parallel(all...)
}

// An eliminator works out what is seen of one point, and eliminates the point: its step follows from that of the cameras.
type eliminator struct {
	seen     []Observation
	lines    []linear
	weights  []float64
	inverse  [9]float64 // of the point's own matrix, damped
	back     Vec        // its gradient, downhill
	held     bool       // by what is seen of it
	own      [3][]float64
	all      [mostShared]Vec
	together []int // of each view, after how many of them one is left out
}

// point takes in all that is seen of a point.
func (e *eliminator) point(b *Bundle, seen []Observation, scale, damping float64) {
	e.seen, e.lines, e.weights, e.back = seen, e.lines[:0], e.weights[:0], Vec{}
	var h [9]float64
	any := false
	for i := range seen {
		l := b.linearise(&seen[i])
		w := weight(l.e[0]*l.e[0]+l.e[1]*l.e[1], scale)
		e.lines, e.weights = append(e.lines, l), append(e.weights, w)
		if !l.ok {
			continue
		}
		any = true
		for k := range 2 {
			d := -l.e[k] * w
			for r := range 3 {
				e.back[r] += d * l.point[k][r]
				for c := range 3 {
					h[3*r+c] += w * l.point[k][r] * l.point[k][c]
				}
			}
		}
	}
	trace := h[0] + h[4] + h[8]
	for k := range 3 {
		// A direction's length, and the depth of what has no parallax, hang on nothing: the floor holds them where they are.
		h[4*k] += damping*h[4*k] + 1e-10*trace + 1e-300
	}
	e.inverse, e.held = invert(h)
	e.held = e.held && any
}

// mix works out how the point is mixed with the views that see it: own has the derivatives of their gradients by the point, a plane
// for each of its coordinates, all those of what views share.
func (e *eliminator) mix(camera, shared int) {
	n := len(e.seen)
	for c := range e.own {
		e.own[c] = append(e.own[c][:0], make([]float64, camera*n)...)
	}
	e.all = [mostShared]Vec{}
	for i := range e.lines {
		l, w := &e.lines[i], e.weights[i]
		if !l.ok {
			continue
		}
		for c := range e.own {
			p, q := w*l.point[0][c], w*l.point[1][c]
			own := e.own[c][i*camera:][:camera]
			for r := range own {
				own[r] = p*l.own[0][r] + q*l.own[1][r]
			}
			for r := range shared {
				e.all[r][c] += p*l.shared[0][r] + q*l.shared[1][r]
			}
		}
	}
	e.together = append(e.together[:0], make([]int, n)...)
	for i := n - 1; i >= 0; i-- {
		e.together[i] = i + 1
		if i+1 < n && e.seen[i+1].View == e.seen[i].View+1 {
			e.together[i] = e.together[i+1]
		}
	}
}

// A system is the reduced camera system: its matrix is a band, as a view shares points with few others, bordered by what all views
// share.
type system struct {
	camera, shared int
	wide           int       // of the band, beside the diagonal
	band           []float64 // upper triangle, wide+1 numbers a row from the diagonal on
	border         []float64 // shared numbers a row
	corner         [mostShared * mostShared]float64
	g              []float64 // right side
	scale          []float64 // the diagonal, undamped
}

// newSystem returns one of zeros for a bundle whose points are seen as at says.
func (b *Bundle) newSystem(at []int) *system {
	s := &system{}
	s.camera, s.shared = b.sizes()
	reach := 0
	for p := range b.Points {
		if at[p] < at[p+1] {
			reach = max(reach, b.Seen[at[p+1]-1].View-b.Seen[at[p]].View)
		}
	}
	if b.Focal == Zooming && len(b.Views) > 1 {
		reach = max(reach, 1)
	}
	n := len(b.Views) * s.camera
	s.wide = (reach+1)*s.camera - 1
	s.band, s.border = make([]float64, n*(s.wide+1)), make([]float64, n*s.shared)
	s.g, s.scale = make([]float64, n+s.shared), make([]float64, n+s.shared)
	return s
}

// row returns a row of the band from its diagonal on.
func (s *system) row(i int) []float64 { return s.band[i*(s.wide+1) : (i+1)*(s.wide+1)] }

// step returns the bundle moved by one damped step; ok is false where there is none.
func (b *Bundle) step(at []int, scale, damping float64) (next Bundle, ok bool) {
	if b.Still {
		next = *b
		next.Points = append([]Vec(nil), b.Points...)
		b.settle(&next, at, nil, scale, damping)
		return next, true
	}
	s := b.newSystem(at)
	var common [parts]corner
	batch := make([]eliminator, min(batchPoints, len(b.Points)))
	for from := 0; from < len(b.Points); from += batchPoints {
		batch = batch[:min(batchPoints, len(b.Points)-from)]
		inParts(len(batch), func(_, lo, hi int) {
			for i := lo; i < hi; i++ {
				batch[i].point(b, b.Seen[at[from+i]:at[from+i+1]], scale, damping)
				batch[i].mix(s.camera, s.shared)
			}
		})
		first, last := len(b.Views), 0 // views that see any of them
		for i := range batch {
			if seen := batch[i].seen; len(seen) > 0 {
				first, last = min(first, seen[0].View), max(last, seen[len(seen)-1].View)
			}
		}
		inParts(last-first+1, func(k, lo, hi int) {
			for i := range batch {
				s.reduce(&batch[i], &common[k], first+lo, first+hi)
			}
		})
	}
	n := len(b.Views) * s.camera
	for k := range common {
		for i, v := range common[k].h {
			s.corner[i] += v
		}
		for i := range s.shared {
			s.g[n+i] += common[k].g[i]
			s.scale[n+i] += common[k].scale[i]
		}
	}
	if b.Focal == Zooming {
		b.holdZoom(s)
	}
	step, ok := s.solve(damping)
	if !ok {
		return next, false
	}
	if next, ok = b.moved(step); ok {
		b.settle(&next, at, step, scale, damping)
	}
	return next, ok
}

// settle moves each point of next as the step of the cameras has it follow; nil for cameras that stay.
func (b *Bundle) settle(next *Bundle, at []int, step []float64, scale, damping float64) {
	camera, shared := b.sizes()
	base := len(b.Views) * camera
	inParts(len(b.Points), func(_, lo, hi int) {
		var e eliminator
		for p := lo; p < hi; p++ {
			seen := b.Seen[at[p]:at[p+1]]
			if e.point(b, seen, scale, damping); !e.held {
				continue
			}
			g := e.back
			for i := range e.lines {
				l := &e.lines[i]
				if !l.ok || step == nil {
					continue
				}
				own := step[seen[i].View*camera:][:camera]
				for j := range 2 {
					var d float64
					for r, v := range own {
						d += l.own[j][r] * v
					}
					for r, v := range step[base : base+shared] {
						d += l.shared[j][r] * v
					}
					d *= e.weights[i]
					for r := range 3 {
						g[r] -= d * l.point[j][r]
					}
				}
			}
			q := b.Points[p].Add(Vec(times(g, &e.inverse)))
			if b.Turning {
				q = q.Unit()
			}
			next.Points[p] = q
		}
	})
}

// solve returns the step of cameras and what they share: the band by the method of Cholesky, the border by what is left of its corner.
func (s *system) solve(damping float64) ([]float64, bool) {
	m := s.shared
	n := len(s.g) - m
	for i := range n {
		s.row(i)[0] += damping*s.scale[i] + 1e-12
	}
	for i := range m {
		s.corner[i*m+i] += damping*s.scale[n+i] + 1e-12
	}
	right := mat.NewDense(n, 1+m, nil)
	for i := range n {
		row := right.RawRowView(i)
		row[0] = s.g[i]
		copy(row[1:], s.border[i*m:(i+1)*m])
	}
	var chol mat.BandCholesky
	if !chol.Factorize(mat.NewSymBandDense(n, s.wide, s.band)) {
		return nil, false
	}
	var x mat.Dense
	if chol.SolveTo(&x, right) != nil && !finite(x.RawMatrix().Data) {
		return nil, false
	}
	step := make([]float64, n+m)
	if m > 0 {
		h, g := s.corner[:m*m], s.g[n:]
		for i := range m {
			for j := i; j < m; j++ {
				for k := range n {
					h[i*m+j] -= s.border[k*m+i] * x.At(k, 1+j)
				}
				h[j*m+i] = h[i*m+j]
			}
			for k := range n {
				g[i] -= s.border[k*m+i] * x.At(k, 0)
			}
		}
		common, ok := solveSmall(h, g, 0)
		if !ok {
			return nil, false
		}
		copy(step[n:], common)
	}
	for k := range n {
		step[k] = x.At(k, 0)
		for j := range m {
			step[k] -= x.At(k, 1+j) * step[n+j]
		}
	}
	return step, finite(step)
}

func finite(v []float64) bool {
	var s float64
	for _, x := range v {
		s += x
	}
	return !math.IsNaN(s) && !math.IsInf(s, 0)
}

// holdZoom adds that a zooming focal length changes little from frame to frame.
func (b *Bundle) holdZoom(s *system) {
	const w = 1 / (zoomSigma * zoomSigma)
	for i := 1; i < len(b.Views); i++ {
		d := math.Log(b.Views[i].Focal / b.Views[i-1].Focal)
		p, q := i*s.camera-1, (i+1)*s.camera-1
		s.row(p)[0] += w
		s.row(q)[0] += w
		s.row(p)[q-p] -= w
		s.g[p] += w * d
		s.g[q] -= w * d
	}
}

// batchPoints is how many points are eliminated at a time.
const batchPoints = 256

// A corner is what points say of what all views share.
type corner struct {
	h        [mostShared * mostShared]float64
	g, scale [mostShared]float64
}

// reduce adds what a point says of views lo to hi to their rows of the system, and, if one of them is the first to see it, what it
// says of what views share.
func (s *system) reduce(e *eliminator, common *corner, lo, hi int) {
	n := len(e.seen)
	if n == 0 || e.seen[n-1].View < lo || e.seen[0].View >= hi {
		return
	}
	camera, shared := s.camera, s.shared
	first := e.seen[0].View >= lo
	for i := range e.lines {
		l, w, view := &e.lines[i], e.weights[i], e.seen[i].View
		if !l.ok {
			continue
		}
		if view >= lo && view < hi {
			off := view * camera
			for r := range camera {
				p, q := w*l.own[0][r], w*l.own[1][r]
				s.g[off+r] -= p*l.e[0] + q*l.e[1]
				s.scale[off+r] += p*l.own[0][r] + q*l.own[1][r]
				row := s.row(off + r)[:camera-r]
				for c := range row {
					row[c] += p*l.own[0][r+c] + q*l.own[1][r+c]
				}
				row = s.border[(off+r)*shared:][:shared]
				for c := range row {
					row[c] += p*l.shared[0][c] + q*l.shared[1][c]
				}
			}
		}
		for r := 0; first && r < shared; r++ {
			p, q := w*l.shared[0][r], w*l.shared[1][r]
			common.g[r] -= p*l.e[0] + q*l.e[1]
			common.scale[r] += p*l.shared[0][r] + q*l.shared[1][r]
			for c := r; c < shared; c++ {
				common.h[r*shared+c] += p*l.shared[0][c] + q*l.shared[1][c]
			}
		}
	}
	if !e.held {
		return
	}
	for i := range e.seen {
		view := e.seen[i].View
		if view < lo || view >= hi || !e.lines[i].ok {
			continue
		}
		off := view * camera
		for r := range camera {
			k := i*camera + r
			y := times([3]float64{e.own[0][k], e.own[1][k], e.own[2][k]}, &e.inverse)
			s.g[off+r] -= y[0]*e.back[0] + y[1]*e.back[1] + y[2]*e.back[2]
			row := s.row(off + r)
			// Of the views that see the point those that follow, as far as one comes after the other.
			for j, from := i, k; j < n; {
				end := e.together[j] * camera
				to := row[(e.seen[j].View-j)*camera+from-off-r:][:end-from]
				simd.Reduce(to, e.own[0][from:end], e.own[1][from:end], e.own[2][from:end], y)
				j, from = e.together[j], end
			}
			row = s.border[(off+r)*shared:][:shared]
			for c := range row {
				row[c] -= y[0]*e.all[c][0] + y[1]*e.all[c][1] + y[2]*e.all[c][2]
			}
		}
	}
	for r := 0; first && r < shared; r++ {
		y := times(e.all[r], &e.inverse)
		common.g[r] -= y[0]*e.back[0] + y[1]*e.back[1] + y[2]*e.back[2]
		for c := r; c < shared; c++ {
			common.h[r*shared+c] -= y[0]*e.all[c][0] + y[1]*e.all[c][1] + y[2]*e.all[c][2]
		}
	}
}

func times(w [3]float64, m *[9]float64) [3]float64 {
	return [3]float64{
		w[0]*m[0] + w[1]*m[3] + w[2]*m[6],
		w[0]*m[1] + w[1]*m[4] + w[2]*m[7],
		w[0]*m[2] + w[1]*m[5] + w[2]*m[8],
	}
}

// invert returns the inverse of a symmetric positive matrix.
func invert(m [9]float64) ([9]float64, bool) {
	h := geom.Homography(m)
	d := h.Det()
	if !(d > 0) || math.IsInf(d, 0) {
		return m, false
	}
	out := [9]float64{
		m[4]*m[8] - m[5]*m[7], m[2]*m[7] - m[1]*m[8], m[1]*m[5] - m[2]*m[4],
		m[5]*m[6] - m[3]*m[8], m[0]*m[8] - m[2]*m[6], m[2]*m[3] - m[0]*m[5],
		m[3]*m[7] - m[4]*m[6], m[1]*m[6] - m[0]*m[7], m[0]*m[4] - m[1]*m[3],
	}
	for i := range out {
		out[i] /= d
	}
	return out, true
}
