package assist

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

const named1 = head + `service_template:
  inputs:
    site: { type: string }
  node_templates:
    net:
      type: Network
      properties: { cidr: 10.0.0.0/16, label: { $get_input: site } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24, label: net }, requirements: [ network: net ] }
    gate:
      type: Hut # net
      requirements:
        - subnet: { node: sub }
      properties:
        label: { $concat: [ "net", { $get_property: [ net, cidr ] }, { $get_attribute: [ sub, id ] } ] }
  policies:
    - keep: { type: Keep, targets: [ net, sub ] }
  groups:
    both: { type: All, members: [ net ] }
`

const filling = head + `service_template:
  inputs: { site: { type: string } }
  substitution_mappings:
    node_type: Hut
    properties:
      label: site
    attributes: { id: where, url: [ net, id ] }
    requirements:
      - subnet: [ sub, network ]
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16, label: { $get_input: site } } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 } }
  outputs: { where: { value: { $get_attribute: [ sub, id ] } } }
`

func TestNames(t *testing.T) {
	types := head + "node_types:\n  Hut: { derived_from: Server }\ngroup_types:\n  All: {}\nfunctions:\n  shout: { signatures: [ { arguments: [ string ], result: { type: string } } ] }\n"
	main := strings.Replace(named1, "cloud:1 } ]", "cloud:1 }, types.yaml ]", 1) + "  outputs:\n    loud: { value: { $shout: [ { $concat: [ a ] } ] } }\n"
	stackFile := "stack: a\ntemplate: a.yaml\ntarget: x/y\ninputs:\n  site: one\n"
	for _, test := range []struct{ at, definition, references string }{
		{"    ‸net:\n", "a.yaml:7", "a.yaml:7 a.yaml:10 a.yaml:16 a.yaml:18 a.yaml:20"},
		{"network: n‸et ]", "a.yaml:7", "a.yaml:7 a.yaml:10 a.yaml:16 a.yaml:18 a.yaml:20"},
		{"{ node: s‸ub }", "a.yaml:10", "a.yaml:10 a.yaml:14 a.yaml:16 a.yaml:18"},
		{"$get_input: si‸te", "a.yaml:5", "a.stack.yaml:5 a.yaml:5 a.yaml:9"},
		{"type: H‸ut #", "types.yaml:4", "a.yaml:12 types.yaml:4"},
		{"type: Al‸l,", "types.yaml:6", "a.yaml:20 types.yaml:6"},
		{"{ $sho‸ut: [", "types.yaml:8", "a.yaml:22 types.yaml:8"},
		{"{ $con‸cat: [ a", "", ""},
		{"type: Netw‸ork", "", "a.yaml:8"},
		{"label: ‸net }", "", ""},
		{"# n‸et", "", ""},
	} {
		marked := strings.Replace(main, strings.Replace(test.at, "‸", "", 1), test.at, 1)
		w, path, at := work(t, marked, "types.yaml", types, "a.stack.yaml", stackFile)
		show := func(l Location) string { return fmt.Sprintf("%s:%d", filepath.Base(l.Path), l.From.Line+1) }
		got := ""
		if l, ok := w.Definition(path, at); ok {
			got = show(l)
		}
		if got != test.definition {
			t.Errorf("%q: defined at %q, want %q", test.at, got, test.definition)
		}
		var refs []string
		for _, l := range w.References(path, at) {
			refs = append(refs, show(l))
			if text := w.Text(l.Path).Slice(l.Range); text == "" || strings.ContainsAny(text, " :,") {
				t.Errorf("%q: %q is no name", test.at, text)
			}
		}
		slices.Sort(refs)
		want := strings.Fields(test.references)
		slices.Sort(want)
		if !slices.Equal(slices.Compact(refs), want) {
			t.Errorf("%q: used at %v, want %v", test.at, refs, want)
		}
	}
}

func TestRename(t *testing.T) {
	stackFile := "stack: a\ntemplate: a.yaml\ntarget: x/y\ninputs:\n  site: one # site\n"
	fleetFile := "fleet: a\nstack: a.stack.yaml\nplaces:\n  - { target: x/y, inputs: { site: { filled_by: region } } } # site\n"
	rename := func(at, to string) (map[string]string, error) {
		marked := strings.Replace(named1, strings.Replace(at, "‸", "", 1), at, 1)
		w, path, place := work(t, marked, "a.stack.yaml", stackFile, "a.fleet.yaml", fleetFile)
		edits, err := w.Rename(path, place, to)
		out := map[string]string{}
		for path, list := range edits {
			text := w.Text(path)
			for _, e := range slices.Backward(list) {
				text = text.Apply(e)
			}
			out[filepath.Base(path)] = text.String()
		}
		return out, err
	}
	got, err := rename("$get_input: si‸te", "place")
	if err != nil || got["a.stack.yaml"] != strings.Replace(stackFile, "site: one", "place: one", 1) ||
		got["a.fleet.yaml"] != strings.Replace(fleetFile, "site: {", "place: {", 1) ||
		got["a.yaml"] != strings.NewReplacer("    site: {", "    place: {", "$get_input: site", "$get_input: place").Replace(named1) {
		t.Errorf("%v\n%v", err, got)
	}
	got, err = rename("network: n‸et ]", "valley")
	want := strings.NewReplacer("    net:\n", "    valley:\n", "network: net", "network: valley", "[ net, cidr", "[ valley, cidr",
		"[ net, sub ]", "[ valley, sub ]", "[ net ]", "[ valley ]").Replace(named1)
	if err != nil || got["a.yaml"] != want {
		t.Errorf("%v\n%s", err, got["a.yaml"])
	}
	for _, test := range [][2]string{{"site", "label: site get_input:site"}, {"where", "id:where"}, {"net", "[net,id]"},
		{"sub", "[sub,network] [sub,id]"}} { // also what a filled node is mapped to
		marked := strings.Replace(filling, test[0]+": {", test[0][:1]+"‸"+test[0][1:]+": {", 1)
		w, path, place := work(t, marked)
		edits, err := w.Rename(path, place, "other")
		if err != nil {
			t.Fatal(err)
		}
		got := strings.ReplaceAll(w.Text(path).ApplyAll(edits[path]).String(), " ", "")
		for _, was := range strings.Fields(strings.ReplaceAll(test[1], ": ", ":")) {
			if want := strings.ReplaceAll(was, test[0], "other"); strings.Contains(got, was) || !strings.Contains(got, want) {
				t.Errorf("%s: %s is not %s:\n%s", test[0], was, want, got)
			}
		}
	}
	for _, test := range [][3]string{{"network: n‸et ]", "sub", "already"}, {"network: n‸et ]", "a b", "cannot be a name"},
		{"type: Netw‸ork", "Net", "defined nowhere"}, {"label: ‸net }", "x", "no name here"}} {
		if _, err := rename(test[0], test[1]); err == nil || !strings.Contains(err.Error(), test[2]) {
			t.Errorf("%s to %s: %v", test[0], test[1], err)
		}
	}
}

func TestFolding(t *testing.T) {
	w, path, _ := work(t, "‸a:\n  b:\n    c: 1\n\n  # said\n  d: 2\ne: 3\nf:\n- 1\n")
	if got := fmt.Sprint(w.Folding(path)); got != "[[0 5] [1 2]]" {
		t.Error(got)
	}
	if _, err := os.Stat(path); err == nil {
		t.Error("it was written")
	}
}

// A node that is deployed says what it was called, so that it is renamed and not made
// anew.
func TestRenameOfWhatIsDeployed(t *testing.T) {
	for _, test := range []struct{ node, want string }{
		{"    po‸st: { type: Topic }", "    mast: { type: Topic, metadata: { formerly: post } }"},
		{"    po‸st: { type: Topic, metadata: { a: b } }", "    mast: { type: Topic, metadata: { formerly: post, a: b } }"},
		{"    po‸st:\n      type: Topic", "    mast:\n      type: Topic\n      metadata: { formerly: post }"},
		{"    po‸st:\n      type: Topic\n      metadata:\n        a: b", "    mast:\n      type: Topic\n      metadata:\n        formerly: post\n        a: b"},
		{"    po‸st: { type: Topic, metadata: { formerly: pole } }", "    mast: { type: Topic, metadata: { formerly: pole } }"},
		{"    fr‸esh: { type: Topic }", "    mast: { type: Topic }"},
	} {
		w, path, at := work(t, head+"service_template:\n  node_templates:\n"+test.node+"\n", "a.stack.yaml",
			"stack: aa\ntemplate: a.yaml\ntarget: x/y\n")
		w.Recorded = func(stack, target string) []string {
			if stack != "aa" || target != "x/y" {
				t.Errorf("%s %s", stack, target)
			}
			return []string{"net", "post#0", "post#1"}
		}
		edits, err := w.Rename(path, at, "mast")
		if err != nil {
			t.Errorf("%q: %v", test.node, err)
			continue
		}
		got := strings.TrimSuffix(strings.SplitN(w.Text(path).ApplyAll(edits[path]).String(), "node_templates:\n", 2)[1], "\n")
		if got != test.want {
			t.Errorf("%q is\n%s\nwant\n%s", test.node, got, test.want)
		}
	}
}

// A node that is named with its index, as one of several, is found and renamed everywhere too: in brackets, over lines, in a join.
func TestNamesWithAnIndex(t *testing.T) {
	const nodes = "service_template:\n  node_templates:\n    hut: { type: Topic, count: 3, properties: { label: x } }\n" +
		"    one: { type: Topic, properties: { label: { $get_attribute: [ [ hut, 0 ], url ] } } }\n" +
		"    two: { type: Topic, properties: { label: { $concat: [ a, { $get_property: [ [ hut, 1 ], label ] } ] } } }\n" +
		"    six:\n      type: Topic\n      properties:\n        label:\n          $get_attribute:\n            - [ hut, 2 ]\n            - url\n" +
		"  outputs:\n    all: { value: { $get_attribute: [ [ hut, 0 ], url ] } }\n"
	for _, at := range []string{"    h‸ut: {", "[ [ h‸ut, 1 ], label", "- [ hu‸t, 2 ]"} {
		w, path, place := work(t, strings.Replace(head+nodes, strings.Replace(at, "‸", "", 1), at, 1))
		edits, err := w.Rename(path, place, "cabin")
		if err != nil {
			t.Errorf("%s: %v", at, err)
			continue
		}
		if got := w.Text(path).ApplyAll(edits[path]).String(); strings.Contains(got, "hut") || strings.Count(got, "cabin") != 5 {
			t.Errorf("%s:\n%s", at, got)
		}
	}
	for _, at := range []string{"[ [ ‸hut, 0 ], url ] } } }", "- [ ‸hut, 2 ]"} {
		w, path, place := work(t, strings.Replace(head+nodes, strings.Replace(at, "‸", "", 1), at, 1))
		offered := false
		for _, it := range w.Complete(path, place) {
			offered = offered || it.Label == "hut"
		}
		if !offered {
			t.Errorf("%s: the node is not offered", at)
		}
	}
}
