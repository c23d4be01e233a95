package render

import (
	"context"
	"fmt"
	"hash/fnv"
	"math"
	"strings"

	"jardin/core/carry"
	"jardin/core/fill"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

func strokeBox(s *treatment.Stroke) geom.Box {
	var at []geom.Point
	grow := s.Size/2 + s.Jitter*s.Size + 2
	if s.Area != nil {
		for i := range s.Area.Points {
			k := s.Area.Points[i].Geom()
			at = append(at, k.At, k.At.Add(k.In), k.At.Add(k.Out))
		}
		grow = s.Area.Feather + 2
	} else {
		for _, t := range touchesOf(s) {
			at = append(at, t.Point)
		}
		grow += 0.05 * s.Size // a curve may bulge
	}
	return geom.Bounds(at).Grow(grow)
}

// paintStroke paints a stroke on a canvas of frame n.
func (e *Evaluator) paintStroke(ctx context.Context, c *fill.Canvas, in *strokeInput, n int) error {
	if in.Map == nil {
		return nil // not followed to there
	}
	st, w := in.Stroke, in.Map
	brush, err := e.brush(ctx, st, w, in.Loan, &in.Box)
	if err != nil {
		return err
	}
	if st.Area != nil {
		// Half of a soft edge lies inside the outline: it is drawn where the pixels part.
		shape := treatment.Shape{
			Kind:      treatment.Outline,
			Home:      st.Home,
			Points:    st.Area.Points,
			Feather:   st.Area.Feather / 2,
			FeatherIn: st.Area.Feather / 2,
		}
		pose := carry.Pose{Points: shape.Points, Placement: geom.Identity, ToFrame: w}
		c.Area(brush, pose.Cover(&shape, carry.Edge{}, raster.Around(w.Bounds(in.Box), 2, e.Plate.Size())))
		return nil
	}
	path := touchesOf(st)
	if n != st.Home {
		for i := range path {
			path[i].Point = w.Apply(path[i].Point)
		}
	}
	c.Paint(brush, path)
	return nil
}

// brush returns the brush of a stroke on a frame to which w takes its home. box is what it
// may cover at home; nil for anything.
func (e *Evaluator) brush(
	ctx context.Context,
	s *treatment.Stroke,
	w warp.Mapping,
	loan *loanInput,
	box *geom.Box,
) (fill.Stroke, error) {
	seed := fnv.New64a()
	_, _ = seed.Write([]byte(s.ID)) // a hash takes anything
	out := fill.Stroke{
		Mode: fill.Mode(s.Mode), Size: s.Size, Hardness: s.Hardness, Opacity: s.Opacity, Spacing: s.Spacing,
		Roundness: s.Roundness, Angle: s.Angle, Jitter: s.Jitter, Seed: seed.Sum64(), Amount: s.Amount,
		Heal: fill.Healing{Texture: s.Texture, Light: s.Light, White: e.Plate.White()},
	}
	if s.Flow != nil {
		out.Flow = *s.Flow
	}
	for _, p := range s.Pen {
		switch p {
		case "size":
			out.Pen.Size = true
		case "opacity":
			out.Pen.Opacity = true
		case "flow":
			out.Pen.Flow = true
		case "shape":
			out.Pen.Shape = true
		}
	}
	if s.Channels != "" {
		out.Channels = [3]bool{
			strings.Contains(s.Channels, "r"),
			strings.Contains(s.Channels, "g"),
			strings.Contains(s.Channels, "b"),
		}
	}
	if s.Colour != nil {
		out.Colour = [3]float32{float32(s.Colour[0]), float32(s.Colour[1]), float32(s.Colour[2])}
	}
	straight := warp.IsIdentity(w)
	begin := beginOf(s)
	if !straight {
		scale := w.Scale(begin)
		out.Size *= scale
		if s.Mode == string(fill.Soften) {
			out.Amount *= scale
		}
	}
	o := s.From
	if o == nil || !out.Mode.Copies() {
		return out, nil
	}
	out.From.Plain = o.Plain
	from := FromOf(o, begin)
	shift, simple := simpleOffset(o)
	if loan != nil {
		over := loan.Over
		region := e.Plate.Size()
		if box != nil {
			wide := box.Grow(readsBeyond(s))
			region = raster.Around(over.Bounds(geom.Bounds(cornersOf(from, wide))), 4, region)
		}
		back, ok := w.Inverse()
		if !ok {
			return out, fmt.Errorf("the track cannot be inverted")
		}
		var err error
		if out.From.Picture, err = e.bare(ctx, loan.Bare, region); err != nil {
			return out, fmt.Errorf("frame %d, which is lent: %w", loan.Bare.Frame, err)
		}
		if simple && straight && warp.IsIdentity(over) {
			out.From.Shift = shift
			return out, nil
		}
		out.From.Map = func(p geom.Point) geom.Point {
			if !straight {
				p = back.Apply(p)
			}
			return over.Apply(from.Apply(p))
		}
		return out, nil
	}
	if simple {
		out.From.Shift = shift
		if straight {
			return out, nil
		}
		// Carried, the offset turns and grows with the surface.
		middle := w.Apply(begin)
		if o.Crisp {
			d := w.Apply(begin.Add(shift)).Sub(middle)
			out.From.Shift = geom.Pt(math.Round(d.X), math.Round(d.Y))
			return out, nil
		}
	} else if straight {
		out.From.Map = from.Apply
		return out, nil
	}
	back, ok := w.Inverse()
	if !ok {
		return out, fmt.Errorf("the track cannot be inverted")
	}
	out.From.Map = func(p geom.Point) geom.Point { return w.Apply(from.Apply(back.Apply(p))) }
	return out, nil
}

// simpleOffset returns the offset of an origin that does nothing else.
func simpleOffset(o *treatment.From) (geom.Point, bool) {
	d := o.Offset.Point()
	if o.Crisp {
		d = geom.Pt(math.Round(d.X), math.Round(d.Y))
	}
	return d, o.Turn == 0 && (o.Scale == 0 || o.Scale == 1) && !o.Mirror
}

// FromOf returns where the pixels painted at a place come from, at home. begin stands
// for a middle that is not given.
func FromOf(o *treatment.From, begin geom.Point) geom.Homography {
	middle := begin
	if o.Middle != nil {
		middle = o.Middle.Point()
	}
	offset, _ := simpleOffset(o)
	scale := o.Scale
	if scale == 0 {
		scale = 1
	}
	across := scale
	if o.Mirror {
		across = -scale
	}
	return geom.Placement(middle, offset, o.Turn, geom.Pt(across, scale))
}

// readsBeyond returns how far beyond its box a stroke reads what is there, and what is there where its pixels come from.
func readsBeyond(s *treatment.Stroke) float64 {
	switch {
	case s.Mode == string(fill.Heal) && s.Texture != nil:
		return fill.RimReach
	case s.Mode == string(fill.Soften):
		return fill.BlurReach(s.Amount)
	}
	return 0
}

func cornersOf(h geom.Homography, b geom.Box) []geom.Point {
	corners := b.Corners()
	return h.ApplyAll(corners[:])
}

// originOf returns the box that a stroke's pixels come from, at home.
func originOf(s *treatment.Stroke, box geom.Box) geom.Box {
	return geom.Bounds(cornersOf(FromOf(s.From, beginOf(s)), box))
}

// beginOf returns where a stroke begins; of an area the middle.
func beginOf(s *treatment.Stroke) geom.Point {
	if s.Area != nil {
		at := make([]geom.Point, len(s.Area.Points))
		for i := range at {
			at[i] = s.Area.Points[i].At.Point()
		}
		return geom.Bounds(at).Centre()
	}
	if s.Path == nil || len(s.Path.Points) == 0 {
		return geom.Point{}
	}
	p := geom.Pt(s.Path.Points[0][0], s.Path.Points[0][1])
	if s.Path.Shift != nil {
		p = p.Add(s.Path.Shift.Point())
	}
	return p
}

// Brush returns the brush of a stroke that is being painted on its home.
func (e *Evaluator) Brush(
	ctx context.Context,
	t *Treatment,
	removal string,
	s *treatment.Stroke,
	begin treatment.Vec,
) (fill.Stroke, error) {
	r := t.removal(removal)
	if r == nil {
		return fill.Stroke{}, fmt.Errorf("there is no removal %q", removal)
	}
	at := *s
	at.Path = &treatment.Path{Points: [][]float64{{begin[0], begin[1]}}}
	return e.brush(ctx, &at, warp.Identity, r.loan(&at), nil)
}

// touchesOf returns a stroke's points where they lie.
func touchesOf(s *treatment.Stroke) []fill.Touch {
	if s.Path == nil {
		return nil
	}
	out := Touches(s.Path.Points)
	if s.Path.Shift != nil {
		for i := range out {
			out[i].Point = out[i].Point.Add(s.Path.Shift.Point())
		}
	}
	return out
}

// Touches returns a stroke's points, with full pressure where none is given.
func Touches(points [][]float64) []fill.Touch {
	out := make([]fill.Touch, len(points))
	for i, p := range points {
		out[i] = fill.Touch{Point: geom.Pt(p[0], p[1]), Pressure: 1}
		if len(p) > 2 {
			out[i].Pressure = p[2]
		}
		if len(p) > 4 {
			out[i].Lean = geom.Pt(p[3], p[4])
		}
	}
	return out
}
