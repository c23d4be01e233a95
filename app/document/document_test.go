package document_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/app/document"
	"jardin/app/fuzzing"
	"jardin/core/treatment"
)

var shot = &treatment.Range{First: 1001, Last: 1072}

func TestTheWorkedExampleIsValid(t *testing.T) {
	doc, err := document.Parse(demotest.WorkedExample(t), shot)
	require.NoError(t, err)
	require.Len(t, doc.Removals, 1)
	assert.Len(t, doc.Removals[0].Mark.Outlines[0].Points, 4)
	// What is written out again is valid as well: schema and types agree.
	blob, err := json.Marshal(doc)
	require.NoError(t, err)
	_, err = document.Parse(blob, shot)
	assert.NoError(t, err)
}

// Each fault, made in the worked example by replacing some of its text, is found
// and named by its place.
func TestFaultsAreNamed(t *testing.T) {
	example := string(demotest.WorkedExample(t))
	cases := map[string]struct{ old, new, says string }{
		"other format":     {`"jardin/treatment"`, `"something"`, "/format"},
		"later version":    {`"version": 5`, `"version": 6`, "/version"},
		"unknown property": {`"name": "Dot",`, `"name": "Dot", "hue": 3,`, "hue"},
		"missing":          {`"reference": 1037,`, ``, "reference"},
		"outside the shot": {`"reference": 1037`, `"reference": 10`, "frame 10 is not in the shot (1001 to 1072)"},
		"range beyond":     {`"last": 1072`, `"last": 1073`, "reaches beyond the shot"},
		"range backwards":  {`"first": 1001`, `"first": 1099`, "before it begins"},
		"two points":       {`{"at": [261, 210], "in": [11, 0], "out": [-11, 0]},`, ``, ""},
		"flat region": {
			`[[190, 95], [600, 95], [600, 345], [190, 345]]`,
			`[[190, 95], [600, 95], [400, 95]]`,
			"its area is too small",
		},
		"line as a region": {
			`[[190, 95], [600, 95], [600, 345], [190, 345]]`,
			`[[190, 95], [600, 95]]`,
			"3 points or more",
		},
		"unknown motion":    {`"perspective"`, `"free"`, "/tracks/0/motion"},
		"size":              {`"size": 52`, `"size": 0`, "/removals/0/fill/sources/0/plate/strokes/0/size"},
		"pressure":          {`[263, 190]`, `[263, 190, 3]`, "pressure 3"},
		"far away":          {`[263, 190]`, `[1e9, 190]`, "too far away"},
		"empty path":        {`{"points": [[259, 190], [263, 190]]}`, `{}`, "neither points nor an artifact"},
		"one number":        {`"at": [261, 170]`, `"at": [261]`, "/removals/0/mark/outlines/0/points/0/at"},
		"text for a number": {`"opacity": 1}`, `"opacity": "1"}`, "/removals/0/settle/opacity"},
		"not JSON":          {`"version": 5,`, `"version" 3,`, "not JSON"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, example, c.old)
			_, err := document.Parse([]byte(strings.Replace(example, c.old, c.new, 1)), shot)
			if c.says == "" {
				require.NoError(t, err, "three points are enough")
				return
			}
			require.Error(t, err)
			assert.ErrorContains(t, err, c.says)
		})
	}
}

func TestInlineNeedsItsArtifacts(t *testing.T) {
	sha := strings.Repeat("ab", 32)
	blob := strings.Replace(
		string(demotest.WorkedExample(t)),
		`{"points": [[259, 190], [263, 190]]}`,
		`{"artifact": "`+sha+`"}`,
		1,
	)
	doc, err := document.Parse([]byte(blob), shot)
	require.NoError(t, err)
	_, err = doc.Inline(nil)
	assert.ErrorContains(t, err, "export the treatment with its data in place")
	full, err := doc.Inline(treatment.Stored(func(asked string) ([]byte, error) {
		assert.Equal(t, sha, asked)
		return []byte(`[[1,2],[3,4,0.5]]`), nil
	}))
	require.NoError(t, err)
	assert.Equal(t, [][]float64{{1, 2}, {3, 4, 0.5}}, full.Removals[0].Fill.Sources[0].Strokes()[0].Path.Points)
	assert.NotEmpty(t, doc.Removals[0].Fill.Sources[0].Strokes()[0].Path.Artifact, "the original is not changed")
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(`{"format":"jardin/treatment","version":5,"tracks":[],"removals":[]}`))
	f.Add(demotest.WorkedExample(f))
	f.Fuzz(func(t *testing.T, blob []byte) {
		var doc *treatment.Document
		var err error
		fuzzing.Within(t, blob, 4<<20, 400, func() { doc, err = document.Parse(blob, nil) })
		if err != nil {
			return
		}
		again, err := json.Marshal(doc)
		require.NoError(t, err)
		_, err = document.Parse(again, nil)
		require.NoError(t, err, "what was valid stays valid: %s", again)
	})
}
