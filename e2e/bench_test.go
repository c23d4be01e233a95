package e2e

import (
	"math"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// removal returns the first removal of the treatment in force.
func (s *server) removal(shot string) treatment.Removal {
	s.t.Helper()
	doc := s.document(shot)
	require.NotEmpty(s.t, doc.Removals)
	return doc.Removals[0]
}

func (s *server) document(shot string) treatment.Document {
	s.t.Helper()
	var rev struct{ Document treatment.Document }
	s.get("/api/shots/"+shot+"/treatment", &rev)
	return rev.Document
}

// prepared opens the bench on a shot with one removal, on its reference frame.
func prepared(t *testing.T) (*server, *artist, string) {
	s, shot := serveWith(t, "lm_010")
	known := demotest.Truth(t)
	s.prepare(shot, known, 1)
	a := open(t, s.address+"/shots/"+shot)
	a.steady(1001)
	a.press("^Dots")
	a.goTo(known.Reference)
	return s, a, shot
}

// TestOutlinesAreEditedByHand moves a point, makes one smooth, adds and deletes
// points, moves the whole outline, and takes all of it back.
func TestOutlinesAreEditedByHand(t *testing.T) {
	demotest.Share(t, 1)
	t.Parallel()
	s, a, shot := prepared(t)
	knots := func() []treatment.Knot { return s.removal(shot).Mark.Outlines[0].Points }
	start := knots()
	a.press("^Dot 1")
	grip := func(name string) {
		_, err := a.page.Timeout(5 * time.Second).Element(`[aria-label="` + name + `"]`)
		require.NoError(t, err)
	}
	grip("Point 1 of Dot 1")

	corner := start[0].At.Point()
	a.drag(corner, corner.Add(geom.Pt(-12, -9)))
	s.wait(5*time.Second, "the point to move", func() bool { return knots()[0].At != start[0].At })
	moved := knots()[0].At.Point()
	assert.InDelta(t, 0, moved.Dist(corner.Add(geom.Pt(-12, -9))), 1, "it is where it was let go")

	double := func(p geom.Point) {
		require.NoError(t, a.page.Mouse.MoveTo(a.at(p)))
		require.NoError(t, a.page.Mouse.Click(proto.InputMouseButtonLeft, 2))
	}
	double(start[2].At.Point())
	s.wait(
		5*time.Second,
		"the point to become smooth",
		func() bool { return knots()[2].In != nil && knots()[2].Out != nil },
	)
	double(start[0].At.Point().Lerp(start[1].At.Point(), 0.5).Lerp(moved.Lerp(start[1].At.Point(), 0.5), 1))
	s.wait(5*time.Second, "a point to be added", func() bool { return len(knots()) == 5 })
	// What is deleted is gone from the picture before another key or click can be heard.
	grip("Point 5 of Dot 1")
	left, err := a.page.Eval(`async () => {
		document.body.dispatchEvent(new KeyboardEvent('keydown', { key: 'Delete', bubbles: true }))
		for (let i = 0; i < 100; i++) await null
		return document.querySelectorAll('[aria-label^="Point "]').length
	}`)
	require.NoError(t, err)
	require.Equal(t, 4, left.Value.Int(), "points that can be taken hold of")
	s.wait(5*time.Second, "the new point to go", func() bool { return len(knots()) == 4 })

	side := start[1].At.Point().Lerp(start[2].At.Point(), 0.45)
	before := knots()
	a.drag(side, side.Add(geom.Pt(20, 5)))
	s.wait(5*time.Second, "the outline to move", func() bool { return knots()[1].At != before[1].At })
	shift := knots()[1].At.Point().Sub(before[1].At.Point())
	require.Len(t, knots(), len(before), "the point that was deleted stays away")
	for i, k := range knots() {
		assert.InDelta(t, 0, k.At.Point().Sub(before[i].At.Point()).Dist(shift), 0.05, "all points move alike")
	}

	// A box drawn with Shift selects points; they move together.
	now := knots()
	require.NoError(t, a.page.Keyboard.Press(input.ShiftLeft))
	top := geom.Bounds([]geom.Point{now[0].At.Point(), now[1].At.Point()})
	a.drag(top.Min.Add(geom.Pt(-40, -40)), top.Max.Add(geom.Pt(40, 12)))
	a.see("^2 points$")
	a.key(input.ArrowRight)
	require.NoError(t, a.page.Keyboard.Release(input.ShiftLeft))
	s.wait(5*time.Second, "two points to move by a pixel", func() bool {
		moved := knots()
		return moved[0].At[0] == now[0].At[0]+1 && moved[1].At[0] == now[1].At[0]+1 && moved[2].At == now[2].At
	})

	for range 6 {
		require.NoError(t, a.page.Keyboard.Press(input.ControlLeft))
		a.key(input.KeyZ)
		require.NoError(t, a.page.Keyboard.Release(input.ControlLeft))
		time.Sleep(150 * time.Millisecond)
	}
	s.wait(5*time.Second, "undo to bring everything back", func() bool {
		now := knots()
		return len(now) == 4 && now[0].At == start[0].At && now[2].In == nil
	})
}

// TestTwoWindowsAndAReload: a change in one window shows in the other; a change made
// from an older state is made again on the newer one; a reload loses nothing.
func TestTwoWindowsAndAReload(t *testing.T) {
	t.Parallel()
	s, a, shot := prepared(t)
	b := open(t, s.address+"/shots/"+shot)
	b.steady(1001)
	a.fill("Name of the removal", "Left dot")
	_, err := b.page.Timeout(3*time.Second).ElementR("button", "^Left dot")
	require.NoError(t, err, "the other window shows the new name")

	// The second window's network is slow to tell it; it edits from an old state.
	b.press("^Left dot")
	b.key(input.Digit4)
	s.patch(
		"/api/shots/"+shot+"/treatment",
		`{"revision":2,"label":"Elsewhere","patch":[{"op":"add","path":"/removals/0/notes","value":"from elsewhere"},{"op":"test","path":"/removals/0/name","value":"Left dot"}]}`,
	)
	b.fill("Opacity", "50")
	s.wait(5*time.Second, "both changes to be there", func() bool {
		r := s.removal(shot)
		return r.Settle.Opacity == 0.5 && r.Notes == "from elsewhere" && r.Name == "Left dot"
	})

	require.NoError(t, a.page.Reload())
	a.steady(demotest.Truth(t).Reference) // where it was
	a.press("^Undo$")
	s.wait(
		5*time.Second,
		"undo after a reload, of one's own last change",
		func() bool { r := s.removal(shot); return r.Name != "Left dot" && r.Settle.Opacity == 0.5 },
	)
	b.press("^Undo$")
	s.wait(
		5*time.Second,
		"the other's own",
		func() bool { r := s.removal(shot); return r.Settle.Opacity == 1 && r.Notes == "from elsewhere" },
	)
}

// TestLookingAround uses keys, wheel and ribbon as somebody who only looks would.
func TestLookingAround(t *testing.T) {
	demotest.Share(t, 2)
	_, a, _ := prepared(t)
	a.key(input.ArrowRight, input.ArrowRight, input.ArrowLeft)
	a.steady(1038)
	a.key(input.End)
	a.steady(1072)
	a.key(input.Home)
	a.steady(1001)
	a.key(input.KeyJ)
	a.steady(1037)

	// Closer at the wheel: the place under the pointer stays under it.
	zoom := func() string { return a.page.MustElement(`button[title^="Fit the picture"]`).MustText() }
	assert.Equal(t, "Fit", zoom())
	require.NoError(t, a.page.Mouse.MoveTo(a.at(geom.Pt(300, 200))))
	for range 12 {
		require.NoError(t, a.page.Mouse.Scroll(0, -150, 1))
	}
	s := a.page.Timeout(5 * time.Second)
	require.NoError(
		t,
		s.Wait(rod.Eval(`() => parseInt(document.querySelector('button[title^="Fit the picture"]').innerText) > 900`)),
	)
	a.key(input.Digit0)
	require.NoError(
		t,
		s.Wait(rod.Eval(`() => document.querySelector('button[title^="Fit the picture"]').innerText == 'Fit'`)),
	)

	// The ribbon: a click goes to the frame under it.
	box := a.page.MustElement(`[data-testid=ribbon]`).MustShape().Box()
	require.NoError(t, a.page.Mouse.MoveTo(proto.Point{X: box.X + box.Width*(20.5/72), Y: box.Y + 10}))
	require.NoError(t, a.page.Mouse.Click(proto.InputMouseButtonLeft, 1))
	a.steady(1021)

	// Playback runs through the loop and starts again.
	a.key(input.End)
	a.steady(1072)
	a.key(input.Space)
	require.NoError(
		t,
		a.page.Timeout(20*time.Second).
			Wait(rod.Eval(`() => { const n = +document.querySelector('[data-testid=picture]').dataset.frame; return n > 1001 && n < 1060 }`)),
	)
	a.key(input.Space)

	// Channels and exposure change what is seen; reset, it is what it was.
	a.key(input.KeyJ)
	a.steady(1037)
	time.Sleep(time.Second) // the exact frame comes
	whole := func() []byte {
		data, err := a.page.MustElement(`[data-testid=picture]`).Screenshot(proto.PageCaptureScreenshotFormatPng, 0)
		require.NoError(t, err)
		return data
	}
	a.key(input.KeyH)
	time.Sleep(200 * time.Millisecond)
	colour := whole()
	a.key(input.KeyC)
	time.Sleep(200 * time.Millisecond)
	red := whole()
	assert.NotEqual(t, colour, red)
	a.key(input.KeyC, input.KeyC, input.KeyC, input.KeyC)
	time.Sleep(200 * time.Millisecond)
	assert.Equal(t, colour, whole())
	assert.Less(t, math.Abs(float64(len(red)-len(colour))), float64(len(colour)), "both are pictures")
}

// TestWrongTurnsSayWhatToDo takes the wrong turns of somebody new.
func TestWrongTurnsSayWhatToDo(t *testing.T) {
	t.Parallel()
	s, a, shot := prepared(t)
	a.key(input.Digit3)
	a.click(geom.Pt(500, 300))
	a.see("Choose a source first")
	a.key(input.ArrowRight)
	a.steady(1038)
	require.NoError(t, a.page.Keyboard.Press(input.KeyS))
	a.click(geom.Pt(500, 300))
	require.NoError(t, a.page.Keyboard.Release(input.KeyS))
	a.click(geom.Pt(520, 300))
	a.see("Clean plate.* of frame 1037")
	a.key(input.KeyN)
	a.see("Drawing an outline")
	a.key(input.Escape, input.Digit2)
	a.see("A region is a piece of the one flat surface")
	a.lost.Store(true)
	require.NoError(t, a.page.Navigate(s.address+"/shots/"+shot+"x"))
	a.see("there is no such thing")
}

// The graphics card may take all away, as when a laptop sleeps: the same picture is drawn again
// as soon as it is back.
func TestThePictureComesBackWithTheCard(t *testing.T) {
	t.Parallel()
	s, a, _ := prepared(t)
	look := func() string {
		v, err := a.page.Eval(`() => document.querySelector('[data-testid=picture]').toDataURL()`)
		require.NoError(t, err)
		return v.Value.Str()
	}
	before := look()
	s.wait(10*time.Second, "the exact frame to be there", func() bool {
		was := before
		time.Sleep(700 * time.Millisecond)
		before = look()
		return was == before
	})
	v, err := a.page.Eval(`async () => {
		const gl = document.querySelector('[data-testid=picture]').getContext('webgl2')
		const card = gl.getExtension('WEBGL_lose_context')
		card.loseContext()
		await new Promise((done) => setTimeout(done, 200))
		const lost = gl.isContextLost()
		card.restoreContext()
		await new Promise((done) => setTimeout(done, 800))
		return lost && !gl.isContextLost()
	}`)
	require.NoError(t, err)
	require.True(t, v.Value.Bool(), "it was lost, and is back")
	require.Greater(t, len(before), 100_000)
	assert.True(t, before == look(), "the same picture")
}
