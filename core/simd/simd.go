// Package simd holds the loops over samples that all else spends its time in. Each stands here twice, plain and for the
// processor's vectors (AVX2, in a build with GOEXPERIMENT=simd for amd64), and both do the same operations in the same order:
// they give the same bits, so that pictures, tracks and keys of caches are the same on every machine. Nothing is multiplied and
// added in one rounding for that reason.
//
// A loop asks for lengths that fit, and panics, or reads what it should not, where they do not: package raster sees to them.
package simd

import (
	"encoding/binary"
	"unsafe"
)

// Vectors reports whether the vector loops run: the build has them, and the processor as well.
func Vectors() bool { return wide }

// Symmetric applies a symmetric kernel to a row: dst[i] becomes half[0] times src[i+n*step] and half[k] times the sum of the two
// samples k*step to both sides of that, n = len(half)-1. src holds len(dst) + 2*n*step samples.
func Symmetric(dst, src []float32, step int, half []float32) {
	_ = src[len(dst)+2*(len(half)-1)*step-1]
	if wide {
		symmetricWide(dst, src, step, half)
		return
	}
	symmetricPlain(dst, src, step, half, 0)
}

// SymmetricRows applies a symmetric kernel to 2*len(half)-1 rows, the middle one the one that half[0] weighs.
func SymmetricRows(dst []float32, rows [][]float32, half []float32) {
	for _, r := range rows[:2*len(half)-1] {
		_ = r[len(dst)-1]
	}
	if wide {
		symmetricRowsWide(dst, rows, half)
		return
	}
	symmetricRowsPlain(dst, rows, half, 0)
}

// Halve keeps every second sample of a row that is smoothed by the binomial (1 4 6 4 1)/16: dst[i] is around src[2*i+2]. src
// holds 2*len(dst) + 3 samples.
func Halve(dst, src []float32) {
	_ = src[2*len(dst)+2]
	if wide {
		halveWide(dst, src)
		return
	}
	halvePlain(dst, src, 0)
}

// Differ makes dst k times (a - b).
func Differ(dst, a, b []float32, k float32) {
	a, b = a[:len(dst)], b[:len(dst)]
	if wide {
		differWide(dst, a, b, k)
		return
	}
	differPlain(dst, a, b, k, 0)
}

// Lerp makes dst a + (b - a) * t.
func Lerp(dst, a, b []float32, t float32) {
	a, b = a[:len(dst)], b[:len(dst)]
	if wide {
		lerpWide(dst, a, b, t)
		return
	}
	lerpPlain(dst, a, b, t, 0)
}

// Add adds src to dst.
func Add(dst, src []float32) {
	src = src[:len(dst)]
	if wide {
		addWide(dst, src)
		return
	}
	addPlain(dst, src, 0)
}

// Between makes dst[i] a top[i] + b top[i+1] + c low[i] + d low[i+1], summed from the left: a plane between its samples, all of it
// equally far. top and low hold one sample more than dst.
func Between(dst, top, low []float32, a, b, c, d float32) {
	top, low = top[:len(dst)+1], low[:len(dst)+1]
	if wide {
		betweenWide(dst, top, low, a, b, c, d)
		return
	}
	betweenPlain(dst, top, low, a, b, c, d, 0)
}

// Spread makes pixel x of dst lie beyond[x] of the way from pixel cell[x] of src to the next; pixels have so many channels.
func Spread(dst, src []float32, channels int, cell []int32, beyond []float32) {
	_ = dst[len(cell)*channels-1]
	if wide && channels == 4 {
		spreadWide(dst, src, cell, beyond)
		return
	}
	spreadPlain(dst, src, channels, cell, beyond)
}

// Dots returns the products of v with three others as long, summed in 64 bits by four lanes.
func Dots(v, a, b, c []float32) (out [3]float64) {
	a, b, c = a[:len(v)], b[:len(v)], c[:len(v)]
	if wide {
		return dotsWide(v, a, b, c)
	}
	var lanes [3][4]float64
	dotsPlain(&lanes, v, a, b, c)
	return joined(&lanes)
}

// Roots puts the square roots of numbers, times scale, into dst; 0 for what is not above 0, and no more than most.
func Roots(dst, src []float32, scale, most float32) {
	src = src[:len(dst)]
	if wide {
		rootsWide(dst, src, scale, most)
		return
	}
	rootsPlain(dst, src, scale, most, 0)
}

// Alike adds to sum and weights what resembles: for each sample of other so much of it, and one, as near (1 - fall d²)⁴, d being how
// far it is from middle; nothing where that is more than fall allows.
func Alike(sum, weights, middle, other []float32, near, fall float32) {
	weights, middle, other = weights[:len(sum)], middle[:len(sum)], other[:len(sum)]
	if wide {
		alikeWide(sum, weights, middle, other, near, fall)
		return
	}
	alikePlain(sum, weights, middle, other, near, fall, 0)
}

// Reduce takes from each number of dst the sum of those of a, b and c, each times its factor.
func Reduce(dst, a, b, c []float64, by [3]float64) {
	a, b, c = a[:len(dst)], b[:len(dst)], c[:len(dst)]
	if wide {
		reduceWide(dst, a, b, c, &by)
		return
	}
	reducePlain(dst, a, b, c, &by, 0)
}

// joined adds lanes up.
func joined(lanes *[3][4]float64) (out [3]float64) {
	for k, l := range lanes {
		out[k] = (l[0] + l[2]) + (l[1] + l[3])
	}
	return out
}

// Over lays premultiplied RGBA over as many pixels: dst becomes src + dst (1 - alpha of src).
func Over(dst, src []float32) {
	src = src[:len(dst)]
	if wide {
		overWide(dst, src)
		return
	}
	overPlain(dst, src, 0)
}

// Places are where pixels of a row come from: the sample at or before each, and how far beyond it.
type Places struct {
	X, Y   []int32   // sample whose middle is at or before the place
	FX, FY []float32 // how far beyond, 0 to 1
}

// NewPlaces returns room for n places.
func NewPlaces(n int) *Places {
	ints, floats := make([]int32, 2*n), make([]float32, 2*n)
	return &Places{ints[:n:n], ints[n:], floats[:n:n], floats[n:]}
}

// Cut returns the places from i to j.
func (p *Places) Cut(i, j int) Places { return Places{p.X[i:j], p.Y[i:j], p.FX[i:j], p.FY[i:j]} }

// Cell sets n places from i on to those in a row of a cell of eight, from its place first on, v down from its top: straight between its
// corners (x, y), of the top from the left, then of the bottom.
func (p *Places) Cell(i, n, first int, corners *[4][2]float64, v float64) {
	if wide && n == 8 {
		cellWide(p, i, corners, v)
		return
	}
	cellPlain(p, i, n, first, corners, v)
}

// Shift moves the places by whole samples to the left and up.
func (p *Places) Shift(x, y int) {
	if x == 0 && y == 0 {
		return
	}
	for i := range p.X {
		p.X[i], p.Y[i] = p.X[i]-int32(x), p.Y[i]-int32(y)
	}
}

// Within reports whether place i lies so far within samples of w columns and h rows, from their middles.
func (p *Places) Within(i, w, h int, margin float32) bool {
	x, y := float32(p.X[i])+p.FX[i], float32(p.Y[i])+p.FY[i]
	return x >= margin && y >= margin && x <= float32(w-1)-margin && y <= float32(h-1)-margin
}

// A Reach is the part of a picture, in its own samples, at whose places all neighbours that count lie within the picture.
type Reach struct{ X, Y, W, H int }

// Run returns up to where the places from i on lie within a reach. One that is a sample's middle does not: it is that sample, whatever
// lies beside it.
func (p *Places) Run(i int, r *Reach) int {
	if wide {
		return withinWide(p, i, r)
	}
	return withinPlain(p, i, r)
}

// Nowhere is the sample of a place that is none: farther than a million pixels away, or no number.
const Nowhere = -1 << 30

// Samples returns up to where the places from i on are middles of samples, one beside the other.
func (p *Places) Samples(i int) int {
	x, y := p.X[i]-int32(i), p.Y[i]
	for i < len(p.X) && p.FX[i] == 0 && p.FY[i] == 0 && p.Y[i] == y && p.X[i]-int32(i) == x {
		i++
	}
	return i
}

// Project works out where the middles of the pixels (x+i, y) go by a homography, by rows.
func (p *Places) Project(h *[9]float64, x, y int) {
	if wide {
		projectWide(p, h, x, y)
		return
	}
	projectPlain(p, h, x, y, 0)
}

// Carry works out where places go by a homography, by rows.
func (p *Places) Carry(h *[9]float64, xs, ys []float64) {
	xs, ys = xs[:len(p.X)], ys[:len(p.X)]
	if wide {
		carryWide(p, h, xs, ys)
		return
	}
	carryPlain(p, h, xs, ys, 0)
}

// Unlit makes e what is seen, in the light of a template, less the template: (now - offset - sx x - sy y) / gain - tpl, in 64 bits up to
// the last step.
func Unlit(e, now, tpl []float32, xs, ys []float64, gain, offset, sx, sy float64) {
	now, tpl, xs, ys = now[:len(e)], tpl[:len(e)], xs[:len(e)], ys[:len(e)]
	if wide {
		unlitWide(e, now, tpl, xs, ys, gain, offset, sx, sy)
		return
	}
	unlitPlain(e, now, tpl, xs, ys, gain, offset, sx, sy, 0)
}

// Biweight makes weights of errors (Tukey's biweight), 0 beyond 1/inverse; weights below 0, of what is not seen, stay.
func Biweight(weight, e []float32, inverse float32) {
	e = e[:len(weight)]
	if wide {
		biweightWide(weight, e, inverse)
		return
	}
	biweightPlain(weight, e, inverse, 0)
}

// Sums are the normal equations of a weighted least squares problem of eight parameters, in 64 bits: in 32 an outline that goes with a
// slender arm is lost, as what a plane does to that is nearly the same for several of its parameters.
type Sums struct {
	Right  [8]float64
	Normal [8][8]float64 // upper triangle
}

// Add adds observations: their derivatives, weights (those that are not above 0 do not count), errors; to the matrix as well if it is
// wanted.
func (s *Sums) Add(d [][8]float32, weight, e []float32, matrix bool) {
	weight, e = weight[:len(d)], e[:len(d)]
	if wide {
		sumsWide(s, d, weight, e, matrix)
		return
	}
	sumsPlain(s, d, weight, e, matrix)
}

// Cubic samples RGBA pixels by cubic convolution (Keys 1981, a = -1/2) at places all of whose sixteen neighbours lie within the
// picture, which has so many pixels to a row. Columns are summed first, then the first and third, the second and fourth of them.
// Alpha is kept within 0 and 1.
func Cubic(dst, pix []float32, stride int, at *Places) {
	if wide {
		cubicWide(dst, pix, stride, at)
		return
	}
	cubicPlain(dst, pix, stride, at, 0)
}

// CubicPlane is Cubic for a plane; the first and second column are summed, the third and fourth, then both.
func CubicPlane(dst, pix []float32, stride int, at *Places) { cubicPlane(dst, pix, stride, at, false) }

// SplinePlane is CubicPlane by the cubic B-spline, of whose coefficients the plane consists.
func SplinePlane(dst, coefficients []float32, stride int, at *Places) {
	cubicPlane(dst, coefficients, stride, at, true)
}

func cubicPlane(dst, pix []float32, stride int, at *Places, spline bool) {
	if wide {
		cubicPlaneWide(dst, pix, stride, at, spline)
		return
	}
	cubicPlanePlain(dst, pix, stride, at, spline, 0)
}

// LinearPlane samples a plane bilinearly at places whose four neighbours lie within it.
func LinearPlane(dst, pix []float32, stride int, at *Places) {
	if wide {
		linearPlaneWide(dst, pix, stride, at)
		return
	}
	linearPlanePlain(dst, pix, stride, at, 0)
}

// Widen puts bytes into words.
func Widen(dst []uint16, src []byte) {
	src = src[:len(dst)]
	if wide {
		widenWide(dst, src)
		return
	}
	widenPlain(dst, src, 0)
}

// FromLittleEndian reads words whose low byte comes first.
func FromLittleEndian(dst []uint16, src []byte) {
	src = src[:2*len(dst)]
	if little {
		copy(bytesOf(dst), src)
		return
	}
	for i := range dst {
		dst[i] = uint16(src[2*i]) | uint16(src[2*i+1])<<8
	}
}

// ToLittleEndian writes words, their low byte first.
func ToLittleEndian(dst []byte, src []uint16) {
	dst = dst[:2*len(src)]
	if little {
		copy(dst, bytesOf(src))
		return
	}
	for i, v := range src {
		dst[2*i], dst[2*i+1] = byte(v), byte(v>>8)
	}
}

// FromBigEndian reads words whose high byte comes first.
func FromBigEndian(dst []uint16, src []byte) {
	src = src[:2*len(dst)]
	if little {
		swapBytes(bytesOf(dst), src)
		return
	}
	copy(bytesOf(dst), src)
}

// ToBigEndian writes words, their high byte first.
func ToBigEndian(dst []byte, src []uint16) {
	dst = dst[:2*len(src)]
	if little {
		swapBytes(dst, bytesOf(src))
		return
	}
	copy(dst, bytesOf(src))
}

// swapBytes exchanges the two bytes of each word, four words at a time.
func swapBytes(dst, src []byte) {
	const low = 0x00ff00ff00ff00ff
	i := 0
	for ; i+8 <= len(src); i += 8 {
		v := binary.LittleEndian.Uint64(src[i : i+8])
		binary.LittleEndian.PutUint64(dst[i:i+8], v&low<<8|v>>8&low)
	}
	for ; i+1 < len(src); i += 2 {
		dst[i], dst[i+1] = src[i+1], src[i]
	}
}

// little is whether this machine has the low byte first.
var little = bytesOf([]uint16{1})[0] == 1

// bytesOf returns words as the bytes that they are here.
func bytesOf(words []uint16) []byte {
	return unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(words))), 2*len(words))
}

// Narrow puts the low bytes of words into bytes.
func Narrow(dst []byte, src []uint16) {
	src = src[:len(dst)]
	if wide {
		narrowWide(dst, src)
		return
	}
	narrowPlain(dst, src, 0)
}

// SplineWeights returns the weights of the four coefficients of a cubic B-spline around a place t in [0, 1) between the second and the
// third (Unser, Aldroubi & Eden 1993).
func SplineWeights(t float32) [4]float32 {
	const sixth float32 = 1.0 / 6
	u := 1 - t
	return [4]float32{u * u * u * sixth, (4 - 3*t*t*(2-t)) * sixth, (4 - 3*u*u*(2-u)) * sixth, t * t * t * sixth}
}

// Weights returns the four weights of cubic convolution with a = -1/2 for a place t in [0, 1) between the second and the third
// sample (Keys 1981, "Cubic convolution interpolation for digital image processing", equation 8). It reproduces quadratics and
// passes through the samples.
func Weights(t float32) [4]float32 {
	t2, t3 := t*t, t*t*t
	return [4]float32{
		-0.5*t + t2 - 0.5*t3,
		1 - 2.5*t2 + 1.5*t3,
		0.5*t + 2*t2 - 1.5*t3,
		-0.5*t2 + 0.5*t3,
	}
}
