// Package picture brings a shot's frames and its treatment together: what the
// screen shows, what the tracker follows, what is delivered.
package picture

import (
	"context"
	"fmt"
	"image"
	"math"
	"slices"
	"sync"

	"golang.org/x/sync/singleflight"

	"jardin/app/media"
	"jardin/core/colorspace"
	"jardin/core/geom"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/render"
)

// A Source is the plate of one shot as package render wants it. It is safe for
// concurrent use.
type Source struct {
	Plates *media.Plates
	// Blobs gives artifacts by their SHA-256; nil where there are none.
	Blobs func(ctx context.Context, sha string) ([]byte, error)
	// MostPixels is how many pixels a picture may have that is supplied.
	MostPixels int
	id         string
	cache      *memo.Memo
	coder      *colorspace.Coder
	eval       *render.Evaluator

	making singleflight.Group // of overlays, and of pictures that are missing
}

// NewSource returns the plate in a store. id names it in the cache, which may be
// shared with other shots.
func NewSource(plates *media.Plates, id string, cache *memo.Memo) *Source {
	s := &Source{
		Plates:     plates,
		MostPixels: 256 << 20,
		id:         id,
		cache:      cache,
		coder:      coderFor(plates.Transfer, plates.Samples),
	}
	s.eval = &render.Evaluator{
		Plate:    s,
		Cache:    cache,
		Short:    memo.New(160 << 20),
		Version:  Computation(),
		Pictures: s.supplied,
		Mattes:   s.matte,
		Alpha:    s.alpha,
	}
	return s
}

var coders sync.Map

func coderFor(t colorspace.Transfer, s media.Samples) *colorspace.Coder {
	key := fmt.Sprint(t, s)
	if c, ok := coders.Load(key); ok {
		return c.(*colorspace.Coder)
	}
	c, _ := coders.LoadOrStore(key, s.Coder(t))
	return c.(*colorspace.Coder)
}

// Evaluator returns what evaluates treatments on this plate.
func (s *Source) Evaluator() *render.Evaluator { return s.eval }

// Size returns the bounds of every frame; with Linear, Has and Key it makes the source a
// render.Plate.
func (s *Source) Size() image.Rectangle { return image.Rect(0, 0, s.Plates.Width, s.Plates.Height) }

// A frameOf names one of a plate's frames, whole.
type frameOf struct{ Frame int }

// Has reports whether a frame is in the shot.
func (s *Source) Has(n int) bool { return n >= s.Plates.First && n <= s.Plates.Last }

// White returns the highest value that a pixel can have: infinity for half floats.
func (s *Source) White() float32 { return s.coder.White() }

func (s *Source) Linear(ctx context.Context, n int, rect image.Rectangle) (*raster.Image, error) {
	if p := s.Plates; !s.Has(n) {
		return nil, &render.Beyond{Frame: n, First: p.First, Last: p.Last}
	}
	if rect == s.Size() { // a reference frame: it is painted on again and again
		return memo.Do(
			ctx,
			s.cache,
			s,
			frameOf{n},
			func(_ context.Context, s *Source, f frameOf) (*raster.Image, error) {
				return s.read(f.Frame, s.Size())
			},
		)
	}
	if m, ok := memo.Peek[*raster.Image](s.cache, s, frameOf{n}); ok {
		return m, nil
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return s.read(n, rect)
}

func (s *Source) read(n int, rect image.Rectangle) (*raster.Image, error) {
	f, err := s.Plates.Region(n, rect)
	if err != nil {
		return nil, err
	}
	m := f.Linear(s.coder)
	m.Rect = m.Rect.Add(rect.Intersect(s.Size()).Min)
	return m, nil
}

// Key names the plate: its frames never change.
func (s *Source) Key() string {
	return fmt.Sprintf("%s/%s/%s", s.id, s.Plates.Transfer, s.Plates.Primaries)
}

// An overlayOf is a frame as the screen wants it.
type overlayOf struct {
	Frame     *render.Input
	Code      bool
	Reduction int
}

// An Overlay is a picture of what differs from the plate: a PNG for an sRGB screen,
// transparent where the plate shows, and the place of its pixels on the frame.
type Overlay struct {
	PNG  []byte
	Rect image.Rectangle
}

// Bytes returns the memory that it takes.
func (o *Overlay) Bytes() int { return len(o.PNG) }

// Overlay returns what differs from the plate, for an sRGB screen, or in code values, for tables, made smaller by a whole number: its
// rectangle then begins at a multiple of that.
func (s *Source) Overlay(
	ctx context.Context,
	t *render.Treatment,
	n int,
	view render.View,
	only string,
	code bool,
	reduction int,
) (*Overlay, error) {
	// A change is looked at while it is saved, and again when it is: that is one picture.
	return memo.Do(
		ctx,
		s.cache,
		s,
		overlayOf{t.Input(n, view, only), code, reduction},
		func(ctx context.Context, s *Source, of overlayOf) (*Overlay, error) {
			result, err := s.eval.Evaluate(ctx, of.Frame)
			if err != nil {
				return nil, err
			}
			m := reduced(s.ForScreen(result.Image, of.Code), of.Reduction)
			if m.Rect.Empty() {
				m = image.NewNRGBA(image.Rect(0, 0, 1, 1))
			}
			data, err := media.EncodePNG(
				m.Pix,
				media.Layout{Width: m.Rect.Dx(), Height: m.Rect.Dy(), Channels: 4, Depth: 8},
			)
			r := of.Reduction
			return &Overlay{data, image.Rect(r*m.Rect.Min.X, r*m.Rect.Min.Y, r*m.Rect.Max.X, r*m.Rect.Max.Y)}, err
		},
	)
}

// ForScreen encodes the plate's light for an sRGB screen, or as its code values, for tables. Pixels
// without alpha stay transparent; all others become opaque.
func (s *Source) ForScreen(m *raster.Image, code bool) *image.NRGBA {
	if code {
		return encoded(m, media.CodeTransfer(s.Plates.Transfer), colorspace.BT709Primaries)
	}
	return encoded(m, colorspace.SRGB, s.Plates.Primaries)
}

func encoded(m *raster.Image, t colorspace.Transfer, p colorspace.Primaries) *image.NRGBA {
	coder := coderFor(t, media.Samples{Depth: 8})
	same, to := p == colorspace.BT709Primaries || p == "", p.To(colorspace.BT709Primaries)
	out := image.NewNRGBA(m.Rect)
	raster.Rows(m.Rect.Min.Y, m.Rect.Max.Y, func(y int) {
		src := m.Row(y, m.Rect.Min.X, m.Rect.Max.X)
		dst := out.Pix[out.PixOffset(m.Rect.Min.X, y):]
		for x := range m.Rect.Dx() {
			if src[4*x+3] == 0 {
				continue
			}
			v := [3]float32(src[4*x : 4*x+3])
			if !same {
				v = to.Apply(v)
			}
			for k := range 3 {
				dst[4*x+k] = uint8(coder.Encode(v[k]))
			}
			dst[4*x+3] = 255
		}
	})
	return out
}

// reduced returns a picture made smaller by a whole number: each pixel the mean of those that are not transparent, as opaque as they are
// many. Its rectangle is counted in such pixels, which begin at the frame's corner.
func reduced(m *image.NRGBA, by int) *image.NRGBA {
	if by <= 1 {
		return m
	}
	down := func(v int) int { return int(math.Floor(float64(v) / float64(by))) }
	out := image.NewNRGBA(image.Rect(down(m.Rect.Min.X), down(m.Rect.Min.Y), down(m.Rect.Max.X+by-1), down(m.Rect.Max.Y+by-1)))
	raster.Rows(out.Rect.Min.Y, out.Rect.Max.Y, func(y int) {
		for x := out.Rect.Min.X; x < out.Rect.Max.X; x++ {
			var sum [4]int
			part := image.Rect(x*by, y*by, (x+1)*by, (y+1)*by).Intersect(m.Rect)
			for v := part.Min.Y; v < part.Max.Y; v++ {
				row := m.Pix[m.PixOffset(part.Min.X, v) : m.PixOffset(part.Max.X-1, v)+4]
				for ; len(row) >= 4; row = row[4:] {
					if row[3] > 0 {
						sum[0], sum[1], sum[2], sum[3] = sum[0]+int(row[0]), sum[1]+int(row[1]), sum[2]+int(row[2]), sum[3]+1
					}
				}
			}
			if n := sum[3]; n > 0 {
				to := out.Pix[out.PixOffset(x, y):]
				for k := range 3 {
					to[k] = uint8((sum[k] + n/2) / n)
				}
				to[3] = uint8((255*n + by*by/2) / (by * by))
			}
		}
	})
	return out
}

// Picked is light at a place of a frame.
type Picked struct {
	Light  [3]float64 `json:"light" doc:"The mean linear light in the disc, in the plate's primaries"`
	Spread float64    `json:"spread" doc:"Colour difference (CIE 1976) from there within which four of five pixels lie, as far around as three times the radius, and 60 pixels at most"`
}

// Light returns the light in a disc of a frame as a view shows it; ok is false where none of it lies on the picture.
func (s *Source) Light(ctx context.Context, t *render.Treatment, n int, view render.View, only string, at geom.Point, radius float64) (
	p Picked, ok bool, err error,
) {
	radius = max(radius, 0.75)
	reach := min(3*radius, radius+60)
	step := max(1, int(radius/100)) // of a large disc not every pixel is asked
	rect := raster.Around(geom.Box{Min: at, Max: at}, reach, s.Size())
	if rect.Empty() {
		return p, false, nil
	}
	plate, err := s.Linear(ctx, n, rect)
	if err != nil {
		return p, false, err
	}
	var laid *render.Result
	if view != "" {
		if laid, err = s.eval.Evaluate(ctx, t.Input(n, view, only)); err != nil {
			return p, false, err
		}
	}
	var around [][3]float64
	count := 0.0
	for y := rect.Min.Y; y < rect.Max.Y; y += step {
		for x := rect.Min.X; x < rect.Max.X; x += step {
			v := plate.At(x, y)
			if laid != nil && image.Pt(x, y).In(laid.Rect) && laid.At(x, y)[3] > 0 {
				v = laid.At(x, y)
			}
			l, a, b := colorspace.Lab(float64(v[0]), float64(v[1]), float64(v[2]))
			far := math.Hypot(float64(x)+0.5-at.X, float64(y)+0.5-at.Y)
			if far <= reach {
				around = append(around, [3]float64{l, a, b})
			}
			if far <= radius {
				for k := range p.Light {
					p.Light[k] += float64(v[k])
				}
				count++
			}
		}
	}
	if count == 0 {
		return p, false, nil
	}
	for k := range p.Light {
		p.Light[k] /= count
	}
	l, a, b := colorspace.Lab(p.Light[0], p.Light[1], p.Light[2])
	apart := make([]float64, len(around))
	for i, c := range around {
		apart[i] = math.Hypot(math.Hypot(c[0]-l, c[1]-a), c[2]-b)
	}
	slices.Sort(apart)
	p.Spread = apart[len(apart)*4/5]
	return p, true, nil
}

// Picture returns the path of a picture of the plate, made smaller by one of media.Reductions.
func (s *Source) Picture(n int, kind media.PictureKind, reduction int) (string, error) {
	path, err, _ := s.making.Do(
		fmt.Sprint("picture/", n, kind, reduction),
		func() (any, error) { return s.Plates.Picture(n, kind, reduction) },
	)
	if err != nil {
		return "", err
	}
	return path.(string), nil
}

// Exact returns the plate's frame as a PNG for an sRGB screen, or of its code values, for tables.
func (s *Source) Exact(n int, code bool) ([]byte, error) {
	f, err := s.Plates.Read(n)
	if err != nil {
		return nil, err
	}
	display := media.NewDisplay
	if code {
		display = media.NewCodeDisplay
	}
	shown := display(s.Plates.Shot).Bytes(f)
	return media.EncodePNG(shown, media.Layout{Width: f.Width, Height: f.Height, Channels: 3, Depth: 8})
}
