package carry

import (
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/matte"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// A Pose is how a shape lies on one frame. Its points are first taken from its
// keys, in home coordinates; then Placement takes them to where the whole shape
// was moved to, still at home; each is shifted by its own tracked point; and ToFrame
// takes them, and what lies between them, to the frame.
type Pose struct {
	Points    []treatment.Knot // before placement
	Placement geom.Homography
	Shifts    []geom.Point // by point; nil where none follows a tracked point
	ToFrame   warp.Mapping
	Lens      geom.Lens // without which it is straight, or curved as its handles say, between its points; plain for none
}

// Pose returns how a shape lies on frame n. own is the track of the removal that
// it belongs to. ok is false where it is not there: out of its range, switched
// off, or not followed to that frame.
func (s *Set) Pose(shape *treatment.Shape, own string, n int) (pose Pose, ok bool) {
	if shape.Off || (shape.Range != nil && !shape.Range.Has(n)) {
		return pose, false
	}
	ride := shape.Ride
	if ride == "" {
		ride = own
	}
	pose = Pose{Points: pointsAt(shape, n), Placement: geom.Identity, ToFrame: warp.Identity}
	if len(shape.Placement) > 0 {
		pose.Placement = placementAt(shape, n)
	}
	if pose.Shifts, ok = s.shifts(shape, n); !ok {
		return pose, false
	}
	if pose.Shifts == nil { // a shape whose points are tracked rides on nothing else
		pose.ToFrame = s.Mapping(ride, shape.Home, n)
	}
	if pose.ToFrame == nil {
		return pose, false
	}
	if shape.Straight && !s.lens.Plain() {
		pose.Lens = s.lens
		for _, k := range pose.straightened() {
			if !k.At.Finite() || !k.In.Finite() || !k.Out.Finite() {
				return pose, false // beyond what the lens shows
			}
		}
	}
	return pose, true
}

// Knots returns the shape's points on the frame, as far as that can be said by
// points and tangents: a perspective bends curves a little differently. Where the lens bends
// them, they are those of the cubics that meet each side at its ends and its thirds; the
// outer handles of an open path's ends mean nothing.
func (p *Pose) Knots() []geom.Knot {
	if !p.Lens.Plain() {
		return p.cubics()
	}
	out := make([]geom.Knot, len(p.Points))
	for i, k := range p.placed() {
		at := p.ToFrame.Apply(k.At)
		out[i] = geom.Knot{
			At:  at,
			In:  p.ToFrame.Apply(k.At.Add(k.In)).Sub(at),
			Out: p.ToFrame.Apply(k.At.Add(k.Out)).Sub(at),
		}
	}
	return out
}

// cubics returns those that meet each side of a shape, bowed by the lens, at its ends and thirds, on the frame.
func (p *Pose) cubics() []geom.Knot {
	knots := p.straightened()
	out := make([]geom.Knot, len(knots))
	frame := func(q geom.Point) geom.Point { return p.ToFrame.Apply(p.Lens.Distort(q)) }
	for i, k := range knots {
		out[i].At = frame(k.At)
	}
	for i, side := range geom.Segments(knots) {
		j := (i + 1) % len(knots)
		if side[1] == side[0] && side[2] == side[3] { // a straight one, evenly from end to end
			side[1], side[2] = side[0].Lerp(side[3], 1.0/3), side[0].Lerp(side[3], 2.0/3)
		}
		a, b := out[i].At, out[j].At
		u, v := frame(side.At(1.0/3)), frame(side.At(2.0/3))
		out[i].Out = u.Mul(18).Sub(v.Mul(9)).Add(b.Mul(2)).Sub(a.Mul(11)).Mul(1.0 / 6)
		out[j].In = v.Mul(18).Sub(u.Mul(9)).Add(a.Mul(2)).Sub(b.Mul(11)).Mul(1.0 / 6)
	}
	return out
}

// straightened returns what placed does, the lens taken out.
func (p *Pose) straightened() []geom.Knot {
	out := p.placed()
	for i, k := range out {
		at := p.Lens.Straighten(k.At)
		out[i] = geom.Knot{At: at, In: p.Lens.Straighten(k.At.Add(k.In)).Sub(at), Out: p.Lens.Straighten(k.At.Add(k.Out)).Sub(at)}
	}
	return out
}

// bowedStep is how long a side bowed by a lens is at most, pixels, as long as no more than about mostBowed are needed.
const (
	bowedStep = 8.0
	mostBowed = 20_000
)

// trace returns the shape's flattened path at home. What a lens bows is traced without it, and so finely that its sides can be
// taken as straight through the lens.
func (p *Pose) trace(closed bool) []geom.Step {
	if p.Lens.Plain() {
		return geom.Trace(p.placed(), closed, flatness)
	}
	steps := geom.Trace(p.straightened(), closed, flatness)
	whole := 0.0 // a shape as long as no picture needs gets longer sides, not more of them
	for i := 1; i < len(steps); i++ {
		whole += steps[i].At.Dist(steps[i-1].At)
	}
	longest := max(bowedStep, whole/mostBowed)
	var out []geom.Step
	for i, st := range steps {
		to := steps[(i+1)%len(steps)]
		if to.Knot != st.Knot {
			to.T = 1
		}
		pieces := 1
		if closed || i < len(steps)-1 {
			pieces = 1 + int(p.Lens.Distort(st.At).Dist(p.Lens.Distort(to.At))/longest)
		}
		for k := range pieces {
			u := float64(k) / float64(pieces)
			out = append(out, geom.Step{Knot: st.Knot, T: st.T + (to.T-st.T)*u, At: p.Lens.Distort(st.At.Lerp(to.At, u))})
		}
	}
	return out
}

// placed returns the points after placement and shifts, in home coordinates.
func (p *Pose) placed() []geom.Knot {
	out := make([]geom.Knot, len(p.Points))
	for i := range p.Points {
		k := p.Points[i].Geom()
		at := p.Placement.Apply(k.At)
		out[i] = geom.Knot{
			At:  at,
			In:  p.Placement.Apply(k.At.Add(k.In)).Sub(at),
			Out: p.Placement.Apply(k.At.Add(k.Out)).Sub(at),
		}
		if p.Shifts != nil {
			out[i].At = at.Add(p.Shifts[i])
		}
	}
	return out
}

// shifts returns by how much each point of the shape is moved by the tracked point
// that it follows, nil where none follows one. Points that follow none move with
// the mean of those that do.
func (s *Set) shifts(shape *treatment.Shape, n int) ([]geom.Point, bool) {
	var out []geom.Point
	var mean geom.Point
	count := 0
	for i := range shape.Points {
		ref := shape.Points[i].Follows
		if ref == nil {
			continue
		}
		if out == nil {
			out = make([]geom.Point, len(shape.Points))
		}
		m := s.tracks[ref.Track]
		if m == nil {
			return nil, false
		}
		a, ok1 := m.Point(ref.Point, shape.Home)
		b, ok2 := m.Point(ref.Point, n)
		if !ok1 || !ok2 {
			return nil, false
		}
		out[i] = b.Sub(a)
		mean, count = mean.Add(out[i]), count+1
	}
	for i := range out {
		if shape.Points[i].Follows == nil {
			out[i] = mean.Mul(1 / float64(count))
		}
	}
	return out, true
}

// numbersOf lists what of a point changes over time.
func numbersOf(knots []treatment.Knot) []float64 {
	out := make([]float64, 0, 9*len(knots))
	for i := range knots {
		k := &knots[i]
		g := k.Geom()
		out = append(out, g.At.X, g.At.Y, g.In.X, g.In.Y, g.Out.X, g.Out.Y, k.Feather, k.FeatherIn, k.Width)
	}
	return out
}

// pointsAt returns the shape's points on a frame, in home coordinates.
func pointsAt(s *treatment.Shape, n int) []treatment.Knot {
	if len(s.Keys) == 0 {
		return s.Points
	}
	keys := make([]geom.Key, len(s.Keys))
	for i, k := range s.Keys {
		keys[i] = geom.Key{Frame: k.Frame, Linear: k.Ease == treatment.Linear, Values: numbersOf(k.Points)}
	}
	v := geom.Between(keys, n)
	out := make([]treatment.Knot, len(s.Points))
	for i := range out {
		w := v[9*i : 9*i+9]
		out[i] = treatment.Knot{
			At:        treatment.Vec{w[0], w[1]},
			Feather:   w[6],
			FeatherIn: w[7],
			Width:     w[8],
			Follows:   s.Points[i].Follows,
		}
		if w[2] != 0 || w[3] != 0 {
			out[i].In = &treatment.Vec{w[2], w[3]}
		}
		if w[4] != 0 || w[5] != 0 {
			out[i].Out = &treatment.Vec{w[4], w[5]}
		}
	}
	return out
}

// Centre is the point around which a whole shape is turned and scaled: the middle
// of its points, those that it was drawn with.
func Centre(s *treatment.Shape) geom.Point {
	var all []geom.Point
	for i := range s.Points {
		all = append(all, s.Points[i].At.Point())
	}
	return geom.Bounds(all).Centre()
}

func placementAt(s *treatment.Shape, n int) geom.Homography {
	keys := make([]geom.Key, len(s.Placement))
	for i, k := range s.Placement {
		keys[i] = geom.Key{
			Frame:  k.Frame,
			Linear: k.Ease == treatment.Linear,
			Values: []float64{k.Offset[0], k.Offset[1], k.Turn, k.Scale[0], k.Scale[1]},
		}
	}
	v := geom.Between(keys, n)
	return geom.Placement(Centre(s), geom.Pt(v[0], v[1]), v[2], geom.Pt(v[3], v[4]))
}

// flatness is the greatest distance of a flattened outline from its curve, in
// pixels: a thirtieth of a pixel moves a coverage by no more than eight levels
// of 255 and cannot be seen.
const flatness = 1.0 / 30

// An Edge is what is added to the edges of several shapes, in pixels at home.
type Edge struct{ Feather, FeatherIn, Grow float64 }

// Rim returns the shape's flattened edge on the frame, with the feather of each
// of its points in the frame's pixels, and whether it overlaps itself, as a
// strand's does. The edge's feathers are added to all.
func (pose *Pose) Rim(s *treatment.Shape, edge Edge) (rim []matte.Rim, overlaps bool) {
	steps := pose.trace(s.Kind != treatment.Strand)
	mix := func(st geom.Step, of func(k *treatment.Knot) float64) float64 {
		a := of(&pose.Points[st.Knot])
		if st.T == 0 {
			return a
		}
		return a + (of(&pose.Points[(st.Knot+1)%len(pose.Points)])-a)*st.T
	}
	out := func(k *treatment.Knot) float64 { return s.Feather + k.Feather + edge.Feather }
	in := func(k *treatment.Knot) float64 { return s.FeatherIn + k.FeatherIn + edge.FeatherIn }
	if s.Kind == treatment.Strand {
		path := make([]matte.Wire, len(steps))
		scale := pose.Placement.Scale(Centre(s))
		for i, st := range steps {
			path[i] = matte.Wire{At: st.At, Width: scale * mix(st, func(k *treatment.Knot) float64 { return k.Width })}
		}
		for _, p := range matte.Strand(path) {
			k := pose.ToFrame.Scale(p)
			rim = append(
				rim,
				matte.Rim{At: p, Out: k * (s.Feather + edge.Feather), In: k * (s.FeatherIn + edge.FeatherIn)},
			)
		}
		return pose.carried(rim), true
	}
	for _, st := range steps {
		k := pose.ToFrame.Scale(st.At)
		rim = append(rim, matte.Rim{At: st.At, Out: k * mix(st, out), In: k * mix(st, in)})
	}
	return pose.carried(rim), false
}

// carried takes an edge at home to the frame. A homography leaves its sides straight; where
// the mapping bends them, they get as many points as they need to follow it.
func (p *Pose) carried(rim []matte.Rim) []matte.Rim {
	if _, straight := p.ToFrame.Homography(); straight {
		for i := range rim {
			rim[i].At = p.ToFrame.Apply(rim[i].At)
		}
		return rim
	}
	var out []matte.Rim
	for i, a := range rim {
		b := rim[(i+1)%len(rim)]
		out = p.bent(out, a, b, p.ToFrame.Apply(a.At), p.ToFrame.Apply(b.At), 0)
	}
	return out
}

// bent appends the side from a to b without its end, divided until it is as flat as a curve
// has to be. A side longer than a few pixels is divided in any case: its middle may lie on
// the straight line though it bends to both sides of it.
func (p *Pose) bent(out []matte.Rim, a, b matte.Rim, at, end geom.Point, deep int) []matte.Rim {
	middle := matte.Rim{At: a.At.Lerp(b.At, 0.5), Out: (a.Out + b.Out) / 2, In: (a.In + b.In) / 2}
	on := p.ToFrame.Apply(middle.At)
	if deep >= 8 || (on.Dist(at.Lerp(end, 0.5)) < flatness && at.Dist(end) < 12) {
		return append(out, matte.Rim{At: at, Out: a.Out, In: a.In})
	}
	return p.bent(p.bent(out, a, middle, at, on, deep+1), middle, b, on, end, deep+1)
}

// Polygon returns the shape's flattened edge on the frame.
func (p *Pose) Polygon(s *treatment.Shape) []geom.Point {
	rim, _ := p.Rim(s, Edge{})
	out := make([]geom.Point, len(rim))
	for i, point := range rim {
		out[i] = point.At
	}
	return out
}

// Cover returns the shape's own coverage on the frame.
func (p *Pose) Cover(s *treatment.Shape, edge Edge, within image.Rectangle) *raster.Plane {
	rim, overlaps := p.Rim(s, edge)
	for _, point := range rim {
		if !point.At.Finite() || math.Abs(point.At.X) > 1e6 || math.Abs(point.At.Y) > 1e6 {
			return raster.NewPlane(image.Rectangle{}) // beyond the horizon: it is not in the picture
		}
	}
	grow := (s.Grow + edge.Grow) * p.ToFrame.Scale(Centre(s))
	return matte.Edge(rim, grow, overlaps, within)
}

// A PosedShape is a shape as it lies on a frame: all that its coverage is made from.
type PosedShape struct {
	Shape treatment.Shape // what does not change its coverage is left out
	Pose  Pose
}

// PoseShape returns a shape with how it lies. Of the shape only that is kept which its
// coverage depends on.
func PoseShape(s *treatment.Shape, pose Pose) PosedShape {
	plain := treatment.Shape{
		Kind: s.Kind, Feather: s.Feather, FeatherIn: s.FeatherIn, Grow: s.Grow, Opacity: s.Opacity, Invert: s.Invert,
		Combine: s.Combine,
	}
	for i := range s.Points {
		plain.Points = append(plain.Points, treatment.Knot{At: s.Points[i].At}) // the middle of the whole
	}
	return PosedShape{plain, pose}
}

// Cover returns the coverage of several shapes, combined in order. The edge is added to
// each one's.
func Cover(shapes []PosedShape, edge Edge, within image.Rectangle) *raster.Plane {
	var layers []matte.Layer
	for i := range shapes {
		s := &shapes[i].Shape
		layers = append(layers, matte.Layer{
			Matte: shapes[i].Pose.Cover(s, edge, within), Opacity: s.Through(), Invert: s.Invert, Combine: s.Combine,
		})
	}
	if len(layers) == 1 && layers[0].Opacity == 1 && !layers[0].Invert &&
		(layers[0].Combine == "" || layers[0].Combine == matte.Add) {
		return layers[0].Matte
	}
	return matte.Combine(within, layers...)
}
