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

// TestFeelOfSettling measures, on a frame of 1920 x 1080 pixels with a patch of 300 x 300
// that settles in every way, and on one of 3840 x 2160 with a patch of 600 x 600, how long a
// changed setting takes to show, and how fast frames that were never shown follow one another.
func TestFeelOfSettling(t *testing.T) {
	if os.Getenv("JARDIN_BENCH") == "" {
		t.Skip("a benchmark: make bench")
	}
	for _, k := range []float64{1, 2} {
		t.Run(fmt.Sprint(1920*k), func(t *testing.T) { feelOfSettling(t, k) })
	}
}

// feelOfSettling measures it at so many times 1920 x 1080.
func feelOfSettling(t *testing.T, times float64) {
	s := serve(t)
	shot := s.enlarged(fmt.Sprintf("x%.0f", times), int(1920*times), int(1080*times))
	box := func(x, y, w, h float64) []treatment.Knot {
		x, y, w, h = times*x, times*y, times*w, times*h
		return []treatment.Knot{
			{At: treatment.Vec{x, y}},
			{At: treatment.Vec{x + w, y}},
			{At: treatment.Vec{x + w, y + h}},
			{At: treatment.Vec{x, y + h}},
		}
	}
	doc := treatment.New()
	doc.Removals = []treatment.Removal{{
		ID: "r", Name: "Patch", Range: treatment.Range{First: 1031, Last: 1042}, Reference: 1037,
		Follow: treatment.Follow{Track: treatment.Still},
		Mark: treatment.Mark{
			Outlines: []treatment.Shape{
				{ID: "o", Name: "O", Kind: treatment.Outline, Home: 1037, Feather: 3, Points: box(800, 400, 300, 300)},
			},
		},
		Fill: treatment.Fill{
			Sources: []treatment.Source{
				{
					ID:   "p",
					Name: "Clean plate",
					Kind: treatment.HeldPlate,
					Plate: &treatment.Plate{
						Frame: 1037,
						Strokes: []treatment.Stroke{
							{ID: "s", Mode: "clone", Home: 1037, Size: 1, Hardness: 1, Opacity: 1,
								From: &treatment.From{
									Offset: treatment.Vec{330 * times, 20 * times},
								}, Area: &treatment.Area{Points: box(785, 385, 330, 330), Feather: 6}},
						},
					},
				},
			},
		},
		Settle: treatment.Settle{Opacity: 1},
		Guard: &treatment.Guard{
			Fronts: []treatment.Front{
				{
					ID:   "f",
					Name: "F",
					By:   treatment.ByOutline,
					Shapes: []treatment.Shape{
						{
							ID:      "g",
							Name:    "G",
							Kind:    treatment.Outline,
							Home:    1037,
							Feather: 3,
							Points:  box(900, 380, 60, 200),
						},
					},
				},
			},
		},
	}}
	s.put(shot, doc)
	a := open(t, s.address+"/shots/"+shot)
	a.steady(1031)
	a.goTo(1037)
	a.press("^Patch")
	a.key(input.Digit4)
	a.see("^Settle by itself")
	a.press("^Settle by itself")
	a.see("most light on|grain [0-9.]+ px")
	time.Sleep(8 * time.Second) // the ribbon's measures are in
	a.steady(1037)
	// From the moment that a field is left until the picture has changed.
	const shown = `async (name, value) => {
		const c = document.querySelector('[data-testid=picture]'), before = c.dataset.key
		const field = document.querySelector('input[aria-label="' + name + ', slider"]')
		const set = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set
		set.call(field, value)
		field.dispatchEvent(new Event('input', { bubbles: true }))
		await new Promise(requestAnimationFrame)
		const began = performance.now()
		field.dispatchEvent(new PointerEvent('pointerup', { bubbles: true }))
		while (c.dataset.key === before || c.dataset.ready !== 'true') await new Promise(requestAnimationFrame)
		return performance.now() - began
	}`
	for _, name := range []string{"Strength", "Blur", "Feather"} {
		var all []float64
		for k := range 8 {
			v, err := a.page.Timeout(30*time.Second).
				Eval(shown, name, fmt.Sprint(map[string]int{"Strength": 60 + 5*k, "Blur": 1 + k, "Feather": 2 +
					k}[name]))
			require.NoError(t, err)
			all = append(all, v.Value.Num())
		}
		fmt.Printf(
			"%-12s moved, shown at %.0f x %.0f     median %3.0f ms, 95 %% under %3.0f ms (aim 100)\n",
			name,
			1920*times,
			1080*times,
			quantile(all, 0.5),
			quantile(all, 0.95),
		)
	}
	// All frames after a change: none of them was ever made.
	a.press("^No dissolve|^12-frame dissolve")
	a.steady(1037)
	a.key(input.Home)
	a.steady(1031)
	v, err := a.page.Timeout(60 * time.Second).Eval(`async () => {
		const c = document.querySelector('[data-testid=picture]')
		const began = performance.now()
		for (let n = 1032; n <= 1042; n++) {
			dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowRight', bubbles: true }))
			document.body.dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowRight', bubbles: true }))
			while (Number(c.dataset.frame) < n || c.dataset.ready !== 'true') await new Promise(requestAnimationFrame)
		}
		return 11000 / (performance.now() - began)
	}`)
	require.NoError(t, err)
	fmt.Printf("a step to a frame never shown before          %.0f ms (aim at 4K 150)\n", 1000/v.Value.Num())
}
