package demo_test

import (
	"context"
	"encoding/json"
	"fmt"
	"image"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/app/picture"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/treatment"
)

// traced are outlines around what the truth says has to go from lm_040 on some frames, as OpenCV finds them: through the
// middles of the outermost pixels, of which each is so covered in part.
func traced(t testing.TB, first, last int) (out []treatment.Shape) {
	var found map[int][]struct {
		Hole   bool
		Points [][2]float64
	}
	pattern := demotest.Footage(t, demo.BarrowName) + "/" + demo.BarrowName + "/matte/" + demo.BarrowName + ".%d.png"
	said := python(t, "outlines.py", pattern, fmt.Sprint(first), fmt.Sprint(last))
	require.NoError(t, json.Unmarshal(said, &found))
	for n := first; n <= last; n++ {
		require.NotEmpty(t, found[n])
		for pass, hole := range []bool{false, true} { // first what is added, then what is taken out of it
			for k, c := range found[n] {
				if c.Hole != hole {
					continue
				}
				s := treatment.Shape{
					ID: fmt.Sprint("m", n, "-", pass, "-", k), Name: "Barrow", Kind: treatment.Outline, Home: n, Ride: treatment.Still,
					Range: &treatment.Range{First: n, Last: n},
				}
				if hole {
					s.Combine = treatment.Take
				}
				for _, p := range c.Points {
					s.Points = append(s.Points, treatment.Knot{At: treatment.Vec(p)})
				}
				out = append(out, s)
			}
		}
	}
	return out
}

// What a gathered source says was seen, and what never was, against the mattes of the truth and its motion, pixel by
// pixel, over spans of time in which a part is never seen.
func neverSeen(t *testing.T, s *picture.Source, known demo.BarrowTruth, track treatment.Track) {
	track.Exclusions = nil
	dir := demotest.Footage(t, demo.BarrowName)
	size := demo.Bounds()
	mattes := map[int]*raster.Plane{}
	matte := func(n int) *raster.Plane {
		if mattes[n] == nil {
			mattes[n] = matteOf(demotest.ReadPNG(t, demo.FramePath(dir, demo.BarrowName+"/matte", n)), size)
		}
		return mattes[n]
	}
	all, wrong := 0, 0
	for _, c := range []struct{ frame, over int }{{1036, 1}, {1050, 2}, {1061, 3}} {
		first, last := c.frame-c.over, c.frame+c.over
		doc := treatment.New()
		doc.Tracks = []treatment.Track{track}
		doc.Removals = []treatment.Removal{{
			ID: "r", Name: "Barrow", Range: treatment.Range{First: first, Last: last}, Reference: c.frame,
			Mark:   treatment.Mark{Outlines: traced(t, first, last)},
			Follow: treatment.Follow{Track: track.ID}, Settle: treatment.Settle{Opacity: 1},
			Fill: treatment.Fill{Sources: []treatment.Source{{
				ID: "g", Name: "Through time", Kind: treatment.Gathered, Gathered: &treatment.Gathering{Live: true, Over: c.over},
			}}},
		}}
		require.NoError(t, doc.Validate(nil))
		ready, err := render.Compile(doc)
		require.NoError(t, err)
		result, err := s.Evaluator().Frame(context.Background(), ready, c.frame, render.MatteView, "")
		require.NoError(t, err)
		here, back := matte(c.frame), inverse(known.Motion[c.frame])
		marks, err := s.Evaluator().Matte(context.Background(), ready, "r", c.frame)
		require.NoError(t, err)
		marked, never, off, inside, neverInside := 0, 0, 0, 0, 0
		for i, v := range here.Pix {
			x, y := i%size.Dx(), i/size.Dx()
			if v == 0 {
				continue
			}
			marked++
			seen := false
			for k := first; k <= last && !seen; k++ {
				m := known.Motion[k].Mul(back)
				q := m.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))
				at := image.Pt(int(math.Floor(q.X)), int(math.Floor(q.Y)))
				seen = k != c.frame && at.In(size) && matte(k).At(at.X, at.Y) == 0
			}
			if !seen {
				never++
			}
			if marks.At(x, y) > 0.5 {
				inside++
				if !seen {
					neverInside++
				}
			}
			if seen != (result.Coverage.At(x, y) > 0) {
				off++
			}
		}
		share, err := s.Evaluator().Seen(context.Background(), ready, "r", "g", c.frame, false)
		require.NoError(t, err)
		said := 1 - float64(share.Seen)/float64(share.All)
		t.Logf("seen, frame %d, %d around: by the truth %.2f %% of %d pixels are never seen, other %.2f %%; of the inner %.2f %%, said %.2f %%",
			c.frame, c.over, 100*float64(never)/float64(marked), marked, 100*float64(off)/float64(marked),
			100*float64(neverInside)/float64(inside), 100*said)
		all, wrong = all+marked, wrong+off
		assert.Greater(t, never, marked/50, "a span in which a part is never seen")
		assert.InDelta(t, float64(neverInside)/float64(inside), said, 0.005)
	}
	assert.LessOrEqual(t, float64(wrong), 0.005*float64(all), "of %d pixels", all)
}

func inverse(h geom.Homography) geom.Homography {
	out, ok := h.Inverse()
	if !ok {
		panic("a motion of the truth has no inverse")
	}
	return out
}
