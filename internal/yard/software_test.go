package yard_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/cloud/httpcloud"
	"brickrow/internal/yard"
)

// crewed is a yard on the real clock, as scripts really run.
type crewed struct {
	*bench
	dir string
	y   *yard.Yard
}

func newCrewed(t *testing.T, dir string) *crewed {
	t.Helper()
	if dir == "" {
		dir = t.TempDir()
	}
	y, err := yard.Open(dir, yard.Options{Library: shipped.Library, Speed: 200})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { y.Close() })
	return &crewed{&bench{Client: &httpcloud.Client{Base: "http://yard.local", Tokens: y.Tokens(), HTTP: &http.Client{Transport: held{t, yard.Transport{Handler: y.Handler()}}}}, t: t, n: int(time.Now().UnixNano())}, dir, y}
}

// ends waits until an operation is over.
func (b *crewed) ends(o cloud.Operation, err error) cloud.Operation {
	b.t.Helper()
	if err != nil {
		b.t.Fatal(err)
	}
	for end := time.Now().Add(40 * time.Second); !o.Ended(); {
		if time.Now().After(end) {
			b.t.Fatalf("%s does not end: %+v", o.ID, o)
		}
		time.Sleep(time.Duration(o.NextMS) * time.Millisecond)
		o = b.op(o.ID)
	}
	return o
}

func (b *crewed) add(typ string, p props, l links) string {
	b.t.Helper()
	o := b.ends(b.begin(typ, p, l))
	if o.State != "done" {
		b.t.Fatalf("%s: %+v", typ, o.Problem)
	}
	return o.ResourceID
}

func (b *crewed) server() string {
	b.t.Helper()
	network := b.add("Network", props{"cidr": "10.9.0.0/16"}, nil)
	subnet := b.add("Subnet", props{"cidr": "10.9.1.0/24"}, links{"network": {network}})
	return b.add("Server", props{"size": "small", "image": "fern-12"}, links{"subnet": {subnet}})
}

// ops are the operations of software, by their scripts.
func ops(scripts ...string) props {
	out := map[string]any{}
	for i := 0; i < len(scripts); i += 2 {
		out[scripts[i]] = map[string]any{"script": scripts[i+1]}
	}
	return props{"operations": out}
}

func (b *crewed) scripts(id string) []cloud.Script {
	b.t.Helper()
	list, err := b.Scripts(b.t.Context(), here, "", id)
	if err != nil {
		b.t.Fatal(err)
	}
	return list
}

// ran is what was carried out for a resource: operations and states.
func (b *crewed) ran(id string) string {
	var out []string
	for _, s := range b.scripts(id) {
		out = append(out, s.Operation+" "+s.State)
	}
	return strings.Join(out, ", ")
}

func (b *crewed) wants(id, want string) {
	b.t.Helper()
	if got := b.ran(id); got != want {
		b.t.Errorf("%s: %s\nwanted: %s", id, got, want)
	}
}

func (b *crewed) remove(id string) cloud.Operation {
	b.t.Helper()
	return b.ends(b.Delete(b.t.Context(), cloud.Ref{Target: here, ID: id}, b.key()))
}

func (b *crewed) update(id string, p props) cloud.Operation {
	b.t.Helper()
	return b.ends(b.Update(b.t.Context(), cloud.Ref{Target: here, ID: id}, b.key(), cloud.Request{Properties: p}))
}

func TestSoftwareInItsLife(t *testing.T) {
	b := newCrewed(t, "")
	server := b.server()
	id := b.add("Software", ops("create", "echo made > /srv; mkdir -p /www; echo hello > /www/index.html; result port 8080",
		"start", "echo to errors >&2; cat /srv; service page start 8080 /www", "stop", "service page stop; echo gone >> /srv",
		"drain", "echo drained >> /srv", "delete", "cat /srv"), links{"host": {server}})
	b.wants(id, "create done, start done")
	a := b.get(id).Attributes
	if a["state"] != "done" || fmt.Sprint(a["exit_code"]) != "0" || !strings.Contains(fmt.Sprint(a["output"]), "made") || a["errors"] != "── start on "+server+"\nto errors\n" && !strings.Contains(fmt.Sprint(a["errors"]), "to errors") ||
		fmt.Sprint(a["results"]) != "map[port:8080]" {
		t.Errorf("the attributes: %v", a)
	}
	// What listens there is what one hears.
	ask := func(address string) string {
		o, _, err := b.Ask(t.Context(), here, cloud.Call{Kind: "http", URL: address})
		if err != nil {
			t.Fatal(err)
		}
		return fmt.Sprint(o.Status, " ", strings.TrimSpace(o.Body), o.Refused)
	}
	address := b.add("Address", nil, nil)
	o, err := b.Update(t.Context(), cloud.Ref{Target: here, ID: server}, b.key(), cloud.Request{Links: links{"address": {address}}})
	if b.ends(o, err).State != "done" {
		t.Fatal("the address is not the server's")
	}
	public := fmt.Sprint(b.get(server).Attributes["public_address"])
	if got := ask("http://" + public + ":8080/"); got != "200 hello" {
		t.Errorf("at the server: %s", got)
	}
	if got := ask("http://" + public + ":8080/no"); !strings.HasPrefix(got, "404") {
		t.Errorf("at a page that there is not: %s", got)
	}
	if got := ask("http://" + public + "/"); !strings.Contains(got, "nothing listens on port 80") {
		t.Errorf("at another port: %s", got)
	}
	// A new script is an edit on the same server; a restart goes around it.
	if o := b.update(id, ops("create", "exit 3", "update", "echo new >> /srv", "start", "service page start 8080 /www", "stop", "service page stop", "drain", "echo drained >> /srv", "delete", "cat /srv")); o.State != "done" {
		t.Fatalf("the update: %+v", o.Problem)
	}
	o, err = b.Act(t.Context(), cloud.Ref{Target: here, ID: server}, b.key(), "restart", nil)
	if o := b.ends(o, err); o.State != "done" || o.Steps != 6 {
		t.Fatalf("the restart: %+v", o)
	}
	b.wants(id, "create done, start done, update done, drain done, stop done, start done")
	// Put to rest and woken up, it is told; nothing new can begin on a server at rest.
	if o := b.update(id, ops("create", "exit 3", "update", "true", "suspend", "echo tired >> /srv", "resume", "echo fresh >> /srv", "stop", "service page stop", "drain", "echo drained >> /srv", "delete", "cat /srv")); o.State != "done" {
		t.Fatalf("the update: %+v", o.Problem)
	}
	for _, action := range []string{"suspend", "resume"} {
		o, err = b.Act(t.Context(), cloud.Ref{Target: here, ID: server}, b.key(), action, nil)
		if o := b.ends(o, err); o.State != "done" {
			t.Fatalf("%s: %+v", action, o.Problem)
		}
		if action == "suspend" {
			if _, err := b.begin("Software", ops("create", "true"), links{"host": {server}}); kind(err) != "not-ready" {
				t.Errorf("on a server at rest: %v", err)
			}
		}
	}
	b.wants(id, "create done, start done, update done, drain done, stop done, start done, update done, suspend done, resume done")
	if o := b.remove(id); o.State != "done" {
		t.Fatalf("the removal: %+v", o.Problem)
	}
	list := b.scripts(id)
	if last := list[len(list)-1]; last.Operation != "delete" || last.Output != "made\nnew\ndrained\ntired\nfresh\ndrained\n" {
		t.Errorf("the last script: %+v", last)
	}
}

func TestScriptsThatFail(t *testing.T) {
	b := newCrewed(t, "")
	server := b.server()
	fails := func(p props, want string) cloud.Script {
		t.Helper()
		o := b.ends(b.begin("Software", p, links{"host": {server}}))
		if o.State != "failed" || o.Problem == nil || !strings.Contains(o.Problem.Detail, want) || o.Problem.Type != "script-failed" {
			t.Errorf("wanted %q: %+v %+v", want, o, o.Problem)
		}
		if a := b.get(o.ResourceID).Attributes; a["state"] != "failed" {
			t.Errorf("the attributes of what failed: %v", a)
		}
		list := b.scripts(o.ResourceID)
		return list[len(list)-1]
	}
	if s := fails(ops("create", "echo half > /half; echo on the way; echo 'no disk' >&2; exit 4", "start", "echo never"), "exit code 4: no disk"); s.ExitCode != 4 || s.Operation != "create" || s.Output != "on the way\n" {
		t.Errorf("what is kept: %+v", s)
	}
	fails(ops("create", "if then"), "cannot be read")
	p := ops("create", "while :; do sleep 1; done")
	p["timeout"] = "30 s"
	fails(p, "longer than 30s")
	p = ops("create", "sleep 20", "start", "sleep 20")
	p["timeout"] = "30 s"
	if s := fails(p, "longer than"); s.Operation != "start" {
		t.Errorf("the time is of all together: %+v", s)
	}
	fails(ops("create", "curl -f http://192.0.2.7/"), "exit code 7")
	fails(ops("create", "cat /etc/../../../../etc/passwd"), "not exist")
}

func TestAgentsThatFail(t *testing.T) {
	b := newCrewed(t, "")
	server := b.server()
	for mode, want := range map[string]string{"silent": "did not answer", "endless": "longer than", "slow": "", "unheard": "", "fail": "said on purpose"} {
		reason := "said on purpose"
		if _, err := b.door().AddFault(t.Context(), yard.Fault{Type: "Software", At: "configure", Mode: mode, Reason: reason, Times: 1}); err != nil {
			t.Fatal(err)
		}
		p := ops("create", "echo x >> /count-"+mode, "configure", "result times $(wc -l < /count-"+mode+")")
		p["timeout"] = "40 s"
		o := b.ends(b.begin("Software", p, links{"host": {server}}))
		if want == "" && o.State != "done" || want != "" && (o.State != "failed" || !strings.Contains(o.Problem.Detail, want)) {
			t.Errorf("%s: %+v %+v", mode, o, o.Problem)
		}
		if want == "" {
			if r := fmt.Sprint(b.get(o.ResourceID).Attributes["results"]); r != "map[times:1]" {
				t.Errorf("%s: it ran more than once: %s", mode, r)
			}
		}
	}
}

func TestScriptsKeepSecrets(t *testing.T) {
	b := newCrewed(t, "")
	server := b.server()
	secret := "hunter2-of-the-huts"
	p := ops("create", `echo "the word is $WORD"; echo $WORD >&2; echo -n $WORD | base64; result word $WORD; i=0
		while [ $i -lt 4000 ]; do echo "padding padding padding $WORD"; i=$((i+1)); done; exit 1`)
	p["operations"].(map[string]any)["create"].(map[string]any)["inputs"] = map[string]any{"WORD": secret}
	o, err := b.Create(t.Context(), here, b.key(), cloud.Request{Type: "Software", Properties: p, Links: links{"host": {server}},
		Secrets: []string{"/properties/operations/create/inputs/WORD"}})
	o = b.ends(o, err)
	s := b.scripts(o.ResourceID)[0]
	if o.State != "failed" || !strings.Contains(s.Output, "are left out here") || len(s.Output) > 66<<10 || len(s.Output) < 40<<10 {
		t.Errorf("%+v: %d bytes", o, len(s.Output))
	}
	for what, text := range map[string]string{"problem": fmt.Sprint(o.Problem), "output": s.Output, "errors": s.Errors, "results": fmt.Sprint(s.Results),
		"attributes": fmt.Sprint(b.get(o.ResourceID))} {
		for _, form := range []string{secret, "aHVudGVyMi1vZi10aGUtaHV0c"} {
			if strings.Contains(text, form) {
				t.Errorf("the secret stands in the %s", what)
			}
		}
	}
	b.y.Close()
	files, _ := filepath.Glob(filepath.Join(b.dir, "*"))
	for _, f := range files {
		if text, err := os.ReadFile(f); err != nil || strings.Contains(string(text), secret) {
			t.Errorf("the secret stands in %s (%v)", f, err)
		}
	}
}

func TestGroupsAndOrders(t *testing.T) {
	b := newCrewed(t, "")
	network := b.add("Network", props{"cidr": "10.9.0.0/16"}, nil)
	subnet := b.add("Subnet", props{"cidr": "10.9.1.0/24"}, links{"network": {network}})
	group := b.add("ServerGroup", props{"size": "small", "image": "fern-12", "min": 1, "want": 2, "max": 4}, links{"subnet": {subnet}})
	id := b.add("Software", ops("create", "echo $BRICKROW_SERVER", "delete", "echo bye"), links{"host": {group}})
	b.wants(id, "create done, create done")
	if o := b.update(group, props{"want": 3}); o.State != "done" {
		t.Fatalf("%+v", o.Problem)
	}
	if o := b.update(group, props{"want": 1}); o.State != "done" {
		t.Fatalf("%+v", o.Problem)
	}
	b.wants(id, "create done, create done, create done, delete done, delete done")
	if list := b.scripts(id); list[2].Server != group+"/3" || list[2].Output != group+"/3\n" || list[4].Server != group+"/3" {
		t.Errorf("the servers: %+v", list)
	}
	if o := b.update(group, props{"size": "large"}); o.State != "done" {
		t.Fatalf("%+v", o.Problem)
	}
	b.wants(id, "create done, create done, create done, delete done, delete done, create done")
	// What nobody waits for is there when it is there.
	p := ops("create", "sleep 60; result here yes", "start", "exit 2", "configure", "true")
	p["wait"] = false
	alone := b.add("Software", p, links{"host": {group}})
	if s := b.get(alone); s.State != "ready" || s.Attributes["state"] == "failed" {
		t.Errorf("it was waited for: %+v", s)
	}
	for end := time.Now().Add(20 * time.Second); b.get(alone).Attributes["state"] != "failed" && time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
	}
	b.wants(alone, "create done, configure done, start failed")
}

// A process that goes while scripts run leaves nothing half; another carries them out.
func TestAnotherProcessTakesOver(t *testing.T) {
	b := newCrewed(t, "")
	server := b.server()
	p := ops("create", "echo x >> /count; sleep 1000; result times $(wc -l < /count)")
	p["timeout"] = "1 h"
	o, err := b.begin("Software", p, links{"host": {server}})
	if err != nil {
		t.Fatal(err)
	}
	for b.ran(o.ResourceID) != "create running" {
		time.Sleep(10 * time.Millisecond)
	}
	b.y.Close()
	again := newCrewed(t, b.dir)
	if o = again.ends(again.op(o.ID), nil); o.State != "done" {
		t.Fatalf("%+v", o.Problem)
	}
	if r := fmt.Sprint(again.get(o.ResourceID).Attributes["results"]); r != "map[times:1]" {
		t.Errorf("%s", r)
	}
}
