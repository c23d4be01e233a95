package track

import (
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A Plane follows one flat surface from its reference frame. Each step aligns all
// pixels of the region straight to the reference frame, so that errors do not
// add up over frames. Where the surface did not go on as it went, its features
// are carried on from the frame before by pyramidal Lucas–Kanade matching (Lucas
// & Kanade 1981; Bouguet 2000) with a robust fit, and the alignment starts from
// there. Where the surface no longer looks as it does on the reference frame, it
// is aligned to the last frame on which it was found instead; the sample says so.
// What covered parts of it counts on no frame after that until it agrees again. Where
// the surface is lost, covered or out of the picture, it is looked for on the frames
// that follow: where it would have gone, and anywhere.
//
// Frames are planes of encoded luma (not linear light): there the plate's noise
// is about equally strong in dark and bright, and a change of light is still a
// gain.
type Plane struct {
	// MinMatch is the normalised correlation with the reference frame under
	// which the surface counts as lost; MinAgree the share of the region that
	// has to agree. NewPlane sets 0.5 and 0.4.
	MinMatch, MinAgree float64

	size     image.Rectangle // of every frame
	motion   geom.Motion
	region   []geom.Point
	features []geom.Point // on the reference frame
	align    *aligner
	even     *aligner        // the same where light is uneven; nil where it cannot be
	plainer  []*aligner      // by motions with fewer parameters, where they were needed
	home     []*raster.Plane // the reference frame, smoothed, as a pyramid
	without  [][]geom.Point

	last Sample          // on the frame before, or where it was found last
	prev []*raster.Plane // that frame, smoothed, as a pyramid
	move geom.Homography // from the frame before that to it
	away int             // on so many frames since it was not found

	usual float64 // its match with the reference frame while nothing covers it
	sure  found   // where it certainly was

	smearing trial // the reference frame as smeared by the motion

	softly trial            // the same as softer
	sharp  float64          // its match where it looks as it does on the reference frame
	soft   int              // how much softer it was on the frame before, in halves of a pixel
	softer map[int]*aligner // the reference frame made softer by so much
}

// A found is where a surface was on a frame, so many steps ago, and how it moved to there.
type found struct {
	sample Sample
	move   geom.Homography
	ago    int
}

// A FrameReader returns the part r of a frame as encoded luma. What it returns may cover
// more, or less where the frame ends.
type FrameReader func(rect image.Rectangle) (*raster.Plane, error)

// States of the blocks of a region's box.
const (
	Outside uint8 = iota // no pixels of the region are seen there
	Used                 // they drive the track
	LeftOut              // they move by themselves, or are covered
)

// A Sample is where the surface is on a frame, and how well that is known.
type Sample struct {
	H        geom.Homography // from the reference frame to this one
	Match    float64         // normalised correlation with the reference frame, 0 to 1
	Agree    float64         // share of what is seen of the region that agrees, 0 to 1
	Residual float64         // by how much its blocks would still move by themselves, RMS, pixels
	// Deviation is the standard deviation of where the corners of the region's box are, pixels, as grain and texture let it
	// be known; what moves otherwise than the surface is not in it.
	Deviation float64
	evidence  evidence
	Blocks    [Blocks * Blocks]uint8 // what drives the track, by rows
	Chained   bool                   // aligned to the last frame on which it was found, not to the reference frame
	Moved     int                    // how often the region has moved on since the reference frame, see Surface
}

// Sure reports whether a sample is beyond doubt: most of what is seen agrees with the reference frame, and its parts do
// not pull.
func (s *Sample) Sure() bool { return !s.Chained && s.Agree > 0.6 && s.Residual < 0.35 }

// From where on a sample is not trusted: how much its parts slide, how little of it agrees, how little it looks like the
// reference frame, and how little its place is known. Held by tests on footage with known truth.
const (
	MostResidual  = 0.5  // pixels
	LeastAgree    = 0.55 // share
	LeastMatch    = 0.7  // correlation
	MostDeviation = 0.4  // pixels
)

// Trusted reports whether a sample need not be looked at.
func (s *Sample) Trusted() bool {
	return !s.Chained && s.Residual <= MostResidual && s.Agree >= LeastAgree && s.Match >= LeastMatch && s.Deviation <= MostDeviation
}

// worth tells the better of two samples of a frame. A compromise between a surface and what covers it agrees with more
// than the surface alone, but its parts pull away from each other.
func (s *Sample) worth() float64 {
	const pull = 0.3 // pixels
	return s.Match * s.Agree / (1 + s.Residual*s.Residual/(pull*pull))
}

const (
	presmooth   = 0.8 // sigma in pixels; makes gradients meaningful in grain
	maxLevels   = 5
	maxFeatures = 120
	fitTol      = 1.5 // pixels within which features agree
	nearLevel   = 1   // a surface that goes on as it went is found from here downwards
)

// NewPlane prepares to follow the surface inside a polygon of the reference
// frame, leaving out what lies inside the polygons of without, with the given
// motion. size is that of every frame.
func NewPlane(
	read FrameReader,
	size image.Rectangle,
	region []geom.Point,
	without [][]geom.Point,
	motion geom.Motion,
) (*Plane, error) {
	t := &Plane{
		MinMatch: 0.5, MinAgree: 0.4,
		size: size, motion: motion, region: region, move: geom.Identity, usual: 1,
		last: Sample{H: geom.Identity, Match: 1, Agree: 1},
	}
	if raster.Around(geom.Bounds(region), 0, size).Empty() {
		return nil, ErrSmall
	}
	var err error
	if t.prev, err = t.pyramid(read, geom.Identity); err != nil {
		return nil, err
	}
	if t.align, err = newAligner(t.prev, region, without, motion); err != nil {
		return nil, err
	}
	t.sure = found{t.last, geom.Identity, 0}
	t.even, _ = newAligner(evened(t.prev), region, without, motion)
	t.home, t.without = t.prev, without
	for _, p := range corners(t.prev[0], region, maxFeatures) {
		if !covers(without, p) {
			t.features = append(t.features, p)
		}
	}
	if len(t.features) < max(motion.Points(), 4) {
		return nil, ErrFlat
	}
	return t, nil
}

// plain reports whether what the region shows on its own frame looks like grain alone: without its slow change,
// pixels a few apart have nothing to do with each other. Fine texture may look so as well, but that is found again:
// it is asked only of what is not.
func (t *Plane) plain() bool {
	m := t.home[0]
	slow := raster.Gaussian(m, 12)
	const far = 4
	var n, own, across, down float64
	for y := m.Rect.Min.Y; y < m.Rect.Max.Y-far; y++ {
		for x := m.Rect.Min.X; x < m.Rect.Max.X-far; x++ {
			if p := geom.Pt(float64(x)+0.5, float64(y)+0.5); !geom.Inside(t.region, p) || covers(t.without, p) {
				continue
			}
			v := float64(m.At(x, y) - slow.At(x, y))
			n, own = n+1, own+v*v
			across += v * float64(m.At(x+far, y)-slow.At(x+far, y))
			down += v * float64(m.At(x, y+far)-slow.At(x, y+far))
		}
	}
	return n > 0 && math.Max(math.Abs(across), math.Abs(down)) < 0.1*own
}

func covers(polygons [][]geom.Point, p geom.Point) bool {
	for _, polygon := range polygons {
		if geom.Inside(polygon, p) {
			return true
		}
	}
	return false
}

// pyramid returns the part of a frame around the region, placed by guess, ready
// for tracking. Work grows with the region, not with the frame.
func (t *Plane) pyramid(read FrameReader, guess geom.Homography) ([]*raster.Plane, error) {
	box := geom.Bounds(guess.ApplyAll(t.region))
	margin := math.Max(48, 0.2*math.Max(box.Max.X-box.Min.X, box.Max.Y-box.Min.Y))
	rect := raster.Around(box, margin, t.size)
	if !guess.Finite() || rect.Empty() {
		return nil, ErrLeft
	}
	// Levels of a pyramid share their grid only if it begins at a multiple of their step.
	const step = 1 << (maxLevels - 1)
	rect = image.Rect(rect.Min.X&^(step-1), rect.Min.Y&^(step-1), rect.Max.X, rect.Max.Y)
	seen, err := read(rect)
	if err != nil {
		return nil, err
	}
	if seen.Rect.Empty() {
		return nil, ErrLeft
	}
	clean, err := numbers(seen)
	if err != nil {
		return nil, err
	}
	return raster.Pyramid(raster.Gaussian(clean, presmooth), maxLevels), nil
}

// Step follows the surface to the next frame, in whichever direction frames
// come. What lies inside the polygons of covered, on that frame, does not count.
// When the surface is lost the error says why; the next step looks for it on the
// frame after.
func (t *Plane) Step(read FrameReader, covered [][]geom.Point) (Sample, error) {
	guess := t.last.H
	for range t.away + 1 {
		guess = t.move.Mul(guess) // it goes on as it went
	}
	s, next, err := t.step(read, covered, guess)
	if err == nil && t.away > 0 {
		err = t.certain(s)
	}
	if err != nil && t.away > 0 {
		s, next, err = t.find(read, covered)
	}
	if err == ErrLost && t.sure.sample.H == geom.Identity && t.plain() {
		err = ErrPlain
	}
	if err != nil {
		if t.away == 0 { // what led to the loss may have gone astray before
			t.last, t.move, t.away = t.sure.sample, t.sure.move, t.sure.ago
		}
		t.away++
		return s, err
	}
	if back, ok := t.last.H.Inverse(); ok && t.away == 0 {
		t.move = s.H.Mul(back)
	} else {
		t.move = geom.Identity
	}
	t.last, t.prev, t.away = s, next, 0
	t.sure.ago++
	if s.Sure() {
		t.sure = found{s, t.move, 0}
	}
	if !s.Chained && s.Agree > 0.8 {
		t.usual += 0.2 * (s.Match - t.usual)
	}
	return s, nil
}

// Near looks for the surface on a frame where somebody says that it is, to within some pixels: from there, and from coarser
// pictures. It must be certain, and no farther than an eighth of the region's size from there; else the error is ErrLost. What is
// followed afterwards does not go on from it.
func (t *Plane) Near(read FrameReader, covered [][]geom.Point, guess geom.Homography) (Sample, error) {
	next, err := t.pyramid(read, guess)
	if err != nil {
		return Sample{}, err
	}
	mask := maskOf(covered, next[0].Rect)
	best, failed := Sample{}, ErrLost
	for _, from := range []int{nearLevel, maxLevels} {
		s, err := t.align.run(next, guess, from, mask, nil)
		if err == nil && Sane(s.H, t.region, t.size) == nil && s.Sure() && s.Match > 0.7 && s.worth() > best.worth() {
			best, failed = s, nil
		}
	}
	if failed != nil {
		return best, failed
	}
	box := geom.Bounds(guess.ApplyAll(t.region))
	most := math.Hypot(box.Max.X-box.Min.X, box.Max.Y-box.Min.Y) / 8
	for _, p := range t.region {
		if best.H.Apply(p).Dist(guess.Apply(p)) > most {
			return best, ErrLost
		}
	}
	return best, nil
}

// takenUp says that the surface is where the last sample has it, beyond doubt.
func (t *Plane) takenUp() { t.sure = found{t.last, t.move, 0} }

// step looks for the surface around a guess.
func (t *Plane) step(read FrameReader, covered [][]geom.Point, guess geom.Homography) (Sample, []*raster.Plane, error) {
	next, err := t.pyramid(read, guess)
	if err != nil {
		return Sample{}, nil, err
	}
	mask := maskOf(covered, next[0].Rect)
	s, err := t.align.run(next, guess, nearLevel, mask, &t.last.Blocks)
	if err == nil {
		err = t.accept(s)
	}
	if err != nil || s.Match < t.last.Match-0.04 || s.Agree < t.last.Agree-0.12 || s.Residual > t.last.Residual+0.5 {
		if again, e := t.search(next, guess, mask); e == nil && (err != nil || again.worth() > s.worth()) {
			s, err = again, nil
		}
	}
	if err == nil && !s.Chained && s.Residual > unevenly && t.even != nil {
		if again, e := t.even.run(evened(next[:min(2, len(next))]), s.H, 0, mask, &t.last.Blocks); e == nil &&
			again.Residual < 0.7*s.Residual && again.Agree > 0.8*s.Agree && Sane(again.H, t.region, t.size) == nil {
			s.H, s.Residual, s.Agree, s.Blocks = again.H, again.Residual, again.Agree, again.Blocks
			s.Deviation, s.evidence, s.Match = again.Deviation, again.evidence, math.Max(s.Match, again.Match)
		}
	}
	if err == nil && !s.Chained && t.away == 0 && s.Match < t.usual-0.015 {
		s = t.smeared(next, s, mask)
	}
	if err == nil && !s.Chained {
		s = t.softened(next, s, guess, mask)
	}
	if err == nil && !s.Chained && s.Deviation > unsure {
		s = t.reduced(next, s, mask)
	}
	return s, next, err
}

// unsure is from which deviation on a motion with fewer parameters is tried, in pixels: weak texture does not support all.
const unsure = 0.25

// reduced returns the sample by the motion with as many parameters as what is seen supports: with more of them it follows
// the grain.
func (t *Plane) reduced(next []*raster.Plane, s Sample, mask *raster.Plane) Sample {
	if t.plainer == nil {
		for _, m := range []geom.Motion{geom.Shear, geom.Similarity, geom.Position} {
			if parameters(m) >= parameters(t.motion) {
				continue
			}
			if a, err := newAligner(t.home, t.region, t.without, m); err == nil {
				t.plainer = append(t.plainer, a)
			}
		}
	}
	corners := geom.Bounds(t.region).Corners()
	best := s
	for _, a := range t.plainer {
		guess, err := geom.Fit(a.motion, corners[:], best.H.ApplyAll(corners[:]), nil)
		if err != nil {
			break
		}
		again, err := a.run(next, guess, nearLevel, mask, &t.last.Blocks)
		if err != nil || t.accept(again) != nil || again.evidence.cost() > best.evidence.cost() {
			break // with still fewer it does not get better
		}
		// Whether what is left out is there is not known: it counts by half.
		again.Deviation = (again.Deviation + s.Deviation) / 2
		best = again
	}
	return best
}

// unevenly is from which residual on it is tried whether light that changes from place to place, as of lamps that
// flicker before a rolling shutter, pulls parts of the surface: a gain, an offset and a slope do not describe it.
const unevenly = 0.1

// evened takes light out that changes smoothly from place to place: what is left is each pixel's share of the mean
// around it.
func evened(pyramid []*raster.Plane) []*raster.Plane {
	const around = 10 // pixels
	out := make([]*raster.Plane, len(pyramid))
	for k, p := range pyramid {
		low := raster.Gaussian(p, around/math.Pow(2, float64(k)))
		m := raster.NewPlane(p.Rect)
		for i, v := range p.Pix {
			m.Pix[i] = 0.5 * v / max(low.Pix[i], 0.02)
		}
		out[k] = m
	}
	return out
}

// certain says whether a surface that was lost is found again: not anything that looks a little like it.
func (t *Plane) certain(s Sample) error {
	if s.Chained || s.Match < 0.85 || s.Agree < 0.5 || s.Residual > 0.35 || !t.alike(s.H, 1.5) {
		return ErrLost
	}
	return nil
}

// search finds a surface that did not go on as it went: from its features, then
// from the coarsest pictures, and at last by its looks on the frame before.
func (t *Plane) search(next []*raster.Plane, guess geom.Homography, mask *raster.Plane) (Sample, error) {
	carried, err := guess, ErrLost
	if t.away == 0 { // its features are known on the frame before, and nowhere else
		carried, err = t.predict(next, guess)
	}
	best, failed := Sample{}, err
	try := func(guess geom.Homography, from int) {
		s, err := t.align.run(next, guess, from, mask, &t.last.Blocks)
		if err == nil {
			err = t.accept(s)
		}
		if err != nil {
			failed = err
		} else if s.worth() > best.worth() {
			best = s
		}
	}
	if err == nil {
		try(carried, nearLevel)
	}
	try(guess, maxLevels)
	if best.Match > 0 {
		return best, nil
	}
	if err != nil {
		return best, failed
	}
	if t.beingCovered() {
		return best, failed // it is found by its looks at home, or not at all
	}
	// The features agree, but the surface looks different now: all of it but what covered it.
	here, e := newAligner(t.prev, t.last.H.ApplyAll(t.region), t.coveredBefore(), t.motion)
	back, ok := t.last.H.Inverse()
	if e != nil || !ok {
		return best, failed
	}
	s, e := here.run(next, carried.Mul(back), nearLevel, mask, nil)
	if e != nil {
		return best, failed
	}
	s.H, s.Chained = s.H.Mul(t.last.H).Normalised(), true
	if e := t.accept(s); e != nil {
		return best, e
	}
	return s, nil
}

// alike reports whether a transform shows the surface about as large as it was last: by no more than a factor.
func (t *Plane) alike(h geom.Homography, factor float64) bool {
	ratio := geom.Area(h.ApplyAll(t.region)) / math.Max(geom.Area(t.last.H.ApplyAll(t.region)), 1e-9)
	return ratio > 1/(factor*factor) && ratio < factor*factor
}

// beingCovered reports whether something covers the surface: less and less of it agrees, but that looks as it ever did.
// Where its own looks change, what agrees looks less alike as well.
func (t *Plane) beingCovered() bool {
	return t.last.Agree < 0.6 && t.last.Match > t.usual-0.08
}

// coveredBefore are the blocks that something covered on the frame before, as polygons there.
func (t *Plane) coveredBefore() (out [][]geom.Point) {
	box := geom.Bounds(t.region)
	size := box.Max.Sub(box.Min).Mul(1.0 / Blocks)
	for i, state := range t.last.Blocks {
		if state == LeftOut {
			at := box.Min.Add(geom.Pt(float64(i%Blocks)*size.X, float64(i/Blocks)*size.Y))
			corners := geom.Box{Min: at, Max: at.Add(size)}.Corners()
			out = append(out, t.last.H.ApplyAll(corners[:]))
		}
	}
	return out
}

// accept says whether a sample can be true.
func (t *Plane) accept(s Sample) error {
	if err := Sane(s.H, t.region, t.size); err != nil {
		return err
	}
	if s.Match < t.MinMatch || s.Agree < t.MinAgree || t.away == 0 && !t.alike(s.H, 1.3) {
		return ErrLost
	}
	return nil
}

// predict matches the features from the frame before to this one and fits the
// motion from the reference frame. A feature counts only if matching it back
// leads to where it started.
func (t *Plane) predict(next []*raster.Plane, guess geom.Homography) (geom.Homography, error) {
	type match struct {
		now geom.Point
		ok  bool
	}
	found, box := make([]match, len(t.features)), geom.Bounds(t.region)
	raster.Rows(0, len(t.features), func(i int) {
		if t.last.Blocks[blockOf(box, t.features[i].X, t.features[i].Y)] == LeftOut {
			return // what is seen there is not the surface
		}
		from := t.last.H.Apply(t.features[i])
		if !inside(from, t.prev[0].Rect, 8) {
			return
		}
		now, ok := Match(t.prev, next, from, guess.Apply(t.features[i]))
		if !ok || !inside(now, next[0].Rect, 4) {
			return
		}
		back, ok := Match(next, t.prev, now, from)
		found[i] = match{now, ok && back.Dist(from) < 0.7}
	})
	var src, dst []geom.Point
	for i, m := range found {
		if m.ok {
			src, dst = append(src, t.features[i]), append(dst, m.now)
		}
	}
	if len(src) < max(2*t.motion.Points(), 6) {
		return guess, ErrLost
	}
	h, agree, err := geom.RobustFit(t.motion, src, dst, fitTol)
	if err != nil {
		return guess, ErrLost
	}
	count := 0
	for _, ok := range agree {
		if ok {
			count++
		}
	}
	if count < max(t.motion.Points()+2, len(src)/4) {
		return guess, ErrLost
	}
	return h, nil
}

// Sane refuses transforms that no surface filmed from one place to the next
// makes: turned over, grown or shrunk more than sixteenfold, or with the
// horizon through the region; and those that take the region out of the frame.
func Sane(h geom.Homography, region []geom.Point, frame image.Rectangle) error {
	if !h.Finite() {
		return ErrExtreme
	}
	for _, p := range region {
		if h[6]*p.X+h[7]*p.Y+h[8] <= 0.05 {
			return ErrExtreme
		}
	}
	if k := h.Scale(geom.Bounds(region).Centre()); h.Det() <= 0 || k < 1.0/16 || k > 16 {
		return ErrExtreme
	}
	moved := geom.Bounds(h.ApplyAll(region))
	if raster.Around(moved, 0, frame).Empty() {
		return ErrLeft
	}
	return nil
}

// maskOf returns a plane that is 1 inside the polygons, or nil for none.
func maskOf(polygons [][]geom.Point, rect image.Rectangle) *raster.Plane {
	if len(polygons) == 0 {
		return nil
	}
	out := raster.NewPlane(rect)
	for _, polygon := range polygons {
		box := raster.Around(geom.Bounds(polygon), 0, rect)
		for y := box.Min.Y; y < box.Max.Y; y++ {
			cross := crossings(polygon, float64(y)+0.5)
			row := out.Row(y, box.Min.X, box.Max.X)
			for x := range row {
				if odd(cross, float64(box.Min.X+x)+0.5) {
					row[x] = 1
				}
			}
		}
	}
	return out
}

func inside(p geom.Point, rect image.Rectangle, margin float64) bool {
	return p.X >= float64(rect.Min.X)+margin && p.X <= float64(rect.Max.X)-margin &&
		p.Y >= float64(rect.Min.Y)+margin && p.Y <= float64(rect.Max.Y)-margin
}
