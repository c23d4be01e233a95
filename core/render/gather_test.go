package render

import (
	"context"
	"image"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// Frames around one are brought to it as one would by hand, pixel by pixel: carried from all of
// the frame, and counting where the place they come from is in the picture and not hidden.
func TestFramesAreGathered(t *testing.T) {
	ctx := context.Background()
	rng := rand.New(rand.NewPCG(3, 14))
	d := document()
	d.Tracks[0].Exclusions = []treatment.Shape{square("x", image.Rect(40, 30, 61, 47), 100, treatment.Still)}
	r := compile(t, d).removal("a")
	e := &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 24), Short: memo.New(1 << 24)}
	size := e.Plate.Size()
	region := image.Rect(7, 5, size.Max.X-9, size.Max.Y-4)
	var frames []neighbourFrame
	for k := 97; k < 104; k++ {
		sin, cos := math.Sincos(rng.Float64() - 0.5)
		m := geom.Homography{
			cos, -sin, 30*rng.Float64() - 10, sin, cos, 30*rng.Float64() - 15, 2e-4 * rng.Float64(), 0, 1,
		}
		f := neighbourFrame{Frame: k, Map: warp.Of(m), Out: r.occluders(k, false)}
		if k == 100 {
			f.Out = nil
		}
		frames = append(frames, f)
	}
	far := neighbourFrame{Frame: 98, Map: warp.Of(geom.Translation(geom.Pt(4000, 0)))}
	given, hiding, leaving := 0, 0, 0
	err := e.gather(ctx, append(frames, far), region, func(_ int, carried *raster.Image, counts *raster.Plane) {
		f := frames[given]
		given++
		whole, err := e.Plate.Linear(ctx, f.Frame, size)
		require.NoError(t, err)
		want := warp.Image(whole, f.Map, region)
		assert.Equal(t, want.Pix, carried.Pix)
		if f.Out == nil {
			assert.Nil(t, counts)
			return
		}
		hidden, err := f.Out.cover(ctx, e, size)
		require.NoError(t, err)
		for y := region.Min.Y; y < region.Max.Y; y++ {
			for x := region.Min.X; x < region.Max.X; x++ {
				q := f.Map.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))
				at := image.Pt(int(math.Floor(q.X)), int(math.Floor(q.Y)))
				switch {
				case !at.In(size.Inset(-1)):
					leaving++
					assert.Zero(t, counts.At(x, y), "beyond the picture")
				case hidden.At(at.X, at.Y) > 0:
					hiding++
					assert.Zero(t, counts.At(x, y), "hidden")
				case at.In(size.Inset(2)):
					assert.EqualValues(t, 1, counts.At(x, y))
				}
			}
		}
	})
	require.NoError(t, err)
	assert.Equal(t, len(frames), given, "what does not reach the region is left out")
	assert.Greater(t, hiding, 500)
	assert.Greater(t, leaving, 500)

	stopped, stop := context.WithCancel(ctx)
	stop()
	err = e.gather(stopped, frames, region, func(int, *raster.Image, *raster.Plane) { t.Error("it was stopped") })
	assert.ErrorIs(t, err, context.Canceled)
}

func TestSpreadNumbersAreAllThere(t *testing.T) {
	for n := range 70 {
		got := farApart(n)
		assert.Len(t, got, n)
		assert.Len(t, slices.Compact(slices.Sorted(slices.Values(got))), n)
		if n >= 16 {
			first := slices.Sorted(slices.Values(got[:8]))
			for i := 1; i < 8; i++ {
				assert.LessOrEqual(t, first[i]-first[i-1], n/4+1, "they lie far apart")
			}
		}
	}
}
