package track

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
)

// An aligner brings a region of one picture onto another over all of its
// pixels: inverse-compositional alignment (Baker & Matthews 2004, "Lucas–Kanade
// 20 years on", part 1) with a gain, an offset and a slope of light worked out
// in each round, and Tukey's weights, so that pixels which something covers drop
// out by themselves.
//
// The normal matrix is worked out anew only while the weights still change: where
// the rounds come to rest depends on the right side alone, which always carries
// the present weights.
type aligner struct {
	motion geom.Motion
	levels []alignLevel // finest first
	region []geom.Point
}

type alignLevel struct {
	motion    geom.Motion
	denorm    geom.Homography // from the unit square of the region to this level's pixels
	norm      geom.Homography
	half      float64
	xs, ys    []float64    // normalised positions of the pixels used
	tpl       []float32    // the picture there
	descent   [][8]float32 // derivative of tpl by each parameter
	stride    int          // of the pixels that could be used, every so manieth is
	block     []uint8      // which of the Blocks x Blocks parts of the region a pixel lies in
	toLevel   geom.Homography
	fromLevel geom.Homography
}

const (
	// Blocks is the side of the grid of parts, laid over the region's box, in which
	// agreement is judged.
	Blocks = 8

	maxPixels = 22000 // used on one level; more do not make it more exact, only slower
	minPixels = 60
)

// levelOf returns the transform from frame coordinates to those of a pyramid's
// level: the coordinate rule of raster.Half, applied level times.
func levelOf(level int) (to, from geom.Homography) {
	k := math.Pow(2, float64(level))
	offset := 0.5 + shift(level) - 0.5/k
	to = geom.Homography{1 / k, 0, offset, 0, 1 / k, offset, 0, 0, 1}
	from, _ = to.Inverse()
	return to, from
}

// newAligner prepares to align the part of a pyramid's picture inside region and
// outside of every polygon of without.
func newAligner(
	pyramid []*raster.Plane,
	region []geom.Point,
	without [][]geom.Point,
	motion geom.Motion,
) (*aligner, error) {
	a := &aligner{motion: motion, region: region}
	for level, plane := range pyramid {
		l := alignLevel{motion: motion}
		// Few pixels cannot tell fine motions apart.
		if level >= 3 {
			l.motion = geom.Position
		} else if level == 2 && motion != geom.Position {
			l.motion = geom.Similarity
		}
		l.toLevel, l.fromLevel = levelOf(level)
		polygon := l.toLevel.ApplyAll(region)
		box := geom.Bounds(polygon)
		area := raster.Around(box, 0, plane.Rect.Inset(2))
		l.half = math.Max(box.Max.X-box.Min.X, box.Max.Y-box.Min.Y) / 2
		if area.Empty() || l.half < 1 {
			break
		}
		c := box.Centre()
		l.denorm = geom.Homography{l.half, 0, c.X, 0, l.half, c.Y, 0, 0, 1}
		l.norm, _ = l.denorm.Inverse()
		covers := make([][]geom.Point, len(without))
		for i, w := range without {
			covers[i] = l.toLevel.ApplyAll(w)
		}
		crop := raster.NewPlane(area.Inset(-2))
		for y := crop.Rect.Min.Y; y < crop.Rect.Max.Y; y++ {
			copy(crop.Row(y, crop.Rect.Min.X, crop.Rect.Max.X), plane.Row(y, crop.Rect.Min.X, crop.Rect.Max.X))
		}
		gx, gy := raster.Gradient(crop)
		count := 0
		var weak float32
		if n := geom.Area(polygon); n > maxPixels {
			// Pixels without structure say nothing: with more than enough of them, those
			// below the median are left out.
			var powers []float32
			for i := 0; i < len(gx.Pix); i += 1 + len(gx.Pix)/4000 {
				powers = append(powers, gx.Pix[i]*gx.Pix[i]+gy.Pix[i]*gy.Pix[i])
			}
			slices.Sort(powers)
			weak = powers[len(powers)/2]
			count = int(n / 2)
		}
		stride := max(1, int(math.Round(float64(count)/maxPixels)))
		l.stride = stride
		skip := 0
		for y := area.Min.Y; y < area.Max.Y; y++ {
			spans := insides(polygon, covers, float64(y)+0.5)
			for x := area.Min.X; x < area.Max.X; x++ {
				if !spans.has(float64(x) + 0.5) {
					continue
				}
				dx, dy := gx.At(x, y), gy.At(x, y)
				if dx*dx+dy*dy < weak {
					continue
				}
				if skip++; skip < stride {
					continue
				}
				skip = 0
				v := plane.At(x, y)
				if v != v || dx != dx || dy != dy {
					continue // not a number: no picture there
				}
				n := l.norm.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5))
				l.xs, l.ys = append(l.xs, n.X), append(l.ys, n.Y)
				l.tpl = append(l.tpl, v)
				l.descent = append(l.descent, descent(l.motion, n, float64(dx)*l.half, float64(dy)*l.half))
				l.block = append(l.block, blockOf(box, float64(x)+0.5, float64(y)+0.5))
			}
		}
		if len(l.tpl) < minPixels {
			break
		}
		a.levels = append(a.levels, l)
	}
	if len(a.levels) == 0 {
		return nil, ErrSmall
	}
	if singular(a.levels[0].descent, motion) {
		return nil, ErrFlat
	}
	return a, nil
}

func blockOf(box geom.Box, x, y float64) uint8 {
	in := func(v, lo, hi float64) int { return min(max(int(Blocks*(v-lo)/(hi-lo)), 0), Blocks-1) }
	return uint8(in(y, box.Min.Y, box.Max.Y)*Blocks + in(x, box.Min.X, box.Max.X))
}

// lineSpans are the places where a line crosses a polygon, and where it crosses
// each of its covers.
type lineSpans struct {
	in  []float64
	out [][]float64
}

func insides(polygon []geom.Point, covers [][]geom.Point, y float64) lineSpans {
	s := lineSpans{in: crossings(polygon, y)}
	for _, c := range covers {
		s.out = append(s.out, crossings(c, y))
	}
	return s
}

// has reports whether x lies in the polygon and in no cover.
func (s lineSpans) has(x float64) bool {
	if !odd(s.in, x) {
		return false
	}
	for _, o := range s.out {
		if odd(o, x) {
			return false
		}
	}
	return true
}

// odd reports whether an odd number of crossings lies to the left of x.
func odd(crossings []float64, x float64) bool {
	in := false
	for _, c := range crossings {
		if c < x {
			in = !in
		}
	}
	return in
}

// crossings returns where the line at height y crosses the polygon's sides.
func crossings(polygon []geom.Point, y float64) []float64 {
	var out []float64
	for i, a := range polygon {
		b := polygon[(i+1)%len(polygon)]
		if (a.Y > y) != (b.Y > y) {
			out = append(out, a.X+(y-a.Y)/(b.Y-a.Y)*(b.X-a.X))
		}
	}
	return out
}

// parameters returns how many of a descent's entries the motion uses.
func parameters(m geom.Motion) int {
	switch m {
	case geom.Position:
		return 2
	case geom.Similarity:
		return 4
	case geom.Shear:
		return 6
	}
	return 8
}

// descent returns the derivatives of a pixel's value by the motion's parameters
// at the identity, for the normalised position p and the gradient (gx, gy).
func descent(m geom.Motion, p geom.Point, gx, gy float64) [8]float32 {
	var d [8]float64
	switch m {
	case geom.Position:
		d = [8]float64{gx, gy}
	case geom.Similarity:
		d = [8]float64{gx, gy, gx*p.X + gy*p.Y, gy*p.X - gx*p.Y}
	case geom.Shear:
		d = [8]float64{gx, gy, gx * p.X, gx * p.Y, gy * p.X, gy * p.Y}
	default:
		radial := gx*p.X + gy*p.Y
		d = [8]float64{gx, gy, gx * p.X, gx * p.Y, gy * p.X, gy * p.Y, -radial * p.X, -radial * p.Y}
	}
	var out [8]float32
	for i, v := range d {
		out[i] = float32(v)
	}
	return out
}

// small returns the motion with the given parameters.
func small(m geom.Motion, v []float64) geom.Homography {
	switch m {
	case geom.Position:
		return geom.Translation(geom.Pt(v[0], v[1]))
	case geom.Similarity:
		return geom.Homography{1 + v[2], -v[3], v[0], v[3], 1 + v[2], v[1], 0, 0, 1}
	case geom.Shear:
		return geom.Homography{1 + v[2], v[3], v[0], v[4], 1 + v[5], v[1], 0, 0, 1}
	}
	return geom.Homography{1 + v[2], v[3], v[0], v[4], 1 + v[5], v[1], v[6], v[7], 1}
}

func singular(descents [][8]float32, m geom.Motion) bool {
	k := parameters(m)
	var sum [8][8]float64
	for i := range descents {
		d := &descents[i]
		for r := range k {
			for c := r; c < k; c++ {
				sum[r][c] += float64(d[r]) * float64(d[c])
			}
		}
	}
	normal := mat.NewSymDense(k, nil)
	for r := range k {
		for c := r; c < k; c++ {
			normal.SetSym(r, c, sum[r][c])
		}
	}
	var eig mat.EigenSym
	if !eig.Factorize(normal, false) {
		return true
	}
	v := eig.Values(nil)
	return !(v[0] > 1e-7*v[k-1]) || v[k-1] < 1e-9
}
