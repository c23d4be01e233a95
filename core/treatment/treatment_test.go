package treatment

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
)

func valid() *Document {
	d := New()
	knots := []Knot{{At: Vec{0, 0}}, {At: Vec{9, 0}, Out: &Vec{1, 1}}, {At: Vec{9, 9}, In: &Vec{0, -2}}}
	d.Tracks = []Track{
		{ID: "t", Kind: PlaneTrack, Home: 5, Motion: geom.Similarity, Region: []Vec{{0, 0}, {50, 0}, {50, 50}},
			Exclusions: []Shape{{ID: "x", Kind: Outline, Home: 5, Points: knots, Ride: "p"}}},
		{ID: "p", Kind: PointsTrack, Home: 5, Motion: geom.Perspective, Points: []Point{{
			ID: "a", Home: 5, At: Vec{3, 4}, Pattern: Vec{21, 21}, Search: Vec{61, 61}, Motion: geom.Position,
			Channel: "luma", Against: "reference", Tolerance: 0.7}}},
	}
	d.Removals = []Removal{{
		ID: "a", Range: Range{1, 10}, Reference: 5,
		Mark:   Mark{Outlines: []Shape{{ID: "o", Kind: Outline, Home: 5, Points: knots}}},
		Follow: Follow{Track: "t"},
		Fill: Fill{
			Sources: []Source{
				{
					ID:   "p",
					Kind: HeldPlate,
					Plate: &Plate{Frame: 5, Strokes: []Stroke{{ID: "s", Mode: "clone", Home: 5, Size: 9, Opacity: 1,
						From: &From{Offset: Vec{3, 0}}, Path: &Path{Points: [][]float64{{1, 2}, {3, 4, 0.5}}}}}},
				},
			},
		},
		Settle: Settle{Opacity: 1},
	}}
	return d
}

func TestValidate(t *testing.T) {
	shot := &Range{1, 10}
	require.NoError(t, valid().Validate(shot))
	for says, change := range map[string]func(*Removal){
		"/removals/0: an id is missing":       func(r *Removal) { r.ID = "" },
		"/removals/0/settle/opacity":          func(r *Removal) { r.Settle.Opacity = math.NaN() },
		"/removals/0/settle/feather":          func(r *Removal) { r.Settle.Feather = -1 },
		"/removals/0/mark/outlines/0/feather": func(r *Removal) { r.Mark.Outlines[0].Feather = 501 },
		"needs 3 points":                      func(r *Removal) { r.Mark.Outlines[0].Points = r.Mark.Outlines[0].Points[:2] },
		"this strand needs 2 points": func(r *Removal) {
			r.Mark.Outlines[0].Kind, r.Mark.Outlines[0].Points = Strand, r.Mark.Outlines[0].Points[:1]
		},
		"/removals/0/mark/outlines/0/points/1": func(r *Removal) { r.Mark.Outlines[0].Points[1].At[0] = math.Inf(1) },
		"/removals/0/mark/outlines/0/home":     func(r *Removal) { r.Mark.Outlines[0].Home = 44 },
		"/removals/0/mark/outlines/0/ride":     func(r *Removal) { r.Mark.Outlines[0].Ride = "nothing" },
		"it has 1 points, the shape has 3": func(r *Removal) {
			r.Mark.Outlines[0].Keys = []ShapeKey{{Frame: 3, Points: r.Mark.Outlines[0].Points[:1]}}
		},
		"5 comes after 5": func(r *Removal) {
			k := PlacementKey{Frame: 5, Scale: Vec{1, 1}}
			r.Mark.Outlines[0].Placement = []PlacementKey{k, k}
		},
		"0 is not a size":                       func(r *Removal) { r.Mark.Outlines[0].Placement = []PlacementKey{{Frame: 5}} },
		`there is no point "z" in a track "p"`:  func(r *Removal) { r.Mark.Outlines[0].Points[0].Follows = &PointRef{"p", "z"} },
		`/removals/0/follow/track: there is no`: func(r *Removal) { r.Follow.Track = "u" },
		"hardness":                              func(r *Removal) { r.Fill.Sources[0].Strokes()[0].Hardness = 2 },
		"leads too far away":                    func(r *Removal) { r.Fill.Sources[0].Strokes()[0].From.Offset = Vec{1e7, 0} },
		"has 1 numbers":                         func(r *Removal) { r.Fill.Sources[0].Strokes()[0].Path.Points[0] = []float64{1} },
		"is not in the shot":                    func(r *Removal) { r.Reference = 11 },
		"needs from":                            func(r *Removal) { r.Fill.Sources[0].Strokes()[0].From = nil },
		"mode \"draw\" is not known":            func(r *Removal) { r.Fill.Sources[0].Strokes()[0].Mode = "draw" },
		"needs a colour":                        func(r *Removal) { r.Fill.Sources[0].Strokes()[0].Mode = "colour" },
		"neither a path nor an area":            func(r *Removal) { r.Fill.Sources[0].Strokes()[0].Path = nil },
		"an area needs 3 points":                func(r *Removal) { r.Fill.Sources[0].Strokes()[0].Area = &Area{} },
		"scaled by 0.01 to 100":                 func(r *Removal) { r.Fill.Sources[0].Strokes()[0].From.Scale = -1 },
		"nothing that can follow the pen":       func(r *Removal) { r.Fill.Sources[0].Strokes()[0].Pen = []string{"tilt"} },
		"the plate is of frame 5":               func(r *Removal) { r.Fill.Sources[0].Strokes()[0].Home = 6 },
		"sources/0/plate/strokes/0/from/frame":  func(r *Removal) { n := 77; r.Fill.Sources[0].Strokes()[0].From.Frame = &n },
		`strokes/0/ride: there is no track "q"`: func(r *Removal) { r.Fill.Sources[0].Strokes()[0].Ride = "q" },
		"a neighbour needs an offset": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Beside,
				Neighbour: &Neighbour{Frame: 5}}
		},
		"sources/0/neighbour: a source of kind neighbour needs an object": func(r *Removal) { r.Fill.Sources[0].Kind = Beside },
		"sources/0/plate: a source of kind paint has no such object": func(r *Removal) {
			r.Fill.Sources[0].Kind,
				r.Fill.Sources[0].Paint = Travelling, &Paint{}
		},
		"give 1 to 200 frames": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Gathered, Gathered: &Gathering{Frame: 5, Over: 201}}
		},
		"give 0 to 500 pixels": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Gathered, Gathered: &Gathering{Live: true, Over: 2,
				Scale: math.NaN()}}
		},
		"gathered/frame: frame 99 is not in": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Gathered, Gathered: &Gathering{Frame: 99, Over: 2}}
		},
		`gathered/track: there is no track "q"`: func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Gathered, Gathered: &Gathering{Live: true, Over: 2, Track: "q"}}
		},
		"gathered/between: it ends at 3": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Gathered, Gathered: &Gathering{Live: true, Over: 2}}
			r.Fill.Sources[0].Gathered.Between = &Range{10, 3}
		},
		"97 is not within 0 to 96": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Gathered, Gathered: &Gathering{Live: true, Over: 2, Most: 97}}
		},
		"grown/frame: frame 99 is not in": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Grown, Grown: &Growth{Frame: 99}}
		},
		"grown/from/0: it has 2 points; 3 at least": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Grown, Grown: &Growth{Frame: 5, From: [][]Vec{make([]Vec, 2)}}}
		},
		"grown/guides/1: it has 1 points; 2 at least": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Grown, Grown: &Growth{Frame: 5, Guides: [][]Vec{make([]Vec, 2), make([]Vec, 1)}}}
		},
		"grown/guides/0": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Grown, Grown: &Growth{Frame: 5, Guides: [][]Vec{{{1e9, 0}, {}}}}}
		},
		"grown/seed: -1": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Grown, Grown: &Growth{Frame: 5, Seed: -1}}
		},
		"grown/feature: NaN": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Grown, Grown: &Growth{Frame: 5, Feature: math.NaN()}}
		},
		"spread/over: 13": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Spread, Spread: &Spreading{Live: true, Over: 13}}
		},
		`"skin" is nothing that can be evened out`: func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Evened, Evened: &Evening{Takes: "skin", Scale: 3}}
		},
		"evened/scale: 0 is not": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Evened, Evened: &Evening{Takes: EvenFine}}
		},
		"a tone needs a key": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Toned, Tone: &FlatTone{Frame: 5}}
		},
		"a gradient has two ends, not 1": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Toned, Tone: &FlatTone{Frame: 5, Rim: true, Ends: make([]Vec, 1)}}
		},
		"is not within -10 to 1000": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Toned, Tone: &FlatTone{Frame: 5, Keys: []ToneAt{{Frame: 5, Other: [3]float64{0, 0, 1e9}}}}}
		},
		`"over" is not a way to lay`: func(r *Removal) { r.Fill.Sources[0].Lay = "over" },
		"a piece needs a picture and four": func(r *Removal) {
			r.Fill.Sources[0] = Source{ID: "n", Kind: Supplied,
				Piece: &Piece{Frame: 5}}
		},
		"is not a kind of source": func(r *Removal) { r.Fill.Sources[0].Kind = "layer" },
		"/sources/0/rise":         func(r *Removal) { r.Fill.Sources[0].Rise = -1 },
	} {
		d := valid()
		change(&d.Removals[0])
		assert.ErrorContains(t, d.Validate(shot), says)
	}
	for says, change := range map[string]func(d *Document){
		"neither samples nor an artifact":          func(d *Document) { d.Tracks[0].Data = &Data{} },
		"the matrix of frame 3 cannot be inverted": func(d *Document) { d.Tracks[0].Data = &Data{Samples: []Sample{{Frame: 3}}} },
		"leads back to itself":                     func(d *Document) { d.Tracks[0].Over, d.Tracks[1].Over = "p", "t" },
		"its width is smaller than the pattern":    func(d *Document) { d.Tracks[1].Points[0].Search[0] = 11 },
		"an exclusion cannot ride on the track":    func(d *Document) { d.Tracks[0].Exclusions[0].Ride = "t" },
		"a surface has four corners with room":     func(d *Document) { d.Tracks[0].Surface = make([]Vec, 4) },
		"is not a motion":                          func(d *Document) { d.Tracks[0].Motion = "free" },
		"a surface has four corners, this has 1": func(d *Document) {
			d.Tracks[0].Corrections = []Correction{{ID: "c", Kind: ByCorners, Keys: []CorrectionKey{{Frame: 2,
				Corners: make([]Vec, 1)}}}}
		},
		"this correction moves 2 crossings or pins, the key 1": func(d *Document) {
			d.Tracks[0].Corrections = []Correction{{ID: "c", Kind: ByPins, Pins: make([]Vec, 2), Keys: []CorrectionKey{{Frame: 2,
				Crossings: make([]Vec, 1)}}}}
		},
		"there are 65 pins; 64 at most": func(d *Document) {
			d.Tracks[0].Corrections = []Correction{{ID: "c", Kind: ByPins, Pins: make([]Vec, 65), Keys: []CorrectionKey{{Frame: 2,
				Crossings: make([]Vec, 65)}}}}
		},
		"bends, and nothing can be followed on top of that": func(d *Document) {
			d.Tracks[0].Bends, d.Tracks[1].Over = &Bends{Detail: 8}, "t"
		},
		"cannot be a track's id":          func(d *Document) { d.Tracks[0].ID = Still },
		"8 to 12 reaches beyond the shot": func(d *Document) { d.Tracks[0].Dropped = []Range{{8, 12}} },
	} {
		d := valid()
		change(d)
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
	base := valid().Tracks[0]
	same := valid().Tracks[0]
	same.Name, same.Smooth, same.Exclusions[0].Name = "other", 2, "also"
	assert.Equal(t, base.Basis(), same.Basis())
	for _, change := range []func(*Track){
		func(r *Track) { r.Home++ }, func(r *Track) { r.Motion = geom.Position }, func(r *Track) { r.Region[0][0]++ },
		func(r *Track) { r.Exclusions[0].Points[0].At[0]++ }, func(r *Track) { r.Over = "p" },
	} {
		r := valid().Tracks[0]
		change(&r)
		assert.NotEqual(t, base.Basis(), r.Basis())
	}
	p := valid().Tracks[1]
	p.Points[0].Path = &PointPath{Basis: p.Points[0].Basis(), Samples: []PointSample{{Frame: 4}}}
	assert.False(t, new(Document).Stale(&p))
	p.Points[0].Tolerance = 0.9
	assert.True(t, new(Document).Stale(&p))
}

// A dissolve comes in by even steps before the range and goes out after it.
func TestWeight(t *testing.T) {
	half := 0.5
	s := Source{Range: &Range{10, 12}, Rise: 3, Fall: 1, Opacity: &half}
	for n, want := range map[int]float64{6: 0, 7: 0.125, 8: 0.25, 9: 0.375, 10: 0.5, 12: 0.5, 13: 0.25, 14: 0} {
		assert.InDelta(t, want, s.Weight(n), 1e-12, "frame %d", n)
	}
	s.Off = true
	assert.Zero(t, s.Weight(11))
	assert.EqualValues(t, 1, (&Source{}).Weight(-5))
}

func TestInlineReadsTracksAndReportsWhatIsMissing(t *testing.T) {
	d := valid()
	d.Tracks[0].Data = &Data{Artifact: "t", Basis: "b"}
	samples, err := json.Marshal([]Sample{{Frame: 4, Matrix: geom.Identity}})
	require.NoError(t, err)
	full, err := d.Inline(Stored(func(string) ([]byte, error) { return samples, nil }))
	require.NoError(t, err)
	assert.Equal(t, &Data{Basis: "b", Samples: []Sample{{Frame: 4, Matrix: geom.Identity}}}, full.Tracks[0].Data)
	_, err = d.Inline(Stored(func(string) ([]byte, error) { return nil, errors.New("gone") }))
	assert.ErrorContains(t, err, "gone")
	_, err = d.Inline(Stored(func(string) ([]byte, error) { return []byte("{"), nil }))
	assert.ErrorContains(t, err, "cannot be read")
	r, i := d.Find("a")
	assert.Equal(t, 0, i)
	assert.Equal(t, "a", r.ID)
	_, i = d.Find("b")
	assert.Equal(t, -1, i)
}

// What versions 2 to 4 saved: sources whose properties stood beside each other, whatever their
// kind. Left-overs of another kind are dropped, strangers named by who reads the outcome.
func TestUpgradeOfSources(t *testing.T) {
	old := `{"format":"jardin/treatment","version":4,"tracks":[],"removals":[{"id":"a","fill":{"sources":[
		{"id":"1","name":"p","kind":"plate","frame":5,"whole":true,"corners":[[1,2]],"picture":{"name":"x","width":3,"height":4},"strokes":[{"id":"s","home":5}],"rise":2},
		{"id":"2","name":"t","kind":"paint","frame":7,"strokes":[{"id":"u","home":8}]},
		{"id":"3","name":"n","kind":"neighbour","frame":6,"offsets":[{"frame":6,"ease":"linear","offset":[1,2]}],"screen":true,"crisp":true,"strokes":[]},
		{"id":"4","name":"i","kind":"piece","frame":9,"picture":{"name":"y","width":1,"height":2},"corners":[[0,0],[9,0],[9,9],[0,9]],"opacity":0.5}]}}]}`
	for version := 3; version <= 4; version++ {
		blob, err := Upgrade([]byte(strings.Replace(old, `"version":4`, fmt.Sprintf(`"version":%d`, version), 1)))
		require.NoError(t, err)
		var d Document
		decoder := json.NewDecoder(bytes.NewReader(blob))
		decoder.DisallowUnknownFields()
		require.NoError(t, decoder.Decode(&d), "nothing is left where it stood")
		half := 0.5
		assert.Equal(t, []Source{
			{
				ID:   "1",
				Name: "p",
				Kind: HeldPlate,
				Rise: 2,
				Plate: &Plate{
					Frame:   5,
					Whole:   true,
					Picture: &Picture{Name: "x", Width: 3, Height: 4},
					Strokes: []Stroke{{ID: "s", Home: 5}},
				},
			},
			{ID: "2", Name: "t", Kind: Travelling, Paint: &Paint{Strokes: []Stroke{{ID: "u", Home: 8}}}},
			{
				ID:   "3",
				Name: "n",
				Kind: Beside,
				Neighbour: &Neighbour{
					Frame:   6,
					Offsets: []OffsetKey{{Frame: 6, Ease: Linear, Offset: Vec{1, 2}}},
					Screen:  true,
					Crisp:   true,
				},
			},
			{
				ID:      "4",
				Name:    "i",
				Kind:    Supplied,
				Opacity: &half,
				Piece: &Piece{
					Frame:   9,
					Picture: &Picture{Name: "y", Width: 1, Height: 2},
					Corners: []Vec{{0, 0}, {9, 0}, {9, 9}, {0, 9}},
				},
			},
		}, d.Removals[0].Fill.Sources)
	}
	for bad, says := range map[string]string{`[3]`: "is no object", `[{"kind":"plate"},null]`: "is no object"} {
		_, err := Upgrade(
			[]byte(`{"format":"jardin/treatment","version":4,"removals":[{"fill":{"sources":` + bad + `}}]}`),
		)
		assert.ErrorContains(t, err, says)
	}
	_, err := Upgrade([]byte(`{"format":"jardin/treatment","version":4,"removals":[{}]}`))
	assert.ErrorContains(t, err, "fill is missing")
}

// A source that is changed leaves the one that it was made from alone.
func TestSourcesAreCopiedBeforeTheyAreChanged(t *testing.T) {
	first := Source{ID: "1", Kind: HeldPlate, Plate: &Plate{Frame: 5, Strokes: make([]Stroke, 2, 9)}}
	own := first.Own()
	own.Strokes()[0].ID = "changed"
	more := first.With(append(first.Strokes(), Stroke{ID: "new"}))
	assert.Equal(t, make([]Stroke, 2), first.Strokes())
	assert.Len(t, more.Strokes(), 3)
	assert.Equal(t, 5, more.Plate.Frame)
	still := Source{ID: "2", Kind: Beside, Neighbour: &Neighbour{Offsets: []OffsetKey{{Frame: 1}}}}
	painted := still.With([]Stroke{{}})
	assert.Nil(t, painted.Strokes(), "it cannot be painted on")
	moved := still.Own()
	moved.Neighbour.Offsets[0].Frame = 9
	assert.Equal(t, 1, still.Neighbour.Offsets[0].Frame)
	for kind, held := range map[string]bool{HeldPlate: true, Supplied: true, Travelling: false, Beside: false,
		Gathered: true, Grown: true, Spread: true, Evened: false, Toned: false} {
		s := Source{Kind: kind, Plate: &Plate{}, Paint: &Paint{}, Neighbour: &Neighbour{}, Piece: &Piece{},
			Gathered: &Gathering{}, Grown: &Growth{}, Spread: &Spreading{}, Evened: &Evening{}, Tone: &FlatTone{}}
		assert.Equal(t, held, s.Held(), kind)
		_, fixed := s.PaintedAt()
		assert.Equal(t, kind == HeldPlate, fixed, kind)
	}
	grown := Source{Kind: Grown, Grown: &Growth{Guides: [][]Vec{{{1, 2}}}}}
	grown.Own().Grown.Guides[0][0] = Vec{9, 9}
	assert.Equal(t, Vec{1, 2}, grown.Grown.Guides[0][0])
	gathered := Source{Kind: Gathered, Gathered: &Gathering{Between: &Range{1, 2}}}
	gathered.Own().Gathered.Between.First = 9
	assert.Equal(t, 1, gathered.Gathered.Between.First)
	tone := Source{Kind: Toned, Tone: &FlatTone{Keys: []ToneAt{{Frame: 1}}}}
	tone.Own().Tone.Keys[0].Frame = 9
	assert.Equal(t, 1, tone.Tone.Keys[0].Frame)
	assert.False(t, (&Source{Kind: "layer"}).Known())
	assert.False(t, (&Source{Kind: Supplied, Plate: &Plate{}}).Known())
}

// What was saved by version 1, in which a removal held its own region and track.
func TestUpgrade(t *testing.T) {
	old := `{"format":"jardin/treatment","version":1,"removals":[
		{"id":"a","name":"dot","range":{"first":1,"last":10},"reference":5,"mark":{"outlines":[{"id":"o","name":"o","points":[{"at":[0,0]},{"at":[9,0]},{"at":[9,9]}]}]},
		 "follow":{"region":[[0,0],[50,0],[50,50]],"motion":"similarity","track":{"basis":"x","samples":[{"frame":6,"matrix":[1,0,3,0,1,0,0,0,1]}]}},
		 "fill":{"strokes":[{"id":"s","mode":"clone","size":9,"hardness":1,"opacity":1,"offset":[3,4],"path":{"points":[[1,2]]}}]},"settle":{"opacity":1}},
		{"id":"b","name":"b","range":{"first":1,"last":10},"reference":7,"mark":{"outlines":[]},"follow":{"region":[],"motion":"position"},"fill":{"strokes":[]},"settle":{"opacity":1}}]}`
	blob, err := Upgrade([]byte(old))
	require.NoError(t, err)
	var d Document
	require.NoError(t, json.Unmarshal(blob, &d))
	require.NoError(t, d.Validate(&Range{1, 10}))
	require.Len(t, d.Tracks, 1)
	assert.Equal(t, d.Tracks[0].ID, d.Removals[0].Follow.Track)
	assert.Equal(t, 5, d.Tracks[0].Home)
	assert.Equal(t, geom.Similarity, d.Tracks[0].Motion)
	assert.Equal(t, 3.0, d.Tracks[0].Data.Samples[0].Matrix[2])
	assert.Equal(t, 5, d.Removals[0].Mark.Outlines[0].Home)
	require.Len(t, d.Removals[0].Fill.Sources, 1)
	plate := d.Removals[0].Fill.Sources[0]
	assert.Equal(t, 5, plate.Plate.Frame)
	assert.Equal(t, Vec{3, 4}, plate.Strokes()[0].From.Offset)
	assert.Equal(t, []string{"size"}, plate.Strokes()[0].Pen, "pressure scaled the size")
	assert.Empty(t, d.Removals[1].Fill.Sources)
	assert.Empty(t, d.Removals[1].Follow.Track)
	assert.False(t, d.Stale(&d.Tracks[0]))
	again, err := Upgrade(blob)
	require.NoError(t, err)
	assert.Equal(t, blob, again, "a document of this version is left alone")
}

// A supplied matte marks once it has pictures, or is the plate's alpha, and is not left out.
func TestWhatMarksAnything(t *testing.T) {
	for _, c := range []struct {
		mark Mark
		some bool
	}{
		{Mark{}, false},
		{Mark{Outlines: []Shape{{}}}, true},
		{Mark{Mattes: []MarkMatte{{}}}, false},
		{Mark{Mattes: []MarkMatte{{Mattes: []FrontMatte{{Frame: 4}}}}}, true},
		{Mark{Mattes: []MarkMatte{{Alpha: true}}}, true},
		{Mark{Mattes: []MarkMatte{{Alpha: true, Off: true}}}, false},
	} {
		assert.Equal(t, c.some, c.mark.Something())
	}
}

// Between two frames a surface is bent, and found, half as on one and half as on the other; bends of other cells do not mix.
func TestBendsBetweenFrames(t *testing.T) {
	bend := func(columns int, shift float64, agree float32) *Bend {
		l := geom.Lattice{Box: geom.Box{Max: geom.Pt(40, 20)}, Columns: columns, Rows: 2, Shift: make([]geom.Point, 3*(columns+1))}
		all := make([]float32, len(l.Shift))
		for i := range l.Shift {
			l.Shift[i], all[i] = geom.Pt(shift, -shift), agree
		}
		return NewBend(&l, all)
	}
	b := MixBends(bend(4, 2, 1), bend(4, 6, 0.5), 0.25)
	l, ok := b.Lattice()
	assert.True(t, ok)
	assert.InDelta(t, 3, l.Shift[7].X, 0.02)
	assert.InDelta(t, 0.875, b.AgreementAt(geom.Pt(13, 9)), 0.01)
	assert.InDelta(t, 0.875, float64(b.Agreement()[3]), 0.01)
	assert.Less(t, b.AgreementAt(geom.Pt(50, 9)), 0.0, "beyond its box nothing is known")
	assert.Nil(t, MixBends(bend(4, 2, 1), bend(5, 2, 1), 0.5))
	assert.Nil(t, MixBends(nil, bend(5, 2, 1), 0.5))
}
