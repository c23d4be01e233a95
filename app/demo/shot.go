// Package demo makes the footage of "Winter at Larkmoss", a made-up short film
// in a botanical glasshouse, together with its truth. All of it is generated:
// the same numbers come out on every machine, in whatever order frames are
// asked for.
package demo

import (
	"image"
	"math"
	"sync"

	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
)

// What lm_010 is.
const (
	Show      = "Winter at Larkmoss"
	Name      = "lm_010"
	First     = 1001
	Last      = 1072
	Rate      = 24
	Width     = 960
	Height    = 540
	Depth     = 8
	Reference = 1037 // a good reference frame: near the middle, light even, little blur
)

// A Frame is one frame of the shot with its truth, in linear light over the
// whole frame. Alpha is 1.
type Frame struct {
	Plate *raster.Image // what the camera saw
	Truth *raster.Image // the same without the thing; the same grain but under it
	Clean *raster.Image // the truth without any grain
	Matte *raster.Plane // the share of the thing
}

// Shot generates lm_010.
type Shot struct {
	wall func() *raster.Image
}

// New returns the shot. The wall is painted when the first frame is asked for.
func New() *Shot { return &Shot{wall: sync.OnceValue(paintWall)} }

// Bounds returns the bounds of every frame.
func Bounds() image.Rectangle { return image.Rect(0, 0, Width, Height) }

// handheld returns where a point of the wall is seen at time t, in frames from
// the first: a hand-held camera that drifts to the right, sways, shakes, rolls
// a little and is never quite square to the wall.
func handheld(t float64) geom.Homography {
	s := t / 24
	x := 46*s/3 + 15*sway(1, s*0.6) + 3.2*sway(2, s*3.1) + 0.8*sway(3, s*9)
	y := 11*sway(4, s*0.5) + 2.8*sway(5, s*2.7) + 0.8*sway(6, s*10)
	roll := 0.011*sway(7, s*0.5) + 0.0022*sway(8, s*2.5)
	zoom := 1 + 0.018*sway(9, s*0.4)
	yaw, pitch := 0.032*sway(10, s*0.45), 0.02*sway(11, s*0.5)
	const focal = 1150.0
	toCentre := geom.Translation(geom.Pt(-wallW/2+18-x, -wallH/2+8-y))
	// A plane turned by yaw and pitch, seen through a lens of that focal length.
	turn := geom.Homography{1, 0, 0, 0, 1, 0, math.Sin(yaw) / focal, math.Sin(pitch) / focal, 1}
	spin := geom.Homography{
		zoom * math.Cos(roll), -zoom * math.Sin(roll), 0,
		zoom * math.Sin(roll), zoom * math.Cos(roll), 0, 0, 0, 1,
	}
	return geom.Translation(geom.Pt(Width/2, Height/2)).Mul(turn).Mul(spin).Mul(toCentre)
}

// Transform returns the true motion from one frame to another, at the middle of
// their exposures.
func Transform(from, to int) geom.Homography {
	back, _ := handheld(float64(from - First)).Inverse()
	return handheld(float64(to - First)).Mul(back).Normalised()
}

// Dots returns the centre and radius in pixels of every dot on a frame.
func Dots(n int) (at []geom.Point, radius []float64) {
	h := handheld(float64(n - First))
	for _, d := range dots {
		at = append(at, h.Apply(d.at))
		radius = append(radius, d.radius*h.Scale(d.at))
	}
	return at, radius
}

// light is the slow change of daylight: how bright, and how warm.
func light(n int) colour {
	s := float64(n-First) / 24
	level := 1 + 0.055*sway(20, s*0.5)
	warm := 0.012 * sway(21, s*0.4)
	return colour{level * (1 + warm), level, level * (1 - warm)}
}

// lightUp lays daylight on pictures, and makes them opaque.
func lightUp(tint colour, pictures ...*raster.Image) {
	for _, m := range pictures {
		for i := range m.Pix {
			if i%4 == 3 {
				m.Pix[i] = 1
			} else {
				m.Pix[i] *= float32(tint[i%4])
			}
		}
	}
}

const (
	subframes = 6
	shutter   = 0.5 // 180 degrees
	lens      = 0.62
)

// Frame generates frame n.
func (s *Shot) Frame(n int) Frame {
	wall, tint := s.wall(), light(n)
	rect := Bounds()
	clean, dotted, matte := raster.NewImage(rect), raster.NewImage(rect), raster.NewPlane(rect)
	var back [subframes]geom.Homography
	for k := range back {
		t := float64(n-First) + shutter*((float64(k)+0.5)/subframes-0.5)
		back[k], _ = handheld(t).Inverse()
	}
	var paint [3]float32
	for k := range paint {
		paint[k] = float32(orange[k])
	}
	raster.Rows(0, Height, func(y int) {
		a, b, m := clean.Row(y, 0, Width), dotted.Row(y, 0, Width), matte.Row(y, 0, Width)
		for x := range Width {
			var bare, with [3]float32
			var cover float32
			for k := range back {
				p := back[k].Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))
				v := bilinear(wall, p.X, p.Y)
				cover += v[3]
				if v[3] == 0 {
					for c := range 3 {
						bare[c] += v[c]
						with[c] += v[c]
					}
					continue
				}
				// Paint takes the same light as the wall around it.
				lit := float32(daylight(p.X, p.Y))
				for c := range 3 {
					bare[c] += v[c]
					with[c] += v[c] + (paint[c]*lit-v[c])*v[3]
				}
			}
			m[x] = cover / subframes
			fall := vignette(x, y)
			for c := range 3 {
				k := float32(tint[c]*fall) / subframes
				a[4*x+c], b[4*x+c] = bare[c]*k, with[c]*k
			}
			a[4*x+3], b[4*x+3] = 1, 1
		}
	})
	return finish(soften(clean), soften(dotted), raster.Gaussian(matte, lens), n)
}

// finish adds the grain of a frame: the plate's over the picture with the thing, and
// over its truth the same but under the thing, where another take would differ.
// seed tells the grain of one frame from another's.
func finish(clean, plate *raster.Image, matte *raster.Plane, seed int) Frame {
	truth := raster.NewImage(clean.Rect)
	copy(truth.Pix, clean.Pix)
	first := grain(seed)
	raster.Rows(0, Height, func(y int) {
		p, q, m := plate.Row(y, 0, Width), truth.Row(y, 0, Width), matte.Row(y, 0, Width)
		for x := range Width {
			// Blurs leave traces of a thing far outside it; they are not the thing.
			if m[x] < 0.002 {
				m[x] = 0
				copy(p[4*x:4*x+3], q[4*x:4*x+3])
			}
			i := y*Width + x
			for c := range 3 {
				g := first[c].Pix[i]
				p[4*x+c] = expose(p[4*x+c], g, c)
				if m[x] > 0 {
					g = first[c].Pix[second(x, y)]
				}
				q[4*x+c] = expose(q[4*x+c], g, c)
			}
		}
	})
	return Frame{Plate: plate, Truth: truth, Clean: clean, Matte: matte}
}

// Wall samples are taken without package raster's border rules: the wall is
// larger than anything the camera sees.
func bilinear(m *raster.Image, x, y float64) (v [4]float32) {
	x, y = x-0.5, y-0.5
	x0, y0 := int(x), int(y)
	if x < 0 || y < 0 || x0+1 >= wallW || y0+1 >= wallH {
		return [4]float32{0.02, 0.02, 0.02, 0}
	}
	fx, fy := float32(x-float64(x0)), float32(y-float64(y0))
	i := 4 * (y0*wallW + x0)
	a, b := m.Pix[i:i+8:i+8], m.Pix[i+4*wallW:i+4*wallW+8:i+4*wallW+8]
	for c := range 4 {
		top, low := a[c]+(a[c+4]-a[c])*fx, b[c]+(b[c+4]-b[c])*fx
		v[c] = top + (low-top)*fy
	}
	return v
}

func vignette(x, y int) float64 {
	d := geom.Pt(float64(x)-Width/2, float64(y)-Height/2).Len() / (Width / 2)
	return 1 - 0.2*d*d
}

func soften(m *raster.Image) *raster.Image {
	out := raster.NewImage(m.Rect)
	for c := range 3 {
		p := raster.NewPlane(m.Rect)
		for i := range p.Pix {
			p.Pix[i] = m.Pix[4*i+c]
		}
		p = raster.Gaussian(p, lens)
		for i, v := range p.Pix {
			out.Pix[4*i+c] = v
		}
	}
	for i := 3; i < len(out.Pix); i += 4 {
		out.Pix[i] = 1
	}
	return out
}

// strength is the grain's standard deviation in the square root of light, by
// channel: equally strong in dark and bright there, as film scanned and
// encoded is, and strongest in blue (common practice).
var strength = [3]float32{0.0135, 0.0115, 0.021}

// expose adds grain to light. Light never becomes negative.
func expose(light, g float32, channel int) float32 {
	root := float32(math.Sqrt(float64(light))) + g*strength[channel]
	return max(root, 0) * max(root, 0)
}

// grainSize is the width at half height of a grain in pixels: 1.2 = 2.355 sigma.
const grainSize = 1.2

// second is where the other realisation of the grain under pixel (x, y) is taken
// from: a place of the same frame hundreds of grains away.
func second(x, y int) int { return (y+Height/2)%Height*Width + (x+Width/2)%Width }

// grain returns the grain of frame n for each channel: normal
// deviates of variance 1, blurred to the grain's size and scaled back to it.
func grain(n int) [3]*raster.Plane {
	var out [3]*raster.Plane
	var parts []func()
	const sigma = grainSize / 2.3548
	for c := range out {
		parts = append(parts, func() {
			p := raster.NewPlane(Bounds())
			seed := hash(uint64(n), uint64(c), 77)
			for i := range p.Pix {
				seed += 0x9e3779b97f4a7c15
				z := seed
				z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
				z = (z ^ z>>27) * 0x94d049bb133111eb
				z ^= z >> 31
				// The sum of four 16-bit numbers is near enough to normal for grain
				// (variance 4/12, no tails beyond 3.5 sigma).
				s := float32(z&0xffff) + float32(z>>16&0xffff) + float32(z>>32&0xffff) + float32(z>>48)
				p.Pix[i] = (s/65536 - 2) * 1.7320508
			}
			p = raster.Gaussian(p, sigma)
			var power float64
			for _, v := range p.Pix {
				power += float64(v) * float64(v)
			}
			k := float32(1 / math.Sqrt(power/float64(len(p.Pix))))
			for i := range p.Pix {
				p.Pix[i] *= k
			}
			out[c] = p
		})
	}
	raster.Parallel(parts...)
	return out
}

var coder = sync.OnceValue(func() *colorspace.Coder { return colorspace.NewCoder(colorspace.SRGB, Depth) })

// Codes returns the code values of a picture as the plate stores them: 8-bit
// sRGB, three a pixel.
func Codes(m *raster.Image) []uint16 {
	coder := coder()
	out := make([]uint16, 3*len(m.Pix)/4)
	for i := range len(m.Pix) / 4 {
		for c := range 3 {
			out[3*i+c] = coder.Encode(m.Pix[4*i+c])
		}
	}
	return out
}
