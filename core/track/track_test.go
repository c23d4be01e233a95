package track

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// surface is a smooth, unrepeating pattern that can be evaluated anywhere, so that
// pictures of it under any transform are exact: no resampling stands between the
// truth and what the tracker sees.
type surface struct{ waves [60][4]float64 }

func newSurface(seed uint64) *surface {
	r := rand.New(rand.NewPCG(seed, 5))
	s := &surface{}
	for i := range s.waves {
		length := 6 + 60*r.Float64()*r.Float64()
		angle := r.Float64() * 2 * math.Pi
		s.waves[i] = [4]float64{2 * math.Pi / length * math.Cos(angle), 2 * math.Pi / length * math.Sin(angle), r.Float64() * 2 * math.Pi, 0.4 + length/40}
	}
	return s
}

func (s *surface) at(p geom.Point) float64 {
	v := 0.0
	for _, w := range s.waves {
		v += w[3] * math.Sin(w[0]*p.X+w[1]*p.Y+w[2])
	}
	return 0.5 + v/60
}

var frame = image.Rect(0, 0, 320, 240)

// seen is the surface through a camera that maps it by h.
func (s *surface) seen(h geom.Homography) *raster.Plane {
	back, _ := h.Inverse()
	p := raster.NewPlane(frame)
	raster.Rows(0, frame.Dy(), func(y int) {
		for x := range frame.Dx() {
			p.Pix[y*frame.Dx()+x] = float32(s.at(back.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))))
		}
	})
	return p
}

func noisy(p *raster.Plane, deviation float64, seed uint64) *raster.Plane {
	r := rand.New(rand.NewPCG(seed, 8))
	out := raster.NewPlane(p.Rect)
	for i, v := range p.Pix {
		out.Pix[i] = v + float32(deviation*r.NormFloat64())
	}
	return out
}

// show hands out a picture as the tracker asks for it.
func show(p *raster.Plane) Look {
	return func(r image.Rectangle) (*raster.Plane, error) {
		out := raster.NewPlane(r.Intersect(p.Rect))
		for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
			copy(out.Row(y, out.Rect.Min.X, out.Rect.Max.X), p.Row(y, out.Rect.Min.X, out.Rect.Max.X))
		}
		return out, nil
	}
}

var region = []geom.Point{{X: 60, Y: 50}, {X: 260, Y: 50}, {X: 260, Y: 190}, {X: 60, Y: 190}}

func worst(h, truth geom.Homography) (e float64) {
	for _, c := range region {
		e = math.Max(e, h.Apply(c).Dist(truth.Apply(c)))
	}
	return e
}

// walk is a smooth path of cameras with shift, roll, zoom and perspective.
func walk(i int) geom.Homography {
	t := float64(i)
	roll, zoom := 0.01*t, 1+0.006*t
	spin := geom.Homography{zoom * math.Cos(roll), -zoom * math.Sin(roll), 0, zoom * math.Sin(roll), zoom * math.Cos(roll), 0, 8e-6 * t, -6e-6 * t, 1}
	return geom.Translation(geom.Pt(160+2.7*t, 120-1.3*t)).Mul(spin).Mul(geom.Translation(geom.Pt(-160, -120)))
}

func follow(t *testing.T, motion geom.Motion, path func(int) geom.Homography, frames int, change func(i int, p *raster.Plane) *raster.Plane) float64 {
	s := newSurface(3)
	tr, err := NewPlane(show(change(0, s.seen(path(0)))), frame, region, nil, motion)
	require.NoError(t, err)
	base, _ := path(0).Inverse()
	e := 0.0
	for i := 1; i <= frames; i++ {
		sample, err := tr.Step(show(change(i, s.seen(path(i)))), nil)
		require.NoError(t, err, "frame %d", i)
		e = math.Max(e, worst(sample.H, path(i).Mul(base)))
	}
	return e
}

func TestPlaneFollowsEachMotion(t *testing.T) {
	same := func(_ int, p *raster.Plane) *raster.Plane { return p }
	shift := func(i int) geom.Homography { return geom.Translation(geom.Pt(3.3*float64(i), -1.7*float64(i))) }
	spin := func(i int) geom.Homography {
		h := walk(i)
		h[6], h[7] = 0, 0
		return geom.Translation(geom.Pt(160, 120)).Mul(geom.Homography{1 + 0.005*float64(i), -0.01 * float64(i), 0, 0.01 * float64(i), 1 + 0.005*float64(i), 0, 0, 0, 1}).Mul(geom.Translation(geom.Pt(-160, -120)))
	}
	assert.Less(t, follow(t, geom.Position, shift, 12, same), 0.02)
	assert.Less(t, follow(t, geom.Similarity, spin, 12, same), 0.02)
	assert.Less(t, follow(t, geom.Perspective, walk, 12, same), 0.05)
}

func TestPlaneSurvivesNoiseAndLight(t *testing.T) {
	e := follow(t, geom.Perspective, walk, 12, func(i int, p *raster.Plane) *raster.Plane {
		out := noisy(p, 0.01, uint64(i))
		gain, offset := float32(1+0.3*math.Sin(float64(i))), float32(0.05*math.Cos(float64(2*i)))
		for k := range out.Pix {
			out.Pix[k] = out.Pix[k]*gain + offset
		}
		return out
	})
	assert.Less(t, e, 0.15, "light flickers by 30 %%, noise is 1 %%")
}

func TestPlaneLeavesOutWhatCrosses(t *testing.T) {
	other := newSurface(77).seen(geom.Identity)
	e := follow(t, geom.Perspective, walk, 12, func(i int, p *raster.Plane) *raster.Plane {
		if i == 0 {
			return p
		}
		out := raster.NewPlane(p.Rect)
		copy(out.Pix, p.Pix)
		for y := 60; y < 150; y++ { // a fifth of the region, moving against it
			for x := 200 - 8*i; x < 270-8*i; x++ {
				if image.Pt(x, y).In(frame) {
					out.Pix[y*frame.Dx()+x] = other.At((x+11*i)%frame.Dx(), y)
				}
			}
		}
		return out
	})
	assert.Less(t, e, 0.3)
}

func TestPlaneSaysWhenItIsLost(t *testing.T) {
	s := newSurface(3)
	tr, err := NewPlane(show(s.seen(geom.Identity)), frame, region, nil, geom.Perspective)
	require.NoError(t, err)
	_, err = tr.Step(show(newSurface(99).seen(geom.Identity)), nil)
	require.Error(t, err, "another surface is not this one")
	sample, err := tr.Step(show(s.seen(geom.Translation(geom.Pt(2, 1)))), nil)
	require.NoError(t, err, "after a loss it is still where it was")
	assert.Less(t, worst(sample.H, geom.Translation(geom.Pt(2, 1))), 0.05)
}

func TestPlaneRefusesWhatCannotBeFollowed(t *testing.T) {
	flat := raster.NewPlane(frame)
	_, err := NewPlane(show(flat), frame, region, nil, geom.Perspective)
	assert.ErrorIs(t, err, ErrFlat)
	s := newSurface(1).seen(geom.Identity)
	_, err = NewPlane(show(s), frame, []geom.Point{{X: 10, Y: 10}, {X: 13, Y: 10}, {X: 13, Y: 13}}, nil, geom.Perspective)
	assert.ErrorIs(t, err, ErrSmall)
	_, err = NewPlane(show(s), frame, []geom.Point{{X: 1000, Y: 1000}, {X: 1300, Y: 1000}, {X: 1300, Y: 1300}}, nil, geom.Perspective)
	assert.ErrorIs(t, err, ErrSmall)
}

func TestMatchIsSubPixelWhateverTheLight(t *testing.T) {
	s := newSurface(5)
	a := raster.Pyramid(s.seen(geom.Identity), 4)
	d := geom.Pt(7.3, -4.6)
	moved := s.seen(geom.Translation(d))
	for i := range moved.Pix {
		moved.Pix[i] = moved.Pix[i]*1.6 + 0.1
	}
	b := raster.Pyramid(moved, 4)
	for _, p := range []geom.Point{{X: 100.5, Y: 100.5}, {X: 160, Y: 130}, {X: 222.2, Y: 77.7}} {
		q, ok := Match(a, b, p, p)
		require.True(t, ok)
		assert.InDelta(t, 0, q.Dist(p.Add(d)), 0.03)
	}
}
