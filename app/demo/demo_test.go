package demo

import (
	"context"
	"image/png"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
	"jardin/core/track"
)

func TestX(t *testing.T) {
	st := time.Now()
	require.NoError(t, Write(context.Background(), "/tmp/lmdemo", nil))
	t.Log("write", time.Since(st))
	plane := func(n int) *raster.Plane {
		f, err := os.Open(FramePath("/tmp/lmdemo", PlateFolder, n))
		require.NoError(t, err)
		defer f.Close()
		m, err := png.Decode(f)
		require.NoError(t, err)
		p := raster.NewPlane(Bounds())
		for i := range p.Pix {
			r, g, b, _ := m.At(i%Width, i/Width).RGBA()
			p.Pix[i] = (0.2126*float32(r) + 0.7152*float32(g) + 0.0722*float32(b)) / 65535
		}
		return p
	}
	region := []geom.Point{{X: 220, Y: 110}, {X: 700, Y: 110}, {X: 700, Y: 430}, {X: 220, Y: 430}}
	for _, m := range []geom.Motion{geom.Perspective, geom.Similarity} {
		tr, err := track.NewPlane(plane(Reference), region, m)
		require.NoError(t, err)
		var worst float64
		var total time.Duration
		for n := Reference + 1; n <= Last; n++ {
			p := plane(n)
			st := time.Now()
			s, err := tr.Step(p)
			total += time.Since(st)
			require.NoError(t, err, "%d", n)
			truth := Transform(Reference, n)
			var e float64
			for _, c := range region {
				e += s.H.Apply(c).Dist(truth.Apply(c)) * s.H.Apply(c).Dist(truth.Apply(c)) / 4
			}
			if e > worst {
				worst = e
			}
			if n%6 == 0 {
				t.Logf("%d e2=%.5f match %.3f agree %.3f res %.3f", n, e, s.Match, s.Agree, s.Residual)
			}
		}
		t.Log(m, "worst e^2", worst, "per frame", total/time.Duration(Last-Reference))
	}
	_ = filepath.Join
	_ = assert.Equal
	_ = sync.Once{}
}
