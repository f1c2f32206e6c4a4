package whatif_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/profile"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

var shipped = profile.Read()

const template = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs:
    cidr: { type: string, default: 10.0.0.0/16 }
    readers: { type: integer, default: 2 }
    version: { type: version, default: "15" }
    size: { type: string, default: small }
    peer: { type: string, default: 10.0.0.0/8 }
    frames: { type: string, default: kestrel-frames }
    public: { type: boolean, default: false }
    token: { type: Secret, default: a-token }
    image: { type: string, default: fern-12 }
    storage: { type: Size, default: 20 GiB }
    action: { type: string, default: "queue:read" }
    more: { type: integer, default: 0 }
    want: { type: integer, default: 1 }
    caches: { type: integer, default: 1 }
  node_templates:
    net: { type: Network, properties: { cidr: { $get_input: cidr } } }
    sub:
      type: Subnet
      properties: { cidr: 10.0.1.0/24 }
      requirements: [ { network: net } ]
    rules:
      type: Rules
      properties: { allow: [ { ports: "22", peer: { $get_input: peer } } ] }
      requirements: [ { network: net } ]
    reader:
      type: Server
      count: { $get_input: readers }
      properties: { size: small, image: { $get_input: image } }
      requirements: [ { subnet: sub }, { rules: rules } ]
    db:
      type: Database
      properties: { engine: relational, version: { $get_input: version }, size: { $get_input: size }, storage: { $get_input: storage }, admin: keeper, password: { $concat: [ pass-, { $get_input: token } ] } }
      requirements: [ { subnet: sub } ]
    group:
      type: ServerGroup
      properties: { size: small, image: fern-12, max: 3, want: { $get_input: want }, env: { DB: { $get_attribute: [ db, endpoint ] } } }
      requirements: [ { subnet: sub } ]
    frames: { type: Bucket, properties: { name: { $get_input: frames }, public_read: { $get_input: public } } }
    queue: { type: Queue, properties: { ordered: false } }
    note: { type: Topic, properties: { label: { $join: [ { $get_attribute: [ group, addresses ] }, " " ] } } }
    cache:
      type: Cache
      count: { $get_input: caches }
      properties: { engine: simple, size: small }
      requirements: [ { subnet: sub } ]
    letters: { type: Queue }
    role: { type: Role, properties: { for: server } }
    grant:
      type: Grant
      properties: { actions: [ { $get_input: action } ] }
      requirements: [ { role: role }, { "on": letters }, { "on": { node: net, count: { $get_input: more } } } ]
  policies:
    - guard: { type: Guard, targets: [ queue ] }
`

// fillsPlaces is a template that fills nodes of the type Place.
const fillsPlaces = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
node_types: { Place: { properties: { names: { type: list, entry_schema: string } } } }
service_template:
  inputs: { names: { type: list, entry_schema: string } }
  substitution_mappings: { node_type: Place, properties: { names: [ names ] } }
  node_templates:
    letters: { type: Queue, count: { $length: [ { $get_input: names } ] }, properties: { label: { $get_input: [ names, $node_index ] } } }
`

// beside are the files that a template of a test may import.
var beside = map[string]string{"inner.yaml": fillsPlaces}

func resolve(t *testing.T, text string, flags ...string) *stack.Wanted {
	t.Helper()
	f, findings := tosca.Read("t.yaml", []byte(text), tosca.Source{Profile: shipped.Load, Open: func(path string) ([]byte, error) {
		if beside[path] == "" {
			return nil, fs.ErrNotExist
		}
		return []byte(beside[path]), nil
	}})
	findings = append(findings, tosca.Check(f)...)
	var given []stack.Given
	for _, flag := range flags {
		g, err := stack.ParseFlag(flag, f.Service.Inputs)
		if err != nil {
			t.Fatal(err)
		}
		given = append(given, g)
	}
	w, more := stack.Resolve(f, stack.Options{Given: given})
	findings = slices.DeleteFunc(append(findings, more...), func(f tosca.Finding) bool { return f.Severity == tosca.Hint })
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	return w
}

// built is a stack as if it had just been deployed: recorded, and live.
func built(t *testing.T, text string, flags ...string) whatif.State {
	t.Helper()
	w := resolve(t, text, flags...)
	s := whatif.State{Stack: "test", Target: stack.Target{Account: "workshop", Region: "alder-1"}, BaseRevision: 1,
		Wanted: w, BaseInputs: w.Inputs, Live: map[string]*stack.Live{},
		Duration: whatif.Nominal(shipped.Library, 1), Knowledge: shipped}
	attrs := func(resource, name string) (tosca.Value, bool) {
		switch name {
		case "addresses":
			return tosca.List{tosca.String("10.0.1.4")}, true
		}
		return tosca.String(resource + "-" + name), true
	}
	for _, res := range w.Resources {
		props, _ := w.Late(res, attrs)
		r := &stack.Recorded{Name: res.Name, Type: res.Type.Name, ID: "id-" + res.Name, Properties: props,
			Links: map[string][]stack.LinkTo{}, Attributes: map[string]tosca.Value{},
			Fingerprints: map[string]tosca.Value{}, Needs: res.Needs, Policies: res.Policies}
		live := &stack.Live{ID: r.ID, Type: r.Type, Node: r.Name, Tags: map[string]string{"stack": s.Stack, "node": r.Name}, Properties: map[string]tosca.Value{},
			Links: map[string][]string{}, Attributes: map[string]tosca.Value{}}
		for k, v := range props {
			live.Properties[k] = v
			if tosca.HasSecret(v) {
				r.Fingerprints[k] = tosca.String("fp")
				live.Properties[k] = tosca.String("fp")
			}
		}
		for _, l := range res.Links {
			for _, n := range l.Targets {
				r.Links[l.Requirement] = append(r.Links[l.Requirement], stack.LinkTo{Name: n, ID: "id-" + n})
				live.Links[l.Requirement] = append(live.Links[l.Requirement], "id-"+n)
			}
		}
		for _, a := range res.Type.Attributes {
			r.Attributes[a.Name], _ = attrs(res.Name, a.Name)
			live.Attributes[a.Name] = r.Attributes[a.Name]
		}
		s.Recorded = append(s.Recorded, r)
		s.Live[r.ID] = live
	}
	return s
}

// change wants other inputs, or another template, of a built stack.
func change(t *testing.T, s whatif.State, text string, flags ...string) *whatif.ChangeSet {
	t.Helper()
	s.Wanted = resolve(t, text, flags...)
	return whatif.Compare(s)
}

// summary lists what changes: name kind [paths].
func summary(cs *whatif.ChangeSet) string {
	var out []string
	for _, ch := range cs.Changes {
		if ch.Kind == whatif.Same {
			continue
		}
		var paths []string
		if ch.Kind == whatif.Edit || ch.Kind == whatif.Swap {
			for _, p := range ch.Properties {
				s := p.Path
				if p.Effect == stack.Swap {
					s += "!"
				}
				paths = append(paths, s)
			}
		}
		out = append(out, strings.TrimSuffix(fmt.Sprintf("%s %s %s", ch.Name, ch.Kind, strings.Join(paths, ",")), " "))
	}
	slices.Sort(out)
	return strings.Join(out, "; ")
}

func TestNothingChanges(t *testing.T) {
	s := built(t, template)
	cs := whatif.Compare(s)
	if !cs.Empty() || cs.Tally.Same != 14 || cs.Estimate.Seconds != 0 || len(cs.Risks) != 0 || len(cs.Findings) != 0 {
		t.Errorf("a stack just built: %s, %+v, risks %v, findings %v", summary(cs), cs.Tally, cs.Risks, cs.Findings)
	}
}

func TestChanges(t *testing.T) {
	for _, test := range []struct{ flag, want string }{
		{"readers=3", "reader#2 new"},
		{"readers=1", "reader#1 drop"},
		{"size=large", "db edit size"},
		{"token=other", "db edit password"},
		{"peer=10.9.0.0/16", "rules edit allow[0].peer"},
		{"image=fern-13", "reader#0 swap image!; reader#1 swap image!"},
		{"frames=other-frames", "frames swap name!"},
		{"want=2", "group edit want; note edit label"},
		{"version=16", "db edit version"},
		{"version=14", "db swap version!; group edit env.DB; note edit label"},
		{"caches=0", "cache#0 drop"},
	} {
		s := built(t, template)
		cs := change(t, s, template, test.flag)
		if got := summary(cs); got != test.want {
			t.Errorf("-i %s: %s, want %s", test.flag, got, test.want)
		}
	}
}

func TestASwapSpreads(t *testing.T) {
	cs := change(t, built(t, template), template, "cidr=10.0.0.0/15")
	want := "cache#0 swap subnet!; db swap subnet!; group swap env.DB,subnet!; net swap cidr!; note edit label; reader#0 swap subnet!,rules; reader#1 swap subnet!,rules; rules swap network!; sub swap network!"
	if got := summary(cs); got != want {
		t.Errorf("a network that is swapped: %s\nwant %s", got, want)
	}
	if then := cs.Change("net").Then; !slices.Equal(then,
		[]string{"cache#0", "db", "group", "note", "reader#0", "reader#1", "rules", "sub"}) {
		t.Errorf("what follows from the network: %v", then)
	}
	if then := cs.Change("reader#0").Then; len(then) != 0 {
		t.Errorf("what follows from a server: %v", then)
	}
	for _, p := range cs.Change("group").Properties {
		if p.Path == "env.DB" && (!p.Unknown || tosca.Show(p.After) != "set by the cloud") {
			t.Errorf("env.DB is %+v", p)
		}
	}
}

func TestCauses(t *testing.T) {
	s := built(t, template)
	for _, test := range []struct{ flag, name, want string }{
		{"size=large", "db", "input size is large, was small (-i size=large)"},
		{"token=other", "db", "input token, a secret, was changed (-i token=(secret))"},
		{"readers=3", "reader#2", "input readers is 3, was 2 (-i readers=3)"},
		{"readers=1", "reader#1", "input readers is 1, was 2 (-i readers=1)"},
		{"version=14", "group", "endpoint of ⇅ db changes"},
		{"cidr=10.0.0.0/15", "sub", "⇅ net gets a new id"},
	} {
		ch := change(t, s, template, test.flag).Change(test.name)
		if !slices.Contains(ch.Because, test.want) {
			t.Errorf("-i %s: %s because %q, want %q", test.flag, test.name, ch.Because, test.want)
		}
	}
	text := strings.Replace(template, "size: small, image: { $get_input: image }",
		"size: large, image: { $get_input: image }", 1)
	if ch := change(t, s, text).Change("reader#0"); !strings.Contains(strings.Join(ch.Because, ";"),
		"the template says so: size, t.yaml:32") {
		t.Errorf("a line of the template: %q", ch.Because)
	}
	gone := strings.Replace(template, "    queue: { type: Queue, properties: { ordered: false } }\n",
		"    news: { type: Topic }\n", 1)
	gone = strings.Replace(gone, "targets: [ queue ]", "targets: [ net ]", 1)
	cs := change(t, s, gone)
	if got := fmt.Sprint(cs.Change("queue").Because, cs.Change("news").Because); !strings.Contains(got,
		"no longer in the template") || !strings.Contains(got, "not yet built") {
		t.Errorf("one gone, one new: %s", got)
	}
	if !cs.Findings.HasErrors() || cs.Findings[0].Code != "guarded" {
		t.Errorf("a guarded queue is dropped: %v", cs.Findings)
	}
	for _, ch := range cs.Changes {
		if ch.Kind != whatif.Same && len(ch.Because) == 0 {
			t.Errorf("%s %s without a cause", ch.Name, ch.Kind)
		}
	}
}

func TestMargin(t *testing.T) {
	for _, test := range []struct {
		estimates, took []float64
		want            string
	}{
		{nil, nil, ""}, {[]float64{10, 10}, []float64{11, 12}, ""},
		{[]float64{10, 10, 10}, []float64{11, 9, 12}, "± 20 %"},
		{[]float64{10, 10, 10, 10, 10}, []float64{10, 11, 9.5, 8, 40}, "± 20 %"}, // four of five
		{[]float64{10, 10, 10}, []float64{10, 10, 10}, "± 1 %"},
		{[]float64{10, 10, 10}, []float64{50, 60, 70}, "(such estimates were far off here)"},
	} {
		if got := whatif.MarginOf(test.estimates, test.took).String(); got != test.want {
			t.Errorf("%v took %v: %q, want %q", test.estimates, test.took, got, test.want)
		}
	}
}

func TestRisks(t *testing.T) {
	keep := strings.Replace(template, "- guard:", "- keep: { type: Keep, targets: [ db ] }\n    - guard:", 1)
	for _, test := range []struct {
		name, text, flag string
		want             []string
	}{
		{"a database swapped", template, "version=14", []string{"data db"}},
		{"a database swapped and kept", keep, "version=14", []string{"data db"}},
		{"a bucket swapped", template, "frames=other-frames", []string{"data frames"}},
		{"a cache dropped", template, "caches=0", nil},
		{"a server dropped", template, "readers=0", nil},
		{"a port opened", template, "peer=0.0.0.0/0", []string{"open rules"}},
		{"a port opened to half of all", template, "peer=0.0.0.0/1", []string{"open rules"}},
		{"a bucket opened", template, "public=true", []string{"open frames"}},
		{"a database that restarts", template, "size=large", []string{"interruption db"}},
		{"a database that grows", template, "storage=40 GiB", nil},
		{"a server group edited", template, "want=2", nil},
		{"a secret changed", template, "token=other", []string{"secret db"}},
		{"a permission added", template, "action=queue:write", []string{"permission grant"}},
		{"everything permitted", template, "action=queue:*", []string{"permission grant"}},
		{"a permission on more", template, "more=1", []string{"permission grant"}},
	} {
		var got []string
		for _, r := range change(t, built(t, test.text), test.text, test.flag).Risks {
			got = append(got, string(r.Kind)+" "+r.Resource)
		}
		if !slices.Equal(got, test.want) {
			t.Errorf("%s: risks %v, want %v", test.name, got, test.want)
		}
	}
	for name, test := range map[string]struct{ from, to, want string }{
		"a server that restarts, on which nothing rests": {"size: small, image: { $get_input: image }",
			"size: large, image: { $get_input: image }", "interruption reader#0, interruption reader#1"},
		"a subnet that becomes public": {"cidr: 10.0.1.0/24 }", "cidr: 10.0.1.0/24, public: true }",
			"open sub"},
		"a guard taken off":                {"{ type: Guard, targets: [ queue ] }", "{ type: Guard, targets: [ letters ] }", "policy queue"},
		"objects that are kept for a time": {"public_read: { $get_input: public } }", "public_read: { $get_input: public }, keep_days: 90 }", "data frames"},
	} {
		if !strings.Contains(template, test.from) {
			t.Fatalf("%s: there is no %q", name, test.from)
		}
		var got []string
		for _, r := range change(t, built(t, template), strings.Replace(template, test.from, test.to, 1)).Risks {
			got = append(got, string(r.Kind)+" "+r.Resource)
		}
		if strings.Join(got, ", ") != test.want {
			t.Errorf("%s: %q, want %q", name, got, test.want)
		}
	}
	kept := func(days string) string {
		return strings.Replace(template, "public_read: { $get_input: public } }", "public_read: { $get_input: public }, keep_days: "+days+" }", 1)
	}
	for to, want := range map[string]int{"90": 1, "365": 0, "400": 0} {
		if cs := change(t, built(t, kept("365")), kept(to)); len(cs.Risks) != want {
			t.Errorf("from 365 days to %s: %v", to, cs.Risks)
		}
	}
	if risks := whatif.Compare(whatif.State{Wanted: resolve(t, strings.Replace(template, "cidr: 10.0.1.0/24 }", "cidr: 10.0.1.0/24, public: true }", 1)),
		Duration: whatif.Nominal(shipped.Library, 1), Knowledge: shipped}).Risks; len(risks) != 1 || risks[0].Resource != "sub" {
		t.Errorf("a new public subnet: %v", risks)
	}
	open := built(t, template, "peer=0.0.0.0/0")
	if cs := change(t, open, template, "peer=0.0.0.0/0", "storage=30 GiB"); len(cs.Risks) != 0 {
		t.Errorf("a port that was open before is raised again: %v", cs.Risks)
	}
	fresh := whatif.State{Wanted: resolve(t, template, "peer=0.0.0.0/0"),
		Duration: whatif.Nominal(shipped.Library, 1), Knowledge: shipped}
	if cs := whatif.Compare(fresh); len(cs.Risks) != 1 || cs.Tally.New != 14 {
		t.Errorf("a first deployment: %v, %+v", cs.Risks, cs.Tally)
	}
}

// TestMovedItems warns where the first item is taken from a list, or one is put
// before it, and not where that happens at the end.
func TestMovedItems(t *testing.T) {
	const huts = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { huts: { type: list, entry_schema: string } }
  node_templates:
    alarm: { type: Topic, count: { $length: [ { $get_input: huts } ] }, properties: { label: { $get_input: [ huts, $node_index ] } } }
`
	for _, test := range []struct {
		from, to string
		warns    bool
	}{
		{"[ crag, col, lake ]", "[ col, lake ]", true},
		{"[ crag, col, lake ]", "[ crag, lake ]", true},
		{"[ crag, col ]", "[ top, crag, col ]", true},
		{"[ crag, col, lake ]", "[ crag, col ]", false},
		{"[ crag, col ]", "[ crag, col, lake ]", false},
		{"[ crag, col, lake ]", "[ glen, moor ]", false},
		{"[ crag, col, lake ]", "[ crag, glen, lake ]", false},
	} {
		cs := change(t, built(t, huts, "huts="+test.from), huts, "huts="+test.to)
		if got := strings.Contains(fmt.Sprint(cs.Findings), "moved-items"); got != test.warns {
			t.Errorf("%s to %s: %v", test.from, test.to, cs.Findings)
		}
		if cs.Findings.HasErrors() {
			t.Errorf("%s to %s is refused: %v", test.from, test.to, cs.Findings)
		}
	}
}

func TestByHandInTheCloud(t *testing.T) {
	s := built(t, template)
	s.Live["id-db"].Properties["size"] = tosca.String("xlarge")
	s.Live["id-db"].By = stack.AuthorOf("warden@hut", "")
	s.Live["id-queue"].Properties["label"] = tosca.String("mine")
	delete(s.Live, "id-frames")
	cs := whatif.Compare(s)
	if got := summary(cs); got != "db edit size; frames new; queue edit label" {
		t.Errorf("after changes by hand: %s", got)
	}
	for name, words := range map[string]string{"db": "changed by hand in the cloud, by warden@hut", "queue": "changed in the cloud outside of this store", "frames": "gone from the cloud"} {
		if got := strings.Join(cs.Change(name).Because, "; "); !strings.Contains(got, words) {
			t.Errorf("%s because %s", name, got)
		}
	}
	if cs.Change("db").Properties[0].Before != tosca.String("xlarge") {
		t.Errorf("before: %v", cs.Change("db").Properties[0].Before)
	}
}

func TestKeptAndDeleted(t *testing.T) {
	keep := strings.Replace(template, "- guard: { type: Guard, targets: [ queue ] }",
		"- keep: { type: Keep, targets: [ frames ] }", 1)
	s := built(t, keep)
	s.Wanted, _ = stack.Resolve(&tosca.File{Library: shipped.Library, Service: &tosca.ServiceTemplate{}},
		stack.Options{})
	s.Deleting = true
	cs := whatif.Compare(s)
	if cs.Tally.Drop != 13 || cs.Change("frames").Kind != whatif.Keep {
		t.Errorf("a deletion: %+v, frames %s", cs.Tally, cs.Change("frames").Kind)
	}
	if got := cs.Change("db").Because; !slices.Equal(got, []string{"the stack is deleted"}) {
		t.Errorf("because %v", got)
	}
}

func TestNamesStillTaken(t *testing.T) {
	s := built(t, template)
	renamed := strings.Replace(template, "    frames: { type: Bucket", "    pictures: { type: Bucket", 1)
	cs := change(t, s, renamed)
	if len(cs.Findings) != 2 || cs.Findings[0].Code != "name-still-taken" || cs.Findings[1].Code != "perhaps-renamed" {
		t.Errorf("a bucket under another node's name: %v", cs.Findings)
	}
}

func TestRangesStillTaken(t *testing.T) {
	s := built(t, template)
	for cidr, want := range map[string]string{"10.0.1.0/25": "range-still-taken", "10.0.0.0/16": "range-still-taken",
		"10.0.2.0/24": ""} {
		cs := change(t, s, strings.Replace(template, "cidr: 10.0.1.0/24", "cidr: "+cidr, 1))
		got := ""
		if len(cs.Findings) > 0 {
			got = cs.Findings[0].Code
		}
		if got != want {
			t.Errorf("a subnet that becomes %s: %v, want %q", cidr, cs.Findings, want)
		}
	}
	// A new network has room of its own.
	text := strings.Replace(template, "cidr: 10.0.1.0/24", "cidr: 10.0.1.0/25", 1)
	if cs := change(t, s, text, "cidr=10.0.0.0/15"); len(cs.Findings) > 0 {
		t.Errorf("in a new network: %v", cs.Findings)
	}
}

// TestOneRouter gives the one router of a network another name: the old one leaves at the end of the run only.
func TestOneRouter(t *testing.T) {
	with := func(name string) string {
		return strings.Replace(template, "    queue: {", "    "+name+": { type: Router, requirements: [ { network: net } ] }\n    queue: {", 1)
	}
	s := built(t, with("way"))
	if cs := change(t, s, with("pass")); !slices.ContainsFunc(cs.Findings, func(f tosca.Finding) bool { return f.Code == "one-router" }) {
		t.Errorf("a router under another name: %v", cs.Findings)
	}
	if cs := change(t, s, with("pass"), "cidr=10.0.0.0/15"); slices.ContainsFunc(cs.Findings, func(f tosca.Finding) bool { return f.Code == "one-router" }) {
		t.Errorf("in a new network: %v", cs.Findings)
	}
}

func TestAnotherType(t *testing.T) {
	s := built(t, template)
	text := strings.Replace(template, "queue: { type: Queue, properties: { ordered: false } }",
		"queue: { type: Topic }", 1)
	text = strings.Replace(text, "targets: [ queue ]", "targets: [ net ]", 1)
	for _, r := range s.Recorded {
		r.Guard = false
	}
	cs := change(t, s, text)
	if ch := cs.Change("queue"); ch.Kind != whatif.Swap ||
		!strings.Contains(ch.Because[0], "its type is Topic, was Queue") {
		t.Errorf("%s because %v", ch.Kind, ch.Because)
	}
}

func TestEstimate(t *testing.T) {
	s := built(t, template)
	for flag, want := range map[string]float64{
		"readers=3":  14,              // one server
		"size=large": 22.5,            // half a database
		"version=16": 22.5,            // the same, last
		"version=14": 45 + 7 + 1 + 18, // a database, the group's edit, the note, then the old database goes
		"readers=1":  5.6,             // a server goes
	} {
		if cs := change(t, s, template, flag); cs.Estimate.Seconds != want {
			t.Errorf("-i %s: %v s, want %v (%v)", flag, cs.Estimate.Seconds, want, cs.Estimate.Way())
		}
	}
	if cs := change(t, s, template, "version=16"); !cs.Change("db").OneWay {
		t.Error("a version that goes up could be put back")
	}
	if cs := change(t, s, template, "size=large"); cs.Change("db").OneWay {
		t.Error("a size could not be put back")
	}
}

func TestJSON(t *testing.T) {
	text, err := json.Marshal(change(t, built(t, template), template, "version=14", "token=hush-hush"))
	if err != nil {
		t.Fatal(err)
	}
	var out struct {
		Stack    string
		Target   string
		Base     int `json:"base_revision"`
		Tally    whatif.Tally
		Changes  []map[string]any
		Risks    []map[string]any
		Estimate float64 `json:"estimate_seconds"`
	}
	if err := json.Unmarshal(text, &out); err != nil {
		t.Fatal(err)
	}
	if out.Stack != "test" || out.Target != "workshop/alder-1" || out.Base != 1 || out.Tally.Swap != 1 ||
		len(out.Changes) != 3 || len(out.Risks) != 2 || out.Estimate == 0 {
		t.Errorf("%s", text)
	}
	for _, key := range []string{"name", "type", "kind", "properties", "because", "causes", "then", "patch"} {
		if _, ok := out.Changes[0][key]; !ok {
			t.Errorf("a change has no %s", key)
		}
	}
	for _, secret := range []string{"pass-", "a-token", "hush-hush"} {
		if strings.Contains(string(text), secret) {
			t.Errorf("the JSON shows %s", secret)
		}
	}
	empty, err := json.Marshal(whatif.Compare(built(t, template)))
	if err != nil || !strings.Contains(string(empty), `"changes":[],"risks":[]`) {
		t.Errorf("empty: %s %v", empty, err)
	}
}

func TestTallyWords(t *testing.T) {
	for want, tally := range map[string]whatif.Tally{"no changes": {Same: 4},
		"1 new, 2 drop": {New: 1, Drop: 2, Same: 1}, "3 edit, 1 swap": {Edit: 3, Swap: 1}} {
		if got := tally.String(); got != want {
			t.Errorf("%+v is %q", tally, got)
		}
	}
}

// BenchmarkCompare is the way from a changed input to the change set.
func BenchmarkCompare(b *testing.B) {
	var nodes strings.Builder
	for i := range 500 {
		fmt.Fprintf(&nodes,
			"    q%d: { type: Queue, properties: { keep: { $get_input: keep } } }\n    t%d: { type: Topic, properties: { label: { $get_attribute: [ q%d, url ] } } }\n", i, i, i)
	}
	text := "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs:\n    keep: { type: Duration, default: 2 d }\n  node_templates:\n" + nodes.String()
	t := &testing.T{}
	s := built(t, text)
	b.ResetTimer()
	for b.Loop() {
		s.Wanted = resolve(t, text, "keep=3 d")
		if cs := whatif.Compare(s); cs.Tally.Edit != 500 {
			b.Fatal(cs.Tally)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N)/1000, "µs/resource")
}

// TestCausesKnowTheLine compares with the resolved revision: a line that was
// changed is told apart from an input, a default and a change by hand.
func TestCausesKnowTheLine(t *testing.T) {
	s := built(t, template)
	s.Base = s.Wanted
	for _, test := range []struct{ old, new, name, kind, want string }{
		{"size: small, image: { $get_input: image }", "size: large, image: { $get_input: image }", "reader#0",
			"template", "the template says large for size, said small"},
		{"cidr: 10.0.1.0/24 }", "cidr: 10.0.1.0/24, public: true }", "sub", "template",
			"the template says true for public, said false"},
		{"queue: { type: Queue, properties: { ordered: false } }",
			"queue: { type: Queue, properties: { keep: 2 d } }", "queue", "template",
			"the template says 2 d for keep, said 4 d"},
		{"size: default: small", "", "", "", ""},
	} {
		if test.name == "" {
			continue
		}
		if !strings.Contains(template, test.old) {
			t.Fatalf("no %s", test.old)
		}
		ch := change(t, s, strings.Replace(template, test.old, test.new, 1)).Change(test.name)
		if !slices.ContainsFunc(ch.Causes, func(k whatif.Cause) bool {
			return string(k.Kind) == test.kind && strings.HasPrefix(k.Text, test.want) && k.Pos.Line > 0 && k.Path != ""
		}) {
			t.Errorf("%s: causes %+v, want %s: %s", test.name, ch.Causes, test.kind, test.want)
		}
	}
	both := change(t, s, strings.Replace(template, "version: { $get_input: version }, size: { $get_input: size }",
		"version: { $get_input: version }, size: large", 1)).Change("db")
	if len(both.Causes) != 1 || both.Causes[0].Kind != whatif.Template {
		t.Errorf("a line changed, and no input: %+v", both.Causes)
	}
	s.Live["id-queue"].Properties["label"] = tosca.String("mine")
	s.Live["id-note"].Properties["label"] = tosca.String("by hand")
	hand := change(t, s, strings.Replace(template,
		`label: { $join: [ { $get_attribute: [ group, addresses ] }, " " ] }`, "label: written", 1))
	if got := strings.Join(hand.Change("queue").Because, ";"); !strings.Contains(got, "deploying puts it back") {
		t.Errorf("changed by hand alone: %s", got)
	}
	if got := strings.Join(hand.Change("note").Because, ";"); !strings.Contains(got,
		"and here too (it was 10.0.1.4); deploying takes what stands here") {
		t.Errorf("changed on both sides: %s", got)
	}
}

// TestEveryChangeOfAPropertyHasACause makes random edits and looks at each.
func TestEveryChangeOfAPropertyHasACause(t *testing.T) {
	s := built(t, template)
	s.Base = s.Wanted
	random := rand.New(rand.NewPCG(7, 7))
	flags := []string{"cidr=10.0.0.0/15", "readers=0", "readers=4", "version=16", "version=14", "size=large",
		"peer=0.0.0.0/0", "frames=other-frames", "public=true", "token=new", "image=fern-13", "want=3", "caches=2",
		"storage=30 GiB", "action=queue:*", "more=1"}
	for range 200 {
		var some []string
		for _, f := range flags {
			if random.IntN(4) == 0 {
				some = append(some, f)
			}
		}
		cs := change(t, s, template, some...)
		for _, ch := range cs.Changes {
			for _, p := range ch.Properties {
				if ch.Kind != whatif.Edit && ch.Kind != whatif.Swap || p.Path == "policies" {
					continue
				}
				if !slices.ContainsFunc(ch.Causes, func(k whatif.Cause) bool { return k.Path == p.Path }) {
					t.Fatalf("%v: %s.%s has no cause among %+v", some, ch.Name, p.Path, ch.Causes)
				}
			}
			if ch.Kind == whatif.Same && (len(ch.Properties) > 0 || len(ch.Causes) > 0) {
				t.Fatalf("%v: %s stays the same, with %v", some, ch.Name, ch.Causes)
			}
		}
	}
}

func TestOpenedPerResource(t *testing.T) {
	rules := func(extra string) string {
		return strings.Replace(template, "      requirements: [ { subnet: sub }, { rules: rules } ]\n    db:",
			"      requirements: [ { subnet: sub }, { rules: rules } ]\n"+extra+"    db:", 1)
	}
	open := built(t, rules(""), "peer=0.0.0.0/0")
	cs := change(t, open,
		rules("    gate: { type: Server, properties: { size: small, image: fern-12 }, requirements: [ { subnet: sub }, { rules: rules } ] }\n"), "peer=0.0.0.0/0")
	if len(cs.Risks) != 1 || !strings.HasSuffix(cs.Risks[0].Text, "port 22 (tcp) of gate") {
		t.Errorf("a server put behind open rules: %+v", cs.Risks)
	}
	cs = change(t, open, rules(""), "peer=0.0.0.0/0")
	if len(cs.Risks) != 0 || len(cs.Standing) != 1 || !cs.Standing[0].Standing {
		t.Errorf("what was open before: %+v %+v", cs.Risks, cs.Standing)
	}
	open.Careful = true
	if cs = change(t, open, rules(""), "peer=0.0.0.0/0", "want=2"); len(cs.Risks) != 1 ||
		cs.Risks[0].Kind != whatif.RiskCareful {
		t.Errorf("a careful target: %+v", cs.Risks)
	}
}

func TestMarkdown(t *testing.T) {
	text := change(t, built(t, template), template, "version=14", "token=hush-hush", "readers=1").Markdown()
	for _, want := range []string{"# test in workshop/alder-1", "2 edit, 1 swap, 1 drop", "- **data** db is swapped",
		"### ⇅ swap `db`", "| version | `15` | `14` | forces the swap |", "(secret)", "- because input version is 14",
		"- then 2 more: group, note", "set by the cloud", "### ▽ drop `reader#1`"} {
		if !strings.Contains(text, want) {
			t.Errorf("there is no %q in\n%s", want, text)
		}
	}
	if strings.Contains(text, "hush") {
		t.Error("it shows a secret")
	}
	if empty := whatif.Compare(built(t, template)).Markdown(); !strings.Contains(empty, "Nothing would change") {
		t.Error(empty)
	}
}

// TestEstimateByPastRuns wants the median of past runs along the chain, and
// words for how sure that is.
func TestEstimateByPastRuns(t *testing.T) {
	s := built(t, template)
	s.Past = func(typ string, k whatif.Kind) []float64 {
		if typ == "Database" && k == whatif.Edit {
			return []float64{3, 2, 9, 2, 1}
		}
		return nil
	}
	e := change(t, s, template, "size=medium").Estimate
	// half of 45 s, doubled by the median
	if e.Seconds != 45 || e.Low != 45 || e.High != 67.5 || e.Sure() != "by 5 past runs, 45 s to 1 min 07 s" ||
		e.Way() != "db 45 s" {
		t.Errorf("%+v %s, %s", e, e.Way(), e.Sure())
	}
	e = change(t, s, template, "size=medium", "want=2").Estimate
	if e.Sure() != "1 of 3 by past runs, the rest by nominal times" ||
		e.Way() != "db 45 s › group 9.0 s › note 1.0 s" || e.Seconds != 55 {
		t.Errorf("%+v %s, %s", e, e.Way(), e.Sure())
	}
	if e = change(t, s, template, "want=2").Estimate; e.Sure() != "by nominal times; no past run tells more" {
		t.Errorf("%+v %s", e, e.Sure())
	}
	if e = change(t, s, template, "readers=600").Estimate; !e.Crowded ||
		!strings.HasPrefix(e.Sure(), "more to do than 16 at once") {
		t.Errorf("600 servers are not held up by the limit: %+v", e)
	}
}

// TestHandChanges wants to be told what becomes of a change by hand: put back,
// in conflict, or left.
func TestHandChanges(t *testing.T) {
	s := built(t, template)
	s.Live["id-db"].Properties["size"] = tosca.String("large")
	s.Live["id-group"].Properties["want"] = tosca.Int(3)
	s.Live["id-group"].By = stack.AuthorOf("warden@hut", "")
	s.Live["id-frames"].Properties["tags"] = tosca.Map{"bill": tosca.String("ridge")}
	s.Live["id-frames"].Properties["public_read"] = tosca.Bool(true)
	cs := change(t, s, template, "want=2", "public=true")
	text, err := json.Marshal(cs)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		`"path":"size","before":"large","after":"small","unknown":false,"effect":"in_place","by_hand":"put back"`,
		`"path":"want","before":3,"after":2,"unknown":false,"effect":"in_place","by_hand":"conflict"`,
		`"left":[{"resource":"frames","path":"tags.bill","text":"the tag bill is not one of the stack's, and stays"},{"resource":"frames","path":"public_read","text":"public_read was changed in the cloud outside of this store, and is just what is wanted: true"}]`,
		`conflict: want was changed by hand in the cloud, by warden@hut, and here too (it was 1); deploying takes what stands here`,
	} {
		if !strings.Contains(string(text), want) {
			t.Errorf("there is no %s in\n%s", want, text)
		}
	}
	if k := cs.Change("frames").Kind; k != whatif.Same {
		t.Errorf("frames is %s", k)
	}
	if cs := change(t, built(t, template), template); len(cs.Left) > 0 {
		t.Errorf("nothing was changed by hand: %v", cs.Left)
	}
}

// TestCausesOfCountsLinksAndPolicies wants the line that changed, with what it
// said before.
func TestCausesOfCountsLinksAndPolicies(t *testing.T) {
	s := built(t, template)
	s.Base = s.Wanted
	text := strings.NewReplacer("count: { $get_input: caches }", "count: 3", "[ { role: role }, { \"on\": letters }",
		"[ { role: role }, { \"on\": queue }", "guard: { type: Guard, targets: [ queue ] }",
		"guard: { type: Keep, targets: [ queue ] }").Replace(template)
	cs := change(t, s, text)
	for name, want := range map[string]string{
		"cache#1": "the count of cache is 3, was { $get_input: caches } (t.yaml:",
		"cache#2": "the count of cache is 3, was { $get_input: caches } (t.yaml:",
		"grant":   "the template says queue for on, said letters (t.yaml:",
		"queue":   "the policy Keep of the template applies to it now;the policy Guard of the template applies to it no longer",
	} {
		if got := strings.Join(cs.Change(name).Because, ";"); !strings.Contains(got, want) {
			t.Errorf("%s because %s, want %s", name, got, want)
		}
	}
}

// TestAlike wants changes that are the same told once, and no others.
func TestAlike(t *testing.T) {
	s := built(t, template, "readers=8", "caches=3")
	for _, name := range []string{"reader#3", "net", "sub"} {
		s.Live["id-"+name].Properties["label"] = tosca.String("by hand")
	}
	var got []string
	for _, a := range change(t, s, template, "readers=9", "caches=1", "image=fern-13").Alike() {
		got = append(got, fmt.Sprint(a.Kind, " ", a.Title(), " (", a.About(), ")"))
	}
	if want := "drop cache#1, cache#2 (Cache);swap reader#3 (Server, t.yaml:29);swap reader#0, reader#1 and 5 more (Server, t.yaml:29);edit net, sub (Network, Subnet);new reader#8 (Server, t.yaml:29)"; strings.Join(got, ";") != want {
		t.Errorf("%s, want %s", strings.Join(got, ";"), want)
	}
}

// TestPatchNamesOddKeys changes tags whose names have what paths are made of: the
// JSON Patch names each as one part.
func TestPatchNamesOddKeys(t *testing.T) {
	const odd = "tosca_definitions_version: tosca_2_0\nimports: [ { profile: \"brickrow.cloud:1\", namespace: \"\" } ]\nservice_template: { node_templates: { t: { type: Topic, properties: { tags: { \"snow.crew/desk[1]~\": VALUE } } } } }\n"
	s := built(t, strings.ReplaceAll(odd, "VALUE", "a"))
	s.Wanted = resolve(t, strings.ReplaceAll(odd, "VALUE", "b"))
	text, err := json.Marshal(whatif.Compare(s))
	if want := `"patch":[{"op":"replace","path":"/properties/tags/snow.crew~1desk[1]~0","value":"b"}]`; err != nil ||
		!strings.Contains(string(text), want) {
		t.Errorf("no %s in %s %v", want, text, err)
	}
}

// What kept something from being lost, and is taken off, is a risk; so is keeping less, and a new public subnet. Like ones are one line.
func TestRisksOfKeeping(t *testing.T) {
	var risks []whatif.Risk
	for i := range 7 {
		name := fmt.Sprint("net", i)
		risks = append(risks, whatif.Risk{Kind: whatif.RiskOpen, Resource: name, Text: name + " is open", Fix: "shut it"})
	}
	risks = append(risks, whatif.Risk{Kind: whatif.RiskData, Resource: "db", Text: "db goes"})
	lines := (&whatif.ChangeSet{Risks: risks}).RiskLines()
	if len(lines) != 2 || lines[0].Text != "7 alike: each is open: net0, net1, net2, net3, net4, net5, net6" || lines[1].Text != "db goes" {
		t.Errorf("%+v", lines)
	}
}

// TestCausesOfFilledNodes has a counted node inside of counted ones that another template fills, and wants
// the count that has changed as the cause, and never that something is not in the template which is.
func TestCausesOfFilledNodes(t *testing.T) {
	text := `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 }, inner.yaml ]
service_template:
  inputs:
    names: { type: list, entry_schema: string, default: [ a, b ] }
    places: { type: integer, default: 2 }
  node_templates:
    place: { type: Place, directives: [ substitute ], count: { $get_input: places }, properties: { names: { $get_input: names } } }
    role: { type: Role, properties: { for: server } }
    posts: { type: Queue, count: { $get_input: places } }
    grant: { type: Grant, properties: { actions: [ "queue:read" ] }, requirements: [ { role: role }, { "on": { node: posts, count: { $get_input: places } } } ] }
`
	s := built(t, text)
	s.Base = s.Wanted
	all := func(text string, flags ...string) map[string]string {
		out := map[string]string{}
		for _, ch := range change(t, s, text, flags...).Changes {
			if ch.Kind != whatif.Same {
				out[ch.Name] = strings.Join(ch.Because, "; ")
			}
		}
		return out
	}
	for _, test := range []struct {
		flags      []string
		name, want string
	}{
		{[]string{"names=[a]"}, "place#1/letters#1", "input names is [a], was [a, b] (-i names=[a])"},
		{[]string{"places=1"}, "place#1/letters#0", "input places is 1, was 2 (-i places=1)"},
		{[]string{"places=3"}, "place#2/letters#1", "input places is 3, was 2 (-i places=3)"},
		{[]string{"places=3"}, "grant", "▲ posts#2 is new"},
		{[]string{"places=1"}, "grant", "input places is 1, was 2 (-i places=1)"},
		{[]string{"names=[b, b]"}, "place#0/letters#0", "input names is [b, b], was [a, b] (-i names=[b, b])"},
	} {
		if got := all(text, test.flags...)[test.name]; got != test.want {
			t.Errorf("%v: %s because %q, want %q", test.flags, test.name, got, test.want)
		}
	}
	single := strings.Replace(text, "directives: [ substitute ], count: { $get_input: places }", "directives: [ substitute ]", 1)
	if got := all(single)["place#1/letters#0"]; got != "place has no count any more (t.yaml:8)" {
		t.Errorf("a count that is taken away: %s", got)
	}
}
