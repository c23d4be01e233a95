package demo

import (
	"image"
	"math"
	"sync"

	"jardin/core/geom"
	"jardin/core/matte"
	"jardin/core/raster"
)

// lm_020: a watering can hovers before a hedge under a bright winter sky. It hangs
// on a rod and two thin swinging wires, which have to go; the camera pans along
// the hedge. For a moment the gardener reaches across, in front of all. The truth is
// the same shot with the can and the arm, but without rod and wires.

// What lm_020 is.
const (
	CanName      = "lm_020"
	CanFirst     = 1001
	CanLast      = 1048
	CanReference = 1020
)

const hedgeW, hedgeH = 1420, 720 // in hedge units; one unit is about a pixel

// CanShot generates lm_020.
type CanShot struct {
	hedge func() *raster.Image
}

// NewCan returns the shot. The hedge is painted when the first frame is asked for.
func NewCan() *CanShot { return &CanShot{hedge: sync.OnceValue(paintHedge)} }

// pan returns where a point of the hedge is seen at time t, in frames from the first.
func pan(t float64) geom.Homography {
	s := t / 24
	x := 150*s + 6*sway(201, s*0.8) + 1.6*sway(202, s*3)
	y := 9*sway(203, s*0.6) + 1.4*sway(204, s*3.3)
	roll := 0.006 * sway(205, s*0.7)
	yaw := 0.02 * sway(206, s*0.5)
	const focal = 1300.0
	spin := geom.Homography{math.Cos(roll), -math.Sin(roll), 0, math.Sin(roll), math.Cos(roll), 0, 0, 0, 1}
	turn := geom.Homography{1, 0, 0, 0, 1, 0, math.Sin(yaw) / focal, 0, 1}
	return geom.Translation(geom.Pt(Width/2, Height/2)).
		Mul(turn).
		Mul(spin).
		Mul(geom.Translation(geom.Pt(-Width/2-40-x, -hedgeH/2-y)))
}

// hover returns where a point of the can is seen at time t: it hangs still before the
// camera, but for a slow swing.
func hover(t float64) geom.Homography {
	s := t / 24
	at := geom.Pt(486+26*sway(211, s*0.7)+3*sway(212, s*2.4), 346+13*sway(213, s*0.6)+2*sway(214, s*2.1))
	turn := 0.07*sway(215, s*0.9) + 0.015*sway(216, s*3)
	return geom.Homography{math.Cos(turn), -math.Sin(turn), at.X, math.Sin(turn), math.Cos(turn), at.Y, 0, 0, 1}
}

// A Hanging is the rod, or a wire, on a frame: where it begins beyond the picture,
// where it holds the can, and by how much its middle swings out.
type Hanging struct {
	Name   string        `json:"name"`
	Points [3][2]float64 `json:"points"` // top, middle of the bow, end
	Width  float64       `json:"width"`
}

// hangings returns the rod and the wires at time t.
func hangings(t float64) []Hanging {
	h, s := hover(t), t/24
	at := geom.Pt(h[2], h[5])
	one := func(name string, top, hold geom.Point, width, bow float64) Hanging {
		end := h.Apply(hold)
		mid := top.Lerp(end, 0.5).Add(geom.Pt(bow, 0))
		return Hanging{Name: name, Points: [3][2]float64{{top.X, top.Y}, {mid.X, mid.Y}, {end.X, end.Y}}, Width: width}
	}
	return []Hanging{
		one("Rod", geom.Pt(at.X+9*sway(221, s*0.5), -60), geom.Pt(2, -50), 6, 0),
		one("Left wire", geom.Pt(at.X-170+5*sway(222, s*0.6), -60), geom.Pt(-66, -46), 1.6, 7*sway(223, s*1.5)),
		one("Right wire", geom.Pt(at.X+185+5*sway(224, s*0.6), -60), geom.Pt(67, -8), 1.6, 7*sway(225, s*1.7)),
	}
}

// path is the hanging as a flattened strand.
func (h Hanging) path() []matte.Wire {
	a, b, c := geom.Pt(
		h.Points[0][0],
		h.Points[0][1],
	), geom.Pt(
		h.Points[1][0],
		h.Points[1][1],
	), geom.Pt(
		h.Points[2][0],
		h.Points[2][1],
	)
	// The quadratic curve through all three.
	k := b.Mul(2).Sub(a.Add(c).Mul(0.5))
	var out []matte.Wire
	const pieces = 24
	for i := range pieces + 1 {
		u := float64(i) / pieces
		out = append(out, matte.Wire{At: a.Lerp(k, u).Lerp(k.Lerp(c, u), u), Width: h.Width})
	}
	return out
}

// cover is the hanging's coverage.
func (h Hanging) cover() *raster.Plane {
	outline := matte.Strand(h.path())
	rim := make([]matte.Rim, len(outline))
	for i, p := range outline {
		rim[i].At = p
	}
	return matte.Edge(rim, 0, true, Bounds())
}

// CanTransform returns the true motion of the hedge from one frame to another, at the
// middle of their exposures.
func CanTransform(from, to int) geom.Homography {
	back, _ := pan(float64(from - CanFirst)).Inverse()
	return pan(float64(to - CanFirst)).Mul(back).Normalised()
}

// HoverTransform returns the true motion of the can.
func HoverTransform(from, to int) geom.Homography {
	back, _ := hover(float64(from - CanFirst)).Inverse()
	return hover(float64(to - CanFirst)).Mul(back).Normalised()
}

var (
	rodPaint  = colour{0.052, 0.055, 0.06}
	wirePaint = colour{0.12, 0.118, 0.11}
)

// Frame generates frame n.
func (s *CanShot) Frame(n int) Frame {
	hedge := s.hedge()
	rect := Bounds()
	clean, hung, cover := raster.NewImage(rect), raster.NewImage(rect), raster.NewPlane(rect)
	for k := range subframes {
		t := float64(n-CanFirst) + shutter*((float64(k)+0.5)/subframes-0.5)
		back, _ := pan(t).Inverse()
		off, _ := hover(t).Inverse()
		rig, reach := hangings(t), sleeve(t)
		covers := make([]*raster.Plane, len(rig))
		for i, h := range rig {
			covers[i] = h.cover()
		}
		raster.Rows(0, Height, func(y int) {
			a, b, m := clean.Row(y, 0, Width), hung.Row(y, 0, Width), cover.Row(y, 0, Width)
			var here [3][]float32 // each hanging's coverage on this line
			for i, c := range covers {
				if y >= c.Rect.Min.Y && y < c.Rect.Max.Y {
					here[i] = c.Row(y, c.Rect.Min.X, c.Rect.Max.X)
				}
			}
			for x := range Width {
				p := geom.Pt(float64(x)+0.5, float64(y)+0.5)
				q := back.Apply(p)
				v := sample(hedge, q.X, q.Y)
				w := v
				var rigged float32
				for i, c := range covers {
					k := x - c.Rect.Min.X
					if k < 0 || k >= len(here[i]) {
						continue
					}
					if d := here[i][k]; d > 0 {
						paint := wirePaint
						if i == 0 { // the rod is round
							across := (p.X - rig[0].Points[0][0] - (rig[0].Points[2][0]-rig[0].Points[0][0])*(p.Y-rig[0].Points[0][1])/(rig[0].Points[2][1]-rig[0].Points[0][1])) / 3
							paint = rodPaint.times(0.6 + 1.1*math.Exp(-math.Pow((across+0.35)/0.4, 2)))
						}
						for j := range 3 {
							w[j] += (float32(paint[j]) - w[j]) * d
						}
						rigged = 1 - (1-rigged)*(1-d)
					}
				}
				u := off.Apply(p)
				if math.Abs(u.X) < 130 && math.Abs(u.Y) < 100 {
					if paint, d := canAt(u.X, u.Y); d > 0 {
						for j := range 3 {
							v[j] += (float32(paint[j]) - v[j]) * float32(d)
							w[j] += (float32(paint[j]) - w[j]) * float32(d)
						}
						rigged *= 1 - float32(d)
					}
				}
				if paint, d := sleeveAt(reach, p); d > 0 {
					for j := range 3 {
						v[j] += (float32(paint[j]) - v[j]) * float32(d)
						w[j] += (float32(paint[j]) - w[j]) * float32(d)
					}
					rigged *= 1 - float32(d)
				}
				m[x] += rigged / subframes
				for j := range 3 {
					a[4*x+j] += v[j] / subframes
					b[4*x+j] += w[j] / subframes
				}
			}
		})
	}
	tint := light(n + 400)
	for i := range clean.Pix {
		if i%4 == 3 {
			clean.Pix[i], hung.Pix[i] = 1, 1
			continue
		}
		k := float32(tint[i%4])
		clean.Pix[i], hung.Pix[i] = clean.Pix[i]*k, hung.Pix[i]*k
	}
	return finish(soften(clean), soften(hung), raster.Gaussian(cover, lens), n+5000)
}

// sample is the hedge at a place; it is larger than anything the camera sees.
func sample(m *raster.Image, x, y float64) (v [3]float32) {
	x, y = math.Min(math.Max(x-0.5, 0), hedgeW-2), math.Min(math.Max(y-0.5, 0), hedgeH-2)
	x0, y0 := int(x), int(y)
	fx, fy := float32(x-float64(x0)), float32(y-float64(y0))
	i := 4 * (y0*hedgeW + x0)
	a, b := m.Pix[i:i+8:i+8], m.Pix[i+4*hedgeW:i+4*hedgeW+8:i+4*hedgeW+8]
	for c := range 3 {
		top, low := a[c]+(a[c+4]-a[c])*fx, b[c]+(b[c+4]-b[c])*fx
		v[c] = top + (low-top)*fy
	}
	return v
}

// paintHedge returns the hedge under its sky in linear light.
func paintHedge() *raster.Image {
	m := raster.NewImage(image.Rect(0, 0, hedgeW, hedgeH))
	raster.Rows(0, hedgeH, func(y int) {
		for x := range hedgeW {
			c := hedgeAt(float64(x)+0.5, float64(y)+0.5)
			m.Set(x, y, [4]float32{float32(c[0]), float32(c[1]), float32(c[2]), 1})
		}
	})
	return m
}

// hedgeAt is a clipped hedge: leaves in three layers, lit from above, under a sky
// that is almost white.
func hedgeAt(u, v float64) colour {
	sky := colour{
		0.80,
		0.83,
		0.86,
	}.mix(colour{0.66, 0.74, 0.82}, step(260, 0, v)).
		times(1 + 0.03*clouds(301, u/220, v/90, 4))
	top := 232 + 16*clouds(302, u/120, 1, 3) + 7*lattice(303, u/16, 2)
	depth := v - top
	if depth < -14 {
		return sky
	}
	inner := colour{0.012, 0.02, 0.012}.times(1 + 0.6*clouds(304, u/22, v/22, 4))
	c := inner
	leafy := 0.0 // how much of the sky is covered
	if depth > 6 {
		leafy = 1
	} else {
		c, leafy = sky, 0
	}
	for layer := range uint64(3) {
		size := 13 - 2.2*float64(layer)
		lit := 0.32 + 0.34*float64(layer)
		gx, gy := math.Floor(u/size), math.Floor(v/size)
		for j := -1.0; j <= 1; j++ {
			for i := -1.0; i <= 1; i++ {
				ix, iy := uint64(int64(gx+i)+4000), uint64(int64(gy+j)+4000)
				cx, cy := (gx+i+unit(310, layer, ix, iy))*size, (gy+j+unit(311, layer, ix, iy))*size
				if cy < 260 && cy < 232+16*clouds(302, cx/120, 1, 3)+7*lattice(303, cx/16, 2) {
					continue
				}
				angle := 2 * math.Pi * unit(312, layer, ix, iy)
				sin, cos := math.Sincos(angle)
				du, dv := u-cx, v-cy
				p, q := (du*cos+dv*sin)/(size*0.72), (dv*cos-du*sin)/(size*0.34)
				d := p*p + q*q
				if d > 1.25 {
					continue
				}
				hue := unit(313, layer, ix, iy)
				leaf := colour{
					0.045,
					0.105,
					0.022,
				}.mix(colour{0.105, 0.15, 0.03}, hue).
					times(lit * (1.2 + 0.7*cos) * (1 - 0.25*q))
				leaf = leaf.times(1 - 0.35*math.Exp(-q*q*90)) // the rib
				edge := step(1.22, 0.92, d)
				c = c.mix(leaf, edge)
				leafy = math.Max(leafy, edge)
			}
		}
	}
	// Darker between the stems and towards the ground.
	return c.times(1 - leafy*0.5*step(300, 760, v)*(0.6+0.4*clouds(305, u/60, v/50, 3)))
}

// canAt is the can in its own coordinates, its middle at the origin: paint and
// coverage.
func canAt(x, y float64) (colour, float64) {
	zinc := func(round float64) colour { // asked for where it shows
		k := 0.55 + 0.75*math.Exp(-math.Pow((round+0.3)/0.45, 2)) + 0.08*clouds(330, x/5, y/18, 4)
		return colour{0.20, 0.225, 0.235}.times(k)
	}
	var c colour
	var cover float64
	lay := func(distance float64, paint func() colour) {
		if d := step(0.8, -0.8, distance); d > 0 {
			c, cover = c.mix(paint(), d/(d+cover*(1-d))), 1-(1-cover)*(1-d)
		}
	}
	// The handle: a hoop over the top and back.
	hoop := math.Abs(geom.Pt((x+30)*0.9, (y+16)*1.1).Len()-46) - 3.4
	if x < 14 {
		lay(hoop, func() colour { return zinc(0.2).times(0.8) })
	}
	// The spout: a tapering pipe with a rose at its end.
	a, b := geom.Pt(34, 26), geom.Pt(92, -34)
	d := b.Sub(a)
	u := math.Min(math.Max(((x-a.X)*d.X+(y-a.Y)*d.Y)/(d.X*d.X+d.Y*d.Y), 0), 1)
	side := ((x-a.X)*d.Y - (y-a.Y)*d.X) / d.Len()
	lay(geom.Pt(x, y).Dist(a.Lerp(b, u))-(10-4.5*u), func() colour { return zinc(side / 9) })
	rose := math.Max(math.Abs((x-95)*0.7+(y+38)*0.72)-4, math.Abs((x-95)*0.72-(y+38)*0.7)-14)
	lay(rose, func() colour { return zinc(-0.2).times(0.9 + 0.25*math.Sin(x*2.1)*math.Sin(y*2.3)) })
	// The body, a little wider at its foot, with two bands.
	half := 44 + 0.09*(y+8)
	body := math.Max(math.Abs(x)-half, math.Abs(y-8)-42)
	lay(body, func() colour {
		band := 1 - 0.35*math.Exp(-math.Pow((y+22)/1.6, 2)) - 0.35*math.Exp(-math.Pow((y-36)/1.6, 2))
		return zinc(x / half).times(band)
	})
	// Its label: a painted leaf.
	leaf := math.Max(geom.Pt(x, y-26).Len(), geom.Pt(x, y+10).Len()) - 30
	if body < -2 {
		lay(leaf, func() colour { return colour{0.10, 0.2, 0.06} })
	}
	// The eyes that rod and wires hold on to.
	for _, e := range []geom.Point{{X: 2, Y: -42}, {X: -66, Y: -44}, {X: 67, Y: -6}} {
		lay(geom.Pt(x, y).Dist(e)-5, func() colour { return zinc(0).times(0.6) })
	}
	return c, cover
}

// An Arm is the gardener's: from the elbow, beyond the picture, to the wrist, and the
// glove at its end.
type Arm struct {
	Elbow geom.Point `json:"elbow"`
	Wrist geom.Point `json:"wrist"`
}

// Widths of the sleeve in pixels, from its middle to its edge.
const (
	atElbow = 46.0
	atWrist = 29.0
)

// sleeve returns where the arm is at time t: it comes in from the right, reaches past
// the rod and goes back.
func sleeve(t float64) Arm {
	u := step(17, 27, t) * step(43, 33, t)
	wrist := geom.Pt(1060-590*u+5*sway(231, t/9), 150+26*u+6*sway(232, t/11))
	return Arm{Elbow: geom.Pt(wrist.X+420, wrist.Y-70+20*u), Wrist: wrist}
}

// Sleeve returns where the arm is on frame n.
func Sleeve(n int) Arm { return sleeve(float64(n - CanFirst)) }

// Outline returns the arm's edge, with the glove, as a closed polygon.
func (a Arm) Outline() []geom.Point {
	d := a.Wrist.Sub(a.Elbow)
	d = d.Mul(1 / d.Len())
	n := geom.Pt(-d.Y, d.X)
	at := func(along, side float64) geom.Point { return a.Wrist.Add(d.Mul(along)).Add(n.Mul(side)) }
	length := a.Wrist.Dist(a.Elbow)
	return []geom.Point{
		at(
			-length,
			-atElbow,
		), at(0, -atWrist), at(12, -23), at(44, -22), at(62, -12), at(66, 0), at(62, 12), at(44, 22), at(12, 23), at(0,
			atWrist), at(-length, atElbow),
	}
}

// sleeveAt is the arm at a place of the frame: a knitted sleeve and a leather glove,
// with fibres that stand out from its edge.
func sleeveAt(a Arm, p geom.Point) (colour, float64) {
	if p.X < a.Wrist.X-90 {
		return colour{}, 0
	}
	d := a.Wrist.Sub(a.Elbow)
	length := d.Len()
	d = d.Mul(1 / length)
	e := p.Sub(a.Wrist)
	along, side := e.X*d.X+e.Y*d.Y, -e.X*d.Y+e.Y*d.X
	if along > 0 { // the glove
		half := 23 * math.Sqrt(math.Max(1-math.Pow(math.Max(along-30, 0)/36, 2), 0))
		if cover := step(0.9, -0.9, math.Abs(side)-half); cover > 0 && along < 66 {
			leather := colour{
				0.16,
				0.105,
				0.055,
			}.times(
				0.7 + 0.5*step(20, -20, side) + 0.25*clouds(240, along/6, side/6, 4),
			)
			return leather, cover
		}
	}
	if along > 8 {
		return colour{}, 0
	}
	half := atWrist + (atElbow-atWrist)*math.Min(-along/length, 1)
	if math.Abs(side) > half+6 {
		return colour{}, 0
	}
	// Wool is not sharp at its edge.
	fuzz := 2.2 * clouds(241, along/2.1, side/4, 3)
	cover := step(2.4, -1.6, math.Abs(side)-half+fuzz)
	if cover == 0 {
		return colour{}, 0
	}
	rib := 0.72 + 0.28*math.Cos(along*2*math.Pi/7.5+0.9*math.Cos(side*2*math.Pi/8))
	round := math.Sqrt(math.Max(1-math.Pow(side/(half+2), 2), 0.05))
	wool := colour{0.30, 0.125, 0.075}.times(rib * (0.4 + 0.75*round) * (1.1 + 0.25*step(half, -half, side)))
	if along > -34 && math.Mod(-along, 17) < 8 {
		wool = wool.mix(colour{0.38, 0.34, 0.27}.times(rib*(0.4+0.75*round)), 0.9) // a pale cuff
	}
	return wool, cover
}

// CanTruth is what truth.json says about the shot.
type CanTruth struct {
	Edition   string                  `json:"edition"`
	Reference int                     `json:"reference"`
	Motion    map[int]geom.Homography `json:"motion"` // of the hedge, from the reference frame to each frame
	Can       map[int]geom.Homography `json:"can"`    // of the can, the same
	Hangings  map[int][]Hanging       `json:"hangings"`
	Sleeve    map[int]Arm             `json:"sleeve"`
}

// TellCan returns the contents of lm_020's truth.json.
func TellCan() CanTruth {
	t := CanTruth{
		Edition:   canEdition,
		Reference: CanReference,
		Motion:    map[int]geom.Homography{},
		Can:       map[int]geom.Homography{},
		Hangings:  map[int][]Hanging{},
		Sleeve:    map[int]Arm{},
	}
	for n := CanFirst; n <= CanLast; n++ {
		t.Motion[n], t.Can[n] = CanTransform(CanReference, n), HoverTransform(CanReference, n)
		t.Hangings[n], t.Sleeve[n] = hangings(float64(n-CanFirst)), Sleeve(n)
	}
	return t
}
