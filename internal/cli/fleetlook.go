package cli

import (
	"bytes"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/cloud"
	"brickrow/internal/draw"
	"brickrow/internal/export"
	"brickrow/internal/files"
	"brickrow/internal/fleet"
	"brickrow/internal/rules"
	"brickrow/internal/stack"
)

// fleetJUnit writes how the places of a rollout stand: a suite for each wave.
func (p *Program) fleetJUnit(path string, r *app.Rollout, places []app.PlaceOf) error {
	j := &export.JUnit{Name: "fleet " + r.Fleet}
	var suites []export.Suite
	for _, x := range places {
		name := fmt.Sprintf("%s, rollout %d, wave %d", r.Fleet, r.Number, x.Wave)
		if n := len(suites); n == 0 || suites[n-1].Name != name {
			suites = append(suites, export.Suite{Name: name, At: r.Started.UTC().Format("2006-01-02T15:04:05"), Hostname: r.Origin.Host})
		}
		c := export.Check{Name: x.Stack, Class: x.Target.String(), Time: export.Seconds(app.PlaceTook(x))}
		switch {
		case x.State == fleet.Failed:
			c.Failure = &export.Failure{Message: cloud.Clean(x.Reason), Kind: string(x.RunState), Text: cloud.Clean(x.Reason)}
		case !x.State.Over():
			c.Skipped = &export.Skipped{Message: "it is " + string(x.State)}
		}
		s := &suites[len(suites)-1]
		s.Cases = append(s.Cases, c)
	}
	for _, s := range suites {
		j.Add(s)
	}
	return writeJUnit(path, j)
}

func writeJUnit(path string, j *export.JUnit) error {
	var b bytes.Buffer
	if err := j.Write(&b); err != nil {
		return err
	}
	return files.Write(path, b.Bytes(), 0o644)
}

// members are the stacks of a fleet that are there.
func members(ctx context.Context, a *app.App, name string) ([]*stack.Stack, error) {
	list, err := a.MembersOf(ctx, name)
	return slices.DeleteFunc(list, func(st *stack.Stack) bool { return st.State == stack.Removed || st.State == stack.Empty }), err
}

type jsonFleetDrift struct {
	Fleet  string      `json:"fleet"`
	Places []jsonDrift `json:"places"`
}

func (p *Program) fleetDrift() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{Use: "drift FLEETFILE", Short: "Say where the stacks of a fleet are not as they are recorded; exit code 3 where one is not",
		Args: cobra.ExactArgs(1)}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onFleet(ctx, args[0], func(a *app.App, name string) error {
			list, err := members(ctx, a, name)
			if err != nil {
				return err
			}
			out := jsonFleetDrift{name, []jsonDrift{}}
			differ := 0
			for _, st := range list {
				d, err := a.Drift(ctx, st)
				if err != nil {
					return fmt.Errorf("%s: %w", st.Target, err)
				}
				if !d.Empty() {
					differ++
				}
				if asJSON {
					out.Places = append(out.Places, driftJSON(d))
				} else if !d.Empty() {
					p.driftText(d)
				}
			}
			if asJSON {
				if err := p.json(out); err != nil {
					return err
				}
			} else {
				fmt.Fprintf(p.Out, "%s: %d of %d places differ\n", name, differ, len(list))
			}
			if differ > 0 {
				return exit(ExitChanges)
			}
			return nil
		})
	}
	return cmd
}

func (p *Program) fleetCompliance() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{Use: "compliance FLEETFILE", Short: "Hold what runs in a fleet against the rules; exit code 3 where one is not kept",
		Args: cobra.ExactArgs(1)}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON, also what complies")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		return p.onFleet(ctx, args[0], func(a *app.App, name string) error {
			list, err := members(ctx, a, name)
			if err != nil {
				return err
			}
			mine := map[string]bool{}
			var where []stack.Target
			for _, st := range list {
				mine[st.Name] = true
				where = append(where, st.Target)
			}
			var all []app.Kept
			if len(where) > 0 {
				v, err := a.Look(ctx, where...)
				if err != nil {
					return err
				}
				kept, findings, err := a.Compliance(ctx, v)
				if err != nil {
					return err
				}
				p.findings(findings)
				all = slices.DeleteFunc(kept, func(k app.Kept) bool { return k.Resource.Owner == nil || !mine[k.Resource.Owner.Stack] })
			}
			return p.kept(all, asJSON)
		})
	}
	return cmd
}

func (p *Program) fleetDraw() *cobra.Command {
	var out string
	cmd := &cobra.Command{Use: "draw FLEETFILE -o FILE.svg|FILE.pdf", Short: "Draw how the last rollout of a fleet stands: accounts down, regions across",
		Args: cobra.ExactArgs(1)}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file; its name ends in .svg or .pdf")
	if err := cmd.MarkFlagRequired("output"); err != nil {
		panic(err) // the flag is above
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if ext := strings.ToLower(filepath.Ext(out)); ext != ".svg" && ext != ".pdf" {
			return usage{fmt.Errorf("%s: the name must end in .svg or .pdf", out)}
		}
		return p.onFleet(cmd.Context(), args[0], func(a *app.App, name string) error {
			r, places, _, err := a.LastRollout(cmd.Context(), name)
			if err != nil {
				return err
			}
			about := fmt.Sprintf("rollout %d by %s: %s; %s", r.Number, r.By, r.State, counted(places))
			picture := draw.Fleet{Name: r.Fleet, About: about, Made: time.Now()}
			for _, x := range places {
				picture.Places = append(picture.Places, draw.Place{Target: x.Target, Wave: x.Wave, State: string(x.State), Reason: failedOf(x),
					Took: app.PlaceTook(x)})
			}
			var b bytes.Buffer
			if err := draw.Write(&b, out, picture); err != nil {
				return err
			}
			return files.Write(out, b.Bytes(), 0o644)
		})
	}
	return cmd
}

// rulesJUnit writes what came of the tests of rules: a suite for each rule.
func rulesJUnit(path string, outcomes []rules.Outcome) error {
	j := &export.JUnit{Name: "rules"}
	var suites []export.Suite
	for _, o := range outcomes {
		if n := len(suites); n == 0 || suites[n-1].Name != o.Rule {
			suites = append(suites, export.Suite{Name: o.Rule})
		}
		c := export.Check{Name: o.Name, Class: o.Rule}
		if !o.Good {
			c.Failure = &export.Failure{Message: o.Reason, Kind: "rule", Text: o.Reason + " (" + o.Pos.String() + ")"}
		}
		s := &suites[len(suites)-1]
		s.Cases = append(s.Cases, c)
	}
	for _, s := range suites {
		j.Add(s)
	}
	return writeJUnit(path, j)
}

// probesJUnit writes how the probes of a stack have answered.
func probesJUnit(path string, st *stack.Stack, list []app.Probed) error {
	s := export.Suite{Name: "probes of " + st.Name}
	for _, r := range list {
		c := export.Check{Name: r.Name, Class: st.Name + "@" + st.Target.String(), Time: export.Seconds(r.Took)}
		if !r.Well {
			c.Failure = &export.Failure{Message: cloud.Clean(r.Said), Kind: r.Kind, Text: cloud.Clean(r.Said)}
		}
		s.Cases = append(s.Cases, c)
	}
	j := &export.JUnit{Name: "probes"}
	j.Add(s)
	return writeJUnit(path, j)
}
