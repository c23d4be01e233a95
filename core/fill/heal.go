package fill

import (
	"math"

	"jardin/core/raster"
)

// A Healing says how a copy takes on the light of its place.
type Healing struct {
	// Texture is the contrast of what is copied, as a share of what the place's light
	// makes of it: under half the light it has half the steps. 0 leaves light alone. Nil
	// keeps the steps of the square root of light as they are in the source, whatever
	// the light of the place.
	Texture *float64
	// Light is how much of the place's light is taken on, 0 to 1; nil for all.
	Light *float64
	// White is the highest value that a pixel can have; what reaches it is clipped, and
	// how bright it was is not known. 0 for none.
	White float32
}

// heal lays the copied texture with the light and colour of its new place: the
// copy plus the membrane that meets, on the rim of all that is covered, the
// difference between what was there and the copy (Pérez, Gangnet & Blake 2003,
// "Poisson image editing", equations 7 and 8: the gradients of the copy, the
// values of the place). It works on the square root of light, where steps that look
// alike are about alike: on light itself a bright rim would drown dark texture.
//
// A surface under less light has less of it in its grooves as well: what is copied is
// first multiplied by how much more light there is around the place than around the
// source, told along the rim and spread between by a membrane of its own.
func (b *Brush) heal() {
	h := b.stroke.Heal
	margin := 1
	if h.Texture != nil {
		margin += RimReach
	}
	r := b.all.Inset(-margin).Intersect(b.canvas.plate.Rect)
	b.reach(r)
	cover := b.cover.Crop(r)
	out := b.copied(r)
	source, place := roots(out.Crop(r)), roots(b.asItWas(r))
	copied := source
	m := NewMembrane(r.Dx(), r.Dy())
	for k, c := range cover.Pix {
		switch {
		case source.Pix[4*k+3] < 0.999: // nothing to copy: it bounds nothing
			m.State[k] = Outside
		case c > 0:
			m.State[k] = Free
		default:
			m.State[k] = Fixed
		}
	}
	if h.Texture != nil {
		h.leaveClipped(m, source, place)
		copied = h.lit(m, source, place)
	}
	for k, s := range m.State {
		if s == Fixed {
			for j := range 3 {
				m.Value[k][j] = place.Pix[4*k+j] - copied.Pix[4*k+j]
			}
		}
	}
	low, high := h.bounds(m, place)
	m.Solve(healed)
	light := float32(1)
	if h.Light != nil {
		light = float32(*h.Light)
	}
	for k, s := range m.State {
		if s != Free {
			continue
		}
		as := source.Pix[4*k : 4*k+4]
		keep := float32(0) // of the copy as it is
		if h.Texture != nil {
			keep = h.clipped(as)
		}
		for j := range 3 {
			v := max(copied.Pix[4*k+j]+m.Value[k][j], 0)
			if h.Texture != nil {
				v = min(max(v, min(low[j], as[j])), max(high[j], as[j]))
			}
			v += keep * max(as[j]-v, 0)
			if light < 1 {
				v = as[j] + light*(v-as[j])
			}
			out.Pix[4*k+j] = v * v
		}
	}
	b.composite(b.all, out.Crop(b.all))
}

// bounds returns how dark and how bright a healed pixel may be, on the square root of light, unless it was so in the source: a
// quarter beyond what lies around the place, and so much more as texture is made stronger. Of a source that is partly another
// material, the factor of the whole makes some of it brighter than anything there.
func (h *Healing) bounds(m *Membrane, place *raster.Image) (low, high [3]float32) {
	if h.Texture == nil {
		return low, high
	}
	var mean [3]float32
	n := float32(0)
	low = [3]float32{1e6, 1e6, 1e6}
	for k, s := range m.State {
		if s != Fixed {
			continue
		}
		n++
		for j := range 3 {
			v := place.Pix[4*k+j]
			low[j], high[j], mean[j] = min(low[j], v), max(high[j], v), mean[j]+v
		}
	}
	if n == 0 {
		return [3]float32{}, [3]float32{1e6, 1e6, 1e6}
	}
	beyond := 1.25 * max(1, float32(*h.Texture))
	for j := range 3 {
		mean[j] /= n
		low[j], high[j] = max(mean[j]-beyond*(mean[j]-low[j]), 0), mean[j]+beyond*(high[j]-mean[j])
	}
	return low, high
}

// healed is how far off on the square root of light a membrane may be: half a code
// value of 255.
const healed = 2e-3

// RimReach is how far beyond what it covers a healing stroke looks, pixels, to tell the
// light there: far enough that texture averages out, near enough to be the rim's.
const RimReach = 8

// lit returns the copy, times how much more light there is at the place, on the square
// root of light. Where the membrane is free the factor is spread from its rim.
func (h *Healing) lit(m *Membrane, source, place *raster.Image) *raster.Image {
	type sum struct { // of all fixed points above and to the left
		n             float64
		source, place [3]float64
	}
	w := m.Width + 1
	sums := make([]sum, w*(m.Height+1))
	for y := range m.Height {
		var row sum
		for x := range m.Width {
			if k := y*m.Width + x; m.State[k] == Fixed {
				row.n++
				for j := range 3 {
					row.source[j] += float64(source.Pix[4*k+j])
					row.place[j] += float64(place.Pix[4*k+j])
				}
			}
			at := &sums[(y+1)*w+x+1]
			*at = sums[y*w+x+1]
			at.n += row.n
			for j := range 3 {
				at.source[j] += row.source[j]
				at.place[j] += row.place[j]
			}
		}
	}
	ring := &sums[len(sums)-1]
	usual := factor((ring.source[0]+ring.source[1]+ring.source[2])/(3*math.Max(ring.n, 1)),
		(ring.place[0]+ring.place[1]+ring.place[2])/(3*math.Max(ring.n, 1)))
	var mean [3]float32
	var rim []int
	for k, s := range m.State {
		if s != Fixed || !m.bounds(k) {
			continue
		}
		rim = append(rim, k)
		x, y := k%m.Width, k/m.Width
		x0, x1 := max(x-RimReach, 0), min(x+RimReach+1, m.Width)
		y0, y1 := max(y-RimReach, 0), min(y+RimReach+1, m.Height)
		a, b, c, d := &sums[y0*w+x0], &sums[y0*w+x1], &sums[y1*w+x0], &sums[y1*w+x1]
		n := a.n - b.n - c.n + d.n
		var from, to, whole [3]float64
		for j := range 3 {
			from[j] = (a.source[j] - b.source[j] - c.source[j] + d.source[j]) / n
			to[j] = (a.place[j] - b.place[j] - c.place[j] + d.place[j]) / n
		}
		for j := range 3 {
			whole[0] += from[j]
			whole[1] += to[j]
		}
		// Light falls off along the rim; what changes more than that is another material.
		g := min(max(factor(whole[0]/3, whole[1]/3), usual/uneven), usual*uneven)
		for j := range 3 {
			// A colour follows its own light, as long as that is about the light of all.
			m.Value[k][j] = float32(min(max(factor(from[j], to[j]), g/apart), g*apart))
			mean[j] += m.Value[k][j]
		}
	}
	if len(rim) == 0 {
		mean = [3]float32{1, 1, 1}
	}
	// Around the mean, which is what a part without a rim gets.
	for j := range 3 {
		mean[j] /= float32(max(len(rim), 1))
		for _, k := range rim {
			m.Value[k][j] -= mean[j]
		}
	}
	m.Solve(1e-2)
	out := source.Crop(source.Rect)
	texture := float32(*h.Texture)
	for k, s := range m.State {
		if s == Outside || (s == Fixed && !m.bounds(k)) {
			continue
		}
		for j := range 3 {
			out.Pix[4*k+j] *= texture * (mean[j] + m.Value[k][j])
		}
	}
	return out
}

// Bounds of the factor that light has on the copy, on the square root of light: below
// dark there is no telling, and beyond strongest grain would be all there is.
const (
	dark      = 0.01
	strongest = 6.0
	apart     = 1.5 // of one colour beside all
	uneven    = 1.2 // of a part of the rim beside all of it
)

func factor(from, to float64) float64 {
	return min(max(max(to, dark)/max(from, dark), 1/strongest), strongest)
}

// leaveClipped takes out of the rim what is clipped, on either side: how far light would
// go on there is not known, and what is known bleeds far into the patch. Where most of
// the place's rim is clipped, so is the place, and its white bounds it.
func (h *Healing) leaveClipped(m *Membrane, source, place *raster.Image) {
	var at []int
	rim, white := 0, 0
	for k, s := range m.State {
		if s != Fixed {
			continue
		}
		inSource, inPlace := h.clipped(source.Pix[4*k:]) > 0.5, h.clipped(place.Pix[4*k:]) > 0.5
		if m.bounds(k) {
			rim++
			if inPlace {
				white++
			}
		}
		if inSource != inPlace {
			at = append(at, k)
		}
	}
	if rim == 0 || 2*white > rim {
		return
	}
	for _, k := range at {
		m.State[k] = Outside
	}
}

// clipped returns how far a pixel, on the square root of light, is at the white end: 0 to 1.
func (h *Healing) clipped(root []float32) float32 {
	if h.White <= 0 || math.IsInf(float64(h.White), 1) {
		return 0
	}
	white := float32(math.Sqrt(float64(h.White)))
	u := (max(root[0], root[1], root[2])/white - 0.95) / 0.045
	u = min(max(u, 0), 1)
	return u * u * (3 - 2*u)
}

// roots takes a picture to the square root of light, in place.
func roots(m *raster.Image) *raster.Image {
	for i, v := range m.Pix {
		if i%4 != 3 {
			m.Pix[i] = root(v)
		}
	}
	return m
}

func root(v float32) float32 { return float32(math.Sqrt(float64(max(v, 0)))) }
