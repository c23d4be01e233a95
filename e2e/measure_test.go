package e2e

import (
	"archive/zip"
	"bytes"
	"fmt"
	"image"
	"image/png"
	"io"
	"math"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/check"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/treatment"
	"jardin/core/warp"
)

func (s *server) fetch(path string) []byte {
	response, err := http.Get(s.address + path)
	require.NoError(s.t, err)
	defer response.Body.Close()
	require.Equal(s.t, http.StatusOK, response.StatusCode, path)
	data, err := io.ReadAll(response.Body)
	require.NoError(s.t, err)
	return data
}

// download returns the pictures in a zip file by frame number.
func (s *server) download(path string) map[int]image.Image {
	data := s.fetch(path)
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(s.t, err)
	out := map[int]image.Image{}
	for _, f := range archive.File {
		if filepath.Ext(f.Name) != ".png" {
			continue // manifest and check sums
		}
		in, err := f.Open()
		require.NoError(s.t, err)
		m, err := png.Decode(in)
		require.NoError(s.t, err, f.Name)
		parts := strings.Split(f.Name, ".")
		n, err := strconv.Atoi(parts[len(parts)-2])
		require.NoError(s.t, err, f.Name)
		out[n] = m
	}
	return out
}

// codes returns the code values of a part of a picture.
func codes(m image.Image, r image.Rectangle) *raster.Image {
	out := raster.NewImage(r)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			c, g, b, _ := m.At(x, y).RGBA()
			out.Set(x, y, [4]float32{float32(c >> 8), float32(g >> 8), float32(b >> 8), 1})
		}
	}
	return out
}

func matteOf(m image.Image, r image.Rectangle) *raster.Plane {
	out := raster.NewPlane(r)
	for i := range out.Pix {
		c, _, _, _ := m.At(r.Min.X+i%r.Dx(), r.Min.Y+i/r.Dx()).RGBA()
		out.Pix[i] = float32(c) / 65535
	}
	return out
}

// assess measures rendered frames against the truth, over each of the first dots.
func assess(t testing.TB, frames map[int]image.Image, known demo.Truth, dots int) []check.Report {
	dir := demotest.Footage(t)
	takes := make([][]check.Take, dots)
	reference := make([]*raster.Plane, dots)
	for n := demo.First; n <= demo.Last; n++ {
		real := demotest.ReadPNG(t, demo.FramePath(dir, demo.TruthFolder, n))
		clean := demotest.ReadPNG(t, demo.FramePath(dir, demo.CleanFolder, n))
		matte := demotest.ReadPNG(t, demo.FramePath(dir, demo.MatteFolder, n))
		motion := known.Motion[n]
		for i := range dots {
			d := known.Dots[i]
			c := motion.Apply(geom.Pt(d.X, d.Y))
			inner := raster.Around(geom.Box{Min: c, Max: c}, d.Radius+6, demo.Bounds())
			outer := inner.Inset(-12).Intersect(demo.Bounds())
			takes[i] = append(takes[i], check.Take{
				Frame: n, Result: codes(frames[n], outer), Truth: codes(real, outer), Clean: codes(clean, outer),
				Matte: matteOf(matte, inner), Motion: motion.Apply,
			})
			if n == known.Reference {
				reference[i] = matteOf(matte, inner)
			}
		}
	}
	out := make([]check.Report, dots)
	for i := range out {
		out[i] = check.Measure(takes[i], reference[i])
	}
	return out
}

func say(f check.Figure) string {
	return fmt.Sprintf("%.2f (worst %.2f on %d)", f.All, f.Worst, f.Frame)
}

// A moment is where a surface is on a frame, as the server tells it.
type moment struct {
	Frame int
	Mesh  warp.Mesh
}

func (m *moment) toFrame(t testing.TB) warp.Mapping {
	mapping, err := m.Mesh.Mapping()
	require.NoError(t, err)
	return mapping
}

// followed returns the treatment in force and where one of its tracks is.
func (s *server) followed(shot string, track int) (treatment.Document, []moment) {
	s.t.Helper()
	var rev struct {
		Number   int
		Document treatment.Document
	}
	s.get("/api/shots/"+shot+"/treatment", &rev)
	var motion struct{ Samples []moment }
	s.get(fmt.Sprintf("/api/shots/%s/tracks/%s?revision=%d", shot, rev.Document.Tracks[track].ID, rev.Number), &motion)
	return rev.Document, motion.Samples
}

// assertTrackIsTrue compares the track with the camera's true motion over the
// four corners of the region.
func assertTrackIsTrue(t testing.TB, s *server, shot string, known demo.Truth) {
	doc, samples := s.followed(shot, 0)
	require.Len(t, samples, demo.Last-demo.First+1)
	worst, sum := 0.0, 0.0
	for _, sample := range samples {
		var e float64
		motion := known.Motion[sample.Frame]
		for _, c := range treatment.Points(doc.Tracks[0].Region) {
			d := sample.toFrame(s.t).Apply(c).Dist(motion.Apply(c))
			e += d * d / 4
		}
		worst, sum = math.Max(worst, math.Sqrt(e)), sum+e
	}
	t.Logf(
		"track: %.3f px RMS over the region's corners on the worst frame, %.3f px over all",
		worst,
		math.Sqrt(sum/float64(len(samples))),
	)
	assert.LessOrEqual(t, worst, 0.25, "RMS over the corners on the worst frame")
}

// assertPlateElsewhere checks that every pixel outside the removal's mattes, grown
// by their feather, has the plate's own code values.
func assertPlateElsewhere(t testing.TB, s *server, frames map[int]image.Image, shot string) {
	doc, samples := s.followed(shot, 0)
	r := doc.Removals[0]
	changed, total := 0, 0
	for _, sample := range samples {
		plate := demotest.ReadPNG(t, demotest.Frame(t, demo.PlateFolder, sample.Frame))
		var boxes []image.Rectangle
		for i := range r.Mark.Outlines {
			o := &r.Mark.Outlines[i]
			var knots []geom.Knot
			for k := range o.Points {
				knots = append(knots, o.Points[k].Geom())
			}
			moved := geom.Bounds(warp.ApplyAll(sample.toFrame(s.t), geom.Flatten(knots, 0.05)))
			boxes = append(boxes, raster.Around(moved, (o.Feather+r.Settle.Feather)*1.1+1, demo.Bounds()))
		}
		got := frames[sample.Frame]
		for y := range demo.Height {
			for x := range demo.Width {
				if got.At(x, y) == plate.At(x, y) {
					continue
				}
				total++
				inside := false
				for _, b := range boxes {
					inside = inside || image.Pt(x, y).In(b)
				}
				if !inside {
					changed++
				}
			}
		}
	}
	assert.Zero(t, changed, "pixels changed outside the mattes")
	assert.Greater(t, total, 72*500, "pixels changed inside")
}

func movieFrames(t testing.TB, movie []byte) int {
	path := filepath.Join(t.TempDir(), "movie.mp4")
	require.NoError(t, os.WriteFile(path, movie, 0o644))
	out, err := exec.Command("ffprobe", "-v", "error", "-count_packets", "-select_streams", "v:0", "-show_entries",
		"stream=nb_read_packets", "-of", "csv=p=0", path).
		Output()
	require.NoError(t, err)
	n, err := strconv.Atoi(strings.TrimSpace(string(out)))
	require.NoError(t, err)
	return n
}
