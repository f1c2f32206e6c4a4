package assist

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"brickrow/internal/tosca"
)

// refactored makes the changes of a refactoring, and checks what comes of the template.
func refactored(t *testing.T, w *Work, path string, r Refactoring) map[string]string {
	t.Helper()
	out := map[string]string{}
	for p, edits := range r.Edits {
		out[filepath.Base(p)] = w.Text(p).ApplyAll(edits).String()
	}
	for p, text := range r.Files {
		rel, err := filepath.Rel(filepath.Dir(path), p)
		if err != nil {
			t.Fatal(err)
		}
		out[filepath.ToSlash(rel)] = text
		if err := os.MkdirAll(filepath.Dir(p), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	_, found := tosca.Read(path, []byte(out["a.yaml"]), tosca.Source{Profile: shipped.Load, Open: func(name string) ([]byte, error) {
		return os.ReadFile(filepath.Join(filepath.Dir(path), name))
	}})
	for _, f := range found {
		if f.Severity == tosca.Error {
			t.Errorf("%v in\n%s", f, out["a.yaml"])
		}
	}
	return out
}

func TestRefactorings(t *testing.T) {
	for _, test := range []struct {
		name, text string
		others     []string
		title      string
		want       map[string]string
	}{
		{"a value becomes an input with a default", head + `service_template:
  node_templates:
    net: { type: Network, properties: { cidr: "10.0.0‸.0/16" } }
`, nil, "make cidr an input", map[string]string{"a.yaml": head + `service_template:
  inputs:
    cidr: { type: Cidr, default: "10.0.0.0/16" }
  node_templates:
    net: { type: Network, properties: { cidr: { $get_input: cidr } } }
`}},
		{"each stack file gets the value, and legal values stay", head + `service_template:
  inputs:
    size: { type: string, default: x }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.0.0/24 }, requirements: [ network: net ] }
    hut:
      type: Server
      properties:
        size: sm‸all # for now
        image: fern-12
      requirements: [ subnet: sub ]
`, []string{"t.stack.yaml", "stack: t\ntemplate: a.yaml\ntarget: workshop/alder-1\ninputs:\n    size: y # old\n",
			"u.stack.yaml", "stack: u\ntemplate: a.yaml\ntarget: workshop/alder-1\n"},
			"make hut_size an input", map[string]string{
				"t.stack.yaml": "stack: t\ntemplate: a.yaml\ntarget: workshop/alder-1\ninputs:\n    size: y # old\n    hut_size: small\n",
				"u.stack.yaml": "stack: u\ntemplate: a.yaml\ntarget: workshop/alder-1\ninputs:\n  hut_size: small\n"}},
		{"a secret goes into a file, and nowhere else", nodes + `    safe: { type: Vault, properties: { value: "hoarfrost-‸1" } }
`, []string{"t.stack.yaml", "stack: t\ntemplate: a.yaml\ntarget: workshop/alder-1\n"},
			"make value an input, and put it into secrets/value", map[string]string{"secrets/value": "hoarfrost-1\n",
				"t.stack.yaml": "stack: t\ntemplate: a.yaml\ntarget: workshop/alder-1\ninputs:\n  value: { from_file: secrets/value }\n",
				"a.yaml": strings.Replace(nodes, "    db_version: { type: string }\n", "    db_version: { type: string }\n    value: { type: Secret }\n", 1) +
					"    safe: { type: Vault, properties: { value: { $get_input: value } } }\n"}},
		{"an escaped one is written as it is meant", nodes + `    safe: { type: Vault, properties: { value: "hoar\"fr‸ost\x41" } }
`, []string{"t.stack.yaml", "stack: t\ntemplate: a.yaml\ntarget: workshop/alder-1\n"},
			"make value an input, and put it into secrets/value", map[string]string{"secrets/value": "hoar\"frostA\n"}},
		{"a script goes into a file", head + `service_template:
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.0.0/24 }, requirements: [ network: net ] }
    hut:
      type: Server
      properties:
        image: fern-12
        size: small
        user_data: |
          echo one‸
            echo two

          echo three
      requirements: [ subnet: sub ]
`, nil, "put the text into scripts/hut.sh", map[string]string{"scripts/hut.sh": "echo one\n  echo two\n\necho three\n",
			"a.yaml": head + `service_template:
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.0.0/24 }, requirements: [ network: net ] }
    hut:
      type: Server
      artifacts:
        user_data: { type: Script, file: scripts/hut.sh }
      properties:
        image: fern-12
        size: small
      requirements: [ subnet: sub ]
`}},
	} {
		t.Run(test.name, func(t *testing.T) {
			w, path, at := work(t, test.text, test.others...)
			list := w.Refactorings(path, at)
			if len(list) != 1 || list[0].Title != test.title {
				t.Fatalf("%+v, want %s", list, test.title)
			}
			got := refactored(t, w, path, list[0])
			for name, want := range test.want {
				if got[name] != want {
					t.Errorf("%s:\n%s\nwant\n%s", name, got[name], want)
				}
			}
		})
	}
	for _, none := range []string{
		nodes + "    x: { type: Topic, properties: { label: { $get_input: si‸te } } }",
		nodes + "    x: { ty‸pe: Topic }",
		nodes + "    x: { type: Top‸ic }",
		strings.ReplaceAll(nodes, "site:", "si‸te:"),
	} {
		w, path, at := work(t, none)
		if list := w.Refactorings(path, at); len(list) != 0 {
			t.Errorf("%q: %+v", none, list)
		}
	}
}

// A node moves with what needs it, however the text is written; where something cannot
// be carried over, it is not offered.
func TestMoveToAFile(t *testing.T) {
	const before = head + `service_template:
  inputs: { site: { type: string, default: one } }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    hooks: { type: Topic }
    su‸b: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ network: net ] } # the ground
    key: { type: Key, properties: { name: { $get_input: site }, public: "ssh-ed25519 AAAA" } }

    # what works
    hut:
      type: Server
      count: 2
      properties:
        image: fern-12
        size: small
        env:
          HOOK:
            $get_attribute: [ hooks, url ]
      requirements: [ { subnet: sub }, key: key ]
  policies: [ keep: { type: Keep, targets: [ hut ] } ]
  outputs:
    one: { value: { $get_attribute: [ [ hut, 0 ], private_address ] } }
`
	offered := func(text string) (*Work, string, *Refactoring) {
		w, path, at := work(t, text)
		f, found := tosca.Read(path, []byte(w.Text(path).String()), tosca.Source{Profile: shipped.Load})
		if len(found) > 0 {
			t.Fatal(found)
		}
		w.Read(path, f, nil)
		for _, r := range w.Refactorings(path, at) {
			if strings.HasPrefix(r.Title, "move ") {
				return w, path, &r
			}
		}
		return w, path, nil
	}
	w, path, r := offered(before)
	if r == nil || r.Title != "move sub and the node that needs it to sub.yaml" {
		t.Fatalf("%+v", r)
	}
	got := refactored(t, w, path, *r)
	if want := head[:len(head)-len("[ { profile: brickrow.cloud:1 } ]\n")] + `[ sub.yaml, { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { site: { type: string, default: one } }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    hooks: { type: Topic }
    sub_part:
      type: SubPart
      directives: [ substitute ]
      properties:
        hooks_url: { $get_attribute: [ hooks, url ] }
      requirements:
        - network: net
        - key: key
    key: { type: Key, properties: { name: { $get_input: site }, public: "ssh-ed25519 AAAA" } }

    # what works
  outputs:
    one: { value: { $get_attribute: [ sub_part, hut_0_private_address ] } }
`; got["a.yaml"] != want {
		t.Errorf("%s\nwant\n%s", got["a.yaml"], want)
	}
	for _, part := range []string{"    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [] } # the ground\n",
		"          HOOK:\n            $get_input: hooks_url\n", "      requirements: [ { subnet: sub } ]\n",
		"  policies:\n    - keep: { type: Keep, targets: [ hut ] }\n", "      - network: [ sub, network ]\n", "      - key: [ hut, key ]\n",
		"    hut_0_private_address: { value: { $get_attribute: [ [ hut, 0 ], private_address ] } }\n"} {
		if !strings.Contains(got["sub.yaml"], part) {
			t.Errorf("%s\nwithout\n%s", got["sub.yaml"], part)
		}
	}
	for name, change := range map[string][2]string{
		"a list of values":         {"$get_attribute: [ hooks, url ]", "$get_attribute:\n              - hooks\n              - url"},
		"a requirement by type":    {"key: key ]", "key: Key ]"},
		"an anchor":                {"        image: fern-12", "        image: &image fern-12"},
		"all instances at once":    {"[ [ hut, 0 ], private_address ]", "[ hut, private_address ]"},
		"a policy of others too":   {"targets: [ hut ]", "targets: [ hut, net ]"},
		"more than a name":         {"requirements: [ network: net ]", "requirements: [ network: { node: net, capability: Usable } ]"},
		"everything needs the one": {"su‸b:", "sub:"},
	} {
		text := strings.Replace(before, change[0], change[1], 1)
		if text == before {
			t.Fatalf("%s: nothing changed", name)
		}
		if name == "everything needs the one" {
			text = head + "service_template:\n  node_templates:\n    n‸et: { type: Network, properties: { cidr: 10.0.0.0/16 } }\n" +
				"    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ network: net ] }\n"
		}
		if _, _, r := offered(text); r != nil {
			t.Errorf("%s: %s", name, r.Title)
		}
	}
}

// TestSecretMovesInOneStep wants a secret that stands in clear to go into a file, as it is meant, wherever on its line the cursor
// is; and nothing else to be offered that.
func TestSecretMovesInOneStep(t *testing.T) {
	template := strings.Replace(nodes, "    db_version: { type: string }\n", "    db_version: { type: string }\n    value: { type: Secret }\n", 1) +
		"    safe: { type: Vault, properties: { value: { $get_input: value } } }\n"
	head := "stack: t\ntemplate: b.yaml\ntarget: workshop/alder-1\ninputs:\n  site: ridge\n"
	work := func(t *testing.T, marked string, others ...string) (*Work, string, Place) {
		t.Helper()
		w, path, at := work(t, marked, others...)
		b := beside(path, "b.yaml")
		file, _ := tosca.Read(b, []byte(template), tosca.Source{Profile: shipped.Load})
		w.Read(b, file, nil)
		return w, path, at
	}
	for _, test := range []struct{ line, want, file, said string }{
		{"value: hoarfrost-1 # the old one", "  value: { from_file: secrets/value } # the old one", "secrets/value", "hoarfrost-1\n"},
		{`value: "hoar\"frost"`, "  value: { from_file: secrets/value }", "secrets/value", "hoar\"frost\n"},
		{"value: 'it''s'", "  value: { from_file: secrets/value }", "secrets/value", "it's\n"},
		{"value: { from_env: VALUE }", "", "", ""},
		{"value:", "", "", ""},
		{"value: |\n    one\n    two", "", "", ""},
	} {
		w, path, _ := work(t, head+"  "+test.line+"\n‸", "b.yaml", template)
		for column := range strings.Index(test.line+":", ":") + 4 {
			list := w.Moves(path, tosca.Finding{Code: "secret-in-clear", Pos: tosca.Pos{File: path, Line: 6, Column: column + 1}})
			if test.want == "" {
				if len(list) != 0 {
					t.Errorf("%q: %+v", test.line, list)
				}
				continue
			}
			if len(list) != 1 || list[0].Title != "put it into "+test.file || !list[0].Secret {
				t.Fatalf("%q, column %d: %+v", test.line, column+1, list)
			}
			got := w.Text(path).ApplyAll(list[0].Edits[path]).String()
			if text := list[0].Files[beside(path, test.file)]; got != head+test.want+"\n" || text != test.said {
				t.Errorf("%q: %s\n%q", test.line, got, text)
			}
		}
	}
	w, path, at := work(t, head+"  value: hoar‸frost\n", "b.yaml", template, "secrets_value", "")
	if list := w.Refactorings(path, at); len(list) != 1 {
		t.Errorf("at the value: %+v", list)
	}
	w, path, at = work(t, strings.Replace(head, "ridge", "rid‸ge", 1), "b.yaml", template)
	if list := w.Refactorings(path, at); len(list) != 0 {
		t.Errorf("what is no secret: %+v", list)
	}
	template = strings.ReplaceAll(template, "value: { type: Secret }", `"../../it, its": { type: Secret }`)
	w, path, at = work(t, head+"  \"../../it, its\": hoar‸frost\n", "b.yaml", template)
	if list := w.Refactorings(path, at); len(list) != 1 || list[0].Title != "put it into secrets/_it_its" {
		t.Errorf("of an input with an odd name: %+v", list)
	}
	w, path, _ = work(t, nodes+"    safe: { type: Vault, properties: { value: hoarfrost } }\n‸", "t.stack.yaml", "stack: t\ntemplate: a.yaml\ntarget: workshop/alder-1\n")
	line, column := strings.Count(nodes, "\n")+1, len("    safe: { type: Vault, properties: { value: ")+1
	if list := w.Moves(path, tosca.Finding{Code: "secret-in-clear", Pos: tosca.Pos{Line: line, Column: column}}); len(list) != 1 || len(list[0].Files) != 1 {
		t.Errorf("in a template: %+v", list)
	}
}
