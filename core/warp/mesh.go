package warp

import (
	"errors"
	"math"

	"jardin/core/geom"
)

// A Mesh tells a mapping by places alone, for those who cannot ask it: where the nodes of a
// grid over a box go. The corners make a homography; what the places between them differ by,
// taken back by that homography, bends the box before it: a geom.Lattice, with one more cell
// on each side over which its slope at the edge goes on.
type Mesh struct {
	Box    [4]float64 `json:"box"    doc:"Left, top, right, bottom"`
	Cells  int        `json:"cells"  doc:"Along each side"                           minimum:"1" maximum:"24"`
	Places []float64  `json:"places" doc:"Where the nodes go: x, y of each, by rows" nullable:"false"`
}

const (
	mostCells = 24
	// slack is how far a mesh may be off the mapping that it tells, in pixels.
	slack = 0.1
)

// NewMesh returns the mesh of a mapping over a box, as fine as it has to be to be within 0.1
// pixels of it there, with 24 cells at most along each side. ok is false where a corner of the
// box is not seen, or nothing is left of it.
func NewMesh(m Mapping, box geom.Box) (mesh *Mesh, ok bool) {
	for _, c := range box.Corners() {
		if !m.Sees(c) {
			return nil, false
		}
	}
	// Grids of one to three cells, as corrections have, have their crossings among six.
	for cells := 1; ; cells = max(6, 2*cells) {
		mesh = meshOf(m, box, cells)
		told, err := mesh.Mapping()
		if err != nil {
			return nil, false
		}
		if cells == mostCells || mostOff(m, told, box, max(12, 2*cells)) < slack {
			return mesh, true
		}
	}
}

func meshOf(m Mapping, box geom.Box, cells int) *Mesh {
	mesh := &Mesh{Box: [4]float64{box.Min.X, box.Min.Y, box.Max.X, box.Max.Y}, Cells: cells}
	grid := geom.Lattice{Box: box, Columns: cells, Rows: cells}
	for row := range cells + 1 {
		for column := range cells + 1 {
			p := m.Apply(grid.Crossing(column, row))
			if cells > 1 { // a thousandth of a pixel does not show; beyond the corners of one cell it would
				p = geom.Pt(math.Round(p.X*1000)/1000, math.Round(p.Y*1000)/1000)
			}
			mesh.Places = append(mesh.Places, p.X, p.Y)
		}
	}
	return mesh
}

// mostOff returns the greatest distance of two mappings on a grid over a box.
func mostOff(a, b Mapping, box geom.Box, n int) (most float64) {
	grid := geom.Lattice{Box: box, Columns: n, Rows: n}
	for row := range n + 1 {
		for column := range n + 1 {
			p := grid.Crossing(column, row)
			most = math.Max(most, a.Apply(p).Dist(b.Apply(p)))
		}
	}
	return most
}

var errMesh = errors.New("a mesh needs a box with an area, and (cells + 1)² places that do not fold it")

// Mapping returns the mapping that a mesh tells. It fails for a mesh that tells none.
func (m *Mesh) Mapping() (Mapping, error) {
	n := m.Cells + 1
	box := geom.Box{Min: geom.Pt(m.Box[0], m.Box[1]), Max: geom.Pt(m.Box[2], m.Box[3])}
	if m.Cells < 1 || m.Cells > mostCells || len(m.Places) != 2*n*n || !(box.Max.X > box.Min.X) ||
		!(box.Max.Y > box.Min.Y) {
		return nil, errMesh
	}
	place := func(column, row int) geom.Point {
		i := 2 * (row*n + column)
		return geom.Pt(m.Places[i], m.Places[i+1])
	}
	corners := box.Corners()
	around := []geom.Point{place(0, 0), place(m.Cells, 0), place(m.Cells, m.Cells), place(0, m.Cells)}
	h, err := geom.Fit(geom.Perspective, corners[:], around, nil)
	if err != nil {
		return nil, errMesh
	}
	back, ok := h.Inverse()
	if !ok || !h.Finite() {
		return nil, errMesh
	}
	if m.Cells == 1 {
		return Of(h), nil
	}
	grid := geom.Lattice{Box: box, Columns: m.Cells, Rows: m.Cells}
	for row := range n {
		for column := range n {
			d := back.Apply(place(column, row)).Sub(grid.Crossing(column, row))
			if !d.Finite() {
				return nil, errMesh
			}
			grid.Shift = append(grid.Shift, d)
		}
	}
	mapping, ok := NewBent(geom.Identity, h, nil, []geom.Lattice{ringed(&grid)})
	if !ok {
		return nil, errMesh
	}
	return mapping, nil
}

// ringed returns a lattice with one more cell on each side, over which its slope at the edge
// goes on: without that, what it is read as is wrong in its outermost cells.
func ringed(l *geom.Lattice) geom.Lattice {
	n, rows := l.Columns+1, l.Rows+1
	inner := func(column, row int) geom.Point { return l.Shift[row*n+column] }
	// on is a line of shifts with one more on both ends.
	on := func(i, count int, at func(int) geom.Point) geom.Point {
		switch {
		case i < 0:
			return at(0).Mul(2).Sub(at(1))
		case i == count:
			return at(count - 1).Mul(2).Sub(at(count - 2))
		}
		return at(i)
	}
	cell := l.Crossing(1, 1).Sub(l.Box.Min)
	out := geom.Lattice{
		Box:     geom.Box{Min: l.Box.Min.Sub(cell), Max: l.Box.Max.Add(cell)},
		Columns: l.Columns + 2, Rows: l.Rows + 2,
	}
	for row := -1; row <= rows; row++ {
		for column := -1; column <= n; column++ {
			out.Shift = append(out.Shift, on(column, n, func(c int) geom.Point {
				return on(row, rows, func(j int) geom.Point { return inner(c, j) })
			}))
		}
	}
	return out
}

// Through returns the homography that takes the corners of a box to where a mapping takes them:
// what of it does not bend there. ok is false where there is none.
func Through(m Mapping, box geom.Box) (h geom.Homography, ok bool) {
	if h, ok := m.Homography(); ok {
		return h, true
	}
	corners := box.Corners()
	h, err := geom.Fit(geom.Perspective, corners[:], ApplyAll(m, corners[:]), nil)
	return h, err == nil && h.Finite()
}
