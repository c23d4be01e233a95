// Package core_test holds the core to its rule: it knows no interface, file,
// network or database.
package core_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rank says which rooms may import which: only ones with a lower number.
var rank = map[string]int{
	"simd": -1, "geom": 0, "colorspace": 0, "memo": 0, "raster": 1, "matte": 2, "track": 2, "fill": 2, "spread": 2, "gather": 2, "settle": 2,
	"check": 2, "warp": 2, "camera": 2, "treatment": 3, "carry": 4, "grow": 4, "render": 5,
}

var forbidden = []string{
	"os",
	"net",
	"net/http",
	"database/sql",
	"time",
	"syscall",
	"io/fs",
	"path/filepath",
	"os/exec",
}

func TestImportsRunOneWay(t *testing.T) {
	files := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || path == "core_test.go" {
			return err
		}
		files++
		room := strings.Split(path, string(os.PathSeparator))[0]
		own, known := rank[room]
		assert.True(t, known, "%s is a room that the rule does not know", room)
		parsed, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range parsed.Imports {
			name := strings.Trim(spec.Path.Value, `"`)
			if inner, ok := strings.CutPrefix(name, "jardin/core/"); ok {
				if inner == room && strings.HasSuffix(path, "_test.go") {
					continue // an example, as somebody outside would write it
				}
				assert.Less(t, rank[inner], own, "%s imports %s", path, name)
				continue
			}
			assert.False(t, strings.HasPrefix(name, "jardin/"), "%s imports %s", path, name)
			if strings.HasSuffix(path, "_test.go") {
				continue
			}
			assert.NotContains(t, forbidden, name, "%s imports %s", path, name)
			if strings.Contains(strings.Split(name, "/")[0], ".") {
				ok := strings.HasPrefix(name, "gonum.org/v1/gonum") || strings.HasPrefix(name, "golang.org/x/image")
				assert.True(t, ok, "%s imports %s", path, name)
			}
		}
		return nil
	}))
	assert.Greater(t, files, 15)
}
