package app

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"brickrow/internal/cloud"
	"brickrow/internal/cloud/httpcloud"
	"brickrow/internal/nameserver"
	"brickrow/internal/postgres"
	"brickrow/internal/programs"
	"brickrow/internal/run"
	"brickrow/internal/seal"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/ways"
	"brickrow/internal/whatif"
)

// clouds are all that is asked: the cloud of the targets, and beside it those of the types that are
// not of it, and what is reached through connections.
func (a *App) clouds(targeted *httpcloud.Client) (*cloud.Mux, error) {
	p, err := programs.Open(filepath.Join(a.Home, "programs"))
	if err != nil {
		return nil, err
	}
	p.Recorded, p.Prints = a.programmed, a.prints("programs")
	p.Deployed = func(ctx context.Context, identity string) (bool, error) {
		if a.AskPrograms.Load() {
			return true, nil
		}
		return a.store.ProgramDeployed(ctx, identity)
	}
	a.programs = p
	a.connections = ways.New(a.store, a.prints("connections"))
	a.connections.Kinds = map[string]ways.Kind{
		"CloudConnection":     ways.Elsewhere{From: targeted},
		"ClusterConnection":   ways.Clusters{Via: targeted},
		postgres.Connection:   postgres.Kind{All: a.connections},
		nameserver.Connection: nameserver.Kind{All: a.connections},
	}
	a.connections.Recorded, a.connections.IDs = a.store.RecordedOf, a.store.RecordedIDs
	p.Connected = func(ctx context.Context, t stack.Target, id string) (*programs.Connection, error) {
		k, err := a.connections.Find(ctx, t, id)
		if err != nil {
			return nil, err
		}
		out := &programs.Connection{Type: k.Type, Properties: map[string]any{}}
		for name, v := range k.Settings {
			out.Properties[name] = tosca.Reveal(v)
			if hidden, ok := v.(tosca.Secret); ok {
				out.Secrets = append(out.Secrets, tosca.Show(hidden.Value))
			}
		}
		return out, nil
	}
	m := &cloud.Mux{Targeted: targeted, Types: map[string]cloud.Cloud{programs.Type: p}, Ways: a.connections}
	for typ := range a.connections.Kinds {
		m.Types[typ] = a.connections
	}
	a.connections.There = func(ctx context.Context, r cloud.Ref) (bool, error) {
		all, err := a.store.RecordedOf(ctx, r.Target)
		for _, list := range all {
			for _, rec := range list {
				if rec.ID == r.ID {
					r.Type = rec.Type
				}
			}
		}
		if err == nil {
			_, err = m.Get(ctx, r)
		}
		if cloud.IsNotFound(err) {
			return false, nil
		}
		return true, err
	}
	return m, nil
}

// programmed lists what is recorded of a stack in a target, or of all where the name is "", and
// made by programs.
func (a *App) programmed(ctx context.Context, t stack.Target, stackName string) ([]programs.Known, error) {
	all, err := a.store.RecordedOf(ctx, t, programs.Type)
	if err != nil {
		return nil, err
	}
	var out []programs.Known
	for name, list := range all {
		if stackName != "" && name != stackName {
			continue
		}
		for _, r := range list {
			k, err := knownOf(name, t, r)
			if err != nil {
				return nil, err
			}
			out = append(out, k)
		}
	}
	return out, nil
}

func knownOf(stackName string, t stack.Target, r *stack.Recorded) (programs.Known, error) {
	settings := tosca.FromJSON(nil)
	if v := r.Properties["own_properties"]; v != nil {
		settings = v
	}
	k := programs.Known{Target: t, ID: r.ID, Kind: tosca.Show(r.Properties["own_type"]), Tags: map[string]string{"stack": stackName, "node": r.Name},
		Secrets: cloud.SecretPlaces("", settings), Settings: map[string]any{}, Facts: map[string]any{}, Programs: map[string]programs.Program{}}
	for name, v := range stack.TagMap(r.Properties["tags"]) {
		if _, secret := v.(tosca.Secret); !secret {
			k.Tags[tosca.KeyText(name)] = tosca.Show(v)
		} else if print := stack.TagMap(r.Fingerprints["tags"])[name]; print != nil {
			k.Tags[tosca.KeyText(name)] = tosca.Show(print)
		}
	}
	for _, l := range r.Links[stack.Through] {
		k.Through = l.ID
	}
	for _, part := range []struct {
		v    tosca.Value
		into *map[string]any
	}{{settings, &k.Settings}, {r.Attributes[stack.OwnAttributes], &k.Facts}} {
		text, err := json.Marshal(tosca.Reveal(part.v))
		if err == nil {
			err = json.Unmarshal(text, part.into)
		}
		if err != nil {
			return k, err
		}
	}
	if facts, ok := r.Attributes[stack.OwnAttributes].(tosca.Map); ok {
		for name, v := range facts {
			if tosca.HasSecret(v) {
				k.SecretFacts = append(k.SecretFacts, tosca.KeyText(name))
			}
		}
	}
	if prints := r.Fingerprints["own_properties"]; prints != nil {
		text, err := json.Marshal(tosca.Reveal(prints))
		if err == nil {
			err = json.Unmarshal(text, &k.Prints)
		}
		if err != nil {
			return k, err
		}
	}
	text, err := json.Marshal(tosca.Reveal(r.Properties["own_programs"]))
	if err == nil {
		err = json.Unmarshal(text, &k.Programs)
	}
	return k, err
}

// keepPrograms keeps the programs of what is wanted, for when their files are gone.
func (a *App) keepPrograms(w *stack.Wanted) error {
	if w == nil {
		return nil
	}
	seen := map[*tosca.Artifact]bool{}
	for _, res := range w.Resources {
		for _, f := range stack.Programs(res.Own, res.Template()) {
			if seen[f] || f.Content == nil {
				continue
			}
			seen[f] = true
			if err := a.programs.Keep(programs.Program{File: f.File, Digest: programs.Digest(f.Content)}, f.Content); err != nil {
				return err
			}
		}
	}
	return nil
}

// notePrograms notes that the programs of what is wanted are part of a deployment, to which somebody has agreed; and, where
// they were to be asked, those that stand in the files of what is there already.
func (a *App) notePrograms(ctx context.Context, p *Preview) error {
	var list []store.ProgramOf
	seen := map[string]bool{}
	add := func(of programs.Program) {
		for _, is := range []string{of.Identity(), of.Own()} {
			if !seen[is] {
				seen[is] = true
				list = append(list, store.ProgramOf{Identity: is, File: of.File})
			}
		}
	}
	for _, ch := range p.Changes {
		if ch.Wanted != nil && p.Kind != run.KindDelete {
			all, err := programsIn(ch.Wanted.Value("own_programs"))
			if err != nil {
				return err
			}
			for _, of := range all {
				add(of)
			}
		}
		if ch.Recorded != nil && a.AskPrograms.Load() {
			all, err := programsIn(ch.Recorded.Properties["own_programs"])
			if err != nil {
				return err
			}
			for _, of := range all {
				if now, _, there := of.Now(); there {
					add(now)
				}
			}
		}
	}
	return a.store.NotePrograms(ctx, list)
}

// programsIn are the programs in a property that tells of them.
func programsIn(v tosca.Value) (map[string]programs.Program, error) {
	if v == nil || !tosca.IsKnown(v) {
		return nil, nil
	}
	out := map[string]programs.Program{}
	text, err := json.Marshal(tosca.Reveal(v))
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	return out, err
}

// ActionsOf lists the actions that a recorded resource has: those of its type, or of its programs.
func (a *App) ActionsOf(r *stack.Recorded) []*tosca.Operation {
	own, ok := r.Properties["own_programs"].(tosca.Map)
	if !ok {
		return a.Actions(r.Type)
	}
	var out []*tosca.Operation
	for _, k := range own.Keys() {
		if name, is := strings.CutPrefix(tosca.KeyText(k), programs.Action("")); is {
			file := ""
			if one, ok := own[k].(tosca.Map); ok {
				file = tosca.Show(one["file"])
			}
			out = append(out, &tosca.Operation{Name: name, Description: "What " + file + " does for it"})
		}
	}
	return out
}

// byProgram reports whether programs make a resource.
func byProgram(r *stack.Recorded) bool { return r.Type == programs.Type }

// seen are attributes as they may be shown.
func seen(r cloud.Resource, attributes map[string]any) tosca.Value {
	out := tosca.Map{}
	for name, v := range attributes {
		value := tosca.FromJSON(v)
		for _, p := range r.SecretAttributes {
			if p == name {
				value = tosca.Hide(value)
			}
		}
		out[name] = tosca.ReplaceSecrets(cloud.HideAt(value, tosca.Pointer(name), r.SecretAttributes),
			func(tosca.Secret) tosca.Value { return tosca.String(tosca.SecretText) })
	}
	return out
}

// unread says which resources of a stack could not be read. What would be done to one whose state is not known is refused; a
// deletion goes on all the same, and so does what only takes it out of the stack: what cannot be removed can be given up.
func (a *App) unread(p *Preview, live map[string]*stack.Live, name string) {
	var list []*stack.Live
	for _, l := range live {
		if l.Unread() && l.Tags["stack"] == name {
			list = append(list, l)
		}
	}
	slices.SortFunc(list, func(a, b *stack.Live) int { return stack.CompareNames(a.Node, b.Node) })
	for _, l := range list {
		u := stack.Unread{Name: l.Node, ID: l.ID, Through: l.Through, Why: l.Why}
		pos, touched := tosca.Pos{}, false
		for i := range p.Changes {
			ch := &p.Changes[i]
			if ch.Recorded == nil || ch.Recorded.ID != l.ID {
				continue
			}
			u.Name, pos = ch.Name, ch.Pos
			touched = (ch.Kind == whatif.Edit || ch.Kind == whatif.Swap) && slices.ContainsFunc(ch.Properties, func(c stack.PropertyChange) bool {
				return c.Property != "own_programs" && c.Path != "name"
			})
		}
		p.ChangeSet.Unread = append(p.ChangeSet.Unread, u)
		const mend = "see that it can be reached; what cannot be removed can be given up with 'brickrow leave'"
		if touched && p.Kind != run.KindDelete {
			p.unreadFindings.Errorf(pos, "not-read", mend, "%s; what a change of it would do is not known either", u.Words())
			continue
		}
		p.unreadFindings.Warnf(pos, "not-read", mend, "%s; it is taken to be as last known", u.Words())
	}
}

// NotAsked are the files of programs that would say how a change is made, and were not asked, as they were never deployed.
func (p *Preview) NotAsked() []string { return p.unasked }

func (p *Preview) notAsked(file string) {
	if !slices.Contains(p.unasked, file) {
		p.unasked = append(p.unasked, file)
	}
}

// AskQuestion asks whether programs may be asked that were never deployed.
func AskQuestion(files []string) string {
	return fmt.Sprintf("How it would be changed is said by %s, which was never deployed from this store. Run it to ask?", strings.Join(files, ", "))
}

// notAsked refuses what is not known without a program that was not asked.
func notAsked(files []string) error {
	return refusal("what would be done is not known: %s was not asked, because it was never deployed from this store; look at it, then give --ask-programs",
		strings.Join(files, ", "))
}

// unaskedFindings say which programs were not asked.
func (p *Preview) unaskedFindings() (out tosca.Findings) {
	for _, ch := range p.Changes {
		if ch.NotAsked != "" {
			out.Warnf(ch.Pos, "not-asked", "look at "+ch.NotAsked+", then --ask-programs lets it be asked",
				"%s is changed in place, or swapped: its program %s was not asked, because it was never deployed", ch.Name, ch.NotAsked)
		}
	}
	return out
}

// planOwn asks the program of a resource how a change of it can be made.
func (a *App) planOwn(ctx context.Context, st *stack.Stack, rec *stack.Recorded, wanted map[string]tosca.Value) (string, []string, error) {
	k, err := knownOf(st.Name, st.Target, rec)
	if err != nil {
		return "", nil, err
	}
	next := *rec
	next.Properties = wanted
	n, err := knownOf(st.Name, st.Target, &next)
	if err != nil {
		return "", nil, err
	}
	n.Facts, n.SecretFacts = k.Facts, k.SecretFacts
	return a.programs.Plan(ctx, n, k.Settings)
}

// prints opens the box that makes the prints of secrets, when it is asked for: that of the store, which is at first
// the one of this folder. Who is no member of the store has one that tells nothing.
func (a *App) prints(name string) func() *seal.Box {
	return sync.OnceValue(func() *seal.Box {
		was, err := seal.KeyOf(filepath.Join(a.Home, name))
		if err == nil {
			var key []byte
			if key, err = a.store.Key(context.Background(), name, was); err == nil {
				if box, err := seal.New(key); err == nil {
					return box
				}
			}
		}
		return seal.Random()
	})
}
