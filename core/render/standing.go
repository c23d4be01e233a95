package render

import (
	"context"
	"fmt"
	"slices"

	"jardin/core/carry"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// How far a stage of a removal is.
const (
	Empty = "empty" // nothing yet
	Begun = "begun" // it does not yet cover the removal's frames
	Done  = "done"  // it covers them, and holds
	Look  = "look"  // it covers them, but somebody should look
)

// A StageStanding is how far a stage is, and why in a sentence.
type StageStanding struct {
	State string `json:"state" enum:"empty,begun,done,look"`
	Why   string `json:"why"`
}

// A Standing is how far a removal is, stage by stage, and which of its frames no patch reaches.
type Standing struct {
	Removal string        `json:"removal"`
	Mark    StageStanding `json:"mark"`
	Follow  StageStanding `json:"follow"`
	Fill    StageStanding `json:"fill"`
	Settle  StageStanding `json:"settle"`
	Guard   StageStanding `json:"guard"`
	Bare    []Bare        `json:"bare" nullable:"false" doc:"Frames of its range on which nothing is laid, though it should be, by what is missing"`
}

// Bare are frames that no patch reaches, and the stage that has to be mended.
type Bare struct {
	Frames []treatment.Range `json:"frames" nullable:"false"`
	Stage  string            `json:"stage" enum:"mark,follow,fill"`
	Why    string            `json:"why"`
}

// Standings returns how far each removal is, in order. stale are tracks that were measured before what they depend on changed. The error
// is the context's.
func (t *Treatment) Standings(ctx context.Context, stale []string) ([]Standing, error) {
	out := make([]Standing, len(t.removals))
	parts := make([]func(), len(out))
	for i, r := range t.removals {
		parts[i] = func() { out[i] = r.standing(ctx, stale) }
	}
	raster.Parallel(parts...)
	return out, ctx.Err()
}

func (r *removal) standing(ctx context.Context, stale []string) Standing {
	d := &r.doc
	out := Standing{Removal: d.ID, Bare: []Bare{}}
	var off, waits, untold, outside, unlaid, doubted, hidden []int // frames
	track := r.motions.Motion(d.Follow.Track)
	grade := map[int]carry.Grade{}
	if track != nil {
		for i := range track.Samples {
			grade[track.Samples[i].Frame] = track.Samples[i].Grade
		}
	}
	for n := d.Range.First; n <= d.Range.Last && ctx.Err() == nil; n++ {
		if d.Settle.Shown(n) == 0 {
			hidden = append(hidden, n)
			continue
		}
		g, known := grade[n]
		switch {
		case track == nil:
		case !known:
			untold = append(untold, n)
		case g != carry.Good:
			doubted = append(doubted, n)
		}
		if !d.Mark.Something() {
			continue
		}
		m := r.matte(n)
		marked := len(m.Outlines.Shapes) > 0 || len(m.Supplied) > 0
		switch laid := len(r.fill(len(r.sources), n, false).Sources) > 0; {
		case marked && laid:
		case d.Follow.Track != treatment.Still && track == nil:
			off = append(off, n)
		case track != nil && !known:
			waits = append(waits, n)
		case !marked:
			outside = append(outside, n)
		default:
			unlaid = append(unlaid, n)
		}
	}
	bare := func(frames []int, stage, why string) {
		if len(frames) > 0 {
			out.Bare = append(out.Bare, Bare{treatment.Runs(frames), stage, why})
		}
	}
	if !d.Off {
		bare(off, "follow", "nothing says how the surface moves there")
		bare(waits, "follow", "the track is not known there")
		bare(outside, "mark", "no outline or matte is there")
		bare(unlaid, "fill", "no source lays anything there")
	}
	out.Mark = r.markedOn(outside)
	out.Follow = r.followed(track != nil, stale, untold, doubted)
	out.Fill = r.filled(unlaid, len(off)+len(waits))
	out.Settle = r.settledAs(hidden)
	out.Guard = r.guarded()
	return out
}

func (r *removal) markedOn(outside []int) StageStanding {
	switch {
	case !r.doc.Mark.Something():
		return StageStanding{Empty, "nothing is outlined yet"}
	case len(outside) > 0:
		return StageStanding{Begun, "no outline or matte on " + treatment.Spans(outside)}
	}
	return StageStanding{Done, "outlined on all of its frames"}
}

func (r *removal) followed(known bool, stale []string, untold, doubted []int) StageStanding {
	frames := r.doc.Range.Last - r.doc.Range.First + 1
	switch id := r.doc.Follow.Track; {
	case id == treatment.Still:
		return StageStanding{Done, "the camera stands still"}
	case !known:
		return StageStanding{Empty, "nothing says yet how the surface moves"}
	case len(untold) == frames:
		return StageStanding{Begun, "not followed yet"}
	case len(untold) > 0:
		return StageStanding{Begun, fmt.Sprintf("followed on %d of %d frames, not on %s", frames-len(untold), frames, treatment.Spans(untold))}
	default:
		for _, s := range stale {
			if s == id {
				return StageStanding{Look, "it was followed before its region, or what is left out, was changed: follow it anew"}
			}
		}
	}
	if len(doubted) > 0 {
		return StageStanding{Look, "look at " + treatment.Spans(doubted) + ": the track is doubtful there"}
	}
	return StageStanding{Done, "followed well on all of its frames"}
}

func (r *removal) filled(unlaid []int, waiting int) StageStanding {
	frames := r.doc.Range.Last - r.doc.Range.First + 1
	some := false
	for _, s := range r.sources {
		some = some || !s.Off
	}
	switch {
	case len(r.sources) == 0:
		return StageStanding{Empty, "no clean pixels yet"}
	case !some:
		return StageStanding{Begun, "all of its sources are off"}
	case len(unlaid) == frames:
		return StageStanding{Begun, "nothing is painted or gathered yet"}
	case len(unlaid) > 0:
		return StageStanding{Begun, "nothing is laid on " + treatment.Spans(unlaid)}
	}
	if r.doc.Fill.Copied != "" {
		return StageStanding{Look, fmt.Sprintf("copied from %s: nobody has looked at what it lays here", r.doc.Fill.Copied)}
	}
	if waiting > 0 {
		return StageStanding{Begun, fmt.Sprintf("laid on %d of %d frames: the others wait for Follow", frames-waiting, frames)}
	}
	return StageStanding{Done, "laid on all of its frames"}
}

func (r *removal) settledSome() bool {
	s := &r.doc.Settle
	return s.Feather != 0 || s.FeatherIn != 0 || s.Grow != 0 || len(s.Dissolve) > 0 || s.Seam != 0 || s.Lay != "" || s.Opacity < 1 ||
		s.Light != nil && !s.Light.Off || s.Softness != nil && !s.Softness.Off || s.Grain != nil && !s.Grain.Off || len(s.Tones) > 0
}

func (r *removal) settledAs(hidden []int) StageStanding {
	switch {
	case r.doc.Settle.Opacity == 0:
		return StageStanding{Look, "its opacity is 0: nothing of the patch shows"}
	case !r.settledSome():
		return StageStanding{Empty, "laid as it is: no light, softness or grain follows the plate"}
	case len(r.doc.Settle.Passed) > 0 && !r.fronted():
		return StageStanding{Look, fmt.Sprintf("something passes beside the patch on %s, and nothing is held in front of it",
			treatment.SpansOf(r.doc.Settle.Passed))}
	case len(hidden) > 0:
		return StageStanding{Done, "it is dissolved away on " + treatment.Spans(hidden)}
	}
	return StageStanding{Done, "settled"}
}

// fronted reports whether anything is held in front of the patch.
func (r *removal) fronted() bool {
	return r.doc.Guard != nil && slices.ContainsFunc(r.doc.Guard.Fronts, func(f treatment.Front) bool { return !f.Off })
}

func (r *removal) guarded() StageStanding {
	g := r.doc.Guard
	if g == nil {
		return StageStanding{Empty, "nothing stays in front"}
	}
	fronts := 0
	for i := range g.Fronts {
		f := &g.Fronts[i]
		if f.Off {
			continue
		}
		fronts++
		if len(f.Shapes) == 0 && len(f.Mattes) == 0 && f.By != treatment.ByColour && f.By != treatment.ByBrightness {
			return StageStanding{Begun, fmt.Sprintf("the front %q has no outline or matte yet", f.Name)}
		}
	}
	if fronts == 0 && len(g.Within) == 0 {
		return StageStanding{Empty, "nothing stays in front"}
	}
	return StageStanding{Done, "what stays in front is held there"}
}
