package picture

import (
	"context"
	"encoding/json"
	"image"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/track"
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
		polygons, err := f.exclusions(context.Background(), n)
		require.NoError(t, err)
		for _, polygon := range polygons {
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

// Rectangles over a matte hold all that it covers, and little besides. At random.
func TestPolygonsHoldAMatte(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 2))
	for range 40 {
		p := raster.NewPlane(image.Rect(0, 0, 1+rng.IntN(60), 1+rng.IntN(60)))
		p.Rect = p.Rect.Add(image.Pt(rng.IntN(9)-4, rng.IntN(9)-4))
		cx, cy, r := float64(p.Rect.Min.X)+60*rng.Float64(), float64(p.Rect.Min.Y)+60*rng.Float64(), 25*rng.Float64()
		covers := func(x, y int) bool {
			d := math.Hypot(float64(x)-cx, float64(y)-cy)
			return d < r && d > r/3
		}
		for y := p.Rect.Min.Y; y < p.Rect.Max.Y; y++ {
			for x := p.Rect.Min.X; x < p.Rect.Max.X; x++ {
				if covers(x, y) {
					p.Row(y, x, x+1)[0] = 0.2 + 0.8*rng.Float32()
				}
			}
		}
		all := rectanglesOver(p)
		for y := p.Rect.Min.Y; y < p.Rect.Max.Y; y++ {
			for x := p.Rect.Min.X; x < p.Rect.Max.X; x++ {
				in := slices.ContainsFunc(all, func(polygon []geom.Point) bool {
					return geom.Inside(polygon, geom.Pt(float64(x)+0.5, float64(y)+0.5))
				})
				near := false
				for k := -3; k <= 3; k++ {
					near = near || covers(x, y+k)
				}
				if covers(x, y) {
					require.True(t, in, "what is covered is left out")
				} else if in {
					require.True(t, near, "nothing else is, but beside it")
				}
			}
		}
	}
}
