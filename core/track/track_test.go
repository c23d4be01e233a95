package track

import (
	"image"
	"math"
	"math/rand/v2"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// surface is a smooth, unrepeating pattern that can be evaluated anywhere, so that
// pictures of it under any transform are exact: no resampling stands between the
// truth and what the tracker sees.
type surface struct{ waves [36][4]float64 }

func newSurface(seed uint64) *surface {
	r := rand.New(rand.NewPCG(seed, 5))
	s := &surface{}
	for i := range s.waves {
		length := 6 + 60*r.Float64()*r.Float64()
		angle := r.Float64() * 2 * math.Pi
		s.waves[i] = [4]float64{
			2 * math.Pi / length * math.Cos(angle),
			2 * math.Pi / length * math.Sin(angle),
			r.Float64() * 2 * math.Pi,
			0.4 + length/40,
		}
	}
	return s
}

func (s *surface) at(p geom.Point) float64 {
	v := 0.0
	for _, w := range s.waves {
		v += w[3] * math.Sin(w[0]*p.X+w[1]*p.Y+w[2])
	}
	return 0.5 + v/36
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
func show(p *raster.Plane) FrameReader {
	return func(rect image.Rectangle) (*raster.Plane, error) {
		out := raster.NewPlane(rect.Intersect(p.Rect))
		for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
			copy(out.Row(y, out.Rect.Min.X, out.Rect.Max.X), p.Row(y, out.Rect.Min.X, out.Rect.Max.X))
		}
		return out, nil
	}
}

var region = []geom.Point{{X: 60, Y: 50}, {X: 260, Y: 50}, {X: 260, Y: 190}, {X: 60, Y: 190}}

func worst(h, truth geom.Homography) float64 { return worstOf(region, h, truth) }

func worstOf(corners []geom.Point, h, truth geom.Homography) (e float64) {
	for _, c := range corners {
		e = math.Max(e, h.Apply(c).Dist(truth.Apply(c)))
	}
	return e
}

// walk is a smooth path of cameras with shift, roll, zoom and perspective.
func walk(i int) geom.Homography {
	t := float64(i)
	roll, zoom := 0.01*t, 1+0.006*t
	spin := geom.Homography{
		zoom * math.Cos(roll),
		-zoom * math.Sin(roll),
		0,
		zoom * math.Sin(roll),
		zoom * math.Cos(roll),
		0,
		8e-6 * t,
		-6e-6 * t,
		1,
	}
	return geom.Translation(geom.Pt(160+2.7*t, 120-1.3*t)).Mul(spin).Mul(geom.Translation(geom.Pt(-160, -120)))
}

func follow(
	t *testing.T,
	motion geom.Motion,
	path func(int) geom.Homography,
	frames int,
	change func(i int, p *raster.Plane) *raster.Plane,
) float64 {
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
		return geom.Translation(geom.Pt(160, 120)).
			Mul(geom.Homography{1 + 0.005*float64(i), -0.01 * float64(i), 0, 0.01 * float64(i), 1 + 0.005*float64(i), 0,
				0, 0, 1}).
			Mul(geom.Translation(geom.Pt(-160, -120)))
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
	_, err = NewPlane(
		show(s),
		frame,
		[]geom.Point{{X: 10, Y: 10}, {X: 13, Y: 10}, {X: 13, Y: 13}},
		nil,
		geom.Perspective,
	)
	assert.ErrorIs(t, err, ErrSmall)
	_, err = NewPlane(
		show(s),
		frame,
		[]geom.Point{{X: 1000, Y: 1000}, {X: 1300, Y: 1000}, {X: 1300, Y: 1300}},
		nil,
		geom.Perspective,
	)
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

// What is covered on a frame does not count there, and what lies outside the region's
// exclusions on the reference frame does not count anywhere.
func TestExclusionsAreLeftOut(t *testing.T) {
	s := newSurface(3)
	other := newSurface(77)
	// Half of the region shows another surface that slides away.
	seen := func(i int) *raster.Plane {
		p := s.seen(walk(i))
		q := other.seen(geom.Translation(geom.Pt(-5*float64(i), 2*float64(i))))
		for y := range frame.Dy() {
			for x := range 165 {
				p.Pix[y*frame.Dx()+x] = q.Pix[y*frame.Dx()+x]
			}
		}
		return p
	}
	out := [][]geom.Point{{{X: 0, Y: 0}, {X: 170, Y: 0}, {X: 170, Y: 240}, {X: 0, Y: 240}}}
	tr, err := NewPlane(show(seen(0)), frame, region, out, geom.Perspective)
	require.NoError(t, err)
	base, _ := walk(0).Inverse()
	for i := 1; i <= 10; i++ {
		sample, err := tr.Step(show(seen(i)), out)
		require.NoError(t, err, "frame %d", i)
		truth := walk(i).Mul(base)
		for _, c := range region[1:3] { // on the side that is followed
			assert.Less(t, sample.H.Apply(c).Dist(truth.Apply(c)), 0.1, "frame %d", i)
		}
		assert.Equal(t, Outside, sample.Blocks[0], "nothing of the left side counts")
		assert.Equal(t, Used, sample.Blocks[7])
	}
}

// Light that slopes across the region, and changes, does not move it.
func TestPlaneSurvivesASlopeOfLight(t *testing.T) {
	e := follow(t, geom.Perspective, walk, 12, func(i int, p *raster.Plane) *raster.Plane {
		out := raster.NewPlane(p.Rect)
		for k, v := range p.Pix {
			x, y := float32(k%frame.Dx())/320, float32(k/frame.Dx())/240
			out.Pix[k] = v*(1+0.02*float32(i)) + 0.02*float32(i)*(x-y)
		}
		return out
	})
	assert.Less(t, e, 0.05)
}

// Where the surface no longer looks as it did, it is followed on from the last frame,
// and the samples say so.
func TestPlaneGoesOnWhenLooksChange(t *testing.T) {
	shareOf(t, 0)
	a, b := newSurface(3), newSurface(40)
	seen := func(i int) *raster.Plane { // one surface fades into another that moves alike
		p, q := a.seen(walk(i)), b.seen(walk(i))
		share := float32(math.Min(float64(i)/14, 1))
		for k := range p.Pix {
			p.Pix[k] += (q.Pix[k] - p.Pix[k]) * share
		}
		return p
	}
	tr, err := NewPlane(show(seen(0)), frame, region, nil, geom.Perspective)
	require.NoError(t, err)
	base, _ := walk(0).Inverse()
	chained := 0
	for i := 1; i <= 18; i++ {
		sample, err := tr.Step(show(seen(i)), nil)
		require.NoError(t, err, "frame %d", i)
		if sample.Chained {
			chained++
		}
		// While it fades, what is seen is neither the one nor the other: a chain drifts there.
		assert.Less(t, worst(sample.H, walk(i).Mul(base)), 5.0, "frame %d", i)
	}
	assert.Greater(t, chained, 2)
}

func TestSamplesThatAreNoNumbersAreRefusedOrLeftOut(t *testing.T) {
	s := newSurface(3)
	nan := float32(math.NaN())
	spoil := func(p *raster.Plane, every int) *raster.Plane {
		for k := 0; k < len(p.Pix); k += every {
			p.Pix[k] = nan
		}
		return p
	}
	_, err := NewPlane(show(spoil(s.seen(geom.Identity), 1)), frame, region, nil, geom.Perspective)
	assert.ErrorIs(t, err, ErrNaN)
	tr, err := NewPlane(show(spoil(s.seen(geom.Identity), 997)), frame, region, nil, geom.Perspective)
	require.NoError(t, err, "a few of them do no harm")
	sample, err := tr.Step(show(spoil(s.seen(walk(1)), 1013)), nil)
	require.NoError(t, err)
	base, _ := walk(0).Inverse()
	assert.Less(t, worst(sample.H, walk(1).Mul(base)), 0.2)
	_, err = tr.Step(show(spoil(s.seen(walk(2)), 1)), nil)
	assert.ErrorIs(t, err, ErrNaN)
}

func TestPointsAreRefusedLostAndFoundAgain(t *testing.T) {
	s := newSurface(5)
	o := PointOptions{
		Pattern:   geom.Pt(21, 21),
		Search:    geom.Pt(51, 51),
		Motion:    geom.Position,
		Against:   Reference,
		Tolerance: 0.7,
	}
	at := geom.Pt(150, 120)
	_, err := NewPoint(show(raster.NewPlane(frame)), frame, at, o)
	assert.ErrorIs(t, err, ErrFlat)
	edge := raster.NewPlane(frame)
	for i := range edge.Pix {
		if i%frame.Dx() > 150 {
			edge.Pix[i] = 1
		}
	}
	_, err = NewPoint(show(edge), frame, at, o)
	assert.ErrorIs(t, err, ErrFlat, "along an edge a pattern slides")
	_, err = NewPoint(show(s.seen(geom.Identity)), frame, geom.Pt(-40, 20), o)
	assert.ErrorIs(t, err, ErrLeft)

	p, err := NewPoint(show(s.seen(geom.Identity)), frame, at, o)
	require.NoError(t, err)
	_, err = p.Step(show(newSurface(99).seen(geom.Identity)))
	assert.Error(t, err, "nothing like it is there")
	_, err = p.Step(show(s.seen(geom.Translation(geom.Pt(60, 0)))))
	assert.Error(t, err, "farther than its search box")
	found, err := p.Step(show(s.seen(geom.Translation(geom.Pt(9, -6)))))
	require.NoError(t, err, "it stays where it was until it is found")
	assert.Less(t, found.At.Dist(at.Add(geom.Pt(9, -6))), 0.03)
}

// A pattern that turns and grows is followed when it may, and a kept pattern that no longer
// matches is taken anew.
func TestPatternsThatChange(t *testing.T) {
	shareOf(t, 2)
	s := newSurface(5)
	at := geom.Pt(160, 120)
	turn := func(i int) geom.Homography {
		return geom.Placement(
			at,
			geom.Pt(1.5*float64(i), 0.5*float64(i)),
			4*float64(i),
			geom.Pt(1+0.02*float64(i), 1+0.02*float64(i)),
		)
	}
	run := func(o PointOptions) (worst float64, err error) {
		p, err := NewPoint(show(s.seen(turn(0))), frame, at, o)
		require.NoError(t, err)
		for i := 1; i <= 12; i++ {
			found, err := p.Step(show(s.seen(turn(i))))
			if err != nil {
				return worst, err
			}
			h := turn(i)
			worst = math.Max(worst, found.At.Dist(h.Apply(at)))
		}
		return worst, nil
	}
	o := PointOptions{
		Pattern:   geom.Pt(25, 25),
		Search:    geom.Pt(51, 51),
		Motion:    geom.Similarity,
		Against:   Reference,
		Tolerance: 0.8,
	}
	e, err := run(o)
	require.NoError(t, err)
	assert.Less(t, e, 0.1)
	o.Motion = geom.Shear
	e, err = run(o)
	require.NoError(t, err)
	assert.Less(t, e, 0.1)
	o.Motion = geom.Position
	_, err = run(o)
	assert.ErrorIs(t, err, ErrLost, "a pattern that may not turn is lost")
	o.Against = Refresh
	e, err = run(o)
	require.NoError(t, err, "a kept pattern is taken anew")
	assert.Less(t, e, 5.0, "it drifts, as every chain does, but stays on the pattern")
	o.Against = Previous
	_, err = run(o)
	require.NoError(t, err)
}

// Two thousand frames: neither memory nor the work for a frame grows. Frames come and go
// as on a swing, so that the last is one that has been seen.
func TestALongTrackDoesNotGrow(t *testing.T) {
	shareOf(t, 2)
	s := newSurface(3)
	var seen []*raster.Plane
	for i := range 9 {
		seen = append(seen, s.seen(walk(i)))
	}
	small := []geom.Point{{X: 125, Y: 90}, {X: 195, Y: 90}, {X: 195, Y: 150}, {X: 125, Y: 150}}
	tr, err := NewPlane(show(seen[0]), frame, small, nil, geom.Perspective)
	require.NoError(t, err)
	p, err := NewPoint(
		show(seen[0]),
		frame,
		geom.Pt(160, 120),
		PointOptions{
			Pattern:   geom.Pt(21, 21),
			Search:    geom.Pt(51, 51),
			Motion:    geom.Similarity,
			Against:   Reference,
			Tolerance: 0.5,
		},
	)
	require.NoError(t, err)
	heap := func() uint64 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	base, _ := walk(0).Inverse()
	var early uint64
	for n := 1; n <= 2000; n++ {
		i := n % 16
		i = min(i, 16-i)
		sample, err := tr.Step(show(seen[i]), nil)
		require.NoError(t, err, "frame %d", n)
		at, err := p.Step(show(seen[i]))
		require.NoError(t, err, "frame %d", n)
		if n == 200 {
			early = heap()
		}
		if n == 2000 {
			truth := walk(i).Mul(base)
			assert.Less(t, worstOf(small, sample.H, truth), 0.05, "no drift")
			assert.Less(t, at.At.Dist(truth.Apply(geom.Pt(160, 120))), 0.05)
			assert.Less(t, float64(heap()), 1.1*float64(early))
		}
	}
}

// Something large crosses the region. Marked on each frame it does no harm; unmarked it
// covers too much to be told from the surface.
func TestWhatIsMarkedOnAFrameDoesNotCountThere(t *testing.T) {
	s, other := newSurface(3), newSurface(77).seen(geom.Identity)
	box := func(i int) image.Rectangle { return image.Rect(60+6*i, 40, 200+6*i, 200) }
	seen := func(i int) *raster.Plane {
		p := s.seen(walk(i))
		if i == 0 {
			return p
		}
		for y := box(i).Min.Y; y < box(i).Max.Y; y++ {
			for x := box(i).Min.X; x < min(box(i).Max.X, frame.Dx()); x++ {
				p.Pix[y*frame.Dx()+x] = other.At(x-6*i, y)
			}
		}
		return p
	}
	run := func(marked bool) (off float64) {
		tr, err := NewPlane(show(seen(0)), frame, region, nil, geom.Perspective)
		require.NoError(t, err)
		base, _ := walk(0).Inverse()
		for i := 1; i <= 6; i++ {
			var covered [][]geom.Point
			if marked {
				b := box(i)
				covered = [][]geom.Point{
					{
						{X: float64(b.Min.X), Y: 40},
						{X: float64(b.Max.X), Y: 40},
						{X: float64(b.Max.X), Y: 200},
						{X: float64(b.Min.X), Y: 200},
					},
				}
			}
			sample, err := tr.Step(show(seen(i)), covered)
			if err != nil {
				return math.Inf(1)
			}
			off = math.Max(off, worst(sample.H, walk(i).Mul(base)))
		}
		return off
	}
	assert.Less(t, run(true), 0.5)
	assert.Greater(t, run(false), 0.5)
}

// Of two places that look like a pattern the one is taken that looks more like it, though the
// other lies nearer to where the point was.
func TestTheBetterOfTwoLookAlikes(t *testing.T) {
	s := newSurface(5)
	first := s.seen(geom.Identity)
	at := geom.Pt(150, 120)
	o := PointOptions{
		Pattern:   geom.Pt(21, 21),
		Search:    geom.Pt(121, 81),
		Motion:    geom.Position,
		Against:   Reference,
		Tolerance: 0.5,
	}
	other := newSurface(77).seen(geom.Identity)
	paste := func(into *raster.Plane, to geom.Point, share float32) {
		for y := -16; y <= 16; y++ {
			for x := -16; x <= 16; x++ {
				v := first.At(int(at.X)+x, int(at.Y)+y)*share + other.At(int(at.X)+x+40, int(at.Y)+y+30)*(1-share)
				into.Row(int(to.Y)+y, int(to.X)+x, int(to.X)+x+1)[0] = v
			}
		}
	}
	for _, side := range []float64{-1, 1} {
		p, err := NewPoint(show(first), frame, at, o)
		require.NoError(t, err)
		next := newSurface(31).seen(geom.Identity)
		paste(next, at.Add(geom.Pt(-18*side, 4)), 0.8) // nearly like it, and near
		paste(next, at.Add(geom.Pt(36*side, -6)), 1)
		found, err := p.Step(show(next))
		require.NoError(t, err)
		assert.Less(t, found.At.Dist(at.Add(geom.Pt(36*side, -6))), 0.1)
	}
}

// A step is taken only if enough of the region looks alike and enough of it agrees.
func TestAStepNeedsMatchAndAgreement(t *testing.T) {
	tr, err := NewPlane(show(newSurface(3).seen(geom.Identity)), frame, region, nil, geom.Perspective)
	require.NoError(t, err)
	good := Sample{H: geom.Identity, Match: 1, Agree: 1}
	assert.NoError(t, tr.accept(good))
	for _, bad := range []Sample{{H: geom.Identity, Match: tr.MinMatch - 0.01, Agree: 1}, {H: geom.Identity, Match: 1,
		Agree: tr.MinAgree - 0.01}} {
		assert.ErrorIs(t, tr.accept(bad), ErrLost)
	}
	assert.Error(t, tr.accept(Sample{H: geom.Homography{}, Match: 1, Agree: 1}))
}
