package render

import (
	"context"
	"errors"
	"fmt"
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/grow"
	"jardin/core/matte"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// grownKind is clean pixels that are made of what lies around.
type grownKind struct{ unpainted }

func (grownKind) frame(s *treatment.Source) int { return s.Grown.Frame }

func (grownKind) held(*removal, int, int) (*memo.Keyed[layerInput], bool) { return nil, true }

func (grownKind) gather(r *removal, i, n int, settled bool) (sourceLayer, *marking) {
	s := r.sources[i].Grown
	m := r.mapping("", s.Frame, n)
	if m == nil {
		return nil, nil
	}
	return r.carried(i, n, settled, "", m, grownPixels{r.growth(s)}, false)
}

type grownPixels struct{ In *memo.Keyed[growthInput] }

func (in grownPixels) made(ctx context.Context, e *Evaluator) (*raster.Image, *raster.Plane, error) {
	m, err := memo.Do(ctx, e.Cache, environment{e}, in.In, grownOn)
	return m, nil, err
}

// A growthInput is all that grown pixels depend on.
type growthInput struct {
	Hole holeInput
	How  treatment.Growth
	// Around are brought into place by the track, and help to take the grain out.
	Around []neighbourFrame
	Plane  []geom.Point // the corners of the surface's region on the frame; nil for as the frame is
}

func (r *removal) growth(s *treatment.Growth) *memo.Keyed[growthInput] {
	return keyedOf(r, s, func() growthInput {
		in := growthInput{Hole: r.hole(s.Frame), How: *s, Around: r.around(s.Frame, grainFrames, 1, "", nowhere)}
		if m := r.motions.Motion(r.doc.Follow.Track); s.Flat && m != nil && len(m.Track.Region) == 4 {
			if toHere := r.mapping("", m.Track.Home, s.Frame); toHere != nil {
				in.Plane = warp.ApplyAll(toHere, treatment.Points(m.Track.Region))
			}
		}
		return in
	})
}

// errHoleTooLarge says what to do where nothing can be grown.
var errHoleTooLarge = errors.New("nothing around what is marked can be taken to grow it from: draw a larger area to take " +
	"from, or mark less")

// grownMargin is how far around a hole is looked for patches.
func grownMargin(hole image.Rectangle) int { return min(max(150, hole.Dx(), hole.Dy()), 400) }

func grownOn(ctx context.Context, e environment, keyed *memo.Keyed[growthInput]) (*raster.Image, error) {
	in := &keyed.Value
	margin := grownMargin
	if len(in.How.From) > 0 { // all of where may be taken from is looked at
		var corners []geom.Point
		for _, p := range in.How.From {
			corners = append(corners, treatment.Points(p)...)
		}
		from := geom.Bounds(corners)
		margin = func(hole image.Rectangle) int {
			far := math.Max(math.Max(float64(hole.Min.X)-from.Min.X, from.Max.X-float64(hole.Max.X)),
				math.Max(float64(hole.Min.Y)-from.Min.Y, from.Max.Y-float64(hole.Max.Y)))
			return max(32, int(math.Min(far, 1e5)))
		}
	}
	hole, beside, err := in.Hole.cover(ctx, e.Evaluator, margin)
	if err != nil || hole.Rect.Empty() || !e.Plate.Has(in.Hole.Frame) {
		return raster.NewImage(image.Rectangle{}), err
	}
	if err := tooLarge(hole); err != nil {
		return nil, err
	}
	if n := hole.Rect.Dx() * hole.Rect.Dy(); n > mostFlat {
		return nil, fmt.Errorf("the areas to take from reach over %d pixels, %d at most can be looked at: draw them nearer", n, mostFlat)
	}
	bare, err := e.grainless(ctx, in.Hole.Frame, in.Around, hole.Rect)
	if err != nil {
		return nil, err
	}
	request := &grow.Request{
		Picture: bare, Hole: hole, From: in.from(hole.Rect, beside),
		Feature: in.How.Feature, Longest: in.How.Longest, Seed: uint64(in.How.Seed), //nolint:gosec // it is not negative
	}
	for _, g := range in.How.Guides {
		request.Guides = append(request.Guides, treatment.Points(g))
	}
	made, err := in.grow(ctx, request)
	switch {
	case errors.Is(err, grow.ErrNothingToTake), errors.Is(err, grow.ErrNoRoom):
		return nil, errHoleTooLarge
	case err != nil:
		return nil, err
	}
	return cutOut(made, laidOn(hole)), nil
}

// grainFrames is how many frames before and after help to take grain out.
const grainFrames = 4

// grainless returns a part of a frame without its grain, with the help of frames around it.
func (e *Evaluator) grainless(ctx context.Context, n int, around []neighbourFrame, part image.Rectangle) (*raster.Image, error) {
	plate, err := e.Plate.Linear(ctx, n, part)
	if err != nil {
		return nil, err
	}
	plate = plate.Crop(part)
	denoiser := settle.NewTemporalDenoiser(plate, [3]float64{})
	err = e.gather(ctx, around, part, func(_ int, carried *raster.Image, _ *raster.Plane) { denoiser.Add(carried) })
	if err != nil {
		return nil, err
	}
	return denoiser.Denoise(plate, [3]float64{1, 1, 1}), nil
}

// from returns 1 where may be taken from.
func (in *growthInput) from(rect image.Rectangle, beside *raster.Plane) *raster.Plane {
	from := raster.NewPlane(rect)
	for _, p := range in.How.From {
		from.Max(matte.Coverage(treatment.Points(p), rect))
	}
	for i, v := range beside.Pix {
		switch {
		case v > 0:
			from.Pix[i] = 0
		case len(in.How.From) == 0:
			from.Pix[i] = 1
		}
	}
	return from
}

// grow grows on the frame, or in the surface's own plane.
func (in *growthInput) grow(ctx context.Context, r *grow.Request) (*raster.Image, error) {
	if in.Plane == nil {
		return grow.Grow(ctx, r)
	}
	onFrame, region, err := flatOf(in.Plane, r.Hole)
	if err != nil {
		return nil, err
	}
	toFlat, ok := onFrame.Inverse()
	if !ok {
		return nil, fmt.Errorf("the corners of the surface lie in line")
	}
	flat := *r
	flat.Picture = raster.Warp(r.Picture, onFrame, region)
	flat.Hole, flat.From = raster.WarpPlane(r.Hole, onFrame, region), raster.WarpPlane(r.From, onFrame, region)
	for i := range flat.From.Pix {
		if flat.Picture.Pix[4*i+3] < 0.999 {
			flat.From.Pix[i] = 0
		}
		if flat.Hole.Pix[i] < 0.01 {
			flat.Hole.Pix[i] = 0
		}
	}
	flat.Guides = nil
	for _, g := range r.Guides {
		flat.Guides = append(flat.Guides, warp.ApplyAll(warp.Of(toFlat), g))
	}
	made, err := grow.Grow(ctx, &flat)
	if err != nil {
		return nil, err
	}
	back := raster.Warp(made, toFlat, r.Hole.Rect)
	out := r.Picture.Crop(r.Hole.Rect)
	for i, v := range r.Hole.Pix {
		if v > 0 && back.Pix[4*i+3] > 0.5 {
			for c := range 3 {
				out.Pix[4*i+c] = back.Pix[4*i+c] / back.Pix[4*i+3]
			}
		}
	}
	return out, nil
}

// mostFlat is how large a plane may come out that is seen from the side, in pixels.
const mostFlat = 4_000_000

// flatOf returns how a plane that is seen straight on lies on the frame, at the scale that it has where the hole is,
// and the part of it that the hole's surroundings come to.
func flatOf(corners []geom.Point, hole *raster.Plane) (onFrame geom.Homography, region image.Rectangle, err error) {
	w := (corners[0].Dist(corners[1]) + corners[3].Dist(corners[2])) / 2
	h := (corners[0].Dist(corners[3]) + corners[1].Dist(corners[2])) / 2
	straight := []geom.Point{{}, {X: w}, {X: w, Y: h}, {Y: h}}
	onFrame, err = geom.Fit(geom.Perspective, straight, corners, nil)
	if err != nil {
		return onFrame, region, fmt.Errorf("the corners of the surface cannot be laid flat: %w", err)
	}
	back, ok := onFrame.Inverse()
	middle := boxOf(cutBox(hole)).Centre()
	at := back.Apply(middle)
	if !ok || !at.Finite() || !warp.Of(onFrame).Sees(at) {
		return onFrame, region, errors.New("what is marked does not lie on the surface's plane: follow the surface that it is on")
	}
	k := 1 / onFrame.Scale(at)
	onFrame = onFrame.Mul(geom.Homography{k, 0, 0, 0, k, 0, 0, 0, 1})
	back, _ = onFrame.Inverse()
	box := warp.Of(back).Bounds(boxOf(cutBox(hole)))
	if !(box.Max.X-box.Min.X < 4000 && box.Max.Y-box.Min.Y < 4000) {
		return onFrame, region, errors.New("the surface is seen too much from the side to be laid flat there")
	}
	inner := raster.Around(box, 2, image.Rect(-1<<20, -1<<20, 1<<20, 1<<20))
	region = inner.Inset(-grownMargin(inner))
	if region.Dx()*region.Dy() > mostFlat {
		return onFrame, region, errors.New("what is marked is too large to be grown in the surface's plane")
	}
	return onFrame, region, nil
}
