package grow

import (
	"context"
	"image"
	"math"
	"slices"

	"jardin/core/raster"
	"jardin/core/spread"
)

// stripes is into how many parts of lines targets are searched at a time: the same on every machine,
// so that the result is.
const stripes = 8

// hash is a number by chance from two (splitmix, Steele, Lea & Flood 2014).
func hash(a, b uint64) uint64 {
	z := a + (b+1)*0x9e3779b97f4a7c15
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return z ^ z>>31
}

// measure works out the sums of patches and how far each target is from its source.
func (l *level) measure() {
	l.sum()
	raster.Rows(0, len(l.targets), func(k int) {
		t := l.targets[k]
		l.far[t] = l.distance(t, l.nearest[t], float32(math.Inf(1)))
	})
	l.runs()
}

// sum works out the sum of each patch's colours.
func (l *level) sum() {
	raster.Rows(reach, l.h-reach, func(y int) {
		var column [3]float32
		line := make([]float32, 3*l.w)
		for x := range l.w {
			column = [3]float32{}
			for v := y - reach; v <= y+reach; v++ {
				p := l.pix[(v*l.w+x)*channels:]
				column[0] += p[0]
				column[1] += p[1]
				column[2] += p[2]
			}
			copy(line[3*x:], column[:])
		}
		for x := reach; x < l.w-reach; x++ {
			to := l.sums[3*(y*l.w+x):]
			to[0], to[1], to[2] = 0, 0, 0
			for u := x - reach; u <= x+reach; u++ {
				to[0] += line[3*u]
				to[1] += line[3*u+1]
				to[2] += line[3*u+2]
			}
		}
	})
}

// bias is by how much a source's channel is made brighter to fit a target.
func (l *level) bias(t, s int32, c int) float32 {
	d := (l.sums[3*t+int32(c)] - l.sums[3*s+int32(c)]) / (patch * patch)
	return min(max(d, -mostBias), mostBias)
}

// distance is how far two patches are apart: the sum of squares over all channels, but for a small
// difference of light. It stops early where it is above most.
func (l *level) distance(t, s int32, most float32) float32 {
	var light float32
	for c := range 3 {
		b := l.bias(t, s, c)
		d := (l.sums[3*t+int32(c)] - l.sums[3*s+int32(c)]) / (patch * patch)
		// Half of what is corrected still counts: light is better found than made.
		light += 0.75 * patch * patch * (2*b*d - b*b)
	}
	sum := l.straying(t, s)
	most += light
	stride := l.w * channels
	a, b := (int(t)-reach*l.w-reach)*channels, (int(s)-reach*l.w-reach)*channels
	for range patch {
		p, q := l.pix[a:a+patch*channels], l.pix[b:b+patch*channels]
		q = q[:len(p)]
		for k := range p {
			d := p[k] - q[k]
			sum += d * d
		}
		if sum > most {
			return float32(math.Inf(1))
		}
		a, b = a+stride, b+stride
	}
	return max(sum-light, 0)
}

// straying is what it costs to take a patch that lies otherwise to a guide.
func (l *level) straying(t, s int32) float32 {
	a, b := l.guide[t], l.guide[s]
	switch {
	case !l.guided, a.which == 0 && b.which == 0:
		return 0
	case a.which != b.which:
		return 20
	}
	d := a.off - b.off
	return d * d
}

// runs counts for how many targets in line the same place goes on, to the left and up.
func (l *level) runs() {
	for _, t := range l.targets {
		l.run[t] = l.runOf(t, l.nearest[t])
	}
}

func (l *level) runOf(t, s int32) int32 {
	var n int32 = 1
	for _, step := range [2]int32{1, int32(l.w)} {
		if p := t - step; p >= 0 && l.nearest[p] >= 0 && l.nearest[p] == s-step && l.run[p] > 0 {
			n = max(n, l.run[p]+1)
		}
	}
	return n
}

// search makes the sources of all targets better: from those of their neighbours, and by chance ever
// nearer to what is known.
func (l *level) search(seed uint64, rounds int) {
	l.measure()
	for round := range rounds {
		back := round%2 == 1
		raster.Rows(0, stripes, func(k int) {
			first, last := k*len(l.targets)/stripes, (k+1)*len(l.targets)/stripes
			inside := func(t int32) bool { return t >= l.targets[first] && t <= l.targets[last-1] }
			for i := first; i < last; i++ {
				at := i
				if back {
					at = first + last - 1 - i
				}
				l.improve(l.targets[at], back, inside, hash(seed, uint64(at)<<8|uint64(round)))
			}
		})
	}
	if l.longest > 0 {
		l.shorten(seed)
	}
}

func (l *level) improve(t int32, back bool, inside func(int32) bool, random uint64) {
	best, far := l.nearest[t], l.far[t]
	try := func(s int32) {
		if s != best && l.source[s] {
			if d := l.distance(t, s, far); d < far {
				best, far = s, d
			}
		}
	}
	for _, step := range [2]int32{1, int32(l.w)} {
		if back {
			step = -step
		}
		p := t - step
		if !inside(p) || l.nearest[p] < 0 || l.far[p] < 0 {
			continue
		}
		if s := l.nearest[p] + step; s >= 0 && int(s) < len(l.source) {
			try(s)
		}
	}
	try(l.any(t, random))
	for k, radius := uint64(1), max(l.w, l.h)/2; radius >= 1; k, radius = k+1, radius/2 {
		r := hash(random, k)
		x := int(best)%l.w + int(r>>8%uint64(2*radius+1)) - radius
		y := int(best)/l.w + int(r>>40%uint64(2*radius+1)) - radius
		if x >= reach && y >= reach && x < l.w-reach && y < l.h-reach {
			try(int32(y*l.w + x))
		}
	}
	l.nearest[t], l.far[t] = best, far
}

// shorten breaks stretches that are copied from one place for longer than allowed: where one is, the
// target is given the best of some others.
func (l *level) shorten(seed uint64) {
	clear(l.run)
	for i, t := range l.targets {
		l.run[t] = l.runOf(t, l.nearest[t])
		if int(l.run[t]) <= l.longest {
			continue
		}
		best, far := int32(-1), float32(math.Inf(1))
		for k := range uint64(24) {
			s := l.any(t, hash(seed^0x5f, uint64(i)<<8|k))
			dx, dy := int(s)%l.w-int(l.nearest[t])%l.w, int(s)/l.w-int(l.nearest[t])/l.w
			if dx*dx+dy*dy < patch*patch || int(l.runOf(t, s)) > l.longest {
				continue
			}
			if d := l.distance(t, s, far); d < far {
				best, far = s, d
			}
		}
		if best >= 0 {
			l.nearest[t], l.far[t], l.run[t] = best, far, l.runOf(t, best)
		}
	}
}

// vote gives each pixel of the hole what the patches over it say, those that fit well and lie near
// the rim more than others. The last time only the best of them count, so that nothing is blurred.
func (l *level) vote(last bool) {
	weight := l.weights(last)
	box := l.box
	raster.Rows(box.Min.Y, box.Max.Y, func(y int) {
		for x := box.Min.X; x < box.Max.X; x++ {
			if !l.hole[y*l.w+x] {
				continue
			}
			// Sources hold nothing of the hole: what is written here nobody else reads.
			if v, ok := l.voted(x, y, weight, last); ok {
				i := y*l.w + x
				for c := range 3 {
					l.pix[i*channels+c] = max(v[c], 0)
				}
				for c := range 2 {
					l.pix[i*channels+5+c] = l.rimShare*l.rim[2*i+c] + (1-l.rimShare)*v[5+c]
				}
			}
		}
	})
	l.slopes(box.Inset(-1))
}

// voted is what the patches over a pixel say of it; the best of them alone, as a mean of many is soft, or all.
func (l *level) voted(x, y int, weight []float32, alone bool) (v [channels]float32, ok bool) {
	var all, best float32
	for j := max(y-reach, reach); j <= min(y+reach, l.h-reach-1); j++ {
		for i := max(x-reach, reach); i <= min(x+reach, l.w-reach-1); i++ {
			t := int32(j*l.w + i)
			s, k := l.nearest[t], weight[t]
			if s < 0 || k == 0 || alone && k <= best {
				continue
			}
			if alone {
				best, all, v = k, 0, [channels]float32{}
			}
			from := l.pix[(int(s)+(y-j)*l.w+x-i)*channels:][:channels]
			all += k
			for c := range 3 {
				v[c] += k * (from[c] + l.bias(t, s, c))
			}
			v[5] += k * from[5]
			v[6] += k * from[6]
		}
	}
	for c := range v {
		v[c] /= max(all, 1e-30)
	}
	return v, all > 0
}

// mostOff is how large a step at the rim may be, on the square root of light, for it to be a matter of light.
const mostOff = 0.08

// evenLight takes away the step in light that is left between what is known around the hole and what was grown beside it:
// smoothed along the rim and spread evenly inwards, as where a piece is cloned without a seam (Pérez, Gangnet & Blake
// 2003).
func (l *level) evenLight(ctx context.Context) error {
	box := l.box.Inset(-1).Intersect(image.Rect(0, 0, l.w, l.h))
	steps := raster.NewImage(box) // alpha is 1 where there is one
	for y := box.Min.Y; y < box.Max.Y; y++ {
		for x := box.Min.X; x < box.Max.X; x++ {
			if d, ok := l.step(x, y); ok {
				steps.Set(x, y, [4]float32{d[0], d[1], d[2], 1})
			}
		}
	}
	smooth, open := raster.GaussianImage(steps, 3), raster.NewPlane(box)
	for i := range open.Pix {
		open.Pix[i] = 1
		if steps.Pix[4*i+3] > 0 {
			open.Pix[i] = 0
			for c := range 3 {
				smooth.Pix[4*i+c] /= smooth.Pix[4*i+3]
			}
		}
	}
	even, err := spread.Evenly(ctx, smooth, open)
	if err != nil {
		return err
	}
	for y := l.box.Min.Y; y < l.box.Max.Y; y++ {
		for x := l.box.Min.X; x < l.box.Max.X; x++ {
			if i := y*l.w + x; l.hole[i] {
				d := even.At(x, y)
				for c := range 3 {
					l.pix[i*channels+c] = max(l.pix[i*channels+c]+d[c], 0)
				}
			}
		}
	}
	return nil
}

// step is by how much a pixel of the hole is off those beside it that are known, if it is by little.
func (l *level) step(x, y int) (d [3]float32, ok bool) {
	i := y*l.w + x
	if !l.hole[i] {
		return d, false
	}
	n := float32(0)
	for _, by := range [4]image.Point{{X: 1}, {X: -1}, {Y: 1}, {Y: -1}} {
		u, v := x+by.X, y+by.Y
		k := v*l.w + u
		if u < 0 || v < 0 || u >= l.w || v >= l.h || l.hole[k] {
			continue
		}
		var one [3]float32
		far := float32(0)
		for c := range 3 {
			one[c] = l.pix[k*channels+c] - l.pix[i*channels+c]
			far = max(far, one[c], -one[c])
		}
		if far < mostOff {
			n++
			for c := range 3 {
				d[c] += one[c]
			}
		}
	}
	for c := range 3 {
		d[c] /= max(n, 1)
	}
	return d, n > 0
}

// weights is how much each target's patch says.
func (l *level) weights(last bool) []float32 {
	spread := make([]float32, len(l.targets))
	for k, t := range l.targets {
		spread[k] = l.far[t]
	}
	slices.Sort(spread)
	typical := max(spread[len(spread)*3/4], 1e-4) // Wexler et al. 2007
	fall := 2 / typical
	if last {
		fall = 8 / typical
	}
	weight := make([]float32, l.w*l.h)
	for _, t := range l.targets {
		// What holds most of what is known says most: else the hole would agree with itself alone.
		known := l.known[t]
		weight[t] = float32(math.Exp(float64(-min(fall*l.far[t]/(1+6*known), 60)))) * (1 + 8*known*known) *
			float32(math.Pow(1.3, -float64(min(l.depths[t], 40))))
	}
	return weight
}
