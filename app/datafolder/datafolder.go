// Package datafolder is the folder in which a server keeps all that it keeps: the one place
// that makes paths in it, and that removes things from it. No path leaves the folder,
// whatever name it is made of, and only one server works in it at a time.
package datafolder

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"syscall"
)

// Kinds of things in the folder, each with a folder of its own.
const (
	Plates  = "plates"  // by shot
	Renders = "renders" // by task
	Uploads = "uploads" // by upload
	Paint   = "paint"   // layers of paint, kept between starts
)

// A Folder is a data folder.
type Folder struct {
	dir  string
	root *os.Root
	lock *os.File
}

// ErrID says that a name is none that things have.
var ErrID = errors.New("this is no identifier: letters, digits, dashes and underscores, 64 at most")

// Pattern is what names of things look like.
const Pattern = `^[A-Za-z0-9][A-Za-z0-9_-]{0,63}$`

var identifier = regexp.MustCompile(Pattern)

// ValidID reports whether a name is one that shots, tasks, removals and all else have.
func ValidID(id string) bool { return identifier.MatchString(id) }

// Open opens a data folder, made if it is not there. Nobody else may look into it.
func Open(dir string) (*Folder, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	mode := os.FileMode(0o700)
	if os.Geteuid() == 0 {
		mode = 0o711 // PostgreSQL, which does not run as root, passes through to its own
	}
	if err := os.MkdirAll(dir, mode); err != nil {
		return nil, fmt.Errorf("make the data folder: %w", err)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("open the data folder: %w", err)
	}
	for _, kind := range []string{Plates, Renders, Uploads, Paint} {
		if err := root.MkdirAll(kind, 0o700); err != nil {
			return nil, fmt.Errorf("make the data folder: %w", err)
		}
		// Older programs let others look.
		if err := root.Chmod(kind, 0o700); err != nil && !errors.Is(err, fs.ErrPermission) {
			return nil, fmt.Errorf("close the data folder to others: %w", err)
		}
	}
	return &Folder{dir: dir, root: root}, nil
}

// Lock keeps others from working in the folder, until Close or the end of the program.
func (f *Folder) Lock() error {
	file, err := f.root.OpenFile("lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("lock the data folder: %w", err)
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		file.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return fmt.Errorf(
				"another Jardin is at work on %s; stop it first, or name another folder with --data",
				f.dir,
			)
		}
		return fmt.Errorf("lock the data folder: %w", err)
	}
	f.lock = file
	return nil
}

// Close lets others work in the folder.
func (f *Folder) Close() error {
	err := f.root.Close()
	if f.lock != nil {
		err = errors.Join(err, f.lock.Close())
	}
	return err
}

// Dir returns the folder's path.
func (f *Folder) Dir() string { return f.dir }

// Path returns where the thing of a kind with an identifier lies; ErrID for one that cannot be
// any's.
func (f *Folder) Path(kind, id string) (string, error) {
	if !ValidID(id) {
		return "", ErrID
	}
	return filepath.Join(f.dir, kind, id), nil
}

// Kind returns the folder of all things of a kind.
func (f *Folder) Kind(kind string) string { return filepath.Join(f.dir, kind) }

// Remove removes the thing of a kind with an identifier, and what is only begun of it. It is
// no error if it is not there.
func (f *Folder) Remove(kind, id string) error {
	if !ValidID(id) {
		return ErrID
	}
	var errs []error
	for _, ending := range []string{"", ".part", ".json"} {
		errs = append(errs, f.root.RemoveAll(filepath.Join(kind, id+ending)))
	}
	return errors.Join(errs...)
}

// Clear removes all things of a kind.
func (f *Folder) Clear(kind string) error {
	if err := f.root.RemoveAll(kind); err != nil {
		return err
	}
	return f.root.MkdirAll(kind, 0o700)
}
