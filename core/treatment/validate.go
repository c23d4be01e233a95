package treatment

import (
	"encoding/json"
	"errors"
	"fmt"
)

// Validate checks what a schema cannot say: names that must be unique, frames
// that must lie in the shot, shapes that must have an area. shot is the range of
// the shot, or nil where it is not known. The error names every fault with its
// place in the document.
func (d *Document) Validate(shot *Range) error {
	var faults faultList
	fault := faults.add
	if d.Format != Format || d.Version != Version {
		fault(
			"/",
			"this is format %q version %d; this program reads %q version %d",
			d.Format,
			d.Version,
			Format,
			Version,
		)
		return faults.join()
	}
	c := checker{doc: d, shot: shot, fault: fault, seen: map[string]bool{}}
	if c.counts(); len(faults.all) > 0 {
		return faults.join()
	}
	faults.lens(d.Lens)
	c.camera()
	for i := range d.Tracks {
		c.track(fmt.Sprintf("/tracks/%d", i), &d.Tracks[i])
	}
	for i := range d.Removals {
		c.removal(fmt.Sprintf("/removals/%d", i), &d.Removals[i])
	}
	return faults.join()
}

// faultList gathers faults, up to as many as anybody reads.
type faultList struct{ all []error }

func (f *faultList) add(place, format string, args ...any) {
	const most = 100
	if len(f.all) < most {
		f.all = append(f.all, fmt.Errorf("%s: %s", place, fmt.Sprintf(format, args...)))
	}
}

func (f *faultList) join() error { return errors.Join(f.all...) }

// Artifacts reads the bulk data with the SHA-256 of its content: into numbers, or
// a *[]byte as it is.
type Artifacts func(sha string, into any) error

// Stored returns the artifacts that find gives the bytes of.
func Stored(find func(sha string) ([]byte, error)) Artifacts {
	return func(sha string, into any) error {
		blob, err := find(sha)
		if err != nil {
			return err
		}
		if bytes, ok := into.(*[]byte); ok {
			*bytes = blob
			return nil
		}
		if err := json.Unmarshal(blob, into); err != nil {
			return fmt.Errorf("artifact %s cannot be read: %w", sha, err)
		}
		return nil
	}
}

// Artifacts lists the numbers that the document names: of tracks and strokes, not
// its pictures.
func (d *Document) Artifacts() (out []string) {
	note := func(sha string) {
		if sha != "" {
			out = append(out, sha)
		}
	}
	if d.Camera != nil && d.Camera.Data != nil {
		note(d.Camera.Data.Artifact)
	}
	for i := range d.Tracks {
		if data := d.Tracks[i].Data; data != nil {
			note(data.Artifact)
		}
		for _, p := range d.Tracks[i].Points {
			if p.Path != nil {
				note(p.Path.Artifact)
			}
		}
	}
	for i := range d.Removals {
		for _, s := range d.Removals[i].Fill.Sources {
			for _, st := range s.Strokes() {
				if st.Path != nil {
					note(st.Path.Artifact)
				}
			}
		}
	}
	return out
}

// Inline returns a copy of the document in which every artifact is written out
// in place, so that it stands by itself.
func (d *Document) Inline(find Artifacts) (*Document, error) { return d.complete(find, true) }

// Complete returns a copy of the document with the numbers of its tracks and
// strokes in place, ready to be evaluated. Artifacts keep their names, and
// pictures stay where they are.
func (d *Document) Complete(find Artifacts) (*Document, error) { return d.complete(find, false) }

func (d *Document) complete(find Artifacts, alone bool) (*Document, error) {
	if find == nil {
		find = func(sha string, _ any) error {
			return fmt.Errorf(
				"artifact %s is named, but none came with the document; export the treatment with its data in place",
				sha,
			)
		}
	}
	out := *d
	if c := d.Camera; c != nil && c.Data != nil && c.Data.Artifact != "" {
		full, data := *c, CameraData{Given: c.Data.Given, Path: &Solved{}}
		if err := find(c.Data.Artifact, data.Path); err != nil {
			return nil, fmt.Errorf("the camera: %w", err)
		}
		full.Data = &data
		out.Camera = &full
	}
	out.Tracks = append([]Track{}, d.Tracks...)
	for i := range out.Tracks {
		t := &out.Tracks[i]
		if t.Data != nil && t.Data.Artifact != "" {
			full := Data{Basis: t.Data.Basis}
			if err := find(t.Data.Artifact, &full.Samples); err != nil {
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
			if err := find(p.Path.Artifact, &full.Samples); err != nil {
				return nil, fmt.Errorf("point %q of track %q: %w", p.Name, t.Name, err)
			}
			p.Path = &full
		}
	}
	out.Removals = append([]Removal{}, d.Removals...)
	for i := range out.Removals {
		r := &out.Removals[i]
		if alone {
			if err := r.inlineMattes(find); err != nil {
				return nil, fmt.Errorf("%q: %w", r.Name, err)
			}
		}
		r.Fill.Sources = append([]Source{}, r.Fill.Sources...)
		for j := range r.Fill.Sources {
			if err := r.Fill.Sources[j].complete(find, alone); err != nil {
				return nil, fmt.Errorf("%q of %q: %w", r.Fill.Sources[j].Name, r.Name, err)
			}
		}
	}
	return &out, nil
}

// complete writes the artifacts of a source out in place.
func (s *Source) complete(find Artifacts, alone bool) error {
	*s = s.Own()
	if p, ok := s.body().(picturedBody); ok && *p.picture() != nil && alone {
		full := **p.picture()
		if err := full.inline(find); err != nil {
			return err
		}
		*p.picture() = &full
	}
	strokes := s.Strokes()
	for j := range strokes {
		p := strokes[j].Path
		if p == nil || p.Artifact == "" {
			continue
		}
		full := Path{Artifact: p.Artifact, Shift: p.Shift}
		if err := find(p.Artifact, &full.Points); err != nil {
			return fmt.Errorf("stroke %d: %w", j+1, err)
		}
		if alone {
			full.Artifact = ""
		}
		strokes[j].Path = &full
	}
	return nil
}

// inline puts a picture's file in place.
func (p *Picture) inline(find Artifacts) error {
	if p.Artifact == "" {
		return nil
	}
	if err := find(p.Artifact, &p.Data); err != nil {
		return err
	}
	p.Artifact = ""
	return nil
}

// inlineMattes puts the files of supplied mattes in place.
func (r *Removal) inlineMattes(find Artifacts) error {
	r.Mark.Mattes = append([]MarkMatte(nil), r.Mark.Mattes...)
	for i := range r.Mark.Mattes {
		if err := inlineFiles(&r.Mark.Mattes[i].Mattes, r.Mark.Mattes[i].Name, find); err != nil {
			return err
		}
	}
	if r.Guard == nil {
		return nil
	}
	guard := *r.Guard
	guard.Fronts = append([]Front(nil), guard.Fronts...)
	for i := range guard.Fronts {
		if err := inlineFiles(&guard.Fronts[i].Mattes, guard.Fronts[i].Name, find); err != nil {
			return err
		}
	}
	r.Guard = &guard
	return nil
}

func inlineFiles(mattes *[]FrontMatte, of string, find Artifacts) error {
	*mattes = append([]FrontMatte(nil), *mattes...)
	for k := range *mattes {
		m := &(*mattes)[k]
		if err := m.Picture.inline(find); err != nil {
			return fmt.Errorf("matte of frame %d of %q: %w", m.Frame, of, err)
		}
	}
	return nil
}
