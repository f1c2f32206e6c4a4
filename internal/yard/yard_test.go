package yard_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/cloud/httpcloud"
	"brickrow/internal/profile"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
	"brickrow/internal/yard/agent"
)

var shipped = profile.Read()

var here = stack.Target{Account: "workshop", Region: "alder-1"}

// clock is a time that only moves when it is told to.
type clock struct {
	mu  sync.Mutex
	now time.Time
}

func (c *clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

func (c *clock) pass(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
}

// bench is a yard with a client, on a clock of its own.
type bench struct {
	*httpcloud.Client
	t     *testing.T
	clock *clock
	n     int
}

func newBench(t *testing.T) *bench {
	t.Helper()
	c := &clock{now: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)}
	y, err := yard.Open(t.TempDir(), yard.Options{Library: shipped.Library, Now: c.Now})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { y.Close() })
	client := &httpcloud.Client{Base: "http://yard.local",
		HTTP: &http.Client{Transport: held{t, yard.Transport{Handler: y.Handler()}}}, Tokens: y.Tokens()}
	return &bench{Client: client, t: t, clock: c}
}

// door is the operator's way in.
func (b *bench) door() *yard.Door {
	return &yard.Door{Base: b.Base, HTTP: b.HTTP, Token: b.Tokens["operator"]}
}

// takes lets so many operations be under way at once.
func (b *bench) takes(n int) {
	b.t.Helper()
	if err := b.door().AtOnce(b.t.Context(), yard.AtOnce{Account: "workshop", AtOnce: n}); err != nil {
		b.t.Fatal(err)
	}
}

// No more is under way at once than may be, in each place by itself; when something has
// ended there is room again.
func TestAsManyAtOnceAsMayBe(t *testing.T) {
	b := newBench(t)
	b.takes(2)
	if about, err := b.About(t.Context(), here); err != nil || about.AtOnce != 2 {
		t.Errorf("%v %v", about, err)
	}
	for range 2 {
		if _, err := b.begin("Topic", nil, nil); err != nil {
			t.Fatal(err)
		}
	}
	_, err := b.begin("Topic", nil, nil)
	var p *cloud.Problem
	if !errors.As(err, &p) || p.Status != http.StatusTooManyRequests || p.Type != "too-many-requests" || !p.Passing || p.RetryAfterMS != 2000 {
		t.Fatalf("a third one: %v", err)
	}
	if _, err := b.Create(t.Context(), stack.Target{Account: "workshop", Region: "birch-1"}, b.key(), cloud.Request{Type: "Topic"}); err != nil {
		t.Errorf("elsewhere: %v", err)
	}
	b.clock.pass(2 * time.Second)
	if _, err := b.begin("Topic", nil, nil); err != nil {
		t.Errorf("when there is room again: %v", err)
	}
	if err := b.door().AtOnce(t.Context(), yard.AtOnce{Account: "nobody", AtOnce: 3}); err == nil {
		t.Error("an account that there is not")
	}
	if err := b.door().AtOnce(t.Context(), yard.AtOnce{Account: "workshop"}); err == nil {
		t.Error("none at once")
	}
}

func (b *bench) key() string { b.n++; return fmt.Sprint("key-", b.n) }

type props = map[string]any
type links = map[string][]string

// begin begins to create a resource.
func (b *bench) begin(typ string, p props, l links) (cloud.Operation, error) {
	return b.Create(b.t.Context(), here, b.key(),
		cloud.Request{Type: typ, Properties: p, Links: l,
			Tags: map[string]string{"stack": "test", "node": strings.ToLower(typ)}})
}

// make creates a resource and lets the time pass.
func (b *bench) make(typ string, p props, l links) string {
	b.t.Helper()
	op, err := b.begin(typ, p, l)
	if err != nil {
		b.t.Fatalf("create %s: %v", typ, err)
	}
	b.clock.pass(10 * time.Minute)
	if op = b.op(op.ID); op.State != "done" {
		b.t.Fatalf("create %s: %+v", typ, op)
	}
	return op.ResourceID
}

func (b *bench) op(id string) cloud.Operation {
	b.t.Helper()
	op, err := b.Operation(b.t.Context(), cloud.Ref{Target: here}, id)
	if err != nil {
		b.t.Fatal(err)
	}
	return op
}

func (b *bench) get(id string) cloud.Resource {
	b.t.Helper()
	r, err := b.Get(b.t.Context(), cloud.Ref{Target: here, ID: id})
	if err != nil {
		b.t.Fatal(err)
	}
	return r
}

func (b *bench) change(id string, p props, l links) error {
	op, err := b.Update(b.t.Context(), cloud.Ref{Target: here, ID: id}, b.key(), cloud.Request{Properties: p, Links: l})
	if err == nil {
		b.clock.pass(10 * time.Minute)
		b.op(op.ID)
	}
	return err
}

// kind is the kind of problem that an error is.
func kind(err error) string {
	var p *cloud.Problem
	if errors.As(err, &p) {
		return p.Type
	}
	if err != nil {
		return err.Error()
	}
	return ""
}

func (b *bench) ground() (network, subnet string) {
	network = b.make("Network", props{"cidr": "10.0.0.0/16"}, nil)
	return network, b.make("Subnet", props{"cidr": "10.0.1.0/24"}, links{"network": {network}})
}

func TestOperationsAreAFunctionOfTime(t *testing.T) {
	b := newBench(t)
	_, subnet := b.ground()
	op, err := b.begin("LoadBalancer", props{"listeners": []any{props{"port": 80, "target_port": 8080}}},
		links{"subnet": {subnet}})
	if err != nil {
		t.Fatal(err)
	}
	for _, at := range []struct {
		pass        time.Duration
		state, step string
		next        int64
	}{
		{0, "working", "allocating an address", 4500},
		{4 * time.Second, "working", "allocating an address", 500},
		{time.Second, "working", "registering 1 listener", 4000},
		{4500 * time.Millisecond, "settling", "waiting for targets", 8500},
		{8500 * time.Millisecond, "done", "", 0},
	} {
		b.clock.pass(at.pass)
		got := b.op(op.ID)
		if got.State != at.state || got.Step != at.step || got.NextMS != at.next {
			t.Errorf("after %s: %s, %q, next in %d ms", at.pass, got.State, got.Step, got.NextMS)
		}
		if want := map[bool]string{false: "creating", true: "ready"}[at.state == "done"]; b.get(op.ResourceID).
			State != want {
			t.Errorf("the resource is %s, want %s", b.get(op.ResourceID).State, want)
		}
	}
}

func TestTheSameKeyIsAnsweredWithTheSame(t *testing.T) {
	b := newBench(t)
	req := cloud.Request{Type: "Topic", Tags: map[string]string{"stack": "s", "node": "n"}}
	first, err := b.Create(t.Context(), here, "k", req)
	if err != nil {
		t.Fatal(err)
	}
	again, err := b.Create(t.Context(), here, "k", req)
	if err != nil || again.ResourceID != first.ResourceID || again.ID != first.ID {
		t.Errorf("again: %+v %v", again, err)
	}
	if list, _ := b.List(t.Context(), here, ""); len(list) != 1 {
		t.Errorf("%d resources", len(list))
	}
	req.Type = "Queue"
	if _, err := b.Create(t.Context(), here, "k", req); kind(err) != "key-used-before" {
		t.Errorf("the key for something else: %v", err)
	}
	if _, err := b.Create(t.Context(), here, "", req); kind(err) != "missing-key" {
		t.Errorf("no key: %v", err)
	}
	b.clock.pass(time.Hour)
	gone, err := b.Delete(t.Context(), cloud.Ref{Target: here, ID: first.ResourceID}, "d")
	if err != nil {
		t.Fatal(err)
	}
	b.clock.pass(time.Hour)
	if again, err := b.Delete(t.Context(), cloud.Ref{Target: here, ID: first.ResourceID}, "d"); err != nil ||
		again.ID != gone.ID || again.State != "done" {
		t.Errorf("deleted again: %+v %v", again, err)
	}
	if _, err := b.Delete(t.Context(), cloud.Ref{Target: here, ID: first.ResourceID}, "e"); !cloud.IsNotFound(err) {
		t.Errorf("deleted once more: %v", err)
	}
}

func TestRulesOfTheCloud(t *testing.T) {
	b := newBench(t)
	network, subnet := b.ground()
	rules := b.make("Rules", props{"allow": []any{}}, links{"network": {network}})
	router := b.make("Router", nil, links{"network": {network}})
	bucket := b.make("Bucket", props{"name": "kestrel-frames"}, nil)
	functionRole := b.make("Role", props{"for": "function"}, nil)
	serverRole := b.make("Role", props{"for": "server"}, nil)
	zone := b.make("Zone", props{"domain": "kestrelridge.example"}, nil)
	record := b.make("Record", props{"name": "a", "kind": "A", "values": []any{"203.0.113.1"}}, links{"zone": {zone}})
	topic := b.make("Topic", nil, nil)
	address := b.make("Address", nil, nil)
	b.make("Server", props{"size": "small", "image": "moss-3"}, links{"subnet": {subnet}, "address": {address}})
	db := func(more props) props {
		p := props{"engine": "relational", "version": "15", "size": "small", "storage": "20 GiB", "admin": "a",
			"password": "long-enough"}
		for k, v := range more {
			p[k] = v
		}
		return p
	}
	on := links{"subnet": {subnet}}
	group := func(low, want, high int) props {
		return props{"size": "small", "image": "fern-12", "min": low, "want": want, "max": high}
	}
	for _, test := range []struct {
		name, typ string
		p         props
		l         links
		kind      string
	}{
		{"an unknown type", "Castle", nil, nil, "unknown-type"},
		{"the abstract type", "Resource", nil, nil, "unknown-type"},
		{"an unknown property", "Topic", props{"colour": "blue"}, nil, "unknown-property"},
		{"a missing property", "Network", nil, nil, "missing-property"},
		{"a wrong type", "Topic", props{"label": 5}, nil, "wrong-type"},
		{"a value that is not allowed", "Role", props{"for": "cat"}, nil, "invalid-value"},
		{"a missing link", "Subnet", props{"cidr": "10.0.2.0/24"}, nil, "missing-link"},
		{"an unknown requirement", "Topic", nil, links{"network": {network}}, "unknown-requirement"},
		{"a link to nothing", "Subnet", props{"cidr": "10.0.2.0/24"}, links{"network": {"network~0000-0000"}},
			"no-such-resource"},
		{"a link to another type", "Subnet", props{"cidr": "10.0.2.0/24"}, links{"network": {bucket}}, "wrong-target"},
		{"two networks", "Subnet", props{"cidr": "10.0.2.0/24"}, links{"network": {network, network}},
			"too-many-links"},
		{"a network too large", "Network", props{"cidr": "10.0.0.0/7"}, nil, "bad-range"},
		{"a network too small", "Network", props{"cidr": "10.0.0.0/29"}, nil, "bad-range"},
		{"a network that begins in the middle", "Network", props{"cidr": "10.0.0.1/16"}, nil, "bad-range"},
		{"a subnet outside", "Subnet", props{"cidr": "10.1.0.0/24"}, links{"network": {network}}, "range-outside"},
		{"a subnet larger than the network", "Subnet", props{"cidr": "10.0.0.0/8"}, links{"network": {network}},
			"range-outside"},
		{"a subnet that overlaps", "Subnet", props{"cidr": "10.0.1.128/25"}, links{"network": {network}},
			"range-overlap"},
		{"a second router", "Router", nil, links{"network": {network}}, "one-router"},
		{"ports the wrong way round", "Rules", props{"allow": []any{props{"ports": "90-80", "peer": "10.0.0.0/8"}}},
			links{"network": {network}}, "bad-ports"},
		{"a port too high", "Rules", props{"allow": []any{props{"ports": "70000", "peer": "10.0.0.0/8"}}},
			links{"network": {network}}, "bad-ports"},
		{"an image that is nowhere", "Server", props{"size": "small", "image": "fern-99"}, on, "no-such-image"},
		{"a function's role", "Server", props{"size": "small", "image": "fern-12"},
			links{"subnet": {subnet}, "role": {functionRole}}, "wrong-role"},
		{"a server's role", "Function", props{"runtime": "go-1"}, links{"role": {serverRole}}, "wrong-role"},
		{"an address twice", "Server", props{"size": "small", "image": "fern-12"},
			links{"subnet": {subnet}, "address": {address}}, "address-taken"},
		{"more than the most", "ServerGroup", group(1, 5, 3), on, "bad-numbers"},
		{"fewer than the fewest", "ServerGroup", group(3, 2, 5), on, "bad-numbers"},
		{"far too many", "ServerGroup", group(1, 200, 300), on, "bad-numbers"},
		{"a port twice", "LoadBalancer",
			props{"listeners": []any{props{"port": 80, "target_port": 1}, props{"port": 80, "target_port": 2}}}, on,
			"port-twice"},
		{"a name that is taken", "Bucket", props{"name": "kestrel-frames"}, nil, "name-taken"},
		{"a domain that is taken", "Zone", props{"domain": "kestrelridge.example"}, nil, "name-taken"},
		{"a record that is taken", "Record", props{"name": "a", "kind": "A", "values": []any{"203.0.113.2"}},
			links{"zone": {zone}}, "name-taken"},
		{"a name as an address", "Record", props{"name": "b", "kind": "A", "values": []any{"hut.example"}},
			links{"zone": {zone}}, "bad-address"},
		{"a subscription to nowhere", "Subscription", props{"to": "hut"}, links{"topic": {topic}}, "bad-address"},
		{"a version that is not there", "Database", db(props{"version": "17"}), on, "no-such-version"},
		{"a document database of that version", "Database", db(props{"engine": "document"}), on, "no-such-version"},
		{"a short password", "Database", db(props{"password": "short"}), on, "invalid-value"},
	} {
		if _, err := b.begin(test.typ, test.p, test.l); kind(err) != test.kind {
			t.Errorf("%s: %v, want %s", test.name, err, test.kind)
		}
	}
	for _, test := range []struct {
		name, id string
		p        props
		l        links
		kind     string
	}{
		{"a range", subnet, props{"cidr": "10.0.9.0/24"}, nil, "cannot-change"},
		{"a name", bucket, props{"name": "other-frames"}, nil, "cannot-change"},
		{"a required property", bucket, props{"name": nil}, nil, "missing-property"},
		{"an optional one", bucket, props{"keep_days": 5, "versioned": true}, nil, ""},
		{"an optional one taken away", bucket, props{"keep_days": nil}, nil, ""},
		{"a link that needs a swap", rules, nil, links{"network": {router}}, "wrong-target"},
		{"a record's values", record, props{"values": []any{"203.0.113.9"}}, nil, ""},
		{"nothing that is there", "bucket~0000-0000", props{"keep_days": 5}, nil, "not-found"},
	} {
		if err := b.change(test.id, test.p, test.l); kind(err) != test.kind {
			t.Errorf("changing %s: %v, want %q", test.name, err, test.kind)
		}
	}
	if r := b.get(bucket); r.Properties["versioned"] != true || r.Properties["keep_days"] != nil {
		t.Errorf("the bucket has %v", r.Properties)
	}
}

func TestWhatDatabasesCanAndCannot(t *testing.T) {
	b := newBench(t)
	_, subnet := b.ground()
	db := b.make("Database", props{"engine": "relational", "version": "15.9", "size": "small", "storage": "20 GiB",
		"admin": "a", "password": "long-enough"}, links{"subnet": {subnet}})
	for _, test := range []struct {
		p    props
		kind string
	}{
		{props{"version": "15.10"}, ""},
		{props{"version": "15.9"}, "cannot-change"},
		{props{"storage": "30 GiB"}, ""},
		{props{"storage": "20 GiB"}, "cannot-change"},
		{props{"storage": "30720 MiB"}, ""},
		{props{"size": "large"}, ""},
		{props{"size": "small"}, ""},
		{props{"engine": "document", "version": "7"}, "cannot-change"},
	} {
		if err := b.change(db, test.p, nil); kind(err) != test.kind {
			t.Errorf("%v: %v, want %q", test.p, err, test.kind)
		}
	}
	shown := fmt.Sprint(b.get(db).Properties["password"])
	if !strings.HasPrefix(shown, "fingerprint:") || strings.Contains(shown, "long-enough") {
		t.Errorf("the password is shown as %s", shown)
	}
	if err := b.change(db, props{"password": "another-one"}, nil); err != nil ||
		fmt.Sprint(b.get(db).Properties["password"]) == shown {
		t.Errorf("another password has the same fingerprint (%v)", err)
	}
}

func TestQuotas(t *testing.T) {
	b := newBench(t)
	for i := range 5 {
		b.make("Network", props{"cidr": fmt.Sprintf("10.%d.0.0/16", i)}, nil)
	}
	if _, err := b.begin("Network", props{"cidr": "10.9.0.0/16"}, nil); kind(err) != "quota" {
		t.Errorf("a sixth network: %v", err)
	}
	there := stack.Target{Account: "summit", Region: "alder-1"}
	if _, err := b.Create(t.Context(), there, "x",
		cloud.Request{Type: "Network", Properties: props{"cidr": "10.9.0.0/16"}}); err != nil {
		t.Errorf("a network in another account: %v", err)
	}
}

func TestInUseAndUnderWay(t *testing.T) {
	b := newBench(t)
	network, subnet := b.ground()
	_, err := b.Delete(t.Context(), cloud.Ref{Target: here, ID: network}, "d1")
	if kind(err) != "in-use" || !strings.Contains(err.Error(), "subnet of test") ||
		!strings.Contains(err.Error(), subnet) {
		t.Errorf("a network in use: %v", err)
	}
	if used := b.get(network).UsedBy; len(used) != 1 || used[0] != subnet {
		t.Errorf("used by %v", used)
	}
	op, err := b.Delete(t.Context(), cloud.Ref{Target: here, ID: subnet}, "d2")
	if err != nil {
		t.Fatal(err)
	}
	if err := b.change(subnet, props{"public": true}, nil); kind(err) != "operation-under-way" {
		t.Errorf("changing what is being removed: %v", err)
	}
	b.clock.pass(time.Minute)
	if b.op(op.ID).State != "done" {
		t.Error("the subnet is not removed")
	}
	if _, err := b.Delete(t.Context(), cloud.Ref{Target: here, ID: network}, "d3"); err != nil {
		t.Errorf("a network that is free: %v", err)
	}
	fresh, err := b.begin("Network", props{"cidr": "10.7.0.0/16"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.begin("Router", nil, links{"network": {fresh.ResourceID}}); kind(err) != "not-ready" {
		t.Errorf("resting on what is not ready: %v", err)
	}
}

func TestFaults(t *testing.T) {
	b := newBench(t)
	_, subnet := b.ground()
	add := func(f yard.Fault) {
		t.Helper()
		if _, err := b.door().AddFault(t.Context(), f); err != nil {
			t.Fatal(err)
		}
	}
	server := func() (cloud.Operation, error) {
		return b.begin("Server", props{"size": "small", "image": "fern-12"}, links{"subnet": {subnet}})
	}
	add(yard.Fault{Type: "Server", At: "image", Reason: "no host is free", Times: 1})
	op, err := server()
	if err != nil {
		t.Fatal(err)
	}
	b.clock.pass(6 * time.Second)
	if got := b.op(op.ID); got.State != "working" {
		t.Errorf("too early: %+v", got)
	}
	b.clock.pass(2 * time.Second)
	if got := b.op(op.ID); got.State != "failed" || got.Step != "starting the image" ||
		got.Problem.Detail != "no host is free" {
		t.Errorf("a fault in the middle: %+v %+v", got, got.Problem)
	}
	if got := b.get(op.ResourceID); got.State != "failed" {
		t.Errorf("what is left is %s", got.State)
	}
	add(yard.Fault{Name: "server", At: "call", Reason: "not today", Times: 1})
	if _, err := server(); kind(err) != "refused" || err.Error() != "not today" {
		t.Errorf("a fault at the call: %v", err)
	}
	add(yard.Fault{Mode: "busy", Reason: "too many calls", Times: 2})
	for i, want := range []string{"busy", "busy", ""} {
		if _, err := server(); kind(err) != want {
			t.Errorf("try %d: %v, want %q", i, err, want)
		}
	}
	list, _ := b.List(t.Context(), here, "")
	add(yard.Fault{Mode: "lose", Reason: "x", Times: 1})
	if _, err := b.Create(t.Context(), here, "lost", cloud.Request{Type: "Topic"}); kind(err) != "connection" {
		t.Errorf("a lost answer: %v", err)
	}
	if op, err := b.Create(t.Context(), here, "lost", cloud.Request{Type: "Topic"}); err != nil || op.ResourceID == "" {
		t.Errorf("asked again: %v", err)
	}
	if now, _ := b.List(t.Context(), here, ""); len(now) != len(list)+1 {
		t.Errorf("%d resources, were %d", len(now), len(list))
	}
	add(yard.Fault{On: "delete", Type: "Topic", Reason: "held"})
	var faults []yard.Fault
	if faults, err = b.door().Faults(t.Context()); err != nil || len(faults) != 1 {
		t.Errorf("faults: %v %v", faults, err)
	}
	if err := b.door().ClearFaults(t.Context()); err != nil {
		t.Error(err)
	}
	for _, f := range []yard.Fault{{Reason: ""}, {Reason: "x", Mode: "odd"}, {Reason: "x", On: "sunday"},
		{Reason: "x", Type: "Castle"}} {
		if _, err := b.door().AddFault(t.Context(), f); err == nil {
			t.Errorf("the fault %+v is taken", f)
		}
	}
}

func TestWhatIsNeededMustBeGranted(t *testing.T) {
	b := newBench(t)
	_, subnet := b.ground()
	role := b.make("Role", props{"for": "server"}, nil)
	bucket := b.make("Bucket", props{"name": "kestrel-frames"}, nil)
	server := func(needs ...any) cloud.Operation {
		t.Helper()
		op, err := b.begin("Server", props{"size": "small", "image": "fern-12", "needs": needs},
			links{"subnet": {subnet}, "role": {role}})
		if err != nil {
			t.Fatal(err)
		}
		return op
	}
	op := server("bucket:write")
	b.clock.pass(15 * time.Second)
	if got := b.op(op.ID); got.State != "settling" || got.Step != "role role lacks bucket:write" {
		t.Errorf("without a grant: %+v", got)
	}
	if _, err := b.begin("Grant", props{"actions": []any{"bucket:*"}},
		links{"role": {role}, "on": {bucket}}); err != nil {
		t.Fatal(err)
	}
	b.clock.pass(4 * time.Second)
	if got := b.op(op.ID); got.State != "done" {
		t.Errorf("with a grant: %+v", got)
	}
	op = server("bucket:read", "queue:read")
	b.clock.pass(30 * time.Second)
	if got := b.op(op.ID); got.Step != "role role lacks queue:read" {
		t.Errorf("half of it granted: %+v", got)
	}
	b.clock.pass(60 * time.Second)
	if got := b.op(op.ID); got.State != "failed" || got.Problem.Type != "permission" ||
		!strings.Contains(got.Problem.Detail, "role role lacks queue:read") {
		t.Errorf("never granted: %+v %+v", got, got.Problem)
	}
	if b.get(op.ResourceID).State != "failed" {
		t.Error("the server has not failed")
	}
	bare, err := b.begin("Server", props{"size": "small", "image": "fern-12", "needs": []any{"queue:read"}},
		links{"subnet": {subnet}})
	if err != nil {
		t.Fatal(err)
	}
	b.clock.pass(20 * time.Second)
	if got := b.op(bare.ID); !strings.Contains(got.Step, "it has no role, and needs queue:read") {
		t.Errorf("without a role: %+v", got)
	}
	for _, test := range []struct {
		granted, needed string
		want            bool
	}{{"*:*", "queue:read", true}, {"queue:*", "queue:read", true}, {"*:read", "queue:read", true}, {"queue:write",
		"queue:read", false}, {"bucket:read", "queue:read", false}} {
		if got := cloud.Covers(test.granted, test.needed); got != test.want {
			t.Errorf("%s covers %s: %v", test.granted, test.needed, got)
		}
	}
}

func TestAddressesAreGivenAndTakenBack(t *testing.T) {
	b := newBench(t)
	_, subnet := b.ground()
	server := func() string {
		return b.make("Server", props{"size": "small", "image": "fern-12"}, links{"subnet": {subnet}})
	}
	address := func(id string) string { return fmt.Sprint(b.get(id).Attributes["private_address"]) }
	one, two := server(), server()
	if address(one) != "10.0.1.4" || address(two) != "10.0.1.5" {
		t.Errorf("addresses %s and %s", address(one), address(two))
	}
	if _, err := b.Delete(t.Context(), cloud.Ref{Target: here, ID: one}, "d"); err != nil {
		t.Fatal(err)
	}
	b.clock.pass(time.Minute)
	group := b.make("ServerGroup", props{"size": "small", "image": "fern-12", "max": 5, "want": 3},
		links{"subnet": {subnet}})
	for _, step := range []struct {
		want      int
		addresses string
	}{{3, "[10.0.1.4 10.0.1.6 10.0.1.7]"}, {2, "[10.0.1.4 10.0.1.6]"}, {4,
		"[10.0.1.4 10.0.1.6 10.0.1.7 10.0.1.8]"}, {1, "[10.0.1.4]"}, {3, "[10.0.1.4 10.0.1.6 10.0.1.7]"}} {
		if err := b.change(group, props{"want": step.want}, nil); err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(b.get(group).Attributes["addresses"]); got != step.addresses {
			t.Errorf("a group of %d has %s, want %s", step.want, got, step.addresses)
		}
	}
}

func TestWhoIsLetIn(t *testing.T) {
	b := newBench(t)
	strangers := &httpcloud.Client{Base: b.Base, HTTP: b.HTTP,
		Tokens: map[string]string{"workshop": b.Tokens["summit"]}}
	if _, err := strangers.List(t.Context(), here, ""); kind(err) != "unauthorized" {
		t.Errorf("with another account's token: %v", err)
	}
	if _, err := (&yard.Door{Base: b.Base, HTTP: b.HTTP}).Faults(t.Context()); kind(err) != "unauthorized" {
		t.Errorf("as the operator: %v", err)
	}
	if _, err := b.List(t.Context(), stack.Target{Account: "workshop", Region: "nowhere-9"},
		""); kind(err) != "unknown-target" {
		t.Errorf("nowhere: %v", err)
	}
}

func TestIfMatch(t *testing.T) {
	b := newBench(t)
	id := b.make("Bucket", props{"name": "kestrel-frames"}, nil)
	tag := b.get(id).ETag
	if err := b.change(id, props{"keep_days": 3}, nil); err != nil {
		t.Fatal(err)
	}
	_, err := b.Update(t.Context(), cloud.Ref{Target: here, ID: id}, "m",
		cloud.Request{Properties: props{"keep_days": 4}, ETag: tag})
	if kind(err) != "changed-meanwhile" {
		t.Errorf("with an old tag: %v", err)
	}
	if _, err := b.Update(t.Context(), cloud.Ref{Target: here, ID: id}, "m2",
		cloud.Request{Properties: props{"keep_days": 4}, ETag: b.get(id).ETag}); err != nil {
		t.Errorf("with the right tag: %v", err)
	}
}

// TestSeveralProcesses opens one yard twice and uses both at once.
func TestSeveralProcesses(t *testing.T) {
	dir := t.TempDir()
	var clients []*httpcloud.Client
	var opening sync.WaitGroup
	yards := make([]*yard.Yard, 4)
	for i := range yards {
		opening.Go(func() {
			var err error
			if yards[i], err = yard.Open(dir, yard.Options{Library: shipped.Library, Speed: 100}); err != nil {
				t.Error(err)
			}
		})
	}
	opening.Wait()
	for _, y := range yards {
		if y == nil {
			t.FailNow()
		}
		defer y.Close()
		srv := httptest.NewServer(y.Handler())
		defer srv.Close()
		clients = append(clients, &httpcloud.Client{Base: srv.URL, HTTP: srv.Client(), Tokens: y.Tokens()})
	}
	var working sync.WaitGroup
	for i, c := range clients {
		working.Go(func() {
			for j := range 15 {
				if _, err := c.Create(context.Background(), here, fmt.Sprintf("k-%d-%d", i%2, j),
					cloud.Request{Type: "Queue"}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	working.Wait()
	if list, err := clients[0].List(t.Context(), here, ""); err != nil || len(list) != 30 {
		t.Errorf("%d queues, want 30 (%v)", len(list), err)
	}
	info, err := os.Stat(filepath.Join(dir, yard.CredentialsFile))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the credentials: %v %v", info, err)
	}
}

func TestProblemsOnTheWire(t *testing.T) {
	b := newBench(t)
	req, _ := http.NewRequest(http.MethodPost, "http://yard.local/v1/workshop/alder-1/resources",
		strings.NewReader(`{"type":`))
	req.Header.Set("Authorization", "Bearer "+b.Tokens["workshop"])
	req.Header.Set("Idempotency-Key", "k")
	resp, err := b.HTTP.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var p cloud.Problem
	if err := json.NewDecoder(resp.Body).Decode(&p); err != nil || resp.StatusCode != 400 ||
		p.Type != "bad-request" || resp.Header.Get("Content-Type") != "application/problem+json" {
		t.Errorf("%d %+v %v", resp.StatusCode, p, err)
	}
}

func FuzzCreate(f *testing.F) {
	f.Add(`{"type":"Topic"}`)
	f.Add(`{"type":"Network","properties":{"cidr":"10.0.0.0/8"}}`)
	f.Add(`{"type":"Rules","properties":{"allow":[{"ports":"-"}]},"links":{"network":[]}}`)
	f.Add(`{"type":"Record","properties":{"name":"a","kind":"A","values":[1]},"links":{"zone":[""]}}`)
	f.Add(`[]`)
	y, err := yard.Open(f.TempDir(), yard.Options{Library: shipped.Library})
	if err != nil {
		f.Fatal(err)
	}
	f.Cleanup(func() { y.Close() })
	h, tokens, n := y.Handler(), y.Tokens(), 0
	f.Fuzz(func(t *testing.T, body string) {
		n++
		req := httptest.NewRequest(http.MethodPost, "/v1/workshop/alder-1/resources", strings.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+tokens["workshop"])
		req.Header.Set("Idempotency-Key", fmt.Sprint(n, time.Now().UnixNano()))
		w := httptest.NewRecorder()
		h.ServeHTTP(w, req)
		if w.Code >= 500 {
			t.Errorf("%s: %d %s", body, w.Code, w.Body)
		}
	})
}

// TestPagesAreTheWholeList lists more than a few pages hold, at once and one
// after the other, also while something is removed.
func TestPagesAreTheWholeList(t *testing.T) {
	b := newBench(t)
	last := 599
	if testing.Short() {
		last = 205
	}
	b.takes(last + 1)
	var ids []string
	for i := range last + 1 {
		op, err := b.begin("Role", props{"for": "server", "label": fmt.Sprint("role ", i)}, nil)
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, op.ResourceID)
		list := func() {
			got, err := b.List(t.Context(), here, "test")
			if err != nil || len(got) != len(ids) {
				t.Fatalf("%d resources are listed of %d: %v", len(got), len(ids), err)
			}
			for i, r := range got {
				if r.ID != ids[i] {
					t.Fatalf("%s stands at %d, want %s", r.ID, i, ids[i])
				}
			}
		}
		if i == 0 || i == 198 || i == 199 || i == 200 || i == 399 || i == last {
			list()
		}
	}
	if got, err := b.List(t.Context(), here, "another"); err != nil || len(got) != 0 {
		t.Error(got, err)
	}
}

// TestMain lets the test binary be one of the processes that are begun.
func TestMain(m *testing.M) {
	if code, is := agent.Serve(os.Args[1:]); is {
		os.Exit(code)
	}
	os.Exit(m.Run())
}
