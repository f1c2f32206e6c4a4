package app

import (
	"path/filepath"
	"strings"
	"testing"
)

// A fleet file is held against the targets that there are, its stack file and the inputs of
// the template, place by place.
func TestCheckFleet(t *testing.T) {
	b := newBench(t, 100_000)
	b.write("bulletin.stack.yaml", "stack: bulletin\ntemplate: bulletin.yaml\ninputs:\n  alarm_url: a\n  db_password: { from_file: secrets/db_password }\n"+
		"  oncall_token: { from_file: secrets/oncall_token }\n")
	const whole = `fleet: bulletin
stack: bulletin.stack.yaml
places:
  - { target: workshop/*, inputs: { site: ridge, domain: ridge.example } }
  - { target: summit/birch-1, inputs: { site: peak, domain: peak.example, forecasters: 4 }, careful: true }
except: [ workshop/cedar-2 ]
waves: [ 1, rest ]
`
	for _, test := range []struct{ was, is, want string }{
		{"", "", ""},
		{"bulletin.stack.yaml", "gone.stack.yaml", "2 no-stack-file"},
		{"bulletin.stack.yaml", "bulletin-test.stack.yaml", "2 pinned-target"},
		{"workshop/*", "workshp/*", "4 unknown-target"},
		{"workshop/cedar-2", "workshop/cedar-9", "6 unknown-target"},
		{"site: ridge", "site: { filled_by: region }", "4 invalid-value"}, // alder-1 has a digit
		{"site: ridge", "sight: ridge", "4 missing-input 4 unknown-input"},
		{"forecasters: 4", "forecasters: 40", "5 invalid-value"},
		{"forecasters: 4", "forecasters: many", "5 wrong-type"},
		{"summit/birch-1", "workshop/*", "4 no-effect"},
		{"site: ridge, ", "", "4 missing-input"},
	} {
		path := b.write("bulletin.fleet.yaml", strings.Replace(whole, test.was, test.is, 1))
		found, err := b.Check(t.Context(), path, Values{})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, f := range found {
			if f.File != path {
				t.Errorf("%s: %v is of another file", test.is, f)
			}
			got = append(got, strings.TrimSpace(filepath.Base(f.Pos.Short())[len("bulletin.fleet.yaml:"):]+" "+f.Code))
		}
		if strings.Join(got, " ") != test.want {
			t.Errorf("%q: %v, want %s", test.is, found, test.want)
		}
	}
}
