package main

import (
	"bytes"
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/google/licensecheck"
	spdx "github.com/spdx/tools-golang/json"
	"github.com/spdx/tools-golang/spdx/v2/common"
	"github.com/spdx/tools-golang/spdx/v2/v2_3"
)

// module is a package of others, or the standard library, that is in a binary.
type module struct {
	path, version string
	licence       string // of the SPDX list; NOASSERTION where it is none of them
}

// inside is what a binary is made of.
type inside struct {
	modules  []module
	licences []byte // their words
}

// inside looks what a binary is made of, as the binary says itself.
func (d *dist) inside(binary string) (*inside, error) {
	info, err := buildinfo.ReadFile(binary)
	if err != nil {
		return nil, err
	}
	folders, err := d.folders()
	if err != nil {
		return nil, err
	}
	out := &inside{}
	var words bytes.Buffer
	add := func(path, version, folder string) error {
		licence, text, err := licenceIn(folder)
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		out.modules = append(out.modules, module{path, version, licence})
		fmt.Fprintf(&words, "%s\n%s %s: %s\n\n%s\n", strings.Repeat("=", 80), path, version, licence, bytes.TrimSpace(text))
		return nil
	}
	root, err := output(d.root, nil, "go", "env", "GOROOT")
	if err != nil {
		return nil, err
	}
	if err := add("std", strings.TrimPrefix(info.GoVersion, "go"), strings.TrimSpace(root)); err != nil {
		return nil, err
	}
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		if err := add(m.Path, m.Version, folders[m.Path]); err != nil {
			return nil, err
		}
	}
	out.licences = words.Bytes()
	return out, nil
}

// folders are those that the modules of the project lie in.
func (d *dist) folders() (map[string]string, error) {
	said, err := output(d.root, nil, "go", "list", "-m", "-f", "{{.Path}}\t{{.Dir}}", "all")
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for line := range strings.Lines(said) {
		path, dir, _ := strings.Cut(strings.TrimSpace(line), "\t")
		out[path] = dir
	}
	return out, nil
}

// licenceIn reads what stands in the files of a folder that give a licence.
func licenceIn(folder string) (name string, text []byte, err error) {
	list, err := os.ReadDir(folder)
	if err != nil {
		return "", nil, err
	}
	var names []string
	for _, e := range list {
		plain := strings.ToUpper(e.Name())
		if e.IsDir() || !strings.HasPrefix(plain, "LICEN") && !strings.HasPrefix(plain, "COPYING") && !strings.HasPrefix(plain, "NOTICE") {
			continue
		}
		words, err := os.ReadFile(filepath.Join(folder, e.Name()))
		if err != nil {
			return "", nil, err
		}
		text = append(append(text, words...), '\n')
		for _, m := range licensecheck.Scan(words).Match {
			if !slices.Contains(names, m.ID) && !m.IsURL {
				names = append(names, m.ID)
			}
		}
	}
	if len(text) == 0 {
		return "", nil, fmt.Errorf("%s holds no licence", folder)
	}
	if len(names) == 0 {
		return "NOASSERTION", text, nil
	}
	slices.Sort(names)
	return strings.Join(names, " AND "), text, nil
}

var noID = regexp.MustCompile(`[^A-Za-z0-9.-]+`)

// list is the list of what is inside a binary, as SPDX.
func (in *inside) list(name string, program []byte, d *dist) ([]byte, error) {
	doc := &v2_3.Document{SPDXVersion: v2_3.Version, DataLicense: v2_3.DataLicense, SPDXIdentifier: "DOCUMENT", DocumentName: name,
		DocumentNamespace: "https://brickrow.invalid/" + name,
		CreationInfo:      &v2_3.CreationInfo{Created: d.at.Format("2006-01-02T15:04:05Z"), Creators: []common.Creator{{CreatorType: "Organization", Creator: "Brick Row"}}}}
	add := func(id, path, version, licence string) *v2_3.Package {
		p := &v2_3.Package{PackageName: path, PackageSPDXIdentifier: common.ElementID(id), PackageVersion: version, PackageDownloadLocation: "NOASSERTION",
			PackageLicenseConcluded: licence, PackageLicenseDeclared: licence, PackageCopyrightText: "NOASSERTION"}
		doc.Packages = append(doc.Packages, p)
		return p
	}
	own := add("brickrow", "brickrow", d.version, "Apache-2.0")
	own.PackageChecksums = []common.Checksum{{Algorithm: common.SHA256, Value: fmt.Sprintf("%x", sha256.Sum256(program))}}
	relate := func(from, to, how string) {
		doc.Relationships = append(doc.Relationships, &v2_3.Relationship{RefA: common.MakeDocElementID("", from), RefB: common.MakeDocElementID("", to), Relationship: how})
	}
	relate("DOCUMENT", "brickrow", common.TypeRelationshipDescribe)
	for _, m := range in.modules {
		id := "go-" + noID.ReplaceAllString(m.path, "-")
		p := add(id, m.path, m.version, m.licence)
		purl := "pkg:golang/" + m.path + "@" + m.version
		p.PackageExternalReferences = []*v2_3.PackageExternalReference{{Category: common.CategoryPackageManager, RefType: common.TypePackageManagerPURL, Locator: purl}}
		relate("brickrow", id, common.TypeRelationshipContains)
	}
	var out bytes.Buffer
	if err := spdx.Write(doc, &out); err != nil {
		return nil, err
	}
	var indented bytes.Buffer
	if err := json.Indent(&indented, out.Bytes(), "", "  "); err != nil {
		return nil, err
	}
	return append(indented.Bytes(), '\n'), nil
}
