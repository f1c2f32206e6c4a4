package yard

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"strconv"
	"strings"
	"testing"

	"brickrow/internal/cloud"
)

// TestRefusalsAreListed finds the codes in the source and holds them against
// the list.
func TestRefusalsAreListed(t *testing.T) {
	entries, err := os.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	used := map[string]bool{"unknown-target": true} // written out in the handler
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), ".go") || strings.HasSuffix(e.Name(), "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), e.Name(), nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			name, ok := call.Fun.(*ast.Ident)
			if !ok || name.Name != "refuse" && name.Name != "bad" {
				return true
			}
			arg := call.Args[0]
			if name.Name == "refuse" {
				arg = call.Args[1]
			}
			if lit, ok := arg.(*ast.BasicLit); ok {
				code, err := strconv.Unquote(lit.Value)
				if err != nil {
					t.Fatal(err)
				}
				used[code] = true
			}
			return true
		})
	}
	for code := range used {
		if cloud.Refusals[code] == "" {
			t.Errorf("nobody says what usually mends the refusal %s", code)
		}
	}
	for _, passing := range []string{"internal", "operation-failed", "script-failed", "busy",
		"refused"} { // faults, and what the yard itself is at fault for
		delete(used, passing)
	}
	for code := range used {
		if _, listed := Refusals[code]; !listed {
			t.Errorf("the yard refuses with %s, which is not in the list", code)
		}
	}
	for code := range Refusals {
		if !used[code] {
			t.Errorf("the list has %s, which the yard never says", code)
		}
	}
}
