package assist

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/bundle"
	"brickrow/internal/profile"
	"brickrow/internal/tosca"
)

var shipped = profile.Read()

const head = "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\n"

const nodes = head + `node_types:
  Hut: { derived_from: Server }
service_template:
  inputs:
    site: { type: string, default: one, description: Where it is }
    db_version: { type: string }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ network: net ] }
    readings: { type: Queue }
    hook: { type: Topic }
`

// work is one file in a folder, with its place; other files come in pairs.
func work(t testing.TB, marked string, others ...string) (*Work, string, Place) {
	t.Helper()
	dir := t.TempDir()
	for i := 0; i+1 < len(others); i += 2 {
		if err := os.WriteFile(filepath.Join(dir, others[i]), []byte(others[i+1]), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	text, at := cut(t, marked)
	w := New(bundle.Disk, shipped.Library, tosca.Shipped...)
	w.Load = shipped.Load
	name := "a.yaml"
	if text.Outline().Kind == StackFile {
		name = "a.stack.yaml"
	}
	path := filepath.Join(dir, name)
	w.Set(path, text)
	return w, path, at
}

func labels(items []Item) []string {
	out := make([]string, len(items))
	for i, it := range items {
		out[i] = it.Label
	}
	return out
}

func TestComplete(t *testing.T) {
	for _, test := range []struct{ text, first, also, not string }{
		{"‸", "tosca_definitions_version", "imports service_template node_types", "inputs type"},
		{head + "ser‸", "service_template", "", "imports tosca_definitions_version"},
		{"imports:\n  - profile: ‸", "brickrow.cloud:1", "", "url"},
		{"imports:\n  - ‸", "", "profile url", "node_types"},
		{nodes + "    x:\n      ‸", "type", "properties requirements count description", "node_templates derived_from inputs"},
		{nodes + "    x:\n      type: ‸", "", "Server Bucket Hut Topic", "string Keep site"},
		{nodes + "    x:\n      type: Su‸", "Subnet", "Subscription", "Server"},
		{nodes + "    x:\n      type: Server\n      properties:\n        ‸", "image size", "needs tags user_data", "type subnet cidr"},
		{nodes + "    x:\n      type: Hut\n      properties:\n        im‸", "image", "", "size"},
		{nodes + "    x:\n      type: Server\n      properties:\n        size: ‸", "", "small medium large $get_input", "image"},
		{nodes + "    x: { type: Server, properties: { size: small, ‸ } }", "image", "needs", "size type"},
		{nodes + "    x: { type: Server, requirements: [ ‸ ] }", "subnet", "rules role address", "image readings"},
		{nodes + "    x: { type: Server, requirements: [ subnet: ‸ ] }", "sub", "", "net readings hook x"},
		{nodes + "    x:\n      type: Server\n      requirements:\n        - subnet: ‸", "sub", "", "net readings"},
		{nodes + "    x:\n      type: Server\n      requirements:\n        - subnet:\n            no‸", "node", "", "count"},
		{nodes + "    x:\n      type: Server\n      requirements:\n        - subnet: { node: ‸ }", "sub", "", "net"},
		{nodes + "    x: { type: Topic, properties: { label: { $get_input: ‸ } } }", "", "site db_version", "net SELF"},
		{nodes + "    x: { type: Topic, properties: { label: { $get_input: [ ‸ ] } } }", "", "site db_version", "net"},
		{nodes + "    x: { type: Topic, properties: { label: { $get_property: [ ‸ ] } } }", "SELF", "net sub hook", "site"},
		{nodes + "    x: { type: Topic, properties: { label: { $get_property: [ net, ‸ ] } } }", "", "cidr label", "id image"},
		{nodes + "    x: { type: Topic, properties: { label: { $get_attribute: [ readings, ‸ ] } } }", "", "url id", "image"},
		{nodes + "    x: { type: Topic, properties: { label: { $get_attribute: [ SELF, ‸ ] } } }", "", "url id", "free_addresses"},
		{nodes + "    x: { type: Topic, properties: { label: { $co‸ } } }", "$concat", "", "$get_input"},
		{nodes + "    x: { type: Topic, properties: { label: $no‸ } }", "$node_index", "", "$concat"},
		{nodes + "    x: { type: Bucket, properties: { public_read: ‸ } }", "", "true false", "small"},
		{nodes + "    x:\n      type: Rules\n      properties:\n        allow:\n          - ‸", "", "", "cidr"},
		{nodes + "    x: { type: Rules, properties: { allow: [ { ‸ } ] } }", "peer ports", "protocol direction", "allow tags"},
		{nodes + "    x: { type: Rules, properties: { allow: [ { direction: ‸ } ] } }", "", "in out", "tcp"},
		{nodes + "    x: { type: Topic, directives: [ ‸ ] }", "", "select substitute", "type"},
		{nodes + "    ‸", "", "Server Bucket", "x type"},
		{nodes + "    Da‸:\n      type: Server\n", "", "", "Database"},
		{nodes + "  outputs:\n    a:\n      ‸", "value", "description type", "default"},
		{nodes + "  outputs:\n    a: { value: { $get_attribute: [ hook, u‸ ] } }", "url", "", "label"},
		{nodes + "  policies:\n    - keep: { type: ‸ }", "", "Keep Guard", "Server"},
		{nodes + "  policies:\n    - keep: { type: Keep, targets: [ ‸ ] }", "", "net readings hook", "Keep"},
		{nodes + "  inputs2: ‸", "", "", "Server"},
		{head + "service_template:\n  ‸", "", "inputs node_templates outputs policies", "node_types"},
		{head + "service_template:\n  inputs:\n    a:\n      type: ‸", "", "string integer Size Cidr list", "Server"},
		{head + "service_template:\n  inputs:\n    a:\n      ‸", "type", "default description required", "count"},
		{head + "node_types:\n  Hut:\n    derived_from: Ser‸", "Server", "ServerGroup", "string"},
		{head + "node_types:\n  Hut:\n    properties:\n      a:\n        type: st‸", "string", "", "Server"},
		{nodes + "    x: { type: Server,\n      properties: { size: small,\n        ‸ } }", "image", "needs", "size type $concat"},
		{nodes + "    x: { type: Server, properties: { size: small },\n      requ‸ }", "requirements", "", "image"},
		{nodes + "    x:\n      type: Topic\n      metadata: { ‸ }", "", "formerly keyed_by", "filled_by"},
		{nodes + "    x:\n      type: Topic\n      count: 2\n      metadata: { keyed_by: ‸ }", "", "label", "$concat url"},
		{nodes + "    x: { type: Server, artifacts: { ‸ } }", "user_data", "", "image"},
		{nodes + "  groups:\n    all: { type: Group, members: [ ‸ ] }", "", "net readings", "all"},
		{head + "service_template:\n  inputs:\n    a: { type: string, metadata: { filled_by: ‸ } }", "", "region commit", "$concat"},
		{head + "service_template:\n  inputs:\n    a: { type: string, validation: { ‸ } }", "$valid_values $matches", "$and", "a"},
		{nodes + "  substitution_mappings:\n    node_type: Server\n    properties:\n      ‸", "", "image size", "site $concat"},
		{nodes + "  substitution_mappings:\n    node_type: Server\n    properties: { image: ‸ }", "", "site", "net $concat"},
		{nodes + "  substitution_mappings:\n    node_type: Queue\n    attributes: { url: [ readings, ‸ ] }", "", "url", "site label"},
		{nodes + "  substitution_mappings:\n    node_type: Server\n    requirements: { subnet: [ ‸ ] }", "", "sub net", "site"},
		{nodes + "  substitution_mappings:\n    node_type: Server\n    requirements: { subnet: [ sub, ‸ ] }", "network", "", "cidr"},
		{nodes + "    x:\n      type: Software\n      interfaces:\n        ‸", "", "Lifecycle", "image create"},
		{nodes + "    x:\n      type: Software\n      interfaces:\n        Lifecycle:\n          ‸", "", "inputs operations", "create"},
		{nodes + "    x:\n      type: Software\n      interfaces:\n        Lifecycle:\n          operations:\n            ‸", "", "create update drain", "inputs turn"},
		{nodes + "    x:\n      type: Software\n      interfaces: { Lifecycle: { operations: { create: ‸ } } }", "", "boot.sh", "net"},
		{nodes + "    x:\n      type: Software\n      interfaces: { Lifecycle: { operations: { create: { ‸ } } } }", "", "implementation inputs outputs", "create"},
		{nodes + "    x:\n      type: Software\n      interfaces: { Lifecycle: { operations: { create: { implementation: { ‸ } } } } }", "", "primary dependencies", "inputs"},
		{nodes + "    x:\n      type: Software\n      interfaces: { Lifecycle: { operations: { create: { implementation: { dependencies: [ ‸ ] } } } } }", "", "boot.sh", "net"},
		{nodes + "    x:\n      type: Software\n      interfaces: { Lifecycle: { inputs: { a: { $get_attribute: [ ‸ ] } } } }", "SELF", "net readings", "site"},
		{nodes + "    x: { type: Software, properties: { ‸ } }", "", "wait timeout order", "operations"},
		{nodes + "    x: { type: Grant, properties: { actions: [ ‸ ] } }", "bucket:read", "", "role"},
		{"tosca_definitions_version: tosca_2_0\nimports: [ ‸ ]", "", "base.yaml profile", "a.yaml boot.sh"},
		{nodes + "    x: { type: Subnet, properties: { label: { $get_property: [ SELF, ‸ ] } }, requirements: [ network: net ] }", "", "cidr RELATIONSHIP", "network TARGET"},
		{nodes + "    x: { type: Subnet, properties: { label: { $get_property: [ SELF, RELATIONSHIP, ‸ ] } } }", "", "network", "cidr TARGET"},
		{nodes + "    x: { type: Subnet, properties: { label: { $get_property: [ SELF, RELATIONSHIP, network, ‸ ] } } }", "", "TARGET", "cidr"},
		{nodes + "    x: { type: Subnet, properties: { label: { $get_attribute: [ SELF, RELATIONSHIP, network, TARGET, ‸ ] } } }", "", "id cidr", "public network"},
		{nodes + "    x: { type: LoadBalancer, properties: { label: { $get_property: [ SELF, RELATIONSHIP, subnet, ‸ ] } } }", "", "TARGET ALL", ""},
		{nodes + "    x: { type: LoadBalancer, properties: { label: { $get_property: [ SELF, RELATIONSHIP, subnet, ALL, TARGET, ‸ ] } } }", "", "cidr", "ALL"},
		{nodes + "    x: { type: Topic, properties: { label: { $get_attribute: [ [ readings, 0 ], ‸ ] } } }", "", "url", "readings"},
		{"stack: a\n‸", "target template", "inputs careful on_failure", "service_template"},
		{"stack: a\ntarget: x/y\non_failure: ‸", "", "undo hold", "true"},
		{"stack: a\ncareful: ‸", "", "true false", "undo"},
		{"stack: a\ntemplate: ‸", "", "base.yaml", ""},
		{"stack: a\ntemplate: base.yaml\ninputs:\n  ‸", "", "site db_version", "net"},
		{"stack: a\ntemplate: base.yaml\ninputs:\n  site: { from‸ }", "", "from_env from_file from_stack", "site"},
		{"stack: a\ntemplate: base.yaml\ninputs:\n  site: { from_stack: { stack: ‸ } }", "", "ground", "a name"},
		{"stack: a\ninputs:\n  site: { from_stack: { stack: ground, output: n‸ } }", "name", "", "area ground"},
		{"stack: a\ninputs:\n  site:\n    from_stack:\n      stack: ground\n      output: ‸", "", "name", "area ground"},
		{"stack: a\ntemplate: base.yaml\ninputs:\n  site: { from_file: ‸ }", "", "base.yaml", "ground"},
		{"fleet: a\n‸", "stack places", "waves except at_once", "template target"},
		{"fleet: a\nstack: ‸", "", "c.stack.yaml", "base.yaml boot.sh"},
		{"fleet: a\nstack: c.stack.yaml\nplaces:\n  - ‸", "", "target inputs workshop/*", "site"},
		{"fleet: a\nstack: c.stack.yaml\nplaces:\n  - { target: ‸ }", "", "workshop/* workshop/alder-1", "site"},
		{"fleet: a\nstack: c.stack.yaml\nplaces:\n  - target: workshop/*\n    inputs:\n      ‸", "db_version", "site", "target readings"},
		{"fleet: a\nstack: c.stack.yaml\nplaces:\n  - { target: workshop/*, inputs: { site: { filled_by: ‸ } } }", "", "region account", "stack user $concat"},
		{"fleet: a\nstack: c.stack.yaml\nexcept: [ ‸ ]", "", "workshop/alder-1", "rest"},
		{"fleet: a\non_failure: ‸", "", "undo hold", "$concat"},
		{"rules:\n  - ‸", "", "", ""},
		{"rules:\n  - id: a\n    types: [ ‸ ]", "", "Server Bucket", "id"},
		{"rules:\n  - id: a\n    types: ‸", "", "Server Bucket", "id"},
		{"rules:\n  - id: a\n    changes: [ ‸ ]", "", "new drop", "Server"},
		{"rules:\n  - id: a\ntests:\n  - { rule: ‸ }", "a", "", "Server"},
		{"rules:\n  - id: a\ntests:\n  - { type: Net‸ }", "Network", "", "Server"},
		{nodes + "    depot: { type: Disk, properties: { size: 20 GiB } }\n  policies:\n    - keep: { type: Backup, targets: [ ‸ ] }", "depot", "", "net readings hook"},
		{nodes + "‸", "", "Queue Server metadata", "site"},
		{nodes + "Que‸", "Queue", "", "site"},
		{nodes + " ‸", "", "Queue", "site"},
		{nodes + "  policies:\n    - ‸", "", "Keep Backup Drain", "net"},
		{nodes + "  policies:\n    ‸", "", "Keep Backup", "net"},
		{nodes + "    x: { type: Rules, properties: { allow: [ { ports: 22, ‸ } ] } }", "peer", "protocol", "$concat $get_input"},
		{nodes + "    x: { type: Topic, properties: { label: ‸ } }", "", "$concat $join $get_input $get_attribute", "$sum $and $value $relationship_index $union"},
		{nodes + "    x: { type: Bucket, properties: { public_read: ‸ } }", "", "$equal $and $get_input", "$concat $sum $value"},
		{nodes + "    x: { type: Disk, properties: { size: ‸ } }", "", "$sum $get_input", "$concat $and"},
		{nodes + "    x: { type: Disk, properties: { size: 20 G‸ } }", "", "", "$sum 20"},
		{"imports: [ { profile: ‸ } ]", "", "brickrow.cloud:1 brickrow.dns:1 brickrow.postgresql:1", "url"},
		{nodes + "    x:\n      type: Software\n      interfaces: { Lifecycle: { operations: { create: ‸ } } }", "", "boot.sh scripts/", "net"},
		{"stack: a\ntemplate: base.yaml\ninputs:\n  site: ‸", "", "from_env from_file from_stack", "net"},
		{"rules:\n  - id: a\n    ‸", "message require", "types severity", "id rules"},
		{"rules:\n  - id: a\n    severity: ‸", "", "warn refuse", "id"},
		{"rules:\n  - id: a\n    require: ‸", "", "after before resource stack has", "severity"},
		{"rules:\n  - id: a\n    types: Database\n    require: after.‸", "", "storage engine backup_days", "image cidr"},
		{"rules:\n  - id: a\n    types: [ Database, Server ]\n    require: \"after.im‸\"", "image", "", "cidr"},
		{"rules:\n  - id: a\n    types:\n      - Network\n    require: |\n      after.size > 1 ||\n        before.‸", "", "cidr", "image"},
		{"rules:\n  - id: a\n    require: resource.ch‸", "", "change changed", "cidr"},
		{"rules:\n  - id: a\n    require: after.label.st‸", "startsWith", "", "label"},
		{nodes + "    x: # typ‸", "", "", "type"},
		{nodes + "    x:\n      type: Server\n      requirements:\n        - subnet: sub\n        - ‸", "", "rules key", "subnet"},
		{nodes + "    x:\n      type: Server\n      requirements:\n        - subnet: sub\n        - rules: y\n        - ‸", "", "rules key", "subnet"},
		{nodes + "    x:\n      type: Server\n      requirements:\n        - sub‸net: sub\n", "", "subnet", ""},
		{nodes + "    x: { type: Rules, properties: { allow: [ { ports: \"443\"‸ } ] } }", "", "", "\"443\" peer $concat"},
		{nodes + "    x:\n      type: 'Server'‸", "", "", "Server"},
		{nodes + "    x: { type: Topic, properties: { label: a }‸ }", "", "", "requirements"},
		{nodes + "    x:\n      type: Server\n      properties:\n        user_data: |\n          si‸", "", "", "size"},
	} {
		w, path, at := work(t, test.text, "base.yaml", nodes, "boot.sh", "echo", "c.stack.yaml", "stack: c\ntemplate: base.yaml\n")
		if err := os.Mkdir(filepath.Join(filepath.Dir(path), "scripts"), 0o700); err != nil {
			t.Fatal(err)
		}
		w.Targets = func() []string { return []string{"workshop/alder-1", "workshop/birch-1"} }
		if f, _ := tosca.Read("base.yaml", []byte(nodes), tosca.Source{Profile: shipped.Load}); f.Service != nil {
			w.Read(filepath.Join(filepath.Dir(path), "base.yaml"), f, nil)
		}
		w.Results = func(string) map[string][]string {
			return map[string][]string{"ground": {"name"}, "a": {"own"}, "other": {"area"}}
		}
		items := w.Complete(path, at)
		got := labels(items)
		wellFormed(t, w.Text(path), items)
		for i, want := range strings.Fields(test.first) {
			if i >= len(got) || !slices.Contains(got[:len(strings.Fields(test.first))], want) {
				t.Errorf("%q: begins with %v, want %s", test.text, got[:min(len(got), 4)], test.first)
				break
			}
		}
		for _, want := range strings.Fields(test.also) {
			if !slices.Contains(got, want) {
				t.Errorf("%q: %s is not offered: %v", test.text, want, got[:min(len(got), 12)])
			}
		}
		for _, no := range strings.Fields(test.not) {
			if slices.Contains(got, no) {
				t.Errorf("%q: %s is offered", test.text, no)
			}
		}
	}
}

// wellFormed inserts each item, and reads what comes of it.
func wellFormed(t *testing.T, text *Text, items []Item) {
	t.Helper()
	var before tosca.Findings
	if tosca.ParseYAML("a.yaml", []byte(text.String()), &before) == nil && !strings.Contains(before[0].Code, "empty") {
		return // it is broken anyhow
	}
	for _, it := range items {
		inserted, blanks := Expand(it.Insert)
		for _, b := range slices.Backward(blanks) {
			if b.From == b.To {
				inserted = inserted[:b.From] + "x" + inserted[b.To:]
			}
		}
		var findings tosca.Findings
		whole := text.Apply(Edit{it.Range, inserted}).String()
		if tosca.ParseYAML("a.yaml", []byte(whole), &findings); findings.HasErrors() {
			t.Errorf("%s inserted as %q: %v\n%s", it.Label, it.Insert, findings[0].Message, whole)
		}
	}
}

func TestExpand(t *testing.T) {
	text, blanks := Expand(`${2:b\}}: \$x $0 ${1:}`)
	if text != "b}: $x  " || len(blanks) != 3 || blanks[0] != (Blank{1, 8, 8}) || blanks[1] != (Blank{2, 0, 2}) || blanks[2] != (Blank{0, 7, 7}) {
		t.Errorf("%q %v", text, blanks)
	}
	for _, odd := range []string{"$", "${", "${1", "${1:", "\\", "}", "${x:y}", "$0$0"} {
		Expand(odd)
	}
}

// An empty file is what its name says; units stand behind a number; an example names only what there is; the images of the target
// are offered for an input that is one.
func TestCompleteByWhatIsThere(t *testing.T) {
	offers := func(name, marked string) []string {
		t.Helper()
		text, at := cut(t, marked)
		w, path := New(bundle.Disk, shipped.Library, tosca.Shipped...), filepath.Join(t.TempDir(), name)
		w.There = func(string, string) []string { return []string{"fern-12"} }
		template := filepath.Join(filepath.Dir(path), "base.yaml")
		base := head + "service_template:\n  inputs: { picture: { type: string } }\n  node_templates:\n    s: { type: Server, properties: { size: small, image: { $get_input: picture } } }\n"
		if err := os.WriteFile(template, []byte(base), 0o600); err != nil {
			t.Fatal(err)
		}
		f, _ := tosca.Read("base.yaml", []byte(base), tosca.Source{Profile: shipped.Load})
		w.Read(template, f, nil)
		w.Set(path, text)
		return labels(w.Complete(path, at))
	}
	for _, test := range [][4]string{
		{"x.stack.yaml", "‸", "template", "tosca_definitions_version"},
		{"x.fleet.yaml", "‸", "places", "tosca_definitions_version"},
		{"x.rules.yaml", "‸", "rules", "tosca_definitions_version"},
		{"x.yaml", nodes + "    x: { type: Disk, properties: { size: 20 ‸ } }", "20 GiB", "$sum"},
		{"x.yaml", nodes + "    x: { type: Disk, properties: { size: 20 G‸ } }", "20 GiB", "20 MiB"},
		{"x.yaml", nodes + "    x:\n      type: Disk\n      properties:\n        size: 1.5‸", "1.5 TiB", "$sum"},
		{"x.yaml", nodes + "    x: { type: Database, properties: { password: ‸ } }", "$get_input", "{ $get_input: db_password }"},
		{"x.yaml", strings.Replace(nodes, "    site:", "    db_password: { type: Secret }\n    site:", 1) + "    x: { type: Database, properties: { password: ‸ } }", "{ $get_input: db_password }", "SELF"},
		{"x.stack.yaml", "stack: a\ntemplate: base.yaml\ninputs:\n  picture: ‸", "fern-12", "small"},
	} {
		if got := offers(test[0], test[1]); !slices.Contains(got, test[2]) || slices.Contains(got, test[3]) {
			t.Errorf("%s %q: %v, want %s and no %s", test[0], test[1][max(0, len(test[1])-60):], got[:min(len(got), 10)], test[2], test[3])
		}
	}
}

// What is taken right behind the colon of a key has a blank before it.
func TestCompletionBehindAColon(t *testing.T) {
	for text, at := range map[string]string{"    s: { type: Server, properties: { size:‸ } }\n": "block in a line", "    s:\n      type: Server\n      properties:\n        size:‸\n": "block",
		"    s:\n      type:‸\n": "a type"} {
		w, path, place := work(t, head+"service_template:\n  node_templates:\n"+text)
		items := w.Complete(path, place)
		if len(items) == 0 {
			t.Errorf("%s: nothing is offered", at)
		}
		for _, it := range items {
			if !strings.HasPrefix(it.Insert, " ") && !strings.HasPrefix(it.Insert, "\n") {
				t.Errorf("%s: %q is written right behind the colon", at, it.Insert)
			}
		}
	}
}
