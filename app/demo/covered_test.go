package demo_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// A piece of the hedge's edge in lm_020, which the gardener's arm covers, unmarked: it is followed up to the arm, found again
// behind it, and nowhere else. What led to the loss is not kept.
func TestWhatTheArmCovers(t *testing.T) {
	known := demotest.CanTruth(t)
	s := clip(t, demo.CanPlateFolder, demo.CanFirst)
	const home = 1012
	region := []treatment.Vec{{700, 125}, {850, 125}, {850, 192}, {700, 192}}
	for _, motion := range []geom.Motion{geom.Similarity, geom.Perspective} {
		track := tracked(t, s, treatment.Track{
			ID: "e", Name: "Edge", Kind: treatment.PlaneTrack, Home: home, Motion: motion, Region: region,
		}, demo.CanFirst, demo.CanLast)
		back := inverse(known.Motion[home])
		found := map[int]bool{}
		worst := 0.0
		for _, v := range track.Data.Samples {
			found[v.Frame] = true
			h := known.Motion[v.Frame]
			truth := h.Mul(back)
			for _, c := range treatment.Points(region) {
				worst = max(worst, v.Matrix.Apply(c).Dist(truth.Apply(c)))
			}
		}
		t.Logf("covered, %v: known on %d frames, worst corner %.2f px", motion, len(found), worst)
		assert.Less(t, worst, 1.0, "%v: wherever it is said to be known", motion)
		assert.True(t, found[demo.CanFirst] && found[1021] && found[demo.CanLast], "%v: before and behind", motion)
		assert.False(t, found[1030], "%v: the arm lies on it", motion)
	}
}
