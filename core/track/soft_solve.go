package track

import (
	"image"
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"

	"jardin/core/geom"
	"jardin/core/raster"
)

// A tensor is what the pixels around a crossing tell of its shift: the normal equations' matrix and right side.
type tensor struct{ xx, xy, yy, x, y float64 }

// round brings the field nearer to where the frame looks like the reference frame, and returns whether it was there.
func (s *Soft) round(l *softLevel, frame *raster.PlaneSpline, covered *raster.Plane, v softState, agree []float32, light **softLight) (rested bool) {
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
	inChunks(high, w, func(chunk, low, end int) {
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
	return s.solve(all, lambda, usual, l.from[0], shift)
}

// firmness is how much bending counts around each crossing: the less the bend changes there, the more, as that is what it would take
// away. So a field that is bent evenly is held together against grain, and one that ripples is let go, as by an energy that grows with
// what it takes away rather than with its square.
func (s *Soft) firmness(shift []geom.Point) []float64 {
	wide, high := s.grid.Columns+1, s.grid.Rows+1
	changes := raster.NewPlane(image.Rect(0, 0, wide, high))
	for _, of := range []func(geom.Point) float64{func(d geom.Point) float64 { return d.X }, func(d geom.Point) float64 { return d.Y }} {
		part := raster.NewPlane(changes.Rect)
		for i, d := range shift {
			part.Pix[i] = float32(of(d))
		}
		bent := raster.Gaussian(laplacian(part), firmSmooth)
		for i, v := range laplacian(bent).Pix {
			changes.Pix[i] += min(firmScale*firmScale*v*v, tornAbove)
		}
	}
	out := make([]float64, len(shift))
	changes = raster.Gaussian(changes, firmAround)
	sorted := slices.Sorted(slices.Values(changes.Pix))
	least := 0.000001 + 0.1*float64(sorted[len(sorted)*95/100]) // beside a fold what is flat is not held so hard: the fold moves on
	for i, v := range changes.Pix {
		out[i] = min(max(1/math.Sqrt(float64(v)+least), 0.2), 1000)
		if s.share.home(i) < 1 {
			out[i] = min(out[i], firmChained) // it was carried home by a field that bent too little already: that would add up
		}
	}
	return out
}

// laplacian is the sum of a plane's second differences along rows and columns; at the border as it is one beside it.
func laplacian(p *raster.Plane) *raster.Plane {
	out := raster.NewPlane(p.Rect)
	wide, high := p.Rect.Dx(), p.Rect.Dy()
	for y := range high {
		for x := range wide {
			i := min(max(y, 1), high-2)*wide + min(max(x, 1), wide-2)
			out.Pix[y*wide+x] = p.Pix[i-1] + p.Pix[i+1] + p.Pix[i-wide] + p.Pix[i+wide] - 4*p.Pix[i]
		}
	}
	return out
}

// spread is the median of how far two pictures differ.
func spread(a, b *raster.Plane, seen []bool) float64 {
	var all []float32
	step := max(1, len(a.Pix)/2000)
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

// solve adds to the field what makes the sum of the data's error and of the bending energy least, by conjugate gradients that begin
// from the best linear field, as what does not bend takes them longest. unit is the pixels of the frame in one of the level; rested
// says that all but a twentieth of the field was at rest.
func (s *Soft) solve(data []tensor, lambda, usual, unit float64, shift []geom.Point) (rested bool) {
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
		a, c := data[i].xx+damp+20*lambda*s.firm[i], data[i].yy+damp+20*lambda*s.firm[i]
		diagonal[i], diagonal[n+i] = 1/a, 1/c
	}
	bend := func(in, out []float64) {
		s.bending(in[:n], out[:n])
		s.bending(in[n:], out[n:])
	}
	apply := func(in, out []float64) {
		bend(in, out)
		for i := range data {
			d := &data[i]
			px, py := in[i], in[n+i]
			out[i] = lambda*out[i] + (d.xx+damp)*px + d.xy*py
			out[n+i] = lambda*out[n+i] + d.xy*px + (d.yy+damp)*py
		}
	}
	part := raster.NewPlane(image.Rect(0, 0, s.grid.Columns+1, s.grid.Rows+1))
	for _, of := range [][]float64{v[:n], v[n:]} { // an even bend counts little, so that it is hardly taken away
		for i, d := range of {
			part.Pix[i] = float32(d)
		}
		for i, even := range raster.Gaussian(part, evenWithin).Pix {
			of[i] -= evenShare * float64(even)
		}
	}
	bend(v, r)
	for i := range data {
		r[i], r[n+i] = data[i].x-lambda*r[i], data[i].y-lambda*r[n+i]
	}
	dot := func(a, b []float64) (sum float64) {
		for i, v := range a {
			sum += v * b[i]
		}
		return sum
	}
	s.linear(data, lambda, damp, r, x)
	apply(x, ap)
	for i := range r {
		r[i] -= ap[i]
		z[i] = diagonal[i] * r[i]
	}
	copy(p, z)
	rz := dot(r, z)
	end := 1e-4 * rz
	for range iterations {
		if rz <= end || rz == 0 {
			break
		}
		apply(p, ap)
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
	moved := 0
	for i := range shift {
		shift[i] = shift[i].Add(geom.Pt(ahead*x[i], ahead*x[n+i]))
		if max(math.Abs(x[i]), math.Abs(x[n+i])) > rests*unit {
			moved++
		}
	}
	return moved*20 <= n
}

// linear is the linear field under which the sum is least, as a start: all x first, then all y; r is the right side.
func (s *Soft) linear(data []tensor, lambda, damp float64, r, x []float64) {
	const modes = 3 // the whole, across, and along, of either part
	n := len(data)
	of := func(i int) [modes]float64 {
		return [modes]float64{1, 2*float64(i%(s.grid.Columns+1))/float64(s.grid.Columns) - 1, 2*float64(i/(s.grid.Columns+1))/float64(s.grid.Rows) - 1}
	}
	var xx, xy, yy [modes][modes]float64
	var right [2 * modes]float64
	for i := range data {
		d, m := &data[i], of(i)
		for a, u := range m {
			right[a], right[modes+a] = right[a]+u*r[i], right[modes+a]+u*r[n+i]
			for b, v := range m {
				xx[a][b], xy[a][b], yy[a][b] = xx[a][b]+u*v*(d.xx+damp), xy[a][b]+u*v*d.xy, yy[a][b]+u*v*(d.yy+damp)
			}
		}
	}
	for a, cells := range []int{1: s.grid.Columns, 2: s.grid.Rows} { // what their slope counts
		if a > 0 {
			slope := lambda * sloping * float64(n) * 4 / float64(cells*cells)
			xx[a][a], yy[a][a] = xx[a][a]+slope, yy[a][a]+slope
		}
	}
	matrix := mat.NewSymDense(2*modes, nil)
	for a := range modes {
		for b := range modes {
			matrix.SetSym(a, b, xx[a][b])
			matrix.SetSym(a, modes+b, xy[a][b])
			matrix.SetSym(modes+a, modes+b, yy[a][b])
		}
	}
	var cholesky mat.Cholesky
	var found mat.VecDense
	if !cholesky.Factorize(matrix) || cholesky.SolveVecTo(&found, mat.NewVecDense(len(right), right[:])) != nil {
		return
	}
	for i := range data {
		for a, u := range of(i) {
			x[i], x[n+i] = x[i]+u*found.AtVec(a), x[n+i]+u*found.AtVec(modes+a)
		}
	}
}

// bending is the gradient of half the energy of one part of a field at the crossings: of a thin plate, second differences along
// rows, along columns, and twice the mixed ones; and a little of a membrane, first differences.
func (s *Soft) bending(v, out []float64) {
	wide, high := s.grid.Columns+1, s.grid.Rows+1
	clear(out)
	for y := range high {
		firm := s.firm[y*wide : (y+1)*wide]
		line, to := v[y*wide:(y+1)*wide], out[y*wide:(y+1)*wide]
		for x := 1; x < wide-1; x++ {
			d := firm[x] * (line[x-1] + line[x+1] - 2*line[x])
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
		firmBelow := s.firm[(y+1)*wide : (y+2)*wide]
		for x := range wide - 1 {
			d := (firm[x] + firmBelow[x+1]) * (line[x] - line[x+1] - below[x] + below[x+1])
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
			d := firm[x] * (above[x] + below[x] - 2*line[x])
			toAbove[x] += d
			to[x] -= 2 * d
			toBelow[x] += d
		}
	}
}
