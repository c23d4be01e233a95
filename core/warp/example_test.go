package warp_test

import (
	"fmt"

	"jardin/core/geom"
	"jardin/core/warp"
)

// A place goes along a surface from one frame to another: back to where the surface was drawn,
// and on from there. What does it is nobody's business.
func ExampleChain() {
	toFirst := warp.Of(geom.Translation(geom.Pt(10, 0)))
	toSecond := warp.Of(geom.Homography{2, 0, 0, 0, 2, 0, 0, 0, 1})
	home, _ := toFirst.Inverse()
	along := warp.Chain(home, toSecond)
	fmt.Println(along.Apply(geom.Pt(15, 3)), along.Scale(geom.Pt(15, 3)))
	// Output: {10 6} 2
}
