package media

import (
	"bytes"
	"encoding/binary"
	"math"
	"slices"
)

// EncodeEXR returns an OpenEXR file with float channels of the given names. pixel
// sets a pixel's values, in the order of names.
func EncodeEXR(width, height int, names []string, pixel func(x, y int, out []float32)) []byte {
	var out bytes.Buffer
	put := func(v any) { _ = binary.Write(&out, binary.LittleEndian, v) } // into memory: nothing can fail
	attribute := func(name, kind string, data []byte) {
		out.WriteString(name + "\x00" + kind + "\x00")
		put(int32(len(data)))
		out.Write(data)
	}
	bytesOf := func(v any) []byte {
		var data bytes.Buffer
		_ = binary.Write(&data, binary.LittleEndian, v)
		return data.Bytes()
	}
	// Channels stand in the order of the alphabet.
	sorted := slices.Sorted(slices.Values(names))
	var channels bytes.Buffer
	for _, name := range sorted {
		channels.WriteString(name + "\x00")
		channels.Write(bytesOf([]int32{2, 0, 1, 1})) // float, linear, sampled at every pixel
	}
	channels.WriteByte(0)
	put(uint32(20000630)) // the magic number of OpenEXR; version 2, single part, by lines
	put(uint32(2))
	window := bytesOf([]int32{0, 0, int32(width - 1), int32(height - 1)})
	attribute("channels", "chlist", channels.Bytes())
	attribute("compression", "compression", []byte{0})
	attribute("dataWindow", "box2i", window)
	attribute("displayWindow", "box2i", window)
	attribute("lineOrder", "lineOrder", []byte{0})
	attribute("pixelAspectRatio", "float", bytesOf(float32(1)))
	attribute("screenWindowCenter", "v2f", bytesOf([]float32{0, 0}))
	attribute("screenWindowWidth", "float", bytesOf(float32(1)))
	out.WriteByte(0)
	n := len(names)
	line := 8 + 4*n*width
	first := out.Len() + 8*height
	for y := range height {
		put(uint64(first + y*line))
	}
	row, values := make([]byte, 4*n*width), make([]float32, n)
	for y := range height {
		put([]int32{int32(y), int32(len(row))})
		for x := range width {
			pixel(x, y, values)
			for k, name := range sorted {
				binary.LittleEndian.PutUint32(row[4*(k*width+x):], math.Float32bits(values[slices.Index(names, name)]))
			}
		}
		out.Write(row)
	}
	return out.Bytes()
}
