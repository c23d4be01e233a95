package picture

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"jardin/core/carry"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/track"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// planeFollowing follows a region of a flat surface.
type planeFollowing struct{}

func (planeFollowing) ready(t *treatment.Track) error {
	if len(t.Region) < 3 {
		return fmt.Errorf("%q has no region yet; draw one around a piece of the surface", t.Name)
	}
	return nil
}

func (planeFollowing) merge(doc *treatment.Document, t *treatment.Track, found []Tracked, all bool) {
	var news []treatment.Sample
	for _, f := range found {
		if f.Sample != nil {
			news = append(news, *f.Sample)
		}
	}
	if len(news) == 0 {
		return
	}
	basis := doc.BasisOf(t)
	if t.Data != nil {
		// Frames between are those on which it was lost: what was measured there before is no longer so.
		first, last := news[0].Frame, news[0].Frame
		for _, s := range news {
			first, last = min(first, s.Frame), max(last, s.Frame)
		}
		old := slices.DeleteFunc(slices.Clone(t.Data.Samples), func(s treatment.Sample) bool {
			return s.Frame >= first && s.Frame <= last
		})
		news = join(old, news, func(s treatment.Sample) int { return s.Frame })
		if !all {
			basis = t.Data.Basis
		}
	}
	t.Data = &treatment.Data{Basis: basis, Samples: join(nil, news, func(s treatment.Sample) int { return s.Frame })}
}

func (planeFollowing) follow(ctx context.Context, f *follower) error {
	start, ok := f.measured.At(f.run.From)
	if !ok {
		return fmt.Errorf(
			"%q is not known on frame %d; follow from a frame on which it is, or place it there by hand first",
			f.what.Name,
			f.run.From,
		)
	}
	here, err := f.reader(f.run.From, colorspace.LumaMix)
	if err != nil {
		return err
	}
	first := &treatment.Sample{Frame: f.run.From, Matrix: start, Match: 1, Agree: 1}
	if err := f.refine(ctx, first, here); err != nil {
		return err
	}
	start = first.Matrix
	tell := func(s *treatment.Sample) {
		toFrame := warp.Mapping(warp.Of(s.Matrix))
		if s.Bend != nil {
			if l, ok := s.Bend.Lattice(); ok {
				toFrame, _ = warp.NewBent(geom.Identity, s.Matrix, nil, []geom.Lattice{l})
			}
		}
		toFrame = warp.Chain(warp.LensOut(f.lens), toFrame, warp.LensIn(f.lens))
		if f.what.Over != "" {
			toFrame = warp.Chain(toFrame, f.motions.Mapping(f.what.Over, f.what.Home, s.Frame))
		}
		f.each(Tracked{Frame: s.Frame, Mesh: carry.MeshOf(f.what, toFrame), Sample: s})
	}
	if f.what.Bends != nil {
		return f.followBending(ctx, first, tell)
	}
	home, fresh := f.what.RegionFor(f.run.From)
	region, joined := start.ApplyAll(f.straight(treatment.Points(home))), 0
	if fresh {
		joined = 1
	}
	// What a fresh region is joined to is as unsure as that was there.
	unsure := 0.0
	if i := slices.IndexFunc(f.measured.Samples, func(m carry.Moment) bool { return m.Frame == f.run.From }); fresh && i >= 0 {
		unsure = f.measured.Samples[i].Deviation
	}
	if !fresh || first.Refined != "" {
		tell(first)
	}
	return f.both(func(last int) error {
		before, err := f.before(start)
		if err != nil {
			return err
		}
		without, err := f.exclusions(ctx, f.run.From)
		if err != nil {
			return err
		}
		t, err := track.NewSurface(here, f.Size(), region, without, f.what.Motion, before)
		if err != nil {
			return err
		}
		told := map[int]treatment.Sample{}
		var lost *LostTrack              // since then
		var doubtful []*treatment.Sample // since it was sure: what leads to a loss went astray before
		flush := func() {
			for _, s := range doubtful {
				told[s.Frame] = *s
				tell(s)
			}
			doubtful = nil
		}
		err = eachFrame(ctx, f.run.From, last, func(n int) error {
			read, covered, err := f.seen(ctx, n)
			if err != nil {
				return err
			}
			found, err := t.Step(read, covered)
			switch {
			case track.Lost(err):
				if lost == nil {
					lost = &LostTrack{"the surface", n - len(doubtful)*sign(last-f.run.From), err}
				}
				doubtful = nil
				return nil // it is looked for on the frames after
			case err != nil:
				return err
			}
			lost = nil
			doubtful = append(doubtful, &treatment.Sample{
				Frame: n, Matrix: found.H.Mul(start).Normalised(), Match: min(found.Match, 1), Agree: min(found.Agree,
					1),
				Residual: found.Residual, Blocks: blocks(found.Blocks), Chained: found.Chained,
				Moved: found.Moved + joined, Deviation: min(math.Round(math.Hypot(found.Deviation, unsure)*1000)/1000, 1e6),
			})
			if found.Sure() || found.Chained {
				flush()
			}
			return nil
		})
		flush()
		if err != nil {
			return err
		}
		for _, better := range t.Together() {
			if s, ok := told[f.run.From+better.Step*sign(last-f.run.From)]; ok {
				s.Matrix = better.H.Mul(start).Normalised()
				tell(&s)
			}
		}
		return lostOr(lost)
	})
}

// lostOr is the error of what was lost at last; nil for nothing.
func lostOr(lost *LostTrack) error {
	if lost == nil {
		return nil
	}
	return lost
}

// refine finds the surface near where it was placed by hand as a first guess, by its looks on the home frame; where it is not
// found there, it stays as it was placed.
func (f *follower) refine(ctx context.Context, first *treatment.Sample, here track.FrameReader) error {
	i := slices.IndexFunc(f.what.Placed, func(p treatment.PlacedSurface) bool { return p.Frame == first.Frame && p.Guess })
	if i < 0 || first.Frame == f.what.Home {
		return nil
	}
	home, without, err := f.seen(ctx, f.what.Home)
	if err != nil {
		return err
	}
	covered, err := f.exclusions(ctx, first.Frame)
	if err != nil {
		return err
	}
	t, err := track.NewPlane(home, f.Size(), f.straight(treatment.Points(f.what.Region)), without, f.what.Motion)
	if err != nil {
		return err
	}
	found, err := t.Near(here, covered, first.Matrix)
	switch {
	case track.Lost(err):
		return nil
	case err != nil:
		return err
	}
	first.Matrix, first.Match, first.Agree, first.Residual = found.H, min(found.Match, 1), min(found.Agree, 1), found.Residual
	first.Blocks, first.Refined = blocks(found.Blocks), f.what.Placed[i].Basis()
	return nil
}

// before are frames near the one that is followed from on which the surface was found already: where its region is out of the
// picture by now, they tell what else is the same surface.
func (f *follower) before(start geom.Homography) (out []track.Look, err error) {
	const near = 4
	back, ok := start.Inverse()
	if !ok {
		return nil, nil
	}
	for _, n := range []int{f.run.From - near, f.run.From + near} {
		h, known := f.measured.At(n)
		if !known || n < f.Plates.First || n > f.Plates.Last {
			continue
		}
		read, err := f.reader(n, colorspace.LumaMix)
		if err != nil {
			return nil, err
		}
		out = append(out, track.Look{Read: read, H: h.Mul(back)})
	}
	return out, nil
}

func blocks(b [track.Blocks * track.Blocks]uint8) string {
	var out strings.Builder
	for _, v := range b {
		out.WriteByte('0' + v)
	}
	return out.String()
}

func sign(v int) int {
	if v < 0 {
		return -1
	}
	return 1
}
