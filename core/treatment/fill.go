package treatment

import (
	"fmt"
	"maps"
	"slices"
)

// Fill says where clean pixels come from.
type Fill struct {
	Sources []Source `json:"sources" nullable:"false" doc:"Laid in order, later ones over earlier ones"`
	Copied  string   `json:"copied,omitempty" doc:"Name of the removal that it was copied from, as long as nobody has looked at what it lays here"`
}

// A Source is one of the places that a removal's clean pixels come from: what all of them
// have, and an object with what its own kind has, under the kind's name.
type Source struct {
	ID      string   `json:"id" doc:"Unique within the removal"`
	Name    string   `json:"name"`
	Kind    string   `json:"kind" enum:"plate,paint,neighbour,piece,gathered,grown,spread,evened,tone" doc:"Which of the objects below it has"`
	Off     bool     `json:"off,omitempty"`
	Range   *Range   `json:"range,omitempty" doc:"Frames on which it is laid in full; left out all of the removal's"`
	Rise    int      `json:"rise,omitempty" minimum:"0" maximum:"1000" doc:"Frames before its range over which it comes in"`
	Fall    int      `json:"fall,omitempty" minimum:"0" maximum:"1000" doc:"Frames after its range over which it goes out"`
	Opacity *float64 `json:"opacity,omitempty" minimum:"0" maximum:"1" doc:"1 where left out"`
	Lay     string   `json:"lay,omitempty" enum:"darken,lighten" doc:"Only where it is darker, or lighter, than what lies below it; left out everywhere"`
	Below   bool     `json:"below,omitempty" doc:"What it copies, gathers or looks at is the result of the removals below this one; left out the untouched plate"`
	GiveWay bool     `json:"giveWay,omitempty" doc:"On a surface that bends it is laid only where that was found; elsewhere what lies below shows"`
	Where   []Shape  `json:"where,omitempty" doc:"It is laid only inside these; left out everywhere"`

	Plate     *Plate     `json:"plate,omitempty"`
	Paint     *Paint     `json:"paint,omitempty"`
	Neighbour *Neighbour `json:"neighbour,omitempty"`
	Piece     *Piece     `json:"piece,omitempty"`
	Gathered  *Gathering `json:"gathered,omitempty"`
	Grown     *Growth    `json:"grown,omitempty"`
	Spread    *Spreading `json:"spread,omitempty"`
	Evened    *Evening   `json:"evened,omitempty"`
	Tone      *FlatTone  `json:"tone,omitempty"`
}

// sourceKinds are all kinds of sources by name, each with where its own object stands. A new
// kind has a file of its own, a field of Source, and a line here.
var sourceKinds = map[string]func(*Source) sourceBody{
	HeldPlate:  func(s *Source) sourceBody { return orNil(s.Plate) },
	Travelling: func(s *Source) sourceBody { return orNil(s.Paint) },
	Beside:     func(s *Source) sourceBody { return orNil(s.Neighbour) },
	Supplied:   func(s *Source) sourceBody { return orNil(s.Piece) },
	Gathered:   func(s *Source) sourceBody { return orNil(s.Gathered) },
	Grown:      func(s *Source) sourceBody { return orNil(s.Grown) },
	Spread:     func(s *Source) sourceBody { return orNil(s.Spread) },
	Evened:     func(s *Source) sourceBody { return orNil(s.Evened) },
	Toned:      func(s *Source) sourceBody { return orNil(s.Tone) },
}

// A sourceBody is what a kind of source has of its own.
type sourceBody interface {
	// check finds faults.
	check(c *checker, place string)
	// copied returns a copy whose lists and pictures can be changed.
	copied() sourceBody
	// put makes it the source's own.
	put(s *Source)
	// held reports whether what it lays is held still, so that it has to be settled; else it
	// brings the frame's own light, softness and grain along.
	held() bool
}

// A paintedBody is one that is painted on.
type paintedBody interface {
	strokes() *[]Stroke
	// with returns a copy with other strokes.
	with(strokes []Stroke) sourceBody
	// frame is the only one on which it can be painted on; fixed is false for any.
	frame() (n int, fixed bool)
}

// A picturedBody is one that may have been supplied from elsewhere.
type picturedBody interface{ picture() **Picture }

// A boundedBody is one of which there may be too much, besides strokes.
type boundedBody interface {
	counts(c *checker, place string)
}

// A computedBody is one whose pixels may take long to be worked out from the footage: of those there may
// be few.
type computedBody interface{ computed() bool }

// A grainlessBody is one that may lay pixels without grain.
type grainlessBody interface{ grainless() bool }

func orNil[T any, P interface {
	*T
	sourceBody
}](p P) sourceBody {
	if p == nil {
		return nil
	}
	return p
}

// SourceKinds lists the kinds of sources.
var SourceKinds = slices.Sorted(maps.Keys(sourceKinds))

// body returns what is of the source's own kind; nil where that is missing.
func (s *Source) body() sourceBody {
	if of := sourceKinds[s.Kind]; of != nil {
		return of(s)
	}
	return nil
}

// Known reports whether the source's kind is known and its own object is there.
func (s *Source) Known() bool { return s.body() != nil }

// Held reports whether what the source lays is held still, so that it has to be settled.
func (s *Source) Held() bool {
	b := s.body()
	return b != nil && b.held()
}

// Grainless reports whether what the source lays has lost the plate's grain, held or not.
func (s *Source) Grainless() bool {
	b, ok := s.body().(grainlessBody)
	return ok && b.grainless()
}

// Strokes returns the strokes that are painted on the source, in the order in which they are
// laid; none where it cannot be painted on.
func (s *Source) Strokes() []Stroke {
	if list := s.StrokeList(); list != nil {
		return *list
	}
	return nil
}

// StrokeList returns where the source keeps its strokes; nil where it cannot be painted on.
func (s *Source) StrokeList() *[]Stroke {
	if p, ok := s.body().(paintedBody); ok {
		return p.strokes()
	}
	return nil
}

// looksAnywhere reports whether a source may look at any place of any frame, and not only at where it is painted and
// copied from.
func (s *Source) looksAnywhere() bool {
	return s.StrokeList() == nil && s.Neighbour == nil || s.Plate != nil && (s.Plate.Whole || s.Plate.Picture != nil)
}

// PaintedAt returns the only frame on which the source can be painted on; fixed is false where
// there is none such.
func (s *Source) PaintedAt() (n int, fixed bool) {
	if p, ok := s.body().(paintedBody); ok {
		return p.frame()
	}
	return 0, false
}

// Picture returns the picture that was supplied for the source, or nil.
func (s *Source) Picture() *Picture {
	if p, ok := s.body().(picturedBody); ok {
		return *p.picture()
	}
	return nil
}

// With returns the source with other strokes; as it is where it cannot be painted on. The
// source itself is not changed.
func (s Source) With(strokes []Stroke) Source {
	if p, ok := s.body().(paintedBody); ok {
		p.with(strokes).put(&s)
	}
	return s
}

// Own returns the source with an object of its own kind that can be changed: its strokes are
// in a list of their own.
func (s Source) Own() Source {
	if b := s.body(); b != nil {
		b.copied().put(&s)
	}
	return s
}

// Through returns the source's opacity.
func (s *Source) Through() float64 {
	if s.Opacity == nil {
		return 1
	}
	return *s.Opacity
}

// Weight returns by how much the source counts on frame n: in full in its range,
// coming in before it and going out after it in even steps.
func (s *Source) Weight(n int) float64 {
	switch {
	case s.Off:
		return 0
	case s.Range == nil || s.Range.Has(n):
		return s.Through()
	case n < s.Range.First && n >= s.Range.First-s.Rise:
		return s.Through() * (1 - float64(s.Range.First-n)/float64(s.Rise+1))
	case n > s.Range.Last && n <= s.Range.Last+s.Fall:
		return s.Through() * (1 - float64(n-s.Range.Last)/float64(s.Fall+1))
	}
	return 0
}

// Source returns the source with the given identifier, or nil.
func (f *Fill) Source(id string) *Source {
	for i := range f.Sources {
		if f.Sources[i].ID == id {
			return &f.Sources[i]
		}
	}
	return nil
}

// Stroke returns the stroke with the given identifier and its source, or nil.
func (f *Fill) Stroke(id string) (*Stroke, *Source) {
	for i := range f.Sources {
		strokes := f.Sources[i].Strokes()
		for j := range strokes {
			if strokes[j].ID == id {
				return &strokes[j], &f.Sources[i]
			}
		}
	}
	return nil, nil
}

// fill finds the faults of a removal's sources.
func (c *checker) fill(at string, fill *Fill) {
	sources, strokes := c.ids(), c.ids()
	for i := range fill.Sources {
		s, place := &fill.Sources[i], fmt.Sprintf("%s/sources/%d", at, i)
		sources(place, s.ID)
		if sourceKinds[s.Kind] == nil {
			c.fault(place+"/kind", "%q is not a kind of source; choose one of %v", s.Kind, SourceKinds)
		}
		for kind, of := range sourceKinds {
			switch b := of(s); {
			case b == nil && kind == s.Kind:
				c.fault(place+"/"+kind, "a source of kind %s needs an object with what is its own", kind)
			case b != nil && kind != s.Kind:
				c.fault(place+"/"+kind, "a source of kind %s has no such object", s.Kind)
			case b != nil:
				b.check(c, place+"/"+kind)
			}
		}
		if s.Range != nil {
			c.span(place+"/range", *s.Range)
		}
		c.within(place+"/rise", float64(s.Rise), 0, 1000, " frames")
		c.within(place+"/fall", float64(s.Fall), 0, 1000, " frames")
		c.within(place+"/opacity", s.Through(), 0, 1, "")
		if s.Lay != "" && s.Lay != Darken && s.Lay != Lighten {
			c.fault(place+"/lay", "%q is not a way to lay a source; choose darken or lighten", s.Lay)
		}
		c.shapes(place+"/where", s.Where)
		list := s.Strokes()
		for j := range list {
			c.stroke(fmt.Sprintf("%s/%s/strokes/%d", place, s.Kind, j), &list[j], s, strokes)
		}
	}
}
