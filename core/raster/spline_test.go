package raster

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/simd"
)

// A spline goes through every pixel, is a cubic polynomial where the picture is one, and keeps more of fine waves than
// cubic convolution does. Its samples satisfy the system that defines it, to the picture's mirrored edge.
func TestASpline(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 9))
	for range 40 {
		rect := image.Rect(-3, 7, -3+1+rng.IntN(40), 7+1+rng.IntN(40))
		m := NewImage(rect)
		for i := range m.Pix {
			m.Pix[i] = rng.Float32()
		}
		s := NewSpline(m, rect.Inset(-5))
		require.Equal(t, rect, s.rect)
		at := func(x, y, c int) float64 { // mirrored about the outermost pixels
			fold := func(v, n int) int {
				if n == 1 {
					return 0
				}
				v = ((v % (2*n - 2)) + 2*n - 2) % (2*n - 2)
				return min(v, 2*n-2-v)
			}
			x, y = fold(x, rect.Dx()), fold(y, rect.Dy())
			return float64(s.coefficients[3*(y*rect.Dx()+x)+c])
		}
		for y := range rect.Dy() {
			for x := range rect.Dx() {
				for c := range 3 {
					var sum float64
					for j, v := range []float64{1, 4, 1} {
						for i, u := range []float64{1, 4, 1} {
							sum += u * v / 36 * at(x+i-1, y+j-1, c)
						}
					}
					require.InDelta(t, m.Pix[4*(y*rect.Dx()+x)+c], sum, 2e-5)
				}
				got, ok := s.At(float64(rect.Min.X+x)+0.5, float64(rect.Min.Y+y)+0.5)
				assert.Equal(t, x >= 1 && y >= 1 && x+2 < rect.Dx() && y+2 < rect.Dy(), ok)
				if ok {
					require.InDelta(t, m.Pix[4*(y*rect.Dx()+x)], got[0], 2e-5)
				}
			}
		}
	}

	size := image.Rect(0, 0, 64, 64)
	cubicAt := func(x, y float64) float64 {
		x, y = (x-32)/32, (y-32)/32
		return 0.4 + 0.2*x - 0.3*y*x + 0.1*x*x*x - 0.2*y*y*y + 0.1*x*x*y
	}
	wave := func(x, y float64) float64 { return 0.5 + 0.3*math.Sin(2.1*x+0.4)*math.Cos(1.7*y) }
	for name, f := range map[string]func(x, y float64) float64{"cubic": cubicAt, "wave": wave} {
		m := NewImage(size)
		for i := range m.Pix {
			m.Pix[i] = float32(f(float64(i/4%64)+0.5, float64(i/4/64)+0.5))
		}
		s := NewSpline(m, size)
		var ours, plain float64
		for range 2000 {
			x, y := 16+32*rng.Float64(), 16+32*rng.Float64()
			got, ok := s.At(x, y)
			require.True(t, ok)
			was, _ := m.BicubicRGB(x, y)
			ours += math.Pow(float64(got[1])-f(x, y), 2)
			plain += math.Pow(float64(was[1])-f(x, y), 2)
		}
		ours, plain = math.Sqrt(ours/2000), math.Sqrt(plain/2000)
		if name == "cubic" {
			assert.Less(t, ours, 1e-5)
		} else {
			assert.Less(t, ours, 0.7*plain, "of a wave of three pixels")
		}
	}
}

// A pixel that is no number, or infinite, harms nothing beyond itself.
func TestASplineThroughWhatIsNoNumber(t *testing.T) {
	m := NewImage(image.Rect(0, 0, 40, 40))
	for i := range m.Pix {
		m.Pix[i] = 0.5
	}
	m.Set(20, 20, [4]float32{float32(math.NaN()), float32(math.Inf(1)), float32(math.Inf(-1)), 1})
	s := NewSpline(m, m.Rect)
	for _, x := range []float64{4, 20.2, 33.3} {
		rgb, ok := s.At(x, 20.4)
		require.True(t, ok)
		for _, v := range rgb {
			assert.True(t, v-v == 0)
			if x != 20.2 {
				assert.InDelta(t, 0.5, v, 1e-4)
			}
		}
	}
	s = NewSpline(m, image.Rect(50, 50, 60, 60))
	_, ok := s.At(55, 55)
	assert.False(t, ok, "of nothing there is nothing")
}

// A plane's spline is that of a picture which shows the plane, wherever that can be told; it goes through its samples to the outermost,
// and what is no number spoils nothing but its place.
func TestAPlanesSpline(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 2))
	for range 60 {
		rect := image.Rect(5, -9, 5+1+rng.IntN(40), -9+1+rng.IntN(40))
		p, m := NewPlane(rect), NewImage(rect)
		for i := range p.Pix {
			p.Pix[i] = rng.Float32()
			for c := range 3 {
				m.Pix[4*i+c] = p.Pix[i]
			}
		}
		ours, plain := NewPlaneSpline(p), NewSpline(m, rect)
		require.Equal(t, rect, ours.Rect)
		for range 200 {
			x, y := float64(rect.Min.X)+(1.2*rng.Float64()-0.1)*float64(rect.Dx()), float64(rect.Min.Y)+(1.2*rng.Float64()-0.1)*float64(rect.Dy())
			if rgb, ok := plain.At(x, y); ok {
				require.InDelta(t, rgb[1], ours.At(x, y), 2e-5)
			}
			require.InDelta(t, 0.5, ours.At(x, y), 2)
		}
		for i, v := range p.Pix {
			require.InDelta(t, v, ours.At(float64(rect.Min.X+i%rect.Dx())+0.5, float64(rect.Min.Y+i/rect.Dx())+0.5), 2e-5)
		}
		const n = 70
		at, all, far := simd.NewPlaces(n), make([]float32, n), rng.Float64() < 0.5
		var xs, ys [n]float64
		for i := range xs {
			xs[i], ys[i] = float64(rect.Min.X)+(1.4*rng.Float64()-0.2)*float64(rect.Dx()), float64(rect.Min.Y)+(1.4*rng.Float64()-0.2)*float64(rect.Dy())
			if rng.IntN(5) == 0 {
				xs[i], ys[i] = math.Floor(xs[i])+0.5, math.Floor(ys[i])+0.5
			}
			if far && rng.IntN(9) == 0 {
				xs[i] = []float64{math.NaN(), math.Inf(1), -1e300, 3e6}[rng.IntN(4)]
			}
			at.Put(i, xs[i], ys[i])
		}
		ours.All(all, at)
		for i, v := range all {
			if math.Abs(xs[i]) < 1e6 {
				require.InDelta(t, ours.At(xs[i], ys[i]), v, 2e-6)
			} else {
				require.Zero(t, v-v)
			}
		}
		p.Pix[rng.IntN(len(p.Pix))] = float32(math.NaN())
		for _, v := range NewPlaneSpline(p).coefficients {
			require.Zero(t, v-v)
		}
	}
}

// Places farther than any picture, or that are no number, are looked up without harm, by splines, cubic convolution and bilinearly.
func TestPlacesFartherThanAnyPicture(t *testing.T) {
	p, m := NewPlane(image.Rect(2, 1, 11, 8)), NewImage(image.Rect(2, 1, 11, 8))
	s, colour := NewPlaneSpline(p), NewSpline(m, m.Rect)
	for _, v := range []float64{1e300, 1e19, 9.3e18, 1 << 62, 1e13, 1e10, math.Inf(1), math.NaN()} {
		for _, q := range [][2]float64{{v, 3}, {3, v}, {v, v}, {-v, 3}, {3, -v}, {-v, -v}, {v, -v}} {
			require.NotPanics(t, func() {
				s.At(q[0], q[1])
				p.Cubic(q[0], q[1])
				p.Bilinear(q[0], q[1])
				m.Bicubic(q[0], q[1])
				m.BicubicRGB(q[0], q[1])
				colour.At(q[0], q[1])
			}, "%v", q)
		}
	}
}
