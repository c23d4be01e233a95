package render

import (
	"context"
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/carry"
	"jardin/core/fill"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// moves returns how a place of the held frame moves over three frames: by v pixels a frame.
func moves(v geom.Point) [3]warp.Mapping {
	at := func(k float64) warp.Mapping { return warp.Of(geom.Translation(v.Mul(k))) }
	return [3]warp.Mapping{at(-1), at(0), at(1)}
}

// What is held was smeared on its own frame already: only what is missing is added, by the
// difference of the squares; as large as the surface shows it.
func TestOnlyMissingSmearIsAdded(t *testing.T) {
	region, middle := image.Rect(10, 10, 60, 50), geom.Pt(30, 30)
	smear := func(in smearInput) float64 { return in.along(region)(middle).Len() }
	still := moves(geom.Point{})
	in := smearInput{Shutter: 360, Map: warp.Identity, Here: moves(geom.Pt(8, 0)), There: still}
	assert.InDelta(t, 8, smear(in), 1e-9)
	in.There = moves(geom.Pt(8, 0))
	assert.InDelta(t, 0, smear(in), 1e-9, "both moved alike")
	in.There = moves(geom.Pt(6, 0))
	assert.InDelta(t, math.Sqrt(64-36), smear(in), 1e-9)
	in.Shutter = 180
	assert.InDelta(t, math.Sqrt(64-36)/2, smear(in), 1e-9, "open for half of the time")
	in.Shutter, in.There = 360, moves(geom.Pt(0, 6))
	assert.InDelta(t, 8, smear(in), 1e-9, "across it counts for nothing")
	in.Map, in.There = warp.Of(geom.Homography{2, 0, 0, 0, 2, 0, 0, 0, 1}), moves(geom.Pt(3, 0))
	assert.InDelta(t, math.Sqrt(64-36), smear(in), 1e-9, "the surface is seen twice as large")
	in = smearInput{Shutter: 360, Map: warp.Identity, Here: moves(geom.Pt(8, 0)), There: still}
	in.Here[2] = nil
	assert.InDelta(t, 8, smear(in), 1e-9, "from one side where the other is not known")
	in.Here[1] = nil
	assert.Zero(t, smear(in))
	in.Map = nil
	assert.Zero(t, smear(in))
	assert.Zero(t, smear(smearInput{Map: warp.Identity, Here: moves(geom.Pt(8, 0)), There: still}), "no shutter")
}

// known makes an evaluator that finds the given results without working them out.
func known[In, V any](t *testing.T, e *Evaluator, in In, v V) {
	t.Helper()
	_, err := memo.Do(
		context.Background(),
		e.Cache,
		environment{e},
		in,
		func(context.Context, environment, In) (V, error) { return v, nil },
	)
	require.NoError(t, err)
}

func sceneOf(n int) *memo.Keyed[sceneInput] { return memo.Of(sceneInput{Frame: n}) }

// A frame's blur is what was measured there where that is sure, what the frames around it say where it is not, and by hand
// on top.
func TestBlurIsSteadiedByCertainty(t *testing.T) {
	blur := func(by float64, around ...settle.Reading) float64 {
		e := &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 20)}
		in := &blurInput{By: by}
		for k, v := range around {
			one := softnessInput{Scene: sceneOf(k)}
			in.Frames, in.Weight = append(in.Frames, one), append(in.Weight, 1)
			known(t, e, one, settle.BlurEstimate{Square: v, Pixels: 100})
		}
		got, err := e.blurOf(context.Background(), in)
		require.NoError(t, err)
		return got
	}
	read := func(square, variance float64) settle.Reading {
		return settle.Reading{Value: square, Variance: variance}
	}
	assert.InDelta(t, 2, blur(0, read(9, 1e-3), read(4, 1e-9), read(9, 1e-3)), 2e-3, "a step that is sure stays")
	assert.InDelta(t, 3, blur(0, read(9, 1e-4), read(90, 1e4), read(9, 1e-4)), 1e-3, "what is unsure is taken from around")
	assert.InDelta(t, math.Sqrt(6), blur(0, read(4, 1e-4), read(0, math.Inf(1)), read(8, 1e-4)), 1e-2, "what is not known too")
	assert.Zero(t, blur(0, read(0.09, 1e-4), read(0.09, 1e-4), read(0.09, 1e-4)), "hardly more than nothing")
	assert.InDelta(t, math.Sqrt(1.5*1.5+4), blur(1.5, read(0, math.Inf(1)), read(4, 1e-6), read(0, math.Inf(1))), 1e-3)
	assert.InDelta(t, 1.5, blur(1.5), 1e-12)
}

// Where a frame's light cannot be told it goes on between the frames where it can; with none there is none.
func TestUnknownLightGoesOnBetween(t *testing.T) {
	light := func(v float64) *settle.GainField {
		return &settle.GainField{
			Nodes: image.Rect(0, 0, 2, 2),
			Step:  8,
			Sure:  9,
			Log:   [3][]float64{{v, v, v, v}, {v, v, v, v}, {v, v, v, v}},
		}
	}
	for name, c := range map[string]struct {
		all  [5]*settle.GainField
		want float64
	}{
		"own":         {[5]*settle.GainField{nil, nil, light(5), nil, nil}, 5},
		"between two": {[5]*settle.GainField{nil, light(2), nil, light(3), nil}, 2.5},
		"on a line":   {[5]*settle.GainField{light(1), light(2), nil, nil, light(5)}, 3},
		"before":      {[5]*settle.GainField{light(4), nil, nil, nil, nil}, 4},
		"after":       {[5]*settle.GainField{nil, nil, nil, nil, light(4)}, 4},
		"none":        {[5]*settle.GainField{}, math.NaN()},
	} {
		e := &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 20)}
		in := &lightingInput{Strength: 1, Shape: []float64{1, 1, 1, 1, 1}, Level: []float64{0, 0, 1, 0, 0}}
		for k, l := range c.all {
			one := lightInput{Scene: sceneOf(k), Scale: 8}
			in.Frames = append(in.Frames, one)
			known(t, e, one, l)
		}
		got, err := e.light(context.Background(), in)
		require.NoError(t, err)
		if math.IsNaN(c.want) {
			assert.Nil(t, got, name)
			continue
		}
		require.NotNil(t, got, name)
		assert.InDelta(t, c.want, got.At(geom.Pt(4, 4))[1], 1e-12, name)
	}
}

// A front that is grown and blurred is the same in any part of the frame that is asked for:
// what lies beyond the part is looked at, too. So are sources, and what settles them.
func TestPartsOfAFrameAreTheFrame(t *testing.T) {
	ctx := context.Background()
	compared := map[string]int{}
	for seed := range 75 {
		d := dice{rand.New(rand.NewPCG(uint64(seed), 21))}
		doc := d.document()
		for i := range doc.Removals {
			// Light and smear are worked out on a grid over what is asked for: they are left out.
			doc.Removals[i].Settle.Light = nil
			if s := doc.Removals[i].Settle.Softness; s != nil {
				s.By, s.Sharpen, s.Radius, s.Shutter = d.real(0.5, 2), d.real(0.5, 1), d.real(0.5, 2), 0
			}
		}
		c, err := Compile(doc)
		require.NoError(t, err)
		e := &Evaluator{Plate: meadow{}, Cache: memo.New(1 << 27), Short: memo.New(1 << 27)}
		n, size := d.frame(), meadow{}.Size()
		part := func() image.Rectangle {
			x, y := d.IntN(40), d.IntN(30)
			return image.Rect(x, y, x+3+d.IntN(14), y+3+d.IntN(12)).Intersect(size)
		}
		same := func(what string, whole, some []float32, within float64) {
			t.Helper()
			require.Len(t, some, len(whole), what)
			for i := range whole {
				require.InDelta(t, whole[i], some[i], within, "seed %d: %s, sample %d", seed, what, i)
			}
			compared[what]++
		}
		for _, r := range c.removals {
			if f := r.doc.Guard; f != nil {
				in := r.front(&f.Fronts[0], n)
				whole, err := e.front(ctx, &in, size)
				require.NoError(t, err)
				rect := part()
				some, err := e.front(ctx, &in, rect)
				require.NoError(t, err)
				same("front", whole.Crop(rect).Pix, some.Crop(rect).Pix, 1e-5)
			}
			in := r.fill(len(r.sources), n, false)
			whole, err := e.fill(ctx, &in, size)
			require.NoError(t, err)
			rect := part()
			some, err := e.fill(ctx, &in, rect)
			require.NoError(t, err)
			same("sources", whole.Crop(rect).Pix, some.Crop(rect).Pix, 2e-5)
			same("held share", whole.still.Crop(rect).Pix, some.still.Crop(rect).Pix, 1e-5)
			for i, s := range r.sources {
				if s.Plate == nil || !r.settles() || len(s.strokes) > 0 && s.strokes[0].Ride != "" ||
					r.mapping("", s.frame, n) == nil {
					continue
				}
				settled := r.settled(i, "", n, r.layer(i, s.on(n), "", true))
				whole, err := e.settle(ctx, settled, size, nil)
				require.NoError(t, err)
				some, err := e.settle(ctx, settled, rect, nil)
				require.NoError(t, err)
				inner := rect.Intersect(size.Inset(2))
				same("settled", whole.Crop(inner).Pix, some.Crop(inner).Pix, 1e-4)
			}
		}
	}
	for what, least := range map[string]int{"front": 10, "sources": 60, "settled": 20} {
		assert.Greater(t, compared[what], least, what)
	}
}

// On a surface that is seen larger a brush is larger, and so is what it blurs by; nothing
// else of it is.
func TestABrushGrowsWithItsSurface(t *testing.T) {
	e := &Evaluator{Plate: ramp{}}
	for _, mode := range []fill.Mode{fill.Soften, fill.Clone, fill.Colour, "lift"} {
		s := treatment.Stroke{
			Mode:      string(mode),
			Size:      12,
			Hardness:  0.5,
			Opacity:   0.8,
			Spacing:   0.3,
			Amount:    3,
			Jitter:    0.1,
			Roundness: 0.5,
			From:      &treatment.From{Offset: treatment.Vec{5, 0}},
			Path:      &treatment.Path{Points: [][]float64{{20, 20}}},
		}
		plain, err := e.brush(context.Background(), &s, warp.Identity, nil, nil)
		require.NoError(t, err)
		large, err := e.brush(context.Background(), &s, warp.Of(geom.Homography{2, 0, 3, 0, 2, 5, 0, 0, 1}), nil, nil)
		require.NoError(t, err)
		assert.InDelta(t, 24, large.Size, 1e-9, mode)
		if mode == fill.Soften {
			assert.InDelta(t, 6, large.Amount, 1e-9)
			large.Amount = 3
		}
		if mode == fill.Clone {
			p := large.From.Map(geom.Pt(43, 45)) // of (20, 20) at home, 5 to the right
			assert.InDelta(t, 0, p.Dist(geom.Pt(53, 45)), 1e-9, "its source is twice as far")
		}
		large.Size, large.From, plain.From = 12, fill.Origin{}, fill.Origin{}
		assert.Equal(t, plain, large, mode)
	}
}

// What is left out of a removal's track covers its surface, as fronts and mattes do; of other
// removals' tracks it does not.
func TestWhatIsLeftOutOfATrackIsNotMeasuredOn(t *testing.T) {
	d := document()
	d.Tracks[0].Exclusions = []treatment.Shape{square("x", image.Rect(60, 40, 70, 50), 100, treatment.Still)}
	other := d.Removals[0]
	other.ID, other.Follow.Track = "b", treatment.Still
	d.Removals = append(d.Removals, other)
	c, e := compile(t, d), &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 24)}
	for id, want := range map[string]float32{"a": 1, "b": 0} {
		out, err := c.removal(id).occluders(100, false).cover(context.Background(), e, ramp{}.Size())
		require.NoError(t, err)
		assert.Equal(t, want, out.At(65, 45), id)
		assert.EqualValues(t, 1, out.At(25, 25), "the mattes")
		assert.EqualValues(t, 0, out.At(80, 60))
	}
}

// On the held frame what is painted is clean, though it lies under the matte: it is measured
// on. What is under the matte and not painted is not.
func TestPaintIsMeasuredOn(t *testing.T) {
	d := document()
	d.Removals[0].Mark.Outlines = []treatment.Shape{square("o", image.Rect(10, 10, 70, 60), 100, "")}
	d.Removals[0].Settle.Light = &treatment.Light{Scale: 10, Strength: 1}
	c, e := compile(t, d), &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 24), Short: memo.New(1 << 24)}
	r := c.removal("a")
	layer := r.layer(0, r.sources[0].strokes, "", true)
	in := r.scene(0, "", 102, layer)
	sc, err := e.scene(context.Background(), in, 20)
	require.NoError(t, err)
	require.True(t, sc.measured)
	hidden, err := in.Value.hidden(context.Background(), e, e.Plate.Size())
	require.NoError(t, err)
	assert.True(t, shows(hidden, geom.Pt(25, 25)), "painted")
	assert.False(t, shows(hidden, geom.Pt(62, 52)), "under the matte")
	assert.True(t, shows(hidden, geom.Pt(75, 65)), "beside it")
}

// A patch of another brightness meets the plate at its edge when its seam is blended, as the
// plate just outside of the matte is looked at.
func TestASeamMeetsThePlate(t *testing.T) {
	ctx := context.Background()
	step := func(seam float64) float64 {
		d := document()
		r := &d.Removals[0]
		r.Mark.Outlines = []treatment.Shape{square("o", image.Rect(40, 30, 64, 54), 100, "")}
		r.Settle.Seam = seam
		r.Fill.Sources = []treatment.Source{
			{ID: "n", Name: "n", Kind: treatment.Beside, Neighbour: &treatment.Neighbour{Frame: 100, Crisp: true,
				Offsets: []treatment.OffsetKey{{Frame: 100, Offset: treatment.Vec{20, 0}}}}},
		}
		e := &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 24)}
		m, err := e.Frame(ctx, compile(t, d), 100, ResultView, "")
		require.NoError(t, err)
		plate, err := e.Plate.Linear(ctx, 100, e.Plate.Size())
		require.NoError(t, err)
		worst := 0.0
		for y := 34; y < 50; y++ {
			worst = math.Max(worst, math.Abs(float64(m.At(40, y)[0]-plate.At(40, y)[0])))
		}
		return worst
	}
	assert.InDelta(t, 0.2, step(0), 1e-3, "as the ramp is 20 pixels on")
	assert.Less(t, step(8), 0.05)
}

// A piece that is laid smaller than it is is blurred to what is left of its detail: a
// chequerboard of pixels at a quarter of its size is even.
func TestAPieceThatShrinksDoesNotFlicker(t *testing.T) {
	board := raster.NewImage(image.Rect(0, 0, 64, 64))
	for i := range 64 * 64 {
		v := float32((i%64 + i/64) % 2)
		board.Set(i%64, i/64, [4]float32{v, v, v, 1})
	}
	d := document()
	d.Removals[0].Fill.Sources = []treatment.Source{
		{
			ID:   "i",
			Name: "i",
			Kind: treatment.Supplied,
			Piece: &treatment.Piece{Frame: 100, Picture: &treatment.Picture{Name: "board", Width: 64, Height: 64},
				Corners: []treatment.Vec{{20.3, 20.1}, {36.3, 20.1}, {36.3, 36.1}, {20.3, 36.1}}},
		},
	}
	e := &Evaluator{
		Plate:    ramp{},
		Pictures: func(context.Context, *treatment.Picture) (*raster.Image, error) { return board, nil },
	}
	m, err := e.Frame(context.Background(), compile(t, d), 100, PatchView, "a")
	require.NoError(t, err)
	for y := 23; y < 33; y++ {
		for x := 23; x < 33; x++ {
			assert.InDelta(t, 0.5, m.At(x, y)[0], 0.02)
		}
	}
}

// Of a plate with strokes of several rides, each layer takes its own only.
func TestLayersTakeTheirOwnStrokes(t *testing.T) {
	d := document()
	still := dab("colour", 100, 60, 50, 10)
	still.ID, still.Ride = "still", treatment.Still
	d.Removals[0].Fill.Sources[0].Plate.Strokes = append(d.Removals[0].Fill.Sources[0].Plate.Strokes, still)
	c, e := compile(t, d), &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 24)}
	r := c.removal("a")
	in := r.heldPlate(0, 102, false)
	require.Len(t, in.Layers, 2)
	for i, painted := range [][2]image.Point{{{25, 25}, {60, 50}}, {{60, 50}, {25, 25}}} {
		m, err := e.layer(context.Background(), in.Layers[i].Layer, e.Plate.Size())
		require.NoError(t, err)
		assert.EqualValues(t, 1, m.At(painted[0].X, painted[0].Y)[3], "layer %d", i)
		assert.EqualValues(t, 0, m.At(painted[1].X, painted[1].Y)[3], "layer %d", i)
	}
}

// A source's weight counts for all of its pixels, on top of where it counts.
func TestWeightsOfSourcesMultiply(t *testing.T) {
	half := 0.5
	d := document()
	s := dab("colour", 100, 25, 25, 40)
	s.Colour = &[3]float64{1, 1, 1}
	d.Removals[0].Fill.Sources = []treatment.Source{
		{
			ID:      "p",
			Kind:    treatment.HeldPlate,
			Opacity: &half,
			Plate:   &treatment.Plate{Frame: 100, Strokes: []treatment.Stroke{s}},
		},
	}
	in := compile(t, d).removal("a").fill(1, 100, false)
	e := &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 24)}
	m, err := e.fill(context.Background(), &in, image.Rect(20, 20, 30, 30))
	require.NoError(t, err)
	assert.InDelta(t, 0.5, m.At(25, 25)[3], 1e-6)
	assert.InDelta(t, 0.5, m.still.At(25, 25), 1e-6)
	d.Removals[0].Fill.Sources[0].Where = []treatment.Shape{square("w", image.Rect(24, 20, 30, 30), 100, "")}
	in = compile(t, d).removal("a").fill(1, 100, false)
	m, err = e.fill(context.Background(), &in, image.Rect(20, 20, 30, 30))
	require.NoError(t, err)
	assert.InDelta(t, 0.5, m.At(26, 25)[3], 1e-6)
	assert.Zero(t, m.At(21, 25)[3])
}

// While a track is being found it says where the surface is from the reference frame; what was
// made on another frame gets there by the track so far.
func TestWhatIsBeingFoundBeginsAtTheReference(t *testing.T) {
	found := warp.Of(geom.Translation(geom.Pt(50, 7)))
	r := compile(t, document()).Placed("a", 104, found).removal("a")
	p := geom.Pt(11, 13)
	assert.Equal(t, found.Apply(p), r.mapping("", 100, 104).Apply(p))
	back := shift(102)
	inverse, _ := back.Inverse()
	assert.Equal(t, found.Apply(inverse.Apply(p)), r.mapping("", 102, 104).Apply(p))
	assert.Nil(t, r.mapping("t", 102, 104), "what rides on the track itself is not known there yet")
}

// What the removed thing looks like under a front's soft edge is judged where nothing stands
// before it; the front's own pixels say nothing about it.
func TestUnmixLooksAtTheThingAlone(t *testing.T) {
	size := image.Rect(0, 0, 60, 40)
	e := &Evaluator{Plate: fixed{size}}
	front := frontInput{Frame: 100, By: treatment.ByOutline, White: 1, Opacity: 1, Unmix: 12,
		Shapes: &coverage{
			Shapes: []carry.PosedShape{placedSquare(image.Rect(30, -20, 90, 60))},
			Edge:   carry.Edge{Feather: 8, FeatherIn: 0},
		}}
	g, err := e.front(context.Background(), &front, size)
	require.NoError(t, err)
	g = g.Crop(size)
	plate, picture, patch, through := raster.NewImage(
		size,
	), raster.NewImage(
		size,
	), raster.NewImage(
		size,
	), raster.NewPlane(
		size,
	)
	for y := range 40 {
		for x := range 60 {
			k := g.At(x, y)
			v := k*0.9 + (1-k)*0.2
			plate.Set(x, y, [4]float32{v, v, v, 1})
			picture.Set(x, y, [4]float32{v, v, v, 1})
			patch.Set(x, y, [4]float32{0.5, 0.5, 0.5, 1})
			through.Pix[y*60+x] = 1
		}
	}
	require.NoError(t, e.unmix(context.Background(), &front, plate, picture, patch, through, 1))
	seen := 0
	for x := range 60 {
		if k := g.At(x, 20); k > 0.16 && k < 0.99 {
			assert.InDelta(t, k*0.9+(1-k)*0.5, picture.At(x, 20)[0], 0.01, "column %d", x)
			seen++
		}
	}
	assert.Greater(t, seen, 3)
}

// fixed is a plate whose frames nobody looks at.
type fixed struct{ size image.Rectangle }

func (f fixed) Size() image.Rectangle { return f.size }
func (fixed) Key() string             { return "fixed" }
func (fixed) White() float32          { return 1 }
func (fixed) Has(int) bool            { return true }
func (f fixed) Linear(context.Context, int, image.Rectangle) (*raster.Image, error) {
	return raster.NewImage(f.size), nil
}

func placedSquare(rect image.Rectangle) carry.PosedShape {
	s := square("x", rect, 100, treatment.Still)
	return carry.PoseShape(
		&s,
		carry.Pose{Points: s.Points, Placement: geom.Identity, ToFrame: warp.Identity},
	)
}

// What lies on a held frame is read in parts: each is what a canvas holds on which all of it is painted, whether the whole frame is held
// or its paint alone, all strokes count or some.
func TestAPartOfWhatIsHeld(t *testing.T) {
	ctx := context.Background()
	for seed := range uint64(24) {
		rng := rand.New(rand.NewPCG(seed, 44))
		d := document()
		plate := d.Removals[0].Fill.Sources[0].Plate
		plate.Whole, plate.Strokes = seed%2 == 0, nil
		for k := range rng.IntN(5) {
			st := dab([]string{"colour", "erase", "clone"}[rng.IntN(3)], 100, 5+90*rng.Float64(), 5+60*rng.Float64(), 6+20*rng.Float64())
			st.ID = string(rune('a' + k))
			if rng.IntN(3) == 0 {
				st.Ride = treatment.Still
			}
			if rng.IntN(3) == 0 {
				st.Range = &treatment.Range{First: 101, Last: 103}
			}
			plate.Strokes = append(plate.Strokes, st)
		}
		r, e := compile(t, d).removal("a"), &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 26)}
		for _, n := range []int{100, 102} {
			in := r.heldPlate(0, n, false)
			if in == nil {
				continue
			}
			for _, l := range in.Layers {
				base := l.Layer
				var strokes []*memo.Keyed[layerInput]
				for ; base.Value.Base == nil; base = base.Value.Below {
					strokes = append(strokes, base)
				}
				bare, err := ramp{}.Linear(ctx, 100, e.Plate.Size())
				require.NoError(t, err)
				b := base.Value.Base
				c := fill.NewCanvas(bare)
				if b.Some {
					c.Share(true)
				}
				if b.Whole {
					c.Load(bare)
					if b.Some && b.Shared {
						c.LoadShared(bare)
					}
				}
				for k := len(strokes) - 1; k >= 0; k-- {
					if b.Some {
						c.Share(strokes[k].Value.Shared)
					}
					require.NoError(t, e.paintStroke(ctx, c, &strokes[k].Value.Stroke, 100))
				}
				want := c.Layer()
				if b.Some {
					want = c.Shared()
				}
				for range 4 {
					at := image.Pt(rng.IntN(100), rng.IntN(70))
					rect := image.Rectangle{at, at.Add(image.Pt(1+rng.IntN(50), 1+rng.IntN(40)))}.Intersect(e.Plate.Size())
					got, err := e.layer(ctx, l.Layer, rect)
					require.NoError(t, err)
					require.Equal(t, want.Crop(rect).Pix, got.Crop(rect).Pix, "seed %d, frame %d, %v", seed, n, rect)
				}
			}
		}
	}
}
