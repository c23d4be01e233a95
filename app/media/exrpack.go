package media

import (
	"bytes"
	"encoding/binary"

	"github.com/klauspost/compress/zlib"
)

// Compressions of OpenEXR; their numbers are the file's.
const (
	exrNone  = 0
	exrRLE   = 1
	exrZIPS  = 2
	exrZIP   = 3
	exrPIZ   = 4
	exrPXR24 = 5
)

var exrCompressions = []string{"none", "RLE", "ZIPS", "ZIP", "PIZ", "PXR24", "B44", "B44A", "DWAA", "DWAB"}

// exrLines is how many lines of each are packed together.
var exrLines = []int{1, 1, 1, 16, 32, 16, 32, 32, 32, 256}

// An exrBlock is some lines of a picture: line by line, in each the channels one after
// the other, low byte first.
type exrBlock struct {
	data  []byte
	width int
	lines int
	half  []bool // by channel: samples of 16 bits, else of 32
}

// rows calls f for every channel of every line.
func (b *exrBlock) rows(f func(channel int, row []byte)) {
	rest := b.data
	for range b.lines {
		for c, half := range b.half {
			n := 4 * b.width
			if half {
				n /= 2
			}
			f(c, rest[:n])
			rest = rest[n:]
		}
	}
}

// pack compresses a block. What does not become smaller is returned as it is, as the
// format has it.
func (b *exrBlock) pack(compression byte) (out []byte, err error) {
	switch compression {
	case exrNone:
		return b.data, nil
	case exrRLE:
		out = runs(b.predicted())
	case exrZIPS, exrZIP:
		out, err = deflated(b.predicted())
	case exrPIZ:
		out = b.piz()
	case exrPXR24:
		out, err = deflated(b.planes24())
	}
	if err != nil || len(out) >= len(b.data) {
		return b.data, err
	}
	return out, nil
}

// predicted sorts bytes into even and odd ones and takes the differences between
// neighbours: what ZIP, ZIPS and RLE pack.
func (b *exrBlock) predicted() []byte {
	out := make([]byte, len(b.data))
	half := (len(out) + 1) / 2
	for i, v := range b.data {
		if i%2 == 0 {
			out[i/2] = v
		} else {
			out[half+i/2] = v
		}
	}
	last := int(out[0])
	for i := 1; i < len(out); i++ {
		d := int(out[i]) - last + 128 + 256
		last = int(out[i])
		out[i] = byte(d)
	}
	return out
}

func deflated(data []byte) ([]byte, error) {
	var out bytes.Buffer
	z := packers.Get().(*zlib.Writer)
	defer packers.Put(z)
	z.Reset(&out)
	if _, err := z.Write(data); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// runs packs as OpenEXR's RLE does: a count and the byte that is repeated once more than
// that, or the number of bytes that follow as they are, negative.
func runs(data []byte) (out []byte) {
	const least, most = 3, 127
	same := func(from int) int { // bytes alike from here on
		to := from + 1
		for to < len(data) && data[to] == data[from] && to-from <= most {
			to++
		}
		return to - from
	}
	for at := 0; at < len(data); {
		if n := same(at); n >= least {
			out = append(out, byte(n-1), data[at])
			at += n
			continue
		}
		end := at + 1
		for end < len(data) && end-at < most && same(end) < least {
			end++
		}
		out = append(out, byte(at-end))
		out = append(out, data[at:end]...)
		at = end
	}
	return out
}

// planes24 takes the differences along each row, as PXR24 does, and sorts their bytes
// by weight; floats lose their lowest byte.
func (b *exrBlock) planes24() (out []byte) {
	b.rows(func(c int, row []byte) {
		weights := 3
		if b.half[c] {
			weights = 2
		}
		from, last := len(out), uint32(0)
		out = append(out, make([]byte, weights*b.width)...)
		for x := range b.width {
			var v uint32
			if b.half[c] {
				v = uint32(binary.LittleEndian.Uint16(row[2*x:]))
			} else {
				v = float24(binary.LittleEndian.Uint32(row[4*x:]))
			}
			d := v - last
			last = v
			for k := range weights {
				out[from+k*b.width+x] = byte(d >> (8 * (weights - 1 - k)))
			}
		}
	})
	return out
}

// float24 rounds the bits of a float to 24. What was rounded once is not changed again.
func float24(bits uint32) uint32 {
	sign, exponent, mantissa := bits>>31<<23, bits&0x7f800000, bits&0x007fffff
	if exponent == 0x7f800000 {
		v := exponent>>8 | mantissa>>8
		if mantissa != 0 && mantissa>>8 == 0 {
			v |= 1 // it stays no number
		}
		return sign | v
	}
	v := exponent | mantissa
	if up := v + v&0x80; up < 0x7f800000 { // else it would become infinite
		v = up
	}
	return sign | v>>8
}
