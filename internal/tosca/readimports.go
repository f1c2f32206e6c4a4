package tosca

import (
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// repositories reads the folders that imports and artifacts may name.
func (r *reader) repositories(n *yaml.Node) {
	for _, f := range r.entries(n, "repositories") {
		v := deref(f.value)
		url := v
		if v.Kind == yaml.MappingNode {
			kw := r.fields(v, secRepository)
			if url = deref(kw.at("url")); url == nil {
				r.findings.Errorf(r.pos(f.key), "missing-url", "add url: with the path of a folder",
					"the repository '%s' does not say where it is", f.key.Value)
				continue
			}
		}
		folder := strings.TrimPrefix(r.text(url), "file:")
		if strings.Contains(folder, "://") || strings.HasPrefix(folder, "//") {
			r.findings.Errorf(r.pos(url), "not-supported-yet", "use the path of a folder",
				"a repository that is not a folder of this machine is not supported yet")
			continue
		}
		r.out.Repositories[f.key.Value] = folder
	}
}

// locate finds the path of a file within the template's folder. What lies
// outside is refused, also where a repository says so: see Source.Beyond.
func (r *reader) locate(name string, at Pos, repository *Key) (string, bool) {
	if name == "" {
		r.findings.Errorf(at, "no-such-file", "name a file", "no file is named here")
		return "", false
	}
	if repository != nil {
		folder, ok := r.out.Repositories[repository.Name]
		if !ok {
			r.findings.Errorf(repository.Pos, "unknown-repository",
				suggest(repository.Name, typeNames(r.out.Repositories)), "there is no repository '%s'", repository.Name)
			return "", false
		}
		if inside := path.Clean(name); path.IsAbs(inside) || inside == ".." || strings.HasPrefix(inside, "../") {
			r.findings.Errorf(at, "outside-folder", "name a file inside it", "%s lies outside the repository '%s'",
				name, repository.Name)
			return "", false
		}
		if path.IsAbs(folder) || filepath.IsAbs(folder) {
			r.outside(at, name, folder)
			return "", false
		}
		return r.inside(path.Join(path.Dir(r.path), folder, name), name, at)
	}
	if path.IsAbs(name) || filepath.IsAbs(name) {
		r.outside(at, name, path.Dir(name))
		return "", false
	}
	return r.inside(path.Join(path.Dir(r.path), name), name, at)
}

// inside refuses a path, relative to the folder of the template, that leads to where
// the template may not read. It is the one border: imports by file, by profile and
// by repository, artifacts and programs all pass it.
func (r *reader) inside(p, name string, at Pos) (string, bool) {
	if p != ".." && !strings.HasPrefix(p, "../") || r.src.Beyond != nil && r.src.Beyond(p) {
		return p, true
	}
	r.outside(at, name, path.Dir(p))
	return "", false
}

func (r *reader) outside(at Pos, name, folder string) {
	r.findings.Errorf(at, "outside-folder",
		"move it there, or name its folder in the stack file: folders: [ "+folder+" ]",
		"%s lies outside the folder of the template", name)
}

// readOther reads another file of the template; nil where it cannot be read,
// which is reported.
func (r *reader) readOther(name string, at Pos, repository *Key, code string) []byte {
	p, ok := r.locate(name, at, repository)
	if !ok {
		return nil
	}
	text, err := r.fetch(p)
	if err != nil {
		r.findings.Errorf(at, code, "paths are relative to the file they stand in", "the file %s cannot be read: %s",
			name, reason(err))
		return nil
	}
	if text == nil {
		text = []byte{}
	}
	return text
}

func (r *reader) fetch(p string) ([]byte, error) {
	if r.src.Open == nil {
		return nil, fs.ErrNotExist
	}
	return r.src.Open(p)
}

// reason is why a file cannot be read, without its path again.
func reason(err error) string {
	var p *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "there is none"
	case errors.As(err, &p):
		return p.Err.Error()
	}
	return err.Error()
}

func (r *reader) imports(n *yaml.Node) {
	if n = deref(n); n == nil {
		return
	}
	if n.Kind != yaml.SequenceNode {
		r.findings.Errorf(r.pos(n), "wrong-type", "write - profile: brickrow.cloud:1", "imports must be a list")
		return
	}
	for _, item := range n.Content {
		item = deref(item)
		if item.Kind == yaml.ScalarNode {
			r.importFile(item, nil, "")
			continue
		}
		kw := r.fields(item, secImport)
		r.metadata(kw.at("metadata"))
		namespace := r.text(kw.at("namespace"))
		url, profile := deref(kw.at("url")), deref(kw.at("profile"))
		var repository *Key
		if n := deref(kw.at("repository")); n != nil {
			repository = &Key{r.pos(n), r.text(n)}
		}
		switch {
		case kw == nil:
		case url != nil && profile != nil:
			r.findings.Errorf(r.pos(profile), "wrong-arguments", "keep one of the two",
				"an import names a file or a profile, not both")
		case url != nil:
			r.importFile(url, repository, namespace)
		case profile != nil:
			r.importProfile(profile, namespace)
		default:
			r.findings.Errorf(r.pos(item), "missing-url", "add url: with a file, or profile: with a name",
				"the import does not say what it imports")
		}
	}
}

func (r *reader) importProfile(n *yaml.Node, namespace string) {
	name := r.text(n)
	if r.src.Profile != nil {
		if lib, ok := r.src.Profile(name); ok {
			r.merge(lib, namespace, r.pos(n))
			return
		}
	}
	// a profile of one's own: a file that is named after it
	named := strings.ReplaceAll(name, ":", "-") + ".yaml"
	file, ok := r.inside(path.Join(path.Dir(r.path), named), named, r.pos(n))
	if !ok {
		return
	}
	if text, err := r.fetch(file); err == nil {
		if f := r.other(file, text, r.pos(n)); f != nil {
			if f.Profile != name {
				r.findings.Errorf(r.pos(n), "unknown-profile", "write profile: "+name+" in it",
					"the file %s is not the profile '%s'", file, name)
			}
			r.merge(f.Library, namespace, r.pos(n))
		}
		return
	}
	r.findings.Errorf(r.pos(n), "unknown-profile",
		"shipped are "+strings.Join(Shipped, ", ")+"; one of your own is looked for in "+file, "there is no profile '%s'",
		name)
}

func (r *reader) importFile(n *yaml.Node, repository *Key, namespace string) {
	name, at := r.text(n), r.pos(n)
	if strings.Contains(name, "://") {
		r.findings.Errorf(at, "not-supported-yet", "keep a copy of it beside the template",
			"importing from another machine is not supported yet")
		return
	}
	p, ok := r.locate(name, at, repository)
	if !ok {
		return
	}
	if slices.Contains(r.reading, p) {
		r.findings.Errorf(at, "import-cycle", "remove this import", "%s imports itself, by way of %s", p, r.file)
		return
	}
	text := r.readOther(name, at, repository, "no-such-file")
	if text == nil {
		return
	}
	if f := r.other(p, text, at); f != nil {
		r.merge(f.Library, namespace, at)
	}
}

// other reads an imported file, once.
func (r *reader) other(p string, text []byte, at Pos) *File {
	f := r.files[p]
	if f == nil {
		if len(r.reading) > maxDepth {
			r.findings.Errorf(at, "too-deep", "", "files import each other more than %d levels deep", maxDepth)
			return nil
		}
		r.reading = append(r.reading, p)
		name := filepath.Join(r.root, filepath.FromSlash(p))
		importedAs.Store(name, p)
		f = (&reader{shared: r.shared, file: name, path: p}).readFile(text)
		r.reading = r.reading[:len(r.reading)-1]
		r.files[p] = f
	}
	if !slices.Contains(r.out.Imports, f) {
		r.out.Imports = append(r.out.Imports, f)
	}
	return f
}

// merge adds the types of another library, under a namespace where one is
// given.
func (r *reader) merge(lib *Library, namespace string, at Pos) {
	if r.out.Library.Profile == "" {
		r.out.Library.Profile = lib.Profile
	}
	into := r.lib
	mergeTypes(r, into.Data, lib.Data, namespace, "data type", at)
	mergeTypes(r, into.Nodes, lib.Nodes, namespace, "node type", at)
	mergeTypes(r, into.Capabilities, lib.Capabilities, namespace, "capability type", at)
	mergeTypes(r, into.Relationships, lib.Relationships, namespace, "relationship type", at)
	mergeTypes(r, into.Interfaces, lib.Interfaces, namespace, "interface type", at)
	mergeTypes(r, into.Artifacts, lib.Artifacts, namespace, "artifact type", at)
	mergeTypes(r, into.Groups, lib.Groups, namespace, "group type", at)
	mergeTypes(r, into.Policies, lib.Policies, namespace, "policy type", at)
	mergeTypes(r, into.Functions, lib.Functions, namespace, "function", at)
}

func mergeTypes[T any](r *reader, into, from map[string]*T, namespace, kind string, at Pos) {
	for name, t := range from {
		if d, ok := any(t).(*Type); ok && d.Parent == nil && d == builtinTypes[Base(name)] {
			continue
		}
		if namespace != "" {
			name = namespace + ":" + name
		}
		if have := into[name]; have != nil && have != t {
			r.findings.Errorf(at, "duplicate-type", "import one of the two under a namespace",
				"the %s '%s' comes from two imports", kind, name)
			continue
		}
		into[name] = t
	}
}
