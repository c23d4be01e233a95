package render

import (
	"context"
	"image"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// tonedKind is a flat tone or a gradient.
type tonedKind struct{ unpainted }

func (tonedKind) frame(s *treatment.Source) int { return s.Tone.Frame }

func (tonedKind) held(*removal, int, int) (*memo.Keyed[layerInput], bool) { return nil, false }

func (tonedKind) gather(r *removal, i, n int, _ bool) (sourceLayer, *marking) {
	s := r.sources[i].Tone
	out := &tonedInput{}
	if len(s.Ends) == 2 {
		m := r.mapping("", s.Frame, n)
		if m == nil {
			return nil, nil
		}
		out.Ends = warp.ApplyAll(m, treatment.Points(s.Ends))
	}
	if s.Rim {
		hole := r.hole(n)
		out.Rim = &hole
		return out, r.marked(n)
	}
	keys := make([]geom.Key, len(s.Keys))
	for k, at := range s.Keys {
		keys[k] = geom.Key{
			Frame: at.Frame, Linear: at.Ease == treatment.Linear, Values: append(at.One[:], at.Other[:]...),
		}
	}
	v := geom.Between(keys, n)
	for c := range 3 {
		out.One[c], out.Other[c] = float32(v[c]), float32(v[3+c])
	}
	return out, r.marked(n)
}

// A tonedInput is a tone on a frame.
type tonedInput struct {
	One, Other [3]float32
	Ends       []geom.Point // of a gradient; nil for one tone
	Rim        *holeInput   // it is picked from there
}

func (in *tonedInput) bounds(s *sourceInput, _ image.Rectangle) image.Rectangle {
	return s.at.Rect
}

func (in *tonedInput) reach(image.Rectangle) image.Rectangle { return image.Rectangle{} }

func (in *tonedInput) composite(ctx context.Context, e *Evaluator, s *sourceInput, _ int, out *filling) error {
	rect := s.at.Rect.Intersect(out.Rect)
	one, other := in.One, in.Other
	if in.Rim != nil {
		var err error
		if one, other, err = in.fromRim(ctx, e); err != nil {
			return err
		}
	}
	m := raster.NewImage(rect)
	for y := rect.Min.Y; y < rect.Max.Y; y++ {
		row := m.Row(y, rect.Min.X, rect.Max.X)
		for x := range rect.Dx() {
			k := in.along(geom.Pt(float64(rect.Min.X+x)+0.5, float64(y)+0.5))
			for c := range 3 {
				row[4*x+c] = one[c] + k*(other[c]-one[c])
			}
			row[4*x+3] = 1
		}
	}
	s.over(out, m, 1)
	return nil
}

// along returns how far from the first end to the other a place lies, 0 to 1.
func (in *tonedInput) along(p geom.Point) float32 {
	if len(in.Ends) != 2 {
		return 0
	}
	d, v := in.Ends[1].Sub(in.Ends[0]), p.Sub(in.Ends[0])
	length := d.X*d.X + d.Y*d.Y
	if !(length > 0) {
		return 0
	}
	return float32(min(max((v.X*d.X+v.Y*d.Y)/length, 0), 1))
}

// rimWidth is from how much of the rim a tone is picked, pixels.
const rimWidth = 8

// fromRim picks a tone from the rim of what is marked: the mean, or of a gradient the tones at its ends that fit
// the rim best (least squares along the line between them).
func (in *tonedInput) fromRim(ctx context.Context, e *Evaluator) (one, other [3]float32, err error) {
	hole, beside, err := in.Rim.cover(ctx, e, func(image.Rectangle) int { return rimWidth + holeRim })
	if err != nil || hole.Rect.Empty() {
		return one, other, err
	}
	plate, err := e.Plate.Linear(ctx, in.Rim.Frame, hole.Rect)
	if err != nil {
		return one, other, err
	}
	around := raster.Grow(hole, rimWidth)
	var n, sk, skk float64
	var sv, skv [3]float64
	for y := hole.Rect.Min.Y; y < hole.Rect.Max.Y; y++ {
		for x := hole.Rect.Min.X; x < hole.Rect.Max.X; x++ {
			if hole.At(x, y) > 0 || around.At(x, y) == 0 || beside.At(x, y) > 0 {
				continue
			}
			k := float64(in.along(geom.Pt(float64(x)+0.5, float64(y)+0.5)))
			p := plate.At(x, y)
			n, sk, skk = n+1, sk+k, skk+k*k
			for c := range 3 {
				sv[c], skv[c] = sv[c]+float64(p[c]), skv[c]+k*float64(p[c])
			}
		}
	}
	if n == 0 {
		return one, other, nil
	}
	for c := range 3 {
		slope := 0.0
		if d := skk - sk*sk/n; d > 1e-6 {
			slope = (skv[c] - sk*sv[c]/n) / d
		}
		level := (sv[c] - slope*sk) / n
		one[c], other[c] = float32(level), float32(level+slope)
	}
	return one, other, nil
}
