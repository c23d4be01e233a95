package render

import (
	"context"
	"image"

	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/spread"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// spreadKind is clean pixels that go on from the rim of what is marked.
type spreadKind struct{ unpainted }

func (spreadKind) frame(s *treatment.Source) int { return s.Spread.Frame }

func (spreadKind) held(r *removal, i, _ int) (*memo.Keyed[layerInput], bool) {
	return nil, !r.sources[i].Spread.Live
}

func (spreadKind) gather(r *removal, i, n int, settled bool) (sourceLayer, *marking) {
	s := r.sources[i].Spread
	if !s.Live {
		m := r.mapping("", s.Frame, n)
		if m == nil {
			return nil, nil
		}
		return r.carried(i, n, settled, "", m, spreadPixels{r.spreading(s, s.Frame)}, false)
	}
	in := steadiedPixels{Frames: []spreadOn{{r.spreading(s, n), warp.Identity, 1}}}
	for k := n - s.Over; k <= n+s.Over; k++ {
		if m := r.mapping("", n, k); k != n && m != nil && r.doc.Range.Has(k) {
			in.Frames = append(in.Frames, spreadOn{r.spreading(s, k), m, bell(k-n, s.Over)})
		}
	}
	return r.carried(i, n, false, "", warp.Identity, in, false)
}

type spreadPixels struct{ In *memo.Keyed[spreadInput] }

func (in spreadPixels) made(ctx context.Context, e *Evaluator) (*raster.Image, *raster.Plane, error) {
	m, err := memo.Do(ctx, e.Cache, environment{e}, in.In, spreadInto)
	return m, nil, err
}

// A spreadInput is all that spread pixels depend on.
type spreadInput struct {
	Hole  holeInput
	Edges bool
}

func (r *removal) spreading(s *treatment.Spreading, n int) *memo.Keyed[spreadInput] {
	type name struct {
		of *treatment.Spreading
		on int
	}
	return keyedOf(r, name{s, n}, func() spreadInput { return spreadInput{r.hole(n), s.Edges} })
}

// spreadInto fills what is marked on a frame from its rim. Grain there is no structure: it is taken out.
func spreadInto(ctx context.Context, e environment, keyed *memo.Keyed[spreadInput]) (*raster.Image, error) {
	in := &keyed.Value
	hole, beside, err := in.Hole.cover(ctx, e.Evaluator, func(image.Rectangle) int { return 16 })
	if err != nil || hole.Rect.Empty() || !e.Plate.Has(in.Hole.Frame) {
		return raster.NewImage(image.Rectangle{}), err
	}
	plate, err := e.Plate.Linear(ctx, in.Hole.Frame, hole.Rect)
	if err != nil {
		return nil, err
	}
	if in.Edges {
		if err := tooLarge(hole); err != nil {
			return nil, err
		}
	}
	unknown := hole.Crop(hole.Rect)
	unknown.Max(beside)
	how := spread.Evenly
	if in.Edges {
		how = spread.Along
	}
	made, err := how(ctx, settle.Denoise(plate.Crop(hole.Rect), 3), unknown)
	if err != nil {
		return nil, err
	}
	return cutOut(made, laidOn(hole)), nil
}

// A spreadOn is what was spread on a frame, and how it is brought from there.
type spreadOn struct {
	Of     *memo.Keyed[spreadInput]
	Map    warp.Mapping // from the frame that is wanted
	Weight float64
}

// steadiedPixels are those of a frame, averaged with those of the frames around, along the track.
type steadiedPixels struct{ Frames []spreadOn }

func (in steadiedPixels) made(ctx context.Context, e *Evaluator) (*raster.Image, *raster.Plane, error) {
	own, _, err := spreadPixels{in.Frames[0].Of}.made(ctx, e)
	if err != nil || len(in.Frames) == 1 || own.Rect.Empty() {
		return own, nil, err
	}
	sum := own.Crop(own.Rect)
	weight := raster.NewPlane(own.Rect)
	for i := range weight.Pix {
		weight.Pix[i] = own.Pix[4*i+3]
	}
	for _, f := range in.Frames[1:] {
		m, _, err := spreadPixels{f.Of}.made(ctx, e)
		if err != nil {
			return nil, nil, err
		}
		if m.Rect.Empty() {
			continue
		}
		carried := warp.Image(m, f.Map, own.Rect)
		for i := range weight.Pix {
			if a := carried.Pix[4*i+3]; own.Pix[4*i+3] > 0 && a > 0.999 {
				k := float32(f.Weight)
				weight.Pix[i] += k
				for c := range 3 {
					sum.Pix[4*i+c] += k * carried.Pix[4*i+c]
				}
			}
		}
	}
	for i, w := range weight.Pix {
		if w > 0 {
			for c := range 3 {
				sum.Pix[4*i+c] /= w
			}
		}
	}
	return sum, nil, nil
}
