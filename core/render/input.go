package render

import (
	"image"
	"math"
	"slices"

	"jardin/core/carry"
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
	Frame      int
	View       View
	Under      []removalInput // in the view of a patch whose paint sees the removals below it: those, as in the result
	Removals   []removalInput
	Diagnostic *diagnosticInput // of the views that explain settling
	Seen       *seenInput       // of the view that explains what is gathered
	Alpha      *alphaInput      // of the views of what is marked and gathered
}

// A removalInput is all that a removal's patch on a frame depends on.
type removalInput struct {
	Frame   int
	Fill    fillInput
	Matte   marking
	Within  *coverage
	Seam    float64
	Around  *occluders // what does not count at the seam
	Tones   []toneInput
	Fronts  []frontInput
	Blend   string
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
	Shapes []carry.PosedShape
	Edge   carry.Edge
}

func (c coverage) cover(within image.Rectangle) *raster.Plane {
	return carry.Cover(c.Shapes, c.Edge, within)
}

// covered gathers shapes of the removal on frame n.
func (r *removal) covered(shapes []treatment.Shape, edge carry.Edge, n int) coverage {
	out := coverage{Edge: edge}
	for i := range shapes {
		if pose, ok := r.pose(&shapes[i], n); ok {
			out.Shapes = append(out.Shapes, carry.PoseShape(&shapes[i], pose))
		}
	}
	return out
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
	if view == SeenView {
		if r := t.removal(only); r != nil {
			out.Seen = r.seen(n)
		}
		if out.Seen == nil {
			return nil
		}
		return out
	}
	if view == MarkedView || view == GatheredView || view == FoundView {
		if out.Alpha = t.alphaOn(n, view, only); out.Alpha == nil {
			return nil
		}
		return out
	}
	if view == LightView || view == GrainView {
		if r := t.removal(only); r != nil {
			out.Diagnostic = r.diagnostic(n, view)
		}
		if out.Diagnostic == nil {
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
		if view != PatchView && !r.visible(n) {
			continue
		}
		if in := r.input(n, view); len(in.Fill.Sources) > 0 {
			out.Removals = append(out.Removals, in)
		}
		if view == PatchView && (len(r.sources) == 0 || slices.ContainsFunc(r.sources, func(s *source) bool { return s.Below })) {
			out.Under = t.under(r.at, n) // what is painted next will see them too
		}
	}
	if len(out.Removals)+len(out.Under) == 0 {
		return nil
	}
	return out
}

// under gathers the removals below one as they are in the result on frame n.
func (t *Treatment) under(at, n int) (out []removalInput) {
	for _, r := range t.removals {
		if r.at >= at || !r.visible(n) {
			continue
		}
		if in := r.input(n, ResultView); len(in.Fill.Sources) > 0 {
			out = append(out, in)
		}
	}
	return out
}

// visible reports whether the removal's patch is visible on frame n.
func (r *removal) visible(n int) bool {
	return !r.doc.Off && r.doc.Range.Has(n) && r.doc.Mark.Something()
}

// input gathers the removal on frame n.
func (r *removal) input(n int, view View) removalInput {
	out := removalInput{Frame: n, Fill: r.fill(len(r.sources), n, view != PatchView)}
	if view == PatchView || len(out.Fill.Sources) == 0 {
		return out
	}
	st := &r.doc.Settle
	out.Matte, out.Opacity, out.Blend, out.Seam = r.matte(n), st.Shown(n), st.Lay, st.Seam
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
				settle.CDL{
					Slope:      g.Slopes(),
					Offset:     g.Offset,
					Power:      g.Power,
					Saturation: g.Saturation,
				}, r.optional(t.Where, n)})
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
	Noise    [3]float64       // standard deviation on the square root of light; 0 where it is not known
	Helpers  []neighbourFrame // brought into place by the track, they help to take grain out
}

func (r *removal) bare(frame int) bareInput {
	g := r.grain()
	if g == nil || g.Denoise == nil {
		return bareInput{Frame: frame}
	}
	return shared(r.inputs, [2]any{"bare", frame}, func() bareInput {
		d := &denoiseInput{Strength: g.Denoise.Strength}
		if g.Model != nil {
			m := grainOf(g.Model)
			middle := m.Light[len(m.Light)/2]
			for c := range d.Noise {
				d.Noise[c] = m.At(c, middle) / (2 * math.Sqrt(middle))
			}
		}
		d.Helpers = r.around(frame, g.Denoise.Over, 1, "", nowhere)
		return bareInput{frame, d}
	})
}

// picture returns a supplied picture with its key, which takes reading all of it.
func (r *removal) picture(p *treatment.Picture) *memo.Keyed[treatment.Picture] {
	if p == nil {
		return nil
	}
	return shared(r.inputs, p, func() *memo.Keyed[treatment.Picture] { return memo.Of(*p) })
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
	return paintedInput{r.bare(r.sources[i].frame), layer, r.sources[i].whole()}
}

func (r *removal) settled(i int, ride string, n int, layer *memo.Keyed[layerInput]) *settleInput {
	s := r.sources[i]
	out := &settleInput{Painted: r.painted(i, layer), Map: r.mapping(ride, s.frame, n), Radius: 1}
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
		return [3]warp.Mapping{
			r.mapping(ride, s.frame, m-1),
			r.mapping(ride, s.frame, m),
			r.mapping(ride, s.frame, m+1),
		}
	}
	return smearInput{shutter, r.mapping(ride, s.frame, n), around(n), around(s.frame)}
}

// A sceneInput is what light and detail are measured on: what is held, and the plate of a
// frame around the removal's mattes there.
type sceneInput struct {
	Frame   int
	Map     warp.Mapping // from the held frame; nil where it is not known
	Hole    marking
	Margin  int        // pixels around the mattes
	Out     *occluders // where the frame's plate does not count
	HeldOut *occluders // where what is held does not
	Painted paintedInput
	Smear   smearInput // as with half of the frame's time open, for telling what is strange
	Grain   float64    // of the plate, as leftGrain is of what is held
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
		in := sceneInput{Frame: n, Map: r.mapping(ride, s.frame, n), Hole: r.matte(n).stepped(), Painted: r.painted(i, layer)}
		if r.soft() != nil {
			in.Margin = softMargin
		}
		if l := r.lit(); l != nil {
			in.Margin = max(in.Margin, lightMargin(l))
		}
		if in.Map != nil {
			in.Out, in.HeldOut = r.unmeasured(n), r.unmeasured(s.frame)
			in.Smear, in.Grain = r.smear(s, ride, n, usualShutter), r.plateGrain()
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

// usualShutter is the shutter's angle, in degrees, that is usual (common practice).
const usualShutter = 180

// plateGrain is the standard deviation of the plate's grain on the square root of light's luma; where it was not measured,
// what is usual.
func (r *removal) plateGrain() float64 {
	g := r.grain()
	if g == nil || g.Model == nil {
		return 0.006
	}
	m := grainOf(g.Model)
	middle := m.Light[len(m.Light)/2]
	return m.At(1, middle) / (2 * math.Sqrt(middle))
}

// leftGrain is how much grain is left in what is held: its standard deviation on the
// square root of light's luma.
func (r *removal) leftGrain() float64 {
	g := r.grain()
	if g == nil || g.Model == nil {
		return 0
	}
	left := 1.0
	if g.Denoise != nil {
		left = 1 - g.Denoise.Strength[1]*(1-settle.GrainLeft(2*g.Denoise.Over))
	}
	return left * r.plateGrain()
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

// A diagnosticInput is all that a view depends on that explains a removal's settling.
type diagnosticInput struct {
	View   View
	Bare   bareInput    // of the frame that is held
	Map    warp.Mapping // from there
	Light  *lightingInput
	Matte  marking
	Margin int
}

// diagnostic gathers a view that explains the removal's settling; nil for none.
func (r *removal) diagnostic(n int, view View) *diagnosticInput {
	if view == LightView && (!r.visible(n) || r.lit() == nil) {
		return nil
	}
	i, layer := r.topHeld(n)
	if i < 0 {
		return nil
	}
	m := r.mapping("", r.sources[i].frame, n)
	if m == nil {
		return nil
	}
	out := &diagnosticInput{View: view, Bare: r.bare(r.sources[i].frame), Map: m}
	if view == LightView {
		out.Light, out.Matte, out.Margin = r.lighting(i, "", n, layer), r.matte(n), int(1.6*r.lit().Scale)
	}
	return out
}
