package picture

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFramesAreNamedInRuns(t *testing.T) {
	assert.Equal(t, "", runs(nil))
	assert.Equal(t, "7", runs([]int{7}))
	assert.Equal(t, "7 to 9 and 12", runs([]int{7, 8, 9, 12}))
	assert.Equal(t, "1, 3 to 4 and 6", runs([]int{1, 3, 4, 6}))
	assert.Equal(t, "1, 3, 5, 7 and others", runs([]int{1, 3, 5, 7, 9, 10}))
}

func TestCompressionIsSaid(t *testing.T) {
	assert.Empty(t, compression{Blocks: 1.1}.words())
	assert.Equal(t, "the plate was compressed, its blocks of 8 px show: what is called grain is what that has left",
		compression{Blocks: 2}.words())
	assert.Equal(t, "some frames are shown twice, as 3 to 4 and 9", compression{Again: []int{3, 4, 9}}.words())
	assert.Contains(t, grainWords(nil, compression{Blocks: 2}), "; the plate was compressed")
}
