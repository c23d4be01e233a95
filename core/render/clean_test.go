package render

import (
	"context"
	"fmt"
	"image"
	"math"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

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
