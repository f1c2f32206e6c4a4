package cli

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A real editor, without a screen, is a client of the language server.
func TestEditorSession(t *testing.T) {
	if _, err := exec.LookPath("nvim"); err != nil {
		t.Fatal("this test needs neovim; make test installs it")
	}
	dir := t.TempDir()
	program := binary(t)
	work := filepath.Join(dir, "work")
	if err := os.CopyFS(work, os.DirFS("../../examples/kestrel-ridge")); err != nil {
		t.Fatal(err)
	}
	script, err := filepath.Abs("testdata/session.lua")
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("nvim", "--headless", "-u", "NONE", "-i", "NONE", "-n", "-c", "luafile "+script)
	cmd.Dir = work
	result := filepath.Join(dir, "out.json")
	cmd.Env = append(os.Environ(), "BRICKROW="+program, "OUT="+result, "HOME="+dir, "BRICKROW_HOME="+filepath.Join(dir, "home"))
	timer := time.AfterFunc(2*time.Minute, func() { _ = cmd.Process.Kill() })
	defer timer.Stop()
	said, err := cmd.CombinedOutput()
	text, rerr := os.ReadFile(result)
	if rerr != nil {
		t.Fatalf("%v %v\n%s", err, rerr, said)
	}
	var got map[string]any
	if err := json.Unmarshal(text, &got); err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	for name, want := range map[string]any{"mistake": true, "mended": "", "completion": "visible_after", "undone": "",
		"left": 0.0, "after rename": "", "formatted": "tosca_definitions_version: tosca_2_0"} {
		if got[name] != want {
			t.Errorf("%s: %v, want %v", name, got[name], want)
		}
	}
	for name, want := range map[string]string{"hover": "One server", "renamed": "_now:", "lens": "not deployed yet"} {
		if s, _ := got[name].(string); !strings.Contains(s, want) {
			t.Errorf("%s: %v, want %s", name, got[name], want)
		}
	}
	if f := strings.Fields(got["definition"].(string)); len(f) < 3 || f[0] != f[1] || f[2] != f[0]+":" {
		t.Errorf("definition: %v", got["definition"])
	}
	if t.Failed() {
		t.Logf("%s\n%s", text, said)
	}
}
