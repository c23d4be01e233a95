package picture

import (
	"context"
	"slices"

	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/track"
	"jardin/core/treatment"
)

// mostChained is the share of a surface that bends that is followed from frame to frame, from which on that is said.
const mostChained = 0.3

// followBending follows a surface that bends both ways from where the run begins, always by how it looks on its home frame.
func (f *follower) followBending(ctx context.Context, first *treatment.Sample, tell func(*treatment.Sample)) error {
	without, err := f.notIts(ctx)
	if err != nil {
		return err
	}
	if f.mix, err = f.texture(without); err != nil {
		return err
	}
	if f.run.From != f.what.Home {
		// How it is bent where it is followed from is told anew: from what was known there, if it bent then as well.
		for _, m := range f.measured.Samples {
			if m.Frame == first.Frame {
				first.Bend = m.Bend
			}
		}
		t, err := f.soft(ctx, first, without)
		if err != nil {
			return err
		}
		read, covered, err := f.seen(ctx, first.Frame)
		if err != nil {
			return err
		}
		found, err := t.Step(read, covered)
		switch {
		case track.Lost(err):
			return &LostTrack{"the surface that bends", first.Frame, err}
		case err != nil:
			return err
		}
		refined := first.Refined
		first = softSample(first.Frame, found)
		first.Refined = refined
	}
	tell(first)
	return f.both(func(last int) error {
		t, err := f.soft(ctx, first, without)
		if err != nil {
			return err
		}
		var lost *LostTrack // since then
		before := f.run.From
		err = eachFrame(ctx, f.run.From, last, func(n int) error {
			if along := f.what.Bends.Along; along != "" {
				if d, ok := f.motions.Between(along, before, n); ok { // where it is not known it counts once it is
					t.Moved(d)
					before = n
				}
			}
			read, covered, err := f.seen(ctx, n)
			if err != nil {
				return err
			}
			found, err := t.Step(read, covered)
			switch {
			case track.Lost(err):
				if lost == nil {
					lost = &LostTrack{"the surface", n, err}
				}
				return nil // it is looked for on the frames after
			case err != nil:
				return err
			}
			lost = nil
			tell(softSample(n, found))
			if slices.Contains(f.what.Bends.Homes, n) {
				return f.keep(ctx, t, n)
			}
			return nil
		})
		if err != nil {
			return err
		}
		return lostOr(lost)
	})
}

// softSample is what was found of a surface that bends as it is kept.
func softSample(n int, s track.SoftSample) *treatment.Sample {
	bend := treatment.NewBend(&s.Bend, s.Agree)
	bend.Why = s.Why
	return &treatment.Sample{
		Frame: n, Matrix: s.H, Match: s.Match, Agree: s.Share, Blocks: blocks(s.Blocks()), Chained: s.Chained > mostChained,
		Bend: bend,
	}
}

// notIts is what does not count of the surface on its home frame.
func (f *follower) notIts(ctx context.Context) ([][]geom.Point, error) {
	without, err := f.exclusions(ctx, f.what.Home)
	if err != nil || !f.what.Bends.Around {
		return without, err
	}
	for _, s := range f.doc.MarkedOn(f.what) {
		there := *s
		there.Ride = treatment.Still // it was drawn on this very frame
		if pose, ok := f.motions.Pose(&there, treatment.Still, f.what.Home); ok {
			without = append(without, f.straight(pose.Polygon(&there)))
		}
	}
	return without, nil
}

// texture is the mix of the channels in which the surface is followed.
func (f *follower) texture(without [][]geom.Point) (mix colorspace.Mix, err error) {
	region := f.straight(treatment.Points(f.what.Region))
	rect := raster.Around(geom.Bounds(region), 4, f.Size())
	var each [3]*raster.Plane
	for c := range each {
		single := colorspace.Mix{}
		single[c] = 1
		read, err := f.reader(f.what.Home, single)
		if err != nil {
			return mix, err
		}
		if each[c], err = read(rect); err != nil {
			return mix, err
		}
	}
	return track.TextureMix(each, region, without), nil
}

// soft prepares to go on from how it is bent on a frame; it always looks from the home frame.
func (f *follower) soft(ctx context.Context, from *treatment.Sample, without [][]geom.Point) (*track.Soft, error) {
	b := f.what.Bends
	home, err := f.reader(f.what.Home, f.mix)
	if err != nil {
		return nil, err
	}
	t, err := track.NewSoft(home, f.Size(), f.straight(treatment.Points(f.what.Region)), without, track.SoftSettings{Stiffness: b.Stiffness, Detail: b.Detail})
	if err != nil {
		return nil, err
	}
	begin := func(at geom.Homography, b *treatment.Bend) {
		if b == nil {
			t.Begin(at, nil, nil)
			return
		}
		l, _ := b.Lattice()
		t.Begin(at, &l, b.Agreement())
	}
	// Frames that count beside the home, if they were found already on the way.
	for _, m := range f.measured.Samples {
		if between := (m.Frame-f.what.Home)*(from.Frame-m.Frame) >= 0 && m.Frame != f.what.Home; between && slices.Contains(b.Homes, m.Frame) {
			begin(m.Matrix, m.Bend)
			if err := f.keep(ctx, t, m.Frame); err != nil {
				return nil, err
			}
		}
	}
	begin(from.Matrix, from.Bend)
	return t, nil
}

// keep has frames after one be compared with how the surface looks there as well.
func (f *follower) keep(ctx context.Context, t *track.Soft, n int) error {
	read, covered, err := f.seen(ctx, n)
	if err != nil {
		return err
	}
	return t.Keep(read, covered)
}
