package picture

import (
	"io/fs"
	"path/filepath"
	"runtime/metrics"
	"strings"
	"syscall"

	"jardin/app/datafolder"
)

// A Filling is something that takes up room.
type Filling struct {
	What  string `json:"what" doc:"Of memory: frames, pictures, treatments, results or work; on disk: plates, paint, render or uploads"`
	ID    string `json:"id,omitempty"`
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
	Clear bool   `json:"clear" doc:"It can be cleared"`
}

// Usage is what fills memory and disk.
type Usage struct {
	Memory       []Filling `json:"memory" nullable:"false"`
	MemoryBudget int64     `json:"memoryBudget" doc:"Bytes that all of it may take; what was used longest ago leaves"`
	Disk         []Filling `json:"disk" nullable:"false"`
	PaintBudget  int64     `json:"paintBudget" doc:"Bytes that paint may take on disk"`
	DiskFree     int64     `json:"diskFree"`
}

// Usage tells what fills the memory, and paint on disk.
func (w *Workspace) Usage() Usage {
	u := Usage{MemoryBudget: int64(w.memory), PaintBudget: w.diskCache.budget, Memory: []Filling{}, Disk: []Filling{}}
	kinds := map[string]string{"frameOf": "frames", "overlayOf": "pictures", "revisionOf": "treatments"}
	sums := map[string]int64{"results": int64(w.short.Used())}
	for kind, n := range w.cache.Kinds() {
		what, ok := kinds[kind]
		switch {
		case ok:
		case strings.HasPrefix(kind, "numbersOf"):
			what = "treatments"
		default:
			what = "results"
		}
		sums[what] += int64(n)
	}
	// What was alive when garbage was last collected, and is not kept.
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(live)
	sums["work"] = max(0, int64(live[0].Value.Uint64())-int64(w.cache.Used()+w.short.Used()))
	for _, f := range []Filling{{What: "frames", Name: "Decoded frames"}, {What: "pictures",
		Name: "Pictures for the screen"}, {What: "results", Name: "Paint and measures"}, {What: "treatments",
		Name: "Treatments"}, {What: "work", Name: "Program, work under way"}} {
		f.Bytes = sums[f.What]
		u.Memory = append(u.Memory, f)
	}
	u.Disk = append(
		u.Disk,
		Filling{What: "paint", Name: "Paint, kept for the next start", Bytes: Size(w.diskCache.dir), Clear: true},
	)
	var disk syscall.Statfs_t
	if syscall.Statfs(w.Folder.Dir(), &disk) == nil {
		u.DiskFree = int64(disk.Bavail) * disk.Bsize
	}
	return u
}

// ClearMemory forgets all that can be worked out again.
func (w *Workspace) ClearMemory() {
	w.cache.Clear()
	w.short.Clear()
}

// ClearPaint removes the paint that is kept on disk.
func (w *Workspace) ClearPaint() error {
	w.diskCache.mu.Lock()
	defer w.diskCache.mu.Unlock()
	return w.Folder.Clear(datafolder.Paint)
}

// Size returns how many bytes the files of a folder have; 0 if it is not there.
func Size(dir string) (sum int64) {
	_ = filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if info, err := e.Info(); err == nil && !e.IsDir() {
			sum += info.Size()
		}
		return nil
	})
	return sum
}
