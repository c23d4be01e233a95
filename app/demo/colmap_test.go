package demo_test

import (
	"bufio"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/camera"
	"jardin/core/treatment"
)

// The camera of lm_050 beside COLMAP's (Schönberger & Frahm 2016, "Structure-from-Motion Revisited"; version 3.8 of Debian's
// packages) on the same frames and processors: reprojection and path no worse, in no more time.
func TestTheBedsAgainstColmap(t *testing.T) {
	if !bench() {
		t.Skip("for make bench")
	}
	known := demotest.BedsTruth(t)
	s := clip(t, demo.BedsPlateFolder, demo.BedsFirst)
	began := time.Now()
	found := solvedBeds(t, s)
	ours := time.Since(began).Seconds()
	off, _ := bedsPath(t, known, found.Path)

	dir := t.TempDir()
	run := func(args ...string) {
		cmd := exec.Command("colmap", args...)
		cmd.Env = append(os.Environ(), "QT_QPA_PLATFORM=offscreen")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	database, images, sparse := filepath.Join(dir, "c.db"), demotest.Folder(t, demo.BedsPlateFolder), filepath.Join(dir, "sparse")
	require.NoError(t, os.Mkdir(sparse, 0o755))
	began = time.Now()
	run("feature_extractor", "--database_path", database, "--image_path", images, "--ImageReader.single_camera", "1",
		"--ImageReader.camera_model", "SIMPLE_RADIAL", "--SiftExtraction.use_gpu", "0")
	run("sequential_matcher", "--database_path", database, "--SiftMatching.use_gpu", "0")
	run("mapper", "--database_path", database, "--image_path", images, "--output_path", sparse)
	theirs := time.Since(began).Seconds()
	run("model_converter", "--input_path", filepath.Join(sparse, "0"), "--output_path", dir, "--output_type", "TXT")
	path := colmapPath(t, filepath.Join(dir, "images.txt"))
	offTheirs, _ := bedsPath(t, known, path)
	focal, k := colmapCamera(t, filepath.Join(dir, "cameras.txt"))
	lens := demo.BedsLens()
	// Its k1 is of radii in focal lengths.
	k1 := k * math.Pow(lens.Radius/focal, 2)
	rms := colmapRMS(t, filepath.Join(dir, "points3D.txt"))
	t.Logf("ours: %.1f s, %.3f px, path off by %.4f %% on %d frames, f %.1f, k1 %.4f", ours, found.Path.RMS, 100*off, len(found.Path.Views), found.Path.Views[0].Focal, found.Lens.K[0])
	t.Logf("COLMAP: %.1f s, %.3f px, path off by %.4f %% on %d frames, f %.1f, k1 %.4f", theirs, rms, 100*offTheirs, len(path.Views), focal, k1)
	assert.LessOrEqual(t, ours, theirs)
	assert.LessOrEqual(t, found.Path.RMS, rms)
	assert.LessOrEqual(t, off, offTheirs)
}

// lines calls f for each line of a file that is no comment.
func lines(t *testing.T, path string, f func(words []string)) {
	t.Helper()
	file, err := os.Open(path)
	require.NoError(t, err)
	defer file.Close()
	in := bufio.NewScanner(file)
	in.Buffer(nil, 1<<26)
	for in.Scan() {
		if text := in.Text(); !strings.HasPrefix(text, "#") {
			f(strings.Fields(text))
		}
	}
	require.NoError(t, in.Err())
}

func number(t *testing.T, text string) float64 {
	t.Helper()
	v, err := strconv.ParseFloat(text, 64)
	require.NoError(t, err)
	return v
}

// colmapPath reads images.txt: every second line is a pose, from the world to the camera, w first.
func colmapPath(t *testing.T, path string) *treatment.Solved {
	t.Helper()
	views := map[int]treatment.CameraView{}
	odd := false
	lines(t, path, func(w []string) {
		if odd = !odd; !odd {
			return
		}
		var n int
		_, err := fmt.Sscanf(w[9], demo.BedsName+".%d.png", &n)
		require.NoError(t, err)
		q := [4]float64{number(t, w[2]), number(t, w[3]), number(t, w[4]), number(t, w[1])}
		v := camera.View{Pose: camera.Pose{R: camera.OfQuaternion(q), T: camera.Vec{number(t, w[5]), number(t, w[6]), number(t, w[7])}}, Focal: 1}
		views[n] = treatment.ViewOf(n, &v)
	})
	out := &treatment.Solved{}
	for n := demo.BedsFirst; n <= demo.BedsLast; n++ {
		if v, ok := views[n]; ok {
			out.Views = append(out.Views, v)
		}
	}
	return out
}

// colmapCamera reads the focal length and the radial term of a SIMPLE_RADIAL camera.
func colmapCamera(t *testing.T, path string) (focal, k float64) {
	t.Helper()
	lines(t, path, func(w []string) { focal, k = number(t, w[4]), number(t, w[7]) })
	return focal, k
}

// colmapRMS reads the errors of points3D.txt, each the mean of a point's.
func colmapRMS(t *testing.T, path string) float64 {
	t.Helper()
	var sum, n float64
	lines(t, path, func(w []string) {
		e, seen := number(t, w[7]), float64((len(w)-8)/2)
		sum, n = sum+e*e*seen, n+seen
	})
	return math.Sqrt(sum / n)
}
