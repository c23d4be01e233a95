package e2e

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo"
	"jardin/app/demo/demotest"
	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/colorspace"
	"jardin/core/treatment"
)

// scans writes frames of the demo shot as DPX of 10 bits with timecode, but one number.
func scans(t *testing.T, dir string, first, last, missing int) {
	shot := media.Shot{Transfer: colorspace.SRGB, Primaries: colorspace.BT709Primaries}
	for n := first; n <= last; n++ {
		if n == missing {
			continue
		}
		picture := demotest.ReadPNG(t, demotest.Frame(t, demo.PlateFolder, n))
		f := media.NewFrame(picture.Bounds().Dx(), picture.Bounds().Dy(), media.Samples{Depth: 10})
		for i := range f.Width * f.Height {
			r, g, b, _ := picture.At(i%f.Width, i/f.Width).RGBA()
			f.Codes[3*i], f.Codes[3*i+1], f.Codes[3*i+2] = uint16(r>>6), uint16(g>>6), uint16(b>>6)
		}
		require.NoError(
			t,
			(media.Target{Format: "dpx", Depth: 10}).Write(
				filepath.Join(dir, fmt.Sprintf("scan.%07d.dpx", n)),
				f,
				shot,
			),
		)
	}
}

// drop lets files fall on the page, as from the desktop.
func (a *artist) drop(paths ...string) {
	a.t.Helper()
	for _, kind := range []proto.InputDispatchDragEventType{proto.InputDispatchDragEventTypeDragEnter,
		proto.InputDispatchDragEventTypeDragOver, proto.InputDispatchDragEventTypeDrop} {
		require.NoError(
			a.t,
			proto.InputDispatchDragEvent{
				Type: kind,
				X:    600,
				Y:    500,
				Data: &proto.InputDragData{Items: []*proto.InputDragDataItem{}, Files: paths, DragOperationsMask: 1},
			}.Call(
				a.page,
			),
		)
	}
}

// TestPlatesInAndOut hands a folder of scans in by dropping it, and takes it out again:
// in its own format, as patch and as mattes, while all of it can be paused.
func TestPlatesInAndOut(t *testing.T) {
	t.Parallel()
	s := serve(t)
	dir := filepath.Join(t.TempDir(), "scan_a")
	require.NoError(t, os.Mkdir(dir, 0o755))
	scans(t, dir, 1001, 1020, 1008)
	a := open(t, s.address)
	a.drop(dir)
	a.see("19 frames, 1001 to 1020, 7 digits")
	a.see("Missing: 1008")
	a.see("DPX, not compressed")
	a.picture("bring-in")
	a.fill("Show", "Winter at Larkmoss")
	a.fill("Shot", "scan_a")
	a.fill("From frame", "1003")
	a.fill("To frame", "1018")
	a.press("^Bring in$")
	_, err := a.page.Timeout(2 * time.Minute).Element(`a[href^="/shots/"]`)
	require.NoError(t, err)
	var shots []struct {
		ID, Format           string
		First, Last, Padding int
		Depth                int
	}
	s.get("/api/shots", &shots)
	require.Equal(
		t,
		[]any{"DPX", 1003, 1018, 7, 10},
		[]any{shots[0].Format, shots[0].First, shots[0].Last, shots[0].Padding, shots[0].Depth},
	)
	shot := shots[0].ID

	// A patch that stays put over one dot.
	known := demotest.Truth(t)
	doc := dotRemovals(known, 1)
	doc.Tracks = []treatment.Track{}
	r := &doc.Removals[0]
	r.Follow.Track, r.Reference = treatment.Still, 1010
	r.Range.First, r.Range.Last = 1003, 1018
	for i := range r.Mark.Outlines {
		r.Mark.Outlines[i].Home = 1010
	}
	r.Fill.Sources = []treatment.Source{
		{
			ID:   "n",
			Name: "Beside",
			Kind: treatment.Beside,
			Neighbour: &treatment.Neighbour{
				Frame:   1010,
				Offsets: []treatment.OffsetKey{{Frame: 1010, Ease: treatment.Linear, Offset: treatment.Vec{-48, -4}}},
			},
		},
	}
	s.put(shot, doc)

	a.press("scan_a")
	a.steady(1003)
	a.press("^Render…")
	a.press("^Render revision")
	a.see("^Done$")
	var tasks []struct {
		ID      string
		Version int
	}
	s.get("/api/tasks", &tasks)
	files := s.unzipped("/api/renders/" + tasks[0].ID + "/frames")
	require.Len(t, files, 16+2)
	changed := 0
	for n := 1003; n <= 1018; n++ {
		got := files[fmt.Sprintf("frames/scan_a_v001.%07d.dpx", n)]
		source := n
		if n == 1008 {
			source = 1007 // held
		}
		want, err := os.ReadFile(filepath.Join(dir, fmt.Sprintf("scan.%07d.dpx", source)))
		require.NoError(t, err)
		require.Equal(t, len(want), len(got), "frame %d", n)
		assert.Equal(t, want[:2048], got[:2048], "the header of frame %d leaves as it came", n)
		for i := 2048; i < len(want); i += 4 {
			if bytes.Equal(want[i:i+4], got[i:i+4]) {
				continue
			}
			x, y := float64((i-2048)/4%960)+0.5, float64((i-2048)/4/960)+0.5
			d := known.Dots[0].Point()
			require.Less(
				t,
				max(x-d.X, d.X-x, y-d.Y, d.Y-y),
				known.Dots[0].Radius+30,
				"frame %d changed far from the patch",
				n,
			)
			changed++
		}
	}
	assert.Greater(t, changed, 1000)
	var manifest picture.Manifest
	require.NoError(t, json.Unmarshal(files["manifest.json"], &manifest))
	require.Len(t, manifest.Frames, 16)
	for _, f := range manifest.Frames {
		assert.Equal(t, fmt.Sprintf("%016x", xxhash.Sum64(files[f.File])), f.XXH64)
		assert.Contains(t, string(files[picture.SumsFile]), f.XXH64+"  "+f.File)
	}
	// What an older program summed in another way can be had as well.
	sums := filepath.Join(s.data, "renders", tasks[0].ID, picture.SumsFile)
	old := filepath.Join(filepath.Dir(sums), "SHA256SUMS")
	require.NoError(t, os.Rename(sums, old))
	files = s.unzipped("/api/renders/" + tasks[0].ID + "/frames")
	require.Len(t, files, 16+2)
	require.Contains(t, files, "SHA256SUMS")
	require.NoError(t, os.Rename(old, sums))

	// Patch and mattes, a few frames of them; a wrong name is refused.
	a.press("^Patch only$")
	a.fill("Names", "{shot}_patch")
	a.press("^Render revision")
	a.see("names need \\{frame\\} once")
	a.fill("Names", "{shot}_patch_v{version}.{frame}")
	a.fill("First frame rendered", "1010")
	a.fill("Last frame rendered", "1012")
	a.press("^Render revision")
	a.press("^Mattes$")
	a.press("^Render revision")
	s.wait(time.Minute, "three deliveries", func() bool {
		var all []struct{ State string }
		s.get("/api/tasks", &all)
		done := 0
		for _, one := range all {
			if one.State == "done" {
				done++
			}
		}
		return done == 4
	})
	s.get("/api/tasks", &tasks)
	assert.Equal(t, []int{3, 2, 1}, []int{tasks[0].Version, tasks[1].Version, tasks[2].Version})
	patch := s.download("/api/renders/" + tasks[1].ID + "/frames")
	matte := s.download("/api/renders/" + tasks[0].ID + "/frames")
	require.Len(t, patch, 3)
	require.Len(t, matte, 3)
	p := known.Dots[0].Point()
	_, _, _, inside := patch[1011].At(int(p.X), int(p.Y)).RGBA()
	_, _, _, outside := patch[1011].At(20, 20).RGBA()
	white, _, _, _ := matte[1011].At(int(p.X), int(p.Y)).RGBA()
	black, _, _, _ := matte[1011].At(20, 20).RGBA()
	assert.Equal(t, []uint32{65535, 0, 65535, 0}, []uint32{inside, outside, white, black})

	// Work is seen from everywhere, and what fills memory and disk can be cleared.
	a.press("^Close$")
	a.press("^Work")
	a.see("Render scan_a, version 3: mattes")
	a.see("Footage sent from browsers")
	a.picture("work")
	a.press("^Close$")
	a.key(input.Escape)
}

func (s *server) unzipped(path string) map[string][]byte {
	s.t.Helper()
	data := s.fetch(path)
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(s.t, err)
	out := map[string][]byte{}
	for _, f := range archive.File {
		in, err := f.Open()
		require.NoError(s.t, err)
		out[f.Name], err = io.ReadAll(in)
		require.NoError(s.t, err)
	}
	return out
}
