package app

import (
	"archive/tar"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"jardin/app/cluster"
	"jardin/app/picture"
	"jardin/app/store"
)

// A backup is a tar archive (POSIX.1-2001) of three kinds of files.
const (
	backupAbout    = "backup.json"
	backupDatabase = "database.dump" // of pg_dump, in its custom format: shots, revisions, artifacts, tasks
	backupPlates   = "plates/"       // only if they are wanted
)

type about struct {
	Program string    `json:"program"`
	Version string    `json:"version"`
	Made    time.Time `json:"made"`
	Plates  bool      `json:"plates"`
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
	c, err := cluster.Start(filepath.Join(data, "postgres"), set.DatabasePort)
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
func Backup(ctx context.Context, set Settings, path string, plates bool) (err error) {
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
	part := path + ".part"
	out, err := os.Create(part)
	if err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	defer os.Remove(part)
	defer out.Close()
	archive := tar.NewWriter(out)
	blob, err := json.MarshalIndent(about{"Jardin", picture.Version(), time.Now().UTC(), plates}, "", "  ")
	if err != nil {
		return err
	}
	if err := archive.WriteHeader(&tar.Header{Name: backupAbout, Mode: 0o644, Size: int64(len(blob)), ModTime: time.Now()}); err != nil {
		return err
	}
	if _, err := archive.Write(blob); err != nil {
		return err
	}
	add := func(name, file string) error {
		in, err := os.Open(file)
		if err != nil {
			return err
		}
		defer in.Close()
		info, err := in.Stat()
		if err != nil {
			return err
		}
		if err := archive.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: info.Size(), ModTime: info.ModTime()}); err != nil {
			return err
		}
		_, err = io.Copy(archive, in)
		return err
	}
	if err := add(backupDatabase, dump); err != nil {
		return err
	}
	if plates {
		root := filepath.Join(set.Data, "plates")
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
			return add(backupPlates+filepath.ToSlash(rel), file)
		})
		if err != nil {
			return err
		}
	}
	if err := errors.Join(archive.Close(), out.Sync(), out.Close()); err != nil {
		return fmt.Errorf("write the backup: %w", err)
	}
	return os.Rename(part, path)
}

// Restore puts a backup in place of what a data folder holds. It refuses where there
// are shots, unless they are to be replaced.
func Restore(ctx context.Context, set Settings, path string, replace bool) (err error) {
	in, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("open the backup: %w", err)
	}
	defer in.Close()
	archive := tar.NewReader(in)
	head, err := archive.Next()
	if err != nil || head.Name != backupAbout {
		return fmt.Errorf("%s is not a backup of Jardin's", path)
	}
	scratch, err := os.MkdirTemp("", "jardin-restore-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(scratch)
	dump := filepath.Join(scratch, backupDatabase)
	take := func(file string) error {
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		out, err := os.Create(file)
		if err != nil {
			return err
		}
		if _, err := io.Copy(out, archive); err != nil {
			out.Close()
			return fmt.Errorf("%s is cut short: %w", path, err)
		}
		return out.Close()
	}
	if head, err = archive.Next(); err != nil || head.Name != backupDatabase {
		return fmt.Errorf("%s is damaged: it lacks the database", path)
	}
	if err := take(dump); err != nil {
		return err
	}
	url, stop, err := set.database()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, stop()) }()
	if !replace {
		s, err := store.Open(ctx, url)
		if err != nil {
			return err
		}
		shots, err := s.Shots(ctx)
		s.Close()
		if err != nil {
			return err
		}
		if len(shots) > 0 {
			return fmt.Errorf("there are %d shots in %s already; restore into an empty folder, or say --replace to lose them", len(shots), set.Data)
		}
	}
	if err := cluster.Restore(ctx, url, dump); err != nil {
		return err
	}
	for {
		head, err := archive.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("%s is cut short: %w", path, err)
		}
		if !filepath.IsLocal(head.Name) || filepath.Dir(head.Name) == "." {
			return fmt.Errorf("%s holds a file that does not belong there: %s", path, head.Name)
		}
		if err := take(filepath.Join(set.Data, filepath.FromSlash(head.Name))); err != nil {
			return err
		}
	}
	// A backup of an older version is brought up to date.
	s, err := store.Open(ctx, url)
	if err != nil {
		return err
	}
	s.Close()
	return nil
}
