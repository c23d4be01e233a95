package camera

import (
	"math"
	"sort"
)

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

// typical is the median error, pixels: what moves by itself does not count.
func (d *draft) typical() float64 {
	e := d.Errors()
	return medianOf(len(e), func(i int) float64 { return e[i] })
}

func (d *draft) better(o *draft) bool { return d.typical() < o.typical() }

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
			w := weight(l.e[0]*l.e[0]+l.e[1]*l.e[1], scale)
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

func (d *draft) away(frame int) int {
	least := math.MaxInt
	for _, f := range d.frames {
		least = min(least, abs(f-frame))
	}
	return least
}

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

// A draft is a solution on its way: a bundle over some frames, and what its points are of.
type draft struct {
	Bundle
	frames []int       // of each view
	view   map[int]int // of each frame
	tracks []int       // of each point
	point  map[int]int // of each track
	out    map[[2]int]bool
}
