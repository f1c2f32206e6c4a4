package stack_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/profile"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

var shipped = profile.Read()

const head = "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n"

// resolve reads and resolves a template; flags give inputs as on the command
// line.
func resolve(t *testing.T, text string, flags ...string) (*stack.Wanted, tosca.Findings) {
	t.Helper()
	f, findings := tosca.Read("t.yaml", []byte(head+text), tosca.Source{Profile: shipped.Load})
	findings = append(findings, tosca.Check(f)...)
	var given []stack.Given
	for _, flag := range flags {
		g, err := stack.ParseFlag(flag, f.Service.Inputs)
		if err != nil {
			t.Fatal(err)
		}
		given = append(given, g)
	}
	w, more := stack.Resolve(f, stack.Options{Given: given, Tags: map[string]string{"desk": "snow"}})
	return w, slices.DeleteFunc(append(findings, more...),
		func(f tosca.Finding) bool { return f.Code == "unused-input" })
}

// sound resolves a template that must have no findings.
func sound(t *testing.T, text string, flags ...string) *stack.Wanted {
	t.Helper()
	w, findings := resolve(t, text, flags...)
	if len(findings) > 0 {
		t.Fatalf("findings: %v", findings)
	}
	return w
}

func value(t *testing.T, w *stack.Wanted, resource, property string) string {
	t.Helper()
	r := w.Resource(resource)
	if r == nil {
		t.Fatalf("there is no %s", resource)
	}
	if p := r.Property(property); p != nil {
		return tosca.Show(p.Value)
	}
	return ""
}

const chain = `
  inputs:
    n: { type: integer, default: 2 }
    names: { type: list, entry_schema: string, default: [ hut, gate, peak ] }
    token: { type: Secret, default: sssecret }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub:
      type: Subnet
      properties: { cidr: 10.0.1.0/24 }
      requirements: [ { network: net } ]
    server:
      type: Server
      count: { $get_input: n }
      properties:
        size: small
        image: fern-12
        label: { $concat: [ { $get_input: [ names, $node_index ] }, "-", $node_index ] }
        tags: { desk: own, role: reader }
      requirements: [ { subnet: sub } ]
    queue: { type: Queue }
    topic: { type: Topic, properties: { label: { $concat: [ at-, { $get_attribute: [ queue, url ] } ] } } }
    echo: { type: Topic, properties: { label: { $get_property: [ topic, label ] } } }
    first: { type: Topic, properties: { label: { $get_attribute: [ [ server, 0 ], private_address ] } } }
    vault: { type: Vault, properties: { value: { $concat: [ x-, { $get_input: token } ] } } }
  outputs:
    where: { value: { $get_attribute: [ queue, url ] } }
    secret: { value: { $get_property: [ vault, value ] } }
`

func TestResolve(t *testing.T) {
	w := sound(t, chain, "n=3")
	var names []string
	for _, r := range w.Resources {
		names = append(names, r.Name)
	}
	for _, pair := range [][2]string{{"net", "sub"}, {"sub", "server#0"}, {"queue", "topic"}, {"queue", "echo"},
		{"server#0", "first"}} {
		if slices.Index(names, pair[0]) > slices.Index(names, pair[1]) {
			t.Errorf("%s stands after %s in %v", pair[0], pair[1], names)
		}
	}
	for _, test := range []struct{ resource, property, want string }{
		{"server#0", "label", "hut-0"},
		{"server#2", "label", "peak-2"},
		{"server#0", "tags", "{desk: own, role: reader}"},
		{"net", "tags", "{desk: snow}"},
		{"sub", "public", "false"},
		{"queue", "keep", "4 d"},
		{"topic", "label", "set by the cloud"},
		{"echo", "label", "set by the cloud"},
		{"vault", "value", "(secret)"},
		{"net", "label", ""},
	} {
		if got := value(t, w, test.resource, test.property); got != test.want {
			t.Errorf("%s.%s is %q, want %q", test.resource, test.property, got, test.want)
		}
	}
	if needs := w.Resource("echo").Needs; !slices.Equal(needs, []string{"queue"}) {
		t.Errorf("echo needs %v", needs)
	}
	if links := w.Resource("server#1").Links; len(links) != 1 || links[0].Requirement != "subnet" ||
		links[0].Targets[0] != "sub" {
		t.Errorf("links of server#1: %v", links)
	}
}

func TestLateValues(t *testing.T) {
	w := sound(t, chain)
	url := func(resource, attribute string) (tosca.Value, bool) {
		return tosca.String("q://" + resource + "/" + attribute), resource == "queue"
	}
	for resource, want := range map[string]string{"topic": "at-q://queue/url", "echo": "at-q://queue/url",
		"first": "set by the cloud"} {
		props, findings := w.Late(w.Resource(resource), url)
		if len(findings) > 0 || tosca.Show(props["label"]) != want {
			t.Errorf("%s: %s %v, want %s", resource, tosca.Show(props["label"]), findings, want)
		}
	}
	if got := value(t, w, "topic", "label"); got != "set by the cloud" {
		t.Errorf("evaluating late has changed the resource: %s", got)
	}
	results, _ := w.Results(url)
	if tosca.Show(results["where"]) != "q://queue/url" || tosca.Show(results["secret"]) != "(secret)" {
		t.Errorf("results: %v", results)
	}
}

func TestLateValuesAreChecked(t *testing.T) {
	w := sound(t, "  node_templates:\n    queue: { type: Queue }\n    zone: { type: Zone, properties: { domain: { $get_attribute: [ queue, url ] } } }\n")
	_, findings := w.Late(w.Resource("zone"),
		func(string, string) (tosca.Value, bool) { return tosca.String("not a domain"), true })
	if len(findings) != 1 || findings[0].Code != "invalid-value" {
		t.Errorf("a late value that is not allowed: %v", findings)
	}
}

func TestCounts(t *testing.T) {
	if w := sound(t, chain[:strings.Index(chain, "    first:")], "n=0"); w.Resource("server#0") != nil ||
		w.Resource("sub") == nil {
		t.Error("a count of 0 makes a server")
	}
	w := sound(t, "  node_templates:\n    topic: { type: Topic, count: 1 }\n    sub: { type: Subscription, properties: { to: a@b.cc }, requirements: [ { topic: topic } ] }\n")
	if l := w.Resource("sub").Links; l[0].Targets[0] != "topic#0" {
		t.Errorf("a single one of a count: %v", l)
	}
}

func TestAllOfACountAreMeant(t *testing.T) {
	w := sound(t, `
  node_templates:
    role: { type: Role, properties: { for: server } }
    bucket: { type: Bucket, count: 3, properties: { name: { $concat: [ kestrel-, $node_index ] } } }
    grant:
      type: Grant
      properties: { actions: [ "bucket:read" ] }
      requirements: [ { role: role }, { "on": bucket } ]
`)
	if l := w.Resource("grant").Links; len(l) != 2 || len(l[1].Targets) != 3 {
		t.Errorf("links: %v", l)
	}
}

func TestInputs(t *testing.T) {
	const text = `
  inputs:
    must: { type: string, description: what it is called }
    size: { type: Size, default: 1 GiB, validation: { $greater_or_equal: [ $value, 1 GiB ] } }
    n: { type: integer, default: 1 }
    flag: { type: boolean, default: false }
    list: { type: list, entry_schema: integer, default: [] }
    maybe: { type: string, required: false }
    v: { type: version, default: "15" }
  node_templates:
    topic: { type: Topic }
`
	if _, findings := resolve(t, text); len(findings) != 1 || findings[0].Code != "missing-input" ||
		!strings.Contains(findings[0].Message, "what it is called") {
		t.Errorf("a missing input: %v", findings)
	}
	w := sound(t, text, "must=5", "size=2 GiB", "n=7", "flag=true", "list=[1, 2]", "v=15.10")
	got := map[string]string{}
	for _, in := range w.Inputs {
		got[in.Name] = tosca.Show(in.Value) + " from " + string(in.Origin.Kind)
	}
	for name, want := range map[string]string{"must": "5 from flag", "size": "2 GiB from flag", "n": "7 from flag",
		"flag": "true from flag", "list": "[1, 2] from flag", "v": "15.10 from flag"} {
		if got[name] != want {
			t.Errorf("%s is %s, want %s", name, got[name], want)
		}
	}
	for flag, code := range map[string]string{"size=1 MiB": "invalid-value", "size=2": "bad-scalar",
		"n=x": "wrong-type", "flag=maybe": "wrong-type", "list=[a]": "wrong-type", "nobody=1": "unknown-input",
		"v=new": "bad-version"} {
		if _, findings := resolve(t, text, "must=a", flag); len(findings) != 1 || findings[0].Code != code {
			t.Errorf("-i %s: %v, want %s", flag, findings, code)
		}
	}
	if _, err := stack.ParseFlag("nothing", nil); err == nil {
		t.Error("a flag without = is taken")
	}
	_, findings := resolve(t, text, "must=a", "n=x", "flag=maybe", "nobody=1")
	if len(findings) != 3 {
		t.Errorf("all mistakes at once: %v", findings)
	}
}

func TestLaterValuesWin(t *testing.T) {
	w := sound(t, "  inputs:\n    n: { type: integer, default: 1 }\n  node_templates:\n    t: { type: Topic }\n",
		"n=2", "n=3")
	if got := tosca.Show(w.Inputs[0].Value); got != "3" {
		t.Errorf("n is %s", got)
	}
}

func TestPolicies(t *testing.T) {
	w := sound(t, "  node_templates:\n    a: { type: Topic, count: 2 }\n    b: { type: Topic }\n  policies:\n    - x: { type: Keep, targets: [ a ] }\n    - y: { type: Guard, targets: [ a, b ] }\n")
	for name, want := range map[string][2]bool{"a#0": {true, true}, "a#1": {true, true}, "b": {false, true}} {
		if r := w.Resource(name); r.Keep != want[0] || r.Guard != want[1] {
			t.Errorf("%s: keep %v, guard %v", name, r.Keep, r.Guard)
		}
	}
}

func TestGraph(t *testing.T) {
	g := stack.Graph{"a": nil, "b": {"a"}, "c": {"a"}, "d": {"b", "c"}, "e": {"elsewhere"}}
	if got := fmt.Sprint(g.Courses()); got != "[[a e] [b c] [d]]" {
		t.Errorf("courses: %s", got)
	}
	if got := fmt.Sprint(g.Reach("d"), g.Dependents().Reach("a")); got != "[a b c] [b c d]" {
		t.Errorf("reach: %s", got)
	}
	path, total := g.CriticalPath(func(n string) float64 {
		return map[string]float64{"a": 1, "b": 5, "c": 2, "d": 1,
			"e": 3}[n]
	})
	if fmt.Sprint(path, total) != "[a b d] 7" {
		t.Errorf("critical path: %v %v", path, total)
	}
	order, cycles := stack.Graph{"x": {"y"}, "y": {"z"}, "z": {"y"}, "w": nil}.Order()
	if fmt.Sprint(order) != "[w]" || len(cycles) != 1 || fmt.Sprint(cycles[0]) != "[y z y]" {
		t.Errorf("order %v, cycles %v", order, cycles)
	}
	if path, total := (stack.Graph{}).CriticalPath(nil); path != nil || total != 0 {
		t.Errorf("the critical path of nothing: %v %v", path, total)
	}
}

func TestTargetAndOrigin(t *testing.T) {
	for text, ok := range map[string]bool{"workshop/alder-1": true, "workshop": false, "/alder": false,
		"a/b/c": false, "": false} {
		target, got := stack.ParseTarget(text)
		if got != ok || ok && target.String() != text {
			t.Errorf("%q: %v %v", text, target, got)
		}
	}
	at := tosca.Pos{File: "dir/x.stack.yaml", Line: 9, Column: 3}
	for _, test := range []struct {
		origin stack.Origin
		want   string
	}{
		{stack.Origin{Kind: "stack file", Pos: at}, "x.stack.yaml:9"},
		{stack.Origin{Kind: "default", Pos: at}, "default, x.stack.yaml:9"},
		{stack.Origin{Kind: "flag", Via: "n=3"}, "-i n=3"},
		{stack.Origin{Kind: "stack file", Pos: at, Via: "from the variable X"}, "x.stack.yaml:9, from the variable X"},
	} {
		if got := test.origin.String(); got != test.want {
			t.Errorf("%q, want %q", got, test.want)
		}
	}
}

// TestSources follows values to the inputs and look-ups that they come from.
func TestSources(t *testing.T) {
	w := sound(t, `  inputs:
    a: { type: string, default: x }
    b: { type: integer, default: 2 }
    list: { type: list, entry_schema: string, default: [ p, q ] }
  node_templates:
    net: { type: Network, directives: [ select ], node_filter: { $equal: [ { $get_property: [ SELF, label ] }, { $get_input: a } ] } }
    first: { type: Topic, properties: { label: { $concat: [ { $get_input: a }, "-" ] } } }
    second: { type: Topic, properties: { label: { $get_property: [ first, label ] } } }
    third: { type: Topic, count: { $get_input: b }, properties: { label: { $concat: [ { $get_property: [ second, label ] }, { $get_input: [ list, $node_index ] } ] } } }
    fourth: { type: Topic, properties: { label: { $get_attribute: [ net, id ] } } }
    fifth: { type: Topic, properties: { label: plain } }
`)
	for name, want := range map[string]string{"first": "[a] []", "second": "[a] []", "third#1": "[a list] []",
		"fourth": "[] [net]", "fifth": "[] []"} {
		from := w.Sources(w.Resource(name).Property("label"))
		if got := fmt.Sprintf("%v %v", from.Inputs, from.Lookups); got != want {
			t.Errorf("%s comes from %s, want %s", name, got, want)
		}
	}
	if from := w.CountSources("third#7"); fmt.Sprint(from.Inputs) != "[b]" {
		t.Errorf("the count comes from %v", from)
	}
	if from := w.CountSources("nobody"); len(from.Inputs) != 0 {
		t.Errorf("nobody's count comes from %v", from)
	}
	if w.Template("third#7") == nil || w.Template("first") == nil || w.Template("nobody#0") != nil {
		t.Error("a resource's template is not found by its name")
	}
}

// TestGrantsComeFirst wants a server to rest on the grants of its role where it
// says what it does, and never in a circle.
func TestGrantsComeFirst(t *testing.T) {
	head := "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }\n    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ network: net ] }\n    rules: { type: Rules, properties: { allow: [] }, requirements: [ network: net ] }\n" +
		"    role: { type: Role, properties: { for: server } }\n    queue: { type: Queue }\n    may: { type: Grant, properties: { actions: [ queue:read ] }, requirements: [ role: role, \"on\": queue ] }\n"
	server := "    hut: { type: Server, properties: { size: small, image: fern-12, needs: NEEDS }, requirements: [ subnet: sub, rules: rules, role: role ] }\n"
	topic := "    note: { type: Topic, properties: { label: { $get_attribute: [ hut, private_address ] } } }\n    self: { type: Grant, properties: { actions: [ topic:send ] }, requirements: [ role: role, \"on\": note ] }\n"
	for _, c := range []struct{ text, needs string }{
		{strings.Replace(server, "NEEDS", "[ queue:read ]", 1), "may role rules sub"},
		{strings.Replace(server, "NEEDS", "[]", 1), "role rules sub"},
		{strings.Replace(server, ", needs: NEEDS", "", 1), "role rules sub"},
		{strings.Replace(server, "NEEDS", "[ queue:read ]", 1) + topic,
			"may role rules sub"}, // the grant on the note needs the server
	} {
		file, findings := tosca.Read("t.yaml", []byte(head+c.text), tosca.Source{Profile: shipped.Load})
		w, more := stack.CheckAndResolve(file, stack.Options{Orders: shipped})
		if findings = append(findings, more...); findings.HasErrors() {
			t.Fatal(findings)
		}
		if got := strings.Join(w.Resource("hut").Needs, " "); got != c.needs {
			t.Errorf("the server needs %s, want %s\n%s", got, c.needs, c.text)
		}
	}
}
