package app_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app"
	"jardin/app/api"
	"jardin/app/media"
	"jardin/app/store"
	"jardin/app/store/storetest"
	"jardin/core/geom"
	"jardin/core/treatment"
	"jardin/core/warp"
)

// house is a server on an empty database, with a small shot to bring in.
type house struct {
	*testing.T
	set     app.Settings
	service *app.Service
}

func open(t *testing.T) *house {
	h := &house{
		T: t,
		set: app.Settings{
			Data:     t.TempDir(),
			Database: storetest.URL(t),
			Listen:   "127.0.0.1:0",
			Media:    []string{t.TempDir()},
			Memory:   64,
		},
	}
	for n := 1; n <= 24; n++ {
		f := media.NewFrame(96, 64, media.Samples{Depth: 16})
		for i := range 96 * 64 {
			x, y := float64(i%96+2*n), float64(i/96+n)
			v := 0.5 + 0.2*math.Sin(x/3.1+math.Sin(y/5))*math.Cos(y/4.3) + 0.15*math.Sin(x*y/90)
			for c := range 3 {
				f.Codes[3*i+c] = uint16(60000 * v)
			}
		}
		require.NoError(
			t,
			(media.Target{Format: "png", Depth: 16}).Write(
				filepath.Join(h.set.Media[0], fmt.Sprintf("w.%03d.png", n)),
				f,
				media.Shot{},
			),
		)
	}
	h.start()
	t.Cleanup(func() { h.service.Stop(context.Background()) })
	return h
}

func (h *house) start() {
	var err error
	h.service, err = app.Start(context.Background(), h.set)
	require.NoError(h, err)
}

// ask sends a request and decodes the answer, which must have the status.
func (h *house) ask(method, path, body string, status int, into any) *http.Response {
	h.Helper()
	request, err := http.NewRequest(method, h.service.Address+path, strings.NewReader(body))
	require.NoError(h, err)
	request.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(request)
	require.NoError(h, err)
	defer response.Body.Close()
	data, err := io.ReadAll(response.Body)
	require.NoError(h, err)
	require.Equal(h, status, response.StatusCode, "%s %s: %s", method, path, data)
	if status >= 400 {
		assert.Equal(h, "application/problem+json", response.Header.Get("Content-Type"), "errors are problem documents")
	}
	if into != nil {
		require.NoError(h, json.Unmarshal(data, into), string(data))
	}
	return response
}

func (h *house) bringIn(name string) store.Shot {
	h.Helper()
	var shot store.Shot
	h.ask(
		"POST",
		"/api/shots",
		fmt.Sprintf(
			`{"show":"s","name":%q,"path":%q,"first":101,"rate":{"num":24,"den":1},"transfer":"srgb"}`,
			name,
			h.set.Media[0],
		),
		201,
		&shot,
	)
	h.until("the shot is in", func() bool {
		h.ask("GET", "/api/shots/"+shot.ID, "", 200, &shot)
		return shot.State == "ready"
	})
	return shot
}

func (h *house) until(what string, done func() bool) {
	h.Helper()
	require.Eventually(h, done, 30*time.Second, 20*time.Millisecond, what)
}

func edit(revision int, patch string) string {
	return fmt.Sprintf(`{"revision":%d,"label":"Edit","patch":%s}`, revision, patch)
}

const newRemoval = `[{"op":"add","path":"/tracks/-","value":{"id":"w","name":"wall","kind":"plane","home":112,"motion":"position",
	"region":[[20,10],[76,10],[76,54],[20,54]]}},{"op":"add","path":"/removals/-","value":{"id":"r","name":"r","range":{"first":101,"last":124},"reference":112,
	"mark":{"outlines":[{"id":"o","name":"o","kind":"outline","home":112,"points":[{"at":[40,20]},{"at":[56,20]},{"at":[56,36]},{"at":[40,36]}]}]},
	"follow":{"track":"w"},"fill":{"sources":[]},"settle":{"opacity":1}}}]`

type revision struct {
	Number   int
	Document struct {
		Tracks   []struct{ Data *struct{ Artifact string } }
		Removals []struct {
			Fill struct {
				Sources []struct{ Plate struct{ Strokes []any } }
			}
		}
	}
}

func TestAShotFromPlateToCleanFrames(t *testing.T) {
	h := open(t)
	shot := h.bringIn("w")
	assert.Equal(t, 124, shot.Last)
	assert.Equal(t, 16, shot.Depth)
	at := "/api/shots/" + shot.ID

	var rev revision
	h.ask("PATCH", at+"/treatment", edit(0, newRemoval), 200, &rev)
	var stale struct {
		Detail   string
		Revision revision
	}
	h.ask("PATCH", at+"/treatment", edit(0, newRemoval), 409, &stale)
	assert.Equal(t, rev.Number, stale.Revision.Number, "a refused edit comes with the newer state")
	h.ask(
		"PATCH",
		at+"/treatment",
		edit(rev.Number, `[{"op":"replace","path":"/removals/0/reference","value":9}]`),
		422,
		nil,
	)

	// Follow: samples come as they are found; the track lands in the treatment.
	samples, done := 0, make(chan bool)
	events, err := http.Get(h.service.Address + "/api/events?shot=" + strings.TrimPrefix(at, "/api/shots/"))
	require.NoError(t, err)
	defer events.Body.Close()
	lines := bufio.NewScanner(events.Body)
	require.True(t, lines.Scan())
	go func() {
		defer close(done)
		kind := ""
		for lines.Scan() {
			if name, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
				kind = name
				if kind == "followed" {
					samples++
				}
			}
			// Bringing the shot in may say only now that it is done.
			if kind == "task" && strings.Contains(lines.Text(), `"kind":"track"`) && strings.Contains(lines.Text(), `"state":"done"`) {
				return
			}
		}
	}()
	h.ask("POST", at+"/follow", `{"track":"w","from":112,"first":101,"last":124}`, 202, nil)
	<-done
	assert.GreaterOrEqual(t, samples, 24, "every frame of the track is told")
	h.ask("GET", at+"/treatment", "", 200, &rev)
	require.NotNil(t, rev.Document.Tracks[0].Data)
	var track struct {
		Samples []struct {
			Frame int
			Mesh  warp.Mesh
			Grade string
		}
	}
	h.ask("GET", fmt.Sprintf("%s/tracks/w?revision=%d", at, rev.Number), "", 200, &track)
	require.Len(t, track.Samples, 24)
	for _, s := range track.Samples {
		assert.Equal(t, "good", s.Grade)
		toFrame, err := s.Mesh.Mapping()
		require.NoError(t, err)
		origin := toFrame.Apply(geom.Point{})
		assert.InDelta(t, -2*(s.Frame-112), origin.X, 0.05, "frame %d", s.Frame)
		assert.InDelta(t, -(s.Frame - 112), origin.Y, 0.05)
	}

	// Paint over the channel, then look at a frame.
	h.paint(shot.ID, "one")
	h.ask("GET", at+"/treatment", "", 200, &rev)
	require.Len(t, rev.Document.Removals[0].Fill.Sources[0].Plate.Strokes, 1)
	var keys struct {
		First int
		Keys  []string
	}
	h.ask("GET", fmt.Sprintf("%s/keys?revision=%d&view=result", at, rev.Number), "", 200, &keys)
	assert.Equal(t, 101, keys.First)
	assert.Len(t, keys.Keys, 24)
	overlay := fmt.Sprintf("%s/frames/115/overlay?revision=%d", at, rev.Number)
	answer := h.ask("GET", overlay, "", 200, nil)
	assert.Equal(
		t,
		`"`+keys.Keys[14]+`"`,
		answer.Header.Get("ETag"),
		"the answer carries the hash of what it was made from",
	)
	request, err := http.NewRequest("GET", h.service.Address+overlay, nil)
	require.NoError(t, err)
	request.Header.Set("If-None-Match", answer.Header.Get("ETag"))
	again, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	assert.Equal(t, http.StatusNotModified, again.StatusCode)

	// It is called otherwise, and nothing that cannot be a name is taken for one.
	for _, bad := range []string{`{"show":" ","name":"x"}`, `{"show":"s","name":".."}`, `{"show":"s","name":" - "}`, `{"show":"s","name":"a/b"}`,
		`{"show":"a\u0000b","name":"x"}`, `{"name":"x"}`, `{"show":"s","name":"` + strings.Repeat("n", 101) + `"}`} {
		h.ask("PATCH", at, bad, 422, nil)
	}
	h.ask("PATCH", "/api/shots/nobody", `{"show":"s","name":"x"}`, 404, nil)
	var renamed store.Shot
	h.ask("PATCH", at, `{"show":"Another","name":"w 2"}`, 200, &renamed)
	assert.Equal(t, "Another w 2", renamed.Show+" "+renamed.Name)
	h.ask("PATCH", at, `{"show":"`+shot.Show+`","name":"`+shot.Name+`"}`, 200, &renamed)
	// How its files would be called is told before, as often as one asks; it is what they are called then.
	var called api.Named
	for range 2 {
		h.ask("POST", at+"/render/name", "", 200, &called)
	}
	var wrong struct{ Detail string }
	h.ask("POST", at+"/render/name", `{"what":"clean","template":"all"}`, 422, &wrong)
	assert.Contains(t, wrong.Detail, "{frame}")
	var task store.Task
	h.ask("POST", at+"/render", "", 202, &task)
	h.until("the render is done", func() bool {
		var tasks []store.Task
		h.ask("GET", "/api/tasks?shot="+shot.ID, "", 200, &tasks)
		require.NotEqual(t, "failed", tasks[0].State, tasks[0].Problem)
		task = tasks[0]
		return task.State == "done"
	})
	name, folder, said := strings.Cut(task.Found, " and on, in ")
	require.True(t, said, task.Found)
	assert.FileExists(t, filepath.Join(folder, name), "it says where the frames lie")
	assert.Equal(t, called.First, name)
	assert.Equal(t, 24, called.Files)
	h.ask("GET", "/api/renders/"+task.ID+"/movie", "", 200, nil)
	h.ask("GET", "/api/renders/"+task.ID+"/frames", "", 200, nil)

	var exported bytes.Buffer
	response, err := http.Get(h.service.Address + at + "/treatment/export")
	require.NoError(t, err)
	_, err = exported.ReadFrom(response.Body)
	require.NoError(t, err)
	assert.NotContains(t, exported.String(), "artifact", "an exported treatment stands by itself")
	h.ask("DELETE", at, "", 204, nil)
	h.ask("GET", at, "", 404, nil)
}

// paint lays one stroke over the brush channel and waits until it is saved.
func (h *house) paint(shot, id string) {
	h.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	socket, _, err := websocket.Dial(
		ctx,
		strings.Replace(h.service.Address, "http", "ws", 1)+"/api/shots/"+shot+"/brush",
		nil,
	)
	require.NoError(h, err)
	defer socket.CloseNow()
	socket.SetReadLimit(1 << 24)
	for _, message := range []string{
		`{"type":"begin","removal":"r","source":{"id":"plate","name":"Clean plate","kind":"plate","plate":{"frame":112}},"stroke":{"id":"` + id + `","mode":"clone","home":112,"size":24,"hardness":0.5,"opacity":1,"from":{"offset":[-20,0]},"pen":["size"]},"points":[[48,28]]}`,
		`{"type":"move","points":[[50,28,0.5],[52,30,1]]}`,
		`{"type":"end"}`,
	} {
		require.NoError(h, socket.Write(ctx, websocket.MessageText, []byte(message)))
	}
	pixels := 0
	for {
		kind, data, err := socket.Read(ctx)
		require.NoError(h, err)
		if kind == websocket.MessageBinary {
			pixels += len(data) - 16
			continue
		}
		require.Contains(h, string(data), `"type":"saved"`)
		break
	}
	assert.Greater(h, pixels, 24*24*4/2, "the painted pixels came back")
}

func TestBrushRefusesAndGoesOn(t *testing.T) {
	h := open(t)
	shot := h.bringIn("w")
	h.ask("PATCH", "/api/shots/"+shot.ID+"/treatment", edit(0, newRemoval), 200, nil)
	ctx := context.Background()
	socket, _, err := websocket.Dial(
		ctx,
		strings.Replace(h.service.Address, "http", "ws", 1)+"/api/shots/"+shot.ID+"/brush",
		nil,
	)
	require.NoError(t, err)
	defer socket.CloseNow()
	for bad, says := range map[string]string{
		`{"type":"begin","removal":"gone","source":{"id":"plate","name":"Clean plate","kind":"plate","plate":{"frame":112}},"stroke":{"id":"x","mode":"clone","home":112,"size":24,"hardness":0.5,"opacity":1,"from":{"offset":[0,0]}},"points":[[1,1]]}`:                                                "deleted",
		`{"type":"begin","removal":"r","source":{"id":"plate","name":"Clean plate","kind":"plate","plate":{"frame":112}},"stroke":{"id":"x","mode":"scrape","home":112,"size":24,"hardness":0.5,"opacity":1,"from":{"offset":[0,0]}},"points":[[1,1]]}`:                                                  "mode",
		`{"type":"begin","removal":"r","source":{"id":"plate","name":"Clean plate","kind":"plate","plate":{"frame":112}},"stroke":{"id":"x","mode":"clone","home":112,"size":24,"hardness":0.5,"opacity":1,"from":{"offset":[0,0]}},"points":[[1,1,1,1]]}`:                                               "numbers",
		`{"type":"begin","removal":"r","source":{"id":"q","name":"q","kind":"plate"},"stroke":{"id":"x","mode":"clone","home":112,"size":24,"hardness":0.5,"opacity":1,"from":{"offset":[0,0]}},"points":[[1,1]]}`:                                                                                       "cannot be painted on",
		`{"type":"begin","removal":"r","source":{"id":"q","name":"q","kind":"plate","frame":112},"stroke":{"id":"x","mode":"clone","home":112,"size":24,"hardness":0.5,"opacity":1,"from":{"offset":[0,0]}},"points":[[1,1]]}`:                                                                           "cannot be painted on",
		`{"type":"begin","removal":"r","source":{"id":"q","name":"q","kind":"plate","paint":{}},"stroke":{"id":"x","mode":"clone","home":112,"size":24,"hardness":0.5,"opacity":1,"from":{"offset":[0,0]}},"points":[[1,1]]}`:                                                                            "cannot be painted on",
		`{"type":"begin","removal":"r","source":{"id":"q","name":"q","kind":"neighbour","neighbour":{"frame":112,"offsets":[{"frame":112,"ease":"eased","offset":[1,1]}]}},"stroke":{"id":"x","mode":"clone","home":112,"size":24,"hardness":0.5,"opacity":1,"from":{"offset":[0,0]}},"points":[[1,1]]}`: "cannot be painted on",
		`{"type":"begin","removal":"r","source":{"id":"q","name":"q","kind":"layer","plate":{"frame":112}},"stroke":{"id":"x","mode":"clone","home":112,"size":24,"hardness":0.5,"opacity":1,"from":{"offset":[0,0]}},"points":[[1,1]]}`:                                                                 "cannot be painted on",
	} {
		require.NoError(t, socket.Write(ctx, websocket.MessageText, []byte(bad)))
		_, data, err := socket.Read(ctx)
		require.NoError(t, err)
		assert.Contains(t, string(data), `"type":"refused","stroke":"x"`)
		assert.Contains(t, string(data), says)
	}
	// The same stroke sent twice, as after a broken connection, is kept once.
	h.paint(shot.ID, "same")
	h.paint(shot.ID, "same")
	var rev revision
	h.ask("GET", "/api/shots/"+shot.ID+"/treatment", "", 200, &rev)
	assert.Len(t, rev.Document.Removals[0].Fill.Sources[0].Plate.Strokes, 1)
}

func TestCancelKeepsWhatWasFollowed(t *testing.T) {
	h := open(t)
	shot := h.bringIn("w")
	at := "/api/shots/" + shot.ID
	h.ask("PATCH", at+"/treatment", edit(0, newRemoval), 200, nil)
	var task store.Task
	h.ask("POST", at+"/follow", `{"track":"w","from":112,"first":101,"last":124}`, 202, &task)
	h.until("some frames are found", func() bool {
		var tasks []store.Task
		h.ask("GET", "/api/tasks?shot="+shot.ID, "", 200, &tasks)
		return tasks[0].State != "waiting"
	})
	h.ask("POST", "/api/tasks/"+task.ID+"/cancel", "", 200, nil)
	h.until("it ends", func() bool {
		var tasks []store.Task
		h.ask("GET", "/api/tasks?shot="+shot.ID, "", 200, &tasks)
		return tasks[0].State == "cancelled" || tasks[0].State == "done"
	})
}

func TestWorkGoesOnAfterARestart(t *testing.T) {
	h := open(t)
	shot := h.bringIn("w")
	h.ask("PATCH", "/api/shots/"+shot.ID+"/treatment", edit(0, newRemoval), 200, nil)
	var task store.Task
	h.ask("POST", "/api/shots/"+shot.ID+"/render", "", 202, &task)
	require.NoError(t, h.service.Stop(context.Background()))
	h.start()
	h.until("the render is done after all", func() bool {
		var tasks []store.Task
		h.ask("GET", "/api/tasks?shot="+shot.ID, "", 200, &tasks)
		require.NotEqual(t, "failed", tasks[0].State, tasks[0].Problem)
		return tasks[0].State == "done"
	})
}

func TestProblemsSayWhatToDo(t *testing.T) {
	h := open(t)
	var p struct{ Detail string }
	h.ask("GET", "/api/material?path=/etc", "", 422, &p)
	assert.Contains(t, p.Detail, "--media")
	h.ask("GET", "/api/material?path="+h.set.Media[0]+"/../..", "", 422, &p)
	h.ask("GET", "/api/shots/none/treatment", "", 404, nil)
	h.ask("GET", "/api/shots/none/frames/1/screen", "", 404, nil)
	h.ask(
		"POST",
		"/api/shots",
		`{"show":"","name":"a/b","path":"x","first":-1,"rate":{"num":0,"den":0},"transfer":"odd"}`,
		422,
		nil,
	)
	shot := h.bringIn("w")
	h.ask("GET", "/api/shots/"+shot.ID+"/frames/500/screen", "", 404, &p)
	assert.Contains(t, p.Detail, "101 to 124")
	h.ask("POST", "/api/shots/"+shot.ID+"/follow", `{"track":"none","from":112,"first":101,"last":124}`, 404, nil)
	h.ask(
		"POST",
		"/api/shots",
		fmt.Sprintf(
			`{"show":"s","name":"w","path":%q,"first":1,"rate":{"num":24,"den":1},"transfer":"srgb"}`,
			h.set.Media[0],
		),
		409,
		&p,
	)
	assert.Contains(t, p.Detail, "another name")
}

// Tracks, outlines and scores over HTTP: what goes out comes back in.
func TestTracksAndOutlinesGoOutAndComeBack(t *testing.T) {
	h := open(t)
	shot := h.bringIn("w")
	at := "/api/shots/" + shot.ID
	h.ask("PATCH", at+"/treatment", edit(0, newRemoval), 200, nil)
	finish := func(path, body string) {
		var task store.Task
		h.ask("POST", path, body, 202, &task)
		h.until("it is done", func() bool {
			var tasks []store.Task
			h.ask("GET", "/api/tasks?shot="+shot.ID, "", 200, &tasks)
			require.NotEqual(t, "failed", tasks[0].State, tasks[0].Problem)
			return tasks[0].ID == task.ID && tasks[0].State == "done"
		})
	}
	finish(at+"/follow", `{"track":"w","from":112,"first":101,"last":124}`)
	fetch := func(path string) []byte {
		response, err := http.Get(h.service.Address + path)
		require.NoError(t, err)
		defer response.Body.Close()
		data, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		require.Equal(t, 200, response.StatusCode, string(data))
		assert.Contains(t, response.Header.Get("Content-Disposition"), "attachment")
		return data
	}
	table := fetch(at + "/tracks/w/file?as=matrices")
	assert.Equal(t, 25, bytes.Count(table, []byte("\n")), "a line of names and 24 frames")
	assert.Equal(t, "\x76\x2f\x31\x01", string(fetch(at + "/tracks/w/file?as=st&from=112&to=120")[:4]), "OpenEXR")
	h.ask("GET", at+"/tracks/w/file?as=points", "", 422, nil)
	h.ask("GET", at+"/tracks/w/file?as=st&from=112&to=999", "", 422, nil)

	var back struct {
		Number   int
		Document treatment.Document
	}
	h.ask("POST", at+"/tracks/file?home=112&name=copy.csv", string(table), 200, &back)
	require.Len(t, back.Document.Tracks, 2)
	assert.Equal(t, "copy", back.Document.Tracks[1].Name)
	type places struct{ Samples []struct{ Mesh warp.Mesh } }
	var one, two places
	h.ask("GET", fmt.Sprintf("%s/tracks/w?revision=%d", at, back.Number), "", 200, &one)
	h.ask("GET", fmt.Sprintf("%s/tracks/%s?revision=%d", at, back.Document.Tracks[1].ID, back.Number), "", 200, &two)
	require.Len(t, two.Samples, len(one.Samples))
	for i := range one.Samples {
		a, err := one.Samples[i].Mesh.Mapping()
		require.NoError(t, err)
		b, err := two.Samples[i].Mesh.Mapping()
		require.NoError(t, err)
		for _, p := range []geom.Point{{X: 3, Y: 5}, {X: 80, Y: 11}, {X: 42, Y: 60}} {
			assert.InDelta(t, 0, a.Apply(p).Dist(b.Apply(p)), 1e-6)
		}
	}
	var p struct{ Detail string }
	h.ask("POST", at+"/tracks/file?home=112&name=x.csv", "frame,x\n1,2\n", 422, &p)
	assert.Contains(t, p.Detail, "columns frame,x are not known")
	h.ask(
		"POST",
		at+"/follow",
		fmt.Sprintf(`{"track":%q,"from":112,"first":101,"last":124}`, back.Document.Tracks[1].ID),
		422,
		&p,
	)
	assert.Contains(t, p.Detail, "brought in from elsewhere")
	h.ask("POST", at+"/follow", `{"track":"w","from":112,"first":112,"last":112}`, 422, &p)

	// An archive of ST maps is read frame by frame and says how far it is, to who wants to know; what is wrong comes as its last line.
	archive := fetch(at + "/tracks/w/file?as=warps")
	lines := func(body []byte) (all []map[string]any) {
		request, err := http.NewRequest("POST", h.service.Address+at+"/tracks/file?home=112&name=maps.zip", bytes.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("Accept", "application/x-ndjson")
		request.Header.Set("Content-Type", "application/octet-stream")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		require.Equal(t, 200, response.StatusCode)
		for from := json.NewDecoder(response.Body); ; {
			var line map[string]any
			if err := from.Decode(&line); err == io.EOF {
				return all
			} else {
				require.NoError(t, err)
			}
			all = append(all, line)
		}
	}
	all := lines(archive)
	require.Len(t, all, 25, "24 frames, and what came of them")
	for i, line := range all[:24] {
		assert.Equal(t, map[string]any{"done": float64(i), "of": 24.0}, line)
	}
	assert.EqualValues(t, back.Number+1, all[24]["number"])
	all = lines(archive[:len(archive)-40])
	require.Len(t, all, 1)
	assert.Contains(t, all[0]["detail"], "no whole ZIP archive")

	svg := fetch(at + "/removals/r/outlines.svg?frame=118")
	h.ask("POST", at+"/removals/r/outlines.svg?frame=118", string(svg), 200, &back)
	outlines := back.Document.Removals[0].Mark.Outlines
	require.Len(t, outlines, 2)
	assert.Equal(t, 118, outlines[1].Home)
	assert.InDelta(
		t,
		outlines[0].Points[0].At[0]-12,
		outlines[1].Points[0].At[0],
		0.05,
		"the plate moves by -2 a frame",
	)

	finish(at+"/scout/r", "")
	var scores struct {
		Words  string
		Frames []struct{ Frame int }
	}
	h.ask("GET", at+"/scores/r", "", 200, &scores)
	assert.NotEmpty(t, scores.Frames)
	assert.Contains(t, scores.Words, fmt.Sprint(scores.Frames[0].Frame))
	var poses struct {
		First  int
		Frames []map[string]struct{ Points []treatment.Knot }
	}
	h.ask("GET", fmt.Sprintf("%s/poses?revision=%d&removal=r&first=110&last=114", at, back.Number), "", 200, &poses)
	require.Len(t, poses.Frames, 5)
	assert.Len(t, poses.Frames[4]["o"].Points, 4)
}
