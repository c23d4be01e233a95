package matte

import (
	"cmp"
	"image"
	"math"
	"slices"

	"jardin/core/geom"
	"jardin/core/raster"
)

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
//
// It is the mean over each pixel of a function of the signed distance to the polygon (a
// distance field, as in Frisken et al. 2000, "Adaptively Sampled Distance Fields"), shifted
// by grow. Where the distance grows evenly, along straight sides and around corners from
// some way off, the mean is exact, by the function's second integral; where it has a kink,
// the pixel is taken in parts.
func Edge(rim []Rim, grow float64, overlaps bool, within image.Rectangle) *raster.Plane {
	polygon := make([]geom.Point, len(rim))
	var out, in float64
	for i, edge := range rim {
		polygon[i] = edge.At
		out, in = max(out, edge.Out), max(in, edge.In)
	}
	if (out <= 0 && in <= 0 && grow == 0) || len(rim) < 3 {
		if overlaps {
			return covered(polygon, within)
		}
		return Coverage(polygon, within)
	}
	// One pixel more each way: whether there is a kink shows on the pixels beside.
	reach := max(out+grow, 0) + 1
	f := newField(rim, grow, overlaps, raster.Around(geom.Bounds(polygon), reach+1, within.Inset(-1)))
	// How far from the drawn edge coverage is neither 0 nor 1.
	f.measure(max(max(out+grow, in-grow), 0) + 1)
	return f.cover().Crop(raster.Around(geom.Bounds(polygon), reach, within))
}

// A border is a straight piece of an edge, with the feather at both ends.
type border struct{ a, b Rim }

// A field is the signed distance to a polygon on the pixels of a rectangle.
type field struct {
	rect     image.Rectangle
	grow     float64
	overlaps bool
	sides    []border // of the polygon, clockwise
	borders  []border // those parts of them on one side of which lies the inside, on the other not
	rows     [][]int  // by line: which sides cross it
	wound    []int16  // by pixel: how often the polygon goes round its centre
	near     []nearest
	out, in  float64 // the widest feather
	parts    int     // a pixel with a kink is taken in so many parts each way
}

// nearest is the place of the edge that lies nearest to a pixel's centre.
type nearest struct {
	square  float64 // of the distance
	border  int32   // -1 for none within reach
	t       float32 // where on it, as a share of its length
	out, in float32 // feather there
	dx, dy  float32 // which way the distance grows
}

func newField(rim []Rim, grow float64, overlaps bool, rect image.Rectangle) *field {
	f := &field{rect: rect, grow: grow, overlaps: overlaps}
	points := make([]geom.Point, len(rim))
	for i, edge := range rim {
		points[i] = edge.At
	}
	if !clockwise(points) {
		rim = slices.Clone(rim)
		slices.Reverse(rim)
	}
	least, varies := math.Inf(1), false
	for i, a := range rim {
		b := rim[(i+1)%len(rim)]
		if a.At == b.At {
			continue
		}
		f.sides = append(f.sides, border{a, b})
		f.out, f.in = max(f.out, a.Out), max(f.in, a.In)
		least = min(least, min(a.Out+a.In, b.Out+b.In))
		varies = varies || a.Out != b.Out || a.In != b.In
	}
	f.parts = int(min(max(math.Ceil(10/math.Sqrt(max(least, 0.1))), 3), 10))
	if varies {
		f.parts = 12 // where one feather meets another, coverage leaps
	}
	f.rows = make([][]int, rect.Dy())
	for i, s := range f.sides {
		low, high := min(s.a.At.Y, s.b.At.Y), max(s.a.At.Y, s.b.At.Y)
		if high < float64(rect.Min.Y) || low > float64(rect.Max.Y) {
			continue
		}
		for y := max(rect.Min.Y, floor(low)); y <= min(rect.Max.Y-1, floor(high)); y++ {
			f.rows[y-rect.Min.Y] = append(f.rows[y-rect.Min.Y], i)
		}
	}
	f.borders = f.sides
	if cuts, any := crossings(f.sides); any || overlaps {
		f.borders = f.cut(cuts)
	}
	return f
}

func floor(v float64) int { return int(math.Floor(max(min(v, 1e6), -1e6))) }

// inside says whether a winding number is the inside's.
func (f *field) inside(w int) bool { return w > 0 || w != 0 && !f.overlaps }

// crossings returns at which shares of their lengths sides cross others.
func crossings(sides []border) (cuts [][]float64, any bool) {
	cuts = make([][]float64, len(sides))
	order := make([]int, len(sides))
	left := func(i int) float64 { return min(sides[i].a.At.X, sides[i].b.At.X) }
	right := func(i int) float64 { return max(sides[i].a.At.X, sides[i].b.At.X) }
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(i, j int) int {
		if left(i) < left(j) {
			return -1
		}
		return 1
	})
	for k, i := range order {
		for _, j := range order[k+1:] {
			if left(j) > right(i) {
				break
			}
			d := max(i-j, j-i)
			if d == 1 || d == len(sides)-1 {
				continue // neighbours meet at their ends
			}
			if t, u, ok := cross(sides[i], sides[j]); ok {
				cuts[i], cuts[j], any = append(cuts[i], t), append(cuts[j], u), true
			}
		}
	}
	return cuts, any
}

// cross returns where two sides cross, as shares of their lengths.
func cross(p, q border) (t, u float64, ok bool) {
	d, e, w := p.b.At.Sub(p.a.At), q.b.At.Sub(q.a.At), q.a.At.Sub(p.a.At)
	det := d.X*e.Y - d.Y*e.X
	if det == 0 {
		return 0, 0, false
	}
	t, u = (w.X*e.Y-w.Y*e.X)/det, (w.X*d.Y-w.Y*d.X)/det
	return t, u, t >= 0 && t <= 1 && u >= 0 && u <= 1
}

// cut returns the parts of the sides that part inside from outside.
func (f *field) cut(cuts [][]float64) (out []border) {
	for i, s := range f.sides {
		at := append([]float64{0, 1}, cuts[i]...)
		slices.Sort(at)
		for k := 1; k < len(at); k++ {
			piece := border{between(s, at[k-1]), between(s, at[k])}
			d := piece.b.At.Sub(piece.a.At)
			l := d.Len()
			if l < 1e-9 {
				continue
			}
			const beside = 1e-4
			across := geom.Pt(-d.Y/l, d.X/l).Mul(beside)
			middle := piece.a.At.Lerp(piece.b.At, 0.5)
			if f.inside(winding(f.sides, middle.Add(across))) != f.inside(winding(f.sides, middle.Sub(across))) {
				out = append(out, piece)
			}
		}
	}
	return out
}

func between(s border, t float64) Rim {
	switch t {
	case 0:
		return s.a
	case 1:
		return s.b
	}
	return Rim{s.a.At.Lerp(s.b.At, t), s.a.Out + (s.b.Out-s.a.Out)*t, s.a.In + (s.b.In-s.a.In)*t}
}

// winding returns how often a polygon goes clockwise round a place.
func winding(sides []border, p geom.Point) (n int) {
	for i := range sides {
		n += sides[i].passes(p)
	}
	return n
}

// passes is what a side adds to the winding number of a place: 1 or -1 where it passes left
// of it.
func (s *border) passes(p geom.Point) int {
	a, b := s.a.At, s.b.At
	if (a.Y <= p.Y) == (b.Y <= p.Y) {
		return 0
	}
	if a.X+(p.Y-a.Y)/(b.Y-a.Y)*(b.X-a.X) > p.X {
		return 0
	}
	if a.Y > b.Y {
		return 1
	}
	return -1
}

// to returns the square of a place's distance to a border, and where the nearest place of
// it lies, as a share of its length.
func (s *border) to(p geom.Point) (square, t float64, d geom.Point) {
	ex, ey := s.b.At.X-s.a.At.X, s.b.At.Y-s.a.At.Y
	d.X, d.Y = p.X-s.a.At.X, p.Y-s.a.At.Y
	t = min(max((d.X*ex+d.Y*ey)/(ex*ex+ey*ey), 0), 1)
	d.X -= ex * t
	d.Y -= ey * t
	return d.X*d.X + d.Y*d.Y, t, d
}

// measure finds the nearest place of the edge for every pixel that lies no farther than
// reach from it, and how often the polygon goes round each.
func (f *field) measure(reach float64) {
	w, h := f.rect.Dx(), f.rect.Dy()
	f.near, f.wound = make([]nearest, w*h), make([]int16, w*h)
	for i := range f.near {
		f.near[i] = nearest{square: reach * reach, border: -1}
	}
	for y := range h {
		passes, n, k := f.passes(float64(f.rect.Min.Y+y)+0.5, y), 0, 0
		row := f.wound[y*w:][:w]
		for x := range row {
			for k < len(passes) && passes[k].x <= float64(f.rect.Min.X+x)+0.5 {
				n += passes[k].by
				k++
			}
			row[x] = int16(n)
		}
	}
	for i := range f.borders {
		s := &f.borders[i]
		box := raster.Around(geom.Bounds([]geom.Point{s.a.At, s.b.At}), reach, f.rect)
		d := s.b.At.Sub(s.a.At)
		l := d.Len()
		for y := box.Min.Y; y < box.Max.Y; y++ {
			x0, x1 := box.Min.X, box.Max.X
			if across := math.Abs(d.Y) / l; across > 0.05 { // a slanted one's box is mostly far from it
				middle := s.a.At.X + (float64(y)+0.5-s.a.At.Y)/d.Y*d.X
				x0, x1 = max(x0, floor(middle-reach/across)-1), min(x1, floor(middle+reach/across)+2)
			}
			for x := x0; x < x1; x++ {
				square, t, from := s.to(geom.Pt(float64(x)+0.5, float64(y)+0.5))
				n := &f.near[(y-f.rect.Min.Y)*w+x-f.rect.Min.X]
				if square >= n.square {
					continue
				}
				n.square, n.border, n.t = square, int32(i), float32(t)
				n.dx, n.dy = float32(from.X), float32(from.Y)
			}
		}
	}
	for i := range f.near { // once for each, not for every side that was nearest for a while
		n := &f.near[i]
		if n.border < 0 {
			continue
		}
		s := &f.borders[n.border]
		n.out, n.in = float32(s.a.Out)+float32(s.b.Out-s.a.Out)*n.t, float32(s.a.In)+float32(s.b.In-s.a.In)*n.t
		if n.square < 1e-12 {
			n.dx, n.dy = float32(s.b.At.Y-s.a.At.Y), float32(s.a.At.X-s.b.At.X)
		}
		l := 1 / float32(math.Sqrt(float64(n.dx*n.dx+n.dy*n.dy)))
		n.dx, n.dy = n.dx*l, n.dy*l
	}
}

// A pass is where a side crosses a line, and what it adds to the winding number of all that
// lies to the right.
type pass struct {
	x  float64
	by int
}

// passes returns where the polygon crosses the height y, which lies in a line of pixels, from
// left to right.
func (f *field) passes(y float64, line int) (out []pass) {
	for _, i := range f.rows[line] {
		a, b := f.sides[i].a.At, f.sides[i].b.At
		if (a.Y <= y) == (b.Y <= y) {
			continue
		}
		by := -1
		if a.Y > b.Y {
			by = 1
		}
		out = append(out, pass{a.X + (y-a.Y)/(b.Y-a.Y)*(b.X-a.X), by})
	}
	slices.SortFunc(out, func(p, q pass) int { return cmp.Compare(p.x, q.x) })
	return out
}

// cover turns the field into coverage.
func (f *field) cover() *raster.Plane {
	out := raster.NewPlane(f.rect)
	w, h := f.rect.Dx(), f.rect.Dy()
	raster.Rows(0, h, func(y int) {
		var fine [][]pass
		for x := range w {
			i := y*w + x
			n, inside := &f.near[i], f.inside(int(f.wound[i]))
			if n.border < 0 {
				if inside {
					out.Pix[i] = 1
				}
				continue
			}
			s := math.Sqrt(n.square)
			if !inside {
				s = -s
			}
			const half = math.Sqrt2 / 2
			switch {
			case s+f.grow-half >= f.in: // deeper than any feather, all of it
				out.Pix[i] = 1
				continue
			case s+f.grow+half <= -f.out:
				continue
			case !f.kinked(x, y):
				out.Pix[i] = mean(
					s+f.grow,
					float64(n.out),
					float64(n.in),
					math.Abs(float64(n.dx)),
					math.Abs(float64(n.dy)),
				)
				continue
			}
			if fine == nil {
				fine = f.fine(y)
			}
			out.Pix[i] = f.byParts(x, y, fine)
		}
	})
	return out
}

// kinked reports whether the distance does not grow evenly over a pixel: whether it grows
// another way, or its feather is another, on a pixel beside it.
func (f *field) kinked(x, y int) bool {
	w, h := f.rect.Dx(), f.rect.Dy()
	a := &f.near[y*w+x]
	in := f.inside(int(f.wound[y*w+x]))
	width := a.out + a.in
	for _, d := range [8][2]int{{-1, 0}, {1, 0}, {0, -1}, {0, 1}, {-1, -1}, {1, -1}, {-1, 1}, {1, 1}} {
		u, v := x+d[0], y+d[1]
		if u < 0 || v < 0 || u >= w || v >= h {
			continue
		}
		b := &f.near[v*w+u]
		if b.border < 0 {
			continue
		}
		dot := a.dx*b.dx + a.dy*b.dy
		if in != f.inside(int(f.wound[v*w+u])) {
			dot = -dot // away from the edge on both of its sides
		}
		if dot < 0.985 && (a.square > 1e-6 || b.square > 1e-6 || a.border != b.border) {
			return true
		}
		if diff := b.out + b.in - width; diff > 0.05+0.02*width || -diff > 0.05+0.02*width ||
			b.out-a.out > 0.05+0.02*width ||
			a.out-b.out > 0.05+0.02*width {
			return true
		}
	}
	return false
}

// fine returns where the polygon crosses the parts of a line.
func (f *field) fine(y int) [][]pass {
	out := make([][]pass, f.parts)
	for k := range out {
		out[k] = f.passes(float64(f.rect.Min.Y+y)+(float64(k)+0.5)/float64(f.parts), y)
	}
	return out
}

// byParts takes the mean over a pixel's parts.
func (f *field) byParts(x, y int, fine [][]pass) float32 {
	centre := geom.Pt(float64(f.rect.Min.X+x)+0.5, float64(f.rect.Min.Y+y)+0.5)
	// What may be nearest anywhere in the pixel.
	far := math.Sqrt(f.near[y*f.rect.Dx()+x].square) + math.Sqrt2
	var close []*border
	for i := range f.borders {
		s := &f.borders[i]
		if min(s.a.At.X, s.b.At.X) > centre.X+far || max(s.a.At.X, s.b.At.X) < centre.X-far ||
			min(s.a.At.Y, s.b.At.Y) > centre.Y+far || max(s.a.At.Y, s.b.At.Y) < centre.Y-far {
			continue
		}
		if square, _, _ := s.to(centre); square <= far*far {
			close = append(close, s)
		}
	}
	var sum float64
	n := f.parts
	size := 1 / float64(n)
	for j := range n {
		for i := range n {
			p := geom.Pt(float64(f.rect.Min.X+x)+(float64(i)+0.5)*size, float64(f.rect.Min.Y+y)+(float64(j)+0.5)*size)
			best, at, by, away := math.Inf(1), 0.0, close[0], geom.Point{}
			for _, s := range close {
				if square, t, d := s.to(p); square < best {
					best, at, by, away = square, t, s, d
				}
			}
			s := math.Sqrt(best)
			if s < 1e-9 {
				away = by.b.At.Sub(by.a.At)
				away = geom.Pt(-away.Y, away.X)
			}
			l := away.Len()
			wound := 0
			for _, c := range fine[j] {
				if c.x > p.X {
					break
				}
				wound += c.by
			}
			if !f.inside(wound) {
				s = -s
			}
			sum += float64(
				mean(
					s+f.grow,
					by.a.Out+(by.b.Out-by.a.Out)*at,
					by.a.In+(by.b.In-by.a.In)*at,
					math.Abs(away.X)/l*size,
					math.Abs(away.Y)/l*size,
				),
			)
		}
	}
	return float32(sum / float64(n*n))
}

// mean returns the mean coverage of a square pixel over which the signed distance s at its
// centre grows evenly, by ax over its width and by ay over its height: the profile, from 0 at
// -out to 1 at in, smoothed by a box of each width.
func mean(s, out, in, ax, ay float64) float32 {
	reach := (ax + ay) / 2
	if s-reach >= in {
		return 1
	}
	if s+reach <= -out {
		return 0
	}
	w := out + in
	if ax < ay {
		ax, ay = ay, ax
	}
	var v float64
	if ay < 1e-3*ax {
		v = (once(s+out+ax/2, w) - once(s+out-ax/2, w)) / ax
	} else {
		v = (twice(s+out+(ax+ay)/2, w) - twice(s+out+(ax-ay)/2, w) - twice(s+out-(ax-ay)/2, w) + twice(s+out-(ax+ay)/2,
			w)) / (ax * ay)
	}
	return float32(min(max(v, 0), 1))
}

// once is the integral of the profile up to d, where that begins at 0 and ends at w.
func once(d, w float64) float64 {
	switch {
	case d <= 0:
		return 0
	case d >= w:
		return d - w/2
	}
	u := d / w
	return w * u * u * u * (1 - u/2)
}

// twice is the integral of once.
func twice(d, w float64) float64 {
	switch {
	case d <= 0:
		return 0
	case d >= w:
		return d*d/2 - d*w/2 + 3*w*w/20
	}
	u := d / w
	return w * w * u * u * u * u * (0.25 - u/10)
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
