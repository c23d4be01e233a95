package colorspace

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// written is a table as a file, as the specification has it.
func written(rng *rand.Rand, grid bool, size int, low, high float64) string {
	var out strings.Builder
	n, kind := size, "1D"
	if grid {
		n, kind = size*size*size, "3D"
	}
	fmt.Fprintf(&out, "# made up\nTITLE \"Hot house\"\nLUT_%s_SIZE %d\n", kind, size)
	if low != 0 || high != 1 {
		fmt.Fprintf(&out, "DOMAIN_MIN %g %g %g\nDOMAIN_MAX %g %g %g\n", low, low, low, high, high, high)
	}
	for range n {
		fmt.Fprintf(&out, "%.6f %.6f %.6f\n", rng.Float64(), rng.Float64(), rng.Float64())
	}
	return out.String()
}

// FFmpeg's lut1d and lut3d read the same files and look the same values up, to within what 16 bits tell.
func TestCubesAsFFmpegReadsThem(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 1))
	const n = 4000
	for _, grid := range []bool{true, false} {
		for _, size := range []int{2, 5, 17, 33} {
			text := written(rng, grid, size, 0, 1)
			c, err := ReadCube([]byte(text))
			require.NoError(t, err)
			assert.Equal(t, "Hot house", c.Title)
			path := filepath.Join(t.TempDir(), "a.cube")
			require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
			in := make([]byte, 6*n)
			for i := range 3 * n {
				binary.LittleEndian.PutUint16(in[2*i:], uint16(rng.UintN(65536)))
			}
			filter := "lut1d=file=" + path + ":interp=linear"
			if grid {
				filter = "lut3d=file=" + path + ":interp=trilinear"
			}
			var out, said bytes.Buffer
			cmd := exec.Command("ffmpeg", "-v", "error", "-f", "rawvideo", "-pix_fmt", "rgb48le", "-s", fmt.Sprintf("%dx1", n),
				"-i", "-", "-vf", filter, "-f", "rawvideo", "-pix_fmt", "rgb48le", "-")
			cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(in), &out, &said
			require.NoError(t, cmd.Run(), said.String())
			require.Equal(t, 6*n, out.Len())
			worst := 0.0
			for i := range n {
				var v [3]float32
				for k := range v {
					v[k] = float32(binary.LittleEndian.Uint16(in[6*i+2*k:])) / 65535
				}
				for k, got := range c.Apply(v) {
					theirs := float64(binary.LittleEndian.Uint16(out.Bytes()[6*i+2*k:]))
					worst = math.Max(worst, math.Abs(float64(got)*65535-theirs))
				}
			}
			assert.Less(t, worst, 2.0, "grid %v, size %d", grid, size)
		}
	}
}

// At its nodes a table is what the file says, whatever its domain; beyond, its border goes on; nothing is no number.
func TestCubesAtTheirNodesAndBeyond(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 2))
	for range 40 {
		grid, size := rng.IntN(2) == 0, 2+rng.IntN(9)
		low := rng.Float64() - 0.5
		high := low + 0.2 + rng.Float64()
		c, err := ReadCube([]byte(written(rng, grid, size, low, high)))
		require.NoError(t, err)
		at := [3]int{rng.IntN(size), rng.IntN(size), rng.IntN(size)}
		var v [3]float32
		for k := range v {
			v[k] = c.Min[k] + (c.Max[k]-c.Min[k])*float32(at[k])/float32(size-1)
		}
		want := c.Table[at[0]]
		if grid {
			want = c.Table[at[0]+size*(at[1]+size*at[2])]
		} else {
			want[1], want[2] = c.Table[at[1]][1], c.Table[at[2]][2]
		}
		for k, got := range c.Apply(v) {
			assert.InDelta(t, want[k], got, 2e-5)
		}
		far := float32(math.Inf(1))
		assert.Equal(t, c.Apply(c.Max), c.Apply([3]float32{far, 7, 1e30}))
		assert.Equal(t, c.Apply(c.Min), c.Apply([3]float32{-far, -7, float32(math.NaN())}))
	}
}

func TestCubesThatAreWrongSaySo(t *testing.T) {
	for text, words := range map[string]string{
		"":                                              "no LUT_1D_SIZE",
		"LUT_3D_SIZE 2\n0 0 0":                          "after 1 of 8",
		"LUT_1D_SIZE 2\n0 0 0\n1 1 1\n1 1 1":            "line 4: there are more than 2",
		"LUT_1D_SIZE 1":                                 "line 1: LUT_1D_SIZE needs one number from 2 to 65536",
		"LUT_3D_SIZE 999999999":                         "from 2 to 129",
		"LUT_3D_SIZE -4":                                "from 2 to 129",
		"LUT_3D_SIZE 2\nLUT_1D_SIZE 2":                  "line 2: a second table",
		"LUT_1D_SIZE 2\n0 0\n":                          "line 2: 2 numbers in place of three",
		"LUT_1D_SIZE 2\n0 0 nan\n":                      "is not a number",
		"LUT_1D_SIZE 2\n0 0 1e999\n":                    "is not a number",
		"LUT_1D_SIZE 2\n0 0 x\n":                        "is not a number",
		"1 2 3\nLUT_1D_SIZE 2\n":                        "line 1: numbers before",
		"LUT_1D_SIZE 2\nDOMAIN_MIN 1 1 1\n0 0 0\n1 1 1": "domain ends",
		"LUT_1D_SIZE 2\n" + strings.Repeat("9", 1<<17):  "too long",
	} {
		_, err := ReadCube([]byte(text))
		assert.ErrorContains(t, err, words, "%.40q", text)
	}
	c, err := ReadCube([]byte("\xef\xbb\xbfLUT_1D_SIZE 2\r\nLUT_1D_INPUT_RANGE 0 2\r\nOWN_WORD 3\r\n0 0 0\r\n1 1 1\r\n"))
	require.NoError(t, err)
	assert.InDelta(t, 0.25, c.Apply([3]float32{0.5, 0.5, 0.5})[1], 1e-6)
}

// Whatever a file holds, reading it ends with a table that can be used, or with words.
func FuzzReadCube(f *testing.F) {
	f.Add([]byte("LUT_1D_SIZE 2\n0 0 0\n1 1 1\n"))
	f.Add([]byte(written(rand.New(rand.NewPCG(1, 1)), true, 3, -1, 2)))
	f.Fuzz(func(t *testing.T, text []byte) {
		c, err := ReadCube(text)
		if err != nil {
			return
		}
		for _, v := range c.Apply([3]float32{0.3, -1, 2}) {
			require.False(t, math.IsNaN(float64(v)) || math.IsInf(float64(v), 0))
		}
	})
}
