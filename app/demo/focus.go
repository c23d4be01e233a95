package demo

import (
	"image"
	"math"
	"sync"

	"jardin/core/geom"
	"jardin/core/raster"
)

// lm_060: the focus goes from a rose close to the camera to the trellis behind it, on
// which a plastic clip was forgotten. The lamp that lights it flickers. The truth is
// the same shot without the clip.

// What lm_060 is.
const (
	FocusName      = "lm_060"
	FocusFirst     = 1001
	FocusLast      = 1048
	FocusReference = 1042 // the trellis is sharp
)

const trellisW, trellisH = 1240, 780 // in units of the trellis; one unit is about a pixel

// clipAt is the clip's middle on the trellis, and clipTurn how it leans.
var clipAt = geom.Pt(684, 431)

const clipTurn = -0.45

// FocusShot generates lm_060.
type FocusShot struct {
	trellis func() (bare, clipped *raster.Image)
	rose    func() *raster.Image
}

// NewFocus returns the shot. What it shows is painted when the first frame is asked for.
func NewFocus() *FocusShot {
	return &FocusShot{trellis: sync.OnceValues(paintTrellis), rose: sync.OnceValue(paintRose)}
}

// dolly returns where a point of the trellis is seen at time t: a camera on a slider
// that goes a little to the right, not quite steadily. The rose, closer, moves more.
func dolly(t float64) geom.Homography {
	s := t / 24
	x := 17*s + 2.4*sway(401, s*0.9) + 0.5*sway(402, s*5)
	y := 3*sway(403, s*0.7) + 0.5*sway(404, s*5)
	roll := 0.004 * sway(405, s*0.6)
	zoom := 1 + 0.012*s // breathing, as lenses do when they are focused
	const focal = 1300.0
	turn := geom.Homography{1, 0, 0, 0, 1, 0, 0.014 * sway(406, s*0.5) / focal, 0, 1}
	spin := geom.Homography{
		zoom * math.Cos(roll),
		-zoom * math.Sin(roll),
		0,
		zoom * math.Sin(roll),
		zoom * math.Cos(roll),
		0,
		0,
		0,
		1,
	}
	return geom.Translation(geom.Pt(Width/2, Height/2)).
		Mul(turn).
		Mul(spin).
		Mul(geom.Translation(geom.Pt(-trellisW/2-x, -trellisH/2-y)))
}

// FocusTransform returns the true motion of the trellis from one frame to another, at
// the middle of their exposures.
func FocusTransform(from, to int) geom.Homography {
	back, _ := dolly(float64(from - FocusFirst)).Inverse()
	return dolly(float64(to - FocusFirst)).Mul(back).Normalised()
}

// focus returns the radius in pixels of the discs that points of the trellis and of
// the rose are seen as on frame n.
func focus(n int) (trellis, rose float64) {
	u := step(8, 34, float64(n-FocusFirst))
	return 4.6 * (1 - u), 0.4 + 6.5*u
}

// Defocus returns the radius in pixels of the disc that a point of the trellis is
// seen as on frame n.
func Defocus(n int) float64 {
	r, _ := focus(n)
	return r
}

// Flicker returns the lamp's light on frame n by channel: it flickers from frame to
// frame and wanders slowly.
func Flicker(n int) [3]float64 {
	s := float64(n-FocusFirst) / 24
	level := 1 + 0.07*sway(411, s*0.7) + 0.03*(2*unit(412, uint64(n))-1)
	warm := 0.015 * sway(413, s*0.8)
	return [3]float64{level * (1 + warm), level, level * (1 - warm)}
}

// ClipOutline returns the clip's outline on frame n.
func ClipOutline(n int) []geom.Point {
	h := dolly(float64(n - FocusFirst))
	sin, cos := math.Sincos(clipTurn)
	var out []geom.Point
	for _, p := range []geom.Point{{X: -24, Y: -10}, {X: 24, Y: -10}, {X: 24, Y: 10}, {X: -24, Y: 10}} {
		out = append(out, h.Apply(clipAt.Add(geom.Pt(p.X*cos-p.Y*sin, p.X*sin+p.Y*cos))))
	}
	return out
}

// Frame generates frame n.
func (s *FocusShot) Frame(n int) Frame {
	rect := Bounds()
	clean, with, matte := raster.NewImage(rect), raster.NewImage(rect), raster.NewPlane(rect)
	bare, clipped := s.trellis()
	for k := range subframes {
		t := float64(n-FocusFirst) + shutter*((float64(k)+0.5)/subframes-0.5)
		back, _ := dolly(t).Inverse()
		raster.Rows(0, Height, func(y int) {
			a, b, m := clean.Row(y, 0, Width), with.Row(y, 0, Width), matte.Row(y, 0, Width)
			for x := range Width {
				q := back.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))
				v := bilinear(bare, q.X, q.Y)
				w := v
				if q.Dist(clipAt) < clipReach+2 {
					w = bilinear(clipped, q.X, q.Y)
				}
				for c := range 3 {
					a[4*x+c] += v[c] / subframes
					b[4*x+c] += w[c] / subframes
				}
				m[x] += w[3] / subframes
			}
		})
	}
	trellis, rose := focus(n)
	// Both are alike away from the clip.
	near := raster.Around(geom.Bounds(ClipOutline(n)), clipReach, rect)
	there := disc(with.Crop(near.Inset(-8).Intersect(rect)), trellis)
	covered := discPlane(matte.Crop(near), trellis)
	clean, matte = disc(clean, trellis), covered.Crop(rect)
	with = clean.Crop(rect)
	with.Paste(there.Crop(near))
	// The rose lies over both alike.
	shift := dolly(float64(n - FocusFirst))
	at := shift.Apply(geom.Pt(trellisW/2, trellisH/2)).Sub(geom.Pt(Width/2, Height/2)).Mul(1.7)
	bed := image.Rect(40, 80, 440, Height).Add(image.Pt(int(at.X), int(at.Y))).Intersect(rect)
	front := disc(raster.Warp(s.rose(), geom.Translation(geom.Pt(-at.X, -at.Y)), bed), rose).Crop(rect)
	raster.Rows(0, Height, func(y int) {
		a, b, f, m := clean.Row(y, 0, Width), with.Row(y, 0, Width), front.Row(y, 0, Width), matte.Row(y, 0, Width)
		for x := range Width {
			rest := 1 - f[4*x+3]
			for c := range 3 {
				a[4*x+c], b[4*x+c] = f[4*x+c]+a[4*x+c]*rest, f[4*x+c]+b[4*x+c]*rest
			}
			m[x] *= rest
		}
	})
	lamp := Flicker(n)
	for y := range Height {
		a, b := clean.Row(y, 0, Width), with.Row(y, 0, Width)
		for x := range Width {
			fall := vignette(x, y)
			for c := range 3 {
				k := float32(lamp[c] * fall)
				a[4*x+c] *= k
				b[4*x+c] *= k
			}
			a[4*x+3], b[4*x+3] = 1, 1
		}
	}
	return finish(soften(clean), soften(with), raster.Gaussian(matte, lens), n+9000)
}

// disc blurs a picture by a disc of even brightness with that radius in pixels, as an
// open lens does: by lines, each through running sums.
func disc(m *raster.Image, radius float64) *raster.Image {
	out := raster.NewImage(m.Rect)
	for c := range 4 {
		p := raster.NewPlane(m.Rect)
		for i := range p.Pix {
			p.Pix[i] = m.Pix[4*i+c]
		}
		for i, v := range discPlane(p, radius).Pix {
			out.Pix[4*i+c] = v
		}
	}
	return out
}

func discPlane(p *raster.Plane, radius float64) *raster.Plane {
	if radius < 0.5 {
		return raster.Gaussian(p, radius/2) // such a disc has this spread
	}
	w, h := p.Rect.Dx(), p.Rect.Dy()
	// Running sums along each line, the border's samples going on beyond it.
	pad := int(radius) + 3
	stride := w + 2*pad + 1
	sums := make([]float64, stride*h)
	raster.Rows(0, h, func(y int) {
		row, line := sums[y*stride:(y+1)*stride], p.Pix[y*w:(y+1)*w]
		for x := range w + 2*pad {
			row[x+1] = row[x] + float64(line[min(max(x-pad, 0), w-1)])
		}
	})
	// Each line of the disc at two heights, so that its rim is smooth.
	type run struct {
		dy   int
		half float64
	}
	var runs []run
	var area float64
	for k := int(math.Floor(-radius * 2)); k <= int(radius*2); k++ {
		v := (float64(k) + 0.5) / 2
		if half := math.Sqrt(math.Max(radius*radius-v*v, 0)); half > 0 {
			runs = append(runs, run{int(math.Floor(v + 0.5)), half})
			area += 2 * half
		}
	}
	out := raster.NewPlane(p.Rect)
	raster.Rows(0, h, func(y int) {
		total := make([]float64, w)
		for _, stretch := range runs {
			row := sums[min(max(y+stretch.dy, 0), h-1)*stride:][:stride]
			// The run's ends lie equally far between samples for every pixel.
			at := 0.5 + stretch.half
			i := int(at)
			f := at - float64(i)
			right, left := row[pad+i:], row[pad-i:]
			for x := range total {
				total[x] += right[x]*(1-f) + right[x+1]*f - left[x]*f - left[x+1]*(1-f)
			}
		}
		for x, v := range total {
			out.Pix[y*w+x] = float32(v / area)
		}
	})
	return out
}

// clipReach is how far from its middle the clip and its shadow reach, in pixels.
const clipReach = 40

// paintTrellis returns the trellis before its wall in linear light, without the clip
// and with it; alpha is the share of the clip.
func paintTrellis() (bare, clipped *raster.Image) {
	bare = raster.NewImage(image.Rect(0, 0, trellisW, trellisH))
	raster.Rows(0, trellisH, func(y int) {
		for x := range trellisW {
			bare.Set(x, y, trellisPixel(x, y, false))
		}
	})
	clipped = bare.Crop(bare.Rect)
	reach := raster.Around(geom.Box{Min: clipAt, Max: clipAt}, clipReach, bare.Rect)
	for y := reach.Min.Y; y < reach.Max.Y; y++ {
		for x := reach.Min.X; x < reach.Max.X; x++ {
			clipped.Set(x, y, trellisPixel(x, y, true))
		}
	}
	return bare, clipped
}

func trellisPixel(x, y int, clip bool) (sum [4]float32) {
	for k := range oversample * oversample {
		u := float64(x) + (float64(k%oversample)+0.5)/oversample
		v := float64(y) + (float64(k/oversample)+0.5)/oversample
		c := trellisAt(u, v)
		if clip {
			if paint, cover := clipOver(u, v); cover > 0 {
				c = c.mix(paint, cover)
				sum[3] += float32(cover) / (oversample * oversample)
			}
		}
		for j := range 3 {
			sum[j] += float32(c[j]) / (oversample * oversample)
		}
	}
	return sum
}

// trellisAt is a diagonal trellis of rough laths, painted long ago, close before a wall
// of bricks.
func trellisAt(u, v float64) colour {
	// Bricks, every other course by half a brick to the side.
	course := math.Floor(v / 34)
	bu := u + 46*math.Mod(course+40, 2)
	id := uint64(int64(math.Floor(bu/92)) + 50 + 100*(int64(course)+20))
	brick := colour{
		0.24,
		0.105,
		0.07,
	}.mix(colour{0.33, 0.17, 0.11}, unit(420, id)).
		times(1 + 0.35*clouds(421, u/9, v/7, 4))
	du, dv := math.Mod(bu+9200, 92), v-course*34
	joint := math.Max(step(3.2, 1.6, math.Min(du, 92-du)), step(3.2, 1.6, math.Min(dv, 34-dv)))
	c := brick.mix(colour{0.36, 0.33, 0.29}.times(1+0.3*clouds(422, u/4, v/4, 3)), joint)
	c = c.mix(colour{0.09, 0.12, 0.05}, 0.6*step(0.12, 0.4, clouds(423, u/60, v/45, 4)+0.3*(v-500)/300))
	// The laths' shadows, then the laths: two layers across each other.
	const apart, half = 116.0, 11.0
	for _, s := range []float64{1, -1} {
		across := math.Mod((u+s*v)*0.70711+apart*40+5*s, apart) - apart/2
		shadow := math.Abs(across-9) - half
		c = c.times(1 - 0.5*step(5, -3, shadow))
	}
	for _, s := range []float64{1, -1} {
		wobble := 1.3 * clouds(424, (u-s*v)/140, s, 2)
		position := (u+s*v)*0.70711 + apart*40 + 5*s + wobble
		across := math.Mod(position, apart) - apart/2
		lath := uint64(math.Floor(position/apart)) + uint64(200*(s+1))
		along := (u - s*v) * 0.70711
		cover := step(0.7, -0.7, math.Abs(across)-half)
		if cover == 0 {
			continue
		}
		fibre := clouds(430+lath, along/70, across/1.6, 4)
		paint := colour{0.20, 0.29, 0.215}.times(1 + 0.22*fibre + 0.12*clouds(425, u/5, v/5, 3))
		wood := colour{0.23, 0.19, 0.145}.times(1 + 0.5*fibre)
		worn := step(0.1, 0.24, clouds(426+lath, along/34, across/6, 4)+0.16*fibre)
		body := paint.mix(wood, worn)
		// Round at the edges, lit from above left.
		body = body.times(0.86 + 0.2*step(half, -half, across*s) - 0.3*step(half-2.5, half, math.Abs(across)))
		c = c.mix(body, cover)
	}
	// Nails where they cross.
	p, q := (u+v)*0.70711+apart*40+5, (u-v)*0.70711+apart*40-5
	d := math.Hypot(math.Mod(p, apart)-apart/2, math.Mod(q, apart)-apart/2)
	c = c.mix(colour{0.16, 0.13, 0.11}, step(3, 2, d))
	// Lamp light from the upper left.
	return c.times(1.15 - 0.45*step(200, 1100, u+0.6*v))
}

// clipOver is the forgotten clip: blue plastic, a little glossy, with its shadow.
func clipOver(u, v float64) (colour, float64) {
	sin, cos := math.Sincos(clipTurn)
	part := func(o float64) (float64, float64, float64) {
		d := geom.Pt(u-o, v-1.4*o).Sub(clipAt)
		p, q := d.X*cos+d.Y*sin, d.Y*cos-d.X*sin
		half := 7.5 + 1.5*step(-4, 18, p)
		return math.Max(math.Abs(p)-21, math.Abs(q)-half), p, q
	}
	d, p, q := part(0)
	if cover := step(0.8, -0.8, d); cover > 0 {
		c := colour{0.05, 0.16, 0.42}.times(0.75 + 0.5*step(8, -8, q))
		c = c.mix(colour{0.75, 0.8, 0.85}, 0.55*math.Exp(-math.Pow((q+3.5)/1.3, 2)))
		if p > 4 && math.Mod(p+40, 4) < 1.7 {
			c = c.times(0.7) // grooves to hold on to
		}
		if math.Hypot(p+6, q) < 3.2 {
			c = colour{0.3, 0.3, 0.3} // the spring
		}
		return c, cover
	}
	if d, _, _ = part(2.5); d < 4 {
		return colour{0.02, 0.02, 0.02}, 0.45 * step(4, -2, d)
	}
	return colour{}, 0
}

// paintRose returns a rose with its stem, premultiplied, as large as the frame.
func paintRose() *raster.Image {
	m := raster.NewImage(Bounds())
	centre := geom.Pt(236, 268)
	raster.Rows(0, Height, func(y int) {
		for x := range Width {
			p := geom.Pt(float64(x)+0.5, float64(y)+0.5)
			var c colour
			cover := 0.0
			lay := func(paint colour, d float64) {
				if k := step(0.8, -0.8, d); k > 0 {
					c, cover = c.mix(paint, k/(k+cover*(1-k))), 1-(1-cover)*(1-k)
				}
			}
			stem := math.Abs(p.X-centre.X-22*math.Sin(p.Y/140)) - 6
			if p.Y > centre.Y+60 {
				lay(colour{0.06, 0.13, 0.04}.times(0.8+0.6*step(6, -6, p.X-centre.X)), stem)
			}
			leaf := p.Sub(geom.Pt(centre.X+78, 452))
			along, across := leaf.X*0.9+leaf.Y*0.43, leaf.Y*0.9-leaf.X*0.43
			lay(
				colour{0.05, 0.15, 0.045}.times(1+0.3*math.Sin(along/5)),
				math.Abs(across)-26*math.Sqrt(math.Max(1-along*along/4900, 0))+2,
			)
			// Petals, from the outer ones inwards.
			d := p.Sub(centre)
			for ring := range 6 {
				reach := 128 - 20*float64(ring)
				for k := range 5 {
					angle := 2*math.Pi*float64(k)/5 + 0.7*float64(ring)
					mid := geom.Pt(math.Cos(angle), math.Sin(angle)).Mul(reach * 0.45)
					e := d.Sub(mid)
					size := reach * 0.62 * (1 + 0.05*clouds(440+uint64(ring*5+k), e.X/30, e.Y/30, 2))
					shade := 0.45 + 0.55*step(
						size,
						size*0.2,
						e.Len(),
					) + 0.25*step(
						0.4*size,
						size,
						e.Len(),
					)*step(
						1,
						-1,
						(e.X+e.Y)/size,
					)
					lay(
						colour{0.52, 0.075, 0.11}.mix(colour{0.62, 0.2, 0.19}, float64(ring)/8).times(shade),
						e.Len()-size,
					)
				}
			}
			k := float32(cover)
			m.Set(x, y, [4]float32{float32(c[0]) * k, float32(c[1]) * k, float32(c[2]) * k, k})
		}
	})
	return m
}

// FocusTruth is what truth.json says about the shot.
type FocusTruth struct {
	Edition   string                  `json:"edition"`
	Reference int                     `json:"reference"`
	Motion    map[int]geom.Homography `json:"motion"`  // of the trellis, from the reference frame to each frame
	Defocus   map[int]float64         `json:"defocus"` // radius of a point's disc on the trellis, pixels
	Light     map[int][3]float64      `json:"light"`   // of the lamp, by channel
	Clip      []geom.Point            `json:"clip"`    // its outline on the reference frame
}

// TellFocus returns the contents of lm_060's truth.json.
func TellFocus() FocusTruth {
	t := FocusTruth{
		Edition:   focusEdition,
		Reference: FocusReference,
		Motion:    map[int]geom.Homography{},
		Defocus:   map[int]float64{},
		Light:     map[int][3]float64{},
		Clip:      ClipOutline(FocusReference),
	}
	for n := FocusFirst; n <= FocusLast; n++ {
		t.Motion[n], t.Defocus[n], t.Light[n] = FocusTransform(FocusReference, n), Defocus(n), Flicker(n)
	}
	return t
}
