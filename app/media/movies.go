package media

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"jardin/core/colorspace"
)

type probe struct {
	Streams []struct {
		Codec     string            `json:"codec_name"`
		Width     int               `json:"width"`
		Height    int               `json:"height"`
		PixFmt    string            `json:"pix_fmt"`
		Rate      string            `json:"r_frame_rate"`
		Frames    string            `json:"nb_frames"`
		Packets   string            `json:"nb_read_packets"`
		Space     string            `json:"color_space"`
		Range     string            `json:"color_range"`
		Transfer  string            `json:"color_transfer"`
		Primaries string            `json:"color_primaries"`
		Aspect    string            `json:"sample_aspect_ratio"`
		Fields    string            `json:"field_order"`
		Tags      map[string]string `json:"tags"`
	} `json:"streams"`
	Format struct {
		Tags map[string]string `json:"tags"`
	} `json:"format"`
}

var deep = regexp.MustCompile(`(9|10|12|14|16)(le|be)|48|64`)

// What FFmpeg calls things, and what they are here. Numbers of ISO/IEC 23091-2.
var (
	movieTransfers = map[string]colorspace.Transfer{
		"bt709": colorspace.BT709, "smpte170m": colorspace.BT709, "bt2020-10": colorspace.BT709,
		"bt2020-12":    colorspace.BT709,
		"iec61966-2-1": colorspace.SRGB, "linear": colorspace.Linear, "gamma22": colorspace.Gamma22,
		"bt470m": colorspace.Gamma22, "smpte428": colorspace.Gamma26,
	}
	moviePrimaries = map[string]colorspace.Primaries{
		"bt709":    colorspace.BT709Primaries,
		"smpte432": colorspace.P3D65Primaries,
		"bt2020":   colorspace.BT2020Primaries,
	}
	movieMatrices = map[string]string{
		"bt709":     "bt709",
		"smpte170m": "bt601",
		"bt470bg":   "bt601",
		"fcc":       "bt601",
		"bt2020nc":  "bt2020",
		"bt2020c":   "bt2020",
		"gbr":       "rgb",
	}
)

func inspectMovie(ctx context.Context, path string, size int64) (*Material, error) {
	if size == 0 {
		return nil, fmt.Errorf("%s is empty (0 bytes); copy it again", path)
	}
	out, err := ffprobe(
		ctx,
		"-of",
		"json",
		"-count_packets",
		"-select_streams",
		"v:0",
		"-show_streams",
		"-show_format",
		"-i",
		"file:"+path,
	)
	if err != nil {
		return nil, fmt.Errorf("%s is not a movie that can be read: %s", path, complaint(err))
	}
	var p probe
	if err := json.Unmarshal(out, &p); err != nil || len(p.Streams) == 0 {
		return nil, fmt.Errorf("%s holds no pictures; choose a movie with a video stream", path)
	}
	s := p.Streams[0]
	if err := sensible(int64(s.Width), int64(s.Height)); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	frames, _ := strconv.Atoi(s.Packets)
	if n, err := strconv.Atoi(s.Frames); err == nil && n > 0 {
		frames = n
	}
	if frames < 1 || frames > MaxFrames {
		return nil, fmt.Errorf("%s holds %d frames; 1 to %d can be read", path, frames, MaxFrames)
	}
	m := &Material{
		Kind: "movie", Path: path, Name: strings.TrimSuffix(filepath.Base(path), filepath.Ext(path)),
		First: 1, Last: frames, Width: s.Width, Height: s.Height, Rate: Rational{24, 1}, Aspect: 1,
		Format: s.Codec + " " + s.PixFmt, Compression: s.Codec, Transfer: colorspace.BT709,
		Primaries: colorspace.BT709Primaries,
		Matrix:    "bt601", Range: "video", Gaps: []Gap{}, Notes: []string{},
	}
	if s.Height >= 720 {
		m.Matrix = "bt709" // untagged high definition (common practice)
	}
	m.Depth, m.Alpha = samplesOf(s.PixFmt)
	// The first letter is the field that is coded first, the second the one that is shown first.
	if v, ok := map[string]string{"tt": TopFirst, "bt": TopFirst, "bb": BottomFirst, "tb": BottomFirst}[s.Fields]; ok {
		m.Fields, m.FieldsBy = v, "told"
	}
	if _, err := fmt.Sscanf(s.Rate, "%d/%d", &m.Rate.Num, &m.Rate.Den); err != nil || m.Rate.Num < 1 || m.Rate.Den < 1 {
		m.Rate = Rational{24, 1}
	}
	var a, b int
	if _, err := fmt.Sscanf(s.Aspect, "%d:%d", &a, &b); err == nil && a > 0 && b > 0 {
		m.Aspect = float64(a) / float64(b)
	}
	if v, ok := movieTransfers[s.Transfer]; ok {
		m.Transfer = v
	}
	if v, ok := moviePrimaries[s.Primaries]; ok {
		m.Primaries = v
	}
	if v, ok := movieMatrices[s.Space]; ok {
		m.Matrix = v
	}
	if isRGB(s.PixFmt) {
		m.Matrix, m.Range = "rgb", "full"
	} else if s.Range == "pc" || strings.HasPrefix(s.PixFmt, "yuvj") {
		m.Range = "full"
	}
	for _, tags := range []map[string]string{s.Tags, p.Format.Tags} {
		for name, value := range tags { // Matroska writes names in capitals
			if m.Timecode == "" && strings.EqualFold(name, "timecode") {
				m.Timecode = value
			}
		}
	}
	if s.Transfer == "smpte2084" || s.Transfer == "arib-std-b67" {
		m.Notes = append(
			m.Notes,
			"It says that its transfer function is "+map[string]string{"smpte2084": "PQ",
				"arib-std-b67": "HLG"}[s.Transfer]+", which is not offered: bring in a version with another.",
		)
	}
	return m, nil
}

func isRGB(format string) bool {
	return strings.HasPrefix(format, "gbr") || strings.Contains(format, "rgb") || strings.Contains(format, "bgr")
}

// samplesOf returns the depth that frames of a pixel format are kept at, and whether
// there is alpha. RGB keeps its code values; YCbCr of more than 8 bits is worked out
// with 16.
func samplesOf(format string) (depth int, alpha bool) {
	alpha = strings.HasPrefix(format, "yuva") || strings.HasPrefix(format, "gbrap") ||
		strings.Contains(format, "rgba") ||
		strings.Contains(format, "bgra")
	depth = 8
	if deep.MatchString(format) {
		depth = 16
	}
	if strings.HasPrefix(format, "gbr") {
		for _, d := range []int{10, 12} {
			if strings.Contains(format, fmt.Sprint("p", d)) {
				depth = d
			}
		}
	}
	return depth, alpha
}

func (m *Material) eachOfMovie(ctx context.Context, plan []int, r Reading, k int, f func(int, *Frame) error) error {
	format, _ := raw(m.Samples(), m.Alpha)
	first := plan[k]
	var filters []string
	if first > m.First {
		filters = append(filters, fmt.Sprintf("select=gte(n\\,%d)", first-m.First))
	}
	if m.Matrix != "rgb" {
		matrix, reach := m.Matrix, m.Range
		if r.Matrix != "" {
			matrix = r.Matrix
		}
		if r.Range != "" {
			reach = r.Range
		}
		filters = append(
			filters,
			fmt.Sprintf(
				"scale=in_color_matrix=%s:in_range=%s:flags=accurate_rnd+full_chroma_int+bicubic%s",
				matrix,
				map[string]string{"full": "pc"}[reach]+map[string]string{"video": "tv"}[reach],
				map[bool]string{true: ":interl=1"}[r.Fields != WholeFrames], // chroma, too, is of two moments
			),
		)
	}
	args := []string{"-i", "file:" + m.Path, "-map", "0:v:0"}
	if len(filters) > 0 {
		args = append(args, "-vf", strings.Join(filters, ","))
	}
	args = append(
		args,
		"-fps_mode",
		"passthrough",
		"-frames:v",
		fmt.Sprint(len(plan)-k),
		"-f",
		"rawvideo",
		"-pix_fmt",
		format,
		"-",
	)
	n := k
	complaint, err := m.pipe(ctx, args, func(frame *Frame) error {
		n++
		return f(n-1, frame)
	})
	if err == nil && n < len(plan) {
		if complaint != "" {
			return fmt.Errorf("%s is damaged after frame %d: %s; copy it again", m.Path, plan[k]+n-k-1, complaint)
		}
		return fmt.Errorf(
			"%s says that it holds %d frames, but ends after %d; copy it again, or bring in fewer",
			m.Path,
			m.Last-m.First+1,
			plan[k]-m.First+n-k,
		)
	}
	return err
}
