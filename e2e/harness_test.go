// Package e2e drives the real interface in headless Chromium against the real
// program, its database and the demo footage.
package e2e

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/launcher/flags"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/geom"
)

// A server is the program at work on a data folder of its own.
type server struct {
	t       testing.TB
	data    string
	address string
	cmd     *exec.Cmd
}

// fresh is a data folder in which a server was once at work, and nothing else: to begin from a copy of it is much
// quicker than to set up a database.
var fresh struct {
	once sync.Once
	dir  string
}

// folder makes a data folder. Not t.TempDir: the database's user must be able to reach it whatever TMPDIR is.
func folder(t testing.TB) string {
	dir, err := os.MkdirTemp("", "jardin-e2e-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	return dir
}

// serve builds nothing: it runs the program that "make build" made, on a data folder of its own.
func serve(t testing.TB, args ...string) *server {
	return at(t, begun(t), args...)
}

// begun returns the folder fresh.
func begun(t testing.TB) string {
	fresh.once.Do(func() {
		fresh.dir = folder(t)
		first := &server{t: t, data: fresh.dir}
		first.start()
		first.shut()
	})
	return fresh.dir
}

// filled are folders like fresh that a shot was brought into, by its name: many tests begin with the same one.
var filled struct {
	sync.Mutex
	by map[string]brought
}

type brought struct{ dir, shot string }

// serveWith is serve with a shot of the demo brought in already.
func serveWith(t testing.TB, clip string) (*server, string) {
	filled.Lock()
	b, ok := filled.by[clip]
	if !ok {
		b.dir = folder(t)
		duplicate(t, begun(t), b.dir)
		first := &server{t: t, data: b.dir}
		first.start()
		b.shot = first.bringIn(clip)
		first.shut()
		if filled.by == nil {
			filled.by = map[string]brought{}
		}
		filled.by[clip] = b
	}
	filled.Unlock()
	return at(t, b.dir), b.shot
}

// at runs the program on a copy of a data folder.
func at(t testing.TB, dir string, args ...string) *server {
	data := folder(t)
	duplicate(t, dir, data)
	s := &server{t: t, data: data}
	s.start(args...)
	t.Cleanup(func() {
		s.shut()
		os.RemoveAll(data)
	})
	return s
}

// duplicate copies a data folder that is not in use; files of plates, which are written once, are shared.
func duplicate(t testing.TB, from, to string) {
	entries, err := os.ReadDir(from)
	require.NoError(t, err)
	for _, e := range entries {
		how := "-a"
		if e.Name() == "plates" {
			how = "-al"
		}
		said, err := exec.Command("cp", how, filepath.Join(from, e.Name()), to).CombinedOutput()
		require.NoError(t, err, string(said))
	}
}

// shut ends the server and its database.
func (s *server) shut() {
	s.stop(os.Interrupt)
	if pid, err := os.ReadFile(filepath.Join(s.data, "postgres/postmaster.pid")); err == nil {
		var n int
		fmt.Sscan(string(pid), &n)
		syscall.Kill(n, syscall.SIGQUIT)
		time.Sleep(300 * time.Millisecond)
	}
}

func (s *server) start(args ...string) {
	program, err := filepath.Abs("../bin/jardin")
	require.NoError(s.t, err)
	s.cmd = exec.Command(
		program,
		append(
			[]string{"serve", "--data", s.data, "--listen", "127.0.0.1:0", "--media", demotest.Footage(s.t)},
			args...)...)
	out, err := s.cmd.StdoutPipe()
	require.NoError(s.t, err)
	s.cmd.Stderr = os.Stderr
	require.NoError(s.t, s.cmd.Start(), "run make build first")
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if _, address, ok := strings.Cut(lines.Text(), "open at "); ok {
			s.address = address
			go io.Copy(io.Discard, out)
			return
		}
	}
	s.t.Fatal("the program ended before it served")
}

func (s *server) stop(how os.Signal) {
	_ = s.cmd.Process.Signal(how)
	_ = s.cmd.Wait()
}

// get asks the server and decodes its answer.
func (s *server) get(path string, into any) {
	s.t.Helper()
	response, err := http.Get(s.address + path)
	require.NoError(s.t, err)
	defer response.Body.Close()
	require.Equal(s.t, http.StatusOK, response.StatusCode, path)
	require.NoError(s.t, json.NewDecoder(response.Body).Decode(into))
}

func (s *server) post(path, body string, into any) {
	s.t.Helper()
	s.send(http.MethodPost, path, body, into)
}

func (s *server) patch(path, body string) {
	s.t.Helper()
	s.send(http.MethodPatch, path, body, nil)
}

func (s *server) send(method, path, body string, into any) {
	s.t.Helper()
	request, err := http.NewRequest(method, s.address+path, strings.NewReader(body))
	require.NoError(s.t, err)
	request.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(request)
	require.NoError(s.t, err)
	defer response.Body.Close()
	require.Less(s.t, response.StatusCode, 300, path)
	if into != nil {
		require.NoError(s.t, json.NewDecoder(response.Body).Decode(into))
	}
}

type shotInfo struct{ ID, State, Problem string }

// bringIn adds a shot of the demo without the interface and waits for it.
func (s *server) bringIn(name string) string {
	s.t.Helper()
	return s.bringInFrom(name, demotest.Folder(s.t, name+"/plate"), 1001)
}

func (s *server) bringInFrom(name, path string, first int) string {
	s.t.Helper()
	var shot shotInfo
	body, err := json.Marshal(map[string]any{
		"show": "Winter at Larkmoss", "name": name, "path": path,
		"first": first, "rate": map[string]int{"num": 24, "den": 1}, "transfer": "srgb",
	})
	require.NoError(s.t, err)
	s.post("/api/shots", string(body), &shot)
	s.wait(2*time.Minute, "the shot to come in", func() bool {
		s.get("/api/shots/"+shot.ID, &shot)
		require.NotEqual(s.t, "failed", shot.State, shot.Problem)
		return shot.State == "ready"
	})
	return shot.ID
}

// wait waits until something is done, three times as long as it takes on a machine with nothing else to do.
func (s *server) wait(limit time.Duration, what string, done func() bool) {
	s.t.Helper()
	limit *= 3
	for end := time.Now().Add(limit); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if done() {
			return
		}
	}
	s.t.Fatalf("waited %v for %s", limit, what)
}

// An artist is somebody at the browser, with a mouse, a pen and a keyboard.
type artist struct {
	t    testing.TB
	page *rod.Page
	lost *atomic.Bool // goes to what is not there
}

func open(t testing.TB, url string) *artist {
	a := blank(t)
	a.visit(url)
	return a
}

// chromium is the browser that all artists share; each has a profile of their own in it.
var chromium struct {
	launch  sync.Once
	program *launcher.Launcher
	browser *rod.Browser
	err     error
}

func TestMain(m *testing.M) {
	code := m.Run()
	if chromium.browser != nil {
		_ = chromium.browser.Close()
		chromium.program.Kill()
		chromium.program.Cleanup()
	}
	for _, b := range filled.by {
		os.RemoveAll(b.dir)
	}
	if fresh.dir != "" {
		os.RemoveAll(fresh.dir)
	}
	os.Exit(code)
}

// blank is a browser that shows nothing yet.
func blank(t testing.TB) *artist {
	chromium.launch.Do(func() {
		// Software draws pages quicker by itself than where it has to pass for a graphics card, which the pictures need.
		l := launcher.New().Bin("/usr/bin/chromium").Headless(true).NoSandbox(true).
			Set("use-gl", "angle").Set("use-angle", "swiftshader").Set("enable-unsafe-swiftshader").
			Set("disable-gpu-rasterization").
			Set("disable-quic").Set("disable-background-networking").Set("disable-component-update").Set("disable-sync").
			Set("force-device-scale-factor", "1").Set(flags.Flag("hide-scrollbars"))
		control, err := l.Launch()
		if err != nil {
			chromium.err = err
			return
		}
		chromium.program, chromium.browser = l, rod.New().ControlURL(control)
		chromium.err = chromium.browser.Connect()
	})
	require.NoError(t, chromium.err)
	profile, err := chromium.browser.Incognito()
	require.NoError(t, err)
	t.Cleanup(func() { _ = profile.Close() })
	page, err := profile.Page(proto.TargetCreateTarget{URL: "about:blank"})
	require.NoError(t, err)
	require.NoError(t, proto.EmulationSetFocusEmulationEnabled{Enabled: true}.Call(page))
	require.NoError(
		t,
		page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 1280, Height: 800, DeviceScaleFactor: 1}),
	)
	a := &artist{t, page.Timeout(8 * time.Minute), &atomic.Bool{}}
	require.NoError(t, proto.LogEnable{}.Call(page))
	// Nothing is asked for that is not there, and nothing is complained of; a server that is away, or refuses, is what some tests are about.
	go page.EachEvent(func(e *proto.RuntimeExceptionThrown) {
		t.Errorf("the page failed: %s %v", e.ExceptionDetails.Text, e.ExceptionDetails.Exception.Description)
	}, func(e *proto.RuntimeConsoleAPICalled) {
		if e.Type == proto.RuntimeConsoleAPICalledTypeError {
			t.Errorf("the page complained: %v", e.Args)
		}
	}, func(e *proto.LogEntryAdded) {
		entry := e.Entry
		if entry.Level == proto.LogLogEntryLevelError &&
			(entry.Source != proto.LogLogEntrySourceNetwork || strings.Contains(entry.Text, "404") && !a.lost.Load()) {
			t.Errorf("the page complained: %s %s", entry.Text, entry.URL)
		}
	})()
	a.controls()
	return a
}

func (a *artist) visit(url string) {
	a.t.Helper()
	require.NoError(a.t, a.page.Navigate(url))
	require.NoError(a.t, a.page.WaitLoad())
	// The page is there, and let in.
	_, err := a.page.Timeout(60 * time.Second).Element("header")
	require.NoError(a.t, err)
}

// button returns what is pressed by its words: a button, link, option or radio.
func (a *artist) button(words string) *rod.Element {
	a.t.Helper()
	el, err := a.page.Timeout(60*time.Second).ElementR(`button, a, [role=radio], [role=option], [role=menuitem]`, words)
	if err != nil {
		a.shoot("/tmp/jardin-e2e-failed.png")
	}
	require.NoError(a.t, err, "look for %q; the screen is in the temporary folder", words)
	return el.CancelTimeout()
}

func (a *artist) press(words string) {
	a.t.Helper()
	a.clickOn(words, func() *rod.Element { return a.button(words) })
}

// named presses what has an accessible name.
func (a *artist) named(name string) {
	a.t.Helper()
	a.clickOn(name, func() *rod.Element {
		el, err := a.page.Timeout(90 * time.Second).Element(`[aria-label="` + name + `"]`)
		require.NoError(a.t, err, "look for %q", name)
		return el.CancelTimeout()
	})
}

// clickOn presses something: anew, where what was found was drawn anew meanwhile, and no longer is on the page.
func (a *artist) clickOn(words string, find func() *rod.Element) {
	a.t.Helper()
	var err error
	for range 5 {
		el := find().Timeout(20 * time.Second)
		err = el.Click(proto.InputMouseButtonLeft, 1)
		el.CancelTimeout()
		if err == nil {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	a.shoot("/tmp/jardin-e2e-failed.png")
	require.NoError(a.t, err, "press %q", words)
}

func (a *artist) key(keys ...input.Key) {
	a.t.Helper()
	for _, k := range keys {
		require.NoError(a.t, a.page.Keyboard.Type(k))
	}
}

// fill types into a field that is found by its accessible name, and leaves it.
func (a *artist) fill(name, value string) {
	a.t.Helper()
	el, err := a.page.Timeout(90 * time.Second).ElementX(fmt.Sprintf(
		`//input[@aria-label=%[1]q] | //label[normalize-space(.)=%[1]q]//input | //input[@id=//label[normalize-space(.)=%[1]q]/@for]`,
		name,
	))
	require.NoError(a.t, err, "look for the field %q", name)
	el = el.CancelTimeout()
	require.NoError(a.t, el.SelectAllText())
	require.NoError(a.t, el.Input(value))
	require.NoError(a.t, el.Blur())
}

// from opens a menu by its name and presses one of its lines.
func (a *artist) from(menu, words string) {
	a.t.Helper()
	el, err := a.page.Timeout(90 * time.Second).Element(`[aria-label="` + menu + `"], [aria-label^="` + menu + `: "]`)
	require.NoError(a.t, err, "look for the menu %q", menu)
	require.NoError(a.t, el.CancelTimeout().Click(proto.InputMouseButtonLeft, 1))
	a.press(words)
}

// tick switches a box with the given words.
func (a *artist) tick(words string) {
	a.t.Helper()
	el, err := a.page.Timeout(30*time.Second).ElementR("label", words)
	require.NoError(a.t, err, "look for the box %q", words)
	require.NoError(a.t, el.CancelTimeout().Click(proto.InputMouseButtonLeft, 1))
}

func (a *artist) see(words string) {
	a.t.Helper()
	_, err := a.page.Timeout(150*time.Second).ElementR("p, span, dd, button, h1, label, option", words)
	if err != nil {
		a.shoot("/tmp/jardin-e2e-failed.png")
	}
	require.NoError(a.t, err, "wait to see %q", words)
}

func (a *artist) number(js string, of ...any) float64 {
	a.t.Helper()
	v, err := a.page.Eval(js, of...)
	require.NoError(a.t, err)
	return v.Value.Num()
}

func (a *artist) text(js string) string {
	a.t.Helper()
	v, err := a.page.Eval(js)
	require.NoError(a.t, err)
	return v.Value.Str()
}

// steady waits until the picture shows a frame, and all of it.
func (a *artist) steady(frame int) {
	a.t.Helper()
	err := a.page.Timeout(90 * time.Second).
		Wait(rod.Eval(`n => { const c = document.querySelector('[data-testid=picture]'); return c && c.dataset.frame == n && c.dataset.ready == 'true' }`, frame))
	if err != nil {
		a.shoot("/tmp/jardin-e2e-failed.png")
	}
	require.NoError(a.t, err, "wait for frame %d", frame)
}

// goTo goes to a frame by its number.
func (a *artist) goTo(frame int) {
	a.t.Helper()
	a.fill("Frame number", fmt.Sprint(frame))
	a.steady(frame)
}

// at returns where a point of the frame is on the page, with the picture fitted.
func (a *artist) at(p geom.Point) proto.Point {
	a.t.Helper()
	v, err := a.page.Eval(
		`() => { const b = document.querySelector('[data-testid=picture]').getBoundingClientRect(); return [b.left, b.top, b.width, b.height] }`,
	)
	require.NoError(a.t, err)
	var box [4]float64
	require.NoError(a.t, v.Value.Unmarshal(&box))
	scale := math.Min((box[2]-24)/960, (box[3]-24)/540)
	return proto.Point{X: box[0] + box[2]/2 + (p.X-480)*scale, Y: box[1] + box[3]/2 + (p.Y-270)*scale}
}

func (a *artist) click(p geom.Point) { a.drag(p) }

// drag presses the mouse at the first point, moves over the others and lets go.
func (a *artist) drag(points ...geom.Point) {
	a.t.Helper()
	m := a.page.Mouse
	require.NoError(a.t, m.MoveTo(a.at(points[0])))
	require.NoError(a.t, m.Down(proto.InputMouseButtonLeft, 1))
	for _, p := range points[1:] {
		require.NoError(a.t, m.MoveLinear(a.at(p), 4))
	}
	require.NoError(a.t, m.Up(proto.InputMouseButtonLeft, 1))
}

// pen draws with a pen whose pressure is given for each point.
func (a *artist) pen(points []geom.Point, pressure func(i int) float64) {
	a.t.Helper()
	send := func(kind proto.InputDispatchMouseEventType, p geom.Point, force float64) {
		at := a.at(p)
		buttons := 1
		if kind == proto.InputDispatchMouseEventTypeMouseReleased {
			buttons = 0
		}
		require.NoError(a.t, proto.InputDispatchMouseEvent{
			Type: kind, X: at.X, Y: at.Y, Button: proto.InputMouseButtonLeft, Buttons: &buttons, ClickCount: 1,
			PointerType: proto.InputDispatchMouseEventPointerTypePen, Force: force,
		}.Call(a.page))
	}
	for i, p := range points {
		kind := proto.InputDispatchMouseEventTypeMouseMoved
		if i == 0 {
			kind = proto.InputDispatchMouseEventTypeMousePressed
		}
		send(kind, p, pressure(i))
	}
	send(proto.InputDispatchMouseEventTypeMouseReleased, points[len(points)-1], 0)
}

// controls notes what controls the page shows and which of them are used, by their names with # for numbers, for whoever
// wants to know which no test drives: in the file that JARDIN_CONTROLS names.
func (a *artist) controls() {
	path := os.Getenv("JARDIN_CONTROLS")
	if path == "" {
		return
	}
	_, err := a.page.EvalOnNewDocument(`(() => {
		const of = 'button, a[href], input, textarea, [role=radio], [role=option], [role=menuitem], [role=slider]'
		const note = (kind, el) => {
			const name = (el.getAttribute('aria-label') ?? (el.labels?.[0]?.textContent || el.textContent) ?? '').trim().replace(/\s+/g, ' ').replace(/[0-9]+([.,][0-9]+)?/g, '#').slice(0, 60)
			const all = JSON.parse(localStorage.getItem('controls') ?? '{}')
			const key = el.tagName.toLowerCase() + ' ' + name
			if ((all[key] ?? 0) < kind) localStorage.setItem('controls', JSON.stringify({ ...all, [key]: kind }))
		}
		setInterval(() => document.querySelectorAll(of).forEach((el) => note(1, el)), 250)
		for (const kind of ['pointerdown', 'click', 'change', 'input', 'keydown'])
			addEventListener(kind, (e) => { const el = e.target?.closest?.(of); if (el) note(2, el) }, true)
	})()`)
	require.NoError(a.t, err)
	a.t.Cleanup(func() {
		v, err := a.page.Eval(`() => localStorage.getItem('controls') ?? '{}'`)
		if err != nil {
			return
		}
		f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		if err == nil {
			fmt.Fprintln(f, v.Value.Str())
			f.Close()
		}
	})
}

// shoot takes a picture of the page.
func (a *artist) shoot(path string) {
	data, err := a.page.Screenshot(false, &proto.PageCaptureScreenshot{Format: proto.PageCaptureScreenshotFormatPng})
	if err != nil && !errors.Is(err, os.ErrExist) {
		a.t.Logf("no picture: %v", err)
		return
	}
	require.NoError(a.t, os.WriteFile(path, data, 0o644))
}

// picture keeps a picture for the documentation, if pictures are wanted.
func (a *artist) picture(name string) {
	if dir := os.Getenv("JARDIN_SCREENSHOTS"); dir != "" {
		time.Sleep(500 * time.Millisecond) // exact frames and menus settle
		if !filepath.IsAbs(dir) {
			dir = filepath.Join("..", dir)
		}
		a.shoot(filepath.Join(dir, name+".png"))
	}
}
