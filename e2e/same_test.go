package e2e

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/geom"
	"jardin/core/render"
	"jardin/core/treatment"
)

// everySource is a treatment in which one result rests on many others: a neighbour that lies
// on the matte with strokes on it, its light, softness and grain settled, under a removal of
// two sources with a seam, on a track that was followed.
func everySource(t *testing.T) *treatment.Document {
	known := demotest.Truth(t)
	doc := dotRemovals(known, 2)
	stroke := func(id, mode string, d geom.Point) treatment.Stroke {
		return treatment.Stroke{ID: id, Mode: mode, Home: known.Reference, Size: 30, Hardness: 0.7, Opacity: 1,
			From: &treatment.From{
				Offset: treatment.Vec{46, 6},
			}, Path: &treatment.Path{Points: [][]float64{{d.X - 9, d.Y - 4, 1}, {d.X + 9, d.Y + 5, 1}}}}
	}
	neighbour := func(d geom.Point) treatment.Source {
		return treatment.Source{
			ID:   "n",
			Name: "Neighbour",
			Kind: treatment.Beside,
			Neighbour: &treatment.Neighbour{
				Frame:   known.Reference,
				Offsets: []treatment.OffsetKey{{Frame: known.Reference, Ease: "eased", Offset: treatment.Vec{46, 6}}},
			},
		}
	}
	for i := range doc.Removals {
		d := known.Dots[i].Point()
		r := &doc.Removals[i]
		r.Settle.Seam = float64(6 * i)
		r.Settle.Light = &treatment.Light{Scale: 30, Strength: 1, Over: 2}
		r.Settle.Softness = &treatment.Softness{Match: true, Over: 1, Shutter: 180}
		r.Fill.Sources = []treatment.Source{
			neighbour(d),
			{
				ID:   "plate",
				Name: "Clean plate",
				Kind: treatment.HeldPlate,
				Plate: &treatment.Plate{
					Frame:   known.Reference,
					Strokes: []treatment.Stroke{stroke("a", "clone", d), stroke("b", "heal", d.Add(geom.Pt(4, 3)))},
				},
			},
		}
	}
	return doc
}

// The same revision gives the same bytes: from the server and from the command, after any order
// of looking at its views, of pausing, cancelling and clearing, and after being killed.
// JARDIN_ORDERS says how many orders are tried.
func TestTheSameBytesInAnyOrder(t *testing.T) {
	demotest.Share(t, 4)
	t.Parallel()
	rounds := 2
	if n, err := strconv.Atoi(os.Getenv("JARDIN_ORDERS")); err == nil {
		rounds = n
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	rng := rand.New(rand.NewPCG(seed, 12))
	s, shot := serveWith(t, "lm_010")
	s.put(shot, everySource(t))
	s.follow(shot, "w", demotest.Truth(t).Reference)
	var rev struct{ Number int }
	s.get("/api/shots/"+shot+"/treatment", &rev)

	// What the command makes of the treatment, which brings its tracks along.
	dir := t.TempDir()
	file, out := filepath.Join(dir, "treatment.json"), filepath.Join(dir, "out")
	response, err := http.Get(s.address + "/api/shots/" + shot + "/treatment/export")
	require.NoError(t, err)
	blob, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	response.Body.Close()
	require.NoError(t, os.WriteFile(file, blob, 0o600))
	program, err := filepath.Abs("../bin/jardin")
	require.NoError(t, err)
	words, err := exec.Command(program, "render", "--plate", filepath.Join(demotest.Footage(t), "lm_010", "plate"),
		"--treatment", file, "--out", out,
		"--transfer", "srgb", "--first", "1001", "--format", "png", "--depth", "16", "--name", "{frame}").
		CombinedOutput()
	require.NoError(t, err, "%s", words)
	want := map[int][32]byte{}
	for n := 1001; n <= 1072; n++ {
		data, err := os.ReadFile(filepath.Join(out, fmt.Sprintf("%04d.png", n)))
		require.NoError(t, err)
		want[n] = sha256.Sum256(data)
	}

	look := func(limit time.Duration) {
		ctx, stop := context.WithTimeout(context.Background(), limit)
		defer stop()
		view := render.Views[rng.IntN(len(render.Views))]
		request, err := http.NewRequestWithContext(
			ctx,
			"GET",
			fmt.Sprintf(
				"%s/api/shots/%s/frames/%d/overlay?revision=%d&view=%s&removal=r%d",
				s.address,
				shot,
				1001+rng.IntN(72),
				rev.Number,
				view,
				rng.IntN(2),
			),
			nil,
		)
		require.NoError(t, err)
		if response, err := http.DefaultClient.Do(request); err == nil {
			_, _ = io.Copy(io.Discard, response.Body)
			response.Body.Close()
			require.Less(t, response.StatusCode, 300, view)
		}
	}
	deliver := func(first, last int) (id string) {
		var task struct{ ID string }
		s.post(
			"/api/shots/"+shot+"/render",
			fmt.Sprintf(
				`{"what":"clean","target":{"format":"png","depth":16},"template":"{frame}","range":{"first":%d,"last":%d}}`,
				first,
				last,
			),
			&task,
		)
		return task.ID
	}
	state := func(id string) string {
		var tasks []struct{ ID, State, Problem string }
		s.get("/api/tasks", &tasks)
		for _, task := range tasks {
			if task.ID == id {
				require.NotEqual(t, "failed", task.State, task.Problem)
				return task.State
			}
		}
		return ""
	}
	frames := 0
	for range rounds {
		done := ""
		for range 3 + rng.IntN(5) {
			switch k := rng.IntN(7); k {
			case 0, 1:
				done += " look"
				look(time.Minute)
			case 2:
				done += " leave"
				look(time.Duration(1+rng.IntN(60)) * time.Millisecond)
			case 3:
				what := []string{"memory", "paint"}[rng.IntN(2)]
				done += " clear " + what
				s.send(http.MethodDelete, "/api/usage/"+what, "", nil)
			case 4:
				done += " cancel"
				id := deliver(1001, 1072)
				time.Sleep(time.Duration(rng.IntN(1500)) * time.Millisecond)
				s.post("/api/tasks/"+id+"/cancel", "", nil)
			case 5:
				done += " kill"
				s.kill()
				s.again()
			case 6:
				done += " restart"
				s.stop(os.Interrupt)
				s.again()
			}
		}
		first := 1001 + rng.IntN(66)
		id := deliver(first, first+5)
		if rng.IntN(2) == 0 {
			done += " pause"
			time.Sleep(time.Duration(rng.IntN(600)) * time.Millisecond)
			if state(id) != "done" {
				s.post("/api/tasks/"+id+"/pause", "", nil)
				look(time.Minute)
				s.post("/api/tasks/"+id+"/continue", "", nil)
			}
		}
		s.wait(2*time.Minute, "the delivery", func() bool { return state(id) == "done" })
		for n := first; n <= first+5; n++ {
			files, err := filepath.Glob(filepath.Join(s.data, "renders", id, "frames", fmt.Sprintf("*%d.png", n)))
			require.NoError(t, err)
			require.Len(t, files, 1)
			data, err := os.ReadFile(files[0])
			require.NoError(t, err)
			require.Equal(t, want[n], sha256.Sum256(data), "frame %d, after%s", n, done)
			frames++
		}
	}
	t.Logf("%d orders, %d frames compared with the command's", rounds, frames)
}
