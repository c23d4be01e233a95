package picture_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand/v2"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	documents "jardin/app/document"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"

	"jardin/app/demo/demotest"
)

// When a region was left and taken up again, all frames together are told once more, and only theirs: those put elsewhere.
func TestAllFramesTogetherAreToldAtTheEnd(t *testing.T) {
	path := func(n float64) (x, y float64) { return 120 * (1 - math.Cos(2*math.Pi*(n-1)/99)), 3 * math.Sin(n/5) }
	s := shotAlong(t, 8, 0, 0, 100, path)
	d := document()
	d.Tracks[0].Motion = geom.Perspective
	d.Tracks[0].Home, d.Removals[0].Reference = 1, 1
	d.Removals[0].Range, d.Removals[0].Mark.Outlines[0].Home = treatment.Range{First: 1, Last: 100}, 1
	told := map[int][]treatment.Sample{}
	require.NoError(t, s.Follow(ctx, d, picture.Run{Track: "t", From: 1, First: 1, Last: 100}, func(f picture.Tracked) {
		told[f.Frame] = append(told[f.Frame], *f.Sample)
	}))
	again, moved := 0, 0
	fromX, fromY := path(1)
	for n := 1; n <= 100; n++ {
		require.NotEmpty(t, told[n], "frame %d", n)
		last := told[n][len(told[n])-1]
		x, y := path(float64(n))
		assert.InDelta(t, x-fromX, last.Matrix[2], 0.25, "frame %d", n)
		assert.InDelta(t, y-fromY, last.Matrix[5], 0.25, "frame %d", n)
		if last.Moved > 0 {
			moved++
		}
		if len(told[n]) > 1 {
			again++
			assert.NotEqual(t, told[n][0].Matrix, last.Matrix)
			assert.Equal(t, told[n][0].Match, last.Match, "how well it was found there is as it was")
		}
	}
	assert.Greater(t, moved, 5)
	assert.Positive(t, again)
}

// Supplied mattes of what is marked and in front are left out of following by choice, on the frames that they are of.
func TestSuppliedMattesAreLeftOutByChoice(t *testing.T) {
	s := shot(t, 8, 0)
	d := document()
	m := image.NewGray(image.Rect(0, 0, 128, 96))
	for y := 10; y < 80; y++ {
		for x := 62; x < 128; x++ {
			m.SetGray(x, y, color.Gray{255})
		}
	}
	var blob bytes.Buffer
	require.NoError(t, png.Encode(&blob, m))
	supplied := []treatment.FrontMatte{{Frame: 9, Picture: treatment.Picture{Data: blob.Bytes(), Name: "m.png", Width: 128, Height: 96}}}
	driven := func() (right [2]int) { // blocks of the right half that drive the track, on the frame with a matte and on one without
		require.NoError(t, s.Follow(ctx, d, picture.Run{Track: "t", From: 8, First: 8, Last: 10}, func(f picture.Tracked) {
			if f.Frame < 9 {
				return
			}
			for i, state := range f.Sample.Blocks {
				if i%8 >= 5 && state == '1' {
					right[f.Frame-9]++
				}
			}
		}))
		return right
	}
	without := driven()
	require.Greater(t, without[0], 8)
	basis := d.BasisOf(d.Track("t"))
	d.Tracks[0].LeaveMarked = true
	d.Removals = append(d.Removals, treatment.Removal{ID: "q", Name: "q", Range: whole, Reference: 8, Follow: treatment.Follow{Track: treatment.Still},
		Settle: treatment.Settle{Opacity: 1}})
	marked := d.BasisOf(d.Track("t"))
	for _, front := range []bool{false, true} {
		q := &d.Removals[1]
		q.Mark.Mattes, q.Guard = []treatment.MarkMatte{{ID: "m", Name: "m", Mattes: supplied}}, nil
		if front {
			q.Mark.Mattes, q.Guard = nil, &treatment.Guard{Fronts: []treatment.Front{{ID: "f", Name: "f", By: treatment.ByMatte, Mattes: supplied}}}
		}
		with := driven()
		assert.Zero(t, with[0], "front %v", front)
		assert.Equal(t, without[1], with[1], "no matte is of that frame")
		now := d.BasisOf(d.Track("t"))
		assert.NotEqual(t, marked, now)
		assert.NotEqual(t, basis, now)
	}
	// By a key, all that it finds inside its outlines, on every frame.
	half := treatment.Shape{ID: "h", Name: "h", Kind: treatment.Outline, Home: 8, Ride: treatment.Still,
		Points: []treatment.Knot{{At: treatment.Vec{62, 10}}, {At: treatment.Vec{128, 10}}, {At: treatment.Vec{128, 80}}, {At: treatment.Vec{62, 80}}}}
	mattes := d.Removals[1].Guard.Fronts
	front := treatment.Front{ID: "f", Name: "f", By: treatment.ByBrightness, Key: &treatment.FrontKey{Near: 100, Far: 99}, Shapes: []treatment.Shape{half}}
	d.Removals[1].Guard.Fronts = []treatment.Front{front}
	assert.Equal(t, without, driven(), "nothing is that bright")
	nothing := d.BasisOf(d.Track("t"))
	front.Key.Invert = true
	assert.NotEqual(t, nothing, d.BasisOf(d.Track("t")))
	assert.Equal(t, [2]int{}, driven(), "all of it is no brighter")
	d.Removals[1].Guard.Fronts[0].Shapes[0].Points = half.Points[:3]
	part := driven()
	assert.Positive(t, part[0], "outside the outline, beside it, nothing is left out")
	assert.Less(t, part[0], without[0])
	d.Removals[1].Guard.Fronts[0].Shapes[0].Points = half.Points
	d.Removals[1].Guard.Fronts[0].Shapes[0].Ride = "t"
	assert.Equal(t, without, driven(), "what rides on the track is a part of it")
	d.Removals[1].Guard.Fronts = mattes
	d.Removals[1].Off = true
	assert.Equal(t, without, driven())
	d.Removals[1].Off = false
	d.Removals[1].Guard.Fronts[0].Mattes[0].Picture.Data = []byte("no picture")
	assert.ErrorContains(t, s.Follow(ctx, d, picture.Run{Track: "t", From: 8, First: 8, Last: 10}, func(picture.Tracked) {}), "supplied matte on frame 9")
}

// A surface that bends is followed on top of its plane; all that asks the track where something goes gets it bent. What was
// measured is small, and out of date when it is to be stiffer; without bending nothing of it is left.
func TestASurfaceThatBendsIsFollowed(t *testing.T) {
	demotest.Share(t, 2)
	const w, h, frames = 240, 200, 8
	truth := func(p geom.Point, n int) geom.Point {
		u := float64(n-1) / (frames - 1)
		return p.Add(geom.Pt(3*math.Sin(p.Y/16+u)+2*u, 2.5*math.Sin(p.X/19-u)).Mul(u))
	}
	s := cloth(t, image.Rect(0, 0, w, h), frames, 0, truth)
	d := treatment.New()
	d.Tracks = []treatment.Track{{ID: "t", Name: "cloth", Kind: treatment.PlaneTrack, Home: 1, Motion: geom.Perspective,
		Region: []treatment.Vec{{40, 30}, {200, 30}, {200, 170}, {40, 170}}}}
	whole := treatment.Range{First: 1, Last: frames}
	run := picture.Run{Track: "t", From: 1, First: 1, Last: frames}
	followed := func() (mean float64) {
		var found []picture.Tracked
		require.NoError(t, s.Follow(ctx, d, run, func(f picture.Tracked) { found = append(found, f) }))
		picture.MergeTracked(d, d.Track("t"), run, whole, found)
		blob, err := json.Marshal(d)
		require.NoError(t, err)
		d, err = documents.Parse(blob, &whole)
		require.NoError(t, err, "what was measured is a valid part of the treatment")
		motions, err := carry.New(d)
		require.NoError(t, err)
		count := 0.0
		for n := 2; n <= frames; n++ {
			along := motions.Mapping("t", 1, n)
			back, ok := along.Inverse()
			require.True(t, ok)
			for y := 45.0; y < 160; y += 9 {
				for x := 55.0; x < 190; x += 9 {
					q := along.Apply(geom.Pt(x, y))
					mean, count = mean+q.Dist(truth(geom.Pt(x, y), n)), count+1
					require.InDelta(t, 0, back.Apply(q).Dist(geom.Pt(x, y)), 0.01, "and back")
				}
			}
		}
		return mean / count
	}
	flat := followed()
	basis := d.BasisOf(d.Track("t"))
	d.Tracks[0].Bends = &treatment.Bends{Stiffness: 0.2, Detail: 8}
	assert.NotEqual(t, basis, d.BasisOf(d.Track("t")), "what was measured flat is out of date")
	soft := followed()
	t.Logf("off by %.3f px, as a plane by %.3f", soft, flat)
	assert.Greater(t, flat, 0.6)
	assert.Less(t, soft, 0.1)
	last := d.Tracks[0].Data.Samples[frames-1]
	require.NotNil(t, last.Bend)
	blob, err := json.Marshal(last)
	require.NoError(t, err)
	assert.Less(t, len(blob), 100_000, "bytes a frame")
	assert.Greater(t, last.Agree, 0.95)
	motions, err := carry.New(d)
	require.NoError(t, err)
	for _, v := range motions.Motion("t").Samples {
		assert.Equal(t, carry.Good, v.Grade, "frame %d: %s", v.Frame, v.Advice)
	}
	// Gone on with from a frame in the middle, as after a crash, it is bent there as well, and in the end as it was at once.
	at := last.Bend.Shift
	run = picture.Run{Track: "t", From: 5, First: 5, Last: frames}
	assert.Less(t, followed(), 0.1)
	require.NotNil(t, d.Tracks[0].Data.Samples[4].Bend, "the frame that it goes on from")
	require.Len(t, d.Tracks[0].Data.Samples[frames-1].Bend.Shift, len(at))
	// Each frame is told bent while it runs.
	require.NoError(t, s.Follow(ctx, d, run, func(f picture.Tracked) {
		told, err := f.Mesh.Mapping()
		require.NoError(t, err)
		assert.Less(t, told.Apply(geom.Pt(120, 100)).Dist(truth(geom.Pt(120, 100), f.Frame)), 0.3, "frame %d", f.Frame)
	}))
	// Smoothing the plane would leave the bend behind.
	motions, err = carry.New(d)
	require.NoError(t, err)
	d.Tracks[0].Smooth = 3
	smoothed, err := carry.New(d)
	require.NoError(t, err)
	for n := 2; n <= frames; n++ {
		p := geom.Pt(120, 100)
		assert.InDelta(t, 0, smoothed.Mapping("t", 1, n).Apply(p).Dist(motions.Mapping("t", 1, n).Apply(p)), 1e-9)
	}
	d.Tracks[0].Smooth = 0
	run = picture.Run{Track: "t", From: 1, First: 1, Last: frames}
	d.Tracks[0].Dropped = []treatment.Range{{First: 4, Last: 5}}
	motions, err = carry.New(d)
	require.NoError(t, err)
	assert.Less(t, motions.Mapping("t", 1, 4).Apply(geom.Pt(100, 100)).Dist(truth(geom.Pt(100, 100), 4)), 0.4, "between frames bends go on")
	d.Tracks[0].Dropped, d.Tracks[0].Bends = nil, nil
	assert.InDelta(t, flat, followed(), 1e-9)
	assert.Nil(t, d.Tracks[0].Data.Samples[frames-1].Bend)
}

// cloth is footage of a texture whose places go as truth says; by the last frame so much of it has become another.
func cloth(t *testing.T, size image.Rectangle, frames int, other float64, truth func(p geom.Point, n int) geom.Point) *picture.Source {
	rng := rand.New(rand.NewPCG(5, 5))
	var textures [2]*raster.Plane
	for k := range textures {
		textures[k] = raster.NewPlane(size)
		for i := range textures[k].Pix {
			textures[k].Pix[i] = rng.Float32()
		}
		textures[k] = raster.Gaussian(textures[k], 1.6)
	}
	dir := t.TempDir()
	w := size.Dx()
	for n := 1; n <= frames; n++ {
		f := media.NewFrame(w, size.Dy(), media.Samples{Depth: 8})
		u := float32(other * float64(n-1) / float64(frames-1))
		for i := range w * size.Dy() {
			q := geom.Pt(float64(i%w)+0.5, float64(i/w)+0.5)
			from := q
			for range 40 {
				from = from.Add(q.Sub(truth(from, n)))
			}
			x := textures[0].Cubic(from.X, from.Y)*(1-u) + textures[1].Cubic(from.X, from.Y)*u
			v := uint16(min(max(128+900*(x-0.5), 0), 255))
			f.Codes[3*i], f.Codes[3*i+1], f.Codes[3*i+2] = v, v, v
		}
		require.NoError(t, (media.Target{Format: "png", Depth: 8}).Write(filepath.Join(dir, fmt.Sprintf("b.%03d.png", n)), f, media.Shot{}))
	}
	m, err := media.Inspect(ctx, dir)
	require.NoError(t, err)
	p, err := media.Import(ctx, media.Order{Material: m, Dir: filepath.Join(t.TempDir(), "p"),
		Shot: media.Shot{First: 1, Rate: m.Rate, Transfer: colorspace.SRGB, Primaries: m.Primaries}}, nil)
	require.NoError(t, err)
	return picture.NewSource(p, "s", memo.New(64<<20))
}

// Where a surface goes over into other looks it is followed from frame to frame, and that is said; a frame that is named beside its home
// is compared with instead, also where following goes on from beyond it.
func TestASurfaceThatChangesItsLooks(t *testing.T) {
	demotest.Share(t, 1)
	const frames = 16
	truth := func(p geom.Point, n int) geom.Point {
		u := float64(n-1) / (frames - 1)
		return p.Add(geom.Pt(2*math.Sin(p.Y/20)+6*u, 2*math.Sin(p.X/23)).Mul(u))
	}
	s := cloth(t, image.Rect(0, 0, 200, 170), frames, 1, truth)
	d := treatment.New()
	d.Tracks = []treatment.Track{{ID: "t", Name: "cloth", Kind: treatment.PlaneTrack, Home: 1, Motion: geom.Perspective,
		Region: []treatment.Vec{{30, 25}, {165, 25}, {165, 140}, {30, 140}}, Bends: &treatment.Bends{Stiffness: 0.3, Detail: 10}}}
	last := func(from int) treatment.Sample {
		run := picture.Run{Track: "t", From: from, First: from, Last: frames}
		var found []picture.Tracked
		require.NoError(t, s.Follow(ctx, d, run, func(f picture.Tracked) { found = append(found, f) }))
		picture.MergeTracked(d, d.Track("t"), run, treatment.Range{First: 1, Last: frames}, found)
		return d.Tracks[0].Data.Samples[frames-1]
	}
	v := last(1)
	assert.True(t, v.Chained)
	motions, err := carry.New(d)
	require.NoError(t, err)
	m := motions.Motion("t").Samples[frames-1]
	assert.Equal(t, carry.Doubtful, m.Grade)
	assert.Contains(t, m.Advice, "from frame to frame")
	off := motions.Mapping("t", 1, frames).Apply(geom.Pt(95, 80)).Dist(truth(geom.Pt(95, 80), frames))
	t.Logf("from frame to frame: %.2f px off", off)
	assert.Less(t, off, 2.0)
	d.Tracks[0].Bends.Homes = []int{12}
	assert.False(t, last(1).Chained, "it looks as on the frame that was named")
	assert.False(t, last(14).Chained, "and so it does gone on from beyond")
}

// A thing that slides on the surface takes the field along, but where only what is around it is followed: there the surface goes on
// beneath it. Its outline is part of what was measured, where it was drawn on the home frame.
func TestOnlyWhatIsAroundTheThing(t *testing.T) {
	const frames = 6
	thing := geom.Pt(100, 85)
	surface := func(p geom.Point, n int) geom.Point {
		u := float64(n-1) / (frames - 1)
		return p.Add(geom.Pt(2*math.Sin(p.Y/24)+4*u, 2*math.Sin(p.X/27)).Mul(u))
	}
	s := cloth(t, image.Rect(0, 0, 200, 170), frames, 0, func(p geom.Point, n int) geom.Point {
		slides := 2.5 * float64(n-1) / (frames - 1) * math.Exp(-math.Pow(p.Dist(thing)/24, 8))
		return surface(p, n).Add(geom.Pt(slides, 0))
	})
	d := treatment.New()
	d.Tracks = []treatment.Track{{ID: "t", Name: "cloth", Kind: treatment.PlaneTrack, Home: 1, Motion: geom.Perspective,
		Region: []treatment.Vec{{30, 25}, {165, 25}, {165, 140}, {30, 140}}, Bends: &treatment.Bends{Stiffness: 0.3, Detail: 10}}}
	var knots []treatment.Knot
	around := func(r float64) (out []geom.Point) {
		for k := range 12 {
			sin, cos := math.Sincos(float64(k) * math.Pi / 6)
			out = append(out, thing.Add(geom.Pt(r*cos, r*sin)))
		}
		return out
	}
	for _, at := range around(32) {
		knots = append(knots, treatment.Knot{At: treatment.Vec{at.X, at.Y}})
	}
	d.Removals = []treatment.Removal{{ID: "r", Name: "r", Range: treatment.Range{First: 1, Last: frames}, Reference: 1, Follow: treatment.Follow{Track: "t"},
		Mark: treatment.Mark{Outlines: []treatment.Shape{{ID: "o", Name: "o", Kind: treatment.Outline, Home: 1, Points: knots}}}}}
	off := func() (worst float64) {
		var found []picture.Tracked
		run := picture.Run{Track: "t", From: 1, First: 1, Last: frames}
		require.NoError(t, s.Follow(ctx, d, run, func(f picture.Tracked) { found = append(found, f) }))
		picture.MergeTracked(d, d.Track("t"), run, treatment.Range{First: 1, Last: frames}, found)
		motions, err := carry.New(d)
		require.NoError(t, err)
		for _, p := range around(12) {
			worst = max(worst, motions.Mapping("t", 1, frames).Apply(p).Dist(surface(p, frames)))
		}
		return worst
	}
	assert.Greater(t, off(), 1.5, "it is taken along")
	before := d.BasisOf(d.Track("t"))
	d.Tracks[0].Bends.Around = true
	basis := d.BasisOf(d.Track("t"))
	assert.NotEqual(t, before, basis)
	assert.Less(t, off(), 0.5)
	outline := &d.Removals[0].Mark.Outlines[0]
	outline.Points[0].At[0]++
	assert.NotEqual(t, basis, d.BasisOf(d.Track("t")), "another outline is another surface")
	outline.Points[0].At[0]--
	outline.Name = "another"
	assert.Equal(t, basis, d.BasisOf(d.Track("t")))
	outline.Home = 3
	assert.NotEqual(t, basis, d.BasisOf(d.Track("t")), "drawn elsewhere it does not count")
	assert.Greater(t, off(), 1.5)
}

// Another track tells of a motion that is too large to be found: 110 px from frame to frame.
func TestASurfaceThatBendsAlongAnotherTrack(t *testing.T) {
	const frames = 3
	truth := func(p geom.Point, n int) geom.Point {
		u := float64(n - 1)
		return p.Add(geom.Pt(110*u+u*math.Sin(p.Y/20), u*math.Sin(p.X/23)))
	}
	s := cloth(t, image.Rect(0, 0, 480, 170), frames, 0, truth)
	d := treatment.New()
	d.Tracks = []treatment.Track{
		{ID: "t", Name: "cloth", Kind: treatment.PlaneTrack, Home: 1, Motion: geom.Perspective,
			Region: []treatment.Vec{{30, 25}, {165, 25}, {165, 140}, {30, 140}}, Bends: &treatment.Bends{Stiffness: 0.3, Detail: 10}},
		{ID: "g", Name: "given", Kind: treatment.GivenTrack, Home: 2, Motion: geom.Perspective, Data: &treatment.Data{}},
	}
	for n := 1; n <= frames; n++ {
		d.Tracks[1].Data.Samples = append(d.Tracks[1].Data.Samples, treatment.Sample{Frame: n, Matrix: geom.Translation(geom.Pt(110*float64(n-2), 0))})
	}
	run := picture.Run{Track: "t", From: 1, First: 1, Last: frames}
	off := func() (worst float64, err error) {
		err = s.Follow(ctx, d, run, func(f picture.Tracked) {
			told, err := f.Mesh.Mapping()
			require.NoError(t, err)
			for _, p := range []geom.Point{{X: 60, Y: 50}, {X: 140, Y: 60}, {X: 90, Y: 120}} {
				worst = max(worst, told.Apply(p).Dist(truth(p, f.Frame)))
			}
		})
		return worst, err
	}
	worst, err := off()
	t.Logf("by itself: %.1f px off, %v", worst, err)
	assert.True(t, err != nil || worst > 5, "by itself it is lost")
	d.Tracks[0].Bends.Along = "g"
	require.NoError(t, d.Validate(nil))
	worst, err = off()
	require.NoError(t, err)
	assert.Less(t, worst, 0.3)
	d.Tracks[0].Bends.Along = "t"
	assert.ErrorContains(t, d.Validate(nil), "no other track")
}
