// Package stack is the domain: what a template and its inputs want (Wanted),
// what was last deployed (Recorded), and the graph of resources that both are.
//
// Resolve goes from a template and inputs to Wanted. It is pure: the same text
// and inputs give the same resources. Values that only the cloud can know stay
// Unknown until Late is asked with the attributes of what has been built.
package stack

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"brickrow/internal/tosca"
)

// Target is a place in the cloud.
type Target struct {
	Account string `json:"account"`
	Region  string `json:"region"`
}

// String is account/region, as in a stack file.
func (t Target) String() string { return t.Account + "/" + t.Region }

// IsZero reports whether it is no target at all.
func (t Target) IsZero() bool { return t == Target{} }

// ParseTarget reads account/region.
func ParseTarget(s string) (Target, bool) {
	account, region, ok := strings.Cut(s, "/")
	return Target{account, region}, ok && account != "" && region != "" && !strings.Contains(region, "/")
}

// OriginKind is what gave an input its value.
type OriginKind string

// The kinds of origin.
const (
	OriginDefault    OriginKind = "default"
	OriginStackFile  OriginKind = "stack file"
	OriginInputsFile OriginKind = "inputs file"
	OriginFlag       OriginKind = "flag"
	OriginFilled     OriginKind = "filled" // where nobody gave one, by filled_by; Via says by what
)

// Origin says where the value of an input came from.
type Origin struct {
	Kind OriginKind `json:"kind"`
	Pos  tosca.Pos  `json:"pos"`
	Via  string     `json:"via,omitempty"` // the flag, or the source that it was read from
}

// String is the origin in words, such as "bulletin-test.stack.yaml:9".
func (o Origin) String() string {
	s := o.Pos.Short()
	switch o.Kind {
	case OriginDefault:
		s = "default, " + s
	case OriginFlag:
		return "-i " + o.Via
	case OriginFilled:
		return "filled by " + o.Via + ", " + s
	}
	if o.Via != "" {
		s += ", " + o.Via
	}
	return s
}

// Result is the stack and the result that the value was got from; ok is false
// where it came from elsewhere.
func (o Origin) Result() (of, result string, ok bool) {
	s := parseSource(o.Via)
	return s.Stack, s.Output, s.Stack != ""
}

// Input is an input with its value.
type Input struct {
	Name   string
	Value  tosca.Value
	Origin Origin
}

// Property is one property of a wanted resource. Value has unknown parts
// where it waits for the cloud.
type Property struct {
	Name  string
	Def   *tosca.Property
	Value tosca.Value
	Expr  *tosca.Expr // nil where the value comes from a property of another template
	Pos   tosca.Pos
	at    context
	known bool      // Value is set
	from  *Property // of the node that the template fills
}

// owner is what the property belongs to, in words.
func (p *Property) owner() string {
	switch {
	case p.at.self != nil:
		return p.at.self.Name
	case p.at.rel != nil:
		return p.at.rel.source.Name + ", " + p.at.rel.requirement
	case p.at.scope != nil && p.at.scope.outer != nil:
		return p.at.scope.outer.Name
	}
	return "template"
}

// Resource is the name of the resource that has the property; "" is none, such
// as for an input of a template that fills a node.
func (p *Property) Resource() string {
	if p.at.self != nil {
		return p.at.self.Name
	}
	return ""
}

// Whose says in words what the property is and of what: "label of net", "input
// word of alarm".
func (p *Property) Owner() string {
	if p.at.self == nil && p.at.rel == nil {
		return "input " + p.Name + " of " + p.owner()
	}
	return p.Name + " of " + p.owner()
}

// Text is what the template says; a secret is not shown.
func (p *Property) Text() string {
	if p.Expr == nil {
		return "nothing"
	}
	if tosca.HasSecret(p.Value) || p.Def != nil && p.Def.Type.HoldsSecret() {
		return tosca.SecretText
	}
	return p.Expr.Text()
}

// Link is what a resource rests on by one of its requirements.
type Link struct {
	Requirement string
	Targets     []string // names of resources
	Pos         tosca.Pos
	relations   []*relation
}

// Resource is one wanted resource. Of a template with a count there are
// several, named reader#0, reader#1 and so on; those of a template that fills
// the node alarm are named alarm/queue and so on.
type Resource struct {
	Name, Node string
	Index      int             // -1 without a count
	Key        string          // by which it is told from the others of its count, in place of the index
	Type       *tosca.NodeType // of the cloud
	Own        *tosca.NodeType // as the template names it: Type, or one that derives from it
	Pos        tosca.Pos
	Properties []*Property // those that the cloud knows
	Links      []Link
	Needs      []string // what it rests on by link or by attribute, sorted
	Policies
	Found *Found // what a node that is selected found; nil while it is not known

	template      *tosca.NodeTemplate
	scope         *scope
	rests         []string // what it needs by itself: by its links, and by what it waits for
	visit         uint8    // while resources are sorted
	selected      bool
	filled        *scope      // the template that fills it
	locals        []*Property // those that the template's own types add
	ownAttributes []*Property
	localLinks    []Link
	capabilities  map[string][]*Property
}

// Property finds a property by name; nil where it has none.
func (r *Resource) Property(name string) *Property {
	for _, list := range [][]*Property{r.Properties, r.locals} {
		for _, p := range list {
			if p.Name == name {
				return p
			}
		}
	}
	return nil
}

// Value is the value of a property; nil where there is none.
func (r *Resource) Value(name string) tosca.Value {
	if p := r.Property(name); p != nil {
		return p.Value
	}
	return nil
}

// Targets lists what a resource rests on by one of its requirements. The list is
// the caller's.
func (r *Resource) Targets(requirement string) []string {
	for _, l := range r.Links {
		if l.Requirement == requirement {
			return slices.Clone(l.Targets)
		}
	}
	return nil
}

// Through is the requirement that says through which connection a resource is reached, where that is
// not in the target itself.
const Through = "through"

// Connects reports whether the resource is a connection.
func (r *Resource) Connects() bool { return Connects(r.Type) }

// Connects reports whether what is of a type is a connection.
func Connects(t *tosca.NodeType) bool {
	for ; t != nil; t = t.Parent {
		if t.Name == "Connection" {
			return true
		}
	}
	return false
}

// Through is the connection through which the resource is reached; "" is none.
func (r *Resource) Through() string {
	for _, name := range r.Targets(Through) {
		return name
	}
	return ""
}

// Template is the node template that the resource comes from.
func (r *Resource) Template() *tosca.NodeTemplate { return r.template }

// everyProperty lists the properties of a resource, of its capabilities and of
// its relationships.
func (r *Resource) everyProperty() []*Property {
	if r.locals == nil && r.capabilities == nil && r.ownAttributes == nil && !r.related() {
		return r.Properties
	}
	out := slices.Concat(r.Properties, r.locals, r.ownAttributes)
	for _, c := range r.Own.Capabilities {
		out = append(out, r.capabilities[c.Name]...)
	}
	for _, l := range slices.Concat(r.Links, r.localLinks) {
		for _, rel := range l.relations {
			out = append(out, rel.properties...)
		}
	}
	return out
}

// related reports whether any relationship of the resource has properties.
func (r *Resource) related() bool {
	for _, list := range [][]Link{r.Links, r.localLinks} {
		for _, l := range list {
			for _, rel := range l.relations {
				if len(rel.properties) > 0 {
					return true
				}
			}
		}
	}
	return false
}

// Output is a result of a stack, not yet evaluated.
type Output struct {
	Name, Description string
	Value             tosca.Value
	def               *tosca.Output
}

// Pos is where the value stands in the template.
func (o Output) Pos() tosca.Pos { return o.def.Value.Pos }

// Command is the command that is ready to be run with it; "" is none.
func (o Output) Command() string { return o.def.Metadata[tosca.Command] }

// Text is what the template says.
func (o Output) Text() string { return o.def.Value.Text() }

// Wanted is a template with its inputs filled in: a graph of resources.
type Wanted struct {
	File      *tosca.File
	Inputs    []Input
	Resources []*Resource // each after what it needs
	Selected  []*Resource // what exists already and is only looked up
	Outputs   []Output
	Probes    []*Probe
	byName    map[string]*Resource
	root      *scope
	resolver  *resolver

	uses *uses // who looks at whom; nil until it is asked for

	secretExprs []*tosca.Expr // what was given for inputs that hold secrets
	secrets     *tosca.Secrets
}

// Lookups lists what was found for the nodes that are selected.
func (w *Wanted) Lookups() map[string]Found {
	out := map[string]Found{}
	for _, res := range w.Selected {
		if res.Found != nil {
			out[res.Name] = *res.Found
		}
	}
	return out
}

// Existing finds the existing resource that a node stands for, by the node's
// name; nil where it is none, or is not known.
func (w *Wanted) Existing(name string) *Found {
	for _, res := range w.Selected {
		if res.Name == name {
			return res.Found
		}
	}
	return nil
}

// Template finds the node template that made, or would make, a resource by
// the resource's name; nil where there is none.
func (w *Wanted) Template(resource string) *tosca.NodeTemplate {
	return w.node(resource).NodeTemplate
}

// node finds the node template of a resource, and the scope it is in.
func (w *Wanted) node(resource string) nodeAt {
	s := w.root
	for s != nil {
		name := strings.TrimPrefix(resource, s.prefix)
		for _, try := range []string{name, name[:max(0, strings.LastIndexByte(name, '#'))]} {
			if n := s.service.Node(try); n != nil {
				return nodeAt{n, s}
			}
		}
		i := slices.IndexFunc(s.inner, func(in *scope) bool { return strings.HasPrefix(resource, in.prefix) })
		if i < 0 { // the resource that it was filled into is not wanted: it went with that one
			outer, _, _ := strings.Cut(name, "/")
			base, _, _ := strings.Cut(outer, "#")
			if n := s.service.Node(base); n != nil && outer != name {
				return nodeAt{n, s}
			}
			break
		}
		s = s.inner[i]
	}
	return nodeAt{}
}

// Resource finds a resource by name; nil where there is none.
func (w *Wanted) Resource(name string) *Resource { return w.byName[name] }

// Graph is the graph of the wanted resources.
func (w *Wanted) Graph() Graph {
	g := make(Graph, len(w.Resources))
	for _, r := range w.Resources {
		g[r.Name] = r.Needs
	}
	return g
}

// LinkTo is the other end of a recorded link.
type LinkTo struct {
	Name string `json:"name"`
	ID   string `json:"id"`
}

// Recorded is a resource as it was last deployed.
type Recorded struct {
	Name       string
	Type       string
	ID         string // in the cloud
	Properties map[string]tosca.Value
	Links      map[string][]LinkTo
	Attributes map[string]tosca.Value
	// Fingerprints are what the cloud shows of the properties that hold secrets,
	// by property: it has something else in the place of each secret.
	Fingerprints map[string]tosca.Value
	Needs        []string
	Pos          tosca.Pos // in the template, then
	Policies
	Formerly []string // the names it had before, the last one last
	// Left says that a run could not get rid of it, and that somebody has given it up; nil is
	// not left.
	Left *Left
	// Taken says that it was there before, made by somebody else, and is about to come under the
	// stack.
	Taken bool
}

// Policies are what the policies of a template say of a resource.
type Policies struct {
	Keep  bool          `json:"keep,omitempty"`  // it is left in the cloud
	Guard bool          `json:"guard,omitempty"` // it is neither swapped nor dropped
	Drain time.Duration `json:"drain,omitempty"` // how long it has to finish its work before it goes or restarts
	// Backup is how many backups of it are kept; one is taken before it goes. 0 is none.
	Backup int `json:"backup,omitempty"`
	// Restore says that the new one of a swap is filled from a backup of the old one.
	Restore bool `json:"restore,omitempty"`
}

// Names are the policies that apply, in words.
func (p Policies) Names() []string {
	var out []string
	if p.Keep {
		out = append(out, "Keep")
	}
	if p.Guard {
		out = append(out, "Guard")
	}
	if p.Drain > 0 {
		out = append(out, fmt.Sprintf("Drain %s", p.Drain))
	}
	switch {
	case p.Backup > 0 && p.Restore:
		out = append(out, fmt.Sprintf("Backup with restore, %d kept", p.Backup))
	case p.Backup > 0:
		out = append(out, fmt.Sprintf("Backup, %d kept", p.Backup))
	}
	return out
}

// Left is when and why a resource was given up. It stays in the cloud.
type Left struct {
	Run    int    `json:"run"`    // its number
	Reason string `json:"reason"` // why it could not be got rid of
}

// FollowNames lets what rests on resources that were renamed since rest on them under the names
// that they have now.
func FollowNames(list []*Recorded) {
	now, byID := map[string]string{}, map[string]string{}
	for _, r := range list {
		byID[r.ID] = r.Name
		for _, was := range r.Formerly {
			now[was] = r.Name
		}
	}
	if len(now) == 0 {
		return
	}
	for _, r := range list { // a name that another one has by now
		delete(now, r.Name)
	}
	for _, r := range list {
		linked := map[string]string{}
		for _, links := range r.Links {
			for i, l := range links {
				links[i].Name = cmp.Or(byID[l.ID], now[l.Name], l.Name)
				linked[l.Name] = links[i].Name
			}
		}
		for i, n := range r.Needs {
			r.Needs[i] = cmp.Or(linked[n], now[n], n)
		}
	}
}

// RecordedGraph is the graph of recorded resources.
func RecordedGraph(list []*Recorded) Graph {
	g := make(Graph, len(list))
	for _, r := range list {
		g[r.Name] = r.Needs
	}
	return g
}

// Live is a resource as the cloud shows it now.
type Live struct {
	ID         string
	Type       string
	Node       string // the resource's name within its stack, from the tags
	State      string
	ETag       string
	Properties map[string]tosca.Value // secrets as fingerprints
	Links      map[string][]string    // ids
	Attributes map[string]tosca.Value
	Tags       map[string]string
	UsedBy     []string // ids of what links to it
	// Changed is when it was made or changed last, and ChangedBy by whom, as far as the cloud
	// tells.
	Changed   time.Time
	ChangedBy string
	By        Author // the same, as this store sees it
	Store     string // the id of the store whose stack it is of; "" is that nobody says so
	// Why says of one that could not be read why that is, and Through by the name of which connection it is reached.
	Why, Through string
}

// The tags that say whose a resource is: of which stack, which resource of it, and in which store. Nobody else gives them.
const (
	StackTag = "stack"
	NodeTag  = "node"
	StoreTag = "store"
)

// OwnTag reports whether a tag is one that says whose a resource is.
func OwnTag(name string) bool { return name == StackTag || name == NodeTag || name == StoreTag }

// Unreadable is the state of a resource that could not be read: it is shown as it was known last, and nothing follows from
// that.
const Unreadable = "unreadable"

// Unread reports whether it could not be read.
func (l *Live) Unread() bool { return l.State == Unreadable }

// Mark marks what repeats a secret in what the cloud shows.
func (l *Live) Mark(secrets *tosca.Secrets) {
	if secrets.Empty() {
		return
	}
	for _, m := range []map[string]tosca.Value{l.Properties, l.Attributes} {
		for k, v := range m {
			m[k] = secrets.Mark(v)
		}
	}
}

// Graph tells for each resource what it needs. Names that are needed but not
// in the graph are ignored.
type Graph map[string][]string

// SortNames puts names of resources in order.
func SortNames(names []string) { slices.SortFunc(names, CompareNames) }

// CompareNames orders names of resources: by the alphabet, those of one node by
// their number, so that hut#2 comes before hut#10.
func CompareNames(a, b string) int {
	for {
		i, j := strings.IndexByte(a, '#'), strings.IndexByte(b, '#')
		if i < 0 || j < 0 || a[:i] != b[:j] {
			return strings.Compare(a, b)
		}
		a, b = a[i+1:], b[j+1:]
		n, m := digits(a), digits(b)
		if a[:n] != b[:m] {
			return cmp.Or(n-m, strings.Compare(a, b))
		}
		a, b = a[n:], b[m:]
	}
}

// digits counts the digits that a text begins with.
func digits(s string) int {
	return len(s) - len(strings.TrimLeft(s, "0123456789"))
}

// Names lists the resources in order.
func (g Graph) Names() []string {
	names := make([]string, 0, len(g))
	for n := range g {
		names = append(names, n)
	}
	SortNames(names)
	return names
}

// Dependents is the graph turned around: who rests on each resource.
func (g Graph) Dependents() Graph {
	d := make(Graph, len(g))
	for _, n := range g.Names() {
		if _, ok := d[n]; !ok {
			d[n] = nil
		}
		for _, m := range g[n] {
			if _, ok := g[m]; ok {
				d[m] = append(d[m], n)
			}
		}
	}
	return d
}

// Order lists the names so that each comes after what it needs, otherwise in
// the alphabet's order. Where there are cycles, their members are missing from
// order and one of each is told by its path.
func (g Graph) Order() (order []string, cycles [][]string) {
	const (
		unseen = iota
		open
		done
		broken
	)
	state := make(map[string]int, len(g))
	var trail []string
	var visit func(n string) bool
	visit = func(n string) bool {
		switch state[n] {
		case done:
			return true
		case broken:
			return false
		case open:
			i := slices.Index(trail, n)
			cycles = append(cycles, append(slices.Clone(trail[i:]), n))
			return false
		}
		state[n] = open
		trail = append(trail, n)
		ok := true
		for _, m := range g[n] {
			if _, in := g[m]; in {
				ok = visit(m) && ok
			}
		}
		trail = trail[:len(trail)-1]
		if !ok {
			state[n] = broken
			return false
		}
		state[n] = done
		order = append(order, n)
		return true
	}
	for _, n := range g.Names() {
		visit(n)
	}
	return order, cycles
}

// Courses lists the resources by dependency level: course 0 rests on nothing,
// every other one rests on something in the course below.
func (g Graph) Courses() [][]string {
	order, _ := g.Order()
	level := make(map[string]int, len(g))
	var courses [][]string
	for _, n := range order {
		l := 0
		for _, m := range g[n] {
			if _, in := g[m]; in {
				l = max(l, level[m]+1)
			}
		}
		level[n] = l
		for len(courses) <= l {
			courses = append(courses, nil)
		}
		courses[l] = append(courses[l], n)
	}
	for _, c := range courses {
		SortNames(c)
	}
	return courses
}

// Reach is every resource that can be reached from name along the graph,
// without name itself, in order.
func (g Graph) Reach(name string) []string {
	seen := map[string]bool{}
	var visit func(string)
	visit = func(n string) {
		for _, m := range g[n] {
			if _, in := g[m]; in && !seen[m] && m != name {
				seen[m] = true
				visit(m)
			}
		}
	}
	visit(name)
	out := make([]string, 0, len(seen))
	for n := range seen {
		out = append(out, n)
	}
	SortNames(out)
	return out
}

// CriticalPath is the chain that takes longest, and how long: the sum of takes
// along it, in the unit of takes.
func (g Graph) CriticalPath(takes func(name string) float64) (path []string, total float64) {
	order, _ := g.Order()
	end := make(map[string]float64, len(g))
	from := make(map[string]string, len(g))
	last := ""
	for _, n := range order {
		for _, m := range g[n] {
			if e, in := end[m]; in && (e > end[n] || from[n] == "") {
				end[n], from[n] = max(e, end[n]), m
			}
		}
		end[n] += takes(n)
		if last == "" || end[n] > end[last] {
			last = n
		}
	}
	for n := last; n != ""; n = from[n] {
		path = append(path, n)
	}
	slices.Reverse(path)
	return path, end[last]
}

// NominalSeconds is how long creating a resource of the type takes, as the
// profile says; 1 where it does not say. Types that take longer the more there
// is of something name the property; number yields it.
func NominalSeconds(t *tosca.NodeType, number func(property string) float64) float64 {
	if t == nil {
		return 1
	}
	n := seconds(t.Metadata["takes"], 1)
	if each := t.Metadata["each"]; each != "" && number != nil {
		n += number(each) * seconds(t.Metadata["takes_each"], 0)
	}
	return n
}

// seconds reads a duration such as "4 s" or "2 m".
func seconds(text string, otherwise float64) float64 {
	number, unit, _ := strings.Cut(text, " ")
	n, err := strconv.ParseFloat(number, 64)
	if err != nil {
		return otherwise
	}
	return n * map[string]float64{"ms": 0.001, "s": 1, "m": 60}[unit]
}

// SwapNeeded reports whether a property with this metadata of the profile can
// only go from one value to the other in a new resource.
func SwapNeeded(metadata map[string]string, before, after tosca.Value) bool {
	if before == nil {
		before = tosca.Null{}
	}
	if after == nil {
		after = tosca.Null{}
	}
	if tosca.Equal(before, after) {
		return false
	}
	switch metadata["swap_when"] {
	case "shrink", "down":
		order, ok := tosca.Compare(before, after)
		return !ok || order > 0
	}
	return Swaps(metadata)
}

// HoldsData reports whether what is of a type holds data that goes with it.
func HoldsData(t *tosca.NodeType) bool { return t != nil && t.Metadata["holds_data"] == "true" }

// HasBackups reports whether backups can be taken of what is of a type that holds data.
func HasBackups(t *tosca.NodeType) bool { return HoldsData(t) && t.Metadata["no_backups"] != "true" }

// Holding is what a resource holds by what the cloud counts, in words such as "3 messages",
// and the property that has to be true so that the cloud removes it with that; "" is nothing,
// or that there is none.
func Holding(t *tosca.NodeType, live *Live) (words, unless string) {
	if t == nil || live == nil {
		return "", ""
	}
	for _, a := range t.Attributes {
		n, _ := live.Attributes[a.Name].(tosca.Int)
		if a.Metadata["holds"] == "" || n == 0 {
			continue
		}
		words = fmt.Sprintf("%d %s", n, a.Name)
		if n == 1 {
			words = "1 " + strings.TrimSuffix(a.Name, "s")
		}
		if a.Metadata["holds"] != "true" {
			unless = a.Metadata["holds"]
		}
	}
	return words, unless
}

// DropFirst is the metadata swap of a type, or of what it has, of which no two can be there
// at once: in a swap the old one goes before the new one is made.
const DropFirst = "drop_first"

// Swaps reports whether a change of what has such metadata needs another resource.
func Swaps(metadata map[string]string) bool {
	return metadata["swap"] == "true" || metadata["swap"] == DropFirst
}

// Count is a number of things in words, such as "1 file" and "2 files".
func Count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return strconv.Itoa(n) + " " + thing + "s"
}
