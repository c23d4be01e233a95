package picture_test

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/image/tiff"

	"jardin/app/media"
	"jardin/app/picture"
	"jardin/core/geom"
	"jardin/core/render"
	"jardin/core/treatment"
)

// A frame goes to another program and comes back, as every format it is handed out in:
// where nothing was painted the finished frame has the plate's own code values, and what
// was painted has the painted ones.
func TestASuppliedPictureReturnsUnharmed(t *testing.T) {
	for _, depth := range []int{8, 16} {
		s := shot(t, depth, 0)
		doc := document()
		plate, err := s.Plates.Read(8)
		require.NoError(t, err)
		for _, as := range []string{"png", "tiff", "exr"} {
			for _, calm := range []bool{false, true} {
				o := picture.ExternalPicture{Removal: "r", Source: "p", Frame: 8, Denoised: calm}
				before := compiledOf(t, doc)
				data, err := s.HandOut(ctx, before, o, as)
				require.NoError(t, err)
				painted := paintElsewhere(t, as, data, depth)
				if as == "png" && !calm { // the paint so far is on it: what lies 25 pixels to the right
					p, err := png.Decode(bytes.NewReader(data))
					require.NoError(t, err)
					full := uint32(1<<depth - 1)
					r, g, _, _ := p.At(55, 45).RGBA()
					assert.EqualValues(t, plate.Codes[3*(45*128+80)], r*full/65535)
					assert.EqualValues(t, plate.Codes[3*(45*128+80)+1], g*full/65535)
				}
				still, err := s.TakeBack(ctx, before, o, painted, false)
				require.NoError(t, err, "%s, %d bits", as, depth)
				for i := range 128 * 96 {
					x, y := i%128, i/128
					inside := image.Pt(x, y).In(image.Rect(50, 40, 60, 50))
					assert.Equal(
						t,
						inside,
						still.Codes[4*i+3] != 0,
						"%s, %d bits, calm %v: %d,%d",
						as,
						depth,
						calm,
						x,
						y,
					)
				}
				blob, err := still.PNG()
				require.NoError(t, err)
				next := document()
				next.Removals[0].Follow.Track = treatment.Still
				next.Removals[0].Fill.Sources = append(
					next.Removals[0].Fill.Sources,
					treatment.Source{
						ID:   "q",
						Kind: treatment.HeldPlate,
						Plate: &treatment.Plate{
							Frame:   8,
							Picture: &treatment.Picture{Data: blob, Name: "back", Width: 128, Height: 96},
						},
					},
				)
				require.NoError(t, next.Validate(&whole))
				clean, err := s.Clean(ctx, compiledOf(t, next), 8)
				require.NoError(t, err)
				for i := range 128 * 96 {
					x, y := i%128, i/128
					if !image.Pt(x, y).In(image.Rect(49, 39, 61, 51)) {
						require.Equal(
							t,
							plate.Codes[3*i:3*i+3],
							clean.Codes[3*i:3*i+3],
							"outside the outline the plate's own codes stand",
						)
					}
				}
				// What was painted: half of full code in green.
				full := float64(int(1)<<depth - 1)
				got := clean.Codes[3*(45*128+55) : 3*(45*128+55)+3]
				assert.InDelta(t, 0, got[0], 1)
				assert.InDelta(t, 0.5*full, got[1], full/1000+1)
			}
		}
	}
}

// paintElsewhere does what another program would: it opens the file, paints a green
// square, and saves it. depth is the plate's.
func paintElsewhere(t *testing.T, as string, data []byte, depth int) []byte {
	square := image.Rect(50, 40, 60, 50)
	if as == "exr" { // three float channels by lines, B, G, R in each
		out := append([]byte(nil), data...)
		const line = 8 + 12*128
		start := len(out) - 96*line
		for y := square.Min.Y; y < square.Max.Y; y++ {
			row := out[start+y*line+8:]
			for x := square.Min.X; x < square.Max.X; x++ {
				for k, bits := range []uint32{0, 0x3e5b1e1c, 0} { // linear light of half a code in sRGB: 0.21404
					binary.LittleEndian.PutUint32(row[4*(k*128+x):], bits)
				}
			}
		}
		return out
	}
	p, _, err := image.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	m := image.NewNRGBA64(p.Bounds())
	for y := range 96 {
		for x := range 128 {
			m.Set(x, y, p.At(x, y))
			if v := m.NRGBA64At(x, y); depth == 8 && v.R > 100 {
				v.R -= uint16(x % 90) // it rounds otherwise, within a code value of the plate
				m.SetNRGBA64(x, y, v)
			}
			if image.Pt(x, y).In(square) {
				m.Set(x, y, color.NRGBA64{0, 32768, 0, 65535})
			}
		}
	}
	var out bytes.Buffer
	if as == "png" {
		require.NoError(t, png.Encode(&out, m))
	} else {
		require.NoError(t, tiff.Encode(&out, m, nil))
	}
	return out.Bytes()
}

func TestASuppliedPictureIsChecked(t *testing.T) {
	s := shot(t, 16, 0)
	c := compiledOf(t, document())
	o := picture.ExternalPicture{Removal: "r", Frame: 8}
	data, err := s.HandOut(ctx, c, o, "png")
	require.NoError(t, err)
	refused := func(says string, data []byte) {
		t.Helper()
		_, err := s.TakeBack(ctx, c, o, data, false)
		assert.ErrorContains(t, err, says)
	}
	refused("no PNG, TIFF or OpenEXR", []byte("GIF89a"))
	refused("nothing on it differs", data)
	refused("cannot be read", data[:len(data)/2])
	encode := func(w, h int, at func(x, y int) color.Color, eight bool) []byte {
		var m interface {
			image.Image
			Set(x, y int, c color.Color)
		} = image.NewNRGBA64(image.Rect(0, 0, w, h))
		if eight {
			m = image.NewNRGBA(image.Rect(0, 0, w, h))
		}
		for y := range h {
			for x := range w {
				m.Set(x, y, at(x, y))
			}
		}
		var out bytes.Buffer
		require.NoError(t, png.Encode(&out, m))
		return out.Bytes()
	}
	sent, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	refused("120 x 96 pixels, the plate has 128 x 96", encode(120, 96, sent.At, false))
	refused("came back with 8 bits", encode(128, 96, sent.At, true))
	brighter := func(x, y int) color.Color {
		r, g, b, _ := sent.At(x, y).RGBA()
		return color.NRGBA64{uint16(min(r+900, 65535)), uint16(min(g+900, 65535)), uint16(min(b+900, 65535)), 65535}
	}
	changed := encode(128, 96, brighter, false)
	refused("100 % of its pixels differ", changed)
	still, err := s.TakeBack(ctx, c, o, changed, true)
	require.NoError(t, err, "the artist may mean it")
	assert.NotZero(t, still.Codes[3])
	// A header that claims more than can be kept is refused before any memory is taken.
	huge := append([]byte(nil), data...)
	binary.BigEndian.PutUint32(huge[16:], 40000)
	binary.BigEndian.PutUint32(huge[20:], 40000)
	_, err = s.TakePiece(ctx, huge)
	assert.Error(t, err)
	piece, err := s.TakePiece(
		ctx,
		encode(30, 20, func(x, y int) color.Color { return color.NRGBA64{65535, 0, 0, uint16(2000 * x)} }, false),
	)
	require.NoError(t, err)
	assert.Equal(t, uint16(20000), piece.Codes[4*10+3], "alpha is kept")
}

// FFmpeg, an independent reader and writer of OpenEXR, sees what we wrote, and what it
// wrote in half floats comes back as the same picture.
func TestOpenEXRAgainstFFmpeg(t *testing.T) {
	s := shot(t, 8, 0)
	c := compiledOf(t, document())
	o := picture.ExternalPicture{Removal: "r", Frame: 3}
	data, err := s.HandOut(ctx, c, o, "exr")
	require.NoError(t, err)
	dir := t.TempDir()
	from, to := filepath.Join(dir, "a.exr"), filepath.Join(dir, "b.exr")
	require.NoError(t, os.WriteFile(from, data, 0o600))
	out, err := exec.Command("ffmpeg", "-v", "error", "-i", from, "-c:v", "exr", "-format", "half", "-compression",
		"zip1", to).
		CombinedOutput()
	require.NoError(t, err, string(out))
	back, err := os.ReadFile(to)
	require.NoError(t, err)
	_, err = s.TakeBack(ctx, c, o, back, false)
	assert.ErrorContains(t, err, "nothing on it differs", "half floats hold every code value of 8 bits")
	still, err := media.DecodeStill(ctx, back, 1<<26)
	require.NoError(t, err)
	plate, err := s.Plates.Read(3)
	require.NoError(t, err)
	for i := range 128 * 96 {
		for k := range 3 {
			assert.InDelta(t, s.Plates.Transfer.Decode(float64(plate.Codes[3*i+k])/255), still.Light[4*i+k], 5e-4)
		}
	}
}

// A frame on loan that was laid wrongly is brought to where the surface is; and a place
// beside is found whose surroundings look alike.
func TestAlignAndBeside(t *testing.T) {
	s := shot(t, 16, 0)
	doc := document()
	doc.Tracks[0].Kind = treatment.GivenTrack
	doc.Tracks[0].Data = &treatment.Data{
		Samples: []treatment.Sample{
			{Frame: 8, Matrix: geom.Identity},
			{Frame: 14, Matrix: geom.Translation(geom.Pt(12, 6))},
		},
	}
	lent := 14
	found, err := s.Align(
		ctx,
		compiledOf(t, doc),
		"r",
		8,
		treatment.From{Frame: &lent, Offset: treatment.Vec{1.6, -1.1}, Turn: 0.5},
	)
	require.NoError(t, err)
	t.Logf(
		"laid 1.9 px and half a degree off: %.3f, %.3f px and %.3f degrees left, scale %.4f",
		found.From.Offset[0],
		found.From.Offset[1],
		found.From.Turn,
		found.From.Scale,
	)
	assert.InDelta(t, 0, found.From.Offset[0], 0.1)
	assert.InDelta(t, 0, found.From.Offset[1], 0.1)
	assert.InDelta(t, 0, found.From.Turn, 0.1)
	assert.InDelta(t, 1, found.From.Scale, 0.005)
	_, err = s.Align(ctx, compiledOf(t, doc), "r", 8, treatment.From{})
	assert.ErrorContains(t, err, "choose the frame that lends")
	place, err := s.Beside(ctx, compiledOf(t, doc), "r", 8)
	require.NoError(t, err)
	assert.Greater(t, place.Offset.Point().Dist(geom.Point{}), 10.0, "not the thing itself")
	_, err = s.Beside(ctx, compiledOf(t, doc), "none", 8)
	assert.ErrorContains(t, err, "there is no removal")
}

func compiledOf(t *testing.T, d *treatment.Document) *render.Treatment {
	c, err := render.Compile(d)
	require.NoError(t, err)
	return c
}
