package carry

import (
	"fmt"
	"math"

	"jardin/core/geom"
	"jardin/core/track"
	"jardin/core/treatment"
)

// samples is what a track holds its surface's places in, frame by frame.
type samples struct{ planar }

// measured takes the measured samples, without those dropped, and puts those
// placed by hand beside them. Frames between are filled in a straight way.
func (samples) measured(_ *treatment.Document, m *Motion) error {
	t := m.Track
	if t.Data != nil {
		for _, v := range t.Data.Samples {
			if !dropped(t, v.Frame) {
				m.Samples = append(m.Samples, Moment{Sample: v})
			}
		}
	}
	refined := map[int]string{}
	for _, v := range m.Samples {
		refined[v.Frame] = v.Refined
	}
	for _, p := range t.Placed {
		if p.Guess && refined[p.Frame] == p.Basis() {
			continue // it was found from there
		}
		if h, err := geom.Fit(geom.Perspective, m.corners, m.straight(treatment.Points(p.Corners)), nil); err == nil {
			m.add(Moment{Sample: treatment.Sample{Frame: p.Frame, Matrix: h}, ByHand: true}, true)
		}
	}
	if len(t.Placed) > 0 {
		m.add(Moment{Sample: treatment.Sample{Frame: t.Home, Matrix: geom.Identity, Match: 1, Agree: 1}}, false)
	}
	m.index()
	m.bridge()
	return nil
}

// planeKind is a region of a flat surface that was followed.
type planeKind struct{ samples }

func (planeKind) doubts(v *Moment) (Grade, string) {
	if v.Bend != nil {
		return softDoubts(v)
	}
	switch {
	case v.Residual > 1:
		return Bad, fmt.Sprintf(
			"Parts of the region still slide by %.1f px: it does not move as one flat surface. Leave out what moves "+
				"by itself, or allow more motion.",
			v.Residual,
		)
	case v.Agree > 0 && v.Agree < 0.5:
		return Bad, fmt.Sprintf(
			"Only %.0f %% of the region agrees: something covers it. Draw an exclusion around that, or drop these "+
				"frames.",
			100*v.Agree,
		)
	case v.Match > 0 && v.Match < track.LeastMatch:
		return Doubtful, fmt.Sprintf(
			"It looks only %.0f %% like the frame it is followed from. Check it in the locked view; follow on from a "+
				"nearer frame if it slips.",
			100*v.Match,
		)
	case v.Residual > track.MostResidual:
		return Doubtful, fmt.Sprintf("Parts of the region still slide by %.1f px. Check it in the locked view.",
			v.Residual)
	case v.Agree > 0 && v.Agree < track.LeastAgree:
		return Doubtful, fmt.Sprintf(
			"%.0f %% of the region is left out as not agreeing. Show what drives the track, to see whether that is "+
				"right.",
			100*(1-v.Agree),
		)
	case v.Deviation > 3*track.MostDeviation:
		return Bad, fmt.Sprintf("There is so little texture that it is only known to %.1f px. Draw the region larger, or allow "+
			"less motion.", v.Deviation)
	case v.Deviation > track.MostDeviation:
		return Doubtful, fmt.Sprintf("There is little texture: it is known to %.1f px. Draw the region larger, or allow less "+
			"motion.", v.Deviation)
	case v.Chained:
		return Doubtful, "Followed from frame to frame here, as it no longer looks like the frame it is followed " +
			"from: it may drift. Follow on from this frame, or correct it."
	}
	return Good, ""
}

// softDoubts judges a surface that bends by what of it looks as on its home frame, and says why the rest does not.
func softDoubts(v *Moment) (Grade, string) {
	const enough, little = 0.85, 0.6 // of the region
	grade := Doubtful
	switch {
	case v.Agree < little:
		grade = Bad
	case v.Agree >= enough && v.Chained:
		return Doubtful, "Followed from frame to frame here, as it no longer looks like its home frame: it may drift. Name a frame on " +
			"which it looks right as another home, or pin it."
	case v.Agree >= enough:
		return Good, ""
	}
	lost := math.Round(100 * (1 - v.Agree))
	switch v.Bend.Why {
	case track.TurnedAway:
		return grade, fmt.Sprintf("%.0f %% of the surface is not found: most of that is turned away, to under 40 %% of its width. Hand over to "+
			"another source there, or let this one give way.", lost)
	case track.TooPlain:
		return grade, fmt.Sprintf("%.0f %% of the surface is not found: it has too little texture there. Draw the region larger, or make it "+
			"stiffer.", lost)
	case track.LeftView:
		return grade, fmt.Sprintf("%.0f %% of the surface is out of the picture, and goes on as what is seen of it.", lost)
	}
	return grade, fmt.Sprintf("%.0f %% of the surface is not found: something covers it, or it is folded away. It is carried by what is around. Hold that in "+
		"front, or let the source give way there.", lost)
}

// givenKind was brought in from elsewhere, and is judged by what stands in it.
type givenKind struct{ samples }

func (givenKind) doubts(v *Moment) (Grade, string) { return planeKind{}.doubts(v) }
