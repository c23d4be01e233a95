package render

import (
	"context"
	"fmt"
	"image"
	"math"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/check"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// passing is a surface that moves, with grain of its own on each frame, and a disc that
// crosses it: what it covers is seen on other frames.
type passing struct {
	clean, grain bool // without the disc; with grain, another one than the plate's where clean
	lit          bool // light changes over time, and from left to right
}

const passes = 24

var ground = func() *raster.Image {
	rng := rand.New(rand.NewPCG(3, 3))
	m := raster.NewImage(image.Rect(0, 0, 360, 240))
	for i := range m.Pix {
		m.Pix[i] = rng.Float32()
	}
	m = raster.GaussianImage(m, 2)
	for i := range m.Pix {
		m.Pix[i] = 0.2 + 2*(m.Pix[i]-0.5)*0.5
		if i%4 == 3 {
			m.Pix[i] = 1
		}
	}
	return m
}()

func crossing(n int) geom.Point {
	h := drifting(n)
	return h.Apply(geom.Pt(80+7*float64(n), 90+float64(n)))
}
func drifting(n int) geom.Homography {
	return geom.Placement(
		geom.Pt(160, 100),
		geom.Pt(1.3*float64(n), -0.6*float64(n)),
		0.15*float64(n),
		geom.Pt(1+0.002*float64(n), 1+0.002*float64(n)),
	)
}

func (passing) Size() image.Rectangle { return image.Rect(0, 0, 320, 200) }
func (p passing) Key() string         { return fmt.Sprint("passing ", p) }
func (passing) White() float32        { return 1 }
func (passing) Has(int) bool          { return true }
func (p passing) Linear(_ context.Context, n int, rect image.Rectangle) (*raster.Image, error) {
	made, _ := passed.LoadOrStore([2]any{p, n}, sync.OnceValue(func() *raster.Image { return p.frame(n) }))
	return made.(func() *raster.Image)().Crop(rect), nil
}

// passed are frames that were made before.
var passed sync.Map

func (p passing) frame(n int) *raster.Image {
	h := drifting(n)
	back, _ := h.Inverse()
	m := raster.Warp(ground, geom.Translation(geom.Pt(20, 20)).Mul(back), p.Size())
	seed := uint64(n)
	if p.clean {
		seed += 1000
	}
	rng := rand.New(rand.NewPCG(seed, 5))
	at := crossing(n)
	for y := range 200 {
		for x := range 320 {
			v := m.Row(y, x, x+1)
			if !p.clean {
				k := float32(math.Min(math.Max(18.5-geom.Pt(float64(x)+0.5, float64(y)+0.5).Dist(at), 0), 1))
				for c := range 3 {
					v[c] += (0.02 - v[c]) * k
				}
			}
			if p.lit {
				k := float32(1 + 0.25*math.Sin(float64(n)/4) + 0.0006*float64(n)*float64(x-160)/8)
				v[0], v[1], v[2] = v[0]*k, v[1]*k, v[2]*k
			}
			for c := range 3 {
				if p.grain {
					v[c] = max(v[c]+0.012*float32(rng.NormFloat64()), 0)
				}
			}
			v[3] = 1
		}
	}
	return m
}

// whatPasses is a treatment that takes the disc away, by one source, with an outline keyed on every
// frame.
func whatPasses(held int, source treatment.Source) *treatment.Document {
	d := treatment.New()
	data := &treatment.Data{}
	home, _ := drifting(held).Inverse()
	outline := treatment.Shape{ID: "o", Kind: treatment.Outline, Home: held, Feather: 2, Ride: treatment.Still}
	for n := range passes {
		data.Samples = append(data.Samples, treatment.Sample{Frame: n, Matrix: drifting(n).Mul(home).Normalised()})
		var knots []treatment.Knot
		for k := range 12 {
			p := crossing(n).Add(geom.Pt(math.Cos(float64(k)*math.Pi/6), math.Sin(float64(k)*math.Pi/6)).Mul(23))
			knots = append(knots, treatment.Knot{At: treatment.Vec{p.X, p.Y}})
		}
		outline.Points = knots
		outline.Keys = append(outline.Keys, treatment.ShapeKey{Frame: n, Ease: treatment.Linear, Points: knots})
	}
	d.Tracks = []treatment.Track{
		{ID: "t", Kind: treatment.GivenTrack, Home: held, Motion: geom.Perspective, Data: data},
	}
	d.Removals = []treatment.Removal{{
		ID: "r", Range: treatment.Range{First: 0, Last: passes - 1}, Reference: held,
		Mark:   treatment.Mark{Outlines: []treatment.Shape{outline}},
		Follow: treatment.Follow{Track: "t"}, Settle: treatment.Settle{Opacity: 1},
		Fill: treatment.Fill{Sources: []treatment.Source{source}},
	}}
	return d
}

// measuredOn renders a treatment of what passes and measures the disc's place against the truth.
func measuredOn(t *testing.T, plate passing, d *treatment.Document, held int) check.Report {
	t.Helper()
	ctx := context.Background()
	home, _ := drifting(held).Inverse()
	e := &Evaluator{Plate: plate, Cache: memo.New(1 << 27)}
	c := compile(t, d)
	codes := func(m *raster.Image) *raster.Image { // as sRGB codes, for which the measures are meant
		out := m.Crop(m.Rect)
		for i := range out.Pix {
			if i%4 != 3 {
				out.Pix[i] = 255 * float32(math.Sqrt(float64(max(out.Pix[i], 0))))
			}
		}
		return out
	}
	var takes []check.Take
	var first *raster.Plane
	for n := range passes {
		at := crossing(n)
		matte := raster.NewPlane(raster.Around(geom.Box{Min: at, Max: at}, 20, plate.Size()))
		for y := matte.Rect.Min.Y; y < matte.Rect.Max.Y; y++ {
			for x := matte.Rect.Min.X; x < matte.Rect.Max.X; x++ {
				if geom.Pt(float64(x)+0.5, float64(y)+0.5).Dist(at) < 19 {
					matte.Row(y, x, x+1)[0] = 1
				}
			}
		}
		area := matte.Rect.Inset(-12).Intersect(plate.Size())
		result, err := e.Frame(ctx, c, n, ResultView, "")
		require.NoError(t, err)
		frame, _ := plate.Linear(ctx, n, area)
		for y := result.Rect.Min.Y; y < result.Rect.Max.Y; y++ {
			for x := result.Rect.Min.X; x < result.Rect.Max.X; x++ {
				if v := result.At(x, y); v[3] > 0 {
					frame.Set(x, y, v)
				}
			}
		}
		truth, _ := passing{clean: true, grain: true, lit: plate.lit}.Linear(ctx, n, area)
		clean, _ := passing{clean: true, lit: plate.lit}.Linear(ctx, n, area)
		motion := drifting(n).Mul(home)
		takes = append(
			takes,
			check.Take{
				Frame:  n,
				Result: codes(frame).Crop(area),
				Truth:  codes(truth).Crop(area),
				Clean:  codes(clean).Crop(area),
				Matte:  matte,
				Motion: motion.Apply,
			},
		)
		if n == held {
			first = matte
		}
	}
	return check.Measure(takes, first)
}

func reportOf(t *testing.T, what string, r check.Report) {
	t.Logf(
		"%s: invisibility %.2f (worst %.2f on %d), seam %.2f, grain %.2f %.2f %.2f, steadiness %.2f",
		what,
		r.Invisibility.All,
		r.Invisibility.Worst,
		r.Invisibility.Frame,
		r.Seam.All,
		r.Grain[0].All,
		r.Grain[1].All,
		r.Grain[2].All,
		r.Steadiness.All,
	)
}

// A disc that passes over a background is removed by one clean plate: a whole frame, and
// on it the place of the disc on loan from another frame.
func TestALoanForWhatPassesBy(t *testing.T) {
	const held, lent = 4, 20
	at := crossing(held)
	from := lent
	loan := treatment.Stroke{
		ID:       "l",
		Mode:     "clone",
		Home:     held,
		Size:     56,
		Hardness: 0.9,
		Opacity:  1,
		From:     &treatment.From{Frame: &from},
		Path:     &treatment.Path{Points: [][]float64{{at.X, at.Y}}},
	}
	r := measuredOn(t, passing{grain: true}, whatPasses(held, treatment.Source{
		ID:    "p",
		Kind:  treatment.HeldPlate,
		Plate: &treatment.Plate{Frame: held, Whole: true, Strokes: []treatment.Stroke{loan}},
	}), held)
	reportOf(t, "by a loan", r)
	assert.LessOrEqual(t, r.Invisibility.All, 1.2)
	assert.InDelta(t, 1, r.Grain[1].All, 0.2)
}

// The same disc, from the frames around: made anew on every frame, while light changes, and once
// for all. An average has hardly any grain of its own, and none is laid here: less than a second
// take's error is left, 1/sqrt(2) of it for a perfect one without grain.
func TestWhatPassesByIsGatheredThroughTime(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	const held = 4
	for name, c := range map[string]struct {
		plate  passing
		source treatment.Gathering
		most   float64
	}{
		"live":        {passing{grain: true}, treatment.Gathering{Live: true, Over: 12}, 0.76},
		"live, light": {passing{grain: true, lit: true}, treatment.Gathering{Live: true, Over: 12, Scale: 20}, 0.77},
		"held":        {passing{grain: true}, treatment.Gathering{Frame: held, Over: 23}, 0.76},
		"live, by another track": {
			passing{grain: true}, treatment.Gathering{Live: true, Over: 12, Track: "t"}, 0.76,
		},
		"held, by another track": {
			passing{grain: true}, treatment.Gathering{Frame: held, Over: 23, Track: "t"}, 0.76,
		},
		"held, light": {passing{grain: true, lit: true}, treatment.Gathering{Frame: held, Over: 23}, 0.76},
		// With grain of its own on each frame it is a second take, but for interpolation.
		"as seen": {passing{grain: true}, treatment.Gathering{Live: true, AsSeen: true, Over: 12}, 1.0},
		"as seen, light": {
			passing{grain: true, lit: true}, treatment.Gathering{Live: true, AsSeen: true, Over: 12, Scale: 20}, 1.03,
		},
	} {
		t.Run(name, func(t *testing.T) {
			source := treatment.Source{ID: "g", Kind: treatment.Gathered, Gathered: &c.source}
			d := whatPasses(held, source)
			if c.source.Track != "" { // the removal itself rides on nothing that is known elsewhere
				d.Removals[0].Follow.Track = "u"
				d.Tracks = append(d.Tracks, treatment.Track{
					ID: "u", Kind: treatment.GivenTrack, Home: held, Motion: geom.Perspective,
					Data: &treatment.Data{Samples: []treatment.Sample{{Frame: held, Matrix: geom.Identity}}},
				})
			}
			if c.plate.lit && !c.source.Live {
				d.Removals[0].Settle.Light = &treatment.Light{Scale: 20, Strength: 1}
			}
			r := measuredOn(t, c.plate, d, held)
			reportOf(t, name, r)
			assert.LessOrEqual(t, r.Invisibility.All, c.most)
			assert.InDelta(t, 1, r.Seam.All, 0.12)
		})
	}
}

// What no frame shows is left to what lies below, and is told: nothing of the disc's place is seen
// when only its neighbours in time are looked at, and more of it the more there are.
func TestWhatWasNeverSeenIsTold(t *testing.T) {
	ctx := context.Background()
	e := &Evaluator{Plate: passing{}, Cache: memo.New(1 << 27)}
	last := 0
	hidden := map[int]*raster.Plane{} // by frame
	for over := 1; over <= 10; over++ {
		source := treatment.Source{ID: "g", Kind: treatment.Gathered, Gathered: &treatment.Gathering{Live: true,
			Over: over}}
		c := compile(t, whatPasses(4, source))
		share, err := e.Seen(ctx, c, "r", "g", 12, false)
		require.NoError(t, err)
		// By hand: where no other frame's disc, as it lies there, leaves a marked place free.
		seen, all := 0, 0
		matte, err := e.Matte(ctx, c, "r", 12)
		require.NoError(t, err)
		for y := matte.Rect.Min.Y; y < matte.Rect.Max.Y; y++ {
			for x := matte.Rect.Min.X; x < matte.Rect.Max.X; x++ {
				if matte.At(x, y) <= 0.5 {
					continue
				}
				all++
				for k := 12 - over; k <= 12+over; k++ {
					m := c.motions.Mapping("t", 12, k)
					q := m.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))
					if hidden[k] == nil {
						hidden[k], _, err = c.removal("r").occluders(k, false).marked(ctx, e, e.Plate.Size())
						require.NoError(t, err)
					}
					if hidden[k].At(int(math.Floor(q.X)), int(math.Floor(q.Y))) == 0 {
						seen++
						break
					}
				}
			}
			if over != 1 && over != 4 {
				break // by hand it takes long
			}
		}
		if over == 1 || over == 4 {
			assert.Equal(t, all, share.All)
			assert.InDelta(t, seen, share.Seen, 0.005*float64(all))
		}
		assert.GreaterOrEqual(t, share.Seen, last)
		last = share.Seen
		if share.Seen < share.All {
			patch, err := e.Frame(ctx, c, 12, PatchView, "r")
			require.NoError(t, err)
			at := crossing(12)
			if over < 3 {
				assert.Zero(t, patch.At(int(at.X), int(at.Y))[3], "its middle is never seen")
			}
		}
	}
	assert.Greater(t, last, 0)
}

// What changes slowly by itself comes along when it is made on every frame: the nearest frames weigh
// most. The grain that is told apart from it is that of the removal's own model.
func TestNearFramesWeighMost(t *testing.T) {
	source := treatment.Source{ID: "g", Kind: treatment.Gathered, Gathered: &treatment.Gathering{Live: true, Over: 10}}
	d := whatPasses(4, source)
	model := &treatment.GrainModel{Light: []float64{0.1, 0.3, 0.8}, Shape: [3][]float64{{1}, {1}, {1}}}
	for c := range model.Sigma {
		model.Sigma[c] = []float64{0.02, 0.03, 0.04}
	}
	d.Removals[0].Settle.Grain = &treatment.Grain{Model: model}
	r := compile(t, d).removal("r")
	in := r.clean(r.sources[0].Gathered, 12).Value
	require.Len(t, in.Around, 20)
	for i, f := range in.Around {
		far := math.Abs(float64(f.Frame - 12))
		assert.InDelta(t, math.Exp(-far*far*2/121), in.Weight[i], 1e-9)
	}
	m := grainOf(model)
	assert.InDelta(t, m.At(1, 0.3)/(2*math.Sqrt(0.3)), in.Noise, 1e-12)

	source.Gathered.Over = 200 // of many frames every so many, as far as ever
	d = whatPasses(4, source)
	r = compile(t, d).removal("r")
	in = r.clean(r.sources[0].Gathered, 12).Value
	for _, f := range in.Around {
		assert.Zero(t, (f.Frame-12)%5)
	}
	assert.Len(t, in.Around, 4)
}
