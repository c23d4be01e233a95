package render

import (
	"context"
	"fmt"
	"image"
	"math"
	"slices"

	"jardin/core/gather"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/warp"
)

// A Share is how much of what is marked on a frame a gathered source finds.
type Share struct {
	Seen, All int        // pixels that some frame shows, of those that are marked and were looked at
	Missing   geom.Point // the middle of the others, from (0, 0) at the top left of what is marked to (1, 1)
	Around    int        // frames that the track carries there
	Needed    int        // frames that show all that any shows
	Unlike    int        // pixels on which frames do not agree
	Odd       geom.Point // the middle of those, as of Missing
}

// gatheredOn returns what the removal's gathered source lays on frame n; nil where the source is of another
// kind, or what it lays is not known there.
func (t *Treatment) gatheredOn(removal, id string, n int) (*removal, *carriedInput, *below, error) {
	r := t.removal(removal)
	if r == nil {
		return nil, nil, nil, fmt.Errorf("there is no removal %q", removal)
	}
	i := slices.IndexFunc(r.sources, func(s *source) bool { return s.ID == id && s.Gathered != nil })
	if i < 0 {
		return r, nil, nil, nil
	}
	in, _ := r.sources[i].kind.gather(r, i, n, false)
	layer, _ := in.(*carriedInput)
	return r, layer, r.below(i), nil
}

// Seen returns how much of a removal's marked pixels on frame n its gathered source finds on some
// frame; nil where the removal has no such source, or it is not carried there. Without quick
// it also tells where frames do not agree, for which the pixels have to be gathered.
func (e *Evaluator) Seen(ctx context.Context, t *Treatment, removal, id string, n int, quick bool) (*Share, error) {
	r, layer, under, err := t.gatheredOn(removal, id, n)
	if err != nil || layer == nil {
		return nil, err
	}
	e = e.seenFrom(under)
	back, ok := layer.Map.Inverse()
	if !ok {
		return nil, nil
	}
	gathered := layer.Of.(gatheredPixels).Clean
	in := &gathered.Value
	own := r.matte(n)
	marked, err := own.cover(ctx, e, e.Plate.Size())
	if err != nil {
		return nil, err
	}
	most := 100_000
	if quick {
		most = 4000
	}
	every := max(1, int(math.Ceil(math.Sqrt(float64(marked.Rect.Dx()*marked.Rect.Dy())/float64(most)))))
	var here, there []image.Point
	for y := marked.Rect.Min.Y; y < marked.Rect.Max.Y; y += every {
		for x := marked.Rect.Min.X; x < marked.Rect.Max.X; x += every {
			if marked.At(x, y) > 0.5 {
				q := back.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))
				here = append(here, image.Pt(x, y))
				there = append(there, image.Pt(int(math.Floor(q.X)), int(math.Floor(q.Y))))
			}
		}
	}
	out := &Share{All: len(here), Around: len(in.Around)}
	shown, err := in.shown(ctx, e, there)
	if err != nil {
		return nil, err
	}
	quality := make([]float64, len(shown))
	for i := range quality {
		quality[i] = 1
	}
	most = len(shown)
	if in.Most > 0 {
		most = in.Most
	}
	chosen, covered := gather.Cover(shown, quality, most)
	out.Needed, out.Seen = len(chosen), covered.Count()
	out.Missing = middleOf(here, marked.Rect, func(i int) bool { return !covered.Has(i) })
	if quick {
		return out, nil
	}
	clean, err := e.clean(ctx, gathered)
	if err != nil {
		return nil, err
	}
	unlike := func(i int) bool { return clean.Unlike.At(there[i].X, there[i].Y) > disagreement }
	for i := range there {
		if unlike(i) {
			out.Unlike++
		}
	}
	out.Odd = middleOf(here, marked.Rect, unlike)
	return out, nil
}

// disagreement is from how much of frames that are unlike a place is told: more than grain does.
const disagreement = 0.5

// middleOf returns the middle of some places within a box, from (0, 0) to (1, 1).
func middleOf(places []image.Point, box image.Rectangle, which func(i int) bool) geom.Point {
	var sum geom.Point
	n := 0.0
	for i, p := range places {
		if which(i) {
			sum, n = sum.Add(geom.Pt(float64(p.X)+0.5, float64(p.Y)+0.5)), n+1
		}
	}
	if n == 0 {
		return geom.Point{}
	}
	d := sum.Mul(1 / n).Sub(geom.Pt(float64(box.Min.X), float64(box.Min.Y)))
	return geom.Pt(d.X/float64(box.Dx()), d.Y/float64(box.Dy()))
}

// A gatheredLayer is what a gathered source found, and how it is brought to a frame.
type gatheredLayer struct {
	Clean *memo.Keyed[cleanInput]
	Map   warp.Mapping // from the frame on which it was gathered
	Below string
	below *below `memo:"-"`
}

// gatheredLayer gathers that of source i; nil where it is of another kind, or lays nothing on frame n.
func (r *removal) gatheredLayer(i, n int) *gatheredLayer {
	s := r.sources[i]
	if s.Gathered == nil || s.Weight(n) <= 0 {
		return nil
	}
	in, _ := s.kind.gather(r, i, n, false)
	layer, ok := in.(*carriedInput)
	if !ok {
		return nil
	}
	out := &gatheredLayer{Clean: layer.Of.(gatheredPixels).Clean, Map: layer.Map, below: r.below(i)}
	if out.below != nil {
		out.Below = out.below.key()
	}
	return out
}

// clean returns what was found.
func (l *gatheredLayer) clean(ctx context.Context, e *Evaluator) (cleanPixels, error) {
	return e.seenFrom(l.below).clean(ctx, l.Clean)
}

// A seenInput is what is shown of a gathered source: where no frame shows what is marked, and
// where frames do not agree.
type seenInput struct {
	Layer *gatheredLayer
	Matte marking
}

// seen gathers what is to be shown of the removal's gathered sources on frame n: of the topmost.
func (r *removal) seen(n int) *seenInput {
	if !r.visible(n) {
		return nil
	}
	for i := len(r.sources) - 1; i >= 0; i-- {
		if l := r.gatheredLayer(i, n); l != nil {
			return &seenInput{l, r.matte(n)}
		}
	}
	return nil
}

// Tints of the view: what is never seen, and where frames do not agree.
var (
	neverTint = [3]float32{0.60, 0.22, 0.02}
	oddTint   = [3]float32{0.05, 0.30, 0.42}
)

func (in *seenInput) evaluate(ctx context.Context, e *Evaluator, n int) (*Result, error) {
	back, ok := in.Layer.Map.Inverse()
	marked, err := in.Matte.cover(ctx, e, e.Plate.Size())
	if err != nil {
		return nil, err
	}
	if !ok || marked.Rect.Empty() {
		return nothing(), nil
	}
	clean, err := in.Layer.clean(ctx, e)
	if err != nil {
		return nil, err
	}
	plate, err := e.Plate.Linear(ctx, n, marked.Rect)
	if err != nil {
		return nil, err
	}
	out := plate.Crop(marked.Rect)
	for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
		row := out.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		for x := range out.Rect.Dx() {
			k := marked.At(out.Rect.Min.X+x, y)
			q := back.Apply(geom.Pt(float64(out.Rect.Min.X+x)+0.5, float64(y)+0.5))
			u, v := int(math.Floor(q.X)), int(math.Floor(q.Y))
			var tint [3]float32
			switch p := clean.Picture.At(u, v); {
			case k == 0:
				clear(row[4*x : 4*x+4])
				continue
			case p[3] < 0.5:
				tint = neverTint
			case clean.Unlike.At(u, v) > disagreement:
				tint = oddTint
			default:
				for c := range 3 {
					row[4*x+c] += (p[c] - row[4*x+c]) * k
				}
				continue
			}
			for c := range 3 {
				row[4*x+c] += (0.3*row[4*x+c] + 0.7*tint[c] - row[4*x+c]) * k
			}
		}
	}
	return &Result{Image: out}, nil
}
