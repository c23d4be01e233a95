package picture

import (
	"context"
	"errors"
	"fmt"
	"math"

	"jardin/core/carry"
	"jardin/core/check"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// Scores say which frame of a removal is the best reference frame, and why.
type Scores struct {
	Removal string             `json:"removal"`
	Frames  []check.FrameScore `json:"frames" nullable:"false" doc:"Best first"`
	Words   string             `json:"words"`
}

// Scout scores every frame of a removal's range on which its outlines are known.
// each is told how many are done.
func (s *Source) Scout(
	ctx context.Context,
	doc *treatment.Document,
	removal string,
	steps *Checkpoint,
	each func(done, total int),
) (*Scores, error) {
	r, _ := doc.Find(removal)
	if r == nil {
		return nil, errors.New("the removal was deleted before its frames could be scored")
	}
	motions, err := carry.New(doc)
	if err != nil {
		return nil, err
	}
	agree := map[int]float64{}
	if m := motions.Motion(r.Follow.Track); m != nil {
		for _, v := range m.Samples {
			agree[v.Frame] = v.Agree
		}
	}
	// Where the thing is: the box around its outlines.
	where := func(n int) []geom.Point {
		var all []geom.Point
		for i := range r.Mark.Outlines {
			shape := &r.Mark.Outlines[i]
			if pose, ok := motions.Pose(shape, r.Follow.Track, n); ok && !shape.Invert &&
				shape.Combine != treatment.Take {
				all = append(all, pose.Polygon(shape)...)
			}
		}
		if len(all) == 0 {
			return nil
		}
		corners := geom.Bounds(all).Corners()
		return corners[:]
	}
	if len(r.Mark.Outlines) == 0 {
		return nil, errors.New("draw an outline around the thing first: frames are scored by how it looks on them")
	}
	var looks []check.FrameScore
	for n := r.Range.First; n <= r.Range.Last; n++ {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		each(n-r.Range.First, r.Range.Len())
		l, err := taken(steps, fmt.Sprint("frame ", n), func() (*check.FrameScore, error) {
			polygon := where(n)
			area := geom.Area(polygon)
			if polygon == nil || area < 1 {
				return nil, nil
			}
			l := &check.FrameScore{Frame: n, Size: area, Clear: 1}
			if a, ok := agree[n]; ok && a > 0 {
				l.Clear = a
			}
			box := geom.Bounds(polygon)
			w, h := float64(s.Plates.Width), float64(s.Plates.Height)
			in := geom.Box{
				Min: geom.Pt(math.Max(box.Min.X, 0), math.Max(box.Min.Y, 0)),
				Max: geom.Pt(math.Min(box.Max.X, w), math.Min(box.Max.Y, h)),
			}
			if in.Max.X <= in.Min.X || in.Max.Y <= in.Min.Y {
				return nil, nil
			}
			l.Inside = (in.Max.X - in.Min.X) * (in.Max.Y - in.Min.Y) / ((box.Max.X - box.Min.X) * (box.Max.Y - box.Min.Y))
			// The shutter is open half of the time from one frame to the next (180 degrees).
			beside := 0
			for _, other := range []int{n - 1, n + 1} {
				if there := where(other); there != nil {
					l.Smear += geom.Bounds(there).Centre().Dist(box.Centre()) / 2
					beside++
				}
			}
			l.Smear /= float64(max(beside, 1))
			margin := math.Max(12, math.Max(box.Max.X-box.Min.X, box.Max.Y-box.Min.Y)/2) + 2
			part := raster.Around(box, margin, s.Size())
			f, err := s.Plates.Region(n, part)
			if err != nil {
				return nil, err
			}
			luma := f.Channel(colorspace.LumaMix)
			luma.Rect = luma.Rect.Add(part.Min)
			l.Around(luma, polygon)
			return l, nil
		})
		if err != nil {
			return nil, err
		}
		if l != nil {
			looks = append(looks, *l)
		}
	}
	if len(looks) < 2 && r.Range.Len() > 1 {
		return nil, errors.New("the thing's place is known on one frame only; follow the surface first, then ask again")
	}
	out := &Scores{Removal: removal}
	out.Frames, out.Words = check.Rank(looks)
	return out, nil
}
