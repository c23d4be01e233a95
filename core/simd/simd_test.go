package simd

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// A room is a slice somewhere in a larger one whose other samples must stay what they are.
type room struct {
	whole []float32
	part  []float32
}

func newRoom(rng *rand.Rand, n int) room {
	before, after := rng.IntN(9), rng.IntN(9)
	whole := make([]float32, before+n+after)
	for i := range whole {
		whole[i] = sample(rng)
	}
	return room{whole, whole[before : before+n : before+n]}
}

// sample is mostly a number of a picture, now and then something that pictures have as well.
func sample(rng *rand.Rand) float32 {
	switch rng.IntN(60) {
	case 0:
		return 0
	case 1:
		return float32(math.NaN())
	case 2:
		return float32(math.Inf(1 - 2*rng.IntN(2)))
	case 3:
		return 1
	}
	return float32(rng.NormFloat64())
}

func (r room) clone() room {
	whole := append([]float32(nil), r.whole...)
	off := 0
	for off < len(r.whole) && len(r.part) > 0 && &r.whole[off] != &r.part[0] {
		off++
	}
	return room{whole, whole[off : off+len(r.part) : off+len(r.part)]}
}

func sameBits(t *testing.T, want, got []float32, words string) {
	t.Helper()
	for i := range want {
		a, b := math.Float32bits(want[i]), math.Float32bits(got[i])
		bothNaN := want[i] != want[i] && got[i] != got[i] // which NaN it is tells nothing
		if a != b && !bothNaN {
			require.Failf(t, "other bits", "%s: sample %d of %d is %v (%x), plainly %v (%x)", words, i, len(want), got[i], b, want[i], a)
		}
	}
}

// A kernel is a loop as it is called, and its plain twin, on made-up samples of about a size.
type kernel struct {
	name string
	make func(rng *rand.Rand, n int) (dst room, run, plain func(dst []float32))
}

func places(rng *rand.Rand, n, w, h, before, after int) *Places {
	p := NewPlaces(n)
	for i := range n {
		p.X[i] = int32(before + rng.IntN(w-before-after))
		p.Y[i] = int32(before + rng.IntN(h-before-after))
		if rng.IntN(8) > 0 {
			p.FX[i] = rng.Float32()
		}
		if rng.IntN(8) > 0 {
			p.FY[i] = rng.Float32()
		}
	}
	return p
}

func halfKernel(rng *rand.Rand) []float32 {
	half := make([]float32, 1+rng.IntN(12))
	for i := range half {
		half[i] = rng.Float32()
	}
	return half
}

var kernels = []kernel{
	{"Symmetric", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		half, step := halfKernel(rng), 1+3*rng.IntN(2)
		src := newRoom(rng, n+2*(len(half)-1)*step).part
		return newRoom(rng, n), func(d []float32) { Symmetric(d, src, step, half) }, func(d []float32) { symmetricPlain(d, src, step, half, 0) }
	}},
	{"SymmetricRows", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		half := halfKernel(rng)
		var rows [][]float32
		for range 2*len(half) - 1 {
			rows = append(rows, newRoom(rng, n).part)
		}
		return newRoom(rng, n), func(d []float32) { SymmetricRows(d, rows, half) }, func(d []float32) { symmetricRowsPlain(d, rows, half, 0) }
	}},
	{"Halve", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		src := newRoom(rng, 2*n+3).part
		return newRoom(rng, n), func(d []float32) { Halve(d, src) }, func(d []float32) { halvePlain(d, src, 0) }
	}},
	{"Differ", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		a, b := newRoom(rng, n).part, newRoom(rng, n).part
		return newRoom(rng, n), func(d []float32) { Differ(d, a, b, 0.5) }, func(d []float32) { differPlain(d, a, b, 0.5, 0) }
	}},
	{"Lerp", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		a, b, k := newRoom(rng, n).part, newRoom(rng, n).part, rng.Float32()
		return newRoom(rng, n), func(d []float32) { Lerp(d, a, b, k) }, func(d []float32) { lerpPlain(d, a, b, k, 0) }
	}},
	{"Add", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		src := newRoom(rng, n).part
		return newRoom(rng, n), func(d []float32) { Add(d, src) }, func(d []float32) { addPlain(d, src, 0) }
	}},
	{"Between", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		top, low := newRoom(rng, n+1).part, newRoom(rng, n+1).part
		a, b, c, e := rng.Float32(), rng.Float32(), rng.Float32(), rng.Float32()
		return newRoom(rng, n), func(d []float32) { Between(d, top, low, a, b, c, e) }, func(d []float32) { betweenPlain(d, top, low, a, b, c, e, 0) }
	}},
	{"Spread", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		channels := 1 + 3*rng.IntN(2)
		src := newRoom(rng, channels*(n/3+2)).part
		cell, beyond := make([]int32, n), make([]float32, n)
		for i := range cell {
			cell[i], beyond[i] = int32(rng.IntN(n/3+1)), rng.Float32()
		}
		return newRoom(rng, channels*n), func(d []float32) { Spread(d, src, channels, cell, beyond) },
			func(d []float32) { spreadPlain(d, src, channels, cell, beyond) }
	}},
	{"Over", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		src := newRoom(rng, 4*n).part
		return newRoom(rng, 4*n), func(d []float32) { Over(d, src) }, func(d []float32) { overPlain(d, src, 0) }
	}},
	{"Cubic", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		w, h := 4+rng.IntN(40), 4+rng.IntN(40)
		pix, at := newRoom(rng, 4*w*h).part, places(rng, n, w, h, 1, 2)
		return newRoom(rng, 4*n), func(d []float32) { Cubic(d, pix, w, at) }, func(d []float32) { cubicPlain(d, pix, w, at, 0) }
	}},
	{"Unlit", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		a, b := newRoom(rng, n).part, newRoom(rng, n).part
		x, y := make([]float64, n), make([]float64, n)
		for i := range x {
			x[i], y[i] = rng.NormFloat64(), rng.NormFloat64()
		}
		k, o, sx, sy := rng.Float64(), rng.Float64(), rng.Float64(), rng.Float64()
		return newRoom(rng, n), func(d []float32) { Unlit(d, a, b, x, y, k, o, sx, sy) }, func(d []float32) { unlitPlain(d, a, b, x, y, k, o, sx, sy, 0) }
	}},
	{"Roots", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		src, scale := newRoom(rng, n).part, rng.Float32()
		return newRoom(rng, n), func(d []float32) { Roots(d, src, scale, 0.9) }, func(d []float32) { rootsPlain(d, src, scale, 0.9, 0) }
	}},
	{"Alike", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		weights, middle, other := newRoom(rng, n), newRoom(rng, n).part, newRoom(rng, n).part
		own := weights.clone().part
		near, fall := rng.Float32(), rng.Float32()
		return newRoom(rng, 2*n), func(d []float32) {
				Alike(d[:n], weights.part, middle, other, near, fall)
				copy(d[n:], weights.part)
			}, func(d []float32) {
				alikePlain(d[:n], own, middle, other, near, fall, 0)
				copy(d[n:], own)
			}
	}},
	{"Biweight", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		e := newRoom(rng, n).part
		return newRoom(rng, n), func(d []float32) { Biweight(d, e, 0.7) }, func(d []float32) { biweightPlain(d, e, 0.7, 0) }
	}},
	{"CubicPlane", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		w, h := 4+rng.IntN(40), 4+rng.IntN(40)
		pix, at := newRoom(rng, w*h).part, places(rng, n, w, h, 1, 2)
		return newRoom(rng, n), func(d []float32) { CubicPlane(d, pix, w, at) }, func(d []float32) { cubicPlanePlain(d, pix, w, at, false, 0) }
	}},
	{"SplinePlane", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		w, h := 4+rng.IntN(40), 4+rng.IntN(40)
		pix, at := newRoom(rng, w*h).part, places(rng, n, w, h, 1, 2)
		return newRoom(rng, n), func(d []float32) { SplinePlane(d, pix, w, at) }, func(d []float32) { cubicPlanePlain(d, pix, w, at, true, 0) }
	}},
	{"LinearPlane", func(rng *rand.Rand, n int) (room, func([]float32), func([]float32)) {
		w, h := 2+rng.IntN(40), 2+rng.IntN(40)
		pix, at := newRoom(rng, w*h).part, places(rng, n, w, h, 0, 1)
		return newRoom(rng, n), func(d []float32) { LinearPlane(d, pix, w, at) }, func(d []float32) { linearPlanePlain(d, pix, w, at, 0) }
	}},
}

func (k *kernel) check(t *testing.T, seed uint64, n int) {
	t.Helper()
	rng := rand.New(rand.NewPCG(seed, uint64(n)))
	dst, run, plain := k.make(rng, n)
	want := dst.clone()
	plain(want.part)
	run(dst.part)
	sameBits(t, want.whole, dst.whole, fmt.Sprintf("%s, seed %d, %d long", k.name, seed, n))
}

// Both twins give the same bits, at every length, wherever the samples begin, and leave what lies around them alone.
func TestTwinsGiveTheSameBits(t *testing.T) {
	if !Vectors() {
		t.Log("no vectors here: the plain loops are compared with themselves")
	}
	for _, k := range kernels {
		t.Run(k.name, func(t *testing.T) {
			for n := 1; n < 150; n++ {
				k.check(t, 7, n)
			}
			for seed := range uint64(60) {
				k.check(t, seed, 1+int(seed*37%900))
			}
		})
	}
}

func FuzzTwins(f *testing.F) {
	f.Add(uint8(0), uint64(1), uint16(17))
	f.Fuzz(func(t *testing.T, which uint8, seed uint64, n uint16) {
		kernels[int(which)%len(kernels)].check(t, seed, 1+int(n)%2000)
	})
}

func TestPlacesOfAHomography(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	for trial := range 300 {
		h := [9]float64{1 + 0.3*rng.NormFloat64(), 0.3 * rng.NormFloat64(), 50 * rng.NormFloat64(),
			0.3 * rng.NormFloat64(), 1 + 0.3*rng.NormFloat64(), 50 * rng.NormFloat64(),
			0.004 * rng.NormFloat64(), 0.004 * rng.NormFloat64(), 1}
		if trial%10 == 0 {
			h = [9]float64{1, 0, 0, 0, 1, 0, 0, 0, 1}
		}
		n, x, y := 1+rng.IntN(90), rng.IntN(4000)-200, rng.IntN(2000)-100
		got, want := NewPlaces(n), NewPlaces(n)
		got.Project(&h, x, y)
		projectPlain(want, &h, x, y, 0)
		require.Equal(t, want, got)
		xs, ys := make([]float64, n), make([]float64, n)
		for i := range n {
			xs[i], ys[i] = 500*rng.NormFloat64(), 500*rng.NormFloat64()
		}
		carried, plain := NewPlaces(n), NewPlaces(n)
		carried.Carry(&h, xs, ys)
		carryPlain(plain, &h, xs, ys, 0)
		require.Equal(t, plain, carried)
		for i := range n {
			u, v := float64(x+i)+0.5, float64(y)+0.5
			w := h[6]*u + h[7]*v + h[8]
			px, py := (h[0]*u+h[1]*v+h[2])/w, (h[3]*u+h[4]*v+h[5])/w
			if !(math.Abs(px) < 1e6 && math.Abs(py) < 1e6) {
				require.EqualValues(t, Nowhere, got.X[i])
				continue
			}
			require.InDelta(t, px-0.5, float64(got.X[i])+float64(got.FX[i]), 1e-6)
			require.InDelta(t, py-0.5, float64(got.Y[i])+float64(got.FY[i]), 1e-6)
		}
	}
}

func TestCells(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 4))
	for trial := range 300 {
		var c [4][2]float64
		for k := range c {
			c[k] = [2]float64{300 * rng.NormFloat64(), 300 * rng.NormFloat64()}
		}
		if trial%7 == 0 {
			c[rng.IntN(4)][rng.IntN(2)] = []float64{math.NaN(), 3e6, -3e6}[rng.IntN(3)]
		}
		got, want, v := NewPlaces(20), NewPlaces(20), rng.Float64()
		got.Cell(5, 8, 0, &c, v)
		cellPlain(want, 5, 8, 0, &c, v)
		require.Equal(t, want, got)
		x := c[0][0] + (c[1][0]-c[0][0])*3/8
		x += (c[2][0] + (c[3][0]-c[2][0])*3/8 - x) * v
		if trial%7 != 0 {
			require.InDelta(t, x-0.5, float64(got.X[8])+float64(got.FX[8]), 1e-4)
		}
	}
}

func TestNormalEquations(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 2))
	for trial := range 200 {
		n := rng.IntN(300)
		d, weight, e := make([][8]float32, n), make([]float32, n), make([]float32, n)
		var want Sums
		for i := range d {
			for c := range 8 {
				d[i][c] = float32(rng.NormFloat64())
			}
			weight[i], e[i] = rng.Float32()*2-0.5, float32(rng.NormFloat64())
			if weight[i] <= 0 {
				e[i] = float32(math.NaN())
				continue
			}
			for r := range 8 {
				want.Right[r] += float64(weight[i]) * float64(e[i]) * float64(d[i][r])
				for c := r; c < 8; c++ {
					want.Normal[r][c] += float64(weight[i]) * float64(d[i][r]) * float64(d[i][c])
				}
			}
		}
		var got, plain Sums
		got.Add(d, weight, e, trial%3 > 0)
		sumsPlain(&plain, d, weight, e, trial%3 > 0)
		require.Equal(t, plain, got)
		for r := range 8 {
			require.InDelta(t, want.Right[r], got.Right[r], 1e-4)
			for c := r; c < 8 && trial%3 > 0; c++ {
				require.InDelta(t, want.Normal[r][c], got.Normal[r][c], 1e-4)
			}
		}
	}
}

func TestDots(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 3))
	for n := range 120 {
		v, a, b, c := newRoom(rng, n).part, newRoom(rng, n).part, newRoom(rng, n).part, newRoom(rng, n).part
		var lanes [3][4]float64
		dotsPlain(&lanes, v, a, b, c)
		want, got := joined(&lanes), Dots(v, a, b, c)
		for k, other := range [3][]float32{a, b, c} {
			require.True(t, want[k] == got[k] || want[k] != want[k] && got[k] != got[k], "%d long", n)
			var sum float64
			for i := range v {
				sum += float64(v[i]) * float64(other[i])
			}
			if sum-sum == 0 {
				require.InDelta(t, sum, got[k], 1e-9)
			}
		}
	}
}

func TestBytesAndWords(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 5))
	for n := range 200 {
		from, words := make([]byte, 3+n), make([]uint16, 5+n)
		for i := range from {
			from[i] = byte(rng.Uint32())
		}
		for i := range words {
			words[i] = uint16(rng.Uint32())
		}
		wide, small := slices.Clone(words), slices.Clone(from)
		Widen(wide[2:2+n], from[3:])
		Narrow(small[1:1+n], words[5:])
		for i := range wide {
			want := words[i]
			if i >= 2 && i < 2+n {
				want = uint16(from[i+1])
			}
			require.Equal(t, want, wide[i], "%d of %d", i, n)
		}
		for i := range small {
			want := from[i]
			if i >= 1 && i < 1+n {
				want = byte(words[i+4])
			}
			require.Equal(t, want, small[i], "%d of %d", i, n)
		}
	}
}

func TestOrdersOfBytes(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 6))
	for n := range 200 {
		words, from := make([]uint16, 3+n), make([]byte, 1+2*n)
		for i := range words {
			words[i] = uint16(rng.Uint32())
		}
		for i := range from {
			from[i] = byte(rng.Uint32())
		}
		out := make([]byte, 5+2*n)
		for _, order := range []struct {
			plain binary.ByteOrder
			from  func([]uint16, []byte)
			to    func([]byte, []uint16)
		}{{binary.BigEndian, FromBigEndian, ToBigEndian}, {binary.LittleEndian, FromLittleEndian, ToLittleEndian}} {
			clear(out)
			order.to(out[2:], words[3:])
			require.EqualValues(t, 0, out[1]+out[2+2*n], "beside what was to be written")
			for i, v := range words[3:] {
				require.Equal(t, v, order.plain.Uint16(out[2+2*i:]), "%v, %d of %d", order.plain, i, n)
			}
			into := make([]uint16, n+2)
			order.from(into[1:1+n], from[1:])
			require.EqualValues(t, 0, into[0]+into[n+1])
			for i, v := range into[1 : 1+n] {
				require.Equal(t, order.plain.Uint16(from[1+2*i:]), v, "%v, %d of %d", order.plain, i, n)
			}
		}
	}
}

func TestReduce(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 4))
	for n := range 120 {
		var wholes, v [4][]float64
		var before [4]int
		for k := range v {
			before[k] = rng.IntN(5)
			wholes[k] = make([]float64, before[k]+n+rng.IntN(5))
			for i := range wholes[k] {
				wholes[k][i] = float64(sample(rng))
			}
			v[k] = wholes[k][before[k]:][:n:n]
		}
		by := [3]float64{rng.NormFloat64(), rng.NormFloat64(), rng.NormFloat64()}
		want := make([]float64, n)
		for i := range want {
			want[i] = v[0][i] - (by[0]*v[1][i] + by[1]*v[2][i] + by[2]*v[3][i])
		}
		around := slices.Clone(wholes[0])
		Reduce(v[0], v[1], v[2], v[3], by)
		for i := range want {
			require.True(t, want[i] == v[0][i] || want[i] != want[i] && v[0][i] != v[0][i], "%d of %d", i, n)
		}
		for i := range around {
			if at := i - before[0]; at < 0 || at >= n {
				require.True(t, math.Float64bits(around[i]) == math.Float64bits(wholes[0][i]), "around %d", n)
			}
		}
	}
}

// The plain loops beside what they say, in 64 bits.
func TestPlainLoopsDoWhatTheySay(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 9))
	number := func(n int) []float32 {
		out := make([]float32, n)
		for i := range out {
			out[i] = rng.Float32()
		}
		return out
	}
	half := []float32{0.4, 0.2, 0.1}
	src := number(40)
	dst := make([]float32, 20)
	symmetricPlain(dst, src, 4, half, 0)
	for i, v := range dst {
		want := 0.0
		for k := -2; k <= 2; k++ {
			want += float64(half[max(k, -k)]) * float64(src[i+8+4*k])
		}
		require.InDelta(t, want, v, 1e-6)
	}
	const w, h = 9, 7
	pix, plane := number(4*w*h), number(w*h)
	at := places(rng, 200, w, h, 1, 2)
	rgba, mono, linear := make([]float32, 800), make([]float32, 200), make([]float32, 200)
	cubicPlain(rgba, pix, w, at, 0)
	cubicPlanePlain(mono, plane, w, at, false, 0)
	linearPlanePlain(linear, plane, w, at, 0)
	for i := range mono {
		wx, wy := Weights(at.FX[i]), Weights(at.FY[i])
		var want [5]float64
		for j := range 4 {
			for k := range 4 {
				o := (int(at.Y[i])-1+j)*w + int(at.X[i]) - 1 + k
				for c := range 4 {
					want[c] += float64(wx[k]) * float64(wy[j]) * float64(pix[4*o+c])
				}
				want[4] += float64(wx[k]) * float64(wy[j]) * float64(plane[o])
			}
		}
		want[3] = min(max(want[3], 0), 1)
		for c := range 4 {
			require.InDelta(t, want[c], rgba[4*i+c], 2e-6)
		}
		require.InDelta(t, want[4], mono[i], 2e-6)
		o, fx, fy := int(at.Y[i])*w+int(at.X[i]), float64(at.FX[i]), float64(at.FY[i])
		up := float64(plane[o])*(1-fx) + float64(plane[o+1])*fx
		down := float64(plane[o+w])*(1-fx) + float64(plane[o+w+1])*fx
		require.InDelta(t, up*(1-fy)+down*fy, linear[i], 1e-6)
	}
}
