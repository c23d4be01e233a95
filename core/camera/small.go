package camera

import (
	"gonum.org/v1/gonum/mat"
)

// solveSmall solves a damped symmetric system, h by rows.
func solveSmall(h, g []float64, damping float64) ([]float64, bool) {
	n := len(g)
	m := mat.NewSymDense(n, append([]float64(nil), h...))
	for i := range n {
		m.SetSym(i, i, m.At(i, i)*(1+damping)+1e-12)
	}
	var chol mat.Cholesky
	if !chol.Factorize(m) {
		return nil, false
	}
	x := mat.NewVecDense(n, nil)
	_ = chol.SolveVecTo(x, mat.NewVecDense(n, append([]float64(nil), g...))) // a poor condition shows in the step
	return x.RawVector().Data, finite(x.RawVector().Data)
}

// TurnOf returns the rotation that takes directions to others with the least squared distance (Kabsch 1976).
func TurnOf(from, to []Vec) (r Rotation, ok bool) {
	cross := mat.NewDense(3, 3, nil)
	for i := range from {
		for j := range 3 {
			for k := range 3 {
				cross.Set(j, k, cross.At(j, k)+to[i][j]*from[i][k])
			}
		}
	}
	var svd mat.SVD
	if len(from) < 2 || !svd.Factorize(cross, mat.SVDFull) {
		return Straight, false
	}
	var u, v, out mat.Dense
	svd.UTo(&u)
	svd.VTo(&v)
	sign := 1.0
	if mat.Det(&u)*mat.Det(&v) < 0 {
		sign = -1
	}
	out.Mul(&u, mat.NewDiagDense(3, []float64{1, 1, sign}))
	out.Mul(&out, v.T())
	copy(r[:], out.RawMatrix().Data)
	return r, true
}
