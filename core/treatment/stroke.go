package treatment

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"jardin/core/geom"
)

// Modes of strokes.
var strokeModes = []string{"clone", "heal", "erase", "colour", "soften", "smear", "lift", "lower"}

// What can follow the pen.
var penFollows = []string{"size", "opacity", "flow", "shape"}

// A Stroke is a line of paint, or an area that is painted as one.
type Stroke struct {
	ID        string      `json:"id" doc:"Unique within the removal"`
	Name      string      `json:"name,omitempty" maxLength:"120"`
	Mode      string      `json:"mode" enum:"clone,heal,erase,colour,soften,smear,lift,lower"`
	Off       bool        `json:"off,omitempty"`
	Home      int         `json:"home" doc:"Frame on which it was made; on a plate that plate's"`
	Range     *Range      `json:"range,omitempty" doc:"Frames on which it is there; left out all of its source's"`
	Ride      string      `json:"ride,omitempty" doc:"Track that carries it; left out the removal's own; still keeps it in place on the screen"`
	Size      float64     `json:"size" minimum:"1" maximum:"2000" doc:"Diameter in pixels"`
	Hardness  float64     `json:"hardness" minimum:"0" maximum:"1" doc:"Share of the radius that is fully covered"`
	Opacity   float64     `json:"opacity" minimum:"0" maximum:"1" doc:"Of the stroke as a whole"`
	Flow      *float64    `json:"flow,omitempty" minimum:"0.01" maximum:"1" doc:"Share of its coverage that each dab adds; 1 where left out"`
	Spacing   float64     `json:"spacing,omitempty" minimum:"0" maximum:"5" doc:"Between dabs, as a share of the size; 0.1 where left out"`
	Roundness float64     `json:"roundness,omitempty" minimum:"0" maximum:"1" doc:"Short over long axis; 1 where left out"`
	Angle     float64     `json:"angle,omitempty" minimum:"-360" maximum:"360" doc:"Of the long axis, degrees, clockwise on the screen"`
	Jitter    float64     `json:"jitter,omitempty" minimum:"0" maximum:"5" doc:"How far dabs stray from the path, as a share of the size"`
	Pen       []string    `json:"pen,omitempty" enum:"size,opacity,flow,shape" doc:"What follows the pressure; shape follows how the pen leans"`
	Channels  string      `json:"channels,omitempty" pattern:"^r?g?b?$" doc:"That are painted; left out all"`
	Colour    *[3]float64 `json:"colour,omitempty" doc:"Of a plain colour: red, green, blue in linear light"`
	Amount    float64     `json:"amount,omitempty" minimum:"0" maximum:"200" doc:"Soften: sigma in pixels; smear: share dragged along; lift and lower: stops"`
	Texture   *float64    `json:"texture,omitempty" minimum:"0" maximum:"3" doc:"Of heal: contrast of the texture, as a share of what the light of its place makes of it; left out, its steps on the square root of light stay as they are"`
	Light     *float64    `json:"light,omitempty" minimum:"0" maximum:"1" doc:"Of heal: how much of the light of its place it takes on; left out all"`
	From      *From       `json:"from,omitempty" doc:"Of clone and heal: where pixels come from"`
	Path      *Path       `json:"path,omitempty" doc:"Where the brush went"`
	Area      *Area       `json:"area,omitempty" doc:"In place of a path: all inside an outline"`
}

// From says where a stroke's pixels come from: the pixel painted at p is taken
// from middle + offset + turned, scaled and mirrored (p - middle).
type From struct {
	Offset Vec     `json:"offset" doc:"From the painted pixel to the pixel that is taken"`
	Turn   float64 `json:"turn,omitempty" minimum:"-3600" maximum:"3600" doc:"Degrees, clockwise on the screen"`
	Scale  float64 `json:"scale,omitempty" minimum:"0" maximum:"100" doc:"1 where left out"`
	Mirror bool    `json:"mirror,omitempty" doc:"Left for right, before it is turned"`
	Middle *Vec    `json:"middle,omitempty" doc:"Left out, where the stroke begins"`
	Frame  *int    `json:"frame,omitempty" doc:"Frame that lends its plate, brought into place by the track; left out the frame that is painted on"`
	Plain  bool    `json:"plain,omitempty" doc:"Only the untouched plate is taken, nothing painted"`
	Crisp  bool    `json:"crisp,omitempty" doc:"Only whole pixels, which keeps grain as it is"`
}

// An Area is painted as one: a closed curve with a soft edge.
type Area struct {
	Points  []Knot  `json:"points" nullable:"false" minItems:"3"`
	Feather float64 `json:"feather,omitempty" minimum:"0" maximum:"500" doc:"Width in pixels over which coverage falls to 0, half of it inside the edge"`
}

// A Path is where the brush went: in place as points, or as the SHA-256 of an
// artifact that holds them.
type Path struct {
	Artifact string      `json:"artifact,omitempty" pattern:"^[0-9a-f]{64}$"`
	Points   [][]float64 `json:"points,omitempty" doc:"Each x, y, or x, y, pressure (0 to 1), or beside these where the pen leans to, two numbers from -1 to 1, 1 for lying flat"`
	Shift    *Vec        `json:"shift,omitempty" doc:"Added to every point"`
}

// Valid checks one stroke by itself.
func (s *Stroke) Valid() error {
	within := func(name string, v, low, high float64, unit string) error {
		if !(v >= low && v <= high) {
			return fmt.Errorf("%s %v is not within %v to %v%s", name, v, low, high, unit)
		}
		return nil
	}
	faults := []error{
		within(
			"size",
			s.Size,
			1,
			2000,
			" pixels",
		), within("hardness", s.Hardness, 0, 1, ""), within("opacity", s.Opacity, 0, 1, ""),
		within(
			"spacing",
			s.Spacing,
			0,
			5,
			"",
		), within("roundness", s.Roundness, 0, 1, ""), within("angle", s.Angle, -360, 360, " degrees"),
		within("jitter", s.Jitter, 0, 5, ""), within("amount", s.Amount, 0, 200, ""),
	}
	if s.Flow != nil {
		faults = append(faults, within("flow", *s.Flow, 0.01, 1, ""))
	}
	if s.Texture != nil {
		faults = append(faults, within("texture", *s.Texture, 0, 3, ""))
	}
	if s.Light != nil {
		faults = append(faults, within("light", *s.Light, 0, 1, ""))
	}
	if s.Colour != nil {
		for _, v := range s.Colour {
			faults = append(faults, within("colour", v, 0, 1000, ""))
		}
	}
	if s.Mode == "lift" || s.Mode == "lower" {
		faults = append(faults, within("amount", s.Amount, 0, 20, " stops"))
	}
	if err := errors.Join(faults...); err != nil {
		return err
	}
	for _, p := range s.Pen {
		if !slices.Contains(penFollows, p) {
			return fmt.Errorf("%q is nothing that can follow the pen; choose of %v", p, penFollows)
		}
	}
	copies := s.Mode == "clone" || s.Mode == "heal"
	switch {
	case len(s.Name) > 200:
		return errors.New("a name has 200 characters at most")
	case !slices.Contains(strokeModes, s.Mode):
		return fmt.Errorf("mode %q is not known; choose one of %v", s.Mode, strokeModes)
	case copies && s.From == nil:
		return fmt.Errorf("a stroke of mode %s needs from: where its pixels come from", s.Mode)
	case s.Mode == "colour" && s.Colour == nil:
		return errors.New("a stroke of mode colour needs a colour")
	case s.Path == nil && s.Area == nil:
		return errors.New("it has neither a path nor an area")
	case s.Area != nil && len(s.Area.Points) > MostKnots:
		return fmt.Errorf("an area has %d points at most", MostKnots)
	case s.Area != nil && (len(s.Area.Points) < 3 || !(s.Area.Feather >= 0 && s.Area.Feather <= 500)):
		return errors.New("an area needs 3 points or more, and a feather of 0 to 500 pixels")
	}
	if o := s.From; o != nil {
		switch {
		case !reachable(o.Offset.Point()) || (o.Middle != nil && !reachable(o.Middle.Point())):
			return errors.New("its offset leads too far away")
		case !(math.Abs(o.Turn) <= 3600) || !(o.Scale == 0 || (o.Scale >= 0.01 && o.Scale <= 100)):
			return errors.New("its pixels are turned by up to 3600 degrees and scaled by 0.01 to 100")
		}
	}
	if p := s.Path; p != nil {
		switch {
		case p.Shift != nil && !reachable(p.Shift.Point()):
			return errors.New("its shift leads too far away")
		case p.Artifact == "" && len(p.Points) == 0:
			return errors.New("its path has neither points nor an artifact")
		}
		return ValidPath(p.Points)
	}
	return nil
}

// ValidPath checks the points of a stroke.
func ValidPath(points [][]float64) error {
	if len(points) > MostTouches {
		return fmt.Errorf("there are %d points in the stroke; %d at most", len(points), MostTouches)
	}
	for i, p := range points {
		if len(p) != 2 && len(p) != 3 && len(p) != 5 {
			return fmt.Errorf("point %d has %d numbers; give x, y or x, y, pressure, or beside these two for how the pen leans", i, len(p))
		}
		if !reachable(geom.Pt(p[0], p[1])) {
			return fmt.Errorf("point %d lies too far away to be a place on a picture", i)
		}
		if len(p) == 5 && !(math.Abs(p[3]) <= 1 && math.Abs(p[4]) <= 1) {
			return fmt.Errorf("point %d: the pen leans by -1 to 1", i)
		}
		if len(p) > 2 && !(p[2] >= 0 && p[2] <= 1) {
			return fmt.Errorf("point %d: pressure %v is not within 0 to 1", i, p[2])
		}
	}
	return nil
}

func reachable(p geom.Point) bool { return math.Abs(p.X) <= 1e5 && math.Abs(p.Y) <= 1e5 }

func (c *checker) stroke(place string, s *Stroke, in *Source, ids func(place, id string)) {
	ids(place, s.ID)
	if err := s.Valid(); err != nil {
		c.fault(place, "%v", err)
	}
	c.frame(place+"/home", s.Home)
	if frame, fixed := in.PaintedAt(); fixed && s.Home != frame {
		c.fault(place+"/home", "the plate is of frame %d, the stroke was made on %d", frame, s.Home)
	}
	if s.Range != nil {
		c.span(place+"/range", *s.Range)
	}
	if s.Ride != "" && s.Ride != Still && c.doc.Track(s.Ride) == nil {
		c.fault(place+"/ride", "there is no track %q", s.Ride)
	}
	if s.From != nil && s.From.Frame != nil {
		c.frame(place+"/from/frame", *s.From.Frame)
	}
	if s.Area != nil {
		c.knots(place+"/area/points", s.Area.Points)
	}
}
