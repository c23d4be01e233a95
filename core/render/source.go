package render

import (
	"context"
	"errors"
	"fmt"
	"image"
	"slices"

	"jardin/core/colorspace"
	"jardin/core/fill"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// Sources of clean pixels: what all kinds of them have in common. Each kind has a file of its
// own, in which it is gathered and evaluated, and a line in sourceKinds.

// A sourceKind gathers the sources of one kind.
type sourceKind interface {
	// frame is the one in whose coordinates the source is; 0 where it has none.
	frame(s *treatment.Source) int
	// gather returns what the removal's source i lays on frame n, settled or as it was painted;
	// nil for nothing. With where, that is all it lies on.
	gather(r *removal, i, n int, settled bool) (in sourceLayer, where *marking)
	// held returns whether what source i lays on frame n is held still, so that it is settled,
	// and the paint it consists of; nil for none.
	held(r *removal, i, n int) (paint *memo.Keyed[layerInput], ok bool)
	// easel returns what a live stroke on source i, which may not be there yet, is painted on.
	easel(ctx context.Context, e *Evaluator, r *removal, i, n int) (*fill.Canvas, error)
}

var sourceKinds = map[string]sourceKind{
	treatment.HeldPlate:  plateKind{},
	treatment.Travelling: travelKind{},
	treatment.Beside:     neighbourKind{},
	treatment.Supplied:   pieceKind{},
	treatment.Gathered:   gatheredKind{},
	treatment.Grown:      grownKind{},
	treatment.Spread:     spreadKind{},
	treatment.Evened:     evenedKind{},
	treatment.Toned:      tonedKind{},
}

// unpainted is of kinds that cannot be painted on.
type unpainted struct{}

func (unpainted) easel(context.Context, *Evaluator, *removal, int, int) (*fill.Canvas, error) {
	return nil, errors.New("it cannot be painted on; choose a clean plate, or paint that travels")
}

// A sourceLayer is what a source lays on a frame: a value that holds all that its pixels
// depend on besides the plate, so that its key can be derived from it.
type sourceLayer interface {
	// bounds returns what of a frame it may cover, and reach what of the frame must be
	// composited below it, beyond what is wanted.
	bounds(in *sourceInput, size image.Rectangle) image.Rectangle
	reach(size image.Rectangle) image.Rectangle
	// composite lays it over what lies below.
	composite(ctx context.Context, e *Evaluator, in *sourceInput, n int, out *filling) error
}

// A fillInput is sources in order, as they are on a frame. What they make is premultiplied.
type fillInput struct {
	Frame   int
	Sources []sourceInput
}

// A sourceInput is one of them.
type sourceInput struct {
	Weight float64
	Where  *marking    // nil for everywhere
	Solid  bool        // whatever Where covers at all counts in full
	Lay    string      // only where it is darker, or lighter, than what lies below; empty for everywhere
	Trust  *trustInput // nil for everywhere
	Layer  sourceLayer
	Below  string        // names what it looks at besides the plate; empty for nothing
	Name   string        `memo:"-"`
	below  *below        `memo:"-"`
	at     *raster.Plane `memo:"-"` // Where and Trust, once they were worked out
}

// fill gathers the first upTo sources of the removal on frame n, settled or as they were
// painted.
func (r *removal) fill(upTo, n int, settled bool) fillInput {
	out := fillInput{Frame: n}
	for i := range r.sources[:upTo] {
		if in, ok := r.source(i, n, settled); ok {
			out.Sources = append(out.Sources, in)
		}
	}
	return out
}

// source gathers one source on frame n; ok is false where it lays nothing.
func (r *removal) source(i, n int, settled bool) (in sourceInput, ok bool) {
	s := r.sources[i]
	in = sourceInput{
		Weight: s.Weight(n),
		Name:   fmt.Sprintf("%q of %q", s.Name, r.doc.Name),
		Lay:    s.Lay,
	}
	if where := r.optional(s.Where, n); where != nil {
		in.Where = &marking{Outlines: *where}
	}
	if in.Weight == 0 {
		return in, false
	}
	if s.GiveWay {
		in.Trust = r.trust(n)
	}
	if in.below = r.below(i); in.below != nil {
		in.Below = in.below.key()
	}
	var only *marking
	in.Layer, only = s.kind.gather(r, i, n, settled)
	if only != nil && in.Where == nil {
		in.Where, in.Solid = only, true
	}
	return in, in.Layer != nil
}

// topHeld returns the last source that is held on frame n, and its layer; -1 for none.
func (r *removal) topHeld(n int) (i int, layer *memo.Keyed[layerInput]) {
	for i := len(r.sources) - 1; i >= 0; i-- {
		if _, ok := r.source(i, n, false); !ok {
			continue
		}
		if paint, ok := r.sources[i].kind.held(r, i, n); ok {
			return i, paint
		}
	}
	return -1, nil
}

// bounds returns what of a frame the sources may cover.
func (in *fillInput) bounds(size image.Rectangle) (out image.Rectangle) {
	for i := range in.Sources {
		s := &in.Sources[i]
		out = out.Union(s.Layer.bounds(s, size))
	}
	return out
}

func boxOf(rect image.Rectangle) geom.Box {
	return geom.Box{Min: geom.Pt(float64(rect.Min.X), float64(rect.Min.Y)), Max: geom.Pt(float64(rect.Max.X),
		float64(rect.Max.Y))}
}

// A filling is what sources make on a frame: premultiplied, transparent where they
// say nothing, and the share of each pixel that is held still, premultiplied.
type filling struct {
	*raster.Image
	still *raster.Plane
}

// placed returns the sources with where they count worked out.
func (in *fillInput) placed(ctx context.Context, e *Evaluator) (*fillInput, error) {
	out := &fillInput{in.Frame, slices.Clone(in.Sources)}
	for i := range out.Sources {
		s := &out.Sources[i]
		if s.at != nil {
			continue
		}
		if s.Where != nil {
			var err error
			if s.at, err = s.Where.cover(ctx, e, e.Plate.Size()); err != nil {
				return nil, fmt.Errorf("%s on frame %d: %w", s.Name, in.Frame, err)
			}
		}
		if s.Trust == nil {
			continue
		}
		if s.at == nil {
			s.at = raster.NewPlane(s.Layer.bounds(s, e.Plate.Size()))
			for k := range s.at.Pix {
				s.at.Pix[k] = 1
			}
		}
		if s.Solid {
			s.at, s.Solid = solid(s.at), false
		}
		s.at = s.Trust.times(s.at)
	}
	return out, nil
}

// fill lays sources one over the other, and returns what they make in rect.
func (e *Evaluator) fill(ctx context.Context, in *fillInput, rect image.Rectangle) (*filling, error) {
	in, err := in.placed(ctx, e)
	if err != nil {
		return nil, err
	}
	region := rect
	for i := range in.Sources {
		region = region.Union(in.Sources[i].Layer.reach(e.Plate.Size()))
	}
	out := &filling{raster.NewImage(region), raster.NewPlane(region)}
	for i := range in.Sources {
		s := &in.Sources[i]
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		under := out
		if s.Lay != "" {
			under = &filling{out.Crop(region), out.still.Crop(region)}
		}
		err := s.Layer.composite(ctx, e.seenFrom(s.below), s, in.Frame, out)
		if err == nil && s.Lay != "" {
			err = e.keep(ctx, in.Frame, s.Lay, under, out)
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

// keep takes back, pixel by pixel, what did not make the frame darker, or lighter.
func (e *Evaluator) keep(ctx context.Context, n int, lay string, below, out *filling) error {
	plate, err := e.Plate.Linear(ctx, n, out.Rect)
	if err != nil {
		return err
	}
	over := func(m, p []float32) float32 {
		rest := 1 - m[3]
		return colorspace.Luma(m[0]+rest*p[0], m[1]+rest*p[1], m[2]+rest*p[2])
	}
	raster.Rows(out.Rect.Min.Y, out.Rect.Max.Y, func(y int) {
		was, is := below.Row(y, out.Rect.Min.X, out.Rect.Max.X), out.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		stillWas, still := below.still.Row(y, out.Rect.Min.X, out.Rect.Max.X), out.still.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		for i := 0; i < len(is); i += 4 {
			p := plate.At(out.Rect.Min.X+i/4, y)
			before, after := over(was[i:i+4], p[:]), over(is[i:i+4], p[:])
			if (lay == treatment.Darken) != (after < before) || after == before {
				copy(is[i:i+4], was[i:i+4])
				still[i/4] = stillWas[i/4]
			}
		}
	})
	return nil
}

// where returns where the source counts; nil for everywhere.
func (s *sourceInput) where(within image.Rectangle) *raster.Plane {
	if s.at == nil {
		return nil
	}
	out := s.at.Crop(s.at.Rect.Intersect(within))
	if s.Solid {
		return solid(out)
	}
	return out
}

// over lays a premultiplied picture over another, where the source counts. still is
// the share of it that is held.
func (s *sourceInput) over(out *filling, src *raster.Image, still float32) {
	s.overBy(out, src, func(int, int) float32 { return still })
}

// overMoving is over for what has so much of the grain's standard deviation, another on each frame; nil for none.
func (s *sourceInput) overMoving(out *filling, src *raster.Image, grain *raster.Plane) {
	if grain == nil {
		s.over(out, src, 1)
		return
	}
	s.overBy(out, src, func(x, y int) float32 { return 1 - grain.At(x, y) })
}

func (s *sourceInput) overBy(out *filling, src *raster.Image, still func(x, y int) float32) {
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
			to, p := dst[i:i+4:i+4], from[i:i+4:i+4]
			rest := 1 - k*p[3]
			for c, v := range p {
				to[c] = v*k + to[c]*rest
			}
			held[i/4] = still(both.Min.X+i/4, y)*k*p[3] + held[i/4]*rest
		}
	})
}

// lay lays what is held over others where the source counts: carry brings it to a part of the
// frame, in which it takes up no more than bounds. It is settled if it is said how.
func (s *sourceInput) lay(
	ctx context.Context,
	e *Evaluator,
	in *settleInput,
	bounds geom.Box,
	carry func(image.Rectangle) *raster.Image,
	out *filling,
) error {
	if in == nil {
		s.over(out, carry(raster.Around(bounds, 3, out.Rect)), 1)
		return nil
	}
	carried, err := e.settle(ctx, in, raster.Around(bounds, 40, out.Rect), carry)
	if err == nil {
		s.over(out, carried, 1)
	}
	return err
}

func (e *Evaluator) picture(ctx context.Context, p *treatment.Picture) (*raster.Image, error) {
	if e.Pictures == nil {
		return nil, fmt.Errorf("the picture %q cannot be read here", p.Name)
	}
	return e.Pictures(ctx, p)
}
