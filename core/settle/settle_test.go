package settle

import (
	"image"
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/raster"
)

// Porter & Duff 1984, "over" with premultiplied colour, worked by hand: a patch
// of light 0.8 and alpha 0.5 (so 0.4 premultiplied) through a matte of 0.5 at
// opacity 0.5 has the weight 0.125, over light 0.2: 0.8*0.125 + 0.2*0.875.
func TestLayIsOverThroughAMatte(t *testing.T) {
	r := image.Rect(0, 0, 3, 1)
	picture, patch := raster.NewImage(r), raster.NewImage(r)
	through, touched := raster.NewPlane(r), raster.NewPlane(r)
	for x := range 3 {
		picture.Set(x, 0, [4]float32{0.2, 0.2, 0.2, 1})
	}
	patch.Set(0, 0, [4]float32{0.4, 0.4, 0.4, 0.5})
	patch.Set(1, 0, [4]float32{0.9, 0.9, 0.9, 1})
	copy(through.Pix, []float32{0.5, 0, 1})
	Composite(picture, Patch{Image: patch}, through, 0.5, Normal, touched, nil)
	assert.InDelta(t, 0.275, picture.At(0, 0)[0], 1e-6)
	assert.Equal(t, [4]float32{0.2, 0.2, 0.2, 1}, picture.At(1, 0), "no matte, no change")
	assert.Equal(t, [4]float32{0.2, 0.2, 0.2, 1}, picture.At(2, 0), "no paint, no change")
	assert.Equal(t, []float32{1, 0, 0}, touched.Pix)
}
