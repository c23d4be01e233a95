package media

import (
	"context"
	"fmt"
	"os/exec"
)

// trusted keeps FFmpeg to what it is meant to read: files, and of kinds that hold pictures. A
// playlist, or whatever else names other files or addresses, is none, whatever its ending says.
var trusted = []string{
	"-protocol_whitelist", "file,pipe",
	"-format_whitelist", "image2,exr_pipe,dpx_pipe,png_pipe,tiff_pipe,jpeg_pipe,mov,mp4,m4a,3gp,3g2,mj2,matroska,webm,avi,mxf,mxf_opatom",
}

// ffmpegReads returns an FFmpeg that reads footage.
func ffmpegReads(ctx context.Context, args ...string) *exec.Cmd {
	return exec.CommandContext(
		ctx,
		"ffmpeg",
		append(append([]string{"-v", "error", "-xerror", "-nostdin"}, trusted...), args...)...)
}

// ffprobe asks FFmpeg what a file holds.
func ffprobe(ctx context.Context, args ...string) ([]byte, error) {
	return exec.CommandContext(ctx, "ffprobe", append(append([]string{"-v", "error"}, trusted...), args...)...).Output()
}

// TooLarge is the error of a picture with more pixels than there is memory for.
type TooLarge struct{ Width, Height, Most int }

func (e *TooLarge) Error() string {
	return fmt.Sprintf(
		"it has %d x %d pixels; with the memory that the server has it takes %d million: make it smaller, or start "+
			"the server with more --memory",
		e.Width,
		e.Height,
		e.Most/1_000_000,
	)
}
