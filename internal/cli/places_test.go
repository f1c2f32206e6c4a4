package cli

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/profile"
	"brickrow/internal/tosca"
)

// A place is a template in which one secret, the input s, stands somewhere.
type place struct {
	name   string
	text   string // of the template
	secret string
}

// fitting gives secrets to the types that do not take any text.
var fitting = map[string]string{
	"Cidr": "10.211.37.0/24", "Domain": "hush-domain.example", "Email": "hush@quiet.example", "Ports": "48613",
	"Port":         "48613",
	"Server.image": "hush-9127", "Bucket.name": "hush-bucket-4417", "Record.name": "hush-record",
	"Schedule.every": "17 3 29 * 6",
	"Route.to":       "10.211.0.0/16", "Subnet.cidr": "10.40.217.0/24", "Network.cidr": "10.211.0.0/16",
	"Subscription.to": "https://hook.example/hush?a=<ü>&b='",
}

const anyHush = "hush/<ü>&'~%+w=="

// forms are the ways in which a secret becomes a value.
var forms = map[string]string{
	"input":     "{ $get_input: s }",
	"concat":    "{ $concat: [ { $get_input: s } ] }",
	"deep":      "{ $get_input: [ deep, a, 0, b ] }",
	"vault":     "{ $get_property: [ sealed, value ] }",
	"attribute": "{ $get_attribute: [ sealed, value ] }",
	"token":     "{ $token: [ { $concat: [ x, \"\\n\", { $get_input: s } ] }, \"\\n\", 1 ] }",
	// None of these can be: they have to be refused without a word of the secret.
	"pattern": "{ $matches: [ x, { $get_input: s } ] }",
	"matched": "{ $matches: [ { $get_input: s }, \"(\" ] }",
	"sum":     "{ $sum: [ { $get_input: s }, 1 ] }",
	"list":    "[ { $get_input: s } ]",
	"map":     "{ x: { $get_input: s } }",
	"path":    "{ $get_property: [ { $get_input: s }, name ] }",
	"step":    "{ $get_input: [ deep, { $get_input: s } ] }",
	"key":     "{ $get_input: keyed }",
	"strange": "{ $get_input: [ strange ] }",
}

// spots lists the ways to write a value of a type in which HUSH stands, with the
// name of the type that stands there.
func spots(t *tosca.Type, example string) map[string]string {
	out := map[string]string{}
	if t == nil {
		return map[string]string{"HUSH": "any"}
	}
	out["HUSH"] = t.Name
	switch t.Base {
	case tosca.BaseList:
		for text, of := range spots(t.Entry, "") {
			out["[ "+text+" ]"] = of
		}
	case tosca.BaseMap:
		for text, of := range spots(t.Entry, "") {
			out["{ k: "+text+" }"] = of
		}
	case tosca.BaseStructure:
		for _, f := range t.Fields {
			rest := ""
			for _, g := range t.Fields {
				if g.Name != f.Name && g.Required && g.Default == nil {
					rest += ", " + g.Name + ": " + example1(g)
				}
			}
			for text, of := range spots(f.Type, example) {
				out["{ "+f.Name+": "+text+rest+" }"] = of
			}
		}
	}
	return out
}

func example1(p *tosca.Property) string {
	if e := p.Metadata["example"]; e != "" {
		return e
	}
	return "1"
}

// node writes a node of a type with what it must have, and beside it the nodes
// that it rests on.
func node(b *strings.Builder, lib *tosca.Library, name string, t *tosca.NodeType, over map[string]string,
	seen map[string]bool) {
	if seen[name] {
		return
	}
	seen[name] = true
	given := map[string]string{"Bucket.name": name + "-of-places", "Subscription.to": "huts@quiet.example",
		"Subnet.cidr": "10.40.1.0/24", "Role.for": "server", "Database.password": "a-plain-password",
		"Vault.value":    "a-plain-value",
		"Key.public_key": "ssh-ed25519 AAAA x", "ServerGroup.min": "1", "Certificate.domain": "quiet.example",
		"Zone.domain": "quiet.example", "Schedule.every": `"1 2 * * *"`, "Record.kind": "TXT", "Record.values": "[ x ]",
		"CloudConnection.endpoint": "http://127.0.0.1:9", "ClusterConnection.endpoint": "http://127.0.0.1:9", "CloudConnection.token": "x", "ClusterConnection.access": "x",
		"CloudConnection.within": "200 ms", "ClusterConnection.within": "200 ms"}
	for _, use := range []string{"function", "cluster"} { // what a role is for
		if name == "role_of_"+use {
			given["Role.for"] = use
		}
	}
	var props, reqs []string
	for _, p := range t.Properties {
		text, ok := over[p.Name]
		if !ok {
			text = given[t.Name+"."+p.Name]
		}
		if text == "" && (!p.Required || p.Default != nil) {
			continue
		}
		if text == "" {
			text = example1(p)
		}
		props = append(props, p.Name+": "+text)
	}
	if text, ok := over["no_such_property"]; ok {
		props = append(props, "no_such_property: "+text)
	}
	for _, q := range t.Requirements {
		if q.Low == 0 {
			continue
		}
		to := strings.ToLower(q.Node)
		if q.Node == "Role" {
			to = "role_of_" + strings.ToLower(t.Name)
		}
		node(b, lib, to, lib.Nodes[q.Node], nil, seen)
		reqs = append(reqs, "{ "+q.Name+": "+to+" }")
	}
	fmt.Fprintf(b, "    %s: { type: %s, properties: { %s }, requirements: [ %s ] }\n", name, t.Name,
		strings.Join(props, ", "), strings.Join(reqs, ", "))
}

// places lists templates for every property of every type, at every depth, in
// every form.
func places(lib *tosca.Library) []place {
	var out []place
	template := func(nodes, more string) string {
		return "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs:\n    s: { type: Secret }\n    deep: { type: map, entry_schema: { type: list, entry_schema: { type: map, entry_schema: Secret } } }\n    keyed: { type: map, key_schema: Secret, entry_schema: string }\n    strange: { type: list, entry_schema: Secret }\n  node_templates:\n    sealed: { type: Vault, properties: { value: { $get_input: s } } }\n" + nodes + more
	}
	for _, name := range sorted(lib.Nodes) {
		t := lib.Nodes[name]
		if t.Metadata["abstract"] != "" || t.Metadata["only"] != "" || name == "Resource" {
			continue
		}
		props := map[string]map[string]string{"no_such_property": {"HUSH": "any"}}
		for _, p := range t.Properties {
			props[p.Name] = spots(p.Type, p.Metadata["example"])
		}
		for _, p := range sorted(props) {
			for _, spot := range sorted(props[p]) {
				for _, form := range sorted(forms) {
					secret := anyHush
					for _, key := range []string{name + "." + p, props[p][spot]} {
						if s := fitting[key]; s != "" {
							secret = s
							break
						}
					}
					var b strings.Builder
					node(&b, lib, "it", t, map[string]string{p: strings.ReplaceAll(spot, "HUSH", forms[form])},
						map[string]bool{"sealed": true})
					out = append(out, place{fmt.Sprintf("%s.%s: %s as %s", name, p, spot, form),
						template(b.String(), ""), secret})
				}
			}
		}
	}
	box := "    box: { type: Bucket, properties: { name: box-of-places } }\n"
	for _, where := range []string{
		"    it: { type: Topic, count: HUSH }\n", "    it: { type: Topic, metadata: { x: HUSH } }\n",
		"    it: { type: Topic, attributes: { url: HUSH } }\n",
		"    it: { type: Record, properties: { name: x, values: [ x ] }, requirements: [ { zone: HUSH } ] }\n",
		"    it: { type: Function, properties: { runtime: go-1 }, artifacts: { source: { type: Program, file: HUSH } } }\n",
		"    it: { type: Image, directives: [ select ], node_filter: { $equal: [ { $get_property: [ SELF, name ] }, HUSH ] } }\n",
		"    it: { type: Topic, interfaces: { Actions: { inputs: { x: HUSH }, operations: { create: { inputs: { y: HUSH } } } } } }\n",
		"  policies: [ { p: { type: Keep, targets: [ sealed ], properties: { x: HUSH } } } ]\n",
		"  groups: { g: { type: Group, members: [ sealed ], properties: { x: HUSH } } }\n",
		"  outputs: { o: { value: HUSH } }\n", "  outputs: { o: { value: [ { a: HUSH } ] } }\n",
		"  outputs: { o: { type: integer, value: HUSH } }\n",
		"  outputs: { o: { value: HUSH, validation: { $equal: [ $value, x ] } } }\n",
		"  outputs: { o: { value: { $has_entry: [ [ HUSH ], HUSH ] } } }\n",
		"  outputs: { o: { value: { $union: [ [ HUSH ], [ x ] ] } } }\n",
		"  outputs: { o: { value: { $join: [ [ x, HUSH ], HUSH ] } } }\n",
		"  outputs: { o: { value: HUSH, description: HUSH } }\n",
		"  relationship_templates: { r: { type: Uses, properties: { x: HUSH } } }\n",
	} {
		for _, form := range sorted(forms) {
			text := strings.ReplaceAll(where, "HUSH", forms[form])
			out = append(out, place{strings.TrimSpace(where) + " as " + form, template(box, text), anyHush})
		}
	}
	return out
}

func sorted[V any](m map[string]V) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// TestASecretAtEveryPlace puts a secret at every place where a value can stand,
// goes through the commands with it, and searches what they print and every file
// of the data folder. BRICKROW_LONG=1 takes all places, otherwise every 40th.
func TestASecretAtEveryPlace(t *testing.T) {
	s := newShell(t)
	all := places(profile.Read().Library)
	step := 101
	if os.Getenv("BRICKROW_LONG") != "" {
		step = 1
	}
	deployed, refused, found := 0, 0, map[string]bool{}
	for n := 0; n < len(all); n += step {
		p := all[n]
		tell := func(what, text string) {
			for _, l := range leaks([]byte(text), []string{p.secret}) {
				if !found[p.name+l] {
					found[p.name+l] = true
					t.Errorf("%s: %s tells %s", p.name, what, l)
				}
			}
		}
		call := func(args ...string) int {
			code, out, errs := s.try(args...)
			tell(strings.Join(args[:2], " "), out+errs)
			return code
		}
		s.write("hush", p.secret)
		s.write("places.yaml", p.text)
		file := s.write("places.stack.yaml",
			"stack: places\ntemplate: places.yaml\ntarget: summit/birch-1\nthrowaway: true\ninputs:\n  s: { from_file: hush }\n")
		given := s.write("places.inputs.yaml",
			fmt.Sprintf("deep: { a: [ { b: %q } ] }\nkeyed: { %q: x }\nstrange: [ %q ]\n", p.secret, p.secret,
				p.secret))
		with := func(args ...string) []string { return append(args, file, "--inputs", given) }
		call(with("check", "--json")...)
		call(with("check", "--target")...)
		call(with("resolve")...)
		call(with("resolve", "--origins", "--json")...)
		call(with("whatif")...)
		call(with("whatif", "--markdown")...)
		if call(with("whatif", "--json")...) == 1 {
			refused++
			continue
		}
		deployed++
		saved := filepath.Join(s.home, "places.changeset")
		call(with("whatif", "--save", saved)...)
		words := fmt.Sprintf("cannot take %s, %s, %s, %s nor %q", p.secret, url.QueryEscape(p.secret),
			base64.StdEncoding.EncodeToString([]byte("a:"+p.secret)), hex.EncodeToString([]byte(p.secret)), p.secret)
		call("yard", "fault", "add", "--name", "it", "--reason", words, "--times", "1")
		call(with("deploy", "--yes", "--json")...)
		call("yard", "fault", "clear")
		answers := !strings.Contains(p.name, "Connection.") // nothing is at its end
		if code := call(with("deploy", "--yes")...); code != 0 && answers {
			t.Errorf("%s cannot be deployed: %d", p.name, code)
		}
		call("show", "places", "--json")
		call("results", "places", "--json")
		call("yard", "resources", "--json")
		for _, args := range [][]string{{"drift", "places", "--json"}, {"cloud", "--json"}, {"history", "--since", "1h", "--json"}, {"compliance", "--json"}} {
			call(args...)
		}
		s.write("hush", strings.Replace(p.secret, "hush", "hist", 1))
		call(with("whatif", "--json")...)
		if code := call("delete", "places", "--yes", "--accept", "data"); code != 0 && answers {
			t.Errorf("%s cannot be deleted: %d", p.name, code)
		}
		call("events", "places")
		os.Remove(s.file("hush"))
		_ = filepath.WalkDir(s.home, func(path string, e os.DirEntry, err error) error {
			if err != nil || e.IsDir() || strings.HasPrefix(path, s.dir) {
				return err
			}
			text, err := os.ReadFile(path)
			tell("file "+filepath.Base(path), string(text))
			return err
		})
	}
	if deployed == 0 || refused == 0 {
		t.Errorf("%d places deployed, %d refused: there have to be both", deployed, refused)
	}
	t.Logf("%d places of %d: %d deployed, %d refused", deployed+refused, len(all), deployed, refused)
}
