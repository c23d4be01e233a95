package routines

import (
	"context"
	"errors"
	"go/ast"
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

func TestWhatBreaksIsAnError(t *testing.T) {
	g, ctx := NewGroup(context.Background(), 2)
	g.Go(func() error { panic("broken") })
	err := g.Wait()
	assert.ErrorContains(t, err, "broken")
	assert.Error(t, ctx.Err(), "the others are told")
	<-Go("test", func() { panic("broken too") })
	assert.ErrorContains(
		t,
		Guard(func() error { none := []int{}; return errors.New(string(rune(none[len(none)]))) }),
		"out of range",
	)
	assert.Equal(t, errors.ErrUnsupported, Guard(func() error { return errors.ErrUnsupported }))
}

// Nothing in the server or the core starts a goroutine in another way: a panic in it would
// take everybody's work along. The exceptions are where the ways themselves are made.
func TestNoOtherGoroutines(t *testing.T) {
	allowed := map[string]bool{"app/routines/routines.go": true, "core/raster/raster.go": true}
	root := filepath.Join("..", "..")
	files := 0
	for _, dir := range []string{"app", "core", "cmd"} {
		require.NoError(
			t,
			filepath.WalkDir(filepath.Join(root, dir), func(path string, d fs.DirEntry, err error) error {
				if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
					return err
				}
				rel, err := filepath.Rel(root, path)
				if err != nil || allowed[filepath.ToSlash(rel)] {
					return err
				}
				files++
				set := token.NewFileSet()
				data, err := os.ReadFile(path)
				if err != nil {
					return err
				}
				parsed, err := parser.ParseFile(set, path, data, 0)
				if err != nil {
					return err
				}
				for _, i := range parsed.Imports {
					assert.NotContains(t, i.Path.Value, "sync/errgroup", "%s: package routines has groups", rel)
				}
				ast.Inspect(parsed, func(n ast.Node) bool {
					switch n := n.(type) {
					case *ast.GoStmt:
						assert.Fail(t, "a goroutine of its own",
							"%s:%d: start it by package routines, or raster.Parallel", rel, set.Position(n.Pos()).Line)
					case *ast.CallExpr:
						if s, ok := n.Fun.(*ast.SelectorExpr); ok && s.Sel.Name == "Go" {
							if x, ok := s.X.(*ast.Ident); ok && strings.Contains(strings.ToLower(x.Name), "wait") {
								assert.Fail(t, "a goroutine of its own", "%s:%d", rel, set.Position(n.Pos()).Line)
							}
						}
					}
					return true
				})
				return nil
			}),
		)
	}
	assert.Greater(t, files, 100)
}
