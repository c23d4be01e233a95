package e2e

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// easel opens lm_010 with one dot marked and the wall followed, on the reference frame,
// in Fill.
func easel(t *testing.T) (*server, *artist, string) {
	known := demotest.Truth(t)
	s, shot := serveWith(t, "lm_010")
	s.put(shot, dotRemovals(known, 1))
	s.follow(shot, "w", known.Reference)
	a := open(t, s.address+"/shots/"+shot)
	a.steady(1001)
	a.goTo(known.Reference)
	a.press("^Dot 1")
	a.key(input.Digit3)
	a.see("^Copy an area")
	return s, a, shot
}

func (a *artist) with(key input.Key, f func()) {
	a.t.Helper()
	require.NoError(a.t, a.page.Keyboard.Press(key))
	f()
	require.NoError(a.t, a.page.Keyboard.Release(key))
}

// strokes waits until the removal has so many and returns them, with their points.
func (s *server) strokes(shot string, n int) (out []treatment.Stroke) {
	s.t.Helper()
	s.wait(30*time.Second, fmt.Sprintf("%d strokes", n), func() bool {
		out = nil
		doc, _ := s.whole(shot)
		for _, source := range doc.Removals[0].Fill.Sources {
			out = append(out, source.Strokes()...)
		}
		return len(out) == n
	})
	return out
}

func TestPaintingAFrame(t *testing.T) {
	demotest.Share(t, 0)
	t.Parallel()
	known := demotest.Truth(t)
	s, a, shot := easel(t)
	dot := known.Dots[0].Point()

	// Size and hardness by dragging with X held; the numbers show beside the brush.
	a.with(input.KeyX, func() { a.drag(dot, dot.Add(geom.Pt(40, -30)), dot.Add(geom.Pt(55, -30))) })
	var size float64
	require.NoError(t, a.page.MustElement(`[aria-label="Size, slider"]`).MustProperty("value").Unmarshal(new(string)))
	size = a.number(`() => Number(document.querySelector('[aria-label="Size, slider"]').value)`)
	assert.Greater(t, size, 28.0)
	assert.Greater(t, a.number(`() => Number(document.querySelector('[aria-label="Hardness, slider"]').value)`), 60.0)

	// A pen's pressure comes with the points and scales what it is asked to.
	a.with(input.KeyS, func() { a.click(dot.Add(geom.Pt(-32, -20))) })
	a.fill("Size", "26")
	a.pen(
		[]geom.Point{
			dot.Add(geom.Pt(-8, 0)),
			dot,
			dot.Add(geom.Pt(8, 0)),
			dot.Add(geom.Pt(8, 8)),
			dot.Add(geom.Pt(-8, 8)),
			dot.Add(geom.Pt(-8, -8)),
			dot.Add(geom.Pt(8, -8)),
		},
		func(i int) float64 { return 0.4 + 0.08*float64(i) },
	)
	first := s.strokes(shot, 1)[0]
	require.GreaterOrEqual(t, len(first.Path.Points), 5)
	assert.InDelta(t, 0.4, first.Path.Points[0][2], 0.05)
	assert.Greater(t, first.Path.Points[len(first.Path.Points)-1][2], 0.7)
	assert.Equal(t, []string{"size"}, first.Pen)
	assert.Equal(t, 26.0, first.Size)
	assert.Equal(t, known.Reference, first.Home)
	assert.InDelta(t, -24, first.From.Offset[0], 2)

	// Heal, a picked colour, soften and erase: each is a stroke of its own.
	a.press("^Heal")
	a.rub(dot, known.Dots[0].Radius+4)
	a.with(input.KeyP, func() { a.click(geom.Pt(500, 300)) })
	s.wait(5*time.Second, "the colour that is picked", func() bool {
		return a.text(`() => document.querySelector('[aria-label="Colour of the paint"]')?.value ?? ''`) != "#767676"
	})
	a.rub(dot.Add(geom.Pt(60, 60)), 6)
	a.press("^Soften")
	a.rub(dot.Add(geom.Pt(60, 60)), 10)
	a.press("^Erase")
	a.rub(dot.Add(geom.Pt(66, 60)), 5)
	all := s.strokes(shot, 5)
	assert.Equal(
		t,
		[]string{"clone", "heal", "colour", "soften", "erase"},
		[]string{all[0].Mode, all[1].Mode, all[2].Mode, all[3].Mode, all[4].Mode},
	)
	require.NotNil(t, all[2].Colour)
	plate := demotest.ReadPNG(t, filepath.Join(demotest.Footage(t), "lm_010/plate", filesOf(t, known.Reference)))
	light, n := 0.0, 0.0
	for y := 285; y < 315; y++ {
		for x := 485; x < 515; x++ {
			if math.Hypot(float64(x)+0.5-500, float64(y)+0.5-300) <= 13 {
				red, _, _, _ := plate.At(x, y).RGBA()
				light, n = light+colorspace.SRGB.Decode(float64(red)/65535), n+1
			}
		}
	}
	assert.InDelta(t, light/n, all[2].Colour[0], 0.01, "the mean light under the brush")
	a.see("Stroke 5")

	// The untouched plate as long as V is held.
	a.with(input.KeyV, func() { a.see("Painting") })

	// Selected on the picture, moved, moved by keys; undone across stages.
	a.key(input.KeyF)
	a.click(dot.Add(geom.Pt(60, 60)).Add(geom.Pt(-4, 0)))
	a.see("Stays on the screen")
	a.with(input.ShiftLeft, func() { a.key(input.ArrowRight, input.ArrowRight) })
	moved := func() (sum float64) {
		for _, x := range s.strokes(shot, 5) {
			if x.Path.Shift != nil {
				sum += x.Path.Shift[0]
			}
		}
		return sum
	}
	s.wait(20*time.Second, "the stroke to move", func() bool { return moved() == 2 })
	a.key(input.Digit1)
	a.press("^Undo$")
	a.press("^Undo$")
	s.wait(20*time.Second, "the move to be undone", func() bool { return moved() == 0 })
	a.key(input.Digit3)

	// An area: drawn, then its source slid elsewhere.
	a.press("^Copy an area")
	box := []geom.Point{
		dot.Add(geom.Pt(-20, 80)),
		dot.Add(geom.Pt(20, 80)),
		dot.Add(geom.Pt(20, 110)),
		dot.Add(geom.Pt(-20, 110)),
	}
	for _, p := range append(box, box[0]) {
		a.click(p)
	}
	area := s.strokes(shot, 6)[5]
	require.NotNil(t, area.Area)
	a.see("Feather")
	before := area.From.Offset
	middle := dot.Add(geom.Pt(0, 95))
	from := middle.Add(geom.Pt(before[0], before[1]))
	a.drag(from, from.Add(geom.Pt(10, 5)), from.Add(geom.Pt(25, -12)))
	s.wait(20*time.Second, "the source to move", func() bool {
		o := s.strokes(shot, 6)[5].From.Offset
		return math.Abs(o[0]-before[0]-25) <= 2 && math.Abs(o[1]-before[1]+12) <= 2
	})

	// Laid earlier, then left out.
	a.from("More for stroke 6", "^Earlier in the order")
	s.wait(20*time.Second, "the other order", func() bool { return s.strokes(shot, 6)[4].Area != nil })
	a.from("More for stroke 5", "^Leave it out")
	s.wait(20*time.Second, "it to be left out", func() bool { return s.strokes(shot, 6)[4].Off })
}

// filesOf returns the name of a frame's file.
func filesOf(t *testing.T, n int) string {
	found, err := filepath.Glob(filepath.Join(demotest.Footage(t), "lm_010/plate", fmt.Sprintf("*%04d*", n)))
	require.NoError(t, err)
	require.Len(t, found, 1)
	return filepath.Base(found[0])
}

func TestPaintThroughTime(t *testing.T) {
	demotest.Share(t, 0)
	t.Parallel()
	known := demotest.Truth(t)
	s, a, shot := easel(t)
	dot := known.Dots[0].Point()

	// Travelling paint, on one frame only; the same in the free and in the locked view.
	a.from("Add a source", "^Travelling paint")
	a.see("^Repeat here")
	a.with(input.KeyS, func() { a.click(dot.Add(geom.Pt(-32, -20))) })
	a.goTo(1050)
	to := known.Motion[1050]
	there := to.Apply(dot)
	path := []geom.Point{there.Add(geom.Pt(-6, 0)), there.Add(geom.Pt(6, 0))}
	a.drag(path...)
	s.strokes(shot, 1)
	a.key(input.KeyL)
	a.see("Locked to frame")
	back, _ := to.Inverse()
	a.drag(back.Apply(path[0]), back.Apply(path[1])) // where these places are seen while the wall stands still
	two := s.strokes(shot, 2)
	for k := range 2 {
		p, q := two[0].Path.Points, two[1].Path.Points
		assert.InDelta(t, p[0][k], q[0][k], 0.4, "where the stroke begins, free and locked")
		assert.InDelta(t, p[len(p)-1][k], q[len(q)-1][k], 0.4)
	}
	assert.Equal(t, &treatment.Range{First: 1050, Last: 1050}, two[0].Range)
	assert.Equal(t, 1050, two[0].Home)
	a.key(input.KeyL)

	// The next frame that has none; the same strokes there; what was painted shows faintly.
	a.press("^Next unpainted")
	a.steady(1051)
	a.tick("Show the last frame")
	a.press("^Repeat here")
	four := s.strokes(shot, 4)
	assert.Equal(t, &treatment.Range{First: 1051, Last: 1051}, four[3].Range)
	assert.Equal(t, 1050, four[3].Home, "carried from where it was made")
	a.key(input.KeyU)
	a.steady(1052)
	a.key(input.KeyR)
	s.strokes(shot, 6)
	a.picture("travelling")

	// A live neighbour beside: its source is dragged on the picture.
	a.goTo(known.Reference)
	a.from("Add a source", "^Live neighbour")
	a.see("^Takes from")
	start := dot.Add(geom.Pt(43, 0))
	a.drag(start, start.Add(geom.Pt(-40, -10)), dot.Add(geom.Pt(-32, -20)))
	s.wait(20*time.Second, "the neighbour's source", func() bool {
		doc, _ := s.whole(shot)
		o := doc.Removals[0].Fill.Sources[1].Neighbour.Offsets[0].Offset
		return math.Hypot(o[0]+32, o[1]+20) < 3
	})
	a.goTo(1060)
	a.goTo(known.Reference)
	a.press("^Propose a place")
	s.wait(20*time.Second, "a proposal", func() bool {
		doc, _ := s.whole(shot)
		o := doc.Removals[0].Fill.Sources[1].Neighbour.Offsets[0].Offset
		return math.Hypot(o[0]+32, o[1]+20) > 3
	})
	a.press("^Undo$")
	a.goTo(1060)

	// A frame on loan for a clean plate, lined up by itself, shown through and as a difference.
	a.goTo(known.Reference)
	a.from("Add a source", "^Clean plate of this frame")
	a.fill("Copied from frame", "1050")
	a.see("^Line up by itself")
	a.press("^Line up by itself")
	a.see("^Lined up: moved by")
	a.press("^Difference$")
	a.rub(dot.Add(geom.Pt(90, 40)), 6)
	lent := s.strokes(shot, 7)[6]
	require.NotNil(t, lent.From.Frame)
	assert.Equal(t, 1050, *lent.From.Frame)
	require.NotNil(t, lent.From.Middle)
	assert.Less(t, math.Hypot(lent.From.Offset[0], lent.From.Offset[1]), 0.5, "the track had brought it there already")
	// It is moved by hand on the picture: what is seen of it goes along.
	a.with(input.KeyS, func() { a.drag(dot.Add(geom.Pt(60, 30)), dot.Add(geom.Pt(72, 25))) })
	a.rub(dot.Add(geom.Pt(90, 60)), 6)
	moved := s.strokes(shot, 8)[7]
	require.NotNil(t, moved.From.Frame, "it stays the same frame")
	assert.InDelta(t, lent.From.Offset[0]-12, moved.From.Offset[0], 1)
	assert.InDelta(t, lent.From.Offset[1]+5, moved.From.Offset[1], 1)
}

// Two windows on one shot, and a connection that breaks in the middle of a stroke.
func TestTwoWindowsAndABrokenConnection(t *testing.T) {
	demotest.Share(t, 4)
	t.Parallel()
	known := demotest.Truth(t)
	s, a, shot := easel(t)
	dot := known.Dots[0].Point()
	b := open(t, s.address+"/shots/"+shot)
	b.steady(1001)
	b.press("^Dot 1")
	b.key(input.Digit3)
	a.with(input.KeyS, func() { a.click(dot.Add(geom.Pt(-32, -20))) })
	a.rub(dot, 12)
	began := time.Now()
	s.strokes(shot, 1)
	_, err := b.page.Timeout(20*time.Second).ElementR("span", "Stroke 1")
	require.NoError(t, err)
	t.Logf("the other window has the stroke %v after the server has it", time.Since(began).Round(time.Millisecond))
	// Both change the same removal: both changes stay.
	b.press("^Stroke 1")
	b.fill("Size", "44")
	a.rub(dot.Add(geom.Pt(50, 50)), 8)
	s.wait(20*time.Second, "both changes", func() bool { x := s.strokes(shot, 2); return x[0].Size == 44 })

	// The connection breaks while the hand moves: the stroke arrives, whole, when it is back.
	m := a.page.Mouse
	require.NoError(t, m.MoveTo(a.at(dot.Add(geom.Pt(100, 60)))))
	require.NoError(t, m.Down(proto.InputMouseButtonLeft, 1))
	for k := range 5 {
		require.NoError(t, m.MoveTo(a.at(dot.Add(geom.Pt(100+6*float64(k), 60)))))
	}
	_, err = a.page.Eval(`() => window.jardinBrush.socket.close()`)
	require.NoError(t, err)
	for k := range 6 {
		require.NoError(t, m.MoveTo(a.at(dot.Add(geom.Pt(130+6*float64(k), 60)))))
	}
	require.NoError(t, m.Up(proto.InputMouseButtonLeft, 1))
	whole := s.strokes(shot, 3)[2].Path.Points
	assert.InDelta(t, dot.X+100, whole[0][0], 1)
	assert.InDelta(t, dot.X+160, whole[len(whole)-1][0], 1, "to where the hand let go")
}

// A picture goes out, is painted elsewhere, and comes back by the interface.
func TestASuppliedPictureByTheInterface(t *testing.T) {
	demotest.Share(t, 3)
	t.Parallel()
	known := demotest.Truth(t)
	s, a, shot := easel(t)
	file := filepath.Join(t.TempDir(), "painted.png")
	data := s.fetch(
		fmt.Sprintf("/api/shots/%s/removals/%s/picture?frame=%d&as=png", shot, s.removal(shot).ID, known.Reference),
	)
	require.NoError(t, os.WriteFile(file, greenSquare(t, data, known.Dots[0].Point()), 0o600))
	a.from("Add a source", "^Supplied clean plate")
	a.page.MustElement(`[aria-label="Picture file"]`).MustSetFiles(file)
	a.see("^supplied$")
	source := s.removal(shot).Fill.Sources[0]
	assert.Equal(t, "painted.png", source.Name)
	require.NotNil(t, source.Picture)
	assert.Equal(t, 960, source.Picture().Width)
	a.key(input.KeyE)
	a.goTo(1050)
	wrong := filepath.Join(t.TempDir(), "wrong.png")
	require.NoError(t, os.WriteFile(wrong, []byte("not a picture"), 0o600))
	a.page.MustElement(`[aria-label="Picture file"]`).MustSetFiles(wrong)
	a.see("wrong.png: this is no PNG, TIFF or OpenEXR file")
}
