package raster

import (
	"image"
	"math"

	"jardin/core/geom"
)

// cubic returns the four weights of cubic convolution with a = -1/2 for a
// position t in [0, 1) between the second and the third tap (Keys 1981, "Cubic
// convolution interpolation for digital image processing", equation 8). It
// reproduces quadratics and passes through the samples.
func cubic(t float32) [4]float32 {
	t2, t3 := t*t, t*t*t
	return [4]float32{
		-0.5*t + t2 - 0.5*t3,
		1 - 2.5*t2 + 1.5*t3,
		0.5*t + 2*t2 - 1.5*t3,
		-0.5*t2 + 0.5*t3,
	}
}

// split returns the index of the sample whose centre is at or before v, and how
// far beyond it v lies.
func split(v float64) (int, float32) {
	f := math.Floor(v - 0.5)
	return int(f), float32(v - 0.5 - f)
}

// Bilinear samples the plane at a point in frame coordinates. Beyond the border
// the border's samples go on.
func (p *Plane) Bilinear(x, y float64) float32 {
	x0, fx := split(x)
	y0, fy := split(y)
	w, h := p.Rect.Dx(), p.Rect.Dy()
	x0, y0 = x0-p.Rect.Min.X, y0-p.Rect.Min.Y
	if x0 >= 0 && y0 >= 0 && x0+1 < w && y0+1 < h {
		i := y0*w + x0
		a, b := p.Pix[i:i+2:i+2], p.Pix[i+w:i+w+2:i+w+2]
		top, low := a[0]+(a[1]-a[0])*fx, b[0]+(b[1]-b[0])*fx
		return top + (low-top)*fy
	}
	x1, y1 := clamp(x0+1, w), clamp(y0+1, h)
	x0, y0 = clamp(x0, w), clamp(y0, h)
	top := p.Pix[y0*w+x0] + (p.Pix[y0*w+x1]-p.Pix[y0*w+x0])*fx
	low := p.Pix[y1*w+x0] + (p.Pix[y1*w+x1]-p.Pix[y1*w+x0])*fx
	return top + (low-top)*fy
}

// Grid samples w by h points one pixel apart, the first at (x, y), bilinearly.
// Beyond the border the border's samples go on.
func (p *Plane) Grid(x, y float64, w, h int, out []float32) {
	x0, fx := split(x)
	y0, fy := split(y)
	x0, y0 = x0-p.Rect.Min.X, y0-p.Rect.Min.Y
	stride := p.Rect.Dx()
	if x0 < 0 || y0 < 0 || x0+w >= stride || y0+h >= p.Rect.Dy() {
		for j := range h {
			for i := range w {
				out[j*w+i] = p.Bilinear(x+float64(i), y+float64(j))
			}
		}
		return
	}
	// All points lie equally far between their samples.
	a, b, c, d := (1-fx)*(1-fy), fx*(1-fy), (1-fx)*fy, fx*fy
	for j := range h {
		k := (y0+j)*stride + x0
		top, low := p.Pix[k:k+w+1], p.Pix[k+stride:k+stride+w+1]
		row := out[j*w : (j+1)*w]
		for i := range row {
			row[i] = a*top[i] + b*top[i+1] + c*low[i] + d*low[i+1]
		}
	}
}

// Cubic samples the plane at a point in frame coordinates by cubic convolution.
// Beyond the border the border's samples go on.
func (p *Plane) Cubic(x, y float64) float32 {
	x0, fx := split(x)
	y0, fy := split(y)
	wx, wy := cubic(fx), cubic(fy)
	w, h := p.Rect.Dx(), p.Rect.Dy()
	x0, y0 = x0-1-p.Rect.Min.X, y0-1-p.Rect.Min.Y
	var out float32
	if x0 >= 0 && y0 >= 0 && x0+3 < w && y0+3 < h {
		u0, u1, u2, u3 := wx[0], wx[1], wx[2], wx[3]
		i := y0*w + x0
		a, b := p.Pix[i:][:4], p.Pix[i+w:][:4]
		c, d := p.Pix[i+2*w:][:4], p.Pix[i+3*w:][:4]
		out += wy[0] * (u0*a[0] + u1*a[1] + u2*a[2] + u3*a[3])
		out += wy[1] * (u0*b[0] + u1*b[1] + u2*b[2] + u3*b[3])
		out += wy[2] * (u0*c[0] + u1*c[1] + u2*c[2] + u3*c[3])
		return out + wy[3]*(u0*d[0]+u1*d[1]+u2*d[2]+u3*d[3])
	}
	for j := range 4 {
		row := p.Pix[clamp(y0+j, h)*w:][:w]
		for i := range 4 {
			out += wy[j] * wx[i] * row[clamp(x0+i, w)]
		}
	}
	return out
}

// Bicubic samples the image at a point in frame coordinates by cubic
// convolution. Outside the image it is transparent. At the centre of a pixel it
// returns that pixel unchanged, to the last bit.
func (m *Image) Bicubic(x, y float64) [4]float32 {
	x0, fx := split(x)
	y0, fy := split(y)
	r := m.Rect
	if fx == 0 && fy == 0 {
		if (image.Point{X: x0, Y: y0}).In(r) {
			return m.At(x0, y0)
		}
		return [4]float32{}
	}
	wx, wy := cubic(fx), cubic(fy)
	w := r.Dx()
	var out [4]float32
	inside := x0-1 >= r.Min.X && x0+2 < r.Max.X
	for j := range 4 {
		yy := y0 + j - 1
		if yy < r.Min.Y || yy >= r.Max.Y {
			continue
		}
		var s [4]float32
		if inside {
			i := 4 * ((yy-r.Min.Y)*w + x0 - 1 - r.Min.X)
			t := m.Pix[i : i+16 : i+16]
			for c := range 4 {
				s[c] = t[c]*wx[0] + t[c+4]*wx[1] + t[c+8]*wx[2] + t[c+12]*wx[3]
			}
		} else {
			for k := range 4 {
				if xx := x0 + k - 1; xx >= r.Min.X && xx < r.Max.X {
					i := 4 * ((yy-r.Min.Y)*w + xx - r.Min.X)
					for c := range 4 {
						s[c] += m.Pix[i+c] * wx[k]
					}
				}
			}
		}
		for c := range 4 {
			out[c] += s[c] * wy[j]
		}
	}
	return out
}

// BicubicRGB is Bicubic for the colour of an opaque picture, where all of what it weighs lies inside;
// else ok is false.
func (m *Image) BicubicRGB(x, y float64) (rgb [3]float32, ok bool) {
	x0, fx := split(x)
	y0, fy := split(y)
	r := m.Rect
	if x0-1 < r.Min.X || x0+2 >= r.Max.X || y0-1 < r.Min.Y || y0+2 >= r.Max.Y {
		return rgb, false
	}
	wx, wy := cubic(fx), cubic(fy)
	w := r.Dx()
	i := 4 * ((y0-1-r.Min.Y)*w + x0 - 1 - r.Min.X)
	var red, green, blue float32
	for j := range 4 {
		t := m.Pix[i : i+15 : i+15]
		k := wy[j]
		red += k * (t[0]*wx[0] + t[4]*wx[1] + t[8]*wx[2] + t[12]*wx[3])
		green += k * (t[1]*wx[0] + t[5]*wx[1] + t[9]*wx[2] + t[13]*wx[3])
		blue += k * (t[2]*wx[0] + t[6]*wx[1] + t[10]*wx[2] + t[14]*wx[3])
		i += 4 * w
	}
	return [3]float32{red, green, blue}, true
}

// Warp returns what the image looks like at the pixels of r when toSource takes
// their coordinates to the image's. Alpha is kept within 0 to 1; cubic
// convolution may otherwise overshoot at an edge.
func Warp(src *Image, toSource geom.Homography, r image.Rectangle) *Image {
	out := NewImage(r)
	Rows(r.Min.Y, r.Max.Y, func(y int) {
		row := out.Row(y, r.Min.X, r.Max.X)
		for x := r.Min.X; x < r.Max.X; x++ {
			p := toSource.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))
			if !(math.Abs(p.X) < 1e6 && math.Abs(p.Y) < 1e6) {
				continue
			}
			v := src.Bicubic(p.X, p.Y)
			v[3] = min(max(v[3], 0), 1)
			copy(row[4*(x-r.Min.X):], v[:])
		}
	})
	return out
}

// WarpBy is Warp for any smooth map, which is taken from a Lattice.
func WarpBy(src *Image, toSource func(geom.Point) geom.Point, r image.Rectangle) *Image {
	lattice := NewLattice(toSource, r)
	out := NewImage(r)
	Rows(r.Min.Y, r.Max.Y, func(y int) {
		row := out.Row(y, r.Min.X, r.Max.X)
		for x := range r.Dx() {
			p := lattice.At(r.Min.X+x, y)
			if !(math.Abs(p.X) < 1e6 && math.Abs(p.Y) < 1e6) {
				continue
			}
			c := src.Bicubic(p.X, p.Y)
			c[3] = min(max(c[3], 0), 1)
			copy(row[4*x:], c[:])
		}
	})
	return out
}

// A Lattice is a smooth map worked out at every eighth pixel of a frame, wherever the part that
// it is wanted on begins; it goes evenly from one to the next.
type Lattice struct {
	from    image.Point
	columns int
	nodes   []geom.Point
}

const latticeStep = 8

// NewLattice works a map out for the middles of the pixels of r.
func NewLattice(of func(geom.Point) geom.Point, r image.Rectangle) *Lattice {
	from := image.Pt(r.Min.X&^(latticeStep-1), r.Min.Y&^(latticeStep-1))
	columns, rows := (r.Max.X-from.X)/latticeStep+2, (r.Max.Y-from.Y)/latticeStep+2
	l := &Lattice{from, columns, make([]geom.Point, columns*rows)}
	Rows(0, rows, func(j int) {
		for i := range columns {
			l.nodes[j*columns+i] = of(geom.Pt(float64(from.X+i*latticeStep)+0.5, float64(from.Y+j*latticeStep)+0.5))
		}
	})
	return l
}

// At returns where the middle of a pixel goes.
func (l *Lattice) At(x, y int) geom.Point {
	x, y = x-l.from.X, y-l.from.Y
	n := l.nodes[y/latticeStep*l.columns+x/latticeStep:]
	u, v := float64(x%latticeStep)/latticeStep, float64(y%latticeStep)/latticeStep
	return n[0].Lerp(n[1], u).Lerp(n[l.columns].Lerp(n[l.columns+1], u), v)
}

// WarpPlane returns what the plane looks like at the pixels of r when toSource
// takes their coordinates to the plane's. Beyond its border the border goes on.
func WarpPlane(src *Plane, toSource geom.Homography, r image.Rectangle) *Plane {
	return WarpPlaneBy(src, toSource.Apply, r)
}

// WarpPlaneBy is WarpPlane along anything; where a place comes from nowhere, it is 0.
func WarpPlaneBy(src *Plane, toSource func(geom.Point) geom.Point, r image.Rectangle) *Plane {
	out := NewPlane(r)
	Rows(r.Min.Y, r.Max.Y, func(y int) {
		row := out.Row(y, r.Min.X, r.Max.X)
		for x := range row {
			p := toSource(geom.Pt(float64(r.Min.X+x)+0.5, float64(y)+0.5))
			if math.Abs(p.X) < 1e6 && math.Abs(p.Y) < 1e6 {
				row[x] = src.Cubic(p.X, p.Y)
			}
		}
	})
	return out
}

func clamp(i, n int) int { return min(max(i, 0), n-1) }
