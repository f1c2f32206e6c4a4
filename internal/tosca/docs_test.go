package tosca

import (
	"fmt"
	"os"
	"strings"
	"testing"
)

const docs = "../../docs/language.md"

// TestLanguagePage holds the tables of docs/language.md against the reader's
// own. With UPDATE_DOCS=1 it writes them.
func TestLanguagePage(t *testing.T) {
	text, err := os.ReadFile(docs)
	if err != nil {
		t.Fatal(err)
	}
	page := string(text)
	for name, table := range map[string][]Keyword{"keywords": Keywords, "functions": Functions()} {
		begin, end := "<!-- "+name+" -->\n", "<!-- end of "+name+" -->"
		i, j := strings.Index(page, begin), strings.Index(page, end)
		if i < 0 || j < i {
			t.Fatalf("%s has no place for the %s", docs, name)
		}
		want := render(table)
		if got := page[i+len(begin) : j]; got != want {
			if os.Getenv("UPDATE_DOCS") == "" {
				t.Errorf("the table of %s is not the reader's; run UPDATE_DOCS=1 go test ./internal/tosca", name)
			}
			page = page[:i+len(begin)] + want + page[j:]
		}
	}
	if os.Getenv("UPDATE_DOCS") != "" {
		if err := os.WriteFile(docs, []byte(page), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

func render(table []Keyword) string {
	var b strings.Builder
	b.WriteString("| where | word | supported |\n|---|---|---|\n")
	for _, k := range table {
		fmt.Fprintf(&b, "| %s | `%s` | %s |\n", k.Section, k.Name, k.Support)
	}
	return b.String()
}
