package picture

import (
	"context"
	"errors"
	"fmt"
	"image"
	"maps"
	"slices"
	"strings"

	"jardin/app/media"
	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/track"
	"jardin/core/treatment"
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
func (r Run) Rest(found []Found) (out []Run) {
	if len(found) == 0 {
		return []Run{r}
	}
	low, high := r.From, r.From
	for _, f := range found {
		low, high = min(low, f.Frame), max(high, f.Frame)
	}
	if high < r.Last {
		on := r
		on.From, on.First = high, high
		out = append(out, on)
	}
	if low > r.First {
		back := r
		back.From, back.Last = low, low
		out = append(out, back)
	}
	return out
}

// Found is what was found on a frame.
type Found struct {
	Frame  int                              `json:"frame"`
	Sample *treatment.Sample                `json:"sample,omitempty"` // of a plane
	Points map[string]treatment.PointSample `json:"points,omitempty"` // of a track of points
}

// Lost says on which frame something could not be followed any further, and why.
// What was found before stays good.
type Lost struct {
	What  string
	Frame int
	Err   error
}

func (e *Lost) Error() string { return fmt.Sprintf("lost %s on frame %d: %v", e.What, e.Frame, e.Err) }
func (e *Lost) Unwrap() error { return e.Err }

// Follow tracks a surface or points. doc holds all artifacts in place. each is
// told what is found on every frame as it is found. The error is a *Lost, or
// several joined, where something was lost.
func (s *Source) Follow(ctx context.Context, doc *treatment.Document, run Run, each func(Found)) error {
	t := doc.Track(run.Track)
	if t == nil {
		return errors.New("there is no such track in the treatment")
	}
	whole := treatment.Range{First: s.Plates.First, Last: s.Plates.Last}
	if !whole.Has(run.From) || !whole.Has(run.First) || !whole.Has(run.Last) || run.First > run.From || run.Last < run.From {
		return fmt.Errorf("following from %d over %d to %d is not possible in a shot of %d to %d", run.From, run.First, run.Last, whole.First, whole.Last)
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
	f := follower{Source: s, doc: doc, what: t, motions: motions, measured: measured.Motion(t.ID), run: run, each: each}
	switch t.Kind {
	case treatment.PlaneTrack:
		return f.plane(ctx)
	case treatment.PointsTrack:
		return f.points(ctx)
	}
	return fmt.Errorf("%q was brought in from elsewhere; there is nothing drawn that could be followed", t.Name)
}

type follower struct {
	*Source
	doc      *treatment.Document
	what     *treatment.Track // that is followed
	motions  *carry.Set       // of the document as it is
	measured *carry.Motion    // of the track alone, without corrections
	run      Run
	each     func(Found)
}

// look returns how a frame is seen: as it is, or locked by the track below.
func (f *follower) look(n int, channel string) (track.Look, error) {
	plain := func(r image.Rectangle) (*raster.Plane, error) {
		part, err := f.Plates.Region(n, r)
		if err != nil {
			return nil, err
		}
		p := part.Channel(channel)
		p.Rect = p.Rect.Add(r.Min)
		return p, nil
	}
	if f.what.Over == "" {
		return plain, nil
	}
	h, ok := f.motions.Between(f.what.Over, f.what.Home, n)
	if !ok {
		return nil, fmt.Errorf("the track below does not reach frame %d", n)
	}
	return func(r image.Rectangle) (*raster.Plane, error) {
		corners := geom.Box{Min: geom.Pt(float64(r.Min.X), float64(r.Min.Y)), Max: geom.Pt(float64(r.Max.X), float64(r.Max.Y))}.Corners()
		seen := raster.Around(geom.Bounds(h.ApplyAll(corners[:])), 3, f.Size())
		if seen.Empty() {
			return raster.NewPlane(image.Rectangle{}), nil
		}
		p, err := plain(seen)
		if err != nil {
			return nil, err
		}
		return raster.WarpPlane(p, h, r), nil
	}, nil
}

// steps calls f for every frame after from up to last, or down to it.
func steps(ctx context.Context, from, last int, f func(n int) error) error {
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
func (f *follower) both(way func(last int) error) error {
	var lost error
	for _, last := range []int{f.run.Last, f.run.First} {
		if last == f.run.From {
			continue
		}
		err := way(last)
		var l *Lost
		if err != nil && !errors.As(err, &l) {
			return err
		}
		lost = errors.Join(lost, err)
	}
	return lost
}

func (f *follower) plane(ctx context.Context) error {
	if len(f.what.Region) < 3 {
		return fmt.Errorf("%q has no region yet; draw one around a piece of the surface", f.what.Name)
	}
	start, ok := f.measured.At(f.run.From)
	if !ok {
		return fmt.Errorf("%q is not known on frame %d; follow from a frame on which it is, or place it there by hand first", f.what.Name, f.run.From)
	}
	region := start.ApplyAll(treatment.Points(f.what.Region))
	here, err := f.look(f.run.From, media.LumaChannel)
	if err != nil {
		return err
	}
	f.each(Found{Frame: f.run.From, Sample: &treatment.Sample{Frame: f.run.From, Matrix: start, Match: 1, Agree: 1}})
	return f.both(func(last int) error {
		t, err := track.NewPlane(here, f.Size(), region, f.exclusions(f.run.From), f.what.Motion)
		if err != nil {
			return err
		}
		return steps(ctx, f.run.From, last, func(n int) error {
			look, err := f.look(n, media.LumaChannel)
			if err != nil {
				return err
			}
			found, err := t.Step(look, f.exclusions(n))
			if err != nil {
				return &Lost{"the surface", n, err}
			}
			f.each(Found{Frame: n, Sample: &treatment.Sample{
				Frame: n, Matrix: found.H.Mul(start).Normalised(), Match: min(found.Match, 1), Agree: min(found.Agree, 1),
				Residual: found.Residual, Blocks: blocks(found.Blocks), Chained: found.Chained,
			}})
			return nil
		})
	})
}

func blocks(b [track.Blocks * track.Blocks]uint8) string {
	var out strings.Builder
	for _, v := range b {
		out.WriteByte('0' + v)
	}
	return out.String()
}

// exclusions returns what is left out on frame n, as the tracker sees it.
func (f *follower) exclusions(n int) [][]geom.Point {
	var out [][]geom.Point
	for i := range f.what.Exclusions {
		shape := &f.what.Exclusions[i]
		lie, ok := f.motions.Lie(shape, treatment.Still, n)
		if !ok {
			continue
		}
		polygon := lie.Polygon(shape)
		if f.what.Over != "" {
			if h, known := f.motions.Between(f.what.Over, n, f.what.Home); known {
				polygon = h.ApplyAll(polygon)
			}
		}
		out = append(out, polygon)
	}
	return out
}

func (f *follower) points(ctx context.Context) error {
	var chosen []*treatment.Point
	for i := range f.what.Points {
		p := &f.what.Points[i]
		wanted := len(f.run.Points) == 0 && !p.Off
		for _, id := range f.run.Points {
			wanted = wanted || id == p.ID
		}
		if wanted {
			chosen = append(chosen, p)
		}
	}
	if len(chosen) == 0 {
		return fmt.Errorf("%q has no points to follow; put one on the picture", f.what.Name)
	}
	return f.both(func(last int) error { return f.pointsTo(ctx, chosen, last) })
}

// pointsTo follows points in one direction, all together, each until it is lost.
func (f *follower) pointsTo(ctx context.Context, chosen []*treatment.Point, last int) error {
	var going []*track.Point
	var who []*treatment.Point
	var looks []string
	var lost error
	for _, p := range chosen {
		at, ok := carry.Path(f.what, p)[f.run.From]
		if !ok {
			lost = errors.Join(lost, &Lost{p.Name, f.run.From, errors.New("it is not known on this frame; place it by hand, or follow from a frame on which it is")})
			continue
		}
		t, channel, err := f.begin(p, at)
		if err != nil {
			lost = errors.Join(lost, &Lost{p.Name, f.run.From, err})
			continue
		}
		going, who, looks = append(going, t), append(who, p), append(looks, channel)
	}
	if len(going) == 0 {
		return lost
	}
	err := steps(ctx, f.run.From, last, func(n int) error {
		out := Found{Frame: n, Points: map[string]treatment.PointSample{}}
		seen := map[string]track.Look{}
		each := make([]track.Look, len(going))
		for i, c := range looks {
			if seen[c] == nil {
				look, err := f.look(n, c)
				if err != nil {
					return err
				}
				seen[c] = look
			}
			each[i] = seen[c]
		}
		found, failed := track.StepAll(going, each)
		kept := 0
		for i, err := range failed {
			if err != nil {
				lost = errors.Join(lost, &Lost{who[i].Name, n, err})
				continue
			}
			v := found[i]
			out.Points[who[i].ID] = treatment.PointSample{Frame: n, At: treatment.Vec{v.At.X, v.At.Y}, Match: min(v.Match, 1)}
			going[kept], who[kept], looks[kept] = going[i], who[i], looks[i]
			kept++
		}
		going, who, looks = going[:kept], who[:kept], looks[:kept]
		if len(out.Points) > 0 {
			f.each(out)
		}
		if kept == 0 {
			return errDone
		}
		return nil
	})
	if err != nil && !errors.Is(err, errDone) {
		return err
	}
	return lost
}

var errDone = errors.New("all points are lost")

// begin prepares a point at its place on the frame that the run starts from. Its
// pattern is the one of its home, but where it was placed by hand: it may look
// different there.
func (f *follower) begin(p *treatment.Point, at geom.Point) (*track.Point, string, error) {
	home, place := p.Home, p.At.Point()
	for _, h := range p.Placed {
		if h.Frame == f.run.From {
			home, place = f.run.From, at
		}
	}
	channel := p.Channel
	if channel == "best" {
		var err error
		if channel, err = f.best(home, place, p.Pattern.Point()); err != nil {
			return nil, "", err
		}
	}
	look, err := f.look(home, channel)
	if err != nil {
		return nil, "", err
	}
	t, err := track.NewPoint(look, f.Size(), place, track.PointOptions{
		Pattern: p.Pattern.Point(), Search: p.Search.Point(), Motion: p.Motion, Against: track.Against(p.Against), Tolerance: p.Tolerance,
	})
	if err != nil {
		return nil, "", err
	}
	if home != f.run.From {
		if look, err = f.look(f.run.From, channel); err != nil {
			return nil, "", err
		}
		err = t.Place(look, at)
	}
	return t, channel, err
}

// best returns the channel in which a pattern stands out most from the grain.
func (f *follower) best(n int, at, pattern geom.Point) (string, error) {
	name, most := media.LumaChannel, 0.0
	r := raster.Around(geom.Bounds([]geom.Point{at.Sub(pattern), at.Add(pattern)}), 2, f.Size())
	if r.Empty() {
		return "", track.ErrLeft
	}
	for _, c := range []string{media.LumaChannel, media.RedChannel, media.GreenChannel, media.BlueChannel} {
		look, err := f.look(n, c)
		if err != nil {
			return "", err
		}
		p, err := look(r)
		if err != nil {
			return "", err
		}
		if v := track.Strength(p, at, pattern); v > most {
			name, most = c, v
		}
	}
	return name, nil
}

// Keep puts what a run has found into its track, which holds its data in place.
// What was measured on other frames stays: it is of the same surface from the
// same home.
func Keep(t *treatment.Track, run Run, whole treatment.Range, found []Found) {
	if t.Range != nil {
		whole = *t.Range
	}
	// A piece that is followed anew does not bring the rest up to date.
	all := run.First <= whole.First && run.Last >= whole.Last
	if t.Kind == treatment.PlaneTrack {
		var news []treatment.Sample
		for _, f := range found {
			if f.Sample != nil {
				news = append(news, *f.Sample)
			}
		}
		if len(news) == 0 {
			return
		}
		basis := t.Basis()
		if t.Data != nil {
			news = join(t.Data.Samples, news, func(s treatment.Sample) int { return s.Frame })
			if !all {
				basis = t.Data.Basis
			}
		}
		t.Data = &treatment.Data{Basis: basis, Samples: join(nil, news, func(s treatment.Sample) int { return s.Frame })}
		return
	}
	for i := range t.Points {
		p := &t.Points[i]
		var news []treatment.PointSample
		for _, f := range found {
			if v, ok := f.Points[p.ID]; ok {
				news = append(news, v)
			}
		}
		if len(news) == 0 {
			continue
		}
		basis := p.Basis()
		var old []treatment.PointSample
		if p.Path != nil {
			old = p.Path.Samples
			if !all {
				basis = p.Path.Basis
			}
		}
		p.Path = &treatment.PointPath{Basis: basis, Samples: join(old, news, func(s treatment.PointSample) int { return s.Frame })}
	}
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
