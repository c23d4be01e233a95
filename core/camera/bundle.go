package camera

import (
	"cmp"
	"context"
	"errors"
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
)

// How the focal length is to be found.
type Focal string

const (
	Known   Focal = "known"   // it is what it is
	Fixed   Focal = "fixed"   // unknown, and the same on all frames
	Zooming Focal = "zooming" // unknown, and another one on each frame
)

// An Observation is where a point is seen.
type Observation struct {
	View, Point int
	At          geom.Point // on the plate
}

// A Bundle is what is adjusted together: cameras, points, focal length and lens.
type Bundle struct {
	Lens          geom.Lens
	Width, Height int
	Views         []View
	Points        []Vec
	Seen          []Observation // Adjust sorts them by point and view; no view sees a point twice
	Focal         Focal
	Terms         int  // radial terms that are found, 0 to 3
	Centre        bool // the principal point is found
	Squeeze       bool // the lens's squeeze is found
	Turning       bool // cameras only turn: points are directions
	Still         bool // cameras stay where they are: points alone are adjusted
}

// ErrLoose is returned where what is seen does not hold cameras and points together.
var ErrLoose = errors.New("too little is seen to hold the camera")

const (
	zoomSigma = 0.02 // change of a zooming focal length's logarithm from frame to frame that costs as much as a pixel
	near      = 1e-9 // of the camera's own unit: what is nearer is behind
)

func (b *Bundle) sizes() (camera, shared int) {
	camera = 6
	if b.Turning {
		camera = 3
	}
	switch b.Focal {
	case Zooming:
		camera++
	case Fixed:
		shared++
	}
	shared += b.Terms
	if b.Centre {
		shared += 2
	}
	if b.Squeeze {
		shared++
	}
	return camera, shared
}

// No lens squeezes more than this.
const leastSqueeze, mostSqueeze = 0.25, 4.0

// mostShared is the most parameters that all views share, mostOwn the most of one of them.
const (
	mostShared = 7
	mostOwn    = 7
)

// A linear is an observation's error and its derivatives.
type linear struct {
	e      [2]float64
	own    [2][mostOwn]float64
	shared [2][mostShared]float64
	point  [2][3]float64
	ok     bool
}

// error2 returns the squared distance of where a point is seen from where it should be; infinite where it cannot be.
func (b *Bundle) error2(o *Observation) float64 {
	c := b.Views[o.View].camera(b.Points[o.Point], b.Turning)
	if !(c[2] > near) {
		return math.Inf(1)
	}
	f := b.Views[o.View].Focal
	p := b.Lens.Distort(geom.Pt(b.Lens.Centre.X+f/squeeze(&b.Lens)*c[0]/c[2], b.Lens.Centre.Y+f*c[1]/c[2]))
	if !p.Finite() {
		return math.Inf(1)
	}
	d := p.Sub(o.At)
	return d.X*d.X + d.Y*d.Y
}

func (v *View) camera(x Vec, turning bool) Vec {
	if turning {
		return v.Pose.R.Apply(x)
	}
	return v.Pose.Apply(x)
}

// linearise works out an observation's error and derivatives.
func (b *Bundle) linearise(o *Observation) (l linear) {
	v := &b.Views[o.View]
	x := b.Points[o.Point]
	turned := v.Pose.R.Apply(x)
	c := turned
	if !b.Turning {
		c = turned.Add(v.Pose.T)
	}
	if !(c[2] > near) {
		return l
	}
	lens := &b.Lens
	fx, fy := v.Focal/squeeze(lens), v.Focal
	iz := 1 / c[2]
	sx, sy := fx*c[0]*iz, fy*c[1]*iz
	straight := geom.Pt(lens.Centre.X+sx, lens.Centre.Y+sy)
	p := lens.Distort(straight)
	if !p.Finite() {
		return l
	}
	l.ok = true
	l.e = [2]float64{p.X - o.At.X, p.Y - o.At.Y}
	xx, xy, yx, yy := lens.Jacobian(straight)
	// Derivatives of the straight place by the place in the camera, taken through the lens.
	jx := [3]float64{fx * iz, 0, -sx * iz}
	jy := [3]float64{0, fy * iz, -sy * iz}
	var d [2][3]float64
	for k := range 3 {
		d[0][k] = xx*jx[k] + xy*jy[k]
		d[1][k] = yx*jx[k] + yy*jy[k]
	}
	r := &v.Pose.R
	for i := range 2 {
		g := Vec(d[i])
		w := turned.Cross(g) // g . (w x turned) = w . (turned x g)
		l.own[i][0], l.own[i][1], l.own[i][2] = w[0], w[1], w[2]
		if !b.Turning {
			l.own[i][3], l.own[i][4], l.own[i][5] = g[0], g[1], g[2]
		}
		l.point[i] = r.Back(g)
	}
	zoom := [2]float64{xx*sx + xy*sy, yx*sx + yy*sy} // by the logarithm of the focal length
	n := 0
	switch b.Focal {
	case Zooming:
		camera, _ := b.sizes()
		l.own[0][camera-1], l.own[1][camera-1] = zoom[0], zoom[1]
	case Fixed:
		l.shared[0][0], l.shared[1][0] = zoom[0], zoom[1]
		n = 1
	}
	if b.Terms > 0 {
		a := squeeze(lens)
		r2 := (a*a*sx*sx + sy*sy) / (lens.Radius * lens.Radius)
		power := r2
		for range b.Terms {
			l.shared[0][n], l.shared[1][n] = sx*power, sy*power
			power *= r2
			n++
		}
	}
	if b.Centre {
		l.shared[0][n], l.shared[1][n+1] = 1, 1
		n += 2
	}
	if b.Squeeze {
		// By its logarithm: sx shrinks, a sx stays, and radius 1, half the diagonal, grows.
		a := squeeze(lens)
		w, h := a*float64(b.Width), float64(b.Height)
		var r2 float64
		if !lens.Plain() {
			r2 = (a*a*sx*sx + sy*sy) / (lens.Radius * lens.Radius)
		}
		shrink := -2 * r2 * w * w / (w*w + h*h) * (lens.K[0] + r2*(2*lens.K[1]+r2*3*lens.K[2]))
		l.shared[0][n] = sx * (shrink - 1 - r2*(lens.K[0]+r2*(lens.K[1]+r2*lens.K[2])))
		l.shared[1][n] = sy * shrink
	}
	return l
}

// robust returns what an error costs and how much it counts: squared up to a scale, and no more than its logarithm beyond
// (Cauchy). A scale of 0 is plain least squares.
func robust(e2, scale float64) (cost, weight float64) {
	if scale == 0 {
		return e2, 1
	}
	s2 := scale * scale
	return s2 * math.Log1p(e2/s2), 1 / (1 + e2/s2)
}

// Cost returns the sum of what all errors cost, with a scale from which on they count less; errors that are not finite cost as
// much as one of the picture's width.
func (b *Bundle) cost(scale float64) (sum float64) {
	most := float64(b.Width * b.Width)
	for i := range b.Seen {
		c, _ := robust(math.Min(b.error2(&b.Seen[i]), most), scale)
		sum += c
	}
	if b.Focal == Zooming && !b.Still {
		for i := 1; i < len(b.Views); i++ {
			d := math.Log(b.Views[i].Focal/b.Views[i-1].Focal) / zoomSigma
			sum += d * d
		}
	}
	return sum
}

func (b *Bundle) sortSeen() {
	slices.SortFunc(b.Seen, func(p, q Observation) int {
		return cmp.Or(cmp.Compare(p.Point, q.Point), cmp.Compare(p.View, q.View))
	})
}

// spans returns where each point's observations begin in Seen, and where the last one's end.
func (b *Bundle) spans() []int {
	at := make([]int, len(b.Points)+1)
	i := 0
	for p := range b.Points {
		at[p] = i
		for i < len(b.Seen) && b.Seen[i].Point == p {
			i++
		}
	}
	at[len(b.Points)] = i
	return at
}

const bundleChunks = 4 // parts that are summed apart: the same on every machine

// normals are the reduced camera system, and what leads from its solution back to the points.
type normals struct {
	h     []float64 // n x n, upper triangle
	g     []float64
	inv   [][9]float64 // of each point's own matrix, damped
	back  []Vec        // its gradient
	scale []float64    // diagonal of the cameras, undamped
}

// Adjust moves cameras, points, focal length and lens to where the errors cost least, in so many rounds at most: the method of
// Levenberg and Marquardt, the points eliminated first (Schur complement; Triggs, McLauchlan, Hartley & Fitzgibbon 2000, Agarwal
// et al. 2010). Errors beyond scale, pixels, count less; 0 counts all alike. It returns the number of rounds that it took.
func (b *Bundle) Adjust(ctx context.Context, scale float64, rounds int) (int, error) {
	b.sortSeen()
	at := b.spans()
	damping, grow := 1e-4, 2.0
	cost := b.cost(scale)
	for round := range rounds {
		if err := ctx.Err(); err != nil {
			return round, err
		}
		lines := make([]linear, len(b.Seen))
		weights := make([]float64, len(b.Seen))
		inParts(len(b.Seen), func(_, lo, hi int) {
			for i := lo; i < hi; i++ {
				lines[i] = b.linearise(&b.Seen[i])
				e := lines[i].e
				_, weights[i] = robust(e[0]*e[0]+e[1]*e[1], scale)
			}
		})
		improved := false
		for range 12 {
			if err := ctx.Err(); err != nil {
				return round, err
			}
			next, ok := b.step(at, lines, weights, damping)
			if ok {
				if c := next.cost(scale); c < cost {
					gain := (cost - c) / cost
					b.Views, b.Points, b.Lens = next.Views, next.Points, next.Lens
					cost, damping, grow = c, math.Max(damping/3, 1e-12), 2
					improved = true
					if gain < 1e-9 {
						return round + 1, nil
					}
					break
				}
			}
			damping *= grow
			grow *= 2
			if damping > 1e12 {
				break
			}
		}
		if !improved {
			return round, nil
		}
	}
	return rounds, nil
}

func inParts(n int, f func(part, lo, hi int)) {
	var parts []func()
	for k := range bundleChunks {
		parts = append(parts, func() { f(k, n*k/bundleChunks, n*(k+1)/bundleChunks) })
	}
	raster.Parallel(parts...)
}

// step returns the bundle moved by one damped step; ok is false where there is none.
func (b *Bundle) step(at []int, lines []linear, weights []float64, damping float64) (next Bundle, ok bool) {
	camera, shared := b.sizes()
	n := len(b.Views)*camera + shared
	if b.Still {
		n = 0
	}
	var parts [bundleChunks]normals
	inParts(len(b.Points), func(k, lo, hi int) { parts[k] = b.reduce(at, lines, weights, damping, lo, hi, n) })
	step := make([]float64, n)
	if n > 0 {
		sum := parts[0]
		for _, p := range parts[1:] {
			for i, v := range p.h {
				sum.h[i] += v
			}
			for i, v := range p.g {
				sum.g[i] += v
				sum.scale[i] += p.scale[i]
			}
		}
		if b.Focal == Zooming {
			b.holdZoom(&sum, camera, n)
		}
		for i := range n {
			sum.h[i*n+i] += damping*sum.scale[i] + 1e-12
		}
		var chol mat.Cholesky
		if !chol.Factorize(mat.NewSymDense(n, sum.h)) {
			return next, false
		}
		x := mat.NewVecDense(n, nil)
		if chol.SolveVecTo(x, mat.NewVecDense(n, sum.g)) != nil && !finite(x.RawVector().Data) {
			return next, false
		}
		copy(step, x.RawVector().Data)
		if !finite(step) {
			return next, false
		}
	}
	return b.moved(at, lines, weights, parts[:], step)
}

func finite(v []float64) bool {
	var s float64
	for _, x := range v {
		s += x
	}
	return !math.IsNaN(s) && !math.IsInf(s, 0)
}

// holdZoom adds that a zooming focal length changes little from frame to frame.
func (b *Bundle) holdZoom(sum *normals, camera, n int) {
	const w = 1 / (zoomSigma * zoomSigma)
	for i := 1; i < len(b.Views); i++ {
		d := math.Log(b.Views[i].Focal / b.Views[i-1].Focal)
		p, q := i*camera-1, (i+1)*camera-1
		sum.h[p*n+p] += w
		sum.h[q*n+q] += w
		sum.h[p*n+q] -= w
		sum.g[p] += w * d
		sum.g[q] -= w * d
	}
}

// reduce eliminates points lo to hi: what they say of the cameras.
func (b *Bundle) reduce(at []int, lines []linear, weights []float64, damping float64, lo, hi, n int) normals {
	camera, shared := b.sizes()
	if n == 0 {
		camera, shared = 0, 0
	}
	out := normals{h: make([]float64, n*n), g: make([]float64, n), scale: make([]float64, n),
		inv: make([][9]float64, hi-lo), back: make([]Vec, hi-lo)}
	base := len(b.Views) * camera
	type block struct {
		at int
		w  [mostOwn][3]float64 // derivative of the gradient by the point
		y  [mostOwn][3]float64 // w times the inverse of the point's matrix
	}
	var blocks []block
	for p := lo; p < hi; p++ {
		blocks = blocks[:0]
		var hp [9]float64
		var gp Vec
		var ws, ys [mostShared][3]float64
		for i := at[p]; i < at[p+1]; i++ {
			l := &lines[i]
			if !l.ok {
				continue
			}
			w := weights[i]
			off := b.Seen[i].View * camera
			var bl block
			bl.at = off
			for k := range 2 {
				e := -l.e[k] * w
				for r := range 3 {
					gp[r] += e * l.point[k][r]
					for c := range 3 {
						hp[3*r+c] += w * l.point[k][r] * l.point[k][c]
					}
				}
				for r := range camera {
					jw := w * l.own[k][r]
					out.g[off+r] += e * l.own[k][r]
					row := out.h[(off+r)*n:]
					for c := r; c < camera; c++ {
						row[off+c] += jw * l.own[k][c]
					}
					for c := range shared {
						row[base+c] += jw * l.shared[k][c]
					}
					for c := range 3 {
						bl.w[r][c] += jw * l.point[k][c]
					}
				}
				for r := range shared {
					jw := w * l.shared[k][r]
					out.g[base+r] += e * l.shared[k][r]
					row := out.h[(base+r)*n:]
					for c := r; c < shared; c++ {
						row[base+c] += jw * l.shared[k][c]
					}
					for c := range 3 {
						ws[r][c] += jw * l.point[k][c]
					}
				}
			}
			for r := range camera {
				d := l.own[0][r]*l.own[0][r] + l.own[1][r]*l.own[1][r]
				out.scale[off+r] += w * d
			}
			for r := range shared {
				d := l.shared[0][r]*l.shared[0][r] + l.shared[1][r]*l.shared[1][r]
				out.scale[base+r] += w * d
			}
			blocks = append(blocks, bl)
		}
		trace := hp[0] + hp[4] + hp[8]
		for k := range 3 {
			// A direction's length, and the depth of what has no parallax, hang on nothing: the floor holds them where they are.
			hp[4*k] += damping*hp[4*k] + 1e-10*trace + 1e-300
		}
		inv, ok := invert(hp)
		if !ok || len(blocks) == 0 {
			continue
		}
		out.inv[p-lo], out.back[p-lo] = inv, gp
		if n == 0 {
			continue
		}
		for i := range blocks {
			bl := &blocks[i]
			for r := range camera {
				bl.y[r] = times(bl.w[r], &inv)
				out.g[bl.at+r] -= bl.y[r][0]*gp[0] + bl.y[r][1]*gp[1] + bl.y[r][2]*gp[2]
			}
		}
		for r := range shared {
			ys[r] = times(ws[r], &inv)
			out.g[base+r] -= ys[r][0]*gp[0] + ys[r][1]*gp[1] + ys[r][2]*gp[2]
		}
		for i := range blocks {
			a := &blocks[i]
			// Observations of a point are in the order of the views: what lies before is in the lower triangle.
			for j := i; j < len(blocks); j++ {
				c := &blocks[j]
				for r := range camera {
					y0, y1, y2 := a.y[r][0], a.y[r][1], a.y[r][2]
					from := 0
					if i == j {
						from = r
					}
					row := out.h[(a.at+r)*n+c.at:][:camera]
					for k := from; k < camera; k++ {
						w := &c.w[k]
						row[k] -= y0*w[0] + y1*w[1] + y2*w[2]
					}
				}
			}
			for r := range camera {
				y := a.y[r]
				row := out.h[(a.at+r)*n+base:]
				for k := range shared {
					row[k] -= y[0]*ws[k][0] + y[1]*ws[k][1] + y[2]*ws[k][2]
				}
			}
		}
		for r := range shared {
			y := ys[r]
			row := out.h[(base+r)*n+base:]
			for k := r; k < shared; k++ {
				row[k] -= y[0]*ws[k][0] + y[1]*ws[k][1] + y[2]*ws[k][2]
			}
		}
	}
	return out
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

// moved returns the bundle after a step of its cameras, and of each point as that has it follow.
func (b *Bundle) moved(at []int, lines []linear, weights []float64, parts []normals, step []float64) (Bundle, bool) {
	camera, shared := b.sizes()
	next := *b
	next.Views = append([]View(nil), b.Views...)
	next.Points = append([]Vec(nil), b.Points...)
	base := len(b.Views) * camera
	still := len(step) == 0
	inParts(len(b.Points), func(k, lo, hi int) {
		for p := lo; p < hi; p++ {
			g := parts[k].back[p-lo]
			if !still {
				for i := at[p]; i < at[p+1]; i++ {
					l := &lines[i]
					if !l.ok {
						continue
					}
					off := b.Seen[i].View * camera
					for j := range 2 {
						var d float64
						for r := range camera {
							d += l.own[j][r] * step[off+r]
						}
						for r := range shared {
							d += l.shared[j][r] * step[base+r]
						}
						d *= weights[i]
						for r := range 3 {
							g[r] -= d * l.point[j][r]
						}
					}
				}
			}
			m := &parts[k].inv[p-lo]
			d := times(g, m)
			q := b.Points[p].Add(Vec(d))
			if b.Turning {
				q = q.Unit()
			}
			next.Points[p] = q
		}
	})
	if still {
		return next, true
	}
	for i := range next.Views {
		v, s := &next.Views[i], step[i*camera:(i+1)*camera]
		turn := Turn(Vec{s[0], s[1], s[2]})
		v.Pose.R = turn.Mul(v.Pose.R)
		if !b.Turning {
			v.Pose.T = v.Pose.T.Add(Vec{s[3], s[4], s[5]})
		}
		if b.Focal == Zooming {
			v.Focal *= math.Exp(bounded(s[camera-1]))
		}
	}
	s := step[base:]
	if b.Focal == Fixed {
		for i := range next.Views {
			next.Views[i].Focal *= math.Exp(bounded(s[0]))
		}
		s = s[1:]
	}
	if len(s) > 0 {
		k, centre, squeeze := b.Lens.K, b.Lens.Centre, b.Lens.Squeeze
		for i := range b.Terms {
			k[i] += s[i]
		}
		s = s[b.Terms:]
		if b.Centre {
			centre = centre.Add(geom.Pt(s[0], s[1]))
			s = s[2:]
		}
		if b.Squeeze {
			squeeze *= math.Exp(bounded(s[0]))
			if squeeze < leastSqueeze || squeeze > mostSqueeze {
				return next, false
			}
		}
		lens, err := geom.LensOf(k, b.Width, b.Height, centre, squeeze)
		if err != nil {
			return next, false
		}
		next.Lens = lens
	}
	return next, true
}

// bounded is a step of a logarithm that is not too far.
func bounded(s float64) float64 { return math.Min(math.Max(s, -0.3), 0.3) }

// Errors returns how far each observation is from where its point should be seen, pixels.
func (b *Bundle) Errors() []float64 {
	out := make([]float64, len(b.Seen))
	for i := range b.Seen {
		out[i] = math.Sqrt(b.error2(&b.Seen[i]))
	}
	return out
}

// RMS returns the root of the mean squared distance, pixels.
func (b *Bundle) RMS() float64 {
	var sum float64
	for i := range b.Seen {
		sum += b.error2(&b.Seen[i])
	}
	return math.Sqrt(sum / float64(max(1, len(b.Seen))))
}
