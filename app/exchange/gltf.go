package exchange

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"jardin/core/camera"
	"jardin/core/treatment"
)

// A gltf is what of a glTF 2.0 file is written and read (Khronos Group, "glTF 2.0 Specification").
type gltf struct {
	Asset       map[string]string `json:"asset"`
	Used        []string          `json:"extensionsUsed,omitempty"`
	Scene       int               `json:"scene"`
	Scenes      []gltfScene       `json:"scenes"`
	Nodes       []gltfNode        `json:"nodes"`
	Cameras     []gltfCamera      `json:"cameras,omitempty"`
	Animations  []gltfAnimation   `json:"animations,omitempty"`
	Meshes      []gltfMesh        `json:"meshes,omitempty"`
	Accessors   []gltfAccessor    `json:"accessors,omitempty"`
	BufferViews []gltfView        `json:"bufferViews,omitempty"`
	Buffers     []gltfBuffer      `json:"buffers,omitempty"`
}

type gltfScene struct {
	Nodes []int `json:"nodes"`
}

type gltfNode struct {
	Name        string      `json:"name,omitempty"`
	Camera      *int        `json:"camera,omitempty"`
	Mesh        *int        `json:"mesh,omitempty"`
	Children    []int       `json:"children,omitempty"`
	Translation *[3]float64 `json:"translation,omitempty"`
	Rotation    *[4]float64 `json:"rotation,omitempty"`
	Scale       *[3]float64 `json:"scale,omitempty"`
	Matrix      []float64   `json:"matrix,omitempty"`
	Extras      any         `json:"extras,omitempty"`
}

type gltfCamera struct {
	Name        string           `json:"name,omitempty"`
	Type        string           `json:"type"`
	Perspective *gltfPerspective `json:"perspective,omitempty"`
}

type gltfPerspective struct {
	Aspect float64 `json:"aspectRatio,omitempty"`
	Yfov   float64 `json:"yfov"`
	Znear  float64 `json:"znear"`
}

type gltfAnimation struct {
	Channels []gltfChannel `json:"channels"`
	Samplers []gltfSampler `json:"samplers"`
}

type gltfChannel struct {
	Sampler int        `json:"sampler"`
	Target  gltfTarget `json:"target"`
}

type gltfTarget struct {
	Node       *int                    `json:"node,omitempty"`
	Path       string                  `json:"path"`
	Extensions map[string]*gltfPointer `json:"extensions,omitempty"`
}

// A gltfPointer names what moves where that is no node (Khronos Group, KHR_animation_pointer).
type gltfPointer struct {
	Pointer string `json:"pointer"`
}

const animationPointer = "KHR_animation_pointer"

// yfovPointer names a camera's vertical field of view (Khronos Group, "glTF 2.0 Asset Object Model").
func yfovPointer(camera int) string { return fmt.Sprintf("/cameras/%d/perspective/yfov", camera) }

type gltfSampler struct {
	Input         int    `json:"input"`
	Output        int    `json:"output"`
	Interpolation string `json:"interpolation,omitempty"`
}

type gltfMesh struct {
	Name       string          `json:"name,omitempty"`
	Primitives []gltfPrimitive `json:"primitives"`
}

type gltfPrimitive struct {
	Attributes map[string]int `json:"attributes"`
	Indices    *int           `json:"indices,omitempty"`
	Mode       int            `json:"mode"`
}

type gltfAccessor struct {
	BufferView    int       `json:"bufferView"`
	ByteOffset    int       `json:"byteOffset,omitempty"`
	ComponentType int       `json:"componentType"`
	Count         int       `json:"count"`
	Type          string    `json:"type"`
	Min           []float64 `json:"min,omitempty"`
	Max           []float64 `json:"max,omitempty"`
}

type gltfView struct {
	Buffer     int `json:"buffer"`
	ByteOffset int `json:"byteOffset,omitempty"`
	ByteLength int `json:"byteLength"`
	ByteStride int `json:"byteStride,omitempty"`
}

type gltfBuffer struct {
	URI        string `json:"uri,omitempty"`
	ByteLength int    `json:"byteLength"`
}

const (
	gltfFloat  = 5126
	gltfUint   = 5125
	gltfPoints = 0
	gltfFaces  = 4
)

// writer gathers a file's numbers.
type gltfWriter struct {
	gltf
	data []byte
}

func (w *gltfWriter) floats(kind string, values ...[]float32) int {
	size := map[string]int{"SCALAR": 1, "VEC3": 3, "VEC4": 4}[kind]
	at, count := len(w.data), 0
	low, high := make([]float64, size), make([]float64, size)
	for _, list := range values {
		for i, v := range list {
			k := i % size
			if count == 0 && i < size || float64(v) < low[k] {
				low[k] = float64(v)
			}
			if count == 0 && i < size || float64(v) > high[k] {
				high[k] = float64(v)
			}
			w.data = binary.LittleEndian.AppendUint32(w.data, math.Float32bits(v))
		}
		count += len(list) / size
	}
	w.BufferViews = append(w.BufferViews, gltfView{ByteOffset: at, ByteLength: len(w.data) - at})
	w.Accessors = append(w.Accessors, gltfAccessor{BufferView: len(w.BufferViews) - 1, ComponentType: gltfFloat, Count: count, Type: kind, Min: low, Max: high})
	return len(w.Accessors) - 1
}

func (w *gltfWriter) indices(values ...uint32) int {
	at := len(w.data)
	for _, v := range values {
		w.data = binary.LittleEndian.AppendUint32(w.data, v)
	}
	w.BufferViews = append(w.BufferViews, gltfView{ByteOffset: at, ByteLength: len(w.data) - at})
	w.Accessors = append(w.Accessors, gltfAccessor{BufferView: len(w.BufferViews) - 1, ComponentType: gltfUint, Count: len(values), Type: "SCALAR"})
	return len(w.Accessors) - 1
}

// GLTF returns the camera as a glTF 2.0 file with its numbers in it: a camera whose node is animated, one key for each frame, at
// (frame - first) / rate seconds; the points and the cards as meshes. The vertical field of view is that of the straight picture; that
// of a zoom is animated by KHR_animation_pointer. The lens stands in the node's extras, as glTF has no words for it.
func (c *Camera) GLTF() []byte {
	w := &gltfWriter{}
	w.Asset = map[string]string{"version": "2.0", "generator": "Jardin"}
	first := c.Frames[0]
	yfov := func(focal float64) float64 { return 2 * math.Atan(float64(c.Size[1])/2/focal) }
	aspect := float64(c.Size[0]) / float64(c.Size[1])
	if c.Lens.Squeeze != 0 {
		aspect *= c.Lens.Squeeze
	}
	w.Cameras = []gltfCamera{{Name: "Camera", Type: "perspective", Perspective: &gltfPerspective{Aspect: aspect, Yfov: yfov(first.Focal), Znear: 0.01}}}
	zero := 0
	var focal []float64
	var times, places, turns, fovs []float32
	for _, v := range c.Frames {
		times = append(times, float32(float64(v.Frame-first.Frame)/c.Rate))
		q := v.Turn
		// Of a turn's two quaternions that which is nearer to the last: between keys they are mixed.
		if n := len(turns); n > 0 && float64(turns[n-4])*q[0]+float64(turns[n-3])*q[1]+float64(turns[n-2])*q[2]+float64(turns[n-1])*q[3] < 0 {
			q = [4]float64{-q[0], -q[1], -q[2], -q[3]}
		}
		places = append(places, float32(v.Eye[0]), float32(v.Eye[1]), float32(v.Eye[2]))
		turns = append(turns, float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3]))
		focal, fovs = append(focal, v.Focal), append(fovs, float32(yfov(v.Focal)))
	}
	w.Nodes = []gltfNode{{Name: "Camera", Camera: &zero, Translation: &first.Eye, Rotation: &first.Turn,
		Extras: map[string]any{"firstFrame": first.Frame, "rate": c.Rate, "focal": focal, "lens": c.Lens, "unit": c.Unit}}}
	w.Scenes = []gltfScene{{Nodes: []int{0}}}
	at, to, turn := w.floats("SCALAR", times), w.floats("VEC3", places), w.floats("VEC4", turns)
	w.Animations = []gltfAnimation{{
		Channels: []gltfChannel{{0, gltfTarget{Node: &zero, Path: "translation"}}, {1, gltfTarget{Node: &zero, Path: "rotation"}}},
		Samplers: []gltfSampler{{at, to, "LINEAR"}, {at, turn, "LINEAR"}},
	}}
	if slices.Min(focal) < slices.Max(focal) {
		w.Used = []string{animationPointer}
		a := &w.Animations[0]
		a.Channels = append(a.Channels, gltfChannel{2, gltfTarget{Path: "pointer", Extensions: map[string]*gltfPointer{animationPointer: {yfovPointer(0)}}}})
		a.Samplers = append(a.Samplers, gltfSampler{at, w.floats("SCALAR", fovs), "LINEAR"})
	}
	add := func(name string, mesh gltfMesh) {
		w.Meshes = append(w.Meshes, mesh)
		k := len(w.Meshes) - 1
		w.Nodes = append(w.Nodes, gltfNode{Name: name, Mesh: &k})
		w.Scenes[0].Nodes = append(w.Scenes[0].Nodes, len(w.Nodes)-1)
	}
	var all []float32
	for _, p := range c.Points {
		if !p.Off {
			all = append(all, float32(p.At[0]), float32(p.At[1]), float32(p.At[2]))
		}
	}
	if len(all) > 0 {
		add("Points", gltfMesh{Name: "Points", Primitives: []gltfPrimitive{{Attributes: map[string]int{"POSITION": w.floats("VEC3", all)}, Mode: gltfPoints}}})
	}
	for _, k := range c.Cards {
		var corners []float32
		for _, p := range k.Corners() {
			corners = append(corners, float32(p[0]), float32(p[1]), float32(p[2]))
		}
		faces := w.indices(0, 3, 2, 0, 2, 1)
		add(k.Name, gltfMesh{Name: k.Name, Primitives: []gltfPrimitive{{Attributes: map[string]int{"POSITION": w.floats("VEC3", corners)}, Indices: &faces, Mode: gltfFaces}}})
	}
	w.Buffers = []gltfBuffer{{"data:application/octet-stream;base64," + base64.StdEncoding.EncodeToString(w.data), len(w.data)}}
	out, err := json.MarshalIndent(&w.gltf, "", " ")
	if err != nil {
		return nil
	}
	return append(out, '\n')
}

const mostKeys = 200_000

// splitGLB takes a binary glTF file apart.
func splitGLB(data []byte) (text, body []byte, err error) {
	broken := errors.New("this .glb file is cut off or not whole")
	if binary.LittleEndian.Uint32(data[4:]) != 2 {
		return nil, nil, errors.New("this is not version 2 of glTF")
	}
	for at := 12; at+8 <= len(data); {
		length, kind := int(binary.LittleEndian.Uint32(data[at:])), string(data[at+4:at+8])
		if length < 0 || length > len(data)-at-8 {
			return nil, nil, broken
		}
		part := data[at+8 : at+8+length]
		switch kind {
		case "JSON":
			text = part
		case "BIN\x00":
			body = part
		}
		at += 8 + length
	}
	if text == nil {
		return nil, nil, broken
	}
	return text, body, nil
}

type gltfReader struct {
	gltf
	data  [][]byte
	above map[int]int // of each node that hangs below another, that
}

const mostAbove = 100 // nodes that a camera hangs below

func readGLTF(text, body []byte, shot ShotFrames) (*treatment.Solved, *treatment.Lens, string, error) {
	fail := func(err error) (*treatment.Solved, *treatment.Lens, string, error) { return nil, nil, "", err }
	r := &gltfReader{}
	if err := json.Unmarshal(text, &r.gltf); err != nil {
		return fail(fmt.Errorf("the glTF file cannot be read: %w", err))
	}
	for i, b := range r.Buffers {
		switch {
		case b.URI == "" && i == 0 && body != nil:
			r.data = append(r.data, body)
		case strings.HasPrefix(b.URI, "data:"):
			_, packed, ok := strings.Cut(b.URI, ";base64,")
			raw, err := base64.StdEncoding.DecodeString(packed)
			if !ok || err != nil {
				return fail(fmt.Errorf("buffer %d of the glTF file is not base64", i))
			}
			r.data = append(r.data, raw)
		default:
			return fail(errors.New("the file's numbers are in another file: save it as .glb, or with its buffers embedded"))
		}
	}
	node := slices.IndexFunc(r.Nodes, func(n gltfNode) bool { return n.Camera != nil })
	r.above = map[int]int{}
	for i := range r.Nodes {
		for _, c := range r.Nodes[i].Children {
			r.above[c] = i
		}
	}
	if node < 0 {
		return fail(errors.New("there is no camera in this glTF file"))
	}
	k := *r.Nodes[node].Camera
	if k < 0 || k >= len(r.Cameras) || r.Cameras[k].Perspective == nil || !isFov(r.Cameras[k].Perspective.Yfov) {
		return fail(errors.New("its camera is not a perspective camera with a vertical field of view"))
	}
	lens := &treatment.Lens{Size: [2]int{shot.Width, shot.Height}}
	if a := r.Cameras[k].Perspective.Aspect; a != 0 {
		if want := float64(shot.Width) / float64(shot.Height); math.Abs(a/want-1) > 0.02 {
			lens.Squeeze = a / want
			if lens.Squeeze < 0.25 || lens.Squeeze > 4 {
				return fail(fmt.Errorf("its camera's pictures are %.3g times as wide as high, the shot's %.3g times", a, want))
			}
		}
	}
	moves, zoom, end, err := r.moves(k)
	if err != nil {
		return fail(err)
	}
	frames := shot.Last - shot.First + 1
	if end > 0 {
		if lasts := end*shot.Rate + 1; math.Abs(lasts-float64(frames)) > 0.6 {
			return fail(fmt.Errorf("its camera moves for %.2f seconds, which is %.1f frames at the shot's %g a second; the shot has %d: "+
				"bring in a camera of the shot's length and rate", end, lasts, shot.Rate, frames))
		}
	}
	path := &treatment.Solved{}
	for n := range frames {
		eye, turn, err := r.at(node, moves, float64(n)/shot.Rate)
		if err != nil {
			return fail(err)
		}
		yfov := r.Cameras[k].Perspective.Yfov
		if zoom != nil {
			if yfov = zoom.at(float64(n) / shot.Rate)[0]; !isFov(yfov) {
				return fail(fmt.Errorf("the field of view of frame %d is %g", shot.First+n, yfov))
			}
		}
		path.Views = append(path.Views, treatment.CameraView{Frame: shot.First + n, Focal: float64(shot.Height) / 2 / math.Tan(yfov/2), Eye: eye, Turn: turn.Quaternion()})
	}
	for _, m := range r.Meshes {
		for _, p := range m.Primitives {
			if at, ok := p.Attributes["POSITION"]; ok && p.Mode == gltfPoints && len(path.Points) == 0 {
				values, err := r.read(at, 3)
				if err != nil {
					return fail(err)
				}
				for i := 0; i+2 < len(values) && len(path.Points) < 100_000; i += 3 {
					path.Points = append(path.Points, treatment.CameraPoint{At: [3]float64{values[i], values[i+1], values[i+2]}, First: shot.First, Last: shot.Last})
				}
			}
		}
	}
	return path, lens, "", path.Check()
}

// isFov reports whether a vertical field of view, in radians, can be a camera's.
func isFov(v float64) bool { return v > 0.001 && v < 3.1 }

// A gltfMove is how one property changes.
type gltfMove struct {
	times, values []float64
	how           string
	size          int
}

type gltfMoves map[int]map[string]*gltfMove

// moves reads all animation of nodes, that of a camera's field of view if there is one, and when the last of it ends.
func (r *gltfReader) moves(camera int) (out gltfMoves, zoom *gltfMove, end float64, err error) {
	out = gltfMoves{}
	for i := range r.Animations {
		a := &r.Animations[i]
		for _, c := range a.Channels {
			p := c.Target.Extensions[animationPointer]
			if zooms := c.Target.Path == "pointer" && p != nil && p.Pointer == yfovPointer(camera); zooms {
				if zoom, err = r.move(a, c.Sampler, 1); err != nil {
					return nil, nil, 0, err
				}
				end = math.Max(end, zoom.end())
				continue
			}
			size := map[string]int{"translation": 3, "rotation": 4, "scale": 3}[c.Target.Path]
			if size == 0 || c.Target.Node == nil {
				continue
			}
			m, err := r.move(a, c.Sampler, size)
			if err != nil {
				return nil, nil, 0, err
			}
			if out[*c.Target.Node] == nil {
				out[*c.Target.Node] = map[string]*gltfMove{}
			}
			out[*c.Target.Node][c.Target.Path] = m
			end = math.Max(end, m.end())
		}
	}
	return out, zoom, end, nil
}

// move reads one of an animation's samplers, of so many numbers to each key.
func (r *gltfReader) move(a *gltfAnimation, sampler, size int) (m *gltfMove, err error) {
	if sampler < 0 || sampler >= len(a.Samplers) {
		return nil, errors.New("an animation of the glTF file names a sampler that is not there")
	}
	s := a.Samplers[sampler]
	m = &gltfMove{how: s.Interpolation, size: size}
	if m.times, err = r.read(s.Input, 1); err != nil {
		return nil, err
	}
	if m.values, err = r.read(s.Output, size); err != nil {
		return nil, err
	}
	each := size
	if m.how == "CUBICSPLINE" {
		each *= 3
	}
	if len(m.times) == 0 || len(m.values) != each*len(m.times) {
		return nil, errors.New("an animation of the glTF file has not as many values as times")
	}
	for i := 1; i < len(m.times); i++ {
		if !(m.times[i] > m.times[i-1]) {
			return nil, errors.New("the times of an animation of the glTF file do not go on")
		}
	}
	return m, nil
}

// end is the time of the last key.
func (m *gltfMove) end() float64 { return m.times[len(m.times)-1] }

// at returns the values at a time.
func (m *gltfMove) at(t float64) []float64 {
	n := len(m.times)
	each, skip := m.size, 0
	if m.how == "CUBICSPLINE" {
		each, skip = 3*m.size, m.size
	}
	key := func(i int) []float64 { return m.values[i*each+skip : i*each+skip+m.size] }
	i := 0
	for i < n && m.times[i] <= t {
		i++
	}
	switch {
	case i == 0:
		return key(0)
	case i == n:
		return key(n - 1)
	case m.how == "STEP":
		return key(i - 1)
	}
	dt := m.times[i] - m.times[i-1]
	u := (t - m.times[i-1]) / dt
	a, b := key(i-1), key(i)
	out := make([]float64, m.size)
	if m.how == "CUBICSPLINE" {
		leave, come := m.values[(i-1)*each+2*m.size:i*each], m.values[i*each:i*each+m.size]
		for k := range out {
			out[k] = (2*u*u*u-3*u*u+1)*a[k] + dt*(u*u*u-2*u*u+u)*leave[k] + (3*u*u-2*u*u*u)*b[k] + dt*(u*u*u-u*u)*come[k]
		}
		return out
	}
	sign := 1.0
	if m.size == 4 && a[0]*b[0]+a[1]*b[1]+a[2]*b[2]+a[3]*b[3] < 0 {
		sign = -1
	}
	for k := range out {
		out[k] = a[k] + (sign*b[k]-a[k])*u // of turns a frame apart mixing is as good as turning
	}
	return out
}

// at returns where a node is in the world at a time, and how it is turned; what scales it does not matter to a camera but for what
// is below it.
func (r *gltfReader) at(node int, moves gltfMoves, t float64) (camera.Vec, camera.Rotation, error) {
	m, err := r.matrix(node, moves, t)
	if err != nil {
		return camera.Vec{}, camera.Straight, err
	}
	for child, steps := node, 0; ; steps++ {
		up, hangs := r.above[child]
		if !hangs {
			break
		}
		if steps > mostAbove {
			return camera.Vec{}, camera.Straight, fmt.Errorf("the camera of the glTF file hangs below more than %d nodes, or in a circle", mostAbove)
		}
		a, err := r.matrix(up, moves, t)
		if err != nil {
			return camera.Vec{}, camera.Straight, err
		}
		m = affine(a, m)
		child = up
	}
	// The axes, without scale.
	x, y := camera.Vec{m[0], m[4], m[8]}.Unit(), camera.Vec{m[1], m[5], m[9]}
	y = y.Sub(x.Mul(x.Dot(y))).Unit()
	z := x.Cross(y)
	if x.Len() == 0 || y.Len() == 0 {
		return camera.Vec{}, camera.Straight, errors.New("the camera of the glTF file has no size")
	}
	return camera.Vec{m[3], m[7], m[11]}, camera.Rotation{x[0], y[0], z[0], x[1], y[1], z[1], x[2], y[2], z[2]}, nil
}

// affine is the product of two 3 x 4 matrices.
func affine(a, b [12]float64) (out [12]float64) {
	for r := range 3 {
		for c := range 4 {
			for k := range 3 {
				out[4*r+c] += a[4*r+k] * b[4*k+c]
			}
		}
		out[4*r+3] += a[4*r+3]
	}
	return out
}

// matrix returns a node's own transform at a time, 3 x 4 by rows.
func (r *gltfReader) matrix(node int, moves gltfMoves, t float64) (out [12]float64, err error) {
	n := &r.Nodes[node]
	if len(n.Matrix) == 16 && moves[node] == nil {
		for row := range 3 {
			for c := range 4 {
				out[4*row+c] = n.Matrix[4*c+row]
			}
		}
		return out, nil
	}
	at, turn, scale := [3]float64{}, [4]float64{0, 0, 0, 1}, [3]float64{1, 1, 1}
	if n.Translation != nil {
		at = *n.Translation
	}
	if n.Rotation != nil {
		turn = *n.Rotation
	}
	if n.Scale != nil {
		scale = *n.Scale
	}
	for path, m := range moves[node] {
		switch v := m.at(t); path {
		case "translation":
			at = [3]float64(v)
		case "rotation":
			turn = [4]float64(v)
		case "scale":
			scale = [3]float64(v)
		}
	}
	if turn[0]*turn[0]+turn[1]*turn[1]+turn[2]*turn[2]+turn[3]*turn[3] < 1e-6 {
		return out, errors.New("a turn of the glTF file is no quaternion")
	}
	rot := camera.OfQuaternion(turn)
	for row := range 3 {
		for c := range 3 {
			out[4*row+c] = rot[3*row+c] * scale[c]
		}
		out[4*row+3] = at[row]
	}
	return out, nil
}

// read returns the numbers of an accessor, of so many to each element.
func (r *gltfReader) read(i, size int) ([]float64, error) {
	wrong := fmt.Errorf("accessor %d of the glTF file does not fit what it is of", i)
	if i < 0 || i >= len(r.Accessors) {
		return nil, wrong
	}
	a := &r.Accessors[i]
	if a.ComponentType != gltfFloat || map[string]int{"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}[a.Type] != size || a.Count < 0 || a.Count > mostKeys {
		return nil, fmt.Errorf("%w: floats are read, %d at most", wrong, mostKeys)
	}
	if a.BufferView < 0 || a.BufferView >= len(r.BufferViews) {
		return nil, wrong
	}
	v := &r.BufferViews[a.BufferView]
	if v.Buffer < 0 || v.Buffer >= len(r.data) {
		return nil, wrong
	}
	stride := v.ByteStride
	if stride == 0 {
		stride = 4 * size
	}
	data := r.data[v.Buffer]
	at := v.ByteOffset + a.ByteOffset
	if v.ByteOffset < 0 || a.ByteOffset < 0 || stride < 4*size || stride > 255 || at < 0 || at > len(data) || a.Count > 0 && at+(a.Count-1)*stride+4*size > len(data) {
		return nil, wrong
	}
	out := make([]float64, 0, a.Count*size)
	for k := range a.Count {
		for c := range size {
			f := float64(math.Float32frombits(binary.LittleEndian.Uint32(data[at+k*stride+4*c:])))
			if math.IsNaN(f) || math.IsInf(f, 0) {
				return nil, wrong
			}
			out = append(out, f)
		}
	}
	return out, nil
}
