package render

import (
	"context"
	"fmt"
	"hash/fnv"
	"image"
	"math"

	"jardin/core/colorspace"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// settle returns what a source holds as it lies on a frame, in the plate's light and
// softness: opaque where the held frame is known, or, with lay, the premultiplied
// picture that lay gives.
func (e *Evaluator) settle(
	ctx context.Context,
	in *settleInput,
	reach image.Rectangle,
	lay func(image.Rectangle) *raster.Image,
) (*raster.Image, error) {
	back, ok := in.Map.Inverse()
	if !ok {
		return nil, fmt.Errorf("the track cannot be inverted")
	}
	size := e.Plate.Size()
	var sigma float64
	if in.Blur != nil {
		var err error
		if sigma, err = e.blurOf(ctx, in.Blur); err != nil {
			return nil, err
		}
	}
	smear := in.Smear.along(reach)
	margin := int(math.Ceil(3*sigma)) + 2
	if in.Sharpen > 0 {
		margin += int(math.Ceil(3 * in.Radius))
	}
	for _, c := range boxOf(reach).Corners() {
		margin = max(margin, int(math.Ceil(3*sigma+math.Min(smear(c).Len(), settle.LongestSmear)))+2)
	}
	region := reach.Inset(-margin).Intersect(size)
	var m *raster.Image
	if lay != nil {
		m = lay(region)
	} else {
		there := raster.Around(back.Bounds(boxOf(region)), 4, size)
		painted, err := e.onPlate(ctx, in.Painted, there)
		if err != nil {
			return nil, err
		}
		m = warp.Image(painted, back, region)
	}
	m, err := settle.Smear(ctx, m, smear)
	if err != nil {
		return nil, err
	}
	if in.Light != nil {
		found, err := e.light(ctx, in.Light)
		if err != nil {
			return nil, err
		}
		if found != nil && in.Light.Strength > 0 {
			settle.ApplyGain(m, found, back.Apply, in.Light.Strength)
		}
	}
	if sigma > 0.05 {
		m = raster.GaussianImage(m, sigma)
	}
	m = settle.Sharpen(m, in.Sharpen, in.Radius)
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

// composite lays a removal's patch over a picture of a frame, as a view shows it, and
// marks what it touches and covers. through is the coverage of its mattes.
func (e *Evaluator) composite(
	ctx context.Context,
	in *removalInput,
	view View,
	plate, picture *raster.Image,
	through, touched, coverage *raster.Plane,
) error {
	if in.Within != nil {
		through = through.Crop(through.Rect)
		times(through, in.Within.cover(through.Rect), false)
	}
	rect := through.Rect
	if in.Seam > 0 {
		rect = rect.Inset(-seamRim).Intersect(e.Plate.Size())
	}
	patch, err := e.fill(ctx, &in.Fill, rect)
	if err != nil {
		return err
	}
	if in.Seam > 0 {
		if err := e.blend(ctx, in, patch.Image, through.Crop(rect)); err != nil {
			return err
		}
	}
	for _, t := range in.Tones {
		var where *raster.Plane
		if t.Where != nil {
			where = t.Where.cover(patch.Rect)
		}
		settle.Tone(patch.Image, t.Grade, where)
	}
	fronts, soft, err := e.inFront(ctx, in.Fronts, through.Rect)
	if err != nil {
		return err
	}
	open := through
	if fronts != nil {
		open = through.Crop(through.Rect)
		times(open, fronts, true)
	}
	opacity := float32(in.Opacity)
	covered := coveredBy(patch.Image, open, opacity)
	coverage.Max(covered)
	if view == MatteView || view == TintView {
		shade(view, picture, covered, touched)
		return nil
	}
	var missing *raster.Plane
	if in.Grain != nil {
		missing = raster.NewPlane(through.Rect)
	}
	how := map[string]settle.BlendMode{treatment.Darken: settle.Darken, treatment.Lighten: settle.Lighten}[in.Blend]
	settle.Composite(
		picture,
		settle.Patch{Image: patch.Image, Still: patch.still},
		open,
		opacity,
		how,
		touched,
		missing,
	)
	for _, f := range soft {
		if err := e.unmix(ctx, f, plate, picture, patch.Image, through, opacity); err != nil {
			return err
		}
	}
	if missing != nil {
		return e.addGrain(ctx, in, picture, missing)
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

// coveredBy returns how much of each pixel a patch covers.
func coveredBy(patch *raster.Image, through *raster.Plane, opacity float32) *raster.Plane {
	out := raster.NewPlane(through.Rect)
	both := through.Rect.Intersect(patch.Rect)
	for y := both.Min.Y; y < both.Max.Y; y++ {
		dst, open, paint := out.Row(
			y,
			both.Min.X,
			both.Max.X,
		), through.Row(
			y,
			both.Min.X,
			both.Max.X,
		), patch.Row(
			y,
			both.Min.X,
			both.Max.X,
		)
		for x := range dst {
			dst[x] = open[x] * opacity * paint[4*x+3]
		}
	}
	return out
}

// shade shows how much of each pixel is covered.
func shade(view View, picture *raster.Image, covered, touched *raster.Plane) {
	tint := [3]float32{0.55, 0.09, 0.03}
	for y := covered.Rect.Min.Y; y < covered.Rect.Max.Y; y++ {
		for x := covered.Rect.Min.X; x < covered.Rect.Max.X; x++ {
			k := covered.At(x, y)
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
func (e *Evaluator) blend(ctx context.Context, in *removalInput, patch *raster.Image, through *raster.Plane) error {
	plate, err := e.Plate.Linear(ctx, in.Frame, through.Rect)
	if err != nil {
		return err
	}
	// What stands before the surface says nothing about it.
	out, err := in.Around.cover(ctx, e, through.Rect)
	if err != nil {
		return err
	}
	valid := raster.NewPlane(through.Rect)
	for i, v := range out.Pix {
		valid.Pix[i] = 1 - v
	}
	settle.Blend(patch, plate, through, valid, in.Seam)
	return nil
}

// grainOf returns a document's model for package settle.
func grainOf(m *treatment.GrainModel) *settle.Grain {
	return &settle.Grain{Light: m.Light, Sigma: m.Sigma, Share: m.Share, Lags: m.Lags, Shape: m.Shape}
}

// GrainModel returns a measured grain for a document.
func GrainModel(g *settle.Grain) *treatment.GrainModel {
	return &treatment.GrainModel{
		Light: g.Light,
		Sigma: g.Sigma,
		Share: g.Share,
		Lags:  g.Lags,
		Shape: g.Shape,
		Words: g.Words(),
	}
}

// A grainTile is a piece of grain that is laid again and again, by channel.
type grainTile [3][]float32

// Bytes returns the memory that it takes.
func (t *grainTile) Bytes() int { return 12 * settle.Tile * settle.Tile }

func madeGrain(_ context.Context, _ environment, model *memo.Keyed[treatment.GrainModel]) (*grainTile, error) {
	return (*grainTile)(grainOf(&model.Value).Make(1)), nil
}

// addGrain lays moving grain where it is missing: another on each frame, on every
// rendering of a frame the same.
func (e *Evaluator) addGrain(
	ctx context.Context,
	in *removalInput,
	picture *raster.Image,
	missing *raster.Plane,
) error {
	g := in.Grain
	layer := settle.Layer{Of: grainOf(&g.Model.Value), Amount: g.Amount}
	if g.Kind == treatment.CarriedGrain {
		by := image.Pt(int(math.Round(g.From[0])), int(math.Round(g.From[1])))
		from := missing.Rect.Add(by).Intersect(e.Plate.Size())
		if from.Empty() {
			return nil
		}
		plate, err := e.Plate.Linear(ctx, in.Frame, from)
		if err != nil {
			return err
		}
		moved := plate.Crop(from)
		denoised := settle.Denoise(moved, 3)
		moved.Rect, denoised.Rect = from.Sub(by), from.Sub(by)
		settle.CarryGrain(picture, moved, denoised, missing, layer)
		return nil
	}
	tile, err := memo.Do(ctx, e.Cache, environment{e}, g.Model, madeGrain)
	if err != nil {
		return err
	}
	layer.Tile = (*[3][]float32)(tile)
	seed := fnv.New64a()
	_, _ = fmt.Fprint(seed, g.Seed, "/", in.Frame) // a hash takes anything
	layer.Seed = seed.Sum64()
	settle.AddGrain(picture, missing, layer)
	return nil
}
