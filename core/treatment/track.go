package treatment

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"math"
	"slices"

	"jardin/core/geom"
)

// Kinds of tracks.
const (
	PlaneTrack  = "plane"  // a region of a flat surface
	PointsTrack = "points" // small patterns, each by itself
	GivenTrack  = "given"  // brought in from elsewhere
	CardTrack   = "card"   // a rectangle in the space that the camera was found in
)

// TrackKinds lists them.
var TrackKinds = []string{PlaneTrack, PointsTrack, GivenTrack, CardTrack}

// A Track is the motion of one surface of the shot. What was measured is never
// changed by hand: dropped frames, frames placed by hand, smoothing and
// corrections are written beside it and take effect at once.
type Track struct {
	ID          string          `json:"id" doc:"Unique within the treatment"`
	Name        string          `json:"name"`
	Colour      string          `json:"colour,omitempty" pattern:"^#[0-9a-f]{6}$" doc:"Of its handles"`
	Kind        string          `json:"kind" enum:"plane,points,given,card"`
	Home        int             `json:"home" doc:"Frame on which the surface lies as it was drawn: the track is the identity there"`
	Motion      geom.Motion     `json:"motion" enum:"position,similarity,shear,perspective" doc:"The most that is used of what the surface does"`
	Range       *Range          `json:"range,omitempty" doc:"Frames on which it is followed; left out, the whole shot"`
	Over        string          `json:"over,omitempty" doc:"Another track: this one is measured in its locked picture and added to it"`
	Region      []Vec           `json:"region,omitempty" doc:"Of a plane: polygon on the home frame around a piece of the surface"`
	Regions     []FreshRegion   `json:"regions,omitempty" doc:"Of a plane: other pieces of the same surface, each followed from a frame of its own"`
	Exclusions  []Shape         `json:"exclusions,omitempty" doc:"Of a plane: what is left out; rides on nothing unless it names a track"`
	LeaveMarked bool            `json:"leaveMarked,omitempty" doc:"Of a plane: fronts, and what is marked for removal, are left out as well, but for what rides on this track"`
	Bends       *Bends          `json:"bends,omitempty" doc:"Of a plane: its surface bends, and is followed beyond what a plane does"`
	Points      []Point         `json:"points,omitempty" doc:"Of points"`
	Card        *Card           `json:"card,omitempty" doc:"Of a card: where it is; how it moves on the picture follows from the camera"`
	Straight    bool            `json:"straight,omitempty" doc:"Worked out in the picture that the lens is taken out of, and put back into; always, for a card"`
	Surface     []Vec           `json:"surface,omitempty" minItems:"4" maxItems:"4" doc:"Four corners on the home frame, clockwise: where a grid is laid, and where corrections by corners hold on"`
	Placed      []PlacedSurface `json:"placed,omitempty" doc:"Frames on which the surface was placed by hand"`
	Dropped     []Range         `json:"dropped,omitempty" doc:"Frames whose measurement is not used"`
	Smooth      float64         `json:"smooth,omitempty" minimum:"0" maximum:"50" doc:"Standard deviation in frames of a Gaussian over time"`
	Corrections []Correction    `json:"corrections,omitempty"`
	Data        *Data           `json:"data,omitempty" doc:"What was measured; left out as long as nothing is"`
}

// Data is the measured motion of a surface: in place as samples, or as the
// SHA-256 of an artifact that holds them.
type Data struct {
	Artifact string   `json:"artifact,omitempty" pattern:"^[0-9a-f]{64}$"`
	Basis    string   `json:"basis,omitempty" doc:"What it was measured from: the hash of region, exclusions, motion and home"`
	Samples  []Sample `json:"samples,omitempty"`
}

// A Sample is the surface's place on one frame.
type Sample struct {
	Frame    int             `json:"frame"`
	Matrix   geom.Homography `json:"matrix" doc:"By rows; takes home frame coordinates to this frame's"`
	Match    float64         `json:"match,omitempty" doc:"Normalised correlation of the region with the frame it was compared with, 0 to 1"`
	Agree    float64         `json:"agree,omitempty" doc:"Share of what is seen of the region that agrees with the motion, 0 to 1"`
	Residual float64         `json:"residual,omitempty" doc:"By how much parts of the region would still move by themselves, RMS, pixels"`
	// Deviation is of where the region's corners are.
	Deviation float64 `json:"deviation,omitempty" doc:"Standard deviation of where the region's corners are, as grain and texture let it be known, pixels"`
	Blocks    string  `json:"blocks,omitempty" doc:"8 x 8 parts of the region's box, by rows: 0 not seen, 1 drives the track, 2 left out"`
	Chained   bool    `json:"chained,omitempty" doc:"Compared with the last frame on which it was found, not with the frame it is followed from"`
	Refined   string  `json:"refined,omitempty" maxLength:"64" doc:"Found from where the surface was placed by hand: the hash of that placement"`
	Bend      *Bend   `json:"bend,omitempty" doc:"Of a surface that bends"`
	Moved     int     `json:"moved,omitempty" minimum:"0" maximum:"100000" doc:"How often the region has moved on to other texture of the same surface since the frame it is followed from"`
}

// Bends says how a surface bends, as skin and cloth do.
type Bends struct {
	Stiffness float64 `json:"stiffness" minimum:"0" maximum:"1" doc:"0, as supple as cloth, to 1, as firm as skin over bone"`
	Detail    float64 `json:"detail" minimum:"4" maximum:"64" doc:"Pixels within which it does not bend: cells of the lattice that it is followed by"`
	Along     string  `json:"along,omitempty" doc:"Another track that tells how the surface moves as a whole, where that is too much to be found by itself"`
	Homes     []int   `json:"homes,omitempty" maxItems:"6" doc:"Other frames on which it looks as it should: frames beyond are compared with how it looks there as well"`
	Around    bool    `json:"around,omitempty" doc:"Only what is around the outlines that mark what is removed from it, drawn on its home frame, is followed; beneath them the motion goes on from there"`
}

// A Bend is how a surface is bent on one frame: the shift of the crossings of a lattice over a box of the home frame, before the
// matrix, and how much what is seen around each is like there.
type Bend struct {
	Box     [4]float64 `json:"box" doc:"Left, top, right, bottom, on the home frame"`
	Columns int        `json:"columns" minimum:"1" maximum:"400"`
	Rows    int        `json:"rows" minimum:"1" maximum:"400"`
	Shift   []byte     `json:"shift" doc:"Base64: x and y of each crossing, by rows, 16-bit little-endian integers, 64 to a pixel"`
	Why     string     `json:"why,omitempty" enum:"covered,turned,faint,left" doc:"Why most of what is not like there is not: something else is seen; it is seen with less than 40 % of its width; it has less texture than grain; it is out of the picture"`
	Agree   []byte     `json:"agree" doc:"Base64: of each crossing, 1 to 255 for 0 to 1; 0 where it is out of the region"`
}

// Agrees is the agreement from which on a place of a surface that bends counts as found.
const Agrees = 0.62

const bendUnit = 64 // steps in a pixel

// NewBend returns a lattice as it is kept, with what agrees, 0 to 1, or less out of the region.
func NewBend(l *geom.Lattice, agree []float32) *Bend {
	b := &Bend{Box: [4]float64{l.Box.Min.X, l.Box.Min.Y, l.Box.Max.X, l.Box.Max.Y}, Columns: l.Columns, Rows: l.Rows}
	for _, d := range l.Shift {
		for _, v := range []float64{d.X, d.Y} {
			b.Shift = binary.LittleEndian.AppendUint16(b.Shift, uint16(int16(math.Round(min(max(v*bendUnit, -32768), 32767)))))
		}
	}
	for _, v := range agree {
		k := byte(0)
		if v >= 0 {
			k = byte(1 + math.Round(254*min(float64(v), 1)))
		}
		b.Agree = append(b.Agree, k)
	}
	return b
}

// Lattice returns the lattice; ok is false for one that holds too little.
func (b *Bend) Lattice() (l geom.Lattice, ok bool) {
	n := (b.Columns + 1) * (b.Rows + 1)
	if b.Columns < 1 || b.Rows < 1 || len(b.Shift) != 4*n || !(b.Box[2] > b.Box[0] && b.Box[3] > b.Box[1]) {
		return l, false
	}
	l = geom.Lattice{Box: geom.Box{Min: geom.Pt(b.Box[0], b.Box[1]), Max: geom.Pt(b.Box[2], b.Box[3])}, Columns: b.Columns, Rows: b.Rows,
		Shift: make([]geom.Point, n)}
	for i := range l.Shift {
		at := func(k int) float64 { return float64(int16(binary.LittleEndian.Uint16(b.Shift[4*i+k:]))) / bendUnit }
		l.Shift[i] = geom.Pt(at(0), at(2))
	}
	return l, true
}

// Agreement returns how each crossing agrees, 0 to 1; less than 0 out of the region.
func (b *Bend) Agreement() []float32 {
	out := make([]float32, len(b.Agree))
	for i, a := range b.Agree {
		out[i] = (float32(a) - 1) / 254
	}
	return out
}

// Bent reports whether the track's surface bends, followed here or brought in.
func (t *Track) Bent() bool {
	return t.Bends != nil || t.Data != nil && slices.ContainsFunc(t.Data.Samples, func(s Sample) bool { return s.Bend != nil })
}

// AgreementAt returns how much what is seen around a place of the home frame is like there, 0 to 1: between crossings, what lies
// between theirs; beyond the region, less than 0.
func (b *Bend) AgreementAt(p geom.Point) float64 {
	if len(b.Agree) != (b.Columns+1)*(b.Rows+1) {
		return -1
	}
	u, v := (p.X-b.Box[0])/(b.Box[2]-b.Box[0])*float64(b.Columns), (p.Y-b.Box[1])/(b.Box[3]-b.Box[1])*float64(b.Rows)
	if !(u >= 0 && v >= 0 && u <= float64(b.Columns) && v <= float64(b.Rows)) {
		return -1
	}
	i, j := min(int(u), b.Columns-1), min(int(v), b.Rows-1)
	fx, fy := u-float64(i), v-float64(j)
	var sum, weight float64
	for k, w := range [4]float64{(1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy} {
		if a := b.Agree[(j+k/2)*(b.Columns+1)+i+k%2]; a > 0 {
			sum, weight = sum+w*float64(a-1)/254, weight+w
		}
	}
	if weight == 0 {
		return -1
	}
	return sum / weight
}

// MixBends returns a bend between two, u from 0 to 1 of the way; nil where they do not fit together.
func MixBends(a, b *Bend, u float64) *Bend {
	if a == nil || b == nil {
		return nil
	}
	from, ok := a.Lattice()
	to, ok2 := b.Lattice()
	if !ok || !ok2 || from.Columns != to.Columns || from.Rows != to.Rows || from.Box != to.Box {
		return nil
	}
	for i := range from.Shift {
		from.Shift[i] = from.Shift[i].Lerp(to.Shift[i], u)
	}
	out := NewBend(&from, nil)
	if len(a.Agree) == len(b.Agree) {
		for i, v := range a.Agree {
			out.Agree = append(out.Agree, byte(math.Round(float64(v)+(float64(b.Agree[i])-float64(v))*u)))
		}
	}
	return out
}

// A FreshRegion is another piece of a plane's surface: what is followed from frames that lie nearer to its own than to the
// home, or to that of another.
type FreshRegion struct {
	Frame  int   `json:"frame"`
	Region []Vec `json:"region" nullable:"false" doc:"Polygon on the home frame, as the track carried it back when it was drawn"`
}

// RegionFor returns the polygon, on the home frame, that is followed from a frame, and whether that is a fresh one.
func (t *Track) RegionFor(frame int) (region []Vec, fresh bool) {
	region = t.Region
	least := max(frame-t.Home, t.Home-frame)
	for _, r := range t.Regions {
		if d := max(frame-r.Frame, r.Frame-frame); d < least {
			region, least, fresh = r.Region, d, true
		}
	}
	return region, fresh
}

// A PlacedSurface is where the corners of the surface were put by hand. As a first guess it gives way to what following from
// there finds; else it stays.
type PlacedSurface struct {
	Frame   int   `json:"frame"`
	Corners []Vec `json:"corners" minItems:"4" maxItems:"4"`
	Guess   bool  `json:"guess,omitempty" doc:"A first guess: where following finds the surface near there, that counts"`
}

// Basis returns the hash of a placement.
func (p *PlacedSurface) Basis() string { return basis(p.Frame, p.Corners) }

// A Point is a small pattern that is followed by itself.
type Point struct {
	ID        string        `json:"id" doc:"Unique within the track"`
	Name      string        `json:"name"`
	Off       bool          `json:"off,omitempty"`
	Home      int           `json:"home" doc:"Frame on which it was put"`
	At        Vec           `json:"at"`
	Pattern   Vec           `json:"pattern" doc:"Width and height of the box that is matched, pixels"`
	Search    Vec           `json:"search" doc:"Width and height of the box in which it is looked for, pixels"`
	Motion    geom.Motion   `json:"motion" enum:"position,similarity,shear" doc:"What the pattern may do"`
	Channel   string        `json:"channel" enum:"luma,red,green,blue,best" doc:"best: the one in which the pattern stands out most from the grain"`
	Against   string        `json:"against" enum:"reference,previous,refresh" doc:"What it is compared with: the frame it was put on, the frame before, or a pattern taken anew when the match falls under the tolerance"`
	Tolerance float64       `json:"tolerance" minimum:"0" maximum:"1" doc:"Match under which the pattern is taken anew, or else the point lost"`
	Use       Vec           `json:"use" doc:"From the place that is tracked to the place that is used"`
	Placed    []PlacedPoint `json:"placed,omitempty" doc:"Frames on which it was placed by hand"`
	Path      *PointPath    `json:"path,omitempty"`
}

// A PlacedPoint is where a point was put by hand.
type PlacedPoint struct {
	Frame int `json:"frame"`
	At    Vec `json:"at"`
}

// A PointPath is the measured path of a point: in place, or as an artifact.
type PointPath struct {
	Artifact string        `json:"artifact,omitempty" pattern:"^[0-9a-f]{64}$"`
	Basis    string        `json:"basis,omitempty"`
	Samples  []PointSample `json:"samples,omitempty"`
}

// Measured returns what was measured of the point, by frame.
func (p *Point) Measured() map[int]*PointSample {
	out := map[int]*PointSample{}
	if p.Path != nil {
		for i := range p.Path.Samples {
			out[p.Path.Samples[i].Frame] = &p.Path.Samples[i]
		}
	}
	return out
}

// A PointSample is a point's place on one frame.
type PointSample struct {
	Frame int     `json:"frame"`
	At    Vec     `json:"at"`
	Match float64 `json:"match,omitempty" doc:"Normalised correlation of the pattern, 0 to 1"`
	// Variance is that of the place as grain and texture let it be known.
	Variance  *[3]float64 `json:"variance,omitempty" doc:"How well the place is known: variance of x, of x with y, of y, square pixels"`
	Ambiguous bool        `json:"ambiguous,omitempty" doc:"Another place in the search box looks almost the same, and no other points say which it is"`
	Drift     *float64    `json:"drift,omitempty" minimum:"0" doc:"Of a point that is compared with newer frames: how far it is from where it looks as where it was put, pixels; left out where it does not look like that any more"`
}

// Kinds of corrections.
const (
	ByPlacement = "placement" // offset, rotation and scale
	ByCorners   = "corners"   // the four corners of the surface, each by itself
	ByGrid      = "grid"      // the crossings of a coarse grid over the surface's box
	ByPins      = "pins"      // places that were pinned, and what lies around them
)

// MostPins is how many pins a correction has at most.
const MostPins = 64

// A Correction moves a surface on top of its track, in the coordinates of the
// track's home frame.
type Correction struct {
	ID    string          `json:"id" doc:"Unique within the track"`
	Name  string          `json:"name"`
	Kind  string          `json:"kind" enum:"placement,corners,grid,pins"`
	Off   bool            `json:"off,omitempty"`
	Cells []int           `json:"cells,omitempty" minItems:"2" maxItems:"2" doc:"Of a grid: columns and rows"`
	Pins  []Vec           `json:"pins,omitempty" doc:"Of pins: where they are on the track's home frame"`
	Reach float64         `json:"reach,omitempty" minimum:"0" maximum:"10000" doc:"Of pins: how far around a pin it moves the surface, pixels; left out, half of the surface's shorter side"`
	Keys  []CorrectionKey `json:"keys" nullable:"false"`
}

// A CorrectionKey is a correction on a frame.
type CorrectionKey struct {
	Frame     int     `json:"frame"`
	Ease      Ease    `json:"ease" enum:"eased,linear"`
	Offset    Vec     `json:"offset" doc:"Of a placement, pixels"`
	Turn      float64 `json:"turn,omitempty" doc:"Of a placement: degrees around the surface's middle, clockwise on the screen"`
	Scale     float64 `json:"scale,omitempty" minimum:"0" maximum:"100" doc:"Of a placement, around the surface's middle; 0 or left out leaves the size"`
	Corners   []Vec   `json:"corners,omitempty" doc:"Of corners: how far each is moved, pixels"`
	Crossings []Vec   `json:"crossings,omitempty" doc:"Of a grid: how far each crossing is moved, by rows, pixels; of pins, how far each pin"`
}

// Frame returns the polygon that stands for the track's surface on its home
// frame: the surface's corners, or else the box around its region or points.
func (t *Track) Frame() []geom.Point {
	if len(t.Surface) == 4 {
		return Points(t.Surface)
	}
	around := Points(t.Region)
	for _, p := range t.Points {
		if p.Home == t.Home {
			around = append(around, p.At.Point())
		}
	}
	box := geom.Bounds(around)
	// A single point stands for the surface around it.
	if grow := 50 - (box.Max.X-box.Min.X)/2; grow > 0 {
		box.Min.X, box.Max.X = box.Min.X-grow, box.Max.X+grow
	}
	if grow := 50 - (box.Max.Y-box.Min.Y)/2; grow > 0 {
		box.Min.Y, box.Max.Y = box.Min.Y-grow, box.Max.Y+grow
	}
	c := box.Corners()
	return c[:]
}

// Basis returns the hash of all that a plane's samples depend on. Samples whose
// basis differs were measured before the region, an exclusion, the motion or
// the home was changed.
func (t *Track) Basis() string {
	exclusions := append([]Shape{}, t.Exclusions...)
	for i := range exclusions {
		exclusions[i].Name, exclusions[i].Colour = "", ""
	}
	parts := []any{t.Region, exclusions, t.Motion, t.Home, t.Over}
	if t.LeaveMarked {
		parts = append(parts, "leave what is marked")
	}
	if t.Bends != nil {
		parts = append(parts, "bends", *t.Bends)
	}
	if t.Straight {
		parts = append(parts, "straight")
	}
	return basis(parts...)
}

// Basis returns the hash of all that the point's path depends on.
func (p *Point) Basis() string {
	return basis(p.Home, p.At, p.Pattern, p.Search, p.Motion, p.Channel, p.Against, p.Tolerance)
}

// A MarkedShape is an outline of what is marked, or in front, and the track that carries it where it names none itself.
type MarkedShape struct {
	Shape *Shape
	Own   string
}

// LeftOut returns the shapes of what is marked and in front that a track may leave out: all that do not ride on it.
func (d *Document) LeftOut(track string) (out []MarkedShape) {
	add := func(shapes []Shape, own string) {
		for i := range shapes {
			s := &shapes[i]
			if !s.Invert && s.Ride != track && (s.Ride != "" || own != track) {
				out = append(out, MarkedShape{s, own})
			}
		}
	}
	for i := range d.Removals {
		r := &d.Removals[i]
		if r.Off {
			continue
		}
		add(r.Mark.Outlines, r.Follow.Track)
		if r.Guard == nil {
			continue
		}
		for k := range r.Guard.Fronts {
			if f := &r.Guard.Fronts[k]; !f.Off && f.By == ByOutline {
				add(f.Shapes, r.Follow.Track)
			}
		}
	}
	return out
}

// MarkedOn returns the outlines of what is marked on a surface, as they were drawn on its home frame.
func (d *Document) MarkedOn(t *Track) (out []*Shape) {
	for i := range d.Removals {
		r := &d.Removals[i]
		for k := range r.Mark.Outlines {
			s := &r.Mark.Outlines[k]
			if !r.Off && !s.Invert && s.Home == t.Home && (s.Ride == t.ID || s.Ride == "" && r.Follow.Track == t.ID) {
				out = append(out, s)
			}
		}
	}
	return out
}

// A MarkedPictures is what marks, or is in front, by supplied mattes, by the plate's alpha, or by a key.
type MarkedPictures struct {
	Alpha, Invert bool
	Grow          float64 // pixels
	Mattes        []FrontMatte
	Keyed         *Front // nil for none
	Own           string // the track that carries the key's outlines where they name none themselves
}

// LeftOutPictures returns the same of supplied mattes and of keys, but for a matte that marks what rides on the track itself, and a
// key whose outlines do.
func (d *Document) LeftOutPictures(track string) (out []MarkedPictures) {
	for i := range d.Removals {
		r := &d.Removals[i]
		if r.Off {
			continue
		}
		for k := range r.Mark.Mattes {
			if m := &r.Mark.Mattes[k]; r.Follow.Track != track && !m.Off && (m.Alpha || len(m.Mattes) > 0) {
				out = append(out, MarkedPictures{Alpha: m.Alpha, Invert: m.Invert, Grow: m.Grow, Mattes: m.Mattes})
			}
		}
		if r.Guard == nil {
			continue
		}
		for k := range r.Guard.Fronts {
			f := &r.Guard.Fronts[k]
			switch {
			case f.Off:
			case f.By == ByMatte:
				out = append(out, MarkedPictures{Grow: f.Grow, Mattes: f.Mattes})
			case (f.By == ByColour || f.By == ByBrightness) && !slices.ContainsFunc(f.Shapes, func(s Shape) bool { return s.Ride == track || s.Ride == "" && r.Follow.Track == track }):
				out = append(out, MarkedPictures{Grow: f.Grow, Keyed: f, Own: r.Follow.Track})
			}
		}
	}
	return out
}

// BasisOf returns the hash of all that a plane's samples depend on, what is left out of it elsewhere included.
func (d *Document) BasisOf(t *Track) string {
	around := t.Bends != nil && t.Bends.Around
	if !t.LeaveMarked && !around {
		return t.Basis()
	}
	parts := []any{t.Basis()}
	shape := func(s *Shape) Shape {
		plain := *s
		plain.Name, plain.Colour, plain.Keys = "", "", slices.Clone(s.Keys)
		for k := range plain.Keys {
			plain.Keys[k].Doubt = ""
		}
		return plain
	}
	if around {
		for _, s := range d.MarkedOn(t) {
			parts = append(parts, shape(s))
		}
	}
	if !t.LeaveMarked {
		return basis(parts...)
	}
	for _, m := range d.LeftOut(t.ID) {
		parts = append(parts, shape(m.Shape), m.Own)
	}
	for _, m := range d.LeftOutPictures(t.ID) {
		parts = append(parts, m.Alpha, m.Invert, m.Grow)
		if f := m.Keyed; f != nil {
			parts = append(parts, f.By, *f.Key, m.Own)
			for k := range f.Shapes {
				parts = append(parts, shape(&f.Shapes[k]))
			}
		}
		for k := range m.Mattes {
			parts = append(parts, m.Mattes[k].Frame, m.Mattes[k].Picture.sum())
		}
	}
	return basis(parts...)
}

// Stale reports whether something of a track was measured before what it depends on changed.
func (d *Document) Stale(t *Track) bool {
	if t.Data != nil && t.Data.Basis != "" && t.Data.Basis != d.BasisOf(t) {
		return true
	}
	for i := range t.Points {
		if p := t.Points[i].Path; p != nil && p.Basis != "" && p.Basis != t.Points[i].Basis() {
			return true
		}
	}
	return false
}

func basis(parts ...any) string {
	blob, _ := json.Marshal(parts) // plain data: nothing can fail
	sum := sha256.Sum256(blob)
	return hex.EncodeToString(sum[:8])
}
