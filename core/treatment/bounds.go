package treatment

import (
	"fmt"
	"slices"
)

// How many of a thing a document may have. No artist comes near them; a document that was
// made to take all memory, or an hour for a frame, goes beyond.
const (
	MostRemovals  = 2000
	MostTracks    = 2000
	MostShapes    = 500     // of one removal's mark, of a source, a tone, a front, a track
	MostKnots     = 2000    // of a shape
	MostKeys      = 20_000  // of anything
	MostSources   = 200     // of a removal
	MostBelow     = 1000    // removals with sources that look at the removals below
	MostBelowAll  = 20      // of these, removals with sources that look at them anywhere
	MostComputed  = 8       // sources of a removal whose pixels are computed from the footage
	MostStrokes   = 20_000  // of a source
	MostTouches   = 50_000  // points of a stroke
	MostPoints    = 500     // of a track
	MostSamples   = 200_000 // of a track, of a point
	MostMattes    = 200_000 // of a front
	MostGrainLags = 64      // numbers of light in a grain model
	MostPicture   = 256 << 20
)

// most finds fault with more of a thing than there may be.
func (c *checker) most(place string, n, most int, what string) {
	if n > most {
		c.fault(place, "there are %d %s; %d at most", n, what, most)
	}
}

// counts finds all that a document has too much of. It comes before everything else is
// looked at.
func (c *checker) counts() {
	c.most("/removals", len(c.doc.Removals), MostRemovals, "removals")
	c.most("/tracks", len(c.doc.Tracks), MostTracks, "tracks")
	for i := range c.doc.Tracks {
		t, at := &c.doc.Tracks[i], fmt.Sprintf("/tracks/%d", i)
		c.manyShapes(at+"/exclusions", t.Exclusions)
		c.most(at+"/region", len(t.Region), MostKnots, "points")
		c.most(at+"/regions", len(t.Regions), MostShapes, "regions")
		for k := range t.Regions {
			c.most(at+"/regions", len(t.Regions[k].Region), MostKnots, "points")
		}
		c.most(at+"/points", len(t.Points), MostPoints, "points")
		c.most(at+"/placed", len(t.Placed), MostKeys, "frames placed by hand")
		c.most(at+"/dropped", len(t.Dropped), MostKeys, "dropped ranges")
		c.most(at+"/corrections", len(t.Corrections), MostShapes, "corrections")
		for k := range t.Corrections {
			c.most(at+"/corrections", len(t.Corrections[k].Pins), MostPins, "pins")
			c.most(at+"/corrections", len(t.Corrections[k].Keys), MostKeys, "keys")
		}
		if t.Data != nil {
			c.most(at+"/data/samples", len(t.Data.Samples), MostSamples, "samples")
		}
		for k := range t.Points {
			c.most(at+"/points", len(t.Points[k].Placed), MostKeys, "frames placed by hand")
			if t.Points[k].Path != nil {
				c.most(at+"/points", len(t.Points[k].Path.Samples), MostSamples, "samples")
			}
		}
	}
	below, belowAll := 0, 0
	for i := range c.doc.Removals {
		r, at := &c.doc.Removals[i], fmt.Sprintf("/removals/%d", i)
		for _, list := range r.Shapes() {
			c.manyShapes(at, *list)
		}
		c.most(at+"/fill/sources", len(r.Fill.Sources), MostSources, "sources")
		c.most(at+"/settle/tones", len(r.Settle.Tones), MostSources, "tones")
		if slices.ContainsFunc(r.Fill.Sources, func(s Source) bool { return s.Below }) {
			below++
		}
		if slices.ContainsFunc(r.Fill.Sources, func(s Source) bool { return s.Below && s.looksAnywhere() }) {
			belowAll++
		}
		computed := 0
		for k := range r.Fill.Sources {
			s := &r.Fill.Sources[k]
			if b, ok := s.body().(computedBody); ok && b.computed() {
				computed++
			}
			c.most(fmt.Sprintf("%s/fill/sources/%d/strokes", at, k), len(s.Strokes()), MostStrokes, "strokes")
			if b, ok := s.body().(boundedBody); ok {
				b.counts(c, fmt.Sprintf("%s/fill/sources/%d/%s", at, k, s.Kind))
			}
		}
		c.most(at+"/fill/sources", computed, MostComputed, "sources that are gathered or grown")
		for k := range r.Settle.Tones {
			c.most(at+"/settle/tones", len(r.Settle.Tones[k].Keys), MostKeys, "keys")
		}
		c.most(at+"/mark/mattes", len(r.Mark.Mattes), MostShapes, "mattes")
		for k := range r.Mark.Mattes {
			c.most(at+"/mark/mattes", len(r.Mark.Mattes[k].Mattes), MostMattes, "pictures")
		}
		if g := r.Guard; g != nil {
			c.most(at+"/guard/fronts", len(g.Fronts), MostShapes, "fronts")
			for k := range g.Fronts {
				c.most(at+"/guard/fronts", len(g.Fronts[k].Mattes), MostMattes, "mattes")
			}
		}
		if g := r.Settle.Grain; g != nil && g.Model != nil {
			c.most(at+"/settle/grain/model/light", len(g.Model.Light), MostGrainLags, "steps of light")
		}
	}
	c.most("/removals", below, MostBelow, "removals that look at those below")
	c.most("/removals", belowAll, MostBelowAll, "removals that look at those below with more than paint")
}

func (c *checker) manyShapes(place string, shapes []Shape) {
	c.most(place, len(shapes), MostShapes, "shapes")
	for i := range shapes {
		s := &shapes[i]
		c.most(place, len(s.Points), MostKnots, "points in a shape")
		c.most(place, len(s.Keys), MostKeys, "keys")
		c.most(place, len(s.Placement), MostKeys, "keys")
	}
}

// ValidateStroke checks one stroke of a document that is valid without it.
func (d *Document) ValidateStroke(shot *Range, removal, source, stroke int) error {
	var faults faultList
	c := checker{doc: d, shot: shot, fault: faults.add, seen: map[string]bool{}}
	r := &d.Removals[removal]
	s := &r.Fill.Sources[source]
	at := fmt.Sprintf("/removals/%d/fill/sources", removal)
	c.most(at, len(r.Fill.Sources), MostSources, "sources")
	c.most(fmt.Sprintf("%s/%d/strokes", at, source), len(s.Strokes()), MostStrokes, "strokes")
	if len(s.Strokes()) == 1 { // the source may be new as well
		own := Fill{Sources: []Source{*s}}
		c.fill(at, &own)
		for i := range r.Fill.Sources {
			if i != source && r.Fill.Sources[i].ID == s.ID {
				c.fault(at, "the id %q is used twice", s.ID)
			}
		}
		return faults.join()
	}
	c.stroke(fmt.Sprintf("%s/%d/%s/strokes/%d", at, source, s.Kind, stroke), &s.Strokes()[stroke], s, c.ids())
	return faults.join()
}
