package gather

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/raster"
)

// A cheapest cut against trying all of them, on graphs by chance.
func TestCutAgainstAllCuts(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 5))
	for range 3000 {
		n := 2 + rng.IntN(9)
		type edge struct {
			a, b        int
			there, back float32
		}
		var edges []edge
		from, to := make([]float32, n), make([]float32, n)
		capacity := func() float32 { return float32(max(rng.IntN(9)-2, 0)) }
		for i := range n {
			from[i], to[i] = capacity(), capacity()
		}
		for range rng.IntN(3 * n) {
			if a, b := rng.IntN(n), rng.IntN(n); a != b {
				edges = append(edges, edge{a, b, capacity(), capacity()})
			}
		}
		costs := func(onSource func(i int) bool) (sum float32) {
			for i := range n {
				if onSource(i) {
					sum += to[i]
				} else {
					sum += from[i]
				}
			}
			for _, e := range edges {
				switch a, b := onSource(e.a), onSource(e.b); {
				case a && !b:
					sum += e.there
				case b && !a:
					sum += e.back
				}
			}
			return sum
		}
		g := newNetwork(n, len(edges))
		for i := range n {
			g.terminals(i, from[i], to[i])
		}
		for _, e := range edges {
			g.edge(e.a, e.b, e.there, e.back)
		}
		g.cut()
		best := float32(math.Inf(1))
		for sides := range 1 << n {
			best = min(best, costs(func(i int) bool { return sides>>i&1 == 1 }))
		}
		assert.Equal(t, best, costs(g.onSource))
	}
}

// The fewest frames by trying all choices: greedily no more than by the harmonic number of the
// places as many (Chvátal 1979), and all that can be shown is.
func TestCoverAgainstAllChoices(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 8))
	for range 500 {
		places, frames := 1+rng.IntN(70), 1+rng.IntN(8)
		shown, quality := make([]Bits, frames), make([]float64, frames)
		for k := range shown {
			shown[k], quality[k] = NewBits(places), 1
			for i := range places {
				if rng.IntN(3) == 0 {
					shown[k].Add(i)
				}
			}
		}
		union := func(which func(k int) bool) Bits {
			all := NewBits(places)
			for k := range shown {
				if which(k) {
					for i := range all {
						all[i] |= shown[k][i]
					}
				}
			}
			return all
		}
		all, fewest := union(func(int) bool { return true }), frames
		for sides := range 1 << frames {
			which, n := func(k int) bool { return sides>>k&1 == 1 }, 0
			for k := range frames {
				n += sides >> k & 1
			}
			if union(which).Count() == all.Count() {
				fewest = min(fewest, n)
			}
		}
		chosen, covered := Cover(shown, quality, frames)
		assert.Equal(t, all, covered)
		harmonic := 0.0
		for i := range places {
			harmonic += 1 / float64(i+1)
		}
		assert.LessOrEqual(t, float64(len(chosen)), math.Max(harmonic, 1)*float64(fewest))
		few, _ := Cover(shown, quality, 1)
		assert.LessOrEqual(t, len(few), 1)
		quality[0] = 0
		again, _ := Cover(shown, quality, frames)
		assert.NotContains(t, again, 0, "a frame of no worth is not taken")
	}
}

// grainOver takes frames of a wall, each of which shows a part.
func grainOver(truth *raster.Image, rng *rand.Rand, grain float32, shows ...func(x, y int) bool) []Frame {
	var out []Frame
	for _, f := range shows {
		one := taken(truth, rng, grain).Frame
		for y := truth.Rect.Min.Y; y < truth.Rect.Max.Y; y++ {
			for x := truth.Rect.Min.X; x < truth.Rect.Max.X; x++ {
				if !f(x, y) {
					one.Counts.Row(y, x, x+1)[0] = 0
					one.Picture.Set(x, y, [4]float32{1, 0, 1, 1})
				}
			}
		}
		out = append(out, one)
	}
	return out
}

// Of two frames the choice is the cheapest of all there are: every way of choosing on a few pixels is tried.
func TestJoinAgainstAllChoices(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 6))
	given := 0
	for range 60 {
		rect := image.Rect(0, 0, 4, 3)
		truth := wall(rect, rng.Uint64())
		frames := grainOver(truth, rng, 0.03*rng.Float32(),
			func(x, y int) bool { return true },
			func(x, y int) bool { return (x+y)%5 != 4 })
		for i := range frames { // something passes over at one side of either
			for y := range 3 {
				if rng.IntN(3) > 0 {
					frames[i].Picture.Set(3*i, y, [4]float32{0.9 * rng.Float32(), 0.9 * rng.Float32(), 0.4, 1})
				}
			}
		}
		j := newJoining(frames, truth, 0.02)
		for i := range j.labels { // from the first frame all cuts are within reach of one
			j.labels[i] = 0
		}
		j.expand(1)
		labels := append([]uint8(nil), j.labels...)
		got := j.cost()
		j.labels = Join(frames, truth, 0.02)
		assert.LessOrEqual(t, j.cost(), got+1e-3, "more rounds make it no worse")
		j.labels = labels
		best := math.Inf(1)
		for sides := range 1 << 12 {
			for i := range 12 {
				j.labels[i] = uint8(sides >> i & 1)
			}
			shown := true
			for i := range 12 {
				shown = shown && j.shows(j.labels[i], i)
			}
			if shown {
				best = math.Min(best, j.cost())
			}
		}
		assert.InDelta(t, best, got, 1e-3)
		for _, l := range labels {
			given += int(l)
		}
	}
	assert.Greater(t, given, 60, "both frames are taken")
}

// A place is taken from a frame that shows it, never from what passes over; frames are few, and
// seams run where frames are alike.
func TestJoinTakesWhatIsThere(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 1))
	rect := image.Rect(10, 20, 90, 80)
	truth := wall(rect, 7)
	const grain = 0.01
	frames := grainOver(truth, rng, grain,
		func(x, y int) bool { return x < 62 },
		func(x, y int) bool { return x >= 38 && (x < 80 || y < 70) },
		func(x, y int) bool { return y > 40 && (x < 80 || y < 70) })
	for y := 45; y < 58; y++ { // something passes over, unmarked, where two frames could be taken
		for x := 40; x < 56; x++ {
			frames[0].Picture.Set(x, y, [4]float32{0.9, 0.9, 0.9, 1})
		}
	}
	labels := Join(frames, truth, grain)
	w := rect.Dx()
	seams := 0
	for i, l := range labels {
		x, y := rect.Min.X+i%w, rect.Min.Y+i/w
		if x >= 80 && y >= 70 {
			assert.EqualValues(t, NoFrame, l, "nothing shows it")
			continue
		}
		assert.EqualValues(t, 1, frames[l].Counts.Pix[i])
		if x > rect.Min.X && labels[i-1] != l {
			seams++
		}
		if x >= 42 && x < 54 && y >= 47 && y < 56 {
			assert.NotEqualValues(t, 0, l, "what passes over is not taken")
		}
	}
	assert.Less(t, seams, 4*rect.Dy(), "no frame is taken for a few pixels here and there")
	assert.NotPanics(t, func() { Join(nil, truth, grain) })
}

// Detail that is blurred counts as less; grain counts as none.
func TestSharpness(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 3))
	rect := image.Rect(0, 0, 160, 120)
	truth := wall(rect, 5)
	detail := func(m *raster.Image) *raster.Image {
		g := NewGrid(m.Rect)
		g.Add(m, func(x, y int) bool { return x < 24 && y < 40 })
		return g.Detail
	}
	const grain = 0.02
	own := detail(taken(truth, rng, grain).Picture)
	assert.InDelta(t, 1, Sharpness(own, detail(taken(truth, rng, grain).Picture), grain), 0.06)
	last := 1.0
	for _, sigma := range []float64{1, 1.5, 2} {
		soft := Sharpness(own, detail(taken(raster.GaussianImage(truth, sigma), rng, grain).Picture), grain)
		assert.Less(t, soft, 0.8*last, sigma)
		last = soft
	}
	assert.Less(t, last, 0.2)
	flat := raster.NewImage(rect)
	for i := range flat.Pix {
		flat.Pix[i] = 0.3
	}
	assert.EqualValues(t, 1, Sharpness(detail(taken(flat, rng, grain).Picture), own, grain), "nothing to tell it by")
}
