package main

import (
	"bytes"
	"debug/buildinfo"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	spdx "github.com/spdx/tools-golang/json"
)

// run runs a program in a folder and wants it to succeed.
func run(t *testing.T, dir, name string, args ...string) string {
	t.Helper()
	out, err := output(dir, []string{"GIT_AUTHOR_NAME=ann", "GIT_AUTHOR_EMAIL=ann@kestrel.invalid", "GIT_COMMITTER_NAME=ann", "GIT_COMMITTER_EMAIL=ann@kestrel.invalid",
		"GIT_AUTHOR_DATE=2026-11-26T08:00:00Z", "GIT_COMMITTER_DATE=2026-11-26T08:00:00Z"}, name, args...)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// asRoot is a command that only root may give.
func asRoot(t *testing.T, name string, args ...string) string {
	t.Helper()
	if os.Getuid() != 0 {
		name, args = "sudo", append([]string{"-n", name}, args...)
	}
	return run(t, "", name, args...)
}

// projects are two copies of the project, at the same commit in different folders.
func projects(t *testing.T) (one, other string) {
	one, other = t.TempDir(), filepath.Join(t.TempDir(), "elsewhere")
	err := filepath.WalkDir("../..", func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		below, err := filepath.Rel("../..", path)
		switch {
		case err != nil:
			return err
		case e.IsDir() && (below == ".git" || below == "build"):
			return fs.SkipDir
		case e.IsDir():
			return os.MkdirAll(filepath.Join(one, below), 0o755)
		case !e.Type().IsRegular() || below == ".git": // a file in what is checked out beside another one
			return nil
		}
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(one, below), content, 0o644)
	})
	if err != nil {
		t.Fatal(err)
	}
	run(t, one, "git", "init", "-q")
	run(t, one, "git", "add", "-A")
	run(t, one, "git", "commit", "-q", "-m", "as it is")
	run(t, "", "git", "clone", "-q", one, other)
	return one, other
}

// TestPackages makes packages twice, in two folders, finds them the same, and installs them where there is nothing
// else: the program runs there, does its job, and has its manual and what completes it in shells.
func TestPackages(t *testing.T) {
	one, other := projects(t)
	out, again := t.TempDir(), t.TempDir()
	here := "linux/" + runtime.GOARCH
	var making sync.WaitGroup
	for project, to := range map[string]string{one: out, other: again} {
		making.Go(func() {
			if err := Make(project, to, []string{here}); err != nil {
				t.Error(err)
			}
		})
	}
	making.Wait()
	list, err := os.ReadDir(out)
	if err != nil || len(list) != 5 {
		t.Fatalf("%d files, %v", len(list), err)
	}
	found := map[string]string{}
	for _, e := range list {
		first, err := os.ReadFile(filepath.Join(out, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		second, err := os.ReadFile(filepath.Join(again, e.Name()))
		if err != nil || !bytes.Equal(first, second) {
			t.Errorf("%s is another one when it is made again: %v", e.Name(), err)
		}
		found[filepath.Ext(e.Name())] = filepath.Join(out, e.Name())
	}
	run(t, out, "sha256sum", "--check", "--strict", "SHA256SUMS")
	version, _, err := versionOf(one)
	if err != nil || !strings.HasPrefix(version, "0.20261126.") {
		t.Errorf("%q, %v", version, err)
	}

	bare, empty := t.TempDir(), t.TempDir()
	for _, name := range []string{"info", "updates", "parts", "triggers"} {
		if err := os.MkdirAll(filepath.Join(bare, "var/lib/dpkg", name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"status", "available"} {
		if err := os.WriteFile(filepath.Join(bare, "var/lib/dpkg", name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	asRoot(t, "dpkg", "--root="+bare, "--install", found[".deb"])
	asRoot(t, "rpm", "--root", empty, "--initdb")
	asRoot(t, "rpm", "--root", empty, "--install", "--ignoreos", "--nosignature", found[".rpm"])
	for _, root := range []string{bare, empty} {
		said := asRoot(t, "chroot", root, "/usr/bin/brickrow", "--version")
		if said != "brickrow version "+version+"\n" {
			t.Errorf("%q", said)
		}
		for _, name := range []string{"man/man1/brickrow.1.gz", "man/man1/brickrow-fleet-deploy.1.gz", "bash-completion/completions/brickrow",
			"fish/vendor_completions.d/brickrow.fish", "doc/brickrow/LICENCES", "doc/brickrow/brickrow.spdx.json"} {
			if _, err := os.Stat(filepath.Join(root, "usr/share", name)); err != nil {
				t.Error(err)
			}
		}
	}
	// The job, where there is nothing but the package.
	asRoot(t, "mkdir", "-p", bare+"/tmp", bare+"/home")
	inside := func(args ...string) string {
		t.Helper()
		return asRoot(t, "env", append([]string{"BRICKROW_YARD_SPEED=1000", "chroot", bare, "/usr/bin/brickrow", "--home", "/home/data"}, args...)...)
	}
	inside("new", "single-server", "/home/hut", "--target", "workshop/alder-1")
	if said := inside("deploy", "/home/hut/single-server.stack.yaml", "--yes", "--input", "public_key=ssh-ed25519 AAAA ann@hut"); !strings.Contains(said, "done") {
		t.Error(said)
	}
	if said := inside("show", "single-server"); !strings.Contains(said, "ready") {
		t.Error(said)
	}
	inside("delete", "single-server", "--yes")
	asRoot(t, "rm", "-rf", bare+"/home", bare+"/tmp")

	// The demo begins other processes, for which a root needs /proc: it is prepared from the installed program.
	demo := filepath.Join(t.TempDir(), "demo")
	run(t, "", filepath.Join(bare, "usr/bin/brickrow"), "demo", "--prepare-only", "--home", demo)
	if said := run(t, "", filepath.Join(bare, "usr/bin/brickrow"), "stacks", "--home", demo); !strings.Contains(said, "bulletin-live") {
		t.Error(said)
	}

	// bash finds what completes the commands by itself.
	said := run(t, "", "env", "XDG_DATA_DIRS="+bare+"/usr/share", "PATH="+bare+"/usr/bin:"+os.Getenv("PATH"), "bash", "--norc", "-c",
		`. /usr/share/bash-completion/bash_completion; _completion_loader brickrow; complete -p brickrow`)
	if !strings.Contains(said, "__start_brickrow") {
		t.Errorf("%q", said)
	}
	insideOf(t, found[".json"], filepath.Join(bare, "usr/bin/brickrow"))
}

// insideOf holds a list of what is inside against the binary itself.
func insideOf(t *testing.T, list, binary string) {
	f, err := os.Open(list)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	doc, err := spdx.Read(f)
	if err != nil {
		t.Fatal(err)
	}
	info, err := buildinfo.ReadFile(binary)
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for _, p := range doc.Packages {
		there[p.PackageName+" "+p.PackageVersion] = true
		if p.PackageLicenseDeclared == "" || p.PackageLicenseDeclared == "NOASSERTION" {
			t.Errorf("%s has no licence that is known", p.PackageName)
		}
	}
	for _, m := range info.Deps {
		if !there[m.Path+" "+m.Version] {
			t.Errorf("%s %s is inside and not on the list", m.Path, m.Version)
		}
	}
	if len(doc.Packages) != len(info.Deps)+2 || len(doc.Relationships) != len(doc.Packages) {
		t.Errorf("%d packages, %d relationships, %d modules", len(doc.Packages), len(doc.Relationships), len(info.Deps))
	}
}

// TestVersion says of files that are not as in the commit that they are not.
func TestVersion(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Fatal("this test needs git; make test installs it")
	}
	dir := t.TempDir()
	if _, _, err := versionOf(dir); err == nil || !strings.Contains(err.Error(), "commit") {
		t.Errorf("no commit: %v", err)
	}
	run(t, dir, "git", "init", "-q")
	if err := os.WriteFile(filepath.Join(dir, "a"), []byte("1"), 0o600); err != nil {
		t.Fatal(err)
	}
	run(t, dir, "git", "add", "a")
	run(t, dir, "git", "commit", "-q", "-m", "one")
	v, at, err := versionOf(dir)
	if err != nil || at.Unix() != 1795680000 || strings.Contains(v, "+") {
		t.Errorf("%s %v %v", v, at, err)
	}
	if err := os.WriteFile(filepath.Join(dir, "a"), []byte("2"), 0o600); err != nil {
		t.Fatal(err)
	}
	if v, _, err = versionOf(dir); err != nil || !strings.HasSuffix(v, "+changes") {
		t.Errorf("%s %v", v, err)
	}
}
