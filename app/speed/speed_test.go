package speed

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"image"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jardin/app/media"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/matte"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/simd"
	"jardin/core/track"
)

const width, height = 1920, 1080

// A job is a piece of work, and how long it may take beside OpenCV.
type job struct {
	name   string
	aim    float64
	memory float64 // bytes that have to be read and written at least, in MB
	run    func()
}

// texture is a picture of many sizes of detail.
func texture(x, y, seed float64) float64 {
	v := 0.0
	for k, f := range []float64{0.011, 0.043, 0.12, 0.31} {
		v += math.Sin(x*f*(1+0.1*seed)+3*math.Sin(y*f*0.7+float64(k))) * math.Cos(y*f*1.1+2*math.Sin(x*f*0.6+seed)) / float64(k+2)
	}
	return 0.45 + 0.2*v
}

func jobs(t *testing.T, folder string) []job {
	full := image.Rect(0, 0, width, height)
	picture, plane, next := raster.NewImage(full), raster.NewPlane(full), raster.NewPlane(full)
	raster.Rows(0, height, func(y int) {
		for x := range width {
			for c := range 3 {
				picture.Pix[4*(y*width+x)+c] = float32(texture(float64(x), float64(y), float64(c)))
			}
			picture.Pix[4*(y*width+x)+3] = float32(0.5 + 0.4*math.Sin(float64(x)/77))
			plane.Pix[y*width+x] = float32(texture(float64(x), float64(y), 0))
			next.Pix[y*width+x] = float32(texture(float64(x)*1.002-2.7-0.003*float64(y), float64(y)*0.999+1.9, 0))
		}
	})
	for name, pix := range map[string][]float32{"picture": picture.Pix, "plane": plane.Pix, "next": next.Pix} {
		blob := make([]byte, 0, 4*len(pix))
		for _, v := range pix {
			blob = binary.LittleEndian.AppendUint32(blob, math.Float32bits(v))
		}
		require.NoError(t, os.WriteFile(filepath.Join(folder, name+".f32"), blob, 0o644))
	}
	h := geom.Homography{1.01, 0.02, 3.3, -0.02, 1.01, 2.2, 1e-5, 1e-5, 1}
	wave := func(p geom.Point) geom.Point {
		return geom.Pt(p.X+3*math.Sin(p.Y/90)+2.2, p.Y+3*math.Cos(p.X/120)+1.4)
	}
	show := func(p *raster.Plane) track.FrameReader {
		return func(r image.Rectangle) (*raster.Plane, error) { return p.Crop(r), nil }
	}
	part := geom.Box{Min: geom.Pt(660, 340), Max: geom.Pt(1260, 740)}.Corners()
	surface, err := track.NewPlane(show(plane), full, part[:], nil, geom.Perspective)
	require.NoError(t, err)
	var points []geom.Point
	for j := range 10 {
		for i := range 20 {
			points = append(points, geom.Pt(300+1300*float64(i)/19, 200+650*float64(j)/9))
		}
	}
	mega := float64(width*height) / 1e6
	below := raster.NewImage(full)
	coder := colorspace.NewCoder(colorspace.SRGB, 8)
	codes := media.NewFrame(width, height, media.Samples{Depth: 8})
	words := codes.Codes
	coder.EncodePixels(words, picture.Pix)
	bytes := make([]byte, len(words))
	simd.Narrow(bytes, words)
	corner := picture.Crop(image.Rect(0, 0, 960, 540))
	halves, light := media.NewFrame(width, height, media.Samples{Depth: 16, Float: true}), colorspace.NewHalfCoder(colorspace.Linear)
	light.EncodePixels(halves.Codes, picture.Pix)
	floats := &media.Frame{Width: width, Height: height, Samples: media.Samples{Depth: 32, Float: true}, Floats: make([]float32, len(words))}
	for i := range floats.Floats {
		floats.Floats[i] = picture.Pix[i/3*4+i%3]
	}
	var outline []geom.Point
	for i := range 200 {
		sin, cos := math.Sincos(2 * math.Pi * float64(i) / 200)
		outline = append(outline, geom.Pt(960+(400+60*math.Sin(float64(i)))*cos, 540+(400+60*math.Sin(float64(i)))*sin))
	}
	bends, err := track.NewSoft(show(plane), full, part[:], nil, track.SoftSettings{Stiffness: 0.3, Detail: 8})
	require.NoError(t, err)
	return []job{
		{"warp RGBA, bicubic", 0.6, 32 * mega, func() { raster.Warp(picture, h, full) }},
		{"warp RGBA by a lattice", 0.6, 32 * mega, func() { raster.WarpBy(picture, wave, full) }},
		{"warp plane, bicubic", 0.6, 8 * mega, func() { raster.WarpPlane(plane, h, full) }},
		{"warp plane, bilinear", 0.6, 8 * mega, func() {
			out := raster.NewPlane(full)
			at := simd.NewPlaces(width)
			for y := range height {
				at.Project((*[9]float64)(&h), 0, y)
				plane.BilinearAt(out.Row(y, 0, width), at)
			}
		}},
		{"Gaussian 2, RGBA", 1, 32 * mega, func() { raster.GaussianImage(picture, 2) }},
		{"Gaussian 5, RGBA", 1, 32 * mega, func() { raster.GaussianImage(picture, 5) }},
		{"Gaussian 2, plane", 1, 8 * mega, func() { raster.Gaussian(plane, 2) }},
		{"wide blur 20, RGBA", 1, 32 * mega, func() { raster.Broad(picture, 20) }},
		{"wide blur 20, plane", 1, 8 * mega, func() { raster.BroadPlane(plane, 20) }},
		{"half a plane", 1, 5 * mega, func() { raster.Half(plane) }},
		{"gradients", 1, 12 * mega, func() { raster.Gradient(plane) }},
		{"over", 1, 48 * mega, func() { below.Over(picture) }},
		{"a plane's step, 600 x 400", 0.1, 0, func() {
			again := *surface
			_, err := again.Step(show(next), nil)
			require.NoError(t, err)
		}},
		{"bytes to words", 1, 9 * mega, func() { simd.Widen(make([]uint16, len(bytes)), bytes) }},
		{"words to bytes", 1, 9 * mega, func() { simd.Narrow(make([]byte, len(words)), words) }},
		{"codes to light, RGBA", 1, 22 * mega, func() { codes.Linear(coder) }},
		{"light to codes", 1, 19 * mega, func() { coder.EncodePixels(make([]uint16, len(words)), picture.Pix) }},
		{"half floats to light, RGBA", 1, 22 * mega, func() { halves.Linear(light) }},
		{"light to half floats", 1, 22 * mega, func() { light.EncodePixels(make([]uint16, len(words)), picture.Pix) }},
		{"floats to light by a curve", 1, 28 * mega, func() { floats.Linear(coder) }},
		{"coverage, 200 corners", 1, 4 * mega, func() { matte.Coverage(outline, full) }},
		{"what bends, 600 x 400 (DIS)", 1, 0, func() {
			_, err := bends.Step(show(next), nil)
			require.NoError(t, err)
		}},
		{"smoothing of 7 x 7, 960 x 540", 1, 0, func() { settle.Denoise(corner, 3) }},
		{"200 points, 15 x 15", 1, 0, func() {
			a, b := raster.Pyramid(plane, 5), raster.Pyramid(next, 5)
			for _, p := range points {
				track.Match(a, b, p, p)
			}
		}},
	}
}

// best is the least time of a job, in milliseconds, among as many runs as fit into a third of a second.
func best(f func()) float64 {
	f()
	least := math.Inf(1)
	for began := time.Now(); time.Since(began) < 350*time.Millisecond; {
		start := time.Now()
		f()
		least = math.Min(least, float64(time.Since(start).Nanoseconds())/1e6)
	}
	return least
}

// bandwidth is how fast memory is copied on one thread, in MB a millisecond, bytes read and written.
func bandwidth() float64 {
	a, b := make([]float32, 16<<20), make([]float32, 16<<20)
	return 2 * 4 * float64(len(a)) / 1e6 / best(func() { copy(b, a) })
}

// TestSpeed prints how long each job takes beside OpenCV. Both run by turns, twice each, so that what else the machine does meets both.
func TestSpeed(t *testing.T) {
	if os.Getenv("JARDIN_BENCH") == "" {
		t.Skip("it measures, and passes always: make bench")
	}
	folder := t.TempDir()
	all := jobs(t, folder)
	python := exec.Command("/usr/bin/python3", "testdata/opencv.py", folder)
	in, err := python.StdinPipe()
	require.NoError(t, err)
	out, err := python.StdoutPipe()
	require.NoError(t, err)
	python.Stderr = os.Stderr
	require.NoError(t, python.Start())
	answers := bufio.NewScanner(out)
	processors := runtime.GOMAXPROCS(0)
	speed := bandwidth()
	fmt.Printf("vectors %v, %d processors; memory is copied at %.1f GB/s by one\n", simd.Vectors(), processors, speed)
	fmt.Printf("%-28s %9s %9s %7s %6s %9s %8s\n", "1920 x 1080, one thread", "ms", "OpenCV", "ratio", "aim", "memory ms", "on all")
	for _, j := range all {
		if only := os.Getenv("JARDIN_JOB"); only != "" && !strings.Contains(j.name, only) {
			continue
		}
		ours, theirs, spread := math.Inf(1), math.Inf(1), math.Inf(1)
		for range 2 {
			runtime.GOMAXPROCS(1)
			ours = math.Min(ours, best(j.run))
			runtime.GOMAXPROCS(processors)
			_, err := fmt.Fprintln(in, j.name)
			require.NoError(t, err)
			require.True(t, answers.Scan(), "OpenCV's side ended")
			ms, err := strconv.ParseFloat(answers.Text(), 64)
			require.NoError(t, err)
			theirs = math.Min(theirs, ms)
			spread = math.Min(spread, best(j.run))
		}
		fmt.Printf("%-28s %9.2f %9.2f %7.2f %6.1f %9.2f %7.2fx\n", j.name, ours, theirs, ours/theirs, j.aim, j.memory/speed, ours/spread)
	}
	require.NoError(t, in.Close())
	require.NoError(t, python.Wait())
}
