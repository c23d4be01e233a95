package picture

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"sync"

	"jardin/app/datafolder"
	"jardin/app/media"
	"jardin/app/store"
	"jardin/core/memo"
	"jardin/core/render"
	"jardin/core/treatment"
)

// Workspace opens shots: it finds their plates and revisions and keeps what was
// worked out for them within one budget of memory.
// ErrNotReady is returned for a shot that has not come in yet.
var ErrNotReady = errors.New("the shot is not ready")

type Workspace struct {
	store     *store.Store
	Folder    *datafolder.Folder
	memory    int
	cache     *memo.Memo
	short     *memo.Memo // what is measured on; a part of the same budget
	diskCache diskCache

	mu   sync.Mutex
	open map[string]*Source
}

// forWork is the memory that frames take which are being made, in bytes; the rest may be
// filled with what was made.
const forWork = 384 << 20

// forMeasuring is the least memory for what light and softness are measured on, if that
// is no more than half: with less, a patch of 300 x 300 is got ready again for each.
const forMeasuring = 128 << 20

// NewWorkspace returns the shots of a store, whose plates lie in a data folder. memory is all that
// the program may take, disk the room for paint that is kept, in bytes.
func NewWorkspace(s *store.Store, folder *datafolder.Folder, memory int, disk int64) *Workspace {
	budget := memory - min(memory/2, forWork)
	short := max(budget/8, min(budget/2, forMeasuring))
	return &Workspace{
		store:     s,
		Folder:    folder,
		memory:    memory,
		cache:     memo.New(budget - short),
		short:     memo.New(short),
		diskCache: diskCache{dir: folder.Kind(datafolder.Paint), budget: disk},
		open:      map[string]*Source{},
	}
}

// PlateDir returns where a shot's plates lie.
func (w *Workspace) PlateDir(shot string) (string, error) {
	return w.Folder.Path(datafolder.Plates, shot)
}

// RenderDir returns where the files of a render lie.
func (w *Workspace) RenderDir(task string) (string, error) {
	return w.Folder.Path(datafolder.Renders, task)
}

// bytesAPixel is about what a pixel takes of memory while a frame is worked on.
const bytesAPixel = 64

// MostPixels is how many pixels a frame, or a picture that is supplied, may have: so many that
// work on one keeps within the memory.
func (w *Workspace) MostPixels() int { return w.memory / bytesAPixel }

// Fits reports in words whether frames of a size can be worked on.
func (w *Workspace) Fits(width, height int) error {
	if width*height <= w.MostPixels() {
		return nil
	}
	return fmt.Errorf(
		"frames of %d x %d pixels need more memory than the server may take; start it with --memory %d or more",
		width,
		height,
		(width*height*bytesAPixel>>20/256+1)*256,
	)
}

// Source returns the plate of a shot.
func (w *Workspace) Source(ctx context.Context, id string) (*Source, error) {
	w.mu.Lock()
	s, ok := w.open[id]
	w.mu.Unlock()
	if ok {
		return s, nil
	}
	shot, err := w.store.Shot(ctx, id)
	if err != nil {
		return nil, err
	}
	if shot.State != "ready" {
		return nil, fmt.Errorf("%w: %s is %s", ErrNotReady, shot.Name, shot.State)
	}
	dir, err := w.PlateDir(id)
	if err != nil {
		return nil, err
	}
	s = NewSource(&media.Plates{Dir: dir, Shot: shot.Media()}, id, w.cache)
	s.MostPixels = w.MostPixels()
	s.Blobs = w.store.Artifact
	s.eval.Disk, s.eval.Short = &w.diskCache, w.short
	w.mu.Lock()
	defer w.mu.Unlock()
	if other, ok := w.open[id]; ok {
		return other, nil
	}
	w.open[id] = s
	return s, nil
}

// Forget closes a shot that was removed.
func (w *Workspace) Forget(id string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.open, id)
}

// A revisionOf names a revision, which never changes, of a shot.
type revisionOf struct {
	Shot   string
	Number int
}

// Key names the program's store: what revisions and artifacts hold follows from their names.
func (w *Workspace) Key() string { return "store" } // one for each program

type compiled struct{ *render.Treatment }

// Bytes returns about what it takes: most of it are strokes, each with what its layer is made of.
func (c compiled) Bytes() int { return 256<<10 + 3<<10*c.Strokes() }

// Treatment returns a revision of a shot's treatment, ready for evaluation.
func (w *Workspace) Treatment(ctx context.Context, shot string, revision int) (*render.Treatment, error) {
	t, err := memo.Do(
		ctx,
		w.cache,
		w,
		revisionOf{shot, revision},
		func(ctx context.Context, w *Workspace, of revisionOf) (compiled, error) {
			rev, err := w.store.Revision(ctx, of.Shot, of.Number)
			if err != nil {
				return compiled{}, err
			}
			t, err := w.Compile(ctx, rev)
			return compiled{t}, err
		},
	)
	return t.Treatment, err
}

// Try returns what a JSON Patch would make of a revision, ready for evaluation: for
// looking at a change while it is still being made.
func (w *Workspace) Try(ctx context.Context, shot string, revision int, patch []byte) (*render.Treatment, error) {
	doc, err := w.store.Try(ctx, shot, revision, patch)
	if err != nil {
		return nil, err
	}
	return w.compile(ctx, doc)
}

// Compile makes a revision ready for evaluation.
func (w *Workspace) Compile(ctx context.Context, rev *store.Revision) (*render.Treatment, error) {
	return w.compile(ctx, rev.Document)
}

func (w *Workspace) compile(ctx context.Context, document *treatment.Document) (*render.Treatment, error) {
	find, err := w.artifacts(ctx, document)
	if err != nil {
		return nil, err
	}
	doc, err := document.Complete(find)
	if err != nil {
		return nil, err
	}
	return render.Compile(doc)
}

// numbersOf names an artifact, by the SHA-256 of what it holds, as numbers of a kind.
type numbersOf[T any] struct{ SHA256 string }

// numbers are what an artifact holds.
type numbers[T any] struct{ list []T }

// Bytes returns about what they take.
func (n numbers[T]) Bytes() int {
	var one T
	size := int(reflect.TypeOf(one).Size())
	if _, ok := any(one).([]float64); ok {
		size += 24
	}
	return size * len(n.list)
}

// known reports whether an artifact's numbers are remembered. Most are strokes.
func (w *Workspace) known(sha string) bool {
	return remembers[[]float64](w, sha) || remembers[treatment.Sample](w, sha) ||
		remembers[treatment.PointSample](w, sha)
}

func remembers[T any](w *Workspace, sha string) bool {
	_, ok := memo.Peek[numbers[T]](w.cache, w, numbersOf[T]{sha})
	return ok
}

// remembered reads an artifact's numbers, or remembers them: its name is the hash of what
// it holds.
func remembered[T any](ctx context.Context, w *Workspace, sha string, read treatment.Artifacts, into *[]T) error {
	n, err := memo.Do(
		ctx,
		w.cache,
		w,
		numbersOf[T]{sha},
		func(_ context.Context, _ *Workspace, of numbersOf[T]) (n numbers[T], err error) {
			return n, read(of.SHA256, &n.list)
		},
	)
	*into = n.list
	return err
}

// artifacts fetches what a document names, all at once, and remembers it: the next
// revision mostly names the same.
func (w *Workspace) artifacts(ctx context.Context, doc *treatment.Document) (treatment.Artifacts, error) {
	fetched := map[string][]byte{}
	var missing []string
	for _, sha := range doc.Artifacts() {
		if !w.known(sha) {
			missing = append(missing, sha)
		}
	}
	if len(missing) > 0 {
		var err error
		if fetched, err = w.store.Artifacts(ctx, missing); err != nil {
			return nil, err
		}
	}
	read := treatment.Stored(func(sha string) ([]byte, error) {
		if data, ok := fetched[sha]; ok {
			return data, nil
		}
		return w.store.Artifact(ctx, sha)
	})
	return func(sha string, into any) error {
		switch into := into.(type) {
		case *[][]float64:
			return remembered(ctx, w, sha, read, into)
		case *[]treatment.Sample:
			return remembered(ctx, w, sha, read, into)
		case *[]treatment.PointSample:
			return remembered(ctx, w, sha, read, into)
		}
		return read(sha, into)
	}, nil
}
