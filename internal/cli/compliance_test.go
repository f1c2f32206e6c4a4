package cli

import "testing"

// What runs is held against the rules, for people and programs, and a team leaves out what does
// not suit it.
func TestComplianceOnTheCommandLine(t *testing.T) {
	s := newShell(t)
	out, errs := s.run(3, "compliance")
	s.wants(out, "✖ private-buckets: nobody may read a bucket", "set public_read to false", "nobody's old-snow-photos", "since 20")
	s.wants(errs, "not kept 13 times")
	s.run(0, "compliance", "ridge-base")
	type kept struct {
		Rule, Stack, Text string
		Resource          struct{ Name, ID, Target string }
		Complies          bool
		Since             *string
	}
	out, _ = s.run(3, "compliance", "--json", "--target", "workshop/alder-1")
	broken := 0
	for _, k := range decode[[]kept](t, out) {
		if k.Rule == "" || k.Resource.ID == "" || k.Resource.Target != "workshop/alder-1" || k.Complies != (k.Text == "") || !k.Complies && k.Since == nil {
			t.Errorf("%+v", k)
		}
		if !k.Complies {
			broken++
		}
	}
	if broken != 9 {
		t.Errorf("%d are not kept", broken)
	}
	out, _ = s.run(0, "compliance", "--built-in")
	s.wants(out, "closed-ports", "encrypted-listeners")
	for _, id := range []string{"kept-versions", "newest-images", "private-buckets", "tagged"} {
		s.run(0, "compliance", "--leave", id)
	}
	out, _ = s.run(0, "compliance")
	out2, _ := s.run(0, "compliance", "--built-in")
	s.wants(out2, "kept-versions", "(left out)")
	s.run(0, "compliance", "--take", "tagged")
	s.run(3, "compliance")
	_, errs = s.run(1, "compliance", "--leave", "taged")
	s.wants(errs, "did you mean 'tagged'?")
	if out != "" {
		t.Errorf("%s", out)
	}
	// in a what-if too, where a stack file names them
	s.write("rules-too.yaml", "tosca_definitions_version: tosca_2_0\nimports: [ { profile: brickrow.cloud:1 } ]\nservice_template:\n  node_templates:\n    gate: { type: Network, properties: { cidr: 10.1.0.0/16 } }\n    rules: { type: Rules, properties: { allow: [ { ports: \"22\", peer: 0.0.0.0/0 } ] }, requirements: [ { network: gate } ] }\n")
	file := s.write("rules-too.stack.yaml", "stack: rules-too\ntemplate: rules-too.yaml\ntarget: workshop/alder-1\nrules: [ built-in ]\n")
	out, errs = s.run(1, "whatif", file)
	s.wants(out+errs, "(rule closed-ports)", "(rule tagged)")
}
