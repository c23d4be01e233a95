package treatment

import (
	"fmt"
	"math"

	"jardin/core/camera"
	"jardin/core/geom"
)

// A Lens is what the shot's lens does to straight lines, the same on all frames (geom.Lens).
type Lens struct {
	Size    [2]int         `json:"size" doc:"Width and height of the shot's pictures, pixels"`
	K       [3]float64     `json:"k" doc:"Radial terms: what is at a straight radius r is seen at r (1 + k1 r² + k2 r⁴ + k3 r⁶); radius 1 is half the picture's diagonal, with square pixels"`
	Centre  *Vec           `json:"centre,omitempty" doc:"Principal point, pixels; the middle of the picture where left out"`
	Squeeze float64        `json:"squeeze,omitempty" minimum:"0.25" maximum:"4" doc:"Width of a pixel beside its height, of an anamorphic lens; 1 where left out"`
	Lines   []StraightLine `json:"lines,omitempty" maxItems:"200" doc:"What is straight in the set, as it is seen"`
}

// A StraightLine is something straight, drawn on a frame.
type StraightLine struct {
	Frame  int   `json:"frame"`
	Points []Vec `json:"points" nullable:"false" minItems:"3" maxItems:"200"`
}

// Of returns the lens; nil does nothing. It fails with geom.ErrFolds.
func (l *Lens) Of() (geom.Lens, error) {
	if l == nil {
		return geom.Lens{}, nil
	}
	centre := geom.Pt(float64(l.Size[0])/2, float64(l.Size[1])/2)
	if l.Centre != nil {
		centre = l.Centre.Point()
	}
	return geom.LensOf(l.K, l.Size[0], l.Size[1], centre, l.Squeeze)
}

// A Camera says how the shot's camera is found, where it was, and how the space is laid that it saw.
type Camera struct {
	Focal   string      `json:"focal" enum:"known,fixed,zooming" doc:"Its focal length is known; it is unknown, and the same on all frames; it is another one on each frame"`
	Length  float64     `json:"length,omitempty" minimum:"0" maximum:"1000000" doc:"Focal length, in pixels of the picture's height, where it is known"`
	Terms   int         `json:"terms,omitempty" minimum:"0" maximum:"3" doc:"How many terms of the lens are found as well; the others are those of the lens"`
	Centre  bool        `json:"centre,omitempty" doc:"The principal point is found as well"`
	Squeeze bool        `json:"squeeze,omitempty" doc:"The lens's squeeze is found as well, from what is typed on"`
	Off     []Shape     `json:"off,omitempty" maxItems:"200" doc:"What is left out; rides on nothing unless it names a track"`
	World   *World      `json:"world,omitempty" doc:"How the space is laid, from how it was found; as it was found where left out"`
	Data    *CameraData `json:"data,omitempty" doc:"What was found, or brought in"`
}

// A World moves the space that was found: scaled, turned, then shifted.
type World struct {
	Scale float64    `json:"scale"`
	Turn  [4]float64 `json:"turn" doc:"Quaternion: x, y, z, w"`
	Shift [3]float64 `json:"shift"`
	Unit  string     `json:"unit,omitempty" maxLength:"20" doc:"Of lengths, as the artist calls it"`
}

// Similarity returns the world's.
func (w *World) Similarity() camera.Similarity {
	if w == nil {
		return camera.Same
	}
	return camera.Similarity{Scale: w.Scale, R: camera.OfQuaternion(w.Turn), T: w.Shift}
}

// WorldOf returns a similarity as it is kept.
func WorldOf(s camera.Similarity, unit string) *World {
	return &World{Scale: s.Scale, Turn: s.R.Quaternion(), Shift: s.T, Unit: unit}
}

// CameraData is a camera's path: in place, or as the SHA-256 of an artifact that holds it.
type CameraData struct {
	Artifact string  `json:"artifact,omitempty" pattern:"^[0-9a-f]{64}$"`
	Given    bool    `json:"given,omitempty" doc:"It was brought in from elsewhere"`
	Path     *Solved `json:"path,omitempty"`
}

// Solved is where the camera was, and what it saw. The world is right-handed, y up; the camera looks along its own -z, with x to the
// right and y up, as in glTF.
type Solved struct {
	Views   []CameraView  `json:"views" nullable:"false" doc:"By frame"`
	Points  []CameraPoint `json:"points,omitempty"`
	Turning bool          `json:"turning,omitempty" doc:"The camera only turned: how far things are away is not known"`
	RMS     float64       `json:"rms,omitempty" doc:"Of where points are seen beside where they should be, pixels"`
}

// A CameraView is the camera on one frame.
type CameraView struct {
	Frame int        `json:"frame"`
	Focal float64    `json:"focal" doc:"Pixels of the picture's height"`
	Eye   [3]float64 `json:"eye" doc:"Where it is"`
	Turn  [4]float64 `json:"turn" doc:"How it is turned: quaternion x, y, z, w, from the camera's axes to the world's"`
	RMS   float64    `json:"rms,omitempty" doc:"Pixels"`
	Fits  int        `json:"fits,omitempty" doc:"Points that are seen where they should be"`
}

// A CameraPoint is a feature that was followed, and where it is.
type CameraPoint struct {
	At    [3]float64 `json:"at"`
	Error float64    `json:"error,omitempty" doc:"RMS of where it is seen beside where it should be, pixels"`
	Off   bool       `json:"off,omitempty" doc:"It does not fit: it moves by itself, or was followed wrongly"`
	First int        `json:"first" doc:"Frame from which on it is seen"`
	Last  int        `json:"last"`
}

// axes turns the camera's axes as the document has them, y up, to those of package camera, y down.
var axes = camera.Rotation{1, 0, 0, 0, -1, 0, 0, 0, -1}

// View returns the camera as package camera has it, in a world that was moved.
func (v *CameraView) View(s camera.Similarity) camera.View {
	r := axes.Mul(camera.OfQuaternion(v.Turn).Transposed())
	return camera.View{Pose: s.Pose(camera.PoseAt(v.Eye, r)), Focal: v.Focal}
}

// ViewOf returns a camera as it is kept.
func ViewOf(frame int, v *camera.View) CameraView {
	return CameraView{Frame: frame, Focal: v.Focal, Eye: v.Pose.Eye(), Turn: axes.Mul(v.Pose.R).Transposed().Quaternion()}
}

// A Card is a rectangle in space.
type Card struct {
	At   [3]float64 `json:"at" doc:"Its middle, in the world as it is laid"`
	Turn [4]float64 `json:"turn" doc:"Quaternion x, y, z, w: its own x is to the right, y up, z towards who looks at it"`
	Size [2]float64 `json:"size" doc:"Width and height, in the world's unit"`
}

// Corners returns its corners: upper left, upper right, lower right, lower left.
func (c *Card) Corners() [4]camera.Vec {
	r := camera.OfQuaternion(c.Turn)
	x, y := r.Apply(camera.Vec{c.Size[0] / 2, 0, 0}), r.Apply(camera.Vec{0, c.Size[1] / 2, 0})
	m := camera.Vec(c.At)
	return [4]camera.Vec{m.Sub(x).Add(y), m.Add(x).Add(y), m.Add(x).Sub(y), m.Sub(x).Sub(y)}
}

// Moved returns the card in a world that is moved.
func (c *Card) Moved(s camera.Similarity) Card {
	r := s.R.Mul(camera.OfQuaternion(c.Turn))
	return Card{At: s.Apply(c.At), Turn: r.Quaternion(), Size: [2]float64{c.Size[0] * s.Scale, c.Size[1] * s.Scale}}
}

func (f *faultList) lens(l *Lens) {
	if l == nil {
		return
	}
	if l.Size[0] < 1 || l.Size[1] < 1 || l.Size[0] > 65536 || l.Size[1] > 65536 {
		f.add("/lens/size", "is %d x %d pixels; that of the shot's pictures is needed", l.Size[0], l.Size[1])
		return
	}
	for i, k := range l.K {
		if !(math.Abs(k) <= 2) {
			f.add("/lens/k", "term %d is %g; from -2 to 2 are possible", i+1, k)
		}
	}
	if l.Centre != nil && !l.Centre.Point().Finite() {
		f.add("/lens/centre", "is no place")
	}
	if l.Squeeze != 0 && !(l.Squeeze >= 0.25 && l.Squeeze <= 4) {
		f.add("/lens/squeeze", "is %g; from 0.25 to 4 are possible", l.Squeeze)
	}
	if _, err := l.Of(); err != nil {
		f.add("/lens/k", "%v", err)
	}
	for i, s := range l.Lines {
		if len(s.Points) < 3 {
			f.add("/lens/lines", "line %d has %d points; 3 are needed to tell whether it bows", i+1, len(s.Points))
		}
	}
}

const (
	mostViews       = 100_000
	mostPoints      = 100_000
	farthestInSpace = 1e9
)

func sound(v ...float64) bool {
	for _, x := range v {
		if !(math.Abs(x) <= farthestInSpace) {
			return false
		}
	}
	return true
}

func turns(q [4]float64) bool {
	n := q[0]*q[0] + q[1]*q[1] + q[2]*q[2] + q[3]*q[3]
	return n > 0.25 && n < 4
}

func (c *checker) camera() {
	m := c.doc.Camera
	if m == nil {
		return
	}
	switch m.Focal {
	case "known", "fixed", "zooming":
	default:
		c.fault("/camera/focal", "is %q; known, fixed and zooming are possible", m.Focal)
	}
	c.within("/camera/length", m.Length, 0, 1e6, " pixels")
	if m.Terms < 0 || m.Terms > 3 {
		c.fault("/camera/terms", "is %d; from 0 to 3 are possible", m.Terms)
	}
	own := c.ids()
	for i := range m.Off {
		place := fmt.Sprintf("/camera/off/%d", i)
		own(place, m.Off[i].ID)
		c.shape(place, &m.Off[i])
	}
	if w := m.World; w != nil && (!(w.Scale > 1e-9 && w.Scale < 1e9) || !turns(w.Turn) || !sound(w.Shift[:]...)) {
		c.fault("/camera/world", "is none: a scale above 0, a quaternion of length 1 and a shift are needed")
	}
	if m.Data == nil {
		return
	}
	if c.doc.Lens == nil {
		c.fault("/camera/data", "needs a lens beside it, which says where the picture's middle is")
	}
	if (m.Data.Artifact == "") == (m.Data.Path == nil) {
		c.fault("/camera/data", "it needs either a path or an artifact")
	}
	if m.Data.Path != nil {
		if err := m.Data.Path.Check(); err != nil {
			c.fault("/camera/data", "%v", err)
		}
	}
}

func (s *Solved) check(f *faultList) {
	if len(s.Views) > mostViews || len(s.Points) > mostPoints {
		f.add("path", "holds %d frames and %d points; %d of each are the most", len(s.Views), len(s.Points), mostViews)
		return
	}
	for i := range s.Views {
		v := &s.Views[i]
		switch {
		case i > 0 && v.Frame <= s.Views[i-1].Frame:
			f.add("path", "frame %d comes after %d; frames have to be in order, each once", v.Frame, s.Views[i-1].Frame)
		case !(v.Focal > 0.01 && v.Focal < 1e7):
			f.add("path", "the focal length of frame %d is %g pixels", v.Frame, v.Focal)
		case !turns(v.Turn) || !sound(v.Eye[:]...):
			f.add("path", "the camera of frame %d is nowhere: numbers up to %g and a quaternion of length 1 are needed", v.Frame, farthestInSpace)
		}
	}
	for i := range s.Points {
		if !sound(s.Points[i].At[:]...) {
			f.add("path", "point %d is nowhere", i)
		}
	}
}

// Check reports what is wrong with a path.
func (s *Solved) Check() error {
	var f faultList
	s.check(&f)
	return f.join()
}

// Sound reports whether the card is one: somewhere, turned somehow, of some size.
func (k *Card) Sound() bool {
	return sound(k.At[:]...) && turns(k.Turn) && sound(k.Size[:]...) && k.Size[0] > 0 && k.Size[1] > 0
}

func (c *checker) card(at string, k *Card) {
	if !k.Sound() {
		c.fault(at, "is no card: a place, a quaternion of length 1 and a size above 0 are needed")
	}
}
