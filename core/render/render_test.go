package render

import (
	"context"
	"errors"
	"image"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// ramp is a plate on which every pixel of every frame is different.
type ramp struct{ reads map[int]int }

func (ramp) Size() image.Rectangle { return image.Rect(0, 0, 100, 80) }
func (ramp) Key() string           { return "ramp" }
func (ramp) White() float32        { return 1 }
func (ramp) Has(n int) bool        { return n >= 90 }
func (p ramp) Linear(_ context.Context, n int, _ image.Rectangle) (*raster.Image, error) {
	if p.reads != nil {
		p.reads[n]++
	}
	if n > 110 {
		return nil, errors.New("the disk is gone")
	}
	if n < 90 {
		return nil, &Beyond{n, 90, 110}
	}
	m := raster.NewImage(p.Size())
	for y := range 80 {
		for x := range 100 {
			m.Set(x, y, [4]float32{float32(x) / 100, float32(y) / 80, float32(n) / 200, 1})
		}
	}
	return m, nil
}

func shift(n int) geom.Homography {
	return geom.Translation(geom.Pt(float64(2*(n-100)), float64(n-100)))
}

func document() *treatment.Document {
	r := treatment.Removal{
		ID: "a", Name: "a", Range: treatment.Range{First: 98, Last: 104}, Reference: 100,
		Mark: treatment.Mark{
			Outlines: []treatment.Shape{{ID: "o", Kind: treatment.Outline, Home: 100, Points: []treatment.Knot{
				{
					At: treatment.Vec{20, 20},
				}, {At: treatment.Vec{30, 20}}, {At: treatment.Vec{30, 30}}, {At: treatment.Vec{20, 30}}}}},
		},
		Fill: treatment.Fill{
			Sources: []treatment.Source{
				{ID: "p", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: 100, Strokes: []treatment.Stroke{{
					ID: "s", Mode: "clone", Home: 100, Size: 40, Hardness: 1, Opacity: 1, Pen: []string{"size"},
					From: &treatment.From{Offset: treatment.Vec{40, 0}},
					Path: &treatment.Path{Points: [][]float64{{25, 25}}},
				}}}},
			},
		},
		Settle: treatment.Settle{Opacity: 1},
	}
	r.Follow.Track = "t"
	data := &treatment.Data{}
	for n := 98; n <= 103; n++ {
		data.Samples = append(data.Samples, treatment.Sample{Frame: n, Matrix: shift(n)})
	}
	d := treatment.New()
	d.Removals = append(d.Removals, r)
	d.Tracks = append(
		d.Tracks,
		treatment.Track{ID: "t", Kind: treatment.GivenTrack, Home: 100, Motion: geom.Perspective, Data: data},
	)
	return d
}

func compile(t *testing.T, d *treatment.Document) *Treatment {
	c, err := Compile(d)
	require.NoError(t, err)
	return c
}

func TestThePatchLiesWhereTheTrackSaysAndNowhereElse(t *testing.T) {
	e := &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 24)}
	c := compile(t, document())
	for n := 98; n <= 103; n++ {
		got, err := e.Frame(context.Background(), c, n, ResultView, "")
		require.NoError(t, err)
		dx, dy := 2*(n-100), n-100
		marked := image.Rect(20+dx, 20+dy, 30+dx, 30+dy)
		for y := range 80 {
			for x := range 100 {
				var v [4]float32
				if (image.Point{X: x, Y: y}).In(got.Rect) {
					v = got.At(x, y)
				}
				if !(image.Point{X: x, Y: y}).In(marked) {
					assert.Zero(t, v, "frame %d, pixel %d,%d lies outside the matte", n, x, y)
					continue
				}
				// What stood 40 pixels to the right on the reference frame.
				assert.InDelta(t, float64(x-dx+40)/100, v[0], 1e-5)
				assert.InDelta(t, float64(y-dy)/80, v[1], 1e-5)
				assert.InDelta(t, 0.5, v[2], 1e-5, "the light of frame 100 is held")
			}
		}
	}
}

func TestNothingLiesWithoutTrackOutsideTheRangeOrWhenOff(t *testing.T) {
	e := &Evaluator{Plate: ramp{}}
	c := compile(t, document())
	assert.Empty(t, keyOf(t, e, c, 104, ResultView, ""), "104 is in the range, but not on the track")
	assert.Empty(t, keyOf(t, e, c, 97, ResultView, ""))
	got, err := e.Frame(context.Background(), c, 104, ResultView, "")
	require.NoError(t, err)
	assert.True(t, got.Rect.Empty())
	d := document()
	d.Removals[0].Off = true
	assert.Empty(t, keyOf(t, e, compile(t, d), 100, ResultView, ""))
	assert.NotEmpty(t, keyOf(t, e, compile(t, d), 100, PatchView, "a"), "its paint can still be looked at")
	d = document()
	d.Removals[0].Follow.Track = ""
	assert.NotEmpty(t, keyOf(t, e, compile(t, d), 100, ResultView, ""), "the reference frame needs no track")
	assert.Empty(t, keyOf(t, e, compile(t, d), 101, ResultView, ""))
}

// Keys change exactly when pictures do.
func TestKeysNameWhatAPictureIsMadeFrom(t *testing.T) {
	e := &Evaluator{Plate: ramp{}}
	key := func(change func(*treatment.Removal)) string {
		d := document()
		change(&d.Removals[0])
		return keyOf(t, e, compile(t, d), 101, ResultView, "")
	}
	base := key(func(*treatment.Removal) {})
	assert.Equal(t, base, key(func(r *treatment.Removal) { r.Name, r.Notes = "other", "notes" }))
	moved := func(i int, h geom.Homography) string {
		d := document()
		d.Tracks[0].Data.Samples[i].Matrix = h
		return keyOf(t, e, compile(t, d), 101, ResultView, "")
	}
	assert.Equal(t, base, moved(0, shift(3)), "another frame's place")
	assert.NotEqual(t, base, moved(3, shift(102)), "this frame's place")
	for name, change := range map[string]func(*treatment.Removal){
		"outline": func(r *treatment.Removal) { r.Mark.Outlines[0].Points[0].At[0]++ },
		"feather": func(r *treatment.Removal) { r.Settle.Feather = 2 },
		"opacity": func(r *treatment.Removal) { r.Settle.Opacity = 0.5 },
		"stroke":  func(r *treatment.Removal) { r.Fill.Sources[0].Plate.Strokes[0].Size = 39 },
	} {
		assert.NotEqual(t, base, key(change), name)
	}
}

func TestOneMoreStrokeCostsOneStroke(t *testing.T) {
	reads := map[int]int{}
	e := &Evaluator{Plate: ramp{reads}, Cache: memo.New(1 << 24)}
	d := document()
	_, err := e.Frame(context.Background(), compile(t, d), 101, ResultView, "")
	require.NoError(t, err)
	assert.Equal(t, 1, reads[100])
	_, err = e.Frame(context.Background(), compile(t, d), 102, ResultView, "")
	require.NoError(t, err)
	assert.Equal(t, 1, reads[100], "paint is worked out once for all frames")

	second := d.Removals[0].Fill.Sources[0].Plate.Strokes[0]
	second.ID, second.From = "t", &treatment.From{Offset: treatment.Vec{0, 30}}
	second.Path = &treatment.Path{Points: [][]float64{{22, 22}, {28, 28, 0.3}}}
	d.Removals[0].Fill.Sources[0].Plate.Strokes = append(d.Removals[0].Fill.Sources[0].Plate.Strokes, second)
	built, err := e.Frame(context.Background(), compile(t, d), 101, ResultView, "")
	require.NoError(t, err)
	fresh, err := (&Evaluator{Plate: ramp{}}).Frame(context.Background(), compile(t, d), 101, ResultView, "")
	require.NoError(t, err)
	assert.Equal(t, fresh.Pix, built.Pix, "from the cache or from nothing: the same picture")
}

func TestPlacedSetsOneFrame(t *testing.T) {
	e := &Evaluator{Plate: ramp{}}
	c := compile(t, document())
	placed := c.Placed("a", 104, warp.Of(shift(104)))
	assert.NotEmpty(t, keyOf(t, e, placed, 104, ResultView, ""))
	assert.Empty(t, keyOf(t, e, c, 104, ResultView, ""), "the treatment itself is not changed")
	got, err := e.Frame(context.Background(), placed, 104, ResultView, "")
	require.NoError(t, err)
	assert.EqualValues(t, 1, got.At(29, 25)[3])
}

// A patch on a bent surface lies where the bend puts it, and its key says so.
func TestAPatchBendsWithItsSurface(t *testing.T) {
	e := &Evaluator{Plate: ramp{}}
	d := document()
	d.Tracks[0].Surface = []treatment.Vec{{10, 10}, {50, 10}, {50, 50}, {10, 50}}
	moved := make([]treatment.Vec, 9)
	for i := range moved {
		moved[i] = treatment.Vec{7, 0} // all alike: to be compared with a plain move
	}
	d.Tracks[0].Corrections = []treatment.Correction{
		{ID: "g", Kind: treatment.ByGrid, Cells: []int{2, 2}, Keys: []treatment.CorrectionKey{
			{Frame: 100, Ease: treatment.Linear, Crossings: make([]treatment.Vec, 9)}, {Frame: 101, Crossings: moved}}},
	}
	bent, err := e.Frame(context.Background(), compile(t, d), 101, ResultView, "")
	require.NoError(t, err)
	plain := document()
	for i := range plain.Tracks[0].Data.Samples {
		if s := &plain.Tracks[0].Data.Samples[i]; s.Frame == 101 {
			s.Matrix = s.Matrix.Mul(geom.Translation(geom.Pt(7, 0)))
		}
	}
	want, err := e.Frame(context.Background(), compile(t, plain), 101, ResultView, "")
	require.NoError(t, err)
	for y := 22; y < 30; y++ {
		for x := 30; x < 38; x++ {
			a, b := want.At(x, y), bent.At(x, y)
			assert.InDelta(t, a[0], b[0], 1e-4, "%d,%d", x, y)
			assert.Equal(t, a[3], b[3])
		}
	}
	assert.NotEqual(
		t,
		keyOf(t, e, compile(t, document()), 101, ResultView, ""),
		keyOf(t, e, compile(t, d), 101, ResultView, ""),
	)
	assert.Equal(
		t,
		keyOf(t, e, compile(t, document()), 100, ResultView, ""),
		keyOf(t, e, compile(t, d), 100, ResultView, ""),
		"unbent on its home",
	)
}

func TestOpacityOrderAndErrors(t *testing.T) {
	e := &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 24)}
	d := document()
	d.Removals[0].Settle.Opacity = 0.25
	got, err := e.Frame(context.Background(), compile(t, d), 100, ResultView, "")
	require.NoError(t, err)
	assert.InDelta(t, 0.25+0.1, got.At(25, 25)[0], 1e-5, "a quarter of the way from 0.25 to 0.65")

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = (&Evaluator{Plate: ramp{}}).Frame(ctx, compile(t, document()), 100, ResultView, "")
	assert.ErrorIs(t, err, context.Canceled)
	d = document()
	d.Removals[0].Fill.Sources[0].Plate.Strokes[0].Home = 111
	d.Removals[0].Fill.Sources[0].Plate.Frame, d.Removals[0].Mark.Outlines[0].Home, d.Removals[0].Range.Last = 111, 111,
		111
	_, err = (&Evaluator{Plate: ramp{}}).Frame(context.Background(), compile(t, d), 111, ResultView, "")
	assert.ErrorContains(t, err, "the disk is gone")
	d = document()
	d.Removals[0].Fill.Sources[0].Plate.Strokes[0].Path = &treatment.Path{Artifact: "ab"}
	_, err = Compile(d)
	assert.ErrorContains(t, err, "artifact")
}

func BenchmarkFrame(b *testing.B) {
	e := &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 24)}
	c, err := Compile(document())
	require.NoError(b, err)
	for b.Loop() {
		if _, err := e.Frame(context.Background(), c, 101, ResultView, ""); err != nil {
			b.Fatal(err)
		}
	}
}

func keyOf(t *testing.T, e *Evaluator, c *Treatment, n int, view View, only string) string {
	key, err := e.Key(c, n, view, only)
	require.NoError(t, err)
	return key
}
