package exchange

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// pathsOf returns the paths of a track's points.
func pathsOf(t *treatment.Track) (out []Point) {
	for i := range t.Points {
		p := &t.Points[i]
		if p.Off {
			continue
		}
		path := Point{Name: p.Name}
		measured := p.Measured()
		places := carry.Path(t, p)
		frames := make([]int, 0, len(places))
		for n := range places {
			frames = append(frames, n)
		}
		slices.Sort(frames)
		for _, n := range frames {
			at := places[n].Add(p.Use.Point())
			sample := PointSample{Frame: n, At: [2]float64{at.X, at.Y}}
			if s := measured[n]; s != nil {
				sample.Match = s.Match
			}
			path.Samples = append(path.Samples, sample)
		}
		out = append(out, path)
	}
	return out
}

var pointTable = table{
	columns: []string{"point", "frame", "x", "y", "match"},
	needed:  4,
	write: func(t *Track, _ func(int, ...float64), text func(...string)) error {
		if len(t.Points) == 0 {
			return errors.New("this track has no points; take its matrices or corners")
		}
		for _, p := range t.Points {
			for _, s := range p.Samples {
				text(p.Name, strconv.Itoa(s.Frame), number(s.At[0]), number(s.At[1]), number(s.Match))
			}
		}
		return nil
	},
	read: func() rows { return &pointRows{} },
}

type pointRows struct{ paths []Point }

func (r *pointRows) add(l *line) {
	who := l.text("point")
	s := PointSample{Frame: l.frame(), At: [2]float64{l.value("x"), l.value("y")}}
	if l.has("match") {
		s.Match = l.value("match")
	}
	i := slices.IndexFunc(r.paths, func(p Point) bool { return p.Name == who })
	if i < 0 {
		i, r.paths = len(r.paths), append(r.paths, Point{Name: who})
	}
	r.paths[i].Samples = append(r.paths[i].Samples, s)
}

func (r *pointRows) track(t *treatment.Track) error {
	if len(r.paths) == 0 {
		return errors.New("it holds no frames")
	}
	return withPoints(t, r.paths)
}

// withPoints makes a track of paths of points.
func withPoints(t *treatment.Track, paths []Point) error {
	t.Kind, t.Motion = treatment.PointsTrack, geom.Perspective
	for i, path := range paths {
		if len(path.Samples) == 0 {
			continue
		}
		p := treatment.Point{
			ID: fmt.Sprintf("p%d", i+1), Name: path.Name, Pattern: treatment.Vec{31, 31}, Search: treatment.Vec{81, 81},
			Motion: geom.Similarity, Channel: "luma", Against: "reference", Tolerance: 0.7,
			Path: &treatment.PointPath{},
		}
		best := math.MaxInt
		for _, s := range path.Samples {
			p.Path.Samples = append(
				p.Path.Samples,
				treatment.PointSample{Frame: s.Frame, At: treatment.Vec(s.At), Match: s.Match},
			)
			if d := max(s.Frame-t.Home, t.Home-s.Frame); d < best {
				best, p.Home, p.At = d, s.Frame, treatment.Vec(s.At)
			}
		}
		t.Points = append(t.Points, p)
	}
	if len(t.Points) == 0 {
		return errors.New("it holds no points")
	}
	return nil
}
