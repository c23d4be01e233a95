package carry

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/camera"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// walk is a made-up shot: a camera that slides along x, turning a little, before a room full of points, through a lens.
func walk(rng *rand.Rand, k float64) *treatment.Document {
	doc := treatment.New()
	doc.Lens = &treatment.Lens{Size: [2]int{960, 540}, K: [3]float64{k}}
	path := &treatment.Solved{}
	for i := range 30 {
		u := float64(i)/29 - 0.5
		v := camera.View{Pose: camera.PoseAt(camera.Vec{2 * u, 1.5, 0.2 * u}, camera.Turn(camera.Vec{0.2, 0.2 * u, 0.01}).Mul(camera.Rotation{1, 0, 0, 0, -1, 0, 0, 0, -1})), Focal: 700}
		path.Views = append(path.Views, treatment.ViewOf(1001+i, &v))
	}
	for range 60 {
		path.Points = append(path.Points, treatment.CameraPoint{At: [3]float64{4 * (rng.Float64() - 0.5), 0, -2 - 3*rng.Float64()}, First: 1001, Last: 1030})
	}
	doc.Camera = &treatment.Camera{Focal: "fixed", Data: &treatment.CameraData{Path: path}}
	return doc
}

func wall(rng *rand.Rand) treatment.Card {
	q := camera.Turn(camera.Vec{0.4 * rng.NormFloat64(), 0.4 * rng.NormFloat64(), 0.4 * rng.NormFloat64()})
	return treatment.Card{At: [3]float64{rng.Float64() - 0.5, 1 + 0.5*rng.Float64(), -4 - rng.Float64()}, Turn: q.Quaternion(), Size: [2]float64{0.5 + rng.Float64(), 0.5 + rng.Float64()}}
}

// Whatever the card, the lens and the frames: a place of the card goes where the camera sees it, and back.
func TestACardGoesWhereTheCameraSeesIt(t *testing.T) {
	for seed := range uint64(60) {
		rng := rand.New(rand.NewPCG(seed, 1))
		doc := walk(rng, -0.1+0.15*rng.Float64())
		doc.Camera.World = treatment.WorldOf(camera.Similarity{Scale: 0.5 + rng.Float64(), R: camera.Turn(camera.Vec{0, rng.NormFloat64(), 0}), T: camera.Vec{rng.NormFloat64(), 0, 0}}, "")
		// The card is given in the world as it is laid.
		bare := wall(rng)
		card := bare.Moved(doc.Camera.World.Similarity())
		home := 1001 + rng.IntN(30)
		doc.Tracks = []treatment.Track{{ID: "c", Name: "Card", Kind: treatment.CardTrack, Home: home, Motion: geom.Perspective, Card: &card}}
		require.NoError(t, doc.Validate(&treatment.Range{First: 1001, Last: 1030}))
		set, err := New(doc)
		require.NoError(t, err)
		space, err := set.Space()
		require.NoError(t, err)
		// Its handles are where its corners are seen.
		seen, ok := space.Seen(&card, home)
		surface := set.Motion("c").Track.Surface
		require.True(t, ok && len(surface) == 4)
		for i, p := range surface {
			assert.InDelta(t, 0, seen[i].Dist(p.Point()), 1e-6)
		}
		for range 10 {
			n := 1001 + rng.IntN(30)
			m := set.Mapping("c", home, n)
			if m == nil {
				continue
			}
			a, b := space.Views[home], space.Views[n]
			c := card.Corners()
			x := c[0].Add(c[1].Sub(c[0]).Mul(rng.Float64())).Add(c[3].Sub(c[0]).Mul(rng.Float64()))
			p, ok1 := a.Project(&space.Lens, x)
			q, ok2 := b.Project(&space.Lens, x)
			if !ok1 || !ok2 {
				continue
			}
			assert.InDelta(t, 0, m.Apply(p).Dist(q), 1e-6, "seed %d", seed)
			back, ok := m.Inverse()
			require.True(t, ok)
			assert.InDelta(t, 0, back.Apply(q).Dist(p), 1e-6)
			// What takes areas along is the derivative of where places go.
			const h = 1e-3
			dx := m.Apply(p.Add(geom.Pt(h, 0))).Sub(m.Apply(p.Sub(geom.Pt(h, 0)))).Mul(1 / (2 * h))
			dy := m.Apply(p.Add(geom.Pt(0, h))).Sub(m.Apply(p.Sub(geom.Pt(0, h)))).Mul(1 / (2 * h))
			assert.InDelta(t, math.Sqrt(math.Abs(dx.X*dy.Y-dx.Y*dy.X)), m.Scale(p), 1e-4)
		}
	}
}

// Corrections, and what lies over a card, are in the straight picture as it is; nothing moves a card that nobody moved.
func TestLayingTheFloorMovesNothingOnThePicture(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 2))
	doc := walk(rng, -0.08)
	card := wall(rng)
	doc.Tracks = []treatment.Track{{ID: "c", Name: "Card", Kind: treatment.CardTrack, Home: 1010, Motion: geom.Perspective, Card: &card}}
	before, err := New(doc)
	require.NoError(t, err)
	space, err := before.Space()
	require.NoError(t, err)
	origin := 3
	require.NoError(t, space.Lay(doc, Laying{Floor: []int{0, 1, 2, 3, 4, 5, 6, 7}, Origin: &origin, Apart: &[2]int{1, 2}, Length: 7, Unit: "m"}))
	after, err := New(doc)
	require.NoError(t, err)
	laid, err := after.Space()
	require.NoError(t, err)
	assert.InDelta(t, 0, camera.Vec(laid.Points[3].At).Len(), 1e-9)
	assert.InDelta(t, 7, camera.Vec(laid.Points[1].At).Dist(laid.Points[2].At), 1e-9)
	for _, p := range laid.Points {
		assert.InDelta(t, 0, p.At[1], 1e-6)
	}
	view := laid.Views[1010]
	assert.Positive(t, view.Pose.Eye()[1])
	assert.Equal(t, "m", doc.Camera.World.Unit)
	for _, n := range []int{1001, 1020, 1030} {
		was, _ := space.Seen(&card, n)
		now, _ := laid.Seen(doc.Tracks[0].Card, n)
		for i := range was {
			assert.InDelta(t, 0, was[i].Dist(now[i]), 1e-6, "the card is where it was")
		}
		p := geom.Pt(400, 300)
		assert.InDelta(t, 0, before.Mapping("c", 1010, n).Apply(p).Dist(after.Mapping("c", 1010, n).Apply(p)), 1e-6)
	}
	assert.Error(t, space.Lay(doc, Laying{Floor: []int{0, 1, 999}}))
	assert.Error(t, space.Lay(doc, Laying{Apart: &[2]int{1, 1}, Length: 2}))
	assert.Error(t, space.Lay(doc, Laying{Floor: []int{0, 0, 0}}))
	assert.Error(t, space.Lay(doc, Laying{}))
}

// By hand: what is dragged comes to where it is let go, what is across stays, and depth changes nothing on its own frame.
func TestACardMovedByHand(t *testing.T) {
	for seed := range uint64(40) {
		rng := rand.New(rand.NewPCG(seed, 3))
		doc := walk(rng, -0.09)
		s, err := NewSpace(doc)
		require.NoError(t, err)
		card := wall(rng)
		const n = 1015
		corners, ok := s.Seen(&card, n)
		require.True(t, ok)
		to := corners[1].Add(geom.Pt(30*rng.NormFloat64(), 30*rng.NormFloat64()))
		moved, err := s.Move(&card, n, CardMove{Handle: "corner1", To: treatment.Vec{to.X, to.Y}})
		if err == nil {
			now, ok := s.Seen(moved, n)
			require.True(t, ok)
			stays := now[3].Dist(corners[3]) < 1e-6
			assert.True(t, stays || moved.Size[0] < 0.02 || moved.Size[1] < 0.02 || now[1].Dist(to) > 1e-6, "what is across stays")
		}
		v := s.Views[n]
		middle, _ := v.Project(&s.Lens, card.At)
		to = middle.Add(geom.Pt(20*rng.NormFloat64(), 20*rng.NormFloat64()))
		moved, err = s.Move(&card, n, CardMove{Handle: "middle", To: treatment.Vec{to.X, to.Y}})
		require.NoError(t, err)
		at, _ := v.Project(&s.Lens, moved.At)
		assert.InDelta(t, 0, at.Dist(to), 1e-6)

		moved, err = s.Move(&card, n, CardMove{Handle: "depth", By: 1.3})
		require.NoError(t, err)
		now, ok := s.Seen(moved, n)
		require.True(t, ok)
		for i := range now {
			assert.InDelta(t, 0, now[i].Dist(corners[i]), 1e-6, "as it was on this frame")
		}
		elsewhere, _ := s.Seen(moved, 1001)
		was, _ := s.Seen(&card, 1001)
		assert.Greater(t, elsewhere[0].Dist(was[0]), 5.0, "and elsewhere on another")
		for _, bad := range []CardMove{{Handle: "depth"}, {Handle: "scale", By: -1}, {Handle: "depth", By: math.NaN()}, {Handle: "knob"},
			{Handle: "middle", To: treatment.Vec{math.NaN(), 0}}, {Handle: "middle", To: treatment.Vec{1e9, 1e9}}, {Handle: "turnX", By: math.Inf(1)}} {
			out, err := s.Move(&card, n, bad)
			if err == nil {
				t.Errorf("%v was taken: %v", bad, out)
			}
		}
		_, err = s.Move(&card, 5, CardMove{Handle: "depth", By: 2})
		assert.Error(t, err)
	}
}

// Painted head on and seen from the side it is squeezed; painted from the side and seen head on it is stretched.
func TestWhatIsStretchedIsTold(t *testing.T) {
	doc := treatment.New()
	doc.Lens = &treatment.Lens{Size: [2]int{960, 540}}
	path := &treatment.Solved{}
	look := func(frame int, eye camera.Vec) {
		z := eye.Mul(-1).Unit()
		x := z.Cross(camera.Vec{0, 1, 0}).Unit()
		y := z.Cross(x)
		v := camera.View{Pose: camera.PoseAt(eye, camera.Rotation{x[0], x[1], x[2], y[0], y[1], y[2], z[0], z[1], z[2]}), Focal: 700}
		path.Views = append(path.Views, treatment.ViewOf(frame, &v))
	}
	look(1, camera.Vec{0, 0, 5})
	look(2, camera.Vec{4.6, 0, 2}) // 66 degrees to the side: 2.5 times
	look(3, camera.Vec{3, 0, 4})   // 37 degrees: 1.25 times
	look(4, camera.Vec{0, 0, -5})  // from behind
	doc.Camera = &treatment.Camera{Focal: "fixed", Data: &treatment.CameraData{Path: path}}
	s, err := NewSpace(doc)
	require.NoError(t, err)
	card := &treatment.Card{Turn: [4]float64{0, 0, 0, 1}, Size: [2]float64{1, 1}}
	all := stretchCells * stretchCells
	assert.Empty(t, s.Stretched(card, 1, 2))
	assert.Empty(t, s.Stretched(card, 3, 1))
	assert.Greater(t, len(s.Stretched(card, 2, 1)), all*3/4)
	assert.Len(t, s.Stretched(card, 4, 1), all, "nobody saw its face from there")
	card.At[0] = 3.5 // partly beyond the picture of frame 1
	assert.NotEmpty(t, s.Stretched(card, 1, 3))
}

func TestCardsLaidThroughPoints(t *testing.T) {
	for seed := range uint64(20) {
		rng := rand.New(rand.NewPCG(seed, 4))
		doc := walk(rng, -0.05)
		set, err := New(doc)
		require.NoError(t, err)
		s, err := set.Space()
		require.NoError(t, err)
		var points []int
		for i := range 30 {
			points = append(points, i)
		}
		for _, how := range []string{"points", "floor", "facing"} {
			c, err := s.Card(set, NewCard{How: how, Frame: 1015, Points: points})
			require.NoError(t, err, how)
			if how == "facing" {
				v := s.Views[1015]
				z := camera.OfQuaternion(c.Turn)
				assert.InDelta(t, -1, v.Pose.R.Apply(z.Apply(camera.Vec{0, 0, 1}))[2], 1e-9, "it faces the camera")
				continue
			}
			for _, p := range c.Corners() {
				assert.InDelta(t, 0, p[1], 1e-6, "%s: all of them lie on the floor", how)
			}
		}
		_, err = s.Card(set, NewCard{How: "points", Frame: 1015, Points: points[:2]})
		assert.Error(t, err)
		_, err = s.Card(set, NewCard{How: "points", Frame: 2000, Points: points})
		assert.Error(t, err)
		_, err = s.Card(set, NewCard{How: "track", Frame: 1015, Track: "none"})
		assert.Error(t, err)
		_, err = s.Card(set, NewCard{How: "floor", Frame: 1015, At: &treatment.Vec{480, -3000}})
		assert.Error(t, err, "above the horizon there is no floor")
	}
}

// A path that is found anew lies as the one before.
func TestAPathFoundAnewLiesAsBefore(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 5))
	doc := walk(rng, 0)
	world := treatment.WorldOf(camera.Similarity{Scale: 3, R: camera.Turn(camera.Vec{0.1, 0.5, 0}), T: camera.Vec{1, 2, 3}}, "ft")
	move := camera.Similarity{Scale: 0.2, R: camera.Turn(camera.Vec{1, -2, 0.5}), T: camera.Vec{5, 5, 5}}
	anew := &treatment.Solved{}
	for i := range doc.Camera.Data.Path.Views {
		v := doc.Camera.Data.Path.Views[i].View(move)
		anew.Views = append(anew.Views, treatment.ViewOf(1001+i, &v))
	}
	joined, ok := Joined(doc.Camera.Data.Path, anew, world)
	require.True(t, ok)
	assert.Equal(t, "ft", joined.Unit)
	for i := range anew.Views {
		a, b := anew.Views[i].View(joined.Similarity()), doc.Camera.Data.Path.Views[i].View(world.Similarity())
		assert.InDelta(t, 0, a.Pose.Eye().Dist(b.Pose.Eye()), 1e-6)
	}
}

// So does the path of a camera that only turned, which only a turn can tell; one of each kind cannot be joined.
func TestATurnFoundAnewLiesAsBefore(t *testing.T) {
	old, anew := &treatment.Solved{Turning: true}, &treatment.Solved{Turning: true}
	other := camera.Turn(camera.Vec{0.4, -1, 0.3})
	for i := range 10 {
		v := camera.View{Pose: camera.Pose{R: camera.Turn(camera.Vec{0.1, 0.05 * float64(i), 0})}, Focal: 800}
		old.Views = append(old.Views, treatment.ViewOf(i, &v))
		v.Pose.R = v.Pose.R.Mul(other)
		anew.Views = append(anew.Views, treatment.ViewOf(i, &v))
	}
	w, ok := Joined(old, anew, nil)
	require.True(t, ok)
	for i := range anew.Views {
		a, b := anew.Views[i].View(w.Similarity()), old.Views[i].View(camera.Same)
		d := a.Pose.R.Mul(b.Pose.R.Transposed())
		assert.InDelta(t, 0, d.Axis().Len(), 1e-6)
	}
	anew.Turning = false
	_, ok = Joined(old, anew, nil)
	assert.False(t, ok)
}

// A card that reaches to where the lens shows nothing is not known, and nothing of it is no number.
func TestACardBeyondTheLens(t *testing.T) {
	doc := walk(rand.New(rand.NewPCG(9, 7)), 0)
	doc.Lens = &treatment.Lens{Size: [2]int{1, 1}, K: [3]float64{-0.1}}
	card := treatment.Card{At: [3]float64{0, 1.2, -2.6}, Turn: [4]float64{0, 0, 0, 1}, Size: [2]float64{2000, 1000}}
	doc.Tracks = []treatment.Track{{ID: "c", Name: "Card", Kind: treatment.CardTrack, Home: 1001, Motion: geom.Perspective, Card: &card}}
	set, err := New(doc)
	require.NoError(t, err)
	for _, n := range []int{1001, 1010} {
		if m := set.Mesh("c", n); m != nil {
			for _, v := range m.Places {
				assert.False(t, math.IsNaN(v) || math.IsInf(v, 0))
			}
		}
	}
	assert.Empty(t, set.Motion("c").Track.Surface)
	for _, v := range set.Motion("c").Samples {
		assert.True(t, v.Matrix.Finite())
	}
	doc.Camera.Data.Path.Views[3].Focal = 1e-300
	assert.Error(t, doc.Validate(nil))
}

// Points that lie on a card, followed as they are seen, carry as the card does once the lens is taken out, and worse with it.
func TestPointsWithTheLensTakenOut(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 6))
	doc := walk(rng, -0.12)
	card := treatment.Card{At: [3]float64{0, 1.2, -2.6}, Turn: [4]float64{0, 0, 0, 1}, Size: [2]float64{2, 1}}
	const home, there = 1008, 1024
	space, err := NewSpace(doc)
	require.NoError(t, err)
	points := treatment.Track{ID: "p", Name: "Points", Kind: treatment.PointsTrack, Home: home, Motion: geom.Perspective}
	from, _ := space.Seen(&card, home)
	to, _ := space.Seen(&card, there)
	for i := range from {
		points.Points = append(points.Points, treatment.Point{ID: string(rune('a' + i)), Name: "P", Home: home, At: treatment.Vec{from[i].X, from[i].Y},
			Path: &treatment.PointPath{Samples: []treatment.PointSample{{Frame: there, At: treatment.Vec{to[i].X, to[i].Y}}}}})
	}
	off := func(straight bool) float64 {
		points.Straight = straight
		doc.Tracks = []treatment.Track{points, {ID: "c", Name: "Card", Kind: treatment.CardTrack, Home: home, Motion: geom.Perspective, Card: &card}}
		set, err := New(doc)
		require.NoError(t, err)
		m, want := set.Mapping("p", home, there), set.Mapping("c", home, there)
		require.NotNil(t, m)
		p := from[0].Lerp(from[2], 0.5).Add(geom.Pt(90, -40))
		return m.Apply(p).Dist(want.Apply(p))
	}
	assert.Less(t, off(true), 1e-6)
	assert.Greater(t, off(false), 0.5)
}
