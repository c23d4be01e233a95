package fill

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

func plate(w, h int) *raster.Image {
	rng := rand.New(rand.NewPCG(4, 2))
	m := raster.NewImage(image.Rect(0, 0, w, h))
	for i := range m.Pix {
		m.Pix[i] = rng.Float32()
		if i%4 == 3 {
			m.Pix[i] = 1
		}
	}
	return m
}

func line(from, to geom.Point, events int) []Touch {
	var path []Touch
	for i := range events {
		path = append(path, Touch{Point: from.Lerp(to, float64(i)/float64(events-1)), Pressure: 1})
	}
	return path
}

func TestCloneByWholePixelsCopiesExactly(t *testing.T) {
	p := plate(80, 60)
	c := NewCanvas(p)
	c.Paint(
		Stroke{Mode: Clone, Size: 12, Hardness: 1, Opacity: 1, From: Origin{Shift: geom.Pt(20, -5)}},
		line(geom.Pt(20, 30), geom.Pt(40, 30), 5),
	)
	layer := c.View(p.Rect)
	var covered float64
	for y := range 60 {
		for x := range 80 {
			v := layer.At(x, y)
			covered += float64(v[3])
			if v[3] == 1 {
				assert.Equal(t, p.At(x+20, y-5), v, "pixel %d,%d", x, y)
			}
		}
	}
	// The last dab may lie up to one spacing, 1.2 px, before the end.
	assert.InDelta(t, 20*12+math.Pi*36, covered, 1.2*12+1, "a capsule of the brush's size is covered")
}

// The area under a stroke must depend on where the hand went, not on how often
// the machine looked: the same second of movement at 30 and at 240 events.
func TestStrokeDoesNotDependOnEventRate(t *testing.T) {
	p := plate(200, 80)
	s := Stroke{Mode: Clone, Size: 24, Hardness: 0.4, Opacity: 0.8, From: Origin{Shift: geom.Pt(0, 30)}}
	paint := func(events int) *raster.Image {
		c := NewCanvas(p)
		c.Paint(s, line(geom.Pt(20, 30), geom.Pt(170, 45), events))
		return c.View(p.Rect)
	}
	a, b := paint(30), paint(240)
	for i := range a.Pix {
		assert.InDelta(t, a.Pix[i], b.Pix[i], 1e-4)
	}
}

func TestLiveStrokeEqualsTheSameStrokeReplayed(t *testing.T) {
	p := plate(120, 90)
	s := Stroke{
		Mode:     Clone,
		Size:     20,
		Hardness: 0.3,
		Opacity:  0.7,
		From:     Origin{Shift: geom.Pt(30.5, 2.25)},
		Pen:      Pen{Size: true},
	}
	path := line(geom.Pt(20, 20), geom.Pt(80, 70), 40)
	for i := range path {
		path[i].Pressure = 0.4 + 0.6*float64(i)/40
	}
	replayed := NewCanvas(p)
	live := NewCanvas(p)
	for range 2 { // the second stroke copies paint of the first
		replayed.Paint(s, path)
		b := live.Begin(s)
		for i := range path {
			b.Move(path[i : i+1])
		}
	}
	assert.Equal(t, replayed.View(p.Rect).Pix, live.View(p.Rect).Pix)
	again := NewCanvas(p)
	again.Load(live.Layer())
	assert.Equal(t, live.View(p.Rect).Pix, again.View(p.Rect).Pix)
}

// The profile's formula, and that one dab shows it.
func TestDabProfile(t *testing.T) {
	assert.EqualValues(t, 1, Profile(4, 10, 0.5))
	assert.EqualValues(t, 0.5, Profile(7.5, 10, 0.5), "half way down the smoothstep")
	assert.EqualValues(t, 0.5, Profile(10, 10, 1), "a hard edge passes half at the radius")
	assert.Zero(t, Profile(10.5, 10, 1))

	p := plate(60, 60)
	c := NewCanvas(p)
	c.Paint(
		Stroke{Mode: Clone, Size: 30, Hardness: 0.2, Opacity: 0.5, From: Origin{Shift: geom.Pt(10, 0)}},
		[]Touch{{Point: geom.Pt(20.5, 30.5), Pressure: 1}},
	)
	layer := c.View(p.Rect)
	for d := range 15 {
		assert.InDelta(t, 0.5*Profile(float64(d), 15, 0.2), layer.At(20+d, 30)[3], 1e-6)
	}
}

func TestPressureScalesTheSize(t *testing.T) {
	p := plate(100, 100)
	count := func(pressure float64) (n float64) {
		c := NewCanvas(p)
		c.Paint(
			Stroke{Mode: Clone, Size: 40, Hardness: 1, Opacity: 1, Pen: Pen{Size: true}},
			[]Touch{{Point: geom.Pt(50, 50), Pressure: pressure}},
		)
		l := c.View(p.Rect)
		for i := 3; i < len(l.Pix); i += 4 {
			n += float64(l.Pix[i])
		}
		return n
	}
	assert.InEpsilon(t, math.Pi*400, count(1), 0.01)
	assert.InEpsilon(t, math.Pi*100, count(0.5), 0.01)
}

func TestSourceBeyondThePictureLaysNothing(t *testing.T) {
	p := plate(40, 40)
	c := NewCanvas(p)
	c.Paint(
		Stroke{Mode: Clone, Size: 10, Hardness: 1, Opacity: 1, From: Origin{Shift: geom.Pt(100, 0)}},
		[]Touch{{Point: geom.Pt(20, 20), Pressure: 1}},
	)
	for _, v := range c.View(p.Rect).Pix {
		assert.Zero(t, v)
	}
	c.Paint(Stroke{Mode: Clone, Size: 10, Hardness: 1, Opacity: 1, From: Origin{Shift: geom.Pt(1, 0)}}, nil)
}

func BenchmarkDab60(b *testing.B) {
	c := NewCanvas(plate(960, 540))
	brush := c.Begin(Stroke{Mode: Clone, Size: 60, Hardness: 0.5, Opacity: 1, From: Origin{Shift: geom.Pt(100, 10)}})
	x := 0.0
	for b.Loop() {
		x += 12
		brush.Move([]Touch{{Point: geom.Pt(100+math.Mod(x, 700), 250), Pressure: 1}})
	}
}

// A brush of 300 pixels along 100, over a plate with light that falls off and grain.
func BenchmarkHeal300(b *testing.B) {
	p := plate(960, 540)
	for i := range p.Pix {
		if i%4 != 3 {
			p.Pix[i] = 0.2 + 0.3*float32(i/4%960)/960 + 0.03*(p.Pix[i]-0.5)
		}
	}
	c := NewCanvas(p)
	for b.Loop() {
		brush := c.Begin(
			Stroke{
				Mode: Heal, Size: 300, Hardness: 0.5, Opacity: 1, From: Origin{Shift: geom.Pt(300, 10)},
				Heal: Healing{Texture: share(1), White: 1},
			},
		)
		brush.Move([]Touch{{Point: geom.Pt(300, 250), Pressure: 1}, {Point: geom.Pt(400, 250), Pressure: 1}})
		began := time.Now()
		brush.End()
		b.ReportMetric(float64(time.Since(began).Microseconds())/1000, "ms-after")
	}
}

// A thousand strokes of 40 pixels on a frame of 1920 x 1080.
func BenchmarkThousandStrokes(b *testing.B) {
	p := plate(1920, 1080)
	rng := rand.New(rand.NewPCG(1, 1))
	for b.Loop() {
		c := NewCanvas(p)
		for range 1000 {
			x, y := 220+1440*rng.Float64(), 220+640*rng.Float64()
			var path []Touch
			for k := range 40 {
				path = append(path, Touch{Point: geom.Pt(x+1.5*float64(k), y+6*math.Sin(float64(k)/6)), Pressure: 1})
			}
			c.Paint(
				Stroke{Mode: Clone, Size: 40, Hardness: 0.6, Opacity: 1, From: Origin{Shift: geom.Pt(70, 10)}},
				path,
			)
		}
	}
}

// Under a pen that leans, a dab is narrow across and long along where it leans to, and one that stands upright, or whose
// lean is not asked for, is round. Half way between two places the lean is half way.
func TestDabsFollowTheLean(t *testing.T) {
	p := plate(200, 200)
	cover := func(pen Pen, at ...Touch) *raster.Plane {
		b := NewCanvas(p).Begin(Stroke{Mode: Colour, Size: 60, Hardness: 1, Opacity: 1, Pen: pen, Spacing: 5})
		b.Move(at)
		return b.Cover(p.Rect)
	}
	wide := func(m *raster.Plane, along float64) (n float64) {
		for r := -40.0; r <= 40; r += 0.25 {
			n += 0.25 * float64(m.At(int(100+r*math.Cos(along)), int(100+r*math.Sin(along))))
		}
		return n
	}
	rng := rand.New(rand.NewPCG(3, 1))
	for range 20 {
		angle, lean := 7*rng.Float64(), 0.2+0.8*rng.Float64()
		at := Touch{geom.Pt(100.5, 100.5), 1, geom.Pt(lean*math.Cos(angle), lean*math.Sin(angle))}
		m := cover(Pen{Shape: true}, at)
		assert.InDelta(t, 60, wide(m, angle), 2.5)
		assert.InDelta(t, 60*(1-0.8*lean), wide(m, angle+math.Pi/2), 2.5)
		assert.InDelta(t, 60, wide(cover(Pen{Size: true}, at), angle+math.Pi/2), 2.5)
	}
	upright, flat := Touch{geom.Pt(70, 100.5), 1, geom.Point{}}, Touch{geom.Pt(131, 100.5), 1, geom.Pt(1, 0)}
	var dabs []Touch
	w := pathway{step: func(Touch) float64 { return 30.5 }}
	w.to(upright, func(t Touch) { dabs = append(dabs, t) })
	w.to(flat, func(t Touch) { dabs = append(dabs, t) })
	require.Len(t, dabs, 3)
	assert.InDelta(t, 0.5, dabs[1].Lean.X, 1e-9)
}
