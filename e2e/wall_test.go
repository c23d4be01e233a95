package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
)

// The wall: shots are found, named, put in another show; footage from this computer is chosen by a button.
func TestTheWall(t *testing.T) {
	demotest.Share(t, 0)
	t.Parallel()
	s, _ := serveWith(t, "lm_010")
	var shot shotInfo
	a := open(t, s.address)
	a.see("960 × 540")
	a.press("^From this computer$")
	a.see("^Choose files")
	el, err := a.page.Timeout(10 * time.Second).Element(`[aria-label="Movie or stills"]`)
	require.NoError(t, err)
	var stills []string
	for n := 1001; n <= 1003; n++ {
		path, err := filepath.Abs(demotest.Frame(t, demo.PlateFolder, n))
		require.NoError(t, err)
		stills = append(stills, path)
	}
	require.NoError(t, el.CancelTimeout().SetFiles(stills))
	a.see("^3 frames, 1001 to 1003")
	assert.Equal(t, "My show", a.text(`() => [...document.querySelectorAll('label')].find(l => l.textContent.trim() === 'Show').querySelector('input').value`),
		"not among what ships with the application")
	a.fill("Shot", "three")
	a.press("^Bring in$")
	var shots []struct{ ID, Show, Name, State string }
	s.wait(time.Minute, "it to come in", func() bool {
		s.get("/api/shots", &shots)
		return len(shots) == 2 && shots[0].State == "ready" && shots[1].State == "ready"
	})

	a.named("Rename three")
	a.fill("Name of three", "stair_010")
	a.see("^stair_010$")
	a.fill("Show of stair_010", "Another film")
	s.wait(10*time.Second, "another show", func() bool {
		s.get("/api/shots", &shots)
		return shots[0].Show == "Another film" && shots[0].Name == "stair_010"
	})
	shows := func(count int) {
		t.Helper()
		require.NoError(t, a.page.Timeout(10*time.Second).Wait(rod.Eval(`n => document.querySelectorAll('h2').length === n`, count)))
	}
	shows(2)
	a.named("Rename stair_010")
	// A name that is taken, or cannot be, changes nothing and is said.
	a.fill("Show of stair_010", "Winter at Larkmoss")
	s.wait(10*time.Second, "one show", func() bool {
		s.get("/api/shots", &shots)
		return shots[0].Show == shots[1].Show
	})
	shows(1)
	a.named("Rename stair_010")
	a.fill("Name of stair_010", "lm_010")
	a.see("has a shot of that name already")
	a.fill("Name of stair_010", "a/b")
	a.see("letters, digits, spaces")
	s.get("/api/shots/"+shots[1].ID, &shot)
	require.Equal(t, "stair_010", shots[1].Name)

	a.fill("Find a shot", "stair")
	a.page.MustWait(`() => document.querySelectorAll('a[href^="/shots/"]').length === 1`)
	a.fill("Find a shot", "nowhere")
	a.see("^No shot is called so")
}

// Of several sequences that lie together one is chosen, looked at, and brought in; the wall shows a shot's result, and
// how far it is.
func TestOneOfSeveralSequencesComesIn(t *testing.T) {
	demotest.Share(t, 2)
	t.Parallel()
	s, shot := serveWith(t, "lm_010")
	dir := t.TempDir()
	var stills []string
	for n := 1001; n <= 1004; n++ {
		data, err := os.ReadFile(demotest.Frame(t, demo.PlateFolder, n))
		require.NoError(t, err)
		for _, name := range []string{"left", "right"} {
			if name == "right" && n == 1004 {
				continue
			}
			path := filepath.Join(dir, fmt.Sprintf("%s.%d.png", name, n))
			require.NoError(t, os.WriteFile(path, data, 0o644))
			stills = append(stills, path)
		}
	}
	a := open(t, s.address)
	a.see("960 × 540")
	a.see("^Nothing is removed yet$")
	a.press("^From this computer$")
	a.see("^Choose files")
	el, err := a.page.Timeout(10 * time.Second).Element(`[aria-label="Movie or stills"]`)
	require.NoError(t, err)
	require.NoError(t, el.CancelTimeout().SetFiles(stills))
	a.see("several sequences in it")
	a.press("^right.#.png")
	a.see("^3 frames, 1001 to 1003")
	top := `() => [...document.querySelectorAll('button')].find((b) => b.textContent === 'Bring in').getBoundingClientRect().top`
	stood := a.number(top)
	seen := func() [3]float64 {
		v, err := a.page.Eval(`() => { const m = document.querySelector('[role=dialog] img'); if (!m?.complete || !m.naturalWidth) return [0, 0, 0];
			return [m.naturalWidth, m.naturalHeight, Number(m.alt.replace('Frame ', ''))] }`)
		require.NoError(t, err)
		var out [3]float64
		require.NoError(t, v.Value.Unmarshal(&out))
		return out
	}
	s.wait(10*time.Second, "its first frame", func() bool { return seen() == [3]float64{480, 270, 1001} })
	assert.InDelta(t, stood, a.number(top), 1, "what lies below the picture stays where it is")
	require.NoError(t, a.page.MustElement(`[aria-label="Frame that is looked at"]`).Focus())
	a.key(input.ArrowRight)
	s.wait(10*time.Second, "the next one", func() bool { return seen() == [3]float64{480, 270, 1002} })
	a.fill("Shot", "right")
	a.press("^Bring in$")
	var shots []struct{ ID, Name, State string }
	s.wait(time.Minute, "it to come in", func() bool {
		s.get("/api/shots", &shots)
		return len(shots) == 2 && shots[0].State == "ready" && shots[1].State == "ready"
	})

	s.many(shot, 3, "", -1)
	a.visit(s.address)
	a.see("^3 removals")
	s.wait(20*time.Second, "the result", func() bool {
		return a.number(`() => document.querySelectorAll('[data-testid=result][data-ready]').length`) == 1
	})
	// Where a removal lies the result is not the plate.
	at := spotOf(0)
	v := a.number(fmt.Sprintf(`() => { const c = document.querySelector('[data-testid=result][data-ready]'), m = c.parentElement.querySelector('img');
		const o = new OffscreenCanvas(c.width, c.height), g = o.getContext('2d'); g.drawImage(m, 0, 0, c.width, c.height);
		const [p, q] = [g, c.getContext('2d')].map((x) => x.getImageData(%d, %d, 8, 8).data); return p.reduce((s, v, i) => s + Math.abs(v - q[i]), 0) }`,
		int(at.X)-4, int(at.Y)-4))
	assert.Greater(t, v, 100.0)
}
