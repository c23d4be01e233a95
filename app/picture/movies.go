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

// movieParts are the movies of a delivery that are not there yet, written in parts.
type movieParts struct {
	delivery *Delivery
	shot     media.Shot
	missing  []string // kinds
	open     map[string]*media.Movie
}

func (s *Source) movieParts(d *Delivery) *movieParts {
	parts := &movieParts{delivery: d, shot: s.Plates.Shot, open: map[string]*media.Movie{}}
	for _, kind := range d.Movies {
		if !there(filepath.Join(d.Dir, MovieFile(kind))) {
			parts.missing = append(parts.missing, kind)
		}
	}
	return parts
}

// part returns the path of the part that holds a frame.
func (parts *movieParts) part(kind string, n int) string {
	return filepath.Join(
		parts.delivery.Dir,
		fmt.Sprintf("%s.%d.%s", kind, (n-parts.delivery.Leaving.First)/segment, media.MovieEnding(kind)),
	)
}

// want reports whether a movie lacks a frame.
func (parts *movieParts) want(n int) bool {
	for _, kind := range parts.missing {
		if !there(parts.part(kind, n)) {
			return true
		}
	}
	return false
}

// add adds frames in order; nil where none is wanted.
func (parts *movieParts) add(ctx context.Context, n int, f *media.Frame) error {
	if (n-parts.delivery.Leaving.First)%segment == 0 {
		if err := parts.end(true); err != nil {
			return err
		}
		for _, kind := range parts.missing {
			if there(parts.part(kind, n)) {
				continue
			}
			movie, err := media.NewMovie(ctx, parts.part(kind, n), kind, parts.shot, parts.delivery.Look)
			if err != nil {
				return err
			}
			parts.open[kind] = movie
		}
	}
	for _, movie := range parts.open {
		if err := movie.Write(f); err != nil {
			return err
		}
	}
	return nil
}

// end finishes the parts that are being written, or drops them if keep is false.
func (parts *movieParts) end(keep bool) (err error) {
	for kind, m := range parts.open {
		err = errors.Join(err, m.Close(keep))
		delete(parts.open, kind)
	}
	return err
}

// join makes the movies of their parts.
func (m *movieParts) join(ctx context.Context) error {
	d := m.delivery
	for _, kind := range m.missing {
		var parts []string
		for n := d.Leaving.First; n <= d.Leaving.Last; n += segment {
			parts = append(parts, m.part(kind, n))
		}
		if err := media.Join(ctx, filepath.Join(d.Dir, MovieFile(kind)), parts,
			m.shot.Woven().TimecodeAt(d.Leaving.First)); err != nil {
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
