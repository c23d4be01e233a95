package picture

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"jardin/app/media"
)

// segment is how many frames of a movie are encoded at once: what of it is finished
// stays if the rest is interrupted.
const segment = 48

// reels are the movies of a delivery that are not there yet, written in parts.
type reels struct {
	delivery *Delivery
	shot     media.Shot
	missing  []string // kinds
	open     map[string]*media.Movie
}

func (s *Source) reels(d *Delivery) *reels {
	r := &reels{delivery: d, shot: s.Plates.Shot, open: map[string]*media.Movie{}}
	for _, kind := range d.Movies {
		if !there(filepath.Join(d.Dir, MovieFile(kind))) {
			r.missing = append(r.missing, kind)
		}
	}
	return r
}

// part returns the path of the part that holds a frame.
func (r *reels) part(kind string, n int) string {
	return filepath.Join(
		r.delivery.Dir,
		fmt.Sprintf("%s.%d.%s", kind, (n-r.delivery.Range.First)/segment, media.MovieEnding(kind)),
	)
}

// want reports whether a movie lacks a frame.
func (r *reels) want(n int) bool {
	for _, kind := range r.missing {
		if !there(r.part(kind, n)) {
			return true
		}
	}
	return false
}

// add adds frames in order; nil where none is wanted.
func (r *reels) add(ctx context.Context, n int, f *media.Frame) error {
	if (n-r.delivery.Range.First)%segment == 0 {
		if err := r.end(true); err != nil {
			return err
		}
		for _, kind := range r.missing {
			if there(r.part(kind, n)) {
				continue
			}
			movie, err := media.NewMovie(ctx, r.part(kind, n), kind, r.shot)
			if err != nil {
				return err
			}
			r.open[kind] = movie
		}
	}
	for _, movie := range r.open {
		if err := movie.Write(f); err != nil {
			return err
		}
	}
	return nil
}

// end finishes the parts that are being written, or drops them if keep is false.
func (r *reels) end(keep bool) (err error) {
	for kind, m := range r.open {
		err = errors.Join(err, m.Close(keep))
		delete(r.open, kind)
	}
	return err
}

// join makes the movies of their parts.
func (r *reels) join(ctx context.Context) error {
	d := r.delivery
	for _, kind := range r.missing {
		var parts []string
		for n := d.Range.First; n <= d.Range.Last; n += segment {
			parts = append(parts, r.part(kind, n))
		}
		if err := media.Join(ctx, filepath.Join(d.Dir, MovieFile(kind)), parts, r.shot.TimecodeAt(d.Range.First)); err != nil {
			return err
		}
		for _, p := range parts {
			os.Remove(p)
		}
	}
	return nil
}

func there(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
