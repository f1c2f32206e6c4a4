package cli

import (
	"encoding/json"
	"flag"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"brickrow/internal/helper"
	"brickrow/internal/postgres/postgrestest"
	"brickrow/internal/profile"
	"brickrow/internal/yard"
)

func TestMain(m *testing.M) {
	helper.Serve()
	if flag.Parse(); testing.Short() && flag.Lookup("test.run").Value.String() == "" {
		_ = flag.Set("test.run", "^(TestTheStory|TestResultsAndEvents)$") // in which several things go on at once
	}
	postgrestest.Main(m)
}

var built = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "brickrow-built-")
	if err != nil {
		return "", err
	}
	bin := filepath.Join(dir, "brickrow")
	out, err := exec.Command("go", "build", "-o", bin, "brickrow/cmd/brickrow").CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return bin, err
})

// binary is where the program lies, which was built once.
func binary(t testing.TB) string {
	t.Helper()
	bin, err := built()
	if err != nil {
		t.Fatal(err)
	}
	return bin
}

// team is several people, or machines, with a store and a cloud that they share: each has a folder of his own.
type team struct {
	t     testing.TB
	bin   string
	store string // "" is a file, of whoever is the only one
	cloud string
	door  *yard.Door
	token string            // of the account workshop
	huts  map[string]string // those of the others
	dir   string            // of the files
}

func newTeam(t testing.TB, store string, speed float64, huts int) *team {
	t.Helper()
	bin := binary(t)
	home := filepath.Join(t.TempDir(), "cloud")
	if err := os.Mkdir(home, 0o700); err != nil {
		t.Fatal(err)
	}
	y, err := yard.Open(home, yard.Options{Library: profile.Read().Library, Speed: speed, More: huts})
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(y.Handler())
	t.Cleanup(func() { srv.Close(); y.Close() })
	tokens := y.Tokens()
	workshop := tokens["workshop"]
	door := &yard.Door{Base: srv.URL, HTTP: srv.Client(), Token: tokens["operator"]}
	delete(tokens, "operator")
	delete(tokens, "workshop")
	return &team{t: t, bin: bin, store: store, cloud: srv.URL, token: workshop, dir: t.TempDir(), huts: tokens,
		door: door}
}

// command is a call of the program by somebody, whose folder has his name.
func (m *team) command(who string, args ...string) *exec.Cmd {
	cmd := exec.Command(m.bin, args...)
	cmd.Dir = m.dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + m.dir, "BRICKROW_HOME=" + filepath.Join(m.dir, who),
		"BRICKROW_CLOUD=" + m.cloud, "TMPDIR=" + os.Getenv("TMPDIR")}
	if m.store != "" {
		cmd.Env = append(cmd.Env, "BRICKROW_STORE="+m.store)
	}
	if m.token != "" {
		cmd.Env = append(cmd.Env, "BRICKROW_TOKEN_WORKSHOP="+m.token)
		for account, token := range m.huts {
			cmd.Env = append(cmd.Env, "BRICKROW_TOKEN_"+strings.ToUpper(strings.ReplaceAll(account, "-", "_"))+"="+token)
		}
	}
	return cmd
}

// run calls the program and wants an exit code.
func (m *team) run(want int, who string, args ...string) string {
	m.t.Helper()
	cmd := m.command(who, args...)
	out, err := cmd.CombinedOutput()
	if code := cmd.ProcessState.ExitCode(); code != want {
		m.t.Fatalf("%s: brickrow %s: exit %d, want %d (%v)\n%s", who, strings.Join(args, " "), code, want, err, out)
	}
	return string(out)
}

// file writes a file of the team.
func (m *team) file(name, text string) string {
	m.t.Helper()
	if err := os.WriteFile(filepath.Join(m.dir, name), []byte(text), 0o600); err != nil {
		m.t.Fatal(err)
	}
	return name
}

// worker is a worker of the team, in a process of its own.
type worker struct {
	*exec.Cmd
	log string
}

func (m *team) worker(who string, args ...string) *worker {
	m.t.Helper()
	w := &worker{m.command(who, append([]string{"worker", "--name", who}, args...)...), filepath.Join(m.dir, who+".log")}
	log, err := os.OpenFile(w.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		m.t.Fatal(err)
	}
	defer log.Close()
	w.Stdout, w.Stderr = log, log
	if err := w.Start(); err != nil {
		m.t.Fatal(err)
	}
	m.t.Cleanup(func() { _ = w.Process.Kill(); _ = w.Wait() })
	return w
}

func (w *worker) said(t testing.TB) string {
	text, err := os.ReadFile(w.log)
	if err != nil {
		t.Error(err)
	}
	return string(text)
}

// until waits until something holds.
func (m *team) until(what string, holds func() bool) {
	m.t.Helper()
	for range 600 {
		if holds() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	m.t.Fatalf("%s: not within 30 s", what)
}

// there counts the resources of a stack in the cloud by their nodes.
func (m *team) there(stack string) map[string]int {
	m.t.Helper()
	var list []struct {
		Owner struct{ Stack, Node string }
	}
	if err := json.Unmarshal([]byte(m.run(0, "ann", "cloud", "--target", "workshop/alder-1", "--stack", stack, "--json")), &list); err != nil {
		m.t.Fatal(err)
	}
	out := map[string]int{}
	for _, r := range list {
		out[r.Owner.Node]++
	}
	return out
}

const rowOf = `tosca_definitions_version: tosca_2_0
imports: [ { profile: brickrow.cloud:1 } ]
service_template:
  inputs: { size: { type: string, default: small }, word: { type: Secret, default: very-secret-hoarfrost } }
  node_templates:
    net: { type: Network, properties: { cidr: 10.0.0.0/16 } }
    sub: { type: Subnet, properties: { cidr: 10.0.1.0/24 }, requirements: [ { network: net } ] }
    gate: { type: Rules, properties: { allow: [ { ports: "443", peer: 10.0.0.0/8 } ] }, requirements: [ { network: net } ] }
    post: { type: Server, properties: { size: { $get_input: size }, image: moss-3 }, requirements: [ { subnet: sub }, { rules: gate } ] }
    box: { type: Database, properties: { engine: relational, version: "15", size: small, storage: 20 GiB, admin: keeper, password: { $get_input: word } }, requirements: [ { subnet: sub } ] }
    note: { type: Topic, properties: { label: { $get_input: size } } }
`

// TestWorkers kills the worker that carries a run out, with a fault in it too: another one goes on, nothing is made
// twice and nothing lost. It is held to the same beside a store in a file.
func TestWorkers(t *testing.T) {
	t.Run("shared", func(t *testing.T) { workers(t, postgrestest.Store(t)) })
	t.Run("file", func(t *testing.T) { workers(t, "") })
}

func workers(t *testing.T, store string) {
	m := newTeam(t, store, 20, 0)
	m.file("row.yaml", rowOf)
	file := m.file("row.stack.yaml", "template: row.yaml\nstack: row\ntarget: workshop/alder-1\n")
	other := "ann" // beside a file there is one folder
	if store != "" {
		other = "ben"
		m.run(0, "ann", append([]string{"store", "members", "add", "ben"}, strings.Fields(m.run(0, "ben", "identity"))...)...)
	}
	first := m.worker("ann", "--at-once", "2")
	out := m.run(0, "ann", "deploy", file, "--yes", "--queue", "--priority", "1")
	if !strings.Contains(out, "waits in the queue runs") {
		t.Error(out)
	}
	m.until("the run has begun something", func() bool { return strings.Contains(m.run(0, "ann", "events", "row"), "post") })
	if out := m.run(1, other, "deploy", file, "--yes", "-i", "size=large"); !strings.Contains(out, "locked by") && !strings.Contains(out, "moved on") {
		t.Error(out)
	}
	_ = first.Process.Kill()
	_ = first.Wait()
	second := m.worker(other)
	if out := m.run(0, other, "watch", "row"); !strings.Contains(out, "done") {
		t.Error(out)
	}
	m.until("it says so", func() bool { return strings.Contains(second.said(t), "the deployment is done") })
	if said := second.said(t); store != "" && !strings.Contains(said, "goes on where") {
		t.Error(said)
	}
	if got := m.there("row"); len(got) != 6 || got["post"] != 1 || got["box"] != 1 {
		t.Errorf("there is %v", got)
	}

	// With a fault in it, killed while it is undone.
	if _, err := m.door.AddFault(t.Context(), yard.Fault{Name: "post", At: "last", Times: 1, Reason: "no host has room"}); err != nil {
		t.Fatal(err)
	}
	m.run(0, "ann", "deploy", file, "--yes", "--queue", "-i", "size=large", "-i", "word=another-hoarfrost-88")
	m.until("it has failed", func() bool { return strings.Contains(m.run(0, "ann", "events", "row"), "no host has room") })
	_ = second.Process.Kill()
	_ = second.Wait()
	third := m.worker("ann")
	if out := m.run(ExitUndone, other, "watch", "row"); !strings.Contains(out, "undone") {
		t.Error(out)
	}
	if out := m.run(0, "ann", "whatif", file, "--expect-none"); !strings.Contains(out, "no changes") {
		t.Error(out)
	}

	// Deleted through the queue; then the worker takes nothing more, and what waits can be taken back.
	if out := m.run(0, "ann", "delete", "row", "--yes", "--accept", "data", "--queue", "--watch"); !strings.Contains(out, "nothing of row is left") {
		t.Error(out)
	}
	m.run(0, "ann", "worker", "drain", "ann")
	ended := make(chan error, 1)
	go func() { ended <- third.Wait() }()
	select {
	case err := <-ended:
		if err != nil {
			t.Errorf("drained: %v\n%s", err, third.said(t))
		}
	case <-time.After(20 * time.Second):
		t.Error("it was drained, and goes on")
	}
	m.run(0, "ann", "deploy", file, "--yes", "--queue")
	if out := m.run(1, "ann", "deploy", file, "--yes"); !strings.Contains(out, "waits for a worker") {
		t.Error(out)
	}
	if out := m.run(0, "ann", "stacks", "--removed"); !strings.Contains(out, "waits for a worker") {
		t.Error(out)
	}
	if out := m.run(0, "ann", "worker", "list"); !strings.Contains(out, "1 waiting, 0 under way") {
		t.Error(out)
	}
	if out := m.run(0, "ann", "cancel", "row"); !strings.Contains(out, "withdrawn") {
		t.Error(out)
	}
	if out := m.run(ExitUndone, "ann", "watch", "row"); !strings.Contains(out, "withdrawn while it waited") {
		t.Error(out)
	}
	for _, said := range []string{first.said(t), second.said(t), third.said(t)} {
		if strings.Contains(said, "hoarfrost") || strings.Contains(said, m.token) {
			t.Error("a worker says a secret")
		}
	}
	found, _ := exec.Command("grep", "-rl", "hoarfrost", filepath.Join(m.dir, "ann"), filepath.Join(m.dir, "ben")).Output()
	if len(found) > 0 {
		t.Errorf("a secret is in %s", found)
	}
}

// TestWorkersAndTargets lets a target take one run at a time, and gives nothing to a worker that is not let in.
func TestWorkersAndTargets(t *testing.T) {
	m := newTeam(t, postgrestest.Store(t), 100, 0)
	m.file("row.yaml", rowOf)
	var files []string
	for i := range 3 {
		files = append(files, m.file(fmt.Sprintf("row%d.stack.yaml", i), fmt.Sprintf("template: row.yaml\nstack: row-%d\ntarget: workshop/alder-1\n", i)))
	}
	m.run(0, "ann", "worker", "limit", "workshop/alder-1", "1")
	if out := m.run(1, "ann", "worker", "limit", "workshop", "1"); !strings.Contains(out, "account/region") {
		t.Error(out)
	}
	token := m.token
	m.token = ""
	m.run(0, "ann", "stacks") // for which nothing is needed
	if out := m.run(1, "ann", "worker"); !strings.Contains(out, "there are no credentials for any account here") {
		t.Error(out)
	}
	if out := m.run(1, "ann", "deploy", files[0], "--yes"); !strings.Contains(out, "BRICKROW_TOKEN_WORKSHOP") {
		t.Error(out)
	}
	if err := os.WriteFile(filepath.Join(m.dir, "ann", yard.CredentialsFile), []byte(`{"summit": "x"}`), 0o600); err != nil {
		t.Fatal(err)
	}
	stranger := m.worker("ann")
	m.token = token
	for i, f := range files {
		m.run(0, "ann", "deploy", f, "--yes", "--queue", "--priority", fmt.Sprint(4-i))
	}
	m.until("the stranger says what it is for", func() bool { return strings.Contains(stranger.said(t), "in the accounts summit") })
	m.run(0, "ann", append([]string{"store", "members", "add", "ben"}, strings.Fields(m.run(0, "ben", "identity"))...)...)
	able := m.worker("ben", "--at-once", "3")
	for _, f := range []string{"row-0", "row-1", "row-2"} {
		m.run(0, "ann", "watch", f)
	}
	if err := stranger.Process.Signal(syscall.SIGTERM); err != nil {
		t.Error(err)
	}
	if err := stranger.Wait(); err != nil {
		t.Errorf("ended by a signal: %v", err)
	}
	if said := able.said(t); strings.Count(said, "begins") != 3 {
		t.Error(said)
	}
	if said := stranger.said(t); strings.Contains(said, "row") {
		t.Error(said)
	}
	under := 0 // never two at a time
	for line := range strings.Lines(able.said(t)) {
		switch {
		case strings.Contains(line, "begins"):
			under++
		case strings.Contains(line, "is done"):
			under--
		}
		if under > 1 {
			t.Errorf("two runs at a time:\n%s", able.said(t))
			break
		}
	}
	for _, args := range [][]string{{"deploy", files[0], "--queue=No", "--yes"}, {"deploy", files[0], "--queue", "--priority", "7", "--yes"},
		{"deploy", files[0], "--watch", "--yes"}, {"worker", "--at-once", "0"}} {
		if out := m.run(ExitUsage, "ann", args...); !strings.Contains(out, "brickrow: ") {
			t.Error(out)
		}
	}
}

// TestBackup brings a store back from a backup that was made while a run was under way, as operations.md says: the run is
// taken up, what was done since is seen as not recorded, and secrets can be read as before.
func TestBackup(t *testing.T) {
	server := postgrestest.Start(t)
	m := newTeam(t, server.Database(t, "stores"), 20, 0)
	m.file("row.yaml", rowOf)
	file := m.file("row.stack.yaml", "template: row.yaml\nstack: row\ntarget: workshop/alder-1\n")
	m.file("hut.yaml", strings.ReplaceAll(rowOf, "10.0.", "10.9."))
	hut := m.file("hut.stack.yaml", "template: hut.yaml\nstack: hut\ntarget: workshop/birch-1\n")
	m.run(0, "ann", "deploy", file, "--yes")
	under := m.command("ann", "deploy", hut, "--yes")
	if err := under.Start(); err != nil {
		t.Fatal(err)
	}
	m.until("hut has begun", func() bool { return strings.Contains(m.run(0, "ann", "stacks"), "hut ") })
	m.until("something is there", func() bool { return strings.Contains(m.run(0, "ann", "events", "hut"), "ready") })
	folder, err := os.MkdirTemp("/tmp", "brickrow-backup") // the server's programs are another user's
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(folder)
	if err := os.Chmod(folder, 0o777); err != nil {
		t.Fatal(err)
	}
	backup := filepath.Join(folder, "brickrow.dump")
	server.Tool(t, "pg_dump", "-Fc", "-n", "brickrow", "-f", backup, "stores")
	if err := under.Wait(); err != nil {
		t.Fatal(err)
	}
	m.run(0, "ann", "deploy", file, "--yes", "-i", "size=medium")

	server.Tool(t, "pg_restore", "--clean", "--if-exists", "-n", "brickrow", "-d", "stores", backup)
	if out := m.run(0, "ann", "stacks"); !strings.Contains(out, "rev 1") {
		t.Error(out)
	}
	m.run(0, "ann", "resume", "hut")
	m.run(0, "ann", "drift", "hut")
	if out := m.run(ExitChanges, "ann", "drift", "row"); !strings.Contains(out, "medium") {
		t.Error(out)
	}
	m.run(0, "ann", "undo", "row", "--to", "1", "--yes") // it needs the secrets
	m.run(0, "ann", "drift", "row")
	if n, twice := m.everywhere(); n != 12 || len(twice) > 0 {
		t.Errorf("%d resources, twice: %v", n, twice)
	}
}

// TestWorkerWithoutStore interrupts a worker twice whose store has gone in the middle of a run: it ends.
func TestWorkerWithoutStore(t *testing.T) {
	server := postgrestest.Start(t)
	m := newTeam(t, server.Database(t, "stores"), 2, 0)
	m.file("row.yaml", rowOf)
	file := m.file("row.stack.yaml", "template: row.yaml\nstack: row\ntarget: workshop/alder-1\n")
	w := m.worker("ann")
	m.run(0, "ann", "deploy", file, "--yes", "--queue")
	m.until("the run is under way", func() bool { return strings.Contains(m.run(0, "ann", "events", "row"), "working") })
	server.Stop()
	for range 2 {
		time.Sleep(500 * time.Millisecond)
		if err := w.Process.Signal(syscall.SIGTERM); err != nil {
			t.Fatal(err)
		}
	}
	ended := make(chan error, 1)
	go func() { ended <- w.Wait() }()
	select {
	case <-ended:
	case <-time.After(15 * time.Second):
		t.Errorf("it has not ended:\n%s", w.said(t))
	}
}
