// Package matte turns outlines into coverage: a plane of values from 0, not
// covered, to 1, covered.
package matte

import (
	"image"
	"math"
	"slices"

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
			row[x] = share(sum)
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

// A Rim is a point of a flattened edge with the widths, in pixels, over which
// coverage falls to 0 outside of it and rises to 1 inside.
type Rim struct {
	At      geom.Point
	Out, In float64
}

// Edge returns the coverage of a closed polygon with a soft edge: 1 deeper inside
// than In, 0 farther outside than Out, a smoothstep between. Without In the
// inside is never thinned, so that what is outlined cannot shine through.
// The edge is first moved outwards by grow pixels, or inwards where that is
// negative. overlaps says that the polygon is a Strand's.
func Edge(rim []Rim, grow float64, overlaps bool, within image.Rectangle) *raster.Plane {
	drawn := rim
	if grow != 0 {
		rim = grown(rim, grow)
	}
	polygon := make([]geom.Point, len(rim))
	var out, in float64
	for i, r := range rim {
		polygon[i] = r.At
		out, in = math.Max(out, r.Out), math.Max(in, r.In)
	}
	cover := Coverage
	if overlaps || grow != 0 {
		cover = covered
	}
	hard := cover(polygon, within)
	if grow < 0 {
		keepDeeper(hard, drawn, -grow-0.75)
	}
	reach := math.Max(out, in)
	if reach <= 0 || len(rim) < 3 {
		return hard
	}
	r := raster.Around(geom.Bounds(polygon), out, within)
	soft := raster.NewPlane(r)
	for y := hard.Rect.Min.Y; y < hard.Rect.Max.Y; y++ {
		copy(soft.Row(y, hard.Rect.Min.X, hard.Rect.Max.X), hard.Row(y, hard.Rect.Min.X, hard.Rect.Max.X))
	}
	for i, a := range rim {
		b := rim[(i+1)%len(rim)]
		d := b.At.Sub(a.At)
		length2 := d.X*d.X + d.Y*d.Y
		near := raster.Around(geom.Bounds([]geom.Point{a.At, b.At}), reach, r)
		for y := near.Min.Y; y < near.Max.Y; y++ {
			row := soft.Row(y, near.Min.X, near.Max.X)
			for x := range row {
				p := geom.Pt(float64(near.Min.X+x)+0.5, float64(y)+0.5).Sub(a.At)
				t := 0.0
				if length2 > 0 {
					t = math.Min(math.Max((p.X*d.X+p.Y*d.Y)/length2, 0), 1)
					p = p.Sub(d.Mul(t))
				}
				o, n := a.Out+(b.Out-a.Out)*t, a.In+(b.In-a.In)*t
				if o+n <= 0 {
					continue
				}
				away := p.Len()
				if hard.At(near.Min.X+x, y) >= 0.5 {
					// Inside: the nearest side says how little is covered.
					row[x] = min(row[x], smooth((o+away)/(o+n)))
				} else {
					row[x] = max(row[x], smooth((o-away)/(o+n)))
				}
			}
		}
	}
	return soft
}

func smooth(u float64) float32 {
	u = math.Min(math.Max(u, 0), 1)
	return float32(u * u * (3 - 2*u))
}

// covered is Coverage for a polygon that may overlap itself: what it goes round
// clockwise at least once is covered, loops the other way are not.
func covered(polygon []geom.Point, within image.Rectangle) *raster.Plane {
	// A clockwise polygon has negative sums.
	return coverage(polygon, within, func(sum float32) float32 { return min(max(-sum, 0), 1) })
}

// keepDeeper clears the pixels that lie outside of a polygon or nearer than d to
// its edge: a polygon moved inwards by more than its half turns over twice and
// comes out again.
func keepDeeper(m *raster.Plane, rim []Rim, d float64) {
	for i, a := range rim {
		b := rim[(i+1)%len(rim)]
		way := b.At.Sub(a.At)
		length2 := way.X*way.X + way.Y*way.Y
		near := raster.Around(geom.Bounds([]geom.Point{a.At, b.At}), d, m.Rect)
		for y := near.Min.Y; y < near.Max.Y; y++ {
			row := m.Row(y, near.Min.X, near.Max.X)
			for x := range row {
				if row[x] == 0 {
					continue
				}
				p := geom.Pt(float64(near.Min.X+x)+0.5, float64(y)+0.5).Sub(a.At)
				if length2 > 0 {
					p = p.Sub(way.Mul(math.Min(math.Max((p.X*way.X+p.Y*way.Y)/length2, 0), 1)))
				}
				if p.Len() < d {
					row[x] = 0
				}
			}
		}
	}
}

// clockwise reports whether a polygon goes round clockwise on the screen.
func clockwise(polygon []geom.Point) bool {
	var twice float64
	for i, p := range polygon {
		q := polygon[(i+1)%len(polygon)]
		twice += p.X*q.Y - q.X*p.Y
	}
	return twice >= 0
}

// grown returns a closed polygon whose edge lies d pixels farther out, or farther
// in for a negative d, with round corners, clockwise. It may overlap itself.
func grown(rim []Rim, d float64) []Rim {
	if len(rim) < 3 {
		return rim
	}
	polygon := make([]geom.Point, len(rim))
	for i, r := range rim {
		polygon[i] = r.At
	}
	if !clockwise(polygon) {
		rim = slices.Clone(rim)
		slices.Reverse(rim)
	}
	var out []Rim
	for i, r := range rim {
		before, after := rim[(i+len(rim)-1)%len(rim)].At, rim[(i+1)%len(rim)].At
		for _, p := range round(before, r.At, after, d) {
			out = append(out, Rim{p, r.Out, r.In})
		}
	}
	return out
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
