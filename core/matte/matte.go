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
	r := raster.Around(geom.Bounds(polygon), 0, within)
	out := raster.NewPlane(r)
	if len(polygon) < 3 || r.Empty() {
		return out
	}
	w, h := r.Dx(), r.Dy()
	// One column more than the picture takes what lies to the right of it.
	sums := make([]float32, (w+1)*h)
	for i, a := range polygon {
		b := polygon[(i+1)%len(polygon)]
		side(sums, w, h,
			a.X-float64(r.Min.X), a.Y-float64(r.Min.Y),
			b.X-float64(r.Min.X), b.Y-float64(r.Min.Y))
	}
	for y := range h {
		var sum float32
		row := out.Pix[y*w : (y+1)*w]
		for x := range row {
			sum += sums[y*(w+1)+x]
			row[x] = min(float32(math.Abs(float64(sum))), 1)
			if row[x] < 1e-6 { // rounding of the running sum is not coverage
				row[x] = 0
			}
		}
	}
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
		strip(sums[y*(w+1):(y+1)*(w+1)], w, xa, xb, float32(b-a)*sign)
	}
}

// strip spreads a side's piece of height d, which runs from xa to xb within one
// line, over the columns: each gets the part of d that covers it, and what is to
// the right of the piece is covered by all of it.
func strip(row []float32, w int, xa, xb float64, d float32) {
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
		row[i+1] += d * (1 - right)
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
	for i := max(0, int(math.Floor(xa))); i <= min(w, int(math.Floor(xb))+1); i++ {
		cover := area(float64(i+1)) - area(float64(i))
		row[i] += d * float32(cover-prev)
		prev = cover
	}
}

// Outline returns the coverage of a closed polygon whose edge is softened
// outwards: 1 inside, falling to 0 over feather pixels outside along a
// smoothstep. The inside is never thinned, so that what is outlined cannot
// shine through.
func Outline(polygon []geom.Point, feather float64, within image.Rectangle) *raster.Plane {
	hard := Coverage(polygon, within)
	if feather <= 0 || len(polygon) < 3 {
		return hard
	}
	r := raster.Around(geom.Bounds(polygon), feather, within)
	// The squared distance to the nearest side, worked out side by side near it.
	dist := raster.NewPlane(r)
	far := float32(feather * feather)
	for i := range dist.Pix {
		dist.Pix[i] = far
	}
	for i, a := range polygon {
		b := polygon[(i+1)%len(polygon)]
		d := b.Sub(a)
		length2 := d.X*d.X + d.Y*d.Y
		near := raster.Around(geom.Bounds([]geom.Point{a, b}), feather, r)
		for y := near.Min.Y; y < near.Max.Y; y++ {
			row := dist.Row(y, near.Min.X, near.Max.X)
			for x := range row {
				p := geom.Pt(float64(near.Min.X+x)+0.5, float64(y)+0.5).Sub(a)
				if length2 > 0 {
					t := math.Min(math.Max((p.X*d.X+p.Y*d.Y)/length2, 0), 1)
					p = p.Sub(d.Mul(t))
				}
				row[x] = min(row[x], float32(p.X*p.X+p.Y*p.Y))
			}
		}
	}
	for y := r.Min.Y; y < r.Max.Y; y++ {
		row := dist.Row(y, r.Min.X, r.Max.X)
		for x := range row {
			u := 1 - math.Sqrt(float64(row[x]))/feather
			soft := float32(u * u * (3 - 2*u))
			row[x] = max(hard.At(r.Min.X+x, y), soft)
		}
	}
	return dist
}

// Union returns the coverage of several mattes together, each taken as
// independent of the others: 1 - (1 - a)(1 - b).
func Union(mattes ...*raster.Plane) *raster.Plane {
	var r image.Rectangle
	for _, m := range mattes {
		r = r.Union(m.Rect)
	}
	out := raster.NewPlane(r)
	for _, m := range mattes {
		for y := m.Rect.Min.Y; y < m.Rect.Max.Y; y++ {
			src, dst := m.Row(y, m.Rect.Min.X, m.Rect.Max.X), out.Row(y, m.Rect.Min.X, m.Rect.Max.X)
			for x, v := range src {
				dst[x] = 1 - (1-dst[x])*(1-v)
			}
		}
	}
	return out
}
