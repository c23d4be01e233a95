// Package spread lets a hole be filled from its rim inwards: evenly, as a membrane that is held at the rim
// would lie, or along the edges that come to it.
package spread

import (
	"context"
	"math"

	"jardin/core/raster"
)

// Evenly returns the picture with its hole filled by the membrane that is held at the rim: each pixel is the
// mean of the four around it (Laplace's equation). Where the hole reaches the picture's edge it is free
// there. The picture is opaque outside of the hole; what is in it does not count. Where nothing is known
// at all it stays as it is. The error is the context's.
func Evenly(ctx context.Context, m *raster.Image, hole *raster.Plane) (*raster.Image, error) {
	f := newField(m, hole)
	if err := f.solve(ctx); err != nil {
		return nil, err
	}
	return f.laid(m), nil
}

// A field is colours of which some are known.
type field struct {
	w, h  int
	pix   []float32 // RGB
	known []bool
}

func newField(m *raster.Image, hole *raster.Plane) *field {
	f := &field{w: m.Rect.Dx(), h: m.Rect.Dy()}
	f.pix, f.known = make([]float32, 3*f.w*f.h), make([]bool, f.w*f.h)
	for i := range f.known {
		f.known[i] = hole.Pix[i] <= 0
		copy(f.pix[3*i:3*i+3], m.Pix[4*i:4*i+3])
	}
	return f
}

func (f *field) laid(m *raster.Image) *raster.Image {
	out := m.Crop(m.Rect)
	for i, known := range f.known {
		if !known {
			copy(out.Pix[4*i:], f.pix[3*i:3*i+3])
			out.Pix[4*i+3] = 1
		}
	}
	return out
}

// solve relaxes the field from coarse to fine: each level begins with the one of half the size
// (a cascadic multigrid, Bornemann & Deuflhard 1996).
func (f *field) solve(ctx context.Context) error {
	unknown, some := 0, false
	for _, k := range f.known {
		if k {
			some = true
		} else {
			unknown++
		}
	}
	if unknown == 0 || !some {
		return nil
	}
	if f.w > 3 && f.h > 3 {
		half := f.half()
		if err := half.solve(ctx); err != nil {
			return err
		}
		for i, known := range f.known {
			if !known {
				k := min(i/f.w/2, half.h-1)*half.w + min(i%f.w/2, half.w-1)
				copy(f.pix[3*i:3*i+3], half.pix[3*k:3*k+3])
			}
		}
	}
	return f.relax(ctx, 40)
}

// half returns the field at half the size: means of what is known.
func (f *field) half() *field {
	out := &field{w: (f.w + 1) / 2, h: (f.h + 1) / 2}
	out.pix, out.known = make([]float32, 3*out.w*out.h), make([]bool, out.w*out.h)
	count := make([]float32, out.w*out.h)
	for i, known := range f.known {
		if !known {
			continue
		}
		k := i/f.w/2*out.w + i%f.w/2
		count[k]++
		out.known[k] = true
		for c := range 3 {
			out.pix[3*k+c] += f.pix[3*i+c]
		}
	}
	for k, n := range count {
		if n > 0 {
			for c := range 3 {
				out.pix[3*k+c] /= n
			}
		}
	}
	return out
}

// relax makes each unknown pixel the mean of those around it, over and over, those of either
// colour of a chessboard after the other, and each time by more than it takes (successive
// over-relaxation, Young 1954).
func (f *field) relax(ctx context.Context, rounds int) error {
	var inner, rim [2][]int32 // by colour; those at the picture's edge have fewer around them
	for i, known := range f.known {
		if known {
			continue
		}
		x, y := i%f.w, i/f.w
		if x > 0 && y > 0 && x < f.w-1 && y < f.h-1 {
			inner[(x+y)&1] = append(inner[(x+y)&1], int32(i))
		} else {
			rim[(x+y)&1] = append(rim[(x+y)&1], int32(i))
		}
	}
	for range rounds {
		if err := ctx.Err(); err != nil {
			return err
		}
		for colour := range 2 {
			// One colour's pixels do not see each other: parts of them can be made at once.
			const part = 20_000
			list := inner[colour]
			if len(list) <= part {
				f.relaxInner(list)
			} else {
				var parts []func()
				for ; len(list) > 0; list = list[min(part, len(list)):] {
					some := list[:min(part, len(list))]
					parts = append(parts, func() { f.relaxInner(some) })
				}
				raster.Parallel(parts...)
			}
			f.relaxRim(rim[colour])
		}
	}
	return nil
}

// overRelaxed is by how much of what it takes a pixel is changed.
const overRelaxed = 1.8

func (f *field) relaxInner(list []int32) {
	row := 3 * f.w
	for _, i := range list {
		at := 3 * int(i)
		p := f.pix[at-row : at+row+3 : at+row+3] // from the pixel above to the one below
		here := p[row-3 : row+6 : row+6]
		for c := range 3 {
			mean := (here[c] + here[c+6] + p[c] + p[2*row+c]) / 4
			here[c+3] += overRelaxed * (mean - here[c+3])
		}
	}
}

func (f *field) relaxRim(list []int32) {
	for _, i := range list {
		x, y := int(i)%f.w, int(i)/f.w
		var sum [3]float32
		var n float32
		add := func(k int32) {
			for c, v := range f.pix[3*k : 3*k+3] {
				sum[c] += v
			}
			n++
		}
		if x > 0 {
			add(i - 1)
		}
		if x < f.w-1 {
			add(i + 1)
		}
		if y > 0 {
			add(i - int32(f.w))
		}
		if y < f.h-1 {
			add(i + int32(f.w))
		}
		p := f.pix[3*i : 3*i+3]
		for c := range 3 {
			p[c] += overRelaxed * (sum[c]/n - p[c])
		}
	}
}

// How far along edges is looked, in pixels; how strongly values keep to them; over how much a structure
// is judged (Bornemann & März 2007; the values are of the trade and from memory).
const (
	transportReach    = 5
	transportStrength = 25
	structureReach    = 6
	structureSigma    = 3.0
)

// Along returns the picture with its hole filled from the rim inwards, pixel by pixel in the order of their
// distance from it: each is a mean of those that are there already, most of those in the
// direction of the edges around (image inpainting by coherence transport, Bornemann & März 2007). The error is the
// context's.
func Along(ctx context.Context, m *raster.Image, hole *raster.Plane) (*raster.Image, error) {
	f := newField(m, hole)
	t := &transport{field: f, slope: make([][2]float32, len(f.known)), sure: make([]float32, len(f.known)), brightness: make([]float32, len(f.known))}
	for i := range f.known {
		t.brightness[i] = t.bright(i)
	}
	for i, known := range f.known {
		if known {
			t.setSlope(i)
		}
	}
	rings := t.rings()
	for k, ring := range rings {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		for _, i := range ring {
			t.fill(i)
		}
		// What lies beside is known now: slopes are surer.
		for _, earlier := range rings[max(0, k-2) : k+1] {
			for _, i := range earlier {
				t.setSlope(i)
			}
		}
		if k < 2 {
			t.aroundHole(rings[0], t.setSlope)
		}
	}
	for _, ring := range rings { // what was filled is what is laid
		for _, i := range ring {
			f.known[i] = false
		}
	}
	return f.laid(m), nil
}

type transport struct {
	*field
	brightness []float32 // square root of light's luma
	slope      [][2]float32
	sure       []float32 // how much of what a slope rests on was known, 0 to 1
}

// aroundHole calls f for the pixels within two of some.
func (t *transport) aroundHole(ring []int, f func(i int)) {
	for _, i := range ring {
		x, y := i%t.w, i/t.w
		for v := max(y-2, 0); v <= min(y+2, t.h-1); v++ {
			for u := max(x-2, 0); u <= min(x+2, t.w-1); u++ {
				if t.known[v*t.w+u] {
					f(v*t.w + u)
				}
			}
		}
	}
}

func (t *transport) bright(i int) float32 {
	p := t.pix[3*i : 3*i+3]
	return float32(math.Sqrt(math.Max(0.2126*float64(p[0])+0.7152*float64(p[1])+0.0722*float64(p[2]), 0)))
}

// setSlope works out the slope of brightness at a pixel from those around that are known: the plane that
// fits them best, near ones most.
func (t *transport) setSlope(i int) {
	x, y := i%t.w, i/t.w
	var n, su, sv, suu, svv, suv, sb, sub, svb float64
	for v := max(y-2, 0) - y; v <= min(y+2, t.h-1)-y; v++ {
		for u := max(x-2, 0) - x; u <= min(x+2, t.w-1)-x; u++ {
			k := i + v*t.w + u
			if !t.known[k] {
				continue
			}
			w := near[u*u+v*v]
			b, a, c := float64(t.brightness[k]), float64(u), float64(v)
			n, su, sv, suu, svv, suv = n+w, su+w*a, sv+w*c, suu+w*a*a, svv+w*c*c, suv+w*a*c
			sb, sub, svb = sb+w*b, sub+w*a*b, svb+w*c*b
		}
	}
	share := n / allNear
	t.sure[i] = float32(share * share * share * share)
	if n == 0 {
		return
	}
	uu, vv, uv := suu-su*su/n, svv-sv*sv/n, suv-su*sv/n
	ub, vb := sub-su*sb/n, svb-sv*sb/n
	if d := uu*vv - uv*uv; d > 1e-9 {
		t.slope[i] = [2]float32{float32((ub*vv - vb*uv) / d), float32((vb*uu - ub*uv) / d)}
	}
}

// near is a Gaussian of standard deviation 1.2 by the square of the distance.
var near = func() (out [9]float64) {
	for k := range out {
		out[k] = math.Exp(-float64(k) / (2 * 1.2 * 1.2))
	}
	return out
}()

// allNear is the sum of them over five by five pixels.
var allNear = func() (sum float64) {
	for v := -2; v <= 2; v++ {
		for u := -2; u <= 2; u++ {
			sum += near[u*u+v*v]
		}
	}
	return sum
}()

// rings lists the pixels of the hole by their distance from what is known, in rings one pixel wide, each
// in order (two passes, Borgefors 1986, in place of fast marching).
func (t *transport) rings() [][]int {
	far := make([]float32, len(t.known))
	const side, across = 1, math.Sqrt2
	large := float32(t.w + t.h)
	at := func(x, y int) float32 {
		if x < 0 || y < 0 || x >= t.w || y >= t.h {
			return large
		}
		return far[y*t.w+x]
	}
	var deepest float32
	for i, known := range t.known {
		if !known {
			x, y := i%t.w, i/t.w
			far[i] = min(large, at(x-1, y)+side, at(x, y-1)+side, at(x-1, y-1)+across, at(x+1, y-1)+across)
		}
	}
	for i := len(far) - 1; i >= 0; i-- {
		if !t.known[i] {
			x, y := i%t.w, i/t.w
			far[i] = min(far[i], at(x+1, y)+side, at(x, y+1)+side, at(x+1, y+1)+across, at(x-1, y+1)+across)
			deepest = max(deepest, far[i])
		}
	}
	const fine = 8
	buckets := make([][]int, int(deepest*fine)+2)
	for i, known := range t.known {
		if !known {
			k := int(far[i] * fine)
			buckets[k] = append(buckets[k], i)
		}
	}
	var out [][]int
	for k := 0; k < len(buckets); k += fine {
		var ring []int
		for _, b := range buckets[k:min(k+fine, len(buckets))] {
			ring = append(ring, b...)
		}
		if len(ring) > 0 {
			out = append(out, ring)
		}
	}
	return out
}

// fill makes one pixel of those that are there: at places on lines through it along the edges and beside, between
// pixels where they fall so, lest what slants is bent to the grid (Hocking, MacKenzie & Schönlieb 2018).
func (t *transport) fill(i int) {
	x, y := i%t.w, i/t.w
	across, strength := t.across(x, y)
	along := [2]float64{across[1], -across[0]}
	const fall = 1.0 / (2 * transportReach * transportReach)
	var sum [3]float64
	var all float64
	for k := -transportReach; k <= transportReach; k++ {
		keeps := math.Exp(-strength * strength * fall * float64(k*k))
		if keeps < 1e-4 {
			continue
		}
		for j := -transportReach; j <= transportReach; j++ {
			d := j*j + k*k
			if d == 0 || d > transportReach*transportReach {
				continue
			}
			u := float64(x) + float64(j)*along[0] + float64(k)*across[0]
			v := float64(y) + float64(j)*along[1] + float64(k)*across[1]
			if rgb, ok := t.between(u, v); ok {
				w := keeps / math.Sqrt(float64(d))
				all += w
				for c := range 3 {
					sum[c] += w * rgb[c]
				}
			}
		}
	}
	if all == 0 { // no line leads to what is known
		for v := max(y-1, 0); v <= min(y+1, t.h-1); v++ {
			for u := max(x-1, 0); u <= min(x+1, t.w-1); u++ {
				if k := v*t.w + u; t.known[k] {
					all++
					for c := range 3 {
						sum[c] += float64(t.pix[3*k+c])
					}
				}
			}
		}
	}
	if all == 0 {
		return
	}
	for c := range 3 {
		t.pix[3*i+c] = float32(sum[c] / all)
	}
	t.known[i] = true
	t.brightness[i] = t.bright(i)
}

// between returns the colour at a place among the pixels' middles, bilinearly; ok is false where one of
// them is not known.
func (t *transport) between(x, y float64) (rgb [3]float64, ok bool) {
	fx, fy := math.Floor(x), math.Floor(y)
	u, v := x-fx, y-fy
	for j := range 2 {
		for i := range 2 {
			w := (float64(i)*u + float64(1-i)*(1-u)) * (float64(j)*v + float64(1-j)*(1-v))
			if w < 1e-9 {
				continue
			}
			px, py := int(fx)+i, int(fy)+j
			if px < 0 || py < 0 || px >= t.w || py >= t.h || !t.known[py*t.w+px] {
				return rgb, false
			}
			for c := range 3 {
				rgb[c] += w * float64(t.pix[3*(py*t.w+px)+c])
			}
		}
	}
	return rgb, true
}

// across returns the direction in which brightness changes most around a pixel, of those that are known, and
// how strongly values keep to lines across it: the greater eigenvector of the structure tensor.
func (t *transport) across(x, y int) (direction [2]float64, strength float64) {
	var xx, yy, xy, n float64
	// Of what is not known nothing is sure.
	first, last := max(x-structureReach, 0), min(x+structureReach, t.w-1)+1
	weights := structureWeight[first-x+structureReach : last-x+structureReach]
	for v := max(y-structureReach, 0); v <= min(y+structureReach, t.h-1); v++ {
		sure, slope := t.sure[v*t.w+first:v*t.w+last], t.slope[v*t.w+first:v*t.w+last]
		row := structureWeight[v-y+structureReach]
		for u, k := range weights {
			w := k * row * sure[u]
			a, b := slope[u][0], slope[u][1]
			xx, yy, xy, n = xx+float64(w*a*a), yy+float64(w*b*b), xy+float64(w*a*b), n+float64(w)
		}
	}
	direction[0] = 1
	if n == 0 {
		return direction, 1
	}
	xx, yy, xy = xx/n, yy/n, xy/n
	apart := math.Hypot(xx-yy, 2*xy) // of the eigenvalues
	if apart < 1e-12 {
		return direction, 1
	}
	angle := math.Atan2(2*xy, xx-yy) / 2
	direction[1], direction[0] = math.Sincos(angle)
	// A tenth of a code of 255 for each pixel is no structure.
	const least = (0.1 / 255) * (0.1 / 255)
	return direction, 1 + transportStrength*math.Exp(-least*least/(apart*apart))
}

// structureWeight is a Gaussian, from one end of what is judged to the other.
var structureWeight = func() (out [2*structureReach + 1]float32) {
	for k := range out {
		d := float64(k - structureReach)
		out[k] = float32(math.Exp(-d * d / (2 * structureSigma * structureSigma)))
	}
	return out
}()
