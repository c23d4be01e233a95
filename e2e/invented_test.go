package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"math"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// TestWhatNobodySawIsInvented takes a dot of lm_010 away by pixels that are grown, spread, evened out or toned: each
// added and set by hand, with what comes of it looked at.
func TestWhatNobodySawIsInvented(t *testing.T) {
	demotest.Share(t, 0)
	t.Parallel()
	s, shot := serveWith(t, "lm_010")
	known := demotest.Truth(t)
	dot := known.Dots[4]
	var knots []treatment.Knot
	for k := range 12 {
		sin, cos := math.Sincos(float64(k) * math.Pi / 6)
		knots = append(knots, treatment.Knot{At: treatment.Vec{dot.X + (dot.Radius+5)*cos, dot.Y + (dot.Radius+5)*sin}})
	}
	prepared, err := json.Marshal([]any{map[string]any{"op": "add", "path": "/removals/-", "value": treatment.Removal{
		ID: "r", Name: "Dot", Range: treatment.Range{First: known.Reference - 3, Last: known.Reference + 3},
		Reference: known.Reference,
		Mark: treatment.Mark{Outlines: []treatment.Shape{{
			ID: "o", Name: "Dot", Kind: treatment.Outline, Home: known.Reference, Points: knots, Feather: 2,
		}}},
		Follow: treatment.Follow{Track: treatment.Still}, Fill: treatment.Fill{Sources: []treatment.Source{}},
		Settle: treatment.Settle{Opacity: 1},
	}}})
	require.NoError(t, err)
	s.patch("/api/shots/"+shot+"/treatment", fmt.Sprintf(`{"revision":0,"label":"Prepare","patch":%s}`, prepared))
	source := func() *treatment.Source {
		list := s.removal(shot).Fill.Sources
		if len(list) == 0 {
			return &treatment.Source{}
		}
		return &list[len(list)-1]
	}
	within := func(what string, ok func() bool) { t.Helper(); s.wait(20*time.Second, what, ok) }
	// inside is the mean colour in the middle of the dot, and how much red exceeds blue there at most.
	inside := func() (mean [3]float64, orange float64) {
		var rev struct{ Number int }
		s.get("/api/shots/"+shot+"/treatment", &rev)
		at := fmt.Sprintf("/api/shots/%s/frames/%d/overlay?revision=%d&view=result", shot, known.Reference, rev.Number)
		m, err := png.Decode(bytes.NewReader(s.fetch(at)))
		require.NoError(t, err)
		var place image.Point
		fmt.Sscan(s.header(at, "Jardin-Place"), &place.X, &place.Y)
		n := 0.0
		for y := int(dot.Y) - 9; y < int(dot.Y)+9; y++ {
			for x := int(dot.X) - 9; x < int(dot.X)+9; x++ {
				r, g, b, a := m.At(x-place.X, y-place.Y).RGBA()
				require.EqualValues(t, 0xffff, a, "all of it is covered")
				orange = math.Max(orange, (float64(r)-float64(b))/257)
				for c, v := range []uint32{r, g, b} {
					mean[c] += float64(v) / 257
				}
				n++
			}
		}
		for c := range mean {
			mean[c] /= n
		}
		return mean, orange
	}

	a := open(t, s.address+"/shots/"+shot)
	a.steady(demo.First)
	a.press("^Dot")
	a.goTo(known.Reference)
	a.key(input.Digit3)

	a.from("Add a source", "^Grown")
	within("grown pixels", func() bool { return source().Grown != nil })
	_, orange := inside()
	assert.Less(t, orange, 90.0, "nothing of the dot is left") // the dot is by 200 redder than blue, bare wood by 60
	a.page.MustElement("[aria-label='Variation 2']").MustClick()
	within("the second variation", func() bool { return source().Grown.Seed == 1 })
	a.press("^Another four")
	a.page.MustElement("[aria-label='Variation 6']").MustClick()
	within("the sixth variation", func() bool { return source().Grown.Seed == 5 })
	a.steady(known.Reference)
	within("four pictures", func() bool { return len(a.page.MustElements("[aria-label=Variations] [data-drawn=true]")) == 4 })
	a.page.MustElement("[aria-label=Variations]").MustScrollIntoView()
	a.picture("grown")
	a.press("^Undo")
	within("the second again", func() bool { return source().Grown.Seed == 1 })
	a.press("^What goes on")
	at := dot.Point()
	a.drag(at.Add(geom.Pt(-60, 4)), at.Add(geom.Pt(60, 8)))
	within("a line that goes on", func() bool { return len(source().Grown.Guides) == 1 })
	line := source().Grown.Guides[0]
	assert.InDelta(t, at.X-60, line[0][0], 1.5)
	assert.InDelta(t, at.Y+8, line[1][1], 1.5)
	a.press("^What goes on") // the pointer looks again
	a.press("^Take from")
	a.drag(at.Add(geom.Pt(30, -70)), at.Add(geom.Pt(120, 60)))
	within("an area to take from", func() bool { return len(source().Grown.From) == 1 })
	a.press("^Take from")
	_, orange = inside()
	assert.Less(t, orange, 90.0)
	a.press("^Clear")
	within("neither", func() bool { g := source().Grown; return len(g.From) == 0 && len(g.Guides) == 0 })

	a.from("Add a source", "^Spread from the edge")
	within("a spread source", func() bool { return source().Spread != nil })
	_, orange = inside()
	assert.Less(t, orange, 60.0)
	a.press("^Along edges")
	within("edges", func() bool { return source().Spread.Edges })
	a.press("^On every frame")
	within("every frame", func() bool { return source().Spread.Live && source().Spread.Over == 2 })
	_, orange = inside()
	assert.Less(t, orange, 60.0)

	a.from("Add a source", "^Tone")
	within("a tone", func() bool { return source().Tone != nil && source().Tone.Rim })
	rim, orange := inside()
	assert.Less(t, orange, 60.0)
	a.press("^Pick the tone")
	a.click(at.Add(geom.Pt(0, -120)))
	within("a picked tone", func() bool { return source().Tone != nil && len(source().Tone.Keys) == 1 })
	picked, _ := inside()
	assert.NotEqual(t, rim, picked)
	a.press("^When and where it counts")
	a.press("^If lighter")
	within("it only to lighten", func() bool { return source().Lay == treatment.Lighten })
	a.tick("^Looks at the removals below")
	within("it to look below", func() bool { return source().Below })

	a.from("Add a source", "^Evened out")
	within("an evened source", func() bool { return source().Evened != nil })
	a.press("^Wrinkles")
	within("wrinkles to go", func() bool { return source().Evened.Takes == treatment.EvenFine })
	a.fill("Size", "12")
	within("its size", func() bool { return source().Evened.Scale == 12 })
	inside()
}
