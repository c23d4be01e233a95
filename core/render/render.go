// Package render evaluates a treatment on a frame: the one place where the
// stages meet.
package render

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"image"
	"sync"

	"jardin/core/carry"
	"jardin/core/fill"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// A View says what to look at.
type View string

const (
	ResultView View = "result" // the plate with every patch laid on it
	PatchView  View = "patch"  // the paint of one removal over the plate, not yet cut by its mattes
)

// A Plate gives the frames of a shot in linear light. Frames must not be
// changed by those who get them.
type Plate interface {
	// Size returns the bounds of every frame.
	Size() image.Rectangle
	// Linear returns the part r of frame n, alpha 1 throughout. What it returns may
	// cover more than r.
	Linear(ctx context.Context, n int, r image.Rectangle) (*raster.Image, error)
	// Key names the content of frame n; equal keys mean equal pixels.
	Key(n int) string
}

// A Result is the part of a frame that differs from the plate. Pixels with
// alpha 0 are the plate's own and stand as zeros; all others have alpha 1.
type Result struct {
	*raster.Image
}

// A Treatment is a document made ready for evaluation: motions worked out,
// strokes hashed. It is safe for concurrent use.
type Treatment struct {
	removals []*removal
	motions  *carry.Set
}

type removal struct {
	doc     treatment.Removal
	motions *carry.Set
	placed  map[int]geom.Homography // stands for the track while one is being found
	key     string                  // of all that decides how the patch looks, but the plate and the motions
}

// at returns the transform from the frame that the paint lies on to frame n.
func (r *removal) at(n int) (carry.Way, bool) {
	if r.placed != nil {
		h, ok := r.placed[n]
		return carry.Straight(h), ok
	}
	return r.motions.Way(r.doc.Follow.Track, r.doc.Fill.Frame, n)
}

// Compile makes a document ready. Every artifact must stand in place in it.
func Compile(doc *treatment.Document) (*Treatment, error) {
	motions, err := carry.New(doc)
	if err != nil {
		return nil, err
	}
	t := &Treatment{motions: motions}
	for _, d := range doc.Removals {
		for i, s := range d.Fill.Strokes {
			if s.Path.Artifact != "" {
				return nil, fmt.Errorf("stroke %d of %q is still an artifact", i+1, d.Name)
			}
		}
		t.removals = append(t.removals, &removal{doc: d, motions: motions, key: hash(d.Fill, d.Mark, d.Settle)})
	}
	return t, nil
}

// Motions returns where the treatment's surfaces are.
func (t *Treatment) Motions() *carry.Set { return t.motions }

// Removal returns a removal of the treatment, or nil.
func (t *Treatment) Removal(id string) *treatment.Removal {
	for _, r := range t.removals {
		if r.doc.ID == id {
			return &r.doc
		}
	}
	return nil
}

func hash(values ...any) string {
	sum := sha256.New()
	enc := json.NewEncoder(sum)
	for _, v := range values {
		_ = enc.Encode(v) // plain data into a hash: nothing can fail
	}
	return hex.EncodeToString(sum.Sum(nil)[:16])
}

// Placed returns the treatment with one removal's patch placed by h on frame n:
// for looking at a track that is still being found.
func (t *Treatment) Placed(id string, n int, h geom.Homography) *Treatment {
	out := &Treatment{removals: append([]*removal{}, t.removals...), motions: t.motions}
	for i, r := range out.removals {
		if r.doc.ID == id {
			placed := *r
			placed.placed = map[int]geom.Homography{n: h}
			out.removals[i] = &placed
		}
	}
	return out
}

// An Evaluator evaluates treatments on one plate. Whatever it works out on the
// way is kept in its cache under a hash of what it was made from. It is safe for
// concurrent use.
type Evaluator struct {
	Plate Plate
	Cache *Cache // shared or its own; nil keeps nothing

	painting sync.Mutex // two requests for the same paint wait for one of them
}

// Key returns the name of what Frame would return: equal keys mean equal
// results, whatever else changed in the document. It is empty where nothing is
// laid on the frame.
func (e *Evaluator) Key(t *Treatment, n int, view View, only string) string {
	parts := []any{view, e.Plate.Key(n)}
	for _, r := range t.removals {
		if h, ok := r.lies(n, view, only); ok {
			parts = append(parts, e.Plate.Key(r.doc.Fill.Frame), h, r.rides(n), r.key)
		}
	}
	if len(parts) == 2 {
		return ""
	}
	return hash(parts...)
}

// lies reports whether the removal has anything to lay on frame n, and by which
// transform.
func (r *removal) lies(n int, view View, only string) (carry.Way, bool) {
	h, ok := r.at(n)
	if !ok || len(r.doc.Fill.Strokes) == 0 {
		return h, false
	}
	if view == PatchView {
		return h, r.doc.ID == only
	}
	return h, !r.doc.Off && r.doc.Range.Has(n) && len(r.doc.Mark.Outlines) > 0
}

// rides returns how each of the removal's shapes is carried to frame n. Their keys
// over time need no mention: they are part of the removal, and n of the plate's key.
func (r *removal) rides(n int) (out []any) {
	for i := range r.doc.Mark.Outlines {
		lie, ok := r.lie(&r.doc.Mark.Outlines[i], n)
		out = append(out, ok, lie.Ride, lie.Shifts)
	}
	return out
}

// lie returns how one of the removal's shapes lies on frame n.
func (r *removal) lie(s *treatment.Shape, n int) (carry.Lie, bool) {
	lie, ok := r.motions.Lie(s, r.doc.Follow.Track, n)
	if h, placed := r.placed[n]; placed && s.Ride == "" && lie.Shifts == nil {
		// The track is being found: what it says so far is from the paint's frame.
		if back, known := r.motions.Between(r.doc.Follow.Track, s.Home, r.doc.Fill.Frame); known {
			lie, _ = r.motions.Lie(s, treatment.Still, n)
			lie.Ride, ok = carry.Straight(h.Mul(back)), true
		}
	}
	return lie, ok
}

// Frame returns what differs from the plate on frame n. only names the removal
// of the patch view. The context is honoured between removals.
func (e *Evaluator) Frame(ctx context.Context, t *Treatment, n int, view View, only string) (*Result, error) {
	type layer struct {
		r       *removal
		patch   *raster.Image
		inverse carry.Way
		through *raster.Plane
	}
	var layers []layer
	var all image.Rectangle
	for _, r := range t.removals {
		h, ok := r.lies(n, view, only)
		if !ok {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		inverse, ok := h.Inverse()
		if !ok {
			return nil, fmt.Errorf("the track of %q cannot be inverted on frame %d", r.doc.Name, n)
		}
		patch, err := e.paint(ctx, r)
		if err != nil {
			return nil, err
		}
		if patch.Rect.Empty() {
			continue
		}
		reach := raster.Around(h.Bounds(geom.Box{
			Min: geom.Pt(float64(patch.Rect.Min.X), float64(patch.Rect.Min.Y)),
			Max: geom.Pt(float64(patch.Rect.Max.X), float64(patch.Rect.Max.Y)),
		}), 2, e.Plate.Size())
		through := r.matte(n, reach)
		if view == PatchView {
			through = raster.NewPlane(reach)
			for i := range through.Pix {
				through.Pix[i] = 1
			}
		}
		if through.Rect.Empty() {
			continue
		}
		layers = append(layers, layer{r, patch, inverse, through})
		all = all.Union(through.Rect)
	}
	if all.Empty() {
		return &Result{raster.NewImage(image.Rectangle{})}, nil
	}
	plate, err := e.Plate.Linear(ctx, n, all)
	if err != nil {
		return nil, err
	}
	picture, touched := plate.Crop(all), raster.NewPlane(all)
	for _, l := range layers {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		opacity := float32(1)
		if view == ResultView {
			opacity = float32(l.r.doc.Settle.Opacity)
		}
		var warped *raster.Image
		if l.inverse.Bent == nil {
			warped = raster.Warp(l.patch, l.inverse.Homography, l.through.Rect)
		} else {
			warped = raster.WarpBy(l.patch, l.inverse.Apply, l.through.Rect)
		}
		settle.Lay(picture, warped, l.through, opacity, touched)
	}
	for i, v := range touched.Pix {
		if v == 0 {
			clear(picture.Pix[4*i : 4*i+4])
		} else {
			picture.Pix[4*i+3] = 1
		}
	}
	return &Result{picture}, nil
}

// Matte returns the coverage of a removal's shapes on frame n: an empty plane
// where none of them lies there.
func (e *Evaluator) Matte(t *Treatment, id string, n int) *raster.Plane {
	for _, r := range t.removals {
		if r.doc.ID == id {
			return r.matte(n, e.Plate.Size())
		}
	}
	return raster.NewPlane(image.Rectangle{})
}

// matte carries the shapes to a frame and covers them there, so that edges are
// as sharp on that frame as on the one that they were drawn on. A feather is as
// wide as the surface's scale makes it.
func (r *removal) matte(n int, within image.Rectangle) *raster.Plane {
	return carry.Matte(r.doc.Mark.Outlines, r.doc.Settle.Feather, within, func(s *treatment.Shape) (carry.Lie, bool) { return r.lie(s, n) })
}

// paint returns the removal's paint on its frame. It starts from the
// longest beginning that is still in the cache, so that one more stroke costs
// one stroke.
func (e *Evaluator) paint(ctx context.Context, r *removal) (*raster.Image, error) {
	e.painting.Lock()
	defer e.painting.Unlock()
	keys, strokes := e.paintKeys(r), r.doc.Fill.Strokes
	layer, done := raster.NewImage(image.Rectangle{}), len(strokes)
	for ; done > 0; done-- {
		if found, ok := e.Cache.Get(keys[done-1]); ok {
			layer = found.(*raster.Image)
			break
		}
	}
	if done == len(strokes) {
		return layer, nil
	}
	plate, err := e.Plate.Linear(ctx, r.doc.Fill.Frame, e.Plate.Size())
	if err != nil {
		return nil, fmt.Errorf("frame %d, on which %q is painted: %w", r.doc.Fill.Frame, r.doc.Name, err)
	}
	c := fill.NewCanvas(plate)
	c.Load(layer)
	for _, s := range strokes[done:] {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		c.Paint(StrokeOf(&s), touchesOf(&s.Path))
	}
	layer = c.Layer()
	e.Cache.Put(keys[len(keys)-1], layer, layer.Bytes())
	return layer, nil
}

// paintKeys names the paint after each stroke: a chain of hashes.
func (e *Evaluator) paintKeys(r *removal) []string {
	keys := make([]string, len(r.doc.Fill.Strokes))
	last := e.Plate.Key(r.doc.Fill.Frame)
	for i, s := range r.doc.Fill.Strokes {
		s.ID = ""
		last = hash("paint", last, s)
		keys[i] = last
	}
	return keys
}

// Canvas returns a canvas with a removal's paint on it, to paint on.
func (e *Evaluator) Canvas(ctx context.Context, t *Treatment, id string) (*fill.Canvas, error) {
	for _, r := range t.removals {
		if r.doc.ID != id {
			continue
		}
		plate, err := e.Plate.Linear(ctx, r.doc.Fill.Frame, e.Plate.Size())
		if err != nil {
			return nil, err
		}
		layer, err := e.paint(ctx, r)
		if err != nil {
			return nil, err
		}
		c := fill.NewCanvas(plate)
		c.Load(layer)
		return c, nil
	}
	return nil, fmt.Errorf("there is no removal %q", id)
}

// StrokeOf returns the brush of a stroke in a document.
func StrokeOf(s *treatment.Stroke) fill.Stroke {
	return fill.Stroke{Size: s.Size, Hardness: s.Hardness, Opacity: s.Opacity, Offset: s.Offset.Point()}
}

// touchesOf returns a stroke's points where they lie.
func touchesOf(p *treatment.Path) []fill.Touch {
	out := Touches(p.Points)
	if p.Shift != nil {
		for i := range out {
			out[i].Point = out[i].Point.Add(p.Shift.Point())
		}
	}
	return out
}

// Touches returns a stroke's points, with full pressure where none is given.
func Touches(points [][]float64) []fill.Touch {
	out := make([]fill.Touch, len(points))
	for i, p := range points {
		out[i] = fill.Touch{Point: geom.Pt(p[0], p[1]), Pressure: 1}
		if len(p) > 2 {
			out[i].Pressure = p[2]
		}
	}
	return out
}
