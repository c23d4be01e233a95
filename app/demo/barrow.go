package demo

import (
	"image"
	"math"
	"sync"

	"jardin/core/geom"
	"jardin/core/raster"
)

// lm_040: a wheelbarrow is pushed by somebody across a gravel path while the camera drifts. Both have to go; each
// place of the path is seen before or after. A hen walks through behind them, the other way. The truth is
// the same shot with the hen alone.

// What lm_040 is.
const (
	BarrowName      = "lm_040"
	BarrowFirst     = 1001
	BarrowLast      = 1096
	BarrowReference = 1048
)

const (
	pathW, pathH    = 1700, 1000 // in path units; one unit is about a pixel
	barrowSubframes = 3
)

// BarrowShot generates lm_040.
type BarrowShot struct {
	path func() *raster.Image
}

// NewBarrow returns the shot. The path is painted when the first frame is asked for.
func NewBarrow() *BarrowShot { return &BarrowShot{path: sync.OnceValue(paintPath)} }

// stroll returns where a point of the path is seen at time t, in frames from the first: from a little above, by a
// camera that drifts to the right and sways.
func stroll(t float64) geom.Homography {
	s := t / 24
	x := 40*s + 9*sway(401, s*0.5) + 1.3*sway(402, s*2.9)
	y := 8*sway(403, s*0.5) + 1.2*sway(404, s*3.1)
	roll := 0.006 * sway(405, s*0.6)
	yaw := 0.012 * sway(406, s*0.4)
	const focal = 1200.0
	spin := geom.Homography{math.Cos(roll), -math.Sin(roll), 0, math.Sin(roll), math.Cos(roll), 0, 0, 0, 1}
	turn := geom.Homography{1, 0, 0, 0, 1, 0, math.Sin(yaw) / focal, 0, 1}
	down := geom.Homography{1, 0, 0, 0, 1, 0, 0, -0.0005, 1} // what is nearer is larger
	return geom.Translation(geom.Pt(Width/2, Height/2)).
		Mul(turn).
		Mul(spin).
		Mul(down).
		Mul(geom.Translation(geom.Pt(-pathW/2+80-x, -pathH/2-y)))
}

// BarrowTransform returns the true motion of the path from one frame to another, at the middle of their exposures.
func BarrowTransform(from, to int) geom.Homography {
	back, _ := stroll(float64(from - BarrowFirst)).Inverse()
	return stroll(float64(to - BarrowFirst)).Mul(back).Normalised()
}

// barrowAt returns where the wheelbarrow stands at time t, on the picture, and how far the step is that who pushes
// it takes.
func barrowAt(t float64) (at geom.Point, stride float64) {
	return geom.Pt(-160+14.6*t+4*sway(411, t/30), 430+2*sway(412, t/9)+1.5*math.Sin(t/2.4)), math.Sin(t / 4.8)
}

// BarrowBox returns a box around wheelbarrow and who pushes it on frame n, with some room.
func BarrowBox(n int) geom.Box {
	at, _ := barrowAt(float64(n - BarrowFirst))
	return geom.Box{Min: at.Add(geom.Pt(-205, -282)), Max: at.Add(geom.Pt(162, 20))}
}

// henAt returns where the hen stands at time t, on the picture.
func henAt(t float64) geom.Point {
	return geom.Pt(960-9*t+6*sway(421, t/14), 196+3*sway(422, t/20)-2*math.Abs(math.Sin(t/2.2)))
}

// Frame generates frame n.
func (s *BarrowShot) Frame(n int) Frame {
	path, rect := s.path(), Bounds()
	clean, pushed, cover := raster.NewImage(rect), raster.NewImage(rect), raster.NewPlane(rect)
	for k := range barrowSubframes {
		t := float64(n-BarrowFirst) + shutter*((float64(k)+0.5)/barrowSubframes-0.5)
		back, _ := stroll(t).Inverse()
		barrow, stride := barrowAt(t)
		hen := henAt(t)
		raster.Rows(0, Height, func(y int) {
			a, b, m := clean.Row(y, 0, Width), pushed.Row(y, 0, Width), cover.Row(y, 0, Width)
			for x := range Width {
				p := geom.Pt(float64(x)+0.5, float64(y)+0.5)
				v := within(path, back.Apply(p))
				if q := p.Sub(hen); math.Abs(q.X) < 44 && math.Abs(q.Y) < 44 {
					if paint, d := henPaint(q.X, q.Y); d > 0 {
						v = v.mix(paint, d)
					}
				}
				w := v
				var d float64
				if q := p.Sub(barrow); q.X > -210 && q.X < 170 && q.Y > -290 && q.Y < 30 {
					var paint colour
					if paint, d = barrowPaint(q.X, q.Y, stride); d > 0 {
						w = v.mix(paint, d)
					}
				}
				m[x] += float32(d) / barrowSubframes
				for j := range 3 {
					a[4*x+j] += float32(v[j]) / barrowSubframes
					b[4*x+j] += float32(w[j]) / barrowSubframes
				}
			}
		})
	}
	lightUp(light(n+800), clean, pushed)
	return finish(soften(clean), soften(pushed), raster.Gaussian(cover, lens), n+9000)
}

// within is the path at a place; it is larger than anything the camera sees.
func within(m *raster.Image, p geom.Point) (c colour) {
	x, y := math.Min(math.Max(p.X-0.5, 0), pathW-2), math.Min(math.Max(p.Y-0.5, 0), pathH-2)
	x0, y0 := int(x), int(y)
	fx, fy := x-float64(x0), y-float64(y0)
	i := 4 * (y0*pathW + x0)
	a, b := m.Pix[i:i+8:i+8], m.Pix[i+4*pathW:i+4*pathW+8:i+4*pathW+8]
	for k := range 3 {
		top, low := float64(a[k])+float64(a[k+4]-a[k])*fx, float64(b[k])+float64(b[k+4]-b[k])*fx
		c[k] = top + (low-top)*fy
	}
	return c
}

// paintPath returns the path in linear light.
func paintPath() *raster.Image {
	m := raster.NewImage(image.Rect(0, 0, pathW, pathH))
	raster.Rows(0, pathH, func(y int) {
		for x := range pathW {
			c := pathAt(float64(x)+0.5, float64(y)+0.5)
			m.Set(x, y, [4]float32{float32(c[0]), float32(c[1]), float32(c[2]), 1})
		}
	})
	return m
}

// pathAt is gravel, pebbles in three sizes over sand, with a lawn along its far side and a rut.
func pathAt(u, v float64) colour {
	sand := colour{0.30, 0.25, 0.19}.times(1 + 0.35*clouds(501, u/90, v/60, 4) + 0.12*lattice(502, u/2.3, v/2.1))
	c := sand
	for layer, size := range []float64{5, 9, 16} {
		if shade, tone, ok := pebble(uint64(510+layer), u, v, size, []float64{0.5, 0.55, 0.12}[layer]); ok {
			stone := colour{0.36, 0.34, 0.31}.mix(colour{0.28, 0.2, 0.15}, tone).times(0.55 + 0.75*shade)
			c = stone
		}
	}
	rut := math.Exp(-math.Pow((v-560-14*clouds(520, u/300, 3, 2))/26, 2))
	c = c.times(1 - 0.28*rut)
	edge := 300 + 14*clouds(530, u/60, 2, 4) + 4*lattice(531, u/7, 5)
	if lawn := step(edge+5, edge-5, v); lawn > 0 {
		blade := 0.6 + 0.5*math.Abs(lattice(532, u/1.7+0.6*lattice(533, u/9, v/9), v/5))
		c = c.mix(colour{0.055, 0.10, 0.03}.times(blade*(1+0.4*clouds(534, u/70, v/40, 3))), lawn)
	}
	return c.times(1 + 0.12*clouds(540, u/400, v/300, 2))
}

// pebble returns how bright a pebble of about a size is at a place, and its tone, if one lies there: cells of a grid
// hold one each, or none (Worley 1996).
func pebble(seed uint64, u, v, size, share float64) (shade, tone float64, ok bool) {
	i0, j0 := math.Floor(u/size), math.Floor(v/size)
	near := 1.0
	for dj := -1.0; dj <= 1; dj++ {
		for di := -1.0; di <= 1; di++ {
			a, b := uint64(int64(i0+di)+1<<20), uint64(int64(j0+dj)+1<<20)
			if unit(seed, a, b, 1) > share {
				continue
			}
			x := (i0 + di + 0.2 + 0.6*unit(seed, a, b, 2)) * size
			y := (j0 + dj + 0.2 + 0.6*unit(seed, a, b, 3)) * size
			r := size * (0.3 + 0.22*unit(seed, a, b, 4))
			turn := math.Pi * unit(seed, a, b, 5)
			sin, cos := math.Sincos(turn)
			p, q := (u-x)*cos+(v-y)*sin, ((v-y)*cos-(u-x)*sin)*1.4
			if d := math.Hypot(p, q) / r; d < near {
				// Lit from the upper left.
				near, ok = d, true
				shade, tone = 0.75-0.35*((u-x)+(v-y))/r-0.3*d*d, unit(seed, a, b, 6)
			}
		}
	}
	return math.Max(shade, 0.1), tone, ok
}

// A part of a thing that is drawn: how far outside of it a place lies, below 0 inside, and its paint, which is asked for
// where it shows.
type drawnPart struct {
	off   float64
	paint func() colour
}

// over lays parts one over the other, with soft edges.
func over(parts ...drawnPart) (c colour, cover float64) {
	for _, p := range parts {
		d := math.Min(math.Max(0.5-p.off, 0), 1)
		if d == 0 {
			continue
		}
		all := cover + d - cover*d
		c = c.mix(p.paint(), d/all)
		cover = all
	}
	return c, cover
}

// limb is how far a place lies outside of a thick line.
func limb(x, y, x0, y0, x1, y1, r0, r1 float64) float64 {
	dx, dy := x1-x0, y1-y0
	k := math.Min(math.Max(((x-x0)*dx+(y-y0)*dy)/(dx*dx+dy*dy), 0), 1)
	return math.Hypot(x-x0-k*dx, y-y0-k*dy) - (r0 + k*(r1-r0))
}

// oval is about how far a place lies outside of an ellipse.
func oval(x, y, cx, cy, rx, ry float64) float64 {
	return (math.Hypot((x-cx)/rx, (y-cy)/ry) - 1) * math.Min(rx, ry)
}

// barrowPaint is the wheelbarrow, its wheel standing at (110, 0), and who pushes it.
func barrowPaint(x, y, stride float64) (colour, float64) {
	weave := func() float64 { return 1 + 0.18*lattice(601, x/2.2, y/2.2) + 0.1*math.Sin(y*1.6) }
	plain := func(c colour, k float64) func() colour { return func() colour { return c.times(k) } }
	coat := func(k float64) func() colour {
		return func() colour {
			return colour{0.07, 0.10, 0.19}.times(weave() * (1 + 0.5*math.Max(-1, math.Min(1, -(x+130)/40)))).times(k)
		}
	}
	cloth := func(k float64) func() colour {
		return func() colour { return colour{0.05, 0.045, 0.04}.times(weave()).times(k) }
	}
	hat := func() colour { return colour{0.34, 0.28, 0.12}.times(weave()) }
	boot, skin := colour{0.03, 0.05, 0.03}, colour{0.42, 0.25, 0.17}
	tin := func() colour {
		rust := 1 + 0.3*clouds(602, x/14, y/14, 3)
		return colour{0.10, 0.24, 0.20}.times(rust * (0.75 + 0.004*(-y-40)))
	}
	wood := func(k float64) func() colour {
		return func() colour { return colour{0.30, 0.17, 0.08}.times(1 + 0.25*lattice(603, x/11, y/1.6)).times(k) }
	}
	heap := func() colour { return colour{0.10, 0.14, 0.03}.times(0.7 + 0.9*math.Abs(lattice(604, x/6, y/6))) }
	tray := math.Max(math.Max(-y-98, y+44), math.Max(-(x+22)-(y+98)*0.55, x-112+(y+98)*0.3))
	rim := math.Abs(math.Hypot(x-110, y+27)-23) - 4.5
	far, near := 26*stride, -26*stride
	return over(
		drawnPart{limb(x, y, -132, -108, -132+far, -14, 15, 10), cloth(0.7)},
		drawnPart{limb(x, y, -132+far, -10, -118+far, -7, 8, 7), plain(boot, 1)},
		drawnPart{limb(x, y, -132, -108, -132+near, -14, 16, 11), cloth(1)},
		drawnPart{limb(x, y, -132+near, -10, -116+near, -7, 9, 7), plain(boot, 1.2)},
		drawnPart{oval(x, y, -126, -168, 37, 68), coat(1)},
		drawnPart{oval(x, y, -116, -246, 21, 24), plain(skin, 1)},
		drawnPart{math.Max(oval(x, y, -118, -258, 27, 19), y+252), hat},
		drawnPart{rim, plain(colour{0.03, 0.03, 0.03}, 1)},
		drawnPart{oval(x, y, 110, -27, 5, 5), plain(colour{0.2, 0.2, 0.2}, 1)},
		drawnPart{limb(x, y, -98, -88, 112, -30, 3.5, 3.5), wood(1)},
		drawnPart{limb(x, y, 18, -52, 6, -2, 4, 3), wood(0.8)},
		drawnPart{tray, tin},
		drawnPart{oval(x, y, 42, -100, 56, 17), heap},
		drawnPart{limb(x, y, -128, -205, -84, -146, 14, 11), coat(1.15)},
		drawnPart{limb(x, y, -84, -146, -96, -92, 11, 8), coat(1.1)},
		drawnPart{oval(x, y, -97, -88, 9, 9), plain(skin, 1)},
	)
}

// henPaint is the hen.
func henPaint(x, y float64) (colour, float64) {
	feather := func(k float64) func() colour {
		return func() colour {
			return colour{0.36, 0.20, 0.09}.times(0.8 + 0.5*math.Abs(lattice(611, x/4, y/3))).times(k)
		}
	}
	plain := func(c colour) func() colour { return func() colour { return c } }
	return over(
		drawnPart{limb(x, y, 2, 10, 0, 26, 2, 1.5), plain(colour{0.45, 0.32, 0.06})},
		drawnPart{limb(x, y, 8, 10, 11, 26, 2, 1.5), plain(colour{0.45, 0.32, 0.06})},
		drawnPart{oval(x, y, 6, 0, 24, 15), feather(1)},
		drawnPart{limb(x, y, 24, -6, 36, -20, 9, 3), feather(0.6)},
		drawnPart{limb(x, y, -12, -4, -20, -22, 9, 6), feather(1.1)},
		drawnPart{oval(x, y, -22, -31, 4, 5), plain(colour{0.5, 0.03, 0.02})},
		drawnPart{oval(x, y, -28, -22, 5, 2), plain(colour{0.5, 0.36, 0.08})},
	)
}

// BarrowTruth is what truth.json says about the shot.
type BarrowTruth struct {
	Edition   string                  `json:"edition"`
	Reference int                     `json:"reference"`
	Motion    map[int]geom.Homography `json:"motion"` // of the path, from the reference frame to each frame
	Boxes     map[int][4]float64      `json:"boxes"`  // around what has to go, with some room: left, top, right, bottom
}

// TellBarrow returns the contents of lm_040's truth.json.
func TellBarrow() BarrowTruth {
	t := BarrowTruth{Edition: barrowEdition, Reference: BarrowReference, Motion: map[int]geom.Homography{},
		Boxes: map[int][4]float64{}}
	for n := BarrowFirst; n <= BarrowLast; n++ {
		t.Motion[n] = BarrowTransform(BarrowReference, n)
		b := BarrowBox(n)
		t.Boxes[n] = [4]float64{b.Min.X, b.Min.Y, b.Max.X, b.Max.Y}
	}
	return t
}
