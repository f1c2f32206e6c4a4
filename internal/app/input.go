package app

import (
	"strings"

	"brickrow/internal/stack"
	"brickrow/internal/tosca"
)

// InputText is a value for an input, as somebody types it, in the YAML that a stack file
// has for it, in one line. The error says why it cannot be read; a secret is refused, as
// it would stand there in clear.
func InputText(in *tosca.Property, text string) (string, error) {
	if in.Type.HoldsSecret() {
		return "", refusal("%s is a secret, which does not belong into a stack file: write { from_env: VARIABLE } or "+
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
		return "", refusal("%s", findings[0].Message)
	}
	return strings.TrimSpace(inline(v)), nil
}
