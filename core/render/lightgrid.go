package render

import (
	"context"
	"image"

	"jardin/core/gather"
	"jardin/core/memo"
	"jardin/core/raster"
)

// A gridInput is what the light of a part of a frame is averaged from, cell by cell.
type gridInput struct {
	Frame int
	Out   *occluders
	Block image.Point // the part, in blocks
}

// gridBlock is the side of the parts of a frame whose light is averaged together, in cells.
const gridBlock = 32

// grid returns the light of a frame, cell by cell, where a part of it lies and around that. It
// is remembered: when every frame is gathered anew, each looks at the same ones.
func (e *Evaluator) grid(ctx context.Context, n int, out *occluders, part image.Rectangle) (*gather.Grid, error) {
	cells := gather.Cells(part)
	const side = gridBlock
	first := image.Pt(cells.Min.X/side, cells.Min.Y/side)
	last := image.Pt((cells.Max.X+side-1)/side, (cells.Max.Y+side-1)/side)
	whole := gather.Grid{
		Light:  raster.NewImage(image.Rect(side*first.X, side*first.Y, side*last.X, side*last.Y)),
		Detail: raster.NewImage(image.Rect(side*first.X, side*first.Y, side*last.X, side*last.Y)),
	}
	for j := first.Y; j < last.Y; j++ {
		for i := first.X; i < last.X; i++ {
			b, err := e.gridBlock(ctx, gridInput{n, out, image.Pt(i, j)})
			if err != nil {
				return nil, err
			}
			whole.Light.Paste(b.Light)
			whole.Detail.Paste(b.Detail)
		}
	}
	return &whole, nil
}

func (e *Evaluator) gridBlock(ctx context.Context, in gridInput) (*gather.Grid, error) {
	return memo.Do(ctx, e.Cache, environment{e}, in, averagedBlock)
}

func averagedBlock(ctx context.Context, e environment, in gridInput) (*gather.Grid, error) {
	const side = gridBlock * gather.Cell
	at := in.Block.Mul(side)
	part := image.Rect(at.X, at.Y, at.X+side, at.Y+side).Intersect(e.Plate.Size())
	out := gather.NewGrid(part)
	if part.Empty() {
		return out, nil
	}
	plate, beyond, err := e.helper(ctx, in.Frame, part)
	if err != nil || beyond {
		return out, err
	}
	hides := func(int, int) bool { return false }
	if in.Out != nil {
		hidden, err := in.Out.hidden(ctx, e.Evaluator, false)
		if err != nil {
			return nil, err
		}
		hides = hidden.at
	}
	out.Add(plate.Crop(part), hides)
	return out, nil
}
