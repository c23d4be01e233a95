package render

import (
	"context"
	"fmt"
	"image"
	"math"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// A street is a textured surface that moves, in light and softness that change, with grain; strangers pass beside what is
// marked, unmarked themselves: a strip or a disc with a texture of its own that covers a part of the surroundings.
type street struct {
	seed   uint64
	strips bool    // on frames 103 to 106
	most   float64 // how much of the surroundings is covered, by width of 200 pixels
	whole  bool    // but for a strip of 20 pixels all is covered
	sharp  bool    // it is as sharp on all frames
	layer  bool    // all beyond a line is another layer, which moves by itself on all frames
}

const streetFirst, streetLast = 96, 112

var streetTexture = func() [2]*raster.Image {
	var out [2]*raster.Image
	for k := range out {
		rng := rand.New(rand.NewPCG(11, uint64(k)))
		m := raster.NewImage(image.Rect(0, 0, 520, 440))
		for _, scale := range []float64{0.9, 2, 5} {
			layer := raster.NewImage(m.Rect)
			for i := range layer.Pix {
				layer.Pix[i] = float32(rng.NormFloat64() * scale)
			}
			layer = raster.GaussianImage(layer, scale)
			for i := range m.Pix {
				m.Pix[i] += layer.Pix[i]
			}
		}
		for i := range m.Pix {
			m.Pix[i] = max(0.25+float32(k)*0.12+0.2*m.Pix[i], 0.02)
			if i%4 == 3 {
				m.Pix[i] = 1
			}
		}
		out[k] = m
	}
	return out
}()

func (street) Size() image.Rectangle { return image.Rect(0, 0, 240, 200) }
func (s street) Key() string         { return fmt.Sprint("street ", s) }
func (street) White() float32        { return 1 }
func (street) Has(n int) bool        { return n >= streetFirst && n <= streetLast }

func (street) motion(n int) geom.Homography {
	k := float64(n - 100)
	return geom.Translation(geom.Pt(1.7*k, -0.8*k))
}

func (street) gain(n int) float64 { return 1 + 0.05*math.Sin(float64(n)*0.7) }

// soft is the sigma that a frame is softer by than the hundredth.
func (s street) soft(n int) float64 {
	if s.sharp {
		return 0
	}
	return 0.25 * math.Abs(float64(n-100))
}

func (s street) Linear(_ context.Context, n int, rect image.Rectangle) (*raster.Image, error) {
	if !s.Has(n) {
		return nil, &Beyond{n, streetFirst, streetLast}
	}
	made, _ := passed.LoadOrStore([2]any{s, n}, sync.OnceValue(func() *raster.Image { return s.frame(n) }))
	return made.(func() *raster.Image)().Crop(rect), nil
}

func (s street) frame(n int) *raster.Image {
	onto := func(texture int, by geom.Homography) *raster.Image {
		back, _ := by.Inverse()
		return raster.Warp(streetTexture[texture], geom.Translation(geom.Pt(130, 120)).Mul(back), s.Size())
	}
	m := onto(0, s.motion(n))
	rng := rand.New(rand.NewPCG(s.seed, 1))
	angle, far := rng.Float64()*2*math.Pi, 22+6*rng.Float64()
	cos, sin := math.Cos(angle), math.Sin(angle)
	width := s.most * 200
	var other *raster.Image
	if s.layer {
		other = onto(1, geom.Translation(geom.Pt(-4*float64(n-100), 3*float64(n-100))))
		width = 400
	} else if s.strips && n >= 103 && n <= 106 {
		other = onto(1, geom.Translation(geom.Pt(17*float64(n-100), 9*float64(n-100))))
	}
	if other != nil {
		h := s.motion(n)
		c := h.Apply(geom.Pt(120, 100))
		for y := range 200 {
			for x := range 240 {
				d := (float64(x)-c.X)*cos + (float64(y)-c.Y)*sin
				if d > far && d < far+width || s.whole && d < far-20 {
					m.Set(x, y, other.At(x, y))
				}
			}
		}
	}
	if b := s.soft(n); b > 0 {
		m = raster.GaussianImage(m, b)
	}
	grain := rand.New(rand.NewPCG(s.seed, uint64(n)))
	g := float32(s.gain(n))
	for i := range m.Pix {
		if i%4 != 3 {
			v := m.Pix[i] * g
			m.Pix[i] = max(v+0.012*float32(math.Sqrt(math.Max(float64(v), 0))*grain.NormFloat64()), 0)
		}
	}
	return m
}

func (s street) document() *treatment.Document {
	d := document()
	d.Tracks[0].Data.Samples = nil
	for n := streetFirst; n <= streetLast; n++ {
		d.Tracks[0].Data.Samples = append(d.Tracks[0].Data.Samples, treatment.Sample{Frame: n, Matrix: s.motion(n)})
	}
	r := &d.Removals[0]
	r.Reference, r.Range = 100, treatment.Range{First: streetFirst, Last: streetLast}
	r.Mark.Outlines = []treatment.Shape{square("o", image.Rect(105, 85, 135, 115), 100, "t")}
	r.Fill.Sources = []treatment.Source{
		{ID: "p", Name: "p", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: 100, Whole: true}},
	}
	r.Settle.Light = &treatment.Light{Scale: 20, Strength: 1, Over: 4}
	r.Settle.Softness = &treatment.Softness{Match: true, Over: 3}
	return d
}

// off is how far light and softness are from the truth on the worst frame.
func (s street) off(t *testing.T) (light, soft float64) {
	c := compile(t, s.document())
	e := &Evaluator{Plate: s, Cache: memo.New(1 << 27)}
	for n := streetFirst; n <= streetLast; n++ {
		m, ok, err := e.Measure(context.Background(), c, "a", n)
		require.NoError(t, err)
		require.True(t, ok)
		for ch := range 3 {
			light = math.Max(light, math.Abs(m.Light[ch]/(s.gain(n)/s.gain(100))-1))
		}
		soft = math.Max(soft, math.Abs(m.Blur-s.soft(n)))
		if passed := s.strips && n >= 103 && n <= 106; !s.layer {
			assert.Equal(t, passed, m.Disturbed(), "%+v on %d: %.2f is strange", s, n, m.Strange)
			assert.Equal(t, passed, m.Advice != "", "%+v on %d: %s", s, n, m.Advice)
		}
	}
	return light, soft
}

// Who passes beside the patch, or another layer there, moves neither light nor softness: unmarked strips that cover up to half
// of the surroundings changed light by 6 to 11 percent when they were believed, and softness by up to 0.6 pixels. Of a layer
// that is always there, light is known on one side only.
func TestStrangersBesideThePatch(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	for seed := range uint64(3) {
		for _, c := range []struct {
			street
			light float64
		}{
			{street{seed: seed}, 0.012},
			{street{seed: seed, strips: true, most: 0.2}, 0.035},
			{street{seed: seed, strips: true, most: 1}, 0.035},
			{street{seed: seed, layer: true}, 0.07},
		} {
			light, soft := c.off(t)
			t.Logf("%+v: light %.3f, softness %.2f px", c.street, light, soft)
			assert.Less(t, light, c.light, "%+v", c.street)
			assert.Less(t, soft, 0.26, "%+v", c.street) // less than 0.3 is not believed
		}
	}
}

// Where nearly nothing of the surface is left to see, light is not believed: it is taken from before and after.
func TestLightOnALittleIsTakenFromAround(t *testing.T) {
	for seed := range uint64(4) {
		s := street{seed: seed, strips: true, most: 1, whole: true}
		var least, most float64 = 2, 0
		for n := 99; n <= 110; n++ {
			least, most = math.Min(least, s.gain(n)/s.gain(100)), math.Max(most, s.gain(n)/s.gain(100))
		}
		c := compile(t, s.document())
		e := &Evaluator{Plate: s, Cache: memo.New(1 << 27)}
		for n := 102; n <= 107; n++ {
			m, ok, err := e.Measure(context.Background(), c, "a", n)
			require.NoError(t, err)
			require.True(t, ok)
			assert.Equal(t, n >= 103 && n <= 106, m.Unsure, "%d: %.3f", n, m.Error)
			if m.Unsure {
				assert.Contains(t, m.Advice, "before and after")
				for ch := range 3 { // it flickers, which nobody can know: nothing is said that is not so on any frame around
					assert.Greater(t, m.Light[ch], least-0.02, "on %d", n)
					assert.Less(t, m.Light[ch], most+0.02, "on %d", n)
				}
			}
		}
	}
}

// Grain is measured on what is the surface: another layer beside it, and who passes, is not taken for grain. When they were,
// it came out by a half to two thirds too strong beside a layer, and up to 2.7 times where strips pass. What is still too much
// is fine texture that is carried by parts of pixels.
func TestGrainBesideStrangers(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	for seed := range uint64(4) {
		for _, s := range []street{
			{seed: seed}, {seed: seed, layer: true}, {seed: seed, strips: true, most: 1},
		} {
			s.sharp = true
			c := compile(t, s.document())
			e := &Evaluator{Plate: s, Cache: memo.New(1 << 27), Short: memo.New(1 << 27)}
			var samples []settle.GrainSample
			for _, n := range []int{100, 102, 104, 105, 107} {
				one, err := e.GrainSample(context.Background(), c, "a", n)
				require.NoError(t, err)
				samples = append(samples, *one)
			}
			g, ok := settle.MeasureGrain(samples)
			require.True(t, ok)
			for ch := range 3 {
				assert.InEpsilon(t, 0.012*math.Sqrt(0.25), g.At(ch, 0.25), 0.3, "%+v", s)
			}
			assert.Less(t, g.Size(), 1.1, "%+v: it is white", s)
		}
	}
}
