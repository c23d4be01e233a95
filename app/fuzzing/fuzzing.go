// Package fuzzing holds what the fuzzed tests of the readers share.
package fuzzing

import (
	"runtime"
	"runtime/metrics"
	"testing"

	"github.com/stretchr/testify/require"
)

// Alone keeps all of a fuzzed reading in one goroutine, so that it covers the same lines each
// time. The fuzzer makes every input that covers something new smaller, for up to a minute
// each: FuzzDPX tried 54 inputs in 75 seconds. "make fuzz" gives that ten tries
// (-fuzzminimizetime), and tries 14,000 inputs a second.
func Alone(f *testing.F) {
	before := runtime.GOMAXPROCS(1)
	f.Cleanup(func() { runtime.GOMAXPROCS(before) })
}

// Within fails the test if reading these bytes allocates more than a fixed number of bytes and
// a multiple of the input's own size. What counts is everything allocated, freed since or not:
// a limit of the garbage collector (debug.SetMemoryLimit) is a wish that allocations exceed.
func Within(t *testing.T, data []byte, fixed, times int, read func()) {
	t.Helper()
	before := allocated()
	read()
	got := allocated() - before
	require.LessOrEqual(t, got, uint64(fixed+times*len(data)), "bytes allocated for an input of %d", len(data))
}

func allocated() uint64 {
	s := []metrics.Sample{{Name: "/gc/heap/allocs:bytes"}}
	metrics.Read(s)
	return s[0].Value.Uint64()
}
