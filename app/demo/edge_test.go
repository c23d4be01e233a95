package demo_test

import (
	"context"
	"encoding/json"
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
	demotest.Share(t, 4)
	s := clip(t, demo.CanPlateFolder, demo.CanFirst)
	const from = 1029
	shape := treatment.Shape{ID: "arm", Name: "Arm", Kind: treatment.Outline, Home: from, Ride: treatment.Still}
	for _, p := range demo.Sleeve(from).Outline() {
		shape.Points = append(shape.Points, treatment.Knot{At: treatment.Vec{p.X, p.Y}})
	}
	doc := treatment.New()
	doc.Removals = []treatment.Removal{
		{
			ID:        "r",
			Name:      "Rod",
			Range:     treatment.Range{First: demo.CanFirst, Last: demo.CanLast},
			Reference: from,
			Settle:    treatment.Settle{Opacity: 1},
			Guard: &treatment.Guard{
				Fronts: []treatment.Front{
					{ID: "f", Name: "Arm", By: treatment.ByOutline, Shapes: []treatment.Shape{shape}},
				},
			},
		},
	}
	run := picture.EdgeRun{Removal: "r", Shape: "arm", From: from, First: 1005, Last: 1039, Steady: 0.7}
	found, err := s.FollowEdge(context.Background(), doc, run, nil, func(picture.EdgeFound) {})
	// Where the arm has left the picture nothing parts inside from outside: following stops
	// there by itself and keeps what it found.
	var lost *picture.LostTrack
	require.ErrorAs(t, err, &lost)
	t.Log(lost)
	require.NotEmpty(t, found)
	assert.Less(t, found[0].Frame, 1026)
	assert.Greater(t, found[0].Frame, 1015)
	worst := 1.0
	for _, f := range found {
		var knots []geom.Knot
		for i := range f.Points {
			knots = append(knots, f.Points[i].Geom())
		}
		v := demotest.Overlap(geom.Flatten(knots, 0.1), demo.Sleeve(f.Frame).Outline(), s.Size())
		worst = math.Min(worst, v)
		if f.Frame >= 1028 && f.Frame <= 1034 {
			assert.Empty(t, f.Doubt, "frame %d", f.Frame)
		}
		if f.Frame == 1023 || f.Frame == 1038 { // it is smeared, and leaves
			assert.NotEmpty(t, f.Doubt, "frame %d", f.Frame)
		}
		t.Logf("%d: %.3f %s size %.3f", f.Frame, v, f.Doubt, geom.Area(geom.Flatten(knots, 0.1))/geom.Area(demo.Sleeve(f.Frame).Outline()))
	}
	assert.Greater(t, worst, 0.9)

	// Interrupted on the way, and gone on with from what was kept, it finds the very same.
	run.First, run.Last = 1027, 1031
	short, err := s.FollowEdge(context.Background(), doc, run, nil, func(picture.EdgeFound) {})
	require.NoError(t, err)
	interrupted, stop := context.WithCancel(context.Background())
	var kept []byte
	steps := &picture.Checkpoint{}
	steps.Saved = func() {
		if kept, err = json.Marshal(steps.Found); len(steps.Found) == 2 {
			stop()
		}
	}
	_, err = s.FollowEdge(interrupted, doc, run, steps, func(picture.EdgeFound) {})
	require.ErrorIs(t, err, context.Canceled)
	before, fresh := len(steps.Found), 0
	steps = &picture.Checkpoint{Saved: func() { fresh++ }}
	require.NoError(t, json.Unmarshal(kept, &steps.Found))
	again, _ := s.FollowEdge(context.Background(), doc, run, steps, func(picture.EdgeFound) {})
	assert.Equal(t, short, again)
	assert.Less(t, before, 4)
	assert.Positive(t, fresh)

	// One correction on the last frame mends what lies before it.
	overlap := func(f picture.EdgeFound) float64 {
		var knots []geom.Knot
		for i := range f.Points {
			knots = append(knots, f.Points[i].Geom())
		}
		return demotest.Overlap(geom.Flatten(knots, 0.1), demo.Sleeve(f.Frame).Outline(), s.Size())
	}
	target := doc.Removals[0].Shape("arm")
	picture.KeepEdge(target, found)
	slipped := 0.0
	for i, f := range found {
		if f.Frame > 1034 && f.Frame < 1039 { // as if it had slipped off
			for k := range target.Keys[i].Points {
				target.Keys[i].Points[k].At[1] += 6 * float64(f.Frame-1034)
			}
			slipped += overlap(picture.EdgeFound{Frame: f.Frame, Points: target.Keys[i].Points}) / 4
		}
		if f.Frame == 1039 {
			for k, p := range demo.Sleeve(1039).Outline() {
				target.Keys[i].Points[k].At = treatment.Vec{p.X, p.Y}
			}
		}
	}
	mended, err := s.FollowEdge(
		context.Background(),
		doc,
		picture.EdgeRun{Removal: "r", Shape: "arm", From: 1034, First: 1034, Last: 1039, Mend: true},
		nil,
		func(picture.EdgeFound) {},
	)
	require.NoError(t, err)
	require.Len(t, mended, 6)
	after := 0.0
	for _, f := range mended[1:5] {
		after += overlap(f) / 4
	}
	t.Logf("from 1035 to 1038: %.4f, mended %.4f", slipped, after)
	assert.Less(t, slipped, 0.8)
	assert.Greater(t, after, 0.95)
	assert.InDelta(t, 1, overlap(mended[5]), 1e-3, "what was set right stays")
}
