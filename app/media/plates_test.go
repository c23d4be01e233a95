package media

import (
	"bytes"
	"image"
	"image/jpeg"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// tens brings two frames of 10 bits in, with pictures for the screen.
func tens(t *testing.T) *Plates {
	dir := t.TempDir()
	for n := 1; n <= 2; n++ {
		require.NoError(
			t,
			Target{
				"dpx",
				10,
				false,
			}.Write(
				filepath.Join(dir, []string{"", "f.1.dpx", "f.2.dpx"}[n]),
				noisy(41, 19, Samples{Depth: 10}, false, n),
				Shot{},
			),
		)
	}
	m, err := Inspect(ctx, dir)
	require.NoError(t, err)
	p, err := Import(
		ctx,
		Order{
			Material: m,
			Dir:      filepath.Join(t.TempDir(), "p"),
			Screen:   true,
			Shot:     Shot{First: 1, Rate: m.Rate, Transfer: colorspace.BT709, Primaries: m.Primaries},
		},
		nil,
	)
	require.NoError(t, err)
	return p
}

// A store of 10 bits takes four bytes a pixel; one that was made before, with six, reads
// the same.
func TestStoresOfTenBits(t *testing.T) {
	p := tens(t)
	want := noisy(41, 19, Samples{Depth: 10}, false, 2)
	assert.EqualValues(t, 4*41*19, fileSize(p.path("codes", 2, "w10")))
	rect := image.Rect(5, 3, 30, 17)
	check := func() {
		whole, err := p.Whole(2)
		require.NoError(t, err)
		require.Equal(t, want.Codes, whole.Unpacked().Codes)
		part, err := p.Region(2, rect)
		require.NoError(t, err)
		for y := range rect.Dy() {
			from := 3 * ((y+rect.Min.Y)*41 + rect.Min.X)
			require.Equal(t, want.Codes[from:from+3*rect.Dx()], part.Codes[3*y*rect.Dx():3*(y+1)*rect.Dx()])
		}
		sum, err := p.Hash(2)
		require.NoError(t, err)
		assert.Equal(t, whole.Hash, sum)
	}
	check()
	require.NoError(t, os.Remove(p.path("codes", 2, "w10")))
	_, err := p.Whole(2)
	assert.ErrorContains(t, err, "bring the shot in again")
	require.NoError(t, os.WriteFile(p.path("codes", 2, "raw"), pack(want.Samples, want.Codes, nil), 0o644))
	check()
}

// A power failure may leave empty pictures: they are made anew when they are asked for.
func TestMissingPicturesAreMadeAnew(t *testing.T) {
	p := tens(t)
	for kind, path := range map[PictureKind]string{ScreenPicture: p.ScreenPath(2), ThumbPicture: p.ThumbPath(2)} {
		before, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, os.Truncate(path, 0))
		got, err := p.Picture(2, kind, 1)
		require.NoError(t, err)
		assert.Equal(t, path, got)
		after, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, before, after)
	}
}

// Smaller pictures for playback are means of the frame's pixels, and are made where they are missing.
func TestSmallerPicturesForPlayback(t *testing.T) {
	p := tens(t)
	decode := func(path string, err error) image.Image {
		require.NoError(t, err)
		blob, err := os.ReadFile(path)
		require.NoError(t, err)
		m, err := jpeg.Decode(bytes.NewReader(blob))
		require.NoError(t, err)
		return m
	}
	whole := decode(p.Picture(2, ScreenPicture, 1))
	for _, kind := range []PictureKind{ScreenPicture, CodePicture} {
		for _, by := range Reductions[1:] {
			small := decode(p.Picture(2, kind, by))
			require.Equal(t, image.Rect(0, 0, (p.Width+by-1)/by, (p.Height+by-1)/by), small.Bounds())
			if kind == CodePicture || p.Width%by != 0 || p.Height%by != 0 {
				continue
			}
			for y := 0; y < small.Bounds().Dy(); y += 3 {
				for x := 0; x < small.Bounds().Dx(); x += 3 {
					var sum uint32
					for k := range by * by {
						_, g, _, _ := whole.At(x*by+k%by, y*by+k/by).RGBA()
						sum += g >> 8
					}
					_, g, _, _ := small.At(x, y).RGBA()
					assert.InDelta(t, float64(sum)/float64(by*by), float64(g>>8), 6, "by %d at %d, %d", by, x, y)
				}
			}
		}
	}
}

func TestThumbnailsAreMeans(t *testing.T) {
	const w, h = 330, 200
	rgb := make([]byte, 3*w*h)
	for i := range w * h {
		copy(rgb[3*i:], []byte{byte(i % w / 2), byte(i / w), 77})
	}
	small, height := shrunk(rgb, w, h, ThumbWidth)
	assert.Equal(t, 97, height)
	for y := range height {
		for x := range ThumbWidth {
			px := small[3*(y*ThumbWidth+x):]
			require.InDelta(
				t,
				(float64(x)+0.5)*w/ThumbWidth/2,
				float64(px[0]),
				1.5,
			) // edges fall on whole pixels, and means are rounded
			require.InDelta(t, (float64(y)+0.5)*h/97, float64(px[1]), 1.5)
			require.EqualValues(t, 77, px[2])
		}
	}
	r := rand.New(rand.NewPCG(4, 4))
	// By 2 and 4 as well, whatever the size: each is the mean of the pixels it stands for, rounded.
	for range 40 {
		by, w, h := 2+2*r.IntN(2), 1+r.IntN(40), 1+r.IntN(30)
		all := make([]byte, 3*by*by*w*h)
		for i := range all {
			all[i] = byte(r.Uint32())
		}
		small, height = shrunk(all, by*w, by*h, w)
		require.Equal(t, h, height)
		for i, got := range small {
			x, y, k := i/3%w, i/3/w, i%3
			sum := 0.0
			for j := range by * by {
				sum += float64(all[3*((by*y+j/by)*by*w+by*x+j%by)+k])
			}
			require.Equal(t, math.Floor(sum/float64(by*by)+0.5), float64(got), "by %d at %d, %d", by, x, y)
		}
	}
	small, height = shrunk([]byte{1, 2, 3}, 1, 1, ThumbWidth)
	assert.Equal(t, []byte{1, 2, 3}, small)
	assert.Equal(t, 1, height)
}

// A patch laid on a packed frame gives the file that it gives on an unpacked one.
func TestPatchesLieOnPackedFrames(t *testing.T) {
	p := tens(t)
	coder := p.Coder(colorspace.BT709)
	patch := raster.NewImage(image.Rect(7, 4, 30, 15))
	for i := range patch.Pix {
		patch.Pix[i] = float32(i%97) / 96
	}
	packed, err := p.Whole(1)
	require.NoError(t, err)
	plain := packed.Unpacked()
	packed.Composite(patch, coder)
	plain.Composite(patch, coder)
	require.NotEqual(t, noisy(41, 19, p.Samples, false, 1).Codes, plain.Codes)
	for name, target := range map[string]Target{"dpx": {"dpx", 10, false}, "dpx 16": {"dpx", 16, false}, "png": {"png",
		16, false}} {
		a, err := target.Encode(packed, p.Shot, "f")
		require.NoError(t, err)
		b, err := target.Encode(plain, p.Shot, "f")
		require.NoError(t, err)
		assert.Equal(t, b, a, name)
	}
	require.Equal(t, plain.Linear(coder), packed.Linear(coder))
}
