package fill

import (
	"image"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/geom"
	"jardin/core/raster"
)

// at is one dab in the middle of a canvas.
var at = []Touch{{Point: geom.Pt(40.5, 40.5), Pressure: 1}}

func painted(p *raster.Image, strokes ...Stroke) *Canvas {
	c := NewCanvas(p)
	for _, s := range strokes {
		c.Paint(s, at)
	}
	return c
}

func TestEachModeDoesWhatItSays(t *testing.T) {
	p := plate(81, 81)
	base := Stroke{Size: 30, Hardness: 0.5, Opacity: 0.8}
	shown := func(s Stroke, before ...Stroke) *raster.Image { return painted(p, append(before, s)...).Shown(p.Rect) }
	each := func(m *raster.Image, want func(was [4]float32, cover float32, x, y int) [4]float32) {
		t.Helper()
		for y := range 81 {
			for x := range 81 {
				d := geom.Pt(float64(x)+0.5, float64(y)+0.5).Dist(geom.Pt(40.5, 40.5))
				cover := float32(0.8 * Profile(d, 15, 0.5))
				w := want(p.At(x, y), cover, x, y)
				for k := range 3 {
					assert.InDelta(t, w[k], m.At(x, y)[k], 2e-5, "%d,%d", x, y)
				}
			}
		}
	}
	mix := func(was, to [4]float32, a float32) [4]float32 {
		for k := range 3 {
			was[k] += (to[k] - was[k]) * a
		}
		return was
	}
	s := base
	s.Mode, s.Colour = Colour, [3]float32{0.2, 0.5, 0.1}
	each(
		shown(s),
		func(was [4]float32, a float32, _, _ int) [4]float32 { return mix(was, [4]float32{0.2, 0.5, 0.1}, a) },
	)
	one := s
	one.Channels = [3]bool{false, true, false}
	each(shown(one), func(was [4]float32, a float32, _, _ int) [4]float32 {
		return mix(was, [4]float32{was[0], 0.5, was[2]}, a)
	})
	lift := base
	lift.Mode, lift.Amount = Lift, 1
	each(shown(lift), func(was [4]float32, a float32, _, _ int) [4]float32 {
		return mix(was, [4]float32{2 * was[0], 2 * was[1], 2 * was[2]}, a)
	})
	lower := lift
	lower.Mode = Lower
	each(shown(lower), func(was [4]float32, a float32, _, _ int) [4]float32 {
		return mix(was, [4]float32{was[0] / 2, was[1] / 2, was[2] / 2}, a)
	})
	soft := base
	soft.Mode, soft.Amount = Soften, 2
	blurred := raster.GaussianImage(p, 2)
	each(shown(soft), func(was [4]float32, a float32, x, y int) [4]float32 { return mix(was, blurred.At(x, y), a) })
	// Erasing takes away this canvas's paint only, by its own coverage.
	erase := base
	erase.Mode = Erase
	each(shown(erase, s), func(was [4]float32, a float32, _, _ int) [4]float32 {
		return mix(was, [4]float32{0.2, 0.5, 0.1}, a*(1-a))
	})
}

// Dragged over an edge, what lies before it is carried over it.
func TestSmearDragsAlong(t *testing.T) {
	p := raster.NewImage(image.Rect(0, 0, 120, 60))
	for y := range 60 {
		for x := range 120 {
			v := float32(0)
			if x < 50 {
				v = 1
			}
			p.Set(x, y, [4]float32{v, v, v, 1})
		}
	}
	far := func(amount float64) float64 { // how far right of the edge the light got
		c := NewCanvas(p)
		c.Paint(
			Stroke{Mode: Smear, Size: 20, Hardness: 1, Opacity: 1, Amount: amount},
			line(geom.Pt(35, 30), geom.Pt(90, 30), 12),
		)
		m := c.Shown(p.Rect)
		sum := 0.0
		for x := 50; x < 120; x++ {
			sum += float64(m.At(x, 30)[0])
		}
		return sum
	}
	assert.InDelta(t, 0, far(0), 1e-6)
	assert.Greater(t, far(1), 30.0, "all of it goes along, as far as the brush does")
	assert.Greater(t, far(0.9), 3.0)
	assert.Less(t, far(0.9), far(1))
}

// The path of a hand along a curve, looked at 30 and 240 times a second: the area
// under the stroke is the same within what one dab more or less makes.
func TestCurvedStrokeDoesNotDependOnEventRate(t *testing.T) {
	p := plate(260, 260)
	hand := func(events int) []Touch {
		var out []Touch
		for i := range events {
			a := 5 * float64(i) / float64(events-1)
			radius := 60 + 8*a
			out = append(out, Touch{Point: geom.Pt(130+radius*math.Cos(a), 130+radius*math.Sin(a)), Pressure: 0.5 + 0.4*math.Sin(2*a)})
		}
		return out
	}
	cover := func(events int) *raster.Image {
		c := NewCanvas(p)
		c.Paint(Stroke{Mode: Colour, Size: 24, Hardness: 0.5, Opacity: 1, Pen: Pen{Size: true}}, hand(events))
		return c.View(p.Rect)
	}
	a, b := cover(30), cover(240)
	var area, differs float64
	for i := 3; i < len(a.Pix); i += 4 {
		area += float64(b.Pix[i])
		differs += math.Abs(float64(a.Pix[i] - b.Pix[i]))
	}
	t.Logf("30 or 240 events: %.2f %% of the covered area differs", 100*differs/area)
	assert.LessOrEqual(t, differs/area, 0.02)
	// Straight pieces between the 30 places would miss the curve by more.
	straight := NewCanvas(p)
	for i, path := 1, hand(30); i < len(path); i++ {
		straight.Paint(
			Stroke{Mode: Colour, Size: 24, Hardness: 0.5, Opacity: 1, Pen: Pen{Size: true}},
			[]Touch{path[i-1], path[i-1], path[i]},
		)
	}
	var worse float64
	for i, v := range straight.View(p.Rect).Pix {
		if i%4 == 3 {
			worse += math.Abs(float64(v - b.Pix[i]))
		}
	}
	assert.Less(t, differs, worse)
}

// Corners are not rounded, nor overshot: an L drawn with three events stays in its
// capsules.
func TestCornersStayCorners(t *testing.T) {
	p := plate(120, 120)
	c := NewCanvas(p)
	c.Paint(
		Stroke{Mode: Colour, Size: 10, Hardness: 1, Opacity: 1},
		[]Touch{{Point: geom.Pt(20, 20), Pressure: 1}, {Point: geom.Pt(80, 20), Pressure: 1}, {Point: geom.Pt(80, 90), Pressure: 1}},
	)
	for y := range 120 {
		for x := range 120 {
			q := geom.Pt(float64(x)+0.5, float64(y)+0.5)
			near := math.Min(
				q.Dist(geom.Pt(math.Min(math.Max(q.X, 20), 80), 20)),
				q.Dist(geom.Pt(80, math.Min(math.Max(q.Y, 20), 90))),
			)
			if near > 6 {
				assert.Zero(t, c.View(image.Rect(x, y, x+1, y+1)).Pix[3], "%d,%d", x, y)
			}
		}
	}
}

func TestFlowPenRoundnessAndJitter(t *testing.T) {
	p := plate(81, 81)
	alpha := func(s Stroke, path []Touch) *raster.Image {
		c := NewCanvas(p)
		c.Paint(s, path)
		return c.View(p.Rect)
	}
	area := func(m *raster.Image) (sum float64) {
		for i := 3; i < len(m.Pix); i += 4 {
			sum += float64(m.Pix[i])
		}
		return sum
	}
	s := Stroke{Mode: Colour, Size: 40, Hardness: 1, Opacity: 0.9}
	flow := s
	flow.Flow = 0.25
	assert.InDelta(t, 0.9*0.25, alpha(flow, at).At(40, 40)[3], 1e-6)
	// Going over the same place again builds up, to the opacity and no further.
	back := []Touch{
		{Point: geom.Pt(20, 40), Pressure: 1},
		{Point: geom.Pt(60, 40), Pressure: 1},
		{Point: geom.Pt(20, 40), Pressure: 1},
		{Point: geom.Pt(60, 40), Pressure: 1},
		{Point: geom.Pt(20, 40), Pressure: 1},
	}
	built := alpha(flow, back).At(40, 40)[3]
	assert.Greater(t, built, float32(0.8))
	assert.LessOrEqual(t, built, float32(0.9))
	pen := s
	pen.Pen = Pen{Opacity: true}
	assert.InDelta(t, 0.9*0.5, alpha(pen, []Touch{{Point: geom.Pt(40, 40), Pressure: 0.5}}).At(40, 40)[3], 1e-6)
	pen.Pen = Pen{Flow: true}
	assert.InDelta(t, 0.9*0.3, alpha(pen, []Touch{{Point: geom.Pt(40, 40), Pressure: 0.3}}).At(40, 40)[3], 1e-6)
	round := s
	round.Roundness, round.Angle, round.Opacity = 0.4, 90, 1
	m := alpha(round, at)
	assert.InEpsilon(t, math.Pi*20*8, area(m), 0.01, "the area of an ellipse")
	assert.EqualValues(t, 1, m.At(40, 55)[3], "its long axis runs down the screen")
	assert.Zero(t, m.At(55, 40)[3])
	stray := s
	stray.Size, stray.Jitter, stray.Seed = 10, 1, 7
	path := line(geom.Pt(20, 40), geom.Pt(60, 40), 5)
	assert.Equal(t, alpha(stray, path).Pix, alpha(stray, path).Pix, "the same on every run")
	other := stray
	other.Seed = 8
	assert.NotEqual(t, alpha(stray, path).Pix, alpha(other, path).Pix)
	sparse := s
	sparse.Size, sparse.Spacing = 6, 2
	assert.Zero(t, alpha(sparse, path).At(26, 40)[3], "dabs 12 pixels apart leave gaps")
}

// Turned, mirrored and from another picture: each painted pixel is the one that the
// map names.
func TestOriginsByAMap(t *testing.T) {
	p, other := plate(81, 81), plate(81, 81)
	for i := range other.Pix {
		if i%4 != 3 {
			other.Pix[i] *= 0.5
		}
	}
	quarter := geom.Placement(geom.Pt(40.5, 40.5), geom.Pt(0, 0), 90, geom.Pt(-1, 1))
	c := painted(
		p,
		Stroke{Mode: Clone, Size: 20, Hardness: 1, Opacity: 1, From: Origin{Map: quarter.Apply, Picture: other}},
	)
	for _, d := range []image.Point{{0, 0}, {5, 2}, {-4, 6}} {
		q := quarter.Apply(geom.Pt(40.5+float64(d.X), 40.5+float64(d.Y)))
		want, got := other.At(int(q.X), int(q.Y)), c.View(p.Rect).At(40+d.X, 40+d.Y)
		for k := range 4 {
			assert.InDelta(t, want[k], got[k], 1e-4)
		}
	}
	// Only the untouched plate: paint laid before is not copied.
	paint := Stroke{Mode: Colour, Size: 12, Hardness: 1, Opacity: 1}
	c = painted(p, paint)
	c.Paint(
		Stroke{Mode: Clone, Size: 8, Hardness: 1, Opacity: 1, From: Origin{Shift: geom.Pt(-20, 0), Plain: true}},
		[]Touch{{Point: geom.Pt(60.5, 40.5), Pressure: 1}},
	)
	assert.Equal(t, p.At(40, 40), c.View(p.Rect).At(60, 40))
	c.Paint(
		Stroke{Mode: Clone, Size: 8, Hardness: 1, Opacity: 1, From: Origin{Shift: geom.Pt(-20, 0)}},
		[]Touch{{Point: geom.Pt(60.5, 40.5), Pressure: 1}},
	)
	assert.Equal(t, [4]float32{0, 0, 0, 1}, c.View(p.Rect).At(60, 40))
}

// Two layers at once: all is painted on the first, the second takes its share.
func TestASecondLayerTakesItsShare(t *testing.T) {
	p := plate(81, 81)
	c := NewCanvas(p)
	red, green := Stroke{
		Mode:     Colour,
		Size:     20,
		Hardness: 1,
		Opacity:  1,
		Colour:   [3]float32{1, 0, 0},
	}, Stroke{
		Mode:     Clone,
		Size:     10,
		Hardness: 1,
		Opacity:  1,
		From:     Origin{Shift: geom.Pt(-30, 0)},
	}
	c.Share(false)
	c.Paint(red, at)
	c.Share(true)
	c.Paint(green, []Touch{{Point: geom.Pt(70.5, 40.5), Pressure: 1}})
	shared := c.Shared()
	assert.Zero(t, shared.At(40, 40)[3], "it was not shared")
	assert.Equal(t, [4]float32{1, 0, 0, 1}, shared.At(70, 40), "but it was there to be copied")
	area := raster.NewPlane(image.Rect(10, 10, 14, 14))
	area.Pix[5] = 0.5
	c.Area(Stroke{Mode: Colour, Opacity: 0.5}, area)
	assert.InDelta(t, 0.25, c.View(p.Rect).At(11, 11)[3], 1e-6)
}
