package demo

import "math"

// hash mixes its arguments to 64 well-spread bits (the finaliser of
// splitmix64, Steele, Lea & Flood 2014), so that every value of the demo is a
// function of where it stands and never of the order in which it was asked for.
func hash(v ...uint64) uint64 {
	h := uint64(0x9e3779b97f4a7c15)
	for _, x := range v {
		h ^= x + 0x9e3779b97f4a7c15 + h<<6 + h>>2
		h ^= h >> 30
		h *= 0xbf58476d1ce4e5b9
		h ^= h >> 27
		h *= 0x94d049bb133111eb
		h ^= h >> 31
	}
	return h
}

// unit returns a number in [0, 1).
func unit(v ...uint64) float64 { return float64(hash(v...)>>11) / (1 << 53) }

// lattice returns smooth noise of about -1 to 1 that changes over a distance of
// 1 (value noise with a quintic fade, Perlin 2002).
func lattice(seed uint64, x, y float64) float64 {
	xf, yf := math.Floor(x), math.Floor(y)
	xi, yi := uint64(int64(xf)), uint64(int64(yf))
	fade := func(t float64) float64 { return t * t * t * (t*(t*6-15) + 10) }
	u, v := fade(x-xf), fade(y-yf)
	at := func(i, j uint64) float64 {
		h := seed*0x9e3779b97f4a7c15 ^ i*0xc2b2ae3d27d4eb4f ^ j*0x165667b19e3779f9
		h = (h ^ h>>30) * 0xbf58476d1ce4e5b9
		h = (h ^ h>>27) * 0x94d049bb133111eb
		return float64(int64(h^h>>31)) / (1 << 63)
	}
	a, b := at(xi, yi), at(xi+1, yi)
	c, d := at(xi, yi+1), at(xi+1, yi+1)
	top, low := a+(b-a)*u, c+(d-c)*u
	return top + (low-top)*v
}

// clouds adds octaves of smooth noise, each half as strong and half as wide.
func clouds(seed uint64, x, y float64, octaves int) float64 {
	var sum float64
	amp := 0.5
	for k := range octaves {
		sum += amp * lattice(seed+uint64(k)*7919, x, y)
		x, y, amp = x*2.03+17.1, y*2.03-9.7, amp/2
	}
	return sum
}

// sway is a slow, smooth wandering over time t of about -1 to 1.
func sway(seed uint64, t float64) float64 {
	return 1.6 * (lattice(seed, t, 0.5)*0.7 + lattice(seed+1, t*2.3, 0.5)*0.3)
}

func step(a, b, v float64) float64 {
	t := math.Min(math.Max((v-a)/(b-a), 0), 1)
	return t * t * (3 - 2*t)
}
