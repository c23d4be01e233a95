package check

import (
	"image"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/geom"
	"jardin/core/raster"
)

// scene makes takes of a still grey wall with grain of deviation 4; deliver says
// what was delivered for a frame, from its truth and a second take's grain.
func scene(frames int, deliver func(n int, truth, second *raster.Image) *raster.Image) ([]Take, *raster.Plane) {
	r := image.Rect(0, 0, 60, 60)
	rng := rand.New(rand.NewPCG(9, 9))
	grainy := func() *raster.Image {
		m := raster.NewImage(r)
		for i := range m.Pix {
			m.Pix[i] = float32(120 + 4*rng.NormFloat64())
			if i%4 == 3 {
				m.Pix[i] = 1
			}
		}
		return m
	}
	clean := raster.NewImage(r)
	for i := range clean.Pix {
		clean.Pix[i] = 120
	}
	matte := raster.NewPlane(r)
	for y := 20; y < 40; y++ {
		for x := 20; x < 40; x++ {
			matte.Pix[y*60+x] = 1
		}
	}
	var takes []Take
	for n := range frames {
		truth, second := grainy(), grainy()
		takes = append(takes, Take{n, deliver(n, truth, second), truth, clean, matte, geom.Identity.Apply})
	}
	return takes, matte
}

func TestASecondTakeMeasuresOne(t *testing.T) {
	rep := Measure(scene(30, func(_ int, _, second *raster.Image) *raster.Image { return second }))
	for name, f := range map[string]Figure{
		"invisibility": rep.Invisibility, "steadiness": rep.Steadiness, "seam": rep.Seam,
		"flicker": rep.Flicker, "red grain": rep.Grain[0], "blue grain": rep.Grain[2],
	} {
		assert.InDelta(t, 1, f.All, 0.04, name)
	}
}

// A held patch without moving grain: the invented part cancels in steadiness, and
// what is left is the truth's own grain, 1 over the root of 2. It has no grain.
func TestAHeldPatchIsSteadyButDead(t *testing.T) {
	rep := Measure(scene(60, func(_ int, truth, _ *raster.Image) *raster.Image {
		held := truth.Crop(truth.Rect)
		for i := range held.Pix {
			if i%4 != 3 {
				held.Pix[i] = 150
			}
		}
		return held
	}))
	assert.InDelta(t, 0.707, rep.Steadiness.All, 0.02)
	assert.Greater(t, rep.Invisibility.All, 4.0, "the wrong tone shows in invisibility")
	assert.Less(t, rep.Grain[1].All, 0.01)
}

func TestFlickerFindsTheFrame(t *testing.T) {
	rep := Measure(scene(20, func(n int, _, second *raster.Image) *raster.Image {
		if n == 12 {
			for i := range second.Pix {
				if i%4 != 3 {
					second.Pix[i] += 10
				}
			}
		}
		return second
	}))
	assert.Contains(t, []int{12, 13}, rep.Flicker.Frame)
	assert.Greater(t, rep.Flicker.Worst, 5.0)
	assert.Equal(t, 12, rep.Steadiness.Frame)
}
