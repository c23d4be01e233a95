package demo

import (
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
)

// The potting-shed wall of lm_010: limewashed boards, weathered and chipped,
// with the winter light of a glazed roof across them, and what hangs flat on
// them. Everything lies in the wall's plane, so one homography a frame is the
// whole truth about how it moves.

const (
	wallW, wallH = 1240, 780 // in wall units; one unit is about a pixel
	oversample   = 2         // samples a unit and direction when it is painted
)

type colour [3]float64

func (c colour) mix(d colour, t float64) colour {
	for i := range c {
		c[i] += (d[i] - c[i]) * t
	}
	return c
}

func (c colour) times(k float64) colour { return colour{c[0] * k, c[1] * k, c[2] * k} }

// A dot is a round tracking mark painted on the wall.
type dot struct {
	at     geom.Point
	radius float64
}

// dots lie in wall units.
var dots = []dot{
	{geom.Pt(402, 300), 13}, {geom.Pt(640, 252), 12}, {geom.Pt(878, 318), 13},
	{geom.Pt(470, 508), 12}, {geom.Pt(742, 470), 13}, {geom.Pt(925, 540), 12},
}

// paintWall returns the wall in linear light; alpha is the share of a dot.
func paintWall() *raster.Image {
	wall := raster.NewImage(image.Rect(0, 0, wallW, wallH))
	raster.Rows(0, wallH, func(y int) {
		for x := range wallW {
			var sum [4]float32
			for sy := range oversample {
				for sx := range oversample {
					u := float64(x) + (float64(sx)+0.5)/oversample
					v := float64(y) + (float64(sy)+0.5)/oversample
					c := wallAt(u, v).times(daylight(u, v))
					for k := range 3 {
						sum[k] += float32(c[k])
					}
					sum[3] += float32(dotCover(u, v))
				}
			}
			for k := range sum {
				sum[k] /= oversample * oversample
			}
			wall.Set(x, y, sum)
		}
	})
	return wall
}

// dotCover is the share of orange paint: brushed on by hand, so not quite round
// and a little thin at the rim.
func dotCover(u, v float64) float64 {
	for i, d := range dots {
		p := geom.Pt(u, v).Sub(d.at)
		r := p.Len()
		if r > d.radius*1.4 {
			continue
		}
		angle := math.Atan2(p.Y, p.X)
		edge := d.radius * (1 + 0.05*lattice(300+uint64(i), math.Cos(angle)*2, math.Sin(angle)*2))
		return step(edge+0.7, edge-0.7, r) * (0.97 + 0.03*lattice(310, u/3, v/3))
	}
	return 0
}

var orange = colour{0.72, 0.17, 0.025}

// wallAt is the wall's reflectance.
func wallAt(u, v float64) colour {
	const board = 86.0
	warp := 2.2 * clouds(11, u/260, v/90, 3)
	row := math.Floor((v + warp) / board)
	id := uint64(int64(row) + 100)
	in := v + warp - row*board // distance below the board's upper edge

	// Wood under the limewash: long fibres and knots.
	fibre := clouds(20+id, u/140, v/2.6, 4) + 0.5*clouds(40+id, u/30, v/1.4, 2)
	for k := range uint64(2) {
		kx, ky := unit(60, id, k)*wallW, (0.25+0.5*unit(61, id, k))*board
		dx, dy := (u-kx)/26, (in-ky)/13
		if r := math.Hypot(dx, dy); r < 3 {
			ring := math.Sin(r*9+3*clouds(62, dx, dy, 2)) * math.Exp(-r*r/1.6)
			fibre += 0.5*ring - 0.8*math.Exp(-r*r*5)
		}
	}
	wood := colour{0.165, 0.118, 0.078}.times(1 + 0.75*fibre)

	// Limewash, thicker on some boards, brushed along them, worn where hands go.
	tint := unit(70, id)
	wash := colour{0.50, 0.485, 0.435}.mix(colour{0.43, 0.45, 0.405}, tint)
	wash = wash.times(1 + 0.16*clouds(71+id, u/120, v/3.2, 4) + 0.10*clouds(72, u/9, v/7, 3))
	worn := 0.34 + 0.9*clouds(80, u/190+5, v/120, 4) + 0.55*clouds(81, u/16, v/9, 4) + 0.22*fibre
	c := wash.mix(wood, step(0.42, 0.66, worn))
	// Chips: hard-edged flakes with a thin dark rim.
	flake := clouds(90, u/21, v/15, 4) + 0.35*clouds(91, u/150, v/150, 2)
	c = c.mix(wood.times(0.8), step(0.335, 0.35, flake))
	c = c.times(1 - 0.28*math.Exp(-math.Pow((flake-0.33)/0.012, 2)))

	// Gaps between boards, with a light lower lip, and nails.
	gap := 1.5 + 0.8*clouds(100, u/70, row, 2)
	c = c.times(1 - 0.88*step(gap+1.6, gap-0.3, in))
	c = c.times(1 - 0.34*math.Exp(-in/9)*step(0, 2, in))
	c = c.times(1 + 0.22*math.Exp(-math.Pow((board-in-2.2)/1.3, 2)))
	for _, nx := range []float64{62, 330, 598, 866, 1134} {
		x := nx + 9*(unit(110, id, uint64(nx))-0.5)
		for _, ny := range []float64{17, 69} {
			d := math.Hypot(u-x, in-ny)
			if d > 40 {
				continue
			}
			c = c.mix(colour{0.05, 0.036, 0.028}, step(3.4, 2.2, d))
			c = c.mix(colour{0.22, 0.1, 0.045}, 0.4*math.Exp(-d/4))
			if in > ny { // rust has run down
				run := math.Exp(-math.Pow((u-x)/2.2, 2)) * math.Exp(-(in-ny)/24)
				c = c.mix(colour{0.2, 0.1, 0.05}, 0.5*run)
			}
		}
	}
	// Moss and damp from the floor upwards.
	damp := step(560, 800, v+90*clouds(120, u/90, v/70, 4))
	c = c.mix(colour{0.075, 0.085, 0.05}, 0.72*damp)
	moss := step(0.16, 0.34, clouds(121, u/24, v/17, 5)+0.55*(v-650)/180)
	c = c.mix(colour{0.05, 0.088, 0.022}.times(1+0.8*clouds(122, u/3, v/3, 2)), 0.85*moss)
	return hung(c, u, v)
}

// hung adds what hangs flat against the wall: a rail with hooks, a sieve, a dibber, a
// coil of twine, seed packets under a strip of wood; and the shadows they cast.
func hung(c colour, u, v float64) colour {
	shade := func(d, reach float64) { c = c.times(1 - 0.55*math.Exp(-math.Max(d, 0)/reach)) }
	// The rail.
	rail := func(du, dv float64) float64 { return math.Max(math.Abs(u-du-650)-380, math.Abs(v-dv-168)-9) }
	shade(rail(7, 11), 7)
	if d := rail(0, 0); d < 0 {
		grain := 1 + 0.5*clouds(130, u/80, v/1.8, 4)
		c = colour{0.24, 0.15, 0.082}.times(grain * (0.75 + 0.4*step(177, 160, v)))
	}
	// The sieve: a bent-wood hoop with a wire mesh.
	centre := geom.Pt(1030, 262)
	ring := func(o float64) float64 { return math.Abs(geom.Pt(u-o, v-o*1.4).Dist(centre)-70) - 7 }
	shade(ring(6), 5)
	if r := geom.Pt(u, v).Dist(centre); r < 66 {
		mesh := math.Max(math.Pow(math.Abs(math.Sin(u*math.Pi/7)), 14), math.Pow(math.Abs(math.Sin(v*math.Pi/7)), 14))
		c = c.times(0.72).mix(colour{0.3, 0.29, 0.27}, 0.55*mesh)
	}
	if d := ring(0); d < 0 {
		r := geom.Pt(u, v).Dist(centre)
		angle := math.Atan2(v-centre.Y, u-centre.X)
		c = colour{0.34, 0.2, 0.1}.times((0.8 + 0.5*clouds(131, angle*9, r/2, 3)) * (0.55 + 0.6*step(77, 63, r)))
	}
	// The coil of twine.
	twine := geom.Pt(318, 236)
	coil := func(o float64) float64 { return math.Abs(geom.Pt((u-o-twine.X)*1.25, v-o*1.4-twine.Y).Len()-38) - 11 }
	shade(coil(6), 5)
	if d := coil(0); d < 0 {
		p := geom.Pt((u-twine.X)*1.25, v-twine.Y)
		strand := math.Sin(p.Len()*2.3 + 1.4*math.Sin(math.Atan2(p.Y, p.X)*5))
		twist := math.Sin(math.Atan2(p.Y, p.X)*90 + p.Len()*3)
		c = colour{0.37, 0.27, 0.135}.times(0.72 + 0.26*strand + 0.1*twist)
	}
	// Seed packets, pinned in a row, sun-bleached.
	inks := []colour{{0.42, 0.12, 0.1}, {0.16, 0.27, 0.12}, {0.46, 0.34, 0.1}, {0.17, 0.2, 0.33}}
	for i, ink := range inks {
		x, y := 520.0+62*float64(i), 395.0+4*math.Sin(float64(i)*2.1)
		slant := 0.05 * math.Sin(float64(i)*3.3)
		box := func(o float64) (float64, float64, float64) {
			a, b := u-o-x, v-o-y
			p, q := a+slant*b, b-slant*a
			return math.Max(math.Abs(p)-21, math.Abs(q)-29), p, q
		}
		d, _, _ := box(4)
		shade(d, 3.5)
		d, p, q := box(0)
		if d >= 0 {
			continue
		}
		paper := colour{0.56, 0.52, 0.42}.times(1 + 0.12*clouds(140+uint64(i), u/12, v/12, 4))
		c = paper
		if q < -17 {
			c = ink.mix(paper, 0.25)
		}
		flower := math.Hypot(p, q-3) / (10 + 3*math.Cos(5*math.Atan2(q-3, p)+float64(i)))
		c = c.mix(ink, 0.8*step(1.1, 0.9, flower))
		c = c.mix(colour{0.5, 0.42, 0.12}, step(0.4, 0.3, flower))
		if q > 17 && math.Abs(p) < 14 && math.Mod(q+100, 4) < 1.6 {
			c = c.times(0.6)
		}
	}
	// The dibber, hung by its handle.
	tool := func(o float64) float64 {
		q := v - o*1.3 - 186
		if q < 0 || q > 170 {
			return 40
		}
		half := 4.5 + 5*step(0, 20, q)*step(60, 30, q) + 3*step(60, 80, q)
		if q > 130 {
			half *= (170 - q) / 40
		}
		return math.Abs(u-o-772) - half
	}
	shade(tool(7), 5)
	if d := tool(0); d < 0 {
		round := 0.5 + 0.6*math.Sqrt(math.Max(0, 1-math.Pow((u-770)/11, 2)))
		body := colour{0.3, 0.17, 0.085}
		if v > 262 {
			body = colour{0.21, 0.215, 0.22}
		}
		c = body.times(round * (1 + 0.4*clouds(150, u/1.5, v/50, 3)))
	}
	return c
}

// daylight is what falls on the wall: soft light from the left, the glazing
// bars' shadows across it, and leaves before the panes.
func daylight(u, v float64) float64 {
	soft := 0.62 + 0.34*step(1300, 100, u+0.35*v)
	a, b := u*0.93+v*0.37, -u*0.37+v*0.93
	bars := 1.0
	for _, p := range []struct{ at, half, blur float64 }{{330, 13, 13}, {640, 13, 15}, {960, 14, 17}} {
		bars *= 1 - 0.55*step(p.half+p.blur, p.half-p.blur*0.6, math.Abs(a-p.at))
	}
	bars *= 1 - 0.45*step(26, 4, math.Abs(b-205))
	leaves := step(0.05, 0.26, clouds(160, u/75, v/60, 3)+0.9*step(520, 1150, a)-0.62)
	return soft * (0.44 + 0.95*bars*(1-0.55*leaves))
}
