package media

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"

	"jardin/core/colorspace"
)

// DecodeEXR returns channels of an OpenEXR file by name, by rows: of one part, by lines, not compressed or as ZIP, of halves or floats,
// as warps are kept. A file of another size than wanted is refused before anything is read.
func DecodeEXR(data []byte, width, height int, names ...string) ([][]float32, error) {
	h, err := parseEXR(data)
	if err != nil {
		return nil, err
	}
	switch {
	case h.Width != width || h.Height != height || *h.window != *h.display:
		return nil, fmt.Errorf("it is %d × %d pixels; the shot is %d × %d", h.Width, h.Height, width, height)
	case h.tiled || h.compression != exrNone && h.compression != exrZIPS && h.compression != exrZIP:
		return nil, errors.New("it is tiled, or compressed in another way than ZIP; save it by lines, as ZIP or not compressed")
	}
	line := 0
	at := make([]int, len(names)) // of a channel's samples in a line
	kinds := make([]int32, len(names))
	for k := range at {
		at[k] = -1
	}
	for _, c := range h.channels {
		if k := slices.Index(names, c.name); k >= 0 {
			if c.kind != 1 && c.kind != 2 {
				return nil, fmt.Errorf("its channel %s holds integers; save it as half or float", c.name)
			}
			at[k], kinds[k] = line, c.kind
		}
		if c.kind == 1 {
			line += 2 * width
		} else {
			line += 4 * width
		}
	}
	if k := slices.Index(at, -1); k >= 0 {
		return nil, fmt.Errorf("it has no channel %s", names[k])
	}
	if line > 16*4*width {
		return nil, errors.New("it has more than 16 channels")
	}
	out := make([][]float32, len(names))
	for k := range out {
		out[k] = make([]float32, width*height)
	}
	le := binary.LittleEndian
	lines := exrLines[h.compression]
	for k := range (height + lines - 1) / lines {
		entry := h.size + 8*k
		if entry+8 > len(data) {
			return nil, errShort
		}
		from := le.Uint64(data[entry:])
		if from > uint64(len(data)-8) {
			return nil, fmt.Errorf("its lines from %d on are missing", k*lines)
		}
		top, size := int64(int32(le.Uint32(data[from:])))-int64(h.window[1]), int64(int32(le.Uint32(data[from+4:])))
		if top != int64(k*lines) || size < 0 || size > int64(len(data))-int64(from)-8 {
			return nil, fmt.Errorf("its lines from %d on are damaged", k*lines)
		}
		n := min(lines, height-k*lines)
		block, err := unzipped(data[from+8:from+8+uint64(size)], n*line, h.compression)
		if err != nil {
			return nil, fmt.Errorf("its lines from %d on are damaged: %w", k*lines, err)
		}
		for y := range n {
			for c := range names {
				row, to := block[y*line+at[c]:], out[c][(k*lines+y)*width:(k*lines+y+1)*width]
				for x := range to {
					if kinds[c] == 1 {
						to[x] = colorspace.FromHalf(le.Uint16(row[2*x:]))
					} else {
						to[x] = math.Float32frombits(le.Uint32(row[4*x:]))
					}
				}
			}
		}
	}
	return out, nil
}

// unzipped undoes what exrBlock.pack does for files that are compressed as ZIP or not at all.
func unzipped(data []byte, size int, compression byte) ([]byte, error) {
	if compression == exrNone || len(data) == size {
		if len(data) != size {
			return nil, fmt.Errorf("%d bytes where %d are needed", len(data), size)
		}
		return data, nil
	}
	reader, err := zlib.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	packed := make([]byte, size)
	if _, err := io.ReadFull(reader, packed); err != nil {
		return nil, err
	}
	for i := 1; i < size; i++ {
		packed[i] += packed[i-1] - 128
	}
	out := make([]byte, size)
	half := (size + 1) / 2
	for i := range out {
		if i%2 == 0 {
			out[i] = packed[i/2]
		} else {
			out[i] = packed[half+i/2]
		}
	}
	return out, nil
}
