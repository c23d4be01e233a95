package e2e

import (
	"bytes"
	"fmt"
	"image"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/colorspace"
)

// bent is a .cube file whose grid bends colours smoothly, and swaps two of them.
func bent(rng *rand.Rand, size int) string {
	var out strings.Builder
	fmt.Fprintf(&out, "TITLE \"Hot house\"\nLUT_3D_SIZE %d\n", size)
	k := [3]float64{0.5 + rng.Float64(), 0.5 + rng.Float64(), 0.5 + rng.Float64()}
	at := func(i int) float64 { return float64(i) / float64(size-1) }
	for b := range size {
		for g := range size {
			for r := range size {
				fmt.Fprintf(&out, "%.6f %.6f %.6f\n", math.Pow(at(g), k[0]), math.Pow(at(r), k[1]), 0.8*math.Pow(at(b), k[2])+0.2*at(r))
			}
		}
	}
	return out.String()
}

// The picture goes through a .cube file on the graphics card, and where there is none: pixel by pixel what the table says of the
// plate's code values; frames that leave do not, the movie for review does where that is asked for.
func TestAShotIsLookedAtThroughATable(t *testing.T) {
	demotest.Share(t, 3)
	t.Parallel()
	known := demotest.Truth(t)
	s, shot := serveWith(t, "lm_010")
	dir := t.TempDir()
	path := filepath.Join(dir, "hot house.cube")
	text := bent(rand.New(rand.NewPCG(3, 3)), 17)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	wrong := filepath.Join(dir, "wrong.cube")
	require.NoError(t, os.WriteFile(wrong, []byte("LUT_3D_SIZE 2\n0 0 0\n"), 0o644))
	cube, err := colorspace.ReadCube([]byte(text))
	require.NoError(t, err)
	plate := pngOf(t, s.fetch(fmt.Sprintf("/api/shots/%s/frames/%d/exact", shot, known.Reference)))

	for _, plain := range []bool{false, true} {
		a := blank(t)
		if plain {
			_, err := a.page.EvalOnNewDocument(`const get = HTMLCanvasElement.prototype.getContext;
				HTMLCanvasElement.prototype.getContext = function (kind, ...rest) { return kind === 'webgl2' ? null : get.call(this, kind, ...rest) }`)
			require.NoError(t, err)
		}
		a.visit(s.address + "/shots/" + shot)
		a.steady(1001)
		a.goTo(known.Reference)
		if !plain {
			a.press("EV$")
			a.see("nothing: as an sRGB screen shows it")
			a.page.MustElement(`[aria-label="A .cube file"]`).MustSetFiles(wrong)
			a.see("wrong.cube cannot be used: it ends after 1 of 8 entries")
			a.page.MustElement(`[aria-label="A .cube file"]`).MustSetFiles(path)
			a.see("hot house.cube, as all of")
		}
		a.page.MustElement("body").MustClick()
		a.key(input.Escape, input.NumpadAdd, input.Minus) // a pixel for a pixel, without loss once it stands still
		off := func() float64 {
			v, err := a.page.Eval(`() => new Promise(done => requestAnimationFrame(() => {
				const canvas = document.querySelector('[data-testid=picture]')
				const flat = new OffscreenCanvas(canvas.width, canvas.height), g = flat.getContext('2d')
				g.drawImage(canvas, 0, 0)
				const { data } = g.getImageData(0, 0, canvas.width, canvas.height)
				const out = []
				for (let y = 40; y < 500; y += 20) for (let x = 60; x < 900; x += 20) {
					const [u, v] = [canvas.width / 2 + (x + 0.5 - 480), canvas.height / 2 + (y + 0.5 - 270)]
					const i = 4 * (Math.floor(v) * canvas.width + Math.floor(u))
					out.push(x, y, data[i], data[i + 1], data[i + 2])
				}
				done(out)
			}))`)
			require.NoError(t, err)
			var seen []int
			require.NoError(t, v.Value.Unmarshal(&seen))
			var sum, n float64
			for i := 0; i < len(seen); i += 5 {
				r, g, b, _ := plate.At(seen[i], seen[i+1]).RGBA()
				want := cube.Apply([3]float32{float32(r) / 65535, float32(g) / 65535, float32(b) / 65535})
				for k, w := range want {
					sum, n = sum+math.Abs(float64(w)*255-float64(seen[i+2+k])), n+1
				}
			}
			return sum / n
		}
		s.wait(15*time.Second, "the picture to go through the table", func() bool { return off() < 0.6 })
	}

	// What leaves.
	task := s.render(shot, `{"what":"clean","range":{"first":1037,"last":1040},"movies":["review"],"looked":true}`)
	frames := s.download("/api/renders/" + task + "/frames")
	require.Contains(t, frames, 1037)
	assert.Equal(t, plate.At(100, 100), frames[1037].At(100, 100), "frames are as they came")
	movie := filepath.Join(dir, "review.mp4")
	require.NoError(t, os.WriteFile(movie, s.fetch("/api/renders/"+task+"/movie?kind=review"), 0o644))
	var out bytes.Buffer
	cmd := exec.Command("ffmpeg", "-v", "error", "-i", movie, "-frames:v", "1", "-f", "rawvideo", "-pix_fmt", "rgb24", "-")
	cmd.Stdout = &out
	require.NoError(t, cmd.Run())
	sum, n := 0.0, 0.0
	for y := 20; y < 520; y += 10 {
		for x := 20; x < 940; x += 10 {
			r, g, b, _ := plate.At(x, y).RGBA()
			for k, w := range cube.Apply([3]float32{float32(r) / 65535, float32(g) / 65535, float32(b) / 65535}) {
				sum, n = sum+math.Abs(float64(w)*255-float64(out.Bytes()[3*(y*960+x)+k])), n+1
			}
		}
	}
	assert.Less(t, sum/n, 6.0, "the movie for review, with half the chroma, is")
}

func pngOf(t *testing.T, data []byte) image.Image {
	m, _, err := image.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	return m
}
