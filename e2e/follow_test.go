package e2e

import (
	"bytes"
	"fmt"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// whole returns the treatment in force with all data in place.
func (s *server) whole(shot string) (*treatment.Document, *carry.Set) {
	s.t.Helper()
	var doc treatment.Document
	s.get("/api/shots/"+shot+"/treatment/export", &doc)
	set, err := carry.New(&doc)
	require.NoError(s.t, err)
	return &doc, set
}

// keys returns the hashes of what the pictures of all frames are made from.
func (s *server) keys(shot string) []string {
	s.t.Helper()
	var rev struct{ Number int }
	s.get("/api/shots/"+shot+"/treatment", &rev)
	var out struct{ Keys []string }
	s.get(fmt.Sprintf("/api/shots/%s/keys?revision=%d&view=result", shot, rev.Number), &out)
	return out.Keys
}

// TestFourDotsAtOnce puts a point on each of four dots, follows them together, and
// moves the removal's zero afterwards: nothing in the picture changes.
func TestFourDotsAtOnce(t *testing.T) {
	demotest.Share(t, 3)
	t.Parallel()
	s, shot := serveWith(t, "lm_010")
	known := demotest.Truth(t)
	a := open(t, s.address+"/shots/"+shot)
	a.steady(1001)
	a.goTo(known.Reference)
	a.press("^New removal on this frame")
	a.press("^Draw an ellipse")
	dot := known.Dots[0]
	around := geom.Pt(dot.Radius+6, dot.Radius+6)
	a.drag(dot.Point().Sub(around), dot.Point().Add(around))
	a.see("Outline 1")
	a.key(input.Digit2)
	a.press("^Put points instead")
	a.see("^Click on the picture") // from now on clicks count
	for _, d := range known.Dots[:4] {
		a.click(d.Point())
	}
	a.see("^Point 4")
	a.press("^Click on the picture")
	// Settings of several are changed together.
	a.press("^Select all")
	a.see("4 points together")
	a.fill("Pattern", "37")
	a.press("^Select none")
	a.press("^Follow both ways")
	a.see("72 of 72 frames")
	a.goTo(1060)
	a.press("^Point 2")
	a.see("±0.0") // how well each is known
	assert.EqualValues(t, 4, a.number(`() => document.querySelectorAll('[data-testid=unsure]').length`))
	a.picture("points")

	doc, set := s.whole(shot)
	require.Len(t, doc.Tracks[0].Points, 4)
	var sum, worst float64
	for n := demo.First; n <= demo.Last; n++ {
		for i, p := range doc.Tracks[0].Points {
			assert.Equal(t, treatment.Vec{37, 37}, p.Pattern)
			at, ok := set.Motion(doc.Tracks[0].ID).Point(p.ID, n)
			require.True(t, ok, "point %d on %d", i+1, n)
			motion := known.Motion[n]
			e := at.Dist(motion.Apply(p.At.Point()))
			sum, worst = sum+e, math.Max(worst, e)
		}
	}
	mean := sum / (4 * 72)
	t.Logf("four dots: %.3f px on average, %.3f px at worst", mean, worst)
	assert.LessOrEqual(t, mean, 0.15)

	// Paint, then move the zero: outlines, paint and track stay where they are.
	a.goTo(known.Reference)
	a.key(input.Digit3)
	require.NoError(t, a.page.Keyboard.Press(input.KeyS))
	a.click(dot.Point().Add(geom.Pt(46, 6)))
	require.NoError(t, a.page.Keyboard.Release(input.KeyS))
	a.rub(dot.Point(), dot.Radius+5)
	a.see("Stroke 1")
	before := s.keys(shot)
	a.goTo(1010)
	a.press("^Move here")
	s.wait(5*time.Second, "the zero to move", func() bool { return s.removal(shot).Reference == 1010 })
	assert.Equal(
		t,
		known.Reference,
		s.removal(shot).Fill.Sources[0].Plate.Frame,
		"paint stays on the frame it was made on",
	)
	assert.Equal(t, before, s.keys(shot), "every frame's picture is made from the same as before")
	a.key(input.KeyE, input.KeyL)
	a.see("Locked to frame 1010")

	// The removal is copied to the next dot: two clicks and a new place.
	next := known.Dots[4].Point()
	a.goTo(known.Reference)
	a.key(input.KeyL)
	a.from("More for Removal 1", "^Copy to other places")
	a.click(next)
	var rev struct{ Document treatment.Document }
	s.wait(5*time.Second, "the copy", func() bool {
		s.get("/api/shots/"+shot+"/treatment", &rev)
		return len(rev.Document.Removals) == 2
	})
	copied := rev.Document.Removals[1]
	assert.InDelta(t, 0, carry.Centre(&copied.Mark.Outlines[0]).Dist(next), 2)
	require.NotNil(t, copied.Fill.Sources[0].Strokes()[0].Path.Shift)
	assert.InDelta(t, next.X-dot.X, copied.Fill.Sources[0].Strokes()[0].Path.Shift[0], 2)
	assert.Equal(t, "Removal 1", copied.Fill.Copied)
	// Another click makes another; each gets a clean place of its own, and waits for somebody to look at it.
	a.see("^1 copy of Removal 1")
	a.click(known.Dots[5].Point())
	a.see("^2 copies of Removal 1")
	a.key(input.Enter)
	offset := func(i int) treatment.Vec {
		doc, _ := s.whole(shot)
		if len(doc.Removals) <= i {
			return treatment.Vec{46, 6}
		}
		return doc.Removals[i].Fill.Sources[0].Strokes()[0].From.Offset
	}
	for i := 1; i <= 2; i++ {
		s.wait(10*time.Second, "a place of its own", func() bool { return geom.Pt(offset(i)[0]-46, offset(i)[1]-6).Len() > 4 })
	}
	a.press("^Removal 2$")
	a.key(input.Digit3)
	a.see("^Copied from Removal 1")
	a.press("^It holds here$")
	s.wait(10*time.Second, "it to be looked at", func() bool {
		doc, _ := s.whole(shot)
		return doc.Removals[1].Fill.Copied == "" && doc.Removals[2].Fill.Copied != ""
	})
}

// TestWiresAsStrands outlines a swinging wire of lm_020 in the locked view: it rides on
// the can, and only what is left over is keyed. Then the hedge is followed with the
// can left out.
func TestWiresAsStrands(t *testing.T) {
	demotest.Share(t, 2)
	t.Parallel()
	s, shot := serveWith(t, "lm_020")
	known := demotest.CanTruth(t)
	a := open(t, s.address+"/shots/"+shot)
	a.steady(1001)
	a.goTo(known.Reference)
	a.press("^New removal on this frame")
	a.key(input.Escape, input.Digit2)
	a.press("^Put points instead")
	a.see("^Click on the picture")
	middle := func(n int) geom.Point { // of the can's painted leaf
		h := known.Hangings[n]
		return geom.Pt(h[0].Points[2][0], h[0].Points[2][1]+58)
	}
	a.click(middle(known.Reference).Add(geom.Pt(-26, -2)))
	a.click(middle(known.Reference).Add(geom.Pt(24, -2)))
	a.press("^Click on the picture")
	a.press("^Select all")
	a.fill("Pattern", "45")
	a.press("^Select none")
	// Two points so near each other say little about turning: only position is used.
	a.from("What is used of the points", "^Position")
	a.press("^Follow both ways")
	a.see("48 of 48 frames")

	// The strand, drawn through three places of the left wire, its top beyond the picture.
	a.goTo(known.Reference)
	a.key(input.KeyL, input.Digit1)
	a.see("Locked to frame 1020")
	wire := func(n int) []geom.Point {
		p := known.Hangings[n][1].Points
		top, mid, end := geom.Pt(p[0][0], p[0][1]), geom.Pt(p[1][0], p[1][1]), geom.Pt(p[2][0], p[2][1])
		// Where the wire leaves the picture by a little.
		u := (-9 - top.Y) / (end.Y - top.Y)
		return []geom.Point{top.Lerp(mid, 2*u), mid, end}
	}
	a.press("^Draw a strand")
	for _, p := range wire(known.Reference) {
		a.click(p)
	}
	a.key(input.Enter)
	a.see("Strand 1")
	a.press("^Key points")
	doc, set := s.whole(shot)
	locked := func(n int, p geom.Point) geom.Point { // where a place of frame n is in the locked picture
		h, ok := set.Between(doc.Tracks[0].ID, n, known.Reference)
		require.True(t, ok)
		return h.Apply(p)
	}
	keys := []int{1001, 1006, 1011, 1016, 1020, 1025, 1030, 1035, 1040, 1044, 1048}
	for _, n := range keys {
		a.goTo(n)
		doc, set = s.whole(shot)
		shape := &doc.Removals[0].Mark.Outlines[0]
		lie, ok := set.Pose(shape, doc.Tracks[0].ID, n)
		require.True(t, ok)
		touched := false
		for i, p := range wire(n) {
			from := locked(n, lie.Knots()[i].At)
			if to := locked(n, p); from.Dist(to) > 2.5 { // less is done closer up
				a.drag(from, to)
				touched = true
			}
		}
		s.wait(5*time.Second, "a key", func() bool {
			doc, _ := s.whole(shot)
			for _, key := range doc.Removals[0].Mark.Outlines[0].Keys {
				if key.Frame == n {
					return true
				}
			}
			return !touched
		})
		time.Sleep(300 * time.Millisecond) // the hand goes to the next frame
	}
	a.goTo(1029)
	a.picture("strand")
	doc, set = s.whole(shot)
	shape := &doc.Removals[0].Mark.Outlines[0]
	assert.Equal(t, treatment.Strand, shape.Kind)
	assert.LessOrEqual(t, len(shape.Keys), len(keys)+1)
	worst := 0.0
	for n := demo.CanFirst; n <= demo.CanLast; n++ {
		lie, ok := set.Pose(shape, doc.Tracks[0].ID, n)
		require.True(t, ok)
		knots := lie.Knots()
		for i, p := range wire(n)[1:] { // the top slides along the wire: it is only held to lie on it
			worst = math.Max(worst, knots[i+1].At.Dist(p))
		}
	}
	t.Logf("the strand with %d keys over 48 frames: %.2f px from the wire at worst", len(shape.Keys), worst)
	assert.LessOrEqual(t, worst, 3.0)

	// The hedge, with the can left out by an exclusion that rides on the can's points.
	a.goTo(known.Reference)
	a.key(input.KeyL, input.Digit2)
	a.from("More for tracks", "^New track of a plane")
	region := []geom.Point{{X: 300, Y: 190}, {X: 690, Y: 470}}
	a.drag(region[0], region[1])
	a.press("^Leave something out")
	c := middle(known.Reference)
	for _, p := range []geom.Point{c.Add(geom.Pt(-110, -90)), c.Add(geom.Pt(120, -90)), c.Add(geom.Pt(120, 62)),
		c.Add(geom.Pt(-110, 62))} {
		a.click(p)
	}
	a.key(input.Enter)
	a.see("Exclusion 1")
	a.from("What carries the exclusion", "^Points 1")
	a.press("^Follow both ways")
	a.see("48 of 48 frames")
	a.press("^Judge track")
	a.tick("What drives the track")
	a.key(input.Escape)
	a.goTo(1033)
	doc, set = s.whole(shot)
	track := doc.Tracks[len(doc.Tracks)-1]
	require.Len(t, track.Exclusions, 1)
	assert.Equal(t, doc.Tracks[0].ID, track.Exclusions[0].Ride)
	var sum float64
	for n := demo.CanFirst; n <= demo.CanLast; n++ {
		h, ok := set.Between(track.ID, known.Reference, n)
		require.True(t, ok, "frame %d", n)
		motion := known.Motion[n]
		for _, p := range treatment.Points(track.Region) {
			sum += h.Apply(p).Dist(motion.Apply(p)) / float64(4*48)
		}
	}
	t.Logf("the hedge with the can left out: %.3f px on average over the region's corners", sum)
	assert.LessOrEqual(t, sum, 0.15)

	// It goes on from a later frame by a fresh piece of the hedge.
	a.press("^From 1033$")
	a.press("^Draw a fresh region here")
	a.drag(geom.Pt(330, 380), geom.Pt(720, 530))
	a.see("^Forget it")
	a.press("^Forwards")
	s.wait(30*time.Second, "frames by the fresh region", func() bool {
		doc, set = s.whole(shot)
		m := set.Motion(track.ID)
		for _, v := range m.Samples {
			if v.Frame == demo.CanLast {
				return v.Moved == 1
			}
		}
		return false
	})
	require.Len(t, doc.Tracks[len(doc.Tracks)-1].Regions, 1)
	worst = 0
	for n := 1034; n <= demo.CanLast; n++ {
		h, ok := set.Between(track.ID, known.Reference, n)
		require.True(t, ok, "frame %d", n)
		motion := known.Motion[n]
		for _, p := range treatment.Points(track.Region) {
			worst = math.Max(worst, h.Apply(p).Dist(motion.Apply(p)))
		}
	}
	t.Logf("by a fresh region: %.2f px at worst over the first region's corners", worst)
	assert.LessOrEqual(t, worst, 1.5)

	// As if it bent: a flat surface is then followed as well as before.
	a.goTo(known.Reference)
	a.tick("It bends")
	a.fill("Stiffness", "0.4")
	a.press("^Follow to next")
	a.see("^Bends, 9[0-9] % found|^Bends, 100 % found")
	doc, set = s.whole(shot)
	track = doc.Tracks[len(doc.Tracks)-1]
	require.Equal(t, &treatment.Bends{Stiffness: 0.4, Detail: 8}, track.Bends)
	along, next := set.Mapping(track.ID, known.Reference, known.Reference+1), known.Motion[known.Reference+1]
	sum = 0
	count := 0.0
	for y := region[0].Y + 10; y < region[1].Y; y += 20 {
		for x := region[0].X + 10; x < region[1].X; x += 20 {
			if p := geom.Pt(x, y); p.Dist(c) > 150 { // where the can does not hang
				sum, count = sum+along.Apply(p).Dist(next.Apply(p)), count+1
			}
		}
	}
	t.Logf("the hedge as if it bent: %.3f px on average", sum/count)
	assert.LessOrEqual(t, sum/count, 0.15)
}

// TestACorrectionTakesOutASlip brings in a track that slips, and mends it in the locked
// view with two keys.
func TestACorrectionTakesOutASlip(t *testing.T) {
	demotest.Share(t, 0)
	t.Parallel()
	s, a, shot := prepared(t)
	known := demotest.Truth(t)
	slip := func(n int) geom.Point { return geom.Pt(6, -4).Mul(float64(n-known.Reference) / 35) }
	file := "frame,x1,y1,x2,y2,x3,y3,x4,y4\n"
	corners := []geom.Point{{X: 220, Y: 120}, {X: 560, Y: 120}, {X: 560, Y: 330}, {X: 220, Y: 330}}
	for n := demo.First; n <= demo.Last; n++ {
		file += fmt.Sprint(n)
		motion := known.Motion[n]
		for _, c := range corners {
			p := motion.Apply(c).Add(slip(n))
			file += fmt.Sprintf(",%g,%g", p.X, p.Y)
		}
		file += "\n"
	}
	path := filepath.Join(t.TempDir(), "wall.csv")
	require.NoError(t, os.WriteFile(path, []byte(file), 0o644))
	a.key(input.Digit2)
	el, err := a.page.Timeout(10 * time.Second).Element(`[aria-label="Track file"]`)
	require.NoError(t, err)
	require.NoError(t, el.CancelTimeout().SetFiles([]string{path}))
	s.wait(10*time.Second, "the track to come in", func() bool { doc, _ := s.whole(shot); return len(doc.Tracks) == 2 })
	a.from("The track that carries the removal", "^wall brought in|^wall$|^wall")
	s.wait(
		5*time.Second,
		"the removal to ride on it",
		func() bool { doc, _ := s.whole(shot); return doc.Removals[0].Follow.Track == doc.Tracks[1].ID },
	)
	a.press("^Mending")
	a.press("^By placement")
	for _, n := range []int{demo.First, demo.Last} {
		a.goTo(n)
		doc, set := s.whole(shot)
		now, ok := set.Between(doc.Tracks[1].ID, known.Reference, n)
		require.True(t, ok)
		back, _ := now.Inverse()
		// In the locked picture the surface is drawn where it is at home; the wall's true
		// corner has slipped away from there.
		motion := known.Motion[n]
		a.drag(corners[0].Lerp(corners[1], 0.5), back.Apply(motion.Apply(corners[0].Lerp(corners[1], 0.5))))
		s.wait(5*time.Second, "a key", func() bool {
			doc, _ := s.whole(shot)
			for _, k := range doc.Tracks[1].Corrections[0].Keys {
				if k.Frame == n {
					return true
				}
			}
			return false
		})
	}
	// The slip grows evenly: its keys become linear by a double click.
	for _, n := range []int{demo.First, known.Reference} {
		key, err := a.page.Timeout(5 * time.Second).Element(fmt.Sprintf(`[aria-label="Key on %d, By placement"]`, n))
		require.NoError(t, err)
		require.NoError(t, key.CancelTimeout().Click(proto.InputMouseButtonLeft, 2))
		s.wait(5*time.Second, "the key to be linear", func() bool {
			doc, _ := s.whole(shot)
			for _, k := range doc.Tracks[1].Corrections[0].Keys {
				if k.Frame == n {
					return k.Ease == treatment.Linear
				}
			}
			return false
		})
	}
	a.goTo(1055)
	doc, set := s.whole(shot)
	off := func(corrected bool) (worst float64) {
		if !corrected {
			doc.Tracks[1].Corrections[0].Off = true
			set, _ = carry.New(doc)
		}
		for n := demo.First; n <= demo.Last; n++ {
			h, ok := set.Between(doc.Tracks[1].ID, known.Reference, n)
			require.True(t, ok)
			motion := known.Motion[n]
			for _, c := range corners {
				worst = math.Max(worst, h.Apply(c).Dist(motion.Apply(c)))
			}
		}
		return worst
	}
	with := off(true)
	without := off(false)
	t.Logf("slip: %.2f px without, %.2f px with the correction", without, with)
	assert.Greater(t, without, 6.0)
	assert.Less(t, with, 1.0, "a hand on a screen is exact to about a pixel")
}

// TestAnOutlineFollowsByItself tracks each corner of an outline, then moves one by hand
// on another frame: the shape follows, bends and stays editable.
func TestAnOutlineFollowsByItself(t *testing.T) {
	demotest.Share(t, 0)
	t.Parallel()
	s, a, shot := prepared(t)
	known := demotest.Truth(t)
	a.press("^Dot 1")
	a.press("^Track each point")
	lie := func(n int) []geom.Knot {
		doc, set := s.whole(shot)
		l, ok := set.Pose(&doc.Removals[0].Mark.Outlines[0], doc.Removals[0].Follow.Track, n)
		if !ok {
			return nil
		}
		return l.Knots()
	}
	s.wait(
		time.Minute,
		"the corners to be followed to the end",
		func() bool { return lie(demo.First) != nil && lie(demo.Last) != nil },
	)
	home := lie(known.Reference)
	var worst float64
	for n := demo.First; n <= demo.Last; n++ {
		motion := known.Motion[n]
		for i, k := range lie(n) {
			worst = math.Max(worst, k.At.Dist(motion.Apply(home[i].At)))
		}
	}
	t.Logf("corners tracked one by one: %.2f px from the truth at worst", worst)
	assert.LessOrEqual(t, worst, 0.5)

	a.press("^Key points")
	a.goTo(1060)
	before := lie(1060)
	a.drag(before[2].At, before[2].At.Add(geom.Pt(9, 7)))
	s.wait(5*time.Second, "the corner to move", func() bool { return lie(1060)[2].At.Dist(before[2].At) > 5 })
	after := lie(1060)
	assert.InDelta(t, 0, after[2].At.Dist(before[2].At.Add(geom.Pt(9, 7))), 1)
	assert.InDelta(t, 0, after[0].At.Dist(before[0].At), 0.05, "the others stay on their tracks")
	assert.InDelta(t, 0, lie(known.Reference)[2].At.Dist(home[2].At), 0.05, "and so does this one on its other key")
}

// TestASurfaceThatBends shows outlines and the locked picture along a surface that a grid
// bends by tens of pixels: grips lie where the server carries the points, a point is let go
// where it stays, and in the locked picture the dots stand where they are carried back to.
func TestASurfaceThatBends(t *testing.T) {
	demotest.Share(t, 2)
	t.Parallel()
	s, a, shot := prepared(t)
	known := demotest.Truth(t)
	const frame = 1050
	s.follow(shot, "w", known.Reference)
	five := "[0,0],[0,0],[0,0],[0,0],[0,0]"
	none, bent := five+",[0,0],[0,0],"+five, five+",[24,-18],[-15,21],"+five
	var head struct{ Number int }
	s.get("/api/shots/"+shot+"/treatment", &head)
	s.patch("/api/shots/"+shot+"/treatment", fmt.Sprintf(`{"revision":%d,"label":"Bend","patch":[
		{"op":"add","path":"/tracks/0/corrections","value":[{"id":"g","name":"By grid","kind":"grid","cells":[3,2],"keys":[
		{"frame":%d,"ease":"eased","offset":[0,0],"crossings":[%s]},{"frame":%d,"ease":"eased","offset":[0,0],"crossings":[%s]}]}]}]}`,
		head.Number, known.Reference, none, frame, bent))

	a.goTo(frame)
	a.key(input.Digit1)
	pose := func() (carry.Pose, *treatment.Shape) {
		doc, set := s.whole(shot)
		shape := &doc.Removals[0].Mark.Outlines[0]
		pose, ok := set.Pose(shape, doc.Tracks[0].ID, frame)
		require.True(t, ok)
		return pose, shape
	}
	grip := func(i int) geom.Point {
		at := fmt.Sprintf(`() => { const b = document.querySelector('[aria-label="Point %d of Dot 1"]').getBoundingClientRect(); return [b.left + b.width / 2, b.top + b.height / 2] }`, i)
		v, err := a.page.Eval(at)
		require.NoError(t, err)
		var p [2]float64
		require.NoError(t, v.Value.Unmarshal(&p))
		return geom.Pt(p[0], p[1])
	}
	now, shape := pose()
	_, straight := now.ToFrame.Homography()
	require.False(t, straight)
	a.press("^Dot 1")
	_, err := a.page.Timeout(5 * time.Second).Element(`[aria-label="Point 4 of Dot 1"]`)
	require.NoError(t, err)
	for i, k := range now.Knots() {
		want := a.at(k.At)
		assert.InDelta(t, 0, grip(i+1).Dist(geom.Pt(want.X, want.Y)), 0.5, "point %d", i+1)
	}
	was := now.Knots()[2].At
	a.drag(was, was.Add(geom.Pt(9, 6)))
	s.wait(5*time.Second, "the point to move", func() bool {
		_, moved := pose()
		return moved.Points[2].At != shape.Points[2].At
	})
	now, _ = pose()
	assert.InDelta(t, 0, now.Knots()[2].At.Dist(was.Add(geom.Pt(9, 6))), 1, "it is where it was let go")

	a.press("^Plate$")
	a.press("^Handles")
	a.key(input.KeyL)
	a.see("Locked to frame")
	a.steady(frame)
	doc, set := s.whole(shot)
	back := set.Mapping(doc.Tracks[0].ID, frame, known.Reference)
	data, err := a.page.Screenshot(false, &proto.PageCaptureScreenshot{Format: proto.PageCaptureScreenshotFormatPng})
	require.NoError(t, err)
	page, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	orange := func(p geom.Point) bool {
		at := a.at(p)
		r, g, b, _ := page.At(int(math.Round(at.X)), int(math.Round(at.Y))).RGBA()
		return r > 2*b && r > g+g/4
	}
	motion, seen := known.Motion[frame], 0
	for _, d := range known.Dots {
		p := back.Apply(motion.Apply(d.Point()))
		if p.Dist(d.Point()) < 4 {
			continue // not bent there
		}
		seen++
		assert.True(t, orange(p), "the dot at %v stands at %v", d.Point(), p)
		assert.False(t, orange(p.Add(p.Sub(d.Point()).Mul(-2.4*d.Radius/p.Dist(d.Point())))), "and not beside it")
	}
	assert.Positive(t, seen)
}

// Why a track stopped is said on the picture, with what to do, until somebody has seen it or follows anew.
func TestWhyATrackStopped(t *testing.T) {
	demotest.Share(t, 2)
	t.Parallel()
	s, shot := serveWith(t, "lm_020")
	a := open(t, s.address+"/shots/"+shot)
	a.steady(1001)
	a.press("^New removal")
	a.key(input.Digit2, input.KeyO)
	a.drag(geom.Pt(90, 30), geom.Pt(190, 95)) // sky
	a.press("^Follow both ways")
	a.see("hardly any texture in the region, little more than grain; draw it larger")
	a.press("^Go to 1002$")
	a.steady(1002)
	a.named("Put this away")
	gone := `() => [...document.querySelectorAll('p[role=status]')].filter((p) => p.textContent.includes('hardly any')).length`
	assert.Zero(t, a.number(gone))
}
