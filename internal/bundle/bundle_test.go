package bundle

import (
	"archive/zip"
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"brickrow/internal/profile"
)

var shipped = profile.Read()

// archive packs files, in order: name and text in turn. A name that ends in @
// becomes a link.
func archive(t testing.TB, pairs ...string) []byte {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for i := 0; i+1 < len(pairs); i += 2 {
		h := &zip.FileHeader{Name: strings.TrimSuffix(pairs[i], "@"), Method: zip.Deflate}
		h.SetMode(0o644)
		if strings.HasSuffix(pairs[i], "@") {
			h.SetMode(fs.ModeSymlink | 0o777)
		}
		f, err := z.CreateHeader(h)
		if err == nil {
			_, err = f.Write([]byte(pairs[i+1]))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

const (
	meta     = "CSAR-Version: 2.0\nCreated-By: a test\nEntry-Definitions: defs/main.yaml\n"
	template = "tosca_definitions_version: tosca_2_0\nimports: [ ../types/t.yaml, { profile: brickrow.cloud:1 } ]\nservice_template: { node_templates: { a: { type: Horn, artifacts: { x: note.txt } } } }\n"
	types    = "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nnode_types: { Horn: { derived_from: Topic } }\n"
)

func TestArchive(t *testing.T) {
	b, err := Archive("x.csar", archive(t, "TOSCA.meta", meta, "defs/main.yaml", template, "types/t.yaml", types,
		"defs/note.txt", "hello", "defs/", ""))
	if err != nil {
		t.Fatal(err)
	}
	if _, findings := b.Read(shipped.Load); len(findings) > 0 {
		t.Error(findings)
	}
	if files := b.Files(); string(files["types/t.yaml"]) != types || string(files["defs/note.txt"]) != "hello" {
		t.Errorf("it read %v", files)
	}
	var out, again bytes.Buffer
	if err := b.Pack(&out, "a test"); err != nil {
		t.Fatal(err)
	}
	c, err := Archive("y.csar", out.Bytes())
	if err != nil || c.Entry != "defs/main.yaml" || string(c.Text) != template {
		t.Fatalf("%+v %v", c, err)
	}
	if _, findings := c.Read(shipped.Load); len(findings) > 0 {
		t.Error(findings)
	}
	time.Sleep(10 * time.Millisecond)
	if err := c.Pack(&again, "a test"); err != nil || !bytes.Equal(out.Bytes(), again.Bytes()) {
		t.Errorf("the same files give another archive: %v", err)
	}
	if b, err := Archive("z.csar", archive(t, "only.yaml", types, "readme.txt", "x")); err != nil ||
		b.Entry != "only.yaml" {
		t.Errorf("a single YAML file at the root: %v", err)
	}
}

func TestArchivesThatAreRefused(t *testing.T) {
	big := strings.Repeat("0", maxArchive/2)
	if testing.Short() {
		big = ""
	}
	many := make([]string, 0, 2*maxFiles+4)
	for i := range maxFiles + 1 {
		many = append(many, strings.Repeat("d/", i%7)+time.Duration(i).String(), "")
	}
	for name, test := range map[string]struct {
		data []byte
		want string
	}{
		"nothing":              {nil, "no ZIP file"},
		"no template":          {archive(t, "a.txt", "x"), "no TOSCA.meta"},
		"two templates":        {archive(t, "a.yaml", "x", "b.yaml", "x"), "2 YAML files"},
		"a path out of it":     {archive(t, "../a.yaml", "x"), "points out of it"},
		"a deep path out":      {archive(t, "a/../../b.yaml", "x"), "points out of it"},
		"an absolute path":     {archive(t, "/a.yaml", "x"), "points out of it"},
		"a path of another OS": {archive(t, `a\..\b.yaml`, "x"), "points out of it"},
		"a drive":              {archive(t, "c:/b.yaml", "x"), "points out of it"},
		"a link":               {archive(t, "a.yaml@", "/etc/hosts"), "is a link"},
		"twice the same":       {archive(t, "a.yaml", "x", "./a.yaml", "y"), "twice"},
		"too much":             {archive(t, "a.yaml", "x", "b", big, "c", big, "d", "more"), "unpacks to more"},
		"too many":             {archive(t, many...), "files; up to"},
		"a meta file alone":    {archive(t, "TOSCA.meta", "CSAR-Version: 2.0\n", "a.yaml", "x"), "does not name"},
		"another version": {archive(t, "TOSCA.meta", "CSAR-Version: 1.1\nEntry-Definitions: a.yaml\n", "a.yaml",
			"x"), "its version is 1.1"},
		"a template not in it": {archive(t, "TOSCA.meta", "CSAR-Version: 2.0\nEntry-Definitions: b.yaml\n", "a.yaml",
			"x"), "is not in it"},
	} {
		if testing.Short() && name == "too much" {
			continue
		}
		if _, err := Archive("x.csar", test.data); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: %v, want %q", name, err, test.want)
		}
	}
}

func TestFolder(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"in/t.yaml": types, "out.yaml": types, "in/sub/x.yaml": types} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("../out.yaml", filepath.Join(dir, "in", "link.yaml")); err != nil {
		t.Fatal(err)
	}
	b, err := Open(Disk, filepath.Join(dir, "in", "t.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	src := b.Source(shipped.Load)
	if _, err := src.Open("../out.yaml"); err == nil || src.Beyond("../out.yaml") {
		t.Errorf("what lies beside the folder is read without a word: %v", err)
	}
	b.Beside = []string{".."}
	for path, ok := range map[string]bool{"sub/x.yaml": true, "link.yaml": false, "none.yaml": false, "sub": false,
		"../out.yaml": true, "../../out.yaml": false} {
		if _, err := src.Open(path); (err == nil) != ok {
			t.Errorf("%s: %v", path, err)
		}
	}
	var out bytes.Buffer
	if err := b.Pack(&out, "x"); err == nil || !strings.Contains(err.Error(), "outside") {
		t.Errorf("what lies outside was packed: %v", err)
	}
	for _, name := range []string{dir, filepath.Join(dir, "none.yaml")} {
		if _, err := Open(Disk, name); err == nil {
			t.Errorf("%s can be opened", name)
		}
	}
}

func FuzzArchive(f *testing.F) {
	f.Add(archive(f, "TOSCA.meta", meta, "defs/main.yaml", template, "types/t.yaml", types, "defs/note.txt", "hello"))
	f.Add(archive(f, "../a", "x", "b@", "/etc"))
	f.Add([]byte("PK\x05\x06" + strings.Repeat("\x00", 18)))
	f.Fuzz(func(t *testing.T, data []byte) {
		b, err := Archive("x.csar", data)
		if err != nil {
			return
		}
		b.Read(shipped.Load)
		for path := range b.Files() {
			if strings.HasPrefix(path, "..") || strings.HasPrefix(path, "/") {
				t.Errorf("it read %s", path)
			}
		}
	})
}
