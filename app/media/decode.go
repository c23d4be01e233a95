package media

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
	"os"
	"slices"
	"strings"

	"jardin/app/routines"
	"jardin/core/colorspace"
	"jardin/core/raster"
)

// each decodes the frames of a plan in order, from the k-th on. The frame is the
// callee's to keep, but where a frame is held it is the same again; of 10 bits it may
// come packed. The error names the file at fault.
func (m *Material) each(ctx context.Context, plan []int, r Reading, k int, f func(k int, frame *Frame) error) error {
	if k >= len(plan) {
		return nil
	}
	if m.Kind == "movie" {
		return m.eachOfMovie(ctx, plan, r, k, f)
	}
	ending := strings.ToLower(m.suffix)
	for k < len(plan) {
		// A run: each number one more than the one before. A frame that is held ends it.
		end := k + 1
		for end < len(plan) && plan[end] == plan[end-1]+1 {
			end++
		}
		read := m.run
		if ending == ".exr" || ending == ".dpx" && !m.plain {
			read = m.stream
		}
		var last *Frame
		n := k
		err := read(ctx, plan[k:end], func(frame *Frame) error {
			last = frame
			n++
			return f(n-1, frame)
		})
		if err != nil {
			return err
		}
		for k = end; k < len(plan) && plan[k] == plan[k-1]; k++ {
			if err := f(k, last); err != nil {
				return err
			}
		}
	}
	return nil
}

// Preview returns a frame for the screen as a JPEG of up to a width, as the shot's fields say
// how its code values are meant.
func (m *Material) Preview(ctx context.Context, n int, r Reading, s Shot, width int) ([]byte, error) {
	if m.Kind == "stills" && !slices.Contains(m.numbers, n) || n < m.First || n > m.Last {
		return nil, fmt.Errorf("there is no frame %d in %s", n, m.Path)
	}
	if err := r.Valid(); err != nil {
		return nil, err
	}
	s.Width, s.Height, s.Samples = m.Width, m.Height, m.Samples()
	r.Fields = WholeFrames
	var data []byte
	err := m.each(ctx, []int{n}, r, 0, func(_ int, f *Frame) (err error) {
		small, height := shrunk(NewDisplay(s).Bytes(f), f.Width, f.Height, width)
		data, err = encodeJPEG(small, len(small)/3/height, height, screenQuality, turboHalf)
		return err
	})
	return data, err
}

// run decodes PNG, JPEG and TIFF, two ahead of their use.
func (m *Material) run(ctx context.Context, numbers []int, f func(*Frame) error) error {
	type decoded struct {
		frame *Frame
		err   error
	}
	queue := make(chan chan decoded, 2)
	ctx, stop := context.WithCancel(ctx)
	reading, _ := routines.NewGroup(ctx, -1)
	reading.Go(func() error {
		defer close(queue)
		for _, n := range numbers {
			slot := make(chan decoded, 1)
			select {
			case queue <- slot:
			case <-ctx.Done():
				return nil
			}
			reading.Go(func() error {
				var frame *Frame
				err := routines.Guard(func() (err error) {
					frame, err = m.still(n)
					return err
				})
				slot <- decoded{frame, err}
				return nil
			})
		}
		return nil
	})
	defer reading.Wait()
	defer stop()
	for slot := range queue {
		d := <-slot
		if d.err != nil {
			return d.err
		}
		if err := f(d.frame); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func (m *Material) still(n int) (*Frame, error) {
	path := m.file(n)
	facts, err := look(path) // it may have changed since it was inspected
	if err != nil {
		return nil, err
	}
	if facts.Width != m.Width || facts.Height != m.Height || facts.Samples != m.Samples() {
		return nil, fmt.Errorf("%s changed since it was chosen; bring the shot in again", path)
	}
	if facts.format == "dpx" {
		data, err := os.ReadFile(path)
		if err == nil {
			var h *dpxHead
			if h, err = readDPX(data); err == nil {
				var f *Frame
				if f, err = decodeDPX(data, h); err == nil {
					return f, nil
				}
			}
		}
		return nil, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	picture, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%s is damaged (%w); copy or render it again", path, err)
	}
	f := fromImage(picture, m.Samples(), m.Alpha)
	f.Head = facts.head
	return f, nil
}

// fromImage takes the code values of a picture as they stand in the file.
func fromImage(p image.Image, s Samples, alpha bool) *Frame {
	rect := p.Bounds()
	f := NewFrame(rect.Dx(), rect.Dy(), s)
	if alpha {
		f.Alpha = &Alpha{Codes: make([]uint16, rect.Dx()*rect.Dy())}
	}
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
	raster.Rows(0, rect.Dy(), func(y int) {
		row := f.Codes[3*y*rect.Dx() : 3*(y+1)*rect.Dx()]
		if pix != nil {
			copyCodes(row, pix[y*stride:], 4*width, width)
		} else {
			convertRow(row, p, y, s.Depth)
		}
		if alpha {
			for x := range rect.Dx() {
				_, _, _, a := p.At(rect.Min.X+x, rect.Min.Y+y).RGBA()
				f.Alpha.Codes[y*rect.Dx()+x] = uint16(a >> (16 - s.Depth))
			}
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
	rect := p.Bounds()
	for x := range rect.Dx() {
		c, g, b, a := p.At(rect.Min.X+x, rect.Min.Y+y).RGBA()
		for k, v := range [3]uint32{c, g, b} {
			if a != 0 && a != 0xffff {
				v = min(v*0xffff/a, 0xffff)
			}
			row[3*x+k] = uint16(v >> (16 - depth))
		}
	}
}

// raw is a pixel format that FFmpeg gives frames in: planes in the order green, blue,
// red, or samples side by side, and alpha last.
func raw(s Samples, alpha bool) (format string, planar bool) {
	a := ""
	if alpha {
		a = "a"
	}
	switch {
	case s.Float:
		return "gbr" + a + "pf32le", true
	case s.Depth == 8:
		return "rgb" + map[bool]string{false: "24", true: "a"}[alpha], false
	case s.Depth == 16:
		return map[bool]string{false: "rgb48le", true: "rgba64le"}[alpha], false
	}
	return fmt.Sprintf("gbr%sp%dle", a, s.Depth), true
}

// stream decodes DPX or OpenEXR files by FFmpeg, all of a run in one go.
func (m *Material) stream(ctx context.Context, numbers []int, f func(*Frame) error) error {
	format, _ := raw(m.Samples(), m.Alpha)
	args := []string{
		"-f",
		"image2",
		"-start_number",
		fmt.Sprint(numbers[0]),
		"-i",
		m.pattern(),
		"-frames:v",
		fmt.Sprint(len(numbers)),
		"-f",
		"rawvideo",
		"-pix_fmt",
		format,
		"-",
	}
	n := 0
	complaint, err := m.pipe(ctx, args, func(frame *Frame) (err error) {
		if n == len(numbers) {
			return errors.New("FFmpeg gave more frames than there are files")
		}
		path := m.file(numbers[n])
		if frame.Head, err = head(path); err != nil {
			return fmt.Errorf("%s cannot be read: %w", path, err)
		}
		n++
		return f(frame)
	})
	if err == nil && n < len(numbers) {
		err = fmt.Errorf("%s is damaged or cut short (%s); copy or render it again", m.file(numbers[n]), complaint)
	}
	return err
}

// pipe runs FFmpeg and reads the frames that it gives; complaint is the last thing
// that it said.
func (m *Material) pipe(ctx context.Context, args []string, f func(*Frame) error) (complaint string, err error) {
	cmd := ffmpegReads(ctx, args...)
	var complaints bytes.Buffer
	cmd.Stderr = &complaints
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", err
	}
	if err := cmd.Start(); err != nil {
		return "", fmt.Errorf("start FFmpeg: %w", err)
	}
	s := m.Samples()
	width := s.Bytes()
	if s.Float {
		width = 4 // halves come as floats, which hold them exactly
	}
	channels := 3
	if m.Alpha {
		channels = 4
	}
	data := make([]byte, m.Width*m.Height*channels*width)
	for err == nil {
		if _, end := io.ReadFull(out, data); end != nil {
			break // what is missing the caller sees by the count
		}
		err = f(m.unpacked(data, s))
	}
	if err != nil {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		return "", err
	}
	ended := cmd.Wait()
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	complaint = lastLine(complaints.String())
	if complaint == "" && ended != nil {
		complaint = ended.Error()
	}
	return complaint, nil
}

// unpacked makes a frame of what FFmpeg gave.
func (m *Material) unpacked(data []byte, s Samples) *Frame {
	f := NewFrame(m.Width, m.Height, s)
	n := m.Width * m.Height
	if m.Alpha {
		f.Alpha = &Alpha{}
		if s.Depth == 32 {
			f.Alpha.Floats = make([]float32, n)
		} else {
			f.Alpha.Codes = make([]uint16, n)
		}
	}
	_, planar := raw(s, m.Alpha)
	channels := len(data) / n
	if !planar && !m.Alpha {
		unpack(s, data, f.Codes, nil)
		return f
	}
	width := s.Bytes()
	if s.Float {
		width = 4
	}
	channels /= width
	// Where a channel's samples are, and where in the frame they go.
	raster.Rows(0, m.Height, func(y int) {
		for c := range channels {
			from, step := data[(y*m.Width*channels+c)*width:], channels*width
			to, stride, codes, floats := c, 3, f.Codes, f.Floats
			if planar {
				from, step = data[(c*n+y*m.Width)*width:], width
				to = []int{1, 2, 0, 3}[c]
			}
			if to == 3 {
				to, stride, codes, floats = 0, 1, f.Alpha.Codes, f.Alpha.Floats
			}
			to += stride * y * m.Width
			switch {
			case floats != nil:
				for x := range m.Width {
					floats[to+stride*x] = float32le(from[step*x:])
				}
			case s.Float:
				for x := range m.Width {
					codes[to+stride*x] = colorspace.ToHalf(float32le(from[step*x:]))
				}
			case width == 1:
				for x := range m.Width {
					codes[to+stride*x] = uint16(from[step*x])
				}
			default:
				for x := range m.Width {
					codes[to+stride*x] = binary.LittleEndian.Uint16(from[step*x:])
				}
			}
		}
	})
	return f
}
