// Package exchange writes tracks, outlines and warps in open formats and reads
// them back. docs/formats.md is their published description.
package exchange

import (
	"bytes"
	"encoding/json"
	"fmt"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// TrackFormat stands at the head of a track in JSON.
const TrackFormat = "jardin/track"

// convention is said in every JSON file.
const convention = "x right, y down, the centre of the top left pixel at (0.5, 0.5); matrices by rows, acting on " +
	"column vectors (x, y, 1), from the home frame to the sample's frame; corners clockwise from the top left"

// bentNote is said of what a matrix cannot hold.
const bentNote = "this surface bends: matrices and corners hold what of its motion does not; its warps as ST maps hold all of it"

// A Track is a track as others get it: where the surface is on each frame,
// corrections included.
type Track struct {
	Format     string        `json:"format"`
	Version    int           `json:"version"`
	Convention string        `json:"convention"`
	Name       string        `json:"name"`
	Home       int           `json:"home"`
	Note       string        `json:"note,omitempty"`
	Surface    [4][2]float64 `json:"surface"`
	Samples    []Sample      `json:"samples"`
	Points     []Point       `json:"points,omitempty"`
}

// A Sample is a surface on one frame.
type Sample struct {
	Frame    int             `json:"frame"`
	Matrix   geom.Homography `json:"matrix"`
	Corners  [4][2]float64   `json:"corners"`
	Match    float64         `json:"match,omitempty"`
	Agree    float64         `json:"agree,omitempty"`
	Residual float64         `json:"residual,omitempty"`
}

// A Point is the path of one point.
type Point struct {
	Name    string        `json:"name"`
	Samples []PointSample `json:"samples"`
}

// A PointSample is a point on one frame.
type PointSample struct {
	Frame int        `json:"frame"`
	At    [2]float64 `json:"at"`
	Match float64    `json:"match,omitempty"`
}

func four(points []geom.Point) (out [4][2]float64) {
	for i := range out {
		out[i] = [2]float64{points[i].X, points[i].Y}
	}
	return out
}

// Of returns a motion as others get it.
func Of(m *carry.Motion) *Track {
	t := m.Track
	surface := t.Frame()
	out := &Track{
		Format:     TrackFormat,
		Version:    1,
		Convention: convention,
		Name:       t.Name,
		Home:       t.Home,
		Surface:    four(surface),
	}
	if t.Bent() {
		out.Note = bentNote
	}
	for _, s := range m.Samples {
		out.Samples = append(out.Samples, Sample{
			Frame: s.Frame, Matrix: s.Matrix, Corners: four(s.Matrix.ApplyAll(surface)), Match: s.Match, Agree: s.Agree,
			Residual: s.Residual,
		})
	}
	out.Points = pathsOf(t)
	return out
}

// JSON writes a track as JSON.
func (t *Track) JSON() []byte {
	blob, _ := json.MarshalIndent(t, "", " ") // plain data: nothing can fail
	return append(blob, '\n')
}

// Read reads a track in any of the formats that are written here. home is the
// frame on which a track without one of its own is the identity.
func Read(blob []byte, name string, home int) (*treatment.Track, error) {
	if text := bytes.TrimSpace(blob); len(text) > 0 && text[0] == '{' {
		return readJSON(text)
	}
	return readCSV(blob, name, home)
}

func readJSON(blob []byte) (*treatment.Track, error) {
	var t Track
	if err := json.Unmarshal(blob, &t); err != nil {
		return nil, fmt.Errorf("this is not a track in JSON: %w", err)
	}
	if t.Format != TrackFormat || t.Version != 1 {
		return nil, fmt.Errorf(
			"this is format %q version %d; tracks are read as %q version 1",
			t.Format,
			t.Version,
			TrackFormat,
		)
	}
	out := &treatment.Track{Name: t.Name, Home: t.Home, Motion: geom.Perspective}
	for _, c := range t.Surface {
		out.Surface = append(out.Surface, treatment.Vec(c))
	}
	if len(t.Points) > 0 {
		return out, withPoints(out, t.Points)
	}
	var samples []treatment.Sample
	for _, s := range t.Samples {
		samples = append(
			samples,
			treatment.Sample{Frame: s.Frame, Matrix: s.Matrix, Match: s.Match, Agree: s.Agree, Residual: s.Residual},
		)
	}
	return out, given(out, samples)
}
