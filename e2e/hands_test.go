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
)

// Strokes are selected together, in the list and on the picture, and then named, resized, moved, given another source and
// deleted as one; each is one step that undo takes back.
func TestSeveralStrokes(t *testing.T) {
	demotest.Share(t, 1)
	t.Parallel()
	known := demotest.Truth(t)
	s, a, shot := easel(t)
	dot := known.Dots[0].Point()
	a.with(input.KeyS, func() { a.click(dot.Add(geom.Pt(46, 6))) })
	a.fill("Size", "14")
	places := []geom.Point{dot, dot.Add(geom.Pt(-80, 50)), dot.Add(geom.Pt(-80, -50))}
	for i, p := range places {
		a.pen([]geom.Point{p, p.Add(geom.Pt(4, 0)), p.Add(geom.Pt(8, 0))}, func(int) float64 { return 1 })
		s.strokes(shot, i+1)
	}
	a.press("^Stroke 1")
	require.NoError(t, a.page.Keyboard.Press(input.ShiftLeft))
	a.press("^Stroke 3")
	require.NoError(t, a.page.Keyboard.Release(input.ShiftLeft))
	a.see("^3 strokes$")
	a.with(input.ControlLeft, func() { a.press("^Stroke 2") })
	a.see("^2 strokes$")

	a.fill("Name of the strokes", "Speck")
	a.see("^Speck 2")
	a.fill("Size", "150")
	all := s.strokes(shot, 3)
	assert.Equal(t, []string{"Speck 1", "", "Speck 2"}, []string{all[0].Name, all[1].Name, all[2].Name})
	s.wait(5*time.Second, "both to grow", func() bool {
		all = s.strokes(shot, 3)
		return all[0].Size == 21 && all[1].Size == 14 && all[2].Size == 21
	})
	a.press("^Source of the brush for all")
	a.see("Source of the brush")

	// A drag of one moves both; the arrows as well.
	a.drag(places[0].Add(geom.Pt(4, 0)), places[0].Add(geom.Pt(14, 20)))
	s.wait(5*time.Second, "both to move", func() bool {
		all = s.strokes(shot, 3)
		return all[0].Path.Shift != nil && all[2].Path.Shift != nil
	})
	assert.Equal(t, *all[0].Path.Shift, *all[2].Path.Shift)
	assert.InDelta(t, 20, all[0].Path.Shift[1], 2)
	assert.Nil(t, all[1].Path.Shift)

	a.press("^Delete$")
	s.strokes(shot, 1)
	a.press("^Undo$")
	assert.Equal(t, "Speck 1", s.strokes(shot, 3)[0].Name)

	// On the picture, with Shift; and all of them.
	a.click(places[1].Add(geom.Pt(4, 0)))
	a.see("^Name$")
	a.with(input.ControlLeft, func() { a.key(input.KeyA) })
	a.see("^3 strokes$")
}

// A pen's lean comes with its points where the shape follows it; its barrel button opens the tools, one of which is for
// the next touch; fingers move the picture and bring it closer, and a hand that rests beside a pen paints nothing.
func TestPenAndFingers(t *testing.T) {
	demotest.Share(t, 4)
	t.Parallel()
	known := demotest.Truth(t)
	s, a, shot := easel(t)
	dot := known.Dots[0].Point()
	pen := func(kind proto.InputDispatchMouseEventType, p geom.Point, button proto.InputMouseButton, buttons int) {
		at := a.at(p)
		require.NoError(t, proto.InputDispatchMouseEvent{
			Type: kind, X: at.X, Y: at.Y, Button: button, Buttons: &buttons, ClickCount: 1,
			PointerType: proto.InputDispatchMouseEventPointerTypePen, Force: 0.7, TiltX: 45,
		}.Call(a.page))
	}
	down, move, up := proto.InputDispatchMouseEventTypeMousePressed, proto.InputDispatchMouseEventTypeMouseMoved,
		proto.InputDispatchMouseEventTypeMouseReleased
	tap := func(p geom.Point) {
		pen(down, p, proto.InputMouseButtonLeft, 1)
		pen(up, p, proto.InputMouseButtonLeft, 0)
	}

	// What is said of a wrong touch lies on the picture, and does not keep the next one from it.
	tap(dot)
	a.see("^Choose a source first")
	assert.Equal(t, "brush", a.text(`() => {
		const b = [...document.querySelectorAll('p')].find((p) => p.textContent.startsWith('Choose a source first')).getBoundingClientRect()
		return document.elementFromPoint(b.left + b.width / 2, b.top + b.height / 2).closest('[data-testid]')?.dataset.testid ?? ''
	}`))

	// The source by the ring: no key is touched.
	pen(move, dot, proto.InputMouseButtonNone, 0)
	pen(down, dot, proto.InputMouseButtonRight, 2)
	pen(up, dot, proto.InputMouseButtonRight, 0)
	a.see("^Source$")
	a.press("^Source$")
	a.see("^Next touch: touch where clean pixels are")
	tap(dot.Add(geom.Pt(46, 6)))
	s.wait(5*time.Second, "the touch to be over", func() bool {
		return a.number(`() => [...document.querySelectorAll('p')].filter((p) => p.textContent.startsWith('Next touch')).length`) == 0
	})
	a.press("^More of the brush")
	a.tick("^Shape$")
	for i, p := range []geom.Point{dot, dot.Add(geom.Pt(5, 0)), dot.Add(geom.Pt(10, 0))} {
		pen([]proto.InputDispatchMouseEventType{down, move, move}[i], p, proto.InputMouseButtonLeft, 1)
	}
	pen(up, dot.Add(geom.Pt(10, 0)), proto.InputMouseButtonLeft, 0)
	first := s.strokes(shot, 1)[0]
	require.Len(t, first.Path.Points[0], 5)
	assert.InDelta(t, 0.5, first.Path.Points[0][3], 0.02, "half a right angle to the right")
	assert.InDelta(t, 0, first.Path.Points[0][4], 0.02)
	assert.InDelta(t, 46, first.From.Offset[0], 3)

	// A hand that rests, and then two fingers.
	touch := func(kind proto.InputDispatchTouchEventType, points ...geom.Point) {
		all := []*proto.InputTouchPoint{}
		for i, p := range points {
			at := a.at(p)
			all = append(all, &proto.InputTouchPoint{X: at.X, Y: at.Y, ID: new(float64(i + 1))})
		}
		require.NoError(t, proto.InputDispatchTouchEvent{Type: kind, TouchPoints: all}.Call(a.page))
	}
	touch(proto.InputDispatchTouchEventTypeTouchStart, dot)
	touch(proto.InputDispatchTouchEventTypeTouchMove, dot.Add(geom.Pt(30, 0)))
	touch(proto.InputDispatchTouchEventTypeTouchEnd)
	mid := geom.Pt(480, 270)
	spread := func(d float64) []geom.Point { return []geom.Point{mid.Add(geom.Pt(-d, 0)), mid.Add(geom.Pt(d, 0))} }
	touch(proto.InputDispatchTouchEventTypeTouchStart, spread(60)[:1]...)
	touch(proto.InputDispatchTouchEventTypeTouchStart, spread(60)...)
	for d := 70.0; d <= 120; d += 10 {
		touch(proto.InputDispatchTouchEventTypeTouchMove, spread(d)...)
	}
	touch(proto.InputDispatchTouchEventTypeTouchEnd)
	fit := a.number(`() => { const b = document.querySelector('[data-testid=picture]').getBoundingClientRect(); return Math.min((b.width - 24) / 960, (b.height - 24) / 540) }`)
	s.wait(5*time.Second, "the picture to come closer", func() bool {
		zoom := a.number(`() => Number(JSON.parse(localStorage.getItem(Object.keys(localStorage).find((k) => k.startsWith('jardin-place'))) ?? '{}').zoom ?? 0)`)
		return math.Abs(zoom/fit-2) < 0.15
	})
	assert.Len(t, s.strokes(shot, 1), 1, "fingers painted nothing")
}

// Brushes are kept on digits and taken up again; a second source is one key away; and in the picture that is locked to
// the surface paint goes onto the plate from any frame, where it was seen.
func TestBrushesSourcesAndTheLockedPicture(t *testing.T) {
	demotest.Share(t, 1)
	t.Parallel()
	known := demotest.Truth(t)
	s, a, shot := easel(t)
	dot := known.Dots[0].Point()
	size := `() => Number(document.querySelector('[aria-label="Size, slider"]').value)`
	x := `() => Number(document.querySelector('[aria-label="Source, x"]')?.value ?? NaN)`
	a.fill("Size", "14")
	a.with(input.ShiftLeft, func() { a.key(input.Digit7) })
	a.see("^Kept on 7")
	a.fill("Size", "40")
	a.key(input.Digit7)
	s.wait(5*time.Second, "the brush that was kept", func() bool { return a.number(size) == 14 })

	a.with(input.KeyS, func() { a.click(dot.Add(geom.Pt(46, 6))) })
	a.rub(dot, 5)
	s.strokes(shot, 1)
	assert.InDelta(t, 46, a.number(x), 2)
	a.key(input.KeyY)
	assert.True(t, math.IsNaN(a.number(`() => Number(document.querySelector('[aria-label="Source, x"]')?.value ?? -7e9)`)) ||
		a.number(`() => Number(document.querySelector('[aria-label="Source, x"]')?.value ?? -7e9)`) < -1e9, "none yet")
	a.key(input.KeyY)
	assert.InDelta(t, 46, a.number(x), 2, "and back")

	// On another frame, free: it is said how. Locked: it lies where the pen was.
	a.goTo(known.Reference + 12)
	a.rub(dot, 5)
	a.see("Press J to go there, L to lock")
	a.key(input.KeyL)
	a.see("^Locked to frame")
	spot := dot.Add(geom.Pt(-60, 40))
	a.pen([]geom.Point{spot, spot.Add(geom.Pt(6, 0))}, func(int) float64 { return 1 })
	second := s.strokes(shot, 2)[1]
	assert.Equal(t, known.Reference, second.Home)
	assert.InDelta(t, spot.X, second.Path.Points[0][0], 1.5, "the picture stands still: the place on the screen is that of the plate")
	assert.InDelta(t, spot.Y, second.Path.Points[0][1], 1.5)
}
