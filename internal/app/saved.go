package app

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"brickrow/internal/bundle"
	"brickrow/internal/cloud"
	"brickrow/internal/files"
	"brickrow/internal/identity"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/store"
	"brickrow/internal/tosca"
	"brickrow/internal/whatif"
)

// maxSaved is the most that a saved change set may have, in bytes.
const maxSaved = 256 << 20

// savedFormat begins every saved change set.
const savedFormat = "brickrow change set, version 2"

// anySavedFormat is what those of all versions begin with.
const anySavedFormat = "brickrow change set, version "

// Saved is a change set in a file: of a deployment, of a way back, or of a
// deletion. What a deployment was made from is sealed to those who deploy; the
// rest is to be read by anybody. Whoever changes the file is found out by the
// signature.
type Saved struct {
	Format    string           `json:"format"`
	Kind      run.Kind         `json:"kind"` // deploy, undo, delete, action
	Stack     string           `json:"stack"`
	Target    string           `json:"target"`
	To        int              `json:"to_revision,omitempty"` // of a way back
	StackFile string           `json:"stack_file,omitempty"`
	By        string           `json:"by"`
	Key       string           `json:"key"` // that the signature is checked with
	At        time.Time        `json:"at"`
	Careful   bool             `json:"careful"`
	Throwaway bool             `json:"throwaway,omitempty"`
	OnFailure stack.OnFailure  `json:"on_failure"`
	Only      []string         `json:"only,omitempty"`      // the resources that were chosen; none is all
	Approvers []string         `json:"approvers,omitempty"` // who may approve, as the stack file and the target say
	Adopt     []stack.Adoption `json:"adopt,omitempty"`     // what is there already, by the nodes that stand for it
	Release   string           `json:"release,omitempty"`   // the resource that leaves the stack and stays in the cloud
	Act       *SavedAct        `json:"act,omitempty"`       // of an action
	Setting   *SavedSetting    `json:"setting,omitempty"`   // of what is set of the target
	run.Source
	ChangeSet json.RawMessage `json:"change_set"`
	Sealed    string          `json:"sealed,omitempty"`
	Signature string          `json:"signature"`
	Approvals []Approval      `json:"approvals"`

	former []string // who approved what was saved under this name before
}

// KindSetting is the kind of what is saved of a target itself.
const KindSetting run.Kind = "setting"

// SavedSetting is what is to become of the agreement that a target asks for.
type SavedSetting struct {
	Approval  bool     `json:"approval"` // false: none is needed any more
	Approvers []string `json:"approvers,omitempty"`
}

// SavedAct is what is to be done to what runs.
type SavedAct struct {
	Resource string            `json:"resource,omitempty"` // "" is all of the stack
	Action   string            `json:"action"`
	Inputs   map[string]string `json:"inputs,omitempty"`
}

// Approval says that somebody agrees to a change set.
type Approval struct {
	By        string    `json:"by"`
	Key       string    `json:"key"` // that the signature is checked with
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
	return []byte(s.Signature + "\n" + a.By + "\n" + a.Key + "\n" + a.At.UTC().Format(time.RFC3339Nano))
}

// Me is the identity of the one whose data folder this is.
func (a *App) Me() (*identity.Identity, error) { return identity.Open(a.Home) }

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
	return bytes.Contains(start[:n], []byte(anySavedFormat))
}

// Save writes a preview to a file, from which exactly that can be carried out.
func (a *App) Save(p *Preview, path string) error {
	me, err := a.Me()
	if err != nil {
		return err
	}
	s, err := a.saved(p, me)
	if err != nil {
		return err
	}
	others := false
	if s.StackFile != "" {
		to, err := a.deployers(p, me)
		if err != nil {
			return err
		}
		others = len(to) > 1
		packed, err := store.PackRevision(*p.Revision)
		if err != nil {
			return err
		}
		if s.Sealed, err = identity.Seal(packed, to); err != nil {
			return err
		}
	}
	s.Signature = me.Sign(s.content())
	return a.writeSaved(path, s, others)
}

// saved is a preview as it is saved, without what it was made from, and not signed yet.
func (a *App) saved(p *Preview, me *identity.Identity) (*Saved, error) {
	if p.Findings.HasErrors() {
		return nil, &Refusal{Findings: p.Findings}
	}
	if files := p.NotAsked(); len(files) > 0 {
		return nil, notAsked(files)
	}
	if p.Kind == KindCompare {
		return nil, refusal("a comparison cannot be saved: it cannot be carried out")
	}
	in, err := a.settings()
	if err != nil {
		return nil, err
	}
	changes, err := json.Marshal(p.ChangeSet)
	if err != nil {
		return nil, err
	}
	s := &Saved{Format: savedFormat, Kind: p.Kind, Stack: p.ChangeSet.Stack, Target: p.Target.String(),
		By: identity.User(), Key: me.Public().Key, At: time.Now().UTC(),
		Careful: p.Careful(), Throwaway: p.Throwaway(), OnFailure: stack.Undo, Only: p.Only,
		Approvers: append(slices.Clone(p.approvers), in.Approvers[p.Target.String()]...), ChangeSet: changes}
	switch {
	case p.Kind == run.KindUndo:
		s.To = p.To
	case p.releasing != "":
		s.Release = p.releasing
	case p.Kind == run.KindDeploy:
		if s.StackFile, err = filepath.Abs(p.Draft.Path); err != nil {
			return nil, err
		}
		s.OnFailure, s.Adopt = p.Draft.Stack.OnFailure, p.Draft.Stack.Adopt
		s.Source = sourceOf(p)
	}
	return s, nil
}

// SaveActs writes what is to be done to what runs to a file, from which exactly that can be
// carried out.
func (a *App) SaveActs(acts *Acts, path string) error {
	me, err := a.Me()
	if err != nil {
		return err
	}
	in, err := a.settings()
	if err != nil {
		return err
	}
	st := acts.Stack
	s := Saved{Format: savedFormat, Kind: run.KindAction, Stack: st.Name, Target: st.Target.String(), By: identity.User(), Key: me.Public().Key,
		At: time.Now().UTC(), Careful: st.Careful, OnFailure: stack.Undo, Act: &SavedAct{acts.resource(), acts.Verb, acts.With},
		Approvers: append(slices.Clone(st.Approvers), in.Approvers[st.Target.String()]...)}
	if s.ChangeSet, err = acts.changes(); err != nil {
		return err
	}
	s.Signature = me.Sign(s.content())
	return a.writeSaved(path, &s, false)
}

// SaveMark writes what is to become of the agreement that a target asks for to a file, for a second person to agree to.
func (a *App) SaveMark(ctx context.Context, target string, on bool, approvers []string, path string) error {
	if err := a.checkMark(ctx, target, approvers); err != nil {
		return err
	}
	me, err := a.Me()
	if err != nil {
		return err
	}
	in, err := a.settings()
	if err != nil {
		return err
	}
	s := Saved{Format: savedFormat, Kind: KindSetting, Target: target, By: identity.User(), Key: me.Public().Key, At: time.Now().UTC(),
		OnFailure: stack.Undo, Setting: &SavedSetting{on, approvers}, Approvers: in.Approvers[target], ChangeSet: json.RawMessage("{}")}
	s.Signature = me.Sign(s.content())
	return a.writeSaved(path, &s, true)
}

// CarryMark does to a target what was saved, where a second person has agreed to it; false is that something else was saved.
func (a *App) CarryMark(ctx context.Context, path, note string) (said string, is bool, err error) {
	s, err := a.readSaved(path)
	if err != nil || s.Setting == nil {
		return "", false, err
	}
	if err := ownersAlone(path); err != nil {
		return "", true, err
	}
	if err := a.savedByMember(ctx, path, s); err != nil {
		return "", true, err
	}
	in, err := a.settings()
	if err != nil {
		return "", true, err
	}
	if slices.Contains(in.Approval, s.Target) && len(s.Approvals) == 0 {
		return "", true, refusal("what is done to %s needs the agreement of a second person: let somebody approve %s; %s", s.Target, path, s.approvedBefore(path))
	}
	by, _ := s.madeBy()
	if err := a.markAgreed(ctx, NeedsApproval, s.Target, s.Setting.Approval, s.Setting.Approvers, strings.TrimSpace(note+" saved by "+by)); err != nil {
		return "", true, err
	}
	if s.Setting.Approval {
		return s.Target + " needs the approval of a second person", true, nil
	}
	return s.Target + " needs no approval any more", true, nil
}

// OpenSavedActs makes a saved action again, and refuses it where anything has moved on since.
// It is nil where something else was saved.
func (a *App) OpenSavedActs(ctx context.Context, path string) (*Acts, error) {
	s, err := a.readSaved(path)
	if err != nil || s.Act == nil {
		return nil, err
	}
	if err := ownersAlone(path); err != nil {
		return nil, err
	}
	if err := a.savedByMember(ctx, path, s); err != nil {
		return nil, err
	}
	st, err := a.knownHere(ctx, path, s)
	if err != nil {
		return nil, err
	}
	acts, err := a.WhatIfAct(ctx, st, s.Act.Resource, s.Act.Action, s.Act.Inputs)
	if err != nil {
		return nil, err
	}
	now, err := acts.changes()
	if err != nil {
		return nil, err
	}
	if differences := moved(s.ChangeSet, now); len(differences) > 0 {
		return nil, s.movedOn(differences)
	}
	acts.by, acts.approvedBy = s.madeBy()
	acts.before = s.approvedBefore(path)
	return acts, nil
}

// knownHere is the stack that was saved.
func (a *App) knownHere(ctx context.Context, path string, s *Saved) (*stack.Stack, error) {
	target, _ := stack.ParseTarget(s.Target)
	st, err := a.store.At(ctx, s.Stack, target)
	if err != nil {
		return nil, refusal("%s is about %s in %s, which is not known here", path, s.Stack, s.Target)
	}
	return st, nil
}

func (s *Saved) movedOn(differences []string) error {
	return refusal("things have moved on since %s saved it (%s):\n  %s\nmake it anew with --save", s.By, s.At.Local().Format("2006-01-02 15:04"),
		strings.Join(differences, "\n  "))
}

// madeBy says who made it and who agreed.
func (s *Saved) madeBy() (by string, approved []string) {
	by = s.By
	for _, ap := range s.Approvals {
		approved = append(approved, ap.By)
		by += ", approved by " + ap.By
	}
	return by, approved
}

// deployers are the recipients that may open what is sealed: whoever saves it,
// and those that the stack file and the target name.
func (a *App) deployers(p *Preview, me *identity.Identity) ([]string, error) {
	in, err := a.settings()
	if err != nil {
		return nil, err
	}
	to := []string{me.Public().Recipient}
	for _, line := range append(slices.Clone(p.Draft.Stack.Deployers), in.Deployers[p.Target.String()]...) {
		who, err := identity.Parse(line)
		if err != nil {
			return nil, refusal("%v", err)
		}
		if who.Recipient != "" && !slices.Contains(to, who.Recipient) {
			to = append(to, who.Recipient)
		}
	}
	return to, nil
}

// writeSaved writes a saved change set. Where somebody else is to approve or to deploy it others can read it, as it holds
// nothing that is not sealed; nobody else can write it. What was approved under this name before is no longer.
func (a *App) writeSaved(path string, s *Saved, others bool) error {
	b, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	in, err := a.settings()
	if err != nil {
		return err
	}
	mode := fs.FileMode(0o600)
	if others || len(s.Approvers) > 0 || slices.Contains(in.Approval, s.Target) {
		mode = 0o644
	}
	if err := files.WriteAs(path, append(b, '\n'), mode); err != nil {
		return err
	}
	former, err := filepath.Glob(globEscaped(path) + approvalPart + "*")
	if err != nil {
		return err
	}
	for _, name := range former { // one that cannot be removed counts for nothing all the same
		_ = os.Remove(name)
	}
	return nil
}

// ownersAlone refuses a file that others can write: what would be carried out may be exchanged.
func ownersAlone(path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if info.Mode().Perm()&0o022 != 0 {
		return refusal("others can write %s, and may have exchanged it: look at it with 'brickrow whatif %s', then run chmod go-w %s", path, path, path)
	}
	return nil
}

// approvalPart is between the name of a saved change set and that of somebody who
// agrees to it, where the approval lies in a file of its own.
const approvalPart = ".approval-"

// readSaved reads a saved change set with the approvals beside it, and looks
// whether all are as they were written.
func (a *App) readSaved(path string) (*Saved, error) {
	b, err := files.Read(path, maxSaved)
	if err != nil {
		return nil, err
	}
	s := &Saved{}
	if err := json.Unmarshal(b, s); err != nil || !strings.HasPrefix(s.Format, anySavedFormat) {
		return nil, refusal("%s is not a saved change set", path)
	}
	if s.Format != savedFormat {
		return nil, refusal("%s was saved by another version of Brick Row: make it anew with whatif --save", path)
	}
	if !identity.Verify(s.Key, s.content(), s.Signature) {
		return nil, refusal("%s was changed after it was saved; make it anew with whatif --save", path)
	}
	beside, err := filepath.Glob(globEscaped(path) + approvalPart + "*")
	if err != nil {
		return nil, err
	}
	for _, name := range beside {
		text, err := files.Read(name, 1<<20)
		if err != nil {
			return nil, err
		}
		var ap Approval
		if err := json.Unmarshal(text, &ap); err != nil {
			return nil, refusal("%s is not an approval: %v", name, err)
		}
		s.Approvals = append(s.Approvals, ap)
	}
	allowed, err := a.approvers(s.Target, s.Approvers)
	if err != nil {
		return nil, err
	}
	given := s.Approvals
	s.Approvals = nil
	for _, ap := range given {
		if !identity.Verify(ap.Key, s.agreed(ap), ap.Signature) {
			s.former = append(s.former, cloud.Clean(ap.By))
			continue
		}
		if err := a.mayApprove(s, ap, allowed); err != nil {
			return nil, err
		}
		s.Approvals = append(s.Approvals, ap)
	}
	return s, nil
}

// approvedBefore says whose approvals are of something else than what stands in the file now; "" is nobody's.
func (s *Saved) approvedBefore(path string) string {
	if len(s.former) == 0 || len(s.Approvals) > 0 {
		return ""
	}
	return fmt.Sprintf("the approval of %s is not of what %s holds now: it was given to what was saved there before, or is not genuine; let "+
		"'brickrow approve %s' be given again", strings.Join(s.former, ", "), path, path)
}

func globEscaped(p string) string {
	return strings.NewReplacer("\\", "\\\\", "*", "\\*", "?", "\\?", "[", "\\[").Replace(p)
}

// approvers are the keys of those who may approve: those that the stack file
// names, and those of the target. None is anybody but who saved it.
func (a *App) approvers(target string, ofStack []string) ([]string, error) {
	in, err := a.settings()
	if err != nil {
		return nil, err
	}
	var keys []string
	for _, line := range append(slices.Clone(ofStack), in.Approvers[target]...) {
		who, err := identity.Parse(line)
		if err != nil {
			return nil, refusal("%v", err)
		}
		keys = append(keys, who.Key)
	}
	return keys, nil
}

// mayApprove refuses an approval as s.mayApprove does, and where nobody is named one by who is no member of a shared store:
// anybody could make an identity for it.
func (a *App) mayApprove(s *Saved, ap Approval, allowed []string) error {
	if err := s.mayApprove(ap, allowed); err != nil || len(allowed) > 0 {
		return err
	}
	is, err := a.store.IsMember(context.Background(), ap.Key)
	if err == nil && !is {
		err = refusal("%s (%s) is no member of the store, and the target names nobody who may approve: let a member approve it, or name him with "+
			"'brickrow targets --approval %s --approver …'", cloud.Clean(ap.By), ap.Key, s.Target)
	}
	return err
}

// mayApprove refuses an approval of the one who saved it, and of one who is not
// among those that are named.
func (s *Saved) mayApprove(ap Approval, allowed []string) error {
	switch {
	case ap.Key == s.Key: // keys tell people apart, names do not
		return refusal("%s saved it: another person has to approve it", s.By)
	case len(allowed) > 0 && !slices.Contains(allowed, ap.Key):
		return refusal("%s (%s) is not among those who may approve what goes to %s in %s", ap.By, ap.Key, s.Stack,
			s.Target)
	}
	return nil
}

// Approve adds the approval of the one who asks to a saved change set. It has
// to be somebody else than the one who saved it. Where the file belongs to
// somebody else, the approval lies beside it; in is where it was written.
func (a *App) Approve(path, who string) (s *Saved, in string, err error) {
	if s, err = a.readSaved(path); err != nil {
		return nil, "", err
	}
	me, err := a.Me()
	if err != nil {
		return nil, "", err
	}
	allowed, err := a.approvers(s.Target, s.Approvers)
	if err != nil {
		return nil, "", err
	}
	ap := Approval{By: who, Key: me.Public().Key, At: time.Now().UTC()}
	if err := a.mayApprove(s, ap, allowed); err != nil {
		return nil, "", err
	}
	if slices.ContainsFunc(s.Approvals, func(have Approval) bool { return have.Key == ap.Key }) {
		return nil, "", refusal("%s has approved it already", who)
	}
	ap.Signature = me.Sign(s.agreed(ap))
	text, err := json.MarshalIndent(ap, "", "  ")
	if err != nil {
		return nil, "", err
	}
	in = path + approvalPart + unfit.ReplaceAllString(who, "_") + "-" + keyMark(ap.Key)
	s.Approvals = append(s.Approvals, ap)
	if err := files.Write(in, append(text, '\n'), 0o644); err != nil {
		return nil, "", refusal("the approval cannot be written beside %s: %v; copy the file to a folder that you "+
			"may write to, approve the copy and hand that back", path, err)
	}
	return s, in, nil
}

// keyMark tells the files of two who have the same name apart.
func keyMark(key string) string {
	sum := sha256.Sum256([]byte(key))
	return hex.EncodeToString(sum[:4])
}

var unfit = regexp.MustCompile(`[^A-Za-z0-9_-]+`)

// OpenSaved makes the preview of a saved change set again, and refuses it with
// the differences where anything has moved on since.
func (a *App) OpenSaved(ctx context.Context, path string) (*Preview, error) {
	s, err := a.readSaved(path)
	if err != nil {
		return nil, err
	}
	p, err := a.again(ctx, path, s)
	if err != nil {
		return nil, err
	}
	if err := a.savedByMember(ctx, path, s); err != nil {
		return nil, err
	}
	p.Saved, p.onFailure, p.approvers = path, s.OnFailure, s.Approvers
	p.source = &s.Source
	if p.Findings.HasErrors() {
		return p, nil
	}
	now, err := json.Marshal(p.ChangeSet)
	if err != nil {
		return nil, err
	}
	if differences := moved(s.ChangeSet, now); len(differences) > 0 {
		return nil, s.movedOn(differences)
	}
	p.By, p.ApprovedBy = s.madeBy()
	p.approvedBefore = s.approvedBefore(path)
	p.Approved = len(p.ApprovedBy) > 0
	return p, nil
}

// savedByMember refuses what somebody has saved who is no member of a shared store: anybody can make an identity, and agree with
// himself.
func (a *App) savedByMember(ctx context.Context, path string, s *Saved) error {
	is, err := a.store.IsMember(ctx, s.Key)
	if err == nil && !is {
		err = refusal("%s was saved by %s, who is no member of the store: a member has to save it", path, cloud.Clean(s.By))
	}
	return err
}

// again makes the comparison of a saved change set anew.
func (a *App) again(ctx context.Context, path string, s *Saved) (*Preview, error) {
	if s.Kind != run.KindDeploy || s.Release != "" {
		st, err := a.knownHere(ctx, path, s)
		switch {
		case err != nil:
			return nil, err
		case s.Act != nil:
			return nil, refusal("it is an action: 'brickrow deploy %s' carries it out", path)
		case s.Release != "":
			return a.WhatIfRelease(ctx, st, s.Release)
		case s.Kind == run.KindDelete:
			return a.WhatIfDelete(ctx, st)
		}
		return a.WhatIfUndo(ctx, st, s.To)
	}
	me, err := a.Me()
	if err != nil {
		return nil, err
	}
	packed, err := me.Open(s.Sealed)
	if errors.Is(err, identity.ErrNotForMe) {
		return nil, refusal("%s is sealed to those who deploy to %s, and you are not among them: they have to "+
			"carry it out; 'deployers' in the stack file names them", path, s.Target)
	}
	if err != nil {
		return nil, refusal("%s cannot be opened: %v", path, err)
	}
	rev, err := store.UnpackRevision(packed)
	if err != nil {
		return nil, refusal("%s cannot be opened: %v", path, err)
	}
	return a.whatIfAgain(ctx, s, rev)
}

// whatIfAgain compares a revision that was saved with what there is now.
func (a *App) whatIfAgain(ctx context.Context, s *Saved, rev *stack.Revision) (*Preview, error) {
	target, _ := stack.ParseTarget(s.Target)
	b := bundle.Stored(rev.Template, rev.Entry, []byte(rev.Text), rev.Files)
	written := &Parsed{from: bundle.Disk, Path: s.StackFile,
		Stack: &stack.File{Path: s.StackFile, Stack: s.Stack, Target: target, Careful: s.Careful,
			Throwaway: s.Throwaway, Approvers: s.Approvers, OnFailure: s.OnFailure, Tags: rev.Tags, Adopt: s.Adopt}}
	if text, err := files.Read(s.StackFile, tosca.MaxBytes); err == nil { // it may name rules
		file, _ := stack.ReadFile(s.StackFile, text, "")
		written.Stack.Rules, written.Stack.RulesPos = file.Rules, file.RulesPos
	}
	a.readTemplate(written, b)
	written.origin = rev.Origin
	return a.WhatIf(ctx, a.resolve(written, stack.Options{Given: givenAgain(rev), Tags: rev.Tags}, nil), s.Only...)
}

// ShowSaved is the change set of a saved file as it was saved, for who may read
// it and has nothing to compare it with.
func (a *App) ShowSaved(path string) (*Saved, error) { return a.readSaved(path) }

// Since says in Markdown what a deployment would do otherwise than when a change set of the same stack was saved.
func (a *App) Since(p *Preview, path string) (string, error) {
	s, err := a.readSaved(path)
	if err != nil {
		return "", err
	}
	if s.Stack != p.ChangeSet.Stack || s.Target != p.Target.String() {
		return "", refusal("%s is about %s in %s, and not about %s in %s", path, s.Stack, s.Target, p.ChangeSet.Stack, p.Target)
	}
	now, err := json.Marshal(p.ChangeSet)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	fmt.Fprintf(&b, "\n## Since %s looked (%s)\n\n", whatif.PlainText(s.By), s.At.UTC().Format("2006-01-02 15:04 UTC"))
	list := moved(s.ChangeSet, now)
	for _, d := range list {
		fmt.Fprintf(&b, "- %s\n", whatif.PlainText(d))
	}
	if len(list) == 0 {
		b.WriteString("Nothing would be done otherwise.\n")
	}
	return b.String(), nil
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
			out = append(out, fmt.Sprintf("%s: the same now, was %s", c.Name, c.Kind))
		case now.Kind != c.Kind:
			out = append(out, fmt.Sprintf("%s: %s now, was %s", c.Name, now.Kind, c.Kind))
		case !reflect.DeepEqual(now.Properties, c.Properties):
			out = append(out, c.Name+" is another one in the cloud by now, or would become something else")
		}
	}
	for _, c := range b.Changes {
		if find(a.Changes, c.Name) == nil {
			out = append(out, fmt.Sprintf("%s: %s now, was the same", c.Name, c.Kind))
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
