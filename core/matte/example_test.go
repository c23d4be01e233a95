package matte_test

import (
	"fmt"
	"image"

	"jardin/core/geom"
	"jardin/core/matte"
)

// The coverage of a pixel is the share of it that lies inside.
func ExampleCoverage() {
	triangle := []geom.Point{{X: 0, Y: 0}, {X: 4, Y: 0}, {X: 0, Y: 2}}
	m := matte.Coverage(triangle, image.Rect(0, 0, 4, 2))
	for y := range 2 {
		fmt.Println(m.Row(y, 0, 4))
	}
	// Output:
	// [1 1 0.75 0.25]
	// [0.75 0.25 0 0]
}
