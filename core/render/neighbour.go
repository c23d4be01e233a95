package render

import (
	"context"
	"fmt"
	"image"
	"math"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// A neighbourInput takes a frame's own pixels from an offset.
type neighbourInput struct {
	Offset geom.Point
	Map    warp.Mapping // along the surface, from the frame on which the offset is given; nil for along the screen
	Crisp  bool         // by whole pixels
	Middle geom.Point   // of crisp ones: where the offset is rounded
	Centre bool         // that is the middle of the thing; else of what is wanted
}

// neighbourKind is the frame's own pixels from an offset.
type neighbourKind struct{ unpainted }

func (neighbourKind) frame(s *treatment.Source) int { return s.Neighbour.Frame }

func (neighbourKind) held(*removal, int, int) (*memo.Keyed[layerInput], bool) { return nil, false }

// gather: without outlines of its own it lies on what is to go, not on the rest of the frame;
// what is painted above may copy from there.
func (neighbourKind) gather(r *removal, i, n int, _ bool) (sourceLayer, *marking) {
	in := r.neighbour(r.sources[i].Neighbour, n)
	if in == nil {
		return nil, nil
	}
	return in, r.marked(n)
}

func (r *removal) neighbour(s *treatment.Neighbour, n int) *neighbourInput {
	keys := make([]geom.Key, len(s.Offsets))
	for i, k := range s.Offsets {
		keys[i] = geom.Key{Frame: k.Frame, Linear: k.Ease == treatment.Linear, Values: k.Offset[:]}
	}
	v := geom.Between(keys, n)
	out := &neighbourInput{Offset: geom.Pt(v[0], v[1]), Crisp: s.Crisp}
	if !s.Screen {
		if out.Map = r.mapping("", s.Frame, n); out.Map == nil {
			return nil
		}
	}
	if s.Crisp && len(r.doc.Mark.Outlines) > 0 {
		if pose, ok := r.pose(&r.doc.Mark.Outlines[0], n); ok {
			out.Middle, out.Centre = pose.ToFrame.Apply(carry.Centre(&r.doc.Mark.Outlines[0])), true
		}
	}
	return out
}

func (in *neighbourInput) bounds(s *sourceInput, _ image.Rectangle) image.Rectangle {
	return s.at.Rect
}

func (in *neighbourInput) reach(image.Rectangle) image.Rectangle { return image.Rectangle{} }

// taken takes each pixel to the one that is taken; ok is false where the track cannot be inverted.
func (in *neighbourInput) taken() (m warp.Mapping, ok bool) {
	offset := warp.Of(geom.Translation(in.Offset))
	if in.Map == nil {
		return offset, true
	}
	back, ok := in.Map.Inverse()
	if !ok {
		return nil, false
	}
	return warp.Chain(back, offset, in.Map), true
}

// footprints: on every frame beside what is marked there, unless it counts elsewhere.
func (neighbourKind) footprints(r *removal, i int) (out []footprint, ok bool) {
	s, span := r.sources[i], r.doc.Range
	if len(s.Where) > 0 || span.Last-span.First > mostFootprints {
		return nil, false
	}
	for n := span.First; n <= span.Last; n++ {
		box, ok := r.marks(n)
		if !ok {
			return nil, false
		}
		if in := r.neighbour(s.Neighbour, n); in != nil {
			if taken, ok := in.taken(); ok {
				out = append(out, footprint{n, []geom.Box{taken.Bounds(box.Grow(seamRim + 6))}})
			}
		}
	}
	return out, true
}

// composite lays the frame's own pixels from an offset: light, focus and grain are
// right by themselves.
func (in *neighbourInput) composite(ctx context.Context, e *Evaluator, s *sourceInput, n int, out *filling) error {
	taken, ok := in.taken()
	if !ok {
		return fmt.Errorf("the track cannot be inverted")
	}
	at, size := taken.Apply, e.Plate.Size()
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
	from := raster.Around(taken.Bounds(boxOf(out.Rect.Inset(-1))), 4, size)
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
