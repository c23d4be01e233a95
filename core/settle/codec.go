package settle

import (
	"math"

	"jardin/core/raster"
)

// BlocksShow is from which Blockiness on the blocks of compression are plain: pictures that were never compressed stay below.
const BlocksShow = 1.3

// Blockiness tells whether a picture was compressed in blocks of 8 pixels, as JPEG, MPEG and their kin do: the mean kink across
// the lines of the grid on which that is strongest, over the mean of the other seven, down and across (a no-reference measure:
// Wang, Sheikh & Bovik 2002). 1 is a picture without blocks. p begins anywhere on the grid.
func Blockiness(p *raster.Plane) float64 {
	w, h := p.Rect.Dx(), p.Rect.Dy()
	if w < 64 || h < 64 {
		return 1
	}
	at := func(x, y int) float64 { return float64(p.Pix[y*w+x]) }
	var across, down [8]float64
	var acrossCount, downCount [8]float64
	for y := 2; y < h-2; y++ {
		for x := 2; x < w-2; x++ {
			// How much more the step here is than the steps beside it.
			kink := math.Abs(at(x, y)-at(x-1, y)) - (math.Abs(at(x-1, y)-at(x-2, y))+math.Abs(at(x+1, y)-at(x, y)))/2
			across[x%8] += math.Max(kink, 0)
			acrossCount[x%8]++
			kink = math.Abs(at(x, y)-at(x, y-1)) - (math.Abs(at(x, y-1)-at(x, y-2))+math.Abs(at(x, y+1)-at(x, y)))/2
			down[y%8] += math.Max(kink, 0)
			downCount[y%8]++
		}
	}
	strongest := func(sum, count [8]float64) float64 {
		var most, all float64
		for k := range sum {
			v := sum[k] / math.Max(count[k], 1)
			most, all = math.Max(most, v), all+v
		}
		return most / math.Max((all-most)/7, 1e-9)
	}
	// Texture has lines of its own; on a grid they show both ways.
	return math.Min(strongest(across, acrossCount), strongest(down, downCount))
}

// Same reports whether two pictures of the same part are one frame shown twice: they differ by less than a tenth of the grain
// that one of them has.
func Same(a, b *raster.Image) bool {
	if a.Rect != b.Rect || len(a.Pix) == 0 {
		return false
	}
	noise := Noise(a, 1)
	var sum float64
	for i := 1; i < len(a.Pix); i += 4 {
		sum += sqr(root(a.Pix[i]) - root(b.Pix[i]))
	}
	return math.Sqrt(sum/float64(len(a.Pix)/4)) < 0.1*noise
}
