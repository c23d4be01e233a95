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
	const fine, most = 512, 2
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
		for i := 0; i+4 <= len(row); i += 4 {
			p := row[i : i+4 : i+4]
			a := p[3]
			share := float32(1)
			if where != nil {
				share = where.At(m.Rect.Min.X+i/4, y)
			}
			if a <= 0 || share == 0 {
				continue
			}
			var v [3]float32
			for c := range 3 {
				light := p[c]
				if a != 1 {
					light /= a
				}
				if !(light > 0) {
					light = 0
				}
				at := float32(math.Sqrt(float64(light))) * (fine / most)
				if !(at < fine) {
					v[c] = float32(math.Pow(math.Max(float64(light)*d.Slope[c]+d.Offset[c], 0), d.Power[c]))
					continue
				}
				k := uint(at)
				from := table[c][k]
				v[c] = from + (table[c][k+1]-from)*(at-float32(k))
			}
			luma := colorspace.Luma(v[0], v[1], v[2])
			for c := range 3 {
				to := luma + saturation*(v[c]-luma)
				if to < 0 {
					to = 0
				}
				p[c] += (to*a - p[c]) * share
			}
		}
	})
}
