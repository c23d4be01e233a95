package treatment_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"jardin/core/treatment"
)

func TestFramesAreNamedInRuns(t *testing.T) {
	assert.Equal(t, "", treatment.Spans(nil))
	assert.Equal(t, "7", treatment.Spans([]int{7}))
	assert.Equal(t, "7 to 9 and 12", treatment.Spans([]int{7, 8, 9, 12}))
	assert.Equal(t, "1, 3 to 4 and 6", treatment.Spans([]int{1, 3, 4, 6}))
	assert.Equal(t, "1, 3, 5, 7 and others", treatment.Spans([]int{1, 3, 5, 7, 9, 10}))
}
