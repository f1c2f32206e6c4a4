package whatif

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// CauseKind tells what a cause is.
type CauseKind string

// The kinds of cause.
const (
	ByInput  CauseKind = "input"    // an input has another value
	Template CauseKind = "template" // a line of the template changed, came or went
	Upstream CauseKind = "resource" // another resource changes
	Lookup   CauseKind = "look-up"  // a look-up finds something else
	ByPerson CauseKind = "hand"     // somebody changed it in the cloud, whom that names
	Outside  CauseKind = "outside"  // it is not as it is recorded in the cloud, and nobody says by whom
	TypeDef  CauseKind = "type"     // the type has another default
	Gone     CauseKind = "gone"     // it is gone from the cloud
	Kept     CauseKind = "keep"     // the policy Keep
	Deletion CauseKind = "deletion" // the stack is deleted
)

// Cause is why something changes.
type Cause struct {
	Kind     CauseKind
	Text     string
	Path     string    // the property it is about; "" is the resource as a whole
	Resource string    // the one it comes from; "" is none
	Pos      tosca.Pos // in the template, the stack file; zero is none
}

// say adds causes, each once.
func (ch *Change) say(causes ...Cause) {
	for _, k := range causes {
		if slices.ContainsFunc(ch.Causes, func(have Cause) bool { return have.Text == k.Text && have.Path == k.Path }) {
			continue
		}
		ch.Causes = append(ch.Causes, k)
		if !slices.Contains(ch.Because, k.Text) {
			ch.Because = append(ch.Because, k.Text)
		}
	}
}

// cause finds out why a property changes, and says so in the change.
func (c *Comparison) cause(ch *Change, p stack.PropertyChange) {
	before := len(ch.Causes)
	say := func(k Cause) {
		k.Path = p.Path
		ch.say(k)
	}
	if p.OffRecord {
		c.recordCause(ch, p, say)
		if rec := ch.Recorded.Properties[p.Property]; p.Owner() || !p.Link && rec != nil && len(compareTo(ch, p.Property)) == 0 {
			return
		}
	}
	switch {
	case p.Link:
		c.linkCause(ch, p, say)
		return
	case p.Property == renamed && ch.Formerly != "":
		say(nameCause(ch))
		return
	case p.Property == "own_programs":
		say(programCause(ch, p))
		return
	case p.Property == policies:
		for _, k := range policyCauses(ch, p) {
			say(k)
		}
		return
	}
	prop := ch.Wanted.Property(p.Property)
	if prop == nil {
		say(Cause{Kind: Template, Text: p.Path + " is no longer in the template", Pos: ch.Pos})
		return
	}
	for _, k := range c.changedSources(c.Wanted.Sources(prop)) {
		say(k)
	}
	for _, a := range tosca.Awaits(prop.Value) {
		if up := c.Change(a.Resource); up != nil && up.Kind != Same {
			say(Cause{Kind: Upstream, Text: fmt.Sprintf("%s of %s %s changes", a.Name, mark(up.Kind), a.Resource),
				Resource: a.Resource, Pos: up.Pos})
			c.upstream[ch.Name] = append(c.upstream[ch.Name], a.Resource)
		}
	}
	if k, changed := c.lineCause(ch, prop, p.Path); changed && !(prop.Name == "tags" && len(ch.Causes) > before) {
		say(k)
	}
	for _, k := range c.alongCauses(ch, prop) {
		say(k)
	}
	if len(ch.Causes) == before {
		at := prop.Pos.Short()
		if prop.Expr == prop.Def.Default {
			at = "default of " + ch.Type
		}
		text := fmt.Sprintf("the template says so: %s, %s", p.Path, at)
		if c.PartOf != "" {
			text += "; " + c.PartOf + " left it out"
		}
		say(Cause{Kind: Template, Text: text, Pos: prop.Pos})
	}
}

// programCause says that another program carries out an operation of a resource.
func programCause(ch *Change, p stack.PropertyChange) Cause {
	name := strings.TrimPrefix(p.Path, "program of ")
	a := stack.Programs(ch.Wanted.Own, ch.Wanted.Template())[name]
	if a == nil {
		return Cause{Kind: TypeDef, Text: fmt.Sprintf("the type %s has no program for '%s' any more", ch.Wanted.Own.Name, name), Pos: ch.Wanted.Own.Pos}
	}
	at := a.Pos
	if before, ok := p.Before.(tosca.String); ok {
		at.File, at.Line, at.Column = filepath.Join(filepath.Dir(at.File), filepath.FromSlash(a.File)), stack.FirstDifference(string(before), string(a.Content)), 1
	}
	return Cause{Kind: Template, Text: fmt.Sprintf("the program %s has changed (%s)", a.File, at.Short()), Pos: at}
}

// policyCauses say which policies apply to a resource now, and which no longer.
func policyCauses(ch *Change, p stack.PropertyChange) []Cause {
	before, _ := p.Before.(tosca.List)
	after, _ := p.After.(tosca.List)
	var out []Cause
	say := func(list, other tosca.List, format string) {
		for _, v := range list {
			if !slices.ContainsFunc(other, func(o tosca.Value) bool { return tosca.Equal(o, v) }) {
				out = append(out, Cause{Kind: Template, Text: fmt.Sprintf(format, tosca.Show(v)), Pos: ch.Pos})
			}
		}
	}
	say(after, before, "the policy %s of the template applies to it now")
	say(before, after, "the policy %s of the template applies to it no longer")
	return out
}

// fewer says why a resource of a node that the template still has is not wanted any more.
func (c *Comparison) fewer(resource string, n *tosca.NodeTemplate) []Cause {
	if causes := c.countCauses(resource); len(causes) > 0 {
		return causes
	}
	text, at := fmt.Sprintf("the template makes no %s any more (%s)", resource, n.Pos.Short()), n.Pos
	if n.Count != nil {
		text, at = fmt.Sprintf("the count of %s is lower: %s", n.Name, n.Count.Pos.Short()), n.Count.Pos
	}
	return []Cause{{Kind: Template, Text: text, Pos: at}}
}

// countCauses say why there are more, or fewer, resources of a node with a count, or of one that
// is filled, inside of one with a count: an input, a look-up, or the line itself. They are those
// of the outermost node that has some.
func (c *Comparison) countCauses(resource string) []Cause {
	for i, r := range resource + "/" {
		if r != '/' {
			continue
		}
		if causes := c.ownCountCauses(resource[:i]); len(causes) > 0 {
			return causes
		}
	}
	return nil
}

// ownCountCauses are those of one node.
func (c *Comparison) ownCountCauses(resource string) []Cause {
	n := c.Wanted.Template(resource)
	if n == nil {
		return nil
	}
	if causes := c.changedSources(c.Wanted.CountSources(resource)); len(causes) > 0 {
		return causes
	}
	if c.Base == nil {
		return nil
	}
	was := c.Base.Template(resource)
	switch {
	case was == nil || was.Count == nil && n.Count == nil:
		return nil
	case n.Count == nil:
		return []Cause{{Kind: Template, Text: fmt.Sprintf("%s has no count any more (%s)", n.Name, n.Pos.Short()), Pos: n.Pos}}
	case was.Count == nil:
		return []Cause{{Kind: Template, Text: fmt.Sprintf("%s has a count now: %s (%s)", n.Name, n.Count.Text(),
			n.Count.Pos.Short()), Pos: n.Count.Pos}}
	case was.Count.Text() != n.Count.Text():
		return []Cause{{Kind: Template, Text: fmt.Sprintf("the count of %s is %s, was %s (%s)", n.Name,
			n.Count.Text(), was.Count.Text(), n.Count.Pos.Short()), Pos: n.Count.Pos}}
	}
	return nil
}

// author is who made what is there other than it is recorded, as far as the cloud tells.
func (ch *Change) author() stack.Author {
	if ch.Live == nil || ch.Live.By.Own || ch.Live.By.Kind == "" { // a run of ours recorded what it did
		return stack.Author{Kind: stack.Outside}
	}
	return ch.Live.By
}

// recordCause says what is not as it is recorded, and what deploying makes of it.
func (c *Comparison) recordCause(ch *Change, p stack.PropertyChange, say func(Cause)) {
	text := fmt.Sprintf("%s %s; deploying puts it back", p.Path, ch.author().Changed())
	if ch.offRecord(p) == conflict {
		was := "it was " + tosca.Show(ch.Recorded.Properties[p.Property])
		if tosca.HasSecret(ch.Recorded.Properties[p.Property]) || tosca.HasSecret(p.After) {
			was = "both are secret"
		}
		text = fmt.Sprintf("conflict: %s %s, and here too (%s); deploying takes what "+
			"stands here", p.Path, ch.author().Changed(), was)
	}
	k := Cause{Kind: Outside, Text: text, Pos: ch.Pos}
	if ch.author().Hand() {
		k.Kind = ByPerson
	}
	if ch.Wanted != nil && !p.Link {
		if prop := ch.Wanted.Property(p.Property); prop != nil {
			k.Pos = prop.Pos
		}
	}
	say(k)
}

// What a deployment makes of a property that is not as it is recorded.
const (
	putBack  = "put back"
	conflict = "conflict" // it was changed here too
)

// offRecord says what a deployment makes of a property that is not as it is recorded;
// "" where it is.
func (ch *Change) offRecord(p stack.PropertyChange) string {
	switch {
	case !p.OffRecord:
		return ""
	case ch.Wanted != nil && !p.Link && p.Property != policies && p.Property != renamed && len(compareTo(ch, p.Property)) > 0:
		return conflict
	}
	return putBack
}

// left notes what is not as it is recorded and is left as it is: tags that others
// have put there, and what has become just what is wanted.
func (c *Comparison) left(ch *Change, props map[string]tosca.Value) {
	if ch.Live == nil || ch.Recorded == nil || ch.Kind == Swap {
		return
	}
	for _, k := range stack.OtherTags(props["tags"], ch.Recorded, ch.Live) {
		c.Set.Left = append(c.Set.Left, Left{ch.Name, "tags." + k,
			fmt.Sprintf("the tag %s is not one of the stack's, and stays", k), false})
	}
	for _, d := range ch.Wanted.Type.Properties {
		was, is := ch.Recorded.Properties[d.Name], ch.Live.Properties[d.Name]
		if d.Name == "tags" || tosca.HasSecret(was) || stack.Same(was, is) || !stack.Same(props[d.Name], is) ||
			tosca.Waits(props[d.Name]) {
			continue
		}
		c.Set.Left = append(c.Set.Left, Left{ch.Name, d.Name,
			fmt.Sprintf("%s %s, and is just what is wanted: %s", d.Name, ch.author().Changed(), tosca.Show(is)), true})
	}
	for _, k := range AcceptedTags(ch.Recorded, ch.Live, props["tags"]) {
		c.Set.Left = append(c.Set.Left, Left{ch.Name, "tags." + k, fmt.Sprintf("tags.%s %s, and is just what is wanted", k, ch.author().Changed()), true})
	}
	for _, l := range ch.Wanted.Links {
		if c.acceptedLink(ch, l) {
			c.Set.Left = append(c.Set.Left, Left{ch.Name, l.Requirement, fmt.Sprintf("%s %s, and is just what is wanted", l.Requirement, ch.author().Changed()), true})
		}
	}
}

// AcceptedTags names the tags that are not as they are recorded, and just what is wanted.
func AcceptedTags(rec *stack.Recorded, live *stack.Live, wanted tosca.Value) (out []string) {
	if tosca.HasSecret(rec.Properties["tags"]) || tosca.HasSecret(wanted) || tosca.Waits(wanted) {
		return nil
	}
	was, want := stack.TagMap(rec.Properties["tags"]), stack.TagMap(wanted)
	all := maps.Clone(want)
	if all == nil {
		all = tosca.Map{}
	}
	maps.Copy(all, was)
	for _, k := range all.Keys() {
		name := tosca.KeyText(k)
		is, there := live.Tags[name]
		if _, wants := want[k]; wants != there || stack.OwnTag(name) || stack.Same(was[k], want[k]) || there && is != tosca.Show(want[k]) {
			continue
		}
		out = append(out, name)
	}
	return out
}

// acceptedLink reports whether a requirement leads elsewhere than it is recorded, and just where it is wanted to.
func (c *Comparison) acceptedLink(ch *Change, l stack.Link) bool {
	var want []string
	for _, name := range l.Targets {
		rec := c.recorded[name]
		if rec == nil {
			return false
		}
		want = append(want, rec.ID)
	}
	return AcceptedLink(ch.Recorded, ch.Live, l.Requirement, want)
}

// AcceptedLink does the same, by the ids of what is wanted.
func AcceptedLink(rec *stack.Recorded, live *stack.Live, requirement string, want []string) bool {
	var was []string
	for _, t := range rec.Links[requirement] {
		was = append(was, t.ID)
	}
	slices.Sort(was)
	want, is := slices.Sorted(slices.Values(want)), slices.Sorted(slices.Values(live.Links[requirement]))
	return !slices.Equal(was, is) && slices.Equal(is, want)
}

// lineCause says that the line of a property reads otherwise than in the
// recorded revision.
func (c *Comparison) lineCause(ch *Change, prop *stack.Property, path string) (Cause, bool) {
	if c.Base == nil {
		return Cause{}, false
	}
	res := c.Base.Resource(ch.Name)
	if res == nil {
		return Cause{}, false
	}
	was := res.Property(prop.Name)
	secret := tosca.HasSecret(prop.Value) || was != nil && tosca.HasSecret(was.Value)
	quoted := func(x *tosca.Expr) string {
		if secret {
			return tosca.SecretText
		}
		return x.Text()
	}
	if prop.Name == "tags" && given(ch.Wanted, "tags") == given(res, "tags") {
		text := "the stack file gives other tags"
		if c.TagsPos.File != "" {
			text += " (" + c.TagsPos.Short() + ")"
		}
		return Cause{Kind: ByInput, Text: text, Pos: c.TagsPos}, true
	}
	now := prop.Expr.Text()
	if was != nil && prop.Def.Metadata["from_artifact"] != "" && was.Expr.Text() != now {
		if k, is := fileCause(ch.Wanted, res, prop.Name); is {
			return k, true
		}
	}
	if face := prop.Def.Metadata["from_interface"]; face != "" && path == prop.Name {
		return Cause{Kind: Outside, Text: "the last of its scripts has failed; they are carried out again", Pos: ch.Pos}, true
	} else if face != "" && was != nil && was.Expr.Text() != now {
		return operationCause(ch.Wanted, res, face, path)
	}
	isDefault := prop.Expr == prop.Def.Default
	wasDefault := was != nil && was.Expr == was.Def.Default
	switch {
	case was == nil && isDefault, wasDefault && isDefault && was.Expr.Text() != now:
		return Cause{Kind: TypeDef, Text: fmt.Sprintf("the default of %s for %s is %s now (%s)", ch.Wanted.Own.Name,
			prop.Name, quoted(prop.Expr), prop.Def.Pos.Short()), Pos: prop.Def.Pos}, true
	case was == nil:
		return Cause{Kind: Template, Text: fmt.Sprintf("%s is new in the template (%s)", prop.Name, prop.Pos.Short()),
			Pos: prop.Pos}, true
	case isDefault && !wasDefault:
		return Cause{Kind: Template, Text: fmt.Sprintf("%s is no longer in the template; the default of %s holds",
			prop.Name, ch.Wanted.Own.Name), Pos: ch.Pos}, true
	case was.Expr.Text() != now:
		return Cause{Kind: Template, Text: fmt.Sprintf("the template says %s for %s, said %s (%s)", quoted(prop.Expr),
			prop.Name, quoted(was.Expr), prop.Pos.Short()), Pos: prop.Pos}, true
	}
	return Cause{}, false
}

// alongCauses say which lines read otherwise, than in the recorded revision, on
// the way from a property to where its value comes from: those of properties of
// other nodes, and of inputs of templates that fill nodes.
func (c *Comparison) alongCauses(ch *Change, prop *stack.Property) []Cause {
	if c.Base == nil || c.Base.Resource(ch.Name) == nil {
		return nil
	}
	old := c.Base.Resource(ch.Name).Property(prop.Name)
	if old == nil {
		return nil
	}
	was := map[string]*stack.Property{}
	for _, p := range c.Base.Sources(old).Along {
		was[p.Owner()] = p
	}
	var out []Cause
	for _, p := range c.Wanted.Sources(prop).Along {
		old := was[p.Owner()]
		if old == nil || p.Expr == nil || old.Expr == nil || old.Expr.Text() == p.Expr.Text() {
			continue
		}
		at := p.Pos
		if at.Line == 0 {
			at = p.Expr.Pos
		}
		out = append(out, Cause{Kind: Template,
			Text:     fmt.Sprintf("%s is %s in the template, was %s (%s)", p.Owner(), p.Text(), old.Text(), at.Short()),
			Resource: p.Resource(), Pos: at})
		if p.Resource() != "" && p.Resource() != ch.Name {
			out[len(out)-1].Kind = Upstream
			c.upstream[ch.Name] = append(c.upstream[ch.Name], p.Resource())
		}
	}
	return out
}

// fileCause says that the file of an artifact has changed, or is another one.
func fileCause(now, was *stack.Resource, property string) (Cause, bool) {
	a, b := now.Template().Artifact(property), was.Template().Artifact(property)
	if a == nil {
		return Cause{}, false
	}
	k := Cause{Kind: Template, Text: fmt.Sprintf("the file %s has changed (%s)", a.File, a.Pos.Short()), Pos: a.Pos}
	if b != nil && b.File != a.File {
		k.Text = fmt.Sprintf("the template names the file %s for %s, named %s (%s)", a.File, property, b.File,
			a.Pos.Short())
	}
	return k, true
}

// operationCause says what of the operations of an interface reads otherwise, at a place such as
// operations.create.script.
func operationCause(now, was *stack.Resource, face, path string) (Cause, bool) {
	words := strings.SplitN(path, ".", 4)
	if len(words) < 2 {
		return Cause{}, false
	}
	find := func(res *stack.Resource) *tosca.Operation {
		for _, o := range tosca.Operations(res.Template(), res.Own, face) {
			if o.Name == words[1] {
				return o
			}
		}
		return nil
	}
	a, b := find(now), find(was)
	if a == nil {
		return Cause{Kind: Template, Text: fmt.Sprintf("the operation %s is no longer in the template", words[1]), Pos: now.Template().Pos}, true
	}
	if b == nil || len(words) < 3 {
		return Cause{Kind: Template, Text: fmt.Sprintf("the operation %s is new in the template (%s)", a.Name, a.Pos.Short()), Pos: a.Pos}, true
	}
	var fileNow, fileWas *tosca.Artifact
	switch words[2] {
	case "document":
		fileNow, fileWas = a.Primary, b.Primary
	case "script":
		fileNow, fileWas = program(a.Primary), program(b.Primary)
	case "files":
		for _, f := range a.Dependencies {
			if len(words) == 4 && f.File == words[3] {
				fileNow = f
			}
		}
		for _, f := range b.Dependencies {
			if len(words) == 4 && f.File == words[3] {
				fileWas = f
			}
		}
		if fileNow == nil || fileWas == nil {
			return Cause{Kind: Template, Text: fmt.Sprintf("other files come with the operation %s (%s)", a.Name, a.Pos.Short()), Pos: a.Pos}, true
		}
	case "inputs":
		if len(words) < 4 {
			return Cause{}, false
		}
		given := func(o *tosca.Operation) *tosca.Assignment {
			for _, in := range o.Given {
				if strings.HasPrefix(words[3]+".", in.Name+".") {
					return in
				}
			}
			return &tosca.Assignment{Pos: a.Pos, Value: &tosca.Expr{}}
		}
		in := given(a)
		at := in.Pos
		if in.Value.Text() == given(b).Value.Text() {
			return Cause{}, false
		}
		return Cause{Kind: Template, Text: fmt.Sprintf("the input %s of the operation %s reads otherwise (%s)", words[3], a.Name, at.Short()), Pos: at}, true
	}
	if fileNow == nil {
		return Cause{}, false
	}
	if fileWas != nil && fileWas.File != fileNow.File {
		return Cause{Kind: Template, Text: fmt.Sprintf("the operation %s names the file %s, named %s (%s)", a.Name, fileNow.File, fileWas.File,
			fileNow.Pos.Short()), Pos: fileNow.Pos}, true
	}
	before := ""
	if fileWas != nil {
		if before = string(fileWas.Content); before == string(fileNow.Content) {
			return Cause{}, false
		}
	}
	at := fileNow.Pos
	at.File, at.Line, at.Column = filepath.Join(filepath.Dir(at.File), filepath.FromSlash(fileNow.File)), stack.FirstDifference(before, string(fileNow.Content)), 1
	return Cause{Kind: Template, Text: fmt.Sprintf("the file %s has changed (%s)", fileNow.File, at.Short()), Pos: at}, true
}

// program is what is carried out: the file itself, or what takes it.
func program(a *tosca.Artifact) *tosca.Artifact {
	if a != nil && a.Adapter != nil {
		return a.Adapter
	}
	return a
}

// given is what a node itself says of a property.
func given(res *stack.Resource, property string) string {
	for _, a := range res.Template().Properties {
		if a.Name == property {
			return a.Value.Text()
		}
	}
	return ""
}

// compareTo lists how the wanted value of a property differs from the record.
func compareTo(ch *Change, property string) []stack.PropertyChange {
	var out []stack.PropertyChange
	for _, p := range stack.Diff(ch.Wanted, wantedValues(ch), ch.Recorded, nil, func(string) string { return "" }) {
		if p.Property == property && !p.Link {
			out = append(out, p)
		}
	}
	return out
}

func wantedValues(ch *Change) map[string]tosca.Value {
	m := map[string]tosca.Value{}
	for _, p := range ch.Wanted.Properties {
		m[p.Name] = p.Value
	}
	return m
}

func (c *Comparison) linkCause(ch *Change, p stack.PropertyChange, say func(Cause)) {
	for _, l := range ch.Wanted.Links {
		if l.Requirement != p.Property {
			continue
		}
		var said bool
		for _, t := range l.Targets {
			if moved := c.movedLookup(t); moved != "" {
				say(Cause{Kind: Lookup, Text: moved, Resource: t, Pos: l.Pos})
				return
			}
			if up := c.Change(t); up != nil && (up.Kind == Swap || up.Kind == New) {
				text := fmt.Sprintf("%s %s gets a new id", mark(up.Kind), t)
				if up.Kind == New {
					text = fmt.Sprintf("%s %s is new", mark(up.Kind), t)
				}
				say(Cause{Kind: Upstream, Text: text, Resource: t, Pos: up.Pos})
				c.upstream[ch.Name] = append(c.upstream[ch.Name], t)
				said = true
			}
		}
		if said || p.OffRecord {
			return
		}
		for _, k := range c.targetCauses(ch, l) {
			say(k)
		}
		return
	}
	say(Cause{Kind: Template, Text: p.Path + " is no longer in the template", Pos: ch.Pos})
}

// targetCauses say why a resource rests on others than in the recorded revision: the requirement
// reads otherwise, or what it comes from has changed, or how many there are of what it names.
func (c *Comparison) targetCauses(ch *Change, l stack.Link) []Cause {
	was, known := c.baseTargets(ch.Name, l.Requirement)
	if !known || slices.Equal(was, l.Targets) {
		return []Cause{{Kind: Template, Text: fmt.Sprintf("the template says so: %s, %s", l.Requirement, l.Pos.Short()), Pos: l.Pos}}
	}
	says := Cause{Kind: Template, Text: fmt.Sprintf("the template says %s for %s, said %s (%s)", someOf(l.Targets), l.Requirement,
		someOf(was), l.Pos.Short()), Pos: l.Pos}
	if requirementText(ch.Wanted, l.Requirement) != requirementText(c.Base.Resource(ch.Name), l.Requirement) {
		return []Cause{says}
	}
	out := c.changedSources(c.Wanted.LinkSources(ch.Wanted, l.Requirement))
	for _, t := range slices.Concat(l.Targets, was) {
		if slices.Contains(l.Targets, t) && slices.Contains(was, t) {
			continue
		}
		for _, k := range c.countCauses(t) {
			if !slices.Contains(out, k) {
				out = append(out, k)
			}
		}
	}
	if len(out) == 0 {
		says.Text = fmt.Sprintf("%s leads to %s, led to %s (%s)", l.Requirement, someOf(l.Targets), someOf(was), l.Pos.Short())
		return []Cause{says}
	}
	return out
}

// requirementText is how a node's requirement of a name reads.
func requirementText(res *stack.Resource, name string) string {
	var parts []string
	for _, q := range res.Template().Requirements {
		if q.Name == name {
			parts = append(parts, q.Target, q.Index.Text(), q.Count.Text(), q.Filter.Text(), q.Optional.Text())
		}
	}
	return strings.Join(parts, "\x00")
}

// baseTargets lists what a resource rested on in the recorded revision.
func (c *Comparison) baseTargets(resource, requirement string) ([]string, bool) {
	if c.Base == nil || c.Base.Resource(resource) == nil {
		return nil, false
	}
	return c.Base.Resource(resource).Targets(requirement), true
}

// someOf is a list of names, or that there is none.
func someOf(names []string) string {
	if len(names) == 0 {
		return "nothing"
	}
	return strings.Join(names, ", ")
}

// changedSources says which inputs and look-ups differ from the recorded
// revision's.
func (c *Comparison) changedSources(from stack.Sources) []Cause {
	if c.BaseRevision == 0 {
		return nil
	}
	var out []Cause
	for _, name := range from.Inputs {
		now, was := c.inputs[name], c.baseInputs[name]
		if now.Value == nil || was.Value != nil && tosca.Equal(now.Value, was.Value) {
			continue
		}
		k := Cause{Kind: ByInput, Pos: now.Origin.Pos}
		switch {
		case tosca.HasSecret(now.Value):
			k.Text = fmt.Sprintf("input %s, a secret, was changed (%s)", name, now.Origin)
		case was.Value != nil:
			k.Text = fmt.Sprintf("input %s is %s, was %s (%s)", name, tosca.Show(now.Value), tosca.Show(was.Value),
				now.Origin)
		default:
			k.Text = fmt.Sprintf("input %s is %s, was not given (%s)", name, tosca.Show(now.Value), now.Origin)
		}
		out = append(out, k)
	}
	for _, name := range from.Lookups {
		if s := c.movedLookup(name); s != "" {
			out = append(out, Cause{Kind: Lookup, Text: s, Resource: name})
		}
	}
	return out
}

// movedLookup says that a look-up finds something else than it did; "" where
// it does not.
func (c *Comparison) movedLookup(name string) string {
	now, was := c.Wanted.Existing(name), c.BaseFound[name]
	switch {
	case now == nil || was.ID == "":
		return ""
	case now.ID != was.ID:
		return fmt.Sprintf("the look-up %s finds %s, it found %s", name, now.ID, was.ID)
	}
	for _, k := range tosca.Map(now.Properties).Keys() {
		if v := was.Properties[k]; v == nil ||
			!tosca.Equal(v, now.Properties[k]) && tosca.Show(v) != tosca.Show(now.Properties[k]) {
			return fmt.Sprintf("%s of %s, which the look-up %s finds, was changed", k, now.ID, name)
		}
	}
	return ""
}
