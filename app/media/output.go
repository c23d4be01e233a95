package media

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"jardin/core/colorspace"
)

// Kinds of movies.
const (
	Review = "review" // H.264, 4:2:0, BT.709, for any player
	Master = "master" // FFV1 (RFC 9043), RGB without loss
)

// A Movie is a movie, or a part of one, being written.
type Movie struct {
	encoder *encoder
	display *Display // of a review; nil for a master
	path    string
}

// MovieEnding returns that of a kind's file names.
func MovieEnding(kind string) string {
	return map[string]string{Review: "mp4", Master: "mkv"}[kind]
}

// NewMovie begins a movie of frames as they leave a shot; fields leave interlaced.
func NewMovie(ctx context.Context, path, kind string, s Shot, look *colorspace.Cube) (*Movie, error) {
	m := &Movie{path: path}
	order := map[string]string{TopFirst: "tff", BottomFirst: "bff"}[s.Fields]
	filters := "setsar=" + aspect(s.Aspect)
	var interlaced []string
	if order != "" {
		filters += ",setfield=" + order
		interlaced = []string{"-flags", "+ildct+ilme"}
	}
	args := append([]string{"-vf", filters}, interlaced...)
	format := "rgb24"
	if kind == Master {
		if s.Float {
			return nil, fmt.Errorf(
				"a master movie holds integers, the plate's samples are %ss; write OpenEXR stills instead",
				s.Samples,
			)
		}
		packed := "gbrp"
		if s.Samples.Depth > 8 {
			format, packed = "rgb48le", "gbrp16le"
		}
		if s.Samples.Depth == 10 || s.Samples.Depth == 12 {
			format, packed = fmt.Sprintf("gbrp%dle", s.Samples.Depth), fmt.Sprintf("gbrp%dle", s.Samples.Depth)
		}
		args = append(
			args,
			"-c:v",
			"ffv1",
			"-level",
			"3",
			"-g",
			"1",
			"-slices",
			"4",
			"-slicecrc",
			"1",
			"-pix_fmt",
			packed,
			"-f",
			"matroska",
		)
	} else {
		// Half chroma wants even sides; an odd last line or column is repeated.
		scale := ",scale=out_color_matrix=bt709:out_range=tv"
		if order != "" {
			scale += ":interl=1"
		}
		args = append(
			[]string{"-vf", "pad=ceil(iw/2)*2:ceil(ih/2)*2," + filters + scale, "-c:v", "libx264", "-preset", "veryfast",
				"-crf", "16", "-pix_fmt", "yuv420p", "-colorspace", "bt709", "-color_primaries", "bt709",
				"-color_trc", "iec61966-2-1", "-f", "mp4"},
			interlaced...)
		m.display = NewDisplay(s)
		m.display.Through(look)
	}
	var err error
	m.encoder, err = startEncoder(ctx, format, s.Width, s.Height, s.Woven().Rate, append(args, path+".part")...)
	return m, err
}

func aspect(v float64) string {
	if v <= 0 {
		v = 1
	}
	return fmt.Sprintf("%d/1000", int(v*1000+0.5))
}

// Write adds a frame.
func (m *Movie) Write(f *Frame) error {
	if m.display != nil {
		return m.encoder.write(m.display.Bytes(f))
	}
	f = f.Unpacked()
	if f.Depth != 10 && f.Depth != 12 {
		return m.encoder.write(pack(f.Samples, f.Codes, nil))
	}
	n := f.Width * f.Height
	data := make([]byte, 6*n)
	for c, k := range []int{1, 2, 0} {
		for i := range n {
			binary.LittleEndian.PutUint16(data[2*(c*n+i):], f.Codes[3*i+k])
		}
	}
	return m.encoder.write(data)
}

// Close finishes the movie, or drops it if keep is false.
func (m *Movie) Close(keep bool) error {
	err := m.encoder.close()
	if err != nil || !keep {
		os.Remove(m.path + ".part")
		return err
	}
	return os.Rename(m.path+".part", m.path)
}

// Join makes one movie of its parts, without encoding them again. timecode is that of the first
// frame; empty for none.
func Join(ctx context.Context, path string, parts []string, timecode string) error {
	var list bytes.Buffer
	for _, p := range parts {
		full, err := filepath.Abs(p)
		if err != nil {
			return err
		}
		fmt.Fprintf(&list, "file 'file:%s'\n", strings.ReplaceAll(full, "'", `'\''`))
	}
	names := path + ".parts"
	if err := os.WriteFile(names, list.Bytes(), 0o644); err != nil {
		return err
	}
	defer os.Remove(names)
	format := map[string]string{".mp4": "mp4", ".mkv": "matroska"}[filepath.Ext(path)]
	args := []string{"-v", "error", "-y", "-f", "concat", "-safe", "0", "-i", names, "-c", "copy", "-f", format}
	if format == "mp4" {
		args = append(args, "-movflags", "+faststart")
	}
	if timecode != "" {
		args = append(args, "-metadata:s:v:0", "timecode="+timecode)
		if format == "mp4" {
			args = append(args, "-write_tmcd", "1") // a track of its own, as players look for it
		}
	}
	if out, err := exec.CommandContext(ctx, "ffmpeg", append(args, path+".part")...).CombinedOutput(); err != nil {
		os.Remove(path + ".part")
		return fmt.Errorf("join the movie: %s", lastLine(string(out)))
	}
	return os.Rename(path+".part", path)
}
