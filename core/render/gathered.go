package render

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"image"
	"math"
	"math/bits"
	"slices"

	"jardin/core/gather"
	"jardin/core/geom"
	"jardin/core/matte"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// gatheredKind is clean pixels from the frames around: held on one frame, or of each frame anew.
type gatheredKind struct{ unpainted }

func (gatheredKind) frame(s *treatment.Source) int { return s.Gathered.Frame }

func (gatheredKind) held(r *removal, i, _ int) (*memo.Keyed[layerInput], bool) {
	return nil, !r.sources[i].Gathered.Live
}

// gather: it lies on what is to go, as a neighbour does.
func (gatheredKind) gather(r *removal, i, n int, settled bool) (sourceLayer, *coverage) {
	s := r.sources[i].Gathered
	on := s.Frame
	if s.Live {
		on = n
	}
	m := r.mapping(s.Track, on, n)
	if m == nil {
		return nil, nil
	}
	out := &gatheredInput{Clean: r.clean(s, on), Map: m}
	if settled && !s.Live && r.settles() {
		out.Settle = r.settled(i, s.Track, n, nil)
	}
	own := r.matte(n)
	if r.doc.Settle.Seam > 0 {
		own.Edge.Grow += seamRim
	}
	return out, &own
}

// A gatheredInput is clean pixels that were gathered on one frame, on another.
type gatheredInput struct {
	Clean  *memo.Keyed[cleanInput]
	Map    warp.Mapping // from the frame on which they were gathered
	Settle *settleInput // nil: they are not settled
}

// A cleanInput is all that clean pixels of a frame are gathered from.
type cleanInput struct {
	Frame  int
	Own    *occluders // where that frame's own pixels do not count
	Around []neighbourFrame
	Weight []float64 // of each of them; the frame's own count once
	Holes  []hole    // what is to be filled
	Scale  float64   // of the areas over which light is made equal
	Noise  float64   // standard deviation of the grain, on the square root of light
}

// A hole is what is marked on a frame, taken to the one that is gathered on.
type hole struct {
	Matte coverage
	Map   warp.Mapping
}

// unknownNoise is taken for the grain's where it was not measured: two codes of 255 at middle grey.
const unknownNoise = 0.01

func (r *removal) clean(s *treatment.Gathering, on int) *memo.Keyed[cleanInput] {
	type name struct {
		of *treatment.Gathering
		on int
	}
	return shared(r.inputs, name{s, on}, func() *memo.Keyed[cleanInput] {
		type of struct {
			track string
			frame int
		}
		track := cmp.Or(s.Track, r.doc.Follow.Track)
		hidden := func(k int) *occluders {
			return shared(r.inputs, of{track, k}, func() *occluders { return r.occludersBy(track, k, false) })
		}
		every := (2*s.Over + treatment.MostLookedAt - 1) / treatment.MostLookedAt
		in := cleanInput{
			Frame: on, Own: hidden(on), Around: r.around(on, s.Over, every, s.Track, hidden), Scale: s.LightScale(),
			Noise: unknownNoise,
		}
		for _, f := range in.Around {
			weight := 1.0
			if s.Live { // light and slow change come along
				weight = bell(f.Frame-on, s.Over)
			}
			in.Weight = append(in.Weight, weight)
		}
		if g := r.grain(); g != nil && g.Model != nil {
			m := grainOf(g.Model)
			middle := m.Light[len(m.Light)/2]
			in.Noise = m.At(1, middle) / (2 * math.Sqrt(middle))
		}
		first, last := on, on
		if !s.Live {
			first, last = r.doc.Range.First, r.doc.Range.Last
		}
		for n := first; n <= last; n++ {
			if m := r.mapping(s.Track, n, on); m != nil {
				in.Holes = append(in.Holes, hole{r.matte(n), m})
			}
		}
		return memo.Of(in)
	})
}

// wanted returns where on its frame anything may have to be filled: 1 on all holes and a little
// around them, in a box around that.
func (in *cleanInput) wanted(size image.Rectangle) *raster.Plane {
	type outline struct {
		points []geom.Point
		grow   float64
	}
	var outlines []outline
	var box image.Rectangle
	for i := range in.Holes {
		h := &in.Holes[i]
		for k := range h.Matte.Shapes {
			s := &h.Matte.Shapes[k]
			if s.Shape.Invert { // all but the shape
				all := raster.NewPlane(size)
				for i := range all.Pix {
					all.Pix[i] = 1
				}
				return all
			}
			feather := 0.0
			for p := range s.Pose.Points {
				feather = math.Max(feather, s.Pose.Points[p].Feather)
			}
			points := s.Pose.Polygon(&s.Shape)
			middle := geom.Bounds(points).Centre()
			grow := feather + s.Shape.Feather + h.Matte.Edge.Feather + math.Max(s.Shape.Grow+h.Matte.Edge.Grow, 0)
			grow = grow*s.Pose.ToFrame.Scale(middle)*h.Map.Scale(middle) + 4
			o := outline{warp.ApplyAll(h.Map, points), grow}
			if beyondHorizon(o.points) || !(o.grow < 1e4) {
				continue // nothing of it can be brought here
			}
			outlines = append(outlines, o)
			box = box.Union(raster.Around(geom.Bounds(o.points), grow, size))
		}
	}
	out := raster.NewPlane(box)
	for _, o := range outlines {
		around := raster.Around(geom.Bounds(o.points), o.grow, size)
		if !around.Empty() {
			out.Max(raster.Grow(matte.Coverage(o.points, around).Crop(around), o.grow))
		}
	}
	return out
}

// beyondHorizon reports whether places cannot be brought to a frame.
func beyondHorizon(points []geom.Point) bool {
	return slices.ContainsFunc(points, func(p geom.Point) bool {
		return !p.Finite() || math.Abs(p.X) > 1e6 || math.Abs(p.Y) > 1e6
	})
}

func (in *gatheredInput) bounds(s *sourceInput, size image.Rectangle) image.Rectangle {
	return s.Where.cover(size).Rect
}

func (in *gatheredInput) reach(image.Rectangle) image.Rectangle { return image.Rectangle{} }

// composite lays the clean pixels, carried, where there are any. An average has lost its grain:
// all of it is to be laid again.
func (in *gatheredInput) composite(ctx context.Context, e *Evaluator, s *sourceInput, _ int, out *filling) error {
	back, ok := in.Map.Inverse()
	if !ok {
		return fmt.Errorf("the track cannot be inverted")
	}
	clean, err := e.clean(ctx, in.Clean)
	if err != nil || clean.Picture.Rect.Empty() {
		return err
	}
	lay := func(rect image.Rectangle) *raster.Image { return warp.Image(clean.Picture, back, rect) }
	return s.lay(ctx, e, in.Settle, in.Map.Bounds(boxOf(clean.Picture.Rect)), lay, out)
}

// cleanPixels are an average as it is remembered.
type cleanPixels struct{ *gather.Average }

// Bytes returns the memory that they take.
func (c cleanPixels) Bytes() int { return c.Picture.Bytes() + c.Unlike.Bytes() }

func (e *Evaluator) clean(ctx context.Context, in *memo.Keyed[cleanInput]) (cleanPixels, error) {
	return memo.Do(ctx, e.Cache, environment{e}, in, gathered)
}

// tileSide is the side of the squares that are averaged at a time, in pixels: many large frames
// take no more memory than a few small ones.
const tileSide = 128

// gathered makes clean pixels. Light is made equal over the whole of what is gathered; frames are
// then averaged square by square, where something is to be filled.
func gathered(ctx context.Context, e environment, keyed *memo.Keyed[cleanInput]) (cleanPixels, error) {
	in, size := &keyed.Value, e.Plate.Size()
	none := cleanPixels{&gather.Average{Picture: raster.NewImage(image.Rectangle{}),
		Unlike: raster.NewPlane(image.Rectangle{})}}
	wanted := in.wanted(size)
	rect := wanted.Rect
	if rect.Empty() {
		return none, nil
	}
	plate, beyond, err := e.helper(ctx, in.Frame, rect)
	if err != nil || beyond {
		return none, err
	}
	own, err := in.Own.cover(ctx, e.Evaluator, rect)
	if err != nil {
		return none, err
	}
	for i, v := range own.Pix {
		own.Pix[i] = 1 - v
	}
	region := rect.Inset(-int(math.Min(2*in.Scale, 300)) - gather.Cell).Intersect(size)
	gains, err := in.gains(ctx, e.Evaluator, region)
	if err != nil {
		return none, err
	}
	out := cleanPixels{&gather.Average{Picture: raster.NewImage(rect), Unlike: raster.NewPlane(rect)}}
	var tiles []image.Rectangle
	for y := rect.Min.Y; y < rect.Max.Y; y += tileSide {
		for x := rect.Min.X; x < rect.Max.X; x += tileSide {
			tile := image.Rect(x, y, x+tileSide, y+tileSide).Intersect(rect)
			if slices.ContainsFunc(wanted.Crop(tile).Pix, func(v float32) bool { return v > 0 }) {
				tiles = append(tiles, tile)
			}
		}
	}
	failed := make([]error, len(tiles))
	raster.Rows(0, len(tiles), func(k int) {
		tile := tiles[k]
		own := gather.Frame{Picture: plate, Counts: own, Weight: 1}
		frames, err := in.carried(ctx, e.Evaluator, tile, wanted, own, gains)
		if err != nil {
			failed[k] = err
			return
		}
		mean := gather.Mean(frames, tile, wanted, float32(in.Noise))
		out.Picture.Paste(mean.Picture)
		for y := tile.Min.Y; y < tile.Max.Y; y++ {
			copy(out.Unlike.Row(y, tile.Min.X, tile.Max.X), mean.Unlike.Row(y, tile.Min.X, tile.Max.X))
		}
	})
	if err := errors.Join(failed...); err != nil {
		return none, err
	}
	return out, nil
}

// enough is on how many frames a place has to be seen: with so many, an average is as free of grain
// and of what passes over as it has to be, and no more of them are looked at.
const enough = 20

// carried gathers frames of a square, spread over time, until each place that is wanted is seen on
// enough of them, or there are no more. The frame's own comes first.
func (in *cleanInput) carried(
	ctx context.Context,
	e *Evaluator,
	tile image.Rectangle,
	wanted *raster.Plane,
	own gather.Frame,
	gains []*gather.Gain,
) ([]gather.Frame, error) {
	out := []gather.Frame{own}
	seen := make([]int, tile.Dx()*tile.Dy())
	note := func(counts *raster.Plane) {
		for i := range seen {
			if counts.At(tile.Min.X+i%tile.Dx(), tile.Min.Y+i/tile.Dx()) > 0 {
				seen[i]++
			}
		}
	}
	note(own.Counts)
	lacking := func() bool {
		for i, n := range seen {
			if n < enough && wanted.At(tile.Min.X+i%tile.Dx(), tile.Min.Y+i/tile.Dx()) > 0 {
				return true
			}
		}
		return false
	}
	order := spread(len(in.Around))
	for ; len(order) > 0 && lacking(); order = order[min(4, len(order)):] {
		var some []neighbourFrame
		var which []int
		for _, i := range order[:min(4, len(order))] {
			if gains != nil && gains[i] != nil && in.Weight[i] > 1e-3 {
				some, which = append(some, in.Around[i]), append(which, i)
			}
		}
		err := e.gather(ctx, some, tile, func(k int, carried *raster.Image, counts *raster.Plane) {
			gains[which[k]].Apply(carried)
			note(counts)
			out = append(out, gather.Frame{Picture: carried, Counts: counts, Weight: float32(in.Weight[which[k]])})
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// spread lists the numbers below n such that the first few of them lie far apart: in the order of
// their bits from the lowest to the highest (van der Corput 1935).
func spread(n int) (out []int) {
	size := bits.Len(uint(max(n-1, 0)))
	for i := range 1 << size {
		if k := int(bits.Reverse(uint(i)) >> (bits.UintSize - size)); k < n {
			out = append(out, k)
		}
	}
	return out[:n]
}

// gains measures the light of the frames around against that of the frame itself.
func (in *cleanInput) gains(ctx context.Context, e *Evaluator, region image.Rectangle) ([]*gather.Gain, error) {
	cells := gather.Cells(region)
	own, err := e.cells(ctx, in.Frame, in.Own)
	if err != nil || own == nil {
		return nil, err
	}
	target := own.Crop(cells)
	out := make([]*gather.Gain, len(in.Around))
	toCells := warp.Of(geom.Homography{1.0 / gather.Cell, 0, 0, 0, 1.0 / gather.Cell, 0, 0, 0, 1})
	failed := make([]error, len(in.Around))
	raster.Rows(0, len(in.Around), func(i int) {
		f := in.Around[i]
		frame, err := e.cells(ctx, f.Frame, f.Out)
		if err != nil || frame == nil {
			failed[i] = err
			return
		}
		carried := warp.Image(frame, warp.Chain(warp.Of(gather.ToPixels), f.Map, toCells), cells)
		out[i] = gather.MeasureGain(target, carried, in.Scale)
	})
	if err := errors.Join(failed...); err != nil {
		return nil, err
	}
	return out, nil
}

// A cellsInput is what the light of a frame is averaged from, cell by cell.
type cellsInput struct {
	Frame int
	Out   *occluders
}

// cells returns the light of a frame, cell by cell; nil beyond the shot. It is remembered: when
// every frame is gathered anew, each looks at the same ones.
func (e *Evaluator) cells(ctx context.Context, n int, out *occluders) (*raster.Image, error) {
	m, err := memo.Do(ctx, e.Cache, environment{e}, cellsInput{n, out}, averagedCells)
	if m != nil && m.Rect.Empty() {
		return nil, err
	}
	return m, err
}

func averagedCells(ctx context.Context, e environment, in cellsInput) (*raster.Image, error) {
	const lines = 8 * gather.Cell
	size := e.Plate.Size()
	// What hides a frame is looked for on it: beyond the shot there is none.
	_, beyond, err := e.helper(ctx, in.Frame, image.Rect(size.Min.X, size.Min.Y, size.Min.X+1, size.Min.Y+1))
	if err != nil || beyond {
		return raster.NewImage(image.Rectangle{}), err
	}
	hidden, err := in.Out.hidden(ctx, e.Evaluator)
	if err != nil {
		return nil, err
	}
	out := raster.NewImage(gather.Cells(size))
	for y := size.Min.Y; y < size.Max.Y; y += lines {
		band := image.Rect(size.Min.X, y, size.Max.X, min(y+lines, size.Max.Y))
		part, _, err := e.helper(ctx, in.Frame, band)
		if err != nil {
			return nil, err
		}
		gather.AddCells(out, part.Crop(band), hidden.at)
	}
	return out, nil
}

// A Share is how much of what is marked on a frame a gathered source finds.
type Share struct {
	Seen, All int        // pixels that some frame shows, of those that are marked
	Missing   geom.Point // the middle of the others, from (0, 0) at the top left of what is marked to (1, 1)
	Around    int        // frames that the track carries there
}

// Seen returns how much of a removal's marked pixels on frame n its gathered source finds on some
// frame; nil where the removal has no such source, or it is not carried there.
func (e *Evaluator) Seen(ctx context.Context, t *Treatment, removal, id string, n int) (*Share, error) {
	r := t.removal(removal)
	if r == nil {
		return nil, fmt.Errorf("there is no removal %q", removal)
	}
	i := slices.IndexFunc(r.sources, func(s *source) bool { return s.ID == id && s.Gathered != nil })
	if i < 0 {
		return nil, nil
	}
	in, _ := r.sources[i].kind.gather(r, i, n, false)
	layer, ok := in.(*gatheredInput)
	if !ok {
		return nil, nil
	}
	back, ok := layer.Map.Inverse()
	if !ok {
		return nil, nil
	}
	clean, err := e.clean(ctx, layer.Clean)
	if err != nil {
		return nil, err
	}
	out := &Share{Around: len(layer.Clean.Value.Around)}
	var sum geom.Point
	marked := r.matte(n).cover(e.Plate.Size())
	for y := marked.Rect.Min.Y; y < marked.Rect.Max.Y; y++ {
		for x := marked.Rect.Min.X; x < marked.Rect.Max.X; x++ {
			if marked.At(x, y) <= 0.5 {
				continue
			}
			out.All++
			p := geom.Pt(float64(x)+0.5, float64(y)+0.5)
			q := back.Apply(p)
			if clean.Picture.At(int(math.Floor(q.X)), int(math.Floor(q.Y)))[3] > 0.5 {
				out.Seen++
			} else {
				sum = sum.Add(p)
			}
		}
	}
	if k := out.All - out.Seen; k > 0 {
		box := boxOf(marked.Rect)
		d := sum.Mul(1 / float64(k)).Sub(box.Min)
		out.Missing = geom.Pt(d.X/(box.Max.X-box.Min.X), d.Y/(box.Max.Y-box.Min.Y))
	}
	return out, nil
}
