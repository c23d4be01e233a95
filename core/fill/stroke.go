package fill

import (
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A Mode is what a stroke does.
type Mode string

const (
	Clone  Mode = "clone"  // copies pixels from elsewhere
	Heal   Mode = "heal"   // texture from elsewhere, light and colour of the place
	Erase  Mode = "erase"  // takes paint away
	Colour Mode = "colour" // lays a plain colour
	Soften Mode = "soften" // blurs what is there
	Smear  Mode = "smear"  // drags what is there along
	Lift   Mode = "lift"   // more light
	Lower  Mode = "lower"  // less light
)

// Modes lists every mode in the order it is offered.
var Modes = []Mode{Clone, Heal, Erase, Colour, Soften, Smear, Lift, Lower}

// Copies reports whether the mode takes pixels from elsewhere.
func (m Mode) Copies() bool { return m == Clone || m == Heal }

// A Stroke says how a brush paints.
type Stroke struct {
	Mode      Mode
	Size      float64 // diameter, pixels
	Hardness  float64 // share of the radius that is fully covered, 0 to 1
	Opacity   float64 // of the stroke as a whole, 0 to 1
	Flow      float64 // by how much of what is missing each dab goes on towards its coverage, 0 to 1
	Spacing   float64 // between dabs, as a share of the size; 0 for a tenth
	Roundness float64 // short over long axis, 0 to 1; 0 counts as 1
	Angle     float64 // of the long axis, degrees, clockwise on the screen
	Jitter    float64 // how far dabs may lie beside the path, as a share of the size
	Seed      uint64  // of the jitter
	Pen       Pen
	Channels  [3]bool    // that are changed; none means all
	Colour    [3]float32 // of mode colour, linear light
	Amount    float64    // soften: sigma in pixels; smear: share dragged along, 0 to 1; lift and lower: stops
	From      Origin
	Heal      Healing // of mode heal
}

// Pen says what follows the pressure; with Shape, a dab gets as long and narrow as the pen leans,
// along where it leans to.
type Pen struct{ Size, Opacity, Flow, Shape bool }

// An Origin is where copied pixels come from.
type Origin struct {
	Shift   geom.Point                  // from the painted to the copied pixel
	Map     func(geom.Point) geom.Point // in place of a shift, where that is not enough
	Picture *raster.Image               // another picture, such as a frame on loan; nil for the canvas itself
	Plain   bool                        // only the untouched plate is copied, no paint
}

// at returns where the pixels painted at p come from.
func (o *Origin) at(p geom.Point) geom.Point {
	if o.Map != nil {
		return o.Map(p)
	}
	return p.Add(o.Shift)
}

// whole returns the shift if it is one of whole pixels: such a copy is exact.
func (o *Origin) whole() (dx, dy int, ok bool) {
	s := o.Shift
	return int(s.X), int(s.Y), o.Map == nil && s.X == math.Trunc(s.X) && s.Y == math.Trunc(s.Y)
}

// Profile returns the coverage of a dab of radius r at distance d from its
// middle: 1 up to the hard share of the radius, then a smoothstep to 0 at r. A
// hard edge is anti-aliased over one pixel.
func Profile(d, radius, hardness float64) float64 { return profile(d, radius, hardness, 1) }

// profile is Profile where d grows by slope in a pixel, as in a flattened dab.
func profile(d, radius, hardness, slope float64) float64 {
	edge := min(max((radius-d)/slope+0.5, 0), 1)
	if hardness >= 1 || d <= hardness*radius {
		return edge
	}
	u := min(max((radius-d)/(radius*(1-hardness)), 0), 1)
	return min(edge, u*u*(3-2*u))
}
