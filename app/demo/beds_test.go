package demo_test

import (
	"context"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/camera"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// bedsPath is how far a path is off that of lm_050 after the best similarity, as a share of its length, and that similarity.
func bedsPath(t *testing.T, known demo.BedsTruth, path *treatment.Solved) (float64, camera.Similarity) {
	t.Helper()
	var found, eyes []camera.Vec
	var length float64
	for i, v := range path.Views {
		found, eyes = append(found, v.Eye), append(eyes, known.Eyes[v.Frame])
		if i > 0 {
			length += eyes[i].Dist(eyes[i-1])
		}
	}
	sim, err := camera.AlignPaths(found, eyes)
	require.NoError(t, err)
	var sum float64
	for i := range found {
		e := sim.Apply(found[i]).Dist(eyes[i])
		sum += e * e
	}
	return math.Sqrt(sum/float64(len(found))) / length, sim
}

// The camera of lm_050 is found from its frames alone (aims: reprojection 0.35 px, path 0.5 % of its length, focal length 1 %, the
// lens 0.5 px at the corners).
func TestTheCameraOfTheBeds(t *testing.T) {
	known := demotest.BedsTruth(t)
	s := clip(t, demo.BedsPlateFolder, demo.BedsFirst)
	began := time.Now()
	var words string
	found, err := s.SolveCamera(context.Background(), &treatment.Document{}, nil, func(what string, done float64) {
		if what != words && done > 0.6 {
			t.Logf("%5.1f s %s", time.Since(began).Seconds(), what)
			words = what
		}
	})
	require.NoError(t, err)
	require.Len(t, found.Path.Views, demo.BedsLast-demo.BedsFirst+1)
	off, _ := bedsPath(t, known, found.Path)
	lens, err := found.Lens.Of()
	require.NoError(t, err)
	truth := demo.BedsLens()
	corner := 0.0
	for _, p := range []geom.Point{{}, {X: demo.Width}, {X: demo.Width, Y: demo.Height}, {Y: demo.Height}} {
		corner = math.Max(corner, lens.Straighten(p).Dist(truth.Straighten(p)))
	}
	fits := 0
	for _, p := range found.Path.Points {
		if !p.Off {
			fits++
		}
	}
	t.Logf("%.1f s: RMS %.3f px, path off by %.2f %%, f %.1f for %.1f, k1 %.4f, corners %.2f px; %d points fit, %d do not",
		time.Since(began).Seconds(), found.Path.RMS, 100*off, found.Path.Views[0].Focal, known.Focal, found.Lens.K[0], corner, fits, len(found.Path.Points)-fits)
	assert.LessOrEqual(t, found.Path.RMS, 0.35)
	assert.LessOrEqual(t, off, 0.005)
	assert.InDelta(t, 1, found.Path.Views[0].Focal/known.Focal, 0.01)
	assert.LessOrEqual(t, corner, 0.5)
	assert.False(t, found.Path.Turning)
}
