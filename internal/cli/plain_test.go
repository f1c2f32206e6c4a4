package cli

import "testing"

func TestPlainLines(t *testing.T) {
	for text, want := range map[string]string{
		"a\tb\r\nc\n":           "a\tb\nc\n",
		"ok \ufffd \x1b[31m":    "ok \ufffd ·[31m",
		"latin \xe9 \x07":       "latin \xe9 ·",
		"half \xe2\x82 and all": "half \xe2\x82 and all",
	} {
		if got := plainLines(text); got != want {
			t.Errorf("%q is printed as %q, want %q", text, got, want)
		}
	}
}
