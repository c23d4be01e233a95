package media

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the library writes, the standard library reads; it is as near to the picture as
// what that writes at the same quality (both scale the tables of ITU-T T.81, annex K).
func TestJPEGAgainstTheStandardLibrary(t *testing.T) {
	const w, h = 61, 35
	rgb := make([]byte, 3*w*h)
	picture := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			px := color.NRGBA{byte(40 + 2*x), byte(30 + 3*y), byte(230 - x - 2*y), 255}
			copy(rgb[3*(y*w+x):], []byte{px.R, px.G, px.B})
			picture.SetNRGBA(x, y, px)
		}
	}
	far := func(data []byte, chroma image.YCbCrSubsampleRatio) float64 {
		m, err := jpeg.Decode(bytes.NewReader(data))
		require.NoError(t, err)
		require.Equal(t, picture.Rect, m.Bounds())
		assert.Equal(t, chroma, m.(*image.YCbCr).SubsampleRatio)
		sum := 0.0
		for i := range w * h {
			got := color.NRGBAModel.Convert(m.At(i%w, i/w)).(color.NRGBA)
			for k, v := range []byte{got.R, got.G, got.B} {
				sum += math.Pow(float64(v)-float64(rgb[3*i+k]), 2)
			}
		}
		return math.Sqrt(sum / (3 * w * h))
	}
	var theirs bytes.Buffer
	require.NoError(t, jpeg.Encode(&theirs, picture, &jpeg.Options{Quality: 95}))
	reference := far(theirs.Bytes(), image.YCbCrSubsampleRatio420)
	half, err := encodeJPEG(rgb, w, h, 95, turboHalf)
	require.NoError(t, err)
	assert.Less(t, far(half, image.YCbCrSubsampleRatio420), 1.1*reference)
	whole, err := encodeJPEG(rgb, w, h, 95, turboWhole)
	require.NoError(t, err)
	assert.Less(t, far(whole, image.YCbCrSubsampleRatio444), reference)
	_, err = encodeJPEG(make([]byte, 10), 2, 2, 90, turboWhole)
	assert.ErrorContains(t, err, "do not make 2 x 2 pixels")
}
