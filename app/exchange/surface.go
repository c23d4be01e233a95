package exchange

import (
	"errors"
	"fmt"
	"slices"

	"jardin/core/geom"
	"jardin/core/treatment"
)

var matrixTable = table{
	columns: []string{"frame", "h11", "h12", "h13", "h21", "h22", "h23", "h31", "h32", "h33"},
	needed:  10,
	write: func(t *Track, row func(int, ...float64), _ func(...string)) error {
		for _, s := range t.Samples {
			row(s.Frame, s.Matrix[:]...)
		}
		return nil
	},
	read: func() rows { return &matrixRows{} },
}

type matrixRows struct{ samples []treatment.Sample }

func (r *matrixRows) add(l *line) {
	s := treatment.Sample{Frame: l.frame()}
	for i, c := range matrixTable.columns[1:] {
		s.Matrix[i] = l.value(c)
	}
	r.samples = append(r.samples, s)
}

func (r *matrixRows) track(t *treatment.Track) error { return given(t, r.samples) }

var cornerTable = table{
	columns: []string{"frame", "x1", "y1", "x2", "y2", "x3", "y3", "x4", "y4"},
	needed:  9,
	write: func(t *Track, row func(int, ...float64), _ func(...string)) error {
		for _, s := range t.Samples {
			c := s.Corners
			row(s.Frame, c[0][0], c[0][1], c[1][0], c[1][1], c[2][0], c[2][1], c[3][0], c[3][1])
		}
		return nil
	},
	read: func() rows { return &cornerRows{} },
}

type corners struct {
	frame int
	at    []geom.Point
}

type cornerRows struct{ placed []corners }

func (r *cornerRows) add(l *line) {
	c := corners{frame: l.frame()}
	for i := range 4 {
		x, y := cornerTable.columns[1+2*i], cornerTable.columns[2+2*i]
		c.at = append(c.at, geom.Pt(l.value(x), l.value(y)))
	}
	r.placed = append(r.placed, c)
}

// track makes the frame nearest to home the one on which the corners are at rest.
func (r *cornerRows) track(t *treatment.Track) error {
	var samples []treatment.Sample
	if len(r.placed) > 0 {
		off := func(c corners) int { return max(c.frame-t.Home, t.Home-c.frame) }
		base := slices.MinFunc(r.placed, func(a, b corners) int { return off(a) - off(b) })
		t.Home = base.frame
		t.Surface = treatment.Vecs(base.at)
		for _, c := range r.placed {
			h, err := geom.Fit(geom.Perspective, base.at, c.at, nil)
			if err != nil {
				return fmt.Errorf("frame %d: the four corners lie on one line", c.frame)
			}
			samples = append(samples, treatment.Sample{Frame: c.frame, Matrix: h})
		}
	}
	return given(t, samples)
}

// given makes a track of samples.
func given(t *treatment.Track, samples []treatment.Sample) error {
	if len(samples) == 0 {
		return errors.New("it holds no frames")
	}
	slices.SortFunc(samples, func(a, b treatment.Sample) int { return a.Frame - b.Frame })
	for i, s := range samples {
		if i > 0 && s.Frame == samples[i-1].Frame {
			return fmt.Errorf("frame %d stands in it twice; leave one out", s.Frame)
		}
		if !s.Matrix.Finite() || s.Matrix.Det() == 0 {
			return fmt.Errorf("the place on frame %d cannot be: its matrix cannot be inverted", s.Frame)
		}
	}
	t.Kind, t.Data = treatment.GivenTrack, &treatment.Data{Samples: samples}
	return nil
}
