// Package grow makes pixels that no frame shows of what lies around them: patches of the surroundings
// are laid over a hole such that they agree with each other and with its rim (Wexler, Shechtman &
// Irani 2007), from coarse to fine; nearest patches are found by propagation and random search
// (Barnes, Shechtman, Finkelstein & Goldman 2009), compared also by their gradients and but for a
// small difference of light (Darabi et al. 2012).
package grow

import (
	"context"
	"errors"
	"image"
	"math"
	"math/rand/v2"

	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/spread"
)

// A Request says what is to be grown.
type Request struct {
	Picture *raster.Image // linear light, opaque
	Hole    *raster.Plane // over the same pixels; above 0 where something is to be grown
	From    *raster.Plane // above 0.5 where it may be taken from; nil for wherever there is no hole
	Guides  []Guide       // what must go on
	Feature float64       // how large the texture's features are, in pixels; 0 for as it seems best
	Longest int           // the longest stretch that is copied from one place, in pixels; 0 for any
	Seed    uint64        // another one is another result
}

// A Guide is a line along which a structure goes on: from where it is seen through the hole to where it is
// seen again, in pixels of the picture.
type Guide []geom.Point

// Errors of what cannot be grown.
var (
	ErrNothingToTake = errors.New("there is nothing to take from: the hole is too large, or too little is allowed around it")
	ErrNoRoom        = errors.New("the picture is too small to grow anything in")
)

// patch is the side of the squares that are compared, in pixels; reach is half of it.
const (
	patch = 7
	reach = patch / 2
)

// How much a difference in slope and in detail weighs against one in colour; by how much a patch's light may be
// changed, on the square root of light.
const (
	slopeWeight  = 0.6
	detailWeight = 6
	detailSigma  = 3 // over which it is averaged, pixels
	mostBias     = 0.02
)

// channels are red, green and blue on the square root of light, the slopes of their mean, and how much
// fine detail there is across and down: without that, from afar a mottled place and a smooth one in shade are
// alike (Newson et al. 2014).
const channels = 7

// compared are the channels of one pixel by itself; slopes follow from the others.
var compared = [5]int{0, 1, 2, 5, 6}

// Grow returns the picture with its hole filled; outside of it no pixel is changed. It is the same
// for the same request. A hole of which there is nothing is returned as it is.
func Grow(ctx context.Context, r *Request) (*raster.Image, error) {
	if r.Picture.Rect.Dx() < 2*patch || r.Picture.Rect.Dy() < 2*patch {
		return nil, ErrNoRoom
	}
	fine, err := newLevel(ctx, r)
	if err != nil {
		return nil, err
	}
	if fine.box.Empty() {
		return r.Picture, nil
	}
	levels := []*level{fine}
	for depth := r.depth(fine); len(levels) < depth; {
		next := levels[len(levels)-1].half()
		if next == nil {
			break
		}
		levels = append(levels, next)
	}
	for len(levels) > 1 && len(levels[len(levels)-1].sources) < 20 {
		levels = levels[:len(levels)-1]
	}
	if len(fine.sources) == 0 {
		return nil, ErrNothingToTake
	}
	rng := rand.New(rand.NewPCG(r.Seed, 0x6a6172))
	var above *level
	for k := len(levels) - 1; k >= 0; k-- {
		l := levels[k]
		l.longest = r.Longest >> k
		if r.Longest > 0 {
			l.longest = max(l.longest, 2)
		}
		if above == nil {
			l.begin(rng)
		} else {
			l.refine(above, rng)
		}
		rounds := 3 + 3*k
		for round := range rounds {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			l.search(rng.Uint64(), 2)
			l.vote(k == 0 && round == rounds-1)
		}
		above = l
	}
	if err := fine.evenLight(ctx); err != nil {
		return nil, err
	}
	return fine.laid(r.Picture), nil
}

// depth is how many levels are needed: at the coarsest the hole is little deeper than a patch, and
// features are no larger than one.
func (r *Request) depth(fine *level) int {
	size := 2 * float64(fine.deepest())
	if r.Feature > 0 {
		size = math.Max(math.Min(size, 4*r.Feature), patch)
	}
	return 1 + max(0, int(math.Ceil(math.Log2(size/(patch)))))
}

// A level is the picture at one scale, from (0, 0), with what is known of the hole so far.
type level struct {
	w, h     int
	pix      []float32 // channels for each pixel
	rim      []float32 // detail as it goes on from the rim, two for each pixel
	rimShare float32   // how much of the detail in the hole is that
	hole     []bool
	from     []bool
	guide    []guideAt
	guided   bool
	depths   []float32       // how far each pixel of the hole lies from its rim
	box      image.Rectangle // around the hole
	targets  []int32         // middles of patches that touch the hole, by rows
	row      []int32         // of each line of pixels the first of its targets, and after the last
	sources  []int32         // middles of patches that may be taken
	source   []bool
	along    [][]int32 // sources near each guide
	nearest  []int32   // of each pixel that is a target its source's middle
	far      []float32 // and how far that is
	known    []float32 // of each target, how much of its patch is not hole
	run      []int32   // and for how many targets in line the same place goes on
	sums     []float32 // of each patch, by channel of colour: to tell a difference of light
	longest  int
}

// A guideAt is which guide a pixel lies near, from 1, and how far to its left.
type guideAt struct {
	which int16
	off   float32
}

func newLevel(ctx context.Context, r *Request) (*level, error) {
	rect := r.Picture.Rect
	l := &level{w: rect.Dx(), h: rect.Dy()}
	n := l.w * l.h
	l.pix, l.hole, l.from, l.guide = make([]float32, n*channels), make([]bool, n), make([]bool, n), make([]guideAt, n)
	for i := range n {
		p := image.Pt(rect.Min.X+i%l.w, rect.Min.Y+i/l.w)
		l.hole[i] = r.Hole.At(p.X, p.Y) > 0
		l.from[i] = !l.hole[i] && (r.From == nil || r.From.At(p.X, p.Y) > 0.5)
		for c := range 3 {
			l.pix[i*channels+c] = float32(math.Sqrt(float64(max(r.Picture.Pix[4*i+c], 0))))
		}
	}
	if err := l.detail(ctx); err != nil {
		return nil, err
	}
	width := 6.0 // no patch that covers the line lies further off
	if r.Feature > 0 {
		width = math.Max(r.Feature/2, width)
	}
	for k, g := range r.Guides {
		for i := range n {
			p := geom.Pt(float64(rect.Min.X+i%l.w)+0.5, float64(rect.Min.Y+i/l.w)+0.5)
			if off, ok := g.beside(p); ok && math.Abs(off) <= width {
				l.guide[i], l.guided = guideAt{int16(k + 1), float32(off)}, true
			}
		}
	}
	l.ready()
	return l, nil
}

// detail works out how much of it there is around each pixel, of what is known, and lets that go on evenly through the
// hole: what is grown is to have as much. Patches that are like their neighbours alone would be ever smoother, as
// nothing is as near to everything as a smooth one.
func (l *level) detail(ctx context.Context) error {
	rect := image.Rect(0, 0, l.w, l.h)
	all, open := [2]*raster.Plane{raster.NewPlane(rect), raster.NewPlane(rect)}, raster.NewPlane(rect)
	mean := func(i int) float32 { return (l.pix[i*channels] + l.pix[i*channels+1] + l.pix[i*channels+2]) / 3 }
	for y := 1; y < l.h-1; y++ {
		for x := 1; x < l.w-1; x++ {
			i := y*l.w + x
			if l.hole[i] || l.hole[i-1] || l.hole[i+1] || l.hole[i-l.w] || l.hole[i+l.w] {
				continue
			}
			open.Pix[i] = 1
			all[0].Pix[i] = float32(math.Abs(float64(mean(i+1)-mean(i-1)))) / 2
			all[1].Pix[i] = float32(math.Abs(float64(mean(i+l.w)-mean(i-l.w)))) / 2
		}
	}
	share := raster.Gaussian(open, detailSigma)
	there, hole := raster.NewImage(rect), raster.NewPlane(rect)
	for k := range 2 {
		m := raster.Gaussian(all[k], detailSigma)
		for i, n := range share.Pix {
			if n > 1e-3 {
				there.Pix[4*i+k] = detailWeight * m.Pix[i] / n
			}
		}
	}
	for i, h := range l.hole {
		there.Pix[4*i+3] = 1
		if h {
			hole.Pix[i] = 1
		}
	}
	l.rimShare = shareOf(there, hole)
	there, err := spread.Evenly(ctx, there, hole)
	if err != nil {
		return err
	}
	l.rim = make([]float32, 2*len(l.hole))
	for i := range l.hole {
		copy(l.pix[i*channels+5:i*channels+7], there.Pix[4*i:])
		copy(l.rim[2*i:2*i+2], there.Pix[4*i:])
	}
	return nil
}

// shareOf is how much of the detail that is to be in a hole is taken to be that of its rim, which goes on evenly: more
// where detail is much the same all around, less where it is here a window and there a wall.
func shareOf(detail *raster.Image, hole *raster.Plane) float32 {
	const rim = 8
	around := raster.Grow(hole, rim)
	var n, sum, squares float64
	for i, v := range around.Pix {
		if v > 0 && hole.Pix[i] == 0 {
			d := float64(detail.Pix[4*i] + detail.Pix[4*i+1])
			n, sum, squares = n+1, sum+d, squares+d*d
		}
	}
	if n == 0 || sum == 0 {
		return 0
	}
	mean := sum / n
	varies := math.Sqrt(math.Max(squares/n-mean*mean, 0)) / mean
	return float32(math.Min(math.Max(1.35-varies, 0.2), 0.9))
}

// beside returns how far a place lies beside the line, to its left above 0; ok is false beyond its ends.
func (g Guide) beside(p geom.Point) (off float64, ok bool) {
	best := math.Inf(1)
	for i := range len(g) - 1 {
		a, d := g[i], g[i+1].Sub(g[i])
		length := d.Len()
		if length == 0 {
			continue
		}
		v := p.Sub(a)
		t := (v.X*d.X + v.Y*d.Y) / (length * length)
		if t < 0 && i == 0 || t > 1 && i == len(g)-2 {
			continue
		}
		t = math.Min(math.Max(t, 0), 1)
		if far := v.Sub(d.Mul(t)).Len(); far < best {
			best, ok = far, true
			off = math.Copysign(far, d.X*v.Y-d.Y*v.X)
		}
	}
	return off, ok
}

// ready works out what follows from the hole and from where may be taken.
func (l *level) ready() {
	n := l.w * l.h
	l.box = image.Rectangle{}
	for i, h := range l.hole {
		if h {
			l.box = l.box.Union(image.Rect(i%l.w, i/l.w, i%l.w+1, i/l.w+1))
		}
	}
	l.nearest, l.far, l.run, l.source = make([]int32, n), make([]float32, n), make([]int32, n), make([]bool, n)
	l.sums, l.known = make([]float32, 3*n), make([]float32, n)
	for i := range l.nearest {
		l.nearest[i] = -1
	}
	l.row = make([]int32, l.h+1)
	l.depths = depths(l.hole, l.w, l.h)
	touched, closed := counts(l.hole, l.w, l.h), make([]bool, n)
	for i, ok := range l.from {
		closed[i] = !ok
	}
	blocked := counts(closed, l.w, l.h)
	for y := range l.h {
		l.row[y] = int32(len(l.targets))
		for x := range l.w {
			if x < reach || y < reach || x >= l.w-reach || y >= l.h-reach {
				continue
			}
			i := y*l.w + x
			if n := within(touched, l.w, x, y); n > 0 {
				l.known[i] = 1 - float32(n)/(patch*patch)
				l.targets = append(l.targets, int32(i))
			}
			// What is taken is what lies in its middle and around: all of it may be.
			if within(blocked, l.w, x, y) == 0 {
				l.source[i] = true
				l.sources = append(l.sources, int32(i))
			}
		}
	}
	l.row[l.h] = int32(len(l.targets))
	l.slopes(image.Rect(0, 0, l.w, l.h))
	l.along = nil
	for _, s := range l.sources {
		if k := int(l.guide[s].which); k > 0 {
			for len(l.along) < k {
				l.along = append(l.along, nil)
			}
			l.along[k-1] = append(l.along[k-1], s)
		}
	}
}

// counts returns how many are set above and left of each corner (a summed-area table, Crow 1984).
func counts(set []bool, w, h int) []int32 {
	out := make([]int32, (w+1)*(h+1))
	for y := range h {
		var line int32
		for x := range w {
			if set[y*w+x] {
				line++
			}
			out[(y+1)*(w+1)+x+1] = out[y*(w+1)+x+1] + line
		}
	}
	return out
}

// within returns how many are set in the patch around a pixel.
func within(sums []int32, w, x, y int) int32 {
	at := func(x, y int) int32 { return sums[y*(w+1)+x] }
	x0, y0, x1, y1 := x-reach, y-reach, x+reach+1, y+reach+1
	return at(x1, y1) - at(x0, y1) - at(x1, y0) + at(x0, y0)
}

// depths returns how far each pixel of a hole lies from its rim, in pixels: by steps to the side
// and across (chamfer distance, Borgefors 1986).
func depths(hole []bool, w, h int) []float32 {
	const diagonal = math.Sqrt2
	d := make([]float32, w*h)
	for i := range d {
		if hole[i] {
			d[i] = float32(w + h)
		}
	}
	at := func(x, y int) float32 {
		if x < 0 || y < 0 || x >= w || y >= h {
			return float32(w + h)
		}
		return d[y*w+x]
	}
	for y := range h {
		for x := range w {
			i := y*w + x
			d[i] = min(d[i], at(x-1, y)+1, at(x, y-1)+1, at(x-1, y-1)+diagonal, at(x+1, y-1)+diagonal)
		}
	}
	for y := h - 1; y >= 0; y-- {
		for x := w - 1; x >= 0; x-- {
			i := y*w + x
			d[i] = min(d[i], at(x+1, y)+1, at(x, y+1)+1, at(x+1, y+1)+diagonal, at(x-1, y+1)+diagonal)
		}
	}
	return d
}

func (l *level) deepest() (most float32) {
	for _, d := range l.depths {
		most = max(most, d)
	}
	return most
}

// slopes works out the slopes of brightness of the pixels of a box.
func (l *level) slopes(box image.Rectangle) {
	box = box.Intersect(image.Rect(0, 0, l.w, l.h))
	mean := func(x, y int) float32 {
		p := l.pix[(min(max(y, 0), l.h-1)*l.w+min(max(x, 0), l.w-1))*channels:]
		return (p[0] + p[1] + p[2]) / 3
	}
	for y := box.Min.Y; y < box.Max.Y; y++ {
		for x := box.Min.X; x < box.Max.X; x++ {
			p := l.pix[(y*l.w+x)*channels:]
			p[3] = slopeWeight * (mean(x+1, y) - mean(x-1, y))
			p[4] = slopeWeight * (mean(x, y+1) - mean(x, y-1))
		}
	}
}

// half returns the level at half the scale; nil where it would be too small.
func (l *level) half() *level {
	w, h := l.w/2, l.h/2
	if w < 2*patch || h < 2*patch {
		return nil
	}
	out := &level{w: w, h: h, guided: l.guided, rimShare: l.rimShare}
	n := w * h
	out.rim = make([]float32, 2*n)
	out.pix, out.hole, out.from, out.guide = make([]float32, n*channels), make([]bool, n), make([]bool, n), make([]guideAt, n)
	for i := range n {
		x, y := i%w, i/w
		// Binomial weights over four pixels each way; what lies in the hole does not count.
		weights := [4]float32{1, 3, 3, 1}
		var sum [channels]float32
		var all, around float32
		inside, open := 0, 0
		for v := range 4 {
			for u := range 4 {
				xx, yy := 2*x+u-1, 2*y+v-1
				if xx < 0 || yy < 0 || xx >= l.w || yy >= l.h {
					continue
				}
				k := yy*l.w + xx
				core := u == 1 || u == 2
				core = core && (v == 1 || v == 2)
				weight := weights[u] * weights[v]
				around += weight
				for c := range 2 {
					sum[5+c] += weight * l.rim[2*k+c]
				}
				if l.hole[k] {
					if core {
						inside++
					}
					continue
				}
				if core && l.from[k] {
					open++
				}
				all += weight
				for c := range 3 {
					sum[c] += weight * l.pix[k*channels+c]
				}
			}
		}
		out.hole[i] = inside > 0
		out.from[i] = open == 4
		for c := range sum {
			switch {
			case c >= 5:
				out.pix[i*channels+c] = sum[c] / around
				out.rim[2*i+c-5] = sum[c] / around
			case c < 3 && all > 0:
				out.pix[i*channels+c] = sum[c] / all
			}
		}
		if g := l.guide[2*y*l.w+2*x]; g.which > 0 {
			out.guide[i] = guideAt{g.which, g.off / 2}
		}
	}
	out.ready()
	if out.box.Empty() {
		return nil
	}
	return out
}

// begin finds for each target of the coarsest level the source that is most like what is known of it,
// by trying all of them, or many. Which of those that are alike is taken chance decides: so one seed differs from
// another.
func (l *level) begin(rng *rand.Rand) {
	tried := l.sources
	if len(tried) > mostTried {
		tried = make([]int32, mostTried)
		for i := range tried {
			tried[i] = l.sources[rng.IntN(len(l.sources))]
		}
	}
	liked := make([]float32, len(tried))
	for i := range liked {
		liked[i] = 1 + 4*rng.Float32()
	}
	for i, h := range l.hole {
		if h {
			clear(l.pix[i*channels : i*channels+5])
		}
	}
	l.slopes(l.box.Inset(-1))
	raster.Rows(0, len(l.targets), func(k int) {
		t := l.targets[k]
		if l.known[t] == 0 {
			return
		}
		best := float32(math.Inf(1))
		for i, s := range tried {
			if d := liked[i]*l.fromKnown(t, s) + l.straying(t, s); d < best {
				best, l.nearest[t] = d, s
			}
		}
	})
	for _, t := range l.targets {
		if l.known[t] == 0 {
			l.nearest[t] = l.besideKnown(t, rng.Uint64())
		}
	}
	l.sum()
	for _, t := range l.targets { // nothing is known yet of how far what is not known is
		l.far[t] = 0
	}
	l.vote(true)
}

// besideKnown is the source of a target of which nothing is known: what lies beside that of the nearest target of which
// something is.
func (l *level) besideKnown(t int32, random uint64) int32 {
	x, y := int(t)%l.w, int(t)/l.w
	best, nearest := int32(-1), math.MaxInt
	for _, o := range l.targets {
		dx, dy := x-int(o)%l.w, y-int(o)/l.w
		if d := dx*dx + dy*dy; l.known[o] > 0 && d < nearest {
			if s := l.nearest[o] + t - o; s >= 0 && int(s) < len(l.source) && l.source[s] {
				best, nearest = s, d
			}
		}
	}
	if best < 0 {
		return l.any(t, random)
	}
	return best
}

// mostTried is how many sources are tried for each target of the coarsest level.
const mostTried = 4000

// fromKnown is how far two patches are apart, of the target's pixels that are known.
func (l *level) fromKnown(t, s int32) (sum float32) {
	n := float32(0)
	for v := -reach; v <= reach; v++ {
		for u := -reach; u <= reach; u++ {
			i := int(t) + v*l.w + u
			if l.hole[i] {
				continue
			}
			p, q := l.pix[i*channels:(i+1)*channels], l.pix[(int(s)+v*l.w+u)*channels:][:channels]
			for _, c := range compared {
				sum += (p[c] - q[c]) * (p[c] - q[c])
			}
			n++
		}
	}
	if n == 0 {
		return 0
	}
	return sum / n
}

// any returns a source by chance; near a guide one that lies near it as well, if there is one.
func (l *level) any(t int32, random uint64) int32 {
	if k := int(l.guide[t].which); k > 0 && k <= len(l.along) && len(l.along[k-1]) > 0 {
		list := l.along[k-1]
		return list[random%uint64(len(list))]
	}
	return l.sources[random%uint64(len(l.sources))]
}

// refine takes over from the level above what its patches were taken from.
func (l *level) refine(above *level, rng *rand.Rand) {
	for _, t := range l.targets {
		x, y := int(t)%l.w, int(t)/l.w
		i := min(max(y/2, reach), above.h-reach-1)*above.w + min(max(x/2, reach), above.w-reach-1)
		s := above.nearest[i]
		found := int32(-1)
		if s >= 0 && above.isTarget(i) {
			u := 2*(int(s)%above.w) + x - 2*(i%above.w)
			v := 2*(int(s)/above.w) + y - 2*(i/above.w)
			if u >= 0 && v >= 0 && u < l.w && v < l.h && l.source[v*l.w+u] {
				found = int32(v*l.w + u)
			}
		}
		if found < 0 {
			found = l.any(t, rng.Uint64())
		}
		l.nearest[t] = found
	}
	l.fillFrom(above)
	l.measure()
	l.vote(false)
}

func (l *level) isTarget(i int) bool {
	row := l.targets[l.row[i/l.w]:l.row[i/l.w+1]]
	return len(row) > 0 && int32(i) >= row[0] && int32(i) <= row[len(row)-1] && l.nearest[i] >= 0
}

// fillFrom gives the hole the pixels of the level above, until better ones are voted.
func (l *level) fillFrom(above *level) {
	for i, h := range l.hole {
		if h {
			k := min(i/l.w/2, above.h-1)*above.w + min(i%l.w/2, above.w-1)
			copy(l.pix[i*channels:i*channels+3], above.pix[k*channels:])
		}
	}
	l.slopes(l.box.Inset(-1))
}

// laid returns the picture with the hole as it was grown.
func (l *level) laid(picture *raster.Image) *raster.Image {
	out := picture.Crop(picture.Rect)
	for i, h := range l.hole {
		if h {
			for c := range 3 {
				v := l.pix[i*channels+c]
				out.Pix[4*i+c] = v * v
			}
			out.Pix[4*i+3] = 1
		}
	}
	return out
}
