package media

import (
	"bytes"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"

	"jardin/app/fuzzing"
	"jardin/core/colorspace"
)

// Whatever bytes a file holds, reading it ends with a picture or an error, and takes
// no more memory than its own size warrants. The corpora begin with the files below
// and those in testdata/fuzz.

func FuzzDPX(f *testing.F) {
	fuzzing.Alone(f)
	for _, depth := range []int{8, 10, 12, 16} {
		data, err := EncodeDPX(noisy(7, 3, Samples{Depth: depth}, depth == 16, 1), colorspace.BT709, "f")
		require.NoError(f, err)
		f.Add(data)
		f.Add(data[:1700])
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var frame *Frame
		var err error
		fuzzing.Within(t, data, 1<<20, 64, func() {
			var h *dpxHead
			if h, err = readDPX(data); err == nil && h.plain() {
				frame, err = decodeDPX(bytes.Clone(data), h)
			}
		})
		if err != nil || frame == nil {
			return
		}
		frame = frame.Unpacked()
		// What was read is written, and read again the same.
		again, err := EncodeDPX(frame, colorspace.BT709, "f")
		require.NoError(t, err)
		h, err := readDPX(again)
		require.NoError(t, err)
		back, err := decodeDPX(again, h)
		require.NoError(t, err)
		require.Equal(t, frame.Codes, back.Unpacked().Codes)
		require.Equal(t, frame.Alpha, back.Alpha)
	})
}

func FuzzEXR(f *testing.F) {
	fuzzing.Alone(f)
	for _, s := range []Samples{{16, true}, {32, true}} {
		data, err := EncodeFrameEXR(noisy(7, 3, s, true, 1), colorspace.AP1Primaries)
		require.NoError(f, err)
		f.Add(data)
		f.Add(data[:200])
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var h *exrHead
		var err error
		fuzzing.Within(t, data, 1<<20, 64, func() { h, err = readEXR(data) })
		if err != nil {
			return
		}
		require.LessOrEqual(t, h.size, len(data))
		require.NoError(t, h.Samples.Valid())
		// Its attributes stand in a file of ours, and that can be read.
		frame := NewFrame(3, 2, h.Samples)
		frame.Head = data[:h.size]
		again, err := EncodeFrameEXR(frame, colorspace.BT709Primaries)
		require.NoError(t, err)
		back, err := readEXR(again)
		require.NoError(t, err)
		require.True(t, bytes.Equal(h.extra, back.extra) || len(h.extra) < len(back.extra))
	})
}

func FuzzStill(f *testing.F) {
	fuzzing.Alone(f)
	for _, target := range []Target{{"png", 8, false}, {"png", 16, false}, {"tiff", 8, false}, {"tiff", 16, false}} {
		data, err := target.Encode(noisy(5, 4, target.Samples(), true, 1), Shot{}, "f")
		require.NoError(f, err)
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if bytes.HasPrefix(data, []byte{0x76, 0x2f, 0x31, 0x01}) || len(data) > 1<<16 {
			return // OpenEXR is read by another program
		}
		var still *Still
		var err error
		// The reader of TIFF fetches 10 MiB at a time, as far as a file says that there are so many.
		fuzzing.Within(t, data, 12<<20+48<<16, 64, func() { still, err = DecodeStill(ctx, data, 1<<16) })
		if err == nil {
			require.Len(t, still.Codes, 4*still.Width*still.Height)
		}
	})
}

func FuzzTIFF(f *testing.F) {
	fuzzing.Alone(f)
	for _, h := range []tiffHead{{tiffNone, false}, {tiffLZW, true}, {tiffDeflate, true}} {
		data, err := encodeTIFF(
			noisy(7, 3, Samples{Depth: 16}, true, 1).samples(binary.LittleEndian),
			Layout{7, 3, 4, 16},
			h,
		)
		require.NoError(f, err)
		f.Add(data)
		f.Add(h.bytes())
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var h tiffHead
		var err error
		fuzzing.Within(t, data, 1<<20, 64, func() { h, err = readTIFF(bytes.NewReader(data)) })
		if err != nil {
			return
		}
		again, err := readTIFF(bytes.NewReader(h.bytes()))
		require.NoError(t, err)
		require.Equal(t, h, again)
	})
}
