package picture

import (
	"context"
	"errors"
	"fmt"

	"jardin/core/geom"
	"jardin/core/track"
	"jardin/core/treatment"
)

// Directions in which a surface can be followed from the reference frame.
const (
	Both      = "both"
	Forwards  = "forwards"
	Backwards = "backwards"
)

// Lost says on which frame a surface could not be followed any further, and why.
// What was found before stays good.
type Lost struct {
	Frame int
	Err   error
}

func (e *Lost) Error() string {
	return fmt.Sprintf("lost the surface on frame %d: %v", e.Frame, e.Err)
}
func (e *Lost) Unwrap() error { return e.Err }

// Follow tracks the surface of a removal from its reference frame over its
// range. each is told every sample as it is found. It returns what was found in
// any case: with a *Lost if the surface was lost, once in each direction.
func (s *Source) Follow(ctx context.Context, r *treatment.Removal, direction string, each func(treatment.Sample)) ([]treatment.Sample, error) {
	if len(r.Follow.Region) < 3 {
		return nil, fmt.Errorf("%q has no region yet; draw one around a piece of the surface", r.Name)
	}
	reference, err := s.Plates.Read(r.Reference)
	if err != nil {
		return nil, err
	}
	luma := reference.Luma()
	var found []treatment.Sample
	add := func(n int, t track.Sample) {
		out := treatment.Sample{Frame: n, Matrix: t.H, Match: min(t.Match, 1), Agree: min(t.Agree, 1), Residual: t.Residual}
		found = append(found, out)
		each(out)
	}
	run := func(last, step int) error {
		t, err := track.NewPlane(luma, treatment.Points(r.Follow.Region), r.Follow.Motion)
		if err != nil {
			return err
		}
		for n := r.Reference + step; n*step <= last*step; n += step {
			if err := ctx.Err(); err != nil {
				return err
			}
			f, err := s.Plates.Read(n)
			if err != nil {
				return err
			}
			found, err := t.Step(f.Luma())
			if err != nil {
				return &Lost{n, err}
			}
			add(n, found)
		}
		return nil
	}
	add(r.Reference, track.Sample{H: geom.Identity, Match: 1, Agree: 1})
	var lost error
	if direction != Backwards {
		lost = run(r.Range.Last, 1)
		var l *Lost
		if lost != nil && !errors.As(lost, &l) {
			return found, lost
		}
	}
	if direction != Forwards {
		lost = errors.Join(lost, run(r.Range.First, -1))
	}
	return found, lost
}
