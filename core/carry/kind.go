package carry

import (
	"jardin/core/treatment"
	"jardin/core/warp"
)

// A kind is a kind of track: how what was measured of it becomes a motion, what takes places
// along with it, and what is doubtful about it.
type kind interface {
	// measured fills in the motion's samples from what the track holds. Smoothing, corrections
	// and the track below come after that.
	measured(doc *treatment.Document, m *Motion) error
	// mapping returns the carrier from frame a to another frame b; nil where the track is not
	// known on one of them.
	mapping(m *Motion, a, b int) warp.Mapping
	// doubts judges a sample whose transform is not extreme by itself.
	doubts(v *Moment) (Grade, string)
}

// kinds are all there are, by name. A new one gets a file of its own and a line here.
var kinds = map[string]kind{
	treatment.PlaneTrack:  planeKind{},
	treatment.PointsTrack: pointsKind{},
	treatment.GivenTrack:  givenKind{},
	treatment.CardTrack:   cardKind{},
}

// planar carries by a homography, bent by the grids that correct it; of a surface that is worked out in the straight picture, between
// the lens taken out and put back.
type planar struct{}

func (planar) mapping(m *Motion, a, b int) warp.Mapping {
	toA, ok1 := m.At(a)
	toB, ok2 := m.At(b)
	if !ok1 || !ok2 {
		return nil
	}
	out, ok := warp.NewBent(toA, toB, m.bent(a), m.bent(b))
	if !ok {
		return nil
	}
	return m.lensed(out)
}
