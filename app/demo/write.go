package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"

	"golang.org/x/sync/errgroup"

	"jardin/core/geom"
	"jardin/core/raster"
)

// edition changes whenever the generated footage does, so that footage of an
// older program is made anew.
const edition = "lm_010 edition 1"

// Folders of the footage below the directory it is written to.
const (
	PlateFolder = Name + "/plate"
	TruthFolder = Name + "/truth"
	CleanFolder = Name + "/clean"
	MatteFolder = Name + "/matte"
	TruthFile   = Name + "/truth.json"
)

// Truth is what truth.json says about the shot.
type Truth struct {
	Edition   string                  `json:"edition"`
	Reference int                     `json:"reference"`
	Motion    map[int]geom.Homography `json:"motion"` // from the reference frame to each frame
	Dots      []TruthDot              `json:"dots"`
}

// A TruthDot is a dot on the reference frame, in pixels.
type TruthDot struct {
	X      float64 `json:"x"`
	Y      float64 `json:"y"`
	Radius float64 `json:"radius"`
}

// Tell returns the contents of truth.json.
func Tell() Truth {
	t := Truth{Edition: edition, Reference: Reference, Motion: map[int]geom.Homography{}}
	for n := First; n <= Last; n++ {
		t.Motion[n] = Transform(Reference, n)
	}
	at, radius := Dots(Reference)
	for i := range at {
		t.Dots = append(t.Dots, TruthDot{at[i].X, at[i].Y, radius[i]})
	}
	return t
}

// Point returns the dot's middle.
func (d TruthDot) Point() geom.Point { return geom.Pt(d.X, d.Y) }

// FramePath returns the file of a frame in one of the folders.
func FramePath(dir, folder string, n int) string {
	return filepath.Join(dir, folder, fmt.Sprintf("%s.%04d.png", Name, n))
}

// Write generates the shot below dir unless it is there already: the plate, its
// truth, the truth without grain (around the dots), the mattes of the dots, and truth.json, which
// is written last and so marks the rest as whole. progress is told after every
// frame.
func Write(ctx context.Context, dir string, progress func(done, total int)) error {
	if old, err := os.ReadFile(filepath.Join(dir, TruthFile)); err == nil {
		var t Truth
		if json.Unmarshal(old, &t) == nil && t.Edition == edition {
			return nil
		}
	}
	for _, folder := range []string{PlateFolder, TruthFolder, CleanFolder, MatteFolder} {
		if err := os.RemoveAll(filepath.Join(dir, folder)); err != nil {
			return fmt.Errorf("clear old footage: %w", err)
		}
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			return fmt.Errorf("make a folder for the footage: %w", err)
		}
	}
	shot := New()
	var encoding errgroup.Group
	encoding.SetLimit(2) // files are packed while the next frame is made
	for n := First; n <= Last; n++ {
		if err := ctx.Err(); err != nil {
			return errors.Join(err, encoding.Wait())
		}
		f := shot.Frame(n)
		encoding.Go(func() error {
			return errors.Join(
				writePNG(FramePath(dir, PlateFolder, n), picture(f.Plate)),
				writePNG(FramePath(dir, TruthFolder, n), picture(f.Truth)),
				writePNG(FramePath(dir, CleanFolder, n), picture(nearDots(f.Clean, n))),
				writePNG(FramePath(dir, MatteFolder, n), grey(f.Matte)))
		})
		if progress != nil {
			progress(n-First+1, Last-First+1)
		}
	}
	if err := encoding.Wait(); err != nil {
		return fmt.Errorf("write the footage: %w", err)
	}
	blob, err := json.MarshalIndent(Tell(), "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, TruthFile), blob, 0o644)
}

// nearDots returns the picture around the dots, black elsewhere: measuring needs
// no more of the frames without grain.
func nearDots(m *raster.Image, n int) *raster.Image {
	out := raster.NewImage(m.Rect)
	at, radius := Dots(n)
	for i, c := range at {
		r := raster.Around(geom.Box{Min: c, Max: c}, radius[i]+20, m.Rect)
		for y := r.Min.Y; y < r.Max.Y; y++ {
			copy(out.Row(y, r.Min.X, r.Max.X), m.Row(y, r.Min.X, r.Max.X))
		}
	}
	return out
}

// Files are stored unpacked: packing grain takes longer than making it and saves
// little.
func writePNG(path string, m image.Image) error {
	var out bytes.Buffer
	if err := (&png.Encoder{CompressionLevel: png.NoCompression}).Encode(&out, m); err != nil {
		return err
	}
	return os.WriteFile(path, out.Bytes(), 0o644)
}

func picture(m *raster.Image) image.Image {
	out := image.NewNRGBA(m.Rect)
	for i, v := range Codes(m) {
		out.Pix[i/3*4+i%3] = uint8(v)
	}
	for i := 3; i < len(out.Pix); i += 4 {
		out.Pix[i] = 255
	}
	return out
}

func grey(p *raster.Plane) image.Image {
	out := image.NewGray(p.Rect)
	for i, v := range p.Pix {
		y := uint8(v*255 + 0.5)
		if v > 0 {
			y = max(y, 1)
		}
		out.SetGray(p.Rect.Min.X+i%p.Rect.Dx(), p.Rect.Min.Y+i/p.Rect.Dx(), color.Gray{Y: y})
	}
	return out
}
