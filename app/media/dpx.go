package media

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/bits"
	"slices"

	"jardin/core/colorspace"
	"jardin/core/raster"
	"jardin/core/simd"
)

// Where things stand in the header of a DPX file (SMPTE 268M-2003, tables 1 to 5).
const (
	dpxMagic      = 0x53445058 // "SDPX"
	dpxGeneric    = 2048       // bytes of all headers but the user's
	dpxShortest   = 1664       // of those that must be there: film and television may be missing
	dpxOffset     = 4
	dpxVersion    = 8
	dpxFileSize   = 16
	dpxName       = 36
	dpxElements   = 770
	dpxSize       = 772
	dpxElement    = 780 // the first of eight, of 72 bytes each
	dpxDescriptor = dpxElement + 20
	dpxTransfer   = dpxElement + 21
	dpxColour     = dpxElement + 22
	dpxBits       = dpxElement + 23
	dpxPacking    = dpxElement + 24
	dpxEncoding   = dpxElement + 26
	dpxData       = dpxElement + 28
	dpxPadding    = dpxElement + 32 // bytes at the end of each line
	dpxOrient     = 768
	dpxAspect     = 1628
	dpxFilmRate   = 1724
	dpxTimecode   = 1920
	dpxRate       = 1940
)

// descriptors of elements
const (
	dpxRGB  = 50
	dpxRGBA = 51
)

// A dpxHead is what a DPX file's header says.
type dpxHead struct {
	Width, Height int
	Samples
	order      binary.ByteOrder
	descriptor byte
	packing    uint16
	data       int // where pixels begin
	padding    int // bytes at the end of each line
	bottomUp   bool
	header
}

// A header is what a file says besides its pixels, as far as it is known.
type header struct {
	Alpha     bool
	Aspect    float64 // of a pixel, width to height
	Rate      *Rational
	Timecode  string
	Transfer  colorspace.Transfer
	Primaries colorspace.Primaries
	Note      string // what the artist should know
}

// readDPX reads a DPX file's header: all of the file, or its beginning.
func readDPX(head []byte) (*dpxHead, error) {
	if len(head) < dpxShortest {
		return nil, errors.New("it ends within its header")
	}
	h := &dpxHead{order: binary.BigEndian}
	if h.order.Uint32(head) != dpxMagic {
		h.order = binary.LittleEndian
	}
	if h.order.Uint32(head) != dpxMagic {
		return nil, errors.New("it is no DPX file")
	}
	width, height := h.order.Uint32(head[dpxSize:]), h.order.Uint32(head[dpxSize+4:])
	if err := sensible(int64(width), int64(height)); err != nil {
		return nil, err
	}
	h.Width, h.Height = int(width), int(height)
	h.Depth = int(head[dpxBits])
	h.descriptor = head[dpxDescriptor]
	h.packing = h.order.Uint16(head[dpxPacking:])
	h.data = int(min(h.order.Uint32(head[dpxOffset:]), math.MaxInt32))
	switch {
	case h.order.Uint16(head[dpxElements:]) != 1:
		return nil, errors.New("its channels stand in several elements; save it with one, RGB or RGBA")
	case h.descriptor != dpxRGB && h.descriptor != dpxRGBA:
		return nil, fmt.Errorf("its pixels are of kind %d; RGB (50) and RGBA (51) can be read", h.descriptor)
	case h.order.Uint16(head[dpxEncoding:]) == 1:
		return nil, errors.New("it is run-length encoded; save it without")
	case h.Samples.Valid() != nil || h.Depth == 32:
		return nil, fmt.Errorf("it has %d bits a sample; 8, 10, 12 and 16 can be read", h.Depth)
	case h.order.Uint32(head[dpxElement:]) == 1:
		return nil, errors.New("its samples have signs; save it with unsigned ones")
	case h.orientation(head) != 0 && h.orientation(head) != 2:
		return nil, fmt.Errorf(
			"its lines run another way than from left to right (orientation %d); save it turned as it is meant",
			h.orientation(head),
		)
	case h.data < dpxShortest:
		return nil, fmt.Errorf("it says that its pixels begin at byte %d, within its header", h.data)
	}
	// All bits set is "not known"; so much padding that a line would be longer than any is none.
	if v := h.order.Uint32(head[dpxPadding:]); v < 1<<16 {
		h.padding = int(v)
	}
	h.bottomUp = h.orientation(head) == 2
	if (h.padding > 0 || h.bottomUp) && !h.plain() {
		return nil, fmt.Errorf(
			"its lines are padded or begin at the bottom, and its %d bits are packed as is rarely done; save it "+
				"without either",
			h.Depth,
		)
	}
	h.Alpha = h.descriptor == dpxRGBA
	h.Aspect = 1
	if a, b := h.order.Uint32(head[dpxAspect:]), h.order.Uint32(head[dpxAspect+4:]); a > 0 && b > 0 && a < 1e5 &&
		b < 1e5 {
		h.Aspect = float64(a) / float64(b)
	}
	said := min(len(head), h.data)
	for _, at := range []int{dpxRate, dpxFilmRate} {
		if at+4 > said {
			continue
		}
		if v := float64(math.Float32frombits(h.order.Uint32(head[at:]))); v >= 1 && v <= 1000 && h.Rate == nil {
			rate := rational(v)
			h.Rate = &rate
		}
	}
	if dpxTimecode+4 <= said {
		h.Timecode = timecode(h.order.Uint32(head[dpxTimecode:]))
	}
	switch head[dpxTransfer] {
	case 2:
		h.Transfer = colorspace.Linear
	case 5, 6, 7, 8:
		h.Transfer = colorspace.BT709
	case 1, 3:
		h.Note = "Its header says that its code values are densities or logarithms: choose how they relate to light"
	}
	return h, nil
}

// orientation is which way lines run: 0 from left to right, from the top down; 2 from the
// bottom up (SMPTE 268M-2003, table 2).
func (h *dpxHead) orientation(head []byte) uint16 {
	v := h.order.Uint16(head[dpxOrient:])
	if v == 0xffff {
		return 0 // not known
	}
	return v
}

// line is how many bytes a line takes without its padding.
func (h *dpxHead) line() int {
	n := 3
	if h.descriptor == dpxRGBA {
		n = 4
	}
	return dpxBytes(h.Width, 1, n, h.Depth)
}

// rows copies the lines of a file that pads them, or begins with the lowest, into the order
// of those that do neither.
func (h *dpxHead) rows(data []byte) []byte {
	line := h.line()
	if (h.padding == 0 && !h.bottomUp) || len(data) < h.data+h.Height*(line+h.padding)-h.padding {
		return data // as it is, or cut short, which whoever reads it says
	}
	out := slices.Clone(data[:h.data])
	for y := range h.Height {
		if h.bottomUp {
			y = h.Height - 1 - y
		}
		from := h.data + y*(line+h.padding)
		out = append(out, data[from:from+line]...)
	}
	return out
}

// timecode returns eight digits in binary-coded decimals as hh:mm:ss:ff (SMPTE 12M);
// empty if they are none.
func timecode(v uint32) string {
	for shift := 0; shift < 32; shift += 4 {
		if v>>shift&15 > 9 {
			return ""
		}
	}
	return fmt.Sprintf("%02x:%02x:%02x:%02x", v>>24, v>>16&255, v>>8&255, v&255)
}

// digitsOf returns a written timecode as DPX and OpenEXR keep it.
func digitsOf(text string) (v uint32, ok bool) {
	t, ok := ParseTimecode(text, Rational{100, 1}) // any rate: its digits are what counts
	if !ok {
		return 0, false
	}
	return t.digits()
}

// rational returns a rate as a fraction: the thousand-and-firsts of television where
// they fit.
func rational(v float64) Rational {
	for _, whole := range []int{24, 30, 48, 60, 120} {
		if math.Abs(v-float64(whole)*1000/1001) < 0.002 {
			return Rational{whole * 1000, 1001}
		}
	}
	if math.Abs(v-math.Round(v)) < 1e-4 {
		return Rational{int(math.Round(v)), 1}
	}
	return Rational{int(math.Round(v * 1000)), 1000}
}

// EncodeDPX returns the frame as a DPX file (SMPTE 268M-2003): with the header of the
// file that it came from, if that was one, else with a plain one. Samples are packed as
// that was, or three of 10 bits to a word (method A), others in words of 16.
func EncodeDPX(f *Frame, t colorspace.Transfer, name string) ([]byte, error) {
	if f.Float {
		return nil, fmt.Errorf("DPX holds no %ss; choose 10, 12 or 16 bits", f.Samples)
	}
	order, packing, data := binary.ByteOrder(binary.BigEndian), uint16(1), dpxGeneric
	var out []byte
	if h, err := readDPX(f.Head); err == nil && h.data <= len(f.Head) {
		order, data = h.order, h.data
		out = bytes.Clone(f.Head[:h.data])
		if h.packing == 2 && f.Depth == 10 {
			packing = 2
		}
	} else {
		out = newDPXHead(order, f, t, name)
	}
	// The file's own timecode stays; where it had none, the shot's is put in.
	if v, ok := digitsOf(f.Timecode); ok && data >= dpxTimecode+4 && timecode(order.Uint32(out[dpxTimecode:])) == "" {
		order.PutUint32(out[dpxTimecode:], v)
	}
	order.PutUint32(out, dpxMagic)
	order.PutUint32(out[dpxOffset:], uint32(data))
	order.PutUint32(out[dpxSize:], uint32(f.Width))
	order.PutUint32(out[dpxSize+4:], uint32(f.Height))
	order.PutUint16(out[dpxElements:], 1)
	order.PutUint16(out[dpxEncoding:], 0)
	order.PutUint32(out[dpxData:], uint32(data))
	if h, err := readDPX(f.Head); err == nil && (h.padding > 0 || h.bottomUp) {
		order.PutUint16(out[dpxOrient:], 0) // lines leave from the top down, without padding
		order.PutUint32(out[dpxPadding:], 0)
	}
	out[dpxBits] = byte(f.Depth)
	n := 3
	out[dpxDescriptor] = dpxRGB
	if f.Alpha != nil {
		if f.Depth == 10 {
			return nil, errors.New("a DPX of 10 bits has no room for alpha here; choose 16 bits, or leave alpha out")
		}
		out[dpxDescriptor], n = dpxRGBA, 4
	}
	if f.Depth == 8 || f.Depth == 16 {
		packing = 0
	}
	order.PutUint16(out[dpxPacking:], packing)
	size := dpxBytes(f.Width, f.Height, n, f.Depth)
	order.PutUint32(out[dpxFileSize:], uint32(min(data+size, math.MaxUint32)))
	big := order == binary.ByteOrder(binary.BigEndian)
	if f.words != nil && packing == 1 && big {
		return slices.Concat(out, f.words), nil
	}
	f = f.Unpacked()
	out = append(make([]byte, 0, data+size), out...)[:data+size]
	pix := out[data:]
	line := len(pix) / f.Height
	raster.Rows(0, f.Height, func(y int) {
		row := pix[y*line : (y+1)*line]
		codes := f.Codes[3*y*f.Width : 3*(y+1)*f.Width]
		if n == 3 && f.Depth == 16 {
			if big {
				simd.ToBigEndian(row, codes)
			} else {
				simd.ToLittleEndian(row, codes)
			}
			return
		}
		at := func(i int) uint16 { return codes[i] }
		if n == 4 {
			alpha := f.Alpha.Codes[y*f.Width : (y+1)*f.Width]
			at = func(i int) uint16 {
				if i%4 == 3 {
					return alpha[i/4]
				}
				return codes[i/4*3+i%4]
			}
		}
		switch f.Depth {
		case 8:
			for i := range n * f.Width {
				row[i] = byte(at(i))
			}
		case 10:
			if packing == 1 && big {
				packWords(codes, row)
				return
			}
			shift := uint(2)
			if packing == 2 {
				shift = 0
			}
			for x := range f.Width {
				from := codes[3*x : 3*x+3 : 3*x+3]
				v := (uint32(from[0])<<20 | uint32(from[1])<<10 | uint32(from[2])) << shift
				if big {
					v = bits.ReverseBytes32(v)
				}
				binary.LittleEndian.PutUint32(row[4*x:], v)
			}
		case 12:
			for i := range n * f.Width {
				order.PutUint16(row[2*i:], at(i)<<4)
			}
		default:
			for i := range n * f.Width {
				order.PutUint16(row[2*i:], at(i))
			}
		}
	})
	return out, nil
}

// newDPXHead returns the head of a frame that came from no DPX file.
func newDPXHead(order binary.ByteOrder, f *Frame, t colorspace.Transfer, name string) []byte {
	out := bytes.Repeat([]byte{0xff}, dpxGeneric) // all bits set: not known
	copy(out[dpxVersion:], "V2.0\x00\x00\x00\x00")
	clear(out[dpxName : dpxName+100+24+100+200+200]) // name, date, who made it
	copy(out[dpxName:], name)
	copy(out[dpxName+124:], "Jardin")
	order.PutUint32(out[20:], 1) // ditto key: new
	order.PutUint32(out[24:], 1664)
	order.PutUint32(out[28:], 384)
	order.PutUint32(out[32:], 0)
	order.PutUint16(out[dpxElements-2:], 0) // left to right, top to bottom
	order.PutUint16(out[dpxElements:], 1)
	order.PutUint32(out[dpxElement:], 0) // unsigned
	out[dpxTransfer], out[dpxColour] = 6, 6
	if t == colorspace.Linear {
		out[dpxTransfer] = 2
	}
	order.PutUint32(out[dpxElement+4:], 0)
	order.PutUint32(out[dpxElement+12:], uint32(f.Max()))
	order.PutUint32(out[dpxAspect:], 1)
	order.PutUint32(out[dpxAspect+4:], 1)
	order.PutUint16(out[dpxEncoding:], 0)
	order.PutUint32(out[dpxElement+32:], 0) // no padding at line ends
	order.PutUint32(out[dpxElement+36:], 0)
	return out
}

// plain reports whether a file is RGB or RGBA, of a depth and packing that EncodeDPX
// writes: unpacking that takes less time than to hand whole frames through a pipe. All
// others FFmpeg reads.
func (h *dpxHead) plain() bool {
	switch h.Depth {
	case 10:
		return h.descriptor == dpxRGB && (h.packing == 1 || h.packing == 2)
	case 12:
		return h.packing == 1
	}
	return true
}

// decodeDPX reads a plain DPX file. The frame keeps data, which is changed; of 10 bits it
// comes packed.
func decodeDPX(data []byte, h *dpxHead) (f *Frame, err error) {
	n := 3
	if h.descriptor == dpxRGBA {
		n = 4
	}
	data = h.rows(data)
	size := dpxBytes(h.Width, h.Height, n, h.Depth)
	if h.data+size > len(data) {
		return nil, fmt.Errorf("it is cut short: %d bytes of %d", len(data), h.data+size)
	}
	f = &Frame{Width: h.Width, Height: h.Height, Samples: h.Samples, Head: bytes.Clone(data[:h.data])}
	line := size / h.Height
	big := h.order == binary.ByteOrder(binary.BigEndian)
	if h.Depth == 10 {
		f.words = data[h.data : h.data+size]
		raster.Rows(0, h.Height, func(y int) {
			row := f.words[y*line : (y+1)*line]
			switch {
			case !big && h.packing == 1:
				for ; len(row) >= 4; row = row[4:] {
					binary.BigEndian.PutUint32(row, binary.LittleEndian.Uint32(row))
				}
			case h.packing == 2:
				for ; len(row) >= 4; row = row[4:] {
					binary.BigEndian.PutUint32(row, h.order.Uint32(row)<<2)
				}
			}
		})
		return f, nil
	}
	f.Codes = make([]uint16, 3*h.Width*h.Height)
	if n == 4 {
		f.Alpha = &Alpha{Codes: make([]uint16, h.Width*h.Height)}
	}
	raster.Rows(0, h.Height, func(y int) {
		row := data[h.data+y*line : h.data+(y+1)*line]
		codes := f.Codes[3*y*h.Width : 3*(y+1)*h.Width]
		if n == 3 && h.Depth == 16 {
			if big {
				simd.FromBigEndian(codes, row)
			} else {
				simd.FromLittleEndian(codes, row)
			}
			return
		}
		for i := range n * h.Width {
			var v uint16
			if h.Depth == 8 {
				v = uint16(row[i])
			} else {
				v = binary.LittleEndian.Uint16(row[2*i:])
				if big {
					v = bits.ReverseBytes16(v)
				}
				if h.Depth == 12 {
					v >>= 4
				}
			}
			switch {
			case n == 3:
				codes[i] = v
			case i%4 == 3:
				f.Alpha.Codes[y*h.Width+i/4] = v
			default:
				codes[i/4*3+i%4] = v
			}
		}
	})
	return f, nil
}

// packWords packs pixels of 10 bits as DPX mostly does: three samples from a word's top,
// the first byte the highest (SMPTE 268M-2003, annex C, method A).
func packWords(codes []uint16, data []byte) {
	for ; len(codes) >= 3 && len(data) >= 4; codes, data = codes[3:], data[4:] {
		binary.BigEndian.PutUint32(data, uint32(codes[0])<<22|uint32(codes[1])<<12|uint32(codes[2])<<2)
	}
}

// unpackWords is its inverse.
func unpackWords(data []byte, codes []uint16) {
	for ; len(codes) >= 3 && len(data) >= 4; codes, data = codes[3:], data[4:] {
		v := binary.BigEndian.Uint32(data)
		codes[0], codes[1], codes[2] = uint16(v>>22), uint16(v>>12&1023), uint16(v>>2&1023)
	}
}

// dpxBytes is how many bytes pixels take; lines begin at words of 32 bits.
func dpxBytes(width, height, n, depth int) int {
	line := n * width
	switch depth {
	case 10:
		line = 4 * width
	case 12, 16:
		line *= 2
	}
	return (line + 3) / 4 * 4 * height
}

// sensible refuses sizes before memory is taken for them.
func sensible(width, height int64) error {
	if width < 1 || height < 1 || width > MaxSide || height > MaxSide {
		return fmt.Errorf(
			"it says that it is %d x %d pixels; at most %d x %d can be read",
			width,
			height,
			MaxSide,
			MaxSide,
		)
	}
	return nil
}
