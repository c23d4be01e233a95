// Package attack attacks a server of its own, as somebody would who means harm or has bad
// luck, and prints a table of what came of it. Everything stays on loopback, and ends.
// "make attack" runs all of it; the tests run a short form.
package attack

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/app/media"
)

// long says that all of it is wanted.
var long = os.Getenv("JARDIN_ATTACK") != ""

const memory = 512 // MiB that the server may take

// A target is a server at work, in a process of its own.
type target struct {
	*testing.T
	data, media string
	args        []string
	cmd         *exec.Cmd
	out         *bytes.Buffer
	url         string
	shot        string
	exported    string // the treatment that must stand at the end
	peak        int    // MiB, of all processes so far
}

var built = sync.OnceValue(func() string {
	path := filepath.Join(os.TempDir(), fmt.Sprintf("jardin-attacked-%d", os.Getpid()))
	out, err := exec.Command("go", "build", "-o", path, "jardin/cmd/jardin").CombinedOutput()
	if err != nil {
		panic(fmt.Sprintf("build the program: %v: %s", err, out))
	}
	return path
})

func attacked(t *testing.T, args ...string) *target {
	// Not t.TempDir: the database's user must be able to pass through.
	dir, err := os.MkdirTemp("", "jardin-attack-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o711))
	g := &target{T: t, data: filepath.Join(dir, "data"), media: filepath.Join(dir, "media"), args: args}
	require.NoError(t, os.Mkdir(g.media, 0o755))
	g.footage("w", 12)
	g.start()
	t.Cleanup(func() {
		g.stop(syscall.SIGTERM)
		os.RemoveAll(dir)
	})
	return g
}

func (g *target) footage(name string, frames int) {
	dir := filepath.Join(g.media, name)
	require.NoError(g, os.MkdirAll(dir, 0o755))
	for n := 1; n <= frames; n++ {
		f := media.NewFrame(96, 64, media.Samples{Depth: 8})
		for i := range f.Codes {
			f.Codes[i] = uint16((i*7 + n*13 + i/288*29) % 251)
		}
		require.NoError(
			g,
			(media.Target{Format: "png", Depth: 8}).Write(
				filepath.Join(dir, fmt.Sprintf("w.%03d.png", n)),
				f,
				media.Shot{},
			),
		)
	}
}

var opened = regexp.MustCompile(`open at (https?://\S+)`)

func (g *target) start() {
	g.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(g, err)
	address := listener.Addr().String()
	listener.Close()
	g.out = &bytes.Buffer{}
	g.cmd = exec.Command(
		built(),
		append(
			[]string{
				"serve",
				"--data",
				g.data,
				"--media",
				g.media,
				"--memory",
				strconv.Itoa(memory),
				"--listen",
				address,
			},
			g.args...)...)
	lines := &locked{buffer: g.out}
	g.cmd.Stdout, g.cmd.Stderr = lines, lines
	require.NoError(g, g.cmd.Start())
	g.url = "http://" + address
	require.Eventually(
		g,
		func() bool { return opened.MatchString(lines.String()) },
		time.Minute,
		20*time.Millisecond,
		"the server starts",
	)
}

type locked struct {
	mu     sync.Mutex
	buffer *bytes.Buffer
}

func (l *locked) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buffer.Write(p)
}

func (l *locked) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buffer.String()
}

func (g *target) stop(signal syscall.Signal) {
	if g.cmd == nil {
		return
	}
	g.measure()
	_ = g.cmd.Process.Signal(signal)
	_ = g.cmd.Wait()
	g.cmd = nil
}

// measure reads the largest size that the server has had.
func (g *target) measure() int {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", g.cmd.Process.Pid))
	if err != nil {
		return g.peak
	}
	for line := range strings.Lines(string(status)) {
		if v, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kB, _ := strconv.Atoi(strings.Fields(v)[0])
			g.peak = max(g.peak, kB>>10)
		}
	}
	return g.peak
}

// ask sends a request, with headers as "Name: value".
func (g *target) ask(method, path, body string, headers ...string) (int, string) {
	g.Helper()
	return g.send(method, path, strings.NewReader(body), int64(len(body)), headers...)
}

var client = &http.Client{Timeout: 2 * time.Minute, Transport: &http.Transport{MaxIdleConnsPerHost: 64}}

func (g *target) send(method, path string, body io.Reader, length int64, headers ...string) (int, string) {
	g.Helper()
	request, err := http.NewRequest(method, g.url, body)
	require.NoError(g, err)
	// As it is, not tidied up.
	request.URL.Opaque = path
	request.ContentLength = length
	if length != 0 {
		request.Header.Set("Content-Type", "application/json")
	}
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		if name == "Host" {
			request.Host = value
		} else {
			request.Header.Set(name, value)
		}
	}
	response, err := client.Do(request)
	if err != nil {
		return 0, err.Error()
	}
	defer response.Body.Close()
	data, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	return response.StatusCode, string(data)
}

func (g *target) bringIn(name, path string) string {
	g.Helper()
	status, answer := g.ask(
		"POST",
		"/api/shots",
		fmt.Sprintf(
			`{"show":"s","name":%q,"path":%q,"first":1,"rate":{"num":24,"den":1},"transfer":"srgb"}`,
			name,
			path,
		),
	)
	require.Equal(g, 201, status, answer)
	var shot struct{ ID, State string }
	require.NoError(g, json.Unmarshal([]byte(answer), &shot))
	g.until("the shot is in", func() bool {
		_, answer := g.ask("GET", "/api/shots/"+shot.ID, "")
		return strings.Contains(answer, `"state":"ready"`)
	})
	return shot.ID
}

func (g *target) until(what string, done func() bool) {
	g.Helper()
	require.Eventually(g, done, 40*time.Second, 30*time.Millisecond, what)
}

const removal = `{"op":"add","path":"/removals/-","value":{"id":"r%d","name":"r","range":{"first":1,"last":12},"reference":6,"mark":{"outlines":[
	{"id":"o","name":"o","kind":"outline","home":6,"points":[{"at":[30,20]},{"at":[56,20]},{"at":[56,46]},{"at":[30,46]}]}]},"follow":{"track":"still"},
	"fill":{"sources":[{"id":"n","name":"n","kind":"neighbour","neighbour":{"frame":6,"offsets":[{"frame":6,"ease":"eased","offset":[-20,0]}]}}]},"settle":{"opacity":1}}}`

func edit(revision int, patch string) string {
	return fmt.Sprintf(`{"revision":%d,"label":"Edit","patch":[%s]}`, revision, patch)
}

// witness makes a shot with a treatment, which must stand whatever happens.
func (g *target) witness() {
	g.Helper()
	g.shot = g.bringIn("witness", filepath.Join(g.media, "w"))
	status, answer := g.ask("PATCH", "/api/shots/"+g.shot+"/treatment", edit(0, fmt.Sprintf(removal, 0)))
	require.Equal(g, 200, status, answer)
	_, g.exported = g.ask("GET", "/api/shots/"+g.shot+"/treatment/export", "")
	require.Contains(g, g.exported, `"r0"`)
}

// stands checks that the server answers and that the witness is what it was.
func (g *target) stands() error {
	status, answer := g.ask("GET", "/api/shots/"+g.shot+"/treatment/export", "")
	if status != 200 || answer != g.exported {
		return fmt.Errorf("the treatment is not what it was: %d %.200s", status, answer)
	}
	if status, _ = g.ask("GET", "/api/shots/"+g.shot+"/frames/3/exact", ""); status != 200 {
		return fmt.Errorf("a plate's frame answers %d", status)
	}
	if status, answer = g.ask("GET", "/api/shots/"+g.shot+"/frames/3/overlay?revision=1&view=result",
		""); status != 200 {
		return fmt.Errorf("a result's frame answers %d: %.100s", status, answer)
	}
	return nil
}

// An attack returns in words what the server did, or an error where it did wrong.
type attack struct {
	name string
	do   func(g *target) (string, error)
}

// refused demands statuses of 400 and above, below 500, and says how many there were.
func refused(n int, status int, answer string) error {
	if status < 400 || status >= 500 {
		return fmt.Errorf("attempt %d was answered with %d: %.200s", n, status, answer)
	}
	return nil
}

// run makes attacks one after the other and prints the table.
func run(t *testing.T, g *target, attacks []attack) {
	var table strings.Builder
	fmt.Fprintf(&table, "\n%-44s %8s %9s  %s\n", "attack", "seconds", "peak MB", "outcome")
	for _, a := range attacks {
		t.Run(a.name, func(t *testing.T) {
			g.T = t
			began := time.Now()
			words, err := a.do(g)
			if err == nil {
				err = g.stands()
			}
			if err != nil {
				words = "FAILED: " + err.Error()
			}
			fmt.Fprintf(&table, "%-44s %8.1f %9d  %s\n", a.name, time.Since(began).Seconds(), g.measure(), words)
			assert.NoError(t, err)
		})
	}
	g.T = t
	t.Log(table.String())
	assert.LessOrEqual(t, g.measure(), memory*5/4, "peak memory of the server, MiB; it may take %d", memory)
}

func TestAttacks(t *testing.T) {
	_ = demotest.Root()
	g := attacked(t)
	g.witness()
	run(t, g, []attack{
		{"names that lead out of folders", hostileNames}, {"other sites, other hosts, forms", foreign},
		{
			"pictures of a few kB and many pixels",
			bombs,
		}, {"patches that grow", patches}, {"numbers and texts out of range", numbers},
		{
			"documents that take for ever",
			heavyDocuments,
		}, {"bodies without end, and slow ones", bodies}, {"playlists, links, paths", outside},
		{
			"clients that ask and leave",
			leavers,
		}, {"the brush channel", brushes}, {"many at once", crowd}, {"late plates", latePlates}, {"kills", kills},
	})
}

func TestWithoutAKey(t *testing.T) {
	dir := t.TempDir()
	out, err := exec.Command(built(), "serve", "--data", dir, "--listen", "0.0.0.0:0").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "--access-key-file")
	file := filepath.Join(dir, "key")
	g := attacked(t, "--access-key-file", file)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	blob, err := os.ReadFile(file)
	require.NoError(t, err)
	key := strings.TrimSpace(string(blob))
	assert.Contains(t, g.cmd.Stdout.(*locked).String(), key, "it is shown once")
	for _, path := range []string{"/api/shots", "/api/folders", "/api/events", "/api/tasks", "/api/usage",
		"/api/openapi.json", "/api/shots/x/frames/1/screen"} {
		status, _ := g.ask("GET", path, "")
		assert.Equal(t, 401, status, path)
	}
	status, _ := g.ask("GET", "/", "")
	assert.Equal(t, 200, status, "the page that asks for it")
	status, _ = g.ask("GET", "/api/shots", "", "Authorization: Bearer wrong")
	assert.Equal(t, 401, status)
	status, _ = g.ask("GET", "/api/shots", "", "Authorization: Bearer "+key)
	assert.Equal(t, 200, status)
	status, _ = g.ask("POST", "/api/session", `{"key":"wrong"}`)
	assert.Equal(t, 403, status)
	request, err := http.NewRequest("POST", g.url+"/api/session", strings.NewReader(`{"key":"`+key+`"}`))
	require.NoError(t, err)
	request.Header.Set("Content-Type", "application/json")
	response, err := client.Do(request)
	require.NoError(t, err)
	response.Body.Close()
	require.Len(t, response.Cookies(), 1)
	c := response.Cookies()[0]
	assert.True(t, c.HttpOnly)
	assert.Equal(t, http.SameSiteStrictMode, c.SameSite)
	assert.NotContains(t, c.Value, key)
	status, _ = g.ask("GET", "/api/shots", "", "Cookie: "+c.Name+"="+c.Value)
	assert.Equal(t, 200, status)
	for range 40 {
		_, _ = g.ask("GET", "/api/shots", "", "Authorization: Bearer guess")
	}
	status, _ = g.ask("GET", "/api/shots", "", "Authorization: Bearer "+key)
	assert.Equal(t, 401, status, "after many wrong keys none is looked at for a while")
	status, _ = g.ask("GET", "/api/shots", "", "Cookie: "+c.Name+"="+c.Value)
	assert.Equal(t, 200, status, "who is in stays in")
}

// A second server on the same data is refused, and the first goes on.
func TestTwoServersOnOneFolder(t *testing.T) {
	g := attacked(t)
	g.witness()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, built(), "serve", "--data", g.data, "--listen", "127.0.0.1:0").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "another Jardin is at work")
	out, err = exec.CommandContext(ctx, built(), "restore", "--data", g.data, "--replace", "/dev/null").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "another Jardin is at work")
	require.NoError(t, g.stands())
}

// A disk that is full refuses what it cannot hold, and loses nothing.
func TestAFullDisk(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root mounts a small disk")
	}
	g := attacked(t)
	g.witness()
	plates := filepath.Join(g.data, "plates")
	kept := filepath.Join(t.TempDir(), "kept")
	g.stop(syscall.SIGTERM)
	require.NoError(t, exec.Command("cp", "-a", plates, kept).Run())
	if err := syscall.Mount("tmpfs", plates, "tmpfs", 0, "size=1m"); err != nil {
		t.Skip("no small disk can be mounted here: ", err)
	}
	defer syscall.Unmount(plates, syscall.MNT_DETACH)
	require.NoError(t, exec.Command("cp", "-a", kept+"/.", plates).Run())
	g.start()
	g.footage("large", 120)
	status, answer := g.ask(
		"POST",
		"/api/shots",
		fmt.Sprintf(
			`{"show":"s","name":"large","path":%q,"first":1,"rate":{"num":24,"den":1},"transfer":"srgb"}`,
			filepath.Join(g.media, "large"),
		),
	)
	require.Equal(t, 201, status, answer)
	g.until("it is said that the disk is full", func() bool {
		_, answer := g.ask("GET", "/api/shots", "")
		return strings.Contains(answer, "disk is full") || strings.Contains(answer, "no space left")
	})
	require.NoError(t, g.stands())
}
