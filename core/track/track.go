// Package track follows surfaces and points through a shot.
package track

import (
	"errors"
	"math"

	"jardin/core/raster"
)

// Reasons why something cannot be followed, or is lost.
var (
	ErrSmall = errors.New("the region holds too few pixels of its frame; draw it larger, or inside the picture")
	ErrFlat  = errors.New(
		"there is nothing to hold on to; choose a place with more texture, with edges in two directions",
	)
	ErrPlain = errors.New(
		"there is hardly any texture in the region, little more than grain; draw it larger, over edges in two directions",
	)
	ErrLost    = errors.New("it no longer looks like it does on the frame it is compared with")
	ErrLeft    = errors.New("too little of it is left in the picture")
	ErrExtreme = errors.New("the transform became extreme")
	ErrJumped  = errors.New("it jumped to the border of its search box; make the box larger, or place it by hand")
	ErrNaN     = errors.New(
		"most of the picture there holds no numbers (NaN or infinite); bring the frames in again from a whole file",
	)
)

// Lost reports whether an error says that something is not to be found on a frame, and not that the frame could not be
// read.
func Lost(err error) bool {
	for _, reason := range []error{ErrSmall, ErrFlat, ErrPlain, ErrLost, ErrLeft, ErrExtreme, ErrJumped, ErrNaN} {
		if errors.Is(err, reason) {
			return true
		}
	}
	return false
}

// numbers returns the plane with every sample that is no number, or infinite,
// replaced by the last good one before it on its line. It is the plane itself
// where there are none, and ErrNaN where they are most.
func numbers(p *raster.Plane) (*raster.Plane, error) {
	bad := 0
	for _, v := range p.Pix {
		if !(v-v == 0) {
			bad++
		}
	}
	if bad == 0 {
		return p, nil
	}
	if 2*bad > len(p.Pix) {
		return nil, ErrNaN
	}
	out := raster.NewPlane(p.Rect)
	w := p.Rect.Dx()
	for i, v := range p.Pix {
		if v-v == 0 && math.Abs(float64(v)) < 1e6 {
			out.Pix[i] = v
		} else if i%w > 0 {
			out.Pix[i] = out.Pix[i-1]
		}
	}
	return out, nil
}
