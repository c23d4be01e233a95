package demo

import (
	"image"
	"math"
	"sync"

	"jardin/core/geom"
	"jardin/core/raster"
)

// lm_030: a banner of faded linen with an emblem on it hangs in the glasshouse's door. It sways in the wind, and for a while a
// fold goes through it and takes a part of the emblem in; a strand of ivy hangs before it. The emblem has to go. The truth
// is the same shot, ivy and all, with the linen bare.

// What lm_030 is.
const (
	BannerName      = "lm_030"
	BannerFirst     = 1001
	BannerLast      = 1072
	BannerReference = 1032
)

const (
	clothW, clothH   = 520, 520 // in units of the linen; one unit is about a pixel
	clothStep        = 4        // units between rows of places; columns are one unit apart
	clothColumns     = clothW + 1
	clothRows        = clothH/clothStep + 1
	bannerSubframes  = 4
	bannerDistance   = 1500.0 // of the linen from the camera, units
	emblemRadius     = 74.0
	bannerTopY       = 34.0
	foldFirst        = 1036
	foldLast         = 1062
	bannerBackground = 0.85 // how far what is behind moves with the camera, beside the linen
)

// emblemAt is the emblem's middle on the linen.
var emblemAt = geom.Pt(262, 282)

// BannerShot generates lm_030.
type BannerShot struct {
	linen, behind func() *raster.Image
}

// NewBanner returns the shot. The linen is painted when the first frame is asked for.
func NewBanner() *BannerShot {
	return &BannerShot{linen: sync.OnceValue(paintLinen), behind: sync.OnceValue(paintDoorway)}
}

// handHeld returns how the camera's shake moves the picture at time t, in frames from the first; share is how much of its moving
// about what is farther away takes part in.
func handHeld(t, share float64) geom.Homography {
	s := t / 24
	x := share * (14*sway(301, s*0.6) + 2.4*sway(302, s*2.9) + 0.6*sway(303, s*8))
	y := share * (9*sway(304, s*0.5) + 2.2*sway(305, s*2.6) + 0.6*sway(306, s*9))
	roll := 0.010*sway(307, s*0.5) + 0.002*sway(308, s*2.6)
	zoom := 1 + 0.015*sway(309, s*0.4)
	spin := geom.Homography{zoom * math.Cos(roll), -zoom * math.Sin(roll), 0, zoom * math.Sin(roll), zoom * math.Cos(roll), 0, 0, 0, 1}
	return geom.Translation(geom.Pt(Width/2-x, Height/2-y)).Mul(spin).Mul(geom.Translation(geom.Pt(-Width/2, -Height/2)))
}

// A Cloth is the linen at one moment: where its crossings are seen, how near they are, and how they lean.
type Cloth struct {
	at   []geom.Point
	near []float64 // towards the camera, units
	lean []float64 // of the linen's rows against the picture, radians
}

// leaning is how far a place of the linen leans at time t: waves that run through it, stronger towards its free end, and a fold that
// comes in from the side.
func leaning(u, v, t float64) float64 {
	s := t / 24
	free := 0.2 + 0.8*v/clothH
	long := (0.52 + 0.12*sway(311, s*0.7)) * math.Sin(2*math.Pi*(u/235-0.45*s)+0.9*v/clothH)
	short := 0.13 * math.Sin(2*math.Pi*(u/98-0.7*s)+2.2*v/clothH+1.3)
	first, last := float64(foldFirst-BannerFirst), float64(foldLast-BannerFirst)
	strength := 2.1 * step(first, first+9, t) * step(last, last-9, t)
	x := (u - 402 + 4.1*(t-first) + 22*sway(312, v/260)) / 24
	return free*(long+short) - strength*free*1.65*x*math.Exp(-x*x/2)
}

// ClothAt returns the linen at time t, in frames from the first.
func ClothAt(t float64) *Cloth {
	c := &Cloth{
		at: make([]geom.Point, clothColumns*clothRows), near: make([]float64, clothColumns*clothRows), lean: make([]float64, clothColumns*clothRows),
	}
	s := t / 24
	move := handHeld(t, 1)
	raster.Rows(0, clothRows, func(j int) {
		v := float64(j * clothStep)
		down := v / clothH
		// Linen does not stretch: along a row each unit of it is a unit long, whichever way it leans.
		var x, z [clothColumns]float64
		for i := 1; i < clothColumns; i++ {
			l := leaning(float64(i)-0.5, v, t)
			x[i], z[i] = x[i-1]+math.Cos(l), z[i-1]+math.Sin(l)
		}
		middle, depth := x[clothW/2], z[clothW/2]
		aside := 26 * sway(313, s*0.5) * down * down
		swing := 70 * sway(314, s*0.45) * down * down
		for i := range clothColumns {
			p := geom.Pt(x[i]-middle+aside, v+bannerTopY-Height/2-10*down*down)
			k := j*clothColumns + i
			c.near[k] = z[i] - depth + swing
			scale := bannerDistance / (bannerDistance - c.near[k])
			c.at[k] = move.Apply(geom.Pt(Width/2+p.X*scale, Height/2+p.Y*scale))
			c.lean[k] = leaning(float64(i), v, t)
		}
	})
	return c
}

// Place returns where a place of the linen is on the picture.
func (c *Cloth) Place(p geom.Point) geom.Point {
	x, y := math.Min(math.Max(p.X, 0), clothW-1e-9), math.Min(math.Max(p.Y/clothStep, 0), clothRows-1-1e-9)
	i, j := int(x), int(y)
	k := j*clothColumns + i
	return c.at[k].Lerp(c.at[k+1], x-float64(i)).Lerp(c.at[k+clothColumns].Lerp(c.at[k+clothColumns+1], x-float64(i)), y-float64(j))
}

// A Seeing tells for each pixel which place of the linen is seen there; less than nothing for none.
type Seeing struct {
	Rect image.Rectangle
	At   []geom.Point
	near []float64
}

// See returns what of the linen is seen from the middles of the pixels, moved by aside.
func (c *Cloth) See(rect image.Rectangle, aside geom.Point) *Seeing {
	out := &Seeing{Rect: rect, At: make([]geom.Point, rect.Dx()*rect.Dy()), near: make([]float64, rect.Dx()*rect.Dy())}
	for i := range out.At {
		out.At[i], out.near[i] = geom.Pt(-1, -1), math.Inf(-1)
	}
	var reach [clothRows - 1][2]float64 // of each row of cells, on the picture
	for j := range reach {
		reach[j] = [2]float64{math.Inf(1), math.Inf(-1)}
		for _, p := range c.at[j*clothColumns : (j+2)*clothColumns] {
			reach[j] = [2]float64{math.Min(reach[j][0], p.Y-aside.Y), math.Max(reach[j][1], p.Y-aside.Y)}
		}
	}
	const bands = 8
	raster.Rows(0, bands, func(b int) {
		low, high := rect.Min.Y+rect.Dy()*b/bands, rect.Min.Y+rect.Dy()*(b+1)/bands
		for j := range clothRows - 1 {
			if reach[j][1] < float64(low)-1 || reach[j][0] > float64(high)+1 {
				continue
			}
			for i := range clothColumns - 1 {
				k := j*clothColumns + i
				corners := [4]int{k, k + 1, k + clothColumns + 1, k + clothColumns}
				out.triangle(c, corners[0], corners[1], corners[2], aside, low, high)
				out.triangle(c, corners[0], corners[2], corners[3], aside, low, high)
			}
		}
	})
	return out
}

// triangle draws one triangle of the linen into rows low to high, where nothing nearer is.
func (s *Seeing) triangle(c *Cloth, a, b, d int, aside geom.Point, low, high int) {
	p, q, r := c.at[a].Sub(aside), c.at[b].Sub(aside), c.at[d].Sub(aside)
	top, end := math.Min(p.Y, math.Min(q.Y, r.Y)), math.Max(p.Y, math.Max(q.Y, r.Y))
	if end < float64(low) || top > float64(high) {
		return
	}
	area := (q.X-p.X)*(r.Y-p.Y) - (q.Y-p.Y)*(r.X-p.X)
	if area == 0 {
		return
	}
	left, right := math.Min(p.X, math.Min(q.X, r.X)), math.Max(p.X, math.Max(q.X, r.X))
	place := func(k int) geom.Point { return geom.Pt(float64(k%clothColumns), float64(k/clothColumns*clothStep)) }
	u, v, w := place(a), place(b), place(d)
	for y := max(int(math.Floor(top)), low); y < min(int(math.Ceil(end))+1, high); y++ {
		for x := max(int(math.Floor(left)), s.Rect.Min.X); x < min(int(math.Ceil(right))+1, s.Rect.Max.X); x++ {
			m := geom.Pt(float64(x)+0.5, float64(y)+0.5)
			e := ((q.X-m.X)*(r.Y-m.Y) - (q.Y-m.Y)*(r.X-m.X)) / area
			f := ((r.X-m.X)*(p.Y-m.Y) - (r.Y-m.Y)*(p.X-m.X)) / area
			g := 1 - e - f
			if e < -1e-9 || f < -1e-9 || g < -1e-9 {
				continue
			}
			i := (y-s.Rect.Min.Y)*s.Rect.Dx() + x - s.Rect.Min.X
			if near := e*c.near[a] + f*c.near[b] + g*c.near[d]; near > s.near[i] {
				s.near[i], s.At[i] = near, u.Mul(e).Add(v.Mul(f)).Add(w.Mul(g))
			}
		}
	}
}

// lit is how bright a place of the linen is, by how it leans: the light comes from the left, and through the linen a little.
func (c *Cloth) lit(p geom.Point) float64 {
	x, y := math.Min(math.Max(p.X, 0), clothW-1e-9), math.Min(math.Max(p.Y/clothStep, 0), clothRows-1-1e-9)
	i, j := int(x), int(y)
	k := j*clothColumns + i
	fx, fy := x-float64(i), y-float64(j)
	upper, lower := c.lean[k]+(c.lean[k+1]-c.lean[k])*fx, c.lean[k+clothColumns]+(c.lean[k+clothColumns+1]-c.lean[k+clothColumns])*fx
	lean := upper + (lower-upper)*fy
	return 0.42 + 0.72*math.Max(math.Cos(lean-0.55), 0)
}

// ivy returns the strand of ivy at time t: points along it, on the picture. It is nearer to the camera than the linen.
func ivy(t float64) (out []geom.Point) {
	s := t / 24
	move := handHeld(t, 1.35)
	for k := range 15 {
		y := -60 + 45*float64(k)
		u := y / Height
		// It swings past from right to left.
		x := 505 - 190*u + 12*math.Sin(4.2*u+1) + (230*math.Cos(1.2*s+0.15)+4*sway(322, s*2))*(0.55+0.45*u)
		out = append(out, move.Apply(geom.Pt(x, y)))
	}
	return out
}

// ivyPaint is what the strand shows at a place of the picture.
func ivyPaint(strand []geom.Point, p geom.Point) (c colour, cover float64) {
	stem := colour{0.09, 0.06, 0.03}
	for k := range len(strand) - 1 {
		a, b := strand[k], strand[k+1]
		if p.Y < math.Min(a.Y, b.Y)-ivyLeaf || p.Y > math.Max(a.Y, b.Y)+ivyLeaf || p.X < math.Min(a.X, b.X)-ivyLeaf || p.X > math.Max(a.X, b.X)+ivyLeaf {
			continue
		}
		parts := []drawnPart{{limb(p.X, p.Y, a.X, a.Y, b.X, b.Y, 2.1, 2.1), func() colour { return stem }}}
		// A leaf hangs at every joint, left and right by turns.
		side := float64(1 - 2*(k%2))
		size := 13 + 5*unit(331, uint64(k))
		turn := 0.5 * (unit(332, uint64(k)) - 0.5)
		at := a.Add(geom.Pt(side*(size+2), 10))
		sin, cos := math.Sincos(side*0.5 + turn)
		x, y := (p.X-at.X)*cos+(p.Y-at.Y)*sin, (p.Y-at.Y)*cos-(p.X-at.X)*sin
		angle, reach := math.Atan2(y, x), math.Hypot(x, y)
		rim := size * (0.78 + 0.22*math.Cos(5*angle))
		parts = append(parts, drawnPart{reach - rim, func() colour {
			vein := math.Exp(-math.Pow(math.Sin(2.5*angle)*reach/1.6, 2))
			return colour{0.035, 0.085, 0.028}.times(0.8 + 0.5*vein + 0.25*clouds(uint64(340+k), x/5, y/5, 2) - 0.012*y)
		}})
		d, share := over(parts...)
		if share > 0 {
			all := cover + share - cover*share
			c, cover = c.mix(d, share/all), all
		}
	}
	return c, cover
}

const doorwayRoom = 120 // pixels that are painted of it beyond the picture

// paintDoorway returns what lies behind, larger than the picture, at a half of its size, as it is out of focus.
func paintDoorway() *raster.Image {
	m := raster.NewImage(image.Rect(0, 0, (Width+2*doorwayRoom)/2, (Height+2*doorwayRoom)/2))
	raster.Rows(0, m.Rect.Dy(), func(y int) {
		for x := range m.Rect.Dx() {
			c := doorway(geom.Pt(2*float64(x)+1-doorwayRoom, 2*float64(y)+1-doorwayRoom))
			m.Set(x, y, [4]float32{float32(c[0]), float32(c[1]), float32(c[2]), 1})
		}
	})
	return m
}

// ivyReach returns between which columns of a row of the picture the strand's leaves may be.
func ivyReach(strand []geom.Point, y float64) (left, right float64) {
	left, right = math.Inf(1), math.Inf(-1)
	for k := range len(strand) - 1 {
		a, b := strand[k], strand[k+1]
		if y >= math.Min(a.Y, b.Y)-ivyLeaf && y <= math.Max(a.Y, b.Y)+ivyLeaf {
			left, right = math.Min(left, math.Min(a.X, b.X)-ivyLeaf), math.Max(right, math.Max(a.X, b.X)+ivyLeaf)
		}
	}
	return left, right
}

// ivyLeaf is how far from its stem a leaf reaches at most, pixels.
const ivyLeaf = 50.0

// doorway is what lies behind: panes and their bars.
func doorway(p geom.Point) colour {
	pane := colour{0.10, 0.12, 0.13}.times(1 + 0.7*clouds(351, p.X/170, p.Y/150, 3))
	bar := math.Max(math.Exp(-math.Pow((math.Mod(p.X+2000, 236)-118)/13, 2)), math.Exp(-math.Pow((math.Mod(p.Y+2000, 310)-155)/12, 2)))
	return pane.mix(colour{0.035, 0.04, 0.035}, 0.85*bar)
}

// Frame generates frame n.
func (s *BannerShot) Frame(n int) Frame {
	linen, door, rect := s.linen(), s.behind(), Bounds()
	clean, plate, cover := raster.NewImage(rect), raster.NewImage(rect), raster.NewPlane(rect)
	aside := [bannerSubframes]geom.Point{{X: -0.125, Y: -0.375}, {X: 0.375, Y: -0.125}, {X: 0.125, Y: 0.375}, {X: -0.375, Y: 0.125}}
	for k := range bannerSubframes {
		t := float64(n-BannerFirst) + shutter*((float64(k)+0.5)/bannerSubframes-0.5)
		cloth := ClothAt(t)
		seen := cloth.See(rect, aside[k])
		behind, _ := handHeld(t, bannerBackground).Inverse()
		strand := ivy(t)
		raster.Rows(0, Height, func(y int) {
			a, b, m := clean.Row(y, 0, Width), plate.Row(y, 0, Width), cover.Row(y, 0, Width)
			left, right := ivyReach(strand, float64(y)+0.5+aside[k].Y)
			for x := range Width {
				p := geom.Pt(float64(x)+0.5, float64(y)+0.5).Add(aside[k])
				var bare, with colour
				var paint float64
				if at := seen.At[y*Width+x]; at.X >= 0 {
					v := ofLinen(linen, at)
					bare = colour{v[0], v[1], v[2]}.times(cloth.lit(at))
					paint = v[3]
					with = bare
					if paint > 0 { // it is printed: the weave shows through
						ink := colour{bare[0] * 2.1, bare[1] * 0.95, bare[2] * 0.3}
						with = bare.mix(ink, paint)
					}
				} else {
					q := behind.Apply(p)
					v := door.Bicubic((q.X+doorwayRoom)/2, (q.Y+doorwayRoom)/2)
					bare = colour{float64(v[0]), float64(v[1]), float64(v[2])}
					with = bare
				}
				if p.X < left || p.X > right {
					// no ivy
				} else if c, d := ivyPaint(strand, p); d > 0 {
					bare, with, paint = bare.mix(c, d), with.mix(c, d), paint*(1-d)
				}
				m[x] += float32(paint) / bannerSubframes
				for j := range 3 {
					a[4*x+j] += float32(bare[j]) / bannerSubframes
					b[4*x+j] += float32(with[j]) / bannerSubframes
				}
			}
		})
	}
	lightUp(light(n+300), clean, plate)
	return finish(soften(clean), soften(plate), raster.Gaussian(cover, lens), n+5000)
}

// ofLinen is the painted linen at a place: its colour, and the share of the emblem.
func ofLinen(m *raster.Image, p geom.Point) (c [4]float64) {
	x, y := math.Min(math.Max(p.X*linenScale-0.5, 0), clothW*linenScale-2), math.Min(math.Max(p.Y*linenScale-0.5, 0), clothH*linenScale-2)
	x0, y0 := int(x), int(y)
	fx, fy := x-float64(x0), y-float64(y0)
	i := 4 * (y0*clothW*linenScale + x0)
	a, b := m.Pix[i:i+8:i+8], m.Pix[i+4*clothW*linenScale:i+4*clothW*linenScale+8:i+4*clothW*linenScale+8]
	for k := range 4 {
		top, low := float64(a[k])+float64(a[k+4]-a[k])*fx, float64(b[k])+float64(b[k+4]-b[k])*fx
		c[k] = top + (low-top)*fy
	}
	return c
}

// linenScale is how many pixels of the painted linen there are in a unit.
const linenScale = 2

// paintLinen returns the linen in linear light, and how much of the emblem's ink each place has.
func paintLinen() *raster.Image {
	m := raster.NewImage(image.Rect(0, 0, clothW*linenScale, clothH*linenScale))
	raster.Rows(0, clothH*linenScale, func(y int) {
		for x := range clothW * linenScale {
			u, v := (float64(x)+0.5)/linenScale, (float64(y)+0.5)/linenScale
			c := linenAt(u, v)
			m.Set(x, y, [4]float32{float32(c[0]), float32(c[1]), float32(c[2]), float32(emblem(u-emblemAt.X, v-emblemAt.Y))})
		}
	})
	return m
}

// linenAt is faded linen: threads of uneven thickness both ways, slubs, water stains, a hem and a band along both edges.
func linenAt(u, v float64) colour {
	threads := 0.6*lattice(401, u/1.7, v/9) + 0.6*lattice(402, u/9, v/1.7)
	slubs := math.Max(lattice(403, u/22, v/2.4), 0.2) + math.Max(lattice(404, u/2.4, v/26), 0.2) - 0.4
	stains := clouds(405, u/75, v/65, 4)
	c := colour{0.235, 0.275, 0.245}.times(1 + 0.17*threads + 0.42*slubs + 0.5*stains + 0.16*clouds(407, u/7, v/7, 2))
	c = c.mix(colour{0.25, 0.19, 0.11}, 0.5*math.Max(clouds(406, u/46, v/52, 4)-0.08, 0)) // rust
	edge := math.Min(u, clothW-u)
	if band := step(20, 22, edge) * step(42, 40, edge); band > 0 {
		c = c.mix(colour{0.10, 0.055, 0.06}.times(1+0.2*threads), 0.85*band)
	}
	hem := math.Min(math.Min(edge, v), clothH-v)
	return c.times(1 - 0.25*math.Exp(-math.Pow((hem-8)/1.3, 2)))
}

// emblem is how much ink a place has, measured from its middle: a fern in a ring, worn in places.
func emblem(x, y float64) float64 {
	r := math.Hypot(x, y)
	if r > emblemRadius+2 {
		return 0
	}
	ring := math.Abs(r-emblemRadius+5) - 5
	off := ring
	// The fern's stalk leans; fronds grow shorter towards its tip.
	for k := range 9 {
		along := float64(k) / 9
		sx, sy := 8*math.Sin(1.6*along), 52-100*along
		reach := 36 * math.Pow(math.Sin(math.Pi*(0.12+0.8*(1-along))), 0.8) * (1 - 0.5*along)
		for _, side := range []float64{-1, 1} {
			off = math.Min(off, limb(x, y, sx, sy, sx+side*reach, sy-reach*0.55, 4.2*(1-0.5*along), 1.2))
		}
		nx, ny := 8*math.Sin(1.6*(along+1.0/9)), 52-100*(along+1.0/9)
		off = math.Min(off, limb(x, y, sx, sy, nx, ny, 2.4, 2))
	}
	worn := 0.86 + 0.3*math.Min(clouds(411, x/9, y/9, 3), 0)
	return math.Min(math.Max(0.5-off, 0), 1) * worn
}

// EmblemOutline returns the emblem's outline at time n, frame by frame as the linen bends.
func EmblemOutline(n int, room float64) (out []geom.Point) {
	cloth := ClothAt(float64(n - BannerFirst))
	for k := range 24 {
		sin, cos := math.Sincos(2 * math.Pi * float64(k) / 24)
		out = append(out, cloth.Place(emblemAt.Add(geom.Pt(cos, sin).Mul(emblemRadius+room))))
	}
	return out
}

// BannerCarried returns where the linen takes places of the reference frame on frame n.
func BannerCarried(n int) func(geom.Point) geom.Point {
	home, there := ClothAt(BannerReference-BannerFirst), ClothAt(float64(n-BannerFirst))
	return func(p geom.Point) geom.Point {
		// The place on the linen: it hardly leans there, so that going back by what is left over comes to rest.
		at := p.Sub(home.Place(geom.Pt(0, 0)))
		for range 40 {
			d := p.Sub(home.Place(at))
			at = at.Add(d)
			if d.Len() < 1e-4 {
				break
			}
		}
		return there.Place(at)
	}
}

// A BannerMotion is where places of the reference frame are on another, and which of them are seen there: by rows, over the emblem.
type BannerMotion struct {
	At   [][2]float64 `json:"at"`
	Seen []bool       `json:"seen"` // neither folded away, or turned away to less than 40 % of its width, nor behind the ivy
}

// BannerTruth is what truth.json says about the shot.
type BannerTruth struct {
	Edition   string               `json:"edition"`
	Reference int                  `json:"reference"`
	Box       [4]float64           `json:"box"`  // of the places, on the reference frame: left, top, right, bottom
	Step      float64              `json:"step"` // pixels between places
	Places    [][2]float64         `json:"places"`
	Ink       []bool               `json:"ink"` // which of them lie on the emblem, or within four pixels
	Motion    map[int]BannerMotion `json:"motion"`
	Ivy       map[int][][2]float64 `json:"ivy"` // along its stem
}

// turnedAway is the share of its width that a place is seen with, under which it counts as turned away.
const turnedAway = 0.4

// bannerStep is how far the places of the truth are apart on the reference frame.
const bannerStep = 6

// TellBanner returns the contents of lm_030's truth.json.
func TellBanner() BannerTruth {
	box := geom.Bounds(EmblemOutline(BannerReference, 30))
	rect := raster.Around(box, 0, Bounds())
	truth := BannerTruth{
		Edition: bannerEdition, Reference: BannerReference, Step: bannerStep, Motion: map[int]BannerMotion{}, Ivy: map[int][][2]float64{},
		Box: [4]float64{float64(rect.Min.X), float64(rect.Min.Y), float64(rect.Max.X), float64(rect.Max.Y)},
	}
	home := ClothAt(BannerReference-BannerFirst).See(rect, geom.Pt(0, 0))
	var on []geom.Point
	for y := rect.Min.Y; y < rect.Max.Y; y += bannerStep {
		for x := rect.Min.X; x < rect.Max.X; x += bannerStep {
			on = append(on, home.At[(y-rect.Min.Y)*rect.Dx()+x-rect.Min.X])
			truth.Places = append(truth.Places, [2]float64{float64(x) + 0.5, float64(y) + 0.5})
			truth.Ink = append(truth.Ink, on[len(on)-1].Dist(emblemAt) < emblemRadius+4)
		}
	}
	for n := BannerFirst; n <= BannerLast; n++ {
		t := float64(n - BannerFirst)
		cloth := ClothAt(t)
		var m BannerMotion
		seen, strand := cloth.See(Bounds(), geom.Pt(0, 0)), ivy(t)
		for _, p := range on {
			at := cloth.Place(p)
			m.At = append(m.At, [2]float64{math.Round(at.X*1000) / 1000, math.Round(at.Y*1000) / 1000})
			x, y := int(at.X), int(at.Y)
			clear := image.Pt(x, y).In(Bounds())
			if clear {
				_, hidden := ivyPaint(strand, at)
				wide := cloth.Place(p.Add(geom.Pt(2, 0))).Dist(cloth.Place(p.Sub(geom.Pt(2, 0)))) / 4
				clear = hidden < 0.02 && seen.At[y*Width+x].Dist(p) < 4 && wide > turnedAway
			}
			m.Seen = append(m.Seen, clear)
		}
		truth.Motion[n] = m
		for _, p := range strand {
			truth.Ivy[n] = append(truth.Ivy[n], [2]float64{p.X, p.Y})
		}
	}
	return truth
}
