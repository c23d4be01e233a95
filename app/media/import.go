package media

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sync/errgroup"
)

// ThumbWidth is the width of thumbnails in pixels.
const ThumbWidth = 160

// An Order says what is brought in, and as what.
type Order struct {
	Material *Material
	Reading  Reading
	Shot     Shot   // its last frame, size and samples come from the material
	Dir      string // of the plate store
	Screen   bool   // make pictures for the screen
}

// partial is where a plate store is made.
func partial(dir string) string { return dir + ".part" }

// Drop removes what an import that did not end has left.
func Drop(dir string) error { return os.RemoveAll(partial(dir)) }

// Import decodes material into a plate store. If it fails, nothing is left. If the
// context ends, or the program is killed, what was finished stays, and the same order
// goes on after it; Drop gives it up.
func Import(ctx context.Context, o Order, progress func(done, total int)) (plates *Plates, err error) {
	m := o.Material
	plan, err := m.Plan(o.Reading)
	if err != nil {
		return nil, err
	}
	o.Shot.Last = o.Shot.First + len(plan) - 1
	o.Shot.Width, o.Shot.Height, o.Shot.Samples, o.Shot.Alpha = m.Width, m.Height, m.Samples(), m.Alpha
	part := partial(o.Dir)
	store := &Plates{part, o.Shot}
	// What is there of the same order is gone on with; of another it is dropped.
	order, err := json.Marshal([]any{m.Path, plan, o.Reading, o.Shot, o.Screen})
	if err != nil {
		return nil, err
	}
	if before, _ := os.ReadFile(filepath.Join(part, "order")); !bytes.Equal(before, order) {
		if err := os.RemoveAll(part); err != nil {
			return nil, err
		}
		for _, folder := range []string{"codes", "alpha", "head", "screen", "thumb"} {
			if err := os.MkdirAll(filepath.Join(part, folder), 0o755); err != nil {
				return nil, fmt.Errorf("make the plate store: %w", err)
			}
		}
		if err := writeWhole(filepath.Join(part, "order"), order); err != nil {
			return nil, err
		}
	}
	defer func() {
		if err != nil && ctx.Err() == nil {
			os.RemoveAll(part)
		}
	}()
	done := store.there(o.Screen)
	var pictures *screenWriter
	if o.Screen && done < len(plan) {
		if pictures, err = newScreenWriter(ctx, store, o.Shot.First+done); err != nil {
			return nil, err
		}
	}
	// Frames are stored some at once, beside decoding the next ones; the pictures are
	// made in order.
	group, inner := errgroup.WithContext(ctx)
	storing := make(chan struct{}, 3)
	type picture struct {
		k     int
		shown chan []byte
	}
	queue := make(chan picture, 3)
	group.Go(func() error {
		for p := range queue {
			shown, ok := <-p.shown
			if !ok {
				return nil // storing failed, and says so
			}
			if pictures != nil {
				if err := pictures.encoder.write(shown); err != nil {
					return err
				}
			}
			if progress != nil {
				progress(p.k+1, len(plan))
			}
		}
		return nil
	})
	group.Go(func() error {
		defer close(queue)
		return m.each(inner, plan, o.Reading, done, func(k int, f *Frame) error {
			p := picture{k, make(chan []byte, 1)}
			select {
			case queue <- p:
			case <-inner.Done():
				return inner.Err()
			}
			storing <- struct{}{}
			group.Go(func() error {
				defer func() { <-storing }()
				defer close(p.shown)
				if err := store.keep(o.Shot.First+k, f); err != nil {
					return err
				}
				var shown []byte
				if pictures != nil {
					shown = planes(pictures.display.Bytes(f), f.Width, f.Height)
				}
				p.shown <- shown
				return nil
			})
			return nil
		})
	})
	err = group.Wait()
	if pictures != nil {
		if failed := pictures.close(); err == nil {
			err = failed
		}
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		if strings.Contains(err.Error(), "No space left") {
			err = errors.New("the disk is full: clear results or renders, or remove shots, and try again")
		}
		return nil, err
	}
	for _, folder := range []string{"alpha", "head"} {
		os.Remove(filepath.Join(part, folder)) // if it is empty
	}
	if err := os.RemoveAll(o.Dir); err != nil {
		return nil, err
	}
	if err := os.Rename(part, o.Dir); err != nil {
		return nil, fmt.Errorf("finish the plate store: %w", err)
	}
	store.Dir = o.Dir
	return store, nil
}

// there counts the frames that are whole, from the first on.
func (p *Plates) there(screen bool) int {
	for n := p.First; n <= p.Last; n++ {
		wanted := []string{p.path("codes", n, "raw")}
		if screen {
			wanted = append(wanted, p.ScreenPath(n), p.ThumbPath(n))
		}
		for _, path := range wanted {
			if _, err := os.Stat(path); err != nil {
				return n - p.First
			}
		}
	}
	return p.Last - p.First + 1
}
