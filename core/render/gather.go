package render

import (
	"context"
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/warp"
)

// A neighbourFrame is a frame that is brought to another one.
type neighbourFrame struct {
	Frame int
	Map   warp.Mapping // from the frame that it is brought to
	Out   *occluders   // where it does not count; nil for nowhere
}

// around lists the frames up to so many before and after frame n, every so many, to which a
// track, or the removal's own, takes it.
func (r *removal) around(n, over, every int, ride string, out func(k int) *occluders) (frames []neighbourFrame) {
	for k := n - over/every*every; k <= n+over; k += every {
		if m := r.mapping(ride, n, k); k != n && m != nil {
			frames = append(frames, neighbourFrame{k, m, out(k)})
		}
	}
	return frames
}

// nowhere is what a frame is left out of whose every pixel counts.
func nowhere(int) *occluders { return nil }

// gather brings frames to a region of the one that they lie around, one after the other, and
// hands each to use with its place in the list: carried, and where it counts, that is, where it is in the picture and
// nothing hides it. counts holds 0 or 1 and is nil where all that is in the picture does. Frames
// beyond the shot, and those of which nothing lies in the region, are left out.
func (e *Evaluator) gather(
	ctx context.Context,
	frames []neighbourFrame,
	region image.Rectangle,
	use func(i int, carried *raster.Image, counts *raster.Plane),
) error {
	for i, f := range frames {
		if err := ctx.Err(); err != nil {
			return err
		}
		there := e.reached(f.Map, region)
		if there.Empty() {
			continue
		}
		frame, beyond, err := e.helper(ctx, f.Frame, there)
		if err != nil {
			return err
		}
		if beyond {
			continue
		}
		carried := warp.Image(frame, f.Map, region)
		if f.Out == nil {
			use(i, carried, nil)
			continue
		}
		hidden, err := f.Out.hidden(ctx, e, false)
		if err != nil {
			return err
		}
		use(i, carried, counting(carried, hidden, f.Map))
	}
	return nil
}

// reached returns the part of a frame that a mapping takes a region to, with room for
// interpolation: all of it where the region is not seen as a whole.
func (e *Evaluator) reached(m warp.Mapping, region image.Rectangle) image.Rectangle {
	box := boxOf(region)
	for _, c := range box.Corners() {
		if !m.Sees(c) {
			return e.Plate.Size()
		}
	}
	return raster.Around(m.Bounds(box), 4, e.Plate.Size())
}

// counting returns 1 where a carried picture is whole and what hides it on its own frame does
// not reach, 0 elsewhere.
func counting(carried *raster.Image, hidden *hiddenPixels, toFrame warp.Mapping) *raster.Plane {
	out := raster.NewPlane(carried.Rect)
	for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
		row := carried.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		for i := range out.Rect.Dx() {
			if row[4*i+3] < 0.999 {
				continue
			}
			q := toFrame.Apply(geom.Pt(float64(out.Rect.Min.X+i)+0.5, float64(y)+0.5))
			if !hidden.at(int(math.Floor(q.X)), int(math.Floor(q.Y))) {
				out.Pix[(y-out.Rect.Min.Y)*out.Rect.Dx()+i] = 1
			}
		}
	}
	return out
}
