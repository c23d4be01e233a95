package fill

import (
	"fmt"
	"image"
	"image/jpeg"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
)

// The equations of a ragged membrane with a hole in it, some points missing, and
// loads, solved directly (gonum's LU) and by ours.
func TestMembraneAgainstADirectSolver(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 9))
	const w, h = 23, 17
	m := NewMembrane(w, h)
	m.Load = make([][3]float32, w*h)
	for i := range m.State {
		x, y := float64(i%w)-11, float64(i/w)-8
		m.State[i] = Fixed
		switch radius := math.Hypot(x, y*1.3); {
		case radius < 9 && !(radius < 2.5) && rng.Float64() > 0.05:
			m.State[i] = Free
		case rng.Float64() < 0.1:
			m.State[i] = Outside
		}
		for k := range 3 {
			m.Value[i][k], m.Load[i][k] = rng.Float32(), rng.Float32()-0.5
		}
	}
	index, n := map[int]int{}, 0
	for i, s := range m.State {
		if s == Free {
			index[i] = n
			n++
		}
	}
	a, b := mat.NewDense(n, n, nil), mat.NewDense(n, 3, nil)
	for i, row := range index {
		for k := range 3 {
			b.Set(row, k, float64(m.Load[i][k]))
		}
		for _, j := range m.around(i) {
			if j < 0 || m.State[j] == Outside {
				continue
			}
			a.Set(row, row, a.At(row, row)+1)
			if m.State[j] == Free {
				a.Set(row, index[j], -1)
				continue
			}
			for k := range 3 {
				b.Set(row, k, b.At(row, k)+float64(m.Value[j][k]))
			}
		}
	}
	var want mat.Dense
	require.NoError(t, want.Solve(a, b))
	m.Solve(1e-6)
	for i, row := range index {
		for k := range 3 {
			assert.InDelta(t, want.At(row, k), m.Value[i][k], 1e-4)
		}
	}
}

func TestMembraneWithNothingToHoldOrToSeek(t *testing.T) {
	m := NewMembrane(4, 4)
	assert.Zero(t, m.Solve(1e-3), "nothing is there")
	for i := range m.State {
		m.State[i] = Free
	}
	assert.Zero(t, m.Solve(1e-3), "nothing says what the values are")
}

// photo reads a picture that Debian's opencv-doc brings, cut to w x h from (x, y).
func photo(t *testing.T, name string, x, y, w, h int) []byte {
	f, err := os.Open(filepath.Join("/usr/share/doc/opencv-doc/examples/data", name))
	require.NoError(t, err, "opencv-doc is installed by make test")
	defer f.Close()
	p, err := jpeg.Decode(f)
	require.NoError(t, err)
	out := make([]byte, 0, 3*w*h)
	for j := range h {
		for i := range w {
			r, g, b, _ := p.At(x+i, y+j).RGBA()
			out = append(out, byte(r>>8), byte(g>>8), byte(b>>8))
		}
	}
	return out
}

// OpenCV works on code values and solves over the box around the mask, with the
// gradients of the source inside the mask, thinned by three pixels, and those of the
// target outside. Put to our solver, the same equations must have the same solution.
func TestPoissonAgainstSeamlessClone(t *testing.T) {
	const w, h = 200, 160
	source, target := photo(t, "fruits.jpg", 60, 40, w, h), photo(t, "fruits.jpg", 220, 250, w, h)
	mask := make([]byte, w*h)
	for i := range mask {
		x, y := float64(i%w)-100, float64(i/w)-80
		if math.Hypot(x, y*1.4)+8*math.Sin(5*math.Atan2(y, x)) < 70 {
			mask[i] = 255
		}
	}
	dir := t.TempDir()
	args := []string{"testdata/reference.py"}
	for name, data := range map[string][]byte{"source": source, "target": target, "mask": mask} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
	}
	args = append(
		args,
		filepath.Join(dir, "source"),
		filepath.Join(dir, "target"),
		filepath.Join(dir, "mask"),
		fmt.Sprint(w),
		fmt.Sprint(h),
		filepath.Join(dir, "out"),
	)
	cmd := exec.Command("/usr/bin/python3", args...)
	cmd.Env, cmd.Stderr = []string{"PATH=/usr/bin:/bin"}, os.Stderr
	require.NoError(t, cmd.Run(), "python3-opencv is installed by make test")
	theirs, err := os.ReadFile(filepath.Join(dir, "out"))
	require.NoError(t, err)

	box := image.Rectangle{}
	for i, v := range mask {
		if v > 0 {
			box = box.Union(image.Rect(i%w, i/w, i%w+1, i/w+1))
		}
	}
	inner := func(x, y int) bool { // the mask, three pixels thinner
		for dy := -3; dy <= 3; dy++ {
			for dx := -3; dx <= 3; dx++ {
				if mask[(y+dy)*w+x+dx] == 0 {
					return false
				}
			}
		}
		return true
	}
	m := NewMembrane(box.Dx(), box.Dy())
	m.Load = make([][3]float32, len(m.State))
	for i := range m.State {
		x, y := box.Min.X+i%m.Width, box.Min.Y+i/m.Width
		m.State[i] = Fixed
		step := func(x, y, dx, dy, k int) float32 { // the wanted step from a pixel to the next
			from := target
			if inner(x, y) {
				from = source
			}
			return float32(from[3*((y+dy)*w+x+dx)+k]) - float32(from[3*(y*w+x)+k])
		}
		for k := range 3 {
			m.Value[i][k] = float32(target[3*(y*w+x)+k])
			if x > box.Min.X && x < box.Max.X-1 && y > box.Min.Y && y < box.Max.Y-1 {
				m.State[i] = Free
				m.Load[i][k] = -(step(x, y, 1, 0, k) - step(x-1, y, 1, 0, k) + step(x, y, 0, 1, k) - step(x, y-1, 0, 1,
					k))
			}
		}
	}
	m.Solve(0.01)
	worst, sum, n := 0.0, 0.0, 0
	for i, s := range m.State {
		if s != Free {
			continue
		}
		for k := range 3 {
			// Theirs is cut to whole code values, so on average half a value lower.
			d := math.Min(
				math.Max(float64(m.Value[i][k]), 0),
				255,
			) - float64(
				theirs[3*((box.Min.Y+i/m.Width)*w+box.Min.X+i%m.Width)+k],
			)
			worst, sum, n = math.Max(worst, math.Abs(d-0.5)), sum+d, n+1
		}
	}
	t.Logf("code values: theirs is %.3f lower on average, %.3f at most beside that half", sum/float64(n), worst)
	assert.LessOrEqual(t, worst, 0.55)
}

// Copied from a place that is brighter by a constant on the square root of light, the
// patch is healed to exactly what belongs there.
func TestHealTakesLightFromThePlace(t *testing.T) {
	texture := plate(60, 60)
	p := raster.NewImage(image.Rect(0, 0, 120, 60))
	for y := range 60 {
		for x := range 120 {
			v := texture.At(x%60, y)
			for k := range 3 {
				r := 0.3 + 0.2*v[k]
				if x >= 60 {
					r += 0.25
				}
				v[k] = r * r
			}
			p.Set(x, y, v)
		}
	}
	truth := p.Crop(p.Rect)
	for y := 22; y < 38; y++ { // the thing
		for x := 22; x < 38; x++ {
			p.Set(x, y, [4]float32{0.9, 0.3, 0, 1})
		}
	}
	c := NewCanvas(p)
	c.Paint(
		Stroke{Mode: Heal, Size: 34, Hardness: 1, Opacity: 1, From: Origin{Shift: geom.Pt(60, 0)}},
		[]Touch{{Point: geom.Pt(30, 30), Pressure: 1}},
	)
	shown := c.Shown(p.Rect)
	for y := 15; y < 45; y++ {
		for x := 15; x < 45; x++ {
			for k := range 3 {
				assert.InDelta(t, truth.At(x, y)[k], shown.At(x, y)[k], 4e-3, "%d,%d", x, y)
			}
		}
	}
	// At the border of the picture, and with part of the source beyond it, it still heals.
	c.Paint(
		Stroke{Mode: Heal, Size: 30, Hardness: 1, Opacity: 1, From: Origin{Shift: geom.Pt(8, 0)}},
		[]Touch{{Point: geom.Pt(112, 2), Pressure: 1}},
	)
	for _, v := range c.View(p.Rect).Pix {
		assert.False(t, math.IsNaN(float64(v)))
	}
}

// A wall of one texture under two lights, side by side, that also fall off along it; a thing stands in
// the right half, or in the left one. Both halves' texture is their reflectance, so that light multiplies it.
func lit(rng *rand.Rand, low, high, fall float64) (wall, truth *raster.Image) {
	const w, h = 220, 110
	wall = raster.NewImage(image.Rect(0, 0, w, h))
	reflectance := raster.NewPlane(image.Rect(0, 0, w/2, h))
	for i := range reflectance.Pix {
		reflectance.Pix[i] = float32(rng.NormFloat64())
	}
	reflectance = raster.Gaussian(reflectance, 1.2)
	for y := range h {
		for x := range w {
			light := low
			if x >= w/2 {
				light = high
			}
			light *= fallen(y, fall)
			v := float32(light) * (0.5 + 0.5*reflectance.At(x%(w/2), y))
			wall.Set(x, y, [4]float32{v, v * 0.8, v * 0.6, 1})
		}
	}
	return wall, wall.Crop(wall.Rect)
}

// fallen is how light falls off from row to row.
func fallen(y int, fall float64) float64 { return 1 + fall*(float64(y)/110-0.5) }

// contrast is the standard deviation of green over its mean, light that falls off taken out.
func contrast(m *raster.Image, r image.Rectangle, fall float64) float64 {
	var sum, squares, n float64
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			v := float64(m.At(x, y)[1]) / fallen(y, fall)
			sum, squares, n = sum+v, squares+v*v, n+1
		}
	}
	mean := sum / n
	return math.Sqrt(squares/n-mean*mean) / mean
}

func share(v float64) *float64 { return &v }

// From light that is up to twelve times as strong, or as weak, texture comes out with the contrast that the place's
// own has; kept steps have more of it in the dark and less in the light.
func TestHealedTextureFollowsTheLight(t *testing.T) {
	rng, most := rand.New(rand.NewPCG(5, 8)), 0.0
	for range 30 {
		low, high := math.Exp2(-5+5*rng.Float64()), math.Exp2(-5+5*rng.Float64())
		if r := low / high; r > 12 || r < 1.0/12 {
			continue
		}
		fall := 0.3 * rng.Float64()
		wall, truth := lit(rng, low, high, fall)
		size := 20 + 40*rng.Float64()
		at := geom.Pt(50+8*rng.Float64(), 50+8*rng.Float64())
		inside := image.Rect(int(at.X-size/3), int(at.Y-size/3), int(at.X+size/3), int(at.Y+size/3))
		for y := inside.Min.Y; y < inside.Max.Y; y++ {
			for x := inside.Min.X; x < inside.Max.X; x++ {
				wall.Set(x, y, [4]float32{0.9, 0, 0.4, 1})
			}
		}
		shift := geom.Pt(110, 0) // the same texture, and then another part of it
		painted := func(h Healing) *raster.Image {
			c := NewCanvas(wall)
			c.Paint(
				Stroke{Mode: Heal, Size: size, Hardness: 1, Opacity: 1, From: Origin{Shift: shift}, Heal: h},
				[]Touch{{Point: at, Pressure: 1}},
			)
			return c.Shown(wall.Rect)
		}
		want := contrast(truth, inside, fall)
		got := painted(Healing{Texture: share(1)})
		assert.InEpsilon(t, want, contrast(got, inside, fall), 0.05, "light of %.3f from %.3f", low, high)
		worst := 0.0
		for y := inside.Min.Y; y < inside.Max.Y; y++ {
			for x := inside.Min.X; x < inside.Max.X; x++ {
				worst = math.Max(worst, math.Abs(float64(got.At(x, y)[1]/truth.At(x, y)[1]-1)))
			}
		}
		assert.Less(t, worst, 0.01, "a pixel, light of %.3f from %.3f", low, high)
		x, y := int(at.X), int(at.Y)
		none := painted(Healing{Texture: share(1), Light: share(0)})
		half := painted(Healing{Texture: share(1), Light: share(0.5)})
		assert.InEpsilon(t, truth.At(x+110, y)[1], none.At(x, y)[1], 1e-3, "its own light")
		assert.InEpsilon(t, (root(none.At(x, y)[0])+root(got.At(x, y)[0]))/2, root(half.At(x, y)[0]), 1e-3)

		shift = geom.Pt(114-8*rng.Float64(), 6*rng.Float64()-3)
		shift = geom.Pt(math.Round(shift.X), math.Round(shift.Y))
		want = contrast(truth, inside.Add(image.Pt(int(shift.X), int(shift.Y))), fall)
		of := contrast(painted(Healing{Texture: share(1)}), inside, fall) / want
		most = math.Max(most, math.Abs(of-1))
		kept := contrast(painted(Healing{}), inside, fall) / want
		assert.InEpsilon(t, math.Sqrt(high/low), kept, 0.2, "what it is without: light of %.3f from %.3f", low, high)
		for _, k := range []float64{0.5, 2} {
			assert.InEpsilon(t, k, contrast(painted(Healing{Texture: share(k)}), inside, fall)/want, 0.25, "texture of %g, and the rim's", k)
		}
		assert.Less(t, contrast(painted(Healing{Texture: share(0)}), inside, fall)/want, 0.4, "light alone")
	}
	t.Logf("contrast off by %.3f at most", most)
	assert.Less(t, most, 0.1)
}

// A lamp that is clipped in what is copied stays white in the dark, and one at the rim of the place does not
// make the patch light.
func TestHealKnowsClippedHighlights(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 8))
	lamp := func(m *raster.Image, x0, y0, n int) {
		for y := y0; y < y0+n; y++ {
			for x := x0; x < x0+n; x++ {
				m.Set(x, y, [4]float32{1, 1, 1, 1})
			}
		}
	}
	heal := func(m *raster.Image, white float32) *raster.Image {
		c := NewCanvas(m)
		c.Paint(Stroke{
			Mode: Heal, Size: 40, Hardness: 1, Opacity: 1, From: Origin{Shift: geom.Pt(110, 0)},
			Heal: Healing{Texture: share(1), White: white},
		}, []Touch{{Point: geom.Pt(50, 50), Pressure: 1}})
		return c.Shown(m.Rect)
	}
	wall, truth := lit(rng, 0.05, 0.5, 0.2)
	lamp(wall, 160, 50, 6)
	got := heal(wall, 1)
	assert.InDelta(t, 1, got.At(52, 52)[1], 1e-3)
	assert.Less(t, heal(wall, 0).At(52, 52)[1], float32(0.3), "what is not known to be white goes with the light")
	assert.InEpsilon(t, truth.At(44, 40)[1], got.At(44, 40)[1], 0.06)

	for _, at := range []int{50, 160} { // on the rim of the place, of the source
		wall, truth = lit(rng, 0.05, 0.5, 0.2)
		lamp(wall, at, 68, 12)
		box := image.Rect(40, 36, 60, 66)
		off := func(m *raster.Image) (worst float64) {
			for y := box.Min.Y; y < box.Max.Y; y++ {
				for x := box.Min.X; x < box.Max.X; x++ {
					worst = math.Max(worst, math.Abs(float64(m.At(x, y)[1]/truth.At(x, y)[1]-1)))
				}
			}
			return worst
		}
		assert.Less(t, off(heal(wall, 1)), 0.08)
		assert.Greater(t, off(heal(wall, 0)), 0.3)
	}
	// All around is white: so is the patch.
	wall, _ = lit(rng, 0.05, 0.5, 0.2)
	lamp(wall, 20, 20, 60)
	white, mean := heal(wall, 1), float32(0)
	for y := 40; y < 60; y++ {
		for x := 40; x < 60; x++ {
			mean += white.At(x, y)[1] / 400
		}
	}
	assert.InDelta(t, 1, mean, 0.1)
}

// A part of a stroke that nothing bounds gets the light of the others, and nothing is ever no number.
func TestHealWithoutARim(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	for range 15 {
		wall, _ := lit(rng, rng.Float64(), rng.Float64(), 0.2)
		for k := range wall.Pix {
			if k%4 != 3 && rng.IntN(3) == 0 {
				wall.Pix[k] = []float32{0, 1, -0.1, 5}[rng.IntN(4)]
			}
		}
		c := NewCanvas(wall)
		for range 3 {
			c.Paint(Stroke{
				Mode: Heal, Size: 5 + 300*rng.Float64(), Hardness: rng.Float64(), Opacity: 1,
				From: Origin{Shift: geom.Pt(400*rng.Float64()-200, 200*rng.Float64()-100)},
				Heal: Healing{Texture: share(3 * rng.Float64()), Light: share(rng.Float64()), White: 1},
			}, []Touch{{Point: geom.Pt(260*rng.Float64()-20, 150*rng.Float64()-20), Pressure: 1}})
		}
		for _, v := range c.View(wall.Rect).Pix {
			if !(v > -1e3 && v < 1e3) { // what a copy has only in part is laid as it is, below black too
				t.Fatalf("%v is no light", v)
			}
		}
	}
}

// Of a source that is half another material, dark and bright side by side, no part is made much brighter than what lies around
// the place: it would glow.
func TestHealIsNotLedByAnotherMaterial(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 8))
	most := 0.0
	for range 10 {
		wall, _ := lit(rng, 0.4, 0.4, 0)
		for y := range 110 {
			for x := 110; x < 110+50; x++ { // the left half of what is copied is dark, but for a speck
				v := wall.At(x, y)
				for k := range 3 {
					v[k] *= 0.06
				}
				wall.Set(x, y, v)
			}
		}
		for y := 47; y < 53; y++ {
			for x := 152; x < 158; x++ {
				wall.Set(x, y, [4]float32{0.25, 0.2, 0.15, 1})
			}
		}
		c := NewCanvas(wall)
		c.Paint(Stroke{
			Mode: Heal, Size: 40, Hardness: 1, Opacity: 1, From: Origin{Shift: geom.Pt(110, 0)}, Heal: Healing{Texture: share(1), White: 1},
		}, []Touch{{Point: geom.Pt(50, 50), Pressure: 1}})
		most = math.Max(most, float64(c.Shown(wall.Rect).At(45, 50)[1])/0.2)
	}
	t.Logf("the speck comes out %.2f times as bright as it was", most)
	assert.Less(t, most, 2.5, "7.9 where each part of the rim has its own factor and nothing bounds it; strokes of before, 3.1")
}
