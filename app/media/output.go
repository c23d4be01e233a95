package media

import (
	"context"
	"os"
)

// A Movie is a review movie being written: H.264, 4:2:0, BT.709, for any player.
type Movie struct {
	encoder *encoder
	display *Display
	path    string
}

// NewMovie begins a movie of frames like the shot's.
func NewMovie(ctx context.Context, path string, s Shot) (*Movie, error) {
	// Half chroma wants even sides; an odd last line or column is repeated.
	e, err := startEncoder(ctx, s.Width, s.Height, s.Rate,
		"-vf", "pad=ceil(iw/2)*2:ceil(ih/2)*2,scale=out_color_matrix=bt709:out_range=tv",
		"-c:v", "libx264", "-preset", "veryfast", "-crf", "16", "-pix_fmt", "yuv420p",
		"-colorspace", "bt709", "-color_primaries", "bt709", "-color_trc", "iec61966-2-1",
		"-movflags", "+faststart", "-f", "mp4", path+".part")
	if err != nil {
		return nil, err
	}
	return &Movie{e, NewDisplay(s.Transfer, s.Depth), path}, nil
}

// Write adds a frame.
func (m *Movie) Write(f *Frame) error { return m.encoder.write(m.display.Bytes(f)) }

// Close finishes the movie, or drops it if keep is false.
func (m *Movie) Close(keep bool) error {
	err := m.encoder.close()
	if err != nil || !keep {
		os.Remove(m.path + ".part")
		return err
	}
	return os.Rename(m.path+".part", m.path)
}
