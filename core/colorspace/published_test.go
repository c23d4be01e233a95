package colorspace

import (
	"encoding/binary"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Academy S-2016-001 (ACEScct), from memory: the constants of section 4.4 and the
// values that it puts beside the formula; 18 % grey stands at 0.4135884.
func TestACEScct(t *testing.T) {
	for light, code := range map[float64]float64{
		0.0078125: 0.155251141552511, // X_BRK and Y_BRK
		0.18:      0.413588402,
		1:         9.72 / 17.52, // log2 of 1 is 0
		222.86094: 1,
		0:         0.0729055341958355,
	} {
		assert.InDelta(t, code, ACEScct.Encode(light), 1e-8, "light %v", light)
		assert.InEpsilon(t, light+1, ACEScct.Decode(code)+1, 1e-6, "code %v", code)
	}
	assert.InDelta(t, ACEScct.Encode(cctBreak-1e-12), ACEScct.Encode(cctBreak+1e-12), 1e-9, "the pieces meet")
}

// Rec. ITU-R BT.1886, Annex 1, from memory: L = a max(V + b, 0)^2.4 with
// a = (Lw^(1/2.4) - Lb^(1/2.4))^2.4; for Lw = 1 and Lb = 0 a is 1 and b is 0.
func TestPowers(t *testing.T) {
	lw, lb := 1.0, 0.0
	a := math.Pow(math.Pow(lw, 1/2.4)-math.Pow(lb, 1/2.4), 2.4)
	for _, v := range []float64{0, 0.1, 0.5, 0.75, 1} {
		assert.InDelta(t, a*math.Pow(v, 2.4), BT1886.Decode(v), 1e-12)
		assert.InDelta(t, math.Pow(v, 2.2), Gamma22.Decode(v), 1e-12)
		assert.InDelta(t, math.Pow(v, 2.6), Gamma26.Decode(v), 1e-12)
	}
	for _, transfer := range Transfers {
		for _, l := range []float64{-0.5, -0.001, 0, 0.001, 0.18, 0.9, 4} {
			assert.InDelta(t, l, transfer.Decode(transfer.Encode(l)), 1e-9, "%s of %v", transfer, l)
		}
	}
}

// The normalised primary matrices as they are printed, from memory: SMPTE ST 2065-1
// (AP0), Academy S-2014-004 (AP1), and the luminance weights of Rec. ITU-R BT.709-6,
// Rec. ITU-R BT.2020-2 and SMPTE ST 2113 (P3-D65).
func TestPrimariesAgainstPrintedMatrices(t *testing.T) {
	printed := map[Primaries]Matrix{
		AP0Primaries: {
			{0.9525523959, 0, 0.0000936786},
			{0.3439664498, 0.7281660966, -0.0721325464},
			{0, 0, 1.0088251844},
		},
		AP1Primaries: {
			{0.6624541811, 0.1340042065, 0.1561876870},
			{0.2722287168, 0.6740817658, 0.0536895174},
			{-0.0055746495, 0.0040607335, 1.0103391003},
		},
	}
	for p, want := range printed {
		got := p.XYZ()
		for i := range want {
			for k := range want[i] {
				assert.InDelta(t, want[i][k], got[i][k], 2e-10, "%s %d %d", p, i, k)
			}
		}
	}
	for p, want := range map[Primaries][3]float64{
		BT709Primaries: {0.2126, 0.7152, 0.0722}, BT2020Primaries: {0.2627, 0.6780, 0.0593}, P3D65Primaries: {0.22897,
			0.69174, 0.07929},
	} {
		got := p.XYZ()
		for k := range want {
			assert.InDelta(t, want[k], got[1][k], 5.1e-5, "luminance of %s", p)
		}
	}
	// White stays white, whatever its colour.
	for _, a := range AllPrimaries {
		for _, b := range AllPrimaries {
			m := a.To(b)
			for _, v := range m.Apply([3]float32{1, 1, 1}) {
				assert.InDelta(t, 1, v, 1e-5, "%s to %s", a, b)
			}
		}
	}
	// Rec. ITU-R BT.2087-0 prints BT.709 to BT.2020.
	m := BT709Primaries.To(BT2020Primaries)
	printed2087 := Matrix{{0.6274, 0.3293, 0.0433}, {0.0691, 0.9195, 0.0114}, {0.0164, 0.0880, 0.8956}}
	for i, row := range printed2087 {
		for k := range row {
			assert.InDelta(t, row[k], m[i][k], 6e-5)
		}
	}
	assert.ErrorContains(t, Primaries("odd").Valid(), `"odd"`)
}

func TestEveryHalfFloatSurvives(t *testing.T) {
	linear, cct := NewHalfCoder(Linear), NewHalfCoder(ACEScct)
	for v := range 1 << 16 {
		h := uint16(v)
		back := ToHalf(FromHalf(h))
		if back != h || linear.Encode(linear.Decode(h)) != h {
			t.Fatalf("half %04x came back as %04x", h, back)
		}
	}
	for v := 0x2000; v < 0x3c00; v++ { // up to 1
		assert.InDelta(t, v, int(cct.Encode(cct.Decode(uint16(v)))), 1)
	}
}

// NumPy's float16 as the reference.
func TestHalfFloatsAgainstNumPy(t *testing.T) {
	dir := t.TempDir()
	rng := rand.New(rand.NewPCG(1, 2))
	in := make([]byte, 4*20000)
	for i := range 20000 {
		bits := rng.Uint32()
		if i%2 == 0 { // where half floats are
			bits = bits&0x807fffff | (uint32(95+rng.IntN(60)) << 23)
		}
		binary.LittleEndian.PutUint32(in[4*i:], bits)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in"), in, 0o644))
	script := "import numpy as np; np.seterr(all='ignore'); np.fromfile('in', '<f4').astype('<f2').tofile('out')"
	cmd := exec.Command("/usr/bin/python3", "-c", script)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	want, err := os.ReadFile(filepath.Join(dir, "out"))
	require.NoError(t, err)
	for i := range 20000 {
		f := math.Float32frombits(binary.LittleEndian.Uint32(in[4*i:]))
		h := binary.LittleEndian.Uint16(want[2*i:])
		if f != f {
			assert.True(t, FromHalf(ToHalf(f)) != FromHalf(ToHalf(f)), "not a number stays that")
			continue
		}
		require.Equal(t, h, ToHalf(f), "%v", f)
	}
}

// Pixels of half floats are encoded as one by one, whatever they hold; what has no alpha stays.
func TestPixelsOfHalfFloats(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 1))
	c := NewHalfCoder(Linear)
	for range 300 {
		rgba, rgb := make([]float32, 4*(1+rng.IntN(40))), []uint16(nil)
		for i := range rgba {
			rgba[i] = math.Float32frombits(rng.Uint32())
			if rng.IntN(3) > 0 {
				rgba[i] = float32(math.Exp(12*rng.Float64() - 10))
			}
			if rng.IntN(3) == 0 { // in the middle between two half floats
				rgba[i] = math.Float32frombits(math.Float32bits(rgba[i])&^0x1fff | 0x1000)
			}
			if i%4 == 3 {
				rgba[i] = float32(rng.IntN(3)) / 2
			}
		}
		want := make([]uint16, len(rgba)/4*3)
		for i := range want {
			want[i] = uint16(rng.Uint32())
		}
		rgb = append(rgb, want...)
		for i := range want {
			if rgba[i/3*4+3] != 0 {
				want[i] = c.Encode(rgba[i/3*4+i%3])
			}
		}
		c.EncodePixels(rgb, rgba)
		require.Equal(t, want, rgb)
	}
}
