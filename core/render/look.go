package render

import (
	"cmp"
	"context"
	"fmt"
	"image"
	"math"
	"slices"

	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// look returns the views that explain a removal's settling.
func (e *Evaluator) look(ctx context.Context, r *removal, n int, view View) (*Result, error) {
	none := &Result{raster.NewImage(image.Rectangle{})}
	if r == nil {
		return none, nil
	}
	for i := len(r.sources) - 1; i >= 0; i-- {
		s := r.sources[i]
		if r.sourceKey(s, n) == "" || (s.Kind != treatment.HeldPlate && s.Kind != treatment.Piece) {
			continue
		}
		if view == GrainView {
			return e.lookAtGrain(ctx, r, s, n)
		}
		if r.lit() == nil {
			return none, nil
		}
		layer, err := e.layerOf(ctx, r, i, n)
		if err != nil {
			return nil, err
		}
		l, err := e.light(ctx, r, s, "", n, r.holds(layer, s, "", n))
		w, ok := r.way("", s.Frame, n)
		back, ok2 := w.Inverse()
		if err != nil || l == nil || !ok || !ok2 {
			return none, err
		}
		strength := treatment.On(r.doc.Settle.Light.Keys, r.doc.Settle.Light.Strength, n)
		out := raster.NewImage(r.matte(n, e.Plate.Size()).Rect.Inset(-int(1.6 * r.lit().Scale)).Intersect(e.Plate.Size()))
		for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
			for x := out.Rect.Min.X; x < out.Rect.Max.X; x++ {
				v := l.At(back.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5)))
				p := [4]float32{3: 1}
				for c := range 3 {
					// A stop is half of the range.
					code := 0.5 + strength*v[c]/math.Ln2/2
					p[c] = float32(colorspace.SRGB.Decode(math.Min(math.Max(code, 0), 1)))
				}
				out.Set(x, y, p)
			}
		}
		return &Result{out}, nil
	}
	return none, nil
}

// lookAtGrain shows what was taken out of the frame that a source holds.
func (e *Evaluator) lookAtGrain(ctx context.Context, r *removal, s *source, n int) (*Result, error) {
	w, ok := r.way("", s.Frame, n)
	back, ok2 := w.Inverse()
	size := e.Plate.Size()
	plate, err := e.Plate.Linear(ctx, s.Frame, size)
	if err != nil || !ok || !ok2 {
		return &Result{raster.NewImage(image.Rectangle{})}, err
	}
	bare, err := e.bare(ctx, r, s.Frame, size)
	if err != nil {
		return nil, err
	}
	off := raster.NewImage(size)
	plain := plate.Crop(size)
	for i := 0; i < len(off.Pix); i += 4 {
		off.Pix[i+3] = 1
		for c := range 3 {
			d := math.Sqrt(float64(max(plain.Pix[i+c], 0))) - math.Sqrt(float64(max(bare.Pix[i+c], 0)))
			off.Pix[i+c] = float32(math.Min(math.Max(0.21+8*d*0.46, 0), 1))
		}
	}
	return &Result{warp(off, back, raster.Around(w.Bounds(boxOf(size)), 0, size))}, nil
}

// layerOf returns what a source holds, as paint on its own frame.
func (e *Evaluator) layerOf(ctx context.Context, r *removal, i, n int) (*raster.Image, error) {
	s := r.sources[i]
	if s.Kind == treatment.Piece {
		return raster.NewImage(image.Rectangle{}), nil
	}
	strokes := s.on(n)
	alone := true
	for _, st := range strokes {
		alone = alone && st.Ride == ""
	}
	return e.paint(ctx, r, i, strokes, "", alone)
}

// A Measure is what was found about a removal's patch on one frame.
type Measure struct {
	Frame int        `json:"frame"`
	Light [3]float64 `json:"light" doc:"Gain of the patch's light by channel, the mean over the patch"`
	Sure  float64    `json:"sure" doc:"Pixels that the light rests on"`
	Blur  float64    `json:"blur" doc:"By which sigma in pixels the patch is blurred"`
}

// Measure tells how a removal's patch is settled on frame n. ok is false where
// nothing is held there, or nothing follows the plate.
func (e *Evaluator) Measure(ctx context.Context, t *Treatment, removal string, n int) (m Measure, ok bool, err error) {
	r := t.removal(removal)
	if r == nil {
		return m, false, fmt.Errorf("there is no removal %q", removal)
	}
	m = Measure{Frame: n, Light: [3]float64{1, 1, 1}}
	for i := len(r.sources) - 1; i >= 0; i-- {
		s := r.sources[i]
		if r.sourceKey(s, n) == "" || (s.Kind != treatment.HeldPlate && s.Kind != treatment.Piece) {
			continue
		}
		layer, err := e.layerOf(ctx, r, i, n)
		if err != nil {
			return m, false, err
		}
		if r.lit() != nil {
			l, err := e.light(ctx, r, s, "", n, r.holds(layer, s, "", n))
			if err != nil {
				return m, false, err
			}
			if w, known := r.way("", s.Frame, n); l != nil && known {
				if back, inverted := w.Inverse(); inverted {
					strength := treatment.On(r.doc.Settle.Light.Keys, r.doc.Settle.Light.Strength, n)
					for c, v := range l.Mean(back.Bounds(boxOf(r.matte(n, e.Plate.Size()).Rect))) {
						m.Light[c] = math.Exp(strength * v)
					}
					m.Sure, ok = l.Sure, true
				}
			}
		}
		if r.soft() != nil {
			if m.Blur, err = e.blur(ctx, r, s, "", n, r.holds(layer, s, "", n)); err != nil {
				return m, false, err
			}
			ok = true
		}
		return m, ok, nil
	}
	return m, false, nil
}

// Smeared tells how well the patch agrees with the plate on frame n when it is smeared
// for a shutter's angle in degrees, less being better, and the length in pixels of the
// smear at 360 degrees. ok is false where nothing can be told.
func (e *Evaluator) Smeared(ctx context.Context, t *Treatment, removal string, n int, shutter float64) (left, length float64, ok bool, err error) {
	r := t.removal(removal)
	if r == nil {
		return 0, 0, false, fmt.Errorf("there is no removal %q", removal)
	}
	trial := *r
	trial.doc.Settle.Softness = &treatment.Softness{Match: true, Shutter: shutter}
	for i := len(r.sources) - 1; i >= 0; i-- {
		s := r.sources[i]
		if s.Kind != treatment.HeldPlate || r.sourceKey(s, n) == "" {
			continue
		}
		layer, err := e.layerOf(ctx, r, i, n)
		if err != nil {
			return 0, 0, false, err
		}
		region := r.matte(n, e.Plate.Size()).Rect
		if region.Empty() {
			return 0, 0, false, nil
		}
		found, err := e.softOn(ctx, &trial, s, "", n, r.holds(layer, s, "", n))
		return found.left, r.along(s, "", n, 360, region)(boxOf(region).Centre()).Len(), found.sure > 0, err
	}
	return 0, 0, false, nil
}

// Specimen sets the plate's grain free around a removal's mattes on frame n: what is
// left when the mean of the frames around it, brought into place by the track and
// into the same light, is taken away. Without a track it is what a wide blur leaves
// on the smoothest places.
func (e *Evaluator) Specimen(ctx context.Context, t *Treatment, removal string, n int) (*settle.Specimen, error) {
	const margin, over, broad = 60, 4, 16
	r := t.removal(removal)
	if r == nil {
		return nil, fmt.Errorf("there is no removal %q", removal)
	}
	size := e.Plate.Size()
	region := r.matte(n, size).Rect
	if region.Empty() {
		return nil, nil
	}
	region = region.Inset(-margin).Intersect(size)
	out, err := e.outer(ctx, r, n, region)
	if err != nil {
		return nil, err
	}
	plate, err := e.Plate.Linear(ctx, n, region)
	if err != nil {
		return nil, err
	}
	plate = plate.Crop(region)
	low := raster.Broad(plate, broad)
	sum, count := raster.NewImage(region), 0.0
	valid := raster.NewPlane(region)
	for i, v := range out.Pix {
		valid.Pix[i] = 1 - v
	}
	for k := n - over; k <= n+over; k++ {
		w, ok := r.way("", n, k)
		if k == n || !ok {
			continue
		}
		there := raster.Around(w.Bounds(boxOf(region)), 4, size)
		if there.Empty() {
			continue
		}
		other, err := e.Plate.Linear(ctx, k, there)
		if err != nil {
			continue // beyond the shot
		}
		hidden, err := e.outer(ctx, r, k, there)
		if err != nil {
			return nil, err
		}
		m := warp(other.Crop(there), w, region)
		around := raster.Broad(m, broad)
		for y := region.Min.Y; y < region.Max.Y; y++ {
			for x := region.Min.X; x < region.Max.X; x++ {
				i := (y-region.Min.Y)*region.Dx() + x - region.Min.X
				q := w.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))
				if m.Pix[4*i+3] < 0.999 || hidden.At(int(math.Floor(q.X)), int(math.Floor(q.Y))) > 0 {
					valid.Pix[i] = 0
					continue
				}
				for c := range 3 {
					sum.Pix[4*i+c] += m.Pix[4*i+c] * low.Pix[4*i+c] / max(around.Pix[4*i+c], 1e-5)
				}
			}
		}
		count++
	}
	// A mean of so many carried frames has grain of its own: carrying leaves about 0.7 of the
	// variance (cubic convolution, averaged over the ways a pixel can lie between others).
	s := &settle.Specimen{Base: sum, Valid: valid, Excess: 1}
	share := 0.4
	if count >= 2 {
		s.Excess = 1 + 0.7/count
		for i := range sum.Pix {
			sum.Pix[i] /= float32(count)
		}
	} else {
		s.Base, share = low, 0.3
		for i, v := range out.Pix {
			valid.Pix[i] = 1 - v
		}
	}
	s.Grain = raster.NewImage(region)
	for i := range plate.Pix {
		s.Grain.Pix[i] = plate.Pix[i] - s.Base.Pix[i]
	}
	calmest(s, share)
	return s, nil
}

// calmest keeps a share of the valid pixels of each brightness: those around which the
// picture changes least, so that no detail is taken for grain.
func calmest(s *settle.Specimen, share float64) {
	r := s.Valid.Rect
	luma := raster.NewPlane(r)
	for i := range luma.Pix {
		luma.Pix[i] = float32(math.Sqrt(float64(max(colorspace.Luma(s.Base.Pix[4*i], s.Base.Pix[4*i+1], s.Base.Pix[4*i+2]), 0))))
	}
	bright := slices.Clone(luma.Pix)
	gx, gy := raster.Gradient(raster.Gaussian(luma, 1))
	for i := range luma.Pix {
		luma.Pix[i] = gx.Pix[i]*gx.Pix[i] + gy.Pix[i]*gy.Pix[i]
	}
	luma = raster.Gaussian(luma, 2)
	// Of each brightness by itself: a smooth sky says nothing about a hedge.
	order := make([]int, 0, len(luma.Pix))
	for i, v := range s.Valid.Pix {
		if v > 0 {
			order = append(order, i)
		}
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(bright[a], bright[b]) })
	const strata = 8
	for k := range strata {
		part := order[len(order)*k/strata : len(order)*(k+1)/strata]
		slices.SortFunc(part, func(a, b int) int { return cmp.Compare(luma.Pix[a], luma.Pix[b]) })
		for _, i := range part[int(share*float64(len(part))):] {
			s.Valid.Pix[i] = 0
		}
	}
}
