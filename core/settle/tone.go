package settle

import (
	"math"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// A CDL is a colour decision of the American Society of Cinematographers (ASC CDL,
// version 1.2): slope, offset and power by channel, then saturation.
type CDL struct {
	Slope, Offset, Power [3]float64
	Saturation           float64
}

// Apply returns what the CDL makes of a colour: out = (in x slope + offset) ^ power,
// then saturation about the luma of BT.709. The standard clamps to 0 to 1 after
// either step; here light may exceed 1, and only what is below 0 is clamped.
func (d *CDL) Apply(v [3]float64) [3]float64 {
	for c := range 3 {
		v[c] = math.Pow(math.Max(v[c]*d.Slope[c]+d.Offset[c], 0), d.Power[c])
	}
	luma := 0.2126*v[0] + 0.7152*v[1] + 0.0722*v[2]
	for c := range 3 {
		v[c] = math.Max(luma+d.Saturation*(v[c]-luma), 0)
	}
	return v
}

// Tone applies a CDL to a premultiplied picture, where a matte says so; nil is
// everywhere.
func Tone(m *raster.Image, d CDL, where *raster.Plane) {
	plain := d.Power == [3]float64{1, 1, 1}
	slope, offset := [3]float32{}, [3]float32{}
	for c := range 3 {
		slope[c], offset[c] = float32(d.Slope[c]), float32(d.Offset[c])
	}
	saturation := float32(d.Saturation)
	raster.Rows(m.Rect.Min.Y, m.Rect.Max.Y, func(y int) {
		row := m.Row(y, m.Rect.Min.X, m.Rect.Max.X)
		for i := 0; i < len(row); i += 4 {
			a := row[i+3]
			share := float32(1)
			if where != nil {
				share = where.At(m.Rect.Min.X+i/4, y)
			}
			if a <= 0 || share == 0 {
				continue
			}
			var v [3]float32
			if plain {
				for c := range 3 {
					v[c] = max(row[i+c]/a*slope[c]+offset[c], 0)
				}
				luma := colorspace.Luma(v[0], v[1], v[2])
				for c := range 3 {
					v[c] = max(luma+saturation*(v[c]-luma), 0)
				}
			} else {
				w := d.Apply([3]float64{float64(row[i] / a), float64(row[i+1] / a), float64(row[i+2] / a)})
				v = [3]float32{float32(w[0]), float32(w[1]), float32(w[2])}
			}
			for c := range 3 {
				row[i+c] += (v[c]*a - row[i+c]) * share
			}
		}
	})
}
