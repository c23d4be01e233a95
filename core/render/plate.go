package render

import (
	"context"
	"fmt"
	"image"

	"jardin/core/fill"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// plateKind is clean plates: one frame, painted on and held.
type plateKind struct{}

func (plateKind) frame(s *treatment.Source) int { return s.Plate.Frame }

func (plateKind) gather(r *removal, i, n int, settled bool) (sourceLayer, *marking) {
	if in := r.heldPlate(i, n, settled); in != nil {
		return in, nil
	}
	return nil, nil
}

func (plateKind) held(r *removal, i, n int) (*memo.Keyed[layerInput], bool) {
	strokes := r.sources[i].on(n)
	alone := true
	for _, st := range strokes {
		alone = alone && st.Ride == ""
	}
	return r.layer(i, strokes, "", alone), true
}

func (plateKind) easel(ctx context.Context, e *Evaluator, r *removal, i, n int) (*fill.Canvas, error) {
	plate, err := e.bare(ctx, r.bare(n), e.Plate.Size())
	if err != nil {
		return nil, err
	}
	c := fill.NewCanvas(plate)
	in := r.fill(i, n, false)
	if err := e.under(ctx, &in, c, e.Plate.Size()); err != nil {
		return nil, err
	}
	if i < len(r.sources) {
		layer, err := e.seenFrom(r.below(i)).layer(ctx, r.layer(i, r.sources[i].strokes, "", true), e.Plate.Size())
		if err != nil {
			return nil, err
		}
		c.Load(layer)
	}
	return c, nil
}

// A heldInput is a clean plate carried to a frame: a layer for each track that its strokes
// ride on.
type heldInput struct {
	Layers []heldLayer
}

type heldLayer struct {
	Layer  *memo.Keyed[layerInput]
	Map    warp.Mapping // from the plate's own frame
	Settle *settleInput
	Boxes  []geom.Box `memo:"-"` // around what is painted, on the plate's own frame
	All    bool       `memo:"-"` // the whole frame is held
}

func (r *removal) heldPlate(i, n int, settled bool) *heldInput {
	s := r.sources[i]
	p := s.Plate
	var rides []string
	seen := map[string]bool{}
	add := func(ride string) {
		if !seen[ride] {
			seen[ride] = true
			rides = append(rides, ride)
		}
	}
	if p.Whole || p.Picture != nil {
		add("")
	}
	strokes := s.on(n)
	for _, st := range strokes {
		add(st.Ride)
	}
	out := &heldInput{}
	for _, ride := range rides {
		m := r.mapping(ride, p.Frame, n)
		if m == nil {
			continue
		}
		l := heldLayer{
			Layer: r.layer(i, strokes, ride, len(rides) == 1),
			Map:   m,
			All:   ride == "" && (p.Whole || p.Picture != nil),
		}
		for _, st := range strokes {
			if st.Ride == ride {
				l.Boxes = append(l.Boxes, st.box)
			}
		}
		if settled && r.settles() {
			l.Settle = r.settled(i, ride, n, l.Layer)
		}
		out.Layers = append(out.Layers, l)
	}
	if len(out.Layers) == 0 {
		return nil
	}
	return out
}

func (in *heldInput) bounds(_ *sourceInput, size image.Rectangle) (out image.Rectangle) {
	for i := range in.Layers {
		l := &in.Layers[i]
		if l.All {
			out = out.Union(raster.Around(l.Map.Bounds(boxOf(size)), 2, size))
		}
		for _, b := range l.Boxes {
			out = out.Union(raster.Around(l.Map.Bounds(b), 2, size))
		}
	}
	return out
}

func (in *heldInput) reach(image.Rectangle) image.Rectangle { return image.Rectangle{} }

// composite lays what was painted on its frame, carried.
func (in *heldInput) composite(ctx context.Context, e *Evaluator, s *sourceInput, _ int, out *filling) error {
	for i := range in.Layers {
		l := &in.Layers[i]
		back, ok := l.Map.Inverse()
		if !ok {
			return fmt.Errorf("the track cannot be inverted")
		}
		there, err := e.laid(ctx, l.Layer)
		if err != nil {
			return err
		}
		if there.bounds.Empty() {
			continue
		}
		reach := raster.Around(l.Map.Bounds(boxOf(there.bounds)), 2, out.Rect)
		if reach.Empty() {
			continue
		}
		from := back.Bounds(boxOf(reach)).Grow(4)
		var carried *raster.Image
		if l.Settle != nil && there.solid() && boxOf(there.bounds).Holds(from) {
			carried = raster.NewImage(reach) // its colour is settled, and it covers all
			for k := 3; k < len(carried.Pix); k += 4 {
				carried.Pix[k] = 1
			}
		} else {
			layer, err := there.part(ctx, e, raster.Around(from, 0, there.bounds))
			if err != nil {
				return err
			}
			carried = warp.Image(layer, back, reach)
		}
		if l.Settle != nil {
			colour, err := e.settle(ctx, l.Settle, reach, nil)
			if err != nil {
				return err
			}
			// The paint's own edge stays where it is.
			raster.Rows(reach.Min.Y, reach.Max.Y, func(y int) {
				row, own := carried.Row(y, reach.Min.X, reach.Max.X), colour.Row(y, reach.Min.X, reach.Max.X)
				for k := 0; k < len(row); k += 4 {
					row[k], row[k+1], row[k+2] = own[k]*row[k+3], own[k+1]*row[k+3], own[k+2]*row[k+3]
				}
			})
		}
		s.over(out, carried, 1)
	}
	return nil
}

// A layerInput is paint on a plate's own frame up to a stroke: what lies below that one, and
// the stroke. The first has a base in place of both.
type layerInput struct {
	Base   *baseInput
	Below  *memo.Keyed[layerInput]
	Stroke strokeInput
	Under  *memo.Keyed[fillInput] // the sources below, if the stroke reads them; nil for none
	Shared bool                   // it lies on the second layer as well, which takes only some of the strokes
}

// A baseInput is what lies on a plate before any stroke.
type baseInput struct {
	Bare    bareInput
	Whole   bool
	Picture *memo.Keyed[treatment.Picture]
	Some    bool // only some of the strokes are wanted: they lie on a second layer
	Shared  bool // the base lies on that as well
}

// layer gathers what lies on a plate's own frame of the given strokes, those of one ride.
// alone says that they have no other. Strokes that are not there may still be copied by
// others: all are painted, and those that count a second time on a layer of their own.
func (r *removal) layer(i int, there []*stroke, ride string, alone bool) *memo.Keyed[layerInput] {
	s := r.sources[i]
	p := s.Plate
	some := !alone || len(there) != len(s.strokes)
	counts := make([]byte, len(s.strokes))
	k := 0
	for j, st := range s.strokes {
		if k < len(there) && there[k] == st {
			if st.Ride == ride {
				counts[j] = 1
			}
			k++
		}
	}
	type name struct {
		source       int
		counts, ride string
		some         bool
	}
	return shared(r.inputs, name{i, string(counts), ride, some}, func() *memo.Keyed[layerInput] {
		base := &baseInput{
			Bare:    r.bare(p.Frame),
			Whole:   p.Whole,
			Picture: r.picture(p.Picture),
			Some:    some,
			Shared:  ride == "",
		}
		var under *memo.Keyed[fillInput]
		if in := r.fill(i, p.Frame, false); len(in.Sources) > 0 {
			under = memo.Of(in)
		}
		layer := memo.Of(layerInput{Base: base})
		for j, st := range s.strokes {
			in := layerInput{Below: layer, Stroke: r.stroke(st, p.Frame), Shared: counts[j] == 1}
			if reads(st.Stroke) {
				in.Under = under
			}
			layer = memo.Of(in)
		}
		return layer
	})
}

// reads reports whether what a stroke makes depends on the picture that it lies on: paint
// above is not painted anew when something changes below that it never looked at.
func reads(s *treatment.Stroke) bool {
	return s.Mode != "colour" && s.Mode != "erase" || s.Channels != ""
}
