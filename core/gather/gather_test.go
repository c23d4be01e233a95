package gather

import (
	"image"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/raster"
)

// wall is a texture by chance, the same for the same seed.
func wall(rect image.Rectangle, seed uint64) *raster.Image {
	rng := rand.New(rand.NewPCG(seed, 1))
	m := raster.NewImage(rect)
	for i := range m.Pix {
		m.Pix[i] = 0.1 + 0.6*rng.Float32()
	}
	m = raster.GaussianImage(m, 1)
	for i := 3; i < len(m.Pix); i += 4 {
		m.Pix[i] = 1
	}
	return m
}

type weighed struct {
	Frame
	Weight float32
}

// mean stacks frames where some is above 0, or everywhere, and averages them.
func mean(frames []weighed, rect image.Rectangle, some *raster.Plane, noise float32) *Average {
	s := NewStack(rect, max(len(frames), 1))
	for _, f := range frames {
		for y := rect.Min.Y; y < rect.Max.Y; y++ {
			for x := rect.Min.X; x < rect.Max.X; x++ {
				if f.Counts.At(x, y) == 1 && (some == nil || some.At(x, y) > 0) {
					v := f.Picture.At(x, y)
					s.Add(x, y, [3]float32(v[:3]), f.Weight)
				}
			}
		}
	}
	return s.Mean(noise)
}

// taken is the wall as a frame shows it, with grain, all of it counting.
func taken(m *raster.Image, rng *rand.Rand, grain float32) weighed {
	out := m.Crop(m.Rect)
	counts := raster.NewPlane(m.Rect)
	for i := range counts.Pix {
		counts.Pix[i] = 1
		for c := range 3 {
			root := float32(math.Sqrt(float64(out.Pix[4*i+c]))) + grain*float32(rng.NormFloat64())
			out.Pix[4*i+c] = root * root
		}
	}
	return weighed{Frame{out, counts}, 1}
}

// What passes over on less than half of the frames leaves nothing behind, is told, and what is
// left has the grain of a mean of so many.
func TestWhatPassesOverIsLeftOut(t *testing.T) {
	rect := image.Rect(-5, 7, 75, 67)
	truth, rng := wall(rect, 3), rand.New(rand.NewPCG(9, 2))
	const grain = 0.01
	var frames []weighed
	for k := range 21 {
		f := taken(truth, rng, grain)
		for y := rect.Min.Y; y < rect.Max.Y; y++ {
			for x := rect.Min.X + 3*k; x < min(rect.Min.X+3*k+18, rect.Max.X); x++ { // something dark goes by
				f.Picture.Set(x, y, [4]float32{0.02, 0.03, 0.02, 1})
			}
			f.Counts.Row(y, rect.Min.X+2*k, rect.Min.X+2*k+12)[5] = 0 // marked on this one
		}
		frames = append(frames, f)
	}
	got := mean(frames, rect, nil, grain)
	var sum, n float64
	var unlike float32
	for i := range got.Unlike.Pix {
		assert.EqualValues(t, 1, got.Picture.Pix[4*i+3])
		d := math.Sqrt(float64(got.Picture.Pix[4*i+1])) - math.Sqrt(float64(truth.Pix[4*i+1]))
		sum, n = sum+d*d, n+1
		unlike = max(unlike, got.Unlike.Pix[i])
	}
	left := math.Sqrt(sum/n) / grain
	assert.Less(t, left, 1.25/math.Sqrt(21-6), "grain of a mean of fifteen and more")
	assert.Greater(t, left, 0.8/math.Sqrt(21))
	assert.Greater(t, unlike, float32(0.4), "it is told where frames do not agree")
	assert.Less(t, unlike, float32(1), "they are not half")

	// The same in any order, and in parts.
	rng.Shuffle(len(frames), func(i, j int) { frames[i], frames[j] = frames[j], frames[i] })
	part := image.Rect(3, 20, 31, 33)
	again := mean(frames, part, nil, grain)
	want := got.Picture.Crop(part)
	some := raster.NewPlane(rect)
	some.Row(25, 10, 11)[0] = 1
	few := mean(frames, part, some, grain)
	assert.Equal(t, again.Picture.At(10, 25), few.Picture.At(10, 25))
	assert.Zero(t, few.Picture.At(11, 25), "it is not wanted")
	for i := range want.Pix {
		assert.InDelta(t, want.Pix[i], again.Picture.Pix[i], 1e-6)
	}
}

func TestWhatNoFrameShowsIsNotMade(t *testing.T) {
	rect := image.Rect(0, 0, 30, 20)
	rng := rand.New(rand.NewPCG(1, 2))
	frames := []weighed{taken(wall(rect, 1), rng, 0), taken(wall(rect, 1), rng, 0)}
	for i := range frames {
		for y := 4; y < 9; y++ {
			clear(frames[i].Counts.Row(y, 11, 15))
		}
	}
	frames[1].Counts.Row(12, 20, 21)[0] = 0
	got := mean(frames, rect, nil, 0.01)
	assert.Zero(t, got.Picture.At(12, 6))
	assert.EqualValues(t, 1, got.Picture.At(10, 6)[3])
	assert.InDelta(t, frames[0].Picture.At(20, 12)[0], got.Picture.At(20, 12)[0], 1e-7, "one frame shows it")
	assert.Zero(t, mean(nil, rect, nil, 0.01).Picture.At(3, 3))

	// Of two that do not agree the heavier one stands.
	frames[1].Weight = 3
	frames[1].Picture.Set(2, 2, [4]float32{0.9, 0.9, 0.9, 1})
	frames[0].Picture.Set(2, 2, [4]float32{0.1, 0.1, 0.1, 1})
	assert.InDelta(t, 0.9, mean(frames, rect, nil, 0.01).Picture.At(2, 2)[0], 1e-6)
}

// applied multiplies a picture by a gain.
func applied(g *Gain, m *raster.Image) {
	row := make([]float32, 3*m.Rect.Dx())
	for y := m.Rect.Min.Y; y < m.Rect.Max.Y; y++ {
		g.Row(y, m.Rect.Min.X, m.Rect.Max.X, row)
		for i, v := range row {
			m.Row(y, m.Rect.Min.X, m.Rect.Max.X)[i/3*4+i%3] *= v
		}
	}
}

func cellsOf(m *raster.Image, counts *raster.Plane) *raster.Image {
	out := NewGrid(m.Rect)
	out.Add(m, func(x, y int) bool { return counts.At(x, y) < 1 })
	return out.Light
}

// Light that falls off to a side, and by channel, is made equal to within a hundredth, also under
// a hole of which only the rim can be compared; on a place with nothing to compare it is 1.
func TestLightIsMadeEqual(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	for range 6 {
		rect := image.Rect(10, 20, 10+150+rng.IntN(60), 20+120+rng.IntN(60))
		truth := wall(rect, rng.Uint64())
		a, b, c := 0.7+0.6*rng.Float64(), (rng.Float64()-0.5)/300, (rng.Float64()-0.5)/300
		light := func(x, y, k int) float32 {
			return float32(a * (1 + 0.05*float64(k)) * math.Exp(b*float64(x)+c*float64(y)))
		}
		f := taken(truth, rng, 0)
		for y := rect.Min.Y; y < rect.Max.Y; y++ {
			for x := rect.Min.X; x < rect.Max.X; x++ {
				v := f.Picture.At(x, y)
				for k := range 3 {
					v[k] /= light(x, y, k)
				}
				f.Picture.Set(x, y, v)
			}
		}
		open := raster.NewPlane(rect)
		hole := image.Rect(rect.Min.X+60, rect.Min.Y+50, rect.Min.X+95, rect.Min.Y+80)
		for y := rect.Min.Y; y < rect.Max.Y; y++ {
			for x := rect.Min.X; x < rect.Max.X; x++ {
				if !image.Pt(x, y).In(hole) {
					open.Row(y, x, x+1)[0] = 1
				} else {
					truth.Set(x, y, [4]float32{0.9, 0, 0, 1}) // what is in the hole does not matter
				}
			}
		}
		was := f.Picture.Crop(rect)
		applied(MeasureGain(cellsOf(truth, open), cellsOf(f.Picture, f.Counts), 20), f.Picture)
		var worst float64
		for y := rect.Min.Y + 8; y < rect.Max.Y-8; y++ {
			for x := rect.Min.X + 8; x < rect.Max.X-8; x++ {
				for k := range 3 {
					gain := f.Picture.At(x, y)[k] / was.At(x, y)[k]
					worst = math.Max(worst, math.Abs(float64(gain/light(x, y, k))-1))
				}
			}
		}
		assert.Less(t, worst, 0.04)
	}
	rect := image.Rect(0, 0, 40, 40)
	f := taken(wall(rect, 2), rng, 0)
	was := f.Picture.Crop(rect)
	applied(MeasureGain(cellsOf(f.Picture, raster.NewPlane(rect)), cellsOf(f.Picture, f.Counts), 20), f.Picture)
	assert.Equal(t, was.Pix, f.Picture.Pix, "nothing can be compared")

	for _, side := range []int{1, 2, 3, 5, 9} { // whatever its size and the scale, it comes to an end
		rect := image.Rect(3, 4, 3+side, 4+side/2+1)
		f := taken(wall(rect, 2), rng, 0)
		own := cellsOf(f.Picture, f.Counts)
		for _, scale := range []float64{0, 1, 500} {
			applied(MeasureGain(own, own, scale), f.Picture)
		}
	}
}

func TestMedianAgainstSorting(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	for range 2000 {
		v := make([]float32, 1+rng.IntN(40))
		for i := range v {
			v[i] = float32(rng.IntN(12)) // many are equal
		}
		sorted := slices.Sorted(slices.Values(v))
		n := len(v)
		assert.Equal(t, (sorted[(n-1)/2]+sorted[n/2])/2, median(v))
	}
}

// A line of a gain, by its definition: between the middles of the four cells around, the last ones going on.
func TestARowOfAGain(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 1))
	for range 200 {
		x, y := rng.IntN(9)-4, rng.IntN(9)-4
		grid := raster.NewImage(image.Rect(x, y, x+1+rng.IntN(6), y+1+rng.IntN(6)))
		for i := range grid.Pix {
			grid.Pix[i] = rng.Float32()
		}
		at := func(u, v float64, c int) float64 {
			mix := func(p float64) (int, float64) { return int(math.Floor(p)), p - math.Floor(p) }
			i, a := mix(u/Cell - 0.5)
			j, b := mix(v/Cell - 0.5)
			cell := func(i, j int) float64 {
				i = min(max(i, grid.Rect.Min.X), grid.Rect.Max.X-1)
				j = min(max(j, grid.Rect.Min.Y), grid.Rect.Max.Y-1)
				return float64(grid.At(i, j)[c])
			}
			return (1-b)*((1-a)*cell(i, j)+a*cell(i+1, j)) + b*((1-a)*cell(i, j+1)+a*cell(i+1, j+1))
		}
		x0 := grid.Rect.Min.X*Cell - 10 + rng.IntN(30)
		x1 := x0 + 1 + rng.IntN(50)
		line := grid.Rect.Min.Y*Cell - 10 + rng.IntN(60)
		into := make([]float32, 3*(x1-x0))
		(&Gain{grid}).Row(line, x0, x1, into)
		for i, got := range into {
			require.InDelta(t, at(float64(x0+i/3)+0.5, float64(line)+0.5, i%3), got, 1e-5)
		}
	}
}

// How much grain an average has left: that of one frame but for what carrying it takes, less by the root of how many there
// are; what is left out does not count, and unequal weights leave more.
func TestGrainThatIsLeft(t *testing.T) {
	of := func(weights ...float32) float32 {
		s := NewStack(image.Rect(0, 0, 1, 1), 20)
		for i, w := range weights {
			v := float32(0.3) + 0.001*float32(i%2)
			if w < 0 { // something passes over
				v, w = 0.9, -w
			}
			s.Add(0, 0, [3]float32{v, v, v}, w)
		}
		return s.Mean(0.01).Grain.At(0, 0)
	}
	one := of(1)
	assert.InDelta(t, 0.9, one, 0.05)
	for _, n := range []int{3, 4, 9, 16} {
		weights := make([]float32, n)
		for i := range weights {
			weights[i] = 0.7
		}
		assert.InDelta(t, float64(one)/math.Sqrt(float64(n)), of(weights...), 1e-5)
		assert.InDelta(t, float64(one)/math.Sqrt(float64(n)), of(append(weights, -0.7)...), 1e-5)
	}
	assert.InDelta(t, float64(one)*math.Sqrt(4+1+1)/4, of(2, 1, 1), 1e-5)
}
