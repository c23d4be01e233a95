package render

import (
	"context"
	"errors"
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/warp"
)

// A scene is what light and detail are measured on: what is held, as it lies on its
// own frame, and the plate of another frame around the removal's mattes there.
type scene struct {
	back     warp.Mapping  // from the frame to the held one
	plate    *raster.Image // of the frame
	held     *raster.Image
	out      *raster.Plane // where the frame's plate does not count
	heldOut  *raster.Plane // where what is held does not
	matte    image.Rectangle
	region   image.Rectangle
	measured bool
}

// Bytes returns the memory that a scene takes besides what is held.
func (sc *scene) Bytes() int {
	if !sc.measured {
		return 0
	}
	return sc.plate.Bytes() + sc.out.Bytes() + sc.heldOut.Bytes()
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
		return &scene{}, nil
	}
	back, ok := in.Map.Inverse()
	hole := in.Hole.cover(size).Rect
	if !ok || hole.Empty() {
		return &scene{}, nil
	}
	sc := &scene{back: back, matte: hole, region: hole.Inset(-in.Margin).Intersect(size)}
	plate, beyond, err := e.helper(ctx, in.Frame, sc.region)
	if err != nil || beyond {
		return &scene{}, err // beyond the shot there is nothing to measure
	}
	sc.plate = plate
	if sc.out, err = in.Out.cover(ctx, e.Evaluator, sc.region); err != nil {
		return nil, err
	}
	there := raster.Around(back.Bounds(boxOf(sc.region)), 4, size)
	if there.Empty() {
		return &scene{}, nil
	}
	heldOut, err := in.HeldOut.onFrame(ctx, e.Evaluator)
	if err != nil {
		return nil, err
	}
	sc.heldOut = heldOut.Crop(there)
	if sc.held, err = e.onPlate(ctx, in.Painted, there); err != nil {
		return nil, err
	}
	// What is painted is clean; a whole frame may show what has to go elsewhere.
	if !in.Painted.Whole {
		layer, err := e.layer(ctx, in.Painted.Layer)
		if err != nil {
			return nil, err
		}
		both := layer.Rect.Intersect(there)
		for y := both.Min.Y; y < both.Max.Y; y++ {
			row, paint := sc.heldOut.Row(y, both.Min.X, both.Max.X), layer.Row(y, both.Min.X, both.Max.X)
			for x := range row {
				if paint[4*x+3] > 0.99 {
					row[x] = 0
				}
			}
		}
	}
	sc.measured = true
	return sc, nil
}

// shows reports whether a place of the held frame is known there and clean.
func (sc *scene) shows(u geom.Point) bool {
	x, y := int(math.Floor(u.X)), int(math.Floor(u.Y))
	return image.Pt(x, y).In(sc.heldOut.Rect.Inset(2)) && sc.heldOut.At(x, y) == 0
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
			layer, err := e.layer(ctx, in.Painted.Layer)
			if err != nil {
				return nil, err
			}
			m := bare.Crop(in.Rect)
			m.Over(layer)
			return m, nil
		},
	)
}
