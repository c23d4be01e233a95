package picture_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/render"
	"jardin/core/treatment"
)

// A whole job beside OpenCV and NumPy on as many processors, in one run, by turns: a plane of 600 x 400 is followed over 16 frames of
// 1920 x 1080, and a held patch of 300 x 300 rendered to PNG, feathered, with light and grain measured and made to fit. Ours measures
// more on the way: agreement, doubts, softness, check sums.
func TestAWholeJob(t *testing.T) {
	if os.Getenv("JARDIN_BENCH") == "" {
		t.Skip("this is a bench; make bench runs it")
	}
	const home = 8
	dir := wideFiles(t, media.Target{Format: "png", Depth: 8}, 16, 1)
	box := func(x, y, w, h float64) []treatment.Vec {
		return []treatment.Vec{{x, y}, {x + w, y}, {x + w, y + h}, {x, y + h}}
	}
	knots := func(corners []treatment.Vec) (out []treatment.Knot) {
		for _, at := range corners {
			out = append(out, treatment.Knot{At: at})
		}
		return out
	}
	var imported, measuring, ours, theirs time.Duration
	for range 2 {
		began := time.Now()
		s := picture.NewSource(brought(t, dir), "job", memo.New(1<<30))
		into := time.Since(began)

		began = time.Now()
		doc := treatment.New()
		doc.Tracks = []treatment.Track{{ID: "t", Name: "T", Kind: treatment.PlaneTrack, Motion: geom.Perspective, Home: home, Region: box(600, 300, 600, 400)}}
		doc.Removals = []treatment.Removal{{
			ID: "r", Name: "R", Range: treatment.Range{First: 1, Last: 16}, Reference: home, Follow: treatment.Follow{Track: "t"},
			Mark: treatment.Mark{Outlines: []treatment.Shape{{ID: "o", Name: "O", Kind: treatment.Outline, Home: home, Feather: 3, Points: knots(box(800, 400, 300, 300))}}},
			Fill: treatment.Fill{Sources: []treatment.Source{{ID: "p", Name: "P", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: home,
				Strokes: []treatment.Stroke{{ID: "s", Mode: "clone", Home: home, Size: 1, Hardness: 1, Opacity: 1,
					From: &treatment.From{Offset: treatment.Vec{330, 20}}, Area: &treatment.Area{Points: knots(box(785, 385, 330, 330)), Feather: 6}}}}}}},
			Settle: treatment.Settle{Opacity: 1},
		}}
		var all []picture.Tracked
		run := picture.Run{Track: "t", From: home, First: 1, Last: 16}
		require.NoError(t, s.Follow(ctx, doc, run, func(f picture.Tracked) { all = append(all, f) }))
		picture.MergeTracked(doc, &doc.Tracks[0], run, treatment.Range{First: 1, Last: 16}, all)
		followed := time.Since(began)
		found, err := s.Settle(ctx, doc, "r", nil, func(int, int) {})
		require.NoError(t, err)
		doc.Removals[0].Settle = found.Settle
		measured := time.Since(began)
		ready, err := render.Compile(doc)
		require.NoError(t, err)
		d := picture.Delivery{Dir: t.TempDir(), Shot: "w", Document: doc}
		require.NoError(t, d.Prepare(s.Plates, doc, "PNG"))
		require.NoError(t, s.Deliver(ctx, ready, d, nil))
		took := time.Since(began)
		t.Logf("ours: followed in %.2f s, measured in %.2f s, rendered in %.2f s", followed.Seconds(), (measured - followed).Seconds(), (took - measured).Seconds())
		if ours == 0 || took < ours {
			ours, measuring, imported = took, measured-followed, into
		}

		python := exec.Command("/usr/bin/python3", "testdata/job.py", filepath.Join(dir, "w.%04d.png"), filepath.Join(t.TempDir(), "%d.png"), "1", "16", fmt.Sprint(home))
		python.Stderr = os.Stderr
		out, err := python.Output()
		require.NoError(t, err)
		seconds, err := strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
		require.NoError(t, err)
		if took := time.Duration(seconds * float64(time.Second)); theirs == 0 || took < theirs {
			theirs = took
		}
	}
	of := func(d time.Duration) string {
		return fmt.Sprintf("%.2f s (%.2f)", d.Seconds(), d.Seconds()/theirs.Seconds())
	}
	fmt.Printf("a whole job, 16 frames, beside OpenCV's and NumPy's %.2f s: followed and rendered %s   (aim: 0.5); Settle's measuring, once, %s; bringing in %s\n",
		theirs.Seconds(), of(ours-measuring), of(measuring), of(imported))
}
