package media

import (
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

	"jardin/core/colorspace"
)

// smooth is a frame of a few tones that flow into each other: long runs, and few values.
func smooth(w, h int, s Samples, alpha bool) *Frame {
	f := noisy(w, h, s, alpha, 1)
	set := func(i int, v float32) {
		if f.Floats != nil {
			f.Floats[i] = v
		} else {
			f.Codes[i] = colorspace.ToHalf(v)
		}
	}
	for i := range w * h {
		for k := range 3 {
			set(3*i+k, float32(i%w/8*k)/16+0.25*float32(i/w/5))
		}
	}
	return f
}

// What leaves in each of OpenEXR's lossless compressions (PXR24 of floats: of those with
// 24 bits) is read by FFmpeg and by OpenCV's library as it was, whether values are many
// or few, in sizes that fill the last block and that do not.
func TestPackedEXRIsReadByOthers(t *testing.T) {
	dir := t.TempDir()
	all := map[string][]*Frame{} // by folder, in the order of their numbers
	for _, depth := range []int{16, 32} {
		for _, size := range [][2]int{{37, 23}, {64, 70}, {1, 1}, {400, 33}} {
			folder := filepath.Join(dir, fmt.Sprintf("%d_%dx%d", depth, size[0], size[1]))
			require.NoError(t, os.Mkdir(folder, 0o755))
			for compression := byte(exrNone); compression <= exrPXR24; compression++ {
				many := noisy(size[0], size[1], Samples{depth, true}, false, 9)
				for i := range many.Codes { // between 2^14 and 2^15 of them: PIZ changes its arithmetic there
					many.Codes[i] = uint16(i * 7919 % 20011)
				}
				for _, f := range []*Frame{many, smooth(size[0], size[1], Samples{depth, true}, false)} {
					if compression == exrPXR24 {
						for i, v := range f.Floats {
							f.Floats[i] = math.Float32frombits(math.Float32bits(v) &^ 255)
						}
					}
					plain, err := EncodeFrameEXR(f, colorspace.BT709Primaries)
					require.NoError(t, err)
					f.Head = slices.Clone(plain) // a file like it, in another compression
					at := strings.Index(
						string(f.Head),
						"compression\x00compression\x00",
					) + len(
						"compression\x00compression\x00",
					) + 4
					f.Head[at] = compression
					data, err := EncodeFrameEXR(f, colorspace.BT709Primaries)
					require.NoError(t, err)
					h, err := readEXR(data)
					require.NoError(t, err)
					require.Equal(t, compression, h.compression)
					all[folder] = append(all[folder], f)
					require.NoError(
						t,
						os.WriteFile(filepath.Join(folder, fmt.Sprintf("f.%d.exr", len(all[folder]))), data, 0o644),
					)
					if compression > exrNone && size[0] > 1 && len(all[folder])%2 == 0 {
						assert.Less(
							t,
							len(data),
							len(f.Codes)*2+len(f.Floats)*4,
							"%s %s packs what is smooth",
							folder,
							exrCompressions[compression],
						)
					}
				}
			}
		}
	}
	cmd := exec.Command("/usr/bin/python3", "-c", `
import os; os.environ["OPENCV_IO_ENABLE_OPENEXR"] = "1"
import cv2, glob
for p in glob.glob("*/f.*.exr"):
    cv2.imread(p, cv2.IMREAD_UNCHANGED)[:, :, ::-1].astype("<f4").tofile(p + ".raw")
`)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	for folder, frames := range all {
		m, err := Inspect(ctx, folder)
		require.NoError(t, err)
		p, err := Import(
			ctx,
			Order{
				Material: m,
				Dir:      filepath.Join(t.TempDir(), "p"),
				Shot:     Shot{First: 1, Rate: m.Rate, Transfer: m.Transfer, Primaries: m.Primaries},
			},
			nil,
		)
		require.NoError(t, err, folder)
		for k, want := range frames {
			f, err := p.Whole(k + 1)
			require.NoError(t, err)
			require.True(
				t,
				slices.Equal(want.Codes, f.Codes) && slices.Equal(want.Floats, f.Floats),
				"FFmpeg reads %d in %s otherwise",
				k+1,
				folder,
			)
			seen, err := os.ReadFile(filepath.Join(folder, fmt.Sprintf("f.%d.exr.raw", k+1)))
			require.NoError(t, err)
			for i := range 3 * f.Width * f.Height {
				if want.float(i) != float32le(seen[4*i:]) {
					t.Fatalf("OpenCV reads %d in %s otherwise, at %d", k+1, folder, i)
				}
			}
		}
	}
}

// Floats of 24 bits: those that were rounded once are not changed again, what is no
// number stays none, the greatest do not become infinite.
func TestFloat24(t *testing.T) {
	for _, v := range []float32{0, 1, -1, 0.1, 3e38, -3.4e38, math.MaxFloat32, 1e-40, float32(math.Inf(1)),
		float32(math.Inf(-1))} {
		once := math.Float32frombits(float24(math.Float32bits(v)) << 8)
		assert.Equal(t, once, math.Float32frombits(float24(math.Float32bits(once))<<8))
		if math.IsInf(float64(v), 0) {
			assert.Equal(t, v, once)
		} else {
			assert.InEpsilon(t, 1+math.Abs(float64(v)), 1+math.Abs(float64(once)), 1e-4)
			assert.False(t, math.IsInf(float64(once), 0))
		}
	}
	for _, bits := range []uint32{0x7fc00000, 0x7f800001, 0xffffffff} {
		assert.True(t, math.IsNaN(float64(math.Float32frombits(float24(bits)<<8))))
	}
}
