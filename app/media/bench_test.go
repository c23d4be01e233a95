package media

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jardin/core/colorspace"
)

// BenchmarkImportDPX brings 48 frames of 1920 x 1080 in, and 16 of 3840 x 2160, pictures for
// the screen included, and says how fast that is against FFmpeg decoding the same files to
// nothing; the aim is half. Film scans mostly have the high byte first (common practice).
func BenchmarkImportDPX(b *testing.B) {
	for _, c := range []struct {
		name, format, size string
		frames             int
	}{
		{"1920x1080, high byte first", "gbrp10be", "1920x1080", 48}, {"1920x1080, low byte first", "gbrp10le", "1920x1080", 48},
		{"3840x2160, high byte first", "gbrp10be", "3840x2160", 16},
	} {
		b.Run(c.name, func(b *testing.B) {
			dir := b.TempDir()
			pattern := filepath.Join(dir, "f.%04d.dpx")
			out, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i",
				"testsrc2=s="+c.size+":r=24,noise=alls=12:allf=t", "-frames:v", fmt.Sprint(c.frames), "-pix_fmt", c.format, "-start_number", "1001",
				pattern).
				CombinedOutput()
			require.NoError(b, err, string(out))
			var ours, theirs time.Duration
			for i := 0; b.Loop(); i++ {
				began := time.Now()
				out, err := exec.Command("ffmpeg", "-v", "error", "-start_number", "1001", "-i", pattern, "-f", "null",
					"-").
					CombinedOutput()
				require.NoError(b, err, string(out))
				theirs += time.Since(began)
				began = time.Now()
				m, err := Inspect(ctx, dir)
				require.NoError(b, err)
				_, err = Import(
					ctx,
					Order{
						Material: m,
						Screen:   true,
						Dir:      filepath.Join(b.TempDir(), fmt.Sprint(i)),
						Shot:     Shot{First: 1001, Rate: m.Rate, Transfer: colorspace.BT709, Primaries: m.Primaries},
					},
					nil,
				)
				require.NoError(b, err)
				ours += time.Since(began)
			}
			b.ReportMetric(theirs.Seconds()/ours.Seconds(), "of-ffmpeg's-speed")
			b.ReportMetric(float64(c.frames*b.N)/ours.Seconds(), "frames/s")
		})
	}
}

// BenchmarkPackEXR writes 1920 x 1080 half floats with grain in each compression.
func BenchmarkPackEXR(b *testing.B) {
	f := NewFrame(1920, 1080, Samples{16, true})
	next := uint32(1)
	for i := range f.Codes {
		next = next*1664525 + 1013904223
		f.Codes[i] = colorspace.ToHalf(0.3 + 0.2*float32(i%5760)/5760 + 0.02*float32(next>>8)/(1<<24))
	}
	for _, compression := range []byte{exrNone, exrRLE, exrZIPS, exrZIP, exrPIZ, exrPXR24} {
		b.Run(exrCompressions[compression], func(b *testing.B) {
			for b.Loop() {
				data, err := encodeEXR(f.Width, f.Height, compression, f.planes(), nil)
				require.NoError(b, err)
				b.ReportMetric(float64(len(data))/(6*1920*1080), "of-its-size")
			}
		})
	}
}
