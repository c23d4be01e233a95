package render

import (
	"context"
	"fmt"
	"image"

	"jardin/core/fill"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// held lays a clean plate: what was painted on its frame, carried to frame n.
func (e *Evaluator) held(ctx context.Context, r *removal, i, n int, out *filling, weight float32, settled bool) error {
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
		laid := warp(layer, back, reach)
		if settled && r.settles() && !reach.Empty() {
			colour, err := e.follow(ctx, r, s, ride, n, reach, r.holds(layer, s, ride, n), nil)
			if err != nil {
				return err
			}
			// The paint's own edge stays where it is.
			raster.Rows(reach.Min.Y, reach.Max.Y, func(y int) {
				row, own := laid.Row(y, reach.Min.X, reach.Max.X), colour.Row(y, reach.Min.X, reach.Max.X)
				for k := 0; k < len(row); k += 4 {
					row[k], row[k+1], row[k+2] = own[k]*row[k+3], own[k+1]*row[k+3], own[k+2]*row[k+3]
				}
			})
		}
		r.over(out, laid, s, n, weight, 1)
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
	base := []any{"paint", e.Plate.Key(s.Frame), s.Whole, share, ride, r.calmKey(s.Frame)}
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
		if found.all, err = e.bed(ctx, r, s); err != nil {
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
	plate, err := e.bare(ctx, r, s.Frame, e.Plate.Size())
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
			made, err := e.fill(ctx, r, i, n, e.Plate.Size(), false)
			if err != nil {
				return err
			}
			c.Over(made.Image)
			return nil
		}
	}
	return nil
}

// bed returns what lies on a plate before any stroke: its whole frame, a supplied
// picture, or nothing.
func (e *Evaluator) bed(ctx context.Context, r *removal, s *source) (*raster.Image, error) {
	out := raster.NewImage(image.Rectangle{})
	if s.Whole {
		plate, err := e.bare(ctx, r, s.Frame, e.Plate.Size())
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
	out.Over(picture)
	return out, nil
}

// travel paints the strokes that are there on frame n on its own pixels.
func (e *Evaluator) travel(ctx context.Context, r *removal, s *source, n int, out *filling, weight float32) error {
	plate, err := e.Plate.Linear(ctx, n, out.Rect)
	if err != nil {
		return err
	}
	if plate.Rect != out.Rect {
		plate = plate.Crop(out.Rect)
	}
	c := fill.NewCanvas(plate)
	c.Load(out.Image)
	for _, st := range s.on(n) {
		if err := e.lay(ctx, r, c, st, n); err != nil {
			return err
		}
	}
	// Plain colour and blurred pixels have no grain of their own.
	var still float32
	for _, st := range s.on(n) {
		if st.Mode != string(fill.Colour) && st.Mode != string(fill.Soften) {
			still = 0
			break
		}
		still = 1
	}
	where, made := r.where(s, n, out.Rect), c.View(out.Rect)
	for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
		dst, src := out.Row(y, out.Rect.Min.X, out.Rect.Max.X), made.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		held := out.still.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		for i := 0; i < len(dst); i += 4 {
			if [4]float32(dst[i:]) == [4]float32(src[i:]) {
				continue
			}
			k := weight
			if where != nil {
				k *= where.At(out.Rect.Min.X+i/4, y)
			}
			for c := range 4 {
				dst[i+c] += (src[i+c] - dst[i+c]) * k
			}
			held[i/4] += (still*src[i+3] - held[i/4]) * k
		}
	}
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
	if kind == treatment.Travelling {
		plate, err := e.Plate.Linear(ctx, n, e.Plate.Size())
		if err != nil {
			return nil, err
		}
		c := fill.NewCanvas(plate)
		below, err := e.fill(ctx, r, min(i+1, len(r.sources)), n, e.Plate.Size(), false)
		if err != nil {
			return nil, err
		}
		c.Load(below.Image)
		return c, nil
	}
	plate, err := e.bare(ctx, r, n, e.Plate.Size())
	if err != nil {
		return nil, err
	}
	c := fill.NewCanvas(plate)
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
