package render

import (
	"context"
	"image"

	"jardin/core/raster"
	"jardin/core/warp"
)

// An alphaInput is what is marked on a frame, or what was gathered there.
type alphaInput struct {
	View     View
	Removals []alphaOf
}

// An alphaOf is one removal's.
type alphaOf struct {
	Matte  *marking // nil: it does not matter what is marked
	Layers []*gatheredLayer
}

// alphaOn gathers the alphas of all removals on frame n, or of one; nil where there are none.
func (t *Treatment) alphaOn(n int, view View, only string) *alphaInput {
	out := &alphaInput{View: view}
	for _, r := range t.removals {
		if only != "" && r.doc.ID != only || !r.visible(n) {
			continue
		}
		var of alphaOf
		if view != GatheredView {
			m := r.matte(n)
			of.Matte = &m
		}
		if view != MarkedView {
			for i := range r.sources {
				if l := r.gatheredLayer(i, n); l != nil {
					of.Layers = append(of.Layers, l)
				}
			}
			if len(of.Layers) == 0 {
				continue
			}
		}
		out.Removals = append(out.Removals, of)
	}
	if len(out.Removals) == 0 {
		return nil
	}
	return out
}

// evaluate makes the view, white on black, and its coverage.
func (in *alphaInput) evaluate(ctx context.Context, e *Evaluator) (*Result, error) {
	size := e.Plate.Size()
	var parts []*raster.Plane
	var all image.Rectangle
	for i := range in.Removals {
		of := &in.Removals[i]
		var marked *raster.Plane
		if of.Matte != nil {
			var err error
			if marked, err = of.Matte.cover(ctx, e, size); err != nil {
				return nil, err
			}
		}
		if in.View == MarkedView {
			parts, all = append(parts, marked), all.Union(marked.Rect)
			continue
		}
		for _, l := range of.Layers {
			found, err := l.found(ctx, e, size)
			if err != nil {
				return nil, err
			}
			if marked != nil {
				found = found.Crop(found.Rect.Intersect(marked.Rect))
				times(found, marked, false)
			}
			parts, all = append(parts, found), all.Union(found.Rect)
		}
	}
	out := &Result{raster.NewImage(all), raster.NewPlane(all)}
	for _, p := range parts {
		out.Coverage.Max(p)
	}
	touched := raster.NewPlane(all)
	shade(MatteView, out.Image, out.Coverage, touched)
	for i, v := range touched.Pix {
		out.Pix[4*i+3] = v
	}
	return out, nil
}

// found returns where clean pixels were found, on the frame to which they are brought, 0 to 1.
func (l *gatheredLayer) found(ctx context.Context, e *Evaluator, size image.Rectangle) (*raster.Plane, error) {
	clean, err := l.clean(ctx, e)
	if err != nil {
		return nil, err
	}
	out := raster.NewPlane(image.Rectangle{})
	back, ok := l.Map.Inverse()
	if !ok || clean.Picture.Rect.Empty() {
		return out, nil
	}
	carried := warp.Image(clean.Picture, back, raster.Around(l.Map.Bounds(boxOf(clean.Picture.Rect)), 0, size))
	out = raster.NewPlane(carried.Rect)
	for i := range out.Pix {
		out.Pix[i] = min(max(carried.Pix[4*i+3], 0), 1)
	}
	return out, nil
}
