package media

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"runtime"
	"slices"
	"strings"

	"jardin/app/routines"
	"jardin/core/colorspace"
)

// The OpenEXR file layout ("Technical Introduction to OpenEXR" and "OpenEXR File
// Layout", Academy Software Foundation).
const exrMagic = 20000630

// An exrChannel is one channel of a file.
type exrChannel struct {
	name string
	kind int32 // 0 for integers, 1 for halves, 2 for floats
}

// An exrHead is what an OpenEXR file's header says.
type exrHead struct {
	Width, Height int
	Samples
	compression byte
	channels    []exrChannel
	size        int       // of the header, in bytes
	listed      bool      // it says which channels there are
	window      *[4]int32 // of the pixels that it holds: left, top, right, bottom, all within
	display     *[4]int32 // of the picture
	columns     int       // of pixels
	rows        int
	tiled       bool
	extra       []byte // attributes that say nothing of how pixels are laid out, as they stand
	header
}

// structural attributes are written anew.
var structural = []string{
	"channels",
	"compression",
	"dataWindow",
	"displayWindow",
	"lineOrder",
	"tiles",
	"chunkCount",
	"type",
	"name",
	"version",
	"maxSamplesPerPixel",
	"preview",
	"dwaCompressionLevel",
}

var errShort = errors.New("it ends within its header")

// readEXR reads an OpenEXR file's header: all of the file, or its beginning.
func readEXR(data []byte) (*exrHead, error) {
	h, err := parseEXR(data)
	if err != nil {
		return nil, err
	}
	return h, h.choose()
}

// parseEXR reads a header, whatever channels it names.
func parseEXR(data []byte) (*exrHead, error) {
	le := binary.LittleEndian
	if len(data) < 8 || le.Uint32(data) != exrMagic {
		return nil, errors.New("it is no OpenEXR file")
	}
	flags := le.Uint32(data[4:]) >> 8
	if flags&0x18 != 0 {
		return nil, errors.New("it has several parts, or deep pixels; save it with one part of flat pixels")
	}
	h := &exrHead{tiled: flags&2 != 0}
	h.Aspect = 1
	h.Transfer = colorspace.Linear
	for at := 8; ; {
		begin := at
		name, kind, value, next, err := exrAttribute(data, at)
		if err != nil {
			return nil, err
		}
		at = next
		if name == "" {
			h.size = at
			break
		}
		if err := h.read(name, kind, value); err != nil {
			return nil, err
		}
		if !slices.Contains(structural, name) {
			h.extra = append(h.extra, data[begin:at]...)
		}
	}
	return h, h.measure()
}

// exrAttribute reads the attribute that begins at a place, and returns where the next one does.
// At the end of all it has no name.
func exrAttribute(data []byte, at int) (name, kind string, value []byte, next int, err error) {
	word := func() (s string) {
		if err == nil && at >= len(data) {
			err = errShort
		}
		if err != nil {
			return ""
		}
		end := bytes.IndexByte(data[at:min(len(data), at+256)], 0)
		if end < 0 {
			err = errShort
			return ""
		}
		s = string(data[at : at+end])
		at += end + 1
		return s
	}
	if name = word(); name == "" || err != nil {
		return "", "", nil, at, err
	}
	kind = word()
	if err == nil && at+4 > len(data) {
		err = errShort
	}
	if err != nil {
		return "", "", nil, at, err
	}
	size := int64(binary.LittleEndian.Uint32(data[at:]))
	at += 4
	if size > int64(len(data)-at) {
		return "", "", nil, at, errShort
	}
	return name, kind, data[at : at+int(size)], at + int(size), nil
}

// read takes in an attribute that matters here; all others are left as they are.
func (h *exrHead) read(name, kind string, v []byte) error {
	le := binary.LittleEndian
	box := func() *[4]int32 {
		var out [4]int32
		for i := range out {
			out[i] = int32(le.Uint32(v[4*i:]))
		}
		return &out
	}
	switch {
	case name == "channels" && kind == "chlist":
		return h.readChannels(v)
	case name == "compression" && len(v) == 1:
		h.compression = v[0]
	case name == "dataWindow" && len(v) == 16:
		h.window = box()
	case name == "displayWindow" && len(v) == 16:
		h.display = box()
	case name == "pixelAspectRatio" && len(v) == 4:
		if a := float64(math.Float32frombits(le.Uint32(v))); a > 0.01 && a < 100 {
			h.Aspect = a
		}
	case name == "framesPerSecond" && len(v) == 8:
		if rate := (Rational{int(int32(le.Uint32(v))), int(int32(le.Uint32(v[4:])))}); rate.Num > 0 && rate.Den > 0 {
			h.Rate = &rate
		}
	case name == "timeCode" && len(v) == 8:
		h.Timecode = timecode(le.Uint32(v) & 0x3f7f7f3f) // without its flags
	case name == "chromaticities" && len(v) == 32:
		h.Primaries = nearest(v)
	}
	return nil
}

func (h *exrHead) readChannels(v []byte) error {
	le := binary.LittleEndian
	h.listed = true
	for k := 0; k < len(v) && v[k] != 0; {
		end := bytes.IndexByte(v[k:], 0)
		if end < 0 || k+end+17 > len(v) {
			return errors.New("its list of channels is damaged")
		}
		h.channels = append(h.channels, exrChannel{string(v[k : k+end]), int32(le.Uint32(v[k+end+1:]))})
		if le.Uint32(v[k+end+9:]) != 1 || le.Uint32(v[k+end+13:]) != 1 {
			return errors.New(
				"it has channels at a part of its size (brightness and colour difference); save it as RGB",
			)
		}
		k += end + 17
	}
	return nil
}

// measure works out sizes from the windows.
func (h *exrHead) measure() error {
	if !h.listed || h.window == nil || h.display == nil {
		return errors.New("it lacks its channels or windows")
	}
	size := func(w *[4]int32) (width, height int64) {
		return int64(w[2]) - int64(w[0]) + 1, int64(w[3]) - int64(w[1]) + 1
	}
	width, height := size(h.display)
	if err := sensible(width, height); err != nil {
		return err
	}
	columns, rows := size(h.window)
	if err := sensible(columns, rows); err != nil {
		return err
	}
	h.Width, h.Height, h.columns, h.rows = int(width), int(height), int(columns), int(rows)
	if *h.window != *h.display {
		h.Note = "Its pixels do not fill the picture exactly: what lies beyond is left out, what is missing is black"
	}
	return nil
}

// choose finds colour and alpha among the channels, and refuses what cannot be read.
func (h *exrHead) choose() error {
	h.Samples = Samples{Depth: 16, Float: true}
	colours := 0
	for _, c := range h.channels {
		switch c.name {
		case "R", "G", "B":
			colours++
		case "A":
			h.Alpha = true
		default:
			h.Note = strings.TrimSpace(
				h.Note + " It has more channels than colour and alpha (" + c.name + "): they are left out.",
			)
			continue
		}
		switch c.kind {
		case 1:
		case 2:
			h.Depth = 32
		default:
			return fmt.Errorf("its channel %s holds integers; save it as half or float", c.name)
		}
	}
	if h.compression >= 8 && (h.Depth == 32 || h.columns%8 != 0) {
		// FFmpeg 5.1 gives quite other pixels then: a test against another library found it.
		return errors.New(
			"it is compressed as DWA, with float samples or a width that is not a multiple of 8, which is not read " +
				"rightly here; save it as ZIP or PIZ",
		)
	}
	if colours != 3 {
		return errors.New("it has no channels R, G and B; save it with these")
	}
	return nil
}

// whole returns an error if a file ends before the last of its lines: such files are
// otherwise read with black in their place.
func (h *exrHead) whole(f io.ReaderAt, size int64) error {
	if h.tiled || int(h.compression) >= len(exrCompressions) {
		return nil
	}
	lines := exrLines[h.compression]
	table := make([]byte, 8*((h.rows+lines-1)/lines))
	last := int64(0)
	if _, err := f.ReadAt(table, int64(h.size)); err != nil {
		return fmt.Errorf("it is cut short: it has %d bytes", size)
	}
	for i := 0; i < len(table); i += 8 {
		at := int64(binary.LittleEndian.Uint64(table[i:]))
		if at < int64(h.size) || at > size {
			return fmt.Errorf("it is cut short: it has %d bytes", size)
		}
		last = max(last, at)
	}
	var head [8]byte
	if _, err := f.ReadAt(head[:], last); err != nil || last+8+int64(binary.LittleEndian.Uint32(head[4:])) > size {
		return fmt.Errorf("it is cut short: it has %d bytes", size)
	}
	return nil
}

// nearest returns the primaries that chromaticities are; empty if they are none known.
func nearest(v []byte) colorspace.Primaries {
	for _, p := range colorspace.AllPrimaries {
		far := 0.0
		for i, want := range p.Chromaticities() {
			far = math.Max(far, math.Abs(want-float64(math.Float32frombits(binary.LittleEndian.Uint32(v[4*i:])))))
		}
		if far < 0.002 {
			return p
		}
	}
	return ""
}

// An exrPlane is one channel to be written.
type exrPlane struct {
	name string
	half bool
	row  func(y int, to []byte) // sets a line's samples; called from several goroutines
}

// encodeEXR returns an OpenEXR file of one part, by lines. extra are attributes as they
// stand in a file.
func encodeEXR(width, height int, compression byte, planes []exrPlane, extra []byte) ([]byte, error) {
	var out bytes.Buffer
	put := func(v any) { _ = binary.Write(&out, binary.LittleEndian, v) } // into memory: nothing can fail
	bytesOf := func(v any) []byte {
		var data bytes.Buffer
		_ = binary.Write(&data, binary.LittleEndian, v)
		return data.Bytes()
	}
	attribute := func(name, kind string, data []byte) {
		out.WriteString(name + "\x00" + kind + "\x00")
		put(int32(len(data)))
		out.Write(data)
	}
	// Channels stand in the order of the alphabet.
	planes = slices.SortedFunc(
		slices.Values(planes),
		func(a, b exrPlane) int { return strings.Compare(a.name, b.name) },
	)
	var channels bytes.Buffer
	line := 0
	for _, p := range planes {
		kind, size := int32(2), 4
		if p.half {
			kind, size = 1, 2
		}
		line += size * width
		channels.WriteString(p.name + "\x00")
		channels.Write(bytesOf([]int32{kind, 0, 1, 1}))
	}
	channels.WriteByte(0)
	put(uint32(exrMagic))
	put(uint32(2)) // single part, by lines
	window := bytesOf([]int32{0, 0, int32(width - 1), int32(height - 1)})
	attribute("channels", "chlist", channels.Bytes())
	attribute("compression", "compression", []byte{compression})
	attribute("dataWindow", "box2i", window)
	attribute("displayWindow", "box2i", window)
	attribute("lineOrder", "lineOrder", []byte{0})
	for _, a := range []struct {
		name, kind string
		value      any
	}{{"pixelAspectRatio", "float", float32(1)}, {"screenWindowCenter", "v2f", []float32{0, 0}}, {"screenWindowWidth",
		"float", float32(1)}} {
		if !bytes.Contains(extra, []byte(a.name+"\x00"+a.kind+"\x00")) {
			attribute(a.name, a.kind, bytesOf(a.value))
		}
	}
	out.Write(extra)
	out.WriteByte(0)
	lines := exrLines[compression]
	chunks := (height + lines - 1) / lines
	table := out.Len()
	out.Write(make([]byte, 8*chunks))
	var half []bool
	for _, p := range planes {
		half = append(half, p.half)
	}
	packed := make([][]byte, chunks)
	group, _ := routines.NewGroup(context.Background(), runtime.GOMAXPROCS(0))
	for k := range chunks {
		group.Go(func() (err error) {
			n := min(lines, height-k*lines)
			block := exrBlock{make([]byte, n*line), width, n, half}
			y, next := k*lines, 0
			block.rows(func(c int, row []byte) {
				planes[c].row(y, row)
				if next++; next%len(planes) == 0 {
					y++
				}
			})
			packed[k], err = block.pack(compression)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for k, data := range packed {
		binary.LittleEndian.PutUint64(out.Bytes()[table+8*k:], uint64(out.Len()))
		put([]int32{int32(k * lines), int32(len(data))})
		out.Write(data)
	}
	return out.Bytes(), nil
}

// EncodeEXR returns an OpenEXR file with float channels of the given names, packed as ZIP or as they are. pixel
// sets a pixel's values, in the order of names; it is called from several goroutines.
func EncodeEXR(width, height int, packed bool, names []string, pixel func(x, y int, out []float32)) []byte {
	var planes []exrPlane
	for k, name := range names {
		planes = append(planes, exrPlane{name: name, row: func(y int, to []byte) {
			values := make([]float32, len(names))
			for x := range width {
				pixel(x, y, values)
				binary.LittleEndian.PutUint32(to[4*x:], math.Float32bits(values[k]))
			}
		}})
	}
	compression := byte(exrNone)
	if packed {
		compression = exrZIP
	}
	data, err := encodeEXR(width, height, compression, planes, nil)
	if err != nil {
		panic(err) // only packing can fail
	}
	return data
}

// EncodeFrameEXR returns a frame of floats as an OpenEXR file: with the attributes of
// the file that it came from, if that was one, and compressed as that was; but B44 and
// DWA, which would change pixels that nobody touched once more, become ZIP.
func EncodeFrameEXR(f *Frame, p colorspace.Primaries) ([]byte, error) {
	if !f.Float {
		return nil, fmt.Errorf("OpenEXR holds floats, not %s", f.Samples)
	}
	compression, extra := byte(exrZIP), []byte(nil)
	if h, err := readEXR(f.Head); err == nil {
		extra = h.extra
		if h.compression <= exrPXR24 {
			compression = h.compression
		}
	} else if p != colorspace.BT709Primaries && p != "" {
		var values bytes.Buffer
		for _, v := range p.Chromaticities() {
			_ = binary.Write(&values, binary.LittleEndian, float32(v))
		}
		extra = append([]byte("chromaticities\x00chromaticities\x00\x20\x00\x00\x00"), values.Bytes()...)
	}
	if v, ok := digitsOf(f.Timecode); ok && !bytes.Contains(extra, []byte("timeCode\x00timecode\x00")) {
		if strings.Contains(f.Timecode, ";") {
			v |= 1 << 6 // numbers are dropped
		}
		extra = append(slices.Clone(extra), "timeCode\x00timecode\x00\x08\x00\x00\x00"...)
		extra = binary.LittleEndian.AppendUint32(extra, v)
		extra = binary.LittleEndian.AppendUint32(extra, 0) // user's data
	}
	return encodeEXR(f.Width, f.Height, compression, f.planes(), extra)
}

// planes returns the channels of a frame of floats.
func (f *Frame) planes() []exrPlane {
	half := f.Depth == 16
	plane := func(name string, n, k int, codes []uint16, floats []float32) exrPlane {
		return exrPlane{name, half, func(y int, to []byte) {
			for x := range f.Width {
				i := n*(y*f.Width+x) + k
				if half {
					binary.LittleEndian.PutUint16(to[2*x:], codes[i])
				} else {
					binary.LittleEndian.PutUint32(to[4*x:], math.Float32bits(floats[i]))
				}
			}
		}}
	}
	planes := []exrPlane{
		plane("R", 3, 0, f.Codes, f.Floats),
		plane("G", 3, 1, f.Codes, f.Floats),
		plane("B", 3, 2, f.Codes, f.Floats),
	}
	if f.Alpha != nil {
		planes = append(planes, plane("A", 1, 0, f.Alpha.Codes, f.Alpha.Floats))
	}
	return planes
}
