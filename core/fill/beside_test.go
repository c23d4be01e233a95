package fill

import (
	"image"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/core/raster"
)

// wallOf is a grey picture with some places of another look.
func wallOf(patches map[image.Rectangle]func(x, y int) float32) *raster.Image {
	m := raster.NewImage(image.Rect(0, 0, 200, 120))
	rng := rand.New(rand.NewPCG(8, 8))
	for y := range 120 {
		for x := range 200 {
			v := 0.25 + 0.004*rng.Float32()
			for r, f := range patches {
				if image.Pt(x, y).In(r) {
					v = f(x, y)
				}
			}
			m.Set(x, y, [4]float32{v, v, v, 1})
		}
	}
	return m
}

func planeOf(size, r image.Rectangle) *raster.Plane {
	p := raster.NewPlane(size)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			p.Row(y, x, x+1)[0] = 1
		}
	}
	return p
}

// A place is as good as its rim looks like the thing's, as its inside has as much texture as
// what is around, and as it is near; what must not be taken is not.
func TestBesideWeighsLooksTextureAndDistance(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	rough := func(int, int) float32 { return 0.25 + 0.2*rng.Float32() }
	size, thing := image.Rect(0, 0, 200, 120), image.Rect(90, 50, 100, 60)
	cover, nothing := planeOf(size, thing), raster.NewPlane(size)

	// All is even: the nearest place is as good as any, and taken.
	by, off, ok := Beside(wallOf(nil), cover, nothing, 60)
	require.True(t, ok)
	assert.Less(t, off, 0.01)
	assert.LessOrEqual(t, max(by.X, -by.X, by.Y, -by.Y), 26, "near places are lit alike")

	// All around is rough inside, though the rims are even, but at one place farther off.
	patches := map[image.Rectangle]func(x, y int) float32{}
	for y := 2; y < 110; y += 13 {
		for x := 2; x < 190; x += 13 {
			r := image.Rect(x, y, x+5, y+5)
			if !r.Overlaps(image.Rect(128, 38, 160, 72)) && !r.Overlaps(thing.Inset(-7)) {
				patches[r] = rough
			}
		}
	}
	by, _, ok = Beside(wallOf(patches), cover, nothing, 60)
	require.True(t, ok)
	for r := range patches {
		assert.False(t, r.Overlaps(thing.Add(by)), "%v: even as what is around", by)
	}

	// There it is forbidden.
	by, _, ok = Beside(wallOf(nil), cover, planeOf(size, image.Rect(0, 0, 200, 45)), 60)
	require.True(t, ok)
	assert.GreaterOrEqual(t, thing.Add(by).Min.Y-rim, 45)
	_, _, ok = Beside(wallOf(nil), cover, planeOf(size, size), 60)
	assert.False(t, ok)
	_, _, ok = Beside(wallOf(nil), nothing, nothing, 60)
	assert.False(t, ok, "nothing is covered")
}
