package track

import (
	"math"
	"sort"

	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/simd"
)

// corners returns at most n points of a polygon where the picture has structure
// in both directions: maxima of the smaller eigenvalue of the gradients' second
// moments (Shi & Tomasi 1994, "Good features to track"), spread so that no two
// are closer than the region's size suggests.
func corners(p *raster.Plane, polygon []geom.Point, n int) []geom.Point {
	box := geom.Bounds(polygon)
	area := raster.Around(box, 0, p.Rect.Inset(8))
	if area.Empty() {
		return nil
	}
	gx, gy := raster.Gradient(p)
	xx, xy, yy := raster.NewPlane(area), raster.NewPlane(area), raster.NewPlane(area)
	for y := area.Min.Y; y < area.Max.Y; y++ {
		a, b := gx.Row(y, area.Min.X, area.Max.X), gy.Row(y, area.Min.X, area.Max.X)
		i := (y - area.Min.Y) * area.Dx()
		for x := range a {
			xx.Pix[i+x], xy.Pix[i+x], yy.Pix[i+x] = a[x]*a[x], a[x]*b[x], b[x]*b[x]
		}
	}
	xx, xy, yy = raster.Gaussian(xx, 2.5), raster.Gaussian(xy, 2.5), raster.Gaussian(yy, 2.5)
	type candidate struct {
		p     geom.Point
		score float64
	}
	score := raster.NewPlane(area)
	for i := range score.Pix {
		a, b, c := float64(xx.Pix[i]), float64(xy.Pix[i]), float64(yy.Pix[i])
		score.Pix[i] = float32((a+c)/2 - math.Sqrt((a-c)*(a-c)/4+b*b))
	}
	var found []candidate
	for y := area.Min.Y + 1; y < area.Max.Y-1; y++ {
	pixels:
		for x := area.Min.X + 1; x < area.Max.X-1; x++ {
			s := score.At(x, y)
			if s <= 1e-9 {
				continue
			}
			for dy := -1; dy <= 1; dy++ {
				for dx := -1; dx <= 1; dx++ {
					if score.At(x+dx, y+dy) > s {
						continue pixels
					}
				}
			}
			if c := geom.Pt(float64(x)+0.5, float64(y)+0.5); geom.Inside(polygon, c) {
				found = append(found, candidate{c, float64(s)})
			}
		}
	}
	sort.SliceStable(found, func(i, j int) bool { return found[i].score > found[j].score })
	apart := math.Max(5, math.Sqrt(geom.Area(polygon)/float64(n))*0.7)
	var out []geom.Point
next:
	for _, c := range found {
		if len(out) == n || c.score < found[0].score*0.002 {
			break
		}
		for _, o := range out {
			if o.Dist(c.p) < apart {
				continue next
			}
		}
		out = append(out, c.p)
	}
	return out
}

const (
	window     = 7 // half the side of the matched window; 15 x 15 samples
	windowSize = (2*window + 1) * (2*window + 1)
)

// Match finds the point of the picture b that looks like the point p of the
// picture a, starting at guess: translation by Lucas & Kanade's method, from
// coarse to fine over two pyramids of the same depth (Bouguet 2000). It compares
// windows after taking out their mean and scaling their contrast, so a change
// of gain and offset does not matter. ok is false where there is no structure or
// no convergence.
func Match(a, b []*raster.Plane, p, guess geom.Point) (q geom.Point, ok bool) {
	d := guess.Sub(p)
	for level := min(len(a), len(b)) - 1; level >= 0; level-- {
		k := math.Pow(2, float64(level))
		// Half's coordinates: c -> (c + 0.5) / 2 at each level.
		at := geom.Pt((p.X-0.5)/k+0.5, (p.Y-0.5)/k+0.5)
		at = at.Add(geom.Pt(shift(level), shift(level)))
		if level > 0 && !inside(at, a[level].Rect, window) {
			continue
		}
		moved, converged := matchLevel(a[level], b[level], at, d.Mul(1/k))
		if !converged {
			if level == 0 {
				return q, false
			}
			continue
		}
		d = moved.Mul(k)
	}
	return p.Add(d), true
}

// shift is what (c + 0.5) / 2, repeated, adds to (c - 0.5) / 2^level + 0.5.
func shift(level int) float64 {
	c := 0.5
	for range level {
		c = (c + 0.5) / 2
	}
	return c - 0.5
}

func matchLevel(a, b *raster.Plane, at, d geom.Point) (geom.Point, bool) {
	const wide = 2*window + 3
	var around [wide * wide]float32
	a.Grid(at.X-window-1, at.Y-window-1, wide, wide, around[:])
	var tpl, gx, gy [windowSize]float32
	var mean float64
	i := 0
	for y := 1; y < wide-1; y++ {
		for x := 1; x < wide-1; x++ {
			k := y*wide + x
			tpl[i] = around[k]
			gx[i] = (around[k+1] - around[k-1]) / 2
			gy[i] = (around[k+wide] - around[k-wide]) / 2
			mean += float64(tpl[i])
			i++
		}
	}
	mean /= windowSize
	var xx, xy, yy, power, mx, my float64
	for i := range tpl {
		tpl[i] -= float32(mean)
		x, y := float64(gx[i]), float64(gy[i])
		xx, xy, yy = xx+x*x, xy+x*y, yy+y*y
		mx, my = mx+x, my+y
		power += float64(tpl[i]) * float64(tpl[i])
	}
	// Taking out the mean of the window takes it out of the gradients too.
	xx, xy, yy = xx-mx*mx/windowSize, xy-mx*my/windowSize, yy-my*my/windowSize
	det := xx*yy - xy*xy
	if !(det > 1e-12*(1+power*power)) || power == 0 {
		return d, false
	}
	mx, my = mx/windowSize, my/windowSize
	var tx, ty float64
	for i := range tpl {
		gx[i], gy[i] = gx[i]-float32(mx), gy[i]-float32(my)
		tx, ty = tx+float64(tpl[i])*float64(gx[i]), ty+float64(tpl[i])*float64(gy[i])
	}
	start := d
	for range 20 {
		var now [windowSize]float32
		b.Grid(at.X+d.X-window, at.Y+d.Y-window, 2*window+1, 2*window+1, now[:])
		// Template and gradients have no mean, so an offset of light drops out of all sums.
		dots := simd.Dots(now[:], tpl[:], gx[:], gy[:])
		gain := dots[0] / power
		if gain < 0.1 {
			return d, false
		}
		ex, ey := dots[1]/gain-tx, dots[2]/gain-ty
		step := geom.Pt((yy*ex-xy*ey)/det, (xx*ey-xy*ex)/det)
		d = d.Sub(step)
		if !d.Finite() || d.Dist(start) > 3*window {
			return d, false
		}
		if step.Len() < 0.003 {
			return d, true
		}
	}
	return d, true
}
