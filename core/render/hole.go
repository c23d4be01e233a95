package render

import (
	"context"
	"fmt"
	"image"

	"jardin/core/memo"
	"jardin/core/raster"
)

// A holeInput is where pixels are to be made on a frame, and what must not be looked at around it.
type holeInput struct {
	Frame  int
	Matte  marking    // of what is marked
	Beside *occluders // what else is marked, or in front
}

// How far around what is marked pixels are made, for its own soft edge, and laid, for the rim on which a patch is
// compared with the plate: there they are the frame's own.
const (
	holeRim = 3
	laidRim = seamRim + 4
)

// laidOn is where pixels are laid that were made in a hole.
func laidOn(hole *raster.Plane) *raster.Plane { return raster.Grow(hole, laidRim-holeRim) }

func (r *removal) hole(n int) holeInput {
	return holeInput{n, r.matte(n), r.occluders(n, true)}
}

// cover returns 1 where pixels are to be made, on so much of the frame as reaches a margin further, and 1 where
// those around it must not be looked at.
func (in *holeInput) cover(ctx context.Context, e *Evaluator, margin func(hole image.Rectangle) int) (
	hole, beside *raster.Plane, err error,
) {
	size := e.Plate.Size()
	marked, err := in.Matte.cover(ctx, e, size)
	if err != nil {
		return nil, nil, err
	}
	box := cutBox(marked)
	if box.Empty() {
		return raster.NewPlane(box), raster.NewPlane(box), nil
	}
	box = box.Inset(-laidRim).Intersect(size)
	region := box.Inset(-margin(box)).Intersect(size)
	beside, err = in.Beside.cover(ctx, e, region)
	return raster.Grow(solid(marked.Crop(region)), holeRim), beside, err
}

// mostMade is of how many pixels a hole may be that is grown, or spread along edges: more take minutes, and memory that
// nobody granted.
const mostMade = 1_000_000

func tooLarge(hole *raster.Plane) error {
	n := 0
	for _, v := range hole.Pix {
		if v > 0 {
			n++
		}
	}
	if n > mostMade {
		return fmt.Errorf("what is marked has %d pixels, of which %d at most can be made on a frame: mark less, or divide it",
			n, mostMade)
	}
	return nil
}

// cutOut returns a picture where a plane is above 0, in the smallest box, premultiplied.
func cutOut(m *raster.Image, where *raster.Plane) *raster.Image {
	out := m.Crop(cutBox(where))
	for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
		row := out.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		for x, v := range where.Row(y, out.Rect.Min.X, out.Rect.Max.X) {
			if v <= 0 {
				clear(row[4*x : 4*x+4])
			}
		}
	}
	return out
}

// cutBox is the box around where a plane is above 0.
func cutBox(p *raster.Plane) (box image.Rectangle) {
	for i, v := range p.Pix {
		if v > 0 {
			x, y := p.Rect.Min.X+i%p.Rect.Dx(), p.Rect.Min.Y+i/p.Rect.Dx()
			box = box.Union(image.Rect(x, y, x+1, y+1))
		}
	}
	return box
}

// keyedOf is memo.Of, shared under a name.
func keyedOf[T any](r *removal, name any, build func() T) *memo.Keyed[T] {
	return shared(r.inputs, name, func() *memo.Keyed[T] { return memo.Of(build()) })
}
