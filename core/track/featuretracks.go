package track

import (
	"image"
	"math"

	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A FeatureTrack is where a feature is on consecutive frames from First on.
type FeatureTrack struct {
	First int
	At    []geom.Point
}

// Features finds features all over the picture and follows them through a shot, so that as many as wanted are there on every
// frame: what a camera is found from. Each is moved from frame to frame by Match, there and back, and then placed against the patch
// on which it was found, which may have turned, sheared and grown (inverse-compositional alignment, Baker & Matthews 2004, with gain
// and offset free), so that small errors do not add up.
type Features struct {
	want  int
	frame int
	done  []FeatureTrack
	live  []*feature
	prev  []*raster.Plane
}

const (
	featureSmooth = 1.0 // pixels of the blur before anything is compared: grain, and what lies between pixels, err less
	featureLevels = 5
	featureSlack  = 0.35 // pixels by which the way there and back may differ
	featureAlike  = 0.8  // correlation with the patch from which on it is the same
	patchHalf     = 12
	patchSide     = 2*patchHalf + 1
	patchSize     = patchSide * patchSide
)

type feature struct {
	FeatureTrack
	patch *patch
	shape [4]float64 // what takes places around the feature on its patch to those on the last frame
	speed geom.Point
}

// A patch is what a feature looked like where it was found, and what a warp of it changes.
type patch struct {
	tpl    [patchSize]float32
	down   [patchSize][6]float32 // steepest descent, without its mean
	inv    [36]float64           // of its normal matrix
	power  float64
	weight [patchSize]float32
}

// NewFeatures returns features of which about want are followed on every frame.
func NewFeatures(want int) *Features { return &Features{want: want} }

// ResumeFeatures goes on with tracks that were followed up to a frame, whose picture is luma.
func ResumeFeatures(want int, tracks []FeatureTrack, frame int, luma, covered *raster.Plane) *Features {
	f := NewFeatures(want)
	f.frame = frame
	f.prev = f.see(luma)
	for _, t := range tracks {
		if t.First+len(t.At)-1 != frame || !f.free(t.At[len(t.At)-1], covered) {
			f.done = append(f.done, t)
			continue
		}
		n := &feature{FeatureTrack: t}
		n.anchor(f.prev[0], t.At[len(t.At)-1])
		f.live = append(f.live, n)
	}
	return f
}

// All returns all tracks so far, those that were just begun among them: what ResumeFeatures goes on with.
func (f *Features) All() []FeatureTrack {
	out := append([]FeatureTrack(nil), f.done...)
	for _, l := range f.live {
		out = append(out, l.FeatureTrack)
	}
	return out
}

// Tracks returns all tracks so far that last for three frames at least.
func (f *Features) Tracks() []FeatureTrack {
	out := f.All()
	kept := out[:0]
	for _, t := range out {
		if len(t.At) >= 3 {
			kept = append(kept, t)
		}
	}
	return kept
}

// Live returns where features are on the last frame.
func (f *Features) Live() (at []geom.Point) {
	for _, l := range f.live {
		at = append(at, l.At[len(l.At)-1])
	}
	return at
}

// see prepares a picture, smoothed; what is no number is 0.
func (f *Features) see(luma *raster.Plane) []*raster.Plane {
	p := raster.NewPlane(luma.Rect)
	for i, v := range luma.Pix {
		if v > -1e6 && v < 1e6 {
			p.Pix[i] = v
		}
	}
	return raster.Pyramid(raster.Gaussian(p, featureSmooth), featureLevels)
}

// free reports whether a place is seen whole: inside, and not covered.
func (f *Features) free(p geom.Point, covered *raster.Plane) bool {
	if !inside(p, f.prev[0].Rect, patchHalf+2) {
		return false
	}
	return covered == nil || covered.At(int(p.X), int(p.Y)) < 0.05
}

// Step goes on to a frame, the one after the last: luma is its picture, as evenly spaced for the eye as code values are, covered, which may be nil, the share of
// each pixel that does not count.
func (f *Features) Step(frame int, luma, covered *raster.Plane) {
	now := f.see(luma)
	if f.prev == nil || frame != f.frame+1 {
		for _, l := range f.live {
			f.done = append(f.done, l.FeatureTrack)
		}
		f.live = nil
	}
	was := f.prev
	f.prev, f.frame = now, frame
	ok := make([]bool, len(f.live))
	var parts []func()
	const few = 25
	for lo := 0; lo < len(f.live); lo += few {
		parts = append(parts, func() {
			for i := lo; i < min(lo+few, len(f.live)); i++ {
				ok[i] = f.live[i].step(was, now)
			}
		})
	}
	raster.Parallel(parts...)
	live := f.live[:0:0]
	for i, l := range f.live {
		if ok[i] && f.free(l.At[len(l.At)-1], covered) {
			live = append(live, l)
			continue
		}
		if ok[i] {
			l.At = l.At[:len(l.At)-1]
		}
		f.done = append(f.done, l.FeatureTrack)
	}
	f.live = f.apart(live)
	if 10*len(f.live) < 9*f.want {
		f.find(covered)
	}
}

// apart ends features that have come so near to an older one that they are the same.
func (f *Features) apart(live []*feature) []*feature {
	const cell = 4
	taken := map[image.Point]int{}
	out := live[:0]
	for _, l := range live {
		p := l.At[len(l.At)-1]
		key := image.Pt(int(p.X/cell), int(p.Y/cell))
		if j, ok := taken[key]; ok && len(out[j].At) >= len(l.At) {
			l.At = l.At[:len(l.At)-1]
			f.done = append(f.done, l.FeatureTrack)
			continue
		}
		taken[key] = len(out)
		out = append(out, l)
	}
	return out
}

// find adds features where there are none.
func (f *Features) find(covered *raster.Plane) {
	r := f.prev[0].Rect.Inset(patchHalf + 3)
	all := []geom.Point{geom.Pt(float64(r.Min.X), float64(r.Min.Y)), geom.Pt(float64(r.Max.X), float64(r.Min.Y)),
		geom.Pt(float64(r.Max.X), float64(r.Max.Y)), geom.Pt(float64(r.Min.X), float64(r.Max.Y))}
	apart := math.Sqrt(float64(r.Dx()*r.Dy())/float64(f.want)) * 0.7
	taken := map[image.Point][]geom.Point{}
	key := func(p geom.Point) image.Point { return image.Pt(int(p.X/apart), int(p.Y/apart)) }
	for _, p := range f.Live() {
		taken[key(p)] = append(taken[key(p)], p)
	}
	for _, p := range corners(f.prev[0], all, f.want) {
		if len(f.live) >= f.want+f.want/4 {
			break
		}
		k, close := key(p), false
		for dy := -1; dy <= 1; dy++ {
			for dx := -1; dx <= 1; dx++ {
				for _, q := range taken[k.Add(image.Pt(dx, dy))] {
					close = close || q.Dist(p) < apart
				}
			}
		}
		if close || !f.free(p, covered) {
			continue
		}
		l := &feature{FeatureTrack: FeatureTrack{First: f.frame, At: []geom.Point{p}}}
		if l.anchor(f.prev[0], p) {
			f.live = append(f.live, l)
			taken[k] = append(taken[k], p)
		}
	}
}

// anchor takes what is seen at a place as what the feature looks like.
func (l *feature) anchor(p *raster.Plane, at geom.Point) bool {
	l.shape = [4]float64{1, 0, 0, 1}
	l.patch = newPatch(p, at)
	return l.patch != nil
}

func newPatch(p *raster.Plane, at geom.Point) *patch {
	const wide = patchSide + 2
	var around [wide * wide]float32
	p.Grid(at.X-patchHalf-1, at.Y-patchHalf-1, wide, wide, around[:])
	out := &patch{}
	var mean, sum float64
	var down [6]float64
	i := 0
	for y := -patchHalf; y <= patchHalf; y++ {
		for x := -patchHalf; x <= patchHalf; x++ {
			k := (y+patchHalf+1)*wide + x + patchHalf + 1
			gx, gy := (around[k+1]-around[k-1])/2, (around[k+wide]-around[k-wide])/2
			w := float32(math.Exp(-float64(x*x+y*y) / (2 * 7 * 7)))
			u, v := float32(x)/patchHalf, float32(y)/patchHalf
			out.tpl[i], out.weight[i] = around[k], w
			out.down[i] = [6]float32{gx, gy, gx * u, gx * v, gy * u, gy * v}
			mean += float64(w * around[k])
			sum += float64(w)
			for c, d := range out.down[i] {
				down[c] += float64(w * d)
			}
			i++
		}
	}
	h := mat.NewSymDense(6, nil)
	for i := range out.tpl {
		out.tpl[i] -= float32(mean / sum)
		w := float64(out.weight[i])
		out.power += w * float64(out.tpl[i]) * float64(out.tpl[i])
		for c := range out.down[i] {
			out.down[i][c] -= float32(down[c] / sum)
		}
		for r := range 6 {
			for c := r; c < 6; c++ {
				h.SetSym(r, c, h.At(r, c)+w*float64(out.down[i][r])*float64(out.down[i][c]))
			}
		}
	}
	if !(out.power > 1e-7*sum) {
		return nil
	}
	for k := range 6 {
		h.SetSym(k, k, h.At(k, k)*(1+1e-3)+1e-9) // a patch of few edges knows little of its shear
	}
	var chol mat.Cholesky
	if !chol.Factorize(h) {
		return nil
	}
	var inv mat.SymDense
	if chol.InverseTo(&inv) != nil {
		return nil
	}
	for r := range 6 {
		for c := range 6 {
			out.inv[6*r+c] = inv.At(r, c)
		}
	}
	return out
}

// step moves the feature to the next frame; it reports whether it is there.
func (l *feature) step(was, now []*raster.Plane) bool {
	p := l.At[len(l.At)-1]
	q, ok := Match(was, now, p, p.Add(l.speed))
	if !ok || !inside(q, now[0].Rect, patchHalf+2) {
		return false
	}
	back, ok := Match(now, was, q, p)
	if !ok || back.Dist(p) > featureSlack {
		return false
	}
	at, shape, alike := l.patch.place(now[0], q, l.shape)
	switch {
	case alike >= featureAlike && at.Dist(q) < 1 && inside(at, now[0].Rect, patchHalf+2):
		q, l.shape = at, shape
	default: // it has changed: what it looks like now is what it looks like
		if !l.anchor(now[0], q) {
			return false
		}
	}
	l.speed = q.Sub(p)
	l.At = append(l.At, q)
	return true
}

// place aligns the patch to a picture from a first guess of where and of which shape; alike is their correlation there.
func (t *patch) place(p *raster.Plane, at geom.Point, shape [4]float64) (geom.Point, [4]float64, float64) {
	var now [patchSize]float32
	var alike float64
	for round := range 12 {
		i := 0
		var mean, sum float64
		for y := -patchHalf; y <= patchHalf; y++ {
			bx, by := at.X+shape[1]*float64(y), at.Y+shape[3]*float64(y)
			for x := -patchHalf; x <= patchHalf; x++ {
				now[i] = p.Bilinear(bx+shape[0]*float64(x), by+shape[2]*float64(x))
				mean += float64(t.weight[i] * now[i])
				sum += float64(t.weight[i])
				i++
			}
		}
		m := float32(mean / sum)
		var cross, power float64
		for i := range now {
			now[i] -= m
			w := float64(t.weight[i] * now[i])
			cross += w * float64(t.tpl[i])
			power += w * float64(now[i])
		}
		alike = cross / math.Sqrt(power*t.power)
		gain := cross / t.power
		if !(gain > 0.1) {
			return at, shape, 0
		}
		if round == 11 {
			break
		}
		var g [6]float64
		for i := range now {
			e := t.weight[i] * (now[i]/float32(gain) - t.tpl[i])
			d := &t.down[i]
			for k := range g {
				g[k] += float64(e * d[k])
			}
		}
		var s [6]float64
		for r := range s {
			for c := range g {
				s[r] += t.inv[6*r+c] * g[c]
			}
		}
		// The warp after taking off what the patch moved by: W(x) o (1 + d(x))^-1.
		a, b, c, d := 1+s[2]/patchHalf, s[3]/patchHalf, s[4]/patchHalf, 1+s[5]/patchHalf
		det := a*d - b*c
		if !(det > 0.3 && det < 3) {
			return at, shape, 0
		}
		ia, ib, ic, id := d/det, -b/det, -c/det, a/det
		tx, ty := -(ia*s[0] + ib*s[1]), -(ic*s[0] + id*s[1])
		at = at.Add(geom.Pt(shape[0]*tx+shape[1]*ty, shape[2]*tx+shape[3]*ty))
		shape = [4]float64{shape[0]*ia + shape[1]*ic, shape[0]*ib + shape[1]*id, shape[2]*ia + shape[3]*ic, shape[2]*ib + shape[3]*id}
		if det := shape[0]*shape[3] - shape[1]*shape[2]; !(det > 0.3 && det < 3) || !at.Finite() {
			return at, shape, 0
		}
		if math.Hypot(s[0], s[1]) < 0.002 {
			break
		}
	}
	return at, shape, alike
}
