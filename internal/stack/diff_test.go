package stack_test

import (
	"fmt"
	"strings"
	"testing"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// changes diffs a resource of a template against a record, and shows each
// change as one text.
func changes(t *testing.T, w *stack.Wanted, rec *stack.Recorded, live *stack.Live, ids map[string]string) []string {
	t.Helper()
	res := w.Resource(rec.Name)
	props := map[string]tosca.Value{}
	for _, p := range res.Properties {
		props[p.Name] = p.Value
	}
	var out []string
	for _, c := range stack.Diff(res, props, rec, live, func(n string) string { return ids[n] }) {
		s := fmt.Sprintf("%s: %s → %s %s", c.Path, tosca.Show(c.Before), tosca.Show(c.After), c.Effect)
		if c.OffRecord {
			s += " by hand"
		}
		if c.Unknown {
			s += " unknown"
		}
		out = append(out, s)
	}
	return out
}

// record is what a template would have recorded.
func record(w *stack.Wanted, name string) *stack.Recorded {
	res := w.Resource(name)
	rec := &stack.Recorded{Name: name, Type: res.Type.Name, ID: "id-" + name, Properties: map[string]tosca.Value{},
		Links: map[string][]stack.LinkTo{}, Fingerprints: map[string]tosca.Value{}}
	for _, p := range res.Properties {
		rec.Properties[p.Name] = p.Value
	}
	for _, l := range res.Links {
		for _, n := range l.Targets {
			rec.Links[l.Requirement] = append(rec.Links[l.Requirement], stack.LinkTo{Name: n, ID: "id-" + n})
		}
	}
	return rec
}

const database = `
  inputs:
    version: { type: version, default: "15" }
    storage: { type: Size, default: 20 GiB }
    size: { type: string, default: small }
    password: { type: Secret, default: long-enough }
    days: { type: integer, default: 7 }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub:
      type: Subnet
      properties: { cidr: 10.0.1.0/24 }
      requirements: [ { network: net } ]
    db:
      type: Database
      properties:
        engine: relational
        version: { $get_input: version }
        size: { $get_input: size }
        storage: { $get_input: storage }
        admin: keeper
        password: { $get_input: password }
        backup_days: { $get_input: days }
      requirements: [ { subnet: sub } ]
`

func TestDiff(t *testing.T) {
	ids := map[string]string{"sub": "id-sub", "net": "id-net"}
	was := sound(t, database)
	for _, test := range []struct{ flag, want string }{
		{"size=small", "[]"},
		{"size=medium", "[size: small → medium in_place]"},
		{"version=16", "[version: 15 → 16 in_place]"},
		{"version=15.10", "[version: 15 → 15.10 in_place]"},
		{"version=14", "[version: 15 → 14 swap]"},
		{"storage=40 GiB", "[storage: 20 GiB → 40 GiB in_place]"},
		{"storage=20480 MiB", "[]"},
		{"storage=10 GiB", "[storage: 20 GiB → 10 GiB swap]"},
		{"password=other-enough", "[password: (secret) → (secret) in_place]"},
		{"days=0", "[backup_days: 7 → 0 in_place]"},
	} {
		if got := fmt.Sprint(changes(t, sound(t, database, test.flag), record(was, "db"), nil, ids)); got != test.want {
			t.Errorf("-i %s: %s, want %s", test.flag, got, test.want)
		}
	}
}

func TestDiffOfLinks(t *testing.T) {
	w := sound(t, database)
	rec := record(w, "db")
	if got := fmt.Sprint(changes(t, w, rec, nil, map[string]string{"sub": "id-sub"})); got != "[]" {
		t.Errorf("nothing changes: %s", got)
	}
	if got := fmt.Sprint(changes(t, w, rec, nil,
		map[string]string{"sub": ""})); got != "[subnet: sub → sub swap unknown]" {
		t.Errorf("the subnet is swapped: %s", got)
	}
	rec.Links["rules"] = []stack.LinkTo{{Name: "old_rules", ID: "id-old"}}
	if got := fmt.Sprint(changes(t, w, rec, nil,
		map[string]string{"sub": "id-sub"})); got != "[rules: old_rules → – in_place]" {
		t.Errorf("the rules are taken away: %s", got)
	}
}

func TestDiffWithTheCloud(t *testing.T) {
	ids := map[string]string{"sub": "id-sub"}
	w := sound(t, database)
	rec := record(w, "db")
	rec.Fingerprints["password"] = tosca.String("fingerprint:1")
	live := func(change func(l *stack.Live)) *stack.Live {
		l := &stack.Live{ID: rec.ID, Properties: map[string]tosca.Value{},
			Links: map[string][]string{"subnet": {"id-sub"}}}
		for k, v := range rec.Properties {
			l.Properties[k] = v
		}
		l.Properties["password"] = tosca.String("fingerprint:1")
		change(l)
		return l
	}
	for _, test := range []struct {
		name, want string
		change     func(l *stack.Live)
	}{
		{"nothing", "[]", func(*stack.Live) {}},
		{"a property", "[size: large → small in_place by hand]",
			func(l *stack.Live) { l.Properties["size"] = tosca.String("large") }},
		{"a property that was set", "[label: by hand → – in_place by hand]",
			func(l *stack.Live) { l.Properties["label"] = tosca.String("by hand") }},
		{"a tag of others", "[]", func(l *stack.Live) {
			l.Properties["tags"] = tosca.Map{"desk": tosca.String("snow"), "note": tosca.String("x")}
		}},
		{"a tag of ours", "[tags.desk: rain → snow in_place by hand]", func(l *stack.Live) {
			l.Properties["tags"] = tosca.Map{"desk": tosca.String("rain"), "note": tosca.String("x")}
		}},
		{"all tags", "[tags.desk: – → snow in_place by hand]", func(l *stack.Live) { delete(l.Properties, "tags") }},
		{"a secret", "[password: (secret) → (secret) in_place by hand]",
			func(l *stack.Live) { l.Properties["password"] = tosca.String("fingerprint:2") }},
		{"a link", "[rules: id-x → – in_place by hand]", func(l *stack.Live) { l.Links["rules"] = []string{"id-x"} }},
	} {
		if got := fmt.Sprint(changes(t, w, rec, live(test.change), ids)); got != test.want {
			t.Errorf("%s changed by hand: %s, want %s", test.name, got, test.want)
		}
	}
}

func TestDiffGoesIntoLists(t *testing.T) {
	rules := func(list string) string {
		return "  node_templates:\n    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }\n    rules:\n      type: Rules\n      properties: { allow: " + list + " }\n      requirements: [ { network: net } ]\n"
	}
	const one = `[ { ports: "443", peer: 10.0.0.0/8 } ]`
	for list, want := range map[string]string{
		one:                                     "[]",
		`[ { ports: "443", peer: 0.0.0.0/0 } ]`: "[allow[0].peer: 10.0.0.0/8 → 0.0.0.0/0 in_place]",
		`[ { ports: "443", peer: 10.0.0.0/8 }, { ports: "22", peer: 10.0.0.0/8 } ]`: "[allow[1]: – → {direction: in, peer: 10.0.0.0/8, ports: 22, protocol: tcp} in_place]",
		`[]`: "[allow[0]: {direction: in, peer: 10.0.0.0/8, ports: 443, protocol: tcp} → – in_place]",
	} {
		if got := fmt.Sprint(changes(t, sound(t, rules(list)), record(sound(t, rules(one)), "rules"), nil,
			map[string]string{"net": "id-net"})); got != want {
			t.Errorf("%s: %s, want %s", list, got, want)
		}
	}
}

func TestNominalSeconds(t *testing.T) {
	typ := &tosca.NodeType{Metadata: map[string]string{"takes": "10 s", "takes_each": "4 s", "each": "want"}}
	if got := stack.NominalSeconds(typ, func(string) float64 { return 3 }); got != 22 {
		t.Errorf("10 s and 3 times 4 s are %v", got)
	}
	for text, want := range map[string]float64{"500 ms": 0.5, "2 m": 120, "": 1} {
		if got := stack.NominalSeconds(&tosca.NodeType{Metadata: map[string]string{"takes": text}}, nil); got != want {
			t.Errorf("%q is %v", text, got)
		}
	}
	if stack.NominalSeconds(nil, nil) != 1 {
		t.Error("a type that is not known")
	}
}

func TestNamesAreInOrder(t *testing.T) {
	names := []string{"hut#10", "hut#2", "hut", "inn/hut#10/bed#3", "inn/hut#9/bed#12", "inn/hut#10/bed#12", "hut#2a",
		"hut#", "gate", "hut_2"}
	stack.SortNames(names)
	if got := strings.Join(names,
		" "); got != "gate hut hut# hut#2 hut#2a hut#10 hut_2 inn/hut#9/bed#12 inn/hut#10/bed#3 inn/hut#10/bed#12" {
		t.Error(got)
	}
}
