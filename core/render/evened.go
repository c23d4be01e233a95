package render

import (
	"context"
	"image"
	"math"

	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/spread"
	"jardin/core/treatment"
)

// evenedKind is the frame's own pixels, evened out.
type evenedKind struct{ unpainted }

func (evenedKind) frame(*treatment.Source) int { return 0 }

func (evenedKind) held(*removal, int, int) (*memo.Keyed[layerInput], bool) { return nil, false }

func (evenedKind) gather(r *removal, i, n int, _ bool) (sourceLayer, *marking) {
	s := r.sources[i].Evened
	return &evenedInput{s.Takes, s.Scale, float32(s.Amount), r.matte(n)}, r.marked(n)
}

// An evenedInput is how a frame's own pixels are evened out.
type evenedInput struct {
	Takes  string
	Scale  float64
	Amount float32
	Matte  marking
}

func (in *evenedInput) bounds(s *sourceInput, _ image.Rectangle) image.Rectangle {
	return s.at.Rect
}

func (in *evenedInput) reach(image.Rectangle) image.Rectangle { return image.Rectangle{} }

func (in *evenedInput) composite(ctx context.Context, e *Evaluator, s *sourceInput, n int, out *filling) error {
	size := e.Plate.Size()
	rect := s.at.Rect // all of it, whatever part is wanted: its grain is judged by all
	if rect.Intersect(out.Rect).Empty() {
		return nil
	}
	region := rect.Inset(-int(math.Ceil(3*in.Scale)) - 16).Intersect(size)
	plate, err := e.Plate.Linear(ctx, n, region)
	if err != nil {
		return err
	}
	plate = plate.Crop(region)
	if in.Takes == treatment.EvenBlur {
		s.over(out, mixed(plate, blurred(plate, in.Scale), in.Amount).Crop(rect), in.Amount)
		return nil
	}
	roots, still := rooted(plate), float32(0)
	next := roots
	if in.Takes == treatment.EvenCoarse {
		// In place of its own coarse part lies what goes on from around; the rest, grain as well, stays on it.
		low := blurred(roots, in.Scale)
		marked, err := in.Matte.cover(ctx, e, size)
		if err != nil {
			return err
		}
		even, err := spread.Evenly(ctx, low, raster.Grow(solid(marked.Crop(region)), holeRim))
		if err != nil {
			return err
		}
		next = roots.Crop(region)
		for i := range next.Pix {
			next.Pix[i] += even.Pix[i] - low.Pix[i]
		}
	} else {
		next, still = smoothed(roots, in.Scale), in.Amount
	}
	for i := 0; i < len(roots.Pix); i += 4 {
		for c := range 3 {
			v := roots.Pix[i+c] + in.Amount*(max(next.Pix[i+c], 0)-roots.Pix[i+c])
			plate.Pix[i+c] = v * v
		}
	}
	s.over(out, plate.Crop(rect), still)
	return nil
}

// faint is below what contrast, on the square root of light, texture is taken away.
const faint = 0.05

// smoothed takes faint texture smaller than a scale away and keeps edges: the guided filter of a picture by
// itself (He, Sun & Tang 2013), with Gaussians in place of boxes.
func smoothed(m *raster.Image, scale float64) *raster.Image {
	squares := m.Crop(m.Rect)
	for i, v := range squares.Pix {
		squares.Pix[i] = v * v
	}
	mean, square := blurred(m, scale), blurredFlat(squares, scale)
	gain, level := raster.NewImage(m.Rect), raster.NewImage(m.Rect)
	for i, v := range mean.Pix {
		variance := max(square.Pix[i]-v*v, 0)
		gain.Pix[i] = variance / (variance + faint*faint)
		level.Pix[i] = v * (1 - gain.Pix[i])
	}
	gain, level = blurredFlat(gain, scale), blurredFlat(level, scale)
	out := m.Crop(m.Rect)
	for i, v := range m.Pix {
		if i%4 < 3 {
			out.Pix[i] = gain.Pix[i]*v + level.Pix[i]
		}
	}
	return out
}

// blurredFlat is blurred for numbers that have no alpha.
func blurredFlat(m *raster.Image, sigma float64) *raster.Image {
	opaque := m.Crop(m.Rect)
	for i := 3; i < len(opaque.Pix); i += 4 {
		opaque.Pix[i] = 1
	}
	return blurred(opaque, sigma)
}

// blurred is a picture through a Gaussian; beyond its edge it goes on as it is there.
func blurred(m *raster.Image, sigma float64) *raster.Image {
	if sigma > 8 {
		return raster.Broad(m, sigma)
	}
	out := raster.GaussianImage(m, sigma)
	for i := 0; i < len(out.Pix); i += 4 {
		if a := out.Pix[i+3]; a > 0 {
			for c := range 4 {
				out.Pix[i+c] /= a
			}
		}
	}
	return out
}

func mixed(a, b *raster.Image, k float32) *raster.Image {
	out := a.Crop(a.Rect)
	for i := range out.Pix {
		out.Pix[i] += k * (b.Pix[i] - out.Pix[i])
	}
	return out
}

// rooted returns a picture with the square roots of its light.
func rooted(m *raster.Image) *raster.Image {
	out := m.Crop(m.Rect)
	for i := 0; i < len(out.Pix); i += 4 {
		for c := range 3 {
			out.Pix[i+c] = float32(math.Sqrt(float64(max(out.Pix[i+c], 0))))
		}
	}
	return out
}

// solid returns 1 wherever a plane is above 0.
func solid(p *raster.Plane) *raster.Plane {
	out := raster.NewPlane(p.Rect)
	for i, v := range p.Pix {
		if v > 0 {
			out.Pix[i] = 1
		}
	}
	return out
}
