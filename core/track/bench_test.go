package track

import (
	"image"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// large is the surface in a frame of 1920 x 1080, seen through walk's cameras.
func large(i int) *raster.Plane {
	full := image.Rect(0, 0, 1920, 1080)
	s := newSurface(3)
	back, _ := walk(i).Inverse()
	p := raster.NewPlane(full)
	raster.Rows(200, 900, func(y int) {
		for x := 500; x < 1400; x++ {
			p.Pix[y*full.Dx()+x] = float32(s.at(back.Apply(geom.Pt(float64(x), float64(y)))))
		}
	})
	return noisy(p, 0.01, uint64(i))
}

// The aim is 24 frames a second or better: 41 ms.
func BenchmarkPlane600x400(b *testing.B) {
	frames := []*raster.Plane{large(1), large(2), large(3), large(2)}
	part := geom.Box{Min: geom.Pt(660, 340), Max: geom.Pt(1260, 740)}.Corners()
	tr, err := NewPlane(show(large(0)), frames[0].Rect, part[:], nil, geom.Perspective)
	require.NoError(b, err)
	i := 0
	for b.Loop() {
		if _, err := tr.Step(show(frames[i%4]), nil); err != nil {
			b.Fatal(err)
		}
		i++
	}
}

// The aim is 60 frames a second or better: 16.6 ms.
func BenchmarkEightPoints(b *testing.B) {
	frames := []*raster.Plane{large(1), large(2), large(3), large(2)}
	first := large(0)
	var points []*Point
	for i := range 8 {
		at := geom.Pt(700+60*float64(i), 400+30*float64(i))
		p, err := NewPoint(
			show(first),
			first.Rect,
			at,
			PointOptions{
				Pattern:   geom.Pt(31, 31),
				Search:    geom.Pt(91, 91),
				Motion:    geom.Similarity,
				Against:   Reference,
				Tolerance: 0.6,
			},
		)
		require.NoError(b, err)
		points = append(points, p)
	}
	i := 0
	for b.Loop() {
		_, failed := StepAll(points, slices.Repeat([]FrameReader{show(frames[i%4])}, len(points)))
		for _, err := range failed {
			require.NoError(b, err)
		}
		i++
	}
}

// The aim is 8 frames a second or better: 125 ms.
func BenchmarkSoft600x400(b *testing.B) {
	frames := []*raster.Plane{large(1), large(2), large(3), large(2)}
	part := geom.Box{Min: geom.Pt(660, 340), Max: geom.Pt(1260, 740)}.Corners()
	s, err := NewSoft(show(large(0)), frames[0].Rect, part[:], nil, SoftSettings{Stiffness: 0.3, Detail: 8})
	require.NoError(b, err)
	i := 0
	for b.Loop() {
		if _, err := s.Step(show(frames[i%4]), nil); err != nil {
			b.Fatal(err)
		}
		i++
	}
}
