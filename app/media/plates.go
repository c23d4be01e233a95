package media

import (
	"errors"
	"fmt"
	"image"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"sync"

	"github.com/cespare/xxhash/v2"

	"jardin/core/colorspace"
	"jardin/core/raster"
)

// Shot is what a plate store needs to know to read frames.
type Shot struct {
	First  int
	Last   int
	Width  int
	Height int
	Samples
	Rate      Rational
	Aspect    float64 // of a pixel, width to height
	Transfer  colorspace.Transfer
	Primaries colorspace.Primaries
	Alpha     bool
	Timecode  string // of the first frame; empty if there is none
	Fields    string // frames are fields, taken apart: which of a frame's comes first (see apart.go)
}

// AtOnce returns how many frames are read, made or written at once: enough that the
// processors need not wait for the disk, and no more than fit into some 256 MB.
func (s Shot) AtOnce() int {
	bytes := 3 * s.Width * s.Height * s.Samples.Bytes()
	return max(2, min(2+runtime.GOMAXPROCS(0), 256<<20/(3*max(bytes, 1))))
}

// Plates is the store of one shot's frames: the code values as they came in,
// pictures for the screen, and thumbnails for the ribbon. It is written once.
type Plates struct {
	Dir string
	Shot
}

// ScreenPath is the JPEG of a frame for playback, ThumbPath its thumbnail.
func (p *Plates) ScreenPath(n int) string { return p.path("screen", n, "jpg") }
func (p *Plates) ThumbPath(n int) string  { return p.path("thumb", n, "jpg") }
func (p *Plates) path(folder string, n int, ending string) string {
	return filepath.Join(p.Dir, folder, fmt.Sprintf("%08d.%s", n, ending))
}

// Read returns a frame, without alpha and head.
func (p *Plates) Read(n int) (*Frame, error) {
	return p.Region(n, image.Rect(0, 0, p.Width, p.Height))
}

// A layout says how a frame's code values lie in their file.
type layout struct {
	ending string
	pixel  int // bytes
	words  bool
}

// layout returns how frames are kept: at 10 bits as DPX mostly has them, the three samples
// of a pixel in a word, which takes two thirds of the room and is how they often come.
func (p *Plates) layout() layout {
	if p.Samples.Depth == 10 {
		return layout{"w10", 4, true}
	}
	return layout{"raw", 3 * p.Bytes(), false}
}

// codes returns where a frame's code values are, and how they lie. Stores of 10 bits that
// were made before words were have two bytes a sample.
func (p *Plates) codes(n int) (string, layout) {
	l := p.layout()
	path := p.path("codes", n, l.ending)
	if l.words {
		if _, err := os.Stat(path); err != nil {
			if old := p.path("codes", n, "raw"); fileSize(old) > 0 {
				return old, layout{"raw", 6, false}
			}
		}
	}
	return path, l
}

// unpack takes pixels out of their bytes.
func (l layout) unpack(s Samples, data []byte, codes []uint16, floats []float32) {
	if !l.words {
		unpack(s, data, codes, floats)
		return
	}
	unpackWords(data, codes)
}

// Region returns the part r of a frame, which must lie within it, and reads no
// more of the file than the lines that it needs.
func (p *Plates) Region(n int, rect image.Rectangle) (*Frame, error) {
	if n < p.First || n > p.Last {
		return nil, fmt.Errorf("frame %d is not in the shot (%d to %d)", n, p.First, p.Last)
	}
	path, l := p.codes(n)
	file, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("read frame %d: %w", n, err)
	}
	defer file.Close()
	stride := l.pixel * p.Width
	const some = 32 // lines at a time: they stay in the processor's own memory
	lines := make([]byte, stride*min(some, rect.Dy()))
	f := NewFrame(rect.Dx(), rect.Dy(), p.Samples)
	from, to := l.pixel*rect.Min.X, l.pixel*rect.Max.X
	for top := 0; top < rect.Dy(); top += some {
		part := lines[:stride*min(some, rect.Dy()-top)]
		if _, err := file.ReadAt(part, int64(stride*(rect.Min.Y+top))); err != nil {
			return nil, fmt.Errorf("frame %d in the plate store is damaged: %w; bring the shot in again", n, err)
		}
		for y := 0; y*stride < len(part); y++ {
			codes, floats := f.row(top + y)
			l.unpack(p.Samples, part[y*stride+from:y*stride+to], codes, floats)
		}
	}
	return f, nil
}

// Whole returns a frame with all that its file held; of 10 bits it comes packed.
func (p *Plates) Whole(n int) (*Frame, error) {
	path, l := p.codes(n)
	size := l.pixel * p.Width * p.Height
	var codes []byte
	if l.words {
		codes = make([]byte, size) // they stay, as they are
	} else {
		codes = taken(size)
		defer packed.Put(&codes)
	}
	if err := readInto(codes, path); err != nil {
		return nil, fmt.Errorf(
			"frame %d in the plate store is damaged or missing (%w); bring the shot in again",
			n,
			err,
		)
	}
	f := &Frame{Width: p.Width, Height: p.Height, Samples: p.Samples, words: codes}
	if !l.words {
		f = NewFrame(p.Width, p.Height, p.Samples)
		stride := len(codes) / p.Height
		raster.Rows(0, p.Height, func(y int) {
			row, floats := f.row(y)
			unpack(p.Samples, codes[y*stride:(y+1)*stride], row, floats)
		})
	}
	f.Hash = hash(codes)
	if p.Alpha {
		data, err := os.ReadFile(p.path("alpha", n, "raw"))
		if err != nil || len(data) != p.Width*p.Height*p.Bytes() {
			return nil, fmt.Errorf("the alpha of frame %d in the plate store is damaged; bring the shot in again", n)
		}
		f.Alpha = &Alpha{}
		if p.Samples.Depth == 32 {
			f.Alpha.Floats = make([]float32, p.Width*p.Height)
		} else {
			f.Alpha.Codes = make([]uint16, p.Width*p.Height)
		}
		unpack(p.Samples, data, f.Alpha.Codes, f.Alpha.Floats)
	}
	var err error
	f.Head, err = os.ReadFile(p.path("head", n, "bin"))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	return f, nil
}

// packed holds what frames were read into, for the next ones: it is as large as they are.
var packed sync.Pool

func taken(size int) []byte {
	if b, ok := packed.Get().(*[]byte); ok && cap(*b) >= size {
		return (*b)[:size]
	}
	return make([]byte, size)
}

// store writes a frame into the store, whole or not at all.
func (p *Plates) store(n int, f *Frame) error {
	if f.Alpha != nil {
		if err := p.write(p.path("alpha", n, "raw"), n, pack(f.Samples, f.Alpha.Codes, f.Alpha.Floats),
			true); err != nil {
			return err
		}
	}
	if len(f.Head) > 0 {
		if err := p.write(p.path("head", n, "bin"), n, f.Head, true); err != nil {
			return err
		}
	}
	l := p.layout()
	path := p.path("codes", n, l.ending)
	switch {
	case !l.words:
		return p.write(path, n, pack(f.Samples, f.Codes, f.Floats), true)
	case f.words != nil:
		return p.write(path, n, f.words, true)
	}
	data := buffers.get(l.pixel * f.Width * f.Height)
	defer buffers.put(data)
	raster.Rows(0, f.Height, func(y int) { packWords(f.Codes[3*y*f.Width:3*(y+1)*f.Width], data[4*y*f.Width:]) })
	return p.write(path, n, data, true)
}

// write writes a file of a frame's, whole or not at all.
func (p *Plates) write(path string, n int, data []byte, sync bool) error {
	err := writeFile(path, data, sync)
	if err != nil {
		return fmt.Errorf("store frame %d: %w", n, err)
	}
	return nil
}

// Hash returns the XXH64 of a frame's code values as they are kept: it tells plates
// apart, in a tenth of the time that SHA-256 takes.
func (p *Plates) Hash(n int) (string, error) {
	path, l := p.codes(n)
	data := buffers.get(l.pixel * p.Width * p.Height)
	defer buffers.put(data)
	if err := readInto(data, path); err != nil {
		return "", fmt.Errorf("read frame %d: %w", n, err)
	}
	return hash(data), nil
}

// readInto fills data with a file that has just its length.
func readInto(data []byte, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || info.Size() != int64(len(data)) {
		return errors.Join(err, fmt.Errorf("it has not the %d bytes of a frame", len(data)))
	}
	_, err = io.ReadFull(f, data)
	return err
}

// fileSize returns how many bytes a file has; 0 if there is none.
func fileSize(path string) int64 {
	info, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return info.Size()
}

func hash(codes []byte) string { return fmt.Sprintf("%016x", xxhash.Sum64(codes)) }
