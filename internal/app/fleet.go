package app

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"brickrow/internal/bundle"
	"brickrow/internal/fleet"
	"brickrow/internal/identity"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// isFleet tells a fleet file from others.
func isFleet(from bundle.Sources, path string) bool {
	if bundle.IsArchive(path) {
		return false
	}
	text, err := from.Open(path, tosca.MaxBytes)
	return err == nil && saysFleet(text)
}

func saysFleet(text []byte) bool {
	for line := range strings.Lines(string(text)) {
		switch key, _, _ := strings.Cut(line, ":"); key {
		case "fleet":
			return true
		case "tosca_definitions_version", "template", "rules":
			return false
		}
	}
	return false
}

// mostPlaces is how many places of a fleet are resolved when it is checked.
const mostPlaces = 50

// checkFleet looks at a fleet file: by itself, and each of its places with the stack file
// and the template.
func (a *App) checkFleet(ctx context.Context, path string, v Values) (tosca.Findings, error) {
	text, err := v.sources().Open(path, tosca.MaxBytes)
	if err != nil {
		return nil, refusal("%v", err)
	}
	f, findings := fleet.Read(path, text)
	known := a.knownTargets(ctx)
	used := map[*fleet.Place]stack.Target{} // with a target of each
	for _, t := range known {
		if p := f.At(t); p != nil && used[p].IsZero() {
			used[p] = t
		}
	}
	findings = append(findings, unknownPlaces(f, known)...)
	for i := range f.Places {
		p := &f.Places[i]
		if p.Target.Account != "" && used[p].IsZero() && slices.ContainsFunc(known, p.Target.Matches) {
			findings.Warnf(p.Pos, "no-effect", "remove it, or put it after the others", "the place %s has no effect: a later one, or "+
				"except, covers all of it", p.Target)
		}
	}
	more, err := a.otherFleet(ctx, f)
	if err != nil {
		return nil, err
	}
	findings = append(findings, more...)
	if f.Stack != "" {
		findings = append(findings, a.checkPlaces(ctx, f, used, v)...)
	}
	findings.Sort()
	return findings, nil
}

// unknownPlaces are the places of a fleet file that mean no target: one wrong letter would take a place that is there for one that
// has left.
func unknownPlaces(f *fleet.File, known []stack.Target) (out tosca.Findings) {
	if len(known) == 0 { // the cloud cannot be asked
		return nil
	}
	wrong := func(p fleet.Pattern) {
		if p.Account != "" && !slices.ContainsFunc(known, p.Matches) {
			out.Errorf(p.Pos, "unknown-target", tosca.Suggest(p.String(), names(known)), "there is no target %s", p)
		}
	}
	for _, p := range f.Places {
		wrong(p.Target)
	}
	for _, p := range f.Except {
		wrong(p)
	}
	return out
}

// otherFleet finds another fleet file that has the same name: the places of one would be those that have left the other.
func (a *App) otherFleet(ctx context.Context, f *fleet.File) (out tosca.Findings, err error) {
	if f.Fleet == "" {
		return nil, nil
	}
	var others []string
	here := a.whence(f.Path)
	other := func(path string) bool {
		text, err := bundle.Disk.Open(path, tosca.MaxBytes)
		if err != nil {
			return false
		}
		g, _ := fleet.Read(path, text)
		return g.Fleet == f.Fleet && !a.whence(path).same(here)
	}
	beside, err := filepath.Glob(filepath.Join(filepath.Dir(f.Path), "*.fleet.yaml"))
	if err != nil {
		beside = nil // a folder with odd letters
	}
	if last, err := a.store.LastRollout(ctx, f.Fleet); err == nil && last.Origin.Host == identity.Host() {
		beside = append(beside, last.File)
	} else if err := unless(err, store.ErrNotFound); err != nil {
		return nil, err
	}
	for _, path := range beside {
		if !slices.Contains(others, path) && other(path) {
			others = append(others, path)
		}
	}
	for _, path := range others {
		out.Errorf(tosca.Pos{File: f.Path, Line: 1, Column: 1}, "duplicate-fleet", "give one of them another name", "%s says that it is the fleet %s, too: the places of one would "+
			"count as gone from the other", path, f.Fleet)
	}
	return out, nil
}

// checkPlaces resolves the template with the values of each place, and yields what is wrong
// with these.
func (a *App) checkPlaces(ctx context.Context, f *fleet.File, used map[*fleet.Place]stack.Target, v Values) (out tosca.Findings) {
	file := filepath.Join(filepath.Dir(f.Path), filepath.FromSlash(f.Stack))
	text, err := v.sources().Open(file, tosca.MaxBytes)
	if err != nil {
		out.Errorf(f.StackPos, "no-stack-file", "the path is relative to the fleet file", "the stack file cannot be read: %v", err)
		return out
	}
	if s, _ := stack.ReadFile(file, text, ""); !s.Target.IsZero() {
		out.Errorf(f.StackPos, "pinned-target", "remove its line target", "%s goes to %s and nowhere else", filepath.Base(file), s.Target)
		return out
	}
	told := map[string]bool{}
	for i := range f.Places[:min(len(f.Places), mostPlaces)] {
		p := &f.Places[i]
		t := used[p]
		if t.IsZero() {
			t = stack.Target{Account: strings.Trim(p.Target.Account, "*?[]"), Region: strings.Trim(p.Target.Region, "*?[]")}
			if t.Account == "" || t.Region == "" {
				continue
			}
		}
		at := v
		at.Target, at.Flags = t.String(), nil
		whole, err := a.parse(file, at)
		if err != nil {
			out.Errorf(f.StackPos, "no-stack-file", "the path is relative to the fleet file", "%v", err)
			return out
		}
		d := a.placed(ctx, whole, p, t, StackIn(f.Fleet, t), at)
		for _, found := range d.Findings {
			switch {
			case found.File == f.Path:
			case found.Code == "missing-input":
				found.Pos = p.Pos
				found.Message = fmt.Sprintf("in %s %s", p.Target, found.Message)
			case found.Severity != tosca.Error: // which its own file tells
				continue
			}
			if key := found.String(); !told[key] {
				told[key] = true
				out = append(out, found)
			}
		}
	}
	return out
}

// placed resolves a template as it would be in a place.
func (a *App) placed(ctx context.Context, whole *Parsed, p *fleet.Place, t stack.Target, name string, v Values) *Draft {
	one, file := *whole, *whole.Stack
	file.Stack, file.Target = name, t
	one.Stack, one.base, one.patch = &file, nil, nil
	own := slices.Clone(p.Inputs)
	for _, in := range p.Filled {
		value := in.Value(t)
		own = append(own, stack.FileInput{Name: in.Input, Pos: in.Pos,
			Value: &tosca.Expr{Pos: in.Pos, Value: tosca.String(value), Raw: value}})
	}
	file.Inputs = append(slices.DeleteFunc(slices.Clone(file.Inputs), func(in stack.FileInput) bool {
		return slices.ContainsFunc(own, func(o stack.FileInput) bool { return o.Name == in.Name })
	}), own...)
	given, findings := a.given(ctx, &one, v)
	d := a.resolve(&one, stack.Options{Given: given, Tags: file.Tags, Fill: a.fill(&one, v)}, findings)
	for i := range d.Findings {
		if f := &d.Findings[i]; f.Code == "missing-input" {
			f.Fix = "give it under inputs of the place, or in " + filepath.Base(file.Path)
		}
	}
	return d
}

func names(list []stack.Target) []string {
	out := make([]string, len(list))
	for i, t := range list {
		out[i] = t.String()
	}
	return out
}
