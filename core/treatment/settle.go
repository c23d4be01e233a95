package treatment

import (
	"fmt"
	"math"

	"jardin/core/geom"
)

// Settle says what makes the patch sit. Light, softness and calmed frames concern
// what is held still: clean plates and pieces. A live neighbour and travelling paint
// bring the frame's own.
type Settle struct {
	Feather   float64    `json:"feather,omitempty" minimum:"0" maximum:"500" doc:"Added to the feather of every outline, pixels"`
	FeatherIn float64    `json:"featherIn,omitempty" minimum:"0" maximum:"500" doc:"Added to the feather inside every outline, pixels"`
	Grow      float64    `json:"grow,omitempty" minimum:"-500" maximum:"500" doc:"Moves every outline's edge outwards by so many pixels, or inwards"`
	Opacity   float64    `json:"opacity" minimum:"0" maximum:"1"`
	Dissolve  []ValueKey `json:"dissolve,omitempty" doc:"Times the opacity, by frame: the patch comes in and goes out"`
	Seam      float64    `json:"seam,omitempty" minimum:"0" maximum:"500" doc:"Blended seam: so many pixels inwards from the edge the patch takes on the colour of the plate around it"`
	Lay       string     `json:"lay,omitempty" enum:"normal,darken,lighten" doc:"normal where left out; darken lays the patch only where it is darker than the plate"`
	Light     *Light     `json:"light,omitempty"`
	Tones     []Tone     `json:"tones,omitempty" doc:"Applied in order"`
	Softness  *Softness  `json:"softness,omitempty"`
	Grain     *Grain     `json:"grain,omitempty"`
	Passed    []Range    `json:"passed,omitempty" doc:"Frames on which something else showed beside the patch when it was settled by itself, as long as nobody has said that it holds; it changes no pixel"`
}

// A ValueKey holds a number on a frame.
type ValueKey struct {
	Frame int     `json:"frame"`
	Ease  Ease    `json:"ease" enum:"eased,linear"`
	Value float64 `json:"value"`
}

// On returns what the keys say on frame n, or the plain value where there are none.
func On(keys []ValueKey, plain float64, n int) float64 {
	if len(keys) == 0 {
		return plain
	}
	all := make([]geom.Key, len(keys))
	for i, k := range keys {
		all[i] = geom.Key{Frame: k.Frame, Linear: k.Ease == Linear, Values: []float64{k.Value}}
	}
	return geom.Between(all, n)[0]
}

// How a patch is laid.
const (
	Normal  = "normal"
	Darken  = "darken"
	Lighten = "lighten"
)

// Shown returns the patch's opacity on frame n.
func (s *Settle) Shown(n int) float64 {
	return s.Opacity * math.Min(math.Max(On(s.Dissolve, 1, n), 0), 1)
}

// Light lets the patch follow the plate's light: a smooth field of gains that takes what is
// held around the hole to the plate there.
type Light struct {
	Off      bool       `json:"off,omitempty"`
	Scale    float64    `json:"scale" minimum:"4" maximum:"500" doc:"Width in pixels of the areas that are compared"`
	Strength float64    `json:"strength" minimum:"0" maximum:"2"`
	Keys     []ValueKey `json:"keys,omitempty" doc:"The strength by frame; they replace strength then"`
	Luma     bool       `json:"luma,omitempty" doc:"Brightness only; left out each channel by itself"`
	Over     int        `json:"over,omitempty" minimum:"0" maximum:"60" doc:"Frames before and after over which the light's shape is averaged"`
	Level    int        `json:"level,omitempty" minimum:"0" maximum:"60" doc:"Frames before and after over which its level is averaged; 0 lets the patch flicker with the plate"`
}

// Softness lets the patch go in and out of focus and smear with the move.
type Softness struct {
	Off     bool       `json:"off,omitempty"`
	Match   bool       `json:"match,omitempty" doc:"Blurred as much as the plate around it, measured on each frame"`
	Over    int        `json:"over,omitempty" minimum:"0" maximum:"60" doc:"Frames before and after over which the measure is averaged"`
	By      float64    `json:"by,omitempty" minimum:"0" maximum:"200" doc:"Sigma in pixels, by hand, besides what is measured"`
	Keys    []ValueKey `json:"keys,omitempty" doc:"By, by frame; they replace by then"`
	Shutter float64    `json:"shutter,omitempty" minimum:"0" maximum:"720" doc:"Degrees; the patch is smeared by the track's own motion; 0 leaves it"`
	Sharpen float64    `json:"sharpen,omitempty" minimum:"0" maximum:"5" doc:"Amount of an unsharp mask"`
	Radius  float64    `json:"radius,omitempty" minimum:"0" maximum:"50" doc:"Of the unsharp mask, sigma in pixels; 1 where left out"`
}

// Where laid grain comes from.
const (
	MadeGrain    = "made"    // synthesised after the measured model
	CarriedGrain = "carried" // the plate's own, from elsewhere on the same frame
)

// Grain takes the still grain out of what is held and lays moving grain on it.
type Grain struct {
	Off     bool        `json:"off,omitempty"`
	Denoise *Denoise    `json:"calm,omitempty" doc:"Takes the grain out of the frames that are painted on"`
	Kind    string      `json:"kind,omitempty" enum:"made,carried" doc:"Left out none is laid"`
	Amount  *[3]float64 `json:"amount,omitempty" doc:"Red, green, blue; 1 where left out"`
	Model   *GrainModel `json:"model,omitempty" doc:"Measured from the plate"`
	From    *Vec        `json:"from,omitempty" doc:"Of carried grain: from each pixel to the one whose grain is taken"`
}

// Denoise says how grain is taken out of a frame.
type Denoise struct {
	Strength [3]float64 `json:"strength" doc:"Red, green, blue, 0 to 1: the share of the grain that is taken out"`
	Over     int        `json:"over,omitempty" minimum:"0" maximum:"24" doc:"Frames before and after, brought into place by the track, that help; 0 for the frame alone"`
}

// A GrainModel is what a plate's grain is like.
type GrainModel struct {
	Light []float64    `json:"light" nullable:"false" doc:"Linear light, rising, at which the strength is given"`
	Sigma [3][]float64 `json:"sigma" doc:"By channel: standard deviation in linear light at each of light"`
	Share [3]float64   `json:"share" doc:"Correlation of red with green, red with blue, green with blue"`
	Lags  int          `json:"lags" minimum:"0" maximum:"12" doc:"Reach of shape in pixels"`
	Shape [3][]float64 `json:"shape" doc:"By channel: autocorrelation by rows, from (-lags, 0) to (lags, lags); 1 at (0, 0)"`
	Words string       `json:"words,omitempty" doc:"What was found, for people"`
}

// A Tone is a change of tone over time, for the whole patch or a part of it.
type Tone struct {
	ID    string    `json:"id" doc:"Unique within the removal"`
	Name  string    `json:"name"`
	Off   bool      `json:"off,omitempty"`
	Where []Shape   `json:"where,omitempty" doc:"Only inside these; left out everywhere"`
	Grade Grade     `json:"grade"`
	Keys  []ToneKey `json:"keys,omitempty" doc:"Grades by frame; they replace grade then"`
}

// A ToneKey holds a grade on a frame.
type ToneKey struct {
	Frame int   `json:"frame"`
	Ease  Ease  `json:"ease" enum:"eased,linear"`
	Grade Grade `json:"grade"`
}

// A Grade is an ASC CDL (version 1.2) on linear light with two conveniences that
// multiply its slope.
type Grade struct {
	Slope      [3]float64 `json:"slope"`
	Offset     [3]float64 `json:"offset"`
	Power      [3]float64 `json:"power"`
	Saturation float64    `json:"saturation" minimum:"0" maximum:"4"`
	Exposure   float64    `json:"exposure,omitempty" minimum:"-10" maximum:"10" doc:"Stops"`
	Warmth     float64    `json:"warmth,omitempty" minimum:"-4" maximum:"4" doc:"Stops that red gains on blue"`
	Green      float64    `json:"green,omitempty" minimum:"-4" maximum:"4" doc:"Stops that green gains on red and blue"`
}

// Plain is the grade that changes nothing.
var Plain = Grade{Slope: [3]float64{1, 1, 1}, Power: [3]float64{1, 1, 1}, Saturation: 1}

// Slopes returns the slope with exposure and balance worked into it.
func (g *Grade) Slopes() [3]float64 {
	k := math.Exp2(g.Exposure)
	return [3]float64{
		g.Slope[0] * k * math.Exp2(g.Warmth/2-g.Green/3),
		g.Slope[1] * k * math.Exp2(g.Green*2/3),
		g.Slope[2] * k * math.Exp2(-g.Warmth/2-g.Green/3),
	}
}

// On returns the tone's grade on frame n.
func (t *Tone) On(n int) Grade {
	if len(t.Keys) == 0 {
		return t.Grade
	}
	keys := make([]geom.Key, len(t.Keys))
	for i, k := range t.Keys {
		g := k.Grade
		keys[i] = geom.Key{Frame: k.Frame, Linear: k.Ease == Linear, Values: []float64{
			g.Slope[0], g.Slope[1], g.Slope[2], g.Offset[0], g.Offset[1], g.Offset[2], g.Power[0], g.Power[1],
			g.Power[2],
			g.Saturation, g.Exposure, g.Warmth, g.Green}}
	}
	v := geom.Between(keys, n)
	return Grade{[3]float64(v[0:3]), [3]float64(v[3:6]), [3]float64(v[6:9]), v[9], v[10], v[11], v[12]}
}

// settle finds the faults of a removal's settling.
func (c *checker) settle(at string, s *Settle) {
	c.within(at+"/opacity", s.Opacity, 0, 1, "")
	c.within(at+"/feather", s.Feather, 0, 500, " pixels")
	c.within(at+"/featherIn", s.FeatherIn, 0, 500, " pixels")
	c.within(at+"/grow", s.Grow, -500, 500, " pixels")
	c.within(at+"/seam", s.Seam, 0, 500, " pixels")
	c.values(at+"/dissolve", s.Dissolve, 0, 1)
	for i, span := range s.Passed {
		c.span(fmt.Sprintf("%s/passed/%d", at, i), span)
	}
	if s.Lay != "" && s.Lay != Normal && s.Lay != Darken && s.Lay != Lighten {
		c.fault(at+"/lay", "%q is not known; choose normal, darken or lighten", s.Lay)
	}
	if l := s.Light; l != nil {
		c.within(at+"/light/scale", l.Scale, 4, 500, " pixels")
		c.within(at+"/light/strength", l.Strength, 0, 2, "")
		c.values(at+"/light/keys", l.Keys, 0, 2)
		c.within(at+"/light/over", float64(l.Over), 0, 60, " frames")
		c.within(at+"/light/level", float64(l.Level), 0, 60, " frames")
	}
	if f := s.Softness; f != nil {
		c.within(at+"/softness/over", float64(f.Over), 0, 60, " frames")
		c.within(at+"/softness/by", f.By, 0, 200, " pixels")
		c.values(at+"/softness/keys", f.Keys, 0, 200)
		c.within(at+"/softness/shutter", f.Shutter, 0, 720, " degrees")
		c.within(at+"/softness/sharpen", f.Sharpen, 0, 5, "")
		c.within(at+"/softness/radius", f.Radius, 0, 50, " pixels")
	}
	own := c.ids()
	for i := range s.Tones {
		t, place := &s.Tones[i], fmt.Sprintf("%s/tones/%d", at, i)
		own(place, t.ID)
		c.shapes(place+"/where", t.Where)
		c.grade(place+"/grade", &t.Grade)
		c.ordered(place+"/keys", len(t.Keys), func(k int) int { return t.Keys[k].Frame })
		for k := range t.Keys {
			c.grade(fmt.Sprintf("%s/keys/%d/grade", place, k), &t.Keys[k].Grade)
		}
	}
	if s.Grain != nil {
		c.grain(at+"/grain", s.Grain)
	}
}

func (c *checker) values(place string, keys []ValueKey, low, high float64) {
	c.ordered(place, len(keys), func(i int) int { return keys[i].Frame })
	for i, k := range keys {
		c.within(fmt.Sprintf("%s/%d/value", place, i), k.Value, low, high, "")
	}
}

func (c *checker) grade(place string, g *Grade) {
	for i := range 3 {
		c.within(place+"/slope", g.Slope[i], 0, 100, "")
		c.within(place+"/offset", g.Offset[i], -10, 10, "")
		c.within(place+"/power", g.Power[i], 0.01, 100, "")
	}
	c.within(place+"/saturation", g.Saturation, 0, 4, "")
	c.within(place+"/exposure", g.Exposure, -10, 10, " stops")
	c.within(place+"/warmth", g.Warmth, -4, 4, " stops")
	c.within(place+"/green", g.Green, -4, 4, " stops")
}

func (c *checker) grain(at string, g *Grain) {
	if g.Kind != "" && g.Kind != MadeGrain && g.Kind != CarriedGrain {
		c.fault(at+"/kind", "%q is not known; choose made or carried", g.Kind)
	}
	if g.Kind != "" && g.Model == nil {
		c.fault(at+"/model", "grain is laid after a model; measure the plate's first")
	}
	if g.Kind == CarriedGrain && g.From == nil {
		c.fault(at+"/from", "carried grain needs an offset to where it is taken from")
	}
	if g.From != nil {
		c.places(at+"/from", []Vec{*g.From})
	}
	if g.Amount != nil {
		for _, v := range g.Amount {
			c.within(at+"/amount", v, 0, 4, "")
		}
	}
	if k := g.Denoise; k != nil {
		for _, v := range k.Strength {
			c.within(at+"/calm/strength", v, 0, 1, "")
		}
		c.within(at+"/calm/over", float64(k.Over), 0, 24, " frames")
	}
	if m := g.Model; m != nil {
		c.within(at+"/model/lags", float64(m.Lags), 0, 12, " pixels")
		for i := 1; i < len(m.Light); i++ {
			if !(m.Light[i] > m.Light[i-1]) {
				c.fault(at+"/model/light", "it must rise")
			}
		}
		for k := range 3 {
			if len(m.Light) == 0 || len(m.Sigma[k]) != len(m.Light) {
				c.fault(at+"/model/sigma", "it needs a number for each of light")
			}
			for _, v := range m.Sigma[k] {
				c.within(at+"/model/sigma", v, 0, 10, "")
			}
			if len(m.Shape[k]) != (2*m.Lags+1)*(m.Lags+1) {
				c.fault(at+"/model/shape", "for %d lags it needs %d numbers", m.Lags, (2*m.Lags+1)*(m.Lags+1))
			}
			for _, v := range m.Shape[k] {
				c.within(at+"/model/shape", v, -1, 1, "")
			}
			c.within(at+"/model/share", m.Share[k], -1, 1, "")
		}
	}
}
