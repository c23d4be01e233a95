//go:build goexperiment.simd && amd64

package simd

import (
	"math"
	"simd/archsimd"
	"unsafe"
)

var (
	wide  = archsimd.X86.AVX2()
	wider = archsimd.X86.AVX512()
)

// Fence clears what vector instructions leave in the upper halves of the registers, which would make plain float code wait on
// them: also where the program was interrupted in between, as saving the registers leaves it so.
func Fence() {
	if wide {
		archsimd.ClearAVXUpperBits()
	}
}

type (
	f4  = archsimd.Float32x4
	f8  = archsimd.Float32x8
	d4  = archsimd.Float64x4
	f16 = archsimd.Float32x16
)

// load returns the eight samples from i on. It is for loops that have seen to the bounds.
func load(p *float32, i int) f8 {
	return archsimd.LoadFloat32x8((*[8]float32)(unsafe.Add(unsafe.Pointer(p), 4*i)))
}

func store(v f8, p *float32, i int) { v.Store((*[8]float32)(unsafe.Add(unsafe.Pointer(p), 4*i))) }

func load4(p *float32, i int) f4 {
	return archsimd.LoadFloat32x4((*[4]float32)(unsafe.Add(unsafe.Pointer(p), 4*i)))
}

func quad(p *float64, i int) d4 {
	return archsimd.LoadFloat64x4((*[4]float64)(unsafe.Add(unsafe.Pointer(p), 8*i)))
}

func store4(v f4, p *float32, i int) { v.Store((*[4]float32)(unsafe.Add(unsafe.Pointer(p), 4*i))) }

func all(v float32) f8 { return archsimd.BroadcastFloat32x8(v) }

// mostTaps is how many pairs of taps the vector loops take; beyond that the plain one does.
const mostTaps = 64

// pairs holds where the two samples begin that each weight of a symmetric kernel is of.
type pairs [mostTaps]struct {
	weight float32
	a, b   unsafe.Pointer
}

func symmetricWide(dst, src []float32, step int, half []float32) {
	n := len(half) - 1
	if len(dst) < 8 || n > mostTaps {
		symmetricPlain(dst, src, step, half, 0)
		return
	}
	var taps pairs
	s := unsafe.Pointer(unsafe.SliceData(src))
	for k := 1; k <= n; k++ {
		taps[k-1].weight, taps[k-1].a, taps[k-1].b = half[k], unsafe.Add(s, 4*(n-k)*step), unsafe.Add(s, 4*(n+k)*step)
	}
	i := weighed(dst, unsafe.Add(s, 4*n*step), half[0], taps[:n])
	symmetricPlain(dst, src, step, half, i)
}

func symmetricRowsWide(dst []float32, rows [][]float32, half []float32) {
	n := len(half) - 1
	if len(dst) < 8 || n > mostTaps {
		symmetricRowsPlain(dst, rows, half, 0)
		return
	}
	var taps pairs
	for k := 1; k <= n; k++ {
		taps[k-1].weight = half[k]
		taps[k-1].a, taps[k-1].b = unsafe.Pointer(unsafe.SliceData(rows[n-k])), unsafe.Pointer(unsafe.SliceData(rows[n+k]))
	}
	i := weighed(dst, unsafe.Pointer(unsafe.SliceData(rows[n])), half[0], taps[:n])
	symmetricRowsPlain(dst, rows, half, i)
}

// weighed sums a middle and pairs of taps for as many samples as fit into vectors, and returns how many that were.
func weighed(dst []float32, middle unsafe.Pointer, centre float32, taps []struct {
	weight float32
	a, b   unsafe.Pointer
}) (i int) {
	d := unsafe.Pointer(unsafe.SliceData(dst))
	if wider {
		c := archsimd.BroadcastFloat32x16(centre)
		for ; i+64 <= len(dst); i += 64 {
			m := unsafe.Add(middle, 4*i)
			s0, s1 := c.Mul(get16(m)), c.Mul(get16(unsafe.Add(m, 64)))
			s2, s3 := c.Mul(get16(unsafe.Add(m, 128))), c.Mul(get16(unsafe.Add(m, 192)))
			for k := range taps {
				t := &taps[k]
				w, a, b := archsimd.BroadcastFloat32x16(t.weight), unsafe.Add(t.a, 4*i), unsafe.Add(t.b, 4*i)
				s0 = s0.Add(w.Mul(get16(a).Add(get16(b))))
				s1 = s1.Add(w.Mul(get16(unsafe.Add(a, 64)).Add(get16(unsafe.Add(b, 64)))))
				s2 = s2.Add(w.Mul(get16(unsafe.Add(a, 128)).Add(get16(unsafe.Add(b, 128)))))
				s3 = s3.Add(w.Mul(get16(unsafe.Add(a, 192)).Add(get16(unsafe.Add(b, 192)))))
			}
			o := unsafe.Add(d, 4*i)
			s0.Store((*[16]float32)(o))
			s1.Store((*[16]float32)(unsafe.Add(o, 64)))
			s2.Store((*[16]float32)(unsafe.Add(o, 128)))
			s3.Store((*[16]float32)(unsafe.Add(o, 192)))
		}
	}
	c := all(centre)
	for ; i+32 <= len(dst); i += 32 {
		m := unsafe.Add(middle, 4*i)
		s0, s1 := c.Mul(get8(m)), c.Mul(get8(unsafe.Add(m, 32)))
		s2, s3 := c.Mul(get8(unsafe.Add(m, 64))), c.Mul(get8(unsafe.Add(m, 96)))
		for k := range taps {
			t := &taps[k]
			w, a, b := all(t.weight), unsafe.Add(t.a, 4*i), unsafe.Add(t.b, 4*i)
			s0 = s0.Add(w.Mul(get8(a).Add(get8(b))))
			s1 = s1.Add(w.Mul(get8(unsafe.Add(a, 32)).Add(get8(unsafe.Add(b, 32)))))
			s2 = s2.Add(w.Mul(get8(unsafe.Add(a, 64)).Add(get8(unsafe.Add(b, 64)))))
			s3 = s3.Add(w.Mul(get8(unsafe.Add(a, 96)).Add(get8(unsafe.Add(b, 96)))))
		}
		o := unsafe.Add(d, 4*i)
		s0.Store((*[8]float32)(o))
		s1.Store((*[8]float32)(unsafe.Add(o, 32)))
		s2.Store((*[8]float32)(unsafe.Add(o, 64)))
		s3.Store((*[8]float32)(unsafe.Add(o, 96)))
	}
	for ; i+8 <= len(dst); i += 8 {
		sum := c.Mul(get8(unsafe.Add(middle, 4*i)))
		for k := range taps {
			t := &taps[k]
			sum = sum.Add(all(t.weight).Mul(get8(unsafe.Add(t.a, 4*i)).Add(get8(unsafe.Add(t.b, 4*i)))))
		}
		sum.Store((*[8]float32)(unsafe.Add(d, 4*i)))
	}
	Fence()
	return i
}

func get8(p unsafe.Pointer) f8   { return archsimd.LoadFloat32x8((*[8]float32)(p)) }
func get16(p unsafe.Pointer) f16 { return archsimd.LoadFloat32x16((*[16]float32)(p)) }

// inOrder brings the halves' quarters into order after two vectors were put together by halves.
var inOrder = [8]uint32{0, 1, 4, 5, 2, 3, 6, 7}

func halveWide(dst, src []float32) {
	i := 0
	if len(dst) >= 8 {
		d, s := unsafe.SliceData(dst), unsafe.SliceData(src)
		six, four, one := all(6./16), all(4./16), all(1./16)
		order := archsimd.LoadUint32x8(&inOrder)
		// Loads reach up to sample 2i+19; the rows hold 2 len(dst) + 3.
		for ; i+9 <= len(dst); i += 8 {
			a, b := load(s, 2*i), load(s, 2*i+8)
			c, e := load(s, 2*i+2), load(s, 2*i+10)
			f, g := load(s, 2*i+4), load(s, 2*i+12)
			outer := a.SelectFromPairGrouped(0, 2, 4, 6, b).Add(f.SelectFromPairGrouped(0, 2, 4, 6, g))
			inner := a.SelectFromPairGrouped(1, 3, 5, 7, b).Add(c.SelectFromPairGrouped(1, 3, 5, 7, e))
			sum := six.Mul(c.SelectFromPairGrouped(0, 2, 4, 6, e)).Add(four.Mul(inner)).Add(one.Mul(outer))
			store(sum.Permute(order), d, i)
		}
		Fence()
	}
	halvePlain(dst, src, i)
}

func differWide(dst, a, b []float32, k float32) {
	i := 0
	if len(dst) >= 8 {
		d, p, q, w := unsafe.SliceData(dst), unsafe.SliceData(a), unsafe.SliceData(b), all(k)
		for ; i+8 <= len(dst); i += 8 {
			store(load(p, i).Sub(load(q, i)).Mul(w), d, i)
		}
		Fence()
	}
	differPlain(dst, a, b, k, i)
}

func lerpWide(dst, a, b []float32, t float32) {
	i := 0
	if len(dst) >= 8 {
		d, p, q, w := unsafe.SliceData(dst), unsafe.SliceData(a), unsafe.SliceData(b), all(t)
		for ; i+8 <= len(dst); i += 8 {
			v := load(p, i)
			store(v.Add(load(q, i).Sub(v).Mul(w)), d, i)
		}
		Fence()
	}
	lerpPlain(dst, a, b, t, i)
}

func addWide(dst, src []float32) {
	i := 0
	if len(dst) >= 8 {
		d, s := unsafe.SliceData(dst), unsafe.SliceData(src)
		for ; i+8 <= len(dst); i += 8 {
			store(load(d, i).Add(load(s, i)), d, i)
		}
		Fence()
	}
	addPlain(dst, src, i)
}

func spreadWide(dst, src []float32, cell []int32, beyond []float32) {
	d := unsafe.SliceData(dst)
	for x, i := range cell {
		pair := archsimd.LoadFloat32x8((*[8]float32)(src[4*i:]))
		a := pair.GetLo()
		store4(a.Add(pair.GetHi().Sub(a).Mul(archsimd.BroadcastFloat32x4(beyond[x]))), d, 4*x)
	}
	Fence()
}

func betweenWide(dst, top, low []float32, a, b, c, d float32) {
	i := 0
	if len(dst) >= 8 {
		to, p, q := unsafe.SliceData(dst), unsafe.SliceData(top), unsafe.SliceData(low)
		wa, wb, wc, wd := all(a), all(b), all(c), all(d)
		for ; i+8 <= len(dst); i += 8 {
			sum := wa.Mul(load(p, i)).Add(wb.Mul(load(p, i+1))).Add(wc.Mul(load(q, i))).Add(wd.Mul(load(q, i+1)))
			store(sum, to, i)
		}
		Fence()
	}
	betweenPlain(dst, top, low, a, b, c, d, i)
}

func dotsWide(v, a, b, c []float32) [3]float64 {
	var lanes [3][4]float64
	var x, y, z d4
	n := len(v) &^ 3
	pv, pa, pb, pc := unsafe.SliceData(v), unsafe.SliceData(a), unsafe.SliceData(b), unsafe.SliceData(c)
	for i := 0; i < n; i += 4 {
		u := load4(pv, i).ConvertToFloat64()
		x = x.Add(u.Mul(load4(pa, i).ConvertToFloat64()))
		y = y.Add(u.Mul(load4(pb, i).ConvertToFloat64()))
		z = z.Add(u.Mul(load4(pc, i).ConvertToFloat64()))
	}
	x.Store(&lanes[0])
	y.Store(&lanes[1])
	z.Store(&lanes[2])
	Fence()
	dotsPlain(&lanes, v[n:], a[n:], b[n:], c[n:])
	return joined(&lanes)
}

func rootsWide(dst, src []float32, scale, most float32) {
	i := 0
	if len(dst) >= 8 {
		d, s := unsafe.SliceData(dst), unsafe.SliceData(src)
		k, top, zero := all(scale), all(most), all(0)
		for ; i+8 <= len(dst); i += 8 {
			v := load(s, i)
			v = v.Masked(v.Greater(zero)).Sqrt().Mul(k)
			store(top.Merge(v, v.Greater(top)), d, i)
		}
		Fence()
	}
	rootsPlain(dst, src, scale, most, i)
}

func alikeWide(sum, weights, middle, other []float32, near, fall float32) {
	i := 0
	ps, pw, pm, po := unsafe.SliceData(sum), unsafe.SliceData(weights), unsafe.SliceData(middle), unsafe.SliceData(other)
	if len(sum) >= 8 {
		one, zero, n, f := all(1), all(0), all(near), all(fall)
		for ; i+8 <= len(sum); i += 8 {
			v := load(po, i)
			d := v.Sub(load(pm, i))
			k := one.Sub(d.Mul(d).Mul(f))
			k = k.Merge(zero, k.Greater(zero))
			k = k.Mul(k)
			k = k.Mul(k).Mul(n)
			store(load(ps, i).Add(k.Mul(v)), ps, i)
			store(load(pw, i).Add(k), pw, i)
		}
		Fence()
	}
	alikePlain(sum, weights, middle, other, near, fall, i)
}

func widenWide(dst []uint16, src []byte) {
	i := 0
	d, s := unsafe.Pointer(unsafe.SliceData(dst)), unsafe.Pointer(unsafe.SliceData(src))
	for ; i+16 <= len(dst); i += 16 {
		archsimd.LoadUint8x16((*[16]uint8)(unsafe.Add(s, i))).ExtendToUint16().Store((*[16]uint16)(unsafe.Add(d, 2*i)))
	}
	Fence()
	widenPlain(dst, src, i)
}

func narrowWide(dst []byte, src []uint16) {
	i := 0
	if wider {
		d, s := unsafe.Pointer(unsafe.SliceData(dst)), unsafe.Pointer(unsafe.SliceData(src))
		for ; i+16 <= len(dst); i += 16 {
			archsimd.LoadUint16x16((*[16]uint16)(unsafe.Add(s, 2*i))).TruncateToUint8().Store((*[16]uint8)(unsafe.Add(d, i)))
		}
		Fence()
	}
	narrowPlain(dst, src, i)
}

func reduceWide(dst, a, b, c []float64, by *[3]float64) {
	i := 0
	if len(dst) >= 4 {
		x, y, z := archsimd.BroadcastFloat64x4(by[0]), archsimd.BroadcastFloat64x4(by[1]), archsimd.BroadcastFloat64x4(by[2])
		pd, pa, pb, pc := unsafe.SliceData(dst), unsafe.SliceData(a), unsafe.SliceData(b), unsafe.SliceData(c)
		for ; i+4 <= len(dst); i += 4 {
			sum := x.Mul(quad(pa, i)).Add(y.Mul(quad(pb, i))).Add(z.Mul(quad(pc, i)))
			quad(pd, i).Sub(sum).Store((*[4]float64)(unsafe.Add(unsafe.Pointer(pd), 8*i)))
		}
		Fence()
	}
	reducePlain(dst, a, b, c, by, i)
}

var alphas = [8]uint32{3, 3, 3, 3, 7, 7, 7, 7}

func overWide(dst, src []float32) {
	i := 0
	if len(dst) >= 8 {
		d, s, one := unsafe.SliceData(dst), unsafe.SliceData(src), all(1)
		pick := archsimd.LoadUint32x8(&alphas)
		for ; i+8 <= len(dst); i += 8 {
			over, under := load(s, i), load(d, i)
			rest := one.Sub(over.Permute(pick))
			// A pixel without alpha leaves what is below, also where its colour is no number.
			store(under.Merge(over.Add(under.Mul(rest)), rest.Equal(one)), d, i)
		}
		Fence()
	}
	overPlain(dst, src, i)
}

func projectWide(p *Places, h *[9]float64, x, y int) {
	n := len(p.X)
	i := 0
	if n >= 4 {
		all := archsimd.BroadcastFloat64x4
		v := float64(y) + 0.5
		first := [4]float64{0, 1, 2, 3}
		lanes := archsimd.LoadFloat64x4(&first)
		h0, h3, h6 := all(h[0]), all(h[3]), all(h[6])
		b0, b3, b6 := all(h[1]*v), all(h[4]*v), all(h[7]*v)
		c0, c3, c6 := all(h[2]), all(h[5]), all(h[8])
		half := all(0.5)
		for ; i+4 <= n; i += 4 {
			u := all(float64(x + i)).Add(lanes).Add(half)
			w := h6.Mul(u).Add(b6).Add(c6)
			at := h0.Mul(u).Add(b0).Add(c0).Div(w)
			down := h3.Mul(u).Add(b3).Add(c3).Div(w)
			if !p.put4(i, at, down) {
				part := p.Cut(i, i+4)
				projectPlain(&part, h, x+i, y, 0)
			}
		}
		Fence()
	}
	rest := p.Cut(i, n)
	projectPlain(&rest, h, x+i, y, 0)
}

func carryWide(p *Places, h *[9]float64, xs, ys []float64) {
	n := len(p.X)
	i := 0
	if n >= 4 {
		all := archsimd.BroadcastFloat64x4
		h0, h1, h2 := all(h[0]), all(h[1]), all(h[2])
		h3, h4, h5 := all(h[3]), all(h[4]), all(h[5])
		h6, h7, h8 := all(h[6]), all(h[7]), all(h[8])
		px, py := unsafe.Pointer(unsafe.SliceData(xs)), unsafe.Pointer(unsafe.SliceData(ys))
		for ; i+4 <= n; i += 4 {
			u := archsimd.LoadFloat64x4((*[4]float64)(unsafe.Add(px, 8*i)))
			v := archsimd.LoadFloat64x4((*[4]float64)(unsafe.Add(py, 8*i)))
			w := h6.Mul(u).Add(h7.Mul(v)).Add(h8)
			at := h0.Mul(u).Add(h1.Mul(v)).Add(h2).Div(w)
			down := h3.Mul(u).Add(h4.Mul(v)).Add(h5).Div(w)
			if !p.put4(i, at, down) {
				part := p.Cut(i, i+4)
				carryPlain(&part, h, xs[i:i+4], ys[i:i+4], 0)
			}
		}
		Fence()
	}
	carryPlain(p, h, xs, ys, i)
}

// put4 sets four places from i on; it reports false, and sets nothing, where one of them is nowhere.
func (p *Places) put4(i int, at, down d4) bool {
	half, most, least := archsimd.BroadcastFloat64x4(0.5), archsimd.BroadcastFloat64x4(1e6), archsimd.BroadcastFloat64x4(-1e6)
	near := at.Less(most).And(at.Greater(least)).And(down.Less(most)).And(down.Greater(least))
	if near.ToBits() != 15 {
		return false
	}
	at, down = at.Sub(half), down.Sub(half)
	fx, fy := at.Floor(), down.Floor()
	fx.ConvertToInt32().Store((*[4]int32)(unsafe.Add(unsafe.Pointer(unsafe.SliceData(p.X)), 4*i)))
	fy.ConvertToInt32().Store((*[4]int32)(unsafe.Add(unsafe.Pointer(unsafe.SliceData(p.Y)), 4*i)))
	store4(at.Sub(fx).ConvertToFloat32(), unsafe.SliceData(p.FX), i)
	store4(down.Sub(fy).ConvertToFloat32(), unsafe.SliceData(p.FY), i)
	return true
}

func unlitWide(e, now, tpl []float32, xs, ys []float64, gain, offset, sx, sy float64) {
	i := 0
	if len(e) >= 4 {
		d, n, t := unsafe.SliceData(e), unsafe.SliceData(now), unsafe.SliceData(tpl)
		px, py := unsafe.Pointer(unsafe.SliceData(xs)), unsafe.Pointer(unsafe.SliceData(ys))
		b := archsimd.BroadcastFloat64x4
		g, o, kx, ky := b(gain), b(offset), b(sx), b(sy)
		for ; i+4 <= len(e); i += 4 {
			x := archsimd.LoadFloat64x4((*[4]float64)(unsafe.Add(px, 8*i)))
			y := archsimd.LoadFloat64x4((*[4]float64)(unsafe.Add(py, 8*i)))
			v := load4(n, i).ConvertToFloat64().Sub(o).Sub(kx.Mul(x)).Sub(ky.Mul(y)).Div(g)
			store4(v.ConvertToFloat32().Sub(load4(t, i)), d, i)
		}
		Fence()
	}
	unlitPlain(e, now, tpl, xs, ys, gain, offset, sx, sy, i)
}

func biweightWide(weight, e []float32, inverse float32) {
	i := 0
	if len(weight) >= 8 {
		w, p := unsafe.SliceData(weight), unsafe.SliceData(e)
		k, one, zero := all(inverse), all(1), all(0)
		for ; i+8 <= len(weight); i += 8 {
			was, u := load(w, i), load(p, i).Mul(k)
			u = one.Sub(u.Mul(u))
			u = u.Masked(u.Greater(zero))
			store(was.Merge(u.Mul(u), was.Less(zero)), w, i)
		}
		Fence()
	}
	biweightPlain(weight, e, inverse, i)
}

func sumsWide(s *Sums, d [][8]float32, weight, e []float32, matrix bool) {
	r0, r1 := quad(&s.Right[0], 0), quad(&s.Right[0], 4)
	b := archsimd.BroadcastFloat64x4
	if !matrix {
		for i := range d {
			if w := weight[i]; w > 0 {
				v, we := archsimd.LoadFloat32x8(&d[i]), b(float64(w*e[i]))
				r0 = r0.Add(we.Mul(v.GetLo().ConvertToFloat64()))
				r1 = r1.Add(we.Mul(v.GetHi().ConvertToFloat64()))
			}
		}
	} else {
		// Of the first four rows both halves, of the others the second: that is the upper triangle, and some below it.
		n := &s.Normal
		was := *n
		a0, a1, a2, a3 := quad(&n[0][0], 0), quad(&n[1][0], 0), quad(&n[2][0], 0), quad(&n[3][0], 0)
		b0, b1, b2, b3 := quad(&n[0][0], 4), quad(&n[1][0], 4), quad(&n[2][0], 4), quad(&n[3][0], 4)
		b4, b5, b6, b7 := quad(&n[4][0], 4), quad(&n[5][0], 4), quad(&n[6][0], 4), quad(&n[7][0], 4)
		var wv [8]float32
		for i := range d {
			w := weight[i]
			if !(w > 0) {
				continue
			}
			v := archsimd.LoadFloat32x8(&d[i])
			lo, hi, we := v.GetLo().ConvertToFloat64(), v.GetHi().ConvertToFloat64(), b(float64(w*e[i]))
			r0, r1 = r0.Add(we.Mul(lo)), r1.Add(we.Mul(hi))
			all(w).Mul(v).Store(&wv)
			k := b(float64(wv[0]))
			a0, b0 = a0.Add(k.Mul(lo)), b0.Add(k.Mul(hi))
			k = b(float64(wv[1]))
			a1, b1 = a1.Add(k.Mul(lo)), b1.Add(k.Mul(hi))
			k = b(float64(wv[2]))
			a2, b2 = a2.Add(k.Mul(lo)), b2.Add(k.Mul(hi))
			k = b(float64(wv[3]))
			a3, b3 = a3.Add(k.Mul(lo)), b3.Add(k.Mul(hi))
			b4 = b4.Add(b(float64(wv[4])).Mul(hi))
			b5 = b5.Add(b(float64(wv[5])).Mul(hi))
			b6 = b6.Add(b(float64(wv[6])).Mul(hi))
			b7 = b7.Add(b(float64(wv[7])).Mul(hi))
		}
		for r, v := range [4]d4{a0, a1, a2, a3} {
			v.Store((*[4]float64)(n[r][:4]))
		}
		for r, v := range [8]d4{b0, b1, b2, b3, b4, b5, b6, b7} {
			v.Store((*[4]float64)(n[r][4:]))
		}
		for r := range 8 {
			copy(n[r][:r], was[r][:r])
		}
	}
	r0.Store((*[4]float64)(s.Right[:4]))
	r1.Store((*[4]float64)(s.Right[4:]))
	Fence()
}

func withinWide(p *Places, i int, r *Reach) int {
	x, y := archsimd.BroadcastInt32x8(int32(r.X-1)), archsimd.BroadcastInt32x8(int32(r.Y-1))
	right, low := archsimd.BroadcastInt32x8(int32(r.X+r.W)), archsimd.BroadcastInt32x8(int32(r.Y+r.H))
	zero := all(0)
	xs, ys := unsafe.Pointer(unsafe.SliceData(p.X)), unsafe.Pointer(unsafe.SliceData(p.Y))
	fx, fy := unsafe.SliceData(p.FX), unsafe.SliceData(p.FY)
	for ; i+8 <= len(p.X); i += 8 {
		u, v := archsimd.LoadInt32x8((*[8]int32)(unsafe.Add(xs, 4*i))), archsimd.LoadInt32x8((*[8]int32)(unsafe.Add(ys, 4*i)))
		in := u.Greater(x).And(right.Greater(u)).And(v.Greater(y)).And(low.Greater(v)).And(load(fx, i).Add(load(fy, i)).Greater(zero))
		if in.ToBits() != 255 {
			break
		}
	}
	Fence()
	return withinPlain(p, i, r)
}

// batch is how many places are worked on at a time: their weights stay near.
const batch = 64

// weigh works out the weights of cubic convolution, four for each place one after the other, in eights.
func weigh(t []float32, out *[4*batch + 12]float32) {
	var padded [batch]float32
	s, n := eights(t, &padded)
	minus, plus, one, less, more, two := all(-0.5), all(0.5), all(1), all(2.5), all(1.5), all(2)
	for i := 0; i < n; i += 8 {
		v := load(s, i)
		v2 := v.Mul(v)
		v3 := v2.Mul(v)
		a := minus.Mul(v).Add(v2).Sub(plus.Mul(v3))
		b := one.Sub(less.Mul(v2)).Add(more.Mul(v3))
		c := plus.Mul(v).Add(two.Mul(v2)).Sub(more.Mul(v3))
		e := minus.Mul(v2).Add(plus.Mul(v3))
		byPlace(a, b, c, e, &out[0], 4*i)
	}
}

// weighSpline is weigh for splines.
func weighSpline(t []float32, out *[4*batch + 12]float32) {
	var padded [batch]float32
	s, n := eights(t, &padded)
	sixth, one, two, three, four := all(1.0/6), all(1), all(2), all(3), all(4)
	for i := 0; i < n; i += 8 {
		v := load(s, i)
		u := one.Sub(v)
		a, e := u.Mul(u).Mul(u).Mul(sixth), v.Mul(v).Mul(v).Mul(sixth)
		b := four.Sub(three.Mul(v).Mul(v).Mul(two.Sub(v))).Mul(sixth)
		c := four.Sub(three.Mul(u).Mul(u).Mul(two.Sub(u))).Mul(sixth)
		byPlace(a, b, c, e, &out[0], 4*i)
	}
}

// eights returns numbers, and how many, that can be loaded eight at a time.
func eights(t []float32, padded *[batch]float32) (*float32, int) {
	if len(t)%8 != 0 {
		copy(padded[:], t)
		t = padded[:len(t)]
	}
	return unsafe.SliceData(t), len(t)
}

// byPlace has four rows of eight become eight of four; the two halves hold the first four places and the last.
func byPlace(a, b, c, e f8, d *float32, at int) {
	ab, ce := a.SelectFromPairGrouped(0, 1, 4, 5, b), c.SelectFromPairGrouped(0, 1, 4, 5, e)
	p0, p1 := ab.SelectFromPairGrouped(0, 2, 4, 6, ce), ab.SelectFromPairGrouped(1, 3, 5, 7, ce)
	ab, ce = a.SelectFromPairGrouped(2, 3, 6, 7, b), c.SelectFromPairGrouped(2, 3, 6, 7, e)
	p2, p3 := ab.SelectFromPairGrouped(0, 2, 4, 6, ce), ab.SelectFromPairGrouped(1, 3, 5, 7, ce)
	store4(p0.GetLo(), d, at)
	store4(p1.GetLo(), d, at+4)
	store4(p2.GetLo(), d, at+8)
	store4(p3.GetLo(), d, at+12)
	store4(p0.GetHi(), d, at+16)
	store4(p1.GetHi(), d, at+20)
	store4(p2.GetHi(), d, at+24)
	store4(p3.GetHi(), d, at+28)
}

var (
	firstTwo = [8]uint32{0, 0, 0, 0, 1, 1, 1, 1}
	lastTwo  = [8]uint32{2, 2, 2, 2, 3, 3, 3, 3}
	eachFour = [16]uint32{0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3}
)

func cubicWide(dst, pix []float32, stride int, at *Places) {
	var wx, wy [4*batch + 12]float32
	first, last := archsimd.LoadUint32x8(&firstTwo), archsimd.LoadUint32x8(&lastTwo)
	inf := float32(math.Inf(1))
	bounds := [8]float32{-inf, -inf, -inf, 0, inf, inf, inf, 1}
	least, most := load4(&bounds[0], 0), load4(&bounds[0], 4)
	for from := 0; from < len(at.X); from += batch {
		n := min(batch, len(at.X)-from)
		weigh(at.FX[from:from+n], &wx)
		weigh(at.FY[from:from+n], &wy)
		_ = dst[4*(from+n)-1]
		d, xs, ys := unsafe.Pointer(unsafe.SliceData(dst[4*from:])), at.X[from:from+n], at.Y[from:from+n]
		u, v := unsafe.Pointer(&wx), unsafe.Pointer(&wy)
		if wider {
			each := archsimd.LoadUint32x16(&eachFour)
			for i, x := range xs {
				o := 4 * ((int(ys[i])-1)*stride + int(x) - 1)
				_ = pix[o+12*stride+15]
				p, w := unsafe.Pointer(unsafe.SliceData(pix[o:])), (*[4]float32)(unsafe.Add(v, 16*i))
				b, c := unsafe.Add(p, 16*stride), unsafe.Add(p, 32*stride)
				sum := all16(w[0]).Mul(get16(p)).Add(all16(w[1]).Mul(get16(b))).Add(all16(w[2]).Mul(get16(c))).Add(all16(w[3]).Mul(get16(unsafe.Add(c, 16*stride))))
				sum = get16(unsafe.Add(u, 16*i)).Permute(each).Mul(sum)
				two := sum.GetLo().Add(sum.GetHi())
				bounded(two.GetLo().Add(two.GetHi()), least, most).Store((*[4]float32)(unsafe.Add(d, 16*i)))
			}
		} else {
			for i, x := range xs {
				o := 4 * ((int(ys[i])-1)*stride + int(x) - 1)
				_ = pix[o+12*stride+15]
				p, w := unsafe.Pointer(unsafe.SliceData(pix[o:])), (*[4]float32)(unsafe.Add(v, 16*i))
				w0, w1, w2, w3 := all(w[0]), all(w[1]), all(w[2]), all(w[3])
				b, c := unsafe.Add(p, 16*stride), unsafe.Add(p, 32*stride)
				e := unsafe.Add(c, 16*stride)
				left := w0.Mul(get8(p)).Add(w1.Mul(get8(b))).Add(w2.Mul(get8(c))).Add(w3.Mul(get8(e)))
				right := w0.Mul(get8(unsafe.Add(p, 32))).Add(w1.Mul(get8(unsafe.Add(b, 32)))).
					Add(w2.Mul(get8(unsafe.Add(c, 32)))).Add(w3.Mul(get8(unsafe.Add(e, 32))))
				k := get8(unsafe.Add(u, 16*i))
				sum := k.Permute(first).Mul(left).Add(k.Permute(last).Mul(right))
				bounded(sum.GetLo().Add(sum.GetHi()), least, most).Store((*[4]float32)(unsafe.Add(d, 16*i)))
			}
		}
		archsimd.ClearAVXUpperBits()
	}
}

// bounded keeps v within bounds; what is no number stays so.
func bounded(v, least, most f4) f4 {
	v = least.Merge(v, v.Less(least))
	return most.Merge(v, v.Greater(most))
}

func all16(v float32) f16 { return archsimd.BroadcastFloat32x16(v) }

func cubicPlaneWide(dst, pix []float32, stride int, at *Places, spline bool) {
	var wx, wy [4*batch + 12]float32
	var sums [4 * batch]float32
	for from := 0; from < len(at.X); from += batch {
		n := min(batch, len(at.X)-from)
		if spline {
			weighSpline(at.FX[from:from+n], &wx)
			weighSpline(at.FY[from:from+n], &wy)
		} else {
			weigh(at.FX[from:from+n], &wx)
			weigh(at.FY[from:from+n], &wy)
		}
		xs, ys := at.X[from:from+n], at.Y[from:from+n]
		for i, x := range xs {
			o := (int(ys[i])-1)*stride + int(x) - 1
			_ = pix[o+3*stride+3]
			p := unsafe.SliceData(pix[o:])
			w := (*[4]float32)(wy[4*i:])
			b := archsimd.BroadcastFloat32x4
			column := b(w[0]).Mul(load4(p, 0)).Add(b(w[1]).Mul(load4(p, stride))).Add(b(w[2]).Mul(load4(p, 2*stride))).Add(b(w[3]).Mul(load4(p, 3*stride)))
			store4(load4(&wx[0], 4*i).Mul(column), &sums[0], 4*i)
		}
		out := dst[from : from+n]
		i := 0
		for ; i+4 <= n; i += 4 {
			a := load4(&sums[0], 4*i).AddPairs(load4(&sums[0], 4*i+4))
			b := load4(&sums[0], 4*i+8).AddPairs(load4(&sums[0], 4*i+12))
			store4(a.AddPairs(b), unsafe.SliceData(out), i)
		}
		archsimd.ClearAVXUpperBits()
		for ; i < n; i++ {
			s := sums[4*i : 4*i+4]
			out[i] = (s[0] + s[1]) + (s[2] + s[3])
		}
	}
}

func linearPlaneWide(dst, pix []float32, stride int, at *Places) {
	var top, low [2 * batch]float32
	for from := 0; from < len(at.X); from += batch {
		n := min(batch, len(at.X)-from)
		xs, ys := at.X[from:from+n], at.Y[from:from+n]
		ys = ys[:len(xs)]
		t, l := unsafe.Pointer(&top), unsafe.Pointer(&low)
		for i, x := range xs {
			o := int(ys[i])*stride + int(x)
			p := unsafe.Pointer(&pix[o])
			_ = pix[o+stride+1]
			// Of eight places the two samples of each go where they come out in order: 0 1 4 5 2 3 6 7.
			k := 8 * (i&^6 | i&2<<1 | i&4>>1)
			*(*uint64)(unsafe.Add(t, k)) = *(*uint64)(p)
			*(*uint64)(unsafe.Add(l, k)) = *(*uint64)(unsafe.Add(p, 4*stride))
		}
		out, fx, fy := dst[from:from+n], at.FX[from:from+n], at.FY[from:from+n]
		i := 0
		for ; i+8 <= n; i += 8 {
			a, b := load(&top[0], 2*i), load(&top[0], 2*i+8)
			c, e := load(&low[0], 2*i), load(&low[0], 2*i+8)
			u, v := load(unsafe.SliceData(fx), i), load(unsafe.SliceData(fy), i)
			t0, l0 := a.SelectFromPairGrouped(0, 2, 4, 6, b), c.SelectFromPairGrouped(0, 2, 4, 6, e)
			t := t0.Add(a.SelectFromPairGrouped(1, 3, 5, 7, b).Sub(t0).Mul(u))
			l := l0.Add(c.SelectFromPairGrouped(1, 3, 5, 7, e).Sub(l0).Mul(u))
			store(t.Add(l.Sub(t).Mul(v)), unsafe.SliceData(out), i)
		}
		archsimd.ClearAVXUpperBits()
		rest := at.Cut(from+i, from+n)
		linearPlanePlain(out[i:], pix, stride, &rest, 0)
	}
}

var eighths = [8]float64{0, 1. / 8, 2. / 8, 3. / 8, 4. / 8, 5. / 8, 6. / 8, 7. / 8}

func cellWide(p *Places, i int, c *[4][2]float64, v float64) {
	b := archsimd.BroadcastFloat64x4
	across, down := b(v), [2]d4{}
	a0, a1 := b(c[0][0]), b(c[0][1])
	ab0, ab1 := b(c[1][0]-c[0][0]), b(c[1][1]-c[0][1])
	c0, c1 := b(c[2][0]), b(c[2][1])
	cd0, cd1 := b(c[3][0]-c[2][0]), b(c[3][1]-c[2][1])
	for k := 0; k < 8; k += 4 {
		u := archsimd.LoadFloat64x4((*[4]float64)(eighths[k:]))
		top0, top1 := a0.Add(ab0.Mul(u)), a1.Add(ab1.Mul(u))
		low0, low1 := c0.Add(cd0.Mul(u)), c1.Add(cd1.Mul(u))
		down[0], down[1] = top0.Add(low0.Sub(top0).Mul(across)), top1.Add(low1.Sub(top1).Mul(across))
		if !p.put4(i+k, down[0], down[1]) {
			archsimd.ClearAVXUpperBits()
			cellPlain(p, i+k, 4, k, c, v)
		}
	}
	archsimd.ClearAVXUpperBits()
}
