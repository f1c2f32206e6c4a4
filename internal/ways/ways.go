// Package ways is the connections of stacks: how what is elsewhere than in the cloud of the targets
// is reached, with what it takes to be let in. A connection is a resource like others. Nothing of it
// is in any cloud: it is ready once what it leads to has answered, and is known by its record.
package ways

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/cloud"
	"brickrow/internal/seal"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Settings are what a connection is set up with: its properties, secrets in clear.
type Settings map[string]tosca.Value

// Text is a setting as text; "" where it is not set.
func (s Settings) Text(name string) string {
	v := s[name]
	if hidden, ok := v.(tosca.Secret); ok {
		v = hidden.Value
	}
	if _, null := v.(tosca.Null); v == nil || null {
		return ""
	}
	return tosca.Show(v)
}

// Duration reads a length of time such as 5 m or 2 d.
func Duration(text string) (time.Duration, error) {
	number, unit, _ := strings.Cut(strings.TrimSpace(text), " ")
	if unit = strings.TrimSpace(unit); unit == "d" {
		n, err := strconv.ParseFloat(number, 64)
		return time.Duration(n * 24 * float64(time.Hour)), err
	}
	return time.ParseDuration(number + unit)
}

// Kind is a type of connection.
type Kind interface {
	// Open yields what is at the end of a connection. It asks nothing yet.
	Open(c Connection) (cloud.End, error)
	// Answers asks once whether it answers, and lets in.
	Answers(ctx context.Context, end cloud.End) error
}

// Connection is a connection as it is recorded.
type Connection struct {
	ID, Type, Stack, Node string
	Target                stack.Target
	Settings              Settings
	Hosts                 []string // the ids of what it leads to
	prints                map[string]tosca.Value
}

// Connections is all of them. It is the cloud of the connections themselves, and the ways to what
// they lead to.
type Connections struct {
	// Box makes the prints by which secrets are told apart; they are the same for all who share a store.
	Box    func() *seal.Box
	Ledger Ledger
	Kinds  map[string]Kind // by type
	// Recorded lists what is recorded of some types in a target, or of all where none is named, by
	// the names of the stacks.
	Recorded func(ctx context.Context, t stack.Target, types ...string) (map[string][]*stack.Recorded, error)
	// IDs are the ids of all that is recorded in a target.
	IDs func(ctx context.Context, t stack.Target) (map[string]bool, error)
	// There asks whether a resource that a connection leads to is there still.
	There func(ctx context.Context, r cloud.Ref) (bool, error)

	mu   sync.Mutex
	ops  map[string]*waiting // by key
	mine map[string]mine     // by id: what this process has set up, and is not recorded yet
	used map[string]bool     // by id: something was asked for there
	open map[string][]opened // by id, the newest last: as it is recorded, and perhaps as it will be
	// silent is when connections did not answer a look, by id.
	silent map[string]time.Time
}

// mine is a connection that this process has made, changed or removed; it counts as long as what is
// recorded is what was before.
type mine struct {
	before, is *Connection // nil is that there is none
}

type opened struct {
	digest string
	end    cloud.End
}

// waiting is how far a connection is that is waited for.
type waiting struct {
	id, kind, digest string
	begun            time.Time
	within           time.Duration

	mu      sync.Mutex
	last    error // of the last try
	ended   time.Time
	problem *cloud.Problem
}

var _ cloud.Cloud = (*Connections)(nil)
var _ cloud.Ways = (*Connections)(nil)

// Ledger keeps what was asked for at a system and is not recorded yet, where whoever goes on with a run finds
// it. What is noted has secrets in it.
type Ledger interface {
	NoteAsked(ctx context.Context, shelf, name string, body []byte) error
	Asked(ctx context.Context, shelf string) ([]cloud.Noted, error)
	ForgetAsked(ctx context.Context, shelf, name string) error
}

// New makes the connections of a ledger.
func New(ledger Ledger, box func() *seal.Box) *Connections {
	return &Connections{Ledger: ledger, Box: box, Kinds: map[string]Kind{}, ops: map[string]*waiting{}, mine: map[string]mine{}, used: map[string]bool{}, open: map[string][]opened{}, silent: map[string]time.Time{}}
}

type assumed struct{}

// Assuming says how connections will be, by their ids, other than they are recorded, or though they are
// not recorded: what is reached is looked at through them as they will be.
func Assuming(ctx context.Context, planned map[string]*Connection) context.Context {
	if len(planned) == 0 {
		return ctx
	}
	return context.WithValue(ctx, assumed{}, planned)
}

func planned(ctx context.Context) map[string]*Connection {
	list, _ := ctx.Value(assumed{}).(map[string]*Connection)
	return list
}

// all are the connections of a target, by id.
func (c *Connections) all(ctx context.Context, t stack.Target) (map[string]*Connection, error) {
	list, err := c.Recorded(ctx, t, slices.Sorted(maps.Keys(c.Kinds))...)
	if err != nil {
		return nil, err
	}
	out := map[string]*Connection{}
	for name, records := range list {
		for _, r := range records {
			k := &Connection{ID: r.ID, Type: r.Type, Stack: name, Node: r.Name, Target: t, Settings: Settings(r.Properties), prints: r.Fingerprints}
			for _, l := range r.Links[stack.Hosting] {
				k.Hosts = append(k.Hosts, l.ID)
			}
			out[r.ID] = k
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for id, m := range c.mine {
		switch now := out[id]; {
		case m.is != nil && m.is.Target != t || m.before != nil && m.before.Target != t:
		case !same(now, m.before): // it is recorded meanwhile, or somebody else has changed it since
			delete(c.mine, id)
		case m.is == nil:
			delete(out, id)
		default:
			out[id] = m.is
		}
	}
	return out, nil
}

// same reports whether two connections are set up alike.
func same(a, b *Connection) bool {
	if a == nil || b == nil {
		return a == b
	}
	return digest(a.Settings) == digest(b.Settings) && slices.Equal(a.Hosts, b.Hosts)
}

// digest tells one way of setting up from another. Nothing can be read from it.
func digest(s Settings) string {
	h := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(s)) {
		if v := s[name]; v != nil && !tosca.Equal(v, tosca.Null{}) {
			text, _ := json.Marshal(tosca.Reveal(v)) // a value always can be written
			fmt.Fprintf(h, "%q=%s\n", name, text)
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Find is a connection by its id.
func (c *Connections) Find(ctx context.Context, t stack.Target, id string) (*Connection, error) {
	all, err := c.all(ctx, t)
	if err != nil {
		return nil, err
	}
	if k := all[id]; k != nil {
		return k, nil
	}
	if k := planned(ctx)[id]; k != nil {
		return k, nil
	}
	return nil, cloud.NotFound(id)
}

// end opens a connection, or takes the one that is open already.
func (c *Connections) end(ctx context.Context, k *Connection) (cloud.End, error) {
	if as := planned(ctx)[k.ID]; as != nil {
		with := *k
		with.Settings = as.Settings
		k = &with
	}
	kind := c.Kinds[k.Type]
	if kind == nil {
		return cloud.End{}, fmt.Errorf("%s: a %s is no connection that this program knows", k.ID, k.Type)
	}
	now := digest(k.Settings)
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, o := range c.open[k.ID] {
		if o.digest == now {
			return o.end, nil
		}
	}
	end, err := kind.Open(*k)
	if err != nil {
		return end, notOpened(k, err)
	}
	end.ID = k.ID
	c.shut(k.ID, 1)
	c.open[k.ID] = append(c.open[k.ID], opened{now, end})
	return end, nil
}

func notOpened(k *Connection, err error) error {
	return &cloud.Problem{Type: "bad-address", Title: "no such way", Status: http.StatusUnprocessableEntity, Detail: k.Node + ": " + err.Error()}
}

// shut closes what is open of a connection, but for the newest ones.
func (c *Connections) shut(id string, but int) {
	list := c.open[id]
	for len(list) > but {
		if closes, ok := list[0].end.Cloud.(interface{ Close() }); ok {
			go closes.Close() // it may be in use
		}
		list = list[1:]
	}
	c.open[id] = list
}

// Close closes all that is open.
func (c *Connections) Close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for id := range c.open {
		c.shut(id, 0)
	}
}

// Reach yields what is at the end of a connection.
func (c *Connections) Reach(ctx context.Context, t stack.Target, connection string) (cloud.End, error) {
	k, err := c.Find(ctx, t, connection)
	if cloud.IsNotFound(err) {
		return cloud.End{}, &cloud.Problem{Type: "no-way", Title: "no way there", Status: http.StatusConflict,
			Detail: "the connection " + connection + " is not recorded any more: what was reached through it cannot be reached",
			Fix:    "give up what was reached through it with 'brickrow leave', or deploy the connection again"}
	}
	if err != nil {
		return cloud.End{}, err
	}
	c.mu.Lock()
	c.used[connection] = true
	c.mu.Unlock()
	return c.end(ctx, k)
}

// Ends are those of the connections of a target.
func (c *Connections) Ends(ctx context.Context, t stack.Target, stackName string) ([]cloud.End, error) {
	list, err := c.sorted(ctx, t, stackName)
	if err != nil {
		return nil, err
	}
	var out []cloud.End
	for _, k := range list {
		if end, err := c.end(ctx, k); err == nil {
			out = append(out, end)
		}
	}
	return out, nil
}

// Named are a stack's connections by their names.
func (c *Connections) Named(ctx context.Context, t stack.Target, stackName string) (map[string]*Connection, error) {
	list, err := c.sorted(ctx, t, stackName)
	out := map[string]*Connection{}
	for _, k := range list {
		out[k.Node] = k
	}
	return out, err
}

// sorted are the connections of a stack, or "" of all, by stack and node.
func (c *Connections) sorted(ctx context.Context, t stack.Target, stackName string) ([]*Connection, error) {
	all, err := c.all(ctx, t)
	if err != nil {
		return nil, err
	}
	list := slices.SortedFunc(maps.Values(all), func(a, b *Connection) int {
		return strings.Compare(a.Stack+"\n"+a.Node+"\n"+a.ID, b.Stack+"\n"+b.Node+"\n"+b.ID)
	})
	return slices.DeleteFunc(list, func(k *Connection) bool { return stackName != "" && k.Stack != stackName }), nil
}

// Lost reports whether what a connection leads to is not there any more.
func (c *Connections) Lost(ctx context.Context, t stack.Target, connection string) bool {
	k, err := c.Find(ctx, t, connection)
	if err != nil || len(k.Hosts) == 0 {
		return false
	}
	for _, id := range k.Hosts {
		if there, err := c.There(ctx, cloud.Ref{Target: t, ID: id}); err != nil || there {
			return false
		}
	}
	return true
}

// List lists the connections themselves.
func (c *Connections) List(ctx context.Context, t stack.Target, stackName string) ([]cloud.Resource, error) {
	list, err := c.sorted(ctx, t, stackName)
	var out []cloud.Resource
	for _, k := range list {
		out = append(out, c.resource(k))
	}
	return out, err
}

// Through adds what is reached through the connections to what is there: of one that does not answer,
// what is recorded.
func (c *Connections) Through(ctx context.Context, t stack.Target, stackName string, there []cloud.Resource) ([]cloud.Resource, error) {
	list, err := c.sorted(ctx, t, "") // one of another stack may be gone through, too
	for id, k := range planned(ctx) {
		if !slices.ContainsFunc(list, func(have *Connection) bool { return have.ID == id }) {
			list = append(list, k)
		}
	}
	if err != nil || len(list) == 0 {
		return there, err
	}
	parts := make([]seen, len(list))
	var g errgroup.Group
	for i, k := range list {
		g.Go(func() error {
			asking, stop := context.WithTimeout(ctx, c.patience(k.ID))
			defer stop()
			end, err := c.end(asking, k)
			var found []cloud.Resource
			if err == nil {
				found, err = within(asking, func() ([]cloud.Resource, error) { return end.Cloud.List(asking, end.Target, stackName) })
			}
			c.heard(k.ID, err == nil || asking.Err() == nil)
			if err != nil && ctx.Err() == nil && asking.Err() != nil {
				err = &cloud.Problem{Type: "connection", Title: "no answer", Detail: fmt.Sprintf("%s does not answer", k.Node), Passing: true}
			}
			parts[i].place = k.ID
			switch {
			case ctx.Err() != nil:
				return ctx.Err()
			case err == nil:
				parts[i].place = end.Place
				for _, r := range found {
					r.Account, r.Region = t.Account, t.Region
					parts[i].list = append(parts[i].list, end.Resource(r))
				}
				return nil
			case cloud.IsUnanswered(err) && c.Lost(ctx, t, k.ID):
				return nil
			}
			parts[i].list, err = c.remembered(ctx, k, stackName, err)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	return c.once(ctx, t, append([]seen{{"", there}}, parts...))
}

// How long a connection has to say what is there: all are asked at the same time. One that said nothing lately has less.
const patience, impatience = 4 * time.Second, time.Second

// lately is how long it is remembered that a connection did not answer.
const lately = time.Minute

// Deadline ends when connections have had long enough to answer a look.
func Deadline(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(ctx, patience)
}

func (c *Connections) patience(id string) time.Duration {
	if c.Silent(id) {
		return impatience
	}
	return patience
}

// Silent reports whether a connection did not answer when it was asked a moment ago.
func (c *Connections) Silent(id string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Since(c.silent[id]) < lately
}

func (c *Connections) heard(id string, answered bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if answered {
		delete(c.silent, id)
	} else {
		c.silent[id] = time.Now()
	}
}

// within waits for an answer no longer than a context lasts, whatever the one who is asked makes of it.
func within[T any](ctx context.Context, ask func() (T, error)) (T, error) {
	type answer struct {
		is  T
		err error
	}
	got := make(chan answer, 1)
	go func() {
		is, err := ask()
		got <- answer{is, err}
	}()
	select {
	case a := <-got:
		return a.is, a.err
	case <-ctx.Done():
		var none T
		return none, ctx.Err()
	}
}

// seen is what is seen of a place.
type seen struct {
	place string
	list  []cloud.Resource
}

// once is what is seen from several sides, once: as it is recorded, or as it is seen first.
func (c *Connections) once(ctx context.Context, t stack.Target, parts []seen) ([]cloud.Resource, error) {
	type where struct{ place, id string }
	first, doubled := map[where]int{}, false
	var recorded map[string]bool
	var out []cloud.Resource
	for _, p := range parts {
		for _, r := range p.list {
			_, id := cloud.WayOf(r.ID)
			at, there := first[where{p.place, id}]
			if !there {
				first[where{p.place, id}] = len(out)
				out = append(out, r)
				continue
			}
			if !doubled {
				var err error
				if recorded, err = c.IDs(ctx, t); err != nil {
					return nil, err
				}
				doubled = true
			}
			if recorded[r.ID] && !recorded[out[at].ID] {
				out[at] = r
			}
		}
	}
	return out, nil
}

// remembered is what is recorded of what is reached through a connection.
func (c *Connections) remembered(ctx context.Context, k *Connection, stackName string, why error) ([]cloud.Resource, error) {
	all, err := c.Recorded(ctx, k.Target)
	if err != nil {
		return nil, err
	}
	var out []cloud.Resource
	for name, list := range all {
		for _, r := range list {
			if way, _ := cloud.WayOf(r.ID); way != k.ID || stackName != "" && stackName != name {
				continue
			}
			is := cloud.Resource{ID: r.ID, Type: r.Type, Account: k.Target.Account, Region: k.Target.Region, State: cloud.Unreadable, Why: cloud.Clean(why.Error()), Through: k.Node,
				Properties: c.shown(r.Properties, r.Fingerprints), Links: map[string][]string{}, Attributes: map[string]any{}, UsedBy: []string{},
				Tags: map[string]string{"stack": name, "node": r.Name}}
			for requirement, links := range r.Links {
				for _, l := range links {
					is.Links[requirement] = append(is.Links[requirement], l.ID)
				}
			}
			out = append(out, is)
		}
	}
	return out, nil
}

// shown are properties as a cloud shows them: in the place of those that are secret is what is
// recorded to stand for them, or their print.
func (c *Connections) shown(properties, prints map[string]tosca.Value) map[string]any {
	out := map[string]any{}
	for name, v := range properties {
		switch {
		case name == "tags" || v == nil || tosca.Equal(v, tosca.Null{}):
			continue
		case tosca.HasSecret(v) && prints[name] != nil:
			v = prints[name]
		case tosca.HasSecret(v):
			v = c.Box().Shown(v)
		}
		out[name] = plain(v)
	}
	return out
}

// plain is a value as encoding/json decodes it.
func plain(v any) any {
	text, err := json.Marshal(v)
	if err != nil {
		return nil
	}
	var out any
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if d.Decode(&out) != nil {
		return nil
	}
	return out
}

// resource is a connection in the form of a cloud.
func (c *Connections) resource(k *Connection) cloud.Resource {
	r := cloud.Resource{ID: k.ID, Type: k.Type, Account: k.Target.Account, Region: k.Target.Region, State: "ready",
		Properties: c.shown(k.Settings, k.prints), Links: map[string][]string{}, Attributes: map[string]any{}, UsedBy: []string{},
		Tags: map[string]string{"stack": k.Stack, "node": k.Node}}
	for name, v := range stack.TagMap(k.Settings["tags"]) {
		if _, secret := v.(tosca.Secret); !secret {
			r.Tags[tosca.KeyText(name)] = tosca.Show(v)
		}
	}
	if len(k.Hosts) > 0 {
		r.Links[stack.Hosting] = k.Hosts
	}
	return r
}

// Targets says that there are none of its own.
func (c *Connections) Targets(context.Context) ([]stack.Target, error) { return nil, nil }

// About says nothing of a target.
func (c *Connections) About(context.Context, stack.Target) (*cloud.About, error) { return nil, nil }

// NameTaken knows of no names.
func (c *Connections) NameTaken(context.Context, stack.Target, string, string) (bool, string, error) {
	return false, "", nil
}

// Get reads a connection.
func (c *Connections) Get(ctx context.Context, r cloud.Ref) (cloud.Resource, error) {
	k, err := c.Find(ctx, r.Target, r.ID)
	if err != nil {
		return cloud.Resource{}, err
	}
	return c.resource(k), nil
}

// take takes over what a request names.
func (k *Connection) take(r cloud.Request) {
	given := map[string]tosca.Value{}
	for name, v := range r.Properties {
		given[name] = tosca.FromJSON(plain(v))
	}
	secret := cloud.HideAt(tosca.Map(mapOf(given)), "/properties", r.Secrets)
	k.Settings = maps.Clone(k.Settings)
	if k.Settings == nil {
		k.Settings = Settings{}
	}
	for name, v := range secret.(tosca.Map) {
		if tosca.Equal(v, tosca.Null{}) {
			delete(k.Settings, tosca.KeyText(name))
			continue
		}
		k.Settings[tosca.KeyText(name)] = v
	}
	if ids, ok := r.Links[stack.Hosting]; ok {
		k.Hosts = ids
	}
	if r.Tags != nil {
		k.Stack, k.Node = r.Tags["stack"], r.Tags["node"]
	}
	k.prints = nil
}

func mapOf(m map[string]tosca.Value) tosca.Map {
	out := tosca.Map{}
	for k, v := range m {
		out[k] = v
	}
	return out
}

// Create begins to wait until what a connection leads to answers. What is sent again with the same
// key is answered with what was begun.
func (c *Connections) Create(ctx context.Context, t stack.Target, key string, r cloud.Request) (cloud.Operation, error) {
	k := &Connection{Type: r.Type, Target: t}
	k.take(r)
	if err := c.Identify(k); err != nil {
		return cloud.Operation{}, err
	}
	return c.await(ctx, "create", key, nil, k)
}

// Identify gives a connection its id. One of the same name that leads to the same place again is the
// same again, and so is what was kept there.
func (c *Connections) Identify(k *Connection) error {
	kind := c.Kinds[k.Type]
	if kind == nil {
		return fmt.Errorf("a %s is no connection that this program knows", k.Type)
	}
	end, err := kind.Open(*k)
	if err != nil {
		return notOpened(k, err)
	}
	if closes, ok := end.Cloud.(interface{ Close() }); ok {
		closes.Close()
	}
	sum := sha256.Sum256([]byte(strings.Join([]string{k.Target.String(), k.Stack, k.Node, k.Type, end.Place, k.Settings.Text("endpoint")}, "\n")))
	k.ID = cloud.ConnectionID(hex.EncodeToString(sum[:5]))
	return nil
}

// Update begins to wait until what a connection leads to answers as it is to be set up.
func (c *Connections) Update(ctx context.Context, r cloud.Ref, key string, change cloud.Request) (cloud.Operation, error) {
	was, err := c.Find(ctx, r.Target, r.ID)
	if err != nil {
		return cloud.Operation{}, err
	}
	k := *was
	k.take(change)
	return c.await(ctx, "update", key, was, &k)
}

// Delete forgets a connection. It asks once more what is there of its stack: as long as there is
// something, the way to it stays. Where that does not answer, nobody can say that nothing is left.
func (c *Connections) Delete(ctx context.Context, r cloud.Ref, key string) (cloud.Operation, error) {
	was, err := c.Find(ctx, r.Target, r.ID)
	if err != nil {
		return cloud.Operation{}, err
	}
	if err := c.nothingLeft(ctx, was); err != nil {
		return cloud.Operation{}, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.keep(was, nil)
	c.shut(was.ID, 0)
	return cloud.Operation{ID: "op~" + was.ID, Kind: "delete", ResourceID: was.ID, State: "done", Steps: 1, StepNumber: 1}, nil
}

func (c *Connections) nothingLeft(ctx context.Context, k *Connection) error {
	end, err := c.end(ctx, k)
	if err != nil {
		return nil // it never led anywhere
	}
	list, err := end.Cloud.List(ctx, end.Target, k.Stack)
	if err != nil {
		c.mu.Lock()
		used := c.used[k.ID]
		c.mu.Unlock()
		if !used || cloud.IsUnanswered(err) && c.Lost(ctx, k.Target, k.ID) {
			return nil
		}
		return err
	}
	recorded, err := c.IDs(ctx, k.Target)
	if err != nil {
		return err
	}
	var left []string
	for _, r := range list {
		if r.Tags["stack"] == k.Stack && end.Place != "" && !recorded[end.Outward(r.ID)] { // what is recorded is kept there, or left
			left = append(left, fmt.Sprintf("%s (%s)", r.Tags["node"], r.ID))
		}
	}
	if len(left) > 0 {
		slices.Sort(left)
		return &cloud.Problem{Type: "in-use", Title: "in use", Status: http.StatusConflict, Fix: "remove it first; a new deletion finds it",
			Detail: fmt.Sprintf("%s still leads to %s of %s", k.Node, strings.Join(left, ", "), k.Stack)}
	}
	return nil
}

// keep notes what this process has done; what was recorded before stays what it was.
func (c *Connections) keep(before, is *Connection) {
	id := ""
	if is != nil {
		id = is.ID
	} else {
		id = before.ID
	}
	if m, there := c.mine[id]; there {
		before = m.before
	}
	c.mine[id] = mine{before, is}
}

// await tries until a connection answers, or its time is over.
func (c *Connections) await(ctx context.Context, kind, key string, was, k *Connection) (cloud.Operation, error) {
	end, err := c.end(ctx, k)
	if err != nil {
		return cloud.Operation{}, err
	}
	within := 2 * time.Minute
	if d, err := Duration(k.Settings.Text("within")); err == nil && d > 0 {
		within = d
	}
	c.mu.Lock()
	w := c.ops[key]
	if w != nil && w.digest != digest(k.Settings) {
		c.mu.Unlock()
		return cloud.Operation{}, &cloud.Problem{Type: "key-used-before", Title: "key used before", Status: http.StatusUnprocessableEntity,
			Detail: "the key " + key + " was sent before with something else to do"}
	}
	if w == nil {
		w = &waiting{id: k.ID, kind: kind, digest: digest(k.Settings), begun: time.Now(), within: within}
		c.ops[key] = w
		go c.tryOn(w, end, was, k)
	}
	c.mu.Unlock()
	for range 20 { // most answer at once
		if o := w.wire(); o.Ended() {
			return o, nil
		}
		select {
		case <-ctx.Done():
			return cloud.Operation{}, ctx.Err()
		case <-time.After(5 * time.Millisecond):
		}
	}
	return w.wire(), nil
}

func (c *Connections) tryOn(w *waiting, end cloud.End, was, k *Connection) {
	ctx, cancel := context.WithTimeout(context.Background(), w.within)
	defer cancel()
	pause := 100 * time.Millisecond
	for {
		err := c.Kinds[k.Type].Answers(ctx, end)
		var p *cloud.Problem
		lasting := err != nil && errors.As(err, &p) && !p.Passing
		if err == nil || lasting || ctx.Err() != nil {
			if err != nil && ctx.Err() != nil && !lasting {
				p = &cloud.Problem{Type: "connection", Title: "no answer", Status: http.StatusBadGateway,
					Detail: fmt.Sprintf("it did not answer within %s: %s", w.within, w.said(err)),
					Fix:    "see that what it leads to runs and can be reached from here, or give it more time (within)"}
			}
			if err == nil {
				c.mu.Lock()
				c.keep(was, k)
				c.mu.Unlock()
				p = nil
			}
			w.mu.Lock()
			w.problem, w.ended = p, time.Now()
			w.mu.Unlock()
			return
		}
		w.mu.Lock()
		w.last = err
		w.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(pause*3/2, 2*time.Second)
	}
}

// said is the last thing that was said, rather than that the time is over.
func (w *waiting) said(now error) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.last != nil {
		now = w.last
	}
	return cloud.Clean(now.Error())
}

func (w *waiting) wire() cloud.Operation {
	w.mu.Lock()
	defer w.mu.Unlock()
	o := cloud.Operation{ID: "op~" + w.id + "~" + w.kind, Kind: w.kind, ResourceID: w.id, State: "settling", Step: "waiting for an answer", StepNumber: 1, Steps: 1,
		ElapsedMS: time.Since(w.begun).Milliseconds(), NextMS: 200}
	if w.last != nil {
		o.Step += ": " + cloud.Clean(w.last.Error())
	}
	switch {
	case w.ended.IsZero():
	case w.problem != nil:
		o.State, o.Problem, o.NextMS = "failed", w.problem, 0
	default:
		o.State, o.NextMS = "done", 0
	}
	return o
}

// Operation reads how far a connection is.
func (c *Connections) Operation(_ context.Context, r cloud.Ref, id string) (cloud.Operation, error) {
	c.mu.Lock()
	var newest *waiting
	for _, w := range c.ops {
		if "op~"+w.id+"~"+w.kind == id && (newest == nil || w.begun.After(newest.begun)) {
			newest = w
		}
	}
	c.mu.Unlock()
	if newest == nil {
		return cloud.Operation{}, cloud.NotFound("operation " + id)
	}
	return newest.wire(), nil
}
