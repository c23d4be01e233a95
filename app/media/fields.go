package media

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"strings"
)

// Interlaced frames hold two moments, in every other line each: nothing that follows a surface,
// or lays a patch on it, is right for both, so that they are taken apart (see apart.go).

// Kinds of frames.
const (
	WholeFrames = ""       // one moment each
	TopFirst    = "top"    // interlaced: the upper lines are of the earlier moment
	BottomFirst = "bottom" // interlaced: the lower ones are
)

// FindFields looks whether the material is interlaced, and notes it: by its pictures (see
// fieldsOf) where something moves in them, else by what its file says.
func (m *Material) FindFields(ctx context.Context) error {
	length := m.Last - m.First + 1
	if length < 2 || m.Height < 8 {
		return nil
	}
	frames := min(max(40_000_000/max(m.Width*m.Height, 1), 6), 16)
	var votes fieldVotes
	for _, part := range []int{0, length / 3, 2 * length / 3} {
		planes, err := m.grey(ctx, m.First+part, min(frames, length-part))
		if err != nil {
			return err
		}
		for i := 1; i < len(planes); i++ {
			votes.add(fieldsOf(planes[i-1], planes[i], m.Width, m.Height))
		}
		if votes.whole+votes.top+votes.bottom >= 4 {
			break
		}
	}
	told := m.Fields
	switch top, bottom := votes.top, votes.bottom; {
	case top+bottom >= 2 && top+bottom > 2*votes.whole:
		m.Fields, m.FieldsBy = TopFirst, "measured"
		if bottom > top {
			m.Fields = BottomFirst
		}
	case told != WholeFrames && votes.whole >= 2 && votes.whole > 2*(top+bottom):
		m.Fields, m.FieldsBy = WholeFrames, ""
		m.Notes = append(
			m.Notes,
			"The file says that it is interlaced, but its frames are of one moment each: they are taken as they are.",
		)
	}
	return nil
}

type fieldVotes struct{ whole, top, bottom int }

func (v *fieldVotes) add(fields string, sure bool) {
	switch {
	case !sure:
	case fields == TopFirst:
		v.top++
	case fields == BottomFirst:
		v.bottom++
	default:
		v.whole++
	}
}

// fieldsOf tells from two frames in a row, one byte a pixel, whether each is of one moment.
// Lines of a frame of two moments are combed where something moves. So are those of the next
// frame's upper lines woven into this one's lower ones, and the other way round: in whole
// frames both are combed much more than the frame itself, by the motion of a whole frame; in
// interlaced ones just one is, by three fields' motion, and the other as little as the frame.
// Noise and fine lines comb all three alike. sure is false where too little moves.
func fieldsOf(a, b []byte, w, h int) (fields string, sure bool) {
	var own, upper, lower float64
	comb := func(y int, row func(y int) []byte) (sum float64) {
		up, here, down := row(y-1), row(y), row(y+1)
		for x := range here {
			d := int(up[x]) - 2*int(here[x]) + int(down[x])
			sum += float64(d * d)
		}
		return sum
	}
	line := func(m []byte, y int) []byte { return m[y*w : (y+1)*w] }
	for y := 1; y < h-1; y++ {
		own += comb(y, func(y int) []byte { return line(a, y) })
		upper += comb(y, func(y int) []byte {
			if y%2 == 0 {
				return line(b, y)
			}
			return line(a, y)
		})
		lower += comb(y, func(y int) []byte {
			if y%2 == 0 {
				return line(a, y)
			}
			return line(b, y)
		})
	}
	less, more := min(upper, lower), max(upper, lower)
	if more < 1.15*own+float64(w*h) {
		return WholeFrames, false
	}
	switch share := (less - own) / (more - own); {
	case share > 0.5:
		return WholeFrames, true
	case upper < lower: // this frame's lower lines and the next one's upper ones are neighbours in time
		return TopFirst, true
	}
	return BottomFirst, true
}

// grey decodes frames in a row, one byte a pixel.
func (m *Material) grey(ctx context.Context, from, count int) (planes [][]byte, err error) {
	var args []string
	if m.Kind == "movie" {
		args = []string{
			"-ss",
			fmt.Sprint(float64(from-m.First) * float64(m.Rate.Den) / float64(m.Rate.Num)),
			"-i",
			"file:" + m.Path,
		}
	} else {
		args = []string{"-f", "image2", "-start_number", fmt.Sprint(from), "-i", m.pattern()}
	}
	cmd := exec.CommandContext(ctx, "ffmpeg", append(append([]string{"-v", "quiet", "-nostdin"}, trusted...),
		append(args, "-map", "0:v:0", "-frames:v", fmt.Sprint(count), "-f", "rawvideo", "-pix_fmt", "gray", "-")...)...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start FFmpeg: %w", err)
	}
	defer func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}()
	for range count {
		plane := make([]byte, m.Width*m.Height)
		if _, err := io.ReadFull(out, plane); err != nil {
			break // what cannot be decoded is told when it is brought in
		}
		planes = append(planes, plane)
	}
	return planes, ctx.Err()
}

// pattern is how FFmpeg is told of a series of stills.
func (m *Material) pattern() string {
	return strings.ReplaceAll(
		filepath.Join(m.dir, m.prefix),
		"%",
		"%%",
	) + "%" + map[bool]string{true: fmt.Sprintf("0%d", m.Padding)}[m.Padding > 0] + "d" + m.suffix
}

// Interlaced is the error of material that is brought in as whole frames and has none.
type Interlaced struct{ First, By string }

func (e *Interlaced) Error() string {
	by := "its pictures show it"
	if e.By != "measured" {
		by = "the file says so"
	}
	return fmt.Sprintf(
		"the footage is interlaced, %s field first (%s): each frame holds two moments, and tracks and patches would "+
			"be wrong for both. Have it taken apart into its fields, or, if you know that its frames are whole, say so",
		e.First,
		by,
	)
}

// Valid returns an error if frames cannot be read so.
func (r Reading) Valid() error {
	switch {
	case r.Fields != WholeFrames && r.Fields != TopFirst && r.Fields != BottomFirst:
		return fmt.Errorf("%q is not a field that can come first: top and bottom are", r.Fields)
	case r.Matrix != "" && r.Matrix != "bt601" && r.Matrix != "bt709" && r.Matrix != "bt2020":
		return fmt.Errorf("%q is not a matrix of YCbCr: bt601, bt709 and bt2020 are", r.Matrix)
	case r.Range != "" && r.Range != "full" && r.Range != "video":
		return fmt.Errorf("%q is not a range of YCbCr: full and video are", r.Range)
	case r.Whole && r.Fields != WholeFrames:
		return errors.New("frames are either whole or taken apart into their fields; choose one")
	}
	return nil
}

// OneMoment refuses material of which a frame would hold two moments: that is interlaced, unless it is
// taken apart, or its frames are said to be whole.
func (m *Material) OneMoment(r Reading) error {
	if err := r.Valid(); err != nil {
		return err
	}
	if m.Fields == WholeFrames || r.Whole || r.Fields != WholeFrames {
		return nil
	}
	return &Interlaced{m.Fields, m.FieldsBy}
}
