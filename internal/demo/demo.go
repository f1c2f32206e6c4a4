// Package demo makes the demo's data: the stacks of Kestrel Ridge, brought to
// where they are by really deploying them into the stand-in cloud, at high
// speed.
package demo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"brickrow/examples"
	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/run"
	"brickrow/internal/stack"
	"brickrow/internal/yard"
)

// Speed is how much faster than nominal the demo's cloud runs.
const Speed = 2

// preparing is how fast the history of the demo is made.
const preparing = 2000

// Project is the folder with the demo's templates, beside the data folder:
// the files of secrets in it are in clear, and nothing in the data folder is.
func Project(home string) string { return filepath.Clean(home) + "-project" }

// The files that say that a folder is the demo's, and that it is complete.
const (
	begun  = ".brickrow-demo"
	marker = "demo-ready"
)

// Prepare makes the demo in the folder home unless it is there.
func Prepare(ctx context.Context, home string, say func(string)) error {
	if _, err := os.Stat(filepath.Join(home, marker)); err == nil || !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return Reset(ctx, home, say)
}

// Reset makes the demo in the folder home anew. Only files of the demo are ever
// removed.
func Reset(ctx context.Context, home string, say func(string)) error {
	if err := clean(home); err != nil {
		return err
	}
	say("preparing the demo: deploying the stacks of Kestrel Ridge into the stand-in cloud …")
	dir := Project(home)
	for _, d := range []string{home, dir} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(d, begun), nil, 0o600); err != nil {
			return err
		}
	}
	if err := copyExamples(dir); err != nil {
		return err
	}
	if err := history(ctx, home, dir); err != nil {
		return fmt.Errorf("prepare the demo: %w", err)
	}
	return os.WriteFile(filepath.Join(home, marker), []byte("the demo of Kestrel Ridge\n"), 0o600)
}

// clean removes what an earlier demo left, and refuses to touch a store that
// is not a demo's.
func clean(home string) error {
	for _, f := range []struct{ file, mark, holds string }{
		{filepath.Join(home, app.DataFiles[0]), filepath.Join(home, begun), "stacks"},
		{Project(home), filepath.Join(Project(home), begun), "files"},
	} {
		_, errMark := os.Stat(f.mark)
		if _, err := os.Stat(f.file); err == nil && errMark != nil {
			return fmt.Errorf("%s holds %s that are not the demo's; give another folder with --home",
				filepath.Dir(f.mark), f.holds)
		}
	}
	for _, name := range append(slices.Clone(app.DataFiles), marker, tourFile) {
		if err := os.RemoveAll(filepath.Join(home, name)); err != nil {
			return err
		}
	}
	return os.RemoveAll(Project(home))
}

func copyExamples(dir string) error {
	root, err := fs.Sub(examples.Ridge, "kestrel-ridge")
	if err != nil {
		return err
	}
	if err := os.CopyFS(dir, root); err != nil {
		return err
	}
	secrets := filepath.Join(dir, "secrets")
	if err := os.MkdirAll(secrets, 0o700); err != nil {
		return err
	}
	for name, value := range map[string]string{"db_password": "lawine-grat-0815",
		"oncall_token": "pager-hoarfrost-42"} {
		if err := os.WriteFile(filepath.Join(secrets, name), []byte(value+"\n"), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// history deploys what the demo begins with.
func history(ctx context.Context, home, dir string) (err error) {
	a, err := app.Open(app.Options{Home: home, Store: app.InFile, Speed: preparing})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, a.Close()) }()
	file := func(name string) string { return filepath.Join(dir, name+".stack.yaml") }
	for _, d := range []struct {
		file, note string
		flags      []string
	}{
		{"ridge-base", "", nil},
		{"snow-probe", "for the trial at the pass", nil},
		{"bulletin-test", "", []string{"readers=1", "forecasters=1", "db_size=small"}},
		{"bulletin-test", "a second reader for the thaw", []string{"readers=2", "db_size=small"}},
		{"bulletin-live", "", nil},
	} {
		if err := deploy(ctx, a, file(d.file), d.note, d.flags, run.StatusDone); err != nil {
			return fmt.Errorf("%s: %w", d.file, err)
		}
	}
	if err := failOnce(ctx, a, file("bulletin-test")); err != nil {
		return err
	}
	if err := removeProbe(ctx, a); err != nil {
		return err
	}
	return byHand(ctx, a)
}

func deploy(ctx context.Context, a *app.App, file, note string, flags []string, want run.Status) error {
	d, err := a.Load(ctx, file, app.Values{Flags: flags})
	if err != nil {
		return err
	}
	p, err := a.WhatIf(ctx, d)
	if err != nil {
		return err
	}
	p.Note = note
	return carry(ctx, a, p, "undo", want)
}

func carry(ctx context.Context, a *app.App, p *app.Preview, onFailure stack.OnFailure, want run.Status) error {
	t, err := a.Prepare(ctx, p, onFailure)
	if err != nil {
		return err
	}
	r, err := a.Execute(ctx, t.Run.ID, t.Token)
	if err != nil {
		return err
	}
	if r.State != want {
		return fmt.Errorf("the run ended %s: %s", r.State, r.Reason)
	}
	return nil
}

// failOnce leaves a failed and undone run in the history.
func failOnce(ctx context.Context, a *app.App, file string) error {
	f := yard.Fault{Name: "readings_db", On: "update", At: "growing the storage", Times: 1,
		Reason: "no storage host has 40 GiB left for a small database; size medium, or at most 30 GiB, would fit"}
	if _, err := a.Door.AddFault(ctx, f); err != nil {
		return err
	}
	return deploy(ctx, a, file, "more room for the storm week", []string{"readers=3", "db_size=small", "db_storage=40 GiB", "forecasters=3"},
		run.StatusUndone)
}

func removeProbe(ctx context.Context, a *app.App) error {
	st, err := a.Find(ctx, "snow-probe")
	if err != nil {
		return err
	}
	p, err := a.WhatIfDelete(ctx, st)
	if err != nil {
		return err
	}
	p.Note = "the trial is over"
	return carry(ctx, a, p, "hold", run.StatusDone)
}

// byHand is what somebody has done past all stacks: a port that is open, and a trial that
// nobody has cleared away.
func byHand(ctx context.Context, a *app.App) error {
	t := stack.Target{Account: "workshop", Region: "alder-1"}
	list, err := a.Cloud.List(ctx, t, "bulletin-test")
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(r cloud.Resource) bool { return r.Tags["node"] == "reader_rules" })
	if i < 0 {
		return errors.New("reader_rules is not in the cloud")
	}
	allow := append(list[i].Properties["allow"].([]any),
		map[string]any{"direction": "in", "protocol": "tcp", "ports": "22", "peer": "10.8.0.0/16"})
	ref := cloud.Ref{Target: t, Type: list[i].Type, ID: list[i].ID}
	op, err := a.Cloud.Update(ctx, ref, "by-hand-1", cloud.Request{Properties: map[string]any{"allow": allow}})
	if _, err := ended(ctx, a, ref, op, err); err != nil {
		return err
	}
	made := map[string]string{}
	for i, r := range []cloud.Request{
		{Type: "Network", Properties: map[string]any{"cidr": "10.93.0.0/16"}, Tags: map[string]string{"for": "hut-trial"}},
		{Type: "Subnet", Properties: map[string]any{"cidr": "10.93.1.0/24"}, Links: map[string][]string{"network": {"Network"}},
			Tags: map[string]string{"for": "hut-trial"}},
		{Type: "Server", Properties: map[string]any{"image": "fern-11", "size": "small"}, Links: map[string][]string{"subnet": {"Subnet"}},
			Tags: map[string]string{"for": "hut-trial"}},
		{Type: "Bucket", Properties: map[string]any{"name": "old-snow-photos", "public_read": true}},
		{Type: "Queue"},
	} {
		for name, of := range r.Links {
			r.Links[name] = []string{made[of[0]]}
		}
		op, err := a.Cloud.Create(ctx, t, fmt.Sprint("trial-", i), r)
		if op, err = ended(ctx, a, cloud.Ref{Target: t, Type: r.Type}, op, err); err != nil {
			return err
		}
		made[r.Type] = op.ResourceID
	}
	return nil
}

// ended waits for the end of an operation.
func ended(ctx context.Context, a *app.App, ref cloud.Ref, op cloud.Operation, err error) (cloud.Operation, error) {
	for err == nil && !op.Ended() {
		ref.ID = op.ResourceID
		op, err = a.Cloud.Operation(ctx, ref, op.ID)
	}
	if err == nil && op.Problem != nil {
		err = op.Problem
	}
	return op, err
}
