// Package fill makes clean pixels: here by paint strokes on the reference frame.
//
// Paint lies on a transparent layer over the untouched plate. The layer is what
// a track later carries to other frames; where nothing was painted it stays
// transparent, and the plate shows.
package fill

import (
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A Stroke copies pixels from a constant offset along a line.
type Stroke struct {
	Size     float64    // diameter at full pressure, pixels
	Hardness float64    // share of the radius that is fully covered, 0 to 1
	Opacity  float64    // 0 to 1, for the stroke as a whole
	Offset   geom.Point // from the painted to the copied pixel
}

// A Touch is one place of the brush on its way.
type Touch struct {
	geom.Point
	Pressure float64 // 0 to 1, scales the size
}

// A Canvas is a reference frame with the paint on it.
type Canvas struct {
	plate   *raster.Image
	layer   *raster.Image   // the paint, the size of the plate
	painted image.Rectangle // what the paint has touched
}

// NewCanvas returns a canvas without paint. The plate is only read.
func NewCanvas(plate *raster.Image) *Canvas {
	return &Canvas{plate: plate, layer: raster.NewImage(plate.Rect)}
}

// Layer returns a copy of the paint, cut to what was touched.
func (c *Canvas) Layer() *raster.Image { return c.layer.Crop(c.painted) }

// View returns the paint in r, without a copy of the rest.
func (c *Canvas) View(r image.Rectangle) *raster.Image { return c.layer.Crop(r) }

// Load puts a layer made earlier back onto an empty canvas.
func (c *Canvas) Load(layer *raster.Image) {
	r := layer.Rect.Intersect(c.plate.Rect)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		copy(c.layer.Row(y, r.Min.X, r.Max.X), layer.Row(y, r.Min.X, r.Max.X))
	}
	c.painted = r
}

// Paint lays a whole stroke.
func (c *Canvas) Paint(s Stroke, path []Touch) {
	if len(path) == 0 {
		return
	}
	points := make([]geom.Point, len(path))
	for i, t := range path {
		points[i] = t.Point
	}
	reach := raster.Around(geom.Bounds(points), s.Size/2+2, c.plate.Rect)
	b := c.begin(s, reach)
	b.Move(path)
}

// Begin starts a stroke whose path is not known yet.
func (c *Canvas) Begin(s Stroke) *Brush { return c.begin(s, c.plate.Rect) }

func (c *Canvas) begin(s Stroke, reach image.Rectangle) *Brush {
	return &Brush{
		canvas: c, stroke: s,
		cover:  raster.NewPlane(reach),
		before: c.layer.Crop(reach),
		source: c.sourceFor(s, reach),
	}
}

// sourceFor returns the pixels that a stroke may copy: the plate under the
// paint as it stood before the stroke, so that a stroke never copies itself.
func (c *Canvas) sourceFor(s Stroke, reach image.Rectangle) *raster.Image {
	shift := image.Pt(int(math.Floor(s.Offset.X)), int(math.Floor(s.Offset.Y)))
	r := reach.Add(shift).Inset(-3).Intersect(c.plate.Rect)
	out := c.plate.Crop(r)
	both := r.Intersect(c.painted)
	for y := both.Min.Y; y < both.Max.Y; y++ {
		over(out.Row(y, both.Min.X, both.Max.X), c.layer.Row(y, both.Min.X, both.Max.X))
	}
	return out
}

// over lays premultiplied src over dst.
func over(dst, src []float32) {
	for i := 0; i < len(dst); i += 4 {
		if rest := 1 - src[i+3]; rest != 1 {
			for k := range 4 {
				dst[i+k] = src[i+k] + dst[i+k]*rest
			}
		}
	}
}

// A Brush is a stroke being painted. It must be the only one on its canvas.
type Brush struct {
	canvas *Canvas
	stroke Stroke
	cover  *raster.Plane // the greatest coverage of any dab so far
	before *raster.Image // the layer as it was
	source *raster.Image
	last   Touch
	begun  bool
	left   float64 // distance to the next dab
}

// spacing is the distance between dabs as a share of the size. A hard dab's
// edge then waves by less than 0.5 % of its radius: s^2 / 8r for s = 0.2 r.
const spacing = 0.1

// Move goes on along the path and returns the pixels that changed. Dabs are laid
// by distance, not by event, so that neither the speed of the hand nor the rate
// of events changes the stroke.
func (b *Brush) Move(path []Touch) image.Rectangle {
	var dirty image.Rectangle
	for _, t := range path {
		if !b.begun {
			b.begun = true
			dirty = dirty.Union(b.dab(t))
			b.left = b.step(t)
			b.last = t
			continue
		}
		length := t.Dist(b.last.Point)
		for b.left <= length {
			k := b.left / length
			at := Touch{b.last.Lerp(t.Point, k), b.last.Pressure + (t.Pressure-b.last.Pressure)*k}
			dirty = dirty.Union(b.dab(at))
			b.left += b.step(at)
		}
		b.left -= length
		b.last = t
	}
	b.blend(dirty)
	b.canvas.painted = b.canvas.painted.Union(dirty)
	return dirty
}

func (b *Brush) radius(t Touch) float64 { return math.Max(b.stroke.Size*t.Pressure, 1) / 2 }
func (b *Brush) step(t Touch) float64   { return math.Max(2*b.radius(t)*spacing, 0.5) }

// Profile returns the coverage of a dab of radius r at distance d from its
// middle: 1 up to the hard share of the radius, then a smoothstep to 0 at r. A
// hard edge is anti-aliased over one pixel.
func Profile(d, r, hardness float64) float64 {
	edge := math.Min(math.Max(r-d+0.5, 0), 1)
	if hardness >= 1 || d <= hardness*r {
		return edge
	}
	u := math.Min(math.Max((r-d)/(r*(1-hardness)), 0), 1)
	return math.Min(edge, u*u*(3-2*u))
}

func (b *Brush) dab(t Touch) image.Rectangle {
	r := b.radius(t)
	area := raster.Around(geom.Box{Min: t.Point, Max: t.Point}, r+1, b.cover.Rect)
	for y := area.Min.Y; y < area.Max.Y; y++ {
		row := b.cover.Row(y, area.Min.X, area.Max.X)
		for i := range row {
			d := t.Dist(geom.Pt(float64(area.Min.X+i)+0.5, float64(y)+0.5))
			if d < r+0.5 {
				row[i] = max(row[i], float32(Profile(d, r, b.stroke.Hardness)))
			}
		}
	}
	return area
}

// blend works the layer out anew in r from the layer before, the source and the
// coverage.
func (b *Brush) blend(r image.Rectangle) {
	shift := b.stroke.Offset
	whole := shift.X == math.Trunc(shift.X) && shift.Y == math.Trunc(shift.Y)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		cover := b.cover.Row(y, r.Min.X, r.Max.X)
		dst := b.canvas.layer.Row(y, r.Min.X, r.Max.X)
		before := b.before.Row(y, r.Min.X, r.Max.X)
		for i, c := range cover {
			a := c * float32(b.stroke.Opacity)
			if a == 0 {
				continue
			}
			x := r.Min.X + i
			var v [4]float32
			if whole {
				if q := image.Pt(x+int(shift.X), y+int(shift.Y)); q.In(b.source.Rect) {
					v = b.source.At(q.X, q.Y)
				}
			} else {
				v = b.source.Bicubic(float64(x)+0.5+shift.X, float64(y)+0.5+shift.Y)
			}
			for k := range 4 {
				dst[4*i+k] = v[k]*a + before[4*i+k]*(1-a*v[3])
			}
		}
	}
}
