package treatment

import (
	"fmt"
	"math"
	"slices"

	"jardin/core/geom"
)

// A checker finds the faults of a document that a schema cannot name.
type checker struct {
	doc   *Document
	shot  *Range
	fault func(place, format string, args ...any)
	seen  map[string]bool
}

func (c *checker) unique(place, id string) {
	if id == "" {
		c.fault(place, "an id is missing")
	} else if c.seen[id] {
		c.fault(place, "the id %q is used twice; give each its own", id)
	}
	c.seen[id] = true
}

// ids returns a function that reports ids that are missing or used twice in a list.
func (c *checker) ids() func(place, id string) {
	inner := map[string]bool{}
	return func(place, id string) {
		if id == "" || inner[id] {
			c.fault(place, "it needs an id of its own within the list")
		}
		inner[id] = true
	}
}

func (c *checker) within(place string, v, low, high float64, unit string) {
	if !(v >= low && v <= high) {
		c.fault(place, "%v is not within %v to %v%s", v, low, high, unit)
	}
}

func (c *checker) frame(place string, n int) {
	if c.shot != nil && !c.shot.Has(n) {
		c.fault(place, "frame %d is not in the shot (%d to %d)", n, c.shot.First, c.shot.Last)
	}
}

func (c *checker) span(place string, span Range) {
	if span.Last < span.First {
		c.fault(place, "it ends at %d, before it begins at %d", span.Last, span.First)
	} else if c.shot != nil && (span.First < c.shot.First || span.Last > c.shot.Last) {
		c.fault(place, "%d to %d reaches beyond the shot (%d to %d)", span.First, span.Last, c.shot.First, c.shot.Last)
	}
}

// ordered checks that keys stand in the order of their frames, each frame once.
func (c *checker) ordered(place string, n int, frame func(i int) int) {
	for i := 1; i < n; i++ {
		if frame(i) <= frame(i-1) {
			c.fault(
				fmt.Sprintf("%s/%d", place, i),
				"keys must stand in the order of their frames, one for each; %d comes after %d",
				frame(i),
				frame(i-1),
			)
		}
	}
}

func (c *checker) places(place string, vs []Vec) {
	for i, v := range vs {
		if !reachable(v.Point()) {
			c.fault(fmt.Sprintf("%s/%d", place, i), "it lies too far away to be a place on a picture")
		}
	}
}

func (c *checker) removal(at string, r *Removal) {
	c.unique(at, r.ID)
	c.span(at+"/range", r.Range)
	c.frame(at+"/reference", r.Reference)
	c.shapes(at+"/mark/outlines", r.Mark.Outlines)
	c.marks(at+"/mark/mattes", r.Mark.Mattes)
	if id := r.Follow.Track; id != "" && id != Still && c.doc.Track(id) == nil {
		c.fault(at+"/follow/track", "there is no track %q", id)
	}
	c.fill(at+"/fill", &r.Fill)
	c.settle(at+"/settle", &r.Settle)
	if r.Guard != nil {
		c.guard(at+"/guard", r.Guard)
	}
}

func (c *checker) shape(place string, s *Shape) {
	least := map[string]int{Outline: 3, Strand: 2}[s.Kind]
	switch {
	case least == 0:
		c.fault(place+"/kind", "%q is not a kind of shape; choose outline or strand", s.Kind)
	case len(s.Points) < least:
		c.fault(place, "this %s needs %d points or more, it has %d", s.Kind, least, len(s.Points))
	}
	c.frame(place+"/home", s.Home)
	if s.Ride != "" && s.Ride != Still && c.doc.Track(s.Ride) == nil {
		c.fault(place+"/ride", "there is no track %q", s.Ride)
	}
	if s.Range != nil {
		c.span(place+"/range", *s.Range)
	}
	c.within(place+"/feather", s.Feather, 0, 500, " pixels")
	c.within(place+"/featherIn", s.FeatherIn, 0, 500, " pixels")
	c.within(place+"/grow", s.Grow, -500, 500, " pixels")
	c.within(place+"/opacity", s.Through(), 0, 1, "")
	if s.Combine != "" && s.Combine != Add && s.Combine != Take && s.Combine != Keep {
		c.fault(place+"/combine", "%q is not known; choose add, take or keep", s.Combine)
	}
	c.knots(place+"/points", s.Points)
	c.ordered(place+"/keys", len(s.Keys), func(i int) int { return s.Keys[i].Frame })
	for i, k := range s.Keys {
		if len(k.Points) != len(s.Points) {
			c.fault(
				fmt.Sprintf("%s/keys/%d", place, i),
				"it has %d points, the shape has %d",
				len(k.Points),
				len(s.Points),
			)
		}
		c.knots(fmt.Sprintf("%s/keys/%d/points", place, i), k.Points)
	}
	c.ordered(place+"/placement", len(s.Placement), func(i int) int { return s.Placement[i].Frame })
	for i, k := range s.Placement {
		at := fmt.Sprintf("%s/placement/%d", place, i)
		if !reachable(k.Offset.Point()) || !(math.Abs(k.Turn) <= 36000) {
			c.fault(at, "it leads too far away to be a place on a picture")
		}
		for _, v := range k.Scale {
			if a := math.Abs(v); !(a >= 1e-3 && a <= 1000) {
				c.fault(at+"/scale", "%v is not a size; choose 0.001 to 1000", v)
			}
		}
	}
}

func (c *checker) knots(place string, knots []Knot) {
	for i := range knots {
		k := &knots[i]
		g, at := k.Geom(), fmt.Sprintf("%s/%d", place, i)
		if !reachable(g.At) || !reachable(g.In) || !reachable(g.Out) {
			c.fault(at, "it lies too far away to be a place on a picture")
		}
		c.within(at+"/feather", k.Feather, 0, 500, " pixels")
		c.within(at+"/featherIn", k.FeatherIn, 0, 500, " pixels")
		c.within(at+"/width", k.Width, 0, 1000, " pixels")
		if ref := k.Follows; ref != nil {
			if t := c.doc.Track(ref.Track); t == nil || t.Point(ref.Point) == nil {
				c.fault(at+"/follows", "there is no point %q in a track %q", ref.Point, ref.Track)
			}
		}
	}
}

func (c *checker) track(at string, t *Track) {
	c.unique(at, t.ID)
	if t.ID == Still {
		c.fault(at, "%q cannot be a track's id: it means that a shape rides on nothing", Still)
	}
	if !slices.Contains(TrackKinds, t.Kind) {
		c.fault(at+"/kind", "%q is not a kind of track; choose one of %v", t.Kind, TrackKinds)
	}
	if !t.Motion.Known() {
		c.fault(at+"/motion", "%q is not a motion; choose position, similarity, shear or perspective", t.Motion)
	}
	c.frame(at+"/home", t.Home)
	if t.Range != nil {
		c.span(at+"/range", *t.Range)
	}
	for o, steps := t.Over, 0; o != ""; steps++ {
		base := c.doc.Track(o)
		if base == nil {
			c.fault(at+"/over", "there is no track %q", o)
			break
		}
		if base.ID == t.ID || steps > len(c.doc.Tracks) {
			c.fault(at+"/over", "it leads back to itself; choose a track that does not lie over this one")
			break
		}
		if base.Bent() {
			c.fault(at+"/over", "%q bends, and nothing can be followed on top of that; correct it by pins or a grid instead", base.Name)
			break
		}
		o = base.Over
	}
	if (t.Kind == CardTrack) != (t.Card != nil) {
		c.fault(at+"/card", "a track of the kind %q has a card, and no other has", CardTrack)
	} else if t.Card != nil {
		c.card(at+"/card", t.Card)
	}
	c.places(at+"/region", t.Region)
	if n := len(t.Region); n > 0 {
		if n < 3 {
			c.fault(at+"/region", "a region needs 3 points or more, this has %d", n)
		} else if !(geom.Area(Points(t.Region)) >= 16) {
			c.fault(at+"/region", "its area is too small to be followed; draw it around a piece of the surface")
		}
	}
	frames := map[int]bool{t.Home: true}
	for i, r := range t.Regions {
		place := fmt.Sprintf("%s/regions/%d", at, i)
		c.places(place+"/region", r.Region)
		if len(r.Region) < 3 || !(geom.Area(Points(r.Region)) >= 16) {
			c.fault(place+"/region", "a region needs 3 points or more, with room between them")
		}
		c.frame(place+"/frame", r.Frame)
		if frames[r.Frame] {
			c.fault(place+"/frame", "frame %d has a region already", r.Frame)
		}
		frames[r.Frame] = true
	}
	if n := len(t.Surface); n != 0 && (n != 4 || !(geom.Area(Points(t.Surface)) >= 16)) {
		c.fault(at+"/surface", "a surface has four corners with room between them")
	}
	c.places(at+"/surface", t.Surface)
	own := c.ids()
	for i := range t.Exclusions {
		place := fmt.Sprintf("%s/exclusions/%d", at, i)
		own(place, t.Exclusions[i].ID)
		c.shape(place, &t.Exclusions[i])
		if t.Exclusions[i].Ride == t.ID {
			c.fault(place+"/ride", "an exclusion cannot ride on the track that it is left out of")
		}
	}
	own = c.ids()
	for i := range t.Points {
		place := fmt.Sprintf("%s/points/%d", at, i)
		own(place, t.Points[i].ID)
		c.point(place, &t.Points[i])
	}
	c.ordered(at+"/placed", len(t.Placed), func(i int) int { return t.Placed[i].Frame })
	for i, p := range t.Placed {
		place := fmt.Sprintf("%s/placed/%d", at, i)
		c.places(place+"/corners", p.Corners)
		if len(p.Corners) != 4 || !(geom.Area(Points(p.Corners)) >= 4) {
			c.fault(place, "it needs four corners with room between them")
		}
	}
	for i, span := range t.Dropped {
		c.span(fmt.Sprintf("%s/dropped/%d", at, i), span)
	}
	c.within(at+"/smooth", t.Smooth, 0, 50, " frames")
	if b := t.Bends; b != nil {
		if t.Kind != PlaneTrack {
			c.fault(at+"/bends", "only the track of a plane can bend")
		}
		c.within(at+"/bends/stiffness", b.Stiffness, 0, 1, "")
		c.within(at+"/bends/detail", b.Detail, 4, 64, " pixels")
		for _, n := range b.Homes {
			c.frame(at+"/bends/homes", n)
		}
		if base := c.doc.Track(b.Along); b.Along != "" && (base == nil || base.ID == t.ID) {
			c.fault(at+"/bends/along", "there is no other track %q", b.Along)
		}
	}
	own = c.ids()
	for i := range t.Corrections {
		place := fmt.Sprintf("%s/corrections/%d", at, i)
		own(place, t.Corrections[i].ID)
		c.correction(place, &t.Corrections[i])
	}
	if t.Data != nil {
		if t.Data.Artifact == "" && len(t.Data.Samples) == 0 {
			c.fault(at+"/data", "it has neither samples nor an artifact")
		}
		c.ordered(at+"/data/samples", len(t.Data.Samples), func(i int) int { return t.Data.Samples[i].Frame })
		for _, s := range t.Data.Samples {
			if !s.Matrix.Finite() || s.Matrix.Det() == 0 {
				c.fault(at+"/data", "the matrix of frame %d cannot be inverted", s.Frame)
			}
			if s.Bend != nil {
				if _, ok := s.Bend.Lattice(); !ok {
					c.fault(at+"/data", "the bend of frame %d has not the shifts of its crossings, or no box", s.Frame)
				}
			}
		}
	}
}

// Point returns the point with the given identifier, or nil.
func (t *Track) Point(id string) *Point {
	for i := range t.Points {
		if t.Points[i].ID == id {
			return &t.Points[i]
		}
	}
	return nil
}

func (c *checker) point(place string, p *Point) {
	c.frame(place+"/home", p.Home)
	c.places(place, []Vec{p.At, p.Use})
	for axis, name := range []string{"width", "height"} {
		c.within(place+"/pattern", p.Pattern[axis], 5, 400, " pixels")
		c.within(place+"/search", p.Search[axis], 5, 1200, " pixels")
		if p.Search[axis] < p.Pattern[axis] {
			c.fault(
				place+"/search",
				"its %s is smaller than the pattern's; the search box lies around the pattern",
				name,
			)
		}
	}
	if p.Motion != geom.Position && p.Motion != geom.Similarity && p.Motion != geom.Shear {
		c.fault(place+"/motion", "%q is nothing a pattern can do; choose position, similarity or shear", p.Motion)
	}
	c.within(place+"/tolerance", p.Tolerance, 0, 1, "")
	c.ordered(place+"/placed", len(p.Placed), func(i int) int { return p.Placed[i].Frame })
	for _, k := range p.Placed {
		c.places(place+"/placed", []Vec{k.At})
	}
	if p.Path != nil && p.Path.Artifact == "" && len(p.Path.Samples) == 0 {
		c.fault(place+"/path", "it has neither samples nor an artifact")
	}
}

func (c *checker) correction(place string, k *Correction) {
	if !slices.Contains([]string{ByPlacement, ByCorners, ByGrid, ByPins}, k.Kind) {
		c.fault(place+"/kind", "%q is not a kind of correction; choose placement, corners, grid or pins", k.Kind)
	}
	crossings := 0
	if k.Kind == ByPins {
		c.places(place+"/pins", k.Pins)
		c.within(place+"/reach", k.Reach, 0, 10000, " pixels")
		crossings = len(k.Pins)
	}
	if k.Kind == ByGrid {
		if len(k.Cells) != 2 || k.Cells[0] < 1 || k.Cells[1] < 1 || k.Cells[0] > 16 || k.Cells[1] > 16 {
			c.fault(place+"/cells", "a grid has 1 to 16 columns and 1 to 16 rows")
			return
		}
		crossings = (k.Cells[0] + 1) * (k.Cells[1] + 1)
	}
	c.ordered(place+"/keys", len(k.Keys), func(i int) int { return k.Keys[i].Frame })
	for i, key := range k.Keys {
		at := fmt.Sprintf("%s/keys/%d", place, i)
		c.places(at, slices.Concat([]Vec{key.Offset}, key.Corners, key.Crossings))
		if n := len(key.Corners); n != 0 && n != 4 {
			c.fault(at+"/corners", "a surface has four corners, this has %d", n)
		}
		if len(key.Crossings) != crossings {
			c.fault(at+"/crossings", "this correction moves %d crossings or pins, the key %d", crossings, len(key.Crossings))
		}
		c.within(at+"/scale", key.Scale, 0, 100, "")
		c.within(at+"/turn", key.Turn, -3600, 3600, " degrees")
	}
}
