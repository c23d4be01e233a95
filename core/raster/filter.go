package raster

import (
	"image"
	"math"
	"runtime"
	"sync"

	"jardin/core/simd"
)

// gaussian returns the weights of a Gaussian cut at four standard deviations: that of the middle, then outwards.
func gaussian(sigma float64) []float32 {
	half := make([]float32, int(math.Ceil(4*sigma))+1)
	var sum float64
	weights := make([]float64, len(half))
	for i := range weights {
		d := float64(i)
		weights[i] = math.Exp(-d * d / (2 * sigma * sigma))
		sum += 2 * weights[i]
	}
	sum -= weights[0]
	for i, v := range weights {
		half[i] = float32(v / sum)
	}
	return half
}

// Gaussian returns the plane blurred by a Gaussian of the given standard
// deviation in pixels, cut at four of them; the border's samples go on beyond it.
// A sigma of 0 or less returns a copy.
func Gaussian(p *Plane, sigma float64) *Plane {
	if sigma <= 0 {
		return p.Crop(p.Rect)
	}
	return &Plane{p.Rect, blur(p.Pix, p.Rect.Dx(), p.Rect.Dy(), 1, gaussian(sigma))}
}

// GaussianImage is Gaussian for pictures; every channel is blurred by itself.
func GaussianImage(m *Image, sigma float64) *Image {
	if sigma <= 0 {
		return m.Crop(m.Rect)
	}
	return &Image{m.Rect, blur(m.Pix, m.Rect.Dx(), m.Rect.Dy(), 4, gaussian(sigma))}
}

// blur applies a symmetric kernel along rows, then along columns, strip by strip, as wide as the rows that the columns need next
// stay near the processor.
func blur(pix []float32, w, h, channels int, half []float32) []float32 {
	n, line := len(half)-1, w*channels
	out := make([]float32, len(pix))
	if len(out) == 0 {
		return out
	}
	const near = 8192 // samples
	strip := min(max(near/(2*n+1)&^63, 128), line)
	margin := n * channels
	bands(h, 4*n, func(y0, y1 int) {
		room := scratch((2*n+1)*strip + strip + 2*margin)
		defer spare.Put(room)
		kept, edge := (*room)[:(2*n+1)*strip], (*room)[(2*n+1)*strip:]
		rows := make([][]float32, 2*n+1)
		for x0 := 0; x0 < line; x0 += strip {
			size := min(strip, line-x0)
			slots := len(rows)
			slot := func(i int) []float32 { return kept[i*strip:][:size] }
			next := max(0, y0-n)
			for y := y0; y < y1; y++ {
				for ; next <= min(y+n, h-1); next++ {
					src := pix[next*line : (next+1)*line]
					if x0 >= margin && x0+size+margin <= line {
						src = src[x0-margin : x0+size+margin]
					} else {
						src = extend(edge[:size+2*margin], src, x0-margin, channels)
					}
					simd.Symmetric(slot(next%slots), src, channels, half)
				}
				first := clamp(y-n, h)
				for k, at := 0, first%slots; k < slots; k++ {
					rows[k] = slot(at)
					if row := y + k - n; row >= first && row < h-1 {
						if at++; at == slots {
							at = 0
						}
					}
				}
				simd.SymmetricRows(out[y*line+x0:][:size], rows, half)
			}
		}
	})
	return out
}

// extend copies a row from sample x on, which may lie before it; its first and last pixels go on at both sides.
func extend(dst, row []float32, x, channels int) []float32 {
	first, last := row[:channels], row[len(row)-channels:]
	if x < 0 {
		repeat(dst[:min(-x, len(dst))], first, (x%channels+channels)%channels)
	}
	if from := max(0, -x); from < len(dst) {
		copy(dst[from:], row[max(x, 0):])
	}
	if from := max(len(row)-x, 0); from < len(dst) {
		repeat(dst[from:], last, (from+x)%channels)
	}
	return dst
}

// repeat fills with a pixel over and over, from one of its channels on.
func repeat(dst, pixel []float32, c int) {
	for i := range dst {
		dst[i] = pixel[c]
		if c++; c == len(pixel) {
			c = 0
		}
	}
}

// bands calls f for bands of so many rows in all, on all processors; none is lower than least rows unless there is but one.
func bands(rows, least int, f func(y0, y1 int)) {
	workers := max(1, min(runtime.GOMAXPROCS(0), rows/max(least, 8)))
	parts := make([]func(), workers)
	for k := range workers {
		parts[k] = func() { f(rows*k/workers, rows*(k+1)/workers) }
	}
	if workers == 1 {
		parts[0]()
		return
	}
	Parallel(parts...)
}

var spare sync.Pool

// scratch returns n floats of any value, to be put back into spare.
func scratch(n int) *[]float32 {
	if v, ok := spare.Get().(*[]float32); ok && cap(*v) >= n {
		*v = (*v)[:n]
		return v
	}
	v := make([]float32, n)
	return &v
}

// Half returns the plane at half its size: the binomial filter (1 4 6 4 1)/16 in
// both directions, then every second sample (Burt & Adelson 1983, "The Laplacian
// pyramid as a compact image code"). Sample (i, j) of the result stands where
// sample (2i, 2j) stood, so a centre-based coordinate c becomes (c + 0.5) / 2,
// also for a plane that does not start at the origin.
func Half(p *Plane) *Plane {
	up := func(v int) int { return int(math.Ceil(float64(v) / 2)) }
	r := image.Rect(up(p.Rect.Min.X), up(p.Rect.Min.Y), up(p.Rect.Max.X), up(p.Rect.Max.Y))
	w, h, hw, hh := p.Rect.Dx(), p.Rect.Dy(), r.Dx(), r.Dy()
	left, top := 2*r.Min.X-p.Rect.Min.X, 2*r.Min.Y-p.Rect.Min.Y
	out := NewPlane(r)
	if w == 0 || h == 0 {
		return out
	}
	Rows(0, hh, func(j int) {
		// Sample k of wide is sample k + left - 2 of the row, whose first and last go on.
		first := 2 - left
		room := scratch(max(2*hw+3, first+w))
		defer spare.Put(room)
		wide := *room
		down := wide[first : first+w]
		var rows [5][]float32
		for k := range rows {
			rows[k] = p.Pix[clamp(2*j+top+k-2, h)*w:][:w]
		}
		simd.SymmetricRows(down, rows[:], binomial)
		for k := range first {
			wide[k] = down[0]
		}
		for k := first + w; k < len(wide); k++ {
			wide[k] = down[w-1]
		}
		simd.Halve(out.Pix[j*hw:(j+1)*hw], wide)
	})
	return out
}

var binomial = []float32{6. / 16, 4. / 16, 1. / 16}

// Pyramid returns the plane and its halvings, at most levels of them in all,
// stopping before a side falls under 16 samples.
func Pyramid(p *Plane, levels int) []*Plane {
	out := []*Plane{p}
	for len(out) < levels {
		last := out[len(out)-1]
		if min(last.Rect.Dx(), last.Rect.Dy()) < 32 {
			break
		}
		out = append(out, Half(last))
	}
	return out
}

// Gradient returns the horizontal and the vertical derivative in units per
// pixel: central differences; beyond the border its samples go on, so that there it is half of
// the one-sided difference.
func Gradient(p *Plane) (gx, gy *Plane) {
	gx, gy = NewPlane(p.Rect), NewPlane(p.Rect)
	w, h := p.Rect.Dx(), p.Rect.Dy()
	Rows(0, h, func(y int) {
		row := p.Pix[y*w : (y+1)*w]
		up, down := p.Pix[clamp(y-1, h)*w:][:w], p.Pix[clamp(y+1, h)*w:][:w]
		dx, dy := gx.Pix[y*w:(y+1)*w], gy.Pix[y*w:(y+1)*w]
		simd.Differ(dy, down, up, 0.5)
		if w > 2 {
			simd.Differ(dx[1:w-1], row[2:], row[:w-2], 0.5)
		}
		for _, x := range [2]int{0, w - 1} {
			dx[x] = (row[clamp(x+1, w)] - row[clamp(x-1, w)]) * 0.5
		}
	})
	return gx, gy
}

// Broad is a wide blur of a picture with sigma of 3 pixels or more: of the
// picture made smaller by whole pixels' means, enlarged again straight between them.
// It is a Gaussian to within some hundredths of the picture's range.
func Broad(m *Image, sigma float64) *Image {
	return &Image{m.Rect, broad(m.Pix, m.Rect.Dx(), m.Rect.Dy(), 4, sigma)}
}

// BroadPlane is Broad for a plane.
func BroadPlane(p *Plane, sigma float64) *Plane {
	return &Plane{p.Rect, broad(p.Pix, p.Rect.Dx(), p.Rect.Dy(), 1, sigma)}
}

func broad(pix []float32, w, h, channels int, sigma float64) []float32 {
	if len(pix) == 0 {
		return nil
	}
	k := max(1, int(sigma/1.5))
	sw, sh := (w+k-1)/k, (h+k-1)/k
	line := sw * channels
	small := make([]float32, sh*line)
	Rows(0, sh, func(j int) {
		top, low := j*k, min((j+1)*k, h)
		room := scratch(w * channels)
		defer spare.Put(room)
		sum := *room
		copy(sum, pix[top*w*channels:])
		for y := top + 1; y < low; y++ {
			simd.Add(sum, pix[y*w*channels:])
		}
		row := small[j*line : (j+1)*line]
		for i := range sw {
			from, to := i*k*channels, min((i+1)*k, w)*channels
			cell := row[i*channels : (i+1)*channels]
			for x := from; x < to; x += channels {
				for c, v := range sum[x : x+channels] {
					cell[c] += v
				}
			}
			n := float32((min((i+1)*k, w) - i*k) * (low - top))
			for c := range cell {
				cell[c] /= n
			}
		}
	})
	// A mean over k pixels, and going straight between means, each spread by k*k/12 and k*k/6.
	rest := sigma*sigma - float64(k*k)/4
	small = blur(small, sw, sh, channels, gaussian(math.Max(math.Sqrt(math.Max(rest, 0))/float64(k), 1e-3)))
	out := make([]float32, len(pix))
	// Where each column lies between two of the small picture's, which has its first and last once more beside it.
	cell, beyond := make([]int32, w), make([]float32, w)
	for x := range cell {
		u := (float32(x)+0.5)/float32(k) + 0.5
		cell[x] = int32(u)
		beyond[x] = u - float32(cell[x])
	}
	Rows(0, h, func(y int) {
		v := (float32(y)+0.5)/float32(k) - 0.5
		j := int(math.Floor(float64(v)))
		top, low := small[clamp(j, sh)*line:][:line], small[clamp(j+1, sh)*line:][:line]
		room := scratch(line + 2*channels)
		defer spare.Put(room)
		between := *room
		simd.Lerp(between[channels:channels+line], top, low, v-float32(j))
		copy(between, between[channels:2*channels])
		copy(between[channels+line:], between[line:])
		simd.Spread(out[y*w*channels:(y+1)*w*channels], between, channels, cell, beyond)
	})
	return out
}

// Grow returns the plane with everything bright grown by d pixels, or shrunk for a
// negative d: the greatest, or the least, sample within that distance. Beyond the plane
// there is nothing that counts. Each line of the disc is a sliding maximum (van Herk 1992,
// Gil & Werman 1993), so that its time grows with d, not with its square.
func Grow(p *Plane, d float64) *Plane {
	out := NewPlane(p.Rect)
	w, h := p.Rect.Dx(), p.Rect.Dy()
	if w == 0 || h == 0 {
		return out
	}
	sign := float32(1)
	if d < 0 {
		sign = -1
	}
	// By lines of the disc: how far it reaches to the side at each distance up or down.
	d = math.Min(math.Abs(d), float64(w+h))
	reach := min(int(math.Ceil(d)), h-1)
	half := make([]int, reach+1)
	for dy := range half {
		half[dy] = -1
		if rest := d*d - float64(dy*dy); rest >= 0 {
			half[dy] = min(int(math.Sqrt(rest)), w-1)
		}
	}
	src := make([]float32, len(p.Pix))
	for i, v := range p.Pix {
		src[i] = sign * v
	}
	Rows(0, h, func(y int) {
		dst := out.Pix[y*w : (y+1)*w]
		copy(dst, src[y*w:(y+1)*w])
		room := scratch(3 * (w + 2*half[0]))
		defer spare.Put(room)
		for dy := -reach; dy <= reach; dy++ {
			k := half[max(dy, -dy)]
			if y+dy < 0 || y+dy >= h || k < 0 {
				continue
			}
			row := src[(y+dy)*w:][:w]
			if k <= 3 {
				for dx := -k; dx <= k; dx++ {
					from, to := max(0, -dx), min(w, w-dx)
					for x := from; x < to; x++ {
						if v := row[x+dx]; v > dst[x] {
							dst[x] = v
						}
					}
				}
				continue
			}
			slide(row, k, *room, dst)
		}
		for x := range dst {
			dst[x] *= sign
		}
	})
	return out
}

// slide raises dst to the greatest sample of row within k of each place. room is for three
// rows with k more at each end: the row itself, the greatest up to each place in its block of
// 2k + 1, and from it on.
func slide(row []float32, k int, room, dst []float32) {
	n, block := len(row)+2*k, 2*k+1
	wide, before, after := room[:n], room[n:2*n], room[2*n:3*n]
	none := float32(math.Inf(-1))
	for i := range k {
		wide[i], wide[n-1-i] = none, none
	}
	copy(wide[k:], row)
	for i, v := range wide {
		if before[i] = v; i%block != 0 {
			before[i] = max(v, before[i-1])
		}
	}
	for i := n - 1; i >= 0; i-- {
		if after[i] = wide[i]; i != n-1 && i%block != block-1 {
			after[i] = max(wide[i], after[i+1])
		}
	}
	for x := range dst {
		dst[x] = max(dst[x], after[x], before[x+2*k])
	}
}

// Smallest returns the value that k others come before, and puts those before it (quickselect,
// Hoare 1961).
func Smallest(v []float32, k int) float32 {
	low, high := 0, len(v)-1
	for low < high {
		pivot := v[(low+high)/2]
		i, j := low, high
		for i <= j {
			for v[i] < pivot {
				i++
			}
			for v[j] > pivot {
				j--
			}
			if i <= j {
				v[i], v[j] = v[j], v[i]
				i++
				j--
			}
		}
		switch {
		case k <= j:
			high = j
		case k >= i:
			low = i
		default:
			return v[k]
		}
	}
	return v[k]
}
