package picture

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/render"
	"jardin/core/treatment"
)

func TestCompressionIsSaid(t *testing.T) {
	assert.Empty(t, compression{Blocks: 1.1}.words())
	assert.Equal(t, "the plate was compressed, its blocks of 8 px show: what is called grain is what that has left",
		compression{Blocks: 2}.words())
	assert.Equal(t, "some frames are shown twice, as 3 to 4 and 9", compression{Again: []int{3, 4, 9}}.words())
	assert.Contains(t, grainWords(nil, compression{Blocks: 2}), "; the plate was compressed")
}

// What goes by is told apart from another layer that lies beside the patch nearly all the time.
func TestWhatGoesByIsSaid(t *testing.T) {
	some := extremes{frames: 10, disturbed: []int{3, 4, 8}, unsure: []int{3, 4, 9}, passed: []int{3, 4}}
	assert.Equal(t, []treatment.Range{{First: 3, Last: 4}}, some.passing())
	assert.Equal(t, []string{
		"on 3 to 4 and 8 something else shows beside the patch, and is left out",
		"on 3 to 4 and 9 light is taken from before and after",
	}, disturbances(some))
	most := extremes{frames: 10, disturbed: []int{1, 2, 3, 4, 5, 6, 7, 8}, passed: []int{3}}
	assert.Empty(t, most.passing())
	assert.Equal(t, []string{"a part of what lies around the patch is another layer, and is left out"}, disturbances(most))
	assert.Empty(t, disturbances(extremes{frames: 10}))
}

// The sentence says on which frame, which way and by how much, against what.
func TestLightIsSaidWithoutAmbiguity(t *testing.T) {
	said := func(low, high float64) string {
		measure := func(n int, v float64) render.Measure { return render.Measure{Frame: n, Light: [3]float64{v, v, v}} }
		return settledWords(extremes{low: measure(7, low), high: measure(9, high), frames: 5}, shutter{}, nil, compression{})
	}
	assert.Contains(t, said(0.78, 1.001), "least light on 7, 22 % less than on the frame that is held;")
	assert.NotContains(t, said(0.78, 1.001), "on 9")
	assert.Contains(t, said(0.97, 1.04), "least light on 7, 3 % less than on the frame that is held; most on 9, 4 % more;")
	assert.Contains(t, said(0.999, 1.04), "most light on 9, 4 % more than on the frame that is held;")
	assert.Contains(t, said(0.999, 1.002), "light stays within half a percent")
}
