package render

import (
	"context"
	"image"
	"math"
	"math/bits"
	"slices"
	"sync"
	"sync/atomic"

	"jardin/core/gather"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/warp"
)

// cleanPixels are what was gathered, as it is remembered.
type cleanPixels struct{ *gather.Average }

func (e *Evaluator) clean(ctx context.Context, in *memo.Keyed[cleanInput]) (cleanPixels, error) {
	return memo.Do(ctx, e.Cache, environment{e}, in, gathered)
}

// tileSide is the side of the squares that are averaged at a time, in pixels: many large frames
// take no more memory than a few small ones.
const tileSide = 128

// progressKey is what a context holds of who wants to hear how far gathering is.
type progressKey struct{}

// WithProgress returns a context in which who evaluates a frame hears how much of what is gathered for it is done: parts
// of the work, of so many. It may be called from several goroutines at once.
func WithProgress(ctx context.Context, told func(done, total int)) context.Context {
	return context.WithValue(ctx, progressKey{}, told)
}

// A gathering is clean pixels while they are gathered.
type gathering struct {
	*cleanInput
	e      *Evaluator
	wanted *raster.Plane
	region image.Rectangle // in which light is compared
	own    *gather.Grid
	lights []func() (light, error) // of each frame around, when it is asked for
	step   func()                  // a part of the work is done: a square
}

// A light is how a frame around differs from the one that is gathered on.
type light struct {
	gain   *gather.Gain // nil: the frame cannot be compared
	weight float64
}

// gathered makes clean pixels. Light is made equal over the whole of what is gathered; frames are
// then averaged square by square, where something is to be filled.
func gathered(ctx context.Context, e environment, keyed *memo.Keyed[cleanInput]) (cleanPixels, error) {
	g := &gathering{cleanInput: &keyed.Value, e: e.Evaluator}
	none := cleanPixels{gather.NewAverage(image.Rectangle{})}
	size := e.Plate.Size()
	var err error
	if g.wanted, err = g.cleanInput.wanted(ctx, e.Evaluator); err != nil {
		return none, err
	}
	rect := g.wanted.Rect
	if rect.Empty() || !e.Plate.Has(g.Frame) {
		return none, nil
	}
	g.region = rect.Inset(-int(math.Min(2*g.Scale, 300)) - gather.Cell).Intersect(size)
	if g.own, err = e.grid(ctx, g.Frame, g.Own, g.region); err != nil {
		return none, err
	}
	for i := range g.Around {
		g.lights = append(g.lights, sync.OnceValues(func() (light, error) { return g.lightOf(ctx, i) }))
	}
	places, shown, err := g.survey(ctx, 40_000)
	if err != nil || len(places) == 0 {
		return none, err
	}
	chosen, order, err := g.choose(shown)
	if err != nil {
		return none, err
	}
	out := cleanPixels{gather.NewAverage(rect)}
	g.counted(ctx)
	if err := g.average(ctx, order, out.Average); err != nil {
		return none, err
	}
	if g.AsSeen {
		return out, g.join(ctx, chosen, out.Average)
	}
	return out, nil
}

// counted has each part of the work told to who wants to hear of it.
func (g *gathering) counted(ctx context.Context) {
	told, _ := ctx.Value(progressKey{}).(func(done, total int))
	if told == nil {
		g.step = func() {}
		return
	}
	total := len(g.tiles())
	if g.AsSeen {
		total *= 2
	}
	var done atomic.Int64
	g.step = func() { told(int(done.Add(1)), total) }
}

// count is how many frames there are to choose from: the one that is gathered on, which is number
// 0, and those around it.
func (g *cleanInput) count() int { return 1 + len(g.Around) }

// frame returns one of them, how it is carried there, and where it does not count.
func (g *cleanInput) frame(k int) neighbourFrame {
	if k == 0 {
		return neighbourFrame{g.Frame, warp.Identity, g.Own}
	}
	return g.Around[k-1]
}

// A view is one of the frames, as it shows the one that is gathered on.
type view struct {
	size   image.Rectangle
	hidden *hiddenPixels // nil: nothing
	place  func(x, y int) geom.Point
}

// view returns how frame k shows a part: as far as it is believed or, close, all that nothing hides.
func (g *cleanInput) view(ctx context.Context, e *Evaluator, k int, part image.Rectangle, close bool) (v view, err error) {
	f := g.frame(k)
	v = view{size: e.Plate.Size(), place: warp.Places(f.Map, part)}
	if f.Out != nil {
		v.hidden, err = f.Out.hidden(ctx, e, close)
	}
	return v, err
}

// shows returns the place on the frame that a pixel is taken from, and whether the surface is
// seen there.
func (v *view) shows(x, y int) (geom.Point, bool) {
	q := v.place(x, y)
	if !(q.X >= 0.5 && q.Y >= 0.5 && q.X <= float64(v.size.Max.X)-0.5 && q.Y <= float64(v.size.Max.Y)-0.5) {
		return q, false
	}
	return q, v.hidden == nil || !v.hidden.at(int(q.X), int(q.Y))
}

// survey looks at where something is to be filled, at no more than so many places, evenly
// spread, and tells which frame shows which of them.
func (g *gathering) survey(ctx context.Context, most int) (places []image.Point, shown []gather.Bits, err error) {
	every := max(1, int(math.Ceil(math.Sqrt(float64(g.wanted.Rect.Dx()*g.wanted.Rect.Dy())/float64(most)))))
	for y := g.wanted.Rect.Min.Y; y < g.wanted.Rect.Max.Y; y += every {
		for x := g.wanted.Rect.Min.X; x < g.wanted.Rect.Max.X; x += every {
			if g.wanted.At(x, y) > 0 {
				places = append(places, image.Pt(x, y))
			}
		}
	}
	shown, err = g.cleanInput.shown(ctx, g.e, places)
	return places, shown, err
}

// shown tells which frame shows which places. Those that no frame shows as far as it is believed are shown by what lies
// close to what hides them.
func (g *cleanInput) shown(ctx context.Context, e *Evaluator, places []image.Point) ([]gather.Bits, error) {
	shown := make([]gather.Bits, g.count())
	for k := range shown {
		shown[k] = gather.NewBits(len(places))
	}
	left := make([]int, len(places)) // of the places, which are asked for
	for i := range left {
		left[i] = i
	}
	for _, close := range []bool{false, true} {
		var box image.Rectangle
		for _, i := range left {
			p := places[i]
			box = box.Union(image.Rectangle{Min: p, Max: p.Add(image.Pt(1, 1))})
		}
		err := together(len(shown), func(k int) error {
			if !e.Plate.Has(g.frame(k).Frame) {
				return nil
			}
			v, err := g.view(ctx, e, k, box, close)
			if err != nil {
				return err
			}
			for _, i := range left {
				if _, ok := v.shows(places[i].X, places[i].Y); ok {
					shown[k].Add(i)
				}
			}
			return ctx.Err()
		})
		if err != nil {
			return nil, err
		}
		left = slices.DeleteFunc(left, func(i int) bool {
			return slices.ContainsFunc(shown, func(b gather.Bits) bool { return b.Has(i) })
		})
		if len(left) == 0 {
			break
		}
	}
	return shown, nil
}

// choose returns the fewest and best frames that show all that is shown by any, and an order in
// which frames are averaged: those first, then the others, spread over time.
func (g *gathering) choose(shown []gather.Bits) (chosen, order []int, err error) {
	most := len(shown)
	if g.Most > 0 {
		most = min(most, g.Most)
	}
	if g.AsSeen {
		most = min(most, mostJoined)
	}
	quality := make([]float64, len(shown))
	for k := range quality {
		quality[k] = 1
		if k > 0 {
			quality[k] = g.Weight[k-1]
		}
	}
	// Whether a frame is sharp is only known when it was looked at: one that turns out not to be is
	// thought less of, and others are chosen.
	looked := make([]bool, len(shown))
	for again := true; again; {
		again = false
		chosen, _ = gather.Cover(shown, quality, most)
		for _, k := range chosen {
			if k == 0 || looked[k] {
				continue
			}
			l, err := g.lights[k-1]()
			if err != nil {
				return nil, nil, err
			}
			looked[k] = true
			if l.gain == nil {
				quality[k], again = 0, true
			} else if l.weight < 0.7*quality[k] {
				quality[k], again = l.weight, true
			}
		}
	}
	if g.AsSeen {
		chosen = spare(shown, quality, chosen, most)
	}
	taken := make([]bool, len(shown))
	for _, k := range append(slices.Clone(chosen), farApart(len(shown))...) {
		if !taken[k] && shown[k].Count() > 0 && (g.Most == 0 || len(order) < g.Most) {
			taken[k] = true
			order = append(order, k)
		}
	}
	return chosen, order, nil
}

// spare chooses more frames, so that each place is shown by three where there are so many: what passes over on one
// of them has not to be taken.
func spare(shown []gather.Bits, quality []float64, chosen []int, most int) []int {
	left := slices.Clone(quality)
	for range 2 {
		for _, k := range chosen {
			left[k] = 0
		}
		more, _ := gather.Cover(shown, left, most-len(chosen))
		chosen = append(chosen, more...)
	}
	return chosen
}

// farApart lists the numbers below n such that the first few of them lie far apart: in the order of
// their bits from the lowest to the highest (van der Corput 1935).
func farApart(n int) (out []int) {
	size := bits.Len(uint(max(n-1, 0)))
	for i := range 1 << size {
		if k := int(bits.Reverse(uint(i)) >> (bits.UintSize - size)); k < n {
			out = append(out, k)
		}
	}
	return out[:n]
}

// tiles are the squares in which something is to be filled.
func (g *gathering) tiles() (tiles []image.Rectangle) {
	rect := g.wanted.Rect
	for y := rect.Min.Y; y < rect.Max.Y; y += tileSide {
		for x := rect.Min.X; x < rect.Max.X; x += tileSide {
			tile := image.Rect(x, y, x+tileSide, y+tileSide).Intersect(rect)
			if slices.ContainsFunc(g.wanted.Crop(tile).Pix, func(v float32) bool { return v > 0 }) {
				tiles = append(tiles, tile)
			}
		}
	}
	return tiles
}

// average averages frames in an order, until each place that is wanted is seen on enough of them.
func (g *gathering) average(ctx context.Context, order []int, out *gather.Average) error {
	tiles := g.tiles()
	return together(len(tiles), func(i int) error {
		tile := tiles[i]
		stack := gather.NewStack(tile, min(g.Enough, len(order)))
		for _, close := range []bool{false, true} {
			lacks := stack.Lacks
			if close { // what nothing was found for
				lacks = stack.Bare()
			}
			for _, k := range order {
				all, err := g.take(ctx, k, tile, taking{close, true}, stack.Add, lacks)
				if err != nil {
					return err
				}
				if all {
					break
				}
			}
		}
		out.Paste(stack.Mean(float32(g.Noise)))
		g.step()
		return nil
	})
}

// splineRim is how far around what is looked up a spline is made, for what it does beyond does not show.
const splineRim = 8

// A taking is how pixels are taken from a frame: also what is close to what hides them, if nothing else is seen; and
// fine, with all their texture and grain, or only to be compared.
type taking struct{ close, fine bool }

// take hands what frame k shows of a part to add, in the light of the one that is gathered on,
// where something is wanted and lacking. all is true where nothing is.
func (g *gathering) take(
	ctx context.Context,
	k int,
	part image.Rectangle,
	how taking,
	add func(x, y int, rgb [3]float32, weight float32),
	lacks func(x, y int) bool,
) (all bool, err error) {
	var v *view
	all = true
	var picture *raster.Image
	var between *raster.Spline
	var l light
	gains := make([]float32, 3*part.Dx())
	for y := part.Min.Y; y < part.Max.Y; y++ {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		begun := false
		for x := part.Min.X; x < part.Max.X; x++ {
			if g.wanted.At(x, y) <= 0 || !lacks(x, y) {
				continue
			}
			all = false
			if v == nil {
				of, err := g.view(ctx, g.e, k, part, how.close)
				if err != nil {
					return false, err
				}
				v = &of
			}
			q, ok := v.shows(x, y)
			if !ok {
				continue
			}
			if picture == nil {
				var beyond bool
				f := g.frame(k)
				if l, err = g.light(k); err != nil || l.gain == nil && k > 0 || l.weight < 1e-3 {
					return false, err
				}
				there := g.e.reached(f.Map, part).Inset(-splineRim).Intersect(v.size)
				if picture, beyond, err = g.e.helper(ctx, f.Frame, there); err != nil || beyond {
					return false, err
				}
				if how.fine {
					between = raster.NewSpline(picture, there)
				}
			}
			if !begun && l.gain != nil {
				l.gain.Row(y, part.Min.X, part.Max.X, gains)
				begun = true
			}
			var rgb [3]float32
			var inside bool
			if how.fine {
				rgb, inside = between.At(q.X, q.Y)
			} else {
				rgb, inside = picture.BicubicRGB(q.X, q.Y)
			}
			if !inside { // at the picture's edge
				p := picture.Bicubic(q.X, q.Y)
				if p[3] < 0.5 {
					continue
				}
				rgb = [3]float32{p[0] / p[3], p[1] / p[3], p[2] / p[3]}
			}
			if l.gain != nil {
				for c := range 3 {
					rgb[c] *= gains[3*(x-part.Min.X)+c]
				}
			}
			add(x, y, rgb, float32(l.weight))
		}
	}
	return all, nil
}

// light returns how the light of frame k differs; the own frame's does not.
func (g *gathering) light(k int) (light, error) {
	if k == 0 {
		return light{weight: 1}, nil
	}
	return g.lights[k-1]()
}

// lightOf measures the light and the sharpness of a frame around against those of the frame itself.
func (g *gathering) lightOf(ctx context.Context, i int) (light, error) {
	f := g.Around[i]
	if !g.e.Plate.Has(f.Frame) {
		return light{}, nil
	}
	cells := gather.Cells(g.region)
	there, err := g.e.grid(ctx, f.Frame, f.Out, g.e.reached(f.Map, g.region))
	if err != nil {
		return light{}, err
	}
	toCells := warp.Of(geom.Homography{1.0 / gather.Cell, 0, 0, 0, 1.0 / gather.Cell, 0, 0, 0, 1})
	m := warp.Chain(warp.Of(gather.ToPixels), f.Map, toCells)
	out := light{gather.MeasureGain(g.own.Light.Crop(cells), warp.Image(there.Light, m, cells), g.Scale), g.Weight[i]}
	// A soft frame counts less; a sharper one than the frame itself no more than that.
	sharp := gather.Sharpness(g.own.Detail.Crop(cells), warp.Image(there.Detail, m, cells), g.Noise)
	out.weight *= math.Max(math.Min(sharp*sharp, 1), 1e-3)
	return out, nil
}

// mostJoined is from how many frames places are taken at most where each is of one.
const mostJoined = 24

// join takes each place from one of the frames that were chosen, with its grain.
func (g *gathering) join(ctx context.Context, chosen []int, average *gather.Average) error {
	rect := g.wanted.Rect
	by := max(1, int(math.Ceil(math.Sqrt(float64(rect.Dx()*rect.Dy())/float64(g.Seams)))))
	small := image.Rect(0, 0, (rect.Dx()+by-1)/by, (rect.Dy()+by-1)/by)
	frames := make([]gather.Frame, len(chosen))
	full := func(x, y int) (int, int) { return rect.Min.X + x*by, rect.Min.Y + y*by }
	for i := range frames {
		frames[i] = gather.Frame{Picture: raster.NewImage(small), Counts: raster.NewPlane(small)}
	}
	bare := make([]bool, len(frames[0].Counts.Pix)) // where nothing was found
	for _, close := range []bool{false, true} {
		err := together(len(chosen), func(i int) error {
			f := frames[i]
			at := func(x, y int) int { return (y-rect.Min.Y)/by*small.Dx() + (x-rect.Min.X)/by }
			_, err := g.take(ctx, chosen[i], rect, taking{close: close}, func(x, y int, rgb [3]float32, _ float32) {
				f.Counts.Pix[at(x, y)] = 1
				copy(f.Picture.Pix[4*at(x, y):], rgb[:])
			}, func(x, y int) bool {
				return (x-rect.Min.X)%by == 0 && (y-rect.Min.Y)%by == 0 && (!close || bare[at(x, y)])
			})
			return err
		})
		if err != nil {
			return err
		}
		for i := range bare {
			bare[i] = !slices.ContainsFunc(frames, func(f gather.Frame) bool { return f.Counts.Pix[i] > 0 })
		}
	}
	mean := raster.NewImage(small)
	for y := range small.Dy() {
		for x := range small.Dx() {
			u, v := full(x, y)
			mean.Set(x, y, average.Picture.At(u, v))
		}
	}
	labels, tiles := gather.Join(frames, mean, g.Noise), g.tiles()
	out, grainless := raster.NewImage(rect), float32(g.Bare)
	lay := func(x, y int, rgb [3]float32, _ float32) {
		was := average.Picture.At(x, y)
		for c := range 3 {
			rgb[c] += (was[c] - rgb[c]) * grainless
		}
		out.Set(x, y, [4]float32{rgb[0], rgb[1], rgb[2], 1})
	}
	// What its own frame does not show at the edge of what it does is taken from the first that does.
	err := together(len(tiles), func(t int) error {
		for _, how := range []struct{ close, any bool }{{false, false}, {false, true}, {true, false}, {true, true}} {
			for i, k := range chosen {
				_, err := g.take(ctx, k, tiles[t], taking{how.close, true}, lay, func(x, y int) bool {
					if out.At(x, y)[3] > 0 {
						return false
					}
					return how.any || labels[(y-rect.Min.Y)/by*small.Dx()+(x-rect.Min.X)/by] == uint8(i)
				})
				if err != nil {
					return err
				}
			}
		}
		g.step()
		return nil
	})
	if err != nil {
		return err
	}
	// A place that was shown between those that were surveyed stays averaged.
	for i := 0; i < len(out.Pix); i += 4 {
		if out.Pix[i+3] > 0 {
			copy(average.Picture.Pix[i:i+4], out.Pix[i:i+4])
			average.Grain.Pix[i/4] = 1
		}
	}
	return nil
}
