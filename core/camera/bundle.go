package camera

import (
	"cmp"
	"context"
	"errors"
	"math"
	"slices"

	"jardin/core/geom"
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

// robust returns what an error costs: squared up to a scale, and no more than its logarithm beyond (Cauchy). A scale of 0 is plain
// least squares.
func robust(e2, scale float64) float64 {
	if scale == 0 {
		return e2
	}
	s2 := scale * scale
	return s2 * math.Log1p(e2/s2)
}

// weight returns how much an error counts then: the derivative of what it costs.
func weight(e2, scale float64) float64 {
	if scale == 0 {
		return 1
	}
	return 1 / (1 + e2/(scale*scale))
}

// Cost returns the sum of what all errors cost, with a scale from which on they count less; errors that are not finite cost as
// much as one of the picture's width.
func (b *Bundle) cost(scale float64) (sum float64) {
	most := float64(b.Width * b.Width)
	for i := range b.Seen {
		sum += robust(math.Min(b.error2(&b.Seen[i]), most), scale)
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
		improved := false
		for range 12 {
			if err := ctx.Err(); err != nil {
				return round, err
			}
			next, ok := b.step(at, scale, damping)
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

// moved returns the bundle after a step of its cameras and what they share, in the order of the reduced system; its points are the
// same places, for who moves them. ok is false where no lens is like that.
func (b *Bundle) moved(step []float64) (next Bundle, ok bool) {
	camera, _ := b.sizes()
	next = *b
	next.Views = slices.Clone(b.Views)
	next.Points = slices.Clone(b.Points)
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
	s := step[len(b.Views)*camera:]
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
