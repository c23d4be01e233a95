package media

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/colorspace"
)

// noisy is a frame whose code values run over all that its samples can hold.
func noisy(w, h int, s Samples, alpha bool, n int) *Frame {
	f := NewFrame(w, h, s)
	next := uint32(n*977 + 1)
	value := func() (uint16, float32) {
		next = next*1664525 + 1013904223
		if s.Float {
			half := uint16(next>>16) & 0x7bff // finite, and not negative
			return half, colorspace.FromHalf(half) * (1 + float32(next&255)/65536)
		}
		return uint16(int(next>>8) % (s.Max() + 1)), 0
	}
	fill := func(codes []uint16, floats []float32) {
		for i := range max(len(codes), len(floats)) {
			c, v := value()
			if floats != nil {
				floats[i] = v
			} else {
				codes[i] = c
			}
		}
	}
	fill(f.Codes, f.Floats)
	if alpha {
		f.Alpha = &Alpha{}
		if s.Depth == 32 {
			f.Alpha.Floats = make([]float32, w*h)
		} else {
			f.Alpha.Codes = make([]uint16, w*h)
		}
		fill(f.Alpha.Codes, f.Alpha.Floats)
	}
	return f
}

// Every format: written, brought in by FFmpeg or the standard library, read whole, and
// written once more. No code value may change on the way, alpha included.
func TestEveryFormatKeepsItsCodeValues(t *testing.T) {
	for _, c := range []struct {
		target Target
		alpha  bool
	}{
		{Target{"png", 8, false}, false}, {Target{"png", 8, false}, true}, {Target{"png", 16, false}, true},
		{Target{"tiff", 8, false}, true}, {Target{"tiff", 16, false}, true},
		{Target{"dpx", 8, false}, false}, {Target{"dpx", 8, false}, true}, {Target{"dpx", 10, false}, false},
		{Target{"dpx", 12, false}, false}, {Target{"dpx", 16, false}, false}, {Target{"dpx", 16, false}, true},
		{Target{"exr", 16, true}, false}, {Target{"exr", 16, true}, true}, {Target{"exr", 32, true}, true},
	} {
		for _, width := range []int{37, 64} {
			t.Run(fmt.Sprintf("%s %s %v %d", c.target.Format, c.target.Samples(), c.alpha, width), func(t *testing.T) {
				dir := t.TempDir()
				shot := Shot{
					First:     7,
					Rate:      Rational{24, 1},
					Transfer:  colorspace.Linear,
					Primaries: colorspace.BT709Primaries,
				}
				for n := 98; n <= 101; n++ {
					require.NoError(
						t,
						c.target.Write(
							filepath.Join(dir, fmt.Sprintf("sh %%d_%03d.%s", n, c.target.Ending())),
							noisy(width, 23, c.target.Samples(), c.alpha, n),
							shot,
						),
					)
				}
				m, err := Inspect(ctx, dir)
				require.NoError(t, err)
				assert.Equal(t, c.target.Samples(), m.Samples())
				p, err := Import(
					ctx,
					Order{Material: m, Dir: filepath.Join(t.TempDir(), "p"), Screen: true, Shot: shot},
					nil,
				)
				require.NoError(t, err)
				for n := 7; n <= 10; n++ {
					want, err := p.Whole(n)
					require.NoError(t, err)
					packed := want
					want = want.Unpacked()
					original := noisy(width, 23, c.target.Samples(), c.alpha, n+91)
					require.True(t, slices.Equal(original.Codes, want.Codes), "frame %d", n)
					require.True(t, slices.Equal(original.Floats, want.Floats), "frame %d", n)
					require.Equal(t, c.alpha, want.Alpha != nil)
					if c.alpha {
						require.True(
							t,
							slices.Equal(original.Alpha.Codes, want.Alpha.Codes) &&
								slices.Equal(original.Alpha.Floats, want.Alpha.Floats),
							"alpha of frame %d",
							n,
						)
					}
					before, err := os.ReadFile(
						filepath.Join(dir, fmt.Sprintf("sh %%d_%03d.%s", n+91, c.target.Ending())),
					)
					require.NoError(t, err)
					again, err := c.target.Encode(
						packed,
						p.Shot,
						fmt.Sprintf("sh %%d_%03d.%s", n+91, c.target.Ending()),
					)
					require.NoError(t, err)
					require.True(t, bytes.Equal(before, again), "written once more it is the same file")
				}
			})
		}
	}
}

// independentDPX reads 10-bit RGB of method A and B, and 16-bit RGB, by the tables of
// SMPTE 268M-2003 alone.
func independentDPX(t *testing.T, data []byte) []uint16 {
	be := binary.BigEndian
	require.Equal(t, "SDPX", string(data[:4]))
	at, w, h := int(be.Uint32(data[4:])), int(be.Uint32(data[772:])), int(be.Uint32(data[776:]))
	bits, packing := data[803], be.Uint16(data[804:])
	var out []uint16
	for y := range h {
		for x := range w {
			for c := range 3 {
				if bits == 10 {
					word := be.Uint32(data[at+4*(y*w+x):])
					if packing == 1 {
						word >>= 2
					}
					out = append(out, uint16(word>>(20-10*c)&1023))
				} else {
					line := (6*w + 3) / 4 * 4
					out = append(out, be.Uint16(data[at+y*line+6*x+2*c:]))
				}
			}
		}
	}
	return out
}

// FFmpeg reads what we write as we do: another independent reader.
func TestDPXAgainstFFmpeg(t *testing.T) {
	for _, depth := range []int{8, 10, 12, 16} {
		dir := t.TempDir()
		f := noisy(37, 23, Samples{Depth: depth}, false, depth)
		require.NoError(t, Target{"dpx", depth, false}.Write(filepath.Join(dir, "f.1.dpx"), f, Shot{}))
		m, err := Inspect(ctx, dir)
		require.NoError(t, err)
		m.plain = false
		require.NoError(t, m.each(ctx, []int{1}, Reading{}, 0, func(_ int, got *Frame) error {
			assert.True(t, slices.Equal(f.Codes, got.Codes), "%d bit", depth)
			return nil
		}))
	}
}

// Lines with padding at their ends, and those that begin with the lowest: the same picture.
// Samples with signs and lines that run another way are refused (SMPTE 268M-2003, tables 2
// and 3).
func TestDPXOfOtherLayouts(t *testing.T) {
	for _, depth := range []int{8, 10, 12, 16} {
		f := noisy(13, 9, Samples{Depth: depth}, false, depth)
		plain, err := EncodeDPX(f, colorspace.BT709, "f")
		require.NoError(t, err)
		line := dpxBytes(13, 1, 3, depth)
		changed := func(orientation uint16, padding uint32, sign uint32) []byte {
			out := bytes.Clone(plain[:2048])
			binary.BigEndian.PutUint16(out[768:], orientation)
			binary.BigEndian.PutUint32(out[780:], sign)
			binary.BigEndian.PutUint32(out[812:], padding)
			for y := range 9 {
				if orientation == 2 {
					y = 8 - y
				}
				out = append(out, plain[2048+y*line:2048+(y+1)*line]...)
				out = append(out, bytes.Repeat([]byte{0xee}, int(padding))...)
			}
			return out
		}
		read := func(data []byte) (*Frame, error) {
			h, err := readDPX(data)
			if err != nil {
				return nil, err
			}
			got, err := decodeDPX(bytes.Clone(data), h)
			if err != nil {
				return nil, err
			}
			return got.Unpacked(), nil
		}
		for _, c := range []struct {
			orientation uint16
			padding     uint32
		}{{0, 0}, {0, 5}, {2, 0}, {2, 12}} {
			got, err := read(changed(c.orientation, c.padding, 0))
			require.NoError(t, err)
			assert.True(
				t,
				slices.Equal(f.Codes, got.Codes),
				"%d bits, orientation %d, padding %d",
				depth,
				c.orientation,
				c.padding,
			)
			again, err := EncodeDPX(got, colorspace.BT709, "f")
			require.NoError(t, err)
			back, err := read(again)
			require.NoError(t, err)
			assert.True(t, slices.Equal(f.Codes, back.Codes), "and out again")
		}
		_, err = read(changed(0, 0, 1))
		assert.ErrorContains(t, err, "signs")
		for _, o := range []uint16{1, 3, 4, 7} {
			_, err = read(changed(o, 0, 0))
			assert.ErrorContains(t, err, "orientation")
		}
	}
}

// DPX made by FFmpeg: what is brought in is what an independent reader sees, and what
// leaves is the very file, header and all.
func TestForeignDPX(t *testing.T) {
	for _, format := range []string{"gbrp10be", "rgb48be"} {
		t.Run(format, func(t *testing.T) {
			dir := t.TempDir()
			out, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "mandelbrot=s=66x40:r=24000/1001",
				"-frames:v", "3", "-pix_fmt", format, "-start_number", "1001", filepath.Join(dir, "f.%04d.dpx")).
				CombinedOutput()
			require.NoError(t, err, string(out))
			file := func(n int) []byte {
				data, err := os.ReadFile(filepath.Join(dir, fmt.Sprintf("f.%d.dpx", n)))
				require.NoError(t, err)
				return data
			}
			// A header that says more: project, timecode 01:02:03:04, 23.976 frames a second.
			for n := 1001; n <= 1003; n++ {
				data := slices.Insert(file(n), 1664, make([]byte, 384)...) // FFmpeg leaves film and television out
				binary.BigEndian.PutUint32(data[4:], 2048)
				binary.BigEndian.PutUint32(data[808:], 2048)
				binary.BigEndian.PutUint32(data[16:], uint32(len(data)))
				copy(data[260:], "Winter at Larkmoss")
				binary.BigEndian.PutUint32(data[1920:], 0x01020304)
				binary.BigEndian.PutUint32(data[1940:], math.Float32bits(24000./1001))
				require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("f.%d.dpx", n)), data, 0o644))
			}
			m, err := Inspect(ctx, dir)
			require.NoError(t, err)
			assert.Equal(t, "01:02:03:04", m.Timecode)
			assert.Equal(t, Rational{24000, 1001}, m.Rate)
			p, err := Import(
				ctx,
				Order{
					Material: m,
					Dir:      filepath.Join(t.TempDir(), "p"),
					Shot:     Shot{First: 1001, Rate: m.Rate, Transfer: m.Transfer, Primaries: m.Primaries},
				},
				nil,
			)
			require.NoError(t, err)
			for n := 1001; n <= 1003; n++ {
				f, err := p.Whole(n)
				require.NoError(t, err)
				require.True(t, slices.Equal(independentDPX(t, file(n)), f.Unpacked().Codes), "frame %d", n)
				data, err := Target{"dpx", m.Depth, false}.Encode(f, p.Shot, "x")
				require.NoError(t, err)
				size := 2048 + dpxBytes(66, 40, 3, m.Depth)
				assert.True(t, bytes.Equal(file(n)[:size], data), "the very file")
			}
		})
	}
}

// OpenEXR by every compression that FFmpeg writes, and attributes of our own making:
// all of them come back, and half floats keep their bits.
func TestForeignEXR(t *testing.T) {
	for _, compression := range []string{"none", "rle", "zip1", "zip16"} {
		t.Run(compression, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(
				t,
				Target{
					"exr",
					16,
					true,
				}.Write(
					filepath.Join(dir, "src.1.exr"),
					noisy(50, 35, Samples{16, true}, true, 4),
					Shot{Primaries: colorspace.AP1Primaries},
				),
			)
			require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o755))
			out, err := exec.Command("ffmpeg", "-v", "error", "-i", filepath.Join(dir, "src.1.exr"), "-compression",
				compression, "-format", "half", filepath.Join(dir, "in", "f.0001.exr")).
				CombinedOutput()
			require.NoError(t, err, string(out))
			m, err := Inspect(ctx, filepath.Join(dir, "in"))
			require.NoError(t, err)
			assert.Equal(t, colorspace.Linear, m.Transfer)
			p, err := Import(
				ctx,
				Order{
					Material: m,
					Dir:      filepath.Join(dir, "p"),
					Shot:     Shot{First: 1, Rate: m.Rate, Transfer: m.Transfer, Primaries: m.Primaries},
				},
				nil,
			)
			require.NoError(t, err)
			f, err := p.Whole(1)
			require.NoError(t, err)
			want := noisy(50, 35, Samples{16, true}, true, 4)
			require.True(t, slices.Equal(want.Codes, f.Codes))
			require.True(t, slices.Equal(want.Alpha.Codes, f.Alpha.Codes))
		})
	}
	// Attributes leave as they came.
	f := noisy(20, 10, Samples{16, true}, false, 1)
	comment := append([]byte("comments\x00string\x00\x0c\x00\x00\x00"), "from the set"...)
	rate := append([]byte("framesPerSecond\x00rational\x00\x08\x00\x00\x00"), 0xc0, 0x5d, 0, 0, 0xe9, 3, 0, 0)
	row := func(y int, to []byte) {}
	data, err := encodeEXR(
		20,
		10,
		exrZIPS,
		[]exrPlane{{"R", true, row}, {"G", true, row}, {"B", true, row}},
		slices.Concat(comment, rate),
	)
	require.NoError(t, err)
	h, err := readEXR(data)
	require.NoError(t, err)
	assert.Equal(t, &Rational{24000, 1001}, h.Rate)
	f.Head = data[:h.size]
	again, err := EncodeFrameEXR(f, colorspace.BT709Primaries)
	require.NoError(t, err)
	back, err := readEXR(again)
	require.NoError(t, err)
	assert.True(t, bytes.Contains(back.extra, comment) && bytes.Contains(back.extra, rate))
	assert.EqualValues(t, exrZIPS, back.compression)
	ap1, err := EncodeFrameEXR(noisy(4, 4, Samples{32, true}, false, 1), colorspace.AP1Primaries)
	require.NoError(t, err)
	back, err = readEXR(ap1)
	require.NoError(t, err)
	assert.Equal(t, colorspace.AP1Primaries, back.Primaries, "primaries are told")
}

// The widely used container formats and codecs, by what FFmpeg makes of them.
func TestMoviesAreToldApart(t *testing.T) {
	for name, c := range map[string]struct {
		args   []string
		ending string
		want   Material
	}{
		"H.264": {[]string{"-c:v", "libx264", "-pix_fmt", "yuv420p", "-colorspace", "bt709", "-color_trc", "bt709",
			"-color_primaries", "bt709", "-color_range", "tv"}, "mp4", Material{Depth: 8, Matrix: "bt709",
			Range: "video", Transfer: colorspace.BT709}},
		"HEVC 10": {[]string{"-c:v", "libx265", "-x265-params", "log-level=none", "-pix_fmt", "yuv420p10le",
			"-colorspace", "bt2020nc", "-color_primaries", "bt2020"}, "mov", Material{Depth: 16, Matrix: "bt2020",
			Range: "video", Transfer: colorspace.BT709, Primaries: colorspace.BT2020Primaries}},
		"VC-3": {[]string{"-c:v", "dnxhd", "-profile:v", "dnxhr_hqx", "-pix_fmt", "yuv422p10le", "-s", "256x128"},
			"mov", Material{Depth: 16, Matrix: "bt709", Range: "video", Transfer: colorspace.BT709}},
		"FFV1 12": {[]string{"-c:v", "ffv1", "-pix_fmt", "gbrp12le"}, "mkv", Material{Depth: 12, Matrix: "rgb",
			Range: "full", Transfer: colorspace.BT709}},
		"full range": {[]string{"-c:v", "libx264", "-pix_fmt", "yuvj420p", "-color_trc", "iec61966-2-1"}, "mp4",
			Material{Depth: 8, Matrix: "bt601", Range: "full", Transfer: colorspace.SRGB}},
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "m."+c.ending)
			source := "color=0x40c080:s=128x64:r=24000/1001:d=0.5,format=gbrp"
			if c.want.Matrix != "rgb" {
				reach := map[string]string{"video": "tv", "full": "pc"}[c.want.Range]
				source += ",scale=out_color_matrix=" + c.want.Matrix + ":out_range=" + reach + ",format=" +
					c.args[slices.Index(c.args, "-pix_fmt")+1]
			}
			args := append([]string{"-v", "error", "-f", "lavfi", "-i", source, "-timecode", "10:00:00:00"}, c.args...)
			out, err := exec.Command("ffmpeg", append(args, path)...).CombinedOutput()
			require.NoError(t, err, string(out))
			m, err := Inspect(ctx, path)
			require.NoError(t, err)
			assert.Equal(t, c.want.Depth, m.Depth)
			assert.Equal(t, c.want.Matrix, m.Matrix)
			assert.Equal(t, c.want.Range, m.Range)
			assert.Equal(t, c.want.Transfer, m.Transfer)
			if c.want.Primaries != "" {
				assert.Equal(t, c.want.Primaries, m.Primaries)
			}
			assert.Equal(t, Rational{24000, 1001}, m.Rate)
			if c.ending == "mov" {
				assert.Equal(t, "10:00:00:00", m.Timecode)
			}
			// A part of it, and the tone that it was made of.
			from, to := 3, 6
			p, err := Import(
				ctx,
				Order{
					Material: m,
					Reading:  Reading{From: &from, To: &to},
					Dir:      filepath.Join(t.TempDir(), "p"),
					Shot:     Shot{First: 1001, Rate: m.Rate, Transfer: m.Transfer, Primaries: m.Primaries},
				},
				nil,
			)
			require.NoError(t, err)
			assert.Equal(t, 1004, p.Last)
			f, err := p.Read(1002)
			require.NoError(t, err)
			for k, v := range []float64{0x40, 0xc0, 0x80} {
				assert.InDelta(t, v/255, float64(f.Codes[3*(20*m.Width+30)+k])/float64(f.Max()), 0.02, "channel %d", k)
			}
		})
	}
}

func TestGapsAreHeldOrClosed(t *testing.T) {
	dir := t.TempDir()
	pngs(t, dir, 1, 9, 8, 8, 8)
	for _, n := range []int{4, 5, 8} {
		require.NoError(t, os.Remove(filepath.Join(dir, fmt.Sprintf("a.%04d.png", n))))
	}
	m, err := Inspect(ctx, dir)
	require.NoError(t, err)
	assert.Equal(t, []Gap{{4, 5}, {8, 8}}, m.Gaps)
	_, err = m.Plan(Reading{})
	assert.ErrorContains(t, err, "a.0003.png is followed by a.0006.png")
	plan, err := m.Plan(Reading{Gaps: "hold"})
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2, 3, 3, 3, 6, 7, 7, 9}, plan)
	plan, err = m.Plan(Reading{Gaps: "close"})
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2, 3, 6, 7, 9}, plan)
	from, to := 6, 7
	plan, err = m.Plan(Reading{From: &from, To: &to})
	require.NoError(t, err)
	assert.Equal(t, []int{6, 7}, plan, "no gap between them")
	p, err := Import(
		ctx,
		Order{
			Material: m,
			Reading:  Reading{Gaps: "hold"},
			Dir:      filepath.Join(t.TempDir(), "p"),
			Shot:     Shot{First: 1, Rate: m.Rate, Transfer: m.Transfer, Primaries: m.Primaries},
		},
		nil,
	)
	require.NoError(t, err)
	for n, source := range []int{1, 2, 3, 3, 3, 6, 7, 7, 9} {
		f, err := p.Read(n + 1)
		require.NoError(t, err)
		assert.Equal(t, fromImage(still(source, 8, 8, 8), Samples{Depth: 8}, false).Codes, f.Codes, "frame %d", n+1)
	}
}

func TestMasterMoviesLoseNothing(t *testing.T) {
	demotest.Share(t, 0)
	for _, depth := range []int{8, 10, 12, 16} {
		dir := t.TempDir()
		shot := Shot{
			First:     1,
			Last:      6,
			Width:     40,
			Height:    30,
			Samples:   Samples{Depth: depth},
			Rate:      Rational{25, 1},
			Transfer:  colorspace.SRGB,
			Primaries: colorspace.BT709Primaries,
		}
		var parts []string
		for part := range 2 {
			path := filepath.Join(dir, fmt.Sprintf("m.%d.mkv", part))
			m, err := NewMovie(ctx, path, Master, shot, nil)
			require.NoError(t, err)
			for n := range 3 {
				require.NoError(t, m.Write(noisy(40, 30, shot.Samples, false, 3*part+n)))
			}
			require.NoError(t, m.Close(true))
			parts = append(parts, path)
		}
		whole := filepath.Join(dir, "whole.mkv")
		require.NoError(t, Join(ctx, whole, parts, ""))
		m, err := Inspect(ctx, whole)
		require.NoError(t, err)
		require.Equal(t, 6, m.Last)
		require.Equal(t, depth, m.Depth)
		p, err := Import(
			ctx,
			Order{
				Material: m,
				Dir:      filepath.Join(dir, "p"),
				Shot:     Shot{First: 1, Rate: m.Rate, Transfer: m.Transfer, Primaries: m.Primaries},
			},
			nil,
		)
		require.NoError(t, err)
		for n := 1; n <= 6; n++ {
			f, err := p.Read(n)
			require.NoError(t, err)
			require.True(
				t,
				slices.Equal(noisy(40, 30, shot.Samples, false, n-1).Codes, f.Codes),
				"%d bit, frame %d",
				depth,
				n,
			)
		}
	}
}

func TestSamplesAreTakenOver(t *testing.T) {
	shot := Shot{Transfer: colorspace.SRGB, Primaries: colorspace.BT709Primaries}
	f := noisy(16, 9, Samples{Depth: 10}, false, 3)
	deep := f.as(Samples{Depth: 16}, shot.Transfer, shot.Transfer)
	for i, v := range f.Codes {
		assert.Equal(t, uint16(math.Round(float64(v)*65535/1023)), deep.Codes[i])
	}
	assert.Equal(t, f.Codes, deep.as(Samples{Depth: 10}, shot.Transfer, shot.Transfer).Codes, "there and back")
	light := f.as(Samples{32, true}, colorspace.SRGB, colorspace.Linear)
	for i, v := range f.Codes {
		assert.InDelta(t, colorspace.SRGB.Decode(float64(v)/1023), float64(light.Floats[i]), 1e-6)
	}
	assert.ErrorContains(t, Target{"dpx", 16, true}.Valid(), "half float")
	assert.ErrorContains(t, Target{"gif", 8, false}.Valid(), "gif")
}

// What the screen shows of a plate in other primaries: BT.2020's red lies outside of
// sRGB; a colour of sRGB, taken to AP1 and encoded as ACEScct, shows as it was; greys
// stay greys. Primaries' matrices are tested against printed ones in colorspace.
func TestTheScreenShowsOtherPrimaries(t *testing.T) {
	to := colorspace.BT709Primaries.To(colorspace.AP1Primaries)
	colours := [][3]uint8{{200, 40, 90}, {10, 120, 250}, {128, 128, 128}, {255, 255, 255}, {0, 0, 0}}
	f := NewFrame(len(colours), 1, Samples{Depth: 16})
	cct := colorspace.NewCoder(colorspace.ACEScct, 16)
	for i, c := range colours {
		var l [3]float32
		for k := range l {
			l[k] = float32(colorspace.SRGB.Decode(float64(c[k]) / 255))
		}
		for k, v := range to.Apply(l) {
			f.Codes[3*i+k] = cct.Encode(v)
		}
	}
	shown := NewDisplay(
		Shot{Samples: f.Samples, Transfer: colorspace.ACEScct, Primaries: colorspace.AP1Primaries},
	).Bytes(f)
	for i, c := range colours {
		for k := range c {
			assert.InDelta(t, int(c[k]), int(shown[3*i+k]), 1, "colour %d", i)
		}
	}
	red := NewFrame(1, 1, Samples{16, true})
	red.Codes[0] = colorspace.ToHalf(1)
	shown = NewDisplay(
		Shot{Samples: red.Samples, Transfer: colorspace.Linear, Primaries: colorspace.BT2020Primaries},
	).Bytes(red)
	assert.Equal(t, []byte{255, 0, 0}, shown)
}

// OpenEXR in every compression that OpenCV's library writes, half and float: what
// comes in is what that library reads from the same file, an independent reader. Both
// round DWA in their own ways; what FFmpeg reads wrongly of it is refused.
func TestEveryEXRCompressionAgainstOpenCV(t *testing.T) {
	demotest.Share(t, 2)
	dir := t.TempDir()
	script := `
import os; os.environ["OPENCV_IO_ENABLE_OPENEXR"] = "1"
import cv2, numpy as np
rng = np.random.default_rng(3)
y, x = np.mgrid[0:70, 0:96]
m = np.stack([0.2 + 0.1*np.sin(x/9.0), 0.5 + 0.3*np.cos(y/7.0), 0.01*x], -1) + rng.normal(0, 0.02, (70, 96, 3))
m = np.abs(m).astype(np.float32)
names = ["NO", "RLE", "ZIPS", "ZIP", "PIZ", "PXR24", "B44", "B44A", "DWAA", "DWAB"]
for kind, flag in (("half", cv2.IMWRITE_EXR_TYPE_HALF), ("float", cv2.IMWRITE_EXR_TYPE_FLOAT)):
    for k, name in enumerate(names):
        os.makedirs(f"{kind}_{name}", exist_ok=True)
        path = f"{kind}_{name}/f.1.exr"
        assert cv2.imwrite(path, m, [cv2.IMWRITE_EXR_TYPE, flag, cv2.IMWRITE_EXR_COMPRESSION, k])
        cv2.imread(path, cv2.IMREAD_UNCHANGED)[:, :, ::-1].astype("<f4").tofile(f"{kind}_{name}/want.raw")
`
	cmd := exec.Command("/usr/bin/python3", "-c", script)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	for _, kind := range []string{"half", "float"} {
		for _, name := range []string{"NO", "RLE", "ZIPS", "ZIP", "PIZ", "PXR24", "B44", "B44A", "DWAA", "DWAB"} {
			folder := filepath.Join(dir, kind+"_"+name)
			m, err := Inspect(ctx, folder)
			if kind == "float" && strings.HasPrefix(name, "DWA") {
				assert.ErrorContains(t, err, "save it as ZIP or PIZ")
				continue
			}
			require.NoError(t, err, "%s %s", kind, name)
			p, err := Import(
				ctx,
				Order{
					Material: m,
					Dir:      filepath.Join(t.TempDir(), "p"),
					Shot:     Shot{First: 1, Rate: m.Rate, Transfer: m.Transfer, Primaries: m.Primaries},
				},
				nil,
			)
			require.NoError(t, err, "%s %s", kind, name)
			f, err := p.Whole(1)
			require.NoError(t, err)
			blob, err := os.ReadFile(filepath.Join(folder, "want.raw"))
			require.NoError(t, err)
			worst := 0.0
			for i := range 3 * 70 * 96 {
				worst = math.Max(worst, math.Abs(float64(f.float(i)-float32le(blob[4*i:]))))
			}
			limit := map[string]float64{"DWAA": 0.002, "DWAB": 0.002}[name]
			assert.LessOrEqual(t, worst, limit, "%s %s", kind, name)
			t.Logf("%s %s: at most %.2g apart", kind, name, worst)
		}
	}
	data, err := os.ReadFile(filepath.Join(dir, "half_DWAA", "f.1.exr"))
	require.NoError(t, err)
	binary.LittleEndian.PutUint32(data[bytes.Index(data, []byte("dataWindow\x00box2i\x00"))+29:], 88)
	_, err = readEXR(data)
	assert.ErrorContains(t, err, "multiple of 8")
}

// tiled is an OpenEXR file of half floats in tiles of 32 x 16, not compressed, built by
// the format's layout alone.
func tiled(t *testing.T, f *Frame) []byte {
	lines, err := encodeEXR(f.Width, f.Height, exrNone, f.planes(), nil)
	require.NoError(t, err)
	h, err := readEXR(lines)
	require.NoError(t, err)
	le := binary.LittleEndian
	out := slices.Clone(lines[:h.size-1])
	le.PutUint32(out[4:], 2|0x200)
	out = append(out, "tiles\x00tiledesc\x00\x09\x00\x00\x00"...)
	out = append(le.AppendUint32(le.AppendUint32(out, 32), 16), 0, 0) // one level; the header's end
	nx, ny := (f.Width+31)/32, (f.Height+15)/16
	table := len(out)
	out = append(out, make([]byte, 8*nx*ny)...)
	for ty := range ny {
		for tx := range nx {
			le.PutUint64(out[table+8*(ty*nx+tx):], uint64(len(out)))
			w, h := min(32, f.Width-32*tx), min(16, f.Height-16*ty)
			for _, v := range []int{tx, ty, 0, 0, 6 * w * h} {
				out = le.AppendUint32(out, uint32(v))
			}
			for y := 16 * ty; y < 16*ty+h; y++ {
				for _, c := range []int{2, 1, 0} { // by the alphabet
					for x := 32 * tx; x < 32*tx+w; x++ {
						out = le.AppendUint16(out, f.Codes[3*(y*f.Width+x)+c])
					}
				}
			}
		}
	}
	return out
}

func TestTiledEXRComesIn(t *testing.T) {
	dir := t.TempDir()
	want := noisy(75, 41, Samples{16, true}, false, 5)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f.1.exr"), tiled(t, want), 0o644))
	p, err := bringIn(t, dir)
	require.NoError(t, err)
	f, err := p.Whole(1)
	require.NoError(t, err)
	assert.True(t, slices.Equal(want.Codes, f.Codes))
	again, err := EncodeFrameEXR(f, p.Primaries)
	require.NoError(t, err)
	h, err := readEXR(again)
	require.NoError(t, err)
	assert.False(t, h.tiled, "it leaves by lines")
}

// What cannot be read is refused with what to do.
func TestLayoutsThatAreNotReadAreRefused(t *testing.T) {
	dpx, err := EncodeDPX(noisy(8, 4, Samples{Depth: 10}, false, 1), colorspace.BT709, "f")
	require.NoError(t, err)
	exr, err := EncodeFrameEXR(noisy(8, 4, Samples{16, true}, false, 1), colorspace.BT709Primaries)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		file   []byte
		ending string
		change func([]byte)
		says   string
	}{
		"elements": {dpx, "dpx", func(b []byte) { binary.BigEndian.PutUint16(b[dpxElements:], 3) },
			"save it with one, RGB or RGBA"},
		"luma": {dpx, "dpx", func(b []byte) { b[dpxDescriptor] = 6 }, "RGB (50) and RGBA (51) can be read"},
		"run length": {dpx, "dpx", func(b []byte) { binary.BigEndian.PutUint16(b[dpxEncoding:], 1) },
			"save it without"},
		"parts": {exr, "exr", func(b []byte) { b[5] |= 0x10 }, "one part of flat pixels"},
		"deep":  {exr, "exr", func(b []byte) { b[5] |= 0x08 }, "one part of flat pixels"},
		"integers": {exr, "exr", func(b []byte) {
			at := bytes.Index(b, []byte("G\x00\x01\x00\x00\x00"))
			b[at+2] = 0
		}, "save it as half or float"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			data := bytes.Clone(c.file)
			c.change(data)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "f.1."+c.ending), data, 0o644))
			_, err := Inspect(ctx, dir)
			require.ErrorContains(t, err, c.says)
			assert.ErrorContains(t, err, "f.1."+c.ending)
		})
	}
}
