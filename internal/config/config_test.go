package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func at(t *testing.T, text string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "config.yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("BRICKROW_CONFIG", path)
	for _, s := range Settings {
		t.Setenv(s.Variable, "") // so that it is put back
		os.Unsetenv(s.Variable)
	}
}

func TestWhereSettingsComeFrom(t *testing.T) {
	at(t, "# mine\nstore: team\nstores: { team: 'postgres://keeper:hoarfrost@db:5433/team', mine: file }\ntargets: { live: summit/birch-1 }\nat_once: 8\n")
	f, err := Read()
	if err != nil {
		t.Fatal(err)
	}
	if f.Get("store", "") != "postgres://keeper:hoarfrost@db:5433/team" || f.Get("store", "mine") != "file" || f.Get("store", "/a/folder") != "/a/folder" {
		t.Errorf("%q %q", f.Get("store", ""), f.Get("store", "mine"))
	}
	t.Setenv("BRICKROW_AT_ONCE", "3")
	t.Setenv("BRICKROW_CLOUD", "http://127.0.0.1:7707")
	if f.Get("at_once", "") != "3" || f.Target("live") != "summit/birch-1" || f.Target("workshop/alder-1") != "workshop/alder-1" {
		t.Error("the environment does not come before the file, or a target has no name")
	}
	all := map[string]Value{}
	for _, v := range f.All(map[string]string{"home": "/a/home"}) {
		all[v.Setting] = v
		if strings.Contains(v.Value, "hoarfrost") {
			t.Errorf("a password is shown: %+v", v)
		}
	}
	for name, want := range map[string]string{"home": "/a/home the flag --home", "cloud": "http://127.0.0.1:7707 the variable BRICKROW_CLOUD",
		"store": "postgres://keeper@db:5433/team " + f.Path + ":2, stores: team", "queue": " not set: runs"} {
		if got := all[name].Value + " " + all[name].Origin; got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	t.Setenv("BRICKROW_STORE", "")
	if v := f.All(nil)[1]; f.Get("store", "") != "" || f.Get("store", "mine") != "file" || !strings.Contains(v.Origin, "which is empty") {
		t.Errorf("with an empty variable the store is %q, %q", f.Get("store", ""), v.Origin)
	}
	os.Unsetenv("BRICKROW_STORE")
	if err := os.Chmod(f.Path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Read(); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("a password that others can read: %v", err)
	}
}

func TestMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"stor: x\n":                   "1:1: error: the configuration has no key 'stor'",
		"at_once: none\n":             "1:10: error: at_once: 'none' is no number above 0",
		"cloud: here\n":               "no URL",
		"yard_speed: -1\n":            "no number above 0",
		"targets: { live: summit }\n": "1:18: error: 'summit' is not a target",
		"stores: [ a ]\n":             "config.yaml:1",
		"store: [ a ]\n":              "must be text",
		"a: [\n":                      "not-yaml",
	} {
		at(t, text)
		if _, err := Read(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", text, err, want)
		}
	}
	at(t, "")
	if f, err := Read(); err != nil || f.Get("queue", "") != "" {
		t.Errorf("an empty one: %v", err)
	}
	t.Setenv("BRICKROW_CONFIG", filepath.Join(t.TempDir(), "none.yaml"))
	if f, err := Read(); err != nil || f.There {
		t.Errorf("none: %v", err)
	}
}
