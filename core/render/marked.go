package render

import (
	"context"
	"fmt"
	"image"
	"math"

	"jardin/core/carry"
	"jardin/core/matte"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// A marking is what goes on a frame: outlines as they lie there, and mattes that were supplied.
type marking struct {
	Outlines coverage
	Supplied []suppliedInput
}

// A suppliedInput is a supplied matte of a frame, or the plate's own alpha.
type suppliedInput struct {
	Frame   int
	Picture *memo.Keyed[treatment.Picture] // nil: the plate's alpha
	Edge    carry.Edge
	Invert  bool
	Opacity float64
	Combine string
}

// matte gathers what the removal marks on frame n. Outlines are carried there and covered there,
// so that edges are as sharp on that frame as on the one that they were drawn on. A feather
// is as wide as the surface's scale makes it.
func (r *removal) matte(n int) marking {
	s := &r.doc.Settle
	edge := carry.Edge{Feather: s.Feather, FeatherIn: s.FeatherIn, Grow: s.Grow}
	out := marking{Outlines: r.covered(r.doc.Mark.Outlines, edge, n)}
	for i := range r.doc.Mark.Mattes {
		m := &r.doc.Mark.Mattes[i]
		picture := m.Matte(n)
		if m.Off || picture == nil && !m.Alpha {
			continue
		}
		out.Supplied = append(out.Supplied, suppliedInput{
			Frame: n, Picture: r.picture(picture), Invert: m.Invert, Opacity: m.Through(), Combine: m.Combine,
			Edge: carry.Edge{Feather: edge.Feather + m.Feather, FeatherIn: edge.FeatherIn + m.FeatherIn, Grow: edge.Grow + m.Grow},
		})
	}
	return out
}

// stepped is the marking with its edges as wide as they are or wider, in steps: what is measured beside it is measured anew only where
// a feather passes one of them. Where shapes take away from each other, wider edges may mark less: they stay.
func (m marking) stepped() marking {
	for i := range m.Outlines.Shapes {
		if s := &m.Outlines.Shapes[i].Shape; s.Invert || s.Combine != "" && s.Combine != "add" {
			return m
		}
	}
	for i := range m.Supplied {
		if s := &m.Supplied[i]; s.Invert || s.Combine != "" && s.Combine != "add" {
			return m
		}
	}
	shapes := append([]carry.PosedShape(nil), m.Outlines.Shapes...)
	for i := range shapes {
		s, wider := &shapes[i].Shape, m.Outlines.Edge
		own := stepped(carry.Edge{Feather: s.Feather + wider.Feather, FeatherIn: s.FeatherIn + wider.FeatherIn, Grow: s.Grow + wider.Grow})
		s.Feather, s.FeatherIn, s.Grow = own.Feather, own.FeatherIn, own.Grow
	}
	m.Outlines = coverage{Shapes: shapes}
	supplied := append([]suppliedInput(nil), m.Supplied...)
	for i := range supplied {
		supplied[i].Edge = stepped(supplied[i].Edge)
	}
	m.Supplied = supplied
	return m
}

// exactUpTo is how wide an edge may be, in pixels, that is measured beside as it is.
const exactUpTo = 4

// stepped is an edge of powers of two of a pixel, where it is wider than a few, that lies as far outwards or farther.
func stepped(e carry.Edge) carry.Edge {
	up := func(v float64) float64 {
		switch {
		case v > exactUpTo:
			return math.Exp2(math.Ceil(math.Log2(v)))
		case v < -exactUpTo:
			return -math.Exp2(math.Floor(math.Log2(-v)))
		}
		return v
	}
	return carry.Edge{Feather: up(e.Feather), FeatherIn: up(e.FeatherIn), Grow: up(e.Grow)}
}

// widened is the marking with its edges moved outwards by so many pixels.
func (m marking) widened(by float64) marking {
	m.Outlines.Edge.Grow += by
	supplied := append([]suppliedInput(nil), m.Supplied...)
	for i := range supplied {
		supplied[i].Edge.Grow += by
	}
	m.Supplied = supplied
	return m
}

// cover returns how much of each pixel is marked, in so much of the frame as there is something.
func (m *marking) cover(ctx context.Context, e *Evaluator, within image.Rectangle) (*raster.Plane, error) {
	if len(m.Supplied) == 0 {
		return m.Outlines.cover(within), nil
	}
	// It is asked for again and again, and files are read whole.
	whole, err := memo.Do(ctx, e.Cache, environment{e}, *m, func(ctx context.Context, e environment, m marking) (*raster.Plane, error) {
		size := e.Plate.Size()
		out := m.Outlines.cover(size)
		for i := range m.Supplied { // one after the other: there may be hundreds, and each is as large as the frame
			s := &m.Supplied[i]
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			p, err := s.read(ctx, e.Evaluator)
			if err != nil {
				return nil, err
			}
			out = matte.Combine(
				size,
				matte.Layer{Matte: out, Opacity: 1},
				matte.Layer{Matte: s.edged(p), Opacity: s.Opacity, Combine: s.Combine},
			)
		}
		return out.Crop(cutBox(out)), nil
	})
	if err != nil {
		return nil, err
	}
	return whole.Crop(whole.Rect.Intersect(within)), nil
}

// rect returns the box around what is marked.
func (m *marking) rect(ctx context.Context, e *Evaluator) (image.Rectangle, error) {
	p, err := m.cover(ctx, e, e.Plate.Size())
	if err != nil {
		return image.Rectangle{}, err
	}
	return p.Rect, nil
}

// read returns the matte as it was supplied, over the whole frame.
func (s *suppliedInput) read(ctx context.Context, e *Evaluator) (*raster.Plane, error) {
	if s.Picture == nil {
		if e.Alpha == nil {
			return nil, fmt.Errorf("the plate's alpha cannot be read here")
		}
		return e.Alpha(ctx, s.Frame)
	}
	if e.Mattes == nil {
		return nil, fmt.Errorf("the matte %q cannot be read here", s.Picture.Value.Name)
	}
	return e.Mattes(ctx, &s.Picture.Value)
}

// edged returns the matte with its edge moved and softened. Like an outline's, a feather outside never thins the inside, and one
// inside never covers more: a copy that is moved by half of its width, and blurred so that it comes to rest there, is added or
// taken.
func (s *suppliedInput) edged(p *raster.Plane) *raster.Plane {
	out := p.Crop(p.Rect)
	if s.Invert {
		for i, v := range out.Pix {
			out.Pix[i] = 1 - v
		}
	}
	if s.Edge.Grow != 0 {
		out = raster.Grow(out, s.Edge.Grow)
	}
	soft := func(by float64) *raster.Plane { return raster.Gaussian(raster.Grow(out, by/2), abs(by)/6) }
	inner := out
	if w := s.Edge.FeatherIn; w > 0 {
		inner = soft(-w)
		for i, v := range inner.Pix {
			inner.Pix[i] = min(v, out.Pix[i])
		}
	}
	if w := s.Edge.Feather; w > 0 {
		outer := soft(w)
		for i, v := range outer.Pix {
			// Inside, what the inner feather left; outside, what the outer adds.
			if out.Pix[i] < 1 {
				inner.Pix[i] = max(inner.Pix[i], v)
			}
		}
	}
	return inner
}

func abs(v float64) float64 { return max(v, -v) }
