package spread

import (
	"context"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/raster"
)

func made(rect image.Rectangle, f func(x, y float64) float64) *raster.Image {
	m := raster.NewImage(rect)
	for y := rect.Min.Y; y < rect.Max.Y; y++ {
		for x := rect.Min.X; x < rect.Max.X; x++ {
			v := float32(f(float64(x), float64(y)))
			m.Set(x, y, [4]float32{v, 0.5 * v, 0.3 + 0.2*v, 1})
		}
	}
	return m
}

// round is a hole, with what is in it spoilt in the picture.
func round(m *raster.Image, cx, cy, radius float64) *raster.Plane {
	hole := raster.NewPlane(m.Rect)
	for y := m.Rect.Min.Y; y < m.Rect.Max.Y; y++ {
		for x := m.Rect.Min.X; x < m.Rect.Max.X; x++ {
			if math.Hypot(float64(x)-cx, float64(y)-cy) < radius {
				hole.Row(y, x, x+1)[0] = 1
				m.Set(x, y, [4]float32{1, 0, 1, 1})
			}
		}
	}
	return hole
}

func evenly(t testing.TB, m *raster.Image, hole *raster.Plane) *raster.Image {
	out, err := Evenly(context.Background(), m, hole)
	require.NoError(t, err)
	return out
}

func alongEdges(t testing.TB, m *raster.Image, hole *raster.Plane) *raster.Image {
	out, err := Along(context.Background(), m, hole)
	require.NoError(t, err)
	return out
}

// Both stop where nobody waits any longer.
func TestSpreadingIsCancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	m := made(image.Rect(0, 0, 40, 40), func(x, y float64) float64 { return x + y })
	hole := round(m, 20, 20, 9)
	_, err := Evenly(ctx, m, hole)
	require.ErrorIs(t, err, context.Canceled)
	_, err = Along(ctx, m, hole)
	require.ErrorIs(t, err, context.Canceled)
}

// A function whose every value is the mean of those around it goes on exactly: x² - y² and its
// like are such on a grid as well.
func TestAMembraneByItsDefinition(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 12 {
		rect := image.Rect(-8, 5, 40+rng.IntN(50), 60+rng.IntN(50))
		a, b, c := rng.Float64()*0.01, rng.Float64()*0.01, 1e-4*rng.Float64()
		f := func(x, y float64) float64 { return 0.4 + a*x - b*y + c*(x*x-y*y) + 0.5*c*x*y }
		truth := made(rect, f)
		m := made(rect, f)
		hole := round(m, 20, 30, 6+14*rng.Float64())
		got := evenly(t, m, hole)
		for i, h := range hole.Pix {
			for k := range 3 {
				if h == 0 {
					assert.Equal(t, m.Pix[4*i+k], got.Pix[4*i+k])
				} else {
					assert.InDelta(t, truth.Pix[4*i+k], got.Pix[4*i+k], 0.004)
				}
			}
		}
	}
}

// By any means against a plain solution: over and over the mean of those around, till nothing moves. Holes at
// the edge are free there, and of any shape.
func TestAMembraneAgainstAPlainSolution(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for range 10 {
		rect := image.Rect(0, 0, 8+rng.IntN(20), 8+rng.IntN(20))
		m, hole := raster.NewImage(rect), raster.NewPlane(rect)
		for i := range m.Pix {
			m.Pix[i] = rng.Float32()
		}
		for range 3 {
			x, y := rng.IntN(rect.Dx()), rng.IntN(rect.Dy())
			for v := y; v < min(y+6, rect.Dy()); v++ {
				for u := x; u < min(x+6, rect.Dx()); u++ {
					hole.Row(v, u, u+1)[0] = 1
				}
			}
		}
		plain := make([]float64, len(hole.Pix))
		for i := range plain {
			plain[i] = float64(m.Pix[4*i+1])
		}
		w, h := rect.Dx(), rect.Dy()
		for range 4000 {
			for i, open := range hole.Pix {
				if open == 0 {
					continue
				}
				sum, n := 0.0, 0.0
				for _, d := range [][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
					if x, y := i%w+d[0], i/w+d[1]; x >= 0 && y >= 0 && x < w && y < h {
						sum, n = sum+plain[y*w+x], n+1
					}
				}
				plain[i] = sum / n
			}
		}
		got := evenly(t, m, hole)
		for i, open := range hole.Pix {
			if open > 0 {
				assert.InDelta(t, plain[i], got.Pix[4*i+1], 0.01)
			}
		}
	}
	rect := image.Rect(0, 0, 5, 5)
	all := raster.NewPlane(rect)
	for i := range all.Pix {
		all.Pix[i] = 1
	}
	for _, how := range []func(testing.TB, *raster.Image, *raster.Plane) *raster.Image{evenly, alongEdges} {
		assert.NotPanics(t, func() { how(t, raster.NewImage(rect), all) }, "nothing is known")
		one := raster.NewPlane(image.Rect(0, 0, 1, 1))
		assert.NotPanics(t, func() { how(t, raster.NewImage(one.Rect), one) })
	}
}

// Against OpenCV (Telea 2004) on what goes on in a known way: edges that slant, ramps, a disc.
func TestAgainstOpenCV(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	smooth := func(v float64) float64 { return 1 / (1 + math.Exp(-2*v)) }
	for name, f := range map[string]func(x, y float64) float64{
		"edge, upright":  func(x, y float64) float64 { return 0.1 + 0.5*smooth(x-61.3) },
		"edge, slanting": func(x, y float64) float64 { return 0.1 + 0.5*smooth(0.8*(x-60)+0.6*(y-50)) },
		"edge, flat":     func(x, y float64) float64 { return 0.1 + 0.5*smooth(0.2*(x-60)+0.98*(y-50)) },
		"line":           func(x, y float64) float64 { return 0.6 - 0.4*math.Exp(-math.Pow(0.7*(x-60)-0.71*(y-50), 2)/8) },
		"ramp":           func(x, y float64) float64 { return 0.1 + 0.004*x + 0.002*y },
		"disc":           func(x, y float64) float64 { return 0.1 + 0.5*smooth(45-math.Hypot(x-60, y-90)) },
	} {
		t.Run(name, func(t *testing.T) {
			rect := image.Rect(0, 0, 120, 100)
			truth, m := made(rect, f), made(rect, f)
			hole := round(m, 60, 50, 11)
			dir := t.TempDir()
			write := func(path string, at func(i int) color.Color) {
				p := image.NewNRGBA(rect)
				for i := range hole.Pix {
					p.Set(i%120, i/120, at(i))
				}
				file, err := os.Create(path)
				require.NoError(t, err)
				require.NoError(t, png.Encode(file, p))
				require.NoError(t, file.Close())
			}
			code := func(v float32) uint8 { return uint8(math.Round(255 * math.Sqrt(float64(min(max(v, 0), 1))))) }
			write(filepath.Join(dir, "m.png"), func(i int) color.Color {
				return color.NRGBA{code(m.Pix[4*i]), code(m.Pix[4*i+1]), code(m.Pix[4*i+2]), 255}
			})
			write(filepath.Join(dir, "k.png"), func(i int) color.Color { return color.Gray{uint8(255 * hole.Pix[i])} })
			cmd := exec.Command("/usr/bin/python3", "testdata/reference.py", filepath.Join(dir, "m.png"),
				filepath.Join(dir, "k.png"), filepath.Join(dir, "out.png"))
			cmd.Stderr = os.Stderr
			require.NoError(t, cmd.Run(), "python3-opencv is installed by make test")
			file, err := os.Open(filepath.Join(dir, "out.png"))
			require.NoError(t, err)
			defer file.Close()
			theirs, err := png.Decode(file)
			require.NoError(t, err)
			off := func(at func(i int) float64) (sum float64) {
				n := 0.0
				for i, open := range hole.Pix {
					if open > 0 {
						d := at(i) - 255*math.Sqrt(float64(truth.Pix[4*i+1]))
						sum, n = sum+d*d, n+1
					}
				}
				return math.Sqrt(sum / n)
			}
			root := func(m *raster.Image) float64 {
				return off(func(i int) float64 { return 255 * math.Sqrt(float64(max(m.Pix[4*i+1], 0))) })
			}
			telea := off(func(i int) float64 { _, g, _, _ := theirs.At(i%120, i/120).RGBA(); return float64(g) / 257 })
			along, evenly := root(alongEdges(t, m, hole)), root(evenly(t, m, hole))
			t.Logf("codes RMS from the truth: along edges %.2f, evenly %.2f, OpenCV %.2f", along, evenly, telea)
			assert.Less(t, math.Min(along, evenly), telea)
			if name != "ramp" {
				assert.Less(t, along, telea)
			}
		})
	}
}

// BenchmarkSpread fills 100 x 100 pixels.
func BenchmarkSpread(b *testing.B) {
	m := made(image.Rect(0, 0, 132, 132), func(x, y float64) float64 { return 0.3 + 0.1*math.Sin(x/9)*math.Cos(y/7) })
	hole := raster.NewPlane(m.Rect)
	for y := 16; y < 116; y++ {
		row := hole.Row(y, 16, 116)
		for x := range row {
			row[x] = 1
		}
	}
	b.Run("evenly", func(b *testing.B) {
		for b.Loop() {
			evenly(b, m, hole)
		}
	})
	b.Run("along", func(b *testing.B) {
		for b.Loop() {
			alongEdges(b, m, hole)
		}
	})
}
