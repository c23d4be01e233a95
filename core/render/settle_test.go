package render

import (
	"context"
	"fmt"
	"image"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/treatment"
)

// lamp is a plate of one texture that moves as shift says, under a lamp that changes by
// frame and over the picture, with a dark square in front on all frames but the 100th.
type lamp struct{ square image.Rectangle }

func (lamp) Size() image.Rectangle { return image.Rect(0, 0, 200, 160) }
func (l lamp) Key() string         { return fmt.Sprint("lamp", l.square) }

func (lamp) gain(n int, x, y float64) float64 {
	return (1 + 0.1*math.Sin(float64(3*n))) * (1 + 0.001*(x-100)*float64(n-100)/3)
}

// texture is smooth enough that carrying it by whole pixels and back loses nothing.
func texture(x, y float64) float64 {
	return 0.3 + 0.1*math.Sin(x/3)*math.Cos(y/4) + 0.08*math.Sin((x+y)/7)
}

func (lamp) White() float32 { return 1 }
func (lamp) Has(n int) bool { return n >= 90 && n <= 110 }
func (l lamp) Linear(_ context.Context, n int, _ image.Rectangle) (*raster.Image, error) {
	if n < 90 || n > 110 {
		return nil, &Beyond{n, 90, 110}
	}
	m := raster.NewImage(l.Size())
	for y := range 160 {
		for x := range 200 {
			u, v := float64(x-2*(n-100)), float64(y-(n-100))
			k := float32(texture(u, v) * l.gain(n, float64(x), float64(y)))
			m.Set(x, y, [4]float32{k, 0.8 * k, 0.6 * k, 1})
			if n != 100 && image.Pt(x, y).In(l.square) {
				m.Set(x, y, [4]float32{0.02, 0.02, 0.5, 1})
			}
		}
	}
	return m, nil
}

func square(id string, rect image.Rectangle, home int, ride string) treatment.Shape {
	var knots []treatment.Knot
	for _, p := range boxOf(rect).Corners() {
		knots = append(knots, treatment.Knot{At: treatment.Vec{p.X, p.Y}})
	}
	return treatment.Shape{ID: id, Name: id, Kind: treatment.Outline, Home: home, Ride: ride, Points: knots}
}

// lit holds frame 100 under an outline on it.
func litDocument() *treatment.Document {
	d := document()
	r := &d.Removals[0]
	r.Mark.Outlines = []treatment.Shape{square("o", image.Rect(80, 60, 110, 90), 100, "")}
	r.Fill.Sources = []treatment.Source{
		{ID: "p", Name: "p", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: 100, Whole: true}},
	}
	return d
}

// The held patch takes on the plate's light on each frame: under it the same texture in the
// same light, to 1 %; without following it is off by as much as the lamp changed.
func TestAHeldPatchFollowsTheLight(t *testing.T) {
	ctx := context.Background()
	off := func(light *treatment.Light) float64 {
		d := litDocument()
		d.Removals[0].Settle.Light = light
		c := compile(t, d)
		e := &Evaluator{Plate: lamp{}, Cache: memo.New(1 << 26)}
		worst := 0.0
		for n := 98; n <= 103; n++ {
			got, err := e.Frame(ctx, c, n, ResultView, "")
			require.NoError(t, err)
			plate, _ := lamp{}.Linear(ctx, n, got.Rect)
			for y := got.Rect.Min.Y; y < got.Rect.Max.Y; y++ {
				for x := got.Rect.Min.X; x < got.Rect.Max.X; x++ {
					if v := got.At(x, y); v[3] > 0 {
						for k := range 3 {
							worst = math.Max(worst, math.Abs(float64(v[k]/plate.At(x, y)[k])-1))
						}
					}
				}
			}
		}
		return worst
	}
	assert.Less(t, off(&treatment.Light{Scale: 16, Strength: 1}), 0.01)
	assert.Less(
		t,
		off(&treatment.Light{Scale: 16, Strength: 1, Over: 2, Luma: true}),
		0.03,
		"averaged over frames, brightness only",
	)
	assert.Greater(t, off(nil), 0.1)
	assert.Greater(t, off(&treatment.Light{Scale: 16, Strength: 1, Off: true}), 0.1, "switched off")
	assert.Greater(
		t,
		off(
			&treatment.Light{
				Scale:    16,
				Strength: 1,
				Keys:     []treatment.ValueKey{{Frame: 100, Ease: treatment.Linear, Value: 0}},
			},
		),
		0.1,
		"keyed to nothing",
	)
}

// A front that hides a part of the rim is left out of the measure, whoever's it is; where it
// covers, the plate's own values stand, for one removal or for all.
func TestFrontsAreLaidBackAndNotMeasured(t *testing.T) {
	ctx := context.Background()
	plate := lamp{square: image.Rect(93, 20, 170, 140)} // more than half of the rim
	d := litDocument()
	d.Removals[0].Settle.Light = &treatment.Light{Scale: 16, Strength: 1}
	other := d.Removals[0]
	other.ID, other.Name, other.Off = "b", "b", true
	other.Guard = &treatment.Guard{
		Fronts: []treatment.Front{
			{
				ID:     "f",
				Name:   "f",
				By:     treatment.ByOutline,
				Shapes: []treatment.Shape{square("g", plate.square, 100, treatment.Still)},
			},
		},
	}
	d.Removals = append(d.Removals, other)
	e := &Evaluator{Plate: plate, Cache: memo.New(1 << 26)}
	frame := func() *raster.Image {
		got, err := e.Frame(ctx, compile(t, d), 102, ResultView, "")
		require.NoError(t, err)
		return got.Crop(plate.Size())
	}
	m := frame()
	raw, _ := plate.Linear(ctx, 102, plate.Size())
	assert.InEpsilon(t, raw.At(90, 80)[1], m.At(90, 80)[1], 0.015, "the light beside the front is right")
	assert.NotZero(t, m.At(104, 80)[3], "a front of another removal covers its own patch only")
	behind := 0.8 * texture(104-2*2, 80-2) * plate.gain(102, 104, 80)
	assert.InEpsilon(t, behind, m.At(104, 80)[1], 0.03, "and behind it the light goes on as beside it")
	d.Removals[1].Guard.Fronts[0].All = true
	m = frame()
	assert.Zero(t, m.At(104, 80)[3], "in front of all: the plate's own")
	assert.NotZero(t, m.At(90, 80)[3])
	d.Removals[1].Guard.Fronts[0].Off = true
	assert.NotZero(t, frame().At(104, 80)[3])

	// By colour, cleaned up: what is blue is in front, without an outline.
	d.Removals[0].Guard = &treatment.Guard{
		Fronts: []treatment.Front{
			{
				ID:   "k",
				Name: "k",
				By:   treatment.ByColour,
				Key:  &treatment.FrontKey{Colour: [3]float64{0.02, 0.02, 0.5}, Near: 10, Far: 30},
			},
		},
	}
	m = frame()
	assert.Zero(t, m.At(104, 80)[3])
	assert.NotZero(t, m.At(90, 80)[3])
	d.Removals[0].Guard.Fronts[0].Grow = -4
	assert.NotZero(t, frame().At(95, 80)[3], "shrunk by four pixels it lets the patch in again")
	d.Removals[0].Guard.Fronts[0].Grow = 0
	d.Removals[0].Guard.Fronts[0].Key.Invert = true
	m = frame()
	assert.NotZero(t, m.At(104, 80)[3])
	assert.Zero(t, m.At(90, 80)[3])
	// By brightness: darker than L* 30 in front, not from 45 on.
	d.Removals[0].Guard.Fronts[0] = treatment.Front{
		ID:   "k",
		Name: "k",
		By:   treatment.ByBrightness,
		Key:  &treatment.FrontKey{Near: 36, Far: 48},
	}
	m = frame()
	assert.Zero(t, m.At(104, 80)[3], "L* of the square is 31")
	// One front takes from those before it.
	d.Removals[0].Guard.Fronts = append(
		d.Removals[0].Guard.Fronts,
		treatment.Front{
			ID:      "t",
			Name:    "t",
			By:      treatment.ByOutline,
			Combine: treatment.Take,
			Shapes:  []treatment.Shape{square("h", image.Rect(100, 70, 150, 100), 100, treatment.Still)},
		},
	)
	assert.NotZero(t, frame().At(104, 80)[3])
	// The patch stays within a surface's outline.
	d.Removals[0].Guard = &treatment.Guard{
		Within: []treatment.Shape{square("w", image.Rect(0, 0, 95, 160), 100, treatment.Still)},
	}
	m = frame()
	assert.Zero(t, m.At(104, 80)[3])
	assert.NotZero(t, m.At(90, 80)[3])
}

// A supplied matte holds its own frame in front, and no other.
func TestSuppliedMattesGoByFrame(t *testing.T) {
	ctx := context.Background()
	d := litDocument()
	d.Removals[0].Guard = &treatment.Guard{
		Fronts: []treatment.Front{
			{
				ID:   "m",
				Name: "m",
				By:   treatment.ByMatte,
				Mattes: []treatment.FrontMatte{
					{Frame: 102, Picture: treatment.Picture{Artifact: "x", Name: "m.102.png", Width: 200, Height: 160}},
				},
			},
		},
	}
	e := &Evaluator{
		Plate: lamp{},
		Cache: memo.New(1 << 26),
		Mattes: func(context.Context, *treatment.Picture) (*raster.Plane, error) {
			p := raster.NewPlane(lamp{}.Size())
			for i := range p.Pix {
				p.Pix[i] = 1
			}
			return p, nil
		},
	}
	c := compile(t, d)
	for n, laid := range map[int]bool{101: true, 102: false, 103: true} {
		got, err := e.Frame(ctx, c, n, ResultView, "")
		require.NoError(t, err)
		some := false
		for i := 3; i < len(got.Pix); i += 4 {
			some = some || got.Pix[i] > 0
		}
		assert.Equal(t, laid, some, "frame %d", n)
	}
}

// The key of a frame changes with all that a settled patch depends on, and with nothing
// else: frames that stay the same are not made again.
func TestKeysOfSettledFrames(t *testing.T) {
	e := &Evaluator{Plate: lamp{}}
	base := func() *treatment.Document {
		d := litDocument()
		d.Removals[0].Settle.Light = &treatment.Light{Scale: 16, Strength: 1, Over: 1}
		other := d.Removals[0]
		other.ID, other.Name = "b", "b"
		other.Mark.Outlines = []treatment.Shape{square("p", image.Rect(20, 20, 40, 40), 100, treatment.Still)}
		other.Settle.Light = nil
		other.Off = true // what it marks is not measured on all the same
		d.Removals = append(d.Removals, other)
		return d
	}
	key := func(change func(d *treatment.Document)) string {
		d := base()
		change(d)
		return keyOf(t, e, compile(t, d), 100, ResultView, "")
	}
	same := key(func(*treatment.Document) {})
	assert.Equal(t, same, key(func(*treatment.Document) {}))
	for name, change := range map[string]func(d *treatment.Document){
		"the light's strength": func(d *treatment.Document) { d.Removals[0].Settle.Light.Strength = 0.5 },
		"a tone": func(d *treatment.Document) {
			d.Removals[0].Settle.Tones = []treatment.Tone{{ID: "t", Grade: treatment.Plain}}
		},
		"the track on the next frame": func(d *treatment.Document) { d.Tracks[0].Data.Samples[3].Matrix = shift(104) },
		"another removal's outline":   func(d *treatment.Document) { d.Removals[1].Mark.Outlines[0].Points[0].At[0] = 50 },
		"a front in front of all": func(d *treatment.Document) {
			d.Removals[1].Guard = &treatment.Guard{Fronts: []treatment.Front{{ID: "f", By: treatment.ByOutline,
				All: true, Shapes: []treatment.Shape{square("s", image.Rect(0, 0, 9, 9), 100, "")}}}}
		},
		"the frame that is painted on": func(d *treatment.Document) {
			d.Removals[0].Settle.Grain = &treatment.Grain{Denoise: &treatment.Denoise{Strength: [3]float64{1, 1, 1}}}
		},
		"a dissolve": func(d *treatment.Document) {
			d.Removals[0].Settle.Dissolve = []treatment.ValueKey{{Frame: 100, Value: 0.5}}
		},
	} {
		assert.NotEqual(t, same, key(change), name)
	}
	assert.Equal(
		t,
		same,
		key(func(d *treatment.Document) { d.Tracks[0].Data.Samples[5].Matrix = shift(104) }),
		"a frame that is not looked at",
	)
	assert.Equal(t, same, key(func(d *treatment.Document) { d.Removals[0].Notes = "x" }))
}

// A dissolve mixes patch and plate; the mattes' views tell how much is covered.
func TestDissolveAndMatteViews(t *testing.T) {
	ctx := context.Background()
	d := litDocument()
	d.Removals[0].Settle.Dissolve = []treatment.ValueKey{
		{Frame: 99, Ease: treatment.Linear, Value: 0},
		{Frame: 101, Ease: treatment.Linear, Value: 1},
	}
	d.Removals[0].Settle.Tones = []treatment.Tone{
		{
			ID:    "t",
			Name:  "t",
			Grade: treatment.Grade{Slope: [3]float64{0, 0, 0}, Power: [3]float64{1, 1, 1}, Saturation: 1},
		},
	}
	e := &Evaluator{Plate: lamp{}, Cache: memo.New(1 << 26)}
	c := compile(t, d)
	at := func(n int, view View) [4]float32 {
		got, err := e.Frame(ctx, c, n, view, "a")
		require.NoError(t, err)
		return got.Crop(lamp{}.Size()).At(95, 75)
	}
	plate, _ := lamp{}.Linear(ctx, 100, lamp{}.Size())
	assert.InDelta(t, plate.At(95, 75)[0]/2, at(100, ResultView)[0], 1e-6, "half of a black patch")
	assert.InDelta(t, 0, at(101, ResultView)[0], 1e-6)
	assert.InDelta(
		t,
		0.5,
		math.Pow((float64(at(100, MatteView)[1])+0.0)/1, 1/2.2),
		0.02,
		"white on black: the code value is the coverage",
	)
	assert.InDelta(t, 1, at(101, MatteView)[1], 1e-6)
	assert.Greater(t, at(101, TintView)[0], at(101, TintView)[1], "a warm tint over the plate")
	assert.InDelta(t, 0, at(101, AloneView)[1], 1e-6)

	// The light field is middle grey where nothing changes.
	lit := litDocument()
	lit.Removals[0].Settle.Light = &treatment.Light{Scale: 16, Strength: 1}
	field, err := e.Frame(ctx, compile(t, lit), 100, LightView, "a")
	require.NoError(t, err)
	assert.InDelta(t, 0.214, field.Crop(lamp{}.Size()).At(95, 75)[1], 0.004, "sRGB 0.5 is 0.214 in light")
}
