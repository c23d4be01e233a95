package settle

import (
	"fmt"
	"math"
	"slices"
	"sort"

	"gonum.org/v1/gonum/dsp/fourier"

	"jardin/core/raster"
)

// Grain is what a plate's grain is like: its strength by brightness, its shape as
// an autocorrelation, and how much of it the channels share.
type Grain struct {
	Light []float64    // linear light, rising
	Sigma [3][]float64 // standard deviation in linear light at each of them, by channel
	Share [3]float64   // correlation of red with green, red with blue, green with blue
	Lags  int
	Shape [3][]float64 // by rows, from (-Lags, 0) to (Lags, Lags)
}

// A GrainSample is grain that was set free: what is left of a picture when what it
// shows was taken away.
type GrainSample struct {
	Grain  *raster.Image // linear light, mean 0
	Base   *raster.Image // what it shows
	Valid  *raster.Plane // where nothing but grain is left
	Excess float64       // by how much the variance exceeds the grain's own, 1 for not at all
}

// MeasureGrain works out what several samples have in common. ok is false where
// there are too few pixels for that.
func MeasureGrain(all []GrainSample) (g *Grain, ok bool) {
	const lags, knots = 5, 9
	// The brightness at which the strength is given: evenly many pixels between each.
	var lights []float64
	for _, s := range all {
		for i, v := range s.Valid.Pix {
			if v > 0 && i%7 == 0 {
				for c := range 3 {
					lights = append(lights, float64(s.Base.Pix[4*i+c]))
				}
			}
		}
	}
	if len(lights) < 300 {
		return nil, false
	}
	slices.Sort(lights)
	g = &Grain{Lags: lags}
	for k := range knots {
		v := lights[int((0.03+0.94*float64(k)/(knots-1))*float64(len(lights)-1))]
		if n := len(g.Light); n == 0 || v > g.Light[n-1]*1.02+1e-4 {
			g.Light = append(g.Light, math.Max(v, 1e-5))
		}
	}
	for c := range 3 {
		g.Sigma[c] = strength(all, c, g.Light)
		if g.Sigma[c] == nil {
			return nil, false
		}
	}
	g.correlate(all)
	return g, true
}

// strength returns a channel's standard deviation at the given light: of the pixels
// nearest to each in brightness, 1.4826 times the median of what they are off (Huber
// 1981), so that detail that was taken for grain counts little.
func strength(all []GrainSample, c int, light []float64) []float64 {
	off, root := make([][]float64, len(light)), make([]float64, len(light))
	for _, s := range all {
		for i, v := range s.Valid.Pix {
			if v == 0 {
				continue
			}
			base := math.Max(float64(s.Base.Pix[4*i+c]), 0)
			k, u := between(light, base)
			if u > 0.5 {
				k++
			}
			off[k] = append(off[k], math.Abs(float64(s.Grain.Pix[4*i+c]))/math.Sqrt(s.Excess))
			root[k] += math.Sqrt(base)
		}
	}
	// What was measured belongs to the mean brightness of its pixels, not to the knot.
	var at, sigma []float64
	total := 0
	for k := range light {
		total += len(off[k])
	}
	for k := range light {
		if n := len(off[k]); n >= 60 && 100*n >= total {
			slices.Sort(off[k])
			at, sigma = append(at, root[k]/float64(n)), append(sigma, 1.4826*off[k][n/2])
		}
	}
	if len(at) == 0 {
		return nil
	}
	// Brightness that is rare, as between a hedge and its sky, is where edges are: what
	// stands out from both sides is not grain.
	for k := 1; k+1 < len(at); k++ {
		if usual := (sigma[k-1]/at[k-1] + sigma[k+1]/at[k+1]) / 2 * at[k]; sigma[k] > 1.25*usual {
			sigma[k] = usual
		}
	}
	out := make([]float64, len(light))
	for k, l := range light {
		radius := math.Sqrt(l)
		last := len(at) - 1
		switch {
		// Beyond what was measured: between grain that is even and grain that goes as the
		// root of light does.
		case radius <= at[0]:
			out[k] = sigma[0] * math.Max(radius/at[0], math.Min(math.Sqrt(radius/at[0]), 0.85))
		case radius >= at[last]:
			out[k] = sigma[last] * math.Sqrt(radius/at[last])
		default:
			i := sort.SearchFloat64s(at, radius)
			out[k] = sigma[i-1] + (sigma[i]-sigma[i-1])*(radius-at[i-1])/(at[i]-at[i-1])
		}
	}
	return out
}

// between returns the knot at or below a value, and how far on the way to the next
// it lies.
func between(knots []float64, v float64) (int, float64) {
	if v <= knots[0] {
		return 0, 0
	}
	for k := 1; k < len(knots); k++ {
		if v < knots[k] {
			return k - 1, (v - knots[k-1]) / (knots[k] - knots[k-1])
		}
	}
	return len(knots) - 1, 0
}

// At returns a channel's standard deviation at a brightness. Beyond what was
// measured it goes on as the root of light does.
func (g *Grain) At(c int, light float64) float64 {
	last := len(g.Light) - 1
	switch s := g.Sigma[c]; {
	case light <= g.Light[0]:
		return s[0] * math.Sqrt(math.Max(light, 0)/g.Light[0])
	case light >= g.Light[last]:
		return s[last] * math.Sqrt(light/g.Light[last])
	default:
		// Between two knots straight over the root of light.
		k, _ := between(g.Light, light)
		a, b := math.Sqrt(g.Light[k]), math.Sqrt(g.Light[k+1])
		return s[k] + (s[k+1]-s[k])*(math.Sqrt(light)-a)/(b-a)
	}
}

// correlate measures the shape and what the channels share, on grain brought to a
// variance of 1.
func (g *Grain) correlate(all []GrainSample) {
	rows := g.Lags + 1
	columns := 2*g.Lags + 1
	var share, power [3]float64
	for c := range 3 {
		g.Shape[c] = make([]float64, rows*columns)
	}
	count := make([]float64, rows*columns)
	for _, s := range all {
		r := s.Valid.Rect
		w, h := r.Dx(), r.Dy()
		var unit [3][]float64
		for c := range 3 {
			unit[c] = make([]float64, w*h)
			for i, v := range s.Valid.Pix {
				if v > 0 {
					if sigma := g.At(c, float64(s.Base.Pix[4*i+c])); sigma > 0 {
						// What is far off is not grain.
						unit[c][i] = math.Min(math.Max(float64(s.Grain.Pix[4*i+c])/sigma, -3), 3)
					}
				}
			}
		}
		for i, v := range s.Valid.Pix {
			if v > 0 {
				for k, pair := range [3][2]int{{0, 1}, {0, 2}, {1, 2}} {
					share[k] += unit[pair[0]][i] * unit[pair[1]][i]
				}
				for c := range 3 {
					power[c] += unit[c][i] * unit[c][i]
				}
			}
		}
		for dy := range rows {
			for dx := -g.Lags; dx <= g.Lags; dx++ {
				k := dy*columns + dx + g.Lags
				for y := 0; y+dy < h; y++ {
					for x := max(0, -dx); x < min(w, w-dx); x++ {
						i := y*w + x
						j := i + dy*w + dx
						if s.Valid.Pix[i] > 0 && s.Valid.Pix[j] > 0 {
							count[k]++
							for c := range 3 {
								g.Shape[c][k] += unit[c][i] * unit[c][j]
							}
						}
					}
				}
			}
		}
	}
	for c := range 3 {
		own := g.Shape[c][g.Lags] / math.Max(count[g.Lags], 1)
		for k := range g.Shape[c] {
			if own > 0 && count[k] > 0 {
				g.Shape[c][k] = math.Min(math.Max(g.Shape[c][k]/count[k]/own, -1), 1)
			}
		}
	}
	for k, pair := range [3][2]int{{0, 1}, {0, 2}, {1, 2}} {
		if p := power[pair[0]] * power[pair[1]]; p > 0 {
			g.Share[k] = share[k] / math.Sqrt(p)
		}
	}
}

// Size returns the grain's width in pixels, at half the height of the shape of
// which the measured autocorrelation is one: for a Gaussian grain its own.
func (g *Grain) Size() float64 {
	var size float64
	for c := range 3 {
		at := func(d int) float64 {
			return (g.Shape[c][g.Lags+d] + g.Shape[c][g.Lags-d] + 2*g.Shape[c][d*(2*g.Lags+1)+g.Lags]) / 4
		}
		// The autocorrelation of a Gaussian of sigma s has sigma s sqrt(2).
		if radius := at(1); radius > 0.01 && radius < 1 {
			size += 2.3548 * math.Sqrt(-1/(4*math.Log(radius))) / 3
		}
	}
	return size
}

// Tile is how many pixels wide and high made grain is before it repeats.
const Tile = 512

// Make synthesises grain of variance 1 with the measured shape and shares: white
// noise, mixed between the channels (Cholesky), then filtered to the power spectrum
// that the autocorrelation has (Wiener & Khinchin). It repeats without a seam.
func (g *Grain) Make(seed uint64) *[3][]float32 {
	white := [3][]float64{}
	for c := range white {
		white[c] = make([]float64, Tile*Tile)
		state := seed*0x9e3779b97f4a7c15 + uint64(c)*0xd1b54a32d192ed03 + 1
		for i := 0; i < len(white[c]); i += 2 {
			// Box & Muller 1958 on splitmix64 (Steele, Lea & Flood 2014).
			u, v := uniform(&state), uniform(&state)
			radius := math.Sqrt(-2 * math.Log(1-u))
			sin, cos := math.Sincos(2 * math.Pi * v)
			white[c][i], white[c][i+1] = radius*cos, radius*sin
		}
	}
	rg, rb, gb := g.Share[0], g.Share[1], g.Share[2]
	l22 := math.Sqrt(math.Max(1-rg*rg, 1e-6))
	l32 := (gb - rg*rb) / l22
	l33 := math.Sqrt(math.Max(1-rb*rb-l32*l32, 0))
	for i := range white[0] {
		a, b, c := white[0][i], white[1][i], white[2][i]
		white[1][i] = rg*a + l22*b
		white[2][i] = rb*a + l32*b + l33*c
	}
	var out [3][]float32
	var parts []func()
	for c := range out {
		parts = append(parts, func() { out[c] = g.shaped(c, white[c]) })
	}
	raster.Parallel(parts...)
	return &out
}

func uniform(state *uint64) float64 {
	*state += 0x9e3779b97f4a7c15
	z := *state
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return float64((z^z>>31)>>11) / (1 << 53)
}

// shaped filters white noise to a channel's spectrum.
func (g *Grain) shaped(c int, white []float64) []float32 {
	power := make([]complex128, Tile*Tile)
	for dy := 0; dy <= g.Lags; dy++ {
		for dx := -g.Lags; dx <= g.Lags; dx++ {
			v := complex(g.Shape[c][dy*(2*g.Lags+1)+dx+g.Lags], 0)
			power[dy*Tile+(dx+Tile)%Tile] = v
			power[(Tile-dy)%Tile*Tile+(Tile-dx)%Tile] = v
		}
	}
	transform(power, false)
	noise := make([]complex128, Tile*Tile)
	for i, v := range white {
		noise[i] = complex(v, 0)
	}
	transform(noise, false)
	for i := range noise {
		noise[i] *= complex(math.Sqrt(math.Max(real(power[i]), 0)), 0)
	}
	noise[0] = 0 // grain neither lightens nor darkens
	transform(noise, true)
	var sum float64
	for _, v := range noise {
		sum += real(v) * real(v)
	}
	k := 1 / math.Sqrt(math.Max(sum/float64(len(noise)), 1e-30))
	out := make([]float32, len(noise))
	for i, v := range noise {
		out[i] = float32(real(v) * k)
	}
	return out
}

// transform is the discrete Fourier transform of a tile in place, up to a factor.
func transform(m []complex128, back bool) {
	line := func(f *fourier.CmplxFFT, in, out []complex128) {
		if back {
			f.Sequence(out, in)
		} else {
			f.Coefficients(out, in)
		}
	}
	f, row := fourier.NewCmplxFFT(Tile), make([]complex128, Tile)
	for y := range Tile {
		line(f, m[y*Tile:(y+1)*Tile], row)
		copy(m[y*Tile:], row)
	}
	column := make([]complex128, Tile)
	for x := range Tile {
		for y := range Tile {
			column[y] = m[y*Tile+x]
		}
		line(f, column, row)
		for y := range Tile {
			m[y*Tile+x] = row[y]
		}
	}
}

// A Layer of grain to be laid on a frame.
type Layer struct {
	Of     *Grain
	Tile   *[3][]float32
	Seed   uint64 // of the frame: another seed shows another part of the tile
	Amount [3]float64
}

// AddGrain adds grain to a picture. missing is the share of its own standard
// deviation that each pixel lacks; light is how bright the picture is there without
// grain, or nil for the picture itself.
func AddGrain(m *raster.Image, missing *raster.Plane, l Layer) {
	h := l.Seed*0x9e3779b97f4a7c15 + 0x632be59bd9b4e019
	h = (h ^ h>>29) * 0xbf58476d1ce4e5b9
	h ^= h >> 32
	ox, oy := int(h&(Tile-1)), int(h>>16&(Tile-1))
	// Mirrored both ways an autocorrelation stays as it is.
	turn := h>>40&1 == 1
	// The strength by brightness as a table over the square root of light.
	const fine = 256
	var table [3][fine + 1]float32
	for c := range 3 {
		for i := range table[c] {
			u := 1.5 * float64(i) / fine
			table[c][i] = float32(l.Of.At(c, u*u) * l.Amount[c])
		}
	}
	r := m.Rect.Intersect(missing.Rect)
	raster.Rows(r.Min.Y, r.Max.Y, func(y int) {
		row, lack := m.Row(y, r.Min.X, r.Max.X), missing.Row(y, r.Min.X, r.Max.X)
		for x, k := range lack {
			if k == 0 {
				continue
			}
			tx, ty := (r.Min.X+x+ox)&(Tile-1), (y+oy)&(Tile-1)
			if turn {
				tx, ty = Tile-1-tx, Tile-1-ty
			}
			i := ty*Tile + tx
			p := row[4*x : 4*x+3 : 4*x+3]
			for c, v := range p {
				light := v
				if !(light > 0) {
					light = 0
				}
				at := float32(math.Sqrt(float64(light))) * (fine / 1.5)
				if at > fine {
					at = fine
				}
				if v += k * table[c][uint(at)] * l.Tile[c][i]; v < 0 {
					v = 0
				}
				p[c] = v
			}
		}
	})
}

// CarryGrain adds the grain of another part of the plate to a picture: from is the
// plate there, its place moved to the picture's. calm is the same without grain.
func CarryGrain(m, from, denoised *raster.Image, missing *raster.Plane, l Layer) {
	r := m.Rect.Intersect(missing.Rect).Intersect(from.Rect)
	// What calming sets free is not all of the grain: it is brought to the measured strength.
	var found, known [3]float64
	for i := 0; i < len(from.Pix); i += 4 {
		for c := range 3 {
			d := float64(from.Pix[i+c] - denoised.Pix[i+c])
			s := l.Of.At(c, float64(denoised.Pix[i+c]))
			found[c], known[c] = found[c]+d*d, known[c]+s*s
		}
	}
	var scale [3]float64
	for c := range scale {
		if found[c] > 0 {
			scale[c] = math.Min(math.Sqrt(known[c]/found[c]), 3) * l.Amount[c]
		}
	}
	for y := r.Min.Y; y < r.Max.Y; y++ {
		row, lack := m.Row(y, r.Min.X, r.Max.X), missing.Row(y, r.Min.X, r.Max.X)
		a, b := from.Row(y, r.Min.X, r.Max.X), denoised.Row(y, r.Min.X, r.Max.X)
		for x, k := range lack {
			if k == 0 {
				continue
			}
			for c := range 3 {
				there, here := l.Of.At(c, float64(b[4*x+c])), l.Of.At(c, float64(row[4*x+c]))
				if there > 0 {
					row[4*x+c] = max(row[4*x+c]+k*float32(scale[c]*here/there)*(a[4*x+c]-b[4*x+c]), 0)
				}
			}
		}
	}
}

// Words says what was found.
func (g *Grain) Words() string {
	middle := g.Light[len(g.Light)/2]
	name, most := "", 0.0
	for c, n := range []string{"red", "green", "blue"} {
		if v := g.At(c, middle) / middle; v > most {
			name, most = n, v
		}
	}
	return fmt.Sprintf("grain %.1f px, %.1f %% in %s", g.Size(), 100*most, name)
}
