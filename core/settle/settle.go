// Package settle makes a patch sit on the plate: here by its edge and its
// opacity.
package settle

import (
	"jardin/core/raster"
)

// Lay lays a premultiplied patch over the picture through a matte and an
// opacity, in linear light, on the pixels that all three share. It sets touched
// to 1 wherever the patch has any weight and changes nothing elsewhere.
func Lay(picture, patch *raster.Image, through *raster.Plane, opacity float32, touched *raster.Plane) {
	r := picture.Rect.Intersect(patch.Rect).Intersect(through.Rect).Intersect(touched.Rect)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		dst, src := picture.Row(y, r.Min.X, r.Max.X), patch.Row(y, r.Min.X, r.Max.X)
		cover, mark := through.Row(y, r.Min.X, r.Max.X), touched.Row(y, r.Min.X, r.Max.X)
		for i, m := range cover {
			weight := m * opacity
			alpha := src[4*i+3] * weight
			if alpha == 0 {
				continue
			}
			mark[i] = 1
			for k := range 3 {
				dst[4*i+k] = src[4*i+k]*weight + dst[4*i+k]*(1-alpha)
			}
		}
	}
}
