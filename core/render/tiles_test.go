package render

import (
	"context"
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/fill"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// swayed is wide in a light that drifts by up to a tenth from frame to frame, here one way and there the other.
type swayed struct{ wide }

func (swayed) Size() image.Rectangle { return image.Rect(0, 0, 970, 730) }

func (swayed) Linear(ctx context.Context, n int, rect image.Rectangle) (*raster.Image, error) {
	all, err := wide{}.Linear(ctx, n, rect)
	if err != nil {
		return nil, err
	}
	out := all.Crop(rect)
	for y := rect.Min.Y; y < rect.Max.Y; y++ {
		row := out.Row(y, rect.Min.X, rect.Max.X)
		for x := range rect.Dx() {
			k := float32(1 + 0.1*float64(n-20)*math.Sin(float64(rect.Min.X+x)/170)*math.Cos(float64(y)/130))
			for c := range 3 {
				row[4*x+c] *= k
			}
		}
	}
	return out, nil
}

// A frame is rid of grain in tiles, so that a large one takes no more memory than a small one, and a patch only those it lies on; they
// meet without a seam, and a part is the same whatever was looked at before.
func TestGrainIsTakenOutInTiles(t *testing.T) {
	defer func(was image.Point) { denoiseTile = was }(denoiseTile)
	rng := rand.New(rand.NewPCG(21, 1))
	ctx, size := context.Background(), swayed{}.Size()
	in := bareInput{Frame: 20, Denoise: &denoiseInput{Strength: [3]float64{1, 1, 1}}}
	for _, k := range []int{19, 21, 22} {
		in.Denoise.Helpers = append(in.Denoise.Helpers, neighbourFrame{Frame: k, Map: warp.Of(geom.Translation(geom.Pt(float64(4*(20-k)), float64(20-k))))})
	}
	denoiseTile = image.Pt(4000, 4000)
	whole, err := (&Evaluator{Plate: swayed{}, Cache: memo.New(1 << 30)}).bare(ctx, in, size)
	require.NoError(t, err)
	plate, err := swayed{}.Linear(ctx, 20, size)
	require.NoError(t, err)
	for _, side := range []image.Point{{480, 360}, {300, 211}} {
		denoiseTile = side
		times := raster.NewPlane(size)
		for _, tile := range denoiseTiles(size) {
			for y := tile.Min.Y; y < tile.Max.Y; y++ {
				for x := tile.Min.X; x < tile.Max.X; x++ {
					times.Row(y, x, x+1)[0]++
				}
			}
		}
		for _, v := range times.Pix {
			require.EqualValues(t, 1, v, "each pixel is of one tile")
		}
		all, err := (&Evaluator{Plate: swayed{}, Cache: memo.New(1 << 30)}).bare(ctx, in, size)
		require.NoError(t, err)
		worst, changed := 0.0, 0.0
		for i, v := range whole.Pix {
			worst = math.Max(worst, math.Abs(float64(v-all.Pix[i])))
			changed = math.Max(changed, math.Abs(float64(v-plate.Pix[i])))
		}
		t.Logf("tiles of %v are off by %.6f of light at most, where grain was changed by up to %.3f", side, worst, changed)
		assert.Greater(t, changed, 0.01)
		assert.Less(t, worst, 0.0003)
		e := &Evaluator{Plate: swayed{}, Cache: memo.New(1 << 30)}
		for range 4 {
			at := image.Pt(rng.IntN(size.Dx()), rng.IntN(size.Dy()))
			rect := image.Rectangle{at, at.Add(image.Pt(1+rng.IntN(500), 1+rng.IntN(400)))}.Intersect(size)
			part, err := e.bare(ctx, in, rect)
			require.NoError(t, err)
			require.Equal(t, all.Crop(rect).Pix, part.Crop(rect).Pix, "%v", rect)
		}
	}
}

// Strokes are painted on the part of a frame that they say they read: what comes of them is what comes of them on all of it.
func TestStrokesReadNoMoreThanTheySay(t *testing.T) {
	ctx, size := context.Background(), wide{}.Size()
	modes := []string{"clone", "heal", "colour", "erase", "soften", "smear", "lift", "lower"}
	for seed := range uint64(60) {
		d := dice{rand.New(rand.NewPCG(seed, 45))}
		doc := document()
		plate := doc.Removals[0].Fill.Sources[0].Plate
		plate.Whole, plate.Strokes = d.IntN(3) == 0, nil
		x, y := d.real(-5, 1925), d.real(-5, 1085) // at the frame's edges as well
		if d.flip() {
			x, y = d.real(200, 1700), d.real(200, 900)
		}
		at := func() []float64 { return []float64{x + d.real(-40, 40), y + d.real(-40, 40)} }
		for k := range 1 + d.IntN(3) {
			st := d.stroke(string(rune('a'+k)), []int{100, 100, 98, 103}[d.IntN(4)])
			st.Mode, st.Size, st.Off, st.Ride = modes[(int(seed)+k)%len(modes)], d.real(4, 60), false, d.pick("", "", treatment.Still)
			st.Amount, st.From.Plain = d.real(0.3, 6), d.IntN(4) == 0
			st.Path.Points = [][]float64{at(), at()}
			st.From.Offset = treatment.Vec{d.real(-150, 150), d.real(-90, 90)}
			if d.flip() {
				st.From.Turn, st.From.Scale, st.From.Mirror, st.From.Crisp = d.real(-180, 180), d.real(0.3, 3), d.flip(), false
			}
			if d.IntN(3) == 0 {
				st.Jitter = d.Float64()
			}
			if st.Mode != "smear" && d.IntN(3) == 0 {
				st.Path, st.Area = nil, &treatment.Area{Feather: d.real(0, 8)}
				for range 4 {
					p := at()
					st.Area.Points = append(st.Area.Points, treatment.Knot{At: treatment.Vec{p[0], p[1]}})
				}
			}
			plate.Strokes = append(plate.Strokes, st)
		}
		r := compile(t, doc).removal("a")
		in := r.heldPlate(0, 100, false)
		if in == nil {
			continue // none of its strokes is there
		}
		for i := range in.Layers {
			chain := in.Layers[i].Layer
			got, err := (&Evaluator{Plate: wide{}, Cache: memo.New(1 << 28)}).layer(ctx, chain, size)
			require.NoError(t, err)
			e := &Evaluator{Plate: wide{}, Cache: memo.New(1 << 28)}
			var strokes []*strokeInput
			node := chain
			for ; node.Value.Base == nil; node = node.Value.Below {
				strokes = append(strokes, &node.Value.Stroke)
			}
			base := node.Value.Base
			if base.Some {
				continue // the second layer takes the same pixels
			}
			all, err := wide{}.Linear(ctx, 100, size)
			require.NoError(t, err)
			c := fill.NewCanvas(all.Crop(size))
			if base.Whole {
				c.Load(all.Crop(size))
			}
			for k := len(strokes) - 1; k >= 0; k-- {
				require.NoError(t, e.paintStroke(ctx, c, strokes[k], 100))
			}
			want, worst := c.Layer(), 0.0
			for k, v := range want.Pix {
				px := image.Pt(want.Rect.Min.X+k/4%want.Rect.Dx(), want.Rect.Min.Y+k/4/want.Rect.Dx())
				if px.In(got.Rect) {
					worst = math.Max(worst, math.Abs(float64(v-got.At(px.X, px.Y)[k%4])))
				} else {
					worst = math.Max(worst, math.Abs(float64(v)))
				}
			}
			assert.Zero(t, worst, "seed %d: %s at %.0f, %.0f", seed, strokes[0].Stroke.Mode, x, y)
		}
	}
}
