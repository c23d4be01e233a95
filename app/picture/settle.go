package picture

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"

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
	if r == nil {
		return nil, errors.New("the removal was deleted before it could be settled")
	}
	if len(r.Mark.Outlines) == 0 {
		return nil, errors.New("draw an outline around the thing first: what lies around it says how the light is")
	}
	held := false
	for _, f := range r.Fill.Sources {
		held = held || !f.Off && f.Held()
	}
	if !held {
		return nil, errors.New(
			"nothing is held still here: a live neighbour and travelling paint bring the frame's own light, softness and grain",
		)
	}
	if r.Follow.Track == "" {
		return nil, errors.New("follow the surface first: the patch is compared with the plate where the track lays it")
	}
	work := *doc
	work.Removals = append([]treatment.Removal{}, doc.Removals...)
	var own *treatment.Removal
	for i := range work.Removals {
		if work.Removals[i].ID == removal {
			own = &work.Removals[i]
		}
	}
	total := r.Range.Len() + 20
	done := 0
	next := func() { done++; each(min(done, total), total) }

	// Grain first: what is measured afterwards is compared with frames that have none.
	t, err := render.Compile(&work)
	if err != nil {
		return nil, err
	}
	model, err := taken(steps, "grain", func() (*treatment.GrainModel, error) {
		var samples []settle.GrainSample
		for k := range 8 {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			found, err := s.eval.GrainSample(ctx, t, removal, r.Range.First+(r.Range.Len()-1)*k/7)
			if err != nil {
				return nil, err
			}
			if found != nil {
				samples = append(samples, *found)
			}
			next()
		}
		grain, known := settle.MeasureGrain(samples)
		if !known {
			return nil, nil
		}
		return render.GrainModel(grain), nil
	})
	if err != nil {
		return nil, err
	}
	var words []string
	set := r.Settle
	set.Grain = &treatment.Grain{Denoise: &treatment.Denoise{Strength: [3]float64{1, 1, 1}, Over: 4}}
	if r.Settle.Grain != nil {
		set.Grain.Amount = r.Settle.Grain.Amount
	}
	if model != nil {
		set.Grain.Kind, set.Grain.Model = treatment.MadeGrain, model
	} else {
		set.Grain = nil
		words = append(words, "there is too little free surface around the outlines to measure grain")
	}

	// The shutter: that with which the patch agrees best where the surface moves most.
	matte := s.eval.Matte(t, removal, r.Reference)
	size := math.Max(float64(matte.Rect.Dx()), float64(matte.Rect.Dy()))
	set.Light = &treatment.Light{Scale: math.Round(math.Min(math.Max(size/2, 16), 80)), Strength: 1, Over: 4}
	set.Softness = &treatment.Softness{Match: true, Over: 3}
	own.Settle = set
	if t, err = render.Compile(&work); err != nil {
		return nil, err
	}
	if set.Softness.Shutter, err = s.shutter(ctx, t, r, steps); err != nil {
		return nil, err
	}
	for done < 20 {
		next()
	}
	if t, err = render.Compile(&work); err != nil {
		return nil, err
	}
	low, high, soft := render.Measure{}, render.Measure{}, render.Measure{}
	level := func(m render.Measure) float64 { return 0.2126*m.Light[0] + 0.7152*m.Light[1] + 0.0722*m.Light[2] }
	for n := r.Range.First; n <= r.Range.Last; n++ {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		m, err := taken(steps, fmt.Sprint("frame ", n), func() (*render.Measure, error) {
			found, ok, err := s.eval.Measure(ctx, t, removal, n)
			if !ok {
				return nil, err
			}
			return &found, err
		})
		if err != nil {
			return nil, err
		}
		next()
		if m == nil {
			continue
		}
		if low.Frame == 0 || level(*m) < level(low) {
			low = *m
		}
		if high.Frame == 0 || level(*m) > level(high) {
			high = *m
		}
		if m.Blur > soft.Blur {
			soft = *m
		}
	}
	if low.Frame == 0 {
		words = append(words, "the light could not be compared: nothing of the surface shows around the outlines")
	} else {
		words = append(words, lightWords("falls", 1-level(low), low.Frame), lightWords("rises", level(high)-1, high.Frame))
		if level(low) > 0.995 && level(high) < 1.005 {
			words = append(words, "light stays within half a percent")
		}
	}
	if soft.Blur >= 0.3 {
		words = append(words, fmt.Sprintf("softest on %d, by %.1f px", soft.Frame, soft.Blur))
	} else if low.Frame != 0 {
		words = append(words, "as sharp as the frame that is held")
	}
	if set.Softness.Shutter > 0 {
		words = append(words, fmt.Sprintf("shutter %.0f°", set.Softness.Shutter))
	}
	if model != nil {
		words = append(words, model.Words)
	}
	var said []string
	for _, w := range words {
		if w != "" {
			said = append(said, w)
		}
	}
	line := strings.Join(said, "; ")
	return &Settled{Settle: set, Words: strings.ToUpper(line[:1]) + line[1:] + "."}, nil
}

func lightWords(how string, by float64, n int) string {
	if by < 0.005 {
		return ""
	}
	return fmt.Sprintf("light %s by %.0f %% to %d", how, 100*by, n)
}

// shutter finds the shutter's angle in degrees, 0 where the surface hardly moves.
func (s *Source) shutter(
	ctx context.Context,
	t *render.Treatment,
	r *treatment.Removal,
	steps *Checkpoint,
) (float64, error) {
	type moving struct {
		frame  int
		length float64
	}
	var most []moving
	for k := range 12 {
		n := r.Range.First + (r.Range.Len()-1)*(2*k+1)/24
		_, length, ok, err := s.eval.ShutterFit(ctx, t, r.ID, n, 0)
		if err != nil {
			return 0, err
		}
		if ok && length > 2.5 { // shorter ones do not show
			most = append(most, moving{n, length})
		}
	}
	if len(most) < 2 {
		return 0, nil
	}
	best, least := 0.0, math.Inf(1)
	for angle := 0.0; angle <= 360; angle += 45 {
		var sum float64
		for _, m := range most {
			left, err := taken(steps, fmt.Sprintf("frame %d at %g°", m.frame, angle), func() (float64, error) {
				left, _, _, err := s.eval.ShutterFit(ctx, t, r.ID, m.frame, angle)
				return left, err
			})
			if err != nil {
				return 0, err
			}
			sum += left
		}
		if sum < least*0.998 {
			best, least = angle, sum
		}
	}
	return best, nil
}
