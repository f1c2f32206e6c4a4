package stack_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"brickrow/internal/tosca"
)

// TestSmallTextsThatComeToMuch holds small templates against the bounds: each is a finding, and none
// takes long or much room.
func TestSmallTextsThatComeToMuch(t *testing.T) {
	chain := func(first, next string) string {
		var b strings.Builder
		fmt.Fprintf(&b, "    n0: { type: Topic, properties: { label: %s } }\n", first)
		for i := 1; i < 40; i++ {
			fmt.Fprintf(&b, "    n%d: { type: Topic, properties: { label: %s } }\n", i,
				strings.ReplaceAll(next, "BEFORE", fmt.Sprintf("{ $get_property: [ n%d, label ] }", i-1)))
		}
		return b.String()
	}
	one := func(value string) string { return "    n0: { type: Topic, properties: { label: " + value + " } }\n" }
	long := strings.Repeat("a", 20_000)
	big := strings.Repeat("    n@: { type: Topic, properties: { label: { $get_property: [ n0, label ] } } }\n", 100)
	for i := 1; strings.Contains(big, "n@"); i++ {
		big = strings.Replace(big, "n@", fmt.Sprint("n", i), 1)
	}
	for name, c := range map[string]struct{ nodes, code string }{
		"a text that doubles":          {chain("seed", "{ $concat: [ BEFORE, BEFORE ] }"), "value-too-large"},
		"one that is joined":           {chain("seed", "{ $join: [ [ BEFORE, BEFORE ], '-' ] }"), "value-too-large"},
		"lists in lists":               {chain("seed", "{ $join: [ { $concat: [ [ BEFORE ], [ BEFORE, BEFORE ] ] }, ' ' ] }"), "value-too-large"},
		"all together":                 {one(strings.Repeat("b", 900_000)) + big, "value-too-large"},
		"a pattern of many steps":      {one("{ $token: [ { $concat: [ 'x y', { $matches: [ " + long + ", '(a?){1000}b' ] } ] }, ' ', 0 ] }"), "costly-pattern"},
		"a pattern in a pattern":       {one("{ $concat: [ x, { $matches: [ " + long + ", '((a?){30}){30}z' ] } ] }"), "costly-pattern"},
		"a long pattern":               {one("{ $concat: [ x, { $matches: [ a, '" + strings.Repeat("a?", 600) + "' ] } ] }"), "bad-pattern"},
		"many matches":                 {strings.Replace(chain("'"+long[:600]+"'", "{ $token: [ { $concat: [ BEFORE, ' ', { $matches: [ BEFORE, '(a?){400}b' ] } ] }, ' ', 0 ] }"), "~", "", 1), "value-too-large"},
		"a common match":               {one("{ $concat: [ x, { $matches: [ " + long + ", '^[a-z]+$' ] } ] }"), ""},
		"a large value, and no larger": {one(strings.Repeat("c", 1_000_000)), ""},
	} {
		begun := time.Now()
		_, findings := resolve(t, "  node_templates:\n"+c.nodes)
		took := time.Since(begun)
		t.Logf("%s: %v", name, took)
		if took > 20*time.Second { // far above what it takes, also with the race detector; without bounds there was no end
			t.Errorf("%s: it took %v", name, took)
		}
		count := 0
		for _, f := range findings {
			if len(f.Message) > 1_000 {
				t.Errorf("%s: a sentence of %d letters", name, len(f.Message))
			}
			if f.Code == c.code {
				count++
			} else if f.Severity == tosca.Error {
				t.Errorf("%s: %v", name, f)
			}
		}
		if (count > 0) != (c.code != "") {
			t.Errorf("%s: %d of %s", name, count, c.code)
		}
	}
}
