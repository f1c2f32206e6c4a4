package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// What somebody changed by hand is said, with an exit code of its own; it is put back, or
// written into the files, where somebody agrees to it.
func TestDriftOnTheCommandLine(t *testing.T) {
	s := newShell(t)
	out, _ := s.run(0, "drift", "ridge-base")
	s.wants(out, "ridge-base in workshop/alder-1 is as it is recorded")
	out, _ = s.run(3, "drift", "bulletin-test")
	s.wants(out, "≠ reader_rules", "allow[1]", "recorded not set", "peer: 10.8.0.0/16", "changed 20", " by hand, by ", "--put-back")
	out, _ = s.run(3, "drift", "bulletin-test", "--json")
	d := decode[struct {
		Stack, Target string
		Differs       []struct {
			Name, Type, ID, Path, Since string
			By                          map[string]string
			Recorded, Wanted            any
			Live                        map[string]any
		}
		Gone, Unrecorded []any
	}](t, out)
	if c := d.Differs; d.Stack != "bulletin-test" || len(c) != 1 || c[0].Name != "reader_rules" || c[0].Path != "allow[1]" ||
		c[0].Recorded != nil || c[0].Live["ports"] != "22" || c[0].Since == "" || c[0].By["kind"] != "person" || c[0].By["name"] == "" || d.Gone == nil || d.Unrecorded == nil {
		t.Errorf("%s", out)
	}

	before, err := os.ReadFile(s.file("bulletin.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	patch, _ := s.run(0, "drift", "bulletin-test", "--patch")
	s.wants(patch, "@@", `+          - { ports: "22", peer: 10.8.0.0/16 }`)
	s.run(2, "drift", "bulletin-test", "--write") // nobody is there to be asked
	s.run(2, "drift", "bulletin-test", "--write", "--patch")
	if now, _ := os.ReadFile(s.file("bulletin.yaml")); string(now) != string(before) {
		t.Fatal("it was written without being agreed to")
	}
	// any program that knows patches takes it
	copied := filepath.Join(t.TempDir(), "bulletin.yaml")
	if err := os.WriteFile(copied, before, 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("patch", copied)
	cmd.Stdin = strings.NewReader(patch)
	if said, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, said)
	}
	_, errs := s.run(0, "drift", "bulletin-test", "--write", "--yes")
	s.wants(errs, "written: "+s.file("bulletin.yaml"))
	now, _ := os.ReadFile(s.file("bulletin.yaml"))
	if patched, _ := os.ReadFile(copied); string(now) != string(patched) || string(now) == string(before) {
		t.Errorf("what is written is not the patch")
	}
	_, errs = s.run(0, "drift", "bulletin-test", "--write", "--yes")
	s.wants(errs, "nothing to write")
	out, _ = s.run(0, "drift", "bulletin-test") // the files say it by now
	s.wants(out, "is as it is recorded, or as the files say by now")

	s.write("bulletin.yaml", string(before))
	s.run(3, "drift", "bulletin-test")
	_, errs = s.run(2, "drift", "bulletin-test", "--put-back")
	s.wants(errs, "--yes")
	s.run(0, "drift", "bulletin-test", "--put-back", "--yes")
	s.run(0, "drift", "bulletin-test")
	_, errs = s.run(1, "drift", "no-such")
	s.wants(errs, "no-such")
}

// What is there is listed with whose it is, for people and programs.
func TestCloudOnTheCommandLine(t *testing.T) {
	s := newShell(t)
	out, errs := s.run(0, "cloud")
	s.wants(out, "bulletin-test  workshop/alder-1", "≠ reader_rules", "allow[1] differs", "nobody's  workshop/alder-1", "old-snow-photos")
	s.wants(errs, "55 there, 1 not as it should be")
	type there struct {
		ID, Type, State string
		Owner           *struct{ Stack, Node string }
		Differs         []struct{ Path string }
		UsedBy          []string `json:"used_by"`
	}
	list := func(args ...string) []there {
		t.Helper()
		out, _ := s.run(0, append([]string{"cloud", "--json"}, args...)...)
		return decode[[]there](t, out)
	}
	for _, c := range []struct {
		args []string
		want int
	}{{nil, 55}, {[]string{"--unowned"}, 5}, {[]string{"--stack", "bulletin-test"}, 23}, {[]string{"--stack", "bulletin-test@summit/birch-1"}, 0},
		{[]string{"--target", "summit/birch-1"}, 23}, {[]string{"--type", "Server", "--type", "Bucket"}, 8}, {[]string{"--unowned", "--type", "Server"}, 1}} {
		got := list(c.args...)
		if len(got) != c.want {
			t.Errorf("%v: %d, want %d", c.args, len(got), c.want)
		}
		for _, r := range got {
			if r.ID == "" || r.State != "ready" || r.Differs == nil || r.UsedBy == nil || (r.Owner == nil) != (len(c.args) > 0 && c.args[0] == "--unowned") && c.want == 5 {
				t.Errorf("%+v", r)
			}
		}
	}
	_, errs = s.run(2, "cloud", "--type", "Databse")
	s.wants(errs, "did you mean 'Database'?")
	_, errs = s.run(2, "cloud", "--target", "workshop")
	s.wants(errs, "no target such as")
	s.run(1, "cloud", "--target", "no/where")
}
