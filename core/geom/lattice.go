package geom

import (
	"math"

	"gonum.org/v1/gonum/mat"
)

// A Lattice bends a part of the plane: a grid of Columns by Rows cells over a box,
// each of whose crossings, by rows, is moved by Shift. Between them the shift
// follows cubic convolution (Keys 1981), so that the bend is smooth and passes
// through every crossing; beyond the box that of its edge goes on.
type Lattice struct {
	Box           Box
	Columns, Rows int
	Shift         []Point
}

// Crossing returns where the crossing in a column and a row lies unmoved.
func (l *Lattice) Crossing(column, row int) Point {
	d := l.Box.Max.Sub(l.Box.Min)
	return l.Box.Min.Add(Point{d.X * float64(column) / float64(l.Columns), d.Y * float64(row) / float64(l.Rows)})
}

// at returns the shift at a place.
func (l *Lattice) at(p Point) (out Point) {
	d := l.Box.Max.Sub(l.Box.Min)
	u := math.Min(math.Max((p.X-l.Box.Min.X)/d.X*float64(l.Columns), 0), float64(l.Columns))
	v := math.Min(math.Max((p.Y-l.Box.Min.Y)/d.Y*float64(l.Rows), 0), float64(l.Rows))
	i, j := min(int(u), l.Columns-1), min(int(v), l.Rows-1)
	wx, wy := Keys(u-float64(i)), Keys(v-float64(j))
	clamp := func(k, n int) int { return min(max(k, 0), n) }
	for b := range 4 {
		row := clamp(j+b-1, l.Rows) * (l.Columns + 1)
		for a := range 4 {
			out = out.Add(l.Shift[row+clamp(i+a-1, l.Columns)].Mul(wx[a] * wy[b]))
		}
	}
	return out
}

// Keys returns the weights of four neighbours in cubic convolution (Keys 1981, a = -1/2), t of the way from the second to the third.
func Keys(t float64) [4]float64 {
	t2, t3 := t*t, t*t*t
	return [4]float64{-0.5*t + t2 - 0.5*t3, 1 - 2.5*t2 + 1.5*t3, 0.5*t + 2*t2 - 1.5*t3, -0.5*t2 + 0.5*t3}
}

// Bend moves a place.
func (l *Lattice) Bend(p Point) Point { return p.Add(l.at(p)) }

// Unbend returns the place that Bend takes to q, to a thousandth of a pixel where
// the lattice is not folded over itself.
func (l *Lattice) Unbend(q Point) Point {
	p := q.Sub(l.at(q))
	for range 40 {
		next := q.Sub(l.at(p))
		if next.Dist(p) < 1e-4 {
			return next
		}
		p = next
	}
	return p
}

// Pinned returns a lattice that moves each pin by so much, and what lies around it by ever less up to reach: the sum of radial
// functions with compact support, smooth to their second derivative (Wendland 1995), one at every pin. It covers the box and all
// that the pins reach. Pins that lie on each other share what they are moved by.
func Pinned(box Box, pins, by []Point, reach float64) Lattice {
	const most = 48 // cells
	side := math.Max(box.Max.X-box.Min.X, box.Max.Y-box.Min.Y)
	reach = math.Max(reach, math.Max(side/12, 1)) // or it falls between the crossings
	all := append([]Point{box.Min, box.Max}, pins...)
	box = Bounds(all)
	box = box.Grow(reach)
	cells := func(length float64) int { return min(max(int(math.Ceil(length/(reach/5))), 2), most) }
	l := Lattice{Box: box, Columns: cells(box.Max.X - box.Min.X), Rows: cells(box.Max.Y - box.Min.Y)}
	l.Shift = make([]Point, (l.Columns+1)*(l.Rows+1))
	if len(pins) == 0 {
		return l
	}
	bump := func(d float64) float64 {
		r := math.Min(d/reach, 1)
		return math.Pow(1-r, 4) * (4*r + 1)
	}
	matrix := mat.NewSymDense(len(pins), nil)
	for i := range pins {
		for j := i; j < len(pins); j++ {
			v := bump(pins[i].Dist(pins[j]))
			if i == j {
				v += 1e-6
			}
			matrix.SetSym(i, j, v)
		}
	}
	var factors mat.Cholesky
	if !factors.Factorize(matrix) {
		return l
	}
	// Between its crossings the lattice is not quite the sum: what is missing at the pins is added.
	rest := append([]Point{}, by...)
	for range 4 {
		values := mat.NewDense(len(pins), 2, nil)
		for i, d := range rest {
			values.Set(i, 0, d.X)
			values.Set(i, 1, d.Y)
		}
		var weights mat.Dense
		if factors.SolveTo(&weights, values) != nil {
			return l
		}
		for j := range l.Rows + 1 {
			for i := range l.Columns + 1 {
				c := l.Crossing(i, j)
				for k, p := range pins {
					if d := c.Dist(p); d < reach {
						at := &l.Shift[j*(l.Columns+1)+i]
						*at = at.Add(Pt(weights.At(k, 0), weights.At(k, 1)).Mul(bump(d)))
					}
				}
			}
		}
		for i, p := range pins {
			rest[i] = by[i].Sub(l.at(p))
		}
	}
	return l
}

// Flood calls give for every crossing of a lattice that is not known, with a neighbour that is by then: what is known goes out from where
// it is, ring by ring.
func (l *Lattice) Flood(known []bool, give func(from, to int)) {
	wide := l.Columns + 1
	done := append([]bool{}, known...)
	var edge []int
	for i, is := range done {
		if is {
			edge = append(edge, i)
		}
	}
	for len(edge) > 0 {
		i := edge[0]
		edge = edge[1:]
		x, y := i%wide, i/wide
		for _, at := range [4][2]int{{x - 1, y}, {x + 1, y}, {x, y - 1}, {x, y + 1}} {
			if j := at[1]*wide + at[0]; at[0] >= 0 && at[0] < wide && at[1] >= 0 && at[1] <= l.Rows && !done[j] {
				give(i, j)
				done[j] = true
				edge = append(edge, j)
			}
		}
	}
}
