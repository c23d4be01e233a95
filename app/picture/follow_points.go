package picture

import (
	"context"
	"errors"
	"fmt"
	"math"

	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/track"
	"jardin/core/treatment"
)

// pointsFollowing follows small patterns, each by itself.
type pointsFollowing struct{}

func (pointsFollowing) ready(t *treatment.Track) error {
	if len(t.Points) == 0 {
		return fmt.Errorf("%q has no points to follow yet; put one on the picture", t.Name)
	}
	return nil
}

func (pointsFollowing) merge(_ *treatment.Document, t *treatment.Track, found []Tracked, all bool) {
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
		p.Path = &treatment.PointPath{
			Basis:   basis,
			Samples: join(old, news, func(s treatment.PointSample) int { return s.Frame }),
		}
	}
}

func (pointsFollowing) follow(ctx context.Context, f *follower) error {
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

// pointsTo follows points in one direction, all together. One that is lost is looked for on the frames after.
func (f *follower) pointsTo(ctx context.Context, chosen []*treatment.Point, last int) error {
	var going []*track.Point
	var who []*treatment.Point
	var looks []colorspace.Mix
	var lost error
	for _, p := range chosen {
		t, channel, err := f.begin(p, last)
		if err != nil {
			lost = errors.Join(lost, &LostTrack{p.Name, f.run.From, err})
			continue
		}
		going, who, looks = append(going, t), append(who, p), append(looks, channel)
	}
	if len(going) == 0 {
		return lost
	}
	away := make([]*LostTrack, len(going)) // since when a point is, and why
	err := eachFrame(ctx, f.run.From, last, func(n int) error {
		out := Tracked{Frame: n, Points: map[string]treatment.PointSample{}}
		seen := map[colorspace.Mix]track.FrameReader{}
		each := make([]track.FrameReader, len(going))
		for i, c := range looks {
			if seen[c] == nil {
				read, err := f.reader(n, c)
				if err != nil {
					return err
				}
				seen[c] = read
			}
			each[i] = seen[c]
		}
		found, failed := track.StepAll(going, each)
		for i, err := range failed {
			switch {
			case err == nil:
				away[i] = nil
				out.Points[who[i].ID] = pointSample(n, found[i])
			case !track.Lost(err):
				return err
			case away[i] == nil:
				away[i] = &LostTrack{who[i].Name, n, err}
			}
		}
		f.each(out)
		return nil
	})
	for _, v := range away {
		if v != nil {
			lost = errors.Join(lost, v)
		}
	}
	return errors.Join(err, lost)
}

func pointSample(n int, v track.PointSample) treatment.PointSample {
	out := treatment.PointSample{Frame: n, At: treatment.Vec{v.At.X, v.At.Y}, Match: min(v.Match, 1), Ambiguous: v.Ambiguous}
	variance := v.Variance
	for i, x := range variance {
		if !(math.Abs(x) < 1e6) { // nothing holds it; and a file holds no infinity
			x = 1e6
		}
		variance[i] = float64(float32(x))
	}
	out.Variance = &variance
	if v.Known {
		drift := math.Round(v.Drift*1e4) / 1e4
		out.Drift = &drift
	}
	return out
}

// begin prepares a point at its place on the frame that the run starts from. Its
// pattern is the one of its home, but where it was placed by hand: it may look
// different there. Where it is hidden on that frame, it is looked for from where it was last.
func (f *follower) begin(p *treatment.Point, last int) (*track.Point, colorspace.Mix, error) {
	path := carry.Path(f.what, p)
	from := f.run.From
	at, ok := path[from]
	if !ok {
		// The nearest on the side that it does not go to.
		best := math.MaxInt
		for n := range path {
			if d := abs(n - f.run.From); (n < f.run.From) == (f.run.From < last) && d < best {
				best, from, at, ok = d, n, path[n], true
			}
		}
	}
	if !ok {
		return nil, colorspace.Mix{}, errors.New("it is not known on this frame; place it by hand, or follow from a frame on which it is")
	}
	home, place := p.Home, p.At.Point()
	for _, h := range p.Placed {
		if h.Frame == from {
			home, place = from, at
		}
	}
	channel, named := channels[p.Channel]
	if !named {
		var err error
		if channel, err = f.best(home, place, p.Pattern.Point()); err != nil {
			return nil, channel, err
		}
	}
	read, err := f.reader(home, channel)
	if err != nil {
		return nil, channel, err
	}
	t, err := track.NewPoint(read, f.Size(), place, track.PointOptions{
		Pattern: p.Pattern.Point(), Search: p.Search.Point(), Motion: p.Motion, Against: track.Against(p.Against),
		Tolerance: p.Tolerance,
	})
	if err != nil {
		return nil, channel, err
	}
	if home != from {
		if read, err = f.reader(from, channel); err != nil {
			return nil, channel, err
		}
		err = t.Place(read, at)
	}
	t.Missed(abs(from - f.run.From))
	return t, channel, err
}

// channels that a point can be followed in.
var channels = map[string]colorspace.Mix{"luma": colorspace.LumaMix, "red": {1, 0, 0}, "green": {0, 1, 0}, "blue": {0, 0, 1}}

// best returns the channel in which a pattern stands out most from the grain.
func (f *follower) best(n int, at, pattern geom.Point) (mix colorspace.Mix, err error) {
	mix, most := colorspace.LumaMix, 0.0
	rect := raster.Around(geom.Bounds([]geom.Point{at.Sub(pattern), at.Add(pattern)}), 2, f.Size())
	if rect.Empty() {
		return mix, track.ErrLeft
	}
	for _, name := range []string{"luma", "red", "green", "blue"} {
		read, err := f.reader(n, channels[name])
		if err != nil {
			return mix, err
		}
		p, err := read(rect)
		if err != nil {
			return mix, err
		}
		if v := track.Strength(p, at, pattern); v > most {
			mix, most = channels[name], v
		}
	}
	return mix, nil
}

func abs(n int) int { return max(n, -n) }
