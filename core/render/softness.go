package render

import (
	"context"
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/warp"
)

// softOn measures how much softer a frame's plate is than what is held.
func (e *Evaluator) softOn(ctx context.Context, in softnessInput) (settle.BlurEstimate, error) {
	return memo.Do(ctx, e.Cache, environment{e}, in, measuredSoftness)
}

func measuredSoftness(ctx context.Context, e environment, in softnessInput) (out settle.BlurEstimate, err error) {
	out = settle.EstimateBlur(nil, 0)
	sc, err := e.scene(ctx, in.Scene, softMargin)
	if err != nil || !sc.measured {
		return out, err
	}
	carried, err := settle.Smear(ctx, sc.laid.Crop(sc.region), in.Smear.along(sc.region))
	if err != nil {
		return out, err
	}
	a, b, valid := roots(sc.plate.Crop(sc.region)), roots(carried), sc.counts.Crop(sc.region)
	return settle.EstimateBlur(mostDetailed(a, b, valid), in.Grain), ctx.Err()
}

// mostDetailed cuts planes into pieces and returns those with most detail: there softness
// shows.
func mostDetailed(plate, held, valid *raster.Plane) []settle.Pair {
	const side, most = 64, 8
	rect := plate.Rect
	if rect.Dx()*rect.Dy() <= 160*160 {
		return []settle.Pair{{Plate: plate, Held: held, Valid: valid}}
	}
	type piece struct {
		pair settle.Pair
		rank float64
	}
	var all []piece
	for y := rect.Min.Y; y+side/2 < rect.Max.Y; y += side {
		for x := rect.Min.X; x+side/2 < rect.Max.X; x += side {
			cut := image.Rect(x, y, x+side, y+side).Intersect(rect)
			p := piece{pair: settle.Pair{Plate: plate.Crop(cut), Held: held.Crop(cut), Valid: valid.Crop(cut)}}
			n := 0.0
			for _, v := range p.pair.Valid.Pix {
				n += float64(v)
			}
			if n < 0.4*side*side {
				continue
			}
			gx, gy := raster.Gradient(p.pair.Held)
			for i, v := range p.pair.Valid.Pix {
				if v > 0 {
					p.rank += float64(gx.Pix[i]*gx.Pix[i] + gy.Pix[i]*gy.Pix[i])
				}
			}
			all = append(all, p)
		}
	}
	var out []settle.Pair
	for range min(most, len(all)) {
		best := 0
		for i := range all {
			if all[i].rank > all[best].rank {
				best = i
			}
		}
		out = append(out, all[best].pair)
		all[best].rank = -1
	}
	if len(out) == 0 {
		return []settle.Pair{{Plate: plate, Held: held, Valid: valid}}
	}
	return out
}

// blurOf returns the sigma in pixels by which what is held is blurred.
func (e *Evaluator) blurOf(ctx context.Context, in *blurInput) (float64, error) {
	square := in.By * in.By
	all := make([]settle.Reading, len(in.Frames))
	err := together(len(all), func(k int) error {
		found, err := e.softOn(ctx, in.Frames[k])
		all[k] = found.Square
		return err
	})
	if err != nil {
		return 0, err
	}
	if len(all) > 0 {
		// What is hardly more than nothing is taken for nothing, without a jump (the positive part of what James & Stein 1961
		// leave of one): grain that is left in what is held looks like a softness of a third of a pixel.
		const grainLooksLike = 0.1
		if found, _ := settle.Steady(all, in.Weight); found.Value > 0 && !math.IsInf(found.Variance, 1) {
			square += math.Max(found.Value-grainLooksLike*grainLooksLike/found.Value, 0)
		}
	}
	return math.Sqrt(square), nil
}

// along returns how far each place of the frame has to be smeared: by the track's
// motion while the shutter is open, less what is smeared on the held frame already.
func (in *smearInput) along(region image.Rectangle) func(geom.Point) geom.Point {
	none := func(geom.Point) geom.Point { return geom.Point{} }
	w := in.Map
	if in.Map == nil || in.Shutter == 0 || region.Empty() {
		return none
	}
	back, ok := w.Inverse()
	if !ok {
		return none
	}
	// The motion of a place of the held frame around another, for a whole frame's time.
	motion := func(around [3]warp.Mapping) func(u geom.Point) geom.Point {
		before, at, after := around[0], around[1], around[2]
		return func(u geom.Point) geom.Point {
			switch {
			case before != nil && after != nil:
				return after.Apply(u).Sub(before.Apply(u)).Mul(0.5)
			case before != nil && at != nil:
				return at.Apply(u).Sub(before.Apply(u))
			case after != nil && at != nil:
				return after.Apply(u).Sub(at.Apply(u))
			}
			return geom.Point{}
		}
	}
	here, there := motion(in.Here), motion(in.There)
	k := in.Shutter / 360
	at := func(p geom.Point) geom.Point {
		u := back.Apply(p)
		had := there(u).Mul(k / 2)
		return settle.MissingSmear(here(u).Mul(k), w.Apply(u.Add(had)).Sub(w.Apply(u.Sub(had))))
	}
	// It is worked out at the corners; in between it changes evenly.
	box := boxOf(region)
	var corner [4]geom.Point
	for i, p := range box.Corners() {
		corner[i] = at(p)
		if corner[i].X*corner[0].X+corner[i].Y*corner[0].Y < 0 {
			corner[i] = corner[i].Mul(-1) // a trace has no front end
		}
	}
	return func(p geom.Point) geom.Point {
		u, v := (p.X-box.Min.X)/(box.Max.X-box.Min.X), (p.Y-box.Min.Y)/(box.Max.Y-box.Min.Y)
		return corner[0].Lerp(corner[1], u).Lerp(corner[3].Lerp(corner[2], u), v)
	}
}
