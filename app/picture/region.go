package picture

import (
	"context"
	"errors"
	"fmt"
	"image"

	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/track"
	"jardin/core/treatment"
)

// A ProposedRegion is a region to follow a removal's surface by.
type ProposedRegion struct {
	Frame  int             `json:"frame" doc:"On which it lies"`
	Region []treatment.Vec `json:"region" nullable:"false" doc:"Four corners there"`
	Words  string          `json:"words" doc:"How well it holds"`
}

// ProposeRegion looks around a removal's outlines on frame n for a region that holds on the frames beside.
func (s *Source) ProposeRegion(ctx context.Context, t *render.Treatment, removal string, n int) (*ProposedRegion, error) {
	r := t.Removal(removal)
	if r == nil {
		return nil, fmt.Errorf("there is no removal %q", removal)
	}
	has := func(n int) bool { return n >= s.Plates.First && n <= s.Plates.Last }
	var thing []geom.Point
	for _, polygon := range polygonsOf(t.Motions(), r, n) {
		thing = append(thing, polygon...)
	}
	if len(thing) == 0 {
		return nil, fmt.Errorf("no outline of %q lies on frame %d: a region is looked for around what is marked", r.Name, n)
	}
	if !has(n) {
		return nil, fmt.Errorf("there is no frame %d", n)
	}
	corners := geom.Bounds(thing).Corners()
	var others []track.FrameReader
	for _, by := range []int{3, -3, 1, -1} {
		if m := n + by; has(m) && len(others) < 2 {
			others = append(others, until(ctx, s.through(m, geom.Identity)))
		}
	}
	if len(others) == 0 {
		return nil, errors.New("a shot of one frame has nothing to follow: choose Still")
	}
	found, err := track.Propose(until(ctx, s.through(n, geom.Identity)), others, s.Size(), corners[:], geom.Perspective)
	if err != nil {
		return nil, err
	}
	out := &ProposedRegion{Frame: n, Words: fmt.Sprintf("Holds to %.2f px three frames on; %.0f %% of it agrees. Drag its corners "+
		"where it reaches over the surface.", found.Deviation+found.Residual, 100*found.Agree)}
	for _, p := range found.Region {
		out.Region = append(out.Region, treatment.Vec{p.X, p.Y})
	}
	return out, nil
}

// until has a reader fail as soon as the context ends: who asked may have gone.
func until(ctx context.Context, read track.FrameReader) track.FrameReader {
	return func(rect image.Rectangle) (*raster.Plane, error) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		return read(rect)
	}
}
