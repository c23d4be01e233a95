package colorspace

import (
	"math"

	"jardin/core/simd"
)

// A Coder turns code values of one kind into linear light and back by tables. Every
// code value survives the round trip. Code values are integers of 8 to 16 bits, or
// half floats by their bits.
type Coder struct {
	transfer Transfer
	half     bool
	max      int
	decode   []float32
	// Of integers:
	bottom, top float32  // the light of the first and the last code value
	encode      []uint16 // by position along the square root of light
	coarse      bool     // there are more code values than places
	edges       []float32
}

// NewCoder returns the tables for a transfer function at a depth of 8 to 16 bits.
func NewCoder(t Transfer, depth int) *Coder {
	max := 1<<depth - 1
	c := &Coder{transfer: t, max: max, decode: make([]float32, max+1), edges: make([]float32, max)}
	for v := range c.decode {
		c.decode[v] = float32(t.Decode(float64(v) / float64(max)))
	}
	c.bottom, c.top = c.decode[0], c.decode[max]
	// The light at which rounding goes up from one code value to the next.
	for v := range c.edges {
		c.edges[v] = float32(t.Decode((float64(v) + 0.5) / float64(max)))
	}
	if t != ACEScct {
		c.encode = make([]uint16, steps+2)
		for i := range c.encode {
			s := float64(i) / steps
			c.encode[i] = uint16(math.Min(math.Max(t.Encode(s*s)*float64(max)+0.5, 0), float64(max)))
		}
		c.encode[steps+1] = c.encode[steps]
		c.coarse = max > steps
	}
	return c
}

// NewHalfCoder returns the table for half floats (IEEE 754 binary16), whose values,
// not their bits, a transfer function relates to light.
func NewHalfCoder(t Transfer) *Coder {
	c := &Coder{transfer: t, half: true, max: math.MaxUint16, decode: make([]float32, 1<<16)}
	for v := range c.decode {
		c.decode[v] = FromHalf(uint16(v)) // also what is not a number keeps its bits
		if t != Linear {
			c.decode[v] = float32(t.Decode(float64(c.decode[v])))
		}
	}
	return c
}

const steps = 1 << 12

// Max returns the largest code value.
func (c *Coder) Max() int { return c.max }

// White returns the light of the largest code value: infinity for half floats.
func (c *Coder) White() float32 {
	if c.half {
		return float32(math.Inf(1))
	}
	return c.top
}

// Transfer returns the transfer function.
func (c *Coder) Transfer() Transfer { return c.transfer }

// Decode returns the linear light of a code value.
func (c *Coder) Decode(v uint16) float32 { return c.decode[v] }

// Encode returns the nearest code value for linear light. Light that is beyond what
// integers can hold is clamped, and so is NaN (to 0).
func (c *Coder) Encode(l float32) uint16 {
	if c.half {
		if c.transfer == Linear {
			return ToHalf(l)
		}
		return ToHalf(float32(c.transfer.Encode(float64(l))))
	}
	if !(l > c.bottom) {
		return 0
	}
	if l >= c.top {
		return uint16(c.max)
	}
	if c.encode != nil {
		return c.near(l, float32(math.Sqrt(float64(l)))*steps)
	}
	return c.exact(l, int(math.Min(math.Max(c.transfer.Encode(float64(l))*float64(c.max), 0), float64(c.max))))
}

// EncodePixels encodes the colours of pixels of RGBA that have any alpha; the codes of others stay as they are.
func (c *Coder) EncodePixels(rgb []uint16, rgba []float32) {
	if c.half && c.transfer == Linear {
		halves(rgb, rgba)
		return
	}
	if c.encode == nil {
		for i, j := 0, 0; i+4 <= len(rgba); i, j = i+4, j+3 {
			if rgba[i+3] != 0 {
				rgb[j], rgb[j+1], rgb[j+2] = c.Encode(rgba[i]), c.Encode(rgba[i+1]), c.Encode(rgba[i+2])
			}
		}
		return
	}
	var places [256]float32 // along the table
	for ; len(rgba) >= 4; rgb, rgba = rgb[min(len(places)/4*3, len(rgb)):], rgba[min(len(places), len(rgba)):] {
		part := rgba[:min(len(places), len(rgba))]
		simd.Roots(places[:len(part)], part, steps, steps)
		for i, j := 0, 0; i+4 <= len(part); i, j = i+4, j+3 {
			if part[i+3] != 0 {
				p, at, out := part[i:i+3:i+3], places[i:i+3:i+3], rgb[j:j+3:j+3]
				out[0], out[1], out[2] = c.near(p[0], at[0]), c.near(p[1], at[1]), c.near(p[2], at[2])
			}
		}
	}
}

// halves is EncodePixels for half floats of light: most of it is neither too large for them nor too small.
func halves(rgb []uint16, rgba []float32) {
	for ; len(rgba) >= 4 && len(rgb) >= 3; rgb, rgba = rgb[3:], rgba[4:] {
		if rgba[3] == 0 {
			continue
		}
		for k, v := range rgba[:3] {
			if bits := math.Float32bits(v); bits&0x7fffffff-leastNormal < pastLargest-leastNormal {
				rgb[k] = normalHalf(bits)
			} else {
				rgb[k] = ToHalf(v)
			}
		}
	}
}

// Floats, by their bits, between which half floats have eleven bits of them.
const (
	leastNormal = 0x38800000 // 2^-14
	pastLargest = 0x477ff000 // rounded, it is beyond 65504
)

// near returns the code value of light that lies at a place of the table.
func (c *Coder) near(l, at float32) uint16 {
	k := int(at)
	v := int(c.encode[k])
	if c.coarse { // between two places it goes nearly evenly: a code or two are left to find
		v += int(float32(int(c.encode[k+1])-v) * (at - float32(k)))
	}
	return c.exact(l, v)
}

// exact returns the nearest code value, from one that is near.
func (c *Coder) exact(l float32, v int) uint16 {
	for v < c.max && l >= c.edges[v] {
		v++
	}
	for v > 0 && l < c.edges[v-1] {
		v--
	}
	return uint16(v)
}

// FromHalf returns the value of a half float (IEEE 754 binary16).
func FromHalf(h uint16) float32 {
	sign, exponent, fraction := uint32(h>>15)<<31, uint32(h>>10)&31, uint32(h)&1023
	switch exponent {
	case 0:
		v := float32(fraction) / (1 << 24)
		return math.Float32frombits(math.Float32bits(v) | sign)
	case 31:
		return math.Float32frombits(sign | 0x7f800000 | fraction<<13)
	}
	return math.Float32frombits(sign | (exponent+112)<<23 | fraction<<13)
}

// ToHalf returns the half float nearest to a value, ties to even.
func ToHalf(f float32) uint16 {
	all := math.Float32bits(f)
	sign, bits := uint16(all>>16&0x8000), all&0x7fffffff
	switch {
	case bits > 0x7f800000: // not a number: as much of it as fits stays
		return sign | 0x7c00 | max(uint16(bits>>13&1023), 1)
	case bits >= pastLargest:
		return sign | 0x7c00
	case bits < leastNormal: // below the least normal: in units of 2^-24
		v := math.RoundToEven(float64(math.Float32frombits(bits)) * (1 << 24))
		return sign | uint16(v)
	}
	return normalHalf(all)
}

// normalHalf is ToHalf of the bits of a float between leastNormal and pastLargest.
func normalHalf(bits uint32) uint16 {
	rounded := bits&0x7fffffff + 0xfff + bits>>13&1 // to the nearest, ties to even
	return uint16(bits>>16&0x8000 | (rounded-112<<23)>>13)
}
