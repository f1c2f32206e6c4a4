package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/cloud/httpcloud"
	"brickrow/internal/profile"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// another is a second cloud of the same interface, at an address.
type another struct {
	*yard.Yard
	url, token string
	server     *httptest.Server
	gate       *gate
	door       *yard.Door
}

func anotherCloud(t *testing.T, speed float64) *another {
	t.Helper()
	home := filepath.Join(t.TempDir(), "other")
	if err := os.Mkdir(home, 0o700); err != nil {
		t.Fatal(err)
	}
	y, err := yard.Open(home, yard.Options{Library: profile.Read().Library, Speed: speed})
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewUnstartedServer(y.Handler())
	door := &gate{Listener: srv.Listener}
	srv.Listener = door
	srv.Start()
	tokens := y.Tokens()
	o := &another{y, srv.URL, tokens["workshop"], srv, door, &yard.Door{Base: srv.URL, HTTP: http.DefaultClient, Token: tokens["operator"]}}
	t.Cleanup(func() { o.server.Close(); y.Close() })
	return o
}

// gate keeps an address, and lets nobody in while it is shut.
type gate struct {
	net.Listener
	shut atomic.Bool
}

func (g *gate) Accept() (net.Conn, error) {
	for {
		c, err := g.Listener.Accept()
		if err != nil || !g.shut.Load() {
			return c, err
		}
		c.Close()
	}
}

// stop lets the cloud answer no more, and start lets it answer again at the same address.
func (o *another) stop() {
	o.gate.shut.Store(true)
	o.server.CloseClientConnections()
}

func (o *another) start() { o.gate.shut.Store(false) }

// within waits until something holds.
func (b *bench) within(t *testing.T, holds func() bool) {
	t.Helper()
	for range 200 {
		if holds() {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatal("it does not come to hold")
}

// listed is what the cloud has of a stack, as text of nodes.
func (o *another) listed(t *testing.T, stackName string) string {
	t.Helper()
	list, err := o.door.Everything(context.Background(), stackName)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, r := range list {
		out = append(out, r.Node)
	}
	return strings.Join(out, " ")
}

// all is everything that the cloud has, as text.
func (o *another) all(t *testing.T) string {
	t.Helper()
	list, err := o.door.Everything(context.Background(), "")
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.MarshalIndent(list, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// far is the place in the other cloud.
type far struct {
	*httpcloud.Client
	there stack.Target
}

func (o *another) client() far {
	return far{&httpcloud.Client{Base: o.url, HTTP: http.DefaultClient, Tokens: map[string]string{"workshop": o.token}}, stack.Target{Account: "workshop", Region: "birch-1"}}
}

const acrossTemplate = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs:
    there: { type: string }
    token: { type: Secret }
    range: { type: string, default: 10.9.0.0/16 }
  node_templates:
    second: { type: CloudConnection, properties: { endpoint: { $get_input: there }, account: workshop, region: birch-1, token: { $get_input: token }, within: 3 s } }
    here: { type: Queue }
    far_net: { type: Network, properties: { cidr: { $get_input: range } }, requirements: [ { through: second } ] }
    far_sub: { type: Subnet, properties: { cidr: 10.9.1.0/24 }, requirements: [ { network: far_net }, { through: second } ] }
    far_queue: { type: Queue, properties: { label: { $get_attribute: [ here, url ] } }, requirements: [ { through: second } ] }
  outputs:
    far: { value: { $get_attribute: [ far_queue, url ] } }
`

// A stack in two clouds is made, changed, compared, looked at, put back and removed like one in one.
func TestAcrossTwoClouds(t *testing.T) {
	b := newBench(t, 300)
	o := anotherCloud(t, 300)
	b.write("across.yaml", acrossTemplate)
	b.write("across.stack.yaml", fmt.Sprintf("stack: across\ntemplate: across.yaml\ntarget: workshop/alder-1\ninputs: { there: %q, token: %q }\n", o.url, o.token))
	b.deploy(run.StatusDone, "across.stack.yaml")
	b.wantSame("what is there", o.listed(t, "across"), "far_net far_queue far_sub")
	if p := b.preview("across.stack.yaml"); !p.Empty() {
		t.Fatalf("there is something to do still: %+v", p.Changes)
	}
	d, err := b.Drift(t.Context(), b.stack("across"))
	if err != nil || len(d.Differs)+len(d.Gone)+len(d.Unrecorded) > 0 {
		t.Fatalf("%v %+v", err, d)
	}
	before := o.all(t)

	// A failure there puts everything back there.
	if _, err := o.door.AddFault(t.Context(), yard.Fault{Name: "far_sub", At: "last", Times: 1, Reason: "no room"}); err != nil {
		t.Fatal(err)
	}
	r := b.deploy(run.StatusUndone, "across.stack.yaml", "range=10.8.0.0/15")
	if rep, err := b.Report(t.Context(), b.stack("across"), r); err != nil || !strings.Contains(rep.Standing, "all 5 resources are as they were") {
		t.Errorf("%s", r.Reason)
	}
	b.wantSame("the other cloud after the undoing", o.all(t), before)

	// What somebody does there is drift here, and is put back.
	far := o.client()
	list, err := far.List(t.Context(), far.there, "across")
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range list {
		if l.Tags["node"] == "far_queue" {
			op, err := far.Update(t.Context(), cloud.Ref{Target: far.there, Type: l.Type, ID: l.ID}, "by hand", cloud.Request{Properties: map[string]any{"label": "other"}})
			for err == nil && !op.Ended() {
				op, err = far.Operation(t.Context(), cloud.Ref{Target: far.there, ID: l.ID}, op.ID)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
	}
	if d, err = b.Drift(t.Context(), b.stack("across")); err != nil || len(d.Differs) != 1 || d.Differs[0].Path != "label" {
		t.Fatalf("%v %+v", err, d)
	}
	p, err := b.WhatIfPutBack(t.Context(), b.stack("across"))
	if err != nil {
		t.Fatal(err)
	}
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	b.wantSame("the other cloud after it was put back", o.all(t), before)

	b.delete("across")
	b.wantSame("what is left there", o.listed(t, "across"), "")
	b.wantSame("what is left here", b.listing("across"), "[]")
}

// A connection that leads elsewhere than before takes all with it: made there, removed here.
func TestConnectionLeadsElsewhere(t *testing.T) {
	long(t)
	b := newBench(t, 300)
	o, other := anotherCloud(t, 300), anotherCloud(t, 300)
	b.write("across.yaml", acrossTemplate)
	to := func(o *another) {
		b.write("across.stack.yaml", fmt.Sprintf("stack: across\ntemplate: across.yaml\ntarget: workshop/alder-1\ninputs: { there: %q, token: %q }\n", o.url, o.token))
	}
	to(o)
	b.deploy(run.StatusDone, "across.stack.yaml")
	to(other)
	p := b.preview("across.stack.yaml")
	for _, name := range []string{"second", "far_net", "far_sub", "far_queue"} {
		if p.Change(name).Kind != "swap" {
			t.Errorf("%s: %s", name, p.Change(name).Kind)
		}
	}
	if p.Change("here").Kind != "same" {
		t.Errorf("here: %s", p.Change("here").Kind)
	}
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	b.wantSame("in the first", o.listed(t, "across"), "")
	b.wantSame("in the other", other.listed(t, "across"), "far_net far_queue far_sub")
	if p := b.preview("across.stack.yaml"); !p.Empty() {
		t.Errorf("there is something to do still: %+v", p.Changes)
	}

	// Other credentials for the same place are an edit, and what is there is looked at with them.
	b.write("across.stack.yaml", fmt.Sprintf("stack: across\ntemplate: across.yaml\ntarget: workshop/alder-1\ninputs: { there: %q, token: wrong }\n", other.url))
	d, err := b.Load(t.Context(), filepath.Join(b.dir, "across.stack.yaml"), Values{})
	if err != nil {
		t.Fatal(err)
	}
	b.wantUnread(d, "the token is not one of the account workshop")
	b.wantSame("in the other", other.listed(t, "across"), "far_net far_queue far_sub")

	// When it does not answer, it is said, and nothing counts as gone.
	other.server.Close()
	to(other)
	if d, err = b.Load(t.Context(), filepath.Join(b.dir, "across.stack.yaml"), Values{}); err != nil {
		t.Fatal(err)
	}
	b.wantUnread(d, "the cloud did not answer")
	drift, err := b.Drift(t.Context(), b.stack("across"))
	if err != nil || len(drift.Unread) != 3 || !drift.Empty() || !strings.Contains(drift.Standing().Words(), "is not known as a whole") {
		t.Errorf("drift: %v %+v", err, drift)
	}
	v, err := b.Look(t.Context(), b.stack("across").Target)
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, r := range v.There {
		if r.Live.State == cloud.Unreadable && r.Owner != nil && r.Owner.Stack == "across" {
			seen++
		}
	}
	if seen != 3 {
		t.Errorf("%d of it are seen as unreadable", seen)
	}
}

// A deletion goes on when the way goes first by mistake: what is gone with what it stood on counts as
// gone, and what cannot be reached any more can be given up.
func TestTheWayGoesFirst(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 300)
	o := anotherCloud(t, 300)
	deploy := func(template string) {
		b.write("across.yaml", template)
		b.write("across.stack.yaml", fmt.Sprintf("stack: across\ntemplate: across.yaml\ntarget: workshop/alder-1\nthrowaway: true\ninputs: { there: %q, token: %q }\n", o.url, o.token))
		b.deploy(run.StatusDone, "across.stack.yaml")
	}
	delete := func() (*Preview, *run.Record) {
		p, err := b.WhatIfDelete(t.Context(), b.stack("across"))
		if err != nil {
			t.Fatal(err)
		}
		return p, b.carry(p, "hold")
	}
	// It does not answer, and what it leads to is not of this stack: nobody knows what is there.
	deploy(strings.Replace(acrossTemplate, "within: 3 s }", "within: 3 s }", 1))
	o.stop()
	p, r := delete()
	if len(p.Findings) != 3 || p.Findings[0].Code != "not-read" {
		t.Errorf("%v", p.Findings)
	}
	if r.State != run.StatusStuck || !strings.Contains(r.Reason, "did not answer") {
		t.Fatalf("%s %s", r.State, r.Reason)
	}
	o.start()
	ticket, err := b.Resume(t.Context(), b.stack("across"), On)
	if err != nil {
		t.Fatal(err)
	}
	if r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token); err != nil || r.State != run.StatusDone {
		t.Fatalf("%v %s", err, r.Reason)
	}
	b.wantSame("left there once it answers again", o.listed(t, "across"), "")

	// What it leads to is of this stack, and was removed by hand: all that was reached is gone with it.
	deploy(strings.Replace(acrossTemplate, "within: 3 s }", "within: 3 s }, requirements: [ { host: here } ]", 1))
	if _, err := b.Cloud.Delete(t.Context(), cloud.Ref{Target: b.stack("across").Target, Type: "Queue", ID: b.idIn("across", "here")}, "by hand"); err != nil {
		t.Fatal(err)
	}
	o.stop()
	b.within(t, func() bool { return b.listing("across") == "[]" })
	if p, r = delete(); r.State != run.StatusDone || len(p.Findings) > 0 {
		t.Fatalf("%s %s %v", r.State, r.Reason, p.Findings)
	}
}

// clusterTemplate has a cluster, what runs in it, and one thing that goes through a connection of its
// own.
const clusterTemplate = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { version: { type: version, default: "6" }, image: { type: string, default: snow/mapper:4 } }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: net } ] }
    act_as: { type: Role, properties: { for: cluster } }
    crowd: { type: Cluster, properties: { version: { $get_input: version }, node_size: small }, requirements: [ { subnet: sub }, { role: act_as } ] }
    mapper: { type: Workload, properties: { image: { $get_input: image }, port: 80 }, requirements: [ { cluster: crowd } ] }
    gate: { type: Service, properties: { port: 80, target_port: 80 }, requirements: [ { workload: mapper } ] }
    door: { type: ClusterConnection, properties: { endpoint: { $get_attribute: [ crowd, endpoint ] }, access: { $get_attribute: [ crowd, access ] } }, requirements: [ { host: crowd } ] }
    painter: { type: Workload, properties: { image: snow/painter:1, port: 81 }, requirements: [ { cluster: crowd }, { through: door } ] }
    side: { type: Service, properties: { port: 81, target_port: 81 }, requirements: [ { workload: painter }, { through: door } ] }
`

// What runs in a cluster goes through the cluster's own interface, with its own access.
func TestInsideACluster(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 2000)
	b.write("crowd.yaml", clusterTemplate)
	b.write("crowd.stack.yaml", "stack: crowd\ntemplate: crowd.yaml\ntarget: workshop/alder-1\n")
	b.deploy(run.StatusDone, "crowd.stack.yaml")
	if p := b.preview("crowd.stack.yaml"); !p.Empty() {
		t.Fatalf("there is something to do still: %+v", p.Changes)
	}
	at := b.stack("crowd").Target
	crowd, mapper := b.idIn("crowd", "crowd"), b.idIn("crowd", "mapper")
	if !strings.HasPrefix(mapper, crowd+"/workload~") || !strings.HasPrefix(b.idIn("crowd", "side"), b.idIn("crowd", "door")+"/"+crowd+"/service~") {
		t.Errorf("the ids are %s and %s", mapper, b.idIn("crowd", "side"))
	}

	// The account's own credentials do not get in, nor does anything at the wrong door.
	plain := &httpcloud.Client{Base: "http://yard.local", HTTP: &http.Client{Transport: yard.Transport{Handler: b.yard.Handler()}}, Tokens: b.yard.Tokens(), Host: "x"}
	is, err := b.Cloud.Get(t.Context(), cloud.Ref{Target: at, Type: "Cluster", ID: crowd})
	if err != nil {
		t.Fatal(err)
	}
	wantProblem := func(what, kind string, err error) {
		t.Helper()
		var p *cloud.Problem
		if !errors.As(err, &p) || p.Type != kind {
			t.Errorf("%s: %v", what, err)
		}
	}
	_, err = plain.Get(t.Context(), cloud.Ref{Target: at, Type: "Workload", ID: mapper})
	wantProblem("a workload at the yard's own interface", "elsewhere", err)
	_, err = plain.Create(t.Context(), at, "k1", cloud.Request{Type: "Workload", Properties: map[string]any{"image": "x"}, Links: map[string][]string{"cluster": {crowd}}})
	wantProblem("a workload made there", "elsewhere", err)
	for access, kind := range map[string]string{"": "unauthorized", b.yard.Tokens()["workshop"]: "unauthorized"} {
		in, err := (&httpcloud.Client{Base: plain.Base, HTTP: plain.HTTP}).Cluster(at, fmt.Sprint(is.Attributes["endpoint"]), access)
		if err != nil {
			t.Fatal(err)
		}
		_, err = in.List(t.Context(), at, "")
		wantProblem("with another access", kind, err)
	}
	in, err := (&httpcloud.Client{Base: plain.Base, HTTP: plain.HTTP}).Cluster(at, fmt.Sprint(is.Attributes["endpoint"]), fmt.Sprint(is.Attributes["access"]))
	if err != nil {
		t.Fatal(err)
	}
	_, err = in.Create(t.Context(), at, "k2", cloud.Request{Type: "Topic"})
	wantProblem("a topic in a cluster", "unknown-type", err)
	_, err = in.Get(t.Context(), cloud.Ref{Target: at, ID: b.idIn("crowd", "net")})
	wantProblem("a network in a cluster", "not-found", err)
	_, err = in.Scripts(t.Context(), at, "", "")
	wantProblem("what scripts have said, in a cluster", "elsewhere", err)
	_, err = in.Backups(t.Context(), at, "")
	wantProblem("backups, in a cluster", "elsewhere", err)
	_, _, err = in.NameTaken(t.Context(), at, "Bucket", "frames")
	wantProblem("names, in a cluster", "elsewhere", err)
	_, _, err = in.Ask(t.Context(), at, cloud.Call{URL: "http://10.0.0.1", Kind: "http"})
	wantProblem("an address, in a cluster", "elsewhere", err)
	if about, err := in.About(t.Context(), at); err != nil || about.Who != "the access of "+crowd || len(about.Limits)+len(about.Images) > 0 {
		t.Errorf("of the account it is told %+v, %v", about, err)
	}
	door := httptest.NewServer(b.yard.Handler()) // the feed needs a connection that stays
	defer door.Close()
	waits, stop := context.WithTimeout(t.Context(), time.Second)
	defer stop()
	feed, err := http.NewRequestWithContext(waits, http.MethodGet, door.URL+"/v1/"+at.String()+"/feed?after=1", nil)
	if err != nil {
		t.Fatal(err)
	}
	feed.Host = strings.TrimPrefix(fmt.Sprint(is.Attributes["endpoint"]), "https://")
	feed.Header.Set("Authorization", "Bearer "+fmt.Sprint(is.Attributes["access"]))
	told, err := http.DefaultClient.Do(feed)
	if err != nil {
		t.Fatal(err)
	}
	text, _ := io.ReadAll(told.Body)
	if told.StatusCode != http.StatusOK || !strings.Contains(string(text), mapper) || strings.Contains(string(text), b.idIn("crowd", "net")) {
		t.Errorf("the feed of a cluster tells %d %s", told.StatusCode, text)
	}
	if list, err := in.List(t.Context(), at, ""); err != nil || len(list) != 4 {
		t.Errorf("inside are %d: %v", len(list), err)
	}

	b.deploy(run.StatusDone, "crowd.stack.yaml", "image=snow/mapper:5")
	b.actIn("crowd", run.StatusDone, "mapper", "scale", "want", "3")
	// Another cluster takes along all that runs in it, and the way into it.
	p := b.preview("crowd.stack.yaml", "image=snow/mapper:5", "version=5")
	if p.Findings.HasErrors() {
		t.Fatal(p.Findings)
	}
	for _, name := range []string{"crowd", "mapper", "gate", "door", "painter", "side"} {
		if p.Change(name).Kind != "swap" {
			t.Errorf("%s: %s", name, p.Change(name).Kind)
		}
	}
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	if b.idIn("crowd", "crowd") == crowd || !strings.HasPrefix(b.idIn("crowd", "painter"), b.idIn("crowd", "door")+"/"+b.idIn("crowd", "crowd")+"/") {
		t.Errorf("the ids are %s and %s", b.idIn("crowd", "crowd"), b.idIn("crowd", "painter"))
	}
	b.delete("crowd")
	b.wantSame("what is left", b.listing("crowd"), "[]")
}

// A cloud that is only there once the first part of the stack is: its address is unknown in the
// what-if, it is waited for, and it goes last.
func TestSecondCloudAfterTheFirst(t *testing.T) {
	long(t)
	t.Parallel()
	b := newBench(t, 300)
	o := anotherCloud(t, 300)
	o.stop()
	b.write("programs/raise", `#!/bin/sh
in=$(cat)
case $in in
*'"operation":"delete"'*) rm -f up; echo '{"gone":true}' ;;
*'"operation":"read"'*) if [ -e up ]; then echo '{"id":"it","attributes":{"endpoint":"`+o.url+`"}}'; else echo '{"gone":true}'; fi ;;
*) touch up; echo '{"id":"it","attributes":{"endpoint":"`+o.url+`"}}' ;;
esac
`)
	types := `node_types:
  Raised:
    derived_from: ProgramResource
    attributes: { endpoint: { type: string } }
    interfaces: { Resource: { operations: { create: &raise { implementation: { primary: { file: programs/raise, type: Executable, properties: { interpreter: sh } } } }, read: *raise, delete: *raise } } }
service_template:`
	text := strings.Replace(acrossTemplate, "service_template:", types, 1)
	text = strings.Replace(text, "endpoint: { $get_input: there }", "endpoint: { $get_attribute: [ raised, endpoint ] }", 1)
	text = strings.Replace(text, "within: 3 s }", "within: 30 s }, requirements: [ { host: raised } ]", 1)
	b.write("across.yaml", strings.Replace(text, "    here:", "    raised: { type: Raised }\n    here:", 1))
	b.write("across.stack.yaml", fmt.Sprintf("stack: across\ntemplate: across.yaml\ntarget: workshop/alder-1\ninputs: { there: x, token: %q }\n", o.token))

	p := b.preview("across.stack.yaml")
	if c := p.Change("second").Properties; len(c) == 0 || !slices.ContainsFunc(c, func(c stack.PropertyChange) bool { return c.Property == "endpoint" && c.Unknown }) {
		t.Errorf("the endpoint is %+v", c)
	}
	up := filepath.Join(b.dir, "up")
	follow, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { // it is up a moment after the program has said so, and down as soon as it says so
		defer close(done)
		for running := false; follow.Err() == nil; time.Sleep(10 * time.Millisecond) {
			_, err := os.Stat(up)
			if is := err == nil; is != running {
				if running = is; is {
					time.Sleep(500 * time.Millisecond)
					o.start()
				} else {
					o.stop()
				}
			}
		}
	}()
	if r := b.carry(p, "undo"); r.State != run.StatusDone {
		t.Fatal(r.Reason)
	}
	b.wantSame("what is there", o.listed(t, "across"), "far_net far_queue far_sub")
	if p := b.preview("across.stack.yaml"); !p.Empty() {
		t.Fatalf("there is something to do still: %+v", p.Changes)
	}
	b.delete("across")
	stop()
	<-done
	o.start()
	b.wantSame("what is left there", o.listed(t, "across"), "")
	b.wantSame("what is left here", b.listing("across"), "[]")
}

// again is the app opened anew, as after the end of its process: nothing that it had in memory is left.
func (b *bench) again(t *testing.T, speed float64) {
	t.Helper()
	if err := b.App.Close(); err != nil {
		t.Fatal(err)
	}
	a, err := Open(Options{Home: b.Home, Store: storeOf(b.t, b.Home), Speed: speed})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { a.Close() })
	b.App = a
}

// diesOnce carries a preview out by a process that ends at the nth moment (0 is never), and another one that goes on. Moments is how
// many there were.
func (b *bench) diesOnce(t *testing.T, stackName string, p *Preview, n int64, speed float64) (r *run.Record, moments int64) {
	t.Helper()
	ticket, err := b.Prepare(t.Context(), p, stack.Undo)
	if err != nil {
		t.Fatal(err)
	}
	for at := n; ; at = 0 {
		chances := b.mortal(at)
		r, err := b.Execute(t.Context(), ticket.Run.ID, ticket.Token)
		if at == n {
			moments = chances.Load()
		}
		if err == nil {
			b.halt = nil
			return r, moments
		}
		if !errors.Is(err, errDied) || at == 0 {
			t.Fatalf("killed at %d: %v", n, err)
		}
		if err := b.store.Unlock(t.Context(), ticket.Run.StackID, ticket.Token); err != nil {
			t.Fatal(err)
		}
		b.again(t, speed)
		if ticket, err = b.Resume(t.Context(), b.stack(stackName), On); err != nil {
			t.Fatalf("killed at %d: %v", n, err)
		}
	}
}

// A process that ends at any entry of the journal, with a program, a connection and another cloud in
// the run, is gone on from by another one: each program ran once to its end, and nothing is left or
// there twice. BRICKROW_LONG=1 goes through all entries.
func TestKilledWithProgramsAndConnections(t *testing.T) {
	long(t)
	t.Parallel()
	const speed = 2000
	b := newRota(t)
	o := anotherCloud(t, speed)
	b.again(t, speed)
	text := strings.Replace(rotaTemplate, "inputs: {", "inputs: { there: { type: string }, token: { type: Secret },", 1)
	text = strings.Replace(text, "word: { $get_input: word } } }", "word: { $get_input: word } }, requirements: [ { through: second } ] }", 1)
	b.write("ward.yaml", strings.Replace(text, "    note:", `    second: { type: CloudConnection, properties: { endpoint: { $get_input: there }, account: workshop, region: birch-1, token: { $get_input: token }, within: 5 s } }
    far: { type: Queue, properties: { label: { $get_attribute: [ rota, next ] } }, requirements: [ { through: second } ] }
    note:`, 1))
	b.write("ward.stack.yaml", fmt.Sprintf("stack: ward\ntemplate: ward.yaml\ntarget: workshop/alder-1\nthrowaway: true\ninputs: { there: %q, token: %q }\n", o.url, o.token))
	through := func(begin func() *Preview, n int64) (*run.Record, int64) {
		t.Helper()
		return b.diesOnce(t, "ward", begin(), n, speed)
	}
	deploying := func() *Preview { return b.preview("ward.stack.yaml") }
	deleting := func() *Preview {
		p, err := b.WhatIfDelete(t.Context(), b.stack("ward"))
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	once := func(n int64, what string, want string) {
		t.Helper()
		calls := callsOf(t, b)
		if err := os.Remove(filepath.Join(b.dir, "calls")); err != nil {
			t.Fatal(err)
		}
		b.wantSame(fmt.Sprintf("%s, killed at %d: the calls", what, n), strings.Join(calls, " "), want)
	}
	moments := int64(1)
	for n := int64(0); n <= moments; n++ {
		if n > 1 && os.Getenv("BRICKROW_LONG") == "" {
			n += moments / 5
		}
		b.fault(yard.Fault{Name: "note", Reason: "no", Times: 1, At: "last"})
		r, _ := through(deploying, n)
		if r.State != run.StatusUndone && n == 0 {
			t.Fatalf("with a fault: %s %s", r.State, r.Reason)
		}
		b.clearFaults()
		if r.State == run.StatusUndone {
			once(n, "undone", "create delete")
		} else { // the fault was met, and nobody heard so
			once(n, "deployed", "create")
			through(deleting, 0)
			once(n, "deleted", "delete")
		}
		b.wantSame("left there", o.listed(t, "ward"), "")
		b.wantSame("kept", b.kept(), "")

		r, m := through(deploying, n)
		if r.State != run.StatusDone {
			t.Fatalf("killed at %d: %s %s", n, r.State, r.Reason)
		}
		moments = max(moments, m)
		once(n, "deployed", "create")
		if p := deploying(); !p.Empty() {
			t.Fatalf("killed at %d: there is something to do still", n)
		}
		if r, _ = through(deleting, n); r.State != run.StatusDone {
			t.Fatalf("deleting, killed at %d: %s %s", n, r.State, r.Reason)
		}
		once(n, "deleted", "delete")
		b.wantSame("left there", o.listed(t, "ward"), "")
		b.wantSame("left here", b.listing("ward"), "[]")
		b.wantSame("kept", b.kept(), "")
	}
	t.Logf("%d moments", moments)
}

// wantUnread wants a what-if of a draft to say that what is far away is not known, and why, and to take nothing for gone or new.
func (b *bench) wantUnread(d *Draft, why string) {
	b.t.Helper()
	p, err := b.WhatIf(b.t.Context(), d)
	if err != nil {
		b.t.Fatal(err)
	}
	names := ""
	for _, u := range p.Unread {
		if names += u.Name + " "; !strings.Contains(u.Why, why) || u.Through != "second" {
			b.t.Errorf("%+v, want %q", u, why)
		}
	}
	if names != "far_net far_queue far_sub " || p.Tally.New+p.Tally.Drop > 0 {
		b.t.Errorf("not known: %s; %v", names, p.Tally)
	}
	n := 0
	for _, f := range p.Findings {
		if f.Code == "not-read" {
			n++
		}
	}
	if n != 3 {
		b.t.Errorf("findings %v", p.Findings)
	}
}
