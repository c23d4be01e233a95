// Package treatment holds the document in which everything decided for a shot
// is written: its types, their rules, and nothing else. docs/formats.md is the
// format's published description and treatment.schema.json its JSON Schema; the
// names and units stated there are the ones of the types below.
package treatment

import (
	_ "embed"
	"slices"

	"jardin/core/geom"
)

// Format and Version stand at the head of every document.
const (
	Format  = "jardin/treatment"
	Version = 5
)

// Schema is the JSON Schema (draft 2020-12) of the document.
//
//go:embed treatment.schema.json
var Schema []byte

// A Document is the treatment of one shot: the tracks of its surfaces and an
// ordered list of removals. Later removals are laid over earlier ones. Whatever
// is drawn says on which frame it was drawn, its home; a track takes it to the
// others. So nothing has to be drawn or tracked anew when a reference frame is
// moved.
type Document struct {
	Format   string    `json:"format" enum:"jardin/treatment"`
	Version  int       `json:"version" minimum:"5" maximum:"5"`
	Tracks   []Track   `json:"tracks" nullable:"false"`
	Removals []Removal `json:"removals" nullable:"false"`
	Lens     *Lens     `json:"lens,omitempty" doc:"What the shot's lens does to straight lines; nothing where left out"`
	Camera   *Camera   `json:"camera,omitempty" doc:"How the shot's camera is found, and where it was"`
}

// A Removal is one thing taken out of the shot.
type Removal struct {
	ID        string `json:"id" doc:"Unique within the treatment"`
	Name      string `json:"name" doc:"What the artist calls the thing"`
	Off       bool   `json:"off,omitempty" doc:"Leave this removal out of the result"`
	Range     Range  `json:"range" doc:"Frames on which the patch is laid"`
	Reference int    `json:"reference" doc:"Reference frame, in the plate's numbers: the zero of the removal's motion"`
	Notes     string `json:"notes,omitempty"`
	Group     string `json:"group,omitempty" doc:"Name of the group that the removal belongs to: folded, switched and moved together"`
	Colour    string `json:"colour,omitempty" enum:"moss,sky,rose,sand,plum,sea" doc:"By which it is told from others, in the list and on the picture"`
	Mark      Mark   `json:"mark"`
	Follow    Follow `json:"follow"`
	Fill      Fill   `json:"fill"`
	Settle    Settle `json:"settle"`
	Guard     *Guard `json:"guard,omitempty"`
}

// Shapes lists all that is drawn for a removal: its outlines, where its sources and
// tones count, its fronts, and what its patch lies within.
func (r *Removal) Shapes() []*[]Shape {
	out := []*[]Shape{&r.Mark.Outlines}
	for i := range r.Fill.Sources {
		out = append(out, &r.Fill.Sources[i].Where)
	}
	for i := range r.Settle.Tones {
		out = append(out, &r.Settle.Tones[i].Where)
	}
	if r.Guard != nil {
		for i := range r.Guard.Fronts {
			out = append(out, &r.Guard.Fronts[i].Shapes)
		}
		out = append(out, &r.Guard.Within)
	}
	return out
}

// Shape returns one of them, or nil.
func (r *Removal) Shape(id string) *Shape {
	for _, list := range r.Shapes() {
		for i := range *list {
			if (*list)[i].ID == id {
				return &(*list)[i]
			}
		}
	}
	return nil
}

// A Range is a span of frames in the plate's numbers, both ends included.
type Range struct {
	First int `json:"first"`
	Last  int `json:"last"`
}

// Has reports whether frame n lies in the range.
func (span Range) Has(n int) bool { return n >= span.First && n <= span.Last }

// Len returns the number of frames.
func (span Range) Len() int { return span.Last - span.First + 1 }

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

// Vecs returns several points as vectors.
func Vecs(points []geom.Point) []Vec {
	out := make([]Vec, len(points))
	for i, p := range points {
		out[i] = Vec{p.X, p.Y}
	}
	return out
}

// Mark says what goes.
type Mark struct {
	Outlines []Shape     `json:"outlines" nullable:"false" doc:"Combined in order"`
	Mattes   []MarkMatte `json:"mattes,omitempty" doc:"Supplied mattes, combined in order after the outlines; they ride on nothing"`
}

// A MarkMatte marks by pictures: mattes supplied by frame, or the plate's own alpha.
type MarkMatte struct {
	ID        string       `json:"id" doc:"Unique within the removal"`
	Name      string       `json:"name"`
	Off       bool         `json:"off,omitempty"`
	Alpha     bool         `json:"alpha,omitempty" doc:"The plate's own alpha, in place of pictures"`
	Mattes    []FrontMatte `json:"mattes,omitempty" doc:"Supplied, by frame; where there is none, nothing is marked"`
	Feather   float64      `json:"feather,omitempty" minimum:"0" maximum:"500" doc:"Width in pixels over which coverage falls to 0 outside the edge"`
	FeatherIn float64      `json:"featherIn,omitempty" minimum:"0" maximum:"500" doc:"Width in pixels over which coverage rises to 1 inside the edge"`
	Grow      float64      `json:"grow,omitempty" minimum:"-500" maximum:"500" doc:"Moves the edge outwards by so many pixels, or inwards"`
	Opacity   *float64     `json:"opacity,omitempty" minimum:"0" maximum:"1" doc:"1 where left out"`
	Invert    bool         `json:"invert,omitempty"`
	Combine   string       `json:"combine,omitempty" enum:"add,take,keep" doc:"add where left out"`
}

// Something reports whether anything is marked at all: a matte without pictures marks nothing yet.
func (m *Mark) Something() bool {
	return len(m.Outlines) > 0 || slices.ContainsFunc(m.Mattes, func(x MarkMatte) bool {
		return !x.Off && (x.Alpha || len(x.Mattes) > 0)
	})
}

// Matte returns the supplied matte of frame n, or nil.
func (m *MarkMatte) Matte(n int) *Picture { return matteOf(m.Mattes, n) }

// Through returns the matte's opacity.
func (m *MarkMatte) Through() float64 {
	if m.Opacity == nil {
		return 1
	}
	return *m.Opacity
}

// Kinds of shapes.
const (
	Outline = "outline" // a closed curve and what it encloses
	Strand  = "strand"  // an open path with a width: a wire
)

// How a shape joins those before it.
const (
	Add  = "add"  // as well
	Take = "take" // taken away from them
	Keep = "keep" // only what lies in both is kept
)

// Still, as what a shape rides on, keeps it where it is on the screen.
const Still = "still"

// A Shape is an outline or a strand on its home frame.
type Shape struct {
	ID        string         `json:"id" doc:"Unique within the removal or track"`
	Name      string         `json:"name"`
	Colour    string         `json:"colour,omitempty" pattern:"^#[0-9a-f]{6}$" doc:"Of its handles"`
	Kind      string         `json:"kind" enum:"outline,strand"`
	Off       bool           `json:"off,omitempty"`
	Home      int            `json:"home" doc:"Frame in whose coordinates the points are given"`
	Ride      string         `json:"ride,omitempty" doc:"Track that carries it; left out it rides on the removal's own; still keeps it in place on the screen"`
	Range     *Range         `json:"range,omitempty" doc:"Frames on which it is there; left out it is always"`
	Straight  bool           `json:"straight,omitempty" doc:"Between its points it is straight, or curved, in the picture that the lens is taken out of; the points are where they are seen"`
	Points    []Knot         `json:"points" nullable:"false" minItems:"2"`
	Keys      []ShapeKey     `json:"keys,omitempty" doc:"The points at other times, by frame; they replace points then"`
	Placement []PlacementKey `json:"placement,omitempty" doc:"The whole shape moved, turned and scaled, by frame"`
	Feather   float64        `json:"feather,omitempty" minimum:"0" maximum:"500" doc:"Width in pixels over which coverage falls to 0 outside the edge"`
	FeatherIn float64        `json:"featherIn,omitempty" minimum:"0" maximum:"500" doc:"Width in pixels over which coverage rises to 1 inside the edge"`
	Grow      float64        `json:"grow,omitempty" minimum:"-500" maximum:"500" doc:"Moves the edge outwards by so many pixels, or inwards"`
	Opacity   *float64       `json:"opacity,omitempty" minimum:"0" maximum:"1" doc:"1 where left out"`
	Invert    bool           `json:"invert,omitempty"`
	Combine   string         `json:"combine,omitempty" enum:"add,take,keep" doc:"add where left out"`
}

// Through returns the shape's opacity.
func (s *Shape) Through() float64 {
	if s.Opacity == nil {
		return 1
	}
	return *s.Opacity
}

// A Knot is a point of a shape with its tangent handles as displacements from
// it. Handles left out make a corner.
type Knot struct {
	At        Vec       `json:"at"`
	In        *Vec      `json:"in,omitempty"`
	Out       *Vec      `json:"out,omitempty"`
	Feather   float64   `json:"feather,omitempty" minimum:"0" maximum:"500" doc:"Added to the shape's at this point"`
	FeatherIn float64   `json:"featherIn,omitempty" minimum:"0" maximum:"500" doc:"Added to the shape's at this point"`
	Width     float64   `json:"width,omitempty" minimum:"0" maximum:"1000" doc:"Of a strand, across it at this point"`
	Follows   *PointRef `json:"follows,omitempty" doc:"A tracked point that moves this one by itself"`
}

// A PointRef names a point of a track.
type PointRef struct {
	Track string `json:"track"`
	Point string `json:"point"`
}

// Geom returns the point for package geom.
func (k *Knot) Geom() geom.Knot {
	out := geom.Knot{At: k.At.Point()}
	if k.In != nil {
		out.In = k.In.Point()
	}
	if k.Out != nil {
		out.Out = k.Out.Point()
	}
	return out
}

// An Ease says how a value goes from its key to the next.
type Ease string

const (
	Eased  Ease = "eased"  // smoothly, without overshoot
	Linear Ease = "linear" // straight
)

// A ShapeKey holds a shape's points on a frame.
type ShapeKey struct {
	Frame  int    `json:"frame"`
	Ease   Ease   `json:"ease" enum:"eased,linear"`
	Points []Knot `json:"points" nullable:"false"`
	Doubt  string `json:"doubt,omitempty" enum:"faint,slips,leaps" doc:"Why a key that following an edge made should be looked at: inside and outside hardly part; it goes away from what lies inside; it moved suddenly"`
}

// A PlacementKey moves a whole shape on a frame: scaled and turned around the
// middle of its points, then moved.
type PlacementKey struct {
	Frame  int     `json:"frame"`
	Ease   Ease    `json:"ease" enum:"eased,linear"`
	Offset Vec     `json:"offset"`
	Turn   float64 `json:"turn" doc:"Degrees, clockwise on the screen"`
	Scale  Vec     `json:"scale" doc:"Along x and y; 1 leaves the size"`
}

// Follow says how the surface under the thing moves.
type Follow struct {
	Track string `json:"track,omitempty" doc:"The track that carries the removal; left out as long as there is none; still for a camera that does not move"`
}

// New returns an empty treatment.
func New() *Document {
	return &Document{Format: Format, Version: Version, Tracks: []Track{}, Removals: []Removal{}}
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

// Track returns the track with the given identifier, or nil.
func (d *Document) Track(id string) *Track {
	for i := range d.Tracks {
		if d.Tracks[i].ID == id {
			return &d.Tracks[i]
		}
	}
	return nil
}
