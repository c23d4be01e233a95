package e2e

import (
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/require"

	"jardin/core/treatment"
)

// TestFeelOfPlayback prints how many frames a second are shown in a window of 1280 x 800, of a shot whose frames are in memory, with a
// result on each, and how long pictures of it take. It measures and asserts nothing.
func TestFeelOfPlayback(t *testing.T) {
	if os.Getenv("JARDIN_BENCH") == "" {
		t.Skip("a benchmark: make bench")
	}
	for _, size := range []struct {
		name          string
		width, height int
	}{{"hd", 1920, 1080}, {"uhd", 3840, 2160}} {
		s := serve(t)
		began := time.Now()
		shot := s.enlarged(size.name, size.width, size.height)
		brought := time.Since(began)
		k := float64(size.width) / 1920
		at := func(x, y float64) treatment.Knot { return treatment.Knot{At: treatment.Vec{k * x, k * y}} }
		r := treatment.Removal{
			ID: "r", Name: "Patch", Range: treatment.Range{First: 1031, Last: 1042}, Reference: 1037,
			Follow: treatment.Follow{Track: treatment.Still}, Settle: treatment.Settle{Opacity: 1},
			Mark: treatment.Mark{Outlines: []treatment.Shape{{ID: "o", Kind: treatment.Outline, Name: "Patch", Home: 1037, Feather: 3,
				Points: []treatment.Knot{at(800, 400), at(1100, 400), at(1100, 700), at(800, 700)}}}},
			Fill: treatment.Fill{Sources: []treatment.Source{{ID: "p", Name: "plate", Kind: treatment.HeldPlate, Plate: &treatment.Plate{Frame: 1037, Whole: true}}}},
		}
		doc := treatment.New()
		doc.Removals = []treatment.Removal{r}
		s.put(shot, doc)
		a := open(t, s.address+"/shots/"+shot)
		a.steady(1031)
		seen := func() float64 { return a.number(`() => window.seen.size`) }
		_, err := a.page.Eval(`() => {
			const canvas = document.querySelector('[data-testid=picture]');
			window.seen = new Set();
			new MutationObserver(() => window.seen.add(canvas.dataset.frame)).observe(canvas, { attributes: true });
		}`)
		require.NoError(t, err)
		a.key(input.Space)
		s.wait(3*time.Minute, "one round of playback", func() bool { return seen() == 12 })
		time.Sleep(2 * time.Second)
		played := a.pace()
		pace := a.page.MustElement(`[data-testid=pace]`).MustText()
		a.key(input.Space)
		fmt.Printf("%d x %d: cached playback %.1f frames/s (aim: 24); the bench says %q; 12 frames brought in within %.1f s\n",
			size.width, size.height, played, pace, brought.Seconds())
	}
}

// pace counts the frames a second that are shown while it plays.
func (a *artist) pace() float64 {
	a.t.Helper()
	return a.number(`() => new Promise(done => {
		const canvas = document.querySelector('[data-testid=picture]');
		let count = 0, last = canvas.dataset.frame;
		const began = performance.now();
		const watch = new MutationObserver(() => { if (canvas.dataset.frame != last) { last = canvas.dataset.frame; count++ } });
		watch.observe(canvas, { attributes: true });
		setTimeout(() => { watch.disconnect(); done(count * 1000 / (performance.now() - began)) }, 6000);
	})`)
}
