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

	"jardin/core/gather"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// wide is a plate of full size that costs nothing to read: a ground that is moved by whole pixels.
type wide struct{}

var (
	wideOnce sync.Once
	wideMade *raster.Image
)

func wideGround() *raster.Image {
	m := raster.NewImage(image.Rect(0, 0, 2300, 1200))
	for i := range m.Pix {
		m.Pix[i] = 0.2 + 0.1*float32((i*7919)%97)/97
		if i%4 == 3 {
			m.Pix[i] = 1
		}
	}
	return m
}

func (wide) Size() image.Rectangle { return image.Rect(0, 0, 1920, 1080) }
func (wide) Key() string           { return "wide" }
func (wide) White() float32        { return 1 }
func (wide) Has(n int) bool        { return n >= 0 && n < 75 }
func (wide) Linear(_ context.Context, n int, rect image.Rectangle) (*raster.Image, error) {
	wideOnce.Do(func() { wideMade = wideGround() })
	return &raster.Image{Rect: wideMade.Rect.Sub(image.Pt(4*n, n)), Pix: wideMade.Pix}, nil
}

// BenchmarkThroughTime gathers for a matte of 300 x 600 on frames of 1920 x 1080 from 75: once for all,
// and on every frame, once begun.
func BenchmarkThroughTime(b *testing.B) {
	for _, asSeen := range []bool{false, true} {
		for _, live := range []bool{false, true} {
			b.Run(fmt.Sprintf("live %v, as seen %v", live, asSeen), func(b *testing.B) {
				c := crossingWide(b, treatment.Gathering{Frame: 37, Over: 75, Live: live, AsSeen: asSeen})
				e := &Evaluator{Plate: wide{}, Cache: memo.New(1 << 30)}
				at := func(n int) {
					_, err := e.Frame(context.Background(), c, n, ResultView, "")
					require.NoError(b, err)
				}
				if !live {
					for b.Loop() {
						e.Cache = memo.New(1 << 30)
						at(37)
					}
					return
				}
				at(20)
				n := 20
				for b.Loop() {
					if n++; n == 55 { // from the other end, all but begun
						e.Cache, n = memo.New(1<<30), 20
					}
					at(n)
				}
			})
		}
	}
}

// crossingWide is a treatment that takes something of 300 x 600 away that crosses the picture.
func crossingWide(t require.TestingT, g treatment.Gathering) *Treatment {
	d := treatment.New()
	data := &treatment.Data{}
	outline := treatment.Shape{ID: "o", Kind: treatment.Outline, Home: 37, Ride: treatment.Still}
	if g.Live {
		g.Frame = 0
	}
	for n := range 75 {
		// A thousandth of turning, so that nothing is copied pixel by pixel.
		sin, cos := math.Sincos(0.001 * float64(n-37))
		data.Samples = append(data.Samples, treatment.Sample{Frame: n, Matrix: geom.Homography{
			cos, -sin, -4 * float64(n-37), sin, cos, -float64(n - 37), 0, 0, 1,
		}})
		x := 100 + 18*float64(n)
		var knots []treatment.Knot
		for _, p := range [][2]float64{{x, 200}, {x + 300, 200}, {x + 300, 800}, {x, 800}} {
			knots = append(knots, treatment.Knot{At: treatment.Vec{p[0], p[1]}})
		}
		outline.Points = knots
		outline.Keys = append(outline.Keys, treatment.ShapeKey{Frame: n, Ease: treatment.Linear, Points: knots})
	}
	d.Tracks = []treatment.Track{{ID: "t", Kind: treatment.GivenTrack, Home: 37, Motion: geom.Perspective, Data: data}}
	d.Removals = []treatment.Removal{{
		ID: "r", Range: treatment.Range{First: 0, Last: 74}, Reference: 37,
		Mark:   treatment.Mark{Outlines: []treatment.Shape{outline}},
		Follow: treatment.Follow{Track: "t"}, Settle: treatment.Settle{Opacity: 1},
		Fill: treatment.Fill{Sources: []treatment.Source{{ID: "g", Kind: treatment.Gathered, Gathered: &g}}},
	}}
	if !g.Live {
		d.Removals[0].Range = treatment.Range{First: 37, Last: 37}
	}
	c, err := Compile(d)
	require.NoError(t, err)
	return c
}

// Frames to spare: each place is shown by three of those that are chosen, where so many show it, and no more are
// chosen than may be.
func TestFramesToSpare(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 6))
	for range 200 {
		places, frames := 1+rng.IntN(60), 1+rng.IntN(20)
		shown, quality := make([]gather.Bits, frames), make([]float64, frames)
		for k := range shown {
			shown[k], quality[k] = gather.NewBits(places), 1
			for i := range places {
				if rng.IntN(3) == 0 {
					shown[k].Add(i)
				}
			}
		}
		first, _ := gather.Cover(shown, quality, frames)
		chosen := spare(shown, quality, first, frames)
		assert.Equal(t, first, chosen[:len(first)])
		count := func(some []int, i int) (n int) {
			for _, k := range some {
				if shown[k].Has(i) {
					n++
				}
			}
			return n
		}
		for i := range places {
			all := 0
			for k := range frames {
				if shown[k].Has(i) {
					all++
				}
			}
			assert.GreaterOrEqual(t, count(chosen, i), min(all, 3))
		}
		assert.LessOrEqual(t, len(spare(shown, quality, first, len(first)+1)), len(first)+1)
		for _, q := range quality {
			assert.EqualValues(t, 1, q, "it is not changed")
		}
	}
}

// Up to the very edge of the picture a place is seen where a frame shows it.
func TestTheEdgeOfThePictureIsSeen(t *testing.T) {
	plate := drawing("edge", func(x, y float64, c int) float64 { return 0.2 + 0.1*math.Sin(x)*math.Sin(y/2) })
	d := onSquare(treatment.Source{ID: "g", Kind: treatment.Gathered, Gathered: &treatment.Gathering{Live: true, Over: 3}})
	corner, away := square("o", image.Rect(-5, -5, 20, 20), 6, treatment.Still), square("o", image.Rect(90, 90, 120, 120), 6, treatment.Still)
	for _, n := range []int{5, 6, 7} {
		points := away.Points
		if n == 6 {
			points = corner.Points
		}
		corner.Keys = append(corner.Keys, treatment.ShapeKey{Frame: n, Ease: treatment.Linear, Points: points})
	}
	d.Removals[0].Mark.Outlines = []treatment.Shape{corner}
	e := &Evaluator{Plate: plate, Cache: memo.New(1 << 26)}
	c := compile(t, d)
	share, err := e.Seen(context.Background(), c, "r", "g", 6, false)
	require.NoError(t, err)
	assert.Equal(t, share.All, share.Seen)
	assert.Equal(t, 20*20, share.All)
	r, err := e.Frame(context.Background(), c, 6, ResultView, "")
	require.NoError(t, err)
	for _, p := range []image.Point{{0, 0}, {19, 0}, {0, 19}, {7, 7}} {
		assert.InDelta(t, plate.m.At(p.X, p.Y)[1], r.At(p.X, p.Y)[1], 1e-3)
	}
}
