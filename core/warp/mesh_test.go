package warp

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
)

// A mesh tells a homography by its corners alone, also far beyond the box, and a surface that
// grids bend, as corrections do, to within a tenth of a
// pixel, or, where they are wild, as near as 24 cells come.
func TestAMeshTellsAMapping(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	fine := 0
	for range 60 {
		box := geom.Box{Min: geom.Pt(200*rng.Float64(), 200*rng.Float64())}
		box.Max = box.Min.Add(geom.Pt(60+300*rng.Float64(), 60+300*rng.Float64()))
		plane := some(rng)["plane"]
		h, _ := plane.Homography()
		grid := geom.Lattice{Box: box, Columns: 1 + rng.IntN(3), Rows: 1 + rng.IntN(3)}
		for range (grid.Columns + 1) * (grid.Rows + 1) {
			grid.Shift = append(grid.Shift, geom.Pt(4*rng.Float64()-2, 4*rng.Float64()-2))
		}
		bent, _ := NewBent(geom.Identity, h, nil, []geom.Lattice{grid})
		for _, m := range []Mapping{plane, bent} {
			mesh, ok := NewMesh(m, box)
			if !ok {
				continue
			}
			told, err := mesh.Mapping()
			require.NoError(t, err)
			for range 100 {
				p := box.Min.Add(geom.Pt(rng.Float64()*(box.Max.X-box.Min.X), rng.Float64()*(box.Max.Y-box.Min.Y)))
				if m == plane {
					assert.Equal(t, 1, mesh.Cells)
					p = p.Add(geom.Pt(rng.Float64()-0.5, rng.Float64()-0.5).Mul(200))
					if !m.Sees(p) || m.Scale(p) > 10 {
						continue
					}
					near(t, m.Apply(p), told.Apply(p), 1e-6)
					continue
				}
				within := 1.5 * slack
				if mesh.Cells == mostCells { // as near as it comes: grids this wild are rare
					within = 0.15
				} else {
					fine++
				}
				near(t, m.Apply(p), told.Apply(p), within)
			}
		}
	}
	assert.Greater(t, fine, 2000, "24 cells are seldom needed")
}

// What somebody sends as a mesh may be anything.
func TestAMeshThatTellsNothingIsRefused(t *testing.T) {
	good := Mesh{Box: [4]float64{0, 0, 100, 50}, Cells: 1, Places: []float64{0, 0, 100, 0, 0, 50, 100, 50}}
	_, err := good.Mapping()
	require.NoError(t, err)
	for name, spoil := range map[string]func(*Mesh){
		"no area":         func(m *Mesh) { m.Box[2] = 0 },
		"turned over":     func(m *Mesh) { m.Box[3] = -50 },
		"no cells":        func(m *Mesh) { m.Cells = 0 },
		"too many cells":  func(m *Mesh) { m.Cells, m.Places = 25, make([]float64, 2*26*26) },
		"too few places":  func(m *Mesh) { m.Places = m.Places[:6] },
		"too many places": func(m *Mesh) { m.Places = append(m.Places, 1, 2) },
		"one place":       func(m *Mesh) { m.Places = make([]float64, 8) },
		"a line":          func(m *Mesh) { m.Places = []float64{0, 0, 1, 1, 2, 2, 3, 3} },
		"not a number":    func(m *Mesh) { m.Places[3] = math.NaN() },
		"infinite":        func(m *Mesh) { m.Places[0] = math.Inf(1) },
		"a box of NaN":    func(m *Mesh) { m.Box[0] = math.NaN() },
	} {
		m := good
		m.Places = append([]float64{}, good.Places...)
		spoil(&m)
		_, err := m.Mapping()
		assert.Error(t, err, name)
	}
	_, ok := NewMesh(Of(geom.Homography{1, 0, 0, 0, 1, 0, 0.02, 0, -1}), geom.Box{Max: geom.Pt(100, 100)})
	assert.False(t, ok, "a corner beyond the horizon")
}

// The interface reads meshes by itself; the same file is held against its reading.
func TestMeshesAreReadAsInTheInterface(t *testing.T) {
	blob, err := os.ReadFile("testdata/meshes.json")
	require.NoError(t, err)
	var cases []struct {
		Mesh     Mesh
		From, To [][2]float64
	}
	require.NoError(t, json.Unmarshal(blob, &cases))
	require.NotEmpty(t, cases)
	for _, c := range cases {
		m, err := c.Mesh.Mapping()
		require.NoError(t, err)
		for i, p := range c.From {
			near(t, geom.Pt(c.To[i][0], c.To[i][1]), m.Apply(geom.Pt(p[0], p[1])), 1e-6, "cells %d", c.Mesh.Cells)
		}
	}
}
