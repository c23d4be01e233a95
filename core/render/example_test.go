package render_test

import (
	"context"
	"fmt"
	"image"

	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/treatment"
)

// grey is a plate of even grey with a white mark on it.
type grey struct{}

func (grey) Size() image.Rectangle { return image.Rect(0, 0, 40, 30) }
func (grey) Key() string           { return "grey" }
func (grey) White() float32        { return 1 }
func (grey) Has(int) bool          { return true }
func (g grey) Linear(context.Context, int, image.Rectangle) (*raster.Image, error) {
	m := raster.NewImage(g.Size())
	for y := range 30 {
		for x := range 40 {
			m.Set(x, y, [4]float32{0.25, 0.25, 0.25, 1})
		}
	}
	m.Set(10, 10, [4]float32{1, 1, 1, 1})
	return m, nil
}

// A mark is outlined, and taken from the pixels twelve to the right; the camera stands still.
func ExampleEvaluator_Frame() {
	square := treatment.Shape{ID: "o", Kind: treatment.Outline, Home: 1, Points: []treatment.Knot{
		{At: treatment.Vec{8, 8}}, {At: treatment.Vec{13, 8}}, {At: treatment.Vec{13, 13}}, {At: treatment.Vec{8, 13}}}}
	doc := treatment.New()
	doc.Removals = []treatment.Removal{{
		ID: "mark", Name: "Mark", Range: treatment.Range{First: 1, Last: 9}, Reference: 1,
		Mark:   treatment.Mark{Outlines: []treatment.Shape{square}},
		Follow: treatment.Follow{Track: treatment.Still},
		Fill: treatment.Fill{Sources: []treatment.Source{{ID: "n", Name: "Beside", Kind: treatment.Beside,
			Neighbour: &treatment.Neighbour{
				Frame: 1, Crisp: true, Offsets: []treatment.OffsetKey{{Frame: 1, Offset: treatment.Vec{12, 0}}}}}}},
		Settle: treatment.Settle{Opacity: 1},
	}}
	ready, err := render.Compile(doc)
	if err != nil {
		fmt.Println(err)
		return
	}
	e := render.Evaluator{Plate: grey{}}
	frame, err := e.Frame(context.Background(), ready, 5, render.ResultView, "")
	fmt.Println(frame.At(10, 10), frame.Coverage.At(10, 10), err)
	// Output: [0.25 0.25 0.25 1] 1 <nil>
}
