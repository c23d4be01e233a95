package demo_test

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/treatment"
)

func source(t testing.TB) *picture.Source {
	m, err := media.Inspect(context.Background(), demotest.Folder(t, demo.PlateFolder))
	require.NoError(t, err)
	p, err := media.Import(
		context.Background(),
		media.Order{
			Material: m,
			Dir:      filepath.Join(t.TempDir(), "p"),
			Shot: media.Shot{
				First:     demo.First,
				Rate:      m.Rate,
				Transfer:  colorspace.SRGB,
				Primaries: colorspace.BT709Primaries,
			},
		},
		nil,
	)
	require.NoError(t, err)
	return picture.NewSource(p, "demo", nil)
}

// python runs OpenCV from Debian's package python3-opencv.
func python(t testing.TB, script string, args ...string) []byte {
	cmd := exec.Command("/usr/bin/python3", append([]string{"testdata/" + script}, args...)...)
	cmd.Env = []string{"PATH=/usr/bin:/bin"}
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	require.NoError(t, err, "python3-opencv is installed by make test")
	return out
}

// Our tracker of planes on lm_010 against the true motion and against OpenCV's
// pyramidal Lucas–Kanade with a RANSAC homography on the same frames.
func TestTheTrackerAgainstTruthAndOpenCV(t *testing.T) {
	demotest.Share(t, 2)
	s := source(t)
	for _, box := range [][4]int{{190, 95, 600, 345}, {480, 250, 760, 420}, {60, 380, 420, 520}} {
		t.Run(fmt.Sprint(box), func(t *testing.T) {
			region := []treatment.Vec{
				{float64(box[0]), float64(box[1])},
				{float64(box[2]), float64(box[1])},
				{float64(box[2]), float64(box[3])},
				{float64(box[0]), float64(box[3])},
			}
			doc := treatment.New()
			doc.Tracks = []treatment.Track{
				{
					ID:     "wall",
					Kind:   treatment.PlaneTrack,
					Home:   demo.Reference,
					Region: region,
					Motion: geom.Perspective,
				},
			}
			var samples []treatment.Sample
			began := time.Now()
			err := s.Follow(
				context.Background(),
				doc,
				picture.Run{Track: "wall", From: demo.Reference, First: demo.First, Last: demo.Last},
				func(f picture.Tracked) {
					samples = append(samples, *f.Sample)
				},
			)
			ours := time.Since(began)
			require.NoError(t, err)
			require.Len(t, samples, demo.Last-demo.First+1)
			var theirs map[int]geom.Homography
			began = time.Now()
			out := python(
				t,
				"reference.py",
				"track",
				demotest.Folder(t, demo.PlateFolder),
				fmt.Sprint(demo.First),
				fmt.Sprint(demo.Last),
				fmt.Sprint(demo.Reference),
				fmt.Sprint(box[0]),
				fmt.Sprint(box[1]),
				fmt.Sprint(box[2]),
				fmt.Sprint(box[3]),
			)
			python := time.Since(began)
			require.NoError(t, json.Unmarshal(out, &theirs))

			rms := func(h geom.Homography, n int) (sum float64) {
				truth := demo.Transform(demo.Reference, n)
				for _, c := range treatment.Points(region) {
					d := h.Apply(c).Dist(truth.Apply(c))
					sum += d * d / 4
				}
				return sum
			}
			var our, their, ourWorst, theirWorst float64
			for _, sample := range samples {
				if sample.Frame == demo.Reference {
					continue
				}
				a, b := rms(sample.Matrix, sample.Frame), rms(theirs[sample.Frame], sample.Frame)
				our, their = our+a, their+b
				ourWorst, theirWorst = math.Max(ourWorst, math.Sqrt(a)), math.Max(theirWorst, math.Sqrt(b))
			}
			n := float64(len(samples) - 1)
			our, their = math.Sqrt(our/n), math.Sqrt(their/n)
			t.Logf(
				"RMS over the corners: ours %.3f px, worst frame %.3f; OpenCV %.3f px, worst frame %.3f; time %.1f "+
					"to %.1f s (with its start and reading PNG)",
				our,
				ourWorst,
				their,
				theirWorst,
				ours.Seconds(),
				python.Seconds(),
			)
			assert.LessOrEqual(t, ourWorst, 0.25)
			assert.LessOrEqual(t, our, their, "no larger than OpenCV's error")
		})
	}
}

// Our blur and pyramid against cv2.GaussianBlur and cv2.pyrDown, which has the
// same 5-tap kernel but mirrors at the border: the border is left out.
func TestFiltersAgainstOpenCV(t *testing.T) {
	s := source(t)
	f, err := s.Plates.Read(1001)
	require.NoError(t, err)
	luma := f.Luma()
	dir := t.TempDir()
	in := make([]byte, 0, 4*len(luma.Pix))
	for _, v := range luma.Pix {
		in = binary.LittleEndian.AppendUint32(in, math.Float32bits(v))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in"), in, 0o644))
	python(
		t,
		"reference.py",
		"filters",
		filepath.Join(dir, "in"),
		fmt.Sprint(demo.Width),
		fmt.Sprint(demo.Height),
		"2.3",
		filepath.Join(dir, "out"),
	)
	out, err := os.ReadFile(filepath.Join(dir, "out"))
	require.NoError(t, err)
	at := func(i int) float64 { return float64(math.Float32frombits(binary.LittleEndian.Uint32(out[4*i:]))) }
	worst := 0.0
	for i, v := range raster.Gaussian(luma, 2.3).Pix {
		worst = math.Max(worst, math.Abs(float64(v)-at(i)))
	}
	assert.Less(t, worst, 2e-6, "Gaussian")
	half := raster.Half(luma)
	worst = 0
	for y := 2; y < half.Rect.Dy()-2; y++ {
		for x := 2; x < half.Rect.Dx()-2; x++ {
			i := len(luma.Pix) + y*half.Rect.Dx() + x
			worst = math.Max(worst, math.Abs(float64(half.At(x, y))-at(i)))
		}
	}
	assert.Less(t, worst, 2e-6, "halving")
}

// The footage is what its description promises: deterministic, the same as its
// truth outside the dots, with grain strongest in blue and about 1.2 pixels wide.
func TestTheFootageIsWhatItSays(t *testing.T) {
	demotest.Share(t, 4)
	shot := demo.New()
	a, b := shot.Frame(1020), demo.New().Frame(1020)
	assert.Equal(t, a.Plate.Pix, b.Plate.Pix, "two makings are the same to the bit")

	file := demotest.ReadPNG(t, demotest.Frame(t, demo.PlateFolder, 1020))
	codes := demo.Codes(a.Plate)
	marked, torn, odd := 0, 0, 0
	truth := demo.Codes(a.Truth)
	for i := range demo.Width * demo.Height {
		r, g, bl, _ := file.At(i%demo.Width, i/demo.Width).RGBA()
		if [3]uint16{uint16(r >> 8), uint16(g >> 8), uint16(bl >> 8)} != [3]uint16(codes[3*i:3*i+3]) {
			torn++
		}
		if a.Matte.Pix[i] > 0 {
			marked++
		} else if [3]uint16(codes[3*i:3*i+3]) != [3]uint16(truth[3*i:3*i+3]) {
			odd++
		}
	}
	assert.Zero(t, torn, "the file holds the frame")
	assert.Zero(t, odd, "outside the dots plate and truth are one")
	_, radius := demo.Dots(1020)
	area := 0.0
	for _, r := range radius {
		area += math.Pi * r * r
	}
	assert.InEpsilon(t, area, float64(marked), 0.5, "mattes are dots")

	// Grain by channel, and its correlation with the neighbour. White noise through
	// the kernel (e, 1, e), e = exp(-1/(2 sigma^2)), is correlated by 2e/(1 + 2e^2);
	// sigma is 1.2/2.355, and taps farther out hold less than a thousandth.
	clean := demo.Codes(a.Clean)
	var power, beside [3]float64
	r := image.Rect(300, 150, 600, 350)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			i := 3 * (y*demo.Width + x)
			for c := range 3 {
				g, h := float64(truth[i+c])-float64(clean[i+c]), float64(truth[i+3+c])-float64(clean[i+3+c])
				power[c], beside[c] = power[c]+g*g, beside[c]+g*h
			}
		}
	}
	assert.Greater(t, power[2], 2*power[0], "blue is noisiest")
	assert.Greater(t, power[0], power[1])
	sigma := 1.2 / 2.3548
	e := math.Exp(-1 / (2 * sigma * sigma))
	assert.InDelta(t, 2*e/(1+2*e*e), beside[0]/power[0], 0.02)
}

// lm_020 is what it says: deterministic, the same as its truth outside of what hangs
// there, and the hedge moves as the transforms say.
func TestTheCanIsWhatItSays(t *testing.T) {
	demotest.Share(t, 1)
	a, b := demo.NewCan().Frame(1013), demo.NewCan().Frame(1013)
	assert.Equal(t, a.Plate.Pix, b.Plate.Pix, "two makings are the same to the bit")
	plate, truth := demo.Codes(a.Plate), demo.Codes(a.Truth)
	marked, odd := 0.0, 0
	for i, m := range a.Matte.Pix {
		if m == 0 && [3]uint16(truth[3*i:3*i+3]) != [3]uint16(plate[3*i:3*i+3]) {
			odd++
		}
		marked += float64(m)
	}
	assert.Zero(t, odd, "outside the rig plate and truth are one")
	known := demotest.CanTruth(t)
	want := 0.0
	for _, h := range known.Hangings[1013] { // what of each is in the picture, above the can
		top, end := geom.Pt(h.Points[0][0], h.Points[0][1]), geom.Pt(h.Points[2][0], h.Points[2][1])
		want += h.Width * top.Dist(end) * end.Y / (end.Y - top.Y)
	}
	assert.InEpsilon(t, want, marked, 0.1, "the mattes are as large as rod and wires")

	// A patch of hedge, carried by the true transform, looks the same on another frame.
	m, err := media.Inspect(context.Background(), demotest.Folder(t, demo.CanPlateFolder))
	require.NoError(t, err)
	p, err := media.Import(
		context.Background(),
		media.Order{
			Material: m,
			Dir:      filepath.Join(t.TempDir(), "p"),
			Shot: media.Shot{
				First:     demo.CanFirst,
				Rate:      m.Rate,
				Transfer:  colorspace.SRGB,
				Primaries: colorspace.BT709Primaries,
			},
		},
		nil,
	)
	require.NoError(t, err)
	s := picture.NewSource(p, "can", nil)
	doc := treatment.New()
	region := []treatment.Vec{{640, 200}, {900, 200}, {900, 480}, {640, 480}}
	doc.Tracks = []treatment.Track{
		{ID: "hedge", Kind: treatment.PlaneTrack, Home: demo.CanReference, Region: region, Motion: geom.Perspective},
	}
	var sum, count float64
	err = s.Follow(
		context.Background(),
		doc,
		picture.Run{Track: "hedge", From: demo.CanReference, First: demo.CanFirst, Last: demo.CanLast},
		func(f picture.Tracked) {
			motion := known.Motion[f.Frame]
			for _, c := range treatment.Points(region) {
				sum, count = sum+f.Sample.Matrix.Apply(c).Dist(motion.Apply(c)), count+1
			}
		},
	)
	require.NoError(t, err)
	t.Logf("the hedge: %.3f px on average over the region's corners", sum/count)
	assert.LessOrEqual(t, sum/count, 0.15)
}
