package track

import (
	"image"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/geom"
	"jardin/core/raster"
)

// beside is two walls that meet at a line, the farther of which goes by itself: a region around a thing near the line has to
// stay on its own side of it.
func beside(t testing.TB, wall, other *raster.Plane, angle float64, at geom.Point, i int) *raster.Plane {
	size := image.Rect(0, 0, 640, 480)
	u := float64(i)
	p := seenThrough(wall, geom.Translation(geom.Pt(6*u, -2*u)), size, whole(wall), 1)
	far := seenThrough(other, geom.Translation(geom.Pt(-9*u, 7*u)), size, whole(other), 1)
	cos, sin := math.Cos(angle), math.Sin(angle)
	for y := range 480 {
		for x := range 640 {
			if (float64(x)-at.X-6*u)*cos+(float64(y)-at.Y+2*u)*sin > 0 {
				p.Pix[y*640+x] = far.Pix[y*640+x]
			}
		}
	}
	return noisy(p, 0.006, uint64(i+20))
}

// A region is proposed that holds on its own surface, to a tenth of a pixel where the thing is, whichever way the edge of that
// lies; of a plain wall it is said that nothing holds.
func TestARegionIsProposedOnItsOwnSurface(t *testing.T) {
	shareOf(t, 3)
	wall, other := wallOf(t), photograph(t, "baboon.jpg")
	rng := rand.New(rand.NewPCG(8, 8))
	for range 3 {
		angle := rng.Float64() * 2 * math.Pi
		c := geom.Pt(260+120*rng.Float64(), 200+80*rng.Float64())
		// The edge of the surface lies 60 pixels beside the thing.
		line := c.Add(geom.Pt(60*math.Cos(angle), 60*math.Sin(angle)))
		thing := geom.Box{Min: c.Sub(geom.Pt(14, 14)), Max: c.Add(geom.Pt(14, 14))}
		corners := thing.Corners()
		frame := func(i int) FrameReader { return show(beside(t, wall, other, angle, line, i)) }
		found, err := Propose(frame(0), []FrameReader{frame(3), frame(-3)}, image.Rect(0, 0, 640, 480), corners[:], geom.Perspective)
		require.NoError(t, err, "angle %.2f", angle)
		p, err := NewPlane(frame(0), image.Rect(0, 0, 640, 480), found.Region, [][]geom.Point{corners[:]}, geom.Perspective)
		require.NoError(t, err)
		var worst float64
		for i := 1; i <= 6; i++ {
			s, err := p.Step(frame(i), nil)
			require.NoError(t, err)
			for _, q := range corners {
				worst = math.Max(worst, s.H.Apply(q).Dist(q.Add(geom.Pt(6*float64(i), -2*float64(i)))))
			}
		}
		b := geom.Bounds(found.Region)
		t.Logf("edge at %.2f: %.0f x %.0f, off by %.3f px, told %.3f", angle, b.Max.X-b.Min.X, b.Max.Y-b.Min.Y, worst, found.Deviation)
		assert.Less(t, worst, 0.15, "angle %.2f", angle)
	}
	dark := grey(make([]byte, 640*480), image.Rect(0, 0, 640, 480))[0]
	plain, next := show(noisy(dark.Crop(dark.Rect), 0.004, 3)), show(noisy(dark, 0.004, 4))
	_, err := Propose(plain, []FrameReader{next}, image.Rect(0, 0, 640, 480), []geom.Point{{X: 300, Y: 200}, {X: 330, Y: 230}}, geom.Perspective)
	assert.ErrorIs(t, err, ErrNoRegion)
	broken := func(image.Rectangle) (*raster.Plane, error) { return nil, assert.AnError }
	_, err = Propose(plain, []FrameReader{broken}, image.Rect(0, 0, 640, 480), []geom.Point{{X: 300, Y: 200}, {X: 330, Y: 230}}, geom.Perspective)
	assert.Error(t, err)
}
