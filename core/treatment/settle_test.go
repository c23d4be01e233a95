package treatment

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func settledDocument() *Document {
	d := New()
	model := &GrainModel{Light: []float64{0.1, 0.5}, Lags: 1}
	for c := range 3 {
		model.Sigma[c], model.Shape[c] = []float64{0.01, 0.02}, []float64{0, 1, 0, 0, 0.2, 0}
	}
	corner := []Knot{{At: Vec{0, 0}}, {At: Vec{9, 0}}, {At: Vec{9, 9}}}
	d.Removals = []Removal{{ID: "r", Name: "r", Range: Range{1, 9}, Reference: 5,
		Settle: Settle{
			Opacity:  1,
			Dissolve: []ValueKey{{1, Linear, 0}, {3, Linear, 1}},
			Light:    &Light{Scale: 20, Strength: 1},
			Softness: &Softness{Match: true},
			Grain: &Grain{
				Kind:    MadeGrain,
				Model:   model,
				Denoise: &Denoise{Strength: [3]float64{1, 1, 1}},
			},
			Tones: []Tone{{ID: "t", Grade: Plain}},
		},
		Guard: &Guard{
			Fronts: []Front{
				{
					ID:     "f",
					By:     ByColour,
					Key:    &FrontKey{Near: 5, Far: 20},
					Shapes: []Shape{{ID: "s", Kind: Outline, Home: 5, Points: corner}},
				},
			},
		},
	}}
	return d
}

// Every fault of settling and guarding is named by its place.
func TestFaultsOfSettlingAndGuarding(t *testing.T) {
	require.NoError(t, settledDocument().Validate(&Range{1, 9}))
	for says, breaks := range map[string]func(r *Removal){
		"/settle/light/scale":           func(r *Removal) { r.Settle.Light.Scale = 1 },
		"/settle/dissolve/1/value":      func(r *Removal) { r.Settle.Dissolve[1].Value = 1.5 },
		"/settle/dissolve/1: keys must": func(r *Removal) { r.Settle.Dissolve[1].Frame = 1 },
		"/settle/lay":                   func(r *Removal) { r.Settle.Lay = "over" },
		"/settle/softness/shutter":      func(r *Removal) { r.Settle.Softness.Shutter = 900 },
		"/settle/grain/model: grain":    func(r *Removal) { r.Settle.Grain.Model = nil },
		"/settle/grain/from":            func(r *Removal) { r.Settle.Grain.Kind = CarriedGrain },
		"/settle/grain/model/light":     func(r *Removal) { r.Settle.Grain.Model.Light = []float64{0.5, 0.1} },
		"/settle/grain/model/shape":     func(r *Removal) { r.Settle.Grain.Model.Lags = 2 },
		"/settle/tones/0/grade/power":   func(r *Removal) { r.Settle.Tones[0].Grade.Power[1] = 0 },
		"/guard/fronts/0/by":            func(r *Removal) { r.Guard.Fronts[0].By = "smell" },
		"/guard/fronts/0/key: a front":  func(r *Removal) { r.Guard.Fronts[0].Key = nil },
		"/guard/fronts/0/key/far":       func(r *Removal) { r.Guard.Fronts[0].Key.Far = 5 },
		"/guard/fronts/0/white":         func(r *Removal) { r.Guard.Fronts[0].Black = 1 },
		"/guard/fronts/0/shapes/0":      func(r *Removal) { r.Guard.Fronts[0].Shapes[0].Points = nil },
		"/guard/fronts/0/mattes":        func(r *Removal) { r.Guard.Fronts[0].Mattes = []FrontMatte{{Frame: 3}} },
	} {
		d := settledDocument()
		breaks(&d.Removals[0])
		err := d.Validate(&Range{1, 9})
		require.Error(t, err, says)
		assert.Contains(t, err.Error(), says)
	}
}

// What version 3 said is what it says now; only the number changes.
func TestVersionThreeIsBroughtUp(t *testing.T) {
	blob, err := Upgrade(
		[]byte(
			`{"format":"jardin/treatment","version":3,"tracks":[],"removals":[{"id":"a","fill":{"sources":[{"id":"p"}]},"settle":{"opacity":0.5,"feather":3}}]}`,
		),
	)
	require.NoError(t, err)
	var d Document
	require.NoError(t, json.Unmarshal(blob, &d))
	assert.Equal(t, Version, d.Version)
	assert.Equal(t, Settle{Opacity: 0.5, Feather: 3}, d.Removals[0].Settle)
	assert.Len(t, d.Removals[0].Fill.Sources, 1)
}

// A dissolve multiplies the opacity; a tone goes evenly from key to key; exposure and
// balance are slopes: a stop doubles, and balance keeps the product of the channels.
func TestValuesOverTime(t *testing.T) {
	s := settledDocument().Removals[0].Settle
	s.Opacity = 0.8
	assert.InDelta(t, 0.4, s.Shown(2), 1e-9)
	tone := Tone{
		Keys: []ToneKey{
			{1, Linear, Plain},
			{3, Linear, Grade{Slope: [3]float64{3, 1, 1}, Power: [3]float64{1, 1, 2}, Saturation: 0}},
		},
	}
	g := tone.On(2)
	assert.Equal(t, [3]float64{2, 1, 1}, g.Slope)
	assert.Equal(t, 1.5, g.Power[2])
	assert.Equal(t, 0.5, g.Saturation)
	bright := Plain
	bright.Exposure, bright.Warmth, bright.Green = 1, 0.5, 0.3
	v := bright.Slopes()
	assert.InDelta(t, 8, v[0]*v[1]*v[2], 1e-9)
	assert.Greater(t, v[0], v[2])
}

// All that is drawn is found by its name, and supplied mattes travel with an exported
// treatment.
func TestShapesAreFoundAndMattesInlined(t *testing.T) {
	d := settledDocument()
	require.NotNil(t, d.Removals[0].Shape("s"))
	assert.Nil(t, d.Removals[0].Shape("x"))
	d.Removals[0].Guard.Fronts[0].Mattes = []FrontMatte{
		{Frame: 3, Picture: Picture{Artifact: "abc", Width: 4, Height: 4}},
	}
	alone, err := d.Inline(func(sha string, into any) error { *into.(*[]byte) = []byte(sha); return nil })
	require.NoError(t, err)
	got := alone.Removals[0].Guard.Fronts[0].Mattes[0].Picture
	assert.Equal(t, "abc", string(got.Data))
	assert.Empty(t, got.Artifact)
	assert.Equal(
		t,
		"abc",
		d.Removals[0].Guard.Fronts[0].Mattes[0].Picture.Artifact,
		"the document itself is not changed",
	)
}
