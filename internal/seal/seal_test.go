package seal

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sync/errgroup"

	"brickrow/internal/tosca"
)

func TestBox(t *testing.T) {
	dir := t.TempDir()
	boxes := make([]*Box, 8)
	var g errgroup.Group
	for i := range boxes { // several processes may be the first
		g.Go(func() (err error) {
			boxes[i], err = Open(dir)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		t.Fatal(err)
	}
	if list, _ := os.ReadDir(dir); len(list) != 1 {
		t.Errorf("there are %d files", len(list))
	}
	if st, err := os.Stat(filepath.Join(dir, "key")); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", err, st.Mode())
	}
	sealed, err := boxes[0].SealJSON(map[string]any{"word": "hoarfrost", "n": 12345678901234567})
	if err != nil || strings.Contains(sealed, "hoarfrost") || strings.Contains(sealed, "\n") {
		t.Fatalf("%v %s", err, sealed)
	}
	var out map[string]any
	if err := boxes[7].UnsealJSON(sealed+"\n", &out); err != nil || out["word"] != "hoarfrost" {
		t.Errorf("%v %v", err, out)
	}
	if text := out["n"]; text == nil || strings.Contains(strings.ToLower(strings.TrimSpace(string(must(tosca.FromJSON(text).(tosca.Int))))), "e") {
		t.Errorf("the number is %v", text)
	}
	for _, broken := range []string{"", "zz", sealed[:20], sealed[:len(sealed)-2] + "00", "00" + sealed[2:]} {
		if err := boxes[0].UnsealJSON(broken, &out); err == nil {
			t.Errorf("%.30s is opened", broken)
		}
	}
	other, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	if err := other.UnsealJSON(sealed, &out); err == nil {
		t.Error("another key opens it")
	}
	if a, b := boxes[0].Print("x"), other.Print("x"); a == b || a != boxes[3].Print("x") || a == boxes[0].Print("y") {
		t.Errorf("prints: %s %s", a, b)
	}
	if v := tosca.Show(boxes[0].Shown(tosca.Map{"a": tosca.Hide(tosca.String("x")), "b": tosca.String("y")})); !strings.Contains(v, boxes[0].Print("x")) || !strings.Contains(v, "b: y") {
		t.Error(v)
	}
	if err := os.WriteFile(filepath.Join(dir, "key"), []byte("not a key"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), filepath.Join(dir, "key")) {
		t.Errorf("a broken key: %v", err)
	}
}

func must(n tosca.Int) []byte { return []byte(tosca.Show(n)) }
