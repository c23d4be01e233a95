package picture

import (
	"encoding/json"
	"jardin/core/track"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// Outlines of fronts and of removals are left out of following by choice: where they lie on that frame, but for those that
// ride on the track itself, that are off, or not there then.
func TestWhatIsMarkedIsLeftOutByChoice(t *testing.T) {
	at := func(id, ride string, x float64) treatment.Shape {
		return treatment.Shape{ID: id, Name: id, Kind: treatment.Outline, Home: 10, Ride: ride, Points: []treatment.Knot{
			{At: treatment.Vec{x, 0}}, {At: treatment.Vec{x + 10, 0}}, {At: treatment.Vec{x + 10, 10}}, {At: treatment.Vec{x, 10}},
		}}
	}
	moved := &treatment.Data{}
	for n := 8; n <= 14; n++ {
		moved.Samples = append(moved.Samples, treatment.Sample{Frame: n, Matrix: geom.Translation(geom.Pt(0, float64(3*(n-10))))})
	}
	doc := treatment.New()
	doc.Tracks = []treatment.Track{
		{ID: "t", Kind: treatment.PlaneTrack, Home: 10, Motion: geom.Position, Exclusions: []treatment.Shape{at("x", "", 0)}},
		{ID: "other", Kind: treatment.GivenTrack, Home: 10, Motion: geom.Position, Data: moved},
	}
	later := at("late", treatment.Still, 500)
	later.Range = &treatment.Range{First: 13, Last: 14}
	doc.Removals = []treatment.Removal{
		{ID: "a", Follow: treatment.Follow{Track: "t"}, Mark: treatment.Mark{Outlines: []treatment.Shape{
			at("own", "", 100), at("still", treatment.Still, 200),
		}}},
		{ID: "b", Follow: treatment.Follow{Track: "other"}, Mark: treatment.Mark{Outlines: []treatment.Shape{
			at("theirs", "", 300), at("named", "t", 350), later,
		}}, Guard: &treatment.Guard{Fronts: []treatment.Front{
			{ID: "f", By: treatment.ByOutline, Shapes: []treatment.Shape{at("front", "", 400)}},
			{ID: "g", By: treatment.ByOutline, Off: true, Shapes: []treatment.Shape{at("off", "", 450)}},
		}}},
		{ID: "c", Off: true, Follow: treatment.Follow{Track: "other"}, Mark: treatment.Mark{Outlines: []treatment.Shape{at("gone", "", 600)}}},
	}
	left := func(marked bool, n int) (out []geom.Point) {
		doc.Tracks[0].LeaveMarked = marked
		motions, err := carry.New(doc)
		require.NoError(t, err)
		f := &follower{doc: doc, what: &doc.Tracks[0], motions: motions}
		for _, polygon := range f.exclusions(n) {
			out = append(out, geom.Bounds(polygon).Min)
		}
		return out
	}
	assert.Equal(t, []geom.Point{{X: 0}}, left(false, 12))
	assert.Equal(t, []geom.Point{{X: 0}, {X: 200}, {X: 300, Y: 6}, {X: 400, Y: 6}}, left(true, 12))
	assert.Contains(t, left(true, 13), geom.Pt(500, 0))
	before := doc.BasisOf(&doc.Tracks[0])
	doc.Removals[0].Name = "another name"
	assert.Equal(t, before, doc.BasisOf(&doc.Tracks[0]))
	changed := 0
	for i := range doc.Removals {
		for k := range doc.Removals[i].Mark.Outlines {
			s := &doc.Removals[i].Mark.Outlines[k]
			s.Points[0].At[0]++
			if doc.BasisOf(&doc.Tracks[0]) != before {
				changed++
			}
			s.Points[0].At[0]--
		}
	}
	assert.Positive(t, changed, "an outline that is left out was moved")
	doc.Tracks[0].LeaveMarked = false
	assert.NotEqual(t, before, doc.BasisOf(&doc.Tracks[0]), "what was measured is out of date then")
}

// A point that nothing holds is kept all the same: no file holds an infinity.
func TestAPointThatNothingHoldsIsKept(t *testing.T) {
	v := pointSample(3, track.PointSample{Variance: [3]float64{math.Inf(1), math.NaN(), 1e300}, Known: true})
	blob, err := json.Marshal(v)
	require.NoError(t, err)
	var back treatment.PointSample
	require.NoError(t, json.Unmarshal(blob, &back))
	assert.Equal(t, v, back)
}
