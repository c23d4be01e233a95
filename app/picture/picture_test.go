package picture_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/treatment"
)

var ctx = context.Background()

// shot makes a plate store of textured frames that move by (2, 1) a frame; from
// the frame lost on they show something else.
func shot(t *testing.T, depth, lost int) *picture.Source {
	dir := t.TempDir()
	top := float64(int(1)<<depth - 1)
	for n := 1; n <= 20; n++ {
		f := media.NewFrame(128, 96, depth)
		for i := range 128 * 96 {
			x, y := float64(i%128-2*n), float64(i/128-n)
			if lost > 0 && n >= lost {
				x, y = y*1.7, x*0.4
			}
			v := 0.5 + 0.2*math.Sin(x/3.3+2*math.Sin(y/7))*math.Cos(y/4.1) + 0.2*math.Sin(x*y/180)
			for c := range 3 {
				f.Codes[3*i+c] = uint16(top * v * (1 - 0.1*float64(c)))
			}
		}
		require.NoError(t, media.WritePNG(filepath.Join(dir, fmt.Sprintf("a.%03d.png", n)), f))
	}
	m, err := media.Inspect(ctx, dir)
	require.NoError(t, err)
	p, err := media.Import(ctx, m, filepath.Join(t.TempDir(), "p"), 1, colorspace.SRGB, false, nil)
	require.NoError(t, err)
	return picture.NewSource(p, "s", render.NewCache(64<<20))
}

func removal() *treatment.Removal {
	r := &treatment.Removal{
		ID: "r", Name: "r", Range: treatment.Range{First: 1, Last: 20}, Reference: 8,
		Follow: treatment.Follow{Region: []treatment.Vec{{30, 20}, {90, 20}, {90, 70}, {30, 70}}, Motion: geom.Position},
		Settle: treatment.Settle{Opacity: 1},
	}
	r.Mark.Outlines = []treatment.Outline{{ID: "o", Points: []treatment.Knot{{At: treatment.Vec{50, 40}}, {At: treatment.Vec{60, 40}}, {At: treatment.Vec{60, 50}}, {At: treatment.Vec{50, 50}}}}}
	r.Fill.Strokes = []treatment.Stroke{{ID: "s", Mode: "clone", Size: 30, Hardness: 1, Opacity: 1, Offset: treatment.Vec{25, 0}, Path: treatment.Path{Points: [][]float64{{55, 45}}}}}
	return r
}

func TestFollowGoesBothWaysFromTheReferenceFrame(t *testing.T) {
	s := shot(t, 8, 0)
	for direction, count := range map[string]int{picture.Both: 20, picture.Forwards: 13, picture.Backwards: 8} {
		told := 0
		samples, err := s.Follow(ctx, removal(), direction, func(treatment.Sample) { told++ })
		require.NoError(t, err)
		assert.Len(t, samples, count, direction)
		assert.Equal(t, count, told)
		for _, x := range samples {
			assert.InDelta(t, 2*(x.Frame-8), x.Matrix[2], 0.05)
		}
	}
}

func TestFollowKeepsWhatItFoundBeforeALoss(t *testing.T) {
	s := shot(t, 8, 14)
	samples, err := s.Follow(ctx, removal(), picture.Both, func(treatment.Sample) {})
	var lost *picture.Lost
	require.ErrorAs(t, err, &lost)
	assert.Equal(t, 14, lost.Frame)
	assert.ErrorContains(t, err, "lost the surface on frame 14")
	assert.Len(t, samples, 13, "frames 1 to 13")

	r := removal()
	r.Follow.Region = nil
	_, err = s.Follow(ctx, r, picture.Both, func(treatment.Sample) {})
	assert.ErrorContains(t, err, "no region")
	stopped, cancel := context.WithCancel(ctx)
	samples, err = s.Follow(stopped, removal(), picture.Forwards, func(x treatment.Sample) {
		if x.Frame == 11 {
			cancel()
		}
	})
	assert.ErrorIs(t, err, context.Canceled)
	assert.Len(t, samples, 4, "a cancel acts within a frame")
}

func compiled(t *testing.T, s *picture.Source) *render.Treatment {
	r := removal()
	samples, err := s.Follow(ctx, r, picture.Both, func(treatment.Sample) {})
	require.NoError(t, err)
	r.Follow.Track = &treatment.Track{Samples: samples}
	d := treatment.New()
	d.Removals = append(d.Removals, *r)
	c, err := render.Compile(d)
	require.NoError(t, err)
	return c
}

// Delivered frames are read back by the standard library: 16 bits stay 16 bits,
// and outside the matte every code value is the plate's.
func TestDeliverKeepsDepthAndPlate(t *testing.T) {
	for _, depth := range []int{8, 16} {
		s := shot(t, depth, 0)
		d := picture.Delivery{Dir: t.TempDir(), Name: "x", Range: treatment.Range{First: 1, Last: 20}, Movie: filepath.Join(t.TempDir(), "m.mp4")}
		steps := 0
		require.NoError(t, s.Deliver(ctx, compiled(t, s), d, func(done, _ int) { steps = done }))
		assert.Equal(t, 20, steps)
		assert.FileExists(t, d.Movie)
		for n := 1; n <= 20; n++ {
			data, err := os.ReadFile(d.FramePath(n))
			require.NoError(t, err)
			m, err := png.Decode(bytes.NewReader(data))
			require.NoError(t, err)
			plate, err := s.Plates.Read(n)
			require.NoError(t, err)
			marked := image.Rect(49, 39, 61, 51).Add(image.Pt(2*(n-8), n-8))
			changed := 0
			for i := range 128 * 96 {
				x, y := i%128, i/128
				r, _, _, _ := m.At(x, y).RGBA()
				if uint16(r>>(16-depth)) != plate.Codes[3*i] {
					changed++
					require.True(t, image.Pt(x, y).In(marked), "frame %d, pixel %d,%d", n, x, y)
				}
			}
			assert.Greater(t, changed, 50)
		}
	}
}

func TestACancelledDeliveryLeavesWholeFilesOnly(t *testing.T) {
	s := shot(t, 8, 0)
	stop, cancel := context.WithCancel(ctx)
	d := picture.Delivery{Dir: t.TempDir(), Name: "x", Range: treatment.Range{First: 1, Last: 20}, Movie: filepath.Join(t.TempDir(), "m.mp4")}
	err := s.Deliver(stop, compiled(t, s), d, func(done, _ int) {
		if done == 5 {
			cancel()
		}
	})
	require.Error(t, err)
	assert.NoFileExists(t, d.Movie)
	assert.NoFileExists(t, d.Movie+".part")
	entries, err := os.ReadDir(d.Dir)
	require.NoError(t, err)
	for _, e := range entries {
		data, err := os.ReadFile(filepath.Join(d.Dir, e.Name()))
		require.NoError(t, err)
		_, err = png.Decode(bytes.NewReader(data))
		assert.NoError(t, err, e.Name())
	}
}

func TestOverlayIsWhatTheScreenNeeds(t *testing.T) {
	s := shot(t, 8, 0)
	c := compiled(t, s)
	data, place, err := s.Overlay(ctx, c, 12, render.ResultView, "")
	require.NoError(t, err)
	m, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	assert.Equal(t, m.Bounds().Size(), place.Size())
	clean, err := s.Clean(ctx, c, 12)
	require.NoError(t, err)
	opaque := 0
	for y := place.Min.Y; y < place.Max.Y; y++ {
		for x := place.Min.X; x < place.Max.X; x++ {
			r, _, _, a := m.At(x-place.Min.X, y-place.Min.Y).RGBA()
			if a == 0 {
				continue
			}
			opaque++
			assert.Equal(t, clean.Codes[3*(y*128+x)], uint16(r>>8), "an sRGB plate is shown with its own code values")
		}
	}
	assert.InDelta(t, 100, opaque, 25)
	again, _, err := s.Overlay(ctx, c, 12, render.ResultView, "")
	require.NoError(t, err)
	assert.Equal(t, data, again)
	exact, err := s.Exact(12)
	require.NoError(t, err)
	m, err = png.Decode(bytes.NewReader(exact))
	require.NoError(t, err)
	assert.Equal(t, image.Rect(0, 0, 128, 96), m.Bounds())

	empty := picture.ForScreen(raster.NewImage(image.Rect(3, 3, 3, 3)))
	assert.True(t, empty.Rect.Empty())
	_, err = s.Exact(99)
	assert.True(t, err != nil && !errors.Is(err, os.ErrNotExist), "a frame outside the shot is named: %v", err)
}
