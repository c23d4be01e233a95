package media

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/colorspace"
)

// TIFF of each packing comes in by golang.org/x/image, is read the same by OpenCV's
// library (libtiff), and leaves as the very file: packing, number of channels and all.
func TestTIFFLeavesAsItCame(t *testing.T) {
	demotest.Share(t, 1)
	dir := t.TempDir()
	frames := map[string]*Frame{}
	for _, h := range []tiffHead{{tiffNone, false}, {tiffLZW, false}, {tiffLZW, true}, {tiffDeflate, false},
		{tiffDeflate, true}} {
		for _, depth := range []int{8, 16} {
			for _, alpha := range []bool{false, true} {
				for kind, f := range map[string]*Frame{"noisy": noisy(301, 177, Samples{Depth: depth}, alpha, 3),
					"small": noisy(3, 2, Samples{Depth: depth}, alpha, 4), "flat": NewFrame(400, 300,
						Samples{Depth: depth})} {
					if kind == "flat" && alpha {
						continue
					}
					name := fmt.Sprintf("%s_%v_%d_%v_%s", h, h.predicted, depth, alpha, kind)
					data, err := encodeTIFF(f.samples(binary.LittleEndian), f.layout(), h)
					require.NoError(t, err)
					got, err := readTIFF(bytes.NewReader(data))
					require.NoError(t, err)
					require.Equal(t, h, got)
					again, err := readTIFF(bytes.NewReader(got.bytes()))
					require.NoError(t, err)
					require.Equal(t, h, again, "what is kept of it says the same")
					if kind == "flat" && h.compression != tiffNone {
						assert.Less(t, len(data), 400*300/4)
					}
					require.NoError(t, os.Mkdir(filepath.Join(dir, name), 0o755))
					require.NoError(t, os.WriteFile(filepath.Join(dir, name, "f.1.tif"), data, 0o644))
					frames[name] = f
				}
			}
		}
	}
	cmd := exec.Command("/usr/bin/python3", "-c", `
import cv2, glob
for p in glob.glob("*/f.1.tif"):
    m = cv2.imread(p, cv2.IMREAD_UNCHANGED)
    order = [2, 1, 0] + list(range(3, m.shape[2]))
    m[:, :, order].astype("<u2").tofile(p[:-7] + "seen.raw")
`)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	for name, want := range frames {
		m, err := Inspect(ctx, filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, want.Alpha != nil, m.Alpha, name)
		p, err := Import(
			ctx,
			Order{
				Material: m,
				Dir:      filepath.Join(t.TempDir(), "p"),
				Shot:     Shot{First: 1, Rate: m.Rate, Transfer: colorspace.SRGB, Primaries: m.Primaries},
			},
			nil,
		)
		require.NoError(t, err)
		f, err := p.Whole(1)
		require.NoError(t, err)
		assert.True(t, slices.Equal(want.Codes, f.Codes), name)
		assert.True(t, !m.Alpha || slices.Equal(want.Alpha.Codes, f.Alpha.Codes), name)
		if want.Alpha != nil && m.Depth == 8 { // OpenCV multiplies by alpha there
			seen, err := exec.Command("ffmpeg", "-v", "error", "-i", filepath.Join(dir, name, "f.1.tif"), "-f",
				"rawvideo", "-pix_fmt", "rgba", "-").
				Output()
			require.NoError(t, err)
			assert.True(t, bytes.Equal(seen, want.samples(binary.LittleEndian)), "FFmpeg reads %s otherwise", name)
		} else {
			seen, err := os.ReadFile(filepath.Join(dir, name, "seen.raw"))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(seen, pack(Samples{Depth: 16}, interleaved(want), nil)),
				"OpenCV reads %s otherwise", name)
		}
		before, err := os.ReadFile(filepath.Join(dir, name, "f.1.tif"))
		require.NoError(t, err)
		after, err := Target{"tiff", m.Depth, false}.Encode(f, p.Shot, "f")
		require.NoError(t, err)
		assert.True(t, bytes.Equal(before, after), name)
	}
}

// interleaved returns samples with alpha beside them.
func interleaved(f *Frame) (out []uint16) {
	for i := range f.Width * f.Height {
		out = append(out, f.Codes[3*i:3*i+3]...)
		if f.Alpha != nil {
			out = append(out, f.Alpha.Codes[i])
		}
	}
	return out
}

func TestDamagedTIFFDirectories(t *testing.T) {
	whole := tiffHead{tiffLZW, true}.bytes()
	for n := range len(whole) - 4 {
		_, err := readTIFF(bytes.NewReader(whole[:n]))
		assert.ErrorContains(t, err, "it ends", "%d bytes", n)
	}
	far := bytes.Clone(whole)
	binary.LittleEndian.PutUint32(far[4:], 1<<31)
	_, err := readTIFF(bytes.NewReader(far))
	assert.ErrorContains(t, err, "before its directory")
}
