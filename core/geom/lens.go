package geom

import (
	"errors"
	"math"
)

// A Lens is what a lens does to straight lines: a place of the straight picture, which a pinhole camera would take, is
// moved along the line from the centre, to
//
//	r (1 + K1 r² + K2 r⁴ + K3 r⁶)
//
// (the radial part of Brown 1966, "Decentering distortion of lenses"). Radii are measured with square pixels and in units of
// Radius, so that the terms depend neither on the picture's size nor on a focal length: K1 of -0.1 brings what is seen at that
// radius a tenth of it nearer. The centre stays, and the size there. The zero Lens does nothing.
type Lens struct {
	K       [3]float64
	Centre  Point   // principal point, pixels
	Radius  float64 // pixels of radius 1
	Squeeze float64 // width of a pixel beside its height; 0 is 1
	reach   float64 `memo:"-"` // straight radius up to which it does not fold
	edge    float64 `memo:"-"` // where that is seen
}

// ErrFolds is returned for a lens that would show two places of the set at one place of the picture.
var ErrFolds = errors.New("a lens of these terms folds the picture before its corners")

// LensOf returns a lens for pictures of a size whose radius 1 is half the picture's diagonal. It fails with ErrFolds for one
// that is not one to one over the whole picture.
func LensOf(k [3]float64, width, height int, centre Point, squeeze float64) (Lens, error) {
	if squeeze == 0 {
		squeeze = 1
	}
	w, h := float64(width), float64(height)
	l := Lens{K: k, Centre: centre, Radius: math.Hypot(w*squeeze, h) / 2, Squeeze: squeeze}
	if !(l.Radius > 0) || !centre.Finite() || !(squeeze > 0) || math.IsInf(squeeze, 0) {
		return Lens{}, ErrFolds
	}
	l.bound()
	corners := Box{Max: Pt(w, h)}.Corners()
	for _, c := range corners {
		if !(l.square(c).Len()*1.02 < l.edge) {
			return Lens{}, ErrFolds
		}
	}
	return l, nil
}

// farthest is the straight radius beyond which nothing is asked: a place that is seen at the corner lies within that.
const farthest = 8

// bound finds how far out the lens is one to one.
func (l *Lens) bound() {
	l.reach = farthest
	if l.K == [3]float64{} {
		l.edge = farthest
		return
	}
	// The first radius at which what is seen no longer moves outwards, among steps fine enough for three terms, then closer.
	const steps = 400
	for i := 1; i <= steps; i++ {
		lo, hi := farthest*float64(i-1)/steps, farthest*float64(i)/steps
		if l.slope(hi) > 1e-3 {
			continue
		}
		for range 50 {
			if m := (lo + hi) / 2; l.slope(m) > 1e-3 {
				lo = m
			} else {
				hi = m
			}
		}
		l.reach = lo
		break
	}
	l.edge = l.reach * l.grow(l.reach*l.reach)
}

func (l *Lens) grow(r2 float64) float64 { return 1 + r2*(l.K[0]+r2*(l.K[1]+r2*l.K[2])) }

// slope is the derivative of the radius that is seen by the straight one.
func (l *Lens) slope(r float64) float64 {
	r2 := r * r
	return 1 + r2*(3*l.K[0]+r2*(5*l.K[1]+r2*7*l.K[2]))
}

// square returns where a place lies from the centre, in units of Radius, with square pixels.
func (l *Lens) square(p Point) Point {
	return Pt((p.X-l.Centre.X)*l.Squeeze/l.Radius, (p.Y-l.Centre.Y)/l.Radius)
}

func (l *Lens) back(p Point) Point {
	return Pt(l.Centre.X+p.X*l.Radius/l.Squeeze, l.Centre.Y+p.Y*l.Radius)
}

// Plain reports whether the lens leaves every place where it is.
func (l *Lens) Plain() bool { return l.K == [3]float64{} }

// Distort returns where a place of the straight picture is seen; NaN beyond where the lens is one to one.
func (l *Lens) Distort(p Point) Point {
	if l.Plain() {
		return p
	}
	u := l.square(p)
	r2 := u.X*u.X + u.Y*u.Y
	if !(r2 <= l.reach*l.reach) {
		return Pt(math.NaN(), math.NaN())
	}
	return l.back(u.Mul(l.grow(r2)))
}

// Straighten returns where a place that is seen lies in the straight picture, to within a millionth of a pixel (Newton's method
// with a bracket); NaN where nothing is seen through the lens.
func (l *Lens) Straighten(p Point) Point {
	if l.Plain() {
		return p
	}
	u := l.square(p)
	d := u.Len()
	if d == 0 {
		return p
	}
	if !(d <= l.edge) {
		return Pt(math.NaN(), math.NaN())
	}
	lo, hi := 0.0, l.reach
	r := math.Min(d, hi)
	for range 60 {
		e := r*l.grow(r*r) - d
		if e > 0 {
			hi = r
		} else {
			lo = r
		}
		next := r - e/l.slope(r)
		if !(next > lo && next < hi) {
			next = (lo + hi) / 2
		}
		if math.Abs(next-r) < 1e-12 {
			r = next
			break
		}
		r = next
	}
	return l.back(u.Mul(r / d))
}

// Jacobian returns the derivative of Distort at a place, by rows: d(x', y') / d(x, y).
func (l *Lens) Jacobian(p Point) (xx, xy, yx, yy float64) {
	if l.Plain() {
		return 1, 0, 0, 1
	}
	u := l.square(p)
	r2 := u.X*u.X + u.Y*u.Y
	g := l.grow(r2)
	d := 2 * (l.K[0] + r2*(2*l.K[1]+r2*3*l.K[2]))
	// u' = u g(r²); x scales by Radius / Squeeze on both sides, so that only the mixed terms keep it.
	return g + d*u.X*u.X, d * u.X * u.Y / l.Squeeze, d * u.X * u.Y * l.Squeeze, g + d*u.Y*u.Y
}
