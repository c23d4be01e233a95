// Package raster holds pictures as float32 samples and the operations on them
// that everything else is made of: sampling, warps, blurs, gradients, pyramids.
//
// Colour is interleaved, premultiplied RGBA in linear light, so that a pixel is
// one 128-bit load; luma and mattes are single planes. A picture covers a
// rectangle of the frame, which need not start at the origin: all work happens
// on the part of a frame that matters. Pixel (x, y) has its centre at
// (x + 0.5, y + 0.5), as package geom says.
package raster

import (
	"image"
	"math"
	"runtime"
	"sync"
	"sync/atomic"

	"jardin/core/geom"
	"jardin/core/simd"
)

// An Image is a picture of premultiplied RGBA, four samples a pixel.
type Image struct {
	Rect image.Rectangle
	Pix  []float32
}

// A Plane is a picture of one sample a pixel.
type Plane struct {
	Rect image.Rectangle
	Pix  []float32
}

// NewImage returns a transparent black image.
func NewImage(r image.Rectangle) *Image {
	return &Image{r, make([]float32, 4*r.Dx()*r.Dy())}
}

// NewPlane returns a plane of zeros.
func NewPlane(r image.Rectangle) *Plane { return &Plane{r, make([]float32, r.Dx()*r.Dy())} }

// Row returns the samples of the image from x0 to x1 at line y; all must lie
// within the image.
func (m *Image) Row(y, x0, x1 int) []float32 {
	i := 4 * ((y-m.Rect.Min.Y)*m.Rect.Dx() + x0 - m.Rect.Min.X)
	return m.Pix[i : i+4*(x1-x0)]
}

// At returns the pixel; outside the image it is transparent black.
func (m *Image) At(x, y int) (v [4]float32) {
	if (image.Point{X: x, Y: y}).In(m.Rect) {
		i := 4 * ((y-m.Rect.Min.Y)*m.Rect.Dx() + x - m.Rect.Min.X)
		v = [4]float32(m.Pix[i : i+4])
	}
	return v
}

// Set changes the pixel, which must lie within the image.
func (m *Image) Set(x, y int, v [4]float32) { copy(m.Row(y, x, x+1), v[:]) }

// Crop returns a copy of the part of the image in r; where r is outside the
// image it is transparent black.
func (m *Image) Crop(r image.Rectangle) *Image {
	out := NewImage(r)
	out.Paste(m)
	return out
}

// Over lays premultiplied src over m where both are.
func (m *Image) Over(src *Image) {
	r := m.Rect.Intersect(src.Rect)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		simd.Over(m.Row(y, r.Min.X, r.Max.X), src.Row(y, r.Min.X, r.Max.X))
	}
}

// Paste copies the pixels of src into m where both are.
func (m *Image) Paste(src *Image) {
	r := m.Rect.Intersect(src.Rect)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		copy(m.Row(y, r.Min.X, r.Max.X), src.Row(y, r.Min.X, r.Max.X))
	}
}

// Bytes returns the memory that the samples take.
func (m *Image) Bytes() int { return 4 * len(m.Pix) }

// Row returns the samples of the plane from x0 to x1 at line y.
func (p *Plane) Row(y, x0, x1 int) []float32 {
	i := (y-p.Rect.Min.Y)*p.Rect.Dx() + x0 - p.Rect.Min.X
	return p.Pix[i : i+x1-x0]
}

// At returns the sample, or 0 outside the plane.
func (p *Plane) At(x, y int) float32 {
	if !(image.Point{X: x, Y: y}).In(p.Rect) {
		return 0
	}
	return p.Pix[(y-p.Rect.Min.Y)*p.Rect.Dx()+x-p.Rect.Min.X]
}

// Crop returns a copy of the part of the plane in r; where r is outside the plane it
// is 0.
func (p *Plane) Crop(r image.Rectangle) *Plane {
	out := NewPlane(r)
	both := r.Intersect(p.Rect)
	for y := both.Min.Y; y < both.Max.Y; y++ {
		copy(out.Row(y, both.Min.X, both.Max.X), p.Row(y, both.Min.X, both.Max.X))
	}
	return out
}

// Bytes returns the memory that the samples take.
func (p *Plane) Bytes() int { return 4 * len(p.Pix) }

// Max raises every pixel that both planes have to the other's value where that is greater.
func (p *Plane) Max(other *Plane) {
	both := p.Rect.Intersect(other.Rect)
	for y := both.Min.Y; y < both.Max.Y; y++ {
		dst := p.Row(y, both.Min.X, both.Max.X)
		for x, v := range other.Row(y, both.Min.X, both.Max.X) {
			dst[x] = max(dst[x], v)
		}
	}
}

// Around returns the pixels that a box touches, grown by margin pixels and cut
// to within.
func Around(b geom.Box, margin float64, within image.Rectangle) image.Rectangle {
	floor := func(v float64) int { return int(math.Floor(math.Max(math.Min(v, 1e6), -1e6))) }
	return image.Rect(
		floor(b.Min.X-margin), floor(b.Min.Y-margin),
		floor(b.Max.X+margin)+1, floor(b.Max.Y+margin)+1).Intersect(within)
}

// Rows calls f for every line from y0 to y1, on all processors, and returns
// when the last call has. A panic of f is one of Rows.
func Rows(y0, y1 int, f func(y int)) {
	workers := min(runtime.GOMAXPROCS(0), (y1-y0)/8)
	if workers <= 1 {
		for y := y0; y < y1; y++ {
			simd.Fence()
			f(y)
		}
		return
	}
	parts := make([]func(), workers)
	for k := range workers {
		a, b := y0+(y1-y0)*k/workers, y0+(y1-y0)*(k+1)/workers
		parts[k] = func() {
			for y := a; y < b; y++ {
				simd.Fence()
				f(y)
			}
		}
	}
	Parallel(parts...)
}

// Parallel calls several functions at once and returns when the last has. Whoever called it
// gets the panic of any: one in a goroutine of its own would take the whole program along.
func Parallel(parts ...func()) {
	var wait sync.WaitGroup
	var broken atomic.Pointer[any]
	for _, f := range parts {
		wait.Go(func() {
			defer func() {
				if p := recover(); p != nil {
					broken.CompareAndSwap(nil, &p)
				}
			}()
			f()
		})
	}
	wait.Wait()
	if p := broken.Load(); p != nil {
		panic(*p)
	}
}
