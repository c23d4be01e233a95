package settle

import (
	"cmp"
	"context"
	"math"
	"slices"

	"jardin/core/geom"
	"jardin/core/raster"
)

// steps are the blurs that are tried first, sigma in pixels.
var steps = []float64{0, 0.35, 0.5, 0.7, 1, 1.4, 2, 2.8, 4, 5.6, 8, 11.2}

// A Pair shows the same pixels of the plate and of what is held: planes of the
// square root of light.
type Pair struct {
	Plate, Held *raster.Plane
	Valid       *raster.Plane // 1 where both show the surface, 0 elsewhere
}

// A BlurEstimate is how much softer a plate is than what is held.
type BlurEstimate struct {
	Square Reading // of the sigma of the Gaussian that makes them alike, in square pixels
	Left   float64 // how much both still differ: the mean square, grain included
	Pixels float64 // that were compared; 0 where there are too few
}

// EstimateBlur measures how much softer the plate is than what is held, as the variance of the Gaussian that makes them
// alike, from the detail of both, each relative to how bright it is around. grain is the standard deviation of the grain
// that is still in what is held. At the end of the search nothing was found: its reading is not known.
func EstimateBlur(pairs []Pair, grain float64) BlurEstimate {
	out := BlurEstimate{Square: unknown}
	var plates, helds []*raster.Plane
	n, bright := 0.0, 0.0
	for _, p := range pairs {
		cover := raster.Gaussian(p.Valid, broad)
		a, _ := detail(p.Plate, p.Valid, cover)
		b, level := detail(p.Held, p.Valid, cover)
		plates, helds = append(plates, a), append(helds, b)
		for _, v := range p.Valid.Pix {
			n += float64(v)
		}
		bright += level
	}
	if n < 64 {
		return out
	}
	out.Pixels = n
	grain *= n / bright
	var tried [][2]float64 // squares of sigmas, and how far both are apart
	// How far both are apart when what is held is blurred by a sigma.
	apart := func(s float64) (sum float64) {
		for i, p := range pairs {
			b := helds[i]
			if s > 0 {
				b = raster.Gaussian(b, s)
			}
			for k, w := range p.Valid.Pix {
				if w > 0 {
					d := float64(plates[i].Pix[k] - b.Pix[k])
					sum += d * d
				}
			}
		}
		// Blurring takes away held grain as well, which is no better match: grain as wide as a Gaussian of 0.5, of whose
		// variance carrying by cubic convolution has left about 0.7, keeps this much.
		e := sum/n - 0.7*grain*grain*0.36/(0.36+s*s)
		tried = append(tried, [2]float64{s * s, e})
		return e
	}
	var off []float64
	for i, s := range steps {
		off = append(off, apart(s))
		if i > 2 && off[i] > off[i-1] && off[i-1] > off[i-2] {
			break // it only gets worse
		}
	}
	best := 0
	for i := range off {
		if off[i] < off[best] {
			best = i
		}
	}
	// Between the neighbours of the best step by golden sections (Kiefer 1953).
	const golden = 0.618034
	a, b := steps[max(best-1, 0)], steps[min(best+1, len(off)-1)]
	x, y := b-(b-a)*golden, a+(b-a)*golden
	fx, fy := apart(x), apart(y)
	for range 5 {
		if fx < fy {
			b, y, fy = y, x, fx
			x = b - (b-a)*golden
			fx = apart(x)
		} else {
			a, x, fx = x, y, fy
			y = a + (b-a)*golden
			fy = apart(y)
		}
	}
	sigma, left := x, fx
	if fy < fx {
		sigma, left = y, fy
	}
	if off[0] <= left {
		sigma, left = 0, off[0]
	}
	out.Left, out.Square.Value = left, sigma*sigma
	if best == len(steps)-1 {
		return out // it would rather have no detail at all: that is no likeness
	}
	// By least squares: the error's variance over how much a little more blur changes, of so many pixels as are independent.
	// How a pixel lies between those of the frame that is held softens it too, by a variance of up to atBest.
	const more, together, atBest = 0.25, 6, 0.06
	var changes float64
	for i, p := range pairs {
		a, b := helds[i], raster.Gaussian(helds[i], math.Sqrt(sigma*sigma+more))
		if sigma > 0 {
			a = raster.Gaussian(helds[i], sigma)
		}
		for k, w := range p.Valid.Pix {
			if w > 0 {
				changes += sqr(float64(a.Pix[k]-b.Pix[k]) / more)
			}
		}
	}
	if changes > 0 {
		out.Square.Variance = together*math.Max(left, 1e-7)/changes + sqr(atBest+0.04*sigma*sigma)
	}
	if sigma < 1 {
		out.Square = likely(tried, n/together, math.Max(left, 1e-7))
		out.Square.Variance += sqr(atBest)
	}
	return out
}

// likely returns the mean of a small blur's square and its variance, by how likely each is: grain that is left in what is
// held makes two of them nearly as good, and the better of them jumps from frame to frame. tried are squares of sigmas and
// how far both are apart with each, of n pixels by themselves; between them that goes in a straight way.
func likely(tried [][2]float64, n, left float64) Reading {
	slices.SortFunc(tried, func(a, b [2]float64) int { return cmp.Compare(a[0], b[0]) })
	const step = 0.01
	var squares, apart []float64
	k := 0
	for u := step / 2; u < tried[len(tried)-1][0]; u += step {
		for tried[k+1][0] < u {
			k++
		}
		a, b := tried[k], tried[k+1]
		squares, apart = append(squares, u), append(apart, a[1]+(b[1]-a[1])*(u-a[0])/(b[0]-a[0]))
	}
	least := slices.Min(apart)
	var sum, first, second float64
	for i, u := range squares {
		w := math.Exp(-n * (apart[i] - least) / (2 * left))
		sum, first, second = sum+w, first+w*u, second+w*u*u
	}
	mean := first / sum
	return Reading{mean, math.Max(second/sum-mean*mean, 0)}
}

// broad is the sigma in pixels of the blur that is taken away for detail.
const broad = 6

// detail returns a plane without what is broader than detail, relative to that, and
// the sum of that. Where it is not valid it is 0.
func detail(p, valid, cover *raster.Plane) (out *raster.Plane, level float64) {
	out = raster.NewPlane(p.Rect)
	for i, v := range valid.Pix {
		if v > 0 { // what is not valid may be anything
			out.Pix[i] = p.Pix[i] * v
		}
	}
	low := raster.Gaussian(out, broad)
	for i, v := range p.Pix {
		out.Pix[i] = 0
		if valid.Pix[i] > 0 && cover.Pix[i] > 1e-3 {
			around := max(low.Pix[i]/cover.Pix[i], 0.02)
			out.Pix[i] = v/around - 1
			level += float64(around)
		}
	}
	return out, level
}

// LongestSmear is the longest trace in pixels that is smeared: what moves farther while the
// shutter is open is a track that slipped.
const LongestSmear = 300

// Smear blurs a picture along the way of each pixel: along(p) is the whole length
// of its trace on the frame, with its middle at p; of longer ones than LongestSmear that
// much. A long trace is sampled in two goes, a comb of short ones, as both together make the
// same box: so its time grows with the root of its length. It returns the context's error if
// that ends.
func Smear(ctx context.Context, m *raster.Image, along func(p geom.Point) geom.Point) (*raster.Image, error) {
	r := m.Rect
	trace := func(p geom.Point) geom.Point {
		d := along(p)
		if l := d.Len(); l > LongestSmear {
			d = d.Mul(LongestSmear / l)
		} else if !d.Finite() {
			d = geom.Point{}
		}
		return d
	}
	var longest float64
	box := geom.Box{Min: geom.Pt(float64(r.Min.X), float64(r.Min.Y)), Max: geom.Pt(float64(r.Max.X), float64(r.Max.Y))}
	for _, c := range box.Corners() {
		longest = math.Max(longest, trace(c).Len())
	}
	if longest < 0.2 {
		return m, ctx.Err()
	}
	n := max(3, int(math.Ceil(longest*1.5)))
	if n <= 64 {
		return smeared(ctx, m, trace, n)
	}
	comb := int(math.Ceil(math.Sqrt(float64(n))))
	short, err := smeared(
		ctx,
		m,
		func(p geom.Point) geom.Point { return trace(p).Mul(1 / float64(comb)) },
		(n+comb-1)/comb,
	)
	if err != nil {
		return nil, err
	}
	return smeared(ctx, short, trace, comb)
}

// smeared takes the mean of n samples along each pixel's trace.
func smeared(ctx context.Context, m *raster.Image, along func(p geom.Point) geom.Point, n int) (*raster.Image, error) {
	r := m.Rect
	box := geom.Box{Min: geom.Pt(float64(r.Min.X), float64(r.Min.Y)), Max: geom.Pt(float64(r.Max.X), float64(r.Max.Y))}
	out := raster.NewImage(r)
	raster.Rows(r.Min.Y, r.Max.Y, func(y int) {
		if ctx.Err() != nil {
			return
		}
		row := out.Row(y, r.Min.X, r.Max.X)
		for x := range r.Dx() {
			p := geom.Pt(float64(r.Min.X+x)+0.5, float64(y)+0.5)
			d := along(p)
			var sum [4]float32
			for k := range n {
				t := (float64(k)+0.5)/float64(n) - 0.5
				q := p.Add(d.Mul(t))
				q.X = math.Min(math.Max(q.X, box.Min.X+0.5), box.Max.X-0.5)
				q.Y = math.Min(math.Max(q.Y, box.Min.Y+0.5), box.Max.Y-0.5)
				v := m.Bicubic(q.X, q.Y)
				for c := range 4 {
					sum[c] += v[c]
				}
			}
			for c := range 4 {
				row[4*x+c] = sum[c] / float32(n)
			}
		}
	})
	return out, ctx.Err()
}

// MissingSmear returns what is still missing of a smear: by which length, and in which
// direction, something must be smeared that was smeared by had to look as if it
// had been smeared by wanted. Second moments decide: those of a straight trace of
// length d are d dT / 12, and what is missing is the part of their difference that
// is positive.
func MissingSmear(wanted, had geom.Point) geom.Point {
	a := wanted.X*wanted.X - had.X*had.X
	b := wanted.X*wanted.Y - had.X*had.Y
	c := wanted.Y*wanted.Y - had.Y*had.Y
	middle, apart := (a+c)/2, math.Hypot((a-c)/2, b)
	most := middle + apart
	if most <= 0 {
		return geom.Point{}
	}
	dir := geom.Pt(b, most-a)
	if math.Abs(most-c) > math.Abs(most-a) {
		dir = geom.Pt(most-c, b)
	}
	l := dir.Len()
	if l == 0 {
		dir, l = geom.Pt(1, 0), 1
		if c > a {
			dir = geom.Pt(0, 1)
		}
	}
	return dir.Mul(math.Sqrt(most) / l)
}

// Sharpen adds to a picture amount times what a blur of sigma radius takes away.
func Sharpen(m *raster.Image, amount, radius float64) *raster.Image {
	if amount == 0 {
		return m
	}
	out := raster.GaussianImage(m, radius)
	k := float32(amount)
	raster.Rows(m.Rect.Min.Y, m.Rect.Max.Y, func(y int) {
		src, dst := m.Row(y, m.Rect.Min.X, m.Rect.Max.X), out.Row(y, m.Rect.Min.X, m.Rect.Max.X)
		for i := 0; i < len(src); i += 4 {
			for c := range 3 {
				v := src[i+c]
				v += k * (v - dst[i+c])
				if v < 0 {
					v = 0
				}
				dst[i+c] = v
			}
			dst[i+3] = src[i+3]
		}
	})
	return out
}
