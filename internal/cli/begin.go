package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"brickrow/internal/app"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// askInputs begins a stack and asks for what has to be filled in.
func (p *Program) askInputs(ctx context.Context, a *app.App, starter, dir, name, target string) error {
	if !p.terminal {
		return usage{errors.New("--inputs asks for values, and nobody can answer here: leave it out, and fill in the stack file")}
	}
	in := bufio.NewReader(p.In)
	if target == "" {
		var err error
		if target, err = p.askTarget(ctx, a, in); err != nil {
			return err
		}
	}
	list, err := app.Starters()
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(s app.Starter) bool { return s.Name == starter })
	if err := a.FreeName(ctx, name, target); err != nil {
		return err
	}
	written, err := app.NewStack(starter, dir, name, target)
	if err != nil {
		return err
	}
	file := filepath.Join(dir, name+".stack.yaml")
	for _, field := range list[i].Fields {
		if !app.MustFill(field) {
			continue
		}
		if err := p.askInput(ctx, a, in, file, field); err != nil {
			return err
		}
	}
	for _, name := range written {
		fmt.Fprintln(p.Out, name)
	}
	return nil
}

// askTarget asks for one of the targets; nothing leaves it to be filled in.
func (p *Program) askTarget(ctx context.Context, a *app.App, in *bufio.Reader) (string, error) {
	infos, err := a.Targets(ctx)
	if err != nil {
		return "", err
	}
	var names []string
	for _, t := range infos {
		names = append(names, t.Name)
	}
	for {
		answer, err := p.line(in, fmt.Sprintf("target (%s): ", strings.Join(names, ", ")))
		if err != nil || answer == "" {
			return "", err
		}
		if _, ok := stack.ParseTarget(answer); ok {
			return answer, nil
		}
		fmt.Fprintf(p.Err, "'%s' is not a target: write account/region\n", answer)
	}
}

// askInput asks for the value of an input, until it can be one; nothing leaves it to be
// filled in.
func (p *Program) askInput(ctx context.Context, a *app.App, in *bufio.Reader, file string, field *tosca.Property) error {
	about := field.Type.Label()
	if field.Description != "" {
		about += ": " + field.Description
	}
	if field.Type.HoldsSecret() { // which is never written down
		variable := strings.ToUpper(field.Name)
		answer, err := p.line(in, fmt.Sprintf("%s (%s)\n  the variable of the environment that has it [%s]: ", field.Name, about, variable))
		if err != nil || answer == "" || answer == variable {
			return err
		}
		return app.WriteInput(ctx, a, file, field.Name, "{ from_env: "+answer+" }")
	}
	for {
		answer, err := p.line(in, fmt.Sprintf("%s (%s): ", field.Name, about))
		if err != nil || answer == "" {
			return err
		}
		value, err := app.InputText(field, answer)
		if err == nil {
			return app.WriteInput(ctx, a, file, field.Name, value)
		}
		fmt.Fprintf(p.Err, "%v\n", err)
	}
}

// line asks a question and reads a line.
func (p *Program) line(in *bufio.Reader, question string) (string, error) {
	fmt.Fprint(p.Out, question)
	text, err := in.ReadString('\n')
	if errors.Is(err, io.EOF) { // what is left is filled in later
		err = nil
	}
	return strings.TrimSpace(text), err
}
