package fill

import (
	"math"

	"jardin/core/geom"
)

// A pathway turns the places of a pointer into an even line of dabs. Between
// places runs a cubic whose slope at each is that of the parabola through it and
// the two before: smooth, exact for parabolas, and known as soon as the place is,
// so that paint is never behind the hand. Corners stay corners. Dabs are laid by
// distance along it: neither the speed of the hand nor the rate of events
// changes them.
type pathway struct {
	step    func(Touch) float64 // distance to the next dab
	begun   bool
	last    Touch
	leaving geom.Point // slope at last per unit of length; zero for none
	before  float64    // length of the piece that led to last
	left    float64    // distance to the next dab
	heading geom.Point // direction of the piece that led to last
}

// sharp is the cosine of the turn beyond which a place is a corner.
const sharp = 0.7

// chord is the greatest length of the straight pieces that a curve is walked by.
const chord = 2.0

// to goes on to a place and calls dab for every dab on the way.
func (w *pathway) to(t Touch, dab func(Touch)) {
	if !w.begun {
		w.begun, w.last = true, t
		dab(t)
		w.left = w.step(t)
		return
	}
	d := t.Sub(w.last.Point)
	length := math.Hypot(d.X, d.Y)
	if length == 0 {
		w.last.Pressure, w.last.Lean = t.Pressure, t.Lean
		return
	}
	unit := d.Mul(1 / length)
	start, end := unit, unit
	if w.leaving != (geom.Point{}) && unit.X*w.heading.X+unit.Y*w.heading.Y >= sharp {
		start = w.leaving
		// The parabola through three places, by length: its slope at the last one.
		k := length / (length + w.before)
		end = unit.Add(unit.Sub(w.heading).Mul(k))
	}
	from := w.last
	if start == unit && end == unit {
		w.straight(from, t, dab)
	} else {
		n := max(1, int(math.Ceil(length/chord)))
		a := from
		for i := 1; i <= n; i++ {
			u := float64(i) / float64(n)
			b := from.toward(t, hermite(from.Point, t.Point, start.Mul(length), end.Mul(length), u), u)
			w.straight(a, b, dab)
			a = b
		}
	}
	w.last, w.leaving, w.heading, w.before = t, end, unit, length
}

// straight walks one straight piece.
func (w *pathway) straight(a, b Touch, dab func(Touch)) {
	length := b.Dist(a.Point)
	for w.left <= length {
		k := w.left / length
		at := a.toward(b, a.Lerp(b.Point, k), k)
		dab(at)
		w.left += w.step(at)
	}
	w.left -= length
}

func hermite(a, b, da, db geom.Point, u float64) geom.Point {
	u2, u3 := u*u, u*u*u
	return a.Mul(2*u3 - 3*u2 + 1).Add(da.Mul(u3 - 2*u2 + u)).Add(b.Mul(3*u2 - 2*u3)).Add(db.Mul(u3 - u2))
}
