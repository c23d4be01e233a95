package settle

import (
	"image"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/raster"
)

// The formulas of the ASC CDL, version 1.2 (from memory): out = clamp(in x slope +
// offset) ^ power, luma = 0.2126 R + 0.7152 G + 0.0722 B, out = luma + saturation x
// (out - luma). Worked by hand within 0 to 1, where clamping of the standard and ours
// agree.
func TestCDLByItsDefinition(t *testing.T) {
	d := CDL{
		Slope:      [3]float64{1.2, 0.9, 1},
		Offset:     [3]float64{0.05, -0.02, 0},
		Power:      [3]float64{0.8, 1, 1.25},
		Saturation: 0.7,
	}
	in := [3]float64{0.4, 0.25, 0.3}
	// 0.4 x 1.2 + 0.05 = 0.53; 0.53^0.8 = 0.60176. 0.25 x 0.9 - 0.02 = 0.205. 0.3^1.25 = 0.22203.
	// luma = 0.12793 + 0.14662 + 0.01603 = 0.29058. Then luma + 0.7 (out - luma).
	want := [3]float64{0.50841, 0.23067, 0.24260}
	got := d.Apply(in)
	for c := range want {
		assert.InDelta(t, want[c], got[c], 2e-5)
	}
	assert.Equal(
		t,
		[3]float64{0, 0, 0},
		(&CDL{Slope: [3]float64{1, 1, 1}, Offset: [3]float64{-1, -1, -1}, Power: [3]float64{1, 1, 1},
			Saturation: 1}).Apply(
			in,
		),
		"below 0 is clamped",
	)

	// The same on a premultiplied picture, through half a matte, to the tables' precision.
	m := raster.NewImage(image.Rect(0, 0, 2, 1))
	for x := range 2 {
		m.Set(x, 0, [4]float32{0.2, 0.125, 0.15, 0.5})
	}
	where := raster.NewPlane(m.Rect)
	where.Pix[1] = 0.5
	Tone(m, d, where)
	assert.Equal(t, [4]float32{0.2, 0.125, 0.15, 0.5}, m.At(0, 0), "where the matte is 0 nothing changes")
	for c := range 3 {
		assert.InDelta(t, 0.5*(in[c]+want[c])/2, m.At(1, 0)[c], 3e-5)
	}
	bright := raster.NewImage(image.Rect(0, 0, 1, 1))
	bright.Set(0, 0, [4]float32{9, 9, 9, 1})
	Tone(bright, CDL{Slope: [3]float64{2, 2, 2}, Power: [3]float64{0.5, 0.5, 0.5}, Saturation: 1}, nil)
	assert.InDelta(t, math.Sqrt(18), bright.At(0, 0)[0], 1e-3, "light above 1 goes on")
}

// Only darken and only lighten decide by brightness, pixel by pixel.
func TestLayOnlyWhereItDarkens(t *testing.T) {
	r := image.Rect(0, 0, 2, 1)
	for how, want := range map[BlendMode][2]float32{Normal: {0.5, 0.5}, Darken: {0.2, 0.5}, Lighten: {0.5, 0.8}} {
		picture, patch, through, touched := raster.NewImage(
			r,
		), raster.NewImage(
			r,
		), raster.NewPlane(
			r,
		), raster.NewPlane(
			r,
		)
		picture.Set(0, 0, [4]float32{0.2, 0.2, 0.2, 1})
		picture.Set(1, 0, [4]float32{0.8, 0.8, 0.8, 1})
		for x := range 2 {
			patch.Set(x, 0, [4]float32{0.5, 0.5, 0.5, 1})
			through.Pix[x] = 1
		}
		Composite(picture, Patch{Image: patch}, through, 1, how, touched, nil)
		assert.Equal(t, want, [2]float32{picture.At(0, 0)[0], picture.At(1, 0)[0]}, "how %d", how)
	}
}

// A patch that is too dark by a tenth meets the plate at its rim when the seam is
// blended; its own detail stays, and deep inside nothing changes.
func TestABlendedSeamMeetsThePlate(t *testing.T) {
	plate := surface(6, 120, 120)
	patch := plate.Crop(plate.Rect)
	for i := range patch.Pix {
		if i%4 != 3 {
			patch.Pix[i] *= 0.9
		}
	}
	through, valid := raster.NewPlane(plate.Rect), raster.NewPlane(plate.Rect)
	for y := range 120 {
		for x := range 120 {
			valid.Row(y, x, x+1)[0] = 1
			if image.Pt(x, y).In(image.Rect(30, 30, 90, 90)) {
				through.Row(y, x, x+1)[0] = 1
			}
		}
	}
	ratio := func(m *raster.Image, r image.Rectangle) float64 {
		var a, b float64
		for y := r.Min.Y; y < r.Max.Y; y++ {
			for x := r.Min.X; x < r.Max.X; x++ {
				a, b = a+float64(m.At(x, y)[1]), b+float64(plate.At(x, y)[1])
			}
		}
		return a / b
	}
	Blend(patch, plate, through, valid, 20)
	assert.InDelta(t, 1, ratio(patch, image.Rect(30, 40, 33, 80)), 0.02, "at the rim")
	assert.InDelta(t, 0.9, ratio(patch, image.Rect(54, 54, 66, 66)), 0.005, "deep inside")
}

// The soft edge of a front before something red: half front, half red. Over a blue patch
// it has to become half front, half blue, with no red left.
func TestUnmixLeavesNoFringe(t *testing.T) {
	r := image.Rect(0, 0, 1, 1)
	one := func(c [3]float32) *raster.Image {
		m := raster.NewImage(r)
		m.Set(0, 0, [4]float32{c[0], c[1], c[2], 1})
		return m
	}
	red, blue, front := [3]float32{0.6, 0.05, 0.05}, [3]float32{0.05, 0.1, 0.5}, [3]float32{0.3, 0.3, 0.2}
	mix := func(a, b [3]float32) (out [3]float32) {
		for c := range out {
			out[c] = (a[c] + b[c]) / 2
		}
		return out
	}
	plate := one(mix(front, red))
	g, through := raster.NewPlane(r), raster.NewPlane(r)
	g.Pix[0], through.Pix[0] = 0.5, 1
	// Laid without correction: half of the plate's mixture, half of the patch: red shines.
	picture := one(mix(mix(front, red), blue))
	Unmix(picture, plate, one(red), one(blue), g, through)
	want := mix(front, blue)
	for c := range 3 {
		assert.InDelta(t, want[c], picture.At(0, 0)[c], 1e-6)
	}
}

// Of a front that is hardly there little can be told: the less it covers, the less it adds.
func TestUnmixTrustsLittleOfWhatIsHardlyThere(t *testing.T) {
	one := func(v float32) *raster.Image {
		m := raster.NewImage(image.Rect(0, 0, 1, 1))
		m.Set(0, 0, [4]float32{v, v, v, 1})
		return m
	}
	plane := func(v float32) *raster.Plane {
		p := raster.NewPlane(image.Rect(0, 0, 1, 1))
		p.Pix[0] = v
		return p
	}
	for _, g := range []float32{0.03, 0.075, 0.15, 0.5, 0.9} {
		picture := one(0.7)
		plate := g*0.9 + (1-g)*0.2 // white before a dark thing
		Unmix(picture, one(plate), one(0.2), one(0.5), plane(g), plane(1))
		sure := min(g/0.15, 1)
		assert.InDelta(t, g*0.9*sure+(1-g*sure)*0.5, picture.At(0, 0)[1], 1e-6, "%v", g)
	}
}

// What lies farther than a few pixels outside of the patch has no say at its seam.
func TestASeamIsJudgedByWhatIsNear(t *testing.T) {
	r := image.Rect(0, 0, 90, 90)
	plate, patch, through, valid := raster.NewImage(r), raster.NewImage(r), raster.NewPlane(r), raster.NewPlane(r)
	hole := image.Rect(30, 30, 60, 60)
	for y := range 90 {
		for x := range 90 {
			v := float32(0.4)
			if !image.Pt(x, y).In(hole.Inset(-5)) {
				v = 0.9 // something else, five pixels away
			}
			plate.Set(x, y, [4]float32{v, v, v, 1})
			patch.Set(x, y, [4]float32{0.3, 0.3, 0.3, 1})
			valid.Pix[y*90+x] = 1
			if image.Pt(x, y).In(hole) {
				through.Pix[y*90+x] = 1
			}
		}
	}
	Blend(patch, plate, through, valid, 8)
	for x := 32; x < 58; x++ {
		assert.InDelta(t, 0.4, patch.At(x, 30)[0], 0.006)
	}
	assert.InDelta(t, 0.3, patch.At(45, 45)[0], 0.005)
}
