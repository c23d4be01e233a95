package track

import (
	"image"
	"math"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// bench reports whether "make bench" runs, which takes its time.
// shareOf leaves a long test to the runs that take its share of five (JARDIN_SHARE, see scripts/test).
func shareOf(t testing.TB, k int) {
	if which, err := strconv.Atoi(os.Getenv("JARDIN_SHARE")); err == nil && which%5 != k {
		t.Skip("in another run's share; make test ALL=1 runs all")
	}
}

func bench() bool { return os.Getenv("JARDIN_BENCH") != "" }

// A followed is what came of one frame of a hard scene.
type followed struct {
	off    float64 // RMS distance of the corners from the truth, pixels
	sample Sample
	err    error
}

// hard follows a scene to its end, also where it is lost for some frames.
func (s *scene) hard(t testing.TB) (out []followed) {
	tr, err := NewSurface(show(s.frames[0]), s.frames[0].Rect, s.polygon(), nil, geom.Perspective, nil)
	require.NoError(t, err)
	for i := 1; i < len(s.frames); i++ {
		sample, err := tr.Step(show(s.frames[i]), nil)
		f := followed{sample: sample, err: err, off: math.Inf(1)}
		if err == nil {
			f.off = s.off(i, sample.H)
		}
		out = append(out, f)
	}
	s.followed, s.chained, s.together = tr, 0, 0
	var were, are float64
	all := tr.Together()
	for _, b := range all {
		f := &out[b.Step-1]
		was := f.off
		f.sample.H, f.off = b.H, s.off(b.Step, b.H)
		were, are = were+was, are+f.off
	}
	if n := float64(len(all)); n > 0 {
		s.chained, s.together = were/n, are/n
		t.Logf("all frames together: %.0f of them, off by %.3f px where they were by %.3f", n, are/n, were/n)
	}
	return out
}

// strip lays part of another photograph over a picture.
func strip(p, other *raster.Plane, at image.Rectangle) *raster.Plane {
	for y := at.Min.Y; y < at.Max.Y; y++ {
		for x := at.Min.X; x < at.Max.X; x++ {
			if q := image.Pt(x, y); q.In(p.Rect) {
				p.Pix[y*p.Rect.Dx()+x] = other.At((x-at.Min.X)%(other.Rect.Dx()-20)+10, (y-at.Min.Y)%(other.Rect.Dy()-20)+10)
			}
		}
	}
	return p
}

// A strip that nobody marked crosses the region at 18 pixels a frame and covers 44 % of it for some frames.
func TestAStripThatCrosses(t *testing.T) {
	shareOf(t, 4)
	other := photograph(t, "baboon.jpg")
	s := grafScene(t, 48, func(i int, p *raster.Plane, _ geom.Homography) *raster.Plane {
		x := 18*i - 100
		return strip(p, other, image.Rect(x, 0, x+160, p.Rect.Max.Y))
	})
	var mean, worst float64
	lost := 0
	for _, f := range s.hard(t) {
		if f.err != nil {
			lost++
			continue
		}
		mean += f.off
		worst = math.Max(worst, f.off)
	}
	n := float64(len(s.frames) - 1 - lost)
	flow, _ := s.printed(t, false)
	t.Logf("strip: mean %.3f, worst %.2f, lost on %d; OpenCV, LK and RANSAC: %v", mean/n, worst, lost, flow)
	assert.LessOrEqual(t, mean/n, 0.05)
	assert.LessOrEqual(t, worst, 0.5)
}

// A wide strip hides all of the region for some frames: it is lost there, and found again behind.
func TestAStripThatHidesAll(t *testing.T) {
	shareOf(t, 4)
	other := photograph(t, "baboon.jpg")
	s := grafScene(t, 40, func(i int, p *raster.Plane, _ geom.Homography) *raster.Plane {
		x := 33*i - 500
		return strip(p, other, image.Rect(x, 0, x+440, p.Rect.Max.Y))
	})
	s.told(t, "hidden", 0.1, 0.5, 20)
}

// The region leaves the picture and returns.
func TestARegionThatReturns(t *testing.T) {
	shareOf(t, 0)
	graf := photograph(t, "graf1.png")
	s := &scene{region: geom.Box{Min: geom.Pt(230, 170), Max: geom.Pt(450, 400)}}
	size := image.Rect(0, 0, 640, 560)
	region := whole(graf)
	for i := range 61 {
		h := geom.Translation(geom.Pt(-620*math.Sin(math.Pi*float64(i)/60), 30*math.Sin(float64(i)/9)))
		s.add(noisy(seenThrough(graf, h, size, region, 2), 0.008, uint64(i)), h)
	}
	s.told(t, "returns", 0.1, 0.5, 0)
	all := s.hard(t)
	assert.Positive(t, all[30].sample.Moved, "what is followed meanwhile is another region")
	last := all[len(all)-1]
	assert.Zero(t, last.sample.Moved, "the first region is taken up again")
	assert.Less(t, last.off, 0.03, "and with it all that was added up is gone")
}

// A pan before a wall whose lower half is nearer, and goes faster: when the region leaves, it moves on along the wall, and
// takes in nothing of what is nearer, though that has more texture.
func TestARegionMovesOnAlongItsOwnSurface(t *testing.T) {
	shareOf(t, 4)
	wall, near := wallOf(t), photograph(t, "graf1.png")
	size := image.Rect(0, 0, 640, 480)
	s := &scene{region: geom.Box{Min: geom.Pt(150, 40), Max: geom.Pt(360, 220)}}
	for i := range 29 {
		u := float64(i)
		h := geom.Translation(geom.Pt(-15*u, 4*math.Sin(u/5)))
		p := seenThrough(wall, h, size, whole(wall), 2)
		front := seenThrough(near, geom.Translation(geom.Pt(30-19*u, -40)).Mul(geom.Placement(geom.Pt(0, 0), geom.Point{}, 0, geom.Pt(1.5, 1))),
			size, whole(near), 2)
		for y := 245; y < 480; y++ {
			copy(p.Row(y, 0, 640), front.Row(y, 0, 640))
		}
		s.add(noisy(p, 0.006, uint64(i)), h)
	}
	s.goesOn(t, "two depths", geom.Box{Min: geom.Pt(460, 60), Max: geom.Pt(600, 200)}, 0.3, 1)
}

// whole is a picture's own outline.
func whole(p *raster.Plane) []geom.Point {
	c := geom.Box{
		Min: geom.Pt(float64(p.Rect.Min.X), float64(p.Rect.Min.Y)), Max: geom.Pt(float64(p.Rect.Max.X), float64(p.Rect.Max.Y)),
	}.Corners()
	return c[:]
}

// A camera that pans along a wall of photographs: the first region leaves for good.
func TestAPanOnWhichTheRegionLeaves(t *testing.T) {
	shareOf(t, 4)
	wall, frames := wallOf(t), 30
	if bench() {
		frames = 60
	}
	s := &scene{region: geom.Box{Min: geom.Pt(120, 120), Max: geom.Pt(400, 360)}}
	for i := range frames + 1 {
		u := float64(i)
		h := geom.Translation(geom.Pt(-12*u, 20*math.Sin(u/9))).
			Mul(geom.Placement(geom.Pt(260, 240), geom.Point{}, math.Sin(u/13), geom.Pt(1+0.1*math.Sin(u/17), 1+0.1*math.Sin(u/17))))
		s.add(noisy(seenThrough(wall, h, image.Rect(0, 0, 640, 480), whole(wall), 2), 0.006, uint64(i)), h)
	}
	s.goesOn(t, "pan", geom.Box{Min: geom.Pt(480, 180), Max: geom.Pt(600, 300)}, 0.3, 1)
}

// A camera that pans along a wall, turns round and comes back: all frames together take out more than a third of what going from
// region to region added up.
func TestAPanThereAndBack(t *testing.T) {
	shareOf(t, 1)
	lengths := []int{120}
	if bench() {
		lengths = []int{80, 90, 100, 110, 120, 130, 140, 150, 160}
	}
	wall := wallOf(t)
	var chained, together float64
	for _, frames := range lengths {
		s := &scene{region: geom.Box{Min: geom.Pt(120, 120), Max: geom.Pt(400, 360)}}
		for i := range frames + 1 {
			a := 1 - math.Cos(2*math.Pi*float64(i)/float64(frames))
			h := geom.Translation(geom.Pt(-6*float64(frames)*a, 20*math.Sin(float64(i)/9))).
				Mul(geom.Placement(geom.Pt(260, 240), geom.Point{}, math.Sin(float64(i)/13), geom.Pt(1+0.06*a, 1+0.06*a)))
			s.add(noisy(seenThrough(wall, h, image.Rect(0, 0, 640, 480), whole(wall), 2), 0.012, uint64(i)), h)
		}
		all := s.hard(t)
		assert.Zero(t, all[len(all)-1].sample.Moved, "the first region is taken up again")
		assert.NotEmpty(t, s.followed.tiesAcross(), "what it comes back to is what it was")
		chained, together = chained+s.chained, together+s.together
	}
	n := float64(len(lengths))
	t.Logf("there and back: chained %.3f, together %.3f px, where the first region's corners are, in the picture or not", chained/n, together/n)
	assert.Less(t, together, 0.65*chained)
}

// Only legs on a way round are put elsewhere: what hangs on them goes where they go.
func TestWhatIsLooped(t *testing.T) {
	for _, c := range []struct {
		ties [][2]int
		want []bool
	}{
		{[][2]int{{0, 1}, {1, 2}, {2, 3}}, []bool{true, false, false, false}},
		{[][2]int{{0, 1}, {1, 2}, {0, 2}, {2, 3}}, []bool{true, true, true, false}},
		{[][2]int{{0, 1}, {0, 1}, {1, 2}, {1, 3}}, []bool{true, false, false, false}},
		{[][2]int{{0, 1}, {1, 2}, {2, 3}, {1, 3}}, []bool{true, true, true, true}},
	} {
		s := &Surface{legs: make([]*leg, 4)}
		var ties []tie
		for _, x := range c.ties {
			ties = append(ties, tie{a: x[0], b: x[1]})
		}
		assert.Equal(t, c.want, s.looped(ties), "%v", c.ties)
	}
}

// A camera that goes towards a floor: what it begins with grows, and passes below.
func TestADollyTowardsAFloor(t *testing.T) {
	shareOf(t, 4)
	floor, frames := wallOf(t), 36
	if bench() {
		frames = 90
	}
	s := &scene{region: geom.Box{Min: geom.Pt(200, 250), Max: geom.Pt(440, 360)}}
	size := image.Rect(0, 0, 640, 480)
	// The photographs lie on the floor and go away from the camera: x is how far, y how far to the right. Seen from a height
	// under a horizon: 320 + focal (y - 300) / d to the right, horizon + focal height / d down, d being x - along.
	const horizon, focal, height = 120, 520.0, 120.0
	onto := func(n float64) geom.Homography {
		along := -100 + 14*n
		return geom.Homography{
			320, focal, -320*along - 300*focal,
			horizon, 0, -horizon*along + focal*height,
			1, 0, -along,
		}
	}
	first := onto(0)
	toFloor, ok := first.Inverse()
	require.True(t, ok)
	for i := range frames + 1 {
		h := onto(float64(i))
		back, _ := h.Inverse()
		p := seenThrough(floor, h, size, back.ApplyAll([]geom.Point{{X: 1, Y: 150}, {X: 639, Y: 150}, {X: 639, Y: 479}, {X: 1, Y: 479}}), 2)
		for k := range 145 * 640 {
			p.Pix[k] = 0.7 // sky
		}
		s.add(noisy(p, 0.006, uint64(i)), h.Mul(toFloor).Normalised())
	}
	// What is painted far away is seen four times as large in the end.
	s.goesOn(t, "dolly", geom.Box{Min: geom.Pt(290, 200), Max: geom.Pt(350, 220)}, 0.3, 1.0)
	assert.Zero(t, s.together, "it never comes back: there is nothing to bring together")
}

// wallOf is several photographs beside each other, as high as the lowest of them.
func wallOf(t testing.TB) *raster.Plane {
	var all []*raster.Plane
	wide, high := 0, 600
	for _, name := range []string{"graf1.png", "building.jpg", "starry_night.jpg", "baboon.jpg"} {
		p := photograph(t, name)
		all, wide, high = append(all, p), wide+p.Rect.Dx(), min(high, p.Rect.Dy())
	}
	wall, x := raster.NewPlane(image.Rect(0, 0, wide, high)), 0
	for _, p := range all {
		for y := range high {
			copy(wall.Row(y, x, x+p.Rect.Dx()), p.Row(p.Rect.Min.Y+y, p.Rect.Min.X, p.Rect.Max.X))
		}
		x += p.Rect.Dx()
	}
	return wall
}

// goesOn follows a scene on all of its frames, and tells by how much patches slip: what lies in a box on any frame is
// followed from there for as long as all of it is in the picture, whatever region that is measured on.
func (s *scene) goesOn(t *testing.T, name string, box geom.Box, mean, worst float64) {
	all := s.hard(t)
	found, moved := []geom.Homography{geom.Identity}, 0
	for i, f := range all {
		if !assert.NoError(t, f.err, "%s, frame %d", name, i+1) {
			return
		}
		found, moved = append(found, f.sample.H), max(moved, f.sample.Moved)
	}
	var sum, high float64
	n, longest := 0, 0
	for from := range found {
		back, ok := found[from].Inverse()
		truly, fine := s.truth[from].Inverse()
		require.True(t, ok && fine)
		for to := from + 1; to < len(found); to++ {
			h, truth := found[to].Mul(back), s.truth[to].Mul(truly)
			var off float64
			seen := true
			for _, c := range box.Corners() {
				p := truth.Apply(c)
				d := h.Apply(c).Dist(p)
				off += d * d / 4
				seen = seen && inside(p, s.frames[0].Rect, 0)
			}
			if !seen {
				break
			}
			off = math.Sqrt(off)
			sum, high, n, longest = sum+off, math.Max(high, off), n+1, max(longest, to-from)
		}
	}
	t.Logf("%s: patches slip by %.3f px, at worst by %.2f, over up to %d frames; the region moved on %d times",
		name, sum/float64(n), high, longest, moved)
	assert.LessOrEqual(t, sum/float64(n), mean)
	assert.LessOrEqual(t, high, worst)
	assert.Positive(t, moved)
}

// told follows a scene and says how far off it is where it was found; it must be found on the last frame, and lost on no
// more than so many.
func (s *scene) told(t *testing.T, name string, mean, worst float64, most int) {
	var sum, high float64
	lost, found := 0, 0
	all := s.hard(t)
	for _, f := range all {
		if f.err != nil {
			lost++
			continue
		}
		sum, high, found = sum+f.off, math.Max(high, f.off), found+1
	}
	t.Logf("%s: mean %.3f, worst %.2f, lost on %d of %d", name, sum/float64(found), high, lost, len(all))
	assert.NoError(t, all[len(all)-1].err, "it comes back by itself")
	assert.LessOrEqual(t, sum/float64(found), mean)
	assert.LessOrEqual(t, high, worst)
	assert.LessOrEqual(t, lost, most)
}

// rolling lights a picture by bands that roll over it, by so much more and less.
func rolling(p *raster.Plane, i int, by float64) *raster.Plane {
	for y := range p.Rect.Dy() {
		k := float32(1 + by*math.Sin(2*math.Pi*(float64(y)/140+0.37*float64(i))))
		row := p.Row(p.Rect.Min.Y+y, p.Rect.Min.X, p.Rect.Max.X)
		for x := range row {
			row[x] = min(0.7*row[x]*k, 1)
		}
	}
	return p
}

// tiles is a wall of tiles that are all alike, but for some dirt, on a camera that goes sideways.
func tiles(frames int, step, soil float64) *scene {
	wall := raster.NewPlane(image.Rect(0, 0, 1700, 560))
	dirt := raster.Gaussian(noisy(raster.NewPlane(wall.Rect), 1, 99), 2)
	for y := range wall.Rect.Dy() {
		for x := range wall.Rect.Dx() {
			u, v := math.Mod(float64(x), 28), math.Mod(float64(y), 28)
			grout := math.Min(math.Min(u, 28-u), math.Min(v, 28-v))
			wall.Pix[y*wall.Rect.Dx()+x] = float32(0.35+0.25*math.Min(grout/2.5, 1)+0.03*math.Sin(u/4)) + float32(soil)*dirt.At(x, y)
		}
	}
	s := &scene{region: geom.Box{Min: geom.Pt(200, 150), Max: geom.Pt(440, 380)}}
	for i := range frames + 1 {
		h := geom.Translation(geom.Pt(-step*float64(i)*float64(frames-i)/float64(frames)*0.5, 2*math.Sin(float64(i)/5)))
		s.add(noisy(seenThrough(wall, h, image.Rect(0, 0, 640, 560), s.polygon(), 2), 0.006, uint64(i)), h)
	}
	return s
}

// smeared is a photograph on a camera that swings by up to 31 pixels a frame, with an exposure of such a share of the time
// between frames. The reference frame is taken at rest.
func smeared(t testing.TB, frames, parts int, shutter float64) *scene {
	graf := photograph(t, "graf1.png")
	s := &scene{region: geom.Box{Min: geom.Pt(280, 200), Max: geom.Pt(520, 420)}}
	at := func(u float64) geom.Homography {
		u = math.Max(u, 0)
		return geom.Translation(geom.Pt(150*(1-math.Cos(u/5))-150, 40*(1-math.Cos(u/3.5)))).
			Mul(geom.Translation(geom.Pt(150, 0)))
	}
	for i := range frames + 1 {
		var sum *raster.Plane
		for k := range parts {
			p := seenThrough(graf, at(float64(i)+shutter*((float64(k)+0.5)/float64(parts)-0.5)), graf.Rect, s.polygon(), 1)
			if sum == nil {
				sum = raster.NewPlane(p.Rect)
			}
			for j, v := range p.Pix {
				sum.Pix[j] += v / float32(parts)
			}
		}
		s.add(noisy(sum, 0.006, uint64(i)), at(float64(i)))
	}
	return s
}

// Footage that is hard without anything in front: light that rolls over the picture, tiles that are all alike, smear. What
// OpenCV makes of it stands beside.
func TestHardFootage(t *testing.T) {
	shareOf(t, 0)
	frames, parts := 10, 8
	if bench() {
		frames, parts = 48, 16
	}
	for _, c := range []struct {
		name        string
		mean, worst float64
		scene       func() *scene
	}{
		{"bands of light that roll, 35 % up and down", 0.1, 0.3, func() *scene {
			return grafScene(t, frames, func(i int, p *raster.Plane, _ geom.Homography) *raster.Plane { return rolling(p, i, 0.35) })
		}},
		{"tiles of 28 pixels, all alike but for dirt", 0.03, 0.1, func() *scene { return tiles(frames, 20, 0.14) }},
		{"smear of up to 15 pixels", 0.15, 0.3, func() *scene { return smeared(t, frames, parts, 0.5) }},
		{"smear of up to 30 pixels", 0.5, 1, func() *scene { return smeared(t, frames, parts, 1) }},
	} {
		if c.name == "smear of up to 15 pixels" && !bench() {
			continue // twice as much is followed as well
		}
		t.Run(c.name, func(t *testing.T) {
			s := c.scene()
			var sum, high float64
			for i, f := range s.hard(t) {
				require.NoError(t, f.err, "frame %d", i+1)
				sum, high = sum+f.off/float64(len(s.frames)-1), math.Max(high, f.off)
			}
			flow, _ := s.printed(t, false)
			t.Logf("%s: mean %.3f, worst %.2f px; OpenCV, LK and RANSAC: %v", c.name, sum, high, flow)
			assert.LessOrEqual(t, sum, c.mean)
			assert.LessOrEqual(t, high, c.worst)
		})
	}
}

// A compromise between a surface and what covers half of it is not taken for the better of two.
func TestACompromiseIsWorthLess(t *testing.T) {
	right := Sample{Match: 1, Agree: 0.5, Residual: 0.03}
	for _, between := range []Sample{{Match: 0.81, Agree: 0.89, Residual: 0.56}, {Match: 0.95, Agree: 1, Residual: 0.5}} {
		assert.Greater(t, right.worth(), between.worth())
	}
	assert.Greater(t, (&Sample{Match: 0.9, Agree: 0.9, Residual: 0.05}).worth(), right.worth())
}

// weak is a photograph whose contrast is so low that its standard deviation is the given share of white, in noise.
func weak(t testing.TB, frames int, contrast, noise float64, seed uint64, region geom.Box) *scene {
	graf := photograph(t, "graf1.png")
	s := &scene{region: region}
	part := graf.Crop(raster.Around(region, 0, graf.Rect))
	var sum, squares float64
	for _, v := range part.Pix {
		sum, squares = sum+float64(v), squares+float64(v)*float64(v)
	}
	n := float64(len(part.Pix))
	mean := sum / n
	k := contrast / math.Sqrt(squares/n-mean*mean)
	for i := range frames + 1 {
		h := grafPath(t, graf.Rect, 0.25*float64(i)/float64(frames))
		p := seenThrough(graf, h, graf.Rect, s.polygon(), 2)
		for j, v := range p.Pix {
			p.Pix[j] = float32(0.45 + k*(float64(v)-mean))
		}
		s.add(noisy(p, noise, seed+uint64(i)), h)
	}
	return s
}

// How far off a track is in weak texture is known from the picture alone: to within a factor of 1.7, over regions, contrasts
// and grain. With little of it the motion is reduced to what is supported.
func TestUncertaintyIsKnown(t *testing.T) {
	shareOf(t, 3)
	for _, region := range []geom.Box{
		{Min: geom.Pt(230, 170), Max: geom.Pt(430, 370)},
		{Min: geom.Pt(330, 250), Max: geom.Pt(410, 330)},
		{Min: geom.Pt(120, 330), Max: geom.Pt(260, 440)},
	} {
		for _, c := range []struct{ contrast, noise float64 }{{0.15, 0.01}, {0.05, 0.01}, {0.016, 0.006}, {0.016, 0.012}} {
			s := weak(t, 8, c.contrast, c.noise, 7, region)
			var off, told float64
			n := 0
			for _, f := range s.hard(t) {
				if f.err == nil {
					off, told, n = off+f.off*f.off, told+f.sample.Deviation*f.sample.Deviation, n+1
				}
			}
			off, told = math.Sqrt(off/float64(n)), math.Sqrt(told/float64(n))
			t.Logf("%v, contrast %.3f, noise %.3f: off %.3f, told %.3f px", region.Min, c.contrast, c.noise, off, told)
			assert.Equal(t, len(s.frames)-1, n)
			assert.Less(t, off, 0.8, "by all of its parameters it is off by up to 1.1")
			assert.Less(t, off/told, 1.7)
			assert.Greater(t, off/told, 1/1.8)
		}
	}
}

// Grades hold what they say, over all that is hard: of frames that are off by more than a pixel at least 95 percent are not
// trusted, of those within 0.3 pixels at most 5.
func TestGradesAgainstTruth(t *testing.T) {
	shareOf(t, 2)
	other := photograph(t, "baboon.jpg")
	frames := 8
	if bench() {
		frames = 48
	}
	near, wrongly, far, caught := 0, 0, 0, 0
	for name, s := range map[string]*scene{
		"strip": grafScene(t, frames, func(i int, p *raster.Plane, _ geom.Homography) *raster.Plane {
			x := 18*i - 100
			return strip(p, other, image.Rect(x, 0, x+160, p.Rect.Max.Y))
		}),
		"wide strip": grafScene(t, frames, func(i int, p *raster.Plane, _ geom.Homography) *raster.Plane {
			x := 33*i - 500
			return strip(p, other, image.Rect(x, 0, x+440, p.Rect.Max.Y))
		}),
		"bands":          grafScene(t, frames, func(i int, p *raster.Plane, _ geom.Homography) *raster.Plane { return rolling(p, i, 0.35) }),
		"tiles":          tiles(frames, 20, 0.14),
		"smear":          smeared(t, frames, 8, 1),
		"weak":           weak(t, frames, 0.05, 0.01, 3, geom.Box{Min: geom.Pt(330, 250), Max: geom.Pt(410, 330)}),
		"weaker":         weak(t, frames, 0.016, 0.012, 5, geom.Box{Min: geom.Pt(330, 250), Max: geom.Pt(410, 330)}),
		"weakest":        weak(t, frames, 0.008, 0.012, 9, geom.Box{Min: geom.Pt(330, 250), Max: geom.Pt(410, 330)}),
		"weak and large": weak(t, frames, 0.016, 0.006, 11, geom.Box{Min: geom.Pt(230, 170), Max: geom.Pt(430, 370)}),
	} {
		n, f, w, c := 0, 0, 0, 0
		for _, one := range s.hard(t) {
			switch {
			case one.err != nil: // it says so
			case one.off > 1:
				f++
				if !one.sample.Trusted() {
					c++
				}
			case one.off <= 0.3:
				n++
				if !one.sample.Trusted() {
					w++
				}
			}
		}
		t.Logf("%s: within 0.3 px %d, %d of them not trusted; off by more than a pixel %d, %d of them not trusted", name, n, w, f, c)
		near, wrongly, far, caught = near+n, wrongly+w, far+f, caught+c
	}
	t.Logf("%.1f %% of %d caught, %.1f %% of %d wrongly doubted", 100*float64(caught)/float64(max(far, 1)), far,
		100*float64(wrongly)/float64(near), near)
	assert.GreaterOrEqual(t, float64(caught), 0.95*float64(far))
	assert.LessOrEqual(t, float64(wrongly), 0.05*float64(near))
}

// A focus pull: the lens draws a disc of up to five pixels in radius while the camera moves. The template is made as soft.
func TestAFocusPull(t *testing.T) {
	shareOf(t, 1)
	graf := photograph(t, "graf1.png")
	size := image.Rect(0, 0, 640, 560)
	frames := 24
	if bench() {
		frames = 48
	}
	regions := []geom.Box{{Min: geom.Pt(230, 170), Max: geom.Pt(450, 400)}, {Min: geom.Pt(250, 220), Max: geom.Pt(410, 350)}}
	if !bench() {
		regions = regions[1:]
	}
	for _, region := range regions {
		s := &scene{region: region}
		for i := range frames + 1 {
			u := float64(i) / float64(frames)
			h := geom.Placement(geom.Pt(320, 280), geom.Pt(25*math.Sin(4*u), -18*u), 4*u, geom.Pt(1+0.1*u, 1+0.1*u))
			p := seenThrough(graf, h, size, whole(graf), 2)
			if r := 5 * math.Sin(math.Pi*u); r > 0.3 {
				p = disc(p, r)
			}
			s.add(noisy(p, 0.008, uint64(i)), h)
		}
		var sum, high, told float64
		all := s.hard(t)
		for i, f := range all {
			require.NoError(t, f.err, "frame %d", i+1)
			sum, high, told = sum+f.off, math.Max(high, f.off), told+f.sample.Deviation
			assert.GreaterOrEqual(t, f.sample.Deviation, 0.9*f.sample.pull(8), "frame %d: parts that slide count", i+1)
		}
		n := float64(len(all))
		flow, ecc := s.printed(t, true)
		t.Logf("focus pull, %.0f pixels wide: mean %.3f, told %.3f, worst %.2f px; OpenCV, LK and RANSAC: %v; ECC: %v",
			region.Max.X-region.Min.X, sum/n, told/n, high, flow, ecc)
		assert.LessOrEqual(t, high, 0.2)
	}
}

// disc is a picture as a lens out of focus draws it: each point an even disc.
func disc(p *raster.Plane, radius float64) *raster.Plane {
	out := raster.NewPlane(p.Rect)
	w, h, r := p.Rect.Dx(), p.Rect.Dy(), int(math.Ceil(radius))
	var taps []geom.Point
	var shares []float32
	var sum float32
	for y := -r; y <= r; y++ {
		for x := -r; x <= r; x++ {
			n := 0
			for k := range 64 {
				if math.Hypot(float64(x)+(float64(k%8)-3.5)/8, float64(y)+(float64(k/8)-3.5)/8) <= radius {
					n++
				}
			}
			if n > 0 {
				taps, shares, sum = append(taps, geom.Pt(float64(x), float64(y))), append(shares, float32(n)), sum+float32(n)
			}
		}
	}
	raster.Rows(0, h, func(y int) {
		for x := range w {
			var v float32
			for k, t := range taps {
				v += shares[k] * p.Pix[min(max(y+int(t.Y), 0), h-1)*w+min(max(x+int(t.X), 0), w-1)]
			}
			out.Pix[y*w+x] = v / sum
		}
	})
	return out
}
