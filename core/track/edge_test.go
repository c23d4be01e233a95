package track

import (
	"encoding/json"
	"errors"
	"image"
	"math"
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// coloured returns a photograph's colours from 0 to 1, as they are seen.
func coloured(t testing.TB, name string) *raster.Image {
	f, err := os.Open(photographs + name)
	require.NoError(t, err)
	defer f.Close()
	m, _, err := image.Decode(f)
	require.NoError(t, err)
	p := raster.NewImage(m.Bounds().Sub(m.Bounds().Min))
	for y := range p.Rect.Max.Y {
		for x := range p.Rect.Max.X {
			r, g, b, _ := m.At(x+m.Bounds().Min.X, y+m.Bounds().Min.Y).RGBA()
			i := 4 * (y*p.Rect.Max.X + x)
			p.Pix[i], p.Pix[i+1], p.Pix[i+2], p.Pix[i+3] = float32(r)/65535, float32(g)/65535, float32(b)/65535, 1
		}
	}
	return p
}

// A crossing is something cut out of one photograph that goes over another, its outline on the first, and where that is on each.
type crossing struct {
	frames []*raster.Image
	knots  []geom.Knot
	truth  [][]geom.Point
	path   func(i int) func(geom.Point) geom.Point
}

// blob is a smooth outline around a place.
func blob(rnd *rand.Rand, middle geom.Point, radius float64) []geom.Knot {
	const n = 8
	knots := make([]geom.Knot, n)
	for i := range knots {
		sin, cos := math.Sincos(2 * math.Pi * float64(i) / n)
		r := radius * (0.75 + 0.5*rnd.Float64())
		arm := geom.Pt(-sin, cos).Mul(r * 0.5523 / 2) // a circle's, of eight pieces
		knots[i] = geom.Knot{At: middle.Add(geom.Pt(cos, sin).Mul(r)), In: arm.Mul(-1), Out: arm}
	}
	return knots
}

// across makes a crossing of n frames: path takes places of the thing on the first frame to where they are on a later one.
func across(front, back *raster.Image, knots []geom.Knot, n int, size image.Rectangle, noise float64, path func(i int) func(geom.Point) geom.Point) *crossing {
	c := &crossing{knots: knots, path: path}
	rnd := rand.New(rand.NewPCG(uint64(n), 7))
	home := geom.Flatten(knots, 0.1)
	for i := range n {
		there := path(i)
		poly := make([]geom.Point, len(home))
		for k, p := range home {
			poly[k] = there(p)
		}
		box := geom.Bounds(poly)
		m := raster.NewImage(size)
		raster.Rows(size.Min.Y, size.Max.Y, func(y int) {
			for x := size.Min.X; x < size.Max.X; x++ {
				o := 4 * (y*size.Dx() + x)
				b := back.Bicubic(float64(x)+40.5+1.5*float64(i), float64(y)+30.5)
				in := 0.0
				middle := geom.Pt(float64(x)+0.5, float64(y)+0.5)
				if middle.X > box.Min.X-2 && middle.X < box.Max.X+2 && middle.Y > box.Min.Y-2 && middle.Y < box.Max.Y+2 {
					const sub = 4
					sides := 0
					for _, d := range []geom.Point{{X: -.7, Y: -.7}, {X: .7, Y: -.7}, {X: -.7, Y: .7}, {X: .7, Y: .7}} {
						if geom.Inside(poly, middle.Add(d)) {
							sides++
						}
					}
					in = float64(sides) / 4
					if sides == 1 || sides == 2 || sides == 3 {
						in = 0
						for j := range sub * sub {
							q := geom.Pt(float64(x)+(float64(j%sub)+0.5)/sub, float64(y)+(float64(j/sub)+0.5)/sub)
							if geom.Inside(poly, q) {
								in += 1.0 / (sub * sub)
							}
						}
					}
				}
				var f [4]float32
				if in > 0 {
					p := middle
					for range 12 { // the way back, by coming closer
						p = p.Add(middle.Sub(there(p)))
					}
					f = front.Bicubic(p.X, p.Y)
				}
				for k := range 3 { // light adds up, not its square root
					light := in*float64(f[k]*f[k]) + (1-in)*float64(b[k]*b[k])
					m.Pix[o+k] = float32(math.Sqrt(math.Max(light, 0)))
				}
				m.Pix[o+3] = 1
			}
		})
		for k := range m.Pix {
			if k%4 != 3 {
				m.Pix[k] += float32(rnd.NormFloat64() * noise)
			}
		}
		c.frames, c.truth = append(c.frames, m), append(c.truth, poly)
	}
	return c
}

// distances tells how far each place of an outline lies outside of the true one, pixels.
func distances(found []geom.Knot, poly []geom.Point) (out []float64) {
	for _, s := range geom.Trace(found, true, 1) {
		best := math.Inf(1)
		for i := range poly {
			a, b := poly[i], poly[(i+1)%len(poly)]
			ab := b.Sub(a)
			u := 0.0
			if l := ab.X*ab.X + ab.Y*ab.Y; l > 0 {
				d := s.At.Sub(a)
				u = math.Min(math.Max((d.X*ab.X+d.Y*ab.Y)/l, 0), 1)
			}
			best = math.Min(best, s.At.Sub(a.Lerp(b, u)).Len())
		}
		if geom.Inside(poly, s.At) {
			best = -best
		}
		out = append(out, best)
	}
	return out
}

// crossingOf makes one at random: a thing cut from a photograph goes over another, turns, grows, and bends by so many pixels.
func crossingOf(t testing.TB, k, v, frames int, bend float64) *crossing {
	pairs := [][2]string{{"baboon.jpg", "graf1.png"}, {"butterfly.jpg", "baboon.jpg"}, {"fruits.jpg", "home.jpg"}, {"graf1.png", "fruits.jpg"}, {"home.jpg", "messi5.jpg"}}
	pair := pairs[k%len(pairs)]
	rnd := rand.New(rand.NewPCG(uint64(k), uint64(v)))
	front, back := coloured(t, pair[0]), coloured(t, pair[1])
	middle := geom.Pt(190+60*rnd.Float64(), 150+40*rnd.Float64())
	knots := blob(rnd, middle, 40+40*rnd.Float64())
	dx, dy, turn, grow := 4*rnd.Float64()-2, 3*rnd.Float64()-1.5, rnd.Float64()-.5, 0.004*(rnd.Float64()-.5)
	return across(front, back, knots, frames, image.Rect(0, 0, 460, 360), 0.01, func(i int) func(geom.Point) geom.Point {
		u := float64(i)
		h := geom.Placement(middle, geom.Pt(dx*u, dy*u), turn*u*2, geom.Pt(1+grow*u, 1+grow*u))
		by := bend * math.Sin(u/7)
		return func(p geom.Point) geom.Point {
			q := h.Apply(p)
			return q.Add(geom.Pt(by*math.Sin((p.Y-middle.Y)/40), by*math.Sin((p.X-middle.X)/50)))
		}
	})
}

// Outlines drawn once go along with things that cross others, turn, grow and bend, keep to their edges and keep their size;
// and what slips is doubted. "make bench" follows all of them, "make test" a few.
func TestAnOutlineFollowsItsEdge(t *testing.T) {
	shareOf(t, 1)
	bends, most, frames := []float64{0, 8}, 2, 10
	if bench() {
		bends, most, frames = []float64{0, 6, 14}, 3, 24
	}
	var mean, size, count, slipped, caught, right, wrongly float64
	for _, bend := range bends {
		for pair := range 5 {
			for seed := range most {
				if !bench() && (pair+seed+int(bend))%5 != 0 {
					continue
				}
				c := crossingOf(t, pair, seed, frames, bend)
				e, err := NewEdge(c.frames[0], c.knots, c.frames[0].Rect)
				require.NoError(t, err)
				off, worst, n := 0.0, 0.0, 0.0
				for i := 1; i < len(c.frames); i++ {
					found, err := e.Next(c.frames[i-1], c.frames[i])
					if errors.Is(err, ErrStrays) {
						t.Logf("stopped on frame %d", i)
						break
					}
					require.NoError(t, err)
					sum, most := 0.0, 0.0
					d := distances(found.Knots, c.truth[i])
					for _, v := range d {
						sum, most = sum+v*v, math.Max(most, math.Abs(v))
					}
					off += math.Sqrt(sum / float64(len(d)))
					n++
					worst = math.Max(worst, most)
					size += math.Abs(geom.Area(geom.Flatten(found.Knots, 0.1))/geom.Area(c.truth[i]) - 1)
					count++
					doubted := 0.0
					if found.Doubt != "" {
						doubted = 1
					}
					switch {
					case most > 3:
						slipped, caught = slipped+1, caught+doubted
					case most < 1:
						right, wrongly = right+1, wrongly+doubted
					}
				}
				mean += off
				t.Logf("bends by %v, photographs %d, seed %d: %.2f px RMS, at worst %.1f", bend, pair, seed, off/n, worst)
			}
		}
	}
	t.Logf("%.2f px RMS, size off by %.2f %%; over 3 px somewhere on %v of %v frames, %v of them doubted; within 1 px on %v, %v of them doubted",
		mean/count, 100*size/count, slipped, count, caught, right, wrongly)
	assert.LessOrEqual(t, mean/count, 0.5)
	assert.LessOrEqual(t, size/count, 0.008)
	assert.LessOrEqual(t, wrongly/right, 0.05)
	assert.LessOrEqual(t, slipped/count, 0.03)
}

// An outline that is read back from where it was kept goes on as if nothing had happened.
func TestAnOutlineGoesOn(t *testing.T) {
	c := crossingOf(t, 2, 1, 5, 8)
	e, err := NewEdge(c.frames[0], c.knots, c.frames[0].Rect)
	require.NoError(t, err)
	for i := 1; i < 4; i++ {
		_, err := e.Next(c.frames[i-1], c.frames[i])
		require.NoError(t, err)
	}
	kept, err := json.Marshal(e)
	require.NoError(t, err)
	var again Edge
	require.NoError(t, json.Unmarshal(kept, &again))
	again.Return(c.frames[0], c.frames[0].Rect)
	a, err := e.Next(c.frames[3], c.frames[4])
	require.NoError(t, err)
	b, err := again.Next(c.frames[3], c.frames[4])
	require.NoError(t, err)
	assert.Equal(t, a, b)
}

// What an outline is drawn around turns into its surroundings: following stops, in words; and a polygon that crosses itself is
// told from one that does not.
func TestAnOutlineStops(t *testing.T) {
	c := crossingOf(t, 2, 0, 1, 0)
	e, err := NewEdge(c.frames[0], c.knots, c.frames[0].Rect)
	require.NoError(t, err)
	plain := raster.NewImage(c.frames[0].Rect)
	for i := range plain.Pix {
		plain.Pix[i] = 0.3
	}
	_, err = e.Next(c.frames[0], plain)
	require.Error(t, err)

	box := []geom.Point{{X: 0, Y: 0}, {X: 10, Y: 0}, {X: 10, Y: 10}, {X: 0, Y: 10}}
	assert.False(t, folded(box))
	box[0], box[1] = box[1], box[0]
	assert.True(t, folded(box))
	star := make([]geom.Point, 0, 40)
	for i := range 40 {
		sin, cos := math.Sincos(2 * math.Pi * float64(i) / 40)
		star = append(star, geom.Pt(cos, sin).Mul(30+10*float64(i%2)))
	}
	assert.False(t, folded(star))
}

// Where an outline goes astray for some frames, against what lies inside it, following stops, soon after it began to.
func TestAnOutlineThatGoesAstrayStops(t *testing.T) {
	shareOf(t, 4)
	c := crossingOf(t, 0, 1, 24, 8)
	e, err := NewEdge(c.frames[0], c.knots, c.frames[0].Rect)
	require.NoError(t, err)
	off, doubted := 0, 0
	for i := 1; i < len(c.frames); i++ {
		found, err := e.Next(c.frames[i-1], c.frames[i])
		if err != nil {
			require.ErrorIs(t, err, ErrStrays)
			t.Logf("stops on frame %d, after %d frames on which it was over 3 px off, %d of them doubted", i, off, doubted)
			assert.Less(t, off, 5)
			assert.Positive(t, doubted)
			return
		}
		most := 0.0
		for _, v := range distances(found.Knots, c.truth[i]) {
			most = math.Max(most, math.Abs(v))
		}
		if most > 3 {
			off++
			if found.Doubt != "" {
				doubted++
			}
		}
	}
	t.Error("it did not stop")
}

// Patches of the rim are found where they went, also on what bends, and hold the contour; on tiles there are none.
func TestPatchesOfTheRimHoldAnOutline(t *testing.T) {
	shareOf(t, 3)
	c := crossingOf(t, 2, 2, 8, 14)
	e, err := NewEdge(c.frames[0], c.knots, c.frames[0].Rect)
	require.NoError(t, err)
	require.Greater(t, len(e.Stays), 4)
	for i := 1; i < len(c.frames); i++ {
		_, err := e.Next(c.frames[i-1], c.frames[i])
		require.NoError(t, err)
	}
	found := 0
	for _, s := range e.Stays {
		if s.Match < stayMatch {
			continue
		}
		found++
		assert.Less(t, s.At.Dist(c.path(7)(s.Home)), 0.5)
	}
	assert.Greater(t, found, len(e.Stays)/2)
	samples := along(e.Knots)
	known := 0
	for _, h := range e.held(samples, moves{}) {
		if h.known {
			known++
			assert.Less(t, math.Abs(h.at), 3.0)
		}
	}
	assert.Greater(t, known, len(samples)/4, "they hold it without the inside as a whole")

	s := tiles(1, 20, 0)
	p, err := NewPoint(show(s.frames[0]), s.frames[0].Rect, geom.Pt(300, 250), PointOptions{
		Pattern: geom.Pt(19, 19), Search: geom.Pt(61, 61), Motion: geom.Position, Against: Reference, Tolerance: 0.7,
	})
	require.NoError(t, err)
	assert.Greater(t, p.repeats(20, 30), float32(0.9))
	rough := photograph(t, "baboon.jpg")
	p, err = NewPoint(show(rough), rough.Rect, geom.Pt(100, 250), PointOptions{
		Pattern: geom.Pt(19, 19), Search: geom.Pt(61, 61), Motion: geom.Position, Against: Reference, Tolerance: 0.7,
	})
	require.NoError(t, err)
	assert.Less(t, p.repeats(3, 30), float32(0.75))
}

// A contour is graded by its worst stretch: one that goes from where it is held, that moved by itself, or that parts nothing.
func TestWhatAnOutlineIsDoubtedFor(t *testing.T) {
	const n = 60
	leans, holds, off := make([]leaning, n), make([]hold, n), make([]float64, n)
	for i := range leans {
		for k := range leans[i] {
			leans[i][k] = 3
			if float64(k)*edgeStep-edgeReach-edgeTail > 0 {
				leans[i][k] = -3
			}
		}
		holds[i] = hold{0, 0.1, true}
	}
	shut := make([]bool, n/2) // by another number of samples
	for i := range shut {
		shut[i] = true
	}
	assert.Empty(t, graded(leans, holds, off, shut, true).Doubt)
	for i := 20; i < 32; i++ {
		holds[i].at = 2.5
	}
	assert.Equal(t, Slips, graded(leans, holds, off, shut, true).Doubt)
	for i := range holds {
		holds[i].at, holds[i].known = 0, false
	}
	for i := 20; i < 32; i++ {
		off[i] = 2.5
		for k := range leans[i] { // the edge is there, where it moved to
			leans[i][k] = 3
			if float64(k)*edgeStep-edgeReach-edgeTail > 2.5 {
				leans[i][k] = -3
			}
		}
	}
	assert.Equal(t, Leaps, graded(leans, holds, off, shut, true).Doubt)
	assert.Empty(t, graded(leans, holds, off, shut, false).Doubt, "nothing is known of how the inside went as a whole")
	clear(off)
	for i := 20; i < 32; i++ {
		leans[i] = leaning{}
	}
	assert.Equal(t, Faint, graded(leans, holds, off, shut, true).Doubt)
	for i := 8; i < 18; i++ {
		shut[i] = false
	}
	assert.Empty(t, graded(leans, holds, off, shut, true).Doubt, "there it only closes itself")
}

// What goes far is still held against where it was drawn, though only what lies around it is read of each frame.
func TestAnOutlineThatGoesFar(t *testing.T) {
	shareOf(t, 3)
	middle := geom.Pt(90, 150)
	knots := blob(rand.New(rand.NewPCG(4, 4)), middle, 50)
	size := image.Rect(0, 0, 560, 300)
	c := across(coloured(t, "baboon.jpg"), coloured(t, "fruits.jpg"), knots, 20, size, 0.01, func(i int) func(geom.Point) geom.Point {
		h := geom.Translation(geom.Pt(14*float64(i), 0))
		return h.Apply
	})
	around := func(i int, knots []geom.Knot) *raster.Image {
		return c.frames[i].Crop(raster.Around(geom.Bounds(geom.Flatten(knots, 1)), 140, size))
	}
	e, err := NewEdge(around(0, c.knots), c.knots, size)
	require.NoError(t, err)
	require.Greater(t, len(e.Stays), 4)
	for i := 1; i < len(c.frames); i++ {
		_, err := e.Next(around(i-1, e.Knots), around(i, e.Knots))
		require.NoError(t, err, "frame %d", i)
	}
	found := 0
	for _, s := range e.Stays {
		if s.Match >= stayMatch {
			found++
		}
	}
	t.Logf("%d of %d patches are found after 266 px", found, len(e.Stays))
	assert.Greater(t, found, len(e.Stays)/2)
}
