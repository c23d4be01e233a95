package camera

import (
	"errors"
	"math"
	"math/rand/v2"

	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
)

// A Rectangle lies in space: its middle, how its own axes (x to the right, y up, z towards who looks at it) are turned, and its size.
type Rectangle struct {
	At   Vec
	Turn Rotation
	Size [2]float64
}

// ErrNoPlane is returned for places that do not tell a plane.
var ErrNoPlane = errors.New("three points that do not lie on one line are needed to lay a plane through them")

// PlaneThrough returns the plane of least squared distances through places: a place on it, its normal (of length 1, to either side),
// and the RMS distance from it.
func PlaneThrough(places []Vec) (middle, normal Vec, off float64, err error) {
	if len(places) < 3 {
		return middle, normal, 0, ErrNoPlane
	}
	for _, p := range places {
		middle = middle.Add(p.Mul(1 / float64(len(places))))
	}
	spread := mat.NewSymDense(3, nil)
	for _, p := range places {
		d := p.Sub(middle)
		for r := range 3 {
			for c := r; c < 3; c++ {
				spread.SetSym(r, c, spread.At(r, c)+d[r]*d[c])
			}
		}
	}
	var eig mat.EigenSym
	if !eig.Factorize(spread, true) {
		return middle, normal, 0, ErrNoPlane
	}
	values := eig.Values(nil)
	if !(values[1] > 1e-6*values[2]) {
		return middle, normal, 0, ErrNoPlane
	}
	var v mat.Dense
	eig.VectorsTo(&v)
	normal = Vec{v.At(0, 0), v.At(1, 0), v.At(2, 0)}
	return middle, normal, math.Sqrt(math.Max(values[0], 0) / float64(len(places))), nil
}

// PlaneOfMost is PlaneThrough for places of which some lie elsewhere, less than half of them: leaves before a wall. kept says which lie on
// it: the plane through three of them from which half of all are least far (least median of squares, Rousseeuw 1984), and then through
// all within three standard deviations of it.
func PlaneOfMost(places []Vec) (middle, normal Vec, kept []Vec, err error) {
	if middle, normal, _, err = PlaneThrough(places); err != nil || len(places) < 6 {
		return middle, normal, places, err
	}
	rng := rand.New(rand.NewPCG(uint64(len(places)), 3))
	far := func(m, n Vec) []float64 {
		out := make([]float64, len(places))
		for i, p := range places {
			out[i] = math.Abs(p.Sub(m).Dot(n))
		}
		return out
	}
	best, least := normal, math.Inf(1)
	at := middle
	for range 300 {
		a, b, c := places[rng.IntN(len(places))], places[rng.IntN(len(places))], places[rng.IntN(len(places))]
		n := b.Sub(a).Cross(c.Sub(a)).Unit()
		if n.Len() == 0 {
			continue
		}
		off := far(a, n)
		if m := medianOf(len(off), func(i int) float64 { return off[i] }); m < least {
			best, at, least = n, a, m
		}
	}
	for range 4 {
		off := far(at, best)
		limit := 3 * 1.4826 * medianOf(len(off), func(i int) float64 { return off[i] })
		kept = kept[:0]
		for i, p := range places {
			if off[i] <= limit {
				kept = append(kept, p)
			}
		}
		if at, best, _, err = PlaneThrough(kept); err != nil {
			return middle, normal, places, nil
		}
	}
	return at, best, kept, nil
}

// LayFloor returns what lays the world so that the places are on its floor, y is 0 there, and the cameras, whose middle is eye, are
// above it. origin comes to 0, 0, 0; nil takes the places' middle. What was to the right of the first camera axis x stays so.
func LayFloor(places []Vec, eye Vec, origin *Vec) (Similarity, error) {
	middle, up, _, err := PlaneOfMost(places)
	if err != nil {
		return Same, err
	}
	if eye.Sub(middle).Dot(up) < 0 {
		up = up.Mul(-1)
	}
	s := Similarity{Scale: 1, R: Upright(up)}
	at := middle
	if origin != nil {
		at = origin.Sub(up.Mul(origin.Sub(middle).Dot(up)))
	}
	s.T = s.R.Apply(at).Mul(-1)
	return s, nil
}

// Then returns the similarity that does s first, then q.
func (s Similarity) Then(q Similarity) Similarity {
	return Similarity{s.Scale * q.Scale, q.R.Mul(s.R), q.Apply(s.T)}
}

// Upright returns the rotation after which a direction is y, and x stays to the right as well as may be.
func Upright(up Vec) Rotation {
	y := up.Unit()
	if y.Len() == 0 {
		return Straight
	}
	x := Vec{1, 0, 0}
	if math.Abs(y[0]) > 0.9 {
		x = Vec{0, 0, -1}
	}
	x = x.Sub(y.Mul(x.Dot(y))).Unit()
	z := x.Cross(y)
	return Rotation{x[0], x[1], x[2], y[0], y[1], y[2], z[0], z[1], z[2]}
}

// Facing returns the rectangle at a place that faces a camera squarely, upright on its picture.
func Facing(v *View, at Vec, size [2]float64) Rectangle {
	// The camera's y is down and its z away from it.
	return Rectangle{at, Rotation{1, 0, 0, 0, -1, 0, 0, 0, -1}.Mul(v.Pose.R).Transposed(), size}
}

// On returns the rectangle on a plane around places of it, seen from eye: its z towards that, its y as far up as may be, and room
// for all of them with a share around.
func On(normal Vec, places []Vec, eye Vec, room float64) Rectangle {
	z := normal.Unit()
	if eye.Sub(places[0]).Dot(z) < 0 {
		z = z.Mul(-1)
	}
	up := Vec{0, 1, 0}
	if math.Abs(z[1]) > 0.85 { // it lies: up on it is away from who looks
		up = places[0].Sub(eye)
	}
	y := up.Sub(z.Mul(up.Dot(z))).Unit()
	x := y.Cross(z)
	turn := Rotation{x[0], y[0], z[0], x[1], y[1], z[1], x[2], y[2], z[2]}
	low, high := [2]float64{math.Inf(1), math.Inf(1)}, [2]float64{math.Inf(-1), math.Inf(-1)}
	var depth float64
	for _, p := range places {
		q := turn.Back(p)
		depth += q[2] / float64(len(places))
		for k := range 2 {
			low[k], high[k] = math.Min(low[k], q[k]), math.Max(high[k], q[k])
		}
	}
	middle := Vec{(low[0] + high[0]) / 2, (low[1] + high[1]) / 2, depth}
	size := [2]float64{(high[0] - low[0]) * (1 + room), (high[1] - low[1]) * (1 + room)}
	least := 0.05 * math.Max(size[0], size[1])
	size[0], size[1] = math.Max(size[0], least), math.Max(size[1], least)
	return Rectangle{turn.Apply(middle), turn, size}
}

// Triangulate returns the place that is seen along several rays, and the largest sine of the angles between the first of them and the
// others; sound is false where that is less than half a degree: they say little of how far it is.
func Triangulate(eyes, rays []Vec) (x Vec, sound bool) {
	wide := 0.0
	for _, r := range rays {
		wide = math.Max(wide, r.Cross(rays[0]).Len())
	}
	if wide < 0.008 {
		return x, false
	}
	return meet(eyes, rays)
}

// ErrLines is returned for lines that do not tell a lens.
var ErrLines = errors.New("these lines do not tell the lens: draw lines that are straight in the set, long ones, near the picture's edges, with three " +
	"places on each at least")

// LensFromLines returns the lens under which lines that are straight in the set become straight: terms of it, 1 to 3, the others
// staying as they are; off is how far places are from their lines then, RMS, in pixels of the plate. The lines are places of the
// plate, three at least on each (the plumb-line method: Brown 1971, "Close-range camera calibration").
func LensFromLines(start geom.Lens, width, height int, lines [][]geom.Point, terms int) (lens geom.Lens, off float64, err error) {
	count := 0
	for _, l := range lines {
		if len(l) >= 3 {
			count += len(l) - 2
		}
	}
	if count < terms || terms < 1 || terms > 3 {
		return start, 0, ErrLines
	}
	lens = start
	at := func(k [3]float64) (geom.Lens, []float64, bool) {
		l, err := geom.LensOf(k, width, height, start.Centre, start.Squeeze)
		if err != nil {
			return l, nil, false
		}
		e := bows(&l, lines)
		return l, e, e != nil
	}
	sum := func(e []float64) (s float64) {
		for _, v := range e {
			s += v * v
		}
		return s
	}
	for i := range terms {
		lens.K[i] = 0
	}
	l, e, ok := at(lens.K)
	if !ok {
		return start, 0, ErrLines
	}
	lens = l
	// One term after the other: all at once would go astray along lenses that fold.
	for n := 1; n <= terms; n++ {
		damping := 1e-3
		for range 60 {
			h, g := make([]float64, n*n), make([]float64, n)
			d := make([][]float64, n)
			for i := range n {
				const step = 1e-5
				k := lens.K
				k[i] += step
				_, ahead, ok := at(k)
				if !ok {
					return start, 0, ErrLines
				}
				d[i] = make([]float64, len(e))
				for j := range e {
					d[i][j] = (ahead[j] - e[j]) / step
				}
			}
			for r := range n {
				for j := range e {
					g[r] -= d[r][j] * e[j]
				}
				for c := range n {
					for j := range e {
						h[r*n+c] += d[r][j] * d[c][j]
					}
				}
			}
			better := false
			for range 10 {
				if step, ok := solveSmall(h, g, damping); ok {
					k := lens.K
					for i := range n {
						k[i] += step[i]
					}
					if l, next, ok := at(k); ok && sum(next) < sum(e) {
						done := sum(e)-sum(next) < 1e-10*sum(e)
						lens, e, damping, better = l, next, damping/4, !done
						break
					}
				}
				damping *= 5
			}
			if !better {
				break
			}
		}
	}
	return lens, math.Sqrt(sum(e) / float64(len(e))), nil
}

// bows returns how far places are from the straight lines that they are on, in pixels of the plate; nil where a place is not seen
// through the lens.
func bows(l *geom.Lens, lines [][]geom.Point) (out []float64) {
	for _, line := range lines {
		if len(line) < 3 {
			continue
		}
		straight := make([]geom.Point, len(line))
		var c geom.Point
		for i, p := range line {
			if straight[i] = l.Straighten(p); !straight[i].Finite() {
				return nil
			}
			c = c.Add(straight[i].Mul(1 / float64(len(line))))
		}
		var xx, xy, yy float64
		for _, p := range straight {
			d := p.Sub(c)
			xx, xy, yy = xx+d.X*d.X, xy+d.X*d.Y, yy+d.Y*d.Y
		}
		angle := math.Atan2(2*xy, xx-yy) / 2
		n := geom.Pt(-math.Sin(angle), math.Cos(angle))
		for _, p := range straight {
			// As it is on the plate: what is off across the line, taken through the lens, is as far off as it can be seen.
			a, b, d, e := l.Jacobian(p)
			m := geom.Pt(a*n.X+b*n.Y, d*n.X+e*n.Y).Len()
			v := p.Sub(c)
			out = append(out, (v.X*n.X+v.Y*n.Y)*m)
		}
	}
	return out
}

// LensFromPlaces returns the lens, of three terms about a centre, that takes places of the straight picture to where they are seen with
// the least squared distance, and that distance, RMS, in pixels.
func LensFromPlaces(width, height int, centre geom.Point, straight, seen []geom.Point) (geom.Lens, float64, error) {
	lens, err := geom.LensOf([3]float64{}, width, height, centre, 1)
	if err != nil {
		return lens, 0, err
	}
	// seen - straight = (straight - centre) (k1 r² + k2 r⁴ + k3 r⁶): linear in the terms.
	h, g := make([]float64, 9), make([]float64, 3)
	for i, p := range straight {
		d, move := p.Sub(centre), seen[i].Sub(p)
		r2 := (d.X*d.X + d.Y*d.Y) / (lens.Radius * lens.Radius)
		if !(r2 < farthest*farthest) || !move.Finite() {
			continue
		}
		w := [3]float64{r2, r2 * r2, r2 * r2 * r2}
		for r := range 3 {
			g[r] += w[r] * (d.X*move.X + d.Y*move.Y)
			for c := range 3 {
				h[3*r+c] += w[r] * w[c] * (d.X*d.X + d.Y*d.Y)
			}
		}
	}
	k, ok := solveSmall(h, g, 0)
	if !ok {
		return lens, 0, ErrLines
	}
	if lens, err = geom.LensOf([3]float64(k), width, height, centre, 1); err != nil {
		return lens, 0, err
	}
	var sum float64
	n := 0
	for i, p := range straight {
		if e := lens.Distort(p).Dist(seen[i]); !math.IsNaN(e) {
			sum += e * e
			n++
		}
	}
	return lens, math.Sqrt(sum / float64(max(n, 1))), nil
}

const farthest = 8 // radii beyond which a place tells nothing of a lens

// Bow returns how far places are from straight lines under a lens, RMS, in pixels of the plate.
func Bow(l geom.Lens, lines [][]geom.Point) float64 {
	e := bows(&l, lines)
	var sum float64
	for _, v := range e {
		sum += v * v
	}
	return math.Sqrt(sum / float64(max(1, len(e))))
}
