package e2e

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/geom"
	"jardin/core/render"
	"jardin/core/treatment"
)

// clipped opens lm_060 with the clip marked, followed and healed on the reference
// frame, in Settle.
func clipped(t *testing.T) (*server, *artist, string, demo.FocusTruth) {
	known := demotest.FocusTruth(t)
	s, shot := serveWith(t, demo.FocusName)
	c := geom.Bounds(known.Clip).Centre()
	doc := dotRemovals(demo.Truth{Reference: known.Reference, Dots: []demo.TruthDot{{X: c.X, Y: c.Y, Radius: 31}}}, 1)
	doc.Tracks[0].Name = "Trellis"
	doc.Tracks[0].Region = []treatment.Vec{{440, 120}, {900, 120}, {900, 480}, {440, 480}}
	r := &doc.Removals[0]
	r.Name, r.Range = "Clip", treatment.Range{First: demo.FocusFirst, Last: demo.FocusLast}
	r.Fill.Sources = []treatment.Source{
		{
			ID:   "p",
			Name: "Clean plate",
			Kind: treatment.HeldPlate,
			Plate: &treatment.Plate{Frame: known.Reference, Strokes: []treatment.Stroke{{
				ID: "s", Mode: "heal", Home: known.Reference, Size: 80, Hardness: 0.9, Opacity: 1,
				From: &treatment.From{Offset: treatment.Vec{-140, -140}},
				Path: &treatment.Path{Points: [][]float64{{c.X, c.Y}}},
			}}},
		},
	}
	s.put(shot, doc)
	s.followOver(shot, "w", known.Reference, demo.FocusFirst, demo.FocusLast)
	a := open(t, s.address+"/shots/"+shot)
	a.steady(demo.FocusFirst)
	a.press("^Clip")
	a.key(input.Digit4)
	a.see("^Settle by itself")
	return s, a, shot, known
}

// One button lets the patch take on light, softness and grain, and says what it found;
// each can be keyed, changed and switched off; the opacity dissolves in and out.
func TestSettleByItself(t *testing.T) {
	demotest.Share(t, 3)
	t.Parallel()
	s, a, shot, known := clipped(t)
	a.press("^Settle by itself")
	a.see("grain [0-9.]+ px")
	settle := func() treatment.Settle { return s.removal(shot).Settle }
	s.wait(
		20*time.Second,
		"the patch to be settled",
		func() bool { return settle().Grain != nil && settle().Light != nil && settle().Softness != nil },
	)
	require.Equal(t, treatment.MadeGrain, settle().Grain.Kind)
	var measures []render.Measure
	var rev struct{ Number int }
	s.get("/api/shots/"+shot+"/treatment", &rev)
	s.get(
		fmt.Sprintf(
			"/api/shots/%s/measures/r0?revision=%d&first=%d&last=%d",
			shot,
			rev.Number,
			demo.FocusFirst,
			demo.FocusLast,
		),
		&measures,
	)
	require.Len(t, measures, demo.FocusLast-demo.FocusFirst+1)
	for _, m := range measures {
		for c := range 3 {
			truth := known.Light[m.Frame][c] / known.Light[known.Reference][c]
			assert.InDelta(t, truth, m.Light[c], 0.012*truth, "light of channel %d on %d", c, m.Frame)
		}
	}
	a.goTo(1005)
	a.picture("settle")

	// The strength of the light is keyed, and switched off again.
	a.press("^Key here")
	s.wait(10*time.Second, "a key of the light", func() bool { return len(settle().Light.Keys) == 1 })
	a.goTo(1030)
	a.fill("Strength", "50")
	s.wait(10*time.Second, "another key", func() bool {
		k := settle().Light.Keys
		return len(k) == 2 && k[1].Frame == 1030 && k[1].Value == 0.5
	})
	a.tick("^Softness")
	s.wait(10*time.Second, "softness switched off", func() bool { return settle().Softness.Off })
	a.key(input.ControlLeft)

	// In and out over twelve frames.
	a.press("^12-frame dissolve")
	s.wait(10*time.Second, "a dissolve", func() bool {
		d := settle().Dissolve
		return len(d) == 4 && d[1].Frame == demo.FocusFirst+12 && d[2].Frame == demo.FocusLast-12
	})
	a.steady(1030)
	dissolve := settle()
	assert.InDelta(t, 0.5, dissolve.Shown(demo.FocusFirst+6), 1e-9)
	assert.Zero(t, dissolve.Shown(demo.FocusFirst))

	// A slider shows while it moves, and saves when it is let go.
	var before int
	number := func() int { s.get("/api/shots/"+shot+"/treatment", &rev); return rev.Number }
	before = number()
	_, err := a.page.Timeout(20 * time.Second).Eval(`async () => {
		const c = document.querySelector('[data-testid=picture]'), key = c.dataset.key
		const field = document.querySelector('input[aria-label="Feather, slider"]')
		Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(field, '9')
		field.dispatchEvent(new Event('input', { bubbles: true }))
		while (c.dataset.key === key) await new Promise(requestAnimationFrame)
	}`)
	require.NoError(t, err)
	assert.Equal(t, before, number(), "a slider that moves saves nothing")
	_, err = a.page.Eval(
		`() => document.querySelector('input[aria-label="Feather, slider"]').dispatchEvent(new PointerEvent('pointerup', { bubbles: true }))`,
	)
	require.NoError(t, err)
	s.wait(10*time.Second, "the slider to be saved", func() bool { return settle().Feather == 9 })
	assert.Equal(t, before+1, number())
	a.key(input.ControlLeft)

	// A tone by hand leaves as an ASC CDL.
	a.press("^Add a tone")
	a.fill("Exposure", "1")
	s.wait(
		10*time.Second,
		"a tone",
		func() bool { tones := settle().Tones; return len(tones) == 1 && tones[0].Grade.Exposure == 1 },
	)
	decision := string(
		s.fetch(fmt.Sprintf("/api/shots/%s/removals/r0/tones/%s?frame=1030&as=cdl", shot, settle().Tones[0].ID)),
	)
	assert.Contains(t, decision, "<Slope>2 2 2</Slope>")
	assert.Contains(t, decision, `xmlns="urn:ASC:CDL:v1.2"`)

	// Ways of looking.
	a.press("^Looks")
	for _, look := range []string{"Patch alone", "Mattes", "Mattes over the plate", "Light field", "Grain taken out"} {
		a.press("^" + look + "$")
		a.steady(1030)
	}
	a.tick("^Before and after")
	a.press("^Looks")
	_, err = a.page.Timeout(10 * time.Second).Element(`[role=slider][aria-label="Before and after"]`)
	require.NoError(t, err, "the line between before and after")
}

// hung opens lm_020 with the rod marked on one frame and a free frame held behind it, in
// Guard.
func hung(t *testing.T, frame int) (*server, *artist, string, demo.CanTruth) {
	known := demotest.CanTruth(t)
	s, shot := serveWith(t, demo.CanName)
	doc := dotRemovals(demo.Truth{Reference: known.Reference, Dots: []demo.TruthDot{{X: 300, Y: 300, Radius: 20}}}, 1)
	doc.Tracks[0].Name, doc.Tracks[0].Region = "Hedge", []treatment.Vec{{40, 260}, {340, 260}, {340, 520}, {40, 520}}
	r := &doc.Removals[0]
	r.Name, r.Range = "Rod", treatment.Range{First: demo.CanFirst, Last: demo.CanLast}
	h := known.Hangings[frame][0]
	r.Mark.Outlines = []treatment.Shape{
		{ID: "o", Name: "Rod", Kind: treatment.Strand, Home: frame, Ride: treatment.Still, Feather: 1.5,
			Points: []treatment.Knot{
				{At: treatment.Vec(h.Points[0]), Width: 14},
				{At: treatment.Vec(h.Points[2]), Width: 14},
			}},
	}
	r.Fill.Sources = []treatment.Source{
		{ID: "p", Name: "Frame 1022", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: 1022, Whole: true}},
	}
	s.put(shot, doc)
	s.followOver(shot, "w", known.Reference, demo.CanFirst, demo.CanLast)
	a := open(t, s.address+"/shots/"+shot)
	a.steady(demo.CanFirst)
	a.goTo(frame)
	a.press("^Rod")
	a.key(input.Digit5)
	a.see("^Outline a front")
	return s, a, shot, known
}

// covered tells how opaque the result is at a place of a frame: 0 where the plate shows.
func (s *server) covered(shot string, frame int, p geom.Point) uint32 {
	m, at := s.overlay(shot, frame)
	_, _, _, alpha := m.At(int(p.X)-at.X, int(p.Y)-at.Y).RGBA()
	return alpha
}

// overlay is what the result of a frame lays over its plate, and where.
func (s *server) overlay(shot string, frame int) (m image.Image, at image.Point) {
	var rev struct{ Number int }
	s.get("/api/shots/"+shot+"/treatment", &rev)
	response, err := http.Get(
		fmt.Sprintf("%s/api/shots/%s/frames/%d/overlay?revision=%d&view=result", s.address, shot, frame, rev.Number),
	)
	require.NoError(s.t, err)
	defer response.Body.Close()
	_, err = fmt.Sscan(response.Header.Get("Jardin-Place"), &at.X, &at.Y)
	require.NoError(s.t, err)
	m, err = png.Decode(response.Body)
	require.NoError(s.t, err)
	return m, at
}

// The arm that crosses the rod is outlined once, follows its edge, and stays in front;
// a front by colour is picked from the picture; mattes are supplied as files.
func TestGuardingWhatPasses(t *testing.T) {
	demotest.Share(t, 3)
	t.Parallel()
	const frame = 1030
	s, a, shot, known := hung(t, frame)
	// Where the sleeve crosses the rod.
	h := known.Hangings[frame][0]
	arm := geom.Pt((h.Points[0][0]+h.Points[2][0])/2, known.Sleeve[frame].Wrist.Y)
	require.NotZero(t, s.covered(shot, frame, arm), "the patch lies over the arm")

	a.press("^Outline a front")
	a.see("^Ellipse")
	for _, p := range known.Sleeve[frame].Outline() {
		a.click(geom.Pt(math.Min(p.X, 955), p.Y))
	}
	a.key(input.Enter)
	guard := func() *treatment.Guard {
		if g := s.removal(shot).Guard; g != nil {
			return g
		}
		return &treatment.Guard{}
	}
	s.wait(
		10*time.Second,
		"a front with an outline",
		func() bool { return len(guard().Fronts) == 1 && len(guard().Fronts[0].Shapes) == 1 },
	)
	assert.Equal(t, treatment.Still, guard().Fronts[0].Shapes[0].Ride, "what is in front moves by itself")
	require.Zero(t, s.covered(shot, frame, arm), "the arm is laid back from the plate")

	// It is followed over some frames; what is made are ordinary keys.
	a.press("^Opacity, what it rides on")
	a.fill("Last frame of the shape", "1036")
	s.wait(
		10*time.Second,
		"its range",
		func() bool { r := guard().Fronts[0].Shapes[0].Range; return r != nil && r.Last == 1036 },
	)
	a.press("^Follow edge on")
	s.wait(60*time.Second, "keys on every frame", func() bool { return len(guard().Fronts[0].Shapes[0].Keys) == 7 })
	for _, k := range guard().Fronts[0].Shapes[0].Keys {
		var knots []geom.Knot
		for i := range k.Points {
			knots = append(knots, k.Points[i].Geom())
		}
		assert.Greater(
			t,
			demotest.Overlap(geom.Flatten(knots, 0.1), known.Sleeve[k.Frame].Outline(), image.Rect(0, 0, 950, 540)),
			0.9,
			"the arm on %d",
			k.Frame,
		)
	}
	a.goTo(frame)
	a.press("^Handles")
	a.press("^Handles")
	a.picture("guard")

	// A key on the ribbon, by hand on top of what was found: the whole outline is moved.
	a.press("^Key placement")
	s.wait(
		10*time.Second,
		"a key of the placement",
		func() bool { return len(guard().Fronts[0].Shapes[0].Placement) == 1 },
	)

	// By colour, inside a loose outline.
	a.press("^Front 1")
	a.from("Add a front", "^Front by colour")
	a.see("^Click on its colour")
	require.NoError(
		t,
		a.page.Timeout(20*time.Second).Wait(rod.Eval(`() => !!document.querySelector('[data-testid=pick]')`)),
	)
	a.click(known.Sleeve[frame].Wrist.Add(geom.Pt(120, -10)))
	s.wait(10*time.Second, "its colour", func() bool {
		f := guard().Fronts
		return len(f) == 2 && f[1].Key != nil && f[1].Key.Colour[0] > 1.5*f[1].Key.Colour[1]
	})
	a.press("^Only inside")
	a.press("^Box")
	a.drag(geom.Pt(400, 90), geom.Pt(700, 260))
	s.wait(10*time.Second, "where it counts", func() bool { return len(guard().Fronts[1].Shapes) == 1 })

	// Supplied mattes go by the numbers in their names.
	a.from("Add a front", "^Supplied mattes")
	a.see("^No mattes yet")
	white := image.NewGray(image.Rect(0, 0, demo.Width, demo.Height))
	for i := range white.Pix {
		white.Pix[i] = 255
	}
	var data bytes.Buffer
	require.NoError(t, png.Encode(&data, white))
	path := filepath.Join(t.TempDir(), "hand.1031.png")
	require.NoError(t, os.WriteFile(path, data.Bytes(), 0o644))
	el, err := a.page.Timeout(10 * time.Second).Element(`[aria-label="Matte files"]`)
	require.NoError(t, err)
	require.NoError(t, el.CancelTimeout().SetFiles([]string{path}))
	a.see("^1 frame, 1031 to 1031")
	assert.Zero(
		t,
		s.covered(shot, 1031, geom.Pt(known.Hangings[frame][0].Points[0][0], 20)),
		"the matte holds all of frame 1031 in front",
	)
	assert.NotZero(t, s.covered(shot, frame, geom.Pt(known.Hangings[frame][0].Points[0][0], 20)))
	wrong := filepath.Join(t.TempDir(), "hand.png")
	require.NoError(t, os.WriteFile(wrong, data.Bytes(), 0o644))
	require.NoError(t, el.CancelTimeout().SetFiles([]string{wrong}))
	a.see("has no frame number in its name")

	// They mark as well: all of frame 1031, and it alone.
	marked := func(n int) bool {
		doc, _ := s.whole(shot)
		return len(doc.Removals[0].Mark.Mattes) == 1 && doc.Removals[0].Mark.Mattes[0].Matte(n) != nil
	}
	a.key(input.Digit1)
	a.press("^Supplied mattes")
	a.see("^No mattes yet")
	el, err = a.page.Timeout(10 * time.Second).Element(`[aria-label="Matte files"]`)
	require.NoError(t, err)
	require.NoError(t, el.CancelTimeout().SetFiles([]string{path}))
	a.see("^1 frame, 1031 to 1031")
	assert.True(t, marked(1031))
	assert.False(t, marked(1032))
}
