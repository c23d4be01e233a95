package picture

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"image"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"sort"
	"sync"

	"github.com/klauspost/compress/s2"

	"jardin/app/routines"
	"jardin/core/raster"
)

// A diskCache keeps pictures in a folder, up to a number of bytes; those written longest
// ago leave first. A file that is not whole counts as absent.
type diskCache struct {
	dir    string
	budget int64
	mu     sync.Mutex // one writes at a time
}

func (s *diskCache) path(key string) string {
	sum := sha256.Sum256([]byte(key))
	return filepath.Join(s.dir, hex.EncodeToString(sum[:20])+".layer")
}

// Get returns a picture that was kept.
func (s *diskCache) Get(key string) (*raster.Image, bool) {
	packed, err := os.ReadFile(s.path(key))
	if err != nil {
		return nil, false
	}
	data, err := s2.Decode(nil, packed)
	if err != nil || len(data) < 16 {
		return nil, false
	}
	at := func(i int) int { return int(int32(binary.LittleEndian.Uint32(data[4*i:]))) }
	rect := image.Rect(at(0), at(1), at(2), at(3))
	if len(data) != 16+16*rect.Dx()*rect.Dy() {
		return nil, false
	}
	m := raster.NewImage(rect)
	for i := range m.Pix {
		m.Pix[i] = math.Float32frombits(binary.LittleEndian.Uint32(data[16+4*i:]))
	}
	return m, true
}

// Put writes a picture, in its own time.
func (s *diskCache) Put(key string, m *raster.Image) {
	routines.Go("keep paint on disk", func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		data := make([]byte, 16, 16+4*len(m.Pix))
		for i, v := range []int{m.Rect.Min.X, m.Rect.Min.Y, m.Rect.Max.X, m.Rect.Max.Y} {
			binary.LittleEndian.PutUint32(data[4*i:], uint32(int32(v)))
		}
		for _, v := range m.Pix {
			data = binary.LittleEndian.AppendUint32(data, math.Float32bits(v))
		}
		part := s.path(key) + ".part"
		if os.MkdirAll(s.dir, 0o700) != nil || os.WriteFile(part, s2.Encode(nil, data), 0o600) != nil ||
			os.Rename(part, s.path(key)) != nil {
			_ = os.Remove(part) // a full disk keeps nothing, and harms nothing
			return
		}
		s.trim()
	})
}

// trim removes what was written longest ago until the rest is within the budget.
func (s *diskCache) trim() {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return
	}
	var files []fs.FileInfo
	var sum int64
	for _, e := range entries {
		if f, err := e.Info(); err == nil {
			files = append(files, f)
			sum += f.Size()
		}
	}
	sort.Slice(files, func(i, j int) bool { return files[i].ModTime().Before(files[j].ModTime()) })
	for _, f := range files {
		if sum <= s.budget {
			return
		}
		if err := os.Remove(filepath.Join(s.dir, f.Name())); err == nil || errors.Is(err, fs.ErrNotExist) {
			sum -= f.Size()
		}
	}
}
