package warp

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
)

// some returns a carrier of each kind, by chance.
func some(rng *rand.Rand) map[string]Mapping {
	real := func(a, b float64) float64 { return a + (b-a)*rng.Float64() }
	plane := func() geom.Homography {
		sin, cos := math.Sincos(real(-1, 1))
		k := real(0.6, 1.6)
		return geom.Homography{
			k * cos,
			-k * sin,
			real(-40, 40),
			k * sin,
			k * cos * real(0.8, 1.2),
			real(-40, 40),
			real(-3e-4, 3e-4),
			real(-3e-4, 3e-4),
			1,
		}
	}
	lattice := func() geom.Lattice {
		l := geom.Lattice{
			Box:     geom.Box{Min: geom.Pt(real(-20, 40), real(-20, 40)), Max: geom.Pt(real(150, 260), real(150, 260))},
			Columns: 1 + rng.IntN(4),
			Rows:    1 + rng.IntN(4),
		}
		for range (l.Columns + 1) * (l.Rows + 1) {
			l.Shift = append(l.Shift, geom.Pt(real(-6, 6), real(-6, 6)))
		}
		return l
	}
	bent, ok := NewBent(plane(), plane(), []geom.Lattice{lattice()}, []geom.Lattice{lattice(), lattice()})
	if !ok {
		panic("it can be inverted")
	}
	return map[string]Mapping{
		"plane":   Of(plane()),
		"bent":    bent,
		"chained": Chain(Of(plane()), bent, Of(plane()), Of(plane())),
	}
}

func near(t *testing.T, want, got geom.Point, within float64, words ...any) {
	t.Helper()
	assert.InDelta(t, 0, want.Dist(got), within, words...)
}

// What every carrier promises, by random ones of each kind.
func TestEveryCarrierKeepsItsPromises(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	rng := rand.New(rand.NewPCG(seed, 5))
	at := func() geom.Point { return geom.Pt(200*rng.Float64(), 200*rng.Float64()) }
	for range 60 {
		for name, m := range some(rng) {
			back, ok := m.Inverse()
			require.True(t, ok, name)
			a, b := at(), at()
			box := geom.Bounds([]geom.Point{a, b})
			around := m.Bounds(box)
			for range 20 {
				p := at()
				near(t, p, back.Apply(m.Apply(p)), 2e-2, "%s: there and back", name)
				q := m.Apply(geom.Pt(a.X+(b.X-a.X)*rng.Float64(), a.Y+(b.Y-a.Y)*rng.Float64()))
				// A box is looked at every 16 pixels of its edge.
				assert.True(
					t,
					q.X > around.Min.X-1 && q.X < around.Max.X+1 && q.Y > around.Min.Y-1 && q.Y < around.Max.Y+1,
					"%s: %v is not in %v",
					name,
					q,
					around,
				)
			}
			if h, plain := m.Homography(); plain {
				p := at()
				near(t, h.Apply(p), m.Apply(p), 1e-12, name)
				// The scale is the square root of how areas grow.
				const e = 1e-4
				u, v := m.Apply(p.Add(geom.Pt(e, 0))).Sub(m.Apply(p)), m.Apply(p.Add(geom.Pt(0, e))).Sub(m.Apply(p))
				assert.InEpsilon(t, math.Sqrt(math.Abs(u.X*v.Y-u.Y*v.X))/e, m.Scale(p), 1e-3, name)
			}
			one, err := memo.KeyOf(m)
			require.NoError(t, err, name)
			for other, x := range some(rng) {
				two, err := memo.KeyOf(x)
				require.NoError(t, err)
				assert.NotEqual(t, one, two, "%s and another %s", name, other)
			}
		}
	}
}

func TestAChainIsItsSteps(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	for range 40 {
		all := some(rng)
		steps := []Mapping{all["bent"], all["plane"], all["chained"], Of(geom.Identity), all["plane"]}
		rng.Shuffle(len(steps), func(i, j int) { steps[i], steps[j] = steps[j], steps[i] })
		whole := Chain(steps...)
		p := geom.Pt(150*rng.Float64(), 150*rng.Float64())
		want, scale := p, 1.0
		for _, s := range steps {
			scale *= s.Scale(want)
			want = s.Apply(want)
		}
		near(t, want, whole.Apply(p), 1e-6)
		assert.InEpsilon(t, scale, whole.Scale(p), 1e-6)
	}
	a := Of(geom.Homography{2, 0, 3, 0, 2, 1, 0, 0, 1})
	back, _ := a.Inverse()
	assert.True(t, IsIdentity(Chain(a, back)), "planes after each other become one, and there and back nothing")
	assert.True(t, IsIdentity(Chain()))
	h, plain := Chain(a, a).Homography()
	require.True(t, plain)
	near(t, geom.Pt(4+9, 4+3), h.Apply(geom.Pt(1, 1)), 1e-12)
}

// A place is seen as long as it lies before the horizon.
func TestBeyondTheHorizonNothingIsSeen(t *testing.T) {
	m := Of(geom.Homography{1, 0, 0, 0, 1, 0, 0, -0.01, 1}) // the horizon is at y = 100
	assert.True(t, m.Sees(geom.Pt(5, 99)))
	assert.False(t, m.Sees(geom.Pt(5, 101)))
	assert.False(t, Chain(Of(geom.Translation(geom.Pt(0, 50))), m).Sees(geom.Pt(5, 60)))
	lattice := geom.Lattice{Box: geom.Box{Max: geom.Pt(9, 9)}, Columns: 1, Rows: 1, Shift: make([]geom.Point, 4)}
	bent, _ := NewBent(geom.Identity, m.H, nil, []geom.Lattice{lattice})
	assert.False(t, bent.Sees(geom.Pt(5, 101)))
	assert.False(t, Chain(bent, Of(geom.Translation(geom.Pt(1, 0))), bent).Sees(geom.Pt(5, 101)))
	_, ok := Of(geom.Homography{}).Inverse()
	assert.False(t, ok)
	_, ok = NewBent(geom.Homography{}, geom.Identity, nil, nil)
	assert.False(t, ok)
}

// A picture looks alike along a plane, and along the same plane as a carrier that is not known
// to be one.
func TestPicturesFollowEveryCarrierAlike(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 1))
	src := raster.NewImage(image.Rect(0, 0, 90, 70))
	for i := range src.Pix {
		y, x := i/4/90, i/4%90
		src.Pix[i] = float32(0.5 + 0.2*math.Sin(float64(x)/7) + 0.2*math.Cos(float64(y)/6))
	}
	flat := geom.Lattice{Box: geom.Box{Max: geom.Pt(90, 70)}, Columns: 2, Rows: 2, Shift: make([]geom.Point, 9)}
	for range 10 {
		h := geom.Homography{1 + 0.2*rng.Float64(), 0.1, 5 * rng.Float64(), -0.1, 1, 4, 1e-4, -1e-4, 1}
		bent, _ := NewBent(geom.Identity, h, nil, []geom.Lattice{flat})
		rect := image.Rect(3+rng.IntN(9), 5, 70, 60)
		a, b := Image(src, Of(h), rect), Image(src, bent, rect)
		for i := range a.Pix {
			require.InDelta(t, a.Pix[i], b.Pix[i], 2e-3)
		}
	}
	assert.Equal(t, src.Crop(image.Rect(4, 4, 20, 30)).Pix, Image(src, Identity, image.Rect(4, 4, 20, 30)).Pix)
}
