package app

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"brickrow/internal/bundle"
	"brickrow/internal/commit"
	"brickrow/internal/files"
	"brickrow/internal/identity"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// Values are the values given for inputs beside the stack file.
type Values struct {
	Flags  []string // name=value, as on the command line
	File   string   // a file of inputs; "" is none
	Target string   // account/region, for a stack file that does not say one
	Strict bool     // inputs without a value are wrong also in a template alone
	// Shell says that the flags stand on a command line, which a shell keeps.
	Shell bool
	// At names a commit of the repository that the files are in: they are read as they are
	// there. "" is the disk.
	At string
	// Texts stand for files by their path: what an editor holds and has not saved.
	Texts map[string][]byte
	// Quick says that somebody writes: findings and tally count, and the places of all else
	// may be off by the lines that were just written. See Parsed.InPart.
	Quick bool
	// LastRun asks for findings where the last run of the stack failed, too: they are for
	// those who write.
	LastRun bool

	tree    *commit.Tree           // of At
	instead map[string]tosca.Value // of inputs, in the place of what is read from elsewhere
	over    map[string]bool        // inputs that a flag gives: what files say of them is not read
}

// fill is what inputs are filled by where nobody gives them a value.
func (a *App) fill(p *Parsed, v Values) map[string]string {
	out := map[string]string{"user": identity.User()}
	if p.File.Service != nil && slices.ContainsFunc(p.File.Service.Inputs,
		func(in *tosca.Property) bool { return in.Metadata[tosca.FilledBy] == "commit" }) {
		if out["commit"] = v.commit(); out["commit"] == "" {
			out["commit"] = commit.Last(p.Path)
		}
	}
	t, ok := stack.ParseTarget(v.Target)
	if p.Stack != nil {
		out["stack"], t, ok = p.Stack.Stack, p.Stack.Target, true
	}
	if ok {
		out["account"], out["region"] = t.Account, t.Region
	}
	return out
}

// commit is the commit that the files are read from; "" is none.
func (v Values) commit() string {
	if v.tree == nil {
		return ""
	}
	return v.tree.Hash
}

// open finds the commit that files are read from.
func (v *Values) open(path string) error {
	if v.At == "" {
		return nil
	}
	var err error
	if v.tree, err = commit.At(path, v.At); err != nil {
		return refusal("%v", err)
	}
	return nil
}

// sources are the files that everything is read from.
func (v Values) sources() bundle.Sources {
	from := bundle.Disk
	if v.tree != nil {
		from = v.tree
	}
	if len(v.Texts) == 0 {
		return from
	}
	return bundle.Over(from, v.Texts)
}

// given collects the values of the inputs, lowest precedence first.
func (a *App) given(ctx context.Context, p *Parsed, v Values) (out []stack.Given, findings tosca.Findings) {
	v.over = map[string]bool{}
	for _, flag := range v.Flags {
		name, _, _ := strings.Cut(flag, "=")
		v.over[name] = true
	}
	if p.Stack != nil {
		out = a.fromFile(ctx, p, p.Stack.Inputs, stack.OriginStackFile, p.Path, v, &findings)
	}
	if v.File != "" {
		text, err := v.sources().Open(v.File, tosca.MaxBytes)
		if err != nil {
			findings.Errorf(tosca.Pos{File: v.File}, "no-inputs-file", "", "the file of inputs cannot be read: %v", err)
		} else if root := tosca.ParseYAML(v.File, text, &findings); root != nil {
			out = append(out, a.fromFile(ctx, p, stack.ReadInputs(v.File, root, &findings), stack.OriginInputsFile,
				v.File, v, &findings)...)
		}
	}
	if len(v.Flags) == 0 {
		return out, findings
	}
	// The types of the inputs decide how a flag is read.
	var inputs []*tosca.Property
	if p.File.Service != nil {
		inputs = p.File.Service.Inputs
	}
	for _, flag := range v.Flags {
		g, err := stack.ParseFlag(flag, inputs)
		if err != nil {
			findings.Errorf(tosca.Pos{File: "-i"}, "bad-flag", "", "%v", err)
			if g.Name == "" {
				continue
			}
			g.Value = &tosca.Expr{Value: tosca.Unknown{Bad: true}} // so that it is not said to have no value
		}
		if in := p.input(g.Name); v.Shell && in != nil && in.Type.HoldsSecret() {
			findings.Warnf(tosca.Pos{File: "-i " + g.Name}, "secret-on-command-line",
				"write { from_env: … } or { from_file: … } into the stack file",
				"the secret '%s' stands on the command line, where others and the shell's history can see it", g.Name)
		}
		out = append(out, g)
	}
	return out, findings
}

// input finds an input of the template; nil where there is none.
func (p *Parsed) input(name string) *tosca.Property {
	if p.File.Service == nil {
		return nil
	}
	return p.File.Service.Input(name)
}

// fromFile turns the inputs of a file into values, reading those that stand
// elsewhere.
func (a *App) fromFile(ctx context.Context, p *Parsed, list []stack.FileInput, kind stack.OriginKind, path string,
	v Values, findings *tosca.Findings) []stack.Given {
	var out []stack.Given
	for _, in := range list {
		g := stack.Given{Name: in.Name, Value: in.Value, Origin: stack.Origin{Kind: kind, Pos: in.Pos}}
		if v.over[in.Name] {
			continue
		}
		if in.Source != nil {
			is, given := v.instead[in.Name]
			v, err := tosca.Value(tosca.Unknown{Bad: true}), error(nil)
			switch {
			case given:
				v = is
			case !in.Source.Broken:
				if v, err = a.fetch(ctx, *in.Source, filepath.Dir(path), p.Stack); err != nil {
					findings.Errorf(in.Pos, "no-value", howToGive(*in.Source, in.Name),
						"the input '%s' cannot be read: %v", in.Name, err)
					v = tosca.Unknown{Bad: true}
				}
			}
			g.Value = &tosca.Expr{Pos: in.Pos, Value: v}
			if s, ok := v.(tosca.String); ok {
				g.Value.Raw = string(s)
			}
			g.Origin.Via = in.Source.String()
		}
		out = append(out, g)
	}
	return out
}

// maxValue is the most that a file with the value of an input may have, in
// bytes.
const maxValue = 1 << 20

// howToGive says how a value that is read elsewhere can be given.
func howToGive(s stack.Source, input string) string {
	switch {
	case s.Env != "":
		return fmt.Sprintf("set it before: export %s=…; or give -i %s=…", s.Env, input)
	case s.File != "":
		return fmt.Sprintf("put the value into that file; paths are relative to the stack file; or give -i %s=…", input)
	}
	return fmt.Sprintf("deploy that stack first, or give -i %s=…", input)
}

// fetch reads a value from outside the stack file.
func (a *App) fetch(ctx context.Context, s stack.Source, dir string, f *stack.File) (tosca.Value, error) {
	switch {
	case s.Env != "":
		v, ok := os.LookupEnv(s.Env)
		if !ok {
			return nil, fmt.Errorf("the variable %s is not set", s.Env)
		}
		return tosca.String(v), nil
	case s.File != "":
		path := s.File
		if !filepath.IsAbs(path) {
			path = filepath.Join(dir, path)
		}
		b, err := files.Read(path, maxValue)
		if err != nil {
			return nil, err
		}
		return tosca.String(strings.TrimRight(string(b), "\r\n")), nil
	}
	name := s.Stack
	if f != nil && !strings.Contains(name, "@") {
		if st, err := a.store.At(ctx, name, f.Target); err == nil {
			return a.result(ctx, st, s.Output)
		}
		if st, err := a.store.At(ctx, StackIn(name, f.Target), f.Target); err == nil { // of another fleet, in the same place
			return a.result(ctx, st, s.Output)
		}
	}
	st, err := a.store.Find(ctx, name)
	if err != nil {
		return nil, err
	}
	return a.result(ctx, st, s.Output)
}

func (a *App) result(ctx context.Context, st *stack.Stack, name string) (tosca.Value, error) {
	list, err := a.Results(ctx, st)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, r := range list {
		if r.Name == name {
			return r.Value, nil
		}
		names = append(names, r.Name)
	}
	return nil, fmt.Errorf("the stack %s has no result '%s'; it has %s", st.Name, name, strings.Join(names, ", "))
}
