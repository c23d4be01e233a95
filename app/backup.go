package app

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"jardin/app/cluster"
	"jardin/app/datafolder"
	"jardin/app/picture"
	"jardin/app/store"
)

// A backup is a tar archive (POSIX.1-2001) of three kinds of files.
const (
	backupAbout    = "backup.json"
	backupDatabase = "database.dump" // of pg_dump, in its custom format: shots, revisions, artifacts, tasks
	backupPlates   = "plates/"       // only if they are wanted
	backupSums     = "SHA256SUMS"    // of all before it, as sha256sum writes them; the last
)

type about struct {
	Program string    `json:"program"`
	Version string    `json:"version"`
	Made    time.Time `json:"made"`
	Plates  bool      `json:"plates"`
	Sums    bool      `json:"sums"` // it ends with the sums of its files; those of older programs do not
}

// database returns the address of a data folder's database, started if need be, and
// what stops it again.
func (set Settings) database() (url string, stop func() error, err error) {
	if set.Database != "" {
		return set.Database, func() error { return nil }, nil
	}
	data, err := filepath.Abs(set.Data)
	if err != nil {
		return "", nil, err
	}
	c, err := cluster.Start(filepath.Join(data, "postgres"))
	if err != nil {
		return "", nil, err
	}
	if err := c.Create("jardin"); err != nil {
		return "", nil, err
	}
	return c.URL("jardin"), func() error {
		if c.Started {
			return c.Stop()
		}
		return nil
	}, nil
}

// Backup writes the database with all artifacts, and plates if they are wanted, into
// one archive. It is whole or absent. The server may be at work meanwhile.
func Backup(ctx context.Context, set Settings, to string, plates bool) (err error) {
	url, stop, err := set.database()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, stop()) }()
	scratch, err := os.MkdirTemp("", "jardin-backup-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(scratch)
	dump := filepath.Join(scratch, backupDatabase)
	if err := cluster.Dump(ctx, url, dump); err != nil {
		return err
	}
	part := to + ".part"
	out, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	defer os.Remove(part)
	defer out.Close()
	w := &archiveWriter{Writer: tar.NewWriter(out)}
	blob, err := json.MarshalIndent(about{"Jardin", picture.Version(), time.Now().UTC(), plates, true}, "", "  ")
	if err != nil {
		return err
	}
	if err := w.put(backupAbout, int64(len(blob)), time.Now(), bytes.NewReader(blob)); err != nil {
		return err
	}
	if err := w.add(backupDatabase, dump); err != nil {
		return err
	}
	if plates {
		root := filepath.Join(set.Data, datafolder.Plates)
		err := filepath.WalkDir(root, func(file string, e os.DirEntry, err error) error {
			if errors.Is(err, os.ErrNotExist) && file == root {
				return nil
			}
			if err == nil {
				err = ctx.Err()
			}
			if err != nil || e.IsDir() {
				if err == nil && filepath.Ext(file) == ".part" {
					return filepath.SkipDir // a shot that is not in yet
				}
				return err
			}
			rel, err := filepath.Rel(root, file)
			if err != nil {
				return err
			}
			return w.add(backupPlates+filepath.ToSlash(rel), file)
		})
		if err != nil {
			return err
		}
	}
	text := w.sums.String()
	if err := w.put(backupSums, int64(len(text)), time.Now(), strings.NewReader(text)); err != nil {
		return err
	}
	if err := errors.Join(w.Close(), out.Sync(), out.Close()); err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	return os.Rename(part, to)
}

// An archiveWriter writes files and remembers their sums.
type archiveWriter struct {
	*tar.Writer
	sums strings.Builder
}

func (w *archiveWriter) put(name string, size int64, when time.Time, in io.Reader) error {
	if err := w.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: when}); err != nil {
		return err
	}
	sum := sha256.New()
	if _, err := io.Copy(w, io.TeeReader(in, sum)); err != nil {
		return err
	}
	fmt.Fprintf(&w.sums, "%x  %s\n", sum.Sum(nil), name)
	return nil
}

func (w *archiveWriter) add(name, file string) error {
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	return w.put(name, info.Size(), info.ModTime(), in)
}

// Restore puts a backup in place of what a data folder holds. It refuses where there
// are shots, unless they are to be replaced, and while a server is at work. All of the archive
// is read and checked first, and brought in beside what is there; only then does it take its
// place, at once. If anything is wrong before that, nothing has changed.
func Restore(ctx context.Context, set Settings, file string, replace bool) (err error) {
	if set.Database != "" {
		return errors.New(
			"a backup is restored into a database of Jardin's own: leave --database out; or restore it with " +
				"PostgreSQL's own programs",
		)
	}
	folder, err := datafolder.Open(set.Data)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, folder.Close()) }()
	if err := folder.Lock(); err != nil {
		return err
	}
	scratch, err := os.MkdirTemp(folder.Dir(), "restore-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(scratch)
	if err := unpack(ctx, file, scratch); err != nil {
		return fmt.Errorf("%s cannot be restored: %w. Nothing was changed", file, err)
	}
	c, err := cluster.Start(filepath.Join(folder.Dir(), "postgres"))
	if err != nil {
		return err
	}
	defer func() {
		if c.Started {
			err = errors.Join(err, c.Stop())
		}
	}()
	if err := c.Create("jardin"); err != nil {
		return err
	}
	if n, err := shotsIn(ctx, c.URL("jardin")); err != nil {
		return err
	} else if n > 0 && !replace {
		return fmt.Errorf("there are %d shots in %s already; restore into an empty folder, or say --replace to lose "+
			"them", n, set.Data)
	}
	fresh, err := c.Beside(ctx, "jardin_restored")
	if err != nil {
		return err
	}
	if err := load(ctx, fresh, filepath.Join(scratch, backupDatabase)); err != nil {
		return errors.Join(fmt.Errorf("%s cannot be restored: %w. Nothing was changed", file, err), fresh.Drop(ctx))
	}
	// Plates first: those of shots that are not there yet are in nobody's way.
	if err := placePlates(folder, filepath.Join(scratch, "plates")); err != nil {
		return errors.Join(err, fresh.Drop(ctx))
	}
	return fresh.Replace(ctx, "jardin")
}

// shotsIn counts the shots of a database, deleted ones too.
func shotsIn(ctx context.Context, url string) (int, error) {
	s, err := store.Open(ctx, url)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	shots, err := s.Shots(ctx)
	if err != nil {
		return 0, err
	}
	deleted, err := s.Deleted(ctx)
	return len(shots) + len(deleted), err
}

// load reads a dump into a fresh database, and checks that this program can use it.
func load(ctx context.Context, fresh *cluster.Fresh, dump string) error {
	made, err := store.Open(ctx, fresh.URL()) // its tables
	if err != nil {
		return err
	}
	made.Close()
	if err := fresh.Load(ctx, dump); err != nil {
		return err
	}
	if made, err = store.Open(ctx, fresh.URL()); err != nil {
		return err
	}
	defer made.Close()
	return made.Check(ctx)
}

// unpack checks all of an archive while it is read into a folder: that it is whole, that its
// sums are there and right, if it is of a program that writes them, and that it holds nothing but what a backup holds.
func unpack(ctx context.Context, from, dir string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	archive := tar.NewReader(in)
	sums := map[string]string{}
	var told []byte
	var what about
	for n := 0; ; n++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		head, err := archive.Next()
		switch {
		case errors.Is(err, io.EOF) && n < 2:
			return errors.New("it is not a backup of Jardin's, or lacks the database")
		case errors.Is(err, io.EOF) && what.Sums && told == nil:
			return errors.New("it is cut short: the sums at its end are missing")
		case errors.Is(err, io.EOF):
			return compare(sums, told)
		case err != nil:
			return fmt.Errorf("it is damaged or cut short: %w", err)
		case told != nil:
			return fmt.Errorf("it holds something after its end: %s", head.Name)
		case head.Typeflag != tar.TypeReg:
			return fmt.Errorf("it holds %s, which is no file", head.Name)
		}
		if err := belongs(n, head.Name); err != nil {
			return err
		}
		file := filepath.Join(dir, filepath.FromSlash(head.Name))
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			return err
		}
		out, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		sum := sha256.New()
		_, err = io.Copy(io.MultiWriter(out, sum), archive)
		if err = errors.Join(err, out.Close()); err != nil {
			return fmt.Errorf("it is damaged or cut short: %w", err)
		}
		if head.Name == backupSums {
			if told, err = os.ReadFile(file); err != nil {
				return err
			}
			continue
		}
		sums[head.Name] = fmt.Sprintf("%x", sum.Sum(nil))
		if head.Name == backupAbout {
			blob, err := os.ReadFile(file)
			if err != nil || json.Unmarshal(blob, &what) != nil || what.Program != "Jardin" {
				return errors.New("it is not a backup of Jardin's")
			}
		}
	}
}

// compare holds the sums of files against those that an archive tells; archives of older
// programs tell none.
func compare(sums map[string]string, told []byte) error {
	for line := range strings.Lines(string(told)) {
		sum, name, ok := strings.Cut(strings.TrimSpace(line), "  ")
		if !ok || sums[name] != sum {
			return fmt.Errorf("%s in it is damaged", name)
		}
		delete(sums, name)
	}
	if told != nil && len(sums) > 0 {
		return errors.New("it holds files that it does not know of")
	}
	return nil
}

// belongs refuses names that a backup does not hold in that place.
func belongs(n int, name string) error {
	switch {
	case n == 0 && name == backupAbout, n == 1 && name == backupDatabase, n > 1 && name == backupSums:
		return nil
	case n > 1 && strings.HasPrefix(name, backupPlates) && filepath.IsLocal(filepath.FromSlash(name)) &&
		path.Clean(name) == name:
		parts := strings.Split(name, "/")
		if len(parts) >= 3 && datafolder.ValidID(parts[1]) {
			return nil
		}
	case n < 2:
		return errors.New("it is not a backup of Jardin's")
	}
	return fmt.Errorf("it holds a file that does not belong there: %s", name)
}

// placePlates moves restored plates to where plates lie. What lies there of the same shots
// gives way.
func placePlates(folder *datafolder.Folder, from string) error {
	shots, err := os.ReadDir(from)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, e := range shots {
		to, err := folder.Path(datafolder.Plates, e.Name())
		if err != nil {
			return err
		}
		if err := folder.Remove(datafolder.Plates, e.Name()); err != nil {
			return err
		}
		if err := os.Rename(filepath.Join(from, e.Name()), to); err != nil {
			return err
		}
	}
	return nil
}
