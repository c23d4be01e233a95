package render

import (
	"context"
	"fmt"
	"math"
	"sync"

	"jardin/core/geom"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// Travel is how far the surface under a removal's mattes moves on frame n in a whole frame's time, in pixels. ok is false
// where its track does not tell.
func (e *Evaluator) Travel(ctx context.Context, t *Treatment, removal string, n int) (length float64, ok bool, err error) {
	r := t.removal(removal)
	if r == nil {
		return 0, false, nil
	}
	own := r.matte(n)
	box, err := own.rect(ctx, e)
	if err != nil {
		return 0, false, err
	}
	middle := boxOf(box).Centre()
	var steps []geom.Point
	for _, to := range []int{n - 1, n + 1} {
		if m := r.mapping("", n, to); m != nil {
			steps = append(steps, m.Apply(middle).Sub(middle).Mul(float64(to-n)))
		}
	}
	if box.Empty() || len(steps) == 0 {
		return 0, false, nil
	}
	sum := geom.Point{}
	for _, s := range steps {
		sum = sum.Add(s.Mul(1 / float64(len(steps))))
	}
	return sum.Len(), sum.Finite(), nil
}

// ShutterFit compares the plate around a removal's mattes on frame n with that of another frame, which is brought there by
// the track and smeared for a shutter's angle in degrees. The other should be one on which the surface moves less: a smear
// that it has itself counts, but cannot be taken out. The removal's light, grain and sources do not matter.
func (e *Evaluator) ShutterFit(ctx context.Context, t *Treatment, removal string, other, n int, shutter float64) (settle.BlurEstimate, error) {
	r := t.removal(removal)
	if r == nil {
		return settle.BlurEstimate{}, fmt.Errorf("there is no removal %q", removal)
	}
	whole, err := ready(&treatment.Source{
		ID: "shutter", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: other, Whole: true},
	})
	if err != nil {
		return settle.BlurEstimate{}, err
	}
	trial := *r
	trial.sources, trial.inputs = []*source{whole}, &sync.Map{}
	trial.doc.Settle.Softness = &treatment.Softness{Match: true, Shutter: shutter}
	i, layer := trial.topHeld(n)
	if i < 0 || layer == nil {
		return settle.BlurEstimate{}, nil
	}
	return e.softOn(ctx, trial.softness(i, "", n, layer))
}

// Shutters are the angles in degrees that are compared.
func Shutters() (angles []float64) {
	for a := 0.0; a <= 360; a += 45 {
		angles = append(angles, a)
	}
	return angles
}

// slower and fastEnough say which frames tell of a shutter: on one the surface moves so far that its smear shows, in
// pixels, and on the other less than half as far.
const (
	fastEnough = 3
	slower     = 0.5
)

// ShutterPairs chooses which frames are compared for the shutter's angle, of those from first to last: those on which the
// surface moves farthest, at most so many, and for each the nearest of those on which it moves much less.
func (e *Evaluator) ShutterPairs(
	ctx context.Context, t *Treatment, removal string, first, last, most int,
) (pairs [][2]int, err error) {
	travel := map[int]float64{}
	for n := first; n <= last; n++ {
		length, ok, err := e.Travel(ctx, t, removal, n)
		if err != nil {
			return nil, err
		}
		if ok {
			travel[n] = length
		}
	}
	used := map[int]bool{}
	for len(pairs) < most {
		fast, other := 0, 0
		for n := first; n <= last; n++ {
			if length, ok := travel[n]; ok && !used[n] && length > fastEnough && (fast == 0 || length > travel[fast]) {
				fast = n
			}
		}
		if fast == 0 {
			break
		}
		used[fast] = true
		// Near ones look alike; slow ones are sharp.
		best := math.Inf(1)
		for n := first; n <= last; n++ {
			length, ok := travel[n]
			if !ok || length > slower*travel[fast] {
				continue
			}
			if cost := math.Abs(float64(n-fast)) * (0.2 + length/travel[fast]); cost < best {
				best, other = cost, n
			}
		}
		if other != 0 {
			pairs = append(pairs, [2]int{other, fast})
		}
	}
	return pairs, nil
}
