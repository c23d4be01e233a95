package render

import (
	"context"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/colorspace"
	"jardin/core/memo"
	"jardin/core/treatment"
)

// The three alphas of what is gathered: what is marked is the matte; what was found within it is that of both; as many
// pixels of it are white as were told to be seen; a removal that gathers nothing has one alone.
func TestAlphasOfWhatWasGathered(t *testing.T) {
	ctx := context.Background()
	e := &Evaluator{Plate: passing{}, Cache: memo.New(1 << 27)}
	const n = 12
	source := treatment.Source{ID: "g", Kind: treatment.Gathered, Gathered: &treatment.Gathering{Live: true, Over: 2}}
	d := whatPasses(4, source)
	plain := d.Removals[0]
	plain.ID, plain.Fill = "p", treatment.Fill{}
	d.Removals = append(d.Removals, plain)
	c := compile(t, d)
	view := func(v View, only string) *Result {
		r, err := e.Frame(ctx, c, n, v, only)
		require.NoError(t, err)
		return r
	}
	matte, err := e.Matte(ctx, c, "r", n)
	require.NoError(t, err)
	marked, gathered, found := view(MarkedView, "r"), view(GatheredView, "r"), view(FoundView, "r")
	share, err := e.Seen(ctx, c, "r", "g", n, false)
	require.NoError(t, err)
	require.Less(t, share.Seen, share.All)
	white, beyond := 0, 0
	for y := range e.Plate.Size().Max.Y {
		for x := range e.Plate.Size().Max.X {
			m, g, f := matte.At(x, y), gathered.Coverage.At(x, y), found.Coverage.At(x, y)
			require.Equal(t, m, marked.Coverage.At(x, y))
			require.InDelta(t, m*g, f, 1e-6)
			if m > 0.5 && g > 0.5 {
				white++
			}
			if m == 0 && g > 0.5 {
				beyond++
			}
			if f > 0 {
				require.Equal(t, float32(1), found.At(x, y)[3])
				require.InDelta(t, f, colorspace.SRGB.Encode(float64(found.At(x, y)[0])), 1e-4, "its code value is the share")
			}
		}
	}
	assert.InDelta(t, share.Seen, white, 0.005*float64(share.All))
	assert.Positive(t, beyond, "the rim beyond the marks is gathered as well")
	assert.Empty(t, view(FoundView, "p").Pix, "nothing is gathered for it")
	assert.Equal(t, marked.Pix, view(MarkedView, "p").Pix)
	assert.Equal(t, found.Pix, view(FoundView, "").Pix, "of all removals")
}

// A first picture is made of few frames: its key is another, it shows the surface where those few do, and is nearly the
// whole one; where nothing is gathered both are the same.
func TestADraftIsOfFewFrames(t *testing.T) {
	ctx := context.Background()
	const n = 12
	for _, g := range []treatment.Gathering{{Live: true, Over: 12}, {Live: true, Over: 12, AsSeen: true}, {Frame: n, Over: 12}} {
		c := compile(t, whatPasses(4, treatment.Source{ID: "g", Kind: treatment.Gathered, Gathered: &g}))
		draft := c.Draft()
		in := draft.removal("r").clean(&g, n).Value
		assert.Len(t, in.Around, 8)
		assert.False(t, in.AsSeen)
		e := &Evaluator{Plate: passing{}, Cache: memo.New(1 << 27)}
		whole, err := e.Key(c, n, ResultView, "")
		require.NoError(t, err)
		first, err := e.Key(draft, n, ResultView, "")
		require.NoError(t, err)
		assert.NotEqual(t, whole, first)
		a, err := e.Frame(ctx, c, n, FoundView, "r")
		require.NoError(t, err)
		b, err := e.Frame(ctx, draft, n, FoundView, "r")
		require.NoError(t, err)
		of := func(r *Result) (sum float32) {
			for _, v := range r.Coverage.Pix {
				sum += v
			}
			return sum
		}
		assert.Greater(t, of(b), 0.9*of(a))
	}
	plain := compile(t, document())
	e := &Evaluator{Plate: passing{}}
	a, err := e.Key(plain, 3, ResultView, "")
	require.NoError(t, err)
	b, err := e.Key(plain.Draft(), 3, ResultView, "")
	require.NoError(t, err)
	assert.Equal(t, a, b)
}

// Who waits hears of each part of the work once, up to the last; who waits for what is there already hears nothing.
func TestProgressOfGathering(t *testing.T) {
	for _, asSeen := range []bool{false, true} {
		c := compile(t, whatPasses(4, treatment.Source{ID: "g", Kind: treatment.Gathered, Gathered: &treatment.Gathering{
			Live: true, Over: 6, AsSeen: asSeen,
		}}))
		e := &Evaluator{Plate: passing{}, Cache: memo.New(1 << 27)}
		var mu sync.Mutex
		heard := map[int]int{}
		last := 0
		ctx := WithProgress(context.Background(), func(done, total int) {
			mu.Lock()
			defer mu.Unlock()
			heard[done]++
			last = total
		})
		_, err := e.Frame(ctx, c, 12, ResultView, "")
		require.NoError(t, err)
		require.Positive(t, last)
		for done := 1; done <= last; done++ {
			assert.Equal(t, 1, heard[done])
		}
		assert.Len(t, heard, last)
		_, err = e.Frame(ctx, c, 12, FoundView, "")
		require.NoError(t, err)
		assert.Len(t, heard, last)
	}
}

// What is gathered on every frame brings its own grain, as much as is left in it: all of it as seen, little in an average of
// many; what is held brings none.
func TestGatheredPixelsBringTheirGrain(t *testing.T) {
	ctx := context.Background()
	const n = 12
	still := func(g treatment.Gathering) (all, least, most float32) {
		c := compile(t, whatPasses(4, treatment.Source{ID: "g", Kind: treatment.Gathered, Gathered: &g}))
		e := &Evaluator{Plate: passing{}, Cache: memo.New(1 << 27)}
		in := &c.Input(n, ResultView, "").Removals[0]
		f, err := e.fill(ctx, &in.Fill, e.Plate.Size())
		require.NoError(t, err)
		least = 1
		count := 0
		for i := 3; i < len(f.Pix); i += 4 {
			if f.Pix[i] > 0.99 {
				v := f.still.Pix[i/4]
				all, count, least, most = all+v, count+1, min(least, v), max(most, v)
			}
		}
		require.Greater(t, count, 500)
		return all / float32(count), least, most
	}
	all, _, most := still(treatment.Gathering{Live: true, AsSeen: true, Over: 12})
	assert.Less(t, all, float32(0.1), "all of it moves")
	assert.LessOrEqual(t, most, float32(1))
	many, least, _ := still(treatment.Gathering{Live: true, Over: 12})
	assert.InDelta(t, 0.65, many, 0.15)
	few, _, _ := still(treatment.Gathering{Live: true, Over: 12, Most: 2})
	assert.Less(t, few, many-0.15, "two frames have more of it than nine")
	assert.GreaterOrEqual(t, least, float32(0))
	held, least, _ := still(treatment.Gathering{Frame: n, Over: 12})
	assert.Equal(t, float32(1), least)
	assert.InDelta(t, 1, held, 1e-6)
}
