package treatment

import (
	"encoding/json"
	"errors"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
)

func valid() *Document {
	d := New()
	d.Removals = []Removal{{
		ID: "a", Range: Range{1, 10}, Reference: 5,
		Mark:   Mark{[]Outline{{ID: "o", Points: []Knot{{At: Vec{0, 0}}, {At: Vec{9, 0}, Out: &Vec{1, 1}}, {At: Vec{9, 9}, In: &Vec{0, -2}}}}}},
		Follow: Follow{Motion: geom.Similarity, Region: []Vec{{0, 0}, {50, 0}, {50, 50}}},
		Fill:   Fill{[]Stroke{{ID: "s", Mode: "clone", Size: 9, Opacity: 1, Path: Path{Points: [][]float64{{1, 2}, {3, 4, 0.5}}}}}},
		Settle: Settle{Opacity: 1},
	}}
	return d
}

func TestValidate(t *testing.T) {
	shot := &Range{1, 10}
	require.NoError(t, valid().Validate(shot))
	for says, change := range map[string]func(*Removal){
		"/removals/0: an id is missing":            func(r *Removal) { r.ID = "" },
		"/removals/0/settle/opacity":               func(r *Removal) { r.Settle.Opacity = math.NaN() },
		"/removals/0/settle/feather":               func(r *Removal) { r.Settle.Feather = -1 },
		"/removals/0/mark/outlines/0/feather":      func(r *Removal) { r.Mark.Outlines[0].Feather = 501 },
		"needs 3 points":                           func(r *Removal) { r.Mark.Outlines[0].Points = r.Mark.Outlines[0].Points[:2] },
		"/removals/0/mark/outlines/0/points/1":     func(r *Removal) { r.Mark.Outlines[0].Points[1].At[0] = math.Inf(1) },
		"neither samples nor an artifact":          func(r *Removal) { r.Follow.Track = &Track{} },
		"the matrix of frame 3 cannot be inverted": func(r *Removal) { r.Follow.Track = &Track{Samples: []Sample{{Frame: 3}}} },
		"hardness":           func(r *Removal) { r.Fill.Strokes[0].Hardness = 2 },
		"leads too far away": func(r *Removal) { r.Fill.Strokes[0].Offset = Vec{1e7, 0} },
		"has 1 numbers":      func(r *Removal) { r.Fill.Strokes[0].Path.Points[0] = []float64{1} },
		"is not in the shot": func(r *Removal) { r.Reference = 11 },
	} {
		d := valid()
		change(&d.Removals[0])
		assert.ErrorContains(t, d.Validate(shot), says)
	}
	two := valid()
	two.Removals = append(two.Removals, two.Removals[0])
	assert.ErrorContains(t, two.Validate(shot), `"a" is used twice`)
	assert.ErrorContains(t, (&Document{Format: "x"}).Validate(nil), "this program reads")
	out := valid()
	out.Removals[0].Reference, out.Removals[0].Settle.Opacity = 99, 7
	err := out.Validate(shot)
	assert.ErrorContains(t, err, "frame 99")
	assert.ErrorContains(t, err, "opacity", "every fault is named, not only the first")
}

func TestBasisChangesWithWhatATrackDependsOn(t *testing.T) {
	base := valid().Removals[0]
	same := valid().Removals[0]
	same.Name, same.Range.Last, same.Settle.Opacity = "other", 7, 0.2
	assert.Equal(t, base.Basis(), same.Basis())
	for _, change := range []func(*Removal){
		func(r *Removal) { r.Reference++ }, func(r *Removal) { r.Follow.Motion = geom.Position }, func(r *Removal) { r.Follow.Region[0][0]++ },
	} {
		r := valid().Removals[0]
		change(&r)
		assert.NotEqual(t, base.Basis(), r.Basis())
	}
}

func TestInlineReadsTracksAndReportsWhatIsMissing(t *testing.T) {
	d := valid()
	d.Removals[0].Follow.Track = &Track{Artifact: "t", Basis: "b"}
	samples, err := json.Marshal([]Sample{{Frame: 4, Matrix: geom.Identity}})
	require.NoError(t, err)
	full, err := d.Inline(func(string) ([]byte, error) { return samples, nil })
	require.NoError(t, err)
	assert.Equal(t, &Track{Basis: "b", Samples: []Sample{{Frame: 4, Matrix: geom.Identity}}}, full.Removals[0].Follow.Track)
	_, err = d.Inline(func(string) ([]byte, error) { return nil, errors.New("gone") })
	assert.ErrorContains(t, err, "gone")
	_, err = d.Inline(func(string) ([]byte, error) { return []byte("{"), nil })
	assert.ErrorContains(t, err, "cannot be read")
	r, i := d.Find("a")
	assert.Equal(t, 0, i)
	assert.Equal(t, "a", r.ID)
	_, i = d.Find("b")
	assert.Equal(t, -1, i)
}
