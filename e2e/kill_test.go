package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image/png"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/app/picture"
)

// TestNothingIsLostWhenKilled paints, tracks, scores, renders and brings shots in, and kills the
// server or its database at random moments in the middle of that. Every stroke that was
// acknowledged must be there, all work must come to its end, and every file must be
// whole. JARDIN_KILLS says how often; "make kills" does it 500 times.
func TestNothingIsLostWhenKilled(t *testing.T) {
	demotest.Share(t, 3)
	t.Parallel()
	rounds := 5
	if n, err := strconv.Atoi(os.Getenv("JARDIN_KILLS")); err == nil {
		rounds = n
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	rng := rand.New(rand.NewPCG(seed, 1))
	s, shot := serveWith(t, "lm_010")
	s.prepare(shot, demotest.Truth(t), 1)
	k := killing{server: s, shot: shot, saved: map[string]bool{}}
	s.post("/api/shots/"+shot+"/follow", `{"track":"w","from":1037,"first":1001,"last":1072}`, nil)
	s.wait(
		2*time.Minute,
		"a first track, so that scoring knows where the dot is",
		func() bool { return k.open()["track"] == 0 },
	)
	databases, tasks, imports := 0, 0, 0
	for round := range rounds {
		k.clearStrokes()
		ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
		var wait sync.WaitGroup
		wait.Go(func() { k.paint(ctx, round) })
		if open := k.open(); open["render"] == 0 &&
			k.ask("POST", "/api/shots/"+shot+"/render", `{"what":"clean","movies":["review"]}`) {
			tasks++
		} else if open["track"] == 0 && k.ask("POST", "/api/shots/"+shot+"/follow", `{"track":"w","from":1037,"first":1001,"last":1072}`) {
			tasks++
		} else if open["scout"] == 0 && k.ask("POST", "/api/shots/"+shot+"/scout/r", "") {
			tasks++
		}
		if round%7 == 3 {
			extra := fmt.Sprintf(
				`{"show":"kills","name":"extra %d","path":%q,"first":1001,"rate":{"num":24,"den":1},"transfer":"srgb"}`,
				round,
				filepath.Join(demotest.Footage(t), "lm_010", "plate"),
			)
			if k.ask("POST", "/api/shots", extra) {
				imports++
			}
		}
		time.Sleep(time.Duration(100+rng.IntN(1400)) * time.Millisecond)
		if rng.IntN(3) == 0 {
			databases++
			k.killDatabase()
		} else {
			s.stop(syscall.SIGKILL)
		}
		stop()
		wait.Wait()
		if s.cmd.ProcessState != nil {
			s.start()
		}
		k.check(round)
		if round%20 == 19 || round == rounds-1 {
			k.settle(round)
		}
	}
	t.Logf(
		"%d kills, %d of them of the database: %d strokes acknowledged, none lost; %d tracks, scores and renders and "+
			"%d imports came to their end, %d of them tried again when they asked for it",
		rounds,
		databases,
		k.count,
		tasks,
		imports,
		k.again,
	)
}

type killing struct {
	*server
	shot  string
	mu    sync.Mutex
	saved map[string]bool // strokes that were acknowledged, and that nobody took away since
	count int
	again int // imports that asked to be tried again
}

// ask sends something that may fail, as the server may be gone.
func (k *killing) ask(method, path, body string) bool {
	request, err := http.NewRequest(method, k.address+path, strings.NewReader(body))
	require.NoError(k.t, err)
	request.Header.Set("Content-Type", "application/json")
	response, err := (&http.Client{Timeout: 20 * time.Second}).Do(request)
	if err != nil {
		return false
	}
	defer response.Body.Close()
	_, err = io.Copy(io.Discard, response.Body)
	return err == nil && response.StatusCode < 300
}

// try reads an answer if there is one.
func (k *killing) try(path string, into any) bool {
	response, err := (&http.Client{Timeout: 20 * time.Second}).Get(k.address + path)
	if err != nil {
		return false
	}
	defer response.Body.Close()
	return response.StatusCode == http.StatusOK && json.NewDecoder(response.Body).Decode(into) == nil
}

// open counts unfinished tasks by kind.
func (k *killing) open() map[string]int {
	var all []struct{ Kind, State string }
	k.try("/api/tasks", &all)
	out := map[string]int{}
	for _, one := range all {
		if one.State == "waiting" || one.State == "running" {
			out[one.Kind]++
		}
	}
	return out
}

// paint lays strokes one after the other until the connection breaks, and notes which
// are acknowledged.
func (k *killing) paint(ctx context.Context, round int) {
	socket, _, err := websocket.Dial(
		ctx,
		strings.Replace(k.address, "http", "ws", 1)+"/api/shots/"+k.shot+"/brush",
		nil,
	)
	if err != nil {
		return
	}
	defer socket.CloseNow()
	socket.SetReadLimit(1 << 24)
	var wait sync.WaitGroup
	wait.Go(func() {
		for n := 0; ; n++ {
			begin := fmt.Sprintf(
				`{"type":"begin","removal":"r","source":{"id":"plate","name":"Clean plate","kind":"plate","plate":{"frame":1037}},"stroke":{"id":"k%d-%d","mode":"clone","home":1037,"size":20,"hardness":0.5,"opacity":1,"from":{"offset":[30,0]}},"points":[[%d,300]]}`,
				round,
				n,
				200+n%300,
			)
			for _, m := range []string{begin, `{"type":"move","points":[[300,310],[320,330]]}`, `{"type":"end"}`} {
				if socket.Write(ctx, websocket.MessageText, []byte(m)) != nil {
					return
				}
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	for {
		_, data, err := socket.Read(ctx)
		if err != nil {
			break
		}
		var m struct{ Type, Stroke string }
		if json.Unmarshal(data, &m) == nil && m.Type == "saved" {
			k.mu.Lock()
			k.saved[m.Stroke] = true
			k.count++
			k.mu.Unlock()
		}
	}
	socket.CloseNow()
	wait.Wait()
}

type painted struct {
	Number   int
	Document struct {
		Removals []struct {
			Fill struct {
				Sources []struct {
					Plate struct{ Strokes []struct{ ID string } }
				}
			}
		}
	}
}

// check looks for every stroke that was acknowledged.
func (k *killing) check(round int) {
	k.t.Helper()
	var rev painted
	k.wait(
		90*time.Second,
		"the server to answer again",
		func() bool { return k.try("/api/shots/"+k.shot+"/treatment", &rev) },
	)
	there := map[string]bool{}
	for _, s := range rev.Document.Removals[0].Fill.Sources[0].Plate.Strokes {
		there[s.ID] = true
	}
	for id := range k.saved {
		require.True(k.t, there[id], "round %d: stroke %s was acknowledged and is gone", round, id)
	}
}

// clearStrokes takes strokes away when there are many, as saving one more gets slow.
func (k *killing) clearStrokes() {
	if len(k.saved) < 200 {
		return
	}
	var rev painted
	require.True(k.t, k.try("/api/shots/"+k.shot+"/treatment", &rev))
	if k.ask(
		"PATCH",
		"/api/shots/"+k.shot+"/treatment",
		fmt.Sprintf(
			`{"revision":%d,"label":"Clear","patch":[{"op":"replace","path":"/removals/0/fill/sources/0/strokes","value":[]}]}`,
			rev.Number,
		),
	) {
		clear(k.saved)
	}
}

func (k *killing) killDatabase() {
	blob, err := os.ReadFile(filepath.Join(k.data, "postgres/postmaster.pid"))
	if err != nil {
		return // it is starting
	}
	var pid int
	fmt.Sscan(string(blob), &pid)
	_ = syscall.Kill(pid, syscall.SIGKILL)
}

// settle waits until all work has come to its end, and looks at what it made.
func (k *killing) settle(round int) {
	k.t.Helper()
	var tasks []struct{ ID, Kind, State, Problem, ShotID string }
	k.wait(4*time.Minute, "all work to come to its end", func() bool {
		if !k.try("/api/tasks", &tasks) {
			return false
		}
		for _, one := range tasks {
			if one.State == "waiting" || one.State == "running" {
				return false
			}
			// Killed three times before it had one frame more, it asks to be tried again.
			if one.Kind == "import" && one.State == "failed" && strings.Contains(one.Problem, "broke down 3 times") {
				require.True(k.t, k.ask("POST", "/api/tasks/"+one.ID+"/continue", ""))
				k.again++
				return false
			}
		}
		return true
	})
	for _, one := range tasks {
		require.Equal(k.t, "done", one.State, "round %d: %s: %s", round, one.Kind, one.Problem)
		switch one.Kind {
		case "render":
			var usage struct{ Disk []struct{ ID string } }
			require.True(k.t, k.try("/api/usage", &usage))
			for _, d := range usage.Disk {
				if d.ID == one.ID {
					k.whole(one.ID)
					require.True(k.t, k.ask("DELETE", "/api/usage/render?id="+one.ID, ""))
				}
			}
		case "import":
			var shot struct{ State, Name string }
			if one.ShotID == k.shot || !k.try("/api/shots/"+one.ShotID, &shot) {
				continue
			}
			require.Equal(k.t, "ready", shot.State)
			for _, n := range []int{1001, 1036, 1072} {
				own, other := k.fetch(
					fmt.Sprintf("/api/shots/%s/frames/%d/exact", one.ShotID, n),
				), k.fetch(
					fmt.Sprintf("/api/shots/%s/frames/%d/exact", k.shot, n),
				)
				assert.True(k.t, bytes.Equal(own, other), "frame %d of %s", n, shot.Name)
			}
			require.True(k.t, k.ask("DELETE", "/api/shots/"+one.ShotID, ""))
		}
	}
	left, _ := filepath.Glob(filepath.Join(k.data, "renders", "*", "*", "*.part"))
	assert.Empty(k.t, left)
}

// whole checks every file of a render.
func (k *killing) whole(id string) {
	k.t.Helper()
	files := k.unzipped("/api/renders/" + id + "/frames")
	require.Len(k.t, files, 72+2)
	for name, data := range files {
		if name != picture.SumsFile {
			require.Contains(k.t, string(files[picture.SumsFile]), fmt.Sprintf("%016x  %s\n", xxhash.Sum64(data), name))
		}
		if filepath.Ext(name) == ".png" {
			_, err := png.Decode(bytes.NewReader(data))
			require.NoError(k.t, err, name)
		}
	}
	require.Equal(k.t, 72, movieFrames(k.t, k.fetch("/api/renders/"+id+"/movie")))
}
