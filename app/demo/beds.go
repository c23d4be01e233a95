package demo

import (
	"image"
	"math"
	"sync"

	"jardin/core/camera"
	"jardin/core/geom"
	"jardin/core/raster"
)

// lm_050: plant labels stand on raised beds, and have to go. The camera slides past them and turns a little, through a wide lens;
// a post that stands near it passes by before all. What is behind each label is seen at other times. The truth is the same shot
// without the labels. Lengths are in metres.

// What lm_050 is.
const (
	BedsName      = "lm_050"
	BedsFirst     = 1001
	BedsLast      = 1060
	BedsReference = 1030
	BedsFocal     = 740.0 // pixels
	bedsSamples   = 4
)

// BedsLens is the lens of lm_050: straight lines bow outwards.
func BedsLens() geom.Lens {
	l, err := geom.LensOf([3]float64{-0.1}, Width, Height, geom.Pt(Width/2, Height/2), 1)
	if err != nil {
		panic(err) // the numbers are above
	}
	return l
}

// BedsView returns the camera of lm_050 at time t, in frames from the first: on a slider, turning towards what it passes.
func BedsView(t float64) camera.View {
	u := t/float64(BedsLast-BedsFirst) - 0.5
	ease := u + 0.02*math.Sin(2*math.Pi*u)
	eye := camera.Vec{1.1*ease + 0.002*sway(701, t/20), 1.28 + 0.004*sway(702, t/9), 0.05*u + 0.003*sway(703, t/15)}
	yaw, pitch, roll := 0.16*ease+0.002*sway(704, t/11), 0.24+0.0015*sway(705, t/8), 0.0012*sway(706, t/10)
	// y down and z forwards, then looking down, then to the side: what is passed stays about in the middle.
	down := camera.Rotation{1, 0, 0, 0, -1, 0, 0, 0, -1}
	r := camera.Turn(camera.Vec{0, 0, roll}).Mul(camera.Turn(camera.Vec{pitch, 0, 0})).Mul(camera.Turn(camera.Vec{0, yaw, 0})).Mul(down)
	return camera.View{Pose: camera.PoseAt(eye, r), Focal: BedsFocal}
}

// A slab is a flat thing in space: from an origin along two directions, with the paint of each place, in metres, and how much of
// it is there.
type slab struct {
	at, across, up camera.Vec // across and up are of length 1, and at right angles
	wide, high     float64
	paint          func(u, v float64) (colour, float64)
	texture        *raster.Image // paint, made ready; alpha is what is there
	density        float64       // pixels of the texture to a metre
	label          bool
	normal         camera.Vec
}

func (s *slab) ready() {
	s.normal = s.across.Cross(s.up)
	w, h := int(math.Ceil(s.wide*s.density)), int(math.Ceil(s.high*s.density))
	s.texture = raster.NewImage(image.Rect(0, 0, w, h))
	raster.Rows(0, h, func(y int) {
		for x := range w {
			c, a := s.paint((float64(x)+0.5)/s.density, s.high-(float64(y)+0.5)/s.density)
			s.texture.Set(x, y, [4]float32{float32(c[0]), float32(c[1]), float32(c[2]), float32(a)})
		}
	})
}

// meet returns how far along a ray the slab is met, and where on it; ok is false where it is missed.
func (s *slab) meet(eye, ray camera.Vec) (far, u, v float64, ok bool) {
	slope := ray.Dot(s.normal)
	if slope == 0 {
		return 0, 0, 0, false
	}
	far = s.at.Sub(eye).Dot(s.normal) / slope
	if !(far > 0.05) {
		return 0, 0, 0, false
	}
	p := eye.Add(ray.Mul(far)).Sub(s.at)
	u, v = p.Dot(s.across), p.Dot(s.up)
	return far, u, v, u >= 0 && v >= 0 && u < s.wide && v < s.high
}

// look returns what is seen at a place of the slab; alpha is what is there.
func (s *slab) look(u, v float64) (c [4]float32) {
	m := s.texture
	x, y := u*s.density-0.5, (s.high-v)*s.density-0.5
	w, h := m.Rect.Dx(), m.Rect.Dy()
	x0, y0 := min(max(int(math.Floor(x)), 0), w-2), min(max(int(math.Floor(y)), 0), h-2)
	fx, fy := float32(math.Min(math.Max(x-float64(x0), 0), 1)), float32(math.Min(math.Max(y-float64(y0), 0), 1))
	i := 4 * (y0*w + x0)
	a, b := m.Pix[i:i+8:i+8], m.Pix[i+4*w:i+4*w+8:i+4*w+8]
	for k := range 4 {
		top, low := a[k]+(a[k+4]-a[k])*fx, b[k]+(b[k+4]-b[k])*fx
		c[k] = top + (low-top)*fy
	}
	return c
}

// seen returns a box around where a view may see the slab, with some room.
func (s *slab) seen(v *camera.View) geom.Box {
	all := geom.Box{Max: geom.Pt(Width, Height)}.Grow(2)
	lens := BedsLens()
	var at []geom.Point
	for i := range 9 {
		for j := range 9 {
			p, ok := v.Straight(&lens, s.at.Add(s.across.Mul(s.wide*float64(i)/8)).Add(s.up.Mul(s.high*float64(j)/8)))
			if !ok {
				return all
			}
			if p = lens.Distort(p); !p.Finite() {
				return all
			}
			at = append(at, p)
		}
	}
	return geom.Bounds(at).Grow(8)
}

// What stands where.
const (
	bedHeight = 0.42
	bedFront  = -1.35
	bedBack   = -3.1
	wallAway  = -3.9
)

// A BedLabel is a plant label: the corners of its board in space, clockwise from the upper left as the camera sees it.
type BedLabel struct {
	Name    string
	Corners [4]camera.Vec
}

// labels are where boards stand: the middle of the lower edge, how they are turned about the vertical, and their size.
var bedLabels = []struct {
	name       string
	x, z, turn float64
	wide, high float64
}{
	{"mint", -0.46, -1.75, 0.12, 0.11, 0.08},
	{"leek", 0.05, -2.1, -0.2, 0.12, 0.085},
	{"sorrel", 0.52, -1.9, 0.05, 0.1, 0.08},
	{"chard", -0.2, -2.6, 0.1, 0.13, 0.09},
}

const labelFoot = 0.16 // the board's height above the soil, on a stick

// BedLabels returns the boards of lm_050.
func BedLabels() (out []BedLabel) {
	for _, l := range bedLabels {
		across := camera.Vec{math.Cos(l.turn), 0, -math.Sin(l.turn)}
		foot := camera.Vec{l.x, bedHeight + labelFoot, l.z}
		left, right := foot.Sub(across.Mul(l.wide/2)), foot.Add(across.Mul(l.wide/2))
		up := camera.Vec{0, l.high, 0}
		out = append(out, BedLabel{l.name, [4]camera.Vec{left.Add(up), right.Add(up), right, left}})
	}
	return out
}

// soil is the earth of the beds, with seedlings in rows.
func soil(u, v float64) (colour, float64) {
	x, y := u*300, v*300
	c := colour{0.085, 0.06, 0.042}.times(1 + 0.7*clouds(710, x/60, y/60, 4) + 0.5*lattice(711, x/5, y/5))
	for layer, size := range []float64{11, 22} {
		if shade, tone, ok := pebble(uint64(712+layer), x, y, size, []float64{0.35, 0.3}[layer]); ok {
			c = colour{0.15, 0.12, 0.09}.mix(colour{0.09, 0.06, 0.045}, tone).times(0.5 + 0.8*shade)
		}
	}
	row := math.Abs(math.Mod(v, 0.29) - 0.145)
	if row < 0.05 {
		leaf := step(0.08, 0.2, clouds(715, x/9, y/9, 3)-row*5+0.1)
		c = c.mix(colour{0.06, 0.15, 0.035}.times(0.6+0.9*math.Abs(lattice(716, x/4, y/3))), leaf)
	}
	return c, 1
}

// planks are the bed's front: boards lying on each other.
func planks(u, v float64) (colour, float64) {
	c := wallAt(u*260+40, v*260+90)
	return c.mix(colour{0.16, 0.11, 0.07}.times(1+0.6*clouds(720, u*30, v*300, 4)), 0.6), 1
}

func bedsGravel(u, v float64) (colour, float64) { return pathAt(u*220, 420+v*180), 1 }

func bedsWall(u, v float64) (colour, float64) {
	x, y := u*230+80, 760-v*230
	return wallAt(x, y).times(daylight(x, y)), 1
}

// leaves are a shrub: cut out of a square.
func leaves(seed uint64, hue colour) func(u, v float64) (colour, float64) {
	return func(u, v float64) (colour, float64) {
		var c colour
		var cover float64
		for k := range uint64(90) {
			x, y := 0.04+0.42*unit(seed, k, 1), 0.02+0.46*unit(seed, k, 2)
			turn, size := 6.3*unit(seed, k, 3), 0.02+0.035*unit(seed, k, 4)
			sin, cos := math.Sincos(turn)
			p, q := ((u-x)*cos+(v-y)*sin)/size, ((v-y)*cos-(u-x)*sin)/size*2.2
			r := p*p + q*q
			if math.Abs(p) > 1.1 || r > 1.2 {
				continue
			}
			d := step(1.08, 0.92, r)
			shade := (0.45 + 0.6*unit(seed, k, 5)) * (1 - 0.35*math.Exp(-q*q*30)) * (0.8 + 0.3*p)
			c, cover = c.mix(hue.times(shade), d), cover+d-cover*d
		}
		return c, cover
	}
}

// board is a plant label: paint on wood with what is written on it, on a stick.
func board(i int, wide, high float64) func(u, v float64) (colour, float64) {
	seed := uint64(740 + 10*i)
	ink := []colour{{0.05, 0.16, 0.07}, {0.3, 0.08, 0.05}, {0.05, 0.08, 0.2}, {0.25, 0.14, 0.02}}[i%4]
	return func(u, v float64) (colour, float64) {
		x, y := u, v-labelFoot
		if y < 0 {
			if math.Abs(x-wide/2) > 0.008 {
				return colour{}, 0
			}
			return colour{0.22, 0.14, 0.08}.times(0.7 + 0.5*clouds(seed, u*400, v*60, 3) + 24*(x-wide/2+0.008)), 1
		}
		c := colour{0.55, 0.52, 0.44}.times(1 + 0.16*clouds(seed+1, u*40, v*500, 4))
		edge := math.Min(math.Min(x, wide-x), math.Min(y, high-y))
		c = c.mix(ink, step(0.008, 0.006, edge))
		// A line of writing: waves of a pen.
		if px := x / wide; px > 0.14 && px < 0.86 {
			line := high * (0.55 + 0.17*math.Sin(px*42+float64(i))*math.Cos(px*17+2*float64(i)))
			c = c.mix(ink, step(0.009, 0.005, math.Abs(y-line)))
			c = c.mix(ink, step(0.004, 0.002, math.Abs(y-high*0.24)))
		}
		return c, 1
	}
}

// timber is the post near the camera.
func timber(u, v float64) (colour, float64) {
	round := 0.35 + 0.8*math.Sqrt(math.Max(0, 1-math.Pow((u-0.04)/0.042, 2)))
	return colour{0.15, 0.145, 0.13}.times(round * (1 + 0.7*clouds(760, u*90, v*14, 4))), 1
}

// bedSlabs returns all that stands in lm_050.
func bedSlabs() []*slab {
	x, y, back := camera.Vec{1, 0, 0}, camera.Vec{0, 1, 0}, camera.Vec{0, 0, -1}
	all := []*slab{
		{at: camera.Vec{-3.2, 0, wallAway}, across: x, up: y, wide: 6.4, high: 2.6, paint: bedsWall, density: 230},
		{at: camera.Vec{-2.8, 0, 0.5}, across: x, up: back, wide: 5.6, high: 4.6, paint: bedsGravel, density: 40},
		{at: camera.Vec{-2.3, bedHeight, bedFront}, across: x, up: back, wide: 4.6, high: bedFront - bedBack, paint: soil, density: 300},
		{at: camera.Vec{-2.3, 0, bedFront}, across: x, up: y, wide: 4.6, high: bedHeight, paint: planks, density: 300},
	}
	for i, s := range []struct{ x, z float64 }{{-0.95, -2.3}, {0.85, -2.6}, {0.25, -3.0}, {-0.62, -2.95}, {1.3, -2.0}, {-1.45, -1.8}} {
		hue := []colour{{0.05, 0.14, 0.04}, {0.1, 0.15, 0.04}, {0.06, 0.12, 0.07}}[i%3]
		all = append(all, &slab{at: camera.Vec{s.x - 0.25, bedHeight, s.z}, across: x, up: y, wide: 0.5, high: 0.5,
			paint: leaves(uint64(780+i), hue), density: 420})
	}
	for i, l := range bedLabels {
		across := camera.Vec{math.Cos(l.turn), 0, -math.Sin(l.turn)}
		at := camera.Vec{l.x, bedHeight, l.z}.Sub(across.Mul(l.wide / 2))
		all = append(all, &slab{at: at, across: across, up: y, wide: l.wide, high: l.high + labelFoot,
			paint: board(i, l.wide, l.high), density: 700, label: true})
	}
	return append(all, &slab{at: camera.Vec{-0.05, -0.4, -0.62}, across: x, up: y, wide: 0.08, high: 2.6, paint: timber, density: 900})
}

// BedsShot generates lm_050.
type BedsShot struct {
	slabs func() []*slab
	rays  func() []camera.Vec // of the corners of a grid finer than pixels: two to each, by rows
}

const raysPerPixel = 2

// NewBeds returns the shot. Its surfaces are painted when the first frame is asked for.
func NewBeds() *BedsShot {
	return &BedsShot{
		slabs: sync.OnceValue(func() []*slab {
			all := bedSlabs()
			var parts []func()
			for _, s := range all {
				parts = append(parts, s.ready)
			}
			raster.Parallel(parts...)
			return all
		}),
		rays: sync.OnceValue(func() []camera.Vec {
			lens := BedsLens()
			out := make([]camera.Vec, raysPerPixel*Width*raysPerPixel*Height)
			raster.Rows(0, raysPerPixel*Height, func(y int) {
				for x := range raysPerPixel * Width {
					p := lens.Straighten(geom.Pt((float64(x)+0.5)/raysPerPixel, (float64(y)+0.5)/raysPerPixel))
					out[y*raysPerPixel*Width+x] = camera.Vec{(p.X - lens.Centre.X) / BedsFocal, (p.Y - lens.Centre.Y) / BedsFocal, 1}
				}
			})
			return out
		}),
	}
}

// Frame generates frame n.
func (s *BedsShot) Frame(n int) Frame {
	slabs, rays, rect := s.slabs(), s.rays(), Bounds()
	clean, plate, matte := raster.NewImage(rect), raster.NewImage(rect), raster.NewPlane(rect)
	for k := range bedsSamples {
		t := float64(n-BedsFirst) + shutter*((float64(k)+0.5)/bedsSamples-0.5)
		view := BedsView(t)
		eye := view.Pose.Eye()
		dx, dy := k%2, (k/2+k)%2 // each quarter of a pixel in turn
		within := make([]geom.Box, len(slabs))
		for i, slab := range slabs {
			within[i] = slab.seen(&view)
		}
		raster.Rows(0, Height, func(y int) {
			a, b, m := clean.Row(y, 0, Width), plate.Row(y, 0, Width), matte.Row(y, 0, Width)
			order := make([]met, 0, len(slabs))
			here := make([]int, 0, len(slabs))
			for i, box := range within {
				if float64(y) > box.Min.Y && float64(y) < box.Max.Y {
					here = append(here, i)
				}
			}
			for x := range Width {
				ray := view.Pose.R.Back(rays[(raysPerPixel*y+dy)*raysPerPixel*Width+raysPerPixel*x+dx])
				order = order[:0]
				for _, k := range here {
					slab := slabs[k]
					if box := &within[k]; float64(x) < box.Min.X || float64(x) > box.Max.X {
						continue
					}
					if far, u, v, ok := slab.meet(eye, ray); ok {
						i := len(order)
						order = append(order, met{})
						for ; i > 0 && order[i-1].far > far; i-- {
							order[i] = order[i-1]
						}
						order[i] = met{far, u, v, slab}
					}
				}
				bare, with, cover := seenAlong(order)
				m[x] += cover / bedsSamples
				for c := range 3 {
					a[4*x+c] += bare[c] / bedsSamples
					b[4*x+c] += with[c] / bedsSamples
				}
			}
		})
	}
	lightUp(light(n+1400), clean, plate)
	return finish(soften(clean), soften(plate), raster.Gaussian(matte, lens), n+15000)
}

// A met is what a ray meets.
type met struct {
	far, u, v float64
	slab      *slab
}

// seenAlong lays what a ray meets, the nearest first: without labels, with them, and how much of them is seen.
func seenAlong(order []met) (bare, with [3]float32, cover float32) {
	leftBare, left := float32(1), float32(1)
	for _, o := range order {
		c := o.slab.look(o.u, o.v)
		a := c[3]
		if a == 0 {
			continue
		}
		if o.slab.label {
			cover += left * a
		} else if leftBare > 0 {
			for k := range 3 {
				bare[k] += leftBare * a * c[k]
			}
			leftBare *= 1 - a
		}
		for k := range 3 {
			with[k] += left * a * c[k]
		}
		left *= 1 - a
		if leftBare < 1e-3 && left < 1e-3 {
			break
		}
	}
	return bare, with, cover
}

// BedsWall returns where a place of the wall that is seen on a frame is on another.
func BedsWall(p geom.Point, from, to int) geom.Point {
	lens, a, b := BedsLens(), BedsView(float64(from-BedsFirst)), BedsView(float64(to-BedsFirst))
	eye, ray := a.Pose.Eye(), a.Ray(&lens, p)
	q, ok := b.Project(&lens, eye.Add(ray.Mul((wallAway-eye[2])/ray[2])))
	if !ok {
		return geom.Pt(math.NaN(), math.NaN())
	}
	return q
}

// BedsTruth is what truth.json says about the shot.
type BedsTruth struct {
	Edition   string                   `json:"edition"`
	Reference int                      `json:"reference"`
	Focal     float64                  `json:"focal"`  // pixels
	K1        float64                  `json:"k1"`     // of a lens whose radius 1 is half the picture's diagonal
	Eyes      map[int][3]float64       `json:"eyes"`   // where the camera is, metres, y up
	Turns     map[int][9]float64       `json:"turns"`  // by rows: from the world to the camera, whose y is down
	Labels    map[string][4][3]float64 `json:"labels"` // corners in space
	Seen      map[string][4][2]float64 `json:"seen"`   // the same on the reference frame, pixels
}

// TellBeds returns the contents of lm_050's truth.json.
func TellBeds() BedsTruth {
	t := BedsTruth{Edition: bedsEdition, Reference: BedsReference, Focal: BedsFocal, K1: -0.1, Eyes: map[int][3]float64{},
		Turns: map[int][9]float64{}, Labels: map[string][4][3]float64{}, Seen: map[string][4][2]float64{}}
	for n := BedsFirst; n <= BedsLast; n++ {
		v := BedsView(float64(n - BedsFirst))
		t.Eyes[n], t.Turns[n] = v.Pose.Eye(), v.Pose.R
	}
	lens, view := BedsLens(), BedsView(BedsReference-BedsFirst)
	for _, l := range BedLabels() {
		var at [4][3]float64
		var seen [4][2]float64
		for i, c := range l.Corners {
			at[i] = c
			p, _ := view.Project(&lens, c)
			seen[i] = [2]float64{p.X, p.Y}
		}
		t.Labels[l.Name], t.Seen[l.Name] = at, seen
	}
	return t
}
