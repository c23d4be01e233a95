package render

import (
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// A plainStroke is all of a stroke that decides what it paints.
type plainStroke struct {
	Stroke treatment.Stroke
}

func plainOf(s *treatment.Stroke) plainStroke {
	plain := *s
	plain.Name, plain.Off, plain.Range = "", false, nil
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

// wide is around what a stroke covers and reads beyond, at its home.
func (in *strokeInput) wide() geom.Box { return in.Box.Grow(2 + readsBeyond(in.Stroke)) }

// reads returns what of the frame that it is painted on a stroke covers and reads; nil where it was not followed to there.
func (in *strokeInput) reads() []geom.Box {
	if in.Map == nil {
		return nil
	}
	out := []geom.Box{in.Map.Bounds(in.wide()).Grow(2)}
	if in.Stroke.From != nil && in.Loan == nil {
		out = append(out, in.Map.Bounds(originOf(in.Stroke, in.wide())).Grow(2))
	}
	return out
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
