package colorspace

import "math"

// power is x to the y, within some 1e-12 of itself, in a fifth of the time that math.Pow takes, which goes to the last bit: a logarithm to
// base two by the series of the inverse hyperbolic tangent, and the exponential's own series (Abramowitz & Stegun 1964, 4.1.27 and 4.2.1).
func power(x, y float64) float64 {
	if !(x > 1e-300 && x < 1e300) {
		return math.Pow(x, y)
	}
	const mantissa, bias = 1<<52 - 1, 1023
	bits := math.Float64bits(x)
	exponent, m := float64(int(bits>>52)-bias), math.Float64frombits(bits&mantissa|bias<<52)
	if m > math.Sqrt2 {
		m, exponent = m/2, exponent+1
	}
	s := (m - 1) / (m + 1)
	q := s * s
	q2 := q * q // terms in pairs, so that they need not wait for each other
	log := s * (2 / math.Ln2) * ((1 + q*(1.0/3)) + q2*((1.0/5+q*(1.0/7))+q2*((1.0/9+q*(1.0/11))+q2*(1.0/13))))
	t := y * (exponent + log)
	if !(math.Abs(t) < 1000) {
		return math.Pow(x, y)
	}
	whole := math.RoundToEven(t)
	f := (t - whole) * math.Ln2
	f2 := f * f
	f4 := f2 * f2
	low, high := (1+f)+f2*(1.0/2+f*(1.0/6)), (1.0/24+f*(1.0/120))+f2*(1.0/720+f*(1.0/5040))
	e := low + f4*(high+f4*((1.0/40320+f*(1.0/362880))+f2*(1.0/3628800)))
	return e * math.Float64frombits(uint64(int(whole)+bias)<<52)
}
