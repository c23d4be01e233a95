package media

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	_ "image/jpeg" // for image.DecodeConfig
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sort"
	"strconv"
	"strings"

	_ "golang.org/x/image/tiff" // for image.DecodeConfig
)

// A Rational is a frame rate as a fraction, such as 24000/1001.
type Rational struct {
	Num int `json:"num" minimum:"1"`
	Den int `json:"den" minimum:"1"`
}

// Float returns the rate in frames a second.
func (r Rational) Float() float64 { return float64(r.Num) / float64(r.Den) }

func (r Rational) String() string { return fmt.Sprintf("%d/%d", r.Num, r.Den) }

// Material is footage found on disk, before it is brought in.
type Material struct {
	Kind   string   `json:"kind" enum:"stills,movie"`
	Path   string   `json:"path" doc:"The movie, or the folder of the stills"`
	Name   string   `json:"name" doc:"A name for the shot, from the file names"`
	First  int      `json:"first" doc:"Number of the first frame"`
	Last   int      `json:"last" doc:"Number of the last frame"`
	Width  int      `json:"width"`
	Height int      `json:"height"`
	Depth  int      `json:"depth" doc:"Bits a sample once brought in: 8 or 16"`
	Rate   Rational `json:"rate" doc:"Stills have none of their own: 24 is proposed"`
	Format string   `json:"format" doc:"File format, or codec and pixel format"`

	prefix, suffix string
	digits         int
	matrix         string // of YCbCr, for FFmpeg
}

// Limits on what is read, held before memory is taken.
const (
	MaxSide   = 16384
	MaxFrames = 100000
)

var numbered = regexp.MustCompile(`^(.*?)(\d+)(\.(?i:png|jpe?g|tiff?))$`)
var movie = regexp.MustCompile(`\.(?i:mov|mp4|m4v|mkv|avi|mxf|webm)$`)

// IsMovie reports whether a file name is one of a movie that can be read.
func IsMovie(name string) bool { return movie.MatchString(name) }

// IsStill reports whether a file name is one of a numbered still.
func IsStill(name string) bool { return numbered.MatchString(name) }

// Inspect finds out what footage lies at a path: a movie, or a folder of
// numbered stills. The error names the file at fault and says what to do.
func Inspect(ctx context.Context, path string) (*Material, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be opened: %w", path, errors.Unwrap(err))
	}
	if info.IsDir() {
		return inspectStills(path)
	}
	if m := numbered.FindStringSubmatch(filepath.Base(path)); m != nil {
		return nil, fmt.Errorf("%s is a single still; choose the folder that holds the numbered frames", path)
	}
	return inspectMovie(ctx, path, info.Size())
}

func inspectStills(dir string) (*Material, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, fmt.Errorf("the folder %s cannot be read: %w", dir, err)
	}
	type series struct {
		prefix, suffix string
		digits         int
	}
	found := map[series][]int{}
	for _, e := range entries {
		m := numbered.FindStringSubmatch(e.Name())
		if m == nil || e.IsDir() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		n, err := strconv.Atoi(m[2])
		if err != nil {
			continue
		}
		key := series{m[1], m[3], 0}
		if strings.HasPrefix(m[2], "0") {
			key.digits = len(m[2])
		}
		found[key] = append(found[key], n)
	}
	// Unpadded numbers and padded ones that outgrew their padding are one series.
	for key, numbers := range found {
		if key.digits == 0 {
			for other := range found {
				if other.digits > 0 && other.prefix == key.prefix && other.suffix == key.suffix {
					found[other] = append(found[other], numbers...)
					delete(found, key)
					break
				}
			}
		}
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("%s holds no numbered stills (PNG, JPEG or TIFF with a number before the ending)", dir)
	}
	if len(found) > 1 {
		var names []string
		for key := range found {
			names = append(names, key.prefix+"#"+key.suffix)
		}
		sort.Strings(names)
		return nil, fmt.Errorf("%s holds several sequences (%s); put each into a folder of its own", dir, strings.Join(names, ", "))
	}
	m := &Material{Kind: "stills", Path: dir, Rate: Rational{24, 1}}
	for key, numbers := range found {
		m.prefix, m.suffix, m.digits = key.prefix, key.suffix, key.digits
		sort.Ints(numbers)
		m.First, m.Last = numbers[0], numbers[len(numbers)-1]
		for i := 1; i < len(numbers); i++ {
			if numbers[i] == numbers[i-1] {
				return nil, fmt.Errorf("frame %d exists twice in %s; remove one of the files", numbers[i], dir)
			}
			if numbers[i] != numbers[i-1]+1 {
				return nil, fmt.Errorf("frames are missing in %s: %s is followed by %s; bring the missing files, or split the shot",
					dir, filepath.Base(m.file(numbers[i-1])), filepath.Base(m.file(numbers[i])))
			}
		}
		if len(numbers) > MaxFrames {
			return nil, fmt.Errorf("%s holds %d frames; %d is the most a shot may have", dir, len(numbers), MaxFrames)
		}
	}
	m.Name = strings.Trim(m.prefix, " ._-")
	if m.Name == "" {
		m.Name = filepath.Base(dir)
	}
	config, format, depth, err := readHeader(m.file(m.First))
	if err != nil {
		return nil, err
	}
	m.Width, m.Height, m.Depth, m.Format = config.Width, config.Height, depth, strings.ToUpper(format)
	return m, nil
}

// file returns the path of a still.
func (m *Material) file(n int) string {
	return filepath.Join(m.Path, fmt.Sprintf("%s%0*d%s", m.prefix, m.digits, n, m.suffix))
}

// readHeader returns size, format and depth of a still without decoding it.
func readHeader(path string) (image.Config, string, int, error) {
	f, err := os.Open(path)
	if err != nil {
		return image.Config{}, "", 0, fmt.Errorf("%s cannot be opened: %w", path, errors.Unwrap(err))
	}
	defer f.Close()
	config, format, err := image.DecodeConfig(f)
	if err != nil {
		var unsupported png.UnsupportedError
		if errors.As(err, &unsupported) {
			return config, "", 0, fmt.Errorf("%s uses a kind of PNG that is not supported (%w); save it again as 8 or 16 bit RGB", path, err)
		}
		return config, "", 0, fmt.Errorf("%s is not a readable PNG, JPEG or TIFF (%w); replace the file", path, err)
	}
	if config.Width < 1 || config.Height < 1 || config.Width > MaxSide || config.Height > MaxSide {
		return config, "", 0, fmt.Errorf("%s says that it is %d x %d pixels; at most %d x %d can be read", path, config.Width, config.Height, MaxSide, MaxSide)
	}
	return config, format, depthOf(config), nil
}

// depthOf returns 16 if the colour model can hold more than 8 bits.
func depthOf(c image.Config) int {
	if r, _, _, _ := c.ColorModel.Convert(sixteen{}).RGBA(); r == 0x1234 {
		return 16
	}
	return 8
}

// sixteen is a colour that only 16-bit models can hold.
type sixteen struct{}

func (sixteen) RGBA() (r, g, b, a uint32) { return 0x1234, 0x1234, 0x1234, 0xffff }

type probe struct {
	Streams []struct {
		Codec   string `json:"codec_name"`
		Width   int    `json:"width"`
		Height  int    `json:"height"`
		PixFmt  string `json:"pix_fmt"`
		Rate    string `json:"r_frame_rate"`
		Frames  string `json:"nb_frames"`
		Packets string `json:"nb_read_packets"`
		Space   string `json:"color_space"`
	} `json:"streams"`
}

var deep = regexp.MustCompile(`(9|10|12|14|16)(le|be)|48|64`)

func inspectMovie(ctx context.Context, path string, size int64) (*Material, error) {
	if size == 0 {
		return nil, fmt.Errorf("%s is empty (0 bytes); copy it again", path)
	}
	out, err := exec.CommandContext(ctx, "ffprobe", "-v", "error", "-of", "json", "-count_packets",
		"-select_streams", "v:0", "-show_streams", "-i", "file:"+path).Output()
	if err != nil {
		return nil, fmt.Errorf("%s is not a movie that can be read: %s", path, complaint(err))
	}
	var p probe
	if err := json.Unmarshal(out, &p); err != nil || len(p.Streams) == 0 {
		return nil, fmt.Errorf("%s holds no pictures; choose a movie with a video stream", path)
	}
	s := p.Streams[0]
	if s.Width < 1 || s.Height < 1 || s.Width > MaxSide || s.Height > MaxSide {
		return nil, fmt.Errorf("%s says that it is %d x %d pixels; at most %d x %d can be read", path, s.Width, s.Height, MaxSide, MaxSide)
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
		First: 1, Last: frames, Width: s.Width, Height: s.Height, Depth: 8, Rate: Rational{24, 1},
		Format: s.Codec + " " + s.PixFmt,
	}
	if deep.MatchString(s.PixFmt) {
		m.Depth = 16
	}
	if _, err := fmt.Sscanf(s.Rate, "%d/%d", &m.Rate.Num, &m.Rate.Den); err != nil || m.Rate.Num < 1 || m.Rate.Den < 1 {
		m.Rate = Rational{24, 1}
	}
	m.matrix = "auto"
	if (s.Space == "" || s.Space == "unknown") && s.Height >= 720 {
		m.matrix = "bt709" // untagged high definition (common practice)
	}
	return m, nil
}

// complaint returns what a program wrote to its error output, on one line.
func complaint(err error) string {
	var exit *exec.ExitError
	if errors.As(err, &exit) && len(exit.Stderr) > 0 {
		return lastLine(string(exit.Stderr))
	}
	return err.Error()
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}
