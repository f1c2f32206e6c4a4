package precheck_test

import (
	"slices"
	"strings"
	"testing"

	"brickrow/internal/cloud"
	"brickrow/internal/precheck"
	"brickrow/internal/profile"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

var shipped = profile.Read()

const head = "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n"

// wanted resolves node templates; existing is what selections find.
func wanted(t *testing.T, nodes string, existing ...stack.Found) *stack.Wanted {
	t.Helper()
	f, findings := tosca.Read("t.yaml", []byte(head+nodes), tosca.Source{Profile: shipped.Load})
	w, more := stack.CheckAndResolve(f, stack.Options{Existing: func(typ string) []stack.Found {
		return slices.DeleteFunc(slices.Clone(existing), func(f stack.Found) bool { return f.Type != typ })
	}})
	for _, f := range append(findings, more...) {
		if f.Severity == tosca.Error {
			t.Fatal(f)
		}
	}
	return w
}

// site is a target in which everything is allowed.
func site(all ...*stack.Live) *precheck.TargetState {
	images := []cloud.Resource{{ID: "image~moss-3", Type: "Image", Properties: map[string]any{"name": "moss-3"}}}
	return &precheck.TargetState{Target: stack.Target{Account: "workshop", Region: "alder-1"}, Stack: "mine",
		All: all, Taken: map[string]string{},
		About: &cloud.About{Actions: []string{"*:*"}, Images: images, FreeAddresses: 9}}
}

func live(id, typ, owner string, properties map[string]tosca.Value, links map[string][]string) *stack.Live {
	return &stack.Live{ID: id, Type: typ, State: "ready", Properties: properties, Links: links,
		Tags: map[string]string{"stack": owner}, Attributes: map[string]tosca.Value{}}
}

func codes(list tosca.Findings) string {
	var out []string
	for _, f := range list {
		out = append(out, f.Code)
	}
	return strings.Join(out, " ")
}

// changes makes every wanted resource new, but those recorded under an id.
func changes(w *stack.Wanted, recorded map[string]string, kinds map[string]whatif.Kind) *whatif.ChangeSet {
	cs := &whatif.ChangeSet{Stack: "mine"}
	for _, r := range w.Resources {
		ch := whatif.Change{Name: r.Name, Type: r.Type.Name, Kind: whatif.New, Wanted: r, Pos: r.Pos}
		if id := recorded[r.Name]; id != "" {
			ch.Kind, ch.Recorded = whatif.Same, &stack.Recorded{Name: r.Name, ID: id, Type: r.Type.Name}
		}
		if k := kinds[r.Name]; k != "" {
			ch.Kind = k
		}
		cs.Changes = append(cs.Changes, ch)
	}
	return cs
}

const (
	net    = "    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }\n"
	subnet = net + "    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: net } ] }\n"
)

func TestRules(t *testing.T) {
	server := func(more string) string {
		return subnet + "    s: { type: Server, properties: { size: small, image: moss-3" + more +
			" }, requirements: [ { subnet: sub } ] }\n"
	}
	for _, test := range []struct{ name, nodes, want string }{
		{"nothing wrong", server(""), ""},
		{"a tag of two lines", server(`, tags: { desk: "snow\nice" }`), "bad-tag"},
		{"a tag with a tab", server(`, tags: { desk: "snow\tice" }`), "bad-tag"},
		{"a tag whose name is not seen", server(`, tags: { "desk\u202e": ice }`), "bad-tag"},
		{"a tag of all that can be seen", server(`, tags: { "Tür 7/ü": "✓ 雪 – snow" }`), ""},
		{"a network too large", "    n: { type: Network, properties: { cidr: 10.0.0.0/7 } }\n", "bad-range"},
		{"an exact fit", net +
			"    s: { type: Subnet, properties: { cidr: 10.0.0.0/16 }, requirements: [ { network: net } ] }\n", ""},
		{"subnets of two networks", subnet +
			"    far: { type: Network, properties: { cidr: 10.0.0.0/16 } }\n    two: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: far } ] }\n", ""},
		{"a subnet larger than its network",
			net + "    s: { type: Subnet, properties: { cidr: 10.0.0.0/15 }, requirements: [ { network: net } ] }\n",
			"range-outside"},
		{"ports at their limits", net +
			"    r: { type: Rules, properties: { allow: [ { ports: 1-65535, peer: 10.0.0.0/8 }, { ports: any, peer: 10.0.0.0/8 } ] }, requirements: [ { network: net } ] }\n", ""},
		{"port zero", net +
			"    r: { type: Rules, properties: { allow: [ { ports: \"0\", peer: 10.0.0.0/8 } ] }, requirements: [ { network: net } ] }\n", "bad-ports"},
		{"a minor version", subnet +
			"    d: { type: Database, properties: { engine: relational, version: 15.10, size: small, storage: 1 GiB, admin: a, password: longenough }, requirements: [ { subnet: sub } ] }\n", ""},
		{"a full subnet", net +
			"    sub: { type: Subnet, properties: { cidr: 10.0.1.0/28 }, requirements: [ { network: net } ] }\n    s: { type: Server, count: 12, properties: { size: small, image: moss-3 }, requirements: [ { subnet: sub } ] }\n", "subnet-full"},
		{"just not full", net +
			"    sub: { type: Subnet, properties: { cidr: 10.0.1.0/28 }, requirements: [ { network: net } ] }\n    s: { type: Server, count: 11, properties: { size: small, image: moss-3 }, requirements: [ { subnet: sub } ] }\n", ""},
		{"needs nothing", server(", needs: []"), ""},
		{"needs without a role", server(", needs: [ queue:read ]"), "permission"},
		{"a schedule with steps",
			"    r: { type: Role, properties: { for: function } }\n    f: { type: Function, properties: { runtime: go-1 }, requirements: [ { role: r } ] }\n    s: { type: Schedule, properties: { every: \"*/5 0,12 1-7 * *\" }, requirements: [ { runs: f } ] }\n", ""},
		{"records of two kinds",
			"    z: { type: Zone, properties: { domain: a.example } }\n    a: { type: Record, properties: { name: www, kind: TXT, values: [ x ] }, requirements: [ { zone: z } ] }\n    b: { type: Record, properties: { name: www, kind: A, values: [ 192.0.2.1 ] }, requirements: [ { zone: z } ] }\n", ""},
		{"records of one kind",
			"    z: { type: Zone, properties: { domain: a.example } }\n    a: { type: Record, count: 2, properties: { name: www, kind: TXT, values: [ x ] }, requirements: [ { zone: z } ] }\n", "name-taken"},
		{"a CNAME beside another",
			"    z: { type: Zone, properties: { domain: a.example } }\n    a: { type: Record, properties: { name: www, kind: TXT, values: [ x ] }, requirements: [ { zone: z } ] }\n    b: { type: Record, properties: { name: www, kind: CNAME, values: [ b.example ] }, requirements: [ { zone: z } ] }\n", "name-taken"},
		{"the apex proves the domain",
			"    z: { type: Zone, properties: { domain: a.example } }\n    r: { type: Record, properties: { name: \"@\", kind: TXT, values: [ x ] }, requirements: [ { zone: z } ] }\n    c: { type: Certificate, properties: { domain: a.example }, requirements: [ { record: r } ] }\n", ""},
		{"a value the cloud sets is not judged",
			"    b: { type: Bucket, properties: { name: abc } }\n    z: { type: Zone, properties: { domain: a.example } }\n    r: { type: Record, properties: { name: www, kind: A, values: [ { $get_attribute: [ b, url ] } ] }, requirements: [ { zone: z } ] }\n", ""},
	} {
		if got := codes(precheck.Rules(shipped, wanted(t, test.nodes), precheck.Whole)); got != test.want {
			t.Errorf("%s: found %q, want %q", test.name, got, test.want)
		}
	}
}

func TestAgainst(t *testing.T) {
	const topic = "    t1: { type: Topic }\n"
	for _, test := range []struct {
		name, nodes, want string
		recorded          map[string]string
		kinds             map[string]whatif.Kind
		site              func() *precheck.TargetState
	}{
		{name: "all is well", nodes: subnet, site: func() *precheck.TargetState { return site() }},
		{name: "a quota used up", nodes: net, want: "quota", site: func() *precheck.TargetState {
			s := site()
			s.About.Limits = []cloud.Limit{{Type: "Network", Most: 5, Used: 5}}
			return s
		}},
		{name: "what is there already needs no quota", nodes: net, recorded: map[string]string{"net": "network~1"},
			site: func() *precheck.TargetState {
				s := site()
				s.About.Limits = []cloud.Limit{{Type: "Network", Most: 5, Used: 5}}
				return s
			}},
		{name: "a swap needs room for both", nodes: net, want: "quota",
			recorded: map[string]string{"net": "network~1"}, kinds: map[string]whatif.Kind{"net": whatif.Swap},
			site: func() *precheck.TargetState {
				s := site()
				s.About.Limits = []cloud.Limit{{Type: "Network", Most: 5, Used: 5}}
				return s
			}},
		{name: "no addresses left", nodes: "    a: { type: Address, count: 2 }\n", want: "no-address",
			site: func() *precheck.TargetState {
				s := site()
				s.About.FreeAddresses = 1
				return s
			}},
		{name: "may not create", nodes: topic, want: "not-permitted", site: func() *precheck.TargetState {
			s := site()
			s.About.Actions = []string{"*:change", "queue:*"}
			return s
		}},
		{name: "a swap takes both permissions", nodes: topic, want: "not-permitted",
			recorded: map[string]string{"t1": "topic~1"}, kinds: map[string]whatif.Kind{"t1": whatif.Swap},
			site: func() *precheck.TargetState {
				s := site()
				s.About.Actions = []string{"*:create"}
				return s
			}},
		{name: "an edit takes one", nodes: topic, recorded: map[string]string{"t1": "topic~1"},
			kinds: map[string]whatif.Kind{"t1": whatif.Edit}, site: func() *precheck.TargetState {
				s := site()
				s.About.Actions = []string{"topic:change"}
				return s
			}},
		{name: "an image that is not here",
			nodes: subnet +
				"    s: { type: Server, properties: { size: small, image: fern-12 }, requirements: [ { subnet: sub } ] }\n", want: "no-such-image", site: func() *precheck.TargetState { return site() }},
		{name: "a name in another account", nodes: "    b: { type: Bucket, properties: { name: abc } }\n",
			want: "name-taken", site: func() *precheck.TargetState {
				s := site()
				s.Taken["Bucket/abc"] = "?"
				return s
			}},
		{name: "a name that is its own", nodes: "    b: { type: Bucket, properties: { name: abc } }\n",
			recorded: map[string]string{"b": "bucket~1"}, kinds: map[string]whatif.Kind{"b": whatif.Edit},
			site: func() *precheck.TargetState {
				s := site(live("bucket~1", "Bucket", "mine", nil, nil))
				s.Taken["Bucket/abc"] = "bucket~1"
				return s
			}},
		{name: "a neighbour in the range", nodes: subnet, want: "range-overlap",
			recorded: map[string]string{"net": "network~1"}, site: func() *precheck.TargetState {
				return site(live("subnet~9", "Subnet", "other",
					map[string]tosca.Value{"cidr": tosca.String("10.0.1.128/25")},
					map[string][]string{"network": {"network~1"}}))
			}},
		{name: "a neighbour elsewhere", nodes: subnet, recorded: map[string]string{"net": "network~1"},
			site: func() *precheck.TargetState {
				return site(live("subnet~9", "Subnet", "other",
					map[string]tosca.Value{"cidr": tosca.String("10.0.1.128/25")},
					map[string][]string{"network": {"network~2"}}))
			}},
		{name: "what it rests on has failed", nodes: subnet, want: "not-ready",
			recorded: map[string]string{"net": "network~1"}, site: func() *precheck.TargetState {
				l := live("network~1", "Network", "mine", nil, nil)
				l.State = "failed"
				return site(l)
			}},
		{name: "what others use is swapped", nodes: net, want: "in-use",
			recorded: map[string]string{"net": "network~1"}, kinds: map[string]whatif.Kind{"net": whatif.Swap},
			site: func() *precheck.TargetState {
				l := live("network~1", "Network", "mine", nil, nil)
				l.UsedBy = []string{"subnet~9"}
				return site(l, live("subnet~9", "Subnet", "other", nil, nil))
			}},
	} {
		w := wanted(t, test.nodes)
		if got := codes(precheck.Against(shipped, test.site(), w, changes(w, test.recorded, test.kinds),
			precheck.Whole)); got != test.want {
			t.Errorf("%s: found %q, want %q", test.name, got, test.want)
		}
	}
}

func TestAgainstWhatIsSelected(t *testing.T) {
	role := stack.Found{Type: "Role", ID: "role~1",
		Properties: map[string]tosca.Value{"for": tosca.String("server"), "label": tosca.String("readers")}}
	nodes := subnet + "    r: { type: Role, directives: [ select ], node_filter: { $equal: [ { $get_property: [ SELF, label ] }, readers ] } }\n" +
		"    s: { type: Server, properties: { size: small, image: moss-3, needs: [ queue:read ] }, requirements: [ { subnet: sub }, { role: r } ] }\n"
	w := wanted(t, nodes, role)
	if got := codes(precheck.Rules(shipped, w, precheck.Whole)); got != "" {
		t.Errorf("a role that is there, without asking the target: %s", got)
	}
	if got := codes(precheck.Against(shipped, site(), w, changes(w, nil, nil), precheck.Whole)); got != "permission" {
		t.Errorf("no grant in the target: %s", got)
	}
	grant := live("grant~1", "Grant", "other", map[string]tosca.Value{"actions": tosca.List{tosca.String("queue:*")}},
		map[string][]string{"role": {"role~1"}})
	if got := codes(precheck.Against(shipped, site(grant), w, changes(w, nil, nil), precheck.Whole)); got != "" {
		t.Errorf("a grant in the target: %s", got)
	}
	if names := precheck.Named(shipped, wanted(t,
		"    b: { type: Bucket, count: 2, properties: { name: { $concat: [ abc-, $node_index ] } } }\n"), ""); len(names) != 2 || names[1] != [2]string{"Bucket", "abc-1"} {
		t.Errorf("names that are unique in the cloud: %v", names)
	}
}
