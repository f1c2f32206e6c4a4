package app

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"syscall"
	"time"

	"brickrow/internal/bundle"
	"brickrow/internal/files"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
)

// maxSaved is the most that a saved change set may have, in bytes.
const maxSaved = 256 << 20

// savedFormat begins every saved change set.
const savedFormat = "brickrow change set, version 1"

// Saved is a change set in a file. What it was made from is sealed; the rest is
// to be read. Whoever changes the file is found out by the signature.
type Saved struct {
	Format    string          `json:"format"`
	Stack     string          `json:"stack"`
	Target    string          `json:"target"`
	StackFile string          `json:"stack_file"`
	By        string          `json:"by"`
	At        time.Time       `json:"at"`
	Careful   bool            `json:"careful"`
	OnFailure string          `json:"on_failure"`
	ChangeSet json.RawMessage `json:"change_set"`
	Sealed    string          `json:"sealed"`
	Signature string          `json:"signature"`
	Approvals []Approval      `json:"approvals"`
}

// Approval says that somebody agrees to a change set.
type Approval struct {
	By        string    `json:"by"`
	At        time.Time `json:"at"`
	Signature string    `json:"signature"`
}

// content is what the signature is of.
func (s Saved) content() []byte {
	s.Signature, s.Approvals = "", nil
	var flat bytes.Buffer
	if json.Compact(&flat, s.ChangeSet) == nil {
		s.ChangeSet = flat.Bytes()
	}
	b, err := json.Marshal(s)
	if err != nil {
		return nil
	}
	return b
}

func (s *Saved) agreed(a Approval) []byte {
	return []byte(s.Signature + "\n" + a.By + "\n" + a.At.UTC().Format(time.RFC3339Nano))
}

// IsSaved reports whether a file is a saved change set.
func IsSaved(path string) bool {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return false
	}
	start := make([]byte, 200)
	n, _ := f.Read(start)
	return bytes.Contains(start[:n], []byte(savedFormat))
}

// Save writes a preview to a file, from which exactly that can be deployed.
func (a *App) Save(p *Preview, path string) error {
	if p.Findings.HasErrors() {
		return &Refusal{Findings: p.Findings}
	}
	if p.Kind != "deploy" || p.Revision == nil {
		return refusal("only a what-if of a deployment can be saved")
	}
	changes, err := json.Marshal(p.ChangeSet)
	if err != nil {
		return err
	}
	file, err := filepath.Abs(p.Draft.Path)
	if err != nil {
		return err
	}
	s := Saved{Format: savedFormat, Stack: p.ChangeSet.Stack, Target: p.Target.String(), StackFile: file, By: store.Who(), At: time.Now().UTC(), Careful: p.Careful(),
		OnFailure: p.Draft.Stack.OnFailure, ChangeSet: changes}
	if s.Sealed, err = a.Store.SealRevision(*p.Revision); err != nil {
		return err
	}
	s.Signature = a.Store.Sign(s.content())
	return writeSaved(path, &s)
}

func writeSaved(path string, s *Saved) error {
	b, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return files.Write(path, append(b, '\n'), 0o600)
}

// readSaved reads a saved change set and looks whether it is as it was written.
func (a *App) readSaved(path string) (*Saved, error) {
	b, err := files.Read(path, maxSaved)
	if err != nil {
		return nil, err
	}
	s := &Saved{}
	if err := json.Unmarshal(b, s); err != nil || s.Format != savedFormat {
		return nil, refusal("%s is no saved change set", path)
	}
	if a.Store.Sign(s.content()) != s.Signature {
		return nil, refusal("%s was changed after it was saved, or was saved with another data folder; make it anew with whatif --save", path)
	}
	for _, ap := range s.Approvals {
		if a.Store.Sign(s.agreed(ap)) != ap.Signature {
			return nil, refusal("the approval of %s in %s is not genuine", ap.By, path)
		}
	}
	return s, nil
}

// Approve adds the approval of the one who asks to a saved change set. It has
// to be somebody else than the one who saved it.
func (a *App) Approve(path, who string) (*Saved, error) {
	s, err := a.readSaved(path)
	if err != nil {
		return nil, err
	}
	switch {
	case who == s.By:
		return nil, refusal("%s saved it: another person has to approve it", who)
	case slices.ContainsFunc(s.Approvals, func(ap Approval) bool { return ap.By == who }):
		return nil, refusal("%s has approved it already", who)
	}
	ap := Approval{By: who, At: time.Now().UTC()}
	ap.Signature = a.Store.Sign(s.agreed(ap))
	s.Approvals = append(s.Approvals, ap)
	return s, writeSaved(path, s)
}

// OpenSaved makes the preview of a saved change set again, and refuses it with
// the differences where anything has moved on since.
func (a *App) OpenSaved(ctx context.Context, path string) (*Preview, error) {
	s, err := a.readSaved(path)
	if err != nil {
		return nil, err
	}
	rev, err := a.Store.OpenRevision(s.Sealed)
	if err != nil {
		return nil, refusal("%s cannot be opened: %v", path, err)
	}
	target, _ := stack.ParseTarget(s.Target)
	b := bundle.Stored(rev.Template, rev.Entry, []byte(rev.Text), rev.Files)
	d := &Draft{Path: s.StackFile, Template: rev.Template, Text: rev.Text, Bundle: b, Stack: &stack.File{Path: s.StackFile, Stack: s.Stack, Target: target, Careful: s.Careful, OnFailure: s.OnFailure, Tags: rev.Tags}}
	var findings tosca.Findings
	d.File, findings = tosca.Read(b.Name, b.Text, b.Source())
	if text, err := files.Read(s.StackFile, tosca.MaxBytes); err == nil { // it may name rules
		file, _ := stack.ReadFile(s.StackFile, text)
		d.Stack.Rules, d.Stack.RulesPos = file.Rules, file.RulesPos
	}
	d.Findings = findings
	a.readRules(d)
	d.base = d.Findings
	d.options = stack.Options{Given: givenAgain(rev), Tags: rev.Tags}
	d.resolve()
	p, err := a.WhatIf(ctx, d, true)
	if err != nil {
		return nil, err
	}
	p.Saved = path
	if p.Findings.HasErrors() {
		return p, nil
	}
	now, err := json.Marshal(p.ChangeSet)
	if err != nil {
		return nil, err
	}
	if differences := moved(s.ChangeSet, now); len(differences) > 0 {
		return nil, refusal("things have moved on since %s saved it (%s):\n  %s\nmake it anew with whatif --save", s.By, s.At.Local().Format("2006-01-02 15:04"), strings.Join(differences, "\n  "))
	}
	p.By = "saved by " + s.By
	for _, ap := range s.Approvals {
		p.Approved = true
		p.By += ", approved by " + ap.By
	}
	return p, nil
}

// moved lists how two change sets differ in what they would do.
func moved(was, is []byte) []string {
	type change struct {
		Name       string           `json:"name"`
		Kind       string           `json:"kind"`
		Properties []map[string]any `json:"properties"`
	}
	type set struct {
		Base    int `json:"base_revision"`
		Changes []change
		Lookups []struct{ Name, ID string }
	}
	var a, b set
	if json.Unmarshal(was, &a) != nil || json.Unmarshal(is, &b) != nil {
		return []string{"the change set cannot be read"}
	}
	var out []string
	if a.Base != b.Base {
		out = append(out, fmt.Sprintf("the stack was at revision %d, it is at %d", a.Base, b.Base))
	}
	find := func(list []change, name string) *change {
		for i := range list {
			if list[i].Name == name {
				return &list[i]
			}
		}
		return nil
	}
	for _, c := range a.Changes {
		switch now := find(b.Changes, c.Name); {
		case now == nil:
			out = append(out, fmt.Sprintf("%s would stay the same now, it was %s", c.Name, c.Kind))
		case now.Kind != c.Kind:
			out = append(out, fmt.Sprintf("%s would be %s now, it was %s", c.Name, now.Kind, c.Kind))
		case !reflect.DeepEqual(now.Properties, c.Properties):
			out = append(out, c.Name+" is not as it was in the cloud, or would become something else")
		}
	}
	for _, c := range b.Changes {
		if find(a.Changes, c.Name) == nil {
			out = append(out, fmt.Sprintf("%s would be %s now, it stayed the same", c.Name, c.Kind))
		}
	}
	for _, l := range b.Lookups {
		for _, before := range a.Lookups {
			if before.Name == l.Name && before.ID != l.ID {
				out = append(out, fmt.Sprintf("the look-up %s finds %s, it found %s", l.Name, l.ID, before.ID))
			}
		}
	}
	return out
}
