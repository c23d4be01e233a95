package settle

import "math"

// A ShutterTrial is how well one pair of frames agrees, by the shutter's angle that was tried.
type ShutterTrial struct {
	Left   []float64 // mean square of what both differ by, for each of the angles
	Pixels float64   // that were compared
}

// FitShutter finds the shutter's angle in degrees on which several pairs of frames agree, and the standard deviation of its
// error: of what both differ by the logarithm goes by how likely an angle is (errors of a Gaussian whose variance is not
// known), between angles along a parabola. The deviation is that of the likelihood and that from leaving out each pair (the
// jackknife: Tukey 1958). ok is false for fewer than two pairs.
func FitShutter(angles []float64, trials []ShutterTrial) (angle, deviation float64, ok bool) {
	if len(trials) < 2 || len(angles) < 3 {
		return 0, 0, false
	}
	const atBest = 4 // of a trace that is not straight, of a shutter that does not open at once
	n := float64(len(trials))
	angle, variance := bestAngle(angles, trials, -1)
	var sum, squares float64
	for without := range trials {
		a, _ := bestAngle(angles, trials, without)
		sum, squares = sum+a, squares+a*a
	}
	scatter := (n - 1) / n * math.Max(squares-sum*sum/n, 0)
	return angle, math.Sqrt(variance + scatter + atBest*atBest), true
}

// bestAngle returns the mean of the angle by its likelihood, and the variance, from all trials but one.
func bestAngle(angles []float64, trials []ShutterTrial, without int) (mean, variance float64) {
	const together = 6 // pixels that are not independent
	cost := make([]float64, len(angles))
	for k, t := range trials {
		if k == without {
			continue
		}
		for i, left := range t.Left {
			cost[i] += t.Pixels / together / 2 * math.Log(math.Max(left, 1e-9))
		}
	}
	at := func(a float64) float64 {
		// The parabola through the three nearest.
		step := angles[1] - angles[0]
		i := min(max(int(math.Round((a-angles[0])/step)), 1), len(angles)-2)
		u := (a - angles[i]) / step
		return cost[i] + u*(cost[i+1]-cost[i-1])/2 + u*u*(cost[i+1]+cost[i-1]-2*cost[i])/2
	}
	first, last := angles[0], angles[len(angles)-1]
	least := math.Inf(1)
	for a := first; a <= last; a++ {
		least = math.Min(least, at(a))
	}
	var sum, one, two float64
	for a := first; a <= last; a++ {
		w := math.Exp(least - at(a))
		sum, one, two = sum+w, one+w*a, two+w*a*a
	}
	mean = one / sum
	return mean, math.Max(two/sum-mean*mean, 0)
}
