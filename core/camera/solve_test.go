package camera

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
)

// A filmed is a made-up shot as it is followed: tracks that come and go, of what stands still and of what walks.
type filmed struct {
	Task
	truth   *Bundle
	walking map[int]bool // tracks of what moves by itself
}

// film follows points of a world along a path: features that are born over time, last for some frames, with noise; walkers are
// a share of them that move together through the set, stray ones a share that hop about.
func film(t testing.TB, rng *rand.Rand, truth *Bundle, sigma, walkers, strays float64) *filmed {
	t.Helper()
	f := &filmed{truth: truth, walking: map[int]bool{}}
	f.Width, f.Height, f.Frames = truth.Width, truth.Height, len(truth.Views)
	f.Lens, _ = geom.LensOf([3]float64{}, f.Width, f.Height, truth.Lens.Centre, truth.Lens.Squeeze)
	f.Focal, f.Terms = Fixed, 1
	// Whoever walks straight on, as the camera does, cannot be told from what stands nearer or farther: these sway.
	step := func(n float64) Vec { return Vec{0.02*n + 0.05*math.Sin(n/3), 0.04 * math.Sin(n/2), -0.01 * n} }
	for _, x := range truth.Points {
		first := rng.IntN(f.Frames) - f.Frames/3
		length := 8 + rng.IntN(f.Frames)
		kind := rng.Float64()
		tr := Track{First: max(first, 0)}
		for n := tr.First; n < min(first+length, f.Frames); n++ {
			y := x
			if kind < walkers {
				y = x.Add(step(float64(n)))
			}
			p, ok := truth.Views[n].Project(&truth.Lens, y)
			if !ok || !(p.X > 0 && p.Y > 0 && p.X < float64(f.Width) && p.Y < float64(f.Height)) {
				if len(tr.At) > 0 {
					break
				}
				tr.First = n + 1
				continue
			}
			p = p.Add(geom.Pt(sigma*rng.NormFloat64(), sigma*rng.NormFloat64()))
			if kind > 1-strays {
				p = p.Add(geom.Pt(8*rng.NormFloat64(), 8*rng.NormFloat64()))
			}
			tr.At = append(tr.At, p)
		}
		if len(tr.At) >= 4 {
			if kind < walkers || kind > 1-strays {
				f.walking[len(f.Tracks)] = true
			}
			f.Tracks = append(f.Tracks, tr)
		}
	}
	return f
}

// world is a bundle of a camera's path and points around what it sees, without observations.
func world(rng *rand.Rand, frames, points int, k [3]float64, path func(u float64) (eye Vec, turn Vec), focal float64) *Bundle {
	const width, height = 1280, 720
	lens, _ := geom.LensOf(k, width, height, geom.Pt(width/2, height/2), 1)
	b := &Bundle{Lens: lens, Width: width, Height: height}
	for i := range frames {
		eye, turn := path(float64(i)/float64(frames-1) - 0.5)
		b.Views = append(b.Views, View{PoseAt(eye, Turn(turn)), focal})
	}
	for range points {
		b.Points = append(b.Points, Vec{9 * (rng.Float64() - 0.5), 5 * (rng.Float64() - 0.5), 3 + 5*rng.Float64()})
	}
	return b
}

// pathError is the RMS distance of the camera from where it was, after the best similarity, as a share of the path's length.
func pathError(t *testing.T, s *Solution, truth *Bundle) float64 {
	t.Helper()
	var found, eyes []Vec
	var length float64
	for i, v := range s.Views {
		require.True(t, s.Known[i], "frame %d", i)
		found, eyes = append(found, v.Pose.Eye()), append(eyes, truth.Views[i].Pose.Eye())
		if i > 0 {
			length += eyes[i].Dist(eyes[i-1])
		}
	}
	sim, err := AlignPaths(found, eyes)
	require.NoError(t, err)
	var sum float64
	for i := range found {
		e := sim.Apply(found[i]).Dist(eyes[i])
		sum += e * e
	}
	return math.Sqrt(sum/float64(len(found))) / length
}

// fromTruth adjusts a bundle that begins at the truth, of what stands still and nothing else.
func fromTruth(t *testing.T, f *filmed) *Bundle {
	t.Helper()
	b := clone(f.truth)
	b.Points, b.Focal, b.Terms = nil, f.Focal, f.Terms
	s := &solver{Task: f.Task}
	d := &draft{Bundle: *b}
	for i := range f.truth.Views {
		d.frames = append(d.frames, i)
	}
	for id := range f.Tracks {
		if f.walking[id] {
			continue
		}
		tr := &f.Tracks[id]
		var views []int
		for k := range tr.At {
			views = append(views, tr.First+k)
		}
		if x, ok := s.place(d, tr, views); ok {
			for k, at := range tr.At {
				b.Seen = append(b.Seen, Observation{tr.First + k, len(b.Points), at})
			}
			b.Points = append(b.Points, x)
		}
	}
	_, err := b.Adjust(context.Background(), 0, 30)
	require.NoError(t, err)
	return b
}

// cut lets no feature last longer than so many frames: then another one goes on in its place.
func (f *filmed) cut(lasts int) {
	var pieces []Track
	for _, tr := range f.Tracks {
		for ; len(tr.At) > lasts; tr = (Track{First: tr.First + lasts, At: tr.At[lasts:]}) {
			pieces = append(pieces, Track{First: tr.First, At: tr.At[:lasts]})
		}
		if len(tr.At) >= 4 {
			pieces = append(pieces, tr)
		}
	}
	f.Tracks, f.walking = pieces, nil
}

// Where things pass so quickly that more frames are needed than are wanted to begin with, they are taken.
func TestMoreFramesWhereThingsPassQuickly(t *testing.T) {
	rng := rand.New(rand.NewPCG(13, 20))
	f := film(t, rng, alongAWall(rng, 500), 0.2, 0, 0)
	f.cut(9)
	s := &solver{Task: f.Task, rng: rng}
	s.index()
	require.NoError(t, s.choose())
	assert.Greater(t, len(s.keys), mostKeys)
	for i := 2; i < len(s.keys); i++ {
		_, p, _ := s.shared(s.keys[i-1], s.keys[i])
		assert.GreaterOrEqual(t, len(p), fewest, "%d and %d", s.keys[i-1], s.keys[i])
	}
}

// alongAWall is a camera that goes so far past things that each stays in sight for some 75 frames.
func alongAWall(rng *rand.Rand, frames int) *Bundle {
	far := float64(frames) / 13
	truth := world(rng, frames, 15*frames, [3]float64{-0.08, 0, 0}, func(u float64) (Vec, Vec) {
		return Vec{far * u, 0.2 * math.Sin(20*u), 0.5 * math.Sin(9*u)}, Vec{0.05 * math.Sin(15*u), 0.1 * math.Sin(11*u), 0.02 * math.Sin(25*u)}
	}, 900)
	for i := range truth.Points {
		truth.Points[i][0] *= far / 6
	}
	return truth
}

// A shot so long that nothing is seen for more than a small part of it is begun in a part of it, and goes on from there; whether the
// camera moves or only turns, all around.
func TestALongShotIsFound(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	rng := rand.New(rand.NewPCG(12, 20))
	around := world(rng, 400, 6000, [3]float64{-0.08, 0, 0}, func(u float64) (Vec, Vec) { return Vec{}, Vec{0, 2 * math.Pi * u, 0} }, 900)
	for i := range around.Points {
		r := Turn(Vec{0, 2 * math.Pi * rng.Float64(), 0})
		around.Points[i] = r.Apply(around.Points[i])
	}
	for _, c := range []struct {
		name    string
		turning bool
		truth   *Bundle
	}{{"along a wall", false, alongAWall(rng, 400)}, {"all around", true, around}} {
		f := film(t, rng, c.truth, 0.2, 0, 0)
		f.cut(24)
		s, err := Solve(context.Background(), f.Task)
		require.NoError(t, err, c.name)
		t.Logf("%s, %d features of 24 frames at most: f %.1f for 900, k1 %.4f, RMS %.3f", c.name, len(f.Tracks), s.Views[200].Focal, s.Lens.K[0], s.RMS)
		assert.Equal(t, c.turning, s.Turning, c.name)
		assert.InDelta(t, 900, s.Views[200].Focal, 9, c.name)
		assert.Less(t, s.RMS, 0.3, c.name)
		known := 0
		for _, k := range s.Known {
			if k {
				known++
			}
		}
		assert.GreaterOrEqual(t, known, 390, "%s: too little may be seen at the ends", c.name)
	}
}

func slide(u float64) (Vec, Vec) {
	return Vec{2.4 * u, 0.1 * math.Sin(6*u), 0.3 * u}, Vec{0.02 * math.Sin(5*u), -0.2 * u, 0.015 * math.Sin(7*u)}
}

func TestASliderIsFound(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	for seed := range uint64(2) {
		rng := rand.New(rand.NewPCG(seed, 20))
		focal := 500 + 1500*rng.Float64()
		k := [3]float64{-0.12 + 0.16*rng.Float64(), 0, 0}
		f := film(t, rng, world(rng, 50, 900, k, slide, focal), 0.25, 0.2, 0.1)
		s, err := Solve(context.Background(), f.Task)
		require.NoError(t, err, "seed %d, focal length %.0f", seed, focal)
		off := pathError(t, s, f.truth)
		corner := s.Lens.Distort(geom.Pt(30, 20)).Dist(f.truth.Lens.Distort(geom.Pt(30, 20)))
		wrong, missed, still := 0, 0, 0
		for _, p := range s.Points {
			switch {
			case p.Fits && f.walking[p.Track]:
				wrong++
			case !f.walking[p.Track]:
				still++
				if !p.Fits {
					missed++
				}
			}
		}
		t.Logf("seed %d: f %.0f found %.0f, k1 %.3f found %.3f (%.2f px at a corner), path off by %.2f %%, RMS %.3f; of %d that stand still %d left out, %d that walk kept",
			seed, focal, s.Views[0].Focal, k[0], s.Lens.K[0], corner, 100*off, s.RMS, still, missed, wrong)
		assert.InDelta(t, 0.25*math.Sqrt2, s.RMS, 0.03)
		assert.Less(t, off, 0.001)
		// What noise leaves open of focal length and lens is told by the same bundle begun at the truth, of all that stands still.
		best := fromTruth(t, f)
		t.Logf("from the truth: f %.0f, k1 %.3f", best.Views[0].Focal, best.Lens.K[0])
		assert.InDelta(t, 1, s.Views[0].Focal/best.Views[0].Focal, 0.005)
		assert.Less(t, s.Lens.Distort(geom.Pt(30, 20)).Dist(best.Lens.Distort(geom.Pt(30, 20))), 0.5)
		assert.False(t, s.Turning)
		assert.Less(t, missed, still/20)
		assert.LessOrEqual(t, wrong, 3, "of %d that walk or hop", len(f.walking))
	}
}

func TestACameraThatOnlyTurns(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	for seed := range uint64(1) {
		rng := rand.New(rand.NewPCG(seed, 21))
		focal := 700 + 900*rng.Float64()
		f := film(t, rng, world(rng, 40, 900, [3]float64{-0.05, 0, 0}, func(u float64) (Vec, Vec) {
			return Vec{}, Vec{0.1 * math.Sin(5*u), 0.5 * u, 0.02 * math.Sin(7*u)}
		}, focal), 0.25, 0.15, 0.1)
		s, err := Solve(context.Background(), f.Task)
		require.NoError(t, err)
		assert.True(t, s.Turning)
		t.Logf("f %.0f found %.0f, k1 %.3f, RMS %.3f", focal, s.Views[0].Focal, s.Lens.K[0], s.RMS)
		assert.InDelta(t, 1, s.Views[0].Focal/focal, 0.02)
		for i := range s.Views {
			rel := s.Views[i].Pose.R.Mul(s.Views[0].Pose.R.Transposed())
			want := f.truth.Views[i].Pose.R.Mul(f.truth.Views[0].Pose.R.Transposed())
			d := rel.Mul(want.Transposed())
			assert.Less(t, d.Axis().Len(), 0.004, "frame %d", i)
		}
	}
}

func TestAZoomIsFound(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 22))
	b := world(rng, 50, 900, [3]float64{}, slide, 900)
	for i := range b.Views {
		b.Views[i].Focal = 900 * math.Exp(0.3*float64(i)/49)
	}
	f := film(t, rng, b, 0.2, 0, 0.05)
	f.Focal, f.Terms = Zooming, 0
	s, err := Solve(context.Background(), f.Task)
	require.NoError(t, err)
	for i, v := range s.Views {
		assert.InDelta(t, 1, v.Focal/b.Views[i].Focal, 0.02, "frame %d: %.0f for %.0f", i, v.Focal, b.Views[i].Focal)
	}
	assert.Less(t, pathError(t, s, b), 0.01)
}

// A cropped picture's principal point is not in its middle; a camera that turns enough tells where.
func TestAPrincipalPointIsFound(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 25))
	b := world(rng, 40, 900, [3]float64{-0.05, 0, 0}, func(u float64) (Vec, Vec) {
		return Vec{2.4 * u, 0.2 * math.Sin(6*u), 0.3 * u}, Vec{0.1 * math.Sin(5*u), -0.4 * u, 0.3 * math.Sin(4*u)}
	}, 900)
	var err error
	b.Lens, err = geom.LensOf(b.Lens.K, b.Width, b.Height, geom.Pt(690, 340), 1)
	require.NoError(t, err)
	f := film(t, rng, b, 0.2, 0, 0.05)
	f.Lens, _ = geom.LensOf([3]float64{}, f.Width, f.Height, geom.Pt(640, 360), 1)
	f.Centre = true
	s, err := Solve(context.Background(), f.Task)
	require.NoError(t, err)
	t.Logf("principal point %.1f, %.1f for 690, 340; f %.1f for 900; RMS %.3f", s.Lens.Centre.X, s.Lens.Centre.Y, s.Views[0].Focal, s.RMS)
	assert.Less(t, s.Lens.Centre.Dist(geom.Pt(690, 340)), 6.0)
	assert.InDelta(t, 0.2*math.Sqrt2, s.RMS, 0.03)
}

// A squeezed picture is half as wide as what it shows; someone typed 1.9 for 2.
func TestASqueezeIsFound(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	rng := rand.New(rand.NewPCG(8, 27))
	b := world(rng, 40, 900, [3]float64{-0.05, 0, 0}, func(u float64) (Vec, Vec) {
		return Vec{2.4 * u, 0.2 * math.Sin(6*u), 0.3 * u}, Vec{0.1 * math.Sin(5*u), -0.4 * u, 0.3 * math.Sin(4*u)}
	}, 900)
	var err error
	b.Lens, err = geom.LensOf(b.Lens.K, b.Width, b.Height, b.Lens.Centre, 2)
	require.NoError(t, err)
	f := film(t, rng, b, 0.2, 0, 0.05)
	f.Lens, _ = geom.LensOf([3]float64{}, f.Width, f.Height, b.Lens.Centre, 1.9)
	f.Squeeze = true
	s, err := Solve(context.Background(), f.Task)
	require.NoError(t, err)
	t.Logf("squeeze %.4f for 2; f %.1f for 900; k1 %.4f; RMS %.3f", s.Lens.Squeeze, s.Views[0].Focal, s.Lens.K[0], s.RMS)
	assert.InDelta(t, 2, s.Lens.Squeeze, 0.004)
	assert.InDelta(t, 0.2*math.Sqrt2, s.RMS, 0.03)
}

func TestWhatKeepsACameraFromBeingFound(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 23))
	// All on one plane, with a focal length that nobody knows.
	flat := world(rng, 40, 700, [3]float64{}, slide, 900)
	for i := range flat.Points {
		x := flat.Points[i]
		flat.Points[i] = Vec{x[0], x[1], 4 + 0.3*x[0]}
	}
	f := film(t, rng, flat, 0.2, 0, 0)
	f.Terms = 0
	_, err := Solve(context.Background(), f.Task)
	assert.ErrorIs(t, err, ErrPlane)
	// The same with its focal length given.
	f.Focal, f.Length = Known, 900
	s, err := Solve(context.Background(), f.Task)
	require.NoError(t, err)
	assert.Less(t, pathError(t, s, flat), 0.01)

	still := film(t, rng, world(rng, 30, 300, [3]float64{}, func(float64) (Vec, Vec) { return Vec{}, Vec{} }, 900), 0.1, 0, 0)
	_, err = Solve(context.Background(), still.Task)
	assert.ErrorIs(t, err, ErrNoMotion)

	few := film(t, rng, world(rng, 30, 12, [3]float64{}, slide, 900), 0.1, 0, 0)
	_, err = Solve(context.Background(), few.Task)
	assert.ErrorIs(t, err, ErrFewTracks)

	noise := film(t, rng, world(rng, 30, 500, [3]float64{}, slide, 900), 0.2, 0, 1)
	_, err = Solve(context.Background(), noise.Task)
	assert.Error(t, err)

	stopped, stop := context.WithCancel(context.Background())
	stop()
	_, err = Solve(stopped, f.Task)
	assert.ErrorIs(t, err, context.Canceled)
}

// Five pairs have among their matrices the true one (and up to nine more).
func TestFivePairsTellTheTrueMatrix(t *testing.T) {
	for seed := range uint64(40) {
		rng := rand.New(rand.NewPCG(seed, 24))
		p := Pose{Turn(Vec{rng.NormFloat64(), rng.NormFloat64(), rng.NormFloat64()}.Mul(0.2)), Vec{rng.NormFloat64(), rng.NormFloat64(), rng.NormFloat64()}.Unit()}
		var a, b []Vec
		for len(a) < 5 {
			x := Vec{2 * rng.NormFloat64(), 2 * rng.NormFloat64(), 4 + 3*rng.Float64()}
			if y := p.Apply(x); y[2] > 0.1 {
				a, b = append(a, x.Mul(1/x[2])), append(b, y.Mul(1/y[2]))
			}
		}
		cross := Rotation{0, -p.T[2], p.T[1], p.T[2], 0, -p.T[0], -p.T[1], p.T[0], 0}
		want := cross.Mul(p.R)
		least := math.Inf(1)
		for _, e := range essentials(a, b) {
			for _, sign := range []float64{1, -1} {
				var d float64
				for i := range e {
					d += math.Pow(sign*e[i]-want[i]/math.Sqrt2, 2)
				}
				least = math.Min(least, math.Sqrt(d))
			}
		}
		assert.Less(t, least, 1e-5, "seed %d", seed)
	}
}

func BenchmarkSolve(b *testing.B) {
	rng := rand.New(rand.NewPCG(11, 20))
	sliding := func(frames int) *filmed {
		return film(b, rng, world(rng, frames, 15*frames, [3]float64{-0.06, 0, 0}, slide, 900), 0.2, 0.1, 0.05)
	}
	past := func(frames int) *filmed {
		f := film(b, rng, alongAWall(rng, frames), 0.2, 0.1, 0.05)
		f.cut(60)
		return f
	}
	for _, c := range []struct {
		name   string
		frames int
		of     func(int) *filmed
	}{{"stays in sight", 100, sliding}, {"stays in sight", 200, sliding}, {"stays in sight", 400, sliding}, {"passes", 200, past}, {"passes", 400, past}, {"passes", 800, past}} {
		b.Run(fmt.Sprintf("%d frames, what is followed %s", c.frames, c.name), func(b *testing.B) {
			f := c.of(c.frames)
			b.Logf("%d tracks", len(f.Tracks))
			most, done := make(chan float64), make(chan struct{})
			go func() {
				var m runtime.MemStats
				peak := 0.0
				for tick := time.NewTicker(20 * time.Millisecond); ; {
					select {
					case <-tick.C:
						runtime.ReadMemStats(&m)
						peak = max(peak, float64(m.HeapAlloc)/1e6)
					case <-done:
						most <- peak
						return
					}
				}
			}()
			for b.Loop() {
				if _, err := Solve(context.Background(), f.Task); err != nil {
					b.Fatal(err)
				}
			}
			close(done)
			b.ReportMetric(<-most, "MB-heap")
		})
	}
}
