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
	"jardin/core/warp"
)

// evaluate makes a view that explains a removal's settling.
func (in *diagnosticInput) evaluate(ctx context.Context, e *Evaluator) (*Result, error) {
	back, ok := in.Map.Inverse()
	if !ok {
		return nothing(), nil
	}
	size := e.Plate.Size()
	if in.View == GrainView {
		return in.grain(ctx, e, back, size)
	}
	l, err := e.light(ctx, in.Light)
	if err != nil || l == nil {
		return nothing(), err
	}
	box, err := in.Matte.rect(ctx, e)
	if err != nil {
		return nil, err
	}
	out := raster.NewImage(box.Inset(-in.Margin).Intersect(size))
	for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
		for x := out.Rect.Min.X; x < out.Rect.Max.X; x++ {
			v := l.At(back.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5)))
			p := [4]float32{3: 1}
			for c := range 3 {
				// A stop is half of the range.
				code := 0.5 + in.Light.Strength*v[c]/math.Ln2/2
				p[c] = float32(colorspace.SRGB.Decode(math.Min(math.Max(code, 0), 1)))
			}
			out.Set(x, y, p)
		}
	}
	return &Result{Image: out}, nil
}

// grain shows what was taken out of the frame that is held.
func (in *diagnosticInput) grain(
	ctx context.Context,
	e *Evaluator,
	back warp.Mapping,
	size image.Rectangle,
) (*Result, error) {
	plate, err := e.Plate.Linear(ctx, in.Bare.Frame, size)
	if err != nil {
		return nil, err
	}
	bare, err := e.bare(ctx, in.Bare, size)
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
	return &Result{Image: warp.Image(off, back, raster.Around(in.Map.Bounds(boxOf(size)), 0, size))}, nil
}

// A Measure is what was found about a removal's patch on one frame.
type Measure struct {
	Frame int        `json:"frame"`
	Light [3]float64 `json:"light" doc:"Gain of the patch's light by channel, the mean over the patch"`
	Sure  float64    `json:"sure" doc:"Pixels that the light rests on"`
	Blur  float64    `json:"blur" doc:"By which sigma in pixels the patch is blurred"`
	// Error and Strange say how far that can be believed.
	Error   float64 `json:"error" doc:"Standard deviation of the light as it was measured on the frame itself, as a share of it; 1 where nothing could be"`
	Strange float64 `json:"strange" doc:"Share of what has texture around the patch that is not the surface there, 0 to 1; it is left out"`
	Unsure  bool    `json:"unsure,omitempty" doc:"The light is taken from the frames before and after"`
	Advice  string  `json:"advice,omitempty" doc:"What is not sure, and why"`
}

// A light that is known worse than to mostError would be seen; above someStrange what passes is worth a word.
const (
	mostError   = 0.015
	someStrange = 0.1
)

// Disturbed reports whether something else than the surface shows beside the patch.
func (m *Measure) Disturbed() bool { return m.Strange > someStrange }

func (m *Measure) advise() {
	m.Unsure = m.Error > mostError
	switch {
	case m.Unsure && m.Disturbed():
		m.Advice = "Something else shows beside the patch: its light is taken from before and after."
	case m.Unsure:
		m.Advice = "Too little of the surface shows beside the patch: its light is taken from before and after."
	case m.Disturbed():
		m.Advice = "Something else shows beside the patch, and is left out of what its light is measured on."
	}
}

// Measure tells how a removal's patch is settled on frame n. ok is false where
// nothing is held there, or nothing follows the plate.
func (e *Evaluator) Measure(ctx context.Context, t *Treatment, removal string, n int) (m Measure, ok bool, err error) {
	r := t.removal(removal)
	if r == nil {
		return m, false, fmt.Errorf("there is no removal %q", removal)
	}
	m = Measure{Frame: n, Light: [3]float64{1, 1, 1}}
	i, layer := r.topHeld(n)
	if i < 0 {
		return m, false, nil
	}
	if r.lit() != nil {
		in := r.lighting(i, "", n, layer)
		l, err := e.light(ctx, in)
		if err != nil {
			return m, false, err
		}
		if w := r.mapping("", r.sources[i].frame, n); l != nil && w != nil {
			if back, inverted := w.Inverse(); inverted {
				own := r.matte(n)
				box, err := own.rect(ctx, e)
				if err != nil {
					return m, false, err
				}
				for c, v := range l.Mean(back.Bounds(boxOf(box))) {
					m.Light[c] = math.Exp(in.Strength * v)
				}
				m.Sure, m.Error, ok = l.Sure, l.Own, true
			}
		}
	}
	if r.soft() != nil {
		if m.Blur, err = e.blurOf(ctx, r.blur(i, "", n, layer)); err != nil {
			return m, false, err
		}
		ok = true
	}
	if ok && r.settles() {
		agreed, err := e.agreedOn(ctx, r.scene(i, "", n, layer))
		if err != nil {
			return m, false, err
		}
		m.Strange = 1 - agreed
		m.advise()
	}
	return m, ok, nil
}

// GrainSample sets the plate's grain free around a removal's mattes on frame n: what is
// left when the mean of the frames around it, brought into place by the track and
// into the same light, is taken away. Without a track it is what a wide blur leaves
// on the smoothest places.
func (e *Evaluator) GrainSample(ctx context.Context, t *Treatment, removal string, n int) (*settle.GrainSample, error) {
	const margin, over, broad, mostFrames = 60, 4, 16, 0.7 // of the frames around, that have to show a place
	r := t.removal(removal)
	if r == nil {
		return nil, fmt.Errorf("there is no removal %q", removal)
	}
	size := e.Plate.Size()
	mark := r.matte(n)
	region, err := mark.rect(ctx, e)
	if err != nil || region.Empty() {
		return nil, err
	}
	region = region.Inset(-margin).Intersect(size)
	out, err := r.occluders(n, false).cover(ctx, e, region)
	if err != nil {
		return nil, err
	}
	plate, err := e.Plate.Linear(ctx, n, region)
	if err != nil {
		return nil, err
	}
	plate = plate.Crop(region)
	low := raster.Broad(plate, broad)
	valid := raster.NewPlane(region)
	for i, v := range out.Pix {
		valid.Pix[i] = 1 - v
	}
	// What does not stay with the surface, another layer or whoever passes, is no grain: it is left out of each frame.
	sum, count, frames := raster.NewImage(region), raster.NewPlane(region), 0
	own, noise := roots(plate), r.plateGrain()
	var most [3]float64 // that grain makes two frames differ by: six standard deviations
	for c := range most {
		most[c] = 6 * math.Sqrt2 * settle.Noise(plate, c)
	}
	hidden := func(k int) *occluders { return r.occluders(k, false) }
	err = e.gather(ctx, r.around(n, over, 1, "", hidden), region, func(_ int, m *raster.Image, counts *raster.Plane) {
		if settle.Same(plate, m) {
			return // one frame shown twice: its grain is no other
		}
		around := raster.Broad(m, broad)
		both := counts.Crop(region)
		times(both, valid, false)
		strange := settle.Agree(own, roots(m), both, noise).Strange
		for i, v := range both.Pix {
			if v == 0 || strange.Pix[i] > 0 {
				continue
			}
			var even [3]float32 // in the same light
			fits := true
			for c := range even {
				even[c] = m.Pix[4*i+c] * low.Pix[4*i+c] / max(around.Pix[4*i+c], 1e-5)
				fits = fits && math.Abs(rootOf(even[c])-rootOf(plate.Pix[4*i+c])) < most[c]
			}
			if !fits {
				continue
			}
			for c, v := range even {
				sum.Pix[4*i+c] += v
			}
			count.Pix[i]++
		}
		frames++
	})
	if err != nil {
		return nil, err
	}
	s, share := &settle.GrainSample{Base: sum, Valid: valid, Excess: 1}, 0.4
	if frames >= 2 {
		var helped, pixels float64
		for i, n := range count.Pix {
			if float64(n) < mostFrames*float64(frames) {
				valid.Pix[i] = 0
			}
			if valid.Pix[i] == 0 {
				continue
			}
			helped, pixels = helped+float64(n), pixels+1
			for c := range 3 {
				sum.Pix[4*i+c] /= n
			}
		}
		// A mean of so many carried frames has grain of its own: carrying leaves about 0.7 of the
		// variance (cubic convolution, averaged over the ways a pixel can lie between others).
		s.Excess = 1 + 0.7*pixels/math.Max(helped, 1)
	} else {
		s.Base, share = low, 0.3
	}
	s.Grain = raster.NewImage(region)
	for i := range plate.Pix {
		s.Grain.Pix[i] = plate.Pix[i] - s.Base.Pix[i]
	}
	smoothest(s, share)
	return s, nil
}

// Compression tells what compression did to the plate around a removal's mattes on frame n: how much blocks show
// (settle.Blockiness), and whether the next frame is the same one again.
func (e *Evaluator) Compression(ctx context.Context, t *Treatment, removal string, n int) (blocks float64, again bool, err error) {
	r := t.removal(removal)
	if r == nil {
		return 0, false, fmt.Errorf("there is no removal %q", removal)
	}
	size := e.Plate.Size()
	mark := r.matte(n)
	region, err := mark.rect(ctx, e)
	if err != nil || region.Empty() {
		return 1, false, err
	}
	region = region.Inset(-100).Intersect(size)
	own, beyond, err := e.helper(ctx, n, region)
	if err != nil || beyond {
		return 1, false, err
	}
	own = own.Crop(region)
	next, beyond, err := e.helper(ctx, n+1, region)
	if err != nil {
		return 0, false, err
	}
	return settle.Blockiness(roots(own)), !beyond && settle.Same(own, next.Crop(region)), nil
}

// smoothest keeps a share of the valid pixels of each brightness: those around which the
// picture changes least, so that no detail is taken for grain.
func smoothest(s *settle.GrainSample, share float64) {
	rect := s.Valid.Rect
	luma := raster.NewPlane(rect)
	for i := range luma.Pix {
		luma.Pix[i] = float32(
			math.Sqrt(float64(max(colorspace.Luma(s.Base.Pix[4*i], s.Base.Pix[4*i+1], s.Base.Pix[4*i+2]), 0))),
		)
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
