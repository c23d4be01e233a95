package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"math"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// TestWhatSwingsIsGatheredThroughTime takes the can of lm_020 away by what other frames show of the
// hedge: added by hand, once and on every frame; what is never seen is said, and left.
func TestWhatSwingsIsGatheredThroughTime(t *testing.T) {
	demotest.Share(t, 2)
	t.Parallel()
	s, shot := serveWith(t, "lm_020")
	known := demotest.CanTruth(t)
	outline := func(id, name string) treatment.Shape {
		at := func(n int) (out []treatment.Knot) {
			end := known.Hangings[n][0].Points[2]
			for _, d := range [][2]float64{{-95, -10}, {95, -10}, {95, 150}, {-95, 150}} {
				out = append(out, treatment.Knot{At: treatment.Vec{end[0] + d[0], end[1] + d[1]}})
			}
			return out
		}
		o := treatment.Shape{
			ID: id, Name: name, Kind: treatment.Outline, Home: known.Reference, Ride: treatment.Still,
			Points: at(known.Reference),
		}
		for n := demo.CanFirst; n <= demo.CanLast; n++ {
			o.Keys = append(o.Keys, treatment.ShapeKey{Frame: n, Ease: treatment.Linear, Points: at(n)})
		}
		return o
	}
	prepared, err := json.Marshal([]any{
		map[string]any{"op": "add", "path": "/tracks/-", "value": treatment.Track{
			ID: "h", Name: "Hedge", Kind: treatment.PlaneTrack, Home: known.Reference, Motion: "perspective",
			Region:     []treatment.Vec{{60, 180}, {900, 180}, {900, 480}, {60, 480}},
			Exclusions: []treatment.Shape{outline("x", "Can")},
		}},
		map[string]any{"op": "add", "path": "/removals/-", "value": treatment.Removal{
			ID: "r", Name: "Can", Range: treatment.Range{First: demo.CanFirst, Last: demo.CanLast},
			Reference: known.Reference,
			Mark:      treatment.Mark{Outlines: []treatment.Shape{outline("o", "Can")}},
			Follow:    treatment.Follow{Track: "h"}, Fill: treatment.Fill{Sources: []treatment.Source{}},
			Settle: treatment.Settle{Opacity: 1},
		}},
	})
	require.NoError(t, err)
	s.patch("/api/shots/"+shot+"/treatment", fmt.Sprintf(`{"revision":0,"label":"Prepare","patch":%s}`, prepared))
	s.followOver(shot, "h", known.Reference, demo.CanFirst, demo.CanLast)

	a := open(t, s.address+"/shots/"+shot)
	a.steady(demo.CanFirst)
	a.press("^Can")
	a.goTo(known.Reference)
	a.key(input.Digit3)
	a.from("Add a source", "^Through time")
	a.see("% of it is seen on some frame|^All of it is seen")
	source := func() *treatment.Gathering { return s.removal(shot).Fill.Sources[0].Gathered }
	assert.Equal(t, treatment.Gathering{Frame: known.Reference, Over: 36}, *source())

	// Against the hedge as the camera's true motion brings it from a frame on which the can hangs elsewhere.
	plates := map[int]image.Image{}
	plate := func(n int) image.Image {
		if plates[n] == nil {
			plates[n] = demotest.ReadPNG(t, demotest.Frame(t, demo.CanPlateFolder, n))
		}
		return plates[n]
	}
	off := func(n int) (rms, unlike float64) {
		var rev struct{ Number int }
		s.get("/api/shots/"+shot+"/treatment", &rev)
		at := fmt.Sprintf("/api/shots/%s/frames/%d/overlay?revision=%d&view=result", shot, n, rev.Number)
		overlay, err := png.Decode(bytes.NewReader(s.fetch(at)))
		require.NoError(t, err)
		var place image.Point
		fmt.Sscan(s.header(at, "Jardin-Place"), &place.X, &place.Y)
		here := known.Motion[n]
		back, _ := here.Inverse()
		end := known.Hangings[n][0].Points[2]
		var sum, others, count float64
		for y := int(end[1]) + 25; y < int(end[1])+105; y++ {
			for x := int(end[0]) - 40; x < int(end[0])+40; x++ {
				r, g, b, alpha := overlay.At(x-place.X, y-place.Y).RGBA()
				if alpha < 0xf000 {
					continue
				}
				for k := demo.CanFirst; k <= demo.CanLast; k += 5 {
					there := known.Motion[k]
					q := there.Apply(back.Apply(geom.Pt(float64(x)+0.5, float64(y)+0.5)))
					can := known.Hangings[k][0].Points[2]
					if math.Abs(q.X-can[0]) < 110 || q.X < 2 || q.X > 957 || q.Y < 2 || q.Y > 537 {
						continue
					}
					R, G, B := sampled(plate(k), q)
					d := [3]float64{float64(r)/257 - R, float64(g)/257 - G, float64(b)/257 - B}
					R, G, B = sampled(plate(k), q.Add(geom.Pt(23, 9)))
					o := [3]float64{float64(r)/257 - R, float64(g)/257 - G, float64(b)/257 - B}
					for c := range 3 {
						sum, others, count = sum+d[c]*d[c], others+o[c]*o[c], count+1
					}
					break
				}
			}
		}
		require.Greater(t, count, 3*80*80*0.2, "some of its place can be compared")
		return math.Sqrt(sum / count), math.Sqrt(others / count)
	}
	check := func(how string) {
		for _, n := range []int{1008, known.Reference, 1041} {
			d, unlike := off(n)
			t.Logf("%s, frame %d: %.2f codes RMS from the hedge, %.2f from another place of it", how, n, d, unlike)
			assert.Less(t, d, 0.35*unlike)
		}
	}
	check("once")
	a.press("^On every frame")
	s.wait(20*time.Second, "it to be live", func() bool { return source().Live })
	check("on every frame")
	a.press("^As seen")
	s.wait(20*time.Second, "it to be as seen", func() bool { return source().AsSeen })
	check("as seen on every frame")
	a.steady(known.Reference)
	a.picture("through-time")
	a.press("^Averaged")
	s.wait(20*time.Second, "it to be averaged", func() bool { return !source().AsSeen })
	a.press("^Show what is never seen")
	s.wait(20*time.Second, "the view to change", func() bool {
		return a.page.MustHas("[aria-pressed=true][title^='Tints on the picture']")
	})
	a.press("^Show what is never seen")
	a.press("^Settle")
	a.press("^Settle by itself")
	s.wait(time.Minute, "the grain to be measured", func() bool {
		g := s.removal(shot).Settle.Grain
		return g != nil && g.Model != nil
	})
	assert.Nil(t, s.removal(shot).Settle.Light, "what is made on every frame has the frame's own light")
	a.key(input.Digit3)
	a.fill("Looks at", "1")
	s.wait(20*time.Second, "fewer frames to be looked at", func() bool { return source().Over == 1 })
	a.see("% never|^None of it is seen")
	words, err := a.page.MustElement("[data-testid=seen]").Text()
	require.NoError(t, err)
	assert.True(t, strings.Contains(words, "below this source") || strings.Contains(words, "below this one"), words)

	// Its alphas: what is marked is white; what was gathered of it only where its neighbours in time show the hedge.
	a.goTo(known.Reference)
	end := known.Hangings[known.Reference][0].Points[2]
	shade := func(look string, p geom.Point) float64 {
		a.press("^Looks")
		a.press(look)
		a.press("^Looks")
		a.steady(known.Reference)
		data, err := a.page.Screenshot(false, &proto.PageCaptureScreenshot{Format: proto.PageCaptureScreenshotFormatPng})
		require.NoError(t, err)
		m, err := png.Decode(bytes.NewReader(data))
		require.NoError(t, err)
		at := a.at(p)
		r, _, _, _ := m.At(int(at.X), int(at.Y)).RGBA()
		return float64(r) / 65535
	}
	middle, beside := geom.Pt(end[0]-20, end[1]+70), geom.Pt(end[0]-140, end[1]+70)
	assert.Greater(t, shade("^What is marked", middle), 0.98)
	assert.Less(t, shade("^Gathered, of what is marked", middle), 0.02, "one frame before and after the can is still there")
	assert.Less(t, shade("^What is marked", beside), 0.02)
	assert.Less(t, shade("^What was gathered", beside), 0.02)
}

func (s *server) header(path, name string) string {
	response, err := http.Get(s.address + path)
	require.NoError(s.t, err)
	defer response.Body.Close()
	return response.Header.Get(name)
}

// sampled returns the codes of a picture at a place, bilinearly.
func sampled(m image.Image, p geom.Point) (r, g, b float64) {
	x, y := math.Floor(p.X-0.5), math.Floor(p.Y-0.5)
	u, v := p.X-0.5-x, p.Y-0.5-y
	for _, c := range [4][3]float64{{0, 0, (1 - u) * (1 - v)}, {1, 0, u * (1 - v)}, {0, 1, (1 - u) * v}, {1, 1,
		u * v}} {
		R, G, B, _ := m.At(int(x+c[0]), int(y+c[1])).RGBA()
		r, g, b = r+c[2]*float64(R)/257, g+c[2]*float64(G)/257, b+c[2]*float64(B)/257
	}
	return r, g, b
}
