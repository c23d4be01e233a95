package settle

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gonum.org/v1/gonum/dsp/fourier"

	"jardin/core/raster"
)

// octaves returns the mean power of a square of samples in four octave bands, from 1/32
// to 1/2 of the sampling rate: Welch's method on blocks of 64 by 64 (Hann window).
func octaves(at func(x, y int) float64, size int) (out [4]float64) {
	const n = 64
	window := make([]float64, n)
	for i := range window {
		window[i] = 0.5 - 0.5*math.Cos(2*math.Pi*float64(i)/n)
	}
	f := fourier.NewCmplxFFT(n)
	var count [4]float64
	for by := 0; by+n <= size; by += n / 2 {
		for bx := 0; bx+n <= size; bx += n / 2 {
			m := make([]complex128, n*n)
			for y := range n {
				for x := range n {
					m[y*n+x] = complex(at(bx+x, by+y)*window[x]*window[y], 0)
				}
				copy(m[y*n:], f.Coefficients(nil, m[y*n:(y+1)*n]))
			}
			column := make([]complex128, n)
			for x := range n {
				for y := range n {
					column[y] = m[y*n+x]
				}
				for y, v := range f.Coefficients(nil, column) {
					u, w := float64(min(x, n-x))/n, float64(min(y, n-y))/n
					radius := math.Max(u, w)
					if radius < 1.0/32 {
						continue
					}
					band := min(3, int(math.Log2(radius*32)))
					out[band] += real(v)*real(v) + imag(v)*imag(v)
					count[band]++
				}
			}
		}
	}
	for b := range out {
		out[b] /= count[b]
	}
	return out
}

// noise is grain of a known kind: white deviates, blurred differently along x and y,
// the channels sharing some of it, with a strength that depends on light.
func noise(
	seed uint64,
	size int,
	along, across float64,
	strength func(c int, light float64) float64,
	base *raster.Image,
) *raster.Image {
	r := rand.New(rand.NewPCG(seed, 3))
	var fields [3][]float64
	common := make([]float64, size*size)
	for i := range common {
		common[i] = r.NormFloat64()
	}
	for c := range fields {
		white := raster.NewPlane(image.Rect(0, 0, size, size))
		for i := range white.Pix {
			white.Pix[i] = float32(math.Sqrt(0.3)*common[i] + math.Sqrt(0.7)*r.NormFloat64())
		}
		fields[c] = directed(white, along, across)
	}
	out := raster.NewImage(base.Rect)
	for i := range common {
		for c := range 3 {
			out.Pix[4*i+c] = float32(fields[c][i] * strength(c, float64(base.Pix[4*i+c])))
		}
	}
	return out
}

// directed blurs by Gaussians that differ along x and y, to variance 1.
func directed(p *raster.Plane, along, across float64) []float64 {
	w := p.Rect.Dx()
	kernel := func(sigma float64) []float64 {
		var k []float64
		for d := -6.0; d <= 6; d++ {
			k = append(k, math.Exp(-d*d/(2*sigma*sigma)))
		}
		return k
	}
	pass := func(src []float64, k []float64, step func(x, y, d int) int) []float64 {
		out := make([]float64, len(src))
		for y := range w {
			for x := range w {
				for d, v := range k {
					out[y*w+x] += v * src[step(x, y, d-6)]
				}
			}
		}
		return out
	}
	src := make([]float64, len(p.Pix))
	for i, v := range p.Pix {
		src[i] = float64(v)
	}
	wrap := func(v int) int { return (v + w) % w }
	src = pass(src, kernel(along), func(x, y, d int) int { return y*w + wrap(x+d) })
	src = pass(src, kernel(across), func(x, y, d int) int { return wrap(y+d)*w + x })
	var power float64
	for _, v := range src {
		power += v * v / float64(len(src))
	}
	for i := range src {
		src[i] /= math.Sqrt(power)
	}
	return src
}

// Grain of a known spectrum, strength and share is measured and made again: within 5 %
// in its standard deviation by channel, 1 dB in each of four octave
// bands, 0.05 in what channels share.
func TestKnownGrainIsMeasuredAndMadeAgain(t *testing.T) {
	const size = 256
	cases := map[string]struct {
		along, across float64
		strength      func(c int, light float64) float64
	}{
		"like film": {
			0.5,
			0.5,
			func(c int, l float64) float64 { return 2 * math.Sqrt(l) * []float64{0.0135, 0.0115, 0.021}[c] },
		},
		"coarse, skewed": {
			1.3,
			0.7,
			func(c int, l float64) float64 { return 2 * math.Sqrt(l) * []float64{0.02, 0.03, 0.01}[c] },
		},
		"additive, white": {0.05, 0.05, func(c int, l float64) float64 { return []float64{0.01, 0.006, 0.014}[c] }},
	}
	for name, k := range cases {
		t.Run(name, func(t *testing.T) {
			base := raster.NewImage(image.Rect(0, 0, size, size))
			for i := range size * size {
				l := float32(0.04 + 0.6*float64(i%size)/size)
				copy(base.Pix[4*i:], []float32{l, l, l, 1})
			}
			valid := raster.NewPlane(base.Rect)
			for i := range valid.Pix {
				valid.Pix[i] = 1
			}
			known := noise(4, size, k.along, k.across, k.strength, base)
			g, ok := MeasureGrain([]GrainSample{{Grain: known, Base: base, Valid: valid, Excess: 1}})
			require.True(t, ok)
			for c := range 3 {
				var was, found float64
				for l := 0.05; l < 0.62; l += 0.01 {
					was, found = was+math.Pow(k.strength(c, l), 2), found+math.Pow(g.At(c, l), 2)
				}
				assert.InEpsilon(t, math.Sqrt(was), math.Sqrt(found), 0.05, "channel %d", c)
				// A ninth of the pixels tells about each brightness: coarse grain is known to 3 or 4 % there.
				for _, l := range []float64{0.06, 0.15, 0.3, 0.55} {
					assert.InEpsilon(t, k.strength(c, l), g.At(c, l), 0.1, "channel %d at %v", c, l)
				}
			}
			for _, s := range g.Share {
				assert.InDelta(t, 0.3, s, 0.05)
			}
			tile := g.Make(9)
			unit := noise(4, size, k.along, k.across, func(int, float64) float64 { return 1 }, base)
			for c := range 3 {
				was := octaves(func(x, y int) float64 { return float64(unit.Pix[4*(y*size+x)+c]) }, size)
				made := octaves(func(x, y int) float64 { return float64(tile[c][y*Tile+x]) }, size)
				for b := range was {
					assert.InDelta(t, 0, 10*math.Log10(made[b]/was[b]), 1, "channel %d, band %d, dB", c, b)
				}
			}
		})
	}
}

// Laid grain has the measured strength on each frame, is another on the next, and the
// same when a frame is made again.
func TestLaidGrainDiffersByFrameAndRepeats(t *testing.T) {
	g := &Grain{Light: []float64{0.01, 0.5}, Lags: 1}
	for c := range 3 {
		g.Sigma[c] = []float64{0.01, 0.01}
		g.Shape[c] = []float64{0.2, 1, 0.2, 0, 0.2, 0}
	}
	tile := g.Make(1)
	lay := func(seed uint64) *raster.Image {
		m := raster.NewImage(image.Rect(3, 5, 203, 205))
		missing := raster.NewPlane(m.Rect)
		for i := range missing.Pix {
			missing.Pix[i] = 1
			copy(m.Pix[4*i:], []float32{0.25, 0.25, 0.25, 1})
		}
		AddGrain(m, missing, Layer{Of: g, Tile: tile, Seed: seed, Amount: [3]float64{1, 1, 0.5}})
		return m
	}
	a, b, again := lay(1), lay(2), lay(1)
	require.Equal(t, a.Pix, again.Pix)
	var sa, sab, blue float64
	n := float64(len(a.Pix) / 4)
	for i := 0; i < len(a.Pix); i += 4 {
		d, e := float64(a.Pix[i])-0.25, float64(b.Pix[i])-0.25
		sa, sab, blue = sa+d*d/n, sab+d*e/n, blue+math.Pow(float64(a.Pix[i+2])-0.25, 2)/n
	}
	assert.InEpsilon(t, 0.01, math.Sqrt(sa), 0.05)
	assert.InEpsilon(t, 0.005, math.Sqrt(blue), 0.05, "trimmed by channel")
	assert.Less(t, math.Abs(sab)/sa, 0.05, "another frame's is independent")
}

// Independent grains add by their variances: through half a matte over a plate whose
// grain stays, what is missing brings the sum to the plate's own, and a patch that
// brings its own grain gets none twice.
func TestGrainIsFilledUpAndNeverDoubled(t *testing.T) {
	r := image.Rect(0, 0, 1, 1)
	missing := func(alpha, still, through float32) float64 {
		picture, patch, touched, out := raster.NewImage(r), raster.NewImage(r), raster.NewPlane(r), raster.NewPlane(r)
		held, cover := raster.NewPlane(r), raster.NewPlane(r)
		picture.Set(0, 0, [4]float32{0.5, 0.5, 0.5, 1})
		patch.Set(0, 0, [4]float32{0.4 * alpha, 0.4 * alpha, 0.4 * alpha, alpha})
		held.Pix[0], cover.Pix[0] = still*alpha, through
		Composite(picture, Patch{patch, held}, cover, 1, Normal, touched, out)
		return float64(out.Pix[0])
	}
	assert.InDelta(t, 1, missing(1, 1, 1), 1e-6, "a held patch has none")
	assert.InDelta(t, 0, missing(1, 0, 1), 1e-6, "a live neighbour has its own")
	// 0.5 of the plate's remains: sqrt(1 - 0.25).
	assert.InDelta(t, math.Sqrt(0.75), missing(1, 1, 0.5), 1e-6)
	// Half plate, half neighbour: both grains are there, each at half: sqrt(1 - 0.25 - 0.25).
	assert.InDelta(t, math.Sqrt(0.5), missing(1, 0, 0.5), 1e-6)
}

// Frames that help take the grain out as a mean of so many does, and leave the picture;
// a frame on which something else is does not.
func TestCalmerTakesGrainAndNothingElse(t *testing.T) {
	clean := surface(3, 120, 120)
	m := grainy(clean, 1, 0.02)
	k := NewTemporalDenoiser(m, [3]float64{0.02, 0.02, 0.02})
	for seed := range uint64(8) {
		k.Add(grainy(clean, 10+seed, 0.02))
	}
	odd := grainy(surface(99, 120, 120), 30, 0.02)
	k.Add(odd)
	out := k.Denoise(m, [3]float64{1, 1, 0.5})
	off := func(a *raster.Image, c int) (sum float64) {
		for y := 10; y < 110; y++ {
			for x := 10; x < 110; x++ {
				d := math.Sqrt(float64(a.At(x, y)[c])) - math.Sqrt(float64(clean.At(x, y)[c]))
				sum += d * d / 1e4
			}
		}
		return math.Sqrt(sum)
	}
	assert.InDelta(t, 0.02, off(m, 0), 0.001)
	assert.Less(t, off(out, 0), 0.02*0.45, "nine frames: a third, and a little for the frame that shows something else")
	assert.InDelta(t, 0.01, off(out, 2), 0.003, "half of it where half is asked for")
}

// Carried grain is that of another part of the plate, brought to the measured strength at
// the brightness here, and added only where it is missing.
func TestCarriedGrain(t *testing.T) {
	const size = 120
	r := image.Rect(0, 0, size, size)
	flat := func(l float32) *raster.Image {
		m := raster.NewImage(r)
		for i := range size * size {
			copy(m.Pix[4*i:], []float32{l, l, l, 1})
		}
		return m
	}
	known := grainy(flat(0.36), 5, 0.01) // on the root: 2 x 0.6 x 0.01 in light
	g := &Grain{Light: []float64{0.04, 0.36}, Lags: 0}
	for c := range 3 {
		g.Sigma[c], g.Shape[c] = []float64{0.004, 0.012}, []float64{1}
	}
	missing := raster.NewPlane(r)
	for i := range missing.Pix {
		if i%size < size/2 {
			missing.Pix[i] = 1
		}
	}
	m := flat(0.09)
	CarryGrain(m, known, flat(0.36), missing, Layer{Of: g, Amount: [3]float64{1, 1, 0}})
	var power, n, same float64
	for i := 0; i < len(m.Pix); i += 4 {
		if missing.Pix[i/4] == 0 {
			assert.EqualValues(t, float32(0.09), m.Pix[i])
			continue
		}
		d := float64(m.Pix[i]) - 0.09
		power, n = power+d*d, n+1
		same += d * (float64(known.Pix[i]) - 0.36)
		assert.EqualValues(t, float32(0.09), m.Pix[i+2], "no blue was asked for")
	}
	assert.InEpsilon(t, 2*0.3*0.01, math.Sqrt(power/n), 0.05, "as strong as grain is at this brightness")
	assert.Positive(t, same, "it is the very same grain")
}

// What all frames show alike is no grain: it stays as it is, however many help.
func TestWhatAllFramesShowStays(t *testing.T) {
	m := grainy(surface(3, 80, 80), 1, 0.05) // detail as fine as grain, but the same everywhere
	for helpers := 4; helpers <= 9; helpers += 5 {
		k := NewTemporalDenoiser(m, [3]float64{0.02, 0.02, 0.02})
		for range helpers {
			k.Add(m)
		}
		out := k.Denoise(m, [3]float64{1, 1, 1})
		for i := range m.Pix {
			require.InDelta(t, m.Pix[i], out.Pix[i], 1e-5)
		}
	}
}

// A wire that lies elsewhere on each of the frames leaves no halo around it: from 4 to 12 pixels beside it nothing becomes
// darker or lighter by more than 0.2 codes of 255, in any light; and what is taken out is as strong as the
// grain, within 5 % (what a few thousand pixels tell is known to 2 %). What stays is what nine frames leave, or a little more where
// the wire hides some of them. At random angles, widths and steps.
func TestNoHaloAroundWhatMoves(t *testing.T) {
	rng := rand.New(rand.NewPCG(17, 4))
	for range 10 {
		angle, width, step := rng.Float64()*math.Pi, 1.5+4*rng.Float64(), 2+9*rng.Float64()
		cos, sin := math.Cos(angle), math.Sin(angle)
		clean := surface(rng.Uint64(), 150, 150)
		wire := float32(0.02)
		if rng.Float64() < 0.5 {
			wire = 0.9
		}
		beside := func(x, y int, k int) float64 {
			return math.Abs((float64(x)-75)*cos+(float64(y)-75)*sin-step*float64(k)) - width
		}
		const sigma = 0.015
		bare := func(k int, gain float32) *raster.Image {
			m := clean.Crop(clean.Rect)
			for y := range 150 {
				for x := range 150 {
					v := m.At(x, y)
					for c := range 3 {
						v[c] *= gain
						if beside(x, y, k) < 0 {
							v[c] = wire
						}
					}
					m.Set(x, y, v)
				}
			}
			return m
		}
		own := bare(0, 1)
		m := grainy(own, rng.Uint64(), sigma)
		k := NewTemporalDenoiser(m, [3]float64{sigma, sigma, sigma})
		for n := range 9 {
			if n != 4 {
				k.Add(grainy(bare(n-4, float32(1+0.03*rng.NormFloat64())), rng.Uint64(), sigma))
			}
		}
		out := k.Denoise(m, [3]float64{1, 1, 1})
		var bias, n, taken, left float64
		for y := 15; y < 135; y++ {
			for x := 15; x < 135; x++ {
				if d := beside(x, y, 0); d > 4 && d < 12 {
					got, want, was := root(out.At(x, y)[1]), root(own.At(x, y)[1]), root(m.At(x, y)[1])
					bias, n, taken, left = bias+got-want, n+1, taken+sqr(was-got), left+sqr(got-want)
				}
			}
		}
		assert.Less(t, 255*math.Abs(bias/n), 0.2, "angle %.2f, width %.1f, step %.1f", angle, width, step)
		t.Logf("taken out %.3f, left %.3f of the grain, bias %.3f codes", math.Sqrt(taken/n)/sigma, math.Sqrt(left/n)/sigma, 255*bias/n)
		assert.InEpsilon(t, sigma, math.Sqrt(taken/n), 0.05, "angle %.2f, width %.1f, step %.1f", angle, width, step)
		assert.InDelta(t, GrainLeft(8), math.Sqrt(left/n)/sigma, 0.1, "angle %.2f, width %.1f, step %.1f", angle, width, step)
	}
}
