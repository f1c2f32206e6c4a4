package app

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/whatif"
)

// made is a node of a made-up template.
type made struct {
	name, typ string
	props     map[string]string
	rests     [][2]string // requirement and node
	count     int         // 0 is none
}

// maker makes up templates and edits them.
type maker struct {
	*rand.Rand
	nodes []*made
	n     int
	stack string
}

func (m *maker) pick(list ...string) string { return list[m.IntN(len(list))] }

// of picks a node of a type; "" where there is none.
func (m *maker) of(types ...string) string {
	var names []string
	for _, n := range m.nodes {
		if slices.Contains(types, n.typ) && n.count == 0 {
			names = append(names, n.name)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return m.pick(names...)
}

// values are what the properties of a type may be.
func (m *maker) values(typ, name string) map[string]string {
	all := map[string]map[string][]string{
		"Queue": {"visible_after": {"30 s", "60 s", "90 s"}, "keep": {"1 d", "2 d"},
			"ordered": {"true", "false"}, "label": {"a", "b"}},
		"Topic":   {"label": {"huts", "{ $get_attribute: [ QUEUE, url ] }", "\"to { x }\""}},
		"Role":    {"for": {"server", "function"}, "label": {"a", "b"}},
		"Network": {"cidr": {"10.0.0.0/16", "10.0.0.0/15"}, "label": {"valley", "ridge"}},
		"Rules": {"allow": {"[]", "[ { ports: \"22\", peer: 10.0.0.0/8 } ]",
			"[ { ports: \"80\", peer: 10.0.0.0/8 }, { ports: \"443\", peer: 10.1.0.0/16 } ]"}},
		"Subscription": {"to": {"huts@kestrelridge.example", "desk@kestrelridge.example"}},
		"Bucket": {"name": {name + "-one", name + "-two"}, "keep_days": {"30", "400"},
			"public_read": {"true", "false"}},
		"Vault": {"value": {"snow-1", "snow-2", "{ $get_input: token }"}, "label": {"a", "b"}},
		"Grant": {"actions": {"[ queue:read ]", "[ queue:read, queue:write ]"}},
	}
	needed := map[string][]string{"Role": {"for"}, "Network": {"cidr"}, "Subscription": {"to"}, "Bucket": {"name"},
		"Vault": {"value"}, "Grant": {"actions"}, "Rules": {"allow"}}
	out := map[string]string{}
	keys := []string{}
	for k := range all[typ] {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		if v := m.pick(all[typ][k]...); slices.Contains(needed[typ], k) || m.IntN(2) == 0 {
			if queue := m.of("Queue"); !strings.Contains(v, "QUEUE") {
				out[k] = v
			} else if queue != "" {
				out[k] = strings.Replace(v, "QUEUE", queue, 1)
			}
		}
	}
	if m.IntN(4) == 0 {
		out["tags"] = "{ winter: " + m.pick("mild", "hard") + " }"
	}
	return out
}

// add adds a node, where what it needs is there.
func (m *maker) add() {
	n := &made{typ: m.pick("Queue", "Topic", "Role", "Network", "Rules", "Subscription", "Bucket", "Vault", "Grant",
		"Queue", "Topic", "Role")}
	m.n++
	n.name = fmt.Sprintf("%s_%d", strings.ToLower(n.typ), m.n)
	for _, need := range map[string][][2]string{"Rules": {{"network", "Network"}},
		"Subscription": {{"topic", "Topic"}}, "Grant": {{"role", "Role"}, {"\"on\"", "Queue"}}}[n.typ] {
		target := m.of(need[1])
		if target == "" {
			return
		}
		n.rests = append(n.rests, [2]string{need[0], target})
	}
	if n.typ != "Bucket" && n.typ != "Network" && m.IntN(5) == 0 {
		n.count = 1 + m.IntN(3)
	}
	n.props = m.values(n.typ, m.stack+"-"+strings.ReplaceAll(n.name, "_", "-"))
	m.nodes = append(m.nodes, n)
}

// remove removes a node and what rests on it.
func (m *maker) remove(name string) {
	m.nodes = slices.DeleteFunc(m.nodes, func(n *made) bool { return n.name == name })
	for _, n := range slices.Clone(m.nodes) {
		uses := slices.ContainsFunc(n.rests, func(r [2]string) bool { return r[1] == name })
		for _, v := range n.props {
			uses = uses || strings.Contains(v, " "+name+",")
		}
		if uses {
			m.remove(n.name)
		}
	}
}

// edit changes something.
func (m *maker) edit() {
	if len(m.nodes) == 0 {
		m.add()
		return
	}
	n := m.nodes[m.IntN(len(m.nodes))]
	switch m.IntN(6) {
	case 0:
		m.add()
	case 1:
		m.remove(n.name)
	case 2:
		if n.count > 0 {
			n.count = 1 + m.IntN(4)
		}
	case 3:
		for i, r := range n.rests {
			if to := m.of(map[string]string{"network": "Network", "topic": "Topic", "role": "Role",
				"\"on\"": "Queue"}[r[0]]); to != "" {
				n.rests[i][1] = to
			}
		}
	default:
		props := m.values(n.typ, m.stack+"-"+strings.ReplaceAll(n.name, "_", "-"))
		for k, v := range props {
			if !strings.Contains(v, " "+n.name+",") {
				n.props[k] = v
			}
		}
	}
}

func (m *maker) String() string {
	var b strings.Builder
	b.WriteString("tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  inputs: { token: { type: Secret, default: hoarfrost } }\n  node_templates:\n")
	for _, n := range m.nodes {
		fmt.Fprintf(&b, "    %s:\n      type: %s\n", n.name, n.typ)
		if n.count > 0 {
			fmt.Fprintf(&b, "      count: %d\n", n.count)
		}
		b.WriteString("      properties:\n")
		keys := []string{}
		for k := range n.props {
			keys = append(keys, k)
		}
		slices.Sort(keys)
		for _, k := range keys {
			fmt.Fprintf(&b, "        %s: %s\n", k, n.props[k])
		}
		if len(n.rests) > 0 {
			b.WriteString("      requirements:\n")
			for _, r := range n.rests {
				fmt.Fprintf(&b, "        - %s: %s\n", r[0], r[1])
			}
		}
	}
	return b.String()
}

// TestRandomStacksBecomeWhatIsWanted deploys made-up stacks and made-up edits
// of them. Each time it wants a cause for every property, no call for what
// stays the same, and afterwards nothing left to do and nothing that looks as
// if it had been changed by hand.
func TestRandomStacksBecomeWhatIsWanted(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 20000)
	kinds := map[whatif.Kind]int{}
	refused := 0
	for seed := range uint64(9) {
		m := &maker{Rand: rand.New(rand.NewPCG(seed, 21)), stack: fmt.Sprint("made-", seed)}
		name := fmt.Sprint("made-", seed)
		file := name + ".stack.yaml"
		b.write(file, fmt.Sprintf("stack: %s\ntemplate: %s.yaml\ntarget: workshop/cedar-2\ntags: { made: up }\n",
			name, name))
		for range 12 {
			m.add()
		}
		for round := range 9 {
			text := m.String()
			b.write(name+".yaml", text)
			p := b.preview(file)
			if p.Findings.HasErrors() {
				refused++ // such as a name that is still held: another edit comes
				m.edit()
				continue
			}
			for _, ch := range p.Changes {
				kinds[ch.Kind]++
				for _, prop := range ch.Properties {
					if !slices.ContainsFunc(ch.Causes,
						func(k whatif.Cause) bool { return k.Path == prop.Path || k.Path == "" }) {
						t.Errorf("seed %d, round %d: %s of %s %s without a cause: %v", seed, round, prop.Path,
							ch.Kind, ch.Name, ch.Causes)
					}
				}
			}
			before := b.etags(name)
			if !p.Empty() {
				if r := b.carry(p, "undo"); r.State != run.StatusDone {
					t.Fatalf("seed %d, round %d: %s %s\n%s", seed, round, r.State, r.Reason, text)
				}
			}
			after := b.etags(name)
			for _, ch := range p.Changes {
				if ch.Kind == whatif.Same && (before[ch.Name] == "" || before[ch.Name] != after[ch.Name]) {
					t.Errorf("seed %d, round %d: %s stays the same and was touched: %q, %q", seed, round, ch.Name,
						before[ch.Name], after[ch.Name])
				}
			}
			left := b.preview(file)
			if !left.Empty() || len(left.Left) > 0 || len(after) != left.Tally.Same {
				t.Fatalf("seed %d, round %d: %s is left to do, %v\n%s", seed, round, left.Tally, left.Left, text)
			}
			b.wantRecordIsLive(name)
			for range 1 + m.IntN(4) {
				m.edit()
			}
		}
		p, err := b.WhatIfDelete(t.Context(), b.stack(name))
		if err != nil {
			t.Fatal(err)
		}
		if r := b.carry(p, "hold"); r.State != run.StatusDone || len(b.etags(name)) > 0 {
			t.Fatalf("seed %d, deleted: %s %s, %v", seed, r.State, r.Reason, b.etags(name))
		}
	}
	for _, k := range []whatif.Kind{whatif.New, whatif.Edit, whatif.Swap, whatif.Drop, whatif.Same} {
		if kinds[k] < 10 {
			t.Errorf("only %d changes are %s: too much alike", kinds[k], k)
		}
	}
	if refused > 20 {
		t.Errorf("%d rounds were refused", refused)
	}
}

var cedar = stack.Target{Account: "workshop", Region: "cedar-2"}

// etags are what tells each version of the resources of a stack from others.
func (b *bench) etags(name string) map[string]string {
	b.t.Helper()
	list, err := b.Cloud.List(b.t.Context(), cedar, name)
	if err != nil {
		b.t.Fatal(err)
	}
	out := map[string]string{}
	for _, r := range list {
		out[r.Tags["node"]] = r.ID + " " + r.ETag
	}
	return out
}

// wantRecordIsLive wants the record of a stack to say what the cloud shows.
func (b *bench) wantRecordIsLive(name string) {
	b.t.Helper()
	st, err := b.store.At(b.t.Context(), name, cedar)
	if err != nil {
		b.t.Fatal(err)
	}
	current, old, err := b.store.Recorded(b.t.Context(), st.ID)
	if err != nil || len(old) > 0 {
		b.t.Fatal(err, old)
	}
	list, err := b.Cloud.List(b.t.Context(), cedar, name)
	if err != nil || len(list) != len(current) {
		b.t.Fatalf("%d resources are recorded, %d are there: %v", len(current), len(list), err)
	}
	for _, rec := range current {
		for _, r := range list {
			live := r.Live(b.Profile.Library)
			if live.ID != rec.ID {
				continue
			}
			for k, v := range live.Properties {
				if fingerprint := rec.Fingerprints[k]; fingerprint == nil && !stack.Same(v, rec.Properties[k]) {
					b.t.Errorf("%s of %s is %v, recorded is %v", k, rec.Name, v, rec.Properties[k])
				}
			}
		}
	}
}
