package assist

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"

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
