package media

import (
	"errors"
	"fmt"
	"image"
	"os"
	"path/filepath"
	"syscall"

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

// Region returns the part r of a frame, which must lie within it, and reads no
// more of the file than the lines that it needs.
func (p *Plates) Region(n int, r image.Rectangle) (*Frame, error) {
	if n < p.First || n > p.Last {
		return nil, fmt.Errorf("frame %d is not in the shot (%d to %d)", n, p.First, p.Last)
	}
	file, err := os.Open(p.path("codes", n, "raw"))
	if err != nil {
		return nil, fmt.Errorf("read frame %d: %w", n, err)
	}
	defer file.Close()
	stride := 3 * p.Width * p.Bytes()
	const some = 32 // lines at a time: they stay in the processor's own memory
	lines := make([]byte, stride*min(some, r.Dy()))
	f := NewFrame(r.Dx(), r.Dy(), p.Samples)
	from, to := 3*r.Min.X*p.Bytes(), 3*r.Max.X*p.Bytes()
	for top := 0; top < r.Dy(); top += some {
		part := lines[:stride*min(some, r.Dy()-top)]
		if _, err := file.ReadAt(part, int64(stride*(r.Min.Y+top))); err != nil {
			return nil, fmt.Errorf("frame %d in the plate store is damaged: %w; bring the shot in again", n, err)
		}
		for y := 0; y*stride < len(part); y++ {
			codes, floats := f.row(top + y)
			unpack(p.Samples, part[y*stride+from:y*stride+to], codes, floats)
		}
	}
	return f, nil
}

// Whole returns a frame with all that its file held.
func (p *Plates) Whole(n int) (*Frame, error) {
	codes, err := os.ReadFile(p.path("codes", n, "raw"))
	if err != nil || len(codes) != 3*p.Width*p.Height*p.Bytes() {
		return nil, fmt.Errorf("frame %d in the plate store is damaged or missing; bring the shot in again", n)
	}
	f := NewFrame(p.Width, p.Height, p.Samples)
	f.Hash = hash(codes)
	stride := len(codes) / p.Height
	raster.Rows(0, p.Height, func(y int) {
		row, floats := f.row(y)
		unpack(p.Samples, codes[y*stride:(y+1)*stride], row, floats)
	})
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
	f.Head, err = os.ReadFile(p.path("head", n, "bin"))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	return f, nil
}

// keep writes a frame into the store, whole or not at all.
func (p *Plates) keep(n int, f *Frame) error {
	write := func(folder, ending string, data []byte) error {
		if err := writeWhole(p.path(folder, n, ending), data); err != nil {
			if errors.Is(err, syscall.ENOSPC) {
				return errors.New("the disk is full: clear results or renders, or remove shots, and try again")
			}
			return fmt.Errorf("store frame %d: %w", n, err)
		}
		return nil
	}
	if f.Alpha != nil {
		if err := write("alpha", "raw", pack(f.Samples, f.Alpha.Codes, f.Alpha.Floats)); err != nil {
			return err
		}
	}
	if len(f.Head) > 0 {
		if err := write("head", "bin", f.Head); err != nil {
			return err
		}
	}
	return write("codes", "raw", pack(f.Samples, f.Codes, f.Floats))
}

// Hash returns the XXH64 of a frame's code values as they are kept: it tells plates
// apart, in a tenth of the time that SHA-256 takes.
func (p *Plates) Hash(n int) (string, error) {
	data, err := os.ReadFile(p.path("codes", n, "raw"))
	if err != nil {
		return "", fmt.Errorf("read frame %d: %w", n, err)
	}
	return hash(data), nil
}

func hash(codes []byte) string { return fmt.Sprintf("%016x", xxhash.Sum64(codes)) }
