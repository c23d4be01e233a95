package render

import (
	"context"
	"fmt"
	"image"
	"math"

	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/matte"
	"jardin/core/memo"
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

// A frontInput is something that stands in front on a frame.
type frontInput struct {
	Frame        int
	By           string
	Shapes       *coverage // nil for everywhere
	Key          *treatment.FrontKey
	Matte        *memo.Keyed[treatment.Picture]
	Black, White float64
	Grow, Blur   float64
	Opacity      float64
	Combine      string
	Unmix        float64
}

func (r *removal) front(f *treatment.Front, n int) frontInput {
	black, white := f.Clips()
	in := frontInput{
		Frame: n, By: f.By, Key: f.Key, Black: black, White: white, Grow: f.Grow, Blur: f.Blur,
		Opacity: f.Through(), Combine: f.Combine, Unmix: f.Unmix,
	}
	if f.By == treatment.ByMatte {
		in.Matte = r.picture(f.Matte(n))
	}
	if len(f.Shapes) > 0 || f.By == treatment.ByOutline {
		c := r.covered(f.Shapes, carry.Edge{}, n)
		in.Shapes = &c
	}
	return in
}

// inFront returns how much of each pixel of a frame fronts cover, nil for nothing, and
// those whose soft edge is to be corrected.
func (e *Evaluator) inFront(
	ctx context.Context,
	fronts []frontInput,
	rect image.Rectangle,
) (*raster.Plane, []*frontInput, error) {
	var layers []matte.Layer
	var soft []*frontInput
	for i := range fronts {
		f := &fronts[i]
		m, err := e.front(ctx, f, rect)
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

// front returns the coverage of one front.
func (e *Evaluator) front(ctx context.Context, f *frontInput, rect image.Rectangle) (*raster.Plane, error) {
	// What is grown or blurred is so by what lies a little beyond as well.
	margin := int(math.Ceil(math.Abs(f.Grow)+3*f.Blur)) + 1
	region := rect.Inset(-margin).Intersect(e.Plate.Size())
	var inside *raster.Plane
	if f.Shapes != nil {
		inside = f.Shapes.cover(region)
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
		if f.Matte == nil {
			return raster.NewPlane(image.Rectangle{}), nil
		}
		if e.Mattes == nil {
			return nil, fmt.Errorf("the matte %q cannot be read here", f.Matte.Value.Name)
		}
		m, err := e.Mattes(ctx, &f.Matte.Value)
		if err != nil {
			return nil, err
		}
		out = m.Crop(region)
	default:
		plate, err := e.Plate.Linear(ctx, f.Frame, region)
		if err != nil {
			return nil, err
		}
		out = Keyed(plate, f.By, f.Key, region)
	}
	if f.Black > 0 || f.White < 1 {
		for i, v := range out.Pix {
			out.Pix[i] = min(max((v-float32(f.Black))/float32(f.White-f.Black), 0), 1)
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
	if k := float32(f.Opacity); k < 1 {
		for i := range out.Pix {
			out.Pix[i] *= k
		}
	}
	return out.Crop(region.Intersect(rect)), nil
}

// A sceneMattes is all mattes and fronts on a frame.
type sceneMattes struct {
	Frame    int
	Removals []removalMattes
}

type removalMattes struct {
	ID     string
	Matte  marking
	Fronts []frontInput
}

// An occluders is where on a frame light and detail must not be measured.
type occluders struct {
	Scene    *memo.Keyed[sceneMattes]
	Free     string   // the removal whose own matte does not count; empty for none
	Excluded coverage // what is left out of the removal's track
}

// occluders gathers what covers the surface on frame n for the removal, with its own matte
// or without.
func (r *removal) occluders(n int, unmarked bool) *occluders {
	return r.occludersBy(r.doc.Follow.Track, n, unmarked)
}

// occludersBy is occluders with what is left out of another track than the removal's.
func (r *removal) occludersBy(track string, n int, unmarked bool) *occluders {
	out := &occluders{Scene: r.of.mattes(n, false), Excluded: r.excluded(track, n)}
	if unmarked {
		out.Free = r.doc.ID
	}
	return out
}

// unmeasured is occluders, with its own matte, for measuring: with edges in steps (marking.stepped).
func (r *removal) unmeasured(n int) *occluders {
	return &occluders{Scene: r.of.mattes(n, true), Excluded: r.excluded(r.doc.Follow.Track, n)}
}

// mattes gathers all mattes and fronts on a frame, the mattes' edges in steps or as they are.
func (t *Treatment) mattes(n int, stepped bool) *memo.Keyed[sceneMattes] {
	type name struct {
		frame   int
		stepped bool
	}
	return shared(t.scenes, name{n, stepped}, func() *memo.Keyed[sceneMattes] {
		s := sceneMattes{Frame: n}
		for _, other := range t.removals {
			on := removalMattes{ID: other.doc.ID, Matte: other.matte(n)}
			if stepped {
				on.Matte = on.Matte.stepped()
			}
			if g := other.doc.Guard; g != nil {
				for i := range g.Fronts {
					if !g.Fronts[i].Off {
						on.Fronts = append(on.Fronts, other.front(&g.Fronts[i], n))
					}
				}
			}
			s.Removals = append(s.Removals, on)
		}
		return memo.Of(s)
	})
}

// excluded gathers what is left out of a track on frame n.
func (r *removal) excluded(track string, n int) (out coverage) {
	if m := r.motions.Motion(track); m != nil {
		for i := range m.Track.Exclusions {
			s := &m.Track.Exclusions[i]
			if pose, ok := r.motions.Pose(s, track, n); ok {
				out.Shapes = append(out.Shapes, carry.PoseShape(s, pose))
			}
		}
	}
	return out
}

// aside is how many pixels around what hides a surface are not believed either: interpolation reaches as far, and
// outlines are drawn tightly.
const aside = 2

// cover returns 1 on every matte, every front and what is left out of the track, and two
// pixels around them.
func (o *occluders) cover(ctx context.Context, e *Evaluator, rect image.Rectangle) (*raster.Plane, error) {
	out, some, err := o.marked(ctx, e, rect)
	if err != nil {
		return nil, err
	}
	some = some.Inset(-aside).Intersect(rect)
	for grown, y := raster.Grow(out.Crop(some), aside), some.Min.Y; y < some.Max.Y; y++ {
		copy(out.Row(y, some.Min.X, some.Max.X), grown.Row(y, some.Min.X, some.Max.X))
	}
	return out, nil
}

// marked returns 1 on every matte, every front and what is left out of the track, and the box in which they lie.
func (o *occluders) marked(
	ctx context.Context,
	e *Evaluator,
	rect image.Rectangle,
) (out *raster.Plane, some image.Rectangle, err error) {
	out = raster.NewPlane(rect)
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
	below, _ := e.Plate.(treatedPlate)
	for i := range o.Scene.Value.Removals {
		on := &o.Scene.Value.Removals[i]
		if on.ID != o.Free {
			m, err := on.Matte.cover(ctx, e, rect)
			if err != nil {
				return nil, some, err
			}
			if below.removes(on.ID) { // what was taken away hides nothing
				if err := below.leave(ctx, o.Scene.Value.Frame, m); err != nil {
					return nil, some, err
				}
			}
			add(m, 0)
		}
		for k := range on.Fronts {
			m, err := e.front(ctx, &on.Fronts[k], rect)
			if err != nil {
				return nil, some, err
			}
			add(m, 0.02)
		}
	}
	if len(o.Excluded.Shapes) > 0 {
		add(o.Excluded.cover(rect), 0)
	}
	return out, some, nil
}

// onFrame is cover for the whole of a frame that is held: it is asked for again and again.
func (o *occluders) onFrame(ctx context.Context, e *Evaluator) (*raster.Plane, error) {
	return memo.Do(
		ctx,
		e.Cache,
		environment{e},
		o,
		func(ctx context.Context, e environment, o *occluders) (*raster.Plane, error) {
			return o.cover(ctx, e.Evaluator, e.Plate.Size())
		},
	)
}

// hiddenPixels are the pixels of a frame that occluders cover, a bit for each: a frame is asked for
// again and again when others are gathered around it.
type hiddenPixels struct {
	rect image.Rectangle
	bits []uint64 // by rows
}

// Bytes returns the memory that they take.
func (h *hiddenPixels) Bytes() int { return 8 * len(h.bits) }

func (h *hiddenPixels) at(x, y int) bool {
	if !image.Pt(x, y).In(h.rect) {
		return false
	}
	i := (y-h.rect.Min.Y)*h.rect.Dx() + x - h.rect.Min.X
	return h.bits[i>>6]>>(i&63)&1 == 1
}

// A hiddenInput is what hidden pixels are worked out from; occluders alone stand for their cover.
type hiddenInput struct {
	Of    *occluders
	Close bool
}

// hidden returns what is hidden on a frame, with some room around it; close, without.
func (o *occluders) hidden(ctx context.Context, e *Evaluator, close bool) (*hiddenPixels, error) {
	return memo.Do(
		ctx,
		e.Cache,
		environment{e},
		hiddenInput{o, close},
		func(ctx context.Context, e environment, in hiddenInput) (*hiddenPixels, error) {
			cover, _, err := in.Of.marked(ctx, e.Evaluator, e.Plate.Size())
			if !in.Close {
				cover, err = in.Of.cover(ctx, e.Evaluator, e.Plate.Size())
			}
			if err != nil {
				return nil, err
			}
			out := &hiddenPixels{cover.Rect, make([]uint64, (len(cover.Pix)+63)/64)}
			for i, v := range cover.Pix {
				if v > 0 {
					out.bits[i>>6] |= 1 << (i & 63)
				}
			}
			return out, nil
		},
	)
}

// Occluded returns where on frame n others are: 1 on the mattes of all removals but one,
// on every front and on what is left out of that one's track.
func (e *Evaluator) Occluded(ctx context.Context, t *Treatment, removal string, n int) (*raster.Plane, error) {
	r := t.removal(removal)
	if r == nil {
		return nil, fmt.Errorf("there is no removal %q", removal)
	}
	return r.occluders(n, true).cover(ctx, e, e.Plate.Size())
}

// Keyed returns how far each pixel of a part of the plate, linear light, has the colour or the brightness of a key, 0 to 1.
func Keyed(plate *raster.Image, by string, k *treatment.FrontKey, rect image.Rectangle) *raster.Plane {
	out := raster.NewPlane(rect)
	l0, a0, b0 := colorspace.Lab(k.Colour[0], k.Colour[1], k.Colour[2])
	raster.Rows(rect.Min.Y, rect.Max.Y, func(y int) {
		src, dst := plate.Row(y, rect.Min.X, rect.Max.X), out.Row(y, rect.Min.X, rect.Max.X)
		for x := range dst {
			l, a, b := colorspace.Lab(float64(src[4*x]), float64(src[4*x+1]), float64(src[4*x+2]))
			d := l
			if by == treatment.ByColour {
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
func (e *Evaluator) unmix(
	ctx context.Context,
	f *frontInput,
	plate, picture, patch *raster.Image,
	through *raster.Plane,
	opacity float32,
) error {
	front, err := e.front(ctx, f, through.Rect)
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
	was := settle.NormalizedBlur(plate, counts, f.Unmix/2)
	settle.Unmix(picture, plate, was, patch, front, weight)
	return nil
}
