package treatment

import (
	"crypto/sha256"
	"encoding/hex"
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
	seen := map[string]bool{}
	unique := func(place, id string) {
		if id == "" {
			fault(place, "an id is missing")
		} else if seen[id] {
			fault(place, "the id %q is used twice; give each its own", id)
		}
		seen[id] = true
	}
	for i := range d.Removals {
		r := &d.Removals[i]
		at := fmt.Sprintf("/removals/%d", i)
		unique(at, r.ID)
		if r.Range.Last < r.Range.First {
			fault(at+"/range", "it ends at %d, before it begins at %d", r.Range.Last, r.Range.First)
		}
		if shot != nil {
			if !shot.Has(r.Reference) {
				fault(at+"/reference", "frame %d is not in the shot (%d to %d)", r.Reference, shot.First, shot.Last)
			}
			if r.Range.First < shot.First || r.Range.Last > shot.Last {
				fault(at+"/range", "%d to %d reaches beyond the shot (%d to %d)", r.Range.First, r.Range.Last, shot.First, shot.Last)
			}
		}
		if !(r.Settle.Opacity >= 0 && r.Settle.Opacity <= 1) {
			fault(at+"/settle/opacity", "%v is not within 0 to 1", r.Settle.Opacity)
		}
		if !(r.Settle.Feather >= 0 && r.Settle.Feather <= 500) {
			fault(at+"/settle/feather", "%v is not within 0 to 500 pixels", r.Settle.Feather)
		}
		inner := map[string]bool{}
		for j := range r.Mark.Outlines {
			o := &r.Mark.Outlines[j]
			place := fmt.Sprintf("%s/mark/outlines/%d", at, j)
			if o.ID == "" || inner[o.ID] {
				fault(place, "it needs an id of its own within the removal")
			}
			inner[o.ID] = true
			if len(o.Points) < 3 {
				fault(place, "an outline needs 3 points or more, this has %d", len(o.Points))
			}
			if !(o.Feather >= 0 && o.Feather <= 500) {
				fault(place+"/feather", "%v is not within 0 to 500 pixels", o.Feather)
			}
			for k, p := range o.Knots() {
				if !reachable(p.At) || !reachable(p.In) || !reachable(p.Out) {
					fault(fmt.Sprintf("%s/points/%d", place, k), "it lies too far away to be a place on a picture")
				}
			}
		}
		switch r.Follow.Motion {
		case geom.Position, geom.Similarity, geom.Perspective:
		default:
			fault(at+"/follow/motion", "%q is not a motion; choose position, similarity or perspective", r.Follow.Motion)
		}
		if n := len(r.Follow.Region); n > 0 {
			if n < 3 {
				fault(at+"/follow/region", "a region needs 3 points or more, this has %d", n)
			} else if !(geom.Area(Points(r.Follow.Region)) >= 16) {
				fault(at+"/follow/region", "its area is too small to be followed; draw it around a piece of the surface")
			}
		}
		if t := r.Follow.Track; t != nil {
			if t.Artifact == "" && len(t.Samples) == 0 {
				fault(at+"/follow/track", "it has neither samples nor an artifact")
			}
			for _, s := range t.Samples {
				if !s.Matrix.Finite() || s.Matrix.Det() == 0 {
					fault(at+"/follow/track", "the matrix of frame %d cannot be inverted", s.Frame)
				}
			}
		}
		inner = map[string]bool{}
		for j, s := range r.Fill.Strokes {
			place := fmt.Sprintf("%s/fill/strokes/%d", at, j)
			if s.ID == "" || inner[s.ID] {
				fault(place, "it needs an id of its own within the removal")
			}
			inner[s.ID] = true
			if err := s.Valid(); err != nil {
				fault(place, "%v", err)
			}
		}
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

// Basis returns the hash of all that the removal's track depends on. A track
// whose basis differs was computed before the region, the motion or the
// reference frame was changed.
func (r *Removal) Basis() string {
	blob, _ := json.Marshal(struct {
		Region    []Vec
		Motion    geom.Motion
		Reference int
	}{r.Follow.Region, r.Follow.Motion, r.Reference})
	sum := sha256.Sum256(blob)
	return hex.EncodeToString(sum[:8])
}

// Artifacts finds bulk data by the SHA-256 of its content.
type Artifacts func(sha string) ([]byte, error)

// Inline returns a copy of the document in which every artifact is written out
// in place, so that it stands by itself.
func (d *Document) Inline(find Artifacts) (*Document, error) {
	out := *d
	out.Removals = append([]Removal{}, d.Removals...)
	for i := range out.Removals {
		r := &out.Removals[i]
		if t := r.Follow.Track; t != nil && t.Artifact != "" {
			full := Track{Basis: t.Basis}
			if err := fetch(find, t.Artifact, &full.Samples); err != nil {
				return nil, fmt.Errorf("track of %q: %w", r.Name, err)
			}
			r.Follow.Track = &full
		}
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
			s.Path = Path{Points: points}
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
