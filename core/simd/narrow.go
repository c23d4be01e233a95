//go:build !(goexperiment.simd && amd64)

package simd

// In a build without vectors there is nothing to choose from.

const wide = false

// Fence is for builds with vectors.
func Fence() {}

func symmetricWide(_, _ []float32, _ int, _ []float32)                {}
func symmetricRowsWide(_ []float32, _ [][]float32, _ []float32)       {}
func halveWide(_, _ []float32)                                        {}
func differWide(_, _, _ []float32, _ float32)                         {}
func lerpWide(_, _, _ []float32, _ float32)                           {}
func spreadWide(_, _ []float32, _ []int32, _ []float32)               {}
func addWide(_, _ []float32)                                          {}
func betweenWide(_, _, _ []float32, _, _, _, _ float32)               {}
func overWide(_, _ []float32)                                         {}
func projectWide(_ *Places, _ *[9]float64, _, _ int)                  {}
func carryWide(_ *Places, _ *[9]float64, _, _ []float64)              {}
func unlitWide(_, _, _ []float32, _, _ []float64, _, _, _, _ float64) {}
func biweightWide(_, _ []float32, _ float32)                          {}
func sumsWide(_ *Sums, _ [][8]float32, _, _ []float32, _ bool)        {}
func withinWide(_ *Places, _ int, _ *Reach) int                       { return 0 }
func dotsWide(_, _, _, _ []float32) (out [3]float64)                  { return out }
func rootsWide(_, _ []float32, _, _ float32)                          {}
func alikeWide(_, _, _, _ []float32, _, _ float32)                    {}
func widenWide(_ []uint16, _ []byte)                                  {}
func narrowWide(_ []byte, _ []uint16)                                 {}
func reduceWide(_, _, _, _ []float64, _ *[3]float64)                  {}
func cellWide(_ *Places, _ int, _ *[4][2]float64, _ float64)          {}
func cubicWide(_, _ []float32, _ int, _ *Places)                      {}
func cubicPlaneWide(_, _ []float32, _ int, _ *Places, _ bool)         {}
func linearPlaneWide(_, _ []float32, _ int, _ *Places)                {}
