package render

import (
	"fmt"
	"image"
	"math"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/settle"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// Inputs: all that a frame depends on, gathered from the treatment. Keys are derived from
// these values (package memo), and what evaluates them sees nothing else of the treatment.
// Fields tagged `memo:"-"` follow from others, or only name things in errors.

// An Input is all that a view of a frame depends on, but for the plate.
type Input struct {
	Frame    int
	View     View
	Removals []removalInput
	Look     *lookInput // of the views that explain
}

// A removalInput is all that a removal's patch on a frame depends on.
type removalInput struct {
	Frame   int
	Fill    fillInput
	Matte   coverage
	Within  *coverage
	Seam    float64
	Around  *occluders // what does not count at the seam
	Tones   []toneInput
	Fronts  []frontInput
	Lay     string
	Opacity float64
	Grain   *grainInput
}

type toneInput struct {
	Grade settle.CDL
	Where *coverage
}

// A grainInput says what moving grain is laid.
type grainInput struct {
	Kind   string
	Model  *memo.Keyed[treatment.GrainModel]
	Amount [3]float64
	From   *treatment.Vec
	Seed   string // that another removal's grain is another
}

// A coverage is shapes as they lie on a frame.
type coverage struct {
	Shapes []carry.Placed
	Edge   carry.Edge
}

func (c coverage) cover(within image.Rectangle) *raster.Plane {
	return carry.Cover(c.Shapes, c.Edge, within)
}

// covered gathers shapes of the removal on frame n.
func (r *removal) covered(shapes []treatment.Shape, edge carry.Edge, n int) coverage {
	out := coverage{Edge: edge}
	for i := range shapes {
		if lie, ok := r.lie(&shapes[i], n); ok {
			out.Shapes = append(out.Shapes, carry.Place(&shapes[i], lie))
		}
	}
	return out
}

// matte gathers the removal's outlines on frame n. They are carried there and covered there,
// so that edges are as sharp on that frame as on the one that they were drawn on. A feather
// is as wide as the surface's scale makes it.
func (r *removal) matte(n int) coverage {
	s := &r.doc.Settle
	return r.covered(r.doc.Mark.Outlines, carry.Edge{Feather: s.Feather, FeatherIn: s.FeatherIn, Grow: s.Grow}, n)
}

// optional gathers shapes outside of which nothing counts; nil for none.
func (r *removal) optional(shapes []treatment.Shape, n int) *coverage {
	if len(shapes) == 0 {
		return nil
	}
	c := r.covered(shapes, carry.Edge{}, n)
	return &c
}

// Input gathers a view of frame n; nil where nothing is laid on it.
func (t *Treatment) Input(n int, view View, only string) *Input {
	out := &Input{Frame: n, View: view}
	if view == LightView || view == GrainView {
		if r := t.removal(only); r != nil {
			out.Look = r.look(n, view)
		}
		if out.Look == nil {
			return nil
		}
		return out
	}
	for _, r := range t.removals {
		switch {
		case view == ResultView:
		case only != "" && r.doc.ID != only, only == "" && view == PatchView:
			continue
		}
		if view != PatchView && !r.laid(n) {
			continue
		}
		if in := r.input(n, view); len(in.Fill.Sources) > 0 {
			out.Removals = append(out.Removals, in)
		}
	}
	if len(out.Removals) == 0 {
		return nil
	}
	return out
}

// laid reports whether the removal's patch is laid on frame n.
func (r *removal) laid(n int) bool {
	return !r.doc.Off && r.doc.Range.Has(n) && len(r.doc.Mark.Outlines) > 0
}

// input gathers the removal on frame n.
func (r *removal) input(n int, view View) removalInput {
	out := removalInput{Frame: n, Fill: r.fill(len(r.sources), n, view != PatchView)}
	if view == PatchView || len(out.Fill.Sources) == 0 {
		return out
	}
	st := &r.doc.Settle
	out.Matte, out.Opacity, out.Lay, out.Seam = r.matte(n), st.Shown(n), st.Lay, st.Seam
	if g := r.doc.Guard; g != nil {
		out.Within = r.optional(g.Within, n)
	}
	if st.Seam > 0 {
		// The removal's own matte ends at the rim that is looked at.
		out.Around = r.occluders(n, true)
	}
	for i := range st.Tones {
		if t := &st.Tones[i]; !t.Off {
			g := t.On(n)
			out.Tones = append(out.Tones, toneInput{
				settle.CDL{Slope: g.Slopes(), Offset: g.Offset, Power: g.Power, Saturation: g.Saturation}, r.optional(t.Where, n)})
		}
	}
	for _, f := range r.before() {
		out.Fronts = append(out.Fronts, f.by.front(f.Front, n))
	}
	if g := r.grain(); g != nil && g.Kind != "" && g.Model != nil {
		in := &grainInput{Kind: g.Kind, Amount: [3]float64{1, 1, 1}, From: g.From, Model: r.grainModel()}
		if g.Amount != nil {
			in.Amount = *g.Amount
		}
		in.Seed = r.doc.ID
		out.Grain = in
	}
	return out
}

func (r *removal) grainModel() *memo.Keyed[treatment.GrainModel] {
	return shared(r.inputs, "grain", func() *memo.Keyed[treatment.GrainModel] {
		model := *r.grain().Model
		model.Words = ""
		return memo.Of(model)
	})
}

// A fillInput is sources in order, as they are on a frame. What they make is premultiplied.
type fillInput struct {
	Frame   int
	Sources []sourceInput
}

// A sourceInput is one of them; it is of just one kind.
type sourceInput struct {
	Weight    float64
	Where     *coverage // nil for everywhere
	Solid     bool      // whatever Where covers at all counts in full
	Held      *heldInput
	Travel    *travelInput
	Neighbour *neighbourInput
	Piece     *pieceInput
	Name      string `memo:"-"`
}

// fill gathers the first upTo sources of the removal on frame n, settled or as they were
// painted.
func (r *removal) fill(upTo, n int, settled bool) fillInput {
	out := fillInput{Frame: n}
	for i := range r.sources[:upTo] {
		if in, ok := r.source(i, n, settled); ok {
			out.Sources = append(out.Sources, in)
		}
	}
	return out
}

// source gathers one source on frame n; ok is false where it lays nothing.
func (r *removal) source(i, n int, settled bool) (in sourceInput, ok bool) {
	s := r.sources[i]
	in = sourceInput{Weight: s.Weight(n), Name: fmt.Sprintf("%q of %q", s.Name, r.doc.Name), Where: r.optional(s.Where, n)}
	if in.Weight == 0 {
		return in, false
	}
	switch s.Kind {
	case treatment.Neighbour:
		in.Neighbour = r.neighbour(s, n)
		if in.Neighbour != nil && in.Where == nil {
			// Without outlines of its own it lies on what is to go, not on the rest of the frame: what
			// is painted above may copy from there.
			own := r.matte(n)
			if r.doc.Settle.Seam > 0 {
				own.Edge.Grow += seamRim // there it is compared with the plate
			}
			in.Where, in.Solid = &own, true
		}
		return in, in.Neighbour != nil
	case treatment.Piece:
		in.Piece = r.piece(i, n, settled)
		return in, in.Piece != nil
	case treatment.Travelling:
		in.Travel = r.travel(s, n)
		return in, in.Travel != nil
	default:
		in.Held = r.held(i, n, settled)
		return in, in.Held != nil
	}
}

// seamRim is how far around a matte the patch is compared with the plate, pixels.
const seamRim = 6

// A bareInput is a frame as it is painted on: the plate, its grain taken out if that is
// wanted.
type bareInput struct {
	Frame   int
	Denoise *denoiseInput
}

type denoiseInput struct {
	Strength [3]float64
	Noise    [3]float64 // standard deviation on the square root of light; 0 where it is not known
	Helpers  []helperFrame
}

// A helperFrame is brought into place by the track and helps to take grain out.
type helperFrame struct {
	Frame int
	Map   warp.Mapping
}

func (r *removal) bare(frame int) bareInput {
	g := r.grain()
	if g == nil || g.Calm == nil {
		return bareInput{Frame: frame}
	}
	return shared(r.inputs, [2]any{"bare", frame}, func() bareInput {
		d := &denoiseInput{Strength: g.Calm.Strength}
		if g.Model != nil {
			m := grainOf(g.Model)
			middle := m.Light[len(m.Light)/2]
			for c := range d.Noise {
				d.Noise[c] = m.At(c, middle) / (2 * math.Sqrt(middle))
			}
		}
		for k := frame - g.Calm.Over; k <= frame+g.Calm.Over; k++ {
			if m := r.mapping("", frame, k); k != frame && m != nil {
				d.Helpers = append(d.Helpers, helperFrame{k, m})
			}
		}
		return bareInput{frame, d}
	})
}

// A plainStroke is all of a stroke that decides what it paints.
type plainStroke struct {
	Stroke treatment.Stroke
}

func plainOf(s *treatment.Stroke) plainStroke {
	plain := *s
	plain.Off, plain.Range = false, nil
	if plain.Jitter == 0 {
		plain.ID = "" // it only decides how dabs stray
	}
	if plain.Path != nil && plain.Path.Artifact != "" {
		// Its points are what the artifact holds: its name is their hash.
		plain.Path = &treatment.Path{Artifact: plain.Path.Artifact, Shift: plain.Path.Shift}
	}
	return plainStroke{plain}
}

// A strokeInput is a stroke on a frame.
type strokeInput struct {
	Plain  *memo.Keyed[plainStroke]
	Map    warp.Mapping // from its home to the frame; nil where it was not followed to there
	Loan   *loanInput
	Stroke *treatment.Stroke `memo:"-"` // with its points in place
	Box    geom.Box          `memo:"-"`
}

// A loanInput is another frame that lends a stroke its pixels.
type loanInput struct {
	Bare bareInput
	Over warp.Mapping // from the stroke's home
}

func (r *removal) stroke(st *stroke, n int) strokeInput {
	in := strokeInput{Plain: st.plain, Stroke: st.Stroke, Box: st.box, Map: warp.Identity, Loan: r.loan(st.Stroke)}
	if n != st.Home {
		in.Map = r.mapping(st.Ride, st.Home, n)
	}
	return in
}

func (r *removal) loan(st *treatment.Stroke) *loanInput {
	if st.From == nil || st.From.Frame == nil {
		return nil
	}
	over := r.mapping(st.Ride, st.Home, *st.From.Frame)
	if over == nil {
		over = warp.Identity // brought into place by hand alone
	}
	return &loanInput{r.bare(*st.From.Frame), over}
}

// A heldInput is a clean plate carried to a frame: a layer for each track that its strokes
// ride on.
type heldInput struct {
	Layers []heldLayer
}

type heldLayer struct {
	Layer  *memo.Keyed[layerInput]
	Map    warp.Mapping // from the plate's own frame
	Settle *settleInput
	Boxes  []geom.Box `memo:"-"` // around what is painted, on the plate's own frame
	All    bool       `memo:"-"` // the whole frame is held
}

func (r *removal) held(i, n int, settled bool) *heldInput {
	s := r.sources[i]
	var rides []string
	seen := map[string]bool{}
	add := func(ride string) {
		if !seen[ride] {
			seen[ride] = true
			rides = append(rides, ride)
		}
	}
	if s.Whole || s.Picture != nil {
		add("")
	}
	strokes := s.on(n)
	for _, st := range strokes {
		add(st.Ride)
	}
	out := &heldInput{}
	for _, ride := range rides {
		m := r.mapping(ride, s.Frame, n)
		if m == nil {
			continue
		}
		l := heldLayer{Layer: r.layer(i, strokes, ride, len(rides) == 1), Map: m, All: ride == "" && (s.Whole || s.Picture != nil)}
		for _, st := range strokes {
			if st.Ride == ride {
				l.Boxes = append(l.Boxes, st.box)
			}
		}
		if settled && r.settles() {
			l.Settle = r.settled(i, ride, n, l.Layer)
		}
		out.Layers = append(out.Layers, l)
	}
	if len(out.Layers) == 0 {
		return nil
	}
	return out
}

// A layerInput is paint on a plate's own frame up to a stroke: what lies below that one, and
// the stroke. The first has a bed in place of both.
type layerInput struct {
	Bed    *bedInput
	Below  *memo.Keyed[layerInput]
	Stroke strokeInput
	Under  *memo.Keyed[fillInput] // the sources below, if the stroke reads them; nil for none
	Shared bool                   // it lies on the second layer as well, which takes only some of the strokes
}

// A bedInput is what lies on a plate before any stroke.
type bedInput struct {
	Bare    bareInput
	Whole   bool
	Picture *memo.Keyed[treatment.Picture]
	Some    bool // only some of the strokes are wanted: they lie on a second layer
	Shared  bool // the bed lies on that as well
}

// layer gathers what lies on a plate's own frame of the given strokes, those of one ride.
// alone says that they have no other. Strokes that are not there may still be copied by
// others: all are painted, and those that count a second time on a layer of their own.
func (r *removal) layer(i int, there []*stroke, ride string, alone bool) *memo.Keyed[layerInput] {
	s := r.sources[i]
	some := !alone || len(there) != len(s.strokes)
	counts := make([]byte, len(s.strokes))
	k := 0
	for j, st := range s.strokes {
		if k < len(there) && there[k] == st {
			if st.Ride == ride {
				counts[j] = 1
			}
			k++
		}
	}
	type name struct {
		source       int
		counts, ride string
		some         bool
	}
	return shared(r.inputs, name{i, string(counts), ride, some}, func() *memo.Keyed[layerInput] {
		bed := &bedInput{Bare: r.bare(s.Frame), Whole: s.Whole, Picture: r.picture(s.Picture), Some: some, Shared: ride == ""}
		var under *memo.Keyed[fillInput]
		if in := r.fill(i, s.Frame, false); len(in.Sources) > 0 {
			under = memo.Of(in)
		}
		layer := memo.Of(layerInput{Bed: bed})
		for j, st := range s.strokes {
			in := layerInput{Below: layer, Stroke: r.stroke(st, s.Frame), Shared: counts[j] == 1}
			if reads(st.Stroke) {
				in.Under = under
			}
			layer = memo.Of(in)
		}
		return layer
	})
}

// reads reports whether what a stroke makes depends on the picture that it lies on: paint
// above is not painted anew when something changes below that it never looked at.
func reads(s *treatment.Stroke) bool {
	return s.Mode != "colour" && s.Mode != "erase" || s.Channels != ""
}

// picture returns a supplied picture with its key, which takes reading all of it.
func (r *removal) picture(p *treatment.Picture) *memo.Keyed[treatment.Picture] {
	if p == nil {
		return nil
	}
	return shared(r.inputs, p, func() *memo.Keyed[treatment.Picture] { return memo.Of(*p) })
}

// A travelInput is strokes that are painted on a frame's own pixels.
type travelInput struct {
	Strokes []strokeInput
}

func (r *removal) travel(s *source, n int) *travelInput {
	out := &travelInput{}
	for _, st := range s.on(n) {
		if in := r.stroke(st, n); in.Map != nil { // else it was not followed to there
			out.Strokes = append(out.Strokes, in)
		}
	}
	if len(out.Strokes) == 0 {
		return nil
	}
	return out
}

// A neighbourInput takes a frame's own pixels from an offset.
type neighbourInput struct {
	Offset geom.Point
	Map    warp.Mapping // along the surface, from the frame on which the offset is given; nil for along the screen
	Crisp  bool         // by whole pixels
	Middle geom.Point   // of crisp ones: where the offset is rounded
	Centre bool         // that is the middle of the thing; else of what is wanted
}

func (r *removal) neighbour(s *source, n int) *neighbourInput {
	keys := make([]geom.Key, len(s.Offsets))
	for i, k := range s.Offsets {
		keys[i] = geom.Key{Frame: k.Frame, Linear: k.Ease == treatment.Linear, Values: k.Offset[:]}
	}
	v := geom.Between(keys, n)
	out := &neighbourInput{Offset: geom.Pt(v[0], v[1]), Crisp: s.Crisp}
	if !s.Screen {
		if out.Map = r.mapping("", s.Frame, n); out.Map == nil {
			return nil
		}
	}
	if s.Crisp && len(r.doc.Mark.Outlines) > 0 {
		if lie, ok := r.lie(&r.doc.Mark.Outlines[0], n); ok {
			out.Middle, out.Centre = lie.Ride.Apply(carry.Centre(&r.doc.Mark.Outlines[0])), true
		}
	}
	return out
}

// A pieceInput is a supplied picture that lies by its corners.
type pieceInput struct {
	Picture *memo.Keyed[treatment.Picture]
	Corners []treatment.Vec
	Map     warp.Mapping // from the frame on which the corners are given
	Settle  *settleInput
}

func (r *removal) piece(i, n int, settled bool) *pieceInput {
	s := r.sources[i]
	m := r.mapping("", s.Frame, n)
	if m == nil || s.Picture == nil {
		return nil
	}
	out := &pieceInput{Picture: r.picture(s.Picture), Corners: s.Corners, Map: m}
	if settled && r.settles() {
		out.Settle = r.settled(i, "", n, nil)
	}
	return out
}

// A settleInput says how what is held follows a frame's light and softness.
type settleInput struct {
	Painted paintedInput
	Map     warp.Mapping
	Light   *lightingInput // nil: it does not
	Blur    *blurInput     // nil: it does not
	Smear   smearInput
	Sharpen float64
	Radius  float64
}

// A paintedInput is the frame that a source holds with its layer on it. Of a piece, what it
// is compared with is the frame on which it was placed.
type paintedInput struct {
	Bare  bareInput
	Layer *memo.Keyed[layerInput]
	Whole bool // it may show what has to go elsewhere
}

func (r *removal) painted(i int, layer *memo.Keyed[layerInput]) paintedInput {
	return paintedInput{r.bare(r.sources[i].Frame), layer, r.sources[i].Whole}
}

func (r *removal) settled(i int, ride string, n int, layer *memo.Keyed[layerInput]) *settleInput {
	s := r.sources[i]
	out := &settleInput{Painted: r.painted(i, layer), Map: r.mapping(ride, s.Frame, n), Radius: 1}
	if l := r.lit(); l != nil {
		out.Light = r.lighting(i, ride, n, layer)
	}
	if f := r.soft(); f != nil {
		out.Blur = r.blur(i, ride, n, layer)
		out.Smear = r.smear(s, ride, n, f.Shutter)
		out.Sharpen = f.Sharpen
		if f.Radius > 0 {
			out.Radius = f.Radius
		}
	}
	return out
}

// A smearInput is the track's motion around two frames, for the time that the shutter is
// open: what is held was smeared on its own frame already.
type smearInput struct {
	Shutter float64 // degrees
	Map     warp.Mapping
	Here    [3]warp.Mapping // from the held frame to the one before, the frame, the one after
	There   [3]warp.Mapping // the same around the held frame itself
}

func (r *removal) smear(s *source, ride string, n int, shutter float64) smearInput {
	if shutter == 0 {
		return smearInput{}
	}
	around := func(m int) [3]warp.Mapping {
		return [3]warp.Mapping{r.mapping(ride, s.Frame, m-1), r.mapping(ride, s.Frame, m), r.mapping(ride, s.Frame, m+1)}
	}
	return smearInput{shutter, r.mapping(ride, s.Frame, n), around(n), around(s.Frame)}
}

// A sceneInput is what light and detail are measured on: what is held, and the plate of a
// frame around the removal's mattes there.
type sceneInput struct {
	Frame   int
	Map     warp.Mapping // from the held frame; nil where it is not known
	Hole    coverage
	Margin  int        // pixels around the mattes
	Out     *occluders // where the frame's plate does not count
	HeldOut *occluders // where what is held does not
	Painted paintedInput
}

// How far around the mattes softness is measured, in pixels, and light.
const softMargin = 44

func lightMargin(l *treatment.Light) int { return int(math.Min(math.Max(1.6*l.Scale, 20), 260)) }

// scene gathers what is measured on around frame n. Light and softness are mostly wanted one
// after the other: what they look at is got ready once, as wide as either needs.
func (r *removal) scene(i int, ride string, n int, layer *memo.Keyed[layerInput]) *memo.Keyed[sceneInput] {
	type name struct {
		source, frame int
		ride          string
		layer         *memo.Keyed[layerInput]
		soft          bool
	}
	return shared(r.inputs, name{i, n, ride, layer, r.soft() != nil}, func() *memo.Keyed[sceneInput] {
		s := r.sources[i]
		in := sceneInput{Frame: n, Map: r.mapping(ride, s.Frame, n), Hole: r.matte(n), Painted: r.painted(i, layer)}
		if r.soft() != nil {
			in.Margin = softMargin
		}
		if l := r.lit(); l != nil {
			in.Margin = max(in.Margin, lightMargin(l))
		}
		if in.Map != nil {
			in.Out, in.HeldOut = r.occluders(n, false), r.occluders(s.Frame, false)
		}
		return memo.Of(in)
	})
}

// A lightInput is what the light of one frame is measured on.
type lightInput struct {
	Scene *memo.Keyed[sceneInput]
	Scale float64
	Luma  bool
}

// A lightingInput is the light of the frames around one, and how they are averaged.
type lightingInput struct {
	Frames       []lightInput
	Shape, Level []float64
	Strength     float64
}

func (r *removal) lighting(i int, ride string, n int, layer *memo.Keyed[layerInput]) *lightingInput {
	l := r.lit()
	reach := max(l.Over, l.Level)
	out := &lightingInput{Strength: treatment.On(l.Keys, l.Strength, n)}
	for k := -reach; k <= reach; k++ {
		out.Frames = append(out.Frames, lightInput{r.scene(i, ride, n+k, layer), l.Scale, l.Luma})
		out.Shape, out.Level = append(out.Shape, bell(k, l.Over)), append(out.Level, bell(k, l.Level))
	}
	return out
}

// A softnessInput is what the softness of one frame is measured on.
type softnessInput struct {
	Scene *memo.Keyed[sceneInput]
	Smear smearInput
	Grain float64 // what is left of it in what is held: standard deviation on the square root of light's luma
}

// A blurInput is by how much what is held is blurred: by hand, and as the frames around one
// say.
type blurInput struct {
	By     float64
	Frames []softnessInput
	Weight []float64
}

func (r *removal) blur(i int, ride string, n int, layer *memo.Keyed[layerInput]) *blurInput {
	f := r.soft()
	out := &blurInput{By: treatment.On(f.Keys, f.By, n)}
	if !f.Match {
		return out
	}
	for k := -f.Over; k <= f.Over; k++ {
		out.Frames = append(out.Frames, r.softness(i, ride, n+k, layer))
		out.Weight = append(out.Weight, bell(k, f.Over))
	}
	return out
}

func (r *removal) softness(i int, ride string, n int, layer *memo.Keyed[layerInput]) softnessInput {
	return softnessInput{r.scene(i, ride, n, layer), r.smear(r.sources[i], ride, n, r.soft().Shutter), r.leftGrain()}
}

// leftGrain is how much grain is left in what is held: its standard deviation on the
// square root of light's luma.
func (r *removal) leftGrain() float64 {
	g := r.grain()
	if g == nil || g.Model == nil {
		return 0
	}
	m := grainOf(g.Model)
	middle := m.Light[len(m.Light)/2]
	left := 1.0
	if g.Calm != nil {
		left = 1 - g.Calm.Strength[1]*(1-1/math.Sqrt(1+2*float64(g.Calm.Over)))
	}
	return left * m.At(1, middle) / (2 * math.Sqrt(middle))
}

// bell is the weight of a frame k frames away in an average that reaches over so
// many.
func bell(k, over int) float64 {
	if over == 0 {
		if k == 0 {
			return 1
		}
		return 0
	}
	d := 2 * float64(k) / float64(over+1)
	return math.Exp(-d * d / 2)
}

// lit returns how the removal follows the light, or nil.
func (r *removal) lit() *treatment.Light {
	if l := r.doc.Settle.Light; l != nil && !l.Off {
		return l
	}
	return nil
}

func (r *removal) soft() *treatment.Softness {
	if s := r.doc.Settle.Softness; s != nil && !s.Off {
		return s
	}
	return nil
}

func (r *removal) grain() *treatment.Grain {
	if g := r.doc.Settle.Grain; g != nil && !g.Off {
		return g
	}
	return nil
}

// settles reports whether what is held changes with the plate.
func (r *removal) settles() bool { return r.lit() != nil || r.soft() != nil }

// A lookInput is all that a view depends on that explains a removal's settling.
type lookInput struct {
	View   View
	Bare   bareInput    // of the frame that is held
	Map    warp.Mapping // from there
	Light  *lightingInput
	Matte  coverage
	Margin int
}

// topHeld returns the last source that is held on frame n, and its layer; -1 for none.
func (r *removal) topHeld(n int) (i int, layer *memo.Keyed[layerInput]) {
	for i := len(r.sources) - 1; i >= 0; i-- {
		s := r.sources[i]
		if s.Kind != treatment.HeldPlate && s.Kind != treatment.Piece {
			continue
		}
		if _, ok := r.source(i, n, false); !ok {
			continue
		}
		if s.Kind == treatment.Piece {
			return i, nil
		}
		strokes := s.on(n)
		alone := true
		for _, st := range strokes {
			alone = alone && st.Ride == ""
		}
		return i, r.layer(i, strokes, "", alone)
	}
	return -1, nil
}

// look gathers a view that explains the removal's settling; nil for none.
func (r *removal) look(n int, view View) *lookInput {
	if view == LightView && (!r.laid(n) || r.lit() == nil) {
		return nil
	}
	i, layer := r.topHeld(n)
	if i < 0 {
		return nil
	}
	m := r.mapping("", r.sources[i].Frame, n)
	if m == nil {
		return nil
	}
	out := &lookInput{View: view, Bare: r.bare(r.sources[i].Frame), Map: m}
	if view == LightView {
		out.Light, out.Matte, out.Margin = r.lighting(i, "", n, layer), r.matte(n), int(1.6*r.lit().Scale)
	}
	return out
}
