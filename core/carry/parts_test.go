package carry

import (
	"image"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// pointsTrack is a track of points whose places are given by frame.
func pointsTrack(home int, motion geom.Motion, paths map[string]map[int]treatment.PointSample) *treatment.Track {
	t := &treatment.Track{ID: "p", Kind: treatment.PointsTrack, Home: home, Motion: motion}
	for _, id := range []string{"a", "b", "c", "d"} {
		path, ok := paths[id]
		if !ok {
			continue
		}
		p := treatment.Point{ID: id, Home: home, Path: &treatment.PointPath{}}
		first := 1 << 30
		for n, v := range path {
			v.Frame = n
			p.Path.Samples = append(p.Path.Samples, v)
			first = min(first, n)
		}
		if _, known := path[home]; !known {
			p.Home = first
		}
		p.At = path[p.Home].At
		t.Points = append(t.Points, p)
	}
	return t
}

func motionOf(t *testing.T, track *treatment.Track) *Motion {
	s, err := New(&treatment.Document{Tracks: []treatment.Track{*track}})
	require.NoError(t, err)
	return s.Motion(track.ID)
}

// The match of a frame is that of its weakest point: one that has gone astray is not hidden by
// the others.
func TestTheWeakestPointCounts(t *testing.T) {
	m := motionOf(t, pointsTrack(10, geom.Similarity, map[string]map[int]treatment.PointSample{
		"a": {10: {At: treatment.Vec{0, 0}, Match: 1}, 11: {At: treatment.Vec{1, 0}, Match: 0.9}},
		"b": {10: {At: treatment.Vec{50, 0}, Match: 1}, 11: {At: treatment.Vec{51, 0}, Match: 0.5}},
		"c": {10: {At: treatment.Vec{0, 50}, Match: 1}, 11: {At: treatment.Vec{1, 50}, Match: 0.7}},
	}))
	for _, s := range m.Samples {
		if s.Frame == 11 {
			assert.Equal(t, 0.5, s.Match)
			assert.Equal(t, Doubtful, s.Grade)
		}
	}
}

// A point that is not seen at home takes its place there from where the others have moved.
func TestAPointThatComesLaterFindsItsHome(t *testing.T) {
	paths := map[string]map[int]treatment.PointSample{"a": {}, "b": {}}
	for n := 10; n <= 20; n++ {
		d := float64(3 * (n - 10))
		paths["a"][n] = treatment.PointSample{At: treatment.Vec{20 + d, 30}, Match: 1}
		if n >= 14 {
			paths["b"][n] = treatment.PointSample{At: treatment.Vec{90 + d, 70}, Match: 1}
		}
	}
	m := motionOf(t, pointsTrack(10, geom.Similarity, paths))
	for n := 10; n <= 20; n++ {
		h, ok := m.At(n)
		require.True(t, ok)
		near2(
			t,
			geom.Pt(100+float64(3*(n-10)), 100),
			h.Apply(geom.Pt(100, 100)),
			1e-6,
			"frame %d: there is no turn and no growth",
			n,
		)
	}
}

func momentOf(t *testing.T, m *Motion, n int) *Moment {
	i, ok := m.at[n]
	require.True(t, ok)
	return &m.Samples[i]
}

// A point alone that was not found for some frames goes on as it went before and comes as it goes after, and the frames are bad.
func TestAPointsGapIsBridgedSmoothly(t *testing.T) {
	track := pointsTrack(10, geom.Position, map[string]map[int]treatment.PointSample{"a": {}})
	p := &track.Points[0]
	track.Points[0].At, track.Points[0].Home = treatment.Vec{0, 0}, 10
	at := func(n int) geom.Point { u := float64(n - 10); return geom.Pt(3*u, 0.08*u*u) }
	p.Path = &treatment.PointPath{}
	for n := 11; n <= 30; n++ {
		if n < 16 || n > 22 {
			q := at(n)
			p.Path.Samples = append(p.Path.Samples, treatment.PointSample{Frame: n, At: treatment.Vec{q.X, q.Y}, Match: 1})
		}
	}
	m := motionOf(t, track)
	assert.NotContains(t, Path(track, p), 18)
	for n := 16; n <= 22; n++ {
		place := m.Places(p.ID)[n]
		assert.True(t, place.Bridged)
		near2(t, at(n), place.At, 0.2) // 1.3 in a straight line
		v := momentOf(t, m, n)
		assert.True(t, v.Bridged)
		assert.Equal(t, Bad, v.Grade)
	}
	assert.Equal(t, Good, momentOf(t, m, 23).Grade)
	assert.NotContains(t, m.Places(p.ID), 31, "beyond the last it is not known")
	// A gap that only a wild file has is left alone.
	far := *p.Path
	far.Samples = append(slices.Clone(far.Samples), treatment.PointSample{Frame: 2_000_000_000, Match: 1})
	wild := *track
	wild.Points = []treatment.Point{*p}
	wild.Points[0].Path = &far
	assert.Less(t, len(motionOf(t, &wild).Places(p.ID)), 100)
	// Dropped frames are bridged in the same way.
	track.Dropped = []treatment.Range{{First: 12, Last: 25}}
	assert.True(t, motionOf(t, track).Places(p.ID)[24].Bridged)
}

// Of four points one is hidden for some frames: it goes along with the others, and the surface does not notice; but it is said.
func TestAHiddenPointGoesAlongWithTheOthers(t *testing.T) {
	paths := map[string]map[int]treatment.PointSample{}
	at := func(id string, n int) geom.Point {
		home := map[string]geom.Point{"a": geom.Pt(20, 20), "b": geom.Pt(220, 30), "c": geom.Pt(210, 190), "d": geom.Pt(30, 180)}[id]
		u := float64(n - 10)
		h := geom.Placement(geom.Pt(100, 100), geom.Pt(4*u, -u), 1.5*u, geom.Pt(1+0.01*u, 1+0.01*u))
		if id == "c" {
			home.X += 0.5 * u // it moves by itself as well
		}
		return h.Apply(home)
	}
	for _, id := range []string{"a", "b", "c", "d"} {
		paths[id] = map[int]treatment.PointSample{}
		for n := 10; n <= 24; n++ {
			if id == "c" && n > 12 && n < 20 {
				continue
			}
			q := at(id, n)
			drift := 0.1
			paths[id][n] = treatment.PointSample{
				At: treatment.Vec{q.X, q.Y}, Match: 1, Variance: &[3]float64{0.01, 0, 0.03}, Drift: &drift,
			}
		}
	}
	m := motionOf(t, pointsTrack(10, geom.Perspective, paths))
	for n := 11; n <= 24; n++ {
		v := momentOf(t, m, n)
		near2(t, at("c", n), m.Places("c")[n].At, 0.5) // 4 px, if it came from one end alone
		near2(t, at("b", n), v.Matrix.Apply(at("b", 10)), 1e-6)
		hidden := n > 12 && n < 20
		assert.Equal(t, hidden, m.Places("c")[n].Bridged)
		assert.Equal(t, hidden, v.Grade == Doubtful, v.Advice)
		assert.False(t, v.Bridged)
		assert.InDelta(t, 0.2, v.Deviation, 1e-9, "the square root of 0.01 + 0.03: four points fix all eight parameters")
		assert.InDelta(t, 0.1, v.Drift, 1e-9)
	}
}

// Smoothed, a track still is the identity at home: what was drawn there stays where it is.
func TestASmoothedTrackLeavesItsHomeAlone(t *testing.T) {
	d := document(30)
	for i := range d.Tracks[0].Data.Samples {
		s := &d.Tracks[0].Data.Samples[i]
		jump := geom.Translation(geom.Pt(float64(s.Frame*7%5)-2, float64(s.Frame*3%4)-1.5))
		if s.Frame != 10 {
			s.Matrix = jump.Mul(s.Matrix)
		}
	}
	rough := motionOf(t, &d.Tracks[0])
	d.Tracks[0].Smooth = 2
	m := motionOf(t, &d.Tracks[0])
	at := func(m *Motion, n int) geom.Point { h, _ := m.At(n); return h.Apply(probe) }
	near2(t, probe, at(m, 10), 1e-9)
	steps := func(m *Motion) (sum float64) {
		for n := 12; n < 28; n++ {
			sum += at(m, n+1).Sub(at(m, n)).Sub(at(m, n).Sub(at(m, n-1))).Len()
		}
		return sum
	}
	assert.Less(t, steps(m), 0.35*steps(rough))
}

// Points of a shape that follow tracked points go with those; the others with their mean.
func TestPointsThatFollowNoneGoWithTheMean(t *testing.T) {
	d := treatment.New()
	d.Tracks = []treatment.Track{*pointsTrack(10, geom.Position, map[string]map[int]treatment.PointSample{
		"a": {10: {At: treatment.Vec{0, 0}}, 12: {At: treatment.Vec{4, 2}}}, "b": {10: {At: treatment.Vec{50, 0}},
			12: {At: treatment.Vec{58, -4}}}})}
	s, err := New(d)
	require.NoError(t, err)
	shape := square("s", 10, 10, 30)
	shape.Points[0].Follows, shape.Points[1].Follows = &treatment.PointRef{
		Track: "p",
		Point: "a",
	}, &treatment.PointRef{
		Track: "p",
		Point: "b",
	}
	pose, ok := s.Pose(&shape, treatment.Still, 12)
	require.True(t, ok)
	for i, want := range []geom.Point{{X: 4, Y: 2}, {X: 8, Y: -4}, {X: 6, Y: -1}, {X: 6, Y: -1}} {
		near2(t, want, pose.Shifts[i], 1e-9, "point %d", i)
	}
}

// What is grown is grown on the surface: seen twice as large, by twice as much.
func TestGrowthIsTheSurfaces(t *testing.T) {
	shape := square("s", 20, 20, 20)
	shape.Grow = 3
	pose := Pose{
		Points:    shape.Points,
		Placement: geom.Identity,
		ToFrame:   warp.Of(geom.Homography{2, 0, 0, 0, 2, 0, 0, 0, 1}),
	}
	cover := pose.Cover(&shape, Edge{}, image.Rect(0, 0, 120, 120))
	left := 0.0 // of what is covered in the middle line
	for x := range 120 {
		left += float64(cover.At(x, 60))
	}
	assert.InDelta(t, 40+12, left, 0.1)
}

// Where a region moved on, the first one may lie behind the camera: its corners tell neither whether the frame is good nor how
// to smooth it, and what is known on the frame itself stands.
func TestARegionThatMovedOnIsNotJudgedByTheFirst(t *testing.T) {
	d := document(30)
	behind := geom.Homography{1, 0, 0, 0, 1, 0, -0.02, 0, 0.5}
	for i := range d.Tracks[0].Data.Samples {
		if s := &d.Tracks[0].Data.Samples[i]; s.Frame > 20 {
			s.Matrix, s.Moved = behind, 2
		}
	}
	assert.False(t, sees(behind, d.Tracks[0].Frame()))
	d.Tracks[0].Smooth = 2
	m := motionOf(t, &d.Tracks[0])
	for _, v := range m.Samples {
		assert.Equal(t, Good, v.Grade, "frame %d: %s", v.Frame, v.Advice)
	}
	h, _ := m.At(25)
	near2(t, behind.Apply(geom.Pt(3, 4)), h.Apply(geom.Pt(3, 4)), 1e-6)
	// The same without having moved on is wrong.
	for i := range d.Tracks[0].Data.Samples {
		d.Tracks[0].Data.Samples[i].Moved = 0
	}
	d.Tracks[0].Smooth = 0
	m = motionOf(t, &d.Tracks[0])
	assert.Equal(t, Bad, m.Samples[len(m.Samples)-1].Grade)
}

// How well a place is known counts into the grade.
func TestWhatIsNotKnownIsNotGood(t *testing.T) {
	grade := func(deviation float64) Grade {
		g, words := planeKind{}.doubts(&Moment{Sample: treatment.Sample{Match: 0.95, Agree: 0.9, Residual: 0.1, Deviation: deviation}})
		assert.Equal(t, g == Good, words == "")
		return g
	}
	assert.Equal(t, Good, grade(0))
	assert.Equal(t, Good, grade(0.39))
	assert.Equal(t, Doubtful, grade(0.41))
	assert.Equal(t, Bad, grade(1.21))
}
