package carry

import (
	"fmt"

	"jardin/core/geom"
	"jardin/core/track"
	"jardin/core/treatment"
)

// samples is what a track holds its surface's places in, frame by frame.
type samples struct{ planar }

// measured takes the measured samples, without those dropped, and puts those
// placed by hand beside them. Frames between are filled in a straight way.
func (samples) measured(m *Motion) error {
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
		if h, err := geom.Fit(geom.Perspective, t.Frame(), treatment.Points(p.Corners), nil); err == nil {
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

// softDoubts judges a surface that bends by what of it looks as on its home frame.
func softDoubts(v *Moment) (Grade, string) {
	const enough, little = 0.85, 0.6 // of the region
	switch {
	case v.Agree < little:
		return Bad, fmt.Sprintf("Only %.0f %% of the surface looks as on its home frame: something covers it, it turns away, or it left its "+
			"region. Drop these frames, or hand them to another source.", 100*v.Agree)
	case v.Agree < enough:
		return Doubtful, fmt.Sprintf("%.0f %% of the surface does not look as on its home frame: it is carried by what is around. Show what "+
			"drives the track, to see where.", 100*(1-v.Agree))
	}
	return Good, ""
}

// givenKind was brought in from elsewhere, and is judged by what stands in it.
type givenKind struct{ samples }

func (givenKind) doubts(v *Moment) (Grade, string) { return planeKind{}.doubts(v) }
