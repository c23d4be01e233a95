package render

import (
	"cmp"
	"context"
	"image"
	"math"
	"slices"

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
func (gatheredKind) gather(r *removal, i, n int, settled bool) (sourceLayer, *marking) {
	s := r.sources[i].Gathered
	on := s.Frame
	if s.Live {
		on = n
	}
	m := r.mapping(s.Track, on, n)
	if m == nil {
		return nil, nil
	}
	return r.carried(i, n, settled && !s.Live, s.Track, m, gatheredPixels{r.clean(s, on)}, s.Live)
}

// gatheredPixels are those of frames around one.
type gatheredPixels struct{ Clean *memo.Keyed[cleanInput] }

func (in gatheredPixels) made(ctx context.Context, e *Evaluator) (*raster.Image, *raster.Plane, error) {
	clean, err := e.clean(ctx, in.Clean)
	if err != nil {
		return nil, nil, err
	}
	return clean.Picture, clean.Grain, nil
}

// A cleanInput is all that clean pixels of a frame are gathered from.
type cleanInput struct {
	Frame  int
	Own    *occluders // where that frame's own pixels do not count; nil for nowhere
	Around []neighbourFrame
	Weight []float64 // of each of them; the frame's own count once
	Holes  []hole    // what is to be filled
	Scale  float64   // of the areas over which light is made equal
	Noise  float64   // standard deviation of the grain, on the square root of light
	Most   int       // frames that are taken at most; 0 for all
	Enough int       // on so many of them a place has to be seen
	AsSeen bool      // each place is taken from one of them
	Seams  int       // on no more pixels seams between those are sought, others lie between them
	Bare   float64   // of that, so much of its grain is taken out
}

// few returns some of the frames around one, evenly spread.
func few(frames []neighbourFrame) []neighbourFrame {
	const most = 8
	if len(frames) <= most {
		return frames
	}
	out := make([]neighbourFrame, most)
	for i := range out {
		out[i] = frames[(2*i+1)*len(frames)/(2*most)]
	}
	return out
}

// A hole is what is marked on a frame, taken to the one that is gathered on.
type hole struct {
	Matte marking
	Map   warp.Mapping
}

// enough is on how many frames a place has to be seen: with so many, an average is as free of grain
// and of what passes over as it has to be, and no more of them are looked at. What is made on every
// frame anew has to be quick.
const (
	enough, enoughLive, enoughSeen = 20, 9, 5
	seams, seamsLive               = 60_000, 20_000
)

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
		in := cleanInput{
			Frame: on, Scale: s.LightScale(), Noise: unknownNoise, Most: s.Most, Enough: enough, AsSeen: s.AsSeen, Seams: seams,
		}
		if s.Live {
			in.Enough, in.Seams = enoughLive, seamsLive
			if s.AsSeen { // the average is only what frames are compared with
				in.Enough = enoughSeen
			}
		}
		if s.Everything {
			hidden, in.Enough = nowhere, treatment.MostLookedAt
		}
		every := (2*s.Over + treatment.MostLookedAt - 1) / treatment.MostLookedAt
		in.Own = hidden(on)
		for _, f := range r.around(on, s.Over, every, s.Track, hidden) {
			if s.Between == nil || s.Between.Has(f.Frame) {
				in.Around = append(in.Around, f)
			}
		}
		if r.draft {
			in.Around, in.AsSeen = few(in.Around), false
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
			if g.Denoise != nil && s.AsSeen && !s.Live {
				in.Bare = g.Denoise.Strength[1]
			}
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
func (in *cleanInput) wanted(ctx context.Context, e *Evaluator) (*raster.Plane, error) {
	size := e.Plate.Size()
	outlines := map[int][][]geom.Point{} // by how many pixels they are to be grown
	var box image.Rectangle
	for i := range in.Holes {
		h := &in.Holes[i]
		put := func(points []geom.Point, grow float64) {
			points = warp.ApplyAll(h.Map, points)
			if beyondHorizon(points) || !(grow < 1e4) {
				return // nothing of it can be brought here
			}
			outlines[int(grow)] = append(outlines[int(grow)], points)
			box = box.Union(raster.Around(geom.Bounds(points), grow, size))
		}
		if len(h.Matte.Supplied) > 0 {
			there, err := h.Matte.rect(ctx, e)
			if err != nil {
				return nil, err
			}
			if corners := boxOf(there).Corners(); !there.Empty() {
				put(corners[:], 4)
			}
			continue
		}
		shapes := h.Matte.Outlines
		for k := range shapes.Shapes {
			s := &shapes.Shapes[k]
			if s.Shape.Invert { // all but the shape
				all := raster.NewPlane(size)
				for i := range all.Pix {
					all.Pix[i] = 1
				}
				return all, nil
			}
			feather := 0.0
			for p := range s.Pose.Points {
				feather = math.Max(feather, s.Pose.Points[p].Feather)
			}
			points := s.Pose.Polygon(&s.Shape)
			middle := geom.Bounds(points).Centre()
			grow := feather + s.Shape.Feather + shapes.Edge.Feather + math.Max(s.Shape.Grow+shapes.Edge.Grow, 0)
			put(points, math.Ceil(grow*s.Pose.ToFrame.Scale(middle)*h.Map.Scale(middle))+4)
		}
	}
	out := raster.NewPlane(box)
	for grow, all := range outlines {
		alike := raster.NewPlane(box)
		for _, points := range all {
			around := raster.Around(geom.Bounds(points), 0, box)
			if !around.Empty() {
				alike.Max(matte.Coverage(points, around))
			}
		}
		out.Max(raster.Grow(alike, float64(grow)))
	}
	return out, nil
}

// beyondHorizon reports whether places cannot be brought to a frame.
func beyondHorizon(points []geom.Point) bool {
	return slices.ContainsFunc(points, func(p geom.Point) bool {
		return !p.Finite() || math.Abs(p.X) > 1e6 || math.Abs(p.Y) > 1e6
	})
}
