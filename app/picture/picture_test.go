package picture_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/treatment"
)

var ctx = context.Background()

// shot makes a plate store of textured frames that move by (2, 1) a frame; from
// the frame lost on they show something else.
func shot(t *testing.T, depth, lost int) *picture.Source { return shotWithout(t, depth, lost, 21) }

// shotWithout is a shot whose surface is not seen from one frame to another.
func shotWithout(t *testing.T, depth, lost, found int) *picture.Source {
	return shotMoving(t, depth, lost, found, 2)
}

// shotMoving moves by so many pixels a frame to the right.
func shotMoving(t *testing.T, depth, lost, found int, by float64) *picture.Source {
	return shotAlong(t, depth, lost, found, 20, func(n float64) (x, y float64) { return by * n, n })
}

// shotAlong moves along a path.
func shotAlong(t *testing.T, depth, lost, found, frames int, path func(n float64) (x, y float64)) *picture.Source {
	dir := t.TempDir()
	top := float64(int(1)<<depth - 1)
	for n := 1; n <= frames; n++ {
		f := media.NewFrame(128, 96, media.Samples{Depth: depth})
		atX, atY := path(float64(n))
		for i := range 128 * 96 {
			x, y := float64(i%128)-atX, float64(i/128)-atY
			if lost > 0 && n >= lost && n < found {
				x, y = y*1.7, x*0.4
			}
			v := 0.5 + 0.2*math.Sin(x/3.3+2*math.Sin(y/7))*math.Cos(y/4.1) + 0.2*math.Sin(x*y/180)
			for c := range 3 {
				f.Codes[3*i+c] = uint16(top * v * (1 - 0.1*float64(c)))
			}
		}
		require.NoError(
			t,
			(media.Target{Format: "png", Depth: f.Depth}).Write(
				filepath.Join(dir, fmt.Sprintf("a.%03d.png", n)),
				f,
				media.Shot{},
			),
		)
	}
	m, err := media.Inspect(ctx, dir)
	require.NoError(t, err)
	p, err := media.Import(
		ctx,
		media.Order{
			Material: m,
			Dir:      filepath.Join(t.TempDir(), "p"),
			Shot: media.Shot{
				First:     1,
				Rate:      m.Rate,
				Transfer:  colorspace.SRGB,
				Primaries: colorspace.BT709Primaries,
			},
		},
		nil,
	)
	require.NoError(t, err)
	return picture.NewSource(p, "s", memo.New(64<<20))
}

func document() *treatment.Document {
	d := treatment.New()
	d.Tracks = []treatment.Track{{
		ID: "t", Name: "wall", Kind: treatment.PlaneTrack, Home: 8, Motion: geom.Position,
		Region: []treatment.Vec{{30, 20}, {90, 20}, {90, 70}, {30, 70}},
	}}
	r := treatment.Removal{
		ID: "r", Name: "r", Range: treatment.Range{First: 1, Last: 20}, Reference: 8,
		Follow: treatment.Follow{Track: "t"}, Settle: treatment.Settle{Opacity: 1},
	}
	r.Mark.Outlines = []treatment.Shape{
		{
			ID:   "o",
			Kind: treatment.Outline,
			Home: 8,
			Points: []treatment.Knot{
				{At: treatment.Vec{50, 40}},
				{At: treatment.Vec{60, 40}},
				{At: treatment.Vec{60, 50}},
				{At: treatment.Vec{50, 50}},
			},
		},
	}
	r.Fill.Sources = []treatment.Source{
		{ID: "p", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: 8, Strokes: []treatment.Stroke{{
			ID: "s", Mode: "clone", Home: 8, Size: 30, Hardness: 1, Opacity: 1,
			From: &treatment.From{Offset: treatment.Vec{25, 0}}, Path: &treatment.Path{Points: [][]float64{{55,
				45}}}}}}},
	}
	d.Removals = []treatment.Removal{r}
	return d
}

var whole = treatment.Range{First: 1, Last: 20}

// follow runs a track and keeps what it finds in the document.
func follow(t testing.TB, s *picture.Source, d *treatment.Document, run picture.Run) error {
	var found []picture.Tracked
	err := s.Follow(ctx, d, run, func(f picture.Tracked) { found = append(found, f) })
	picture.MergeTracked(d, d.Track(run.Track), run, whole, found)
	require.NoError(t, d.Validate(&whole))
	return err
}

func TestFollowGoesUpAndDownFromAnyKnownFrame(t *testing.T) {
	s := shot(t, 8, 0)
	d := document()
	require.NoError(t, follow(t, s, d, picture.Run{Track: "t", From: 8, First: 8, Last: 13}))
	require.Len(t, d.Tracks[0].Data.Samples, 6, "forwards, a piece")
	first := d.Tracks[0].Data.Basis
	require.NoError(t, follow(t, s, d, picture.Run{Track: "t", From: 13, First: 13, Last: 20}))
	require.NoError(t, follow(t, s, d, picture.Run{Track: "t", From: 8, First: 1, Last: 8}))
	require.Len(t, d.Tracks[0].Data.Samples, 20, "pieces from different frames are joined")
	assert.Equal(t, first, d.Tracks[0].Data.Basis)
	for _, x := range d.Tracks[0].Data.Samples {
		assert.InDelta(t, 2*(x.Frame-8), x.Matrix[2], 0.1, "frame %d", x.Frame)
	}
	d.Tracks[0].Region[0][0] -= 4
	require.NoError(t, follow(t, s, d, picture.Run{Track: "t", From: 8, First: 6, Last: 9}))
	assert.True(t, d.Stale(&d.Tracks[0]), "a piece does not bring the rest up to date")
	require.NoError(t, follow(t, s, d, picture.Run{Track: "t", From: 8, First: 1, Last: 20}))
	assert.False(t, d.Stale(&d.Tracks[0]))
	assert.ErrorContains(
		t,
		s.Follow(ctx, d, picture.Run{Track: "t", From: 8, First: 8, Last: 30}, nil),
		"is not possible in a shot of 1 to 20",
	)
	assert.ErrorContains(
		t,
		s.Follow(ctx, document(), picture.Run{Track: "t", From: 9, First: 9, Last: 12}, nil),
		"is not known on frame 9",
	)
}

func TestFollowKeepsWhatItFoundBeforeALoss(t *testing.T) {
	s := shot(t, 8, 14)
	d := document()
	err := follow(t, s, d, picture.Run{Track: "t", From: 8, First: 1, Last: 20})
	var lost *picture.LostTrack
	require.ErrorAs(t, err, &lost)
	assert.Equal(t, 14, lost.Frame)
	assert.ErrorContains(t, err, "lost the surface on frame 14")
	assert.Len(t, d.Tracks[0].Data.Samples, 13, "frames 1 to 13")

	// Lost for some frames only, it is found again, and nothing is said to be lost.
	s = shotWithout(t, 8, 12, 16)
	d = document()
	d.Tracks[0].Data = &treatment.Data{Basis: "older"} // measured before, otherwise
	for n := 1; n <= 20; n++ {
		d.Tracks[0].Data.Samples = append(d.Tracks[0].Data.Samples, treatment.Sample{
			Frame: n, Matrix: geom.Translation(geom.Pt(float64(9*(n-8)), 0)), Match: 1, Agree: 1,
		})
	}
	require.NoError(t, follow(t, s, d, picture.Run{Track: "t", From: 8, First: 1, Last: 20}))
	assert.Len(t, d.Tracks[0].Data.Samples, 16)
	motions, err := carry.New(d)
	require.NoError(t, err)
	for n := 9; n <= 20; n++ {
		h, ok := motions.Between("t", 8, n)
		require.True(t, ok)
		want := geom.Pt(60+2*float64(n-8), 50+float64(n-8))
		assert.Less(t, h.Apply(geom.Pt(60, 50)).Dist(want), 0.3, "frame %d", n)
	}

	d = document()
	d.Tracks[0].Region = nil
	assert.ErrorContains(t, s.Follow(ctx, d, picture.Run{Track: "t", From: 8, First: 1, Last: 20}, nil), "no region")
	stopped, cancel := context.WithCancel(ctx)
	count := 0
	err = s.Follow(stopped, document(), picture.Run{Track: "t", From: 8, First: 8, Last: 20}, func(f picture.Tracked) {
		count++
		if f.Frame == 11 {
			cancel()
		}
	})
	assert.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, 4, count, "a cancel acts within a frame")
}

// What is followed leaves the picture for good: the region moves on, and the track with it, also where it is followed on
// from a frame on which the region is out of the picture already.
func TestARegionThatLeavesMovesOn(t *testing.T) {
	s := shotMoving(t, 8, 0, 21, 7)
	for _, pieces := range [][]picture.Run{
		{{Track: "t", From: 8, First: 1, Last: 20}},
		{{Track: "t", From: 8, First: 6, Last: 16}, {Track: "t", From: 16, First: 16, Last: 20}, {Track: "t", From: 6, First: 1, Last: 6}},
	} {
		d := document()
		for _, run := range pieces {
			require.NoError(t, follow(t, s, d, run))
		}
		require.Len(t, d.Tracks[0].Data.Samples, 20)
		moved := 0
		for _, v := range d.Tracks[0].Data.Samples {
			assert.InDelta(t, 7*(v.Frame-8), v.Matrix[2], 0.15, "frame %d", v.Frame)
			moved = max(moved, v.Moved)
		}
		assert.Positive(t, moved)
		motions, err := carry.New(d)
		require.NoError(t, err)
		for _, v := range motions.Motion("t").Samples {
			assert.Equal(t, carry.Good, v.Grade, "frame %d: %s", v.Frame, v.Advice)
		}
	}
}

// A frame that was placed by hand is a first guess: following from there lays the surface where it looks as on the home
// frame, and goes on from that. It stays as it was placed where the artist says so, where nothing is found there, and when it
// is placed anew.
func TestAPlacementIsAFirstGuess(t *testing.T) {
	s := shotMoving(t, 8, 0, 21, 3)
	at := func(n int, off float64) []treatment.Vec {
		var out []treatment.Vec
		for _, p := range document().Tracks[0].Frame() {
			out = append(out, treatment.Vec{p.X + 3*float64(n-8) + off, p.Y + float64(n-8) - off})
		}
		return out
	}
	off := func(d *treatment.Document, n int) float64 {
		motions, err := carry.New(d)
		require.NoError(t, err)
		h, ok := motions.Between("t", 8, n)
		require.True(t, ok)
		return h.Apply(geom.Pt(60, 45)).Dist(geom.Pt(60+3*float64(n-8), 45+float64(n-8)))
	}
	d := document()
	d.Tracks[0].Placed = []treatment.PlacedSurface{{Frame: 14, Corners: at(14, 2.5), Guess: true}}
	assert.InDelta(t, 3.5, off(d, 14), 0.1, "as it was placed, until it is followed from there")
	run := picture.Run{Track: "t", From: 14, First: 12, Last: 18}
	require.NoError(t, follow(t, s, d, run))
	for n := 12; n <= 18; n++ {
		assert.Less(t, off(d, n), 0.1, "frame %d", n)
	}
	d.Tracks[0].Placed[0].Corners = at(14, -4)
	assert.InDelta(t, 5.66, off(d, 14), 0.1, "placed anew")

	d = document()
	d.Tracks[0].Placed = []treatment.PlacedSurface{{Frame: 14, Corners: at(14, 2.5)}}
	require.NoError(t, follow(t, s, d, run))
	assert.InDelta(t, 3.5, off(d, 14), 0.1, "it stays")
	assert.InDelta(t, 3.5, off(d, 17), 0.2, "and what follows goes on from it")

	d = document()
	d.Tracks[0].Placed = []treatment.PlacedSurface{{Frame: 14, Corners: at(14, 40), Guess: true}}
	require.NoError(t, follow(t, s, d, run))
	assert.Greater(t, off(d, 14), 30.0, "too far off to be a guess of it")
}

// An outline that goes with the surface hides the same place on every frame: that is said, with what to do. One that stands
// still does not, nor one that is keyed.
func TestWhyNothingIsSeen(t *testing.T) {
	s := shot(t, 8, 0)
	d := document()
	require.NoError(t, follow(t, s, d, picture.Run{Track: "t", From: 8, First: 1, Last: 20}))
	d.Removals[0].Fill.Sources = []treatment.Source{{
		ID: "g", Kind: treatment.Gathered, Gathered: &treatment.Gathering{Live: true, Over: 10},
	}}
	words := func() string {
		ready, err := render.Compile(d)
		require.NoError(t, err)
		_, words, err := s.Seen(ctx, ready, "r", "g", 10)
		require.NoError(t, err)
		return words
	}
	assert.Contains(t, words(), "its outline goes with the surface")
	o := &d.Removals[0].Mark.Outlines[0]
	o.Ride = "t"
	assert.Contains(t, words(), "its outline goes with the surface")
	o.Ride = treatment.Still
	assert.Contains(t, words(), "is seen on some frame")
	o.Ride, o.Keys = "", []treatment.ShapeKey{{Frame: 8, Ease: treatment.Linear, Points: o.Points}}
	assert.Contains(t, words(), "None of it is seen on the frames looked at")
}

func TestPointsAreFollowedTogetherAndLostAlone(t *testing.T) {
	s := shot(t, 8, 0)
	d := document()
	point := func(id string, x, y float64, motion geom.Motion, channel, against string) treatment.Point {
		return treatment.Point{
			ID:        id,
			Name:      id,
			Home:      8,
			At:        treatment.Vec{x, y},
			Pattern:   treatment.Vec{17, 17},
			Search:    treatment.Vec{41, 41},
			Motion:    motion,
			Channel:   channel,
			Against:   against,
			Tolerance: 0.7,
		}
	}
	d.Tracks = append(
		d.Tracks,
		treatment.Track{
			ID:     "p",
			Name:   "points",
			Kind:   treatment.PointsTrack,
			Home:   8,
			Motion: geom.Perspective,
			Points: []treatment.Point{
				point(
					"a",
					40,
					30,
					geom.Position,
					"luma",
					"reference",
				), point("b", 84, 32, geom.Similarity, "best", "previous"),
				point(
					"c",
					60,
					60,
					geom.Shear,
					"red",
					"refresh",
				), point("d", 116, 40, geom.Position, "blue", "reference"),
			},
		},
	)
	err := follow(t, s, d, picture.Run{Track: "p", From: 8, First: 1, Last: 20})
	require.ErrorContains(t, err, "lost d on frame")
	for _, p := range d.Tracks[1].Points[:3] {
		require.Len(t, p.Path.Samples, 19, "%s", p.Name)
		for _, v := range p.Path.Samples {
			assert.InDelta(t, p.At[0]+2*float64(v.Frame-8), v.At[0], 0.15, "%s on %d", p.Name, v.Frame)
			assert.InDelta(t, p.At[1]+float64(v.Frame-8), v.At[1], 0.15, "%s on %d", p.Name, v.Frame)
		}
	}
	assert.Less(t, len(d.Tracks[1].Points[3].Path.Samples), 16, "it leaves the picture; what was before stays")
	// One more frame from the last of a piece, of one point only.
	d.Tracks[1].Points[0].Path.Samples = d.Tracks[1].Points[0].Path.Samples[:10]
	last := d.Tracks[1].Points[0].Path.Samples[9].Frame
	require.NoError(
		t,
		follow(t, s, d, picture.Run{Track: "p", From: last, First: last, Last: last + 1, Points: []string{"a"}}),
	)
	assert.Len(t, d.Tracks[1].Points[0].Path.Samples, 11)
}

// A track over another is measured in its locked picture and added to it.
func TestOnceMoreLocked(t *testing.T) {
	s := shot(t, 8, 0)
	d := document()
	rough := treatment.Track{
		ID:     "rough",
		Name:   "rough",
		Kind:   treatment.GivenTrack,
		Home:   8,
		Motion: geom.Perspective,
		Data:   &treatment.Data{},
	}
	for n := 1; n <= 20; n++ { // right but for a slow slip
		rough.Data.Samples = append(
			rough.Data.Samples,
			treatment.Sample{Frame: n, Matrix: geom.Translation(geom.Pt(2.15*float64(n-8), 0.9*float64(n-8)))},
		)
	}
	d.Tracks[0].Over = "rough"
	d.Tracks = append(d.Tracks, rough)
	require.NoError(t, follow(t, s, d, picture.Run{Track: "t", From: 8, First: 1, Last: 20}))
	motions, err := carry.New(d)
	require.NoError(t, err)
	for n := 1; n <= 20; n++ {
		h, ok := motions.Between("t", 8, n)
		require.True(t, ok)
		p := h.Apply(geom.Pt(60, 45))
		assert.InDelta(t, 60+2*float64(n-8), p.X, 0.1, "frame %d", n)
		assert.InDelta(t, 45+float64(n-8), p.Y, 0.1, "frame %d", n)
	}
}

func TestScoutFindsTheBestFrame(t *testing.T) {
	s := shot(t, 8, 0)
	d := document()
	require.NoError(t, follow(t, s, d, picture.Run{Track: "t", From: 8, First: 1, Last: 20}))
	scores, err := s.Scout(ctx, d, "r", nil, func(int, int) {})
	require.NoError(t, err)
	assert.Len(t, scores.Frames, 20)
	assert.Contains(t, scores.Words, "all of it is in the picture")
	_, err = s.Scout(ctx, document(), "r", nil, func(int, int) {})
	assert.ErrorContains(t, err, "follow the surface first")
	d.Removals[0].Mark.Outlines = nil
	_, err = s.Scout(ctx, d, "r", nil, func(int, int) {})
	assert.ErrorContains(t, err, "draw an outline")
}

func compiled(t *testing.T, s *picture.Source) *render.Treatment {
	d := document()
	require.NoError(t, follow(t, s, d, picture.Run{Track: "t", From: 8, First: 1, Last: 20}))
	c, err := render.Compile(d)
	require.NoError(t, err)
	return c
}

// delivery is one of all frames, with a movie for review.
func delivery(t testing.TB, s *picture.Source) picture.Delivery {
	d := picture.Delivery{
		Dir:          t.TempDir(),
		Shot:         "x",
		Version:      1,
		Document:     document(),
		DeliverySpec: picture.DeliverySpec{Movies: []string{media.Review}},
	}
	require.NoError(t, d.Prepare(s.Plates, d.Document, "PNG"))
	return d
}

// Delivered frames are read back by the standard library: 16 bits stay 16 bits,
// and outside the matte every code value is the plate's.
func TestDeliverKeepsDepthAndPlate(t *testing.T) {
	for _, depth := range []int{8, 16} {
		s := shot(t, depth, 0)
		d := delivery(t, s)
		steps := 0
		require.NoError(t, s.Deliver(ctx, compiled(t, s), d, func(done, _ int) { steps = done }))
		assert.Equal(t, 20, steps)
		assert.FileExists(t, filepath.Join(d.Dir, "review.mp4"))
		for n := 1; n <= 20; n++ {
			data, err := os.ReadFile(filepath.Join(d.Dir, "frames", d.FrameFile(n)))
			require.NoError(t, err)
			m, err := png.Decode(bytes.NewReader(data))
			require.NoError(t, err)
			plate, err := s.Plates.Read(n)
			require.NoError(t, err)
			marked := image.Rect(49, 39, 61, 51).Add(image.Pt(2*(n-8), n-8))
			changed := 0
			for i := range 128 * 96 {
				x, y := i%128, i/128
				r, _, _, _ := m.At(x, y).RGBA()
				if uint16(r>>(16-depth)) != plate.Codes[3*i] {
					changed++
					require.True(t, image.Pt(x, y).In(marked), "frame %d, pixel %d,%d", n, x, y)
				}
			}
			assert.Greater(t, changed, 50)
		}
	}
}

func TestACancelledDeliveryLeavesWholeFilesOnly(t *testing.T) {
	s := shot(t, 8, 0)
	stop, cancel := context.WithCancel(ctx)
	d := delivery(t, s)
	err := s.Deliver(stop, compiled(t, s), d, func(done, _ int) {
		if done == 5 {
			cancel()
		}
	})
	require.Error(t, err)
	assert.NoFileExists(t, filepath.Join(d.Dir, "review.mp4"))
	entries, err := os.ReadDir(filepath.Join(d.Dir, "frames"))
	require.NoError(t, err)
	for _, e := range entries {
		data, err := os.ReadFile(filepath.Join(d.Dir, "frames", e.Name()))
		require.NoError(t, err)
		_, err = png.Decode(bytes.NewReader(data))
		assert.NoError(t, err, e.Name())
	}
}

func TestOverlayIsWhatTheScreenNeeds(t *testing.T) {
	s := shot(t, 8, 0)
	c := compiled(t, s)
	shown, err := s.Overlay(ctx, c, 12, render.ResultView, "", false, 1)
	require.NoError(t, err)
	m, err := png.Decode(bytes.NewReader(shown.PNG))
	require.NoError(t, err)
	place := shown.Rect
	assert.Equal(t, m.Bounds().Size(), place.Size())
	clean, err := s.Clean(ctx, c, 12)
	require.NoError(t, err)
	opaque := 0
	for y := place.Min.Y; y < place.Max.Y; y++ {
		for x := place.Min.X; x < place.Max.X; x++ {
			r, _, _, a := m.At(x-place.Min.X, y-place.Min.Y).RGBA()
			if a == 0 {
				continue
			}
			opaque++
			assert.Equal(t, clean.Codes[3*(y*128+x)], uint16(r>>8), "an sRGB plate is shown with its own code values")
		}
	}
	assert.InDelta(t, 100, opaque, 25)
	// Made smaller, each pixel is the mean of the opaque ones that it stands for, as opaque as they are many.
	for _, by := range []int{2, 4} {
		small, err := s.Overlay(ctx, c, 12, render.ResultView, "", false, by)
		require.NoError(t, err)
		assert.True(t, place.In(small.Rect) && small.Rect.Min.X%by == 0 && small.Rect.Max.Y%by == 0, "%v around %v", small.Rect, place)
		less, err := png.Decode(bytes.NewReader(small.PNG))
		require.NoError(t, err)
		for y := range less.Bounds().Dy() {
			for x := range less.Bounds().Dx() {
				var sum, n float64
				for k := range by * by {
					at := image.Pt(small.Rect.Min.X+x*by+k%by, small.Rect.Min.Y+y*by+k/by)
					if !at.In(place) {
						continue
					}
					if p := m.(*image.NRGBA).NRGBAAt(at.X-place.Min.X, at.Y-place.Min.Y); p.A > 0 {
						sum, n = sum+float64(p.G), n+1
					}
				}
				got := less.(*image.NRGBA).NRGBAAt(x, y)
				require.InDelta(t, 255*n/float64(by*by), float64(got.A), 1)
				if n > 0 {
					require.InDelta(t, sum/n, float64(got.G), 1)
				}
			}
		}
	}
	again, err := s.Overlay(ctx, c, 12, render.ResultView, "", false, 1)
	require.NoError(t, err)
	assert.Equal(t, shown.PNG, again.PNG)
	exact, err := s.Exact(12, false)
	require.NoError(t, err)
	m, err = png.Decode(bytes.NewReader(exact))
	require.NoError(t, err)
	assert.Equal(t, image.Rect(0, 0, 128, 96), m.Bounds())

	// Picked, it is the mean of linear light, as the view shows it; around it colours are as far apart as four of five are.
	at := geom.Pt(float64(place.Min.X+place.Max.X)/2, float64(place.Min.Y+place.Max.Y)/2)
	for _, view := range []render.View{"", render.ResultView} {
		p, ok, err := s.Light(ctx, c, 12, view, "", at, 3)
		require.NoError(t, err)
		require.True(t, ok)
		codes := clean.Codes
		if view == "" {
			plate, err := s.Plates.Read(12)
			require.NoError(t, err)
			codes = plate.Unpacked().Codes
		}
		var want, n float64
		var apart []float64
		for y := range 96 {
			for x := range 128 {
				far := math.Hypot(float64(x)+0.5-at.X, float64(y)+0.5-at.Y)
				code := func(k int) float64 { return colorspace.SRGB.Decode(float64(codes[3*(y*128+x)+k]) / 255) }
				if far <= 3 {
					want, n = want+code(1), n+1
				}
				if far <= 9 {
					l, a, b := colorspace.Lab(code(0), code(1), code(2))
					u, v, w := colorspace.Lab(p.Light[0], p.Light[1], p.Light[2])
					apart = append(apart, math.Hypot(math.Hypot(l-u, a-v), b-w))
				}
			}
		}
		assert.InDelta(t, want/n, p.Light[1], 0.004, "view %q", view)
		slices.Sort(apart)
		assert.InDelta(t, apart[len(apart)*4/5], p.Spread, 1.5, "view %q", view)
	}
	_, ok, err := s.Light(ctx, c, 12, "", "", geom.Pt(-50, 3), 3)
	assert.True(t, err == nil && !ok)

	empty := s.ForScreen(raster.NewImage(image.Rect(3, 3, 3, 3)), false)
	assert.True(t, empty.Rect.Empty())
	_, err = s.Exact(99, false)
	assert.True(t, err != nil && !errors.Is(err, os.ErrNotExist), "a frame outside the shot is named: %v", err)
}
