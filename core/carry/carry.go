// Package carry works out where everything drawn in a treatment lies on every
// frame: it turns measured tracks, frames placed by hand, smoothing and
// corrections into the motion of each surface, and lets shapes ride on them.
package carry

import (
	"fmt"
	"math"
	"slices"
	"sort"

	"jardin/core/geom"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// A Set holds the motions of all tracks of a document. It does not change and is
// safe for concurrent use.
type Set struct {
	tracks map[string]*Motion
	doc    *treatment.Document
	lens   geom.Lens // the shot's; plain where there is none
}

// Space returns what was found of the set that was filmed; it fails with ErrNoCamera as long as nothing is known of the camera.
func (s *Set) Space() (*Space, error) { return NewSpace(s.doc) }

// Tried tells by places where a card would take its home's surface on frame n if it lay elsewhere; nil where that is not known.
func (s *Set) Tried(track string, card *treatment.Card, n int) *warp.Mesh {
	m := s.tracks[track]
	if m == nil || m.Track.Kind != treatment.CardTrack {
		return nil
	}
	moved := *m.Track
	moved.Card, moved.Surface = card, nil
	there, err := New(&treatment.Document{Tracks: []treatment.Track{moved}, Lens: s.doc.Lens, Camera: s.doc.Camera})
	if err != nil {
		return nil
	}
	return there.Mesh(track, n)
}

// Path returns the camera's path as it was found, before the space was laid; nil where it is not known.
func (s *Set) Path() *treatment.Solved {
	if s.doc.Camera == nil || s.doc.Camera.Data == nil {
		return nil
	}
	return s.doc.Camera.Data.Path
}

// A Motion is where a surface is on each frame on which it is known.
type Motion struct {
	Track   *treatment.Track
	Samples []Moment // by frame
	kind    kind
	lens    geom.Lens    // that is taken out before its matrices, and put back after them
	corners []geom.Point // of its surface on the home frame, in the picture that its matrices are of
	at      map[int]int
	points  map[string]map[int]geom.Point // places used of a track of points
	places  map[string]map[int]Place      // where points are tracked, by identifier and frame
	bends   map[int][]geom.Lattice        // by frame, from corrections by grids, at home
}

// A Moment is a surface on one frame: from the track's home to there, everything
// that was decided by hand included.
type Moment struct {
	treatment.Sample
	before    *geom.Homography // the matrix without the last correction, where that is not by a grid
	Crossings []treatment.Vec  // how far the last correction by a grid moves each crossing here
	ByHand    bool             // placed by hand
	Bridged   bool             // not known itself, but between frames on which it is
	Missing   int              // so many of its points were not found here, but between frames on which they were
	Ambiguous bool             // another place near one of its points looks almost the same
	Drift     float64          // how far one of its points is at most from where it looks as where it was put, pixels
	Grade     Grade
	Advice    string // what is doubtful, and what to do
}

// New works out the motions of a document whose artifacts all stand in place.
func New(doc *treatment.Document) (*Set, error) {
	s := &Set{tracks: map[string]*Motion{}, doc: doc}
	var err error
	if s.lens, err = doc.Lens.Of(); err != nil {
		return nil, fmt.Errorf("the shot's lens: %w", err)
	}
	for i := range doc.Tracks {
		if _, err := s.resolve(doc, &doc.Tracks[i], len(doc.Tracks)); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// Motion returns the motion of a track, or nil if there is no such track.
func (s *Set) Motion(id string) *Motion { return s.tracks[id] }

// Mapping returns how a track takes frame a to frame b; nil where it is not known on one of
// them. Still is known everywhere.
func (s *Set) Mapping(id string, a, b int) warp.Mapping {
	if a == b || id == treatment.Still {
		return warp.Identity
	}
	if m := s.tracks[id]; m != nil {
		return m.kind.mapping(m, a, b)
	}
	return nil
}

// Mesh tells by places where a track takes its home's surface on frame n; nil where it is not
// known there.
func (s *Set) Mesh(id string, n int) *warp.Mesh {
	if m := s.tracks[id]; m != nil {
		if mapping := s.Mapping(id, m.Track.Home, n); mapping != nil {
			return MeshOf(m.Track, mapping)
		}
	}
	return nil
}

// MeshOf tells a mapping from a track's home by places of its surface: those of its box, or of
// the middle of that where its corners are not seen. It is nil where nothing is.
func MeshOf(t *treatment.Track, m warp.Mapping) *warp.Mesh {
	box := geom.Bounds(t.Frame())
	for range 4 {
		if mesh, ok := warp.NewMesh(m, box); ok {
			return mesh
		}
		c := box.Centre()
		box = geom.Box{Min: c.Lerp(box.Min, 0.5), Max: c.Lerp(box.Max, 0.5)}
	}
	return nil
}

// Between returns the transform from frame a to frame b by a track, without what bends its
// surface. ok is false where the track is not known on either frame; Still is known everywhere.
func (s *Set) Between(id string, a, b int) (h geom.Homography, ok bool) {
	if a == b || id == treatment.Still {
		return geom.Identity, true
	}
	m := s.tracks[id]
	if m == nil {
		return geom.Identity, false
	}
	ha, ok1 := m.At(a)
	hb, ok2 := m.At(b)
	if !ok1 || !ok2 {
		return geom.Identity, false
	}
	back, ok := ha.Inverse()
	if !ok {
		return geom.Identity, false
	}
	return hb.Mul(back).Normalised(), true
}

// At returns the transform from the track's home to frame n.
func (m *Motion) At(n int) (geom.Homography, bool) {
	if i, ok := m.at[n]; ok {
		return m.Samples[i].Matrix, true
	}
	return geom.Identity, n == m.Track.Home
}

// Before returns what takes the surface from home to frame n without the last correction; nil
// where there is none.
func (m *Motion) Before(n int) warp.Mapping {
	i, ok := m.at[n]
	if !ok {
		return nil
	}
	v, bends := &m.Samples[i], m.bent(n)
	toFrame := v.Matrix
	switch {
	case v.before != nil:
		toFrame = *v.before
	case v.Crossings == nil:
		return nil
	case slices.ContainsFunc(v.Crossings, func(d treatment.Vec) bool { return d != treatment.Vec{} }):
		bends = bends[:len(bends)-1]
	}
	out, ok := warp.NewBent(geom.Identity, toFrame, nil, bends)
	if !ok {
		return nil
	}
	return m.lensed(out)
}

// lensed returns a mapping between straight pictures as one between pictures as they are seen.
func (m *Motion) lensed(between warp.Mapping) warp.Mapping {
	if m.lens.Plain() {
		return between
	}
	return warp.Chain(warp.LensOut(m.lens), between, warp.LensIn(m.lens))
}

// bent returns what bends the surface on frame n, at home: as it was measured, and by the grids that correct it. The measured one
// is made of its bytes anew, as a shot of them would fill the memory.
func (m *Motion) bent(n int) []geom.Lattice {
	i, ok := m.at[n]
	if !ok || m.Samples[i].Bend == nil {
		return m.bends[n]
	}
	l, ok := m.Samples[i].Bend.Lattice()
	if !ok {
		return m.bends[n]
	}
	return append([]geom.Lattice{l}, m.bends[n]...)
}

// Bend returns how the surface is bent on frame n; nil where it is not, or not known.
func (m *Motion) Bend(n int) *treatment.Bend {
	if i, ok := m.at[n]; ok {
		return m.Samples[i].Bend
	}
	return nil
}

// Agreement returns how much what is seen on frame n around a place of the home frame is like there, 0 to 1, where the surface
// bends; 1 where it does not, and less than 0 where nothing is known of it.
func (m *Motion) Agreement(n int, p geom.Point) float64 {
	i, ok := m.at[n]
	switch {
	case !ok:
		return -1
	case m.Samples[i].Bend == nil || n == m.Track.Home:
		return 1
	}
	return m.Samples[i].Bend.AgreementAt(p)
}

// Places returns where a point is tracked, by frame.
func (m *Motion) Places(id string) map[int]Place { return m.places[id] }

// Point returns the place that is used of a point on a frame.
func (m *Motion) Point(id string, n int) (geom.Point, bool) {
	p, ok := m.points[id][n]
	return p, ok
}

// resolve works out one track, after the one that it lies over.
func (s *Set) resolve(doc *treatment.Document, t *treatment.Track, depth int) (*Motion, error) {
	if m, ok := s.tracks[t.ID]; ok {
		return m, nil
	}
	if depth < 0 {
		return nil, fmt.Errorf("track %q lies over itself", t.Name)
	}
	if t.Data != nil && t.Data.Artifact != "" {
		return nil, fmt.Errorf("track %q is still an artifact", t.Name)
	}
	m := &Motion{Track: t, kind: kinds[t.Kind]}
	var err error
	if m.kind == nil {
		return nil, fmt.Errorf("track %q is of a kind %q, which is not known", t.Name, t.Kind)
	}
	if m.lens, err = lensOf(doc, t); err != nil {
		return nil, err
	}
	m.corners = m.straight(t.Frame())
	if err := m.kind.measured(doc, m); err != nil {
		return nil, err
	}
	if len(m.Samples) > 0 {
		m.add(Moment{Sample: treatment.Sample{Frame: t.Home, Matrix: geom.Identity, Match: 1, Agree: 1}}, false)
	}
	m.index()
	m.smooth()
	if t.Over != "" {
		base := doc.Track(t.Over)
		if base == nil {
			return nil, fmt.Errorf("track %q lies over %q, which is not there", t.Name, t.Over)
		}
		if _, err := s.resolve(doc, base, depth-1); err != nil {
			return nil, err
		}
		kept := m.Samples[:0]
		for _, v := range m.Samples {
			if h, ok := s.Between(t.Over, t.Home, v.Frame); ok {
				v.Matrix = h.Mul(v.Matrix).Normalised()
				kept = append(kept, v)
			}
		}
		m.Samples = kept
	}
	m.index()
	m.correct()
	m.grade()
	s.tracks[t.ID] = m
	return m, nil
}

// lensOf returns the lens that a track is worked out without: that of the shot if it says so, or the track below it does.
func lensOf(doc *treatment.Document, t *treatment.Track) (geom.Lens, error) {
	if !Straight(doc, t) {
		return geom.Lens{}, nil
	}
	l, err := doc.Lens.Of()
	if err != nil {
		return l, fmt.Errorf("the shot's lens: %w", err)
	}
	return l, nil
}

// Straight reports whether a track is worked out in the picture that the lens is taken out of: one that lies over another is if that
// is.
func Straight(doc *treatment.Document, t *treatment.Track) bool {
	for range len(doc.Tracks) + 1 {
		if t == nil {
			return false
		}
		if t.Straight || t.Kind == treatment.CardTrack {
			return true
		}
		if t.Over == "" {
			return false
		}
		t = doc.Track(t.Over)
	}
	return false
}

// Corners returns those of the track's surface on its home frame, in the picture that its matrices are of: the straight one of a
// track that is worked out there.
func (m *Motion) Corners() []geom.Point { return slices.Clone(m.corners) }

// straight takes places of the home frame, or of another, to the picture that the matrices are of.
func (m *Motion) straight(at []geom.Point) []geom.Point {
	out := make([]geom.Point, len(at))
	for i, p := range at {
		out[i] = m.straightPoint(p)
	}
	return out
}

func (m *Motion) straightPoint(p geom.Point) geom.Point { return m.lens.Straighten(p) }

// add puts a sample in; with replace it takes the place of one on the same frame.
func (m *Motion) add(v Moment, replace bool) {
	for i := range m.Samples {
		if m.Samples[i].Frame == v.Frame {
			if replace {
				m.Samples[i] = v
			}
			return
		}
	}
	m.Samples = append(m.Samples, v)
}

func (m *Motion) index() {
	sort.Slice(m.Samples, func(i, j int) bool { return m.Samples[i].Frame < m.Samples[j].Frame })
	m.at = make(map[int]int, len(m.Samples))
	for i, v := range m.Samples {
		m.at[v.Frame] = i
	}
}

func dropped(t *treatment.Track, n int) bool {
	for _, span := range t.Dropped {
		if span.Has(n) {
			return true
		}
	}
	return false
}

// longestGap is how many frames are bridged at most: a file may name any.
const longestGap = 20_000

// bridge fills the frames between samples: each corner of the surface goes on as it went before and comes as it goes
// after (cubic Hermite interpolation); over long gaps less so, and ever more straight.
func (m *Motion) bridge() {
	corners := m.corners
	known := slices.Clone(m.Samples)
	// speed is how far a corner moves in a frame, from sample i to the one beside it, if they follow each other.
	speed := func(i, step, k int) (geom.Point, bool) {
		j := i + step
		if j < 0 || j >= len(known) || known[j].Frame != known[i].Frame+step {
			return geom.Point{}, false
		}
		return known[j].Matrix.Apply(corners[k]).Sub(known[i].Matrix.Apply(corners[k])).Mul(float64(step)), true
	}
	for i := len(known) - 1; i > 0; i-- {
		a, b := known[i-1], known[i]
		if b.Frame-a.Frame < 2 || b.Frame-a.Frame > longestGap || !sees(a.Matrix, corners) || !sees(b.Matrix, corners) {
			continue
		}
		from, to := a.Matrix.ApplyAll(corners), b.Matrix.ApplyAll(corners)
		for n := a.Frame + 1; n < b.Frame; n++ {
			u := float64(n-a.Frame) / float64(b.Frame-a.Frame)
			between := make([]geom.Point, len(corners))
			for k := range corners {
				before, ok1 := speed(i-1, -1, k)
				after, ok2 := speed(i, 1, k)
				between[k] = eased(from[k], to[k], before, after, ok1, ok2, b.Frame-a.Frame, u)
			}
			if h, err := geom.Fit(geom.Perspective, corners, between, nil); err == nil {
				m.Samples = append(m.Samples, Moment{
					Sample: treatment.Sample{Frame: n, Matrix: h, Bend: treatment.MixBends(a.Bend, b.Bend, u)}, Bridged: true, ByHand: a.ByHand && b.ByHand,
				})
			}
		}
	}
	m.index()
}

// eased is a place between two that lie so many frames apart, at u from 0 to 1: it goes on with the speed before, if that is
// known, and comes with the speed after.
func eased(from, to, before, after geom.Point, leaves, comes bool, frames int, u float64) geom.Point {
	const longest = 8 // frames over which motion is believed to go on
	length := float64(frames)
	straight := to.Sub(from)
	leave, come := straight, straight // over the whole gap
	reach := math.Min(length, longest)
	if leaves {
		leave = straight.Add(before.Sub(straight.Mul(1 / length)).Mul(reach))
	}
	if comes {
		come = straight.Add(after.Sub(straight.Mul(1 / length)).Mul(reach))
	}
	return from.Mul((1 + 2*u) * (1 - u) * (1 - u)).
		Add(leave.Mul(u * (1 - u) * (1 - u))).
		Add(to.Mul(u * u * (3 - 2*u))).
		Sub(come.Mul(u * u * (1 - u)))
}

// sees reports whether all corners are before the camera, and not at the horizon: a region that moved on may have left the
// first one behind.
func sees(h geom.Homography, corners []geom.Point) bool {
	for _, p := range corners {
		if !(h[6]*p.X+h[7]*p.Y+h[8] > 0.02*math.Abs(h[8])) {
			return false
		}
	}
	return true
}

// smooth moves each corner of the surface to the mean of where it is on the frames
// around, weighted by a Gaussian; the home stays where it is.
func (m *Motion) smooth() {
	sigma := m.Track.Smooth
	if sigma <= 0 || len(m.Samples) < 3 {
		return
	}
	corners := m.corners
	paths := make([][]geom.Point, len(m.Samples))
	for i, v := range m.Samples {
		paths[i] = v.Matrix.ApplyAll(corners)
	}
	reach := int(math.Ceil(3 * sigma))
	out, kept := make([]geom.Homography, len(m.Samples)), make([]bool, len(m.Samples))
	for i, v := range m.Samples {
		// As far on one side as on the other, so that a steady move is left alone.
		n := min(reach, i, len(m.Samples)-1-i)
		kept[i] = v.Bend != nil // what bends was measured on top of the plane as it is
		for j := i - n; j <= i+n; j++ {
			if !sees(m.Samples[j].Matrix, corners) { // the surface's own corners tell nothing there
				kept[i] = true
			}
		}
		moved := make([]geom.Point, len(corners))
		var sum float64
		for j := i - n; j <= i+n; j++ {
			d := float64(m.Samples[j].Frame-v.Frame) / sigma
			w := math.Exp(-d * d / 2)
			sum += w
			for k := range corners {
				moved[k] = moved[k].Add(paths[j][k].Mul(w))
			}
		}
		for k := range moved {
			moved[k] = moved[k].Mul(1 / sum)
		}
		h, err := geom.Fit(geom.Perspective, corners, moved, nil)
		if err != nil {
			h = v.Matrix
		}
		out[i] = h
	}
	home := geom.Identity
	if i, ok := m.at[m.Track.Home]; ok {
		if back, ok := out[i].Inverse(); ok {
			home = back
		}
	}
	for i := range out {
		if !kept[i] {
			m.Samples[i].Matrix = out[i].Mul(home).Normalised()
		}
	}
}

// correct adds the corrections, each in the coordinates of the home frame. Grids
// bend the surface itself: they come before all that moves it as a whole.
func (m *Motion) correct() {
	m.bends = map[int][]geom.Lattice{}
	t := m.Track
	corners := m.corners
	for _, c := range t.Corrections {
		if c.Off || len(c.Keys) == 0 {
			continue
		}
		keys := make([]geom.Key, len(c.Keys))
		for i, k := range c.Keys {
			keys[i] = geom.Key{Frame: k.Frame, Linear: k.Ease == treatment.Linear}
			if c.Kind == treatment.ByGrid || c.Kind == treatment.ByPins {
				for _, v := range k.Crossings {
					keys[i].Values = append(keys[i].Values, v[0], v[1])
				}
				continue
			}
			if c.Kind == treatment.ByCorners {
				keys[i].Values = make([]float64, 8)
				for j, v := range k.Corners {
					keys[i].Values[2*j], keys[i].Values[2*j+1] = v[0], v[1]
				}
				continue
			}
			scale := k.Scale
			if scale == 0 {
				scale = 1
			}
			keys[i].Values = []float64{k.Offset[0], k.Offset[1], k.Turn, scale}
		}
		for i := range m.Samples {
			if c.Kind == treatment.ByGrid || c.Kind == treatment.ByPins {
				m.bend(i, &c, geom.Between(keys, m.Samples[i].Frame))
				continue
			}
			before := m.Samples[i].Matrix
			m.Samples[i].before, m.Samples[i].Crossings = &before, nil
			v := geom.Between(keys, m.Samples[i].Frame)
			var h geom.Homography
			if c.Kind == treatment.ByCorners {
				to := make([]geom.Point, 4)
				for k := range to {
					to[k] = corners[k].Add(geom.Pt(v[2*k], v[2*k+1]))
				}
				var err error
				if h, err = geom.Fit(geom.Perspective, corners, to, nil); err != nil {
					continue
				}
			} else {
				h = geom.Placement(geom.Bounds(corners).Centre(), geom.Pt(v[0], v[1]), v[2], geom.Pt(v[3], v[3]))
			}
			m.Samples[i].Matrix = m.Samples[i].Matrix.Mul(h).Normalised()
		}
	}
}

// bend adds a lattice over the surface's box, or one through pins, to a frame.
func (m *Motion) bend(i int, c *treatment.Correction, values []float64) {
	var by []geom.Point
	moves := false
	m.Samples[i].before, m.Samples[i].Crossings = nil, []treatment.Vec{}
	for k := 0; k < len(values); k += 2 {
		p := geom.Pt(values[k], values[k+1])
		moves = moves || p != geom.Point{}
		by = append(by, p)
		m.Samples[i].Crossings = append(m.Samples[i].Crossings, treatment.Vec{p.X, p.Y})
	}
	box := geom.Bounds(m.corners)
	var l geom.Lattice
	switch {
	case !moves:
	case c.Kind == treatment.ByPins:
		reach := c.Reach
		if reach == 0 {
			reach = math.Min(box.Max.X-box.Min.X, box.Max.Y-box.Min.Y) / 2
		}
		l = geom.Pinned(box, treatment.Points(c.Pins), by, reach)
	default:
		l = geom.Lattice{Box: box, Columns: c.Cells[0], Rows: c.Cells[1], Shift: by}
	}
	if n := m.Samples[i].Frame; moves {
		m.bends[n] = append(m.bends[n], l)
	}
}
