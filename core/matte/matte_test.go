package matte

import (
	"image"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/geom"
)

var frame = image.Rect(0, 0, 64, 48)

func sum(pix []float32) (s float64) {
	for _, v := range pix {
		s += float64(v)
	}
	return s
}

func TestCoverageIsExactArea(t *testing.T) {
	// A box whose sides cut pixels: 10.25..20.5 by 5.75..9.
	box := geom.Box{Min: geom.Pt(10.25, 5.75), Max: geom.Pt(20.5, 9)}.Corners()
	m := Coverage(box[:], frame)
	assert.InDelta(t, 0.75*0.25, m.At(10, 5), 1e-6)
	assert.InDelta(t, 0.25, m.At(15, 5), 1e-6)
	assert.InDelta(t, 0.5, m.At(20, 7), 1e-6)
	assert.InDelta(t, 1, m.At(15, 7), 1e-6)
	assert.Zero(t, m.At(15, 9))
	assert.InDelta(t, 10.25*3.25, sum(m.Pix), 1e-4)

	// A triangle's pixels add up to its area, in either winding.
	tri := []geom.Point{{X: 3.3, Y: 4.1}, {X: 50.7, Y: 12.9}, {X: 20.2, Y: 44.4}}
	assert.InDelta(t, geom.Area(tri), sum(Coverage(tri, frame).Pix), 1e-3)
	tri[0], tri[1] = tri[1], tri[0]
	assert.InDelta(t, geom.Area(tri), sum(Coverage(tri, frame).Pix), 1e-3)

	// A slanted side: the diagonal halves the pixels it crosses corner to corner.
	half := []geom.Point{{X: 0, Y: 0}, {X: 8, Y: 8}, {X: 0, Y: 8}}
	m = Coverage(half, frame)
	for i := range 8 {
		assert.InDelta(t, 0.5, m.At(i, i), 1e-6)
	}
}

func TestCoverageIsCutAtThePicture(t *testing.T) {
	big := geom.Box{Min: geom.Pt(-30, -30), Max: geom.Pt(200, 200)}.Corners()
	m := Coverage(big[:], frame)
	assert.Equal(t, frame, m.Rect)
	assert.InDelta(t, 64*48, sum(m.Pix), 1e-3, "all of the picture is covered")
	slant := []geom.Point{{X: -20, Y: 24}, {X: 32, Y: -28}, {X: 84, Y: 24}, {X: 32, Y: 76}}
	// The diamond |x-32| + |y-24| <= 52 leaves four triangles of 4x4/2 uncovered.
	assert.InDelta(t, 64*48-4*8, sum(Coverage(slant, frame).Pix), 1e-2)
	away := geom.Box{Min: geom.Pt(100, 100), Max: geom.Pt(120, 120)}.Corners()
	assert.Empty(t, Coverage(away[:], frame).Pix)
}

func TestFeatherFallsOutwardsAndKeepsTheInside(t *testing.T) {
	box := geom.Box{Min: geom.Pt(20, 15), Max: geom.Pt(40, 30)}.Corners()
	m := Outline(box[:], 6, frame)
	for y := 15; y < 30; y++ {
		for x := 20; x < 40; x++ {
			assert.EqualValues(t, 1, m.At(x, y), "the inside is never thinned")
		}
	}
	for d := 0.5; d < 6; d++ {
		u := 1 - d/6
		assert.InDelta(t, u*u*(3-2*u), m.At(40+int(d), 22), 1e-5, "smoothstep at %v px", d)
	}
	assert.Zero(t, m.At(46, 22))
	corner := m.At(43, 33)
	u := 1 - math.Hypot(3.5, 3.5)/6
	assert.InDelta(t, u*u*(3-2*u), corner, 1e-5, "round at the corners")
}

func TestUnion(t *testing.T) {
	a := geom.Box{Min: geom.Pt(1, 1), Max: geom.Pt(3.5, 3)}.Corners()
	b := geom.Box{Min: geom.Pt(3, 1), Max: geom.Pt(6, 3)}.Corners()
	u := Union(Coverage(a[:], frame), Coverage(b[:], frame))
	assert.InDelta(t, 1, u.At(3, 2), 1e-6)
	assert.InDelta(t, 1, u.At(1, 1), 1e-6)
	assert.InDelta(t, 1, u.At(5, 2), 1e-6)
	assert.Empty(t, Union().Pix)
}
