package picture

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/cespare/xxhash/v2"
	"jardin/app/media"
	"jardin/app/routines"
	"jardin/core/colorspace"
	"jardin/core/render"
	"jardin/core/treatment"
)

// What a delivery holds.
const (
	CleanFrames = "clean"  // the plate with every patch laid on it
	PatchOnly   = "patch"  // the patches with their coverage as alpha, black beyond
	Mattes      = "mattes" // their coverage: code values are its share
	// As such alphas, what is marked; where something was gathered through time; that within what is marked.
	Marked, Gathered, Found = "marked", "gathered", "found"
)

// alphas are the views that are delivered as code values.
var alphas = map[string]render.View{
	Mattes: render.AloneView, Marked: render.MarkedView, Gathered: render.GatheredView, Found: render.FoundView,
}

// DeliverySpec says what to write, and how.
type DeliverySpec struct {
	What     string           `json:"what" enum:"clean,patch,mattes,marked,gathered,found" doc:"Clean frames; the patches alone with alpha; or code values that are a share: what patches cover, what is marked, where something was gathered through time, and that within what is marked"`
	Removals []string         `json:"removals,omitempty" doc:"Only these; none for all"`
	Range    *treatment.Range `json:"range,omitempty" doc:"Only these frames"`
	Target   *media.Target    `json:"target,omitempty" doc:"File format and samples; as the plate came in if it is left out"`
	Straight bool             `json:"straight,omitempty" doc:"Of patches: colours are not multiplied by alpha"`
	Movies   []string         `json:"movies,omitempty" enum:"review,master" doc:"Movies beside the frames: H.264 for review, FFV1 without loss"`
	Looked   bool             `json:"looked,omitempty" doc:"The movie for review is as the shot's .cube file shows it; frames and the movie without loss never are"`
	Template string           `json:"template,omitempty" doc:"Of file names, without their ending: {show}, {shot}, {version}, {revision}, {frame}"`
}

// DefaultTemplate names files where nothing else is wanted.
const DefaultTemplate = "{shot}_v{version}.{frame}"

// A Delivery says what to write, and where.
type Delivery struct {
	DeliverySpec
	Dir      string // movies and the manifest go here
	Folder   string // of the frames, in that; "frames" if it is left out
	Show     string
	Shot     string
	Padding  int // least number of digits of frame numbers
	Version  int // of all deliveries of the shot
	Revision int
	Document *treatment.Document // for the manifest
	Look     *colorspace.Cube    // of the movie for review; nil for an sRGB screen
	LookHash string              // names it

	Leaving treatment.Range // numbers of the frames that leave: those of the range, or woven of its fields
}

// FramesFolder is where frames lie in a delivery if nothing else is wanted.
const FramesFolder = "frames"

// MovieFile returns the name of a movie of a delivery.
func MovieFile(kind string) string { return kind + "." + media.MovieEnding(kind) }

// Prepare fills in what was left out, and returns an error that says what cannot be.
func (d *Delivery) Prepare(p *media.Plates, t *treatment.Document, format string) error {
	if d.What == "" {
		d.What = CleanFrames
	}
	if d.Template == "" {
		d.Template = DefaultTemplate
	}
	if d.Padding == 0 {
		d.Padding = 4
	}
	if d.Folder == "" {
		d.Folder = FramesFolder
	}
	if !slices.Contains([]string{CleanFrames, PatchOnly, Mattes, Marked, Gathered, Found}, d.What) {
		return fmt.Errorf("%q cannot be delivered: clean, patch, mattes, marked, gathered and found can", d.What)
	}
	if d.Target == nil {
		target := media.TargetOf(format, p.Samples)
		if d.What != CleanFrames && (target.Format == "jpeg" || target.Format == "dpx") {
			target = media.Target{Format: "png", Depth: 16} // these have no alpha, or hardly anyone reads it there
		}
		d.Target = &target
	}
	if err := d.Target.Valid(); err != nil {
		return err
	}
	whole := treatment.Range{First: p.First, Last: p.Last}
	if d.Range == nil {
		d.Range = &whole
	}
	if d.Range.First < whole.First || d.Range.Last > whole.Last || d.Range.First > d.Range.Last {
		return fmt.Errorf(
			"frames %d to %d are not all in the shot (%d to %d)",
			d.Range.First,
			d.Range.Last,
			whole.First,
			whole.Last,
		)
	}
	d.Leaving = *d.Range
	if p.Fields != media.WholeFrames { // no frame leaves by half
		d.Leaving.First, d.Leaving.Last = d.Range.First/2, d.Range.Last/2
		d.Range = &treatment.Range{First: 2 * d.Leaving.First, Last: 2*d.Leaving.Last + 1}
	}
	for _, id := range d.Removals {
		if r, _ := t.Find(id); r == nil {
			return fmt.Errorf("there is no removal %q", id)
		}
	}
	if d.What == PatchOnly && (d.Target.Format == "jpeg" || d.Target.Format == "dpx" && d.Target.Depth == 10) {
		return fmt.Errorf(
			"%s of %s has no alpha for the patch; choose PNG, TIFF or OpenEXR",
			d.Target.Format,
			d.Target.Samples(),
		)
	}
	if p.Alpha && d.What == CleanFrames && d.Target.Format == "jpeg" {
		return errors.New("the plate has alpha, which JPEG cannot hold; choose another format")
	}
	for i, kind := range d.Movies {
		switch {
		case slices.Contains(d.Movies[:i], kind):
			return fmt.Errorf("the %s movie is asked for twice; once is enough", kind)
		case media.MovieEnding(kind) == "":
			return fmt.Errorf("%q is not a kind of movie: review and master are", kind)
		case d.What != CleanFrames:
			return errors.New("movies are made of clean frames; deliver patches and mattes as stills")
		case kind == media.Master && p.Float:
			return fmt.Errorf("a master movie holds integers, the plate has %ss; deliver OpenEXR stills", p.Samples)
		}
	}
	return checkTemplate(d.Template)
}

var word = regexp.MustCompile(`\{[^}]*\}`)

func checkTemplate(t string) error {
	for _, w := range word.FindAllString(t, -1) {
		if !slices.Contains([]string{"{show}", "{shot}", "{version}", "{revision}", "{frame}"}, w) {
			return fmt.Errorf("names know no %s: {show}, {shot}, {version}, {revision} and {frame} can be used", w)
		}
	}
	rest := word.ReplaceAllString(t, "")
	switch {
	case strings.Count(t, "{frame}") != 1:
		return errors.New("names need {frame} once, or every frame would have the same")
	case strings.ContainsAny(rest, "/\\:*?\"<>|{}") || strings.ContainsFunc(rest, func(c rune) bool { return c < ' ' }):
		return errors.New(`names cannot hold / \ : * ? " < > | or braces`)
	case strings.HasPrefix(t, "."):
		return errors.New("names cannot begin with a dot")
	}
	return nil
}

// FrameFile returns the name of the file of a frame that leaves.
func (d *Delivery) FrameFile(n int) string {
	safe := func(s string) string {
		return strings.Map(func(c rune) rune {
			if strings.ContainsRune("/\\:*?\"<>|{}", c) || c < ' ' {
				return '_'
			}
			return c
		}, s)
	}
	name := strings.NewReplacer("{show}", safe(d.Show), "{shot}", safe(d.Shot), "{version}", fmt.Sprintf("%03d",
		d.Version),
		"{revision}", strconv.Itoa(d.Revision), "{frame}", fmt.Sprintf("%0*d", d.Padding, n)).
		Replace(d.Template)
	return name + "." + d.Target.Ending()
}

// Clean returns a finished frame: the plate's own code values, its alpha and what its
// file held besides, and patches where they lie.
func (s *Source) Clean(ctx context.Context, t *render.Treatment, n int) (*media.Frame, error) {
	plate, err := s.Plates.Whole(n)
	if err != nil {
		return nil, err
	}
	result, err := s.eval.Frame(ctx, t, n, render.ResultView, "")
	if err != nil {
		return nil, fmt.Errorf("frame %d: %w", n, err)
	}
	plate.Composite(result.Image, s.coder)
	return plate, nil
}

// patchOf returns the patches of a frame, or their mattes, in a target's samples.
func (s *Source) patchOf(ctx context.Context, t *render.Treatment, n int, d *Delivery) (*media.Frame, error) {
	view, alpha := alphas[d.What]
	if !alpha {
		view = render.AloneView
	}
	patch, err := s.eval.Frame(ctx, t, n, view, "")
	if err != nil {
		return nil, fmt.Errorf("frame %d: %w", n, err)
	}
	covered := func(x, y int) float32 {
		if !image.Pt(x, y).In(patch.Coverage.Rect) {
			return 0
		}
		return patch.Coverage.At(x, y)
	}
	f := media.NewFrame(s.Plates.Width, s.Plates.Height, d.Target.Samples())
	if alpha {
		f.Fill(covered)
		return f, nil
	}
	if d.Straight {
		rect := patch.Rect
		for y := rect.Min.Y; y < rect.Max.Y; y++ {
			row := patch.Row(y, rect.Min.X, rect.Max.X)
			for x := range rect.Dx() {
				if a := covered(rect.Min.X+x, y); a > 0 {
					for k := range 3 {
						row[4*x+k] /= a
					}
				}
			}
		}
	}
	transfer := s.Plates.Transfer
	if d.Target.Float && !s.Plates.Float {
		transfer = colorspace.Linear
	}
	f.Composite(patch.Image, coderFor(transfer, d.Target.Samples()))
	f.Cover(covered)
	return f, nil
}

// leaving returns a frame as it leaves, woven of its fields where the shot has those.
func (s *Source) leaving(ctx context.Context, t *render.Treatment, n int, d *Delivery) (f *media.Frame, err error) {
	var fields []*media.Frame
	for _, k := range s.Plates.Kept(n) {
		if d.What == CleanFrames {
			f, err = s.Clean(ctx, t, k)
		} else {
			f, err = s.patchOf(ctx, t, k, d)
		}
		if err != nil {
			return nil, err
		}
		fields = append(fields, f)
	}
	if len(fields) == 2 {
		f, err = media.Weave(fields[0], fields[1], s.Plates.Fields)
	}
	if f != nil {
		f.Timecode = s.Plates.Woven().TimecodeAt(n)
	}
	return f, err
}

// Deliver writes frames, movies, a manifest and check sums. Every file is whole or
// absent, and what is there already is not made again: so it goes on after an
// interruption. progress is told after each frame that is finished.
func (s *Source) Deliver(ctx context.Context, t *render.Treatment, d Delivery, progress func(done, total int)) error {
	frames := filepath.Join(d.Dir, d.Folder)
	if err := os.MkdirAll(frames, 0o755); err != nil {
		return fmt.Errorf("make the folder for the frames: %w", err)
	}
	if len(d.Removals) > 0 {
		t = t.Only(d.Removals...)
	}
	if err := s.begin(&d, frames); err != nil {
		return err
	}
	// Some frames are made and written at once: the disk is waited for while others are
	// made. Only for the movies each waits for its turn.
	group, inner := routines.NewGroup(ctx, s.Plates.AtOnce())
	movies := s.movieParts(&d)
	sums := sums{by: map[int]sum{}}
	turn := make(chan struct{})
	close(turn)
	for n := d.Leaving.First; n <= d.Leaving.Last && inner.Err() == nil; n++ {
		mine, next := turn, make(chan struct{})
		turn = next
		group.Go(func() (err error) {
			var f *media.Frame
			if !there(filepath.Join(frames, d.FrameFile(n))) || movies.want(n) {
				if f, err = s.leaving(inner, t, n, &d); err != nil {
					return err
				}
			}
			select {
			case <-mine:
			case <-inner.Done():
				return inner.Err()
			}
			if err := movies.add(ctx, n, f); err != nil {
				return err
			}
			close(next)
			if err := s.write(&d, n, f, &sums); err != nil {
				return err
			}
			if progress != nil {
				sums.mu.Lock()
				defer sums.mu.Unlock()
				progress(len(sums.by), d.Leaving.Len())
			}
			return nil
		})
	}
	err := group.Wait()
	if ended := movies.end(err == nil && ctx.Err() == nil); err == nil {
		err = ended
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return err
	}
	if err := movies.join(ctx); err != nil {
		return err
	}
	if err := s.manifest(&d, &sums); err != nil {
		return err
	}
	return gone(filepath.Join(d.Dir, orderFile))
}

// orderFile tells what the files of a folder that is not finished are made from.
const orderFile = ".delivery"

// begin makes a folder ready: what is there from the same delivery stays, as it was
// interrupted; what another one left, made from another treatment, of another plate, with
// other settings or by another program, goes.
func (s *Source) begin(d *Delivery, frames string) error {
	blob, err := json.Marshal(
		[]any{Computation(), s.Key(), s.Plates.Shot, d.DeliverySpec, d.Padding, d.Show, d.Shot, d.Version, d.Document, d.LookHash},
	)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(blob)
	order := hex.EncodeToString(sum[:])
	path := filepath.Join(d.Dir, orderFile)
	if old, err := os.ReadFile(path); err == nil && string(old) == order {
		return nil
	}
	for n := d.Leaving.First; n <= d.Leaving.Last; n++ {
		if err := gone(filepath.Join(frames, d.FrameFile(n))); err != nil {
			return fmt.Errorf("clear what an earlier delivery left: %w", err)
		}
	}
	for _, name := range []string{ManifestFile, SumsFile, oldSumsFile} {
		if err := gone(filepath.Join(d.Dir, name)); err != nil {
			return fmt.Errorf("clear what an earlier delivery left: %w", err)
		}
	}
	movies := &movieParts{delivery: d}
	for _, kind := range d.Movies {
		if err := gone(filepath.Join(d.Dir, MovieFile(kind))); err != nil {
			return err
		}
		for n := d.Leaving.First; n <= d.Leaving.Last; n += segment {
			if err := gone(movies.part(kind, n)); err != nil {
				return err
			}
		}
	}
	return media.WriteFile(path, []byte(order))
}

// gone removes a file that may be there.
func gone(path string) error {
	if err := os.Remove(path); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// write writes a frame, if it is not there yet, and notes its check sum.
func (s *Source) write(d *Delivery, n int, f *media.Frame, all *sums) error {
	name := d.FrameFile(n)
	path := filepath.Join(d.Dir, d.Folder, name)
	data, err := os.ReadFile(path)
	if err != nil {
		if f == nil {
			return fmt.Errorf("frame %d was taken away while it was delivered", n)
		}
		shot := s.Plates.Shot
		if data, err = d.Target.Encode(f, shot, name); err != nil {
			return fmt.Errorf("frame %d: %w", n, err)
		}
		if err = media.WriteFile(path, data); err != nil {
			return fmt.Errorf("write %s: %w", name, err)
		}
	}
	plate := ""
	if f != nil {
		plate = f.Hash
	}
	if plate == "" {
		var kept []string
		for _, k := range s.Plates.Kept(n) {
			hash, err := s.Plates.Hash(k)
			if err != nil {
				return err
			}
			kept = append(kept, hash)
		}
		plate = strings.Join(kept, "+")
	}
	hash := xxhash.Sum64(data)
	all.mu.Lock()
	defer all.mu.Unlock()
	all.by[n] = sum{
		Frame:    n,
		Timecode: s.Plates.Woven().TimecodeAt(n),
		File:     filepath.Join(d.Folder, name),
		XXH64:    fmt.Sprintf("%016x", hash),
		Plate:    plate,
	}
	return nil
}

type sums struct {
	mu sync.Mutex
	by map[int]sum
}

// A sum tells what a frame's file is, and from which plate it was made.
type sum struct {
	Frame    int    `json:"frame"`
	Timecode string `json:"timecode,omitempty"`
	File     string `json:"file"`
	XXH64    string `json:"xxh64"`
	Plate    string `json:"plate"` // XXH64 of the plate's code values; of two fields with + between
}

// A Manifest tells where a delivery comes from.
type Manifest struct {
	Program   string       `json:"program"`
	Version   string       `json:"programVersion"`
	Show      string       `json:"show"`
	Shot      string       `json:"shot"`
	Number    int          `json:"version"`
	Revision  int          `json:"revision"`
	Treatment string       `json:"treatment"` // SHA-256 of the document as JSON
	Settings  DeliverySpec `json:"settings"`
	Rate      string       `json:"rate"`
	Fields    string       `json:"fields,omitempty"`   // frames are interlaced: which field comes first
	Timecode  string       `json:"timecode,omitempty"` // of the first frame
	Width     int          `json:"width"`
	Height    int          `json:"height"`
	Transfer  string       `json:"transfer"`
	Primaries string       `json:"primaries"`
	Frames    []sum        `json:"frames"`
	Movies    []movieSum   `json:"movies"`
}

type movieSum struct {
	File  string `json:"file"`
	XXH64 string `json:"xxh64"`
}

// ManifestFile and SumsFile lie beside the frames' folder.
const (
	ManifestFile = "manifest.json"
	SumsFile     = "XXH64SUMS"  // as xxh64sum writes them
	oldSumsFile  = "SHA256SUMS" // what older programs wrote
)

// SumsFileIn returns which sums lie beside the frames of a finished delivery, as older programs wrote others.
func SumsFileIn(dir string) string {
	if !there(filepath.Join(dir, SumsFile)) && there(filepath.Join(dir, oldSumsFile)) {
		return oldSumsFile
	}
	return SumsFile
}

func (s *Source) manifest(d *Delivery, all *sums) error {
	p := s.Plates.Woven()
	m := Manifest{
		Program:   "Jardin",
		Version:   Version(),
		Show:      d.Show,
		Shot:      d.Shot,
		Number:    d.Version,
		Revision:  d.Revision,
		Settings:  d.DeliverySpec,
		Rate:      p.Rate.String(),
		Fields:    s.Plates.Fields,
		Timecode:  p.TimecodeAt(d.Leaving.First),
		Width:     p.Width,
		Height:    p.Height,
		Transfer:  string(p.Transfer),
		Primaries: string(p.Primaries),
		Frames:    []sum{},
		Movies:    []movieSum{},
	}
	doc, err := json.Marshal(d.Document)
	if err != nil {
		return err
	}
	hash := sha256.Sum256(doc)
	m.Treatment = hex.EncodeToString(hash[:])
	var lines strings.Builder
	for n := d.Leaving.First; n <= d.Leaving.Last; n++ {
		m.Frames = append(m.Frames, all.by[n])
		fmt.Fprintf(&lines, "%s  %s\n", all.by[n].XXH64, all.by[n].File)
	}
	for _, kind := range d.Movies {
		sum, err := sumOf(filepath.Join(d.Dir, MovieFile(kind)))
		if err != nil {
			return err
		}
		m.Movies = append(m.Movies, movieSum{MovieFile(kind), sum})
		fmt.Fprintf(&lines, "%s  %s\n", m.Movies[len(m.Movies)-1].XXH64, MovieFile(kind))
	}
	blob, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	fmt.Fprintf(&lines, "%016x  %s\n", xxhash.Sum64(blob), ManifestFile)
	if err := media.WriteFile(filepath.Join(d.Dir, ManifestFile), blob); err != nil {
		return err
	}
	return media.WriteFile(filepath.Join(d.Dir, SumsFile), []byte(lines.String()))
}

// sumOf returns a file's XXH64; it may be larger than the memory.
func sumOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	hash := xxhash.New()
	if _, err := io.Copy(hash, f); err != nil {
		return "", err
	}
	return fmt.Sprintf("%016x", hash.Sum64()), nil
}

// Version returns what this program was built from.
func Version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" {
			return s.Value
		}
	}
	return info.Main.Version
}
