package raster

import (
	"image"
	"math"

	"jardin/core/simd"
)

// A Spline is the colour of an opaque picture, ready to be looked up between its pixels: the cubic B-spline that goes
// through all of them (Unser, Aldroubi & Eden 1993). It keeps fine texture and grain that cubic convolution takes
// away, as its frequency response is flatter; what lies at a pixel shows a little up to four pixels away.
type Spline struct {
	rect         image.Rectangle
	coefficients []float32 // RGB
}

// splinePole is the pole of the filter that makes coefficients of pixels.
var splinePole = float32(math.Sqrt(3) - 2)

// splineHorizon is after how many pixels what the filter remembers is below a millionth.
const splineHorizon = 11

// NewSpline returns the spline through a part of a picture. Beyond the part it goes on mirrored: with a margin of
// eight pixels nothing is seen of that. Pixels that are no finite numbers count as black.
func NewSpline(m *Image, part image.Rectangle) *Spline {
	part = part.Intersect(m.Rect)
	w, h := part.Dx(), part.Dy()
	s := &Spline{part, make([]float32, 3*w*h)}
	for y := range h {
		from, to := m.Row(part.Min.Y+y, part.Min.X, part.Max.X), s.coefficients[3*w*y:3*w*(y+1)]
		for x := range w {
			for c, v := range from[4*x : 4*x+3] {
				if v-v == 0 {
					to[3*x+c] = 6 * v
				}
			}
		}
		filterLine(to, 3)
	}
	for i := range s.coefficients {
		s.coefficients[i] *= 6
	}
	filterLine(s.coefficients, 3*w)
	return s
}

// filterLine filters numbers that lie so far apart, forwards and back, for all that lie between two of them alike.
func filterLine(v []float32, stride int) {
	n := 0
	if stride > 0 {
		n = len(v) / stride
	}
	if n < 2 {
		for i := range v {
			v[i] /= 6 // one alone goes on for ever
		}
		return
	}
	z := splinePole
	first, k := make([]float32, stride), float32(1)
	for j := range splineHorizon {
		at := j % (2*n - 2) // mirrored about the outermost
		at = min(at, 2*n-2-at)
		for i, u := range v[at*stride : (at+1)*stride] {
			first[i] += k * u
		}
		k *= z
	}
	copy(v, first)
	for j := 1; j < n; j++ {
		before, at := v[(j-1)*stride:j*stride], v[j*stride:(j+1)*stride]
		for i, u := range before {
			at[i] += z * u
		}
	}
	last, before := v[(n-1)*stride:], v[(n-2)*stride:(n-1)*stride]
	for i := range last {
		last[i] = z / (z*z - 1) * (last[i] + z*before[i])
	}
	for j := n - 2; j >= 0; j-- {
		at, next := v[j*stride:(j+1)*stride], v[(j+1)*stride:(j+2)*stride]
		for i, u := range next {
			at[i] = z * (u - at[i])
		}
	}
}

// At returns the colour at a place; ok is false less than two pixels from the edge.
func (s *Spline) At(x, y float64) (rgb [3]float32, ok bool) {
	x0, fx := split(x)
	y0, fy := split(y)
	r := s.rect
	if x0-1 < r.Min.X || x0+2 >= r.Max.X || y0-1 < r.Min.Y || y0+2 >= r.Max.Y {
		return rgb, false
	}
	wx, wy := simd.SplineWeights(fx), simd.SplineWeights(fy)
	row := 3 * r.Dx()
	i := (y0-1-r.Min.Y)*row + 3*(x0-1-r.Min.X)
	var red, green, blue float32
	for j := range 4 {
		t := s.coefficients[i : i+12 : i+12]
		k := wy[j]
		red += k * (t[0]*wx[0] + t[3]*wx[1] + t[6]*wx[2] + t[9]*wx[3])
		green += k * (t[1]*wx[0] + t[4]*wx[1] + t[7]*wx[2] + t[10]*wx[3])
		blue += k * (t[2]*wx[0] + t[5]*wx[1] + t[8]*wx[2] + t[11]*wx[3])
		i += row
	}
	return [3]float32{red, green, blue}, true
}

// A PlaneSpline is a plane, ready to be looked up between its pixels as a Spline is.
type PlaneSpline struct {
	Rect         image.Rectangle
	coefficients []float32
}

// NewPlaneSpline returns the spline through a plane. What is no finite number counts as 0.
func NewPlaneSpline(p *Plane) *PlaneSpline {
	w, h := p.Rect.Dx(), p.Rect.Dy()
	s := &PlaneSpline{p.Rect, make([]float32, len(p.Pix))}
	Rows(0, h, func(y int) {
		to := s.coefficients[y*w : (y+1)*w]
		for x, v := range p.Pix[y*w : (y+1)*w] {
			if v-v == 0 {
				to[x] = 36 * v
			}
		}
		filterLine(to, 1)
	})
	filterLine(s.coefficients, w)
	return s
}

// At returns the value at a place in frame coordinates; beyond the border the plane goes on mirrored, for as far as it reaches.
func (s *PlaneSpline) At(x, y float64) float32 {
	x0, fx := split(x)
	y0, fy := split(y)
	return s.at(x0-s.Rect.Min.X, y0-s.Rect.Min.Y, fx, fy)
}

// at is At at a place in the plane's own pixels, the one at or before it and how far it lies beyond.
func (s *PlaneSpline) at(x, y int, fx, fy float32) float32 {
	wx, wy := simd.SplineWeights(fx), simd.SplineWeights(fy)
	w, h := s.Rect.Dx(), s.Rect.Dy()
	var columns [4]float32
	for j, k := range wy {
		row := s.coefficients[mirrored(y-1+j, h)*w:][:w]
		for i := range columns {
			columns[i] += k * row[mirrored(x-1+i, w)]
		}
	}
	return (wx[0]*columns[0] + wx[1]*columns[1]) + (wx[2]*columns[2] + wx[3]*columns[3])
}

// All is At for a row of places, in frame coordinates; it leaves them in the plane's own pixels.
func (s *PlaneSpline) All(out []float32, at *simd.Places) {
	at.Shift(s.Rect.Min.X, s.Rect.Min.Y)
	w, h := s.Rect.Dx(), s.Rect.Dy()
	inner := simd.Reach{X: 1, Y: 1, W: w - 3, H: h - 3}
	for i := 0; i < len(out); {
		if j := at.Run(i, &inner); j > i {
			part := at.Cut(i, j)
			simd.SplinePlane(out[i:j], s.coefficients, w, &part)
			i = j
			continue
		}
		out[i] = s.at(int(at.X[i]), int(at.Y[i]), at.FX[i], at.FY[i])
		i++
	}
}

// mirrored is an index of n about the outermost.
func mirrored(i, n int) int { return clamp(min(max(i, -i), 2*n-2-i), n) }
