package track

import (
	"image"
	"math"
	"slices"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A Soft follows a surface that bends, as skin and cloth do, where a plane took the large motion out: what is left is a smooth
// field over the region, straight from its reference frame to every frame, so that it does not drift. The field is the shift
// of the crossings of a geom.Lattice on the reference frame, on top of which the plane's homography goes. It is the one under
// which the frame, carried back, looks most like the reference frame, light taken out, and which bends least: the sum of both
// is made least by Gauss and Newton's steps over a pyramid (after Bruhn, Weickert & Schnörr 2005, who join local and global
// methods, and Szeliski & Coughlan 1997, who use such lattices), with the bending energy of a thin plate and Geman and
// McClure's weights, under which what covers the surface drops out; beneath it the field goes on from around.
type Soft struct {
	size   image.Rectangle
	grid   geom.Lattice // its box and cells; Shift is what was found last
	levels []softLevel  // finest first
	stiff  float64
}

// SoftSettings say how a surface bends.
type SoftSettings struct {
	Stiffness float64 // 0, as supple as cloth, to 1, as firm as skin over bone
	Detail    float64 // cell of the lattice, pixels: what bends within less is not followed
}

// A SoftSample is where a soft surface is on a frame.
type SoftSample struct {
	Bend  geom.Lattice // on the reference frame, before the plane's homography
	Agree []float32    // of each crossing, by rows: how much what is seen around it is like the reference frame, 0 to 1; -1 out of the region
	Share float64      // of the region that agrees
	Match float64      // mean of how all of it does
}

// Blocks tells by blocks of the region's box what drives the field.
func (s *SoftSample) Blocks() (out [Blocks * Blocks]uint8) {
	var all, good [Blocks * Blocks]int
	for i, v := range s.Agree {
		if v < 0 {
			continue
		}
		x, y := i%(s.Bend.Columns+1), i/(s.Bend.Columns+1)
		k := min(y*Blocks/(s.Bend.Rows+1), Blocks-1)*Blocks + min(x*Blocks/(s.Bend.Columns+1), Blocks-1)
		all[k]++
		if v >= agreesAbove {
			good[k]++
		}
	}
	for k := range out {
		switch {
		case all[k] == 0:
		case 2*good[k] >= all[k]:
			out[k] = Used
		default:
			out[k] = LeftOut
		}
	}
	return out
}

type softLevel struct {
	tpl      *raster.Plane // the reference frame there, without light
	mask     []bool        // of its pixels: inside the region, and not left out
	from     geom.Homography
	to       geom.Homography
	columns  []nodeWeights // of each column of pixels
	rows     []nodeWeights
	perCross float64 // pixels for each crossing
}

// nodeWeights are the crossings that a column or a row of pixels goes by, and how much.
type nodeWeights struct {
	cell int
	at   [4]int
	w    [4]float32
}

const (
	softLevels  = 4
	softWindow  = 8.0   // sigma in pixels over which light is taken out
	softNoise   = 0.012 // contrast that is grain, of encoded luma
	rounds      = 6
	rests       = 0.02  // pixels by which a field moves that is at rest
	softMargin  = 96    // pixels around where a surface was that are looked at
	agreesAbove = 0.6   // likeness
	softLeast   = 0.003 // of the data, what bending counts where a surface is as supple as can be
	sloping     = 0.1   // what a slope of the field counts beside its bending: what no data hold does not run away
	steep       = 0.6   // slope, of contrast a pixel, from which on a pixel counts in full
)

// NewSoft prepares to follow the surface inside a polygon of the reference frame, but for what lies inside the polygons of
// without. size is that of every frame. The errors are ErrSmall and ErrFlat.
func NewSoft(read FrameReader, size image.Rectangle, region []geom.Point, without [][]geom.Point, set SoftSettings) (*Soft, error) {
	box := geom.Bounds(region)
	cell := math.Min(math.Max(set.Detail, 4), 64)
	cells := func(length float64) int { return min(max(int(math.Ceil(length/cell)), 2), 400) }
	s := &Soft{size: size, stiff: math.Min(math.Max(set.Stiffness, 0), 1)}
	s.grid = geom.Lattice{Box: box, Columns: cells(box.Max.X - box.Min.X), Rows: cells(box.Max.Y - box.Min.Y)}
	s.grid.Shift = make([]geom.Point, (s.grid.Columns+1)*(s.grid.Rows+1))
	seen, err := looked(read, raster.Around(box, softMargin, size))
	if err != nil {
		return nil, err
	}
	for k, p := range raster.Pyramid(seen, softLevels) {
		l := softLevel{}
		l.to, l.from = levelOf(k)
		polygon := l.to.ApplyAll(region)
		rect := raster.Around(geom.Bounds(polygon), 2*softWindow, p.Rect)
		if rect.Dx() < 12 || rect.Dy() < 12 {
			break
		}
		l.tpl = withoutLight(p).Crop(rect)
		covers := make([][]geom.Point, len(without))
		for i, w := range without {
			covers[i] = l.to.ApplyAll(w)
		}
		l.mask = make([]bool, len(l.tpl.Pix))
		for y := range rect.Dy() {
			spans := insides(polygon, covers, float64(rect.Min.Y+y)+0.5)
			for x := range rect.Dx() {
				l.mask[y*rect.Dx()+x] = spans.has(float64(rect.Min.X+x) + 0.5)
			}
		}
		place := func(v float64, low, high float64, n int) nodeWeights {
			u := math.Min(math.Max((v-low)/(high-low)*float64(n), 0), float64(n))
			i := min(int(u), n-1)
			w := geom.Keys(u - float64(i))
			out := nodeWeights{cell: i}
			for a := range 4 {
				out.at[a], out.w[a] = min(max(i+a-1, 0), n), float32(w[a])
			}
			return out
		}
		for x := range rect.Dx() {
			q := l.from.Apply(geom.Pt(float64(rect.Min.X+x)+0.5, 0))
			l.columns = append(l.columns, place(q.X, box.Min.X, box.Max.X, s.grid.Columns))
		}
		for y := range rect.Dy() {
			q := l.from.Apply(geom.Pt(0, float64(rect.Min.Y+y)+0.5))
			l.rows = append(l.rows, place(q.Y, box.Min.Y, box.Max.Y, s.grid.Rows))
		}
		l.perCross = float64(rect.Dx()*rect.Dy()) / float64(len(s.grid.Shift))
		s.levels = append(s.levels, l)
	}
	if len(s.levels) == 0 {
		return nil, ErrSmall
	}
	return s, nil
}

// withoutLight returns each pixel's difference from the mean around it, in units of the contrast around it.
func withoutLight(p *raster.Plane) *raster.Plane { return lightOf(p).without(p) }

// A softLight is the mean around each pixel, and one over the contrast around it.
type softLight struct{ mean, inverse *raster.Plane }

func lightOf(p *raster.Plane) *softLight {
	mean := raster.Gaussian(p, softWindow)
	squares := raster.NewPlane(p.Rect)
	for i, v := range p.Pix {
		d := v - mean.Pix[i]
		squares.Pix[i] = d * d
	}
	inverse := raster.Gaussian(squares, softWindow)
	for i, v := range inverse.Pix {
		inverse.Pix[i] = float32(1 / math.Sqrt(float64(v)+softNoise*softNoise))
	}
	return &softLight{mean, inverse}
}

// without takes the light out of a picture.
func (l *softLight) without(p *raster.Plane) *raster.Plane {
	out := raster.NewPlane(p.Rect)
	for i, v := range p.Pix {
		out.Pix[i] = (v - l.mean.Pix[i]) * l.inverse.Pix[i]
	}
	return out
}

// Begin has the next step go on from a field that is known; one of other cells, or none, is no field.
func (s *Soft) Begin(known *geom.Lattice) {
	clear(s.grid.Shift)
	if known != nil && known.Columns == s.grid.Columns && known.Rows == s.grid.Rows && len(known.Shift) == len(s.grid.Shift) {
		copy(s.grid.Shift, known.Shift)
	}
}

// Step finds the surface on the next frame, where h takes the reference frame by a plane, going on from the field of the frame
// before. What lies inside the polygons of covered, on that frame, does not count. Where it is not found the error says why, and
// the next step goes on from where it was.
func (s *Soft) Step(read FrameReader, covered [][]geom.Point, h geom.Homography) (SoftSample, error) {
	shift := slices.Clone(s.grid.Shift)
	at := make([]geom.Point, 0, len(shift))
	for j := range s.grid.Rows + 1 {
		for i := range s.grid.Columns + 1 {
			at = append(at, h.Apply(s.grid.Crossing(i, j).Add(shift[j*(s.grid.Columns+1)+i])))
		}
	}
	rect := raster.Around(geom.Bounds(at), softMargin, s.size)
	const even = 1 << (softLevels - 1)
	rect = image.Rect(rect.Min.X&^(even-1), rect.Min.Y&^(even-1), rect.Max.X, rect.Max.Y).Intersect(s.size)
	if rect.Empty() {
		return SoftSample{}, ErrLeft
	}
	seen, err := looked(read, rect)
	if err != nil {
		return SoftSample{}, err
	}
	frame := raster.Pyramid(seen, softLevels)
	mask := maskOf(covered, seen.Rect)
	var agree []float32
	for k := min(len(s.levels), len(frame)) - 1; k >= 0; k-- {
		// What does not look like the reference frame then is left out, and goes as what is around it does.
		for range 2 {
			var light *softLight // it hardly changes while the field comes to rest
			for range rounds {
				if s.round(&s.levels[k], frame[k], mask, h, shift, agree, &light) < rests*s.levels[k].from[0] {
					break
				}
			}
			if k > 0 {
				break // of coarse pictures what looks otherwise may be a bend that is not followed yet
			}
			agree = s.judge(&s.levels[k], frame[k], mask, h, shift)
			if !slices.ContainsFunc(agree, func(v float32) bool { return v >= 0 && v < agreesAbove }) {
				break
			}
		}
	}
	out := SoftSample{Bend: s.grid, Agree: agree}
	out.Bend.Shift = shift
	all, good := 0, 0
	for _, v := range agree {
		if v >= 0 {
			all++
			out.Match += float64(v)
			if v >= agreesAbove {
				good++
			}
		}
	}
	if all > 0 {
		out.Share, out.Match = float64(good)/float64(all), out.Match/float64(all)
	}
	if out.Share < 0.25 {
		return out, ErrLost
	}
	s.grid.Shift = shift
	return out, nil
}

// carried returns the frame as it looks on the reference frame by the plane and a field, over a level's template, and which of
// its pixels are seen.
func (s *Soft) carried(l *softLevel, frame *raster.Plane, covered *raster.Plane, h geom.Homography, shift []geom.Point) (*raster.Plane, []bool) {
	out := raster.NewPlane(l.tpl.Rect)
	seen := make([]bool, len(out.Pix))
	w := out.Rect.Dx()
	wide := s.grid.Columns + 1
	toLevel := l.to.Mul(h)
	raster.Rows(0, out.Rect.Dy(), func(y int) {
		row := &l.rows[y]
		line := make([]geom.Point, wide) // the field along this row of pixels
		for a := range 4 {
			from, share := shift[row.at[a]*wide:(row.at[a]+1)*wide], float64(row.w[a])
			for i, d := range from {
				line[i] = line[i].Add(d.Mul(share))
			}
		}
		for x := range w {
			c := &l.columns[x]
			var d geom.Point
			for a := range 4 {
				d = d.Add(line[c.at[a]].Mul(float64(c.w[a])))
			}
			p := l.from.Apply(geom.Pt(float64(out.Rect.Min.X+x)+0.5, float64(out.Rect.Min.Y+y)+0.5)).Add(d)
			q := toLevel.Apply(p)
			out.Pix[y*w+x] = frame.Cubic(q.X, q.Y)
			if !l.mask[y*w+x] || !inside(q, frame.Rect, 1) {
				continue
			}
			if covered != nil {
				if f := h.Apply(p); covered.At(min(max(int(f.X), covered.Rect.Min.X), covered.Rect.Max.X-1),
					min(max(int(f.Y), covered.Rect.Min.Y), covered.Rect.Max.Y-1)) > 0 {
					continue
				}
			}
			seen[y*w+x] = true
		}
	})
	return out, seen
}

// A tensor is what the pixels around a crossing tell of its shift: the normal equations' matrix and right side.
type tensor struct{ xx, xy, yy, x, y float64 }

// round brings the field nearer to where the frame looks like the reference frame, and returns by how much it moved at most,
// pixels of the frame.
func (s *Soft) round(l *softLevel, frame, covered *raster.Plane, h geom.Homography, shift []geom.Point, agree []float32, light **softLight) float64 {
	now, seen := s.carried(l, frame, covered, h, shift)
	if *light == nil {
		*light = lightOf(now)
	}
	now = (*light).without(now)
	s.leaveOut(l, seen, agree)
	w, high := now.Rect.Dx(), now.Rect.Dy()
	scale := 3 * 1.4826 * spread(now, l.tpl, seen)
	inverse := float32(1 / math.Max(scale, 0.2))
	wide := s.grid.Columns + 1
	unit := float32(l.from[0]) // pixels of the frame in one of this level
	var parts [chunks][]tensor
	inChunks(high, func(chunk, low, end int) {
		sums := make([]tensor, len(shift))
		line := make([]tensor, wide)
		for y := max(low, 1); y < min(end, high-1); y++ {
			clear(line)
			for x := 1; x < w-1; x++ {
				i := y*w + x
				if !seen[i] || !seen[i-1] || !seen[i+1] || !seen[i-w] || !seen[i+w] {
					continue
				}
				e := now.Pix[i] - l.tpl.Pix[i]
				u := e * inverse
				wt := 1 / (1 + u*u)
				wt *= wt
				gx := (now.Pix[i+1] - now.Pix[i-1] + l.tpl.Pix[i+1] - l.tpl.Pix[i-1]) / (4 * unit)
				gy := (now.Pix[i+w] - now.Pix[i-w] + l.tpl.Pix[i+w] - l.tpl.Pix[i-w]) / (4 * unit)
				wt /= gx*gx + gy*gy + steep*steep
				t := tensor{float64(wt * gx * gx), float64(wt * gx * gy), float64(wt * gy * gy), float64(-wt * gx * e), float64(-wt * gy * e)}
				c := &l.columns[x]
				for a := range 4 {
					n, signed := &line[c.at[a]], float64(c.w[a])
					size := math.Abs(signed)
					n.xx, n.xy, n.yy = n.xx+size*t.xx, n.xy+size*t.xy, n.yy+size*t.yy
					n.x, n.y = n.x+signed*t.x, n.y+signed*t.y
				}
			}
			row := &l.rows[y]
			for b := range 4 {
				to, signed := sums[row.at[b]*wide:(row.at[b]+1)*wide], float64(row.w[b])
				size := math.Abs(signed)
				for i := range to {
					n, t := &to[i], &line[i]
					n.xx, n.xy, n.yy = n.xx+size*t.xx, n.xy+size*t.xy, n.yy+size*t.yy
					n.x, n.y = n.x+signed*t.x, n.y+signed*t.y
				}
			}
		}
		parts[chunk] = sums
	})
	all := parts[0]
	for _, p := range parts[1:] {
		for i := range all {
			n, t := &all[i], &p[i]
			n.xx, n.xy, n.yy, n.x, n.y = n.xx+t.xx, n.xy+t.xy, n.yy+t.yy, n.x+t.x, n.y+t.y
		}
	}
	usual := l.perCross / 2
	lambda := usual * softLeast * math.Pow(1000, s.stiff) * (0.1 + scale*scale)
	return s.solve(all, lambda, usual, shift)
}

// leaveOut takes pixels out of what is seen around crossings that do not agree, a cell beyond their own: at the edge of what
// covers it, that pulls.
func (s *Soft) leaveOut(l *softLevel, seen []bool, agree []float32) {
	if agree == nil {
		return
	}
	w, wide := l.tpl.Rect.Dx(), s.grid.Columns+1
	out := make([]bool, s.grid.Columns*s.grid.Rows)
	for y := range s.grid.Rows {
		for x := range s.grid.Columns {
			for j := max(y-1, 0); j <= min(y+2, s.grid.Rows); j++ {
				for k := max(x-1, 0); k <= min(x+2, s.grid.Columns); k++ {
					v := agree[j*wide+k]
					out[y*s.grid.Columns+x] = out[y*s.grid.Columns+x] || v >= 0 && v < agreesAbove
				}
			}
		}
	}
	for i := range seen {
		seen[i] = seen[i] && !out[l.rows[i/w].cell*s.grid.Columns+l.columns[i%w].cell]
	}
}

// spread is the median of how far two pictures differ.
func spread(a, b *raster.Plane, seen []bool) float64 {
	var all []float32
	step := max(1, len(a.Pix)/6000)
	for i := 0; i < len(a.Pix); i += step {
		if seen[i] {
			all = append(all, abs(a.Pix[i]-b.Pix[i]))
		}
	}
	if len(all) == 0 {
		return 0
	}
	slices.Sort(all)
	return float64(all[len(all)/2])
}

// solve adds to the field what makes the sum of the data's error and of the bending energy least, by conjugate gradients.
func (s *Soft) solve(data []tensor, lambda, usual float64, shift []geom.Point) (most float64) {
	n := len(shift) // all x first, then all y
	vectors := make([]float64, 7*2*n)
	next := func() []float64 {
		v := vectors[:2*n]
		vectors = vectors[2*n:]
		return v
	}
	v, r, x, p, ap, z, diagonal := next(), next(), next(), next(), next(), next(), next()
	for i, d := range shift {
		v[i], v[n+i] = d.X, d.Y
	}
	damp := 1e-4 * usual
	for i := range data {
		a, c := data[i].xx+damp+20*lambda, data[i].yy+damp+20*lambda
		diagonal[i], diagonal[n+i] = 1/a, 1/c
	}
	both := func(in, out []float64) {
		s.bending(in[:n], out[:n])
		s.bending(in[n:], out[n:])
	}
	both(v, r)
	for i := range data {
		r[i], r[n+i] = data[i].x-lambda*r[i], data[i].y-lambda*r[n+i]
	}
	dot := func(a, b []float64) (sum float64) {
		for i, v := range a {
			sum += v * b[i]
		}
		return sum
	}
	for i := range r {
		z[i] = diagonal[i] * r[i]
	}
	copy(p, z)
	rz := dot(r, z)
	end := 1e-5 * rz
	for range 80 {
		if rz <= end || rz == 0 {
			break
		}
		both(p, ap)
		for i := range data {
			d := &data[i]
			px, py := p[i], p[n+i]
			ap[i] = lambda*ap[i] + (d.xx+damp)*px + d.xy*py
			ap[n+i] = lambda*ap[n+i] + d.xy*px + (d.yy+damp)*py
		}
		alpha := rz / dot(p, ap)
		for i := range x {
			x[i] += alpha * p[i]
			r[i] -= alpha * ap[i]
			z[i] = diagonal[i] * r[i]
		}
		after := dot(r, z)
		beta := after / rz
		rz = after
		for i := range p {
			p[i] = z[i] + beta*p[i]
		}
	}
	for i := range shift {
		shift[i] = shift[i].Add(geom.Pt(x[i], x[n+i]))
		most = math.Max(most, math.Max(math.Abs(x[i]), math.Abs(x[n+i])))
	}
	return most
}

// bending is the gradient of half the energy of one part of a field at the crossings: of a thin plate, second differences along
// rows, along columns, and twice the mixed ones; and a little of a membrane, first differences.
func (s *Soft) bending(v, out []float64) {
	wide, high := s.grid.Columns+1, s.grid.Rows+1
	clear(out)
	for y := range high {
		line, to := v[y*wide:(y+1)*wide], out[y*wide:(y+1)*wide]
		for x := 1; x < wide-1; x++ {
			d := line[x-1] + line[x+1] - 2*line[x]
			to[x-1] += d
			to[x] -= 2 * d
			to[x+1] += d
		}
		for x := range wide - 1 {
			d := sloping * (line[x+1] - line[x])
			to[x] -= d
			to[x+1] += d
		}
		if y+1 == high {
			break
		}
		below, toBelow := v[(y+1)*wide:(y+2)*wide], out[(y+1)*wide:(y+2)*wide]
		for x := range wide {
			d := sloping * (below[x] - line[x])
			to[x] -= d
			toBelow[x] += d
		}
		for x := range wide - 1 {
			d := 2 * (line[x] - line[x+1] - below[x] + below[x+1])
			to[x] += d
			to[x+1] -= d
			toBelow[x] -= d
			toBelow[x+1] += d
		}
		if y == 0 {
			continue
		}
		above, toAbove := v[(y-1)*wide:y*wide], out[(y-1)*wide:y*wide]
		for x := range wide {
			d := above[x] + below[x] - 2*line[x]
			toAbove[x] += d
			to[x] -= 2 * d
			toBelow[x] += d
		}
	}
}

// judge returns how alike the frame and the reference frame are around each crossing, light taken out: their correlation.
func (s *Soft) judge(l *softLevel, frame, covered *raster.Plane, h geom.Homography, shift []geom.Point) []float32 {
	now, seen := s.carried(l, frame, covered, h, shift)
	now = withoutLight(now)
	w := now.Rect.Dx()
	wide := s.grid.Columns + 1
	type likeness struct{ ab, aa, bb, all, in float64 }
	sums := make([]likeness, len(shift))
	for i, in := range l.mask {
		if !in {
			continue
		}
		c, r := &l.columns[i%w], &l.rows[i/w]
		var ab, aa, bb, one float64
		if seen[i] {
			a, b := float64(now.Pix[i]), float64(l.tpl.Pix[i])
			ab, aa, bb, one = a*b, a*a, b*b, 1
		}
		for j := 1; j < 3; j++ { // the four crossings of its cell
			for k := 1; k < 3; k++ {
				n := &sums[r.at[j]*wide+c.at[k]]
				n.ab, n.aa, n.bb, n.all, n.in = n.ab+ab, n.aa+aa, n.bb+bb, n.all+1, n.in+one
			}
		}
	}
	out := make([]float32, len(shift))
	for i, n := range sums {
		switch {
		case n.all < l.perCross/4:
			out[i] = -1
		case n.in < n.all/2:
			out[i] = 0
		default:
			out[i] = float32(math.Max(n.ab/math.Sqrt(math.Max(n.aa*n.bb, 1e-12)), 0))
		}
	}
	return s.around(out)
}

// around returns, for each crossing, the lesser of how it agrees and the median of that around it: what looks alike by chance in
// the middle of what does not is no exception.
func (s *Soft) around(agree []float32) []float32 {
	wide, high := s.grid.Columns+1, s.grid.Rows+1
	out := slices.Clone(agree)
	for i, v := range agree {
		if v < 0 {
			continue
		}
		var near []float32
		x, y := i%wide, i/wide
		for k := max(y-1, 0); k <= min(y+1, high-1); k++ {
			for j := max(x-1, 0); j <= min(x+1, wide-1); j++ {
				if n := agree[k*wide+j]; n >= 0 {
					near = append(near, n)
				}
			}
		}
		slices.Sort(near)
		out[i] = min(v, near[len(near)/2])
	}
	return out
}
