package media

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"jardin/app/routines"
)

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

// Begun counts the frames of a plate store that is not finished.
func Begun(dir string) int {
	entries, err := os.ReadDir(filepath.Join(partial(dir), "codes"))
	if err != nil {
		return 0
	}
	return len(entries)
}

// Import decodes material into a plate store. If it fails, nothing is left. If the
// context ends, or the program is killed, what was finished stays, and the same order
// goes on after it; Drop gives it up.
func Import(ctx context.Context, o Order, progress func(done, total int)) (plates *Plates, err error) {
	m := o.Material
	plan, err := m.Plan(o.Reading)
	if err != nil {
		return nil, err
	}
	frames := len(plan)
	if o.Reading.Fields != WholeFrames {
		frames *= 2
	}
	o.Shot.Last = o.Shot.First + frames - 1
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
			if err := os.MkdirAll(filepath.Join(part, folder), 0o700); err != nil {
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
	var display *Display
	if o.Screen {
		display = NewDisplay(o.Shot)
	}
	// Some frames are stored at once, beside decoding the next ones.
	group, inner := routines.NewGroup(ctx, o.Shot.AtOnce())
	var finished sync.Mutex
	err = m.eachKept(inner, plan, o.Reading, done, func(k int, f *Frame) error {
		group.Go(func() error {
			n := o.Shot.First + k
			if err := store.store(n, f); err != nil {
				return err
			}
			if o.Screen {
				if err := store.show(n, f, display); err != nil {
					return err
				}
			}
			finished.Lock()
			defer finished.Unlock()
			if done++; progress != nil {
				progress(done, frames)
			}
			return nil
		})
		return inner.Err()
	})
	if failed := group.Wait(); failed != nil {
		err = failed // what each says then is only that it was interrupted
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
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
		wanted := []string{p.path("codes", n, p.layout().ending)}
		if screen {
			wanted = append(wanted, p.ScreenPath(n), p.ThumbPath(n))
		}
		for _, path := range wanted {
			if info, err := os.Stat(path); err != nil || info.Size() == 0 {
				return n - p.First
			}
		}
	}
	return p.Last - p.First + 1
}
