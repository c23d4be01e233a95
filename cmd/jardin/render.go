package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"jardin/app/document"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/memo"
	"jardin/core/render"
	"jardin/core/treatment"
)

// summary is what "jardin render --json" prints.
type summary struct {
	Plate    string         `json:"plate"`
	Out      string         `json:"out"`
	First    int            `json:"first"`
	Last     int            `json:"last"`
	Width    int            `json:"width"`
	Height   int            `json:"height"`
	Depth    int            `json:"depth"`
	Removals []trackSummary `json:"removals"`
	Changed  int            `json:"changedFrames"`
	Seconds  float64        `json:"seconds"`
	Rate     float64        `json:"framesPerSecond"`
	Movie    string         `json:"movie,omitempty"`
}

type trackSummary struct {
	ID       string  `json:"id"`
	Name     string  `json:"name"`
	Tracked  bool    `json:"tracked"` // here, because the treatment had no track
	First    int     `json:"first"`
	Last     int     `json:"last"`
	MinMatch float64 `json:"lowestMatch"`
	Note     string  `json:"note,omitempty"`
	Settled  string  `json:"settled,omitempty"` // what settling it found, if it was
}

func renderCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "render", Short: "Render clean frames from a plate and a treatment; needs no database", Args: cobra.NoArgs,
	}
	f := c.Flags()
	plate := f.String("plate", "", "folder of numbered stills, or a movie")
	file := f.String("treatment", "", "treatment, see docs/formats.md")
	out := f.String("out", "", "folder for the frames")
	var set renderSettings
	set.reading(f)
	f.StringVar(&set.what, "what", picture.CleanFrames, "what to write: clean frames, the patch with alpha, or mattes: what patches cover (mattes), what is marked, gathered, or found of it")
	f.BoolVar(&set.straight, "straight", false, "of a patch: colours are not multiplied by alpha")
	f.StringVar(&set.format, "format", "", "file format: png, tiff, jpeg, exr or dpx (default: as the plate)")
	f.IntVar(&set.depth, "depth", 0, "bits a sample; of exr 16 or 32 (default: as the plate)")
	f.StringVar(&set.name, "name", "", "template of file names (default: {shot}.{frame})")
	f.BoolVar(&set.settle, "settle", false, "settle every removal by itself first, as \"jardin settle\" does")
	f.BoolVar(&set.movie, "movie", false, "also write an H.264 review movie, review.mp4")
	f.BoolVar(&set.master, "master", false, "also write an FFV1 movie without loss, master.mkv")
	asJSON := f.Bool("json", false, "print a summary as JSON")
	required(c, "plate", "treatment", "out")
	c.RunE = func(c *cobra.Command, _ []string) error {
		s, err := renderFiles(c.Context(), *plate, *file, *out, set)
		if err != nil {
			return err
		}
		if *asJSON {
			enc := json.NewEncoder(os.Stdout)
			enc.SetIndent("", "  ")
			return enc.Encode(s)
		}
		fmt.Printf("%d frames (%d to %d), %d of them changed, written to %s in %.1f s\n",
			s.Last-s.First+1, s.First, s.Last, s.Changed, s.Out, s.Seconds)
		for _, summary := range s.Removals {
			if summary.Note != "" {
				fmt.Printf("%s: %s\n", summary.Name, summary.Note)
			}
			if summary.Settled != "" {
				fmt.Printf("%s: %s\n", summary.Name, summary.Settled)
			}
		}
		return nil
	}
	return c
}

// required has the command refuse to run without these flags.
func required(c *cobra.Command, names ...string) {
	for _, name := range names {
		if err := c.MarkFlagRequired(name); err != nil {
			panic(err) // the flag is defined above
		}
	}
}

// reading adds the flags that say how the plate is read.
func (set *renderSettings) reading(f *pflag.FlagSet) {
	f.StringVar(
		&set.transfer,
		"transfer",
		"",
		fmt.Sprintf(
			"how code values relate to light: one of %v (default: what the plate's files tell, or srgb)",
			colorspace.Transfers,
		),
	)
	f.StringVar(
		&set.primaries,
		"primaries",
		"",
		fmt.Sprintf(
			"the plate's primaries: one of %v (default: what its files tell, or bt709)",
			colorspace.AllPrimaries,
		),
	)
	f.IntVar(&set.first, "first", -1, "number of the first frame (default: the plate's own)")
	f.StringVar(&set.fields, "fields", "", "take interlaced frames apart into their fields, the top or the bottom one first; frame n becomes 2n and 2n+1")
	f.StringVar(&set.gaps, "gaps", "", "what to do where numbers are missing: hold the frame before, or close the gap")
}

// renderSettings are what the command can be told besides plate, treatment and place.
type renderSettings struct {
	transfer, primaries, gaps, fields, what, format, name string
	out                                                   string // the folder for the frames; not where the plate lies
	first, depth                                          int
	straight, movie, master, settle                       bool
}

// An opened plate is read, with the treatment for it followed.
type opened struct {
	material *media.Material
	plates   *media.Plates
	source   *picture.Source
	doc      *treatment.Document
	removals []trackSummary
	close    func()
}

// open reads a plate and a treatment for it, and follows what was not followed.
func open(ctx context.Context, plate, file string, set renderSettings) (o *opened, err error) {
	blob, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read the treatment: %w", err)
	}
	material, err := media.Inspect(ctx, plate)
	if err != nil {
		return nil, err
	}
	reading := media.Reading{Gaps: set.gaps, Fields: set.fields}
	if err := reading.Valid(); err != nil {
		return nil, err
	}
	plan, err := material.Plan(reading)
	if err != nil {
		return nil, err
	}
	as, err := set.shot(material, plan[0])
	if err != nil {
		return nil, err
	}
	as.Last = as.First + len(plan) - 1
	as = as.Apart(reading.Fields)
	shot := treatment.Range{First: as.First, Last: as.Last}
	doc, err := document.Parse(blob, &shot)
	if err != nil {
		return nil, fmt.Errorf("%s is not a valid treatment for this plate:\n%w", file, err)
	}
	if doc, err = doc.Inline(nil); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if set.out != "" {
		if err := notInside(set.out, plate, material); err != nil {
			return nil, err
		}
	}
	scratch, err := os.MkdirTemp("", "jardin-render-")
	if err != nil {
		return nil, err
	}
	clear := func() { _ = os.RemoveAll(scratch) }
	defer func() {
		if err != nil {
			clear()
		}
	}()
	o = &opened{material: material, doc: doc, removals: []trackSummary{}, close: clear}
	order := media.Order{Material: material, Reading: reading, Shot: as, Dir: filepath.Join(scratch, "plate")}
	if o.plates, err = media.Import(ctx, order, nil); err != nil {
		return nil, err
	}
	o.source = picture.NewSource(o.plates, "plate", memo.New(512<<20))
	for i := range doc.Removals {
		t, err := followIfNeeded(ctx, o.source, doc, &doc.Removals[i])
		if err != nil {
			return nil, fmt.Errorf("follow %q: %w", doc.Removals[i].Name, err)
		}
		o.removals = append(o.removals, t)
	}
	return o, nil
}

// renderFiles renders a plate with a treatment into a folder.
func renderFiles(ctx context.Context, plate, file, out string, set renderSettings) (*summary, error) {
	began := time.Now()
	set.out = out
	o, err := open(ctx, plate, file, set)
	if err != nil {
		return nil, err
	}
	defer o.close()
	if set.settle {
		if err := o.settle(ctx); err != nil {
			return nil, err
		}
	}
	material, plates, source, doc := o.material, o.plates, o.source, o.doc
	shot := treatment.Range{First: plates.First, Last: plates.Last}
	s := &summary{
		Plate: plate, Out: out, First: shot.First, Last: shot.Last,
		Width: plates.Width, Height: plates.Height, Depth: plates.Depth, Removals: o.removals,
	}
	compiled, err := render.Compile(doc)
	if err != nil {
		return nil, err
	}
	d := set.delivery(out, material, plates)
	d.Document = doc
	if err := d.Prepare(plates, doc, material.Format); err != nil {
		return nil, err
	}
	if err := source.Deliver(ctx, compiled, d, nil); err != nil {
		return nil, err
	}
	if set.movie {
		s.Movie = filepath.Join(out, picture.MovieFile(media.Review))
	}
	for n := shot.First; n <= shot.Last; n++ {
		if compiled.Input(n, render.ResultView, "") != nil {
			s.Changed++
		}
	}
	s.Seconds = time.Since(began).Seconds()
	s.Rate = float64(shot.Len()) / s.Seconds
	return s, nil
}

// shot returns how footage is read whose own numbers begin with first.
func (set *renderSettings) shot(material *media.Material, first int) (media.Shot, error) {
	as := media.Shot{
		First:     set.first,
		Rate:      material.Rate,
		Aspect:    material.Aspect,
		Transfer:  material.Transfer,
		Primaries: material.Primaries,
	}
	if set.first < 0 {
		as.First = first
	}
	if set.transfer != "" {
		as.Transfer = colorspace.Transfer(set.transfer)
	}
	if set.primaries != "" {
		as.Primaries = colorspace.Primaries(set.primaries)
	}
	return as, errors.Join(as.Transfer.Valid(), as.Primaries.Valid())
}

// delivery returns what is delivered, without the document.
func (set *renderSettings) delivery(out string, material *media.Material, plates *media.Plates) picture.Delivery {
	d := picture.Delivery{
		Dir:          out,
		Folder:       ".",
		Shot:         material.Name,
		Padding:      max(material.Padding, 1),
		Version:      1,
		DeliverySpec: picture.DeliverySpec{What: set.what, Straight: set.straight, Template: set.name},
	}
	if material.Kind == "movie" {
		d.Padding = 4
	}
	if d.Template == "" {
		d.Template = "{shot}.{frame}"
	}
	if set.format != "" || set.depth != 0 {
		target := media.TargetOf(material.Format, plates.Samples)
		if set.format != "" {
			target = media.TargetOf(strings.ToUpper(set.format), plates.Samples)
			target.Format = set.format
		}
		if set.depth != 0 {
			target.Depth = set.depth
		}
		target.Float = target.Format == "exr"
		d.Target = &target
	}
	if set.movie {
		d.Movies = append(d.Movies, media.Review)
	}
	if set.master {
		d.Movies = append(d.Movies, media.Master)
	}
	return d
}

// followIfNeeded measures the track of a removal that has something to follow, but
// no samples yet.
func followIfNeeded(
	ctx context.Context,
	source *picture.Source,
	doc *treatment.Document,
	r *treatment.Removal,
) (trackSummary, error) {
	s := trackSummary{ID: r.ID, Name: r.Name, First: r.Reference, Last: r.Reference, MinMatch: 1}
	t := doc.Track(r.Follow.Track)
	if t == nil {
		s.Note = "no track: what is painted stays on its own frame"
		return s, nil
	}
	measured := t.Data != nil
	for _, p := range t.Points {
		measured = measured || p.Path != nil
	}
	if !measured {
		whole := treatment.Range{First: source.Plates.First, Last: source.Plates.Last}
		run := picture.Run{Track: t.ID, From: t.Home, First: whole.First, Last: whole.Last}
		if t.Range != nil {
			run.First, run.Last = min(t.Range.First, t.Home), max(t.Range.Last, t.Home)
		}
		var found []picture.Tracked
		err := source.Follow(ctx, doc, run, func(f picture.Tracked) { found = append(found, f) })
		var lost *picture.LostTrack
		if err != nil && !errors.As(err, &lost) {
			return s, err
		}
		if err != nil {
			s.Note = err.Error()
		}
		picture.MergeTracked(doc, t, run, whole, found)
		s.Tracked = true
	}
	motions, err := carry.New(doc)
	if err != nil {
		return s, err
	}
	for _, v := range motions.Motion(t.ID).Samples {
		s.First, s.Last = min(s.First, v.Frame), max(s.Last, v.Frame)
		if v.Match > 0 {
			s.MinMatch = min(s.MinMatch, v.Match)
		}
	}
	return s, nil
}

// notInside refuses to write frames where the plate lies: a plate is never
// written to.
func notInside(out, plate string, m *media.Material) error {
	a, err := filepath.Abs(out)
	if err != nil {
		return err
	}
	b, err := filepath.Abs(plate)
	if err != nil {
		return err
	}
	if m.Kind == "movie" {
		b = filepath.Dir(b)
	}
	if a == b && m.Kind == "stills" {
		return fmt.Errorf("%s is the plate's own folder; choose another for the frames", out)
	}
	return nil
}
