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
// tol pixels from it. The number of pieces of a segment follows from the bound
// on its second derivative (Sederberg, Computer Aided Geometric Design, 2012,
// section 10.6).
func Flatten(knots []Knot, tol float64) []Point {
	var out []Point
	for _, c := range Segments(knots) {
		bend := math.Max(
			c[0].Sub(c[1].Mul(2)).Add(c[2]).Len(),
			c[1].Sub(c[2].Mul(2)).Add(c[3]).Len())
		n := 1
		if c[1] != c[0] || c[2] != c[3] { // else a straight side
			n = min(max(1, int(math.Ceil(math.Sqrt(6*bend/(8*tol))))), 512)
		}
		for i := range n {
			out = append(out, c.At(float64(i)/float64(n)))
		}
	}
	return out
}
