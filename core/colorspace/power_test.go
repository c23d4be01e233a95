package colorspace

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// The quick power is the exact one, whatever is raised to whatever.
func TestPower(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 7))
	odd := []float64{0, math.Copysign(0, -1), 1, -1, 2, math.Sqrt2, math.Nextafter(math.Sqrt2, 2), math.SmallestNonzeroFloat64, math.MaxFloat64,
		math.Inf(1), math.Inf(-1), math.NaN(), 1e-300, 1e300, -0.5}
	check := func(x, y float64) {
		got, want := power(x, y), math.Pow(x, y)
		switch {
		case math.IsNaN(want):
			require.True(t, math.IsNaN(got), "%g to %g", x, y)
		case want == 0 || math.IsInf(want, 0):
			require.Equal(t, want, got, "%g to %g", x, y)
		default:
			require.InEpsilon(t, want, got, 3e-12*math.Max(1, math.Abs(math.Log2(math.Abs(want)))), "%g to %g", x, y)
		}
	}
	for _, x := range odd {
		for _, y := range odd {
			check(x, y)
		}
	}
	for range 200000 {
		check(math.Exp2(40*rng.Float64()-20), 6*rng.Float64()-3)
		check(2*rng.Float64(), 1/(0.4+3*rng.Float64()))
		check(math.Exp2(2000*rng.Float64()-1000), 4*rng.Float64()-2)
	}
}

func BenchmarkPower(b *testing.B) {
	for name, of := range map[string]func(x, y float64) float64{"ours": power, "math": math.Pow} {
		b.Run(name, func(b *testing.B) {
			sum := 0.0
			for b.Loop() {
				for k := range 1000 { // one does not wait for the other
					sum += of(0.001*float64(k+1), 2.4)
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(1000*b.N), "ns/power")
			require.Positive(b, sum)
		})
	}
}
