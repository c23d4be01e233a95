package settle

import (
	"math"

	"jardin/core/raster"
)

// likeness is the local correlation of plate and held below which the plate shows something else, and above which it shows
// the same. Chance alone reaches the first in one place of twenty.
const (
	unlike = 0.4
	alike  = 0.55
)

// An Agreement tells where a plate shows what is held.
type Agreement struct {
	Strange *raster.Plane // 1 where the plate shows something else: another layer, something that passes
	Share   float64       // how much of what has texture to judge by is alike, 0 to 1; 1 where nothing has
	Judged  float64       // how many pixels have such texture
}

// Agree compares a plate with what is held, as it lies there: planes of the square root of light, valid where both count.
// It judges by texture alone, which neither light nor softness changes: by the local correlation (windowed normalised
// cross-correlation, Lewis 1995) of two octaves, the finer one and, for plates that are much softer, a coarser one. Where
// neither has texture that stands out from grain, of the standard deviation given, nothing is told. It works at half the
// resolution.
func Agree(plate, held, valid *raster.Plane, grain float64) Agreement {
	p, q, v := raster.Half(plate), raster.Half(held), raster.Half(valid)
	for i := range v.Pix {
		if v.Pix[i] < 0.99 {
			v.Pix[i] = 0
		}
	}
	n := len(v.Pix)
	best, textured, fine := make([]float32, n), make([]bool, n), make([]bool, n)
	for i := range best {
		best[i] = -1
	}
	for _, o := range []struct{ scale, window float64 }{{0.7, 5}, {2, 9}} {
		scale, window := o.scale, o.window
		a, b := octave(p, v, scale), octave(q, v, scale)
		// Grain of one pixel that is halved, and of that the octave, keeps this share of its deviation.
		least := float32(sqr(math.Max(2.5*grain*0.5*0.28/scale, 0.0015)))
		ab, aa, bb, weight := raster.NewPlane(p.Rect), raster.NewPlane(p.Rect), raster.NewPlane(p.Rect), raster.Gaussian(v, window)
		for i := range ab.Pix {
			ab.Pix[i], aa.Pix[i], bb.Pix[i] = a.Pix[i]*b.Pix[i], a.Pix[i]*a.Pix[i], b.Pix[i]*b.Pix[i]
		}
		raster.Parallel(
			func() { ab = raster.Gaussian(ab, window) },
			func() { aa, bb = raster.Gaussian(aa, window), raster.Gaussian(bb, window) },
		)
		for i, w := range weight.Pix {
			if v.Pix[i] == 0 || w < 0.1 {
				continue
			}
			// The finer octave decides wherever both have it.
			if textured[i] && fine[i] || aa.Pix[i] < least*w && bb.Pix[i] < least*w {
				continue
			}
			textured[i], fine[i] = true, aa.Pix[i] >= least*w && bb.Pix[i] >= least*w
			if aa.Pix[i] > 0 && bb.Pix[i] > 0 {
				best[i] = max(best[i], ab.Pix[i]/float32(math.Sqrt(float64(aa.Pix[i])*float64(bb.Pix[i]))))
			}
		}
	}
	out := Agreement{Strange: raster.NewPlane(plate.Rect), Share: 1}
	strange := raster.NewPlane(p.Rect)
	var same, judged float64
	for i, told := range textured {
		if !told {
			continue
		}
		switch {
		case best[i] < unlike:
			strange.Pix[i] = 1
			judged++
		case best[i] > alike:
			same++
			judged++
		}
	}
	out.Judged = 4 * judged
	if judged > 0 {
		out.Share = same / judged
	}
	// A window sees what is beside it: where something strange begins half of it is still alike.
	strange = raster.Grow(strange, 4)
	for y := plate.Rect.Min.Y; y < plate.Rect.Max.Y; y++ {
		row := out.Strange.Row(y, plate.Rect.Min.X, plate.Rect.Max.X)
		for x := range row {
			if strange.At((plate.Rect.Min.X+x+1)/2, (y+1)/2) > 0.5 {
				row[x] = 1
			}
		}
	}
	return out
}

func sqr(v float64) float64 { return v * v }

// octave returns what a plane holds between a scale and three times that, relative to how bright it is around; 0 where it
// is not valid.
func octave(m, valid *raster.Plane, scale float64) *raster.Plane {
	masked := raster.NewPlane(m.Rect)
	for i, v := range valid.Pix {
		if v > 0 {
			masked.Pix[i] = m.Pix[i] * v
		}
	}
	var fine, coarse, fineWeight, coarseWeight *raster.Plane
	raster.Parallel(
		func() { fine, fineWeight = raster.Gaussian(masked, scale), raster.Gaussian(valid, scale) },
		func() { coarse, coarseWeight = raster.Gaussian(masked, 3*scale), raster.Gaussian(valid, 3*scale) },
	)
	for i, v := range valid.Pix {
		masked.Pix[i] = 0
		if v > 0 && coarseWeight.Pix[i] > 1e-3 && fineWeight.Pix[i] > 1e-3 {
			around := max(coarse.Pix[i]/coarseWeight.Pix[i], 0.02)
			masked.Pix[i] = fine.Pix[i]/fineWeight.Pix[i]/around - 1
		}
	}
	return masked
}
