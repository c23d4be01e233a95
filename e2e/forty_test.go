package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// spotOf is where one of many removals lies, on the reference frame.
func spotOf(i int) geom.Point { return geom.Pt(float64(90+i%8*110), float64(70+i/8*95)) }

// many puts removals on a shot, each marked, still, and copied from beside; the named ones have a group.
func (s *server) many(shot string, count int, group string, grouped ...int) {
	var all []map[string]any
	for i := range count {
		around := func(r float64) (out []map[string]any) {
			for _, d := range [][2]float64{{-r, -r}, {r, -r}, {r, r}, {-r, r}} {
				out = append(out, map[string]any{"at": [2]float64{spotOf(i).X + d[0], spotOf(i).Y + d[1]}})
			}
			return out
		}
		one := map[string]any{
			"id": fmt.Sprintf("r%d", i), "name": fmt.Sprintf("Marker %d", i+1),
			"range": map[string]int{"first": 1001, "last": 1072}, "reference": 1037,
			"mark": map[string]any{"outlines": []any{map[string]any{
				"id": fmt.Sprintf("o%d", i), "name": "Outline 1", "kind": "outline", "home": 1037, "feather": 2, "points": around(9),
			}}},
			"follow": map[string]string{"track": "still"}, "settle": map[string]int{"opacity": 1},
			"fill": map[string]any{"sources": []any{map[string]any{
				"id": fmt.Sprintf("p%d", i), "name": "Clean plate", "kind": "plate",
				"plate": map[string]any{"frame": 1037, "strokes": []any{map[string]any{
					"id": fmt.Sprintf("s%d", i), "mode": "clone", "home": 1037, "size": 1, "hardness": 1, "opacity": 1,
					"from": map[string]any{"offset": [2]int{34, 8}}, "area": map[string]any{"points": around(13), "feather": 3},
				}}},
			}}},
		}
		for _, g := range grouped {
			if g == i {
				one["group"] = group
			}
		}
		all = append(all, one)
	}
	patch, err := json.Marshal([]any{map[string]any{"op": "replace", "path": "/removals", "value": all}})
	require.NoError(s.t, err)
	s.patch("/api/shots/"+shot+"/treatment", fmt.Sprintf(`{"revision":0,"label":"Many","patch":%s}`, patch))
}

func (s *server) order(shot string) string {
	var names []string
	doc, _ := s.whole(shot)
	for _, r := range doc.Removals {
		name := strings.TrimPrefix(r.Name, "Marker ")
		if r.Group != "" {
			name += ":" + r.Group
		}
		names = append(names, name)
	}
	return strings.Join(names, " ")
}

// A list of many removals: found, picked, put elsewhere, grouped, changed at once; opened by a click on the picture.
func TestManyRemovals(t *testing.T) {
	demotest.Share(t, 4)
	t.Parallel()
	s, shot := serveWith(t, "lm_010")
	s.many(shot, 8, "", -1)
	a := open(t, s.address+"/shots/"+shot)
	a.steady(1001)
	is := func(what, want string) {
		t.Helper()
		s.wait(10*time.Second, what, func() bool { return s.order(shot) == want })
	}

	// A click on the picture opens what lies there; another one, another.
	a.click(spotOf(5))
	opened := func(name string) {
		t.Helper()
		_, err := a.page.Timeout(10 * time.Second).Element(`section[aria-label="Removal ` + name + `"]`)
		require.NoError(t, err, name)
	}
	opened("Marker 6")
	a.key(input.Digit2)
	a.click(spotOf(2))
	opened("Marker 3")
	assert.Equal(t, "follow", a.text(`() => new URLSearchParams(location.search).get('stage')`), "the stage stays")

	// Back and forward go between what was open.
	require.NoError(t, a.page.NavigateBack())
	opened("Marker 6")
	require.NoError(t, a.page.NavigateForward())
	opened("Marker 3")

	// Keys and the mouse put it elsewhere.
	row := func(name string) proto.Point {
		el, err := a.page.Timeout(10*time.Second).ElementR(`[data-row] > button`, name)
		require.NoError(t, err, name)
		box := el.CancelTimeout().MustShape().Box()
		return proto.Point{X: box.X + 60, Y: box.Y + box.Height/2}
	}
	el, err := a.page.ElementR(`[data-row] > button`, "^Marker 3$")
	require.NoError(t, err)
	require.NoError(t, el.Focus())
	require.NoError(t, a.page.Keyboard.Press(input.AltLeft))
	a.key(input.ArrowUp)
	is("a step up", "1 3 2 4 5 6 7 8")
	a.key(input.ArrowDown, input.ArrowDown)
	require.NoError(t, a.page.Keyboard.Release(input.AltLeft))
	is("two steps down", "1 2 4 3 5 6 7 8")
	a.press("^Undo$")
	a.press("^Undo$")
	is("and back", "1 3 2 4 5 6 7 8")
	a.press("^Undo$")
	is("all back", "1 2 3 4 5 6 7 8")
	a.press("Marker 3") // folded, the list has room
	m := a.page.Mouse
	require.NoError(t, m.MoveTo(row("^Marker 7$")))
	require.NoError(t, m.Down(proto.InputMouseButtonLeft, 1))
	to := row("^Marker 2$")
	to.Y -= 8
	require.NoError(t, m.MoveLinear(to, 6))
	require.NoError(t, m.Up(proto.InputMouseButtonLeft, 1))
	is("dragged", "1 7 2 3 4 5 6 8")
	assert.Empty(t, a.text(`() => document.querySelector('section[aria-label^="Removal "]')?.ariaLabel ?? ''`), "the drag opens nothing")

	// Several are picked, grouped and changed at once.
	require.NoError(t, a.page.Keyboard.Press(input.ControlLeft))
	for _, name := range []string{"^Marker 1$", "^Marker 4$"} {
		require.NoError(t, m.MoveTo(row(name)))
		require.NoError(t, m.Click(proto.InputMouseButtonLeft, 1))
	}
	require.NoError(t, a.page.Keyboard.Release(input.ControlLeft))
	a.see("^2 picked")
	a.fill("Group of the picked removals", "Wall")
	is("a group", "1:Wall 4:Wall 7 2 3 5 6 8")
	a.fill("Feather of the picked removals", "7")
	a.named("rose")
	s.wait(10*time.Second, "both to change", func() bool {
		doc, _ := s.whole(shot)
		for _, r := range doc.Removals {
			if wants := r.Group == "Wall"; (r.Mark.Outlines[0].Feather == 7) != wants || (r.Colour == "rose") != wants {
				return false
			}
		}
		return true
	})
	a.picture("many")
	a.press("^Let go$")
	// The group's switch is that of all; it is folded, moved and filtered.
	a.named("Use all of Wall")
	s.wait(10*time.Second, "both left out", func() bool {
		doc, _ := s.whole(shot)
		return doc.Removals[0].Off && doc.Removals[1].Off && !doc.Removals[2].Off
	})
	a.press("^Wall")
	a.see("^2, folded")
	el, err = a.page.ElementR(`button[aria-expanded]`, "^Wall")
	require.NoError(t, err)
	require.NoError(t, el.Focus())
	require.NoError(t, a.page.Keyboard.Press(input.AltLeft))
	a.key(input.ArrowDown)
	require.NoError(t, a.page.Keyboard.Release(input.AltLeft))
	is("the group goes down as one", "7 1:Wall 4:Wall 2 3 5 6 8")
	rows := func() float64 { return a.number(`() => document.querySelectorAll('[data-row]').length`) }
	assert.EqualValues(t, 7, rows(), "six removals and the folded group")
	a.from("Which removals are listed", "^Left out$")
	assert.EqualValues(t, 1, rows())

	// After a reload all is as it was: frame, removal, stage, what is folded.
	a.from("Which removals are listed", "^All 8$")
	a.press("^Marker 5$")
	a.goTo(1012)
	a.key(input.Digit3)
	time.Sleep(500 * time.Millisecond)
	require.NoError(t, a.page.Reload())
	a.steady(1012)
	opened("Marker 5")
	assert.Equal(t, "fill", a.text(`() => new URLSearchParams(location.search).get('stage')`))
	assert.EqualValues(t, 7, rows())
}

// TestForty prints how a shot with forty removals feels. It asserts nothing: machines differ. Run it with "make bench".
func TestForty(t *testing.T) {
	if os.Getenv("JARDIN_BENCH") == "" {
		t.Skip("this is a bench; make bench runs it")
	}
	s, shot := serveWith(t, "lm_010")
	s.many(shot, 40, "", -1)
	a := blank(t)
	began := time.Now()
	a.visit(s.address + "/shots/" + shot)
	a.steady(1001)
	fmt.Printf("40 removals at 960 x 540: the first frame after  %4.0f ms   (aim: under 2000)\n", time.Since(began).Seconds()*1000)
	var steps []float64
	for range 12 {
		v, err := a.page.Eval(`() => new Promise(done => {
			const canvas = document.querySelector('[data-testid=picture]'), from = Number(canvas.dataset.frame), began = performance.now();
			const shown = () => canvas.dataset.frame == from + 1 && canvas.dataset.ready == 'true';
			const watch = new MutationObserver(() => { if (shown()) { watch.disconnect(); done(performance.now() - began) } });
			watch.observe(canvas, { attributes: true });
			document.body.dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowRight', bubbles: true }));
		})`)
		require.NoError(t, err)
		steps = append(steps, v.Value.Num())
		time.Sleep(600 * time.Millisecond)
	}
	fmt.Printf("a step, median %4.0f, worst %4.0f ms   (aim: under 200)\n", quantile(steps, 0.5), quantile(steps, 1))
	a.press("^Marker 12$")
	a.press("^Outline 1")
	var changes []float64
	for i := range 8 {
		v, err := a.page.Eval(`v => new Promise(done => {
			const canvas = document.querySelector('[data-testid=picture]'), slider = document.querySelector('[aria-label="Feather, slider"]');
			const key = canvas.dataset.key, began = performance.now();
			const watch = new MutationObserver(() => { if (canvas.dataset.key != key && canvas.dataset.ready == 'true') { watch.disconnect(); done(performance.now() - began) } });
			watch.observe(canvas, { attributes: true });
			Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(slider, v);
			slider.dispatchEvent(new Event('input', { bubbles: true }));
		})`, 4+i)
		require.NoError(t, err)
		changes = append(changes, v.Value.Num())
		time.Sleep(400 * time.Millisecond)
	}
	fmt.Printf("a feather that is dragged, median %4.0f, worst %4.0f ms   (aim: under 150)\n", quantile(changes, 0.5), quantile(changes, 1))

	// With 1,000 strokes on the first of them, from the wall, once the server runs anew.
	doc, _ := s.whole(shot)
	plate := doc.Removals[0].Fill.Sources[0].Plate
	plate.Strokes = slices.Concat(plate.Strokes, strokesIn(geom.Box{Min: geom.Pt(60, 60), Max: geom.Pt(820, 470)}, 1037, 1000))
	doc.Removals[0].Mark.Outlines[0].Points = []treatment.Knot{{At: treatment.Vec{40, 40}}, {At: treatment.Vec{920, 40}}, {At: treatment.Vec{920, 500}}, {At: treatment.Vec{40, 500}}}
	s.put(shot, doc)
	for _, what := range []string{"for the first time", "once more"} {
		s.stop(os.Interrupt)
		s.start()
		b := open(t, s.address)
		card, err := b.page.Timeout(30*time.Second).ElementR("a", "lm_010")
		require.NoError(t, err)
		time.Sleep(time.Second) // as a hand does that looks for it
		began := b.number(`() => performance.now()`)
		require.NoError(t, card.Click(proto.InputMouseButtonLeft, 1))
		fmt.Printf("40 removals and 1,000 strokes, opened on the wall %s: the first frame after %4.0f ms   (aim: 1000)\n", what, b.opened()-began)
	}
}

// A key is changed, does what the other one did, and still does after a reload.
func TestAKeyOfOnesOwn(t *testing.T) {
	demotest.Share(t, 3)
	t.Parallel()
	s, shot := serveWith(t, "lm_010")
	a := open(t, s.address+"/shots/"+shot)
	a.steady(1001)
	shown := func() string {
		return a.text(`() => document.querySelector('[aria-label="What to show"] [aria-checked=true]').textContent`)
	}
	a.press("^Keys$")
	a.named("Q: plate")
	a.key(input.KeyW)
	a.see("^W is for: patch. Change that first.")
	a.named("Q: plate")
	a.key(input.KeyZ)
	_, err := a.page.Timeout(5 * time.Second).Element(`[aria-label="Z: plate"]`)
	require.NoError(t, err)
	a.press("^Close$")
	for range 2 {
		a.key(input.KeyQ)
		assert.Equal(t, "Result", shown(), "it was given away")
		a.key(input.KeyZ)
		assert.Equal(t, "Plate", shown())
		a.key(input.KeyE)
		assert.Equal(t, "Result", shown())
		time.Sleep(500 * time.Millisecond)
		require.NoError(t, a.page.Reload())
		a.steady(1001)
	}
}
