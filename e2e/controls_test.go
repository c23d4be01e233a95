package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/camera"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// sweep uses every control within a part of the page that holds a value: what is folded away is unfolded, numbers are typed,
// boxes are switched on and off again, of choices that are in sight each is chosen. It returns what each holds in the end,
// by its name, as it stands on the page.
const sweep = `async (within, drive, first) => {
	const rest = (ms) => new Promise((done) => setTimeout(done, ms))
	const root = () => document.querySelector(within)
	const seen = (el) => el.getClientRects().length > 0 && !el.disabled
	for (let i = 0; i < 3; i++) {
		for (const b of root().querySelectorAll('button[aria-expanded=false]')) if (!b.hasAttribute('aria-haspopup') && seen(b) && !/^(Mark|Follow|Fill|Settle|Guard)/.test(b.textContent)) b.click()
		await rest(12)
	}
	const named = (el) => (el.getAttribute('aria-label') ?? el.labels?.[0]?.textContent ?? '').trim()
	const fields = () => [...root().querySelectorAll('input')].filter((el) => seen(el) && !['file', 'range', 'color', 'radio'].includes(el.type))
	const all = (list) => {
		const count = {}
		return list.map((el) => { const n = named(el); count[n] = (count[n] ?? 0) + 1; return [n + (count[n] > 1 ? ' ' + count[n] : ''), el] })
	}
	const set = (el, v) => {
		el.focus()
		Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(el, v)
		el.dispatchEvent(new Event('input', { bubbles: true }))
		el.blur()
	}
	if (drive) {
		for (const group of root().querySelectorAll('[role=radiogroup]')) {
			if (!seen(group) || group.getAttribute('aria-label') === 'What the brush does') continue
			const was = [...group.querySelectorAll('[role=radio]')].findIndex((r) => r.getAttribute('aria-checked') === 'true')
			const n = group.querySelectorAll('[role=radio]').length
			for (let i = 0; i <= n; i++) {
				const radios = [...group.querySelectorAll('[role=radio]')]
				if (!group.isConnected || radios.length !== n) break
				radios[i === n ? Math.max(was, 0) : i].click()
				await rest(10)
			}
		}
		for (const [name] of all(fields())) {
			if (/of the removal/.test(name) && !first) continue
			const el = all(fields()).find(([n]) => n === name)?.[1]
			if (!el) continue // what was typed before has put it away
			if (el.type === 'checkbox') {
				const was = el.checked
				el.click()
				await rest(12)
				const again = all(fields()).find(([n]) => n === name)?.[1]
				if (again && again.checked !== was) again.click()
				await rest(12)
				continue
			}
			if (el.inputMode !== 'decimal') {
				set(el, (el.value || 'Moss') + ' b')
				await rest(12)
				continue
			}
			const slider = el.parentElement.querySelector('input[type=range]')
			const now = Number(el.value)
			let next = now + 1
			if (slider) {
				const [low, high] = [Number(slider.min), Number(slider.max)]
				next = now + (high - now) / 3
				if (Math.abs(next - now) < (high - low) / 50) next = now - (now - low) / 3
				next = Math.round(next * 100) / 100
				if (slider.step >= 1) next = Math.round(next)
			}
			set(el, String(next))
			await rest(12)
		}
	}
	await rest(drive ? 150 : 60)
	// Of choices that open the next one is taken.
	const lists = () => [...root().querySelectorAll('button[aria-haspopup=listbox]')].filter((el) => seen(el) && named(el).includes(': '))
	for (const name of drive ? lists().map((el) => named(el).split(': ')[0]) : []) {
		if (name === 'The track that carries the removal') continue // it would put the others away
		const button = lists().find((el) => named(el).startsWith(name + ': '))
		button?.focus()
		button?.dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowDown', bubbles: true }))
		await rest(60)
		const options = [...document.querySelectorAll('[role=option]')]
		const was = options.findIndex((o) => o.getAttribute('aria-selected') === 'true')
		options[(was + 1) % options.length]?.click()
		await rest(80)
	}
	return JSON.stringify(Object.fromEntries([
		...all(fields()).map(([n, el]) => [n, el.type === 'checkbox' ? String(el.checked) : el.value]),
		...lists().map((el) => named(el).split(': ')),
	]))
}`

// sweep uses the controls of a part of the page, or only looks at them; first also those of a removal's own.
func (a *artist) sweep(within string, drive, first bool) map[string]string {
	a.t.Helper()
	v, err := a.page.Eval(sweep, within, drive, first)
	require.NoError(a.t, err, within)
	out := map[string]string{}
	require.NoError(a.t, json.Unmarshal([]byte(v.Value.Str()), &out))
	return out
}

// Every control of the five stages that holds a value, of each kind of source, front, stroke and shape, is used once; what it
// then says is what the server has: it says the same after a reload. A page that fails, or complains, fails the test.
func TestEveryControlIsKept(t *testing.T) {
	demotest.Share(t, 1)
	everyControl(t, false)
}

func TestEveryControlOfFillIsKept(t *testing.T) {
	if os.Getenv("JARDIN_BENCH") == "" {
		t.Skip("for make bench: it takes as long as all of the others together")
	}
	everyControl(t, true)
}

// everyControl drives those of Fill, or of the other stages.
func everyControl(t *testing.T, fill bool) {
	t.Parallel()
	known := demotest.Truth(t)
	s, shot := serveWith(t, "lm_010")
	square := func(id, kind string, x, y float64) treatment.Shape {
		k := func(dx, dy float64) treatment.Knot {
			return treatment.Knot{At: treatment.Vec{x + dx, y + dy}, Width: 4}
		}
		return treatment.Shape{ID: id, Name: id, Kind: kind, Home: known.Reference, Feather: 2, Points: []treatment.Knot{k(0, 0), k(24, 0), k(24, 24), k(0, 24)}}
	}
	stroke := func(id, mode string) treatment.Stroke {
		return treatment.Stroke{
			ID: id, Mode: mode, Home: known.Reference, Size: 20, Hardness: 0.5, Opacity: 1, From: &treatment.From{Offset: treatment.Vec{30, 10}},
			Path: &treatment.Path{Points: [][]float64{{210, 150}, {220, 155}}},
		}
	}
	area := stroke("area", "heal")
	area.Path, area.Area = nil, &treatment.Area{Points: square("a", treatment.Outline, 200, 150).Points, Feather: 4}
	one := 1.0
	area.Texture = &one
	grade := treatment.Plain
	frame := known.Reference
	r := treatment.Removal{
		ID: "r", Name: "Moss", Off: true /* its pixels are not what this is about */, Range: treatment.Range{First: 1020, Last: 1050}, Reference: frame,
		Mark:   treatment.Mark{Outlines: []treatment.Shape{square("curve", treatment.Outline, 200, 140), square("wire", treatment.Strand, 260, 140)}},
		Follow: treatment.Follow{Track: "plane"},
		Fill: treatment.Fill{Sources: []treatment.Source{
			{ID: "plate", Name: "Held", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: frame, Strokes: []treatment.Stroke{stroke("clone", "clone"), area}}},
			{ID: "paint", Name: "Paint", Kind: treatment.Travelling, Paint: &treatment.Paint{Strokes: []treatment.Stroke{stroke("soft", "soften")}}},
			{ID: "beside", Name: "Beside", Kind: treatment.Beside, Neighbour: &treatment.Neighbour{Frame: frame, Offsets: []treatment.OffsetKey{{Frame: frame, Ease: treatment.Linear, Offset: treatment.Vec{40, 8}}}}},
			{ID: "time", Name: "Time", Kind: treatment.Gathered, Off: true, Gathered: &treatment.Gathering{Frame: frame, Over: 4}},
			{ID: "spread", Name: "Edge", Kind: treatment.Spread, Off: true, Spread: &treatment.Spreading{Frame: frame}},
			{ID: "grown", Name: "Grew", Kind: treatment.Grown, Off: true, Grown: &treatment.Growth{Frame: frame}},
			{ID: "even", Name: "Even", Kind: treatment.Evened, Evened: &treatment.Evening{Takes: treatment.EvenCoarse, Scale: 6, Amount: 0.5}},
			{ID: "tone", Name: "Flat", Kind: treatment.Toned, Tone: &treatment.FlatTone{Frame: frame, Rim: true}},
		}},
		Settle: treatment.Settle{
			Opacity: 1, Feather: 2, Light: &treatment.Light{Scale: 20, Strength: 1, Over: 2},
			Softness: &treatment.Softness{Match: true, Over: 2},
			Grain: &treatment.Grain{
				Kind: treatment.MadeGrain, Denoise: &treatment.Denoise{Strength: [3]float64{0.5, 0.5, 0.5}},
				Model: &treatment.GrainModel{Light: []float64{0.1, 0.5}, Sigma: [3][]float64{{0.01, 0.02}, {0.01, 0.02}, {0.02, 0.03}}, Shape: [3][]float64{{1}, {1}, {1}}},
			},
			Tones: []treatment.Tone{{ID: "lift", Name: "Lift", Grade: grade}},
		},
		Guard: &treatment.Guard{Fronts: []treatment.Front{
			{ID: "by-o", Name: "Glove", By: treatment.ByOutline, Shapes: []treatment.Shape{square("hand", treatment.Outline, 330, 140)}},
			{ID: "by-c", Name: "Coat", By: treatment.ByColour, Key: &treatment.FrontKey{Colour: [3]float64{0.2, 0.1, 0.05}, Near: 10, Far: 25}},
			{ID: "by-b", Name: "Rail", By: treatment.ByBrightness, Key: &treatment.FrontKey{Near: 20, Far: 40}},
		}},
	}
	tracks := []treatment.Track{{
		ID: "plane", Name: "Wall", Kind: treatment.PlaneTrack, Home: frame, Motion: "perspective",
		Region: []treatment.Vec{{150, 100}, {400, 100}, {400, 260}, {150, 260}}, Exclusions: []treatment.Shape{square("left out", treatment.Outline, 300, 200)},
	}}
	patch, err := json.Marshal([]any{
		map[string]any{"op": "replace", "path": "/tracks", "value": tracks},
		map[string]any{"op": "replace", "path": "/removals", "value": []treatment.Removal{r}},
	})
	require.NoError(t, err)
	s.patch("/api/shots/"+shot+"/treatment", fmt.Sprintf(`{"revision":0,"label":"All there is","patch":%s}`, patch))

	a := open(t, s.address+"/shots/"+shot)
	a.steady(1001)
	a.goTo(frame)
	a.press("^Moss")
	revision := func() int { return s.revision(shot) }
	driven := 0
	for _, stage := range []struct {
		key   input.Key
		parts []string // what is opened in its lists, one after the other
	}{
		{input.Digit1, []string{"^curve", "^wire"}},
		{input.Digit2, []string{"", "^left out"}},
		{input.Digit3, []string{"^Held", "^Stroke 1", "^Stroke 2", "^Paint", "^Beside", "^Time", "^Edge", "^Grew", "^Even", "^Flat"}},
		{input.Digit4, []string{"^Lift"}},
		{input.Digit5, []string{"^Glove", "^Coat", "^Rail"}},
	} {
		if fill != (stage.key == input.Digit3) {
			continue
		}
		look := func(part string, drive bool) map[string]string {
			a.key(stage.key, input.KeyQ)
			if strings.Contains(part, "Stroke") || strings.Contains(part, "Moss b") { // they are those of the source that is open
				part = "^Held|" + part
			}
			for _, open := range strings.Split(part, "|") {
				if open != "" && a.number(`words => [...document.querySelectorAll('button[aria-pressed=true]')].filter((b) => new RegExp(words).test(b.textContent)).length`, open) == 0 {
					a.press(open)
				}
			}
			time.Sleep(120 * time.Millisecond)
			return a.sweep(`section[aria-label^="Removal "]`, drive, driven == 0)
		}
		last := revision()
		for i, part := range stage.parts {
			driven += len(look(part, true))
			// Strokes had no names of their own.
			stage.parts[i] = map[string]string{"^Stroke 1": "^Moss b, Clone", "^Stroke 2": "^Moss b, Heal"}[part]
			if stage.parts[i] == "" {
				stage.parts[i] = part
			}
			now := revision()
			s.wait(10*time.Second, "something to be changed by "+part, func() bool { now = revision(); return now > last })
			last = now
		}
		// In the page, and, once all is saved, in another one.
		want := map[string]map[string]string{}
		for _, part := range stage.parts {
			want[part] = look(part, false)
		}
		last = s.quiet(shot)
		a.visit(s.address + "/shots/" + shot + a.text(`() => location.search`))
		a.steady(frame)
		for _, part := range stage.parts {
			got := look(part, false)
			for name, v := range want[part] {
				if name == "Steady" || name == "Shows" { // how something is looked at, or done next, is the page's alone
					continue
				}
				assert.Equal(t, v, got[name], "%s, %s: after a reload", part, name)
			}
		}
	}
	t.Logf("%d controls hold what they were set to", driven)
	assert.Greater(t, driven, 100)
}

// revision returns the number of a shot's newest revision.
func (s *server) revision(shot string) int {
	var rev struct{ Number int }
	s.get("/api/shots/"+shot+"/treatment", &rev)
	return rev.Number
}

// quiet waits until no change has come for two seconds, as on a busy machine one may take a while, and returns the newest revision.
func (s *server) quiet(shot string) (last int) {
	same := 0
	s.wait(90*time.Second, "all to be saved", func() bool {
		was := last
		last = s.revision(shot)
		time.Sleep(250 * time.Millisecond)
		if was != last {
			same = 0
		}
		same++
		return same > 8
	})
	return last
}

// The same of the set's: the lens, what is known of the camera, and a card, which fills the picture when it is seen flat.
func TestEveryControlOfTheSetIsKept(t *testing.T) {
	demotest.Share(t, 3)
	t.Parallel()
	s, shot := serveWith(t, demo.BedsName)
	path := &treatment.Solved{RMS: 0.1}
	for n := demo.BedsFirst; n <= demo.BedsLast; n++ {
		v := demo.BedsView(float64(n - demo.BedsFirst))
		path.Views = append(path.Views, treatment.ViewOf(n, &v))
	}
	label := demo.BedLabels()[0].Corners
	card := treatment.Card{At: label[0].Lerp(label[2], 0.5), Turn: [4]float64{0, 0, 0, 1}, Size: [2]float64{4 * label[0].Dist(label[1]), 4 * label[0].Dist(label[3])}}
	patch, err := json.Marshal([]any{
		map[string]any{"op": "add", "path": "/lens", "value": treatment.Lens{Size: [2]int{demo.Width, demo.Height}, K: demo.BedsLens().K}},
		map[string]any{"op": "add", "path": "/camera", "value": treatment.Camera{Focal: "known", Length: 700, Terms: 1, Data: &treatment.CameraData{Path: path}}},
		map[string]any{"op": "replace", "path": "/tracks", "value": []treatment.Track{{
			ID: "card", Name: "Board", Kind: treatment.CardTrack, Home: demo.BedsFirst, Motion: geom.Perspective, Card: &card}}},
	})
	require.NoError(t, err)
	s.patch("/api/shots/"+shot+"/treatment", fmt.Sprintf(`{"revision":0,"label":"The set","patch":%s}`, patch))
	a := open(t, s.address+"/shots/"+shot)
	a.steady(demo.BedsFirst)

	const room = `aside[aria-label="The set"]`
	a.press("^Judge track")
	a.from("What the picture is locked to", "^Board")
	a.from("How much of the motion is taken out", "seen flat")
	a.key(input.Escape)
	a.press("^Locked$")
	a.see("Board, seen flat")
	a.press("^The set$")
	a.press("^Board$")
	fills := a.text(`() => {
		const room = document.querySelector('[data-testid=set]').getBoundingClientRect()
		const at = [1, 2, 3, 4].map((i) => document.querySelector('[aria-label="Board, corner ' + i + '"]').getBoundingClientRect())
		const [xs, ys] = [at.map((b) => b.x + b.width / 2 - room.x), at.map((b) => b.y + b.height / 2 - room.y)]
		const across = (v) => Math.max(...v) - Math.min(...v)
		const middle = (v, all) => Math.abs((Math.max(...v) + Math.min(...v)) / 2 - all / 2)
		const share = Math.max(across(xs) / room.width, across(ys) / room.height)
		const upright = Math.abs(xs[0] - xs[3]) + Math.abs(ys[0] - ys[1]) < 1
		return share > 0.7 && share < 0.81 && upright && middle(xs, room.width) + middle(ys, room.height) < 4 ? 'fills' : JSON.stringify({ share, xs, ys, room })
	}`)
	assert.Equal(t, "fills", fills, "the card is fitted, upright, in the middle")
	a.press("^Locked$")

	// Turned by its grips: what is pulled to the middle goes away from the camera.
	at := func(name string) (p proto.Point) {
		v, err := a.page.Eval(`name => { const b = document.querySelector('[aria-label="' + name + '"]').getBoundingClientRect(); return [b.x + b.width / 2, b.y + b.height / 2] }`, name)
		require.NoError(t, err)
		var xy [2]float64
		require.NoError(t, v.Value.Unmarshal(&xy))
		return proto.Point{X: xy[0], Y: xy[1]}
	}
	before := s.revision(shot)
	for _, c := range []struct {
		grip            string
		by              proto.Point
		farther, nearer camera.Vec // corners of the card, of its half sides
	}{
		{"Board, turned", proto.Point{X: -14}, camera.Vec{1, 0, 0}, camera.Vec{-1, 0, 0}},
		{"Board, tipped", proto.Point{Y: -14}, camera.Vec{0, -1, 0}, camera.Vec{0, 1, 0}},
		{"Board, rolled", proto.Point{X: 12, Y: -6}, camera.Vec{}, camera.Vec{}},
	} {
		doc, _ := s.whole(shot)
		was := *doc.Tracks[0].Card
		from := at(c.grip)
		s.wait(10*time.Second, "the grips to stand", func() bool { // where the card was turned to
			was := from
			time.Sleep(300 * time.Millisecond)
			from = at(c.grip)
			return was == from
		})
		m := a.page.Mouse
		require.NoError(t, m.MoveTo(from))
		require.NoError(t, m.Down(proto.InputMouseButtonLeft, 1))
		require.NoError(t, m.MoveLinear(proto.Point{X: from.X + c.by.X, Y: from.Y + c.by.Y}, 5))
		require.NoError(t, m.Up(proto.InputMouseButtonLeft, 1))
		s.wait(10*time.Second, c.grip, func() bool { return s.revision(shot) > before })
		before = s.revision(shot)
		doc, _ = s.whole(shot)
		now := *doc.Tracks[0].Card
		assert.Equal(t, was.Size, now.Size, c.grip)
		assert.InDeltaSlice(t, was.At[:], now.At[:], 1e-9, c.grip)
		assert.NotEqual(t, was.Turn, now.Turn, c.grip)
		view := demo.BedsView(0)
		away := func(k treatment.Card, half camera.Vec) float64 {
			r := camera.OfQuaternion(k.Turn)
			return view.Pose.Apply(camera.Vec(k.At).Add(r.Apply(camera.Vec{half[0] * k.Size[0] / 2, half[1] * k.Size[1] / 2, 0})))[2]
		}
		if c.grip != "Board, rolled" {
			assert.Greater(t, away(now, c.farther)-away(was, c.farther), 0.005, c.grip)
			assert.Less(t, away(now, c.nearer)-away(was, c.nearer), -0.005, c.grip)
			continue
		}
		// Pulled clockwise, its right side goes down.
		r := camera.OfQuaternion(now.Turn)
		old := camera.OfQuaternion(was.Turn)
		assert.Less(t, r.Apply(camera.Vec{1, 0, 0})[1], old.Apply(camera.Vec{1, 0, 0})[1]-0.05)
	}
	// In the space view a press chooses it, wherever it is seen there, and then it is dragged.
	a.press("^Board$")
	view, err := a.page.Timeout(10 * time.Second).Element("[data-testid=space]")
	require.NoError(t, err)
	require.NoError(t, view.ScrollIntoView())
	box, err := a.page.Eval(`() => { const b = document.querySelector('[data-testid=space]').getBoundingClientRect(); return [b.x, b.y, b.width, b.height] }`)
	require.NoError(t, err)
	var canvas [4]float64
	require.NoError(t, box.Value.Unmarshal(&canvas))
	m, chosen := a.page.Mouse, false
	var there proto.Point
	const across, down = 24, 18
	for k := 0; k < across*down && !chosen; k++ {
		there = proto.Point{X: canvas[0] + canvas[2]*(float64(k%across)+0.5)/across, Y: canvas[1] + canvas[3]*(float64(k/across)+0.5)/down}
		require.NoError(t, m.MoveTo(there))
		require.NoError(t, m.Down(proto.InputMouseButtonLeft, 1))
		require.NoError(t, m.Up(proto.InputMouseButtonLeft, 1))
		chosen = a.number(`() => [...document.querySelectorAll('button[aria-pressed=true]')].filter((b) => /^Board$/.test(b.textContent)).length`) > 0
	}
	require.True(t, chosen, "the card is seen in the space view")
	doc, _ := s.whole(shot)
	was := *doc.Tracks[0].Card
	require.NoError(t, m.MoveTo(there))
	require.NoError(t, m.Down(proto.InputMouseButtonLeft, 1))
	require.NoError(t, m.MoveLinear(proto.Point{X: there.X + 20, Y: there.Y - 10}, 4))
	require.NoError(t, m.Up(proto.InputMouseButtonLeft, 1))
	s.wait(10*time.Second, "it to be moved", func() bool { return s.revision(shot) > before })
	doc, _ = s.whole(shot)
	moved := *doc.Tracks[0].Card
	assert.Greater(t, camera.Vec(moved.At).Dist(was.At), 0.05)
	assert.Greater(t, moved.At[1], was.At[1], "upwards")
	assert.Equal(t, was.Turn, moved.Turn)
	assert.Equal(t, was.Size, moved.Size)
	for range 4 {
		a.press("^Undo$")
	}
	s.wait(10*time.Second, "all to be undone", func() bool {
		doc, _ := s.whole(shot)
		return doc.Tracks[0].Card.Turn == card.Turn
	})
	driven := a.sweep(room, true, true)
	s.quiet(shot)
	want := a.sweep(room, false, false)
	doc, _ = s.whole(shot)
	was, now := card, *doc.Tracks[0].Card
	assert.NotEqual(t, was.At, now.At, "its depth")
	assert.NotEqual(t, was.Turn, now.Turn)
	assert.NotEqual(t, was.Size, now.Size)
	assert.NotEqual(t, 700.0, doc.Camera.Length)
	for i, k := range demo.BedsLens().K {
		assert.NotEqual(t, k, doc.Lens.K[i], "k%d", i+1)
	}
	a.visit(s.address + "/shots/" + shot)
	a.steady(demo.BedsFirst)
	a.press("^The set$")
	a.press("^Board b$")
	got := a.sweep(room, false, false)
	for name, v := range want {
		if name != "Length" && name != "Unit" && name != "Show it straight" { // what is done next, or looked at, is the page's alone
			assert.Equal(t, v, got[name], "%s: after a reload", name)
		}
	}
	t.Logf("%d controls hold what they were set to", len(driven))
	assert.Greater(t, len(driven), 15)
}
