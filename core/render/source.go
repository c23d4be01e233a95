package render

import (
	"context"
	"fmt"
	"image"
	"math"

	"jardin/core/carry"
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
			if w, ok := r.way(st.Ride, st.Home, n); ok {
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
		if w, ok := r.way(st.Ride, st.Home, n); ok {
			add(w, st.box, 2)
		}
	}
	return out
}

func boxOf(r image.Rectangle) geom.Box {
	return geom.Box{Min: geom.Pt(float64(r.Min.X), float64(r.Min.Y)), Max: geom.Pt(float64(r.Max.X), float64(r.Max.Y))}
}

// A filling is what sources make on a frame: premultiplied, transparent where they
// say nothing, and the share of each pixel that is held still, premultiplied.
type filling struct {
	*raster.Image
	still *raster.Plane
}

// fill lays the first upTo sources of a removal on frame n, one over the other, and
// returns what they make in rect, settled or as it was painted.
func (e *Evaluator) fill(ctx context.Context, r *removal, upTo, n int, rect image.Rectangle, settled bool) (*filling, error) {
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
	out := &filling{raster.NewImage(region), raster.NewPlane(region)}
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
			err = e.held(ctx, r, i, n, out, weight, settled)
		case treatment.Travelling:
			err = e.travel(ctx, r, s, n, out, weight)
		case treatment.Neighbour:
			err = e.neighbour(ctx, r, s, n, out, weight)
		case treatment.Piece:
			err = e.piece(ctx, r, s, n, out, weight, settled)
		}
		if err != nil {
			return nil, fmt.Errorf("%q of %q on frame %d: %w", s.Name, r.doc.Name, n, err)
		}
	}
	if region != rect {
		out = &filling{out.Crop(rect), out.still.Crop(rect)}
	}
	return out, nil
}

// over lays a premultiplied picture over another, where a source counts. still is
// the share of it that is held.
func (r *removal) over(out *filling, src *raster.Image, s *source, n int, weight, still float32) {
	where := r.where(s, n, src.Rect)
	both := out.Rect.Intersect(src.Rect)
	raster.Rows(both.Min.Y, both.Max.Y, func(y int) {
		dst, from := out.Row(y, both.Min.X, both.Max.X), src.Row(y, both.Min.X, both.Max.X)
		held := out.still.Row(y, both.Min.X, both.Max.X)
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
			held[i/4] = still*k*from[i+3] + held[i/4]*rest
		}
	})
}

// where returns where a source counts on frame n; nil for everywhere.
func (r *removal) where(s *source, n int, within image.Rectangle) *raster.Plane {
	if r.cut && s.Kind == treatment.Neighbour && len(s.Where) == 0 {
		return r.matte(n, within)
	}
	if len(s.Where) == 0 {
		return nil
	}
	return r.covered(s.Where, carry.Edge{}, n, within)
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

func (e *Evaluator) picture(ctx context.Context, p *treatment.Picture) (*raster.Image, error) {
	if e.Pictures == nil {
		return nil, fmt.Errorf("the picture %q cannot be read here", p.Name)
	}
	return e.Pictures(ctx, p)
}

// neighbour lays the frame's own pixels from an offset: light, focus and grain are
// right by themselves.
func (e *Evaluator) neighbour(ctx context.Context, r *removal, s *source, n int, out *filling, weight float32) error {
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
		r.over(out, moved, s, n, weight, 0)
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
	r.over(out, raster.WarpBy(plate, at, out.Rect), s, n, weight, 0)
	return nil
}

// piece lays a supplied picture by its corners.
func (e *Evaluator) piece(ctx context.Context, r *removal, s *source, n int, out *filling, weight float32, settled bool) error {
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
	lay := func(reach image.Rectangle) *raster.Image {
		if back.Bent == nil {
			return raster.Warp(picture, lift.Mul(back.Homography), reach)
		}
		return raster.WarpBy(picture, func(p geom.Point) geom.Point { return lift.Apply(back.Apply(p)) }, reach)
	}
	bounds := w.Bounds(geom.Bounds(treatment.Points(s.Corners)))
	if !settled || !r.settles() {
		r.over(out, lay(raster.Around(bounds, 3, out.Rect)), s, n, weight, 1)
		return nil
	}
	// What it is compared with, to follow the light, is the frame on which it was placed.
	laid, err := e.follow(ctx, r, s, "", n, raster.Around(bounds, 40, out.Rect), r.holds(raster.NewImage(image.Rectangle{}), s, "", n), lay)
	if err != nil {
		return err
	}
	r.over(out, laid, s, n, weight, 1)
	return nil
}
