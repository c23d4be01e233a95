package track

import (
	"errors"
	"image"
	"math"

	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
)

// An Edge follows a closed outline along the edge that it was drawn on, from frame
// to frame: it moves as what lies inside it moves, and then goes to where inside parts
// best from outside, as a whole contour that stays smooth (an active contour solved by
// dynamic programming: Amini, Weymouth & Jain 1990). Two things tell inside from
// outside: colours, by models of both sides (as GrabCut's: Rother, Kolmogorov & Blake
// 2004, but each place of the contour has its own), and motion: what moves as the inside
// does, or as what lies around it (Cremers & Soatto 2005, "Motion competition"). Where the
// inside still looks as it did where the outline was drawn, it is held against that, so
// that errors do not add up.
//
// Its exported fields are all that it goes on from: read back from where they were kept, and
// told by Return what its home looks like, it goes on as if it had not been interrupted.
type Edge struct {
	Drawn  []geom.Knot     // where it was drawn
	Knots  []geom.Knot     // where it lies on the frame that it has come to
	Sides  []Side          // the models, by sample of the contour
	Shut   []bool          // where colours part there, by sample: elsewhere the outline only closes itself
	Parted float64         // how well colours parted where it was drawn, 0 to 1
	Speed  geom.Point      // pixels a frame
	Inside geom.Homography // how the inside got here from where it was drawn
	Stays  []Stay
	Strays int // for so many frames it was doubted for more than faintness

	home *Plane      // the inside where it was drawn; nil where it has too little texture
	read FrameReader // the frame on which it was drawn
	size image.Rectangle
}

// A Stay is a patch of the inside's rim that is looked for on each frame as it looked where the outline was drawn.
type Stay struct {
	Sample int             // the sample of the drawn contour that it lies next to
	Home   geom.Point      // its middle where the outline was drawn
	At     geom.Point      // on the frame that was come to
	Match  float64         // with its home, 0 where it was not found
	Warp   geom.Homography // of the patch around its middle
}

// A Side is what colours are like inside and outside of one place of a contour.
type Side struct{ In, Out Shade }

// A Shade is a colour and how much it varies, by channel.
type Shade struct{ Mean, Spread [3]float64 }

const (
	edgeApart = 3.0 // pixels between samples of the contour
	edgeBand  = 7   // pixels to each side that a model is made of
	edgeReach = 9   // pixels that the contour may be off after it was moved as a whole
	edgeStep  = 0.5 // pixels between the places that are tried
)

// Reasons why an outline is not followed further.
var (
	ErrUnsure = errors.New(
		"inside and outside look too much alike here; set the outline by hand on this frame, then follow on",
	)
	ErrFolded = errors.New("the outline folds over itself here; set it by hand on this frame, then follow on")
	ErrStrays = errors.New(
		"the outline goes otherwise than what lies inside it, for some frames; set it by hand on the first of them, then follow on",
	)
	ErrSize = errors.New(
		"the outline grows or shrinks otherwise than what lies inside it; set it by hand on this frame, then follow on",
	)
)

// A Doubt says why an outline should be looked at on a frame.
type Doubt string

const (
	Faint Doubt = "faint" // somewhere along it inside and outside hardly part
	Slips Doubt = "slips" // somewhere it goes away from where patches of its inside show it to be
	Leaps Doubt = "leaps" // somewhere it moved suddenly otherwise than what lies inside
)

// An EdgeSample is where an outline was found on a frame, and how well.
type EdgeSample struct {
	Knots []geom.Knot
	Doubt Doubt   // empty where it need not be looked at
	Parts float64 // by how much the faintest stretch of it parts inside from outside, as a logarithm of odds
	Away  float64 // how far its stretches are at most from where the inside shows them to be, pixels
	Leap  float64 // how far its stretches moved at most otherwise than the inside, pixels
}

// From where on an outline is doubted. Held by tests on footage with known truth.
const (
	leastParts = 1.2
	mostAway   = 2.0  // pixels
	mostLeap   = 2.0  // pixels
	mostResize = 1.25 // of its area, against the inside's
	mostStrays = 3    // frames
)

// sample is a place of the contour: which knots it lies between, and across.
type sample struct {
	at     geom.Point
	normal geom.Point // outwards
	knot   int
	t      float64
}

// along samples a closed outline evenly.
func along(knots []geom.Knot) []sample {
	steps := geom.Trace(knots, true, 0.2)
	if len(steps) < 3 {
		return nil
	}
	var twice float64
	for i, s := range steps {
		n := steps[(i+1)%len(steps)].At
		twice += s.At.X*n.Y - n.X*s.At.Y
	}
	outward := 1.0
	if twice < 0 {
		outward = -1
	}
	var out []sample
	rest := 0.0
	for i, s := range steps {
		next := steps[(i+1)%len(steps)]
		way := next.At.Sub(s.At)
		l := way.Len()
		if l == 0 {
			continue
		}
		last := next.T
		if next.Knot != s.Knot {
			last = 1
		}
		for d := rest; d < l; d += edgeApart {
			u := d / l
			out = append(
				out,
				sample{s.At.Lerp(next.At, u), geom.Pt(way.Y/l*outward, -way.X/l*outward), s.Knot, s.T + (last-s.T)*u},
			)
			rest = d + edgeApart - l
		}
		if rest < 0 {
			rest = 0
		}
	}
	// Normals of a smooth contour: at corners those of both sides are mixed.
	smooth := make([]geom.Point, len(out))
	for i := range out {
		var n geom.Point
		for k := -1; k <= 1; k++ {
			n = n.Add(out[(i+k+len(out))%len(out)].normal)
		}
		if l := n.Len(); l > 1e-6 {
			smooth[i] = n.Mul(1 / l)
		} else {
			smooth[i] = out[i].normal
		}
	}
	for i := range out {
		out[i].normal = smooth[i]
	}
	return out
}

// NewEdge begins on a frame on which the outline lies right. The picture holds
// colours as they are seen (square roots of light, say) and covers all that the
// outline may reach; size is that of the whole frame.
func NewEdge(m *raster.Image, knots []geom.Knot, size image.Rectangle) (*Edge, error) {
	samples := along(knots)
	if len(samples) < 12 {
		return nil, errors.New("this outline is too small to follow an edge")
	}
	e := &Edge{Drawn: knots, Knots: knots, Inside: geom.Identity}
	e.Sides = sidesOf(m, samples)
	e.Parted = agreement(m, samples, e.Sides)
	e.Shut = e.shut(m, samples)
	if e.Parted < 0.6 {
		return nil, ErrUnsure
	}
	e.Return(m, size)
	e.Stays = e.stays(samples)
	return e, nil
}

// shut tells where the outline lies on an edge on the frame that it was drawn on: where colours part over a stretch.
func (e *Edge) shut(m *raster.Image, samples []sample) []bool {
	leans := make([]leaning, len(samples))
	for i := range samples {
		for k := range leans[i] {
			if p := samples[i].across(k); within(m, p) {
				leans[i][k] = e.Sides[i].likelihood(colourAt(m, p))
			}
		}
	}
	out := make([]bool, len(samples))
	for i, v := range stretches(partsOf(leans, make([]float64, len(samples)))) {
		out[i] = v >= leastParts
	}
	return out
}

// Return tells an edge that was read back what the frame looks like on which it was drawn.
func (e *Edge) Return(m *raster.Image, size image.Rectangle) {
	e.read, e.size = reading(m), size
	e.home, _ = NewPlane(e.read, size, inner(e.Drawn), nil, geom.Shear)
}

// within reports whether a place lies in the picture.
func within(m *raster.Image, p geom.Point) bool {
	rect := m.Rect
	return p.X > float64(rect.Min.X)+1 && p.Y > float64(rect.Min.Y)+1 && p.X < float64(rect.Max.X)-1 &&
		p.Y < float64(rect.Max.Y)-1
}

func colourAt(m *raster.Image, p geom.Point) (c [3]float64) {
	v := m.Bicubic(p.X, p.Y)
	return [3]float64{float64(v[0]), float64(v[1]), float64(v[2])}
}

// sidesOf makes the models: of each sample and its neighbours.
func sidesOf(m *raster.Image, samples []sample) []Side {
	const around = 5
	n := len(samples)
	type sums struct {
		n    [2]float64
		v, w [2][3]float64
	}
	each := make([]sums, n)
	for i, s := range samples {
		for d := 1.5; d <= edgeBand; d++ {
			for k, sign := range []float64{-1, 1} {
				p := s.at.Add(s.normal.Mul(sign * d))
				if !within(m, p) {
					continue
				}
				c := colourAt(m, p)
				each[i].n[k]++
				for ch := range 3 {
					each[i].v[k][ch] += c[ch]
					each[i].w[k][ch] += c[ch] * c[ch]
				}
			}
		}
	}
	out := make([]Side, n)
	for i := range out {
		for k, into := range []*Shade{&out[i].In, &out[i].Out} {
			var count float64
			var v, w [3]float64
			for d := -around; d <= around; d++ {
				s := &each[(i+d+n)%n]
				count += s.n[k]
				for c := range 3 {
					v[c] += s.v[k][c]
					w[c] += s.w[k][c]
				}
			}
			for c := range 3 {
				if count > 0 {
					into.Mean[c] = v[c] / count
					into.Spread[c] = math.Sqrt(math.Max(w[c]/count-into.Mean[c]*into.Mean[c], 0))
				}
				into.Spread[c] = math.Max(into.Spread[c], 0.02)
			}
		}
	}
	return out
}

// likelihood says whether a colour looks more like the inside, above 0, or the outside.
func (s *Side) likelihood(c [3]float64) float64 {
	var sum float64
	for k := range 3 {
		a, b := (c[k]-s.In.Mean[k])/s.In.Spread[k], (c[k]-s.Out.Mean[k])/s.Out.Spread[k]
		sum += (b*b-a*a)/2 + math.Log(s.Out.Spread[k]/s.In.Spread[k])
	}
	return math.Min(math.Max(sum, -4), 4)
}

// agreement is the share of what lies close to the contour that looks as its side
// should.
func agreement(m *raster.Image, samples []sample, sides []Side) float64 {
	right, all := 0.0, 0.0
	for i, s := range samples {
		for d := 1.5; d <= 5; d++ {
			for _, sign := range []float64{-1, 1} {
				p := s.at.Add(s.normal.Mul(sign * d))
				if !within(m, p) {
					continue
				}
				all++
				if sides[i].likelihood(colourAt(m, p))*sign < 0 {
					right++
				}
			}
		}
	}
	if all == 0 {
		return 0
	}
	return right / all
}

// Next takes the outline to the next frame. What lies on both must have been read around it by as much as it may move.
func (e *Edge) Next(before, now *raster.Image) (found EdgeSample, err error) {
	samples := along(e.Knots)
	if len(samples) < 12 {
		return found, ErrSize
	}
	if len(samples) != len(e.Sides) {
		e.Sides = spreadOver(e.Sides, len(samples))
	}
	moves := e.moves(before, now, samples)
	// What it looked like on the frame before counts as well: looks change slowly, around it above all.
	recent := sidesOf(before, samples)
	sides := make([]Side, len(samples))
	for i := range sides {
		sides[i] = mixed(e.Sides[i], recent[i])
		if moves.sure {
			sides[i].In = e.Sides[i].In
		}
	}
	moved := carried(e.Knots, moves.inside)
	there := along(moved)
	if len(there) < 12 {
		return found, ErrSize
	}
	leans, holds := moves.leaning(now, before, there, spreadOver(sides, len(there))), e.held(there, moves)
	off := contour(there, leans, holds)
	found = graded(leans, holds, off, e.Shut, moves.whole)
	found.Knots = bend(moved, there, off)
	if e.Strays++; found.Doubt != Slips && found.Doubt != Leaps {
		e.Strays = 0
	}
	after := along(found.Knots)
	was, is := geom.Flatten(moved, 0.1), geom.Flatten(found.Knots, 0.1)
	resized := geom.Area(is) / geom.Area(was)
	switch {
	case e.Strays == mostStrays:
		return found, ErrStrays
	case len(after) < 12 || resized > mostResize || resized < 1/mostResize:
		return found, ErrSize
	case folded(is) && !folded(was):
		return found, ErrFolded
	}
	if parted := agreement(now, after, spreadOver(sides, len(after))); parted < 0.82*e.Parted || parted < 0.6 {
		return found, ErrUnsure
	}
	var middle geom.Point
	for i := range found.Knots {
		middle = middle.Add(found.Knots[i].At.Sub(e.Knots[i].At).Mul(1 / float64(len(found.Knots))))
	}
	e.Speed, e.Knots = middle, found.Knots
	e.Sides = spreadOver(e.Sides, len(after))
	return found, nil
}

// partsOf says by how much each sample of a contour, moved across by off, parts inside from outside.
func partsOf(leans []leaning, off []float64) []float64 {
	const near = int(edgeTail / edgeStep)
	out := make([]float64, len(off))
	for i := range out {
		at := int(math.Round((off[i]+edgeReach)/edgeStep)) + near
		for k := range near {
			out[i] += (leans[i][at-1-k] - leans[i][at+1+k]) / float64(2*near)
		}
	}
	return out
}

// half is how many samples to each side make a stretch.
const half = 5

// stretches is the mean over the stretch around each sample.
func stretches(v []float64) []float64 {
	n := len(v)
	out := make([]float64, n)
	for i := range n {
		for d := -half; d <= half; d++ {
			out[i] += v[(i+d+n)%n] / (2*half + 1)
		}
	}
	return out
}

// graded says how well a contour was found: by the worst of its stretches. Where it lay on no edge to begin with, at shut, by its own
// number of samples, nothing is asked. How far it moved by itself counts where it is known how the inside went as a whole.
func graded(leans []leaning, holds []hold, off []float64, shut []bool, whole bool) (s EdgeSample) {
	n := len(off)
	parts, leaps := stretches(partsOf(leans, off)), stretches(off)
	s.Parts = 9
	for i := range n {
		if !shut[i*len(shut)/n] {
			continue
		}
		s.Parts, s.Leap = math.Min(s.Parts, parts[i]), math.Max(s.Leap, math.Abs(leaps[i]))
		var away, known float64
		for d := -half; d <= half; d++ {
			if j := (i + d + n) % n; holds[j].known {
				away += off[j] - holds[j].at
				known++
			}
		}
		if known > half {
			s.Away = math.Max(s.Away, math.Abs(away)/known)
		}
	}
	switch {
	case s.Away > mostAway:
		s.Doubt = Slips
	case s.Leap > mostLeap && whole:
		s.Doubt = Leaps
	case s.Parts < leastParts:
		s.Doubt = Faint
	}
	return s
}

// folded reports whether a polygon crosses itself.
func folded(poly []geom.Point) bool {
	n := len(poly)
	turn := func(a, b, c geom.Point) float64 { return (b.X-a.X)*(c.Y-a.Y) - (b.Y-a.Y)*(c.X-a.X) }
	for i := range n {
		a, b := poly[i], poly[(i+1)%n]
		for j := i + 2; j < n; j++ {
			if i == 0 && j == n-1 {
				continue // neighbours as well
			}
			c, d := poly[j], poly[(j+1)%n]
			if turn(a, b, c)*turn(a, b, d) < 0 && turn(c, d, a)*turn(c, d, b) < 0 {
				return true
			}
		}
	}
	return false
}

// spreadOver gives models to another number of samples.
func spreadOver(sides []Side, n int) []Side {
	out := make([]Side, n)
	for i := range out {
		out[i] = sides[i*len(sides)/n]
	}
	return out
}

func mixed(a, b Side) (out Side) {
	blend := func(a, b Shade) (s Shade) {
		for c := range 3 {
			s.Mean[c] = (a.Mean[c] + b.Mean[c]) / 2
			apart := (a.Mean[c] - b.Mean[c]) / 2
			s.Spread[c] = math.Sqrt((a.Spread[c]*a.Spread[c]+b.Spread[c]*b.Spread[c])/2 + apart*apart)
		}
		return s
	}
	return Side{blend(a.In, b.In), blend(a.Out, b.Out)}
}

// A probe is a place of the inside's rim on the frame before, and its colour.
type probe struct {
	at geom.Point
	c  [3]float64
}

func probes(before *raster.Image, samples []sample) (out []probe) {
	every := max(1, len(samples)/80)
	for i := 0; i < len(samples); i += every {
		for d := 1.0; d <= 13; d += 3 {
			if p := samples[i].at.Sub(samples[i].normal.Mul(d)); within(before, p) {
				out = append(out, probe{p, colourAt(before, p)})
			}
		}
	}
	return out
}

// differs says by how much the rim looks otherwise where a mapping takes it: the mean square, infinite where too little of it
// is seen.
func differs(now *raster.Image, rim []probe, to func(geom.Point) geom.Point) float64 {
	var sum, n float64
	for _, p := range rim {
		q := to(p.at)
		if !within(now, q) {
			continue
		}
		sum += math.Min(3*apart(colourAt(now, q), p.c), 0.02) // what is hidden now does not say more than that
		n++
	}
	if n < 0.4*float64(len(rim)) {
		return math.Inf(1)
	}
	return sum / n
}

// shifted finds by how much the inside's rim moved as a whole: first coarsely around
// where the last motion leads, then by halves.
func (e *Edge) shifted(now *raster.Image, rim []probe) geom.Point {
	cost := func(d geom.Point) float64 {
		// Repeating texture, a knitted sleeve's, fits again a stitch farther on: what asks for
		// a sudden change of speed has to fit better.
		return differs(now, rim, func(p geom.Point) geom.Point { return p.Add(d) }) * (1 + 0.006*d.Sub(e.Speed).Len())
	}
	best, least := geom.Point{}, cost(geom.Point{})
	try := func(d geom.Point) {
		if c := cost(d); c < least {
			best, least = d, c
		}
	}
	const far = 64 // pixels a frame that speed may change by
	for y := -far; y <= far; y += 4 {
		for x := -far; x <= far; x += 4 {
			d := geom.Pt(float64(x), float64(y))
			try(d)
			if e.Speed.Len() > 8 {
				try(e.Speed.Add(d))
			}
		}
	}
	for step := 2.0; step >= 0.25; step /= 2 {
		for range 2 {
			from := best
			for y := -1.0; y <= 1; y++ {
				for x := -1.0; x <= 1; x++ {
					try(from.Add(geom.Pt(x*step, y*step)))
				}
			}
		}
	}
	return best
}

// Places across the contour at which it is asked what is inside: as far as it may be off, and a tail beyond.
const (
	edgeTail   = 5.0 // pixels on both sides of a place by which it is judged
	edgeLabels = int(2*edgeReach/edgeStep) + 1
	edgePlaces = int(2*(edgeReach+edgeTail)/edgeStep) + 1
)

// across returns where the k-th place across a sample is: from inside to outside.
func (s *sample) across(k int) geom.Point {
	return s.at.Add(s.normal.Mul(float64(k)*edgeStep - edgeReach - edgeTail))
}

// A leaning says, for the places across a sample, how much more they look like the inside, above 0, than the outside.
type leaning [edgePlaces]float64

// contour returns by how much each sample lies off the edge, outwards: the smooth
// contour that leaves the fewest pixels on the wrong side, and is not drawn far from where it is held.
func contour(samples []sample, leans []leaning, holds []hold) []float64 {
	const labels = edgeLabels
	n := len(samples)
	cost := make([][labels]float64, n)
	for i := range samples {
		var sums [edgePlaces + 1]float64
		for k, v := range leans[i] {
			sums[k+1] = sums[k] + v
		}
		const near = int(edgeTail / edgeStep)
		for l := range labels {
			at := l + near
			inside, outside := sums[at]-sums[at-near], sums[at+near+1]-sums[at+1]
			d := float64(l)*edgeStep - edgeReach - holds[i].at
			cost[i][l] = (outside-inside)/float64(2*near) + holds[i].weight*math.Min(d*d, 49)
		}
	}
	// Twice round, and the second time counts: so the ends meet (Amini et al. 1990 take
	// the contour as open).
	const stiff = 0.5
	total := 2 * n
	from := make([][labels]int16, total)
	sum := cost[0]
	for k := 1; k < total; k++ {
		i := k % n
		var next [labels]float64
		for l := range labels {
			best, least := l, math.Inf(1)
			for p := max(0, l-4); p <= min(labels-1, l+4); p++ {
				d := float64(l-p) * edgeStep
				if c := sum[p] + stiff*d*d; c < least {
					best, least = p, c
				}
			}
			next[l] = least + cost[i][l]
			from[k][l] = int16(best)
		}
		sum = next
	}
	best := 0
	for l := range labels {
		if sum[l] < sum[best] {
			best = l
		}
	}
	out := make([]float64, n)
	for k := total - 1; k > 0; k-- {
		if k >= n/2 && k < n/2+n {
			out[k%n] = float64(best)*edgeStep - edgeReach
		}
		best = int(from[k][best])
	}
	return out
}

// bend moves an outline's points and tangents so that its samples move across by off: least squares on the control points, to which a curve's places
// belong in a straight way (Bernstein's weights). What the samples do not say, such as
// how points slide along the edge, stays as it was.
func bend(knots []geom.Knot, samples []sample, off []float64) []geom.Knot {
	n := len(knots)
	// Unknowns by knot: the point, then how the tangents change against it.
	size := 6 * n
	a := mat.NewSymDense(size, nil)
	b := mat.NewVecDense(size, nil)
	keep := func(i int, weight float64) { a.SetSym(i, i, a.At(i, i)+weight) }
	for k := range knots {
		for c := range 2 {
			keep(6*k+c, 0.02)
			keep(6*k+2+c, 1.5)
			keep(6*k+4+c, 1.5)
			if knots[k].In == (geom.Point{}) {
				keep(6*k+2+c, 1e6)
			}
			if knots[k].Out == (geom.Point{}) {
				keep(6*k+4+c, 1e6)
			}
		}
	}
	for i, s := range samples {
		t, u := s.t, 1-s.t
		w := [4]float64{u * u * u, 3 * u * u * t, 3 * u * t * t, t * t * t}
		p, q := s.knot, (s.knot+1)%n
		// Of the point before, its outgoing tangent, the incoming one of the next, and that.
		var at []int
		var by []float64
		put := func(i int, v float64) {
			at = append(at, i)
			by = append(by, v)
		}
		for c, k := range []float64{s.normal.X, s.normal.Y} {
			put(6*p+c, (w[0]+w[1])*k)
			put(6*p+4+c, w[1]*k)
			put(6*q+2+c, w[2]*k)
			put(6*q+c, (w[2]+w[3])*k)
		}
		for x := range at {
			for y := range at {
				if at[y] >= at[x] {
					a.SetSym(at[x], at[y], a.At(at[x], at[y])+by[x]*by[y])
				}
			}
			b.SetVec(at[x], b.AtVec(at[x])+by[x]*off[i])
		}
	}
	var x mat.VecDense
	var whole mat.Cholesky
	if !whole.Factorize(a) || whole.SolveVecTo(&x, b) != nil {
		x = *mat.NewVecDense(size, nil) // then it stays as it is
	}
	out := make([]geom.Knot, n)
	for k, v := range knots {
		v.At = v.At.Add(geom.Pt(x.AtVec(6*k), x.AtVec(6*k+1)))
		if v.In != (geom.Point{}) { // a corner stays one
			v.In = v.In.Add(geom.Pt(x.AtVec(6*k+2), x.AtVec(6*k+3)))
		}
		if v.Out != (geom.Point{}) {
			v.Out = v.Out.Add(geom.Pt(x.AtVec(6*k+4), x.AtVec(6*k+5)))
		}
		out[k] = v
	}
	return out
}
