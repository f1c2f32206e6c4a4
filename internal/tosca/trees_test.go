package tosca

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"
)

// tree is a tree with all that the reader looks at.
func tree(n *yaml.Node) string {
	var b strings.Builder
	var walk func(n *yaml.Node)
	walk = func(n *yaml.Node) {
		fmt.Fprintf(&b, "(%d %s %q %d %d:%d &%s", n.Kind, n.Tag, n.Value, n.Style, n.Line, n.Column, n.Anchor)
		if n.Alias != nil {
			fmt.Fprintf(&b, " *%d:%d", n.Alias.Line, n.Alias.Column)
		}
		for _, c := range n.Content {
			walk(c)
		}
		b.WriteString(")\n")
	}
	walk(n)
	return b.String()
}

// joined parses a text in parts and puts them together; nil where that cannot
// be done.
func joined(kept *Trees, text string) *yaml.Node {
	cut := cutUp([]byte(text), kept)
	if cut == nil {
		return nil
	}
	whole := yaml.Node{}
	broken := false
	for p := range cut.parts {
		if p == nil {
			broken = true
			continue
		}
		if whole.Kind == 0 {
			whole = *p
			whole.Content = nil
		}
		whole.Content = append(whole.Content, p.Content...)
	}
	if broken {
		return nil
	}
	*cut.place = whole
	return cut.root
}

// sameTrees parses text in parts, twice and moved by a line in between, and as a
// whole, and reports whether it could be parsed in parts.
func sameTrees(t *testing.T, kept *Trees, text string) bool {
	t.Helper()
	if len(text) < partsFrom { // make it long, where that changes nothing
		text += "\n" + strings.Repeat("# ............................................................\n", partsFrom/60)
	}
	done := false
	for _, text := range []string{text, "# moved\n" + text, text} {
		parts := joined(kept, text)
		if parts == nil {
			continue
		}
		done = true
		var whole yaml.Node
		if err := yaml.NewDecoder(strings.NewReader(text)).Decode(&whole); err != nil {
			t.Fatalf("in parts it is YAML, as a whole it is not: %v\n%s", err, text)
		}
		if a, b := tree(parts), tree(whole.Content[0]); a != b {
			la, lb := strings.Split(a, "\n"), strings.Split(b, "\n")
			for i := range min(len(la), len(lb)) {
				if la[i] != lb[i] {
					t.Fatalf("in parts, line %d is\n%s\nas a whole it is\n%s\n%s", i, la[i], lb[i], text)
				}
			}
			t.Fatalf("in parts it is %d lines, as a whole %d\n%s", len(la), len(lb), text)
		}
	}
	return done
}

const partsHead = "tosca_definitions_version: tosca_2_0\nservice_template:\n  inputs: { a: { type: string } }\n"

// entries is a map of n entries, with one odd one.
func entries(n int, odd string) string {
	var b strings.Builder
	b.WriteString(partsHead + "  node_templates: # these\n")
	for i := range n {
		if i == n/2 {
			b.WriteString(odd)
		}
		fmt.Fprintf(&b, "    # the node %d\n    node_%d:\n      type: Queue\n\n      properties:\n        list:\n        - one\n        - { two: \"3\" }\n", i, i)
	}
	return b.String() + "  outputs:\n    x: { value: 1 }\n"
}

func TestPartsAreTheWhole(t *testing.T) {
	if !sameTrees(t, &Trees{}, entries(200, "")) {
		t.Fatal("a plain text is not parsed in parts")
	}
	for name, c := range map[string]struct {
		text  string
		parts bool
	}{
		"a script": {entries(200,
			"    s:\n      run: |\n        a\n          b\n\n      more: >-\n        folded\n        text\n"), true},
		"a list at the depth of its key":  {entries(200, "    s:\n    - a\n    - b: c\n      d: e\n"), true},
		"an anchor in one place":          {entries(200, "    s: { a: &x 1, b: *x }\n"), true},
		"a quoted key":                    {entries(200, "    \"s t\": { a: 1 }\n    'u': 2\n"), true},
		"windows":                         {strings.ReplaceAll(entries(200, ""), "\n", "\r\n"), true},
		"a text over lines, not indented": {entries(200, "    s: \"a\n    node_x: b\n    c\"\n"), true},
		"brackets, not indented":          {entries(200, "    s: {\n    a: 1,\n    b: 2 }\n"), true},
		"an alias from part to part":      {entries(200, "    s: &far { a: 1 }\n") + "  more: *far\n", false},
		"twice":                           {entries(200, "") + "other:\n  node_templates:\n    a: b\n", false},
		"a tab":                           {entries(200, "    s:\t1\n"), false},
		"wrong":                           {entries(200, "    s: [ 1\n"), false},
		"less indented":                   {entries(200, "   s: 1\n"), false},
		"two documents":                   {entries(200, "") + "---\na: b\n", false},
		"a list": {partsHead + "  node_templates:\n" +
			strings.Repeat("    - a: 1\n      b: 2\n", 900), false},
		"at the end": {partsHead + "  node_templates:", false},
		"elsewhere": {partsHead + "  deep:\n    deeper:\n      node_templates:\n" +
			strings.Repeat("        a: 1\n", 2000), false},
	} {
		if got := sameTrees(t, &Trees{}, c.text); got != c.parts {
			t.Errorf("%s: parsed in parts: %v", name, got)
		}
	}
	files, err := filepath.Glob("../../examples/*/*.yaml")
	if err != nil || len(files) == 0 {
		t.Fatal(err)
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		sameTrees(t, &Trees{}, string(text))
	}
}

// TestTreesFollowEdits makes random edits, and wants the trees that are kept to
// be what a reading from nothing gives.
func TestTreesFollowEdits(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	lines := strings.SplitAfter(entries(300, "    s: &a { x: 1 }\n    u: *a\n"), "\n")
	kept := &Trees{}
	inParts, edits := 0, 120
	if testing.Short() {
		edits = 12
	}
	for range edits {
		i := rng.IntN(len(lines))
		switch rng.IntN(6) {
		case 0:
			lines = slices.Delete(lines, i, min(len(lines), i+1+rng.IntN(7)))
		case 1:
			lines = slices.Insert(lines, i, "    fresh_"+fmt.Sprint(i)+": { type: Topic }\n")
		case 2:
			lines = slices.Insert(lines, i, lines[rng.IntN(len(lines))])
		case 3:
			lines[i] = strings.Replace(lines[i], "one", "none", 1)
		case 4:
			lines = slices.Insert(lines, i, "\n", "# a word\n")
		case 5:
			lines[i] += "      text: \"over\n    lines: here\"\n"
		}
		if sameTrees(t, kept, strings.Join(lines, "")) {
			inParts++
		} else {
			lines = strings.SplitAfter(entries(300, ""), "\n") // it was broken
		}
	}
	if inParts < edits/6 {
		t.Errorf("only %d edits were parsed in parts", inParts)
	}
}

// TestOnlyWhatChangedIsParsedAgain wants the trees of the other parts to be the
// same ones.
func TestOnlyWhatChangedIsParsedAgain(t *testing.T) {
	kept := &Trees{}
	text := entries(600, "")
	joined(kept, text)
	before := map[*part]bool{}
	for _, p := range kept.parts {
		before[p] = true
	}
	joined(kept, strings.Replace(text, "node_300:\n      type: Queue", "node_300:\n      type: Topic", 1))
	fresh := 0
	for _, p := range kept.parts {
		if !before[p] {
			fresh++
		}
	}
	if len(before) < 8 || fresh != 1 {
		t.Errorf("of %d parts %d were parsed again", len(before), fresh)
	}
}

func FuzzParts(f *testing.F) {
	f.Add("    a: 1\n    b:\n      c: [ 1 ]\n")
	f.Add("    a: \"x\n    b: y\"\n    c: {\n    d: 1 }\n")
	f.Add("    a: |\n     x\n    b: &y 1\n    c: *y\n    ? d\n    : e\n")
	f.Add("    a: x\n     y\n    # c\n    b: ''\n  outputs: 3\n")
	f.Fuzz(func(t *testing.T, text string) {
		sameTrees(t, &Trees{}, partsHead+"  node_templates:\n"+text)
	})
}

// TestFindingsAreThoseOfTheWhole reads texts with mistakes in parts and as a
// whole, and wants the same findings.
func TestFindingsAreThoseOfTheWhole(t *testing.T) {
	for name, odd := range map[string]string{
		"nothing":            "",
		"the same name":      "    node_3: { type: Topic }\n    node_290: { type: Topic }\n",
		"an unknown key":     "    s: { typ: Queue }\n",
		"wrong YAML":         "    s: [ 1\n",
		"no map":             "    - a\n",
		"a merge":            "    s: { <<: { a: 1 } }\n",
		"an alias from afar": "    s: *nowhere\n",
	} {
		for _, head := range []string{partsHead, "service_templat:\n",
			partsHead + "  outputs: { y: { value: *far } }\n"} {
			text := head + strings.TrimPrefix(entries(300, odd), partsHead)
			kept := &Trees{}
			for range 2 {
				file, got := Read("x.yaml", []byte(text), Source{Trees: kept})
				sh := &shared{files: map[string]*File{}, reading: []string{"x.yaml"}}
				whole := (&reader{file: "x.yaml", path: "x.yaml", main: true, shared: sh, noParts: true}).
					readFile([]byte(text))
				sh.findings.Sort()
				if !slices.Equal(got, sh.findings) {
					t.Errorf("%s: in parts\n%v\nas a whole\n%v", name, got, sh.findings)
				}
				if a, b := file.Service, whole.Service; (a == nil) != (b == nil) ||
					a != nil && len(a.Nodes) != len(b.Nodes) {
					t.Errorf("%s: the nodes differ", name)
				}
			}
		}
	}
}
