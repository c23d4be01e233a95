package demo_test

import (
	"context"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/app/picture"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// The gardener's arm, drawn once where it reaches farthest, follows its edge by itself.
func TestAnOutlineFollowsTheArm(t *testing.T) {
	s := clip(t, demo.CanPlateFolder, demo.CanFirst)
	const from = 1029
	shape := treatment.Shape{ID: "arm", Name: "Arm", Kind: treatment.Outline, Home: from, Ride: treatment.Still}
	for _, p := range demo.Sleeve(from).Outline() {
		shape.Points = append(shape.Points, treatment.Knot{At: treatment.Vec{p.X, p.Y}})
	}
	doc := treatment.New()
	doc.Removals = []treatment.Removal{{ID: "r", Name: "Rod", Range: treatment.Range{First: demo.CanFirst, Last: demo.CanLast}, Reference: from, Settle: treatment.Settle{Opacity: 1},
		Guard: &treatment.Guard{Fronts: []treatment.Front{{ID: "f", Name: "Arm", By: treatment.ByOutline, Shapes: []treatment.Shape{shape}}}}}}
	found, err := s.FollowEdge(context.Background(), doc, picture.EdgeRun{Removal: "r", Shape: "arm", From: from, First: 1023, Last: 1039, Steady: 0.7}, func(picture.EdgeFound) {})
	if err != nil {
		t.Log(err)
	}
	require.NotEmpty(t, found)
	worst := 1.0
	for _, f := range found {
		var knots []geom.Knot
		for i := range f.Points {
			knots = append(knots, f.Points[i].Geom())
		}
		v := demotest.Overlap(geom.Flatten(knots, 0.1), demo.Sleeve(f.Frame).Outline(), s.Size())
		worst = math.Min(worst, v)
		t.Logf("%d: %.3f", f.Frame, v)
	}
	assert.Greater(t, worst, 0.9)
}
