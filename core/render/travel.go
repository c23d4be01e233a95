package render

import (
	"context"
	"image"

	"jardin/core/fill"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// A travelInput is strokes that are painted on a frame's own pixels.
type travelInput struct {
	Strokes []strokeInput
}

// travelKind is strokes that are painted on every frame anew.
type travelKind struct{}

func (travelKind) frame(*treatment.Source) int { return 0 }

func (travelKind) held(*removal, int, int) (*memo.Keyed[layerInput], bool) { return nil, false }

func (travelKind) gather(r *removal, i, n int, _ bool) (sourceLayer, *marking) {
	s := r.sources[i]
	out := &travelInput{}
	for _, st := range s.on(n) {
		if in := r.stroke(st, n); in.Map != nil { // else it was not followed to there
			out.Strokes = append(out.Strokes, in)
		}
	}
	if len(out.Strokes) == 0 {
		return nil, nil
	}
	return out, nil
}

func (travelKind) easel(ctx context.Context, e *Evaluator, r *removal, i, n int) (*fill.Canvas, error) {
	plate, err := e.Plate.Linear(ctx, n, e.Plate.Size())
	if err != nil {
		return nil, err
	}
	c := fill.NewCanvas(plate)
	in := r.fill(min(i+1, len(r.sources)), n, false)
	below, err := e.fill(ctx, &in, e.Plate.Size())
	if err != nil {
		return nil, err
	}
	c.Load(below.Image)
	return c, nil
}

func (in *travelInput) bounds(_ *sourceInput, size image.Rectangle) (out image.Rectangle) {
	for i := range in.Strokes {
		st := &in.Strokes[i]
		out = out.Union(raster.Around(st.Map.Bounds(st.Box), 2, size))
	}
	return out
}

// reach covers what strokes may copy.
func (in *travelInput) reach(size image.Rectangle) (out image.Rectangle) {
	for i := range in.Strokes {
		st := &in.Strokes[i]
		around := 2 + readsBeyond(st.Stroke)*max(1, st.Map.Scale(st.Box.Centre()))
		out = out.Union(raster.Around(st.Map.Bounds(st.Box), around, size))
		if st.Stroke.From != nil && st.Stroke.From.Frame == nil {
			out = out.Union(raster.Around(st.Map.Bounds(originOf(st.Stroke, st.Box)), around+1, size))
		}
	}
	return out
}

// composite paints strokes on a frame's own pixels.
func (in *travelInput) composite(ctx context.Context, e *Evaluator, s *sourceInput, n int, out *filling) error {
	plate, err := e.Plate.Linear(ctx, n, out.Rect)
	if err != nil {
		return err
	}
	if plate.Rect != out.Rect {
		plate = plate.Crop(out.Rect)
	}
	c := fill.NewCanvas(plate)
	c.Load(out.Image)
	// Plain colour and blurred pixels have no grain of their own.
	still := float32(1)
	for i := range in.Strokes {
		st := &in.Strokes[i]
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := e.paintStroke(ctx, c, st, n); err != nil {
			return err
		}
		if st.Stroke.Mode != string(fill.Colour) && st.Stroke.Mode != string(fill.Soften) {
			still = 0
		}
	}
	where, made := s.where(out.Rect), c.View(out.Rect)
	for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
		dst, src := out.Row(y, out.Rect.Min.X, out.Rect.Max.X), made.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		held := out.still.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		for i := 0; i < len(dst); i += 4 {
			if [4]float32(dst[i:]) == [4]float32(src[i:]) {
				continue
			}
			k := float32(s.Weight)
			if where != nil {
				k *= where.At(out.Rect.Min.X+i/4, y)
			}
			for c := range 4 {
				dst[i+c] += (src[i+c] - dst[i+c]) * k
			}
			held[i/4] += (still*src[i+3] - held[i/4]) * k
		}
	}
	return nil
}
