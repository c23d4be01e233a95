package picture

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math"

	"golang.org/x/sync/semaphore"

	"jardin/app/media"
	"jardin/core/colorspace"
	"jardin/core/memo"
	"jardin/core/raster"
	"jardin/core/render"
	"jardin/core/settle"
	"jardin/core/treatment"
)

// ExternalPicture is a picture on its way to another program and back: which one it is.
type ExternalPicture struct {
	Removal  string
	Source   string // its paint is on the picture as well; empty for the untouched plate
	Frame    int
	Denoised bool // with the grain reduced
}

// sixteen are the samples that pictures are handed out in.
var sixteen = media.Samples{Depth: 16}

// denoiseStrength is how strongly grain is reduced in pictures that are handed out.
const denoiseStrength = 3

// codes returns the picture as straight RGB codes of 16 bits in the plate's encoding.
func (s *Source) codes(ctx context.Context, t *render.Treatment, o ExternalPicture) ([]uint16, error) {
	if o.Frame < s.Plates.First || o.Frame > s.Plates.Last {
		return nil, fmt.Errorf("frame %d is not in the shot (%d to %d)", o.Frame, s.Plates.First, s.Plates.Last)
	}
	plate, err := s.Plates.Read(o.Frame)
	if err != nil {
		return nil, err
	}
	fine := coderFor(s.Plates.Transfer, sixteen)
	out := plate.Deep(s.coder, fine)
	if o.Denoised {
		denoised := settle.Denoise(plate.Linear(s.coder), denoiseStrength)
		for i := range len(out) / 3 {
			for k := range 3 {
				out[3*i+k] = fine.Encode(denoised.Pix[4*i+k])
			}
		}
	}
	if o.Source == "" {
		return out, nil
	}
	c, err := s.eval.Easel(ctx, t, o.Removal, &treatment.Source{ID: o.Source, Kind: treatment.HeldPlate}, o.Frame)
	if err != nil {
		return nil, err
	}
	layer := c.View(s.Size())
	for i := range len(out) / 3 {
		a := layer.Pix[4*i+3]
		if a == 0 {
			continue
		}
		for k := range 3 {
			under := fine.Decode(out[3*i+k])
			out[3*i+k] = fine.Encode(layer.Pix[4*i+k] + under*(1-a))
		}
	}
	return out, nil
}

// HandOut returns a frame as a file for another program: png, tiff or exr.
func (s *Source) HandOut(ctx context.Context, t *render.Treatment, o ExternalPicture, as string) ([]byte, error) {
	codes, err := s.codes(ctx, t, o)
	if err != nil {
		return nil, err
	}
	return media.EncodeStill(as, s.Plates.Width, s.Plates.Height, codes, s.Plates.Transfer)
}

// Suspicious says that a picture came back so different that it can hardly be
// what was painted.
type Suspicious struct{ Share float64 }

func (e *Suspicious) Error() string {
	return fmt.Sprintf(
		"%.0f %% of its pixels differ from what was handed out: the other program seems to have changed colours or "+
			"encoding on the way. Turn off its colour conversion and save again, or bring it in as it is",
		e.Share*100,
	)
}

// TakeBack reads a picture that was painted elsewhere and returns it as it is kept:
// transparent where it is what was handed out, so that the plate's own code values
// stay there. anyway takes it also if nearly everything differs.
func (s *Source) TakeBack(
	ctx context.Context,
	t *render.Treatment,
	o ExternalPicture,
	data []byte,
	anyway bool,
) (*media.Still, error) {
	still, err := s.Decode(ctx, data)
	if err != nil {
		return nil, err
	}
	if w, h := s.Plates.Width, s.Plates.Height; still.Width != w || still.Height != h {
		return nil, fmt.Errorf(
			"it has %d x %d pixels, the plate has %d x %d: save it at the size at which it was handed out, or bring "+
				"it in as a piece",
			still.Width,
			still.Height,
			w,
			h,
		)
	}
	sent, err := s.codes(ctx, t, o)
	if err != nil {
		return nil, err
	}
	fine := coderFor(s.Plates.Transfer, sixteen)
	// What still counts as the same: less than half a code value of the plate; of half
	// floats, which may have been used on the way, their last bit.
	near := 0.0
	if !s.Plates.Float && s.Plates.Depth < 16 {
		near = 65535 / float64(s.Plates.Max()) / 2
	}
	light := still.Light
	inCodes(still, fine)
	changed, coarse := 0, true
	for i := range still.Width * still.Height {
		v := still.Codes[4*i : 4*i+4]
		same := true
		for k := range 3 {
			d := math.Abs(float64(v[k]) - float64(sent[3*i+k]))
			if light != nil {
				was := float64(fine.Decode(sent[3*i+k]))
				same = same && (d <= near || math.Abs(float64(light[4*i+k])-was) <= was/1024)
			} else {
				same = same && d <= near
			}
			coarse = coarse && v[k]%257 == 0
		}
		if same || v[3] == 0 {
			copy(v, []uint16{0, 0, 0, 0})
		} else {
			changed++
		}
	}
	share := float64(changed) / float64(still.Width*still.Height)
	switch {
	case changed == 0:
		return nil, errors.New("nothing on it differs from what was handed out; paint on it first")
	case coarse && s.Plates.Depth > 8 && light == nil:
		return nil, errors.New(
			"it came back with 8 bits a channel, the plate has more: save it with 16, or its tones will show as steps",
		)
	case share > 0.6 && !anyway:
		return nil, &Suspicious{share}
	}
	return still, nil
}

// Decoding lets one supplied picture at a time be decoded: each may take a good part of the
// memory.
var Decoding = semaphore.NewWeighted(1)

// Decode reads a supplied picture.
func (s *Source) Decode(ctx context.Context, data []byte) (*media.Still, error) {
	if err := Decoding.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	defer Decoding.Release(1)
	return media.DecodeStill(ctx, data, s.MostPixels)
}

// TakePiece reads a picture of any size, with or without alpha.
func (s *Source) TakePiece(ctx context.Context, data []byte) (*media.Still, error) {
	still, err := s.Decode(ctx, data)
	if err != nil {
		return nil, err
	}
	inCodes(still, coderFor(s.Plates.Transfer, sixteen))
	return still, nil
}

// inCodes gives a picture of light the plate's codes.
func inCodes(still *media.Still, fine *colorspace.Coder) {
	if still.Light == nil {
		return
	}
	still.Codes = make([]uint16, len(still.Light))
	for i := 0; i < len(still.Light); i += 4 {
		a := min(max(still.Light[i+3], 0), 1)
		still.Codes[i+3] = uint16(math.Round(float64(a) * 65535))
		for k := range 3 {
			if a > 0 {
				still.Codes[i+k] = fine.Encode(still.Light[i+k] / a)
			}
		}
	}
}

// still reads a picture of the treatment. name tells its content from any other's.
func (s *Source) still(ctx context.Context, p *treatment.Picture) (still func() (*media.Still, error), name string) {
	data, name := p.Data, p.Artifact
	if name == "" {
		sum := sha256.Sum256(data)
		name = hex.EncodeToString(sum[:])
	}
	return func() (*media.Still, error) {
		if len(data) == 0 {
			if s.Blobs == nil {
				return nil, fmt.Errorf(
					"the picture %q did not come with the treatment; export the treatment with its data in place",
					p.Name,
				)
			}
			var err error
			if data, err = s.Blobs(ctx, p.Artifact); err != nil {
				return nil, err
			}
		}
		still, err := s.Decode(ctx, data)
		if err != nil {
			return nil, fmt.Errorf("picture %q: %w", p.Name, err)
		}
		return still, nil
	}, name
}

// A pictureOf names a supplied picture, by what it holds.
type pictureOf struct {
	Content string
	Matte   bool
}

// supplied gives a picture of the treatment in light.
func (s *Source) supplied(ctx context.Context, p *treatment.Picture) (*raster.Image, error) {
	read, name := s.still(ctx, p)
	return memo.Do(
		ctx,
		s.cache,
		s,
		pictureOf{name, false},
		func(_ context.Context, s *Source, _ pictureOf) (*raster.Image, error) {
			still, err := read() // what the name is the hash of
			if err != nil {
				return nil, err
			}
			inCodes(still, coderFor(s.Plates.Transfer, sixteen))
			return still.Premultiplied(coderFor(s.Plates.Transfer, sixteen)), nil
		},
	)
}

// alpha gives the plate's own alpha on a frame.
func (s *Source) alpha(_ context.Context, n int) (*raster.Plane, error) {
	if !s.Plates.Alpha {
		return nil, errors.New("the plate has no alpha; choose supplied mattes, or an outline")
	}
	out := raster.NewPlane(s.Size())
	if n < s.Plates.First || n > s.Plates.Last {
		return out, nil
	}
	frame, err := s.Plates.Whole(n)
	if err != nil {
		return nil, err
	}
	if frame.Alpha == nil {
		return out, nil
	}
	if frame.Alpha.Floats != nil {
		for i, v := range frame.Alpha.Floats {
			out.Pix[i] = min(max(v, 0), 1)
		}
		return out, nil
	}
	coder := coderFor(colorspace.Linear, s.Plates.Samples)
	for i, v := range frame.Alpha.Codes {
		out.Pix[i] = min(max(coder.Decode(v), 0), 1)
	}
	return out, nil
}

// matte gives a supplied matte: its alpha where it has one, else how white it is.
func (s *Source) matte(ctx context.Context, p *treatment.Picture) (*raster.Plane, error) {
	read, name := s.still(ctx, p)
	return memo.Do(
		ctx,
		s.cache,
		s,
		pictureOf{name, true},
		func(_ context.Context, s *Source, _ pictureOf) (*raster.Plane, error) {
			still, err := read() // what the name is the hash of
			if err != nil {
				return nil, err
			}
			inCodes(still, coderFor(colorspace.Linear, sixteen)) // of an OpenEXR its numbers are the coverage
			out := raster.NewPlane(s.Size())
			if len(still.Codes) != 4*len(out.Pix) {
				return nil, fmt.Errorf(
					"the matte %q has not the size of the shot, %d x %d",
					p.Name,
					s.Plates.Width,
					s.Plates.Height,
				)
			}
			alpha := false
			for i := 3; i < len(still.Codes); i += 4 {
				alpha = alpha || still.Codes[i] != 65535
			}
			for i := range out.Pix {
				v := still.Codes[4*i : 4*i+4]
				if alpha {
					out.Pix[i] = float32(v[3]) / 65535
				} else {
					out.Pix[i] = colorspace.Luma(float32(v[0]), float32(v[1]), float32(v[2])) / 65535
				}
			}
			return out, nil
		},
	)
}
