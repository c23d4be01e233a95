package track

import (
	"image"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// filmOf shows a texture along homographies, with grain.
func filmOf(size image.Rectangle, frames int, grain float64, at func(n int) geom.Homography) []*raster.Plane {
	rng := rand.New(rand.NewPCG(9, 9))
	wide := image.Rect(0, 0, size.Dx()+400, size.Dy()+400)
	base := raster.NewPlane(wide)
	for i := range base.Pix {
		base.Pix[i] = rng.Float32()
	}
	fine, broad := raster.Gaussian(base, 1.6), raster.Gaussian(base, 6)
	for i := range base.Pix {
		base.Pix[i] = 0.5 + 1.2*(fine.Pix[i]-0.5) + 4*(broad.Pix[i]-0.5)
	}
	var out []*raster.Plane
	for n := range frames {
		back, _ := at(n).Inverse()
		p := raster.WarpPlane(base, geom.Translation(geom.Pt(200, 200)).Mul(back), size)
		for i := range p.Pix {
			p.Pix[i] += float32(grain * rng.NormFloat64())
		}
		out = append(out, p)
	}
	return out
}

// Features go where the picture goes, as it slides, turns and grows, with grain and changing light: over twenty frames they are off
// by a few hundredths of a pixel, and there are about as many as wanted on every frame.
func TestFeaturesGoWithThePicture(t *testing.T) {
	size := image.Rect(0, 0, 480, 360)
	at := func(n int) geom.Homography {
		f := float64(n)
		return geom.Placement(geom.Pt(240, 180), geom.Pt(4.3*f, 1.7*f), 0.8*f, geom.Pt(1+0.008*f, 1+0.008*f))
	}
	frames := filmOf(size, 21, 0.01, at)
	features := NewFeatures(150)
	for n, p := range frames {
		lit := raster.NewPlane(size)
		for i, v := range p.Pix {
			lit.Pix[i] = v*float32(1+0.01*float64(n)) + 0.002*float32(n)
		}
		features.Step(1001+n, lit, nil)
		assert.GreaterOrEqual(t, len(features.Live()), 120, "frame %d", n)
	}
	var off []float64
	long := 0
	for _, f := range features.Tracks() {
		first := at(f.First - 1001)
		back, _ := first.Inverse()
		for k, p := range f.At {
			h := at(f.First - 1001 + k).Mul(back)
			off = append(off, h.Apply(f.At[0]).Dist(p))
		}
		if len(f.At) > 15 {
			long++
		}
	}
	slices.Sort(off)
	t.Logf("%d places: median %.3f px, 95 %% under %.3f; %d tracks last for more than 15 frames", len(off), off[len(off)/2], off[len(off)*95/100], long)
	assert.Less(t, off[len(off)/2], 0.06)
	assert.Less(t, off[len(off)*95/100], 0.2)
	assert.Greater(t, long, 50)
}

// What is covered is not followed, nothing is followed where there is nothing, and no number takes it along.
func TestFeaturesLeaveOutWhatIsCovered(t *testing.T) {
	size := image.Rect(0, 0, 320, 240)
	frames := filmOf(size, 6, 0.01, func(n int) geom.Homography { return geom.Translation(geom.Pt(2*float64(n), 0)) })
	covered := raster.NewPlane(size)
	for y := range 240 {
		for x := 160; x < 320; x++ {
			covered.Pix[y*320+x] = 1
		}
	}
	features := NewFeatures(100)
	for n, p := range frames {
		if n == 3 {
			for i := range 2000 {
				p.Pix[i*7] = float32(math.NaN())
			}
			p.Pix[5] = float32(math.Inf(1))
		}
		features.Step(n, p, covered)
		for _, at := range features.Live() {
			assert.Less(t, at.X, 160.0)
			assert.True(t, at.Finite())
		}
	}
	assert.NotEmpty(t, features.Live())
	flat := NewFeatures(100)
	for n := range 3 {
		flat.Step(n, raster.NewPlane(size), nil)
	}
	assert.Empty(t, flat.Tracks())
}

// A bar of its own texture passes before the picture: what it covers ends, and does not go over to it.
func TestFeaturesThatAreCoveredEnd(t *testing.T) {
	size := image.Rect(0, 0, 400, 300)
	behind := filmOf(size, 16, 0.01, func(n int) geom.Homography { return geom.Translation(geom.Pt(2*float64(n), 0)) })
	before := filmOf(size, 16, 0.01, func(n int) geom.Homography { return geom.Translation(geom.Pt(37+11*float64(n), 61)) })
	features := NewFeatures(160)
	for n, p := range behind {
		left := 40 + 11*n
		for y := range 300 {
			copy(p.Row(y, left, min(left+70, 400)), before[n].Row(y, left, min(left+70, 400)))
		}
		features.Step(n, p, nil)
	}
	all, astray := 0, 0
	for _, f := range features.Tracks() {
		for k := 1; k < len(f.At); k++ {
			d := f.At[k].Sub(f.At[k-1])
			all++
			if d.Dist(geom.Pt(2, 0)) > 1 && d.Dist(geom.Pt(11, 0)) > 1 {
				astray++
			}
		}
	}
	t.Logf("%d of %d steps go with neither", astray, all)
	assert.Less(t, astray, all/200)
}

// Gone on with from what was kept, as many are found, and those begun before go on.
func TestFeaturesGoOn(t *testing.T) {
	size := image.Rect(0, 0, 320, 240)
	frames := filmOf(size, 10, 0.01, func(n int) geom.Homography { return geom.Translation(geom.Pt(1.5*float64(n), float64(n))) })
	whole, part := NewFeatures(80), NewFeatures(80)
	for n, p := range frames {
		whole.Step(n, p, nil)
		if n == 5 {
			part.Step(n, p, nil)
			part = ResumeFeatures(80, part.All(), 5, p, nil)
			continue
		}
		part.Step(n, p, nil)
	}
	long := func(f *Features) (n int) {
		for _, t := range f.Tracks() {
			if len(t.At) == 10 {
				n++
			}
		}
		return n
	}
	require.Greater(t, long(whole), 30)
	assert.InDelta(t, long(whole), long(part), float64(long(whole))/10)
	assert.InDelta(t, len(whole.Live()), len(part.Live()), 8)
}

func BenchmarkFeatures1080(b *testing.B) {
	size := image.Rect(0, 0, 1920, 1080)
	frames := filmOf(size, 8, 0.01, func(n int) geom.Homography { return geom.Translation(geom.Pt(5*float64(n), 2*float64(n))) })
	for b.Loop() {
		features := NewFeatures(600)
		for n, p := range frames {
			features.Step(n, p, nil)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N*len(frames)), "ms/frame")
}
