package render

import (
	"image"
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
	known := make([]bool, n)
	for i, a := range b.Agreement() {
		if a >= 0 {
			u := float32(math.Min(math.Max((float64(a)-trustNone)/(trustWhole-trustNone), 0), 1))
			out[i], known[i] = u*u*(3-2*u), true
		}
	}
	cells := geom.Lattice{Columns: b.Columns, Rows: b.Rows}
	cells.Flood(known, func(from, to int) { out[to] = out[from] })
	return out
}

// times multiplies a coverage by where the surface was found.
func (in *trustInput) times(cover *raster.Plane) *raster.Plane {
	out := raster.NewPlane(cover.Rect)
	back, ok := in.Map.Inverse()
	if !ok {
		return out
	}
	crossings := &raster.Plane{Rect: image.Rect(0, 0, in.Columns+1, in.Rows+1), Pix: in.Trust}
	d := in.Box.Max.Sub(in.Box.Min)
	raster.Rows(out.Rect.Min.Y, out.Rect.Max.Y, func(y int) {
		from, to := cover.Row(y, out.Rect.Min.X, out.Rect.Max.X), out.Row(y, out.Rect.Min.X, out.Rect.Max.X)
		for i, v := range from {
			if v > 0 {
				p := back.Apply(geom.Pt(float64(out.Rect.Min.X+i)+0.5, float64(y)+0.5)).Sub(in.Box.Min)
				to[i] = v * crossings.Bilinear(p.X/d.X*float64(in.Columns)+0.5, p.Y/d.Y*float64(in.Rows)+0.5)
			}
		}
	})
	return out
}
