package e2e

import (
	"math"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/camera"
	"jardin/core/carry"
	"jardin/core/geom"
)

// A seed packet goes from the wall behind the beds, by hand: the camera is solved, the soil is the floor, a card is laid through points
// of the wall, the packet is outlined and painted over on one frame, and is gone on the others.
func TestAPacketOnTheWallByACard(t *testing.T) {
	demotest.Share(t, 1)
	t.Parallel()
	s, shot := serveWith(t, demo.BedsName)
	a := open(t, s.address+"/shots/"+shot)
	a.steady(demo.BedsFirst)
	const home, there = 1008, 1050
	a.goTo(home)

	// The lens by the edge of a board, which is straight.
	a.press("^The set$")
	a.press("^Draw straight lines$")
	lens, view := demo.BedsLens(), demo.BedsView(home-demo.BedsFirst)
	for x := -2.1; x < 1.7; x += 0.6 {
		p, ok := view.Project(&lens, camera.Vec{x, 1.42, -3.9})
		require.True(t, ok)
		a.click(p)
	}
	a.key(input.Enter)
	a.press("^From this line$")
	a.see("px from straight with the lens taken out")
	doc, _ := s.whole(shot)
	assert.InDelta(t, -0.1, doc.Lens.K[0], 0.02, "by one line, drawn on a fitted picture")

	a.press("^Solve the camera$")
	s.wait(3*time.Minute, "the camera to be solved", func() bool {
		doc, _ := s.whole(shot)
		return doc.Camera != nil && doc.Camera.Data != nil
	})
	a.see("px off on average over 60 frames")
	doc, _ = s.whole(shot)
	assert.InDelta(t, -0.1, doc.Lens.K[0], 0.001)
	assert.Less(t, doc.Camera.Data.Path.RMS, 0.35)

	// The floor, and a length.
	a.press("^Choose points$")
	a.drag(geom.Pt(250, 450), geom.Pt(760, 520))
	a.see("[0-9]+ chosen")
	a.press("^They are the floor$")
	s.wait(10*time.Second, "the floor", func() bool {
		doc, _ := s.whole(shot)
		return doc.Camera.World != nil
	})
	var set *carry.Set
	doc, set = s.whole(shot)
	space, err := set.Space()
	require.NoError(t, err)
	low, count := 0.0, 0.0
	for _, p := range space.On(home) {
		if !p.Off && p.At[1] > 450 && p.At[1] < 500 && p.At[0] > 250 && p.At[0] < 760 {
			low += math.Abs(space.Points[p.Point].At[1])
			count++
		}
	}
	size := space.Views[home]
	assert.Less(t, low/count, 0.02*size.Pose.Eye()[1], "soil is at height 0, beside the camera's height")
	assert.Positive(t, size.Pose.Eye()[1], "and the camera is above it")

	// A card on the wall, that the removal rides on.
	a.press("^New removal on this frame")
	packet := geom.Pt(370, 28)
	for _, d := range [][2]float64{{-24, -26}, {24, -26}, {24, 32}, {-24, 32}} {
		a.click(packet.Add(geom.Pt(d[0], d[1])))
	}
	a.key(input.Enter)
	a.fill("Name of the removal", "Packet")
	strandAlongABoard(t, s, a, shot, home)
	a.press("^Choose points$")
	a.drag(geom.Pt(240, 66), geom.Pt(800, 200))
	a.press("^Through the points$")
	s.wait(10*time.Second, "the card", func() bool {
		doc, _ := s.whole(shot)
		return len(doc.Tracks) == 1 && doc.Tracks[0].Card != nil && doc.Removals[0].Follow.Track == doc.Tracks[0].ID
	})
	a.see("Carries Packet")
	a.picture("set")
	a.faults("the set")

	// The wall is carried as it truly moves.
	doc, set = s.whole(shot)
	m := set.Mapping(doc.Tracks[0].ID, home, there)
	require.NotNil(t, m)
	worst := 0.0
	for _, p := range []geom.Point{packet, {X: 300, Y: 150}, {X: 700, Y: 120}} {
		worst = math.Max(worst, m.Apply(p).Dist(demo.BedsWall(p, home, there)))
	}
	t.Logf("the wall is carried within %.2f px over %d frames", worst, there-home)
	assert.Less(t, worst, 0.5)

	// Deeper, it slides; undone, it does not.
	card := doc.Tracks[0].Card.At
	a.fill("Depth", "20")
	s.wait(10*time.Second, "the card to be deeper", func() bool {
		doc, _ := s.whole(shot)
		return doc.Tracks[0].Card.At != card
	})
	doc, set = s.whole(shot)
	assert.Greater(t, set.Mapping(doc.Tracks[0].ID, home, there).Apply(packet).Dist(demo.BedsWall(packet, home, there)), 5.0)
	a.press("^Undo")
	s.wait(10*time.Second, "it to be undone", func() bool {
		doc, _ := s.whole(shot)
		return doc.Tracks[0].Card.At == card
	})

	// A label stands nearer: by a card of its own it is held in front.
	var board []geom.Point
	for _, c := range demo.BedLabels()[0].Corners {
		p, ok := view.Project(&lens, c)
		require.True(t, ok)
		board = append(board, p)
	}
	box := geom.Bounds(board).Grow(6)
	a.press("^Choose points$")
	a.drag(box.Min, box.Max)
	a.press("^Through the points$")
	a.press("^In front$")
	s.wait(10*time.Second, "the label to be in front", func() bool {
		doc, _ := s.whole(shot)
		return len(doc.Tracks) == 2 && doc.Removals[0].Guard != nil && len(doc.Removals[0].Guard.Fronts) == 1 &&
			doc.Removals[0].Guard.Fronts[0].Shapes[0].Ride == doc.Tracks[1].ID && doc.Removals[0].Follow.Track == doc.Tracks[0].ID
	})

	// Painted over with wall from below it.
	a.press("^The set$")
	a.key(input.Digit3)
	a.fill("Size", "60")
	require.NoError(t, a.page.Keyboard.Press(input.KeyS))
	a.click(packet.Add(geom.Pt(0, 90)))
	require.NoError(t, a.page.Keyboard.Release(input.KeyS))
	a.drag(packet.Add(geom.Pt(-20, -16)), packet.Add(geom.Pt(20, -16)), packet.Add(geom.Pt(20, 18)), packet.Add(geom.Pt(-20, 18)), packet)
	a.see("Stroke 1")
	a.goTo(there)
	a.steady(there)
	at := demo.BedsWall(packet, home, there)
	plate, result := a.colourAt(at, "^Plate$"), a.colourAt(at, "^Result$")
	t.Logf("where the packet was: %v on the plate, %v in the result", plate, result)
	assert.Greater(t, math.Abs(plate[0]-plate[2])-math.Abs(result[0]-result[2]), 15.0, "its yellow is gone")
}

// colourAt returns the colour on the screen of a place of the picture, after a view was chosen.
// strandAlongABoard draws a strand by its two ends along the edge of a board: it is drawn, and lies, where that is seen, bowed by the
// lens.
func strandAlongABoard(t *testing.T, s *server, a *artist, shot string, home int) {
	lens, view := demo.BedsLens(), demo.BedsView(float64(home-demo.BedsFirst))
	seen := func(x float64) geom.Point {
		p, ok := view.Project(&lens, camera.Vec{x, 1.42, -3.9})
		require.True(t, ok)
		return p
	}
	from, to := seen(-2.1), seen(1.6)
	a.press("^Draw a strand$")
	a.click(from)
	a.click(to)
	a.key(input.Enter)
	s.wait(10*time.Second, "the strand", func() bool {
		doc, _ := s.whole(shot)
		return len(doc.Removals[0].Mark.Outlines) == 2
	})
	a.see("Straight through the lens")
	doc, set := s.whole(shot)
	shape := doc.Removals[0].Mark.Outlines[1]
	require.True(t, shape.Straight, "a wire is, where the lens is known")
	pose, ok := set.Pose(&shape, "", home)
	require.True(t, ok)
	covered, drawn, bow := 0.0, 0.0, 0.0
	cover := pose.Cover(&shape, carry.Edge{}, demo.Bounds())
	for x := -1.9; x < 1.5; x += 0.2 {
		p := seen(x)
		covered = math.Max(covered, 1-float64(cover.At(int(p.X), int(p.Y))))
		u := (p.X - from.X) / (to.X - from.X)
		bow = math.Max(bow, from.Lerp(to, u).Dist(p))
		room := a.at(p)
		drawn = math.Max(drawn, a.number(`(x, y) => Math.min(...[...document.querySelectorAll('path.cursor-move')].map((path) => {
			const m = path.getScreenCTM(), n = path.getTotalLength()
			let best = Infinity
			for (let i = 0; i <= n; i++) {
				const q = path.getPointAtLength(i).matrixTransform(m)
				best = Math.min(best, Math.hypot(q.x - x, q.y - y))
			}
			return best
		}))`, room.X, room.Y))
	}
	t.Logf("a strand by two points beside the board's edge, which the lens bows by %.1f px: drawn within %.2f of the room's pixels, covers at least %.2f of it", bow, drawn, 1-covered)
	assert.Greater(t, bow, 4.0)
	assert.Less(t, drawn, 1.0)
	assert.Less(t, covered, 0.2)
	a.key(input.Delete)
	s.wait(10*time.Second, "the strand to be gone", func() bool {
		doc, _ := s.whole(shot)
		return len(doc.Removals[0].Mark.Outlines) == 1
	})
}

func (a *artist) colourAt(p geom.Point, view string) [3]float64 {
	a.press(view)
	time.Sleep(700 * time.Millisecond)
	at := a.at(p)
	var out [3]float64
	v, err := a.page.Eval(`(x, y) => {
		const c = document.querySelector('[data-testid=picture]'), b = c.getBoundingClientRect(), k = c.width / b.width
		const d = document.createElement('canvas')
		d.width = c.width; d.height = c.height
		const g = d.getContext('2d')
		g.drawImage(c, 0, 0)
		const s = g.getImageData(Math.round((x - b.left) * k) - 2, Math.round((y - b.top) * k) - 2, 5, 5).data
		const sum = [0, 0, 0]
		for (let i = 0; i < s.length; i += 4) for (let j = 0; j < 3; j++) sum[j] += s[i + j] / 25
		return sum
	}`, at.X, at.Y)
	require.NoError(a.t, err)
	require.NoError(a.t, v.Value.Unmarshal(&out))
	return out
}
