package render

import (
	"context"
	"errors"
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// softDiscs is a matte of random discs with soft edges, another for each name.
func softDiscs(seed uint64, size image.Rectangle) *raster.Plane {
	rnd := rand.New(rand.NewPCG(seed, 3))
	p := raster.NewPlane(size)
	for range 3 {
		x, y, r := 200*rnd.Float64(), 160*rnd.Float64(), 8+20*rnd.Float64()
		for j := range size.Dy() {
			for i := range size.Dx() {
				v := float32(r - math.Hypot(float64(i)+0.5-x, float64(j)+0.5-y))
				p.Pix[j*size.Dx()+i] = max(p.Pix[j*size.Dx()+i], min(max(v/3+0.5, 0), 1))
			}
		}
	}
	return p
}

// What is marked by supplied mattes and by the plate's alpha is what a plain reading of them says, pixel by pixel, combined in
// order after the outlines, on their own frames only.
func TestSuppliedMattesMark(t *testing.T) {
	ctx := context.Background()
	size := lamp{}.Size()
	half := 0.5
	rnd := rand.New(rand.NewPCG(1, 2))
	for round := range 20 {
		d := litDocument()
		r := &d.Removals[0]
		if round%3 == 0 {
			r.Mark.Outlines = []treatment.Shape{}
		}
		names := []string{"", "add", "take", "keep"}
		var supplied []*raster.Plane
		for k := range 1 + rnd.IntN(3) {
			m := treatment.MarkMatte{ID: string(rune('p' + k)), Combine: names[rnd.IntN(4)], Invert: rnd.IntN(3) == 0}
			if rnd.IntN(2) == 0 {
				m.Opacity = &half
			}
			seed := rnd.Uint64N(1e9)
			if m.Alpha = rnd.IntN(4) == 0; m.Alpha {
				seed = 102
			} else {
				m.Mattes = []treatment.FrontMatte{{Frame: 102, Picture: treatment.Picture{
					Artifact: string(rune('a' + k)), Name: "m", Width: int(seed), Height: 1}}}
			}
			supplied = append(supplied, softDiscs(seed, size))
			r.Mark.Mattes = append(r.Mark.Mattes, m)
		}
		e := &Evaluator{
			Plate: lamp{}, Cache: memo.New(1 << 26),
			Mattes: func(_ context.Context, p *treatment.Picture) (*raster.Plane, error) {
				return softDiscs(uint64(p.Width), size), nil
			},
			Alpha: func(_ context.Context, n int) (*raster.Plane, error) { return softDiscs(uint64(n), size), nil },
		}
		c := compile(t, d)
		got, err := e.Matte(ctx, c, r.ID, 102)
		require.NoError(t, err)
		shapes := c.removal(r.ID).matte(102).Outlines
		outlines := shapes.cover(size)
		for y := range size.Dy() {
			for x := range size.Dx() {
				want := outlines.At(x, y)
				for k, m := range r.Mark.Mattes {
					a := supplied[k].At(x, y)
					if m.Invert {
						a = 1 - a
					}
					a *= float32(m.Through())
					switch m.Combine {
					case "take":
						want *= 1 - a
					case "keep":
						want *= a
					default:
						want = 1 - (1-want)*(1-a)
					}
				}
				require.InDelta(t, want, got.At(x, y), 1e-5, "round %d, pixel %d, %d", round, x, y)
			}
		}
		// On another frame there are no pictures, but there is alpha.
		other, err := e.Matte(ctx, c, r.ID, 101)
		require.NoError(t, err)
		alpha := false
		for _, m := range r.Mark.Mattes {
			alpha = alpha || m.Alpha
		}
		if !alpha && len(r.Mark.Outlines) == 0 {
			assert.True(t, cutBox(other).Empty())
		}
	}
}

// Grown, a supplied matte covers what a disc around each of its pixels does; a feather outside never thins the inside, one inside
// never covers more, and both end where they are said to.
func TestSuppliedMattesAreGrownAndFeathered(t *testing.T) {
	size := image.Rect(0, 0, 200, 160)
	for seed := range uint64(6) {
		p := softDiscs(seed, size)
		s := suppliedInput{Opacity: 1}
		s.Edge.Grow = 5
		grown := s.edged(p)
		for range 400 {
			x, y := rand.IntN(200), rand.IntN(160)
			most := float32(0)
			for j := -5; j <= 5; j++ {
				for i := -5; i <= 5; i++ {
					if i*i+j*j <= 25 && image.Pt(x+i, y+j).In(size) {
						most = max(most, p.At(x+i, y+j))
					}
				}
			}
			require.InDelta(t, most, grown.At(x, y), 1e-6)
		}
		s.Edge.Grow, s.Edge.Feather = 0, 12
		outside := s.edged(p)
		s.Edge.Feather, s.Edge.FeatherIn = 0, 12
		within := s.edged(p)
		s.Edge.FeatherIn, s.Edge.Grow = 0, 13
		limit := s.edged(p)
		for i, v := range p.Pix {
			require.GreaterOrEqual(t, outside.Pix[i], v)
			require.LessOrEqual(t, within.Pix[i], v)
			if limit.Pix[i] == 0 {
				require.Less(t, outside.Pix[i], float32(0.02), "beyond its width there is nothing")
			}
		}
	}
}

// A matte that could not be read is an error, each time, and not "nothing is marked".
func TestAMatteThatCannotBeReadIsAnError(t *testing.T) {
	ctx := context.Background()
	d := litDocument()
	d.Removals[0].Mark.Mattes = []treatment.MarkMatte{{ID: "m", Mattes: []treatment.FrontMatte{{
		Frame: 102, Picture: treatment.Picture{Artifact: "x", Name: "m"}}}}}
	broken := true
	e := &Evaluator{Plate: lamp{}, Cache: memo.New(1 << 26), Mattes: func(context.Context, *treatment.Picture) (*raster.Plane, error) {
		if broken {
			return nil, errors.New("the disk is away")
		}
		return softDiscs(1, lamp{}.Size()), nil
	}}
	c := compile(t, d)
	for range 2 {
		_, err := e.Frame(ctx, c, 102, ResultView, "")
		require.ErrorContains(t, err, "the disk is away")
	}
	_, err := e.Frame(ctx, c, 101, ResultView, "")
	require.NoError(t, err, "it has no matte on that frame")
	broken = false
	_, err = e.Frame(ctx, c, 102, ResultView, "")
	require.NoError(t, err)
}

// What is measured beside a marking is measured beside one whose edges lie in steps: nothing that is marked is outside of that, whatever
// its shapes do to each other; and a feather that is dragged between two steps has nothing measured anew.
func TestEdgesInSteps(t *testing.T) {
	larger := 0
	for seed := range uint64(80) {
		d := dice{rand.New(rand.NewPCG(seed, 46))}
		doc := document()
		r := &doc.Removals[0]
		r.Mark.Outlines = nil
		for k := range 1 + d.IntN(3) {
			s := d.shape(string(rune('a' + k)))
			s.FeatherIn, s.Invert = d.real(0, 3), d.IntN(6) == 0
			r.Mark.Outlines = append(r.Mark.Outlines, s)
		}
		r.Settle.Feather, r.Settle.FeatherIn, r.Settle.Grow = d.real(0, 9), d.real(0, 4), d.real(-3, 5)
		of := compile(t, doc).removal("a")
		for _, n := range []int{100, 102} {
			exact := of.matte(n)
			steps := exact.stepped()
			rect := image.Rect(0, 0, 100, 80)
			a, b := exact.Outlines.cover(rect), steps.Outlines.cover(rect)
			for y := range 80 {
				for x := range 100 {
					if a.At(x, y) > 0 {
						require.Positive(t, b.At(x, y), "seed %d at %d, %d", seed, x, y)
					} else if b.At(x, y) > 0 {
						larger++
					}
				}
			}
		}
	}
	assert.Positive(t, larger)

	key := func(feather, in, grow float64) string {
		doc := document()
		doc.Removals[0].Settle.Feather, doc.Removals[0].Settle.FeatherIn, doc.Removals[0].Settle.Grow = feather, in, grow
		doc.Removals[0].Settle.Light = &treatment.Light{Scale: 20, Strength: 1}
		of := compile(t, doc).removal("a")
		name, err := memo.Name(environment{&Evaluator{Plate: ramp{}}}, of.scene(0, "", 101, of.heldPlate(0, 101, false).Layers[0].Layer))
		require.NoError(t, err)
		return name
	}
	assert.Equal(t, key(5, 3, 0), key(7.9, 3, 0))
	assert.Equal(t, key(5, 5, 0), key(7.9, 8, 0))
	assert.NotEqual(t, key(5, 3, 0), key(8.1, 3, 0))
	assert.NotEqual(t, key(5, 3, 0), key(0, 3, 0))
	assert.Equal(t, key(5, 3, -7), key(5, 3, -4.1))
	assert.NotEqual(t, key(5, 3, -3), key(5, 3, 3))
	assert.NotEqual(t, key(2, 3, 0), key(3, 3, 0), "a small edge is measured beside as it is")
	own := func(feather, more float64) string {
		doc := document()
		r := &doc.Removals[0]
		r.Mark.Outlines[0].Feather, r.Settle.Feather, r.Settle.Light = feather, more, &treatment.Light{Scale: 20, Strength: 1}
		of := compile(t, doc).removal("a")
		name, err := memo.Name(environment{&Evaluator{Plate: ramp{}}}, of.scene(0, "", 101, of.heldPlate(0, 101, false).Layers[0].Layer))
		require.NoError(t, err)
		return name
	}
	assert.Equal(t, own(5, 0), own(7.9, 0), "an outline's own feather is one with the whole patch's")
	assert.Equal(t, own(5, 2), own(3, 4.5))
	assert.NotEqual(t, own(5, 0), own(5, 4))
}
