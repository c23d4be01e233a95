package settle

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// surface is a made-up texture with strong contrast.
func surface(seed uint64, w, h int) *raster.Image {
	r := rand.New(rand.NewPCG(seed, 7))
	m := raster.NewImage(image.Rect(0, 0, w, h))
	for c := range 3 {
		p := raster.NewPlane(m.Rect)
		for i := range p.Pix {
			p.Pix[i] = float32(r.NormFloat64())
		}
		p = raster.Gaussian(p, 2)
		for i, v := range p.Pix {
			m.Pix[4*i+c] = max(0.25+0.5*v, 0.02)
			m.Pix[4*i+3] = 1
		}
	}
	return m
}

// grainy adds grain that is even on the square root of light.
func grainy(m *raster.Image, seed uint64, sigma float64) *raster.Image {
	r := rand.New(rand.NewPCG(seed, 8))
	out := m.Crop(m.Rect)
	for i := range out.Pix {
		if i%4 != 3 {
			v := max(math.Sqrt(float64(out.Pix[i]))+sigma*r.NormFloat64(), 0)
			out.Pix[i] = float32(v * v)
		}
	}
	return out
}

// estimated compares a plate with what is held outside of a hole.
func estimated(
	t *testing.T,
	plate, held *raster.Image,
	hole image.Rectangle,
	scale float64,
	hidden func(x, y int) bool,
) *GainField {
	b := plate.Rect
	g := NewGainEstimator(
		geom.Box{Min: geom.Pt(float64(b.Min.X), float64(b.Min.Y)), Max: geom.Pt(float64(b.Max.X), float64(b.Max.Y))},
		scale,
	)
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			if image.Pt(x, y).In(hole) || (hidden != nil && hidden(x, y)) {
				continue
			}
			p, h := plate.At(x, y), held.At(x, y)
			g.Add(geom.Pt(float64(x)+0.5, float64(y)+0.5), p[:], h[:])
		}
	}
	l, ok := g.Estimate(false)
	require.True(t, ok)
	return l
}

// A known change of light, a straight ramp over space times a flicker over time, is
// found within 1 % inside the hole, where it could not be measured: with grain; with
// the hole at the picture's edge; with something undeclared before a part of the rim.
func TestAKnownLightIsFoundInsideTheHole(t *testing.T) {
	const w, h = 200, 160
	clean := surface(1, w, h)
	cases := map[string]struct {
		hole   image.Rectangle
		passes bool
	}{
		"in the middle":        {image.Rect(60, 50, 140, 110), false},
		"at the edge":          {image.Rect(0, 50, 70, 110), false},
		"something before it":  {image.Rect(60, 50, 140, 110), true},
		"large, close to all":  {image.Rect(24, 24, 176, 136), false},
		"in a corner of frame": {image.Rect(140, 110, 200, 160), false},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			for frame, flicker := range []float64{1, 0.93, 1.08, 0.78} {
				gain := func(x, y, ch int) float64 {
					return flicker * (1 + 0.25*(float64(x)/w-0.5) - 0.18*(float64(y)/h-0.5)) * (1 + 0.03*float64(ch-1))
				}
				lit := clean.Crop(clean.Rect)
				for y := range h {
					for x := range w {
						for ch := range 3 {
							lit.Pix[4*(y*w+x)+ch] *= float32(gain(x, y, ch))
						}
					}
				}
				lit = grainy(lit, uint64(100+frame), 0.015)
				if c.passes { // dark and undeclared, over an eighth of the rim
					for y := 20; y < 48; y++ {
						for x := 70; x < 130; x++ {
							lit.Set(x, y, [4]float32{0.02, 0.02, 0.02, 1})
						}
					}
				}
				l := estimated(t, lit, grainy(clean, 5, 0.004), c.hole, 24, nil)
				worst := 0.0
				for y := c.hole.Min.Y; y < c.hole.Max.Y; y += 4 {
					for x := c.hole.Min.X; x < c.hole.Max.X; x += 4 {
						v := l.At(geom.Pt(float64(x)+0.5, float64(y)+0.5))
						for ch := range 3 {
							worst = math.Max(worst, math.Abs(math.Exp(v[ch])/gain(x, y, ch)-1))
						}
					}
				}
				assert.Less(t, worst, 0.01, "flicker %v", flicker)
			}
		})
	}
}

// Over time the level follows every flicker, while what grain does to the shape is
// averaged away.
func TestSteadyKeepsTheFlickerAndCalmsTheShape(t *testing.T) {
	const w, h, reach = 120, 100, 4
	clean, hole := surface(2, w, h), image.Rect(40, 30, 80, 70)
	var all []*GainField
	levels := []float64{1, 0.95, 1.04, 0.9, 1.1, 1, 0.97, 1.03, 0.92}
	for k, level := range levels {
		lit := clean.Crop(clean.Rect)
		for i := range lit.Pix {
			if i%4 != 3 {
				lit.Pix[i] *= float32(level)
			}
		}
		all = append(all, estimated(t, grainy(lit, uint64(k), 0.05), clean, hole, 16, nil))
	}
	shape, level := make([]float64, len(all)), make([]float64, len(all))
	for k := range all {
		shape[k] = 1
	}
	level[reach] = 1
	steady := all[reach].Smooth(all, shape, level)
	box := geom.Box{Min: geom.Pt(40, 30), Max: geom.Pt(80, 70)}
	assert.InDelta(t, math.Log(levels[reach]), steady.Mean(box)[1], 0.01, "the level is the frame's own")
	rough := func(l *GainField) (sum float64) {
		mean := l.Mean(box)[1]
		for y := 32.0; y < 70; y += 4 {
			for x := 42.0; x < 80; x += 4 {
				d := l.At(geom.Pt(x, y))[1] - mean
				sum += d * d
			}
		}
		return math.Sqrt(sum)
	}
	assert.Less(t, rough(steady), 0.6*rough(all[reach]))
	even := make([]float64, len(all))
	for k := range even {
		even[k] = 1
	}
	calm := all[reach].Smooth(all, shape, even)
	assert.InDelta(t, math.Log(0.99), calm.Mean(box)[1], 0.015, "averaged, the level does not flicker")
}

// What is lit by a light is multiplied by it; half the strength is its root.
func TestShine(t *testing.T) {
	l := &GainField{Nodes: image.Rect(0, 0, 3, 3), Step: 10}
	for c := range 3 {
		for range 9 {
			l.Log[c] = append(l.Log[c], math.Log(1.44))
		}
	}
	m := raster.NewImage(image.Rect(0, 0, 20, 20))
	for i := range m.Pix {
		m.Pix[i] = 0.5
	}
	ApplyGain(m, l, func(p geom.Point) geom.Point { return p }, 0.5)
	assert.InDelta(t, 0.6, m.At(7, 13)[1], 1e-6)
	assert.EqualValues(t, 0.5, m.At(7, 13)[3], "alpha stays")
}

// Worked out by hand: levels and shapes are averaged by their weights and by how sure each light is.
func TestSmoothWeighsByCertainty(t *testing.T) {
	light := func(variance float64, logs ...float64) *GainField {
		l := &GainField{Nodes: image.Rect(0, 0, len(logs), 1), Step: 10, Sure: 9, Variance: [3]float64{variance, variance, variance}}
		for c := range 3 {
			l.Log[c] = logs
		}
		return l
	}
	const best = bestLight * bestLight
	own := light(best, 0, 0)
	empty := light(best, 9, 9)
	empty.Sure = 0
	around := []*GainField{light(3*best, 1.2, 0.8), own, light(best, 2, 2), nil, empty}
	got := own.Smooth(around[:3], []float64{0.5, 1, 0.25}, []float64{0.25, 1, 0.5})
	level := (0.25/4*1 + 0 + 0.5/2*2) / (0.25/4 + 1./2 + 0.5/2)
	shape := 0.5 * 4 / 7 * 0.2 / (0.5*4/7 + 0.8 + 0.25*0.8)
	for c := range 3 {
		assert.InDelta(t, level+shape, got.Log[c][0], 1e-12)
		assert.InDelta(t, level-shape, got.Log[c][1], 1e-12)
	}
	// What is not known, and what rests on nothing, counts for nothing.
	got = own.Smooth([]*GainField{nil, own, empty}, []float64{1, 1, 1}, []float64{0, 1, 0})
	assert.Equal(t, own.Log, got.Log)
}

// A level that jumps on one frame is kept where it was measured well, and is not where that frame is unsure; where nothing
// was measured it goes on between. On a line nothing is changed.
func TestSteadyTakesTheUnsureFromAround(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	near := []float64{1, 1, 1, 1, 1, 1, 1, 1, 1}
	for range 300 {
		all := make([]Reading, 9)
		start, incline := rng.NormFloat64(), 0.1*rng.NormFloat64()
		for k := range all {
			all[k] = Reading{start + incline*float64(k) + 0.002*rng.NormFloat64(), sqr(0.002)}
		}
		truth := start + 4*incline
		got, trust := Steady(all, near)
		assert.InDelta(t, truth, got.Value, 0.009)
		assert.Less(t, got.Variance, sqr(0.002))
		assert.Less(t, trust, 1.0)
		all[4].Value += 0.2
		got, trust = Steady(all, near)
		assert.InDelta(t, truth+0.2, got.Value, 0.009, "a step that is sure stays")
		assert.Greater(t, trust, 0.99)
		all[4].Variance = sqr(0.1)
		got, trust = Steady(all, near)
		assert.InDelta(t, truth, got.Value, 0.012)
		assert.Less(t, trust, 0.05)
		all[4] = unknown
		all[rng.IntN(4)].Value += 3 // one of the others does not fit at all
		got, trust = Steady(all, near)
		assert.InDelta(t, truth, got.Value, 0.02)
		assert.Zero(t, trust)
		// Where every frame is another, its own is the best there is.
		for k := range all {
			all[k] = Reading{0.1 * rng.NormFloat64(), sqr(0.002)}
		}
		got, _ = Steady(all, near)
		assert.InDelta(t, all[4].Value, got.Value, 0.004)
	}
	none, trust := Steady([]Reading{unknown, unknown, unknown}, []float64{1, 1, 1})
	assert.True(t, math.IsInf(none.Variance, 1))
	assert.Zero(t, trust)
}
