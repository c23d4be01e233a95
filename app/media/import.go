package media

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"sync"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// Each decodes the material's frames in order. The frame is the callee's to keep.
// The error names the file at fault.
func (m *Material) Each(ctx context.Context, f func(n int, frame *Frame) error) error {
	if m.Kind == "movie" {
		return m.eachOfMovie(ctx, f)
	}
	// Stills are decoded two ahead of their use.
	type decoded struct {
		frame *Frame
		err   error
	}
	queue := make(chan chan decoded, 2)
	ctx, stop := context.WithCancel(ctx)
	var wait sync.WaitGroup
	wait.Go(func() {
		defer close(queue)
		for n := m.First; n <= m.Last; n++ {
			slot := make(chan decoded, 1)
			select {
			case queue <- slot:
			case <-ctx.Done():
				return
			}
			wait.Go(func() {
				frame, err := m.still(n)
				slot <- decoded{frame, err}
			})
		}
	})
	defer wait.Wait()
	defer stop()
	n := m.First
	for slot := range queue {
		d := <-slot
		if d.err != nil {
			return d.err
		}
		if err := f(n, d.frame); err != nil {
			return err
		}
		n++
	}
	return ctx.Err()
}

func (m *Material) still(n int) (*Frame, error) {
	path := m.file(n)
	config, _, depth, err := readHeader(path)
	if err != nil {
		return nil, err
	}
	if config.Width != m.Width || config.Height != m.Height {
		return nil, fmt.Errorf("%s is %d x %d pixels, the frames before it %d x %d; all must be alike", path, config.Width, config.Height, m.Width, m.Height)
	}
	if depth != m.Depth {
		return nil, fmt.Errorf("%s has %d bits a sample, the frames before it %d; all must be alike", path, depth, m.Depth)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	picture, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%s is damaged (%w); copy or render it again", path, err)
	}
	return fromImage(picture, depth), nil
}

// fromImage takes the code values of a picture as they stand in the file. Alpha,
// if there is any, is left out.
func fromImage(p image.Image, depth int) *Frame {
	r := p.Bounds()
	f := NewFrame(r.Dx(), r.Dy(), depth)
	var pix []uint8
	var stride, width int // of a row, of a sample, in bytes
	switch m := p.(type) {
	case *image.NRGBA:
		pix, stride, width = m.Pix, m.Stride, 1
	case *image.NRGBA64:
		pix, stride, width = m.Pix, m.Stride, 2
	case *image.RGBA:
		if m.Opaque() {
			pix, stride, width = m.Pix, m.Stride, 1
		}
	case *image.RGBA64:
		if m.Opaque() {
			pix, stride, width = m.Pix, m.Stride, 2
		}
	}
	raster.Rows(0, r.Dy(), func(y int) {
		row := f.Codes[3*y*r.Dx() : 3*(y+1)*r.Dx()]
		if pix != nil {
			copyCodes(row, pix[y*stride:], 4*width, width)
		} else {
			convertRow(row, p, y, depth)
		}
	})
	return f
}

func copyCodes(row []uint16, src []uint8, stride, width int) {
	for x := range len(row) / 3 {
		for k := range 3 {
			if width == 1 {
				row[3*x+k] = uint16(src[stride*x+k])
			} else {
				row[3*x+k] = uint16(src[stride*x+2*k])<<8 | uint16(src[stride*x+2*k+1])
			}
		}
	}
}

func convertRow(row []uint16, p image.Image, y, depth int) {
	r := p.Bounds()
	for x := range r.Dx() {
		c, g, b, a := p.At(r.Min.X+x, r.Min.Y+y).RGBA()
		for k, v := range [3]uint32{c, g, b} {
			if a != 0 && a != 0xffff {
				v = min(v*0xffff/a, 0xffff)
			}
			row[3*x+k] = uint16(v >> (16 - depth))
		}
	}
}

func (m *Material) eachOfMovie(ctx context.Context, f func(n int, frame *Frame) error) error {
	format := "rgb24"
	if m.Depth == 16 {
		format = "rgb48le"
	}
	cmd := exec.CommandContext(ctx, "ffmpeg", "-v", "error", "-xerror", "-nostdin", "-i", "file:"+m.Path, "-map", "0:v:0",
		"-vf", "scale=in_color_matrix="+m.matrix+":flags=accurate_rnd+full_chroma_int+bicubic",
		"-fps_mode", "passthrough", "-f", "rawvideo", "-pix_fmt", format, "-")
	var complaints bytes.Buffer
	cmd.Stderr = &complaints
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start FFmpeg: %w", err)
	}
	data := make([]byte, m.Width*m.Height*3*m.Depth/8)
	n := m.First
	var failed error
	for failed == nil {
		if _, err := io.ReadFull(out, data); err != nil {
			if !errors.Is(err, io.EOF) {
				failed = fmt.Errorf("frame %d of %s is cut short", n, m.Path)
			}
			break
		}
		frame := NewFrame(m.Width, m.Height, m.Depth)
		if failed = frame.unpack(data); failed == nil {
			failed = f(n, frame)
		}
		n++
	}
	if failed != nil {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		return failed
	}
	if err := cmd.Wait(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%s is damaged after frame %d: %s", m.Path, n-1, lastLine(complaints.String()))
	}
	if n-1 < m.Last {
		return fmt.Errorf("%s says that it holds %d frames, but ends after %d; copy it again", m.Path, m.Last-m.First+1, n-m.First)
	}
	return nil
}

// Shot is what a plate store needs to know to read frames.
type Shot struct {
	First    int
	Last     int
	Width    int
	Height   int
	Depth    int
	Rate     Rational
	Transfer colorspace.Transfer
}

// Plates is the store of one shot's frames: the code values as they came in,
// pictures for the screen, and thumbnails for the ribbon. It is written once.
type Plates struct {
	Dir string
	Shot
}

// ScreenPath is the JPEG of a frame for playback, ThumbPath its thumbnail.
func (p *Plates) ScreenPath(n int) string { return p.path("screen", n, "jpg") }
func (p *Plates) ThumbPath(n int) string  { return p.path("thumb", n, "jpg") }
func (p *Plates) path(folder string, n int, ending string) string {
	return filepath.Join(p.Dir, folder, fmt.Sprintf("%08d.%s", n, ending))
}

// Read returns a frame.
func (p *Plates) Read(n int) (*Frame, error) {
	return p.Region(n, image.Rect(0, 0, p.Width, p.Height))
}

// Region returns the part r of a frame, which must lie within it, and reads no
// more of the file than the lines that it needs.
func (p *Plates) Region(n int, r image.Rectangle) (*Frame, error) {
	if n < p.First || n > p.Last {
		return nil, fmt.Errorf("frame %d is not in the shot (%d to %d)", n, p.First, p.Last)
	}
	file, err := os.Open(p.path("codes", n, "raw"))
	if err != nil {
		return nil, fmt.Errorf("read frame %d: %w", n, err)
	}
	defer file.Close()
	stride := 3 * p.Width * p.Depth / 8
	const some = 32 // lines at a time: they stay in the processor's own memory
	lines := make([]byte, stride*min(some, r.Dy()))
	f := NewFrame(r.Dx(), r.Dy(), p.Depth)
	from, to := 3*r.Min.X*p.Depth/8, 3*r.Max.X*p.Depth/8
	for top := 0; top < r.Dy(); top += some {
		part := lines[:stride*min(some, r.Dy()-top)]
		if _, err := file.ReadAt(part, int64(stride*(r.Min.Y+top))); err != nil {
			return nil, fmt.Errorf("frame %d in the plate store is damaged: %w; bring the shot in again", n, err)
		}
		for y := 0; y*stride < len(part); y++ {
			f.unpackRow(top+y, part[y*stride+from:y*stride+to])
		}
	}
	return f, nil
}

// ThumbWidth is the width of thumbnails in pixels.
const ThumbWidth = 160

// Import decodes the material into a plate store at dir, numbered from first.
// Pictures for the screen are made unless screen is false. If anything fails, or
// the context ends, nothing is left at dir.
func Import(ctx context.Context, m *Material, dir string, first int, transfer colorspace.Transfer, screen bool, progress func(done, total int)) (plates *Plates, err error) {
	part := dir + ".part"
	if err := os.RemoveAll(part); err != nil {
		return nil, err
	}
	for _, folder := range []string{"codes", "screen", "thumb"} {
		if err := os.MkdirAll(filepath.Join(part, folder), 0o755); err != nil {
			return nil, fmt.Errorf("make the plate store: %w", err)
		}
	}
	defer func() {
		if err != nil {
			os.RemoveAll(part)
		}
	}()
	store := &Plates{part, Shot{first, first + m.Last - m.First, m.Width, m.Height, m.Depth, m.Rate, transfer}}
	var pictures *screenWriter
	if screen {
		if pictures, err = newScreenWriter(ctx, store); err != nil {
			return nil, err
		}
	}
	total := m.Last - m.First + 1
	err = m.Each(ctx, func(n int, f *Frame) error {
		number := n - m.First + first
		if err := os.WriteFile(store.path("codes", number, "raw"), f.pack(), 0o644); err != nil {
			return fmt.Errorf("store frame %d: %w", number, err)
		}
		if pictures != nil {
			if err := pictures.write(f); err != nil {
				return err
			}
		}
		if progress != nil {
			progress(n-m.First+1, total)
		}
		return nil
	})
	if pictures != nil {
		err = errors.Join(err, pictures.close())
	}
	if err != nil {
		return nil, err
	}
	if err := os.RemoveAll(dir); err != nil {
		return nil, err
	}
	if err := os.Rename(part, dir); err != nil {
		return nil, fmt.Errorf("finish the plate store: %w", err)
	}
	store.Dir = dir
	return store, nil
}

// A screenWriter hands frames, encoded for an sRGB screen, to FFmpeg, which
// writes the pictures for playback and the thumbnails.
type screenWriter struct {
	*encoder
	display *Display
}

func newScreenWriter(ctx context.Context, p *Plates) (*screenWriter, error) {
	e, err := startEncoder(ctx, p.Width, p.Height, p.Rate,
		"-q:v", "2", "-pix_fmt", "yuvj444p", "-start_number", fmt.Sprint(p.First), filepath.Join(p.Dir, "screen", "%08d.jpg"),
		"-vf", fmt.Sprintf("scale=%d:-2:flags=area", ThumbWidth), "-q:v", "4", "-pix_fmt", "yuvj420p",
		"-start_number", fmt.Sprint(p.First), filepath.Join(p.Dir, "thumb", "%08d.jpg"))
	if err != nil {
		return nil, err
	}
	return &screenWriter{e, NewDisplay(p.Transfer, p.Depth)}, nil
}

func (w *screenWriter) write(f *Frame) error { return w.encoder.write(w.display.Bytes(f)) }

// A Display turns code values into 8-bit sRGB for the screen.
type Display struct{ table []uint8 }

// NewDisplay returns the table for plates of a transfer function and depth.
func NewDisplay(t colorspace.Transfer, depth int) *Display {
	from, to := colorspace.NewCoder(t, depth), colorspace.NewCoder(colorspace.SRGB, 8)
	d := &Display{make([]uint8, from.Max()+1)}
	for v := range d.table {
		d.table[v] = uint8(to.Encode(from.Decode(uint16(v))))
	}
	return d
}

// Bytes returns the frame for the screen, three bytes a pixel.
func (d *Display) Bytes(f *Frame) []byte {
	out := make([]byte, len(f.Codes))
	for i, v := range f.Codes {
		out[i] = d.table[v]
	}
	return out
}

// An encoder is an FFmpeg that takes raw frames, three bytes a pixel.
type encoder struct {
	cmd        *exec.Cmd
	in         io.WriteCloser
	complaints bytes.Buffer
}

func startEncoder(ctx context.Context, width, height int, rate Rational, output ...string) (*encoder, error) {
	e := &encoder{}
	e.cmd = exec.CommandContext(ctx, "ffmpeg", append([]string{"-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "rgb24",
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
