package assist

import "testing"

func TestSetInput(t *testing.T) {
	const head = "stack: aa\ntemplate: base.yaml\ntarget: x/y\n"
	for _, test := range []struct{ before, after string }{
		{"", "inputs:\n  site: two\n"},
		{"inputs:\n    beds: 3 # why\n", "inputs:\n    beds: 3 # why\n    site: two\n"},
		{"inputs:\n  site: one # why\n  beds: 3\n", "inputs:\n  site: two # why\n  beds: 3\n"},
		{"inputs:\n  site: \"one # no comment\"\n", "inputs:\n  site: two\n"},
		{"inputs:\n  site: |\n    one\n\n    more\n  beds: 3\n", "inputs:\n  site: two\n  beds: 3\n"},
		{"inputs:\n  site:\n    from_env: SITE\n  beds: 3\n", "inputs:\n  site: two\n  beds: 3\n"},
		{"inputs:\n  site: { from_env: SITE } # it\n", "inputs:\n  site: two # it\n"},
		{"inputs:\n  site:\n  beds: 3\n", "inputs:\n  site: two\n  beds: 3\n"},
		{"inputs: { beds: 3, site: one }\n", "inputs: { beds: 3, site: two }\n"},
		{"inputs: { site: 'one', beds: 3 }\n", "inputs: { site: two, beds: 3 }\n"},
		{"inputs: { beds: 3 }\n", "inputs: { site: two, beds: 3 }\n"},
		{"inputs: {}\n", "inputs: { site: two}\n"},
		{"inputs:\n  words: |\n    site: not this\n  site: one\n", "inputs:\n  words: |\n    site: not this\n  site: two\n"},
		{"inputs:\n  env:\n    site: not this\n", "inputs:\n  env:\n    site: not this\n  site: two\n"},
	} {
		w, path, _ := work(t, "‸"+head+test.before)
		edits, err := w.SetInput(path, "site", "two")
		if err != nil {
			t.Errorf("%q: %v", test.before, err)
			continue
		}
		if got := w.Text(path).ApplyAll(edits).String(); got != head+test.after {
			t.Errorf("%q is\n%s\nwant\n%s", test.before, got, head+test.after)
		}
	}
}
