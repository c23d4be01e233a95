// Package gather makes clean pixels for one frame of those around it, which were carried to it:
// their light is made equal and they are averaged, without what passes over for a while.
package gather

import (
	"image"
	"math"
	"slices"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// A Frame is one of those around, carried to the one that is wanted.
type Frame struct {
	Picture *raster.Image // linear light
	Counts  *raster.Plane // 1 where it shows the surface, 0 where it is hidden or beyond the picture
	Weight  float32       // in the average, above 0
}

// An Average is what many frames make together.
type Average struct {
	Picture *raster.Image // linear light, opaque where some frame shows the surface, else transparent
	// Unlike says where frames do not agree, 0 to 1: the share of their weight that is left out of
	// the average or, where that is half of it or more, 1.
	Unlike *raster.Plane
}

// outlier is how far from the median, in standard deviations, a frame may be to count.
const outlier = 2.5

// Mean averages frames over a part of the picture, or of that where wanted is above 0. At each pixel those are left out
// whose
// brightness, on the square root of light, is further than 2.5 standard deviations from the
// median; the deviation is estimated by that from the median (Hampel 1974: 1.4826 times its
// median), and at least noise, that of the grain. What passes over on less than half of the
// frames that show a place so leaves nothing behind. Two frames that do not agree are not told
// apart: the heavier one stands.
func Mean(frames []Frame, rect image.Rectangle, wanted *raster.Plane, noise float32) *Average {
	out := &Average{raster.NewImage(rect), raster.NewPlane(rect)}
	w := rect.Dx()
	raster.Rows(rect.Min.Y, rect.Max.Y, func(y int) {
		type sample struct {
			root, weight float32
			rgb          [3]float32
		}
		var samples []sample
		var roots, off []float32
		to, unlike := out.Picture.Row(y, rect.Min.X, rect.Max.X), out.Unlike.Row(y, rect.Min.X, rect.Max.X)
		for x := range w {
			if wanted != nil && wanted.At(rect.Min.X+x, y) <= 0 {
				continue
			}
			samples, roots, off = samples[:0], roots[:0], off[:0]
			for i := range frames {
				f := &frames[i]
				if f.Counts.At(rect.Min.X+x, y) < 1 {
					continue
				}
				p := f.Picture.Row(y, rect.Min.X+x, rect.Min.X+x+1)
				v := float32(math.Sqrt(float64(max(colorspace.Luma(p[0], p[1], p[2]), 0))))
				samples = append(samples, sample{v, f.Weight, [3]float32(p[:3])})
				roots = append(roots, v)
			}
			if len(samples) == 0 {
				continue
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
				off = append(off, float32(math.Abs(float64(samples[i].root-middle))))
			}
			near := outlier * noise
			if len(samples) > 2 {
				near = outlier * max(1.4826*median(off), noise)
			}
			var sum [3]float32
			var kept, all float32
			for i := range samples {
				s := &samples[i]
				all += s.weight
				if float32(math.Abs(float64(s.root-middle))) <= near {
					kept += s.weight
					for c := range 3 {
						sum[c] += s.weight * s.rgb[c]
					}
				}
			}
			for c := range 3 {
				to[4*x+c] = sum[c] / kept
			}
			to[4*x+3] = 1
			unlike[x] = min(2*(1-kept/all), 1)
		}
	})
	return out
}

// median returns the middle of some values, the mean of the two in the middle for an even
// number of them. It puts them in another order.
func median(v []float32) float32 {
	n := len(v)
	high := smallest(v, n/2)
	if n%2 == 1 {
		return high
	}
	return (slices.Max(v[:n/2]) + high) / 2
}

// smallest returns the value that k others come before, and puts those before it (quickselect,
// Hoare 1961).
func smallest(v []float32, k int) float32 {
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
