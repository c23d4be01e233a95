// Package fill makes clean pixels with a brush: strokes that copy, heal, erase,
// colour, soften, smear, lift or lower.
//
// Paint lies on a transparent layer over a frame. The layer is what a track later
// carries to other frames; where nothing was painted it stays transparent, and
// the plate shows. All arithmetic is in linear light.
package fill

import (
	"image"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A Canvas is a frame with paint on it.
type Canvas struct {
	plate   *raster.Image // the untouched frame
	base    *raster.Image // what lies under the paint: the plate, or the plate with other fills on it
	layer   *raster.Image // the paint, the size of the plate
	share   *raster.Image // a second layer that takes only some of the strokes
	sharing bool
	painted image.Rectangle // what the paint has touched
}

// NewCanvas returns a canvas without paint. The plate is only read.
func NewCanvas(plate *raster.Image) *Canvas {
	return &Canvas{plate: plate, base: plate, layer: raster.NewImage(plate.Rect)}
}

// Over lays other fills between the plate and the paint. They are only read.
func (c *Canvas) Over(below *raster.Image) {
	base := c.plate.Crop(c.plate.Rect)
	base.Over(below)
	c.base = base
}

// Layer returns a copy of the paint, with what it was grounded with, cut to what was touched.
func (c *Canvas) Layer() *raster.Image { return c.layer.Crop(c.painted) }

// View returns the paint in r, without a copy of the rest.
func (c *Canvas) View(r image.Rectangle) *raster.Image { return c.layer.Crop(r) }

// Shown returns the frame with the paint on it in r.
func (c *Canvas) Shown(r image.Rectangle) *raster.Image {
	out := c.base.Crop(r)
	out.Over(c.layer)
	return out
}

// Ground puts what paint begins with onto an empty canvas, on its second layer as well if that is shared: none of it counts as painted.
func (c *Canvas) Ground(layer *raster.Image, shared bool) {
	c.layer.Paste(layer)
	if shared {
		c.share.Paste(layer)
	}
}

// Load puts a layer made earlier onto an empty canvas, or what it was grounded with.
func (c *Canvas) Load(layer *raster.Image) {
	c.layer.Paste(layer)
	c.painted = layer.Rect.Intersect(c.plate.Rect)
}

// Share says whether the strokes that follow lie on a second layer as well; they
// copy from all that was painted in either case.
func (c *Canvas) Share(on bool) {
	if c.share == nil {
		c.share = raster.NewImage(c.plate.Rect)
	}
	c.sharing = on
}

// LoadShared puts a layer made earlier onto the second one.
func (c *Canvas) LoadShared(layer *raster.Image) { c.share.Paste(layer) }

// Shared returns a copy of the second layer, cut to what was touched.
func (c *Canvas) Shared() *raster.Image { return c.share.Crop(c.painted) }

// Paint lays a whole stroke.
func (c *Canvas) Paint(s Stroke, path []Touch) {
	if len(path) == 0 {
		return
	}
	b := c.Begin(s)
	b.Move(path)
	b.End()
}

// Area lays a stroke through a coverage that was made elsewhere, such as an
// outline's, in place of a path.
func (c *Canvas) Area(s Stroke, cover *raster.Plane) {
	r := cover.Rect.Intersect(c.plate.Rect)
	if r.Empty() {
		return
	}
	b := c.Begin(s)
	b.reach(r)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		dst, src := b.cover.Row(y, r.Min.X, r.Max.X), cover.Row(y, r.Min.X, r.Max.X)
		for i, v := range src {
			dst[i] = v * float32(s.Opacity)
		}
	}
	b.all = r
	b.blend(r)
	b.End()
}

// Begin starts a stroke whose path is not known yet. It must be the only one on
// its canvas until it ends.
func (c *Canvas) Begin(s Stroke) *Brush {
	return &Brush{canvas: c, stroke: s, cover: raster.NewPlane(image.Rectangle{}), dice: s.Seed}
}

// A Touch is one place of the brush on its way.
type Touch struct {
	geom.Point
	Pressure float64 // 0 to 1
	// Lean is where the pen's upper end leans to, on the screen: as long as the share of a
	// right angle by which it leans, 0 to 1.
	Lean geom.Point
}

// toward returns the touch at a place, at the share k of the way to another.
func (t Touch) toward(u Touch, at geom.Point, k float64) Touch {
	return Touch{at, t.Pressure + (u.Pressure-t.Pressure)*k, t.Lean.Lerp(u.Lean, k)}
}
