package fill

import "jardin/core/raster"

// What a membrane's points are.
const (
	Outside uint8 = iota // not there: neighbours do not feel it
	Fixed                // its value is given
	Free                 // its value is sought
)

// A Membrane is a grid of points, three values each. Free ones are sought such
// that for each the differences to its neighbours add up to its Load: the discrete
// Poisson equation, Laplace's without loads.
type Membrane struct {
	Width, Height int
	State         []uint8
	Value         [][3]float32 // of fixed points as given; of free ones as found
	Load          [][3]float32 // sum of (value - neighbour's value); nil for none
}

// NewMembrane returns a membrane of points that are all outside.
func NewMembrane(w, h int) *Membrane {
	return &Membrane{Width: w, Height: h, State: make([]uint8, w*h), Value: make([][3]float32, w*h)}
}

// Solve finds the free points, until no value is thought to be off by more than
// tolerance, by conjugate gradients with one multigrid cycle as preconditioner
// (aggregates of two by two; Tatebe 1993, "The multigrid preconditioned
// conjugate gradient method"). It returns the number of steps.
func (m *Membrane) Solve(tolerance float64) int {
	l := m.level()
	if l == nil {
		return 0
	}
	l.coarsen()
	var steps [3]int
	var parts []func()
	for k := range 3 {
		parts = append(parts, func() { steps[k] = m.solve(l, k, tolerance) })
	}
	raster.Parallel(parts...)
	return max(steps[0], steps[1], steps[2])
}

// solve finds one of the three values.
func (m *Membrane) solve(l *level, k int, tolerance float64) int {
	n := len(l.inverse)
	x, residual, z, p, q := make([]float32, n), make([]float32, n), make([]float32, n), make([]float32, n),
		make([]float32, n)
	for y := range m.Height {
		for i := range m.Width {
			at := y*m.Width + i
			if m.State[at] != Free {
				continue
			}
			j := l.at(i, y)
			if m.Load != nil {
				residual[j] = m.Load[at][k]
			}
			for _, b := range m.around(at) {
				if b >= 0 && m.State[b] == Fixed {
					residual[j] += m.Value[b][k]
				}
			}
		}
	}
	room := l.scratch()
	steps, rz := 0, 0.0
	for ; steps < 200; steps++ {
		l.cycle(residual, z, room) // about how far off the values are
		if most(z) <= float32(tolerance) {
			break
		}
		next := dot(residual, z)
		beta := float32(0)
		if steps > 0 && rz > 0 {
			beta = float32(next / rz)
		}
		for i, v := range z {
			p[i] = v + beta*p[i]
		}
		rz = next
		l.apply(p, q)
		pq := dot(p, q)
		if !(pq > 0) {
			break
		}
		alpha := float32(rz / pq)
		for i, v := range p {
			x[i] += alpha * v
			residual[i] -= alpha * q[i]
		}
	}
	for y := range m.Height {
		for i := range m.Width {
			if at := y*m.Width + i; m.State[at] == Free {
				m.Value[at][k] = x[l.at(i, y)]
			}
		}
	}
	return steps
}

// bounds reports whether a point has a free one beside it.
func (m *Membrane) bounds(i int) bool {
	for _, j := range m.around(i) {
		if j >= 0 && m.State[j] == Free {
			return true
		}
	}
	return false
}

// around returns the neighbours of point i, -1 for none.
func (m *Membrane) around(i int) [4]int {
	x, y := i%m.Width, i/m.Width
	out := [4]int{-1, -1, -1, -1}
	if x > 0 {
		out[0] = i - 1
	}
	if x < m.Width-1 {
		out[1] = i + 1
	}
	if y > 0 {
		out[2] = i - m.Width
	}
	if y < m.Height-1 {
		out[3] = i + m.Width
	}
	return out
}

// A level is the equations on one grid, with a border of empty points around it:
// each point's bonds to the next on the right and below, the sum of all its bonds,
// those to fixed points included, and its inverse; 0 for points that take no part.
type level struct {
	w, h, stride      int
	right, down       []float32
	diagonal, inverse []float32
	held              []float32 // bonds of the finest grid from here to fixed points
	size              float32   // of a cell, in those of the finest grid
	next              *level
}

func newLevel(w, h int, size float32) *level {
	n := (w + 2) * (h + 2)
	return &level{
		w:        w,
		h:        h,
		size:     size,
		stride:   w + 2,
		held:     make([]float32, n),
		right:    make([]float32, n),
		down:     make([]float32, n),
		diagonal: make([]float32, n),
		inverse:  make([]float32, n),
	}
}

func (l *level) at(x, y int) int { return (y+1)*l.stride + x + 1 }

func (m *Membrane) level() *level {
	l := newLevel(m.Width, m.Height, 1)
	held := false
	for i, s := range m.State {
		if s != Free {
			continue
		}
		at := l.at(i%m.Width, i/m.Width)
		for k, j := range m.around(i) {
			if j < 0 || m.State[j] == Outside {
				continue
			}
			l.diagonal[at]++
			switch {
			case m.State[j] == Fixed:
				held = true
				l.held[at]++
			case k == 1:
				l.right[at] = 1
			case k == 3:
				l.down[at] = 1
			}
		}
	}
	l.invert()
	if !held {
		return nil // nothing is sought, or nothing says what
	}
	return l
}

func (l *level) invert() {
	for i, d := range l.diagonal {
		if d > 0 {
			l.inverse[i] = 1 / d
		}
	}
}

// coarsen makes the coarser grids, down to a handful of points. Bonds between
// aggregates are halved: they are twice as long. From a cell's middle to a fixed
// point beyond its edge it is half a cell and half a step.
func (l *level) coarsen() {
	if l.w*l.h <= 16 {
		return
	}
	c := newLevel((l.w+1)/2, (l.h+1)/2, 2*l.size)
	for y := range l.h {
		for x := range l.w {
			i, j := l.at(x, y), c.at(x/2, y/2)
			if l.diagonal[i] == 0 {
				continue
			}
			c.held[j] += l.held[i]
			if b := l.right[i] / 2; x%2 == 1 && b > 0 {
				c.right[j] += b
				c.diagonal[j] += b
				c.diagonal[j+1] += b
			}
			if b := l.down[i] / 2; y%2 == 1 && b > 0 {
				c.down[j] += b
				c.diagonal[j] += b
				c.diagonal[j+c.stride] += b
			}
		}
	}
	for i, n := range c.held {
		c.diagonal[i] += n / (c.size/2 + 0.5)
	}
	c.invert()
	l.next = c
	c.coarsen()
}

// scratchSpace is what a cycle works in: on each grid a remainder, and on the coarser ones
// what is asked and what was found.
type scratchSpace struct {
	rest, r, x []float32
	next       *scratchSpace
}

func (l *level) scratch() *scratchSpace {
	if l == nil {
		return nil
	}
	n := len(l.inverse)
	return &scratchSpace{make([]float32, n), make([]float32, n), make([]float32, n), l.next.scratch()}
}

// apply works out q = A p.
func (l *level) apply(p, q []float32) {
	n, s := l.w, l.stride
	for y := range l.h {
		a := l.at(0, y)
		out := q[a:][:n]
		d, here, left, after, above, below := l.diagonal[a:][:n], p[a:][:n], p[a-1:][:n], p[a+1:][:n], p[a-s:][:n],
			p[a+s:][:n]
		bl, br, bu, bd := l.right[a-1:][:n], l.right[a:][:n], l.down[a-s:][:n], l.down[a:][:n]
		for i := range out {
			out[i] = d[i]*here[i] - bl[i]*left[i] - br[i]*after[i] - bu[i]*above[i] - bd[i]*below[i]
		}
	}
}

// relax sets every second point, those of one colour of a chessboard, to what its
// neighbours ask.
func (l *level) relax(x, residual []float32, colour int) {
	n, s := l.w, l.stride
	for y := range l.h {
		a := l.at(0, y)
		here := x[a:][:n]
		ask, inverse, left, after, above, below := residual[a:][:n], l.inverse[a:][:n], x[a-1:][:n], x[a+1:][:n],
			x[a-s:][:n], x[a+s:][:n]
		bl, br, bu, bd := l.right[a-1:][:n], l.right[a:][:n], l.down[a-s:][:n], l.down[a:][:n]
		for i := (y + colour) & 1; i < len(here); i += 2 {
			here[i] = (ask[i] + bl[i]*left[i] + br[i]*after[i] + bu[i]*above[i] + bd[i]*below[i]) * inverse[i]
		}
	}
}

// cycle sets x to about the solution of A x = r: one V-cycle, symmetric so that
// conjugate gradients may use it.
func (l *level) cycle(residual, x []float32, w *scratchSpace) {
	clear(x)
	if l.next == nil {
		for range 8 {
			l.relax(x, residual, 0)
			l.relax(x, residual, 1)
		}
		for range 8 {
			l.relax(x, residual, 1)
			l.relax(x, residual, 0)
		}
		return
	}
	l.relax(x, residual, 0)
	l.relax(x, residual, 1)
	l.apply(x, w.rest)
	for i, d := range l.inverse {
		if d != 0 {
			w.rest[i] = residual[i] - w.rest[i]
		} else {
			w.rest[i] = 0
		}
	}
	l.gather(w.rest, w.next.r)
	l.next.cycle(w.next.r, w.next.x, w.next)
	l.spread(w.next.x, x)
	l.relax(x, residual, 1)
	l.relax(x, residual, 0)
}

// spread adds what was found on the next grid, bilinearly.
func (l *level) spread(from, x []float32) {
	c := l.next
	line := make([]float32, c.stride)
	for y := range l.h {
		near, far := c.at(-1, y/2), c.at(-1, y/2-1+2*(y%2))
		a, b := from[near:near+c.stride], from[far:far+c.stride]
		for i := range line {
			line[i] = 0.75*a[i] + 0.25*b[i]
		}
		at := l.at(0, y)
		row, inverse := x[at:at+l.w], l.inverse[at:at+l.w]
		for i := range row {
			if inverse[i] != 0 {
				k := i/2 + 1
				row[i] += 0.75*line[k] + 0.25*line[k-1+2*(i%2)]
			}
		}
	}
}

// gather is spread the other way round: what each point of this grid lacks goes to
// those of the next.
func (l *level) gather(rest, to []float32) {
	c := l.next
	clear(to)
	line := make([]float32, c.stride)
	for y := range l.h {
		clear(line)
		at := l.at(0, y)
		for i, v := range rest[at : at+l.w] {
			k := i/2 + 1
			line[k] += 0.75 * v
			line[k-1+2*(i%2)] += 0.25 * v
		}
		near, far := c.at(-1, y/2), c.at(-1, y/2-1+2*(y%2))
		a, b := to[near:near+c.stride], to[far:far+c.stride]
		for i, v := range line {
			a[i] += 0.75 * v
			b[i] += 0.25 * v
		}
	}
	for i, d := range c.inverse {
		if d == 0 {
			to[i] = 0
		}
	}
}

// most returns the greatest absolute value.
func most(v []float32) (m float32) {
	for _, x := range v {
		if x < 0 {
			x = -x
		}
		if x > m {
			m = x
		}
	}
	return m
}

func dot(a, b []float32) float64 {
	var s float64
	for i, v := range a {
		s += float64(v) * float64(b[i])
	}
	return s
}
