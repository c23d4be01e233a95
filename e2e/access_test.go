package e2e

import (
	"jardin/app/demo/demotest"

	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A fault is something that keeps people out: a contrast that is too weak, a control without a name, one that no key reaches.
type fault struct {
	ID, Impact, Help string
	Nodes            []struct {
		HTML, FailureSummary string
	}
}

// faults looks over the page by axe-core (WCAG 2.1, levels A and AA) for what is serious or worse.
func (a *artist) faults(screen string) {
	a.t.Helper()
	program, err := os.ReadFile(filepath.Join("..", "web", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(a.t, err, "make web installs it")
	_, err = proto.RuntimeEvaluate{Expression: string(program)}.Call(a.page)
	require.NoError(a.t, err)
	time.Sleep(300 * time.Millisecond) // what is shown has faded in
	v, err := a.page.Eval(`async () => (await axe.run({ exclude: ['[data-headlessui-focus-guard]'] }, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa'] })).violations
		.map(v => ({ ID: v.id, Impact: v.impact, Help: v.help, Nodes: v.nodes.slice(0, 4).map(n => ({ HTML: n.html.slice(0, 260), FailureSummary: n.failureSummary })) }))`)
	require.NoError(a.t, err)
	var found []fault
	require.NoError(a.t, v.Value.Unmarshal(&found))
	for _, f := range found {
		if f.Impact == "serious" || f.Impact == "critical" {
			assert.Fail(a.t, screen+": "+f.Help, "%s\n%+v", f.ID, f.Nodes)
		}
	}
}

// No screen has a serious fault: the wall, bringing in, the bench with each stage, and all that opens over it.
func TestEveryScreenIsOpenToAll(t *testing.T) {
	demotest.Share(t, 0)
	t.Parallel()
	s, shot := serveWith(t, "lm_010")
	s.many(shot, 12, "Wall", 2, 3)
	a := open(t, s.address)
	a.see("960 × 540")
	a.faults("wall")
	a.press("^Bring in a shot")
	a.see("footage")
	a.faults("bringing in")
	a.key(input.Escape)
	a.visit(s.address + "/shots/" + shot)
	a.steady(1001)
	a.faults("bench")
	a.press("^Marker 2$")
	a.press("^Outline 1")
	for key, stage := range map[input.Key]string{
		input.Digit1: "mark", input.Digit2: "follow", input.Digit3: "fill", input.Digit4: "settle", input.Digit5: "guard",
	} {
		a.key(key)
		a.steady(1001)
		a.faults(stage)
	}
	for _, opens := range []string{"^Looks$", "^Judge track$", "^Colour, 0.0 EV$", "^Keys$", "^History$", "^Work$", "^Render"} {
		a.press(opens)
		time.Sleep(200 * time.Millisecond)
		a.faults(opens)
		a.key(input.Escape)
		time.Sleep(200 * time.Millisecond)
	}
	require.NoError(t, a.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 1920, Height: 1080, DeviceScaleFactor: 1}))
	a.faults("bench at 1920 x 1080")
}
