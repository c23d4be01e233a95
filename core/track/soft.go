package track

import (
	"image"
	"math"
	"slices"

	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/simd"
)

// A Soft follows a surface that bends, as skin and cloth do: a smooth
// field over the region, straight from its reference frame to every frame, so that it does not drift. The field is the shift
// of the crossings of a geom.Lattice on the reference frame, on top of which the plane's homography goes. It is the one under
// which the frame, carried back, looks most like the reference frame, light taken out, and which bends least: the sum of both
// is made least by Gauss and Newton's steps over a pyramid (after Bruhn, Weickert & Schnörr 2005, who join local and global
// methods, and Szeliski & Coughlan 1997, who use such lattices), with the bending energy of a thin plate and Geman and
// McClure's weights, under which what covers the surface drops out; beneath it the field goes on from around.
//
// What it is compared with is the reference frame as long as a place looks like that; else what later frames that were kept look
// like there, carried back; else how the place looked when it was last found, so that it is followed from frame to frame.
type Soft struct {
	size    image.Rectangle
	grid    geom.Lattice    // its box and cells; Shift is what was found last
	plane   geom.Homography // on top of it, what was found last
	agree   []float32       // of what was found last
	levels  []softLevel     // finest first
	share   shares          // what each crossing is compared with
	stiff   float64
	firm    []float64     // of each crossing, what bending counts there
	texture []float32     // of each crossing, the share of what varies on the reference frame that is not grain
	grain   float64       // the least variance that frames differed by
	home    *raster.Plane // the reference frame around the region, as it was read
	smooth  float64       // sigma, in pixels, by which pictures are smoothed
	sharp   bool          // it is as little as the footage's grain allows
	begun   bool          // from where it was known to be: no frame was stepped to since
}

// SoftSettings say how a surface bends.
type SoftSettings struct {
	Stiffness float64 // 0, as supple as cloth, to 1, as firm as skin over bone
	Detail    float64 // cell of the lattice, pixels: what bends within less is not followed
}

// A SoftSample is where a soft surface is on a frame.
type SoftSample struct {
	Bend    geom.Lattice    // on the reference frame, before H
	H       geom.Homography // from the reference frame to the frame: what of the motion does not bend
	Agree   []float32       // of each crossing, by rows: how much what is seen around it is like the reference frame, 0 to 1; -1 out of the region
	Share   float64         // of the region that agrees
	Match   float64         // mean of how all of it does
	Why     string          // why most of what does not agree does not: one of the reasons below, or empty
	Chained float64         // share of what agrees that is followed from frame to frame, as it no longer looks like the reference frame
}

// Why a place of a surface that bends is not found.
const (
	Covered    = "covered" // something else is seen there
	TurnedAway = "turned"  // it is seen with less than 40 % of its width
	TooPlain   = "faint"   // it has less texture than grain
	LeftView   = "left"    // it is out of the picture
)

const leastWidth = 0.4 // of what it has on the reference frame

// Blocks tells by blocks of the region's box what drives the field.
func (s *SoftSample) Blocks() (out [Blocks * Blocks]uint8) {
	var all, good [Blocks * Blocks]int
	for i, v := range s.Agree {
		if v < 0 {
			continue
		}
		x, y := i%(s.Bend.Columns+1), i/(s.Bend.Columns+1)
		k := min(y*Blocks/(s.Bend.Rows+1), Blocks-1)*Blocks + min(x*Blocks/(s.Bend.Columns+1), Blocks-1)
		all[k]++
		if v >= agreesAbove {
			good[k]++
		}
	}
	for k := range out {
		switch {
		case all[k] == 0:
		case 2*good[k] >= all[k]:
			out[k] = Used
		default:
			out[k] = LeftOut
		}
	}
	return out
}

type softLevel struct {
	softLook            // what is compared with now
	looks    []softLook // of the reference frame, of how places looked last, of frames that were kept
	inside   []bool     // of its pixels: in the region
	from     geom.Homography
	to       geom.Homography
	columns  []nodeWeights // of each column of pixels
	rows     []nodeWeights
	perCross float64 // pixels for each crossing
}

// nodeWeights are the crossings that a column or a row of pixels goes by, and how much.
type nodeWeights struct {
	home float64 // where it is on the reference frame
	cell int
	at   [4]int
	w    [4]float32
}

const (
	softLevels   = 4
	softSmooth   = 0.6   // sigma, in pixels, by which pictures are smoothed at most: less than planes' are, as every pixel counts
	softWindow   = 8.0   // sigma in pixels over which light is taken out
	softNoise    = 0.012 // contrast that is grain, of encoded luma
	rounds       = 8
	iterations   = 16    // of conjugate gradients in each
	ahead        = 1.5   // how far each step goes: the data's matrix is one that lies above theirs, so that a whole step stays short
	rests        = 0.02  // pixels by which a field moves that is at rest
	softMargin   = 96    // pixels around where a surface was that are looked at
	agreesAbove  = 0.6   // likeness
	renewsAbove  = 0.5   // and above which, there and beside
	renewsBelow  = 0.85  // likeness to what a place is compared with, under which how it looks is kept
	coarser      = 3     // of the variance from pixel to pixel, what grain has that is coarser than a pixel, at most
	grainier     = 1.5   // of the least that frames differed by, what may be grain
	leastTexture = 0.3   // of what varies, that a place is told from another by
	nearlyThere  = 0.5   // pixels by which a place may lie off by its own pixels
	notThere     = 1.5   // pixels from which on it is not found
	tellsBy      = 1.17  // times what is told of a likeness: 0.53 of it stands at 0.62, from which on a place has always counted as found
	betterBy     = 0.1   // likeness by which another look has to be better
	jumpReach    = 12    // how far the whole surface may have gone from one frame to the next, pixels of the coarsest level
	softLeast    = 0.003 // of the data, what bending counts where a surface is as supple as can be
	firmAround   = 2     // crossings around one that tell how much its bend changes there, sigma
	firmSmooth   = 1.5   // crossings over which its bend is measured, sigma
	firmScale    = 2     // of a change of its bend, pixels, what bending counts the inverse of
	evenWithin   = 1     // crossings over which a bend is even, sigma
	evenShare    = 0.85  // of an even bend, what does not count as bending
	firmChained  = 2     // the most that bending counts where a place is not compared with the home frame
	tornAbove    = 100   // square of what bending counts the inverse of, above which it is torn
	sloping      = 0.1   // what a slope of the field counts beside its bending: what no data hold does not run away
	steep        = 0.6   // slope, of contrast a pixel, from which on a pixel counts in full
)

// NewSoft prepares to follow the surface inside a polygon of the reference frame, but for what lies inside the polygons of
// without. size is that of every frame. The errors are ErrSmall and ErrFlat.
func NewSoft(read FrameReader, size image.Rectangle, region []geom.Point, without [][]geom.Point, set SoftSettings) (*Soft, error) {
	box := geom.Bounds(region)
	cell := math.Min(math.Max(set.Detail, 4), 64)
	cells := func(length float64) int { return min(max(int(math.Ceil(length/cell)), 2), 400) }
	s := &Soft{size: size, plane: geom.Identity, stiff: math.Min(math.Max(set.Stiffness, 0), 1)}
	s.grid = geom.Lattice{Box: box, Columns: cells(box.Max.X - box.Min.X), Rows: cells(box.Max.Y - box.Min.Y)}
	s.grid.Shift = make([]geom.Point, (s.grid.Columns+1)*(s.grid.Rows+1))
	var err error
	if s.home, err = plainly(read, raster.Around(box, softMargin, size)); err != nil {
		return nil, err
	}
	s.smooth = softSmooth
	seen := raster.Gaussian(s.home, s.smooth)
	for k, p := range raster.Pyramid(seen, softLevels) {
		l := softLevel{}
		l.to, l.from = levelOf(k)
		polygon := l.to.ApplyAll(region)
		rect := raster.Around(geom.Bounds(polygon), 2*softWindow, p.Rect)
		if rect.Dx() < 12 || rect.Dy() < 12 {
			break
		}
		home := homeLookOf(p, rect)
		covers := make([][]geom.Point, len(without))
		for i, w := range without {
			covers[i] = l.to.ApplyAll(w)
		}
		home.mask, l.inside = make([]bool, len(home.tpl.Pix)), make([]bool, len(home.tpl.Pix))
		for y := range rect.Dy() {
			all, spans := insides(polygon, nil, float64(rect.Min.Y+y)+0.5), insides(polygon, covers, float64(rect.Min.Y+y)+0.5)
			for x := range rect.Dx() {
				at := float64(rect.Min.X+x) + 0.5
				l.inside[y*rect.Dx()+x], home.mask[y*rect.Dx()+x] = all.has(at), spans.has(at)
			}
		}
		l.softLook = home
		l.looks = []softLook{home, {tpl: raster.NewPlane(rect), inverse: raster.NewPlane(rect), mask: make([]bool, len(home.mask))}}
		place := func(v, low, high float64, n int) nodeWeights {
			u := math.Min(math.Max((v-low)/(high-low)*float64(n), 0), float64(n))
			i := min(int(u), n-1)
			w := geom.Keys(u - float64(i))
			out := nodeWeights{home: v, cell: i}
			for a := range 4 {
				out.at[a], out.w[a] = min(max(i+a-1, 0), n), float32(w[a])
			}
			return out
		}
		for x := range rect.Dx() {
			q := l.from.Apply(geom.Pt(float64(rect.Min.X+x)+0.5, 0))
			l.columns = append(l.columns, place(q.X, box.Min.X, box.Max.X, s.grid.Columns))
		}
		for y := range rect.Dy() {
			q := l.from.Apply(geom.Pt(0, float64(rect.Min.Y+y)+0.5))
			l.rows = append(l.rows, place(q.Y, box.Min.Y, box.Max.Y, s.grid.Rows))
		}
		l.perCross = float64(rect.Dx()*rect.Dy()) / float64(len(s.grid.Shift))
		s.levels = append(s.levels, l)
	}
	if len(s.levels) == 0 {
		return nil, ErrSmall
	}
	s.grain = coarser * fineVariance(seen, s.levels[0].tpl.Rect)
	return s, nil
}

// homeLookOf is how a level of the reference frame looks, but for what counts of it.
func homeLookOf(p *raster.Plane, rect image.Rectangle) softLook {
	light := lightOf(p)
	return softLook{tpl: light.without(p).Crop(rect), inverse: light.inverse.Crop(rect)}
}

// sharpen has pictures be smoothed as little as their grain allows: what smoothing takes, and what it changes where the surface is
// stretched, is told no more. It is decided once, by how the first frame that differs at all differs from the reference frame where
// they lie over each other.
func (s *Soft) sharpen(frame *raster.PlaneSpline, covered *raster.Plane, v softState) (changed bool) {
	const fine, coarse, least = 0.0012, 0.003, 0.3 // standard deviations of grain, codes; pixels
	l := &s.levels[0]
	now, seen := s.carried(l, frame, covered, v)
	for i, in := range l.looks[homeLook].mask {
		seen[i] = seen[i] && in
	}
	light := lightOf(now)
	grain := math.Sqrt(grainOf(light.without(now), l.looks[homeLook].tpl, light.inverse, l.looks[homeLook].inverse, seen))
	if grain < fine/10 {
		return false
	}
	s.sharp = true
	share := min(max((grain-fine)/(coarse-fine), 0), 1)
	if share == 1 {
		return false
	}
	s.smooth = least + share*(softSmooth-least)
	home := raster.Gaussian(s.home, s.smooth)
	for k, p := range raster.Pyramid(home, len(s.levels)) {
		look := &s.levels[k].looks[homeLook]
		fresh := homeLookOf(p, look.tpl.Rect)
		look.tpl, look.inverse = fresh.tpl, fresh.inverse
		s.levels[k].softLook = *look
	}
	s.grain = coarser * fineVariance(home, l.tpl.Rect)
	s.home = nil // it is not asked for again
	return true
}

// A softLight is the mean around each pixel, and one over the contrast around it.
type softLight struct{ mean, inverse *raster.Plane }

func lightOf(p *raster.Plane) *softLight {
	mean := raster.BroadPlane(p, softWindow)
	squares := raster.NewPlane(p.Rect)
	for i, v := range p.Pix {
		d := v - mean.Pix[i]
		squares.Pix[i] = d * d
	}
	inverse := raster.BroadPlane(squares, softWindow)
	for i, v := range inverse.Pix {
		inverse.Pix[i] = float32(1 / math.Sqrt(float64(v)+softNoise*softNoise))
	}
	return &softLight{mean, inverse}
}

// without takes the light out of a picture.
func (l *softLight) without(p *raster.Plane) *raster.Plane {
	out := raster.NewPlane(p.Rect)
	for i, v := range p.Pix {
		out.Pix[i] = (v - l.mean.Pix[i]) * l.inverse.Pix[i]
	}
	return out
}

// Begin has the next step go on from where the surface is known to be: the reference frame's places go by a field, nil for none, and
// then by h; a field of other cells is none. agree is how each of its crossings agreed, nil where that is not known.
func (s *Soft) Begin(h geom.Homography, known *geom.Lattice, agree []float32) {
	s.plane, s.agree, s.begun = h, nil, true
	clear(s.grid.Shift)
	if known != nil && known.Columns == s.grid.Columns && known.Rows == s.grid.Rows && len(known.Shift) == len(s.grid.Shift) {
		copy(s.grid.Shift, known.Shift)
		if len(agree) == len(s.grid.Shift) {
			s.agree = slices.Clone(agree)
			for i, v := range agree {
				if v > 0 {
					s.agree[i] = v / tellsBy
				}
			}
		}
	}
}

// Moved says that the surface has moved as a whole since the frame that it was found on last, as something else tells.
func (s *Soft) Moved(d geom.Homography) { s.plane = d.Mul(s.plane).Normalised() }

// evenly returns a rectangle whose corner lies on a pixel of every level.
func (s *Soft) evenly(rect image.Rectangle) image.Rectangle {
	const even = 1 << (softLevels - 1)
	return image.Rect(rect.Min.X&^(even-1), rect.Min.Y&^(even-1), rect.Max.X, rect.Max.Y).Intersect(s.size)
}

// pyramid is a frame as it is compared, looked up between its pixels by splines: what they smooth depends less on where between the
// pixels a place lies, which draws it to where the frame looks smoothest (Schreier, Braasch & Sutton 2000).
func (s *Soft) pyramid(seen *raster.Plane) (out []*raster.PlaneSpline) {
	for _, p := range raster.Pyramid(raster.Gaussian(seen, s.smooth), softLevels) {
		out = append(out, raster.NewPlaneSpline(p))
	}
	return out
}

// A softState is what is looked for: a field, and the plane's motion on top of it.
type softState struct {
	h     geom.Homography
	shift []geom.Point
}

// Step finds the surface on the next frame, going on from where it was on the frame before. What lies inside the polygons of covered,
// on that frame, does not count. Where it is not found the error says why, and the next step goes on from where it was.
func (s *Soft) Step(read FrameReader, covered [][]geom.Point) (SoftSample, error) {
	v := s.straightened(softState{s.plane, slices.Clone(s.grid.Shift)})
	rect := s.evenly(raster.Around(geom.Bounds(s.places(v)), softMargin, s.size))
	if rect.Empty() {
		return SoftSample{}, ErrLeft
	}
	seen, err := plainly(read, rect)
	if err != nil {
		return SoftSample{}, err
	}
	frame := s.pyramid(seen)
	mask := maskOf(covered, seen.Rect)
	if s.begun && len(s.levels[0].looks) > keptLooks { // it may look as on a frame that was kept, and not at all as at home
		_, _, _, share := s.judge(frame[0], mask, v, nil)
		s.compare(share)
	}
	s.begun = false
	top := min(len(s.levels), len(frame)) - 1
	// Where it jumped as a whole the coarsest pictures tell.
	if jumped, ok := s.jumped(&s.levels[top], frame[top], mask, v); ok {
		stays := softState{v.h, slices.Clone(v.shift)}
		s.settle(top, frame, mask, stays, nil)
		s.settle(top, frame, mask, jumped, nil)
		v = stays
		if s.loss(&s.levels[top], frame[top], mask, jumped) < s.loss(&s.levels[top], frame[top], mask, stays) {
			v = jumped
		}
	} else {
		s.settle(top, frame, mask, v, nil)
	}
	for k := top - 1; k > 0; k-- {
		s.settle(k, frame, mask, v, nil) // of coarse pictures what looks otherwise may be a bend that is not followed yet
	}
	v = s.straightened(v) // what has turned since the frame before bends nothing
	s.settle(0, frame, mask, v, nil)
	if !s.sharp && s.share == nil && s.sharpen(frame[0], mask, v) {
		frame = s.pyramid(seen)
		s.settle(0, frame, mask, v, nil)
	}
	before := s.share
	agree, told, from, share := s.judge(frame[0], mask, v, before)
	changed := s.compare(share)
	if changed || slices.ContainsFunc(agree, func(v float32) bool { return v >= 0 && v < agreesAbove }) {
		// What does not look as it did is left out then, and goes as what is around it does.
		s.settle(0, frame, mask, v, agree)
		agree, told, from, share = s.judge(frame[0], mask, v, before)
	}
	out := SoftSample{Bend: s.grid, H: v.h, Agree: told}
	out.Bend.Shift = v.shift
	all, good, chained := 0, 0, 0
	for i, a := range agree {
		if a < 0 {
			continue
		}
		all++
		out.Match += float64(a)
		if a >= agreesAbove {
			good++
			if from[i] == lastLook {
				chained++
			}
		}
	}
	if all > 0 {
		out.Share, out.Match = float64(good)/float64(all), out.Match/float64(all)
	}
	if out.Share < 0.25 {
		s.compare(before)
		return out, ErrLost
	}
	out.Chained = float64(chained) / float64(good)
	out.Why = s.why(v, agree)
	s.grid.Shift, s.plane, s.agree = v.shift, v.h, agree
	s.remember(frame, mask, v)
	s.compare(share)
	return out, nil
}

// why returns why most of the crossings that do not agree do not.
func (s *Soft) why(v softState, agree []float32) (most string) {
	at := s.places(v)
	wide, high := s.grid.Columns+1, s.grid.Rows+1
	count := map[string]int{}
	for i, a := range agree {
		if a < 0 || a >= agreesAbove {
			continue
		}
		x, y := i%wide, i/wide
		left, right, up, down := max(x-1, 0), min(x+1, wide-1), max(y-1, 0), min(y+1, high-1)
		across := at[y*wide+right].Sub(at[y*wide+left]).Len() / s.grid.Crossing(right, y).Dist(s.grid.Crossing(left, y))
		along := at[down*wide+x].Sub(at[up*wide+x]).Len() / s.grid.Crossing(x, down).Dist(s.grid.Crossing(x, up))
		reason := Covered
		switch {
		case !inside(at[i], s.size, 1):
			reason = LeftView
		case math.Min(across, along) < leastWidth:
			reason = TurnedAway
		case s.texture != nil && s.texture[i] < leastTexture:
			reason = TooPlain
		}
		if count[reason]++; count[reason] > count[most] {
			most = reason
		}
	}
	return most
}

// elsewhere returns by how much all of a level's template lies off in a picture that was carried there, in steps of a pixel; ok is false
// where it hardly has moved, looks like nothing within reach, or like several places.
func (l *softLevel) elsewhere(now *raster.Plane) (d geom.Point, ok bool) {
	const reach, alike, nearby, clearly, around = jumpReach, 0.6, 0.8, 0.06, 6
	w, high := now.Rect.Dx(), now.Rect.Dy()
	const wide = 2*reach + 1
	score := func(dx, dy int) float64 {
		var ab, aa, bb float32
		n := 0
		for y := max(0, -dy); y < min(high, high-dy); y++ {
			for x := max(0, -dx); x < min(w, w-dx); x++ {
				i := y*w + x
				if !l.mask[i] {
					continue
				}
				a, b := l.tpl.Pix[i], now.Pix[i+dy*w+dx]
				ab, aa, bb, n = ab+a*b, aa+a*a, bb+b*b, n+1
			}
		}
		if n < 64 {
			return 0
		}
		return float64(ab) / math.Sqrt(math.Max(float64(aa)*float64(bb), 1e-12))
	}
	if score(0, 0) > nearby {
		return d, false
	}
	var scores [wide * wide]float64
	raster.Rows(0, wide, func(row int) {
		for column := range wide {
			scores[row*wide+column] = score(column-reach, row-reach)
		}
	})
	best, bx, by := 0.0, 0, 0
	for i, v := range scores {
		if v > best {
			best, bx, by = v, i%wide-reach, i/wide-reach
		}
	}
	if best < alike || max(bx, -bx, by, -by) == reach {
		return d, false
	}
	for i, v := range scores { // what is farther away is another place
		dx, dy := i%wide-reach, i/wide-reach
		if max(dx-bx, bx-dx, dy-by, by-dy) > around && v > best-clearly {
			return d, false
		}
	}
	return geom.Pt(float64(bx), float64(by)), true
}

// jumped returns where the surface is if it moved as a whole since the frame before, by more than a picture of the coarsest level can
// tell from its slopes.
func (s *Soft) jumped(l *softLevel, frame *raster.PlaneSpline, covered *raster.Plane, v softState) (softState, bool) {
	now, _ := s.carried(l, frame, covered, v)
	now = lightOf(now).without(now)
	d, ok := l.elsewhere(now)
	if !ok || math.Max(math.Abs(d.X), math.Abs(d.Y)) < 2 {
		return v, false
	}
	out := softState{v.h.Mul(geom.Translation(d.Mul(l.from[0]))).Normalised(), slices.Clone(v.shift)}
	return out, true
}

// straightened returns the same state, what of its field is no bend joined to the plane: over what agreed on the frame before.
func (s *Soft) straightened(v softState) softState {
	var from, to []geom.Point
	for i := range v.shift {
		if s.agree == nil || s.agree[i] >= agreesAbove {
			c := s.grid.Crossing(i%(s.grid.Columns+1), i/(s.grid.Columns+1))
			from, to = append(from, c), append(to, c.Add(v.shift[i]))
		}
	}
	a, err := geom.Fit(geom.Shear, from, to, nil)
	if err != nil {
		return v
	}
	back, ok := a.Inverse()
	if !ok {
		return v
	}
	v.h = v.h.Mul(a).Normalised()
	for i := range v.shift {
		c := s.grid.Crossing(i%(s.grid.Columns+1), i/(s.grid.Columns+1))
		v.shift[i] = back.Apply(c.Add(v.shift[i])).Sub(c)
	}
	return v
}

// places are where the crossings are on the frame.
func (s *Soft) places(v softState) []geom.Point {
	at := make([]geom.Point, 0, len(v.shift))
	for j := range s.grid.Rows + 1 {
		for i := range s.grid.Columns + 1 {
			at = append(at, v.h.Apply(s.grid.Crossing(i, j).Add(v.shift[j*(s.grid.Columns+1)+i])))
		}
	}
	return at
}

// settle brings a state to rest on a level of the pyramid.
func (s *Soft) settle(k int, frame []*raster.PlaneSpline, covered *raster.Plane, v softState, agree []float32) {
	s.firm = s.firmness(v.shift)
	var light *softLight // it hardly changes while the field comes to rest
	for range rounds {
		if s.round(&s.levels[k], frame[k], covered, v, agree, &light) {
			break
		}
	}
}

// loss is how much the frame differs from what it is compared with.
func (s *Soft) loss(l *softLevel, frame *raster.PlaneSpline, covered *raster.Plane, v softState) float64 {
	now, seen := s.carried(l, frame, covered, v)
	now = lightOf(now).without(now)
	sum, n := 0.0, 1e-9
	for i, in := range l.mask {
		if !in {
			continue
		}
		n++
		if !seen[i] {
			sum++
			continue
		}
		u := float64(now.Pix[i] - l.tpl.Pix[i])
		sum += u * u / (1 + u*u)
	}
	return sum / n
}

// carried returns the frame as it looks on the reference frame by the plane and a field, over a level's template, and which of
// its pixels are seen.
func (s *Soft) carried(l *softLevel, frame *raster.PlaneSpline, covered *raster.Plane, v softState) (*raster.Plane, []bool) {
	h, shift := v.h, v.shift
	out := raster.NewPlane(l.tpl.Rect)
	seen := make([]bool, len(out.Pix))
	w := out.Rect.Dx()
	wide := s.grid.Columns + 1
	toLevel, size := l.to.Mul(h), frame.Rect.Size()
	inChunks(out.Rect.Dy(), w, func(_, low, end int) {
		lineX, lineY := make([]float64, wide), make([]float64, wide) // where the field takes a row of pixels, at the crossings' columns
		xs, ys, room := make([]float64, w), make([]float64, w), simd.NewPlaces(w)
		for y := low; y < end; y++ {
			row := &l.rows[y]
			clear(lineX)
			clear(lineY)
			for a := range 4 {
				from, share := shift[row.at[a]*wide:(row.at[a]+1)*wide], float64(row.w[a])
				for i, d := range from {
					lineX[i] += d.X * share
					lineY[i] += d.Y * share
				}
			}
			for x := range w {
				c := &l.columns[x]
				px, py := c.home, row.home
				for a, i := range c.at {
					share := float64(c.w[a])
					px, py = px+lineX[i]*share, py+lineY[i]*share
				}
				xs[x], ys[x] = px, py
			}
			at := *room
			at.Carry((*[9]float64)(&toLevel), xs, ys)
			frame.All(out.Pix[y*w:(y+1)*w], &at)
			for x := range w {
				i := y*w + x
				seen[i] = l.inside[i] && at.Within(x, size.X, size.Y, 0.5) &&
					(covered == nil || !under(covered, h.Apply(geom.Pt(xs[x], ys[x]))))
			}
		}
	})
	return out, seen
}

// under tells whether a place of the frame, or the nearest of a mask, lies under it.
func under(mask *raster.Plane, p geom.Point) bool {
	r := mask.Rect
	return mask.At(min(max(int(p.X), r.Min.X), r.Max.X-1), min(max(int(p.Y), r.Min.Y), r.Max.Y-1)) > 0
}
