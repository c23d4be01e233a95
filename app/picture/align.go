package picture

import (
	"context"
	"errors"
	"fmt"
	"image"
	"math"

	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/track"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// Aligned is how a frame on loan has to lie so that it fits around what goes.
type Aligned struct {
	From     treatment.From `json:"from"`
	Moved    float64        `json:"moved" doc:"By how much the middle was moved, pixels"`
	Residual float64        `json:"residual" doc:"By how much parts of the surroundings would still move by themselves, RMS, pixels"`
	Agree    float64        `json:"agree" doc:"Share of the surroundings that agrees, 0 to 1"`
}

// Align refines how a frame on loan lies over frame n, on the pixels around a
// removal's outlines. from says how it lies now.
func (s *Source) Align(
	ctx context.Context,
	t *render.Treatment,
	removal string,
	n int,
	from treatment.From,
) (*Aligned, error) {
	r := t.Removal(removal)
	if r == nil {
		return nil, fmt.Errorf("there is no removal %q", removal)
	}
	if from.Frame == nil {
		return nil, errors.New("choose the frame that lends its pixels first")
	}
	lent := *from.Frame
	motions := t.Motions()
	marked := func(n int) [][]geom.Point { return polygonsOf(motions, r, n) }
	here := marked(n)
	if len(here) == 0 {
		return nil, fmt.Errorf(
			"no outline of %q lies on frame %d; what is around it is what the frames are aligned on",
			r.Name,
			n,
		)
	}
	var all []geom.Point
	for _, p := range here {
		all = append(all, p...)
	}
	box := geom.Bounds(all)
	grow := math.Max(32, 0.8*math.Max(box.Max.X-box.Min.X, box.Max.Y-box.Min.Y))
	around := raster.Around(box, grow, s.Size())
	region := geom.Box{
		Min: geom.Pt(float64(around.Min.X), float64(around.Min.Y)),
		Max: geom.Pt(float64(around.Max.X), float64(around.Max.Y)),
	}
	corners := region.Corners()
	middle := box.Centre()
	if from.Middle != nil {
		middle = from.Middle.Point()
	}
	toLent := geom.Identity
	if m := motions.Mapping(r.Follow.Track, n, lent); m != nil {
		if h, ok := warp.Through(m, region); ok {
			toLent = h
		}
	}
	start := render.FromOf(&from, middle)
	over := toLent.Mul(start)
	back, ok := over.Inverse()
	if !ok {
		return nil, errors.New("the frame on loan lies such that nothing can be seen of it")
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	tracker, err := track.NewPlane(s.through(n, geom.Identity), s.Size(), corners[:], here, geom.Similarity)
	if err != nil {
		return nil, fmt.Errorf("what is around the outlines gives no hold: %w", err)
	}
	var covered [][]geom.Point
	for _, p := range marked(lent) {
		covered = append(covered, back.ApplyAll(p))
	}
	found, err := tracker.Step(s.through(lent, over), covered)
	if err != nil {
		return nil, fmt.Errorf("the two frames do not fit around the outlines; lay them closer by hand first: %w", err)
	}
	out := alignedBy(from, start, start.Mul(found.H).Normalised(), middle)
	out.Residual, out.Agree = found.Residual, min(found.Agree, 1)
	return out, nil
}

// polygonsOf returns a removal's outlines on a frame.
func polygonsOf(motions *carry.Set, r *treatment.Removal, n int) (out [][]geom.Point) {
	for i := range r.Mark.Outlines {
		if pose, ok := motions.Pose(&r.Mark.Outlines[i], r.Follow.Track, n); ok {
			out = append(out, pose.Polygon(&r.Mark.Outlines[i]))
		}
	}
	return out
}

// through reads the brightness of frame f as it is seen through a homography to it.
func (s *Source) through(f int, h geom.Homography) track.FrameReader {
	return func(area image.Rectangle) (*raster.Plane, error) {
		b := geom.Box{
			Min: geom.Pt(float64(area.Min.X), float64(area.Min.Y)),
			Max: geom.Pt(float64(area.Max.X), float64(area.Max.Y)),
		}.Corners()
		seen := raster.Around(geom.Bounds(h.ApplyAll(b[:])), 3, s.Size())
		if seen.Empty() {
			return raster.NewPlane(image.Rectangle{}), nil
		}
		part, err := s.Plates.Region(f, seen)
		if err != nil {
			return nil, err
		}
		p := part.Channel(colorspace.LumaMix)
		p.Rect = p.Rect.Add(seen.Min)
		if h == geom.Identity {
			return p, nil
		}
		return raster.WarpPlane(p, h, area.Intersect(s.Size())), nil
	}
}

// alignedBy returns the loan that a homography stands for, which was moved there from start.
func alignedBy(from treatment.From, start, whole geom.Homography, middle geom.Point) *Aligned {
	to := whole.Apply(middle)
	out := &Aligned{From: from, Moved: to.Dist(start.Apply(middle))}
	m := treatment.Vec{middle.X, middle.Y}
	out.From.Middle = &m
	out.From.Offset = treatment.Vec{round(to.X-middle.X, 1e2), round(to.Y-middle.Y, 1e2)}
	side := 1.0
	if from.Mirror {
		side = -1
	}
	out.From.Scale = round(math.Sqrt(math.Abs(whole.Det())), 1e5)
	out.From.Turn = round(math.Atan2(side*whole[3], side*whole[0])*180/math.Pi, 1e4)
	return out
}

func round(v, parts float64) float64 { return math.Round(v*parts) / parts }
