package render

import (
	"context"
	"math"
	"runtime"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
)

// lightOn measures how the light of a frame differs from what is held; nil where it
// cannot be told.
func (e *Evaluator) lightOn(ctx context.Context, in lightInput) (*settle.GainField, error) {
	return memo.Do(ctx, e.Cache, environment{e}, in, measuredLight)
}

func measuredLight(ctx context.Context, e environment, in lightInput) (*settle.GainField, error) {
	sc, err := e.scene(ctx, in.Scene, int(math.Min(math.Max(1.6*in.Scale, 20), 260)))
	if err != nil || !sc.measured {
		return nil, err
	}
	estimator := settle.NewGainEstimator(sc.back.Bounds(boxOf(sc.region)), in.Scale)
	stride := max(1, int(math.Sqrt(float64(sc.region.Dx()*sc.region.Dy())/40000)))
	for y := sc.region.Min.Y; y < sc.region.Max.Y; y += stride {
		for x := sc.region.Min.X; x < sc.region.Max.X; x += stride {
			if sc.counts.At(x, y) == 0 {
				continue
			}
			p, h := sc.plate.At(x, y), sc.laid.At(x, y)
			estimator.Add(sc.back.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5)), p[:], h[:])
		}
	}
	if found, ok := estimator.Estimate(in.Luma); ok {
		found.Doubt(1 - sc.agreed)
		return found, nil
	}
	return nil, nil
}

// light returns how the light of a frame differs from what is held, steadied over
// time; nil where it cannot be told.
func (e *Evaluator) light(ctx context.Context, in *lightingInput) (*settle.GainField, error) {
	all := make([]*settle.GainField, len(in.Frames))
	err := together(len(all), func(k int) (err error) {
		all[k], err = e.lightOn(ctx, in.Frames[k])
		return err
	})
	if err != nil {
		return nil, err
	}
	reach := len(all) / 2
	near := all[reach]
	for d := 1; d <= reach && near == nil; d++ {
		if near = all[reach-d]; near == nil {
			near = all[reach+d]
		}
	}
	if near == nil || reach == 0 {
		return near, nil
	}
	return near.Smooth(all, in.Shape, in.Level), nil
}

// together calls f for 0 to n - 1, on all processors, and returns the first error by
// number. A panic in one becomes its error.
func together(n int, f func(k int) error) error {
	errs := make([]error, n)
	call := func(k int) {
		errs[k] = memo.Guard(func() error { return f(k) })
	}
	if n == 1 {
		call(0)
		return errs[0]
	}
	gate := make(chan struct{}, runtime.GOMAXPROCS(0))
	calls := make([]func(), n)
	for k := range n {
		calls[k] = func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			call(k)
		}
	}
	raster.Parallel(calls...)
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}
