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

// BenchmarkImportDPX brings 48 frames of 1920 x 1080 in, pictures for the screen
// included, and says how fast that is against FFmpeg decoding the same files to
// nothing; the aim is half. Film scans mostly have the high byte first (common practice).
func BenchmarkImportDPX(b *testing.B) {
	for order, format := range map[string]string{"high byte first": "gbrp10be", "low byte first": "gbrp10le"} {
		b.Run(order, func(b *testing.B) {
			dir := b.TempDir()
			pattern := filepath.Join(dir, "f.%04d.dpx")
			out, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc2=s=1920x1080:r=24:d=2,noise=alls=12:allf=t", "-pix_fmt", format, "-start_number", "1001", pattern).CombinedOutput()
			require.NoError(b, err, string(out))
			var ours, theirs time.Duration
			for i := 0; b.Loop(); i++ {
				began := time.Now()
				out, err := exec.Command("ffmpeg", "-v", "error", "-start_number", "1001", "-i", pattern, "-f", "null", "-").CombinedOutput()
				require.NoError(b, err, string(out))
				theirs += time.Since(began)
				began = time.Now()
				m, err := Inspect(ctx, dir)
				require.NoError(b, err)
				_, err = Import(ctx, Order{Material: m, Screen: true, Dir: filepath.Join(b.TempDir(), fmt.Sprint(i)), Shot: Shot{First: 1001, Rate: m.Rate, Transfer: colorspace.BT709, Primaries: m.Primaries}}, nil)
				require.NoError(b, err)
				ours += time.Since(began)
			}
			b.ReportMetric(theirs.Seconds()/ours.Seconds(), "of-ffmpeg's-speed")
			b.ReportMetric(48*float64(b.N)/ours.Seconds(), "frames/s")
		})
	}
}
