package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jardin/app/demo/demotest"
	"jardin/app/media"
)

// grainy writes frames of noise, which take a while to read and to send.
func grainy(t *testing.T, dir string, count, width, height int) {
	require.NoError(t, os.Mkdir(dir, 0o755))
	path := func(n int) string { return filepath.Join(dir, fmt.Sprintf("g.%04d.png", n)) }
	r := rand.New(rand.NewPCG(1, 2))
	f := media.NewFrame(width, height, media.Samples{Depth: 16})
	for i := range f.Codes {
		f.Codes[i] = uint16(20000 + r.IntN(20000))
	}
	require.NoError(t, (media.Target{Format: "png", Depth: 16}).Write(path(1), f, media.Shot{}))
	for n := 2; n <= count; n++ {
		require.NoError(t, os.Link(path(1), path(n)))
	}
}

// An import is paused by its button and cancelled work is tried again, with a reload of
// the page between; the browser was closed meanwhile, as far as the work knows.
func TestWorkIsPausedByHand(t *testing.T) {
	demotest.Share(t, 3)
	t.Parallel()
	roots := t.TempDir()
	grainy(t, filepath.Join(roots, "g"), 40, 1920, 1080)
	s := serve(t, "--media", roots)
	a := open(t, s.address)
	a.press("^Bring in a shot")
	a.press("/" + filepath.Base(roots) + "/")
	a.press("^g/")
	a.see("40 frames, 1 to 40")
	a.fill("Show", "Winter at Larkmoss")
	a.fill("Shot", "grainy")
	a.press("^Bring in$")
	a.press("^Work")
	press := func(words string) { // in the room of work; the wall behind it has such buttons as well
		el, err := a.page.Timeout(20*time.Second).ElementR("[role=dialog] button", words)
		require.NoError(t, err, "look for %q", words)
		require.NoError(t, el.CancelTimeout().Click(proto.InputMouseButtonLeft, 1))
	}
	press("^Pause$")
	a.see("^Paused$")
	var tasks []struct {
		State       string
		Done, Total int
	}
	s.get("/api/tasks", &tasks)
	require.Equal(t, "paused", tasks[0].State)
	held := tasks[0].Done
	require.Less(t, held, 40)
	require.NoError(t, a.page.Reload())
	a.press("^Work")
	a.see("^Paused$")
	s.get("/api/tasks", &tasks)
	require.Equal(t, held, tasks[0].Done, "nothing goes on by itself")
	press("^Go on$")
	press("^Cancel$")
	a.see("^Cancelled$")
	press("^Try again$")
	a.see("^Done$")
	s.get("/api/tasks", &tasks)
	assert.Equal(t, 40, tasks[0].Done)
}

// Footage that is being sent when the page is loaded anew goes on where it was as soon as
// it is dropped again.
func TestSendingGoesOnAfterAReload(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "sent")
	grainy(t, dir, 8, 960, 540)
	s := serve(t)
	a := open(t, s.address)
	slow := proto.NetworkEmulateNetworkConditions{Latency: 5, DownloadThroughput: -1, UploadThroughput: 6 << 20}
	require.NoError(t, proto.NetworkEnable{}.Call(a.page))
	require.NoError(t, slow.Call(a.page))
	a.drop(dir)
	sent := func() (out []string) {
		out, err := filepath.Glob(filepath.Join(s.data, "uploads", "*", "g.*.png"))
		require.NoError(t, err)
		return out
	}
	s.wait(time.Minute, "some files to be there", func() bool { return len(sent()) >= 2 })
	require.NoError(t, a.page.Reload())
	before := sent()
	require.Less(t, len(before), 8, "it was in the middle")
	first, err := os.Stat(before[0])
	require.NoError(t, err)
	slow.UploadThroughput = -1
	require.NoError(t, slow.Call(a.page))
	a.see("^Bring in a shot")
	a.drop(dir)
	a.see("8 frames, 1 to 8")
	require.Len(t, sent(), 8)
	again, err := os.Stat(before[0])
	require.NoError(t, err)
	assert.Equal(t, first.ModTime(), again.ModTime(), "what was there was not sent again")
	whole, err := os.ReadFile(filepath.Join(dir, "g.0003.png"))
	require.NoError(t, err)
	got, err := os.ReadFile(filepath.Join(filepath.Dir(before[0]), "g.0003.png"))
	require.NoError(t, err)
	assert.Equal(t, whole, got)
}
