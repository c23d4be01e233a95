package camera

import (
	"context"
	"math"
	"slices"
	"sort"

	"jardin/core/geom"
)

// spread returns n of frames, evenly, the ends among them; all where there are no more.
func spread(n int, frames []int) (out []int) {
	n = min(n, len(frames))
	for i := range n {
		out = append(out, frames[i*(len(frames)-1)/max(1, n-1)])
	}
	return out
}

// some returns about n of the frames that it is begun with, in order, those given among them.
func (s *solver) some(n int, with ...int) []int {
	out := append(slices.Clone(with), spread(n, s.begin)...)
	slices.Sort(out)
	return slices.Compact(out)
}

// beginWith is how many frames it is begun with at least where there are as many.
const beginWith = 9

// holding returns the longest run of the frames that are solved first of which so many, spread over it, share enough with the next but
// one, as it takes two frames to place what the third one is placed by: all of them, or, where a shot is so long that nothing is seen all through it, a part of it. Of runs as long as each other it is
// that where the least that is shared is most.
func (s *solver) holding() []int {
	for size := len(s.keys); ; size = max(beginWith, size*4/5) {
		var best []int
		most := 4*fewest - 1
		for at := 0; at+size <= len(s.keys); at += max(1, size/4) {
			run := s.keys[at : at+size]
			least := math.MaxInt
			some := spread(beginWith, run)
			for i := 1; i < len(some); i++ {
				_, p, _ := s.shared(some[max(i-2, 0)], some[i])
				least = min(least, len(p))
			}
			if least > most {
				most, best = least, run
			}
		}
		switch {
		case best != nil:
			return best
		case size <= beginWith:
			return s.keys
		}
	}
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
	since, placed := 0, 3
	for len(waiting) > 0 {
		best, most := 0, -1
		for i, f := range waiting {
			if n := count(f); n > most {
				best, most = i, n
			}
		}
		if most < 8 && placed > 2 {
			// Nothing goes on by what three frames place: by two, which are surer than none.
			placed = 2
			s.see(d, placed)
			continue
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
		placed = 3
		s.see(d, placed)
		if since++; since >= max(1, len(d.Views)/3) || len(waiting) == 0 {
			since = 0
			if len(d.Views) >= 4 {
				d.Focal, d.Terms = s.Focal, terms
				if d.Focal == Zooming && len(d.Views) < 6 {
					d.Focal = Fixed
				}
			}
			d.sorted() // a zooming focal length is held by its neighbours
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

// candidates are focal lengths that are tried: of the picture's width, the usual ones first.
var candidates = []float64{0.9, 0.6, 1.4, 2.2, 0.42, 3.5}
