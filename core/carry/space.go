package carry

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"jardin/core/camera"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// A Space is what was found of the set, as it is laid: where the camera was, and what it saw where. It does not change.
type Space struct {
	Lens    geom.Lens
	Views   map[int]camera.View // by frame
	Frames  []int               // ascending
	Points  []treatment.CameraPoint
	Turning bool
	RMS     float64
	doc     *treatment.Document
}

// ErrNoCamera is returned as long as nothing is known of the camera.
var ErrNoCamera = errors.New("the camera is not known yet: solve it first, or bring in one from elsewhere")

// NewSpace returns the space of a document whose artifacts all stand in place.
func NewSpace(doc *treatment.Document) (*Space, error) {
	if doc.Camera == nil || doc.Camera.Data == nil || doc.Camera.Data.Path == nil || doc.Lens == nil {
		return nil, ErrNoCamera
	}
	lens, err := doc.Lens.Of()
	if err != nil {
		return nil, err
	}
	path, world := doc.Camera.Data.Path, doc.Camera.World.Similarity()
	s := &Space{Lens: lens, Views: map[int]camera.View{}, Turning: path.Turning, RMS: path.RMS, doc: doc}
	for i := range path.Views {
		s.Views[path.Views[i].Frame] = path.Views[i].View(world)
		s.Frames = append(s.Frames, path.Views[i].Frame)
	}
	s.Points = slices.Clone(path.Points)
	for i := range s.Points {
		s.Points[i].At = world.Apply(s.Points[i].At)
	}
	return s, nil
}

// eye returns the middle of where the camera was.
func (s *Space) eye() (e camera.Vec) {
	for _, n := range s.Frames {
		v := s.Views[n]
		e = e.Add(v.Pose.Eye().Mul(1 / float64(len(s.Frames))))
	}
	return e
}

// View returns the camera on a frame; it fails with words where it is not known.
func (s *Space) View(n int) (*camera.View, error) {
	v, ok := s.Views[n]
	if !ok {
		return nil, fmt.Errorf("the camera is not known on frame %d; go to another frame", n)
	}
	return &v, nil
}

// places returns points by their numbers.
func (s *Space) places(points []int) (out []camera.Vec, err error) {
	for _, i := range points {
		if i < 0 || i >= len(s.Points) {
			return nil, fmt.Errorf("there is no point %d", i)
		}
		out = append(out, s.Points[i].At)
	}
	return out, nil
}

// A Laying says how the world is to be laid; what is left out stays.
type Laying struct {
	Floor  []int   `json:"floor,omitempty" doc:"Three points or more that are on the floor"`
	Origin *int    `json:"origin,omitempty" doc:"The point that is where all lengths begin"`
	Apart  *[2]int `json:"apart,omitempty" doc:"Two points that are so far apart"`
	Length float64 `json:"length,omitempty" minimum:"0" doc:"How far, in the artist's unit"`
	Unit   string  `json:"unit,omitempty" maxLength:"20"`
}

// Lay lays the world of a document anew, and its cards with it. The document's camera has to stand in place in s, and may be an
// artifact in doc.
func (s *Space) Lay(doc *treatment.Document, how Laying) error {
	move := camera.Same
	if len(how.Floor) == 0 && how.Origin == nil && how.Apart == nil {
		return errors.New("say what of the space is to be laid: points on the floor, an origin, or two points and how far they are apart")
	}
	if len(how.Floor) > 0 {
		on, err := s.places(how.Floor)
		if err != nil {
			return err
		}
		var origin *camera.Vec
		if how.Origin != nil {
			at, err := s.places([]int{*how.Origin})
			if err != nil {
				return err
			}
			origin = &at[0]
		}
		if move, err = camera.LayFloor(on, s.eye(), origin); err != nil {
			return err
		}
	} else if how.Origin != nil {
		at, err := s.places([]int{*how.Origin})
		if err != nil {
			return err
		}
		move.T = at[0].Mul(-1)
	}
	if how.Apart != nil {
		ends, err := s.places(how.Apart[:])
		if err != nil {
			return err
		}
		if s.Turning {
			return errors.New("the camera only turned: how far things are away, and apart, is not known. Cards keep their places on the picture however far they are")
		}
		apart := ends[0].Dist(ends[1])
		if !(apart > 0) || !(how.Length > 0) {
			return errors.New("choose two points that are apart, and say how far")
		}
		move = move.Then(camera.Similarity{Scale: how.Length / apart, R: camera.Straight})
	}
	unit := how.Unit
	if unit == "" && doc.Camera.World != nil {
		unit = doc.Camera.World.Unit
	}
	doc.Camera.World = treatment.WorldOf(doc.Camera.World.Similarity().Then(move), unit)
	for i := range doc.Tracks {
		if c := doc.Tracks[i].Card; c != nil {
			moved := c.Moved(move)
			doc.Tracks[i].Card = &moved
		}
	}
	return nil
}

// A NewCard says where a card is to be.
type NewCard struct {
	How    string         `json:"how" enum:"points,floor,facing,track" doc:"Through points; lying on the floor; facing the camera; through a plane that was followed"`
	Frame  int            `json:"frame" doc:"On which it is looked at: its home"`
	Points []int          `json:"points,omitempty" doc:"Numbers of points"`
	Track  string         `json:"track,omitempty" doc:"A plane"`
	At     *treatment.Vec `json:"at,omitempty" doc:"Where on the picture its middle is to be"`
}

const cardRoom = 0.25 // around the points that a card is laid through

// Card makes a card. motions are those of the document.
func (s *Space) Card(motions *Set, n NewCard) (*treatment.Card, error) {
	v, err := s.View(n.Frame)
	if err != nil {
		return nil, err
	}
	on, err := s.places(n.Points)
	if err != nil {
		return nil, err
	}
	eye := v.Pose.Eye()
	var r camera.Rectangle
	switch n.How {
	case "points":
		if len(on) < 3 {
			return nil, errors.New("choose three points or more that lie on the surface: drag a box around them, or click them with Shift")
		}
		_, normal, lying, err := camera.PlaneOfMost(on)
		if err != nil {
			return nil, err
		}
		r = camera.On(normal, lying, eye, cardRoom)
	case "floor":
		at, err := s.onFloor(v, n.At, on)
		if err != nil {
			return nil, err
		}
		around := on
		if len(around) < 3 {
			d := 0.12 * at.Dist(eye)
			around = []camera.Vec{at.Add(camera.Vec{d, 0, d}), at.Add(camera.Vec{-d, 0, d}), at.Add(camera.Vec{d, 0, -d}), at.Add(camera.Vec{-d, 0, -d})}
		}
		for i := range around {
			around[i][1] = 0
		}
		r = camera.On(camera.Vec{0, 1, 0}, around, eye, cardRoom)
	case "facing":
		if len(on) == 0 {
			return nil, errors.New("choose a point at whose distance the card is to stand")
		}
		var at camera.Vec
		for _, p := range on {
			at = at.Add(p.Mul(1 / float64(len(on))))
		}
		if n.At != nil {
			d := v.Ray(&s.Lens, n.At.Point())
			if !d.Finite() {
				return nil, errors.New("nothing is seen at this place of the picture")
			}
			depth := v.Pose.Apply(at)[2]
			if k := v.Pose.R.Apply(d)[2]; k > 0 && depth > 0 {
				at = eye.Add(d.Mul(depth / k))
			}
		}
		size := 0.2 * v.Pose.Apply(at)[2] * float64(s.doc.Lens.Size[1]) / v.Focal
		r = camera.Facing(v, at, [2]float64{size * 1.4, size})
	case "track":
		if r, err = s.through(motions, n); err != nil {
			return nil, err
		}
	default:
		return nil, fmt.Errorf("%q is no way to lay a card", n.How)
	}
	return cardOf(r)
}

func cardOf(r camera.Rectangle) (*treatment.Card, error) {
	c := &treatment.Card{At: r.At, Turn: r.Turn.Quaternion(), Size: r.Size}
	if !c.Sound() {
		return nil, errors.New("these points do not tell a rectangle")
	}
	return c, nil
}

// onFloor returns the place on the floor that is seen at a place of the picture, or under the points' middle.
func (s *Space) onFloor(v *camera.View, at *treatment.Vec, points []camera.Vec) (camera.Vec, error) {
	if at == nil {
		if len(points) == 0 {
			return camera.Vec{}, errors.New("click where on the floor the card is to lie, or choose points there")
		}
		var m camera.Vec
		for _, p := range points {
			m = m.Add(p.Mul(1 / float64(len(points))))
		}
		m[1] = 0
		return m, nil
	}
	eye, d := v.Pose.Eye(), v.Ray(&s.Lens, at.Point())
	k := -eye[1] / d[1]
	if !(k > 0) || math.IsInf(k, 0) {
		return camera.Vec{}, errors.New("there is no floor at this place: it is above the horizon. Lay the floor first, by three points on it")
	}
	return eye.Add(d.Mul(k)), nil
}

// through returns the card of a plane that was followed: its corners, each seen from all frames on which both plane and camera are
// known.
func (s *Space) through(motions *Set, n NewCard) (r camera.Rectangle, err error) {
	m := motions.Motion(n.Track)
	if m == nil || m.Track.Kind == treatment.CardTrack {
		return r, errors.New("choose a plane that was followed")
	}
	if s.Turning {
		return r, errors.New("the camera only turned: how far the plane is away is not known")
	}
	corners := m.Track.Frame()
	var on []camera.Vec
	for _, c := range corners {
		var eyes, rays []camera.Vec
		for _, frame := range s.Frames {
			mapping := motions.Mapping(n.Track, m.Track.Home, frame)
			if mapping == nil || !mapping.Sees(c) {
				continue
			}
			v := s.Views[frame]
			if ray := v.Ray(&s.Lens, mapping.Apply(c)); ray.Finite() {
				eyes, rays = append(eyes, v.Pose.Eye()), append(rays, ray)
			}
		}
		if len(eyes) < 2 {
			return r, errors.New("the plane and the camera are known on too few frames together: follow the plane over more frames")
		}
		x, sound := camera.Triangulate(eyes, rays)
		if !sound {
			return r, errors.New("the plane is seen from about the same place on all frames on which it was followed, which does not tell how far it is")
		}
		on = append(on, x)
	}
	_, normal, _, err := camera.PlaneThrough(on)
	if err != nil {
		return r, err
	}
	v, err := s.View(n.Frame)
	if err != nil {
		return r, err
	}
	return camera.On(normal, on, v.Pose.Eye(), 0), nil
}

// A CardMove is how a card is moved by hand, as it is seen on a frame.
type CardMove struct {
	Handle string        `json:"handle" enum:"corner0,corner1,corner2,corner3,middle,depth,turnX,turnY,turnZ,scale" doc:"A corner or the middle is dragged to a place; the others change by an amount"`
	To     treatment.Vec `json:"to" doc:"Of a corner or the middle: where to, on the picture"`
	By     float64       `json:"by,omitempty" doc:"Of depth: how many times as far; of a turn: degrees about the card's own axis; of scale: how many times as large"`
}

// Move returns a card moved by hand on a frame. A corner stays on the card's plane, and so does the middle; depth goes along where the
// middle is seen, and keeps the size that it has on this frame.
func (s *Space) Move(card *treatment.Card, frame int, m CardMove) (*treatment.Card, error) {
	v, err := s.View(frame)
	if err != nil {
		return nil, err
	}
	if !card.Sound() {
		return nil, errors.New("this is no card: a place, a quaternion of length 1 and a size above 0 are needed")
	}
	out := *card
	turn := camera.OfQuaternion(card.Turn)
	x, y, z := turn.Apply(camera.Vec{1, 0, 0}), turn.Apply(camera.Vec{0, 1, 0}), turn.Apply(camera.Vec{0, 0, 1})
	eye, middle := v.Pose.Eye(), camera.Vec(card.At)
	on := func() (camera.Vec, error) {
		d := v.Ray(&s.Lens, m.To.Point())
		k := middle.Sub(eye).Dot(z) / d.Dot(z)
		if !d.Finite() || !(k > 0) || k > 1e6*middle.Dist(eye) {
			return middle, errors.New("the card's plane is not seen at this place")
		}
		return eye.Add(d.Mul(k)), nil
	}
	switch m.Handle {
	case "middle":
		at, err := on()
		if err != nil {
			return nil, err
		}
		out.At = at
	case "corner0", "corner1", "corner2", "corner3":
		i := int(m.Handle[6] - '0')
		across := card.Corners()[(i+2)%4] // stays where it is
		at, err := on()
		if err != nil {
			return nil, err
		}
		d := at.Sub(across)
		w, h := math.Abs(d.Dot(x)), math.Abs(d.Dot(y))
		least := 1e-3 * middle.Dist(eye)
		out.Size = [2]float64{math.Max(w, least), math.Max(h, least)}
		out.At = across.Lerp(across.Add(x.Mul(d.Dot(x))).Add(y.Mul(d.Dot(y))), 0.5)
	case "depth", "scale":
		if !(m.By > 1e-3 && m.By < 1e3) {
			return nil, errors.New("a card can be moved or scaled by a thousandth to a thousandfold")
		}
		if m.Handle == "depth" {
			out.At = eye.Add(middle.Sub(eye).Mul(m.By))
		}
		out.Size = [2]float64{card.Size[0] * m.By, card.Size[1] * m.By}
	case "turnX", "turnY", "turnZ":
		axis := map[string]camera.Vec{"turnX": x, "turnY": y, "turnZ": z}[m.Handle]
		out.Turn = camera.Turn(axis.Mul(m.By * math.Pi / 180)).Mul(turn).Quaternion()
	default:
		return nil, fmt.Errorf("a card has no handle %q", m.Handle)
	}
	if !out.Sound() {
		return nil, errors.New("the card would be nowhere")
	}
	return &out, nil
}

// Seen returns where a card's corners are seen on a frame; ok is false where one of them is not.
func (s *Space) Seen(card *treatment.Card, frame int) (corners []geom.Point, ok bool) {
	v, known := s.Views[frame]
	if !known {
		return nil, false
	}
	for _, c := range card.Corners() {
		p, ok := v.Project(&s.Lens, c)
		if !ok {
			return nil, false
		}
		corners = append(corners, p)
	}
	return corners, true
}

// A SeenPoint is a point on a frame.
type SeenPoint struct {
	Point int           `json:"point" doc:"Its number"`
	At    treatment.Vec `json:"at"`
	Off   bool          `json:"off,omitempty" doc:"It does not fit"`
	Error float64       `json:"error,omitempty" doc:"Pixels"`
}

// On returns the points that are seen on a frame.
func (s *Space) On(frame int) (out []SeenPoint) {
	v, ok := s.Views[frame]
	if !ok {
		return nil
	}
	for i := range s.Points {
		p := &s.Points[i]
		if frame < p.First || frame > p.Last {
			continue
		}
		if at, ok := v.Project(&s.Lens, p.At); ok {
			out = append(out, SeenPoint{i, treatment.Vec{at.X, at.Y}, p.Off, p.Error})
		}
	}
	return out
}

// Joined returns the world under which a path found anew lies as the one before it did, by where the camera was on frames that both
// know; ok is false where that cannot be told.
func Joined(old, anew *treatment.Solved, world *treatment.World) (w *treatment.World, ok bool) {
	if old == nil || old.Turning != anew.Turning {
		return nil, false
	}
	was := map[int]camera.Vec{}
	for _, v := range old.Views {
		was[v.Frame] = v.Eye
	}
	var from, to []camera.Vec
	for i := range anew.Views {
		v := &anew.Views[i]
		if e, known := was[v.Frame]; known {
			from, to = append(from, v.Eye), append(to, e)
		}
	}
	s, err := camera.AlignPaths(from, to)
	if old.Turning {
		s, err = camera.Same, nil // it stays where it is, and nothing is nearer or farther
	}
	if err != nil || len(from) < 3 {
		return nil, false
	}
	// A straight path leaves the turn about it open: the cameras' own turn tells it.
	var turns []camera.Vec
	var ups []camera.Vec
	oldTurn := map[int][4]float64{}
	for _, v := range old.Views {
		oldTurn[v.Frame] = v.Turn
	}
	for i := range anew.Views {
		v := &anew.Views[i]
		if q, known := oldTurn[v.Frame]; known {
			a, b := camera.OfQuaternion(v.Turn), camera.OfQuaternion(q)
			for _, axis := range []camera.Vec{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}} {
				turns, ups = append(turns, a.Apply(axis)), append(ups, b.Apply(axis))
			}
		}
	}
	r, ok := camera.TurnOf(turns, ups)
	if !ok {
		return nil, false
	}
	var a, b camera.Vec
	for i := range from {
		a, b = a.Add(from[i].Mul(1/float64(len(from)))), b.Add(to[i].Mul(1/float64(len(to))))
	}
	s.R = r
	s.T = b.Sub(r.Apply(a).Mul(s.Scale))
	unit := ""
	if world != nil {
		unit = world.Unit
	}
	return treatment.WorldOf(s.Then(world.Similarity()), unit), true
}

const stretchCells = 10 // of a card, along each side, of which it is told whether they are stretched

// Stretched returns the parts of a card, as they are seen on frame to, on which what is painted on frame from is stretched more than
// twofold in some direction, or which that frame does not show: beyond its picture, or from behind. Each has four corners.
func (s *Space) Stretched(card *treatment.Card, from, to int) (out [][]geom.Point) {
	a, ok1 := s.Views[from]
	b, ok2 := s.Views[to]
	if !ok1 || !ok2 || from == to {
		return nil
	}
	c := card.Corners()
	at := func(u, v float64) camera.Vec {
		return c[0].Add(c[1].Sub(c[0]).Mul(u)).Add(c[3].Sub(c[0]).Mul(v))
	}
	facing := c[1].Sub(c[0]).Cross(c[0].Sub(c[3]))
	size := s.doc.Lens.Size
	for j := range stretchCells {
		for i := range stretchCells {
			u, v := float64(i)/stretchCells, float64(j)/stretchCells
			const d = 1.0 / stretchCells
			var there []geom.Point
			seen := true
			for _, k := range [][2]float64{{u, v}, {u + d, v}, {u + d, v + d}, {u, v + d}} {
				p, ok := b.Project(&s.Lens, at(k[0], k[1]))
				seen = seen && ok
				there = append(there, p)
			}
			if !seen {
				continue
			}
			middle := at(u+d/2, v+d/2)
			p, ok := a.Project(&s.Lens, middle)
			within := ok && p.X >= 0 && p.Y >= 0 && p.X <= float64(size[0]) && p.Y <= float64(size[1])
			before := a.Pose.Eye()
			if within && before.Sub(middle).Dot(facing) > 0 {
				// How a small step on the card is seen on both.
				step := func(w *camera.View) (m [4]float64, ok bool) {
					o, ok0 := w.Project(&s.Lens, middle)
					x, ok1 := w.Project(&s.Lens, at(u+d/2+1e-4, v+d/2))
					y, ok2 := w.Project(&s.Lens, at(u+d/2, v+d/2+1e-4))
					return [4]float64{x.X - o.X, y.X - o.X, x.Y - o.Y, y.Y - o.Y}, ok0 && ok1 && ok2
				}
				m, ok1 := step(&a)
				n, ok2 := step(&b)
				if det := m[0]*m[3] - m[1]*m[2]; ok1 && ok2 && det != 0 {
					j := [4]float64{
						(n[0]*m[3] - n[1]*m[2]) / det, (n[1]*m[0] - n[0]*m[1]) / det,
						(n[2]*m[3] - n[3]*m[2]) / det, (n[3]*m[0] - n[2]*m[1]) / det,
					}
					// The larger singular value.
					sum, d := j[0]*j[0]+j[1]*j[1]+j[2]*j[2]+j[3]*j[3], j[0]*j[3]-j[1]*j[2]
					if math.Sqrt((sum+math.Sqrt(math.Max(sum*sum-4*d*d, 0)))/2) <= 2 {
						continue
					}
				}
			}
			out = append(out, there)
		}
	}
	return out
}
