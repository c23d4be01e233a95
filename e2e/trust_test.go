package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/geom"
)

// kill ends the server at once; again starts it where it was.
func (s *server) kill() { s.stop(os.Kill) }

func (s *server) again(args ...string) {
	s.t.Helper()
	s.start(append(args, "--listen", strings.TrimPrefix(s.address, "http://"))...)
}

func (s *server) paintedIn(shot string) (n int) {
	for _, source := range s.removal(shot).Fill.Sources {
		n += len(source.Strokes())
	}
	return n
}

// The server dies in the middle of work, several times over: what is done meanwhile is shown,
// kept, told of, and saved when it is back; over a reload, and when Fill was left, too.
func TestWorkWaitsForTheServer(t *testing.T) {
	demotest.Share(t, 1)
	t.Parallel()
	s, a, shot := easel(t)
	dot := demotest.Truth(t).Dots[0].Point()
	a.with(input.KeyS, func() { a.click(dot.Add(geom.Pt(-32, -20))) })
	a.rub(dot, 12)
	s.wait(20*time.Second, "a stroke", func() bool { return s.paintedIn(shot) == 1 })

	// An edit, and a stroke, while nobody answers; Fill is left before anybody does.
	s.kill()
	a.fill("Name of the removal", "While away")
	a.rub(dot.Add(geom.Pt(20, 10)), 12)
	a.rub(dot.Add(geom.Pt(30, 20)), 12)
	a.see("3 changes are unsent")
	a.key(input.Digit1)
	a.see("While away")
	s.again()
	s.wait(
		30*time.Second,
		"all of it",
		func() bool { return s.removal(shot).Name == "While away" && s.paintedIn(shot) == 3 },
	)
	a.page.MustWait(`() => !document.body.innerText.includes('unsent')`)

	// The page is loaded anew before anything could be sent.
	s.kill()
	a.fill("Name of the removal", "Before the reload")
	a.key(input.Digit4)
	a.fill("Opacity", "40")
	a.see("2 changes are unsent")
	s.again()
	require.NoError(t, a.page.Reload())
	s.wait(30*time.Second, "both edits", func() bool {
		r := s.removal(shot)
		return r.Name == "Before the reload" && r.Settle.Opacity == 0.4
	})

	// A third time, to see that it is not the first only.
	_, err := a.page.Timeout(20 * time.Second).Element(`section[aria-label="Removal Before the reload"]`)
	require.NoError(t, err, "it is open as it was")
	s.kill()
	a.fill("Opacity", "70")
	a.see("One change is unsent")
	s.again()
	s.wait(30*time.Second, "the edit", func() bool { return s.removal(shot).Settle.Opacity == 0.7 })

	// In the middle of a stroke, undo takes back the stroke, and nothing else.
	a.key(input.Digit3)
	a.goTo(1037)
	a.with(input.KeyS, func() { a.click(dot.Add(geom.Pt(-32, -20))) })
	before := s.paintedIn(shot)
	m := a.page.Mouse
	require.NoError(t, m.MoveTo(a.at(dot.Add(geom.Pt(10, 90)))))
	require.NoError(t, m.Down("left", 1))
	for k := range 5 {
		require.NoError(t, m.MoveTo(a.at(dot.Add(geom.Pt(10+8*float64(k), 90)))))
	}
	require.NoError(t, a.page.Keyboard.Press(input.ControlLeft))
	a.key(input.KeyZ)
	require.NoError(t, a.page.Keyboard.Release(input.ControlLeft))
	require.NoError(t, m.Up("left", 1))
	time.Sleep(500 * time.Millisecond)
	assert.Equal(t, before, s.paintedIn(shot))
	assert.InDelta(t, 0.7, s.removal(shot).Settle.Opacity, 1e-9, "what was done before stands")
}

// History: who did what and when; a look at a state; back to one, and nothing is lost.
func TestHistoryByHand(t *testing.T) {
	demotest.Share(t, 4)
	t.Parallel()
	s, a, shot := prepared(t)
	b := open(t, s.address+"/shots/"+shot)
	b.steady(1001)
	a.press("^History$")
	a.fill("Your name", "Mara")
	a.key(input.Escape)
	a.fill("Name of the removal", "Marks on the wall")
	b.press("^History$")
	b.fill("Your name", "Tomas")
	b.key(input.Escape)
	b.press("^Marks on the wall")
	b.key(input.Digit4)
	b.fill("Opacity", "50")
	s.wait(10*time.Second, "both edits", func() bool { return s.removal(shot).Settle.Opacity == 0.5 })
	a.fill("Name of the removal", "Dots")
	a.press("^History$")
	a.see("Tomas, ")
	a.see("you, ")
	a.picture("history")
	a.press(`Mara|you, `)
	var states []struct {
		Number        int
		Label, Author string
		InForce       bool
	}
	s.get("/api/shots/"+shot+"/history", &states)
	require.GreaterOrEqual(t, len(states), 4)
	assert.Equal(t, "Mara", states[0].Author)
	assert.Equal(t, "Tomas", states[1].Author)
	// Back to where the opacity was not changed yet.
	el, err := a.page.Timeout(5 * time.Second).
		ElementX(`//ol[@aria-label="States"]//button[contains(., "` + states[2].Label + `")]`)
	require.NoError(t, err)
	require.NoError(t, el.Click("left", 1))
	a.press("^Go back to this state$")
	s.wait(10*time.Second, "the earlier state", func() bool {
		r := s.removal(shot)
		return r.Settle.Opacity == 1 && r.Name == "Marks on the wall"
	})
	a.press("^Undo$")
	s.wait(
		10*time.Second,
		"and forward again",
		func() bool { r := s.removal(shot); return r.Settle.Opacity == 0.5 && r.Name == "Dots" },
	)
	// What the other did is not taken back with one's own.
	b.press("^Undo$")
	s.wait(
		10*time.Second,
		"the other's own",
		func() bool { r := s.removal(shot); return r.Settle.Opacity == 1 && r.Name == "Dots" },
	)
}

// The server's key: asked for once, and remembered by the browser.
func TestEnteringWithTheKey(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "key")
	s := serve(t, "--access-key-file", file)
	key, err := os.ReadFile(file)
	require.NoError(t, err)
	a := blank(t)
	require.NoError(t, a.page.Navigate(s.address))
	a.see("This server’s key")
	a.fill("This server’s key", "not the key")
	a.press("^Enter$")
	a.see("This is not the key")
	a.fill("This server’s key", strings.TrimSpace(string(key)))
	a.press("^Enter$")
	a.see("There are no shots yet")
	require.NoError(t, a.page.Reload())
	a.see("There are no shots yet")
	v, err := a.page.Eval(`() => document.cookie`)
	require.NoError(t, err)
	assert.Empty(t, v.Value.Str(), "no script can read it")
}

// A shot is deleted, after a question, taken back, and removed for good.
func TestDeletingAShot(t *testing.T) {
	t.Parallel()
	s, shot := serveWith(t, "lm_010")
	a := open(t, s.address)
	a.press("^Delete…$")
	a.see("can be taken back from the foot of this wall")
	a.press("^Keep it$")
	a.press("^Delete…$")
	a.press("^Delete lm_010$")
	a.see("for 30 more days")
	var shots []shotInfo
	s.get("/api/shots", &shots)
	assert.Empty(t, shots)
	plates := filepath.Join(s.data, "plates", shot)
	assert.DirExists(t, plates)
	a.press("^Take back$")
	s.wait(
		10*time.Second,
		"the shot to be back",
		func() bool { s.get("/api/shots", &shots); return len(shots) == 1 && shots[0].State == "ready" },
	)
	a.press("^Delete…$")
	a.press("^Delete lm_010$")
	a.press("^Remove for good…$")
	a.press("^Remove it with all that was done$")
	s.wait(10*time.Second, "the plates to go", func() bool { _, err := os.Stat(plates); return os.IsNotExist(err) })
}
