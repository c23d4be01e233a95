package attack

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jardin/app/media"
)

// TestLargeFrames works on many frames of 3840 x 2160 at 16 bits in a server that was given 1024 MB: they are brought in, a plane is
// followed, its light, softness and grain measured, the result played and rendered. The operating system says how large the server
// ever was. JARDIN_FRAMES says how many frames; their files are sixteen, linked.
func TestLargeFrames(t *testing.T) {
	frames, err := strconv.Atoi(os.Getenv("JARDIN_FRAMES"))
	if err != nil {
		t.Skip("this is a bench of many gigabytes; JARDIN_FRAMES=200 go test ./attack -run TestLargeFrames -v -timeout 2h")
	}
	const given = 1024
	g := attacked(t, "--memory", strconv.Itoa(given))
	dir := filepath.Join(g.media, "large")
	require.NoError(t, os.Mkdir(dir, 0o755))
	rng := rand.New(rand.NewPCG(4, 8))
	const w, h, around = 3840, 2160, 128
	texture := make([]uint16, (w+around)*(h+around))
	for y := range h + around {
		for x := range w + around {
			texture[y*(w+around)+x] = uint16(20000 + 6000*((x/37+y/29)%3) + 3000*((x/11^y/13)%5) + rng.IntN(1500))
		}
	}
	target := media.Target{Format: "dpx", Depth: 16}
	for n := range frames {
		path := filepath.Join(dir, fmt.Sprintf("l.%04d.dpx", n+1))
		if n >= 16 { // there and back, so that they go on
			k := n % 30
			require.NoError(t, os.Link(filepath.Join(dir, fmt.Sprintf("l.%04d.dpx", min(k, 30-k)+1)), path))
			continue
		}
		f := media.NewFrame(w, h, target.Samples())
		for y := range h {
			for x := range w {
				v := texture[(y+2*n)*(w+around)+x+3*n] + uint16(rng.IntN(300))
				i := 3 * (y*w + x)
				f.Codes[i], f.Codes[i+1], f.Codes[i+2] = v, v/2, v/3*2
			}
		}
		require.NoError(t, target.Write(path, f, media.Shot{}))
	}
	said := func(what string, began time.Time) {
		t.Logf("%-32s %6.1f frames/s, largest so far %4d MB", what, float64(frames)/time.Since(began).Seconds(), g.measure())
	}
	patiently := func(what string, done func() bool) {
		require.Eventually(g, done, 90*time.Minute, 200*time.Millisecond, what)
	}
	all := func() (tasks []struct{ Kind, State, Problem, ID string }) {
		_, answer := g.ask("GET", "/api/tasks", "")
		require.NoError(t, json.Unmarshal([]byte(answer), &tasks), answer)
		return tasks
	}
	finish := func(what string) {
		patiently(what, func() bool {
			for _, task := range all() {
				if task.State == "failed" {
					t.Fatalf("%s: %s", task.Kind, task.Problem)
				}
				if task.State == "waiting" || task.State == "running" {
					return false
				}
			}
			return true
		})
	}

	began := time.Now()
	status, answer := g.ask("POST", "/api/shots", fmt.Sprintf(`{"show":"s","name":"large","path":%q,"first":1,"rate":{"num":24,"den":1},"transfer":"srgb"}`, dir))
	require.Equal(t, 201, status, answer)
	var shot struct{ ID string }
	require.NoError(t, json.Unmarshal([]byte(answer), &shot))
	finish("bring in")
	said("brought in", began)
	at := "/api/shots/" + shot.ID

	edited := func(revision int, patch string) {
		status, answer := g.ask("PATCH", at+"/treatment", edit(revision, patch))
		require.Equal(t, 200, status, answer)
	}
	box := func(x, y, w, h int) string {
		return fmt.Sprintf(`[{"at":[%d,%d]},{"at":[%d,%d]},{"at":[%d,%d]},{"at":[%d,%d]}]`, x, y, x+w, y, x+w, y+h, x, y+h)
	}
	edited(0, `{"op":"add","path":"/tracks/-","value":{"id":"t","name":"T","kind":"plane","motion":"perspective","home":8,"region":[[1200,600],[2400,600],[2400,1400],[1200,1400]]}}`)
	edited(1, fmt.Sprintf(`{"op":"add","path":"/removals/-","value":{"id":"r","name":"R","range":{"first":1,"last":%d},"reference":8,
		"mark":{"outlines":[{"id":"o","name":"O","kind":"outline","home":8,"feather":4,"points":%s}]},"follow":{"track":"t"},
		"fill":{"sources":[{"id":"p","name":"P","kind":"plate","plate":{"frame":8,"strokes":[{"id":"s","mode":"clone","home":8,"size":1,"hardness":1,"opacity":1,
		"from":{"offset":[700,40]},"area":{"points":%s,"feather":6}}]}}]},"settle":{"opacity":1}}}`, frames, box(1500, 800, 600, 600), box(1480, 780, 640, 640)))
	began = time.Now()
	status, answer = g.ask("POST", at+"/follow", fmt.Sprintf(`{"track":"t","from":8,"first":1,"last":%d}`, frames))
	require.Less(t, status, 300, answer)
	finish("follow")
	said("followed, 1200 x 800", began)

	began = time.Now()
	status, answer = g.ask("POST", at+"/settle/r", "")
	require.Less(t, status, 300, answer)
	finish("settle")
	said("measured", began)

	began = time.Now()
	var group sync.WaitGroup
	for k := range 4 {
		group.Go(func() {
			for n := 1 + k; n <= min(frames, 96); n += 4 {
				for _, what := range []string{"screen", "overlay?revision=2&view=result&removal=r"} {
					if status, answer := g.ask("GET", fmt.Sprintf("%s/frames/%d/%s", at, n, what), ""); status != 200 {
						t.Errorf("frame %d, %s: %d %.200s", n, what, status, answer)
					}
				}
			}
		})
	}
	group.Wait()
	t.Logf("%d frames looked at, four at once: %.1f frames/s, largest so far %d MB", min(frames, 96), float64(min(frames, 96))/time.Since(began).Seconds(), g.measure())

	began = time.Now()
	status, answer = g.ask("POST", at+"/render", "")
	require.Less(t, status, 300, answer)
	finish("render")
	said("rendered, 600 x 600", began)
	require.LessOrEqual(t, g.measure(), given*105/100)
}
