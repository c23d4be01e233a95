package simd

import "math"

// Each loop begins at a sample, so that the vector loops can leave their rest to it.

func symmetricPlain(dst, src []float32, step int, half []float32, from int) {
	n := len(half) - 1
	for i := from; i < len(dst); i++ {
		at := i + n*step
		sum := half[0] * src[at]
		for k := 1; k <= n; k++ {
			sum += half[k] * (src[at-k*step] + src[at+k*step])
		}
		dst[i] = sum
	}
}

func symmetricRowsPlain(dst []float32, rows [][]float32, half []float32, from int) {
	n := len(half) - 1
	middle := rows[n]
	for i := from; i < len(dst); i++ {
		sum := half[0] * middle[i]
		for k := 1; k <= n; k++ {
			sum += half[k] * (rows[n-k][i] + rows[n+k][i])
		}
		dst[i] = sum
	}
}

func halvePlain(dst, src []float32, from int) {
	for i := from; i < len(dst); i++ {
		s := src[2*i : 2*i+5 : 2*i+5]
		dst[i] = s[2]*(6./16) + (s[1]+s[3])*(4./16) + (s[0]+s[4])*(1./16)
	}
}

func differPlain(dst, a, b []float32, k float32, from int) {
	for i := from; i < len(dst); i++ {
		dst[i] = (a[i] - b[i]) * k
	}
}

func lerpPlain(dst, a, b []float32, t float32, from int) {
	for i := from; i < len(dst); i++ {
		dst[i] = a[i] + (b[i]-a[i])*t
	}
}

func addPlain(dst, src []float32, from int) {
	for i := from; i < len(dst); i++ {
		dst[i] += src[i]
	}
}

func spreadPlain(dst, src []float32, channels int, cell []int32, beyond []float32) {
	if channels == 1 {
		beyond, dst = beyond[:len(cell)], dst[:len(cell)]
		for x, i := range cell {
			pair := src[i : i+2 : i+2]
			dst[x] = pair[0] + (pair[1]-pair[0])*beyond[x]
		}
		return
	}
	for x, i := range cell {
		a := src[int(i)*channels : (int(i)+2)*channels]
		for c := range channels {
			dst[x*channels+c] = a[c] + (a[channels+c]-a[c])*beyond[x]
		}
	}
}

func betweenPlain(dst, top, low []float32, a, b, c, d float32, from int) {
	for i := from; i < len(dst); i++ {
		dst[i] = a*top[i] + b*top[i+1] + c*low[i] + d*low[i+1]
	}
}

func dotsPlain(lanes *[3][4]float64, v, a, b, c []float32) {
	for i, x := range v {
		u := float64(x)
		lanes[0][i&3] += u * float64(a[i])
		lanes[1][i&3] += u * float64(b[i])
		lanes[2][i&3] += u * float64(c[i])
	}
}

func rootsPlain(dst, src []float32, scale, most float32, from int) {
	for i := from; i < len(dst); i++ {
		v := src[i]
		if !(v > 0) {
			v = 0
		}
		if v = float32(math.Sqrt(float64(v))) * scale; v > most {
			v = most
		}
		dst[i] = v
	}
}

func alikePlain(sum, weights, middle, other []float32, near, fall float32, from int) {
	for i := from; i < len(sum); i++ {
		v := other[i]
		d := v - middle[i]
		k := 1 - d*d*fall
		if !(k > 0) {
			k = 0
		}
		k *= k
		k = k * k * near
		sum[i] += k * v
		weights[i] += k
	}
}

func widenPlain(dst []uint16, src []byte, from int) {
	for i := from; i < len(dst); i++ {
		dst[i] = uint16(src[i])
	}
}

func narrowPlain(dst []byte, src []uint16, from int) {
	for i := from; i < len(dst); i++ {
		dst[i] = byte(src[i])
	}
}

func reducePlain(dst, a, b, c []float64, by *[3]float64, from int) {
	for i := from; i < len(dst); i++ {
		dst[i] -= by[0]*a[i] + by[1]*b[i] + by[2]*c[i]
	}
}

func overPlain(dst, src []float32, from int) {
	for i := from; i+4 <= len(dst); i += 4 {
		if rest := 1 - src[i+3]; rest != 1 {
			for k := range 4 {
				dst[i+k] = src[i+k] + dst[i+k]*rest
			}
		}
	}
}

func projectPlain(p *Places, h *[9]float64, x, y, from int) {
	v := float64(y) + 0.5
	for i := from; i < len(p.X); i++ {
		u := float64(x+i) + 0.5
		w := h[6]*u + h[7]*v + h[8]
		at := (h[0]*u + h[1]*v + h[2]) / w
		down := (h[3]*u + h[4]*v + h[5]) / w
		p.Put(i, at, down)
	}
}

func carryPlain(p *Places, h *[9]float64, xs, ys []float64, from int) {
	for i := from; i < len(p.X); i++ {
		u, v := xs[i], ys[i]
		w := h[6]*u + h[7]*v + h[8]
		p.Put(i, (h[0]*u+h[1]*v+h[2])/w, (h[3]*u+h[4]*v+h[5])/w)
	}
}

func unlitPlain(e, now, tpl []float32, xs, ys []float64, gain, offset, sx, sy float64, from int) {
	for i := from; i < len(e); i++ {
		e[i] = float32((float64(now[i])-offset-sx*xs[i]-sy*ys[i])/gain) - tpl[i]
	}
}

func biweightPlain(weight, e []float32, inverse float32, from int) {
	for i := from; i < len(weight); i++ {
		if weight[i] < 0 {
			continue
		}
		u := e[i] * inverse
		u = 1 - u*u
		if !(u > 0) {
			u = 0
		}
		weight[i] = u * u
	}
}

func sumsPlain(s *Sums, d [][8]float32, weight, e []float32, matrix bool) {
	for i := range d {
		w := weight[i]
		if !(w > 0) {
			continue
		}
		v, we := &d[i], float64(w*e[i])
		for r := range 8 {
			s.Right[r] += we * float64(v[r])
		}
		if !matrix {
			continue
		}
		for r := range 8 {
			wv := float64(w * v[r])
			for c := r; c < 8; c++ {
				s.Normal[r][c] += wv * float64(v[c])
			}
		}
	}
}

func cellPlain(p *Places, i, n, first int, c *[4][2]float64, v float64) {
	for k := range n {
		u := float64(first+k) / 8
		x0, y0 := c[0][0]+(c[1][0]-c[0][0])*u, c[0][1]+(c[1][1]-c[0][1])*u
		x1, y1 := c[2][0]+(c[3][0]-c[2][0])*u, c[2][1]+(c[3][1]-c[2][1])*u
		p.Put(i+k, x0+(x1-x0)*v, y0+(y1-y0)*v)
	}
}

// Put sets place i to a place in pixels.
func (p *Places) Put(i int, x, y float64) {
	if !(math.Abs(x) < 1e6 && math.Abs(y) < 1e6) {
		p.X[i], p.Y[i], p.FX[i], p.FY[i] = Nowhere, Nowhere, 0, 0
		return
	}
	fx, fy := math.Floor(x-0.5), math.Floor(y-0.5)
	p.X[i], p.Y[i] = int32(fx), int32(fy)
	p.FX[i], p.FY[i] = float32(x-0.5-fx), float32(y-0.5-fy)
}

func withinPlain(p *Places, i int, r *Reach) int {
	xs, ys, fx, fy := p.X, p.Y[:len(p.X)], p.FX[:len(p.X)], p.FY[:len(p.X)]
	for i < len(xs) && uint(int(xs[i])-r.X) < uint(max(r.W, 0)) && uint(int(ys[i])-r.Y) < uint(max(r.H, 0)) && fx[i]+fy[i] > 0 {
		i++
	}
	return i
}

func cubicPlain(dst, pix []float32, stride int, at *Places, from int) {
	for i := from; i < len(at.X); i++ {
		v := CubicAt(pix, stride, int(at.X[i]), int(at.Y[i]), at.FX[i], at.FY[i])
		if v[3] < 0 {
			v[3] = 0
		} else if v[3] > 1 {
			v[3] = 1
		}
		copy(dst[4*i:4*i+4], v[:])
	}
}

// CubicAt is Cubic at one place, without a bound of alpha.
func CubicAt(pix []float32, stride, x, y int, fx, fy float32) (out [4]float32) {
	o := 4 * ((y-1)*stride + x - 1)
	wx, wy := Weights(fx), Weights(fy)
	a, b := pix[o:o+16:o+16], pix[o+4*stride:o+4*stride+16:o+4*stride+16]
	c, d := pix[o+8*stride:o+8*stride+16:o+8*stride+16], pix[o+12*stride:o+12*stride+16:o+12*stride+16]
	for k := range 4 {
		first := wy[0]*a[k] + wy[1]*b[k] + wy[2]*c[k] + wy[3]*d[k]
		second := wy[0]*a[4+k] + wy[1]*b[4+k] + wy[2]*c[4+k] + wy[3]*d[4+k]
		third := wy[0]*a[8+k] + wy[1]*b[8+k] + wy[2]*c[8+k] + wy[3]*d[8+k]
		fourth := wy[0]*a[12+k] + wy[1]*b[12+k] + wy[2]*c[12+k] + wy[3]*d[12+k]
		out[k] = (wx[0]*first + wx[2]*third) + (wx[1]*second + wx[3]*fourth)
	}
	return out
}

func cubicPlanePlain(dst, pix []float32, stride int, at *Places, spline bool, from int) {
	weigh := Weights
	if spline {
		weigh = SplineWeights
	}
	for i := from; i < len(at.X); i++ {
		o := (int(at.Y[i])-1)*stride + int(at.X[i]) - 1
		wx, wy := weigh(at.FX[i]), weigh(at.FY[i])
		a, b := pix[o:o+4:o+4], pix[o+stride:o+stride+4:o+stride+4]
		c, d := pix[o+2*stride:o+2*stride+4:o+2*stride+4], pix[o+3*stride:o+3*stride+4:o+3*stride+4]
		var column [4]float32
		for k := range column {
			column[k] = wx[k] * (wy[0]*a[k] + wy[1]*b[k] + wy[2]*c[k] + wy[3]*d[k])
		}
		dst[i] = (column[0] + column[1]) + (column[2] + column[3])
	}
}

func linearPlanePlain(dst, pix []float32, stride int, at *Places, from int) {
	for i := from; i < len(at.X); i++ {
		o := int(at.Y[i])*stride + int(at.X[i])
		a, b := pix[o:o+2:o+2], pix[o+stride:o+stride+2:o+stride+2]
		top, low := a[0]+(a[1]-a[0])*at.FX[i], b[0]+(b[1]-b[0])*at.FX[i]
		dst[i] = top + (low-top)*at.FY[i]
	}
}
