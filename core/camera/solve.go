package camera

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sort"

	"jardin/core/geom"
)

// A Track is a feature's place on consecutive frames, counted from 0, on the plate.
type Track struct {
	First int
	At    []geom.Point
}

// On returns where the feature is on a frame.
func (t *Track) On(frame int) (p geom.Point, ok bool) {
	if i := frame - t.First; i >= 0 && i < len(t.At) {
		return t.At[i], true
	}
	return p, false
}

// A Task is what a camera is to be found from.
type Task struct {
	Width, Height, Frames int
	Tracks                []Track
	Lens                  geom.Lens // centre, squeeze, and the terms to start from
	Focal                 Focal
	Length                float64 // focal length, pixels of the picture's height: where it is known
	Terms                 int     // radial terms that are found, 0 to 3
	Centre                bool    // the principal point is found
	Squeeze               bool    // so is the lens's squeeze, from that of Lens on
	// Progress, which may be nil, hears what is done, and how much of all, 0 to 1.
	Progress func(what string, done float64)
}

// A Solution is a camera's path, and what it saw.
type Solution struct {
	Views   []View // by frame, counted from 0
	Known   []bool // by frame
	Lens    geom.Lens
	Turning bool // the camera only turned: points are directions
	Points  []Point
	RMS     float64   // of all observations that fit, pixels
	ByFrame []float64 // RMS by frame, pixels; 0 where nothing is known
	Fits    []int     // observations that fit, by frame
}

// A Point is a feature's place in space.
type Point struct {
	Track int
	At    Vec
	Error float64 // RMS of where it is seen, pixels, over all frames on which it was followed
	Fits  bool    // it stands still, and is seen where it should be
}

// What keeps a camera from being found. The messages say what to do.
var (
	ErrFewTracks = errors.New("too little can be followed from frame to frame: at least 12 places that stand still have to be seen together. " +
		"Leave out less, or give points of your own")
	ErrPlane = errors.New("all that could be followed lies on one plane, which does not tell the focal length. " +
		"Give the focal length, or follow the plane itself with a plane track")
	ErrFlat = errors.New("what was followed moves as a flat picture does, which tells neither focal length nor depth. " +
		"Give the focal length, or follow it with a plane track")
	ErrNoMotion = errors.New("the camera does not move. Say in Follow that it stands still: nothing else is needed")
	ErrNoFit    = errors.New("no path of a camera explains how what was followed moves. " +
		"Mark what moves by itself as left out, or give the focal length and the lens if they are known")
)

const (
	fewest     = 12 // tracks that two frames must share
	baseTries  = 300
	lengthMin  = 0.2 // of the picture's width: about 136 degrees
	lengthMax  = 8.0
	lengthTurn = 4.0 // the longest that a turning camera tells
)

// Solve finds the camera's path, the places of what it saw, and what of focal length and lens is free.
//
// Frames apart enough are chosen; of these the pair that shows most parallax is placed by five points (relative), under several
// focal lengths if that is unknown; the others follow; all is adjusted together; then the frames between. Whatever does not fit a
// world that stands still is left out on the way. A camera that only turns is told from one that moves by what is left over.
func Solve(ctx context.Context, task Task) (*Solution, error) {
	s := &solver{Task: task, rng: rand.New(rand.NewPCG(18, uint64(len(task.Tracks))))}
	if s.Progress == nil {
		s.Progress = func(string, float64) {}
	}
	if s.Focal == Known && !(s.Length > 0) {
		return nil, errors.New("the focal length is said to be known, and is not given")
	}
	s.index()
	if err := s.choose(); err != nil {
		return nil, err
	}
	return s.solve(ctx)
}

type solver struct {
	Task
	rng   *rand.Rand
	on    [][]int // tracks seen on each frame
	keys  []int   // frames that are solved first
	begin []int   // those of them that it is begun with
}

func (s *solver) index() {
	s.on = make([][]int, s.Frames)
	for i := range s.Tracks {
		t := &s.Tracks[i]
		for k := range t.At {
			if n := t.First + k; n >= 0 && n < s.Frames {
				s.on[n] = append(s.on[n], i)
			}
		}
	}
}

// shared returns where the tracks that two frames share are on both.
func (s *solver) shared(a, b int) (ids []int, p, q []geom.Point) {
	for _, i := range s.on[a] {
		if v, ok := s.Tracks[i].On(b); ok {
			u, _ := s.Tracks[i].On(a)
			ids, p, q = append(ids, i), append(p, u), append(q, v)
		}
	}
	return ids, p, q
}

const mostKeys = 48

// choose picks the frames that are solved first: the next one where what is seen has moved by a fortieth of the width, or where
// only three quarters of what was seen go on, so that much is seen on four of them: three place what the fourth is placed by.
func (s *solver) choose() error {
	seen := 0
	for _, ids := range s.on {
		if len(ids) >= fewest {
			seen++
		}
	}
	if seen < 2 || seen < s.Frames/2 {
		return ErrFewTracks
	}
	apart := float64(s.Width) / 40
	var most float64
	for {
		s.keys = s.keys[:0]
		last := -1
		for n := range s.Frames {
			if len(s.on[n]) < fewest {
				continue
			}
			if last < 0 {
				last, s.keys = n, append(s.keys, n)
				continue
			}
			_, p, q := s.shared(last, n)
			if len(p) < fewest {
				if n-1 > last && len(s.on[n-1]) >= fewest {
					last, s.keys = n-1, append(s.keys, n-1)
				} else {
					last, s.keys = n, append(s.keys, n)
				}
				continue
			}
			moved := medianOf(len(p), func(i int) float64 { return p[i].Dist(q[i]) })
			most = math.Max(most, moved)
			if moved > apart || 4*len(p) < 3*len(s.on[last]) || n == s.Frames-1 {
				last, s.keys = n, append(s.keys, n)
			}
		}
		if len(s.keys) <= mostKeys || apart > float64(s.Width) { // more only where things pass quickly
			break
		}
		apart *= 1.3
	}
	if most < 0.7 {
		return ErrNoMotion
	}
	if len(s.keys) < 3 { // little motion: ends and middle
		first, last := s.keys[0], s.keys[len(s.keys)-1]
		s.keys = slices.Compact([]int{first, (first + last) / 2, last})
	}
	s.begin = s.holding()
	return nil
}

func medianOf(n int, of func(i int) float64) float64 {
	if n == 0 {
		return math.Inf(1)
	}
	v := make([]float64, n)
	for i := range v {
		v[i] = of(i)
	}
	sort.Float64s(v)
	return v[n/2]
}

func (s *solver) solve(ctx context.Context) (*Solution, error) {
	lengths := []float64{s.Length}
	if s.Focal != Known {
		lengths = nil
		for _, c := range candidates {
			lengths = append(lengths, c*float64(s.Width)*squeeze(&s.Lens))
		}
		if s.Length > 0 {
			lengths = append([]float64{s.Length}, lengths...)
		}
	}
	// Does it only turn?
	var turned *draft
	for i, f := range lengths {
		s.Progress("Looking whether the camera only turns", 0.1*float64(i)/float64(len(lengths)))
		d, err := s.turn(ctx, f)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err == nil && (turned == nil || d.typical() < turned.typical()) {
			turned = d
		}
	}
	const surely = 0.2 // px: less than what following errs by anyway
	if turned != nil && turned.typical() < surely {
		return s.finish(ctx, turned)
	}
	base, flat, spread, err := s.pair()
	if err != nil {
		if turned != nil && turned.typical() < 1 {
			return s.finish(ctx, turned)
		}
		return nil, err
	}
	if flat && s.Focal != Known {
		// Any homography fits: those of a camera that only turns have to fit as well as that.
		if turned != nil && turned.typical() < 1.25*spread {
			return s.finish(ctx, turned)
		}
		return nil, ErrPlane
	}
	var best *draft
	agreed := 0
	for i, f := range lengths {
		s.Progress("Placing the first frames", 0.1+0.3*float64(i)/float64(len(lengths)))
		d, err := s.move(ctx, f, base)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			continue
		}
		switch {
		case best == nil || d.better(best):
			if best != nil && math.Abs(math.Log(d.Views[0].Focal/best.Views[0].Focal)) < 0.02 {
				agreed++
			} else {
				agreed = 0
			}
			best = d
		case math.Abs(math.Log(d.Views[0].Focal/best.Views[0].Focal)) < 0.02:
			agreed++
		}
		if agreed > 0 && best.typical() < 0.5 {
			break
		}
	}
	if best == nil || best.typical() > 3 {
		if turned != nil && turned.typical() < 1 {
			return s.finish(ctx, turned)
		}
		return nil, ErrNoFit
	}
	// A camera that moves explains more by having more to explain it with: it has to be better by clearly more than that.
	if turned != nil && turned.typical() < 1.25*best.typical() {
		return s.finish(ctx, turned)
	}
	return s.finish(ctx, best)
}

// finish adds all frames to a draft, adjusts all of it, leaves out what does not fit, and tells the outcome.
func (s *solver) finish(ctx context.Context, d *draft) (*Solution, error) {
	s.Progress("Placing more frames", 0.4)
	terms := s.Terms
	if err := s.extend(ctx, d, s.keys, min(terms, 1)); err != nil {
		return nil, err
	}
	for round := range 2 {
		s.Progress("Adjusting", 0.5+0.1*float64(round))
		s.reject(d, 4)
		s.see(d, 3)
		d.Terms, d.Centre, d.Squeeze = terms, s.Centre, s.Squeeze
		if _, err := d.Adjust(ctx, 1.5, 20); err != nil {
			return nil, err
		}
	}
	s.Progress("Placing the frames between", 0.7)
	var rest []int
	for n := range s.Frames {
		if _, ok := d.view[n]; !ok && len(s.on[n]) >= 6 {
			rest = append(rest, n)
		}
	}
	// From known frames outwards, so that each begins beside one that is known.
	sort.SliceStable(rest, func(i, j int) bool { return d.away(rest[i]) < d.away(rest[j]) })
	for _, n := range rest {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if v, ok := s.locate(d, n); ok {
			d.addView(n, v)
		}
	}
	d.sorted()
	for round := range 3 {
		s.Progress("Adjusting all frames", 0.75+0.08*float64(round))
		if round > 0 {
			s.reject(d, 3.5)
		}
		s.see(d, 3)
		if _, err := d.Adjust(ctx, math.Max(2.385*d.sigma(), 0.05), 12); err != nil {
			return nil, err
		}
	}
	s.Progress("Adjusting all frames", 1)
	return s.tell(d)
}

func abs(a int) int { return max(a, -a) }

// tell makes a solution of a draft.
func (s *solver) tell(d *draft) (*Solution, error) {
	out := &Solution{
		Views: make([]View, s.Frames), Known: make([]bool, s.Frames), Lens: d.Lens, Turning: d.Turning,
		RMS: d.RMS(), ByFrame: make([]float64, s.Frames), Fits: make([]int, s.Frames),
	}
	if len(d.Points) < fewest {
		return nil, ErrFewTracks
	}
	if !(out.RMS < 3) {
		return nil, fmt.Errorf("%w: what was followed is %.1f px off", ErrNoFit, out.RMS)
	}
	longest := lengthMax
	if d.Turning {
		longest = lengthTurn
	}
	if f := medianOf(len(d.Views), func(i int) float64 { return d.Views[i].Focal }) / float64(s.Width); s.Focal != Known && (f < lengthMin || f > longest) {
		return nil, ErrFlat
	}
	for i, f := range d.frames {
		out.Views[f], out.Known[f] = d.Views[i], true
	}
	for i := range d.Seen {
		f := d.frames[d.Seen[i].View]
		out.ByFrame[f] += d.error2(&d.Seen[i])
		out.Fits[f]++
	}
	for f, n := range out.Fits {
		if n > 0 {
			out.ByFrame[f] = math.Sqrt(out.ByFrame[f] / float64(n))
		}
	}
	// What does not fit is placed as well as may be, so that it can be shown.
	for id := range s.Tracks {
		t := &s.Tracks[id]
		if p, ok := d.point[id]; ok {
			out.Points = append(out.Points, Point{id, d.Points[p], s.off(d, t, d.Points[p]), true})
			continue
		}
		var views []int
		for v, f := range d.frames {
			if _, ok := t.On(f); ok {
				views = append(views, v)
			}
		}
		if len(views) >= 2 {
			if x, ok := s.place(d, t, views); ok {
				out.Points = append(out.Points, Point{id, x, s.off(d, t, x), false})
			}
		}
	}
	return out, nil
}
