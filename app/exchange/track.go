// Package exchange writes tracks, outlines and warps in open formats and reads
// them back. docs/formats.md is their published description.
package exchange

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// TrackFormat stands at the head of a track in JSON.
const TrackFormat = "jardin/track"

// convention is said in every JSON file.
const convention = "x right, y down, the centre of the top left pixel at (0.5, 0.5); matrices by rows, acting on column vectors (x, y, 1), from the home frame to the sample's frame; corners clockwise from the top left"

// A Track is a track as others get it: where the surface is on each frame,
// corrections included.
type Track struct {
	Format     string        `json:"format"`
	Version    int           `json:"version"`
	Convention string        `json:"convention"`
	Name       string        `json:"name"`
	Home       int           `json:"home"`
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
	for _, s := range m.Samples {
		out.Samples = append(out.Samples, Sample{
			Frame: s.Frame, Matrix: s.Matrix, Corners: four(s.Matrix.ApplyAll(surface)), Match: s.Match, Agree: s.Agree, Residual: s.Residual,
		})
	}
	for i := range t.Points {
		p := &t.Points[i]
		if p.Off {
			continue
		}
		path := Point{Name: p.Name}
		match := map[int]float64{}
		if p.Path != nil {
			for _, s := range p.Path.Samples {
				match[s.Frame] = s.Match
			}
		}
		places := carry.Path(t, p)
		frames := make([]int, 0, len(places))
		for n := range places {
			frames = append(frames, n)
		}
		slices.Sort(frames)
		for _, n := range frames {
			at := places[n].Add(p.Use.Point())
			path.Samples = append(path.Samples, PointSample{n, [2]float64{at.X, at.Y}, match[n]})
		}
		out.Points = append(out.Points, path)
	}
	return out
}

// JSON writes a track as JSON.
func (t *Track) JSON() []byte {
	blob, _ := json.MarshalIndent(t, "", " ") // plain data: nothing can fail
	return append(blob, '\n')
}

var (
	matrixColumns = []string{"frame", "h11", "h12", "h13", "h21", "h22", "h23", "h31", "h32", "h33"}
	cornerColumns = []string{"frame", "x1", "y1", "x2", "y2", "x3", "y3", "x4", "y4"}
	pointColumns  = []string{"point", "frame", "x", "y", "match"}
)

// CSV writes a track as comma-separated values (RFC 4180): its matrices, the
// corners of its surface, or its points.
func (t *Track) CSV(what string) ([]byte, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	number := func(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) }
	row := func(frame int, values ...float64) {
		line := []string{strconv.Itoa(frame)}
		for _, v := range values {
			line = append(line, number(v))
		}
		_ = w.Write(line) // into memory: nothing can fail
	}
	switch what {
	case "matrices":
		_ = w.Write(matrixColumns)
		for _, s := range t.Samples {
			row(s.Frame, s.Matrix[:]...)
		}
	case "corners":
		_ = w.Write(cornerColumns)
		for _, s := range t.Samples {
			c := s.Corners
			row(s.Frame, c[0][0], c[0][1], c[1][0], c[1][1], c[2][0], c[2][1], c[3][0], c[3][1])
		}
	case "points":
		if len(t.Points) == 0 {
			return nil, errors.New("this track has no points; take its matrices or corners")
		}
		_ = w.Write(pointColumns)
		for _, p := range t.Points {
			for _, s := range p.Samples {
				_ = w.Write([]string{p.Name, strconv.Itoa(s.Frame), number(s.At[0]), number(s.At[1]), number(s.Match)})
			}
		}
	default:
		return nil, fmt.Errorf("%q is nothing that a track holds; choose matrices, corners or points", what)
	}
	w.Flush()
	return out.Bytes(), w.Error()
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

// given makes a track of samples.
func given(t *treatment.Track, samples []treatment.Sample) error {
	if len(samples) == 0 {
		return errors.New("it holds no frames")
	}
	slices.SortFunc(samples, func(a, b treatment.Sample) int { return a.Frame - b.Frame })
	for i, s := range samples {
		if i > 0 && s.Frame == samples[i-1].Frame {
			return fmt.Errorf("frame %d stands in it twice; leave one out", s.Frame)
		}
		if !s.Matrix.Finite() || s.Matrix.Det() == 0 {
			return fmt.Errorf("the place on frame %d cannot be: its matrix cannot be inverted", s.Frame)
		}
	}
	t.Kind, t.Data = treatment.GivenTrack, &treatment.Data{Samples: samples}
	return nil
}

// withPoints makes a track of paths of points.
func withPoints(t *treatment.Track, paths []Point) error {
	t.Kind, t.Motion = treatment.PointsTrack, geom.Perspective
	for i, path := range paths {
		if len(path.Samples) == 0 {
			continue
		}
		p := treatment.Point{
			ID: fmt.Sprintf("p%d", i+1), Name: path.Name, Pattern: treatment.Vec{31, 31}, Search: treatment.Vec{81, 81},
			Motion: geom.Similarity, Channel: "luma", Against: "reference", Tolerance: 0.7, Path: &treatment.PointPath{},
		}
		best := math.MaxInt
		for _, s := range path.Samples {
			p.Path.Samples = append(
				p.Path.Samples,
				treatment.PointSample{Frame: s.Frame, At: treatment.Vec(s.At), Match: s.Match},
			)
			if d := max(s.Frame-t.Home, t.Home-s.Frame); d < best {
				best, p.Home, p.At = d, s.Frame, treatment.Vec(s.At)
			}
		}
		t.Points = append(t.Points, p)
	}
	if len(t.Points) == 0 {
		return errors.New("it holds no points")
	}
	return nil
}

func readCSV(blob []byte, name string, home int) (*treatment.Track, error) {
	reader := csv.NewReader(bytes.NewReader(blob))
	reader.TrimLeadingSpace, reader.Comment = true, '#'
	head, err := reader.Read()
	if err != nil {
		return nil, errors.New("this is neither JSON nor comma-separated values with a line of column names")
	}
	place := map[string]int{}
	for i, h := range head {
		place[strings.ToLower(strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))] = i
	}
	has := func(columns []string) bool {
		for _, c := range columns {
			if _, ok := place[c]; !ok {
				return false
			}
		}
		return true
	}
	t := &treatment.Track{Name: name, Home: home, Motion: geom.Perspective}
	type corners struct {
		frame int
		at    []geom.Point
	}
	var samples []treatment.Sample
	var placed []corners
	var paths []Point
	for line := 2; ; line++ {
		row, err := reader.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		number := func(column string) float64 {
			v, e := strconv.ParseFloat(strings.TrimSpace(row[place[column]]), 64)
			if e != nil && err == nil {
				err = fmt.Errorf("line %d: %s is %q, which is not a number", line, column, row[place[column]])
			}
			return v
		}
		frame := 0
		if _, ok := place["frame"]; ok {
			frame = int(number("frame"))
		}
		switch {
		case has(matrixColumns):
			s := treatment.Sample{Frame: frame}
			for i, c := range matrixColumns[1:] {
				s.Matrix[i] = number(c)
			}
			samples = append(samples, s)
		case has(cornerColumns):
			c := corners{frame: frame}
			for i := range 4 {
				c.at = append(c.at, geom.Pt(number(cornerColumns[1+2*i]), number(cornerColumns[2+2*i])))
			}
			placed = append(placed, c)
		case has(pointColumns[:4]):
			who := strings.TrimSpace(row[place["point"]])
			s := PointSample{Frame: frame, At: [2]float64{number("x"), number("y")}}
			if _, ok := place["match"]; ok {
				s.Match = number("match")
			}
			i := slices.IndexFunc(paths, func(p Point) bool { return p.Name == who })
			if i < 0 {
				i, paths = len(paths), append(paths, Point{Name: who})
			}
			paths[i].Samples = append(paths[i].Samples, s)
		default:
			return nil, fmt.Errorf(
				"the columns %s are not known; a track has %s, or %s, or %s",
				strings.Join(head, ","),
				strings.Join(matrixColumns, ","),
				strings.Join(cornerColumns, ","),
				strings.Join(pointColumns, ","),
			)
		}
		if err != nil {
			return nil, err
		}
	}
	if len(paths) > 0 {
		return t, withPoints(t, paths)
	}
	if len(placed) > 0 {
		// The frame nearest to home is where the corners are at rest.
		base := slices.MinFunc(placed, func(a, b corners) int {
			return max(a.frame-home, home-a.frame) - max(b.frame-home, home-b.frame)
		})
		t.Home = base.frame
		for _, p := range base.at {
			t.Surface = append(t.Surface, treatment.Vec{p.X, p.Y})
		}
		for _, c := range placed {
			h, err := geom.Fit(geom.Perspective, base.at, c.at, nil)
			if err != nil {
				return nil, fmt.Errorf("frame %d: the four corners lie on one line", c.frame)
			}
			samples = append(samples, treatment.Sample{Frame: c.frame, Matrix: h})
		}
	}
	return t, given(t, samples)
}
