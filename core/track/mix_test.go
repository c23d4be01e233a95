package track

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
)

// inMix is a mix of three planes.
func inMix(of [3]*raster.Plane, w colorspace.Mix) *raster.Plane {
	out := raster.NewPlane(of[0].Rect)
	for i := range out.Pix {
		out.Pix[i] = w[0]*of[0].Pix[i] + w[1]*of[1].Pix[i] + w[2]*of[2].Pix[i]
	}
	return out
}

// inkedIn is a gray photograph with ink that takes a share of each channel away, and each channel's own grain.
func inkedIn(gray, ink *raster.Plane, share, grain [3]float64, seed uint64) (out [3]*raster.Plane) {
	for c := range out {
		p := raster.NewPlane(gray.Rect)
		for i, v := range gray.Pix {
			p.Pix[i] = v * (1 - float32(share[c])*ink.Pix[i])
		}
		out[c] = noisy(p, grain[c], 10*seed+uint64(c))
	}
	return out
}

// Where all channels show the same, the mix is the one of least variance: weights by the inverse of each channel's (Aitken 1935).
func TestTheMixOfGrayIsThatOfLeastGrain(t *testing.T) {
	gray := raster.Gaussian(photograph(t, "graf1.png").Crop(image.Rect(100, 80, 420, 330)), 1.5)
	corners := geom.Box{Min: geom.Pt(110, 90), Max: geom.Pt(410, 320)}.Corners()
	rng := rand.New(rand.NewPCG(4, 2))
	for n := range 8 {
		var grain [3]float64
		for c := range grain {
			grain[c] = 0.012 * math.Exp2(rng.Float64()-0.5)
		}
		w := TextureMix(inkedIn(gray, raster.NewPlane(gray.Rect), [3]float64{}, grain, uint64(n)), corners[:], nil)
		var sum, noise, luma, inverse float64
		for c, v := range w {
			sum, noise = sum+float64(v), noise+math.Pow(float64(v)*grain[c], 2)
			luma, inverse = luma+math.Pow(float64(colorspace.LumaMix[c])*grain[c], 2), inverse+1/(grain[c]*grain[c])
		}
		got, least := math.Sqrt(noise)/sum, 1/math.Sqrt(inverse)
		assert.Less(t, got, 1.02*least, "grain %.4f, mix %.2f: luma has %.4f", grain, w, math.Sqrt(luma))
		assert.InEpsilon(t, math.Sqrt(luma), math.Sqrt(noise), 0.1, "grain is as strong as in luma")
	}
}

// Ink that one channel shows, as a red emblem on linen, is followed in that channel, and so by the mix, with much less error than in luma.
func TestInkIsFollowedInTheChannelThatShowsIt(t *testing.T) {
	shareOf(t, 3)
	v := wave{amplitude: 4, length: 150, phase: [4]float64{1, 2, 3, 4}}
	region := geom.Box{Min: geom.Pt(160, 130), Max: geom.Pt(480, 430)}
	corners := region.Corners()
	photo := photograph(t, "graf1.png")
	for only := range 3 {
		see := func(u float64, seed uint64) (out [3]*raster.Plane) {
			shown := v.frame(photo, u, 0, 1, 1)
			for c := range out {
				out[c] = raster.NewPlane(shown.Rect)
				for i, at := range shown.Pix {
					out[c].Pix[i] = 0.4
					if c == only {
						out[c].Pix[i] = 0.15 + 0.3*at
					}
				}
				out[c] = noisy(out[c], 0.012, 10*seed+uint64(c))
			}
			return out
		}
		home, there := see(0, 1), see(1, 2)
		mix := TextureMix(home, corners[:], nil)
		for c, w := range mix {
			if c != only {
				assert.Less(t, w, 0.1*mix[only])
			}
		}
		off := func(w colorspace.Mix) (mean float64) {
			h := inMix(home, w)
			s, err := NewSoft(show(h), h.Rect, corners[:], nil, SoftSettings{Stiffness: 0.3, Detail: 12})
			require.NoError(t, err)
			found, err := s.Step(show(inMix(there, w)), nil)
			if err != nil {
				return math.Inf(1)
			}
			n := 0.0
			for y := 140.0; y < 420; y += 7 {
				for x := 170.0; x < 470; x += 7 {
					q := geom.Pt(x, y)
					mean, n = mean+found.H.Apply(found.Bend.Bend(q)).Dist(v.at(q, 1)), n+1
				}
			}
			return mean / n
		}
		ours, luma := off(mix), off(colorspace.LumaMix)
		t.Logf("channel %d: mix %.2f, mean error %.3f px; in luma %.3f", only, mix, ours, luma)
		assert.Less(t, ours, []float64{0.5, 1, 0.5}[only]*luma, "of green luma is seven tenths")
	}
}

// What grain alone has of slopes is what is taken off for it, and grain is measured where there is least texture.
func TestGrainAsMixesMeasureIt(t *testing.T) {
	rect := image.Rect(0, 0, 320, 240)
	corners := geom.Box{Max: geom.Pt(320, 240)}.Corners()
	half := photograph(t, "graf1.png").Crop(rect) // the right half is plain
	for i := range half.Pix {
		if i%320 > 200 {
			half.Pix[i] = 0.4
		}
	}
	var of [3]*raster.Plane
	deviation := [3]float64{0.01, 0.014, 0.018}
	for c := range of {
		of[c] = noisy(half, deviation[c], uint64(c))
	}
	_, grain := textures(of, corners[:], nil)
	for c, v := range grain {
		assert.InEpsilon(t, deviation[c], math.Sqrt(v), 0.1)
	}
	for c := range of {
		of[c] = noisy(raster.NewPlane(rect), deviation[c], uint64(10+c))
	}
	blocks, _ := textures(of, corners[:], nil)
	for c := range of {
		var slopes float64
		for i := range blocks {
			slopes += (blocks[i][0][c][c] + blocks[i][2][c][c]) / 2 / float64(len(blocks))
		}
		assert.InEpsilon(t, smoothSlopes, slopes/(deviation[c]*deviation[c]), 0.25)
	}
	// A block that has so much beside grain's slopes, along either, is moved as that tells.
	const noise, along, across = 0.0003, 0.05, 0.2
	var b blockTexture
	b[0][1][1], b[2][1][1] = noise*(smoothSlopes+along), noise*(smoothSlopes+across)
	assert.InEpsilon(t, math.Sqrt(1/(mixPrior+along)+1/(mixPrior+across)), b.error([3]float64{0, 1, 0}, noise), 1e-9)
}

// The mix is a local least of what a slow search finds, whatever the channels; what is left out, and what is no number, tells nothing.
func TestMixesAtTheirWorst(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	photo := photograph(t, "graf1.png")
	for n := range 30 {
		rect := image.Rect(0, 0, 1+rng.IntN(120), 1+rng.IntN(90))
		var of [3]*raster.Plane
		for c := range of {
			x, y := rng.IntN(300), rng.IntN(300)
			of[c] = photo.Crop(rect.Add(image.Pt(x, y)))
			of[c].Rect = rect
			of[c] = noisy(of[c], 0.02*rng.Float64(), uint64(3*n+c))
		}
		region := []geom.Point{{X: 200*rng.Float64() - 40, Y: -5}, {X: 130 * rng.Float64(), Y: 90 * rng.Float64()}, {X: -20, Y: 120 * rng.Float64()}}
		mix := TextureMix(of, region, nil)
		blocks, grain := textures(of, region, nil)
		if len(blocks) == 0 {
			require.Equal(t, colorspace.LumaMix, mix)
			continue
		}
		cost := func(w [3]float64) (sum float64) {
			noise := w[0]*w[0]*grain[0] + w[1]*w[1]*grain[1] + w[2]*w[2]*grain[2]
			for i := range blocks {
				sum += blocks[i].error(w, noise)
			}
			return sum
		}
		ours := cost([3]float64{float64(mix[0]), float64(mix[1]), float64(mix[2])})
		for range 2000 {
			w := [3]float64{rng.ExpFloat64(), rng.ExpFloat64(), rng.ExpFloat64()}
			require.Less(t, 0.998*ours, cost(w), "%v", w)
		}
		for _, v := range mix {
			require.GreaterOrEqual(t, v, float32(0))
		}
		// What is left out or no number changes nothing but by what it would have told.
		all := [][]geom.Point{{{X: -1e3, Y: -1e3}, {X: 1e3, Y: -1e3}, {X: 1e3, Y: 1e3}, {X: -1e3, Y: 1e3}}}
		require.Equal(t, colorspace.LumaMix, TextureMix(of, region, all))
		spotted := of
		for c := range of {
			spotted[c] = of[c].Crop(rect)
			for i := range of[c].Pix {
				if (i/rect.Dx())%14 == 7 && i%rect.Dx()%14 == 7 {
					spotted[c].Pix[i] = float32(math.NaN())
				}
			}
		}
		for _, v := range TextureMix(spotted, region, nil) {
			require.Zero(t, v-v)
		}
		for c := range of {
			for i := range of[c].Pix {
				of[c].Pix[i] = []float32{float32(math.NaN()), float32(math.Inf(1)), 0}[rng.IntN(3)]
			}
		}
		for _, v := range TextureMix(of, region, nil) {
			require.Zero(t, v-v)
		}
	}
}
