package render

import (
	"context"
	"fmt"
	"hash/fnv"
	"image"
	"math"

	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// lit returns how the removal follows the light, or nil.
func (r *removal) lit() *treatment.Light {
	if l := r.doc.Settle.Light; l != nil && !l.Off {
		return l
	}
	return nil
}

func (r *removal) soft() *treatment.Softness {
	if s := r.doc.Settle.Softness; s != nil && !s.Off {
		return s
	}
	return nil
}

func (r *removal) grain() *treatment.Grain {
	if g := r.doc.Settle.Grain; g != nil && !g.Off {
		return g
	}
	return nil
}

// settles reports whether what is held changes with the plate.
func (r *removal) settles() bool { return r.lit() != nil || r.soft() != nil }

// reach is over how many frames before and after a measure is averaged.
func (r *removal) reach() (out int) {
	if l := r.lit(); l != nil {
		out = max(l.Over, l.Level)
	}
	if s := r.soft(); s != nil {
		out = max(out, 1) // the track's motion
		if s.Match {
			out = max(out, s.Over)
		}
	}
	return out
}

// outerKey names all mattes and fronts as they lie on a frame.
func (t *Treatment) outerKey(n int) string {
	if v, ok := t.around.Load(n); ok {
		return v.(string)
	}
	parts := []any{t.outer}
	for _, r := range t.removals {
		parts = append(parts, r.rides(n))
	}
	key := hash(parts...)
	t.around.Store(n, key)
	return key
}

// leans names all else that the removal's patch on frame n depends on: the frames
// that are measured, and those that help to calm one.
func (r *removal) leans(n int, view View) (out []any) {
	for _, s := range r.sources {
		if s.Kind == treatment.HeldPlate && s.Weight(n) > 0 {
			out = append(out, r.calmKey(s.Frame))
		}
	}
	if view == PatchView || !r.settles() {
		return out
	}
	d := r.reach()
	for k := n - d; k <= n+d; k++ {
		out = append(out, r.of.outerKey(k))
		for _, s := range r.sources {
			if s.Weight(n) > 0 && (s.Kind == treatment.HeldPlate || s.Kind == treatment.Piece) {
				w, ok := r.way("", s.Frame, k)
				out = append(out, w, ok)
			}
		}
	}
	return out
}

// along returns how far each place of frame n has to be smeared: by the track's
// motion while the shutter is open, less what is smeared on the held frame already.
func (r *removal) along(s *source, ride string, n int, shutter float64, region image.Rectangle) func(geom.Point) geom.Point {
	none := func(geom.Point) geom.Point { return geom.Point{} }
	w, ok := r.way(ride, s.Frame, n)
	if !ok || shutter == 0 || region.Empty() {
		return none
	}
	back, ok := w.Inverse()
	if !ok {
		return none
	}
	// The motion of a place of the held frame around frame m, for a whole frame's time.
	motion := func(m int) func(u geom.Point) geom.Point {
		before, ok1 := r.way(ride, s.Frame, m-1)
		after, ok2 := r.way(ride, s.Frame, m+1)
		at, ok3 := r.way(ride, s.Frame, m)
		return func(u geom.Point) geom.Point {
			switch {
			case ok1 && ok2:
				return after.Apply(u).Sub(before.Apply(u)).Mul(0.5)
			case ok1 && ok3:
				return at.Apply(u).Sub(before.Apply(u))
			case ok2 && ok3:
				return after.Apply(u).Sub(at.Apply(u))
			}
			return geom.Point{}
		}
	}
	here, there := motion(n), motion(s.Frame)
	k := shutter / 360
	at := func(p geom.Point) geom.Point {
		u := back.Apply(p)
		had := there(u).Mul(k / 2)
		return settle.Left(here(u).Mul(k), w.Apply(u.Add(had)).Sub(w.Apply(u.Sub(had))))
	}
	// It is worked out at the corners; in between it changes evenly.
	box := boxOf(region)
	var corner [4]geom.Point
	for i, p := range box.Corners() {
		corner[i] = at(p)
		if corner[i].X*corner[0].X+corner[i].Y*corner[0].Y < 0 {
			corner[i] = corner[i].Mul(-1) // a trace has no front end
		}
	}
	return func(p geom.Point) geom.Point {
		u, v := (p.X-box.Min.X)/(box.Max.X-box.Min.X), (p.Y-box.Min.Y)/(box.Max.Y-box.Min.Y)
		return corner[0].Lerp(corner[1], u).Lerp(corner[3].Lerp(corner[2], u), v)
	}
}

// follow returns what a source holds as it lies on frame n, in the plate's light and
// softness: opaque where the held frame is known, or, with lay, the premultiplied
// picture that lay gives.
func (e *Evaluator) follow(ctx context.Context, r *removal, s *source, ride string, n int, reach image.Rectangle, held heldLayer, lay func(image.Rectangle) *raster.Image) (*raster.Image, error) {
	w, _ := r.way(ride, s.Frame, n)
	back, ok := w.Inverse()
	if !ok {
		return nil, fmt.Errorf("the track cannot be inverted")
	}
	size := e.Plate.Size()
	var sigma, sharpen, shutter float64
	radius := 1.0
	if f := r.soft(); f != nil {
		var err error
		if sigma, err = e.blur(ctx, r, s, ride, n, held); err != nil {
			return nil, err
		}
		sharpen, shutter = f.Sharpen, f.Shutter
		if f.Radius > 0 {
			radius = f.Radius
		}
	}
	smear := r.along(s, ride, n, shutter, reach)
	margin := int(math.Ceil(3*sigma)) + 2
	if sharpen > 0 {
		margin += int(math.Ceil(3 * radius))
	}
	for _, c := range boxOf(reach).Corners() {
		margin = max(margin, int(math.Ceil(3*sigma+smear(c).Len()))+2)
	}
	region := reach.Inset(-margin).Intersect(size)
	var m *raster.Image
	if lay != nil {
		m = lay(region)
	} else {
		there := raster.Around(back.Bounds(boxOf(region)), 4, size)
		painted, err := e.painted(ctx, r, s, there, held)
		if err != nil {
			return nil, err
		}
		m = warp(painted, back, region)
	}
	m = settle.Smear(m, smear)
	if l := r.lit(); l != nil {
		found, err := e.light(ctx, r, s, ride, n, held)
		if err != nil {
			return nil, err
		}
		if strength := treatment.On(l.Keys, l.Strength, n); found != nil && strength > 0 {
			settle.Shine(m, found, back.Apply, strength)
		}
	}
	if sigma > 0.05 {
		m = raster.GaussianImage(m, sigma)
	}
	m = settle.Sharpen(m, sharpen, radius)
	if lay == nil {
		// Beyond the held frame nothing is known: blurred, that must not darken.
		for i := 0; i < len(m.Pix); i += 4 {
			if a := m.Pix[i+3]; a > 0 && a < 1 {
				for c := range 3 {
					m.Pix[i+c] /= a
				}
			}
		}
	}
	if region == reach {
		return m, nil
	}
	return m.Crop(reach), nil
}

// laid lays a removal's patch over a picture of frame n, as a view shows it, and
// marks what it touches. through is the coverage of its mattes.
func (e *Evaluator) laid(ctx context.Context, r *removal, n int, view View, plate, picture *raster.Image, through, touched *raster.Plane) error {
	st := &r.doc.Settle
	if g := r.doc.Guard; g != nil && len(g.Within) > 0 {
		through = through.Crop(through.Rect)
		times(through, r.covered(g.Within, carry.Edge{}, n, through.Rect), false)
	}
	rect := through.Rect
	if st.Seam > 0 {
		rect = rect.Inset(-6).Intersect(e.Plate.Size())
	}
	patch, err := e.fill(ctx, r, len(r.sources), n, rect, true)
	if err != nil {
		return err
	}
	if st.Seam > 0 {
		if err := e.blend(ctx, r, n, patch.Image, through.Crop(rect)); err != nil {
			return err
		}
	}
	for i := range st.Tones {
		t := &st.Tones[i]
		if t.Off {
			continue
		}
		g := t.On(n)
		var where *raster.Plane
		if len(t.Where) > 0 {
			where = r.covered(t.Where, carry.Edge{}, n, patch.Rect)
		}
		settle.Tone(patch.Image, settle.CDL{Slope: g.Slopes(), Offset: g.Offset, Power: g.Power, Saturation: g.Saturation}, where)
	}
	fronts, soft, err := e.inFront(ctx, r, n, through.Rect)
	if err != nil {
		return err
	}
	open := through
	if fronts != nil {
		open = through.Crop(through.Rect)
		times(open, fronts, true)
	}
	opacity := float32(st.Shown(n))
	if view == MatteView || view == TintView {
		shade(view, picture, patch.Image, open, opacity, touched)
		return nil
	}
	g := r.grain()
	var missing *raster.Plane
	if g != nil && g.Kind != "" && g.Model != nil {
		missing = raster.NewPlane(through.Rect)
	}
	how := map[string]settle.How{treatment.Darken: settle.Darken, treatment.Lighten: settle.Lighten}[st.Lay]
	settle.Lay(picture, settle.Patch{Image: patch.Image, Still: patch.still}, open, opacity, how, touched, missing)
	for _, f := range soft {
		if err := e.unmix(ctx, r, n, f, plate, picture, patch.Image, through, opacity); err != nil {
			return err
		}
	}
	if missing != nil {
		return e.layGrain(ctx, r, n, picture, missing)
	}
	return nil
}

// times multiplies a plane by another, or by what that leaves.
func times(m, by *raster.Plane, left bool) {
	for y := m.Rect.Min.Y; y < m.Rect.Max.Y; y++ {
		row := m.Row(y, m.Rect.Min.X, m.Rect.Max.X)
		for x := range row {
			k := by.At(m.Rect.Min.X+x, y)
			if left {
				k = 1 - k
			}
			row[x] *= k
		}
	}
}

// shade shows how much of each pixel is covered.
func shade(view View, picture, patch *raster.Image, through *raster.Plane, opacity float32, touched *raster.Plane) {
	tint := [3]float32{0.55, 0.09, 0.03}
	for y := through.Rect.Min.Y; y < through.Rect.Max.Y; y++ {
		for x := through.Rect.Min.X; x < through.Rect.Max.X; x++ {
			if !image.Pt(x, y).In(patch.Rect) {
				continue
			}
			k := through.At(x, y) * opacity * patch.At(x, y)[3]
			if k == 0 {
				continue
			}
			row := picture.Row(y, x, x+1)
			mark := touched.Row(y, x, x+1)
			if view == MatteView {
				// The code value is the coverage. What was covered before stays covered.
				v := float32(colorspace.SRGB.Decode(float64(k)))
				for c := range 3 {
					if mark[0] == 0 {
						row[c] = v
					}
					row[c] = max(row[c], v)
				}
			} else {
				for c := range 3 {
					row[c] += (0.35*row[c] + 0.65*tint[c] - row[c]) * k
				}
			}
			mark[0] = 1
		}
	}
}

// blend makes the patch's seam disappear.
func (e *Evaluator) blend(ctx context.Context, r *removal, n int, patch *raster.Image, through *raster.Plane) error {
	plate, err := e.Plate.Linear(ctx, n, through.Rect)
	if err != nil {
		return err
	}
	// What stands before the surface says nothing about it; the removal's own matte ends at
	// the rim that is looked at.
	out, err := e.outer(ctx, r.unmarked(), n, through.Rect)
	if err != nil {
		return err
	}
	valid := raster.NewPlane(through.Rect)
	for i, v := range out.Pix {
		valid.Pix[i] = 1 - v
	}
	settle.Blend(patch, plate, through, valid, r.doc.Settle.Seam)
	return nil
}

// grainOf returns a document's model for package settle.
func grainOf(m *treatment.GrainModel) *settle.Grain {
	return &settle.Grain{Light: m.Light, Sigma: m.Sigma, Share: m.Share, Lags: m.Lags, Shape: m.Shape}
}

// GrainModel returns a measured grain for a document.
func GrainModel(g *settle.Grain) *treatment.GrainModel {
	return &treatment.GrainModel{Light: g.Light, Sigma: g.Sigma, Share: g.Share, Lags: g.Lags, Shape: g.Shape, Words: g.Words()}
}

// layGrain lays moving grain where it is missing: another on each frame, on every
// rendering of a frame the same.
func (e *Evaluator) layGrain(ctx context.Context, r *removal, n int, picture *raster.Image, missing *raster.Plane) error {
	g := r.grain()
	layer := settle.Layer{Of: grainOf(g.Model), Amount: [3]float64{1, 1, 1}}
	if g.Amount != nil {
		layer.Amount = *g.Amount
	}
	if g.Kind == treatment.CarriedGrain {
		by := image.Pt(int(math.Round(g.From[0])), int(math.Round(g.From[1])))
		from := missing.Rect.Add(by).Intersect(e.Plate.Size())
		if from.Empty() {
			return nil
		}
		plate, err := e.Plate.Linear(ctx, n, from)
		if err != nil {
			return err
		}
		moved := plate.Crop(from)
		calm := settle.Calm(moved, 3)
		moved.Rect, calm.Rect = from.Sub(by), from.Sub(by)
		settle.CarryGrain(picture, moved, calm, missing, layer)
		return nil
	}
	model := *g.Model
	model.Words = ""
	key := hash("grain", model)
	leave := e.painting.enter(key)
	if v, ok := e.Cache.Get(key); ok {
		layer.Tile = v.(*[3][]float32)
	} else {
		layer.Tile = layer.Of.Make(1)
		e.Cache.Put(key, layer.Tile, 12*settle.Tile*settle.Tile)
	}
	leave()
	seed := fnv.New64a()
	_, _ = fmt.Fprint(seed, r.doc.ID, "/", n) // a hash takes anything
	layer.Seed = seed.Sum64()
	settle.LayGrain(picture, missing, layer)
	return nil
}
