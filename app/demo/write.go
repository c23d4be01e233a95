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
	"slices"
	"strings"
	"sync"

	"jardin/app/routines"
	"jardin/core/geom"
	"jardin/core/raster"
)

// Editions change whenever the generated footage does, so that footage of an
// older program is made anew.
const (
	edition    = "lm_010 edition 2"
	canEdition = "lm_020 edition 3"

	barrowEdition = "lm_040 edition 2"
	focusEdition  = "lm_060 edition 2"
	bannerEdition = "lm_030 edition 2"
	bedsEdition   = "lm_050 edition 3"
)

// Folders of the footage below the directory it is written to.
const (
	PlateFolder    = Name + "/plate"
	TruthFolder    = Name + "/truth"
	CleanFolder    = Name + "/clean"
	MatteFolder    = Name + "/matte"
	TruthFile      = Name + "/truth.json"
	CanPlateFolder = CanName + "/plate"
	CanTruthFolder = CanName + "/truth"
	CanMatteFolder = CanName + "/matte"
	CanTruthFile   = CanName + "/truth.json"
	CanCleanFolder = CanName + "/clean"

	BarrowPlateFolder = BarrowName + "/plate"
	BarrowTruthFolder = BarrowName + "/truth"
	BarrowCleanFolder = BarrowName + "/clean"
	BarrowMatteFolder = BarrowName + "/matte"
	BarrowTruthFile   = BarrowName + "/truth.json"

	FocusPlateFolder = FocusName + "/plate"
	FocusTruthFolder = FocusName + "/truth"
	FocusCleanFolder = FocusName + "/clean"
	FocusMatteFolder = FocusName + "/matte"
	FocusTruthFile   = FocusName + "/truth.json"

	BannerPlateFolder = BannerName + "/plate"
	BannerTruthFolder = BannerName + "/truth"
	BannerCleanFolder = BannerName + "/clean"
	BannerMatteFolder = BannerName + "/matte"
	BannerTruthFile   = BannerName + "/truth.json"

	BedsPlateFolder = BedsName + "/plate"
	BedsTruthFolder = BedsName + "/truth"
	BedsCleanFolder = BedsName + "/clean"
	BedsMatteFolder = BedsName + "/matte"
	BedsTruthFile   = BedsName + "/truth.json"
)

// A Clip is one shot of the demo: where its plate lies below the footage's folder,
// and its frames.
type Clip struct {
	Name        string
	Plate       string
	First, Last int
}

// Clips returns the shots of the demo.
func Clips() []Clip {
	return []Clip{
		{Name, PlateFolder, First, Last},
		{CanName, CanPlateFolder, CanFirst, CanLast},
		{BarrowName, BarrowPlateFolder, BarrowFirst, BarrowLast},
		{FocusName, FocusPlateFolder, FocusFirst, FocusLast},
		{BannerName, BannerPlateFolder, BannerFirst, BannerLast},
		{BedsName, BedsPlateFolder, BedsFirst, BedsLast},
	}
}

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
	name, _, _ := strings.Cut(folder, "/")
	if name == "" || name == "." {
		name = Name
	}
	return filepath.Join(dir, folder, fmt.Sprintf("%s.%04d.png", name, n))
}

// recipe is how the footage of one shot is made: the pictures of a frame by the
// folder that they go to, and what truth.json says.
type recipe struct {
	edition   string
	folders   []string
	truthFile string
	clip      Clip
	pictures  func(n int) map[string]func() image.Image
	truth     func() any
}

func recipes() []recipe {
	dots, can, barrow, pull, banner, beds := New(), NewCan(), NewBarrow(), NewFocus(), NewBanner(), NewBeds()
	clips := Clips()
	return []recipe{
		still(edition, TruthFile, clips[0], dots.Frame, nearDots, func() any { return Tell() }),
		still(canEdition, CanTruthFile, clips[1], can.Frame, nearMatte, func() any { return TellCan() }),
		still(barrowEdition, BarrowTruthFile, clips[2], barrow.Frame, nearMatte, func() any { return TellBarrow() }),
		still(focusEdition, FocusTruthFile, clips[3], pull.Frame, nearMatte, func() any { return TellFocus() }),
		still(bannerEdition, BannerTruthFile, clips[4], banner.Frame, nearMatte, func() any { return TellBanner() }),
		still(bedsEdition, BedsTruthFile, clips[5], beds.Frame, nearMatte, func() any { return TellBeds() }),
	}
}

// still is the recipe of a shot whose frames are pictures; clean says what is kept of the truth without grain.
func still(edition, truthFile string, clip Clip, frame func(n int) Frame, clean func(f Frame, n int) *raster.Image, truth func() any) recipe {
	folder := func(of string) string { return clip.Name + "/" + of }
	plate, bare, without, matte := folder("plate"), folder("truth"), folder("clean"), folder("matte")
	return recipe{edition, []string{plate, bare, without, matte}, truthFile, clip,
		func(n int) map[string]func() image.Image {
			f := frame(n)
			return map[string]func() image.Image{
				plate:   func() image.Image { return picture(f.Plate) },
				bare:    func() image.Image { return picture(f.Truth) },
				without: func() image.Image { return picture(clean(f, n)) },
				matte:   func() image.Image { return grey(f.Matte) },
			}
		}, truth}
}

func nearMatte(f Frame, _ int) *raster.Image { return near(f.Clean, f.Matte) }

// Write generates the shots below dir unless they are there already: plates, their
// truth, the truth without grain (around what has to go), mattes of what has to
// go, and truth.json, which is written last and so marks the rest as whole.
// progress is told after every frame, made as soon as a shot is there, in the order of Clips. Only those named are made if any are.
func Write(ctx context.Context, dir string, progress func(done, total int), made func(Clip), only ...string) error {
	all := slices.DeleteFunc(recipes(), func(how recipe) bool { return len(only) > 0 && !slices.Contains(only, how.clip.Name) })
	wanted := map[string]bool{}
	total, done := 0, 0
	for _, how := range all {
		var old struct{ Edition string }
		blob, err := os.ReadFile(filepath.Join(dir, how.truthFile))
		if err == nil && json.Unmarshal(blob, &old) == nil && old.Edition == how.edition {
			continue
		}
		wanted[how.clip.Name] = true
		total += how.clip.Last - how.clip.First + 1
	}
	for _, how := range all {
		if wanted[how.clip.Name] {
			if err := how.write(ctx, dir, func() {
				done++
				if progress != nil {
					progress(done, total)
				}
			}); err != nil {
				return err
			}
		}
		if made != nil {
			made(how.clip)
		}
	}
	return nil
}

func (how *recipe) write(ctx context.Context, dir string, step func()) error {
	for _, folder := range how.folders {
		if err := os.RemoveAll(filepath.Join(dir, folder)); err != nil {
			return fmt.Errorf("clear old footage: %w", err)
		}
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			return fmt.Errorf("make a folder for the footage: %w", err)
		}
	}
	frames, _ := routines.NewGroup(ctx, 2)
	var told sync.Mutex
	for n := how.clip.First; n <= how.clip.Last; n++ {
		frames.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			var failed error
			for folder, m := range how.pictures(n) {
				failed = errors.Join(failed, writePNG(FramePath(dir, folder, n), m()))
			}
			told.Lock()
			defer told.Unlock()
			step()
			return failed
		})
	}
	if err := frames.Wait(); err != nil {
		return fmt.Errorf("write the footage: %w", err)
	}
	blob, err := json.MarshalIndent(how.truth(), "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, how.truthFile), blob, 0o644)
}

// nearDots returns the picture around the dots, black elsewhere: measuring needs
// no more of the frames without grain.
func nearDots(f Frame, n int) *raster.Image {
	m := f.Clean
	out := raster.NewImage(m.Rect)
	at, radius := Dots(n)
	for i, c := range at {
		rect := raster.Around(geom.Box{Min: c, Max: c}, radius[i]+20, m.Rect)
		for y := rect.Min.Y; y < rect.Max.Y; y++ {
			copy(out.Row(y, rect.Min.X, rect.Max.X), m.Row(y, rect.Min.X, rect.Max.X))
		}
	}
	return out
}

// near returns the picture in and around a matte, black elsewhere.
func near(m *raster.Image, matte *raster.Plane) *raster.Image {
	cover := raster.NewPlane(matte.Rect)
	for i, v := range matte.Pix {
		if v > 0 {
			cover.Pix[i] = 1
		}
	}
	around := raster.Gaussian(cover, 8)
	out := raster.NewImage(m.Rect)
	for i, v := range around.Pix {
		if v > 1e-4 {
			copy(out.Pix[4*i:4*i+4], m.Pix[4*i:4*i+4])
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
