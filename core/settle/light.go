package settle

import (
	"image"
	"math"
	"slices"

	"gonum.org/v1/gonum/blas/blas64"
	"gonum.org/v1/gonum/lapack/lapack64"
	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A GainField is the change of light over a surface: on a lattice of nodes in the
// coordinates of the frame that is held, the natural logarithm of the gain that
// takes what is held to the plate. Nodes lie at multiples of Step, so that lights
// measured on different frames share them.
type GainField struct {
	Nodes image.Rectangle // in units of Step
	Step  float64         // pixels
	Log   [3][]float64    // by rows
	Sure  float64         // how many pixels it rests on
	// Variance is that of the error of the gain's logarithm, its mean over the surface, by channel.
	Variance [3]float64
	// Own is the standard deviation of what was measured on the frame itself, before others helped; 1 where nothing was.
	Own float64
}

// A GainEstimator gathers pixels of the plate beside what is held and works out how the
// light changed. It sums both over small bins first, so that texture, which both
// have, cancels, and so does grain.
type GainEstimator struct {
	box     geom.Box
	step    float64
	columns int
	rows    int
	bins    []bin
}

type bin struct {
	plate, held [3]float64
	at          geom.Point // sum of positions
	n           float64
}

// NewGainEstimator returns a estimator for a box of the frame that is held. scale is the width
// in pixels of what is compared; the nodes lie half of that apart, farther in a
// box that would need too many.
func NewGainEstimator(box geom.Box, scale float64) *GainEstimator {
	g := &GainEstimator{box: box, step: math.Max(scale, 4) / 2}
	for math.Max(box.Max.X-box.Min.X, box.Max.Y-box.Min.Y)/g.step > 26 {
		g.step *= 2
	}
	g.columns = int((box.Max.X-box.Min.X)/g.step*2) + 1
	g.rows = int((box.Max.Y-box.Min.Y)/g.step*2) + 1
	g.bins = make([]bin, g.columns*g.rows)
	return g
}

// Add takes a pixel that shows the surface on both: plate as it is, held as it lies
// there, and where that is on the held frame.
func (g *GainEstimator) Add(at geom.Point, plate, held []float32) {
	i, j := int((at.X-g.box.Min.X)/g.step*2), int((at.Y-g.box.Min.Y)/g.step*2)
	if at.X < g.box.Min.X || at.Y < g.box.Min.Y || i >= g.columns || j >= g.rows {
		return
	}
	b := &g.bins[j*g.columns+i]
	for c := range 3 {
		b.plate[c] += float64(plate[c])
		b.held[c] += float64(held[c])
	}
	b.at.X += at.X
	b.at.Y += at.Y
	b.n++
}

// Estimate works out the change: the gain on the nodes, straight between them, that
// takes the sums of what is held to those of the plate with the least error, and
// bends as little as that allows (a smoothing spline: Eilers & Marx 1996,
// "Flexible smoothing with B-splines and penalties", with the second differences
// in both directions as the penalty). Across the hole, and where nothing else is
// known, it so goes on in a straight way. Bins that fit nowhere, because something
// passes in front, count less and less (iteratively reweighted, Cauchy's weights).
// luma lets all channels change alike. ok is false where nothing could be compared.
func (g *GainEstimator) Estimate(luma bool) (out *GainField, ok bool) {
	out = &GainField{Step: g.step}
	out.Nodes = image.Rect(
		int(math.Floor(g.box.Min.X/g.step)), int(math.Floor(g.box.Min.Y/g.step)),
		int(math.Ceil(g.box.Max.X/g.step))+1, int(math.Ceil(g.box.Max.Y/g.step))+1)
	var used []bin
	for _, b := range g.bins {
		if b.n > 0 {
			b.at = b.at.Mul(1 / b.n)
			if luma {
				p := 0.2126*b.plate[0] + 0.7152*b.plate[1] + 0.0722*b.plate[2]
				h := 0.2126*b.held[0] + 0.7152*b.held[1] + 0.0722*b.held[2]
				b.plate, b.held = [3]float64{p, p, p}, [3]float64{h, h, h}
			}
			used = append(used, b)
			out.Sure += b.n
		}
	}
	n := out.Nodes.Dx() * out.Nodes.Dy()
	for c := range 3 {
		if luma && c > 0 {
			out.Log[c], out.Variance[c] = out.Log[0], out.Variance[0]
			continue
		}
		out.Log[c] = make([]float64, n)
		if !out.fit(used, c) {
			return out, false
		}
	}
	out.Own = out.deviation()
	return out, true
}

// Doubt makes a light less sure by how much of what shows around is something else than the surface, 0 to 1: of that about
// one place in sixteen looks alike by chance, and is perhaps half as bright again.
func (l *GainField) Doubt(strange float64) {
	by := sqr(0.03 * strange / math.Max(1-strange, 0.03))
	for c := range l.Variance {
		l.Variance[c] += by
	}
	l.Own = l.deviation()
}

// deviation is the standard deviation of the channel that is known least.
func (l *GainField) deviation() float64 { return math.Min(math.Sqrt(slices.Max(l.Variance[:])), 1) }

// fit works out one channel.
func (l *GainField) fit(bins []bin, c int) bool {
	var held, plate, count float64
	for _, b := range bins {
		held, plate, count = held+b.held[c], plate+b.plate[c], count+b.n
	}
	if count < 16 || held <= 1e-9*count || plate <= 0 {
		return false
	}
	mean := held / count
	weights := make([]float64, len(bins))
	off := make([]float64, len(bins))
	for i := range weights {
		weights[i] = 1
	}
	gain := make([]float64, len(l.Log[c]))
	for range 5 {
		s := newBanded(l.Nodes)
		var data float64
		for i, b := range bins {
			// Grain's variance rises with light: so weighted, each pixel counts for what it tells.
			w := weights[i] / mean
			at, hat := l.hats(b.at)
			for p := range 4 {
				for q := range 4 {
					s.add(at[p], at[q], w*b.held[c]*hat[p]*hat[q])
				}
				s.right[at[p]] += w * b.plate[c] * hat[p]
			}
			data += w * b.held[c]
		}
		// As if every node had its share of the data; a trace of the first differences keeps
		// what is far from any data from running away.
		s.smooth(l.Nodes, data/float64(len(gain)), 0.01*data/float64(len(gain)))
		if !s.solve(gain) {
			return false
		}
		var spread []float64
		for i, b := range bins {
			at, hat := l.hats(b.at)
			var k float64
			for p := range 4 {
				k += hat[p] * gain[at[p]]
			}
			// In units of what grain would do to the bin, up to a factor.
			off[i] = (b.plate[c] - k*b.held[c]) / math.Sqrt(math.Max(b.held[c], 1e-9))
			spread = append(spread, math.Abs(off[i]))
		}
		slices.Sort(spread)
		usual := 1.4826 * spread[len(spread)/2] // median absolute deviation (Huber 1981)
		if usual <= 1e-12 {
			break
		}
		for i := range weights {
			d := off[i] / (2.385 * usual) // 95 % efficient (Holland & Welsch 1977)
			weights[i] = 1 / (1 + d*d)
		}
	}
	l.Variance[c] = l.variance(bins, weights, c)
	for i, k := range gain {
		l.Log[c][i] = math.Log(math.Min(math.Max(k, 0.02), 50))
	}
	return true
}

// bestLight is how well light can be known at all: to a fifth of a percent.
const bestLight = 0.002

// variance is that of the error of a channel's gain as a whole, as a share of it. It is judged by squares that are as wide
// as what is compared, as what is off in one of them is off together (cluster-robust variance: Liang & Zeger 1986): by how
// far their gains lie from a plane through all of them, and not from what was fitted, which few of them bend as they like.
// Of few squares that is not known well: it counts as if one more were off by three in a hundred.
func (l *GainField) variance(bins []bin, weights []float64, c int) float64 {
	type square struct{ x, y, held, plate float64 }
	squares := map[image.Point]square{}
	for i, b := range bins {
		name := image.Pt(int(math.Floor(b.at.X/(2*l.Step))), int(math.Floor(b.at.Y/(2*l.Step))))
		s, w := squares[name], weights[i]*b.held[c]
		squares[name] = square{s.x + w*b.at.X, s.y + w*b.at.Y, s.held + w, s.plate + weights[i]*b.plate[c]}
	}
	var whole, plate, square2 float64
	for _, s := range squares {
		whole, plate, square2 = whole+s.held, plate+s.plate, square2+s.held*s.held
	}
	if whole <= 0 || plate <= 0 {
		return math.Inf(1)
	}
	n := whole * whole / square2 // as if so many were equally large
	var normal [3][3]float64
	var right [3]float64
	row := func(s square) [3]float64 { return [3]float64{1, s.x/s.held - l.Step, s.y/s.held - l.Step} }
	for _, s := range squares {
		if s.held <= 0 {
			continue
		}
		r := row(s)
		for a := range 3 {
			right[a] += s.plate * r[a]
			for b := range 3 {
				normal[a][b] += s.held * r[a] * r[b]
			}
		}
	}
	mean, fitted := plate/whole, 1.0
	plane := mat.NewVecDense(3, []float64{mean, 0, 0})
	if n > 6 {
		flat := append(append(normal[0][:], normal[1][:]...), normal[2][:]...)
		var solved mat.VecDense
		if solved.SolveVec(mat.NewDense(3, 3, flat), mat.NewVecDense(3, right[:])) == nil {
			plane, fitted = &solved, 3
		}
	}
	var sum float64
	for _, s := range squares {
		if s.held > 0 {
			r := row(s)
			sum += s.held * sqr(s.plate/s.held-plane.AtVec(0)*r[0]-plane.AtVec(1)*r[1]-plane.AtVec(2)*r[2])
		}
	}
	each := sum / whole / (mean * mean) * n / math.Max(n-fitted, 0.5)
	return (each*n+sqr(0.03))/(n+1)/n + sqr(bestLight)
}

// hats returns the four nodes around a place and how much each has of it.
func (l *GainField) hats(p geom.Point) (at [4]int, hat [4]float64) {
	u := math.Min(math.Max(p.X/l.Step-float64(l.Nodes.Min.X), 0), float64(l.Nodes.Dx()-1)-1e-9)
	v := math.Min(math.Max(p.Y/l.Step-float64(l.Nodes.Min.Y), 0), float64(l.Nodes.Dy()-1)-1e-9)
	i, j := int(u), int(v)
	fx, fy := u-float64(i), v-float64(j)
	k := j*l.Nodes.Dx() + i
	return [4]int{
			k,
			k + 1,
			k + l.Nodes.Dx(),
			k + l.Nodes.Dx() + 1,
		}, [4]float64{
			(1 - fx) * (1 - fy),
			fx * (1 - fy),
			(1 - fx) * fy,
			fx * fy,
		}
}

// At returns the logarithm of the gain at a place of the held frame, by channel.
func (l *GainField) At(p geom.Point) (out [3]float64) {
	at, hat := l.hats(p)
	for c := range 3 {
		for k := range 4 {
			out[c] += hat[k] * l.Log[c][at[k]]
		}
	}
	return out
}

// Mean returns the mean of the gains' logarithms over a box.
func (l *GainField) Mean(box geom.Box) (out [3]float64) {
	const n = 5
	for j := range n {
		for i := range n {
			v := l.At(
				geom.Pt(
					box.Min.X+(box.Max.X-box.Min.X)*(float64(i)+0.5)/n,
					box.Min.Y+(box.Max.Y-box.Min.Y)*(float64(j)+0.5)/n,
				),
			)
			for c := range 3 {
				out[c] += v[c] / (n * n)
			}
		}
	}
	return out
}

// Smooth steadies a light over time. around are the lights of the frames around it, its own in the middle, nil where one
// is not known; shape and level are their weights, for how the light varies over the surface and for how much of it there
// is. What is unsure counts little. Where only the frame's own level has weight, it is that as it was measured, or as far
// as that is unsure what the frames around make one expect (Steady).
func (l *GainField) Smooth(around []*GainField, shape, level []float64) *GainField {
	middle := len(around) / 2
	out := &GainField{Nodes: l.Nodes, Step: l.Step, Sure: l.Sure, Own: 1}
	if own := around[middle]; own != nil {
		out.Own = own.Own
	}
	averaged := false
	for k, v := range level {
		averaged = averaged || k != middle && v > 0
	}
	for c := range 3 {
		readings := make([]Reading, len(around))
		sum, weight := make([]float64, len(l.Log[c])), make([]float64, len(l.Log[c]))
		for k, other := range around {
			readings[k] = unknown
			if other == nil || other.Step != l.Step || other.Sure == 0 {
				continue
			}
			both := l.Nodes.Intersect(other.Nodes)
			if both.Empty() {
				continue
			}
			var apart float64
			for y := both.Min.Y; y < both.Max.Y; y++ {
				for x := both.Min.X; x < both.Max.X; x++ {
					apart += other.Log[c][other.index(x, y)] - l.Log[c][l.index(x, y)]
				}
			}
			apart /= float64(both.Dx() * both.Dy())
			readings[k] = Reading{apart, other.Variance[c]}
			for y := both.Min.Y; y < both.Max.Y; y++ {
				for x := both.Min.X; x < both.Max.X; x++ {
					i, w := l.index(x, y), shape[k]*other.sure(c)
					sum[i] += w * (other.Log[c][other.index(x, y)] - apart)
					weight[i] += w
				}
			}
		}
		var by Reading
		if averaged {
			by = mean(readings, level)
		} else {
			by, _ = Steady(readings, shape)
		}
		out.Variance[c] = by.Variance
		out.Log[c] = make([]float64, len(sum))
		for i := range sum {
			out.Log[c][i] = l.Log[c][i]
			if weight[i] > 0 {
				out.Log[c][i] = sum[i] / weight[i]
			}
			out.Log[c][i] += by.Value
		}
	}
	return out
}

// sure is how much a light counts among others, by its variance: of those that are known as well as can be it is 1.
func (l *GainField) sure(c int) float64 { return sqr(2*bestLight) / (sqr(2*bestLight) + l.Variance[c]) }

// mean is the mean of readings by their weights and by how sure they are.
func mean(all []Reading, weights []float64) Reading {
	var sum, weight float64
	for k, r := range all {
		if w := weights[k] / (sqr(bestLight) + r.Variance); w > 0 {
			sum, weight = sum+w*r.Value, weight+w
		}
	}
	if weight == 0 {
		return Reading{}
	}
	return Reading{sum / weight, 1 / weight}
}

func (l *GainField) index(x, y int) int { return (y-l.Nodes.Min.Y)*l.Nodes.Dx() + x - l.Nodes.Min.X }

// ApplyGain multiplies a picture on a frame by a light. back takes the frame's places
// to the held frame; strength 0 changes nothing, 1 all.
func ApplyGain(m *raster.Image, l *GainField, back func(geom.Point) geom.Point, strength float64) {
	grid := m.Rect
	// The light is smooth: it is worked out at every eighth pixel.
	const step = 8
	columns, rows := grid.Dx()/step+2, grid.Dy()/step+2
	nodes := make([][3]float32, columns*rows)
	for j := range rows {
		for i := range columns {
			v := l.At(back(geom.Pt(float64(grid.Min.X+i*step)+0.5, float64(grid.Min.Y+j*step)+0.5)))
			for c := range 3 {
				nodes[j*columns+i][c] = float32(math.Exp(v[c] * strength))
			}
		}
	}
	raster.Rows(grid.Min.Y, grid.Max.Y, func(y int) {
		row := m.Row(y, grid.Min.X, grid.Max.X)
		j, v := (y-grid.Min.Y)/step, float32((y-grid.Min.Y)%step)/step
		for i := 0; 4*i*step < len(row); i++ {
			n := nodes[j*columns+i:]
			var from, by [3]float32
			for c := range from {
				from[c] = n[0][c] + (n[columns][c]-n[0][c])*v
				by[c] = (n[1][c] + (n[columns+1][c]-n[1][c])*v - from[c]) / step
			}
			cell := row[4*i*step : min(4*(i+1)*step, len(row))]
			for u := float32(0); len(cell) >= 4; cell, u = cell[4:], u+1 {
				cell[0] *= from[0] + by[0]*u
				cell[1] *= from[1] + by[1]*u
				cell[2] *= from[2] + by[2]*u
			}
		}
	})
}

// banded is a symmetric positive definite system whose unknowns lie on a lattice.
type banded struct {
	*mat.SymBandDense
	right []float64
}

func newBanded(nodes image.Rectangle) *banded {
	n := nodes.Dx() * nodes.Dy()
	return &banded{mat.NewSymBandDense(n, min(max(2*nodes.Dx(), nodes.Dx()+1), n-1), nil), make([]float64, n)}
}

func (s *banded) add(i, j int, v float64) {
	if j >= i {
		raw := s.RawSymBand()
		raw.Data[i*raw.Stride+j-i] += v
	}
}

// smooth adds the penalties on second and on first differences.
func (s *banded) smooth(nodes image.Rectangle, second, first float64) {
	w, h := nodes.Dx(), nodes.Dy()
	penalty := func(at []int, k []float64, weight float64) {
		for a := range at {
			for b := range at {
				s.add(at[a], at[b], weight*k[a]*k[b])
			}
		}
	}
	for y := range h {
		for x := range w {
			i := y*w + x
			if x > 0 && x+1 < w {
				penalty([]int{i - 1, i, i + 1}, []float64{1, -2, 1}, second)
			}
			if y > 0 && y+1 < h {
				penalty([]int{i - w, i, i + w}, []float64{1, -2, 1}, second)
			}
			if x+1 < w && y+1 < h {
				penalty([]int{i, i + 1, i + w, i + w + 1}, []float64{1, -1, -1, 1}, 2*second)
			}
			if x+1 < w {
				penalty([]int{i, i + 1}, []float64{1, -1}, first)
			}
			if y+1 < h {
				penalty([]int{i, i + w}, []float64{1, -1}, first)
			}
		}
	}
}

// solve puts the solution into x, by Cholesky's method within the band.
func (s *banded) solve(x []float64) bool {
	factor, ok := lapack64.Pbtrf(s.RawSymBand())
	if ok {
		copy(x, s.right)
		lapack64.Pbtrs(factor, blas64.General{Rows: len(x), Cols: 1, Stride: 1, Data: x})
	}
	return ok
}
