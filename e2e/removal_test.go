package e2e

import (
	"math"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// around draws a closed curve of eight smooth points around a place.
func (a *artist) around(centre geom.Point, radius float64) {
	for k := range 8 {
		angle := float64(k) * math.Pi / 4
		p := centre.Add(geom.Pt(math.Cos(angle), math.Sin(angle)).Mul(radius))
		along := geom.Pt(-math.Sin(angle), math.Cos(angle)).Mul(radius * 0.265)
		a.drag(p, p.Add(along))
	}
	a.key(input.Enter)
}

// rub paints over a round place with a pen: a spiral from its middle outwards.
func (a *artist) rub(centre geom.Point, radius float64) {
	var path []geom.Point
	for k := range 60 {
		angle := float64(k) * 0.62
		path = append(path, centre.Add(geom.Pt(math.Cos(angle), math.Sin(angle)).Mul(radius*float64(k)/59)))
	}
	a.pen(path, func(i int) float64 { return math.Min(1, 0.5+float64(i)/20) })
}

// TestOneMarkerGone does the whole job by hand on lm_010: from a folder of
// stills to the clean frames, with two of the dots removed.
func TestOneMarkerGone(t *testing.T) {
	t.Parallel()
	s := serve(t)
	known := demotest.Truth(t)
	a := open(t, s.address)

	// The footage comes in through the dialog.
	a.press("^Bring in a shot")
	a.press("footage")
	a.press("^lm_010/$")
	a.press("^plate/")
	a.see("72 frames, 1001 to 1072")
	a.fill("Show", "Winter at Larkmoss")
	a.fill("Shot", "lm_010")
	a.press("^Bring in$")
	a.see("960 × 540, 8 bit, 24 frames/s")
	_, err := a.page.Timeout(2 * time.Minute).Element(`a[href^="/shots/"]`)
	require.NoError(t, err)
	a.picture("shot-wall")
	a.press("lm_010")
	a.steady(1001)
	var shots []shotInfo
	s.get("/api/shots", &shots)
	shot := shots[0].ID

	// Mark: two dots, outlined on the reference frame with curves.
	a.goTo(known.Reference)
	a.press("^New removal on this frame")
	dots := known.Dots[:2]
	place := func(i int) geom.Point { return dots[i].Point() }
	a.see("Drawing an outline")
	a.around(place(0), dots[0].Radius+6)
	a.see("Outline 1")
	a.fill("Name of the removal", "Wall dots")
	a.press("^Draw an outline")
	a.around(place(1), dots[1].Radius+6)
	a.see("Outline 2")
	a.fill("Feather", "3")
	a.picture("mark")

	// Follow: a region is proposed around both dots; then one is drawn instead, its corner dragged, and followed both ways.
	a.key(input.Digit2)
	a.press("^Propose a region")
	a.see("Holds to 0")
	_, err = a.page.Timeout(5 * time.Second).Element(`[aria-label="Corner 3 of the region"]`)
	require.NoError(t, err)
	// The page shows it before the server has it.
	require.Eventually(t, func() bool { return len(s.document(shot).Tracks) == 1 }, 20*time.Second, 50*time.Millisecond)
	region := s.document(shot).Tracks[0].Region
	require.Len(t, region, 4)
	for i := range dots {
		assert.True(t, geom.Inside(treatment.Points(region), place(i)), "around both dots")
	}
	a.press("^Draw the region anew")
	a.drag(geom.Pt(190, 95), geom.Pt(560, 330))
	_, err = a.page.Timeout(5 * time.Second).Element(`[aria-label="Corner 3 of the region"]`)
	require.NoError(t, err)
	a.drag(geom.Pt(560, 330), geom.Pt(600, 345))
	a.press("^Follow both ways")
	a.see("72 of 72 frames")
	a.goTo(1044)
	a.picture("follow")
	a.goTo(known.Reference)

	// Fill: clone from beside each dot, with a pen.
	a.key(input.Digit3)
	a.fill("Size", "26")
	tools := `() => document.querySelector('[aria-label="Size, slider"]').getBoundingClientRect().top`
	stood := a.number(tools)
	for i, source := range []geom.Point{geom.Pt(46, 6), geom.Pt(-52, 4)} {
		require.NoError(t, a.page.Keyboard.Press(input.KeyS))
		a.click(place(i).Add(source))
		require.NoError(t, a.page.Keyboard.Release(input.KeyS))
		a.rub(place(i), dots[i].Radius+5)
		a.see([]string{"Stroke 1", "Stroke 2"}[i])
		assert.InDelta(t, stood, a.number(tools), 1, "the tools stay where they are")
	}
	require.NoError(t, a.page.Mouse.MoveTo(a.at(place(1).Add(geom.Pt(8, -4)))))
	a.picture("fill")

	// A stroke that went wrong is deleted by itself, and undo brings it back and takes it away.
	a.rub(geom.Pt(700, 420), 20)
	a.see("Stroke 3")
	a.press("^Stroke 3")
	require.NoError(t, a.page.MustElement(`[aria-label="Delete stroke 3"]`).Click("left", 1))
	strokes := func() int {
		var rev struct {
			Document struct {
				Removals []struct {
					Fill struct {
						Sources []struct{ Plate struct{ Strokes []any } }
					}
				}
			}
		}
		s.get("/api/shots/"+shot+"/treatment", &rev)
		if len(rev.Document.Removals[0].Fill.Sources) == 0 {
			return 0
		}
		return len(rev.Document.Removals[0].Fill.Sources[0].Plate.Strokes)
	}
	s.wait(5*time.Second, "the stroke to go", func() bool { return strokes() == 2 })
	a.press("^Undo$")
	a.see("^Undone: ")
	s.wait(5*time.Second, "undo to bring it back", func() bool { return strokes() == 3 })
	a.press("^Redo$")
	s.wait(5*time.Second, "redo to take it away", func() bool { return strokes() == 2 })

	// Settle.
	a.key(input.Digit4)
	a.fill("Feather", "1")
	a.key(input.KeyE)
	a.goTo(1060)
	// A number may be typed as a distance; keys go to what is keyed, and after a slider arrows step frames again.
	a.fill("Frame number", "-3")
	a.steady(1057)
	a.key(input.ArrowUp)
	a.steady(known.Reference)
	slider, err := a.page.Timeout(10 * time.Second).Element(`[aria-label="Opacity, slider"]`)
	require.NoError(t, err)
	number := func() int {
		var rev struct{ Number int }
		s.get("/api/shots/"+shot+"/treatment", &rev)
		return rev.Number
	}
	before := number()
	require.NoError(t, slider.Click(proto.InputMouseButtonLeft, 1))
	a.key(input.ArrowRight)
	a.steady(known.Reference + 1)
	s.wait(5*time.Second, "the slider to be saved", func() bool { return number() > before })
	assert.Equal(t, before+1, number(), "let go once, it is one edit")
	a.fill("Opacity", "100")
	a.goTo(1060)

	// The locked view: the wall stands still.
	a.key(input.KeyL)
	a.see("Locked to frame 1037")
	a.picture("locked")
	a.key(input.KeyL, input.KeyD)
	a.steady(1060)
	a.key(input.KeyE)

	// Render.
	a.press("^Render…")
	a.press("^Render revision")
	a.see("^Done$")
	a.picture("render")
	var tasks []struct{ ID, Kind, State string }
	s.get("/api/tasks", &tasks)
	require.Equal(t, "render", tasks[0].Kind)

	assertTrackIsTrue(t, s, shot, known)
	frames := s.download("/api/renders/" + tasks[0].ID + "/frames")
	require.Len(t, frames, 72)
	reports := assess(t, frames, known, 2)
	for i, r := range reports {
		t.Logf(
			"dot %d: steadiness %s, invisibility %s, seam %s, flicker %s, grain %s %s %s",
			i+1,
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
		assert.LessOrEqual(t, r.Steadiness.All, 1.4, "steadiness over dot %d", i+1)
	}
	assertPlateElsewhere(t, s, frames, shot)
	movie := s.fetch("/api/renders/" + tasks[0].ID + "/movie")
	assert.Equal(t, "ftyp", string(movie[4:8]), "an MP4 file")
	assert.Equal(t, 72, movieFrames(t, movie))
}
