// Package colorspace relates code values to light: the transfer functions and
// primaries a plate may be encoded with, and the luma its pixels are matched on.
package colorspace

import (
	"fmt"
	"math"
)

// A Transfer names the relation between a normalised code value, 0 to 1, and
// linear light, of which 1 is a diffuse white.
type Transfer string

const (
	SRGB    Transfer = "srgb"    // IEC 61966-2-1:1999
	BT709   Transfer = "bt709"   // Rec. ITU-R BT.709-6, item 1.2, inverted
	BT1886  Transfer = "bt1886"  // Rec. ITU-R BT.1886, Annex 1, for a black of no light
	Gamma22 Transfer = "gamma22" // a power of 2.2
	Gamma24 Transfer = "gamma24" // a power of 2.4
	Gamma26 Transfer = "gamma26" // a power of 2.6, SMPTE ST 428-1
	Linear  Transfer = "linear"  // code values are light
	ACEScct Transfer = "acescct" // Academy S-2016-001; reaches up to 222.86
)

// Transfers lists every transfer function in the order it is offered.
var Transfers = []Transfer{SRGB, BT709, BT1886, Gamma22, Gamma24, Gamma26, Linear, ACEScct}

// power returns the exponent of a transfer function that is nothing but one.
func (t Transfer) power() (float64, bool) {
	switch t {
	case BT1886, Gamma24:
		return 2.4, true
	case Gamma22:
		return 2.2, true
	case Gamma26:
		return 2.6, true
	}
	return 1, false
}

// Academy S-2016-001, section 4.4: the light at which the logarithm takes over from a
// straight line, and that line.
const (
	cctBreak = 0.0078125
	cctSlope = 10.5402377416545
	cctFoot  = 0.0729055341958355
)

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
		return power((v+0.055)/1.055, 2.4)
	case BT709:
		if v < 4.5*beta709 {
			return v / 4.5
		}
		return power((v+alpha709-1)/alpha709, 1/0.45)
	case ACEScct:
		if v <= cctSlope*cctBreak+cctFoot {
			return (v - cctFoot) / cctSlope
		}
		return math.Exp2(v*17.52 - 9.72)
	}
	if g, ok := t.power(); ok {
		return math.Copysign(power(math.Abs(v), g), v)
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
		return 1.055*power(l, 1/2.4) - 0.055
	case BT709:
		if l < beta709 {
			return l * 4.5
		}
		return alpha709*power(l, 0.45) - (alpha709 - 1)
	case ACEScct:
		if l <= cctBreak {
			return cctSlope*l + cctFoot
		}
		return (math.Log2(l) + 9.72) / 17.52
	}
	if g, ok := t.power(); ok {
		return math.Copysign(power(math.Abs(l), 1/g), l)
	}
	return l
}

// A Mix are weights of red, green and blue.
type Mix [3]float32

// LumaMix is that of Luma.
var LumaMix = Mix{0.2126, 0.7152, 0.0722}

// Luma is the weighted sum of BT.709 primaries (Rec. ITU-R BT.709-6, item 3.2),
// as luminance of linear values or as luma of encoded ones.
func Luma(red, g, b float32) float32 { return 0.2126*red + 0.7152*g + 0.0722*b }

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
