package treatment

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"

	"jardin/core/geom"
)

// Validate checks what a schema cannot say: names that must be unique, frames
// that must lie in the shot, shapes that must have an area. shot is the range of
// the shot, or nil where it is not known. The error names every fault with its
// place in the document.
func (d *Document) Validate(shot *Range) error {
	var faults []error
	fault := func(place, format string, args ...any) {
		faults = append(faults, fmt.Errorf("%s: %s", place, fmt.Sprintf(format, args...)))
	}
	if d.Format != Format || d.Version != Version {
		fault("/", "this is format %q version %d; this program reads %q version %d", d.Format, d.Version, Format, Version)
		return errors.Join(faults...)
	}
	c := checker{doc: d, shot: shot, fault: fault, seen: map[string]bool{}}
	for i := range d.Tracks {
		c.track(fmt.Sprintf("/tracks/%d", i), &d.Tracks[i])
	}
	for i := range d.Removals {
		c.removal(fmt.Sprintf("/removals/%d", i), &d.Removals[i])
	}
	return errors.Join(faults...)
}

// Valid checks one stroke by itself.
func (s *Stroke) Valid() error {
	switch {
	case s.Mode != "clone":
		return fmt.Errorf("mode %q is not known; this version paints with clone", s.Mode)
	case !(s.Size >= 1 && s.Size <= 2000):
		return fmt.Errorf("size %v is not within 1 to 2000 pixels", s.Size)
	case !(s.Hardness >= 0 && s.Hardness <= 1):
		return fmt.Errorf("hardness %v is not within 0 to 1", s.Hardness)
	case !(s.Opacity >= 0 && s.Opacity <= 1):
		return fmt.Errorf("opacity %v is not within 0 to 1", s.Opacity)
	case !reachable(s.Offset.Point()):
		return errors.New("its offset leads too far away")
	case s.Path.Shift != nil && !reachable(s.Path.Shift.Point()):
		return errors.New("its shift leads too far away")
	case s.Path.Artifact == "" && len(s.Path.Points) == 0:
		return errors.New("its path has neither points nor an artifact")
	}
	return ValidPath(s.Path.Points)
}

// ValidPath checks the points of a stroke.
func ValidPath(points [][]float64) error {
	for i, p := range points {
		if len(p) != 2 && len(p) != 3 {
			return fmt.Errorf("point %d has %d numbers; give x, y or x, y, pressure", i, len(p))
		}
		if !reachable(geom.Pt(p[0], p[1])) {
			return fmt.Errorf("point %d lies too far away to be a place on a picture", i)
		}
		if len(p) == 3 && !(p[2] >= 0 && p[2] <= 1) {
			return fmt.Errorf("point %d: pressure %v is not within 0 to 1", i, p[2])
		}
	}
	return nil
}

func reachable(p geom.Point) bool { return math.Abs(p.X) <= 1e5 && math.Abs(p.Y) <= 1e5 }

// Artifacts finds bulk data by the SHA-256 of its content.
type Artifacts func(sha string) ([]byte, error)

// Inline returns a copy of the document in which every artifact is written out
// in place, so that it stands by itself.
func (d *Document) Inline(find Artifacts) (*Document, error) {
	out := *d
	out.Tracks = append([]Track{}, d.Tracks...)
	for i := range out.Tracks {
		t := &out.Tracks[i]
		if t.Data != nil && t.Data.Artifact != "" {
			full := Data{Basis: t.Data.Basis}
			if err := fetch(find, t.Data.Artifact, &full.Samples); err != nil {
				return nil, fmt.Errorf("track %q: %w", t.Name, err)
			}
			t.Data = &full
		}
		t.Points = append([]Point(nil), t.Points...)
		for j := range t.Points {
			p := &t.Points[j]
			if p.Path == nil || p.Path.Artifact == "" {
				continue
			}
			full := PointPath{Basis: p.Path.Basis}
			if err := fetch(find, p.Path.Artifact, &full.Samples); err != nil {
				return nil, fmt.Errorf("point %q of track %q: %w", p.Name, t.Name, err)
			}
			p.Path = &full
		}
	}
	out.Removals = append([]Removal{}, d.Removals...)
	for i := range out.Removals {
		r := &out.Removals[i]
		r.Fill.Strokes = append([]Stroke{}, r.Fill.Strokes...)
		for j := range r.Fill.Strokes {
			s := &r.Fill.Strokes[j]
			if s.Path.Artifact == "" {
				continue
			}
			var points [][]float64
			if err := fetch(find, s.Path.Artifact, &points); err != nil {
				return nil, fmt.Errorf("stroke %d of %q: %w", j+1, r.Name, err)
			}
			s.Path = Path{Points: points, Shift: s.Path.Shift}
		}
	}
	return &out, nil
}

func fetch(find Artifacts, sha string, into any) error {
	if find == nil {
		return fmt.Errorf("artifact %s is named, but none came with the document; export the treatment with its data in place", sha)
	}
	blob, err := find(sha)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(blob, into); err != nil {
		return fmt.Errorf("artifact %s cannot be read: %w", sha, err)
	}
	return nil
}
