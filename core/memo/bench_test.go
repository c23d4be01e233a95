package memo

import "testing"

// Keys of strokes are worked out for every revision that is looked at.
func BenchmarkKeyOfAStroke(b *testing.B) {
	type from struct{ Offset [2]float64 }
	type stroke struct {
		ID, Mode, Channels, Ride             string
		Home                                 int
		Size, Hardness, Opacity, Flow, Angle float64
		Spacing, Roundness, Jitter, Amount   float64
		From                                 *from
		Points                               [][]float64
	}
	s := stroke{ID: "s", Mode: "clone", Home: 1037, Size: 20, Hardness: 0.5, Opacity: 1, From: &from{[2]float64{30, 0}},
		Points: [][]float64{{1, 2, 1}, {3, 4, 1}, {5, 6, 1}, {7, 8, 1}}}
	b.ReportAllocs()
	for range b.N {
		if _, err := KeyOf(s); err != nil {
			b.Fatal(err)
		}
	}
}
