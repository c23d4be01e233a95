// Package demotest gives tests the demo footage.
package demotest

import (
	"bytes"
	"context"
	"encoding/json"
	"image"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
	"gonum.org/v1/gonum/dsp/fourier"

	"jardin/app/demo"
	"jardin/core/geom"
	"jardin/core/matte"
)

// Footage returns the folder of the demo footage, and makes the shots that are named if they are not there; lm_010 where none is.
// Test programs that ask for a shot at the same time wait for the first.
func Footage(t testing.TB, shots ...string) string {
	t.Helper()
	dir := filepath.Join(Root(), ".jardin", "footage")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	if len(shots) == 0 {
		shots = []string{demo.Name}
	}
	for _, name := range shots {
		made(t, dir, name)
	}
	return dir
}

func made(t testing.TB, dir, shot string) {
	t.Helper()
	lock, err := os.Create(filepath.Join(dir, "."+shot+".lock"))
	require.NoError(t, err)
	defer lock.Close()
	require.NoError(t, syscall.Flock(int(lock.Fd()), syscall.LOCK_EX))
	require.NoError(t, demo.Write(context.Background(), dir, nil, nil, shot))
}

// Folder returns a folder of a shot's footage.
func Folder(t testing.TB, folder string) string {
	t.Helper()
	shot, _, _ := strings.Cut(folder, "/")
	return filepath.Join(Footage(t, shot), folder)
}

// Frame returns the file of a frame of a shot's footage.
func Frame(t testing.TB, folder string, n int) string {
	t.Helper()
	shot, _, _ := strings.Cut(folder, "/")
	return demo.FramePath(Footage(t, shot), folder, n)
}

// Shares is into how many parts the long tests are divided: a run takes one, the next run the next, so that a run is short and all
// of them run again and again.
const Shares = 5

// Share leaves a long test to the runs that take its share; where JARDIN_SHARE is not set, it runs.
func Share(t testing.TB, share int) {
	t.Helper()
	if which, err := strconv.Atoi(os.Getenv("JARDIN_SHARE")); err == nil && which%Shares != share {
		t.Skip("in another run's share; make test ALL=1 runs all")
	}
}

// Root returns the repository's folder.
func Root() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Join(filepath.Dir(file), "../../..")
}

// Truth returns what the footage says of itself.
func Truth(t testing.TB) (out demo.Truth) {
	t.Helper()
	read(t, demo.TruthFile, &out)
	return out
}

// CanTruth returns what the footage of lm_020 says of itself.
func CanTruth(t testing.TB) (out demo.CanTruth) {
	t.Helper()
	read(t, demo.CanTruthFile, &out)
	return out
}

// BarrowTruth returns what the footage of lm_040 says of itself.
func BarrowTruth(t testing.TB) (out demo.BarrowTruth) {
	t.Helper()
	read(t, demo.BarrowTruthFile, &out)
	return out
}

// FocusTruth returns what the footage of lm_060 says of itself.
func FocusTruth(t testing.TB) (out demo.FocusTruth) {
	t.Helper()
	read(t, demo.FocusTruthFile, &out)
	return out
}

// BannerTruth returns what the footage of lm_030 says of itself.
func BannerTruth(t testing.TB) (out demo.BannerTruth) {
	t.Helper()
	read(t, demo.BannerTruthFile, &out)
	return out
}

// BedsTruth returns what the footage of lm_050 says of itself.
func BedsTruth(t testing.TB) (out demo.BedsTruth) {
	t.Helper()
	read(t, demo.BedsTruthFile, &out)
	return out
}

// read decodes a file of the footage.
func read(t testing.TB, file string, into any) {
	t.Helper()
	blob, err := os.ReadFile(Folder(t, file))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(blob, into))
}

// Overlap is the share of two outlines' areas that both have, of what either has
// (intersection over union), within a frame.
func Overlap(a, b []geom.Point, within image.Rectangle) float64 {
	p, q := matte.Coverage(a, within), matte.Coverage(b, within)
	var both, either float64
	for y := within.Min.Y; y < within.Max.Y; y++ {
		for x := within.Min.X; x < within.Max.X; x++ {
			u, v := float64(p.At(x, y)), float64(q.At(x, y))
			both, either = both+math.Min(u, v), either+math.Max(u, v)
		}
	}
	return both / either
}

// Octaves returns the mean power of a square of samples in four octave bands, from 1/32
// to 1/2 of the sampling rate: Welch's method on blocks of 64 by 64 (Hann window).
func Octaves(samples []float32, size int) (out [4]float64) {
	const n = 64
	window := make([]float64, n)
	for i := range window {
		window[i] = 0.5 - 0.5*math.Cos(2*math.Pi*float64(i)/n)
	}
	f := fourier.NewCmplxFFT(n)
	var count [4]float64
	for by := 0; by+n <= size; by += n / 2 {
		for bx := 0; bx+n <= size; bx += n / 2 {
			m := make([]complex128, n*n)
			for y := range n {
				for x := range n {
					m[y*n+x] = complex(float64(samples[(by+y)*size+bx+x])*window[x]*window[y], 0)
				}
				copy(m[y*n:], f.Coefficients(nil, m[y*n:(y+1)*n]))
			}
			column := make([]complex128, n)
			for x := range n {
				for y := range n {
					column[y] = m[y*n+x]
				}
				for y, v := range f.Coefficients(nil, column) {
					u, w := float64(min(x, n-x))/n, float64(min(y, n-y))/n
					r := math.Max(u, w)
					if r < 1.0/32 {
						continue
					}
					band := min(3, int(math.Log2(r*32)))
					out[band] += real(v)*real(v) + imag(v)*imag(v)
					count[band]++
				}
			}
		}
	}
	for b := range out {
		out[b] /= count[b]
	}
	return out
}

// ReadPNG returns the picture in a file.
func ReadPNG(t testing.TB, path string) image.Image {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	m, err := png.Decode(f)
	require.NoError(t, err)
	return m
}

// WorkedExample returns the treatment that docs/formats.md shows.
func WorkedExample(t testing.TB) []byte {
	t.Helper()
	page, err := os.ReadFile(filepath.Join(Root(), "docs/formats.md"))
	require.NoError(t, err)
	_, rest, ok := bytes.Cut(page, []byte("```json\n"))
	require.True(t, ok, "docs/formats.md shows a treatment")
	example, _, ok := bytes.Cut(rest, []byte("```"))
	require.True(t, ok)
	return example
}
