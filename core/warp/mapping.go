// Package warp holds the carriers: what takes places of one frame to another, whatever does
// it, and pictures along with them.
//
// A new kind of carrier is a type that implements Mapping, in a file of its own; nothing
// outside of this package asks which one a mapping is.
package warp

import (
	"jardin/core/geom"
)

// A Mapping takes places of one frame to places of another, in pixels. It does not change,
// and is safe for concurrent use. Its key is what package memo derives from its exported
// fields; bulk data belongs into a *memo.Keyed, so that it is hashed once.
type Mapping interface {
	// Apply returns where a place goes; a place that goes nowhere (beyond the horizon, off a
	// card) may come out infinite or NaN.
	Apply(p geom.Point) geom.Point
	// Inverse returns the mapping back; ok is false where there is none.
	Inverse() (back Mapping, ok bool)
	// Bounds returns a box around where all places of a box go.
	Bounds(box geom.Box) geom.Box
	// Scale returns by how much lengths grow at a place: the square root of the areas' ratio.
	Scale(p geom.Point) float64
	// Sees reports whether a place is taken to one that can be seen: not beyond the horizon.
	Sees(p geom.Point) bool
	// Homography returns the mapping as a homography if it is nothing but that: sides stay
	// straight then, and pictures are warped faster. It decides nothing else.
	Homography() (h geom.Homography, ok bool)
}

// Identity leaves every place where it is.
var Identity Mapping = Of(geom.Identity)

// IsIdentity reports whether a mapping is known to leave every place where it is.
func IsIdentity(m Mapping) bool {
	h, ok := m.Homography()
	return ok && h == geom.Identity
}

// ApplyAll takes several places along a mapping.
func ApplyAll(m Mapping, points []geom.Point) []geom.Point {
	out := make([]geom.Point, len(points))
	for i, p := range points {
		out[i] = m.Apply(p)
	}
	return out
}
