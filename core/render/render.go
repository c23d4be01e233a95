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
	"slices"
	"sync"

	"jardin/core/carry"
	"jardin/core/geom"
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
	GrainView  View = "grain"  // the grain that was taken out of the frame that is held, eight times as strong, around middle grey
)

// Views lists them.
var Views = []View{ResultView, PatchView, AloneView, MatteView, TintView, LightView, GrainView}

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
	outer    string   // of all mattes and fronts: what light must not be measured on
	around   sync.Map // the same as it lies on a frame, by frame
}

type removal struct {
	of      *Treatment
	doc     treatment.Removal
	motions *carry.Set
	placed  map[int]geom.Homography // from the reference frame: stands for the track while one is being found
	sources []*source
	key     string // of what decides how the patch is cut and settled
	cut     bool   // neighbours count inside the outlines only: for looking at all that is painted
}

// Compile makes a document ready. The numbers of its tracks and strokes must stand
// in place in it.
func Compile(doc *treatment.Document) (*Treatment, error) {
	motions, err := carry.New(doc)
	if err != nil {
		return nil, err
	}
	t := &Treatment{motions: motions}
	for _, d := range doc.Removals {
		r := &removal{of: t, doc: d, motions: motions, key: hash(d.Mark, d.Settle, d.Guard)}
		for i := range d.Fill.Sources {
			s, err := ready(&d.Fill.Sources[i])
			if err != nil {
				return nil, fmt.Errorf("%q: %w", d.Name, err)
			}
			r.sources = append(r.sources, s)
		}
		t.removals = append(t.removals, r)
	}
	var outer []any
	for _, r := range t.removals {
		outer = append(outer, r.doc.Mark, r.doc.Guard)
	}
	t.outer = hash(outer...)
	return t, nil
}

// Motions returns where the treatment's surfaces are.
func (t *Treatment) Motions() *carry.Set { return t.motions }

// Removals lists the removals by their identifiers.
func (t *Treatment) Removals() (out []string) {
	for _, r := range t.removals {
		out = append(out, r.doc.ID)
	}
	return out
}

// Removal returns a removal of the treatment, or nil.
func (t *Treatment) Removal(id string) *treatment.Removal {
	if r := t.removal(id); r != nil {
		return &r.doc
	}
	return nil
}

func (t *Treatment) removal(id string) *removal {
	for _, r := range t.removals {
		if r.doc.ID == id {
			return r
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

// Placed returns the treatment with one removal's surface placed by h, from its
// reference frame to frame n: for looking at a track that is still being found.
func (t *Treatment) Placed(id string, n int, h geom.Homography) *Treatment {
	out := &Treatment{removals: append([]*removal{}, t.removals...), motions: t.motions, outer: t.outer}
	for i, r := range out.removals {
		if r.doc.ID == id {
			placed := *r
			placed.of = out
			placed.placed = map[int]geom.Homography{n: h}
			out.removals[i] = &placed
		}
	}
	return out
}

// Only returns the treatment with all removals but some left out. The mattes of the
// others still count where light is measured.
func (t *Treatment) Only(ids ...string) *Treatment {
	out := &Treatment{removals: append([]*removal{}, t.removals...), motions: t.motions, outer: t.outer}
	for i, r := range out.removals {
		left := *r
		left.of = out
		left.doc.Off = r.doc.Off || !slices.Contains(ids, r.doc.ID)
		out.removals[i] = &left
	}
	return out
}

// An Evaluator evaluates treatments on one plate. Whatever it works out on the
// way is kept in its cache under a hash of what it was made from. It is safe for
// concurrent use.
type Evaluator struct {
	Plate Plate
	Cache *Cache // shared or its own; nil keeps nothing
	// Pictures gives supplied pictures in linear light, premultiplied; nil where there
	// are none.
	Pictures func(context.Context, *treatment.Picture) (*raster.Image, error)

	// Mattes gives supplied mattes: coverage as their code values say, 0 to 1; nil where
	// there are none.
	Mattes func(context.Context, *treatment.Picture) (*raster.Plane, error)

	// Shelf keeps layers of paint for longer than the cache; nil keeps none.
	Shelf Shelf

	painting gates // two requests for the same paint wait for one of them
	// Short keeps what neighbouring frames want again in a moment, apart from the cache, as
	// it would crowd out what lasts; it may be shared. nil for one of its own.
	Short *Cache
	begin sync.Once
}

// scenes keeps what is measured on for as long as neighbouring frames want it.
func (e *Evaluator) scenes() *Cache {
	e.begin.Do(func() {
		if e.Short == nil {
			e.Short = NewCache(160 << 20)
		}
	})
	return e.Short
}

// A Shelf keeps pictures under the hash of what they were made from, also when the
// program ends. It is safe for concurrent use.
type Shelf interface {
	Find(key string) (*raster.Image, bool)
	Keep(key string, m *raster.Image) // returns at once; what it cannot keep it forgets
}

// Key returns the name of what Frame would return: equal keys mean equal
// results, whatever else changed in the document. It is empty where nothing is
// laid on the frame.
func (e *Evaluator) Key(t *Treatment, n int, view View, only string) string {
	parts := []any{view, e.Plate.Key(n)}
	for _, r := range t.removals {
		if keys := r.lies(n, view, only); len(keys) > 0 {
			parts = append(parts, r.doc.ID, keys, r.rides(n), r.key, r.fronts(n), r.leans(n, view))
		}
	}
	if len(parts) == 2 {
		return ""
	}
	return hash(parts...)
}

// lies returns the keys of all that the removal has to lay on frame n.
func (r *removal) lies(n int, view View, only string) (keys []string) {
	if only != "" && r.doc.ID != only && view != ResultView || only == "" && (view == PatchView || view == LightView || view == GrainView) {
		return nil
	}
	if view == PatchView || view == GrainView {
		// Also where it is not laid.
	} else if r.doc.Off || !r.doc.Range.Has(n) || len(r.doc.Mark.Outlines) == 0 {
		return nil
	}
	for _, s := range r.sources {
		if key := r.sourceKey(s, n); key != "" {
			keys = append(keys, key)
		}
	}
	return keys
}

// rides returns how each of the removal's shapes is carried to frame n. Their keys
// over time need no mention: they are part of the removal, and n of the plate's key.
func (r *removal) rides(n int) (out []any) {
	for _, list := range r.doc.Shapes() {
		for i := range *list {
			lie, ok := r.lie(&(*list)[i], n)
			out = append(out, ok, lie.Ride, lie.Shifts)
		}
	}
	return out
}

// lie returns how one of the removal's shapes lies on frame n.
func (r *removal) lie(s *treatment.Shape, n int) (carry.Lie, bool) {
	lie, ok := r.motions.Lie(s, r.doc.Follow.Track, n)
	if _, placed := r.placed[n]; placed && s.Ride == "" && lie.Shifts == nil {
		if w, known := r.way("", s.Home, n); known {
			lie, _ = r.motions.Lie(s, treatment.Still, n)
			lie.Ride, ok = w, true
		}
	}
	return lie, ok
}

// Frame returns what differs from the plate on frame n. only names the removal that
// is looked at, as all views but the result may. The context is honoured between
// removals.
func (e *Evaluator) Frame(ctx context.Context, t *Treatment, n int, view View, only string) (*Result, error) {
	if view == LightView || view == GrainView {
		return e.look(ctx, t.removal(only), n, view)
	}
	type layer struct {
		r       *removal
		through *raster.Plane
	}
	var layers []layer
	var all image.Rectangle
	for _, r := range t.removals {
		if len(r.lies(n, view, only)) == 0 {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		var reach image.Rectangle
		for _, s := range r.sources {
			if r.sourceKey(s, n) == "" {
				continue
			}
			if view == PatchView && s.Kind == treatment.Neighbour {
				reach = reach.Union(r.matte(n, e.Plate.Size()).Rect)
			} else {
				reach = reach.Union(e.bounds(r, s, n))
			}
		}
		through := r.matte(n, reach)
		if view == PatchView {
			shown := *r
			shown.cut = true
			r, through = &shown, raster.NewPlane(reach)
			for i := range through.Pix {
				through.Pix[i] = 1
			}
		}
		if through.Rect.Empty() {
			continue
		}
		layers = append(layers, layer{r, through})
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
	if view == AloneView {
		clear(picture.Pix)
	}
	for _, l := range layers {
		if view == PatchView {
			patch, err := e.fill(ctx, l.r, len(l.r.sources), n, l.through.Rect, false)
			if err != nil {
				return nil, err
			}
			settle.Lay(picture, settle.Patch{Image: patch.Image}, l.through, 1, settle.Normal, touched, nil)
			continue
		}
		if err := e.laid(ctx, l.r, n, view, plate, picture, l.through, touched); err != nil {
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
	return r.covered(r.doc.Mark.Outlines, carry.Edge{Feather: r.doc.Settle.Feather, FeatherIn: r.doc.Settle.FeatherIn, Grow: r.doc.Settle.Grow}, n, within)
}

// covered is the coverage of some shapes of the removal on frame n.
func (r *removal) covered(shapes []treatment.Shape, edge carry.Edge, n int, within image.Rectangle) *raster.Plane {
	return carry.Matte(shapes, edge, within, func(s *treatment.Shape) (carry.Lie, bool) { return r.lie(s, n) })
}
