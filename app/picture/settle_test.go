package picture

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCompressionIsSaid(t *testing.T) {
	assert.Empty(t, compression{Blocks: 1.1}.words())
	assert.Equal(t, "the plate was compressed, its blocks of 8 px show: what is called grain is what that has left",
		compression{Blocks: 2}.words())
	assert.Equal(t, "some frames are shown twice, as 3 to 4 and 9", compression{Again: []int{3, 4, 9}}.words())
	assert.Contains(t, grainWords(nil, compression{Blocks: 2}), "; the plate was compressed")
}
