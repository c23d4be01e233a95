package media

import (
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/jpeg" // for image.DecodeConfig
	"image/png"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sort"
	"strconv"
	"strings"

	_ "golang.org/x/image/tiff" // for image.DecodeConfig

	"jardin/app/routines"
	"jardin/core/colorspace"
)

// A Rational is a frame rate as a fraction, such as 24000/1001.
type Rational struct {
	Num int `json:"num" minimum:"1"`
	Den int `json:"den" minimum:"1"`
}

// Float returns the rate in frames a second.
func (rate Rational) Float() float64 { return float64(rate.Num) / float64(rate.Den) }

func (rate Rational) String() string { return fmt.Sprintf("%d/%d", rate.Num, rate.Den) }

// Material is footage found on disk, before it is brought in: what is told by its
// files, and proposed where they tell nothing.
type Material struct {
	Kind        string               `json:"kind" enum:"stills,movie,several" doc:"several: a folder of more than one sequence, of which one is to be chosen"`
	Path        string               `json:"path" doc:"The movie, or the folder of the stills; of one sequence among others with its name, as in a.#.png"`
	Sequences   []Entry              `json:"sequences,omitempty" doc:"Of several"`
	Name        string               `json:"name" doc:"A name for the shot, from the file names"`
	First       int                  `json:"first" doc:"Number of the first frame"`
	Last        int                  `json:"last" doc:"Number of the last frame"`
	Padding     int                  `json:"padding" doc:"Digits that numbers are filled up to with zeros; 0 for none"`
	Gaps        []Gap                `json:"gaps" nullable:"false" doc:"Numbers that are missing between the first and the last"`
	Width       int                  `json:"width"`
	Height      int                  `json:"height"`
	Depth       int                  `json:"depth" doc:"Bits a sample"`
	Float       bool                 `json:"float" doc:"Samples are floats, else integers"`
	Alpha       bool                 `json:"alpha" doc:"There is alpha: it is kept, and leaves as it came"`
	Rate        Rational             `json:"rate" doc:"Where the files tell none, 24 is proposed"`
	Aspect      float64              `json:"aspect" doc:"Of a pixel, width to height"`
	Timecode    string               `json:"timecode" doc:"Of the first frame; empty if there is none"`
	Fields      string               `json:"fields,omitempty" enum:"top,bottom" doc:"It is interlaced, and which field comes first; left out if it is not"`
	FieldsBy    string               `json:"fieldsBy,omitempty" enum:"measured,told" doc:"How that is known: by its pictures, or by what the file says"`
	Transfer    colorspace.Transfer  `json:"transfer" doc:"Told by the files, or usual for them"`
	Primaries   colorspace.Primaries `json:"primaries" doc:"Told by the files, or usual for them"`
	Matrix      string               `json:"matrix" enum:"rgb,bt601,bt709,bt2020" doc:"Of YCbCr; rgb where there is none"`
	Range       string               `json:"range" enum:"full,video" doc:"Of YCbCr"`
	Format      string               `json:"format" doc:"File format, or codec and pixel format"`
	Compression string               `json:"compression" doc:"As the files name it"`
	Notes       []string             `json:"notes" nullable:"false" doc:"What should be known before it is brought in"`

	dir            string // of stills
	prefix, suffix string
	numbers        []int // of stills, in order
	plain          bool  // DPX that needs no FFmpeg
}

// A Gap is a run of numbers that no still has.
type Gap struct {
	First int `json:"first"`
	Last  int `json:"last"`
}

// A Reading says how material is brought in, where that is not as it was found.
type Reading struct {
	From   *int   `json:"from,omitempty" doc:"Number of the first frame that is brought in, as the material numbers them"`
	To     *int   `json:"to,omitempty" doc:"Number of the last"`
	Gaps   string `json:"gaps,omitempty" enum:"hold,close" doc:"What to do where numbers are missing: hold the frame before, or close the gap, which renumbers what follows"`
	Whole  bool   `json:"whole,omitempty" doc:"Its frames are of one moment each, although they look interlaced, or the file says so"`
	Fields string `json:"fields,omitempty" enum:"top,bottom" doc:"Each frame n is taken apart into its fields, frames 2n and 2n+1 of the shot; the upper or the lower one is the earlier"`
	Matrix string `json:"matrix,omitempty" enum:"bt601,bt709,bt2020" doc:"Of YCbCr, if the file tells it wrong"`
	Range  string `json:"range,omitempty" enum:"full,video" doc:"Of YCbCr, if the file tells it wrong"`
}

// TimecodeOf returns the timecode of the first frame that is brought in.
func (m *Material) TimecodeOf(plan []int, rate Rational) string {
	t, ok := ParseTimecode(m.Timecode, rate)
	if !ok || len(plan) == 0 {
		return m.Timecode
	}
	return t.Add(plan[0] - m.First).String()
}

// Plan returns, for each frame that is brought in, the number that the material has
// for it.
func (m *Material) Plan(r Reading) ([]int, error) {
	from, to := m.First, m.Last
	if r.From != nil {
		from = *r.From
	}
	if r.To != nil {
		to = *r.To
	}
	if from < m.First || to > m.Last || from > to {
		return nil, fmt.Errorf(
			"frames %d to %d are not all there: the material has %d to %d",
			from,
			to,
			m.First,
			m.Last,
		)
	}
	var plan []int
	if m.Kind == "movie" {
		for n := from; n <= to; n++ {
			plan = append(plan, n)
		}
		return plan, nil
	}
	for i, n := range m.numbers {
		if n < from || n > to {
			continue
		}
		if i > 0 && n > m.numbers[i-1]+1 && n > from {
			before := m.numbers[i-1]
			switch {
			case r.Gaps == "hold" && len(plan) > 0:
				for range n - before - 1 {
					plan = append(plan, before)
				}
			case r.Gaps == "close":
			case before >= from || r.Gaps == "":
				return nil, fmt.Errorf(
					"frames are missing in %s: %s is followed by %s; bring the missing files, or choose to hold the "+
						"frame before or to close the gap",
					m.Path,
					filepath.Base(m.file(before)),
					filepath.Base(m.file(n)),
				)
			}
		}
		plan = append(plan, n)
	}
	if len(plan) == 0 {
		return nil, fmt.Errorf("%s has no frame from %d to %d", m.Path, from, to)
	}
	if len(plan) > MaxFrames {
		return nil, fmt.Errorf("%s makes %d frames; %d is the most a shot may have", m.Path, len(plan), MaxFrames)
	}
	return plan, nil
}

// Samples returns what its code values are.
func (m *Material) Samples() Samples { return Samples{m.Depth, m.Float} }

// Limits on what is read, held before memory is taken.
const (
	MaxSide   = 16384
	MaxFrames = 100000
)

var numbered = regexp.MustCompile(`^(.*?)(\d+)(\.(?i:png|jpe?g|tiff?|exr|dpx))$`)
var movie = regexp.MustCompile(`\.(?i:mov|mp4|m4v|mkv|avi|mxf|webm)$`)

// IsMovie reports whether a file name is one of a movie that can be read.
func IsMovie(name string) bool { return movie.MatchString(name) }

// IsStill reports whether a file name is one of a numbered still.
func IsStill(name string) bool { return numbered.MatchString(name) }

// Inspect finds out what footage lies at a path: a movie, or a folder of
// numbered stills, or one sequence of a folder that holds several: the folder's path and
// the sequence's name, with # for the number. The error names the file at fault and says
// what to do; it is a *Several where a sequence has to be chosen.
func Inspect(ctx context.Context, path string) (*Material, error) {
	info, err := os.Stat(path)
	if err != nil && isSequence(path) {
		return inspectStills(ctx, filepath.Dir(path), filepath.Base(path))
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be opened: %w", path, errors.Unwrap(err))
	}
	if info.IsDir() {
		return inspectStills(ctx, path, "")
	}
	if m := numbered.FindStringSubmatch(filepath.Base(path)); m != nil {
		return nil, fmt.Errorf("%s is a single still; choose the folder that holds the numbered frames", path)
	}
	return inspectMovie(ctx, path, info.Size())
}

func inspectStills(ctx context.Context, dir, name string) (*Material, error) {
	one, numbers, err := sequenceIn(dir, name)
	if err != nil {
		return nil, err
	}
	m := &Material{Kind: "stills", Path: filepath.Join(dir, name), dir: dir, Rate: Rational{24, 1}, Aspect: 1, Matrix: "rgb", Range: "full",
		Transfer: colorspace.SRGB, Primaries: colorspace.BT709Primaries, Gaps: []Gap{}, Notes: []string{}}
	m.prefix, m.suffix, m.Padding = one.prefix, one.suffix, one.digits
	if err := m.count(numbers); err != nil {
		return nil, err
	}
	m.Name = strings.Trim(m.prefix, " ._-")
	if m.Name == "" {
		m.Name = filepath.Base(dir)
	}
	// Every file is looked at: one of another kind would be found only in the middle.
	facts := make([]*stillFacts, len(m.numbers))
	group, ctx := routines.NewGroup(ctx, 4)
	for i, n := range m.numbers {
		group.Go(func() (err error) {
			if err = ctx.Err(); err == nil {
				facts[i], err = look(m.file(n))
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	return m, m.describe(facts)
}

// A series is how files of a sequence are named, around their numbers.
type series struct {
	prefix, suffix string
	digits         int // that numbers are padded to; 0 for those that are not
}

// name is how a sequence is called: its files, with # for the number.
func (s series) name() string { return s.prefix + "#" + s.suffix }

// isSequence reports whether a path may name one sequence of a folder.
func isSequence(path string) bool { return strings.Contains(filepath.Base(path), "#") }

// Several says that a folder holds more than one sequence.
type Several struct {
	Dir       string
	Sequences []Entry
}

func (s *Several) Error() string {
	var names []string
	for _, e := range s.Sequences {
		names = append(names, e.Name)
	}
	return fmt.Sprintf("%s holds several sequences (%s); choose one of them by its name, as in %s", s.Dir, strings.Join(names, ", "),
		s.Sequences[0].Path)
}

// sequenceIn finds a sequence of stills in a folder: that of a name, or the only one.
func sequenceIn(dir, name string) (one series, numbers []int, err error) {
	found, err := sequencesIn(dir)
	if err != nil {
		return one, nil, err
	}
	if len(found) == 0 {
		return one, nil, fmt.Errorf(
			"%s holds no numbered stills (PNG, JPEG, TIFF, OpenEXR or DPX with a number before the ending)",
			dir,
		)
	}
	several := &Several{Dir: dir}
	for key, n := range found {
		if name == "" || key.name() == name {
			if numbers != nil && name != "" {
				return one, nil, fmt.Errorf("%s is numbered in two ways, with and without as many digits; put each into a folder of its own", name)
			}
			one, numbers = key, n
		}
		several.Sequences = append(several.Sequences, Entry{
			Name: key.name(), Path: filepath.Join(dir, key.name()), Kind: "stills", Stills: len(n),
		})
	}
	sort.Slice(several.Sequences, func(i, j int) bool { return several.Sequences[i].Name < several.Sequences[j].Name })
	if numbers == nil || name == "" && len(found) > 1 {
		return one, nil, several
	}
	return one, numbers, nil
}

// sequencesIn finds the sequences of stills in a folder, with their numbers.
func sequencesIn(dir string) (map[series][]int, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, fmt.Errorf("the folder %s cannot be read: %w", dir, err)
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
	return found, nil
}

// count takes in which frames there are.
func (m *Material) count(numbers []int) error {
	sort.Ints(numbers)
	m.numbers = numbers
	m.First, m.Last = numbers[0], numbers[len(numbers)-1]
	for i := 1; i < len(numbers); i++ {
		if numbers[i] == numbers[i-1] {
			return fmt.Errorf("frame %d exists twice in %s; remove one of the files", numbers[i], m.Path)
		}
		if numbers[i] != numbers[i-1]+1 {
			m.Gaps = append(m.Gaps, Gap{numbers[i-1] + 1, numbers[i] - 1})
		}
	}
	if len(numbers) > MaxFrames {
		return fmt.Errorf("%s holds %d frames; %d is the most a shot may have", m.Path, len(numbers), MaxFrames)
	}
	return nil
}

// describe takes in what the files of a sequence say, which has to be the same.
func (m *Material) describe(facts []*stillFacts) error {
	one := facts[0]
	for i, f := range facts {
		switch path := m.file(m.numbers[i]); {
		case f.Width != one.Width || f.Height != one.Height:
			return fmt.Errorf(
				"%s is %d x %d pixels, the frames before it %d x %d; all must be alike: render it again, or bring in "+
					"a part of the shot",
				path,
				f.Width,
				f.Height,
				one.Width,
				one.Height,
			)
		case f.Samples != one.Samples:
			return fmt.Errorf(
				"%s has samples of %s, the frames before it of %s; all must be alike: render it again, or bring in a "+
					"part of the shot",
				path,
				f.Samples,
				one.Samples,
			)
		case f.Alpha != one.Alpha && f.format != "png": // an opaque PNG may leave its alpha out
			return fmt.Errorf(
				"%s differs from the frames before it in having alpha or not; all must be alike: render it again",
				path,
			)
		}
		m.Alpha = m.Alpha || f.Alpha
		m.plain = f.plain && (i == 0 || m.plain)
	}
	m.Width, m.Height, m.Depth, m.Float = one.Width, one.Height, one.Depth, one.Float
	m.Format, m.Compression, m.Timecode = strings.ToUpper(one.format), one.compression, one.Timecode
	if one.Aspect > 0 {
		m.Aspect = one.Aspect
	}
	if one.Rate != nil {
		m.Rate = *one.Rate
	}
	if one.Transfer != "" {
		m.Transfer = one.Transfer
	}
	if one.Primaries != "" {
		m.Primaries = one.Primaries
	}
	if one.Note != "" {
		m.Notes = append(m.Notes, one.Note+".")
	}
	return nil
}

// file returns the path of a still.
func (m *Material) file(n int) string {
	return filepath.Join(m.dir, fmt.Sprintf("%s%0*d%s", m.prefix, m.Padding, n, m.suffix))
}

// stillFacts are what a still's header says.
type stillFacts struct {
	Width, Height int
	Samples
	header
	format, compression string
	plain               bool
	head                []byte // of TIFF: what is kept of it
}

// look reads a still's header without decoding it.
func look(path string) (*stillFacts, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be opened: %w", path, errors.Unwrap(err))
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() == 0 {
		return nil, fmt.Errorf("%s is empty (0 bytes); copy it again", path)
	}
	switch strings.ToLower(filepath.Ext(path)) {
	case ".dpx":
		head, err := readHead(f, dpxGeneric)
		if err != nil {
			return nil, err
		}
		h, err := readDPX(head)
		if err != nil {
			return nil, fmt.Errorf("%s cannot be read: %w", path, err)
		}
		n := map[byte]int{dpxRGB: 3, dpxRGBA: 4}[h.descriptor]
		if want := int64(h.data) + int64(h.Height)*int64(n*h.Width*h.Depth/8); info.Size() < want {
			return nil, fmt.Errorf(
				"%s is cut short: it has %d bytes of at least %d; copy it again",
				path,
				info.Size(),
				want,
			)
		}
		return &stillFacts{h.Width, h.Height, h.Samples, h.header, "dpx", "none", h.plain(), nil}, nil
	case ".exr":
		h, _, err := headOfEXR(f)
		if err == nil {
			if err = h.whole(f, info.Size()); err != nil {
				err = fmt.Errorf("%w; copy or render it again", err)
			}
		}
		if err != nil {
			return nil, fmt.Errorf("%s cannot be read: %w", path, err)
		}
		facts := &stillFacts{h.Width, h.Height, h.Samples, h.header, "exr", "unknown", false, nil}
		if int(h.compression) < len(exrCompressions) {
			facts.compression = exrCompressions[h.compression]
		}
		return facts, nil
	}
	config, format, err := image.DecodeConfig(f)
	if err != nil {
		var unsupported png.UnsupportedError
		if errors.As(err, &unsupported) {
			return nil, fmt.Errorf(
				"%s uses a kind of PNG that is not supported (%w); save it again as 8 or 16 bit RGB",
				path,
				err,
			)
		}
		return nil, fmt.Errorf("%s is not a readable PNG, JPEG or TIFF (%w); replace the file", path, err)
	}
	if err := sensible(int64(config.Width), int64(config.Height)); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	facts := &stillFacts{
		Width:       config.Width,
		Height:      config.Height,
		Samples:     Samples{Depth: depthOf(config)},
		format:      format,
		compression: map[string]string{"png": "deflate", "jpeg": "JPEG"}[format],
	}
	if format == "tiff" {
		h, err := readTIFF(f)
		if err != nil {
			return nil, fmt.Errorf("%s cannot be read: %w", path, err)
		}
		facts.compression, facts.head = h.String(), h.bytes()
	}
	facts.Alpha = config.ColorModel == color.NRGBAModel || config.ColorModel == color.NRGBA64Model
	return facts, nil
}

// readHead reads up to n bytes from a file's beginning.
func readHead(f *os.File, n int) ([]byte, error) {
	head := make([]byte, n)
	k, err := f.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return head[:k], nil
}

// headOfEXR returns an OpenEXR file's header, and its bytes.
func headOfEXR(f *os.File) (*exrHead, []byte, error) {
	for n := 4 << 10; ; n *= 16 {
		head, err := readHead(f, n)
		if err != nil {
			return nil, nil, err
		}
		h, err := readEXR(head)
		if errors.Is(err, errShort) && len(head) == n && n < 4<<20 {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		return h, head[:h.size], nil
	}
}

// head returns what a still's file keeps besides pixels: of DPX and OpenEXR.
func head(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	switch strings.ToLower(filepath.Ext(path)) {
	case ".exr":
		_, data, err := headOfEXR(f)
		return data, err
	case ".dpx":
		data, err := readHead(f, 1<<20)
		if err != nil {
			return nil, err
		}
		h, err := readDPX(data)
		if err != nil || h.data > len(data) {
			return nil, err
		}
		return data[:h.data], nil
	}
	return nil, nil
}

// depthOf returns 16 if the colour model can hold more than 8 bits.
func depthOf(c image.Config) int {
	if red, _, _, _ := c.ColorModel.Convert(sixteen{}).RGBA(); red == 0x1234 {
		return 16
	}
	return 8
}

// sixteen is a colour that only 16-bit models can hold.
type sixteen struct{}

func (sixteen) RGBA() (red, g, b, a uint32) { return 0x1234, 0x1234, 0x1234, 0xffff }

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
