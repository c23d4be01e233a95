package media

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// A screenWriter hands frames, encoded for an sRGB screen, to FFmpeg, which
// writes the pictures for playback and the thumbnails.
type screenWriter struct {
	*encoder
	display *Display
}

func newScreenWriter(ctx context.Context, p *Plates, from int) (*screenWriter, error) {
	// It is not killed with the import: what it was given it finishes.
	e, err := startEncoder(context.WithoutCancel(ctx), "yuvj444p", p.Width, p.Height, p.Rate,
		"-q:v", "2", "-pix_fmt", "yuvj444p", "-atomic_writing", "1", "-start_number", fmt.Sprint(from), filepath.Join(p.Dir, "screen", "%08d.jpg"),
		"-vf", fmt.Sprintf("scale=%d:-2:flags=area", ThumbWidth), "-q:v", "4", "-pix_fmt", "yuvj420p",
		"-atomic_writing", "1", "-start_number", fmt.Sprint(from), filepath.Join(p.Dir, "thumb", "%08d.jpg"))
	if err != nil {
		return nil, err
	}
	return &screenWriter{e, NewDisplay(p.Shot)}, nil
}

// planes turns three bytes a pixel into planes of YCbCr as JPEG has them (ITU-T
// T.871), rounded: quicker than to leave it to FFmpeg.
func planes(rgb []byte, width, height int) []byte {
	n := width * height
	out := make([]byte, 3*n)
	raster.Rows(0, height, func(line int) {
		from, to := line*width, (line+1)*width
		src, y, cb, cr := rgb[3*from:3*to], out[from:to], out[n+from:n+to], out[2*n+from:2*n+to]
		for i := range y {
			r, g, b := int32(src[3*i]), int32(src[3*i+1]), int32(src[3*i+2])
			y[i] = byte((19595*r + 38470*g + 7471*b + 1<<15) >> 16)
			cb[i] = byte(min((-11059*r-21709*g+32768*b+257<<15)>>16, 255))
			cr[i] = byte(min((32768*r-27439*g-5329*b+257<<15)>>16, 255))
		}
	})
	return out
}

// A Display turns code values into 8-bit sRGB for the screen.
type Display struct {
	table []uint8 // of code values, where primaries are the screen's and values are few
	own   *colorspace.Coder
	srgb  *colorspace.Coder
	to    colorspace.Matrix
}

// NewDisplay returns what shows frames of a shot.
func NewDisplay(s Shot) *Display {
	d := &Display{own: s.Coder(s.Transfer), srgb: colorspace.NewCoder(colorspace.SRGB, 8), to: s.Primaries.To(colorspace.BT709Primaries)}
	if s.Primaries == colorspace.BT709Primaries && s.Samples.Depth <= 16 {
		d.table = make([]uint8, d.own.Max()+1)
		for v := range d.table {
			d.table[v] = uint8(d.srgb.Encode(d.own.Decode(uint16(v))))
		}
	}
	return d
}

// Bytes returns the frame for the screen, three bytes a pixel.
func (d *Display) Bytes(f *Frame) []byte {
	out := make([]byte, 3*f.Width*f.Height)
	if d.table != nil {
		raster.Rows(0, f.Height, func(y int) {
			row := out[3*y*f.Width : 3*(y+1)*f.Width]
			for i, v := range f.Codes[3*y*f.Width : 3*(y+1)*f.Width] {
				row[i] = d.table[v]
			}
		})
		return out
	}
	light := f.Linear(d.own)
	raster.Rows(0, f.Height, func(y int) {
		src, dst := light.Row(y, 0, f.Width), out[3*y*f.Width:3*(y+1)*f.Width]
		for x := range f.Width {
			for k, v := range d.to.Apply([3]float32(src[4*x : 4*x+3])) {
				dst[3*x+k] = uint8(d.srgb.Encode(v))
			}
		}
	})
	return out
}

// An encoder is an FFmpeg that takes raw frames.
type encoder struct {
	cmd        *exec.Cmd
	in         io.WriteCloser
	complaints bytes.Buffer
}

func startEncoder(ctx context.Context, format string, width, height int, rate Rational, output ...string) (*encoder, error) {
	e := &encoder{}
	e.cmd = exec.CommandContext(ctx, "ffmpeg", append([]string{"-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", format,
		"-s", fmt.Sprintf("%dx%d", width, height), "-r", rate.String(), "-i", "-"}, output...)...)
	e.cmd.Stderr = &e.complaints
	in, err := e.cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	e.in = in
	if err := e.cmd.Start(); err != nil {
		return nil, fmt.Errorf("start FFmpeg: %w", err)
	}
	return e, nil
}

func (e *encoder) write(data []byte) error {
	if _, err := e.in.Write(data); err != nil {
		_ = e.cmd.Wait()
		return fmt.Errorf("FFmpeg stopped: %s", lastLine(e.complaints.String()))
	}
	return nil
}

func (e *encoder) close() error {
	e.in.Close()
	if err := e.cmd.Wait(); err != nil && e.complaints.Len() > 0 {
		return fmt.Errorf("FFmpeg failed: %s", lastLine(e.complaints.String()))
	}
	return nil
}
