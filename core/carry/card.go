package carry

import (
	"fmt"

	"jardin/core/camera"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// cardKind is a rectangle in the space that the camera was found in: nothing of it is measured, how it moves follows from where
// the camera is.
type cardKind struct{ planar }

func (cardKind) measured(doc *treatment.Document, m *Motion) error {
	t := m.Track
	if t.Card == nil || doc.Camera == nil || doc.Camera.Data == nil {
		return nil // as long as the camera is not found
	}
	path := doc.Camera.Data.Path
	if path == nil {
		return fmt.Errorf("the camera of the card %q is still an artifact", t.Name)
	}
	world := doc.Camera.World.Similarity()
	toHome, ok := geom.Homography{}, false
	for i := range path.Views {
		if path.Views[i].Frame == t.Home {
			toHome, ok = cardOn(&path.Views[i], world, &m.lens, t.Card)
		}
	}
	back, invertible := toHome.Inverse()
	if !ok || !invertible {
		return nil // the camera is not known there, or looks along the card
	}
	m.corners = unitSquare(toHome)
	shown := *t
	shown.Surface = nil
	for _, c := range m.corners {
		p := m.lens.Distort(c)
		if !p.Finite() {
			m.corners = m.straight(t.Frame())
			return nil // part of it is where the lens shows nothing
		}
		shown.Surface = append(shown.Surface, treatment.Vec{p.X, p.Y})
	}
	m.Track = &shown
	for i := range path.Views {
		v := &path.Views[i]
		h, ok := cardOn(v, world, &m.lens, t.Card)
		if !ok || dropped(t, v.Frame) {
			continue
		}
		h = h.Mul(back).Normalised()
		if !h.Finite() || !sees(h, m.corners) {
			continue
		}
		agree := 1.0
		if v.Fits > 0 && v.RMS > 0 {
			agree = 1 / (1 + v.RMS*v.RMS/4)
		}
		m.Samples = append(m.Samples, Moment{Sample: treatment.Sample{Frame: v.Frame, Matrix: h, Match: 1, Agree: agree, Residual: v.RMS}})
	}
	return nil
}

func unitSquare(h geom.Homography) []geom.Point {
	return h.ApplyAll([]geom.Point{{X: 0, Y: 0}, {X: 1, Y: 0}, {X: 1, Y: 1}, {X: 0, Y: 1}})
}

// cardOn returns what takes the unit square, (0, 0) at the card's upper left corner, to the straight picture of a view; ok is false
// where a corner is behind the camera.
func cardOn(v *treatment.CameraView, world camera.Similarity, lens *geom.Lens, card *treatment.Card) (geom.Homography, bool) {
	view := v.View(world)
	c := card.Corners()
	origin, across, down := c[0], c[1].Sub(c[0]), c[3].Sub(c[0])
	for _, p := range c {
		if q := view.Pose.Apply(p); !(q[2] > 1e-6*across.Len()) {
			return geom.Identity, false
		}
	}
	o, x, y := view.Pose.Apply(origin), view.Pose.R.Apply(across), view.Pose.R.Apply(down)
	return view.Matrix(lens).Mul(geom.Homography{x[0], y[0], o[0], x[1], y[1], o[1], x[2], y[2], o[2]}), true
}

func (cardKind) doubts(v *Moment) (Grade, string) {
	switch {
	case v.Residual > 2:
		return Bad, fmt.Sprintf("The camera is not well known here: what it saw is %.1f px off. Solve it anew, with what moves by itself left out.", v.Residual)
	case v.Residual > 1:
		return Doubtful, fmt.Sprintf("What the camera saw here is %.1f px off. Check the card in the locked view; keyed corrections mend it.", v.Residual)
	}
	return Good, ""
}
