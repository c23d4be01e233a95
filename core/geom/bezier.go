package geom

import "math"

// A Knot is a point of an outline with its two tangent handles, given as
// displacements from the point. Zero handles make a corner.
type Knot struct {
	At      Point
	In, Out Point
}

// Cubic is a cubic Bézier segment by its four control points.
type Cubic [4]Point

// At evaluates the segment at t in [0, 1] by de Casteljau's construction.
func (c Cubic) At(t float64) Point {
	a, b, d := c[0].Lerp(c[1], t), c[1].Lerp(c[2], t), c[2].Lerp(c[3], t)
	return a.Lerp(b, t).Lerp(b.Lerp(d, t), t)
}

// Segments returns the cubics of the closed outline through the knots.
func Segments(knots []Knot) []Cubic {
	out := make([]Cubic, len(knots))
	for i, k := range knots {
		n := knots[(i+1)%len(knots)]
		out[i] = Cubic{k.At, k.At.Add(k.Out), n.At.Add(n.In), n.At}
	}
	return out
}

// Flatten turns the closed outline into a polygon that is nowhere farther than
// tol pixels from it.
func Flatten(knots []Knot, tol float64) []Point {
	steps := Trace(knots, true, tol)
	out := make([]Point, len(steps))
	for i, s := range steps {
		out[i] = s.At
	}
	return out
}

// pieces returns into how many straight pieces a segment has to be cut to stay
// within tol pixels: it follows from the bound on the second derivative
// (Sederberg, Computer Aided Geometric Design, 2012, section 10.6).
func pieces(c Cubic, tol float64) int {
	if c[1] == c[0] && c[2] == c[3] {
		return 1 // a straight side
	}
	bend := math.Max(
		c[0].Sub(c[1].Mul(2)).Add(c[2]).Len(),
		c[1].Sub(c[2].Mul(2)).Add(c[3]).Len())
	return min(max(1, int(math.Ceil(math.Sqrt(6*bend/(8*tol))))), 512)
}

// A Step is a point of a flattened path: how far it lies between two knots.
type Step struct {
	At   Point
	Knot int     // the knot before it
	T    float64 // 0 at that knot, 1 at the next
}

// Trace flattens the path through the knots as Flatten does, and keeps for each
// point where it lies between its knots. A path that is not closed ends with its
// last knot.
func Trace(knots []Knot, closed bool, tol float64) []Step {
	var out []Step
	segments := Segments(knots)
	if !closed && len(segments) > 0 {
		segments = segments[:len(segments)-1]
	}
	for k, c := range segments {
		n := pieces(c, tol)
		for i := range n {
			t := float64(i) / float64(n)
			out = append(out, Step{c.At(t), k, t})
		}
	}
	if !closed && len(knots) > 0 {
		out = append(out, Step{knots[len(knots)-1].At, len(knots) - 1, 0})
	}
	return out
}
