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
	var box image.Rectangle
	for y := cover.Rect.Min.Y; y < cover.Rect.Max.Y; y++ {
		for x := cover.Rect.Min.X; x < cover.Rect.Max.X; x++ {
			if cover.At(x, y) > 0 {
				box = box.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	if box.Empty() {
		return by, 0, false
	}
	box = box.Inset(-rim).Intersect(m.Rect)
	w, h := m.Rect.Dx(), m.Rect.Dy()
	roots := make([]float32, 3*w*h)
	for i := range w * h {
		for k := range 3 {
			roots[3*i+k] = root(m.Pix[4*i+k])
		}
	}
	// How many pixels of what must not be taken lie left of and above each.
	closed := make([]int32, (w+1)*(h+1))
	for y := range h {
		for x := range w {
			n := int32(0)
			if cover.At(m.Rect.Min.X+x, m.Rect.Min.Y+y) > 0 || avoid.At(m.Rect.Min.X+x, m.Rect.Min.Y+y) > 0 {
				n = 1
			}
			closed[(y+1)*(w+1)+x+1] = n + closed[y*(w+1)+x+1] + closed[(y+1)*(w+1)+x] - closed[y*(w+1)+x]
		}
	}
	free := func(r image.Rectangle) bool {
		r = r.Sub(m.Rect.Min)
		at := func(x, y int) int32 { return closed[y*(w+1)+x] }
		return at(r.Max.X, r.Max.Y)-at(r.Min.X, r.Max.Y)-at(r.Max.X, r.Min.Y)+at(r.Min.X, r.Min.Y) == 0
	}
	var edge, inside []int // places of the rim and of what is covered
	for y := box.Min.Y; y < box.Max.Y; y++ {
		for x := box.Min.X; x < box.Max.X; x++ {
			i := (y-m.Rect.Min.Y)*w + x - m.Rect.Min.X
			switch {
			case cover.At(x, y) > 0:
				inside = append(inside, i)
			case avoid.At(x, y) == 0:
				edge = append(edge, i)
			}
		}
	}
	if len(edge) == 0 {
		return by, 0, false
	}
	// Texture: the mean step to the pixel on the right.
	texture := func(places []int, shift int) (sum float64) {
		for _, i := range places {
			for k := range 3 {
				if j := 3*(i+shift) + k; j+3 < len(roots) {
					sum += math.Abs(float64(roots[j+3] - roots[j]))
				}
			}
		}
		return sum / float64(3*len(places))
	}
	own := texture(edge, 0)
	best := math.Inf(1)
	try := func(d image.Point, every int) {
		r := box.Add(d)
		if !r.In(m.Rect) || !free(r) {
			return
		}
		shift := d.Y*w + d.X
		var sum float64
		n := 0
		for a := 0; a < len(edge); a += every {
			for k := range 3 {
				v := float64(roots[3*edge[a]+k] - roots[3*(edge[a]+shift)+k])
				sum += v * v
			}
			n++
		}
		rms := math.Sqrt(sum / float64(3*n))
		// Near places are lit alike: far ones have to look better.
		far := math.Hypot(float64(d.X), float64(d.Y)) / float64(reach)
		cost := (rms + 2*math.Abs(texture(inside, shift)-own)) * (1 + far)
		if cost < best {
			best, by, off, ok = cost, d, rms, true
		}
	}
	every := max(1, len(edge)/400)
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
