package track

import (
	"errors"
	"image"
	"math"

	"jardin/core/geom"
)

// ErrNoRegion says that no box around a thing holds.
var ErrNoRegion = errors.New("nothing around the outlines holds on the frames beside: draw a region on another piece of the " +
	"same surface, or put points")

// A Proposal is a region around a thing, and how well it holds.
type Proposal struct {
	Region    []geom.Point // four corners on the frame, clockwise
	Deviation float64      // standard deviation of where its corners are, pixels
	Residual  float64      // by how much its parts would still move by themselves, pixels
	Agree     float64      // share of it that agrees, 0 to 1
}

// Propose looks for the region around a thing that holds best: boxes of several sizes and places around it are followed to
// other frames of the shot, the thing itself left out, and judged by how well their place is known there, by how much their
// parts pull and how much of them agrees: a box that reaches over the surface's edge pulls. Of those that hold about as
// well the first and smallest is taken, as it is surest to lie on one surface. others are frames nearby, in order of how near.
func Propose(
	read FrameReader,
	others []FrameReader,
	size image.Rectangle,
	thing []geom.Point,
	motion geom.Motion,
) (*Proposal, error) {
	box := geom.Bounds(thing)
	wide, high := math.Max(box.Max.X-box.Min.X, 24), math.Max(box.Max.Y-box.Min.Y, 24)
	side := math.Sqrt(wide * high)
	inner := size.Inset(edge)
	var best *Proposal
	least := math.Inf(1)
	for _, grow := range []float64{1, 1.8, 3} {
		for _, by := range []geom.Point{{}, {X: -0.6}, {X: 0.6}, {Y: -0.6}, {Y: 0.6}} {
			// As far around on each side, but moved by a share of that.
			around := math.Max(grow*side, 40)
			b := geom.Box{
				Min: geom.Pt(box.Min.X-around*(1-by.X), box.Min.Y-around*(1-by.Y)),
				Max: geom.Pt(box.Max.X+around*(1+by.X), box.Max.Y+around*(1+by.Y)),
			}
			b.Min = geom.Pt(math.Max(b.Min.X, float64(inner.Min.X)), math.Max(b.Min.Y, float64(inner.Min.Y)))
			b.Max = geom.Pt(math.Min(b.Max.X, float64(inner.Max.X)), math.Min(b.Max.Y, float64(inner.Max.Y)))
			if b.Max.X-b.Min.X < 32 || b.Max.Y-b.Min.Y < 32 {
				continue
			}
			p, err := holds(read, others, size, b, thing, motion)
			switch {
			case Lost(err):
				continue
			case err != nil:
				return nil, err
			}
			// A tenth of a pixel is a tenth of a pixel, whatever it comes from; what does not agree is as bad as that.
			cost := p.Deviation + p.Residual + (1-p.Agree)/2
			if cost < 0.8*least {
				best, least = p, cost
			}
		}
	}
	if best == nil {
		return nil, ErrNoRegion
	}
	return best, nil
}

// holds follows a box to other frames and returns the worst of what comes of it.
func holds(
	read FrameReader,
	others []FrameReader,
	size image.Rectangle,
	b geom.Box,
	thing []geom.Point,
	motion geom.Motion,
) (*Proposal, error) {
	corners := b.Corners()
	out := &Proposal{Region: corners[:], Agree: 1}
	for _, other := range others {
		p, err := NewPlane(read, size, out.Region, [][]geom.Point{thing}, motion)
		if err != nil {
			return nil, err
		}
		s, err := p.Step(other, nil)
		if err != nil {
			return nil, err
		}
		if s.Chained || !s.Trusted() {
			return nil, ErrLost
		}
		out.Deviation, out.Residual = math.Max(out.Deviation, s.Deviation), math.Max(out.Residual, s.Residual)
		out.Agree = math.Min(out.Agree, s.Agree)
	}
	return out, nil
}
