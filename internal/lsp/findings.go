package lsp

import (
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"brickrow/internal/app"
	"brickrow/internal/assist"
	"brickrow/internal/tosca"
)

// Findings are looked for when nothing has changed for pause, and at least once in
// every longest.
const (
	pause   = 60 * time.Millisecond
	longest = 400 * time.Millisecond
)

// watch looks for findings after changes, until ctx ends.
func (s *server) watch(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.changed:
		}
		for begun, quiet := time.Now(), false; !quiet && time.Since(begun) < longest; {
			select {
			case <-ctx.Done():
				return
			case <-s.changed:
			case <-time.After(pause):
				quiet = true
			}
		}
		if err := s.safely("findings", func() error { return s.look(ctx) }); err != nil && ctx.Err() == nil {
			fmt.Fprintf(s.log, "findings: %v\n", err)
		}
	}
}

// look looks at all open files, and publishes what it finds in them and in what they
// import.
func (s *server) look(ctx context.Context) error {
	paths, docs := s.open()
	v := app.Values{Texts: map[string][]byte{}, LastRun: true}
	for path, d := range docs {
		v.Texts[path] = []byte(d.text.String())
	}
	var all tosca.Findings
	lens := map[string]string{}
	for _, path := range paths {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		switch s.work.Kind(path) {
		case assist.Rules, assist.FleetFile:
			found, err := s.app.Check(ctx, path, v)
			if err != nil {
				found = app.CannotCheck(path, err)
			}
			all = append(all, found...)
		case assist.StackFile:
			d, err := s.app.Load(ctx, path, v)
			if err != nil {
				all = append(all, app.CannotCheck(path, err)...)
				continue
			}
			for _, f := range s.app.Checked(ctx, d) {
				if f.Code == "missing-key" && strings.Contains(f.Message, "target") && s.work.InFleet(path) {
					continue // the fleet says it
				}
				if f.Code == "missing-input" && f.File == d.Template { // where it is put right
					f.Pos = s.inputsOf(path)
				}
				all = append(all, f)
			}
			s.work.Read(d.Template, d.File, d.Wanted)
			lens[path] = s.tally(ctx, d)
		case assist.Template:
			d, err := s.app.Load(ctx, path, v)
			if err != nil {
				all = append(all, app.CannotCheck(path, err)...)
				continue
			}
			all = append(all, slices.DeleteFunc(s.app.Checked(ctx, d), func(f tosca.Finding) bool {
				return f.Code == "missing-service-template" && s.onlyTypes(path) // which others import
			})...)
			s.work.Read(path, d.File, s.resolved(ctx, path, d, v).Wanted)
		}
	}
	all.Sort()
	s.publish(ctx, docs, all)
	s.mu.Lock()
	refresh := s.conn != nil && !reflect.DeepEqual(s.lens, lens) && s.client.Capabilities.Workspace.CodeLens.RefreshSupport
	inlays := s.conn != nil && s.client.Capabilities.Workspace.InlayHint.RefreshSupport
	s.lens = lens
	s.mu.Unlock()
	if refresh {
		s.ask(ctx, "workspace/codeLens/refresh")
	}
	if inlays {
		s.ask(ctx, "workspace/inlayHint/refresh")
	}
	return nil
}

// inputsOf is where the inputs of a stack file stand; its beginning where it has none.
func (s *server) inputsOf(path string) tosca.Pos {
	for n, line := range s.work.Text(path).Lines {
		if strings.HasPrefix(line, "inputs:") {
			return tosca.Pos{File: path, Line: n + 1, Column: 1}
		}
	}
	return tosca.Pos{File: path, Line: 1, Column: 1}
}

// onlyTypes reports whether a file defines types alone.
func (s *server) onlyTypes(path string) bool {
	symbols := s.work.Symbols(path)
	return len(symbols) > 0 && !slices.ContainsFunc(symbols, func(y *assist.Symbol) bool {
		return !strings.HasSuffix(y.Section, "_types")
	})
}

// ask asks the client for something whose answer does not matter.
func (s *server) ask(ctx context.Context, method string) {
	s.running.Go(func() {
		ctx, stop := context.WithTimeout(ctx, 5*time.Second)
		defer stop()
		if err := s.conn.Call(ctx, method, nil, nil); err != nil && ctx.Err() == nil {
			fmt.Fprintf(s.log, "%s: %v\n", method, err)
		}
	})
}

// resolved is a template as the stack file resolves it that is in use: an open one
// that names it, or else the first beside it.
func (s *server) resolved(ctx context.Context, path string, alone *app.Draft, v app.Values) *app.Draft {
	beside := s.work.StackFiles(path)
	for _, file := range beside {
		if _, open := v.Texts[file]; open {
			beside = []string{file}
			break
		}
	}
	for _, file := range beside {
		if d, err := s.app.Load(ctx, file, v); err == nil && d.Wanted != nil {
			return d
		}
	}
	return alone
}

// tally says what a deployment would change, against the record.
func (s *server) tally(ctx context.Context, d *app.Draft) string {
	errors := slices.DeleteFunc(slices.Clone(d.Findings), func(f tosca.Finding) bool { return f.Severity != tosca.Error })
	if len(errors) > 0 {
		return fmt.Sprintf("%d to put right before it can be compared: %s", len(errors), errors[0].Message)
	}
	p, err := s.app.WhatIfRecorded(ctx, d)
	switch {
	case err != nil:
		return err.Error()
	case p.Stack == nil || p.Stack.Revision == 0:
		return fmt.Sprintf("%s · not deployed yet", p.Tally)
	case p.Tally.String() == "":
		return fmt.Sprintf("nothing would change · %d same · against revision %d", p.Tally.Same, p.Stack.Revision)
	}
	return fmt.Sprintf("%s · %d same · against revision %d", p.Tally, p.Tally.Same, p.Stack.Revision)
}

// publish tells the client the findings of each file, and that files have none any
// more.
func (s *server) publish(ctx context.Context, docs map[string]*document, all tosca.Findings) {
	by := map[string]tosca.Findings{}
	for path := range docs {
		by[path] = nil
	}
	for _, f := range all {
		if s.work.Text(f.File) != nil { // a flag, or the target, is no file
			by[f.File] = append(by[f.File], f)
		}
	}
	s.mu.Lock()
	before := s.told
	s.told, s.findings = map[string]bool{}, by
	for path := range by {
		s.told[path] = true
	}
	conn := s.conn
	s.mu.Unlock()
	for path := range before {
		if _, again := by[path]; !again {
			by[path] = nil
		}
	}
	for _, path := range slices.Sorted(maps.Keys(by)) {
		p := publishParams{URI: s.uri(path), Diagnostics: []diagnostic{}}
		if d := docs[path]; d != nil {
			p.Version = d.version
		}
		for _, f := range by[path] {
			p.Diagnostics = append(p.Diagnostics, s.diagnostic(f))
		}
		if err := conn.Notify(ctx, "textDocument/publishDiagnostics", p); err != nil {
			return
		}
	}
}

// diagnostic is a finding as the protocol has it.
func (s *server) diagnostic(f tosca.Finding) diagnostic {
	text := s.work.Text(f.File)
	d := diagnostic{Code: f.Code, Source: "brickrow", Message: f.Message, Severity: 1}
	switch f.Severity {
	case tosca.Warning:
		d.Severity = 2
	case tosca.Hint:
		d.Severity = 4
	}
	if f.Fix != "" {
		d.Message += "; " + f.Fix
	}
	if s.help != "" {
		d.CodeDescription = &codeAbout{s.help + "#" + f.Code}
	}
	at := s.work.Of(f.File, f.Pos)
	d.Range = s.span(text, at)
	if l, ok := s.work.Definition(f.File, at.From); ok && (l.Path != f.File || l.From.Line != at.From.Line) {
		d.Related = []relatedTo{{location{s.uri(l.Path), s.span(s.work.Text(l.Path), l.Range)}, "it is defined here"}}
	}
	return d
}
