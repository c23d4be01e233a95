package render

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/treatment"
)

// On a surface that bends a source gives way where that was not found: half of it shows what lies below, the other half is whole,
// where it was carried to. It does so on no other surface, and not on its home frame; frames around are averaged.
func TestASourceGivesWay(t *testing.T) {
	plate := drawing("grey", func(_, _ float64, _ int) float64 { return 0.2 })
	colour := func(id string, v float64) treatment.Source {
		return treatment.Source{ID: id, Name: id, Kind: treatment.Toned, Tone: &treatment.FlatTone{
			Frame: 4, Keys: []treatment.ToneAt{{Frame: 4, Ease: treatment.Linear, One: [3]float64{v, v, v}}},
		}}
	}
	doc := onSquare(colour("below", 0.4))
	above := colour("above", 0.8)
	above.GiveWay = true
	doc.Removals[0].Fill.Sources = append(doc.Removals[0].Fill.Sources, above)
	doc.Removals[0].Mark.Outlines[0].Ride = ""
	doc.Removals[0].Follow.Track = "t"
	box := geom.Box{Min: geom.Pt(80, 40), Max: geom.Pt(160, 120)}
	corners := box.Corners()
	what := treatment.Track{ID: "t", Name: "Cloth", Kind: treatment.PlaneTrack, Home: 4, Motion: geom.Perspective, Bends: &treatment.Bends{Detail: 10}}
	for _, c := range corners {
		what.Region = append(what.Region, treatment.Vec{c.X, c.Y})
	}
	move := func(n int) geom.Point { return geom.Pt(6*float64(n-4), 0) }
	what.Data = &treatment.Data{}
	for n := range 10 {
		l := geom.Lattice{Box: box, Columns: 8, Rows: 8, Shift: make([]geom.Point, 81)}
		agree := make([]float32, 81)
		for i := range agree {
			l.Shift[i] = move(n)
			if i%9 <= 4 && n >= 5 { // the left half is lost from 5 on
				agree[i] = 0.1
			} else {
				agree[i] = 0.95
			}
		}
		what.Data.Samples = append(what.Data.Samples, treatment.Sample{Frame: n, Matrix: geom.Identity, Match: 1, Agree: 1, Bend: treatment.NewBend(&l, agree)})
	}
	doc.Tracks = []treatment.Track{what}
	e := &Evaluator{Plate: plate, Cache: memo.New(1 << 26)}
	at := func(n int, home geom.Point) float32 {
		r, err := e.Frame(context.Background(), compile(t, doc), n, ResultView, "")
		require.NoError(t, err)
		p := home.Add(move(n))
		return r.At(int(p.X), int(p.Y))[0]
	}
	left, right := geom.Pt(105, 80), geom.Pt(136, 80)
	assert.InDelta(t, 0.4, at(8, left), 0.01, "lost: what lies below shows")
	assert.InDelta(t, 0.8, at(8, right), 0.01)
	assert.InDelta(t, 0.8, at(4, left), 0.01, "the home frame is whole")
	assert.InDelta(t, 0.8, at(2, left), 0.01)
	between := at(6, left)
	assert.Greater(t, between, at(7, left)+0.01, "it goes over some frames")
	assert.Less(t, between, float32(0.79))
	edge := at(8, geom.Pt(125, 80))
	assert.True(t, edge > 0.42 && edge < 0.78, "and softly along the surface: %v", edge)
	doc.Tracks[0].Bends = nil
	assert.InDelta(t, 0.8, at(8, left), 0.01, "only a surface that bends is told place by place")
	doc.Tracks[0].Bends = what.Bends
	doc.Removals[0].Fill.Sources[1].GiveWay = false
	assert.InDelta(t, 0.8, at(8, left), 0.01)
}
