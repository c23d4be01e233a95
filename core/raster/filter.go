package raster

import (
	"image"
	"math"
	"sync"

	"gonum.org/v1/gonum/blas/gonum"
)

// gaussian returns the weights of a Gaussian cut at four standard deviations.
func gaussian(sigma float64) []float32 {
	n := int(math.Ceil(4 * sigma))
	kernel := make([]float32, 2*n+1)
	var sum float64
	for i := range kernel {
		d := float64(i - n)
		v := math.Exp(-d * d / (2 * sigma * sigma))
		kernel[i], sum = float32(v), sum+v
	}
	for i := range kernel {
		kernel[i] /= float32(sum)
	}
	return kernel
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

// blur applies a kernel along rows, then along columns. Both go by whole rows, one
// weight at a time: that is what vector instructions do best.
func blur(pix []float32, w, h, channels int, kernel []float32) []float32 {
	n := len(kernel) / 2
	line := w * channels
	mid, out := make([]float32, len(pix)), make([]float32, len(pix))
	Rows(0, h, func(y int) {
		src, dst := pix[y*line:(y+1)*line], mid[y*line:(y+1)*line]
		// The row with its first and last samples going on at both sides.
		wide := scratch(line + 2*n*channels)
		defer spare.Put(wide)
		copy((*wide)[n*channels:], src)
		for k := range n * channels {
			(*wide)[k] = src[k%channels]
			(*wide)[n*channels+line+k] = src[line-channels+k%channels]
		}
		for k, weight := range kernel {
			axpy(weight, (*wide)[k*channels:][:line], dst)
		}
	})
	Rows(0, h, func(y int) {
		dst := out[y*line : (y+1)*line]
		for k, weight := range kernel {
			axpy(weight, mid[clamp(y+k-n, h)*line:][:line], dst)
		}
	})
	return out
}

// axpy adds x times weight to y.
func axpy(weight float32, x, y []float32) {
	gonum.Implementation{}.Saxpy(len(x), weight, x, 1, y, 1)
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
	mid := NewPlane(image.Rect(0, 0, hw, h))
	Rows(0, h, func(y int) {
		src, dst := p.Pix[y*w:(y+1)*w], mid.Pix[y*hw:(y+1)*hw]
		for i := range dst {
			x := 2*i + left
			if x >= 2 && x+2 < w {
				s := src[x-2 : x+3 : x+3]
				dst[i] = (s[0]+s[4])*(1./16) + (s[1]+s[3])*(4./16) + s[2]*(6./16)
			} else {
				at := func(k int) float32 { return src[clamp(x+k, w)] }
				dst[i] = (at(-2)+at(2))*(1./16) + (at(-1)+at(1))*(4./16) + at(0)*(6./16)
			}
		}
	})
	out := NewPlane(r)
	Rows(0, hh, func(j int) {
		line := func(k int) []float32 { return mid.Pix[clamp(2*j+top+k, h)*hw:][:hw] }
		a, b, c, d, e := line(-2), line(-1), line(0), line(1), line(2)
		dst := out.Pix[j*hw : (j+1)*hw]
		for x := range dst {
			dst[x] = (a[x]+e[x])*(1./16) + (b[x]+d[x])*(4./16) + c[x]*(6./16)
		}
	})
	return out
}

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
		for x := range row {
			dx[x] = (row[clamp(x+1, w)] - row[clamp(x-1, w)]) * 0.5
			dy[x] = (down[x] - up[x]) * 0.5
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
	k := max(1, int(sigma/1.5))
	sw, sh := (w+k-1)/k, (h+k-1)/k
	line := sw * channels
	small := make([]float32, sh*line)
	Rows(0, sh, func(j int) {
		row := small[j*line : (j+1)*line]
		top, low := j*k, min((j+1)*k, h)
		for y := top; y < low; y++ {
			src := pix[y*w*channels : (y+1)*w*channels]
			for i := range sw {
				for x := i * k * channels; x < min((i+1)*k, w)*channels; x += channels {
					for c := range channels {
						row[i*channels+c] += src[x+c]
					}
				}
			}
		}
		for i := range sw {
			n := float32((min((i+1)*k, w) - i*k) * (low - top))
			for c := range channels {
				row[i*channels+c] /= n
			}
		}
	})
	// A mean over k pixels, and going straight between means, each spread by k*k/12 and k*k/6.
	rest := sigma*sigma - float64(k*k)/4
	small = blur(small, sw, sh, channels, gaussian(math.Max(math.Sqrt(math.Max(rest, 0))/float64(k), 1e-3)))
	out := make([]float32, len(pix))
	Rows(0, h, func(y int) {
		row := out[y*w*channels : (y+1)*w*channels]
		v := (float32(y)+0.5)/float32(k) - 0.5
		j := int(math.Floor(float64(v)))
		fy := v - float32(j)
		top, low := small[clamp(j, sh)*line:][:line], small[clamp(j+1, sh)*line:][:line]
		between := scratch(line)
		defer spare.Put(between)
		mid := *between
		for i := range mid {
			mid[i] = top[i] + (low[i]-top[i])*fy
		}
		for x := range w {
			u := (float32(x)+0.5)/float32(k) - 0.5
			i := int(u+1) - 1 // rounded down: u is above -1
			fx := u - float32(i)
			a, b := clamp(i, sw)*channels, clamp(i+1, sw)*channels
			for c := range channels {
				row[x*channels+c] = mid[a+c] + (mid[b+c]-mid[a+c])*fx
			}
		}
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
