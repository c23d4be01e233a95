package camera

import (
	"math"
	"math/rand/v2"

	"gonum.org/v1/gonum/mat"
)

// A cubic is a polynomial of third degree in x, y, z, by monomials as they are listed in exponents.
type cubic [20]float64

var exponents = [20][3]int{
	{3, 0, 0}, {2, 1, 0}, {1, 2, 0}, {0, 3, 0}, {2, 0, 1}, {1, 1, 1}, {0, 2, 1}, {1, 0, 2}, {0, 1, 2}, {0, 0, 3},
	{2, 0, 0}, {1, 1, 0}, {0, 2, 0}, {1, 0, 1}, {0, 1, 1}, {0, 0, 2}, {1, 0, 0}, {0, 1, 0}, {0, 0, 1}, {0, 0, 0},
}

// monomial is the place in exponents of each product; -1 beyond the third degree.
var monomial = func() (table [20][20]int) {
	for i, a := range exponents {
		for j, b := range exponents {
			table[i][j] = -1
			for k, c := range exponents {
				if a[0]+b[0] == c[0] && a[1]+b[1] == c[1] && a[2]+b[2] == c[2] {
					table[i][j] = k
				}
			}
		}
	}
	return table
}()

func (p *cubic) add(q cubic, k float64) {
	for i := range p {
		p[i] += k * q[i]
	}
}

func (p cubic) mul(q cubic) (out cubic) {
	for i, a := range p {
		if a == 0 {
			continue
		}
		for j, b := range q {
			if b != 0 {
				if k := monomial[i][j]; k >= 0 {
					out[k] += a * b
				}
			}
		}
	}
	return out
}

// essentials returns the matrices E, by rows, with b E a = 0 for five pairs of directions: at most ten (Nistér 2004, "An
// efficient solution to the five-point relative pose problem", with the eigenvectors of an action matrix in place of the
// polynomial of tenth degree: Stewénius, Engels & Nistér 2006).
func essentials(a, b []Vec) []Rotation {
	m := mat.NewDense(len(a), 9, nil)
	for i := range a {
		for r := range 3 {
			for c := range 3 {
				m.Set(i, 3*r+c, b[i][r]*a[i][c])
			}
		}
	}
	var svd mat.SVD
	if !svd.Factorize(m, mat.SVDFullV) {
		return nil
	}
	var v mat.Dense
	svd.VTo(&v)
	var e [9]cubic // x, y, z and 1 times the four directions that the pairs leave free
	for i := range e {
		for k := range 4 {
			e[i][16+k] = v.At(i, 5+k)
		}
	}
	var rows [10]cubic
	minor := func(i, j, k, l int) cubic {
		out := e[i].mul(e[l])
		out.add(e[j].mul(e[k]), -1)
		return out
	}
	rows[0] = e[0].mul(minor(4, 5, 7, 8))
	rows[0].add(e[1].mul(minor(3, 5, 6, 8)), -1)
	rows[0].add(e[2].mul(minor(3, 4, 6, 7)), 1)
	var square [9]cubic // E E'
	var trace cubic
	for r := range 3 {
		for c := range 3 {
			for k := range 3 {
				square[3*r+c].add(e[3*r+k].mul(e[3*c+k]), 1)
			}
		}
		trace.add(square[4*r], 1)
	}
	for r := range 3 {
		for c := range 3 {
			row := &rows[1+3*r+c]
			for k := range 3 {
				row.add(square[3*r+k].mul(e[3*k+c]), 2)
			}
			row.add(trace.mul(e[3*r+c]), -1)
		}
	}
	if !eliminate(&rows) {
		return nil
	}
	// Multiplication by x of the monomials of less than third degree.
	action := mat.NewDense(10, 10, nil)
	for i := range 10 {
		k := monomial[10+i][16]
		if k >= 10 {
			action.Set(i, k-10, 1)
			continue
		}
		for c := range 10 {
			action.Set(i, c, -rows[k][10+c])
		}
	}
	var eig mat.Eigen
	if !eig.Factorize(action, mat.EigenRight) {
		return nil
	}
	var vectors mat.CDense
	eig.VectorsTo(&vectors)
	var out []Rotation
	for k, value := range eig.Values(nil) {
		last := vectors.At(9, k)
		if math.Abs(imag(value)) > 1e-8*(1+math.Abs(real(value))) || last == 0 {
			continue
		}
		at := [4]float64{real(vectors.At(6, k) / last), real(vectors.At(7, k) / last), real(vectors.At(8, k) / last), 1}
		var found Rotation
		var norm float64
		for i := range found {
			for j, w := range at {
				found[i] += w * v.At(i, 5+j)
			}
			norm += found[i] * found[i]
		}
		norm = math.Sqrt(norm)
		if !(norm > 0) || math.IsInf(norm, 0) {
			continue
		}
		for i := range found {
			found[i] /= norm
		}
		out = append(out, found)
	}
	return out
}

// eliminate brings the third degree of ten equations to the identity (Gauss and Jordan, with rows exchanged).
func eliminate(rows *[10]cubic) bool {
	for c := range 10 {
		best := c
		for r := c + 1; r < 10; r++ {
			if math.Abs(rows[r][c]) > math.Abs(rows[best][c]) {
				best = r
			}
		}
		rows[c], rows[best] = rows[best], rows[c]
		pivot := rows[c][c]
		if math.Abs(pivot) < 1e-14 {
			return false
		}
		for k := range rows[c] {
			rows[c][k] /= pivot
		}
		for r := range 10 {
			if r != c && rows[r][c] != 0 {
				rows[r].add(rows[c], -rows[r][c])
			}
		}
	}
	return true
}

// sampson is about the squared distance of a pair of directions, with z 1, from fitting (Sampson 1982; Hartley & Zisserman 2003,
// equation 11.9).
func sampson(e *Rotation, a, b Vec) float64 {
	ea, eb := e.Apply(a), e.Back(b)
	d := b.Dot(ea)
	return d * d / (ea[0]*ea[0] + ea[1]*ea[1] + eb[0]*eb[0] + eb[1]*eb[1])
}

// relative returns how the second of two cameras stands beside the first, which is at the origin, and which pairs of directions
// (z is 1) agree with that within tol: the best of random samples of five. ok is false where there is none. The distance is 1.
func relative(rng *rand.Rand, a, b []Vec, tol float64, rounds int) (best Pose, agrees []bool, ok bool) {
	if len(a) < 8 {
		return best, nil, false
	}
	var e Rotation
	least := math.Inf(1)
	sampleA, sampleB := make([]Vec, 5), make([]Vec, 5)
	for range rounds {
		for i := range 5 {
		again:
			k := rng.IntN(len(a))
			for j := range i {
				if sampleA[j] == a[k] {
					goto again
				}
			}
			sampleA[i], sampleB[i] = a[k], b[k]
		}
		for _, c := range essentials(sampleA, sampleB) {
			var cost float64
			for i := range a {
				cost += math.Min(sampson(&c, a[i], b[i]), tol*tol)
				if cost >= least {
					break
				}
			}
			if cost < least {
				least, e = cost, c
			}
		}
	}
	if math.IsInf(least, 1) {
		return best, nil, false
	}
	agrees = make([]bool, len(a))
	for i := range a {
		agrees[i] = sampson(&e, a[i], b[i]) < tol*tol
	}
	most := -1
	for _, p := range posesOf(&e) {
		n := 0
		for i := range a {
			if !agrees[i] {
				continue
			}
			x, sound := meet([]Vec{{}, p.Eye()}, []Vec{a[i].Unit(), p.R.Back(b[i]).Unit()})
			if sound && x[2] > 0 && p.Apply(x)[2] > 0 {
				n++
			}
		}
		if n > most {
			most, best = n, p
		}
	}
	return best, agrees, most >= 8
}

// posesOf returns the four poses of an essential matrix.
func posesOf(e *Rotation) []Pose {
	var svd mat.SVD
	if !svd.Factorize(mat.NewDense(3, 3, append([]float64(nil), e[:]...)), mat.SVDFull) {
		return nil
	}
	var u, v, r mat.Dense
	svd.UTo(&u)
	svd.VTo(&v)
	w := mat.NewDense(3, 3, []float64{0, -1, 0, 1, 0, 0, 0, 0, 1})
	t := Vec{u.At(0, 2), u.At(1, 2), u.At(2, 2)}
	var out []Pose
	for _, turn := range []mat.Matrix{w, w.T()} {
		r.Mul(&u, turn)
		r.Mul(&r, v.T())
		sign := 1.0
		if mat.Det(&r) < 0 {
			sign = -1
		}
		var rot Rotation
		for i := range rot {
			rot[i] = sign * r.At(i/3, i%3)
		}
		out = append(out, Pose{rot, t}, Pose{rot, t.Mul(-1)})
	}
	return out
}

// meet returns the place that is nearest to several rays, in the sense of least squared distances; sound is false for rays that
// are parallel.
func meet(eyes, directions []Vec) (x Vec, sound bool) {
	var m [9]float64
	var g Vec
	for i, d := range directions {
		for r := range 3 {
			for c := range 3 {
				k := -d[r] * d[c]
				if r == c {
					k++
				}
				m[3*r+c] += k
				g[r] += k * eyes[i][c]
			}
		}
	}
	inv, ok := invert(m)
	if !ok {
		return x, false
	}
	x = Vec(times(g, &inv))
	return x, x.Finite()
}
