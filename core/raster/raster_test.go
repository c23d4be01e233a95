package raster

import (
	"image"
	"math"
	"math/rand/v2"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/geom"
	"jardin/core/simd"
)

// Worked example from the kernel in Keys 1981, equation 8, at s = 1/2: the weights
// are -1/16, 9/16, 9/16, -1/16.
func TestCubicWeightsAgainstKeys(t *testing.T) {
	assert.Equal(t, [4]float32{-1. / 16, 9. / 16, 9. / 16, -1. / 16}, simd.Weights(0.5))
	assert.Equal(t, [4]float32{0, 1, 0, 0}, simd.Weights(0))
	w := simd.Weights(0.3)
	assert.InDelta(t, 1, w[0]+w[1]+w[2]+w[3], 1e-6)
}

// Keys shows that the kernel has third-order convergence: quadratics come out
// exactly.
func TestBicubicReproducesQuadratics(t *testing.T) {
	f := func(x, y float64) float64 { return 0.3 + 0.02*x - 0.01*y + 0.001*x*x + 0.002*x*y - 0.001*y*y }
	m := NewImage(image.Rect(-5, 3, 27, 35))
	for y := 3; y < 35; y++ {
		for x := -5; x < 27; x++ {
			v := float32(f(float64(x)+0.5, float64(y)+0.5))
			m.Set(x, y, [4]float32{v, v, v, 1})
		}
	}
	for _, p := range []geom.Point{{X: 4.1, Y: 9.9}, {X: 10.5, Y: 20.25}, {X: -2.75, Y: 30}} {
		got := m.Bicubic(p.X, p.Y)
		assert.InDelta(t, f(p.X, p.Y), got[0], 1e-5)
		assert.InDelta(t, 1, got[3], 1e-5)
	}
}

func noise(r image.Rectangle, seed uint64) *Image {
	rng := rand.New(rand.NewPCG(seed, 1))
	m := NewImage(r)
	for i := range m.Pix {
		m.Pix[i] = rng.Float32()
	}
	return m
}

func TestWarpByWholePixelsIsExact(t *testing.T) {
	src := noise(image.Rect(0, 0, 40, 30), 7)
	got := Warp(src, geom.Translation(geom.Pt(3, -2)), image.Rect(5, 10, 20, 20))
	for y := 10; y < 20; y++ {
		for x := 5; x < 20; x++ {
			assert.Equal(t, src.At(x+3, y-2), got.At(x, y), "an integer shift must copy every bit")
		}
	}
}

func TestBicubicOfColourAlone(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	m := noise(image.Rect(-7, 3, 23, 31), 4)
	for range 2000 {
		x, y := -10+36*rng.Float64(), 36*rng.Float64()
		if rng.IntN(4) == 0 {
			x, y = math.Floor(x)+0.5, math.Floor(y)+0.5
		}
		got, ok := m.BicubicRGB(x, y)
		if !ok {
			assert.False(t, x > -5 && x < 21 && y > 5 && y < 29)
			continue
		}
		want := m.Bicubic(x, y)
		for c := range 3 {
			assert.InDelta(t, want[c], got[c], 1e-5)
		}
	}
}

func TestWarpOutsideIsTransparent(t *testing.T) {
	src := noise(image.Rect(0, 0, 8, 8), 3)
	got := Warp(src, geom.Translation(geom.Pt(100.5, 0)), image.Rect(0, 0, 8, 8))
	for _, v := range got.Pix {
		assert.Zero(t, v)
	}
}

func TestBilinear(t *testing.T) {
	p := &Plane{image.Rect(10, 20, 12, 22), []float32{1, 2, 3, 5}}
	assert.EqualValues(t, 1, p.Bilinear(10.5, 20.5))
	assert.EqualValues(t, 2.75, p.Bilinear(11, 21), "the mean of the four")
	assert.EqualValues(t, 1, p.Bilinear(-50, -50), "the border goes on")
	assert.EqualValues(t, 5, p.Bilinear(99, 99))
}

func TestGridIsBilinearPointByPoint(t *testing.T) {
	m := noise(image.Rect(0, 0, 20, 16), 11)
	p := &Plane{image.Rect(3, 5, 23, 21), m.Pix[:320]}
	for _, at := range []geom.Point{{X: 8.3, Y: 9.7}, {X: 2, Y: 4}, {X: 19.5, Y: 18.2}} {
		var out [30]float32
		p.Grid(at.X, at.Y, 6, 5, out[:])
		for i, v := range out {
			assert.InDelta(t, p.Bilinear(at.X+float64(i%6), at.Y+float64(i/6)), v, 1e-5)
		}
	}
}

// A Gaussian of a unit impulse is the Gaussian; its variance is sigma squared.
func TestGaussianImpulse(t *testing.T) {
	p := NewPlane(image.Rect(0, 0, 41, 41))
	p.Pix[20*41+20] = 1
	g := Gaussian(p, 2)
	assert.InDelta(t, 1/(2*math.Pi*4), g.At(20, 20), 2e-4)
	var sum, second float64
	for y := range 41 {
		for x := range 41 {
			v := float64(g.At(x, y))
			sum += v
			second += v * float64((x-20)*(x-20))
		}
	}
	assert.InDelta(t, 1, sum, 1e-5)
	assert.InDelta(t, 4, second, 0.02)
	assert.Equal(t, p.Pix, Gaussian(p, 0).Pix)
}

// The coordinate rule in Half's comment, on a ramp, which the filter keeps.
func TestHalfKeepsRampsInPlace(t *testing.T) {
	p := NewPlane(image.Rect(0, 0, 64, 48))
	for y := range 48 {
		for x := range 64 {
			p.Pix[y*64+x] = float32(x) + 0.5 + 100*(float32(y)+0.5)
		}
	}
	h := Half(p)
	assert.Equal(t, image.Rect(0, 0, 32, 24), h.Rect)
	c := geom.Pt(31.25, 17.5)
	assert.InDelta(t, c.X+100*c.Y, h.Bilinear((c.X+0.5)/2, (c.Y+0.5)/2), 1e-3)
	gx, gy := Gradient(p)
	assert.EqualValues(t, 1, gx.At(30, 30))
	assert.EqualValues(t, 100, gy.At(30, 30))
	assert.Len(t, Pyramid(p, 9), 2, "a pyramid stops before it is too small to search")
}

func TestRowsVisitsEachLineOnce(t *testing.T) {
	for _, n := range []int{0, 1, 7, 16, 333} {
		seen := make([]atomic.Int32, n)
		Rows(0, n, func(y int) { seen[y].Add(1) })
		for y := range seen {
			assert.EqualValues(t, 1, seen[y].Load())
		}
	}
}

func TestAroundAndCrop(t *testing.T) {
	frame := image.Rect(0, 0, 100, 50)
	assert.Equal(t, image.Rect(8, 0, 23, 13), Around(geom.Box{Min: geom.Pt(10.2, 1), Max: geom.Pt(20.5, 10)}, 2, frame))
	assert.True(t, Around(geom.Box{Min: geom.Pt(-90, -90), Max: geom.Pt(-80, -80)}, 2, frame).Empty())
	m := noise(frame, 5)
	c := m.Crop(image.Rect(-2, -2, 3, 3))
	assert.Equal(t, m.At(0, 0), c.At(0, 0))
	assert.Equal(t, [4]float32{}, c.At(-1, -1))
}

func BenchmarkWarpBicubic(b *testing.B) {
	src := noise(image.Rect(0, 0, 960, 540), 1)
	h := geom.Homography{1.01, 0.02, 3.3, -0.02, 1.01, 2.2, 1e-5, 1e-5, 1}
	for b.Loop() {
		Warp(src, h, src.Rect)
	}
}

// grownPlainly is Grow pixel by pixel.
func grownPlainly(p *Plane, d float64) *Plane {
	out := p.Crop(p.Rect)
	for y := p.Rect.Min.Y; y < p.Rect.Max.Y; y++ {
		for x := p.Rect.Min.X; x < p.Rect.Max.X; x++ {
			best := p.At(x, y)
			for v := p.Rect.Min.Y; v < p.Rect.Max.Y; v++ {
				for u := p.Rect.Min.X; u < p.Rect.Max.X; u++ {
					if float64((u-x)*(u-x)+(v-y)*(v-y)) > d*d {
						continue
					}
					if s := p.At(u, v); d > 0 && s > best || d < 0 && s < best {
						best = s
					}
				}
			}
			out.Row(y, x, x+1)[0] = best
		}
	}
	return out
}

func TestGrowAtAllSizes(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for range 60 {
		p := NewPlane(image.Rect(3, -2, 3+r.IntN(24), -2+r.IntN(20)))
		for i := range p.Pix {
			p.Pix[i] = float32(r.IntN(40)) / 40
		}
		d := []float64{0.5, 1, 1.5, 3, 4.2, 7, 12.6, 30, 100}[r.IntN(9)]
		if r.IntN(2) == 0 {
			d = -d
		}
		assert.Equal(t, grownPlainly(p, d), Grow(p, d), "%v by %v", p.Rect, d)
	}
}

// Pictures of one pixel, one line, one column and none: nothing breaks, and even light
// stays what it is.
func TestTheSmallestPictures(t *testing.T) {
	for _, size := range []image.Point{{0, 0}, {1, 1}, {1, 9}, {9, 1}, {2, 2}, {1, 200}, {3, 5}} {
		r := image.Rect(5, 7, 5+size.X, 7+size.Y)
		m, p := NewImage(r), NewPlane(r)
		for i := range m.Pix {
			m.Pix[i] = 0.5
		}
		for i := range p.Pix {
			p.Pix[i] = 0.5
		}
		for _, sigma := range []float64{0, 0.3, 1, 5, 40} {
			for _, v := range append(Gaussian(p, sigma).Pix, GaussianImage(m, sigma).Pix...) {
				assert.InDelta(t, 0.5, v, 1e-4)
			}
			if sigma >= 3 {
				for _, v := range Broad(m, sigma).Pix {
					assert.InDelta(t, 0.5, v, 1e-4)
				}
			}
		}
		for _, d := range []float64{-100, -1, 1, 100} {
			assert.Equal(t, p.Pix, Grow(p, d).Pix)
		}
		Gradient(p)
		Pyramid(p, 4)
		assert.Len(t, WarpBy(m, func(p geom.Point) geom.Point { return p }, r).Pix, len(m.Pix))
		assert.Len(t, Warp(m, geom.Identity, r.Inset(-3)).Pix, 4*r.Inset(-3).Dx()*r.Inset(-3).Dy())
	}
}

func TestOutsideAPictureIsNothing(t *testing.T) {
	m := NewImage(image.Rect(2, 2, 5, 4))
	for i := range m.Pix {
		m.Pix[i] = 1
	}
	for _, at := range []image.Point{{1, 3}, {5, 3}, {3, 1}, {3, 4}, {-9, -9}} {
		assert.Zero(t, m.At(at.X, at.Y), "%v", at)
	}
	assert.EqualValues(t, 1, m.At(2, 2)[3])
}

// A smooth map is the same wherever the part begins that is asked for.
func TestAPartOfAWarpIsAPartOfTheWhole(t *testing.T) {
	src := noise(image.Rect(0, 0, 60, 50), 3)
	bend := func(p geom.Point) geom.Point { return geom.Pt(p.X+3*math.Sin(p.Y/7), p.Y+2*math.Cos(p.X/5)) }
	whole := WarpBy(src, bend, src.Rect)
	for _, r := range []image.Rectangle{image.Rect(3, 5, 40, 41), image.Rect(-5, -3, 11, 13), image.Rect(17, 1, 18,
		50)} {
		part := WarpBy(src, bend, r)
		assert.Equal(t, whole.Crop(r.Intersect(src.Rect)), part.Crop(r.Intersect(src.Rect)))
	}
}

func BenchmarkGrow(b *testing.B) {
	p := NewPlane(image.Rect(0, 0, 500, 400))
	for b.Loop() {
		Grow(p, 40)
	}
}

func TestAPanicBelongsToWhoeverCalled(t *testing.T) {
	assert.PanicsWithValue(t, "broken", func() {
		Rows(0, 100, func(y int) {
			if y == 77 {
				panic("broken")
			}
		})
	})
}

// Central differences; beyond the border its samples go on.
func TestGradientByItsDefinition(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 6))
	for range 30 {
		p := NewPlane(image.Rect(3, 5, 4+rng.IntN(9), 6+rng.IntN(9)))
		for i := range p.Pix {
			p.Pix[i] = rng.Float32()
		}
		at := func(x, y int) float32 {
			return p.At(min(max(x, p.Rect.Min.X), p.Rect.Max.X-1), min(max(y, p.Rect.Min.Y), p.Rect.Max.Y-1))
		}
		gx, gy := Gradient(p)
		for y := p.Rect.Min.Y; y < p.Rect.Max.Y; y++ {
			for x := p.Rect.Min.X; x < p.Rect.Max.X; x++ {
				assert.InDelta(t, (at(x+1, y)-at(x-1, y))/2, gx.At(x, y), 1e-6)
				assert.InDelta(t, (at(x, y+1)-at(x, y-1))/2, gy.At(x, y), 1e-6)
			}
		}
	}
}
