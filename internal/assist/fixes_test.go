package assist

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/rules"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// found reads a template, and what is wrong with it.
func found(w *Work, path string) tosca.Findings {
	f, findings := tosca.Read(path, []byte(w.Text(path).String()), tosca.Source{Profile: shipped.Load})
	wanted, more := stack.CheckAndResolve(f, stack.Options{Lenient: true})
	w.Read(path, f, wanted)
	return append(findings, more...)
}

// applied is a text with a fix, its blanks filled with their examples.
func applied(text *Text, f Fix) *Text {
	for _, e := range slices.Backward(f.Edits) {
		if f.Blanks {
			filled, blanks := Expand(e.New)
			for _, b := range slices.Backward(blanks) {
				if b.From == b.To {
					filled = filled[:b.From] + "x" + filled[b.To:]
				}
			}
			e.New = filled
		}
		text = text.Apply(e)
	}
	return text
}

func TestFixes(t *testing.T) {
	for _, test := range []struct{ code, text string }{
		{"unknown-type", nodes + "    x: { type: Quue }\n"},
		{"unknown-type", nodes + "    x:\n      type: Sever\n      properties: { size: small, image: a }\n      requirements: [ subnet: sub ]\n"},
		{"unknown-property", nodes + "    x: { type: Topic, properties: { lable: a } }\n"},
		{"unknown-property", nodes + "    x:\n      type: Topic\n      properties:\n        labl: a\n"},
		{"unknown-requirement", nodes + "    x: { type: Server, properties: { size: small, image: a }, requirements: [ subnt: sub ] }\n"},
		{"unknown-node", nodes + "    x: { type: Server, properties: { size: small, image: a }, requirements: [ subnet: subb ] }\n"},
		{"unknown-node", nodes + "  policies:\n    - keep: { type: Keep, targets: [ redings ] }\n"},
		{"unknown-type", nodes + "  policies:\n    - keep: { type: Kep, targets: [ readings ] }\n"},
		{"unknown-input", nodes + "    x: { type: Topic, properties: { label: { $get_input: sit } } }\n"},
		{"unknown-attribute", nodes + "    x: { type: Topic, properties: { label: { $get_attribute: [ readings, ulr ] } } }\n"},
		{"unknown-property", nodes + "    x: { type: Topic, properties: { label: { $get_property: [ net, cdr ] } } }\n"},
		{"unknown-function", nodes + "    x: { type: Topic, properties: { label: { $concta: [ a, b ] } } }\n"},
		{"unknown-keyword", nodes + "    x: { type: Topic, propertys: { label: a } }\n"},
		{"unknown-keyword", strings.Replace(nodes, "service_template:", "servce_template:", 1)},
		{"unknown-directive", nodes + "    x: { type: Topic, directives: [ selct ], node_filter: { $equal: [ { $get_property: [ SELF, label ] }, a ] } }\n"},
		{"missing-property", nodes + "    x:\n      type: Bucket\n"},
		{"missing-property", nodes + "    x:\n      type: Bucket\n      properties:\n        label: a\n"},
		{"missing-property", nodes + "    x:\n      type: Bucket\n      properties: { label: a }\n"},
		{"missing-requirement", nodes + "    x:\n      type: Subnet\n      properties: { cidr: 10.0.2.0/24 }\n"},
		{"missing-requirement", nodes + "    x:\n      type: Subscription\n      properties:\n        to: a@b.example\n"},
		{"missing-requirement", nodes + "    x:\n      type: Server\n"},
		{"missing-property", nodes + "    x: { type: Bucket }\n"},
		{"missing-property", nodes + "    x: { type: Bucket, properties: { label: a } }\n"},
		{"missing-property", nodes + "    x: { type: Bucket, properties: {} }\n"},
		{"missing-requirement", nodes + "    x: { type: Subnet, properties: { cidr: 10.0.2.0/24 }, requirements: [] }\n"},
		{"missing-requirement", nodes + "    x: { type: Server }\n"},
		{"missing-unit", nodes + "    x: { type: Queue, properties: { keep: 4 } }\n"},
		{"missing-version", strings.Replace(nodes, "tosca_definitions_version: tosca_2_0\n", "", 1)},
		{"unknown-version", strings.Replace(nodes, "tosca_2_0", "tosca_1_3", 1)},
		{"wrong-type", nodes + "    x: { type: Topic, properties: { label: 15 } }\n"},
		{"wrong-type", nodes + "    x:\n      type: Topic\n      properties:\n        label: true # a comment\n"},
		{"not-yaml", nodes + "    x:\n\t    type: Topic\n"},
		{"wrong-type", strings.Replace(nodes, "    db_version: { type: string }\n", "    db_version:\n", 1)},
	} {
		w, path, _ := work(t, "‸"+test.text)
		findings := found(w, path)
		i := slices.IndexFunc(findings, func(f tosca.Finding) bool { return f.Code == test.code })
		if i < 0 {
			t.Errorf("%s is not found in %s: %v", test.code, test.text[len(nodes)-20:], findings)
			continue
		}
		fixes := w.Fixes(path, findings[i])
		if len(fixes) == 0 || !fixes[0].Best {
			t.Errorf("%s has no fix:\n%s", findings[i], test.text)
			continue
		}
		after := applied(w.Text(path), fixes[0])
		w.Set(path, after)
		for _, f := range found(w, path) {
			if f.Code == test.code && f.Message == findings[i].Message || f.Code == "not-yaml" {
				t.Errorf("%s: '%s' leaves %s\n%s", test.code, fixes[0].Title, f, after.String()[len(head):])
			}
		}
	}
}

// Each mistake is mended by what is offered first, in the way that is wanted.
func TestFixesMend(t *testing.T) {
	for _, test := range []struct{ code, text, title, want string }{
		{"invalid-value", nodes + "    x: { type: Server, properties: { size: smal, image: a }, requirements: [ subnet: sub ] }\n", "write small", "    x: { type: Server, properties: { size: small, image: a }, requirements: [ subnet: sub ] }"},
		{"wrong-type", nodes + "    x:\n      type: Queue\n      properties:\n        ordered: yes\n", "write true", "        ordered: true"},
		{"unknown-unit", nodes + "    x:\n      type: Queue\n      properties:\n        keep: 4 das\n", "write 4 d", "        keep: 4 d"},
		{"wrong-type", nodes + "    x:\n      type: Bucket\n      properties: { name: abc, keep_days: \"5\" }\n", "write it as a number", "      properties: { name: abc, keep_days: 5 }"},
		{"wrong-type", nodes + "    x:\n      type: Grant\n      properties: { actions: bucket:read }\n      requirements: [ role: r, \"on\": readings ]\n    r: { type: Role, properties: { for: server } }\n", "write a list", "      properties: { actions: [ bucket:read ] }"},
		{"wrong-type", nodes + "    x:\n      type: Grant\n      properties:\n        actions: bucket:read\n      requirements: [ role: r, \"on\": readings ]\n    r: { type: Role, properties: { for: server } }\n", "write a list", "        actions: [ bucket:read ]"},
		{"wrong-type", nodes + "    x:\n      type: Grant\n      properties: { actions: [ bucket:read ] }\n      requirements:\n        role: r\n        \"on\": readings\n    r: { type: Role, properties: { for: server } }\n", "write a list", "        - role: r\n        - \"on\": readings"},
		{"missing-type", nodes + "    x:\n      properties: { label: a }\n", "add a type", "      type: x"},
		{"wrong-type", nodes + "    x:\n", "add a type", "      type: x"},
		{"missing-type", nodes + "    x: {}\n", "add type", "    x: { type: x }"},
		{"missing-value", nodes + "  outputs:\n    a:\n      description: b\n", "add value", "      value: x"},
		{"missing-value", nodes + "  outputs:\n    a: { $get_attribute: [ readings, url ] }\n", "put it under value", "    a: { value: { $get_attribute: [ readings, url ] } }"},
		{"unknown-keyword", nodes + "  outputs:\n    a: { $get_attribute: [ readings, url ] }\n", "put it under value", "    a: { value: { $get_attribute: [ readings, url ] } }"},
		{"set-by-cloud", nodes + "    x: { type: Topic, attributes: { url: a } }\n", "remove it", "    x: { type: Topic, attributes: {} }"},
		{"no-effect", nodes + "    x: { type: Topic, metadata: { formerly: net } }\n", "remove formerly", "    x: { type: Topic, metadata: {} }"},
		{"no-effect", nodes + "    x: { type: Topic, metadata: { keyed_by: label } }\n", "remove keyed_by", "    x: { type: Topic, metadata: {} }"},
		{"duplicate-key", nodes + "    x: { type: Topic, properties: { label: a, label: b } }\n", "remove it", "    x: { type: Topic, properties: { label: a } }"},
		{"duplicate-key", nodes + "    x:\n      type: Topic\n      type: Topic\n", "remove it", ""},
		{"missing-property", nodes + "    x: { type: Network, node_filter: { $equal: [ { $get_property: [ SELF, label ] }, a ] } }\n", "add what x must have", "    x: { type: Network, properties: { cidr: 10.40.0.0/16 }, node_filter: { $equal: [ { $get_property: [ SELF, label ] }, a ] } }"},
		{"filter-without-select", nodes + "    x: { type: Network, node_filter: { $equal: [ { $get_property: [ SELF, label ] }, a ] } }\n", "add directives", "    x: { type: Network, directives: [ select ], node_filter: { $equal: [ { $get_property: [ SELF, label ] }, a ] } }"},
		{"missing-filter", nodes + "    x: { type: Network, directives: [ select ] }\n", "add node_filter", "    x: { type: Network, node_filter: { $equal: [ { $get_property: [ SELF, label ] }, x ] }, directives: [ select ] }"},
		{"wrong-type", nodes + "    x: { type: Topic, count: \"2\" }\n", "write it as a number", "    x: { type: Topic, count: 2 }"},
		{"bad-count", nodes + "    x: { type: Topic, count: -1 }\n", "write 0", "    x: { type: Topic, count: 0 }"},
		{"bad-name", nodes + "    x y: { type: Topic }\n", "call it x_y", "    x_y: { type: Topic }"},
		{"missing-file", nodes + "    x: { type: Server, artifacts: { user_data: { type: Script } }, properties: { size: small, image: a }, requirements: [ subnet: sub ] }\n", "add file", "    x: { type: Server, artifacts: { user_data: { type: Script, file: x } }, properties: { size: small, image: a }, requirements: [ subnet: sub ] }"},
		{"wrong-target", nodes + "    x: { type: Server, properties: { size: small, image: a }, requirements: [ subnet: net ] }\n", "write sub", "    x: { type: Server, properties: { size: small, image: a }, requirements: [ subnet: sub ] }"},
		{"wrong-type", nodes + "    x:\n      type:Topic\n", "put a space behind the colon", "      type: Topic"},
		{"not-yaml", nodes + "    x:\n      type: Topic\n       properties: { label: a }\n", "indent it like the line above", "      properties: { label: a }"},
		{"not-yaml", nodes + "    x:\n      type: Topic\n      properties: { label: a\n    y: { type: Topic }\n", "close the brackets", "      properties: { label: a }"},
		{"not-yaml", nodes + "    x:\n      type: Topic\n      properties: { label: \"a }\n", "close the quotes", "      properties: { label: \"a\" }"},
		{"not-yaml", nodes + "    x: { type: Topic, properties: { label: @a } }\n", "put it in quotes", "    x: { type: Topic, properties: { label: \"@a\" } }"},
		{"not-yaml", nodes + "    x: { type: Topic, properties: { label: a: b } }\n", "put it in quotes", "    x: { type: Topic, properties: { label: \"a: b\" } }"},
		{"missing-unit", nodes + "    x: { type: Database, properties: { engine: relational, version: 15.1, size: small, storage: 20, admin: a, password: { $get_input: site } }, requirements: [ subnet: sub ] }\n", "write 20 GiB", "    x: { type: Database, properties: { engine: relational, version: 15.1, size: small, storage: 20 GiB, admin: a, password: { $get_input: site } }, requirements: [ subnet: sub ] }"},
		{"wrong-type", nodes + "    x:\n      type: Rules\n      properties:\n        allow: [ { ports: 80, peer: 10.0.0.0 } ]\n      requirements: [ network: net ]\n", "write it as text", "        allow: [ { ports: \"80\", peer: 10.0.0.0 } ]"},
		{"wrong-type", nodes + "    x:\n      type: Rules\n      properties:\n        allow: { ports: 80, peer: 10.0.0.0/8 }\n      requirements: [ network: net ]\n", "write a list", "        allow: [ { ports: 80, peer: 10.0.0.0/8 } ]"},
		{"missing-property", nodes + "    x:\n      type: Rules\n      properties:\n        allow:\n          - { port: 80, peer: 10.0.0.0/8 }\n      requirements: [ network: net ]\n", "add ports", "          - { ports: \"443\", port: 80, peer: 10.0.0.0/8 }"},
		{"unknown-property", nodes + "    x:\n      type: Rules\n      properties:\n        allow:\n          - { port: 80, peer: 10.0.0.0/8 }\n      requirements: [ network: net ]\n", "write ports", "          - { ports: 80, peer: 10.0.0.0/8 }"},
		{"unknown-keyword", nodes + "    x:\n      type: Topic\n      property:\n        label: a\n", "write properties", "      properties:"},
		{"unknown-keyword", nodes + "    x:\n      type: Topic\n      label: a\n", "put it under properties", "      properties:\n        label: a"},
		{"missing-requirement", nodes + "    x:\n      type: Subnet\n      properties: { cidr: 10.0.2.0/24, network: net }\n", "add what x must have", "      requirements:\n        - network: net"},
		{"unknown-property", nodes + "    x:\n      type: Subnet\n      properties: { cidr: 10.0.2.0/24, network: net }\n", "put it under requirements", "      properties: { cidr: 10.0.2.0/24 }\n      requirements:\n        - network: net"},
		{"wrong-type", nodes + "  policies:\n    keep: { type: Keep, targets: [ net ] }\n", "write a list", "    - keep: { type: Keep, targets: [ net ] }"},
		{"missing-type", nodes + "  policies:\n    - keep: { targets: [ net ] }\n", "add type", "    - keep: { type: Keep, targets: [ net ] }"},
		{"wrong-type", nodes + "  policies:\n    - keep: { type: Keep, targets: net }\n", "write a list", "    - keep: { type: Keep, targets: [ net ] }"},
		{"unknown-profile", strings.Replace(nodes, "cloud:1", "cloud:2", 1), "write brickrow.cloud:1", "imports: [ { profile: brickrow.cloud:1 } ]"},
		{"no-such-file", strings.Replace(nodes, "{ profile: brickrow.cloud:1 }", "brickrow.cloud:1", 1), "import the profile", "imports: [ { profile: brickrow.cloud:1 } ]"},
		{"unused-input", nodes, "remove it", ""},
		{"invalid-value", strings.Replace(nodes, "default: one", "default: one, validation: { $valid_values: [ $value, [ two, ones ] ] }", 1), "write ones", "default: ones,"},
	} {
		w, path, _ := work(t, "‸"+test.text)
		findings := found(w, path)
		i := slices.IndexFunc(findings, func(f tosca.Finding) bool { return f.Code == test.code })
		if i < 0 {
			t.Errorf("%s is not found in %q: %v", test.code, test.text, findings)
			continue
		}
		fixes := w.Fixes(path, findings[i])
		if len(fixes) == 0 || fixes[0].Title != test.title {
			t.Errorf("%s: %+v, want %s", findings[i], fixes, test.title)
			continue
		}
		before := w.Text(path)
		after := applied(before, fixes[0])
		if !strings.Contains(after.String(), test.want) || after.String() == before.String() {
			t.Errorf("%s: %s makes\n%s\nwant\n%s", test.code, test.title, after.String()[len(head):], test.want)
		}
		w.Set(path, after)
		for _, f := range found(w, path) {
			if f.Code == test.code && f.Message == findings[i].Message || f.Code == "not-yaml" {
				t.Errorf("%s: '%s' leaves %s\n%s", test.code, fixes[0].Title, f, after.String()[len(head):])
			}
		}
	}
}

func TestFixesOfStackFiles(t *testing.T) {
	for _, text := range []string{"stack: a\ntemplate: base.yaml\ntarget: x/y\n", "stack: a\ntemplate: base.yaml\ntarget: x/y\ninputs:\n    site: b\n"} {
		w, path, _ := work(t, "‸"+text, "base.yaml", nodes)
		found(w, filepath.Join(filepath.Dir(path), "base.yaml"))
		fixes := w.Fixes(path, tosca.Finding{Pos: tosca.Pos{File: path, Line: 1, Column: 1}, Code: "missing-input"})
		if len(fixes) != 1 || !strings.Contains(applied(w.Text(path), fixes[0]).String(), "\n"+strings.Repeat(" ", 2+2*strings.Count(text, "site"))+"db_version: x") {
			t.Errorf("%q: %+v", text, fixes)
		}
	}
}

// Values of inputs are mended in the stack file, by their types.
func TestFixesOfValues(t *testing.T) {
	template := head + `service_template:
  inputs:
    size: { type: string, validation: { $valid_values: [ $value, [ small, large ] ] } }
    count: { type: integer, default: 1 }
    wide: { type: boolean, default: false }
    wait: { type: Duration, default: 1 s }
    names: { type: list, entry_schema: string, default: [] }
    version: { type: version, default: "1.0" }
  node_templates: { x: { type: Topic } }
`
	for _, test := range []struct{ code, line, want string }{
		{"invalid-value", "size: smal", "size: small"}, {"wrong-type", `count: "3"`, "count: 3"},
		{"wrong-type", "wide: no", "wide: false"}, {"missing-unit", "wait: 5", "wait: 5 s"},
		{"unknown-unit", "wait: 5 sec", "wait: 5 s"}, {"wrong-type", "names: one", "names: [ one ]"},
		{"unknown-input", "cont: 3", "count: 3"}, {"wrong-type", "size: 15", `size: "15"`},
	} {
		text := "stack: a\ntemplate: base.yaml\ntarget: x/y\ninputs:\n  " + test.line + "\n"
		w, path, _ := work(t, "‸"+text, "base.yaml", template)
		found(w, filepath.Join(filepath.Dir(path), "base.yaml"))
		column := 3
		if test.code != "unknown-input" {
			column += strings.Index(test.line, ": ") + 2
		}
		fixes := w.Fixes(path, tosca.Finding{Pos: tosca.Pos{File: path, Line: 5, Column: column}, Code: test.code})
		if len(fixes) == 0 || !strings.HasSuffix(applied(w.Text(path), fixes[0]).String(), "\n  "+test.want+"\n") {
			t.Errorf("%s: %+v, want %s", test.line, fixes, test.want)
		}
	}
}

func TestHover(t *testing.T) {
	for _, test := range []struct{ text, want string }{
		{nodes + "    x: { type: Ser‸ver }", "Server: One server|It needs size, image|It rests on subnet (Subnet)"},
		{nodes + "    x: { type: Server, properties: { si‸ze: small } }", "size: string: "},
		{nodes + "    x: { type: Server, requirements: [ sub‸net: sub ] }", "rests on Subnet, must be given"},
		{nodes + "    x: { type: Topic, properties: { label: { $get_input: si‸te } } }", "site: string: Where it is|Where nothing is given: one|Here: one (default, a.yaml:7)|Used by x"},
		{nodes + "    x: { type: Topic, properties: { label: { $con‸cat: [ a ] } } }", "$concat"},
		{nodes + "    x: { type: Topic, properties: { lab‸el: { $concat: [ a, { $get_input: site } ] } } }", "Here: aone|By the inputs site (default, a.yaml:7)"},
		{nodes + "    x: { type: Server, requirements: [ subnet: s‸ub ] }", "sub: Subnet: "},
		{strings.Replace(nodes, "node_templates:", "node_‸templates:", 1), "The resources"},
		{nodes + "    x: # noth‸ing\n", ""},
		{nodes + "    x: { type: Topic, properties: { label: some‸thing } }", "label: string"},
		{"stack: a\ncare‸ful: true\n", "slower to confirm"},
	} {
		w, path, at := work(t, test.text)
		if strings.HasPrefix(test.text, "tosca") {
			found(w, path)
		}
		got := ""
		if h := w.Hover(path, at); h != nil {
			got = h.Title + ": " + strings.Join(h.Lines, "|")
		}
		if test.want == "" && got != "" || !strings.Contains(got, test.want) {
			t.Errorf("%q: %q, want %q", test.text[max(0, len(test.text)-60):], got, test.want)
		}
	}
}

// A node that is new and like one that goes can be said to be that.
func TestFixOfARenaming(t *testing.T) {
	for _, text := range []string{"    mast: { type: Topic }\n", "    mast:\n      type: Topic\n"} {
		w, path, _ := work(t, "‸"+nodes+text)
		line := strings.Count(nodes, "\n") + 1
		fixes := w.Fixes(path, tosca.Finding{Pos: tosca.Pos{File: path, Line: line, Column: 5}, Code: "perhaps-renamed",
			Fix: "where it is that, write metadata: { formerly: post }, and it is renamed"})
		if len(fixes) != 1 || !strings.Contains(applied(w.Text(path), fixes[0]).String(), "metadata: { formerly: post }") {
			t.Errorf("%q: %+v", text, fixes)
		}
	}
}

// Mistakes of beginners, each with the mend that is wanted first; "" is that none is offered, since none would mend it.
func TestFixesThatMend(t *testing.T) {
	bare := "tosca_definitions_version: tosca_2_0\nservice_template:\n  node_templates:\n"
	for _, test := range []struct{ code, text, title string }{
		{"unknown-type", bare + "    x: { type: Queue }\n", "import the profile brickrow.cloud:1"},
		{"unknown-type", bare + "    x: { type: Quue }\n", "write Queue, and import the profile brickrow.cloud:1"},
		{"unknown-type", nodes + "    x: { type: PostgresRole, properties: { name: a } }\n", "import the profile brickrow.postgresql:1"},
		{"wrong-type", nodes + "    x: { type: Topic, properties: { label: { get_input: site } } }\n", "write $get_input"},
		{"wrong-type", nodes + "    x:\n      type: Topic\n      properties:\n        label:\n          get_input: site\n", "write $get_input"},
		{"wrong-type", nodes + "    x: { type: Topic, properties: { label: { concat: [ a, b ] } } }\n", "write $concat"},
		{"unknown-input", nodes + "    x: { type: Topic, properties: { label: { $get_input: nothing_like_it } } }\n", "declare the input nothing_like_it"},
		{"unknown-property", nodes + "    x: { type: Server, properties: { size:small, image: a }, requirements: [ subnet: sub ] }\n", "put a blank behind the colon of size"},
		{"unknown-property", nodes + "    x: { type: Server, properties: { size small, image: a }, requirements: [ subnet: sub ] }\n", "put a colon behind size"},
		{"not-yaml", nodes + "    x:\n      type: Server\n      properties:\n        size small\n        image: a\n", "put a colon behind size"},
		{"not-yaml", nodes + "    x:\n      type: Topic\n\t  properties:\n\t\tlabel: a\n", "indent with spaces"},
		{"not-yaml", nodes + "    x:\n\ttype: Topic\n", "indent with spaces"},
		{"not-yaml", nodes + "    x: { type: Topic, properties: { label: a ] } }\n", ""},
	} {
		w, path, _ := work(t, "‸"+test.text)
		findings := found(w, path)
		i := slices.IndexFunc(findings, func(f tosca.Finding) bool { return f.Code == test.code })
		if i < 0 {
			t.Errorf("%s is not found in %q: %v", test.code, test.text[len(test.text)-40:], findings)
			continue
		}
		fixes := w.Fixes(path, findings[i])
		title := ""
		if len(fixes) > 0 {
			title = fixes[0].Title
		}
		if title != test.title {
			t.Errorf("%s: %q, want %q", findings[i], title, test.title)
		}
	}
}

// Files of rules and stack files are mended as their findings say.
func TestFixesOfRules(t *testing.T) {
	for _, test := range []struct{ text, title string }{
		{"rules:\n  - id: a\n    mesage: b\n    require: \"true\"\n", "write message"},
		{"rules:\n  - id: a\n    message: b\n    severity: refuze\n    require: \"true\"\n", "write refuse"},
		{"rules:\n  - id: a\n    message: b\n    changes: [ neww ]\n    require: \"true\"\n", "write new"},
		{"rules:\n  - id: a\n    message: b\n    types: [ Sever ]\n    require: \"true\"\n", "write Server"},
		{"rules:\n  - id: a\n    message: b\n", "add require"},
		{"rules:\n  - id: a\n    message: b\n    require: \"true\"\ntests:\n  - rule: a\n    expect: pas\n", "write pass"},
		{"rules:\n  - id: abc\n    message: b\n    require: \"true\"\ntests:\n  - rule: abd\n    expect: pass\n", "write abc"},
	} {
		w, path, _ := work(t, "‸"+test.text)
		s := rules.NewSet(shipped.Library)
		s.Add(path, []byte(test.text))
		title := ""
		for _, f := range s.Findings {
			if fixes := w.Fixes(path, f); len(fixes) > 0 {
				title = fixes[0].Title
				break
			}
		}
		if title != test.title {
			t.Errorf("%q: %q, want %q; %v", test.text, title, test.title, s.Findings)
		}
	}
}
