package picture_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/colorspace"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/treatment"
)

// two is the document with a second removal beside the first, both soft at their edges.
func two(t *testing.T, s *picture.Source) *treatment.Document {
	d := document()
	require.NoError(t, follow(t, s, d, picture.Run{Track: "t", From: 8, First: 1, Last: 20}))
	d.Removals[0].Mark.Outlines[0].Feather = 4
	other := d.Removals[0]
	other.ID, other.Name = "q", "q"
	other.Mark.Outlines = slices.Clone(other.Mark.Outlines)
	other.Mark.Outlines[0].Points = []treatment.Knot{
		{At: treatment.Vec{20, 60}},
		{At: treatment.Vec{32, 60}},
		{At: treatment.Vec{32, 72}},
		{At: treatment.Vec{20, 72}},
	}
	other.Fill.Sources = slices.Clone(other.Fill.Sources)
	other.Fill.Sources[0] = other.Fill.Sources[0].Own()
	other.Fill.Sources[0].Strokes()[0].Path = &treatment.Path{Points: [][]float64{{26, 66}}}
	d.Removals = append(d.Removals, other)
	return d
}

// delivered writes a delivery and brings it in again.
func delivered(t *testing.T, s *picture.Source, doc *treatment.Document, w picture.DeliverySpec) *media.Plates {
	t.Helper()
	d := picture.Delivery{Dir: t.TempDir(), Shot: "x", Version: 3, Document: doc, DeliverySpec: w}
	require.NoError(t, d.Prepare(s.Plates, doc, "PNG"))
	c, err := render.Compile(doc)
	require.NoError(t, err)
	require.NoError(t, s.Deliver(ctx, c, d, nil))
	m, err := media.Inspect(ctx, filepath.Join(d.Dir, "frames"))
	require.NoError(t, err)
	p, err := media.Import(
		ctx,
		media.Order{
			Material: m,
			Dir:      filepath.Join(t.TempDir(), "p"),
			Shot:     media.Shot{First: m.First, Rate: m.Rate, Transfer: m.Transfer, Primaries: m.Primaries},
		},
		nil,
	)
	require.NoError(t, err)
	return p
}

func light(t *testing.T, p *media.Plates, n int) (*raster.Image, *media.Frame) {
	t.Helper()
	f, err := p.Whole(n)
	require.NoError(t, err)
	return f.Linear(p.Coder(p.Transfer)), f
}

// The patch with its alpha, laid over the plate by whoever gets it, is the clean frame:
// premultiplied and straight.
func TestThePatchOverThePlateIsTheCleanFrame(t *testing.T) {
	s := shot(t, 16, 0)
	doc := two(t, s)
	exr := &media.Target{Format: "exr", Depth: 32, Float: true}
	clean := delivered(t, s, doc, picture.DeliverySpec{Target: exr})
	for _, straight := range []bool{false, true} {
		patch := delivered(t, s, doc, picture.DeliverySpec{What: picture.PatchOnly, Target: exr, Straight: straight})
		mattes := delivered(
			t,
			s,
			doc,
			picture.DeliverySpec{What: picture.Mattes, Target: &media.Target{Format: "png", Depth: 16}},
		)
		for _, n := range []int{1, 8, 15} {
			want, _ := light(t, clean, n)
			over, f := light(t, patch, n)
			plate, _ := light(t, s.Plates, n)
			_, matte := light(t, mattes, n)
			soft := 0
			for i := range 128 * 96 {
				a := f.Alpha.Floats[i]
				if a > 0.05 && a < 0.95 {
					soft++
				}
				assert.InDelta(t, a, float32(matte.Codes[3*i])/65535, 1e-4)
				for c := range 3 {
					v := over.Pix[4*i+c]
					if straight {
						v *= a
					}
					require.InDelta(
						t,
						want.Pix[4*i+c],
						v+plate.Pix[4*i+c]*(1-a),
						3e-5,
						"straight %v, frame %d, pixel %d,%d",
						straight,
						n,
						i%128,
						i/128,
					)
				}
			}
			assert.Greater(t, soft, 20, "soft edges were looked at")
		}
	}
}

// What is marked is delivered as code values; nothing is gathered here, and nothing said to be.
func TestWhatIsMarkedIsDelivered(t *testing.T) {
	s := shot(t, 16, 0)
	doc := two(t, s)
	ready, err := render.Compile(doc)
	require.NoError(t, err)
	spec := picture.DeliverySpec{
		What: picture.Marked, Removals: []string{"q"}, Range: &treatment.Range{First: 7, Last: 9},
		Target: &media.Target{Format: "png", Depth: 16},
	}
	marked := delivered(t, s, doc, spec)
	matte, err := s.Evaluator().Matte(ctx, ready, "q", 8)
	require.NoError(t, err)
	_, f := light(t, marked, 8)
	all := 0
	for i := range 128 * 96 {
		var want float32
		if p := image.Pt(i%128, i/128); p.In(matte.Rect) {
			want = matte.At(p.X, p.Y)
		}
		require.InDelta(t, want, float32(f.Codes[3*i])/65535, 1e-4)
		if want > 0 {
			all++
		}
	}
	assert.Greater(t, all, 50)
	spec.What = picture.Found
	_, f = light(t, delivered(t, s, doc, spec), 8)
	assert.Zero(t, slices.Max(f.Codes))
}

func TestARemovalIsDeliveredAlone(t *testing.T) {
	s := shot(t, 16, 0)
	doc := two(t, s)
	alone := delivered(
		t,
		s,
		doc,
		picture.DeliverySpec{Removals: []string{"q"}, Range: &treatment.Range{First: 7, Last: 9}},
	)
	assert.Equal(t, []int{7, 9}, []int{alone.First, alone.Last})
	_, f := light(t, alone, 8)
	_, plate := light(t, s.Plates, 8)
	changed := image.Rectangle{}
	for i := range 128 * 96 {
		if f.Codes[3*i] != plate.Codes[3*i] {
			changed = changed.Union(image.Rect(i%128, i/128, i%128+1, i/128+1))
		}
	}
	assert.True(t, changed.In(image.Rect(14, 54, 38, 78)) && changed.Dx() > 8, "%v", changed)
}

// A delivery that is interrupted goes on with what is missing, movies as well.
func TestAnInterruptedDeliveryGoesOn(t *testing.T) {
	s := shot(t, 8, 0)
	d := delivery(t, s)
	d.Movies = []string{media.Review, media.Master}
	c := compiled(t, s)
	stop, cancel := context.WithCancel(ctx)
	require.Error(t, s.Deliver(stop, c, d, func(done, _ int) {
		if done == 9 {
			cancel()
		}
	}))
	assert.NoFileExists(t, filepath.Join(d.Dir, picture.ManifestFile))
	first := filepath.Join(d.Dir, "frames", d.FrameFile(1))
	before, err := os.Stat(first)
	require.NoError(t, err)
	require.NoError(t, s.Deliver(ctx, c, d, nil))
	after, err := os.Stat(first)
	require.NoError(t, err)
	assert.Equal(t, before.ModTime(), after.ModTime(), "what was there is not made again")
	for _, kind := range d.Movies {
		m, err := media.Inspect(ctx, filepath.Join(d.Dir, picture.MovieFile(kind)))
		require.NoError(t, err)
		assert.Equal(t, 20, m.Last)
	}
	entries, err := os.ReadDir(d.Dir)
	require.NoError(t, err)
	assert.Len(t, entries, 5, "frames, two movies, manifest and sums: no parts are left")
}

func TestNamesAreChecked(t *testing.T) {
	s := shot(t, 8, 0)
	for template, says := range map[string]string{
		"{shot}": "{frame} once", "{frame}{frame}": "{frame} once", "{shot}/{frame}": "cannot hold", "..{frame}": "dot",
		"{odd}.{frame}": "{odd}",
	} {
		d := picture.Delivery{DeliverySpec: picture.DeliverySpec{Template: template}}
		assert.ErrorContains(t, d.Prepare(s.Plates, document(), "PNG"), says, template)
	}
	d := picture.Delivery{
		Show:         "a/b",
		Shot:         "x",
		Version:      7,
		Revision:     12,
		Padding:      6,
		DeliverySpec: picture.DeliverySpec{Template: "{show}-{shot}_v{version}_r{revision}.{frame}"},
	}
	require.NoError(t, d.Prepare(s.Plates, document(), "PNG"))
	assert.Equal(t, "a_b-x_v007_r12.000033.png", d.FrameFile(33))
	assert.Equal(t, colorspace.SRGB, s.Plates.Transfer)
}

func TestAnInterruptedTrackGoesOnFromBothEnds(t *testing.T) {
	found := func(frames ...int) (out []picture.Tracked) {
		for _, n := range frames {
			out = append(out, picture.Tracked{Frame: n})
		}
		return out
	}
	run := picture.Run{Track: "t", From: 8, First: 1, Last: 20}
	assert.Equal(t, []picture.Run{run}, run.Rest(nil))
	assert.Equal(
		t,
		[]picture.Run{{Track: "t", From: 10, First: 10, Last: 20}, {Track: "t", From: 8, First: 1, Last: 8}},
		run.Rest(found(8, 9, 10)),
	)
	assert.Equal(t, []picture.Run{{Track: "t", From: 5, First: 1, Last: 5}}, run.Rest(found(8, 14, 20, 7, 6, 5)))
	assert.Empty(t, run.Rest(found(20, 1)))
	// Such a track is the one that is followed in one go.
	s := shot(t, 8, 0)
	whole, parts := document(), document()
	require.NoError(t, follow(t, s, whole, run))
	all := []picture.Tracked{}
	require.NoError(
		t,
		s.Follow(
			ctx,
			parts,
			picture.Run{Track: "t", From: 8, First: 8, Last: 12},
			func(f picture.Tracked) { all = append(all, f) },
		),
	)
	for _, rest := range run.Rest(all) {
		picture.MergeTracked(parts, parts.Track("t"), run, treatment.Range{First: 1, Last: 20}, all)
		require.NoError(t, s.Follow(ctx, parts, rest, func(f picture.Tracked) { all = append(all, f) }))
	}
	picture.MergeTracked(parts, parts.Track("t"), run, treatment.Range{First: 1, Last: 20}, all)
	require.Len(t, parts.Tracks[0].Data.Samples, 20)
	for i, v := range parts.Tracks[0].Data.Samples {
		assert.InDelta(t, whole.Tracks[0].Data.Samples[i].Matrix[2], v.Matrix[2], 0.05, "frame %d", v.Frame)
	}
}

// A delivery onto a disk that fills up says so, leaves no broken file, and goes on where
// it was once there is room.
func TestAFullDiskStopsADelivery(t *testing.T) {
	small := t.TempDir()
	if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=400k"); err != nil {
		t.Skip("a small file system cannot be mounted here: ", err)
	}
	defer syscall.Unmount(small, 0)
	s := shot(t, 16, 0)
	doc := two(t, s)
	d := picture.Delivery{Dir: small, Shot: "x", Document: doc}
	require.NoError(t, d.Prepare(s.Plates, doc, "PNG"))
	c, err := render.Compile(doc)
	require.NoError(t, err)
	require.ErrorContains(t, s.Deliver(ctx, c, d, nil), "the disk is full: clear renders")
	before, err := filepath.Glob(filepath.Join(small, "frames", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, before)
	for _, path := range before {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		_, err = png.Decode(bytes.NewReader(data))
		require.NoError(t, err, "%s is whole", path)
	}
	require.NoError(t, syscall.Mount("tmpfs", small, "tmpfs", syscall.MS_REMOUNT, "size=4m"))
	require.NoError(t, s.Deliver(ctx, c, d, nil))
	after, err := filepath.Glob(filepath.Join(small, "frames", "*"))
	require.NoError(t, err)
	assert.Len(t, after, 20)
}

// Floats that are no numbers, or infinite, stay what they are outside the patch, and do no
// harm to what is measured and made beside them.
func TestPlatesWithWhatIsNoNumber(t *testing.T) {
	dir := t.TempDir()
	for n := 1; n <= 20; n++ {
		f := media.NewFrame(128, 96, media.Samples{Depth: 32, Float: true})
		f.Floats = make([]float32, 3*128*96)
		for i := range 128 * 96 {
			x, y := float64(i%128-2*n), float64(i/128-n)
			v := 0.4 + 0.2*math.Sin(x/3.3+2*math.Sin(y/7))*math.Cos(y/4.1)
			for c := range 3 {
				f.Floats[3*i+c] = float32(v * (1 - 0.1*float64(c)))
			}
			switch i % 977 {
			case 5:
				f.Floats[3*i] = float32(math.NaN())
			case 6:
				f.Floats[3*i+1] = float32(math.Inf(1))
			case 7:
				f.Floats[3*i+2] = float32(math.Inf(-1))
			}
		}
		require.NoError(
			t,
			(media.Target{Format: "exr", Depth: 32, Float: true}).Write(
				filepath.Join(dir, fmt.Sprintf("a.%03d.exr", n)),
				f,
				media.Shot{},
			),
		)
	}
	m, err := media.Inspect(ctx, dir)
	require.NoError(t, err)
	p, err := media.Import(
		ctx,
		media.Order{
			Material: m,
			Dir:      filepath.Join(t.TempDir(), "p"),
			Shot: media.Shot{
				First:     1,
				Rate:      m.Rate,
				Transfer:  colorspace.Linear,
				Primaries: colorspace.BT709Primaries,
			},
		},
		nil,
	)
	require.NoError(t, err)
	s := picture.NewSource(p, "s", memo.New(64<<20))
	doc := document()
	require.NoError(t, follow(t, s, doc, picture.Run{Track: "t", From: 8, First: 1, Last: 20}))
	doc.Removals[0].Settle.Light = &treatment.Light{Scale: 16, Strength: 1, Over: 2}
	doc.Removals[0].Settle.Softness = &treatment.Softness{Match: true, Over: 1, Shutter: 180}
	doc.Removals[0].Settle.Seam = 4
	c, err := render.Compile(doc)
	require.NoError(t, err)
	for _, n := range []int{5, 12} {
		plate, err := p.Read(n)
		require.NoError(t, err)
		clean, err := s.Clean(ctx, c, n)
		require.NoError(t, err)
		overlay, err := s.Overlay(ctx, c, n, render.ResultView, "", false, 1)
		require.NoError(t, err)
		require.False(t, overlay.Rect.Empty())
		changed := 0
		for i := range clean.Floats {
			if math.Float32bits(clean.Floats[i]) == math.Float32bits(plate.Floats[i]) {
				continue
			}
			changed++
			v := float64(clean.Floats[i])
			assert.False(t, math.IsNaN(v) || math.IsInf(v, 0), "what is laid is light")
		}
		assert.Greater(t, changed, 100)
		measure, ok, err := s.Evaluator().Measure(ctx, c, doc.Removals[0].ID, n)
		require.NoError(t, err)
		require.True(t, ok)
		assert.InDelta(t, 1, measure.Light[1], 0.2)
	}
}

// Rendered into a folder in which another treatment's frames lie, whole or begun: none of
// those stay, and none is certified.
func TestAnotherTreatmentInTheSameFolder(t *testing.T) {
	s := shot(t, 8, 0)
	doc := two(t, s)
	render2 := func(doc *treatment.Document, dir string) {
		d := picture.Delivery{
			Dir:          dir,
			Shot:         "x",
			Version:      1,
			Document:     doc,
			DeliverySpec: picture.DeliverySpec{Movies: []string{media.Review}},
		}
		require.NoError(t, d.Prepare(s.Plates, doc, "PNG"))
		c, err := render.Compile(doc)
		require.NoError(t, err)
		require.NoError(t, s.Deliver(ctx, c, d, nil))
	}
	other := *doc
	other.Removals = slices.Clone(doc.Removals)
	other.Removals[0].Settle.Opacity = 0.5
	fresh, used := t.TempDir(), t.TempDir()
	render2(&other, fresh)
	render2(doc, used)
	// As if it had been interrupted, too.
	require.NoError(t, os.WriteFile(filepath.Join(used, ".delivery"), []byte("another"), 0o600))
	render2(&other, used)
	want, err := filepath.Glob(filepath.Join(fresh, "frames", "*"))
	require.NoError(t, err)
	require.Len(t, want, 20)
	for _, path := range want {
		a, err := os.ReadFile(path)
		require.NoError(t, err)
		b, err := os.ReadFile(filepath.Join(used, "frames", filepath.Base(path)))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(a, b), filepath.Base(path))
	}
	a, err := os.ReadFile(filepath.Join(fresh, picture.SumsFile))
	require.NoError(t, err)
	b, err := os.ReadFile(filepath.Join(used, picture.SumsFile))
	require.NoError(t, err)
	assert.Equal(t, string(a), string(b))
}

// What was worked on by fields leaves in whole frames: each line is that of its own field, and where
// nothing is painted it has the code values that came in.
func TestFieldsLeaveWoven(t *testing.T) {
	dir := t.TempDir()
	var came []*media.Frame
	for n := 1; n <= 10; n++ {
		f := media.NewFrame(128, 96, media.Samples{Depth: 8})
		for i := range 128 * 96 {
			moment := 2 * n
			if (i/128)%2 == 0 { // the lower lines are the earlier ones
				moment++
			}
			x, y := float64(i%128-moment), float64(i/128)
			v := 0.5 + 0.2*math.Sin(x/3.3+2*math.Sin(y/7))*math.Cos(y/4.1) + 0.2*math.Sin(x*y/180)
			for c := range 3 {
				f.Codes[3*i+c] = uint16(255 * v * (1 - 0.1*float64(c)))
			}
		}
		came = append(came, f)
		require.NoError(t, (media.Target{Format: "png", Depth: 8}).Write(filepath.Join(dir, fmt.Sprintf("a.%03d.png", n)), f, media.Shot{}))
	}
	m, err := media.Inspect(ctx, dir)
	require.NoError(t, err)
	require.NoError(t, m.FindFields(ctx))
	require.Equal(t, media.BottomFirst, m.Fields)
	as := media.Shot{First: 1, Last: 10, Rate: media.Rational{Num: 25, Den: 1}, Transfer: colorspace.SRGB, Primaries: colorspace.BT709Primaries,
		Timecode: "10:00:00:24"}
	p, err := media.Import(ctx, media.Order{Material: m, Reading: media.Reading{Fields: m.Fields}, Dir: filepath.Join(t.TempDir(), "p"),
		Shot: as.Apart(m.Fields)}, nil)
	require.NoError(t, err)
	s := picture.NewSource(p, "s", memo.New(64<<20))
	doc := document()
	doc.Removals[0].Range = treatment.Range{First: 2, Last: 21}
	doc.Removals[0].Mark.Outlines[0].Feather = 3
	require.NoError(t, s.Follow(ctx, doc, picture.Run{Track: "t", From: 8, First: 2, Last: 21}, func(f picture.Tracked) {
		picture.MergeTracked(doc, doc.Track("t"), picture.Run{Track: "t", From: 8, First: 2, Last: 21}, treatment.Range{First: 2, Last: 21},
			[]picture.Tracked{f})
	}))
	c, err := render.Compile(doc)
	require.NoError(t, err)
	d := picture.Delivery{Dir: t.TempDir(), Shot: "x", Version: 1, Document: doc,
		DeliverySpec: picture.DeliverySpec{Range: &treatment.Range{First: 5, Last: 20}, Movies: []string{media.Master, media.Review}}}
	require.NoError(t, d.Prepare(p, doc, "PNG"))
	assert.Equal(t, treatment.Range{First: 2, Last: 10}, d.Leaving, "no frame leaves by half")
	require.NoError(t, s.Deliver(ctx, c, d, nil))
	out, err := media.Inspect(ctx, filepath.Join(d.Dir, "frames"))
	require.NoError(t, err)
	assert.Equal(t, 2, out.First)
	assert.Equal(t, 10, out.Last)
	painted := 0
	for n := 2; n <= 10; n++ {
		got := frameAt(t, filepath.Join(d.Dir, "frames", d.FrameFile(n)))
		fields := make([]*media.Frame, 2)
		for i := range fields {
			fields[i], err = s.Clean(ctx, c, 2*n+i)
			require.NoError(t, err)
		}
		for i := range 3 * 128 * 96 {
			own := fields[1-(i/384)%2] // odd lines are those of the first field
			require.Equal(t, own.Codes[i], got.Codes[i], "frame %d, line %d", n, i/384)
			if own.Codes[i] != came[n-1].Codes[i] {
				painted++
				x, y := float64(i%384/3), float64(i/384)
				assert.Less(t, math.Hypot(x-55, y-45), 40.0, "frame %d: only what is marked changes", n)
			}
		}
	}
	assert.Greater(t, painted, 500)
	for _, kind := range d.Movies {
		movie, err := media.Inspect(ctx, filepath.Join(d.Dir, picture.MovieFile(kind)))
		require.NoError(t, err)
		assert.Equal(t, media.Rational{Num: 25, Den: 1}, movie.Rate, kind)
		assert.Equal(t, 9, movie.Last, kind)
		assert.Equal(t, "10:00:01:00", movie.Timecode, kind)
		require.NoError(t, movie.FindFields(ctx))
		assert.Equal(t, media.BottomFirst, movie.Fields, kind)
	}
	blob, err := os.ReadFile(filepath.Join(d.Dir, picture.ManifestFile))
	require.NoError(t, err)
	assert.Contains(t, string(blob), `"fields": "bottom"`)
	assert.Contains(t, string(blob), `"rate": "25/1"`)
}

// frameAt reads a PNG of 8 bits.
func frameAt(t *testing.T, path string) *media.Frame {
	file, err := os.Open(path)
	require.NoError(t, err)
	defer file.Close()
	m, err := png.Decode(file)
	require.NoError(t, err)
	f := media.NewFrame(m.Bounds().Dx(), m.Bounds().Dy(), media.Samples{Depth: 8})
	for i := range f.Width * f.Height {
		r, g, b, _ := m.At(i%f.Width, i/f.Width).RGBA()
		f.Codes[3*i], f.Codes[3*i+1], f.Codes[3*i+2] = uint16(r>>8), uint16(g>>8), uint16(b>>8)
	}
	return f
}
