package track

import (
	"fmt"
	"image"
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// pointsOn puts points on the first frame of a scene.
func (s *scene) pointsOn(t testing.TB, places []geom.Point, o PointOptions) (out []*Point) {
	for _, at := range places {
		p, err := NewPoint(show(s.frames[0]), s.frames[0].Rect, at, o)
		require.NoError(t, err)
		out = append(out, p)
	}
	return out
}

// follow follows points together to the end, and returns how far each is off on each frame, infinite where it was not found.
func (s *scene) follow(points []*Point, places []geom.Point) (off [][]float64, samples [][]PointSample) {
	reads := make([]FrameReader, len(points))
	for i := 1; i < len(s.frames); i++ {
		for k := range reads {
			reads[k] = show(s.frames[i])
		}
		found, failed := StepAll(points, reads)
		row := make([]float64, len(points))
		for k := range found {
			row[k] = math.Inf(1)
			if failed[k] == nil {
				row[k] = found[k].At.Dist(s.truth[i].Apply(places[k]))
			}
		}
		off, samples = append(off, row), append(samples, found)
	}
	return off, samples
}

var usualPoint = PointOptions{Pattern: geom.Pt(21, 21), Search: geom.Pt(81, 81), Motion: geom.Position, Against: Reference, Tolerance: 0.7}

// A strip hides points for some frames: each is found again by itself behind it, and never on the strip.
func TestPointsAreFoundAgain(t *testing.T) {
	shareOf(t, 0)
	other := photograph(t, "baboon.jpg")
	graf := photograph(t, "graf1.png")
	size := image.Rect(0, 0, 640, 480)
	for _, alone := range []bool{true, false} {
		s := &scene{region: geom.Box{Min: geom.Pt(0, 0), Max: geom.Pt(640, 480)}}
		for i := range 40 {
			h := geom.Translation(geom.Pt(-80-3*float64(i), -60+8*math.Sin(float64(i)/6)))
			p := seenThrough(graf, h, size, whole(graf), 1)
			x := 26*i - 300
			s.add(noisy(strip(p, other, image.Rect(x, 0, x+150, 480)), 0.008, uint64(i)), h)
		}
		places := corners(raster.Gaussian(s.frames[0], presmooth), boxed(240, 100, 500, 380), 6)
		back, _ := s.truth[0].Inverse()
		home := back.ApplyAll(places)
		if alone {
			places, home = places[:1], home[:1]
		}
		off, _ := s.follow(s.pointsOn(t, places, usualPoint), home)
		for k := range places {
			lost, worst, last := 0, 0.0, off[len(off)-1][k]
			for _, row := range off {
				if math.IsInf(row[k], 1) {
					lost++
					continue
				}
				worst = math.Max(worst, row[k])
			}
			t.Logf("alone %v, point %d: away on %d frames, at worst %.2f px, in the end %.3f", alone, k, lost, worst, last)
			assert.Less(t, last, 0.2)
			assert.Positive(t, lost)
			assert.Less(t, lost, 12)
			assert.Less(t, worst, 1.5)
		}
	}
}

// Tiles that are all alike but for dirt: no point jumps to the next one unnoticed, by its own path, or by the others where it
// has none yet.
func TestPointsDoNotJump(t *testing.T) {
	s := tiles(14, 20, 0.03)
	var places []geom.Point
	for y := range 3 {
		for x := range 3 {
			places = append(places, geom.Pt(210+float64(80*x), 170+float64(70*y)))
		}
	}
	off, _ := s.follow(s.pointsOn(t, places, usualPoint), places)
	jumped, n := 0, 0
	for _, row := range off {
		for _, v := range row {
			n++
			if v > 3 {
				jumped++
			}
		}
	}
	t.Logf("together: %d of %d samples jumped", jumped, n)
	assert.Zero(t, jumped)

	alone, told := 0, 0
	for _, at := range places {
		off, samples := s.follow(s.pointsOn(t, []geom.Point{at}, usualPoint), []geom.Point{at})
		for i, row := range off {
			if row[0] > 3 {
				alone++
				if samples[i][0].Ambiguous || math.IsInf(row[0], 1) {
					told++
				}
			}
		}
	}
	t.Logf("each alone: %d of %d jumped, %d of them told", alone, n, told)
	assert.Equal(t, alone, told)
	assert.Positive(t, alone, "else this tells nothing")

	// With more dirt each finds its own way.
	s, alone = tiles(14, 20, 0.14), 0
	for _, at := range places {
		off, _ := s.follow(s.pointsOn(t, []geom.Point{at}, usualPoint), []geom.Point{at})
		for _, row := range off {
			if row[0] > 3 {
				alone++
			}
		}
	}
	assert.Zero(t, alone)
}

// What a point is told to be unsure by is what it is off by, in grain of several strengths.
func TestHowWellAPointIsKnown(t *testing.T) {
	graf := photograph(t, "graf1.png")
	size := image.Rect(0, 0, 400, 320)
	frames := 6
	if bench() {
		frames = 30
	}
	for _, noise := range []float64{0.01, 0.03} {
		for _, motion := range []geom.Motion{geom.Position, geom.Similarity, geom.Shear} {
			var ratios []float64
			for _, o := range []geom.Point{{X: -200, Y: -150}, {X: -350, Y: -220}} {
				s := &scene{}
				for i := range frames + 1 {
					h := geom.Translation(o.Add(geom.Pt(1.37*float64(i), 0.73*float64(i))))
					s.add(noisy(seenThrough(graf, h, size, whole(graf), 1), noise, uint64(i)), h)
				}
				places := corners(raster.Gaussian(s.frames[0], presmooth), boxed(60, 60, 340, 260), 10)
				back, _ := s.truth[0].Inverse()
				option := usualPoint
				option.Motion = motion
				off, samples := s.follow(s.pointsOn(t, places, option), back.ApplyAll(places))
				for i, row := range off {
					for k, v := range row {
						if told := samples[i][k].Variance; !math.IsInf(v, 1) {
							ratios = append(ratios, v*v/(told[0]+told[2]))
						}
					}
				}
			}
			mean := 0.0
			for _, v := range ratios {
				mean += v / float64(len(ratios))
			}
			slices.Sort(ratios)
			t.Logf("grain %.2f, %v: squares of what it is off by over what is told: mean %.2f, median %.2f, of %d", noise, motion, mean, ratios[len(ratios)/2], len(ratios))
			assert.InDelta(t, 1, mean, 0.6, fmt.Sprint(noise, motion))
		}
	}
}

// A point that is compared with the frame before drifts, and says by how much.
func TestDriftIsTold(t *testing.T) {
	graf := photograph(t, "graf1.png")
	size := image.Rect(0, 0, 400, 320)
	s := &scene{}
	for i := range 60 {
		h := geom.Translation(geom.Pt(-200+0.83*float64(i), -150+0.47*float64(i)))
		s.add(noisy(seenThrough(graf, h, size, whole(graf), 1), 0.06, uint64(i)), h)
	}
	places := corners(raster.Gaussian(s.frames[0], presmooth), boxed(80, 80, 320, 240), 6)
	back, _ := s.truth[0].Inverse()
	for _, against := range []Against{Previous, Refresh} {
		option := usualPoint
		option.Against, option.Tolerance, option.Pattern = against, 0.5, geom.Pt(13, 13)
		points := s.pointsOn(t, places, option)
		off, samples := s.follow(points, back.ApplyAll(places))
		var told, is, apart float64
		for k := range places {
			last := samples[len(samples)-1][k]
			assert.True(t, last.Known)
			told, is = told+last.Drift/6, is+off[len(off)-1][k]/6
			apart = math.Max(apart, math.Abs(last.Drift-off[len(off)-1][k]))
		}
		t.Logf("%s: off by %.2f px in the end, %.2f is told, at most %.2f apart", against, is, told, apart)
		assert.Less(t, apart, 0.3)
		if against == Previous {
			assert.InDelta(t, is, told, 0.05)
			assert.Greater(t, is, 0.1, "it does drift")
		}
	}
}

func boxed(x0, y0, x1, y1 float64) []geom.Point {
	c := geom.Box{Min: geom.Pt(x0, y0), Max: geom.Pt(x1, y1)}.Corners()
	return c[:]
}
