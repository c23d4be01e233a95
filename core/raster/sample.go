package raster

import (
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/simd"
)

// split returns the index of the sample whose centre is at or before v, and how
// far beyond it v lies. What is farther than any picture reaches, as by a map that takes it through the horizon, and what is no number,
// lies at its end.
func split(v float64) (int, float32) {
	f := math.Floor(v - 0.5)
	if !(f < far && f > -far) {
		if f > 0 {
			return far, 0
		}
		return -far, 0
	}
	return int(f), float32(v - 0.5 - f)
}

const far = 1 << 40

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

// BilinearAt samples the plane at places in frame coordinates, bilinearly. Of those that have no four samples around them, a
// place is made simd.Nowhere, and its sample is 0.
func (p *Plane) BilinearAt(out []float32, at *simd.Places) {
	at.Shift(p.Rect.Min.X, p.Rect.Min.Y)
	w, h := p.Rect.Dx(), p.Rect.Dy()
	if w < 2 || h < 2 {
		clear(out)
		for i := range at.X {
			at.X[i] = simd.Nowhere
		}
		return
	}
	gone := 0
	for i, x := range at.X {
		if uint(x) >= uint(w-1) || uint(at.Y[i]) >= uint(h-1) {
			at.X[i], at.Y[i], at.FX[i] = 0, 0, -1
			gone++
		}
	}
	simd.LinearPlane(out, p.Pix, w, at)
	for i := 0; gone > 0; i++ {
		if at.FX[i] < 0 {
			at.X[i], out[i] = simd.Nowhere, 0
			gone--
		}
	}
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
		simd.Between(row, top, low, a, b, c, d)
	}
}

// Cubic samples the plane at a point in frame coordinates by cubic convolution.
// Beyond the border the border's samples go on.
func (p *Plane) Cubic(x, y float64) float32 {
	x0, fx := split(x)
	y0, fy := split(y)
	return p.cubic(x0-p.Rect.Min.X, y0-p.Rect.Min.Y, fx, fy)
}

// cubic is Cubic at a place in the plane's own pixels, the one at or before it and how far it lies beyond.
func (p *Plane) cubic(x0, y0 int, fx, fy float32) float32 {
	wx, wy := simd.Weights(fx), simd.Weights(fy)
	w, h := p.Rect.Dx(), p.Rect.Dy()
	x0, y0 = x0-1, y0-1
	if x0 >= 0 && y0 >= 0 && x0+3 < w && y0+3 < h {
		i := y0*w + x0
		a, b := p.Pix[i:][:4], p.Pix[i+w:][:4]
		c, d := p.Pix[i+2*w:][:4], p.Pix[i+3*w:][:4]
		return (wx[0]*(wy[0]*a[0]+wy[1]*b[0]+wy[2]*c[0]+wy[3]*d[0]) + wx[1]*(wy[0]*a[1]+wy[1]*b[1]+wy[2]*c[1]+wy[3]*d[1])) +
			(wx[2]*(wy[0]*a[2]+wy[1]*b[2]+wy[2]*c[2]+wy[3]*d[2]) + wx[3]*(wy[0]*a[3]+wy[1]*b[3]+wy[2]*c[3]+wy[3]*d[3]))
	}
	var columns [4]float32
	for j := range 4 {
		row := p.Pix[clamp(y0+j, h)*w:][:w]
		for i := range columns {
			columns[i] += wy[j] * row[clamp(x0+i, w)]
		}
	}
	return (wx[0]*columns[0] + wx[1]*columns[1]) + (wx[2]*columns[2] + wx[3]*columns[3])
}

// Bicubic samples the image at a point in frame coordinates by cubic
// convolution. Outside the image it is transparent. At the centre of a pixel it
// returns that pixel unchanged, to the last bit.
func (m *Image) Bicubic(x, y float64) [4]float32 {
	x0, fx := split(x)
	y0, fy := split(y)
	return m.bicubic(x0-m.Rect.Min.X, y0-m.Rect.Min.Y, fx, fy)
}

// bicubic samples at a place in the image's own pixels, the one at or before it and how far it lies beyond.
func (m *Image) bicubic(x0, y0 int, fx, fy float32) (out [4]float32) {
	w, h := m.Rect.Dx(), m.Rect.Dy()
	if x0 < -2 || x0 > w || y0 < -2 || y0 > h {
		return out
	}
	if fx == 0 && fy == 0 {
		return m.At(x0+m.Rect.Min.X, y0+m.Rect.Min.Y)
	}
	if x0 >= 1 && x0+2 < w && y0 >= 1 && y0+2 < h {
		return simd.CubicAt(m.Pix, w, x0, y0, fx, fy)
	}
	wx, wy := simd.Weights(fx), simd.Weights(fy)
	var columns [4][4]float32 // beyond the picture there is nothing
	for k := range columns {
		xx := x0 + k - 1
		if xx < 0 || xx >= w {
			continue
		}
		for j := range 4 {
			if yy := y0 + j - 1; yy >= 0 && yy < h {
				i := 4 * (yy*w + xx)
				for c, v := range m.Pix[i : i+4 : i+4] {
					columns[k][c] += wy[j] * v
				}
			}
		}
	}
	for c := range out {
		out[c] = (wx[0]*columns[0][c] + wx[2]*columns[2][c]) + (wx[1]*columns[1][c] + wx[3]*columns[3][c])
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
	wx, wy := simd.Weights(fx), simd.Weights(fy)
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
	return src.warp(r, func(x, y int, at *simd.Places) { at.Project((*[9]float64)(&toSource), x, y) })
}

// WarpBy is Warp for any smooth map, which is taken from a Lattice.
func WarpBy(src *Image, toSource func(geom.Point) geom.Point, r image.Rectangle) *Image {
	return src.warp(r, NewLattice(toSource, r).row)
}

// warp makes the part r of a picture from where place has its pixels come from, from (x, y) on.
func (m *Image) warp(r image.Rectangle, place func(x, y int, at *simd.Places)) *Image {
	out := NewImage(r)
	w := m.Rect.Dx()
	inner := simd.Reach{X: 1, Y: 1, W: w - 3, H: m.Rect.Dy() - 3}
	tiles(r, func(x0, x1, y int, at *simd.Places) {
		place(x0, y, at)
		at.Shift(m.Rect.Min.X, m.Rect.Min.Y)
		row := out.Row(y, x0, x1)
		visit(at, &inner, m.Rect.Size(), func(i, j, from int) {
			copy(row[4*i:4*j], m.Pix[4*from:])
			for k := 4*i + 3; k < 4*j; k += 4 {
				row[k] = min(max(row[k], 0), 1)
			}
		}, func(i, j int) {
			part := at.Cut(i, j)
			simd.Cubic(row[4*i:4*j], m.Pix, w, &part)
		}, func(i int) {
			v := m.bicubic(int(at.X[i]), int(at.Y[i]), at.FX[i], at.FY[i])
			v[3] = min(max(v[3], 0), 1)
			copy(row[4*i:], v[:])
		})
	})
	return out
}

// visit goes through places, in a picture's own samples: those that are its samples one after the other, from the one of a number on;
// those that lie within reach; and all others one by one.
func visit(at *simd.Places, inner *simd.Reach, size image.Point, samples func(i, j, from int), within func(i, j int), other func(i int)) {
	for i := 0; i < len(at.X); {
		if x, y := int(at.X[i]), int(at.Y[i]); at.FX[i] == 0 && at.FY[i] == 0 && x >= 0 && y >= 0 && x < size.X && y < size.Y {
			j := min(at.Samples(i), i+size.X-x)
			samples(i, j, y*size.X+x)
			i = j
			continue
		}
		if j := at.Run(i, inner); j > i {
			within(i, j)
			i = j
			continue
		}
		other(i)
		i++
	}
}

// tiles calls f for the rows of tiles of r, one tile after the other, so that what lies beside each other is looked up together; on
// all processors.
func tiles(r image.Rectangle, f func(x0, x1, y int, at *simd.Places)) {
	const across, down = 128, 32
	bands(r.Dy(), down, func(y0, y1 int) {
		simd.Fence()
		room := simd.NewPlaces(min(across, r.Dx()))
		for top := r.Min.Y + y0; top < r.Min.Y+y1; top += down {
			for x0 := r.Min.X; x0 < r.Max.X; x0 += across {
				x1 := min(x0+across, r.Max.X)
				at := room.Cut(0, x1-x0)
				for y := top; y < min(top+down, r.Min.Y+y1); y++ {
					f(x0, x1, y, &at)
				}
			}
		}
	})
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

// row puts where the middles of the pixels of a row go, from x on.
func (l *Lattice) row(x, y int, at *simd.Places) {
	x, y = x-l.from.X, y-l.from.Y
	nodes, v := l.nodes[y/latticeStep*l.columns:], float64(y%latticeStep)/latticeStep
	for i := 0; i < len(at.X); {
		first := (x + i) % latticeStep
		n := min(latticeStep-first, len(at.X)-i)
		a := nodes[(x+i)/latticeStep:]
		b := a[l.columns:]
		at.Cell(i, n, first, &[4][2]float64{{a[0].X, a[0].Y}, {a[1].X, a[1].Y}, {b[0].X, b[0].Y}, {b[1].X, b[1].Y}}, v)
		i += n
	}
}

// WarpPlane returns what the plane looks like at the pixels of r when toSource
// takes their coordinates to the plane's. Beyond its border the border goes on; where a place comes from nowhere, it is 0.
func WarpPlane(src *Plane, toSource geom.Homography, r image.Rectangle) *Plane {
	return src.warp(r, func(x, y int, at *simd.Places) { at.Project((*[9]float64)(&toSource), x, y) })
}

// WarpPlaneBy is WarpPlane along anything.
func WarpPlaneBy(src *Plane, toSource func(geom.Point) geom.Point, r image.Rectangle) *Plane {
	return src.warp(r, func(x, y int, at *simd.Places) {
		for i := range at.X {
			p := toSource(geom.Pt(float64(x+i)+0.5, float64(y)+0.5))
			at.Put(i, p.X, p.Y)
		}
	})
}

// warp makes the part r of a plane from where place has its pixels come from, from (x, y) on.
func (p *Plane) warp(r image.Rectangle, place func(x, y int, at *simd.Places)) *Plane {
	out := NewPlane(r)
	w := p.Rect.Dx()
	inner := simd.Reach{X: 1, Y: 1, W: w - 3, H: p.Rect.Dy() - 3}
	tiles(r, func(x0, x1, y int, at *simd.Places) {
		place(x0, y, at)
		at.Shift(p.Rect.Min.X, p.Rect.Min.Y)
		row := out.Row(y, x0, x1)
		visit(at, &inner, p.Rect.Size(), func(i, j, from int) { copy(row[i:j], p.Pix[from:]) }, func(i, j int) {
			part := at.Cut(i, j)
			simd.CubicPlane(row[i:j], p.Pix, w, &part)
		}, func(i int) {
			if at.X[i] > simd.Nowhere/2 {
				row[i] = p.cubic(int(at.X[i]), int(at.Y[i]), at.FX[i], at.FY[i])
			}
		})
	})
	return out
}

func clamp(i, n int) int { return min(max(i, 0), n-1) }
