// Package media brings frames in and out: numbered stills and movies, the store
// of a shot's plates, and finished frames.
package media

import (
	"encoding/binary"
	"fmt"
	"image"
	"os"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// A Frame is one frame in its own code values: three a pixel, by rows.
type Frame struct {
	Width, Height int
	Depth         int // 8 or 16
	Codes         []uint16
}

// NewFrame returns a black frame.
func NewFrame(width, height, depth int) *Frame {
	return &Frame{width, height, depth, make([]uint16, 3*width*height)}
}

// Linear returns the frame as light.
func (f *Frame) Linear(c *colorspace.Coder) *raster.Image {
	m := raster.NewImage(image.Rect(0, 0, f.Width, f.Height))
	raster.Rows(0, f.Height, func(y int) {
		src, dst := f.Codes[3*y*f.Width:], m.Row(y, 0, f.Width)
		for x := range f.Width {
			dst[4*x] = c.Decode(src[3*x])
			dst[4*x+1] = c.Decode(src[3*x+1])
			dst[4*x+2] = c.Decode(src[3*x+2])
			dst[4*x+3] = 1
		}
	})
	return m
}

// Channels of a frame that can be followed.
const (
	LumaChannel  = "luma"
	RedChannel   = "red"
	GreenChannel = "green"
	BlueChannel  = "blue"
)

// Luma returns the frame's luma in code values scaled to 0 to 1, for tracking.
func (f *Frame) Luma() *raster.Plane { return f.Channel(LumaChannel) }

// Channel returns one of the frame's channels in code values scaled to 0 to 1.
func (f *Frame) Channel(name string) *raster.Plane {
	p := raster.NewPlane(image.Rect(0, 0, f.Width, f.Height))
	k := 1 / float32(int(1)<<f.Depth-1)
	single := map[string]int{RedChannel: 0, GreenChannel: 1, BlueChannel: 2}
	c, one := single[name]
	raster.Rows(0, f.Height, func(y int) {
		src, dst := f.Codes[3*y*f.Width:], p.Row(y, 0, f.Width)
		for x := range dst {
			if one {
				dst[x] = float32(src[3*x+c]) * k
			} else {
				dst[x] = colorspace.Luma(float32(src[3*x]), float32(src[3*x+1]), float32(src[3*x+2])) * k
			}
		}
	})
	return p
}

// Lay lays a result on the frame: pixels with alpha are encoded from light, all
// others keep the very code values that they had.
func (f *Frame) Lay(result *raster.Image, c *colorspace.Coder) {
	r := result.Rect.Intersect(image.Rect(0, 0, f.Width, f.Height))
	raster.Rows(r.Min.Y, r.Max.Y, func(y int) {
		src := result.Row(y, r.Min.X, r.Max.X)
		dst := f.Codes[3*(y*f.Width+r.Min.X):]
		for x := range r.Dx() {
			if src[4*x+3] == 0 {
				continue
			}
			for k := range 3 {
				dst[3*x+k] = c.Encode(src[4*x+k])
			}
		}
	})
}

// pack returns the frame's codes as bytes: one a sample at 8 bits, two, low
// byte first, at 16.
func (f *Frame) pack() []byte {
	if f.Depth == 8 {
		out := make([]byte, len(f.Codes))
		for i, v := range f.Codes {
			out[i] = byte(v)
		}
		return out
	}
	out := make([]byte, 2*len(f.Codes))
	for i, v := range f.Codes {
		binary.LittleEndian.PutUint16(out[2*i:], v)
	}
	return out
}

func (f *Frame) unpack(data []byte) error {
	if len(data) != len(f.Codes)*f.Depth/8 {
		return fmt.Errorf("it holds %d bytes instead of %d", len(data), len(f.Codes)*f.Depth/8)
	}
	stride := len(data) / f.Height
	for y := range f.Height {
		f.unpackRow(y, data[y*stride:(y+1)*stride])
	}
	return nil
}

func (f *Frame) unpackRow(y int, data []byte) {
	row := f.Codes[3*y*f.Width : 3*(y+1)*f.Width]
	if f.Depth == 8 {
		for i, v := range data {
			row[i] = uint16(v)
		}
		return
	}
	data = data[:2*len(row)]
	for i := range row {
		row[i] = uint16(data[2*i]) | uint16(data[2*i+1])<<8
	}
}

// writeWhole writes a file so that it is either whole or absent.
func writeWhole(path string, data []byte) error {
	part := path + ".part"
	f, err := os.Create(part)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err != nil {
		os.Remove(part)
		return err
	}
	return os.Rename(part, path)
}
