package carry

import (
	"fmt"
	"math"

	"jardin/core/geom"
)

// A Grade says whether a frame of a track can be trusted.
type Grade string

const (
	Good     Grade = "good"
	Doubtful Grade = "look" // look at it
	Bad      Grade = "bad"  // do not trust it
)

// Extreme says in words how far a transform has gone from the home frame, or
// nothing where it has not: common practice is to look for another reference
// frame then.
func Extreme(h geom.Homography, surface []geom.Point) (Grade, string) {
	low, high := math.Inf(1), math.Inf(-1)
	for _, p := range surface {
		w := h[6]*p.X + h[7]*p.Y + h[8]
		low, high = math.Min(low, w), math.Max(high, w)
	}
	switch {
	case low <= 0:
		return Bad, "The horizon runs through the surface: the transform is wrong here. Correct it, drop these " +
			"frames, or follow from a nearer frame."
	case high > 3*low:
		return Doubtful, fmt.Sprintf(
			"One side of the surface is %.1f times as far away as the other. Choose a reference frame nearer to this "+
				"one for these frames.",
			high/low,
		)
	}
	moved := h.ApplyAll(surface)
	area := geom.Area(moved) / math.Max(geom.Area(surface), 1e-9)
	switch {
	case area > 5:
		return Doubtful, fmt.Sprintf(
			"The surface is %.1f times as large as on its home frame: a patch from there will be soft. Choose a "+
				"reference frame on which it is larger.",
			area,
		)
	case area < 1.0/6:
		return Doubtful, fmt.Sprintf(
			"The surface has shrunk to %.0f %% of its area: little is left to hold on to. Check it in the locked view.",
			100*area,
		)
	}
	// Shear: how far the corner angles are from those at home.
	var tilt float64
	for i := range surface {
		n := len(surface)
		a := angle(surface[(i+n-1)%n], surface[i], surface[(i+1)%n])
		b := angle(moved[(i+n-1)%n], moved[i], moved[(i+1)%n])
		tilt = math.Max(tilt, math.Abs(a-b))
	}
	if tilt > 40*math.Pi/180 {
		return Doubtful, fmt.Sprintf(
			"The surface leans by %.0f degrees. Allow less motion if it does not really, or choose a nearer "+
				"reference frame.",
			tilt*180/math.Pi,
		)
	}
	return Good, ""
}

func angle(a, b, c geom.Point) float64 {
	u, v := a.Sub(b), c.Sub(b)
	return math.Abs(math.Atan2(u.X*v.Y-u.Y*v.X, u.X*v.X+u.Y*v.Y))
}

// grade judges every sample. What was placed by hand is as it was meant.
func (m *Motion) grade() {
	surface := m.corners
	for i := range m.Samples {
		v := &m.Samples[i]
		v.Grade, v.Advice = Good, ""
		if v.Moved == 0 { // else it is another region that is looked at
			v.Grade, v.Advice = Extreme(v.Matrix, surface)
		}
		switch {
		case v.Bridged && v.ByHand:
			v.Grade, v.Advice = Doubtful, "Between frames on which it was placed by hand: nobody looked here. Place it on this "+
				"frame as well if it slips."
			continue
		case v.Bridged:
			v.Grade, v.Advice = Bad, "It was not found here: it is taken to move on from where it was lost to where it was found "+
				"again. Place it by hand, or hand these frames to another source."
			continue
		}
		if v.Grade == Good && !v.ByHand && v.Frame != m.Track.Home {
			v.Grade, v.Advice = m.kind.doubts(v)
		}
	}
}
