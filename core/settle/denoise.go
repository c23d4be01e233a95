package settle

import (
	"math"

	"jardin/core/raster"
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
	at := func(x, y int) float64 { return root(m.Pix[4*(y*w+x)+channel]) }
	var sum float64
	for y := 1; y < h-1; y++ {
		for x := 1; x < w-1; x++ {
			sum += math.Abs(at(x-1, y-1) - 2*at(x, y-1) + at(x+1, y-1) -
				2*at(x-1, y) + 4*at(x, y) - 2*at(x+1, y) +
				at(x-1, y+1) - 2*at(x, y+1) + at(x+1, y+1))
		}
	}
	return sum * math.Sqrt(math.Pi/2) / (6 * float64((w-2)*(h-2)))
}

func root(v float32) float64 { return math.Sqrt(math.Max(float64(v), 0)) }

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
		for i := range roots {
			roots[i] = float32(root(m.Pix[4*i+c]))
		}
		fall := float32(1 / (2 * tolerance * tolerance))
		raster.Rows(0, h, func(y int) {
			for x := range w {
				middle := roots[y*w+x]
				var sum, weights float32
				for j := max(-reach, -y); j <= min(reach, h-1-y); j++ {
					row := roots[(y+j)*w:]
					for i := max(-reach, -x); i <= min(reach, w-1-x); i++ {
						v := row[x+i]
						d := (v - middle) * (v - middle) * fall
						if d >= 4 {
							continue
						}
						k := 1 - d/4 // falls as exp(-d) does, and ends at twice the tolerance
						k = near[j+reach][i+reach] * k * k * k * k
						sum, weights = sum+k*v, weights+k
					}
				}
				v := sum / weights
				out.Pix[4*(y*w+x)+c] = v * v
			}
		})
	}
	return out
}
