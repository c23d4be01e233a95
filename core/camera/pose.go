// Package camera finds where the camera was on each frame of a shot, and what it saw where: structure from motion, and what
// stands in space.
//
// The world is right-handed, y up, as in glTF. A camera looks along its own z axis, with x to the right and y down, as pixels
// lie. A Pose takes places of the world to those of the camera. Focal lengths are in pixels of the picture's height.
package camera

import (
	"math"

	"jardin/core/geom"
)

// A Vec is a place or direction in space.
type Vec [3]float64

func (a Vec) Add(b Vec) Vec             { return Vec{a[0] + b[0], a[1] + b[1], a[2] + b[2]} }
func (a Vec) Sub(b Vec) Vec             { return Vec{a[0] - b[0], a[1] - b[1], a[2] - b[2]} }
func (a Vec) Mul(k float64) Vec         { return Vec{a[0] * k, a[1] * k, a[2] * k} }
func (a Vec) Dot(b Vec) float64         { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }
func (a Vec) Len() float64              { return math.Sqrt(a.Dot(a)) }
func (a Vec) Dist(b Vec) float64        { return a.Sub(b).Len() }
func (a Vec) Lerp(b Vec, t float64) Vec { return a.Add(b.Sub(a).Mul(t)) }

// Unit returns the direction, or the zero Vec of the zero Vec.
func (a Vec) Unit() Vec {
	if n := a.Len(); n > 0 {
		return a.Mul(1 / n)
	}
	return a
}

// Cross returns the vector product.
func (a Vec) Cross(b Vec) Vec {
	return Vec{a[1]*b[2] - a[2]*b[1], a[2]*b[0] - a[0]*b[2], a[0]*b[1] - a[1]*b[0]}
}

// Finite reports whether no part of it is NaN or infinite.
func (a Vec) Finite() bool {
	s := a[0] + a[1] + a[2]
	return !math.IsNaN(s) && !math.IsInf(s, 0)
}

// A Rotation is a matrix by rows.
type Rotation [9]float64

// Straight does not turn.
var Straight = Rotation{1, 0, 0, 0, 1, 0, 0, 0, 1}

// Apply turns a vector.
func (r *Rotation) Apply(v Vec) Vec {
	return Vec{r[0]*v[0] + r[1]*v[1] + r[2]*v[2], r[3]*v[0] + r[4]*v[1] + r[5]*v[2], r[6]*v[0] + r[7]*v[1] + r[8]*v[2]}
}

// Back turns a vector the other way.
func (r *Rotation) Back(v Vec) Vec {
	return Vec{r[0]*v[0] + r[3]*v[1] + r[6]*v[2], r[1]*v[0] + r[4]*v[1] + r[7]*v[2], r[2]*v[0] + r[5]*v[1] + r[8]*v[2]}
}

// Mul returns the rotation that does s first, then r.
func (r Rotation) Mul(s Rotation) Rotation {
	return Rotation(geom.Homography(r).Mul(geom.Homography(s)))
}

// Transposed returns the inverse.
func (r Rotation) Transposed() Rotation {
	return Rotation{r[0], r[3], r[6], r[1], r[4], r[7], r[2], r[5], r[8]}
}

// Turn returns the rotation about an axis by its length in radians (Rodrigues' formula).
func Turn(w Vec) Rotation {
	angle := w.Len()
	a, b := 1.0, 0.5 // sin t / t, (1 - cos t) / t²
	if angle > 1e-6 {
		a, b = math.Sin(angle)/angle, (1-math.Cos(angle))/(angle*angle)
	}
	x, y, z := w[0], w[1], w[2]
	return Rotation{
		1 - b*(y*y+z*z), b*x*y - a*z, b*x*z + a*y,
		b*x*y + a*z, 1 - b*(x*x+z*z), b*y*z - a*x,
		b*x*z - a*y, b*y*z + a*x, 1 - b*(x*x+y*y),
	}
}

// Axis returns what Turn makes the rotation of; its length is from 0 to pi.
func (r Rotation) Axis() Vec {
	q := r.Quaternion()
	v := Vec{q[0], q[1], q[2]}
	n := v.Len()
	if n < 1e-12 {
		return v.Mul(2)
	}
	return v.Mul(2 * math.Atan2(n, q[3]) / n)
}

// Quaternion returns the rotation as x, y, z, w with w not below 0, the order of glTF (Shepperd 1978).
func (r Rotation) Quaternion() (q [4]float64) {
	trace := r[0] + r[4] + r[8]
	largest, most := 3, trace
	for i := range 3 {
		if r[4*i] > most {
			largest, most = i, r[4*i]
		}
	}
	if largest == 3 {
		s := 2 * math.Sqrt(math.Max(0, 1+trace))
		q = [4]float64{(r[7] - r[5]) / s, (r[2] - r[6]) / s, (r[3] - r[1]) / s, s / 4}
	} else {
		i, j, k := largest, (largest+1)%3, (largest+2)%3
		s := 2 * math.Sqrt(math.Max(0, 1+r[4*i]-r[4*j]-r[4*k]))
		q[i], q[j], q[k] = s/4, (r[3*i+j]+r[3*j+i])/s, (r[3*i+k]+r[3*k+i])/s
		q[3] = (r[3*k+j] - r[3*j+k]) / s
	}
	if q[3] < 0 {
		for i := range q {
			q[i] = -q[i]
		}
	}
	return q
}

// OfQuaternion returns the rotation of x, y, z, w, whatever its length.
func OfQuaternion(q [4]float64) Rotation {
	n := math.Sqrt(q[0]*q[0] + q[1]*q[1] + q[2]*q[2] + q[3]*q[3])
	x, y, z, w := q[0]/n, q[1]/n, q[2]/n, q[3]/n
	return Rotation{
		1 - 2*(y*y+z*z), 2 * (x*y - z*w), 2 * (x*z + y*w),
		2 * (x*y + z*w), 1 - 2*(x*x+z*z), 2 * (y*z - x*w),
		2 * (x*z - y*w), 2 * (y*z + x*w), 1 - 2*(x*x+y*y),
	}
}

// A Pose takes places of the world to the camera's.
type Pose struct {
	R Rotation
	T Vec
}

// Apply takes a place of the world to the camera's.
func (p *Pose) Apply(v Vec) Vec { return p.R.Apply(v).Add(p.T) }

// Eye returns where the camera is.
func (p *Pose) Eye() Vec { return p.R.Back(p.T.Mul(-1)) }

// PoseAt returns the pose of a camera that is somewhere, turned so.
func PoseAt(eye Vec, r Rotation) Pose { return Pose{r, r.Apply(eye).Mul(-1)} }

// A View is a camera on one frame: where it is and how it sees. Its lens is the shot's.
type View struct {
	Pose  Pose
	Focal float64 // pixels of the picture's height
}

// Matrix returns what takes a place of the camera to the straight picture, by rows, for a lens's centre and squeeze.
func (v *View) Matrix(l *geom.Lens) geom.Homography {
	return geom.Homography{v.Focal / squeeze(l), 0, l.Centre.X, 0, v.Focal, l.Centre.Y, 0, 0, 1}
}

func squeeze(l *geom.Lens) float64 {
	if l.Squeeze == 0 {
		return 1
	}
	return l.Squeeze
}

// Straight returns where a place is in the straight picture; ok is false behind the camera.
func (v *View) Straight(l *geom.Lens, x Vec) (p geom.Point, ok bool) {
	c := v.Pose.Apply(x)
	if !(c[2] > 0) {
		return p, false
	}
	return geom.Pt(l.Centre.X+v.Focal/squeeze(l)*c[0]/c[2], l.Centre.Y+v.Focal*c[1]/c[2]), true
}

// Project returns where a place is seen; ok is false where it is not.
func (v *View) Project(l *geom.Lens, x Vec) (p geom.Point, ok bool) {
	if p, ok = v.Straight(l, x); !ok {
		return p, false
	}
	p = l.Distort(p)
	return p, p.Finite()
}

// Ray returns the direction in the world in which a place of the plate is seen; NaN where nothing is.
func (v *View) Ray(l *geom.Lens, p geom.Point) Vec {
	return v.Pose.R.Back(ray(l, v.Focal, p)).Unit()
}

// ray returns the direction in the camera in which a place of the plate is seen, with z 1.
func ray(l *geom.Lens, focal float64, p geom.Point) Vec {
	q := l.Straighten(p)
	return Vec{(q.X - l.Centre.X) * squeeze(l) / focal, (q.Y - l.Centre.Y) / focal, 1}
}
