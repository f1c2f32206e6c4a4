package sim

import (
	"fmt"
	"slices"
	"strings"
)

// model is a stack as somebody writes it: nodes that can be changed and written as a template.
type model struct {
	name  string
	seed  uint64
	index int
	nodes []*node
	made  int // nodes so far
	nth   int // values so far, so that none comes twice where that matters
}

// node is a node template.
type node struct {
	name, typ string
	formerly  string
	count     int // 0 is one, without count
	num       int // what tells its address, or its name in the cloud, from all others
	val       map[string]string
	req       []need
}

type need struct{ requirement, node string }

// kind is what there is to know of a type to write it.
type kind struct {
	typ   string
	needs [][2]string                         // requirements, with the type that each wants
	props func(m *model, n *node)             // sets values of a new one
	edits []func(m *model, n *node, c uint64) // ways to change one
	many  bool                                // it can have a count
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
	{"Network", nil, props(), []func(*model, *node, uint64){renumber, tagged}, false},
	{"Subnet", [][2]string{{"network", "Network"}}, props("public", "false"), []func(*model, *node, uint64){set("public", "true", "false"), renumber, tagged}, false},
	{"Rules", [][2]string{{"network", "Network"}}, props("allow", `[ { ports: "443", peer: 10.0.0.0/8 } ]`),
		[]func(*model, *node, uint64){set("allow", `[ { ports: "443", peer: 10.0.0.0/8 } ]`, `[ { ports: "80-90", peer: 10.0.0.0/8 } ]`, `[ { ports: "22", peer: 10.1.0.0/16 }, { ports: "443", peer: 10.0.0.0/8 } ]`)}, false},
	{"Bucket", nil, props("keep_days", "30"), []func(*model, *node, uint64){set("keep_days", "30", "60", "90"), set("versioned", "true", "false"), renumber}, false},
	{"Queue", nil, props("keep", "4 d"), []func(*model, *node, uint64){set("keep", "1 d", "2 d", "4 d"), set("visible_after", "30 s", "60 s"), set("ordered", "true", "false")}, true},
	{"Topic", nil, props(), []func(*model, *node, uint64){tagged}, true},
	{"Subscription", [][2]string{{"topic", "Topic"}}, props("to", "huts@kestrelridge.example"), []func(*model, *node, uint64){set("to", "huts@kestrelridge.example", "desk@kestrelridge.example"), tagged}, false},
	{"Role", nil, props("for", "server"), []func(*model, *node, uint64){set("for", "server", "function"), tagged}, false},
	{"Grant", [][2]string{{"role", "Role"}, {"on", "Bucket"}}, props("actions", "[ bucket:read ]"), []func(*model, *node, uint64){set("actions", "[ bucket:read ]", "[ bucket:write ]", "[ bucket:read, bucket:write ]")}, false},
	{"Zone", nil, props(), []func(*model, *node, uint64){renumber, tagged}, false},
	{"Record", [][2]string{{"zone", "Zone"}}, props("kind", "TXT", "values", "[ snow ]", "ttl", "300 s"),
		[]func(*model, *node, uint64){set("values", "[ snow ]", "[ ice ]", "[ snow, ice ]"), set("ttl", "300 s", "60 s"), renumber}, false},
	{"Vault", nil, props(), []func(*model, *node, uint64){renumber, tagged}, false},
	{"Server", [][2]string{{"subnet", "Subnet"}, {"rules", "Rules"}}, props("size", "small", "image", "fern-12"),
		[]func(*model, *node, uint64){set("size", "small", "medium", "large"), set("image", "fern-11", "fern-12", "moss-3"), set("label", "a", "b"), tagged}, true},
	{"Database", [][2]string{{"subnet", "Subnet"}, {"rules", "Rules"}}, props("engine", "relational", "version", `"14"`, "size", "small", "storage", "20 GiB", "admin", "keeper"),
		[]func(*model, *node, uint64){set("size", "small", "medium"), set("version", `"14"`, `"15"`, `"16"`), set("storage", "20 GiB", "30 GiB", "25 GiB"), set("backup_days", "3", "7")}, false},
}

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

func (m *model) named(typ string) []*node {
	var out []*node
	for _, n := range m.nodes {
		if n.typ == typ && n.count == 0 {
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
	return m.addOf(pick(kinds, a), b).name
}

func (m *model) addOf(k kind, b uint64) *node {
	m.made++
	m.nth++
	n := &node{name: fmt.Sprintf("%s_%d", strings.ToLower(k.typ), m.made), typ: k.typ, num: m.nth, val: map[string]string{}}
	k.props(m, n)
	for i, want := range k.needs {
		there := m.named(want[1])
		if len(there) == 0 {
			there = []*node{m.addOf(kindOf(want[1]), b)}
		}
		n.req = append(n.req, need{want[0], pick(there, b+uint64(i)).name})
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
	if k.many && b%3 == 0 {
		n.count = 1 + int(b/3%3)
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
	if n.count > 0 && b%4 == 0 {
		n.count = 1 + int(c%3)
		return n.name
	}
	pick(kindOf(n.typ).edits, b)(m, n, c)
	return n.name
}

// drop takes out a node on which nothing rests.
func (m *model) drop(a uint64) string {
	for i := range m.nodes {
		n := pick(m.nodes, a+uint64(i))
		if !slices.ContainsFunc(m.nodes, func(o *node) bool {
			return slices.ContainsFunc(o.req, func(r need) bool { return r.node == n.name })
		}) {
			m.nodes = slices.DeleteFunc(m.nodes, func(o *node) bool { return o == n })
			return n.name
		}
	}
	return ""
}

// rename gives a node another name; with formerly it stays the same thing.
func (m *model) rename(a uint64, formerly bool) string {
	if len(m.nodes) == 0 {
		return ""
	}
	n := pick(m.nodes, a)
	m.made++
	was := n.name
	n.name = fmt.Sprintf("%s_%d", strings.ToLower(n.typ), m.made)
	if n.formerly == "" || !formerly {
		n.formerly = ""
		if formerly {
			n.formerly = was
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
		if n.formerly != "" {
			fmt.Fprintf(&b, "      metadata: { formerly: %s }\n", n.formerly)
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
	out[m.name+".yaml"] = text + "  node_templates:\n" + b.String()
	file := fmt.Sprintf("stack: %s\ntemplate: %s.yaml\ntarget: workshop/alder-1\n", m.name, m.name)
	if values.Len() > 0 {
		file += "inputs:\n" + values.String()
	}
	out[m.name+".stack.yaml"] = file
	return out
}
