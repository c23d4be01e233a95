// Package track follows surfaces through a shot.
package track

import (
	"errors"
	"fmt"
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A Plane follows one flat surface from its reference frame. Each step first
// carries the surface's features on from the frame before by pyramidal
// Lucas–Kanade matching (Lucas & Kanade 1981; Bouguet 2000) and agrees on a
// motion by robust fitting, then aligns all pixels of the region straight to the
// reference frame, so that errors do not add up over frames.
//
// Frames are planes of encoded luma (not linear light): there the plate's noise
// is about equally strong in dark and bright, and a change of light is still a
// gain.
type Plane struct {
	// MinMatch is the normalised correlation with the reference frame under
	// which the surface counts as lost; MinAgree the share of the region that
	// has to agree. NewPlane sets 0.5 and 0.3.
	MinMatch, MinAgree float64

	motion   geom.Motion
	region   []geom.Point
	features []geom.Point // on the reference frame
	align    *aligner

	h    geom.Homography // on the frame before
	prev []*raster.Plane // the frame before, smoothed, as a pyramid
	move geom.Homography // from the frame before that to the frame before
}

// A Sample is where the surface is on a frame, and how well that is known.
type Sample struct {
	H        geom.Homography // from the reference frame to this one
	Match    float64         // normalised correlation with the reference frame, 0 to 1
	Agree    float64         // share of the region that agrees, 0 to 1
	Residual float64         // RMS distance of agreeing features from H, pixels
}

// Reasons why a surface cannot be followed, or is lost.
var (
	ErrSmall     = errors.New("the region holds too few pixels of the reference frame; draw it larger, or inside the picture")
	ErrFlat      = errors.New("the region shows nothing to hold on to on the reference frame; draw it around more texture")
	ErrLost      = errors.New("the surface no longer looks like it does on the reference frame")
	ErrLeft      = errors.New("too little of the region is left in the picture")
	ErrExtreme   = errors.New("the transform became extreme")
	errNoFeature = errors.New("no features agree")
)

const (
	presmooth   = 0.8 // sigma in pixels; makes gradients meaningful in grain
	maxLevels   = 5
	maxFeatures = 160
	fitTol      = 1.5 // pixels within which features agree
)

// NewPlane prepares to follow the surface inside a polygon of the reference
// frame with the given motion.
func NewPlane(reference *raster.Plane, region []geom.Point, motion geom.Motion) (*Plane, error) {
	smooth := raster.Pyramid(raster.Gaussian(reference, presmooth), maxLevels)
	a, err := newAligner(smooth, region, motion)
	if err != nil {
		return nil, err
	}
	features := corners(smooth[0], region, maxFeatures)
	if len(features) < max(motion.Points(), 4) {
		return nil, ErrFlat
	}
	return &Plane{
		MinMatch: 0.5, MinAgree: 0.3,
		motion: motion, region: region, features: features, align: a,
		h: geom.Identity, move: geom.Identity, prev: smooth,
	}, nil
}

// Step follows the surface to the next frame, in whichever direction frames
// come. When it is lost the error says why, and the tracker stays on the frame
// before.
func (t *Plane) Step(frame *raster.Plane) (Sample, error) {
	if frame.Rect != t.prev[0].Rect {
		return Sample{}, fmt.Errorf("the frame is %v, the reference frame %v", frame.Rect.Size(), t.prev[0].Rect.Size())
	}
	next := raster.Pyramid(raster.Gaussian(frame, presmooth), maxLevels)
	guess := t.move.Mul(t.h) // it goes on as it went
	rough, features, err := t.carry(next, guess)
	if err == nil {
		guess = rough
	}
	s, err := t.align.run(next, guess)
	if err != nil {
		return s, err
	}
	if err := sane(s.H, t.region, frame.Rect); err != nil {
		return s, err
	}
	if s.Match < t.MinMatch || s.Agree < t.MinAgree {
		return s, ErrLost
	}
	s.Residual = residual(s.H, features)
	if back, ok := t.h.Inverse(); ok {
		t.move = s.H.Mul(back)
	}
	t.h, t.prev = s.H, next
	return s, nil
}

type pair struct{ ref, now geom.Point }

// carry matches the features from the frame before to this one and fits the
// motion from the reference frame. A feature counts only if matching it back
// leads to where it started.
func (t *Plane) carry(next []*raster.Plane, guess geom.Homography) (geom.Homography, []pair, error) {
	bounds := next[0].Rect
	type match struct {
		now geom.Point
		ok  bool
	}
	found := make([]match, len(t.features))
	raster.Rows(0, len(t.features), func(i int) {
		from := t.h.Apply(t.features[i])
		if !inside(from, bounds, 8) {
			return
		}
		now, ok := Match(t.prev, next, from, guess.Apply(t.features[i]))
		if !ok || !inside(now, bounds, 4) {
			return
		}
		back, ok := Match(next, t.prev, now, from)
		found[i] = match{now, ok && back.Dist(from) < 0.7}
	})
	var pairs []pair
	var src, dst []geom.Point
	for i, m := range found {
		if m.ok {
			pairs = append(pairs, pair{t.features[i], m.now})
			src, dst = append(src, t.features[i]), append(dst, m.now)
		}
	}
	if len(pairs) < max(2*t.motion.Points(), 6) {
		return guess, pairs, errNoFeature
	}
	h, agree, err := geom.RobustFit(t.motion, src, dst, fitTol)
	if err != nil {
		return guess, pairs, err
	}
	count := 0
	for _, ok := range agree {
		if ok {
			count++
		}
	}
	if count < max(t.motion.Points()+2, len(pairs)/4) {
		return guess, pairs, errNoFeature
	}
	return h, pairs, nil
}

func residual(h geom.Homography, pairs []pair) float64 {
	var sum float64
	n := 0
	for _, p := range pairs {
		if e := h.Apply(p.ref).Dist(p.now); e < fitTol {
			sum, n = sum+e*e, n+1
		}
	}
	if n == 0 {
		return 0
	}
	return math.Sqrt(sum / float64(n))
}

// sane refuses transforms that no surface filmed from one place to the next
// makes: turned over, grown or shrunk more than sixteenfold, or with the
// horizon through the region.
func sane(h geom.Homography, region []geom.Point, frame image.Rectangle) error {
	if !h.Finite() {
		return ErrExtreme
	}
	for _, p := range region {
		if h[6]*p.X+h[7]*p.Y+h[8] <= 0.05 {
			return ErrExtreme
		}
	}
	if k := h.Scale(geom.Bounds(region).Centre()); h.Det() <= 0 || k < 1.0/16 || k > 16 {
		return ErrExtreme
	}
	moved := geom.Bounds(h.ApplyAll(region))
	if raster.Around(moved, 0, frame).Empty() {
		return ErrLeft
	}
	return nil
}

func inside(p geom.Point, r image.Rectangle, margin float64) bool {
	return p.X >= float64(r.Min.X)+margin && p.X <= float64(r.Max.X)-margin &&
		p.Y >= float64(r.Min.Y)+margin && p.Y <= float64(r.Max.Y)-margin
}
