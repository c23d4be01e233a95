package grow

import (
	"context"
	"image"
	"image/color"
	_ "image/jpeg"
	"image/png"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/check"
	"jardin/core/geom"
	"jardin/core/raster"
)

// texture is a picture by chance with blobs of a size, in a colour.
func texture(rect image.Rectangle, seed uint64, size float64, tint [3]float32) *raster.Image {
	rng := rand.New(rand.NewPCG(seed, 1))
	m := raster.NewImage(rect)
	for i := range m.Pix {
		m.Pix[i] = float32(rng.NormFloat64())
	}
	m = raster.GaussianImage(m, size)
	for i := 0; i < len(m.Pix); i += 4 {
		v := 0.3 * m.Pix[i] * float32(3.5*size)
		for c := range 3 {
			m.Pix[i+c] = tint[c] * min(max(0.5+v, 0.1), 1)
		}
		m.Pix[i+3] = 1
	}
	return m
}

func box(rect, hole image.Rectangle) *raster.Plane {
	p := raster.NewPlane(rect)
	for y := hole.Min.Y; y < hole.Max.Y; y++ {
		row := p.Row(y, hole.Min.X, hole.Max.X)
		for x := range row {
			row[x] = 1
		}
	}
	return p
}

func grown(t *testing.T, r Request) *raster.Image {
	t.Helper()
	m, err := Grow(context.Background(), &r)
	require.NoError(t, err)
	return m
}

// It is the same for the same seed and another for another; what is not hole stays as it is, to
// the last bit; whatever was in the hole does not matter.
func TestASeedIsAResult(t *testing.T) {
	rect := image.Rect(-20, 10, 90, 120)
	m, hole := texture(rect, 3, 1.5, [3]float32{0.4, 0.5, 0.3}), image.Rect(15, 45, 47, 80)
	a := grown(t, Request{Picture: m, Hole: box(rect, hole), Seed: 7})
	spoilt := m.Crop(rect)
	for y := hole.Min.Y; y < hole.Max.Y; y++ {
		clear(spoilt.Row(y, hole.Min.X, hole.Max.X))
	}
	assert.Equal(t, a.Pix, grown(t, Request{Picture: spoilt, Hole: box(rect, hole), Seed: 7}).Pix)
	b := grown(t, Request{Picture: m, Hole: box(rect, hole), Seed: 8})
	differ := 0
	for y := rect.Min.Y; y < rect.Max.Y; y++ {
		for x := rect.Min.X; x < rect.Max.X; x++ {
			if !image.Pt(x, y).In(hole) {
				assert.Equal(t, m.At(x, y), a.At(x, y))
			} else if a.At(x, y) != b.At(x, y) {
				differ++
			}
		}
	}
	assert.Greater(t, differ, hole.Dx()*hole.Dy()/2)
	assert.Same(t, m, grown(t, Request{Picture: m, Hole: raster.NewPlane(rect)}), "there is no hole")
}

// It takes only from where it may.
func TestItTakesFromWhereItMay(t *testing.T) {
	rect := image.Rect(0, 0, 160, 90)
	m := texture(rect, 1, 1.5, [3]float32{0.6, 0.1, 0.1})
	green := texture(rect, 2, 1.5, [3]float32{0.1, 0.6, 0.1})
	m.Paste(green.Crop(image.Rect(80, 0, 160, 90)))
	hole := box(rect, image.Rect(65, 30, 95, 60))
	for name, c := range map[string]struct {
		from image.Rectangle
		most int // the channel
	}{"from the left": {image.Rect(0, 0, 60, 90), 0}, "from the right": {image.Rect(100, 0, 160, 90), 1}} {
		t.Run(name, func(t *testing.T) {
			got := grown(t, Request{Picture: m, Hole: hole, From: box(rect, c.from), Seed: 1})
			for y := 30; y < 60; y++ {
				for x := 65; x < 95; x++ {
					p := got.At(x, y)
					assert.Greater(t, p[c.most], 2*p[1-c.most])
				}
			}
		})
	}
	ctx := context.Background()
	_, err := Grow(ctx, &Request{Picture: m, Hole: hole, From: raster.NewPlane(rect)})
	assert.ErrorIs(t, err, ErrNothingToTake)
	_, err = Grow(ctx, &Request{Picture: m, Hole: box(rect, rect)})
	assert.ErrorIs(t, err, ErrNothingToTake)
	_, err = Grow(ctx, &Request{Picture: m.Crop(image.Rect(0, 0, 13, 90)), Hole: hole})
	assert.ErrorIs(t, err, ErrNoRoom)
	ended, cancel := context.WithCancel(ctx)
	cancel()
	_, err = Grow(ended, &Request{Picture: m, Hole: hole})
	assert.ErrorIs(t, err, context.Canceled)
}

// Far from its rim as well a hole is of what lies around it, and not of what lies anywhere.
func TestADeepHoleIsOfItsSurroundings(t *testing.T) {
	rect := image.Rect(0, 0, 220, 220)
	m := texture(rect, 4, 1.5, [3]float32{0.1, 0.1, 0.6})
	m.Paste(texture(rect, 5, 1.5, [3]float32{0.6, 0.1, 0.1}).Crop(rect.Inset(24)))
	for _, side := range []int{13, 30, 50} {
		hole := image.Rect(110-side/2, 110-side/2, 110+side/2, 110+side/2)
		got := grown(t, Request{Picture: m, Hole: box(rect, hole), Seed: 2})
		for y := hole.Min.Y; y < hole.Max.Y; y++ {
			for x := hole.Min.X; x < hole.Max.X; x++ {
				p := got.At(x, y)
				require.Greater(t, p[0], 2*p[2], "%d, %d of %d", x, y, side)
			}
		}
	}
}

// Holes of any size and place, at the edge and in the corner too, come to an end with pixels that
// the surroundings could have.
func TestAnyHoleIsFilled(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 9))
	for range 25 {
		rect := image.Rect(0, 0, 30+rng.IntN(70), 30+rng.IntN(70)).Add(image.Pt(rng.IntN(9)-4, rng.IntN(9)-4))
		m := texture(rect, rng.Uint64(), 1, [3]float32{0.5, 0.4, 0.3})
		at := rect.Min.Add(image.Pt(rng.IntN(rect.Dx()), rng.IntN(rect.Dy())))
		hole := image.Rectangle{Min: at, Max: at.Add(image.Pt(1+rng.IntN(25), 1+rng.IntN(25)))}.Intersect(rect)
		got, err := Grow(context.Background(), &Request{
			Picture: m, Hole: box(rect, hole), Seed: rng.Uint64(), Longest: rng.IntN(3) * 12, Feature: float64(rng.IntN(3) * 9),
		})
		if err != nil {
			assert.ErrorIs(t, err, ErrNothingToTake)
			continue
		}
		for i, v := range got.Pix {
			require.True(t, v >= 0 && v <= 1.2, "%v at %d", v, i)
		}
	}
}

func levelOf(t *testing.T, r *Request) *level {
	l, err := newLevel(context.Background(), r)
	require.NoError(t, err)
	return l
}

// The distance of two patches by its definition, with light made equal as far as that is allowed.
func TestDistanceByItsDefinition(t *testing.T) {
	rect := image.Rect(0, 0, 60, 50)
	l := levelOf(t, &Request{Picture: texture(rect, 4, 1.2, [3]float32{0.5, 0.4, 0.3}), Hole: box(rect, image.Rect(20, 20, 30, 28))})
	l.sum()
	rng := rand.New(rand.NewPCG(1, 1))
	for range 500 {
		a := l.targets[rng.IntN(len(l.targets))]
		s := l.sources[rng.IntN(len(l.sources))]
		var plain, light float64
		for c := range channels {
			var means float64
			for v := -reach; v <= reach; v++ {
				for u := -reach; u <= reach; u++ {
					p := float64(l.pix[(int(a)+v*l.w+u)*channels+c])
					q := float64(l.pix[(int(s)+v*l.w+u)*channels+c])
					plain += (p - q) * (p - q)
					means += (p - q) / (patch * patch)
				}
			}
			if c < 3 {
				b := math.Min(math.Max(means, -mostBias), mostBias)
				// What is taken off by adding b to the source: the sum of (p-q)² less that of (p-q-b)².
				light += 0.75 * patch * patch * (2*b*means - b*b)
			}
		}
		assert.InDelta(t, plain-light, l.distance(a, s, float32(math.Inf(1))), 1e-3*(1+plain))
		assert.True(t, math.IsInf(float64(l.distance(a, s, float32(plain-light)*0.5-1e-3)), 1), "it stops early")
	}
}

// No stretch that is copied from one place is longer than allowed, on a texture whose best copy is
// one piece.
func TestStretchesAreShort(t *testing.T) {
	rect := image.Rect(0, 0, 120, 100)
	longest := func(most int) (n int32) {
		l := levelOf(t, &Request{Picture: texture(rect, 6, 2, [3]float32{0.5, 0.5, 0.5}), Hole: box(rect, image.Rect(40, 30, 80, 70))})
		l.longest = most
		rng := rand.New(rand.NewPCG(2, 3))
		l.begin(rng)
		for range 6 {
			l.search(rng.Uint64(), 2)
			l.vote(false)
		}
		l.search(rng.Uint64(), 2)
		l.runs()
		for _, t := range l.targets {
			n = max(n, l.run[t])
		}
		return n
	}
	assert.Greater(t, longest(0), int32(14))
	assert.LessOrEqual(t, longest(9), int32(9))
}

// A dark line that slants through goes on where a guide says so.
func TestAGuideGoesOn(t *testing.T) {
	rect := image.Rect(0, 0, 160, 120)
	guide := Guide{geom.Pt(5, 20), geom.Pt(155, 100)}
	truth := texture(rect, 8, 1, [3]float32{0.5, 0.5, 0.45})
	for y := range 120 {
		for x := range 160 {
			if off, ok := guide.beside(geom.Pt(float64(x)+0.5, float64(y)+0.5)); ok && math.Abs(off) < 2 {
				truth.Set(x, y, [4]float32{0.02, 0.02, 0.02, 1})
			}
		}
	}
	hole := image.Rect(50, 30, 110, 90)
	off := func(guides []Guide) (sum float64) {
		m := grown(t, Request{Picture: truth, Hole: box(rect, hole), Seed: 3, Guides: guides})
		n := 0.0
		for y := hole.Min.Y; y < hole.Max.Y; y++ {
			for x := hole.Min.X; x < hole.Max.X; x++ {
				if d, ok := guide.beside(geom.Pt(float64(x)+0.5, float64(y)+0.5)); ok && math.Abs(d) < 1 {
					sum, n = sum+float64(m.At(x, y)[1]), n+1
				}
			}
		}
		return sum / n
	}
	assert.Less(t, off([]Guide{guide}), 0.06, "it is dark all along")
}

const photographs = "/usr/share/doc/opencv-doc/examples/data/"

func photograph(t *testing.T, path string) *raster.Image {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	m, _, err := image.Decode(f)
	require.NoError(t, err)
	out := raster.NewImage(m.Bounds())
	for y := out.Rect.Min.Y; y < out.Rect.Max.Y; y++ {
		for x := out.Rect.Min.X; x < out.Rect.Max.X; x++ {
			r, g, b, _ := m.At(x, y).RGBA()
			light := func(v uint32) float32 { return float32(v) * float32(v) / (65535 * 65535) }
			out.Set(x, y, [4]float32{light(r), light(g), light(b), 1})
		}
	}
	return out
}

func saved(t *testing.T, path string, rect image.Rectangle, at func(x, y int) color.Color) {
	t.Helper()
	m := image.NewNRGBA(image.Rect(0, 0, rect.Dx(), rect.Dy()))
	for y := range rect.Dy() {
		for x := range rect.Dx() {
			m.Set(x, y, at(rect.Min.X+x, rect.Min.Y+y))
		}
	}
	f, err := os.Create(path)
	require.NoError(t, err)
	require.NoError(t, png.Encode(f, m))
	require.NoError(t, f.Close())
}

// Against OpenCV, on photographs: what is grown looks like its surroundings, patch by patch, at least as much
// as the truth does, and more than what is spread by either of its ways; its detail is that of the truth.
func TestAgainstOpenCV(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	for name, hole := range map[string]image.Rectangle{
		"baboon.jpg": image.Rect(50, 60, 120, 130), "home.jpg": image.Rect(210, 210, 270, 270),
		"building.jpg": image.Rect(310, 210, 370, 270),
	} {
		t.Run(name, func(t *testing.T) {
			all := photograph(t, photographs+name)
			region := hole.Inset(-90).Intersect(all.Rect)
			truth := all.Crop(region)
			dir := t.TempDir()
			code := func(v float32) uint8 { return uint8(math.Round(255 * math.Sqrt(float64(min(max(v, 0), 1))))) }
			saved(t, filepath.Join(dir, "m.png"), region, func(x, y int) color.Color {
				p := truth.At(x, y)
				return color.NRGBA{code(p[0]), code(p[1]), code(p[2]), 255}
			})
			saved(t, filepath.Join(dir, "k.png"), region, func(x, y int) color.Color {
				if image.Pt(x, y).In(hole) {
					return color.White
				}
				return color.Black
			})
			cmd := exec.Command("/usr/bin/python3", "testdata/reference.py", filepath.Join(dir, "m.png"),
				filepath.Join(dir, "k.png"), filepath.Join(dir, "cv-"))
			cmd.Stderr = os.Stderr
			require.NoError(t, cmd.Run(), "python3-opencv is installed by make test")
			m := grown(t, Request{Picture: truth, Hole: box(region, hole), Seed: 1})
			own := unlike(truth, truth, hole)
			ours := unlike(m, truth, hole)
			t.Logf("to the nearest patch around: grown %.3f of the truth's", ours/own)
			assert.LessOrEqual(t, ours, 1.15*own)
			detail := func(m *raster.Image) (sum float64) {
				for y := hole.Min.Y; y < hole.Max.Y; y++ {
					for x := hole.Min.X; x < hole.Max.X-1; x++ {
						d := math.Sqrt(float64(m.At(x+1, y)[1])) - math.Sqrt(float64(m.At(x, y)[1]))
						sum += d * d
					}
				}
				return math.Sqrt(sum)
			}
			t.Logf("detail %.2f of the truth's", detail(m)/detail(truth))
			assert.Greater(t, detail(m), 0.65*detail(truth))
			// Nothing repeats more than it does in one of the places around.
			var around float64
			for _, by := range []image.Point{{X: -1}, {X: 1}, {Y: -1}, {Y: 1}} {
				beside := hole.Add(image.Pt(by.X*(hole.Dx()+4), by.Y*(hole.Dy()+4))).Intersect(region)
				around = max(around, check.Repeat(truth, beside, 8))
			}
			inside := check.Repeat(m, hole, 8)
			t.Logf("repeats: %.2f, around %.2f, the truth %.2f", inside, around, check.Repeat(truth, hole, 8))
			assert.LessOrEqual(t, inside, around+0.05)
			for _, way := range []string{"ns", "telea", "shiftmap"} {
				path := filepath.Join(dir, "cv-"+way+".png")
				if _, err := os.Stat(path); err != nil {
					continue
				}
				theirs := photograph(t, path)
				theirs.Rect = region
				t.Logf("%s: %.3f of the truth's, detail %.2f", way, unlike(theirs, truth, hole)/own, detail(theirs)/detail(truth))
				if way != "shiftmap" {
					assert.Less(t, detail(theirs), detail(m))
				}
			}
		})
	}
}

// unlike is the mean distance of patches inside a hole from the nearest in the surroundings, of every ninth
// one, plainly by trying all: on the square root of light, with means taken off, divided by how much detail there is.
func unlike(m, around *raster.Image, hole image.Rectangle) float64 {
	r := around.Rect
	roots := func(m *raster.Image) []float32 {
		out := make([]float32, r.Dx()*r.Dy())
		for i := range out {
			out[i] = float32(math.Sqrt(float64(max(m.Pix[4*i+1], 0))))
		}
		return out
	}
	a, b := roots(m), roots(around)
	w := r.Dx()
	at := func(x, y int) int { return (y-r.Min.Y)*w + x - r.Min.X }
	var places []image.Point
	for y := hole.Min.Y; y < hole.Max.Y; y += 9 {
		for x := hole.Min.X; x < hole.Max.X; x += 9 {
			places = append(places, image.Pt(x, y))
		}
	}
	nearest := make([]float64, len(places))
	raster.Rows(0, len(places), func(k int) {
		best := float32(math.Inf(1))
		for y := r.Min.Y + reach; y < r.Max.Y-reach; y++ {
			for x := r.Min.X + reach; x < r.Max.X-reach; x++ {
				if image.Rect(x-reach, y-reach, x+reach+1, y+reach+1).Overlaps(hole) {
					continue
				}
				var sum float32
				for v := -reach; v <= reach && sum < best; v++ {
					p := at(places[k].X-reach, places[k].Y+v)
					q := at(x-reach, y+v)
					for i := range patch {
						d := a[p+i] - b[q+i]
						sum += d * d
					}
				}
				best = min(best, sum)
			}
		}
		nearest[k] = math.Sqrt(float64(best))
	})
	sum := 0.0
	for _, d := range nearest {
		sum += d
	}
	return sum / float64(len(nearest))
}

// BenchmarkGrow grows 100 x 100 and 300 x 300 pixels.
func BenchmarkGrow(b *testing.B) {
	for _, side := range []int{100, 300} {
		b.Run(map[int]string{100: "100", 300: "300"}[side], func(b *testing.B) {
			rect := image.Rect(0, 0, side+300, side+300)
			m := texture(rect, 1, 1.5, [3]float32{0.5, 0.4, 0.3})
			hole := box(rect, image.Rect(150, 150, 150+side, 150+side))
			for b.Loop() {
				if _, err := Grow(context.Background(), &Request{Picture: m, Hole: hole}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
