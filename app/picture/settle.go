package picture

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"

	"jardin/app/routines"
	"jardin/core/render"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// Settled is what settling a removal by itself found.
type Settled struct {
	Settle treatment.Settle
	Words  string
}

// Settle works out how a removal's patch takes on the plate's light, softness and
// grain. What was set by hand for tone and edge stays as it is. each is told how
// much is done.
func (s *Source) Settle(
	ctx context.Context,
	doc *treatment.Document,
	removal string,
	steps *Checkpoint,
	each func(done, total int),
) (*Settled, error) {
	r, _ := doc.Find(removal)
	if err := MayBeSettled(r); err != nil {
		return nil, err
	}
	work := *doc
	work.Removals = slices.Clone(doc.Removals)
	own := &work.Removals[slices.IndexFunc(work.Removals, func(o treatment.Removal) bool { return o.ID == removal })]
	const before = 20 // parts of the work before frames are measured
	done, total := 0, before+r.Range.Len()
	next := func() { done++; each(min(done, total), total) }

	// Grain first: what is measured afterwards is compared with frames that have none.
	t, err := render.Compile(&work)
	if err != nil {
		return nil, err
	}
	model, err := taken(steps, "grain", func() (*treatment.GrainModel, error) { return s.grainModel(ctx, t, r, next) })
	if err != nil {
		return nil, err
	}
	coded, err := taken(steps, "compression", func() (compression, error) { return s.compression(ctx, t, r) })
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(r.Fill.Sources, func(f treatment.Source) bool { return !f.Off && f.Held() }) {
		// Made anew on every frame, it brings light and softness along; only its grain is missing.
		set := r.Settle
		set.Grain = grainFrom(model, r.Settle.Grain)
		for done < total {
			next()
		}
		return &Settled{Settle: set, Words: grainWords(model, coded)}, nil
	}
	matte, err := s.eval.Matte(ctx, t, removal, r.Reference)
	if err != nil {
		return nil, err
	}
	size := math.Max(float64(matte.Rect.Dx()), float64(matte.Rect.Dy()))
	set := r.Settle
	set.Grain = grainFrom(model, r.Settle.Grain)
	set.Light = &treatment.Light{Scale: math.Round(math.Min(math.Max(size/2, 16), 80)), Strength: 1, Over: 4}
	set.Softness = &treatment.Softness{Match: true, Over: 3}
	own.Settle = set

	if t, err = render.Compile(&work); err != nil {
		return nil, err
	}
	open, err := s.shutter(ctx, t, r, steps)
	if err != nil {
		return nil, err
	}
	set.Softness.Shutter = open.laid()
	for done < before {
		next()
	}
	if t, err = render.Compile(&work); err != nil {
		return nil, err
	}
	span, err := s.measured(ctx, t, r, steps, next)
	if err != nil {
		return nil, err
	}
	set.Passed = span.passing()
	return &Settled{Settle: set, Words: settledWords(span, open, model, coded)}, nil
}

// MayBeSettled says what is missing before a removal can be settled; nil for nothing.
func MayBeSettled(r *treatment.Removal) error {
	switch {
	case r == nil:
		return errors.New("the removal was deleted before it could be settled")
	case !r.Mark.Something():
		return errors.New("draw an outline around the thing first: what lies around it says how the light is")
	case !slices.ContainsFunc(r.Fill.Sources, func(f treatment.Source) bool {
		return !f.Off && (f.Held() || f.Grainless())
	}):
		return errors.New(
			"nothing is held still here: a live neighbour and travelling paint bring the frame's own light, softness " +
				"and grain",
		)
	case r.Follow.Track == "":
		return errors.New("follow the surface first: the patch is compared with the plate where the track lays it")
	}
	return nil
}

// grainFrames is on how many frames grain is measured, spread over the removal's.
const grainFrames = 8

// grainModel measures grain on some frames of a removal; nil where there is too little to
// measure it on.
func (s *Source) grainModel(
	ctx context.Context,
	t *render.Treatment,
	r *treatment.Removal,
	next func(),
) (*treatment.GrainModel, error) {
	// Several at once: much of the work on one frame waits for itself.
	found := make([]*settle.GrainSample, grainFrames)
	group, ctx := routines.NewGroup(ctx, s.Plates.AtOnce())
	var telling sync.Mutex
	for k := range found {
		group.Go(func() (err error) {
			found[k], err = s.eval.GrainSample(ctx, t, r.ID, r.Range.First+(r.Range.Len()-1)*k/(grainFrames-1))
			telling.Lock()
			defer telling.Unlock()
			next()
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var samples []settle.GrainSample
	for _, f := range found {
		if f != nil {
			samples = append(samples, *f)
		}
	}
	grain, known := settle.MeasureGrain(samples)
	if !known {
		return nil, nil
	}
	return render.GrainModel(grain), nil
}

// grainFrom returns how grain is handled with a model of it, in the amount that was set before;
// nil without a model.
func grainFrom(model *treatment.GrainModel, before *treatment.Grain) *treatment.Grain {
	if model == nil {
		return nil
	}
	out := &treatment.Grain{
		Kind: treatment.MadeGrain, Model: model, Denoise: &treatment.Denoise{Strength: [3]float64{1, 1, 1}, Over: 4},
	}
	if before != nil {
		out.Amount = before.Amount
	}
	return out
}

// extremes are the frames of a removal with the least and the most light and the most blur;
// their Frame is 0 where none could be measured. unsure are those whose light is taken from before and after, disturbed
// those on which something else shows beside the patch.
type extremes struct {
	low, high, soft   render.Measure
	frames            int
	unsure, disturbed []int
	passed            []int // both: something goes by
}

// layered reports whether what else shows does so nearly all the time: another layer beside, and nothing that goes by.
func (e *extremes) layered() bool { return 4*len(e.disturbed) > 3*e.frames }

// passing are the frames on which something goes by.
func (e *extremes) passing() []treatment.Range {
	if e.layered() {
		return nil
	}
	return treatment.Runs(e.passed)
}

// level is how bright the light of a measure is, by the weights of Rec. 709.
func level(m render.Measure) float64 {
	return 0.2126*m.Light[0] + 0.7152*m.Light[1] + 0.0722*m.Light[2]
}

// measured measures every frame of a removal.
func (s *Source) measured(
	ctx context.Context,
	t *render.Treatment,
	r *treatment.Removal,
	steps *Checkpoint,
	next func(),
) (out extremes, err error) {
	for n := r.Range.First; n <= r.Range.Last; n++ {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		m, err := taken(steps, fmt.Sprint("frame ", n), func() (*render.Measure, error) {
			found, ok, err := s.eval.Measure(ctx, t, r.ID, n)
			if !ok {
				return nil, err
			}
			return &found, err
		})
		if err != nil {
			return out, err
		}
		next()
		if m == nil {
			continue
		}
		out.frames++
		if m.Unsure {
			out.unsure = append(out.unsure, n)
			if m.Disturbed() {
				out.passed = append(out.passed, n)
			}
		}
		if m.Disturbed() {
			out.disturbed = append(out.disturbed, n)
		}
		if out.low.Frame == 0 || level(*m) < level(out.low) {
			out.low = *m
		}
		if out.high.Frame == 0 || level(*m) > level(out.high) {
			out.high = *m
		}
		if m.Blur > out.soft.Blur {
			out.soft = *m
		}
	}
	return out, nil
}

// settledWords says what was found, in one sentence.
func settledWords(span extremes, open shutter, model *treatment.GrainModel, coded compression) string {
	var said []string
	say := func(words string) {
		if words != "" {
			said = append(said, words)
		}
	}
	if model == nil {
		say(noGrain)
	}
	if span.low.Frame == 0 {
		say("the light could not be compared: nothing of the surface shows around the outlines")
	} else {
		least, most := level(span.low), level(span.high)
		low, high := 1-least >= lightTold, most-1 >= lightTold
		if low {
			say(fmt.Sprintf("least light on %d, %.0f %% less than on the frame that is held", span.low.Frame, 100*(1-least)))
		}
		switch {
		case low && high:
			say(fmt.Sprintf("most on %d, %.0f %% more", span.high.Frame, 100*(most-1)))
		case high:
			say(fmt.Sprintf("most light on %d, %.0f %% more than on the frame that is held", span.high.Frame, 100*(most-1)))
		case !low:
			say("light stays within half a percent")
		}
	}
	for _, words := range disturbances(span) {
		say(words)
	}
	if span.soft.Blur >= 0.3 {
		say(fmt.Sprintf("softest on %d, by %.1f px", span.soft.Frame, span.soft.Blur))
	} else if span.low.Frame != 0 {
		say("as sharp as the frame that is held")
	}
	say(open.words())
	if model != nil {
		say(model.Words)
	}
	say(coded.words())
	return sentence(strings.Join(said, "; "))
}

// disturbances says on which frames something beside the patch was not believed.
func disturbances(span extremes) (said []string) {
	switch {
	case len(span.disturbed) == 0:
	case span.layered():
		said = append(said, "a part of what lies around the patch is another layer, and is left out")
	default:
		said = append(said, fmt.Sprintf("on %s something else shows beside the patch, and is left out", treatment.Spans(span.disturbed)))
	}
	if len(span.unsure) > 0 {
		said = append(said, fmt.Sprintf("on %s light is taken from before and after", treatment.Spans(span.unsure)))
	}
	return said
}

const noGrain = "there is too little free surface around the outlines to measure grain"

// grainWords says what was found where nothing but grain is missing.
func grainWords(model *treatment.GrainModel, coded compression) string {
	said := noGrain
	if model != nil {
		said = model.Words
	}
	if words := coded.words(); words != "" {
		said += "; " + words
	}
	return sentence(said)
}

// A compression is what the making of the plate's files did to it.
type compression struct {
	Blocks float64 // how much they show, the median of some frames
	Again  []int   // frames that are shown once more after themselves
}

// compression looks for it on the frames that grain is measured on.
func (s *Source) compression(ctx context.Context, t *render.Treatment, r *treatment.Removal) (out compression, err error) {
	var all []float64
	for k := range grainFrames {
		n := r.Range.First + (r.Range.Len()-1)*k/(grainFrames-1)
		blocks, again, err := s.eval.Compression(ctx, t, r.ID, n)
		if err != nil {
			return out, err
		}
		all = append(all, blocks)
		if again && !slices.Contains(out.Again, n) {
			out.Again = append(out.Again, n)
		}
	}
	slices.Sort(all)
	out.Blocks = all[len(all)/2]
	return out, nil
}

func (c compression) words() string {
	var said []string
	if c.Blocks > settle.BlocksShow {
		said = append(said, "the plate was compressed, its blocks of 8 px show: what is called grain is what that has left")
	}
	if len(c.Again) > 0 {
		said = append(said, fmt.Sprintf("some frames are shown twice, as %s", treatment.Spans(c.Again)))
	}
	return strings.Join(said, "; ")
}

func sentence(words string) string { return strings.ToUpper(words[:1]) + words[1:] + "." }

// lightTold is by how much light has to differ to be told.
const lightTold = 0.005

// A shutter is the angle in degrees that the shutter was open for. It is known where the surface moves far enough on some
// frames, and little enough on others, for its smear to be seen.
type shutter struct {
	Angle, Deviation float64
	Known            bool
}

// surelyKnown is the largest standard deviation, in degrees, of a shutter that is laid.
const surelyKnown = 10

// shutter finds the shutter's angle, from the frames on which the surface moves most.
func (s *Source) shutter(ctx context.Context, t *render.Treatment, r *treatment.Removal, steps *Checkpoint) (out shutter, err error) {
	var trials []settle.ShutterTrial
	pairs, err := s.eval.ShutterPairs(ctx, t, r.ID, r.Range.First, r.Range.Last, 8)
	if err != nil {
		return out, err
	}
	for _, pair := range pairs {
		trial, err := taken(steps, fmt.Sprintf("frames %d and %d by shutter", pair[0], pair[1]), func() (out settle.ShutterTrial, err error) {
			for _, angle := range render.Shutters() {
				found, err := s.eval.ShutterFit(ctx, t, r.ID, pair[0], pair[1], angle)
				if err != nil {
					return out, err
				}
				out.Left, out.Pixels = append(out.Left, found.Left), found.Pixels
			}
			return out, nil
		})
		if err != nil {
			return out, err
		}
		if trial.Pixels > 0 {
			trials = append(trials, trial)
		}
	}
	angle, deviation, ok := settle.FitShutter(render.Shutters(), trials)
	return shutter{math.Round(angle), deviation, ok && deviation <= surelyKnown}, nil
}

// leastShutter is the angle that is laid at least: a shorter smear does not show.
const leastShutter = 20

// laid is the angle that a patch is smeared for.
func (s shutter) laid() float64 {
	if !s.Known || s.Angle < leastShutter {
		return 0
	}
	return s.Angle
}

// words says what was found; nothing where nothing moves.
func (s shutter) words() string {
	switch {
	case s.laid() > 0:
		return fmt.Sprintf("shutter %.0f°, to %.0f° or so", s.Angle, 2*s.Deviation)
	case s.Deviation > 0 && !s.Known:
		return "the shutter is not known, and left alone"
	}
	return ""
}
