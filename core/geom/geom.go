// Package geom holds the geometry of the picture plane: points, plane-to-plane
// transforms and their robust estimation, and Bézier outlines.
//
// The pixel convention used everywhere in Jardin is written down here once.
// x runs to the right and y runs down. The centre of the top left pixel is at
// (0.5, 0.5), so a picture of w by h pixels covers [0, w] x [0, h]. Transforms of
// a track map coordinates on its home frame, on which it was drawn, to coordinates
// on another frame; that of a removal's motion, from its reference frame, is worked
// out from two of them.
package geom

import "math"

// A Point is a position, or a displacement, in pixels.
type Point struct{ X, Y float64 }

// Pt is shorthand for Point{x, y}.
func Pt(x, y float64) Point { return Point{x, y} }

func (p Point) Add(q Point) Point    { return Point{p.X + q.X, p.Y + q.Y} }
func (p Point) Sub(q Point) Point    { return Point{p.X - q.X, p.Y - q.Y} }
func (p Point) Mul(k float64) Point  { return Point{p.X * k, p.Y * k} }
func (p Point) Len() float64         { return math.Hypot(p.X, p.Y) }
func (p Point) Dist(q Point) float64 { return math.Hypot(p.X-q.X, p.Y-q.Y) }
func (p Point) Lerp(q Point, t float64) Point {
	return Point{p.X + (q.X-p.X)*t, p.Y + (q.Y-p.Y)*t}
}

// Finite reports whether both coordinates are ordinary numbers.
func (p Point) Finite() bool {
	s := p.X + p.Y
	return !math.IsNaN(s) && !math.IsInf(s, 0)
}

// A Box is an axis-aligned box, Min inclusive, in pixels. The zero Box is empty.
type Box struct{ Min, Max Point }

// Bounds returns the smallest box around the points. It is the zero Box for none.
func Bounds(points []Point) Box {
	if len(points) == 0 {
		return Box{}
	}
	b := Box{points[0], points[0]}
	for _, p := range points[1:] {
		b.Min.X, b.Min.Y = math.Min(b.Min.X, p.X), math.Min(b.Min.Y, p.Y)
		b.Max.X, b.Max.Y = math.Max(b.Max.X, p.X), math.Max(b.Max.Y, p.Y)
	}
	return b
}

// Corners returns the box's corners, clockwise from the top left.
func (b Box) Corners() [4]Point {
	return [4]Point{b.Min, {b.Max.X, b.Min.Y}, b.Max, {b.Min.X, b.Max.Y}}
}

// Centre returns the middle of the box.
func (b Box) Centre() Point { return b.Min.Lerp(b.Max, 0.5) }

// Overlaps reports whether two boxes have a place in common.
func (b Box) Overlaps(o Box) bool {
	return b.Min.X <= o.Max.X && o.Min.X <= b.Max.X && b.Min.Y <= o.Max.Y && o.Min.Y <= b.Max.Y
}

// Holds reports whether all of another box is in it.
func (b Box) Holds(o Box) bool {
	return b.Min.X <= o.Min.X && b.Min.Y <= o.Min.Y && o.Max.X <= b.Max.X && o.Max.Y <= b.Max.Y
}

// Grow returns the box, wider by d on every side.
func (b Box) Grow(d float64) Box { return Box{b.Min.Sub(Pt(d, d)), b.Max.Add(Pt(d, d))} }

// Area returns the area in square pixels enclosed by a polygon, never negative.
func Area(polygon []Point) float64 {
	var twice float64
	for i, p := range polygon {
		q := polygon[(i+1)%len(polygon)]
		twice += p.X*q.Y - q.X*p.Y
	}
	return math.Abs(twice) / 2
}

// Inside reports whether p lies in the polygon by the even-odd rule.
func Inside(polygon []Point, p Point) bool {
	in := false
	for i, a := range polygon {
		b := polygon[(i+1)%len(polygon)]
		if (a.Y > p.Y) != (b.Y > p.Y) && p.X < a.X+(p.Y-a.Y)/(b.Y-a.Y)*(b.X-a.X) {
			in = !in
		}
	}
	return in
}
