package picture_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/render"
	"jardin/core/treatment"
)

// everything is a shot of 1920 x 1080 pixels with a patch of 300 x 300 that settles in
// every way.
func everything(b *testing.B) (*picture.Source, *treatment.Document) {
	return everythingOf(b, media.Target{Format: "png", Depth: 8}, 1)
}

// everythingOf is the same in a file format, so many times as large.
func everythingOf(b *testing.B, target media.Target, times int) (*picture.Source, *treatment.Document) {
	s := picture.NewSource(brought(b, wideFiles(b, target, 16, times)), "wide", memo.New(3<<30))
	k := float64(times)
	box := func(x, y, w, h float64) []treatment.Knot {
		x, y, w, h = k*x, k*y, k*w, k*h
		return []treatment.Knot{
			{At: treatment.Vec{x, y}},
			{At: treatment.Vec{x + w, y}},
			{At: treatment.Vec{x + w, y + h}},
			{At: treatment.Vec{x, y + h}},
		}
	}
	doc := treatment.New()
	track := treatment.Track{
		ID:     "t",
		Name:   "T",
		Kind:   treatment.PlaneTrack,
		Motion: geom.Perspective,
		Home:   8,
		Data:   &treatment.Data{},
	}
	for n := 1; n <= 16; n++ {
		track.Data.Samples = append(
			track.Data.Samples,
			treatment.Sample{
				Frame:  n,
				Matrix: geom.Translation(geom.Pt(3*float64(n-8)+0.3, 2*float64(n-8))),
				Match:  1,
				Agree:  1,
			},
		)
	}
	doc.Tracks = []treatment.Track{track}
	doc.Removals = []treatment.Removal{{
		ID: "r", Name: "R", Range: treatment.Range{First: 1, Last: 16}, Reference: 8,
		Follow: treatment.Follow{Track: "t"},
		Mark: treatment.Mark{
			Outlines: []treatment.Shape{
				{ID: "o", Name: "O", Kind: treatment.Outline, Home: 8, Feather: 3, Points: box(800, 400, 300, 300)},
			},
		},
		Fill: treatment.Fill{
			Sources: []treatment.Source{
				{
					ID:   "p",
					Name: "P",
					Kind: treatment.HeldPlate,
					Plate: &treatment.Plate{
						Frame: 8,
						Strokes: []treatment.Stroke{{ID: "s", Mode: "clone", Home: 8, Size: 1, Hardness: 1, Opacity: 1,
							From: &treatment.From{
								Offset: treatment.Vec{330 * k, 20 * k},
							}, Area: &treatment.Area{Points: box(785, 385, 330, 330), Feather: 6}}},
					},
				},
			},
		},
		Settle: treatment.Settle{
			Opacity: 1,
			Seam:    20,
			Tones: []treatment.Tone{
				{
					ID:   "c",
					Name: "C",
					Grade: treatment.Grade{
						Slope:      [3]float64{1, 1, 1},
						Power:      [3]float64{1, 1, 1.05},
						Saturation: 0.95,
						Exposure:   0.02,
					},
				},
			},
		},
		Guard: &treatment.Guard{
			Fronts: []treatment.Front{
				{
					ID:   "f",
					Name: "F",
					By:   treatment.ByOutline,
					Shapes: []treatment.Shape{
						{
							ID:      "g",
							Name:    "G",
							Kind:    treatment.Outline,
							Home:    8,
							Feather: 3,
							Points:  box(900, 380, 60, 200),
						},
					},
				},
			},
		},
	}}
	found, err := s.Settle(ctx, doc, "r", nil, func(int, int) {})
	require.NoError(b, err)
	require.NotNil(b, found.Settle.Grain)
	found.Settle.Softness.Shutter, found.Settle.Softness.Sharpen, found.Settle.Softness.By = 180, 0.2, 0.4
	doc.Removals[0].Settle = found.Settle
	require.NoError(b, doc.Validate(nil))
	return s, doc
}

// The aim is 20 frames/s, each rendered for the first time, with reading the plate.
func BenchmarkRenderEverything300x300(b *testing.B) {
	s, doc := everything(b)
	frames := 0
	for b.Loop() {
		// A change of its own, so that no frame is known; what was measured on the plate is.
		doc.Removals[0].Settle.Seam += 0.01
		t, err := render.Compile(doc)
		require.NoError(b, err)
		frames += made(b, s, t)
	}
	b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
}

// made makes all frames, two at once as a delivery does.
func made(b *testing.B, s *picture.Source, t *render.Treatment) int {
	var group errgroup.Group
	group.SetLimit(2)
	for n := 1; n <= 16; n++ {
		group.Go(func() error {
			_, err := s.Clean(ctx, t, n)
			return err
		})
	}
	require.NoError(b, group.Wait())
	return 16
}

// With packing of PNG files of 1920 x 1080.
func BenchmarkDeliverEverything300x300(b *testing.B) {
	s, doc := everything(b)
	delivers(b, s, doc, "PNG")
}

// The same of 3840 x 2160 pixels at 16 bits as DPX, a patch of 600 x 600. The aim is 8 frames/s.
func BenchmarkDeliverLarge600x600(b *testing.B) {
	s, doc := everythingOf(b, media.Target{Format: "dpx", Depth: 16}, 2)
	delivers(b, s, doc, "DPX")
}

// delivers delivers all frames, each time after a change of its own.
func delivers(b *testing.B, s *picture.Source, doc *treatment.Document, format string) {
	frames := 0
	for b.Loop() {
		doc.Removals[0].Settle.Seam += 0.01
		t, err := render.Compile(doc)
		require.NoError(b, err)
		d := picture.Delivery{Dir: b.TempDir(), Shot: "w", Document: doc}
		require.NoError(b, d.Prepare(s.Plates, doc, format))
		require.NoError(b, s.Deliver(ctx, t, d, nil))
		frames += 16
	}
	b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
}

// The same, and nothing was measured before: as when all frames are rendered once.
func BenchmarkRenderEverythingAnew300x300(b *testing.B) {
	s, doc := everything(b)
	frames := 0
	for b.Loop() {
		doc.Removals[0].Settle.Light.Scale += 0.01
		doc.Removals[0].Settle.Softness.Shutter += 0.01
		t, err := render.Compile(doc)
		require.NoError(b, err)
		frames += made(b, s, t)
	}
	b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
}

// What the screen is sent: the aim is 12 frames/s.
func BenchmarkShowEverything300x300(b *testing.B) {
	s, doc := everything(b)
	frames := 0
	for b.Loop() {
		doc.Removals[0].Settle.Seam += 0.01
		t, err := render.Compile(doc)
		require.NoError(b, err)
		for n := 1; n <= 16; n++ {
			_, err := s.Overlay(ctx, t, n, render.ResultView, "", false, 1)
			require.NoError(b, err)
			frames++
		}
	}
	b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
}

// A patch that is held and followed, nothing more, over DPX of 10 bits: reading the
// plate, making the frame, writing its file with manifest and check sums. The aim is
// 24 frames/s.
func BenchmarkDeliverDPX300x300(b *testing.B) {
	_, doc := everything(b)
	doc.Removals[0].Settle, doc.Removals[0].Guard = treatment.Settle{Opacity: 1}, nil
	const long = 48
	doc.Removals[0].Range.Last = long
	for n := 17; n <= long; n++ {
		sample := doc.Tracks[0].Data.Samples[(n-1)%16]
		sample.Frame = n
		doc.Tracks[0].Data.Samples = append(doc.Tracks[0].Data.Samples, sample)
	}
	s := picture.NewSource(wideAs(b, media.Target{Format: "dpx", Depth: 10}, long).Plates, "dpx", memo.New(1<<30))
	frames := 0
	for b.Loop() {
		t, err := render.Compile(doc)
		require.NoError(b, err)
		d := picture.Delivery{Dir: b.TempDir(), Shot: "w", Document: doc}
		require.NoError(b, d.Prepare(s.Plates, doc, "DPX"))
		require.NoError(b, s.Deliver(ctx, t, d, nil))
		frames += long
	}
	b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
}

// A patch of 600 x 400 on a surface that bends, each frame rendered for the first time, with reading the plate: laid only, and with its
// light, softness, grain and seam. The aim is 24 frames/s.
func BenchmarkRenderSoft600x400(b *testing.B) {
	for _, settled := range []bool{false, true} {
		b.Run(map[bool]string{false: "laid", true: "settled"}[settled], func(b *testing.B) {
			s, doc := everything(b)
			box := geom.Box{Min: geom.Pt(640, 300), Max: geom.Pt(1300, 760)}
			corners := box.Corners()
			track := &doc.Tracks[0]
			track.Bends = &treatment.Bends{Detail: 8, Stiffness: 0.3}
			for _, c := range corners {
				track.Region = append(track.Region, treatment.Vec{c.X, c.Y})
			}
			for i := range track.Data.Samples {
				l := geom.Lattice{Box: box, Columns: 82, Rows: 57}
				l.Shift, l.Box = make([]geom.Point, 83*58), box
				agree := make([]float32, len(l.Shift))
				for k := range l.Shift {
					c := l.Crossing(k%83, k/83)
					l.Shift[k] = geom.Pt(0.2*float64(i-7)*math.Sin(c.Y/40), 0.25*float64(i-7)*math.Sin(c.X/50))
					agree[k] = 1
				}
				track.Data.Samples[i].Bend = treatment.NewBend(&l, agree)
			}
			r := &doc.Removals[0]
			around := func(out float64) []treatment.Knot {
				return []treatment.Knot{
					{At: treatment.Vec{670 - out, 330 - out}}, {At: treatment.Vec{1270 + out, 330 - out}},
					{At: treatment.Vec{1270 + out, 730 + out}}, {At: treatment.Vec{670 - out, 730 + out}},
				}
			}
			r.Mark.Outlines[0].Points, r.Fill.Sources[0].Plate.Strokes[0].Area.Points = around(0), around(12)
			r.Guard = nil
			if !settled {
				r.Settle = treatment.Settle{Opacity: 1}
			}
			require.NoError(b, doc.Validate(nil))
			frames := 0
			for b.Loop() {
				r.Settle.Opacity -= 0.0001
				t, err := render.Compile(doc)
				require.NoError(b, err)
				frames += made(b, s, t)
			}
			b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
		})
	}
}
