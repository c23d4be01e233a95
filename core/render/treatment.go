package render

import (
	"fmt"
	"slices"
	"sync"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// A Treatment is a document made ready for evaluation: motions worked out,
// strokes hashed. It is safe for concurrent use.
type Treatment struct {
	removals []*removal
	motions  *carry.Set
	scenes   *sync.Map // int -> *memo.Keyed[scenery]: what lies on a frame, by frame

	all        []*removal    // of the document, also those that are left out here
	tracksName func() string // names the document's tracks
}

type removal struct {
	of      *Treatment
	doc     treatment.Removal
	motions *carry.Set
	placed  map[int]warp.Mapping // from the reference frame: stands for the track while one is being found
	sources []*source
	draft   bool
	at      int // its place in the document
	name    func() string
	inputs  *sync.Map // parts of inputs that several frames share, by what they are of
}

// A source is a place that clean pixels come from, made ready.
type source struct {
	*treatment.Source
	kind    sourceKind
	frame   int           // in whose coordinates it is
	strokes []*stroke     // those that are not off
	below   func() *below // what of the removals below it sees, if it looks at them
}

// A stroke is one made ready: all that never changes about it is worked out.
type stroke struct {
	*treatment.Stroke
	plain *memo.Keyed[plainStroke]
	box   geom.Box // around all that it may cover, at home
}

// Compile makes a document ready. The numbers of its tracks and strokes must stand
// in place in it, and it must not be changed afterwards.
func Compile(doc *treatment.Document) (*Treatment, error) {
	motions, err := carry.New(doc)
	if err != nil {
		return nil, err
	}
	t := &Treatment{motions: motions, scenes: &sync.Map{}}
	t.tracksName = sync.OnceValue(func() string { return nameOf(doc.Tracks) })
	for k, d := range doc.Removals {
		r := &removal{of: t, at: k, doc: d, motions: motions, inputs: &sync.Map{}}
		r.name = sync.OnceValue(func() string { return nameOf(d) })
		for i := range d.Fill.Sources {
			s, err := ready(&d.Fill.Sources[i])
			if err != nil {
				return nil, fmt.Errorf("%q: %w", d.Name, err)
			}
			r.sources = append(r.sources, s)
			s.below = sync.OnceValue(func() *below { return t.beneath(r.seenBy(i)) })
		}
		t.removals = append(t.removals, r)
	}
	t.all = t.removals
	return t, nil
}

func ready(s *treatment.Source) (*source, error) {
	kind := sourceKinds[s.Kind]
	if kind == nil || !s.Known() {
		return nil, fmt.Errorf("%q is of a kind %q, of which nothing is known", s.Name, s.Kind)
	}
	out := &source{Source: s, kind: kind, frame: kind.frame(s)}
	strokes := s.Strokes()
	for i := range strokes {
		st := &strokes[i]
		if st.Path != nil && len(st.Path.Points) == 0 && st.Path.Artifact != "" {
			return nil, fmt.Errorf("stroke %d of %q is still an artifact", i+1, s.Name)
		}
		if !st.Off {
			out.strokes = append(out.strokes, &stroke{st, memo.Of(plainOf(st)), strokeBox(st)})
		}
	}
	return out, nil
}

// whole reports whether all of a frame is held, on which something to go may show elsewhere.
func (s *source) whole() bool { return s.Plate != nil && s.Plate.Whole }

// on returns the strokes that are there on frame n.
func (s *source) on(n int) []*stroke {
	var out []*stroke
	for _, st := range s.strokes {
		if st.Range == nil || st.Range.Has(n) {
			out = append(out, st)
		}
	}
	return out
}

// Motions returns where the treatment's surfaces are.
func (t *Treatment) Motions() *carry.Set { return t.motions }

// Strokes counts the strokes of all removals.
func (t *Treatment) Strokes() (n int) {
	for _, r := range t.removals {
		for _, s := range r.sources {
			n += len(s.strokes)
		}
	}
	return n
}

// Removals lists the removals by their identifiers.
func (t *Treatment) Removals() (out []string) {
	for _, r := range t.removals {
		out = append(out, r.doc.ID)
	}
	return out
}

// Removal returns a removal of the treatment, or nil.
func (t *Treatment) Removal(id string) *treatment.Removal {
	if r := t.removal(id); r != nil {
		return &r.doc
	}
	return nil
}

func (t *Treatment) removal(id string) *removal {
	for _, r := range t.removals {
		if r.doc.ID == id {
			return r
		}
	}
	return nil
}

// Placed returns the treatment with one removal's surface carried by a mapping from its
// reference frame to frame n: for looking at a track that is still being found.
func (t *Treatment) Placed(id string, n int, m warp.Mapping) *Treatment {
	return t.with(&sync.Map{}, func(r *removal) {
		r.inputs = &sync.Map{}
		if r.doc.ID == id {
			r.placed = map[int]warp.Mapping{n: m}
		}
	})
}

// Only returns the treatment with all removals but some left out. The mattes of the
// others still count where light is measured.
func (t *Treatment) Only(ids ...string) *Treatment {
	return t.with(t.scenes, func(r *removal) {
		r.doc.Off = r.doc.Off || !slices.Contains(ids, r.doc.ID)
	})
}

// Draft returns the treatment with what is gathered through time gathered from few frames: a first picture of it, while
// the whole is on its way. Where nothing is gathered its frames have the same keys.
func (t *Treatment) Draft() *Treatment {
	return t.with(t.scenes, func(r *removal) { r.draft, r.inputs = true, &sync.Map{} })
}

// with returns the treatment with all removals changed.
func (t *Treatment) with(scenes *sync.Map, change func(*removal)) *Treatment {
	out := &Treatment{motions: t.motions, scenes: scenes, all: t.all, tracksName: t.tracksName}
	for _, r := range t.removals {
		changed := *r
		changed.of = out
		change(&changed)
		out.removals = append(out.removals, &changed)
	}
	return out
}

// shared returns the part of an input that is kept under a name, made if it is not yet.
func shared[T any](m *sync.Map, name any, build func() T) T {
	if v, ok := m.Load(name); ok {
		return v.(T)
	}
	v, _ := m.LoadOrStore(name, build())
	return v.(T)
}

// pose returns how one of the removal's shapes lies on frame n.
func (r *removal) pose(s *treatment.Shape, n int) (carry.Pose, bool) {
	pose, ok := r.motions.Pose(s, r.doc.Follow.Track, n)
	if _, placed := r.placed[n]; placed && s.Ride == "" && pose.Shifts == nil {
		if m := r.mapping("", s.Home, n); m != nil {
			pose, _ = r.motions.Pose(s, treatment.Still, n)
			pose.ToFrame, ok = m, true
		}
	}
	return pose, ok
}

// mapping returns how what rides on a track, or on the removal's own for none, gets from
// frame a to frame b; nil where that is not known.
func (r *removal) mapping(ride string, a, b int) warp.Mapping {
	if ride == "" {
		ride = r.doc.Follow.Track
		if found, ok := r.placed[b]; ok && a != b {
			// The track is being found: what it says so far is from the reference frame.
			if back := r.motions.Mapping(ride, a, r.doc.Reference); back != nil {
				return warp.Chain(back, found)
			}
		}
	}
	return r.motions.Mapping(ride, a, b)
}
