package treatment

import (
	"fmt"
	"strings"
)

// Runs returns frames, in order, as ranges.
func Runs(frames []int) (out []Range) {
	for _, n := range frames {
		if k := len(out) - 1; k >= 0 && out[k].Last+1 == n {
			out[k].Last = n
		} else {
			out = append(out, Range{n, n})
		}
	}
	return out
}

// Spans names frames, those in a row by the first and the last; of many runs the first four.
func Spans(frames []int) string { return SpansOf(Runs(frames)) }

// SpansOf names ranges as Spans does.
func SpansOf(runs []Range) string {
	const most = 4
	var parts []string
	for _, r := range runs {
		switch {
		case len(parts) == most:
			return strings.Join(parts, ", ") + " and others"
		case r.First == r.Last:
			parts = append(parts, fmt.Sprint(r.First))
		default:
			parts = append(parts, fmt.Sprintf("%d to %d", r.First, r.Last))
		}
	}
	if n := len(parts); n > 1 {
		return strings.Join(parts[:n-1], ", ") + " and " + parts[n-1]
	}
	return strings.Join(parts, "")
}
