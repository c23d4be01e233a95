// Package treatment holds the document in which everything decided for a shot
// is written: its types, their rules, and nothing else. docs/formats.md is the
// format's published description and treatment.schema.json its JSON Schema; the
// names and units stated there are the ones of the types below.
package treatment

import (
	_ "embed"

	"jardin/core/geom"
)

// Format and Version stand at the head of every document.
const (
	Format  = "jardin/treatment"
	Version = 1
)

// Schema is the JSON Schema (draft 2020-12) of the document.
//
//go:embed treatment.schema.json
var Schema []byte

// A Document is the treatment of one shot: an ordered list of removals. Later
// removals are laid over earlier ones.
type Document struct {
	Format   string    `json:"format" enum:"jardin/treatment"`
	Version  int       `json:"version" minimum:"1" maximum:"1"`
	Removals []Removal `json:"removals" nullable:"false"`
}

// A Removal is one thing taken out of the shot.
type Removal struct {
	ID        string `json:"id" doc:"Unique within the treatment"`
	Name      string `json:"name" doc:"What the artist calls the thing"`
	Off       bool   `json:"off,omitempty" doc:"Leave this removal out of the result"`
	Range     Range  `json:"range" doc:"Frames on which the patch is laid"`
	Reference int    `json:"reference" doc:"Reference frame, in the plate's numbers"`
	Notes     string `json:"notes,omitempty"`
	Mark      Mark   `json:"mark"`
	Follow    Follow `json:"follow"`
	Fill      Fill   `json:"fill"`
	Settle    Settle `json:"settle"`
}

// A Range is a span of frames in the plate's numbers, both ends included.
type Range struct {
	First int `json:"first"`
	Last  int `json:"last"`
}

// Has reports whether frame n lies in the range.
func (r Range) Has(n int) bool { return n >= r.First && n <= r.Last }

// Len returns the number of frames.
func (r Range) Len() int { return r.Last - r.First + 1 }

// A Vec is a position or a displacement in pixels: x, then y.
type Vec [2]float64

// Point returns the vector as a point.
func (v Vec) Point() geom.Point { return geom.Pt(v[0], v[1]) }

// Points returns several vectors as points.
func Points(vs []Vec) []geom.Point {
	out := make([]geom.Point, len(vs))
	for i, v := range vs {
		out[i] = v.Point()
	}
	return out
}

// Mark says what goes.
type Mark struct {
	Outlines []Outline `json:"outlines" nullable:"false"`
}

// An Outline is a closed curve on the reference frame. It rides on the
// removal's track.
type Outline struct {
	ID      string  `json:"id" doc:"Unique within the removal"`
	Name    string  `json:"name"`
	Points  []Knot  `json:"points" nullable:"false" minItems:"3"`
	Feather float64 `json:"feather,omitempty" minimum:"0" maximum:"500" doc:"Width in pixels over which coverage falls from 1 at the outline to 0 outside it"`
}

// A Knot is a point of an outline with its tangent handles as displacements
// from it. Handles left out make a corner.
type Knot struct {
	At  Vec  `json:"at"`
	In  *Vec `json:"in,omitempty"`
	Out *Vec `json:"out,omitempty"`
}

// Knots returns the outline's points for package geom.
func (o *Outline) Knots() []geom.Knot {
	out := make([]geom.Knot, len(o.Points))
	for i, k := range o.Points {
		out[i].At = k.At.Point()
		if k.In != nil {
			out[i].In = k.In.Point()
		}
		if k.Out != nil {
			out[i].Out = k.Out.Point()
		}
	}
	return out
}

// Follow says how the surface under the thing moves.
type Follow struct {
	Region []Vec       `json:"region" nullable:"false" doc:"Polygon on the reference frame around a piece of the surface; empty as long as none is drawn"`
	Motion geom.Motion `json:"motion" enum:"position,similarity,perspective"`
	Track  *Track      `json:"track,omitempty" doc:"Left out as long as nothing is tracked; a program computes it from the region"`
}

// A Track is the motion of the surface: in place as samples, or as the SHA-256
// of an artifact that holds them.
type Track struct {
	Artifact string   `json:"artifact,omitempty" pattern:"^[0-9a-f]{64}$"`
	Basis    string   `json:"basis,omitempty" doc:"What it was computed from: the hash of region, motion and reference frame"`
	Samples  []Sample `json:"samples,omitempty"`
}

// A Sample is the surface's place on one frame.
type Sample struct {
	Frame    int             `json:"frame"`
	Matrix   geom.Homography `json:"matrix" doc:"By rows; takes reference frame coordinates to this frame's"`
	Match    float64         `json:"match,omitempty" doc:"Normalised correlation of the region with the reference frame, 0 to 1"`
	Agree    float64         `json:"agree,omitempty" doc:"Share of the region that agrees with the motion, 0 to 1"`
	Residual float64         `json:"residual,omitempty" doc:"RMS distance of the agreeing features from the motion, pixels"`
}

// Fill says where clean pixels come from.
type Fill struct {
	Strokes []Stroke `json:"strokes" nullable:"false"`
}

// A Stroke is a line of paint on the reference frame. It copies pixels from a
// constant offset.
type Stroke struct {
	ID       string  `json:"id" doc:"Unique within the removal"`
	Mode     string  `json:"mode" enum:"clone"`
	Size     float64 `json:"size" minimum:"1" maximum:"2000" doc:"Diameter in pixels at full pressure"`
	Hardness float64 `json:"hardness" minimum:"0" maximum:"1" doc:"Share of the radius that is fully covered"`
	Opacity  float64 `json:"opacity" minimum:"0" maximum:"1"`
	Offset   Vec     `json:"offset" doc:"From the painted pixel to the pixel that is copied"`
	Path     Path    `json:"path"`
}

// A Path is where the brush went: in place as points, or as the SHA-256 of an
// artifact that holds them.
type Path struct {
	Artifact string      `json:"artifact,omitempty" pattern:"^[0-9a-f]{64}$"`
	Points   [][]float64 `json:"points,omitempty" doc:"Each x, y, or x, y, pressure (0 to 1); pressure scales the size"`
}

// Settle says what makes the patch sit.
type Settle struct {
	Feather float64 `json:"feather,omitempty" minimum:"0" maximum:"500" doc:"Added to the feather of every outline, pixels"`
	Opacity float64 `json:"opacity" minimum:"0" maximum:"1"`
}

// New returns an empty treatment.
func New() *Document {
	return &Document{Format: Format, Version: Version, Removals: []Removal{}}
}

// Find returns the removal with the given identifier and its place in the list,
// or nil and -1.
func (d *Document) Find(id string) (*Removal, int) {
	for i := range d.Removals {
		if d.Removals[i].ID == id {
			return &d.Removals[i], i
		}
	}
	return nil, -1
}
