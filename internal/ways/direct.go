package ways

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Object is something that stands in a system. Links lead to ids of the same system.
type Object struct {
	ID, Type   string
	Properties map[string]any // in the place of what is secret is a Print
	Links      map[string][]string
	Attributes map[string]any
	With       string // the id of what it goes with, when that is removed
}

// Known is what is known of an object beside what its system tells.
type Known struct {
	Properties map[string]any      // as they were asked for, secrets in clear
	Links      map[string][]string // as they were asked for
	Secrets    map[string][]string // what secret properties may be, in clear: as is recorded, and as was asked for last
	Kept       []string            // what the system gave to be kept, when it was changed
}

// Verbatim is a secret property as the system itself keeps it, to be put there as it is.
type Verbatim string

// System is a real system, at one address and with one log-in, that does what it is asked at once. Its
// errors that are Problems are its own words.
type System interface {
	// Types are those of what stands in it.
	Types() []string
	// Objects lists all of it. Known are those of which something is known.
	Objects(ctx context.Context, known map[string]Known) ([]Object, error)
	// Object reads one; a Problem with status 404 says that it is not there.
	Object(ctx context.Context, typ, id string, known Known) (Object, error)
	// Find is the id of what a request would make, by its name; a Problem with status 404 says that it is
	// not there.
	Find(ctx context.Context, r cloud.Request) (id string, err error)
	// Create makes one, and yields its id. Again says that this was asked before, and may have been
	// done: what is there already under the name is the one that was made then.
	Create(ctx context.Context, r cloud.Request, again bool) (id string, err error)
	// Update changes one. It is the request of a cloud: what is null is taken away. Was is the object as
	// it is known. Keep is what has to be kept so that what it was can be put back; "" is nothing.
	Update(ctx context.Context, typ, id string, change cloud.Request, was Known) (keep string, err error)
	// Remove removes one. Was is the object as it is known.
	Remove(ctx context.Context, typ, id string, was Known) error
	// Answers asks once whether it answers, and lets in.
	Answers(ctx context.Context) error
	Close()
}

// Direct lets a system be asked like a cloud. What it cannot keep, whose its objects are and what their
// secrets are, is known by their records; what is asked for and not recorded yet is in the ledger.
type Direct struct {
	System
	connection Connection
	all        *Connections

	mu sync.Mutex
}

var _ cloud.Cloud = (*Direct)(nil)

// asked is an object that was asked for. ID is "" as long as nobody knows whether it was made.
type asked struct {
	Key, Digest, ID, Type string
	Tags                  map[string]string
	Request               cloud.Request
	Secrets               []string
	Kept                  []string
	at                    time.Time
}

// Direct makes a cloud of a system at the end of a connection.
func (c *Connections) Direct(k Connection, s System) *Direct {
	return &Direct{System: s, connection: k, all: c}
}

func hash(parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return hex.EncodeToString(sum[:])[:32]
}

// place is the name of what is asked for under the name of a node.
func place(typ string, tags map[string]string) string { return hash(typ, tags["stack"], tags["node"]) }

func (d *Direct) note(ctx context.Context, a *asked) error {
	text, err := json.Marshal(a)
	if err != nil {
		return err
	}
	return d.all.Ledger.NoteAsked(ctx, hash(d.connection.ID), place(a.Type, a.Tags), text)
}

func (d *Direct) forget(ctx context.Context, typ string, tags map[string]string) error {
	return d.all.Ledger.ForgetAsked(ctx, hash(d.connection.ID), place(typ, tags))
}

// askedFor is all that is asked for at the system.
func (d *Direct) askedFor(ctx context.Context) ([]*asked, error) {
	list, err := d.all.Ledger.Asked(ctx, hash(d.connection.ID))
	if err != nil {
		return nil, err
	}
	out := make([]*asked, len(list))
	for i, n := range list {
		var a asked
		if err := json.Unmarshal(n.Body, &a); err != nil {
			return nil, fmt.Errorf("what was asked for at %s: %w", d.connection.Node, err)
		}
		a.Request.Secrets, a.at = a.Secrets, n.At
		out[i] = &a
	}
	return out, nil
}

// owned is what is known of an object, and whose it is.
type owned struct {
	Known
	tags     map[string]string
	recorded map[string]string      // its secrets, as they are recorded
	prints   map[string]tosca.Value // what is recorded to stand for them
}

// known is all that is known of objects of the system, by id there.
func (d *Direct) known(ctx context.Context) (map[string]*owned, error) {
	out := map[string]*owned{}
	list, err := d.askedFor(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range list {
		if a.ID == "" {
			continue
		}
		o := &owned{Known: Known{Properties: a.Request.Properties, Links: a.Request.Links, Secrets: map[string][]string{}, Kept: a.Kept}, tags: a.Tags}
		for name, v := range secretsOf(a.Request) {
			o.Secrets[name] = []string{v}
		}
		out[a.ID] = o
	}
	records, err := d.all.Recorded(ctx, d.connection.Target, d.Types()...)
	if err != nil {
		return nil, err
	}
	way := cloud.Way{ID: d.connection.ID}
	for stackName, list := range records {
		for _, r := range list {
			through, id := cloud.WayOf(r.ID)
			if through != d.connection.ID {
				continue
			}
			o := &owned{Known: Known{Properties: map[string]any{}, Links: map[string][]string{}, Secrets: map[string][]string{}},
				tags: map[string]string{"stack": stackName, "node": r.Name}, recorded: map[string]string{}, prints: r.Fingerprints}
			for name, v := range r.Properties {
				o.Properties[name] = plain(tosca.Reveal(v))
				if hidden, ok := v.(tosca.Secret); ok {
					o.recorded[name] = tosca.Show(hidden.Value)
					o.Secrets[name] = []string{o.recorded[name]}
				}
			}
			for name, v := range stack.TagMap(r.Properties["tags"]) {
				if _, secret := v.(tosca.Secret); !secret {
					o.tags[tosca.KeyText(name)] = tosca.Show(v)
				}
			}
			for name, links := range r.Links {
				for _, l := range links {
					o.Links[name] = append(o.Links[name], way.Inward(l.ID))
				}
			}
			if newer := out[id]; newer != nil {
				o.Kept = newer.Kept
				for name, v := range newer.Secrets {
					o.Secrets[name] = append(o.Secrets[name], v...)
				}
			}
			out[id] = o
		}
	}
	return out, nil
}

// secretsOf are the secret properties of a request, in clear.
func secretsOf(r cloud.Request) map[string]string {
	out := map[string]string{}
	for _, p := range r.Secrets {
		if name, ok := strings.CutPrefix(p, "/properties/"); ok && !strings.Contains(name, "/") {
			if v := tosca.FromJSON(plain(r.Properties[name])); !tosca.Equal(v, tosca.Null{}) {
				out[name] = tosca.Show(v)
			}
		}
	}
	return out
}

// resource is an object in the form of a cloud.
func (d *Direct) resource(o Object, k *owned) cloud.Resource {
	t := d.connection.Target
	r := cloud.Resource{ID: o.ID, Type: o.Type, Account: t.Account, Region: t.Region, State: "ready", Properties: map[string]any{}, Links: o.Links,
		Attributes: map[string]any{}, Tags: map[string]string{}, UsedBy: []string{}}
	if r.Links == nil {
		r.Links = map[string][]string{}
	}
	for name, v := range o.Attributes {
		r.Attributes[name] = plain(v)
	}
	for name, v := range o.Properties {
		if p, ok := v.(Print); ok { // what stands there for a secret
			switch {
			case p.Is != "" && k != nil && p.Is == k.recorded[name] && k.prints[name] != nil:
				r.Properties[name] = plain(k.prints[name])
			case p.Is != "":
				r.Properties[name] = d.all.Box().Print(p.Is)
			default:
				r.Properties[name] = d.all.Box().Print(p.Kept)
			}
			continue
		}
		if v != nil {
			r.Properties[name] = plain(v)
		}
	}
	if k != nil {
		r.Tags = maps.Clone(k.tags)
	}
	return r
}

// Print stands for a secret in an object: the known one that it is, or else what the system keeps of it.
type Print struct{ Is, Kept string }

// Targets says that there are none of its own.
func (d *Direct) Targets(context.Context) ([]stack.Target, error) { return nil, nil }

// About says nothing of a target.
func (d *Direct) About(context.Context, stack.Target) (*cloud.About, error) { return nil, nil }

// NameTaken knows of no names.
func (d *Direct) NameTaken(context.Context, stack.Target, string, string) (bool, string, error) {
	return false, "", nil
}

// List lists what stands in the system: all of it, or what is of a stack.
func (d *Direct) List(ctx context.Context, _ stack.Target, stackName string) ([]cloud.Resource, error) {
	known, err := d.known(ctx)
	if err != nil {
		return nil, err
	}
	if err := d.unheard(ctx, known); err != nil {
		return nil, err
	}
	mine := map[string]Known{}
	for id, o := range known {
		mine[id] = o.Known
	}
	list, err := d.Objects(ctx, mine)
	if err != nil {
		return nil, err
	}
	out := []cloud.Resource{}
	users := map[string][]string{}
	for _, o := range list {
		for _, ids := range o.Links {
			for _, id := range ids {
				if known[o.ID] != nil || o.With != id {
					users[id] = append(users[id], o.ID)
				}
			}
		}
	}
	for _, o := range list {
		r := d.resource(o, known[o.ID])
		if r.UsedBy = users[o.ID]; r.UsedBy == nil {
			r.UsedBy = []string{}
		}
		if stackName == "" || r.Tags["stack"] == stackName {
			out = append(out, r)
		}
	}
	return out, nil
}

// unheardFor is how long something may still come to be that was asked for and not heard of.
const unheardFor = 10 * time.Minute

// unheard finds what was asked for and may have been made, though nobody heard so: it is whose it was
// to be.
func (d *Direct) unheard(ctx context.Context, known map[string]*owned) error {
	list, err := d.askedFor(ctx)
	for _, a := range list {
		if a.ID != "" {
			continue
		}
		id, err := d.Find(ctx, a.Request)
		switch {
		case cloud.IsNotFound(err): // after a while, what comes under that name is somebody else's
			if time.Since(a.at) > unheardFor {
				_ = d.forget(ctx, a.Type, a.Tags)
			}
		case err != nil:
			return err
		case known[id] == nil:
			known[id] = &owned{Known: Known{Properties: a.Request.Properties, Links: a.Request.Links}, tags: a.Tags}
		}
	}
	return err
}

// Get reads one object.
func (d *Direct) Get(ctx context.Context, r cloud.Ref) (cloud.Resource, error) {
	known, err := d.known(ctx)
	if err != nil {
		return cloud.Resource{}, err
	}
	k := known[r.ID]
	o, err := d.Object(ctx, r.Type, r.ID, knownOf(k))
	if err != nil {
		return cloud.Resource{}, err
	}
	return d.resource(o, k), nil
}

func knownOf(k *owned) Known {
	if k == nil {
		return Known{}
	}
	return k.Known
}

func ended(kind, id string, err error) (cloud.Operation, error) {
	if err != nil {
		return cloud.Operation{}, err
	}
	return cloud.Operation{ID: "op~" + id + "~" + kind, Kind: kind, ResourceID: id, State: "done", Steps: 1, StepNumber: 1}, nil
}

// Create makes an object. What was asked for before under the same key is not made twice; what may have
// been made, though nobody heard so, is taken to be it.
func (d *Direct) Create(ctx context.Context, _ stack.Target, key string, r cloud.Request) (cloud.Operation, error) {
	if !slices.Contains(d.Types(), r.Type) {
		return cloud.Operation{}, &cloud.Problem{Type: "unknown-type", Title: "unknown type", Status: http.StatusUnprocessableEntity,
			Detail: fmt.Sprintf("a %s cannot be made through a %s", r.Type, d.connection.Type), Fix: "let it go through a connection of its own kind"}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	text, err := json.Marshal([]any{r, r.Secrets})
	if err != nil {
		return cloud.Operation{}, err
	}
	a := &asked{Key: key, Digest: hash(string(text)), Type: r.Type, Tags: r.Tags, Request: r, Secrets: r.Secrets}
	list, err := d.askedFor(ctx)
	if err != nil {
		return cloud.Operation{}, err
	}
	again := false
	if i := slices.IndexFunc(list, func(b *asked) bool { return place(b.Type, b.Tags) == place(r.Type, r.Tags) }); i >= 0 {
		before := list[i]
		switch {
		case before.Key == key && before.Digest != a.Digest:
			return cloud.Operation{}, &cloud.Problem{Type: "key-used-before", Title: "key used before", Status: http.StatusUnprocessableEntity,
				Detail: "the key " + key + " was sent before with something else to do"}
		case before.Key == key && before.ID != "":
			return ended("create", before.ID, nil)
		}
		again = before.ID == ""
	}
	if err := d.note(ctx, a); err != nil {
		return cloud.Operation{}, err
	}
	a.ID, err = d.System.Create(ctx, r, again)
	switch {
	case err == nil:
		err = d.note(ctx, a)
	case cloud.Refused(err): // nothing was made now; nor before, where there is nothing
		if again {
			if _, e := d.Find(ctx, r); !cloud.IsNotFound(e) {
				break
			}
		}
		err = errors.Join(err, d.forget(ctx, a.Type, a.Tags))
	}
	return ended("create", a.ID, err)
}

// Update changes an object.
func (d *Direct) Update(ctx context.Context, r cloud.Ref, key string, change cloud.Request) (cloud.Operation, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	known, err := d.known(ctx)
	if err != nil {
		return cloud.Operation{}, err
	}
	was := knownOf(known[r.ID])
	if change, err = d.verbatim(change, was); err != nil {
		return cloud.Operation{}, err
	}
	keep, err := d.System.Update(ctx, r.Type, r.ID, change, was)
	if err != nil {
		return cloud.Operation{}, err
	}
	// Until it is recorded, its new secrets are known here alone.
	is := &asked{Key: key, ID: r.ID, Type: r.Type, Tags: change.Tags, Kept: was.Kept, Request: cloud.Request{Properties: map[string]any{}, Links: was.Links}}
	if is.Tags == nil && known[r.ID] != nil {
		is.Tags = known[r.ID].tags
	}
	if keep != "" && !slices.Contains(is.Kept, keep) {
		is.Kept = append(slices.Clone(is.Kept), keep)
	}
	maps.Copy(is.Request.Properties, was.Properties)
	maps.Copy(is.Request.Properties, change.Properties)
	secrets := secretsOf(change)
	for name := range was.Secrets {
		if _, changed := change.Properties[name]; !changed {
			secrets[name] = ""
		}
	}
	for _, name := range slices.Sorted(maps.Keys(secrets)) {
		is.Secrets = append(is.Secrets, tosca.Pointer("properties", name))
	}
	if len(secrets)+len(is.Kept) > 0 {
		err = d.note(ctx, is)
	}
	return ended("update", r.ID, err)
}

// verbatim finds what the system gave to be kept for the prints in a change: a secret that nobody here
// knows is put back as it was.
func (d *Direct) verbatim(change cloud.Request, was Known) (cloud.Request, error) {
	change.Properties = maps.Clone(change.Properties)
	for name, v := range change.Properties {
		text := fmt.Sprint(v)
		if !strings.HasPrefix(text, "fingerprint:") || slices.Contains(change.Secrets, tosca.Pointer("properties", name)) {
			continue
		}
		i := slices.IndexFunc(was.Kept, func(kept string) bool { return d.all.Box().Print(kept) == text })
		if i < 0 {
			return change, &cloud.Problem{Type: "cannot-change", Title: "cannot be put back", Status: http.StatusUnprocessableEntity,
				Detail: name + " cannot be put back: nobody here knows what it was", Fix: "give it in the template"}
		}
		change.Properties[name] = Verbatim(was.Kept[i])
	}
	return change, nil
}

// Delete removes an object.
func (d *Direct) Delete(ctx context.Context, r cloud.Ref, _ string) (cloud.Operation, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	known, err := d.known(ctx)
	if err != nil {
		return cloud.Operation{}, err
	}
	k := known[r.ID]
	err = d.Remove(ctx, r.Type, r.ID, knownOf(k))
	if k != nil && (err == nil || cloud.IsNotFound(err)) {
		if e := d.forget(ctx, r.Type, k.tags); e != nil {
			return cloud.Operation{}, e
		}
	}
	return ended("delete", r.ID, err)
}

// Operation says that whatever was begun has ended.
func (d *Direct) Operation(_ context.Context, _ cloud.Ref, id string) (cloud.Operation, error) {
	return cloud.Operation{}, cloud.NotFound("operation " + id)
}
