package media

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// ThumbWidth is the width of thumbnails in pixels.
const ThumbWidth = 160

// Qualities of JPEG pictures for the screen: at the larger one grain stays as it is, the
// other is for thumbnails.
const (
	screenQuality = 90
	thumbQuality  = 85
)

// Kinds of pictures of a frame.
type PictureKind string

const (
	ScreenPicture PictureKind = "screen" // for playback on an sRGB screen
	CodePicture   PictureKind = "code"   // the same of code values, for tables that take those to a screen
	ThumbPicture  PictureKind = "thumb"
)

// Reductions are by how much pictures for playback are made smaller, for screens that show less of them than they have.
var Reductions = []int{1, 2, 4}

// Picture returns the path of a frame's picture, for playback made smaller by one of Reductions. They are not synced when they are
// made: what a power failure took is made anew.
func (p *Plates) Picture(n int, kind PictureKind, reduction int) (string, error) {
	folder := string(kind)
	if reduction > 1 && kind != ThumbPicture {
		folder += fmt.Sprint(reduction)
	}
	path := p.path(folder, n, "jpg")
	if fileSize(path) > 0 {
		return path, nil
	}
	f, err := p.Read(n)
	if err != nil {
		return "", err
	}
	if kind == ThumbPicture || kind == ScreenPicture && reduction == 1 {
		return path, p.show(n, f, NewDisplay(p.Shot))
	}
	display := NewDisplay
	if kind == CodePicture {
		display = NewCodeDisplay
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return "", err
	}
	return path, p.reduced(path, n, display(p.Shot).Bytes(f), f.Width, f.Height, reduction)
}

// reduced writes a picture made smaller.
func (p *Plates) reduced(path string, n int, rgb []byte, width, height, reduction int) error {
	if reduction > 1 {
		width = (width + reduction - 1) / reduction
		rgb, height = shrunk(rgb, (len(rgb)/3)/height, height, width)
	}
	data, err := encodeJPEG(rgb, width, height, screenQuality, turboWhole)
	if err != nil {
		return fmt.Errorf("frame %d for the screen: %w", n, err)
	}
	return p.write(path, n, data, false)
}

// show makes a frame's pictures for the screen, each whole or absent.
func (p *Plates) show(n int, f *Frame, d *Display) error {
	rgb := buffers.get(3 * f.Width * f.Height)
	defer buffers.put(rgb)
	d.Into(rgb, f)
	small, height := shrunk(rgb, f.Width, f.Height, ThumbWidth)
	for _, picture := range []struct {
		path            string
		rgb             []byte
		width, height   int
		quality, chroma int32
	}{{p.ScreenPath(n), rgb, f.Width, f.Height, screenQuality, turboWhole}, {p.ThumbPath(n), small,
		len(small) / 3 / height, height, thumbQuality, turboHalf}} {
		data, err := encodeJPEG(picture.rgb, picture.width, picture.height, picture.quality, picture.chroma)
		if err != nil {
			return fmt.Errorf("frame %d for the screen: %w", n, err)
		}
		if err := p.write(picture.path, n, data, false); err != nil {
			return err
		}
	}
	// Of larger frames smaller ones as well: a window shows no more of them as a rule.
	for _, reduction := range Reductions[1:] {
		if f.Width/reduction < leastReduced {
			break
		}
		path := p.path(string(ScreenPicture)+fmt.Sprint(reduction), n, "jpg")
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := p.reduced(path, n, rgb, f.Width, f.Height, reduction); err != nil {
			return err
		}
	}
	return nil
}

// leastReduced is how wide a smaller picture is at least to be made with its frame; others are made when they are asked for.
const leastReduced = 800

// shrunk returns a picture of a certain width, each of its pixels the mean of those that
// it stands for, or of 16 or more of them, and its height.
func shrunk(rgb []byte, width, height, to int) (small []byte, h int) {
	to = min(to, width)
	h = max(1, (height*to+width/2)/width)
	if k := width / to; k*to == width && k*h == height && (k == 2 || k == 4) {
		return boxed(rgb, width, h, k), h
	}
	step := max(1, width/to/4)
	small = make([]byte, 3*to*h)
	for y := range h {
		top, bottom := y*height/h, max((y+1)*height/h, y*height/h+1)
		for x := range to {
			var red, g, b, count uint32
			for line := top; line < bottom; line += step {
				part := rgb[3*(line*width+x*width/to) : 3*(line*width+(x+1)*width/to)]
				for ; len(part) >= 3; part = part[min(3*step, len(part)):] {
					red, g, b = red+uint32(part[0]), g+uint32(part[1]), b+uint32(part[2])
					count++
				}
			}
			for k, sum := range [3]uint32{red, g, b} {
				small[3*(y*to+x)+k] = byte((sum + count/2) / count)
			}
		}
	}
	return small, h
}

// boxed is shrunk by 2 or 4, where that leaves nothing over, to so many lines.
func boxed(rgb []byte, width, lines, by int) []byte {
	line := 3 * width / by
	small := make([]byte, line*lines)
	for y := range lines {
		out, rows := small[y*line:(y+1)*line], rgb[3*width*by*y:3*width*by*(y+1)]
		if by == 2 {
			a, b := rows[:3*width], rows[3*width:]
			for ; len(out) >= 3 && len(a) >= 6 && len(b) >= 6; out, a, b = out[3:], a[6:], b[6:] {
				out[0] = byte((uint32(a[0]) + uint32(a[3]) + uint32(b[0]) + uint32(b[3]) + 2) / 4)
				out[1] = byte((uint32(a[1]) + uint32(a[4]) + uint32(b[1]) + uint32(b[4]) + 2) / 4)
				out[2] = byte((uint32(a[2]) + uint32(a[5]) + uint32(b[2]) + uint32(b[5]) + 2) / 4)
			}
			continue
		}
		for x := 0; len(out) >= 3; out, x = out[3:], x+12 {
			red, green, blue := uint32(8), uint32(8), uint32(8)
			for k := range 4 {
				p := rows[3*width*k+x:][:12:12]
				red += uint32(p[0]) + uint32(p[3]) + uint32(p[6]) + uint32(p[9])
				green += uint32(p[1]) + uint32(p[4]) + uint32(p[7]) + uint32(p[10])
				blue += uint32(p[2]) + uint32(p[5]) + uint32(p[8]) + uint32(p[11])
			}
			out[0], out[1], out[2] = byte(red/16), byte(green/16), byte(blue/16)
		}
	}
	return small
}

// CodeTransfer is by which function code values travel to the browser in 8 bits, where a
// table takes them to the screen: their own, or, of linear light, sRGB's, which the browser
// takes back.
func CodeTransfer(t colorspace.Transfer) colorspace.Transfer {
	if t == colorspace.Linear {
		return colorspace.SRGB
	}
	return t
}

// NewCodeDisplay returns what gives 8 bits of a shot's code values, for tables.
func NewCodeDisplay(s Shot) *Display {
	s.Primaries = colorspace.BT709Primaries // it leaves primaries alone
	return newDisplay(s, colorspace.NewCoder(CodeTransfer(s.Transfer), 8))
}

// Through has frames shown as a table takes their code values to a screen.
func (d *Display) Through(c *colorspace.Cube) { d.cube = c }

// A Display turns code values into 8-bit sRGB for the screen.
type Display struct {
	cube  *colorspace.Cube // in place of all that follows
	half  bool
	table *[1 << 16]uint8 // of code values, where primaries are the screen's and values are few
	own   *colorspace.Coder
	srgb  *colorspace.Coder
	to    colorspace.Matrix
}

// NewDisplay returns what shows frames of a shot.
func NewDisplay(s Shot) *Display {
	return newDisplay(s, colorspace.NewCoder(colorspace.SRGB, 8))
}

func newDisplay(s Shot, shown *colorspace.Coder) *Display {
	d := &Display{
		own:  s.Coder(s.Transfer),
		srgb: shown,
		to:   s.Primaries.To(colorspace.BT709Primaries),
		half: s.Samples.Float,
	}
	if s.Primaries == colorspace.BT709Primaries && s.Samples.Depth <= 16 {
		d.table = new([1 << 16]uint8)
		for v := range d.own.Max() + 1 {
			d.table[v] = uint8(d.srgb.Encode(d.own.Decode(uint16(v))))
		}
	}
	return d
}

// Bytes returns the frame for the screen, three bytes a pixel.
func (d *Display) Bytes(f *Frame) []byte {
	out := make([]byte, 3*f.Width*f.Height)
	d.Into(out, f)
	return out
}

// Into sets three bytes a pixel to the frame for the screen.
func (d *Display) Into(out []byte, f *Frame) {
	if d.cube != nil {
		d.lookedUp(out, f.Unpacked())
		return
	}
	if d.table != nil && f.words != nil {
		raster.Rows(0, f.Height, func(y int) {
			row, words := out[3*y*f.Width:3*(y+1)*f.Width], f.words[4*y*f.Width:]
			for ; len(row) >= 3 && len(words) >= 4; row, words = row[3:], words[4:] {
				v := binary.BigEndian.Uint32(words)
				row[0], row[1], row[2] = d.table[v>>22], d.table[v>>12&1023], d.table[v>>2&1023]
			}
		})
		return
	}
	f = f.Unpacked()
	if d.table != nil {
		raster.Rows(0, f.Height, func(y int) {
			codes := f.Codes[3*y*f.Width : 3*(y+1)*f.Width]
			row := out[3*y*f.Width:][:len(codes)]
			for i, v := range codes {
				row[i] = d.table[v]
			}
		})
		return
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
}

// lookedUp sets three bytes a pixel by the table.
func (d *Display) lookedUp(out []byte, f *Frame) {
	most := float32(d.own.Max())
	raster.Rows(0, f.Height, func(y int) {
		codes := f.Codes[3*y*f.Width : 3*(y+1)*f.Width]
		row := out[3*y*f.Width:][:len(codes)]
		for i := 0; i < len(codes); i += 3 {
			var v [3]float32
			for k := range v {
				if d.half {
					v[k] = colorspace.FromHalf(codes[i+k])
				} else {
					v[k] = float32(codes[i+k]) / most
				}
			}
			for k, shown := range d.cube.Apply(v) {
				row[i+k] = uint8(min(max(shown, 0), 1)*255 + 0.5)
			}
		}
	})
}

// An encoder is an FFmpeg that takes raw frames.
type encoder struct {
	cmd        *exec.Cmd
	in         io.WriteCloser
	complaints bytes.Buffer
}

func startEncoder(
	ctx context.Context,
	format string,
	width, height int,
	rate Rational,
	output ...string,
) (*encoder, error) {
	e := &encoder{}
	e.cmd = exec.CommandContext(
		ctx,
		"ffmpeg",
		append([]string{"-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", format,
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
		return e.complaint("stopped")
	}
	return nil
}

func (e *encoder) close() error {
	e.in.Close()
	if err := e.cmd.Wait(); err != nil && e.complaints.Len() > 0 {
		return e.complaint("failed")
	}
	return nil
}

func (e *encoder) complaint(how string) error {
	said := e.complaints.String()
	if strings.Contains(said, "No space left") {
		return errFull
	}
	return fmt.Errorf("FFmpeg %s: %s", how, lastLine(said))
}
