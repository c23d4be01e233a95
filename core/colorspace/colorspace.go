// Package colorspace relates code values to light: the transfer functions a
// plate may be encoded with, and the luma its pixels are matched on.
package colorspace

import (
	"fmt"
	"math"
)

// A Transfer names the relation between a normalised code value, 0 to 1, and
// linear light, 0 to 1.
type Transfer string

const (
	SRGB   Transfer = "srgb"   // IEC 61966-2-1:1999
	BT709  Transfer = "bt709"  // Rec. ITU-R BT.709-6, item 1.2, inverted
	Linear Transfer = "linear" // code values are light
)

// Transfers lists every transfer function in the order it is offered.
var Transfers = []Transfer{SRGB, BT709, Linear}

// Valid returns an error that lists the choices if t is none of them.
func (t Transfer) Valid() error {
	for _, known := range Transfers {
		if t == known {
			return nil
		}
	}
	return fmt.Errorf("transfer function %q is not known: choose one of %v", string(t), Transfers)
}

// BT.709 states its constants to three digits, 1.099 and 0.018, with which the
// two pieces miss each other by 2.4e-4: 16 code values of 65,536 would have no
// light of their own. These are the numbers that were rounded, for which the
// pieces meet with the same slope; Rec. ITU-R BT.2020 gives them to four digits
// for 12-bit systems, 1.0993 and 0.0181.
const (
	alpha709 = 1.09929682680944
	beta709  = 0.018053968510807
)

// Decode returns the linear light of a normalised code value.
func (t Transfer) Decode(v float64) float64 {
	switch t {
	case SRGB:
		if v <= 0.04045 {
			return v / 12.92
		}
		return math.Pow((v+0.055)/1.055, 2.4)
	case BT709:
		if v < 4.5*beta709 {
			return v / 4.5
		}
		return math.Pow((v+alpha709-1)/alpha709, 1/0.45)
	}
	return v
}

// Encode returns the normalised code value of linear light. Light outside 0 to
// 1 is encoded by the same formulas; rounding to a depth clamps.
func (t Transfer) Encode(l float64) float64 {
	switch t {
	case SRGB:
		if l <= 0.0031308 {
			return l * 12.92
		}
		return 1.055*math.Pow(l, 1/2.4) - 0.055
	case BT709:
		if l < beta709 {
			return l * 4.5
		}
		return alpha709*math.Pow(l, 0.45) - (alpha709 - 1)
	}
	return l
}

// A Coder turns integer code values of one depth into linear light and back
// by tables. Every code value survives the round trip.
type Coder struct {
	max    int
	decode []float32
	encode []uint16 // by position along the square root of light
	edges  []float32
}

// NewCoder returns the tables for a transfer function at 8 or 16 bits.
func NewCoder(t Transfer, depth int) *Coder {
	top := 1<<depth - 1
	c := &Coder{max: top, decode: make([]float32, top+1), edges: make([]float32, top)}
	for v := range c.decode {
		c.decode[v] = float32(t.Decode(float64(v) / float64(top)))
	}
	// The light at which rounding goes up from one code value to the next.
	for v := range c.edges {
		c.edges[v] = float32(t.Decode((float64(v) + 0.5) / float64(top)))
	}
	c.encode = make([]uint16, steps+1)
	for i := range c.encode {
		s := float64(i) / steps
		c.encode[i] = uint16(math.Min(math.Max(t.Encode(s*s)*float64(top), 0), float64(top)))
	}
	return c
}

const steps = 1 << 12

// Max returns the largest code value.
func (c *Coder) Max() int { return c.max }

// Decode returns the linear light of a code value.
func (c *Coder) Decode(v uint16) float32 { return c.decode[v] }

// Encode returns the nearest code value for linear light. Light outside 0 to 1
// is clamped, and so is NaN (to 0).
func (c *Coder) Encode(l float32) uint16 {
	if !(l > 0) {
		return 0
	}
	if l >= 1 {
		return uint16(c.max)
	}
	v := int(c.encode[int(float32(math.Sqrt(float64(l)))*steps)])
	for v < c.max && l >= c.edges[v] {
		v++
	}
	for v > 0 && l < c.edges[v-1] {
		v--
	}
	return uint16(v)
}

// Luma is the weighted sum of BT.709 primaries (Rec. ITU-R BT.709-6, item 3.2),
// as luminance of linear values or as luma of encoded ones.
func Luma(r, g, b float32) float32 { return 0.2126*r + 0.7152*g + 0.0722*b }

// Lab returns the CIE 1976 L*a*b* of linear light with BT.709 primaries under D65
// (IEC 61966-2-1 for the matrix, CIE 15:2004 for the rest). L* runs from 0 to 100;
// the distance of two colours is their colour difference.
func Lab(r, g, b float64) (l, a, bb float64) {
	f := func(v float64) float64 {
		if v > 216.0/24389 {
			return math.Cbrt(v)
		}
		return (24389.0/27*v + 16) / 116
	}
	x := f((0.4124564*r + 0.3575761*g + 0.1804375*b) / 0.95047)
	y := f(0.2126729*r + 0.7151522*g + 0.0721750*b)
	z := f((0.0193339*r + 0.1191920*g + 0.9503041*b) / 1.08883)
	return 116*y - 16, 500 * (x - y), 200 * (y - z)
}
