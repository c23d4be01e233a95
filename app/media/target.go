package media

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"path/filepath"

	"jardin/core/colorspace"
	"jardin/core/simd"
)

// A Target is a format that frames are written in, and what samples.
type Target struct {
	Format string `json:"format" enum:"png,tiff,jpeg,exr,dpx"`
	Depth  int    `json:"depth" doc:"Bits a sample"`
	Float  bool   `json:"float,omitempty" doc:"Samples are floats"`
}

// targets lists what each format can hold.
var targets = map[string][]Samples{
	"png":  {{8, false}, {16, false}},
	"tiff": {{8, false}, {16, false}},
	"jpeg": {{8, false}},
	"exr":  {{16, true}, {32, true}},
	"dpx":  {{8, false}, {10, false}, {12, false}, {16, false}},
}

// Samples returns what its code values are.
func (t Target) Samples() Samples { return Samples{t.Depth, t.Float} }

// Valid returns an error if a format cannot hold such samples.
func (t Target) Valid() error {
	can, ok := targets[t.Format]
	if !ok {
		return fmt.Errorf("%q is not a format that frames are written in: png, tiff, jpeg, exr and dpx are", t.Format)
	}
	for _, s := range can {
		if s == t.Samples() {
			return nil
		}
	}
	return fmt.Errorf("%s holds no samples of %s: it holds %v", t.Format, t.Samples(), can)
}

// Ending returns that of its files' names.
func (t Target) Ending() string {
	return map[string]string{"png": "png", "tiff": "tif", "jpeg": "jpg", "exr": "exr", "dpx": "dpx"}[t.Format]
}

// TargetOf returns the format that a shot came in, or for a movie the PNG that holds
// its frames.
func TargetOf(format string, s Samples) Target {
	t := Target{
		map[string]string{"PNG": "png", "TIFF": "tiff", "JPEG": "jpeg", "EXR": "exr", "DPX": "dpx"}[format],
		s.Depth,
		s.Float,
	}
	if t.Valid() != nil {
		t = Target{"png", 16, false}
		if s.Float {
			t = Target{"exr", s.Depth, true}
		} else if s.Depth == 8 {
			t.Depth = 8
		}
	}
	return t
}

// jpegQuality is that of frames that leave as JPEG.
const jpegQuality = 97

// Encode returns a frame of a shot as a file. Code values that the format can hold are
// kept; others are scaled where both are integers, and else go by their light, which
// is what floats then hold.
func (t Target) Encode(f *Frame, s Shot, name string) ([]byte, error) {
	transfer := s.Transfer
	if t.Format != "dpx" || f.Samples != t.Samples() {
		f = f.Unpacked()
	}
	if f.Samples != t.Samples() {
		if t.Float {
			transfer = colorspace.Linear
		}
		f = f.as(t.Samples(), s.Transfer, transfer)
	}
	switch t.Format {
	case "exr":
		return EncodeFrameEXR(f, s.Primaries)
	case "dpx":
		return EncodeDPX(f, transfer, name)
	case "png":
		return EncodePNG(f.samples(binary.BigEndian), f.layout())
	}
	if t.Format == "jpeg" {
		if f.Alpha != nil {
			return nil, errors.New("JPEG has no alpha; choose another format")
		}
		return encodeJPEG(f.samples(binary.BigEndian), f.Width, f.Height, jpegQuality, turboWhole)
	}
	h, err := readTIFF(bytes.NewReader(f.Head))
	if err != nil { // it came from elsewhere
		h = tiffHead{tiffDeflate, true}
	}
	return encodeTIFF(f.samples(binary.LittleEndian), f.layout(), h)
}

// layout says what the samples of a frame of integers are.
func (f *Frame) layout() Layout {
	channels := 3
	if f.Alpha != nil {
		channels = 4
	}
	return Layout{f.Width, f.Height, channels, f.Depth}
}

// Write writes a frame as a file, whole or not at all.
func (t Target) Write(path string, f *Frame, s Shot) error {
	data, err := t.Encode(f, s, filepath.Base(path))
	if err != nil {
		return err
	}
	return writeWhole(path, data)
}

// samples returns integer samples with alpha beside them.
func (f *Frame) samples(order binary.ByteOrder) []byte {
	channels, n := f.layout().Channels, f.Width*f.Height
	out := make([]byte, channels*n*f.Bytes())
	if channels == 3 {
		switch {
		case f.Depth == 8:
			simd.Narrow(out, f.Codes)
		case order == binary.ByteOrder(binary.BigEndian):
			simd.ToBigEndian(out, f.Codes)
		default:
			simd.ToLittleEndian(out, f.Codes)
		}
		return out
	}
	for i := range n {
		for c := range channels {
			v := uint16(0)
			if c < 3 {
				v = f.Codes[3*i+c]
			} else {
				v = f.Alpha.Codes[i]
			}
			if f.Depth == 8 {
				out[channels*i+c] = byte(v)
			} else {
				order.PutUint16(out[2*(channels*i+c):], v)
			}
		}
	}
	return out
}

// as returns the frame with other samples. Its light is encoded anew by to where
// floats come or go.
func (f *Frame) as(s Samples, from, to colorspace.Transfer) *Frame {
	out := NewFrame(f.Width, f.Height, s)
	out.Head = f.Head
	switch {
	case !f.Float && !s.Float:
		for i, v := range f.Codes {
			out.Codes[i] = scaled(v, f.Max(), s.Max())
		}
	case f.Float && s.Float && from == to:
		for i := range 3 * f.Width * f.Height {
			if s.Depth == 16 {
				out.Codes[i] = colorspace.ToHalf(f.float(i))
			} else {
				out.Floats[i] = f.float(i)
			}
		}
	default:
		light := f.Linear(f.Coder(from))
		for i := range light.Pix {
			if i%4 == 3 {
				light.Pix[i] = 1
			}
		}
		out.Composite(light, s.Coder(to))
	}
	if f.Alpha == nil {
		return out
	}
	out.Alpha = &Alpha{}
	n := f.Width * f.Height
	if s.Depth == 32 {
		out.Alpha.Floats = make([]float32, n)
	} else {
		out.Alpha.Codes = make([]uint16, n)
	}
	for i := range n {
		out.setAlpha(i, f.alpha(i))
	}
	return out
}

// alpha returns how opaque a pixel is, 0 to 1.
func (f *Frame) alpha(i int) float64 {
	switch {
	case f.Alpha.Floats != nil:
		return float64(f.Alpha.Floats[i])
	case f.Float:
		return float64(colorspace.FromHalf(f.Alpha.Codes[i]))
	}
	return float64(f.Alpha.Codes[i]) / float64(f.Max())
}

func (f *Frame) setAlpha(i int, a float64) {
	switch {
	case f.Alpha.Floats != nil:
		f.Alpha.Floats[i] = float32(a)
	case f.Float:
		f.Alpha.Codes[i] = colorspace.ToHalf(float32(a))
	default:
		f.Alpha.Codes[i] = uint16(math.Round(min(max(a, 0), 1) * float64(f.Max())))
	}
}

// Cover gives a frame an alpha: cover returns that of a pixel, 0 to 1.
func (f *Frame) Cover(cover func(x, y int) float32) {
	f.Alpha = &Alpha{}
	if f.Samples.Depth == 32 {
		f.Alpha.Floats = make([]float32, f.Width*f.Height)
	} else {
		f.Alpha.Codes = make([]uint16, f.Width*f.Height)
	}
	for i := range f.Width * f.Height {
		f.setAlpha(i, float64(cover(i%f.Width, i/f.Width)))
	}
}

// Fill sets all of a frame's colours to shares of the largest code value, or of 1.
func (f *Frame) Fill(share func(x, y int) float32) {
	for i := range f.Width * f.Height {
		v := share(i%f.Width, i/f.Width)
		for k := range 3 {
			switch {
			case f.Floats != nil:
				f.Floats[3*i+k] = v
			case f.Float:
				f.Codes[3*i+k] = colorspace.ToHalf(v)
			default:
				f.Codes[3*i+k] = uint16(math.Round(float64(min(max(v, 0), 1)) * float64(f.Max())))
			}
		}
	}
}

// WriteFile writes a file so that it is either whole or absent.
func WriteFile(path string, data []byte) error { return writeWhole(path, data) }
