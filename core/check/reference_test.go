package check

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/geom"
	"jardin/core/raster"
)

func textured(seed uint64) *raster.Plane {
	r := rand.New(rand.NewPCG(seed, 1))
	p := raster.NewPlane(image.Rect(0, 0, 160, 120))
	for i := range p.Pix {
		p.Pix[i] = 0.5 + 0.15*float32(r.NormFloat64())
	}
	return raster.Gaussian(p, 0.7)
}

func TestTheSharpEvenFrameWins(t *testing.T) {
	box := geom.Box{Min: geom.Pt(60, 40), Max: geom.Pt(100, 80)}.Corners()
	look := func(n int, p *raster.Plane) FrameScore {
		l := FrameScore{Frame: n, Size: 1600, Inside: 1, Clear: 1}
		l.Around(p, box[:])
		return l
	}
	shaded := textured(1)
	for i := range shaded.Pix {
		shaded.Pix[i] *= 0.5 + float32(i%160)/160
	}
	all := []FrameScore{look(1, raster.Gaussian(textured(1), 1.5)), look(2, textured(1)), look(3, shaded)}
	assert.Greater(t, all[1].Sharpness, 1.5*all[0].Sharpness)
	assert.Greater(t, all[1].Evenness, all[2].Evenness+0.3)
	ranked, words := Rank(all)
	assert.Equal(t, 2, ranked[0].Frame)
	assert.Contains(t, words, "Frame 2: it is as sharp as any")
	assert.Contains(t, words, "the light on it is even")

	// Sharpness is a ratio of bands: more contrast alone does not make a frame sharper.
	louder := textured(1)
	for i := range louder.Pix {
		louder.Pix[i] = 0.5 + 1.5*(louder.Pix[i]-0.5)
	}
	assert.InEpsilon(t, all[1].Sharpness, look(4, louder).Sharpness, 1e-3)
}

func TestWhatIsCutCoveredSmallOrSmearedLoses(t *testing.T) {
	good := FrameScore{Frame: 5, Sharpness: 1, Evenness: 1, Size: 900, Inside: 1, Clear: 1}
	for name, spoil := range map[string]func(*FrameScore){
		"cut":     func(l *FrameScore) { l.Inside = 0.7 },
		"covered": func(l *FrameScore) { l.Clear = 0.6 },
		"small":   func(l *FrameScore) { l.Size = 300 },
		"smeared": func(l *FrameScore) { l.Smear = 3 },
	} {
		bad := good
		bad.Frame = 1
		spoil(&bad)
		ranked, _ := Rank([]FrameScore{bad, good})
		assert.Equal(t, 5, ranked[0].Frame, name)
		assert.Less(t, ranked[1].Score, 0.8*ranked[0].Score, name)
		_, words := Rank([]FrameScore{bad})
		assert.NotContains(t, words, "NaN")
	}
	worst := good
	worst.Inside, worst.Smear = 0.5, 2.5
	_, words := Rank([]FrameScore{worst})
	assert.Contains(t, words, "But it moves 2.5 px while the shutter is open, 50 % of it is cut off")
	none, words := Rank(nil)
	assert.Empty(t, none)
	assert.Contains(t, words, "none of the frames")
	assert.False(t, math.IsNaN(good.Score))
}
