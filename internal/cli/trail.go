package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

type jsonTrail struct {
	Resource string      `json:"resource"`
	Changes  []jsonTrace `json:"changes"`
}

type jsonTrace struct {
	Time      time.Time       `json:"time"`
	Seen      time.Time       `json:"seen"`
	By        stack.Author    `json:"by"`
	Run       int             `json:"run"`
	Kind      stack.TraceKind `json:"kind"`
	Target    string          `json:"target"`
	Stack     string          `json:"stack"`
	Resource  string          `json:"resource"`
	Type      string          `json:"type"`
	ID        string          `json:"id"`
	Path      string          `json:"path"`
	Before    tosca.Value     `json:"before"`
	After     tosca.Value     `json:"after"`
	Relations *jsonRelations  `json:"relations"`
}

type jsonRelations struct {
	Before []string `json:"before"`
	After  []string `json:"after"`
}

func tracesJSON(list []stack.Trace) []jsonTrace {
	out := []jsonTrace{}
	for _, t := range list {
		of := jsonTrace{Time: t.At.UTC(), Seen: t.Seen.UTC(), By: t.Author, Run: t.Run, Kind: t.Kind, Target: t.Target.String(), Stack: t.Stack,
			Resource: t.Node, Type: t.Type, ID: t.ID}
		if len(t.Differences) == 0 {
			out = append(out, of)
		}
		for _, c := range t.Differences {
			one := of
			one.Path, one.Before, one.After = c.Path, c.Before, c.After
			if c.Link {
				one.Relations = &jsonRelations{texts(c.Before), texts(c.After)}
			}
			out = append(out, one)
		}
	}
	return out
}

func texts(v tosca.Value) []string {
	out := []string{}
	switch v := v.(type) {
	case tosca.List:
		for _, e := range v {
			out = append(out, tosca.Show(e))
		}
	case tosca.String:
		out = append(out, string(v))
	}
	return out
}

// trail are the flags of history that ask for the time line of what is in the cloud.
type trail struct {
	resource, since, until, target, at string
	patch, write, yes, net             bool
}

func (t *trail) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&t.resource, "resource", "", "what has become of a resource in the cloud, by runs and by others; a name or an id")
	f.StringVar(&t.since, "since", "", "what has become of resources in the cloud from then on: 14:30, yesterday, 2026-11-26, 5m or 3d")
	f.StringVar(&t.until, "until", "", "up to then")
	f.StringVar(&t.target, "target", "", "of resources in this account/region")
	f.BoolVar(&t.net, "net", false, "with --since: what is left of it, without what was put back or went again")
	f.StringVar(&t.at, "back-to", "", "with --resource: let the files say what it was like then, so that deploying them brings it back")
	f.BoolVar(&t.patch, "patch", false, "with --back-to: print that as a unified diff")
	f.BoolVar(&t.write, "write", false, "with --back-to: write it into the files")
	f.BoolVar(&t.yes, "yes", false, "do not ask")
	cmd.MarkFlagsMutuallyExclusive("patch", "write")
}

func (t *trail) wanted() bool { return t.net || t.resource+t.since+t.until+t.target+t.at != "" }

// trailOf prints what has become of resources in the cloud.
func (p *Program) trailOf(ctx context.Context, a *app.App, args []string, t *trail, asJSON bool) error {
	w := stack.Which{Target: t.target}
	var err error
	now := time.Now()
	if t.since != "" {
		if w.Since, err = pointInTime("since", t.since, now); err != nil {
			return err
		}
	}
	if t.until != "" {
		if w.Until, err = pointInTime("until", t.until, now); err != nil {
			return err
		}
	}
	var st *stack.Stack
	if len(args) > 0 {
		if st, err = a.Find(ctx, args[0]); err != nil {
			return err
		}
		w.Stack, w.Target = st.Name, st.Target.String()
	}
	switch {
	case t.at != "" && (st == nil || t.resource == ""):
		return usage{fmt.Errorf("--back-to is of one resource: say which with --resource")}
	case t.at != "":
		at, err := pointInTime("back-to", t.at, now)
		if err != nil {
			return err
		}
		written, err := a.WriteFormer(ctx, st, t.resource, at)
		if err != nil {
			return err
		}
		return p.written(ctx, a, written, t.write, t.yes)
	case t.resource != "" && st != nil:
		which, err := a.ResourceAt(ctx, st, t.resource)
		if err != nil {
			return err
		}
		which.Since, which.Until = w.Since, w.Until
		w = which
	case t.resource != "":
		w.ID = t.resource
	}
	list, err := a.Traces(ctx, w)
	if err != nil {
		return err
	}
	if t.net {
		list = stack.Net(list)
	}
	if asJSON {
		return p.json(jsonTrail{t.resource, tracesJSON(list)})
	}
	if len(list) == 0 {
		fmt.Fprintln(p.Out, "nothing was seen to change")
	}
	for _, one := range list {
		p.traceText(&one)
	}
	return nil
}

func (p *Program) traceText(t *stack.Trace) {
	name := t.ID
	if t.Node != "" {
		name = t.Stack + " " + t.Node
	}
	p.wrapped(t.At.Local().Format("2006-01-02 15:04:05")+" ", fmt.Sprintf("%s %s %s  (%s %s)", name, t.Kind, t.Who(), t.Type, t.ID))
	for _, c := range t.Differences {
		p.wrapped("    ", fmt.Sprintf("%s  %s → %s", cloud.Clean(c.Path), shownOr(c.Before), shownOr(c.After)))
	}
}
