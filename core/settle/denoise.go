package settle

import (
	"math"

	"jardin/core/raster"
	"jardin/core/simd"
)

// Noise estimates the standard deviation of a channel's grain, 0 to 2, on the
// square root of light, where film's and sensors' grain is about even from dark to
// bright (Anscombe 1948). Half of the mean of the absolute response to a filter
// that neither flat areas nor straight edges pass (Immerkær 1996, "Fast noise
// variance estimation").
func Noise(m *raster.Image, channel int) float64 {
	w, h := m.Rect.Dx(), m.Rect.Dy()
	if w < 3 || h < 3 {
		return 0
	}
	sums := make([]float64, h) // by row, so that they are added in one order on any machine
	raster.Rows(1, h-1, func(y int) {
		// The filter is the same one across and down: first down.
		column := func(x int) float64 {
			i := 4*((y-1)*w+x) + channel
			return root(m.Pix[i]) - 2*root(m.Pix[i+4*w]) + root(m.Pix[i+8*w])
		}
		a, b := column(0), column(1)
		var sum float64
		for x := 2; x < w; x++ {
			c := column(x)
			sum += math.Abs(a - 2*b + c)
			a, b = b, c
		}
		sums[y] = sum
	})
	var sum float64
	for _, v := range sums {
		sum += v
	}
	return sum * math.Sqrt(math.Pi/2) / (6 * float64((w-2)*(h-2)))
}

func root(v float32) float64 {
	if !(v > 0) {
		return 0
	}
	return math.Sqrt(float64(v))
}

// Denoise returns the picture with its grain reduced and its edges kept: a bilateral
// filter (Tomasi & Manduchi 1998) over 7 by 7 pixels on the square root of light.
// Its tolerance is strength times each channel's own grain; 3 is usual.
func Denoise(m *raster.Image, strength float64) *raster.Image {
	const reach, sigma = 3, 1.5
	w, h := m.Rect.Dx(), m.Rect.Dy()
	out := m.Crop(m.Rect)
	var near [2*reach + 1][2*reach + 1]float32
	for j := range near {
		for i := range near[j] {
			dx, dy := float64(i-reach), float64(j-reach)
			near[j][i] = float32(math.Exp(-(dx*dx + dy*dy) / (2 * sigma * sigma)))
		}
	}
	roots := make([]float32, w*h)
	for c := range 3 {
		tolerance := strength * Noise(m, c)
		if tolerance <= 0 {
			continue
		}
		raster.Rows(0, h, func(y int) {
			for i := y * w; i < (y+1)*w; i++ {
				roots[i] = float32(root(m.Pix[4*i+c]))
			}
		})
		fall := float32(1 / (8 * tolerance * tolerance))
		raster.Rows(0, h, func(y int) {
			sum, weights := make([]float32, w), make([]float32, w)
			middle := roots[y*w : (y+1)*w]
			for j := max(-reach, -y); j <= min(reach, h-1-y); j++ {
				for i := -reach; i <= reach; i++ {
					// The weight falls as exp(-d) does, and ends at twice the tolerance.
					from, to := max(0, -i), min(w, w-i)
					if from < to {
						simd.Alike(sum[from:to], weights[from:to], middle[from:to], roots[(y+j)*w+from+i:], near[j+reach][i+reach], fall)
					}
				}
			}
			for x, v := range sum {
				v /= weights[x]
				out.Pix[4*(y*w+x)+c] = v * v
			}
		})
	}
	return out
}
