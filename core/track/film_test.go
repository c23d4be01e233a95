package track

import (
	"bytes"
	"fmt"
	"image"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// ffmpeg runs FFmpeg, which "make test" installs, and returns what it writes.
func ffmpeg(t testing.TB, in []byte, args ...string) []byte {
	cmd := exec.Command("ffmpeg", append([]string{"-v", "error", "-nostdin"}, args...)...)
	if in != nil {
		cmd = exec.Command("ffmpeg", append([]string{"-v", "error"}, args...)...)
		cmd.Stdin = bytes.NewReader(in)
	}
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	require.NoError(t, err)
	return out
}

// grey makes frames of 8 bits of their codes.
func grey(codes []byte, size image.Rectangle) (out []*raster.Plane) {
	for n := size.Dx() * size.Dy(); len(codes) >= n; codes = codes[n:] {
		p := raster.NewPlane(size)
		for i, v := range codes[:n] {
			p.Pix[i] = float32(v) / 255
		}
		out = append(out, p)
	}
	return out
}

// A zoom to three times, as a delivery of little bandwidth holds it: H.264 at a constant rate factor of 36.
func TestCompressedFootage(t *testing.T) {
	shareOf(t, 4)
	graf := photograph(t, "graf1.png")
	size := image.Rect(0, 0, 800, 640)
	s := &scene{region: geom.Box{Min: geom.Pt(300, 220), Max: geom.Pt(500, 400)}}
	frames := 20
	if bench() {
		frames = 48
	}
	for i := range frames + 1 {
		u := float64(i) / float64(frames)
		k := 1 + 2*u
		h := geom.Placement(geom.Pt(400, 310), geom.Pt(20*math.Sin(4*u), -12*u), 3*u, geom.Pt(k, k))
		s.add(noisy(seenThrough(graf, h, size, whole(graf), 2), 0.006, uint64(i)), h)
	}
	film := filepath.Join(t.TempDir(), "film.mp4")
	ffmpeg(t, s.codes, "-f", "rawvideo", "-pix_fmt", "gray", "-s", "800x640", "-r", "24", "-i", "-", "-c:v", "libx264", "-crf", "36",
		"-pix_fmt", "yuv420p", "-color_range", "pc", film)
	s.codes = ffmpeg(t, nil, "-i", film, "-f", "rawvideo", "-pix_fmt", "gray", "-color_range", "pc", "-")
	s.frames = grey(s.codes, size)
	require.Len(t, s.frames, frames+1)
	var sum, high float64
	for i, f := range s.hard(t) {
		require.NoError(t, f.err, "frame %d", i+1)
		sum, high = sum+f.off, math.Max(high, f.off)
	}
	flow, ecc := s.printed(t, true)
	t.Logf("H.264 at 36, zoom to 3: mean %.3f, worst %.2f px; OpenCV, LK and RANSAC: %v; ECC: %v", sum/float64(frames), high, flow, ecc)
	if bench() { // over fewer frames the zoom, and with it what is lost in compression, is faster
		assert.LessOrEqual(t, sum/float64(frames), 0.2)
		assert.LessOrEqual(t, high, 0.5)
	}
	assert.LessOrEqual(t, sum/float64(frames), 0.3)
	assert.LessOrEqual(t, high, 0.6)
}

// A street filmed from above by a camera that stands still, people walking through: nothing that is followed there moves.
func TestAStreetWithPeople(t *testing.T) {
	const frames = 60
	size := image.Rect(0, 0, 768, 576)
	codes := ffmpeg(t, nil, "-i", photographs+"vtest.avi", "-frames:v", fmt.Sprint(frames+1), "-f", "rawvideo", "-pix_fmt", "gray", "-")
	film := grey(codes, size)
	require.Len(t, film, frames+1)
	for _, at := range []geom.Point{{X: 60, Y: 120}, {X: 300, Y: 200}, {X: 480, Y: 320}, {X: 200, Y: 380}} {
		s := &scene{region: geom.Box{Min: at, Max: at.Add(geom.Pt(170, 130))}, frames: film, codes: codes}
		for range film {
			s.truth = append(s.truth, geom.Identity)
		}
		var sum, high float64
		n, doubted, lost := 0, 0, 0
		for _, f := range s.hard(t) {
			switch {
			case f.err != nil:
				lost++
			case !f.sample.Trusted():
				doubted++
			default:
				sum, high, n = sum+f.off, math.Max(high, f.off), n+1
			}
		}
		if bench() {
			flow, ecc := s.theirs(t, true)
			t.Logf("street, OpenCV: LK and RANSAC: %v; ECC: %v", flow, ecc)
		}
		t.Logf("street, region at %v: mean %.3f, worst %.2f px on %d frames, %d doubted, %d lost", at, sum/float64(n), high, n, doubted, lost)
		assert.LessOrEqual(t, high, 0.4, "of those that are trusted; the aim is 0.3") // the first frame's own blocks pull
	}
}
