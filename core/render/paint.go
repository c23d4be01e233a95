package render

import (
	"context"
	"fmt"
	"image"

	"jardin/core/fill"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// bare returns a frame as it is painted on. What it returns may cover more than rect.
func (e *Evaluator) bare(ctx context.Context, in bareInput, rect image.Rectangle) (*raster.Image, error) {
	if in.Denoise == nil {
		return e.Plate.Linear(ctx, in.Frame, rect)
	}
	return memo.Do(ctx, e.Cache, environment{e}, in, denoised)
}

// denoised takes the grain out of a frame.
func denoised(ctx context.Context, e environment, in bareInput) (*raster.Image, error) {
	return e.onDisk(in, func() (*raster.Image, error) {
		size, noise := e.Plate.Size(), in.Denoise.Noise
		bands := denoiseBands(size)
		if len(bands) > 1 && min(noise[0], noise[1], noise[2]) <= 0 { // of the whole frame, as without bands
			plate, err := e.Plate.Linear(ctx, in.Frame, size)
			if err != nil {
				return nil, err
			}
			for c := range noise {
				if noise[c] <= 0 {
					noise[c] = settle.Noise(plate, c)
				}
			}
		}
		out := raster.NewImage(size)
		for _, band := range bands {
			around := band.Inset(-denoiseMargin).Intersect(size)
			plate, err := e.Plate.Linear(ctx, in.Frame, around)
			if err != nil {
				return nil, err
			}
			if plate.Rect != around {
				plate = plate.Crop(around)
			}
			denoiser := settle.NewTemporalDenoiser(plate, noise)
			add := func(_ int, carried *raster.Image, _ *raster.Plane) { denoiser.Add(carried) }
			if err := e.gather(ctx, in.Denoise.Helpers, around, add); err != nil {
				return nil, err
			}
			out.Paste(denoiser.Denoise(plate, in.Denoise.Strength).Crop(band))
		}
		return out, nil
	})
}

// denoisePixels is about how many pixels are rid of grain at a time: it takes ten times their memory.
var denoisePixels = 1 << 20

// denoiseMargin is how far around pixels may have a say: light is made equal over five, twice.
const denoiseMargin = 64

// denoiseBands are the parts of a frame that are rid of grain one after the other.
func denoiseBands(size image.Rectangle) (bands []image.Rectangle) {
	count := max(1, (size.Dx()*size.Dy()+denoisePixels/2)/denoisePixels)
	for k := range count {
		bands = append(bands, image.Rect(size.Min.X, size.Min.Y+size.Dy()*k/count, size.Max.X, size.Min.Y+size.Dy()*(k+1)/count))
	}
	return bands
}

// onDisk returns a picture from the disk cache, or makes it and keeps it there.
func (e *Evaluator) onDisk(in any, make func() (*raster.Image, error)) (*raster.Image, error) {
	if e.Disk == nil {
		return make()
	}
	name, err := memo.Name(environment{e}, in)
	if err != nil {
		return nil, err
	}
	if m, ok := e.Disk.Get(name); ok {
		return m, nil
	}
	m, err := make()
	if err == nil {
		e.Disk.Put(name, m)
	}
	return m, err
}

// checkpointEvery is after how many strokes a layer is kept on disk: so many are painted anew at
// most when a shot is opened again.
const checkpointEvery = 32

// layers is paint on a plate's own frame: all of it, and that which counts.
type layers struct{ all, shared *raster.Image }

// Bytes returns the memory that both take.
func (l layers) Bytes() int {
	n := l.all.Bytes()
	if l.shared != nil {
		n += l.shared.Bytes()
	}
	return n
}

// layer returns what lies on a plate's own frame of the strokes that count.
func (e *Evaluator) layer(ctx context.Context, in *memo.Keyed[layerInput]) (*raster.Image, error) {
	if in == nil {
		return raster.NewImage(image.Rectangle{}), nil
	}
	l, err := memo.Do(ctx, e.Cache, environment{e}, in, painted)
	if err != nil {
		return nil, err
	}
	if l.shared != nil {
		return l.shared, nil
	}
	return l.all, nil
}

// painted paints a layer. It starts from the longest beginning that is still remembered, so
// that one more stroke costs one stroke.
func painted(ctx context.Context, e environment, in *memo.Keyed[layerInput]) (layers, error) {
	var strokes []*memo.Keyed[layerInput] // the newest first
	node, found, known := in, layers{}, false
	for ; node.Value.Base == nil; node = node.Value.Below {
		if node != in {
			if found, known = memo.Peek[layers](e.Cache, e, node); known {
				break
			}
		}
		strokes = append(strokes, node)
	}
	bottom, total := node, len(strokes)
	for ; bottom.Value.Base == nil; bottom = bottom.Value.Below {
		total++
	}
	base := bottom.Value.Base
	// Of the disk cache are only whole layers, of every so many strokes.
	for i := 0; !known && !base.Some && e.Disk != nil && i < len(strokes); i++ {
		if (len(strokes)-i)%checkpointEvery != 0 {
			continue
		}
		name, err := memo.Name(e, strokes[i])
		if err != nil {
			return layers{}, err
		}
		if m, ok := e.Disk.Get(name); ok {
			found, known, strokes = layers{all: m}, true, strokes[:i]
		}
	}
	var under *memo.Keyed[fillInput]
	for _, s := range strokes {
		if s.Value.Under != nil {
			under = s.Value.Under
		}
	}
	c, err := e.canvas(ctx, base, under)
	if err != nil {
		return layers{}, err
	}
	if !known {
		if found.all, err = e.base(ctx, base); err != nil {
			return layers{}, err
		}
		if base.Some && base.Shared {
			found.shared = found.all
		}
	}
	c.Load(found.all)
	if base.Some {
		c.Share(true)
		if found.shared != nil {
			c.LoadShared(found.shared)
		}
	}
	for i := len(strokes) - 1; i >= 0; i-- {
		if err := ctx.Err(); err != nil {
			return layers{}, err
		}
		v := &strokes[i].Value
		if base.Some {
			c.Share(v.Shared)
		}
		if err := e.paintStroke(ctx, c, &v.Stroke, base.Bare.Frame); err != nil {
			return layers{}, err
		}
		if e.Disk == nil || base.Some || i >= checkpointEvery || (total-i)%checkpointEvery != 0 {
			continue
		}
		name, err := memo.Name(e, strokes[i])
		if err != nil {
			return layers{}, err
		}
		e.Disk.Put(name, c.Layer())
	}
	out := layers{all: c.Layer()}
	if base.Some {
		out.shared = c.Shared()
	}
	return out, nil
}

// canvas returns an empty canvas for a plate, on the sources below, if they are read.
func (e *Evaluator) canvas(ctx context.Context, base *baseInput, under *memo.Keyed[fillInput]) (*fill.Canvas, error) {
	plate, err := e.bare(ctx, base.Bare, e.Plate.Size())
	if err != nil {
		return nil, fmt.Errorf("frame %d, on which it is painted: %w", base.Bare.Frame, err)
	}
	c := fill.NewCanvas(plate)
	if under != nil {
		if err := e.under(ctx, &under.Value, c); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// under lays sources under a canvas.
func (e *Evaluator) under(ctx context.Context, in *fillInput, c *fill.Canvas) error {
	if len(in.Sources) == 0 {
		return nil
	}
	made, err := e.fill(ctx, in, e.Plate.Size())
	if err != nil {
		return err
	}
	c.Over(made.Image)
	return nil
}

// base returns what lies on a plate before any stroke: its whole frame, a supplied
// picture, or nothing.
func (e *Evaluator) base(ctx context.Context, in *baseInput) (*raster.Image, error) {
	out := raster.NewImage(image.Rectangle{})
	if in.Whole {
		plate, err := e.bare(ctx, in.Bare, e.Plate.Size())
		if err != nil {
			return nil, err
		}
		out = plate.Crop(e.Plate.Size())
	}
	if in.Picture == nil {
		return out, nil
	}
	picture, err := e.picture(ctx, &in.Picture.Value)
	if err != nil {
		return nil, err
	}
	if !in.Whole {
		return picture, nil
	}
	out.Over(picture)
	return out, nil
}

// Easel returns what a live stroke is painted on: the frame with the paint of one
// source on it, and all that lies below. A source that is not there yet lies over
// all others, and is as the given one. Where it sees removals below it, all of them
// are seen: nobody knows yet where the stroke will look.
func (e *Evaluator) Easel(
	ctx context.Context,
	t *Treatment,
	removal string,
	source *treatment.Source,
	n int,
) (*fill.Canvas, error) {
	r := t.removal(removal)
	if r == nil {
		return nil, fmt.Errorf("there is no removal %q", removal)
	}
	i := len(r.sources)
	for k, s := range r.sources {
		if s.ID == source.ID {
			i, source = k, s.Source
		}
	}
	if sourceKinds[source.Kind] == nil {
		return nil, fmt.Errorf("%q is not a kind of source", source.Kind)
	}
	if source.Below {
		e = e.seenFrom(t.beneath(t.all[:r.at:r.at]))
	}
	return sourceKinds[source.Kind].easel(ctx, e, r, i, n)
}
