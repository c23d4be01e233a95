package render

import (
	"context"
	"fmt"
	"image"
	"math"

	"jardin/core/fill"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// bounds returns what of a frame the sources may cover.
func (in *fillInput) bounds(size image.Rectangle) (out image.Rectangle) {
	for i := range in.Sources {
		out = out.Union(in.Sources[i].bounds(size))
	}
	return out
}

func (s *sourceInput) bounds(size image.Rectangle) (out image.Rectangle) {
	add := func(w warp.Mapping, b geom.Box, margin float64) {
		out = out.Union(raster.Around(w.Bounds(b), margin, size))
	}
	switch {
	case s.Neighbour != nil:
		return s.Where.cover(size).Rect
	case s.Piece != nil:
		add(s.Piece.Map, geom.Bounds(treatment.Points(s.Piece.Corners)), 3)
	case s.Held != nil:
		for i := range s.Held.Layers {
			l := &s.Held.Layers[i]
			if l.All {
				add(l.Map, boxOf(size), 2)
			}
			for _, b := range l.Boxes {
				add(l.Map, b, 2)
			}
		}
	case s.Travel != nil:
		for i := range s.Travel.Strokes {
			st := &s.Travel.Strokes[i]
			add(st.Map, st.Box, 2)
		}
	}
	return out
}

func boxOf(r image.Rectangle) geom.Box {
	return geom.Box{Min: geom.Pt(float64(r.Min.X), float64(r.Min.Y)), Max: geom.Pt(float64(r.Max.X), float64(r.Max.Y))}
}

// A filling is what sources make on a frame: premultiplied, transparent where they
// say nothing, and the share of each pixel that is held still, premultiplied.
type filling struct {
	*raster.Image
	still *raster.Plane
}

// fill lays sources one over the other, and returns what they make in rect.
func (e *Evaluator) fill(ctx context.Context, in *fillInput, rect image.Rectangle) (*filling, error) {
	// Travelling strokes may copy what lies beyond.
	region := rect
	for i := range in.Sources {
		if t := in.Sources[i].Travel; t != nil {
			for k := range t.Strokes {
				st := &t.Strokes[k]
				w := st.Map
				region = region.Union(raster.Around(w.Bounds(st.Box), 2, e.Plate.Size()))
				if st.Stroke.From != nil && st.Stroke.From.Frame == nil {
					region = region.Union(raster.Around(w.Bounds(originOf(st.Stroke, st.Box)), 3, e.Plate.Size()))
				}
			}
		}
	}
	out := &filling{raster.NewImage(region), raster.NewPlane(region)}
	for i := range in.Sources {
		s := &in.Sources[i]
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		var err error
		switch {
		case s.Held != nil:
			err = e.held(ctx, s, out)
		case s.Travel != nil:
			err = e.travel(ctx, s, in.Frame, out)
		case s.Neighbour != nil:
			err = e.neighbour(ctx, s, in.Frame, out)
		case s.Piece != nil:
			err = e.piece(ctx, s, out)
		}
		if err != nil {
			return nil, fmt.Errorf("%s on frame %d: %w", s.Name, in.Frame, err)
		}
	}
	if region != rect {
		out = &filling{out.Crop(rect), out.still.Crop(rect)}
	}
	return out, nil
}

// where returns where the source counts; nil for everywhere.
func (s *sourceInput) where(within image.Rectangle) *raster.Plane {
	if s.Where == nil {
		return nil
	}
	out := s.Where.cover(within)
	if s.Solid {
		for i, v := range out.Pix {
			if v > 0 {
				out.Pix[i] = 1
			}
		}
	}
	return out
}

// over lays a premultiplied picture over another, where the source counts. still is
// the share of it that is held.
func (s *sourceInput) over(out *filling, src *raster.Image, still float32) {
	where, weight := s.where(src.Rect), float32(s.Weight)
	both := out.Rect.Intersect(src.Rect)
	raster.Rows(both.Min.Y, both.Max.Y, func(y int) {
		dst, from := out.Row(y, both.Min.X, both.Max.X), src.Row(y, both.Min.X, both.Max.X)
		held := out.still.Row(y, both.Min.X, both.Max.X)
		for i := 0; i < len(dst); i += 4 {
			k := weight
			if where != nil {
				k *= where.At(both.Min.X+i/4, y)
			}
			if k == 0 || from[i+3] == 0 {
				continue
			}
			rest := 1 - k*from[i+3]
			for c := range 4 {
				dst[i+c] = from[i+c]*k + dst[i+c]*rest
			}
			held[i/4] = still*k*from[i+3] + held[i/4]*rest
		}
	})
}

func (e *Evaluator) picture(ctx context.Context, p *treatment.Picture) (*raster.Image, error) {
	if e.Pictures == nil {
		return nil, fmt.Errorf("the picture %q cannot be read here", p.Name)
	}
	return e.Pictures(ctx, p)
}

// held lays a clean plate: what was painted on its frame, carried.
func (e *Evaluator) held(ctx context.Context, s *sourceInput, out *filling) error {
	for i := range s.Held.Layers {
		l := &s.Held.Layers[i]
		back, ok := l.Map.Inverse()
		if !ok {
			return fmt.Errorf("the track cannot be inverted")
		}
		layer, err := e.layer(ctx, l.Layer)
		if err != nil {
			return err
		}
		if layer.Rect.Empty() {
			continue
		}
		reach := raster.Around(l.Map.Bounds(boxOf(layer.Rect)), 2, out.Rect)
		laid := warp.Image(layer, back, reach)
		if l.Settle != nil && !reach.Empty() {
			colour, err := e.follow(ctx, l.Settle, reach, nil)
			if err != nil {
				return err
			}
			// The paint's own edge stays where it is.
			raster.Rows(reach.Min.Y, reach.Max.Y, func(y int) {
				row, own := laid.Row(y, reach.Min.X, reach.Max.X), colour.Row(y, reach.Min.X, reach.Max.X)
				for k := 0; k < len(row); k += 4 {
					row[k], row[k+1], row[k+2] = own[k]*row[k+3], own[k+1]*row[k+3], own[k+2]*row[k+3]
				}
			})
		}
		s.over(out, laid, 1)
	}
	return nil
}

// travel paints strokes on a frame's own pixels.
func (e *Evaluator) travel(ctx context.Context, s *sourceInput, n int, out *filling) error {
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
	for i := range s.Travel.Strokes {
		st := &s.Travel.Strokes[i]
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := e.lay(ctx, c, st, n); err != nil {
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

// neighbour lays the frame's own pixels from an offset: light, focus and grain are
// right by themselves.
func (e *Evaluator) neighbour(ctx context.Context, s *sourceInput, n int, out *filling) error {
	in := s.Neighbour
	at := func(p geom.Point) geom.Point { return p.Add(in.Offset) }
	if w := in.Map; w != nil {
		back, ok := w.Inverse()
		if !ok {
			return fmt.Errorf("the track cannot be inverted")
		}
		at = func(p geom.Point) geom.Point { return w.Apply(back.Apply(p).Add(in.Offset)) }
	}
	size := e.Plate.Size()
	if in.Crisp {
		middle := boxOf(size).Centre()
		if in.Centre {
			middle = in.Middle
		}
		d := at(middle).Sub(middle)
		by := image.Pt(int(math.Round(d.X)), int(math.Round(d.Y)))
		from := out.Rect.Add(by).Intersect(size)
		if from.Empty() {
			return nil
		}
		plate, err := e.Plate.Linear(ctx, n, from)
		if err != nil {
			return err
		}
		moved := plate.Crop(from)
		moved.Rect = moved.Rect.Sub(by)
		s.over(out, moved, 0)
		return nil
	}
	var edge []geom.Point
	for _, p := range boxOf(out.Rect.Inset(-1)).Corners() {
		edge = append(edge, at(p))
	}
	from := raster.Around(geom.Bounds(edge), 4, size)
	if from.Empty() {
		return nil
	}
	plate, err := e.Plate.Linear(ctx, n, from)
	if err != nil {
		return err
	}
	s.over(out, raster.WarpBy(plate, at, out.Rect), 0)
	return nil
}

// piece lays a supplied picture by its corners.
func (e *Evaluator) piece(ctx context.Context, s *sourceInput, out *filling) error {
	in := s.Piece
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
		picture = raster.GaussianImage(picture, math.Min(0.45*math.Sqrt(shrink*shrink-1), float64(picture.Rect.Dx()+picture.Rect.Dy())))
	}
	onPicture := warp.Chain(back, warp.Of(lift))
	lay := func(reach image.Rectangle) *raster.Image { return warp.Image(picture, onPicture, reach) }
	bounds := w.Bounds(geom.Bounds(corners))
	if in.Settle == nil {
		s.over(out, lay(raster.Around(bounds, 3, out.Rect)), 1)
		return nil
	}
	// What it is compared with, to follow the light, is the frame on which it was placed.
	laid, err := e.follow(ctx, in.Settle, raster.Around(bounds, 40, out.Rect), lay)
	if err != nil {
		return err
	}
	s.over(out, laid, 1)
	return nil
}
