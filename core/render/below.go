package render

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"image"
	"maps"
	"math"
	"slices"
	"sync"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
)

// A below is those of the removals below one that a source of it sees: a treatment of its own, of which a later removal is
// never part, so that nothing goes in circles. It stays as it is when removals are left out of what is rendered.
type below struct {
	of  *Treatment
	all map[int]bool // those that are seen, and those that they see themselves, by their place in the document
	key func() string
}

// beneath returns what a source sees that sees some of the removals below it.
func (t *Treatment) beneath(seen []*removal) *below {
	out := &below{of: &Treatment{removals: seen, motions: t.motions, scenes: &sync.Map{}}, all: map[int]bool{}}
	for _, r := range seen {
		out.all[r.at] = true
		for i := range r.sources {
			if under := r.below(i); under != nil {
				maps.Copy(out.all, under.all)
			}
		}
	}
	out.key = sync.OnceValue(func() string {
		parts := []string{t.tracksName()}
		for i, r := range t.all {
			if out.all[i] {
				parts = append(parts, r.name())
			}
		}
		return nameOf(parts)
	})
	return out
}

// nameOf names what can be written as JSON by a hash of it.
func nameOf(v any) string {
	hash := sha256.New()
	if err := json.NewEncoder(hash).Encode(v); err != nil {
		panic(err) // it was read from JSON, or is text
	}
	return hex.EncodeToString(hash.Sum(nil))
}

// A footprint is what of a frame a source reads.
type footprint struct {
	Frame int
	Boxes []geom.Box
}

// A footprinted kind of source knows what it reads; others may read all of any frame.
type footprinted interface {
	// footprints returns what source i of a removal reads; ok is false for anything.
	footprints(r *removal, i int) (at []footprint, ok bool)
}

// seenBy returns those of the removals below that source i of a removal sees: those whose patch lies in its footprint.
func (r *removal) seenBy(i int) []*removal {
	lower := r.of.all[:r.at]
	kind, ok := r.sources[i].kind.(footprinted)
	if !ok {
		return slices.Clip(lower)
	}
	at, ok := kind.footprints(r, i)
	if !ok {
		return slices.Clip(lower)
	}
	var out []*removal
	for _, under := range lower {
		if slices.ContainsFunc(at, func(l footprint) bool { return under.liesIn(l) }) {
			out = append(out, under)
		}
	}
	return out
}

// liesIn reports whether the removal's patch may lie in a footprint.
func (r *removal) liesIn(l footprint) bool {
	if !r.visible(l.Frame) {
		return false
	}
	box, ok := r.marks(l.Frame)
	return !ok || slices.ContainsFunc(l.Boxes, box.Overlaps)
}

// marks returns a box around all that the removal may mark on frame n; ok is false where that is not known without its
// pixels.
func (r *removal) marks(n int) (box geom.Box, ok bool) {
	type found struct {
		box geom.Box
		ok  bool
	}
	f := shared(r.inputs, [2]any{"marks", n}, func() found {
		m := r.matte(n)
		var at []geom.Point
		for i := range m.Outlines.Shapes {
			s := &m.Outlines.Shapes[i]
			if s.Shape.Invert {
				return found{}
			}
			rim, _ := s.Pose.Rim(&s.Shape, m.Outlines.Edge)
			for _, p := range rim {
				if !p.At.Finite() {
					return found{}
				}
				around := geom.Box{Min: p.At, Max: p.At}.Grow(p.Out + math.Abs(s.Shape.Grow+m.Outlines.Edge.Grow)*
					max(1, s.Pose.ToFrame.Scale(p.At)) + 2)
				at = append(at, around.Min, around.Max)
			}
		}
		return found{geom.Bounds(at), len(m.Supplied) == 0 && len(at) > 0}
	})
	return f.box, f.ok
}

// footprintsOf returns what a stroke reads on frame n: what it covers and a little around, and where its pixels come from; on
// the frame of a loan where those do.
func (r *removal) footprintsOf(st *stroke, n int) []footprint {
	in := r.stroke(st, n)
	if in.Map == nil {
		return nil // not followed to there
	}
	out := []footprint{{n, in.reads()}}
	if in.Loan != nil {
		out = append(out, footprint{in.Loan.Bare.Frame, []geom.Box{in.Loan.Over.Bounds(originOf(st.Stroke, in.wide()))}})
	}
	return out
}

func (plateKind) footprints(r *removal, i int) (out []footprint, ok bool) {
	s := r.sources[i]
	if s.Plate.Whole || s.Plate.Picture != nil {
		return nil, false
	}
	for _, st := range s.strokes {
		out = append(out, r.footprintsOf(st, s.frame)...)
	}
	return out, true
}

// The frames of a shot at which travelling paint is asked what it reads, before it counts as reading anything.
const mostFootprints = 4000

func (travelKind) footprints(r *removal, i int) (out []footprint, ok bool) {
	span := r.doc.Range
	for _, st := range r.sources[i].strokes {
		first, last := span.First, span.Last
		if st.Range != nil {
			first, last = max(first, st.Range.First), min(last, st.Range.Last)
		}
		if last-first+len(out) > mostFootprints {
			return nil, false
		}
		for n := first; n <= last; n++ {
			out = append(out, r.footprintsOf(st, n)...)
		}
	}
	return out, true
}

// seenFrom returns what evaluates a source: the plate as it is, or as the removals below leave it.
func (e *Evaluator) seenFrom(b *below) *Evaluator {
	if p, ok := e.Plate.(treatedPlate); ok { // another source looks at this one: it sees what it sees, no more
		e = p.e
	}
	if b == nil || len(b.of.removals) == 0 {
		return e
	}
	out := *e
	out.Plate = treatedPlate{e, b}
	return &out
}

// below returns the removals that source i sees; nil for the plate alone.
func (r *removal) below(i int) *below {
	if i < len(r.sources) && r.sources[i].Below {
		return r.sources[i].below()
	}
	return nil
}

// A treatedPlate is a plate as removals leave it.
type treatedPlate struct {
	e  *Evaluator
	by *below
}

func (p treatedPlate) Size() image.Rectangle { return p.e.Plate.Size() }
func (p treatedPlate) Has(n int) bool        { return p.e.Plate.Has(n) }
func (p treatedPlate) White() float32        { return p.e.Plate.White() }
func (p treatedPlate) Key() string           { return p.e.Plate.Key() + " below " + p.by.key() }

// Linear returns the part of a frame with the removals' patches on it.
func (p treatedPlate) Linear(ctx context.Context, n int, rect image.Rectangle) (*raster.Image, error) {
	plate, err := p.e.Plate.Linear(ctx, n, rect)
	if err != nil {
		return nil, err
	}
	in := p.by.of.Input(n, ResultView, "")
	if in == nil {
		return plate, nil
	}
	result, err := memo.Do(ctx, p.e.Cache, environment{p.e}, treatedInput{in}, treated)
	if err != nil || !result.Rect.Overlaps(rect) {
		return plate, err
	}
	out := plate.Crop(rect.Intersect(p.Size()))
	both := out.Rect.Intersect(result.Rect)
	for y := both.Min.Y; y < both.Max.Y; y++ {
		to, from := out.Row(y, both.Min.X, both.Max.X), result.Row(y, both.Min.X, both.Max.X)
		for i := 0; i < len(to); i += 4 {
			if from[i+3] > 0 {
				copy(to[i:i+4], from[i:i+4])
			}
		}
	}
	return out, nil
}

// removes reports whether a removal is one of those that left the plate as it is.
func (p treatedPlate) removes(id string) bool {
	return p.by != nil && p.by.of.removal(id) != nil
}

// leave takes out of a removal's matte on a frame what patches cover.
func (p treatedPlate) leave(ctx context.Context, n int, matte *raster.Plane) error {
	in := p.by.of.Input(n, ResultView, "")
	if in == nil || !p.Has(n) {
		return nil
	}
	result, err := memo.Do(ctx, p.e.Cache, environment{p.e}, treatedInput{in}, treated)
	if err != nil {
		return err
	}
	const whole = 0.95 // of the matte, and the thing is gone
	both := matte.Rect.Intersect(result.Coverage.Rect)
	for y := both.Min.Y; y < both.Max.Y; y++ {
		marked, covered := matte.Row(y, both.Min.X, both.Max.X), result.Coverage.Row(y, both.Min.X, both.Max.X)
		for i, v := range covered {
			if v >= whole*marked[i] {
				marked[i] = 0
			}
		}
	}
	return nil
}

// A treatedInput is a frame of a treated plate.
type treatedInput struct{ Frame *Input }

func treated(ctx context.Context, e environment, in treatedInput) (*Result, error) {
	return e.Evaluate(ctx, in.Frame)
}

// Bytes returns the memory that a result takes.
func (r *Result) Bytes() int {
	n := r.Image.Bytes()
	if r.Coverage != nil {
		n += r.Coverage.Bytes()
	}
	return n
}
