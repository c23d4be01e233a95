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

// A panned plate is a texture that a camera goes along with its shutter open for some of each frame's time.
type panned struct {
	seed    uint64
	shutter float64 // degrees
}

func (panned) Size() image.Rectangle { return image.Rect(0, 0, 240, 200) }
func (p panned) Key() string         { return fmt.Sprint("panned ", p) }
func (panned) White() float32        { return 1 }
func (panned) Has(n int) bool        { return n >= streetFirst && n <= streetLast }

// motion at a time in frames: it starts, turns and goes back, by up to some 12 pixels a frame.
func (p panned) motion(n float64) geom.Homography {
	k := n - 100
	turn := float64(p.seed) * 1.3
	x, y := 40*math.Sin(0.27*k+turn)-40*math.Sin(turn), 14*math.Sin(0.4*k)
	return geom.Translation(geom.Pt(x, y))
}

func (p panned) Linear(_ context.Context, n int, rect image.Rectangle) (*raster.Image, error) {
	if !p.Has(n) {
		return nil, &Beyond{n, streetFirst, streetLast}
	}
	made, _ := passed.LoadOrStore([2]any{p, n}, sync.OnceValue(func() *raster.Image { return p.frame(n) }))
	return made.(func() *raster.Image)().Crop(rect), nil
}

func (p panned) frame(n int) *raster.Image {
	const times = 24
	m := raster.NewImage(p.Size())
	for i := range times {
		h := p.motion(float64(n) + p.shutter/360*((float64(i)+0.5)/times-0.5))
		back, _ := h.Inverse()
		one := raster.Warp(streetTexture[0], geom.Translation(geom.Pt(130, 120)).Mul(back), p.Size())
		for k, v := range one.Pix {
			m.Pix[k] += v / times
		}
	}
	grain := rand.New(rand.NewPCG(p.seed, uint64(n)))
	for i := range m.Pix {
		if i%4 != 3 {
			m.Pix[i] = max(m.Pix[i]+0.012*float32(math.Sqrt(math.Max(float64(m.Pix[i]), 0))*grain.NormFloat64()), 0)
		}
	}
	return m
}

func (p panned) document() *treatment.Document {
	d := street{}.document()
	for i, n := 0, streetFirst; n <= streetLast; i, n = i+1, n+1 {
		d.Tracks[0].Data.Samples[i] = treatment.Sample{Frame: n, Matrix: p.motion(float64(n))}
	}
	return d
}

// shutterOf is what is found of a plate.
func shutterOf(t *testing.T, p panned) (angle, deviation float64, ok bool) {
	c := compile(t, p.document())
	e := &Evaluator{Plate: p, Cache: memo.New(1 << 27), Short: memo.New(1 << 27)}
	var trials []settle.ShutterTrial
	pairs, err := e.ShutterPairs(context.Background(), c, "a", streetFirst, streetLast, 6)
	require.NoError(t, err)
	for _, pair := range pairs {
		var trial settle.ShutterTrial
		for _, a := range Shutters() {
			found, err := e.ShutterFit(context.Background(), c, "a", pair[0], pair[1], a)
			require.NoError(t, err)
			trial.Left, trial.Pixels = append(trial.Left, found.Left), found.Pixels
		}
		trials = append(trials, trial)
	}
	return settle.FitShutter(Shutters(), trials)
}

func TestTheShutterIsFound(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	for seed := range uint64(2) {
		for _, angle := range [][]float64{{0, 180, 360}, {90, 270}}[seed] {
			got, deviation, ok := shutterOf(t, panned{seed: seed, shutter: angle})
			t.Logf("%v: %.0f, +- %.1f", angle, got, deviation)
			assert.True(t, ok)
			assert.InDelta(t, angle, got, 20)
			assert.Less(t, deviation, 12.0)
			assert.Less(t, math.Abs(got-angle), 3*deviation)
		}
	}
}
