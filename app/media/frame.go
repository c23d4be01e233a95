// Package media brings frames in and out: numbered stills and movies, the store
// of a shot's plates, and finished frames.
package media

import (
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"math"
	"os"
	"syscall"

	"jardin/core/colorspace"
	"jardin/core/raster"
	"jardin/core/simd"
)

// Samples say what a frame's code values are.
type Samples struct {
	Depth int  // bits: 8, 10, 12 or 16; of floats 16 (half) or 32
	Float bool // they are floats (IEEE 754), else unsigned integers
}

func (s Samples) String() string {
	switch {
	case s.Float && s.Depth == 16:
		return "half float"
	case s.Float:
		return "float"
	}
	return fmt.Sprintf("%d bit", s.Depth)
}

// Valid returns an error if there are no such samples.
func (s Samples) Valid() error {
	if s.Float && (s.Depth == 16 || s.Depth == 32) ||
		!s.Float && (s.Depth == 8 || s.Depth == 10 || s.Depth == 12 || s.Depth == 16) {
		return nil
	}
	return fmt.Errorf("samples of %s are not supported: 8, 10, 12 and 16 bit, half float and float are", s)
}

// Bytes returns how many a sample takes in the plate store.
func (s Samples) Bytes() int {
	switch {
	case s.Depth == 8:
		return 1
	case s.Depth == 32:
		return 4
	}
	return 2
}

// Max returns the largest code value of integers.
func (s Samples) Max() int { return 1<<s.Depth - 1 }

// Coder returns what turns code values into light and back. Of 32-bit floats only its
// transfer function counts.
func (s Samples) Coder(t colorspace.Transfer) *colorspace.Coder {
	if s.Float {
		return colorspace.NewHalfCoder(t)
	}
	return colorspace.NewCoder(t, s.Depth)
}

// A Frame is one frame in its own code values: three a pixel, by rows, and apart from
// them its alpha, if it has one. One of 10 bits that was read from a file or a plate store
// comes packed, and may leave so: Codes are nil until it is Unpacked.
type Frame struct {
	Width, Height int
	Samples
	Codes    []uint16  // integers, or half floats by their bits
	Floats   []float32 // instead, where samples have 32 bits
	Alpha    *Alpha    // nil for none
	Timecode string    // that it leaves with; empty for none
	Hash     string    // of the plate that it was read from, if that was read whole
	Head     []byte    // of the file that it came from: what its format keeps besides pixels

	words []byte // of 10 bits, packed as the plate store keeps them, instead of Codes
}

// Alpha is a frame's alpha in its own code values.
type Alpha struct {
	Codes  []uint16
	Floats []float32
}

// NewFrame returns a black frame without alpha.
func NewFrame(width, height int, s Samples) *Frame {
	f := &Frame{Width: width, Height: height, Samples: s}
	if s.Depth == 32 {
		f.Floats = make([]float32, 3*width*height)
	} else {
		f.Codes = make([]uint16, 3*width*height)
	}
	return f
}

// Unpacked returns the frame with Codes, also if it came packed.
func (f *Frame) Unpacked() *Frame {
	if f.words == nil {
		return f
	}
	out := *f
	out.words, out.Codes = nil, make([]uint16, 3*f.Width*f.Height)
	raster.Rows(0, f.Height, func(y int) { unpackWords(f.words[4*y*f.Width:], out.Codes[3*y*f.Width:3*(y+1)*f.Width]) })
	return &out
}

// Linear returns the frame as light, opaque.
func (f *Frame) Linear(c *colorspace.Coder) *raster.Image {
	f = f.Unpacked()
	m := raster.NewImage(image.Rect(0, 0, f.Width, f.Height))
	t := c.Transfer()
	raster.Rows(0, f.Height, func(y int) {
		dst := m.Row(y, 0, f.Width)
		if f.Floats != nil {
			src := f.Floats[3*y*f.Width:]
			for x := range f.Width {
				for k := range 3 {
					dst[4*x+k] = src[3*x+k]
					if t != colorspace.Linear {
						dst[4*x+k] = float32(t.Decode(float64(src[3*x+k])))
					}
				}
				dst[4*x+3] = 1
			}
		} else {
			src := f.Codes[3*y*f.Width:]
			for x := range f.Width {
				dst[4*x] = c.Decode(src[3*x])
				dst[4*x+1] = c.Decode(src[3*x+1])
				dst[4*x+2] = c.Decode(src[3*x+2])
				dst[4*x+3] = 1
			}
		}
		if f.Float { // files may hold what is no number, and the infinite
			for i, v := range dst {
				if v != v {
					dst[i] = 0
				} else if v > 65504 || v < -65504 {
					dst[i] = float32(math.Copysign(65504, float64(v)))
				}
			}
		}
	})
	return m
}

// Luma returns the frame's luma in code values scaled to 0 to 1, for tracking.
func (f *Frame) Luma() *raster.Plane { return f.Channel(colorspace.LumaMix) }

// Channel returns a mix of the frame's channels, as evenly spaced for the eye as code
// values are: integers scaled to 0 to 1, floats encoded as sRGB is.
func (f *Frame) Channel(mix colorspace.Mix) *raster.Plane {
	f = f.Unpacked()
	p := raster.NewPlane(image.Rect(0, 0, f.Width, f.Height))
	k := 1 / float32(f.Max())
	value := func(i int) float32 { return float32(f.Codes[i]) * k }
	if f.Float {
		value = func(i int) float32 {
			v := f.float(i)
			if !(v > 0) {
				return 0
			}
			return float32(colorspace.SRGB.Encode(math.Min(float64(v), 100)))
		}
	}
	single := -1 // the channel that alone counts, as it is
	for c := range mix {
		only := colorspace.Mix{}
		only[c] = 1
		if mix == only {
			single = c
		}
	}
	raster.Rows(0, f.Height, func(y int) {
		dst := p.Row(y, 0, f.Width)
		for x := range dst {
			i := 3 * (y*f.Width + x)
			if single >= 0 {
				dst[x] = value(i + single)
			} else {
				dst[x] = mix[0]*value(i) + mix[1]*value(i+1) + mix[2]*value(i+2)
			}
		}
	})
	return p
}

// float returns a sample of floats as it is.
func (f *Frame) float(i int) float32 {
	if f.Floats != nil {
		return f.Floats[i]
	}
	return colorspace.FromHalf(f.Codes[i])
}

// Composite lays a result on the frame: pixels with alpha are encoded from light, all
// others keep the very code values that they had.
func (f *Frame) Composite(result *raster.Image, c *colorspace.Coder) {
	rect := result.Rect.Intersect(image.Rect(0, 0, f.Width, f.Height))
	raster.Rows(rect.Min.Y, rect.Max.Y, func(y int) {
		src := result.Row(y, rect.Min.X, rect.Max.X)
		first := 3 * (y*f.Width + rect.Min.X)
		if f.words == nil && f.Floats == nil {
			c.EncodePixels(f.Codes[first:first+3*rect.Dx()], src)
			return
		}
		for x := range rect.Dx() {
			if src[4*x+3] == 0 {
				continue
			}
			if f.words != nil {
				packWords(
					[]uint16{c.Encode(src[4*x]), c.Encode(src[4*x+1]), c.Encode(src[4*x+2])},
					f.words[4*(first/3+x):],
				)
				continue
			}
			for k := range 3 {
				f.Floats[first+3*x+k] = float32(c.Transfer().Encode(float64(src[4*x+k])))
			}
		}
	})
}

// Deep returns the frame's colours as integers of 16 bits in the encoding of a coder
// for those: integers scaled, floats by their light.
func (f *Frame) Deep(own, deep *colorspace.Coder) []uint16 {
	out := make([]uint16, 3*f.Width*f.Height)
	if f.Float {
		light := f.Linear(own)
		for i := range len(out) / 3 {
			for k := range 3 {
				out[3*i+k] = deep.Encode(light.Pix[4*i+k])
			}
		}
		return out
	}
	for i, v := range f.Unpacked().Codes {
		out[i] = scaled(v, f.Max(), math.MaxUint16)
	}
	return out
}

// scaled takes a code value of one range to the nearest of another.
func scaled(v uint16, from, to int) uint16 {
	return uint16((uint64(v)*uint64(to)*2 + uint64(from)) / uint64(2*from))
}

// pack returns code values as bytes: one a sample at 8 bits, two or four, low byte
// first, beyond.
func pack(s Samples, codes []uint16, floats []float32) []byte {
	if s.Depth == 32 {
		out := make([]byte, 4*len(floats))
		for i, v := range floats {
			binary.LittleEndian.PutUint32(out[4*i:], math.Float32bits(v))
		}
		return out
	}
	if s.Depth == 8 {
		out := make([]byte, len(codes))
		simd.Narrow(out, codes)
		return out
	}
	out := make([]byte, 2*len(codes))
	simd.ToLittleEndian(out, codes)
	return out
}

// unpack is its inverse.
func unpack(s Samples, data []byte, codes []uint16, floats []float32) {
	switch {
	case s.Depth == 32:
		for i := range floats {
			floats[i] = math.Float32frombits(binary.LittleEndian.Uint32(data[4*i:]))
		}
	case s.Depth == 8:
		simd.Widen(codes, data)
	default:
		simd.FromLittleEndian(codes, data)
	}
}

// row returns where the samples of a line are.
func (f *Frame) row(y int) (codes []uint16, floats []float32) {
	a, b := 3*y*f.Width, 3*(y+1)*f.Width
	if f.Floats != nil {
		return nil, f.Floats[a:b]
	}
	return f.Codes[a:b], nil
}

func float32le(b []byte) float32 { return math.Float32frombits(binary.LittleEndian.Uint32(b)) }

// writeWhole writes a file so that it is either whole or absent, also after the power
// failed.
func writeWhole(path string, data []byte) error { return writeFile(path, data, true) }

// errFull says what to do when a disk is full.
var errFull = errors.New(
	"the disk is full: clear renders or footage that was sent, or take shots off the wall, and try again",
)

// writeFile writes a file aside and renames it; with sync, once it is on disk.
func writeFile(path string, data []byte, sync bool) error {
	part := path + ".part"
	f, err := os.Create(part)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil && sync {
		err = f.Sync()
	}
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err != nil {
		os.Remove(part)
		if errors.Is(err, syscall.ENOSPC) {
			return errFull
		}
		return err
	}
	return os.Rename(part, path)
}
