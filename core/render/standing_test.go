package render

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/treatment"
)

// A stage is done when it covers the removal's frames and holds; frames that no patch reaches are named by what is missing there, and
// those are just the frames that are rendered as the plate is.
func TestHowFarARemovalIs(t *testing.T) {
	d := document()
	r := &d.Removals[0]
	r.Range = treatment.Range{First: 96, Last: 105}
	standing := func(stale ...string) Standing {
		t.Helper()
		all, err := compile(t, d).Standings(t.Context(), stale)
		require.NoError(t, err)
		require.Len(t, all, len(d.Removals))
		assert.Equal(t, r.ID, all[0].Removal)
		return all[0]
	}
	// Its track is known on some of its frames only.
	r.Follow.Track = "t"
	track := func(frames ...int) {
		d.Tracks = []treatment.Track{{ID: "t", Name: "t", Kind: treatment.PlaneTrack, Home: r.Reference, Motion: geom.Perspective, Data: &treatment.Data{}}}
		for _, n := range frames {
			d.Tracks[0].Data.Samples = append(d.Tracks[0].Data.Samples, treatment.Sample{Frame: n, Matrix: geom.Identity, Match: 1, Agree: 1})
		}
	}
	track(r.Reference)
	s := standing()
	assert.Equal(t, Begun, s.Follow.State)
	assert.Contains(t, s.Follow.Why, "1 of 10 frames")
	assert.Equal(t, StageStanding{Begun, "laid on 1 of 10 frames: the others wait for Follow"}, s.Fill)
	require.NotEmpty(t, s.Bare)
	assert.Equal(t, "follow", s.Bare[0].Stage)
	bare := 0
	for _, b := range s.Bare {
		for _, f := range b.Frames {
			bare += f.Len()
			for n := f.First; n <= f.Last; n++ {
				assert.Nil(t, compile(t, d).Input(n, ResultView, ""), "frame %d", n)
			}
		}
	}
	assert.Equal(t, 9, bare)
	// What lies still is laid there all the same: then nothing is missing on the picture.
	r.Mark.Outlines[0].Ride = treatment.Still
	strokes := r.Fill.Sources[0].Plate.Strokes
	whole := r.Fill.Sources
	r.Fill.Sources = []treatment.Source{{ID: "e", Name: "e", Kind: treatment.Evened, Evened: &treatment.Evening{Takes: "coarse", Scale: 8, Amount: 1}}}
	s = standing()
	assert.Equal(t, Begun, s.Follow.State)
	for n := 96; n <= 105; n++ {
		laid := compile(t, d).Input(n, ResultView, "") != nil
		missing := false
		for _, b := range s.Bare {
			for _, f := range b.Frames {
				missing = missing || f.Has(n)
			}
		}
		assert.Equal(t, laid, !missing, "frame %d", n)
	}
	r.Fill.Sources, r.Mark.Outlines[0].Ride = whole, ""
	track(96, 97, 98, 99, 100, 101, 102, 103, 104, 105)
	s = standing()
	assert.Equal(t, Done, s.Follow.State, s.Follow.Why)
	assert.Equal(t, Done, s.Mark.State)
	assert.Equal(t, Done, s.Fill.State, s.Fill.Why)
	assert.Empty(t, s.Bare)
	assert.Equal(t, Look, standing("t").Follow.State, "what it depends on was changed")
	d.Tracks[0].Data.Samples[6].Match = 0.2
	s = standing()
	assert.Equal(t, Look, s.Follow.State)
	assert.Contains(t, s.Follow.Why, "102")
	// What was copied, and light that something passed by, wait for somebody to look; neither changes a pixel.
	key := func() string {
		return keyOf(t, &Evaluator{Plate: ramp{}, Cache: memo.New(1 << 24)}, compile(t, d), 100, ResultView, "")
	}
	before := key()
	r.Fill.Copied, r.Group, r.Colour = "Another", "Wall", "sky"
	r.Settle.Passed = []treatment.Range{{First: 98, Last: 99}, {First: 101, Last: 101}}
	assert.Equal(t, before, key())
	s = standing()
	assert.Equal(t, Look, s.Fill.State)
	assert.Contains(t, s.Fill.Why, "copied from Another")
	r.Fill.Copied = ""
	r.Settle.Light = &treatment.Light{Scale: 20, Strength: 1}
	s = standing()
	assert.Equal(t, Done, s.Fill.State)
	assert.Equal(t, Look, s.Settle.State)
	assert.Contains(t, s.Settle.Why, "on 98 to 99 and 101")
	r.Guard = &treatment.Guard{Fronts: []treatment.Front{{ID: "f", Name: "F", By: treatment.ByOutline}}}
	assert.Equal(t, Done, standing().Settle.State, "it is held in front")
	r.Guard.Fronts[0].Off = true
	assert.Equal(t, Look, standing().Settle.State)
	r.Guard, r.Settle.Passed, r.Settle.Light = nil, nil, nil
	// A camera that stands still needs no track; a source that does not reach all frames is not done.
	r.Follow.Track = treatment.Still
	assert.Equal(t, Done, standing().Follow.State)
	r.Fill.Sources[0].Range = &treatment.Range{First: 98, Last: 103}
	s = standing()
	assert.Equal(t, Begun, s.Fill.State)
	require.Len(t, s.Bare, 1)
	assert.Equal(t, Bare{[]treatment.Range{{First: 96, Last: 97}, {First: 104, Last: 105}}, "fill", "no source lays anything there"}, s.Bare[0])
	// Where it is dissolved away on purpose nothing is missing.
	r.Settle.Dissolve = []treatment.ValueKey{{Frame: 97, Value: 0, Ease: treatment.Linear}, {Frame: 98, Value: 1, Ease: treatment.Linear}, {Frame: 103, Value: 1, Ease: treatment.Linear}, {Frame: 104, Value: 0, Ease: treatment.Linear}}
	assert.Empty(t, standing().Bare)
	r.Settle.Dissolve = nil
	// Nothing is said to be missing of what is off.
	r.Off = true
	assert.Empty(t, standing().Bare)
	r.Off = false
	r.Mark.Outlines[0].Range = &treatment.Range{First: 96, Last: 99}
	s = standing()
	assert.Equal(t, Begun, s.Mark.State)
	assert.Contains(t, s.Mark.Why, "100 to 105")
	r.Fill.Sources[0].Plate.Strokes = nil
	assert.Equal(t, Begun, standing().Fill.State, "a plate that nothing is painted on")
	r.Fill.Sources[0].Plate.Strokes = strokes
	r.Fill.Sources[0].Off = true
	assert.Equal(t, Begun, standing().Fill.State)
	r.Fill.Sources = nil
	assert.Equal(t, Empty, standing().Fill.State)
	r.Mark.Outlines = nil
	s = standing()
	assert.Equal(t, Empty, s.Mark.State)
	assert.Empty(t, s.Bare, "nothing is marked: nothing is missing")
	r.Follow.Track = ""
	assert.Equal(t, Empty, standing().Follow.State)
	r.Settle.Opacity = 0
	assert.Equal(t, Look, standing().Settle.State)
}

// Forty removals of ten strokes each over 200 frames: how far they are is asked after every edit.
func BenchmarkStandings(b *testing.B) {
	d := document()
	d.Tracks[0].Data = &treatment.Data{}
	for n := 1; n <= 200; n++ {
		d.Tracks[0].Data.Samples = append(d.Tracks[0].Data.Samples, treatment.Sample{Frame: n, Matrix: shift(n)})
	}
	one := d.Removals[0]
	one.Range = treatment.Range{First: 1, Last: 200}
	plate := *one.Fill.Sources[0].Plate
	plate.Strokes = nil
	for k := range 10 {
		s := one.Fill.Sources[0].Plate.Strokes[0]
		s.ID = fmt.Sprint("s", k)
		plate.Strokes = append(plate.Strokes, s)
	}
	d.Removals = nil
	for k := range 40 {
		r := one
		r.ID = fmt.Sprint("r", k)
		source := one.Fill.Sources[0]
		source.Plate = &plate
		r.Fill.Sources = []treatment.Source{source}
		d.Removals = append(d.Removals, r)
	}
	for b.Loop() {
		t, err := Compile(d) // as after an edit: nothing of it is known
		require.NoError(b, err)
		_, err = t.Standings(b.Context(), nil)
		require.NoError(b, err)
	}
}
