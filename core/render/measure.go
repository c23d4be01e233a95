package render

import (
	"context"
	"fmt"
	"image"
	"math"
	"runtime"
	"sync"

	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// calmKey names what a calmed frame depends on besides the plate.
func (r *removal) calmKey(frame int) any {
	g := r.grain()
	if g == nil || g.Calm == nil {
		return nil
	}
	parts := []any{*g.Calm}
	for k := frame - g.Calm.Over; k <= frame+g.Calm.Over; k++ {
		w, ok := r.way("", frame, k)
		parts = append(parts, w, ok)
	}
	if g.Model != nil {
		parts = append(parts, g.Model.Sigma)
	}
	return hash(parts...)
}

// bare returns a frame as it is painted on: the plate, its grain taken out if that
// is wanted. What it returns may cover more than rect.
func (e *Evaluator) bare(ctx context.Context, r *removal, frame int, rect image.Rectangle) (*raster.Image, error) {
	calm := r.calmKey(frame)
	if calm == nil {
		return e.Plate.Linear(ctx, frame, rect)
	}
	key := hash("calm", e.Plate.Key(frame), calm)
	defer e.painting.enter(key)()
	if v, ok := e.Cache.Get(key); ok {
		return v.(*raster.Image), nil
	}
	if e.Shelf != nil {
		if m, ok := e.Shelf.Find(key); ok {
			e.Cache.Put(key, m, m.Bytes())
			return m, nil
		}
	}
	size := e.Plate.Size()
	plate, err := e.Plate.Linear(ctx, frame, size)
	if err != nil {
		return nil, err
	}
	g := r.grain()
	var noise [3]float64
	if g.Model != nil {
		m := grainOf(g.Model)
		middle := m.Light[len(m.Light)/2]
		for c := range noise {
			noise[c] = m.At(c, middle) / (2 * math.Sqrt(middle))
		}
	}
	calmer := settle.NewCalmer(plate, noise)
	for k := frame - g.Calm.Over; k <= frame+g.Calm.Over; k++ {
		w, ok := r.way("", frame, k)
		if k == frame || !ok {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		other, err := e.Plate.Linear(ctx, k, size)
		if err != nil {
			continue // beyond the shot
		}
		calmer.Help(warp(other, w, size))
	}
	out := calmer.Done(plate, g.Calm.Strength)
	e.Cache.Put(key, out, out.Bytes())
	if e.Shelf != nil {
		e.Shelf.Keep(key, out)
	}
	return out, nil
}

// outer returns where on frame n light and detail must not be measured: 1 on every
// matte, every front and what is left out of the removal's track, and two pixels
// around them.
func (e *Evaluator) outer(ctx context.Context, r *removal, n int, rect image.Rectangle) (*raster.Plane, error) {
	out := raster.NewPlane(rect)
	var some image.Rectangle
	add := func(m *raster.Plane, from float32) {
		both := m.Rect.Intersect(rect)
		some = some.Union(both)
		for y := both.Min.Y; y < both.Max.Y; y++ {
			dst := out.Row(y, both.Min.X, both.Max.X)
			for x, v := range m.Row(y, both.Min.X, both.Max.X) {
				if v > from {
					dst[x] = 1
				}
			}
		}
	}
	for _, other := range r.of.removals {
		if other.doc.ID == r.doc.ID {
			other = r
		}
		add(other.matte(n, rect), 0)
		if g := other.doc.Guard; g != nil {
			for i := range g.Fronts {
				if g.Fronts[i].Off {
					continue
				}
				m, err := e.front(ctx, other, &g.Fronts[i], n, rect)
				if err != nil {
					return nil, err
				}
				add(m, 0.02)
			}
		}
	}
	if m := r.motions.Motion(r.doc.Follow.Track); m != nil && len(m.Track.Exclusions) > 0 {
		add(carry.Matte(m.Track.Exclusions, carry.Edge{}, rect, func(s *treatment.Shape) (carry.Lie, bool) {
			return r.motions.Lie(s, r.doc.Follow.Track, n)
		}), 0)
	}
	some = some.Inset(-2).Intersect(rect)
	for grown, y := raster.Grow(out.Crop(some), 2), some.Min.Y; y < some.Max.Y; y++ {
		copy(out.Row(y, some.Min.X, some.Max.X), grown.Row(y, some.Min.X, some.Max.X))
	}
	return out, nil
}

// Taken returns where on frame n others are: 1 on the mattes of all removals but one,
// on every front and on what is left out of that one's track.
func (e *Evaluator) Taken(ctx context.Context, t *Treatment, removal string, n int) (*raster.Plane, error) {
	r := t.removal(removal)
	if r == nil {
		return nil, fmt.Errorf("there is no removal %q", removal)
	}
	return e.outer(ctx, r.unmarked(), n, e.Plate.Size())
}

// unmarked is the removal as if nothing were marked for it.
func (r *removal) unmarked() *removal {
	other := *r
	other.doc.Mark.Outlines = nil
	return &other
}

// outerOf is outer for the whole of a frame that is held: it is asked for again and
// again.
func (e *Evaluator) outerOf(ctx context.Context, r *removal, n int) (*raster.Plane, error) {
	key := hash("outer", e.Plate.Key(n), r.of.outerKey(n), r.doc.ID)
	if v, ok := e.Cache.Get(key); ok {
		return v.(*raster.Plane), nil
	}
	out, err := e.outer(ctx, r, n, e.Plate.Size())
	if err == nil {
		e.Cache.Put(key, out, out.Bytes())
	}
	return out, err
}

// A scene is what light and detail are measured on: what is held, as it lies on its
// own frame, and the plate of another frame around the removal's mattes there.
type scene struct {
	back     carry.Way // from the frame to the held one
	matte    image.Rectangle
	hole     geom.Box      // around the mattes, on the held frame
	plate    *raster.Image // of the frame
	held     *raster.Image
	out      *raster.Plane // where the frame's plate does not count
	heldOut  *raster.Plane // where what is held does not
	region   image.Rectangle
	measured bool
}

// How far around the mattes softness is measured, in pixels, and light.
const softMargin = 44

func lightMargin(l *treatment.Light) int { return int(math.Min(math.Max(1.6*l.Scale, 20), 260)) }

// scene prepares measuring on frame n, margin pixels around the mattes.
func (e *Evaluator) scene(ctx context.Context, r *removal, s *source, ride string, n, margin int, held heldLayer) (*scene, error) {
	w, ok := r.way(ride, s.Frame, n)
	if !ok {
		return &scene{}, nil
	}
	// Light and softness are mostly wanted one after the other: what they look at is got
	// ready once, as wide as either needs.
	wide := margin
	if r.soft() != nil {
		wide = max(wide, softMargin)
	}
	if l := r.lit(); l != nil {
		wide = max(wide, lightMargin(l))
	}
	key := hash(e.Plate.Key(n), e.Plate.Key(s.Frame), held.key, w, r.doc.ID, r.of.outerKey(n), r.of.outerKey(s.Frame), wide)
	defer e.painting.enter(key)()
	var sc scene
	if v, ok := e.scenes().Get(key); ok {
		sc = *v.(*scene)
	} else {
		fresh, err := e.stage(ctx, r, s, w, n, wide, held)
		if err != nil {
			return nil, err
		}
		sc = *fresh
		if sc.measured {
			e.scenes().Put(key, fresh, sc.plate.Bytes()+sc.out.Bytes()+sc.heldOut.Bytes())
		}
	}
	sc.region = sc.matte.Inset(-margin).Intersect(sc.region)
	return &sc, nil
}

func (e *Evaluator) stage(ctx context.Context, r *removal, s *source, w carry.Way, n, margin int, held heldLayer) (*scene, error) {
	size := e.Plate.Size()
	back, ok := w.Inverse()
	hole := r.matte(n, size).Rect
	if !ok || hole.Empty() {
		return &scene{}, nil
	}
	sc := &scene{back: back, matte: hole, hole: back.Bounds(boxOf(hole)), region: hole.Inset(-margin).Intersect(size)}
	var err error
	if sc.out, err = e.outer(ctx, r, n, sc.region); err != nil {
		return nil, err
	}
	if sc.plate, err = e.Plate.Linear(ctx, n, sc.region); err != nil {
		return &scene{}, nil // beyond the shot: there is nothing to measure
	}
	there := raster.Around(back.Bounds(boxOf(sc.region)), 4, size)
	if there.Empty() {
		return &scene{}, nil
	}
	if sc.heldOut, err = e.outerOf(ctx, r, s.Frame); err != nil {
		return nil, err
	}
	sc.heldOut = sc.heldOut.Crop(there)
	if sc.held, err = e.painted(ctx, r, s, there, held); err != nil {
		return nil, err
	}
	// What is painted is clean; a whole frame may show what has to go elsewhere.
	both := held.Rect.Intersect(there)
	if s.Whole {
		both = image.Rectangle{}
	}
	for y := both.Min.Y; y < both.Max.Y; y++ {
		row, paint := sc.heldOut.Row(y, both.Min.X, both.Max.X), held.Row(y, both.Min.X, both.Max.X)
		for x := range row {
			if paint[4*x+3] > 0.99 {
				row[x] = 0
			}
		}
	}
	sc.measured = true
	return sc, nil
}

// shows reports whether a place of the held frame is known there and clean.
func (sc *scene) shows(u geom.Point) bool {
	x, y := int(math.Floor(u.X)), int(math.Floor(u.Y))
	return image.Pt(x, y).In(sc.heldOut.Rect.Inset(2)) && sc.heldOut.At(x, y) == 0
}

// layerKey names what a source holds, whatever the frame it is laid on.
func (r *removal) layerKey(s *source, n int) string {
	parts := []any{s.key, r.calmKey(s.Frame)}
	for _, st := range s.on(n) {
		parts = append(parts, st.key, r.lent(st))
	}
	for _, below := range r.sources {
		if below == s {
			break
		}
		parts = append(parts, r.sourceKey(below, s.Frame))
	}
	return hash(parts...)
}

// A heldLayer is what a source holds, and its name.
type heldLayer struct {
	*raster.Image
	key string
}

func (r *removal) holds(m *raster.Image, s *source, ride string, n int) heldLayer {
	return heldLayer{m, hash(ride, r.layerKey(s, n))}
}

// painted returns the frame that a source holds with its layer on it. What it returns
// may cover more than rect.
func (e *Evaluator) painted(ctx context.Context, r *removal, s *source, rect image.Rectangle, held heldLayer) (*raster.Image, error) {
	key := hash("painted", e.Plate.Key(s.Frame), held.key)
	defer e.painting.enter(key)()
	if v, ok := e.scenes().Get(key); ok {
		m := v.(*raster.Image)
		if rect.In(m.Rect) {
			return m, nil
		}
		rect = rect.Union(m.Rect)
	}
	rect = rect.Inset(-64).Intersect(e.Plate.Size()) // the next frame wants a little more
	bare, err := e.bare(ctx, r, s.Frame, rect)
	if err != nil {
		return nil, err
	}
	m := bare.Crop(rect)
	m.Over(held.Image)
	e.scenes().Put(key, m, m.Bytes())
	return m, nil
}

// lightOn measures how the light of frame n differs from what is held; nil where it
// cannot be told.
func (e *Evaluator) lightOn(ctx context.Context, r *removal, s *source, ride string, n int, held heldLayer) (*settle.Light, error) {
	l := r.lit()
	w, _ := r.way(ride, s.Frame, n)
	key := hash("light", e.Plate.Key(n), e.Plate.Key(s.Frame), held.key, w, r.doc.ID, r.of.outerKey(n), r.of.outerKey(s.Frame), l.Scale, l.Luma)
	if v, ok := e.Cache.Get(key); ok {
		return v.(*settle.Light), nil
	}
	sc, err := e.scene(ctx, r, s, ride, n, lightMargin(l), held)
	if err != nil {
		return nil, err
	}
	var out *settle.Light
	if sc.measured {
		box := sc.back.Bounds(boxOf(sc.region))
		gauge := settle.NewGauge(box, l.Scale)
		stride := max(1, int(math.Sqrt(float64(sc.region.Dx()*sc.region.Dy())/40000)))
		for y := sc.region.Min.Y; y < sc.region.Max.Y; y += stride {
			for x := sc.region.Min.X; x < sc.region.Max.X; x += stride {
				if sc.out.At(x, y) > 0 {
					continue
				}
				u := sc.back.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))
				if !sc.shows(u) {
					continue
				}
				h := sc.held.Bicubic(u.X, u.Y)
				p := sc.plate.At(x, y)
				gauge.Add(u, p[:], h[:])
			}
		}
		if found, ok := gauge.Light(l.Luma); ok {
			out = found
		}
	}
	bytes := 64
	if out != nil {
		bytes += 24 * len(out.Log[0])
	}
	e.Cache.Put(key, out, bytes)
	return out, nil
}

// light returns how the light of frame n differs from what is held, steadied over
// time; nil where it cannot be told.
func (e *Evaluator) light(ctx context.Context, r *removal, s *source, ride string, n int, held heldLayer) (*settle.Light, error) {
	l := r.lit()
	reach := max(l.Over, l.Level)
	all := make([]*settle.Light, 2*reach+1)
	errs := make([]error, len(all))
	together(len(all), func(k int) {
		all[k], errs[k] = e.lightOn(ctx, r, s, ride, n-reach+k, held)
	})
	shape, level := make([]float64, len(all)), make([]float64, len(all))
	for k := range all {
		if errs[k] != nil {
			return nil, errs[k]
		}
		shape[k], level[k] = bell(k-reach, l.Over), bell(k-reach, l.Level)
	}
	own := all[reach]
	if own == nil {
		// Nothing to be seen here: as on the nearest frame where there is.
		for d := 1; d <= reach; d++ {
			for _, k := range []int{reach - d, reach + d} {
				if all[k] != nil {
					return all[k], nil
				}
			}
		}
		return nil, nil
	}
	if reach == 0 {
		return own, nil
	}
	return own.Steady(all, shape, level), nil
}

// bell is the weight of a frame k frames away in an average that reaches over so
// many.
func bell(k, over int) float64 {
	if over == 0 {
		if k == 0 {
			return 1
		}
		return 0
	}
	d := 2 * float64(k) / float64(over+1)
	return math.Exp(-d * d / 2)
}

// together calls f for 0 to n - 1, on all processors.
func together(n int, f func(k int)) {
	if n == 1 {
		f(0)
		return
	}
	var wait sync.WaitGroup
	gate := make(chan struct{}, runtime.GOMAXPROCS(0))
	for k := range n {
		wait.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			f(k)
		})
	}
	wait.Wait()
}

// softness is how much softer a frame's plate is than what is held.
type softness struct{ sigma, sure, left float64 }

// softOn measures it on frame n.
func (e *Evaluator) softOn(ctx context.Context, r *removal, s *source, ride string, n int, held heldLayer) (softness, error) {
	w, _ := r.way(ride, s.Frame, n)
	shutter := r.soft().Shutter
	key := hash("soft", e.Plate.Key(n), e.Plate.Key(s.Frame), held.key, w, r.doc.ID, r.of.outerKey(n), r.of.outerKey(s.Frame), shutter)
	if v, ok := e.Cache.Get(key); ok {
		return v.(softness), nil
	}
	sc, err := e.scene(ctx, r, s, ride, n, softMargin, held)
	if err != nil {
		return softness{}, err
	}
	var out softness
	if sc.measured {
		laid := warp(sc.held, sc.back, sc.region)
		laid = settle.Smear(laid, r.along(s, ride, n, shutter, sc.region))
		a, b, valid := raster.NewPlane(sc.region), raster.NewPlane(sc.region), raster.NewPlane(sc.region)
		for y := sc.region.Min.Y; y < sc.region.Max.Y; y++ {
			p, q, v := a.Row(y, sc.region.Min.X, sc.region.Max.X), b.Row(y, sc.region.Min.X, sc.region.Max.X), valid.Row(y, sc.region.Min.X, sc.region.Max.X)
			plate, laid := sc.plate.Row(y, sc.region.Min.X, sc.region.Max.X), laid.Row(y, sc.region.Min.X, sc.region.Max.X)
			for x := range v {
				if sc.out.At(sc.region.Min.X+x, y) > 0 || laid[4*x+3] < 0.99 {
					continue
				}
				if !sc.shows(sc.back.Apply(geom.Pt(float64(sc.region.Min.X+x)+0.5, float64(y)+0.5))) {
					continue
				}
				v[x] = 1
				p[x] = float32(math.Sqrt(float64(max(colorspace.Luma(plate[4*x], plate[4*x+1], plate[4*x+2]), 0))))
				q[x] = float32(math.Sqrt(float64(max(colorspace.Luma(laid[4*x], laid[4*x+1], laid[4*x+2]), 0))))
			}
		}
		out.sigma, out.sure, out.left = settle.Softer(telling(a, b, valid), r.leftGrain())
	}
	e.Cache.Put(key, out, 64)
	return out, nil
}

// leftGrain is how much grain is left in what is held: its standard deviation on the
// square root of light's luma.
func (r *removal) leftGrain() float64 {
	g := r.grain()
	if g == nil || g.Model == nil {
		return 0
	}
	m := grainOf(g.Model)
	middle := m.Light[len(m.Light)/2]
	left := 1.0
	if g.Calm != nil {
		left = 1 - g.Calm.Strength[1]*(1-1/math.Sqrt(1+2*float64(g.Calm.Over)))
	}
	return left * m.At(1, middle) / (2 * math.Sqrt(middle))
}

// telling cuts planes into pieces and returns those with most detail: there softness
// shows.
func telling(plate, held, valid *raster.Plane) []settle.Pair {
	const side, most = 64, 8
	r := plate.Rect
	if r.Dx()*r.Dy() <= 160*160 {
		return []settle.Pair{{Plate: plate, Held: held, Valid: valid}}
	}
	type piece struct {
		pair settle.Pair
		rank float64
	}
	var all []piece
	for y := r.Min.Y; y+side/2 < r.Max.Y; y += side {
		for x := r.Min.X; x+side/2 < r.Max.X; x += side {
			cut := image.Rect(x, y, x+side, y+side).Intersect(r)
			p := piece{pair: settle.Pair{Plate: plate.Crop(cut), Held: held.Crop(cut), Valid: valid.Crop(cut)}}
			n := 0.0
			for _, v := range p.pair.Valid.Pix {
				n += float64(v)
			}
			if n < 0.4*side*side {
				continue
			}
			gx, gy := raster.Gradient(p.pair.Held)
			for i, v := range p.pair.Valid.Pix {
				if v > 0 {
					p.rank += float64(gx.Pix[i]*gx.Pix[i] + gy.Pix[i]*gy.Pix[i])
				}
			}
			all = append(all, p)
		}
	}
	var out []settle.Pair
	for range min(most, len(all)) {
		best := 0
		for i := range all {
			if all[i].rank > all[best].rank {
				best = i
			}
		}
		out = append(out, all[best].pair)
		all[best].rank = -1
	}
	if len(out) == 0 {
		return []settle.Pair{{Plate: plate, Held: held, Valid: valid}}
	}
	return out
}

// blur returns the sigma in pixels by which what is held is blurred on frame n.
func (e *Evaluator) blur(ctx context.Context, r *removal, s *source, ride string, n int, held heldLayer) (float64, error) {
	f := r.soft()
	by := treatment.On(f.Keys, f.By, n)
	square := by * by
	if f.Match {
		all := make([]softness, 2*f.Over+1)
		errs := make([]error, len(all))
		together(len(all), func(k int) {
			all[k], errs[k] = e.softOn(ctx, r, s, ride, n-f.Over+k, held)
		})
		var sum, weight float64
		for k, v := range all {
			if errs[k] != nil {
				return 0, errs[k]
			}
			w := bell(k-f.Over, f.Over) * v.sure
			sum, weight = sum+w*v.sigma*v.sigma, weight+w
		}
		if weight > 0 {
			square += sum / weight
		}
	}
	return math.Sqrt(square), nil
}
