package tosca

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestFormatIsStable formats every template there is: it must keep its meaning
// and come out the same the second time.
func TestFormatIsStable(t *testing.T) {
	var files []string
	for _, pattern := range []string{"testdata/check/*.yaml", "testdata/check/*/*.yaml", "testdata/format/*.yaml", "../../examples/*/*.yaml", "../../examples/*/*/*.yaml", "../profile/*.yaml"} {
		more, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, more...)
	}
	formatted := 0
	for _, path := range files {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		once, findings := Format(path, text)
		if findings.HasErrors() {
			if strings.Contains(path, "format/") || strings.Contains(path, "examples") || strings.Contains(path, "profile/") || findings[0].Code == "cannot-format" {
				t.Errorf("%v", findings)
			}
			continue
		}
		formatted++
		twice, findings := Format(path, once)
		if string(once) != string(twice) {
			t.Errorf("%s: the second time it is different: %v\n%s", path, findings, firstDifference(string(once), string(twice)))
		}
	}
	if formatted < 50 {
		t.Errorf("only %d files could be formatted", formatted)
	}
}

func firstDifference(a, b string) string {
	as, bs := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range as {
		if i >= len(bs) || as[i] != bs[i] {
			return as[i] + "\n" + strings.Join(bs[min(i, len(bs)):min(i+1, len(bs))], "")
		}
	}
	return "(more lines)"
}
