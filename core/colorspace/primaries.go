package colorspace

import (
	"fmt"

	"gonum.org/v1/gonum/mat"
)

// Primaries name the colours of pure red, green and blue, and of white.
type Primaries string

const (
	BT709Primaries  Primaries = "bt709"  // Rec. ITU-R BT.709-6, items 1.3 and 1.4, as sRGB
	P3D65Primaries  Primaries = "p3d65"  // SMPTE ST 2113
	BT2020Primaries Primaries = "bt2020" // Rec. ITU-R BT.2020-2, table 3
	AP0Primaries    Primaries = "ap0"    // SMPTE ST 2065-1 (ACES2065-1)
	AP1Primaries    Primaries = "ap1"    // Academy S-2014-004 (ACEScg), S-2016-001 (ACEScct)
)

// AllPrimaries lists them in the order they are offered.
var AllPrimaries = []Primaries{BT709Primaries, P3D65Primaries, BT2020Primaries, AP0Primaries, AP1Primaries}

// chromaticities of red, green, blue and white: CIE 1931 x and y.
var chromaticities = map[Primaries][4][2]float64{
	BT709Primaries:  {{0.640, 0.330}, {0.300, 0.600}, {0.150, 0.060}, {0.3127, 0.3290}},
	P3D65Primaries:  {{0.680, 0.320}, {0.265, 0.690}, {0.150, 0.060}, {0.3127, 0.3290}},
	BT2020Primaries: {{0.708, 0.292}, {0.170, 0.797}, {0.131, 0.046}, {0.3127, 0.3290}},
	AP0Primaries:    {{0.7347, 0.2653}, {0.0000, 1.0000}, {0.0001, -0.0770}, {0.32168, 0.33767}},
	AP1Primaries:    {{0.713, 0.293}, {0.165, 0.830}, {0.128, 0.044}, {0.32168, 0.33767}},
}

// Valid returns an error that lists the choices if p is none of them.
func (p Primaries) Valid() error {
	if _, ok := chromaticities[p]; !ok {
		return fmt.Errorf("primaries %q are not known: choose from %v", string(p), AllPrimaries)
	}
	return nil
}

// Chromaticities returns x and y of red, green, blue and white.
func (p Primaries) Chromaticities() (out []float64) {
	for _, c := range chromaticities[p] {
		out = append(out, c[0], c[1])
	}
	return out
}

// A Matrix takes a colour to another, by rows.
type Matrix [3][3]float64

// Apply returns the colour that c becomes.
func (m *Matrix) Apply(c [3]float32) (out [3]float32) {
	for i := range out {
		out[i] = float32(m[i][0]*float64(c[0]) + m[i][1]*float64(c[1]) + m[i][2]*float64(c[2]))
	}
	return out
}

func whiteXYZ(xy [2]float64) []float64 {
	return []float64{xy[0] / xy[1], 1, (1 - xy[0] - xy[1]) / xy[1]}
}

// XYZ returns the matrix from linear light to CIE 1931 XYZ, of which white has a Y of
// 1 (SMPTE RP 177).
func (p Primaries) XYZ() Matrix {
	c := chromaticities[p]
	m := mat.NewDense(3, 3, nil)
	for k := range 3 {
		for i, v := range []float64{c[k][0], c[k][1], 1 - c[k][0] - c[k][1]} {
			m.Set(i, k, v)
		}
	}
	var scale mat.VecDense
	if err := scale.SolveVec(m, mat.NewVecDense(3, whiteXYZ(c[3]))); err != nil {
		panic(err) // the tables above are fixed
	}
	var out Matrix
	for i := range 3 {
		for k := range 3 {
			out[i][k] = m.At(i, k) * scale.AtVec(k)
		}
	}
	return out
}

// bradford is the cone response matrix of the Bradford adaptation (ICC.1:2022,
// Annex E).
var bradford = mat.NewDense(3, 3, []float64{0.8951, 0.2664, -0.1614, -0.7502, 1.7135, 0.0367, 0.0389, -0.0685, 1.0296})

// To returns the matrix from the light of these primaries to that of others, whites
// taken to each other by the Bradford adaptation.
func (p Primaries) To(other Primaries) Matrix {
	if p == other || p == "" || other == "" {
		return Matrix{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}
	}
	dense := func(m Matrix) *mat.Dense {
		return mat.NewDense(
			3,
			3,
			[]float64{m[0][0], m[0][1], m[0][2], m[1][0], m[1][1], m[1][2], m[2][0], m[2][1], m[2][2]},
		)
	}
	var from, to, adapt, back, all mat.Dense
	from.Mul(bradford, mat.NewDense(3, 1, whiteXYZ(chromaticities[p][3])))
	to.Mul(bradford, mat.NewDense(3, 1, whiteXYZ(chromaticities[other][3])))
	scale := mat.NewDiagDense(
		3,
		[]float64{to.At(0, 0) / from.At(0, 0), to.At(1, 0) / from.At(1, 0), to.At(2, 0) / from.At(2, 0)},
	)
	adapt.Mul(scale, bradford)
	if err := back.Inverse(bradford); err != nil {
		panic(err) // it is fixed
	}
	adapt.Mul(&back, &adapt)
	if err := back.Inverse(dense(other.XYZ())); err != nil {
		panic(err)
	}
	all.Mul(&adapt, dense(p.XYZ()))
	all.Mul(&back, &all)
	var out Matrix
	for i := range 3 {
		for k := range 3 {
			out[i][k] = all.At(i, k)
		}
	}
	return out
}
