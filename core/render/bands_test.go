package render

import (
	"context"
	"image"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/warp"
)

// A large frame is rid of grain in bands, so that it takes no more memory than a small one; they meet without a seam.
func TestGrainIsTakenOutInBands(t *testing.T) {
	defer func(pixels int) { denoisePixels = pixels }(denoisePixels)
	e := &Evaluator{Plate: wide{}, Cache: memo.New(1 << 30)}
	in := bareInput{Frame: 20, Denoise: &denoiseInput{Strength: [3]float64{1, 1, 1}}}
	for _, k := range []int{19, 21, 22} {
		in.Denoise.Helpers = append(in.Denoise.Helpers, neighbourFrame{Frame: k, Map: warp.Of(geom.Translation(geom.Pt(float64(4*(20-k)), float64(20-k))))})
	}
	whole, err := denoised(context.Background(), environment{e}, in)
	require.NoError(t, err)
	denoisePixels = 300_000
	bands := denoiseBands(e.Plate.Size())
	require.Len(t, bands, 7)
	at := 0
	for _, b := range bands {
		assert.Equal(t, image.Rect(0, at, 1920, b.Max.Y), b)
		at = b.Max.Y
	}
	assert.Equal(t, 1080, at)
	parts, err := denoised(context.Background(), environment{e}, in)
	require.NoError(t, err)
	worst, changed := 0.0, 0.0
	plate, err := e.Plate.Linear(context.Background(), 20, e.Plate.Size())
	require.NoError(t, err)
	for i, v := range whole.Pix {
		worst = math.Max(worst, math.Abs(float64(v-parts.Pix[i])))
		changed = math.Max(changed, math.Abs(float64(v-plate.Pix[i])))
	}
	t.Logf("bands are off by %.6f of light at most, where grain was changed by up to %.3f", worst, changed)
	assert.Greater(t, changed, 0.01)
	assert.Less(t, worst, 0.0005)
}
