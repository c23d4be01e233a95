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
	out := raster.NewImage(rect.Intersect(e.Plate.Size()))
	for _, tile := range denoiseTiles(e.Plate.Size()) {
		if !tile.Overlaps(out.Rect) {
			continue
		}
		part, err := memo.Do(ctx, e.Cache, environment{e}, tileInput{in, tile}, denoised)
		if err != nil {
			return nil, err
		}
		out.Paste(part)
	}
	return out, nil
}

// A tileInput is a tile of a frame as it is painted on.
type tileInput struct {
	Of   bareInput
	Tile image.Rectangle
}

// denoised takes the grain out of a tile of a frame.
func denoised(ctx context.Context, e environment, in tileInput) (*raster.Image, error) {
	return e.onDisk(in, func() (*raster.Image, error) {
		d := in.Of.Denoise
		noise, err := memo.Do(ctx, e.Cache, environment(e), noiseInput{in.Of.Frame, d.Noise}, noiseOf)
		if err != nil {
			return nil, err
		}
		around := in.Tile.Inset(-denoiseMargin).Intersect(e.Plate.Size())
		plate, err := e.Plate.Linear(ctx, in.Of.Frame, around)
		if err != nil {
			return nil, err
		}
		if plate.Rect != around {
			plate = plate.Crop(around)
		}
		denoiser := settle.NewTemporalDenoiser(plate, noise)
		add := func(_ int, carried *raster.Image, _ *raster.Plane) { denoiser.Add(carried) }
		if err := e.gather(ctx, d.Helpers, around, add); err != nil {
			return nil, err
		}
		return denoiser.Denoise(plate, d.Strength).Crop(in.Tile), nil
	})
}

// A noiseInput is a frame's noise, where it is not known.
type noiseInput struct {
	Frame int
	Known [3]float64 // 0 where it is not
}

// noiseOf measures what is not known of a frame's noise, on all of it.
func noiseOf(ctx context.Context, e environment, in noiseInput) ([3]float64, error) {
	out := in.Known
	if min(out[0], out[1], out[2]) > 0 {
		return out, nil
	}
	plate, err := e.Plate.Linear(ctx, in.Frame, e.Plate.Size())
	if err != nil {
		return out, err
	}
	for c := range out {
		if out[c] <= 0 {
			out[c] = settle.Noise(plate, c)
		}
	}
	return out, nil
}

// denoiseTile is about how large a part of a frame is rid of grain at a time, pixels: a patch needs only some of them, and one takes
// twenty times its memory.
var denoiseTile = image.Pt(480, 360)

// denoiseMargin is how far around pixels may have a say: light is made equal over a sigma of five, twice.
const denoiseMargin = 32

// denoiseTiles are the parts of a frame that are rid of grain one by one.
func denoiseTiles(size image.Rectangle) (tiles []image.Rectangle) {
	cut := func(from, length, about, k int) (int, int, int) {
		n := max(1, (length+about/2)/about)
		return from + length*k/n, from + length*(k+1)/n, n
	}
	for j := 0; ; j++ {
		y0, y1, rows := cut(size.Min.Y, size.Dy(), denoiseTile.Y, j)
		if j == rows {
			return tiles
		}
		for i := 0; ; i++ {
			x0, x1, columns := cut(size.Min.X, size.Dx(), denoiseTile.X, i)
			if i == columns {
				break
			}
			tiles = append(tiles, image.Rect(x0, y0, x1, y1))
		}
	}
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

// layers is what was painted on a plate's own frame, all of it and that which counts: where it was painted, on what it begins with.
type layers struct{ all, shared *raster.Image }

// Bytes returns the memory that both take.
func (l layers) Bytes() int {
	n := l.all.Bytes()
	if l.shared != nil {
		n += l.shared.Bytes()
	}
	return n
}

// A laid is what lies on a plate's own frame of the strokes that count.
type laid struct {
	painted *raster.Image
	base    *baseInput // of the whole frame, on which it lies; nil for nothing
	bounds  image.Rectangle
}

// laid returns what lies on a plate's own frame of the strokes that count.
func (e *Evaluator) laid(ctx context.Context, in *memo.Keyed[layerInput]) (laid, error) {
	if in == nil {
		return laid{painted: raster.NewImage(image.Rectangle{})}, nil
	}
	l, err := memo.Do(ctx, e.Cache, environment{e}, in, painted)
	if err != nil {
		return laid{}, err
	}
	bottom := in
	for bottom.Value.Base == nil {
		bottom = bottom.Value.Below
	}
	base := bottom.Value.Base
	out := laid{painted: l.all}
	if l.shared != nil {
		out.painted = l.shared
	}
	out.bounds = out.painted.Rect
	if base.Whole && (l.shared == nil || base.Shared) {
		out.base, out.bounds = base, e.Plate.Size()
	}
	return out, nil
}

// solid reports whether it is the whole frame, and nothing else.
func (l laid) solid() bool { return l.base != nil && l.base.Picture == nil && l.painted.Rect.Empty() }

// part returns what lies on a part of the plate; it may cover more than rect where that costs nothing.
func (l laid) part(ctx context.Context, e *Evaluator, rect image.Rectangle) (*raster.Image, error) {
	if l.base == nil {
		return l.painted, nil
	}
	out, err := e.base(ctx, l.base, rect)
	if err != nil {
		return nil, err
	}
	out.Paste(l.painted)
	return out, nil
}

// layer returns a part of what lies on a plate's own frame of the strokes that count. It may cover more than rect.
func (e *Evaluator) layer(ctx context.Context, in *memo.Keyed[layerInput], rect image.Rectangle) (*raster.Image, error) {
	l, err := e.laid(ctx, in)
	if err != nil {
		return nil, err
	}
	return l.part(ctx, e, rect)
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
	base, size := bottom.Value.Base, e.Plate.Size()
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
	if !known {
		found.all = raster.NewImage(image.Rectangle{})
		if !base.Whole {
			m, err := e.base(ctx, base, size)
			if err != nil {
				return layers{}, err
			}
			found.all = m
		}
		if base.Some {
			found.shared = raster.NewImage(image.Rectangle{})
			if base.Shared {
				found.shared = found.all
			}
		}
	}
	if len(strokes) == 0 {
		return found, nil
	}
	region := found.all.Rect.Intersect(size) // of the plate, on which anything is painted or read
	for _, s := range strokes {
		for _, b := range s.Value.Stroke.reads() {
			region = region.Union(raster.Around(b, 0, size))
		}
	}
	if region.Empty() {
		return found, nil
	}
	c, err := e.canvas(ctx, base, under, region)
	if err != nil {
		return layers{}, err
	}
	if base.Some {
		c.Share(true)
	}
	if base.Whole {
		m, err := e.base(ctx, base, region)
		if err != nil {
			return layers{}, err
		}
		c.Ground(m, base.Some && base.Shared)
	}
	c.Load(found.all)
	if base.Some {
		c.LoadShared(found.shared)
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

// canvas returns an empty canvas for a part of a plate, on the sources below, if they are read.
func (e *Evaluator) canvas(ctx context.Context, base *baseInput, under *memo.Keyed[fillInput], rect image.Rectangle) (*fill.Canvas, error) {
	plate, err := e.bare(ctx, base.Bare, rect)
	if err != nil {
		return nil, fmt.Errorf("frame %d, on which it is painted: %w", base.Bare.Frame, err)
	}
	c := fill.NewCanvas(plate.Crop(rect))
	if under != nil {
		if err := e.under(ctx, &under.Value, c, rect); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// under lays sources under a canvas for a part of a plate.
func (e *Evaluator) under(ctx context.Context, in *fillInput, c *fill.Canvas, rect image.Rectangle) error {
	if len(in.Sources) == 0 {
		return nil
	}
	made, err := e.fill(ctx, in, rect)
	if err != nil {
		return err
	}
	c.Over(made.Image)
	return nil
}

// base returns a part of what lies on a plate before any stroke: its whole frame, a supplied picture, or nothing.
func (e *Evaluator) base(ctx context.Context, in *baseInput, rect image.Rectangle) (*raster.Image, error) {
	out := raster.NewImage(image.Rectangle{})
	if in.Whole {
		plate, err := e.bare(ctx, in.Bare, rect)
		if err != nil {
			return nil, err
		}
		out = plate.Crop(rect)
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
