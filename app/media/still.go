package media

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"strings"

	"jardin/core/colorspace"
	"jardin/core/raster"
	"jardin/core/simd"
)

// A Still is a picture that came from elsewhere: straight RGBA, by rows, as codes
// of 16 bits in its own encoding, or as light.
type Still struct {
	Width, Height int
	Codes         []uint16  // of PNG and TIFF
	Light         []float32 // of OpenEXR: alpha premultiplied, as that format has it
}

// largest is the greatest side of a still that is read.
const largest = 32768

// DecodeStill reads a PNG, TIFF or OpenEXR file. One with more pixels than most is refused by
// its header, with a *TooLarge: a small file may stand for a picture that takes all memory.
func DecodeStill(ctx context.Context, data []byte, most int) (*Still, error) {
	if bytes.HasPrefix(data, []byte{0x76, 0x2f, 0x31, 0x01}) {
		return decodeEXR(ctx, data, most)
	}
	config, format, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil || (format != "png" && format != "tiff") {
		return nil, errors.New("this is no PNG, TIFF or OpenEXR file; save the picture as one of these")
	}
	if err := sane(config.Width, config.Height, most); err != nil {
		return nil, err
	}
	p, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("the %s file cannot be read: %v; save it once more", strings.ToUpper(format), err)
	}
	b := p.Bounds()
	s := &Still{Width: b.Dx(), Height: b.Dy(), Codes: make([]uint16, 4*b.Dx()*b.Dy())}
	for y := range s.Height {
		for x := range s.Width {
			var v color.NRGBA64
			switch p := p.(type) {
			case *image.NRGBA64:
				v = p.NRGBA64At(b.Min.X+x, b.Min.Y+y)
			case *image.RGBA64:
				v = color.NRGBA64Model.Convert(p.RGBA64At(b.Min.X+x, b.Min.Y+y)).(color.NRGBA64)
			default:
				v = color.NRGBA64Model.Convert(p.At(b.Min.X+x, b.Min.Y+y)).(color.NRGBA64)
			}
			copy(s.Codes[4*(y*s.Width+x):], []uint16{v.R, v.G, v.B, v.A})
		}
	}
	return s, nil
}

func sane(width, height, most int) error {
	if width < 1 || height < 1 || width > largest || height > largest {
		return fmt.Errorf("it says that it has %d x %d pixels; up to %d on a side can be read", width, height, largest)
	}
	if width*height > most {
		return &TooLarge{width, height, most}
	}
	return nil
}

// decodeEXR reads an OpenEXR file by FFmpeg.
func decodeEXR(ctx context.Context, data []byte, most int) (*Still, error) {
	dir, err := os.MkdirTemp("", "jardin-still-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "still.exr")
	if err := os.WriteFile(file, data, 0o600); err != nil {
		return nil, err
	}
	out, err := ffprobe(
		ctx,
		"-select_streams",
		"v:0",
		"-show_entries",
		"stream=width,height,pix_fmt",
		"-of",
		"csv=p=0",
		file,
	)
	if err != nil {
		return nil, fmt.Errorf("the OpenEXR file cannot be read: %s", complaint(err))
	}
	s := &Still{}
	fields := strings.Split(strings.TrimSpace(string(out)), ",")
	if len(fields) < 3 {
		return nil, errors.New("the OpenEXR file holds no picture")
	}
	if _, err := fmt.Sscan(fields[0]+" "+fields[1], &s.Width, &s.Height); err != nil {
		return nil, err
	}
	if err := sane(s.Width, s.Height, most); err != nil {
		return nil, err
	}
	// Planes, in FFmpeg's order.
	planes, ok := map[string][]int{"gbrpf32le": {1, 2, 0}, "gbrapf32le": {1, 2, 0, 3}}[fields[2]]
	if !ok {
		return nil, fmt.Errorf(
			"the OpenEXR file has pixels of kind %s; save it with float or half channels R, G, B",
			fields[2],
		)
	}
	raw, err := ffmpegReads(ctx, "-i", file, "-f", "rawvideo", "-").Output()
	if err != nil {
		return nil, fmt.Errorf("the OpenEXR file cannot be read: %s", complaint(err))
	}
	n := s.Width * s.Height
	if len(raw) != 4*n*len(planes) {
		return nil, errors.New("the OpenEXR file ends too soon; save it once more")
	}
	s.Light = make([]float32, 4*n)
	for i := range n {
		s.Light[4*i+3] = 1
	}
	for k, channel := range planes {
		for i := range n {
			s.Light[4*i+channel] = math.Float32frombits(binary.LittleEndian.Uint32(raw[4*(k*n+i):]))
		}
	}
	return s, nil
}

// EncodeStill writes straight RGB codes of 16 bits, by rows, as png or tiff; as exr
// it writes their light.
func EncodeStill(as string, width, height int, codes []uint16, t colorspace.Transfer) ([]byte, error) {
	f := Frame{Width: width, Height: height, Samples: Samples{Depth: 16}, Codes: codes}
	switch as {
	case "png":
		return EncodePNG(f.samples(binary.BigEndian), f.layout())
	case "tiff":
		return encodeTIFF(f.samples(binary.LittleEndian), f.layout(), tiffHead{tiffDeflate, true})
	case "exr":
		return EncodeEXR(width, height, false, []string{"R", "G", "B"}, func(x, y int, out []float32) {
			for k := range out {
				out[k] = float32(t.Decode(float64(codes[3*(y*width+x)+k]) / 65535))
			}
		}), nil
	}
	return nil, fmt.Errorf("%q is not a format that pictures are handed out in; choose png, tiff or exr", as)
}

// PNG returns a still of codes as a PNG of 16 bits with alpha.
func (s *Still) PNG() ([]byte, error) {
	samples := make([]byte, 2*len(s.Codes))
	simd.ToBigEndian(samples, s.Codes)
	return EncodePNG(samples, Layout{s.Width, s.Height, 4, 16})
}

var _ = png.Decode // registers the format

// Premultiplied returns a still of codes in light, cut to what is not transparent.
func (s *Still) Premultiplied(c *colorspace.Coder) *raster.Image {
	var box image.Rectangle
	for y := range s.Height {
		row := s.Codes[4*y*s.Width : 4*(y+1)*s.Width]
		for x := range s.Width {
			if row[4*x+3] != 0 {
				box = box.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	m := raster.NewImage(box)
	for y := box.Min.Y; y < box.Max.Y; y++ {
		dst := m.Row(y, box.Min.X, box.Max.X)
		src := s.Codes[4*(y*s.Width+box.Min.X):]
		for i := 0; i < len(dst); i += 4 {
			a := float32(src[i+3]) / 65535
			for k := range 3 {
				dst[i+k] = c.Decode(src[i+k]) * a
			}
			dst[i+3] = a
		}
	}
	return m
}
