package warp

import (
	"image"

	"jardin/core/geom"
	"jardin/core/raster"
)

// Image returns the part r of what a picture looks like along a mapping: the pixel at p is
// taken from toSource(p), by cubic convolution. Along the identity pixels are copied.
func Image(src *raster.Image, toSource Mapping, r image.Rectangle) *raster.Image {
	h, plain := toSource.Homography()
	switch {
	case plain && h == geom.Identity:
		return src.Crop(r)
	case plain:
		return raster.Warp(src, h, r)
	}
	return raster.WarpBy(src, toSource.Apply, r)
}

// Places returns a function that says where the middles of the pixels of r go: exactly along a
// homography, else by a raster.Lattice.
func Places(m Mapping, r image.Rectangle) func(x, y int) geom.Point {
	if h, plain := m.Homography(); plain {
		return func(x, y int) geom.Point { return h.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5)) }
	}
	return raster.NewLattice(m.Apply, r).At
}
