package camera

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
)

// Lines that are straight in the set are straight after the lens is taken out (aim: 0.3 px).
func TestALensIsFoundFromLines(t *testing.T) {
	for seed := range uint64(20) {
		rng := rand.New(rand.NewPCG(seed, 30))
		k := [3]float64{-0.12 + 0.25*rng.Float64()}
		if seed%2 == 1 {
			k[1] = 0.04 * rng.Float64()
		}
		truth, err := geom.LensOf(k, 1920, 1080, geom.Pt(960, 540), 1)
		require.NoError(t, err)
		var lines [][]geom.Point
		for range 8 {
			at, turn := geom.Pt(1920*rng.Float64(), 1080*rng.Float64()), math.Pi*rng.Float64()
			var line []geom.Point
			for s := -2000.0; s < 2000; s += 60 {
				p := truth.Distort(geom.Pt(at.X+s*math.Cos(turn), at.Y+s*math.Sin(turn)))
				if p.X > 0 && p.Y > 0 && p.X < 1920 && p.Y < 1080 {
					line = append(line, p.Add(geom.Pt(0.3*rng.NormFloat64(), 0.3*rng.NormFloat64())))
				}
			}
			if len(line) >= 5 {
				lines = append(lines, line)
			}
		}
		start, _ := geom.LensOf([3]float64{}, 1920, 1080, geom.Pt(960, 540), 1)
		lens, off, err := LensFromLines(start, 1920, 1080, lines, 1+int(seed%2))
		require.NoError(t, err)
		assert.Less(t, off, 0.35, "the places were put 0.3 px off")
		// True lines, seen through the true lens, are straight through the found one.
		var clean [][]geom.Point
		for _, l := range lines {
			var c []geom.Point
			a, b := truth.Straighten(l[0]), truth.Straighten(l[len(l)-1])
			for i := range 20 {
				c = append(c, truth.Distort(a.Lerp(b, float64(i)/19)))
			}
			clean = append(clean, c)
		}
		var sum float64
		e := bows(&lens, clean)
		for _, v := range e {
			sum += v * v
		}
		assert.Less(t, math.Sqrt(sum/float64(len(e))), 0.3, "seed %d, k %v found %v", seed, k, lens.K)
	}
	_, _, err := LensFromLines(geom.Lens{}, 1920, 1080, [][]geom.Point{{{X: 1, Y: 1}, {X: 2, Y: 2}}}, 1)
	assert.ErrorIs(t, err, ErrLines)
}

func TestAFloorIsLaid(t *testing.T) {
	for seed := range uint64(50) {
		rng := rand.New(rand.NewPCG(seed, 31))
		v := func() Vec { return Vec{rng.NormFloat64(), rng.NormFloat64(), rng.NormFloat64()} }
		places := []Vec{v(), v(), v()}
		eye := v().Mul(5)
		s, err := LayFloor(places, eye, &places[1])
		require.NoError(t, err)
		for _, p := range places {
			assert.InDelta(t, 0, s.Apply(p)[1], 1e-9)
		}
		assert.InDelta(t, 0, s.Apply(places[1]).Len(), 1e-9)
		assert.Greater(t, s.Apply(eye)[1], 0.0)
		a, b := v(), v()
		assert.InDelta(t, a.Dist(b), s.Apply(a).Dist(s.Apply(b)), 1e-9)
		q := Similarity{2, Turn(v()), v()}
		both := s.Then(q)
		assert.InDelta(t, 0, both.Apply(a).Dist(q.Apply(s.Apply(a))), 1e-9)
	}
	_, err := LayFloor([]Vec{{0, 0, 0}, {1, 1, 1}, {2, 2, 2}}, Vec{}, nil)
	assert.ErrorIs(t, err, ErrNoPlane)
}

func TestARectangleOnAPlane(t *testing.T) {
	for seed := range uint64(50) {
		rng := rand.New(rand.NewPCG(seed, 32))
		n := Vec{rng.NormFloat64(), rng.NormFloat64(), rng.NormFloat64()}.Unit()
		a := n.Cross(Vec{0.3, 0.5, 0.8}).Unit()
		b := n.Cross(a)
		var places []Vec
		for range 12 {
			places = append(places, Vec{1, 2, 3}.Add(a.Mul(rng.NormFloat64())).Add(b.Mul(rng.NormFloat64())))
		}
		eye := Vec{5 * rng.NormFloat64(), 5 * rng.NormFloat64(), 9}
		middle, normal, off, err := PlaneThrough(places)
		require.NoError(t, err)
		assert.InDelta(t, 1, math.Abs(normal.Dot(n)), 1e-9)
		assert.InDelta(t, 0, off, 1e-6)
		r := On(normal, places, eye, 0.2)
		z := r.Turn.Apply(Vec{0, 0, 1})
		assert.InDelta(t, 1, math.Abs(z.Dot(n)), 1e-9)
		assert.Greater(t, z.Dot(eye.Sub(r.At)), 0.0, "it is turned to who looks")
		assert.InDelta(t, 0, middle.Sub(r.At).Dot(n), 1e-9)
		for _, p := range places {
			q := r.Turn.Back(p.Sub(r.At))
			assert.LessOrEqual(t, math.Abs(q[0]), r.Size[0]/2)
			assert.LessOrEqual(t, math.Abs(q[1]), r.Size[1]/2)
		}
		// A rotation: right-handed.
		x, y := r.Turn.Apply(Vec{1, 0, 0}), r.Turn.Apply(Vec{0, 1, 0})
		assert.InDelta(t, 0, x.Cross(y).Dist(z), 1e-9)
	}
}

// Leaves before a wall: with a third of the places elsewhere the plane is that of the others.
func TestAPlaneOfMost(t *testing.T) {
	for seed := range uint64(50) {
		rng := rand.New(rand.NewPCG(seed, 34))
		n := Vec{rng.NormFloat64(), rng.NormFloat64(), rng.NormFloat64()}.Unit()
		a := n.Cross(Vec{0.3, 0.5, 0.8}).Unit()
		b := n.Cross(a)
		var places []Vec
		for i := range 60 {
			p := Vec{1, 2, 3}.Add(a.Mul(4 * rng.NormFloat64())).Add(b.Mul(2 * rng.NormFloat64())).Add(n.Mul(0.005 * rng.NormFloat64()))
			if i%3 == 0 {
				p = p.Add(n.Mul(0.5 + 2*rng.Float64())).Add(a.Mul(3))
			}
			places = append(places, p)
		}
		_, normal, kept, err := PlaneOfMost(places)
		require.NoError(t, err)
		assert.Less(t, math.Acos(math.Min(1, math.Abs(normal.Dot(n))))*180/math.Pi, 0.2)
		assert.InDelta(t, 40, len(kept), 3)
	}
}

func TestTurnsAndQuaternionsAgree(t *testing.T) {
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 33))
		w := Vec{rng.NormFloat64(), rng.NormFloat64(), rng.NormFloat64()}.Unit().Mul(math.Pi * rng.Float64())
		r := Turn(w)
		for i, v := range OfQuaternion(r.Quaternion()) {
			assert.InDelta(t, r[i], v, 1e-9)
		}
		assert.InDelta(t, 0, r.Axis().Dist(w), 1e-6)
		// About its own axis nothing moves; a quarter about z takes x to y.
		assert.InDelta(t, 0, r.Apply(w).Dist(w), 1e-9)
	}
	quarter := Turn(Vec{0, 0, math.Pi / 2})
	assert.InDelta(t, 0, quarter.Apply(Vec{1, 0, 0}).Dist(Vec{0, 1, 0}), 1e-12)
}
