package media

import (
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
)

// Roots are the folders that the server was told it may read.
type Roots []string

// An Entry is something in a folder that can be opened or brought in.
type Entry struct {
	Name   string `json:"name"`
	Path   string `json:"path"`
	Kind   string `json:"kind" enum:"folder,movie,stills" doc:"stills: one of several sequences in a folder"`
	Stills int    `json:"stills,omitempty" doc:"Numbered stills directly in the folder"`
}

// Resolve returns the real path, links followed, if it lies in one of the roots.
func (roots Roots) Resolve(path string) (string, error) {
	real, err := filepath.EvalSymlinks(path)
	if err != nil && isSequence(path) {
		dir, err := roots.Resolve(filepath.Dir(path))
		if err != nil {
			return "", err
		}
		return filepath.Join(dir, filepath.Base(path)), nil
	}
	if err != nil {
		return "", fmt.Errorf("%s does not exist, or may not be opened", path)
	}
	for _, root := range roots {
		base, err := filepath.EvalSymlinks(root)
		if err != nil {
			continue
		}
		if rel, err := filepath.Rel(base, real); err == nil && rel != ".." &&
			!strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
			return real, nil
		}
	}
	return "", fmt.Errorf(
		"%s is outside the folders that this server may read; start it with --media FOLDER to allow more",
		path,
	)
}

// Inside refuses footage of which a file is a link that leads out of the roots.
func (roots Roots) Inside(m *Material) error {
	if m.Kind == "movie" {
		_, err := roots.Resolve(m.Path)
		return err
	}
	for _, n := range m.numbers {
		path := m.file(n)
		info, err := os.Lstat(path)
		if err != nil {
			return fmt.Errorf("%s cannot be opened: %w", path, err)
		}
		if info.Mode()&os.ModeSymlink == 0 {
			continue
		}
		if _, err := roots.Resolve(path); err != nil {
			return fmt.Errorf("%s is a link: %w", path, err)
		}
	}
	return nil
}

// List returns the folders and movies in a folder, or the roots themselves for
// an empty path.
func (roots Roots) List(path string) ([]Entry, error) {
	var out []Entry
	if path == "" {
		for _, root := range roots {
			out = append(out, Entry{Name: root, Path: root, Kind: "folder", Stills: countStills(root)})
		}
		return out, nil
	}
	real, err := roots.Resolve(path)
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(real)
	if err != nil {
		return nil, fmt.Errorf("the folder %s cannot be read: %w", path, err)
	}
	for _, e := range entries {
		full := filepath.Join(path, e.Name())
		info, err := os.Stat(full)
		if err != nil || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		switch {
		case info.IsDir():
			out = append(out, Entry{Name: e.Name(), Path: full, Kind: "folder", Stills: countStills(full)})
		case IsMovie(e.Name()):
			out = append(out, Entry{Name: e.Name(), Path: full, Kind: "movie"})
		}
	}
	if found, err := sequencesIn(real); err == nil && len(found) > 1 {
		for one, numbers := range found {
			out = append(out, Entry{Name: one.name(), Path: filepath.Join(path, one.name()), Kind: "stills", Stills: len(numbers)})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}

func countStills(dir string) (n int) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return 0
	}
	for _, e := range entries {
		if IsStill(e.Name()) && !e.IsDir() {
			n++
		}
	}
	return n
}
