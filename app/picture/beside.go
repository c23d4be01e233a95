package picture

import (
	"context"
	"errors"
	"fmt"

	"jardin/core/fill"
	"jardin/core/render"
	"jardin/core/treatment"
)

// A Place is one that clean pixels may come from.
type Place struct {
	Offset treatment.Vec `json:"offset" doc:"From what goes to there, pixels"`
	Off    float64       `json:"off" doc:"By how much the picture around both differs, RMS of the square root of light"`
}

// Beside proposes where on frame n clean pixels for a removal lie.
func (s *Source) Beside(ctx context.Context, t *render.Treatment, removal string, n int) (*Place, error) {
	r := t.Removal(removal)
	if r == nil {
		return nil, fmt.Errorf("there is no removal %q", removal)
	}
	plate, err := s.Linear(ctx, n, s.Size())
	if err != nil {
		return nil, err
	}
	avoid, err := s.eval.Occluded(ctx, t, removal, n)
	if err != nil {
		return nil, err
	}
	matte, err := s.eval.Matte(ctx, t, removal, n)
	if err != nil {
		return nil, err
	}
	by, off, ok := fill.Beside(plate, matte, avoid, max(96, s.Size().Dx()/12))
	if !ok {
		return nil, errors.New("there is no free place beside the outlines; choose one by hand")
	}
	return &Place{treatment.Vec{float64(by.X), float64(by.Y)}, off}, nil
}
