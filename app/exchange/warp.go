package exchange

import (
	"jardin/app/media"
	"jardin/core/geom"
	"jardin/core/warp"
)

// Warp writes a mapping, bent or not, as an ST map: an OpenEXR file with two float channels
// that say for each pixel of a frame where on the source its content lies, R as
// x / width and G as 1 - y / height, so that (0, 0) is the bottom left corner of
// the picture and (1, 1) its top right (common practice). toSource takes the
// frame's coordinates to the source's. Pixels from beyond the horizon hold -1.
func Warp(toSource warp.Mapping, width, height int) []byte {
	return media.EncodeEXR(width, height, []string{"R", "G"}, func(x, y int, out []float32) {
		p := geom.Pt(float64(x)+0.5, float64(y)+0.5)
		out[0], out[1] = -1, -1
		if toSource.Sees(p) {
			q := toSource.Apply(p)
			out[0], out[1] = float32(q.X/float64(width)), float32(1-q.Y/float64(height))
		}
	})
}
