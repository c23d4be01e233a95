package settle

import (
	"math"
	"slices"
)

// A Reading is something that was measured on a frame, and how sure that is.
type Reading struct {
	Value    float64
	Variance float64 // of the value's error; infinite where nothing was measured
}

// unknown is the reading of a frame on which nothing was measured.
var unknown = Reading{Variance: math.Inf(1)}

// Steady returns the reading in the middle of several, of the frames around one, in the light of the others: the best
// combination (by inverse variances) of what was measured there and of what a straight line through the others makes one
// expect. near weighs the others by how far they are. What varies from frame to frame, as flicker does, makes the others
// expect little, so that what is measured well stays as it is, steps included; what is unsure is taken from before and after.
// Others that do not fit count less and less (iteratively reweighted, Cauchy's weights: Holland & Welsch 1977). trust is the
// share that the frame's own reading has, 0 to 1.
func Steady(all []Reading, near []float64) (out Reading, trust float64) {
	middle := len(all) / 2
	own := all[middle]
	expected := expect(all, near)
	switch {
	case math.IsInf(own.Variance, 1):
		return expected, 0
	case math.IsInf(expected.Variance, 1):
		return own, 1
	}
	// What is surely elsewhere than the others make one expect is a step.
	expected.Variance += math.Max(sqr(own.Value-expected.Value)-sqr(surely)*own.Variance, 0)
	a, b := 1/math.Max(own.Variance, 1e-12), 1/math.Max(expected.Variance, 1e-12)
	trust = a / (a + b)
	return Reading{trust*own.Value + (1-trust)*expected.Value, 1 / (a + b)}, trust
}

// surely is how many standard deviations of its error something has to be off for not being chance.
const surely = 4

// expect is what the others make one expect in the middle: on a line through them if they lie on both sides, else their
// mean.
func expect(all []Reading, near []float64) Reading {
	middle := len(all) / 2
	type other struct{ at, value, variance, near, robust float64 }
	var others []other
	var before, after bool
	for k, r := range all {
		if k != middle && near[k] > 0 && !math.IsInf(r.Variance, 1) {
			others = append(others, other{float64(k - middle), r.Value, r.Variance, near[k], 1})
			before, after = before || k < middle, after || k > middle
		}
	}
	if len(others) == 0 {
		return unknown
	}
	slope := before && after && len(others) >= 3
	var value, base, scatter float64
	for range 6 {
		var n, x, xx, y, xy float64
		for _, o := range others {
			w := o.near * o.robust / (o.variance + scatter + 1e-12)
			n, x, xx, y, xy = n+w, x+w*o.at, xx+w*o.at*o.at, y+w*o.value, xy+w*o.at*o.value
		}
		incline := 0.0
		value, base = y/n, 1/n
		if det := n*xx - x*x; slope && det > 1e-9*n*n {
			value, base, incline = (xx*y-x*xy)/det, xx/det, (n*xy-x*y)/det
		}
		// How far they are from that beyond their own errors, and which of them do not fit.
		var off []float64
		for _, o := range others {
			off = append(off, math.Abs(o.value-value-incline*o.at))
		}
		sorted := slices.Clone(off)
		slices.Sort(sorted)
		usual := 1.4826 * sorted[len(sorted)/2]
		var sum, weight float64
		for i := range others {
			o := &others[i]
			o.robust = 1
			if d := off[i] / (2.385 * math.Sqrt(usual*usual+o.variance+1e-12)); len(others) > 3 {
				o.robust = 1 / (1 + d*d)
			}
			sum, weight = sum+o.robust*(off[i]*off[i]-o.variance), weight+o.robust
		}
		free := 1.0 // of what is fitted to them they are that much nearer
		if slope {
			free = 2
		}
		scatter = math.Max(sum/weight, 0) * float64(len(others)) / math.Max(float64(len(others))-free, 0.5)
	}
	return Reading{value, base + scatter}
}
