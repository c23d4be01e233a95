package render

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/memo"
	"jardin/core/treatment"
)

// What a shape is straight through is part of what its pixels are remembered by; of one that is not, the lens is not.
func TestALensIsPartOfWhatStraightShapesAreRememberedBy(t *testing.T) {
	e := &Evaluator{Plate: wide{}, Cache: memo.New(1 << 20)}
	key := func(straight bool, k1 float64) string {
		doc := treatment.New()
		doc.Lens = &treatment.Lens{Size: [2]int{1920, 1080}, K: [3]float64{k1, 0, 0}}
		doc.Removals = []treatment.Removal{{ID: "r", Name: "R", Range: treatment.Range{First: 10, Last: 30}, Reference: 20, Follow: treatment.Follow{Track: treatment.Still},
			Mark: treatment.Mark{Outlines: []treatment.Shape{{ID: "o", Name: "O", Kind: treatment.Strand, Home: 20, Straight: straight,
				Points: []treatment.Knot{{At: treatment.Vec{100, 100}, Width: 6}, {At: treatment.Vec{1800, 140}, Width: 6}}}}},
			Fill: treatment.Fill{Sources: []treatment.Source{{ID: "p", Name: "P", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: 12, Strokes: []treatment.Stroke{{
				ID: "s", Mode: "clone", Home: 12, Size: 1, Hardness: 1, Opacity: 1, From: &treatment.From{Offset: treatment.Vec{0, 40}},
				Area: &treatment.Area{Points: []treatment.Knot{{At: treatment.Vec{50, 50}}, {At: treatment.Vec{1900, 50}}, {At: treatment.Vec{1900, 200}}, {At: treatment.Vec{50, 200}}}}}}}}}}, Settle: treatment.Settle{Opacity: 1}}}
		ready, err := Compile(doc)
		require.NoError(t, err)
		name, err := e.Key(ready, 20, ResultView, "")
		require.NoError(t, err)
		require.NotEmpty(t, name)
		return name
	}
	assert.NotEqual(t, key(true, -0.1), key(true, -0.11))
	assert.NotEqual(t, key(true, -0.1), key(false, -0.1))
	assert.Equal(t, key(false, -0.1), key(false, -0.11))
}
