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
