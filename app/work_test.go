package app_test

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app"
	"jardin/app/api"
	"jardin/app/demo/demotest"
	"jardin/app/picture"
	"jardin/app/store"
)

func (h *house) task(id string) (t store.Task) {
	h.Helper()
	var all []store.Task
	h.ask("GET", "/api/tasks", "", 200, &all)
	for _, one := range all {
		if one.ID == id {
			return one
		}
	}
	h.Fatalf("there is no task %s", id)
	return t
}

// Whoever continues work right after pausing or cancelling it means the work that is about to
// halt: it must not stay halted, whatever the order in which the three arrive.
func TestWorkContinuedWhileItHaltsGoesOn(t *testing.T) {
	demotest.Share(t, 1)
	h := open(t)
	shot := h.bringIn("w")
	h.ask("PATCH", "/api/shots/"+shot.ID+"/treatment", edit(0, newRemoval), 200, nil)
	rng := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 3))
	for round := range 8 {
		var task store.Task
		h.ask("POST", "/api/shots/"+shot.ID+"/render", `{"what":"clean","movies":["review"]}`, 202, &task)
		for range 1 + rng.IntN(3) {
			time.Sleep(time.Duration(rng.IntN(60)) * time.Millisecond)
			h.ask("POST", "/api/tasks/"+task.ID+"/"+[]string{"pause", "cancel"}[rng.IntN(2)], "", 200, nil)
			h.ask("POST", "/api/tasks/"+task.ID+"/continue", "", 200, nil)
		}
		h.until(fmt.Sprintf("work is done in round %d", round), func() bool { return h.task(task.ID).State == "done" })
	}
	// All at once, from many sides; the last to continue decides.
	var task store.Task
	h.ask("POST", "/api/shots/"+shot.ID+"/render", `{"what":"clean","movies":["review"]}`, 202, &task)
	var wait sync.WaitGroup
	for k := range 24 {
		wait.Go(func() {
			h.ask("POST", "/api/tasks/"+task.ID+"/"+[]string{"pause", "cancel", "continue"}[k%3], "", 200, nil)
		})
	}
	wait.Wait()
	h.ask("POST", "/api/tasks/"+task.ID+"/continue", "", 200, nil)
	h.until("work is done after all", func() bool { return h.task(task.ID).State == "done" })
}

// What another process asks of work stands in the database; whoever does it finds it there.
func TestWorkHaltsWhenItIsAskedFromElsewhere(t *testing.T) {
	h := open(t)
	shot := h.bringIn("w")
	h.ask("PATCH", "/api/shots/"+shot.ID+"/treatment", edit(0, newRemoval), 200, nil)
	ctx := context.Background()
	elsewhere, err := store.Open(ctx, h.set.Database)
	require.NoError(t, err)
	defer elsewhere.Close()
	for _, state := range []string{"paused", "cancelled"} {
		var task store.Task
		halted := false
		for range 20 { // so short a task may end before it hears of it
			h.ask("POST", "/api/shots/"+shot.ID+"/settle/r", "", 202, &task)
			require.NoError(t, elsewhere.Ask(ctx, task.ID, state))
			h.until("it has ended", func() bool { s := h.task(task.ID).State; return s != "waiting" && s != "running" })
			if halted = h.task(task.ID).State == state; halted {
				break
			}
		}
		assert.True(t, halted, state)
	}
}

func TestWorkIsPausedContinuedCancelledAndTriedAgain(t *testing.T) {
	demotest.Share(t, 4)
	h := open(t)
	shot := h.bringIn("w")
	h.ask("PATCH", "/api/shots/"+shot.ID+"/treatment", edit(0, newRemoval), 200, nil)
	for name, c := range map[string]struct{ path, body string }{
		"render": {"/render", `{"what":"clean","movies":["review","master"]}`},
		"track":  {"/follow", `{"track":"w","from":112,"first":101,"last":124}`},
	} {
		t.Run(name, func(t *testing.T) {
			var task store.Task
			paused := false
			for range 8 { // so short a task may end before it is paused
				h.ask("POST", "/api/shots/"+shot.ID+c.path, c.body, 202, &task)
				h.ask("POST", "/api/tasks/"+task.ID+"/pause", "", 200, nil)
				h.until(
					"it is paused, or done before",
					func() bool { s := h.task(task.ID).State; return s == "paused" || s == "done" },
				)
				if paused = h.task(task.ID).State == "paused"; paused {
					break
				}
			}
			require.True(t, paused)
			h.ask("POST", "/api/tasks/"+task.ID+"/continue", "", 200, nil)
			h.until("it is done", func() bool {
				now := h.task(task.ID)
				require.NotEqual(t, "failed", now.State, now.Problem)
				return now.State == "done"
			})
			h.ask("POST", "/api/shots/"+shot.ID+c.path, c.body, 202, &task)
			h.ask("POST", "/api/tasks/"+task.ID+"/cancel", "", 200, nil)
			h.until(
				"it is cancelled, or done before",
				func() bool { s := h.task(task.ID).State; return s == "cancelled" || s == "done" },
			)
			h.ask("POST", "/api/tasks/"+task.ID+"/continue", "", 200, nil)
			h.until("it is done after all", func() bool { return h.task(task.ID).State == "done" })
		})
	}
	var tasks []store.Task
	h.ask("GET", "/api/tasks", "", 200, &tasks)
	versions := map[int]bool{}
	for _, one := range tasks {
		if one.Kind == "render" {
			assert.False(t, versions[one.Version], "every delivery has a number of its own")
			versions[one.Version] = true
			for _, kind := range []string{"review", "master"} {
				h.ask("GET", "/api/renders/"+one.ID+"/movie?kind="+kind, "", 200, nil)
			}
		}
	}
	h.ask("POST", "/api/shots/"+shot.ID+"/render", `{"what":"clean","target":{"format":"exr","depth":8}}`, 422, nil)
	h.ask("POST", "/api/shots/"+shot.ID+"/render", `{"what":"clean","range":{"first":1,"last":3}}`, 422, nil)
	h.ask("POST", "/api/shots/"+shot.ID+"/render", `{"what":"clean","template":"../{frame}"}`, 422, nil)
	h.ask("POST", "/api/shots/"+shot.ID+"/render", `{"what":"patch","movies":["review"]}`, 422, nil)

	// An import that failed is tried again where its footage is mended.
	path := filepath.Join(h.set.Media[0], "w.005.png")
	good, err := os.ReadFile(path)
	require.NoError(t, err)
	broken := bytes.Clone(good)
	copy(broken[len(broken)/2:], make([]byte, 100))
	require.NoError(t, os.WriteFile(path, broken, 0o644))
	var other store.Shot
	h.ask(
		"POST",
		"/api/shots",
		fmt.Sprintf(
			`{"show":"s","name":"x","path":%q,"first":1,"rate":{"num":24000,"den":1001},"transfer":"gamma24","primaries":"p3d65"}`,
			h.set.Media[0],
		),
		201,
		&other,
	)
	h.until("it fails", func() bool {
		h.ask("GET", "/api/shots/"+other.ID, "", 200, &other)
		return other.State == "failed"
	})
	assert.Contains(t, other.Problem, "w.005.png is damaged")
	left, err := filepath.Glob(filepath.Join(h.set.Data, "plates", other.ID+"*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing half imported is left")
	require.NoError(t, os.WriteFile(path, good, 0o644))
	h.ask("GET", "/api/tasks?shot="+other.ID, "", 200, &tasks)
	h.ask("POST", "/api/tasks/"+tasks[0].ID+"/continue", "", 200, nil)
	h.until("it is in", func() bool {
		h.ask("GET", "/api/shots/"+other.ID, "", 200, &other)
		return other.State == "ready"
	})
}

// Measuring goes on with the treatment that it began with, and begins anew, on what is in
// force then, when it is tried again after it failed.
func TestMeasuringKeepsToItsRevision(t *testing.T) {
	h := open(t)
	shot := h.bringIn("w")
	at := "/api/shots/" + shot.ID
	change := func(patch string) {
		var head struct{ Number int }
		h.ask("GET", at+"/treatment", "", 200, &head)
		h.ask("PATCH", at+"/treatment", edit(head.Number, patch), 200, nil)
	}
	change(newRemoval)
	ended := func(id string) store.Task {
		h.until(
			"it has ended",
			func() bool { s := h.task(id).State; return s == "done" || s == "failed" || s == "paused" },
		)
		return h.task(id)
	}
	var task store.Task
	h.ask("POST", at+"/follow", `{"track":"w","from":112,"first":101,"last":124}`, 202, &task)
	require.Equal(t, "done", ended(task.ID).State)

	change(
		`[{"op":"add","path":"/removals/0/fill/sources/-","value":{"id":"p","name":"P","kind":"plate","plate":{"frame":112,"strokes":[{"id":"s","mode":"clone",
		"home":112,"size":24,"hardness":1,"opacity":1,"from":{"offset":[25,0]},"path":{"points":[[48,28]]}}]}}}]`,
	)
	outlines := func(value string) {
		change(`[{"op":"replace","path":"/removals/0/mark/outlines","value":` + value + `}]`)
	}
	here, err := store.Open(t.Context(), h.set.Database)
	require.NoError(t, err)
	defer here.Close()
	// paused settles, and pauses that while it is under way; then the outline is deleted.
	paused := func() string {
		outlines(
			`[{"id":"o","name":"o","kind":"outline","home":112,"points":[{"at":[40,20]},{"at":[56,20]},{"at":[56,36]},{"at":[40,36]}]}]`,
		)
		for range 40 { // so short a task may end before it is paused
			h.ask("POST", at+"/settle/r", "", 202, &task)
			for { // it is too short to be seen on its way by the frames it has done
				now, err := here.Task(t.Context(), task.ID)
				require.NoError(t, err)
				if now.Partial != nil || now.State != "waiting" && now.State != "running" {
					break
				}
				time.Sleep(time.Millisecond)
			}
			h.ask("POST", "/api/tasks/"+task.ID+"/pause", "", 200, nil)
			if ended(task.ID).State == "paused" {
				outlines("[]")
				return task.ID
			}
		}
		t.Fatal("it was never paused in time")
		return ""
	}
	id := paused()
	h.ask("POST", "/api/tasks/"+id+"/continue", "", 200, nil)
	assert.Equal(t, "done", ended(id).State, "on the outline that it began with")
	id = paused()
	h.ask("POST", "/api/tasks/"+id+"/cancel", "", 200, nil)
	h.ask("POST", "/api/tasks/"+id+"/continue", "", 200, nil)
	require.Equal(t, "failed", ended(id).State)
	assert.Contains(t, h.task(id).Problem, "draw an outline")
}

func TestFootageIsSentInPieces(t *testing.T) {
	h := open(t)
	files := map[string][]byte{}
	var list []string
	for n := 1; n <= 3; n++ {
		name := fmt.Sprintf("w.%03d.png", n)
		data, err := os.ReadFile(filepath.Join(h.set.Media[0], name))
		require.NoError(t, err)
		files[name] = data
		list = append(list, fmt.Sprintf(`{"name":%q,"size":%d}`, name, len(data)))
	}
	begin := `{"name":"w","files":[` + strings.Join(list, ",") + `]}`
	var up api.Upload
	h.ask("POST", "/api/uploads", begin, 200, &up)
	put := func(name string, offset int, data []byte, status int) api.UploadFile {
		t.Helper()
		request, err := http.NewRequest(
			"PUT",
			fmt.Sprintf(
				"%s/api/uploads/%s/file?name=%s&offset=%d",
				h.service.Address,
				up.ID,
				url.QueryEscape(name),
				offset,
			),
			bytes.NewReader(data),
		)
		require.NoError(t, err)
		request.Header.Set("Content-Type", "application/octet-stream")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		body, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		require.Equal(t, status, response.StatusCode, string(body))
		var f api.UploadFile
		if status == 200 || status == 409 {
			f.Received = int64(between(string(body), `"received":`))
		}
		return f
	}
	first := files["w.001.png"]
	assert.EqualValues(t, 100, put("w.001.png", 0, first[:100], 200).Received)
	assert.EqualValues(
		t,
		100,
		put("w.001.png", 50, first[50:], 409).Received,
		"a piece must begin where what is there ends",
	)
	put("w.002.png", 0, append(bytes.Clone(files["w.002.png"]), 1), 413)
	put("../w.001.png", 0, first, 422)
	put("w.009.png", 0, first, 422)
	// After a break the browser asks again, and goes on.
	var again api.Upload
	h.ask("POST", "/api/uploads", begin, 200, &again)
	assert.Equal(t, up.ID, again.ID)
	assert.EqualValues(t, 100, again.Files[0].Received)
	put("w.001.png", 100, first[100:], 200)
	at := int(again.Files[1].Received)
	put("w.002.png", at, files["w.002.png"][at:], 200)
	put("w.003.png", 0, files["w.003.png"], 200)
	put("w.003.png", 0, files["w.003.png"], 200) // it is whole: to send it once more does no harm
	for name, data := range files {
		got, err := os.ReadFile(filepath.Join(up.Path, name))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(data, got))
	}
	var shot store.Shot
	h.ask(
		"POST",
		"/api/shots",
		fmt.Sprintf(
			`{"show":"s","name":"sent","path":%q,"first":1,"rate":{"num":24,"den":1},"transfer":"srgb"}`,
			up.Path,
		),
		201,
		&shot,
	)
	h.until("it is in", func() bool {
		h.ask("GET", "/api/shots/"+shot.ID, "", 200, &shot)
		return shot.State == "ready"
	})
	for _, bad := range []string{"../a.001.png", "a.txt", ".hid.001.png", "a/b.001.png", "a\\u0000.001.png"} {
		h.ask("POST", "/api/uploads", `{"name":"w","files":[{"name":"`+bad+`","size":1}]}`, 422, nil)
	}

	var use picture.Usage
	h.ask("GET", "/api/usage", "", 200, &use)
	sent := int64(0)
	for _, f := range use.Disk {
		if f.What == "uploads" {
			sent = f.Bytes
		}
	}
	assert.Greater(t, sent, int64(len(first)))
	h.ask("DELETE", "/api/usage/uploads", "", 204, nil)
	assert.NoDirExists(t, up.Path)
	h.ask("DELETE", "/api/usage/memory", "", 204, nil)
	h.ask("GET", "/api/usage", "", 200, &use)
	for _, f := range use.Memory {
		if f.What == "work" {
			assert.Positive(t, f.Bytes, "the program itself")
			continue
		}
		assert.Zero(t, f.Bytes, f.Name)
	}
	assert.EqualValues(t, 64<<20, use.MemoryBudget)
}

// between returns the number that follows some words.
func between(s, words string) (n int) {
	_, rest, _ := strings.Cut(s, words)
	fmt.Sscan(strings.TrimRight(strings.SplitN(rest, "}", 2)[0], ","), &n)
	return n
}

// Paths that lead out of the allowed folders, in every way of writing them.
func TestNothingOutsideTheFoldersIsRead(t *testing.T) {
	h := open(t)
	secret := t.TempDir()
	data, err := os.ReadFile(filepath.Join(h.set.Media[0], "w.001.png"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(secret, "w.001.png"), data, 0o644))
	require.NoError(t, os.Symlink(secret, filepath.Join(h.set.Media[0], "link")))
	require.NoError(t, os.Mkdir(filepath.Join(h.set.Media[0], "ｅ．．／"[:3]), 0o755))
	for _, path := range []string{
		secret, h.set.Media[0] + "/../" + filepath.Base(secret), h.set.Media[0] + "/link", h.set.Media[0] +
			"/./link/../link",
		h.set.Media[0] + "/\u2024\u2024/" + filepath.Base(secret), h.set.Media[0] + "/．．/" + filepath.Base(secret),
		"/etc", "", "\x00", h.set.Data,
	} {
		h.ask("GET", "/api/material?path="+url.QueryEscape(path), "", 422, nil)
		h.ask(
			"POST",
			"/api/shots",
			fmt.Sprintf(
				`{"show":"s","name":"n","path":%q,"first":1,"rate":{"num":24,"den":1},"transfer":"srgb"}`,
				strings.ReplaceAll(path, "\x00", ""),
			),
			422,
			nil,
		)
	}
	var shots []store.Shot
	h.ask("GET", "/api/shots", "", 200, &shots)
	assert.Empty(t, shots)
}

func TestBackupAndRestore(t *testing.T) {
	demotest.Share(t, 2)
	h := open(t)
	shot := h.bringIn("w")
	h.ask("PATCH", "/api/shots/"+shot.ID+"/treatment", edit(0, newRemoval), 200, nil)
	h.paint(shot.ID, "one")
	ctx := context.Background()
	plain, whole := filepath.Join(t.TempDir(), "plain.tar"), filepath.Join(t.TempDir(), "whole.tar")
	require.NoError(t, app.Backup(ctx, h.set, plain, false), "while the server is at work")
	require.NoError(t, app.Backup(ctx, h.set, whole, true))
	var exported map[string]any
	h.ask("GET", "/api/shots/"+shot.ID+"/treatment/export", "", 200, &exported)
	for name, archive := range map[string]string{"plain": plain, "whole": whole} {
		t.Run(name, func(t *testing.T) {
			other := &house{T: t, set: h.set}
			other.set.Data, other.set.Database = t.TempDir(), ""
			require.NoError(t, app.Restore(ctx, other.set, archive, false))
			other.start()
			defer func() { assert.NoError(t, other.service.Stop(ctx)) }()
			assert.ErrorContains(
				t,
				app.Restore(ctx, other.set, archive, true),
				"another Jardin is at work",
				"not under a server",
			)
			var there map[string]any
			other.ask("GET", "/api/shots/"+shot.ID+"/treatment/export", "", 200, &there)
			assert.Equal(t, exported, there, "strokes and all")
			var now store.Shot
			other.ask("GET", "/api/shots/"+shot.ID, "", 200, &now)
			if name == "whole" {
				assert.Equal(t, "ready", now.State)
				other.ask("GET", "/api/shots/"+shot.ID+"/frames/110/exact", "", 200, nil)
				damagedArchives(other, archive, exported)
				return
			}
			assert.Equal(t, "failed", now.State)
			assert.Contains(t, now.Problem, "bring the plates in again")
			var tasks []store.Task
			other.ask("GET", "/api/tasks?shot="+shot.ID, "", 200, &tasks)
			other.ask("POST", "/api/tasks/"+tasks[0].ID+"/continue", "", 200, nil)
			other.until("the plates are back", func() bool {
				other.ask("GET", "/api/shots/"+shot.ID, "", 200, &now)
				return now.State == "ready"
			})
		})
	}
}

// damagedArchives restores archives that are damaged, or hold what no backup does, in place of
// what is there: each is refused, and nothing of that is lost.
func damagedArchives(h *house, archive string, exported map[string]any) {
	t, ctx := h.T, context.Background()
	require.NoError(t, h.service.Stop(ctx))
	data, err := os.ReadFile(archive)
	require.NoError(t, err)
	type file struct {
		head *tar.Header
		body []byte
	}
	var files []file
	for in := tar.NewReader(bytes.NewReader(data)); ; {
		head, err := in.Next()
		if err != nil {
			break
		}
		body, err := io.ReadAll(in)
		require.NoError(t, err)
		files = append(files, file{head, body})
	}
	pack := func(files ...file) []byte {
		var out bytes.Buffer
		w := tar.NewWriter(&out)
		for _, f := range files {
			head := *f.head
			head.Size = int64(len(f.body))
			require.NoError(t, w.WriteHeader(&head))
			_, err := w.Write(f.body)
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		return out.Bytes()
	}
	named := func(name string) file {
		return file{&tar.Header{Name: name, Mode: 0o600, Typeflag: tar.TypeReg}, []byte("x")}
	}
	flipped := bytes.Clone(data)
	flipped[len(data)/2] ^= 4
	dump := bytes.Clone(files[1].body)
	for k := len(dump) / 3; k < len(dump)/3+400; k++ {
		dump[k] ^= 0x55
	}
	broken := files[1]
	broken.body = dump
	for name, bad := range map[string][]byte{
		"no archive": []byte("no archive"), "nothing": nil, "cut short": data[:len(data)*2/3],
		"cut in its end": data[:len(data)-9000], "a bit flipped": flipped,
		"a damaged database": pack(append([]file{files[0], broken}, files[2:]...)...),
		"no sums":            pack(files[:len(files)-1]...), "no database": pack(files[0]),
		"the database alone":            pack(files[1]),
		"configuration of the database": pack(files[0], files[1], named("postgres/postgresql.auto.conf")),
		"a way out":                     pack(files[0], files[1], named("plates/../../out")),
		"an absolute path":              pack(files[0], files[1], named("/etc/cron.d/x")),
		"plates of no shot":             pack(files[0], files[1], named("plates/x")),
		"a hidden shot":                 pack(files[0], files[1], named("plates/.hidden/x")),
		"a link": pack(files[0], files[1], file{&tar.Header{Name: "plates/a/b",
			Typeflag: tar.TypeSymlink, Linkname: "/etc"}, nil}),
		"something after its end": pack(append(append([]file{}, files...), named("plates/a/b"))...),
	} {
		path := filepath.Join(t.TempDir(), "bad.tar")
		require.NoError(t, os.WriteFile(path, bad, 0o600))
		err := app.Restore(ctx, h.set, path, true)
		assert.Error(t, err, name)
		if err != nil {
			assert.Contains(t, err.Error(), "Nothing was changed", name)
		}
	}
	h.start()
	var there map[string]any
	h.ask("GET", "/api/shots", "", 200, nil)
	var shots []store.Shot
	h.ask("GET", "/api/shots", "", 200, &shots)
	require.Len(t, shots, 1)
	h.ask("GET", "/api/shots/"+shots[0].ID+"/treatment/export", "", 200, &there)
	assert.Equal(t, exported, there, "nothing of what was to be replaced is lost")
	h.ask("GET", "/api/shots/"+shots[0].ID+"/frames/110/exact", "", 200, nil)
}

// A change that is tried shows what it would be when saved, and saves nothing.
func TestATrialShowsWhatSavingWould(t *testing.T) {
	h := open(t)
	shot := h.bringIn("w")
	at := "/api/shots/" + shot.ID
	var rev revision
	h.ask("PATCH", at+"/treatment", edit(0, newRemoval), 200, &rev)
	h.paint(shot.ID, "one")
	h.ask("GET", at+"/treatment", "", 200, &rev)
	change := `[{"op":"replace","path":"/removals/0/settle/opacity","value":0.5}]`
	overlay := fmt.Sprintf("%s/frames/112/overlay?revision=%d&view=result", at, rev.Number)
	before := h.ask("GET", overlay, "", 200, nil).Header.Get("ETag")
	tried := h.ask("POST", overlay, change, 200, nil)
	assert.NotEqual(t, before, tried.Header.Get("ETag"))
	assert.Empty(t, tried.Header.Get("Cache-Control"), "it is not what the address names")
	var now revision
	h.ask("GET", at+"/treatment", "", 200, &now)
	assert.Equal(t, rev.Number, now.Number, "nothing is saved")
	h.ask("PATCH", at+"/treatment", edit(rev.Number, change), 200, &now)
	saved := h.ask("GET", fmt.Sprintf("%s/frames/112/overlay?revision=%d&view=result", at, now.Number), "", 200, nil)
	assert.Equal(t, tried.Header.Get("ETag"), saved.Header.Get("ETag"))
	h.ask("POST", overlay, `[{"op":"replace","path":"/removals/0/settle/opacity","value":7}]`, 422, nil)
	h.ask("POST", overlay, `[{"op":"remove","path":"/nothing"}]`, 422, nil)
	h.ask("POST", overlay, `not json`, 422, nil)
	h.ask("POST", fmt.Sprintf("%s/frames/112/overlay?revision=99", at), change, 404, nil)
}

// Work that was asked to halt before it had begun, and then continued, begins.
func TestWorkContinuedBeforeItBeginsGoesOn(t *testing.T) {
	demotest.Share(t, 3)
	h := open(t)
	shot := h.bringIn("w")
	h.ask("PATCH", "/api/shots/"+shot.ID+"/treatment", edit(0, newRemoval), 200, nil)
	ctx := context.Background()
	elsewhere, err := store.Open(ctx, h.set.Database)
	require.NoError(t, err)
	defer elsewhere.Close()
	waited := 0
	for range 10 {
		var task store.Task
		h.ask("POST", "/api/shots/"+shot.ID+"/render", `{"what":"clean"}`, 202, &task)
		require.NoError(t, elsewhere.Ask(ctx, task.ID, "paused"))
		var now store.Task
		h.ask("POST", "/api/tasks/"+task.ID+"/continue", "", 200, &now)
		if now.State == "waiting" {
			waited++
		}
		h.until("work is done", func() bool { return h.task(task.ID).State == "done" })
	}
	t.Logf("%d of 10 were continued before they had begun", waited)
}
