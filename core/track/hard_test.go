package track

import (
	"fmt"
	"image"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A followed is what came of one frame of a hard scene.
type followed struct {
	off    float64 // RMS distance of the corners from the truth, pixels
	sample Sample
	err    error
}

// hard follows a scene to its end, also where it is lost for some frames.
func (s *scene) hard(t testing.TB) (out []followed) {
	tr, err := NewPlane(show(s.frames[0]), s.frames[0].Rect, s.polygon(), nil, geom.Perspective)
	require.NoError(t, err)
	for i := 1; i < len(s.frames); i++ {
		sample, err := tr.Step(show(s.frames[i]), nil)
		f := followed{sample: sample, err: err, off: math.Inf(1)}
		if err == nil {
			f.off = s.off(i, sample.H)
		}
		out = append(out, f)
	}
	return out
}

// strip lays part of another photograph over a picture.
func strip(p, other *raster.Plane, at image.Rectangle) *raster.Plane {
	for y := at.Min.Y; y < at.Max.Y; y++ {
		for x := at.Min.X; x < at.Max.X; x++ {
			if q := image.Pt(x, y); q.In(p.Rect) {
				p.Pix[y*p.Rect.Dx()+x] = other.At((x-at.Min.X)%(other.Rect.Dx()-20)+10, (y-at.Min.Y)%(other.Rect.Dy()-20)+10)
			}
		}
	}
	return p
}

// A strip that nobody marked crosses the region at 18 pixels a frame and covers 44 % of it for some frames.
func TestAStripThatCrosses(t *testing.T) {
	other := photograph(t, "baboon.jpg")
	s := grafScene(t, 48, func(i int, p *raster.Plane, _ geom.Homography) *raster.Plane {
		x := 18*i - 100
		return strip(p, other, image.Rect(x, 0, x+160, p.Rect.Max.Y))
	})
	var mean, worst float64
	lost := 0
	for i, f := range s.hard(t) {
		t.Log(fmt.Sprintf("%d: off %.2f match %.2f agree %.2f residual %.2f chained %v %v", i+1, f.off, f.sample.Match, f.sample.Agree,
			f.sample.Residual, f.sample.Chained, f.err))
		if f.err != nil {
			lost++
			continue
		}
		mean += f.off
		worst = math.Max(worst, f.off)
	}
	n := float64(len(s.frames) - 1 - lost)
	flow, _ := s.theirs(t, false)
	t.Logf("strip: mean %.3f, worst %.2f, lost on %d; OpenCV, LK and RANSAC: %v", mean/n, worst, lost, flow)
	assert.LessOrEqual(t, mean/n, 0.05)
	assert.LessOrEqual(t, worst, 0.5)
}

// A wide strip hides all of the region for some frames: it is lost there, and found again behind.
func TestAStripThatHidesAll(t *testing.T) {
	other := photograph(t, "baboon.jpg")
	s := grafScene(t, 60, func(i int, p *raster.Plane, _ geom.Homography) *raster.Plane {
		x := 22*i - 500
		return strip(p, other, image.Rect(x, 0, x+440, p.Rect.Max.Y))
	})
	s.told(t, "hidden", 0.1, 0.5, 30)
}

// The region leaves the picture and returns.
func TestARegionThatReturns(t *testing.T) {
	graf := photograph(t, "graf1.png")
	s := &scene{region: geom.Box{Min: geom.Pt(230, 170), Max: geom.Pt(450, 400)}}
	size := image.Rect(0, 0, 640, 560)
	region := s.polygon()
	for i := range 61 {
		h := geom.Translation(geom.Pt(-620*math.Sin(math.Pi*float64(i)/60), 30*math.Sin(float64(i)/9)))
		s.add(noisy(seenThrough(graf, h, size, region, 2), 0.008, uint64(i)), h)
	}
	s.told(t, "returns", 0.1, 0.5, 46)
}

// told follows a scene and says how far off it is where it was found; it must be found on the last frame, and lost on no
// more than so many.
func (s *scene) told(t *testing.T, name string, mean, worst float64, most int) {
	var sum, high float64
	lost, found := 0, 0
	all := s.hard(t)
	for i, f := range all {
		if f.err != nil {
			lost++
			continue
		}
		t.Logf("%d: off %.2f match %.2f agree %.2f residual %.2f chained %v", i+1, f.off, f.sample.Match, f.sample.Agree,
			f.sample.Residual, f.sample.Chained)
		sum, high, found = sum+f.off, math.Max(high, f.off), found+1
	}
	t.Logf("%s: mean %.3f, worst %.2f, lost on %d of %d", name, sum/float64(found), high, lost, len(all))
	assert.NoError(t, all[len(all)-1].err, "it comes back by itself")
	assert.LessOrEqual(t, sum/float64(found), mean)
	assert.LessOrEqual(t, high, worst)
	assert.LessOrEqual(t, lost, most)
}
