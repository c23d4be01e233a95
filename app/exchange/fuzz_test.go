package exchange

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"jardin/app/fuzzing"
	"jardin/core/treatment"
)

// Files from other programs are refused with words, or become tracks and outlines that
// can be written.
func FuzzRead(f *testing.F) {
	f.Add(
		[]byte(
			`{"format":"jardin/track","version":1,"name":"t","kind":"plane","home":3,"samples":[{"frame":3,"matrix":[1,0,0,0,1,0,0,0,1]}]}`,
		),
	)
	f.Add([]byte("# frame x y\n1 10 20\n2 11 21\n"))
	f.Add([]byte("1,2.5,3.5\n2,2.6,3.4\n"))
	f.Fuzz(func(t *testing.T, blob []byte) {
		var track *treatment.Track
		var err error
		fuzzing.Within(t, blob, 1<<20, 200, func() { track, err = Read(blob, "t", 1) })
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		_, err = json.Marshal(track)
		require.NoError(t, err)
	})
}

func FuzzReadSVG(f *testing.F) {
	f.Add(
		[]byte(
			`<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><path d="M1 1 L5 1 C6 2 7 3 5 5 Z"/></svg>`,
		),
	)
	f.Add([]byte(`<svg xmlns="http://www.w3.org/2000/svg"><polygon points="1,1 5,1 5,5" stroke-width="2"/></svg>`))
	f.Fuzz(func(t *testing.T, blob []byte) {
		var shapes []treatment.Shape
		var err error
		fuzzing.Within(t, blob, 1<<20, 400, func() { shapes, err = ReadSVG(blob, 1) })
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		_, err = json.Marshal(shapes)
		require.NoError(t, err)
	})
}
