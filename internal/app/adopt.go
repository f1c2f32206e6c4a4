package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"brickrow/internal/assist"
	"brickrow/internal/bundle"
	"brickrow/internal/capture"
	"brickrow/internal/cloud"
	"brickrow/internal/files"
	"brickrow/internal/identity"
	"brickrow/internal/precheck"
	"brickrow/internal/programs"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// adoptions are the resources that are there already and are to come under a stack, as the
// stack file says. What cannot come under it is a finding.
func (a *App) adoptions(ctx context.Context, d *Draft, state *precheck.TargetState, told *tosca.Findings) ([]*stack.Recorded, error) {
	owners, err := a.ownersIn(ctx, d.Stack.Target)
	if err != nil {
		return nil, err
	}
	var out []*stack.Recorded
	seen := map[string]string{}
	for _, ad := range d.Stack.Adopt {
		res := d.Wanted.Resource(ad.Node)
		live := state.Live(ad.ID)
		owner := owners[ad.ID]
		if owner != nil && ad.From == owner.Stack {
			owner = nil
		}
		switch {
		case res == nil:
			var names []string
			for _, r := range d.Wanted.Resources {
				names = append(names, r.Name)
			}
			told.Errorf(ad.Pos, "cannot-adopt", tosca.Suggest(ad.Node, names), "adopt: there is no node '%s'", ad.Node)
		case owner != nil && owner.Stack == d.Stack.Stack && owner.Node == ad.Node: // it is so already
		case owner != nil && owner.Stack == d.Stack.Stack && res.Template().Metadata[tosca.Formerly] == owner.Node: // it is renamed
		case owner != nil && owner.Stack == d.Stack.Stack:
			told.Errorf(ad.Pos, "cannot-adopt", "write metadata: { formerly: "+owner.Node+" } on "+ad.Node, "adopt: %s is %s of this stack already", ad.ID, owner.Node)
		case owner != nil:
			told.Errorf(ad.Pos, "cannot-adopt", fmt.Sprintf("take the line out, or release it there first: brickrow release %s %s", owner.Stack, owner.Node),
				"adopt: %s belongs to the stack %s, as %s", ad.ID, owner.Stack, owner.Node)
		case live == nil && len(state.Unlisted) > 0:
			told.Errorf(ad.Pos, "cannot-adopt", "see that the program answers, and try again", "adopt: whether there is a %s in %s is not known: %s", ad.ID, d.Stack.Target,
				strings.Join(state.Unlisted, "; "))
		case live == nil:
			told.Errorf(ad.Pos, "cannot-adopt", "'brickrow cloud --unowned --target "+d.Stack.Target.String()+"' lists what is there",
				"adopt: there is no %s in %s", ad.ID, d.Stack.Target)
		case live.Tags["stack"] != "" && live.Tags["stack"] != d.Stack.Stack && !a.released(ctx, d.Stack.Target, live):
			told.Errorf(ad.Pos, "cannot-adopt", "release it there first, or take the tag away", "adopt: %s carries the tag of the stack %s, which is not in this store",
				ad.ID, cloud.Clean(live.Tags["stack"]))
		case live.Type != res.Type.Name:
			told.Errorf(ad.Pos, "cannot-adopt", "let the node have the type "+live.Type, "adopt: %s is a %s, and %s is a %s", ad.ID, live.Type, ad.Node, res.Type.Name)
		case live.Type == programs.Type && tosca.Show(live.Properties["own_type"]) != res.Own.Name:
			told.Errorf(ad.Pos, "cannot-adopt", "let the node have the type "+tosca.Show(live.Properties["own_type"]), "adopt: %s is a %s, and %s is a %s", ad.ID,
				tosca.Show(live.Properties["own_type"]), ad.Node, res.Own.Name)
		case seen[ad.ID] != "":
			told.Errorf(ad.Pos, "cannot-adopt", "leave one of them out", "adopt: %s is to be %s already", ad.ID, seen[ad.ID])
		default:
			if is := recordedAs(owners, d.Stack.Stack, ad.Node); is != "" {
				told.Errorf(ad.Pos, "cannot-adopt", fmt.Sprintf("release that first (brickrow release %s %s), or give the node another name", d.Stack.Stack, ad.Node),
					"adopt: %s is %s already", ad.Node, is)
				continue
			}
			seen[ad.ID] = ad.Node
			if state.Mine == nil {
				state.Mine = map[string]bool{}
			}
			state.Mine[ad.ID] = true
			out = append(out, taken(res, live, ad.Pos))
		}
	}
	return out, nil
}

// adoptedTypes are the types with programs of their own of what is to be adopted: nothing of them may have been made from here yet.
func (a *App) adoptedTypes(ctx context.Context, d *Draft) ([]programs.Known, error) {
	var out []programs.Known
	ids := map[string]string{}
	st, err := a.store.At(ctx, d.Stack.Stack, d.Stack.Target)
	if err == nil {
		var current []*stack.Recorded
		if current, _, err = a.store.Recorded(ctx, st.ID); err == nil {
			for _, r := range current {
				ids[r.Name] = r.ID
			}
		}
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	for _, ad := range d.Stack.Adopt {
		res := d.Wanted.Resource(ad.Node)
		if res == nil || res.Type.Name != programs.Type {
			continue
		}
		k := programs.Known{Target: d.Stack.Target, Kind: tosca.Show(res.Value("own_type"))}
		if k.Programs, err = programsIn(res.Value("own_programs")); err != nil {
			return nil, err
		}
		reached := true
		for _, l := range res.Links {
			if l.Requirement == stack.Through {
				k.Through = ids[strings.Join(l.Targets, "")]
				reached = k.Through != ""
			}
		}
		if reached { // a connection that is not there yet leads nowhere
			out = append(out, k)
		}
	}
	return out, nil
}

// taken is what is there as if it had been recorded: so the comparison finds what would become
// other.
func taken(res *stack.Resource, live *stack.Live, at tosca.Pos) *stack.Recorded {
	r := &stack.Recorded{Name: res.Name, Type: live.Type, ID: live.ID, Properties: map[string]tosca.Value{}, Attributes: live.Attributes,
		Links: map[string][]stack.LinkTo{}, Fingerprints: map[string]tosca.Value{}, Needs: res.Needs, Policies: res.Policies, Taken: true, Pos: at}
	for k, v := range live.Properties {
		if k != "tags" { // those that others have put there stay
			r.Properties[k] = v
		}
	}
	for q, ids := range live.Links {
		for _, id := range ids {
			r.Links[q] = append(r.Links[q], stack.LinkTo{ID: id})
		}
	}
	return r
}

func recordedAs(owners map[string]*Owner, stackName, node string) string {
	for id, o := range owners {
		if o.Stack == stackName && o.Node == node {
			return id
		}
	}
	return ""
}

// ownersIn lists whose the recorded resources of a target are, by their ids.
func (a *App) ownersIn(ctx context.Context, t stack.Target) (map[string]*Owner, error) {
	stacks, err := a.store.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]*Owner{}
	for _, st := range stacks {
		if st.Target != t {
			continue
		}
		current, old, err := a.store.Recorded(ctx, st.ID)
		if err != nil {
			return nil, err
		}
		for _, r := range slices.Concat(old, current) {
			out[r.ID] = &Owner{Stack: st.Name, Node: r.Name, Of: st, Recorded: r}
		}
	}
	return out, nil
}

// released reports whether what carries the tag of a stack of this store is no part of it any
// more.
func (a *App) released(ctx context.Context, t stack.Target, live *stack.Live) bool {
	_, err := a.store.At(ctx, live.Tags["stack"], t)
	return !errors.Is(err, store.ErrNotFound) && err == nil
}

// Moving is a resource that goes from one stack into another: what it would do to both.
type Moving struct {
	From          *stack.Stack
	Name, ID      string
	Node          string
	Release, Into *Preview
	draft         *Draft
}

// WhatIfMove says what it would do to let a resource leave its stack and come under another one,
// as a node of it.
func (a *App) WhatIfMove(ctx context.Context, from *stack.Stack, name string, d *Draft, node string) (*Moving, error) {
	m := &Moving{From: from, Name: name, Node: node, draft: d}
	var err error
	if m.Release, err = a.WhatIfRelease(ctx, from, name); err != nil {
		return nil, err
	}
	if ch := m.Release.Change(name); ch != nil && ch.Recorded != nil {
		m.ID = ch.Recorded.ID
	}
	into := d.Adopting(node, m.ID)
	if into.Stack != nil {
		into.Stack.Adopt[len(into.Stack.Adopt)-1].From = from.Name
	}
	m.Into, err = a.WhatIf(ctx, into, node)
	return m, err
}

// Again is the adoption, once the resource was released.
func (a *App) Again(ctx context.Context, m *Moving) (*Preview, error) {
	return a.WhatIf(ctx, m.draft.Adopting(m.Node, m.ID), m.Node)
}

// Capturing says what is to be captured of a target.
type Capturing struct {
	Target  stack.Target
	Stack   string // what carries the tag of this stack
	Unowned bool   // what is nobody's
	IDs     []string
}

// Capture writes a template and a stack file of what is there, which then adopts it. The name
// of the stack is that of the one captured, else the one given.
func (a *App) Capture(ctx context.Context, c Capturing, name string) (*capture.Project, error) {
	v, err := a.Look(ctx, c.Target)
	if err != nil {
		return nil, err
	}
	all := map[string]*stack.Live{}
	var list []*stack.Live
	var owned []string
	for _, r := range v.There {
		if r.Gone {
			continue
		}
		shown := *r.Live // without secrets
		shown.Tags = r.Tags
		all[r.ID] = &shown
		of := r.Owner
		if !(c.Unowned && of == nil || c.Stack != "" && of != nil && of.Stack == c.Stack || slices.Contains(c.IDs, r.ID)) {
			continue
		}
		list = append(list, &shown)
		if of != nil && of.Recorded != nil && !of.Kept {
			owned = append(owned, r.ID)
		}
	}
	for _, id := range c.IDs {
		if all[id] == nil {
			return nil, refusal("there is no %s in %s; 'brickrow cloud --target %s' lists what is there", id, c.Target, c.Target)
		}
	}
	if len(list) == 0 {
		return nil, refusal("nothing of that is in %s; 'brickrow cloud --target %s' lists what is there", c.Target, c.Target)
	}
	p := capture.Write(a.Profile.Library, name, c.Target, list, func(id string) *stack.Live { return all[id] })
	if len(owned) > 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("%d of them belong to a stack of this store already, and are not adopted before they are released there", len(owned)))
	}
	return p, nil
}

// CaptureTo captures into files: a template, a stack file beside it, and what it uses. Nothing
// that is there is written over. It yields the path of the stack file.
func (a *App) CaptureTo(ctx context.Context, c Capturing, template string) (stackFile string, p *capture.Project, err error) {
	base, ok := strings.CutSuffix(filepath.Base(template), ".yaml")
	name := cmp.Or(c.Stack, base)
	if !ok || !stack.GoodName(name) {
		return "", nil, refusal("write NAME.yaml, and NAME becomes the name of the stack: 2 to 63 of a-z, 0-9 and -, beginning with a letter")
	}
	if p, err = a.Capture(ctx, c, name); err != nil {
		return "", nil, err
	}
	dir := filepath.Dir(template)
	stackFile = filepath.Join(dir, base+".stack.yaml")
	texts := map[string]string{template: p.Template,
		stackFile: strings.Replace(p.StackFile, "template: "+name+".yaml", "template: "+base+".yaml", 1)}
	for path, text := range p.Files {
		texts[filepath.Join(dir, filepath.FromSlash(path))] = text
	}
	for path := range texts {
		if _, err := os.Lstat(path); err == nil {
			return "", nil, refusal("%s is there already; nothing is written", path)
		}
	}
	for path, text := range texts {
		if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
			return "", nil, err
		}
		if err := files.Write(path, []byte(text), 0o644); err != nil {
			return "", nil, err
		}
	}
	return stackFile, p, nil
}

// Adopting is the draft in which a node stands for a resource that is there already.
func (d *Draft) Adopting(node, id string) *Draft {
	out, parsed := *d, *d.Parsed
	if parsed.Stack != nil {
		f := *parsed.Stack
		f.Adopt = append(slices.Clone(f.Adopt), stack.Adoption{Node: node, ID: id, Pos: tosca.Pos{File: "adopt " + node}})
		parsed.Stack = &f
	}
	out.Parsed = &parsed
	return &out
}

// WhatIfRelease says what it would do to let a resource leave a stack and stay in the cloud.
// All else stays as the deployed revision says.
func (a *App) WhatIfRelease(ctx context.Context, st *stack.Stack, name string) (*Preview, error) {
	if st.Revision == 0 || st.State == stack.Removed {
		return nil, refusal("%s is not deployed: it has nothing to release", st.Name)
	}
	current, _, err := a.recorded(ctx, st)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(current, func(r *stack.Recorded) bool { return r.Name == name }) {
		var names []string
		for _, r := range current {
			names = append(names, r.Name)
		}
		return nil, refusal("%s has no resource %s%s", st.Name, name, suggested(name, names))
	}
	rev, err := a.store.Revision(ctx, st.ID, st.Revision)
	if err != nil {
		return nil, err
	}
	text, err := a.withoutNode(rev.Template, rev.Text, name)
	if err != nil {
		return nil, refusal("%s cannot be released: %v", name, err)
	}
	now := *rev
	now.Text, now.Note, now.By = text, "releases "+name, identity.User()
	wanted, findings := a.resolveRevision(&now)
	p := &Preview{Stack: st, Kind: run.KindDeploy, Revision: &now, releasing: name, Only: []string{name}}
	if err := a.against(ctx, p, wanted); err != nil {
		return nil, err
	}
	p.Findings = append(findings, p.Findings...)
	return p, nil
}

// withoutNode takes a node out of the text of a template.
func (a *App) withoutNode(path, text, name string) (string, error) {
	w := assist.New(bundle.Disk, a.Profile.Library, tosca.Shipped...)
	w.Set(path, assist.NewText(text))
	e, err := w.WithoutNode(path, name)
	if err != nil {
		return "", err
	}
	return assist.NewText(text).ApplyAll([]assist.Edit{e}).String(), nil
}

// WriteReleased works out what takes a released node out of the files of its stack. It is nil
// where they do not have it any more.
func (a *App) WriteReleased(ctx context.Context, st *stack.Stack, name string) (*Written, error) {
	if st.StackFile == "" {
		return nil, nil
	}
	d, err := a.Load(ctx, st.StackFile, Values{})
	if err != nil {
		return nil, err
	}
	if d.Wanted == nil || d.Wanted.Resource(name) == nil {
		return nil, nil
	}
	doc, err := OpenDocument(d.Template)
	if err != nil {
		return nil, err
	}
	text, err := a.withoutNode(d.Template, doc.Text, name)
	if err != nil {
		return nil, err
	}
	out := &Written{of: st, Files: []WrittenFile{{Path: d.Template, Before: doc.Text, After: text, doc: doc}}}
	for _, ad := range d.Stack.Adopt {
		if ad.Node != name {
			continue
		}
		doc, err := OpenDocument(st.StackFile)
		if err != nil {
			return nil, err
		}
		w := assist.New(bundle.Disk, a.Profile.Library, tosca.Shipped...)
		if e, ok := w.WithoutEntry(st.StackFile, ad.Pos); ok {
			out.Files = append(out.Files, WrittenFile{Path: st.StackFile, Before: doc.Text, doc: doc,
				After: assist.NewText(doc.Text).ApplyAll([]assist.Edit{e}).String()})
		}
	}
	return out, nil
}
