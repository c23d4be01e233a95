// Package matte turns outlines into coverage: a plane of values from 0, not
// covered, to 1, covered.
package matte

import (
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
)

// Coverage returns the exact share of each pixel that lies inside a closed
// polygon, on the pixels that the polygon touches within the frame. Each side
// adds the signed area to its right, line by line, and a running sum then gives
// the coverage (the accumulation method of golang.org/x/image/vector, here in
// float and without its 8-bit result).
func Coverage(polygon []geom.Point, within image.Rectangle) *raster.Plane {
	return coverage(polygon, within, func(sum float32) float32 { return min(abs(sum), 1) })
}

// coverage turns the running sum, the polygon's winding averaged over a pixel,
// into a share.
func coverage(polygon []geom.Point, within image.Rectangle, share func(sum float32) float32) *raster.Plane {
	r := raster.Around(geom.Bounds(polygon), 0, within)
	out := raster.NewPlane(r)
	if len(polygon) < 3 || r.Empty() {
		return out
	}
	w, h := r.Dx(), r.Dy()
	for i, a := range polygon {
		b := polygon[(i+1)%len(polygon)]
		side(out.Pix, w, h,
			a.X-float64(r.Min.X), a.Y-float64(r.Min.Y),
			b.X-float64(r.Min.X), b.Y-float64(r.Min.Y))
	}
	raster.Rows(0, h, func(y int) {
		var sum, v float32
		row := out.Pix[y*w : (y+1)*w]
		for x, d := range row {
			if d != 0 { // no side passes most pixels
				sum += d
				if v = share(sum); v < 1e-6 { // rounding of the running sum is not coverage
					v = 0
				}
			}
			row[x] = v
		}
	})
	return out
}

// side adds one polygon side to the sums.
func side(sums []float32, w, h int, x0, y0, x1, y1 float64) {
	if y0 == y1 {
		return
	}
	sign := float32(1)
	if y0 > y1 {
		x0, y0, x1, y1 = x1, y1, x0, y0
		sign = -1
	}
	slope := (x1 - x0) / (y1 - y0)
	top, bottom := math.Max(y0, 0), math.Min(y1, float64(h))
	for y := int(top); float64(y) < bottom; y++ {
		a, b := math.Max(top, float64(y)), math.Min(bottom, float64(y+1))
		xa, xb := x0+(a-y0)*slope, x0+(b-y0)*slope
		if xa > xb {
			xa, xb = xb, xa
		}
		strip(sums[y*w:(y+1)*w], xa, xb, float32(b-a)*sign)
	}
}

// strip spreads a side's piece of height d, which runs from xa to xb within one
// line, over the columns: each gets the part of d that covers it, and what is to
// the right of the piece is covered by all of it.
func strip(row []float32, xa, xb float64, d float32) {
	w := len(row)
	limit := float64(w)
	if xb <= 0 {
		row[0] += d
		return
	}
	if xa >= limit {
		return
	}
	if xb-xa < 1e-9 {
		x := math.Min(math.Max(xa, 0), limit)
		i := min(int(x), w-1)
		right := float32(float64(i+1) - x)
		row[i] += d * right
		if i+1 < w {
			row[i+1] += d * (1 - right)
		}
		return
	}
	// area(x) is the covered area left of column x per unit of d.
	area := func(x float64) float64 {
		t := (math.Min(math.Max(x, xa), xb) - xa)
		a := t * t / (2 * (xb - xa))
		if x > xb {
			a += x - xb
		}
		return a
	}
	prev := 0.0 // coverage of the column before
	for i := max(0, int(math.Floor(xa))); i <= min(w-1, int(math.Floor(xb))+1); i++ {
		cover := area(float64(i+1)) - area(float64(i))
		row[i] += d * float32(cover-prev)
		prev = cover
	}
}

// covered is Coverage for a polygon that may overlap itself: what it goes round
// clockwise at least once is covered, loops the other way are not.
func covered(polygon []geom.Point, within image.Rectangle) *raster.Plane {
	// A clockwise polygon has negative sums.
	return coverage(polygon, within, func(sum float32) float32 { return min(max(-sum, 0), 1) })
}

// round returns the way around a corner at distance d to the left of its sides as
// they are walked: an arc on the outer side, on the inner one the two ends.
func round(before, at, after geom.Point, d float64) []geom.Point {
	n0, n1 := normal(before, at), normal(at, after)
	if n0 == (geom.Point{}) {
		n0 = n1
	}
	if n1 == (geom.Point{}) {
		n1 = n0
	}
	a, b := at.Add(n0.Mul(d)), at.Add(n1.Mul(d))
	angle := math.Atan2(n0.X*n1.Y-n0.Y*n1.X, n0.X*n1.X+n0.Y*n1.Y)
	if before == after { // the end of a path
		angle = math.Pi
	}
	if angle*d <= 0 { // the inner side: through the corner itself, so that what overlaps cancels
		if math.Abs(angle) < 0.2 {
			return []geom.Point{a, b}
		}
		return []geom.Point{a, at, b}
	}
	// Pieces of arc that stay within a hundredth of a pixel.
	step := 2 * math.Acos(math.Max(1-0.01/math.Max(math.Abs(d), 0.1), 0.5))
	n := max(1, int(math.Ceil(math.Abs(angle)/step)))
	out := []geom.Point{a}
	for i := 1; i < n; i++ {
		sin, cos := math.Sincos(angle * float64(i) / float64(n))
		out = append(out, at.Add(geom.Pt(n0.X*cos-n0.Y*sin, n0.X*sin+n0.Y*cos).Mul(d)))
	}
	return append(out, b)
}

// normal returns the unit vector across the way from a to b, or 0 for no way.
func normal(a, b geom.Point) geom.Point {
	d := b.Sub(a)
	l := d.Len()
	if l == 0 {
		return geom.Point{}
	}
	return geom.Pt(d.Y/l, -d.X/l)
}

// A Wire is a point of a flattened path with the path's width there, in pixels.
type Wire struct {
	At    geom.Point
	Width float64
}

// Strand returns the closed outline of an open path with a width, with round
// joins and ends. It may overlap itself: cover it as grown.
func Strand(path []Wire) []geom.Point {
	if len(path) < 2 {
		return nil
	}
	var out []geom.Point
	side := func(i, before, after int) {
		out = append(out, round(path[before].At, path[i].At, path[after].At, path[i].Width/2)...)
	}
	last := len(path) - 1
	for i := 1; i < last; i++ {
		side(i, i-1, i+1)
	}
	side(last, last-1, last-1) // around the end
	for i := last - 1; i > 0; i-- {
		side(i, i+1, i-1)
	}
	side(0, 1, 1)
	return out
}

// Ways in which a matte joins what was there before it.
const (
	Add  = "add"  // as well
	Take = "take" // taken away
	Keep = "keep" // only what lies in both
)

// A Layer is one matte of several, and how it joins those before it.
type Layer struct {
	Matte   *raster.Plane
	Opacity float64
	Invert  bool
	Combine string // add where empty
}

// Combine joins mattes in order, within a frame, each taken as independent of
// the others: 1 - (1 - a)(1 - b) for adding, a(1 - b) for taking away, ab for
// keeping the overlap.
func Combine(within image.Rectangle, layers ...Layer) *raster.Plane {
	out := raster.NewPlane(image.Rectangle{})
	for _, l := range layers {
		r := out.Rect
		adds := l.Combine != Take && l.Combine != Keep
		if adds {
			r = r.Union(l.Matte.Rect)
			if l.Invert {
				r = within
			}
		}
		next := raster.NewPlane(r)
		k := float32(l.Opacity)
		for y := r.Min.Y; y < r.Max.Y; y++ {
			row := next.Row(y, r.Min.X, r.Max.X)
			for x := range row {
				b := l.Matte.At(r.Min.X+x, y)
				if l.Invert {
					b = 1 - b
				}
				b *= k
				a := out.At(r.Min.X+x, y)
				switch {
				case adds:
					row[x] = 1 - (1-a)*(1-b)
				case l.Combine == Take:
					row[x] = a * (1 - b)
				default:
					row[x] = a * b
				}
			}
		}
		out = next
	}
	return out
}

func abs(v float32) float32 {
	if v < 0 {
		return -v
	}
	return v
}
