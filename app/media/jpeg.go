package media

import (
	"errors"
	"fmt"
	"runtime"
	"sync"

	"github.com/ebitengine/purego"
)

// turbo is what is used of libjpeg-turbo's TurboJPEG 2 interface (Debian's package
// libturbojpeg0). It is loaded when a JPEG is first written, so that building takes no
// C compiler, and takes a fifth of the time of FFmpeg's encoder.
type turbo struct {
	compressor func() uintptr
	destroy    func(handle uintptr) int32
	room       func(width, height, chroma int32) uint
	compress   func(handle uintptr, pixels *byte, width, pitch, height, format int32, out **byte, size *uint, chroma,
		quality, flags int32) int32
	complaint func(handle uintptr) string
}

// Its constants.
const (
	turboRGB       = 0
	turboWhole     = 0    // chroma at full size: 4:4:4
	turboHalf      = 2    // at half the size both ways: 4:2:0
	turboNoRealloc = 1024 // the buffer is ours
)

var loadTurbo = sync.OnceValues(func() (*turbo, error) {
	library, err := purego.Dlopen("libturbojpeg.so.0", purego.RTLD_NOW|purego.RTLD_LOCAL)
	if err != nil {
		return nil, errors.New("libturbojpeg cannot be loaded: install Debian's package libturbojpeg0 and start again")
	}
	t := &turbo{}
	for name, f := range map[string]any{"tjInitCompress": &t.compressor, "tjDestroy": &t.destroy, "tjBufSize": &t.room,
		"tjCompress2": &t.compress, "tjGetErrorStr2": &t.complaint} {
		purego.RegisterLibFunc(f, library, name)
	}
	return t, nil
})

// encodeJPEG returns a baseline JPEG (ITU-T T.81, T.871) of 8-bit RGB samples by rows.
// quality goes from 1 to 100; chroma is turboWhole or turboHalf.
func encodeJPEG(rgb []byte, width, height int, quality, chroma int32) ([]byte, error) {
	if width < 1 || height < 1 || width > MaxSide || height > MaxSide || len(rgb) != 3*width*height {
		return nil, fmt.Errorf("encode a JPEG: %d bytes do not make %d x %d pixels", len(rgb), width, height)
	}
	t, err := loadTurbo()
	if err != nil {
		return nil, err
	}
	handle := t.compressor()
	if handle == 0 {
		return nil, errors.New("encode a JPEG: no memory")
	}
	defer t.destroy(handle)
	// The buffer's address is handed over within a variable, which must not move: both
	// are on the heap, and pinned for the length of the call.
	size := t.room(int32(width), int32(height), chroma)
	buffer := buffers.get(int(size))
	defer buffers.put(buffer)
	var pin runtime.Pinner
	defer pin.Unpin()
	pin.Pin(&buffer[0])
	out := &buffer[0]
	if t.compress(
		handle,
		&rgb[0],
		int32(width),
		0,
		int32(height),
		turboRGB,
		&out,
		&size,
		chroma,
		quality,
		turboNoRealloc,
	) != 0 {
		return nil, fmt.Errorf("encode a JPEG: %s", t.complaint(handle))
	}
	return append([]byte(nil), buffer[:size]...), nil
}
