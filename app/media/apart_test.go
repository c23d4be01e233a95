package media

import (
	"fmt"
	"image"
	"image/png"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/track"
)

// fieldsApart returns both fields of every frame.
func fieldsApart(frames []*Frame, order string) (out []*Frame) {
	at := func(i int) *Frame {
		if i < 0 || i >= len(frames) {
			return nil
		}
		return frames[i]
	}
	for i, f := range frames {
		for k := range 2 {
			out = append(out, field(at(i-1), f, at(i+1), order, k))
		}
	}
	return out
}

// Whatever its size and samples, a frame that was taken apart and woven again is the frame.
func TestFieldsLeaveAsTheyCame(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 1))
	for range 60 {
		s := []Samples{{8, false}, {10, false}, {16, false}, {16, true}, {32, true}}[rng.IntN(5)]
		w, h := 1+rng.IntN(40), 1+rng.IntN(40)
		order := []string{TopFirst, BottomFirst}[rng.IntN(2)]
		alpha := rng.IntN(2) == 1
		var frames []*Frame
		for n := range 3 {
			frames = append(frames, noisy(w, h, s, alpha, n))
		}
		apart := fieldsApart(frames, order)
		for i, want := range frames {
			got, err := Weave(apart[2*i], apart[2*i+1], order)
			require.NoError(t, err)
			name := fmt.Sprint(w, h, s, order, alpha)
			require.Equal(t, want.Codes, got.Codes, name)
			require.Equal(t, want.Floats, got.Floats, name)
			require.Equal(t, want.Alpha, got.Alpha, name)
		}
	}
	_, err := Weave(NewFrame(4, 4, Samples{Depth: 8}), NewFrame(4, 6, Samples{Depth: 8}), TopFirst)
	assert.ErrorContains(t, err, "do not fit together")
}

// A shot that is kept by fields leaves with the numbers, the rate and the timecode that it came with.
func TestAShotTakenApartIsItselfAgainWhenWoven(t *testing.T) {
	for _, rate := range []Rational{{25, 1}, {30000, 1001}, {24, 1}, {25, 2}, {15, 4}} {
		s := Shot{First: 1001, Last: 1048, Rate: rate, Timecode: "01:00:00:00"}
		kept := s.Apart(TopFirst)
		assert.Equal(t, []int{2002, 2097}, []int{kept.First, kept.Last})
		assert.InDelta(t, 2*rate.Float(), kept.Rate.Float(), 1e-9)
		woven := kept.Woven()
		assert.InDelta(t, rate.Float(), woven.Rate.Float(), 1e-9)
		woven.Rate = rate
		assert.Equal(t, s, woven)
		assert.Equal(t, []int{2020, 2021}, kept.Kept(1010))
		assert.Equal(t, s.TimecodeAt(1010), kept.TimecodeAt(2021))
		assert.Equal(t, []int{1010}, s.Kept(1010))
	}
}

// Where nothing moves both fields are the frame, line by line.
func TestAStillPictureIsWholeInBothFields(t *testing.T) {
	one := noisy(31, 22, Samples{Depth: 10}, true, 1).Unpacked()
	for _, f := range fieldsApart([]*Frame{one, one, one}, BottomFirst) {
		assert.Equal(t, one.Codes, f.Codes)
		assert.Equal(t, one.Alpha, f.Alpha)
	}
}

// Bringing in goes on from any field, and gives what it would have given at once.
func TestFieldsAreGoneOnWithFromAnyOfThem(t *testing.T) {
	dir := t.TempDir()
	pngs(t, dir, 11, 4, 16, 12, 8)
	m, err := Inspect(ctx, dir)
	require.NoError(t, err)
	for _, plan := range [][]int{{11, 12, 13, 14}, {12}, {11, 12, 12, 14}} {
		r := Reading{Fields: TopFirst}
		var all []*Frame
		require.NoError(t, m.eachKept(ctx, plan, r, 0, func(k int, f *Frame) error {
			require.Equal(t, len(all), k)
			all = append(all, f)
			return nil
		}))
		require.Len(t, all, 2*len(plan))
		for from := range 2*len(plan) + 1 {
			k := from
			require.NoError(t, m.eachKept(ctx, plan, r, from, func(n int, f *Frame) error {
				require.Equal(t, k, n)
				require.Equal(t, all[n].Codes, f.Codes, "%v from %d: field %d", plan, from, n)
				k++
				return nil
			}))
			require.Equal(t, 2*len(plan), k, "from %d", from)
		}
	}
}

// panning is a photograph (Debian's opencv-doc) seen by a camera that pans, turns and comes closer, at
// field i: one channel of 8 bits, and where its places have gone.
func panning(t testing.TB, i int) (*raster.Plane, geom.Homography) {
	s := float64(i)
	zoom, turn := 0.8+0.002*s, 0.0015*s
	h := geom.Homography{zoom * math.Cos(turn), -zoom * math.Sin(turn), -90 + 3*s, zoom * math.Sin(turn), zoom * math.Cos(turn),
		-60 + 1.7*s, 0.00001 * s, -0.000008 * s, 1}
	back, ok := h.Inverse()
	require.True(t, ok)
	colour := graf()
	out := raster.NewPlane(image.Rect(0, 0, 480, 360))
	const n = 2 // samples a pixel and side
	raster.Rows(0, 360, func(y int) {
		for x := range 480 {
			var sum float32
			for k := range n * n {
				q := back.Apply(geom.Pt(float64(x)+(float64(k%n)+0.5)/n, float64(y)+(float64(k/n)+0.5)/n))
				sum += colour.Bicubic(q.X, q.Y)[0]
			}
			out.Pix[y*480+x] = float32(math.Round(float64(min(max(sum/(n*n), 0), 1))*255)) / 255
		}
	})
	return out, h
}

// graf is the photograph's green.
var graf = sync.OnceValue(func() *raster.Image {
	f, err := os.Open("/usr/share/doc/opencv-doc/examples/data/graf1.png")
	if err != nil {
		panic(err)
	}
	defer f.Close()
	m, err := png.Decode(f)
	if err != nil {
		panic(err)
	}
	out := raster.NewImage(m.Bounds())
	for k := range m.Bounds().Dx() * m.Bounds().Dy() {
		_, g, _, _ := m.At(k%m.Bounds().Dx(), k/m.Bounds().Dx()).RGBA()
		out.Pix[4*k] = float32(g) / 65535
	}
	return out
})

// interlaced writes frames of two moments each, and returns the moments.
func interlaced(t testing.TB, dir, order string, frames int, still bool) (moments []*raster.Plane, at []geom.Homography) {
	for n := range frames {
		f := NewFrame(480, 360, Samples{Depth: 8})
		for i := range 2 {
			moment := 2*n + i
			if still {
				moment = 0
			}
			p, h := panning(t, moment)
			moments, at = append(moments, p), append(at, h)
			for y := ownLines(order, i); y < 360; y += 2 {
				for k := range 3 * 480 {
					f.Codes[3*480*y+k] = uint16(math.Round(float64(p.Pix[480*y+k/3]) * 255))
				}
			}
		}
		require.NoError(t, (Target{Format: "png", Depth: 8}).Write(filepath.Join(dir, fmt.Sprintf("i.%04d.png", 1001+n)), f, Shot{}))
	}
	return moments, at
}

// broughtInByFields takes a folder of frames apart.
func broughtInByFields(t testing.TB, dir, order string) (*Material, *Plates) {
	m, err := Inspect(ctx, dir)
	require.NoError(t, err)
	require.NoError(t, m.FindFields(ctx))
	shot := Shot{First: m.First, Last: m.Last, Rate: Rational{25, 1}, Transfer: colorspace.SRGB, Primaries: m.Primaries}
	p, err := Import(ctx, Order{Material: m, Reading: Reading{Fields: order}, Dir: filepath.Join(t.TempDir(), "p"),
		Shot: shot.Apart(order)}, nil)
	require.NoError(t, err)
	return m, p
}

// A surface is followed through fields as exactly as its moments are known, where whole frames
// would be off by pixels. Aim: 0.15 px.
func TestInterlacedFootageIsFollowedByItsFields(t *testing.T) {
	demotest.Share(t, 3)
	for _, order := range []string{TopFirst, BottomFirst} {
		dir := t.TempDir()
		_, at := interlaced(t, dir, order, 10, false)
		m, p := broughtInByFields(t, dir, order)
		require.Equal(t, order, m.Fields)
		require.Equal(t, 2002, p.First)
		require.Equal(t, 2021, p.Last)
		require.Equal(t, Rational{50, 1}, p.Rate)
		box := geom.Box{Min: geom.Pt(150, 100), Max: geom.Pt(330, 250)}
		corners := []geom.Point{box.Min, geom.Pt(box.Max.X, box.Min.Y), box.Max, geom.Pt(box.Min.X, box.Max.Y)}
		read := func(n int) track.FrameReader {
			return func(rect image.Rectangle) (*raster.Plane, error) {
				rect = rect.Intersect(image.Rect(0, 0, p.Width, p.Height))
				f, err := p.Region(n, rect)
				if err != nil {
					return nil, err
				}
				out := f.Luma()
				out.Rect = rect
				return out, nil
			}
		}
		tr, err := track.NewSurface(read(p.First), image.Rect(0, 0, p.Width, p.Height), corners, nil, geom.Perspective, nil)
		require.NoError(t, err)
		var sum, worst float64
		count := 0
		back, _ := at[0].Inverse()
		for n := p.First + 1; n <= p.Last; n++ {
			s, err := tr.Step(read(n), nil)
			require.NoError(t, err, n)
			truth := at[n-p.First].Mul(back)
			var off float64
			for _, c := range corners {
				a, b := truth.Apply(c), s.H.Apply(c)
				off += ((a.X-b.X)*(a.X-b.X) + (a.Y-b.Y)*(a.Y-b.Y)) / 4
			}
			sum, worst, count = sum+math.Sqrt(off), max(worst, math.Sqrt(off)), count+1
		}
		t.Logf("%s field first: followed to %.3f px, at worst %.3f", order, sum/float64(count), worst)
		assert.Less(t, sum/float64(count), 0.15)
	}
}

// Lines that are made are as near to the truth as those of a widely used deinterlacer.
func TestMadeLinesBesideFFmpeg(t *testing.T) {
	demotest.Share(t, 0)
	for _, still := range []bool{false, true} {
		dir := t.TempDir()
		moments, _ := interlaced(t, dir, TopFirst, 8, still)
		_, p := broughtInByFields(t, dir, TopFirst)
		theirs := t.TempDir()
		between := func(from, to int, picture func(i int) *raster.Plane) float64 {
			var sum float64
			count := 0
			for i := from; i < to; i++ {
				got := picture(i)
				for y := 20 + 1 - i%2; y < 340; y += 2 {
					for x := 20; x < 460; x++ {
						d := float64(got.At(x, y)-moments[i].At(x, y)) * 255
						sum, count = sum+d*d, count+1
					}
				}
			}
			return math.Sqrt(sum / float64(count))
		}
		off := func(picture func(i int) *raster.Plane) float64 { return between(4, 12, picture) }
		made := func(i int) *raster.Plane {
			f, err := p.Read(p.First + i)
			require.NoError(t, err)
			return f.Luma()
		}
		ours := off(made)
		assert.LessOrEqual(t, between(0, 1, made), 1.5*ours+0.01, "the first field, before which nothing is known")
		assert.LessOrEqual(t, between(15, 16, made), 1.5*ours+0.01, "the last")
		report := fmt.Sprintf("still %v: ours %.2f codes", still, ours)
		best := math.Inf(1)
		for _, filter := range []string{"yadif", "bwdif"} {
			out, err := exec.Command("ffmpeg", "-v", "error", "-y", "-framerate", "25", "-start_number", "1001", "-i", filepath.Join(dir, "i.%04d.png"),
				"-vf", "setfield=tff,"+filter+"=mode=send_field:parity=tff", filepath.Join(theirs, filter+".%04d.png")).CombinedOutput()
			require.NoError(t, err, string(out))
			v := off(func(i int) *raster.Plane {
				f, err := os.Open(filepath.Join(theirs, fmt.Sprintf("%s.%04d.png", filter, i+1)))
				require.NoError(t, err)
				defer f.Close()
				m, _, err := image.Decode(f)
				require.NoError(t, err)
				return fromImage(m, Samples{Depth: 8}, false).Luma()
			})
			report += fmt.Sprintf(", FFmpeg's %s %.2f", filter, v)
			best = min(best, v)
		}
		t.Log(report)
		assert.LessOrEqual(t, ours, 1.1*best+0.01)
	}
}
