package media

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/image/tiff"

	"jardin/app/demo/demotest"
	"jardin/core/colorspace"
	"jardin/core/raster"
)

var ctx = context.Background()

// still returns a picture whose every pixel differs, at 8 or 16 bits.
func still(n, w, h, depth int) image.Image {
	rect := image.Rect(0, 0, w, h)
	if depth == 16 {
		m := image.NewNRGBA64(rect)
		for i := range w * h {
			m.SetNRGBA64(i%w, i/w, color.NRGBA64{uint16(i * 37), uint16(i*101 + n), uint16(65535 - i), 65535})
		}
		return m
	}
	m := image.NewNRGBA(rect)
	for i := range w * h {
		m.SetNRGBA(i%w, i/w, color.NRGBA{uint8(i), uint8(i*3 + n), uint8(255 - i), 255})
	}
	return m
}

func write(t *testing.T, path string, encode func(*bytes.Buffer) error) {
	var b bytes.Buffer
	require.NoError(t, encode(&b))
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o644))
}

func pngs(t *testing.T, dir string, first, count, w, h, depth int) {
	for n := first; n < first+count; n++ {
		write(
			t,
			filepath.Join(dir, fmt.Sprintf("a.%04d.png", n)),
			func(b *bytes.Buffer) error { return png.Encode(b, still(n, w, h, depth)) },
		)
	}
}

func bringIn(t *testing.T, path string) (*Plates, error) {
	m, err := Inspect(ctx, path)
	if err != nil {
		return nil, err
	}
	return Import(
		ctx,
		Order{
			Material: m,
			Dir:      filepath.Join(t.TempDir(), "plates"),
			Screen:   false,
			Shot: Shot{
				First:     m.First,
				Rate:      m.Rate,
				Transfer:  colorspace.SRGB,
				Primaries: colorspace.BT709Primaries,
			},
		},
		nil,
	)
}

func TestStillsKeepTheirCodeValues(t *testing.T) {
	for name, c := range map[string]struct {
		depth  int
		encode func(*bytes.Buffer, image.Image) error
		ending string
	}{
		"PNG 8":  {8, func(b *bytes.Buffer, m image.Image) error { return png.Encode(b, m) }, "png"},
		"PNG 16": {16, func(b *bytes.Buffer, m image.Image) error { return png.Encode(b, m) }, "PNG"},
		"TIFF 8": {8, func(b *bytes.Buffer, m image.Image) error { return tiff.Encode(b, m, nil) }, "tif"},
		"TIFF 16 deflate": {16, func(b *bytes.Buffer, m image.Image) error {
			return tiff.Encode(b, m, &tiff.Options{Compression: tiff.Deflate})
		}, "tiff"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			for n := 998; n <= 1002; n++ { // padding outgrown on the way
				write(
					t,
					filepath.Join(dir, fmt.Sprintf("sh_%03d.%s", n, c.ending)),
					func(b *bytes.Buffer) error { return c.encode(b, still(n, 31, 17, c.depth)) },
				)
			}
			p, err := bringIn(t, dir)
			require.NoError(t, err)
			assert.Equal(
				t,
				Shot{
					First:     998,
					Last:      1002,
					Width:     31,
					Height:    17,
					Samples:   Samples{Depth: c.depth},
					Rate:      Rational{24, 1},
					Transfer:  colorspace.SRGB,
					Primaries: colorspace.BT709Primaries,
					Alpha:     c.ending[0] == 't',
				},
				p.Shot,
			)
			for n := 998; n <= 1002; n++ {
				f, err := p.Read(n)
				require.NoError(t, err)
				want := still(n, 31, 17, c.depth)
				for i := range 31 * 17 {
					red, g, b, _ := want.At(i%31, i/31).RGBA()
					got := [3]uint16{f.Codes[3*i], f.Codes[3*i+1], f.Codes[3*i+2]}
					shift := 16 - c.depth
					require.Equal(t, [3]uint16{uint16(red >> shift), uint16(g >> shift), uint16(b >> shift)}, got)
				}
			}
		})
	}
}

func TestRegionsAreCutFromFrames(t *testing.T) {
	dir := t.TempDir()
	pngs(t, dir, 5, 1, 30, 20, 16)
	p, err := bringIn(t, dir)
	require.NoError(t, err)
	whole, err := p.Read(5)
	require.NoError(t, err)
	part, err := p.Region(5, image.Rect(7, 3, 19, 11))
	require.NoError(t, err)
	for y := range 8 {
		assert.Equal(t, whole.Codes[3*((y+3)*30+7):3*((y+3)*30+19)], part.Codes[3*y*12:3*(y+1)*12])
	}
}

func TestJPEGAndGreyComeIn(t *testing.T) {
	dir := t.TempDir()
	grey := image.NewGray(image.Rect(0, 0, 16, 16))
	for i := range grey.Pix {
		grey.Pix[i] = 77
	}
	write(t, filepath.Join(dir, "g1.jpg"), func(b *bytes.Buffer) error { return jpeg.Encode(b, grey, nil) })
	p, err := bringIn(t, dir)
	require.NoError(t, err)
	f, err := p.Read(1)
	require.NoError(t, err)
	for _, v := range f.Codes {
		assert.InDelta(t, 77, int(v), 1)
	}
}

// A movie whose frames are flat tones, made by FFmpeg: lossless, so that each
// frame comes back with its own tone; screen pictures are made as well.
func TestMoviesComeIn(t *testing.T) {
	for name, c := range map[string]struct {
		args  []string
		depth int
	}{
		"FFV1 8":  {[]string{"-pix_fmt", "bgr0", "-c:v", "ffv1"}, 8},
		"FFV1 10": {[]string{"-pix_fmt", "gbrp10le", "-c:v", "ffv1"}, 10},
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "take.mkv")
			args := append(
				[]string{
					"-v",
					"error",
					"-f",
					"lavfi",
					"-i",
					"color=gray:s=64x48:r=24000/1001:d=0.5,format=gbrp,geq=r='N*10':g='N*10':b='N*10'",
				},
				c.args...)
			out, err := exec.Command("ffmpeg", append(args, path)...).CombinedOutput()
			require.NoError(t, err, string(out))
			m, err := Inspect(ctx, path)
			require.NoError(t, err)
			assert.Equal(t, Rational{24000, 1001}, m.Rate)
			assert.Equal(t, c.depth, m.Depth)
			require.Equal(t, 12, m.Last)
			steps := 0
			p, err := Import(
				ctx,
				Order{
					Material: m,
					Dir:      filepath.Join(t.TempDir(), "p"),
					Screen:   true,
					Shot: Shot{
						First:     101,
						Rate:      m.Rate,
						Transfer:  colorspace.BT709,
						Primaries: colorspace.BT709Primaries,
					},
				},
				func(done, total int) { steps, _ = done, total },
			)
			require.NoError(t, err)
			assert.Equal(t, 12, steps)
			for n := 101; n <= 112; n++ {
				f, err := p.Read(n)
				require.NoError(t, err)
				top := float64(int(1)<<c.depth - 1)
				assert.InDelta(t, float64(10*(n-101))/255, float64(f.Codes[300])/top, 0.002, "frame %d", n)
				assert.FileExists(t, p.ScreenPath(n))
				assert.FileExists(t, p.ThumbPath(n))
			}
		})
	}
}

func TestBadInputIsNamedAndNothingStays(t *testing.T) {
	cases := map[string]struct {
		make func(t *testing.T, dir string) string
		says []string
	}{
		"gap": {func(t *testing.T, dir string) string {
			pngs(t, dir, 1, 5, 8, 8, 8)
			require.NoError(t, os.Remove(filepath.Join(dir, "a.0003.png")))
			return dir
		}, []string{"a.0002.png is followed by a.0004.png"}},
		"truncated": {func(t *testing.T, dir string) string {
			pngs(t, dir, 1, 3, 40, 40, 8)
			require.NoError(t, os.Truncate(filepath.Join(dir, "a.0002.png"), 200))
			return dir
		}, []string{"a.0002.png", "damaged"}},
		"mixed sizes": {func(t *testing.T, dir string) string {
			pngs(t, dir, 1, 2, 8, 8, 8)
			pngs(t, dir, 3, 1, 9, 8, 8)
			return dir
		}, []string{"a.0003.png is 9 x 8"}},
		"mixed depths": {func(t *testing.T, dir string) string {
			pngs(t, dir, 1, 2, 8, 8, 8)
			pngs(t, dir, 3, 1, 8, 8, 16)
			return dir
		}, []string{"a.0003.png has samples of 16 bit"}},
		"text": {func(t *testing.T, dir string) string {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "a.0001.png"), []byte("hello"), 0o644))
			return dir
		}, []string{"a.0001.png is not a readable"}},
		"huge header": {func(t *testing.T, dir string) string {
			data, err := EncodePNG(make([]byte, 3), Layout{1, 1, 3, 8})
			require.NoError(t, err)
			var head bytes.Buffer
			head.WriteString("\x89PNG\r\n\x1a\n")
			chunk(&head, "IHDR", []byte{0, 0, 0x9c, 0x40, 0, 0, 0x9c, 0x40, 8, 2, 0, 0, 0})
			require.NoError(
				t,
				os.WriteFile(filepath.Join(dir, "a.0001.png"), append(head.Bytes(), data[33:]...), 0o644),
			)
			return dir
		}, []string{"40000 x 40000"}},
		"DPX cut short": {func(t *testing.T, dir string) string {
			for n := 1; n <= 3; n++ {
				require.NoError(
					t,
					Target{
						"dpx",
						10,
						false,
					}.Write(
						filepath.Join(dir, fmt.Sprintf("d.%03d.dpx", n)),
						noisy(20, 10, Samples{Depth: 10}, false, n),
						Shot{},
					),
				)
			}
			require.NoError(t, os.Truncate(filepath.Join(dir, "d.002.dpx"), 2500))
			return dir
		}, []string{"d.002.dpx is cut short", "copy it again"}},
		"OpenEXR cut short": {func(t *testing.T, dir string) string {
			for n := 1; n <= 3; n++ {
				require.NoError(
					t,
					Target{
						"exr",
						16,
						true,
					}.Write(
						filepath.Join(dir, fmt.Sprintf("e.%03d.exr", n)),
						noisy(64, 64, Samples{16, true}, false, n),
						Shot{},
					),
				)
			}
			require.NoError(t, os.Truncate(filepath.Join(dir, "e.002.exr"), 3000))
			return dir
		}, []string{"e.00", "copy or render it again"}},
		"OpenEXR given up": {func(t *testing.T, dir string) string {
			data, err := EncodeFrameEXR(noisy(8, 64, Samples{16, true}, false, 1), colorspace.BT709Primaries)
			require.NoError(t, err)
			h, err := readEXR(data)
			require.NoError(t, err)
			clear(data[h.size+8 : h.size+16]) // the second piece was never written
			require.NoError(t, os.WriteFile(filepath.Join(dir, "e.1.exr"), data, 0o644))
			return dir
		}, []string{"e.1.exr", "cut short"}},
		"OpenEXR of brightness": {func(t *testing.T, dir string) string {
			data, err := encodeEXR(8, 8, exrNone, []exrPlane{{"Y", true, func(int, []byte) {}}}, nil)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "e.1.exr"), data, 0o644))
			return dir
		}, []string{"no channels R, G and B"}},
		"text called DPX": {func(t *testing.T, dir string) string {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "d.1.dpx"), bytes.Repeat([]byte("hello "), 500), 0o644))
			return dir
		}, []string{"d.1.dpx cannot be read", "no DPX file"}},
		"huge DPX": {func(t *testing.T, dir string) string {
			data, err := EncodeDPX(noisy(4, 4, Samples{Depth: 16}, false, 1), colorspace.Linear, "x")
			require.NoError(t, err)
			binary.BigEndian.PutUint32(data[772:], 40000)
			binary.BigEndian.PutUint32(data[776:], 40000)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "d.1.dpx"), data, 0o644))
			return dir
		}, []string{"40000 x 40000"}},
		"huge OpenEXR": {func(t *testing.T, dir string) string {
			data, err := encodeEXR(
				4,
				4,
				exrNone,
				[]exrPlane{
					{"R", true, func(int, []byte) {}},
					{"G", true, func(int, []byte) {}},
					{"B", true, func(int, []byte) {}},
				},
				nil,
			)
			require.NoError(t, err)
			data = bytes.ReplaceAll(data, []byte{3, 0, 0, 0, 3, 0, 0, 0}, []byte{0x3f, 0x9c, 0, 0, 0x3f, 0x9c, 0, 0})
			require.NoError(t, os.WriteFile(filepath.Join(dir, "e.1.exr"), data, 0o644))
			return dir
		}, []string{"40000 x 40000"}},
		"empty still": {func(t *testing.T, dir string) string {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "e.1.exr"), nil, 0o644))
			return dir
		}, []string{"e.1.exr is empty"}},
		"alpha here and there": {func(t *testing.T, dir string) string {
			for n := 1; n <= 2; n++ {
				require.NoError(
					t,
					Target{
						"exr",
						16,
						true,
					}.Write(
						filepath.Join(dir, fmt.Sprintf("e.%d.exr", n)),
						noisy(8, 8, Samples{16, true}, n == 2, n),
						Shot{},
					),
				)
			}
			return dir
		}, []string{"e.2.exr differs"}},
		"two sequences": {func(t *testing.T, dir string) string {
			pngs(t, dir, 1, 2, 8, 8, 8)
			write(
				t,
				filepath.Join(dir, "b.0001.png"),
				func(b *bytes.Buffer) error { return png.Encode(b, still(1, 8, 8, 8)) },
			)
			return dir
		}, []string{"several sequences", "a.#.png", "b.#.png"}},
		"empty folder": {func(_ *testing.T, dir string) string { return dir }, []string{"holds no numbered stills"}},
		"empty movie": {func(t *testing.T, dir string) string {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "m.mov"), nil, 0o644))
			return filepath.Join(dir, "m.mov")
		}, []string{"m.mov is empty"}},
		"no movie": {func(t *testing.T, dir string) string {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "m.mov"), []byte("not a movie at all"), 0o644))
			return filepath.Join(dir, "m.mov")
		}, []string{"m.mov is not a movie"}},
		"missing": {
			func(_ *testing.T, dir string) string { return filepath.Join(dir, "nothing") },
			[]string{"cannot be opened"},
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			path := c.make(t, t.TempDir())
			into := t.TempDir()
			m, err := Inspect(ctx, path)
			if err == nil {
				_, err = Import(
					ctx,
					Order{
						Material: m,
						Dir:      filepath.Join(into, "plates"),
						Screen:   true,
						Shot: Shot{
							First:     1,
							Rate:      m.Rate,
							Transfer:  colorspace.SRGB,
							Primaries: colorspace.BT709Primaries,
						},
					},
					nil,
				)
			}
			require.Error(t, err)
			for _, words := range c.says {
				assert.ErrorContains(t, err, words)
			}
			left, err := os.ReadDir(into)
			require.NoError(t, err)
			assert.Empty(t, left, "nothing half imported stays")
		})
	}
}

// An import that was interrupted goes on after the last whole frame; given up, it
// leaves nothing.
func TestAnInterruptedImportGoesOn(t *testing.T) {
	dir, into := t.TempDir(), t.TempDir()
	pngs(t, dir, 1, 30, 32, 32, 8)
	m, err := Inspect(ctx, dir)
	require.NoError(t, err)
	c, cancel := context.WithCancel(ctx)
	order := Order{
		Material: m,
		Dir:      filepath.Join(into, "plates"),
		Screen:   true,
		Shot:     Shot{First: 1, Rate: m.Rate, Transfer: colorspace.SRGB, Primaries: colorspace.BT709Primaries},
	}
	_, err = Import(c, order, func(done, _ int) {
		if done == 12 {
			cancel()
		}
	})
	require.ErrorIs(t, err, context.Canceled)
	assert.NoDirExists(t, order.Dir)
	require.NoError(
		t,
		os.Truncate(filepath.Join(order.Dir+".part", "screen", "00000004.jpg"), 0),
	) // as after a power failure
	first := 0
	p, err := Import(ctx, order, func(done, _ int) {
		if first == 0 {
			first = done
		}
	})
	require.NoError(t, err)
	assert.Greater(t, first, 1, "what was finished is not made again")
	for n := 1; n <= 30; n++ {
		f, err := p.Read(n)
		require.NoError(t, err)
		assert.Equal(t, fromImage(still(n, 32, 32, 8), Samples{Depth: 8}, false).Codes, f.Codes)
		assert.Positive(t, fileSize(p.ScreenPath(n)), "frame %d", n)
		assert.Positive(t, fileSize(p.ThumbPath(n)), "frame %d", n)
	}
	order.Dir = filepath.Join(into, "other")
	c, cancel = context.WithCancel(ctx)
	cancel()
	_, err = Import(c, order, nil)
	require.Error(t, err)
	require.NoError(t, Drop(order.Dir))
	left, err := os.ReadDir(into)
	require.NoError(t, err)
	assert.Len(t, left, 1, "given up, it leaves nothing")
}

func TestRootsHold(t *testing.T) {
	allowed, outside := t.TempDir(), t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(allowed, "in"), 0o755))
	require.NoError(t, os.Symlink(outside, filepath.Join(allowed, "link")))
	roots := Roots{allowed}
	_, err := roots.Resolve(filepath.Join(allowed, "in"))
	assert.NoError(t, err)
	for name, path := range map[string]string{
		"elsewhere": outside, "dots": filepath.Join(allowed, "in") + "/../../" + filepath.Base(outside),
		"link": filepath.Join(allowed, "link"), "sibling": allowed + "x", "root": "/", "nothing": filepath.Join(allowed,
			"no"),
	} {
		_, err := roots.Resolve(path)
		assert.Error(t, err, name)
	}
	entries, err := roots.List("")
	require.NoError(t, err)
	assert.Len(t, entries, 1)
	_, err = roots.List(outside)
	assert.ErrorContains(t, err, "--media")
}

// The standard library reads back what EncodePNG wrote, bit for bit.
func TestPNGAgainstTheStandardLibrary(t *testing.T) {
	for _, depth := range []int{8, 16} {
		f := fromImage(still(3, 45, 33, depth), Samples{Depth: depth}, false)
		data, err := Target{Format: "png", Depth: depth}.Encode(f, Shot{}, "")
		require.NoError(t, err)
		back, err := png.Decode(bytes.NewReader(data))
		require.NoError(t, err)
		assert.Equal(t, f.Codes, fromImage(back, Samples{Depth: depth}, false).Codes)
	}
	m := image.NewNRGBA(image.Rect(0, 0, 9, 7))
	for i := range m.Pix {
		m.Pix[i] = uint8(i * 29)
	}
	data, err := EncodePNG(m.Pix, Layout{9, 7, 4, 8})
	require.NoError(t, err)
	back, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	assert.Equal(t, m.Pix, back.(*image.NRGBA).Pix)
	_, err = EncodePNG(nil, Layout{3, 3, 3, 8})
	assert.Error(t, err)
}

func TestLayTouchesOnlyWhatHasAlpha(t *testing.T) {
	f := fromImage(still(1, 20, 10, 16), Samples{Depth: 16}, false)
	coder := colorspace.NewCoder(colorspace.SRGB, 16)
	result := raster.NewImage(image.Rect(4, 2, 8, 5))
	result.Set(5, 3, [4]float32{0.5, 0.25, 1, 1})
	got := &Frame{Width: f.Width, Height: f.Height, Samples: f.Samples, Codes: slices.Clone(f.Codes)}
	got.Composite(result, coder)
	for i := range f.Codes {
		if i/3 == 3*20+5 {
			continue
		}
		assert.Equal(t, f.Codes[i], got.Codes[i])
	}
	assert.Equal(t, coder.Encode(0.5), got.Codes[3*(3*20+5)])
}

func TestTenThousandFilesAreTold(t *testing.T) {
	demotest.Share(t, 4)
	dir := t.TempDir()
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, still(1, 2, 2, 8)))
	for n := 1; n <= 10000; n++ {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("f%d.png", n)), b.Bytes(), 0o644))
	}
	m, err := Inspect(ctx, dir)
	require.NoError(t, err)
	assert.Equal(t, []int{1, 10000, 0, 0}, []int{m.First, m.Last, m.Padding, len(m.Gaps)})
}

// A disk that fills up in the middle, by a small file system in memory.
func TestAFullDiskIsTold(t *testing.T) {
	small := t.TempDir()
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=600k"); err != nil {
		t.Skip("a small file system cannot be mounted here: ", err)
	}
	defer syscall.Unmount(small, 0)
	dir := t.TempDir()
	pngs(t, dir, 1, 20, 160, 120, 16)
	m, err := Inspect(ctx, dir)
	require.NoError(t, err)
	_, err = Import(
		ctx,
		Order{
			Material: m,
			Screen:   true,
			Dir:      filepath.Join(small, "p"),
			Shot:     Shot{First: 1, Rate: m.Rate, Transfer: colorspace.SRGB, Primaries: colorspace.BT709Primaries},
		},
		nil,
	)
	require.ErrorContains(t, err, "the disk is full")
	left, err := os.ReadDir(small)
	require.NoError(t, err)
	assert.Empty(t, left, "what was begun is gone")
}

// One of several sequences in a folder is inspected, looked at and brought in by its name; what is not there says what is.
func TestOneOfSeveralSequences(t *testing.T) {
	dir := t.TempDir()
	for n := 1; n <= 3; n++ {
		for _, name := range []string{"a.%04d.png", "b [x]%%.%d.png"} {
			var blob bytes.Buffer
			m := image.NewNRGBA(image.Rect(0, 0, 8, 8))
			if name[0] == 'b' {
				m = image.NewNRGBA(image.Rect(0, 0, 16, 12))
			}
			for i := range m.Pix {
				m.Pix[i] = 255
			}
			require.NoError(t, png.Encode(&blob, m))
			require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf(name, n)), blob.Bytes(), 0o644))
		}
	}
	ctx := context.Background()
	_, err := Inspect(ctx, dir)
	var several *Several
	require.ErrorAs(t, err, &several)
	require.Len(t, several.Sequences, 2)
	assert.Equal(t, "a.#.png", several.Sequences[0].Name)
	assert.Equal(t, 3, several.Sequences[1].Stills)
	roots := Roots{dir}
	listed, err := roots.List(dir)
	require.NoError(t, err)
	require.Len(t, listed, 2)
	for i, width := range []int{8, 16} {
		path, err := roots.Resolve(listed[i].Path)
		require.NoError(t, err)
		m, err := Inspect(ctx, path)
		require.NoError(t, err)
		assert.Equal(t, width, m.Width)
		assert.Equal(t, listed[i].Path, m.Path)
		require.NoError(t, roots.Inside(m))
		require.NoError(t, m.FindFields(ctx))
		data, err := m.Preview(ctx, 2, Reading{}, Shot{Transfer: m.Transfer, Primaries: m.Primaries}, 100)
		require.NoError(t, err)
		shown, err := jpeg.Decode(bytes.NewReader(data))
		require.NoError(t, err)
		assert.Equal(t, width, shown.Bounds().Dx())
		_, err = m.Preview(ctx, 9, Reading{}, Shot{}, 100)
		assert.ErrorContains(t, err, "no frame 9")
		_, err = m.Preview(ctx, 1, Reading{Matrix: "bt709,movie=/etc/passwd"}, Shot{}, 100)
		assert.ErrorContains(t, err, "not a matrix")
	}
	_, err = Inspect(ctx, filepath.Join(dir, "c.#.png"))
	assert.ErrorContains(t, err, "a.#.png, b [x]%.#.png")
	_, err = roots.Resolve(filepath.Join(dir, "..", "x.#.png"))
	assert.ErrorContains(t, err, "outside")
	_, err = roots.Resolve(filepath.Join(dir, "none", "x.#.png"))
	assert.Error(t, err)
}

// Shown through a table, integers are shares of the largest code value and half floats themselves.
func TestShownThroughATable(t *testing.T) {
	cube, err := colorspace.ReadCube([]byte("LUT_1D_SIZE 3\n0 1 0\n0.25 0.5 1\n1 0 0.5\n"))
	require.NoError(t, err)
	for _, samples := range []Samples{{8, false}, {10, false}, {16, false}, {16, true}} {
		shot := Shot{Width: 3, Height: 1, Samples: samples, Transfer: colorspace.SRGB, Primaries: colorspace.BT709Primaries}
		most := float64(uint32(1)<<samples.Depth - 1)
		f := &Frame{Width: 3, Height: 1, Samples: samples, Codes: make([]uint16, 9)}
		for i, v := range []float64{0, 0.25, 0.5, 0.75, 1, 1, 0.1, 0.9, 0.6} {
			f.Codes[i] = uint16(math.Round(v * most))
			if samples.Float {
				f.Codes[i] = colorspace.ToHalf(float32(v))
			}
		}
		d := NewDisplay(shot)
		d.Through(cube)
		for i, got := range d.Bytes(f) {
			v := float32(float64(f.Codes[i]) / most)
			if samples.Float {
				v = colorspace.FromHalf(f.Codes[i])
			}
			assert.InDelta(t, 255*cube.Apply([3]float32{v, v, v})[i%3], got, 0.501, "%v, %d", samples, i)
		}
		assert.EqualValues(t, 255, d.Bytes(f)[2], "half way the third curve is at its top")
	}
}
