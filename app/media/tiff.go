package media

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"runtime"

	"github.com/hhrutter/lzw"

	"jardin/app/routines"
)

// Tags and compressions of TIFF (revision 6.0, 1992; deflate by its technical notes of 2002).
const (
	tiffCompression = 259
	tiffPredictor   = 317

	tiffNone     = 1
	tiffLZW      = 5
	tiffDeflate  = 8
	tiffPackBits = 32773
)

// A tiffHead is how a file's pixels are packed.
type tiffHead struct {
	compression uint16
	predicted   bool // the differences between neighbours are
}

func (h tiffHead) String() string {
	switch h.compression {
	case tiffNone:
		return "none"
	case tiffLZW:
		return "LZW"
	case tiffPackBits:
		return "PackBits"
	}
	return "deflate"
}

// readTIFF reads it from a file, or from what bytes returned.
func readTIFF(file io.ReaderAt) (h tiffHead, err error) {
	h.compression = tiffNone
	var head [8]byte
	if _, err := file.ReadAt(head[:], 0); err != nil {
		return h, errors.New("it ends within its header")
	}
	var order binary.ByteOrder = binary.LittleEndian
	if head[0] == 'M' {
		order = binary.BigEndian
	}
	at := int64(order.Uint32(head[4:]))
	var word [12]byte
	if _, err := file.ReadAt(word[:2], at); err != nil {
		return h, errors.New("it ends before its directory")
	}
	for i := range int64(order.Uint16(word[:])) {
		if _, err := file.ReadAt(word[:], at+2+12*i); err != nil {
			return h, errors.New("it ends within its directory")
		}
		switch v := order.Uint16(word[8:]); order.Uint16(word[:]) {
		case tiffCompression:
			h.compression = v
		case tiffPredictor:
			h.predicted = v == 2
		}
	}
	return h, nil
}

// bytes returns a directory that says this, and has no picture.
func (h tiffHead) bytes() []byte {
	predictor := uint32(1)
	if h.predicted {
		predictor = 2
	}
	return tiffDirectory(
		8,
		nil,
		[]tiffTag{{tiffCompression, 3, []uint32{uint32(h.compression)}}, {tiffPredictor, 3, []uint32{predictor}}},
	)
}

type tiffTag struct {
	tag, kind uint16   // kind: 3 for 16 bits, 4 for 32, 5 for a fraction of two
	values    []uint32 // of fractions two each
}

// tiffDirectory returns a file's header, its pixels, and the directory at byte at,
// low bytes first. Tags are in order.
func tiffDirectory(at int, pixels []byte, tags []tiffTag) []byte {
	le := binary.LittleEndian
	out := le.AppendUint32([]byte("II*\x00"), uint32(at))
	out = append(out, pixels...)
	for len(out) < at {
		out = append(out, 0)
	}
	out = le.AppendUint16(out, uint16(len(tags)))
	far := []byte(nil) // values that do not fit into the directory
	beyond := at + 2 + 12*len(tags) + 4
	for _, t := range tags {
		var value []byte
		for _, v := range t.values {
			if t.kind == 3 {
				value = le.AppendUint16(value, uint16(v))
			} else {
				value = le.AppendUint32(value, v)
			}
		}
		count := len(t.values)
		if t.kind == 5 {
			count /= 2
		}
		out = le.AppendUint16(out, t.tag)
		out = le.AppendUint16(out, t.kind)
		out = le.AppendUint32(out, uint32(count))
		if len(value) > 4 {
			out = le.AppendUint32(out, uint32(beyond+len(far)))
			far = append(far, value...)
		} else {
			out = append(out, append(value, make([]byte, 4-len(value))...)...)
		}
	}
	return append(append(out, 0, 0, 0, 0), far...)
}

// encodeTIFF returns a TIFF of RGB, or of RGBA with straight alpha, packed as h says:
// not, by LZW, or else by deflate. samples are by rows, of 16 bits with the low byte first.
func encodeTIFF(samples []byte, l Layout, h tiffHead) ([]byte, error) {
	stride := l.Width * l.Channels * l.Depth / 8
	if len(samples) != stride*l.Height || l.Width < 1 || l.Height < 1 {
		return nil, fmt.Errorf("encode a TIFF: %d bytes do not make %d x %d pixels", len(samples), l.Width, l.Height)
	}
	if h.compression != tiffNone && h.compression != tiffLZW {
		h.compression = tiffDeflate
	}
	h.predicted = h.predicted && h.compression != tiffNone
	lines := max(1, 128<<10/stride)
	strips := make([][]byte, (l.Height+lines-1)/lines)
	group, _ := routines.NewGroup(context.Background(), runtime.GOMAXPROCS(0))
	for k := range strips {
		group.Go(func() (err error) {
			strip := samples[k*lines*stride : min((k+1)*lines, l.Height)*stride]
			if h.predicted {
				strip = differences(strip, stride, l)
			}
			switch h.compression {
			case tiffLZW:
				var out bytes.Buffer
				z := lzw.NewWriter(&out, true)
				if _, err = z.Write(strip); err == nil {
					err = z.Close()
				}
				strip = out.Bytes()
			case tiffDeflate:
				strip, err = deflated(strip)
			}
			strips[k] = strip
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, fmt.Errorf("encode a TIFF: %w", err)
	}
	var pixels []byte
	var offsets, counts []uint32
	for _, s := range strips {
		offsets = append(offsets, uint32(8+len(pixels)))
		counts = append(counts, uint32(len(s)))
		pixels = append(pixels, s...)
	}
	depths := make([]uint32, l.Channels)
	for i := range depths {
		depths[i] = uint32(l.Depth)
	}
	tags := []tiffTag{
		{256, 4, []uint32{uint32(l.Width)}}, {257, 4, []uint32{uint32(l.Height)}}, {258, 3, depths},
		{tiffCompression, 3, []uint32{uint32(h.compression)}}, {262, 3, []uint32{2}}, // RGB
		{273, 4, offsets}, {277, 3, []uint32{uint32(l.Channels)}}, {278, 4, []uint32{uint32(lines)}}, {279, 4, counts},
		{282, 5, []uint32{72, 1}}, {283, 5, []uint32{72, 1}}, {284, 3, []uint32{1}}, {296, 3, []uint32{2}},
	}
	if h.predicted {
		tags = append(tags, tiffTag{tiffPredictor, 3, []uint32{2}})
	}
	if l.Channels == 4 {
		tags = append(tags, tiffTag{338, 3, []uint32{2}}) // straight alpha
	}
	return tiffDirectory((8+len(pixels)+1)/2*2, pixels, tags), nil
}

// differences takes from each sample that of the pixel on its left.
func differences(strip []byte, stride int, l Layout) []byte {
	out := make([]byte, len(strip))
	for y := 0; y < len(strip); y += stride {
		row, to := strip[y:y+stride], out[y:y+stride]
		if l.Depth == 8 {
			copy(to, row[:l.Channels])
			for i := l.Channels; i < stride; i++ {
				to[i] = row[i] - row[i-l.Channels]
			}
			continue
		}
		back := 2 * l.Channels
		copy(to, row[:back])
		for i := back; i < stride; i += 2 {
			binary.LittleEndian.PutUint16(
				to[i:],
				binary.LittleEndian.Uint16(row[i:])-binary.LittleEndian.Uint16(row[i-back:]),
			)
		}
	}
	return out
}
