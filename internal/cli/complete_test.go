package cli

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
)

// shellHome writes stacks that completion can speak of, one of them twice, and is where the data and the files are.
func shellHome(t *testing.T, bin string) (home, dir string) {
	t.Helper()
	home, dir = filepath.Join(t.TempDir(), "home"), t.TempDir()
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("row.yaml", rowOf)
	for name, target := range map[string]string{"alder": "workshop/alder-1", "birch": "workshop/birch-1"} {
		write("signs-"+name+".stack.yaml", "template: row.yaml\nstack: signs\ntarget: "+target+"\n")
	}
	write("hut row.stack.yaml", "template: row.yaml\nstack: hut-row\ntarget: summit/cedar-2\n")
	write("signs.fleet.yaml", "fleet: signs\nstack: row.stack.yaml\nplaces: [ { target: workshop/* } ]\n")
	for _, file := range []string{"signs-alder.stack.yaml", "signs-birch.stack.yaml", "hut row.stack.yaml"} {
		cmd := exec.Command(bin, "deploy", file, "--yes", "--home", home)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "BRICKROW_YARD_SPEED=2000")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	return home, dir
}

// TestCompletion asks what is offered at each kind of place; TestShells has shells do it.
func TestCompletion(t *testing.T) {
	bin := binary(t)
	home, dir := shellHome(t, bin)
	ask := func(args ...string) string {
		t.Helper()
		cmd := exec.Command(bin, append([]string{"__complete", "--home", home}, args...)...)
		cmd.Dir = dir
		out, err := cmd.Output()
		if err != nil {
			t.Errorf("%v: %v", args, err)
		}
		text, _, _ := strings.Cut("\n"+string(out), "\n:")
		var words []string
		for line := range strings.Lines(text) {
			word, _, _ := strings.Cut(strings.TrimSpace(line), "\t")
			words = append(words, word)
		}
		return strings.Join(words, " ")
	}
	for _, c := range []struct {
		typed string
		want  string
	}{
		{"show| ", "hut-row signs@workshop/alder-1 signs@workshop/birch-1"},
		{"show|hut", "hut-row"},
		{"show|hut-row| ", ""},
		{"release|hut-row|p", "post"},
		{"act|hut-row| ", "box note post gate net sub suspend resume"},
		{"act|hut-row|post|res", "restart resume"},
		{"undo|hut-row|--to| ", "1"},
		{"events|hut-row|--run| ", "1"},
		{"events|hut-row|--state|un", "undoing undone"},
		{"deploy|si", "signs-alder.stack.yaml signs-birch.stack.yaml"},
		{"deploy|hut row.stack.yaml|-i| ", "size= word="},
		{"deploy|hut row.stack.yaml|--only|n", "net note"},
		{"whatif|hut row.stack.yaml|--target|workshop/", "workshop/alder-1 workshop/birch-1 workshop/cedar-2"},
		{"check|row", "row.yaml"},
		{"fleet|show|s", "signs.fleet.yaml"},
		{"yard|permit|s", "summit"},
		{"new|database", "database-with-client"},
		{"schema|t", "template"},
		{"targets|--careful|su", "summit/alder-1 summit/birch-1 summit/cedar-2"},
		{"type|test|row.yaml|Buck", "Bucket"},
		{"deploy|x|--on-failure| ", "undo hold"},
	} {
		args := strings.Split(c.typed, "|")
		args[len(args)-1] = strings.TrimSpace(args[len(args)-1])
		if got := ask(args...); inOrder(got) != inOrder(c.want) {
			t.Errorf("%s: %q, want %q", c.typed, got, c.want)
		}
	}
	// Who asks for a store that does not answer is not kept waiting.
	begun := time.Now()
	if got := ask("show", "", "--store", "postgres://keeper@127.0.0.1:1/none"); got != "" || time.Since(begun) > 3*howLong {
		t.Errorf("%q after %s", got, time.Since(begun))
	}
	// To answer a shell nothing is made.
	home = filepath.Join(t.TempDir(), "none")
	if got := ask("show", ""); got != "" {
		t.Error(got)
	}
	if _, err := os.Stat(home); err == nil {
		t.Error("a folder of data was made")
	}
}

func inOrder(words string) string {
	list := strings.Fields(words)
	slices.Sort(list)
	return strings.Join(list, " ")
}

// TestEachPlaceIsCompleted holds that each word in the usage of a command means something to a shell, or is on the
// list of those that only the user knows.
func TestEachPlaceIsCompleted(t *testing.T) {
	free := strings.Fields("ID ID|STACK/RESOURCE STACK/RESOURCE N TEXT NAME IDENTITY PROPERTY=VALUE CARRIER ROLLOUT RUN TOKEN")
	var look func(c *cobra.Command)
	look = func(c *cobra.Command) {
		for _, p := range placesIn(c.Use) {
			for _, n := range p.names {
				if _, known := offers[n]; !known && !p.literal && !strings.Contains(" "+strings.Join(free, " ")+" ", " "+n+" ") && !c.Hidden {
					t.Errorf("%s: nothing is offered for %s", c.CommandPath(), n)
				}
			}
		}
		for _, below := range c.Commands() {
			look(below)
		}
	}
	look((&Program{}).root())
}

// TestShells types into shells, and presses the tab key.
func TestShells(t *testing.T) {
	bin := binary(t)
	home, dir := shellHome(t, bin)
	rc := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(rc, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	common := fmt.Sprintf("PATH=%s:$PATH\nexport BRICKROW_HOME=%s\ncd %s\nPS1='$ '\n", filepath.Dir(bin), home, dir)
	bash := write("bashrc", common+"bind 'set bell-style none'\n. /usr/share/bash-completion/bash_completion\n. <(brickrow completion bash)\n")
	write(".zshrc", common+"autoload -U compinit; compinit -u -d "+rc+"/dump\nsource <(brickrow completion zsh)\n")
	for name, command := range map[string][]string{"bash": {"bash", "--rcfile", bash, "-i"}, "zsh": {"env", "ZDOTDIR=" + rc, "zsh", "-i"}} {
		t.Run(name, func(t *testing.T) {
			socket := filepath.Join(t.TempDir(), "tmux")
			tmux := func(args ...string) string {
				out, err := exec.Command("tmux", append([]string{"-u", "-S", socket, "-f", "/dev/null"}, args...)...).CombinedOutput()
				if err != nil {
					t.Fatalf("tmux %v: %v\n%s", args, err, out)
				}
				return string(out)
			}
			tmux(append([]string{"new-session", "-d", "-x", "110", "-y", "30"}, command...)...)
			t.Cleanup(func() { _ = exec.Command("tmux", "-S", socket, "kill-server").Run() })
			shows := func(what string) {
				t.Helper()
				for range 200 {
					if strings.Contains(tmux("capture-pane", "-p"), what) {
						return
					}
					time.Sleep(50 * time.Millisecond)
				}
				t.Fatalf("%q is not there:\n%s", what, tmux("capture-pane", "-p"))
			}
			shows("$")
			time.Sleep(300 * time.Millisecond) // until the shell has read what is set
			for _, c := range [][2]string{{"show hu", "show hut-row"}, {"show signs@workshop/al", "show signs@workshop/alder-1"},
				{"release hut-row ne", "release hut-row net"}, {"undo hut-row --to ", "--to 1"}, {"deploy signs-al", "deploy signs-alder.stack.yaml"},
				{"deploy signs-alder.stack.yaml -i si", "-i size="}, {"targets --careful=summit/ce", "--careful=summit/cedar-2"}} {
				tmux("send-keys", "-l", "brickrow "+c[0])
				tmux("send-keys", "Tab")
				shows("brickrow " + strings.TrimSuffix(c[0], c[0][strings.LastIndex(c[0], " ")+1:]))
				shows(c[1])
				tmux("send-keys", "C-u")
				tmux("send-keys", "C-l")
			}
		})
	}
	out, err := exec.Command("fish", "--no-config", "-c", fmt.Sprintf(`set -x PATH %s $PATH; set -x BRICKROW_HOME %s; cd %s; brickrow completion fish | source
		complete -C "brickrow show signs@"; complete -C "brickrow deploy signs-alder.stack.yaml -i si"`, filepath.Dir(bin), home, dir)).CombinedOutput()
	if err != nil || !strings.Contains(string(out), "signs@workshop/alder-1\n") || !strings.Contains(string(out), "size=\tstring\n") {
		t.Errorf("fish: %v\n%s", err, out)
	}
}

// TestReference holds the reference of the commands against the program; 'make reference' makes it.
func TestReference(t *testing.T) {
	var made bytes.Buffer
	if err := reference((&Program{}).root(), &made); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile("../../docs/commands.md")
	if err != nil || string(text) != made.String() {
		t.Errorf("docs/commands.md is not what the program says (%v): run make reference", err)
	}
	// And the pages of the manual: one for each command that is shown.
	dir := t.TempDir()
	p := &Program{Out: &made, Err: &made, In: strings.NewReader("")}
	if code := p.Run(t.Context(), []string{"man", dir}); code != ExitDone {
		t.Fatal(made.String())
	}
	pages, err := os.ReadDir(dir)
	if err != nil || len(pages) != strings.Count(string(text), "\n## ") {
		t.Errorf("%d pages, %v", len(pages), err)
	}
	for _, e := range pages {
		page, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil || !strings.Contains(string(page), ".TH") || strings.Contains(string(page), "yyyy") {
			t.Errorf("%s: %v", e.Name(), err)
		}
	}
}
