package track

import (
	"image"
	"math"
	"slices"

	"jardin/core/geom"
	"jardin/core/raster"
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
	from    []uint8         // of each crossing, the look that it is compared with
	stiff   float64
	texture []float32 // of each crossing, the share of what varies on the reference frame that is not grain
	grain   float64   // the least variance that frames differed by
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

// A softLook is how the surface looks at home.
type softLook struct {
	tpl     *raster.Plane // without light
	inverse *raster.Plane // one over the contrast that was taken out of it
	mask    []bool        // of its pixels: inside the region, seen, and not left out
}

// Which looks there always are.
const (
	homeLook = iota
	lastLook
	keptLooks
	mostLooks = 8
)

// nodeWeights are the crossings that a column or a row of pixels goes by, and how much.
type nodeWeights struct {
	cell int
	at   [4]int
	w    [4]float32
}

const (
	softLevels   = 4
	softWindow   = 8.0   // sigma in pixels over which light is taken out
	softNoise    = 0.012 // contrast that is grain, of encoded luma
	rounds       = 8
	ahead        = 1.5   // how far each step goes: the data's matrix is one that lies above theirs, so that a whole step stays short
	rests        = 0.02  // pixels by which a field moves that is at rest
	softMargin   = 96    // pixels around where a surface was that are looked at
	agreesAbove  = 0.6   // likeness
	renewsAbove  = 0.5   // and above which, there and beside
	renewsBelow  = 0.85  // likeness to what a place is compared with, under which how it looks is kept
	coarser      = 3     // of the variance from pixel to pixel, what grain has that is coarser than a pixel, at most
	grainier     = 1.5   // of the least that frames differed by, what may be grain
	leastTexture = 0.3   // of what varies, that a place is told from another by
	betterBy     = 0.1   // likeness by which another look has to be better
	jumpReach    = 12    // how far the whole surface may have gone from one frame to the next, pixels of the coarsest level
	softLeast    = 0.003 // of the data, what bending counts where a surface is as supple as can be
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
	seen, err := looked(read, raster.Around(box, softMargin, size))
	if err != nil {
		return nil, err
	}
	for k, p := range raster.Pyramid(seen, softLevels) {
		l := softLevel{}
		l.to, l.from = levelOf(k)
		polygon := l.to.ApplyAll(region)
		rect := raster.Around(geom.Bounds(polygon), 2*softWindow, p.Rect)
		if rect.Dx() < 12 || rect.Dy() < 12 {
			break
		}
		light := lightOf(p)
		home := softLook{tpl: light.without(p).Crop(rect), inverse: light.inverse.Crop(rect)}
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
		place := func(v float64, low, high float64, n int) nodeWeights {
			u := math.Min(math.Max((v-low)/(high-low)*float64(n), 0), float64(n))
			i := min(int(u), n-1)
			w := geom.Keys(u - float64(i))
			out := nodeWeights{cell: i}
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

// A softLight is the mean around each pixel, and one over the contrast around it.
type softLight struct{ mean, inverse *raster.Plane }

func lightOf(p *raster.Plane) *softLight {
	mean := raster.Gaussian(p, softWindow)
	squares := raster.NewPlane(p.Rect)
	for i, v := range p.Pix {
		d := v - mean.Pix[i]
		squares.Pix[i] = d * d
	}
	inverse := raster.Gaussian(squares, softWindow)
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
	s.plane, s.agree = h, nil
	clear(s.grid.Shift)
	if known != nil && known.Columns == s.grid.Columns && known.Rows == s.grid.Rows && len(known.Shift) == len(s.grid.Shift) {
		copy(s.grid.Shift, known.Shift)
		if len(agree) == len(s.grid.Shift) {
			s.agree = slices.Clone(agree)
		}
	}
}

// Moved says that the surface has moved as a whole since the frame that it was found on last, as something else tells.
func (s *Soft) Moved(d geom.Homography) { s.plane = d.Mul(s.plane).Normalised() }

// Keep has frames after be compared with how the surface looks on a frame as well, where it agrees there: the one that was stepped to,
// or begun from. A few frames can be kept; of more, nothing comes.
func (s *Soft) Keep(read FrameReader, covered [][]geom.Point) error {
	if len(s.levels[0].looks) == mostLooks {
		return nil
	}
	v := softState{s.plane, s.grid.Shift}
	rect := s.evenly(raster.Around(geom.Bounds(s.places(v)), softMargin, s.size))
	if rect.Empty() {
		return nil
	}
	seen, err := looked(read, rect)
	if err != nil {
		return err
	}
	frame, mask := raster.Pyramid(seen, softLevels), maskOf(covered, seen.Rect)
	doubted := make([]float32, len(s.grid.Shift))
	copy(doubted, s.agree)
	if s.agree == nil {
		for i := range doubted {
			doubted[i] = 1
		}
	}
	for k := range s.levels {
		l := &s.levels[k]
		if k >= len(frame) {
			l.looks = append(l.looks, softLook{raster.NewPlane(l.tpl.Rect), raster.NewPlane(l.tpl.Rect), make([]bool, len(l.inside))})
			continue
		}
		fresh := s.look(l, frame[k], mask, v)
		s.leaveOut(l, fresh.mask, doubted)
		l.looks = append(l.looks, fresh)
	}
	return nil
}

// evenly returns a rectangle whose corner lies on a pixel of every level.
func (s *Soft) evenly(rect image.Rectangle) image.Rectangle {
	const even = 1 << (softLevels - 1)
	return image.Rect(rect.Min.X&^(even-1), rect.Min.Y&^(even-1), rect.Max.X, rect.Max.Y).Intersect(s.size)
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
	seen, err := looked(read, rect)
	if err != nil {
		return SoftSample{}, err
	}
	frame := raster.Pyramid(seen, softLevels)
	mask := maskOf(covered, seen.Rect)
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
	before := s.from
	if before == nil {
		before = make([]uint8, len(v.shift)) // the home look
	}
	agree, from := s.judge(frame[0], mask, v)
	changed := s.compare(from)
	if changed || slices.ContainsFunc(agree, func(v float32) bool { return v >= 0 && v < agreesAbove }) {
		// What does not look as it did is left out then, and goes as what is around it does.
		s.settle(0, frame, mask, v, agree)
		agree, from = s.judge(frame[0], mask, v)
	}
	out := SoftSample{Bend: s.grid, H: v.h, Agree: agree}
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
	s.compare(from)
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
// where it looks like nothing within reach, or like several places.
func (l *softLevel) elsewhere(now *raster.Plane) (d geom.Point, ok bool) {
	const reach, alike, clearly, around = jumpReach, 0.6, 0.06, 6
	w, high := now.Rect.Dx(), now.Rect.Dy()
	const wide = 2*reach + 1
	var scores [wide * wide]float64
	best, bx, by := 0.0, 0, 0
	for dy := -reach; dy <= reach; dy++ {
		for dx := -reach; dx <= reach; dx++ {
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
				continue
			}
			v := float64(ab) / math.Sqrt(math.Max(float64(aa)*float64(bb), 1e-12))
			scores[(dy+reach)*wide+dx+reach] = v
			if v > best {
				best, bx, by = v, dx, dy
			}
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
func (s *Soft) jumped(l *softLevel, frame, covered *raster.Plane, v softState) (softState, bool) {
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
func (s *Soft) settle(k int, frame []*raster.Plane, covered *raster.Plane, v softState, agree []float32) {
	var light *softLight // it hardly changes while the field comes to rest
	for range rounds {
		if s.round(&s.levels[k], frame[k], covered, v, agree, &light) < rests*s.levels[k].from[0] {
			break
		}
	}
}

// loss is how much the frame differs from what it is compared with.
func (s *Soft) loss(l *softLevel, frame, covered *raster.Plane, v softState) float64 {
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

// compare has each crossing be compared with one of the looks from now on; false where it is so already.
func (s *Soft) compare(from []uint8) bool {
	if slices.Equal(from, s.from) || s.from == nil && !slices.ContainsFunc(from, func(k uint8) bool { return k != homeLook }) {
		return false
	}
	s.from = from
	wide := s.grid.Columns + 1
	for k := range s.levels {
		l := &s.levels[k]
		w := l.tpl.Rect.Dx()
		mixed := softLook{tpl: raster.NewPlane(l.tpl.Rect), inverse: raster.NewPlane(l.tpl.Rect), mask: make([]bool, len(l.mask))}
		raster.Rows(0, l.tpl.Rect.Dy(), func(y int) {
			row := &l.rows[y]
			for x := range w {
				i, c := y*w+x, &l.columns[x]
				if !l.inside[i] {
					continue
				}
				var share [mostLooks]float32
				for b := range 4 {
					for a := range 4 {
						share[from[row.at[b]*wide+c.at[a]]] += row.w[b] * c.w[a]
					}
				}
				var sum, tpl, inverse float32
				for j := range l.looks {
					if v := max(share[j], 0); v > 0 && l.looks[j].mask[i] {
						sum, tpl, inverse = sum+v, tpl+v*l.looks[j].tpl.Pix[i], inverse+v*l.looks[j].inverse.Pix[i]
					}
				}
				if sum > 0.5 {
					mixed.tpl.Pix[i], mixed.inverse.Pix[i], mixed.mask[i] = tpl/sum, inverse/sum, true
				}
			}
		})
		l.softLook = mixed
	}
	return true
}

// look returns how the surface looks at home as it is seen on a frame.
func (s *Soft) look(l *softLevel, frame, covered *raster.Plane, v softState) softLook {
	now, seen := s.carried(l, frame, covered, v)
	light := lightOf(now)
	return softLook{light.without(now), light.inverse, seen}
}

// remember renews how places looked last, where they no longer look quite like what they were compared with. Beside what does not
// agree nothing is believed: what covers the surface does not look like it for long.
func (s *Soft) remember(frame []*raster.Plane, covered *raster.Plane, v softState) {
	wide, high := s.grid.Columns+1, s.grid.Rows+1
	cells := make([]bool, s.grid.Columns*s.grid.Rows)
	some := false
	for y := range s.grid.Rows {
		for x := range s.grid.Columns {
			least, around := float32(1), float32(1)
			for j := max(y-1, 0); j <= min(y+2, high-1); j++ {
				for i := max(x-1, 0); i <= min(x+2, wide-1); i++ {
					a := s.agree[j*wide+i]
					if a < 0 {
						continue
					}
					around = min(around, a)
					if j >= y && j <= y+1 && i >= x && i <= x+1 {
						least = min(least, a)
					}
				}
			}
			cells[y*s.grid.Columns+x] = least < renewsBelow && around >= renewsAbove
			some = some || cells[y*s.grid.Columns+x]
		}
	}
	if !some {
		return
	}
	for k := range min(len(s.levels), len(frame)) {
		l := &s.levels[k]
		fresh, last := s.look(l, frame[k], covered, v), &l.looks[lastLook]
		w := l.tpl.Rect.Dx()
		for i := range last.mask {
			if fresh.mask[i] && cells[l.rows[i/w].cell*s.grid.Columns+l.columns[i%w].cell] {
				last.tpl.Pix[i], last.inverse.Pix[i], last.mask[i] = fresh.tpl.Pix[i], fresh.inverse.Pix[i], true
			}
		}
	}
}

// carried returns the frame as it looks on the reference frame by the plane and a field, over a level's template, and which of
// its pixels are seen.
func (s *Soft) carried(l *softLevel, frame *raster.Plane, covered *raster.Plane, v softState) (*raster.Plane, []bool) {
	h, shift := v.h, v.shift
	out := raster.NewPlane(l.tpl.Rect)
	seen := make([]bool, len(out.Pix))
	w := out.Rect.Dx()
	wide := s.grid.Columns + 1
	toLevel := l.to.Mul(h)
	raster.Rows(0, out.Rect.Dy(), func(y int) {
		row := &l.rows[y]
		line := make([]geom.Point, wide) // the field along this row of pixels
		for a := range 4 {
			from, share := shift[row.at[a]*wide:(row.at[a]+1)*wide], float64(row.w[a])
			for i, d := range from {
				line[i] = line[i].Add(d.Mul(share))
			}
		}
		for x := range w {
			c := &l.columns[x]
			var d geom.Point
			for a := range 4 {
				d = d.Add(line[c.at[a]].Mul(float64(c.w[a])))
			}
			p := l.from.Apply(geom.Pt(float64(out.Rect.Min.X+x)+0.5, float64(out.Rect.Min.Y+y)+0.5)).Add(d)
			q := toLevel.Apply(p)
			out.Pix[y*w+x] = frame.Cubic(q.X, q.Y)
			if !l.inside[y*w+x] || !inside(q, frame.Rect, 1) {
				continue
			}
			if covered != nil {
				if f := h.Apply(p); covered.At(min(max(int(f.X), covered.Rect.Min.X), covered.Rect.Max.X-1),
					min(max(int(f.Y), covered.Rect.Min.Y), covered.Rect.Max.Y-1)) > 0 {
					continue
				}
			}
			seen[y*w+x] = true
		}
	})
	return out, seen
}

// A tensor is what the pixels around a crossing tell of its shift: the normal equations' matrix and right side.
type tensor struct{ xx, xy, yy, x, y float64 }

// round brings the field nearer to where the frame looks like the reference frame, and returns by how much it moved at most,
// pixels of the frame.
func (s *Soft) round(l *softLevel, frame, covered *raster.Plane, v softState, agree []float32, light **softLight) float64 {
	shift := v.shift
	now, seen := s.carried(l, frame, covered, v)
	for i, in := range l.mask {
		seen[i] = seen[i] && in
	}
	if *light == nil {
		*light = lightOf(now)
	}
	now = (*light).without(now)
	s.leaveOut(l, seen, agree)
	w, high := now.Rect.Dx(), now.Rect.Dy()
	scale := 3 * 1.4826 * spread(now, l.tpl, seen)
	inverse := float32(1 / math.Max(scale, 0.2))
	wide := s.grid.Columns + 1
	unit := float32(l.from[0]) // pixels of the frame in one of this level
	var parts [chunks][]tensor
	inChunks(high, func(chunk, low, end int) {
		sums := make([]tensor, len(shift))
		line := make([]tensor, wide)
		for y := max(low, 1); y < min(end, high-1); y++ {
			clear(line)
			for x := 1; x < w-1; x++ {
				i := y*w + x
				if !seen[i] || !seen[i-1] || !seen[i+1] || !seen[i-w] || !seen[i+w] {
					continue
				}
				e := now.Pix[i] - l.tpl.Pix[i]
				u := e * inverse
				wt := 1 / (1 + u*u)
				wt *= wt
				gx := (now.Pix[i+1] - now.Pix[i-1] + l.tpl.Pix[i+1] - l.tpl.Pix[i-1]) / (4 * unit)
				gy := (now.Pix[i+w] - now.Pix[i-w] + l.tpl.Pix[i+w] - l.tpl.Pix[i-w]) / (4 * unit)
				wt /= gx*gx + gy*gy + steep*steep
				t := tensor{float64(wt * gx * gx), float64(wt * gx * gy), float64(wt * gy * gy), float64(-wt * gx * e), float64(-wt * gy * e)}
				c := &l.columns[x]
				for a := range 4 {
					n, signed := &line[c.at[a]], float64(c.w[a])
					size := math.Abs(signed)
					n.xx, n.xy, n.yy = n.xx+size*t.xx, n.xy+size*t.xy, n.yy+size*t.yy
					n.x, n.y = n.x+signed*t.x, n.y+signed*t.y
				}
			}
			row := &l.rows[y]
			for b := range 4 {
				to, signed := sums[row.at[b]*wide:(row.at[b]+1)*wide], float64(row.w[b])
				size := math.Abs(signed)
				for i := range to {
					n, t := &to[i], &line[i]
					n.xx, n.xy, n.yy = n.xx+size*t.xx, n.xy+size*t.xy, n.yy+size*t.yy
					n.x, n.y = n.x+signed*t.x, n.y+signed*t.y
				}
			}
		}
		parts[chunk] = sums
	})
	all := parts[0]
	for _, p := range parts[1:] {
		for i := range all {
			n, t := &all[i], &p[i]
			n.xx, n.xy, n.yy, n.x, n.y = n.xx+t.xx, n.xy+t.xy, n.yy+t.yy, n.x+t.x, n.y+t.y
		}
	}
	usual := l.perCross / 2
	lambda := usual * softLeast * math.Pow(1000, s.stiff) * (0.1 + 2*scale*scale)
	return s.solve(all, lambda, usual, shift)
}

// leaveOut takes pixels out of what is seen around crossings that do not agree, a cell beyond their own: at the edge of what
// covers it, that pulls.
func (s *Soft) leaveOut(l *softLevel, seen []bool, agree []float32) {
	if agree == nil {
		return
	}
	w, wide := l.tpl.Rect.Dx(), s.grid.Columns+1
	out := make([]bool, s.grid.Columns*s.grid.Rows)
	for y := range s.grid.Rows {
		for x := range s.grid.Columns {
			for j := max(y-1, 0); j <= min(y+2, s.grid.Rows); j++ {
				for k := max(x-1, 0); k <= min(x+2, s.grid.Columns); k++ {
					v := agree[j*wide+k]
					out[y*s.grid.Columns+x] = out[y*s.grid.Columns+x] || v >= 0 && v < agreesAbove
				}
			}
		}
	}
	for i := range seen {
		seen[i] = seen[i] && !out[l.rows[i/w].cell*s.grid.Columns+l.columns[i%w].cell]
	}
}

// spread is the median of how far two pictures differ.
func spread(a, b *raster.Plane, seen []bool) float64 {
	var all []float32
	step := max(1, len(a.Pix)/6000)
	for i := 0; i < len(a.Pix); i += step {
		if seen[i] {
			all = append(all, abs(a.Pix[i]-b.Pix[i]))
		}
	}
	if len(all) == 0 {
		return 0
	}
	slices.Sort(all)
	return float64(all[len(all)/2])
}

// solve adds to the field what makes the sum of the data's error and of the bending energy least, by conjugate gradients.
func (s *Soft) solve(data []tensor, lambda, usual float64, shift []geom.Point) (most float64) {
	n := len(shift) // all x first, then all y
	vectors := make([]float64, 7*2*n)
	next := func() []float64 {
		v := vectors[:2*n]
		vectors = vectors[2*n:]
		return v
	}
	v, r, x, p, ap, z, diagonal := next(), next(), next(), next(), next(), next(), next()
	for i, d := range shift {
		v[i], v[n+i] = d.X, d.Y
	}
	damp := 1e-4 * usual
	for i := range data {
		a, c := data[i].xx+damp+20*lambda, data[i].yy+damp+20*lambda
		diagonal[i], diagonal[n+i] = 1/a, 1/c
	}
	both := func(in, out []float64) {
		s.bending(in[:n], out[:n])
		s.bending(in[n:], out[n:])
	}
	both(v, r)
	for i := range data {
		r[i], r[n+i] = data[i].x-lambda*r[i], data[i].y-lambda*r[n+i]
	}
	dot := func(a, b []float64) (sum float64) {
		for i, v := range a {
			sum += v * b[i]
		}
		return sum
	}
	for i := range r {
		z[i] = diagonal[i] * r[i]
	}
	copy(p, z)
	rz := dot(r, z)
	end := 1e-4 * rz
	for range 80 {
		if rz <= end || rz == 0 {
			break
		}
		both(p, ap)
		for i := range data {
			d := &data[i]
			px, py := p[i], p[n+i]
			ap[i] = lambda*ap[i] + (d.xx+damp)*px + d.xy*py
			ap[n+i] = lambda*ap[n+i] + d.xy*px + (d.yy+damp)*py
		}
		alpha := rz / dot(p, ap)
		for i := range x {
			x[i] += alpha * p[i]
			r[i] -= alpha * ap[i]
			z[i] = diagonal[i] * r[i]
		}
		after := dot(r, z)
		beta := after / rz
		rz = after
		for i := range p {
			p[i] = z[i] + beta*p[i]
		}
	}
	moved := make([]float64, n)
	for i := range shift {
		shift[i] = shift[i].Add(geom.Pt(ahead*x[i], ahead*x[n+i]))
		moved[i] = math.Max(math.Abs(x[i]), math.Abs(x[n+i]))
	}
	slices.Sort(moved)
	return moved[n*95/100]
}

// bending is the gradient of half the energy of one part of a field at the crossings: of a thin plate, second differences along
// rows, along columns, and twice the mixed ones; and a little of a membrane, first differences.
func (s *Soft) bending(v, out []float64) {
	wide, high := s.grid.Columns+1, s.grid.Rows+1
	clear(out)
	for y := range high {
		line, to := v[y*wide:(y+1)*wide], out[y*wide:(y+1)*wide]
		for x := 1; x < wide-1; x++ {
			d := line[x-1] + line[x+1] - 2*line[x]
			to[x-1] += d
			to[x] -= 2 * d
			to[x+1] += d
		}
		for x := range wide - 1 {
			d := sloping * (line[x+1] - line[x])
			to[x] -= d
			to[x+1] += d
		}
		if y+1 == high {
			break
		}
		below, toBelow := v[(y+1)*wide:(y+2)*wide], out[(y+1)*wide:(y+2)*wide]
		for x := range wide {
			d := sloping * (below[x] - line[x])
			to[x] -= d
			toBelow[x] += d
		}
		for x := range wide - 1 {
			d := 2 * (line[x] - line[x+1] - below[x] + below[x+1])
			to[x] += d
			to[x+1] -= d
			toBelow[x] -= d
			toBelow[x+1] += d
		}
		if y == 0 {
			continue
		}
		above, toAbove := v[(y-1)*wide:y*wide], out[(y-1)*wide:y*wide]
		for x := range wide {
			d := above[x] + below[x] - 2*line[x]
			toAbove[x] += d
			to[x] -= 2 * d
			toBelow[x] += d
		}
	}
}

// judge returns how alike the frame and the reference frame are around each crossing, light taken out: their correlation, as it
// would be without grain (after Spearman 1904, who corrects correlations for what measuring adds); and where grain is stronger
// than texture, whether they differ by more than grain.
//
// It returns how each agrees with the look that it is compared with best, and which that is: the reference frame wherever it can be,
// else one that was kept, else how it looked last.
func (s *Soft) judge(frame, covered *raster.Plane, v softState) (agree []float32, from []uint8) {
	l := &s.levels[0]
	now, seen := s.carried(l, frame, covered, v)
	light := lightOf(now)
	now = light.without(now)
	from = make([]uint8, len(v.shift))
	of := make([][]float32, len(l.looks))
	for k := range of {
		if k == homeLook || slices.Contains(l.looks[k].mask, true) {
			of[k] = s.alike(l, &l.looks[k], now, light.inverse, seen)
		}
	}
	lasting := slices.Clone(of[homeLook])
	for k := keptLooks; k < len(of); k++ {
		for i, a := range of[k] {
			if a > lasting[i]+betterBy && lasting[i] < renewsBelow {
				lasting[i], from[i] = a, uint8(k)
			}
		}
	}
	agree = slices.Clone(lasting)
	if of[lastLook] != nil {
		for i, a := range of[lastLook] {
			if lasting[i] >= 0 && lasting[i] < agreesAbove && a > lasting[i]+betterBy {
				agree[i], from[i] = a, lastLook
			}
		}
	}
	return s.lesser(agree), from
}

// alike returns how alike the frame, as it is carried home, and a look are around each crossing.
func (s *Soft) alike(l *softLevel, look *softLook, now, inverse *raster.Plane, seen []bool) []float32 {
	both := make([]bool, len(seen))
	for i, in := range look.mask {
		both[i] = in && seen[i]
	}
	grain := grainOf(now, look.tpl, inverse, look.inverse, both)
	s.grain = math.Min(s.grain, grain)
	grain = math.Min(grain, grainier*s.grain) // what differs by more is not grain
	w := now.Rect.Dx()
	wide := s.grid.Columns + 1
	type likeness struct{ ab, aa, bb, grainA, grainB, all, in float64 }
	sums := make([]likeness, wide*(s.grid.Rows+1))
	for i, in := range look.mask {
		if !l.inside[i] || look != &l.looks[lastLook] && !in {
			continue
		}
		c, r := &l.columns[i%w], &l.rows[i/w]
		var p likeness
		p.all = 1
		if both[i] {
			a, b := float64(now.Pix[i]), float64(look.tpl.Pix[i])
			ia, ib := float64(inverse.Pix[i]), float64(look.inverse.Pix[i])
			p = likeness{a * b, a * a, b * b, grain * ia * ia, grain * ib * ib, 1, 1}
		}
		for j := 1; j < 3; j++ { // the four crossings of its cell
			for k := 1; k < 3; k++ {
				n := &sums[r.at[j]*wide+c.at[k]]
				n.ab, n.aa, n.bb, n.grainA, n.grainB = n.ab+p.ab, n.aa+p.aa, n.bb+p.bb, n.grainA+p.grainA, n.grainB+p.grainB
				n.all, n.in = n.all+p.all, n.in+p.in
			}
		}
	}
	out := make([]float32, len(sums))
	if s.texture == nil {
		s.texture = make([]float32, len(sums))
	}
	for i, n := range sums {
		switch {
		case n.all < l.perCross/4:
			out[i] = -1
		case n.in < n.all/2:
			out[i] = 0
		default:
			textureA, textureB := math.Max(n.aa-n.grainA, 0.1*n.aa), math.Max(n.bb-n.grainB, 0.1*n.bb)
			alike := math.Min(math.Max(n.ab/math.Sqrt(math.Max(textureA*textureB, 1e-12)), 0), 1)
			differs := (n.aa + n.bb - 2*n.ab) / math.Max(n.grainA+n.grainB, 1e-12) // of what grain explains
			plain := 1 - math.Min(math.Max((differs-1.5)/2, 0), 1)
			share := math.Max(n.bb-n.grainB, 0) / math.Max(n.bb, 1e-12) // of texture, on the reference frame
			out[i] = float32(share*alike + (1-share)*plain)
			if look == &l.looks[homeLook] {
				s.texture[i] = float32(share)
			}
		}
	}
	return out
}

// fineVariance is what of a picture varies from pixel to pixel as grain does (Immerkær 1996): of fine texture more than of its grain, of
// grain that is coarser than a pixel less.
func fineVariance(p *raster.Plane, rect image.Rectangle) float64 {
	rect = rect.Intersect(p.Rect.Inset(1))
	if rect.Empty() {
		return 0
	}
	w := p.Rect.Dx()
	sum := 0.0
	for y := rect.Min.Y; y < rect.Max.Y; y++ {
		for x := rect.Min.X; x < rect.Max.X; x++ {
			i := (y-p.Rect.Min.Y)*w + x - p.Rect.Min.X
			sum += math.Abs(float64(p.Pix[i-w-1] - 2*p.Pix[i-w] + p.Pix[i-w+1] - 2*p.Pix[i-1] + 4*p.Pix[i] - 2*p.Pix[i+1] +
				p.Pix[i+w-1] - 2*p.Pix[i+w] + p.Pix[i+w+1]))
		}
	}
	sigma := math.Sqrt(math.Pi/2) / 6 * sum / float64(rect.Dx()*rect.Dy())
	if math.IsNaN(sigma) {
		return math.Inf(1) // of a picture that has places that are no numbers, nothing is told
	}
	return sigma * sigma
}

// grainOf is the variance of the grain of each of two pictures that lie over each other, before their light was taken out: from
// the median of how they differ.
func grainOf(a, b, ia, ib *raster.Plane, seen []bool) float64 {
	var all []float32
	step := max(1, len(a.Pix)/6000)
	for i := 0; i < len(a.Pix); i += step {
		if seen[i] {
			d := a.Pix[i] - b.Pix[i]
			all = append(all, d*d/(ia.Pix[i]*ia.Pix[i]+ib.Pix[i]*ib.Pix[i]))
		}
	}
	if len(all) == 0 {
		return 0
	}
	slices.Sort(all)
	const medianOfSquare = 0.455 // of a normal deviate
	return float64(all[len(all)/2]) / medianOfSquare
}

// lesser returns, for each crossing, the lesser of how it agrees and the median of that around it: what looks alike by chance in
// the middle of what does not is no exception.
func (s *Soft) lesser(agree []float32) []float32 {
	wide, high := s.grid.Columns+1, s.grid.Rows+1
	out := slices.Clone(agree)
	for i, v := range agree {
		if v < 0 {
			continue
		}
		var near []float32
		x, y := i%wide, i/wide
		for k := max(y-1, 0); k <= min(y+1, high-1); k++ {
			for j := max(x-1, 0); j <= min(x+1, wide-1); j++ {
				if n := agree[k*wide+j]; n >= 0 {
					near = append(near, n)
				}
			}
		}
		slices.Sort(near)
		out[i] = min(v, near[len(near)/2])
	}
	return out
}
