package demo

import (
	"image"
	"image/color"
	"image/png"
	"os"
	"testing"
	"time"
)

func TestLook(t *testing.T) {
	s := New()
	for _, n := range []int{1001, 1037, 1072} {
		st := time.Now()
		f := s.Frame(n)
		t.Log(n, time.Since(st))
		codes := Codes(f.Plate)
		img := image.NewRGBA(Bounds())
		for i := 0; i < Width*Height; i++ {
			img.Set(i%Width, i/Width, color.RGBA{uint8(codes[3*i]), uint8(codes[3*i+1]), uint8(codes[3*i+2]), 255})
		}
		w, _ := os.Create("/tmp/lm_" + time.Now().Format("05") + ".png")
		if n == 1037 {
			w, _ = os.Create("/tmp/lm_look.png")
		}
		png.Encode(w, img)
		w.Close()
	}
}
