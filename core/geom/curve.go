package geom

// A Key is a set of values on a frame, and how they go on to the next key.
type Key struct {
	Frame  int
	Linear bool
	Values []float64
}

// Between returns the values on frame n: those of the first key before it, of the
// last after it. In between, a linear key goes straight to the next; any other
// follows a cubic that has no overshoot between keys and comes to rest at the
// first and the last (tangents by Fritsch & Butland 1984, "A method for
// constructing local monotone piecewise cubic interpolants"). Keys stand in the
// order of their frames and hold equally many values; there is at least one.
func Between(keys []Key, n int) []float64 {
	i := 0
	for i < len(keys) && keys[i].Frame <= n {
		i++
	}
	if i == 0 {
		return keys[0].Values
	}
	if i == len(keys) {
		return keys[i-1].Values
	}
	a, b := keys[i-1], keys[i]
	width := float64(b.Frame - a.Frame)
	t := float64(n-a.Frame) / width
	out := make([]float64, len(a.Values))
	for v := range out {
		if a.Linear {
			out[v] = a.Values[v] + (b.Values[v]-a.Values[v])*t
			continue
		}
		m0, m1 := tangent(keys, i-1, v)*width, tangent(keys, i, v)*width
		t2, t3 := t*t, t*t*t
		out[v] = (2*t3-3*t2+1)*a.Values[v] + (t3-2*t2+t)*m0 + (3*t2-2*t3)*b.Values[v] + (t3-t2)*m1
	}
	return out
}

// tangent returns the slope of value v at key i, per frame.
func tangent(keys []Key, i, v int) float64 {
	if i == 0 || i == len(keys)-1 {
		return 0
	}
	h0, h1 := float64(keys[i].Frame-keys[i-1].Frame), float64(keys[i+1].Frame-keys[i].Frame)
	d0, d1 := (keys[i].Values[v]-keys[i-1].Values[v])/h0, (keys[i+1].Values[v]-keys[i].Values[v])/h1
	if d0*d1 <= 0 {
		return 0
	}
	w0, w1 := 2*h1+h0, h1+2*h0
	return (w0 + w1) / (w0/d0 + w1/d1)
}
