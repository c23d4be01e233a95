package carry

import (
	"fmt"
	"math"
	"sort"

	"jardin/core/geom"
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
func (pointsKind) measured(m *Motion) error {
	t := m.Track
	m.points = map[string]map[int]geom.Point{}
	frames := map[int]bool{}
	match := map[int]float64{}
	var order []string
	for i := range t.Points {
		p := &t.Points[i]
		if p.Path != nil && p.Path.Artifact != "" {
			return fmt.Errorf("point %q of track %q is still an artifact", p.Name, t.Name)
		}
		if p.Off {
			continue
		}
		path := Path(t, p)
		for n, v := range path {
			path[n] = v.Add(p.Use.Point())
		}
		m.points[p.ID] = path
		order = append(order, p.ID)
		for n := range path {
			frames[n] = true
		}
		if p.Path != nil {
			for _, v := range p.Path.Samples {
				if old, ok := match[v.Frame]; !ok || v.Match < old {
					match[v.Frame] = v.Match
				}
			}
		}
	}
	if len(frames) == 0 {
		return nil
	}
	// Where each point lies on the home frame: known, or worked out from the others
	// on a frame on which it is.
	home := map[string]geom.Point{}
	for id, path := range m.points {
		if p, ok := path[t.Home]; ok {
			home[id] = p
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
					home[id] = back.Apply(p)
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
		s.Match = 1
		if v, ok := match[n]; ok {
			s.Match = v
		}
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
			src, dst = append(src, a), append(dst, b)
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

// Path returns the place that is tracked of a point on each frame: measured, or
// placed by hand, and in a straight line over frames dropped in between.
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
	known := make([]int, 0, len(at))
	for n := range at {
		known = append(known, n)
	}
	sort.Ints(known)
	// Only where frames were dropped, or placed by hand, is a gap meant to be bridged.
	bridged := func(a, b int) bool {
		for _, span := range t.Dropped {
			if span.First <= b && span.Last >= a {
				return true
			}
		}
		for _, v := range p.Placed {
			if v.Frame == a || v.Frame == b {
				return true
			}
		}
		return false
	}
	for i := 1; i < len(known); i++ {
		a, b := known[i-1], known[i]
		if b-a < 2 || !bridged(a, b) {
			continue
		}
		for n := a + 1; n < b; n++ {
			at[n] = at[a].Lerp(at[b], float64(n-a)/float64(b-a))
		}
	}
	return at
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
	case v.Match < 0.6:
		return Doubtful, fmt.Sprintf("A pattern matches to %.0f %% only. Check its place on this frame.", 100*v.Match)
	}
	return Good, ""
}
