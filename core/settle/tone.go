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
	// What slope, offset and power make of light, as a table over its square root.
	const fine, most = 2048, 2
	var table [3][fine + 2]float32
	for c := range 3 {
		for i := range table[c] {
			u := most * float64(i) / fine
			table[c][i] = float32(math.Pow(math.Max(u*u*d.Slope[c]+d.Offset[c], 0), d.Power[c]))
		}
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
			for c := range 3 {
				at := float32(math.Sqrt(float64(max(row[i+c]/a, 0)))) * (fine / most)
				if at >= fine {
					v[c] = float32(math.Pow(math.Max(float64(row[i+c]/a)*d.Slope[c]+d.Offset[c], 0), d.Power[c]))
					continue
				}
				k := int(at)
				v[c] = table[c][k] + (table[c][k+1]-table[c][k])*(at-float32(k))
			}
			luma := colorspace.Luma(v[0], v[1], v[2])
			for c := range 3 {
				row[i+c] += (max(luma+saturation*(v[c]-luma), 0)*a - row[i+c]) * share
			}
		}
	})
}
