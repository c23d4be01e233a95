package fill

import (
	"image"
	"math"

	"jardin/core/raster"
)

// rim is how far around what is covered a picture is compared, in pixels.
const rim = 6

// Beside proposes where clean pixels for what is covered lie: the offset, up to reach
// pixels, at which the picture looks most like the rim around it, and has as much
// texture inside. Neither what is covered nor what avoid covers is taken or compared.
// Differences are of the square root of light, summed over the rim (exemplar matching,
// Criminisi, Pérez & Toyama 2004, without its filling order). off is their RMS. ok is
// false where there is no such place.
func Beside(m *raster.Image, cover, avoid *raster.Plane, reach int) (by image.Point, off float64, ok bool) {
	b := newBeside(m, cover, avoid)
	if b == nil {
		return by, 0, false
	}
	best := math.Inf(1)
	try := func(d image.Point, every int) {
		rms, cost := b.cost(d, every, reach)
		if cost < best {
			best, by, off, ok = cost, d, rms, true
		}
	}
	every := max(1, len(b.edge)/400)
	for y := -reach; y <= reach; y += 2 {
		for x := -reach; x <= reach; x += 2 {
			if x*x+y*y <= reach*reach {
				try(image.Pt(x, y), every)
			}
		}
	}
	if !ok {
		return by, 0, false
	}
	around := by
	best = math.Inf(1)
	for y := -2; y <= 2; y++ {
		for x := -2; x <= 2; x++ {
			try(around.Add(image.Pt(x, y)), 1)
		}
	}
	return by, off, ok
}

// beside is what places are compared by.
type beside struct {
	rect         image.Rectangle // of the picture
	roots        []float32       // its square roots, RGB
	closed       []int32         // how many pixels that must not be taken lie left of and above each
	box          image.Rectangle // around what is covered, with its rim
	edge, inside []int           // places of the rim and of what is covered
	texture      float64         // of the rim
}

// newBeside prepares comparing; nil where nothing is covered, or nothing shows around it.
func newBeside(m *raster.Image, cover, avoid *raster.Plane) *beside {
	b := &beside{rect: m.Rect}
	for y := cover.Rect.Min.Y; y < cover.Rect.Max.Y; y++ {
		for x := cover.Rect.Min.X; x < cover.Rect.Max.X; x++ {
			if cover.At(x, y) > 0 {
				b.box = b.box.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	if b.box.Empty() {
		return nil
	}
	b.box = b.box.Inset(-rim).Intersect(m.Rect)
	w, h := m.Rect.Dx(), m.Rect.Dy()
	b.roots = make([]float32, 3*w*h)
	for i := range w * h {
		for k := range 3 {
			b.roots[3*i+k] = root(m.Pix[4*i+k])
		}
	}
	b.closed = make([]int32, (w+1)*(h+1))
	for y := range h {
		for x := range w {
			n := int32(0)
			if cover.At(m.Rect.Min.X+x, m.Rect.Min.Y+y) > 0 || avoid.At(m.Rect.Min.X+x, m.Rect.Min.Y+y) > 0 {
				n = 1
			}
			b.closed[(y+1)*(w+1)+x+1] = n + b.closed[y*(w+1)+x+1] + b.closed[(y+1)*(w+1)+x] - b.closed[y*(w+1)+x]
		}
	}
	for y := b.box.Min.Y; y < b.box.Max.Y; y++ {
		for x := b.box.Min.X; x < b.box.Max.X; x++ {
			i := (y-m.Rect.Min.Y)*w + x - m.Rect.Min.X
			switch {
			case cover.At(x, y) > 0:
				b.inside = append(b.inside, i)
			case avoid.At(x, y) == 0:
				b.edge = append(b.edge, i)
			}
		}
	}
	if len(b.edge) == 0 {
		return nil
	}
	b.texture = b.textureOf(b.edge, 0)
	return b
}

// isFree reports whether all of a rectangle may be taken.
func (b *beside) isFree(r image.Rectangle) bool {
	if !r.In(b.rect) {
		return false
	}
	r = r.Sub(b.rect.Min)
	at := func(x, y int) int32 { return b.closed[y*(b.rect.Dx()+1)+x] }
	return at(r.Max.X, r.Max.Y)-at(r.Min.X, r.Max.Y)-at(r.Max.X, r.Min.Y)+at(r.Min.X, r.Min.Y) == 0
}

// textureOf is the mean step to the pixel on the right, at places moved by so many pixels.
func (b *beside) textureOf(places []int, shift int) (sum float64) {
	for _, i := range places {
		for k := range 3 {
			if j := 3*(i+shift) + k; j+3 < len(b.roots) {
				sum += math.Abs(float64(b.roots[j+3] - b.roots[j]))
			}
		}
	}
	return sum / float64(3*len(places))
}

// cost says how little the picture at an offset is like what is covered: every so many pixels of
// the rim are compared. rms is their difference; cost is infinite where nothing may be taken.
func (b *beside) cost(d image.Point, every, reach int) (rms, cost float64) {
	if !b.isFree(b.box.Add(d)) {
		return 0, math.Inf(1)
	}
	shift := d.Y*b.rect.Dx() + d.X
	var sum float64
	n := 0
	for a := 0; a < len(b.edge); a += every {
		for k := range 3 {
			v := float64(b.roots[3*b.edge[a]+k] - b.roots[3*(b.edge[a]+shift)+k])
			sum += v * v
		}
		n++
	}
	rms = math.Sqrt(sum / float64(3*n))
	// Near places are lit alike: far ones have to look better.
	far := math.Hypot(float64(d.X), float64(d.Y)) / float64(reach)
	return rms, (rms + 2*math.Abs(b.textureOf(b.inside, shift)-b.texture)) * (1 + far)
}
