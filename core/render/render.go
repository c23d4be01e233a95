// Package render evaluates a treatment on a frame: the one place where the
// stages meet.
//
// A frame is made in two steps. First everything that it depends on is gathered into a
// typed value, its input (input.go): shapes as they lie there, mappings, strokes, what is
// measured on which frames. Then the input is evaluated, and nothing but it and the plate
// is looked at. What is worked out on the way has inputs of its own, parts of the whole,
// and is remembered by package memo under keys that are derived from them.
package render

import (
	"context"
	"fmt"
	"image"

	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// A View says what to look at.
type View string

const (
	ResultView View = "result" // the plate with every patch laid on it
	PatchView  View = "patch"  // the paint of one removal over the plate, not yet cut by its mattes, nor settled
	AloneView  View = "alone"  // the patches as they are laid, without the plate
	MatteView  View = "matte"  // how much of each pixel they cover, white on black
	TintView   View = "tint"   // the same as a tint over the plate
	LightView  View = "light"  // by how much a patch's light is changed: middle grey for not at all
	// the grain that was taken out of the frame that is held, eight times as strong, around middle grey
	GrainView View = "grain"
	// of what is gathered through time: where no frame shows what is marked, and where frames do not agree
	SeenView View = "seen"
	// alphas, white on black: what is marked; where something was gathered; that within what is marked
	MarkedView   View = "marked"
	GatheredView View = "gathered"
	FoundView    View = "found"
)

// Views lists them.
var Views = []View{ResultView, PatchView, AloneView, MatteView, TintView, LightView, GrainView, SeenView,
	MarkedView, GatheredView, FoundView}

// A Plate gives the frames of a shot in linear light. Frames must not be
// changed by those who get them.
type Plate interface {
	// Size returns the bounds of every frame.
	Size() image.Rectangle
	// Linear returns the part r of frame n, alpha 1 throughout. What it returns may
	// cover more than r. Of a frame that is not in the shot the error is a *Beyond.
	Linear(ctx context.Context, n int, rect image.Rectangle) (*raster.Image, error)
	// Has reports whether a frame is in the shot.
	Has(n int) bool
	// White returns the highest value that a pixel can have; infinity where there is none.
	White() float32
	// Key names the content of all frames; equal keys mean equal pixels.
	Key() string
}

// Beyond is the error of a frame that is not in the shot.
type Beyond struct{ Frame, First, Last int }

func (b *Beyond) Error() string {
	return fmt.Sprintf("frame %d is not in the shot (%d to %d)", b.Frame, b.First, b.Last)
}

// A Result is the part of a frame that differs from the plate. Pixels with
// alpha 0 are the plate's own and stand as zeros; all others have alpha 1.
type Result struct {
	*raster.Image
	// Coverage is how much of each pixel patches cover, 0 to 1, over the same pixels; nil in
	// views that lay no patches.
	Coverage *raster.Plane
}

// An Evaluator evaluates treatments on one plate. Whatever it works out on the
// way is kept in its cache under a key derived from what it was made from. It is safe for
// concurrent use.
type Evaluator struct {
	Plate Plate
	Cache *memo.Memo // shared or its own; nil keeps nothing
	// Short keeps what neighbouring frames want again in a moment, apart from the cache, as
	// it would crowd out what lasts; it may be shared. nil keeps nothing.
	Short *memo.Memo
	// Version names the program that computes: what outlives it is kept under its name.
	Version string
	// Pictures gives supplied pictures in linear light, premultiplied; nil where there
	// are none.
	Pictures func(context.Context, *treatment.Picture) (*raster.Image, error)

	// Mattes gives supplied mattes: coverage as their code values say, 0 to 1; nil where
	// there are none.
	Mattes func(context.Context, *treatment.Picture) (*raster.Plane, error)
	// Alpha gives the plate's own alpha on a frame, 0 to 1; an error in words where it has none. nil where it cannot be read.
	Alpha func(ctx context.Context, frame int) (*raster.Plane, error)

	// Disk keeps layers of paint for longer than the cache; nil keeps none.
	Disk DiskCache
}

// environment is what a computation reads besides its input.
type environment struct{ *Evaluator }

// Key names the plate and the program.
func (e environment) Key() string { return e.Version + "/" + e.Plate.Key() }

// A DiskCache keeps pictures under the key of what they were made from, also when the
// program ends. It is safe for concurrent use.
type DiskCache interface {
	Get(key string) (*raster.Image, bool)
	Put(key string, m *raster.Image) // returns at once; what it cannot keep it forgets
}

// Key returns the name of what Frame would return: equal keys mean equal
// results, whatever else changed in the document. It is empty where nothing is
// laid on the frame.
func (e *Evaluator) Key(t *Treatment, n int, view View, only string) (string, error) {
	in := t.Input(n, view, only)
	if in == nil {
		return "", nil
	}
	return memo.Name(environment{e}, in)
}

// Frame returns what differs from the plate on frame n. only names the removal that
// is looked at, as all views but the result may. The context is honoured between
// removals.
func (e *Evaluator) Frame(ctx context.Context, t *Treatment, n int, view View, only string) (*Result, error) {
	return e.Evaluate(ctx, t.Input(n, view, only))
}

// Evaluate makes the frame that an input stands for; of nil, one that is the plate's.
func (e *Evaluator) Evaluate(ctx context.Context, in *Input) (*Result, error) {
	if in == nil {
		return nothing(), nil
	}
	return in.evaluate(ctx, e)
}

// nothing is the result where no pixel differs from the plate.
func nothing() *Result {
	return &Result{raster.NewImage(image.Rectangle{}), raster.NewPlane(image.Rectangle{})}
}

// evaluate makes the frame.
func (in *Input) evaluate(ctx context.Context, e *Evaluator) (*Result, error) {
	if in.Diagnostic != nil {
		return in.Diagnostic.evaluate(ctx, e)
	}
	if in.Seen != nil {
		return in.Seen.evaluate(ctx, e, in.Frame)
	}
	if in.Alpha != nil {
		return in.Alpha.evaluate(ctx, e)
	}
	size := e.Plate.Size()
	type layer struct {
		of      *removalInput
		view    View
		through *raster.Plane
	}
	var layers []layer
	var all image.Rectangle
	for i := range len(in.Under) + len(in.Removals) {
		var of removalInput
		view := in.View
		if i < len(in.Under) {
			of, view = in.Under[i], ResultView
		} else {
			of = in.Removals[i-len(in.Under)]
		}
		r := &of
		fill, err := r.Fill.placed(ctx, e)
		if err != nil {
			return nil, err
		}
		r.Fill = *fill
		reach := r.Fill.bounds(size)
		through, err := r.Matte.cover(ctx, e, reach)
		if err != nil {
			return nil, err
		}
		if view == PatchView {
			through = raster.NewPlane(reach)
			for i := range through.Pix {
				through.Pix[i] = 1
			}
		}
		if through.Rect.Empty() {
			continue
		}
		layers = append(layers, layer{r, view, through})
		all = all.Union(through.Rect)
	}
	if all.Empty() {
		return nothing(), nil
	}
	plate, err := e.Plate.Linear(ctx, in.Frame, all)
	if err != nil {
		return nil, err
	}
	picture, touched, coverage := plate.Crop(all), raster.NewPlane(all), raster.NewPlane(all)
	if in.View == AloneView {
		clear(picture.Pix)
	}
	for _, l := range layers {
		if l.view == PatchView {
			patch, err := e.fill(ctx, &l.of.Fill, l.through.Rect)
			if err != nil {
				return nil, err
			}
			settle.Composite(picture, settle.Patch{Image: patch.Image}, l.through, 1, settle.Normal, touched, nil)
			continue
		}
		if err := e.composite(ctx, l.of, l.view, plate, picture, l.through, touched, coverage); err != nil {
			return nil, err
		}
	}
	for i, v := range touched.Pix {
		if v == 0 {
			clear(picture.Pix[4*i : 4*i+4])
		} else {
			picture.Pix[4*i+3] = 1
		}
	}
	if in.View == PatchView {
		coverage = nil // it is of paint, wherever it lies
	}
	return &Result{picture, coverage}, nil
}

// Matte returns the coverage of what a removal marks on frame n: an empty plane
// where there is nothing.
func (e *Evaluator) Matte(ctx context.Context, t *Treatment, id string, n int) (*raster.Plane, error) {
	if r := t.removal(id); r != nil {
		m := r.matte(n)
		return m.cover(ctx, e, e.Plate.Size())
	}
	return raster.NewPlane(image.Rectangle{}), nil
}
