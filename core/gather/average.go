// Package gather makes clean pixels for one frame of those around it, which were carried to it:
// their light is made equal, and they are averaged, without what passes over for a while, or
// joined, each place from one of them, along seams that show least.
package gather

import (
	"image"
	"math"
	"slices"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// A Stack is what several frames show of each pixel of a part of the picture, up to so many
// of each.
type Stack struct {
	rect    image.Rectangle
	most    int
	seen    []uint8
	samples []sample // most for each pixel
}

type sample struct {
	root, weight float32 // the square root of its luma; its weight in an average, above 0
	rgb          [3]float32
}

// NewStack returns an empty one; most is at most 255.
func NewStack(rect image.Rectangle, most int) *Stack {
	n := rect.Dx() * rect.Dy()
	return &Stack{rect, most, make([]uint8, n), make([]sample, n*most)}
}

// Lacks reports whether there is room for one more frame at a pixel.
func (s *Stack) Lacks(x, y int) bool { return int(s.seen[s.at(x, y)]) < s.most }

// Bare returns a test for the pixels that no frame was added to until now, as long as there is room at them.
func (s *Stack) Bare() func(x, y int) bool {
	bare := NewBits(len(s.seen))
	for i, n := range s.seen {
		if n == 0 {
			bare.Add(i)
		}
	}
	return func(x, y int) bool { return bare.Has(s.at(x, y)) && s.Lacks(x, y) }
}

func (s *Stack) at(x, y int) int { return (y-s.rect.Min.Y)*s.rect.Dx() + x - s.rect.Min.X }

// Add adds what a frame shows at a pixel, in linear light, where there is room for it.
func (s *Stack) Add(x, y int, rgb [3]float32, weight float32) {
	i := s.at(x, y)
	n := int(s.seen[i])
	if n == s.most {
		return
	}
	s.samples[i*s.most+n] = sample{rootOf(rgb), weight, rgb}
	s.seen[i]++
}

func rootOf(rgb [3]float32) float32 {
	return float32(math.Sqrt(float64(max(colorspace.Luma(rgb[0], rgb[1], rgb[2]), 0))))
}

// An Average is what many frames make together.
type Average struct {
	Picture *raster.Image // linear light, opaque where some frame shows the surface, else transparent
	// Unlike says where frames do not agree, 0 to 1: the share of their weight that is left out of
	// the average or, where that is half of it or more, 1.
	Unlike *raster.Plane
	// Grain is how much of a frame's grain is left, 0 to 1: the share of its standard deviation.
	Grain *raster.Plane
}

// NewAverage returns one in which nothing is seen.
func NewAverage(rect image.Rectangle) *Average {
	return &Average{raster.NewImage(rect), raster.NewPlane(rect), raster.NewPlane(rect)}
}

// Bytes returns the memory that it takes.
func (a *Average) Bytes() int { return a.Picture.Bytes() + a.Unlike.Bytes() + a.Grain.Bytes() }

// Paste puts a part that was averaged by itself into the whole.
func (a *Average) Paste(part *Average) {
	a.Picture.Paste(part.Picture)
	r := part.Unlike.Rect
	for y := r.Min.Y; y < r.Max.Y; y++ {
		copy(a.Unlike.Row(y, r.Min.X, r.Max.X), part.Unlike.Row(y, r.Min.X, r.Max.X))
		copy(a.Grain.Row(y, r.Min.X, r.Max.X), part.Grain.Row(y, r.Min.X, r.Max.X))
	}
}

// outlier is how far from the median, in standard deviations, a frame may be to count.
const outlier = 2.5

// Mean averages the frames of each pixel. Those are left out whose
// brightness, on the square root of light, is further than 2.5 standard deviations from the
// median; the deviation is estimated by that from the median (Hampel 1974: 1.4826 times its
// median), and at least noise, that of the grain. What passes over on less than half of the
// frames that show a place so leaves nothing behind. Two frames that do not agree are not told
// apart: the heavier one stands.
func (s *Stack) Mean(noise float32) *Average {
	out := NewAverage(s.rect)
	w := s.rect.Dx()
	raster.Rows(0, s.rect.Dy(), func(y int) {
		roots, off := make([]float32, s.most), make([]float32, s.most)
		for i := y * w; i < (y+1)*w; i++ {
			if n := int(s.seen[i]); n > 0 {
				rgb, unlike, grain := meanOf(s.samples[i*s.most:i*s.most+n], noise, roots[:n], off[:n])
				copy(out.Picture.Pix[4*i:], rgb[:])
				out.Picture.Pix[4*i+3] = 1
				out.Unlike.Pix[i], out.Grain.Pix[i] = unlike, grain
			}
		}
	})
	return out
}

// carriedGrain is how much of a frame's grain is left when it is brought to another by cubic convolution, about.
const carriedGrain = 0.9

// meanOf averages one pixel's samples; roots and off are room for as many numbers.
func meanOf(samples []sample, noise float32, roots, off []float32) (rgb [3]float32, unlike, grain float32) {
	for i := range samples {
		roots[i] = samples[i].root
	}
	var middle float32
	if len(samples) == 2 {
		middle = samples[0].root
		if samples[1].weight > samples[0].weight {
			middle = samples[1].root
		}
	} else {
		middle = median(roots)
	}
	for i := range samples {
		off[i] = distance(samples[i].root, middle)
	}
	near := outlier * noise
	if len(samples) > 2 {
		near = outlier * max(1.4826*median(off), noise)
	}
	var kept, all, squares float32
	for i := range samples {
		s := &samples[i]
		all += s.weight
		if distance(s.root, middle) <= near {
			kept += s.weight
			squares += s.weight * s.weight
			for c := range 3 {
				rgb[c] += s.weight * s.rgb[c]
			}
		}
	}
	for c := range 3 {
		rgb[c] /= kept
	}
	return rgb, min(2*(1-kept/all), 1), carriedGrain * float32(math.Sqrt(float64(squares))) / kept
}

func distance(a, b float32) float32 {
	if a < b {
		return b - a
	}
	return a - b
}

// median returns the middle of some values, the mean of the two in the middle for an even
// number of them. It puts them in another order.
func median(v []float32) float32 {
	n := len(v)
	if n <= 16 { // quicker than to choose
		for i := 1; i < n; i++ {
			at, k := v[i], i
			for ; k > 0 && v[k-1] > at; k-- {
				v[k] = v[k-1]
			}
			v[k] = at
		}
		return (v[(n-1)/2] + v[n/2]) / 2
	}
	high := raster.Smallest(v, n/2)
	if n%2 == 1 {
		return high
	}
	return (slices.Max(v[:n/2]) + high) / 2
}
