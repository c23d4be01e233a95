package settle

import (
	"math"
	"slices"

	"jardin/core/raster"
	"jardin/core/simd"
)

// A TemporalDenoiser takes the grain out of a frame with the help of others.
type TemporalDenoiser struct {
	out    *raster.Image
	sum    []float32 // of what others say, by channel and pixel
	weight []float32
	noise  [3]float64
}

// NewTemporalDenoiser begins with a frame. noise is the standard deviation of each channel's
// grain on the square root of light; 0 is measured.
func NewTemporalDenoiser(m *raster.Image, noise [3]float64) *TemporalDenoiser {
	k := &TemporalDenoiser{out: rooted(m), noise: noise}
	for c := range 3 {
		if k.noise[c] <= 0 {
			k.noise[c] = Noise(m, c)
		}
	}
	k.sum, k.weight = make([]float32, 3*len(m.Pix)/4), make([]float32, 3*len(m.Pix)/4)
	return k
}

// denoiseBroad is the sigma in pixels over which another frame's light is made equal: it may have changed.
const denoiseBroad = 5

func rooted(m *raster.Image) *raster.Image {
	out := raster.NewImage(m.Rect)
	raster.Rows(m.Rect.Min.Y, m.Rect.Max.Y, func(y int) {
		src, dst := m.Row(y, m.Rect.Min.X, m.Rect.Max.X), out.Row(y, m.Rect.Min.X, m.Rect.Max.X)
		simd.Roots(dst, src, 1, math.MaxFloat32)
		for i := 3; i < len(src); i += 4 {
			dst[i] = src[i]
		}
	})
	return out
}

// Add brings in another frame, laid onto the first by the track; where it is
// transparent nothing is known. What differs by more than grain does, because
// something passed or the track was off, counts little, and says nothing about the light around it.
func (k *TemporalDenoiser) Add(other *raster.Image) {
	m := rooted(other)
	light := k.lightOf(m)
	w := k.out.Rect.Dx()
	n := len(k.sum) / 3
	apart := raster.NewPlane(k.out.Rect)
	for c := range 3 {
		noise := float32(k.noise[c])
		if noise <= 0 {
			continue
		}
		raster.Rows(0, k.out.Rect.Dy(), func(y int) {
			for i := y * w; i < (y+1)*w; i++ {
				if m.Pix[4*i+3] < 0.999 {
					apart.Pix[i] = 100
					continue
				}
				d := (m.Pix[4*i+c] - k.out.Pix[4*i+c] - light.Pix[4*i+c]) / noise
				apart.Pix[i] = min(d*d/2, 100)
			}
		})
		// Of grain alone the mean of this is 1.
		off := raster.Gaussian(apart, 1.5)
		raster.Rows(0, k.out.Rect.Dy(), func(y int) {
			for i := y * w; i < (y+1)*w; i++ {
				over := (off.Pix[i] - 1) / 1.2
				if over > 3 {
					continue
				}
				wt := float32(1)
				if over > 0 {
					wt = 1 / (1 + over*over*over)
				}
				k.sum[c*n+i] += wt * (m.Pix[4*i+c] - light.Pix[4*i+c])
				k.weight[c*n+i] += wt
			}
		})
	}
}

// lightOf returns how much lighter another frame is around each pixel: the mean of the difference, of what differs as grain
// does. A wire that lies elsewhere there is no light: it would leave a halo around itself.
func (k *TemporalDenoiser) lightOf(m *raster.Image) *raster.Image {
	usual := k.usualDifference(m)
	out := raster.NewImage(m.Rect)
	w := m.Rect.Dx()
	var fall [3]float32 // of a squared difference, to that of grain
	for c, noise := range k.noise {
		if noise > 0 {
			fall[c] = float32(1 / (2 * noise * noise))
		}
	}
	// First without what is far from usual, then what does not fit around it counts less and less.
	for pass := range 2 {
		before, tolerance := out, float32(1.0/36) // six standard deviations
		if pass > 0 {
			tolerance = 1.0 / 6
		}
		out = raster.NewImage(m.Rect)
		raster.Rows(0, m.Rect.Dy(), func(y int) {
			for i := y * w; i < (y+1)*w; i++ {
				p, own, to := m.Pix[4*i:4*i+4:4*i+4], k.out.Pix[4*i:4*i+4:4*i+4], out.Pix[4*i:4*i+4:4*i+4]
				if p[3] < 0.999 {
					continue
				}
				expected := usual
				if pass > 0 {
					expected = [3]float32(before.Pix[4*i:])
				}
				var worst float32
				for c := range expected {
					to[c] = p[c] - own[c]
					off := to[c] - expected[c]
					if off *= off * fall[c]; off > worst {
						worst = off
					}
				}
				over := worst * tolerance
				wt := 1 / (1 + over*over)
				to[0], to[1], to[2], to[3] = wt*to[0], wt*to[1], wt*to[2], wt
			}
		})
		out = raster.Broad(out, denoiseBroad)
		raster.Rows(0, m.Rect.Dy(), func(y int) {
			for i := y * w; i < (y+1)*w; i++ {
				// Where nothing fits it is as usual.
				const little = 0.02
				for c := range 3 {
					out.Pix[4*i+c] = (out.Pix[4*i+c] + little*usual[c]) / (out.Pix[4*i+3] + little)
				}
			}
		})
	}
	return out
}

// usualDifference is the median of how much lighter another frame is, by channel.
func (k *TemporalDenoiser) usualDifference(m *raster.Image) (usual [3]float32) {
	step := max(1, len(m.Pix)/4/4000)
	for c := range usual {
		var all []float32
		for i := 0; i < len(m.Pix)/4; i += step {
			if m.Pix[4*i+3] >= 0.999 {
				all = append(all, m.Pix[4*i+c]-k.out.Pix[4*i+c])
			}
		}
		if len(all) > 0 {
			slices.Sort(all)
			usual[c] = all[len(all)/2]
		}
	}
	return usual
}

// ownWeight is how much the frame itself counts among those that help. As one of them, what is taken
// out of it would be weaker than grain, sqrt(W/(W+1)) of it with W frames that help. Counting half it
// is as strong: with a weight of w it is sqrt(W²+W)/(W+w), which is 1 where w is 1/2 - 1/(8W) and less
// small terms; and what stays is hardly more, 0.338 of its strength instead of 0.333 with eight.
const ownWeight = 0.5

// GrainLeft returns the share of grain's strength that stays in a frame of which all of it is taken
// out with the help of so many others.
func GrainLeft(helpers int) float64 {
	w := float64(helpers)
	return math.Sqrt(w+ownWeight*ownWeight) / (w + ownWeight)
}

// Denoise returns the frame with its grain reduced: by what the other frames say, and
// where they say little by its surroundings. strength is the share of each
// channel's grain that is taken out.
func (k *TemporalDenoiser) Denoise(m *raster.Image, strength [3]float64) *raster.Image {
	const enough = 4 // frames that help: then nothing needs to be smoothed over
	spatial := Denoise(m, 3)
	out := m.Crop(m.Rect)
	n := len(k.sum) / 3
	w := m.Rect.Dx()
	raster.Rows(0, m.Rect.Dy(), func(y int) {
		for i := y * w; i < (y+1)*w; i++ {
			for c := range 3 {
				weight := k.weight[c*n+i]
				v := (ownWeight*k.out.Pix[4*i+c] + k.sum[c*n+i]) / (ownWeight + weight)
				if share := min(weight/enough, 1); share < 1 {
					s := float32(math.Sqrt(float64(max(spatial.Pix[4*i+c], 0))))
					v = s + (v-s)*share
				}
				v = max(v, 0)
				out.Pix[4*i+c] += (v*v - m.Pix[4*i+c]) * float32(strength[c])
			}
		}
	})
	return out
}
