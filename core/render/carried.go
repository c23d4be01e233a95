package render

import (
	"context"
	"fmt"
	"image"

	"jardin/core/raster"
	"jardin/core/warp"
)

// madePixels are pixels that are worked out on one frame, where what is marked lies there: a value that holds
// all that they depend on besides the plate.
type madePixels interface {
	// made returns them, premultiplied, in coordinates of their frame, and how much of the grain's standard deviation
	// they have there, 0 to 1; nil for none.
	made(ctx context.Context, e *Evaluator) (*raster.Image, *raster.Plane, error)
}

// A carriedInput is such pixels on another frame, or on their own.
type carriedInput struct {
	Of     madePixels
	Map    warp.Mapping // from the frame on which they were made
	Settle *settleInput // nil: they are not settled
	Live   bool         // they were made on this very frame, with grain of their own
}

// carried gathers pixels that were made for the removal's source i and are carried by a mapping to
// frame n. Like a neighbour's, they lie on what is to go, not on the rest of the frame.
func (r *removal) carried(
	i, n int,
	settled bool,
	track string,
	m warp.Mapping,
	of madePixels,
	live bool,
) (sourceLayer, *marking) {
	out := &carriedInput{Of: of, Map: m, Live: live}
	if settled && r.settles() {
		out.Settle = r.settled(i, track, n, nil)
	}
	return out, r.marked(n)
}

// marked is what is to go, with the rim on which it is compared with the plate.
func (r *removal) marked(n int) *marking {
	own := r.matte(n)
	if r.doc.Settle.Seam > 0 {
		own = own.widened(seamRim)
	}
	return &own
}

func (in *carriedInput) bounds(s *sourceInput, _ image.Rectangle) image.Rectangle {
	return s.at.Rect
}

func (in *carriedInput) reach(image.Rectangle) image.Rectangle { return image.Rectangle{} }

// composite lays the pixels, carried, where there are any. What is held has no moving grain: all of it is to be laid
// again. What was made on this frame brings its own, as much as there is.
func (in *carriedInput) composite(ctx context.Context, e *Evaluator, s *sourceInput, _ int, out *filling) error {
	back, ok := in.Map.Inverse()
	if !ok {
		return fmt.Errorf("the track cannot be inverted")
	}
	picture, grain, err := in.Of.made(ctx, e)
	if err != nil || picture.Rect.Empty() {
		return err
	}
	if in.Live {
		s.overMoving(out, picture, grain)
		return nil
	}
	lay := func(rect image.Rectangle) *raster.Image { return warp.Image(picture, back, rect) }
	return s.lay(ctx, e, in.Settle, in.Map.Bounds(boxOf(picture.Rect)), lay, out)
}
