package track

import (
	"math"
	"slices"

	"jardin/core/geom"
)

// A leg is a region that a Surface follows or followed, and how the reference frame gets to the frame that it was drawn on.
type leg struct {
	*Plane
	to    geom.Homography
	first int // step on which it was begun, and from which leg
	from  int
}

// A seen is a step on which the surface was found, by which leg, and where that leg's region was.
type seen struct {
	look    FrameReader
	covered [][]geom.Point
	leg     int
	on      geom.Homography // from the leg's frame
	sample  Sample
	found   bool
}

// A tie says how the frame of one leg gets to that of another, as one frame on which both were found has it.
type tie struct {
	a, b   int
	to     geom.Homography
	weight float64 // one over the variance of where that is, 1/px²
}

// weightOf is a tie's weight by how well both of its samples are known, which is to no better than some hundredths of a pixel.
func weightOf(a, b Sample) float64 {
	return 1 / (0.03*0.03 + a.Deviation*a.Deviation + b.Deviation*b.Deviation)
}

// ties are how a leg is tied to the one it was begun from: by the frame at hand, and by those before, on each of which the new
// region is found as well. What the region that is left is off by where the other one lies is another on each frame, and grows
// with their distance.
func (s *Surface) ties(next *leg, onLeg geom.Homography, on Sample) []tie {
	b := len(s.legs)
	out := []tie{{s.at, b, onLeg, weightOf(on, Sample{})}}
	for _, look := range s.before {
		back, ok := onLeg.Inverse()
		if !ok {
			break
		}
		was, ok := s.legs[s.at].to.Inverse()
		if !ok {
			break
		}
		onA := look.H.Mul(was) // from leg a's frame
		found, err := next.Near(look.Read, nil, onA.Mul(back))
		if err != nil {
			continue
		}
		if undone, ok := found.H.Inverse(); ok {
			out = append(out, tie{s.at, b, undone.Mul(onA), weightOf(on, found)})
		}
	}
	return out
}

// A Better is where the surface is on a step, counted from 1, by all frames together.
type Better struct {
	Step int
	H    geom.Homography
}

// Together looks at all that was followed once more, when it has ended: the regions that it moved on to are tied to each other by
// key frames on which two of them are seen, and brought into the places on which all ties agree best, the first one staying where
// it is. So what chaining them left is taken out, and what was off when the first region was taken up again is spread over the
// frames before instead of being a jump. It returns the steps on which the surface is elsewhere by that; none where the region
// never moved on. The places are found by relaxation (Howard, Matarić & Sukhatme 2001): each leg in turn goes to the mean of
// where its neighbours have it.
func (s *Surface) Together() []Better {
	if len(s.legs) < 2 {
		return nil
	}
	ties := slices.Clone(s.tied)
	ties = append(ties, s.tiesAcross()...)
	to := make([]geom.Homography, len(s.legs))
	for k, l := range s.legs {
		to[k] = l.to
	}
	looped := s.looped(ties)
	const sweeps, still = 500, 1e-4
	for range sweeps {
		most := 0.0
		for k := 1; k < len(s.legs); k++ {
			if looped[k] {
				most = math.Max(most, s.relax(k, to, ties, func(other int) bool { return looped[other] }))
			}
		}
		if most < still {
			break
		}
	}
	for k := 1; k < len(s.legs); k++ {
		if !looped[k] { // it hangs on the one that it was begun from, and goes where that goes
			s.relax(k, to, ties, func(other int) bool { return other < k })
		}
	}
	const little = 0.005 // pixels
	moved := make([]bool, len(s.legs))
	for k, l := range s.legs {
		for _, p := range l.backed(l.to) {
			moved[k] = moved[k] || to[k].Apply(p).Dist(l.to.Apply(p)) > little
		}
	}
	var out []Better
	for i, step := range s.seen {
		if !step.found || !moved[step.leg] {
			continue
		}
		if h := step.on.Mul(to[step.leg]).Normalised(); Sane(h, s.legs[step.leg].backed(to[step.leg]), s.size) == nil {
			out = append(out, Better{i + 1, h})
		}
	}
	return out
}

// looped tells which legs lie on a way round that comes back to where it began, or between two such: only there do ties
// contradict each other. The first one always counts.
func (s *Surface) looped(ties []tie) []bool {
	in := make([]bool, len(s.legs))
	beside := make([]map[int]bool, len(s.legs))
	for k := range in {
		in[k], beside[k] = true, map[int]bool{}
	}
	for _, t := range ties {
		beside[t.a][t.b], beside[t.b][t.a] = true, true
	}
	for again := true; again; {
		again = false
		for k := 1; k < len(in); k++ {
			if in[k] && len(beside[k]) < 2 {
				in[k], again = false, true
				for other := range beside[k] {
					delete(beside[other], k)
				}
			}
		}
	}
	return in
}

// backed is a leg's region on the reference frame.
func (l *leg) backed(to geom.Homography) []geom.Point {
	if back, ok := to.Inverse(); ok {
		return back.ApplyAll(l.region)
	}
	return l.region
}

// relax brings a leg to the mean of where its ties to some others have it, and returns by how much its region moved on its frame, pixels.
func (s *Surface) relax(k int, to []geom.Homography, ties []tie, some func(leg int) bool) (moved float64) {
	l := s.legs[k]
	home := l.backed(l.to)
	mean, weights := make([]geom.Point, len(home)), 0.0
	for _, t := range ties {
		var here geom.Homography
		switch {
		case t.b == k && some(t.a):
			here = t.to.Mul(to[t.a])
		case t.a == k && some(t.b):
			back, ok := t.to.Inverse()
			if !ok {
				continue
			}
			here = back.Mul(to[t.b])
		default:
			continue
		}
		for i, p := range home {
			mean[i] = mean[i].Add(here.Apply(p).Mul(t.weight))
		}
		weights += t.weight
	}
	if weights == 0 {
		return 0
	}
	for i := range mean {
		mean[i] = mean[i].Mul(1 / weights)
	}
	better, err := geom.Fit(s.motion, home, mean, nil)
	if err != nil || Sane(better, home, s.size) != nil {
		return 0
	}
	for _, p := range home {
		moved = math.Max(moved, better.Apply(p).Dist(to[k].Apply(p)))
	}
	to[k] = better
	return moved
}

// tiesAcross ties legs to earlier ones that the camera comes back to, on two frames of each.
func (s *Surface) tiesAcross() (out []tie) {
	steps := make([][]int, len(s.legs))
	for i, step := range s.seen {
		if step.found {
			steps[step.leg] = append(steps[step.leg], i)
		}
	}
	for b := 2; b < len(s.legs); b++ {
		n := len(steps[b])
		if n < 4 {
			continue
		}
		for _, at := range []int{steps[b][n/4], steps[b][3*n/4]} {
			for a := range b {
				if a == s.legs[b].from {
					continue
				}
				if t, ok := s.tieOn(at, a, leaves); ok {
					out = append(out, t)
				}
			}
		}
	}
	return out
}

// tieOn ties another leg to the one that is followed on a step, if a share of its region is in the picture there, and it is found.
func (s *Surface) tieOn(step, other int, least float64) (tie, bool) {
	at := s.seen[step]
	if !at.found || at.leg == other {
		return tie{}, false
	}
	was, ok := s.legs[other].to.Inverse()
	if !ok {
		return tie{}, false
	}
	guess := at.on.Mul(s.legs[at.leg].to).Mul(was)
	if share(s.legs[other].region, guess, s.size) < least || s.outgrown(other, guess) {
		return tie{}, false
	}
	found, err := s.legs[other].Near(at.look, at.covered, guess)
	if err != nil {
		return tie{}, false
	}
	undone, ok := at.on.Inverse()
	return tie{other, at.leg, undone.Mul(found.H), weightOf(at.sample, found)}, ok
}
