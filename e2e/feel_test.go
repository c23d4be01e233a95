package e2e

import (
	"bufio"
	"fmt"
	"net/http"
	"os"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/geom"
)

// prepare puts a treatment on the shot that removes the dots, each outlined and
// painted, and follows the wall.
func (s *server) prepare(shot string, known demo.Truth, dots int) {
	outlines, strokes := "", ""
	for i, d := range known.Dots[:dots] {
		r := d.Radius + 6
		outlines += fmt.Sprintf(
			`{"id":"o%d","name":"Dot %d","kind":"outline","home":%d,"feather":3,"points":[{"at":[%g,%g]},{"at":[%g,%g]},{"at":[%g,%g]},{"at":[%g,%g]}]},`,
			i,
			i+1,
			known.Reference,
			d.X-r,
			d.Y-r,
			d.X+r,
			d.Y-r,
			d.X+r,
			d.Y+r,
			d.X-r,
			d.Y+r,
		)
		strokes += fmt.Sprintf(
			`{"id":"s%d","mode":"clone","home":%d,"size":56,"hardness":0.9,"opacity":1,"from":{"offset":[46,6]},"path":{"points":[[%g,%g],[%g,%g]]}},`,
			i,
			known.Reference,
			d.X-2,
			d.Y,
			d.X+2,
			d.Y,
		)
	}
	patch := fmt.Sprintf(
		`[{"op":"add","path":"/tracks/-","value":{"id":"w","name":"Wall","kind":"plane","home":%[1]d,"motion":"perspective","region":[[190,95],[600,95],[600,345],[190,345]]}},
		{"op":"add","path":"/removals/-","value":{"id":"r","name":"Dots","range":{"first":1001,"last":1072},"reference":%[1]d,
		"mark":{"outlines":[%[2]s]},"follow":{"track":"w"},
		"fill":{"sources":[{"id":"plate","name":"Clean plate","kind":"plate","plate":{"frame":%[1]d,"strokes":[%[3]s]}}]},"settle":{"opacity":1}}}]`,
		known.Reference,
		outlines[:len(outlines)-1],
		strokes[:len(strokes)-1],
	)
	s.patch("/api/shots/"+shot+"/treatment", fmt.Sprintf(`{"revision":0,"label":"Prepare","patch":%s}`, patch))
}

func quantile(v []float64, q float64) float64 {
	sort.Float64s(v)
	return v[int(q*float64(len(v)-1))]
}

// trackLatency returns how long it takes, in milliseconds, from asking for a track to
// its first frame's arrival, and from asking to cancel it to its end.
func (s *server) trackLatency(shot string) (first, stopped float64) {
	events, err := http.Get(s.address + "/api/events?shot=" + shot)
	require.NoError(s.t, err)
	defer events.Body.Close()
	lines := bufio.NewScanner(events.Body)
	lines.Buffer(nil, 1<<20)
	var task struct{ ID string }
	began := time.Now()
	s.post("/api/shots/"+shot+"/follow", `{"track":"w","from":1037,"first":1037,"last":1072}`, &task)
	for lines.Scan() && first == 0 {
		if strings.Contains(lines.Text(), `"taskId"`) && !strings.Contains(lines.Text(), `"frame":1037`) {
			first = float64(time.Since(began).Microseconds()) / 1000
		}
	}
	began = time.Now()
	s.post("/api/tasks/"+task.ID+"/cancel", "", nil)
	for lines.Scan() {
		if strings.Contains(lines.Text(), task.ID) && strings.Contains(lines.Text(), `"state":"cancelled"`) {
			return first, float64(time.Since(began).Microseconds()) / 1000
		}
	}
	return first, 0
}

// TestFeel prints how the program feels under the hand. It measures and asserts
// nothing: machines differ. Run it with "make bench".
func TestFeel(t *testing.T) {
	if os.Getenv("JARDIN_BENCH") == "" {
		t.Skip("this is a bench; make bench runs it")
	}
	known := demotest.Truth(t)
	s, shot := serveWith(t, "lm_010")
	s.prepare(shot, known, 1)
	rate := func(path, body string) float64 {
		var task struct{ ID string }
		s.post(path, body, &task)
		var out float64
		s.wait(3*time.Minute, path, func() bool {
			var tasks []struct {
				ID, State string
				Rate      float64
			}
			s.get("/api/tasks", &tasks)
			out = tasks[0].Rate
			return tasks[0].ID == task.ID && tasks[0].State == "done"
		})
		return out
	}
	followed := rate("/api/shots/"+shot+"/follow", `{"track":"w","from":1037,"first":1001,"last":1072}`)
	first, stopped := s.trackLatency(shot)
	rendered := rate("/api/shots/"+shot+"/render", ``)

	a := open(t, s.address+"/shots/"+shot)
	a.steady(1001)
	a.press("^Dots")
	a.key(input.Digit4, input.KeyE)
	_, err := a.page.Eval(`() => {
		const canvas = document.querySelector('[data-testid=picture]'), ribbon = document.querySelector('[data-testid=ribbon]');
		window.jump = n => new Promise(done => {
			const box = ribbon.getBoundingClientRect(), x = box.left + (n - 1001 + 0.5) / 72 * box.width;
			const shown = () => canvas.dataset.frame == n && canvas.dataset.ready == 'true';
			const began = performance.now();
			const watch = new MutationObserver(() => { if (shown()) { watch.disconnect(); requestAnimationFrame(() => setTimeout(() => done(performance.now() - began))) } });
			watch.observe(canvas, { attributes: true });
			ribbon.dispatchEvent(new PointerEvent('pointerdown', { clientX: x, clientY: box.top + 5, button: 0, bubbles: true }));
			window.dispatchEvent(new PointerEvent('pointerup'));
		});
	}`)
	require.NoError(t, err)
	var steps []float64
	for n := 1008; n <= 1071; n += 7 { // never a neighbour of one shown before
		v, err := a.page.Eval(`n => window.jump(n)`, n)
		require.NoError(t, err)
		steps = append(steps, v.Value.Num())
		time.Sleep(400 * time.Millisecond)
	}

	// One round fills the cache, then frames are counted.
	_, err = a.page.Eval(`() => {
		const canvas = document.querySelector('[data-testid=picture]');
		window.seen = new Set();
		new MutationObserver(() => window.seen.add(canvas.dataset.frame)).observe(canvas, { attributes: true });
	}`)
	require.NoError(t, err)
	a.key(input.Space)
	s.wait(time.Minute, "one round of playback", func() bool { return a.number(`() => window.seen.size`) == 72 })
	time.Sleep(time.Second)
	played := a.pace()
	a.key(input.Space)

	a.key(input.Digit3)
	a.press("^Hold frame")
	a.steady(known.Reference)
	a.fill("Size", "60")
	require.NoError(t, a.page.Keyboard.Press(input.KeyS))
	a.click(geom.Pt(500, 400))
	require.NoError(t, a.page.Keyboard.Release(input.KeyS))
	var path []geom.Point
	for i := range 200 {
		path = append(path, geom.Pt(200+2.5*float64(i), 420+30*float64(i%20)/20))
	}
	a.pen(path, func(int) float64 { return 1 })
	a.see("Stroke 2")
	v, err := a.page.Eval(`() => window.jardinBrush.latencies`)
	require.NoError(t, err)
	var dabs []float64
	require.NoError(t, v.Value.Unmarshal(&dabs))
	require.Greater(t, len(dabs), 50)
	v, err = a.page.Eval(`() => window.jardinBrush.trips`)
	require.NoError(t, err)
	var trips []float64
	require.NoError(t, v.Value.Unmarshal(&trips))

	fmt.Printf("\n960 x 540, software WebGL, %d dabs of 60 px, %d jumps\n", len(dabs), len(steps))
	fmt.Printf(
		"brush dab, pointer event to screen   median %5.1f ms   95 %% %5.1f ms   (aim: under 33)\n",
		quantile(dabs, 0.5),
		quantile(dabs, 0.95),
	)
	fmt.Printf(
		"  of that until back from the server median %5.1f ms   95 %% %5.1f ms\n",
		quantile(trips, 0.5),
		quantile(trips, 0.95),
	)
	fmt.Printf(
		"step to an uncached result frame     median %5.1f ms   worst %5.1f ms   (aim: under 80)\n",
		quantile(steps, 0.5),
		quantile(steps, 1),
	)
	fmt.Printf("cached playback                      %.1f frames/s   (aim: 24)\n", played)
	fmt.Printf("track, 410 x 250 pixels, perspective %.1f ms a frame\n", 1000/followed)
	fmt.Printf("  its first frame after              %.0f ms   (aim: under 300)\n", first)
	fmt.Printf("  a cancel acts after                %.0f ms   (aim: within a frame)\n", stopped)
	fmt.Printf("render, PNG and H.264                %.1f ms a frame\n", 1000/rendered)
}
