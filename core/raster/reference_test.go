package raster

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/simd"
)

// Slow and plain: what filters and warps should come to, in 64 bits, one sample at a time.

type whole struct {
	r image.Rectangle
	v func(x, y, c int) float64 // the border goes on
}

func wholeOf(pix []float32, r image.Rectangle, channels int) whole {
	return whole{r, func(x, y, c int) float64 {
		x, y = clamp(x-r.Min.X, r.Dx()), clamp(y-r.Min.Y, r.Dy())
		return float64(pix[(y*r.Dx()+x)*channels+c])
	}}
}

func randomRect(rng *rand.Rand, most int) image.Rectangle {
	x, y := rng.IntN(40)-20, rng.IntN(40)-20
	return image.Rect(x, y, x+1+rng.IntN(most), y+1+rng.IntN(most))
}

func randomPlane(rng *rand.Rand, r image.Rectangle) *Plane {
	p := NewPlane(r)
	for i := range p.Pix {
		p.Pix[i] = rng.Float32()
	}
	return p
}

func TestGaussianBesideASlowOne(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 71))
	for range 40 {
		r, sigma := randomRect(rng, 60), 0.3+4*rng.Float64()
		m := noise(r, rng.Uint64())
		got, in := GaussianImage(m, sigma), wholeOf(m.Pix, r, 4)
		n := int(math.Ceil(4 * sigma))
		var weights []float64
		var sum float64
		for k := -n; k <= n; k++ {
			weights = append(weights, math.Exp(-float64(k*k)/(2*sigma*sigma)))
			sum += weights[k+n]
		}
		for range 60 {
			x, y, c := r.Min.X+rng.IntN(r.Dx()), r.Min.Y+rng.IntN(r.Dy()), rng.IntN(4)
			var want float64
			for j := -n; j <= n; j++ {
				for i := -n; i <= n; i++ {
					want += weights[i+n] * weights[j+n] * in.v(x+i, y+j, c)
				}
			}
			require.InDelta(t, want/sum/sum, got.At(x, y)[c], 2e-6, "%v, sigma %.2f, at %d, %d", r, sigma, x, y)
		}
	}
}

func TestHalfBesideASlowOne(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 72))
	binomial := []float64{1. / 16, 4. / 16, 6. / 16, 4. / 16, 1. / 16}
	for range 200 {
		p := randomPlane(rng, randomRect(rng, 50))
		got, in := Half(p), wholeOf(p.Pix, p.Rect, 1)
		for y := got.Rect.Min.Y; y < got.Rect.Max.Y; y++ {
			for x := got.Rect.Min.X; x < got.Rect.Max.X; x++ {
				var want float64
				for j := range 5 {
					for i := range 5 {
						want += binomial[i] * binomial[j] * in.v(2*x+i-2, 2*y+j-2, 0)
					}
				}
				require.InDelta(t, want, got.At(x, y), 1e-6, "%v at %d, %d", p.Rect, x, y)
			}
		}
		gx, gy := Gradient(p)
		for range 30 {
			x, y := p.Rect.Min.X+rng.IntN(p.Rect.Dx()), p.Rect.Min.Y+rng.IntN(p.Rect.Dy())
			require.InDelta(t, (in.v(x+1, y, 0)-in.v(x-1, y, 0))/2, gx.At(x, y), 1e-6)
			require.InDelta(t, (in.v(x, y+1, 0)-in.v(x, y-1, 0))/2, gy.At(x, y), 1e-6)
		}
	}
}

// The mean of whole cells, blurred, and straight between.
func TestBroadBesideASlowOne(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 73))
	for range 30 {
		r, sigma := randomRect(rng, 80), 3+9*rng.Float64()
		m := noise(r, rng.Uint64())
		k := max(1, int(sigma/1.5))
		w, h := (r.Dx()+k-1)/k, (r.Dy()+k-1)/k
		small := NewImage(image.Rect(0, 0, w, h))
		for y := range h {
			for x := range w {
				var sum [4]float64
				n := 0.0
				for j := y * k; j < min((y+1)*k, r.Dy()); j++ {
					for i := x * k; i < min((x+1)*k, r.Dx()); i++ {
						for c, v := range m.At(r.Min.X+i, r.Min.Y+j) {
							sum[c] += float64(v)
						}
						n++
					}
				}
				small.Set(x, y, [4]float32{float32(sum[0] / n), float32(sum[1] / n), float32(sum[2] / n), float32(sum[3] / n)})
			}
		}
		rest := sigma*sigma - float64(k*k)/4
		small = GaussianImage(small, math.Max(math.Sqrt(math.Max(rest, 0))/float64(k), 1e-3))
		in := wholeOf(small.Pix, small.Rect, 4)
		got := Broad(m, sigma)
		plane := NewPlane(r)
		for i := range plane.Pix {
			plane.Pix[i] = m.Pix[4*i+1]
		}
		alone := BroadPlane(plane, sigma)
		for range 80 {
			x, y, c := rng.IntN(r.Dx()), rng.IntN(r.Dy()), rng.IntN(4)
			u, v := (float64(x)+0.5)/float64(k)-0.5, (float64(y)+0.5)/float64(k)-0.5
			i, j := int(math.Floor(u)), int(math.Floor(v))
			u, v = u-float64(i), v-float64(j)
			want := (1-v)*((1-u)*in.v(i, j, c)+u*in.v(i+1, j, c)) + v*((1-u)*in.v(i, j+1, c)+u*in.v(i+1, j+1, c))
			require.InDelta(t, want, got.At(r.Min.X+x, r.Min.Y+y)[c], 5e-6, "%v, sigma %.2f, at %d, %d", r, sigma, x, y)
			require.InDelta(t, got.At(r.Min.X+x, r.Min.Y+y)[1], alone.At(r.Min.X+x, r.Min.Y+y), 5e-6)
		}
	}
}

// A picture that is warped shows at each pixel what one lookup at its place gives, to the bit, wherever pictures begin.
func TestWarpsAreLookups(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 74))
	for range 60 {
		m := noise(randomRect(rng, 70), rng.Uint64())
		p := randomPlane(rng, m.Rect)
		r := randomRect(rng, 90)
		h := geom.Homography{1 + 0.2*rng.NormFloat64(), 0.2 * rng.NormFloat64(), 9 * rng.NormFloat64(),
			0.2 * rng.NormFloat64(), 1 + 0.2*rng.NormFloat64(), 9 * rng.NormFloat64(), 0.01 * rng.NormFloat64(), 0.01 * rng.NormFloat64(), 1}
		got, by, plane := Warp(m, h, r), WarpBy(m, h.Apply, r), WarpPlane(p, h, r)
		lattice := NewLattice(h.Apply, r)
		for y := r.Min.Y; y < r.Max.Y; y++ {
			for x := r.Min.X; x < r.Max.X; x++ {
				look := func(q geom.Point) (v [4]float32) {
					if math.Abs(q.X) < 1e6 && math.Abs(q.Y) < 1e6 {
						v = m.Bicubic(q.X, q.Y)
						v[3] = min(max(v[3], 0), 1)
					}
					return v
				}
				q := h.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))
				require.Equal(t, look(q), got.At(x, y))
				require.Equal(t, look(lattice.At(x, y)), by.At(x, y))
				if math.Abs(q.X) < 1e6 && math.Abs(q.Y) < 1e6 {
					require.Equal(t, p.Cubic(q.X, q.Y), plane.At(x, y))
				}
			}
		}
	}
}

// BilinearAt is Bilinear where four samples lie around a place, and says where not.
func TestManyBilinearLookups(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 75))
	for range 100 {
		p := randomPlane(rng, randomRect(rng, 20))
		n := 1 + rng.IntN(200)
		at := simd.NewPlaces(n)
		q := make([]geom.Point, n)
		for i := range q {
			q[i] = geom.Pt(float64(p.Rect.Min.X)-2+float64(p.Rect.Dx()+4)*rng.Float64(), float64(p.Rect.Min.Y)-2+float64(p.Rect.Dy()+4)*rng.Float64())
			at.Put(i, q[i].X, q[i].Y)
		}
		out := make([]float32, n)
		p.BilinearAt(out, at)
		for i, q := range q {
			x, y := q.X-0.5-float64(p.Rect.Min.X), q.Y-0.5-float64(p.Rect.Min.Y)
			in := x >= 0 && y >= 0 && x < float64(p.Rect.Dx()-1) && y < float64(p.Rect.Dy()-1)
			require.Equal(t, in, at.X[i] != simd.Nowhere, "%v in %v", q, p.Rect)
			if in {
				require.InDelta(t, p.Bilinear(q.X, q.Y), out[i], 1e-6)
			}
		}
	}
}
