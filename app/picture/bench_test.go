package picture_test

import (
	"fmt"
	"image"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// wide is a shot of 1920 x 1080 pixels and 16 frames that move by (3, 2) a frame.
func wide(b *testing.B) *picture.Source {
	return wideAs(b, media.Target{Format: "png", Depth: 8}, 16)
}

// wideAs is the same in a file format; its code values are those of 8 bits, scaled. With
// more frames than 16 these come again.
func wideAs(b *testing.B, target media.Target, frames int) *picture.Source {
	return picture.NewSource(brought(b, wideFiles(b, target, frames, 1)), "wide", nil)
}

// wideFiles writes its files, so many times as large.
func wideFiles(b testing.TB, target media.Target, frames, times int) (dir string) {
	dir = b.TempDir()
	width, height := 1920*times, 1080*times
	r := rand.New(rand.NewPCG(1, 2))
	texture := raster.NewPlane(image.Rect(0, 0, width+80, height+60))
	for i := range texture.Pix {
		texture.Pix[i] = float32(r.NormFloat64())
	}
	fine, coarse := raster.Gaussian(texture, 1.5), raster.Gaussian(texture, 6)
	file := func(n int) string { return filepath.Join(dir, fmt.Sprintf("w.%04d.%s", n, target.Ending())) }
	for n := 1; n <= 16; n++ {
		f := media.NewFrame(width, height, target.Samples())
		for y := range height {
			for x := range width {
				v := 128 + 150*fine.At(
					x+60-3*n,
					y+40-2*n,
				) + 500*coarse.At(
					x+60-3*n,
					y+40-2*n,
				) + 2*float32(
					r.NormFloat64(),
				)
				for c := range 3 {
					f.Codes[3*(y*width+x)+c] = uint16(min(max(v, 0), 255) * float32(f.Max()) / 255)
				}
			}
		}
		require.NoError(b, target.Write(file(n), f, media.Shot{}))
	}
	for n := 17; n <= frames; n++ {
		require.NoError(b, os.Link(file((n-1)%16+1), file(n)))
	}
	return dir
}

// brought brings footage in.
func brought(b testing.TB, dir string) *media.Plates {
	m, err := media.Inspect(ctx, dir)
	require.NoError(b, err)
	p, err := media.Import(
		ctx,
		media.Order{
			Material: m,
			Dir:      filepath.Join(b.TempDir(), "p"),
			Shot: media.Shot{
				First:     1,
				Rate:      m.Rate,
				Transfer:  colorspace.SRGB,
				Primaries: colorspace.BT709Primaries,
			},
		},
		nil,
	)
	require.NoError(b, err)
	return p
}

func run(b *testing.B, s *picture.Source, t treatment.Track) {
	d := treatment.New()
	t.ID, t.Home = "t", 1
	d.Tracks = []treatment.Track{t}
	frames := 0
	for b.Loop() {
		require.NoError(
			b,
			s.Follow(ctx, d, picture.Run{Track: "t", From: 1, First: 1, Last: 16}, func(picture.Tracked) { frames++ }),
		)
	}
	b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
}

// The aim is 24 frames/s, reading the frames included.
func BenchmarkFollowPlane600x400(b *testing.B) {
	run(
		b,
		wide(b),
		treatment.Track{
			Kind:   treatment.PlaneTrack,
			Motion: geom.Perspective,
			Region: []treatment.Vec{{600, 300}, {1200, 300}, {1200, 700}, {600, 700}},
		},
	)
}

// The aim is 60 frames/s, reading the frames included.
func BenchmarkFollowEightPoints(b *testing.B) {
	t := treatment.Track{Kind: treatment.PointsTrack, Motion: geom.Perspective}
	for i := range 8 {
		t.Points = append(
			t.Points,
			treatment.Point{
				ID:   fmt.Sprint(i),
				Name: fmt.Sprint(i),
				Home: 1,
				At:   treatment.Vec{500 + 110*float64(i), 400 + 60*float64(i%3)},
				Pattern: treatment.Vec{
					31,
					31,
				},
				Search:    treatment.Vec{91, 91},
				Motion:    geom.Similarity,
				Channel:   "luma",
				Against:   "reference",
				Tolerance: 0.6,
			},
		)
	}
	run(b, wide(b), t)
}
