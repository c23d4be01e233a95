package colorspace

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Published values. sRGB: IEC 61966-2-1:1999 gives the thresholds 0.04045 and
// 0.0031308, and the 8-bit code 188 is the well-known neighbour of half light
// (0.5 encodes to 0.7354, code 187.5).
func TestPublishedValues(t *testing.T) {
	cases := []struct {
		transfer    Transfer
		light, code float64
	}{
		{SRGB, 0, 0}, {SRGB, 1, 1}, {SRGB, 0.5, 0.735357}, {SRGB, 0.0031308, 0.040450},
		{SRGB, 0.214041, 0.5}, {SRGB, 0.18, 0.461356},
		{BT709, 0, 0}, {BT709, 1, 1}, {BT709, 0.01, 0.045},
		{Linear, 0.37, 0.37},
	}
	for _, c := range cases {
		assert.InDelta(t, c.code, c.transfer.Encode(c.light), 2e-5, "%s encodes %v", c.transfer, c.light)
		assert.InDelta(t, c.light, c.transfer.Decode(c.code), 2e-5, "%s decodes %v", c.transfer, c.code)
	}
}

// Item 1.2 of Rec. ITU-R BT.709-6, as printed: V = 1.099 L^0.45 - 0.099 for L of
// at least 0.018, else 4.5 L. The printed constants are rounded, so the curves
// may differ by less than half a step of the 10 bits that they were rounded for.
func TestBT709AgainstThePrintedFormula(t *testing.T) {
	for i := range 1001 {
		l := float64(i) / 1000
		want := 4.5 * l
		if l >= 0.018 {
			want = 1.099*math.Pow(l, 0.45) - 0.099
		}
		assert.InDelta(t, want, BT709.Encode(l), 0.5/1023, "light %v", l)
	}
	assert.InDelta(t, 1.0993, alpha709, 5e-5, "BT.2020 table 4, 12 bits")
	assert.InDelta(t, 0.0181, beta709, 5e-5, "BT.2020 table 4, 12 bits")
}

func TestEveryCodeValueSurvives(t *testing.T) {
	for _, transfer := range Transfers {
		for _, depth := range []int{8, 10, 12, 16} {
			c := NewCoder(transfer, depth)
			for v := 0; v <= c.Max(); v++ {
				if got := c.Encode(c.Decode(uint16(v))); int(got) != v {
					t.Fatalf("%s %d bit: code %d came back as %d", transfer, depth, v, got)
				}
			}
		}
	}
}

func TestEncodeRoundsToNearestAndClamps(t *testing.T) {
	c := NewCoder(SRGB, 8)
	for i := range 20000 {
		l := float64(i) / 19999
		want := math.Round(SRGB.Encode(l) * 255)
		got := float64(c.Encode(float32(l)))
		exact := SRGB.Encode(l) * 255
		if got != want && math.Abs(exact-math.Floor(exact)-0.5) > 1e-3 {
			t.Fatalf("light %v: got %v, want %v", l, got, want)
		}
	}
	assert.EqualValues(t, 0, c.Encode(-3))
	assert.EqualValues(t, 255, c.Encode(7))
	assert.EqualValues(t, 0, c.Encode(float32(math.NaN())))
}

func TestUnknownTransferIsNamed(t *testing.T) {
	assert.ErrorContains(t, Transfer("odd").Valid(), `"odd"`)
	assert.NoError(t, BT709.Valid())
}

// Pixels are encoded as one by one, to the nearest code value: of random light, of light just beside each edge, and of the worst.
func TestPixelsAreEncodedAsOneByOne(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 16))
	for _, transfer := range []Transfer{SRGB, BT709, BT1886, Gamma22, Gamma24, Gamma26, Linear, ACEScct} {
		for _, depth := range []int{8, 10, 12, 16} {
			c := NewCoder(transfer, depth)
			light := []float32{0, -1, 1, 2, 1e-30, 1e30, float32(math.NaN()), float32(math.Inf(1)), float32(math.Inf(-1)), float32(math.Copysign(0, -1))}
			for range 3000 {
				edge := c.edges[rng.IntN(len(c.edges))]
				light = append(light, 1.1*rng.Float32(), edge, math.Nextafter32(edge, 0), math.Nextafter32(edge, 9))
			}
			for len(light)%3 != 0 {
				light = append(light, 0.5)
			}
			var rgba []float32
			for i := 0; i < len(light); i += 3 {
				rgba = append(rgba, light[i], light[i+1], light[i+2], float32(i%2))
			}
			got := make([]uint16, len(light))
			c.EncodePixels(got, rgba)
			for i, l := range light {
				want, _ := slices.BinarySearchFunc(c.edges, l, func(edge, l float32) int { // how many edges lie at or below it
					if edge <= l {
						return -1
					}
					return 1
				})
				if l != l {
					want = 0
				}
				require.EqualValues(t, want, c.Encode(l), "%s, %d bits, %v", transfer, depth, l)
				if i/3*3%2 == 0 {
					want = 0 // without alpha
				}
				require.EqualValues(t, want, got[i], "%s, %d bits, %v", transfer, depth, l)
			}
		}
	}
}
