package render

import (
	"context"
	"encoding/json"
	"fmt"
	"image"
	"math"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// meadow is a small plate of moving texture and noise, frames 95 to 106.
type meadow struct{}

func (meadow) Size() image.Rectangle { return image.Rect(0, 0, 56, 44) }
func (meadow) Key() string           { return "meadow" }
func (meadow) White() float32        { return 0.45 }
func (meadow) Has(n int) bool        { return n >= 95 && n <= 106 }
func (m meadow) Linear(ctx context.Context, n int, rect image.Rectangle) (*raster.Image, error) {
	if n < 95 || n > 106 {
		return nil, &Beyond{n, 95, 106}
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	out := raster.NewImage(rect.Intersect(m.Size()))
	for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
		for x := out.Rect.Min.X; x < out.Rect.Max.X; x++ {
			u, v := float64(x)-0.7*float64(n-100), float64(y)-0.4*float64(n-100)
			grain := float64((x*7919+y*104729+n*1299709)%97)/97 - 0.5
			k := float32(
				(0.3 + 0.12*math.Sin(u/2)*math.Cos(v/3) + 0.1*math.Sin((u+v)/5) + 0.03*grain) * (1 +
					0.05*math.Sin(float64(n))),
			)
			out.Set(x, y, [4]float32{k, k * 0.8, k * 0.5, 1})
		}
	}
	return out, nil
}

// dice makes documents by chance.
type dice struct{ *rand.Rand }

func (d dice) flip() bool                { return d.IntN(2) == 0 }
func (d dice) real(a, b float64) float64 { return a + (b-a)*d.Float64() }
func (d dice) frame() int                { return 96 + d.IntN(10) }
func (d dice) pick(v ...string) string   { return v[d.IntN(len(v))] }

func (d dice) shape(id string) treatment.Shape {
	s := treatment.Shape{
		ID:      id,
		Kind:    treatment.Outline,
		Home:    d.frame(),
		Ride:    d.pick("", "", "t", "u", treatment.Still),
		Combine: d.pick("", "", "add", "take", "keep"),
	}
	x, y := d.real(8, 40), d.real(8, 32)
	for k := range 4 {
		sin, cos := math.Sincos(float64(k)*math.Pi/2 + d.real(-0.4, 0.4))
		s.Points = append(s.Points, treatment.Knot{At: treatment.Vec{x + d.real(4, 9)*cos, y + d.real(4, 9)*sin}})
	}
	if d.flip() {
		s.Feather = d.real(0, 4)
	}
	if d.IntN(4) == 0 {
		s.Range = &treatment.Range{First: 96, Last: d.frame()}
	}
	if d.IntN(4) == 0 {
		moved := append([]treatment.Knot{}, s.Points...)
		moved[0].At[0] += 3
		s.Keys = []treatment.ShapeKey{
			{Frame: 97, Ease: treatment.Linear, Points: s.Points},
			{Frame: 103, Ease: treatment.Eased, Points: moved},
		}
	}
	return s
}

func (d dice) stroke(id string, home int) treatment.Stroke {
	s := treatment.Stroke{
		ID: id, Mode: d.pick("clone", "clone", "heal", "colour", "erase", "soften"), Home: home, Size: d.real(3, 12),
		Hardness: d.Float64(), Opacity: d.real(0.3, 1), Amount: 1,
		Colour: &[3]float64{
			d.Float64(),
			0.2,
			0.1,
		}, From: &treatment.From{Offset: treatment.Vec{d.real(-12, 12), d.real(-8, 8)}, Crisp: d.flip()},
		Ride: d.pick("", "", "", "u", treatment.Still),
		Path: &treatment.Path{Points: [][]float64{{d.real(10, 46), d.real(8, 36)}, {d.real(10, 46), d.real(8, 36)}}},
	}
	if d.flip() {
		texture, light := d.real(0, 2), d.Float64()
		s.Texture, s.Light = &texture, &light
	}
	if d.IntN(3) == 0 {
		s.Range = &treatment.Range{First: 96, Last: d.frame()}
	}
	if d.IntN(4) == 0 {
		n := d.frame()
		s.From.Frame = &n
	}
	s.Off = d.IntN(6) == 0
	return s
}

func (d dice) source(id string) treatment.Source {
	s := treatment.Source{
		ID:   id,
		Name: id,
		Kind: d.pick(treatment.HeldPlate, treatment.HeldPlate, treatment.Travelling, treatment.Beside),
	}
	frame := d.frame()
	if d.IntN(4) == 0 {
		s.Kind = d.pick(treatment.Gathered, treatment.Gathered, treatment.Spread, treatment.Evened, treatment.Toned)
	}
	s.Below = d.IntN(4) == 0
	if d.IntN(4) == 0 {
		s.Lay = d.pick(treatment.Darken, treatment.Lighten)
	}
	switch s.Kind {
	case treatment.Gathered:
		s.Gathered = &treatment.Gathering{
			Live: d.flip(), Over: 1 + d.IntN(6), Track: d.pick("", "", "t", "u", treatment.Still), Scale: d.real(0, 30),
			AsSeen: d.flip(), Everything: d.IntN(5) == 0, Most: max(0, d.IntN(9)-4),
		}
		if d.IntN(4) == 0 {
			s.Gathered.Between = &treatment.Range{First: frame - d.IntN(3), Last: frame + d.IntN(4)}
		}
		if !s.Gathered.Live {
			s.Gathered.Frame = frame
		}
	case treatment.Spread:
		s.Spread = &treatment.Spreading{Live: d.flip(), Edges: d.flip()}
		if s.Spread.Live {
			s.Spread.Over = d.IntN(3)
		} else {
			s.Spread.Frame = frame
		}
	case treatment.Evened:
		s.Evened = &treatment.Evening{
			Takes: d.pick(treatment.EvenCoarse, treatment.EvenFine, treatment.EvenBlur), Scale: d.real(0.3, 6), Amount: d.Float64(),
		}
	case treatment.Toned:
		s.Tone = &treatment.FlatTone{Frame: frame, Rim: d.flip()}
		if !s.Tone.Rim {
			s.Tone.Keys = []treatment.ToneAt{
				{Frame: 99, Ease: treatment.Eased, One: [3]float64{d.Float64(), d.Float64(), d.Float64()}},
				{Frame: 103, Ease: treatment.Linear, Other: [3]float64{d.Float64(), d.Float64(), d.Float64()}},
			}
		}
		if d.flip() {
			s.Tone.Ends = []treatment.Vec{{d.real(0, 56), d.real(0, 44)}, {d.real(0, 56), d.real(0, 44)}}
		}
	case treatment.Beside:
		offset := treatment.Vec{d.real(-14, 14), d.real(-8, 8)}
		s.Neighbour = &treatment.Neighbour{
			Frame:   frame,
			Screen:  d.flip(),
			Crisp:   d.flip(),
			Offsets: []treatment.OffsetKey{{Frame: 100, Ease: treatment.Linear, Offset: offset}},
		}
	case treatment.HeldPlate:
		s.Plate = &treatment.Plate{Frame: frame, Whole: d.IntN(3) == 0}
	case treatment.Travelling:
		s.Paint = &treatment.Paint{}
	}
	if list := s.StrokeList(); list != nil {
		for k := range 1 + d.IntN(3) {
			home, fixed := s.PaintedAt()
			if !fixed {
				home = d.frame()
			}
			*list = append(*list, d.stroke(fmt.Sprint(id, "stroke", k), home))
		}
	}
	if d.IntN(3) == 0 {
		s.Range, s.Rise, s.Fall = &treatment.Range{First: 98, Last: 102}, 2, 2
	}
	if d.IntN(4) == 0 {
		s.Where = []treatment.Shape{d.shape(id + "where")}
		s.Where[0].Combine = ""
	}
	return s
}

func (d dice) settle() treatment.Settle {
	s := treatment.Settle{Opacity: 1, Lay: d.pick("", "", "darken")}
	if d.flip() {
		s.Feather, s.Grow = d.real(0, 3), d.real(-2, 2)
	}
	if d.IntN(3) == 0 {
		s.Seam = d.real(1, 5)
	}
	if d.flip() {
		s.Light = &treatment.Light{
			Scale:    12,
			Strength: d.real(0.5, 1),
			Over:     d.IntN(3),
			Level:    d.IntN(2),
			Luma:     d.flip(),
		}
	}
	if d.flip() {
		s.Softness = &treatment.Softness{
			Match:   d.flip(),
			Over:    d.IntN(2),
			By:      d.real(0, 1),
			Shutter: float64(d.IntN(3)) * 120,
			Sharpen: float64(d.IntN(2)),
		}
	}
	if d.IntN(3) == 0 {
		s.Grain = &treatment.Grain{Denoise: &treatment.Denoise{Strength: [3]float64{1, 1, 0.5}, Over: d.IntN(2)}}
		if d.flip() {
			s.Grain.Kind = treatment.CarriedGrain
			s.Grain.From = &treatment.Vec{6, 3}
			s.Grain.Model = &treatment.GrainModel{
				Light: []float64{0.1, 0.5},
				Sigma: [3][]float64{{0.01, 0.02}, {0.01, 0.02}, {0.02, 0.03}},
				Shape: [3][]float64{{1}, {1}, {1}},
			}
		}
	}
	if d.IntN(3) == 0 {
		g := treatment.Plain
		g.Exposure = d.real(-1, 1)
		s.Tones = []treatment.Tone{{ID: "tone", Grade: g}}
		if d.flip() {
			s.Tones[0].Where = []treatment.Shape{d.shape("tonewhere")}
			s.Tones[0].Where[0].Combine = ""
		}
	}
	return s
}

func (d dice) removal(id string) treatment.Removal {
	r := treatment.Removal{
		ID:        id,
		Name:      id,
		Range:     treatment.Range{First: 96, Last: 105},
		Reference: 100,
		Settle:    d.settle(),
	}
	r.Follow.Track = d.pick("t", "t", "u", treatment.Still)
	r.Mark.Outlines = []treatment.Shape{d.shape(id + "o")}
	r.Mark.Outlines[0].Combine, r.Mark.Outlines[0].Range = "", nil
	if d.IntN(3) == 0 {
		r.Mark.Outlines = append(r.Mark.Outlines, d.shape(id+"p"))
	}
	for k := range 1 + d.IntN(3) {
		r.Fill.Sources = append(r.Fill.Sources, d.source(fmt.Sprint(id, "source", k)))
	}
	if d.IntN(3) == 0 {
		f := treatment.Front{
			ID:     id + "front",
			By:     treatment.ByOutline,
			All:    d.flip(),
			Grow:   d.real(-2, 2),
			Blur:   d.real(0, 2),
			Shapes: []treatment.Shape{d.shape(id + "frontshape")},
		}
		f.Shapes[0].Combine = ""
		if d.flip() {
			f.By, f.Key = treatment.ByBrightness, &treatment.FrontKey{Near: d.real(50, 80), Far: d.real(10, 50)}
		}
		if d.flip() {
			f.Unmix = 4
		}
		r.Guard = &treatment.Guard{Fronts: []treatment.Front{f}}
	}
	return r
}

func (d dice) track(id string) treatment.Track {
	data := &treatment.Data{}
	dx, dy := d.real(0.5, 1), d.real(0.2, 0.6)
	for n := 95; n <= 106; n++ {
		data.Samples = append(
			data.Samples,
			treatment.Sample{Frame: n, Matrix: geom.Translation(geom.Pt(dx*float64(n-100), dy*float64(n-100)))},
		)
	}
	t := treatment.Track{ID: id, Name: id, Kind: treatment.GivenTrack, Home: 100, Motion: geom.Perspective, Data: data}
	if d.IntN(3) == 0 {
		t.Exclusions = []treatment.Shape{d.shape(id + "ex")}
		t.Exclusions[0].Ride = treatment.Still
		t.Exclusions[0].Combine = ""
	}
	if d.IntN(3) == 0 {
		t.Surface = []treatment.Vec{{5, 5}, {45, 5}, {45, 40}, {5, 40}}
		moved := make([]treatment.Vec, 9)
		moved[4] = treatment.Vec{d.real(-3, 3), d.real(-3, 3)}
		t.Corrections = []treatment.Correction{
			{ID: "g", Kind: treatment.ByGrid, Cells: []int{2, 2}, Keys: []treatment.CorrectionKey{
				{
					Frame:     100,
					Ease:      treatment.Linear,
					Crossings: make([]treatment.Vec, 9),
				}, {Frame: 104, Ease: treatment.Linear, Crossings: moved}}},
		}
	}
	return t
}

func (d dice) document() *treatment.Document {
	doc := treatment.New()
	doc.Tracks = []treatment.Track{d.track("t"), d.track("u")}
	for k := range 1 + d.IntN(2) {
		doc.Removals = append(doc.Removals, d.removal(fmt.Sprint("r", k)))
	}
	return doc
}

// edited returns a copy of a document with one thing changed.
func (d dice) edited(t testing.TB, doc *treatment.Document) *treatment.Document {
	blob, err := json.Marshal(doc)
	require.NoError(t, err)
	out := &treatment.Document{}
	require.NoError(t, json.Unmarshal(blob, out))
	r := &out.Removals[d.IntN(len(out.Removals))]
	s := &r.Fill.Sources[d.IntN(len(r.Fill.Sources))]
	switch d.IntN(19) {
	case 0:
		r.Mark.Outlines[0] = d.shape("new")
		r.Mark.Outlines[0].Combine = ""
	case 1:
		r.Settle = d.settle()
	case 2:
		*s = d.source(s.ID)
	case 3:
		out.Tracks[d.IntN(2)].Data.Samples[d.IntN(12)].Matrix = geom.Translation(geom.Pt(d.real(-4, 4), d.real(-2, 2)))
	case 4:
		i := d.IntN(2)
		out.Tracks[i] = d.track(out.Tracks[i].ID)
	case 5:
		r.Guard = d.removal("x").Guard
	case 6:
		r.Follow.Track = d.pick("t", "u", treatment.Still)
	case 7:
		s.Off = !s.Off
	case 8:
		if strokes := s.Strokes(); len(strokes) > 0 {
			strokes[0] = d.stroke("new", strokes[0].Home)
		}
	case 9:
		if strokes := s.Strokes(); len(strokes) > 0 {
			strokes[len(strokes)-1].Off = !strokes[len(strokes)-1].Off
		}
	case 10:
		if r.Settle.Light != nil {
			r.Settle.Light.Over, r.Settle.Light.Strength = d.IntN(3), d.real(0.2, 1.5)
		}
	case 11:
		if r.Settle.Softness != nil {
			r.Settle.Softness.Shutter = float64(d.IntN(4)) * 90
		}
	case 12:
		r.Off = !r.Off
	case 13:
		if r.Settle.Grain != nil && r.Settle.Grain.Denoise != nil {
			r.Settle.Grain.Denoise.Strength[1], r.Settle.Grain.Denoise.Over = d.Float64(), d.IntN(3)
		}
	case 14:
		if r.Settle.Light != nil {
			r.Settle.Light.Luma = !r.Settle.Light.Luma
		}
	case 15:
		if i := d.IntN(2); len(out.Tracks[i].Exclusions) > 0 {
			out.Tracks[i].Exclusions = nil
		} else {
			out.Tracks[i].Exclusions = d.track("x").Exclusions
		}
	case 16:
		if r.Guard != nil {
			r.Guard.Fronts[0].Unmix = 8 * d.Float64()
		}
	case 17:
		if g := r.Settle.Grain; g != nil && g.Model != nil {
			g.Model.Sigma[1] = []float64{0.05 * d.Float64(), 0.05 * d.Float64()}
		}
	default:
		r.Settle.Seam, r.Settle.Grow = d.real(0, 4), d.real(-1, 1)
	}
	return out
}

// shelfInMemory keeps layers as the disk would.
type shelfInMemory map[string]*raster.Image

func (s shelfInMemory) Get(key string) (*raster.Image, bool) { m, ok := s[key]; return m, ok }
func (s shelfInMemory) Put(key string, m *raster.Image)      { s[key] = m }

// What is remembered is what a fresh evaluator gives, whatever was looked at before, and
// equal keys mean equal pixels, whatever was edited between.
func TestRandomEditsInRandomOrdersOfLooking(t *testing.T) {
	rounds := 8
	if testing.Short() {
		rounds = 3
	}
	ctx := context.Background()
	seen := map[string]*raster.Image{}
	looks, repeats := 0, 0
	for seed := range rounds {
		d := dice{rand.New(rand.NewPCG(uint64(seed), 42))}
		shared := &Evaluator{
			Plate: meadow{},
			Cache: memo.New(int(d.real(2e5, 3e7))),
			Short: memo.New(int(d.real(2e5, 3e7))),
			Disk:  shelfInMemory{},
		}
		doc := d.document()
		versions := []*treatment.Document{doc}
		for range 9 {
			doc = d.edited(t, doc)
			versions = append(versions, doc)
		}
		frames := [2]int{d.frame(), 98 + d.IntN(5)}
		order := d.Perm(2 * len(versions)) // each version on two frames, and some of them in other views
		for _, k := range append(order, order[:8]...) {
			doc, n, view := versions[k/2], frames[k%2], ResultView
			c, err := Compile(doc)
			require.NoError(t, err)
			if d.IntN(5) == 0 {
				view = Views[d.IntN(len(Views))]
			}
			only := doc.Removals[d.IntN(len(doc.Removals))].ID
			if view == ResultView {
				only = ""
			}
			if d.IntN(8) == 0 { // somebody looks, and leaves at once
				left, cancel := context.WithCancel(ctx)
				cancel()
				_, _ = shared.Frame(left, c, d.frame(), ResultView, "")
			}
			key, err := shared.Key(c, n, view, only)
			require.NoError(t, err)
			got, err := shared.Frame(ctx, c, n, view, only)
			require.NoError(t, err)
			again, err := Compile(doc)
			require.NoError(t, err)
			want, err := (&Evaluator{Plate: meadow{}}).Frame(ctx, again, n, view, only)
			require.NoError(t, err)
			if !assert.Equal(t, want.Rect, got.Rect, "seed %d, frame %d, %s of %q", seed, n, view, only) ||
				!assert.True(
					t,
					same(want.Image, got.Image),
					"seed %d, frame %d, %s of %q: other pixels after another order of looking",
					seed,
					n,
					view,
					only,
				) {
				return
			}
			looks++
			if other, known := seen[key]; known && key != "" {
				repeats++
				if !assert.True(
					t,
					other.Rect == got.Rect && same(other, got.Image),
					"seed %d, frame %d, %s of %q: one key, two pictures",
					seed,
					n,
					view,
					only,
				) {
					return
				}
			}
			seen[key] = got.Image
		}
	}
	assert.Greater(t, repeats, looks/20, "keys that are met again are what this tests")
}

func same(a, b *raster.Image) bool {
	for i, v := range a.Pix {
		if math.Float32bits(v) != math.Float32bits(b.Pix[i]) {
			return false
		}
	}
	return len(a.Pix) == len(b.Pix)
}

// What is painted, what the patch shows and what is delivered are the same pixels, with a
// neighbour below that has no outlines of its own, too.
func TestPaintedPatchAndResultAreTheSamePixels(t *testing.T) {
	ctx := context.Background()
	for seed := range 6 {
		d := dice{rand.New(rand.NewPCG(uint64(seed), 7))}
		doc := treatment.New()
		doc.Tracks = []treatment.Track{d.track("t"), d.track("u")}
		r := treatment.Removal{
			ID:        "a",
			Name:      "a",
			Range:     treatment.Range{First: 96, Last: 105},
			Reference: 100,
			Settle:    treatment.Settle{Opacity: 1},
		}
		r.Follow.Track = "t"
		r.Mark.Outlines = []treatment.Shape{
			{
				ID:      "o",
				Kind:    treatment.Outline,
				Home:    100,
				Feather: 3,
				Points: []treatment.Knot{
					{At: treatment.Vec{20, 14}},
					{At: treatment.Vec{37, 17}},
					{At: treatment.Vec{34, 30}},
					{At: treatment.Vec{18, 28}},
				},
			},
		}
		below := treatment.Source{
			ID:   "n",
			Name: "n",
			Kind: treatment.Beside,
			Neighbour: &treatment.Neighbour{
				Frame:   100,
				Offsets: []treatment.OffsetKey{{Frame: 100, Offset: treatment.Vec{-9, 5}}},
				Crisp:   seed%2 == 0,
			},
		}
		above := treatment.Source{ID: "p", Name: "p", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: 100}}
		for k := range 3 { // they copy from beside the thing, and from what lies on it
			st := treatment.Stroke{
				ID:       fmt.Sprint(k),
				Mode:     "clone",
				Home:     100,
				Size:     9,
				Hardness: 0.7,
				Opacity:  1,
				From:     &treatment.From{Offset: treatment.Vec{d.real(-18, 18), d.real(-9, 9)}},
				Path: &treatment.Path{
					Points: [][]float64{{d.real(20, 34), d.real(16, 28)}, {d.real(20, 34), d.real(16, 28)}},
				},
			}
			above.Plate.Strokes = append(above.Plate.Strokes, st)
		}
		r.Fill.Sources = []treatment.Source{below, above}
		doc.Removals = []treatment.Removal{r}
		c, err := Compile(doc)
		require.NoError(t, err)
		e := &Evaluator{Plate: meadow{}, Cache: memo.New(1 << 26)}
		patch, err := e.Frame(ctx, c, 100, PatchView, "a")
		require.NoError(t, err)
		result, err := e.Frame(ctx, c, 100, ResultView, "")
		require.NoError(t, err)
		easel, err := e.Easel(ctx, c, "a", &treatment.Source{ID: "p", Kind: treatment.HeldPlate}, 100)
		require.NoError(t, err)
		shown := easel.Shown(meadow{}.Size())
		plate, err := meadow{}.Linear(ctx, 100, meadow{}.Size())
		require.NoError(t, err)
		matte, err := e.Matte(ctx, c, "a", 100)
		require.NoError(t, err)
		whole := 0
		for y := range 44 {
			for x := range 56 {
				onPatch := plate.At(x, y)
				if image.Pt(x, y).In(patch.Rect) && patch.At(x, y)[3] > 0 {
					onPatch = patch.At(x, y)
				}
				for k := range 3 {
					assert.InDelta(
						t,
						shown.At(x, y)[k],
						onPatch[k],
						1e-5,
						"seed %d, pixel %d,%d: painted and Patch",
						seed,
						x,
						y,
					)
				}
				if matte.At(x, y) < 1 {
					continue
				}
				whole++
				for k := range 3 {
					assert.InDelta(
						t,
						onPatch[k],
						result.At(x, y)[k],
						1e-5,
						"seed %d, pixel %d,%d: Patch and Result",
						seed,
						x,
						y,
					)
				}
			}
		}
		assert.Greater(t, whole, 100)
	}
}

// Fields that keys leave out are these, and none else: what follows from others, and names.
func TestNothingElseIsLeftOutOfKeys(t *testing.T) {
	allowed := map[string]bool{
		"sourceInput.Name":    true,
		"strokeInput.Stroke":  true,
		"strokeInput.Box":     true,
		"heldLayer.Boxes":     true,
		"heldLayer.All":       true,
		"Bent.fromA":          true,
		"Lens.reach":          true, // of its terms
		"Lens.edge":           true,
		"sourceInput.below":   true, // Below is its key
		"gatheredLayer.below": true,
		"sourceInput.at":      true, // Where, worked out
	}
	seen := map[reflect.Type]bool{}
	var walk func(reflect.Type)
	walk = func(v reflect.Type) {
		if seen[v] {
			return
		}
		seen[v] = true
		switch v.Kind() {
		case reflect.Pointer, reflect.Slice, reflect.Array:
			walk(v.Elem())
		case reflect.Struct:
			for i := range v.NumField() {
				f := v.Field(i)
				if f.Tag.Get("memo") == "-" {
					assert.True(t, allowed[v.Name()+"."+f.Name], "%s.%s is left out of keys", v.Name(), f.Name)
					continue
				}
				if !strings.HasPrefix(v.Name(), "Keyed[") || f.Name == "Value" {
					walk(f.Type)
				}
			}
		}
	}
	walk(reflect.TypeFor[Input]())
	walk(reflect.TypeFor[partInput]())
	for _, layer := range []reflect.Type{
		reflect.TypeFor[heldInput](), reflect.TypeFor[neighbourInput](), reflect.TypeFor[pieceInput](), reflect.TypeFor[carriedInput](),
		reflect.TypeFor[gatheredPixels](), reflect.TypeFor[grownPixels](), reflect.TypeFor[spreadPixels](),
		reflect.TypeFor[steadiedPixels](), reflect.TypeFor[evenedInput](), reflect.TypeFor[tonedInput](),
	} {
		walk(layer) // behind an interface
	}
	for _, carrier := range []reflect.Type{reflect.TypeFor[warp.Plane](), reflect.TypeFor[warp.Bent](),
		reflect.TypeFor[warp.Chained]()} {
		walk(carrier) // behind an interface
	}
	assert.Greater(t, len(seen), 40)
}

// Coverage comes along with every view that lays patches, and is what the matte view shows.
func TestCoverageIsWhatTheMatteShows(t *testing.T) {
	ctx := context.Background()
	some := 0
	for seed := range 30 {
		d := dice{rand.New(rand.NewPCG(uint64(seed), 6))}
		c, err := Compile(d.document())
		require.NoError(t, err)
		e := &Evaluator{Plate: meadow{}, Cache: memo.New(1 << 26), Short: memo.New(1 << 26)}
		n := d.frame()
		matte, err := e.Frame(ctx, c, n, MatteView, "")
		require.NoError(t, err)
		for _, view := range []View{ResultView, AloneView, TintView, MatteView} {
			m, err := e.Frame(ctx, c, n, view, "")
			require.NoError(t, err)
			require.Equal(t, matte.Rect, m.Coverage.Rect, view)
			for y := m.Rect.Min.Y; y < m.Rect.Max.Y; y++ {
				for x := m.Rect.Min.X; x < m.Rect.Max.X; x++ {
					k := m.Coverage.At(x, y)
					require.InDelta(
						t,
						colorspace.SRGB.Encode(float64(matte.At(x, y)[0])),
						k,
						1e-5,
						"seed %d, %s, pixel %d,%d",
						seed,
						view,
						x,
						y,
					)
					if k > 0 && k < 1 {
						some++
					}
				}
			}
		}
		painted, err := e.Frame(ctx, c, n, PatchView, "r0")
		require.NoError(t, err)
		if painted.Rect != (image.Rectangle{}) {
			assert.Nil(t, painted.Coverage, "what is only painted covers nothing yet")
		}
	}
	assert.Greater(t, some, 1000)
}
