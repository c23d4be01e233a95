package exchange

import (
	"encoding/binary"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/carry"
	"jardin/core/geom"
	"jardin/core/treatment"
	"jardin/core/warp"
)

func motion(n int) geom.Homography {
	t := float64(n - 5)
	return geom.Homography{1 + 0.01*t, -0.02 * t, 3 * t / 7, 0.02 * t, 1 + 0.011*t, -t / 3, 1e-5 * t, -2e-5 * t, 1}
}

func document(t *testing.T) (*treatment.Document, *carry.Set) {
	d := treatment.New()
	plane := treatment.Track{
		ID:      "w",
		Name:    "Wall",
		Kind:    treatment.GivenTrack,
		Home:    5,
		Motion:  geom.Perspective,
		Data:    &treatment.Data{},
		Surface: []treatment.Vec{{10, 10}, {90, 12}, {88, 70}, {9, 66}},
	}
	points := treatment.Track{
		ID:     "p",
		Name:   "Dots",
		Kind:   treatment.PointsTrack,
		Home:   5,
		Motion: geom.Similarity,
		Points: []treatment.Point{
			{
				ID:      "a",
				Name:    "one, \"left\"",
				Home:    5,
				At:      treatment.Vec{20.125, 30},
				Pattern: treatment.Vec{21, 21},
				Search:  treatment.Vec{41, 41},
				Motion:  geom.Position,
				Channel: "luma",
				Against: "reference",
				Path:    &treatment.PointPath{},
			},
			{
				ID:      "b",
				Name:    "two",
				Home:    5,
				At:      treatment.Vec{70, 40.5},
				Pattern: treatment.Vec{21, 21},
				Search:  treatment.Vec{41, 41},
				Motion:  geom.Position,
				Channel: "luma",
				Against: "reference",
				Path:    &treatment.PointPath{},
			},
		},
	}
	for n := 1; n <= 9; n++ {
		h := motion(n)
		plane.Data.Samples = append(
			plane.Data.Samples,
			treatment.Sample{Frame: n, Matrix: h, Match: 0.9, Agree: 0.8, Residual: 0.1 / 3},
		)
		for i := range points.Points {
			q := h.Apply(points.Points[i].At.Point())
			points.Points[i].Path.Samples = append(
				points.Points[i].Path.Samples,
				treatment.PointSample{Frame: n, At: treatment.Vec{q.X, q.Y}, Match: 1.0 / 3},
			)
		}
	}
	d.Tracks = []treatment.Track{plane, points}
	set, err := carry.New(d)
	require.NoError(t, err)
	return d, set
}

func TestTracksComeBackWithoutLoss(t *testing.T) {
	d, set := document(t)
	was := set.Motion("w")
	wall := Of(was)
	matrices, err := wall.CSV("matrices")
	require.NoError(t, err)
	for name, blob := range map[string][]byte{"JSON": wall.JSON(), "CSV": matrices} {
		back, err := Read(blob, "wall", 5)
		require.NoError(t, err, name)
		assert.Equal(t, treatment.GivenTrack, back.Kind)
		require.Len(t, back.Data.Samples, 9)
		for i, s := range back.Data.Samples {
			assert.Equal(t, was.Samples[i].Matrix, s.Matrix, "%s: bit for bit", name)
		}
	}
	corners, err := wall.CSV("corners")
	require.NoError(t, err)
	back, err := Read(corners, "wall", 5)
	require.NoError(t, err)
	assert.Equal(t, d.Tracks[0].Surface, back.Surface)
	for i, s := range back.Data.Samples {
		for _, p := range treatment.Points(d.Tracks[0].Surface) {
			assert.Less(t, was.Samples[i].Matrix.Apply(p).Dist(s.Matrix.Apply(p)), 1e-9, "four corners say it all")
		}
	}

	dots := Of(set.Motion("p"))
	table, err := dots.CSV("points")
	require.NoError(t, err)
	for name, blob := range map[string][]byte{"JSON": dots.JSON(), "CSV": table} {
		back, err := Read(blob, "dots", 5)
		require.NoError(t, err, name)
		back.ID = "back"
		require.Len(t, back.Points, 2)
		assert.Equal(t, `one, "left"`, back.Points[0].Name)
		for i := range back.Points {
			assert.Equal(t, d.Tracks[1].Points[i].At, back.Points[i].At, name)
			for k, v := range back.Points[i].Path.Samples {
				assert.Equal(t, d.Tracks[1].Points[i].Path.Samples[k].At, v.At, "%s: bit for bit", name)
			}
		}
		again, err := carry.New(&treatment.Document{Tracks: []treatment.Track{*back}})
		require.NoError(t, err)
		assert.Len(t, again.Motion("back").Samples, 9)
	}
	_, err = wall.CSV("points")
	assert.ErrorContains(t, err, "no points")
}

func TestBadTracksAreRefusedClearly(t *testing.T) {
	for blob, says := range map[string]string{
		"":           "neither JSON nor comma-separated",
		"a,b\n1,2\n": "columns a,b are not known",
		"frame,h11,h12,h13,h21,h22,h23,h31,h32,h33\n1,1,0,0,0,x,0,0,0,1\n":                      `line 2: h22 is "x"`,
		"frame,h11,h12,h13,h21,h22,h23,h31,h32,h33\n1,0,0,0,0,0,0,0,0,1\n":                      "cannot be inverted",
		"frame,h11,h12,h13,h21,h22,h23,h31,h32,h33\n1,NaN,0,0,0,1,0,0,0,1\n":                    "cannot be",
		"frame,h11,h12,h13,h21,h22,h23,h31,h32,h33\n1,1,0,0,0,1,0,0,0,1\n1,1,0,0,0,1,0,0,0,1\n": "stands in it twice",
		"frame,h11,h12,h13,h21,h22,h23,h31,h32,h33\n":                                           "no frames",
		"frame,x1,y1,x2,y2,x3,y3,x4,y4\n1,0,0,1,1,2,2,3,3\n2,0,0,1,1,2,2,3,4\n":                 "on one line",
		`{"format":"other","version":1}`:                                                        `format "other"`,
		`{"format":"jardin/track","version":1,"samples":[]}`:                                    "no frames",
	} {
		_, err := Read([]byte(blob), "x", 1)
		assert.ErrorContains(t, err, says, "%q", blob)
	}
}

func TestOutlinesComeBackFromSVG(t *testing.T) {
	d, set := document(t)
	half := 0.5
	r := treatment.Removal{
		ID:     "r",
		Name:   "r",
		Follow: treatment.Follow{Track: "w"},
		Mark: treatment.Mark{Outlines: []treatment.Shape{
			{
				ID:      "a",
				Name:    "Dot & more",
				Kind:    treatment.Outline,
				Home:    5,
				Feather: 3,
				Opacity: &half,
				Points: []treatment.Knot{
					{
						At:  treatment.Vec{20, 20},
						In:  &treatment.Vec{-5, 1},
						Out: &treatment.Vec{5, -1},
					}, {At: treatment.Vec{50, 22}}, {At: treatment.Vec{40, 60.25}}},
			},
			{
				ID:      "b",
				Name:    "Wire",
				Kind:    treatment.Strand,
				Home:    5,
				Combine: treatment.Take,
				Points:  []treatment.Knot{{At: treatment.Vec{-10, 5}, Width: 4}, {At: treatment.Vec{90, 70}, Width: 2}},
			},
		}},
	}
	d.Removals = []treatment.Removal{r}
	blob, err := SVG(set, &r, 8, 100, 80)
	require.NoError(t, err)
	back, err := ReadSVG(blob, 1)
	require.NoError(t, err)
	require.Len(t, back, 2)
	assert.Equal(t, "Dot & more", back[0].Name)
	assert.Equal(t, 8, back[0].Home, "the file says on which frame they lie")
	assert.Equal(t, treatment.Strand, back[1].Kind)
	assert.Equal(t, treatment.Take, back[1].Combine)
	assert.Equal(t, half, back[0].Through())
	for i := range back {
		pose, ok := set.Pose(&r.Mark.Outlines[i], "w", 8)
		require.True(t, ok)
		for k, knot := range pose.Knots() {
			got := back[i].Points[k].Geom()
			assert.Equal(t, knot.At, got.At, "points bit for bit")
			assert.InDelta(t, 0, knot.In.Dist(got.In)+knot.Out.Dist(got.Out), 1e-12)
		}
	}
	// A file by another hand, with commas and without spaces.
	plain, err := ReadSVG(
		[]byte(`<svg xmlns="http://www.w3.org/2000/svg"><path d="M10,10L50,10 C60,20,60,30,50,40Z"/></svg>`),
		7,
	)
	require.NoError(t, err)
	assert.Len(t, plain[0].Points, 3)
	assert.Equal(t, 7, plain[0].Home)
	for bad, says := range map[string]string{"x": "not an SVG", `<svg xmlns="http://www.w3.org/2000/svg"/>`: "no path",
		`<svg xmlns="http://www.w3.org/2000/svg"><path d="M 1 2 l 3 4"/></svg>`: "in capitals", `<svg xmlns="http://www.w3.org/2000/svg"><path d="M 1 2 L 3"/></svg>`: "cut short"} {
		_, err := ReadSVG([]byte(bad), 1)
		assert.ErrorContains(t, err, says)
	}
}

// OpenCV, an independent reader, finds the numbers that were written.
func TestTheWarpIsReadByOthers(t *testing.T) {
	lattice := geom.Lattice{
		Box:     geom.Bounds([]geom.Point{{X: 0, Y: 0}, {X: 64, Y: 48}}),
		Columns: 2,
		Rows:    2,
		Shift:   make([]geom.Point, 9),
	}
	lattice.Shift[4] = geom.Pt(5, -3) // the surface is bent: the map is of that, too
	h, ok := warp.NewBent(motion(9), motion(3), []geom.Lattice{lattice}, nil)
	require.True(t, ok)
	path := filepath.Join(t.TempDir(), "st.exr")
	require.NoError(t, os.WriteFile(path, Warp(h, 64, 48), 0o644))
	read := exec.Command(
		"/usr/bin/python3",
		"-c",
		`import cv2, sys; sys.stdout.buffer.write(cv2.imread(sys.argv[1], cv2.IMREAD_UNCHANGED).tobytes())`,
		path,
	)
	read.Env = []string{"PATH=/usr/bin:/bin", "OPENCV_IO_ENABLE_OPENEXR=1"}
	out, err := read.Output()
	require.NoError(t, err)
	require.Len(t, out, 3*4*64*48)
	at := func(channel, x, y int) float64 { // blue, green, red
		return float64(math.Float32frombits(binary.LittleEndian.Uint32(out[4*(3*(y*64+x)+channel):])))
	}
	for _, p := range [][2]int{{0, 0}, {63, 0}, {20, 33}, {63, 47}} {
		q := h.Apply(geom.Pt(float64(p[0])+0.5, float64(p[1])+0.5))
		assert.InDelta(t, q.X/64, at(2, p[0], p[1]), 1e-6, "R")
		assert.InDelta(t, 1-q.Y/48, at(1, p[0], p[1]), 1e-6, "G")
	}
}
