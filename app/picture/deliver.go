package picture

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"

	"golang.org/x/sync/errgroup"

	"jardin/app/media"
	"jardin/core/render"
	"jardin/core/treatment"
)

// Clean returns a finished frame: the plate's own code values wherever no patch
// lies.
func (s *Source) Clean(ctx context.Context, t *render.Treatment, n int) (*media.Frame, error) {
	plate, err := s.Plates.Read(n)
	if err != nil {
		return nil, err
	}
	result, err := s.eval.Frame(ctx, t, n, render.ResultView, "")
	if err != nil {
		return nil, fmt.Errorf("frame %d: %w", n, err)
	}
	plate.Lay(result.Image, s.coder)
	return plate, nil
}

// A Delivery says what to write.
type Delivery struct {
	Dir   string // frames go here, as NAME.NUMBER.png
	Name  string
	Range treatment.Range
	Movie string // path of an H.264 review movie, or empty
}

// FramePath returns the file of a frame.
func (d *Delivery) FramePath(n int) string {
	return filepath.Join(d.Dir, fmt.Sprintf("%s.%04d.png", d.Name, n))
}

// Deliver writes the finished frames, and the review movie if one is wanted.
// Every file is whole or absent. progress is told after each frame.
func (s *Source) Deliver(ctx context.Context, t *render.Treatment, d Delivery, progress func(done, total int)) (err error) {
	if err := os.MkdirAll(d.Dir, 0o755); err != nil {
		return fmt.Errorf("make the folder for the frames: %w", err)
	}
	var movie *media.Movie
	if d.Movie != "" {
		if movie, err = media.NewMovie(ctx, d.Movie, s.Plates.Shot); err != nil {
			return err
		}
	}
	writing, inner := errgroup.WithContext(ctx)
	// Frames are made some at once, in order; packing a PNG takes longer than making
	// one, and goes on beside.
	writing.SetLimit(2 + runtime.GOMAXPROCS(0))
	type made struct {
		frame *media.Frame
		err   error
	}
	ahead := make(chan chan made, runtime.GOMAXPROCS(0)-1)
	go func() {
		defer close(ahead)
		for n := d.Range.First; n <= d.Range.Last; n++ {
			one := make(chan made, 1)
			select {
			case ahead <- one:
			case <-inner.Done():
				return
			}
			go func() {
				f, err := s.Clean(inner, t, n)
				one <- made{f, err}
			}()
		}
	}()
	for n := d.Range.First; n <= d.Range.Last && err == nil; n++ {
		one, ok := <-ahead
		if !ok {
			err = inner.Err()
			break
		}
		m := <-one
		if err = m.err; err != nil {
			break
		}
		path, f := d.FramePath(n), m.frame
		writing.Go(func() error { return media.WritePNG(path, f) })
		if movie != nil {
			err = movie.Write(f)
		}
		if progress != nil {
			progress(n-d.Range.First+1, d.Range.Len())
		}
	}
	if failed := writing.Wait(); failed != nil {
		err = failed
	}
	if movie != nil {
		err = errors.Join(err, movie.Close(err == nil))
	}
	return err
}
