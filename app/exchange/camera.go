package exchange

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"

	"jardin/core/camera"
	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// CameraFormat and CameraVersion stand at the head of a camera's JSON file (docs/formats.md).
const (
	CameraFormat  = "jardin/camera"
	CameraVersion = 1
)

// A Camera is a shot's camera as it leaves and comes: in the world as it is laid, right-handed, y up; a camera looks along its own -z,
// with x to the right and y up.
type Camera struct {
	Format  string                  `json:"format"`
	Version int                     `json:"version"`
	Size    [2]int                  `json:"size"` // of the pictures, pixels
	Rate    float64                 `json:"rate"` // frames a second
	Unit    string                  `json:"unit,omitempty"`
	Lens    treatment.Lens          `json:"lens"`
	Turning bool                    `json:"turning,omitempty"`
	Frames  []treatment.CameraView  `json:"frames"`
	Points  []treatment.CameraPoint `json:"points,omitempty"`
	Cards   []NamedCard             `json:"cards,omitempty"`
}

// A NamedCard is a card of the shot.
type NamedCard struct {
	Name string `json:"name"`
	treatment.Card
}

// CameraOf returns the camera of a document whose artifacts stand in place.
func CameraOf(doc *treatment.Document, rate float64) (*Camera, error) {
	s, err := carry.NewSpace(doc)
	if err != nil {
		return nil, err
	}
	lens := *doc.Lens
	lens.Lines = nil
	out := &Camera{Format: CameraFormat, Version: CameraVersion, Size: lens.Size, Rate: rate, Lens: lens, Turning: s.Turning, Points: s.Points}
	if w := doc.Camera.World; w != nil {
		out.Unit = w.Unit
	}
	for i, n := range s.Frames {
		v := s.Views[n]
		kept := treatment.ViewOf(n, &v)
		kept.RMS, kept.Fits = doc.Camera.Data.Path.Views[i].RMS, doc.Camera.Data.Path.Views[i].Fits
		out.Frames = append(out.Frames, kept)
	}
	for i := range doc.Tracks {
		if c := doc.Tracks[i].Card; c != nil {
			out.Cards = append(out.Cards, NamedCard{doc.Tracks[i].Name, *c})
		}
	}
	return out, nil
}

// JSON returns the camera as Jardin's own file.
func (c *Camera) JSON() []byte {
	out, err := json.MarshalIndent(c, "", " ")
	if err != nil {
		return nil // numbers of a checked document are finite
	}
	return append(out, '\n')
}

// PLY returns the points: places, their errors, and a colour that tells those that do not fit.
func (c *Camera) PLY() []byte {
	var out bytes.Buffer
	fmt.Fprintf(&out, "ply\nformat ascii 1.0\ncomment y up, %s\nelement vertex %d\nproperty double x\nproperty double y\nproperty double z\n"+
		"property float error\nproperty uchar red\nproperty uchar green\nproperty uchar blue\nend_header\n", unitWords(c.Unit), len(c.Points))
	for _, p := range c.Points {
		colour := "220 220 220"
		if p.Off {
			colour = "190 90 60"
		}
		fmt.Fprintf(&out, "%.9g %.9g %.9g %.4g %s\n", p.At[0], p.At[1], p.At[2], p.Error, colour)
	}
	return out.Bytes()
}

// unitWords is a unit as a comment may have it.
func unitWords(unit string) string {
	if unit == "" {
		return "no unit"
	}
	return "lengths in " + strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return '_'
		}
		return r
	}, unit)
}

// Frames of a shot that a camera is brought into.
type ShotFrames struct {
	Width, Height, First, Last int
	Rate                       float64
}

// ReadCamera reads a camera: Jardin's JSON, or glTF 2.0 (.gltf with its numbers in it, or .glb). It fails with words where the file is
// of another size, rate or length than the shot.
func ReadCamera(data []byte, shot ShotFrames) (*treatment.Solved, *treatment.Lens, string, error) {
	var body []byte
	if len(data) > 20 && string(data[:4]) == "glTF" {
		var err error
		if data, body, err = splitGLB(data); err != nil {
			return nil, nil, "", err
		}
	}
	var head struct {
		Format string            `json:"format"`
		Asset  map[string]any    `json:"asset"`
		_      map[string]string `json:"-"`
	}
	if err := json.Unmarshal(data, &head); err != nil {
		return nil, nil, "", errors.New("this is neither a camera in JSON nor a glTF file")
	}
	switch {
	case head.Format == CameraFormat:
		return readCameraJSON(data, shot)
	case head.Asset != nil:
		return readGLTF(data, body, shot)
	}
	return nil, nil, "", fmt.Errorf("this JSON file is no camera: a format of %q, or glTF 2.0 with an asset, is needed", CameraFormat)
}

func readCameraJSON(data []byte, shot ShotFrames) (*treatment.Solved, *treatment.Lens, string, error) {
	var c Camera
	if err := json.Unmarshal(data, &c); err != nil {
		return nil, nil, "", fmt.Errorf("the camera cannot be read: %w", err)
	}
	if c.Version != CameraVersion {
		return nil, nil, "", fmt.Errorf("this is version %d of the camera's format; this program reads %d", c.Version, CameraVersion)
	}
	if c.Size != [2]int{shot.Width, shot.Height} {
		return nil, nil, "", fmt.Errorf("the camera is of pictures of %d x %d, the shot's are %d x %d: give its focal length, centre and size for those",
			c.Size[0], c.Size[1], shot.Width, shot.Height)
	}
	if err := sameRate(c.Rate, shot.Rate); err != nil {
		return nil, nil, "", err
	}
	path := &treatment.Solved{Points: c.Points, Turning: c.Turning}
	for _, v := range c.Frames {
		if v.Frame >= shot.First && v.Frame <= shot.Last {
			path.Views = append(path.Views, v)
		}
	}
	if len(path.Views) < shot.Last-shot.First+1 {
		return nil, nil, "", fmt.Errorf("the camera is known on %d of the shot's frames, %d to %d; it is needed on all %d",
			len(path.Views), shot.First, shot.Last, shot.Last-shot.First+1)
	}
	c.Lens.Lines = nil
	if _, err := c.Lens.Of(); err != nil {
		return nil, nil, "", err
	}
	return path, &c.Lens, c.Unit, path.Check()
}

func sameRate(rate, shot float64) error {
	if !(math.Abs(rate-shot) < 0.02) {
		return fmt.Errorf("the camera runs at %g frames a second, the shot at %g: bring in a camera with one key for each frame at the shot's rate", rate, shot)
	}
	return nil
}

// ReadLens reads a lens from an ST map of one direction: for each pixel of the straight picture where on the plate it is seen, or the
// other way round, which is told by what fits better. The lens is that of least squared distances; off is what is left, pixels, RMS.
func ReadLens(r, g []float32, width, height int) (lens *treatment.Lens, off float64, err error) {
	m := &stMap{r, g, width, height}
	var at, to []geom.Point
	for y := 8.5; y < float64(height); y += 16 {
		for x := 8.5; x < float64(width); x += 16 {
			if p, ok := m.at(geom.Pt(x, y)); ok {
				at, to = append(at, geom.Pt(x, y)), append(to, p)
			}
		}
	}
	if len(at) < 50 {
		return nil, 0, errors.New("hardly any of its pixels say where they come from")
	}
	centre := geom.Pt(float64(width)/2, float64(height)/2)
	in, offIn, err1 := camera.LensFromPlaces(width, height, centre, at, to)
	out, offOut, err2 := camera.LensFromPlaces(width, height, centre, to, at)
	switch {
	case err1 != nil && err2 != nil:
		return nil, 0, err1
	case err1 != nil || err2 == nil && offOut < offIn:
		in, offIn = out, offOut
	}
	if offIn > 2 {
		return nil, 0, fmt.Errorf("this map is no lens whose curve goes around the picture's middle: the nearest one is %.1f px off", offIn)
	}
	return &treatment.Lens{Size: [2]int{width, height}, K: in.K}, offIn, nil
}
