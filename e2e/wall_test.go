package e2e

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
)

// The wall: shots are found, named, put in another show; footage from this computer is chosen by a button.
func TestTheWall(t *testing.T) {
	t.Parallel()
	s := serve(t)
	s.bringIn()
	var shot shotInfo
	a := open(t, s.address)
	a.see("960 × 540")
	a.press("^From this computer$")
	a.see("^Choose files")
	el, err := a.page.Timeout(10 * time.Second).Element(`[aria-label="Movie or stills"]`)
	require.NoError(t, err)
	var stills []string
	for n := 1001; n <= 1003; n++ {
		path, err := filepath.Abs(demo.FramePath(demotest.Footage(t), demo.PlateFolder, n))
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
