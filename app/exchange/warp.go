package exchange

import (
	"bytes"
	"encoding/binary"
	"math"

	"jardin/core/geom"
)

// Warp writes a transform as an ST map: an OpenEXR file with two float channels
// that say for each pixel of a frame where on the source its content lies, R as
// x / width and G as 1 - y / height, so that (0, 0) is the bottom left corner of
// the picture and (1, 1) its top right (common practice). toSource takes the
// frame's coordinates to the source's. Pixels from beyond the horizon hold -1.
func Warp(toSource geom.Homography, width, height int) []byte {
	var out bytes.Buffer
	put := func(v any) { _ = binary.Write(&out, binary.LittleEndian, v) } // into memory: nothing can fail
	attribute := func(name, kind string, values ...any) {
		out.WriteString(name + "\x00" + kind + "\x00")
		var data bytes.Buffer
		for _, v := range values {
			_ = binary.Write(&data, binary.LittleEndian, v)
		}
		put(int32(data.Len()))
		out.Write(data.Bytes())
	}
	channel := func(name string) []byte { // float, linear, sampled at every pixel
		var c bytes.Buffer
		c.WriteString(name + "\x00")
		_ = binary.Write(&c, binary.LittleEndian, []int32{2, 0, 1, 1})
		return c.Bytes()
	}
	put(uint32(20000630)) // the magic number of OpenEXR; version 2, single part, by lines
	put(uint32(2))
	window := []int32{0, 0, int32(width - 1), int32(height - 1)}
	attribute("channels", "chlist", channel("G"), channel("R"), uint8(0))
	attribute("compression", "compression", uint8(0))
	attribute("dataWindow", "box2i", window)
	attribute("displayWindow", "box2i", window)
	attribute("lineOrder", "lineOrder", uint8(0))
	attribute("pixelAspectRatio", "float", float32(1))
	attribute("screenWindowCenter", "v2f", []float32{0, 0})
	attribute("screenWindowWidth", "float", float32(1))
	out.WriteByte(0)
	line := 8 + 8*width
	first := out.Len() + 8*height
	for y := range height {
		put(uint64(first + y*line))
	}
	row := make([]byte, 8*width)
	for y := range height {
		put([]int32{int32(y), int32(8 * width)})
		for x := range width {
			p := geom.Pt(float64(x)+0.5, float64(y)+0.5)
			r, g := float32(-1), float32(-1)
			if toSource[6]*p.X+toSource[7]*p.Y+toSource[8] > 0 {
				q := toSource.Apply(p)
				r, g = float32(q.X/float64(width)), float32(1-q.Y/float64(height))
			}
			binary.LittleEndian.PutUint32(row[4*x:], math.Float32bits(g))
			binary.LittleEndian.PutUint32(row[4*(width+x):], math.Float32bits(r))
		}
		out.Write(row)
	}
	return out.Bytes()
}
