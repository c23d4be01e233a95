package render

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/treatment"
)

// stacked makes a document of small removals, painted, all of whose sources see the removals below, as they are
// carried: none is settled.
func (d dice) stacked(n int) *treatment.Document {
	doc := treatment.New()
	doc.Tracks = []treatment.Track{d.track("t"), d.track("u")}
	doc.Tracks[0].Exclusions, doc.Tracks[1].Exclusions = nil, nil
	var places []treatment.Vec
	for k := range n {
		r := d.removal(fmt.Sprint("r", k))
		r.Settle = treatment.Settle{Opacity: 1, Lay: r.Settle.Lay, Feather: r.Settle.Feather, Grow: r.Settle.Grow}
		r.Fill.Sources = nil
		for i := range 1 + d.IntN(2) {
			s := d.source(fmt.Sprint(r.ID, "source", i))
			for s.StrokeList() == nil && s.Neighbour == nil {
				s = d.source(s.ID)
			}
			s.Below, s.Lay = true, ""
			if s.Plate != nil {
				s.Plate.Whole = d.IntN(8) == 0
			}
			r.Fill.Sources = append(r.Fill.Sources, s)
		}
		// Small, and somewhere.
		to := treatment.Vec{d.real(6, 50), d.real(6, 38)}
		places = append(places, to)
		for _, list := range r.Shapes() {
			for i := range *list {
				o := &(*list)[i]
				middle := carry.Centre(o)
				for p := range o.Points {
					at := &o.Points[p].At
					at[0], at[1] = to[0]+0.3*(at[0]-middle.X), to[1]+0.3*(at[1]-middle.Y)
				}
				o.Keys, o.Placement, o.Grow, o.Feather = nil, nil, 0, 1
			}
		}
		for i := range r.Fill.Sources {
			s := &r.Fill.Sources[i]
			s.Where = nil
			list := s.StrokeList()
			if list == nil {
				from := places[d.IntN(len(places))]
				s.Neighbour.Offsets[0].Offset = treatment.Vec{from[0] - to[0], from[1] - to[1]}
				continue
			}
			for k := range *list {
				st := &(*list)[k]
				from := places[max(0, len(places)-1-d.IntN(3))] // another's place, or its own
				st.Mode, st.From.Offset = d.pick("clone", "clone", "heal", "soften"), treatment.Vec{from[0] - to[0] + d.real(-2, 2), from[1] - to[1]}
				st.Size, st.Path.Points = 4, [][]float64{{to[0], to[1]}, {to[0] + d.real(-3, 3), to[1] + d.real(-3, 3)}}
			}
		}
		doc.Removals = append(doc.Removals, r)
	}
	return doc
}

// everyone makes all sources see all removals below them, wherever they look: slow, and plainly right.
func (t *Treatment) everyone() *Treatment {
	for _, r := range t.all {
		for _, s := range r.sources {
			s.below = sync.OnceValue(func() *below { return t.beneath(t.all[:r.at:r.at]) })
		}
	}
	return t
}

// A source that sees only those removals that lie where it looks makes the pixels of one that sees all, whatever was
// looked at before; and an edit to a removal that it does not see leaves its name as it is.
func TestOnlyWhatLiesWhereOneLooksIsSeen(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	ctx := context.Background()
	kept := &Evaluator{Plate: meadow{}, Cache: memo.New(1 << 26), Short: memo.New(1 << 26)}
	fewer, all, same, other := 0, 0, 0, 0
	for seed := range uint64(40) {
		d := dice{rand.New(rand.NewPCG(seed, 21))}
		doc := d.stacked(2 + d.IntN(4))
		c := compile(t, doc)
		slow := compile(t, doc).everyone()
		agree := func(c, slow *Treatment) {
			n := d.frame()
			want, err := (&Evaluator{Plate: meadow{}, Cache: memo.New(1 << 26)}).Frame(ctx, slow, n, ResultView, "")
			require.NoError(t, err)
			got, err := kept.Frame(ctx, c, n, ResultView, "")
			require.NoError(t, err)
			require.Equal(t, want.Rect, got.Rect, "seed %d", seed)
			require.InDeltaSlice(t, want.Pix, got.Pix, 1e-6, "seed %d, frame %d", seed, n)
		}
		agree(c, slow)
		agree(c, slow)
		// One removal moves: those that do not see it keep their names, and theirs alone.
		blob, err := json.Marshal(doc)
		require.NoError(t, err)
		var moved treatment.Document
		require.NoError(t, json.Unmarshal(blob, &moved))
		k := d.IntN(len(doc.Removals))
		for i := range moved.Removals[k].Mark.Outlines {
			o := &moved.Removals[k].Mark.Outlines[i]
			for p := range o.Points {
				o.Points[p].At[0] += 2
			}
		}
		another := moved
		another.Tracks = slices.Clone(moved.Tracks) // a track moves: whatever rides on it does
		for i := range another.Tracks {
			data := *another.Tracks[i].Data
			data.Samples = slices.Clone(data.Samples)
			for k := range data.Samples {
				data.Samples[k].Matrix = data.Samples[k].Matrix.Mul(geom.Translation(geom.Pt(0.6*float64(data.Samples[k].Frame-100), 1)))
			}
			another.Tracks[i].Data = &data
		}
		onTracks := compile(t, &another)
		for range 2 {
			agree(onTracks, compile(t, &another).everyone())
		}
		after := compile(t, &moved)
		for range 3 { // with all that is remembered of how it was before
			agree(after, compile(t, &moved).everyone())
		}
		for i, r := range c.all {
			for s := range r.sources {
				was, is := r.below(s), after.all[i].below(s)
				all += r.at
				fewer += r.at - len(was.of.removals)
				if was.all[k] || is.all[k] {
					assert.NotEqual(t, was.key(), is.key(), "seed %d: %s sees %d", seed, r.doc.ID, k)
					other++
				} else {
					assert.Equal(t, was.key(), is.key(), "seed %d: %s does not see %d", seed, r.doc.ID, k)
					same++
				}
			}
		}
	}
	t.Logf("%d of %d removals below were left out; %d names stayed, %d changed", fewer, all, same, other)
	assert.Greater(t, fewer, all/10, "some lie elsewhere")
	assert.Greater(t, same, 20)
	assert.Greater(t, other, 20)
}

// What is painted live on a plate that sees the removals below is what is saved, wherever the stroke looks.
func TestPaintingOnWhatLiesBelow(t *testing.T) {
	ctx := context.Background()
	for seed := range uint64(40) {
		d := dice{rand.New(rand.NewPCG(seed, 22))}
		doc := d.stacked(3)
		top := &doc.Removals[2]
		s := treatment.Source{ID: "new", Name: "new", Kind: treatment.HeldPlate, Below: true, Plate: &treatment.Plate{Frame: 100}}
		st := d.stroke("live", 100)
		st.Off, st.Range, st.Ride, st.From.Frame = false, nil, "", nil
		e := &Evaluator{Plate: meadow{}, Cache: memo.New(1 << 26), Short: memo.New(1 << 26)}
		before := compile(t, doc)
		easel, err := e.Easel(ctx, before, top.ID, &s, 100)
		require.NoError(t, err)
		begin := treatment.Vec{st.Path.Points[0][0], st.Path.Points[0][1]}
		brush, err := e.Brush(ctx, before, top.ID, &st, begin)
		require.NoError(t, err)
		easel.Paint(brush, Touches(st.Path.Points))
		s.Plate.Strokes = []treatment.Stroke{st}
		top.Fill.Sources = append(top.Fill.Sources, s)
		c := compile(t, doc)
		r := c.removal(top.ID)
		i := slices.IndexFunc(r.sources, func(s *source) bool { return s.ID == "new" })
		under := r.fill(i, 100, false)
		layer, err := e.seenFrom(r.below(i)).layer(ctx, r.layer(i, r.sources[i].strokes, "", true), e.Plate.Size())
		require.NoError(t, err)
		live := easel.Layer()
		for y := live.Rect.Min.Y; y < live.Rect.Max.Y; y++ {
			for x := live.Rect.Min.X; x < live.Rect.Max.X; x++ {
				require.InDeltaSlice(t, f64(live.At(x, y)), f64(layer.At(x, y)), 1e-6, "seed %d, %d,%d over %d", seed, x, y, len(under.Sources))
			}
		}
	}
}

func f64(v [4]float32) []float64 {
	return []float64{float64(v[0]), float64(v[1]), float64(v[2]), float64(v[3])}
}

// Four hundred removals on one place, each copied from what the one below left, take as many steps, and not the square of
// it many times over.
func TestADeepStackIsEvaluated(t *testing.T) {
	d := dice{rand.New(rand.NewPCG(1, 23))}
	doc := treatment.New()
	doc.Tracks = []treatment.Track{d.track("t"), d.track("u")}
	one := d.stacked(1).Removals[0]
	one.Fill.Sources = []treatment.Source{{ID: "s", Kind: treatment.HeldPlate, Below: true, Plate: &treatment.Plate{Frame: 100, Strokes: []treatment.Stroke{d.stroke("st", 100)}}}}
	one.Fill.Sources[0].Plate.Strokes[0].Off = false
	const deep = 400
	for k := range deep {
		r := one
		r.ID = fmt.Sprint("deep", k)
		doc.Removals = append(doc.Removals, r)
	}
	e := &Evaluator{Plate: meadow{}, Cache: memo.New(1 << 26), Short: memo.New(1 << 26)}
	c := compile(t, doc)
	steps := 0
	for _, r := range c.all {
		steps += len(r.below(0).of.removals)
	}
	_, err := e.Frame(context.Background(), c, 100, ResultView, "")
	require.NoError(t, err)
	assert.LessOrEqual(t, steps, deep*deep/2)
}

// The view of a patch shows what its paint sees: the plate with the removals below in place; of one that looks at the
// plate alone, and of removals above, nothing.
func TestThePatchIsSeenOnWhatItSees(t *testing.T) {
	ctx := context.Background()
	e := &Evaluator{Plate: meadow{}, Cache: memo.New(1 << 26), Short: memo.New(1 << 26)}
	d := dice{rand.New(rand.NewPCG(4, 24))}
	doc := d.stacked(3)
	for i := range doc.Removals {
		r := &doc.Removals[i]
		r.Guard, r.Follow.Track, r.Mark.Outlines = nil, treatment.Still, r.Mark.Outlines[:1]
		r.Fill.Sources = []treatment.Source{{
			ID: "s", Kind: treatment.HeldPlate, Below: true,
			Plate: &treatment.Plate{Frame: 100, Strokes: []treatment.Stroke{{
				ID: "x", Mode: "colour", Home: 100, Size: 8, Hardness: 1, Opacity: 1, Colour: &[3]float64{float64(i + 1), 0, 0},
				Path: &treatment.Path{Points: [][]float64{{float64(10 + 15*i), 20}}},
			}}},
		}}
		at := treatment.Vec{float64(10 + 15*i), 20}
		r.Mark.Outlines[0] = treatment.Shape{ID: "o", Kind: treatment.Outline, Home: 100, Points: []treatment.Knot{
			{At: treatment.Vec{at[0] - 3, 17}}, {At: treatment.Vec{at[0] + 3, 17}}, {At: treatment.Vec{at[0] + 3, 23}}, {At: treatment.Vec{at[0] - 3, 23}},
		}}
	}
	red := func(doc *treatment.Document, only string) (out [3]bool) {
		r, err := e.Frame(ctx, compile(t, doc), 100, PatchView, only)
		require.NoError(t, err)
		for i := range out {
			out[i] = r.At(10+15*i, 20)[0] > 0.9
		}
		return out
	}
	assert.Equal(t, [3]bool{true, true, false}, red(doc, "r1"))
	doc.Removals[1].Fill.Sources[0].Below = false
	assert.Equal(t, [3]bool{false, true, false}, red(doc, "r1"))
	doc.Removals[1].Fill.Sources = nil
	assert.Equal(t, [3]bool{true, false, false}, red(doc, "r1"), "what is painted next will see it")
	doc.Removals[0].Off = true
	assert.Equal(t, [3]bool{}, red(doc, "r1"))
}

// A stroke that travels and heals, or blurs, makes the same pixels whatever else is painted, and made room for, elsewhere on the frame.
func TestPaintTravelsAlone(t *testing.T) {
	ctx := context.Background()
	for seed := range uint64(30) {
		d := dice{rand.New(rand.NewPCG(seed, 25))}
		doc := d.stacked(1)
		r := &doc.Removals[0]
		r.Guard, r.Follow.Track, r.Settle.Lay = nil, "t", ""
		heal := d.stroke("heal", 100)
		texture := d.real(0.5, 2)
		heal.Amount = d.real(0.5, 3)
		heal.Mode, heal.Off, heal.Range, heal.Ride, heal.Texture, heal.Light = d.pick("heal", "soften"), false, nil, "", &texture, nil
		heal.Size, heal.From.Frame, heal.Opacity = d.real(4, 9), nil, 1
		heal.Path.Points = [][]float64{{d.real(22, 34), d.real(18, 26)}}
		heal.From.Offset = treatment.Vec{d.real(-8, 8), d.real(-6, 6)}
		r.Fill.Sources = []treatment.Source{{ID: "s", Kind: treatment.Travelling, Paint: &treatment.Paint{Strokes: []treatment.Stroke{heal}}}}
		n := d.frame()
		alone, err := (&Evaluator{Plate: meadow{}}).Frame(ctx, compile(t, doc), n, PatchView, r.ID)
		require.NoError(t, err)
		far := treatment.Stroke{
			ID: "far", Mode: "colour", Home: 100, Size: 1, Hardness: 1, Opacity: 1, Colour: &[3]float64{1, 0, 0}, Ride: treatment.Still,
			Path: &treatment.Path{Points: [][]float64{{1, 1}, {1, 43}, {55, 43}}},
		}
		r.Fill.Sources[0].Paint.Strokes = append(r.Fill.Sources[0].Paint.Strokes, far)
		both, err := (&Evaluator{Plate: meadow{}}).Frame(ctx, compile(t, doc), n, PatchView, r.ID)
		require.NoError(t, err)
		for y := alone.Rect.Min.Y; y < alone.Rect.Max.Y; y++ {
			for x := alone.Rect.Min.X; x < alone.Rect.Max.X; x++ {
				if v := alone.At(x, y); v[3] > 0 && both.At(x, y)[0] < 0.99 {
					require.InDeltaSlice(t, f64(v), f64(both.At(x, y)), 1e-5, "seed %d, frame %d, %d,%d", seed, n, x, y)
				}
			}
		}
	}
}
