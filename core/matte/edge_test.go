package matte

import (
	"fmt"
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// plain is Edge as slowly and as plainly as it can be written: many samples a pixel, each by
// its signed distance to all that parts inside from outside.
func plain(rim []Rim, grow float64, overlaps bool, within image.Rectangle, samples int) *raster.Plane {
	out := raster.NewPlane(within)
	polygon := make([]geom.Point, len(rim))
	for i, edge := range rim {
		polygon[i] = edge.At
	}
	sign := 1
	if !clockwise(polygon) {
		sign = -1
	}
	wound := func(p geom.Point) bool {
		n := 0
		for i, a := range polygon {
			b := polygon[(i+1)%len(polygon)]
			if (a.Y <= p.Y) != (b.Y <= p.Y) && a.X+(p.Y-a.Y)/(b.Y-a.Y)*(b.X-a.X) <= p.X {
				if a.Y > b.Y {
					n++
				} else {
					n--
				}
			}
		}
		if overlaps {
			return n*sign > 0
		}
		return n != 0
	}
	// Pieces of the sides that part inside from outside, to within a twentieth of a pixel.
	type piece struct{ a, b Rim }
	var pieces []piece
	var reach float64
	for i, a := range rim {
		b := rim[(i+1)%len(rim)]
		d := b.At.Sub(a.At)
		reach = math.Max(reach, math.Abs(grow)+math.Max(a.Out, a.In)+1)
		n := 1
		if overlaps || selfCrossing(polygon) {
			n = max(1, int(d.Len()/0.05))
		}
		for k := range n {
			t, u := float64(k)/float64(n), float64(k+1)/float64(n)
			p := piece{
				Rim{a.At.Lerp(b.At, t), a.Out + (b.Out-a.Out)*t, a.In + (b.In-a.In)*t},
				Rim{a.At.Lerp(b.At, u), a.Out + (b.Out-a.Out)*u, a.In + (b.In-a.In)*u},
			}
			m := p.a.At.Lerp(p.b.At, 0.5)
			across := geom.Pt(-d.Y, d.X).Mul(1e-6 / d.Len())
			if wound(m.Add(across)) == wound(m.Sub(across)) {
				continue
			}
			if last := len(pieces) - 1; k > 0 && last >= 0 && pieces[last].b == p.a {
				pieces[last].b = p.b
			} else {
				pieces = append(pieces, p)
			}
		}
	}
	for y := within.Min.Y; y < within.Max.Y; y++ {
		for x := within.Min.X; x < within.Max.X; x++ {
			var sum float64
			samples := samples
			centre, nearest := geom.Pt(float64(x)+0.5, float64(y)+0.5), math.Inf(1)
			for _, s := range pieces {
				d := s.b.At.Sub(s.a.At)
				q := centre.Sub(s.a.At)
				t := math.Min(math.Max((q.X*d.X+q.Y*d.Y)/(d.X*d.X+d.Y*d.Y), 0), 1)
				nearest = math.Min(nearest, centre.Dist(s.a.At.Lerp(s.b.At, t)))
			}
			if nearest > reach {
				samples = 1 // far from any edge
			}
			for j := range samples {
				for i := range samples {
					p := geom.Pt(
						float64(x)+(float64(i)+0.5)/float64(samples),
						float64(y)+(float64(j)+0.5)/float64(samples),
					)
					best, o, n := math.Inf(1), 0.0, 0.0
					for _, s := range pieces {
						d := s.b.At.Sub(s.a.At)
						q := p.Sub(s.a.At)
						t := math.Min(math.Max((q.X*d.X+q.Y*d.Y)/(d.X*d.X+d.Y*d.Y), 0), 1)
						if away := p.Dist(s.a.At.Lerp(s.b.At, t)); away < best {
							best, o, n = away, s.a.Out+(s.b.Out-s.a.Out)*t, s.a.In+(s.b.In-s.a.In)*t
						}
					}
					s := best
					if !wound(p) {
						s = -s
					}
					s += grow
					if o+n <= 0 {
						if s > 0 {
							sum++
						}
						continue
					}
					u := math.Min(math.Max((o+s)/(o+n), 0), 1)
					sum += u * u * (3 - 2*u)
				}
			}
			out.Pix[(y-within.Min.Y)*within.Dx()+x-within.Min.X] = float32(sum / float64(samples*samples))
		}
	}
	return out
}

func selfCrossing(p []geom.Point) bool {
	var sides []border
	for i, a := range p {
		sides = append(sides, border{Rim{At: a}, Rim{At: p[(i+1)%len(p)]}})
	}
	_, any := crossings(sides)
	return any
}

// worst returns the greatest difference of two mattes, and where.
func worst(a, b *raster.Plane, within image.Rectangle) (most float64, at image.Point) {
	for y := within.Min.Y; y < within.Max.Y; y++ {
		for x := within.Min.X; x < within.Max.X; x++ {
			if d := math.Abs(float64(a.At(x, y)) - float64(b.At(x, y))); d > most {
				most, at = d, image.Pt(x, y)
			}
		}
	}
	return most, at
}

func turned(points []geom.Point, degrees float64) []geom.Point {
	turn := geom.Placement(geom.Bounds(points).Centre(), geom.Pt(0, 0), degrees, geom.Pt(1, 1))
	return turn.ApplyAll(points)
}

const within64th = 1.0 / 64

// Random shapes at random angles, every combination of what an edge can have.
func TestEdgesAreTheirDistanceFields(t *testing.T) {
	if testing.Short() {
		t.Skip("long")
	}
	r := rand.New(rand.NewPCG(7, 11))
	small := image.Rect(0, 0, 44, 40)
	pick := func(v ...float64) float64 { return v[r.IntN(len(v))] }
	for round := range 144 {
		n := 3 + r.IntN(6)
		var points []geom.Point
		for k := range n {
			a := 2 * math.Pi * (float64(k) + 0.6*r.Float64()) / float64(n)
			l := 5 + 9*r.Float64()
			points = append(points, geom.Pt(22+l*math.Cos(a), 20+l*math.Sin(a)))
		}
		kind := "polygon"
		switch round % 6 {
		case 0:
			kind = "box"
			b := geom.Box{Min: geom.Pt(12, 12), Max: geom.Pt(32+2*r.Float64(), 26+2*r.Float64())}.Corners()
			points = turned(b[:], pick(0, 17, 45, 90, 360*r.Float64()))
		case 1:
			kind = "crossing itself"
			r.Shuffle(len(points), func(i, j int) { points[i], points[j] = points[j], points[i] })
		case 2:
			kind = "sliver"
			b := geom.Box{Min: geom.Pt(8, 19.2), Max: geom.Pt(36, 19.2+0.2+2*r.Float64())}.Corners()
			points = turned(b[:], 360*r.Float64())
		}
		out, in, grow := pick(0, 0, 0.3, 1, 2, 5, 9), pick(0, 0, 0.4, 1, 3, 6), pick(0, 0, 0, 0.7, 3, -0.6, -3, -6)
		rim := rimOf(points, out, in)
		if round%4 == 3 && kind != "crossing itself" { // where sides cross, two feathers meet: either would do
			for i := range rim {
				rim[i].Out, rim[i].In = out*r.Float64(), in*r.Float64()
			}
		}
		if r.IntN(2) == 0 {
			for i, j := 0, len(rim)-1; i < j; i, j = i+1, j-1 {
				rim[i], rim[j] = rim[j], rim[i]
			}
		}
		name := fmt.Sprintf("%d: %s of %d, out %v, in %v, grow %v", round, kind, n, out, in, grow)
		samples, limit := 12, within64th
		if out+in < 1 {
			samples, limit = 32, within64th+2.0/64 // by so much so many samples may miss a hard corner
		}
		got, want := Edge(rim, grow, false, small), plain(rim, grow, false, small, samples)
		if out == 0 && in == 0 && grow == 0 && kind == "crossing itself" {
			continue // its hard edge counts windings by area, not by places
		}
		most, at := worst(got, want, small)
		assert.LessOrEqual(
			t,
			most,
			limit,
			"%s: %v at %v: %v, should be %v",
			name,
			most,
			at,
			got.At(at.X, at.Y),
			want.At(at.X, at.Y),
		)
	}
}

func TestStrandsHaveEdgesAsWell(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	small := image.Rect(0, 0, 40, 32)
	for range 12 {
		var path []Wire
		for k := range 4 {
			path = append(path, Wire{geom.Pt(6+float64(k)*9+3*r.Float64(), 6+20*r.Float64()), 1 + 5*r.Float64()})
		}
		points := Strand(path)
		out, in, grow := []float64{0.5, 2, 4}[r.IntN(3)], []float64{0, 1, 2}[r.IntN(3)], []float64{0, 1.5,
			-0.5}[r.IntN(3)]
		rim := rimOf(points, out, in)
		got, want := Edge(rim, grow, true, small), plain(rim, grow, true, small, 8)
		most, at := worst(got, want, small)
		limit := within64th
		if out+in < 1 {
			limit += 1.0 / 24
		}
		assert.LessOrEqual(
			t,
			most,
			limit,
			"out %v, in %v, grow %v: at %v: %v, should be %v",
			out,
			in,
			grow,
			at,
			got.At(at.X, at.Y),
			want.At(at.X, at.Y),
		)
	}
}

// Along any way out of a convex shape, coverage never rises again.
func TestCoverageFallsAcrossAnEdge(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 9))
	big := image.Rect(0, 0, 96, 96)
	for range 60 {
		b := geom.Box{Min: geom.Pt(30, 34), Max: geom.Pt(66, 61)}.Corners()
		rim := rimOf(turned(b[:], 360*r.Float64()), 12*r.Float64(), 6*r.Float64())
		m := Edge(rim, 12*r.Float64()-6, false, big)
		for _, step := range []image.Point{{1, 0}, {-1, 0}, {0, 1}, {0, -1}, {1, 1}, {-1, 1}, {2, 1}, {1, -3}} {
			last := float32(1)
			for p := image.Pt(48, 47); p.In(big); p = p.Add(step) {
				v := m.At(p.X, p.Y)
				assert.LessOrEqual(t, v, last+1e-5, "at %v", p)
				last = v
			}
		}
	}
}

// The examples that the defects were told by.
func TestNoHolesAlongFeatheredEdges(t *testing.T) {
	b := geom.Box{Min: geom.Pt(30, 30), Max: geom.Pt(70, 70)}.Corners()
	m := Edge(rimOf(turned(b[:], 17), 2, 0), 0, false, image.Rect(0, 0, 100, 100))
	for y := range 100 {
		for x := 1; x < 99; x++ {
			dip := min(m.At(x-1, y), m.At(x+1, y)) - m.At(x, y)
			assert.Less(t, dip, float32(0.01), "a hole at %d,%d", x, y)
		}
	}
	box := geom.Box{Min: geom.Pt(30, 30), Max: geom.Pt(90, 70)}.Corners()
	for _, c := range []struct{ grow, out float64 }{{-6, 12}, {-15, 6}} {
		frame := image.Rect(0, 0, 120, 100)
		most, at := worst(
			Edge(rimOf(box[:], c.out, 0), c.grow, false, frame),
			plain(rimOf(box[:], c.out, 0), c.grow, false, frame, 6),
			frame,
		)
		assert.Less(t, most, within64th, "grow %v, feather %v, at %v", c.grow, c.out, at)
	}
}

func BenchmarkEdge(b *testing.B) {
	var rim []Rim
	for k := range 90 {
		a := 2 * math.Pi * float64(k) / 90
		rim = append(rim, Rim{geom.Pt(200+120*math.Cos(a), 200+90*math.Sin(a)+10*math.Sin(5*a)), 6, 0})
	}
	for b.Loop() {
		Edge(rim, 0, false, image.Rect(0, 0, 400, 400))
	}
}

// Coverage of a part of the frame is that of the frame, whichever part is asked for.
func TestAnEdgeIsTheSameInEveryPart(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 8))
	whole := image.Rect(0, 0, 90, 70)
	for round := range 60 {
		var rim []Rim
		n := 3 + rng.IntN(6)
		for k := range n {
			sin, cos := math.Sincos(2*math.Pi*float64(k)/float64(n) + rng.Float64()*0.4)
			r := 8 + 24*rng.Float64()
			rim = append(
				rim,
				Rim{
					At:  geom.Pt(45+r*cos, 35+r*sin),
					Out: 6 * rng.Float64() * float64(round%2),
					In:  3 * rng.Float64() * float64(round%3),
				},
			)
		}
		grow := 6*rng.Float64() - 3
		all := Edge(rim, grow, false, whole)
		for range 8 {
			x, y := rng.IntN(80), rng.IntN(60)
			part := image.Rect(x, y, x+1+rng.IntN(30), y+1+rng.IntN(30)).Intersect(whole)
			some := Edge(rim, grow, false, part)
			for y := part.Min.Y; y < part.Max.Y; y++ {
				for x := part.Min.X; x < part.Max.X; x++ {
					require.InDelta(
						t,
						all.At(x, y),
						some.At(x, y),
						1e-5,
						"round %d, %v, pixel %d,%d",
						round,
						part,
						x,
						y,
					)
				}
			}
		}
	}
}
