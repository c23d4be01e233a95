package demo_test

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/picture"
	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// Points on the hedge are hidden by the gardener's arm and found again behind it, also where following goes on from a frame on
// which they are hidden; the surface holds on all frames, and says where points of it were hidden.
func TestPointsUnderTheArm(t *testing.T) {
	s := clip(t, demo.CanPlateFolder, demo.CanFirst)
	places := map[string]geom.Point{}
	what := treatment.Track{ID: "t", Name: "Hedge", Kind: treatment.PointsTrack, Home: 1020, Motion: geom.Shear}
	for id, at := range map[string]treatment.Vec{"a": {560, 190}, "b": {700, 185}, "c": {740, 420}, "d": {330, 430}} {
		what.Points = append(what.Points, treatment.Point{
			ID: id, Name: id, Home: 1020, At: at, Pattern: treatment.Vec{31, 31}, Search: treatment.Vec{91, 91},
			Motion: geom.Position, Channel: "luma", Against: "reference", Tolerance: 0.7,
		})
		places[id] = at.Point()
	}
	doc := treatment.New()
	doc.Tracks = []treatment.Track{what}
	follow := func(from, first, last int) (found []picture.Tracked) {
		run := picture.Run{Track: "t", From: from, First: first, Last: last}
		err := s.Follow(context.Background(), doc, run, func(f picture.Tracked) { found = append(found, f) })
		var lost *picture.LostTrack
		if err != nil {
			require.True(t, errors.As(err, &lost), "%v", err)
			t.Log(err)
		}
		return found
	}
	keep := func(found []picture.Tracked) {
		for i := range doc.Tracks[0].Points {
			p := &doc.Tracks[0].Points[i]
			if p.Path == nil {
				p.Path = &treatment.PointPath{}
			}
			for _, f := range found {
				if v, ok := f.Points[p.ID]; ok {
					p.Path.Samples = append(p.Path.Samples, v)
					assert.False(t, v.Ambiguous, "leaves differ")
				}
			}
		}
	}
	keep(follow(1020, 1020, 1030))
	keep(follow(1030, 1030, demo.CanLast))
	motions, err := carry.New(doc)
	require.NoError(t, err)
	m := motions.Motion("t")
	hidden, worst, apart := 0, 0.0, 0.0
	for n := 1020; n <= demo.CanLast; n++ {
		truth := demo.CanTransform(1020, n)
		for id, at := range places {
			place, ok := m.Places(id)[n]
			require.True(t, ok, "%s on %d", id, n)
			off := place.At.Dist(truth.Apply(at))
			if place.Bridged {
				hidden++
				apart = max(apart, off)
			} else {
				worst = max(worst, off)
			}
		}
	}
	t.Logf("hidden %d times, then off by at most %.2f px; else by at most %.2f px", hidden, apart, worst)
	assert.Greater(t, hidden, 10)
	assert.Less(t, worst, 0.4)
	assert.Less(t, apart, 0.6)
}
