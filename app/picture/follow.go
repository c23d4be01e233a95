package picture

import (
	"context"
	"errors"
	"fmt"
	"image"
	"maps"
	"slices"

	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/matte"
	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/track"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// A Run says what to follow: a track, or some points of it, from a frame on
// which its place is known up to Last and down to First.
type Run struct {
	Track       string   `json:"track"`
	From        int      `json:"from"`
	First, Last int      // frames, From between them
	Points      []string `json:"points"` // of a track of points; all of them where empty
}

// Rest returns what is left to follow when some frames were found already: on from
// the last of them, and back from the first.
func (run Run) Rest(found []Tracked) (out []Run) {
	if len(found) == 0 {
		return []Run{run}
	}
	low, high := run.From, run.From
	for _, f := range found {
		low, high = min(low, f.Frame), max(high, f.Frame)
	}
	if high < run.Last {
		on := run
		on.From, on.First = high, high
		out = append(out, on)
	}
	if low > run.First {
		back := run
		back.From, back.Last = low, low
		out = append(out, back)
	}
	return out
}

// Tracked is what was found on a frame.
type Tracked struct {
	Frame  int                              `json:"frame"`
	Mesh   *warp.Mesh                       `json:"mesh,omitempty"`   // from the track's home to there
	Sample *treatment.Sample                `json:"sample,omitempty"` // of a plane
	Points map[string]treatment.PointSample `json:"points,omitempty"` // of a track of points
}

// LostTrack says on which frame something could not be followed any further, and why.
// What was found before stays good.
type LostTrack struct {
	What  string
	Frame int
	Err   error
}

func (e *LostTrack) Error() string {
	return fmt.Sprintf("lost %s on frame %d: %v", e.What, e.Frame, e.Err)
}
func (e *LostTrack) Unwrap() error { return e.Err }

// Follow tracks a surface or points. doc holds all artifacts in place. each is
// told what is found on every frame as it is found. The error is a *Lost, or
// several joined, where something was lost.
func (s *Source) Follow(ctx context.Context, doc *treatment.Document, run Run, each func(Tracked)) error {
	t := doc.Track(run.Track)
	if t == nil {
		return errors.New("there is no such track in the treatment")
	}
	whole := treatment.Range{First: s.Plates.First, Last: s.Plates.Last}
	if !whole.Has(run.From) || !whole.Has(run.First) || !whole.Has(run.Last) || run.First > run.From ||
		run.Last < run.From {
		return fmt.Errorf(
			"following from %d over %d to %d is not possible in a shot of %d to %d",
			run.From,
			run.First,
			run.Last,
			whole.First,
			whole.Last,
		)
	}
	motions, err := carry.New(doc)
	if err != nil {
		return err
	}
	// What was measured, without what was decided on top of it.
	bare := *doc
	bare.Tracks = append([]treatment.Track{}, doc.Tracks...)
	own := bare.Track(run.Track)
	own.Corrections, own.Smooth, own.Over = nil, 0, ""
	measured, err := carry.New(&bare)
	if err != nil {
		return err
	}
	kind := followings[t.Kind]
	if err := kind.ready(t); err != nil {
		return err
	}
	f := follower{Source: s, doc: doc, what: t, motions: motions, measured: measured.Motion(t.ID), mix: colorspace.LumaMix, run: run, each: each}
	if carry.Straight(doc, t) {
		if f.lens, err = doc.Lens.Of(); err != nil {
			return fmt.Errorf("the shot's lens: %w", err)
		}
	}
	return kind.follow(ctx, &f)
}

// A following is how a kind of track is followed.
type following interface {
	// ready says what is missing before the track can be followed.
	ready(t *treatment.Track) error
	// follow goes both ways from where the run begins.
	follow(ctx context.Context, f *follower) error
	// merge puts what was found into the track; all says that nothing measured before is left
	// beside it.
	merge(doc *treatment.Document, t *treatment.Track, found []Tracked, all bool)
}

// followings are by kind of track. A new one gets a file of its own and a line here.
var followings = map[string]following{
	treatment.PlaneTrack:  planeFollowing{},
	treatment.PointsTrack: pointsFollowing{},
	treatment.GivenTrack:  noFollowing{},
}

// Ready says what is missing before a track can be followed; nil for nothing.
func Ready(t *treatment.Track) error { return followings[t.Kind].ready(t) }

// noFollowing is of tracks in which nothing is drawn.
type noFollowing struct{}

func (noFollowing) ready(t *treatment.Track) error {
	return fmt.Errorf("%q was brought in from elsewhere; there is nothing drawn that could be followed", t.Name)
}
func (n noFollowing) follow(_ context.Context, f *follower) error                { return n.ready(f.what) }
func (noFollowing) merge(*treatment.Document, *treatment.Track, []Tracked, bool) {}

type follower struct {
	*Source
	doc      *treatment.Document
	what     *treatment.Track // that is followed
	motions  *carry.Set       // of the document as it is
	measured *carry.Motion    // of the track alone, without corrections
	lens     geom.Lens        // that it is followed without
	mix      colorspace.Mix   // of the frames' channels, that is followed in
	run      Run
	each     func(Tracked)
}

// straight takes places of a frame to the picture that is followed in.
func (f *follower) straight(at []geom.Point) []geom.Point {
	out := make([]geom.Point, len(at))
	for i, p := range at {
		out[i] = f.lens.Straighten(p)
	}
	return out
}

// reader returns how a mix of a frame's channels is seen: as it is, or locked by the track below.
func (f *follower) reader(n int, mix colorspace.Mix) (track.FrameReader, error) {
	plain := func(rect image.Rectangle) (*raster.Plane, error) {
		part, err := f.Plates.Region(n, rect)
		if err != nil {
			return nil, err
		}
		p := part.Channel(mix)
		p.Rect = p.Rect.Add(rect.Min)
		return p, nil
	}
	if f.what.Over == "" && f.lens.Plain() {
		return plain, nil
	}
	h, ok := geom.Identity, true
	if f.what.Over != "" {
		h, ok = f.motions.Between(f.what.Over, f.what.Home, n)
	}
	if !ok {
		return nil, fmt.Errorf("the track below does not reach frame %d", n)
	}
	toFrame := warp.Chain(warp.Of(h), warp.LensIn(f.lens))
	return func(rect image.Rectangle) (*raster.Plane, error) {
		box := geom.Box{
			Min: geom.Pt(float64(rect.Min.X), float64(rect.Min.Y)),
			Max: geom.Pt(float64(rect.Max.X), float64(rect.Max.Y)),
		}
		seen := raster.Around(toFrame.Bounds(box), 3, f.Size())
		if seen.Empty() {
			return raster.NewPlane(image.Rectangle{}), nil
		}
		p, err := plain(seen)
		if err != nil {
			return nil, err
		}
		return raster.WarpPlaneBy(p, toFrame.Apply, rect), nil
	}, nil
}

// seen returns how a frame is seen, and what is left out on it.
func (f *follower) seen(ctx context.Context, n int) (track.FrameReader, [][]geom.Point, error) {
	read, err := f.reader(n, f.mix)
	if err != nil {
		return nil, nil, err
	}
	covered, err := f.exclusions(ctx, n)
	return read, covered, err
}

// eachFrame calls f for every frame after from up to last, or down to it.
func eachFrame(ctx context.Context, from, last int, f func(n int) error) error {
	step := 1
	if last < from {
		step = -1
	}
	for n := from; n != last; {
		n += step
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := f(n); err != nil {
			return err
		}
	}
	return nil
}

// both goes up to the run's last frame and down to its first, and joins the losses.
func (f *follower) both(one func(last int) error) error {
	var lost error
	for _, last := range []int{f.run.Last, f.run.First} {
		if last == f.run.From {
			continue
		}
		err := one(last)
		var l *LostTrack
		if err != nil && !errors.As(err, &l) {
			return err
		}
		lost = errors.Join(lost, err)
	}
	return lost
}

// exclusions returns what is left out on frame n, as the tracker sees it.
func (f *follower) exclusions(ctx context.Context, n int) (out [][]geom.Point, err error) {
	seen := func(polygon []geom.Point) {
		polygon = f.straight(polygon)
		if f.what.Over != "" {
			if h, known := f.motions.Between(f.what.Over, n, f.what.Home); known {
				polygon = h.ApplyAll(polygon)
			}
		}
		out = append(out, polygon)
	}
	leave := func(shape *treatment.Shape, own string) {
		pose, ok := f.motions.Pose(shape, own, n)
		if !ok {
			return
		}
		seen(pose.Polygon(shape))
	}
	for i := range f.what.Exclusions {
		leave(&f.what.Exclusions[i], treatment.Still)
	}
	if !f.what.LeaveMarked {
		return out, nil
	}
	for _, m := range f.doc.LeftOut(f.what.ID) {
		leave(m.Shape, m.Own)
	}
	for _, m := range f.doc.LeftOutPictures(f.what.ID) {
		p, err := f.supplied(ctx, &m, n)
		if err != nil {
			return nil, fmt.Errorf("leave out a supplied matte on frame %d: %w", n, err)
		}
		if p != nil {
			for _, polygon := range rectanglesOver(p) {
				seen(polygon)
			}
		}
	}
	return out, nil
}

// supplied returns what a supplied matte, the plate's alpha or a key covers on frame n; nil for nothing.
func (f *follower) supplied(ctx context.Context, m *treatment.MarkedPictures, n int) (p *raster.Plane, err error) {
	if m.Keyed != nil {
		p, err = f.keyed(ctx, m, n)
	} else if m.Alpha {
		p, err = f.alpha(ctx, n)
	} else if i := slices.IndexFunc(m.Mattes, func(x treatment.FrontMatte) bool { return x.Frame == n }); i >= 0 {
		p, err = f.matte(ctx, &m.Mattes[i].Picture)
	}
	if p == nil || err != nil {
		return nil, err
	}
	if m.Invert {
		p = p.Crop(p.Rect) // what is read is kept
		for i, v := range p.Pix {
			p.Pix[i] = 1 - v
		}
	}
	if m.Grow != 0 {
		p = raster.Grow(p, m.Grow)
	}
	return p, nil
}

// keyed returns what a key covers inside its outlines; nil where those are nowhere.
func (f *follower) keyed(ctx context.Context, m *treatment.MarkedPictures, n int) (*raster.Plane, error) {
	layers := make([]matte.Layer, 0, len(m.Keyed.Shapes))
	for i := range m.Keyed.Shapes {
		s := &m.Keyed.Shapes[i]
		if pose, ok := f.motions.Pose(s, m.Own, n); ok {
			layers = append(layers, matte.Layer{Matte: pose.Cover(s, carry.Edge{}, f.Size()), Opacity: 1, Combine: s.Combine, Invert: s.Invert})
		}
	}
	where := f.Size()
	var inside *raster.Plane
	if len(m.Keyed.Shapes) > 0 {
		inside = matte.Combine(where, layers...)
		if where = inside.Rect; where.Empty() {
			return nil, nil
		}
	}
	plate, err := f.Linear(ctx, n, where)
	if err != nil {
		return nil, err
	}
	out := render.Keyed(plate, m.Keyed.By, m.Keyed.Key, where)
	if inside != nil {
		for i, v := range inside.Pix {
			out.Pix[i] *= v
		}
	}
	return out, nil
}

// rectanglesOver returns rectangles over all that a matte covers by more than a tenth, four lines high or a multiple of that.
func rectanglesOver(p *raster.Plane) (out [][]geom.Point) {
	const high, little = 4, 0.1
	type run struct{ from, to, top int }
	var open []run
	end := func(r run, bottom int) {
		c := geom.Box{
			Min: geom.Pt(float64(r.from), float64(r.top)), Max: geom.Pt(float64(r.to), float64(bottom)),
		}.Corners()
		out = append(out, c[:])
	}
	for y := p.Rect.Min.Y; y < p.Rect.Max.Y; y += high {
		covered := make([]bool, p.Rect.Dx()+1)
		for k := y; k < min(y+high, p.Rect.Max.Y); k++ {
			for x, v := range p.Row(k, p.Rect.Min.X, p.Rect.Max.X) {
				covered[x] = covered[x] || v > little
			}
		}
		var now []run
		from := -1
		for x, is := range covered {
			switch {
			case is && from < 0:
				from = x
			case !is && from >= 0:
				r := run{p.Rect.Min.X + from, p.Rect.Min.X + x, y}
				if i := slices.IndexFunc(open, func(o run) bool { return o.from == r.from && o.to == r.to }); i >= 0 {
					r.top = open[i].top
					open = slices.Delete(open, i, i+1)
				}
				now, from = append(now, r), -1
			}
		}
		for _, r := range open {
			end(r, y)
		}
		open = now
	}
	for _, r := range open {
		end(r, p.Rect.Max.Y)
	}
	return out
}

// MergeTracked puts what a run has found into its track, which holds its data in place.
// What was measured on other frames stays: it is of the same surface from the
// same home.
func MergeTracked(doc *treatment.Document, t *treatment.Track, run Run, whole treatment.Range, found []Tracked) {
	if t.Range != nil {
		whole = *t.Range
	}
	// A piece that is followed anew does not bring the rest up to date.
	followings[t.Kind].merge(doc, t, found, run.First <= whole.First && run.Last >= whole.Last)
}

// join puts news over what was there, by frame.
func join[S any](old, news []S, frame func(S) int) []S {
	byFrame := map[int]S{}
	for _, list := range [][]S{old, news} {
		for _, s := range list {
			byFrame[frame(s)] = s
		}
	}
	out := make([]S, 0, len(byFrame))
	for _, n := range slices.Sorted(maps.Keys(byFrame)) {
		out = append(out, byFrame[n])
	}
	return out
}
