package sim

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// model is a stack as somebody writes it: nodes that can be changed and written as a template.
type model struct {
	name  string
	seed  uint64
	index int
	nodes []*node
	made  int    // nodes so far
	last  string // the node that was changed last
	nth   int    // values so far, so that none comes twice where that matters
}

// node is a node template.
type node struct {
	name, typ string
	formerly  string
	count     int  // 0 is one, without count
	keyed     bool // its instances are told apart by what they are labelled
	off       int  // where its keys begin
	policies  map[string]bool
	num       int // what tells its address, or its name in the cloud, from all others
	val       map[string]string
	req       []need
}

type need struct{ requirement, node string }

// want is a requirement of a type: the type that it wants, and what that is for, where it matters.
type want struct{ requirement, typ, purpose string }

// kind is what there is to know of a type to write it.
type kind struct {
	typ   string
	needs []want
	props func(m *model, n *node) // sets values of a new one
	edits edits                   // ways to change one
	many  bool                    // it can have a count
	may   []string                // policies that are put on it
}

func pick[T any](list []T, n uint64) T { return list[n%uint64(len(list))] }

func set(name string, values ...string) func(*model, *node, uint64) {
	return func(_ *model, n *node, c uint64) {
		for i := range values { // another one than now
			if v := pick(values, c+uint64(i)); v != n.val[name] {
				n.val[name] = v
				return
			}
		}
	}
}

func renumber(m *model, n *node, _ uint64) { m.nth++; n.num = m.nth }

func props(pairs ...string) func(*model, *node) {
	return func(_ *model, n *node) {
		for i := 0; i < len(pairs); i += 2 {
			n.val[pairs[i]] = pairs[i+1]
		}
	}
}

var tagged = set("tags", "{ team: snow }", "{ team: huts }", "{ team: snow, watch: night }", "{}")

// kinds are the types of which stacks are made, each behind those that it needs.
var kinds = []kind{
	{"Network", nil, props(), edits{renumber, tagged}, false, nil},
	{"Subnet", []want{{"network", "Network", ""}}, props("public", "false"), edits{set("public", "true", "false"), renumber, tagged}, false, nil},
	{"Rules", []want{{"network", "Network", ""}}, props("allow", `[ { ports: "443", peer: 10.0.0.0/8 }, { ports: 5000-7000, peer: 0.0.0.0/0 } ]`),
		edits{set("allow", `[ { ports: "443", peer: 10.0.0.0/8 }, { ports: 5000-7000, peer: 0.0.0.0/0 } ]`, `[ { ports: "80-90", peer: 10.0.0.0/8 }, { ports: 5000-7000, peer: 0.0.0.0/0 } ]`, `[ { ports: "22", peer: 10.1.0.0/16 }, { ports: "443", peer: 10.0.0.0/8 }, { ports: 5000-7000, peer: 0.0.0.0/0 } ]`)}, false, nil},
	{"Router", []want{{"network", "Network", ""}}, props(), edits{tagged}, false, nil},
	{"Address", nil, props(), edits{tagged}, false, nil},
	{"Key", nil, props("public_key", `"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHsVbmOaOcF2wxXnd0Vgqp1YOHQ9S7MTPnCTdAHuXuaV hut"`), edits{tagged}, false, nil},
	{"Bucket", nil, props("keep_days", "30"), edits{set("keep_days", "30", "60", "90"), set("versioned", "true", "false"), renumber}, false, []string{"Keep", "Backup", "Guard"}},
	{"Queue", nil, props("keep", "4 d"), edits{set("keep", "1 d", "2 d", "4 d"), set("visible_after", "30 s", "60 s"), set("ordered", "true", "false")}, true, []string{"Keep"}},
	{"Topic", nil, props(), edits{tagged}, true, []string{"Guard"}},
	{"Subscription", []want{{"topic", "Topic", ""}}, props("to", "huts@kestrelridge.example"), edits{set("to", "huts@kestrelridge.example", "desk@kestrelridge.example"), tagged}, false, nil},
	{"Role", nil, props("for", "server"), edits{tagged}, false, nil},
	{"Grant", []want{{"role", "Role", "server"}, {"on", "Bucket", ""}}, props("actions", "[ bucket:read ]"), edits{set("actions", "[ bucket:read ]", "[ bucket:write ]", "[ bucket:read, bucket:write ]")}, false, nil},
	{"Zone", nil, props(), edits{renumber, tagged}, false, nil},
	{"Record", []want{{"zone", "Zone", ""}}, props("kind", "TXT", "values", "[ snow ]", "ttl", "300 s"),
		edits{set("values", "[ snow ]", "[ ice ]", "[ snow, ice ]"), set("ttl", "300 s", "60 s"), renumber, set("kind", "TXT", "CNAME")}, false, nil},
	{"Vault", nil, props(), edits{renumber, tagged}, false, nil},
	{"Server", []want{{"subnet", "Subnet", ""}, {"rules", "Rules", ""}}, props("size", "small", "image", "fern-12"),
		edits{set("size", "small", "medium", "large"), set("image", "fern-11", "fern-12", "moss-3"), set("label", "a", "b"), tagged}, true, []string{"Drain"}},
	{"Disk", []want{{"server", "Server", ""}}, props("size", "40 GiB", "kind", "plain"), edits{set("size", "40 GiB", "50 GiB"), set("kind", "plain", "fast"), tagged}, false, []string{"Backup", "Backup and restore"}},
	{"Database", []want{{"subnet", "Subnet", ""}, {"rules", "Rules", ""}}, props("engine", "relational", "version", `"14"`, "size", "small", "storage", "20 GiB", "admin", "keeper"),
		edits{set("size", "small", "medium"), set("version", `"14"`, `"15"`, `"16"`), set("storage", "20 GiB", "30 GiB", "25 GiB"), set("backup_days", "3", "7"), set("admin", "keeper", "warden")}, false, []string{"Backup", "Backup and restore", "Probe", "Guard"}},
	{"Cache", []want{{"subnet", "Subnet", ""}}, props("engine", "simple", "size", "small"), edits{set("nodes", "1", "2"), set("engine", "simple", "replicated"), tagged}, false, []string{"Probe"}},
	{"ServerGroup", []want{{"subnet", "Subnet", ""}, {"rules", "Rules", ""}}, props("size", "small", "image", "fern-12", "max", "4", "want", "2"),
		edits{set("size", "small", "medium"), set("want", "1", "2", "3"), tagged}, false, []string{"Drain"}},
	{"Certificate", nil, props(), edits{renumber, tagged}, false, nil},
	{"Function", []want{{"role", "Role", "function"}}, props("runtime", "go-1"), edits{set("runtime", "go-1", "python-3"), set("memory", "128 MiB", "256 MiB"), tagged}, false, nil},
	{"Schedule", []want{{"runs", "Function", ""}}, props("every", `"30 2 * * *"`), edits{set("every", `"30 2 * * *"`, `"0 4 * * *"`), tagged}, false, nil},
	{"Cluster", []want{{"subnet", "Subnet", ""}, {"role", "Role", "cluster"}}, props("version", `"6"`, "node_size", "small"), edits{set("version", `"5"`, `"6"`, `"7"`), set("nodes", "1", "2"), tagged}, false, nil},
	{"Workload", []want{{"cluster", "Cluster", ""}}, props("image", "snow/mapper:4", "port", "8080"), edits{set("image", "snow/mapper:4", "snow/mapper:5"), set("replicas", "1", "3"), tagged}, false, nil},
	{"Service", []want{{"workload", "Workload", ""}}, props("port", "80", "target_port", "8080"), edits{set("port", "80", "81"), tagged}, false, nil},
}

// policies are how policies are written, by the words that tell them here.
var policies = map[string]string{
	"Keep": "type: Keep", "Guard": "type: Guard", "Backup": "type: Backup, properties: { keep: 2 }", "Backup and restore": "type: Backup, properties: { restore: true }",
	"Drain": "type: Drain, properties: { wait: 5 s }",
	"Probe": `type: Probe, properties: { kind: tcp, within: 20 s, url: { $concat: [ "tcp://", { $get_attribute: [ NODE, endpoint ] }, ":", { $get_attribute: [ NODE, port ] } ] } }`,
}

type edits = []func(m *model, n *node, c uint64)

func kindOf(typ string) kind {
	return kinds[slices.IndexFunc(kinds, func(k kind) bool { return k.typ == typ })]
}

// secret is a secret of the model.
func (m *model) secret(n *node) string {
	return fmt.Sprintf("whisper-%d-%d-%d", m.seed, m.index, n.num)
}

// newModel is a stack with some nodes.
func newModel(seed uint64, index int, begin []sown) *model {
	m := &model{name: pick([]string{"hut", "ridge", "valley"}, uint64(index)), seed: seed, index: index}
	for _, s := range begin {
		m.add(s.A, s.B)
	}
	return m
}

func (m *model) named(w want) []*node {
	var out []*node
	for _, n := range m.nodes {
		if n.typ == w.typ && n.count == 0 && (w.purpose == "" || n.val["for"] == w.purpose) {
			out = append(out, n)
		}
	}
	return out
}

const most = 16

// add adds a node of some type, with what it needs.
func (m *model) add(a, b uint64) string {
	if len(m.nodes) >= most {
		return ""
	}
	n := m.addOf(pick(kinds, a), b)
	m.last = n.name
	k := kindOf(n.typ)
	if k.many && b%3 == 0 {
		n.count, n.keyed = 1+int(b/3%3), n.typ == "Topic" && b/9%2 == 0
	}
	if len(k.may) > 0 && b%4 == 1 {
		n.policies[pick(k.may, b/4)] = true
	}
	return n.name
}

func (m *model) addOf(k kind, b uint64) *node {
	m.made++
	m.nth++
	n := &node{name: fmt.Sprintf("%s_%d", strings.ToLower(k.typ), m.made), typ: k.typ, num: m.nth, val: map[string]string{}, policies: map[string]bool{}}
	k.props(m, n)
	for i, want := range k.needs {
		there := m.named(want)
		if n.typ == "Router" { // a network has one at most
			there = nil
		}
		if len(there) == 0 {
			there = []*node{m.addOf(kindOf(want.typ), b)}
			if want.purpose != "" {
				there[0].val["for"] = want.purpose
			}
		}
		n.req = append(n.req, need{want.requirement, pick(there, b+uint64(i)).name})
	}
	if net := m.network(n, "subnet"); net != "" { // rules of the same network as the subnet
		for i, r := range n.req {
			if r.requirement != "rules" || m.networkOf(r.node) == net {
				continue
			}
			rules := m.addOf(kindOf("Rules"), b)
			rules.req[0].node = net
			n.req[i].node = rules.name
		}
	}
	m.nodes = append(m.nodes, n)
	return n
}

func (m *model) at(name string) *node {
	for _, n := range m.nodes {
		if n.name == name {
			return n
		}
	}
	return nil
}

func (m *model) networkOf(name string) string {
	if n := m.at(name); n != nil && len(n.req) > 0 {
		return n.req[0].node
	}
	return ""
}

func (m *model) network(n *node, by string) string {
	for _, r := range n.req {
		if r.requirement == by {
			return m.networkOf(r.node)
		}
	}
	return ""
}

// edit changes a node.
func (m *model) edit(a, b, c uint64) string {
	if len(m.nodes) == 0 {
		return ""
	}
	n := pick(m.nodes, a)
	m.last = n.name
	k := kindOf(n.typ)
	switch {
	case n.count > 0 && b%4 == 0:
		n.count = 1 + int(c%3)
		return "the count of " + n.name
	case n.keyed && b%4 == 1:
		n.off++
		return "the keys of " + n.name
	case len(k.may) > 0 && b%8 == 2:
		name := pick(k.may, c)
		n.policies[name] = !n.policies[name]
		return "the policy " + name + " of " + n.name
	case len(k.needs) > 0 && b%8 == 3 && n.typ != "Router":
		i := int(c % uint64(len(k.needs)))
		if there := m.named(k.needs[i]); len(there) > 0 {
			n.req[i].node = pick(there, c/3).name
			return "what " + n.name + " rests on: " + n.req[i].node
		}
	}
	pick(k.edits, b)(m, n, c)
	return n.name
}

// drop takes out a node on which nothing rests.
func (m *model) drop(a uint64) string {
	for i := range m.nodes {
		n := pick(m.nodes, a+uint64(i))
		if _, guarded := n.policies["Guard"]; guarded { // it has to be taken away first
			continue
		}
		if !slices.ContainsFunc(m.nodes, func(o *node) bool {
			return slices.ContainsFunc(o.req, func(r need) bool { return r.node == n.name })
		}) {
			m.nodes = slices.DeleteFunc(m.nodes, func(o *node) bool { return o == n })
			return n.name
		}
	}
	return ""
}

// copies are the nodes as they are now.
func (m *model) copies() (list []*node) {
	for _, n := range m.nodes {
		c := *n
		c.val, c.policies, c.req = maps.Clone(n.val), maps.Clone(n.policies), slices.Clone(n.req)
		list = append(list, &c)
	}
	return list
}

// unguard takes away all that stands against removal.
func (m *model) unguard() (guarded bool) {
	for _, n := range m.nodes {
		guarded = guarded || n.policies["Guard"]
		n.policies["Guard"] = false
	}
	return guarded
}

// rename gives a node another name; with formerly it stays the same thing.
func (m *model) rename(a uint64, formerly bool) string {
	if len(m.nodes) == 0 {
		return ""
	}
	n := pick(m.nodes, a)
	if _, guarded := n.policies["Guard"]; guarded && !formerly {
		return ""
	}
	m.made++
	was := n.name
	defer func() { m.last = n.name }()
	n.name = fmt.Sprintf("%s_%d", strings.ToLower(n.typ), m.made)
	if n.formerly == "" || !formerly {
		n.formerly = ""
		if formerly {
			n.formerly = was
		} else {
			m.nth++
			n.num = m.nth // as what has its name in the cloud is there until the end
		}
	}
	for _, o := range m.nodes {
		for i := range o.req {
			if o.req[i].node == was {
				o.req[i].node = n.name
			}
		}
	}
	return was + " to " + n.name
}

// files are the template, the stack file and the files of secrets.
func (m *model) files() map[string]string {
	var b, inputs, values strings.Builder
	out := map[string]string{}
	for _, n := range m.nodes {
		fmt.Fprintf(&b, "    %s:\n      type: %s\n", n.name, n.typ)
		var metadata []string
		if n.formerly != "" {
			metadata = append(metadata, "formerly: "+n.formerly)
		}
		if n.keyed {
			metadata = append(metadata, "keyed_by: label")
		}
		if len(metadata) > 0 {
			fmt.Fprintf(&b, "      metadata: { %s }\n", strings.Join(metadata, ", "))
		}
		if n.count > 0 {
			fmt.Fprintf(&b, "      count: %d\n", n.count)
		}
		of := map[string]string{}
		for k, v := range n.val {
			of[k] = v
		}
		switch n.typ {
		case "Network":
			of["cidr"] = fmt.Sprintf("10.%d.0.0/16", m.index*80+n.num%80)
		case "Subnet":
			net := m.at(n.req[0].node)
			of["cidr"] = fmt.Sprintf("10.%d.%d.0/24", m.index*80+net.num%80, n.num%250)
		case "Bucket":
			of["name"] = fmt.Sprintf("%s-box-%d", m.name, n.num)
		case "Zone":
			of["domain"] = fmt.Sprintf("%s-%d.example", m.name, n.num)
		case "Record":
			of["name"] = fmt.Sprintf("r%d", n.num)
			if of["kind"] == "CNAME" {
				of["values"] = "[ snow.example ]"
			}
		case "Certificate":
			of["domain"] = fmt.Sprintf("c%d.example", n.num)
		case "Topic":
			if n.keyed {
				keys := make([]string, n.count)
				for i := range keys {
					keys[i] = fmt.Sprintf("k%d", n.off+i)
				}
				fmt.Fprintf(&inputs, "    keys_%s: { type: list, entry_schema: string }\n", n.name)
				fmt.Fprintf(&values, "  keys_%s: [ %s ]\n", n.name, strings.Join(keys, ", "))
				of["label"] = fmt.Sprintf("{ $get_input: [ keys_%s, $node_index ] }", n.name)
			}
		case "Vault", "Database":
			property := map[string]string{"Vault": "value", "Database": "password"}[n.typ]
			of[property] = fmt.Sprintf("{ $get_input: secret_%s }", n.name)
			fmt.Fprintf(&inputs, "    secret_%s: { type: Secret }\n", n.name)
			fmt.Fprintf(&values, "  secret_%s: { from_file: secrets/%s_%s }\n", n.name, m.name, n.name)
			out["secrets/"+m.name+"_"+n.name] = m.secret(n) + "\n"
		}
		if len(of) > 0 {
			b.WriteString("      properties:\n")
			for _, k := range sorted(of) {
				fmt.Fprintf(&b, "        %s: %s\n", k, of[k])
			}
		}
		if len(n.req) > 0 {
			b.WriteString("      requirements:\n")
			for _, r := range n.req {
				fmt.Fprintf(&b, "        - { %q: %s }\n", r.requirement, r.node)
			}
		}
	}
	text := "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n"
	if inputs.Len() > 0 {
		text += "  inputs:\n" + inputs.String()
	}
	if b.Len() == 0 {
		b.WriteString("    {}\n")
	}
	var rules strings.Builder
	for _, n := range m.nodes {
		for _, name := range sorted(n.policies) {
			if n.policies[name] {
				fmt.Fprintf(&rules, "    - p%d: { targets: [ %s ], %s }\n", rules.Len(), n.name, strings.ReplaceAll(policies[name], "NODE", n.name))
			}
		}
	}
	text += "  node_templates:\n" + b.String()
	if rules.Len() > 0 {
		text += "  policies:\n" + rules.String()
	}
	out[m.name+".yaml"] = text
	file := fmt.Sprintf("stack: %s\ntemplate: %s.yaml\ntarget: workshop/alder-1\n", m.name, m.name)
	if values.Len() > 0 {
		file += "inputs:\n" + values.String()
	}
	out[m.name+".stack.yaml"] = file
	return out
}

// rules are policies, by node.
type rules map[string]map[string]bool

func (m *model) rules() rules {
	out := rules{}
	for _, n := range m.nodes {
		out[n.name] = maps.Clone(n.policies)
	}
	return out
}

// has reports whether a node has a policy; a policy in words that go on is another one.
func (r rules) has(name, policy string) bool {
	node, _, _ := strings.Cut(name, "#")
	return r[node][policy]
}
