package render

import (
	"context"
	"fmt"
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// A pieceInput is a supplied picture that lies by its corners.
type pieceInput struct {
	Picture *memo.Keyed[treatment.Picture]
	Corners []treatment.Vec
	Map     warp.Mapping // from the frame on which the corners are given
	Settle  *settleInput
}

// pieceKind is supplied pictures that lie by their corners.
type pieceKind struct{ unpainted }

func (pieceKind) frame(s *treatment.Source) int { return s.Piece.Frame }

func (pieceKind) held(*removal, int, int) (*memo.Keyed[layerInput], bool) { return nil, true }

func (pieceKind) gather(r *removal, i, n int, settled bool) (sourceLayer, *marking) {
	s := r.sources[i].Piece
	m := r.mapping("", s.Frame, n)
	if m == nil || s.Picture == nil {
		return nil, nil
	}
	out := &pieceInput{Picture: r.picture(s.Picture), Corners: s.Corners, Map: m}
	if settled && r.settles() {
		out.Settle = r.settled(i, "", n, nil)
	}
	return out, nil
}

func (in *pieceInput) bounds(_ *sourceInput, size image.Rectangle) image.Rectangle {
	return raster.Around(in.Map.Bounds(geom.Bounds(treatment.Points(in.Corners))), 3, size)
}

func (in *pieceInput) reach(image.Rectangle) image.Rectangle { return image.Rectangle{} }

// composite lays a supplied picture by its corners.
func (in *pieceInput) composite(ctx context.Context, e *Evaluator, s *sourceInput, _ int, out *filling) error {
	w := in.Map
	back, ok := w.Inverse()
	if !ok {
		return fmt.Errorf("the track cannot be inverted")
	}
	picture, err := e.picture(ctx, &in.Picture.Value)
	if err != nil {
		return err
	}
	around, corners := boxOf(picture.Rect).Corners(), treatment.Points(in.Corners)
	place, err := geom.Fit(geom.Perspective, around[:], corners, nil)
	if err != nil {
		return err
	}
	lift, ok := place.Inverse()
	if !ok {
		return fmt.Errorf("its corners lie such that nothing can be laid there")
	}
	middle := boxOf(picture.Rect).Centre()
	if shrink := 1 / (place.Scale(middle) * w.Scale(place.Apply(middle))); shrink > 1.2 {
		// Made smaller, fine detail would flicker: it is blurred to what is left of it.
		picture = raster.GaussianImage(
			picture,
			math.Min(0.45*math.Sqrt(shrink*shrink-1), float64(picture.Rect.Dx()+picture.Rect.Dy())),
		)
	}
	onPicture := warp.Chain(back, warp.Of(lift))
	lay := func(reach image.Rectangle) *raster.Image { return warp.Image(picture, onPicture, reach) }
	// What it is compared with, to follow the light, is the frame on which it was placed.
	return s.lay(ctx, e, in.Settle, w.Bounds(geom.Bounds(corners)), lay, out)
}
