package memo

import (
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"reflect"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type world struct{ name string }

func (w world) Key() string { return w.name }

type input struct {
	N    int
	Part *Keyed[part]
	Name string `memo:"-"`
}

type part struct {
	Values []float64
	Inner  *part
	Any    any
	Pair   [2]int
	Text   string
}

func key(t *testing.T, v any) Key {
	k, err := KeyOf(v)
	require.NoError(t, err)
	return k
}

func TestKeysDifferWhereverValuesDo(t *testing.T) {
	all := map[Key]any{}
	for _, v := range []any{
		part{}, &part{Text: "a"}, part{Values: []float64{0}}, part{Values: []float64{0, 0}},
		part{Values: []float64{math.Inf(1)}},
		part{Values: []float64{math.Copysign(0, -1)}}, part{Inner: &part{}}, part{Inner: &part{Inner: &part{}}},
		part{Any: 1}, part{Any: "1"}, part{Any: 1.0},
		part{Pair: [2]int{1, 0}}, part{Pair: [2]int{0, 1}}, input{N: 1}, input{N: 1, Part: Of(part{})}, input{N: 1,
			Part: Of(part{Text: "x"})},
		[]string{"ab", "c"}, []string{"a", "bc"}, []string{"abc"}, [][]float64{{1}, {2}}, [][]float64{{1, 2}},
		[]byte("ab"), "ab", true, nil,
	} {
		k := key(t, v)
		other, taken := all[k]
		assert.False(t, taken, "%#v has the key of %#v", v, other)
		all[k] = v
	}
	assert.Equal(
		t,
		key(t, input{N: 2, Name: "a"}),
		key(t, input{N: 2, Name: "b"}),
		"names that only errors tell do not count",
	)
	assert.Equal(
		t,
		key(t, input{Part: Of(part{Text: "x"})}),
		key(t, input{Part: Of(part{Text: "x"})}),
		"equal parts, wherever they are made",
	)
}

func TestWhatHasNoFixedContentHasNoKey(t *testing.T) {
	for _, v := range []any{
		math.NaN(), part{Values: []float64{1, math.NaN()}}, float32(math.NaN()), func() {}, make(chan int),
		map[string]int{"a": 1},
		world{"unexported"}, part{Any: func() {}}, input{Part: Of(part{Values: []float64{math.NaN()}})},
	} {
		_, err := KeyOf(v)
		assert.Error(t, err, "%T", v)
	}
	_, err := Do(
		context.Background(),
		New(1000),
		world{},
		math.NaN(),
		func(context.Context, world, float64) (int, error) { return 1, nil },
	)
	assert.ErrorContains(t, err, "NaN")
}

// Random values: equal keys if and only if they are equal.
func TestKeysOfRandomValues(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var make func(deep int) part
	make = func(deep int) part {
		p := part{Text: strings.Repeat("x", r.IntN(2)), Pair: [2]int{r.IntN(2), r.IntN(2)}}
		for range r.IntN(3) {
			p.Values = append(p.Values, float64(r.IntN(2)))
		}
		if deep > 0 && r.IntN(2) == 0 {
			inner := make(deep - 1)
			p.Inner = &inner
		}
		return p
	}
	for range 5000 {
		a, b := make(2), make(2)
		assert.Equal(t, reflect.DeepEqual(a, b), key(t, a) == key(t, b), "%+v, %+v", a, b)
	}
}

func TestFailuresAreNotRemembered(t *testing.T) {
	m, calls := New(1<<20), 0
	fails := func(context.Context, world, int) (int, error) {
		if calls++; calls == 1 {
			return 0, errors.New("the disk is gone")
		}
		if calls == 2 {
			panic("broken")
		}
		return 7, nil
	}
	_, err := Do(context.Background(), m, world{}, 1, fails)
	assert.ErrorContains(t, err, "the disk is gone")
	_, err = Do(context.Background(), m, world{}, 1, fails)
	var p *Panic
	require.ErrorAs(t, err, &p)
	assert.Contains(t, string(p.Stack), "memo_test.go")
	v, err := Do(context.Background(), m, world{}, 1, fails)
	require.NoError(t, err)
	assert.Equal(t, 7, v)
	_, err = Do(context.Background(), m, world{}, 1, fails)
	require.NoError(t, err)
	assert.Equal(t, 3, calls, "what went well is remembered")
	_, err = Do(context.Background(), m, world{"other"}, 1, fails)
	require.NoError(t, err)
	assert.Equal(t, 4, calls, "another environment is another result")
}

func TestWhatWasWorkedOutForNobodyIsNotRemembered(t *testing.T) {
	m := New(1 << 20)
	ctx, cancel := context.WithCancel(context.Background())
	_, err := Do(ctx, m, world{}, 1, func(context.Context, world, int) (int, error) {
		cancel()
		return 0, nil // half of it: it did not look at its context
	})
	assert.ErrorIs(t, err, context.Canceled)
	v, err := Do(context.Background(), m, world{}, 1, func(context.Context, world, int) (int, error) { return 5, nil })
	require.NoError(t, err)
	assert.Equal(t, 5, v)
}

func TestTwoRequestsWaitForOneComputation(t *testing.T) {
	m := New(1 << 20)
	var calls atomic.Int32
	slow := func(ctx context.Context, _ world, n int) (int, error) {
		calls.Add(1)
		select {
		case <-time.After(50 * time.Millisecond):
			return n, nil
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	}
	var wait sync.WaitGroup
	for range 20 {
		wait.Go(func() {
			v, err := Do(context.Background(), m, world{}, 3, slow)
			assert.NoError(t, err)
			assert.Equal(t, 3, v)
		})
	}
	wait.Wait()
	assert.EqualValues(t, 1, calls.Load())

	// Whoever began leaves: one of those who wait goes on.
	ctx, cancel := context.WithCancel(context.Background())
	wait.Go(func() {
		_, err := Do(ctx, m, world{}, 4, slow)
		assert.ErrorIs(t, err, context.Canceled)
	})
	time.Sleep(10 * time.Millisecond)
	wait.Go(func() {
		v, err := Do(context.Background(), m, world{}, 4, slow)
		assert.NoError(t, err)
		assert.Equal(t, 4, v)
	})
	time.Sleep(10 * time.Millisecond)
	cancel()
	wait.Wait()
}

type sized int

func (s sized) Bytes() int { return int(s) }

func TestTheBudgetHoldsAndWhatWasUsedLongestAgoLeaves(t *testing.T) {
	m := New(3000)
	get := func(n int) (computed bool) {
		_, err := Do(context.Background(), m, world{}, n, func(context.Context, world, int) (sized, error) {
			computed = true
			return 800, nil
		})
		require.NoError(t, err)
		return computed
	}
	for n := range 3 {
		assert.True(t, get(n))
	}
	assert.False(t, get(0))
	assert.True(t, get(3))
	assert.True(t, get(1), "it was used longest ago")
	assert.False(t, get(3))
	assert.LessOrEqual(t, m.Used(), 3000)
	_, err := Do(
		context.Background(),
		m,
		world{},
		9,
		func(context.Context, world, int) (sized, error) { return 5000, nil },
	)
	require.NoError(t, err)
	_, kept := Peek[sized](m, world{}, 9)
	assert.False(t, kept, "larger than all of it")
	m.Clear()
	assert.Zero(t, m.Used())
	assert.True(t, get(3))
	var none *Memo
	v, err := Do(
		context.Background(),
		none,
		world{},
		1,
		func(context.Context, world, int) (int, error) { return 2, nil },
	)
	require.NoError(t, err)
	assert.Equal(t, 2, v)
}
