package exchange

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/media"
	"jardin/core/camera"
	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// seen is a made-up shot whose camera is known.
func seen(rng *rand.Rand, frames int) *treatment.Document {
	doc := &treatment.Document{
		Lens: &treatment.Lens{Size: [2]int{960, 540}, K: [3]float64{-0.08, 0.01, 0}},
		Camera: &treatment.Camera{Focal: "fixed", World: treatment.WorldOf(camera.Similarity{
			Scale: 2, R: camera.Turn(camera.Vec{0.3, -1, 0.2}), T: camera.Vec{1, 2, 3}}, "m"),
			Data: &treatment.CameraData{Path: &treatment.Solved{RMS: 0.2}}},
		Tracks: []treatment.Track{{ID: "c", Name: "Wall", Kind: treatment.CardTrack, Home: 1001, Motion: geom.Perspective,
			Card: &treatment.Card{At: [3]float64{0, 1, -5}, Turn: [4]float64{0, 0, 0, 1}, Size: [2]float64{2, 1}}}},
	}
	for i := range frames {
		u := float64(i) / float64(frames)
		v := camera.View{Pose: camera.PoseAt(camera.Vec{u, 0.1 * math.Sin(5*u), 0.2 * u}, camera.Turn(camera.Vec{0.1 * u, 3 + 0.3*u, 0.05})), Focal: 800}
		doc.Camera.Data.Path.Views = append(doc.Camera.Data.Path.Views, treatment.ViewOf(1001+i, &v))
	}
	for range 30 {
		doc.Camera.Data.Path.Points = append(doc.Camera.Data.Path.Points, treatment.CameraPoint{
			At: [3]float64{rng.NormFloat64(), rng.NormFloat64(), rng.NormFloat64()}, Error: 0.1, First: 1001, Last: 1005, Off: rng.Float64() < 0.2})
	}
	return doc
}

var beds = ShotFrames{Width: 960, Height: 540, First: 1001, Last: 1024, Rate: 24}

// A camera that leaves and comes back sees every place where it did, by our JSON and by glTF.
func TestACameraOutAndIn(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 50))
	doc := seen(rng, 24)
	fixed, err := CameraOf(doc, 24)
	require.NoError(t, err)
	assert.NotContains(t, string(fixed.GLTF()), animationPointer, "it does not zoom")
	for i := range doc.Camera.Data.Path.Views {
		doc.Camera.Data.Path.Views[i].Focal += 3 * float64(i)
	}
	before, err := carry.NewSpace(doc)
	require.NoError(t, err)
	out, err := CameraOf(doc, 24)
	require.NoError(t, err)
	for name, file := range map[string][]byte{"json": out.JSON(), "gltf": out.GLTF()} {
		path, lens, unit, err := ReadCamera(file, beds)
		require.NoError(t, err, name)
		back := &treatment.Document{Lens: lens, Camera: &treatment.Camera{Focal: "fixed", Data: &treatment.CameraData{Path: path}}}
		if name == "gltf" {
			back.Lens = doc.Lens // glTF has no words for it
			assert.Len(t, path.Points, strings.Count(string(out.PLY()), " 220 220 220\n"), "points that fit")
		} else {
			assert.Equal(t, "m", unit)
			assert.Len(t, path.Points, 30)
		}
		after, err := carry.NewSpace(back)
		require.NoError(t, err)
		for _, n := range before.Frames {
			a, b := before.Views[n], after.Views[n]
			for range 20 {
				x := camera.Vec{4 * rng.NormFloat64(), 4 * rng.NormFloat64(), 4 * rng.NormFloat64()}
				p, ok1 := a.Project(&before.Lens, x)
				q, ok2 := b.Project(&after.Lens, x)
				assert.Equal(t, ok1, ok2)
				if ok1 && ok2 && p.Len() < 4000 && a.Pose.Apply(x)[2] > 0.1 {
					assert.Less(t, p.Dist(q), 0.01, "%s, frame %d", name, n)
				}
			}
		}
	}
}

// By the specification alone: a camera at (1, 2, 3), not turned, looks along -z; what lies straight ahead of it is in the middle, what
// lies above and to the right is above and to the right, by its vertical field of view (glTF 2.0, sections 3.4 and 3.10).
func TestAGLTFCameraLooksAlongItsMinusZ(t *testing.T) {
	const text = `{"asset":{"version":"2.0"},"scenes":[{"nodes":[1]}],
		"nodes":[{"camera":0,"translation":[0,0,2]},{"children":[0],"translation":[1,2,1]}],
		"cameras":[{"type":"perspective","perspective":{"yfov":1.5707963267948966,"znear":0.1}}]}`
	path, lens, _, err := ReadCamera([]byte(text), ShotFrames{Width: 400, Height: 400, First: 1, Last: 3, Rate: 24})
	require.NoError(t, err)
	s, err := carry.NewSpace(&treatment.Document{Lens: lens, Camera: &treatment.Camera{Focal: "fixed", Data: &treatment.CameraData{Path: path}}})
	require.NoError(t, err)
	v := s.Views[2]
	p, ok := v.Project(&s.Lens, camera.Vec{1, 2, -7})
	require.True(t, ok)
	assert.InDelta(t, 0, p.Dist(geom.Pt(200, 200)), 1e-9)
	// At 10 units, 90 degrees high: half the picture's height is 10 units.
	p, ok = v.Project(&s.Lens, camera.Vec{1 + 5, 2 + 10, -7})
	require.True(t, ok)
	assert.InDelta(t, 0, p.Dist(geom.Pt(300, 0)), 1e-6)
	_, ok = v.Project(&s.Lens, camera.Vec{1, 2, 7})
	assert.False(t, ok, "it is behind")
}

// A parent that is turned turns what hangs below it; between two keys whose quaternions are of the same turn but for their sign,
// nothing turns (glTF 2.0, appendix C: of two, the shorter way).
func TestAGLTFCameraBelowATurnedParentAndBetweenKeys(t *testing.T) {
	// The parent is turned by 90 degrees about y: its -z is the world's -x, and its x the world's -z.
	const parent = `{"asset":{"version":"2.0"},"nodes":[{"camera":0,"translation":[1,0,0]},{"children":[0],"rotation":[0,0.7071067811865476,0,0.7071067811865476]}],
		"cameras":[{"type":"perspective","perspective":{"yfov":1,"znear":0.1}}]}`
	shot := ShotFrames{Width: 400, Height: 400, First: 1, Last: 3, Rate: 1}
	path, lens, _, err := ReadCamera([]byte(parent), shot)
	require.NoError(t, err)
	assert.InDelta(t, 0, camera.Vec(path.Views[0].Eye).Dist(camera.Vec{0, 0, -1}), 1e-9)
	s, err := carry.NewSpace(&treatment.Document{Lens: lens, Camera: &treatment.Camera{Focal: "fixed", Data: &treatment.CameraData{Path: path}}})
	require.NoError(t, err)
	v := s.Views[1]
	p, ok := v.Project(&s.Lens, camera.Vec{-10, 0, -1})
	require.True(t, ok, "it looks along the world's -x")
	assert.InDelta(t, 0, p.Dist(geom.Pt(200, 200)), 1e-6)

	numbers := make([]byte, 0, 40)
	for _, v := range []float32{0, 2, 0, 0, 0, 1, 0, 0, 0, -1} {
		numbers = binary.LittleEndian.AppendUint32(numbers, math.Float32bits(v))
	}
	keyed := `{"asset":{"version":"2.0"},"nodes":[{"camera":0}],"cameras":[{"type":"perspective","perspective":{"yfov":1,"znear":0.1}}],
		"animations":[{"channels":[{"sampler":0,"target":{"node":0,"path":"rotation"}}],"samplers":[{"input":0,"output":1}]}],
		"accessors":[{"bufferView":0,"componentType":5126,"count":2,"type":"SCALAR"},{"bufferView":0,"byteOffset":8,"componentType":5126,"count":2,"type":"VEC4"}],
		"bufferViews":[{"buffer":0,"byteLength":40}],"buffers":[{"byteLength":40,"uri":"data:application/octet-stream;base64,` + base64.StdEncoding.EncodeToString(numbers) + `"}]}`
	path, _, _, err = ReadCamera([]byte(keyed), shot)
	require.NoError(t, err)
	assert.InDelta(t, 1, math.Abs(path.Views[1].Turn[3]), 1e-9, "half way between a turn and itself")
}

// A zoom is an animation of what a JSON pointer names (Khronos Group, KHR_animation_pointer): of its own camera alone.
func TestAGLTFCameraZooms(t *testing.T) {
	file := func(camera int, last float32) []byte {
		numbers := make([]byte, 0, 16)
		for _, v := range []float32{0, 2, math.Pi / 2, last} {
			numbers = binary.LittleEndian.AppendUint32(numbers, math.Float32bits(v))
		}
		return []byte(`{"asset":{"version":"2.0"},"extensionsUsed":["KHR_animation_pointer"],"nodes":[{"camera":1}],
		"cameras":[{"type":"perspective","perspective":{"yfov":1,"znear":0.1}},{"type":"perspective","perspective":{"yfov":1.5707963267948966,"znear":0.1}}],
		"animations":[{"channels":[{"sampler":0,"target":{"path":"pointer","extensions":{"KHR_animation_pointer":{"pointer":"/cameras/` + strconv.Itoa(camera) + `/perspective/yfov"}}}}],
		"samplers":[{"input":0,"output":1}]}],
		"accessors":[{"bufferView":0,"componentType":5126,"count":2,"type":"SCALAR"},{"bufferView":0,"byteOffset":8,"componentType":5126,"count":2,"type":"SCALAR"}],
		"bufferViews":[{"buffer":0,"byteLength":16}],"buffers":[{"byteLength":16,"uri":"data:application/octet-stream;base64,` + base64.StdEncoding.EncodeToString(numbers) + `"}]}`)
	}
	shot := ShotFrames{Width: 400, Height: 400, First: 1, Last: 3, Rate: 1}
	path, _, _, err := ReadCamera(file(1, math.Pi/6), shot)
	require.NoError(t, err)
	// 90, 60 and 30 degrees high.
	for i, want := range []float64{200, 200 * math.Sqrt(3), 200 / math.Tan(math.Pi/12)} {
		assert.InDelta(t, want, path.Views[i].Focal, 1e-4)
	}
	path, _, _, err = ReadCamera(file(0, math.Pi/6), shot)
	require.NoError(t, err)
	assert.InDelta(t, 200, path.Views[2].Focal, 1e-9, "it is the other camera that zooms")
	_, _, _, err = ReadCamera(file(1, -1), shot)
	assert.ErrorContains(t, err, "frame 3")
}

func TestACameraThatDoesNotFit(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 51))
	out, err := CameraOf(seen(rng, 24), 24)
	require.NoError(t, err)
	say := func(data []byte, shot ShotFrames, words ...string) {
		t.Helper()
		_, _, _, err := ReadCamera(data, shot)
		require.Error(t, err)
		for _, w := range words {
			assert.Contains(t, err.Error(), w)
		}
	}
	longer, faster, larger := beds, beds, beds
	longer.Last, faster.Rate, larger.Width = 1048, 25, 1920
	say(out.JSON(), longer, "24 of the shot's frames", "all 48")
	say(out.JSON(), faster, "24 frames a second", "25")
	say(out.JSON(), larger, "960 x 540", "1920 x 540")
	say(out.GLTF(), longer, "24.0 frames", "the shot has 48")
	slow := beds
	slow.Rate = 12
	say(out.GLTF(), slow, "12.5 frames", "12 a second")
	for _, bad := range []string{"", "{}", "[]", "null", "glTF", "{\"asset\":{}}", `{"asset":{},"nodes":[{"camera":7}]}`, `{"asset":{},"nodes":[{"camera":0}],"cameras":[{"type":"orthographic"}]}`} {
		say([]byte(bad), beds)
	}
	// A camera below itself, and below very many.
	say([]byte(`{"asset":{},"nodes":[{"camera":0,"children":[1]},{"children":[0]}],"cameras":[{"type":"perspective","perspective":{"yfov":1}}]}`), beds, "circle")
	deep := `{"asset":{},"cameras":[{"type":"perspective","perspective":{"yfov":1}}],"nodes":[{"camera":0}`
	for i := range 20_000 {
		deep += `,{"children":[` + strconv.Itoa(i) + `]}`
	}
	say([]byte(deep+"]}"), beds, "below more than")
	// Broken in random places it is refused, or read; it never takes the program along.
	files := [][]byte{out.JSON(), out.GLTF()}
	for range 400 {
		data := append([]byte(nil), files[rng.IntN(2)]...)
		for range 1 + rng.IntN(5) {
			data[rng.IntN(len(data))] = byte(rng.IntN(256))
		}
		if path, lens, _, err := ReadCamera(data, beds); err == nil {
			assert.NoError(t, path.Check())
			_, err := lens.Of()
			assert.NoError(t, err)
		}
	}
}

// A lens leaves as ST maps of both directions, and comes back from either.
func TestALensAsSTMaps(t *testing.T) {
	l := &treatment.Lens{Size: [2]int{480, 270}, K: [3]float64{-0.1, 0.015, 0}}
	lens, err := l.Of()
	require.NoError(t, err)
	for name, m := range map[string]warp.Mapping{"out": warp.LensIn(lens), "in": warp.LensOut(lens)} {
		st, err := media.DecodeEXR(Warp(m, 480, 270), 480, 270, "R", "G")
		require.NoError(t, err)
		found, off, err := ReadLens(st[0], st[1], 480, 270)
		require.NoError(t, err)
		back, err := found.Of()
		require.NoError(t, err)
		for _, p := range []geom.Point{{X: 5, Y: 5}, {X: 470, Y: 100}, {X: 240, Y: 260}} {
			assert.Less(t, back.Straighten(p).Dist(lens.Straighten(p)), 0.02, name)
		}
		assert.Less(t, off, 0.02)
	}
	noise := make([]float32, 480*270)
	for i := range noise {
		noise[i] = rand.Float32()
	}
	_, _, err = ReadLens(noise, noise, 480, 270)
	assert.Error(t, err)
}

// Our lens and projection beside OpenCV's (calib3d, cv2.projectPoints): its k1 is ours times (focal length / radius)², as its radii are
// in units of the focal length and ours of half the diagonal.
func TestProjectionAgainstOpenCV(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 52))
	lens, err := geom.LensOf([3]float64{-0.09, 0.012, -0.001}, 1280, 720, geom.Pt(650, 350), 1)
	require.NoError(t, err)
	v := camera.View{Pose: camera.Pose{R: camera.Turn(camera.Vec{0.2, -0.4, 0.1}), T: camera.Vec{0.3, -0.2, 4}}, Focal: 900}
	var points []camera.Vec
	var want []geom.Point
	for len(points) < 60 {
		x := camera.Vec{1.5 * rng.NormFloat64(), rng.NormFloat64(), rng.NormFloat64()}
		if p, ok := v.Project(&lens, x); ok && p.X > 0 && p.Y > 0 && p.X < 1280 && p.Y < 720 {
			points, want = append(points, x), append(want, p)
		}
	}
	k := [3]float64{}
	s := v.Focal / lens.Radius
	for i := range k {
		k[i] = lens.K[i] * math.Pow(s*s, float64(i+1))
	}
	in, err := json.Marshal(map[string]any{"points": points, "turn": v.Pose.R.Axis(), "shift": v.Pose.T, "f": v.Focal, "c": []float64{650, 350}, "k": k})
	require.NoError(t, err)
	script := filepath.Join(t.TempDir(), "project.py")
	require.NoError(t, os.WriteFile(script, []byte(`import sys, json, numpy as np, cv2
a = json.load(sys.stdin)
p, _ = cv2.projectPoints(np.array(a["points"]), np.array(a["turn"]), np.array(a["shift"]),
    np.array([[a["f"], 0, a["c"][0]], [0, a["f"], a["c"][1]], [0, 0, 1]], float), np.array([a["k"][0], a["k"][1], 0, 0, a["k"][2]]))
json.dump(p.reshape(-1, 2).tolist(), sys.stdout)`), 0o600))
	cmd := exec.Command("/usr/bin/python3", script)
	cmd.Stdin = strings.NewReader(string(in))
	blob, err := cmd.Output()
	require.NoError(t, err)
	var got [][2]float64
	require.NoError(t, json.Unmarshal(blob, &got))
	for i, p := range want {
		assert.Less(t, p.Dist(geom.Pt(got[i][0], got[i][1])), 1e-6)
	}
}
