package camera

import (
	"errors"

	"gonum.org/v1/gonum/mat"
)

// A Similarity moves, turns and scales the world.
type Similarity struct {
	Scale float64
	R     Rotation
	T     Vec
}

// Same leaves the world as it is.
var Same = Similarity{1, Straight, Vec{}}

// Apply moves a place.
func (s *Similarity) Apply(x Vec) Vec { return s.R.Apply(x).Mul(s.Scale).Add(s.T) }

// Pose returns the pose of a camera in the moved world that it had in the world before.
func (s *Similarity) Pose(p Pose) Pose {
	return PoseAt(s.Apply(p.Eye()), p.R.Mul(s.R.Transposed()))
}

// ErrFew is returned where too few places, or places on one line, leave it open how the world is turned.
var ErrFew = errors.New("three places that are not on one line are needed")

// AlignPaths returns the similarity that takes places to others with the least squared distance (Umeyama 1991). Places on one line
// leave a turn about it free: any of them is as good.
func AlignPaths(from, to []Vec) (Similarity, error) {
	if len(from) != len(to) || len(from) < 2 {
		return Same, ErrFew
	}
	var a, b Vec
	for i := range from {
		a, b = a.Add(from[i]), b.Add(to[i])
	}
	a, b = a.Mul(1/float64(len(from))), b.Mul(1/float64(len(from)))
	cross := mat.NewDense(3, 3, nil)
	var spread float64
	for i := range from {
		p, q := from[i].Sub(a), to[i].Sub(b)
		spread += p.Dot(p)
		for r := range 3 {
			for c := range 3 {
				cross.Set(r, c, cross.At(r, c)+q[r]*p[c])
			}
		}
	}
	var svd mat.SVD
	if !(spread > 0) || !svd.Factorize(cross, mat.SVDFull) {
		return Same, ErrFew
	}
	var u, v, r mat.Dense
	svd.UTo(&u)
	svd.VTo(&v)
	values := svd.Values(nil)
	if !(values[0] > 0) {
		return Same, ErrFew
	}
	sign := 1.0
	if mat.Det(&u)*mat.Det(&v) < 0 {
		sign = -1
	}
	r.Mul(&u, mat.NewDiagDense(3, []float64{1, 1, sign}))
	var rot mat.Dense
	rot.Mul(&r, v.T())
	s := Similarity{Scale: (values[0] + values[1] + sign*values[2]) / spread}
	copy(s.R[:], rot.RawMatrix().Data)
	s.T = b.Sub(s.R.Apply(a).Mul(s.Scale))
	return s, nil
}
