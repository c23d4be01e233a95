package fill

import (
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/simd"
)

// A Brush is a stroke being painted.
type Brush struct {
	canvas *Canvas
	stroke Stroke
	path   pathway
	cover  *raster.Plane // by how much the stroke covers each pixel so far
	before *raster.Image // the layer as it was, on the same pixels
	shared *raster.Image // the second layer as it was
	work   *raster.Image // what smearing has made of the picture so far
	all    image.Rectangle
	dice   uint64
	dabs   int
	lastAt geom.Point
}

// spacing is the usual distance between dabs as a share of the size. A hard dab's
// edge then waves by less than 0.5 % of its radius: s^2 / 8r for s = 0.2 r.
const spacing = 0.1

// Move goes on along the path and returns the pixels that changed.
func (b *Brush) Move(path []Touch) image.Rectangle {
	if b.path.step == nil {
		b.path.step = b.step
	}
	var dirty image.Rectangle
	for _, t := range path {
		b.path.to(t, func(at Touch) { dirty = dirty.Union(b.dab(at)) })
	}
	b.all = b.all.Union(dirty)
	b.blend(dirty)
	return dirty
}

// End finishes the stroke and returns the pixels that this changed: healing
// needs to know all that is covered.
func (b *Brush) End() image.Rectangle {
	if b.stroke.Mode != Heal || b.all.Empty() {
		return image.Rectangle{}
	}
	b.heal()
	return b.all
}

func (b *Brush) radius(t Touch) float64 {
	size := b.stroke.Size
	if b.stroke.Pen.Size {
		size *= t.Pressure
	}
	return math.Max(size, 1) / 2
}

func (b *Brush) step(t Touch) float64 {
	share := b.stroke.Spacing
	if share == 0 {
		share = spacing
	}
	return math.Max(2*b.radius(t)*share, 0.5)
}

// flattest is how much narrower a dab gets under a pen that lies flat.
const flattest = 0.8

// random returns the next of a row of numbers from -1 to 1 that are the same on
// every run (SplitMix64, Steele, Lea & Flood 2014).
func (b *Brush) random() float64 {
	b.dice += 0x9e3779b97f4a7c15
	z := b.dice
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return float64((z^z>>31)>>11)/(1<<52) - 1
}

// reach makes room in the stroke's own pictures for r.
func (b *Brush) reach(r image.Rectangle) {
	if r.In(b.cover.Rect) {
		return
	}
	// Room to go on, so that a long stroke seldom needs more.
	have := b.cover.Rect
	room := have.Union(r.Inset(-64 - have.Dx()/4)).Intersect(b.canvas.plate.Rect)
	cover := raster.NewPlane(room)
	for y := have.Min.Y; y < have.Max.Y; y++ {
		copy(cover.Row(y, have.Min.X, have.Max.X), b.cover.Row(y, have.Min.X, have.Max.X))
	}
	b.before = regrow(b.before, b.canvas.layer, room)
	if b.canvas.sharing {
		b.shared = regrow(b.shared, b.canvas.share, room)
	}
	if b.stroke.Mode == Smear {
		b.work = regrow(b.work, b.canvas.Shown(room), room)
	}
	b.cover = cover
}

// regrow returns a larger picture: what was kept where it was, and what lies
// around it now.
func regrow(kept, now *raster.Image, room image.Rectangle) *raster.Image {
	out := now.Crop(room)
	if kept != nil {
		out.Paste(kept)
	}
	return out
}

// asItWas returns the picture in r as it stood before the stroke, so that a
// stroke never copies itself.
func (b *Brush) asItWas(r image.Rectangle) *raster.Image {
	out := b.canvas.base.Crop(r)
	layer := b.canvas.layer
	both := r.Intersect(layer.Rect)
	own := both.Intersect(b.cover.Rect)
	for y := both.Min.Y; y < both.Max.Y; y++ {
		if own.Empty() || y < own.Min.Y || y >= own.Max.Y {
			simd.Over(out.Row(y, both.Min.X, both.Max.X), layer.Row(y, both.Min.X, both.Max.X))
			continue
		}
		simd.Over(out.Row(y, both.Min.X, own.Min.X), layer.Row(y, both.Min.X, own.Min.X))
		simd.Over(out.Row(y, own.Min.X, own.Max.X), b.before.Row(y, own.Min.X, own.Max.X))
		simd.Over(out.Row(y, own.Max.X, both.Max.X), layer.Row(y, own.Max.X, both.Max.X))
	}
	return out
}

// dab covers one place and returns its pixels.
func (b *Brush) dab(t Touch) image.Rectangle {
	s := &b.stroke
	radius := b.radius(t)
	if s.Jitter > 0 {
		x, y := b.random(), b.random()
		t.Point = t.Point.Add(geom.Pt(x, y).Mul(s.Jitter * s.Size))
	}
	area := raster.Around(geom.Box{Min: t.Point, Max: t.Point}, radius+1, b.canvas.plate.Rect)
	if area.Empty() {
		b.lastAt = t.Point
		return area
	}
	b.reach(area)
	most, flow := s.Opacity, 1.0
	if s.Flow > 0 {
		flow = s.Flow
	}
	if s.Pen.Opacity {
		most *= t.Pressure
	}
	if s.Pen.Flow {
		flow *= t.Pressure
	}
	if s.Mode == Smear && b.dabs > 0 {
		b.drag(area, t.Point.Sub(b.lastAt), t.Point, radius)
	}
	b.dabs++
	b.lastAt = t.Point
	flat := 1.0
	if s.Roundness > 0 {
		flat = s.Roundness
	}
	angle := s.Angle * math.Pi / 180
	if lean := math.Hypot(t.Lean.X, t.Lean.Y); s.Pen.Shape && lean > 0 {
		flat, angle = flat*(1-flattest*min(lean, 1)), math.Atan2(t.Lean.Y, t.Lean.X)
	}
	sin, cos := math.Sincos(angle)
	full := min(s.Hardness*radius, radius-0.5) // all within is covered
	inner, outer := full*full, (radius+0.5)*(radius+0.5)
	if full <= 0 {
		inner = -1
	}
	for y := area.Min.Y; y < area.Max.Y; y++ {
		row := b.cover.Row(y, area.Min.X, area.Max.X)
		dy := float64(y) + 0.5 - t.Y
		left, right := 0, len(row)
		if flat == 1 {
			// The part of the row that the circle reaches.
			half := math.Sqrt(max(outer-dy*dy, 0))
			left = max(left, int(t.X-half-float64(area.Min.X))-1)
			right = min(right, int(t.X+half-float64(area.Min.X))+2)
		}
		for i := left; i < right; i++ {
			dx := float64(area.Min.X+i) + 0.5 - t.X
			c := 1.0
			if flat == 1 {
				if q := dx*dx + dy*dy; q >= outer {
					continue
				} else if q > inner {
					c = profile(math.Sqrt(q), radius, s.Hardness, 1)
				}
			} else {
				u, v := dx*cos+dy*sin, (dy*cos-dx*sin)/flat
				d := math.Hypot(u, v)
				slope := 1.0 // by how much d grows in a pixel
				if d > 0 {
					slope = math.Hypot(u/d, v/(d*flat))
				}
				c = profile(d, radius, s.Hardness, slope)
			}
			if want := float32(c * most); want > row[i] {
				row[i] += (want - row[i]) * float32(flow)
			}
		}
	}
	return area
}

// drag pulls what lies behind the brush along by its last step.
func (b *Brush) drag(area image.Rectangle, step, at geom.Point, radius float64) {
	strength := float32(b.stroke.Amount)
	far := raster.Around(
		geom.Bounds([]geom.Point{{X: -step.X, Y: -step.Y}, {}}),
		2,
		image.Rect(-4000, -4000, 4000, 4000),
	)
	old := b.work.Crop(
		image.Rect(area.Min.X+far.Min.X, area.Min.Y+far.Min.Y, area.Max.X+far.Max.X, area.Max.Y+far.Max.Y).
			Intersect(b.work.Rect),
	)
	for y := area.Min.Y; y < area.Max.Y; y++ {
		row := b.work.Row(y, area.Min.X, area.Max.X)
		for i := range area.Dx() {
			p := geom.Pt(float64(area.Min.X+i)+0.5, float64(y)+0.5)
			if p.Dist(at) > radius {
				continue
			}
			v := bilinear(old, p.X-step.X, p.Y-step.Y)
			for k := range 3 {
				row[4*i+k] += (v[k] - row[4*i+k]) * strength
			}
		}
	}
}

// bilinear samples a picture; beyond its border the border goes on.
func bilinear(m *raster.Image, x, y float64) (out [4]float32) {
	x, y = x-0.5, y-0.5
	x0, y0 := math.Floor(x), math.Floor(y)
	fx, fy := float32(x-x0), float32(y-y0)
	in := func(v float64, low, high int) int { return min(max(int(v), low), high-1) }
	r := m.Rect
	xa, xb, ya, yb := in(
		x0,
		r.Min.X,
		r.Max.X,
	), in(
		x0+1,
		r.Min.X,
		r.Max.X,
	), in(
		y0,
		r.Min.Y,
		r.Max.Y,
	), in(
		y0+1,
		r.Min.Y,
		r.Max.Y,
	)
	a, b, c, d := m.At(xa, ya), m.At(xb, ya), m.At(xa, yb), m.At(xb, yb)
	for k := range 4 {
		top, low := a[k]+(b[k]-a[k])*fx, c[k]+(d[k]-c[k])*fx
		out[k] = top + (low-top)*fy
	}
	return out
}

// BlurReach is how far a stroke that blurs by a standard deviation reads, pixels.
func BlurReach(sigma float64) float64 { return math.Ceil(4*sigma) + 1 }

// target returns what the stroke wants each pixel of r to be: opaque where it has
// something to say. nil stands for nothing: erasing.
func (b *Brush) target(r image.Rectangle) *raster.Image {
	s := &b.stroke
	switch s.Mode {
	case Erase:
		return nil
	case Colour:
		out := raster.NewImage(r)
		for i := 0; i < len(out.Pix); i += 4 {
			out.Pix[i], out.Pix[i+1], out.Pix[i+2], out.Pix[i+3] = s.Colour[0], s.Colour[1], s.Colour[2], 1
		}
		return out
	case Soften:
		m := int(BlurReach(s.Amount))
		wide := b.asItWas(r.Inset(-m).Intersect(b.canvas.plate.Rect))
		return raster.GaussianImage(wide, s.Amount).Crop(r)
	case Smear:
		return b.work.Crop(r)
	case Lift, Lower:
		stops := s.Amount
		if s.Mode == Lower {
			stops = -stops
		}
		gain := float32(math.Exp2(stops))
		out := b.asItWas(r)
		for i := range out.Pix {
			if i%4 != 3 {
				out.Pix[i] *= gain
			}
		}
		return out
	}
	return b.copied(r)
}

// copied returns what a stroke copies to r; transparent where there is nothing.
func (b *Brush) copied(r image.Rectangle) *raster.Image {
	o := &b.stroke.From
	within := b.canvas.plate.Rect
	if o.Picture != nil {
		within = o.Picture.Rect
	}
	from := func(q image.Rectangle) *raster.Image {
		switch {
		case o.Picture != nil:
			return o.Picture.Crop(q)
		case o.Plain:
			return b.canvas.plate.Crop(q)
		}
		return b.asItWas(q)
	}
	if dx, dy, ok := o.whole(); ok {
		out := raster.NewImage(r)
		q := r.Add(image.Pt(dx, dy)).Intersect(within)
		if !q.Empty() {
			src := from(q)
			for y := q.Min.Y; y < q.Max.Y; y++ {
				copy(out.Row(y-dy, q.Min.X-dx, q.Max.X-dx), src.Row(y, q.Min.X, q.Max.X))
			}
		}
		return out
	}
	// The edge of r, where it comes from: what lies inside comes from inside.
	var edge []geom.Point
	const n = 8
	for k := range n + 1 {
		u := float64(k) / n
		x, y := float64(r.Min.X)+u*float64(r.Dx()), float64(r.Min.Y)+u*float64(r.Dy())
		for _, p := range []geom.Point{{X: x, Y: float64(r.Min.Y)}, {X: x, Y: float64(r.Max.Y)}, {X: float64(r.Min.X),
			Y: y}, {X: float64(r.Max.X), Y: y}} {
			if q := o.at(p); q.Finite() {
				edge = append(edge, q)
			}
		}
	}
	q := raster.Around(geom.Bounds(edge), 4, within)
	if len(edge) == 0 || q.Empty() {
		return raster.NewImage(r)
	}
	src := from(q)
	if o.Map == nil {
		return raster.Warp(src, geom.Translation(o.Shift), r)
	}
	return raster.WarpBy(src, o.Map, r)
}

// blend works the layer out anew in r from the layer before, what the stroke
// wants and the coverage.
func (b *Brush) blend(r image.Rectangle) {
	if r.Empty() {
		return
	}
	b.composite(r, b.target(r))
}

func (b *Brush) composite(r image.Rectangle, want *raster.Image) {
	c := b.canvas
	if n := b.stroke.Channels; want != nil && n != ([3]bool{}) && n != ([3]bool{true, true, true}) {
		was := b.asItWas(r)
		for i := 0; i < len(want.Pix); i += 4 {
			for k := range 3 {
				if !n[k] {
					want.Pix[i+k] = was.Pix[i+k] * want.Pix[i+3]
				}
			}
		}
	}
	for y := r.Min.Y; y < r.Max.Y; y++ {
		cover := b.cover.Row(y, r.Min.X, r.Max.X)
		var v []float32
		if want != nil {
			v = want.Row(y, r.Min.X, r.Max.X)
		}
		blendRow(c.layer.Row(y, r.Min.X, r.Max.X), b.before.Row(y, r.Min.X, r.Max.X), v, cover)
		if c.sharing {
			blendRow(c.share.Row(y, r.Min.X, r.Max.X), b.shared.Row(y, r.Min.X, r.Max.X), v, cover)
		}
	}
	c.painted = c.painted.Union(r)
}

// blendRow lays premultiplied want through a coverage; without want it erases.
func blendRow(dst, before, want, cover []float32) {
	for i, a := range cover {
		if a == 0 {
			continue
		}
		d, was := dst[4*i:4*i+4:4*i+4], before[4*i:4*i+4:4*i+4]
		if want == nil {
			for k := range d {
				d[k] = was[k] * (1 - a)
			}
			continue
		}
		v := want[4*i : 4*i+4 : 4*i+4]
		rest := 1 - a*v[3]
		for k := range d {
			d[k] = v[k]*a + was[k]*rest
		}
	}
}

// Cover returns by how much the stroke covers each pixel of r so far.
func (b *Brush) Cover(r image.Rectangle) *raster.Plane {
	out := raster.NewPlane(r)
	both := r.Intersect(b.cover.Rect)
	for y := both.Min.Y; y < both.Max.Y; y++ {
		copy(out.Row(y, both.Min.X, both.Max.X), b.cover.Row(y, both.Min.X, both.Max.X))
	}
	return out
}
