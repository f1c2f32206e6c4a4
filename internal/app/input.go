package app

import (
	"context"
	"strings"

	"brickrow/internal/assist"
	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// InputText is a value for an input, as somebody types it, in the YAML that a stack file
// has for it, in one line. The error says why it cannot be read; a secret is refused, as
// it would stand there in clear.
func InputText(in *tosca.Property, text string) (string, error) {
	if in.Type.HoldsSecret() {
		return "", refusal("%s is a secret, which does not belong in a stack file: write { from_env: VARIABLE } or "+
			"{ from_file: FILE } there", in.Name)
	}
	g, err := stack.ParseFlag(in.Name+"="+text, []*tosca.Property{in})
	if err != nil {
		return "", err
	}
	var findings tosca.Findings
	v := (&tosca.Env{Index: -1, Findings: &findings}).EvalAs(g.Value, in.Type, in.Name)
	tosca.Validate(in.Validation, v, in.Type, g.Value.Pos, in.Name, &findings)
	if findings.HasErrors() {
		if words := in.Metadata[tosca.Message]; words != "" {
			return "", refusal("'%s' cannot be the value of %s: %s", text, in.Name, words)
		}
		return "", refusal("%s", findings[0].Message)
	}
	return strings.TrimSpace(inline(v)), nil
}

// WriteInput writes the value of an input, as YAML, into a stack file, in the place of the one that stands there, or of
// the mark that it is to be filled in.
func WriteInput(ctx context.Context, a *App, file, name, value string) error {
	doc, err := OpenDocument(file)
	if err != nil {
		return err
	}
	edits, err := a.Assist(ctx).SetInput(file, name, value)
	if err != nil {
		return err
	}
	text := assist.NewText(doc.Text)
	line := edits[0].From.Line
	text = text.ApplyAll(edits)
	text.Lines[line] = strings.Replace(text.Lines[line], "# "+FillIn+": ", "# ", 1)
	_, err = doc.Save(text.String(), Respect)
	return err
}
