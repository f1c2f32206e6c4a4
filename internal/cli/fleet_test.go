package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"brickrow/internal/cloud"
	"brickrow/internal/cloud/httpcloud"
	"brickrow/internal/postgres/postgrestest"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

const huts = `fleet: huts
stack: row.stack.yaml
places:
  - { target: hut-*/*, inputs: { site: { filled_by: region } } }
waves: [ 1, 25 %, rest ]
at_once: 8
tolerate: 2
`

// fleetFiles writes the files of a fleet.
func (m *team) fleetFiles(text string) string {
	row := strings.Replace(rowOf, "size: { type: string, default: small },", "size: { type: string, default: small }, site: { type: string },", 1)
	m.file("row.yaml", strings.Replace(row, "properties: { label: { $get_input: size } }", "properties: { label: { $get_input: site } }", 1))
	m.file("row.stack.yaml", "template: row.yaml\nstack: row\n")
	return m.file("huts.fleet.yaml", text)
}

func (m *team) change(file, was, is string) {
	m.t.Helper()
	text, err := os.ReadFile(filepath.Join(m.dir, file))
	if err != nil || !strings.Contains(string(text), was) {
		m.t.Fatalf("%s has no %q: %v", file, was, err)
	}
	m.file(file, strings.ReplaceAll(string(text), was, is))
}

// everywhere counts the resources of all stacks in the cloud, and says which node is there twice in one.
func (m *team) everywhere() (n int, twice []string) {
	m.t.Helper()
	list, err := m.door.Everything(m.t.Context(), "")
	if err != nil {
		m.t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, r := range list {
		key := r.Tags["stack"] + " " + r.Tags["node"]
		if seen[key] {
			twice = append(twice, key)
		}
		seen[key] = true
	}
	return len(list), twice
}

// rolled is what 'fleet show --json' says.
type rolled struct {
	Fleet string
	Waves []struct {
		Number int
		Places []struct {
			Target, Stack, State, Failed string
			Run                          int
			Seconds                      float64
		}
	}
	Counts    map[string]int
	Tolerated int
	State     string
}

func (m *team) show(fleet string) rolled {
	m.t.Helper()
	var s rolled
	if err := json.Unmarshal([]byte(m.run(0, "ann", "fleet", "show", fleet, "--json")), &s); err != nil {
		m.t.Fatal(err)
	}
	return s
}

// TestFleet takes thirty places through all of it: looked at, deployed with three that fail where two are tolerated,
// retried, drifted, one of them asked about, some gone from the file, all of them deleted.
func TestFleet(t *testing.T) {
	m := newTeam(t, "", 2000, 10)
	file := m.fleetFiles(huts)
	if out := m.run(0, "ann", "fleet", "check", file); !strings.Contains(out, "nothing wrong") {
		t.Error(out)
	}
	var looked struct {
		Fleet  string
		Places []struct {
			Target, Stack, Same string `json:"-"`
			SameAs              string `json:"same_as"`
			Wave                int
			Tally               struct{ New int }
		}
		Tally struct{ New int }
	}
	if err := json.Unmarshal([]byte(m.run(0, "ann", "fleet", "whatif", file, "--json")), &looked); err != nil {
		t.Fatal(err)
	}
	if len(looked.Places) != 30 || looked.Tally.New != 180 || looked.Places[0].SameAs != "" || looked.Places[29].SameAs != "hut-001/alder-1" ||
		looked.Places[1].Wave != 2 || looked.Places[29].Wave != 3 {
		t.Errorf("%+v", looked)
	}
	for text, want := range map[string]string{
		strings.Replace(huts, "site:", "seat:", 1):                                                            "wrong: 30 places; nothing can be done in any of them\n",
		strings.Replace(huts, "waves:", "  - { target: hut-001/alder-1, inputs: { size: huge } }\nwaves:", 1): "wrong: 30 places; 174 new; in 1 of them nothing can be done\n",
	} {
		m.file("wrong.fleet.yaml", strings.Replace(text, "fleet: huts", "fleet: wrong", 1))
		if out := m.run(1, "ann", "fleet", "whatif", "wrong.fleet.yaml"); !strings.Contains(out, want) {
			t.Errorf("%s\nwant %s", out, want)
		}
	}
	if out := m.run(ExitUsage, "ann", "fleet", "deploy", file); !strings.Contains(out, "Nobody can answer here") {
		t.Error(out)
	}
	if _, err := m.door.AddFault(t.Context(), yard.Fault{Name: "post", At: "last", Times: 3, Reason: "no host has room"}); err != nil {
		t.Fatal(err)
	}
	out := m.run(ExitUndone, "ann", "fleet", "deploy", file, "--yes", "--note", "for the winter")
	if !strings.Contains(out, "stopped: failed in 3 places, 2 are tolerated") || strings.Contains(out, "wave 3 ") {
		t.Error(out)
	}
	s := m.show(file)
	if s.State != "stopped" || s.Counts["failed"] != 3 || s.Tolerated != 2 || len(s.Waves) != 3 || s.Counts["waiting"] < 19 {
		t.Errorf("%+v", s)
	}
	for _, p := range s.Waves[2].Places {
		if p.State != "waiting" || p.Run != 0 {
			t.Errorf("%+v was begun", p)
		}
	}
	if out := m.run(0, "ann", "fleet", "retry", file); !strings.Contains(out, "huts, rollout 1: ready") {
		t.Error(out)
	}
	if n, twice := m.everywhere(); n != 180 || len(twice) > 0 {
		t.Errorf("%d resources are there, twice: %v", n, twice)
	}
	if s = m.show("huts"); s.State != "ready" || s.Counts["ready"] != 30 || s.Waves[0].Places[0].Stack != "huts@hut-001.alder-1" {
		t.Errorf("%+v", s)
	}
	if out := m.run(0, "ann", "fleet", "deploy", file, "--yes"); !strings.Contains(out, "nothing to do") {
		t.Error(out)
	}
	if out := m.run(0, "ann", "show", "huts@hut-003.birch-1"); !strings.Contains(out, "hut-003/birch-1") {
		t.Error(out)
	}
	if out := m.run(0, "ann", "history", "huts@hut-003.birch-1"); !strings.Contains(out, "for the winter") {
		t.Error(out)
	}

	// Changed by hand in one place.
	m.run(0, "ann", "fleet", "drift", file)
	hands := &httpcloud.Client{Base: m.cloud, HTTP: http.DefaultClient, Tokens: m.huts, By: "somebody"}
	list, err := m.door.Everything(t.Context(), "huts@hut-002.alder-1")
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range list {
		if r.Type != "Topic" {
			continue
		}
		if _, err := hands.Update(t.Context(), cloud.Ref{Target: stack.Target{Account: "hut-002", Region: "alder-1"}, Type: r.Type, ID: r.ID}, "by hand",
			cloud.Request{Properties: map[string]any{"label": "by hand"}}); err != nil {
			t.Fatal(err)
		}
	}
	m.until("the cloud has done it", func() bool {
		return strings.Contains(m.run(0, "ann", "cloud", "--target", "hut-002/alder-1", "--json"), "by hand")
	})
	if out := m.run(ExitChanges, "ann", "fleet", "drift", file); !strings.Contains(out, "1 of 30 places differ") || !strings.Contains(out, "by hand") {
		t.Error(out)
	}
	if out := m.run(ExitChanges, "ann", "fleet", "compliance", file); !strings.Contains(out, "huts@") {
		t.Error(out)
	}
	for _, name := range []string{"f.svg", "f.pdf"} {
		m.run(0, "ann", "fleet", "draw", file, "-o", name)
		if info, err := os.Stat(filepath.Join(m.dir, name)); err != nil || info.Size() < 2000 {
			t.Errorf("%s: %v %v", name, info, err)
		}
	}
	m.run(0, "ann", "fleet", "show", file, "--junit", "f.xml")
	if text, err := os.ReadFile(filepath.Join(m.dir, "f.xml")); err != nil || strings.Count(string(text), "<testcase ") != 30 {
		t.Errorf("%s %v", text, err)
	}

	// One place is careful and has another size, some leave, and each wave is asked about.
	m.fleetFiles(strings.Replace(huts, "waves:", "  - { target: hut-001/alder-1, inputs: { size: large, site: top }, careful: true }\nexcept: [ hut-01?/*, hut-009/* ]\nwaves:", 1) +
		"pause_between: ask\n")
	m.change("row.yaml", "image: moss-3", "image: fern-12")
	out = m.run(0, "ann", "fleet", "whatif", file)
	if !strings.Contains(out, "in hut-001/alder-1\n") || strings.Count(out, "in 22 places the same") != 1 || !strings.Contains(out, "it has left the file, and is removed") {
		t.Error(out)
	}
	deploying := m.command("ann", "fleet", "deploy", file, "--yes", "--accept", "data", "--accept", "leaving")
	var said strings.Builder
	deploying.Stdout, deploying.Stderr = &said, &said
	if err := deploying.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = deploying.Process.Kill() })
	state := func(want string) func() bool { return func() bool { return m.show("huts").State == want } }
	m.until("the first wave is asked about", state("between"))
	m.run(0, "ann", "fleet", "pause", file)
	m.until("it is paused", state("paused"))
	m.run(0, "ann", "fleet", "resume", file)
	m.until("it asks again", state("between"))
	m.run(0, "ann", "fleet", "resume", file)
	m.until("the second wave is asked about", func() bool { s := m.show("huts"); return s.State == "between" && s.Counts["ready"] > 2 })
	m.run(0, "ann", "fleet", "resume", file)
	m.until("a careful one asks", func() bool { return m.show("huts").Counts["asks"] == 1 })
	if out := m.run(1, "ann", "fleet", "approve", file, "hut-002/alder-1"); !strings.Contains(out, "not careful") {
		t.Error(out)
	}
	m.run(0, "ann", "fleet", "approve", file, "hut-001/alder-1")
	if err := deploying.Wait(); err != nil {
		t.Errorf("%v\n%s", err, said.String())
	}
	if s := m.show("huts"); s.State != "ready" || s.Counts["removed"] != 6 || s.Counts["ready"] != 24 {
		t.Errorf("%+v", s)
	}
	if n, twice := m.everywhere(); n != 24*6 || len(twice) > 0 {
		t.Errorf("%d resources are there, twice: %v", n, twice)
	}
	if out := m.run(1, "ann", "fleet", "delete", file, "--yes"); !strings.Contains(out, "--accept data") {
		t.Error(out)
	}
	removing := m.command("ann", "fleet", "delete", file, "--yes", "--accept", "data", "--json")
	said.Reset()
	removing.Stdout, removing.Stderr = &said, &said
	if err := removing.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = removing.Process.Kill() })
	m.until("the careful one asks", func() bool { return m.show("huts").Counts["asks"] == 1 })
	m.run(0, "ann", "fleet", "approve", file, "hut-001/alder-1")
	for s := "removing"; s == "removing" || s == "between"; s = m.show("huts").State {
		_ = m.command("ann", "fleet", "resume", file).Run() // it may be over just now
	}
	if err := removing.Wait(); err != nil || !strings.Contains(said.String(), `"state":"removed"`) {
		t.Errorf("%v %s", err, said.String())
	}
	if n, _ := m.everywhere(); n != 0 {
		t.Errorf("%d resources are left", n)
	}
}

// TestFleetIsStopped kills the process that carries a rollout on, goes on, and stops another one.
func TestFleetIsStopped(t *testing.T) {
	m := newTeam(t, "", 30, 4)
	file := m.fleetFiles(strings.Replace(huts, "at_once: 8", "at_once: 2", 1))
	deploying := m.command("ann", "fleet", "deploy", file, "--yes")
	if err := deploying.Start(); err != nil {
		t.Fatal(err)
	}
	m.until("it has begun", func() bool { return m.command("ann", "fleet", "show", file).Run() == nil })
	m.until("the second wave has begun", func() bool { s := m.show("huts"); return s.Counts["ready"] >= 2 && s.Counts["working"] > 0 })
	if out := m.run(1, "ann", "fleet", "deploy", file, "--yes"); !strings.Contains(out, "has not come to its end") && !strings.Contains(out, "locked") {
		t.Error(out)
	}
	_ = deploying.Process.Kill()
	_ = deploying.Wait()
	if out := m.run(0, "ann", "fleet", "show", file); !strings.Contains(out, "nobody carries it on") {
		t.Error(out)
	}
	goOn := m.command("ann", "fleet", "resume", file)
	if err := goOn.Start(); err != nil {
		t.Fatal(err)
	}
	m.until("it has gone on", func() bool { return m.show("huts").Counts["ready"] >= 4 })
	m.run(0, "ann", "fleet", "cancel", file)
	_ = goOn.Wait()
	s := m.show("huts")
	if s.State != "cancelled" || s.Counts["working"]+s.Counts["begun"] > 0 || s.Counts["waiting"] == 0 {
		t.Errorf("%+v", s)
	}
	if n, twice := m.everywhere(); n != 6*s.Counts["ready"] || len(twice) > 0 {
		t.Errorf("%d resources are there in %d places, twice: %v", n, s.Counts["ready"], twice)
	}
}

// TestFleetWhereNobodyWorks has a worker for one account of three: its places are done though others wait before them and few may be
// under way; the rollout can be stopped all the same, and goes on when somebody comes who is let in everywhere.
func TestFleetWhereNobodyWorks(t *testing.T) {
	m := newTeam(t, postgrestest.Store(t), 500, 3)
	m.fleetFiles(huts)
	file := m.file("few.fleet.yaml", "fleet: few\nstack: row.stack.yaml\nplaces: [ { target: hut-*/*, inputs: { site: { filled_by: region } } } ]\nwaves: [ rest ]\nat_once: 2\n")
	all := m.huts
	m.huts = map[string]string{"hut-003": all["hut-003"]}
	m.worker("ann")
	m.huts = all
	m.run(0, "ann", "fleet", "deploy", file, "--yes", "--queue")
	m.until("the places of one account are done", func() bool { return m.show("few").Counts["ready"] == 3 })
	if s := m.show("few"); s.State != "deploying" || s.Counts["waiting"]+s.Counts["begun"] != 6 {
		t.Errorf("%+v", s)
	}
	m.run(0, "ann", "fleet", "cancel", file)
	m.until("it has stopped", func() bool { return m.show("few").State == "cancelled" })
	if s := m.show("few"); s.Counts["ready"] != 3 || s.Counts["waiting"] != 6 {
		t.Errorf("%+v", s)
	}
	m.run(0, "ann", append([]string{"store", "members", "add", "ben"}, strings.Fields(m.run(0, "ben", "identity"))...)...)
	m.worker("ben")
	m.run(0, "ann", "fleet", "retry", file, "--queue")
	m.until("the others are done", func() bool { return m.show("few").State == "ready" })
	if n, twice := m.everywhere(); n != 54 || len(twice) > 0 {
		t.Errorf("%d resources are there, twice: %v", n, twice)
	}
}

// TestFleetWithWorkers kills a worker in each wave: all thirty places are ready in the end, and nothing is there twice.
func TestFleetWithWorkers(t *testing.T) {
	m := newTeam(t, postgrestest.Store(t), 60, 10)
	file := m.fleetFiles(huts)
	m.run(0, "ann", append([]string{"store", "members", "add", "ben"}, strings.Fields(m.run(0, "ben", "identity"))...)...)
	workers := []*worker{m.worker("ann", "--at-once", "3"), m.worker("ben", "--at-once", "3")}
	out := m.run(0, "ann", "fleet", "deploy", file, "--yes", "--queue")
	if !strings.Contains(out, "waits in the queue runs") {
		t.Error(out)
	}
	killed := 0
	for wave := range 3 {
		busy := func() bool {
			s := m.show("huts")
			for _, p := range s.Waves[wave].Places {
				if p.State == "working" {
					return true
				}
			}
			return s.State != "deploying"
		}
		m.until(fmt.Sprint("wave ", wave+1, " is under way"), busy)
		w := workers[wave%2]
		if err := w.Process.Kill(); err == nil {
			killed++
		}
		_ = w.Wait()
		workers[wave%2] = m.worker([]string{"ann", "ben"}[wave%2], "--at-once", "3")
	}
	for range 60 {
		if s := m.show("huts"); s.State != "deploying" {
			break
		}
		time.Sleep(time.Second)
	}
	s := m.show("huts")
	if s.State != "ready" || s.Counts["ready"] != 30 || killed != 3 {
		t.Errorf("%d killed: %+v\n%s\n%s", killed, s, workers[0].said(t), workers[1].said(t))
	}
	if n, twice := m.everywhere(); n != 180 || len(twice) > 0 {
		t.Errorf("%d resources are there, twice: %v", n, twice)
	}
	for _, w := range workers {
		if said := w.said(t); strings.Contains(said, "hoarfrost") {
			t.Error("a worker says a secret")
		}
	}
}
