package picture

import (
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
