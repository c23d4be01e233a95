package geom

import (
	"errors"
	"math"

	"gonum.org/v1/gonum/mat"
)

// A Homography maps the plane to itself in homogeneous coordinates. It is
// stored by rows and acts on column vectors: (x', y', w') = H (x, y, 1).
type Homography [9]float64

// Identity leaves every point where it is.
var Identity = Homography{1, 0, 0, 0, 1, 0, 0, 0, 1}

// Translation moves every point by d.
func Translation(d Point) Homography { return Homography{1, 0, d.X, 0, 1, d.Y, 0, 0, 1} }

// Apply maps a point. The result is not finite for points on the horizon.
func (h *Homography) Apply(p Point) Point {
	w := h[6]*p.X + h[7]*p.Y + h[8]
	return Point{(h[0]*p.X + h[1]*p.Y + h[2]) / w, (h[3]*p.X + h[4]*p.Y + h[5]) / w}
}

// ApplyAll maps several points.
func (h *Homography) ApplyAll(points []Point) []Point {
	out := make([]Point, len(points))
	for i, p := range points {
		out[i] = h.Apply(p)
	}
	return out
}

// Mul returns the transform that does g first, then h.
func (h Homography) Mul(g Homography) Homography {
	var out Homography
	for r := range 3 {
		for c := range 3 {
			out[3*r+c] = h[3*r]*g[c] + h[3*r+1]*g[3+c] + h[3*r+2]*g[6+c]
		}
	}
	return out
}

// Det returns the determinant.
func (h *Homography) Det() float64 {
	return h[0]*(h[4]*h[8]-h[5]*h[7]) - h[1]*(h[3]*h[8]-h[5]*h[6]) + h[2]*(h[3]*h[7]-h[4]*h[6])
}

// Inverse returns the inverse transform, scaled so that its last entry is 1
// where that is possible. ok is false if h is singular or not finite.
func (h Homography) Inverse() (inv Homography, ok bool) {
	d := h.Det()
	if d == 0 || math.IsNaN(d) || math.IsInf(d, 0) {
		return Identity, false
	}
	inv = Homography{
		h[4]*h[8] - h[5]*h[7], h[2]*h[7] - h[1]*h[8], h[1]*h[5] - h[2]*h[4],
		h[5]*h[6] - h[3]*h[8], h[0]*h[8] - h[2]*h[6], h[2]*h[3] - h[0]*h[5],
		h[3]*h[7] - h[4]*h[6], h[1]*h[6] - h[0]*h[7], h[0]*h[4] - h[1]*h[3],
	}
	for i := range inv {
		inv[i] /= d
	}
	return inv.Normalised(), true
}

// Normalised returns the same transform scaled so that its last entry is 1.
func (h Homography) Normalised() Homography {
	if h[8] == 0 || h[8] == 1 {
		return h
	}
	k := 1 / h[8]
	for i := range h {
		h[i] *= k
	}
	h[8] = 1
	return h
}

// Finite reports whether every entry is an ordinary number.
func (h Homography) Finite() bool {
	var s float64
	for _, v := range h {
		s += v
	}
	return !math.IsNaN(s) && !math.IsInf(s, 0)
}

// Scale returns the local change of length at p: the square root of the
// absolute determinant of the transform's Jacobian there.
func (h *Homography) Scale(p Point) float64 {
	w := h[6]*p.X + h[7]*p.Y + h[8]
	return math.Sqrt(math.Abs(h.Det() / (w * w * w)))
}

// A Motion says how much a surface may do from frame to frame.
type Motion string

const (
	Position    Motion = "position"    // shift only
	Similarity  Motion = "similarity"  // shift, rotation and scale
	Shear       Motion = "shear"       // shift, rotation, scale and shear: any affine map
	Perspective Motion = "perspective" // any plane seen by a moving camera
)

// Points returns how many point pairs fix the motion.
func (m Motion) Points() int {
	switch m {
	case Position:
		return 1
	case Similarity:
		return 2
	case Shear:
		return 3
	}
	return 4
}

// Known reports whether m is one of the motions.
func (m Motion) Known() bool {
	return m == Position || m == Similarity || m == Shear || m == Perspective
}

// ErrDegenerate is returned when the given points do not fix the motion, for
// instance because they lie on one line.
var ErrDegenerate = errors.New("the points do not fix the motion: they are too few, or lie on one line")

// Fit returns the motion that takes src to dst with the least squared error.
// weights may be nil. Perspective uses the normalised direct linear transform
// (Hartley & Zisserman, Multiple View Geometry, 2nd ed. 2003, algorithm 4.2);
// similarity has the closed form of Umeyama 1991 in two dimensions; shear is
// ordinary least squares.
func Fit(m Motion, src, dst []Point, weights []float64) (Homography, error) {
	if len(src) != len(dst) || len(src) < m.Points() {
		return Identity, ErrDegenerate
	}
	weight := func(i int) float64 {
		if weights == nil {
			return 1
		}
		return weights[i]
	}
	ns, ok1 := conditioner(src, weight)
	nd, ok2 := conditioner(dst, weight)
	if m == Position {
		return Translation(centroid(dst, weight).Sub(centroid(src, weight))), nil
	}
	if !ok1 || !ok2 {
		return Identity, ErrDegenerate
	}
	var h Homography
	switch m {
	case Similarity:
		var a, b, q float64
		for i := range src {
			s, d, w := ns.Apply(src[i]), nd.Apply(dst[i]), weight(i)
			a += w * (s.X*d.X + s.Y*d.Y)
			b += w * (s.X*d.Y - s.Y*d.X)
			q += w * (s.X*s.X + s.Y*s.Y)
		}
		h = Homography{a / q, -b / q, 0, b / q, a / q, 0, 0, 0, 1}
	case Shear:
		// Conditioned points have no mean, so the linear part stands by itself.
		var xx, xy, yy, xu, yu, xv, yv float64
		for i := range src {
			s, d, w := ns.Apply(src[i]), nd.Apply(dst[i]), weight(i)
			xx, xy, yy = xx+w*s.X*s.X, xy+w*s.X*s.Y, yy+w*s.Y*s.Y
			xu, yu = xu+w*s.X*d.X, yu+w*s.Y*d.X
			xv, yv = xv+w*s.X*d.Y, yv+w*s.Y*d.Y
		}
		det := xx*yy - xy*xy
		if !(det > 1e-9*(xx+yy)*(xx+yy)) {
			return Identity, ErrDegenerate
		}
		h = Homography{
			(xu*yy - yu*xy) / det,
			(yu*xx - xu*xy) / det,
			0,
			(xv*yy - yv*xy) / det,
			(yv*xx - xv*xy) / det,
			0,
			0,
			0,
			1,
		}
	default:
		normal := mat.NewSymDense(9, nil)
		for i := range src {
			s, d, w := ns.Apply(src[i]), nd.Apply(dst[i]), weight(i)
			rows := [2][9]float64{
				{-s.X, -s.Y, -1, 0, 0, 0, d.X * s.X, d.X * s.Y, d.X},
				{0, 0, 0, -s.X, -s.Y, -1, d.Y * s.X, d.Y * s.Y, d.Y},
			}
			for _, row := range rows {
				for r := range 9 {
					for c := r; c < 9; c++ {
						normal.SetSym(r, c, normal.At(r, c)+w*row[r]*row[c])
					}
				}
			}
		}
		var eig mat.EigenSym
		if !eig.Factorize(normal, true) {
			return Identity, ErrDegenerate
		}
		// The solution must be the only direction without cost.
		if values := eig.Values(nil); values[1] < 1e-9*values[8] {
			return Identity, ErrDegenerate
		}
		var vectors mat.Dense
		eig.VectorsTo(&vectors)
		for i := range h {
			h[i] = vectors.At(i, 0)
		}
	}
	back, ok := nd.Inverse()
	if !ok {
		return Identity, ErrDegenerate
	}
	h = back.Mul(h).Mul(ns).Normalised()
	if !h.Finite() || h[8] == 0 {
		return Identity, ErrDegenerate
	}
	return h, nil
}

func centroid(points []Point, weight func(int) float64) Point {
	var c Point
	var sum float64
	for i, p := range points {
		c, sum = c.Add(p.Mul(weight(i))), sum+weight(i)
	}
	return c.Mul(1 / sum)
}

// conditioner moves the centroid to the origin and scales the mean distance
// from it to the square root of two (Hartley 1997).
func conditioner(points []Point, weight func(int) float64) (Homography, bool) {
	c := centroid(points, weight)
	var mean, sum float64
	for i, p := range points {
		mean, sum = mean+weight(i)*p.Dist(c), sum+weight(i)
	}
	if mean == 0 || sum == 0 {
		return Identity, false
	}
	k := math.Sqrt2 * sum / mean
	return Homography{k, 0, -k * c.X, 0, k, -k * c.Y, 0, 0, 1}, true
}

// RobustFit finds the motion on which most pairs agree within tol pixels, and
// which pairs those are: random sample consensus (Fischler & Bolles 1981) with
// a fixed, seeded sequence, so that equal input gives equal output, followed by
// iteratively reweighted least squares on the agreeing pairs.
func RobustFit(m Motion, src, dst []Point, tol float64) (Homography, []bool, error) {
	n, need := len(src), m.Points()
	if n != len(dst) || n < need {
		return Identity, nil, ErrDegenerate
	}
	rng := uint64(0x9e3779b97f4a7c15)
	next := func() int {
		rng ^= rng << 13
		rng ^= rng >> 7
		rng ^= rng << 17
		return int((rng >> 33) % uint64(n))
	}
	best, bestCost := Identity, math.Inf(1)
	s, d := make([]Point, need), make([]Point, need)
	for trial, trials := 0, 400; trial < trials; trial++ {
		pick := make(map[int]bool, need)
		for len(pick) < need {
			pick[next()] = true
		}
		k := 0
		for i := range src {
			if pick[i] {
				s[k], d[k] = src[i], dst[i]
				k++
			}
		}
		h, err := Fit(m, s, d, nil)
		if err != nil {
			continue
		}
		// Truncated cost instead of a bare count (MSAC, Torr & Zisserman 2000).
		var cost float64
		agree := 0
		for i := range src {
			e := h.Apply(src[i]).Dist(dst[i])
			if e < tol {
				cost += e * e
				agree++
			} else {
				cost += tol * tol
			}
		}
		if cost < bestCost {
			best, bestCost = h, cost
			share := math.Pow(float64(agree)/float64(n), float64(need))
			if share > 1-1e-9 {
				trials = trial
			} else if share > 0 {
				trials = min(trials, 8+int(math.Ceil(math.Log(1e-4)/math.Log(1-share))))
			}
		}
	}
	if math.IsInf(bestCost, 1) {
		return Identity, nil, ErrDegenerate
	}
	inlier := make([]bool, n)
	weights := make([]float64, n)
	for range 5 {
		count := 0
		for i := range src {
			e := best.Apply(src[i]).Dist(dst[i])
			inlier[i] = e < tol
			weights[i] = 0
			if inlier[i] {
				u := 1 - (e/tol)*(e/tol)
				weights[i] = u * u // Tukey's biweight
				count++
			}
		}
		if count < need {
			break
		}
		h, err := Fit(m, src, dst, weights)
		if err != nil {
			break
		}
		best = h
	}
	return best, inlier, nil
}

// Placement scales along x and y and turns around a centre, clockwise on the
// screen by degrees, then moves by an offset.
func Placement(centre, offset Point, degrees float64, scale Point) Homography {
	sin, cos := math.Sincos(degrees * math.Pi / 180)
	h := Homography{cos * scale.X, -sin * scale.Y, 0, sin * scale.X, cos * scale.Y, 0, 0, 0, 1}
	return Translation(centre.Add(offset)).Mul(h).Mul(Translation(centre.Mul(-1)))
}
