package exchange

import (
	"archive/zip"
	"bytes"
	"context"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/media"
	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// bending is a track that bends by a few pixels over 70, on top of a plane that moves.
func bending() *treatment.Document {
	d := treatment.New()
	box := geom.Box{Min: geom.Pt(40, 30), Max: geom.Pt(280, 200)}
	t := treatment.Track{
		ID: "c", Name: "Cloth", Kind: treatment.PlaneTrack, Home: 5, Motion: geom.Perspective, Bends: &treatment.Bends{Detail: 10},
		Region: []treatment.Vec{{40, 30}, {280, 30}, {280, 200}, {40, 200}}, Data: &treatment.Data{},
	}
	for n := 5; n <= 9; n++ {
		l := geom.Lattice{Box: box, Columns: 24, Rows: 17, Shift: make([]geom.Point, 25*18)}
		for i := range l.Shift {
			c, u := l.Crossing(i%25, i/25), float64(n-5)
			l.Shift[i] = geom.Pt(1.4*u*math.Sin(c.X/24), u*math.Cos(c.Y/31+c.X/60))
		}
		t.Data.Samples = append(t.Data.Samples, treatment.Sample{Frame: n, Matrix: motion(n), Match: 1, Agree: 1, Bend: treatment.NewBend(&l, nil)})
	}
	t.Data.Samples[0].Bend = nil
	d.Tracks = []treatment.Track{t}
	return d
}

// What leaves as ST maps comes back to a twentieth of a pixel, all over what bends; of a frame that is not the shot's, of another size or
// that is damaged, nothing comes in, and it is said why.
func TestWarpsThereAndBack(t *testing.T) {
	const width, height = 320, 240
	d := bending()
	set, err := carry.New(d)
	require.NoError(t, err)
	var out bytes.Buffer
	next := func(n int) warp.Mapping { return set.Mapping("c", n, 5) }
	require.NoError(t, Warps(&out, "Cloth", []int{5, 6, 7, 8, 9}, next, width, height))
	read := func(blob []byte, w, h int, last int) (*treatment.Track, error) {
		archive, err := zip.NewReader(bytes.NewReader(blob), int64(len(blob)))
		require.NoError(t, err)
		told := 0
		defer func() { assert.Positive(t, told, "how far it is") }()
		return ReadWarps(context.Background(), archive, "Cloth", 5, w, h, func(n int) bool { return n <= last }, func(done, of int) {
			assert.Equal(t, told, done)
			assert.Less(t, done, of)
			told++
		})
	}
	back, err := read(out.Bytes(), width, height, 9)
	require.NoError(t, err)
	back.ID = "b"
	d.Tracks = append(d.Tracks, *back)
	require.NoError(t, d.Validate(nil))
	set, err = carry.New(d)
	require.NoError(t, err)
	for n := 5; n <= 9; n++ {
		there, again := set.Mapping("c", 5, n), set.Mapping("b", 5, n)
		worst := 0.0
		for y := 36.0; y < 196; y += 7 {
			for x := 46.0; x < 276; x += 7 {
				worst = math.Max(worst, there.Apply(geom.Pt(x, y)).Dist(again.Apply(geom.Pt(x, y))))
			}
		}
		assert.Less(t, worst, 0.06, "frame %d", n)
	}
	// A table holds what a plane does, and says so; it is read all the same.
	table, err := Of(set.Motion("c")).CSV("corners")
	require.NoError(t, err)
	assert.Contains(t, string(table), "# this surface bends")
	plain, err := Read(table, "Cloth", 5)
	require.NoError(t, err)
	assert.Len(t, plain.Data.Samples, 5)

	few, err := read(out.Bytes(), width, height, 7)
	require.NoError(t, err)
	assert.Len(t, few.Data.Samples, 2)
	_, err = read(out.Bytes(), width, height, 4)
	assert.ErrorContains(t, err, "no ST map of a frame of this shot")
	_, err = read(out.Bytes(), 330, height, 9)
	assert.ErrorContains(t, err, "320 × 240 pixels; the shot is 330 × 240")

	// Whatever the bytes, there is an error or numbers.
	whole := Warp(next(7), 64, 48)
	rng := rand.New(rand.NewPCG(5, 5))
	for range 400 {
		blob := bytes.Clone(whole)
		for range 1 + rng.IntN(6) {
			blob[rng.IntN(len(blob))] = byte(rng.Uint32())
		}
		blob = blob[:len(blob)-rng.IntN(2)*rng.IntN(len(blob))]
		if st, err := media.DecodeEXR(blob, 64, 48, "R", "G"); err == nil {
			s, err := (&stMap{st[0], st[1], 64, 48}).sample(1, geom.Box{Max: geom.Pt(64, 48)})
			if err == nil {
				assert.True(t, s.Matrix.Finite())
			}
		}
	}
}

// ST maps that another library writes are read: OpenCV's OpenEXR, halves and floats, ZIP and not compressed.
func TestWarpsOfOthers(t *testing.T) {
	dir := t.TempDir()
	script := `
import os, sys
os.environ["OPENCV_IO_ENABLE_OPENEXR"] = "1"
import cv2, numpy as np
m = np.zeros((24, 32, 3), np.float32)
m[:, :, 2] = (np.arange(32) + 0.5)[None, :] / 32  # R
m[:, :, 1] = 1 - (np.arange(24) + 2.5)[:, None] / 24  # G
for name, kind, packed in (("a", 2, 0), ("b", 2, 3), ("c", 1, 3), ("d", 1, 2)):
    cv2.imwrite(os.path.join(sys.argv[1], name + ".exr"), m, [cv2.IMWRITE_EXR_TYPE, kind, cv2.IMWRITE_EXR_COMPRESSION, packed])
`
	cmd := exec.Command("/usr/bin/python3", "-c", script, dir)
	cmd.Env = []string{"PATH=/usr/bin:/bin"}
	said, err := cmd.CombinedOutput()
	require.NoError(t, err, string(said))
	for name, tolerance := range map[string]float64{"a": 1e-6, "b": 1e-6, "c": 1e-3, "d": 1e-3} {
		blob, err := os.ReadFile(filepath.Join(dir, name+".exr"))
		require.NoError(t, err)
		st, err := media.DecodeEXR(blob, 32, 24, "R", "G")
		require.NoError(t, err, name)
		for y := range 24 {
			for x := range 32 {
				assert.InDelta(t, (float64(x)+0.5)/32, st[0][y*32+x], tolerance, name)
				assert.InDelta(t, 1-(float64(y)+2.5)/24, st[1][y*32+x], tolerance, name)
			}
		}
	}
}
