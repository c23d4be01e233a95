package picture

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"jardin/core/geom"
	"jardin/core/render"
	"jardin/core/treatment"
)

// Seen says how much of what is marked on a frame a source through time finds on some frame.
func (s *Source) Seen(
	ctx context.Context,
	t *render.Treatment,
	removal, source string,
	n int,
) (share render.Share, words string, err error) {
	found, err := s.eval.Seen(ctx, t, removal, source, n, false)
	if err != nil {
		return share, "", err
	}
	if found == nil {
		return share, "The surface is not known on this frame, or not on the one that this is made on: follow it there first.", nil
	}
	if found.All > 0 && found.Around > 0 && found.Seen == 0 && goesAlong(t.Removal(removal), source) {
		return *found, "None of it is seen: its outline goes with the surface, and so hides the same place of it on every frame. " +
			"Let it ride on what is to go, or key it.", nil
	}
	return *found, seenWords(*found), nil
}

// goesAlong reports whether a removal's outlines ride on the surface that a source gathers, and do nothing else.
func goesAlong(r *treatment.Removal, source string) bool {
	for _, s := range r.Fill.Sources {
		if s.ID != source || s.Gathered == nil {
			continue
		}
		own := r.Follow.Track
		on := cmp.Or(s.Gathered.Track, own)
		return len(r.Mark.Mattes) == 0 && !slices.ContainsFunc(r.Mark.Outlines, func(o treatment.Shape) bool {
			return cmp.Or(o.Ride, own) != on || len(o.Keys)+len(o.Placement) > 0
		})
	}
	return false
}

func seenWords(s render.Share) string {
	part := 100 * float64(s.Seen) / float64(max(s.All, 1))
	var out string
	switch {
	case s.All == 0:
		return "Nothing is marked on this frame."
	case s.Around == 0:
		return "No other frame can be brought to this one: follow the surface first, or say that the camera stands still."
	case s.Seen == 0:
		return "None of it is seen on the frames looked at. Look at more of them, or put another source below this one."
	case s.Seen == s.All:
		out = "All of it is seen on some frame; " + needed(s.Needed) + "."
	default:
		out = fmt.Sprintf(
			"%.1f %% of it is seen on some frame; %.1f %% never, %s; %s. "+
				"Where it is never seen, what lies below this source in the list shows.",
			min(part, 99.9), max(100-part, 0.1), sideOf(s.Missing), needed(s.Needed),
		)
	}
	if odd := 100 * float64(s.Unlike) / float64(s.All); odd >= 1 {
		out += fmt.Sprintf(
			" On %.0f %% frames do not agree, %s: something moves there, or lies at another depth. Leave it out of the track, "+
				"or give it a removal of its own with a track of its own.",
			odd, sideOf(s.Odd),
		)
	}
	return out
}

func needed(n int) string {
	if n == 1 {
		return "one frame is needed"
	}
	return fmt.Sprintf("%d frames are needed", n)
}

// sideOf says in words where a place from (0, 0) to (1, 1) lies.
func sideOf(p geom.Point) string {
	third := func(v float64, low, high string) string {
		switch {
		case v < 0.4:
			return low
		case v > 0.6:
			return high
		}
		return ""
	}
	up, side := third(p.Y, "upper", "lower"), third(p.X, "left", "right")
	switch {
	case up == "" && side == "":
		return "in the middle"
	case up == "":
		return "on the " + side
	case side == "":
		return map[string]string{"upper": "at the top", "lower": "at the bottom"}[up]
	}
	return "at the " + up + " " + side
}
