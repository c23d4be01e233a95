package gather

import (
	"image"
	"math"

	"jardin/core/geom"
	"jardin/core/raster"
)

// Cell is the side of the squares of pixels over which light is averaged.
const Cell = 8

// Cells returns the squares that a part of a frame touches.
func Cells(rect image.Rectangle) image.Rectangle {
	if rect.Empty() {
		return image.Rectangle{}
	}
	floor := func(v int) int { return int(math.Floor(float64(v) / Cell)) }
	return image.Rect(floor(rect.Min.X), floor(rect.Min.Y), floor(rect.Max.X-1)+1, floor(rect.Max.Y-1)+1)
}

// ToPixels takes places among the cells to places of the frame.
var ToPixels = geom.Homography{Cell, 0, 0, 0, Cell, 0, 0, 0, 1}

// A Grid is a frame's light, cell by cell, and how fine its detail is.
type Grid struct {
	// Light is the mean of those pixels that show the surface, multiplied by their share of the
	// cell, which is alpha.
	Light *raster.Image
	// Detail is, in the first channel, the mean square difference of neighbouring squares of two by
	// two pixels, on the square root of light, where all of the cell shows the surface: alpha is 1
	// there, else 0.
	Detail *raster.Image
}

// NewGrid returns an empty one for a part of a frame.
func NewGrid(rect image.Rectangle) *Grid {
	cells := Cells(rect)
	return &Grid{raster.NewImage(cells), raster.NewImage(cells)}
}

// Bytes returns the memory that it takes.
func (g *Grid) Bytes() int { return g.Light.Bytes() + g.Detail.Bytes() }

// Add adds a part of a frame that holds whole lines of cells, and all of each cell that it
// holds anything of.
func (g *Grid) Add(part *raster.Image, isHidden func(x, y int) bool) {
	cells := Cells(part.Rect)
	raster.Rows(cells.Min.Y, cells.Max.Y, func(j int) {
		for i := cells.Min.X; i < cells.Max.X; i++ {
			g.add(i, j, part, isHidden)
		}
	})
}

func (g *Grid) add(i, j int, part *raster.Image, isHidden func(x, y int) bool) {
	const share, half = 1.0 / (Cell * Cell), Cell / 2
	var roots [half * half]float32
	to := g.Light.Row(j, i, i+1)
	open := 0
	square := image.Rect(Cell*i, Cell*j, Cell*(i+1), Cell*(j+1)).Intersect(part.Rect)
	for y := square.Min.Y; y < square.Max.Y; y++ {
		row := part.Row(y, square.Min.X, square.Max.X)
		for x := square.Min.X; x < square.Max.X; x++ {
			if isHidden(x, y) {
				continue
			}
			v := row[4*(x-square.Min.X):][:3]
			for c := range 3 {
				to[c] += share * max(v[c], 0)
			}
			to[3] += share
			open++
			roots[(y-Cell*j)/2*half+(x-Cell*i)/2] += rootOf([3]float32(v)) / 4
		}
	}
	if open < Cell*Cell {
		return
	}
	var sum float32
	for k, v := range roots {
		if k%half > 0 {
			sum += (v - roots[k-1]) * (v - roots[k-1])
		}
		if k >= half {
			sum += (v - roots[k-half]) * (v - roots[k-half])
		}
	}
	to = g.Detail.Row(j, i, i+1)
	to[0], to[3] = sum/(2*half*(half-1)), 1
}

// Sharpness returns how much of the detail of target, cell by cell, a frame has that was carried there:
// 1 for all of it, less for a frame that is out of focus or smeared by motion. noise is the
// grain's standard deviation, which is no detail. Where nothing can be compared it is 1.
func Sharpness(target, carried *raster.Image, noise float64) float64 {
	var here, there, n float64
	for i := 0; i < len(target.Pix); i += 4 {
		if target.Pix[i+3] > 0.99 && carried.Pix[i+3] > 0.99 {
			here, there, n = here+float64(target.Pix[i]), there+float64(carried.Pix[i]), n+1
		}
	}
	floor := n * noise * noise / 2 // two means of four
	if n < 4 || here < 1.5*floor || here == 0 {
		return 1
	}
	return math.Max(there-floor, 0) / (here - floor)
}

// A Gain is by how much a frame's light has to be multiplied to be that of another one, by
// channel, for each cell; between their middles it is bilinear.
type Gain struct {
	grid *raster.Image // RGB
}

// MeasureGain finds by how much the light of a frame has to be multiplied to be that of target,
// of both of which the same cells are given, the frame's carried there: the ratio of their low
// frequencies, where both count, as much as they do. scale is the standard deviation of
// the areas that are compared, in pixels. Where nothing near can be compared, wider and wider
// areas are (normalised convolution, Knutsson & Westin 1993), so that the ratio goes on under a
// hole from its rim; where nothing can be at all the gain is 1. It lies within 1/8 and 8.
func MeasureGain(target, frame *raster.Image, scale float64) *Gain {
	small := image.Rect(0, 0, target.Rect.Dx(), target.Rect.Dy())
	wanted, given := raster.NewImage(small), raster.NewImage(small)
	for i := 0; i < len(target.Pix); i += 4 {
		a, b := target.Pix[i+3], frame.Pix[i+3]
		if a <= 0 || b <= 0 {
			continue
		}
		for c := range 3 {
			wanted.Pix[i+c] = b * target.Pix[i+c]
			given.Pix[i+c] = a * max(frame.Pix[i+c], 0)
		}
		wanted.Pix[i+3], given.Pix[i+3] = a*b, a*b
	}
	grid := raster.NewImage(small)
	above, below := raster.NewImage(small), raster.NewImage(small)
	sigma := math.Max(scale/Cell, 0.5)
	for sigma > 3 { // as well on fewer, larger cells
		wanted, given, sigma = halved(wanted), halved(given), sigma/2
	}
	share := float32(1)
	for ; ; share /= 50 {
		addUpsampled(above, raster.GaussianImage(wanted, sigma), share)
		addUpsampled(below, raster.GaussianImage(given, sigma), share)
		if most := max(wanted.Rect.Dx(), wanted.Rect.Dy()); most == 1 || sigma > float64(most) {
			break
		}
		wanted, given = halved(wanted), halved(given) // the same sigma is twice as wide there
	}
	for i := 0; i < len(grid.Pix); i += 4 {
		for c := range 3 {
			grid.Pix[i+c] = 1
			if below.Pix[i+3] > 0 && below.Pix[i+c] > 0 && above.Pix[i+c] > 0 {
				grid.Pix[i+c] = min(max(above.Pix[i+c]/below.Pix[i+c], 1.0/8), 8)
			}
		}
		grid.Pix[i+3] = 1
	}
	grid.Rect = target.Rect
	return &Gain{grid}
}

// Row writes the gain of the pixels from x0 to x1 of a line, by channel: between the middles of cells, bilinearly.
func (g *Gain) Row(y, x0, x1 int, into []float32) {
	r := g.grid.Rect
	node := func(v, low, high int) (int, int, float32) {
		u := (float64(v)+0.5)/Cell - 0.5
		i := int(math.Floor(u))
		return min(max(i, low), high-1), min(max(i+1, low), high-1), float32(u - float64(i))
	}
	j0, j1, v := node(y, r.Min.Y, r.Max.Y)
	first, _, _ := node(x0, r.Min.X, r.Max.X)
	_, last, _ := node(x1-1, r.Min.X, r.Max.X)
	top, bottom := g.grid.Row(j0, first, last+1), g.grid.Row(j1, first, last+1)
	line := make([]float32, len(top)) // of the cells, on this line
	for k := range line {
		line[k] = top[k] + v*(bottom[k]-top[k])
	}
	for x := x0; x < x1; {
		i0, i1, _ := node(x, r.Min.X, r.Max.X)
		a, b := line[4*(i0-first):][:3], line[4*(i1-first):][:3]
		for { // up to the next cell's middle
			_, _, u := node(x, r.Min.X, r.Max.X)
			at := into[3*(x-x0):][:3]
			for c := range at {
				at[c] = a[c] + u*(b[c]-a[c])
			}
			if x++; x == x1 || (x-Cell/2)%Cell == 0 {
				break
			}
		}
	}
}

// halved sums pixels two by two.
func halved(m *raster.Image) *raster.Image {
	w, h := m.Rect.Dx(), m.Rect.Dy()
	out := raster.NewImage(image.Rect(0, 0, (w+1)/2, (h+1)/2))
	for y := range h {
		from, to := m.Row(y, 0, w), out.Row(y/2, 0, (w+1)/2)
		for x := range w {
			for c := range 4 {
				to[4*(x/2)+c] += from[4*x+c]
			}
		}
	}
	return out
}

// addUpsampled adds a picture, spread over another one and multiplied, to that: bilinearly.
func addUpsampled(to, from *raster.Image, share float32) {
	w, h := to.Rect.Dx(), to.Rect.Dy()
	n, k := from.Rect.Dx(), from.Rect.Dy()
	node := func(v, of, nodes int) (int, int, float32) {
		// Each level has half of the pixels of the one before, rounded up.
		pitch := 1
		for (of+pitch-1)/pitch > nodes {
			pitch *= 2
		}
		u := (float64(v)+0.5)/float64(pitch) - 0.5
		i := int(math.Floor(u))
		return min(max(i, 0), nodes-1), min(max(i+1, 0), nodes-1), float32(u - float64(i))
	}
	for y := range h {
		j0, j1, v := node(y, h, k)
		top, bottom, row := from.Row(j0, 0, n), from.Row(j1, 0, n), to.Row(y, 0, w)
		for x := range w {
			i0, i1, u := node(x, w, n)
			for c := range 4 {
				a := top[4*i0+c] + u*(top[4*i1+c]-top[4*i0+c])
				b := bottom[4*i0+c] + u*(bottom[4*i1+c]-bottom[4*i0+c])
				row[4*x+c] += share * (a + v*(b-a))
			}
		}
	}
}
