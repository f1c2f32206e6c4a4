package identity

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

func TestIdentity(t *testing.T) {
	dir := t.TempDir()
	var wait sync.WaitGroup
	keys := make([]string, 8)
	for i := range keys { // several processes begin at once
		wait.Go(func() {
			if id, err := Open(dir); err != nil {
				t.Error(err)
			} else {
				keys[i] = id.Public().String()
			}
		})
	}
	wait.Wait()
	for _, k := range keys {
		if k != keys[0] {
			t.Fatalf("there are several identities: %q", keys)
		}
	}
	me, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	other, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	text := []byte("a change set")
	signature := me.Sign(text)
	for _, test := range []struct {
		name, key, text, signature string
		want                       bool
	}{
		{"as it was signed", me.Public().Key, "a change set", signature, true},
		{"another text", me.Public().Key, "a changed set", signature, false},
		{"another key", other.Public().Key, "a change set", signature, false},
		{"no key", "ed25519:AAAA", "a change set", signature, false},
		{"no signature", me.Public().Key, "a change set", "", false},
		{"nonsense", "x", "a change set", "%%", false},
	} {
		if got := Verify(test.key, []byte(test.text), test.signature); got != test.want {
			t.Errorf("%s: %v", test.name, got)
		}
	}
	sealed, err := Seal([]byte("frost"), []string{me.Public().Recipient})
	if err != nil || strings.Contains(sealed, "frost") {
		t.Fatal(sealed, err)
	}
	if clear, err := me.Open(sealed); err != nil || string(clear) != "frost" {
		t.Errorf("%q %v", clear, err)
	}
	if _, err := other.Open(sealed); !errors.Is(err, ErrNotForMe) {
		t.Errorf("opened by another: %v", err)
	}
	if _, err := me.Open(sealed[:40]); err == nil {
		t.Error("half of it was opened")
	}
	if p, err := Parse("anna " + me.Public().String()); err != nil || p != me.Public() {
		t.Errorf("%v %v", p, err)
	}
	for _, bad := range []string{"", "anna", "ed25519:AAAA", "age1xyz"} {
		if _, err := Parse(bad); err == nil {
			t.Errorf("%q is an identity", bad)
		}
	}
	path := filepath.Join(dir, File)
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("one that others can read: %v", err)
	}
}
