package picture

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/track"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// An EdgeRun says which outline is to follow its edge, and how far.
type EdgeRun struct {
	Removal string  `json:"removal"`
	Shape   string  `json:"shape"`
	From    int     `json:"from" doc:"Frame on which it lies right"`
	First   int     `json:"first" doc:"Follow down to this frame; from for not at all"`
	Last    int     `json:"last" doc:"Follow up to this frame; from for not at all"`
	Mend    bool    `json:"mend,omitempty" doc:"It lies right on the other end as well: what lies between is followed from both, and mixed"`
	Steady  float64 `json:"steady" minimum:"0" maximum:"20" doc:"Takes out chatter: sigma in frames of the average over time"`
}

// EdgeFound is where an outline was found on a frame.
type EdgeFound struct {
	Frame  int              `json:"frame"`
	Shape  string           `json:"shape"`
	Points []treatment.Knot `json:"points" nullable:"false" doc:"In the coordinates of the outline's home"`
	Doubt  string           `json:"doubt,omitempty" enum:"faint,slips,leaps" doc:"Why it should be looked at"`
}

// FollowEdge carries an outline along the edge that it lies on. doc holds all
// artifacts in place. each is told what is found as it is found; what is returned is
// steadied: it is by frame. The error is a
// *Lost where it had to stop; what was found before is returned as well.
func (s *Source) FollowEdge(
	ctx context.Context,
	doc *treatment.Document,
	run EdgeRun,
	steps *Checkpoint,
	each func(EdgeFound),
) ([]EdgeFound, error) {
	r, _ := doc.Find(run.Removal)
	if r == nil {
		return nil, errors.New("the removal was deleted before its outline could follow")
	}
	shape := r.Shape(run.Shape)
	if shape == nil || shape.Kind != treatment.Outline {
		return nil, errors.New("there is no such outline; a strand has no edge to follow")
	}
	for _, k := range shape.Points {
		if k.Follows != nil {
			return nil, errors.New("its points follow tracked points; let them go first")
		}
	}
	whole := treatment.Range{First: s.Plates.First, Last: s.Plates.Last}
	if !whole.Has(run.From) || !whole.Has(run.First) || !whole.Has(run.Last) || run.First > run.From ||
		run.Last < run.From ||
		run.First == run.Last {
		return nil, fmt.Errorf("there is no other frame to follow to; go to another one, or choose the other direction")
	}
	motions, err := carry.New(doc)
	if err != nil {
		return nil, err
	}
	f := &edgeFollower{Source: s, r: r, shape: shape, motions: motions, steps: steps, each: each}
	var found []EdgeFound
	var lost error
	fixed := []int{run.From}
	for _, to := range []int{run.First, run.Last} {
		if to == run.From {
			continue
		}
		part, err := f.span(ctx, run.From, to, run.Mend)
		found = append(found, part...)
		if run.Mend {
			end, ok := f.at(to)
			if !ok {
				return nil, fmt.Errorf("the outline is not known on frame %d; go to a frame on which it lies right", to)
			}
			found, fixed = append(found, end), append(fixed, to)
		}
		if err != nil {
			var stopped *LostTrack
			if !errors.As(err, &stopped) {
				return found, err
			}
			lost = err
		}
	}
	start, ok := f.at(run.From)
	if !ok {
		return nil, fmt.Errorf("the outline is not known on frame %d; go to a frame on which it lies right", run.From)
	}
	found = append(found, start)
	slices.SortFunc(found, func(a, b EdgeFound) int { return a.Frame - b.Frame })
	steadied(found, run.Steady, fixed)
	return found, lost
}

type edgeFollower struct {
	*Source
	r       *treatment.Removal
	shape   *treatment.Shape
	motions *carry.Set
	steps   *Checkpoint
	each    func(EdgeFound)
}

// mapping is how the outline's home gets to a frame; nil where that is not known.
func (f *edgeFollower) mapping(n int) warp.Mapping {
	ride := f.shape.Ride
	if ride == "" {
		ride = f.r.Follow.Track
	}
	return f.motions.Mapping(ride, f.shape.Home, n)
}

// at returns where the treatment has the outline on a frame, at home.
func (f *edgeFollower) at(n int) (EdgeFound, bool) {
	pose, ok := f.motions.Pose(f.shape, f.r.Follow.Track, n)
	return EdgeFound{Frame: n, Shape: f.shape.ID, Points: pose.Points}, ok
}

// span follows from one frame to another, which lies on either side. If the outline
// lies right on that as well, it is followed back from there too, and both are mixed:
// near each end its own counts.
func (f *edgeFollower) span(ctx context.Context, from, to int, mend bool) ([]EdgeFound, error) {
	there, err := f.walk(ctx, from, to)
	if !mend {
		return there, err
	}
	back, errBack := f.walk(ctx, to, from)
	if ctx.Err() != nil {
		return there, ctx.Err()
	}
	other := map[int]EdgeFound{}
	for _, v := range back {
		other[v.Frame] = v
	}
	out := there[:0]
	seen := map[int]bool{}
	for _, v := range there {
		seen[v.Frame] = true
		if v.Frame == to {
			continue // where it lies right
		}
		if b, ok := other[v.Frame]; ok {
			u := math.Abs(float64(v.Frame-from)) / math.Abs(float64(to-from))
			v.Points = between(v.Points, b.Points, u)
			if b.Doubt == "" {
				v.Doubt = ""
			}
			f.each(v)
		}
		out = append(out, v)
	}
	for _, v := range back { // beyond where the way there was lost
		if !seen[v.Frame] && v.Frame != from {
			out = append(out, v)
			seen[v.Frame] = true
		}
	}
	if gaps := max(from, to) - min(from, to) - 1 - len(out); gaps > 0 {
		return out, errors.Join(err, errBack)
	}
	return out, nil
}

func between(a, b []treatment.Knot, u float64) []treatment.Knot {
	out := make([]treatment.Knot, len(a))
	mix := func(p, q *treatment.Vec) *treatment.Vec {
		if p == nil || q == nil {
			return p
		}
		return &treatment.Vec{p[0] + (q[0]-p[0])*u, p[1] + (q[1]-p[1])*u}
	}
	for i := range a {
		out[i] = a[i]
		out[i].At = *mix(&a[i].At, &b[i].At)
		out[i].In, out[i].Out = mix(a[i].In, b[i].In), mix(a[i].Out, b[i].Out)
	}
	return out
}

// walk follows frame by frame.
func (f *edgeFollower) walk(ctx context.Context, from, to int) ([]EdgeFound, error) {
	start, ok := f.at(from)
	if !ok || f.mapping(from) == nil {
		return nil, fmt.Errorf("the outline is not known on frame %d; go to a frame on which it lies right", from)
	}
	pose, _ := f.motions.Pose(f.shape, f.r.Follow.Track, from)
	knots := pose.Knots()
	step := 1
	if to < from {
		step = -1
	}
	look := func(n int, around []geom.Knot) (*raster.Image, error) {
		var all []geom.Point
		for _, k := range around {
			all = append(all, k.At, k.At.Add(k.In), k.At.Add(k.Out))
		}
		return seenColours(f.Source.Linear(ctx, n, raster.Around(geom.Bounds(all), 140, f.Size())))
	}
	// What was found before an interruption is gone on from, and so is the edge as it was.
	name := fmt.Sprintf("edge from %d to %d", from, to)
	at := func(n int) string { return fmt.Sprintf("%s: %d", name, n) }
	var out []EdgeFound
	var last struct {
		Frame int
		Edge  *track.Edge
	}
	n := from
	// What was kept by an older program lacks where it was drawn: it is followed anew.
	if f.steps.read(name, &last) && last.Edge != nil && len(last.Edge.Drawn) > 0 && len(last.Edge.Shut) > 0 {
		for knots = last.Edge.Knots; n != last.Frame; {
			n += step
			var found EdgeFound
			if !f.steps.read(at(n), &found) {
				return nil, errors.New("what was found before the interruption is damaged; cancel this and follow anew")
			}
			out = append(out, found)
			f.each(found)
		}
	}
	if n == from {
		last.Edge = nil
	}
	before, err := look(n, knots)
	if err != nil {
		return out, err
	}
	edge := last.Edge
	if edge == nil {
		if edge, err = track.NewEdge(before, knots, f.Size()); err != nil {
			return nil, &LostTrack{f.shape.Name, from, err}
		}
	} else {
		drawn, err := look(from, edge.Drawn)
		if err != nil {
			return out, err
		}
		edge.Return(drawn, f.Size())
	}
	for n += step; n != to+step; n += step {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		now, err := look(n, knots)
		if err != nil {
			return out, err
		}
		next, err := edge.Next(before, now)
		if err != nil {
			return out, &LostTrack{f.shape.Name, n, err}
		}
		var back warp.Mapping
		if there := f.mapping(n); there != nil {
			back, _ = there.Inverse()
		}
		if back == nil {
			return out, &LostTrack{f.shape.Name, n, errors.New("the track that it rides on is not known here")}
		}
		moved, _ := f.motions.Pose(f.shape, f.r.Follow.Track, n)
		place, ok3 := moved.Placement.Inverse()
		if !ok3 {
			return out, &LostTrack{f.shape.Name, n, errors.New("its placement cannot be undone")}
		}
		home := func(p geom.Point) geom.Point { return place.Apply(back.Apply(p)) }
		found := EdgeFound{Frame: n, Shape: f.shape.ID, Points: make([]treatment.Knot, len(next.Knots)), Doubt: string(next.Doubt)}
		for i, k := range next.Knots {
			at := home(k.At)
			v := start.Points[i]
			v.At = treatment.Vec{at.X, at.Y}
			arm := func(d geom.Point) *treatment.Vec {
				if d == (geom.Point{}) {
					return nil
				}
				e := home(k.At.Add(d)).Sub(at)
				return &treatment.Vec{e.X, e.Y}
			}
			v.In, v.Out = arm(k.In), arm(k.Out)
			found.Points[i] = v
		}
		f.steps.save(at(n), found)
		last.Frame, last.Edge = n, edge
		f.steps.save(name, last)
		out = append(out, found)
		f.each(found)
		knots = next.Knots
		if before, err = look(n, knots); err != nil {
			return out, err
		}
	}
	return out, nil
}

// seenColours turns light into colours as they are seen: its square root.
func seenColours(m *raster.Image, err error) (*raster.Image, error) {
	if err != nil {
		return nil, err
	}
	out := m.Crop(m.Rect)
	for i, v := range out.Pix {
		if i%4 != 3 {
			out.Pix[i] = float32(math.Sqrt(float64(max(v, 0))))
		}
	}
	return out, nil
}

// steadied takes the chatter out: each point goes to where a straight line through
// where it is on the frames around leads, those near it counting most (local linear
// regression, Cleveland 1979), so that a steady move is left alone; and never farther
// than chatter is wide, so that a sudden one is. Frames in fixed stay as they are.
func steadied(found []EdgeFound, sigma float64, fixed []int) {
	if sigma <= 0 || len(found) < 3 {
		return
	}
	reach := int(math.Ceil(3 * sigma))
	value := func(k treatment.Knot) [6]float64 {
		v := [6]float64{k.At[0], k.At[1]}
		if k.In != nil {
			v[2], v[3] = k.In[0], k.In[1]
		}
		if k.Out != nil {
			v[4], v[5] = k.Out[0], k.Out[1]
		}
		return v
	}
	out := make([][]treatment.Knot, len(found))
	for i, f := range found {
		out[i] = slices.Clone(f.Points)
		if slices.Contains(fixed, f.Frame) {
			continue
		}
		for p := range f.Points {
			var s, st, stt float64
			var sv, stv [6]float64
			for j := max(0, i-reach); j <= min(len(found)-1, i+reach); j++ {
				t := float64(found[j].Frame - f.Frame)
				w := math.Exp(-t * t / (2 * sigma * sigma))
				s, st, stt = s+w, st+w*t, stt+w*t*t
				for c, v := range value(found[j].Points[p]) {
					sv[c] += w * v
					stv[c] += w * t * v
				}
			}
			det := s*stt - st*st
			if det <= 1e-9 {
				continue
			}
			var v [6]float64
			for c := range v {
				v[c] = (stt*sv[c] - st*stv[c]) / det
			}
			k := f.Points[p]
			const chatter = 1.5 // pixels
			was := value(k)
			if d := math.Hypot(v[0]-was[0], v[1]-was[1]); d > chatter {
				for c := range v {
					v[c] = was[c] + (v[c]-was[c])*chatter/d
				}
			}
			k.At = treatment.Vec{v[0], v[1]}
			if k.In != nil {
				k.In = &treatment.Vec{v[2], v[3]}
			}
			if k.Out != nil {
				k.Out = &treatment.Vec{v[4], v[5]}
			}
			out[i][p] = k
		}
	}
	for i := range found {
		found[i].Points = out[i]
	}
}

// KeepEdge puts what was found into an outline's keys, in place of those on the same
// frames.
func KeepEdge(shape *treatment.Shape, found []EdgeFound) {
	fresh := map[int]bool{}
	for _, f := range found {
		fresh[f.Frame] = true
	}
	keys := slices.DeleteFunc(slices.Clone(shape.Keys), func(k treatment.ShapeKey) bool { return fresh[k.Frame] })
	for _, f := range found {
		points := slices.Clone(f.Points)
		for i := range points {
			points[i].At = tidy(points[i].At)
			for _, arm := range []**treatment.Vec{&points[i].In, &points[i].Out} {
				if *arm != nil {
					v := tidy(**arm)
					*arm = &v
				}
			}
		}
		keys = append(keys, treatment.ShapeKey{Frame: f.Frame, Ease: treatment.Linear, Points: points, Doubt: f.Doubt})
	}
	slices.SortFunc(keys, func(a, b treatment.ShapeKey) int { return a.Frame - b.Frame })
	shape.Keys = keys
}

func tidy(v treatment.Vec) treatment.Vec {
	return treatment.Vec{math.Round(v[0]*100) / 100, math.Round(v[1]*100) / 100}
}
