// Package settle makes a patch sit on the plate: by its light, tone, softness,
// grain and edge.
package settle

import (
	"math"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// BlendMode a patch is laid.
type BlendMode int

const (
	Normal  BlendMode = iota
	Darken            // only where it is darker than the picture
	Lighten           // only where it is lighter
)

// A Patch is what is laid over a picture.
type Patch struct {
	*raster.Image               // premultiplied
	Still         *raster.Plane // share of each pixel that has no moving grain of its own, premultiplied; nil for none
}

// Composite lays a patch over the picture through a matte and an opacity, in linear
// light, on the pixels that all share. It sets touched to 1 wherever the patch has
// any weight and changes nothing elsewhere. missing, if it is not nil, is set to
// the share of its standard deviation that the grain of each pixel then lacks:
// grains that are mixed are independent, so their variances add.
func Composite(
	picture *raster.Image,
	patch Patch,
	through *raster.Plane,
	opacity float32,
	how BlendMode,
	touched, missing *raster.Plane,
) {
	r := picture.Rect.Intersect(patch.Rect).Intersect(through.Rect).Intersect(touched.Rect)
	raster.Rows(r.Min.Y, r.Max.Y, func(y int) {
		dst, src := picture.Row(y, r.Min.X, r.Max.X), patch.Row(y, r.Min.X, r.Max.X)
		cover, mark := through.Row(y, r.Min.X, r.Max.X), touched.Row(y, r.Min.X, r.Max.X)
		for i, m := range cover {
			weight := m * opacity
			alpha := src[4*i+3] * weight
			if alpha == 0 {
				continue
			}
			if how != Normal {
				own := colorspace.Luma(src[4*i], src[4*i+1], src[4*i+2]) / src[4*i+3]
				there := colorspace.Luma(dst[4*i], dst[4*i+1], dst[4*i+2])
				if (how == Darken) != (own < there) {
					continue
				}
			}
			mark[i] = 1
			for k := range 3 {
				dst[4*i+k] = src[4*i+k]*weight + dst[4*i+k]*(1-alpha)
			}
			if missing != nil && patch.Still != nil {
				still := patch.Still.At(r.Min.X+i, y) * weight
				moving := alpha - still
				left := 1 - (1-alpha)*(1-alpha) - moving*moving
				missing.Row(y, r.Min.X+i, r.Min.X+i+1)[0] = float32(math.Sqrt(float64(max(left, 0))))
			}
		}
	})
}

// Blend makes a seam disappear: it takes the difference between plate and patch
// where the patch ends, as far as grain lets it be known, and adds it to the patch,
// less and less inwards over width pixels. So the patch meets the plate in colour
// while its detail stays its own: what gradient-domain blending does (Pérez et al.
// 2003), with the difference spread by normalised convolution (Knutsson & Westin
// 1993) on the square root of light. through is the matte that it is laid through,
// valid where the plate around shows the surface.
func Blend(patch *raster.Image, plate *raster.Image, through, valid *raster.Plane, width float64) {
	r := through.Rect.Intersect(patch.Rect).Intersect(plate.Rect)
	all := raster.NewImage(r) // differences, and in the fourth sample whether they are known
	// The rim: just outside the matte, or where it is thin.
	depth := depths(through)
	const rim = 4
	raster.Rows(r.Min.Y, r.Max.Y, func(y int) {
		p, q, a := patch.Row(y, r.Min.X, r.Max.X), plate.Row(y, r.Min.X, r.Max.X), all.Row(y, r.Min.X, r.Max.X)
		d, ok := depth.Row(y, r.Min.X, r.Max.X), valid.Row(y, r.Min.X, r.Max.X)
		for x := range d {
			if d[x] > 0 || d[x] < -rim || ok[x] == 0 || p[4*x+3] < 0.99 {
				continue
			}
			a[4*x+3] = 1
			for c := range 3 {
				a[4*x+c] = float32(root(q[4*x+c]) - root(p[4*x+c]/p[4*x+3]))
			}
		}
	})
	sigma := math.Max(width/2, 3)
	all = raster.Broad(all, sigma)
	raster.Rows(r.Min.Y, r.Max.Y, func(y int) {
		p, q, d := patch.Row(y, r.Min.X, r.Max.X), all.Row(y, r.Min.X, r.Max.X), depth.Row(y, r.Min.X, r.Max.X)
		for x := range d {
			u := 1 - float64(d[x])/width
			if q[4*x+3] < 1e-4 || u <= 0 || p[4*x+3] <= 0 {
				continue
			}
			u = math.Min(u, 1)
			k := u * u * (3 - 2*u)
			for c := range 3 {
				v := root(p[4*x+c]/p[4*x+3]) + k*float64(q[4*x+c]/q[4*x+3])
				v = math.Max(v, 0)
				p[4*x+c] = float32(v*v) * p[4*x+3]
			}
		}
	})
}

// depths returns how deep each pixel lies inside a matte, in pixels to within a
// tenth; outside negative (chamfer distances, Borgefors 1986).
func depths(m *raster.Plane) *raster.Plane {
	out := raster.NewPlane(m.Rect)
	w, h := m.Rect.Dx(), m.Rect.Dy()
	const far, side, corner = 1e6, 0.955, 1.369
	stride := w + 2
	pass := func(inside bool) []float32 {
		d := make([]float32, stride*(h+2))
		for i := range d {
			d[i] = far
		}
		for y := range h {
			row, cover := d[(y+1)*stride+1:][:w], m.Pix[y*w:(y+1)*w]
			for x, v := range cover {
				if (v > 0.02) != inside {
					row[x] = 0
				}
			}
		}
		for y := 1; y <= h; y++ {
			row, up := d[y*stride:(y+1)*stride], d[(y-1)*stride:y*stride]
			for x := 1; x <= w; x++ {
				row[x] = nearer(row[x], row[x-1]+side, up[x]+side, up[x-1]+corner, up[x+1]+corner)
			}
		}
		for y := h; y >= 1; y-- {
			row, down := d[y*stride:(y+1)*stride], d[(y+1)*stride:(y+2)*stride]
			for x := w; x >= 1; x-- {
				row[x] = nearer(row[x], row[x+1]+side, down[x]+side, down[x+1]+corner, down[x-1]+corner)
			}
		}
		return d
	}
	var in, outside []float32
	raster.Parallel(func() { in = pass(true) }, func() { outside = pass(false) })
	for i := range out.Pix {
		k := (i/w+1)*stride + i%w + 1
		if m.Pix[i] > 0.02 {
			out.Pix[i] = in[k]
		} else {
			out.Pix[i] = -outside[k]
		}
	}
	return out
}

// nearer is the least of five distances, none of which is NaN: min is slower, as it
// looks for that.
func nearer(a, b, c, d, e float32) float32 {
	if b < a {
		a = b
	}
	if d < c {
		c = d
	}
	if e < c {
		c = e
	}
	if c < a {
		return c
	}
	return a
}

// Unmix corrects the soft edge of a front. There the plate shows g of the front and
// 1 - g of what was behind it, the removed thing; the picture has to show g of the
// front and 1 - g of the patch. was is what the removed thing looks like there, front
// the coverage g. patch is what lies behind now, premultiplied, laid with the weight
// that through says.
func Unmix(picture, plate, was *raster.Image, patch *raster.Image, front, through *raster.Plane) {
	r := picture.Rect.Intersect(plate.Rect).
		Intersect(was.Rect).
		Intersect(patch.Rect).
		Intersect(front.Rect).
		Intersect(through.Rect)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		dst, src := picture.Row(y, r.Min.X, r.Max.X), plate.Row(y, r.Min.X, r.Max.X)
		old, now := was.Row(y, r.Min.X, r.Max.X), patch.Row(y, r.Min.X, r.Max.X)
		g, t := front.Row(y, r.Min.X, r.Max.X), through.Row(y, r.Min.X, r.Max.X)
		for x, k := range g {
			if k <= 0.02 || k >= 0.995 || t[x] == 0 || now[4*x+3] == 0 || old[4*x+3] == 0 {
				continue
			}
			weight := t[x] * now[4*x+3]
			sure := min(k/0.15, 1) // of what is hardly there little can be told
			for c := range 3 {
				// What the front alone adds; it cannot be less than nothing.
				own := max(src[4*x+c]-(1-k)*old[4*x+c], 0) * sure
				right := own + (1-k*sure)*now[4*x+c]/now[4*x+3]
				dst[4*x+c] += weight * (right - dst[4*x+c])
			}
		}
	}
}

// NormalizedBlur returns what a picture looks like around each pixel, judged by those that
// count (normalised convolution): opaque where anything within about 3 sigma does,
// transparent elsewhere.
func NormalizedBlur(m *raster.Image, counts *raster.Plane, sigma float64) *raster.Image {
	out := raster.NewImage(counts.Rect)
	for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
		for x := out.Rect.Min.X; x < out.Rect.Max.X; x++ {
			k := counts.At(x, y)
			v := m.At(x, y)
			out.Set(x, y, [4]float32{v[0] * k, v[1] * k, v[2] * k, k})
		}
	}
	out = raster.GaussianImage(out, sigma)
	for i := 0; i < len(out.Pix); i += 4 {
		a := out.Pix[i+3]
		if a < 1e-3 {
			clear(out.Pix[i : i+4])
			continue
		}
		for c := range 3 {
			out.Pix[i+c] /= a
		}
		out.Pix[i+3] = 1
	}
	return out
}
