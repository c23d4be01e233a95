package demo_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/app/picture"
	"jardin/core/colorspace"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// trueGrain is a plate's grain as the footage knows it: plate less the same without grain,
// around what has to go.
func trueGrain(t testing.TB, shot string, n int) settle.GrainSample {
	dir := demotest.Footage(t, shot)
	coder := colorspace.NewCoder(colorspace.SRGB, 8)
	read := func(what string) *raster.Image {
		m := codesOf(demotest.ReadPNG(t, demo.FramePath(dir, shot+"/"+what, n)), demo.Bounds())
		for i := range m.Pix {
			if i%4 != 3 {
				m.Pix[i] = coder.Decode(uint16(m.Pix[i]))
			}
		}
		return m
	}
	plate, clean := read("plate"), read("clean")
	matte := demotest.ReadPNG(t, demo.FramePath(dir, shot+"/matte", n))
	s := settle.GrainSample{
		Grain:  raster.NewImage(demo.Bounds()),
		Base:   clean,
		Valid:  raster.NewPlane(demo.Bounds()),
		Excess: 1,
	}
	for i := range s.Valid.Pix {
		v, _, _, _ := matte.At(i%demo.Width, i/demo.Width).RGBA()
		if v == 0 && clean.Pix[4*i]+clean.Pix[4*i+1] > 0 {
			s.Valid.Pix[i] = 1
		}
		for c := range 3 {
			s.Grain.Pix[4*i+c] = plate.Pix[4*i+c] - clean.Pix[4*i+c]
		}
	}
	return s
}

// The grain that settling by itself measures, on plates that hold textures, a track and
// 8-bit codes, against the grain that the footage was made with: the standard deviation
// by channel, and the power in four octave bands.
func TestMeasuredGrainAgainstThePlates(t *testing.T) {
	demotest.Share(t, 3)
	dots, pull := demotest.Truth(t), demotest.FocusTruth(t)
	a := clip(t, demo.PlateFolder, demo.First)
	b := clip(t, demo.FocusPlateFolder, demo.FocusFirst)
	cases := []struct {
		shot   string
		source *picture.Source
		doc    *treatment.Document
		frames []int
	}{
		{demo.Name, a, healedDots(t, a, dots, chosen), []int{1003, 1020, 1037, 1055, 1070}},
		{demo.FocusName, b, heldClip(t, b, pull, treatment.Vec{-140, -140}), []int{1003, 1013, 1025, 1036, 1046}},
	}
	for _, c := range cases {
		t.Run(c.shot, func(t *testing.T) {
			c.doc.Removals = c.doc.Removals[:1]
			c.doc.Removals[0].Fill.Sources = []treatment.Source{{ // an average lacks grain alone
				ID: "g", Kind: treatment.Gathered, Gathered: &treatment.Gathering{Live: true, Over: 4},
			}}
			settled(t, c.source, c.doc)
			m := c.doc.Removals[0].Settle.Grain.Model
			found := &settle.Grain{Light: m.Light, Sigma: m.Sigma, Share: m.Share, Lags: m.Lags, Shape: m.Shape}
			var all []settle.GrainSample
			var was, is [3]float64
			for _, n := range c.frames {
				s := trueGrain(t, c.shot, n)
				all = append(all, s)
				for i, v := range s.Valid.Pix {
					if v > 0 {
						for ch := range 3 {
							was[ch] += math.Pow(float64(s.Grain.Pix[4*i+ch]), 2)
							is[ch] += math.Pow(found.At(ch, float64(s.Base.Pix[4*i+ch])), 2)
						}
					}
				}
			}
			for ch := range 3 {
				r := math.Sqrt(is[ch] / was[ch])
				t.Logf("channel %d: measured %.3f of the true standard deviation", ch, r)
				assert.InDelta(t, 1, r, 0.05)
			}
			known, ok := settle.MeasureGrain(all)
			require.True(t, ok)
			p, q := known.Make(1), found.Make(1)
			for ch := range 3 {
				var db [4]float64
				x, y := demotest.Octaves(p[ch][:], settle.Tile), demotest.Octaves(q[ch][:], settle.Tile)
				for k := range db {
					db[k] = 10 * math.Log10(y[k]/x[k])
					assert.InDelta(t, 0, db[k], 1, "channel %d, band %d", ch, k)
				}
				t.Logf("channel %d: %+.2f dB by octave, from the coarsest", ch, db)
			}
		})
	}
}
