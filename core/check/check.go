// Package check measures what gives a patch away, against a truth: the same
// frames without the thing.
package check

import (
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A Take is one frame of a removal beside its truth. Pictures hold code values in
// their first three samples and 1 in the fourth; each covers the matte and 12
// pixels around it, as far as the frame goes.
type Take struct {
	Frame  int
	Result *raster.Image               // what was delivered
	Truth  *raster.Image               // the frame without the thing, with a grain of its own
	Clean  *raster.Image               // the truth without grain
	Matte  *raster.Plane               // where the thing was
	Motion func(geom.Point) geom.Point // true motion from the reference frame to this one
}

// A Figure is a measure over all frames and on the worst of them.
type Figure struct {
	All   float64
	Worst float64
	Frame int // the worst frame
}

// A Report holds every measure. 1 is ideal for each; see the methods' comments.
type Report struct {
	// Invisibility: RMS(result - truth) over sqrt(2) times the grain's RMS. 1 is a
	// second take of the same shot.
	Invisibility Figure
	// Steadiness: the same after the errors were laid on the reference frame and
	// their mean over time taken away, the grain treated the same way.
	Steadiness Figure
	// Grain: standard deviation of the high-passed result over the truth's, by
	// channel.
	Grain [3]Figure
	// Seam: RMS gradient where the matte's edge lies, result over truth.
	Seam Figure
	// Flicker: RMS change from frame to frame of the low-passed error on the
	// reference frame, over the same for a second take.
	Flicker Figure
}

// Measure works out the report of one thing. reference is its matte on the
// reference frame; takes are in order of frames.
func Measure(takes []Take, reference *raster.Plane) Report {
	var at []geom.Point
	for y := reference.Rect.Min.Y; y < reference.Rect.Max.Y; y++ {
		for x := reference.Rect.Min.X; x < reference.Rect.Max.X; x++ {
			if reference.At(x, y) > 0 {
				at = append(at, geom.Pt(float64(x)+0.5, float64(y)+0.5))
			}
		}
	}
	var rep Report
	errs, grains := make([][]float64, len(takes)), make([][]float64, len(takes))
	lowErrs, lowGrains := make([][]float64, len(takes)), make([][]float64, len(takes))
	raster.Rows(0, len(takes), func(i int) {
		t := &takes[i]
		e, g := minus(t.Result, t.Truth), minus(t.Truth, t.Clean)
		errs[i], grains[i] = lay(e, t.Motion, at), lay(g, t.Motion, at)
		lowErrs[i], lowGrains[i] = lay(low(e, 3), t.Motion, at), lay(low(g, 3), t.Motion, at)
	})

	var invisible, steady, flicker, seam ratio
	var grain [3]ratio
	for i := range takes {
		t := &takes[i]
		var e, g float64
		n := 0
		each(t.Matte, func(x, y int) {
			pixel, tr, cl := t.Result.At(x, y), t.Truth.At(x, y), t.Clean.At(x, y)
			for c := range 3 {
				e, g = e+sq(pixel[c]-tr[c]), g+sq(tr[c]-cl[c])
				n++
			}
		})
		invisible.add(t.Frame, e, 2*g, n)
		hr, ht := minus(t.Result, low(t.Result, 1.5)), minus(t.Truth, low(t.Truth, 1.5))
		for c := range 3 {
			var a, b float64
			n := 0
			each(t.Matte, func(x, y int) {
				a, b, n = a+sq(hr.At(x, y)[c]), b+sq(ht.At(x, y)[c]), n+1
			})
			grain[c].add(t.Frame, a, b, n)
		}
		a, b, k := edge(t)
		seam.add(t.Frame, a, b, k)
	}
	restE, restG := withoutMean(errs), withoutMean(grains)
	for i, t := range takes {
		steady.add(t.Frame, power(restE[i]), 2*power(restG[i]), len(restE[i]))
		if i > 0 {
			flicker.add(t.Frame,
				power(difference(lowErrs[i], lowErrs[i-1])),
				2*power(difference(lowGrains[i], lowGrains[i-1])), len(lowErrs[i]))
		}
	}
	rep.Invisibility, rep.Steadiness = invisible.figure(false), steady.figure(false)
	rep.Flicker, rep.Seam = flicker.figure(false), seam.figure(true)
	for c := range grain {
		rep.Grain[c] = grain[c].figure(true)
	}
	return rep
}

// A ratio pools sums of squares over frames.
type ratio struct {
	frames   []int
	of, over []float64
	n        []int
}

func (quotient *ratio) add(frame int, of, over float64, n int) {
	if n > 0 {
		quotient.frames, quotient.of, quotient.over, quotient.n = append(quotient.frames, frame), append(quotient.of,
			of), append(quotient.over, over), append(quotient.n, n)
	}
}

// figure returns the root of the pooled ratio. The worst frame is measured
// against the pooled denominator, so that a quiet frame does not look bad; if
// both directions count, the worst is the one farthest from 1.
func (quotient *ratio) figure(bothWays bool) Figure {
	var of, over float64
	n := 0
	for i := range quotient.of {
		of, over, n = of+quotient.of[i], over+quotient.over[i], n+quotient.n[i]
	}
	f := Figure{All: math.Sqrt(of / over), Worst: 1}
	far := -1.0
	for i := range quotient.of {
		v := math.Sqrt(quotient.of[i] / float64(quotient.n[i]) / (over / float64(n)))
		d := v
		if bothWays {
			v = math.Sqrt(quotient.of[i] / quotient.over[i])
			d = math.Abs(v - 1)
		}
		if d > far {
			far, f.Worst, f.Frame = d, v, quotient.frames[i]
		}
	}
	return f
}

func sq(v float32) float64 { return float64(v) * float64(v) }

func power(v []float64) (s float64) {
	for _, x := range v {
		s += x * x
	}
	return s
}

func difference(a, b []float64) []float64 {
	out := make([]float64, len(a))
	for i := range a {
		out[i] = a[i] - b[i]
	}
	return out
}

func each(m *raster.Plane, f func(x, y int)) {
	for y := m.Rect.Min.Y; y < m.Rect.Max.Y; y++ {
		for x := m.Rect.Min.X; x < m.Rect.Max.X; x++ {
			if m.At(x, y) > 0 {
				f(x, y)
			}
		}
	}
}

func minus(a, b *raster.Image) *raster.Image {
	r := a.Rect.Intersect(b.Rect)
	out := a.Crop(r)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		dst, src := out.Row(y, r.Min.X, r.Max.X), b.Row(y, r.Min.X, r.Max.X)
		for i := range dst {
			if i%4 != 3 {
				dst[i] -= src[i]
			}
		}
	}
	return out
}

func low(m *raster.Image, sigma float64) *raster.Image {
	out := m.Crop(m.Rect)
	for c := range 3 {
		p := raster.NewPlane(m.Rect)
		for i := range p.Pix {
			p.Pix[i] = m.Pix[4*i+c]
		}
		for i, v := range raster.Gaussian(p, sigma).Pix {
			out.Pix[4*i+c] = v
		}
	}
	return out
}

// lay returns the three channels of a picture at the given places of the
// reference frame.
func lay(m *raster.Image, motion func(geom.Point) geom.Point, at []geom.Point) []float64 {
	out := make([]float64, 0, 3*len(at))
	for _, p := range at {
		q := motion(p)
		v := m.Bicubic(q.X, q.Y)
		out = append(out, float64(v[0]), float64(v[1]), float64(v[2]))
	}
	return out
}

// withoutMean takes away from every place its mean over time.
func withoutMean(v [][]float64) [][]float64 {
	out := make([][]float64, len(v))
	for i := range v {
		out[i] = append([]float64(nil), v[i]...)
	}
	if len(v) == 0 {
		return out
	}
	for k := range v[0] {
		var mean float64
		for i := range v {
			mean += v[i][k]
		}
		mean /= float64(len(v))
		for i := range out {
			out[i][k] -= mean
		}
	}
	return out
}

// edge returns the summed squared gradient of result and truth, both slightly
// blurred, within 2 pixels of where the matte ends.
func edge(t *Take) (of, over float64, n int) {
	cover := raster.NewPlane(t.Result.Rect)
	each(t.Matte, func(x, y int) {
		if t.Matte.At(x, y) > 0.5 {
			cover.Pix[(y-cover.Rect.Min.Y)*cover.Rect.Dx()+x-cover.Rect.Min.X] = 1
		}
	})
	rim := raster.Gaussian(cover, 1)
	gradient := func(m *raster.Image, x, y int) (s float64) {
		a, b, c, d := m.At(x+1, y), m.At(x-1, y), m.At(x, y+1), m.At(x, y-1)
		for k := range 3 {
			s += sq((a[k]-b[k])/2) + sq((c[k]-d[k])/2)
		}
		return s
	}
	result, truth := low(t.Result, 1), low(t.Truth, 1)
	r := t.Result.Rect.Inset(1)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			if v := rim.At(x, y); v > 0.05 && v < 0.95 {
				of, over, n = of+gradient(result, x, y), over+gradient(truth, x, y), n+1
			}
		}
	}
	return of, over, n
}
