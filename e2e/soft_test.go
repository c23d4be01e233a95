package e2e

import (
	"image"
	"image/draw"
	"math"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/core/geom"
	"jardin/core/treatment"
)

// An emblem goes from a banner that sways: its linen is followed as it bends, the ivy before it left out, the emblem painted over on one
// frame; on a frame on which it is off a little the surface is pinned at two places, and it gives way where the linen is lost.
func TestAnEmblemOnABanner(t *testing.T) {
	demotest.Share(t, 0)
	t.Parallel()
	s, shot := serveWith(t, demo.BannerName)
	known := demotest.BannerTruth(t)
	a := open(t, s.address+"/shots/"+shot)
	a.steady(demo.BannerFirst)
	a.goTo(known.Reference)
	a.press("^New removal on this frame")
	a.see("Drawing an outline")
	middle := geom.Bounds(demo.EmblemOutline(known.Reference, 0)).Centre()
	a.around(middle, 86)
	a.fill("Name of the removal", "Emblem")

	// Follow: a generous region, the ivy left out, over some frames.
	a.key(input.Digit2)
	a.press("^Draw a region|^Draw the region")
	a.drag(geom.Pt(known.Box[0]-24, known.Box[1]-24), geom.Pt(known.Box[2]+24, known.Box[3]+24))
	a.press("^Leave something out")
	stem := known.Ivy[known.Reference]
	var left, right []geom.Point
	for k := 4; k < 12; k += 2 {
		left, right = append(left, geom.Pt(stem[k][0]-34, stem[k][1])), append(right, geom.Pt(stem[k][0]+34, stem[k][1]))
	}
	for k := range left {
		a.click(left[k])
	}
	for k := range right {
		a.click(right[len(right)-1-k])
	}
	a.key(input.Enter)
	a.see("Exclusion 1")
	a.tick("It bends")
	a.fill("Stiffness", "0.25")
	a.fill("Detail", "10")
	a.fill("First frame to follow to", "1028")
	a.fill("Last frame to follow to", "1046")
	a.press("^Follow both ways")
	s.wait(3*time.Minute, "the linen to be followed", func() bool {
		doc, _ := s.whole(shot)
		return len(doc.Tracks) == 1 && doc.Tracks[0].Data != nil && len(doc.Tracks[0].Data.Samples) == 19
	})
	doc, set := s.whole(shot)
	track := doc.Tracks[0]
	off := func(n int) (mean float64) {
		m, truth, count := set.Mapping(track.ID, known.Reference, n), known.Motion[n], 0.0
		for i, p := range known.Places {
			if known.Ink[i] && truth.Seen[i] {
				mean += m.Apply(geom.Pt(p[0], p[1])).Dist(geom.Pt(truth.At[i][0], truth.At[i][1]))
				count++
			}
		}
		return mean / count
	}
	for _, n := range []int{1030, 1036, 1042} {
		assert.Less(t, off(n), 0.3, "frame %d", n)
	}

	a.press("^Judge track")
	a.tick("What drives the track")
	a.key(input.Escape)
	a.goTo(1046)
	a.see("^Bends, [0-9]+ % found")
	_, err := a.page.Timeout(10 * time.Second).Element(`[data-testid=lost]`)
	require.NoError(t, err, "what is lost to the fold is shown")
	a.picture("soft")
	a.press("^Judge track")
	a.tick("What drives the track")
	a.key(input.Escape)

	// Fill: linen from beside it.
	a.goTo(known.Reference)
	a.key(input.Digit3)
	a.fill("Size", "40")
	require.NoError(t, a.page.Keyboard.Press(input.KeyS))
	a.click(middle.Add(geom.Pt(130, 120)))
	require.NoError(t, a.page.Keyboard.Release(input.KeyS))
	a.rub(middle, 84)
	a.see("Stroke 1")
	// Where nothing was followed no patch is, and that is said, with where to mend it; the stage is no more than begun.
	a.goTo(1060)
	a.see("No patch of Emblem here: the track is not known there")
	a.press("^Go to Follow")
	_, err = a.page.Timeout(10 * time.Second).Element(`[aria-label^="Follow: begun (followed on 19 of 72 frames, not on 1001 to 1027 and 1047 to 1072"]`)
	require.NoError(t, err)
	a.press("^Render")
	a.see("^What")
	_, err = a.page.Timeout(10*time.Second).ElementR(`[aria-label="What is missing"] li`, "No patch of Emblem on 1001 to 1027, 1047 to 1072: the track is not known there")
	require.NoError(t, err)
	a.key(input.Escape)
	const shown = 1042
	ink := func(n int, m image.Image) (share float64) { // of what was the emblem, how much is still as warm as its ink
		cover, all := matteOf(demotest.ReadPNG(t, demotest.Frame(t, demo.BannerMatteFolder, n)), demo.Bounds()), 0.0
		for y := range demo.Height {
			for x := range demo.Width {
				if cover.At(x, y) > 0.8 {
					r, _, b, _ := m.At(x, y).RGBA()
					all++
					if float64(r) > 1.35*float64(b) {
						share++
					}
				}
			}
		}
		return share / all
	}
	plate := demotest.ReadPNG(t, demotest.Frame(t, demo.BannerPlateFolder, shown))
	assert.Greater(t, ink(shown, plate), 0.9)
	assert.Less(t, ink(shown, s.shownOn(shot, shown, plate)), 0.02, "the emblem is gone where it was carried to")

	// Two pins on a frame: one holds, the other is dragged; what is far from both stays.
	a.goTo(shown)
	a.key(input.Digit2)
	a.press("^Mending")
	a.press("^By pins")
	_, err = a.page.Timeout(10 * time.Second).Element(`[data-testid=pins]`)
	require.NoError(t, err)
	a.see("Locked to frame")
	a.key(input.KeyL) // on the footage as it is
	a.steady(shown)
	require.NoError(t, a.page.Timeout(10*time.Second).Wait(rod.Eval(`() => !document.body.innerText.includes('Locked to frame')`)))
	a.steady(shown)
	_, err = a.page.Timeout(10 * time.Second).Element(`[data-testid=pins]`)
	require.NoError(t, err)
	time.Sleep(300 * time.Millisecond) // its room is measured anew
	hold, drawn := geom.Pt(middle.X-60, middle.Y), geom.Pt(middle.X+60, middle.Y)
	before := set.Mapping(track.ID, known.Reference, shown)
	at := func(p geom.Point) geom.Point { return before.Apply(p) }
	a.click(at(hold))
	s.wait(10*time.Second, "the first pin", func() bool { return len(s.pins(shot)) == 1 })
	a.click(at(drawn))
	s.wait(10*time.Second, "the second pin", func() bool { return len(s.pins(shot)) == 2 })
	a.see("Double-click a pin to take it out")
	a.drag(at(drawn), at(drawn).Add(geom.Pt(3, 2)), at(drawn).Add(geom.Pt(6, 4)))
	s.wait(10*time.Second, "the pin to move", func() bool {
		_, now := s.whole(shot)
		return now.Mapping(track.ID, known.Reference, shown).Apply(drawn).Dist(at(drawn)) > 4
	})
	_, set = s.whole(shot)
	after := set.Mapping(track.ID, known.Reference, shown)
	assert.InDelta(t, 0, after.Apply(drawn).Dist(at(drawn).Add(geom.Pt(6, 4))), 1.2, "to where it was dragged")
	assert.InDelta(t, 0, after.Apply(hold).Dist(at(hold)), 0.1, "the other pin holds")
	far := geom.Pt(known.Box[0], known.Box[1])
	assert.InDelta(t, 0, after.Apply(far).Dist(before.Apply(far)), 0.6)
	home := set.Mapping(track.ID, known.Reference, known.Reference+4).Apply(drawn)
	assert.Greater(t, home.Dist(geom.Pt(known.Motion[known.Reference+4].At[0][0], 0)), 1.0)
	assert.Less(t, math.Abs(off(known.Reference)), 1e-9, "on its home frame nothing moved")

	// It can give way.
	a.key(input.Digit3)
	a.press("^Clean plate 1032")
	a.press("^When and where it counts")
	a.tick("Gives way where the surface is lost")
	s.wait(10*time.Second, "it gives way", func() bool { return s.removal(shot).Fill.Sources[0].GiveWay })
}

// shownOn is a frame with all that is removed from it.
func (s *server) shownOn(shot string, n int, plate image.Image) image.Image {
	overlay, at := s.overlay(shot, n)
	out := image.NewNRGBA(plate.Bounds())
	draw.Draw(out, out.Rect, plate, image.Point{}, draw.Src)
	draw.Draw(out, overlay.Bounds().Add(at), overlay, overlay.Bounds().Min, draw.Over)
	return out
}

// pins lists the pins of the last correction of the shot's first track.
func (s *server) pins(shot string) []treatment.Vec {
	doc, _ := s.whole(shot)
	all := doc.Tracks[0].Corrections
	if len(all) == 0 {
		return nil
	}
	return all[len(all)-1].Pins
}
