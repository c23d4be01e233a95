package render

import (
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// A trustInput is where a surface that bends was found on a frame, for sources that give way elsewhere.
type trustInput struct {
	Box           geom.Box // on the track's home frame
	Columns, Rows int
	Trust         []float32    // of each crossing, by rows, 0 to 1
	Map           warp.Mapping // from the home frame
}

const (
	trustOver  = 2    // frames before and after over which what is found is averaged, that nothing flickers
	trustNone  = 0.35 // agreement up to which a place counts as not found
	trustWhole = treatment.Agrees + 0.07
)

// trust gathers where the removal's surface was found on frame n; nil for everywhere: where it does not bend, and on its home frame.
func (r *removal) trust(n int) *trustInput {
	m := r.motions.Motion(r.doc.Follow.Track)
	if m == nil || m.Track.Bends == nil || n == m.Track.Home {
		return nil
	}
	here := m.Bend(n)
	toFrame := r.motions.Mapping(m.Track.ID, m.Track.Home, n)
	if here == nil || toFrame == nil {
		return nil
	}
	out := &trustInput{
		Box: geom.Box{Min: geom.Pt(here.Box[0], here.Box[1]), Max: geom.Pt(here.Box[2], here.Box[3])}, Columns: here.Columns, Rows: here.Rows,
		Trust: make([]float32, (here.Columns+1)*(here.Rows+1)), Map: toFrame,
	}
	var weight float32
	for k := -trustOver; k <= trustOver; k++ {
		b := m.Bend(n + k)
		whole := n+k == m.Track.Home
		if !whole && (b == nil || b.Columns != here.Columns || b.Rows != here.Rows || b.Box != here.Box) {
			continue
		}
		w := float32(bell(k, trustOver))
		weight += w
		for i, v := range trusted(b, whole, len(out.Trust)) {
			out.Trust[i] += w * v
		}
	}
	for i := range out.Trust {
		out.Trust[i] /= weight
	}
	return out
}

// trusted is how far each crossing of a bend was found; what is out of the region is as what lies nearest in it.
func trusted(b *treatment.Bend, whole bool, n int) []float32 {
	out := make([]float32, n)
	if whole || len(b.Agree) != n {
		for i := range out {
			out[i] = 1
		}
		return out
	}
	wide := b.Columns + 1
	known := make([]bool, n)
	var edge []int
	for i, a := range b.Agree {
		if a > 0 {
			u := math.Min(math.Max((float64(a-1)/254-trustNone)/(trustWhole-trustNone), 0), 1)
			out[i], known[i] = float32(u*u*(3-2*u)), true
			edge = append(edge, i)
		}
	}
	for len(edge) > 0 {
		i := edge[0]
		edge = edge[1:]
		x, y := i%wide, i/wide
		for _, at := range [4][2]int{{x - 1, y}, {x + 1, y}, {x, y - 1}, {x, y + 1}} {
			if j := at[1]*wide + at[0]; at[0] >= 0 && at[0] < wide && at[1] >= 0 && at[1] <= b.Rows && !known[j] {
				out[j], known[j] = out[i], true
				edge = append(edge, j)
			}
		}
	}
	return out
}

// at returns how far a place of the home frame is trusted, beyond the box as at its edge.
func (in *trustInput) at(p geom.Point) float32 {
	d := in.Box.Max.Sub(in.Box.Min)
	u := math.Min(math.Max((p.X-in.Box.Min.X)/d.X*float64(in.Columns), 0), float64(in.Columns))
	v := math.Min(math.Max((p.Y-in.Box.Min.Y)/d.Y*float64(in.Rows), 0), float64(in.Rows))
	i, j := min(int(u), in.Columns-1), min(int(v), in.Rows-1)
	fx, fy := float32(u-float64(i)), float32(v-float64(j))
	top := in.Trust[j*(in.Columns+1)+i:]
	low := in.Trust[(j+1)*(in.Columns+1)+i:]
	return (top[0]*(1-fx)+top[1]*fx)*(1-fy) + (low[0]*(1-fx)+low[1]*fx)*fy
}

// times multiplies a coverage by where the surface was found.
func (in *trustInput) times(cover *raster.Plane) *raster.Plane {
	out := raster.NewPlane(cover.Rect)
	back, ok := in.Map.Inverse()
	if !ok {
		return out
	}
	raster.Rows(out.Rect.Min.Y, out.Rect.Max.Y, func(y int) {
		from, to := cover.Row(y, out.Rect.Min.X, out.Rect.Max.X), out.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		for i, v := range from {
			if v > 0 {
				to[i] = v * in.at(back.Apply(geom.Pt(float64(out.Rect.Min.X+i)+0.5, float64(y)+0.5)))
			}
		}
	})
	return out
}
