package gather

import (
	"image"
	"math"
	"math/bits"

	"jardin/core/raster"
)

// A Bits is a set of places by their numbers.
type Bits []uint64

// NewBits returns an empty set with room for numbers below n.
func NewBits(n int) Bits { return make(Bits, (n+63)/64) }

// Add adds a number.
func (b Bits) Add(i int) { b[i>>6] |= 1 << (i & 63) }

// Has reports whether a number is in the set.
func (b Bits) Has(i int) bool { return b[i>>6]>>(i&63)&1 == 1 }

// Count returns how many numbers are in the set.
func (b Bits) Count() (n int) {
	for _, w := range b {
		n += bits.OnesCount64(w)
	}
	return n
}

// Cover chooses frames until each place that any of them shows is shown by one that is chosen, or
// there are most: always the one that shows most of what is still missing, times its quality
// (greedy set cover, Chvátal 1979). It lists them in the order in which they were chosen.
func Cover(shown []Bits, quality []float64, most int) (chosen []int, covered Bits) {
	if len(shown) == 0 {
		return nil, nil
	}
	covered = make(Bits, len(shown[0]))
	for len(chosen) < most {
		best, worth := -1, 0.0
		for i, b := range shown {
			n := 0
			for k, w := range b {
				n += bits.OnesCount64(w &^ covered[k])
			}
			if v := float64(n) * quality[i]; v > worth {
				best, worth = i, v
			}
		}
		if best < 0 {
			break
		}
		chosen = append(chosen, best)
		for k, w := range shown[best] {
			covered[k] |= w
		}
	}
	return chosen, covered
}

// A Frame is one of those around, carried to the one that is wanted.
type Frame struct {
	Picture *raster.Image // linear light
	Counts  *raster.Plane // 1 where it shows the surface, 0 where it is hidden or beyond the picture
}

// NoFrame is the label of a pixel that no frame shows.
const NoFrame = 255

// How frames are joined, in standard deviations of the grain: what a pixel costs at most for being
// unlike the average, what each frame costs that was chosen later, what a seam costs where one
// of its frames does not show the pixel beside it.
const (
	mostUnlike  = 6
	laterFrame  = 0.02
	unknownSeam = 2.5
)

// Join chooses for each pixel one of at most 254 frames of equal bounds that shows it: one that
// is like the average there, from which what passes over is left out, such that seams between
// frames run where they differ least (Kwatra et al. 2003). The choice is made better by expanding
// one frame after the other over the others, each time by a cheapest cut (Boykov, Veksler &
// Zabih 2001; Kolmogorov & Zabih 2004), until none makes it better or for three rounds. noise is the grain's standard
// deviation on the square root of light. It returns the chosen frame's number, by rows.
func Join(frames []Frame, average *raster.Image, noise float64) []uint8 {
	j := newJoining(frames, average, noise)
	for range 3 {
		better := false
		for f := range frames {
			better = j.expand(uint8(f)) || better
		}
		if !better {
			break
		}
	}
	return j.labels
}

type joining struct {
	w, h   int
	roots  [][]float32 // of each frame and pixel three, divided by the noise; NaN where it is not shown
	unlike [][]float32 // from the average, and for being chosen late
	labels []uint8
	node   []int32
}

func newJoining(frames []Frame, average *raster.Image, noise float64) *joining {
	r := average.Rect
	j := &joining{w: r.Dx(), h: r.Dy()}
	n := j.w * j.h
	j.labels, j.node = make([]uint8, n), make([]int32, n)
	root := func(v float32) float32 { return float32(math.Sqrt(float64(max(v, 0))) / math.Max(noise, 1e-4)) }
	for k := range frames {
		roots, unlike := make([]float32, 3*n), make([]float32, n)
		f := &frames[k]
		for i := range n {
			if f.Counts.Pix[i] < 1 {
				roots[3*i] = float32(math.NaN())
				continue
			}
			var far float32
			for c := range 3 {
				v := root(f.Picture.Pix[4*i+c])
				roots[3*i+c] = v
				far += distance(v, root(average.Pix[4*i+c]))
			}
			// Grain alone is no fault.
			unlike[i] = min(max(far/3-1.5, 0), mostUnlike) + laterFrame*float32(k)
		}
		j.roots, j.unlike = append(j.roots, roots), append(j.unlike, unlike)
	}
	for i := range n {
		j.labels[i] = NoFrame
		for k := range frames {
			if j.shows(uint8(k), i) && (j.labels[i] == NoFrame || j.unlike[k][i] < j.unlike[j.labels[i]][i]-3) {
				j.labels[i] = uint8(k)
			}
		}
	}
	return j
}

func (j *joining) shows(f uint8, i int) bool {
	return f != NoFrame && j.roots[f][3*i] == j.roots[f][3*i]
}

// differ returns how far two frames are apart at a pixel; ok is false where one does not show it.
func (j *joining) differ(a, b uint8, i int) (d float32, ok bool) {
	p, q := j.roots[a][3*i:3*i+3], j.roots[b][3*i:3*i+3]
	for c := range 3 {
		d += distance(p[c], q[c])
	}
	return d / 3, d == d
}

// seam returns what it costs that neighbouring pixels are of two frames.
func (j *joining) seam(a, b uint8, p, q int) float32 {
	if a == b || a == NoFrame || b == NoFrame {
		return 0
	}
	here, ok := j.differ(a, b, p)
	there, also := j.differ(a, b, q)
	switch {
	case ok && also:
		return here + there
	case ok:
		return here + unknownSeam
	case also:
		return there + unknownSeam
	}
	return 2 * unknownSeam
}

// expand gives pixels to a frame where that makes the whole cheaper.
func (j *joining) expand(f uint8) bool {
	nodes := 0
	for i, l := range j.labels {
		j.node[i] = -1
		if l != f && j.shows(f, i) {
			j.node[i] = int32(nodes)
			nodes++
		}
	}
	if nodes == 0 {
		return false
	}
	g := newNetwork(nodes, 2*nodes)
	// On the source's side a pixel is given to the frame; it pays the capacity to the sink then.
	for i, l := range j.labels {
		if k := j.node[i]; k >= 0 {
			keep := float32(0)
			if l != NoFrame {
				keep = j.unlike[l][i]
			}
			g.terminals(int(k), keep, j.unlike[f][i])
		}
	}
	pair := func(p, q int) {
		a, b := j.labels[p], j.labels[q]
		m, n := j.node[p], j.node[q]
		switch {
		case a == NoFrame || b == NoFrame || m < 0 && n < 0:
			return
		case m < 0:
			g.terminals(int(n), j.seam(a, b, p, q), j.seam(a, f, p, q))
			return
		case n < 0:
			g.terminals(int(m), j.seam(a, b, p, q), j.seam(f, b, p, q))
			return
		}
		both, first, second := j.seam(a, b, p, q), j.seam(f, b, p, q), j.seam(a, f, p, q)
		// kept and kept: both; given and kept: first; kept and given: second; given and given: 0.
		// Where the seams are no metric, what is left is made so (Rother et al. 2005).
		both = min(both, first+second)
		g.terminals(int(m), second, 0)
		g.terminals(int(n), both-second, 0)
		g.edge(int(m), int(n), first+second-both, 0)
	}
	for y := range j.h {
		for x := range j.w {
			i := y*j.w + x
			if x+1 < j.w {
				pair(i, i+1)
			}
			if y+1 < j.h {
				pair(i, i+j.w)
			}
		}
	}
	was := j.cost()
	g.cut()
	before := make([]uint8, 0, nodes)
	for i, k := range j.node {
		if k >= 0 {
			before = append(before, j.labels[i])
			if g.onSource(int(k)) {
				j.labels[i] = f
			}
		}
	}
	if j.cost() < was-1e-3 {
		return true
	}
	for i, k := range j.node {
		if k >= 0 {
			j.labels[i] = before[k]
		}
	}
	return false
}

// cost is what all pixels and seams cost together.
func (j *joining) cost() (sum float64) {
	for y := range j.h {
		var row float32
		for x := range j.w {
			i := y*j.w + x
			l := j.labels[i]
			if l == NoFrame {
				continue
			}
			row += j.unlike[l][i]
			if x+1 < j.w {
				row += j.seam(l, j.labels[i+1], i, i+1)
			}
			if y+1 < j.h {
				row += j.seam(l, j.labels[i+j.w], i, i+j.w)
			}
		}
		sum += float64(row)
	}
	return sum
}

// Shrink returns a frame of every so many pixels of one: means of what shows the surface.
func (f Frame) Shrink(by int) Frame {
	r := f.Picture.Rect
	if by == 1 {
		return f
	}
	small := image.Rect(0, 0, (r.Dx()+by-1)/by, (r.Dy()+by-1)/by)
	out := Frame{raster.NewImage(small), raster.NewPlane(small)}
	for y := range r.Dy() {
		for x := range r.Dx() {
			if f.Counts.Pix[y*r.Dx()+x] < 1 {
				continue
			}
			i := y/by*small.Dx() + x/by
			out.Counts.Pix[i]++
			for c := range 3 {
				out.Picture.Pix[4*i+c] += f.Picture.Pix[4*(y*r.Dx()+x)+c]
			}
		}
	}
	for i, n := range out.Counts.Pix {
		if n > 0 {
			for c := range 3 {
				out.Picture.Pix[4*i+c] /= n
			}
			out.Counts.Pix[i], out.Picture.Pix[4*i+3] = 1, 1
		}
	}
	return out
}
