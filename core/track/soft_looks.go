package track

import (
	"image"
	"math"
	"slices"

	"jardin/core/geom"
	"jardin/core/raster"
)

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

	changesOver = 4 // frames over which a place changes from one look to another, as long as both agree
)

// shares are how much each look counts, of what each crossing is compared with: its weights sum to 1; nil for a look that counts
// nowhere. No shares at all mean the reference frame.
type shares [][]float32

// toward returns the shares of the next frame, on which each crossing is compared best with a look: what it was compared with before
// goes over into that, so that the surface does not jump by what the looks differ; at once where that no longer agrees. of is how each
// crossing agrees with each look.
func (h shares) toward(from []uint8, of [][]float32) shares {
	out := make(shares, len(of))
	for i, best := range from {
		rest := float32(1)
		for k, w := range h {
			if w == nil || k == int(best) || of[k] == nil || of[k][i] < agreesAbove {
				continue
			}
			if v := w[i] - 1.0/changesOver; v > 0 {
				out.set(k, i, len(from), v)
				rest -= v
			}
		}
		if h == nil && best != homeLook && of[homeLook][i] >= agreesAbove {
			out.set(homeLook, i, len(from), 1-1.0/changesOver)
			rest = 1.0 / changesOver
		}
		out.set(int(best), i, len(from), rest)
	}
	if !slices.ContainsFunc(out[homeLook+1:], func(w []float32) bool { return w != nil }) {
		return nil
	}
	return out
}

func (h shares) set(look, crossing, of int, v float32) {
	if h[look] == nil {
		h[look] = make([]float32, of)
	}
	h[look][crossing] = v
}

// home returns how much the reference frame counts at a crossing.
func (h shares) home(crossing int) float32 {
	switch {
	case h == nil:
		return 1
	case h[homeLook] == nil:
		return 0
	}
	return h[homeLook][crossing]
}

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
	seen, err := plainly(read, rect)
	if err != nil {
		return err
	}
	frame, mask := s.pyramid(seen), maskOf(covered, seen.Rect)
	if !s.sharp && s.share == nil && s.sharpen(frame[0], mask, v) { // gone on from here, as it would have been on the way here
		frame = s.pyramid(seen)
	}
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

// compare has each crossing be compared with its share of the looks from now on; false where it is so already.
func (s *Soft) compare(share shares) bool {
	if slices.EqualFunc(share, s.share, slices.Equal[[]float32]) {
		return false
	}
	s.share = share
	wide := s.grid.Columns + 1
	for k := range s.levels {
		l := &s.levels[k]
		w := l.tpl.Rect.Dx()
		if share == nil {
			l.softLook = l.looks[homeLook]
			continue
		}
		mixed := softLook{tpl: raster.NewPlane(l.tpl.Rect), inverse: raster.NewPlane(l.tpl.Rect), mask: make([]bool, len(l.mask))}
		raster.Rows(0, l.tpl.Rect.Dy(), func(y int) {
			row := &l.rows[y]
			for x := range w {
				i, c := y*w+x, &l.columns[x]
				if !l.inside[i] {
					continue
				}
				var sum, tpl, inverse float32
				for j, of := range share {
					if of == nil || !l.looks[j].mask[i] {
						continue
					}
					var v float32
					for b := range 4 {
						for a := range 4 {
							v += of[row.at[b]*wide+c.at[a]] * row.w[b] * c.w[a]
						}
					}
					if v > 0 {
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
func (s *Soft) look(l *softLevel, frame *raster.PlaneSpline, covered *raster.Plane, v softState) softLook {
	now, seen := s.carried(l, frame, covered, v)
	light := lightOf(now)
	return softLook{light.without(now), light.inverse, seen}
}

// remember renews how places looked last, where they no longer look quite like what they were compared with. Beside what does not
// agree nothing is believed: what covers the surface does not look like it for long.
func (s *Soft) remember(frame []*raster.PlaneSpline, covered *raster.Plane, v softState) {
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

// judge returns how alike the frame and the reference frame are around each crossing, light taken out: their correlation, as it
// would be without grain (after Spearman 1904, who corrects correlations for what measuring adds); and where grain is stronger
// than texture, whether they differ by more than grain.
//
// It returns how each agrees with the look that it is compared with best, and which that is: the reference frame wherever it can be,
// else one that was kept, else how it looked last. What is told of that leaves out what its own pixels say lies elsewhere. Going on from
// shares it returns those of this frame.
func (s *Soft) judge(frame *raster.PlaneSpline, covered *raster.Plane, v softState, before shares) (agree, told []float32, from []uint8, share shares) {
	l := &s.levels[0]
	now, seen := s.carried(l, frame, covered, v)
	light := lightOf(now)
	now = light.without(now)
	from = make([]uint8, len(v.shift))
	of, there := make([][]float32, len(l.looks)), make([][]float32, len(l.looks))
	for k := range of {
		if k == homeLook || slices.Contains(l.looks[k].mask, true) {
			of[k], there[k] = s.alike(l, &l.looks[k], now, light.inverse, seen)
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
	agree = s.lesser(agree)
	told = slices.Clone(agree)
	for i, k := range from {
		if told[i] > 0 {
			told[i] = min(told[i]*there[k][i]*tellsBy, 1)
		}
	}
	return agree, told, from, before.toward(from, of)
}

// A likeness is what the pixels around a crossing tell of how alike two pictures are there.
type likeness struct {
	ab, aa, bb, grainA, grainB, all, in float64
	forth, back                         shifts
}

// shifts are the normal equations of how far a place lies beside where it was taken to be, as one picture's slopes tell (Lucas & Kanade
// 1981).
type shifts struct{ xx, xy, yy, x, y float64 }

func (n *likeness) add(p *likeness) {
	n.ab, n.aa, n.bb, n.grainA, n.grainB = n.ab+p.ab, n.aa+p.aa, n.bb+p.bb, n.grainA+p.grainA, n.grainB+p.grainB
	n.all, n.in = n.all+p.all, n.in+p.in
	n.forth.add(&p.forth)
	n.back.add(&p.back)
}

func (n *shifts) add(p *shifts) {
	n.xx, n.xy, n.yy, n.x, n.y = n.xx+p.xx, n.xy+p.xy, n.yy+p.yy, n.x+p.x, n.y+p.y
}

// slopes adds a pixel of a picture that differs by e from the other.
func (n *shifts) slopes(pix []float32, i, w int, e float64) {
	gx, gy := float64(pix[i+1]-pix[i-1])/2, float64(pix[i+w]-pix[i-w])/2
	n.xx, n.xy, n.yy, n.x, n.y = n.xx+gx*gx, n.xy+gx*gy, n.yy+gy*gy, n.x+gx*e, n.y+gy*e
}

// shift is how far that is, pixels; grain is what of the slopes' squares may be grain, and holds it back.
func (n *shifts) shift(grain float64) geom.Point {
	xx, yy := n.xx+grain, n.yy+grain
	det := math.Max(xx*yy-n.xy*n.xy, 1e-12)
	return geom.Pt((yy*n.x-n.xy*n.y)/det, (xx*n.y-n.xy*n.x)/det)
}

// alike returns how alike the frame, as it is carried home, and a look are around each crossing, and whether it is there, from 0 to 1, as
// its own pixels say.
func (s *Soft) alike(l *softLevel, look *softLook, now, inverse *raster.Plane, seen []bool) (out, there []float32) {
	both := make([]bool, len(seen))
	for i, in := range look.mask {
		both[i] = in && seen[i]
	}
	grain := grainOf(now, look.tpl, inverse, look.inverse, both)
	s.grain = math.Min(s.grain, grain)
	grain = math.Min(grain, grainier*s.grain) // what differs by more is not grain
	w := now.Rect.Dx()
	wide := s.grid.Columns + 1
	var parts [chunks][]likeness
	columns, rows := s.grid.Columns, s.grid.Rows
	inChunks(now.Rect.Dy(), w, func(chunk, low, end int) {
		cells := make([]likeness, columns*rows)
		for i := low * w; i < end*w; i++ {
			if !l.inside[i] || look != &l.looks[lastLook] && !look.mask[i] {
				continue
			}
			n := &cells[l.rows[i/w].cell*columns+l.columns[i%w].cell]
			n.all++
			if !both[i] {
				continue
			}
			a, b := float64(now.Pix[i]), float64(look.tpl.Pix[i])
			ia, ib := float64(inverse.Pix[i]), float64(look.inverse.Pix[i])
			n.ab, n.aa, n.bb, n.grainA, n.grainB, n.in = n.ab+a*b, n.aa+a*a, n.bb+b*b, n.grainA+grain*ia*ia, n.grainB+grain*ib*ib, n.in+1
			if i >= w && i+w < len(both) && both[i-1] && both[i+1] && both[i-w] && both[i+w] {
				n.forth.slopes(now.Pix, i, w, b-a)
				n.back.slopes(look.tpl.Pix, i, w, a-b)
			}
		}
		parts[chunk] = cells
	})
	cells := parts[0]
	for _, p := range parts[1:] {
		for i := range cells {
			cells[i].add(&p[i])
		}
	}
	sums := make([]likeness, wide*(rows+1)) // of each crossing's four cells
	for y := range rows {
		for x := range columns {
			for k := range 4 {
				sums[(y+k/2)*wide+x+k%2].add(&cells[y*columns+x])
			}
		}
	}
	out, there = make([]float32, len(sums)), make([]float32, len(sums))
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
			// Where the pixels say, forth and back, that the place lies elsewhere, it does, however alike.
			off := math.Min(n.forth.shift(n.grainA).Len(), n.back.shift(n.grainB).Len())
			there[i] = float32(1 - math.Min(math.Max((off-nearlyThere)/(notThere-nearlyThere), 0), 1))
			out[i] = float32(share*alike + (1-share)*plain)
			if look == &l.looks[homeLook] {
				s.texture[i] = float32(share)
			}
		}
	}
	return out, there
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
