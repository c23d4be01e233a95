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
}

// Agree compares a plate with what is held, as it lies there: planes of the square root of light, valid where both count.
// It judges by texture alone, which neither light nor softness changes: by the local correlation (windowed normalised
// cross-correlation, Lewis 1995) of two octaves, the finer one and, for plates that are much softer, a coarser one. Where
// neither has texture that stands out from grain, of the standard deviation given, nothing is told. It works at half the
// resolution, and tells at a quarter.
func Agree(plate, held, valid *raster.Plane, grain float64) Agreement {
	const least = 8 // pixels along a side, that two halvings leave something of
	if plate.Rect.Dx() < least || plate.Rect.Dy() < least {
		return Agreement{Strange: raster.NewPlane(plate.Rect), Share: 1}
	}
	p, q, v := raster.Half(plate), raster.Half(held), whole(raster.Half(valid))
	tell := whole(raster.Half(v))
	n := len(tell.Pix)
	best, textured, fine := make([]float32, n), make([]bool, n), make([]bool, n)
	for i := range best {
		best[i] = -1
	}
	// The coarser octave is the same one octave down.
	for _, o := range []struct {
		p, q, v       *raster.Plane
		scale, window float64 // in pixels of those; of a quarter of the resolution
		halve         bool
	}{
		{p, q, v, 0.7, 2.5, true},
		{raster.Half(p), raster.Half(q), tell, 1, 4.5, false},
	} {
		a, b := octave(o.p, o.v, o.scale), octave(o.q, o.v, o.scale)
		wide := o.scale
		if !o.halve {
			wide *= 2
		}
		// Grain of one pixel that is halved, and of that the octave, keeps this share of its deviation.
		least := float32(sqr(math.Max(2.5*grain*0.5*0.28/wide, 0.0015)))
		ab, aa, bb, weight := raster.NewPlane(o.p.Rect), raster.NewPlane(o.p.Rect), raster.NewPlane(o.p.Rect), o.v
		for i := range ab.Pix {
			ab.Pix[i], aa.Pix[i], bb.Pix[i] = a.Pix[i]*b.Pix[i], a.Pix[i]*a.Pix[i], b.Pix[i]*b.Pix[i]
		}
		window := func(m **raster.Plane) func() {
			return func() {
				if o.halve {
					*m = raster.Half(*m)
				}
				*m = raster.Gaussian(*m, o.window)
			}
		}
		raster.Parallel(window(&ab), window(&aa), window(&bb), window(&weight))
		for i, w := range weight.Pix {
			if tell.Pix[i] == 0 || w < 0.1 {
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
	strange := raster.NewPlane(tell.Rect)
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
	if judged > 0 {
		out.Share = same / judged
	}
	// A window sees what is beside it: where something strange begins half of it is still alike.
	strange = raster.Grow(strange, 2)
	for y := plate.Rect.Min.Y; y < plate.Rect.Max.Y; y++ {
		row := out.Strange.Row(y, plate.Rect.Min.X, plate.Rect.Max.X)
		for x := range row {
			if strange.At((plate.Rect.Min.X+x+2)>>2, (y+2)>>2) > 0.5 {
				row[x] = 1
			}
		}
	}
	return out
}

// whole sets to 0 what is not 1.
func whole(m *raster.Plane) *raster.Plane {
	for i, v := range m.Pix {
		if v < 0.99 {
			m.Pix[i] = 0
		}
	}
	return m
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
