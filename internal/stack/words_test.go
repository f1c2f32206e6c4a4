package stack_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

// TestOnePlaceSaysSo wants the sentences that claim most to be made in one place alone, which knows whether they hold.
func TestOnePlaceSaysSo(t *testing.T) {
	claims := []string{"by hand", "as it was", "are as they were", "as recorded", "as it is recorded", "nothing is left"}
	seen := 0
	err := filepath.WalkDir("../..", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "/testdata/") {
			return err
		}
		files := token.NewFileSet()
		f, err := parser.ParseFile(files, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(n ast.Node) bool {
			l, ok := n.(*ast.BasicLit)
			if !ok || l.Kind != token.STRING {
				return true
			}
			for _, c := range claims {
				if !strings.Contains(l.Value, c) {
					continue
				}
				if seen++; filepath.Base(path) != "truth.go" {
					t.Errorf("%s says %s", files.Position(l.Pos()), l.Value)
				}
			}
			return true
		})
		return nil
	})
	if err != nil || seen == 0 {
		t.Error(err, seen)
	}
}
