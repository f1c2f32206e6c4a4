// Command dist makes what Brick Row is given out as: archives with a static binary for Linux and macOS, Debian and RPM
// packages, a list of what is inside each (SPDX), and the checksums of all of them. Made twice from the same commit
// they are the same, byte for byte.
package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"
)

func main() {
	root := flag.String("root", "../..", "the folder of the project")
	out := flag.String("out", "../../build/dist", "the folder that all is written to")
	targets := flag.String("targets", "linux/amd64,linux/arm64,darwin/amd64,darwin/arm64", "systems and processors")
	flag.Parse()
	if err := Make(*root, *out, strings.Split(*targets, ",")); err != nil {
		fmt.Fprintln(os.Stderr, "dist:", err)
		os.Exit(1)
	}
}

// dist is one making.
type dist struct {
	root, out, work string
	version         string
	at              time.Time // of the commit
	shared          []file    // what goes with each binary: the manual, what completes commands, licences
}

// file is a file of a package. Its name is that below /usr.
type file struct {
	name    string
	content []byte
	mode    os.FileMode
}

// Make makes what is given out for some targets, such as linux/amd64, of the project in a folder.
func Make(root, out string, targets []string) (err error) {
	d := &dist{root: root, out: out}
	if d.version, d.at, err = versionOf(root); err != nil {
		return err
	}
	if d.work, err = os.MkdirTemp("", "dist"); err != nil {
		return err
	}
	defer os.RemoveAll(d.work)
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	here := runtime.GOOS + "/" + runtime.GOARCH
	own, err := d.build(here)
	if err != nil {
		return err
	}
	if err := d.accompany(own); err != nil {
		return err
	}
	var made []string
	for _, target := range targets {
		binary := own
		if target != here {
			if binary, err = d.build(target); err != nil {
				return err
			}
		}
		list, err := d.pack(target, binary)
		if err != nil {
			return fmt.Errorf("%s: %w", target, err)
		}
		made = append(made, list...)
	}
	return d.checksums(made)
}

// versionOf is the version that follows from the commit of the project, and the time of that commit.
func versionOf(root string) (string, time.Time, error) {
	said, err := output(root, nil, "git", "log", "-1", "--format=%ct %H")
	if err != nil {
		return "", time.Time{}, fmt.Errorf("the version is made of the commit: %w", err)
	}
	seconds, hash, _ := strings.Cut(strings.TrimSpace(said), " ")
	n, err := strconv.ParseInt(seconds, 10, 64)
	if err != nil {
		return "", time.Time{}, err
	}
	at := time.Unix(n, 0).UTC()
	version := "0." + at.Format("20060102") + "." + hash[:10]
	changed, err := output(root, nil, "git", "status", "--porcelain", "--untracked-files=no")
	if changed != "" {
		version += "+changes"
	}
	return version, at, err
}

// build makes the binary of a target, and says where it is.
func (d *dist) build(target string) (string, error) {
	system, processor, ok := strings.Cut(target, "/")
	if !ok {
		return "", fmt.Errorf("'%s' is no target, such as linux/amd64", target)
	}
	binary := filepath.Join(d.work, system+"-"+processor)
	_, err := output(d.root, []string{"CGO_ENABLED=0", "GOOS=" + system, "GOARCH=" + processor, "GOFLAGS="},
		"go", "build", "-trimpath", "-buildvcs=false", "-ldflags", "-s -w -buildid= -X brickrow/internal/cli.version="+d.version, "-o", binary, "./cmd/brickrow")
	return binary, err
}

// output runs a program in a folder and is what it prints.
func output(dir string, env []string, name string, args ...string) (string, error) {
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("%s %s: %w\n%s", name, args[0], err, errs.Bytes())
	}
	return string(out), nil
}

// accompany gathers what goes with each binary.
func (d *dist) accompany(binary string) error {
	pages := filepath.Join(d.work, "man")
	if _, err := output(d.work, nil, binary, "man", pages); err != nil {
		return err
	}
	list, err := os.ReadDir(pages)
	if err != nil {
		return err
	}
	for _, e := range list {
		page, err := os.ReadFile(filepath.Join(pages, e.Name()))
		if err != nil {
			return err
		}
		d.shared = append(d.shared, file{"share/man/man1/" + e.Name() + ".gz", zipped(page), 0o644})
	}
	for shell, name := range map[string]string{"bash": "share/bash-completion/completions/brickrow", "zsh": "share/zsh/vendor-completions/_brickrow",
		"fish": "share/fish/vendor_completions.d/brickrow.fish"} {
		text, err := output(d.work, nil, binary, "completion", shell)
		if err != nil {
			return err
		}
		d.shared = append(d.shared, file{name, []byte(text), 0o644})
	}
	for _, name := range []string{"LICENSE", "README.md"} {
		text, err := os.ReadFile(filepath.Join(d.root, name))
		if err != nil {
			return err
		}
		d.shared = append(d.shared, file{"share/doc/brickrow/" + name, text, 0o644})
	}
	slices.SortFunc(d.shared, func(a, b file) int { return strings.Compare(a.name, b.name) })
	return nil
}

// zipped is a text as gzip writes it, without a name and a time.
func zipped(text []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, _ = w.Write(text) // into memory
	_ = w.Close()
	return out.Bytes()
}

// pack makes the files of one target, and says what they are called.
func (d *dist) pack(target, binary string) ([]string, error) {
	system, processor, _ := strings.Cut(target, "/")
	program, err := os.ReadFile(binary)
	if err != nil {
		return nil, err
	}
	inside, err := d.inside(binary)
	if err != nil {
		return nil, err
	}
	all := append([]file{{"bin/brickrow", program, 0o755}, {"share/doc/brickrow/LICENCES", inside.licences, 0o644}}, d.shared...)
	name := fmt.Sprintf("brickrow-%s-%s-%s", d.version, map[string]string{"darwin": "macos"}[system]+map[string]string{"linux": "linux"}[system], processor)
	list, err := inside.list(name, program, d)
	if err != nil {
		return nil, err
	}
	made := []string{name + ".tar.gz", name + ".spdx.json"}
	if err := os.WriteFile(filepath.Join(d.out, made[1]), list, 0o644); err != nil {
		return nil, err
	}
	archive, err := d.archive(name, append(all, file{"share/doc/brickrow/brickrow.spdx.json", list, 0o644}))
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(d.out, made[0]), archive, 0o644); err != nil {
		return nil, err
	}
	if system != "linux" {
		return made, nil
	}
	for _, format := range []string{"deb", "rpm"} {
		file, err := d.packet(format, processor, append(all, file{"share/doc/brickrow/brickrow.spdx.json", list, 0o644}))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", format, err)
		}
		made = append(made, file)
	}
	return made, nil
}

// archive is a gzipped tar of files below a folder.
func (d *dist) archive(folder string, list []file) ([]byte, error) {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, f := range list {
		if err := w.WriteHeader(&tar.Header{Name: folder + "/" + f.name, Mode: int64(f.mode), Size: int64(len(f.content)), ModTime: d.at, Format: tar.FormatPAX}); err != nil {
			return nil, err
		}
		if _, err := w.Write(f.content); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return zipped(out.Bytes()), nil
}

// packet writes a Debian or an RPM package, and says what it is called.
func (d *dist) packet(format, processor string, list []file) (string, error) {
	info := nfpm.WithDefaults(&nfpm.Info{Name: "brickrow", Arch: processor, Platform: "linux", Version: d.version, VersionSchema: "none", Release: "1",
		Section: "admin", Priority: "optional", Maintainer: "The makers of Brick Row <makers@brickrow.invalid>", License: "Apache-2.0", MTime: d.at,
		Description: "Stand up stacks of cloud resources from TOSCA 2.0 templates\n" +
			"See what a change would do, deploy it, watch each resource as it is built, and have everything taken back when it fails.",
		Overridables: nfpm.Overridables{Recommends: []string{"bash-completion"}}})
	info.RPM.BuildHost, info.RPM.Summary = "localhost", "Stand up stacks of cloud resources from TOSCA 2.0 templates"
	for i, f := range list {
		from := filepath.Join(d.work, fmt.Sprintf("%s-%s-%d", format, processor, i))
		if err := os.WriteFile(from, f.content, 0o600); err != nil {
			return "", err
		}
		name := "/usr/" + f.name
		if format == "deb" { // where Debian wants the licence
			name = strings.Replace(name, "/doc/brickrow/LICENSE", "/doc/brickrow/copyright", 1)
		} else {
			name = strings.Replace(name, "zsh/vendor-completions", "zsh/site-functions", 1)
		}
		info.Contents = append(info.Contents, &files.Content{Source: from, Destination: name,
			FileInfo: &files.ContentFileInfo{Mode: f.mode, Owner: "root", Group: "root", MTime: d.at}})
	}
	packager, err := nfpm.Get(format)
	if err != nil {
		return "", err
	}
	name := packager.ConventionalFileName(info)
	to, err := os.Create(filepath.Join(d.out, name))
	if err != nil {
		return "", err
	}
	err = packager.Package(info, to)
	if e := to.Close(); err == nil {
		err = e
	}
	return name, err
}

// checksums writes the sums of all that was made, as sha256sum reads them.
func (d *dist) checksums(made []string) error {
	slices.Sort(made)
	var text strings.Builder
	for _, name := range made {
		f, err := os.Open(filepath.Join(d.out, name))
		if err != nil {
			return err
		}
		sum := sha256.New()
		_, err = io.Copy(sum, f)
		f.Close()
		if err != nil {
			return err
		}
		fmt.Fprintf(&text, "%x  %s\n", sum.Sum(nil), name)
	}
	return os.WriteFile(filepath.Join(d.out, "SHA256SUMS"), []byte(text.String()), 0o644)
}
