package cli

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"brickrow/internal/app"
	"brickrow/internal/bundle"
	"brickrow/internal/cloud"
	"brickrow/internal/export"
	"brickrow/internal/files"
	"brickrow/internal/fleet"
	"brickrow/internal/profile"
	"brickrow/internal/rules"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// own is what --target without a value stands for.
const own = "own"

func (p *Program) check() *cobra.Command {
	var asJSON, sarif bool
	cmd := &cobra.Command{Use: "check FILE...",
		Short: "Check templates and stack files, and hold them against the rules of the team; with --target, against what is in the cloud too",
		Args:  cobra.MinimumNArgs(1)}
	v := valueFlags(cmd)
	cmd.Flags().BoolVar(&asJSON, "json", false, "findings as JSON")
	cmd.Flags().BoolVar(&sarif, "sarif", false, "findings as SARIF 2.1.0")
	cmd.MarkFlagsMutuallyExclusive("json", "sarif")
	target := cmd.Flags().Lookup("target")
	target.NoOptDefVal = own
	target.Usage = "check against the target too: that of the stack file, or --target=account/region for a " +
		"template alone"
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error {
			all := tosca.Findings{}
			check := a.Check
			if v.Target != "" {
				check = a.CheckTarget
			}
			if v.Target == own {
				v.Target, args = beside(args)
			}
			for _, path := range args {
				findings, err := check(cmd.Context(), path, *v)
				if err != nil { // what is wrong with the others is told all the same
					findings = app.CannotCheck(path, err)
				}
				all = append(all, findings...)
			}
			all.Sort() // what several files share is told once
			if sarif {
				wd, err := os.Getwd()
				if err != nil {
					return err
				}
				if err := export.SARIF(p.Out, all, wd, Version(), func(code string) string { return tosca.Codes[code] }); err != nil {
					return err
				}
			} else if asJSON {
				if err := p.json(map[string]any{"findings": all}); err != nil {
					return err
				}
			} else {
				p.findings(all)
				if len(all) == 0 {
					fmt.Fprintln(p.Out, "nothing wrong found")
				}
			}
			if all.HasErrors() {
				return exit(ExitRefused)
			}
			return nil
		})
	}
	return cmd
}

// beside finds a target that was written after --target with a space, which is
// taken for a file: account/region, and no such file.
func beside(args []string) (target string, files []string) {
	for i, arg := range args {
		_, ok := stack.ParseTarget(arg)
		if _, err := os.Stat(arg); ok && err != nil && !strings.Contains(arg, ".") && len(args) > 1 {
			return arg, slices.Delete(slices.Clone(args), i, i+1)
		}
	}
	return "", args
}

func (p *Program) format() *cobra.Command {
	var checkOnly, print bool
	cmd := &cobra.Command{Use: "fmt FILE...",
		Short: "Write templates and stack files in their one form; - reads from the input", Args: cobra.MinimumNArgs(1)}
	cmd.Flags().BoolVar(&checkOnly, "check", false,
		"change nothing; exit with 1 and name the files that are not in their form")
	cmd.Flags().BoolVar(&print, "print", false, "print the formatted text and change nothing")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		failed := false
		for _, name := range args {
			var text []byte
			var err error
			if name == "-" {
				text, err = io.ReadAll(io.LimitReader(p.In, tosca.MaxBytes+1))
			} else {
				text, err = files.Read(name, tosca.MaxBytes)
			}
			if err != nil {
				return err
			}
			out, changed, findings := app.Format(name, text)
			p.findings(findings)
			switch {
			case findings.HasErrors():
				failed = true
			case print || name == "-":
				if _, err := p.Out.Write(out); err != nil {
					return err
				}
			case changed && checkOnly:
				fmt.Fprintln(p.Out, name)
				failed = true
			case changed:
				if err := app.WriteFormatted(name, out); err != nil {
					return err
				}
				fmt.Fprintln(p.Out, name)
			}
		}
		if failed {
			return exit(ExitRefused)
		}
		return nil
	}
	return cmd
}

type jsonInput struct {
	Name   string       `json:"name"`
	Value  tosca.Value  `json:"value"`
	Origin stack.Origin `json:"origin"`
}

func (p *Program) resolve() *cobra.Command {
	var origins, asJSON bool
	cmd := &cobra.Command{Use: "resolve FILE",
		Short: "Print a template with its inputs filled in and its counts expanded", Args: cobra.ExactArgs(1)}
	v := valueFlags(cmd)
	cmd.Flags().BoolVar(&origins, "origins", false, "print the value of each input, and where it comes from")
	cmd.Flags().BoolVar(&asJSON, "json", false, "with --origins: as JSON")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return p.with(func(a *app.App) error {
			v.Strict = true
			d, err := a.Load(cmd.Context(), args[0], *v)
			if err != nil {
				return err
			}
			p.findings(d.Findings)
			if origins {
				if err := p.origins(d, asJSON); err != nil {
					return err
				}
			}
			if d.Findings.HasErrors() {
				return exit(ExitRefused)
			}
			if origins {
				return nil
			}
			text, err := d.Wanted.ResolvedTemplate()
			if err != nil {
				return err
			}
			_, err = p.Out.Write(text)
			return err
		})
	}
	return cmd
}

func (p *Program) origins(d *app.Draft, asJSON bool) error {
	if asJSON {
		out := []jsonInput{}
		for _, in := range d.Wanted.Inputs {
			out = append(out, jsonInput{in.Name, in.Value, in.Origin})
		}
		return p.json(map[string]any{"inputs": out})
	}
	wide := 0
	for _, in := range d.Wanted.Inputs {
		wide = max(wide, len(in.Name))
	}
	for _, in := range d.Wanted.Inputs {
		fmt.Fprintf(p.Out, "%-*s  %s  (%s)\n", wide, in.Name, shown(in.Value), cloud.Clean(in.Origin.String()))
	}
	return nil
}

func (p *Program) schema() *cobra.Command {
	cmd := &cobra.Command{Use: "schema template | stack [TEMPLATE] | rules | fleet",
		Short: "Print the JSON Schema of templates, stack files, rules or fleet files, for editors",
		Long: `Print a JSON Schema: of templates with the shipped types, of stack files, of files
of rules, or of fleet files.
With the path of a template, the schema of stack files knows its inputs.`,
		Args: cobra.RangeArgs(1, 2), ValidArgs: []string{"template", "stack", "rules", "fleet"}}
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		switch {
		case args[0] == "template" && len(args) == 1:
			return p.json(tosca.Schema(profile.Read().Library))
		case args[0] == "rules" && len(args) == 1:
			return p.json(rules.FileSchema())
		case args[0] == "fleet" && len(args) == 1:
			return p.json(fleet.Schema(nil))
		case args[0] == "stack" && len(args) == 1:
			return p.json(stack.FileSchema(nil))
		case args[0] == "stack":
			b, err := bundle.Open(bundle.Disk, args[1])
			if err != nil {
				return err
			}
			f, findings := b.Read(profile.Read().Load)
			if p.findings(findings); findings.HasErrors() || f.Service == nil {
				return exit(ExitRefused)
			}
			return p.json(stack.FileSchema(append([]*tosca.Property{}, f.Service.Inputs...)))
		}
		return usage{fmt.Errorf("there is a schema of 'template', 'stack', 'rules' and 'fleet', not of '%s'",
			strings.Join(args, " "))}
	}
	return cmd
}

func (p *Program) pack() *cobra.Command {
	var out, entry string
	cmd := &cobra.Command{Use: "pack DIR -o FILE.csar",
		Short: "Pack a template and all that it reads into an archive", Args: cobra.ExactArgs(1)}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the archive to write")
	cmd.Flags().StringVar(&entry, "entry", "", "the template, where the folder has several")
	_ = cmd.MarkFlagRequired("output") // it is there
	asJSON := jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		if !bundle.IsArchive(out) {
			return usage{fmt.Errorf("%s: the name of an archive ends in .csar", out)}
		}
		n, findings, err := app.Pack(args[0], entry, out)
		p.findings(findings)
		if err != nil {
			return err
		}
		if findings.HasErrors() {
			return exit(ExitRefused)
		}
		return p.told(*asJSON, map[string]any{"archive": out, "files": n}, "%s: %s", out, stack.Count(n, "file"))
	}
	return cmd
}

func (p *Program) starters() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{Use: "starters", Short: "List the small stacks to begin with", Args: cobra.NoArgs}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.RunE = func(*cobra.Command, []string) error {
		list, err := app.Starters()
		if err != nil {
			return err
		}
		if asJSON {
			return p.json(list)
		}
		for _, s := range list {
			fmt.Fprintf(p.Out, "%-22s %s\n", s.Name, s.Description)
		}
		fmt.Fprintf(p.Out, "\nsuch as 'brickrow new %s first-stack', which writes one into a folder\n", list[0].Name)
		return nil
	}
	return cmd
}

func (p *Program) newFrom() *cobra.Command {
	var target, name string
	var ask bool
	cmd := &cobra.Command{Use: "new STARTER DIR",
		Short: "Begin a stack: write a starter and its stack file into a folder", Args: cobra.ExactArgs(2)}
	cmd.Flags().StringVar(&target, "target", "", "account/region it goes to")
	cmd.Flags().StringVar(&name, "name", "", "name of the stack (default: that of the starter)")
	cmd.Flags().BoolVar(&ask, "inputs", false, "ask for what has to be filled in; it needs a terminal")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if ask {
			return p.with(func(a *app.App) error {
				return p.askInputs(cmd.Context(), a, args[0], args[1], cmp.Or(name, args[0]), target)
			})
		}
		if _, ok := stack.ParseTarget(target); target != "" && !ok {
			return usage{fmt.Errorf("'%s' is not a target: write account/region", target)}
		}
		if target != "" {
			if err := p.with(func(a *app.App) error { return a.FreeName(cmd.Context(), cmp.Or(name, args[0]), target) }); err != nil {
				return err
			}
		}
		written, err := app.NewStack(args[0], args[1], cmp.Or(name, args[0]), target)
		if err != nil {
			return err
		}
		for _, name := range written {
			text, err := files.Read(name, tosca.MaxBytes)
			if err != nil {
				return err
			}
			note := ""
			if n := bytes.Count(text, []byte(app.FillIn)) - 1; strings.HasSuffix(name, ".stack.yaml") && n > 0 {
				note = fmt.Sprintf("   fill in the %s marked %s", count(n, "line"), app.FillIn)
			}
			fmt.Fprintf(p.Out, "%s%s\n", name, note)
		}
		return nil
	}
	return cmd
}

func (p *Program) targets() *cobra.Command {
	var asJSON bool
	var careful, notCareful, approval, noApproval, save string
	var approvers []string
	cmd := &cobra.Command{Use: "targets", Short: "List the accounts and regions, and who one is there",
		Args: cobra.NoArgs}
	cmd.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	cmd.Flags().StringVar(&careful, "careful", "", "make this target a careful one: its stacks are slower to confirm")
	cmd.Flags().StringVar(&notCareful, "not-careful", "", "make this target an ordinary one again")
	cmd.Flags().StringVar(&approval, "approval", "",
		"let deployments to this target need the approval of a second person")
	cmd.Flags().StringArrayVar(&approvers, "approver", nil,
		"with --approval: the identity of one who may give it ('brickrow identity' prints one's own); may be given "+
			"several times")
	cmd.Flags().StringVar(&noApproval, "no-approval", "", "let them need none again; a second person has to agree to that too (--save)")
	cmd.Flags().StringVar(&save, "save", "", "with --approval or --no-approval: do nothing, and save it to this file, from which 'deploy' does it")
	cmd.MarkFlagsMutuallyExclusive("approval", "no-approval")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return p.with(func(a *app.App) error {
			ctx := cmd.Context()
			if save != "" {
				target := approval + noApproval
				if target == "" {
					return usage{errors.New("--save goes with --approval or --no-approval")}
				}
				if err := a.SaveMark(ctx, target, approval != "", approvers, save); err != nil {
					return err
				}
				return p.told(asJSON, map[string]any{"target": target, "approval": approval != "", "file": save}, "saved as %s", save)
			}
			for _, set := range []struct {
				target string
				do     func(target string) error
			}{
				{careful, func(t string) error { return a.Set(ctx, app.Careful, t) }},
				{notCareful, func(t string) error { return a.Unset(ctx, app.Careful, t) }},
				{approval, func(t string) error { return a.Set(ctx, app.NeedsApproval, t, approvers...) }},
				{noApproval, func(t string) error { return a.Unset(ctx, app.NeedsApproval, t) }},
			} {
				if set.target == "" {
					continue
				}
				if err := set.do(set.target); err != nil {
					return err
				}
			}
			list, err := a.Targets(cmd.Context())
			if err != nil {
				return err
			}
			if asJSON {
				return p.json(list)
			}
			usable := len(list) == 0
			for _, t := range list {
				note := ""
				if t.Careful {
					note = "  careful"
				}
				if t.Approval {
					note += "  needs approval"
				}
				if t.Problem != "" {
					fmt.Fprintf(p.Out, "%-18s cannot be used: %s%s\n", t.Name, t.Problem, note)
					continue
				}
				usable = true
				fmt.Fprintf(p.Out, "%-18s as %s, may %s%s\n", t.Name, t.Who, strings.Join(t.May, " "), note)
			}
			if !usable { // who is let into one account of several is well off
				return exit(ExitRefused)
			}
			return nil
		})
	}
	return cmd
}
