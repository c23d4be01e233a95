package track

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
)

// pattern is what a point looks like.
type pattern struct {
	offsets []geom.Point // of its samples from the point
	values  []float32    // mean 0, power 1
	descent [][6]float64
	inverse *mat.Cholesky
	mean    float64
	power   float64 // square root of the sum of squares around the mean, before normalising
	coarse  []patternLevel

	// The same where the light is taken as known.
	steady        [][6]float64
	steadyInverse *mat.Cholesky
}

// patternLevel is the pattern on one level of the search.
type patternLevel struct {
	w, h   int
	values []float32 // mean 0, power 1
}

// Strength says how well a pattern around a place can be told from grain: the
// smaller eigenvalue of its gradients' second moments, over the power of the
// grain, which is measured by the mask of Immerkær 1996.
func Strength(p *raster.Plane, at, pattern geom.Point) float64 {
	rect := raster.Around(
		geom.Bounds([]geom.Point{at.Sub(pattern.Mul(0.5)), at.Add(pattern.Mul(0.5))}),
		0,
		p.Rect.Inset(1),
	)
	var xx, xy, yy, grain float64
	for y := rect.Min.Y; y < rect.Max.Y; y++ {
		for x := rect.Min.X; x < rect.Max.X; x++ {
			v := func(i, j int) float64 { return float64(p.At(x+i, y+j)) }
			gx, gy := (v(1, 0)-v(-1, 0))/2, (v(0, 1)-v(0, -1))/2
			xx, xy, yy = xx+gx*gx, xy+gx*gy, yy+gy*gy
			grain += math.Abs(
				v(-1, -1) - 2*v(0, -1) + v(1, -1) - 2*v(-1, 0) + 4*v(0, 0) - 2*v(1, 0) + v(-1, 1) - 2*v(0, 1) + v(1, 1),
			)
		}
	}
	n := float64(rect.Dx() * rect.Dy())
	if n == 0 {
		return 0
	}
	deviation := math.Max(math.Sqrt(math.Pi/2)*grain/(6*n), 1e-4)
	least := (xx+yy)/2 - math.Sqrt((xx-yy)*(xx-yy)/4+xy*xy)
	return least / n / (deviation * deviation)
}

// take makes a pattern of what lies around a place.
func (p *Point) take(frame *raster.Plane, at geom.Point) (*pattern, error) {
	w, h := oddSize(p.options.Pattern.X), oddSize(p.options.Pattern.Y)
	t := &pattern{}
	k := parameters(p.options.Motion)
	half := math.Max(float64(w), float64(h)) / 2
	var mean float64
	for y := -(h / 2); y <= h/2; y++ {
		for x := -(w / 2); x <= w/2; x++ {
			o := geom.Pt(float64(x), float64(y))
			q := at.Add(o)
			if !inside(q, frame.Rect, 1) {
				continue // the pattern reaches out of the picture
			}
			v := frame.Cubic(q.X, q.Y)
			gx, gy := scharr(frame, q)
			n := o.Mul(1 / half)
			d := descent(p.options.Motion, n, gx*half, gy*half)
			var row [6]float64
			for i := range k {
				row[i] = float64(d[i])
			}
			t.offsets, t.values, t.descent = append(t.offsets, o), append(t.values, v), append(t.descent, row)
			mean += float64(v)
		}
	}
	n := float64(len(t.values))
	if len(t.values) < 25 || 3*len(t.values) < w*h {
		return nil, ErrSmall
	}
	mean /= n
	var power float64
	for i, v := range t.values {
		t.values[i] = v - float32(mean)
		power += float64(t.values[i]) * float64(t.values[i])
	}
	t.mean, t.power = mean, math.Sqrt(power)
	if !(t.power > 1e-4*math.Sqrt(n)) {
		return nil, ErrFlat
	}
	for i := range t.values {
		t.values[i] /= float32(t.power)
		for j := range k {
			t.descent[i][j] /= t.power
		}
	}
	t.steady = slices.Clone(t.descent)
	known := normalOf(t.steady, k)
	t.square(t.descent, k)
	sym := normalOf(t.descent, k)
	var eig mat.EigenSym
	if !eig.Factorize(sym.SliceSym(0, 2).(*mat.SymDense), false) {
		return nil, ErrFlat
	}
	if v := eig.Values(nil); !(v[0] > 1e-3*v[1]) {
		return nil, ErrFlat // an edge, or nothing: it may slide along
	}
	for r := range k {
		sym.SetSym(r, r, sym.At(r, r)*(1+1e-9))
	}
	t.inverse, t.steadyInverse = &mat.Cholesky{}, &mat.Cholesky{}
	if !t.inverse.Factorize(sym) || !t.steadyInverse.Factorize(known) {
		return nil, ErrFlat
	}
	t.coarse = coarseOf(frame, at, w, h)
	return t, nil
}

// coarseOf returns what lies around a place on the levels of the search.
func coarseOf(frame *raster.Plane, at geom.Point, w, h int) (out []patternLevel) {
	level := frame
	for i := 0; ; i++ {
		if i > 0 {
			level = raster.Half(level)
		}
		lw, lh := max(oddSize(float64(w>>i)), 5), max(oddSize(float64(h>>i)), 5)
		values := make([]float32, lw*lh)
		c := onLevel(at, i)
		level.Grid(c.X-float64(lw/2), c.Y-float64(lh/2), lw, lh, values)
		normalise(values)
		out = append(out, patternLevel{lw, lh, values})
		if i == 3 || min(w, h)>>(i+1) < 7 {
			return out
		}
	}
}

// sameLight reports whether what is seen has the pattern's own mean and gain, to
// within three standard deviations of what grain does to them. variance is that of
// the difference of both, half of it the pattern's own, which draws the gain of a
// projection on the pattern towards 0. Sampling between pixels softens fine texture,
// so the gain is held to 5 % only; the mean, which a change of gain moves too, is
// held strictly.
func (t *pattern) sameLight(mean, gain, variance float64, n int) bool {
	drawn := 1 - float64(n)*variance/2/(t.power*t.power)
	return math.Abs(gain/t.power-drawn) < 3*math.Sqrt(variance)/t.power+0.05 &&
		math.Abs(mean-t.mean) < 3*math.Sqrt(variance/float64(n))
}

// square takes out of the descents what is along a constant and along the pattern
// itself, so that offset and gain of light drop out.
func (t *pattern) square(descent [][6]float64, k int) {
	var means, along [6]float64
	n := float64(len(descent))
	for i := range descent {
		for j := range k {
			means[j] += descent[i][j] / n
			along[j] += descent[i][j] * float64(t.values[i])
		}
	}
	for i := range descent {
		for j := range k {
			descent[i][j] -= means[j] + along[j]*float64(t.values[i])
		}
	}
}

func normalOf(descent [][6]float64, k int) *mat.SymDense {
	var sum [6][6]float64
	for i := range descent {
		d := &descent[i]
		for r := range k {
			for c := r; c < k; c++ {
				sum[r][c] += d[r] * d[c]
			}
		}
	}
	sym := mat.NewSymDense(k, nil)
	for r := range k {
		for c := r; c < k; c++ {
			sym.SetSym(r, c, sum[r][c])
		}
	}
	return sym
}

// scharr returns the gradient at a place by Scharr's kernels (2000), which smooth
// across the derivative: grain in a gradient costs more than a little softness.
func scharr(p *raster.Plane, q geom.Point) (gx, gy float64) {
	var v [9]float32
	p.Grid(q.X-1, q.Y-1, 3, 3, v[:])
	gx = float64(3*(v[2]-v[0])+10*(v[5]-v[3])+3*(v[8]-v[6])) / 32
	gy = float64(3*(v[6]-v[0])+10*(v[7]-v[1])+3*(v[8]-v[2])) / 32
	return gx, gy
}

// onLevel returns where a frame's place lies on a level of its pyramid.
func onLevel(p geom.Point, level int) geom.Point {
	to, _ := levelOf(level)
	return to.Apply(p)
}

func oddSize(v float64) int { return max(int(v)/2*2+1, 3) }

func normalise(v []float32) bool {
	var mean, power float64
	for _, x := range v {
		mean += float64(x)
	}
	mean /= float64(len(v))
	for _, x := range v {
		power += (float64(x) - mean) * (float64(x) - mean)
	}
	if power < 1e-12 {
		clear(v)
		return false
	}
	k := 1 / math.Sqrt(power)
	for i, x := range v {
		v[i] = float32((float64(x) - mean) * k)
	}
	return true
}

// candidate is a place and how well the pattern matches there.
type candidate struct {
	x, y  int
	match float32
}

// peaks returns the best places, best first, among the whole ones from (x0, y0) to
// (x1, y1): at most n, each a local maximum.
func (l *patternLevel) peaks(frame *raster.Plane, x0, y0, x1, y1, n int) []candidate {
	w, h := x1-x0+1, y1-y0+1
	score := make([]float32, w*h)
	patch := make([]float32, l.w*l.h)
	for j := range h {
		for i := range w {
			score[j*w+i] = l.match(frame, x0+i, y0+j, patch)
		}
	}
	var out []candidate
	for j := range h {
	places:
		for i := range w {
			s := score[j*w+i]
			for dj := -1; dj <= 1; dj++ {
				for di := -1; di <= 1; di++ {
					if y, x := j+dj, i+di; y >= 0 && x >= 0 && y < h && x < w && score[y*w+x] > s {
						continue places
					}
				}
			}
			c := candidate{x0 + i, y0 + j, s}
			at := len(out)
			for at > 0 && out[at-1].match < s {
				at--
			}
			out = append(out[:at], append([]candidate{c}, out[at:]...)...)
			if len(out) > n {
				out = out[:n]
			}
		}
	}
	return out
}

// match returns the normalised correlation at a whole place, -1 outside.
func (l *patternLevel) match(frame *raster.Plane, x, y int, patch []float32) float32 {
	x, y = x-l.w/2-frame.Rect.Min.X, y-l.h/2-frame.Rect.Min.Y
	stride := frame.Rect.Dx()
	var sum, squares, cross float32
	if x >= 0 && y >= 0 && x+l.w <= stride && y+l.h <= frame.Rect.Dy() {
		for j := range l.h {
			row := frame.Pix[(y+j)*stride+x:][:l.w]
			tpl := l.values[j*l.w:][:l.w]
			for i, v := range row {
				sum += v
				squares += v * v
				cross += v * tpl[i]
			}
		}
	} else {
		if x < -l.w/2 || y < -l.h/2 || x > stride-l.w/2 || y > frame.Rect.Dy()-l.h/2 {
			return -1 // more than half outside
		}
		frame.Grid(float64(x+frame.Rect.Min.X)+0.5, float64(y+frame.Rect.Min.Y)+0.5, l.w, l.h, patch)
		for i, v := range patch {
			sum += v
			squares += v * v
			cross += v * l.values[i]
		}
	}
	power := squares - sum*sum/float32(len(l.values))
	if power < 1e-9 {
		return -1
	}
	return cross / float32(math.Sqrt(float64(power)))
}
