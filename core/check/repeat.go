package check

import (
	"image"
	"math"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// Repeat returns how much a part of a picture repeats itself: the highest value of the autocorrelation of its detail at
// any shift of at least so many pixels by which half of the part still lies over itself; 1 for a part that is laid twice.
// Detail is what a Gaussian of 4 pixels leaves of the square root of light.
func Repeat(m *raster.Image, part image.Rectangle, least int) (highest float64) {
	part = part.Intersect(m.Rect)
	roots := raster.NewPlane(m.Rect)
	for i := range roots.Pix {
		p := m.Pix[4*i : 4*i+3]
		roots.Pix[i] = float32(math.Sqrt(float64(max(colorspace.Luma(p[0], p[1], p[2]), 0))))
	}
	soft := raster.Gaussian(roots, 4)
	w, h := part.Dx(), part.Dy()
	detail := make([]float32, w*h)
	for i := range detail {
		x, y := part.Min.X+i%w, part.Min.Y+i/w
		detail[i] = roots.At(x, y) - soft.At(x, y)
	}
	found := make([]float64, h)
	raster.Rows(0, h, func(dy int) {
		for dx := -w + 1; dx < w; dx++ {
			if dx*dx+dy*dy < least*least || 2*(w-max(dx, -dx))*(h-dy) < w*h {
				continue
			}
			var both, here, there float64
			for y := dy; y < h; y++ {
				x0, x1 := max(dx, 0), min(w+dx, w)
				a, b := detail[y*w+x0:y*w+x1], detail[(y-dy)*w+x0-dx:(y-dy)*w+x1-dx]
				for i, u := range a {
					u, v := float64(u), float64(b[i])
					both, here, there = both+u*v, here+u*u, there+v*v
				}
			}
			if here > 0 && there > 0 {
				found[dy] = math.Max(found[dy], both/math.Sqrt(here*there))
			}
		}
	})
	for _, v := range found {
		highest = math.Max(highest, v)
	}
	return highest
}
