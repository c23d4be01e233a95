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
	rng  *rand.Rand
	on   [][]int // tracks seen on each frame
	keys []int   // frames that are solved first
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
// only six tenths of what was seen go on.
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
			if moved > apart || 10*len(p) < 6*len(s.on[last]) || n == s.Frames-1 {
				last, s.keys = n, append(s.keys, n)
			}
		}
		if len(s.keys) <= mostKeys {
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

// A draft is a solution on its way: a bundle over some frames, and what its points are of.
type draft struct {
	Bundle
	frames []int       // of each view, ascending
	view   map[int]int // of each frame
	tracks []int       // of each point
	point  map[int]int // of each track
	out    map[[2]int]bool
}

func (s *solver) draft(length float64, terms int) *draft {
	d := &draft{view: map[int]int{}, point: map[int]int{}, out: map[[2]int]bool{}}
	d.Lens, d.Width, d.Height = s.Lens, s.Width, s.Height
	d.Focal, d.Terms, d.Centre = s.Focal, terms, false
	if d.Focal != Known {
		d.Focal = Fixed
	}
	return d
}

func (d *draft) addView(frame int, v View) {
	d.view[frame] = len(d.Views)
	d.frames, d.Views = append(d.frames, frame), append(d.Views, v)
}

// candidates are focal lengths that are tried: of the picture's width, the usual ones first.
var candidates = []float64{0.9, 0.6, 1.4, 2.2, 0.42, 3.5}

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

// typical is the median error, pixels: what moves by itself does not count.
func (d *draft) typical() float64 {
	e := d.Errors()
	return medianOf(len(e), func(i int) float64 { return e[i] })
}

func (d *draft) better(o *draft) bool { return d.typical() < o.typical() }

// some returns about n of the frames that are solved first, in order, those given among them.
func (s *solver) some(n int, with ...int) []int {
	out := slices.Clone(with)
	for i := range min(n, len(s.keys)) {
		out = append(out, s.keys[i*(len(s.keys)-1)/max(1, min(n, len(s.keys))-1)])
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// turn solves for a camera that only turns.
func (s *solver) turn(ctx context.Context, length float64) (*draft, error) {
	d := s.draft(length, min(s.Terms, 1))
	d.Turning = true
	frames := s.some(12)
	d.addView(frames[0], View{Pose{R: Straight}, length})
	for i := 1; i < len(frames); i++ {
		// From the frames before it that share something, the last first.
		placed := false
		for j := i - 1; j >= 0 && !placed; j-- {
			_, p, q := s.shared(frames[j], frames[i])
			if len(p) < fewest {
				continue
			}
			r, ok := s.between(p, q, length)
			if !ok {
				continue
			}
			d.addView(frames[i], View{Pose{R: r.Mul(d.Views[d.view[frames[j]]].Pose.R)}, length})
			placed = true
		}
		if !placed {
			return nil, ErrFewTracks
		}
	}
	s.see(d, 2)
	if len(d.Points) < fewest {
		return nil, ErrFewTracks
	}
	for _, scale := range []float64{4, 1} {
		if _, err := d.Adjust(ctx, scale, 25); err != nil {
			return nil, err
		}
	}
	// Through a very long lens turning and sliding along a plane are the same.
	if f := d.Views[0].Focal / float64(s.Width); s.Focal != Known && (f < lengthMin || f > lengthTurn) {
		return nil, ErrNoFit
	}
	return d, nil
}

// between returns how a camera turned from one frame to another, by most of what is seen on both.
func (s *solver) between(p, q []geom.Point, length float64) (Rotation, bool) {
	from, to := make([]Vec, len(p)), make([]Vec, len(q))
	for i := range p {
		from[i], to[i] = ray(&s.Lens, length, p[i]).Unit(), ray(&s.Lens, length, q[i]).Unit()
	}
	var r Rotation
	kept := make([]int, len(p))
	for i := range kept {
		kept[i] = i
	}
	for range 6 {
		a, b := make([]Vec, 0, len(kept)), make([]Vec, 0, len(kept))
		for _, i := range kept {
			a, b = append(a, from[i]), append(b, to[i])
		}
		var ok bool
		if r, ok = TurnOf(a, b); !ok {
			return r, false
		}
		off := make([]float64, len(p))
		for i := range p {
			off[i] = r.Apply(from[i]).Dist(to[i])
		}
		limit := 2.5 * medianOf(len(off), func(i int) float64 { return off[i] })
		kept = kept[:0]
		for i, e := range off {
			if e <= limit {
				kept = append(kept, i)
			}
		}
	}
	return r, true
}

// see adds to a draft the points whose tracks are seen on so many of its frames, and all that is seen of them.
func (s *solver) see(d *draft, least int) {
	d.Seen = nil
	for id := range s.Tracks {
		t := &s.Tracks[id]
		p, known := d.point[id]
		var views []int
		for v, f := range d.frames {
			if _, ok := t.On(f); ok && !d.out[[2]int{f, id}] {
				views = append(views, v)
			}
		}
		if !known {
			if len(views) < least {
				continue
			}
			x, ok := s.place(d, t, views)
			if !ok {
				continue
			}
			p = len(d.Points)
			d.point[id] = p
			d.Points, d.tracks = append(d.Points, x), append(d.tracks, id)
		}
		for _, v := range views {
			at, _ := t.On(d.frames[v])
			d.Seen = append(d.Seen, Observation{v, p, at})
		}
	}
	d.sortSeen()
}

// place returns where a track's point is by what some views see of it.
func (s *solver) place(d *draft, t *Track, views []int) (x Vec, ok bool) {
	eyes, rays := make([]Vec, len(views)), make([]Vec, len(views))
	for i, v := range views {
		at, _ := t.On(d.frames[v])
		eyes[i], rays[i] = d.Views[v].Pose.Eye(), d.Views[v].Ray(&d.Lens, at)
		if !rays[i].Finite() {
			return x, false
		}
	}
	if d.Turning {
		for _, r := range rays {
			x = x.Add(r)
		}
		return x.Unit(), true
	}
	// Rays have to cross at an angle: half a degree at least.
	wide := 0.0
	for _, r := range rays[1:] {
		wide = math.Max(wide, r.Cross(rays[0]).Len())
	}
	if wide < 0.008 {
		return x, false
	}
	if x, ok = meet(eyes, rays); !ok {
		return x, false
	}
	for _, v := range views {
		if c := d.Views[v].Pose.Apply(x); !(c[2] > near) {
			return x, false
		}
	}
	return x, true
}

// pair returns the two frames to begin with, those with most parallax among what they share; flat says that what they and all others
// share lies on one plane, spread how far they are typically off that, pixels.
func (s *solver) pair() (best [2]int, flat bool, spread float64, err error) {
	most := 0.0
	frames := s.some(9)
	flat = true
	var typical []float64
	for i := range frames {
		for _, b := range frames[i+1:] {
			a := frames[i]
			_, p, q := s.shared(a, b)
			if len(p) < 2*fewest {
				continue
			}
			for k := range p {
				p[k], q[k] = s.Lens.Straighten(p[k]), s.Lens.Straighten(q[k])
			}
			h, _, err := geom.RobustFit(geom.Perspective, p, q, 1.5)
			if err != nil {
				continue
			}
			off := make([]float64, len(p))
			beyond := 0
			for k := range p {
				if off[k] = h.Apply(p[k]).Dist(q[k]); off[k] > 1.5 {
					beyond++
				}
			}
			if 100*beyond > 12*len(p) {
				flat = false
			}
			// How far most of what is not on the commonest plane slides against it.
			sort.Float64s(off)
			typical = append(typical, off[len(off)/2])
			slide := math.Min(off[len(off)*7/10], float64(s.Width)/30)
			if score := slide * math.Sqrt(float64(len(p))); score > most {
				most, best = score, [2]int{a, b}
			}
		}
	}
	if len(typical) == 0 {
		return best, false, 0, ErrFewTracks
	}
	return best, flat, medianOf(len(typical), func(i int) float64 { return typical[i] }), nil
}

// move solves for a camera that moves, from a focal length and a pair of frames to begin with, over some of the frames.
func (s *solver) move(ctx context.Context, length float64, base [2]int) (*draft, error) {
	d := s.draft(length, min(s.Terms, 1))
	_, p, q := s.shared(base[0], base[1])
	a, b := make([]Vec, 0, len(p)), make([]Vec, 0, len(q))
	for i := range p {
		u, v := ray(&s.Lens, length, p[i]), ray(&s.Lens, length, q[i])
		if u.Finite() && v.Finite() {
			a, b = append(a, u), append(b, v)
		}
	}
	pose, _, ok := relative(s.rng, a, b, 2/length, baseTries)
	if !ok {
		return nil, ErrNoFit
	}
	d.addView(base[0], View{Pose{R: Straight}, length})
	d.addView(base[1], View{pose, length})
	s.see(d, 2)
	if len(d.Points) < fewest {
		return nil, ErrFewTracks
	}
	d.Focal, d.Terms = Known, 0
	if _, err := d.Adjust(ctx, 2, 10); err != nil {
		return nil, err
	}
	if err := s.extend(ctx, d, s.some(9, base[0], base[1]), min(s.Terms, 1)); err != nil {
		return nil, err
	}
	if f := d.Views[0].Focal / float64(s.Width); f < lengthMin || f > lengthMax {
		return nil, ErrNoFit
	}
	return d, nil
}

// extend adds frames, those that see most of what is placed first, and adjusts all in between.
func (s *solver) extend(ctx context.Context, d *draft, frames []int, terms int) error {
	waiting := []int{}
	for _, f := range frames {
		if _, ok := d.view[f]; !ok {
			waiting = append(waiting, f)
		}
	}
	count := func(f int) (n int) {
		for _, id := range s.on[f] {
			if _, ok := d.point[id]; ok {
				n++
			}
		}
		return n
	}
	since := 0
	for len(waiting) > 0 {
		best, most := 0, -1
		for i, f := range waiting {
			if n := count(f); n > most {
				best, most = i, n
			}
		}
		f := waiting[best]
		waiting = slices.Delete(waiting, best, best+1)
		if most < 8 {
			continue
		}
		v, ok := s.locate(d, f)
		if !ok {
			continue
		}
		d.addView(f, v)
		s.see(d, 3)
		if since++; since >= max(1, len(d.Views)/3) || len(waiting) == 0 {
			since = 0
			if len(d.Views) >= 4 {
				d.Focal, d.Terms = s.Focal, terms
				if d.Focal == Zooming && len(d.Views) < 6 {
					d.Focal = Fixed
				}
			}
			if _, err := d.Adjust(ctx, 2, 15); err != nil {
				return err
			}
			d.renew(s)
		}
	}
	if len(d.Views) < 3 {
		return ErrFewTracks
	}
	_, err := d.Adjust(ctx, 1.5, 30)
	return err
}

// renew places points anew that lie behind a camera or are far off: what was known of the cameras then was poor.
func (d *draft) renew(s *solver) {
	at := d.spans()
	for p, id := range d.tracks {
		var views []int
		var worst float64
		for i := at[p]; i < at[p+1]; i++ {
			worst = math.Max(worst, d.error2(&d.Seen[i]))
			views = append(views, d.Seen[i].View)
		}
		if worst > 36 && len(views) >= 2 {
			if x, ok := s.place(d, &s.Tracks[id], views); ok {
				d.Points[p] = x
			}
		}
	}
}

// locate finds the view of a frame from what it sees of the points, from that of the nearest frame that is known.
func (s *solver) locate(d *draft, frame int) (View, bool) {
	nearest := -1
	for i, f := range d.frames {
		if nearest < 0 || abs(f-frame) < abs(d.frames[nearest]-frame) {
			nearest = i
		}
	}
	one := Bundle{Lens: d.Lens, Width: d.Width, Height: d.Height, Focal: Known, Turning: d.Turning, Views: []View{d.Views[nearest]}}
	for _, id := range s.on[frame] {
		if p, ok := d.point[id]; ok && !d.out[[2]int{frame, id}] {
			at, _ := s.Tracks[id].On(frame)
			one.Seen = append(one.Seen, Observation{0, len(one.Points), at})
			one.Points = append(one.Points, d.Points[p])
		}
	}
	if len(one.Seen) < 6 {
		return View{}, false
	}
	e := one.Errors()
	scale := math.Min(math.Max(medianOf(len(e), func(i int) float64 { return e[i] }), 3), 200)
	for {
		one.fitView(scale, 20)
		if scale <= 2 {
			break
		}
		scale = math.Max(2, scale/4)
	}
	e = one.Errors()
	if medianOf(len(e), func(i int) float64 { return e[i] }) > 8 {
		return View{}, false
	}
	return one.Views[0], true
}

// fitView moves a bundle's only view to where its points, which stay, are seen best.
func (b *Bundle) fitView(scale float64, rounds int) {
	camera, _ := b.sizes()
	damping := 1e-3
	cost := b.cost(scale)
	for range rounds {
		var h [mostOwn * mostOwn]float64
		var g [mostOwn]float64
		for i := range b.Seen {
			l := b.linearise(&b.Seen[i])
			if !l.ok {
				continue
			}
			_, w := robust(l.e[0]*l.e[0]+l.e[1]*l.e[1], scale)
			for k := range 2 {
				for r := range camera {
					g[r] -= w * l.own[k][r] * l.e[k]
					for c := range camera {
						h[r*camera+c] += w * l.own[k][r] * l.own[k][c]
					}
				}
			}
		}
		improved := false
		for range 8 {
			step, ok := solveSmall(h[:camera*camera], g[:camera], damping)
			if ok {
				was := b.Views[0]
				v := &b.Views[0]
				turn := Turn(Vec{step[0], step[1], step[2]})
				v.Pose.R = turn.Mul(v.Pose.R)
				if !b.Turning {
					v.Pose.T = v.Pose.T.Add(Vec{step[3], step[4], step[5]})
				}
				if c := b.cost(scale); c < cost {
					done := cost-c < 1e-7*cost
					cost, damping, improved = c, math.Max(damping/5, 1e-10), true
					if done {
						return
					}
					break
				}
				b.Views[0] = was
			}
			damping *= 6
		}
		if !improved {
			return
		}
	}
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
		d.Terms, d.Centre = terms, s.Centre
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

func (d *draft) away(frame int) int {
	least := math.MaxInt
	for _, f := range d.frames {
		least = min(least, abs(f-frame))
	}
	return least
}

func abs(a int) int { return max(a, -a) }

// sigma is the standard deviation of a coordinate, by the median of the distances: of a normal one that is 1.1774 times it.
func (d *draft) sigma() float64 { return d.typical() / 1.1774 }

// sorted brings views into the order of their frames: what a zooming focal length is held by lies beside each other then.
func (d *draft) sorted() {
	order := make([]int, len(d.frames))
	for i := range order {
		order[i] = i
	}
	sort.Slice(order, func(i, j int) bool { return d.frames[order[i]] < d.frames[order[j]] })
	views, frames, to := make([]View, len(order)), make([]int, len(order)), make([]int, len(order))
	for i, k := range order {
		views[i], frames[i], to[k] = d.Views[k], d.frames[k], i
		d.view[frames[i]] = i
	}
	for i := range d.Seen {
		d.Seen[i].View = to[d.Seen[i].View]
	}
	d.Views, d.frames = views, frames
}

// reject leaves out what is farther off than so many standard deviations, and points of which too little is left.
func (s *solver) reject(d *draft, times float64) {
	limit := math.Max(times*d.sigma()*1.4142, 0.5)
	errors := d.Errors()
	bad := make([]int, len(d.Points))
	all := make([]int, len(d.Points))
	for i, o := range d.Seen {
		all[o.Point]++
		if errors[i] > limit {
			bad[o.Point]++
			d.out[[2]int{d.frames[o.View], d.tracks[o.Point]}] = true
		}
	}
	// A track that fits on part of its frames only belongs to something that moves, or went over to something else.
	var points []Vec
	var tracks []int
	d.point = map[int]int{}
	for p, id := range d.tracks {
		if 10*bad[p] > 4*all[p] || all[p]-bad[p] < 2 {
			t := &s.Tracks[id]
			for k := range t.At {
				d.out[[2]int{t.First + k, id}] = true
			}
			continue
		}
		d.point[id] = len(points)
		points, tracks = append(points, d.Points[p]), append(tracks, id)
	}
	d.Points, d.tracks, d.Seen = points, tracks, nil
	s.see(d, 3)
}

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

// off is the RMS of where a track's point is seen beside where it should be, where both are known.
func (s *solver) off(d *draft, t *Track, x Vec) float64 {
	one := Bundle{Lens: d.Lens, Width: d.Width, Height: d.Height, Turning: d.Turning, Views: d.Views, Points: []Vec{x}}
	for v, f := range d.frames {
		if at, ok := t.On(f); ok {
			o := Observation{v, 0, at}
			if !math.IsInf(one.error2(&o), 1) {
				one.Seen = append(one.Seen, o)
			}
		}
	}
	return one.RMS()
}
