package render

import (
	"context"
	"fmt"
	"image"
	"math"

	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/matte"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// A front in front of a removal, and whose it is.
type owned struct {
	*treatment.Front
	by *removal
}

// before lists what stands in front of the removal: its own fronts, and those of
// others that stand in front of all.
func (r *removal) before() (out []owned) {
	for _, other := range r.of.removals {
		own := other.doc.ID == r.doc.ID
		if own {
			other = r
		}
		g := other.doc.Guard
		if g == nil {
			continue
		}
		for i := range g.Fronts {
			if f := &g.Fronts[i]; !f.Off && (own || f.All) {
				out = append(out, owned{f, other})
			}
		}
	}
	return out
}

// fronts names what stands in front of the removal by others.
func (r *removal) fronts(n int) (out []any) {
	for _, f := range r.before() {
		if f.by != r {
			out = append(out, f.by.key, f.by.rides(n))
		}
	}
	return out
}

// inFront returns how much of each pixel of frame n stands in front of the removal,
// nil for nothing, and those whose soft edge is to be corrected.
func (e *Evaluator) inFront(ctx context.Context, r *removal, n int, rect image.Rectangle) (*raster.Plane, []owned, error) {
	var layers []matte.Layer
	var soft []owned
	for _, f := range r.before() {
		m, err := e.front(ctx, f.by, f.Front, n, rect)
		if err != nil {
			return nil, nil, err
		}
		if m.Rect.Empty() && f.Combine != matte.Keep {
			continue
		}
		layers = append(layers, matte.Layer{Matte: m, Opacity: 1, Combine: f.Combine})
		if f.Unmix > 0 {
			soft = append(soft, f)
		}
	}
	if len(layers) == 0 {
		return nil, nil, nil
	}
	return matte.Combine(rect, layers...), soft, nil
}

// front returns the coverage of one front on frame n.
func (e *Evaluator) front(ctx context.Context, r *removal, f *treatment.Front, n int, rect image.Rectangle) (*raster.Plane, error) {
	// What is grown or blurred is so by what lies a little beyond as well.
	margin := int(math.Ceil(math.Abs(f.Grow)+3*f.Blur)) + 1
	region := rect.Inset(-margin).Intersect(e.Plate.Size())
	var inside *raster.Plane
	if len(f.Shapes) > 0 || f.By == treatment.ByOutline {
		inside = r.covered(f.Shapes, carry.Edge{}, n, region)
		if inside.Rect.Empty() {
			return inside, nil
		}
		region = region.Intersect(inside.Rect.Inset(-margin))
	}
	var out *raster.Plane
	switch f.By {
	case treatment.ByOutline:
		out, inside = inside.Crop(region), nil
	case treatment.ByMatte:
		p := f.Matte(n)
		if p == nil {
			return raster.NewPlane(image.Rectangle{}), nil
		}
		if e.Mattes == nil {
			return nil, fmt.Errorf("the matte %q cannot be read here", p.Name)
		}
		m, err := e.Mattes(ctx, p)
		if err != nil {
			return nil, err
		}
		out = m.Crop(region)
	default:
		plate, err := e.Plate.Linear(ctx, n, region)
		if err != nil {
			return nil, err
		}
		out = keyed(plate, f, region)
	}
	black, white := f.Clips()
	if black > 0 || white < 1 {
		for i, v := range out.Pix {
			out.Pix[i] = min(max((v-float32(black))/float32(white-black), 0), 1)
		}
	}
	if f.Grow != 0 {
		out = raster.Grow(out, f.Grow)
	}
	if f.Blur > 0 {
		out = raster.Gaussian(out, f.Blur)
	}
	if inside != nil {
		times(out, inside, false)
	}
	if k := float32(f.Through()); k < 1 {
		for i := range out.Pix {
			out.Pix[i] *= k
		}
	}
	return out.Crop(region.Intersect(rect)), nil
}

// keyed returns how far each pixel has the colour or the brightness of a key.
func keyed(plate *raster.Image, f *treatment.Front, rect image.Rectangle) *raster.Plane {
	out := raster.NewPlane(rect)
	k := f.Key
	l0, a0, b0 := colorspace.Lab(k.Colour[0], k.Colour[1], k.Colour[2])
	raster.Rows(rect.Min.Y, rect.Max.Y, func(y int) {
		src, dst := plate.Row(y, rect.Min.X, rect.Max.X), out.Row(y, rect.Min.X, rect.Max.X)
		for x := range dst {
			l, a, b := colorspace.Lab(float64(src[4*x]), float64(src[4*x+1]), float64(src[4*x+2]))
			d := l
			if f.By == treatment.ByColour {
				d = math.Sqrt((l-l0)*(l-l0) + (a-a0)*(a-a0) + (b-b0)*(b-b0))
			}
			// From 1 at near to 0 at far, whichever of them is greater.
			u := math.Min(math.Max((d-k.Far)/(k.Near-k.Far), 0), 1)
			v := float32(u * u * (3 - 2*u))
			if k.Invert {
				v = 1 - v
			}
			dst[x] = v
		}
	})
	return out
}

// unmix corrects the colour of a front's soft edge.
func (e *Evaluator) unmix(ctx context.Context, r *removal, n int, f owned, plate, picture, patch *raster.Image, through *raster.Plane, opacity float32) error {
	front, err := e.front(ctx, f.by, f.Front, n, through.Rect)
	if err != nil {
		return err
	}
	front = front.Crop(through.Rect)
	// What is removed shows where it is marked and nothing stands before it.
	counts := raster.NewPlane(through.Rect)
	weight := through.Crop(through.Rect)
	for i, g := range front.Pix {
		if through.Pix[i] > 0.5 && g < 0.02 {
			counts.Pix[i] = 1
		}
		weight.Pix[i] *= opacity
	}
	was := settle.Spread(plate, counts, f.Unmix/2)
	settle.Unmix(picture, plate, was, patch, front, weight)
	return nil
}
