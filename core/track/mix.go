package track

import (
	"image"
	"math"
	"slices"

	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
)

const (
	mixBlock  = 16        // pixels, side of the blocks by which the surface is judged
	mixBlocks = 1000      // at most; larger surfaces have larger blocks
	mixSteps  = 16        // in which the mixes are tried, and then finer around the best
	mixPrior  = 0.01      // of what a pixel tells, squared slopes by grain's variance: what a block without texture has from its neighbours
	mixUneven = 4         // the most that the channels' grain differs by, variance
	mixLeast  = 0.4 / 255 // deviation of a channel's grain
)

// smoothSlopes is what differences across two pixels of a picture that was smoothed by Gauss leave of white noise's variance.
var smoothSlopes = func() float64 {
	g := func(x int) float64 {
		return math.Exp(-float64(x*x)/(2*presmooth*presmooth)) / (presmooth * math.Sqrt(2*math.Pi))
	}
	var along, across float64
	for x := -6; x <= 6; x++ {
		d := (g(x+1) - g(x-1)) / 2
		along, across = along+d*d, across+g(x)*g(x)
	}
	return along * across
}()

// A blockTexture is what a block of a surface tells: the mean products of its channels' slopes, across, across by down, down.
type blockTexture [3][3][3]float64

// TextureMix returns the mix of red, green and blue by which the places inside a polygon, but for what lies inside the polygons of
// without, are told from each other best: in which grain moves them least, on average over its blocks. That is the error of a least squares
// match (Förstner 1982), by the channels' slopes (Di Zenzo 1986) and their grain. No weight is negative, so that nothing is seen that
// one of the channels does not show; and grain is as strong in it as it is in luma. Where nothing is told it is luma.
func TextureMix(channels [3]*raster.Plane, region []geom.Point, without [][]geom.Point) colorspace.Mix {
	blocks, grain := textures(channels, region, without)
	if len(blocks) == 0 {
		return colorspace.LumaMix
	}
	noise := func(w [3]float64) float64 { return w[0]*w[0]*grain[0] + w[1]*w[1]*grain[1] + w[2]*w[2]*grain[2] }
	best, least := [3]float64{}, math.Inf(1)
	try := func(w [3]float64) {
		n := noise(w)
		if !(n > 0 && n < math.MaxFloat64) {
			return
		}
		sum := 0.0
		for i := range blocks {
			sum += blocks[i].error(w, n)
		}
		if sum < least {
			best, least = w, sum
		}
	}
	luma := [3]float64{}
	for c, v := range colorspace.LumaMix {
		luma[c] = float64(v)
	}
	try(luma)
	for r := range mixSteps + 1 {
		for g := range mixSteps + 1 - r {
			try([3]float64{float64(r) / mixSteps, float64(g) / mixSteps, float64(mixSteps-r-g) / mixSteps})
		}
	}
	for step := 0.5 / mixSteps; step > 0.005; step /= 2 {
		from := best
		for k := range 9 {
			w := from
			w[0], w[1] = max(w[0]+float64(k%3-1)*step, 0), max(w[1]+float64(k/3-1)*step, 0)
			if w[2] = from[0] + from[1] + from[2] - w[0] - w[1]; w[2] >= 0 {
				try(w)
			}
		}
	}
	if math.IsInf(least, 1) {
		return colorspace.LumaMix
	}
	scale := math.Sqrt(noise(luma) / noise(best))
	var out colorspace.Mix
	for c, v := range best {
		out[c] = float32(v * scale)
	}
	return out
}

// error is how far grain of a variance moves the block in a mix of the channels, but for its number of pixels.
func (b *blockTexture) error(w [3]float64, noise float64) float64 {
	var t [3]float64
	for k := range t {
		for i, u := range w {
			for j, v := range w {
				t[k] += u * v * b[k][i][j]
			}
		}
		t[k] /= noise
	}
	mean, apart := (t[0]+t[2])/2, math.Hypot((t[0]-t[2])/2, t[1])
	told := func(v float64) float64 { return mixPrior + math.Max(v-smoothSlopes, 0) } // but for the grain's own slopes
	return math.Sqrt(1/told(mean+apart) + 1/told(mean-apart))
}

// textures are those of the region's blocks, and the variance of each channel's grain.
func textures(channels [3]*raster.Plane, region []geom.Point, without [][]geom.Point) (out []blockTexture, grain [3]float64) {
	box := geom.Bounds(region)
	rect := raster.Around(box, 0, channels[0].Rect)
	for _, p := range channels {
		rect = rect.Intersect(p.Rect.Inset(1))
	}
	if rect.Empty() {
		return nil, grain
	}
	side := max(mixBlock, int(math.Ceil(math.Sqrt(float64(rect.Dx()*rect.Dy())/mixBlocks))))
	across, down := (rect.Dx()+side-1)/side, (rect.Dy()+side-1)/side
	var smooth [3]*raster.Plane
	var fine [3][]float64 // of each block
	for c, p := range channels {
		smooth[c] = raster.Gaussian(p, presmooth)
		for j := range down {
			for i := range across {
				at := rect.Min.Add(image.Pt(i*side, j*side))
				fine[c] = append(fine[c], fineVariance(p, image.Rectangle{Min: at, Max: at.Add(image.Pt(side, side))}.Intersect(rect)))
			}
		}
	}
	blocks, count := make([]blockTexture, across*down), make([]float64, across*down)
	w := channels[0].Rect.Dx()
	for y := rect.Min.Y; y < rect.Max.Y; y++ {
		in := insides(region, without, float64(y)+0.5)
		for x := rect.Min.X; x < rect.Max.X; x++ {
			if !in.has(float64(x) + 0.5) {
				continue
			}
			k := (y-rect.Min.Y)/side*across + (x-rect.Min.X)/side
			i := (y-channels[0].Rect.Min.Y)*w + x - channels[0].Rect.Min.X
			var gx, gy [3]float64
			for c, p := range smooth {
				gx[c], gy[c] = float64(p.Pix[i+1]-p.Pix[i-1])/2, float64(p.Pix[i+w]-p.Pix[i-w])/2
			}
			if sum := gx[0] + gx[1] + gx[2] + gy[0] + gy[1] + gy[2]; sum-sum != 0 {
				continue
			}
			count[k]++
			for a := range 3 {
				for b := range 3 {
					blocks[k][0][a][b] += gx[a] * gx[b]
					blocks[k][1][a][b] += gx[a] * gy[b]
					blocks[k][2][a][b] += gy[a] * gy[b]
				}
			}
		}
	}
	most := mixLeast * mixLeast
	for c := range grain { // of the blocks that look least textured
		var all []float64
		for k, n := range count {
			if 2*n > float64(side*side) {
				all = append(all, fine[c][k])
			}
		}
		if len(all) == 0 {
			return nil, grain
		}
		slices.Sort(all)
		grain[c] = all[len(all)/10]
		most = max(most, grain[c])
	}
	for c := range grain {
		grain[c] = max(grain[c], most/mixUneven)
	}
	for k := range blocks {
		if 2*count[k] <= float64(side*side) {
			continue
		}
		b := &blocks[k]
		for of := range b {
			for i := range 3 {
				for j := range 3 {
					b[of][i][j] /= count[k]
				}
			}
		}
		out = append(out, *b)
	}
	return out, grain
}
