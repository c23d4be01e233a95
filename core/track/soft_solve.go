package track

import (
	"math"
	"slices"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A tensor is what the pixels around a crossing tell of its shift: the normal equations' matrix and right side.
type tensor struct{ xx, xy, yy, x, y float64 }

// round brings the field nearer to where the frame looks like the reference frame, and returns by how much it moved at most,
// pixels of the frame.
func (s *Soft) round(l *softLevel, frame, covered *raster.Plane, v softState, agree []float32, light **softLight) float64 {
	shift := v.shift
	now, seen := s.carried(l, frame, covered, v)
	for i, in := range l.mask {
		seen[i] = seen[i] && in
	}
	if *light == nil {
		*light = lightOf(now)
	}
	now = (*light).without(now)
	s.leaveOut(l, seen, agree)
	w, high := now.Rect.Dx(), now.Rect.Dy()
	scale := 3 * 1.4826 * spread(now, l.tpl, seen)
	inverse := float32(1 / math.Max(scale, 0.2))
	wide := s.grid.Columns + 1
	unit := float32(l.from[0]) // pixels of the frame in one of this level
	var parts [chunks][]tensor
	inChunks(high, func(chunk, low, end int) {
		sums := make([]tensor, len(shift))
		line := make([]tensor, wide)
		for y := max(low, 1); y < min(end, high-1); y++ {
			clear(line)
			for x := 1; x < w-1; x++ {
				i := y*w + x
				if !seen[i] || !seen[i-1] || !seen[i+1] || !seen[i-w] || !seen[i+w] {
					continue
				}
				e := now.Pix[i] - l.tpl.Pix[i]
				u := e * inverse
				wt := 1 / (1 + u*u)
				wt *= wt
				gx := (now.Pix[i+1] - now.Pix[i-1] + l.tpl.Pix[i+1] - l.tpl.Pix[i-1]) / (4 * unit)
				gy := (now.Pix[i+w] - now.Pix[i-w] + l.tpl.Pix[i+w] - l.tpl.Pix[i-w]) / (4 * unit)
				wt /= gx*gx + gy*gy + steep*steep
				t := tensor{float64(wt * gx * gx), float64(wt * gx * gy), float64(wt * gy * gy), float64(-wt * gx * e), float64(-wt * gy * e)}
				c := &l.columns[x]
				for a := range 4 {
					n, signed := &line[c.at[a]], float64(c.w[a])
					size := math.Abs(signed)
					n.xx, n.xy, n.yy = n.xx+size*t.xx, n.xy+size*t.xy, n.yy+size*t.yy
					n.x, n.y = n.x+signed*t.x, n.y+signed*t.y
				}
			}
			row := &l.rows[y]
			for b := range 4 {
				to, signed := sums[row.at[b]*wide:(row.at[b]+1)*wide], float64(row.w[b])
				size := math.Abs(signed)
				for i := range to {
					n, t := &to[i], &line[i]
					n.xx, n.xy, n.yy = n.xx+size*t.xx, n.xy+size*t.xy, n.yy+size*t.yy
					n.x, n.y = n.x+signed*t.x, n.y+signed*t.y
				}
			}
		}
		parts[chunk] = sums
	})
	all := parts[0]
	for _, p := range parts[1:] {
		for i := range all {
			n, t := &all[i], &p[i]
			n.xx, n.xy, n.yy, n.x, n.y = n.xx+t.xx, n.xy+t.xy, n.yy+t.yy, n.x+t.x, n.y+t.y
		}
	}
	usual := l.perCross / 2
	lambda := usual * softLeast * math.Pow(1000, s.stiff) * (0.1 + 2*scale*scale)
	return s.solve(all, lambda, usual, shift)
}

// spread is the median of how far two pictures differ.
func spread(a, b *raster.Plane, seen []bool) float64 {
	var all []float32
	step := max(1, len(a.Pix)/6000)
	for i := 0; i < len(a.Pix); i += step {
		if seen[i] {
			all = append(all, abs(a.Pix[i]-b.Pix[i]))
		}
	}
	if len(all) == 0 {
		return 0
	}
	slices.Sort(all)
	return float64(all[len(all)/2])
}

// solve adds to the field what makes the sum of the data's error and of the bending energy least, by conjugate gradients.
func (s *Soft) solve(data []tensor, lambda, usual float64, shift []geom.Point) (most float64) {
	n := len(shift) // all x first, then all y
	vectors := make([]float64, 7*2*n)
	next := func() []float64 {
		v := vectors[:2*n]
		vectors = vectors[2*n:]
		return v
	}
	v, r, x, p, ap, z, diagonal := next(), next(), next(), next(), next(), next(), next()
	for i, d := range shift {
		v[i], v[n+i] = d.X, d.Y
	}
	damp := 1e-4 * usual
	for i := range data {
		a, c := data[i].xx+damp+20*lambda, data[i].yy+damp+20*lambda
		diagonal[i], diagonal[n+i] = 1/a, 1/c
	}
	both := func(in, out []float64) {
		s.bending(in[:n], out[:n])
		s.bending(in[n:], out[n:])
	}
	both(v, r)
	for i := range data {
		r[i], r[n+i] = data[i].x-lambda*r[i], data[i].y-lambda*r[n+i]
	}
	dot := func(a, b []float64) (sum float64) {
		for i, v := range a {
			sum += v * b[i]
		}
		return sum
	}
	for i := range r {
		z[i] = diagonal[i] * r[i]
	}
	copy(p, z)
	rz := dot(r, z)
	end := 1e-4 * rz
	for range 80 {
		if rz <= end || rz == 0 {
			break
		}
		both(p, ap)
		for i := range data {
			d := &data[i]
			px, py := p[i], p[n+i]
			ap[i] = lambda*ap[i] + (d.xx+damp)*px + d.xy*py
			ap[n+i] = lambda*ap[n+i] + d.xy*px + (d.yy+damp)*py
		}
		alpha := rz / dot(p, ap)
		for i := range x {
			x[i] += alpha * p[i]
			r[i] -= alpha * ap[i]
			z[i] = diagonal[i] * r[i]
		}
		after := dot(r, z)
		beta := after / rz
		rz = after
		for i := range p {
			p[i] = z[i] + beta*p[i]
		}
	}
	moved := make([]float64, n)
	for i := range shift {
		shift[i] = shift[i].Add(geom.Pt(ahead*x[i], ahead*x[n+i]))
		moved[i] = math.Max(math.Abs(x[i]), math.Abs(x[n+i]))
	}
	slices.Sort(moved)
	return moved[n*95/100]
}

// bending is the gradient of half the energy of one part of a field at the crossings: of a thin plate, second differences along
// rows, along columns, and twice the mixed ones; and a little of a membrane, first differences.
func (s *Soft) bending(v, out []float64) {
	wide, high := s.grid.Columns+1, s.grid.Rows+1
	clear(out)
	for y := range high {
		line, to := v[y*wide:(y+1)*wide], out[y*wide:(y+1)*wide]
		for x := 1; x < wide-1; x++ {
			d := line[x-1] + line[x+1] - 2*line[x]
			to[x-1] += d
			to[x] -= 2 * d
			to[x+1] += d
		}
		for x := range wide - 1 {
			d := sloping * (line[x+1] - line[x])
			to[x] -= d
			to[x+1] += d
		}
		if y+1 == high {
			break
		}
		below, toBelow := v[(y+1)*wide:(y+2)*wide], out[(y+1)*wide:(y+2)*wide]
		for x := range wide {
			d := sloping * (below[x] - line[x])
			to[x] -= d
			toBelow[x] += d
		}
		for x := range wide - 1 {
			d := 2 * (line[x] - line[x+1] - below[x] + below[x+1])
			to[x] += d
			to[x+1] -= d
			toBelow[x] -= d
			toBelow[x+1] += d
		}
		if y == 0 {
			continue
		}
		above, toAbove := v[(y-1)*wide:y*wide], out[(y-1)*wide:y*wide]
		for x := range wide {
			d := above[x] + below[x] - 2*line[x]
			toAbove[x] += d
			to[x] -= 2 * d
			toBelow[x] += d
		}
	}
}
