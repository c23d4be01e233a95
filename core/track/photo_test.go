package track

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"image"
	_ "image/jpeg"
	_ "image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// Photographs and the published homography come from Debian's package opencv-doc;
// OpenCV itself, the yardstick, from python3-opencv. "make test" installs both.
const photographs = "/usr/share/doc/opencv-doc/examples/data/"

// photograph returns a picture's luma (ITU-R BT.601, as OpenCV has it) from 0 to 1.
func photograph(t testing.TB, name string) *raster.Plane {
	f, err := os.Open(photographs + name)
	require.NoError(t, err)
	defer f.Close()
	m, _, err := image.Decode(f)
	require.NoError(t, err)
	p := raster.NewPlane(m.Bounds())
	for y := p.Rect.Min.Y; y < p.Rect.Max.Y; y++ {
		row := p.Row(y, p.Rect.Min.X, p.Rect.Max.X)
		for x := range row {
			r, g, b, _ := m.At(x+p.Rect.Min.X, y).RGBA()
			row[x] = (0.299*float32(r) + 0.587*float32(g) + 0.114*float32(b)) / 65535
		}
	}
	return p
}

// grafMatrix is the published homography from the first to the third picture of the
// "graf" set (Mikolajczyk & Schmid 2005), whose pixel centres are whole numbers.
func grafMatrix(t testing.TB) geom.Homography {
	blob, err := os.ReadFile(photographs + "H1to3p.xml")
	require.NoError(t, err)
	var doc struct {
		H struct {
			Data string `xml:"data"`
		} `xml:"H13"`
	}
	require.NoError(t, xml.Unmarshal(blob, &doc))
	var h geom.Homography
	fields := strings.Fields(doc.H.Data)
	require.Len(t, fields, 9)
	for i, v := range fields {
		h[i], err = strconv.ParseFloat(v, 64)
		require.NoError(t, err)
	}
	return geom.Translation(geom.Pt(0.5, 0.5)).Mul(h).Mul(geom.Translation(geom.Pt(-0.5, -0.5))).Normalised()
}

// seenThrough is a picture through a camera that maps it by h: n x n samples a pixel by
// cubic convolution.
// Only what lies around the region that is followed is worked out; the rest is black.
func seenThrough(p *raster.Plane, h geom.Homography, size image.Rectangle, region []geom.Point, n int) *raster.Plane {
	back, _ := h.Inverse()
	out := raster.NewPlane(size)
	part := raster.Around(geom.Bounds(h.ApplyAll(region)), 70, size)
	raster.Rows(part.Min.Y, part.Max.Y, func(y int) {
		for x := part.Min.X; x < part.Max.X; x++ {
			var sum float32
			for j := range n {
				for i := range n {
					q := back.Apply(
						geom.Pt(float64(x)+(float64(i)+0.5)/float64(n), float64(y)+(float64(j)+0.5)/float64(n)),
					)
					sum += sampled(p, q)
				}
			}
			out.Pix[y*size.Dx()+x] = sum / float32(n*n)
		}
	})
	return out
}

// sampled is a picture between its pixels, black around it.
func sampled(p *raster.Plane, q geom.Point) float32 {
	r := p.Rect
	if q.X < float64(r.Min.X) || q.Y < float64(r.Min.Y) || q.X > float64(r.Max.X) || q.Y > float64(r.Max.Y) {
		return 0
	}
	return p.Cubic(q.X, q.Y)
}

// eight rounds a picture to what 8 bits hold, and returns the codes as well.
func eight(p *raster.Plane) (*raster.Plane, []byte) {
	out, codes := raster.NewPlane(p.Rect), make([]byte, len(p.Pix))
	for i, v := range p.Pix {
		codes[i] = byte(math.Round(math.Min(math.Max(float64(v), 0), 1) * 255))
		out.Pix[i] = float32(codes[i]) / 255
	}
	return out, codes
}

func python(t testing.TB, into any, args ...string) {
	cmd := exec.Command("/usr/bin/python3", append([]string{"testdata/reference.py"}, args...)...)
	cmd.Env = []string{"PATH=/usr/bin:/bin"}
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	require.NoError(t, err, "python3-opencv is installed by make test")
	require.NoError(t, json.Unmarshal(out, into))
}

// A scene is a run of frames of a plane whose motion is known.
type scene struct {
	frames []*raster.Plane
	codes  []byte
	truth  []geom.Homography
	region geom.Box

	followed          *Surface // by hard
	chained, together float64  // how far off frames were that were put elsewhere by all together, and are
}

func (s *scene) add(p *raster.Plane, truth geom.Homography) {
	p, codes := eight(p)
	s.frames, s.codes, s.truth = append(s.frames, p), append(s.codes, codes...), append(s.truth, truth)
}

func moved(points []geom.Point, d geom.Point) []geom.Point {
	h := geom.Translation(d)
	return h.ApplyAll(points)
}

func (s *scene) polygon() []geom.Point { c := s.region.Corners(); return c[:] }

// off is the RMS distance of the region's corners from the truth, pixels.
func (s *scene) off(i int, h geom.Homography) float64 {
	var sum float64
	for _, c := range s.polygon() {
		d := h.Apply(c).Dist(s.truth[i].Apply(c))
		sum += d * d / 4
	}
	return math.Sqrt(sum)
}

type figures struct{ mean, worst, seconds float64 }

func (f figures) String() string {
	return fmt.Sprintf("mean %.3f, worst %.3f px, %.1f ms a frame", f.mean, f.worst, 1000*f.seconds)
}

func (s *scene) ours(t testing.TB) (f figures) {
	began := time.Now()
	tr, err := NewPlane(show(s.frames[0]), s.frames[0].Rect, s.polygon(), nil, geom.Perspective)
	require.NoError(t, err)
	for i := 1; i < len(s.frames); i++ {
		sample, err := tr.Step(show(s.frames[i]), nil)
		require.NoError(t, err, "frame %d", i)
		e := s.off(i, sample.H)
		f.mean, f.worst = f.mean+e/float64(len(s.frames)-1), math.Max(f.worst, e)
	}
	f.seconds = time.Since(began).Seconds() / float64(len(s.frames)-1)
	return f
}

// theirs is what OpenCV makes of it: pyramidal LK with a RANSAC homography, and ECC.
// printed is the same where figures are printed, and nothing in tests, which hold them to nothing.
func (s *scene) printed(t testing.TB, ecc bool) (flow, correlation figures) {
	if !bench() {
		return flow, correlation
	}
	return s.theirs(t, ecc)
}

func (s *scene) theirs(t testing.TB, ecc bool) (flow, correlation figures) {
	path := filepath.Join(t.TempDir(), "frames.u8")
	require.NoError(t, os.WriteFile(path, s.codes, 0o644))
	size, r := s.frames[0].Rect, s.region
	args := []string{"planes", path, fmt.Sprint(size.Dx()), fmt.Sprint(size.Dy()), fmt.Sprint(len(s.frames)),
		fmt.Sprint(int(r.Min.X)), fmt.Sprint(int(r.Min.Y)), fmt.Sprint(int(r.Max.X)), fmt.Sprint(int(r.Max.Y))}
	if ecc {
		args = append(args, "ecc")
	}
	var out struct {
		Flow, Ecc               []*geom.Homography
		FlowSeconds, EccSeconds float64
	}
	python(t, &out, args...)
	sum := func(hs []*geom.Homography, seconds float64) (f figures) {
		for i, h := range hs {
			e := math.Inf(1) // lost
			if h != nil {
				e = s.off(i+1, *h)
			}
			f.mean, f.worst = f.mean+e/float64(len(hs)), math.Max(f.worst, e)
		}
		f.seconds = seconds / float64(len(hs))
		return f
	}
	return sum(out.Flow, out.FlowSeconds), sum(out.Ecc, out.EccSeconds)
}

// grafPath goes smoothly from the identity to the published homography: the corners of
// the picture move along straight lines.
func grafPath(t testing.TB, size image.Rectangle, share float64) geom.Homography {
	h := grafMatrix(t)
	corners := geom.Box{Max: geom.Pt(float64(size.Dx()), float64(size.Dy()))}.Corners()
	var to []geom.Point
	for _, c := range corners {
		to = append(to, c.Lerp(h.Apply(c), share))
	}
	out, err := geom.Fit(geom.Perspective, corners[:], to, nil)
	require.NoError(t, err)
	return out
}

func grafScene(t testing.TB, frames int, change func(i int, p *raster.Plane, h geom.Homography) *raster.Plane) *scene {
	graf := photograph(t, "graf1.png")
	s := &scene{region: geom.Box{Min: geom.Pt(230, 170), Max: geom.Pt(590, 450)}}
	s.add(graf, geom.Identity)
	for i := 1; i <= frames; i++ {
		u := float64(i) / float64(frames)
		h := grafPath(t, graf.Rect, u*u*(3-2*u))
		p := seenThrough(graf, h, graf.Rect, s.polygon(), 2)
		if change != nil {
			p = change(i, p, h)
		}
		s.add(p, h)
	}
	return s
}

func TestPlanesOnPhotographsAgainstTruthAndOpenCV(t *testing.T) {
	shareOf(t, 3)
	if os.Getenv("JARDIN_BENCH") == "" {
		t.Parallel()
	}
	other := photograph(t, "baboon.jpg")
	frames := 10
	if bench() {
		frames = 20
	}
	for _, c := range []struct {
		name  string
		limit float64
		scene *scene
	}{
		{"to the third picture of graf", 0.3, grafScene(t, frames, nil)},
		{"a quarter covered by something moving", 0.5, grafScene(t, frames, func(i int, p *raster.Plane,
			h geom.Homography) *raster.Plane {
			// 210 x 120 of the region's 360 x 280 pixels, going against the surface.
			at := h.Apply(geom.Pt(260+6*float64(i), 240))
			for y := range 120 {
				for x := range 210 {
					if q := image.Pt(int(at.X)+x, int(at.Y)+y); q.In(p.Rect) {
						p.Pix[q.Y*p.Rect.Dx()+q.X] = other.At(x+40, y+60)
					}
				}
			}
			return p
		})},
		{"blur to sigma 4 px and light that flickers by 30 %", 0.4, grafScene(t, frames, func(i int, p *raster.Plane,
			_ geom.Homography) *raster.Plane {
			p = raster.Gaussian(p, 4*float64(i)/float64(frames))
			gain := float32(0.7 + 0.3*math.Cos(2.1*float64(i)))
			for k := range p.Pix {
				p.Pix[k] *= gain
			}
			return p
		})},
	} {
		ours := c.scene.ours(t)
		flow, ecc := c.scene.theirs(t, true)
		t.Logf("%s:\n  ours: %v\n  OpenCV, LK and RANSAC: %v\n  OpenCV, ECC: %v", c.name, ours, flow, ecc)
		assert.LessOrEqual(t, ours.worst, c.limit, c.name)
		assert.LessOrEqual(t, ours.mean, flow.mean, c.name)
		assert.LessOrEqual(t, ours.mean, ecc.mean, c.name)
	}
}

func TestAWalkThatReturnsHasNotDrifted(t *testing.T) {
	shareOf(t, 1)
	graf := photograph(t, "graf1.png")
	frames := 120
	if bench() {
		frames = 300
	}
	s := &scene{}
	s.region = geom.Box{Min: geom.Pt(120, 90), Max: geom.Pt(300, 240)}
	size := image.Rect(0, 0, 420, 330)
	toView := geom.Translation(geom.Pt(-200, -150))
	for i := range frames + 1 {
		a := 2 * math.Pi * float64(i) / float64(frames)
		roll, zoom := 0.12*math.Sin(a), 1+0.15*math.Sin(2*a)
		spin := geom.Homography{
			zoom * math.Cos(roll),
			-zoom * math.Sin(roll),
			0,
			zoom * math.Sin(roll),
			zoom * math.Cos(roll),
			0,
			2e-4 * math.Sin(a),
			1.5e-4 * math.Sin(3*a),
			1,
		}
		h := geom.Translation(geom.Pt(210+40*math.Sin(a), 165+30*math.Sin(2*a))).
			Mul(spin).
			Mul(geom.Translation(geom.Pt(-210, -165)))
		s.add(
			noisy(seenThrough(graf, h.Mul(toView), size, moved(s.polygon(), geom.Pt(200, 150)), 1), 0.01, uint64(i)),
			h,
		)
	}
	tr, err := NewPlane(show(s.frames[0]), size, s.polygon(), nil, geom.Perspective)
	require.NoError(t, err)
	var last float64
	for i := 1; i <= frames; i++ {
		sample, err := tr.Step(show(s.frames[i]), nil)
		require.NoError(t, err, "frame %d", i)
		last = s.off(i, sample.H)
		require.Less(t, last, 0.3, "frame %d", i)
	}
	t.Logf("after %d frames: %.3f px", frames, last)
}

// shifted is a photograph moved by d. The shift is exact for what the picture holds: the
// photograph is first blurred a little, then sampled by a Lanczos kernel of 16 taps
// (Turkowski 1990), so that no interpolation of ours stands between truth and frame.
func shifted(p *raster.Plane, d geom.Point, size image.Rectangle) *raster.Plane {
	const a = 8
	taps := func(v float64) (int, [2 * a]float64) {
		f := math.Floor(v - 0.5)
		var w [2 * a]float64
		var sum float64
		for i := range w {
			x := v - 0.5 - f - float64(i-a+1)
			w[i] = 1
			if x != 0 {
				w[i] = a * math.Sin(math.Pi*x) * math.Sin(math.Pi*x/a) / (math.Pi * math.Pi * x * x)
			}
			sum += w[i]
		}
		for i := range w {
			w[i] /= sum
		}
		return int(f) - a + 1, w
	}
	out := raster.NewPlane(size)
	x0, wx := taps(0.5 - d.X)
	y0, wy := taps(0.5 - d.Y)
	mid := raster.NewPlane(image.Rect(0, 0, size.Dx(), p.Rect.Dy()))
	raster.Rows(0, p.Rect.Dy(), func(y int) {
		for x := range size.Dx() {
			var s float64
			for i, w := range wx {
				s += w * float64(p.At(min(max(x+x0+i, 0), p.Rect.Dx()-1), y))
			}
			mid.Pix[y*size.Dx()+x] = float32(s)
		}
	})
	raster.Rows(0, size.Dy(), func(y int) {
		for x := range size.Dx() {
			var s float64
			for j, w := range wy {
				s += w * float64(mid.At(x, min(max(y+y0+j, 0), p.Rect.Dy()-1)))
			}
			out.Pix[y*size.Dx()+x] = float32(s)
		}
	})
	return out
}

// Eight points on each of three photographs, each in four draws of noise where there is
// noise: with fewer, chance decides between ours and OpenCV's. A pattern is always matched
// free of gain and offset here, which OpenCV's is not.
func TestPointsOnPhotographsAgainstTruthAndOpenCV(t *testing.T) {
	shareOf(t, 0)
	t.Parallel()
	const side, frames = 21, 8
	move := func(i int) geom.Point {
		return geom.Pt(1.37*float64(i)-0.11*float64(i*i), -0.83*float64(i)+0.17*float64(i*i))
	}
	type tally struct{ ours, theirs, count float64 }
	var plain tally
	for _, c := range []struct {
		name                string
		noise, gain, offset float32
		draws               int
		limit               float64
	}{
		{"without noise", 0, 1, 0, 1, 0.02},
		{"noise of 2 %", 0.02, 1, 0, 4, 0.06},
		{"gain 1.6, offset 10 %", 0, 1.6, 0.1, 1, 0.02},
	} {
		var all tally
		for _, name := range []string{"graf1.png", "baboon.jpg", "home.jpg"} {
			photo := raster.Gaussian(photograph(t, name), 0.7)
			for i := range photo.Pix {
				photo.Pix[i] *= (1 - c.offset) / c.gain // room for the gain, so that nothing clips
			}
			size := image.Rect(0, 0, min(photo.Rect.Dx(), 512), min(photo.Rect.Dy(), 384))
			inner := geom.Box{
				Min: geom.Pt(40, 40),
				Max: geom.Pt(float64(size.Dx()-40), float64(size.Dy()-40)),
			}.Corners()
			var exact []*raster.Plane
			for i := range frames + 1 {
				p := shifted(photo, move(i), size)
				if i > 0 {
					for k := range p.Pix {
						p.Pix[k] = p.Pix[k]*c.gain + c.offset
					}
				}
				exact = append(exact, p)
			}
			points := corners(raster.Gaussian(exact[0], presmooth), inner[:], 8)
			for draw := range c.draws {
				var seen []*raster.Plane
				var codes []byte
				for i, p := range exact {
					p, more := eight(noisy(p, float64(c.noise), uint64(100*draw+i)))
					seen, codes = append(seen, p), append(codes, more...)
				}
				var places []string
				for _, at := range points {
					places = append(places, fmt.Sprint(at.X), fmt.Sprint(at.Y))
					p, err := NewPoint(
						show(seen[0]),
						size,
						at,
						PointOptions{
							Pattern:   geom.Pt(side, side),
							Search:    geom.Pt(61, 61),
							Motion:    geom.Position,
							Against:   Reference,
							Tolerance: 0.5,
						},
					)
					require.NoError(t, err)
					for i := 1; i <= frames; i++ {
						s, err := p.Step(show(seen[i]))
						require.NoError(t, err, "%s, %s, frame %d", name, c.name, i)
						d := s.At.Dist(at.Add(move(i)))
						all.ours, all.count = all.ours+d*d, all.count+1
					}
				}
				path := filepath.Join(t.TempDir(), "frames.u8")
				require.NoError(t, os.WriteFile(path, codes, 0o644))
				var out struct{ Points [][][2]float64 }
				python(
					t,
					&out,
					append(
						[]string{
							"points",
							path,
							fmt.Sprint(size.Dx()),
							fmt.Sprint(size.Dy()),
							fmt.Sprint(frames + 1),
							fmt.Sprint(side),
						},
						places...)...)
				for i, found := range out.Points {
					for k, at := range points {
						d := geom.Pt(found[k][0], found[k][1]).Dist(at.Add(move(i + 1)))
						all.theirs += d * d
					}
				}
			}
		}
		ours, theirs := math.Sqrt(all.ours/all.count), math.Sqrt(all.theirs/all.count)
		t.Logf("%s: ours %.4f px RMS, OpenCV's pyramidal Lucas–Kanade %.4f", c.name, ours, theirs)
		assert.LessOrEqual(t, ours, c.limit, c.name)
		// In white noise both are as good as the pattern allows; ours leaves gain and offset
		// free where the light is not surely the same, which costs it a fraction of a per
		// cent. In all else it is the better one.
		allowed := theirs
		if c.noise > 0 {
			allowed *= 1.01
		}
		assert.LessOrEqual(t, ours, allowed, c.name)
		if c.name == "without noise" {
			plain = all
		}
		if c.gain != 1 {
			assert.LessOrEqual(t, ours, 1.1*math.Sqrt(plain.ours/plain.count), "no worse for the change of light")
		}
	}
}
