package carry

import (
	"fmt"
	"math"
	"sort"

	"jardin/core/geom"
	"jardin/core/track"
	"jardin/core/treatment"
)

// agreement is how far, in pixels, a point may lie from the motion of all and
// still be counted as agreeing with it.
const agreement = 1.5

// pointsKind is small patterns, each followed by itself.
type pointsKind struct{ planar }

// measured works out the motion of a surface from points on it: one gives
// position, two rotation and scale, three shear, four or more perspective, and
// more than are needed a robust fit. The track's motion is the most that is used.
func (pointsKind) measured(_ *treatment.Document, m *Motion) error {
	t := m.Track
	m.points, m.places = map[string]map[int]geom.Point{}, map[string]map[int]Place{}
	frames := map[int]bool{}
	told := map[int]*pointsTold{}
	var order []string
	known := map[string]map[int]geom.Point{}
	for i := range t.Points {
		p := &t.Points[i]
		if p.Path != nil && p.Path.Artifact != "" {
			return fmt.Errorf("point %q of track %q is still an artifact", p.Name, t.Name)
		}
		known[p.ID] = Path(t, p)
	}
	for i := range t.Points {
		p := &t.Points[i]
		places := bridged(t, p.ID, known)
		m.places[p.ID] = places
		if p.Off {
			continue
		}
		measured := p.Measured()
		path := make(map[int]geom.Point, len(places))
		for n, v := range places {
			path[n] = v.At.Add(p.Use.Point())
			frames[n] = true
			if told[n] == nil {
				told[n] = &pointsTold{match: 1}
			}
			told[n].add(v.Bridged, measured[n])
		}
		m.points[p.ID] = path
		order = append(order, p.ID)
	}
	if len(frames) == 0 {
		return nil
	}
	// Where each point lies on the home frame: known, or worked out from the others
	// on a frame on which it is.
	home := map[string]geom.Point{}
	for id, path := range m.points {
		if p, ok := path[t.Home]; ok {
			home[id] = m.straightPoint(p)
		}
	}
	if len(home) == 0 {
		return nil
	}
	all := make([]int, 0, len(frames))
	for n := range frames {
		all = append(all, n)
	}
	// The nearest to home first, of two as near the earlier: the order decides where points
	// that are not known at home are taken to lie there.
	sort.Slice(all, func(i, j int) bool {
		a, b := near(all[i], t.Home), near(all[j], t.Home)
		return a < b || a == b && all[i] < all[j]
	})
	for _, n := range all {
		h, _, ok := m.fit(order, home, n)
		back, invertible := h.Inverse()
		if !ok || !invertible {
			continue
		}
		for _, id := range order {
			if _, known := home[id]; !known {
				if p, ok := m.points[id][n]; ok {
					home[id] = back.Apply(m.straightPoint(p))
				}
			}
		}
	}
	for _, n := range all {
		h, s, ok := m.fit(order, home, n)
		if !ok || n == t.Home {
			continue
		}
		s.Frame, s.Matrix = n, h
		told[n].tell(&s, mostOf(told[n].points, t.Motion))
		m.Samples = append(m.Samples, s)
	}
	return nil
}

func near(a, b int) int { return max(a-b, b-a) }

// fit returns the motion from the home frame to frame n by the points known on
// both.
func (m *Motion) fit(order []string, home map[string]geom.Point, n int) (geom.Homography, Moment, bool) {
	var src, dst []geom.Point
	for _, id := range order {
		a, ok1 := home[id]
		b, ok2 := m.points[id][n]
		if ok1 && ok2 {
			src, dst = append(src, a), append(dst, m.straightPoint(b))
		}
	}
	motion := mostOf(len(src), m.Track.Motion)
	s := Moment{Sample: treatment.Sample{Agree: 1}}
	if len(src) == 0 {
		return geom.Identity, s, false
	}
	h, err := geom.Fit(motion, src, dst, nil)
	if len(src) > motion.Points()+1 {
		if robust, _, e := geom.RobustFit(motion, src, dst, agreement); e == nil {
			h, err = robust, nil
		}
	}
	if err != nil { // they lie on one line, or on each other
		if h, err = geom.Fit(geom.Similarity, src, dst, nil); err != nil {
			h, _ = geom.Fit(geom.Position, src, dst, nil)
		}
	}
	if len(src) > motion.Points() {
		in, sum := 0, 0.0
		for i := range src {
			if e := h.Apply(src[i]).Dist(dst[i]); e < agreement {
				in, sum = in+1, sum+e*e
			}
		}
		s.Agree = float64(in) / float64(len(src))
		if in > 0 {
			s.Residual = math.Sqrt(sum / float64(in))
		}
	}
	return h, s, true
}

// mostOf returns the motion that n points fix, but no more than is wanted.
func mostOf(n int, wanted geom.Motion) geom.Motion {
	out := geom.Position
	for _, m := range []geom.Motion{geom.Similarity, geom.Shear, geom.Perspective} {
		if n >= m.Points() && out != wanted {
			out = m
		}
	}
	return out
}

// A Place is where a point is on a frame.
type Place struct {
	At      geom.Point
	Bridged bool // not known itself, but between frames on which it is
}

// Path returns the place that is tracked of a point on each frame on which it is known: measured, or placed by hand.
func Path(t *treatment.Track, p *treatment.Point) map[int]geom.Point {
	at := map[int]geom.Point{p.Home: p.At.Point()}
	if p.Path != nil {
		for _, v := range p.Path.Samples {
			if !dropped(t, v.Frame) {
				at[v.Frame] = v.At.Point()
			}
		}
	}
	for _, v := range p.Placed {
		at[v.Frame] = v.At.Point()
	}
	return at
}

// bridged returns where a point is on the frames on which it is known and on those between: there it goes along with the other
// points, from where it was lost and to where it was found again, mixed smoothly; alone it goes on as it went before and comes
// as it goes after (cubic Hermite interpolation).
func bridged(t *treatment.Track, id string, known map[string]map[int]geom.Point) map[int]Place {
	own := known[id]
	out := make(map[int]Place, len(own))
	var frames []int
	for n, p := range own {
		out[n] = Place{At: p}
		frames = append(frames, n)
	}
	sort.Ints(frames)
	// along takes the point from a frame on which it is known to another as the others go.
	along := func(from, to int) (geom.Point, bool) {
		var src, dst []geom.Point
		const enough = 24
		for i := 0; i < len(t.Points) && len(src) < enough; i++ {
			other := t.Points[i].ID
			a, ok1 := known[other][from]
			b, ok2 := known[other][to]
			if other != id && !t.Points[i].Off && ok1 && ok2 {
				src, dst = append(src, a), append(dst, b)
			}
		}
		motion := mostOf(len(src), geom.Shear)
		for _, less := range []geom.Motion{motion, geom.Similarity, geom.Position} {
			if len(src) < less.Points() {
				continue
			}
			if h, err := geom.Fit(less, src, dst, nil); err == nil {
				return h.Apply(own[from]), true
			}
		}
		return geom.Point{}, false
	}
	speed := func(n, step int) (geom.Point, bool) {
		next, ok := own[n+step]
		return next.Sub(own[n]).Mul(float64(step)), ok
	}
	for i := 1; i < len(frames); i++ {
		a, b := frames[i-1], frames[i]
		if b-a > longestGap {
			continue
		}
		for n := a + 1; n < b; n++ {
			u := float64(n-a) / float64(b-a)
			before, ok1 := along(a, n)
			after, ok2 := along(b, n)
			if ok1 && ok2 {
				out[n] = Place{before.Lerp(after, u*u*(3-2*u)), true}
				continue
			}
			from, fromOK := speed(a, -1)
			to, toOK := speed(b, 1)
			out[n] = Place{eased(own[a], own[b], from, to, fromOK, toOK, b-a, u), true}
		}
	}
	return out
}

// pointsTold is what is told of the points on a frame.
type pointsTold struct {
	match, drift, variance   float64
	ambiguous                bool
	points, bridged, measure int
}

func (s *pointsTold) add(bridged bool, v *treatment.PointSample) {
	s.points++
	if bridged {
		s.bridged++
		return
	}
	if v == nil {
		return
	}
	s.match, s.ambiguous = math.Min(s.match, v.Match), s.ambiguous || v.Ambiguous
	if v.Drift != nil {
		s.drift = math.Max(s.drift, *v.Drift)
	}
	if v.Variance != nil {
		s.variance += v.Variance[0] + v.Variance[2]
		s.measure++
	}
}

// tell says it of a sample. What is not known of the points is spread over the motion's parameters: at the points themselves the
// variance is that share of theirs.
func (s *pointsTold) tell(v *Moment, motion geom.Motion) {
	v.Match, v.Drift, v.Missing, v.Ambiguous = s.match, s.drift, s.bridged, s.ambiguous
	v.Bridged = s.bridged == s.points
	if s.measure > 0 {
		share := math.Min(float64(motion.Points())/float64(s.points), 1)
		v.Deviation = math.Sqrt(s.variance / float64(s.measure) * share)
	}
}

func plural(n int, one, more string) string {
	if n == 1 {
		return one
	}
	return more
}

func (pointsKind) doubts(v *Moment) (Grade, string) {
	switch {
	case v.Residual > 1:
		return Doubtful, fmt.Sprintf(
			"The points lie %.1f px from the motion that is used of them. Use more of what they do, or look for one "+
				"that has gone astray.",
			v.Residual,
		)
	case v.Agree < 0.75:
		return Doubtful, "Some points go their own way and are not used. Look for those that have gone astray; place " +
			"them by hand, or leave them out."
	case v.Missing > 0:
		return Doubtful, fmt.Sprintf("%d of the points %s not found here: taken along with the others. Place %s by hand if it "+
			"slips.", v.Missing, plural(v.Missing, "was", "were"), plural(v.Missing, "it", "them"))
	case v.Ambiguous:
		return Doubtful, "Another place near a point looks almost the same: it may have jumped there. Make the pattern larger or the " +
			"search box smaller, or put four points or more, which hold each other."
	case v.Drift > 0.5:
		return Doubtful, fmt.Sprintf("A point has drifted: it is %.1f px from where it looks as where it was put. Place it by hand "+
			"here, or compare it with its reference.", v.Drift)
	case v.Deviation > track.MostDeviation:
		return Doubtful, fmt.Sprintf("There is little texture: it is known to %.1f px. Make the pattern larger, or put more points.",
			v.Deviation)
	case v.Match < 0.6:
		return Doubtful, fmt.Sprintf("A pattern matches to %.0f %% only. Check its place on this frame.", 100*v.Match)
	}
	return Good, ""
}
