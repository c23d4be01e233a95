package render

import (
	"context"
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// drawn is a plate that stands still and shows one picture.
type drawn struct {
	m   *raster.Image
	key string
}

func (d drawn) Size() image.Rectangle { return d.m.Rect }
func (d drawn) Key() string           { return d.key }
func (drawn) White() float32          { return 1 }
func (drawn) Has(int) bool            { return true }
func (d drawn) Linear(_ context.Context, _ int, rect image.Rectangle) (*raster.Image, error) {
	return d.m.Crop(rect), nil
}

func drawing(key string, f func(x, y float64, c int) float64) drawn {
	m := raster.NewImage(image.Rect(0, 0, 240, 160))
	for y := range 160 {
		for x := range 240 {
			p := m.Row(y, x, x+1)
			for c := range 3 {
				p[c] = float32(f(float64(x)+0.5, float64(y)+0.5, c))
			}
			p[3] = 1
		}
	}
	return drawn{m, key}
}

// onSquare is a treatment of a square from (100, 60) to (140, 100) by one source, on a surface that stands still.
func onSquare(source treatment.Source) *treatment.Document {
	d := treatment.New()
	d.Removals = []treatment.Removal{{
		ID: "r", Range: treatment.Range{First: 0, Last: 9}, Reference: 4,
		Mark:   treatment.Mark{Outlines: []treatment.Shape{square("o", image.Rect(100, 60, 140, 100), 4, treatment.Still)}},
		Follow: treatment.Follow{Track: treatment.Still}, Settle: treatment.Settle{Opacity: 1},
		Fill: treatment.Fill{Sources: []treatment.Source{source}},
	}}
	return d
}

func shownBy(t *testing.T, plate Plate, source treatment.Source) *raster.Image {
	t.Helper()
	e := &Evaluator{Plate: plate, Cache: memo.New(1 << 26)}
	r, err := e.Frame(context.Background(), compile(t, onSquare(source)), 6, ResultView, "")
	require.NoError(t, err)
	out, _ := plate.Linear(context.Background(), 6, plate.Size())
	for y := r.Rect.Min.Y; y < r.Rect.Max.Y; y++ {
		for x := r.Rect.Min.X; x < r.Rect.Max.X; x++ {
			if v := r.At(x, y); v[3] > 0 {
				out.Set(x, y, v)
			}
		}
	}
	return out
}

var inSquare = image.Rect(103, 63, 137, 97)

// What goes on evenly from the rim is put back under a mark, held or on every frame, along edges as well.
func TestSpreadPutsARampBack(t *testing.T) {
	ramp := func(x, y float64, c int) float64 { return 0.2 + 0.001*x + 0.0005*float64(c+1)*y }
	marked := drawing("marked ramp", func(x, y float64, c int) float64 {
		if image.Pt(int(x), int(y)).In(image.Rect(100, 60, 140, 100)) {
			return 0.9
		}
		return ramp(x, y, c)
	})
	for name, s := range map[string]treatment.Spreading{
		"held": {Frame: 4}, "live": {Live: true}, "steadied": {Live: true, Over: 3}, "along": {Frame: 2, Edges: true},
	} {
		t.Run(name, func(t *testing.T) {
			got := shownBy(t, marked, treatment.Source{ID: "s", Kind: treatment.Spread, Spread: &s})
			var sum, n float64
			for y := inSquare.Min.Y; y < inSquare.Max.Y; y++ {
				for x := inSquare.Min.X; x < inSquare.Max.X; x++ {
					for c := range 3 {
						d := ramp(float64(x)+0.5, float64(y)+0.5, c) - float64(got.At(x, y)[c])
						if !s.Edges {
							assert.InDelta(t, 0, d, 0.006)
						} else if c == 1 { // edges are those of brightness, most of which is green
							sum, n = sum+d*d, n+1
						}
					}
				}
			}
			// Lines of a ramp are found, not known.
			assert.Less(t, math.Sqrt(sum/max(n, 1)), 0.006)
		})
	}
}

// A tone by keys, and one picked from the rim: the mean, or a gradient that fits it.
func TestATone(t *testing.T) {
	plate := drawing("ramp to the right", func(x, y float64, c int) float64 {
		if image.Pt(int(x), int(y)).In(image.Rect(100, 60, 140, 100)) {
			return 0
		}
		return 0.1 + 0.002*x
	})
	tone := func(f treatment.FlatTone) *raster.Image {
		return shownBy(t, plate, treatment.Source{ID: "s", Kind: treatment.Toned, Tone: &f})
	}
	keyed := tone(treatment.FlatTone{Frame: 4, Keys: []treatment.ToneAt{
		{Frame: 4, Ease: treatment.Linear, One: [3]float64{0, 0.2, 1}}, {Frame: 8, Ease: treatment.Linear, One: [3]float64{1, 0.4, 1}},
	}})
	assert.InDeltaSlice(t, []float64{0.5, 0.3, 1}, floats(keyed.At(120, 80)), 1e-6)
	flat := tone(treatment.FlatTone{Frame: 4, Rim: true})
	assert.InDelta(t, 0.34, flat.At(105, 65)[1], 0.002)
	assert.Equal(t, flat.At(105, 65), flat.At(135, 95))
	slope := tone(treatment.FlatTone{Frame: 4, Rim: true, Ends: []treatment.Vec{{80, 80}, {160, 80}}})
	for _, x := range []int{105, 120, 135} {
		assert.InDelta(t, 0.1+0.002*(float64(x)+0.5), slope.At(x, 70)[0], 0.002)
	}
}

func floats(v [4]float32) []float64 { return []float64{float64(v[0]), float64(v[1]), float64(v[2])} }

// A stain goes and the texture on it stays; of the fine kind the texture goes and the light stays; a
// blur takes all.
func TestEveningOut(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 7))
	noise := make([]float64, 240*160)
	for i := range noise {
		noise[i] = rng.NormFloat64()
	}
	texture := func(x, y float64) float64 { return 0.03 * math.Sin(x*1.3) * math.Cos(y*1.1) }
	clean := func(x, y float64) float64 { return 0.6 + 0.0005*x }
	plate := drawing("stained", func(x, y float64, c int) float64 {
		stain := 0.12 * math.Exp(-(math.Pow(x-120, 2)+math.Pow(y-80, 2))/(2*7*7))
		v := clean(x, y) + texture(x, y) - stain + 0.004*noise[int(y)*240+int(x)]
		return v * v
	})
	root := func(m *raster.Image, x, y int) float64 { return math.Sqrt(float64(m.At(x, y)[1])) }
	// parts of what is left in the square: coarse and fine, against what was there.
	parts := func(m *raster.Image) (coarse, fine, grain float64) {
		n := 0.0
		for y := inSquare.Min.Y; y < inSquare.Max.Y; y++ {
			for x := inSquare.Min.X; x < inSquare.Max.X; x++ {
				u, v := float64(x)+0.5, float64(y)+0.5
				d := root(m, x, y) - clean(u, v)
				coarse += d
				fine += d * texture(u, v)
				// Of neighbours, so that nothing larger gets in.
				next := root(m, x+1, y) - clean(u+1, v)
				grain += (d - next) * (noise[y*240+x] - noise[y*240+x+1]) / 2
				n++
			}
		}
		return coarse / n, fine / n, grain / n
	}
	evened := func(takes string, amount float64) *raster.Image {
		return shownBy(t, plate, treatment.Source{ID: "s", Kind: treatment.Evened,
			Evened: &treatment.Evening{Takes: takes, Scale: 4, Amount: amount}})
	}
	coarse, fine, grain := parts(plate.m)
	c, f, g := parts(evened(treatment.EvenCoarse, 1))
	t.Logf("coarse %.4f to %.4f, fine %.5f to %.5f, grain %.5f to %.5f", coarse, c, fine, f, grain, g)
	assert.Less(t, math.Abs(c), 0.12*math.Abs(coarse))
	assert.InDelta(t, 1, f/fine, 0.1)
	assert.InDelta(t, 1, g/grain, 0.1)
	half, _, _ := parts(evened(treatment.EvenCoarse, 0.5))
	assert.InDelta(t, (coarse+c)/2, half, 0.1*math.Abs(coarse))
	c, f, g = parts(evened(treatment.EvenFine, 1))
	assert.InDelta(t, coarse, c, 0.1*math.Abs(coarse))
	assert.Less(t, math.Abs(f), 0.45*fine)
	assert.Less(t, g, 0.3*grain, "it goes as well, and is laid again")
	c, f, g = parts(evened(treatment.EvenBlur, 1))
	assert.InDelta(t, coarse, c, 0.1*math.Abs(coarse))
	assert.Less(t, math.Abs(f), 0.1*fine)
	assert.Less(t, math.Abs(g), 0.2*grain)
}

// A source that only darkens leaves what would become lighter, pixel by pixel.
func TestASourceThatOnlyDarkens(t *testing.T) {
	plate := drawing("stripes", func(x, _ float64, _ int) float64 { return 0.2 + 0.4*float64(int(x/4)%2) })
	for lay, want := range map[string][2]float64{"": {0.4, 0.4}, treatment.Darken: {0.2, 0.4}, treatment.Lighten: {0.4, 0.6}} {
		got := shownBy(t, plate, treatment.Source{ID: "s", Kind: treatment.Toned, Lay: lay, Tone: &treatment.FlatTone{
			Frame: 4, Keys: []treatment.ToneAt{{Frame: 4, Ease: treatment.Linear, One: [3]float64{0.4, 0.4, 0.4}}},
		}})
		for x := 105; x < 135; x++ {
			assert.InDelta(t, want[x/4%2], got.At(x, 80)[0], 1e-6, "%s at %d", lay, x)
		}
	}
}

// What is grown is the plate's own around what is marked, and like the plate inside; an area to take from
// that holds nothing is told; in the surface's plane, seen at a slant, it keeps to that.
func TestGrownOnAFrameAndInThePlane(t *testing.T) {
	h := geom.Homography{1, 0.2, 10, 0.05, 1.1, -20, 0.0015, 0.0004, 1}
	back, _ := h.Inverse()
	at := func(x, y float64) float64 {
		p := back.Apply(geom.Pt(x, y))
		return 0.3 + 0.2*math.Sin(p.X/2.2)*math.Sin(p.Y/2.7) // nubs in rows, on the plane
	}
	plate := drawing("plane", func(x, y float64, c int) float64 {
		if image.Pt(int(x), int(y)).In(image.Rect(101, 61, 139, 99)) {
			return 0.95
		}
		return at(x, y) * (1 - 0.1*float64(c))
	})
	source := func(g treatment.Growth) treatment.Source {
		g.Frame = 4
		return treatment.Source{ID: "s", Kind: treatment.Grown, Grown: &g}
	}
	got := shownBy(t, plate, source(treatment.Growth{Seed: 3}))
	var most, least float32 = 0, 1
	for y := inSquare.Min.Y; y < inSquare.Max.Y; y++ {
		for x := inSquare.Min.X; x < inSquare.Max.X; x++ {
			most, least = max(most, got.At(x, y)[0]), min(least, got.At(x, y)[0])
		}
	}
	assert.Less(t, most, float32(0.56), "nothing of the thing is left")
	assert.Greater(t, most-least, float32(0.25), "it is no flat tone")

	e := &Evaluator{Plate: plate, Cache: memo.New(1 << 26)}
	_, err := e.Frame(context.Background(), compile(t, onSquare(source(treatment.Growth{
		From: [][]treatment.Vec{{{110, 70}, {130, 70}, {130, 90}}},
	}))), 6, ResultView, "")
	assert.ErrorContains(t, err, "draw a larger area")

	// On a plane: the rows go on. Against the truth, in place of a perfect copy the phase of rows may slip a little.
	d := onSquare(source(treatment.Growth{Seed: 3, Flat: true}))
	corners := []treatment.Vec{}
	for _, p := range []geom.Point{{X: 10, Y: 20}, {X: 160, Y: 20}, {X: 160, Y: 120}, {X: 10, Y: 120}} {
		q := h.Apply(p)
		corners = append(corners, treatment.Vec{q.X, q.Y})
	}
	d.Tracks = []treatment.Track{{ID: "t", Kind: treatment.GivenTrack, Home: 4, Motion: geom.Perspective, Region: corners,
		Data: &treatment.Data{Samples: []treatment.Sample{{Frame: 4, Matrix: geom.Identity}, {Frame: 6, Matrix: geom.Identity}}}}}
	d.Removals[0].Follow.Track = "t"
	c := compile(t, d)
	require.NotNil(t, c.removal("r").growth(c.removal("r").sources[0].Grown).Value.Plane)
	r, err := e.Frame(context.Background(), c, 6, ResultView, "")
	require.NoError(t, err)
	var sum, n float64
	for y := inSquare.Min.Y; y < inSquare.Max.Y; y++ {
		for x := inSquare.Min.X; x < inSquare.Max.X; x++ {
			dd := float64(r.At(x, y)[0]) - at(float64(x)+0.5, float64(y)+0.5)
			sum, n = sum+dd*dd, n+1
		}
	}
	t.Logf("off the truth by %.3f RMS, of a texture of 0.1", math.Sqrt(sum/n))
	assert.Less(t, math.Sqrt(sum/n), 0.06)
}

// A source may look at the result of the removals below: then the thing that one of them takes away is not copied. When
// that one is left out of what is rendered, what lies above stays what it is.
func TestSourcesSeeTheRemovalsBelow(t *testing.T) {
	ctx := context.Background()
	plate := drawing("two things", func(x, y float64, c int) float64 {
		if image.Pt(int(x), int(y)).In(image.Rect(100, 60, 190, 100)) {
			return 0.9 // the thing, and beside it another
		}
		return 0.2 + 0.001*y
	})
	second := func(below bool) *treatment.Document {
		d := onSquare(treatment.Source{ID: "s", Kind: treatment.Spread, Spread: &treatment.Spreading{Frame: 4}})
		d.Removals[0].Mark.Outlines = []treatment.Shape{square("o", image.Rect(140, 60, 190, 100), 4, treatment.Still)}
		above := onSquare(treatment.Source{ID: "n", Kind: treatment.Beside, Below: below, Neighbour: &treatment.Neighbour{
			Frame: 4, Screen: true, Crisp: true,
			Offsets: []treatment.OffsetKey{{Frame: 4, Ease: treatment.Linear, Offset: treatment.Vec{45, 0}}},
		}}).Removals[0]
		above.ID = "above"
		d.Removals = append(d.Removals, above)
		return d
	}
	e := &Evaluator{Plate: plate, Cache: memo.New(1 << 26)}
	at := func(d *treatment.Document, only ...string) float32 {
		c := compile(t, d)
		if only != nil {
			c = c.Only(only...)
		}
		r, err := e.Frame(ctx, c, 6, ResultView, "")
		require.NoError(t, err)
		return r.At(120, 80)[0]
	}
	assert.InDelta(t, 0.9, at(second(false)), 0.01, "the untouched plate is copied")
	assert.InDelta(t, 0.28, at(second(true)), 0.1, "what was put in its place is")
	assert.Equal(t, at(second(true)), at(second(true), "above"))

	// Of two that look at each other's result each sees what it says, no more.
	c := compile(t, second(true))
	under := c.removal("above").below(0)
	require.NotNil(t, under)
	assert.Equal(t, e.Plate, e.seenFrom(under).seenFrom(nil).Plate)
	assert.Equal(t, e.seenFrom(under).Plate.Key(), e.seenFrom(under).seenFrom(under).Plate.Key())
	assert.Nil(t, c.removal("r").below(0))

	// What changes below changes it, and by another name.
	d := second(true)
	key := func(d *treatment.Document) string {
		k, err := e.Key(compile(t, d).Only("above"), 6, ResultView, "")
		require.NoError(t, err)
		return k
	}
	before := key(d)
	assert.Equal(t, before, key(second(true)))
	d.Removals[0].Fill.Sources[0] = treatment.Source{ID: "s", Kind: treatment.Toned, Tone: &treatment.FlatTone{
		Frame: 4, Keys: []treatment.ToneAt{{Frame: 4, Ease: treatment.Linear, One: [3]float64{0.5, 0.5, 0.5}}},
	}}
	assert.NotEqual(t, before, key(d))
	assert.InDelta(t, 0.5, at(d), 0.01)
	plain := second(false)
	was := key(plain)
	plain.Removals[0].Fill.Sources[0] = d.Removals[0].Fill.Sources[0]
	assert.Equal(t, was, key(plain), "what does not look at it stays as it is")
}

// What another removal takes away is not what something is grown of.
func TestNothingIsGrownOfWhatIsMarkedElsewhere(t *testing.T) {
	plate := drawing("red beside", func(x, y float64, c int) float64 {
		v := 0.3 + 0.1*math.Sin(x*1.1)*math.Sin(y*0.9)
		if image.Pt(int(x), int(y)).In(image.Rect(36, 8, 204, 152)) {
			return []float64{0.8, 0.02, 0.02}[c] * (0.7 + v)
		}
		return v
	})
	red := func(d *treatment.Document) (n int) {
		e := &Evaluator{Plate: plate, Cache: memo.New(1 << 26)}
		r, err := e.Frame(context.Background(), compile(t, d), 6, ResultView, "")
		require.NoError(t, err)
		for y := inSquare.Min.Y; y < inSquare.Max.Y; y++ {
			for x := inSquare.Min.X; x < inSquare.Max.X; x++ {
				if v := r.At(x, y); v[0] > 2*v[1] {
					n++
				}
			}
		}
		return n
	}
	d := onSquare(treatment.Source{ID: "s", Kind: treatment.Grown, Grown: &treatment.Growth{Frame: 4}})
	assert.Greater(t, red(d), 50, "it lies all around")
	other := onSquare(treatment.Source{}).Removals[0]
	other.ID, other.Fill.Sources = "other", []treatment.Source{}
	other.Mark.Outlines = []treatment.Shape{square("all", image.Rect(35, 7, 205, 153), 4, treatment.Still)}
	d.Removals = append(d.Removals, other)
	assert.Zero(t, red(d))
}

// What would take minutes and the machine's memory is refused in words, on a plate of any size.
func TestHolesThatAreTooLargeAreRefused(t *testing.T) {
	large := blank{image.Rect(0, 0, 2400, 1600)}
	for _, s := range []treatment.Source{
		{ID: "s", Kind: treatment.Grown, Grown: &treatment.Growth{Frame: 4}},
		{ID: "s", Kind: treatment.Spread, Spread: &treatment.Spreading{Frame: 4, Edges: true}},
	} {
		d := onSquare(s)
		d.Removals[0].Mark.Outlines = []treatment.Shape{square("o", image.Rect(100, 100, 1500, 1100), 4, treatment.Still)}
		e := &Evaluator{Plate: large, Cache: memo.New(1 << 26)}
		_, err := e.Frame(context.Background(), compile(t, d), 6, ResultView, "")
		assert.ErrorContains(t, err, "mark less, or divide it")
	}
	d := onSquare(treatment.Source{ID: "s", Kind: treatment.Grown, Grown: &treatment.Growth{
		Frame: 4, From: [][]treatment.Vec{{{0, 0}, {2399, 1599}, {0, 1599}}},
	}})
	e := &Evaluator{Plate: blank{image.Rect(0, 0, 3200, 1600)}, Cache: memo.New(1 << 26)}
	d.Removals[0].Fill.Sources[0].Grown.From[0][1][0] = 3199
	_, err := e.Frame(context.Background(), compile(t, d), 6, ResultView, "")
	assert.ErrorContains(t, err, "draw them nearer")
}

// blank is a plate of any size that is not looked at.
type blank struct{ size image.Rectangle }

func (b blank) Size() image.Rectangle { return b.size }
func (blank) Key() string             { return "blank" }
func (blank) White() float32          { return 1 }
func (blank) Has(int) bool            { return true }
func (b blank) Linear(_ context.Context, _ int, rect image.Rectangle) (*raster.Image, error) {
	return raster.NewImage(rect.Intersect(b.size)), nil
}

// What a removal below takes away hides nothing from a source that looks at its result; where it lays nothing, or for one
// that looks at the plate, it does.
func TestWhatIsTakenAwayBelowHidesNothing(t *testing.T) {
	const n = 12
	at := crossing(n)
	half := []treatment.Shape{ // on either side, not in the middle
		square("w", image.Rect(0, 0, int(at.X)-12, 1000), 4, treatment.Still),
		square("v", image.Rect(int(at.X)+12, 0, 1000, 1000), 4, treatment.Still),
	}
	seen := func(fills, sees, there bool, where ...treatment.Shape) int {
		d := whatPasses(4, treatment.Source{ID: "g", Kind: treatment.Gathered, Below: sees, Gathered: &treatment.Gathering{
			Live: true, Over: 3,
		}})
		if there {
			under := d.Removals[0]
			under.ID = "q"
			under.Mark.Outlines = []treatment.Shape{square("o", raster.Around(geom.Box{Min: at, Max: at}, 30, image.Rect(0, 0, 1e4, 1e4)),
				4, treatment.Still)}
			under.Fill = treatment.Fill{Sources: []treatment.Source{{ID: "t", Kind: treatment.Toned, Off: !fills, Where: where, Tone: &treatment.FlatTone{
				Keys: []treatment.ToneAt{{Frame: 4, One: [3]float64{0.2, 0.2, 0.2}}},
			}}}}
			d.Removals = append([]treatment.Removal{under}, d.Removals...)
		}
		e := &Evaluator{Plate: passing{}, Cache: memo.New(1 << 27)}
		share, err := e.Seen(context.Background(), compile(t, d), "r", "g", n, false)
		require.NoError(t, err)
		return share.Seen
	}
	plain := seen(false, false, false)
	assert.Greater(t, plain, 100)
	assert.Equal(t, plain, seen(true, true, true), "as if it were not there")
	assert.Less(t, seen(true, false, true), plain, "on the plate it hides")
	some := seen(true, true, true, half...)
	assert.Less(t, some, plain, "where nothing was laid what is marked is still there")
	assert.Greater(t, some, seen(false, true, true))
	assert.Less(t, seen(false, true, true), plain, "nothing was laid: what is marked is still there")
}
