package carry

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// drift is a made-up camera: shift, roll and a little perspective.
func drift(n int) geom.Homography {
	t := float64(n - 10)
	h := geom.Placement(geom.Pt(200, 150), geom.Pt(3*t, -1.5*t), 0.8*t, geom.Pt(1+0.004*t, 1+0.004*t))
	h[6] = 2e-6 * t
	return h
}

func document(last int) *treatment.Document {
	d := treatment.New()
	t := treatment.Track{
		ID:     "t",
		Name:   "t",
		Kind:   treatment.PlaneTrack,
		Home:   10,
		Motion: geom.Perspective,
		Data:   &treatment.Data{},
		Region: []treatment.Vec{{100, 100}, {300, 100}, {300, 200}, {100, 200}},
	}
	base, _ := drift(10).Inverse()
	for n := 1; n <= last; n++ {
		t.Data.Samples = append(
			t.Data.Samples,
			treatment.Sample{Frame: n, Matrix: drift(n).Mul(base), Match: 0.99, Agree: 0.97, Residual: 0.1},
		)
	}
	d.Tracks = append(d.Tracks, t)
	return d
}

func resolve(t *testing.T, d *treatment.Document) *Set {
	require.NoError(t, d.Validate(&treatment.Range{First: 1, Last: 40}))
	s, err := New(d)
	require.NoError(t, err)
	return s
}

func between(t *testing.T, s *Set, id string, a, b int) geom.Homography {
	h, ok := s.Between(id, a, b)
	require.True(t, ok, "%s from %d to %d", id, a, b)
	return h
}

func apply(h geom.Homography, p geom.Point) geom.Point { return h.Apply(p) }

func near2(t *testing.T, want, got geom.Point, within float64, args ...any) {
	t.Helper()
	assert.LessOrEqual(t, want.Dist(got), within, args...)
}

var probe = geom.Pt(230, 140)

// The zero can be any frame: nothing is measured again.
func TestBetweenAnyTwoFrames(t *testing.T) {
	s := resolve(t, document(30))
	for _, a := range []int{1, 10, 27} {
		for _, b := range []int{3, 10, 30} {
			back, _ := drift(a).Inverse()
			near2(t, apply(drift(b).Mul(back), probe), apply(between(t, s, "t", a, b), probe), 1e-9)
		}
	}
	_, ok := s.Between("t", 1, 31)
	assert.False(t, ok, "not followed to 31")
	_, ok = s.Between("none", 1, 2)
	assert.False(t, ok)
	assert.Equal(t, geom.Identity, between(t, s, treatment.Still, 1, 31))
}

func TestDroppedFramesAreBridgedAndPlacedOnesCount(t *testing.T) {
	d := document(30)
	d.Tracks[0].Data.Samples[14].Matrix = geom.Translation(geom.Pt(500, 500)) // frame 15 went wrong
	d.Tracks[0].Dropped = []treatment.Range{{First: 15, Last: 15}}
	s := resolve(t, d)
	base, _ := drift(10).Inverse()
	near2(
		t,
		apply(drift(15).Mul(base), probe),
		apply(between(t, s, "t", 10, 15), probe),
		0.2,
		"a straight line between 14 and 16",
	)
	i := s.Motion("t").at[15]
	v := s.Motion("t").Samples[i]
	assert.True(t, v.Bridged)
	assert.False(t, v.ByHand)
	assert.Equal(t, Bad, v.Grade, "what is bridged is never good")
	assert.NotEmpty(t, v.Advice)

	var corners []treatment.Vec
	at35 := drift(35).Mul(base)
	for _, p := range d.Tracks[0].Frame() {
		q := at35.Apply(p)
		corners = append(corners, treatment.Vec{q.X, q.Y})
	}
	d.Tracks[0].Placed = []treatment.PlacedSurface{{Frame: 35, Corners: corners}}
	s = resolve(t, d)
	near2(t, at35.Apply(probe), apply(between(t, s, "t", 10, 35), probe), 1e-6)
	near2(t, apply(drift(32).Mul(base), probe), apply(between(t, s, "t", 10, 32), probe), 1, "filled between 30 and 35")
}

func TestSmoothingTakesOutJitterAndLeavesASteadyMove(t *testing.T) {
	d := document(30)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range d.Tracks[0].Data.Samples {
		m := &d.Tracks[0].Data.Samples[i]
		if m.Frame != 10 {
			m.Matrix = geom.Translation(geom.Pt(0.4*r.NormFloat64(), 0.4*r.NormFloat64())).Mul(m.Matrix)
		}
	}
	base, _ := drift(10).Inverse()
	rms := func() (e float64) {
		s := resolve(t, d)
		for n := 1; n <= 30; n++ {
			if n != 10 {
				e += math.Pow(apply(between(t, s, "t", 10, n), probe).Dist(apply(drift(n).Mul(base), probe)), 2) / 29
			}
		}
		return math.Sqrt(e)
	}
	rough := rms()
	d.Tracks[0].Smooth = 2
	smooth := rms()
	assert.Less(t, smooth, 0.75*rough)
	s := resolve(t, d)
	assert.Equal(t, geom.Identity, between(t, s, "t", 10, 10), "the home stays where it is")
}

func TestCorrectionsLieOnTopAndCanBeSwitchedOff(t *testing.T) {
	d := document(30)
	d.Tracks[0].Corrections = []treatment.Correction{{
		ID: "c", Name: "c", Kind: treatment.ByPlacement,
		Keys: []treatment.CorrectionKey{
			{Frame: 10, Ease: treatment.Linear},
			{Frame: 30, Ease: treatment.Linear, Offset: treatment.Vec{4, -2}, Turn: 3, Scale: 1.02},
		},
	}}
	s := resolve(t, d)
	plain := resolve(t, document(30))
	centre := geom.Pt(200, 150)
	at20, at30 := between(t, plain, "t", 10, 20), between(t, plain, "t", 10, 30)
	near2(
		t,
		at20.Apply(centre.Add(geom.Pt(2, -1))),
		apply(between(t, s, "t", 10, 20), centre),
		1e-9,
		"half of it, in the home's coordinates",
	)
	turned := geom.Placement(centre, geom.Pt(4, -2), 3, geom.Pt(1.02, 1.02))
	near2(t, at30.Apply(turned.Apply(probe)), apply(between(t, s, "t", 10, 30), probe), 1e-9)
	assert.Equal(t, at30, *s.Motion("t").Samples[29].before, "what the last correction was added to")

	d.Tracks[0].Corrections[0].Off = true
	near2(t, at30.Apply(probe), apply(between(t, resolve(t, d), "t", 10, 30), probe), 1e-9)

	d.Tracks[0].Corrections = []treatment.Correction{
		{ID: "c", Kind: treatment.ByCorners, Keys: []treatment.CorrectionKey{
			{
				Frame:   10,
				Corners: make([]treatment.Vec, 4),
			}, {Frame: 30, Corners: []treatment.Vec{{5, 0}, {0, 0}, {0, -3}, {0, 0}}},
		}},
	}
	s = resolve(t, d)
	at := between(t, s, "t", 10, 30)
	near2(t, at30.Apply(geom.Pt(105, 100)), at.Apply(geom.Pt(100, 100)), 1e-6, "each corner by itself")
	near2(t, at30.Apply(geom.Pt(300, 100)), at.Apply(geom.Pt(300, 100)), 1e-6)
	near2(t, at30.Apply(geom.Pt(300, 197)), at.Apply(geom.Pt(300, 200)), 1e-6)
}

// A grid bends the surface: what rides on it, and a patch on it, bend along.
func TestAGridBendsWhatRidesOnIt(t *testing.T) {
	d := document(30)
	shifts := make([]treatment.Vec, 6) // two columns, one row
	shifts[1] = treatment.Vec{0, -8}   // the middle of the upper side
	d.Tracks[0].Corrections = []treatment.Correction{
		{ID: "g", Kind: treatment.ByGrid, Cells: []int{2, 1}, Keys: []treatment.CorrectionKey{
			{Frame: 10, Crossings: make([]treatment.Vec, 6)}, {Frame: 30, Crossings: shifts}}},
	}
	s := resolve(t, d)
	way := s.Mapping("t", 10, 30)
	require.NotNil(t, way)
	_, flat := way.Homography()
	require.False(t, flat)
	plain := between(t, resolve(t, document(30)), "t", 10, 30)
	near2(t, plain.Apply(geom.Pt(200, 92)), way.Apply(geom.Pt(200, 100)), 1e-6, "the crossing is moved")
	near2(t, plain.Apply(geom.Pt(100, 100)), way.Apply(geom.Pt(100, 100)), 1e-6, "its neighbours are not")
	back, ok := way.Inverse()
	require.True(t, ok)
	near2(t, geom.Pt(180, 120), back.Apply(way.Apply(geom.Pt(180, 120))), 1e-3)
	box := way.Bounds(geom.Box{Min: geom.Pt(150, 100), Max: geom.Pt(250, 150)})
	p := plain.Apply(geom.Pt(200, 92))
	assert.LessOrEqual(t, box.Min.Y, p.Y+0.5, "the box knows of the bend in its side")
	half := s.Mapping("t", 10, 20)
	near2(
		t,
		apply(between(t, resolve(t, document(30)), "t", 10, 20), geom.Pt(200, 96)),
		half.Apply(geom.Pt(200, 100)),
		1e-6,
		"eased: half at half time",
	)
	// Without its last correction it is as it was before that, told by places as well.
	before := s.Motion("t").Before(30)
	require.NotNil(t, before)
	near2(t, plain.Apply(geom.Pt(200, 100)), before.Apply(geom.Pt(200, 100)), 1e-6)
	assert.Nil(t, resolve(t, document(30)).Motion("t").Before(30), "there is none")
	moved := d.Tracks[0].Corrections[0]
	moved.ID, moved.Keys = "h", []treatment.CorrectionKey{{Frame: 30, Crossings: []treatment.Vec{{}, {5, 3}, {}, {}, {}, {}}}}
	d.Tracks[0].Corrections = append(d.Tracks[0].Corrections, moved)
	again := resolve(t, d)
	near2(t, way.Apply(geom.Pt(200, 100)), again.Motion("t").Before(30).Apply(geom.Pt(200, 100)), 1e-6, "the first one stays")
	told, err := again.Mesh("t", 30).Mapping()
	require.NoError(t, err)
	near2(t, again.Mapping("t", 10, 30).Apply(geom.Pt(230, 120)), told.Apply(geom.Pt(230, 120)), 0.15)

	shape := square("s", 190, 90, 20)
	pose, ok := s.Pose(&shape, "t", 30)
	require.True(t, ok)
	assert.Less(t, pose.Polygon(&shape)[0].Y, plain.Apply(geom.Pt(190, 90)).Y-5)
	assert.True(
		t,
		warp.IsIdentity(s.Mapping("t", 30, 30)),
		"on its own frame nothing is carried, though it is bent there",
	)
}

// points is a track of n points that move as drift says.
func points(n int, wrong func(frame, point int) geom.Point) treatment.Track {
	t := treatment.Track{ID: "p", Name: "p", Kind: treatment.PointsTrack, Home: 10, Motion: geom.Perspective}
	base, _ := drift(10).Inverse()
	places := []treatment.Vec{{110, 110}, {290, 115}, {285, 190}, {120, 195}, {200, 150}, {240, 120}}
	for i := range n {
		p := treatment.Point{
			ID:        string(rune('a' + i)),
			Name:      "p",
			Home:      10,
			At:        places[i],
			Pattern:   treatment.Vec{21, 21},
			Search:    treatment.Vec{61, 61},
			Motion:    geom.Position,
			Channel:   "luma",
			Against:   "reference",
			Tolerance: 0.7,
			Path:      &treatment.PointPath{},
		}
		for f := 1; f <= 30; f++ {
			if f == 10 {
				continue
			}
			h := drift(f).Mul(base)
			q := h.Apply(p.At.Point())
			if wrong != nil {
				q = q.Add(wrong(f, i))
			}
			p.Path.Samples = append(
				p.Path.Samples,
				treatment.PointSample{Frame: f, At: treatment.Vec{q.X, q.Y}, Match: 0.9},
			)
		}
		t.Points = append(t.Points, p)
	}
	return t
}

func TestPointsGiveWhatTheirNumberAllows(t *testing.T) {
	base, _ := drift(10).Inverse()
	truth := drift(25).Mul(base)
	for n := 1; n <= 5; n++ {
		d := treatment.New()
		d.Tracks = []treatment.Track{points(n, nil)}
		h := between(t, resolve(t, d), "p", 10, 25)
		for _, p := range d.Tracks[0].Points {
			near2(t, truth.Apply(p.At.Point()), h.Apply(p.At.Point()), 1e-6, "%d points", n)
		}
		affine := math.Abs(h[6])+math.Abs(h[7]) < 1e-12
		assert.Equal(t, n < 4, affine, "%d points", n)
		assert.Equal(t, n == 1, h[0] == 1 && h[1] == 0, "one point gives position alone")
	}
	// The most that is used can be less.
	d := treatment.New()
	d.Tracks = []treatment.Track{points(4, nil)}
	d.Tracks[0].Motion = geom.Position
	h := between(t, resolve(t, d), "p", 10, 25)
	assert.Equal(t, [4]float64{1, 0, 0, 1}, [4]float64{h[0], h[1], h[3], h[4]})
}

func TestAPointThatGoesAstrayDoesNotTakeTheRestAlong(t *testing.T) {
	d := treatment.New()
	d.Tracks = []treatment.Track{points(6, func(f, i int) geom.Point {
		if i == 5 && f > 15 {
			return geom.Pt(12, -7)
		}
		return geom.Point{}
	})}
	s := resolve(t, d)
	base, _ := drift(10).Inverse()
	near2(t, apply(drift(25).Mul(base), probe), apply(between(t, s, "p", 10, 25), probe), 0.05)
	for _, m := range s.Motion("p").Samples {
		if m.Frame == 25 {
			assert.InDelta(t, 5.0/6, m.Agree, 1e-9)
		}
	}
	// A point that begins later, and one that ends sooner, serve where they are.
	d = treatment.New()
	d.Tracks = []treatment.Track{points(5, nil)}
	d.Tracks[0].Points[0].Path.Samples = d.Tracks[0].Points[0].Path.Samples[:15] // to frame 16
	late := &d.Tracks[0].Points[1]
	late.Home = 20
	for _, v := range late.Path.Samples {
		if v.Frame == 20 {
			late.At = v.At
		}
	}
	late.Path.Samples = late.Path.Samples[14:] // from frame 16 on
	s = resolve(t, d)
	near2(
		t,
		apply(drift(28).Mul(base), probe),
		apply(between(t, s, "p", 10, 28), probe),
		1e-6,
		"four of them: the late one's place at home follows from the others",
	)
	// The place used lies beside the place tracked.
	d.Tracks[0].Points[2].Use = treatment.Vec{6, 1}
	at, ok := resolve(t, d).Motion("p").Point("c", 10)
	require.True(t, ok)
	near2(t, d.Tracks[0].Points[2].At.Point().Add(geom.Pt(6, 1)), at, 1e-9)
}

func square(id string, x, y, side float64) treatment.Shape {
	return treatment.Shape{ID: id, Name: id, Kind: treatment.Outline, Home: 10, Points: []treatment.Knot{
		{
			At: treatment.Vec{x, y},
		}, {At: treatment.Vec{x + side, y}}, {At: treatment.Vec{x + side, y + side}}, {At: treatment.Vec{x, y + side}}}}
}

func TestShapesRideKeepKeysAndComeAndGo(t *testing.T) {
	d := document(30)
	s := square("s", 150, 120, 20)
	s.Range = &treatment.Range{First: 5, Last: 25}
	set := resolve(t, d)
	pose, ok := set.Pose(&s, "t", 20)
	require.True(t, ok)
	base, _ := drift(10).Inverse()
	move := drift(20).Mul(base)
	near2(t, move.Apply(geom.Pt(150, 120)), pose.Knots()[0].At, 1e-9)
	_, ok = set.Pose(&s, "t", 26)
	assert.False(t, ok, "it has ended")
	s.Ride = treatment.Still
	pose, _ = set.Pose(&s, "t", 20)
	near2(t, geom.Pt(150, 120), pose.Knots()[0].At, 0)

	// Points and placement are keyed separately.
	moved := square("s", 160, 130, 20)
	s.Keys = []treatment.ShapeKey{
		{Frame: 10, Ease: treatment.Linear, Points: s.Points},
		{Frame: 20, Ease: treatment.Linear, Points: moved.Points},
	}
	s.Placement = []treatment.PlacementKey{
		{Frame: 10, Scale: treatment.Vec{1, 1}},
		{Frame: 20, Offset: treatment.Vec{0, 40}, Turn: 90, Scale: treatment.Vec{2, 1}},
	}
	pose, _ = set.Pose(&s, "", 15)
	assert.InDelta(t, 155, pose.Points[0].At[0], 1e-9)
	pose, _ = set.Pose(&s, "", 20)
	// Around (160, 130): (160, 130) stays; (180, 130) lies 20 along x: scaled to 40, turned to +y; then 40 down.
	near2(t, geom.Pt(160, 170), pose.Knots()[0].At, 1e-9)
	near2(t, geom.Pt(160, 210), pose.Knots()[1].At, 1e-9)
}

// The outline of a piece of tape whose corners are tracked one by one follows and bends.
func TestAnOutlineWhosePointsAreTracked(t *testing.T) {
	d := treatment.New()
	bend := func(f, i int) geom.Point { return geom.Pt(0, float64(i*(f-10))/5) }
	d.Tracks = []treatment.Track{points(4, bend)}
	s := treatment.Shape{ID: "tape", Kind: treatment.Outline, Home: 10}
	for i, p := range d.Tracks[0].Points {
		k := treatment.Knot{At: p.At, Follows: &treatment.PointRef{Track: "p", Point: p.ID}}
		if i == 1 { // drawn a little beside the corner: it keeps its distance
			k.At[0] += 3
		}
		s.Points = append(s.Points, k)
	}
	removal := treatment.Removal{
		ID:        "r",
		Range:     treatment.Range{First: 1, Last: 30},
		Reference: 10,
		Mark:      treatment.Mark{Outlines: []treatment.Shape{s}},
		Settle:    treatment.Settle{Opacity: 1},
	}
	d.Removals = []treatment.Removal{removal}
	set := resolve(t, d)
	base, _ := drift(10).Inverse()
	pose, ok := set.Pose(&s, "", 22)
	require.True(t, ok)
	move := drift(22).Mul(base)
	for i, k := range pose.Knots() {
		want := move.Apply(d.Tracks[0].Points[i].At.Point()).Add(bend(22, i))
		if i == 1 {
			want.X += 3
		}
		near2(t, want, k.At, 1e-9, "corner %d", i+1)
	}
}

func TestMattesInOrder(t *testing.T) {
	set := resolve(t, document(30))
	frame := image.Rect(0, 0, 400, 300)
	outer, inner, wire := square(
		"a",
		100,
		100,
		60,
	), square(
		"b",
		120,
		120,
		20,
	), treatment.Shape{
		ID:     "w",
		Kind:   treatment.Strand,
		Home:   10,
		Points: []treatment.Knot{{At: treatment.Vec{-50, 130}, Width: 6}, {At: treatment.Vec{500, 130}, Width: 6}},
	}
	inner.Combine, inner.Feather = treatment.Take, 4
	through := 0.5
	wire.Opacity = &through
	shapes := []treatment.Shape{outer, inner, wire}
	var placed []PosedShape
	for i := range shapes {
		pose, ok := set.Pose(&shapes[i], "t", 10)
		require.True(t, ok)
		placed = append(placed, PoseShape(&shapes[i], pose))
	}
	m := Cover(placed, Edge{}, frame)
	assert.EqualValues(t, 1, m.At(105, 105))
	assert.EqualValues(t, 0, m.At(125, 123), "taken out of it")
	assert.InDelta(t, 0.5, m.At(390, 130), 1e-6, "a wire at half")
	assert.InDelta(t, 0.5, m.At(2, 130), 1e-6, "from beyond the picture")
	assert.Greater(t, m.At(118, 123), float32(0.3), "its feather reaches outside")
	assert.Less(t, m.At(118, 123), float32(1))
}

func TestGradesSayWhatToDo(t *testing.T) {
	box := []geom.Point{{X: 0, Y: 0}, {X: 100, Y: 0}, {X: 100, Y: 100}, {X: 0, Y: 100}}
	for want, h := range map[string]geom.Homography{
		"":         geom.Translation(geom.Pt(900, -40)),
		"horizon":  {1, 0, 0, 0, 1, 0, -0.02, 0, 1},
		"as large": {3, 0, 0, 0, 3, 0, 0, 0, 1},
		"shrunk":   {0.3, 0, 0, 0, 0.3, 0, 0, 0, 1},
		"leans":    {1, 1.1, 0, 0, 1, 0, 0, 0, 1},
		"as far":   {1, 0, 0, 0, 1, 0, 0.025, 0, 1},
	} {
		_, words := Extreme(h, box)
		if want == "" {
			assert.Empty(t, words)
		} else {
			assert.Contains(t, words, want)
		}
	}
	d := document(30)
	set := func(n int, f func(*treatment.Sample)) { f(&d.Tracks[0].Data.Samples[n-1]) }
	set(12, func(s *treatment.Sample) { s.Residual = 1.4 })
	set(13, func(s *treatment.Sample) { s.Agree = 0.4 })
	set(14, func(s *treatment.Sample) { s.Chained = true })
	m := resolve(t, d).Motion("t")
	assert.Equal(t, Good, m.Samples[10].Grade)
	assert.Equal(t, Bad, m.Samples[11].Grade)
	assert.Contains(t, m.Samples[11].Advice, "Leave out what moves by itself")
	assert.Equal(t, Bad, m.Samples[12].Grade)
	assert.Contains(t, m.Samples[12].Advice, "exclusion")
	assert.Equal(t, Doubtful, m.Samples[13].Grade)
}

// The edge of a shape on a bent surface bends between its points as well: to within a tenth
// of a pixel of where each place of it is carried.
func TestAnEdgeBendsBetweenItsPoints(t *testing.T) {
	lattice := geom.Lattice{
		Box:     geom.Bounds([]geom.Point{{X: 0, Y: 0}, {X: 200, Y: 200}}),
		Columns: 2,
		Rows:    2,
		Shift:   make([]geom.Point, 9),
	}
	lattice.Shift[4], lattice.Shift[1] = geom.Pt(9, -14), geom.Pt(-6, 8)
	bent, _ := warp.NewBent(geom.Identity, geom.Identity, nil, []geom.Lattice{lattice})
	shape := square("a", 20, 60, 160)
	pose := Pose{Points: shape.Points, Placement: geom.Identity, ToFrame: bent}
	rim, _ := pose.Rim(&shape, Edge{})
	straight := 0.0
	for i, k := range shape.Points {
		next := shape.Points[(i+1)%len(shape.Points)]
		for u := range 101 {
			p := pose.ToFrame.Apply(k.At.Point().Lerp(next.At.Point(), float64(u)/100))
			best := math.Inf(1)
			for j, a := range rim {
				b := rim[(j+1)%len(rim)].At
				d := b.Sub(a.At)
				v := math.Min(math.Max(((p.X-a.At.X)*d.X+(p.Y-a.At.Y)*d.Y)/(d.X*d.X+d.Y*d.Y), 0), 1)
				best = math.Min(best, p.Dist(a.At.Lerp(b, v)))
			}
			assert.Less(t, best, 0.1)
			straight = math.Max(
				straight,
				p.Dist(pose.ToFrame.Apply(k.At.Point()).Lerp(pose.ToFrame.Apply(next.At.Point()), float64(u)/100)),
			)
		}
	}
	assert.Greater(t, straight, 5.0, "by so much it was missed")
}

// A track of several points that are not all known at home is the same every time.
func TestPointsAreTheSameEveryTime(t *testing.T) {
	d := treatment.New()
	tr := treatment.Track{ID: "p", Kind: treatment.PointsTrack, Home: 10, Motion: geom.Perspective}
	for i := range 5 {
		p := treatment.Point{
			ID:   string(rune('a' + i)),
			Home: 10 + (i%2)*3,
			At:   treatment.Vec{float64(40 + 37*i), float64(50 + 61*i%90)},
			Path: &treatment.PointPath{},
		}
		for n := 5; n <= 16; n++ {
			if i%2 == 1 && n == 10 {
				continue
			}
			wobble := float64((n*7+i*13)%11)/11 - 0.5
			p.Path.Samples = append(
				p.Path.Samples,
				treatment.PointSample{
					Frame: n,
					At:    treatment.Vec{p.At[0] + 2*float64(n) + wobble, p.At[1] - float64(n) - wobble},
					Match: 1,
				},
			)
		}
		tr.Points = append(tr.Points, p)
	}
	d.Tracks = append(d.Tracks, tr)
	first, err := New(d)
	require.NoError(t, err)
	for range 30 {
		again, err := New(d)
		require.NoError(t, err)
		assert.Equal(t, first.Motion("p").Samples, again.Motion("p").Samples)
	}
}

// What is bridged goes on as it went before and comes as it goes after: nearer to a motion that bends than a straight line,
// and exactly where it is steady. Between places put by hand it is to be looked at.
func TestBridgesAreEased(t *testing.T) {
	bend := func(n int) geom.Homography {
		u := float64(n-10) / 6
		return geom.Translation(geom.Pt(40*math.Sin(u), 5*float64(n-10)))
	}
	d := document(40)
	for i := range d.Tracks[0].Data.Samples {
		v := &d.Tracks[0].Data.Samples[i]
		v.Matrix = bend(v.Frame)
	}
	d.Tracks[0].Dropped = []treatment.Range{{First: 17, Last: 22}}
	s := resolve(t, d)
	var off, straight float64
	for n := 17; n <= 22; n++ {
		u := float64(n-16) / 7
		h, a, b := bend(n), bend(16), bend(23)
		got := apply(between(t, s, "t", 10, n), probe)
		off = math.Max(off, got.Dist(h.Apply(probe)))
		straight = math.Max(straight, a.Apply(probe).Lerp(b.Apply(probe), u).Dist(h.Apply(probe)))
		v := s.Motion("t").Samples[s.Motion("t").at[n]]
		assert.True(t, v.Bridged)
		assert.Equal(t, Bad, v.Grade)
	}
	assert.Less(t, off, 0.2*straight)

	for i := range d.Tracks[0].Data.Samples { // steady
		v := &d.Tracks[0].Data.Samples[i]
		v.Matrix = geom.Translation(geom.Pt(3*float64(v.Frame-10), -2*float64(v.Frame-10)))
	}
	d.Tracks[0].Dropped = []treatment.Range{{First: 15, Last: 34}}
	s = resolve(t, d)
	for n := 15; n <= 34; n++ {
		near2(t, probe.Add(geom.Pt(3*float64(n-10), -2*float64(n-10))), apply(between(t, s, "t", 10, n), probe), 1e-6)
	}
}

// Pins move a surface that bends through them, on their keys exactly and between keys by and by; what is far stays, and what rides on it
// is carried along.
func TestPinsMoveWhatRidesOnASurfaceThatBends(t *testing.T) {
	box := geom.Box{Min: geom.Pt(0, 0), Max: geom.Pt(200, 160)}
	corners := box.Corners()
	bend := geom.Lattice{Box: box, Columns: 10, Rows: 8, Shift: make([]geom.Point, 99)}
	for i := range bend.Shift {
		bend.Shift[i] = geom.Pt(3*math.Sin(float64(i)), 2*math.Cos(float64(i)/3))
	}
	what := treatment.Track{ID: "t", Name: "Cloth", Kind: treatment.PlaneTrack, Home: 0, Motion: geom.Perspective, Bends: &treatment.Bends{Detail: 20},
		Data: &treatment.Data{}}
	for _, c := range corners {
		what.Region = append(what.Region, treatment.Vec{c.X, c.Y})
	}
	for n := 1; n <= 6; n++ {
		what.Data.Samples = append(what.Data.Samples, treatment.Sample{
			Frame: n, Matrix: geom.Translation(geom.Pt(5*float64(n), 0)), Match: 1, Agree: 1, Bend: treatment.NewBend(&bend, nil),
		})
	}
	d := treatment.New()
	d.Tracks = []treatment.Track{what}
	plain, err := New(d)
	require.NoError(t, err)
	pins := []treatment.Vec{{60, 60}, {130, 90}}
	d.Tracks[0].Corrections = []treatment.Correction{{ID: "c", Kind: treatment.ByPins, Pins: pins, Keys: []treatment.CorrectionKey{
		{Frame: 0, Ease: treatment.Linear, Crossings: []treatment.Vec{{}, {}}},
		{Frame: 4, Ease: treatment.Linear, Crossings: []treatment.Vec{{}, {6, -4}}},
	}}}
	require.NoError(t, d.Validate(nil))
	pinned, err := New(d)
	require.NoError(t, err)
	at := func(s *Set, n int, p geom.Point) geom.Point { return s.Mapping("t", 0, n).Apply(p) }
	for _, n := range []int{1, 2, 4, 6} {
		u := math.Min(float64(n)/4, 1)
		moved := pins[1].Point().Add(geom.Pt(6, -4).Mul(u))
		assert.InDelta(t, 0, at(pinned, n, pins[1].Point()).Dist(at(plain, n, moved)), 0.03, "frame %d", n)
		assert.InDelta(t, 0, at(pinned, n, pins[0].Point()).Dist(at(plain, n, pins[0].Point())), 0.03, "the other pin holds")
		assert.InDelta(t, 0, at(pinned, n, geom.Pt(5, 150)).Dist(at(plain, n, geom.Pt(5, 150))), 0.03, "far from both")
		// What it was before the correction is told, for handles.
		before := pinned.Motion("t").Before(n)
		require.NotNil(t, before)
		assert.InDelta(t, 0, before.Apply(pins[1].Point()).Dist(at(plain, n, pins[1].Point())), 1e-9)
	}
	ahead := geom.Pt(136, 86) // between pin and where it was dragged from
	assert.Greater(t, at(pinned, 4, ahead).Dist(at(plain, 4, ahead)), 5.0)
	// A shorter reach leaves what is near.
	d.Tracks[0].Corrections[0].Reach = 20
	near, err := New(d)
	require.NoError(t, err)
	assert.InDelta(t, 0, at(near, 4, geom.Pt(130, 130)).Dist(at(plain, 4, geom.Pt(130, 130))), 0.03)
	assert.Greater(t, at(pinned, 4, geom.Pt(130, 130)).Dist(at(plain, 4, geom.Pt(130, 130))), 0.3)
}
