package picture

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// The artist's own points count where they were found: on runs of frames, not on those between.
func TestPointsOfOnesOwnCount(t *testing.T) {
	at := func(n int) treatment.PointSample {
		return treatment.PointSample{Frame: n, At: treatment.Vec{float64(n), 5}}
	}
	doc := treatment.New()
	doc.Tracks = []treatment.Track{{ID: "p", Name: "Points", Kind: treatment.PointsTrack, Home: 10, Motion: geom.Similarity, Points: []treatment.Point{
		{ID: "a", Name: "A", Home: 10, At: treatment.Vec{10, 5}, Path: &treatment.PointPath{Samples: []treatment.PointSample{at(11), at(12), at(13), at(20), at(21), at(22), at(30)}}},
	}}}
	motions, err := carry.New(doc)
	require.NoError(t, err)
	tracks := pointTracks(doc, motions)
	require.Len(t, tracks, 2)
	assert.Equal(t, 10, tracks[0].First)
	assert.Len(t, tracks[0].At, 4)
	assert.Equal(t, 20, tracks[1].First)
	assert.Equal(t, geom.Pt(21, 5), tracks[1].At[1])
}

// What is left out of a track that is followed in the straight picture is left out where it is there.
func TestWhatIsLeftOutIsStraightenedToo(t *testing.T) {
	lens, err := geom.LensOf([3]float64{-0.1, 0, 0}, 960, 540, geom.Pt(480, 270), 1)
	require.NoError(t, err)
	doc := treatment.New()
	doc.Tracks = []treatment.Track{{ID: "w", Name: "Wall", Kind: treatment.PlaneTrack, Home: 5, Motion: geom.Perspective, Exclusions: []treatment.Shape{
		{ID: "x", Name: "Out", Kind: treatment.Outline, Home: 5, Ride: treatment.Still, Points: []treatment.Knot{
			{At: treatment.Vec{10, 10}}, {At: treatment.Vec{90, 10}}, {At: treatment.Vec{90, 60}}, {At: treatment.Vec{10, 60}}}},
	}}}
	motions, err := carry.New(doc)
	require.NoError(t, err)
	f := follower{doc: doc, what: &doc.Tracks[0], motions: motions, lens: lens}
	out, err := f.exclusions(context.Background(), 5)
	require.NoError(t, err)
	require.Len(t, out, 1)
	corner := lens.Straighten(geom.Pt(10, 10))
	assert.Greater(t, corner.Dist(geom.Pt(10, 10)), 30.0)
	near := false
	for _, p := range out[0] {
		near = near || p.Dist(corner) < 1e-6
	}
	assert.True(t, near)
}
