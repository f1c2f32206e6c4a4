package app

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"brickrow/internal/tosca"
)

const findingsPage = "../../docs/findings.md"

// codeAt is the place of the code among the arguments of the functions that
// report findings.
var codeAt = map[string]int{"Errorf": 1, "Warnf": 1, "Hintf": 1, "at": 2, "At": 2, "fail": -1, "readOther": 3,
	"uncertain": 3}

// usedCodes finds the codes of findings in the source.
func usedCodes(t *testing.T) map[string]bool {
	t.Helper()
	looksLikeCode := regexp.MustCompile(`^[a-z]+(-[a-z]+)+$|^cycle$|^quota$|^guarded$|^interrupted$|^deprecated$|^permission$|^rule$`)
	used := map[string]bool{}
	for _, dir := range []string{"tosca", "stack", "app", "precheck", "profile", "whatif", "rules"} {
		err := filepath.WalkDir(filepath.Join("..", dir), func(path string, e fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
				strings.HasSuffix(path, "codes.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err != nil {
				return err
			}
			note := func(x ast.Expr) {
				if lit, ok := x.(*ast.BasicLit); ok && lit.Kind == token.STRING {
					if s, err := strconv.Unquote(lit.Value); err == nil && looksLikeCode.MatchString(s) {
						used[s] = true
					}
				}
			}
			ast.Inspect(file, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.CallExpr:
					name := ""
					switch f := n.Fun.(type) {
					case *ast.SelectorExpr:
						name = f.Sel.Name
					case *ast.Ident:
						name = f.Name
					}
					if i, ok := codeAt[name]; ok {
						for k, a := range n.Args {
							if i < 0 && k < 2 || k == i {
								note(a)
							}
						}
					}
				case *ast.CompositeLit:
					if id, ok := n.Type.(*ast.Ident); ok && id.Name == "misfit" && len(n.Elts) > 0 {
						note(n.Elts[0])
					}
				case *ast.AssignStmt:
					if sel, ok := n.Lhs[0].(*ast.SelectorExpr); ok && sel.Sel.Name == "code" {
						note(n.Rhs[0])
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return used
}

// TestEveryCodeIsDocumentedAndTested holds the list of codes against the
// source, docs/findings.md against the list, and wants each code to be
// provoked by some template or test. With UPDATE_DOCS=1 it writes the page.
func TestEveryCodeIsDocumentedAndTested(t *testing.T) {
	long(t)
	used := usedCodes(t)
	for code := range used {
		if tosca.Codes[code] == "" {
			t.Errorf("the code %s is not in the list", code)
		}
	}
	var tests strings.Builder
	err := filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() && (strings.HasSuffix(path, "_test.go") ||
			strings.Contains(path, "testdata/check")) && e.Name() != "findings_test.go" {
			var b []byte
			b, err = os.ReadFile(path)
			tests.Write(b)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	page := "# Findings\n\nEvery finding has a code that stays the same. `brickrow check --json` and\n`brickrow whatif --json` give it as `code`.\n\n| code | what it means |\n|---|---|\n"
	for _, code := range slices.Sorted(maps.Keys(tosca.Codes)) {
		if !used[code] {
			t.Errorf("the list has %s, which nothing reports", code)
		}
		if !regexp.MustCompile(`[" :]` + code + `["\s,]`).MatchString(tests.String()) {
			t.Errorf("no template or test provokes %s", code)
		}
		page += fmt.Sprintf("| <a id=\"%[1]s\"></a>`%[1]s` | %[2]s |\n", code, tosca.Codes[code])
	}
	if os.Getenv("UPDATE_DOCS") != "" {
		if err := os.WriteFile(findingsPage, []byte(page), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if have, err := os.ReadFile(findingsPage); err != nil || string(have) != page {
		t.Errorf("docs/findings.md is not made from the code; run UPDATE_DOCS=1 go test ./internal/app -run EveryCode (%v)", err)
	}
}
