package render

import (
	"context"
	"fmt"
	"image"
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// with returns the usual document with other sources.
func with(sources ...treatment.Source) *treatment.Document {
	d := document()
	for i := range sources {
		sources[i].ID = fmt.Sprint("source", i)
		for _, frame := range []*int{frameOf(sources[i].Plate), frameOf(sources[i].Neighbour),
			frameOf(sources[i].Piece)} {
			if frame != nil && *frame == 0 {
				*frame = 100
			}
		}
	}
	d.Removals[0].Fill.Sources = sources
	return d
}

// frameOf returns the frame of what a source has of its own; nil where it has none.
func frameOf(own any) *int {
	if v := reflect.ValueOf(own); !v.IsNil() {
		return v.Elem().FieldByName("Frame").Addr().Interface().(*int)
	}
	return nil
}

func frame(t *testing.T, d *treatment.Document, n int, view View) *raster.Image {
	t.Helper()
	got, err := (&Evaluator{Plate: ramp{}, Cache: memo.New(1 << 26), Pictures: redSquare}).Frame(
		context.Background(),
		compile(t, d),
		n,
		view,
		"a",
	)
	require.NoError(t, err)
	return got.Image.Crop(image.Rect(0, 0, 100, 80))
}

func redSquare(_ context.Context, _ *treatment.Picture) (*raster.Image, error) {
	m := raster.NewImage(image.Rect(0, 0, 20, 10))
	for y := range 10 {
		for x := range 20 {
			m.Set(x, y, [4]float32{float32(x) / 20, 0, 0, 1})
		}
	}
	return m, nil
}

func dab(mode string, home int, x, y, size float64) treatment.Stroke {
	return treatment.Stroke{
		ID:       fmt.Sprint(mode, home, x, y, size),
		Mode:     mode,
		Home:     home,
		Size:     size,
		Hardness: 1,
		Opacity:  1,
		Colour:   &[3]float64{0, 1, 0},
		From:     &treatment.From{Offset: treatment.Vec{40, 0}},
		Path:     &treatment.Path{Points: [][]float64{{x, y}}},
	}
}

// On every frame the neighbour's pixels are that frame's own.
func TestNeighbourTakesTheFramesOwnPixels(t *testing.T) {
	for _, crisp := range []bool{false, true} {
		n := treatment.Source{
			Kind: treatment.Beside,
			Neighbour: &treatment.Neighbour{
				Crisp: crisp,
				Offsets: []treatment.OffsetKey{
					{Frame: 98, Ease: treatment.Linear, Offset: treatment.Vec{30, 0}},
					{Frame: 102, Ease: treatment.Linear, Offset: treatment.Vec{30, 8}},
				},
			},
		}
		for f, dy := range map[int]float64{98: 0, 100: 4, 102: 8} {
			got := frame(t, with(n), f, ResultView)
			x, y := 25+2*(f-100), 25+f-100
			v := got.At(x, y)
			assert.InDelta(t, float64(x+30)/100, v[0], 1e-5, "frame %d", f)
			assert.InDelta(t, (float64(y)+dy)/80, v[1], 1e-5)
			assert.InDelta(t, float64(f)/200, v[2], 1e-5, "the light of this frame")
			assert.Zero(t, got.At(10, 60)[3])
		}
	}
	// The surface grows: along it the offset grows as well, on the screen it does not.
	d := with(
		treatment.Source{
			Kind:      treatment.Beside,
			Neighbour: &treatment.Neighbour{Offsets: []treatment.OffsetKey{{Frame: 100, Offset: treatment.Vec{20, 0}}}},
		},
	)
	for i := range d.Tracks[0].Data.Samples {
		if s := &d.Tracks[0].Data.Samples[i]; s.Frame == 101 {
			s.Matrix = geom.Placement(geom.Pt(25, 25), geom.Point{}, 0, geom.Pt(1.5, 1.5))
		}
	}
	assert.InDelta(t, 0.25+0.3, frame(t, d, 101, ResultView).At(25, 25)[0], 1e-4)
	d.Removals[0].Fill.Sources[0].Neighbour.Screen = true
	assert.InDelta(t, 0.25+0.2, frame(t, d, 101, ResultView).At(25, 25)[0], 1e-4)
}

// Travelling paint takes each frame's own pixels, target and source carried together;
// on its home it lies where it was put, whatever the track says.
func TestTravellingPaintGoesWithTheSurface(t *testing.T) {
	s := dab("clone", 101, 27, 26, 14)
	d := with(treatment.Source{Kind: treatment.Travelling, Paint: &treatment.Paint{Strokes: []treatment.Stroke{s}}})
	for _, n := range []int{99, 101, 103} {
		v := frame(t, d, n, PatchView).At(27+2*(n-101), 26+n-101)
		assert.InDelta(t, float64(27+2*(n-101)+40)/100, v[0], 1e-4, "frame %d", n)
		assert.InDelta(t, float64(n)/200, v[2], 1e-4)
	}
	home := frame(t, d, 101, PatchView)
	moved := with(treatment.Source{Kind: treatment.Travelling, Paint: &treatment.Paint{Strokes: []treatment.Stroke{s}}})
	for i := range moved.Tracks[0].Data.Samples {
		moved.Tracks[0].Data.Samples[i].Matrix = moved.Tracks[0].Data.Samples[i].Matrix.Mul(
			geom.Placement(geom.Pt(3, 9), geom.Pt(5, 5), 7, geom.Pt(1.1, 1.1)),
		)
	}
	assert.Equal(t, home.Pix, frame(t, moved, 101, PatchView).Pix, "on its home it stays to the last bit")
	// A grid that bends its home leaves it alone as well.
	bent := with(treatment.Source{Kind: treatment.Travelling, Paint: &treatment.Paint{Strokes: []treatment.Stroke{s}}})
	bent.Tracks[0].Surface = []treatment.Vec{{10, 10}, {50, 10}, {50, 50}, {10, 50}}
	bent.Tracks[0].Corrections = []treatment.Correction{
		{
			ID:    "g",
			Kind:  treatment.ByGrid,
			Cells: []int{1, 1},
			Keys:  []treatment.CorrectionKey{{Frame: 101, Crossings: []treatment.Vec{{3, 0}, {0, 5}, {-4, 0}, {0, 2}}}},
		},
	}
	assert.Equal(t, home.Pix, frame(t, bent, 101, PatchView).Pix)
	// Only this frame; and on the screen.
	d.Removals[0].Fill.Sources[0].Strokes()[0].Range = &treatment.Range{First: 101, Last: 101}
	e := &Evaluator{Plate: ramp{}}
	assert.Empty(t, keyOf(t, e, compile(t, d), 102, PatchView, "a"))
	d.Removals[0].Fill.Sources[0].Strokes()[0].Range = nil
	d.Removals[0].Fill.Sources[0].Strokes()[0].Ride = treatment.Still
	assert.EqualValues(t, 1, frame(t, d, 98, PatchView).At(27, 26)[3])
}

// Two clean plates with a dissolve from one to the next: in between, so much of each.
func TestPlatesDissolveIntoEachOther(t *testing.T) {
	plate := func(frame int, c [3]float64, r *treatment.Range, rise int) treatment.Source {
		s := dab("colour", frame, 25, 25, 60)
		s.Colour = &c
		return treatment.Source{
			Kind:  treatment.HeldPlate,
			Plate: &treatment.Plate{Frame: frame, Strokes: []treatment.Stroke{s}},
			Range: r,
			Rise:  rise,
		}
	}
	d := with(
		plate(100, [3]float64{1, 0, 0}, nil, 0),
		plate(103, [3]float64{0, 1, 0}, &treatment.Range{First: 103, Last: 104}, 3),
	)
	for n, share := range map[int]float64{99: 0, 100: 0.25, 101: 0.5, 102: 0.75, 103: 1} {
		v := frame(t, d, n, ResultView).At(25+2*(n-100), 25+n-100)
		assert.InDelta(t, 1-share, v[0], 1e-5, "frame %d", n)
		assert.InDelta(t, share, v[1], 1e-5)
	}
}

// What reads the picture reads the paint of the sources below; what does not is the same with
// any paint below, and is not painted anew for it.
func TestStrokesReadThePaintBelow(t *testing.T) {
	below := func(c [3]float64) treatment.Source {
		s := dab("colour", 100, 65, 25, 30)
		s.Colour = &c
		return treatment.Source{Kind: treatment.HeldPlate, Plate: &treatment.Plate{Strokes: []treatment.Stroke{s}}}
	}
	for _, c := range [][3]float64{{1, 0, 0}, {0, 0, 1}} {
		d := with(
			below(c),
			treatment.Source{
				Kind:  treatment.HeldPlate,
				Plate: &treatment.Plate{Strokes: []treatment.Stroke{dab("clone", 100, 25, 25, 12)}},
			},
		)
		v := frame(t, d, 100, ResultView).At(25, 25)
		for k := range 3 {
			assert.InDelta(t, c[k], v[k], 1e-5, "copied from below")
		}
		d = with(
			below(c),
			treatment.Source{
				Kind:  treatment.HeldPlate,
				Plate: &treatment.Plate{Strokes: []treatment.Stroke{dab("colour", 100, 25, 25, 12)}},
			},
		)
		assert.InDelta(t, 1, frame(t, d, 100, ResultView).At(25, 25)[1], 1e-5)
	}
	for mode, want := range map[string]bool{"clone": true, "heal": true, "soften": true, "smear": true, "lift": true,
		"lower": true, "colour": false, "erase": false} {
		assert.Equal(t, want, reads(&treatment.Stroke{Mode: mode}), mode)
	}
	assert.True(t, reads(&treatment.Stroke{Mode: "colour", Channels: "r"}), "the other channels are what was there")
}

// Strokes of one plate with ranges and rides of their own: each lies where and when it
// should, and is there to be copied on the plate's frame in any case.
func TestStrokesOfAPlateHaveRangesAndRides(t *testing.T) {
	first := dab("colour", 100, 25, 25, 8)
	first.Range = &treatment.Range{First: 100, Last: 100}
	copied := dab("clone", 100, 25, 29, 4) // of what the first painted
	copied.From = &treatment.From{Offset: treatment.Vec{0, -4}}
	still := dab("colour", 100, 22, 22, 4)
	still.Ride, still.Colour = treatment.Still, &[3]float64{0, 0, 1}
	d := with(
		treatment.Source{
			Kind:  treatment.HeldPlate,
			Plate: &treatment.Plate{Strokes: []treatment.Stroke{first, copied, still}},
		},
	)
	here, next := frame(t, d, 100, ResultView), frame(t, d, 101, ResultView)
	assert.EqualValues(t, 1, here.At(25, 25)[1])
	assert.Zero(t, next.At(27, 26)[3], "only on frame 100")
	assert.InDelta(t, 1, here.At(25, 29)[1], 1e-5)
	assert.InDelta(t, 1, next.At(27, 30)[1], 1e-5, "the copy is carried, its source is gone")
	assert.InDelta(t, 1, here.At(22, 22)[2], 1e-5)
	assert.InDelta(t, 1, next.At(22, 22)[2], 1e-5, "it stays on the screen")
	assert.Zero(t, next.At(24, 23)[3], "and is not carried as well")
}

// What an edit changes and what it does not: the keys tell.
func TestAStrokeOnOneFrameLeavesTheOthersAlone(t *testing.T) {
	e := &Evaluator{Plate: ramp{}}
	stroke := dab("heal", 101, 27, 26, 6)
	base := []treatment.Source{
		{Kind: treatment.HeldPlate, Plate: &treatment.Plate{Strokes: []treatment.Stroke{dab("clone", 100, 25, 25, 8)}}},
		{Kind: treatment.Travelling, Paint: &treatment.Paint{Strokes: []treatment.Stroke{}}},
	}
	before := compile(t, with(base...))
	stroke.Range = &treatment.Range{First: 101, Last: 101}
	base[1].Paint.Strokes = []treatment.Stroke{stroke}
	after := compile(t, with(base...))
	assert.Equal(t, keyOf(t, e, before, 102, ResultView, ""), keyOf(t, e, after, 102, ResultView, ""))
	assert.NotEqual(t, keyOf(t, e, before, 101, ResultView, ""), keyOf(t, e, after, 101, ResultView, ""))
	half := 0.5
	base = slices.Clone(base) // what is compiled must not change
	base[0].Opacity = &half
	assert.NotEqual(
		t,
		keyOf(t, e, after, 102, ResultView, ""),
		keyOf(t, e, compile(t, with(base...)), 102, ResultView, ""),
	)
	lent := 103
	base[0].Opacity, base[0].Plate.Strokes[0].From.Frame = nil, &lent
	moved := with(base...)
	key := keyOf(t, e, compile(t, moved), 100, ResultView, "")
	for i := range moved.Tracks[0].Data.Samples {
		if s := &moved.Tracks[0].Data.Samples[i]; s.Frame == 103 {
			s.Matrix = shift(102)
		}
	}
	assert.NotEqual(t, key, keyOf(t, e, compile(t, moved), 100, ResultView, ""), "the frame on loan lies elsewhere")
}

// A frame on loan is brought into place by the track, then turned and scaled by hand.
func TestALoanComesByTheTrack(t *testing.T) {
	lent := 103
	s := dab("clone", 100, 25, 25, 12)
	s.From = &treatment.From{Frame: &lent}
	d := with(treatment.Source{Kind: treatment.HeldPlate, Plate: &treatment.Plate{Strokes: []treatment.Stroke{s}}})
	v := frame(t, d, 100, PatchView).At(25, 25)
	assert.InDelta(t, float64(25+6)/100, v[0], 1e-4, "the same place of the surface, three frames on")
	assert.InDelta(t, float64(25+3)/80, v[1], 1e-4)
	assert.InDelta(t, 103./200, v[2], 1e-4)
	middle := treatment.Vec{25.5, 25.5}
	d.Removals[0].Fill.Sources[0].Strokes()[0].From = &treatment.From{
		Frame:  &lent,
		Middle: &middle,
		Turn:   90,
		Scale:  2,
		Offset: treatment.Vec{1, 0},
	}
	v = frame(t, d, 100, PatchView).At(27, 25)
	assert.InDelta(t, float64(25+6+1)/100, v[0], 1e-4, "two to the right is turned to below")
	assert.InDelta(t, float64(25+3+4)/80, v[1], 1e-4, "twice as far")
}

func TestAreasPicturesPiecesAndPlacesWhereTheyCount(t *testing.T) {
	square := func(x0, y0, x1, y1 float64) []treatment.Knot {
		return []treatment.Knot{
			{At: treatment.Vec{x0, y0}},
			{At: treatment.Vec{x1, y0}},
			{At: treatment.Vec{x1, y1}},
			{At: treatment.Vec{x0, y1}},
		}
	}
	area := dab("clone", 100, 0, 0, 1)
	area.Path, area.Area = nil, &treatment.Area{Points: square(22, 22, 28, 28)}
	got := frame(
		t,
		with(treatment.Source{Kind: treatment.HeldPlate, Plate: &treatment.Plate{Strokes: []treatment.Stroke{area}}}),
		100,
		PatchView,
	)
	assert.EqualValues(t, [4]float32{0.65, 25. / 80, 0.5, 1}, got.At(25, 25), "copied exactly")
	assert.Zero(t, got.At(21, 25)[3])
	// The whole frame counts, but inside an outline only.
	whole := treatment.Source{
		Kind:  treatment.HeldPlate,
		Plate: &treatment.Plate{Frame: 102, Whole: true},
		Where: []treatment.Shape{{ID: "w", Kind: treatment.Outline, Home: 100, Points: square(24, 20, 40, 40)}},
	}
	got = frame(t, with(whole), 100, ResultView)
	assert.InDelta(t, 102./200, got.At(27, 25)[2], 1e-5)
	assert.InDelta(t, float64(27+4)/100, got.At(27, 25)[0], 1e-4)
	assert.Zero(t, got.At(22, 25)[3])
	// A picture as the plate, and a piece by its corners.
	p := &treatment.Picture{Artifact: "red", Width: 20, Height: 10}
	got = frame(
		t,
		with(treatment.Source{Kind: treatment.HeldPlate, Plate: &treatment.Plate{Picture: p}}),
		100,
		PatchView,
	)
	assert.InDelta(t, 0.25, got.At(5, 5)[0], 1e-6)
	assert.Zero(t, got.At(5, 12)[3])
	piece := treatment.Source{
		Kind:  treatment.Supplied,
		Piece: &treatment.Piece{Picture: p, Corners: []treatment.Vec{{20, 20}, {30, 20}, {30, 30}, {20, 30}}},
	}
	got = frame(t, with(piece), 101, PatchView)
	assert.InDelta(t, 10.5/20, got.At(27, 26)[0], 0.02, "half way along its width")
	assert.Zero(t, got.At(19, 26)[3])
	_, err := (&Evaluator{Plate: ramp{}}).Frame(context.Background(), compile(t, with(piece)), 101, PatchView, "a")
	assert.ErrorContains(t, err, "cannot be read here")
}
