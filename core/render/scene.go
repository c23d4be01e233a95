package render

import (
	"context"
	"errors"
	"image"
	"math"

	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/warp"
)

// A scene is what light and detail are measured on: what is held, as it lies on its
// own frame, and the plate of another frame around the removal's mattes there.
type scene struct {
	back     warp.Mapping  // from the frame to the held one
	plate    *raster.Image // of the frame
	laid     *raster.Image // what is held, as it lies there
	counts   *raster.Plane // 1 where both show the surface and nothing else
	agreed   float64       // how much of what shows texture there is what is held, 0 to 1
	matte    image.Rectangle
	region   image.Rectangle
	measured bool
}

// Bytes returns the memory that a scene takes besides what is held.
func (sc *scene) Bytes() int {
	if !sc.measured {
		return 0
	}
	return sc.plate.Bytes() + sc.laid.Bytes() + sc.counts.Bytes()
}

// scene prepares measuring, margin pixels around the mattes.
func (e *Evaluator) scene(ctx context.Context, in *memo.Keyed[sceneInput], margin int) (*scene, error) {
	whole, err := memo.Do(ctx, e.Short, environment{e}, in, prepared)
	if err != nil {
		return nil, err
	}
	sc := *whole
	sc.region = sc.matte.Inset(-margin).Intersect(sc.region)
	return &sc, nil
}

// agreedOn is how much of what shows texture around the patch is what is held, 0 to 1.
func (e *Evaluator) agreedOn(ctx context.Context, in *memo.Keyed[sceneInput]) (float64, error) {
	type agreedInput struct{ Of *memo.Keyed[sceneInput] }
	return memo.Do(ctx, e.Cache, environment{e}, agreedInput{in},
		func(ctx context.Context, e environment, in agreedInput) (float64, error) {
			sc, err := e.scene(ctx, in.Of, 0)
			if err != nil {
				return 0, err
			}
			return sc.agreed, nil
		})
}

// helper returns a frame that may be beyond the shot.
func (e *Evaluator) helper(ctx context.Context, n int, rect image.Rectangle) (m *raster.Image, beyond bool, err error) {
	m, err = e.Plate.Linear(ctx, n, rect)
	var b *Beyond
	if errors.As(err, &b) {
		return nil, true, nil
	}
	return m, false, err
}

func prepared(ctx context.Context, e environment, keyed *memo.Keyed[sceneInput]) (*scene, error) {
	in, size := &keyed.Value, e.Plate.Size()
	if in.Map == nil {
		return &scene{agreed: 1}, nil
	}
	back, ok := in.Map.Inverse()
	hole, err := in.Hole.rect(ctx, e.Evaluator)
	if err != nil {
		return nil, err
	}
	if !ok || hole.Empty() {
		return &scene{agreed: 1}, nil
	}
	sc := &scene{back: back, matte: hole, region: hole.Inset(-in.Margin).Intersect(size)}
	plate, beyond, err := e.helper(ctx, in.Frame, sc.region)
	if err != nil || beyond {
		return &scene{agreed: 1}, err // beyond the shot there is nothing to measure
	}
	out, err := in.Out.cover(ctx, e.Evaluator, sc.region)
	if err != nil {
		return nil, err
	}
	there := raster.Around(back.Bounds(boxOf(sc.region)), 4, size)
	if there.Empty() {
		return &scene{agreed: 1}, nil
	}
	hidden, err := in.hidden(ctx, e.Evaluator, there)
	if err != nil {
		return nil, err
	}
	held, err := e.onPlate(ctx, in.Painted, there)
	if err != nil {
		return nil, err
	}
	sc.plate, sc.laid = plate.Crop(sc.region), warp.Image(held, back, sc.region)
	sc.counts = raster.NewPlane(sc.region)
	at := warp.Places(back, sc.region)
	raster.Rows(sc.region.Min.Y, sc.region.Max.Y, func(y int) {
		row, aside := sc.counts.Row(y, sc.region.Min.X, sc.region.Max.X), out.Row(y, sc.region.Min.X, sc.region.Max.X)
		laid := sc.laid.Row(y, sc.region.Min.X, sc.region.Max.X)
		for x := range row {
			if aside[x] == 0 && laid[4*x+3] > 0.99 && shows(hidden, at(sc.region.Min.X+x, y)) {
				row[x] = 1
			}
		}
	})
	return sc, sc.withoutStrangers(ctx, in)
}

// hidden returns 1 where what is held is not known to be the clean surface.
func (in *sceneInput) hidden(ctx context.Context, e *Evaluator, part image.Rectangle) (*raster.Plane, error) {
	covered, err := in.HeldOut.onFrame(ctx, e)
	if err != nil {
		return nil, err
	}
	out := covered.Crop(part)
	if in.Painted.Whole {
		return out, nil // it may show what has to go elsewhere
	}
	// What is painted is clean.
	layer, err := e.layer(ctx, in.Painted.Layer, part)
	if err != nil {
		return nil, err
	}
	both := layer.Rect.Intersect(part)
	for y := both.Min.Y; y < both.Max.Y; y++ {
		row, paint := out.Row(y, both.Min.X, both.Max.X), layer.Row(y, both.Min.X, both.Max.X)
		for x := range row {
			if paint[4*x+3] > 0.99 {
				row[x] = 0
			}
		}
	}
	return out, nil
}

// leastAgreed is how much of what shows texture has to be what is held, for anything to be told.
const leastAgreed = 0.15

// withoutStrangers leaves out where the plate shows something else than what is held: another layer, whoever passes.
func (sc *scene) withoutStrangers(ctx context.Context, in *sceneInput) error {
	// A short smear changes no likeness.
	const short = 4
	laid, along, longest := sc.laid, in.Smear.along(sc.region), 0.0
	for _, c := range boxOf(sc.region).Corners() {
		longest = math.Max(longest, along(c).Len())
	}
	if longest > short {
		var err error
		if laid, err = settle.Smear(ctx, laid, along); err != nil {
			return err
		}
	}
	found := settle.Agree(roots(sc.plate), roots(laid), sc.counts, in.Grain)
	for i, v := range found.Strange.Pix {
		if v > 0 {
			sc.counts.Pix[i] = 0
		}
	}
	sc.agreed = found.Share
	sc.measured = found.Share >= leastAgreed
	return nil
}

// roots is the square root of a picture's luma, in which grain is about even.
func roots(m *raster.Image) *raster.Plane {
	out := raster.NewPlane(m.Rect)
	w := m.Rect.Dx()
	raster.Rows(0, m.Rect.Dy(), func(y int) {
		for i := y * w; i < (y+1)*w; i++ {
			out.Pix[i] = float32(rootOf(colorspace.Luma(m.Pix[4*i], m.Pix[4*i+1], m.Pix[4*i+2])))
		}
	})
	return out
}

func rootOf(v float32) float64 { return math.Sqrt(float64(max(v, 0))) }

// shows reports whether a place of the held frame is known there and clean; hidden is 1 where it is not.
func shows(hidden *raster.Plane, u geom.Point) bool {
	x, y := int(math.Floor(u.X)), int(math.Floor(u.Y))
	return image.Pt(x, y).In(hidden.Rect.Inset(2)) && hidden.At(x, y) == 0
}

// A partInput is a part of the frame that a source holds with its layer on it.
type partInput struct {
	Painted paintedInput
	Rect    image.Rectangle
}

// onPlate returns the frame that a source holds with its layer on it. What it returns may
// cover more than rect.
func (e *Evaluator) onPlate(ctx context.Context, in paintedInput, rect image.Rectangle) (*raster.Image, error) {
	// In steps, so that the next frame, which wants a little more, finds the same.
	const step = 128
	down := func(v int) int { return int(math.Floor(float64(v)/step)) * step }
	rect = image.Rect(down(rect.Min.X), down(rect.Min.Y), down(rect.Max.X+step-1), down(rect.Max.Y+step-1)).
		Intersect(e.Plate.Size())
	return memo.Do(
		ctx,
		e.Short,
		environment{e},
		partInput{in, rect},
		func(ctx context.Context, e environment, in partInput) (*raster.Image, error) {
			bare, err := e.bare(ctx, in.Painted.Bare, in.Rect)
			if err != nil {
				return nil, err
			}
			layer, err := e.layer(ctx, in.Painted.Layer, in.Rect)
			if err != nil {
				return nil, err
			}
			m := bare.Crop(in.Rect)
			m.Over(layer)
			return m, nil
		},
	)
}
