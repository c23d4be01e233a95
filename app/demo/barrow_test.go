package demo_test

import (
	"context"
	"image"
	"math"
	"path/filepath"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/app/picture"
	"jardin/core/check"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/treatment"
)

// pushedAway takes wheelbarrow and who pushes it out of lm_040 by one source: outlined loosely, by a box, followed on
// the path without it.
func pushedAway(t testing.TB, s *picture.Source, known demo.BarrowTruth, g treatment.Gathering) *treatment.Document {
	boxed := func(n int) (out []treatment.Knot) {
		b := known.Boxes[n]
		for _, p := range [][2]float64{{b[0], b[1]}, {b[2], b[1]}, {b[2], b[3]}, {b[0], b[3]}} {
			out = append(out, treatment.Knot{At: treatment.Vec(p)})
		}
		return out
	}
	outline := treatment.Shape{
		ID: "o", Name: "Barrow", Kind: treatment.Outline, Home: known.Reference, Ride: treatment.Still, Points: boxed(known.Reference),
	}
	for n := demo.BarrowFirst; n <= demo.BarrowLast; n++ {
		outline.Keys = append(outline.Keys, treatment.ShapeKey{Frame: n, Ease: treatment.Linear, Points: boxed(n)})
	}
	left := outline
	left.ID = "x"
	doc := treatment.New()
	doc.Tracks = []treatment.Track{tracked(t, s, treatment.Track{
		ID: "p", Name: "Path", Kind: treatment.PlaneTrack, Home: known.Reference, Motion: geom.Perspective,
		Region: []treatment.Vec{{30, 230}, {930, 230}, {930, 520}, {30, 520}}, Exclusions: []treatment.Shape{left},
	}, demo.BarrowFirst, demo.BarrowLast)}
	doc.Removals = []treatment.Removal{{
		ID: "r", Name: "Barrow", Range: treatment.Range{First: demo.BarrowFirst, Last: demo.BarrowLast},
		Reference: known.Reference, Mark: treatment.Mark{Outlines: []treatment.Shape{outline}},
		Follow: treatment.Follow{Track: "p"}, Settle: treatment.Settle{Opacity: 1},
		Fill: treatment.Fill{Sources: []treatment.Source{{
			ID: "g", Name: "Through time", Kind: treatment.Gathered, Gathered: &g,
		}}},
	}}
	return doc
}

// passedBy is how one frame came out, in what has to go.
type passedBy struct{ invisibility, grain, seam float64 }

func measuredBarrow(t testing.TB, n int, at func(r image.Rectangle) *raster.Image) passedBy {
	dir := demotest.Footage(t, demo.BarrowName)
	read := func(what string) image.Image {
		return demotest.ReadPNG(t, demo.FramePath(dir, demo.BarrowName+"/"+what, n))
	}
	inner := raster.Around(demo.BarrowBox(n), 0, demo.Bounds())
	outer := inner.Inset(-12).Intersect(demo.Bounds())
	matte := matteOf(read("matte"), inner)
	for k, v := range matte.Pix {
		matte.Pix[k] = float32(math.Floor(float64(v) + 0.5)) // within what has to go, not on its rim
	}
	r := check.Measure([]check.Take{{
		Frame: n, Result: at(outer), Truth: codesOf(read("truth"), outer), Clean: codesOf(read("clean"), outer),
		Matte: matte, Motion: geom.Identity.Apply,
	}}, matte)
	return passedBy{r.Invisibility.All, (r.Grain[0].All + r.Grain[1].All + r.Grain[2].All) / 3, r.Seam.All}
}

// middle returns the median and what nine of ten stay below.
func middle(v []float64) (median, most float64) {
	v = slices.Sorted(slices.Values(v))
	return v[len(v)/2], v[min(len(v)*9/10, len(v)-1)]
}

// Wheelbarrow and who pushes it go: each place of the path is seen before or after. As seen on every frame, averaged, and
// averaged and settled, against the truth; and against the median over time of frames that OpenCV locks. A hen that
// crosses behind, unmarked, is in none of them.
func TestABarrowGoesThroughTime(t *testing.T) {
	demotest.Share(t, 2)
	known := demotest.BarrowTruth(t)
	s := clip(t, demo.BarrowPlateFolder, demo.BarrowFirst)
	doc := pushedAway(t, s, known, treatment.Gathering{Live: true, Over: 48})
	frames := []int{1061}
	if bench() {
		frames = nil
		for n := 1014; n <= 1084; n += 2 {
			frames = append(frames, n)
		}
	}
	t.Run("what is never seen", func(t *testing.T) { neverSeen(t, s, known, doc.Tracks[0]) })
	all := map[string]struct{ invisibility, grain, seam []float64 }{}
	add := func(name string, p passedBy) {
		f := all[name]
		f.invisibility, f.grain, f.seam = append(f.invisibility, p.invisibility), append(f.grain, p.grain), append(f.seam, p.seam)
		all[name] = f
	}
	var seen, missed float64
	for name, change := range map[string]func(r *treatment.Removal){
		"averaged": func(*treatment.Removal) {},
		"averaged and settled": func(*treatment.Removal) {
			settled(t, s, doc)
		},
		"as seen": func(r *treatment.Removal) {
			r.Settle = treatment.Settle{Opacity: 1}
			r.Fill.Sources[0].Gathered.AsSeen = true
		},
	} {
		g := *doc.Removals[0].Fill.Sources[0].Gathered
		g.AsSeen = false
		doc.Removals[0].Fill.Sources[0].Gathered = &g
		doc.Removals[0].Settle = treatment.Settle{Opacity: 1}
		change(&doc.Removals[0])
		ready, err := render.Compile(doc)
		require.NoError(t, err)
		for _, n := range frames {
			frame, err := s.Clean(context.Background(), ready, n)
			require.NoError(t, err)
			add(name, measuredBarrow(t, n, func(r image.Rectangle) *raster.Image { return partOf(frame, r) }))
			if name == "averaged" {
				share, err := s.Evaluator().Seen(context.Background(), ready, "r", "g", n, true)
				require.NoError(t, err)
				seen, missed = seen+float64(share.Seen), missed+float64(share.All-share.Seen)
			}
		}
	}
	dir := demotest.Footage(t, demo.BarrowName)
	for i, n := range frames {
		if bench() && i%4 != 0 {
			continue
		}
		out := filepath.Join(t.TempDir(), "median.png")
		python(t, "median.py", filepath.Join(dir, demo.BarrowPlateFolder, demo.BarrowName+".%d.png"),
			filepath.Join(dir, demo.BarrowTruthFile), strconv.Itoa(n), strconv.Itoa(demo.BarrowFirst),
			strconv.Itoa(demo.BarrowLast), "8", out)
		made := demotest.ReadPNG(t, out)
		add("OpenCV's median", measuredBarrow(t, n, func(r image.Rectangle) *raster.Image { return codesOf(made, r) }))
	}
	for name, f := range all {
		median, most := middle(f.invisibility)
		grain, _ := middle(f.grain)
		seam, _ := middle(f.seam)
		t.Logf("barrow, %s: invisibility %.2f in the median frame, %.2f in nine of ten; grain %.2f, seam %.2f", name, median, most, grain, seam)
	}
	t.Logf("barrow: %.2f %% of what is marked is never seen", 100*missed/(seen+missed))
	limit := func(name string, median, most float64) {
		m, n := middle(all[name].invisibility)
		assert.LessOrEqual(t, m, median, name)
		assert.LessOrEqual(t, n, most, name)
	}
	limit("as seen", 1.0, 1.3)
	limit("averaged and settled", 1.05, 1.3)
	reference, _ := middle(all["OpenCV's median"].invisibility)
	ours, _ := middle(all["averaged"].invisibility)
	assert.Less(t, ours, reference, "an average against an average")
	for _, name := range []string{"as seen", "averaged and settled"} {
		grain, _ := middle(all[name].grain)
		assert.InDelta(t, 1, grain, 0.05, name)
	}
}
