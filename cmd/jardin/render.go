package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"jardin/app/document"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/carry"
	"jardin/core/colorspace"
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
}

func renderCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "render", Short: "Render clean frames from a plate and a treatment; needs no database", Args: cobra.NoArgs,
	}
	f := c.Flags()
	plate := f.String("plate", "", "folder of numbered stills, or a movie")
	file := f.String("treatment", "", "treatment, see docs/formats.md")
	out := f.String("out", "", "folder for the frames")
	transfer := f.String("transfer", string(colorspace.SRGB), "how code values relate to light: srgb, bt709 or linear")
	first := f.Int("first", -1, "number of the first frame (default: the plate's own)")
	movie := f.Bool("movie", false, "also write an H.264 review movie, review.mp4")
	asJSON := f.Bool("json", false, "print a summary as JSON")
	for _, name := range []string{"plate", "treatment", "out"} {
		if err := c.MarkFlagRequired(name); err != nil {
			panic(err) // the flag is defined above
		}
	}
	c.RunE = func(c *cobra.Command, _ []string) error {
		s, err := renderFiles(c.Context(), *plate, *file, *out, colorspace.Transfer(*transfer), *first, *movie)
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
		for _, r := range s.Removals {
			if r.Note != "" {
				fmt.Printf("%s: %s\n", r.Name, r.Note)
			}
		}
		return nil
	}
	return c
}

func renderFiles(ctx context.Context, plate, file, out string, transfer colorspace.Transfer, first int, movie bool) (*summary, error) {
	began := time.Now()
	if err := transfer.Valid(); err != nil {
		return nil, err
	}
	blob, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read the treatment: %w", err)
	}
	material, err := media.Inspect(ctx, plate)
	if err != nil {
		return nil, err
	}
	if first < 0 {
		first = material.First
	}
	shot := treatment.Range{First: first, Last: first + material.Last - material.First}
	doc, err := document.Parse(blob, &shot)
	if err != nil {
		return nil, fmt.Errorf("%s is not a valid treatment for this plate:\n%w", file, err)
	}
	if doc, err = doc.Inline(nil); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if err := notInside(out, plate, material); err != nil {
		return nil, err
	}
	scratch, err := os.MkdirTemp("", "jardin-render-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(scratch)
	plates, err := media.Import(ctx, material, filepath.Join(scratch, "plate"), first, transfer, false, nil)
	if err != nil {
		return nil, err
	}
	source := picture.NewSource(plates, "plate", render.NewCache(512<<20))
	s := &summary{
		Plate: plate, Out: out, First: shot.First, Last: shot.Last,
		Width: plates.Width, Height: plates.Height, Depth: plates.Depth, Removals: []trackSummary{},
	}
	for i := range doc.Removals {
		t, err := followIfNeeded(ctx, source, doc, &doc.Removals[i])
		if err != nil {
			return nil, fmt.Errorf("follow %q: %w", doc.Removals[i].Name, err)
		}
		s.Removals = append(s.Removals, t)
	}
	compiled, err := render.Compile(doc)
	if err != nil {
		return nil, err
	}
	d := picture.Delivery{Dir: out, Name: material.Name, Range: shot}
	if movie {
		d.Movie = filepath.Join(out, "review.mp4")
		s.Movie = d.Movie
	}
	if err := source.Deliver(ctx, compiled, d, nil); err != nil {
		return nil, err
	}
	for n := shot.First; n <= shot.Last; n++ {
		if source.Evaluator().Key(compiled, n, render.ResultView, "") != "" {
			s.Changed++
		}
	}
	s.Seconds = time.Since(began).Seconds()
	s.Rate = float64(shot.Len()) / s.Seconds
	return s, nil
}

// followIfNeeded measures the track of a removal that has something to follow, but
// no samples yet.
func followIfNeeded(ctx context.Context, source *picture.Source, doc *treatment.Document, r *treatment.Removal) (trackSummary, error) {
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
	if !measured && t.Kind != treatment.GivenTrack {
		whole := treatment.Range{First: source.Plates.First, Last: source.Plates.Last}
		run := picture.Run{Track: t.ID, From: t.Home, First: whole.First, Last: whole.Last}
		if t.Range != nil {
			run.First, run.Last = min(t.Range.First, t.Home), max(t.Range.Last, t.Home)
		}
		var found []picture.Found
		err := source.Follow(ctx, doc, run, func(f picture.Found) { found = append(found, f) })
		var lost *picture.Lost
		if err != nil && !errors.As(err, &lost) {
			return s, err
		}
		if err != nil {
			s.Note = err.Error()
		}
		picture.Keep(t, run, whole, found)
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
