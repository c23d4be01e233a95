package track

import (
	"image"
	"math"
	"os"
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
	for _, f := range s.hard(t) {
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
	s := grafScene(t, 40, func(i int, p *raster.Plane, _ geom.Homography) *raster.Plane {
		x := 33*i - 500
		return strip(p, other, image.Rect(x, 0, x+440, p.Rect.Max.Y))
	})
	s.told(t, "hidden", 0.1, 0.5, 20)
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
	for _, f := range all {
		if f.err != nil {
			lost++
			continue
		}
		sum, high, found = sum+f.off, math.Max(high, f.off), found+1
	}
	t.Logf("%s: mean %.3f, worst %.2f, lost on %d of %d", name, sum/float64(found), high, lost, len(all))
	assert.NoError(t, all[len(all)-1].err, "it comes back by itself")
	assert.LessOrEqual(t, sum/float64(found), mean)
	assert.LessOrEqual(t, high, worst)
	assert.LessOrEqual(t, lost, most)
}

// rolling lights a picture by bands that roll over it, by so much more and less.
func rolling(p *raster.Plane, i int, by float64) *raster.Plane {
	for y := range p.Rect.Dy() {
		k := float32(1 + by*math.Sin(2*math.Pi*(float64(y)/140+0.37*float64(i))))
		row := p.Row(p.Rect.Min.Y+y, p.Rect.Min.X, p.Rect.Max.X)
		for x := range row {
			row[x] = min(0.7*row[x]*k, 1)
		}
	}
	return p
}

// tiles is a wall of tiles that are all alike, but for some dirt, on a camera that goes sideways.
func tiles(frames int, step float64) *scene {
	wall := raster.NewPlane(image.Rect(0, 0, 1700, 560))
	dirt := raster.Gaussian(noisy(raster.NewPlane(wall.Rect), 1, 99), 2)
	for y := range wall.Rect.Dy() {
		for x := range wall.Rect.Dx() {
			u, v := math.Mod(float64(x), 28), math.Mod(float64(y), 28)
			grout := math.Min(math.Min(u, 28-u), math.Min(v, 28-v))
			wall.Pix[y*wall.Rect.Dx()+x] = float32(0.35+0.25*math.Min(grout/2.5, 1)+0.03*math.Sin(u/4)) + 0.14*dirt.At(x, y)
		}
	}
	s := &scene{region: geom.Box{Min: geom.Pt(200, 150), Max: geom.Pt(440, 380)}}
	for i := range frames + 1 {
		h := geom.Translation(geom.Pt(-step*float64(i)*float64(frames-i)/float64(frames)*0.5, 2*math.Sin(float64(i)/5)))
		s.add(noisy(seenThrough(wall, h, image.Rect(0, 0, 640, 560), s.polygon(), 2), 0.006, uint64(i)), h)
	}
	return s
}

// smeared is a photograph on a camera that swings by up to 31 pixels a frame, with an exposure of such a share of the time
// between frames. The reference frame is taken at rest.
func smeared(t testing.TB, frames, parts int, shutter float64) *scene {
	graf := photograph(t, "graf1.png")
	s := &scene{region: geom.Box{Min: geom.Pt(280, 200), Max: geom.Pt(520, 420)}}
	at := func(u float64) geom.Homography {
		u = math.Max(u, 0)
		return geom.Translation(geom.Pt(150*(1-math.Cos(u/5))-150, 40*(1-math.Cos(u/3.5)))).
			Mul(geom.Translation(geom.Pt(150, 0)))
	}
	for i := range frames + 1 {
		var sum *raster.Plane
		for k := range parts {
			p := seenThrough(graf, at(float64(i)+shutter*((float64(k)+0.5)/float64(parts)-0.5)), graf.Rect, s.polygon(), 1)
			if sum == nil {
				sum = raster.NewPlane(p.Rect)
			}
			for j, v := range p.Pix {
				sum.Pix[j] += v / float32(parts)
			}
		}
		s.add(noisy(sum, 0.006, uint64(i)), at(float64(i)))
	}
	return s
}

// Footage that is hard without anything in front: light that rolls over the picture, tiles that are all alike, smear. What
// OpenCV makes of it stands beside.
func TestHardFootage(t *testing.T) {
	frames, parts := 14, 8
	if os.Getenv("JARDIN_BENCH") != "" {
		frames, parts = 48, 16
	}
	for _, c := range []struct {
		name        string
		mean, worst float64
		scene       func() *scene
	}{
		{"bands of light that roll, 35 % up and down", 0.1, 0.3, func() *scene {
			return grafScene(t, frames, func(i int, p *raster.Plane, _ geom.Homography) *raster.Plane { return rolling(p, i, 0.35) })
		}},
		{"tiles of 28 pixels, all alike but for dirt", 0.03, 0.1, func() *scene { return tiles(frames, 20) }},
		{"smear of up to 15 pixels", 0.15, 0.3, func() *scene { return smeared(t, frames, parts, 0.5) }},
		{"smear of up to 30 pixels", 0.5, 1, func() *scene { return smeared(t, frames, parts, 1) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := c.scene()
			var sum, high float64
			for i, f := range s.hard(t) {
				require.NoError(t, f.err, "frame %d", i+1)
				sum, high = sum+f.off/float64(len(s.frames)-1), math.Max(high, f.off)
			}
			flow, _ := s.theirs(t, false)
			t.Logf("%s: mean %.3f, worst %.2f px; OpenCV, LK and RANSAC: %v", c.name, sum, high, flow)
			assert.LessOrEqual(t, sum, c.mean)
			assert.LessOrEqual(t, high, c.worst)
		})
	}
}

// A compromise between a surface and what covers half of it is not taken for the better of two.
func TestACompromiseIsWorthLess(t *testing.T) {
	right := Sample{Match: 1, Agree: 0.5, Residual: 0.03}
	for _, between := range []Sample{{Match: 0.81, Agree: 0.89, Residual: 0.56}, {Match: 0.95, Agree: 1, Residual: 0.5}} {
		assert.Greater(t, right.worth(), between.worth())
	}
	assert.Greater(t, (&Sample{Match: 0.9, Agree: 0.9, Residual: 0.05}).worth(), right.worth())
}
