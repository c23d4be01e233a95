package memo

import (
	"testing"

	"jardin/core/treatment"
)

// A stroke's key is worked out for every stroke of every revision that is looked at.
func BenchmarkKeyOfAStroke(b *testing.B) {
	s := treatment.Stroke{ID: "s", Mode: "clone", Home: 1037, Size: 20, Hardness: 0.5, Opacity: 1, From: &treatment.From{Offset: treatment.Vec{30, 0}},
		Path: &treatment.Path{Points: [][]float64{{1, 2, 1}, {3, 4, 1}, {5, 6, 1}, {7, 8, 1}}}}
	b.ReportAllocs()
	for range b.N {
		if _, err := KeyOf(s); err != nil {
			b.Fatal(err)
		}
	}
}
