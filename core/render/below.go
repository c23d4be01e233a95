package render

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"image"
	"sync"

	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// A below is the removals below one, as its sources may see them: a treatment of its own, of which a later removal is
// never part, so that nothing goes in circles. It stays as it is when removals are left out of what is rendered.
type below struct {
	of  *Treatment
	key func() string
}

// beneath returns the removals below the removal number i of a document.
func (t *Treatment) beneath(doc *treatment.Document, i int) *below {
	out := &below{of: &Treatment{removals: t.removals[:i:i], motions: t.motions, scenes: &sync.Map{}}}
	out.key = sync.OnceValue(func() string {
		hash := sha256.New()
		part := treatment.Document{Tracks: doc.Tracks, Removals: doc.Removals[:i]}
		if err := json.NewEncoder(hash).Encode(part); err != nil {
			panic(err) // it was read from JSON
		}
		return hex.EncodeToString(hash.Sum(nil))
	})
	return out
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

// below returns the removals that source i looks at; nil for the plate.
func (r *removal) below(i int) *below {
	if i < len(r.sources) && r.sources[i].Below {
		return r.beneath
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
