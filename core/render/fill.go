package render

import (
	"context"
	"fmt"
	"hash/fnv"
	"image"
	"math"
	"strings"

	"jardin/core/carry"
	"jardin/core/fill"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// A source is a place that clean pixels come from, made ready.
type source struct {
	*treatment.Source
	key     string // of all but its strokes
	strokes []*stroke
	steady  string // of all strokes, if they are the same on every frame; else empty
}

// A stroke is one made ready: all that never changes about it is worked out.
type stroke struct {
	*treatment.Stroke
	key string
	box geom.Box // around all that it may cover, at home
}

func ready(s *treatment.Source) (*source, error) {
	plain := *s
	plain.Strokes = nil
	out := &source{Source: s, key: hash(plain)}
	for i := range s.Strokes {
		st := &s.Strokes[i]
		if st.Path != nil && len(st.Path.Points) == 0 && st.Path.Artifact != "" {
			return nil, fmt.Errorf("stroke %d of %q is still an artifact", i+1, s.Name)
		}
		out.strokes = append(out.strokes, &stroke{Stroke: st, key: strokeKey(st), box: strokeBox(st)})
	}
	keys := make([]string, len(out.strokes))
	for i, st := range out.strokes {
		if st.Off || st.Range != nil || st.Ride != "" || (st.From != nil && st.From.Frame != nil) || s.Kind != treatment.HeldPlate {
			return out, nil
		}
		keys[i] = st.key
	}
	out.steady = hash(keys)
	return out, nil
}

func strokeKey(s *treatment.Stroke) string {
	plain := *s
	plain.Off, plain.Range = false, nil
	if plain.Jitter == 0 {
		plain.ID = "" // it only decides how dabs stray
	}
	if plain.Path != nil && plain.Path.Artifact != "" {
		plain.Path = &treatment.Path{Artifact: plain.Path.Artifact, Shift: plain.Path.Shift}
	}
	return hash(plain)
}

func strokeBox(s *treatment.Stroke) geom.Box {
	var at []geom.Point
	grow := s.Size/2 + s.Jitter*s.Size + 2
	if s.Area != nil {
		for i := range s.Area.Points {
			k := s.Area.Points[i].Geom()
			at = append(at, k.At, k.At.Add(k.In), k.At.Add(k.Out))
		}
		grow = s.Area.Feather + 2
	} else {
		for _, t := range touchesOf(s) {
			at = append(at, t.Point)
		}
		grow += 0.05 * s.Size // a curve may bulge
	}
	b := geom.Bounds(at)
	return geom.Box{Min: b.Min.Sub(geom.Pt(grow, grow)), Max: b.Max.Add(geom.Pt(grow, grow))}
}

// on returns the strokes that are there on frame n.
func (s *source) on(n int) []*stroke {
	var out []*stroke
	for _, st := range s.strokes {
		if !st.Off && (st.Range == nil || st.Range.Has(n)) {
			out = append(out, st)
		}
	}
	return out
}

// way returns how what rides on a track, or on the removal's own for none, gets
// from frame a to frame b.
func (r *removal) way(ride string, a, b int) (carry.Way, bool) {
	if ride == "" {
		ride = r.doc.Follow.Track
		if h, ok := r.placed[b]; ok && a != b {
			// The track is being found: what it says so far is from the reference frame.
			if back, known := r.motions.Between(ride, a, r.doc.Reference); known {
				return carry.Straight(h.Mul(back)), true
			}
		}
	}
	return r.motions.Way(ride, a, b)
}

// offset returns a neighbour's offset on frame n.
func (s *source) offset(n int) geom.Point {
	keys := make([]geom.Key, len(s.Offsets))
	for i, k := range s.Offsets {
		keys[i] = geom.Key{Frame: k.Frame, Linear: k.Ease == treatment.Linear, Values: k.Offset[:]}
	}
	v := geom.Between(keys, n)
	return geom.Pt(v[0], v[1])
}

// sourceKey names what a source lays on frame n; empty where it lays nothing. The
// plate's frames are named by their numbers: whose plate it is the caller knows.
func (r *removal) sourceKey(s *source, n int) string {
	weight := s.Weight(n)
	if weight == 0 {
		return ""
	}
	parts := []any{s.key, weight}
	w, known := r.way("", s.Frame, n)
	switch s.Kind {
	case treatment.Neighbour:
		parts = append(parts, s.offset(n), n)
		if !s.Screen {
			if !known {
				return ""
			}
			parts = append(parts, w)
		}
	case treatment.Piece:
		if !known {
			return ""
		}
		parts = append(parts, w)
	default:
		if s.steady != "" && (len(s.strokes) > 0 || s.Whole || s.Picture != nil) {
			if !known {
				return ""
			}
			parts = append(parts, w, s.steady)
			break
		}
		strokes := s.on(n)
		if s.Kind == treatment.HeldPlate && (s.Whole || s.Picture != nil) {
			if known {
				parts = append(parts, w)
			} else if len(strokes) == 0 {
				return ""
			}
		} else if len(strokes) == 0 {
			return ""
		}
		// All strokes count, also those that are not there: others may copy them.
		some := false
		for _, st := range strokes {
			home := st.Home
			if s.Kind == treatment.HeldPlate {
				home = s.Frame
			}
			if w, ok := r.way(st.Ride, home, n); ok {
				some = true
				parts = append(parts, st.key, w, r.lent(st))
			}
		}
		if s.Kind == treatment.HeldPlate {
			parts = append(parts, len(strokes) == len(s.strokes))
			if len(strokes) != len(s.strokes) {
				for _, st := range s.strokes {
					parts = append(parts, st.key, st.Off)
				}
			}
		} else {
			parts = append(parts, n)
		}
		if !some && !s.Whole && s.Picture == nil {
			return ""
		}
	}
	for i := range s.Where {
		lie, ok := r.lie(&s.Where[i], n)
		parts = append(parts, ok, lie.Ride, lie.Shifts)
	}
	return hash(parts...)
}

// lent returns how the frame that lends a stroke its pixels lies to the stroke's.
func (r *removal) lent(st *stroke) any {
	if st.From == nil || st.From.Frame == nil {
		return nil
	}
	w, ok := r.way(st.Ride, st.Home, *st.From.Frame)
	return []any{ok, w}
}

// bounds returns what of a frame a source may cover on frame n.
func (e *Evaluator) bounds(r *removal, s *source, n int) (out image.Rectangle) {
	size := e.Plate.Size()
	add := func(w carry.Way, b geom.Box, margin float64) {
		out = out.Union(raster.Around(w.Bounds(b), margin, size))
	}
	w, known := r.way("", s.Frame, n)
	switch {
	case s.Kind == treatment.Neighbour:
		return size
	case s.Kind == treatment.Piece:
		if known {
			add(w, geom.Bounds(treatment.Points(s.Corners)), 3)
		}
		return out
	case s.Kind == treatment.HeldPlate && (s.Whole || s.Picture != nil) && known:
		add(w, boxOf(size), 2)
	}
	for _, st := range s.on(n) {
		home := st.Home
		if s.Kind == treatment.HeldPlate {
			home = s.Frame
		}
		if w, ok := r.way(st.Ride, home, n); ok {
			add(w, st.box, 2)
		}
	}
	return out
}

func boxOf(r image.Rectangle) geom.Box {
	return geom.Box{Min: geom.Pt(float64(r.Min.X), float64(r.Min.Y)), Max: geom.Pt(float64(r.Max.X), float64(r.Max.Y))}
}

// fill lays the first upTo sources of a removal on frame n, one over the other, and
// returns what they make in rect: premultiplied, transparent where they say nothing.
func (e *Evaluator) fill(ctx context.Context, r *removal, upTo, n int, rect image.Rectangle) (*raster.Image, error) {
	// Travelling strokes may copy what lies beyond.
	region := rect
	for _, s := range r.sources[:upTo] {
		if s.Kind == treatment.Travelling && s.Weight(n) > 0 {
			for _, st := range s.on(n) {
				if w, ok := r.way(st.Ride, st.Home, n); ok {
					region = region.Union(raster.Around(w.Bounds(st.box), 2, e.Plate.Size()))
					if st.From != nil && st.From.Frame == nil {
						region = region.Union(raster.Around(w.Bounds(originOf(st.Stroke, st.box)), 3, e.Plate.Size()))
					}
				}
			}
		}
	}
	out := raster.NewImage(region)
	for i, s := range r.sources[:upTo] {
		if r.sourceKey(s, n) == "" {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		var err error
		weight := float32(s.Weight(n))
		switch s.Kind {
		case treatment.HeldPlate:
			err = e.held(ctx, r, i, n, out, weight)
		case treatment.Travelling:
			err = e.travel(ctx, r, s, n, out, weight)
		case treatment.Neighbour:
			err = e.neighbour(ctx, r, s, n, out, weight)
		case treatment.Piece:
			err = e.piece(ctx, r, s, n, out, weight)
		}
		if err != nil {
			return nil, fmt.Errorf("%q of %q on frame %d: %w", s.Name, r.doc.Name, n, err)
		}
	}
	if region != rect {
		out = out.Crop(rect)
	}
	return out, nil
}

// over lays a premultiplied picture over another, where a source counts.
func (r *removal) over(out, src *raster.Image, s *source, n int, weight float32) {
	where := r.where(s, n, src.Rect)
	both := out.Rect.Intersect(src.Rect)
	for y := both.Min.Y; y < both.Max.Y; y++ {
		dst, from := out.Row(y, both.Min.X, both.Max.X), src.Row(y, both.Min.X, both.Max.X)
		for i := 0; i < len(dst); i += 4 {
			k := weight
			if where != nil {
				k *= where.At(both.Min.X+i/4, y)
			}
			if k == 0 || from[i+3] == 0 {
				continue
			}
			rest := 1 - k*from[i+3]
			for c := range 4 {
				dst[i+c] = from[i+c]*k + dst[i+c]*rest
			}
		}
	}
}

// where returns where a source counts on frame n; nil for everywhere.
func (r *removal) where(s *source, n int, within image.Rectangle) *raster.Plane {
	if r.cut && s.Kind == treatment.Neighbour && len(s.Where) == 0 {
		return r.matte(n, within)
	}
	if len(s.Where) == 0 {
		return nil
	}
	return carry.Matte(s.Where, 0, within, func(o *treatment.Shape) (carry.Lie, bool) { return r.lie(o, n) })
}

// warp looks at a picture along the way back.
func warp(src *raster.Image, back carry.Way, rect image.Rectangle) *raster.Image {
	if back.Bent == nil && back.Homography == geom.Identity {
		return src.Crop(rect) // on its own frame nothing is carried
	}
	if back.Bent == nil {
		return raster.Warp(src, back.Homography, rect)
	}
	return raster.WarpBy(src, back.Apply, rect)
}

// held lays a clean plate: what was painted on its frame, carried to frame n.
func (e *Evaluator) held(ctx context.Context, r *removal, i, n int, out *raster.Image, weight float32) error {
	s := r.sources[i]
	var rides []string
	seen := map[string]bool{}
	add := func(ride string) {
		if !seen[ride] {
			seen[ride] = true
			rides = append(rides, ride)
		}
	}
	if s.Whole || s.Picture != nil {
		add("")
	}
	strokes := s.on(n)
	for _, st := range strokes {
		add(st.Ride)
	}
	for _, ride := range rides {
		w, ok := r.way(ride, s.Frame, n)
		if !ok {
			continue
		}
		back, ok := w.Inverse()
		if !ok {
			return fmt.Errorf("the track cannot be inverted")
		}
		layer, err := e.paint(ctx, r, i, strokes, ride, len(rides) == 1)
		if err != nil {
			return err
		}
		if layer.Rect.Empty() {
			continue
		}
		reach := raster.Around(w.Bounds(boxOf(layer.Rect)), 2, out.Rect)
		r.over(out, warp(layer, back, reach), s, n, weight)
	}
	return nil
}

// shelved is after how many strokes a layer is shelved: so many are painted anew at
// most when a shot is opened again.
const shelved = 32

// paint returns what lies on a plate's own frame of the given strokes, those of one
// ride. alone says that they have no other. It starts from the longest beginning
// that is still in the cache, so that one more stroke costs one stroke.
func (e *Evaluator) paint(ctx context.Context, r *removal, i int, there []*stroke, ride string, alone bool) (*raster.Image, error) {
	s := r.sources[i]
	var strokes []*stroke
	for _, st := range s.strokes {
		if !st.Off {
			strokes = append(strokes, st)
		}
	}
	// Strokes that are not there on the frame in question may still be copied by others.
	share := !alone || len(there) != len(strokes)
	counts := make([]bool, len(strokes))
	k := 0
	for j, st := range strokes {
		if k < len(there) && there[k] == st {
			counts[j] = st.Ride == ride
			k++
		}
	}
	base := []any{"paint", e.Plate.Key(s.Frame), s.Whole, share, ride}
	if s.Picture != nil {
		base = append(base, s.key)
	}
	for _, below := range r.sources[:i] {
		if key := r.sourceKey(below, s.Frame); key != "" {
			base = append(base, key)
		}
	}
	keys := make([]string, len(strokes)+1)
	keys[0] = hash(base...)
	for j, st := range strokes {
		keys[j+1] = hash(keys[j], st.key, r.lent(st), counts[j])
	}
	defer e.painting.enter(keys[0])() // sources below have other names: nobody waits for himself
	type layers struct{ all, shared *raster.Image }
	found, done := layers{}, len(strokes)
	for ; done >= 0; done-- {
		if v, ok := e.Cache.Get(keys[done]); ok {
			found = v.(layers)
			break
		}
		if !share && e.Shelf != nil && done > 0 && done%shelved == 0 {
			if m, ok := e.Shelf.Find(keys[done]); ok {
				found.all = m
				break
			}
		}
	}
	if done == len(strokes) {
		if share {
			return found.shared, nil
		}
		return found.all, nil
	}
	c, err := e.canvas(ctx, r, i)
	if err != nil {
		return nil, err
	}
	if done < 0 {
		done = 0
		if found.all, err = e.bed(ctx, s); err != nil {
			return nil, err
		}
		if share && ride == "" {
			found.shared = found.all
		}
	}
	c.Load(found.all)
	if share {
		c.Share(true)
		if found.shared != nil {
			c.LoadShared(found.shared)
		}
	}
	for j := done; j < len(strokes); j++ {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if share {
			c.Share(counts[j])
		}
		if err := e.lay(ctx, r, c, strokes[j], s.Frame); err != nil {
			return nil, err
		}
		if !share && e.Shelf != nil && (j+1)%shelved == 0 && len(strokes)-j <= shelved {
			e.Shelf.Keep(keys[j+1], c.Layer())
		}
	}
	out := layers{all: c.Layer()}
	bytes := out.all.Bytes()
	if share {
		out.shared = c.Shared()
		bytes += out.shared.Bytes()
	}
	e.Cache.Put(keys[len(strokes)], out, bytes)
	if share {
		return out.shared, nil
	}
	return out.all, nil
}

// canvas returns an empty canvas for a plate, the sources below it in place.
func (e *Evaluator) canvas(ctx context.Context, r *removal, i int) (*fill.Canvas, error) {
	s := r.sources[i]
	plate, err := e.Plate.Linear(ctx, s.Frame, e.Plate.Size())
	if err != nil {
		return nil, fmt.Errorf("frame %d, on which it is painted: %w", s.Frame, err)
	}
	c := fill.NewCanvas(plate)
	return c, e.under(ctx, r, i, s.Frame, c)
}

// under lays the first i sources under a canvas of frame n, if they are there.
func (e *Evaluator) under(ctx context.Context, r *removal, i, n int, c *fill.Canvas) error {
	for _, below := range r.sources[:i] {
		if r.sourceKey(below, n) != "" {
			made, err := e.fill(ctx, r, i, n, e.Plate.Size())
			if err != nil {
				return err
			}
			c.Over(made)
			return nil
		}
	}
	return nil
}

// bed returns what lies on a plate before any stroke: its whole frame, a supplied
// picture, or nothing.
func (e *Evaluator) bed(ctx context.Context, s *source) (*raster.Image, error) {
	out := raster.NewImage(image.Rectangle{})
	if s.Whole {
		plate, err := e.Plate.Linear(ctx, s.Frame, e.Plate.Size())
		if err != nil {
			return nil, err
		}
		out = plate.Crop(e.Plate.Size())
	}
	if s.Picture == nil {
		return out, nil
	}
	picture, err := e.picture(ctx, s.Picture)
	if err != nil {
		return nil, err
	}
	if !s.Whole {
		return picture, nil
	}
	(&removal{}).over(out, picture, &source{Source: &treatment.Source{}}, 0, 1)
	return out, nil
}

func (e *Evaluator) picture(ctx context.Context, p *treatment.Picture) (*raster.Image, error) {
	if e.Pictures == nil {
		return nil, fmt.Errorf("the picture %q cannot be read here", p.Name)
	}
	return e.Pictures(ctx, p)
}

// lay paints a stroke on a canvas of frame n.
func (e *Evaluator) lay(ctx context.Context, r *removal, c *fill.Canvas, st *stroke, n int) error {
	w, ok := r.way(st.Ride, st.Home, n)
	if !ok && n != st.Home {
		return nil // not followed to there
	}
	if n == st.Home {
		w = carry.Straight(geom.Identity)
	}
	brush, err := e.strokeOn(ctx, r, st.Stroke, w, n, &st.box)
	if err != nil {
		return err
	}
	if st.Area != nil {
		// Half of a soft edge lies inside the outline: it is drawn where the pixels part.
		shape := treatment.Shape{Kind: treatment.Outline, Home: st.Home, Points: st.Area.Points, Feather: st.Area.Feather / 2, FeatherIn: st.Area.Feather / 2}
		lie := carry.Lie{Points: shape.Points, Placement: geom.Identity, Ride: w}
		c.Area(brush, lie.Cover(&shape, 0, raster.Around(w.Bounds(st.box), 2, e.Plate.Size())))
		return nil
	}
	path := touchesOf(st.Stroke)
	if n != st.Home {
		for i := range path {
			path[i].Point = w.Apply(path[i].Point)
		}
	}
	c.Paint(brush, path)
	return nil
}

// strokeOn returns the brush of a stroke on frame n, to which w takes its home. box
// is what it may cover at home; nil for anything.
func (e *Evaluator) strokeOn(ctx context.Context, r *removal, s *treatment.Stroke, w carry.Way, n int, box *geom.Box) (fill.Stroke, error) {
	seed := fnv.New64a()
	_, _ = seed.Write([]byte(s.ID)) // a hash takes anything
	out := fill.Stroke{
		Mode: fill.Mode(s.Mode), Size: s.Size, Hardness: s.Hardness, Opacity: s.Opacity, Spacing: s.Spacing,
		Roundness: s.Roundness, Angle: s.Angle, Jitter: s.Jitter, Seed: seed.Sum64(), Amount: s.Amount,
	}
	if s.Flow != nil {
		out.Flow = *s.Flow
	}
	for _, p := range s.Pen {
		switch p {
		case "size":
			out.Pen.Size = true
		case "opacity":
			out.Pen.Opacity = true
		case "flow":
			out.Pen.Flow = true
		}
	}
	if s.Channels != "" {
		out.Channels = [3]bool{strings.Contains(s.Channels, "r"), strings.Contains(s.Channels, "g"), strings.Contains(s.Channels, "b")}
	}
	if s.Colour != nil {
		out.Colour = [3]float32{float32(s.Colour[0]), float32(s.Colour[1]), float32(s.Colour[2])}
	}
	straight := w.Bent == nil && w.Homography == geom.Identity
	begin := beginOf(s)
	if !straight {
		scale := w.Scale(begin)
		out.Size *= scale
		if s.Mode == string(fill.Soften) {
			out.Amount *= scale
		}
	}
	o := s.From
	if o == nil || !out.Mode.Copies() {
		return out, nil
	}
	out.From.Plain = o.Plain
	from := FromOf(o, begin)
	shift, simple := simpleOffset(o)
	if o.Frame != nil {
		over, ok := r.way(s.Ride, s.Home, *o.Frame)
		if !ok {
			over = carry.Straight(geom.Identity) // brought into place by hand alone
		}
		region := e.Plate.Size()
		if box != nil {
			region = raster.Around(over.Bounds(geom.Bounds(cornersOf(from, *box))), 4, region)
		}
		back, ok := w.Inverse()
		if !ok {
			return out, fmt.Errorf("the track cannot be inverted")
		}
		var err error
		if out.From.Picture, err = e.Plate.Linear(ctx, *o.Frame, region); err != nil {
			return out, fmt.Errorf("frame %d, which is lent: %w", *o.Frame, err)
		}
		if simple && straight && over.Bent == nil && over.Homography == geom.Identity {
			out.From.Shift = shift
			return out, nil
		}
		out.From.Map = func(p geom.Point) geom.Point {
			if !straight {
				p = back.Apply(p)
			}
			return over.Apply(from.Apply(p))
		}
		return out, nil
	}
	if simple {
		out.From.Shift = shift
		if straight {
			return out, nil
		}
		// Carried, the offset turns and grows with the surface.
		middle := w.Apply(begin)
		if o.Crisp {
			d := w.Apply(begin.Add(shift)).Sub(middle)
			out.From.Shift = geom.Pt(math.Round(d.X), math.Round(d.Y))
			return out, nil
		}
	} else if straight {
		out.From.Map = from.Apply
		return out, nil
	}
	back, ok := w.Inverse()
	if !ok {
		return out, fmt.Errorf("the track cannot be inverted")
	}
	out.From.Map = func(p geom.Point) geom.Point { return w.Apply(from.Apply(back.Apply(p))) }
	return out, nil
}

// simpleOffset returns the offset of an origin that does nothing else.
func simpleOffset(o *treatment.From) (geom.Point, bool) {
	d := o.Offset.Point()
	if o.Crisp {
		d = geom.Pt(math.Round(d.X), math.Round(d.Y))
	}
	return d, o.Turn == 0 && (o.Scale == 0 || o.Scale == 1) && !o.Mirror
}

// FromOf returns where the pixels painted at a place come from, at home. begin stands
// for a middle that is not given.
func FromOf(o *treatment.From, begin geom.Point) geom.Homography {
	middle := begin
	if o.Middle != nil {
		middle = o.Middle.Point()
	}
	offset, _ := simpleOffset(o)
	scale := o.Scale
	if scale == 0 {
		scale = 1
	}
	across := scale
	if o.Mirror {
		across = -scale
	}
	return geom.Placement(middle, offset, o.Turn, geom.Pt(across, scale))
}

func cornersOf(h geom.Homography, b geom.Box) []geom.Point {
	corners := b.Corners()
	return h.ApplyAll(corners[:])
}

// originOf returns the box that a stroke's pixels come from, at home.
func originOf(s *treatment.Stroke, box geom.Box) geom.Box {
	return geom.Bounds(cornersOf(FromOf(s.From, beginOf(s)), box))
}

// beginOf returns where a stroke begins; of an area the middle.
func beginOf(s *treatment.Stroke) geom.Point {
	if s.Area != nil {
		at := make([]geom.Point, len(s.Area.Points))
		for i := range at {
			at[i] = s.Area.Points[i].At.Point()
		}
		return geom.Bounds(at).Centre()
	}
	if s.Path == nil || len(s.Path.Points) == 0 {
		return geom.Point{}
	}
	p := geom.Pt(s.Path.Points[0][0], s.Path.Points[0][1])
	if s.Path.Shift != nil {
		p = p.Add(s.Path.Shift.Point())
	}
	return p
}

// travel paints the strokes that are there on frame n on its own pixels.
func (e *Evaluator) travel(ctx context.Context, r *removal, s *source, n int, out *raster.Image, weight float32) error {
	plate, err := e.Plate.Linear(ctx, n, out.Rect)
	if err != nil {
		return err
	}
	if plate.Rect != out.Rect {
		plate = plate.Crop(out.Rect)
	}
	c := fill.NewCanvas(plate)
	c.Load(out)
	for _, st := range s.on(n) {
		if err := e.lay(ctx, r, c, st, n); err != nil {
			return err
		}
	}
	where, made := r.where(s, n, out.Rect), c.View(out.Rect)
	if where == nil && weight == 1 {
		copy(out.Pix, made.Pix)
		return nil
	}
	for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
		dst, src := out.Row(y, out.Rect.Min.X, out.Rect.Max.X), made.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		for i := range dst {
			k := weight
			if where != nil {
				k *= where.At(out.Rect.Min.X+i/4, y)
			}
			dst[i] += (src[i] - dst[i]) * k
		}
	}
	return nil
}

// neighbour lays the frame's own pixels from an offset: light, focus and grain are
// right by themselves.
func (e *Evaluator) neighbour(ctx context.Context, r *removal, s *source, n int, out *raster.Image, weight float32) error {
	shift := s.offset(n)
	at := func(p geom.Point) geom.Point { return p.Add(shift) }
	if w, ok := r.way("", s.Frame, n); !s.Screen && ok {
		back, ok := w.Inverse()
		if !ok {
			return fmt.Errorf("the track cannot be inverted")
		}
		at = func(p geom.Point) geom.Point { return w.Apply(back.Apply(p).Add(shift)) }
	}
	size := e.Plate.Size()
	if s.Crisp {
		middle := boxOf(out.Rect).Centre()
		if len(r.doc.Mark.Outlines) > 0 {
			if lie, ok := r.lie(&r.doc.Mark.Outlines[0], n); ok {
				middle = lie.Ride.Apply(carry.Centre(&r.doc.Mark.Outlines[0]))
			}
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
		r.over(out, moved, s, n, weight)
		return nil
	}
	var edge []geom.Point
	for _, p := range boxOf(out.Rect.Inset(-1)).Corners() {
		edge = append(edge, at(p))
	}
	from := raster.Around(geom.Bounds(edge), 4, size)
	if from.Empty() {
		return nil
	}
	plate, err := e.Plate.Linear(ctx, n, from)
	if err != nil {
		return err
	}
	r.over(out, raster.WarpBy(plate, at, out.Rect), s, n, weight)
	return nil
}

// piece lays a supplied picture by its corners.
func (e *Evaluator) piece(ctx context.Context, r *removal, s *source, n int, out *raster.Image, weight float32) error {
	w, ok := r.way("", s.Frame, n)
	if !ok {
		return nil
	}
	back, ok := w.Inverse()
	if !ok {
		return fmt.Errorf("the track cannot be inverted")
	}
	picture, err := e.picture(ctx, s.Picture)
	if err != nil {
		return err
	}
	around := boxOf(picture.Rect).Corners()
	place, err := geom.Fit(geom.Perspective, around[:], treatment.Points(s.Corners), nil)
	if err != nil {
		return err
	}
	lift, ok := place.Inverse()
	if !ok {
		return fmt.Errorf("its corners lie such that nothing can be laid there")
	}
	middle := boxOf(picture.Rect).Centre()
	if shrink := 1 / (place.Scale(middle) * w.Scale(place.Apply(middle))); shrink > 1.2 {
		// Made smaller, fine detail would flicker: it is blurred to what is left of it.
		picture = raster.GaussianImage(picture, 0.45*math.Sqrt(shrink*shrink-1))
	}
	reach := raster.Around(w.Bounds(geom.Bounds(treatment.Points(s.Corners))), 3, out.Rect)
	var laid *raster.Image
	if back.Bent == nil {
		laid = raster.Warp(picture, lift.Mul(back.Homography), reach)
	} else {
		laid = raster.WarpBy(picture, func(p geom.Point) geom.Point { return lift.Apply(back.Apply(p)) }, reach)
	}
	r.over(out, laid, s, n, weight)
	return nil
}

// Easel returns what a live stroke is painted on: the frame with the paint of one
// source on it, and all that lies below. A source that is not there yet lies over
// all others, and is of the given kind.
func (e *Evaluator) Easel(ctx context.Context, t *Treatment, removal, source, kind string, n int) (*fill.Canvas, error) {
	r := t.removal(removal)
	if r == nil {
		return nil, fmt.Errorf("there is no removal %q", removal)
	}
	i := len(r.sources)
	for k, s := range r.sources {
		if s.ID == source {
			i, kind = k, s.Kind
		}
	}
	plate, err := e.Plate.Linear(ctx, n, e.Plate.Size())
	if err != nil {
		return nil, err
	}
	c := fill.NewCanvas(plate)
	if kind == treatment.Travelling {
		below, err := e.fill(ctx, r, min(i+1, len(r.sources)), n, e.Plate.Size())
		if err != nil {
			return nil, err
		}
		c.Load(below)
		return c, nil
	}
	if err := e.under(ctx, r, i, n, c); err != nil {
		return nil, err
	}
	if i < len(r.sources) {
		s := r.sources[i]
		var there []*stroke
		for _, st := range s.strokes {
			if !st.Off {
				there = append(there, st)
			}
		}
		layer, err := e.paint(ctx, r, i, there, "", true)
		if err != nil {
			return nil, err
		}
		c.Load(layer)
	}
	return c, nil
}

// Brush returns the brush of a stroke that is being painted on its home.
func (e *Evaluator) Brush(ctx context.Context, t *Treatment, removal string, s *treatment.Stroke, begin treatment.Vec) (fill.Stroke, error) {
	r := t.removal(removal)
	if r == nil {
		return fill.Stroke{}, fmt.Errorf("there is no removal %q", removal)
	}
	at := *s
	at.Path = &treatment.Path{Points: [][]float64{{begin[0], begin[1]}}}
	return e.strokeOn(ctx, r, &at, carry.Straight(geom.Identity), s.Home, nil)
}

// touchesOf returns a stroke's points where they lie.
func touchesOf(s *treatment.Stroke) []fill.Touch {
	if s.Path == nil {
		return nil
	}
	out := Touches(s.Path.Points)
	if s.Path.Shift != nil {
		for i := range out {
			out[i].Point = out[i].Point.Add(s.Path.Shift.Point())
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
