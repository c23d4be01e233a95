package check

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"jardin/core/geom"
	"jardin/core/raster"
)

// FrameScore are what makes a frame fit to be the reference frame, as measured. Score
// is set by Rank.
type FrameScore struct {
	Frame     int     `json:"frame"`
	Score     float64 `json:"score" doc:"0 to 1; 1 is the best frame in every respect"`
	Sharpness float64 `json:"sharpness" doc:"Detail of one pixel's size, against detail of three, in and around the thing"`
	Smear     float64 `json:"smear" doc:"How far the surface moves while the shutter is open, pixels, for a shutter open half the time"`
	Evenness  float64 `json:"evenness" doc:"1 less the slow change of light across the thing's surroundings, as a share of their brightness"`
	Size      float64 `json:"size" doc:"Area of the marked thing, square pixels"`
	Inside    float64 `json:"inside" doc:"Share of the thing that lies in the picture"`
	Clear     float64 `json:"clear" doc:"Share of the surface with nothing in front, as the track saw it"`
}

// Around measures sharpness and evenness of what luma shows in and around a
// polygon; the other looks are of where the polygon lies.
func (l *FrameScore) Around(luma *raster.Plane, polygon []geom.Point) {
	box := geom.Bounds(polygon)
	margin := math.Max(12, math.Max(box.Max.X-box.Min.X, box.Max.Y-box.Min.Y)/2)
	r := raster.Around(box, margin, luma.Rect)
	if r.Dx() < 8 || r.Dy() < 8 {
		return
	}
	p := raster.NewPlane(r)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		copy(p.Row(y, r.Min.X, r.Max.X), luma.Row(y, r.Min.X, r.Max.X))
	}
	// Two bands of detail: what a little blur takes away first, against what it leaves.
	a, b, c := raster.Gaussian(p, 0.8), raster.Gaussian(p, 1.6), raster.Gaussian(p, 4)
	var fine, coarse float64
	for i := range a.Pix {
		f, g := float64(a.Pix[i]-b.Pix[i]), float64(b.Pix[i]-c.Pix[i])
		fine, coarse = fine+f*f, coarse+g*g
	}
	if coarse > 0 {
		l.Sharpness = math.Sqrt(fine / coarse)
	}
	// Light: a plane through the brightness around the thing.
	low := raster.Gaussian(p, math.Max(4, margin/4))
	var mean, lightest, darkest float64 = 0, 0, math.Inf(1)
	n := 0
	for y := r.Min.Y; y < r.Max.Y; y += 2 {
		for x := r.Min.X; x < r.Max.X; x += 2 {
			if geom.Inside(polygon, geom.Pt(float64(x)+0.5, float64(y)+0.5)) {
				continue
			}
			v := float64(low.At(x, y))
			mean, n = mean+v, n+1
			lightest, darkest = math.Max(lightest, v), math.Min(darkest, v)
		}
	}
	if n > 0 && mean > 0 {
		l.Evenness = math.Max(0, 1-(lightest-darkest)/(mean/float64(n)))
	}
}

// Rank scores frames against each other, best first, and says in words why the
// best one is.
func Rank(all []FrameScore) ([]FrameScore, string) {
	if len(all) == 0 {
		return nil, "The thing is in none of the frames."
	}
	out := slices.Clone(all)
	most := func(of func(l *FrameScore) float64) (best float64) {
		for i := range out {
			best = math.Max(best, of(&out[i]))
		}
		return math.Max(best, 1e-9)
	}
	sharp := most(func(l *FrameScore) float64 { return l.Sharpness })
	even := most(func(l *FrameScore) float64 { return l.Evenness })
	size := most(func(l *FrameScore) float64 { return l.Size })
	for i := range out {
		l := &out[i]
		// Each in 0 to 1. A smear of two pixels halves; what is cut or covered counts most.
		l.Score = math.Pow(
			l.Sharpness/sharp,
			1.5,
		) / (1 + l.Smear/2) * math.Sqrt(
			l.Evenness/even,
		) * math.Sqrt(
			l.Size/size,
		) *
			math.Pow(
				l.Inside,
				3,
			) * l.Clear * l.Clear
	}
	slices.SortStableFunc(out, func(a, b FrameScore) int {
		switch {
		case a.Score > b.Score:
			return -1
		case a.Score < b.Score:
			return 1
		}
		return a.Frame - b.Frame
	})
	best := out[0]
	var good, poor []string
	say := func(ok bool, yes, no string) {
		if ok {
			good = append(good, yes)
		} else if no != "" {
			poor = append(poor, no)
		}
	}
	say(
		best.Sharpness > 0.93*sharp,
		"it is as sharp as any",
		fmt.Sprintf("%.0f %% as sharp as the sharpest", 100*best.Sharpness/sharp),
	)
	say(
		best.Smear < 0.7,
		fmt.Sprintf("it hardly moves (%.1f px while the shutter is open)", best.Smear),
		fmt.Sprintf("it moves %.1f px while the shutter is open", best.Smear),
	)
	say(
		best.Size > 0.9*size,
		"the thing is at its largest",
		fmt.Sprintf("the thing has %.0f %% of its largest area", 100*best.Size/size),
	)
	say(best.Evenness > 0.9*even, "the light on it is even", "the light on it is uneven")
	say(
		best.Inside > 0.999,
		"all of it is in the picture",
		fmt.Sprintf("%.0f %% of it is cut off by the picture", 100*(1-best.Inside)),
	)
	say(
		best.Clear > 0.95,
		"nothing stands in front",
		fmt.Sprintf("%.0f %% of the surface around it is covered", 100*(1-best.Clear)),
	)
	words := fmt.Sprintf("Frame %d: %s.", best.Frame, strings.Join(good, ", "))
	if len(good) == 0 {
		words = fmt.Sprintf("Frame %d is the best of them, though no frame is good.", best.Frame)
	}
	if len(poor) > 0 {
		words += " But " + strings.Join(poor, ", ") + "."
	}
	return out, words
}
