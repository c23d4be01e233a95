package picture

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"

	"jardin/app/media"
	"jardin/app/store"
	"jardin/core/render"
	"jardin/core/treatment"
)

// Rooms opens shots: it finds their plates and revisions and keeps what was
// worked out for them within one budget of memory.
type Rooms struct {
	store  *store.Store
	dir    string
	memory int
	cache  *render.Cache
	short  *render.Cache // what is measured on; a part of the same budget
	shelf  shelf

	mu   sync.Mutex
	open map[string]*Source
}

// forWork is the memory that frames take which are being made, in bytes; the rest may be
// filled with what was made.
const forWork = 384 << 20

// forMeasuring is the least memory for what light and softness are measured on, if that
// is no more than half: with less, a patch of 300 x 300 is got ready again for each.
const forMeasuring = 128 << 20

// NewRooms returns the shots of a store, whose plates lie below dir. memory is all that
// the program may take, disk the room for paint that is kept, in bytes.
func NewRooms(s *store.Store, dir string, memory int, disk int64) *Rooms {
	budget := memory - min(memory/2, forWork)
	short := max(budget/8, min(budget/2, forMeasuring))
	return &Rooms{store: s, dir: dir, memory: memory, cache: render.NewCache(budget - short), short: render.NewCache(short), shelf: shelf{dir: filepath.Join(dir, "paint"), budget: disk}, open: map[string]*Source{}}
}

// PlateDir returns where a shot's plates lie.
func (r *Rooms) PlateDir(shot string) string { return filepath.Join(r.dir, "plates", shot) }

// RenderDir returns where the files of a render lie.
func (r *Rooms) RenderDir(task string) string { return filepath.Join(r.dir, "renders", task) }

// Source returns the plate of a shot.
func (r *Rooms) Source(ctx context.Context, id string) (*Source, error) {
	r.mu.Lock()
	s, ok := r.open[id]
	r.mu.Unlock()
	if ok {
		return s, nil
	}
	shot, err := r.store.Shot(ctx, id)
	if err != nil {
		return nil, err
	}
	if shot.State != "ready" {
		return nil, fmt.Errorf("%s is not ready: it is %s", shot.Name, shot.State)
	}
	s = NewSource(&media.Plates{Dir: r.PlateDir(id), Shot: shot.Media()}, id, r.cache)
	s.Blobs = r.store.Artifact
	s.eval.Shelf, s.eval.Short = &r.shelf, r.short
	r.mu.Lock()
	defer r.mu.Unlock()
	if other, ok := r.open[id]; ok {
		return other, nil
	}
	r.open[id] = s
	return s, nil
}

// Forget closes a shot that was removed.
func (r *Rooms) Forget(id string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.open, id)
}

// Treatment returns a revision of a shot's treatment, ready for evaluation.
func (r *Rooms) Treatment(ctx context.Context, shot string, revision int) (*render.Treatment, error) {
	key := fmt.Sprintf("treatment/%s/%d", shot, revision)
	if t, ok := r.cache.Get(key); ok {
		return t.(*render.Treatment), nil
	}
	rev, err := r.store.Revision(ctx, shot, revision)
	if err != nil {
		return nil, err
	}
	t, err := r.Compile(ctx, rev)
	if err != nil {
		return nil, err
	}
	r.cache.Put(key, t, 1<<20) // an estimate: tracks and strokes of a busy shot
	return t, nil
}

// Try returns what a JSON Patch would make of a revision, ready for evaluation: for
// looking at a change while it is still being made.
func (r *Rooms) Try(ctx context.Context, shot string, revision int, patch []byte) (*render.Treatment, error) {
	doc, err := r.store.Try(ctx, shot, revision, patch)
	if err != nil {
		return nil, err
	}
	return r.compile(ctx, doc)
}

// Compile makes a revision ready for evaluation.
func (r *Rooms) Compile(ctx context.Context, rev *store.Revision) (*render.Treatment, error) {
	return r.compile(ctx, rev.Document)
}

func (r *Rooms) compile(ctx context.Context, document *treatment.Document) (*render.Treatment, error) {
	find, err := r.artifacts(ctx, document)
	if err != nil {
		return nil, err
	}
	doc, err := document.Complete(find)
	if err != nil {
		return nil, err
	}
	return render.Compile(doc)
}

// artifacts fetches what a document names, all at once, and remembers it: the next
// revision mostly names the same.
func (r *Rooms) artifacts(ctx context.Context, doc *treatment.Document) (treatment.Artifacts, error) {
	blobs := map[string][]byte{}
	var missing []string
	for _, sha := range doc.Artifacts() {
		if _, ok := r.cache.Get("artifact/" + sha); !ok {
			missing = append(missing, sha)
		}
	}
	if len(missing) > 0 {
		var err error
		if blobs, err = r.store.Artifacts(ctx, missing); err != nil {
			return nil, err
		}
	}
	read := treatment.Stored(func(sha string) ([]byte, error) {
		if blob, ok := blobs[sha]; ok {
			return blob, nil
		}
		return r.store.Artifact(ctx, sha)
	})
	return func(sha string, into any) error {
		key := "artifact/" + sha
		if v, ok := r.cache.Get(key); ok && recall(v, into) {
			return nil
		}
		if err := read(sha, into); err != nil {
			return err
		}
		switch v := into.(type) {
		case *[][]float64:
			r.cache.Put(key, *v, 48*len(*v)+64)
		case *[]treatment.Sample:
			r.cache.Put(key, *v, 256*len(*v)+64)
		case *[]treatment.PointSample:
			r.cache.Put(key, *v, 64*len(*v)+64)
		}
		return nil
	}, nil
}

// recall sets a value to one that was read before, if it is of its kind.
func recall(v, into any) bool {
	switch into := into.(type) {
	case *[][]float64:
		return assign(v, into)
	case *[]treatment.Sample:
		return assign(v, into)
	case *[]treatment.PointSample:
		return assign(v, into)
	}
	return false
}

func assign[T any](v any, into *T) bool {
	known, ok := v.(T)
	if ok {
		*into = known
	}
	return ok
}
