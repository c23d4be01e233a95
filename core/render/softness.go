package render

import (
	"context"
	"image"
	"math"

	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/warp"
)

// softness is how much softer a frame's plate is than what is held.
type softness struct{ sigma, sure, left float64 }

// softOn measures it on a frame.
func (e *Evaluator) softOn(ctx context.Context, in softnessInput) (softness, error) {
	return memo.Do(ctx, e.Cache, environment{e}, in, measuredSoftness)
}

func measuredSoftness(ctx context.Context, e environment, in softnessInput) (out softness, err error) {
	sc, err := e.scene(ctx, in.Scene, softMargin)
	if err != nil || !sc.measured {
		return out, err
	}
	carried := warp.Image(sc.held, sc.back, sc.region)
	if carried, err = settle.Smear(ctx, carried, in.Smear.along(sc.region)); err != nil {
		return out, err
	}
	a, b, valid := raster.NewPlane(sc.region), raster.NewPlane(sc.region), raster.NewPlane(sc.region)
	for y := sc.region.Min.Y; y < sc.region.Max.Y; y++ {
		p, q, v := a.Row(
			y,
			sc.region.Min.X,
			sc.region.Max.X,
		), b.Row(
			y,
			sc.region.Min.X,
			sc.region.Max.X,
		), valid.Row(
			y,
			sc.region.Min.X,
			sc.region.Max.X,
		)
		plate, laid := sc.plate.Crop(
			image.Rect(sc.region.Min.X, y, sc.region.Max.X, y+1),
		).Pix, carried.Row(
			y,
			sc.region.Min.X,
			sc.region.Max.X,
		)
		for x := range v {
			if sc.out.At(sc.region.Min.X+x, y) > 0 || laid[4*x+3] < 0.99 {
				continue
			}
			if !sc.shows(sc.back.Apply(geom.Pt(float64(sc.region.Min.X+x)+0.5, float64(y)+0.5))) {
				continue
			}
			v[x] = 1
			p[x] = float32(math.Sqrt(float64(max(colorspace.Luma(plate[4*x], plate[4*x+1], plate[4*x+2]), 0))))
			q[x] = float32(math.Sqrt(float64(max(colorspace.Luma(laid[4*x], laid[4*x+1], laid[4*x+2]), 0))))
		}
	}
	out.sigma, out.sure, out.left = settle.EstimateBlur(mostDetailed(a, b, valid), in.Grain)
	return out, ctx.Err()
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
	all := make([]softness, len(in.Frames))
	err := together(len(all), func(k int) (err error) {
		all[k], err = e.softOn(ctx, in.Frames[k])
		return err
	})
	if err != nil {
		return 0, err
	}
	var sum, weight float64
	for k, v := range all {
		w := in.Weight[k] * v.sure
		sum, weight = sum+w*v.sigma*v.sigma, weight+w
	}
	if weight > 0 {
		square += sum / weight
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
