package picture_test

import (
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/app/picture"
)

// Measuring that is interrupted after each of some steps, and goes on with what was kept
// as JSON and with nothing in memory, finds the same as in one go, and takes no step twice.
func TestMeasuringGoesOnWhereItWas(t *testing.T) {
	demotest.Share(t, 0)
	s := shot(t, 8, 0)
	doc := document()
	require.NoError(t, follow(t, s, doc, picture.Run{Track: "t", From: 8, First: 1, Last: 20}))
	for name, measure := range map[string]func(context.Context, *picture.Checkpoint) (any, error){
		"scout": func(ctx context.Context, steps *picture.Checkpoint) (any, error) {
			return picture.NewSource(s.Plates, "s", nil).Scout(ctx, doc, "r", steps, func(int, int) {})
		},
		"settle": func(ctx context.Context, steps *picture.Checkpoint) (any, error) {
			return picture.NewSource(s.Plates, "s", nil).Settle(ctx, doc, "r", steps, func(int, int) {})
		},
	} {
		t.Run(name, func(t *testing.T) {
			taken := 0
			want, err := measure(ctx, &picture.Checkpoint{Saved: func() { taken++ }})
			require.NoError(t, err)
			require.Greater(t, taken, 15)
			var kept []byte
			again := 0
			for _, after := range []int{1, 5, 9} {
				interrupted, stop := context.WithCancel(ctx)
				steps := &picture.Checkpoint{}
				if kept != nil {
					require.NoError(t, json.Unmarshal(kept, &steps.Found))
				}
				steps.Saved = func() {
					again++
					if len(steps.Found) >= after {
						stop()
					}
				}
				_, err := measure(interrupted, steps)
				require.ErrorIs(t, err, context.Canceled)
				kept, err = json.Marshal(steps.Found)
				require.NoError(t, err)
			}
			steps := &picture.Checkpoint{Saved: func() { again++ }}
			require.NoError(t, json.Unmarshal(kept, &steps.Found))
			got, err := measure(ctx, steps)
			require.NoError(t, err)
			assert.Equal(t, want, got)
			assert.Equal(t, taken, again, "no step is taken twice")
		})
	}
}
